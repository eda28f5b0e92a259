"""Opens any image file: finds its partition table and what each partition holds."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

import msgspec
from msgspec.structs import replace

from yarrik.disk.compressing import compression_of, expanded
from yarrik.disk.flashing_form import expand_sparse, is_sparse
from yarrik.disk.forms import FORMS
from yarrik.disk.found import Found, Reader
from yarrik.disk.gpt import BOOTABLE, SECTOR, TableDamaged, read_table
from yarrik.disk.mbr import PROTECTIVE, MbrDamaged, read_mbr
from yarrik.errors import Damaged


class FoundPartition(msgspec.Struct, frozen=True):
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

    @property
    def title(self) -> str:
        """What a sentence calls it: `partition root`, or `partition 2` where it has no name."""
        return self.name if self.name.startswith("partition ") else f"partition {self.name}"


class OpenedImage(msgspec.Struct, frozen=True):
    """`table` is `gpt`, `mbr`, `hybrid` or `none`; `problem` says what is wrong with a table that is there. `wrapped` is what
    it had to be unwrapped from: a compression, or `sparse`."""

    table: str
    size: int
    partitions: tuple[FoundPartition, ...]
    problem: str = ""
    wrapped: str = ""
    backup_problem: str = ""

    def named(self, names: Mapping[int, str]) -> OpenedImage:
        """The image with these names of partitions, by number, where its table has none."""
        if self.table != "mbr":
            return self
        parts = tuple(replace(part, name=names.get(part.number, part.name)) for part in self.partitions)
        return replace(self, partitions=parts)


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
            form = "hybrid" if _shows_more(head) else "gpt"
            return OpenedImage(form, size, tuple(parts), backup_problem=table.backup_problem)
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


def _shows_more(sector: bytes) -> bool:
    """Whether the classic table before a GPT has more than the entry that protects it."""
    return any(sector[446 + 16 * index + 4] not in (0, PROTECTIVE) for index in range(4))


def _partition(
    file: BinaryIO, name: str, number: int, start: int, size: int, identifier: str, kind: str, bootable: bool
) -> FoundPartition:
    reader, problem = reader_at(file, start, size)
    return FoundPartition(name, number, start, size, identifier, kind, bootable, reader, problem)


def reader_at(file: BinaryIO, start: int, size: int) -> tuple[Reader | None, str]:
    """The reader for what lies there, or a sentence on why there is none."""
    file.seek(start)
    head = file.read(min(4096, size))
    form = next((one for one in FORMS.values() if one.begins(head)), None)
    if form is None:
        return None, "nothing that is known here" if head.strip(b"\0") else "empty, or a filesystem that is not known here"
    try:
        return form.reader(file, start, size), ""
    except Damaged as error:
        return None, f"damaged: {error}"


@contextmanager
def opened_bytes(path: Path) -> Iterator[tuple[BinaryIO, OpenedImage]]:
    """An image file, or a compressed or sparse one, which is expanded first: its bytes, and what they hold. Raises OSError,
    and ValueError for damage."""
    with path.open("rb") as file:
        size = file.seek(0, 2)
        file.seek(0)
        head = file.read(512)
        form = compression_of(head)
        if form is None and not is_sparse(head):
            yield file, open_image(file, size)
            return
        packed = expanded(file, form) if form is not None else expand_sparse(file, size)
        with packed:
            yield packed, replace(open_image(packed, packed.seek(0, 2)), wrapped=form or "sparse")


@contextmanager
def opened_image(path: Path) -> Iterator[OpenedImage]:
    """As `opened_bytes`, without the bytes."""
    with opened_bytes(path) as (_, image):
        yield image


def below(found: Found, path: str) -> bool:
    """Whether a path is `path` or lies in it."""
    return path == "/" or found.path == path or found.path.startswith(path + "/")
