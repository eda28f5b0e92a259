"""Draws stretches of a disk or of memory: a line for each with its place, a bar, its size and name."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from yarrik.units import shown_size


class Area(msgspec.Struct, frozen=True):
    """A named stretch, in bytes."""

    name: str
    start: int
    size: int

    @property
    def end(self) -> int:
        """The first byte after it."""
        return self.start + self.size


def drawn(areas: Sequence[Area], begin: int, end: int, width: int = 40) -> str:
    """A line for each area, in the order given; the bars show what of it lies between `begin` and `end`."""
    lines = []
    scale = (end - begin) or 1
    for area in areas:
        first = max(0, min(width - 1, (area.start - begin) * width // scale))
        last = max(first + 1, min(width, -(-(area.end - begin) * width // scale)))
        bar = "·" * first + "█" * (last - first) + "·" * (width - last)
        lines.append(f"{area.start:>12x}  {bar[:width]}  {shown_size(area.size):>10}  {area.name}")
    return "\n".join(lines)


def overlaps(areas: Sequence[Area]) -> list[tuple[Area, Area]]:
    """Pairs of areas that share bytes, the one that begins later first. Areas are taken by where they begin."""
    found: list[tuple[Area, Area]] = []
    ordered = sorted(areas, key=lambda area: (area.start, area.end))
    reached = ordered[0] if ordered else None
    for area in ordered[1:]:
        assert reached is not None
        if area.start < reached.end:
            found.append((area, reached))
        if area.end > reached.end:
            reached = area
    return found
