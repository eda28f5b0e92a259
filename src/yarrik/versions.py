"""Versions: one total order for all of them, and wishes like `>= 2, < 3` or `~ 2.3` over it.

The order, from a version's first piece to its last:

- A leading `v` means nothing. Numbers compare as numbers: 1.9 < 1.10. Zeros at an end mean nothing: 1.0 = 1.0.0.
- A dot before a number begins a further release: 2.3 < 2.3.1. A `-`, `_` or `+` before one counts builds of the release:
  2.3 < 2.3-1 < 2.3-14-g0a1b2c3 < 2.3.1.
- The words dev, alpha, beta, pre, preview, rc and candidate come before the release that they lead to, in this order:
  2.0-beta2 < 2.0-rc1 < 2.0. What follows `~` comes before all of these.
- Any other word comes after its release: 1.1 < 1.1w < 1.1.1. So does a commit (`g0a1b2c3`), which is compared as text.
- A whole date with dashes compares like one with dots: 2025-12-31 < 2026-01-02.
"""

from __future__ import annotations

import re
from functools import lru_cache

import msgspec

from yarrik.errors import Unfit
from yarrik.patterns import lazy_pattern

Piece = tuple[int, int, str]
Key = tuple[Piece, ...]

LONGEST = 128
_FORM = lazy_pattern(r"[A-Za-z0-9][A-Za-z0-9.+_~-]*\Z")
_DATE = lazy_pattern(r"(?<![0-9.])(\d{4})-(\d{2})-(\d{2})(?![0-9])")
_PIECE = lazy_pattern(r"(?P<before>[.+_~-]*)(?:(?P<commit>g[0-9a-f]{7,40}(?![A-Za-z0-9]))|(?P<number>\d+)|(?P<word>[A-Za-z]+))")

_FIRST = (-9, 0, "")
_AFTER_TILDE, _LEADS, _END, _WORD, _COUNT, _RELEASE = range(-2, 4)
_LEADING = {"dev": 0, "alpha": 1, "beta": 2, "pre": 3, "preview": 3, "rc": 4, "candidate": 4}
_END_PIECE = (_END, 0, "")


@lru_cache(maxsize=100_000)
def _key(text: str) -> Key:
    """The pieces of a version as values whose order is that of versions, with an end piece."""
    pieces: list[Piece] = []
    for piece in _pieces(text):
        if piece[0] < _COUNT:
            pieces = _without_zeros(pieces)
        pieces.append(piece)
    return (*_without_zeros(pieces), _END_PIECE)


@lru_cache(maxsize=100_000)
def _series(text: str) -> tuple[int, ...]:
    """The numbers of the release that a version belongs to, with the zeros that are written."""
    numbers: list[int] = []
    for rank, number, _ in _pieces(text):
        if rank != _RELEASE:
            break
        numbers.append(number)
    return tuple(numbers)


def _pieces(text: str) -> list[Piece]:
    if len(text) > LONGEST or _FORM.match(text) is None:
        raise Unfit(f"`{text[:40]}` is not a version: letters, digits and `.+_~-`, at most {LONGEST} of them, like `2.3.1`")
    if re.match(r"v\d", text):
        text = text[1:]
    pieces: list[Piece] = []
    for found in _PIECE.finditer(_DATE.sub(r"\1.\2.\3", text)):
        before, number = found["before"], found["number"]
        if "~" in before:
            pieces.append((_AFTER_TILDE, 0, ""))
        if number is not None:
            rank = _COUNT if pieces and before[-1:] in ("-", "_", "+") else _RELEASE
            pieces.append((rank, int(number), ""))
            continue
        word = found["commit"] or found["word"].lower()
        pieces.append((_LEADS, _LEADING[word], "") if word in _LEADING else (_WORD, 0, word))
    return pieces


def _without_zeros(pieces: list[Piece]) -> list[Piece]:
    while len(pieces) > 1 and pieces[-1] == (_RELEASE, 0, ""):
        pieces = pieces[:-1]
    return pieces


class Version(msgspec.Struct, frozen=True, eq=False):
    """A version as it is written. Equal ones may be written differently: 1.0 and 1.0.0. ValueError for what is none."""

    text: str

    def __post_init__(self) -> None:
        _key(self.text)

    @property
    def key(self) -> Key:
        """What versions are compared by."""
        return _key(self.text)

    @property
    def leads_to_a_release(self) -> bool:
        """Whether it comes before a release of the same number, as 2.0-rc1 does."""
        return any(piece[0] in (_LEADS, _AFTER_TILDE) for piece in self.key)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Version) and self.key == other.key

    # A struct has all comparisons, as a value that is not ordered has them.
    def __ne__(self, other: object) -> bool:
        return not self == other

    def __lt__(self, other: Version) -> bool:
        return self.key < other.key

    def __le__(self, other: Version) -> bool:
        return self.key <= other.key

    def __gt__(self, other: Version) -> bool:
        return self.key > other.key

    def __ge__(self, other: Version) -> bool:
        return self.key >= other.key

    def __hash__(self) -> int:
        return hash(self.key)

    def __str__(self) -> str:
        return self.text


