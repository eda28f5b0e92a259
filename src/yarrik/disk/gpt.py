"""The GUID partition table, written and read: UEFI Specification 2.10, section 5 (GPT disk layout), with the protective
MBR of section 5.2.3.
"""

from __future__ import annotations

import uuid
import zlib
from typing import BinaryIO

import msgspec

from yarrik.binary import Record, number, raw_bytes
from yarrik.disk.mbr import MBR_ENTRY, PROTECTIVE
from yarrik.errors import Damaged, Unfit

SECTOR = 512
ENTRY_COUNT = 128
ENTRY_SIZE = 128
#: Header and entries at each end, in sectors; the first one has the protective MBR before it.
TABLE_SECTORS = 1 + ENTRY_COUNT * ENTRY_SIZE // SECTOR
FIRST_USABLE = 1 + TABLE_SECTORS

#: What partitions are for: the GUID of this table, and the byte of a classic one.
ALL_ROLES = {
    "linux": (uuid.UUID("0fc63daf-8483-4772-8e79-3d69d8477de4"), 0x83),
    "efi-system": (uuid.UUID("c12a7328-f81f-11d2-ba4b-00a0c93ec93b"), 0xEF),
    "basic-data": (uuid.UUID("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7"), 0x0C),
    "swap": (uuid.UUID("0657fd6d-a4ab-43c4-84e5-0933c84b4f4f"), 0x82),
    "boot": (uuid.UUID("bc13c2ff-59e6-4262-a352-b275fd6f7172"), 0xEA),
    "root-arm64": (uuid.UUID("b921b045-1df0-41c3-af44-4c6f280d3fae"), 0x83),
    "root-x86-64": (uuid.UUID("4f68bce3-e8cd-4db1-96e7-fbcaf984b709"), 0x83),
}
#: Attribute bit 2: the partition to look for boot files in (UEFI Specification, table 5.8).
BOOTABLE = 1 << 2
#: Attribute bit 60, which Linux's tools take for "mount it read-only".
READ_ONLY = 1 << 60

_HEADER = Record(
    92,
    ("signature", 0, "8s"),
    ("revision", 8, "I"),
    ("header_size", 12, "I"),
    ("header_crc", 16, "I"),
    ("my_lba", 24, "Q"),
    ("alternate_lba", 32, "Q"),
    ("first_usable", 40, "Q"),
    ("last_usable", 48, "Q"),
    ("disk_guid", 56, "16s"),
    ("entries_lba", 72, "Q"),
    ("entry_count", 80, "I"),
    ("entry_size", 84, "I"),
    ("entries_crc", 88, "I"),
)
_ENTRY = Record(
    ENTRY_SIZE,
    ("type_guid", 0, "16s"),
    ("guid", 16, "16s"),
    ("first", 32, "Q"),
    ("last", 40, "Q"),
    ("attributes", 48, "Q"),
    ("name", 56, "72s"),
)


class TableDamaged(Damaged):
    """There is no valid partition table; the message says what is wrong with it."""


class TableEntry(msgspec.Struct, frozen=True):
    """A partition: first and last sector of 512 bytes (both belong to it)."""

    type_guid: uuid.UUID
    guid: uuid.UUID
    first: int
    last: int
    attributes: int
    name: str


class PartitionTable(msgspec.Struct, frozen=True):
    """A disk's table; `sectors` is the whole disk's size in sectors of 512 bytes."""

    disk_guid: uuid.UUID
    sectors: int
    entries: tuple[TableEntry, ...]
    #: What is wrong with the backup at the disk's end; empty for nothing.
    backup_problem: str = ""


