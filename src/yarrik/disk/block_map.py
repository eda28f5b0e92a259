"""A block map: which ranges of an image hold data, with a digest for each and one for all, as JSON.

Writing the image to a card takes these ranges alone; reading them back tells what went wrong, and where."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import BinaryIO

import msgspec

from yarrik.errors import Damaged

BLOCK = 4096
_PART = 1 << 20


class MappedRange(msgspec.Struct, frozen=True):
    """Where it starts and ends, in bytes, and the SHA-256 of what lies there."""

    start: int
    end: int
    sha256: str


class BlockMap(msgspec.Struct, frozen=True):
    """An image's name, size in bytes and SHA-256 (of all of it, holes as zeros), and its ranges in order."""

    image: str
    size: int
    sha256: str
    ranges: tuple[MappedRange, ...]

    def encode(self) -> bytes:
        """The map as a file: XML in the form that copying programs read."""
        return msgspec.json.format(msgspec.json.encode(self), indent=1) + b"\n"


class MapDamaged(Damaged):
    """A block map that cannot be one of its image."""


def read_map(data: bytes, size: int) -> BlockMap:
    """A block map that lies beside an image of `size` bytes. Raises MapDamaged when it does not read as one, or names ranges
    that are not in order or not in the image."""
    try:
        found = msgspec.json.decode(data, type=BlockMap)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise MapDamaged(f"it does not read as a block map: {error}") from error
    at = 0
    for one in found.ranges:
        if not at <= one.start < one.end <= size:
            raise MapDamaged(f"the range from {one.start} to {one.end} is not in an image of {size} bytes, or not in its order")
        at = one.end
    return found


def map_blocks(image: BinaryIO, name: str, size: int, written: Sequence[tuple[int, int]]) -> BlockMap:
    """The map of an image of which the ranges `written` (start, end) have to be stored; they are widened to whole blocks."""
    whole = hashlib.sha256()
    ranges: list[MappedRange] = []
    reached = 0
    for start, end in _widened(written, size):
        _zeros(whole, start - reached)
        image.seek(start)
        digest = hashlib.sha256()
        for at in range(start, end, _PART):
            part = image.read(min(_PART, end - at))
            digest.update(part)
            whole.update(part)
        ranges.append(MappedRange(start, end, digest.hexdigest()))
        reached = end
    _zeros(whole, size - reached)
    return BlockMap(name, size, whole.hexdigest(), tuple(ranges))


def _widened(written: Sequence[tuple[int, int]], size: int) -> list[tuple[int, int]]:
    found: list[tuple[int, int]] = []
    for start, end in written:
        start, end = start // BLOCK * BLOCK, min(size, -(-end // BLOCK) * BLOCK)
        if found and start <= found[-1][1]:
            found[-1] = (found[-1][0], max(end, found[-1][1]))
        else:
            found.append((start, end))
    return found


def _zeros(digest: hashlib._Hash, count: int) -> None:
    zeros = bytes(_PART)
    while count > 0:
        digest.update(zeros[: min(count, _PART)])
        count -= _PART
