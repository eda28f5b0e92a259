"""The classic partition table in a disk's first sector, written and read: four entries at byte 446, the mark 55 AA at
byte 510. Addresses are sectors of 512 bytes; the old cylinder fields say "see there"."""

from __future__ import annotations

import itertools
from typing import BinaryIO

import msgspec

from yarrik.binary import Record, number
from yarrik.errors import Damaged, Unfit

SECTOR = 512
MOST = 4
BOOTABLE = 0x80
PROTECTIVE = 0xEE
_BEYOND = b"\xfe\xff\xff"

MBR_ENTRY = Record(
    16,
    ("status", 0, "B"),
    ("first_chs", 1, "3s"),
    ("type", 4, "B"),
    ("last_chs", 5, "3s"),
    ("first", 8, "I"),
    ("count", 12, "I"),
)


class MbrDamaged(Damaged):
    """There is no valid table; the message says why."""


class MbrEntry(msgspec.Struct, frozen=True):
    """A partition; `number` counts from 1."""

    number: int
    type: int
    first: int
    count: int
    bootable: bool


def encode_mbr(signature: int, entries: list[MbrEntry]) -> bytes:
    """The whole first sector. `signature` is the disk's, which the kernel's PARTUUID is made of."""
    sector = bytearray(SECTOR)
    sector[440:444] = signature.to_bytes(4, "little")
    for entry in entries:
        if not 1 <= entry.number <= MOST:
            raise Unfit(f"this table holds {MOST} partitions")
        if entry.first + entry.count > 1 << 32:
            raise Unfit("this table reaches 2 TiB and no further")
        sector[446 + 16 * (entry.number - 1) : 446 + 16 * entry.number] = MBR_ENTRY.pack(
            status=BOOTABLE if entry.bootable else 0,
            first_chs=_BEYOND,
            type=entry.type,
            last_chs=_BEYOND,
            first=entry.first,
            count=entry.count,
        )
    sector[510:512] = b"\x55\xaa"
    return bytes(sector)


def read_mbr(disk: BinaryIO, sectors: int) -> tuple[int, list[MbrEntry]]:
    """The disk's signature and its partitions, checked for bounds and overlaps. Raises MbrDamaged."""
    disk.seek(0)
    sector = disk.read(SECTOR)
    if len(sector) < SECTOR or sector[510:512] != b"\x55\xaa":
        raise MbrDamaged("the first sector does not end in 55 AA")
    entries: list[MbrEntry] = []
    for index in range(MOST):
        fields = MBR_ENTRY.unpack(sector[446 + 16 * index : 462 + 16 * index])
        kind, first, count = number(fields, "type"), number(fields, "first"), number(fields, "count")
        if kind == 0 and count == 0:
            continue
        if number(fields, "status") not in (0, BOOTABLE):
            raise MbrDamaged(f"partition {index + 1} has the status {number(fields, 'status'):#x}, which is undefined")
        if not count or (kind != PROTECTIVE and not 0 < first <= first + count <= sectors):
            raise MbrDamaged(f"partition {index + 1} lies outside the disk")
        entries.append(MbrEntry(index + 1, kind, first, count, number(fields, "status") == BOOTABLE))
    placed = sorted(entries, key=lambda entry: entry.first)
    for before, after in itertools.pairwise(placed):
        if after.first < before.first + before.count:
            raise MbrDamaged(f"the partitions {before.number} and {after.number} overlap")
    return int.from_bytes(sector[440:444], "little"), entries
