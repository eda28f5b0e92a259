"""Opens any image file: finds its partition table and what each partition holds."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from yarrik.disk.archives import ArchiveDamaged, CpioReader
from yarrik.disk.ext4_read import Ext4Damaged, Ext4Reader
from yarrik.disk.fat import FatDamaged, FatReader
from yarrik.disk.found import Found, Reader
from yarrik.disk.gpt import BOOTABLE, SECTOR, TableDamaged, read_table
from yarrik.disk.mbr import PROTECTIVE, MbrDamaged, read_mbr


@dataclass(frozen=True)
class FoundPartition:
    """A partition, or a whole image that has no table: place and size in bytes. `problem` says why there is no reader."""

    name: str
    number: int
    start: int
    size: int
    identifier: str
    type: str
    bootable: bool
    reader: Reader | None
    problem: str = ""


@dataclass(frozen=True)
class OpenedImage:
    """`table` is `gpt`, `mbr` or `none`; `problem` says what is wrong with a table that is there."""

    table: str
    size: int
    partitions: tuple[FoundPartition, ...]
    problem: str = ""


def open_image(file: BinaryIO, size: int) -> OpenedImage:
    """What an open file of `size` bytes holds. Damage is told in the result; nothing is raised for it."""
    problem = ""
    file.seek(0)
    head = file.read(2 * SECTOR)
    if head[SECTOR : SECTOR + 8] == b"EFI PART":
        try:
            table = read_table(file, size // SECTOR)
        except TableDamaged as error:
            problem = str(error)
        else:
            parts = [
                _partition(file, entry.name, number, entry.first * SECTOR, (entry.last - entry.first + 1) * SECTOR,
                           str(entry.guid), str(entry.type_guid), bool(entry.attributes & BOOTABLE))
                for number, entry in enumerate(table.entries, 1)
            ]  # fmt: skip
            return OpenedImage("gpt", size, tuple(parts))
    whole = _partition(file, "", 0, 0, size, "", "", False)
    if whole.reader is not None and not problem:
        return OpenedImage("none", size, (whole,))
    try:
        signature, entries = read_mbr(file, size // SECTOR)
    except MbrDamaged as error:
        return OpenedImage("none", size, (whole,), problem or ("" if head[510:512] != b"\x55\xaa" else str(error)))
    if not entries or any(entry.type == PROTECTIVE for entry in entries):
        return OpenedImage("none", size, (whole,), problem)
    parts = [
        _partition(file, f"partition {entry.number}", entry.number, entry.first * SECTOR, entry.count * SECTOR,
                   f"{signature:08x}-{entry.number:02x}", f"{entry.type:#04x}", entry.bootable)
        for entry in entries
    ]  # fmt: skip
    return OpenedImage("mbr", size, tuple(parts), problem)


def _partition(
    file: BinaryIO, name: str, number: int, start: int, size: int, identifier: str, kind: str, bootable: bool
) -> FoundPartition:
    reader, problem = _reader(file, start, size)
    return FoundPartition(name, number, start, size, identifier, kind, bootable, reader, problem)


def _reader(file: BinaryIO, start: int, size: int) -> tuple[Reader | None, str]:
    """The reader for what lies there, or a sentence on why there is none."""
    file.seek(start)
    head = file.read(2048)
    if head[:6] in (b"070701", b"070702"):
        try:
            return CpioReader(file, start, size), ""
        except ArchiveDamaged as error:
            return None, f"damaged: {error}"
    if head[:4] == b"hsqs":
        return None, "squashfs, which can be written and not yet read"
    if not head.strip(b"\0"):
        return None, "empty, or a filesystem that is not known here"
    try:
        if head[1024 + 0x38 : 1024 + 0x3A] == b"\x53\xef":
            return Ext4Reader(file, start, size), ""
        if head[510:512] == b"\x55\xaa" and (head[54:57] == b"FAT" or head[82:87] == b"FAT32"):
            return FatReader(file, start, size), ""
    except (Ext4Damaged, FatDamaged) as error:
        return None, f"damaged: {error}"
    return None, "nothing that is known here"


def file_size(path: Path) -> int:
    """The size of a file or of a block device, in bytes."""
    with path.open("rb") as file:
        return file.seek(0, 2)


def below(found: Found, path: str) -> bool:
    """Whether a path is `path` or lies in it."""
    return path == "/" or found.path == path or found.path.startswith(path + "/")
