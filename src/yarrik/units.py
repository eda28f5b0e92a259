"""Sizes as people write them (`48 MiB`) and as people read them."""

from __future__ import annotations

import re

UNITS = {"": 1, "B": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40}
_SIZE = re.compile(r"\s*(\d+)\s*([A-Za-z]*)\s*\Z")


class TooSmall(ValueError):
    """Content does not fit into a size; the message gives both."""


def parse_size(text: str) -> int:
    """`text` in bytes. Units are binary, with or without a blank before them.

    Raises ValueError with a sentence that can be shown."""
    match = _SIZE.match(text)
    if match is None:
        raise ValueError(f"`{text}` is not a size; write for example `48 MiB`")
    number, unit = match.groups()
    for known, factor in UNITS.items():
        if unit.lower() == known.lower():
            return int(number) * factor
    raise ValueError(f"`{unit}` is not a unit of size; known: {', '.join(name for name in UNITS if name)}")


def shown_size(count: int) -> str:
    """`count` bytes with a unit, three figures at the most."""
    value = float(count)
    for unit in ("B", "KiB", "MiB", "GiB"):
        if value < 1024 or unit == "GiB":
            return f"{count} B" if unit == "B" else f"{value:.1f} {unit}"
        value /= 1024
    raise AssertionError


def round_up(value: int, step: int) -> int:
    """The least multiple of `step` that is not below `value`."""
    return -(-value // step) * step
