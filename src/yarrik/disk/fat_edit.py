"""Changes one file of a FAT filesystem where it lies, in both copies of the table; nothing else of the disk is touched."""

from __future__ import annotations

from typing import BinaryIO

from yarrik.binary import number
from yarrik.disk.fat_form import BOOT, BOOT_32, ENTRY, INFO, SECTOR, SHORT
from yarrik.disk.fat_read import FatReader
from yarrik.disk.found import Found
from yarrik.errors import Unfit

_NO_COUNT = 0xFFFFFFFF


class FatFull(Unfit):
    """There is no room for the file's new content."""


class FatEditor(FatReader):
    """A filesystem that begins `offset` bytes into a file open for reading and writing. Raises FatDamaged.

    `changed` lists the ranges of the file (start, end) that were written."""

    def __init__(self, disk: BinaryIO, offset: int, size: int) -> None:
        super().__init__(disk, offset, size)
        self._disk, self._offset = disk, offset
        sector = self._read(0, SECTOR)
        fields = BOOT.unpack(sector)
        self._tables = number(fields, "tables")
        self._table_bytes = (self._root_at - self._table_at) // self._tables
        self._info_at = number(BOOT_32.unpack(sector), "info_sector") * SECTOR if self.bits == 32 else 0
        self.changed: list[tuple[int, int]] = []

    def replace(self, path: str, data: bytes) -> None:
        """Gives a file new content. Raises FileNotFoundError, FatFull and FatDamaged; then nothing was changed."""
        found, entry_at = self._entry(path)
        old = list(self.chain(found.handle)) if found.size else []
        need = -(-len(data) // self.cluster)
        chain = old[:need] + self._free(need - len(old))
        for index, cluster in enumerate(chain):
            part = data[index * self.cluster : (index + 1) * self.cluster]
            self._write(self._data_at + (cluster - 2) * self.cluster, part.ljust(self.cluster, b"\0"))
        last = (1 << min(self.bits, 28)) - 1
        for cluster, following in zip(chain, [*chain[1:], last], strict=False):
            self._link(cluster, following)
        for cluster in old[need:]:
            self._link(cluster, 0)
        entry = bytearray(self._read(entry_at, ENTRY))
        first = chain[0] if chain else 0
        SHORT.put(entry, "cluster_low", first & 0xFFFF)
        if self.bits == 32:
            SHORT.put(entry, "cluster_high", first >> 16)
        SHORT.put(entry, "size", len(data))
        self._write(entry_at, bytes(entry))
        self._count_free(len(old) - len(chain))

    def _entry(self, path: str) -> tuple[Found, int]:
        """A file, and where its short entry stands; capitals do not matter."""
        words = [word for word in path.split("/") if word]
        first = 0
        for depth, word in enumerate(words):
            names = self._parsed(self._folder(first), "")
            match = next((one for one in names if one[1].path[1:].lower() == word.lower()), None)
            if match is None:
                break
            at, found = match
            if depth == len(words) - 1 and found.kind == "file":
                return found, self._place(first, at)
            if found.kind != "folder":
                break
            first = found.handle
        raise FileNotFoundError(f"there is no file {path}")

    def _place(self, folder: int, at: int) -> int:
        if folder == 0 and self.bits != 32:
            return self._root_at + at
        cluster = list(self.chain(folder or self._root_cluster))[at // self.cluster]
        return self._data_at + (cluster - 2) * self.cluster + at % self.cluster

    def _free(self, count: int) -> list[int]:
        found: list[int] = []
        for cluster in range(2, self.clusters + 2):
            if len(found) >= count:
                break
            if self._next(cluster) == 0:
                found.append(cluster)
        if len(found) < count:
            raise FatFull(f"{count} more clusters of {self.cluster} bytes are needed, and {len(found)} are free")
        return found

    def _link(self, cluster: int, following: int) -> None:
        """Sets a cluster's entry in every copy of the table; what shares a byte or bits with it stays."""
        for table in range(self._tables):
            base = self._table_at + table * self._table_bytes
            if self.bits == 12:
                at = base + cluster * 3 // 2
                pair = int.from_bytes(self._read(at, 2), "little")
                pair = pair & 0x000F | following << 4 if cluster & 1 else pair & 0xF000 | following
                self._write(at, pair.to_bytes(2, "little"))
            elif self.bits == 16:
                self._write(base + cluster * 2, following.to_bytes(2, "little"))
            else:
                at = base + cluster * 4
                kept = int.from_bytes(self._read(at, 4), "little") & 0xF0000000
                self._write(at, (kept | following).to_bytes(4, "little"))

    def _count_free(self, more: int) -> None:
        """FAT32 keeps the number of free clusters in a sector of its own."""
        if self._info_at == 0 or more == 0:
            return
        info = bytearray(self._read(self._info_at, SECTOR))
        free = number(INFO.unpack(info), "free")
        if free != _NO_COUNT:
            INFO.put(info, "free", max(0, free + more))
            self._write(self._info_at, bytes(info))

    def _write(self, at: int, data: bytes) -> None:
        self._disk.seek(self._offset + at)
        self._disk.write(data)
        self._disk.flush()
        self.changed.append((self._offset + at, self._offset + at + len(data)))
