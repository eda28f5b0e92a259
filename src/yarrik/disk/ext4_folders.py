"""Folders as ext4 keeps them: one block of entries, or many that are found by the hash of the name (chapters "Directory
Entries" and "Hash Tree Directories")."""

from __future__ import annotations

import struct
import uuid as uuids
from collections.abc import Sequence
from functools import cached_property
from itertools import pairwise

import msgspec

from yarrik.arrays import numpy
from yarrik.binary_tables import Numbers
from yarrik.disk.ext4_form import BLOCK, ENTRY_TYPES, HALF_MD4, HASH_ENTRY, HASH_LIMITS, HASH_ROOT, Form, checksum
from yarrik.errors import Unfit

_HEAD = 8
_TAIL = 12
_DOTS = 24
_HASH_TAIL = 8
_MOST_HASH = 0x7FFFFFFF << 1
_ENTRY = struct.Struct("<IHBB")


class Folder(msgspec.Struct, frozen=True, dict=True):
    """A folder's own number, its parent's, and names, numbers and types of what it holds, in the tree's order."""

    form: Form
    seed: uuids.UUID
    number: int
    parent: int
    names: Sequence[bytes]
    numbers: Sequence[int]
    types: Sequence[int]

    @property
    def _room(self) -> int:
        return BLOCK - (_TAIL if self.form.checksums else 0)

    @cached_property
    def _sizes(self) -> list[int]:
        return [len(name) + 11 & ~3 for name in self.names]

    @cached_property
    def _hashed(self) -> tuple[list[list[int]], list[int]] | None:
        """Entries of each leaf and the hash that each begins with; None when one block or a plain list does."""
        if not self.form.hashed or sum(self._sizes) + _DOTS <= self._room:
            return None
        hashes = name_hashes(self.names, self.seed)
        major = [int(value) for value in hashes[:, 0]]
        minor = hashes[:, 1].tolist()
        order = sorted(range(len(self.names)), key=lambda index: (major[index], minor[index], self.names[index]))
        leaves: list[list[int]] = [[]]
        room = self._room
        for index in order:
            if self._sizes[index] > room:
                leaves.append([])
                room = self._room
            leaves[-1].append(index)
            room -= self._sizes[index]
        # The lowest bit says that the block before ends with names of the same hash.
        starts = [0, *(major[b[0]] | (major[a[-1]] == major[b[0]]) for a, b in pairwise(leaves))]
        return leaves, starts

    @cached_property
    def _plain(self) -> list[list[int]]:
        """Entries of each block, without hashes: `.` and `..` take the first one's beginning."""
        blocks: list[list[int]] = [[]]
        room = self._room - _DOTS
        for index, size in enumerate(self._sizes):
            if size > room:
                blocks.append([])
                room = self._room
            blocks[-1].append(index)
            room -= size
        return blocks

    def _limits(self) -> tuple[int, int]:
        """How many references the root and each node below it hold."""
        tail = _HASH_TAIL if self.form.checksums else 0
        return (BLOCK - 32 - tail) // HASH_ENTRY.size, (BLOCK - _HEAD - tail) // HASH_ENTRY.size

    @property
    def is_hashed(self) -> bool:
        """Whether the folder has an index by hash (INDEX_FL), since it needs more than one block."""
        return self._hashed is not None

    @cached_property
    def blocks(self) -> int:
        """How many blocks it takes. Raises ValueError when there are too many names for two levels of hashes."""
        if self._hashed is None:
            return len(self._plain)
        leaves = len(self._hashed[0])
        root, node = self._limits()
        if leaves <= root:
            return 1 + leaves
        nodes = -(-leaves // node)
        if nodes > root:
            raise Unfit(f"a folder of {len(self.names)} entries is larger than two levels of hashes can hold")
        return 1 + nodes + leaves

    def encode(self, seed: int) -> bytes:
        """All its blocks; `seed` begins the checksums of this inode."""
        if self._hashed is None:
            dots = self._entry(self.number, b".", 12) + self._entry(self.parent, b"..", 12)
            return b"".join(self._block(b"" if at else dots, part, seed) for at, part in enumerate(self._plain))
        leaves, starts = self._hashed
        body = b"".join(self._block(b"", leaf, seed) for leaf in leaves)
        root_room, node_room = self._limits()
        if len(leaves) <= root_room:
            root = self._index(self._root_head(0), root_room, starts, range(1, len(leaves) + 1), seed)
            return root + body
        count = -(-len(leaves) // node_room)
        first = 1 + count
        nodes = b""
        for at in range(0, len(leaves), node_room):
            part = starts[at : at + node_room]
            head = _ENTRY.pack(0, BLOCK, 0, 0)
            nodes += self._index(head, node_room, part, range(first + at, first + at + len(part)), seed)
        root = self._index(self._root_head(1), root_room, starts[::node_room], range(1, 1 + count), seed)
        return root + nodes + body

    @staticmethod
    def _entry(number: int, name: bytes, size: int, kind: int = ENTRY_TYPES["folder"]) -> bytes:
        return _ENTRY.pack(number, size, len(name), kind) + name.ljust(size - _HEAD, b"\0")

    def _block(self, start: bytes, part: Sequence[int], seed: int) -> bytes:
        pack, names, numbers, types, sizes = _ENTRY.pack, self.names, self.numbers, self.types, self._sizes
        block = bytearray(start)
        last = max(0, len(block) - 12)
        for index in part:
            last = len(block)
            name, size = names[index], sizes[index]
            block += pack(numbers[index], size, len(name), types[index])
            block += name.ljust(size - _HEAD, b"\0")
        struct.pack_into("<H", block, last + 4, self._room - last)
        block += bytes(self._room - len(block))
        if self.form.checksums:  # the tail looks like an entry that is not used
            block += _ENTRY.pack(0, _TAIL, 0, 0xDE) + struct.pack("<I", checksum(seed, block))
        return bytes(block)

    def _root_head(self, levels: int) -> bytes:
        """`.` and `..`, which hides all that follows from those who read a folder as a list, and the hash's kind."""
        dots = self._entry(self.number, b".", 12) + self._entry(self.parent, b"..", 12)[:4]
        dots += struct.pack("<HBB", BLOCK - 12, 2, ENTRY_TYPES["folder"]) + b"..\0\0"
        return dots + bytes(HASH_ROOT.pack(version=HALF_MD4, length=HASH_ROOT.size, levels=levels))

    def _index(self, head: bytes, room: int, hashes: Sequence[int], blocks: Sequence[int], seed: int) -> bytes:
        data = bytearray(head)
        data += HASH_LIMITS.pack(room=room, count=len(blocks), block=blocks[0])
        for value, block in zip(hashes[1:], blocks[1:], strict=True):
            data += HASH_ENTRY.pack(hash=value, block=block)
        if self.form.checksums:
            value = checksum(seed, data + bytes(_HASH_TAIL))
            data = data.ljust(BLOCK - 4, b"\0") + struct.pack("<I", value)
        return bytes(data.ljust(BLOCK, b"\0"))


def name_hashes(names: Sequence[bytes], seed: uuids.UUID) -> Numbers:
    """The hash of each name and its second part, as columns (fs/ext4/hash.c, the half MD4 transform, signed characters)."""
    lengths = numpy.array([len(name) for name in names], numpy.int64)
    start = struct.unpack("<4I", seed.bytes)
    state = numpy.tile(numpy.array(start, numpy.uint32), (len(names), 1))
    for at in range(0, int(lengths.max(initial=0)), 32):
        rows = numpy.flatnonzero(lengths > at)
        part = b"".join(names[row][at : at + 32].ljust(32, b"\0") for row in rows.tolist())
        signs = numpy.frombuffer(part, numpy.int8).reshape(-1, 32)
        state[rows] = _transform(state[rows], _words(signs, lengths[rows] - at))
    major = state[:, 1].astype(numpy.int64) & ~1
    major[major == _MOST_HASH] = (0x7FFFFFFF - 1) << 1
    return numpy.stack([major, state[:, 2].astype(numpy.int64)], axis=1)


def _words(signs: numpy.typing.NDArray[numpy.int8], left: Numbers) -> numpy.typing.NDArray[numpy.uint32]:
    """Eight words of each name's next 32 bytes; what is missing is filled with the length."""
    pad = (left & 0xFF | left << 8).astype(numpy.uint32)
    pad |= pad << numpy.uint32(16)
    words = numpy.repeat(pad[:, None], 8, axis=1)
    places = numpy.arange(8) * 4
    values = signs.astype(numpy.int32).view(numpy.uint32).reshape(-1, 8, 4)
    for byte in range(4):
        there = left[:, None] > places + byte
        words = numpy.where(there, (words << numpy.uint32(8)) + values[:, :, byte], words)
    return words


_ROUNDS = (
    (0, (3, 7, 11, 19), (0, 1, 2, 3, 4, 5, 6, 7)),
    (0x5A827999, (3, 5, 9, 13), (1, 3, 5, 7, 0, 2, 4, 6)),
    (0x6ED9EBA1, (3, 9, 11, 15), (3, 7, 2, 6, 1, 5, 0, 4)),
)


def _transform(
    state: numpy.typing.NDArray[numpy.uint32], words: numpy.typing.NDArray[numpy.uint32]
) -> numpy.typing.NDArray[numpy.uint32]:
    """Three rounds of eight steps of MD4 (RFC 1320), each on half of its block."""
    a, b, c, d = (state[:, column].copy() for column in range(4))
    for number, (constant, turns, order) in enumerate(_ROUNDS):
        for step, word in enumerate(order):
            mixed = d ^ (b & (c ^ d)) if number == 0 else (b & c) + ((b ^ c) & d) if number == 1 else b ^ c ^ d
            total = a + mixed + words[:, word] + numpy.uint32(constant)
            turn = turns[step % 4]
            total = total << numpy.uint32(turn) | total >> numpy.uint32(32 - turn)
            a, b, c, d = d, total, b, c
    return state + numpy.stack([a, b, c, d], axis=1)
