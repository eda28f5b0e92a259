"""Simple Makefiles carried out without `make`: a small stand-in for machines that have a C compiler and nothing else.

It reads what POSIX describes (rules, macros, recipes with `@` and `-`), and of the usual extensions pattern rules,
`:=`, `?=`, `+=`, `.PHONY`, `$^` and the functions `shell`, `firstword` and `subst`. All else is an error that says to
install make; nothing is guessed.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from yarrik.errors import Place, Trouble, YarrikError

_ASSIGNMENT = re.compile(r"([A-Za-z_][\w.-]*)\s*(\+=|\?=|::?=|=)\s*(.*)\Z", re.DOTALL)
_NOT_READ = re.compile(r"-?include\s|ifn?(eq|def)\b|define\b|export\b|vpath\b|override\b|endif|else")
_FUNCTIONS = ("shell", "firstword", "subst")


@dataclass(frozen=True)
class _Rule:
    targets: tuple[str, ...]
    needs: tuple[str, ...]
    recipe: tuple[str, ...]


@dataclass
class Makefile:
    """A Makefile in `folder`. `run` carries a recipe's line out in a shell; `ask` runs one and returns what it prints.

    `given` are variables from the command line, which go before the file's own; `environment` comes after them."""

    folder: Path
    given: Mapping[str, str]
    environment: Mapping[str, str]
    run: Callable[[str, bool], None]
    ask: Callable[[str], str]
    _variables: dict[str, str] = field(default_factory=dict)
    _rules: list[_Rule] = field(default_factory=list)
    _phony: set[str] = field(default_factory=set)
    _brought: set[str] = field(default_factory=set)

    def __post_init__(self) -> None:
        self._read((self.folder / "Makefile").read_text(encoding="utf-8", errors="replace"))

    def make(self, goals: Sequence[str]) -> None:
        """Brings the goals up to date; without any, the file's first target. Raises YarrikError for what it cannot do."""
        first = [rule.targets[0] for rule in self._rules if "%" not in rule.targets[0] and not rule.targets[0].startswith(".")]
        for goal in goals or first[:1]:
            self._bring(goal, ())

    # Reading

    def _read(self, text: str) -> None:
        recipe: list[str] | None = None
        pending: tuple[tuple[str, ...], tuple[str, ...]] | None = None

        def close() -> None:
            nonlocal recipe, pending
            if pending is not None:
                self._rules.append(_Rule(*pending, tuple(recipe or ())))
            recipe = pending = None

        for number, line in _logical_lines(text):
            if line.startswith("\t"):
                if recipe is None:
                    raise self._beyond("a recipe stands before any rule", number)
                recipe.append(line[1:])
                continue
            line = re.sub(r"(?<!\\)#.*", "", line).strip()
            if not line:
                continue
            close()
            if _NOT_READ.match(line):
                raise self._beyond(f"`{line.split()[0]}` is not read here", number)
            if (match := _ASSIGNMENT.match(line)) is not None:
                self._assign(*match.groups())
                continue
            targets, colon, needs = line.partition(":")
            if not colon or needs.startswith(":"):
                raise self._beyond(f"`{line}` is not read here", number)
            names = tuple(self._expand(targets, {}).split())
            needed = tuple(self._expand(needs.partition(";")[0], {}).split())
            if ".PHONY" in names:
                self._phony.update(needed)
            elif names:
                pending, recipe = (names, needed), []
        close()

    def _assign(self, name: str, sign: str, value: str) -> None:
        if name in self.given or (sign == "?=" and (name in self._variables or name in self.environment)):
            return
        if sign in (":=", "::="):
            value = self._expand(value, {})
        elif sign == "+=":
            value = f"{self._variables.get(name, self.environment.get(name, ''))} {value}".strip()
        self._variables[name] = value

    # Expanding

    def _expand(self, text: str, automatic: Mapping[str, str], depth: int = 0) -> str:
        if depth > 50:
            raise self._beyond("variables refer to each other in a loop")
        out: list[str] = []
        at = 0
        while at < len(text):
            if text[at] != "$" or at + 1 == len(text):
                out.append(text[at])
                at += 1
            elif text[at + 1] == "$":
                out.append("$")
                at += 2
            elif text[at + 1] in "({":
                end = _closing(text, at + 1)
                if end < 0:
                    raise self._beyond("a bracket is not closed")
                out.append(self._reference(text[at + 2 : end], automatic, depth + 1))
                at = end + 1
            else:
                out.append(self._reference(text[at + 1], automatic, depth + 1))
                at += 2
        return "".join(out)

    def _reference(self, inside: str, automatic: Mapping[str, str], depth: int) -> str:
        word, blank, rest = inside.partition(" ")
        if blank and re.fullmatch(r"[a-z-]+", word):
            if word not in _FUNCTIONS:
                raise self._beyond(f"the function `{word}` is not known here")
            parts = [self._expand(part, automatic, depth) for part in _parts(rest)]
            if word == "shell":
                return " ".join(self.ask(",".join(parts)).split())
            if word == "firstword":
                return next(iter(",".join(parts).split()), "")
            return ",".join(parts[2:]).replace(parts[0], parts[1])
        name = self._expand(inside, automatic, depth)
        if name in automatic:
            return automatic[name]
        for known in (self.given, self._variables, self.environment):
            if name in known:
                return known[name] if known is self.given else self._expand(known[name], automatic, depth)
        if ":" in name:
            raise self._beyond(f"`$({name})` is not read here")
        return ""

    # Making

    def _bring(self, goal: str, trail: tuple[str, ...]) -> None:
        if goal in trail:
            raise self._beyond(f"targets need each other in a loop: {' → '.join([*trail, goal])}")
        if goal in self._brought:
            return
        self._brought.add(goal)
        needs: list[str] = []
        recipe: tuple[str, ...] = ()
        stem = ""
        for rule in self._rules:
            if goal in rule.targets:
                needs += rule.needs
                recipe = rule.recipe or recipe
        if not recipe and goal not in self._phony:
            for rule in self._rules:
                found = _pattern_stem(rule.targets[0], goal)
                if found is not None and rule.recipe:
                    stem, recipe = found, rule.recipe
                    needs = [need.replace("%", stem) for need in rule.needs] + needs
                    break
        if not recipe and not needs:
            if goal not in self._phony and not (self.folder / goal).exists():
                raise self._beyond(f"nothing makes `{goal}`, and it is not there")
            return
        for need in needs:
            self._bring(need, (*trail, goal))
        if goal not in self._phony and self._is_fresh(goal, needs):
            return
        automatic = {"@": goal, "<": needs[0] if needs else "", "^": " ".join(dict.fromkeys(needs)), "*": stem}
        for line in recipe:
            command = self._expand(line, automatic).lstrip()
            marks = re.match(r"[@+-]*", command)
            signs = marks.group() if marks is not None else ""
            command = command[len(signs) :].strip()
            if command:
                self.run(command, "-" in signs)

    def _is_fresh(self, goal: str, needs: Sequence[str]) -> bool:
        target = self.folder / goal
        if not target.exists() or any(need in self._phony for need in needs):
            return False
        made = target.stat().st_mtime_ns
        return all((self.folder / need).exists() and (self.folder / need).stat().st_mtime_ns <= made for need in needs)

    def _beyond(self, what: str, line: int | None = None) -> YarrikError:
        return YarrikError(
            Trouble("MAKEFILE-BEYOND", f"make is not on this machine, and its small stand-in cannot do this Makefile: {what}",
                    Place(Path("Makefile"), line), remedy="on Debian: apt-get install make"),
            "work",
        )  # fmt: skip


