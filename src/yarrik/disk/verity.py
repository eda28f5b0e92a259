"""Partitions of which the kernel verifies each block when it is read: a tree of digests behind the filesystem.

Written from the kernel's Documentation/admin-guide/device-mapper/verity.rst (hash type 1, SHA-256, blocks of 4,096 bytes,
no superblock): the digests of the data blocks fill blocks, whose digests fill blocks, up to one block, whose digest is the
root. The levels are stored from the top one down, right behind the data. The last sector of the partition has a text that the
bootloader's script reads: what the device-mapper's table says of all this.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import msgspec

from yarrik.errors import Damaged
from yarrik.patterns import lazy_pattern

BLOCK = 4096
_SECTOR = 512
_DIGEST = 32
_IN_BLOCK = BLOCK // _DIGEST
_STEP = 256
#: Names of the bootloader's variables in the last sector.
VERITY_SECTORS, VERITY_TABLE = "verity_sectors", "verity_table"
_TABLE = lazy_pattern(r"4096 4096 (\d{1,12}) (\d{1,12}) sha256 ([0-9a-f]{64}) ([0-9a-f]{2,128})")


class Verity(msgspec.Struct, frozen=True):
    """What the kernel has to be told: how many blocks of data there are, the digest of the tree's top block, and the salt."""

    blocks: int
    root: bytes
    salt: bytes

    @property
    def table(self) -> str:
        """The end of a line of the device-mapper's table, behind the two devices."""
        return f"4096 4096 {self.blocks} {self.blocks} sha256 {self.root.hex()} {self.salt.hex()}"

    def sector(self) -> bytes:
        """The last sector of the partition."""
        text = f"{VERITY_SECTORS}={self.blocks * (BLOCK // _SECTOR)}\n{VERITY_TABLE}={self.table}\n"
        return text.encode().ljust(_SECTOR, b"\0")


def read_verity(table: str) -> Verity:
    """The reverse of `Verity.table`. Raises Damaged."""
    match = _TABLE.fullmatch(table)
    if match is None or match[1] != match[2]:
        raise Damaged("its table is not of the form that is known here")
    return Verity(int(match[1]), bytes.fromhex(match[3]), bytes.fromhex(match[4]))


def tree_blocks(blocks: int) -> int:
    """How many blocks the digests of `blocks` data blocks fill, all levels together."""
    whole = 0
    while blocks > 1:
        blocks = -(-blocks // _IN_BLOCK)
        whole += blocks
    return whole


def data_in(size: int) -> int:
    """The most bytes of data that a partition of `size` bytes has room for, beside the tree and the last block."""
    room = size // BLOCK - 1
    blocks = max(0, room * _IN_BLOCK // (_IN_BLOCK + 1))
    while blocks + 1 + tree_blocks(blocks + 1) <= room:
        blocks += 1
    while blocks > 0 and blocks + tree_blocks(blocks) > room:
        blocks -= 1
    return blocks * BLOCK


def whole_size(data: int) -> int:
    """Bytes of a partition with `data` bytes of data, the tree and the last block."""
    blocks = -(-data // BLOCK)
    return (blocks + tree_blocks(blocks) + 1) * BLOCK


def hashed(read: Callable[[int, int], bytes], blocks: int, salt: bytes) -> tuple[Verity, bytes]:
    """The tree over `blocks` blocks, of which `read` gives bytes by offset and length: what the kernel is told, and the tree.

    Raises Damaged when there are fewer."""
    zero = hashlib.sha256(salt + bytes(BLOCK)).digest()

    def digests(first: int) -> bytes:
        data = read(first * BLOCK, min(_STEP, blocks - first) * BLOCK)
        if len(data) % BLOCK:
            raise Damaged("the partition ends before its data do")
        if not any(data):
            return zero * (len(data) // BLOCK)
        view = memoryview(data)
        return b"".join(hashlib.sha256(salt + view[at : at + BLOCK]).digest() for at in range(0, len(data), BLOCK))

    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        level = b"".join(pool.map(digests, range(0, blocks, _STEP)))
    levels: list[bytes] = []
    while True:
        level = level.ljust(-(-len(level) // BLOCK) * BLOCK, b"\0")
        levels.append(level)
        if len(level) == BLOCK:
            break
        level = b"".join(hashlib.sha256(salt + level[at : at + BLOCK]).digest() for at in range(0, len(level), BLOCK))
    root = hashlib.sha256(salt + levels[-1]).digest()
    return Verity(blocks, root, salt), b"".join(reversed(levels))
