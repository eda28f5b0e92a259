"""Installer media: the image of a system that installs, with a signed whole disk in its last partition."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

import msgspec
from msgspec.structs import replace

from yarrik.disk import SECTOR, TABLE_SECTORS, encode_table, opened_bytes, read_table
from yarrik.errors import Damaged, Unfit
from yarrik.update.bundle_form import Description
from yarrik.update.images import mapped_bytes
from yarrik.update.making import Made, make_bundle

#: The partition of an installer's image that takes what is to be installed.
PAYLOAD = "payload"
_ALIGNMENT = 1 << 20
_COPIED = 4 << 20


class MadeMedium(msgspec.Struct, frozen=True):
    """What was made: bytes of the whole medium, and of what it installs."""

    size: int
    made: Made


def make_medium(
    installer: Path,
    image: Path,
    about: Description,
    sign: Callable[[bytes], bytes],
    to: BinaryIO,
    progress: Callable[[int, int], None] = lambda done, whole: None,
) -> MadeMedium:
    """Writes an installer's image with a whole disk as its payload. Raises OSError, Damaged, Unfit."""
    with opened_bytes(installer) as (file, found):
        table = read_table(file, found.size // SECTOR) if found.table == "gpt" else None
        if table is None or not table.entries or table.entries[-1].name != PAYLOAD:
            raise Unfit(f"its last partition is not called `{PAYLOAD}`, or it has no GUID partition table")
        last = table.entries[-1]
        if last.first != max(entry.first for entry in table.entries):
            raise Unfit(f"the partition `{PAYLOAD}` is not the last one on the disk")
        begin = last.first * SECTOR
        file.seek(0)
        left = begin
        while left:
            part = file.read(min(_COPIED, left))
            if not part:
                raise Damaged("it ends before its last partition does")
            to.write(part)
            left -= len(part)
    with opened_bytes(image) as (disk, found):
        if found.problem or found.table == "none":
            raise Unfit(f"{image.name} is no image of a whole disk")
        data = mapped_bytes(disk, 0, found.size)
        made = make_bundle(None, data, replace(about, whole_disk=True), sign, to, progress)
    size = -(-made.bundle // _ALIGNMENT) * _ALIGNMENT
    sectors = (begin + size) // SECTOR + TABLE_SECTORS
    # To whole blocks of 4 KiB, as disks have.
    sectors += -sectors % 8
    entries = (*table.entries[:-1], replace(last, last=(begin + size) // SECTOR - 1))
    first, end = encode_table(replace(table, sectors=sectors, entries=entries))
    to.truncate(sectors * SECTOR)
    to.seek(sectors * SECTOR - len(end))
    to.write(end)
    # What a loader keeps before the table in the first sector stays.
    to.seek(446)
    to.write(first[446:])
    to.seek(0, os.SEEK_END)
    return MadeMedium(sectors * SECTOR, made)