def _logical_lines(text: str) -> list[tuple[int, str]]:
    """Lines with those that end in a backslash joined to the next, each with its number."""
    lines: list[tuple[int, str]] = []
    joined = ""
    start = 0
    for number, line in enumerate(text.splitlines(), 1):
        start = start or number
        if line.endswith("\\"):
            joined += (line[:-1].rstrip() if not joined else line[:-1].strip()) + " "
            continue
        lines.append((start, joined + (line.lstrip() if joined else line)))
        joined, start = "", 0
    return lines


def _closing(text: str, at: int) -> int:
    """Where the bracket at `at` is closed, or -1."""
    opens, closes = text[at], ")" if text[at] == "(" else "}"
    depth = 0
    for position in range(at, len(text)):
        depth += (text[position] == opens) - (text[position] == closes)
        if depth == 0:
            return position
    return -1


def _parts(text: str) -> list[str]:
    """A function's arguments: commas inside brackets do not part them."""
    parts, depth, start = [], 0, 0
    for position, character in enumerate(text):
        depth += (character in "({") - (character in ")}")
        if character == "," and depth == 0:
            parts.append(text[start:position])
            start = position + 1
    return [*parts, text[start:]]


def _pattern_stem(pattern: str, goal: str) -> str | None:
    head, percent, tail = pattern.partition("%")
    fits = percent and goal.startswith(head) and goal.endswith(tail) and len(goal) > len(head) + len(tail)
    return goal[len(head) : len(goal) - len(tail)] if fits else None
