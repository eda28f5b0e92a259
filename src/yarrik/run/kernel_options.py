"""Options of a configured kernel or bootloader: what each is and who set it, which lines of fragments do nothing, and what has
to be turned on for an option to be as somebody wants it. All of it from the tree's own Kconfig files."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property, partial
from pathlib import Path
from typing import Literal

import msgspec

from yarrik.errors import Place
from yarrik.run.kconfig import Condition, Expression, Option, Options, parse_expression
from yarrik.run.kernel_config import options, reason_for_loss

Setter = Literal["fragment", "base", "board", "select", "imply", "default", "nobody"]
_LEVEL = {"n": 0, "m": 1, "y": 2}
#: Bases that turn off all that they can: with them an option that nobody names is off, whatever its default says.
_ALL_OFF = ("tinyconfig", "allnoconfig")
_DEEPEST = 40


class Given(msgspec.Struct, frozen=True, dict=True):
    """A file of options that the configuration is made from, as text: a base or a fragment."""

    file: Path
    text: str

    @cached_property
    def values(self) -> dict[str, tuple[str, int]]:
        """Values and line numbers by the option's name, without `CONFIG_`."""
        return {name.removeprefix("CONFIG_"): found for name, found in options(self.text).items()}


class Dependency(msgspec.Struct, frozen=True):
    """A condition of an option, and whether it holds."""

    text: str
    holds: bool


class OptionFacts(msgspec.Struct, frozen=True):
    """One option as it is configured. `value` is `n` for one that is not set; `kconfig` is where it is defined; `set_by` says
    who gave it its value, at `place`; `selected_by` are options that hold it on, `default` is what it is when nobody says."""

    name: str
    value: str
    type: str
    prompt: str
    help: str
    kconfig: Place
    depends: tuple[Dependency, ...]
    selected_by: tuple[str, ...]
    set_by: Setter
    place: Place
    #: The last fragment that asks for another value than it has, and what it asks for.
    asked: tuple[str, Place] | None = None


class LineFacts(msgspec.Struct, frozen=True):
    """A line of a fragment that does not do what it says, or nothing."""

    verdict: Literal["lost", "unknown", "redundant", "overruled"]
    place: Place
    option: str
    wanted: str
    value: str
    why: str
    remedy: str = ""


class Obstacle(msgspec.Struct, frozen=True):
    """What keeps an option from being as it is wanted."""

    option: str
    why: str
    remedy: str


class Wished(msgspec.Struct, frozen=True):
    """What has to be set for wishes to come true: values by option, those that were asked for first."""

    values: Mapping[str, str]
    obstacles: tuple[Obstacle, ...]