def encode_table(table: PartitionTable) -> tuple[bytes, bytes]:
    """The bytes at the disk's start (protective MBR, header, entries) and at its end (entries, header)."""
    if len(table.entries) > ENTRY_COUNT:
        raise Unfit(f"a partition table holds {ENTRY_COUNT} partitions, not {len(table.entries)}")
    entries = bytearray()
    for entry in table.entries:
        name = entry.name.encode("utf-16-le")
        if len(name) > 72:
            raise Unfit(f"the partition's name `{entry.name}` is longer than 36 characters")
        entries += _ENTRY.pack(
            type_guid=entry.type_guid.bytes_le,
            guid=entry.guid.bytes_le,
            first=entry.first,
            last=entry.last,
            attributes=entry.attributes,
            name=name,
        )
    entries += bytes(ENTRY_COUNT * ENTRY_SIZE - len(entries))
    last = table.sectors - 1
    protective = MBR_ENTRY.pack(
        first_chs=b"\0\2\0", type=PROTECTIVE, last_chs=b"\xff\xff\xff", first=1, count=min(last, 0xFFFFFFFF)
    )
    mbr = bytes(446) + protective + bytes(48) + b"\x55\xaa"
    first_header = _header(table, bytes(entries), 1, last, 2)
    last_header = _header(table, bytes(entries), last, 1, table.sectors - TABLE_SECTORS)
    return mbr + first_header + entries, bytes(entries + last_header)


def _header(table: PartitionTable, entries: bytes, here: int, other: int, entries_lba: int) -> bytes:
    header = _HEADER.pack(
        signature=b"EFI PART",
        revision=0x00010000,
        header_size=_HEADER.size,
        my_lba=here,
        alternate_lba=other,
        first_usable=FIRST_USABLE,
        last_usable=table.sectors - TABLE_SECTORS - 1,
        disk_guid=table.disk_guid.bytes_le,
        entries_lba=entries_lba,
        entry_count=ENTRY_COUNT,
        entry_size=ENTRY_SIZE,
        entries_crc=zlib.crc32(entries),
    )
    _HEADER.put(header, "header_crc", zlib.crc32(header))
    return bytes(header).ljust(SECTOR, b"\0")


def read_table(disk: BinaryIO, sectors: int) -> PartitionTable:
    """The table at the disk's start, checked against its checksums, bounds and overlaps. Raises TableDamaged."""
    disk.seek(SECTOR)
    data = disk.read(SECTOR)
    if len(data) < SECTOR or data[:8] != b"EFI PART":
        raise TableDamaged("there is no GPT header in the second sector")
    header = _HEADER.unpack(data)
    blank = bytearray(data[: _HEADER.size])
    _HEADER.put(blank, "header_crc", 0)
    if header["header_size"] != _HEADER.size or zlib.crc32(blank) != header["header_crc"]:
        raise TableDamaged("the GPT header's checksum is wrong")
    count, size, at = (number(header, key) for key in ("entry_count", "entry_size", "entries_lba"))
    if size != ENTRY_SIZE or not 0 < count <= 1024 or at + count * size // SECTOR > sectors:
        raise TableDamaged(f"the GPT header names {count} entries of {size} bytes at sector {at}")
    disk.seek(at * SECTOR)
    raw = disk.read(count * size)
    if len(raw) < count * size or zlib.crc32(raw) != header["entries_crc"]:
        raise TableDamaged("the checksum of the GPT's entries is wrong")
    entries: list[TableEntry] = []
    for index in range(count):
        fields = _ENTRY.unpack(raw[index * size : (index + 1) * size])
        if fields["type_guid"] == bytes(16):
            continue
        entry = TableEntry(
            uuid.UUID(bytes_le=raw_bytes(fields, "type_guid")),
            uuid.UUID(bytes_le=raw_bytes(fields, "guid")),
            number(fields, "first"),
            number(fields, "last"),
            number(fields, "attributes"),
            raw_bytes(fields, "name").decode("utf-16-le", "replace").rstrip("\0"),
        )
        if not FIRST_USABLE <= entry.first <= entry.last < sectors:
            raise TableDamaged(f"partition {index + 1} lies outside the disk")
        entries.append(entry)
    for before, after in zip(sorted(entries, key=lambda e: e.first), sorted(entries, key=lambda e: e.first)[1:], strict=False):
        if after.first <= before.last:
            raise TableDamaged(f"the partitions `{before.name}` and `{after.name}` overlap")
    backup = number(header, "alternate_lba")
    problem = ""
    if backup >= sectors:
        problem = f"its backup is at sector {backup}, and the disk ends before"
    else:
        disk.seek(backup * SECTOR)
        if disk.read(8) != b"EFI PART":
            problem = f"there is no backup at sector {backup}"
    return PartitionTable(uuid.UUID(bytes_le=raw_bytes(header, "disk_guid")), sectors, tuple(entries), problem)
