"""What a patch changes, and which of its hunks do not fit: for messages, when laying it on has failed.

Unified diffs, as `diff -u` writes them and POSIX describes them (IEEE Std 1003.1-2008, the utility diff, "Diff -u or -U
Output Format")."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from yarrik.beneath import Folder
from yarrik.patterns import lazy_pattern

_HUNK = lazy_pattern(r"@@ -(\d{1,9})(?:,(\d{1,9}))? \+\d+(?:,\d+)? @@")


class Hunk(msgspec.Struct, frozen=True):
    """A piece of a patch: the file that it changes, the line it begins at there, the lines that have to stand there, and the
    line of the patch that it begins at."""

    file: str
    line: int
    wanted: tuple[str, ...]
    at: int


class Misfit(msgspec.Struct, frozen=True):
    """A hunk that does not fit: the first line that differs (0 without the file), what is wanted and what stands there."""

    hunk: Hunk
    line: int
    wanted: str
    found: str | None


def hunks_of(text: str) -> Iterator[Hunk]:
    """The hunks of a unified diff that has the usual `a/` and `b/` before its paths."""
    lines = text.splitlines()
    file = ""
    number = 0
    while number < len(lines):
        line = lines[number]
        if line.startswith("--- ") and number + 1 < len(lines) and lines[number + 1].startswith("+++ "):
            name = line[4:].split("\t")[0].strip()
            file = name.partition("/")[2] if "/" in name and name != "/dev/null" else name
            number += 2
            continue
        match = _HUNK.match(line)
        if match is None:
            number += 1
            continue
        left = int(match.group(2) or 1)
        start = number
        wanted: list[str] = []
        number += 1
        while number < len(lines) and (left > 0 or lines[number].startswith("+")):
            sign = lines[number][:1]
            if sign in (" ", "-", ""):
                wanted.append(lines[number][1:])
                left -= 1
            elif sign not in ("+", "\\"):
                break
            number += 1
        yield Hunk(file, int(match.group(1)), tuple(wanted), start + 1)


def misfits(patch: str, folder: Folder) -> list[Misfit]:
    """The hunks whose lines stand nowhere in the file that they change, each with the first line that differs at its place.
    Neither the patch nor the sources can lead the reading out of `folder`."""
    found = []
    for hunk in hunks_of(patch):
        if hunk.file == "/dev/null" or not hunk.wanted:
            continue
        try:
            text = folder.text(hunk.file)
        except OSError:
            found.append(Misfit(hunk, 0, hunk.wanted[0], None))
            continue
        lines = text.splitlines()
        size = len(hunk.wanted)
        if any(tuple(lines[start : start + size]) == hunk.wanted for start in range(len(lines) - size + 1)):
            continue
        for offset, wanted in enumerate(hunk.wanted):
            there = lines[hunk.line - 1 + offset] if 0 < hunk.line + offset <= len(lines) else None
            if there != wanted:
                found.append(Misfit(hunk, hunk.line + offset, wanted, there))
                break
    return found
