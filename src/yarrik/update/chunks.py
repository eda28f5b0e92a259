"""Where contents are cut, by the contents themselves: the same bytes are cut the same way wherever they lie.

A chunk may end behind eight bytes whose product with an odd constant is small: about one in 8,192 does. All windows are looked
at as columns of words, one column for each of the eight offsets in a word.
"""

from __future__ import annotations

from yarrik.arrays import npt
from yarrik.arrays import numpy as np

Bytes = npt.NDArray[np.uint8]

_WINDOW = 8
SHORTEST, LONGEST = 2 << 10, 64 << 10
_BLOCK = 1 << 20
_FACTOR = np.uint64(0x9E3779B97F4A7C15)
#: So that neither zeros nor ones are such an end.
_MIXED = np.uint64(0x5851F42D4C957F2D)
_BELOW = np.uint64(1 << (64 - 13))


def _ends(data: Bytes) -> list[int]:
    """Where chunks may end."""
    found = [np.empty(0, np.int64)]
    for start in range(0, len(data) - _WINDOW + 1, _BLOCK):
        part = np.ascontiguousarray(data[start : start + _BLOCK + _WINDOW - 1])
        for offset in range(min(_WINDOW, len(part) - _WINDOW + 1)):
            words = part[offset : offset + (len(part) - offset) // _WINDOW * _WINDOW].view(np.uint64)
            found.append(np.flatnonzero(((words ^ _MIXED) * _FACTOR) < _BELOW) * _WINDOW + (start + offset + _WINDOW))
    ends: list[int] = np.sort(np.concatenate(found)).tolist()
    return ends


def cut(data: Bytes) -> list[int]:
    """The ends of the chunks of some bytes, the last one at their end. No chunk is shorter than `SHORTEST` but the last, and
    none longer than `LONGEST`."""
    ends: list[int] = []
    last, size = 0, len(data)
    for end in _ends(data):
        while end - last > LONGEST:
            last += LONGEST
            ends.append(last)
        if end - last >= SHORTEST:
            ends.append(end)
            last = end
    while size - last > LONGEST:
        last += LONGEST
        ends.append(last)
    if last < size:
        ends.append(size)
    return ends
