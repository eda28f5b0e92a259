"""Troubles: what went wrong as values, so that they can be gathered, tested, and shown in one form.

A trouble says what is wrong, where, why it matters and what to do next. Core code raises `YarrikError` with
one or more of them; only the command line turns them into text.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import cached_property
from pathlib import Path
from typing import Literal

import msgspec

Fault = Literal["request", "work"]


class Place:
    """Where a trouble stands: a file, and in it a line (from 1) and a dotted key, as far as they are known.

    `finder` finds the line when somebody asks for it: most places are never shown, and lines cost reading the file."""

    def __init__(
        self,
        file: Path | None = None,
        line: int | None = None,
        key: str | None = None,
        finder: Callable[[], int | None] | None = None,
    ) -> None:
        self.file = file
        self.key = key
        self._given = line
        self._finder = finder

    @cached_property
    def line(self) -> int | None:
        """The line in the file, from 1; None when it is not known."""
        return self._finder() if self._given is None and self._finder is not None else self._given

    @property
    def given_line(self) -> int | None:
        """The line as it was given, without looking for it."""
        return self._given

    @property
    def short(self) -> str:
        """The file and line alone."""
        return str(self).partition(" [")[0]

    def __eq__(self, other: object) -> bool:
        # Without looking for lines: two places with one file and key are the same line, and comparing must not read files.
        return isinstance(other, Place) and (self.file, self.key, self._given) == (other.file, other.key, other._given)

    def __hash__(self) -> int:
        return hash((self.file, self.key))

    def __str__(self) -> str:
        where = "" if self.file is None else shown_path(self.file)
        if self.line is not None:
            where += f":{self.line}"
        if self.key:
            where += f" [{self.key}]" if where else f"[{self.key}]"
        return where


NOWHERE = Place()


class Trouble(msgspec.Struct, frozen=True):
    """One thing that is wrong. `code` is stable and can be looked up, tested or silenced. `lacks` is kind and name of a shelf
    or definition that is not there, for those who look for it elsewhere."""

    code: str
    what: str
    place: Place = NOWHERE
    why: str = ""
    remedy: str = ""
    lacks: tuple[str, str] | None = None

    def as_json(self) -> dict[str, object]:
        """The trouble as values for JSON; a file, line or key that is not known is None."""
        return {
            "code": self.code,
            "what": self.what,
            "file": None if self.place.file is None else str(self.place.file),
            "line": self.place.line,
            "key": self.place.key,
            "why": self.why,
            "remedy": self.remedy,
        }


def printable(text: str) -> str:
    """A text that may hold file names, as text that any encoding of it can hold: bytes that are no UTF-8 as `\\xff`."""
    try:
        text.encode()
    except UnicodeEncodeError:
        return text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    return text


class Damaged(ValueError):
    """What somebody else made does not read: an image, a blob, a record. The message says what of it, in words to be shown.

    Readers raise this and nothing else for what they are given, so a fault of ours never comes out as damage of theirs."""


class Unfit(ValueError):
    """What is asked for cannot be: a form that cannot hold it, a text that is no such value. The message says why, in words to
    be shown. As with `Damaged`, any other ValueError is a fault of ours."""


class YarrikError(Exception):
    """One or more troubles. `fault` tells whose they are: the request was wrong (exit 2) or the work failed (exit 1)."""

    def __init__(self, troubles: Trouble | Iterable[Trouble], fault: Fault = "request") -> None:
        self.troubles: tuple[Trouble, ...] = (troubles,) if isinstance(troubles, Trouble) else tuple(troubles)
        self.fault: Fault = fault
        super().__init__("; ".join(trouble.what for trouble in self.troubles))

    @property
    def exit_code(self) -> int:
        """What the program ends with: 1 when the work failed, 2 when the request was wrong."""
        return 2 if self.fault == "request" else 1


class Collector:
    """Gathers troubles while work goes on, then raises them as one error."""

    def __init__(self) -> None:
        self.troubles: list[Trouble] = []

    def add(self, trouble: Trouble) -> None:
        """Adds a trouble, once."""
        if trouble not in self.troubles:
            self.troubles.append(trouble)

    def extend(self, troubles: Iterable[Trouble]) -> None:
        """Adds several troubles, each once."""
        for trouble in troubles:
            self.add(trouble)

    def raise_if_any(self, fault: Fault = "request") -> None:
        """Raises YarrikError with all that was added, if anything was."""
        if self.troubles:
            raise YarrikError(self.troubles, fault)


def shown_path(path: Path) -> str:
    """`path` as a person in the current folder would type it."""
    try:
        here = Path.cwd()
        # At the top of the file system a relative path would look like one that is somewhere else.
        return str(path.relative_to(here)) if here != Path(here.anchor) else str(path)
    except (ValueError, OSError):
        return str(path)


def listed(words: Iterable[str], last: str = "and") -> str:
    """`a, b and c`; an empty text for nothing."""
    known = list(words)
    return "".join(known) if len(known) < 2 else f"{', '.join(known[:-1])} {last} {known[-1]}"


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known word most like `word`, or None when nothing comes near."""
    import difflib

    plain = {one.casefold(): one for one in sorted(known, reverse=True)}
    found = difflib.get_close_matches(word.casefold(), sorted(plain), n=1, cutoff=0.55)
    return plain[found[0]] if found else None


def nearest_file(path: Path, any_ending: bool = True) -> Path | None:
    """The file or folder most like a path that is not there: one whose name differs by case, ending or a slip, in the deepest
    folder of the path that is there. Without `any_ending` only one with the same ending. None when nothing comes near."""
    for folder in path.parents if not path.exists() else ():
        if folder.is_dir():
            name, *rest = path.relative_to(folder).parts
            try:
                names = sorted(one.name for one in folder.iterdir())
            except OSError:
                return None
            same_ending = {Path(one).stem: one for one in names if Path(one).suffix == Path(name).suffix}
            same_stem = [one for one in names if Path(one).stem.casefold() == Path(name).stem.casefold()]
            best = same_ending.get(nearest(Path(name).stem, same_ending) or "")
            if best is None and any_ending:
                best = nearest(name, same_stem or names)
            found = folder.joinpath(best, *rest) if best is not None else None
            return found if found is not None and found.exists() else None
    return None


def from_package(name: str) -> str:
    """A remedy: the Debian package that brings what is missing; an empty text when none is known."""
    return f"on Debian: apt-get install {name}" if name else ""


def found_nearby(path: Path, otherwise: str, any_ending: bool = True) -> str:
    """A remedy for a path that is not there: the nearest that is, else `otherwise`. `any_ending` as in `nearest_file`."""
    near = nearest_file(path, any_ending)
    return f"did you mean `{shown_path(near)}`?" if near is not None else otherwise


def suggestion(word: str, known: Iterable[str], most: int = 15) -> str:
    """A remedy for an unknown word: the nearest known one, else a list of them if it is not too long."""
    words = sorted(known)
    best = nearest(word, words)
    if best is not None:
        return f"did you mean `{best}`?"
    if len(words) > most:
        return "look for it by a part of its name: yarrik find PART"
    return "known here: " + ", ".join(words) if words else "none is known here"
