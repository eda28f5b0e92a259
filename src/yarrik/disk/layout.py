"""Where things lie on a disk: tables, raw blobs, partitions one after the other; what does not fit, with a drawn map."""

from __future__ import annotations

import uuid
from collections.abc import Sequence

import msgspec

from yarrik.disk.forms import FORMS
from yarrik.disk.gpt import ALL_ROLES, READ_ONLY, SECTOR, TABLE_SECTORS, PartitionTable, TableEntry
from yarrik.disk.gpt import BOOTABLE as GPT_BOOTABLE
from yarrik.disk.mbr import MOST, PROTECTIVE, MbrEntry
from yarrik.errors import Unfit
from yarrik.identifiers import derived_guid, identifier_of
from yarrik.maps import Area, drawn, overlaps
from yarrik.model import Disk, Partition, partition_type
from yarrik.units import parse_size, rest_of, round_up, shown_size

ALIGNMENT = 1 << 20


class LayoutUnfit(Unfit):
    """The disk's definition cannot be laid out; `reasons` are sentences, `drawing` shows where things would lie."""

    def __init__(self, reasons: list[str], drawing: str) -> None:
        self.reasons, self.drawing = tuple(reasons), drawing
        super().__init__("; ".join(reasons))


class PlacedPartition(msgspec.Struct, frozen=True):
    """A partition (or a copy of one, with a name of its own) with its place: `start` and `size` in bytes."""

    definition: Partition
    name: str
    number: int
    guid: uuid.UUID
    start: int
    size: int
    bootable: bool


class PlacedBlob(msgspec.Struct, frozen=True):
    """A raw file at an offset; there is one for each copy."""

    file: str
    start: int
    size: int


