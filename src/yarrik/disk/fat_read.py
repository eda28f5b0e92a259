"""Reads FAT12, FAT16 and FAT32 of any writer; `fat_form` says how they look."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from typing import BinaryIO

from yarrik.binary import number, raw_bytes
from yarrik.disk.fat_form import (
    BOOT,
    BOOT_16,
    BOOT_32,
    CLUSTER_LIMITS,
    ENTRY,
    FOLDER,
    LAST_LONG,
    LONG,
    LONG_NAME,
    READ_ONLY,
    SECTOR,
    SHORT,
    VOLUME,
)
from yarrik.disk.fat_names import short_checksum
from yarrik.disk.found import Found
from yarrik.disk.window import Window
from yarrik.errors import Damaged
from yarrik.units import round_up

_PART = 1 << 20


class FatDamaged(Damaged):
    """The bytes are no valid FAT filesystem; the message says why."""


class FatReader:
    """Reads a filesystem that begins `offset` bytes into an open file of `size` bytes. Raises FatDamaged.

    Nothing is trusted: chains are followed no further than there are clusters, and folders no deeper than paths go."""

    MOST_ENTRIES = 1_000_000
    MOST_DEPTH = 128

    def __init__(self, disk: BinaryIO, offset: int, size: int) -> None:
        self._size = size
        self._read = Window(disk, offset, size, FatDamaged).read
        sector = self._read(0, SECTOR)
        fields = BOOT.unpack(sector)
        sector_size, cluster_sectors = number(fields, "sector_size"), number(fields, "cluster_sectors")
        if number(fields, "signature") != 0xAA55 or sector_size not in (512, 1024, 2048, 4096):
            raise FatDamaged("it does not begin with a FAT boot sector")
        if cluster_sectors == 0 or cluster_sectors & (cluster_sectors - 1) or not 1 <= number(fields, "tables") <= 4:
            raise FatDamaged("its boot sector gives no valid sizes")
        wide = BOOT_32.unpack(sector)
        table_sectors = number(fields, "table_sectors_16") or number(wide, "table_sectors")
        sectors = number(fields, "sectors_16") or number(fields, "sectors_32")
        self.cluster = cluster_sectors * sector_size
        root_bytes = round_up(number(fields, "root_entries") * ENTRY, sector_size)
        self._table_at = number(fields, "reserved") * sector_size
        self._root_at = self._table_at + number(fields, "tables") * table_sectors * sector_size
        self._data_at = self._root_at + root_bytes
        if sectors * sector_size > size or self._data_at >= sectors * sector_size or not table_sectors:
            raise FatDamaged("its boot sector gives sizes that reach beyond it")
        self.clusters = (sectors * sector_size - self._data_at) // self.cluster
        self.bits = next(bits for bits, (_, end) in CLUSTER_LIMITS.items() if self.clusters < end or bits == 32)
        if (self.clusters + 2) * self.bits // 8 > table_sectors * sector_size:
            raise FatDamaged("its table is too small for its clusters")
        self._root_bytes = root_bytes
        self._root_cluster = number(wide, "root_cluster") if self.bits == 32 else 0
        tail = (BOOT_32 if self.bits == 32 else BOOT_16).unpack(sector)
        self.serial = number(tail, "serial")
        self.uuid = f"{self.serial >> 16:04x}-{self.serial & 0xFFFF:04x}"
        self.label = raw_bytes(tail, "label").decode("ascii", "replace").rstrip()

    def _next(self, cluster: int) -> int:
        if self.bits == 12:
            pair = int.from_bytes(self._read(self._table_at + cluster * 3 // 2, 2), "little")
            return pair >> 4 if cluster & 1 else pair & 0xFFF
        width = self.bits // 8
        value = int.from_bytes(self._read(self._table_at + cluster * width, width), "little")
        return value & 0x0FFFFFFF if self.bits == 32 else value

    def chain(self, first: int) -> Iterator[int]:
        """The clusters of a chain, from its first."""
        cluster, seen = first, 0
        bad = (1 << min(self.bits, 28)) - 9
        while cluster < bad:
            seen += 1
            if not 2 <= cluster < self.clusters + 2 or seen > self.clusters:
                raise FatDamaged("a chain of clusters leads nowhere or round in a loop")
            yield cluster
            cluster = self._next(cluster)

    def _folder(self, first: int) -> bytes:
        if first == 0 and self.bits != 32:
            return self._read(self._root_at, self._root_bytes)
        out = bytearray()
        for cluster in self.chain(first or self._root_cluster):
            out += self._read(self._data_at + (cluster - 2) * self.cluster, self.cluster)
            if len(out) > self.MOST_ENTRIES * ENTRY:
                raise FatDamaged("a folder is too long")
        return bytes(out)

    @property
    def form(self) -> str:
        return f"FAT{self.bits}"

    def walk(self) -> Iterator[Found]:
        yield Found("/", "folder", 0o755, 0, 0, 0, 0)
        waiting = [("", 0, 0)]
        visited: set[int] = set()
        count = 0
        while waiting:
            path, first, depth = waiting.pop()
            if depth > self.MOST_DEPTH:
                raise FatDamaged("folders are nested too deep")
            for _, entry in self._parsed(self._folder(first), path):
                count += 1
                if count > self.MOST_ENTRIES:
                    raise FatDamaged("it holds too many entries")
                yield entry
                if entry.kind == "folder":
                    if entry.handle in visited or entry.handle == 0:
                        raise FatDamaged(f"the folder {entry.path!r} leads back to another one")
                    visited.add(entry.handle)
                    waiting.append((entry.path, entry.handle, depth + 1))

    def _parsed(self, data: bytes, path: str) -> Iterator[tuple[int, Found]]:
        """Each name in a folder, with the position of its short entry in the folder's bytes."""
        long: list[bytes] = []
        tied = 0
        for at in range(0, len(data), ENTRY):
            raw = data[at : at + ENTRY]
            if raw[0] == 0:
                return
            if raw[0] == 0xE5:
                long = []
                continue
            if raw[11] & 0x3F == LONG_NAME:
                part = LONG.unpack(raw)
                if number(part, "order") & LAST_LONG:
                    long = []
                tied = number(part, "checksum")
                long.append(raw_bytes(part, "first") + raw_bytes(part, "second") + raw_bytes(part, "third"))
                continue
            fields = SHORT.unpack(raw)
            attributes = number(fields, "attributes")
            short = raw_bytes(fields, "name")
            name = (
                _long_name(long) if long and tied == short_checksum(short) else _short_name(short, number(fields, "lower_case"))
            )
            long = []
            if attributes & VOLUME or name in (".", ".."):
                continue
            if "/" in name or "\0" in name or not name:
                raise FatDamaged(f"{path}/{name!r} is not a name")
            first = (
                number(fields, "cluster_high") << 16 | number(fields, "cluster_low")
                if self.bits == 32
                else number(fields, "cluster_low")
            )
            kind = "folder" if attributes & FOLDER else "file"
            written = _moment(number(fields, "write_date"), number(fields, "write_time"))
            mode = (0o755 if kind == "folder" else 0o644) & (0o555 if attributes & READ_ONLY else 0o777)
            yield at, Found(f"{path}/{name}", kind, mode, 0, 0, number(fields, "size"), written, handle=first)

    def attributes(self, found: Found) -> dict[str, bytes]:
        """None: FAT has no room for extended attributes."""
        return {}

    def content(self, found: Found) -> Iterator[bytes]:
        left = found.size
        if left == 0:
            return
        # Clusters that follow each other are read together.
        first, count = 0, 0
        for cluster in itertools.chain(self.chain(found.handle), (0,)):
            if cluster == first + count and (count + 1) * self.cluster <= _PART:
                count += 1
                continue
            if count:
                part = self._read(self._data_at + (first - 2) * self.cluster, min(count * self.cluster, left))
                yield part
                left -= len(part)
                if left <= 0:
                    return
            first, count = cluster, 1
        raise FatDamaged(f"{found.path!r} ends before its size is reached")


def _long_name(parts: list[bytes]) -> str:
    units = b"".join(reversed(parts)).decode("utf-16-le", "replace")
    return units.split("\0")[0].rstrip("\uffff")


def _short_name(short: bytes, lower_case: int) -> str:
    text = short.decode("cp437")
    base, extension = text[:8].rstrip(), text[8:].rstrip()
    base = base.lower() if lower_case & 0x08 else base
    extension = extension.lower() if lower_case & 0x10 else extension
    return f"{base}.{extension}" if extension else base


def _moment(date: int, hour: int) -> int:
    """Seconds since 1970 of a FAT date and time, taken as UTC; 0 when they are none."""
    import calendar

    parts = ((date >> 9) + 1980, date >> 5 & 15, date & 31, hour >> 11, hour >> 5 & 63, (hour & 31) * 2)
    if not 1 <= parts[1] <= 12 or not 1 <= parts[2] <= 31:
        return 0
    return calendar.timegm((*parts, 0, 0, 0))