class Configured(msgspec.Struct, dict=True):
    """A configuration with all that led to it. `fragments` are in the order in which they apply; `board` are options that
    follow from the board's definition; `base` is what they all change, None for a target that is no file."""

    known: Options
    final: str
    fragments: Sequence[Given]
    base: Given | None
    base_name: str
    board: Mapping[str, str]
    base_place: Place

    @cached_property
    def values(self) -> dict[str, str]:
        """The value of each option that the configuration names."""
        return {name.removeprefix("CONFIG_"): value for name, (value, _) in options(self.final).items()}

    def facts(self, name: str) -> OptionFacts | None:
        """What is known of an option; None for one that no Kconfig file defines."""
        definitions = self.known.defined.get(name)
        if not definitions:
            return None
        shown = next((one for one in definitions if one.prompted), definitions[0])
        value = self.values.get(name, "n")
        conditions = [Dependency(text, Condition(text, self.values).level > 0) for text in self.known.conditions(shown)]
        set_by, place = self._setter(name, value)
        return OptionFacts(
            name, value, next((one.type for one in definitions if one.type), ""), shown.prompt,
            next((one.help for one in definitions if one.help), ""), Place(Path(shown.file), shown.line),
            tuple(conditions), tuple(self._selecting(name)), set_by, place, self._asked_in_vain(name, value),
        )  # fmt: skip

    def _asked_in_vain(self, name: str, value: str) -> tuple[str, Place] | None:
        given = next((one for one in reversed(self.fragments) if name in one.values), None)
        if given is None or given.values[name][0] == value:
            return None
        return given.values[name][0], Place(given.file, given.values[name][1])

    def like(self, name: str) -> str:
        """What to do about a name that is not known."""
        near = [one for one in self.known.defined if name in one] if len(name) > 2 else []
        if near:
            return "some with it in their names: " + ", ".join(sorted(near, key=len)[:6])
        close = difflib.get_close_matches(name, self.known.defined, 1, 0.8)
        return f"did you mean {close[0]}?" if close else "look whether this version of the sources has it"

    def _selecting(self, name: str) -> list[str]:
        """Options that are on and select it, under conditions that hold."""
        return [
            other
            for other, condition in self.known.selectors.get(name, ())
            if self.values.get(other, "n") != "n" and Condition(condition or "y", self.values).level
        ]

    def _setter(self, name: str, value: str) -> tuple[Setter, Place]:
        if name in self.board and self.board[name] == value:
            return "board", self.base_place
        for given in reversed(self.fragments):
            if name in given.values and given.values[name][0] == value:
                return "fragment", Place(given.file, given.values[name][1])
        by = self._selecting(name)
        if by and value != "n":
            definition = next((one for one in self.known.defined.get(by[0], ()) if one.file), None)
            return "select", Place(Path(definition.file), definition.line) if definition is not None else Place()
        if self.base is not None and self.base.values.get(name, ("", 0))[0] == value:
            return "base", Place(self.base.file, self.base.values[name][1])
        for other, condition in self.known.implied.get(name, ()):
            if value != "n" and self.values.get(other, "n") != "n" and Condition(condition or "y", self.values).level:
                definition = self.known.defined[other][0]
                return "imply", Place(Path(definition.file), definition.line)
        if self._default(name) == value and (value != "n" or self.base_name not in _ALL_OFF):
            definition = self.known.defined[name][0]
            return "default", Place(Path(definition.file), definition.line)
        return ("base", self.base_place) if self.base is None else ("nobody", Place())

    def _default(self, name: str) -> str:
        """What Kconfig gives an option that nobody sets, as far as its conditions can be followed."""
        for definition in self.known.defined.get(name, ()):
            if any(Condition(text, self.values).level == 0 for text in self.known.conditions(definition)):
                continue
            for value, condition in definition.defaults:
                if Condition(condition or "y", self.values).level:
                    if value in self.known.defined:
                        return self.values.get(value, "n")
                    return value
        return "n"

    def lines(self) -> Iterator[LineFacts]:
        """Lines of fragments that are lost, unknown, redundant, or overruled by a later one, in order."""
        for number, given in enumerate(self.fragments):
            later = self.fragments[number + 1 :]
            for name, (wanted, line) in given.values.items():
                place = Place(given.file, line)
                have = self.values.get(name, "n")
                definitions = self.known.defined.get(name, [])
                after = next((one for one in reversed(later) if name in one.values), None)

                row = partial(LineFacts, place=place, option=name, wanted=wanted, value=have)

                if not definitions:
                    yield row("unknown", why="no Kconfig file of this tree defines it", remedy=self.like(name))
                elif after is not None:
                    where = f"{after.file.name}:{after.values[name][1]}"
                    same = after.values[name][0] == wanted
                    says = f"{where} says {'the same' if same else 'otherwise'}"
                    yield row("redundant" if same else "overruled", why=says, remedy="keep one of the two")
                elif have != wanted and not (wanted == "m" and have == "y" and definitions[0].type == "tristate"):
                    why, remedy = reason_for_loss(name, wanted, definitions, self.known, self.values)
                    yield row("lost", why=why, remedy=remedy)
                else:
                    why = self._already(name, wanted, number)
                    if why:
                        yield row("redundant", why=why, remedy="the line can go")

    def _already(self, name: str, wanted: str, number: int) -> str:
        """Why an option would be as a fragment's line says without that line too; "" when it would not."""
        if self.base is not None and self.base.values.get(name, ("", 0))[0] == wanted:
            return f"the base {self.base_name} says it"
        by = [one for one in self._selecting(name) if self.values.get(one) == "y"]
        if by and wanted == "y":
            return f"{by[0]} selects it"
        overridden = self.base is not None and name in self.base.values
        if self.base is not None and not overridden and self._default(name) == wanted:
            return "it is the default"
        return ""

    # Wishes

    def wish(self, wanted: Mapping[str, str]) -> Wished:
        """What to set so that each option gets its value: by itself, and what it depends on."""
        found: dict[str, str] = dict(wanted)
        obstacles: list[Obstacle] = []
        for name, value in wanted.items():
            definitions = self.known.defined.get(name)
            if not definitions:
                obstacles.append(Obstacle(name, "no Kconfig file of this tree defines it", self.like(name)))
                continue
            kind = next((one.type for one in definitions if one.type), "")
            problem = _unfit(kind, value)
            if problem:
                obstacles.append(Obstacle(name, problem, _EXAMPLES.get(kind, "")))
            elif value == "n":
                by = self._selecting(name)
                if by:
                    remedy = f"turn {' and '.join(by[:3])} off first"
                    obstacles.append(
                        Obstacle(name, f"{' and '.join(by[:3])} {'selects' if len(by) == 1 else 'select'} it", remedy)
                    )
            else:
                level = 1 if value == "m" else 2
                more = self._enable(name, level, found, (name,))
                if isinstance(more, Obstacle):
                    obstacles.append(more)
                else:
                    found |= {key: one for key, one in more.items() if key not in wanted}
        return Wished(found, tuple(obstacles))

    def _enable(self, name: str, level: int, assumed: Mapping[str, str], trail: tuple[str, ...]) -> dict[str, str] | Obstacle:
        """What else has to be set so that an option can be set at a level (2 for `y`, 1 for `m`)."""
        definitions = self.known.defined.get(name, [])
        prompted = [one for one in definitions if one.prompted]
        if not definitions:
            return Obstacle(name, "no Kconfig file of this tree defines it", self.like(name))
        if not prompted:
            return self._by_selecting(name, level, assumed, trail)
        tried = [self._conditions(one, level, assumed, trail) for one in prompted]
        return min((one for one in tried if not isinstance(one, Obstacle)), key=len, default=tried[0])

    def _by_selecting(
        self, name: str, level: int, assumed: Mapping[str, str], trail: tuple[str, ...]
    ) -> dict[str, str] | Obstacle:
        others = [other for other, _ in self.known.selectors.get(name, ()) if other not in trail]
        if not others:
            return Obstacle(name, "it has no prompt, and nothing selects it", "Kconfig works it out from other options")
        if len(others) == 1:
            more = self._turned_on(others[0], level, assumed, trail)
            if not isinstance(more, Obstacle):
                return more
        shown = ", ".join(sorted(others, key=len)[:5]) + (f" and {len(others) - 5} more" if len(others) > 5 else "")
        return Obstacle(name, f"it has no prompt; these select it: {shown}", "set one of them instead")

    def _conditions(
        self, option: Option, level: int, assumed: Mapping[str, str], trail: tuple[str, ...]
    ) -> dict[str, str] | Obstacle:
        found: dict[str, str] = {}
        for text in self.known.conditions(option):
            more = self._satisfy(parse_expression(text), level, {**assumed, **found}, trail)
            if isinstance(more, Obstacle):
                return more
            found |= more
        return found

    def _satisfy(
        self, wanted: Expression, level: int, assumed: Mapping[str, str], trail: tuple[str, ...]
    ) -> dict[str, str] | Obstacle:
        values = {**self.values, **assumed}
        if Condition(wanted.text, values).level >= level or len(trail) > _DEEPEST:
            return {}
        if wanted.kind == "option":
            return self._turned_on(wanted.text, level, assumed, trail)
        if wanted.kind == "and":
            found: dict[str, str] = {}
            for part in wanted.parts:
                more = self._satisfy(part, level, {**assumed, **found}, trail)
                if isinstance(more, Obstacle):
                    return more
                found |= more
            return found
        if wanted.kind == "or":
            tried = [self._satisfy(part, level, assumed, trail) for part in wanted.parts]
            return min((one for one in tried if not isinstance(one, Obstacle)), key=len, default=tried[0])
        if wanted.kind == "not" and wanted.parts[0].kind == "option":
            name = wanted.parts[0].text
            by = self._selecting(name)
            if by or name in assumed:
                why = f"it needs {name} off, and {' and '.join(by[:3]) or 'another wish'} keeps it on"
                return Obstacle(trail[-1], why, f"turn {' and '.join(by[:3]) or name} off first")
            return {name: "n"}
        return Obstacle(trail[-1], f"it depends on `{wanted.text}`", "give these options what it asks for")

    def _turned_on(
        self, name: str, level: int, assumed: Mapping[str, str], trail: tuple[str, ...]
    ) -> dict[str, str] | Obstacle:
        if name in trail:
            return {}
        more = self._enable(name, level, assumed, (*trail, name))
        if isinstance(more, Obstacle):
            return more
        definitions = self.known.defined[name]
        if not any(one.prompted for one in definitions):
            return more
        kind = next((one.type for one in definitions if one.type), "bool")
        # A module that something built in depends on would not do.
        return {**more, name: "m" if kind == "tristate" and level == 1 else "y"}


_EXAMPLES = {"bool": "write NAME=y or NAME=n", "tristate": "write NAME=y, NAME=m or NAME=n", "int": "write NAME=8",
             "hex": "write NAME=0x4000", "string": 'write NAME="text"'}  # fmt: skip


def _unfit(kind: str, value: str) -> str:
    """Why a value is none for an option of a type; "" when it is."""

    def is_number(text: str, base: int) -> bool:
        try:
            int(text, base)
        except ValueError:
            return False
        return True

    checks: dict[str, Callable[[str], bool]] = {
        "bool": lambda text: text in ("y", "n"),
        "tristate": lambda text: text in ("y", "m", "n"),
        "int": lambda text: is_number(text, 10),
        "hex": lambda text: is_number(text, 16),
    }
    check = checks.get(kind)
    return "" if check is None or check(value) else f"`{value}` is no value for it: it is a {kind}"
