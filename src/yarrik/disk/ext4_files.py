"""Where a file's blocks lie: extent trees of ext4 (chapter "Extent Tree") and the blocks of block numbers of ext2 (chapter
"Direct/Indirect Block Addressing"); and which parts of a file hold something at all."""

from __future__ import annotations

import os
import struct
from collections.abc import Callable, Iterable
from pathlib import Path

import msgspec

from yarrik.arrays import numpy
from yarrik.binary_tables import Flags, Numbers
from yarrik.disk.ext4_form import BLOCK, EXTENT, EXTENT_HEADER, EXTENT_INDEX, EXTENT_MAGIC, Form
from yarrik.errors import Unfit
from yarrik.moving import stored_ranges

#: An extent's tail of 4 bytes leaves room for this many 12-byte entries after the header.
EXTENTS_PER_BLOCK = (BLOCK - EXTENT_HEADER.size - 4) // EXTENT.size
IN_INODE = 4
MOST_EXTENT = 32768
POINTERS = BLOCK // 4
DIRECT = 12
#: Shorter stretches of zeros are stored like other content.
LEAST_HOLE = 16
_PART = 1 << 20

Extent = tuple[int, int]  # first block on the disk, count
Run = tuple[int, int]  # first block of the file, count
Piece = tuple[int, int, int]  # block of the file, block on the disk, count


class Mapping(msgspec.Struct, frozen=True):
    """A file that does not lie in one piece: its pieces, the inode's 60 bytes, and further blocks with their content.

    With `summed`, each of these ends in a checksum that the writer has to fill in."""

    pieces: tuple[Piece, ...]
    field: bytes
    blocks: tuple[tuple[int, bytes], ...]
    summed: bool