class DiskLayout(msgspec.Struct, frozen=True):
    """A whole disk: `size` in bytes. `signature` is what a classic table carries."""

    name: str
    table: str
    guid: uuid.UUID
    signature: int
    size: int
    partitions: tuple[PlacedPartition, ...]
    blobs: tuple[PlacedBlob, ...] = ()

    @property
    def gpt(self) -> PartitionTable:
        """The partition table as GPT entries, with first and last sectors of 512 bytes."""
        return PartitionTable(
            self.guid,
            self.size // SECTOR,
            tuple(
                TableEntry(
                    _gpt_type(part.definition),
                    part.guid,
                    part.start // SECTOR,
                    (part.start + part.size) // SECTOR - 1,
                    (GPT_BOOTABLE if part.bootable else 0) | (READ_ONLY if part.definition.read_only else 0),
                    part.name,
                )
                for part in self.partitions
            ),
        )

    @property
    def mbr(self) -> list[MbrEntry]:
        """The classic table's entries. A hybrid disk's has the partitions that are to be seen in it, and behind them one
        that covers the GPT, so that programs that know that one do not write over it."""
        seen = [part for part in self.partitions if self.table != "hybrid" or part.definition.in_mbr]
        entries = [
            MbrEntry(number, _mbr_type(part.definition), part.start // SECTOR, part.size // SECTOR, part.bootable)
            for number, part in enumerate(seen, 1)
        ]
        if self.table == "hybrid":
            first = min((entry.first for entry in entries), default=self.size // SECTOR)
            entries.append(MbrEntry(len(entries) + 1, PROTECTIVE, 1, first - 1, False))
        return entries

    @property
    def areas(self) -> list[Area]:
        """All that lies on the disk, in order: tables, blobs, partitions."""
        areas = [Area(part.name, part.start, part.size) for part in self.partitions]
        areas += [Area(f"blob {blob.file}", blob.start, blob.size) for blob in self.blobs]
        if has_gpt(self.table):
            areas += [
                Area("partition table", 0, (1 + TABLE_SECTORS) * SECTOR),
                Area("partition table, copy", self.size - TABLE_SECTORS * SECTOR, TABLE_SECTORS * SECTOR),
            ]
        elif self.table == "mbr":
            # Only the last 72 bytes belong to the table: loaders of many processors begin in the first sector.
            areas.append(Area("partition table", 440, 72))
        return sorted(areas, key=lambda area: (area.start, area.end))


def _role(partition: Partition) -> str:
    return FORMS[partition.filesystem].role if partition.filesystem in FORMS else "linux"


def _gpt_type(partition: Partition) -> uuid.UUID:
    wanted = partition_type(partition.type)
    if isinstance(wanted, uuid.UUID):
        return wanted
    role = partition.type or _role(partition)
    return ALL_ROLES[role][0]


def _mbr_type(partition: Partition) -> int:
    wanted = partition_type(partition.type)
    if isinstance(wanted, int):
        return wanted
    role = partition.type or _role(partition)
    return ALL_ROLES[role][1]


def image_name(product: str, disk: str, count: int) -> str:
    """An image file's name: the product's, with the disk's when there are several."""
    return f"{product}.img" if count == 1 else f"{product}-{disk}.img"


def has_gpt(table: str) -> bool:
    """Whether a table of this kind is a GUID partition table."""
    return table in ("gpt", "hybrid")


def partition_guid(product: str, disk: Disk, name: str, partition: Partition) -> uuid.UUID:
    """A partition's GUID: the one that is set, or one that derives from its names. Copies have one of their own."""
    if partition.guid and name == partition.name:
        return uuid.UUID(partition.guid)
    return derived_guid("partition", product, disk.name, name)


def filesystem_guid(product: str, disk: Disk, partition: Partition) -> uuid.UUID:
    """A filesystem's identifier: the one that is set, or one that derives from the names. FAT takes its first 32 bits."""
    return identifier_of(partition.identifier, "filesystem", product, disk.name, partition.name)


def disk_signature(product: str, disk: Disk) -> int:
    """A classic table's 32-bit signature; never zero, which means that there is none."""
    if disk.signature:
        return int(disk.signature, 16)
    return int.from_bytes(derived_guid("signature", product, disk.name).bytes[:4], "big") or 1


def numbered_partitions(disk: Disk) -> list[tuple[int, str, Partition]]:
    """Every partition with its number from 1 and its name, each followed by its copies."""
    named = [(name, partition) for partition in disk.partition for name in (partition.name, *partition.copies)]
    return [(number, name, partition) for number, (name, partition) in enumerate(named, 1)]


class RootPlace(msgspec.Struct, frozen=True):
    """The partition that holds the root filesystem."""

    disk: Disk
    number: int
    name: str
    partition: Partition


def root_place(disks: Sequence[Disk]) -> RootPlace | None:
    """The first partition that holds the root filesystem; None without one."""
    for disk in disks:
        for number, name, partition in numbered_partitions(disk):
            if partition.holds == "root":
                return RootPlace(disk, number, name, partition)
    return None


def partition_uuid(product: str, place: RootPlace) -> str | None:
    """A partition's identifier as the kernel's `root=PARTUUID=` takes it; None on a disk without a table."""
    if place.disk.table == "mbr":
        return f"{disk_signature(product, place.disk):08x}-{place.number:02x}"
    return str(partition_guid(product, place.disk, place.name, place.partition)) if has_gpt(place.disk.table) else None


def has_boot_partition(disks: Sequence[Disk]) -> bool:
    """Whether boot files lie on a partition of their own."""
    return any(partition.holds == "boot" for disk in disks for partition in disk.partition)


def start_of(disk: Disk, sizes: Sequence[int], blobs: Sequence[int]) -> int:
    """Where a partition begins that follows those whose sizes are given."""
    return _places(disk, sizes, blobs)[1]


def _places(disk: Disk, sizes: Sequence[int], blobs: Sequence[int]) -> tuple[list[tuple[int, int]], int]:
    """Start and size of each partition, and where the following one would begin."""
    ends = [
        offset + size for blob, size in zip(disk.blob, blobs, strict=True) for offset in blob_offsets(blob.offset, blob.copies)
    ]
    first = ALIGNMENT if disk.table != "none" else 0
    # Blobs below the first partition push it up; one behind it is an overlap, which is told.
    position = max([first, *(end for end in ends if end <= 64 << 20 and disk.partition)])
    placed: list[tuple[int, int]] = []
    for (_, _, partition), size in zip(numbered_partitions(disk), sizes, strict=False):
        align = parse_size(partition.align)
        position = round_up(position, align)
        placed.append((position, round_up(size, SECTOR if align < SECTOR else min(align, ALIGNMENT))))
        position = sum(placed[-1])
    following = numbered_partitions(disk)[len(sizes)][2] if len(sizes) < len(numbered_partitions(disk)) else None
    return placed, round_up(position, parse_size(following.align)) if following else position


def blob_offsets(offset: str, copies: Sequence[str]) -> list[int]:
    """Offsets in bytes of a blob and its copies."""
    return [parse_size(text) for text in (offset, *copies)]


def lay_out_disk(product: str, disk: Disk, sizes: Sequence[int], blobs: Sequence[int] = ()) -> DiskLayout:
    """Places the disk's partitions and blobs, whose sizes in bytes are given: one for each of `numbered_partitions(disk)`, and
    one for each of `disk.blob`. Raises LayoutUnfit with all that overlaps, lies askew or reaches beyond the disk."""
    names = numbered_partitions(disk)
    placed, end = _places(disk, sizes, blobs)
    bearer = "boot" if any(p.holds == "boot" for p in disk.partition) else "root"
    partitions = tuple(
        PlacedPartition(
            partition,
            name,
            number,
            partition_guid(product, disk, name, partition),
            start,
            size,
            partition.bootable if partition.bootable is not None else partition.holds == bearer and name == partition.name,
        )
        for (number, name, partition), (start, size) in zip(names, placed, strict=True)
    )
    raw = tuple(
        PlacedBlob(blob.file, offset, size)
        for blob, size in zip(disk.blob, blobs, strict=True)
        for offset in blob_offsets(blob.offset, blob.copies)
    )
    end = max([end, *(blob.start + blob.size for blob in raw)])
    if has_gpt(disk.table):
        end += TABLE_SECTORS * SECTOR
    asked = parse_size(disk.size) if disk.size else next((r for _, _, p in names if (r := rest_of(p.size)) is not None), 0)
    whole = asked or round_up(end, ALIGNMENT if disk.table != "none" else SECTOR)
    layout = DiskLayout(
        disk.name,
        disk.table,
        uuid.UUID(disk.guid) if disk.guid else derived_guid("disk", product, disk.name),
        disk_signature(product, disk),
        whole,
        partitions,
        raw,
    )
    reasons = _problems(layout, end)
    if reasons:
        raise LayoutUnfit(reasons, drawn_map(layout))
    return layout


def _problems(layout: DiskLayout, end: int) -> list[str]:
    reasons: list[str] = []
    names = [part.name for part in layout.partitions]
    reasons += [f"two partitions are called `{name}`" for name in sorted({name for name in names if names.count(name) > 1})]
    if has_gpt(layout.table):
        reasons += [f"the name `{name}` is longer than 36 characters" for name in names if len(name.encode("utf-16-le")) > 72]
    if layout.table == "mbr" and len(names) > MOST:
        reasons.append(f'a classic table holds {MOST} partitions, and there are {len(names)}; use `table = "gpt"`')
    if layout.table == "hybrid" and not 0 < len(layout.mbr) - 1 < MOST:
        reasons.append(f"a hybrid disk shows one to {MOST - 1} partitions in its classic table: mark them `in-mbr = true`")
    if layout.table == "none" and len(names) > 1:
        reasons.append("a disk without a table holds one partition")
    if end > layout.size:
        reasons.append(f"the content needs {shown_size(end)}, and the disk has {shown_size(layout.size)}")
    for part in layout.partitions:
        if part.start % SECTOR or part.size % SECTOR:
            reasons.append(f"partition `{part.name}` does not begin and end on a sector of {SECTOR} bytes")
    for area, other in overlaps(layout.areas):
        reasons.append(f"`{area.name}` (from {area.start:#x}) overlaps `{other.name}` (to {other.end:#x})")
    return reasons


def drawn_map(layout: DiskLayout) -> str:
    """A map of the disk: a line for each area with its place and size, and a bar that shows where it lies."""
    return drawn(layout.areas, 0, max([layout.size, *(area.end for area in layout.areas)]))
