"""Sizes as people write them (`48 MiB`) and as people read them."""

from __future__ import annotations

import msgspec

from yarrik.errors import Unfit
from yarrik.patterns import lazy_pattern

UNITS = {"": 1, "B": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40}
_SIZE = lazy_pattern(r"\s*(\d{1,15})\s*([A-Za-z]*)\s*\Z")

SPANS = {"s": 1, "min": 60, "h": 3600, "d": 86400, "w": 604800}
_SPAN = lazy_pattern(r"\s*(\d{1,9})\s*([a-z]+)\s*\Z")
_FIT = lazy_pattern(r"fit(?:\s*\+\s*(?:(?P<percent>\d{1,3})\s*%|(?P<size>\d{1,15}\s*[A-Za-z]+)))?\Z")
_REST = lazy_pattern(r"rest of (.+)\Z")


class TooSmall(Unfit):
    """Content does not fit into a size; the message gives both."""


def parse_size(text: str) -> int:
    """`text` in bytes. Units are binary, with or without a blank before them.

    Raises ValueError with a sentence that can be shown."""
    match = _SIZE.match(text)
    if match is None:
        raise Unfit(f"`{text}` is not a size; write for example `48 MiB`")
    number, unit = match.groups()
    for known, factor in UNITS.items():
        if unit.lower() == known.lower():
            return int(number) * factor
    raise Unfit(f"`{unit}` is not a unit of size; known: {', '.join(name for name in UNITS if name)}")


def shown_size(count: int) -> str:
    """`count` bytes with a unit, three figures at the most."""
    value = float(count)
    for unit in ("B", "KiB", "MiB", "GiB"):
        if value < 1024 or unit == "GiB":
            return f"{count} B" if unit == "B" else f"{value:.1f} {unit}"
        value /= 1024
    raise AssertionError


def counted(count: int, noun: str, plural: str = "") -> str:
    """`1 step`, `3 steps`; with `plural` for a noun that does not just take an s: `2 shelves`."""
    return f"{count} {noun}" if count == 1 else f"{count} {plural or noun + 's'}"


def parse_span(text: str) -> float:
    """`text` (`90 s`, `20 min`, `8h`, `30d`, `4w`) in seconds. Raises ValueError with a sentence that can be shown."""
    match = _SPAN.match(text)
    if match is None or match[2] not in SPANS:
        raise Unfit(f"`{text}` is not a span of time; write for example `20 min`, `8 h` or `30 d`")
    return float(match[1]) * SPANS[match[2]]


def shown_seconds(seconds: float) -> str:
    """A span of time as people say it, with two figures of use."""
    if seconds < 60:
        return f"{seconds:.0f} s"
    minutes = round(seconds / 60)
    if seconds < 600 and round(seconds) % 60:
        return f"{int(seconds) // 60} min {int(seconds) % 60} s"
    return (
        f"{minutes} min" if minutes < 60 else f"{minutes // 60} h {minutes % 60} min" if minutes % 60 else f"{minutes // 60} h"
    )


def round_up(value: int, step: int) -> int:
    """The least multiple of `step` that is not below `value`."""
    return -(-value // step) * step


def check_partition_size(text: str) -> None:
    """Raises ValueError, with a sentence, for what is not a size of a partition: one with a unit, `fit` or `rest of SIZE`."""
    rest, fit = _REST.match(text), _FIT.match(text)
    if fit is None or fit["size"]:
        try:
            parse_size(fit["size"] if fit else rest.group(1) if rest else text)
        except Unfit:
            raise Unfit(
                f"`{text}` is not a size; write for example `48 MiB`, `fit`, `fit + 20%`, `fit + 64 MiB` or `rest of 4 GiB`"
            ) from None


class Spare(msgspec.Struct, frozen=True):
    """Room beside the content: a percentage of it, and bytes."""

    percent: int = 0
    size: int = 0

    def of(self, content: int) -> int:
        """The spare bytes for a content of `content` bytes."""
        return content * self.percent // 100 + self.size


NO_SPARE = Spare()


def fit_spare(text: str) -> Spare | None:
    """The spare room that `fit + 20%` or `fit + 64 MiB` asks for; None when the size is fixed."""
    match = _FIT.match(text)
    return None if match is None else Spare(int(match["percent"] or 0), parse_size(match["size"]) if match["size"] else 0)


def rest_of(text: str) -> int | None:
    """The size of the whole disk that `rest of 4 GiB` gives; None for other sizes."""
    match = _REST.match(text)
    return None if match is None else parse_size(match.group(1))
