"""Values of its own for each device: rows of a table, set in the card's settings of the image as that device gets it."""

from __future__ import annotations

import csv
import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import BinaryIO, cast

import msgspec
import msgspec.structs

from yarrik.beneath import regular_file
from yarrik.boot import NoSettings, SettingRefused, change_disk
from yarrik.errors import Damaged, Place, Trouble, Unfit, YarrikError
from yarrik.flash.devices import Device
from yarrik.flash.source import Part, Source, digest_of, lay_over

#: The column that says which device a row is for.
DEVICE = "device"
_LARGEST = 16 << 20
_BLOCK = 4096


class Row(msgspec.Struct, frozen=True):
    """A row of the table: its line, and values by setting."""

    line: int
    device: str
    values: dict[str, str]


def read_values(file: Path) -> list[Row]:
    """The rows of a table (CSV, RFC 4180) whose first line names settings of the card, and perhaps `device`.

    Raises YarrikError."""
    try:
        text = regular_file(file)[:_LARGEST].decode("utf-8-sig")
        rows = list(csv.reader(text.splitlines(), strict=True))
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        why = error.strerror or str(error) if isinstance(error, OSError) else str(error)
        raise _wrong(file, None, f"cannot be read: {why}") from error
    if len(rows) < 2:
        raise _wrong(file, 1, "has no rows below its first line")
    names = [name.strip() for name in rows[0]]
    if "" in names or len(set(names)) != len(names):
        raise _wrong(file, 1, "has a column without a name, or two of one name")
    found = []
    for line, row in enumerate(rows[1:], 2):
        if not any(cell.strip() for cell in row):
            continue
        if len(row) != len(names):
            raise _wrong(file, line, f"has {len(row)} values, and the first line names {len(names)}")
        values = dict(zip(names, (cell.strip() for cell in row), strict=True))
        found.append(Row(line, values.pop(DEVICE, ""), values))
    devices = [row.device for row in found if DEVICE in names]
    if len(set(devices)) != len(devices) or "" in devices:
        raise _wrong(file, None, "has a row without a device, or two for the same one")
    return found


def rows_for(file: Path, rows: Sequence[Row], devices: Sequence[Device]) -> list[Row]:
    """The row of each device: by its serial number or name, or in their order where the table does not name devices. Raises
    YarrikError when one has none, or a row would be left in doubt."""
    if not any(row.device for row in rows):
        if len(rows) != len(devices):
            raise _wrong(file, None, f"has {len(rows)} rows for {len(devices)} devices, and does not say which is for which",
                         f"add a column `{DEVICE}` with serial numbers")  # fmt: skip
        return list(rows)
    by_device = {row.device: row for row in rows}
    found = []
    for device in devices:
        row = by_device.get(device.serial) or by_device.get(device.name)
        if row is None:
            raise _wrong(file, None, f"has no row for {device} ({device.word})",
                         f"add one, with `{device.serial or device.name}` in the column `{DEVICE}`")  # fmt: skip
        found.append(row)
    return found


def with_values(source: Source, file: Path, row: Row) -> Source:
    """The image as one device gets it. Raises YarrikError for settings that the image does not declare, or values that its
    system would not take."""
    overlay = _Overlay(source)
    try:
        changed = change_disk(cast(BinaryIO, overlay), source.size, dict(row.values))
    except SettingRefused as error:
        raise _wrong(file, row.line, f"cannot be: {error}", error.remedy) from error
    except (NoSettings, Unfit) as error:
        remedy = error.remedy if isinstance(error, NoSettings) else "shorten the values"
        raise YarrikError(
            Trouble("FLASH-VALUES", f"{source.path.name} takes no values: {error}", Place(source.path), remedy=remedy)
        ) from error
    except Damaged as error:
        raise YarrikError(
            Trouble("FLASH-VALUES", f"{source.path.name} takes no values: {error}", Place(source.path), remedy="build it again")
        ) from error
    blocks = overlay.changes
    known = {name: value if name not in changed.secret else "secret" for name, value in row.values.items()}
    return msgspec.structs.replace(source, parts=tuple(_parts_with(source, blocks)), changes=blocks, values=known)


def _parts_with(source: Source, blocks: Mapping[int, bytes]) -> list[Part]:
    """The parts with the digests of what is changed, and further ones where something is now that was nothing before."""
    found, covered = [], set()
    for part in source.parts:
        inside = [at for at in blocks if at < part.at + part.length and part.at < at + len(blocks[at])]
        if inside:
            data = bytearray(os.pread(source.file.fileno(), part.length, part.at))
            if digest_of(bytes(data)) != part.digest:
                raise YarrikError(
                    Trouble("FLASH-IMAGE", f"{source.path.name} changed since it was checked", Place(source.path),
                            remedy="build it again, or copy it again"),
                    "work",
                )  # fmt: skip
            for at in inside:
                lay_over(memoryview(data), part.at, at, blocks[at])
                covered.add(at)
            part = Part(part.at, part.length, digest_of(bytes(data)))
        found.append(part)
    reach = [(part.at, part.at + part.length) for part in found]
    for at in sorted(blocks.keys() - covered):
        if not any(start < at + len(blocks[at]) and at < end for start, end in reach):
            found.append(Part(at, len(blocks[at]), digest_of(blocks[at])))
    return sorted(found, key=lambda part: part.at)


class _Overlay:
    """An image as a file that can be written: what is written is kept apart, in blocks by their place."""

    def __init__(self, source: Source) -> None:
        self._file, self._size, self._at = source.file.fileno(), source.size, 0
        self.changes: dict[int, bytes] = {}

    def seek(self, at: int, whence: int = 0) -> int:
        self._at = at if whence == 0 else self._at + at if whence == 1 else self._size + at
        return self._at

    def tell(self) -> int:
        return self._at

    def flush(self) -> None:
        return None

    def read(self, count: int = -1) -> bytes:
        count = self._size - self._at if count < 0 else min(count, self._size - self._at)
        data = bytearray(os.pread(self._file, max(0, count), self._at))
        for at, block in self.changes.items():
            lay_over(memoryview(data), self._at, at, block)
        self._at += len(data)
        return bytes(data)

    def write(self, data: bytes) -> int:
        begin, end = self._at, self._at + len(data)
        for at in range(begin // _BLOCK * _BLOCK, end, _BLOCK):
            self._at = at
            block = bytearray(self.read(_BLOCK))
            lay_over(memoryview(block), at, begin, data)
            self.changes[at] = bytes(block)
        self._at = end
        return len(data)


def _wrong(file: Path, line: int | None, what: str, remedy: str = "correct the table") -> YarrikError:
    return YarrikError(Trouble("FLASH-VALUES", f"{file.name} {what}", Place(file, line), remedy=remedy))