def stored_runs(place: str | Path, size: int, path: str) -> list[Run]:
    """Runs of a file's blocks that are not all zeros, whatever the filesystem it lies on has stored of it.

    Raises ValueError when the file is shorter than `size`."""
    blocks = -(-size // BLOCK)
    full = numpy.zeros(blocks, bool)
    handle = os.open(place, os.O_RDONLY)
    try:
        if os.fstat(handle).st_size < size:
            raise Unfit(f"{path} was truncated while it was read")
        for start, length in stored_ranges(handle, 0, size):
            first, end = start // BLOCK, -(-(start + length) // BLOCK)
            for at in range(first, end, _PART // BLOCK):
                count = min(_PART // BLOCK, end - at)
                full[at : at + count] = _full_blocks(os.pread(handle, count * BLOCK, at * BLOCK))
    finally:
        os.close(handle)
    return _runs(full)


def _full_blocks(data: bytes) -> Flags:
    """Which blocks of 4 KiB hold anything but zeros."""
    words = numpy.frombuffer(data.ljust(-(-len(data) // BLOCK) * BLOCK, b"\0"), numpy.uint64).reshape(-1, BLOCK // 8)
    full: Flags = words[:, 0] != 0
    unsure = numpy.flatnonzero(~full)
    if len(unsure):  # most blocks show it by their first word
        full[unsure] = words[unsure].any(axis=1)
    return full


def _runs(full: Flags) -> list[Run]:
    edges = numpy.flatnonzero(numpy.diff(numpy.concatenate([[0], full.astype(numpy.int8), [0]])))
    runs: list[Run] = []
    for start, end in edges.reshape(-1, 2).tolist():
        before = sum(runs[-1]) if runs else 0
        if start - before < LEAST_HOLE:
            if runs:
                runs[-1] = (runs[-1][0], end - runs[-1][0])
                continue
            start = 0
        runs.append((start, end - start))
    if runs and len(full) - sum(runs[-1]) < LEAST_HOLE:
        runs[-1] = (runs[-1][0], len(full) - runs[-1][0])
    return runs


def mapping_blocks(form: Form, counts: Numbers, split: Iterable[list[Run]]) -> int:
    """The most blocks that maps can take beside the content, wherever it will lie: for files of these many blocks in one
    run, and for those with holes."""
    if form.extents:
        # A file may be cut at borders of free space, and so may each of the longest extents.
        large = counts[counts >= MOST_EXTENT // 2].tolist()
        total = sum(_tree_blocks(3 + 2 * (count // MOST_EXTENT)) for count in large)
        return total + sum(_tree_blocks(2 * len(runs) + 1 + 2 * (sum(c for _, c in runs) // MOST_EXTENT)) for runs in split)
    first = -(-(counts - DIRECT).clip(0) // POINTERS)
    second = -(-(first - 1).clip(0) // POINTERS)
    total = int(first.sum() + second.sum() + (second > 1).sum())
    return total + sum(len(_tables(numpy.concatenate([numpy.arange(at, at + n) for at, n in runs]))) for runs in split if runs)


def map_file(form: Form, pieces: list[Piece], blocks_of: Callable[[int], list[int]]) -> Mapping:
    """The map of a file; `blocks_of` hands out blocks for it."""
    return _extent_tree(pieces, blocks_of) if form.extents else _pointer_tree(pieces, blocks_of)


# Extents


def _tree_blocks(extents: int) -> int:
    total = 0
    while extents > IN_INODE:
        extents = -(-extents // EXTENTS_PER_BLOCK)
        total += extents
    return total


def _node(entries: list[bytes], room: int, depth: int) -> bytes:
    head = EXTENT_HEADER.pack(magic=EXTENT_MAGIC, count=len(entries), room=room, depth=depth)
    return bytes(head) + b"".join(entries)


def _extent_tree(pieces: list[Piece], blocks_of: Callable[[int], list[int]]) -> Mapping:
    short = [
        (at + cut, start + cut, min(MOST_EXTENT, count - cut))
        for at, start, count in pieces
        for cut in range(0, count, MOST_EXTENT)
    ]
    level = [
        (at, bytes(EXTENT.pack(at=at, length=count, start_hi=start >> 32, start_lo=start & 0xFFFFFFFF)))
        for at, start, count in short
    ]
    blocks: list[tuple[int, bytes]] = []
    depth = 0
    while len(level) > IN_INODE:
        numbers = blocks_of(-(-len(level) // EXTENTS_PER_BLOCK))
        above = []
        for order, number in enumerate(numbers):
            part = level[order * EXTENTS_PER_BLOCK : (order + 1) * EXTENTS_PER_BLOCK]
            data = _node([entry for _, entry in part], EXTENTS_PER_BLOCK, depth)
            blocks.append((number, data.ljust(EXTENT_HEADER.size + EXTENTS_PER_BLOCK * EXTENT.size, b"\0")))
            at = part[0][0]
            above.append((at, bytes(EXTENT_INDEX.pack(at=at, block_lo=number & 0xFFFFFFFF, block_hi=number >> 32))))
        level, depth = above, depth + 1
    field = _node([entry for _, entry in level], IN_INODE, depth).ljust(60, b"\0")
    return Mapping(tuple(short), field, tuple(blocks), summed=True)


# Pointers


def _tables(positions: numpy.typing.NDArray[numpy.int64]) -> list[tuple[int, int]]:
    """Level and order of each block of pointers that is needed for these blocks of a file.

    A table of level 1 is counted from the file's beginning, a table of level 2 from behind the first of level 1, and the
    one of level 3 is alone."""
    far = positions[positions >= DIRECT] - DIRECT
    first = numpy.unique(far // POINTERS)
    second = numpy.unique((first[first > 0] - 1) // POINTERS)
    if len(second) and int(second[-1]) > POINTERS:
        raise Unfit("a file is larger than three levels of block numbers can hold")
    third = [(3, 0)] if len(second) and int(second[-1]) > 0 else []
    return [(1, int(order)) for order in first] + [(2, int(order)) for order in second] + third


def _pointer_tree(pieces: list[Piece], blocks_of: Callable[[int], list[int]]) -> Mapping:
    positions = numpy.concatenate([numpy.arange(at, at + count) for at, _, count in pieces] or [numpy.zeros(0, int)])
    places = numpy.concatenate([numpy.arange(start, start + count) for _, start, count in pieces] or [numpy.zeros(0, int)])
    needed = _tables(positions)
    number_of = dict(zip(needed, blocks_of(len(needed)), strict=True))
    tables = {table: numpy.zeros(POINTERS, "<u4") for table in needed}
    root = numpy.zeros(DIRECT + 3, "<u4")
    near = positions < DIRECT
    root[positions[near]] = places[near]
    far, targets = positions[~near] - DIRECT, places[~near]
    for order in numpy.unique(far // POINTERS).tolist():
        inside = far // POINTERS == order
        tables[1, order][far[inside] % POINTERS] = targets[inside]
    for (level, order), number in number_of.items():
        if level == 3 or order == 0:
            root[DIRECT + level - 1] = number
        elif level == 1:
            tables[2, (order - 1) // POINTERS][(order - 1) % POINTERS] = number
        else:
            tables[3, 0][order - 1] = number
    blocks = tuple((number_of[table], data.tobytes()) for table, data in tables.items())
    return Mapping(tuple(pieces), struct.pack("<15I", *root.tolist()), blocks, summed=False)