_BOUND = lazy_pattern(r"\s*(>=|<=|==|!=|>|<|~)\s*([A-Za-z0-9][A-Za-z0-9.+_~-]*)\s*\Z")


class Bound(msgspec.Struct, frozen=True):
    """One comparison of a wish."""

    operator: str
    version: Version

    def allows(self, version: Version) -> bool:
        """Whether a version is within the bound."""
        key, own = version.key, self.version.key
        if self.operator == ">=":
            return key >= own
        if self.operator == ">":
            return key > own
        if self.operator == "==":
            return key == own
        if self.operator == "!=":
            return key != own
        if self.operator == "~":
            wanted, series = _series(self.version.text), _series(version.text)
            return bool(wanted) and (*series, *[0] * len(wanted))[: len(wanted)] == wanted
        if self.operator == "<=":
            return key <= own
        # 3.0-rc1 is on the way to 3.0: who wants less than 3 does not want it.
        return key < (own if self.version.leads_to_a_release else _lowest(own))


def _lowest(key: Key) -> Key:
    """A key below all that lead to this version's release."""
    return (*key[:-1], _FIRST)


class Wish(msgspec.Struct, frozen=True):
    """Bounds that all have to hold; none allows every version.

    `<` a release leaves out what leads to it: 3.0-rc1 is not `< 3`. `~ 2.3` means 2.3 and what is numbered below it:
    2.3.1, 2.3-rc1, not 2.4."""

    bounds: tuple[Bound, ...] = ()

    def allows(self, version: Version) -> bool:
        """Whether a version is within all bounds."""
        return all(bound.allows(version) for bound in self.bounds)

    def __str__(self) -> str:
        return ", ".join(f"{bound.operator} {bound.version}" for bound in self.bounds)


ANY = Wish()


@lru_cache(maxsize=20_000)
def parse_wish(text: str) -> Wish:
    """`>= 2, < 3`. Raises ValueError with a sentence that names the part that is wrong."""
    if not text.strip():
        return ANY
    bounds = []
    for part in text.split(","):
        match = _BOUND.match(part)
        if match is None:
            raise Unfit(
                f"`{part.strip()}` is not a version requirement: write one of >= > < <= == != ~ and a version, like `>= 2.3`"
            )
        bounds.append(Bound(match.group(1), Version(match.group(2))))
    return Wish(tuple(bounds))


_REQUIREMENT = lazy_pattern(
    r"\s*(?P<name>@?[a-z0-9][a-z0-9+.-]*)\s*(?:\[(?P<options>[^\]]*)\])?\s*(?P<wish>[<>=!~].*)?\Z", re.DOTALL
)
_OPTION = lazy_pattern(r"\s*(-?)([a-z0-9][a-z0-9+.-]*)\s*\Z")


class Requirement(msgspec.Struct, frozen=True):
    """A need: a recipe's, package's, role's or (with `@`) group's name, options that have to be on or off, and a wish for the
    version."""

    name: str
    options: tuple[tuple[str, bool], ...] = ()
    wish: Wish = ANY

    def __str__(self) -> str:
        words = self.name
        if self.options:
            words += "[" + ",".join(("" if on else "-") + option for option, on in self.options) + "]"
        return f"{words} {self.wish}".rstrip()


@lru_cache(maxsize=100_000)
def parse_requirement(text: str) -> Requirement:
    """`libplot[png,-x11] >= 2, < 3`. Raises ValueError with a sentence."""
    match = _REQUIREMENT.match(text)
    if match is None:
        raise Unfit(
            f"`{text}` is not a need: a name, perhaps options in brackets and versions, like `libplot[png,-x11] >= 2, < 3`"
        )
    options: dict[str, bool] = {}
    if match["options"] is not None:
        for word in match["options"].split(","):
            option = _OPTION.match(word)
            if option is None:
                raise Unfit(
                    f"`{word.strip()}` in `{text}` is not an option: a name, with `-` before it for one that has to be off"
                )
            on = not option.group(1)
            if options.setdefault(option.group(2), on) != on:
                raise Unfit(f"`{text}` wants the option {option.group(2)} both on and off")
    return Requirement(match["name"], tuple(options.items()), parse_wish(match["wish"] or ""))
