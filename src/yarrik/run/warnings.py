"""What the tools warned of: counted, and the few that matter picked out of the many that do not."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

import msgspec

from yarrik.patterns import lazy_pattern

#: A compiler's warning in the form that GCC and those like it have: file, line, perhaps column, text, perhaps the option.
_WARNING = lazy_pattern(
    rb"^(?P<file>[^\s:][^:\n]{0,300}):(?P<line>\d+):(?:\d+:)? warning: "
    rb"(?P<text>[^\n]{1,400}?)(?: \[-W(?P<option>[\w+=-]+)\])?$",
    re.MULTILINE,
)
#: Those behind which there is nearly always a fault that shows on the board: in this order.
GRAVE = (
    "implicit-function-declaration", "int-conversion", "incompatible-pointer-types", "return-mismatch", "return-type",
    "format-security", "stringop-overflow", "array-bounds", "use-after-free", "free-nonheap-object", "uninitialized",
    "maybe-uninitialized", "shift-count-overflow", "overflow", "infinite-recursion", "nonnull",
)  # fmt: skip
MOST = 5
#: A log is looked through up to here (bytes).
_LOOKED_AT = 16 << 20


class ToolWarning(msgspec.Struct, frozen=True):
    """One that matters: whose build it was, where in the sources, what, and the compiler's option that names its kind."""

    subject: str
    where: str
    text: str
    option: str


class ToolWarnings(msgspec.Struct, frozen=True):
    """How many there were, each place counted once, in how many recipes; and the few that matter."""

    count: int = 0
    recipes: int = 0
    grave: tuple[ToolWarning, ...] = ()


NO_WARNINGS = ToolWarnings()


def warnings_in(logs: Iterable[tuple[str, Path]]) -> ToolWarnings:
    """Goes through the logs of `(subject, file)`."""
    seen: set[tuple[str, bytes, bytes, bytes]] = set()
    grave: list[tuple[int, ToolWarning]] = []
    for subject, file in logs:
        try:
            with file.open("rb") as log:
                data = log.read(_LOOKED_AT)
        except OSError:
            continue
        if b" warning: " not in data:
            continue
        for match in _WARNING.finditer(data):
            key = (subject, match["file"], match["line"], match["text"])
            if key in seen:
                continue
            seen.add(key)
            option = (match["option"] or b"").decode("ascii", "replace").partition("=")[0]
            if option in GRAVE:
                where = f"{match['file'].decode('utf-8', 'replace').removeprefix('/step/source/')}:{match['line'].decode()}"
                text = match["text"].decode("utf-8", "replace")
                grave.append((GRAVE.index(option), ToolWarning(subject, where, text, option)))
    grave.sort(key=lambda one: (one[0], one[1].subject))
    return ToolWarnings(len(seen), len({subject for subject, *_ in seen}), tuple(one for _, one in grave[:MOST]))
