"""Where contents are cut, by the contents themselves: the same bytes are cut the same way wherever they lie.

A hash rolls over the last 32 bytes; a chunk ends where the hash has zeros in its uppermost bits. The hash of a window is the
sum of a number for each byte, shifted by its distance: made by doubling the window in five passes over whole columns.
"""

from __future__ import annotations

import hashlib

import numpy as np
import numpy.typing as npt

Bytes = npt.NDArray[np.uint8]

_WINDOW = 32
_BITS = 13  # chunks of 8 KiB in the mean
SHORTEST, LONGEST = 2 << 10, 64 << 10
_BLOCK = 1 << 20
#: A number for each byte, the same in every version: where chunks end is in no bundle, but bundles are to be reproducible.
_NUMBERS = np.array(
    [int.from_bytes(hashlib.sha256(b"chunk" + bytes([value])).digest()[:4], "little") for value in range(256)], np.uint32
)


def _ends(data: Bytes) -> npt.NDArray[np.int64]:
    """Where the hash says that a chunk may end."""
    found = []
    for start in range(0, len(data), _BLOCK):
        begin = max(0, start - _WINDOW + 1)
        total = _NUMBERS[data[begin : start + _BLOCK]]
        for width in (1, 2, 4, 8, 16):
            wider = total.copy()
            wider[width:] += total[:-width] << np.uint32(width)
            total = wider
        ends = np.flatnonzero(total >> np.uint32(32 - _BITS) == 0) + begin + 1
        found.append(ends[ends > start])
    return np.concatenate(found) if found else np.empty(0, np.int64)


def cut(data: Bytes) -> list[int]:
    """The ends of the chunks of some bytes, the last one at their end. No chunk is shorter than `SHORTEST` but the last, and
    none longer than `LONGEST`."""
    ends: list[int] = []
    last, size = 0, len(data)
    for end in _ends(data).tolist():
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
