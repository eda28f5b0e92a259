"""Where things lie on a disk: partitions one after the other, aligned, with identifiers that are the same each time."""

from __future__ import annotations

import hashlib
import uuid
from collections.abc import Sequence
from dataclasses import dataclass

from yarrik.disk.gpt import BOOTABLE, LINUX_DATA, SECTOR, TABLE_SECTORS, PartitionTable, TableEntry
from yarrik.model import Disk, Partition
from yarrik.units import round_up

ALIGNMENT = 1 << 20


@dataclass(frozen=True)
class PlacedPartition:
    """A partition with its place: `start` and `size` in bytes."""

    definition: Partition
    guid: uuid.UUID
    start: int
    size: int

    @property
    def name(self) -> str:
        return self.definition.name


@dataclass(frozen=True)
class DiskLayout:
    """A whole disk: `size` in bytes."""

    name: str
    guid: uuid.UUID
    size: int
    partitions: tuple[PlacedPartition, ...]

    @property
    def table(self) -> PartitionTable:
        return PartitionTable(
            self.guid,
            self.size // SECTOR,
            tuple(
                TableEntry(
                    LINUX_DATA,
                    part.guid,
                    part.start // SECTOR,
                    (part.start + part.size) // SECTOR - 1,
                    BOOTABLE if part.definition.holds == "root" else 0,
                    part.name,
                )
                for part in self.partitions
            ),
        )


def derived_guid(*words: str) -> uuid.UUID:
    """An identifier made from names: the same for the same names, everywhere (RFC 9562, version 8)."""
    digest = bytearray(hashlib.sha256("\0".join(("yarrik", *words)).encode()).digest()[:16])
    digest[6] = digest[6] & 0x0F | 0x80
    digest[8] = digest[8] & 0x3F | 0x80
    return uuid.UUID(bytes=bytes(digest))


def partition_guid(product: str, disk: str, partition: str) -> uuid.UUID:
    return derived_guid("partition", product, disk, partition)


def root_partition(product: str, disks: Sequence[Disk]) -> str | None:
    """`PARTUUID=…` of the partition that holds the root filesystem, as the kernel's `root=` takes it; None without one."""
    for disk in disks:
        for partition in disk.partition:
            if partition.holds == "root":
                return f"PARTUUID={partition_guid(product, disk.name, partition.name)}"
    return None


def lay_out_disk(product: str, disk: Disk, sizes: Sequence[int]) -> DiskLayout:
    """Places the disk's partitions, whose sizes in bytes are given in the same order."""
    placed: list[PlacedPartition] = []
    position = ALIGNMENT
    for partition, size in zip(disk.partition, sizes, strict=True):
        size = round_up(size, ALIGNMENT)
        placed.append(PlacedPartition(partition, partition_guid(product, disk.name, partition.name), position, size))
        position += size
    whole = round_up(position + TABLE_SECTORS * SECTOR, ALIGNMENT)
    return DiskLayout(disk.name, derived_guid("disk", product, disk.name), whole, tuple(placed))
