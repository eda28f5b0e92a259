"""FAT as it lies on a disk, described once for the writer and the reader: Microsoft's "FAT: General Overview of On-Disk
Format" (version 1.03), which ECMA-107 covers for FAT12 and FAT16.

The width of the table (12, 16, 32 bits) follows from the number of clusters and from nothing else.
"""

from __future__ import annotations

import struct

import msgspec

from yarrik.binary import Record

SECTOR = 512
ENTRY = 32
MEDIA = 0xF8
#: Least and one more than the most clusters for each width (section "FAT Type Determination").
CLUSTER_LIMITS = {12: (1, 4085), 16: (4085, 65525), 32: (65525, 0x0FFFFFF5)}
#: From this size on a filesystem gets 32 bits, when nobody asks for something else.
WIDE_FROM = 512 << 20
MAX_FILE = (1 << 32) - 1
READ_ONLY, VOLUME, FOLDER, ARCHIVE = 0x01, 0x08, 0x10, 0x20
LONG_NAME = 0x0F
LAST_LONG = 0x40
MAX_NAME = 255

BOOT = Record(
    SECTOR,
    ("jump", 0, "3s"),
    ("maker", 3, "8s"),
    ("sector_size", 11, "H"),
    ("cluster_sectors", 13, "B"),
    ("reserved", 14, "H"),
    ("tables", 16, "B"),
    ("root_entries", 17, "H"),
    ("sectors_16", 19, "H"),
    ("media", 21, "B"),
    ("table_sectors_16", 22, "H"),
    ("track_sectors", 24, "H"),
    ("heads", 26, "H"),
    ("hidden", 28, "I"),
    ("sectors_32", 32, "I"),
    ("signature", 510, "H"),
)
_TAIL = (("drive", "B"), ("unused", "B"), ("extended", "B"), ("serial", "I"), ("label", "11s"), ("kind", "8s"))


def _tail(start: int) -> list[tuple[str, int, str]]:
    fields = []
    for name, form in _TAIL:
        fields.append((name, start, form))
        start += struct.calcsize("<" + form)
    return fields


BOOT_16 = Record(SECTOR, *_tail(36))
BOOT_32 = Record(
    SECTOR,
    ("table_sectors", 36, "I"),
    ("flags", 40, "H"),
    ("version", 42, "H"),
    ("root_cluster", 44, "I"),
    ("info_sector", 48, "H"),
    ("backup_sector", 50, "H"),
    *_tail(64),
)
INFO = Record(
    SECTOR,
    ("lead", 0, "I"),
    ("structure", 484, "I"),
    ("free", 488, "I"),
    ("following", 492, "I"),
    ("trail", 508, "I"),
)
SHORT = Record(
    ENTRY,
    ("name", 0, "11s"),
    ("attributes", 11, "B"),
    ("lower_case", 12, "B"),
    ("made_time", 14, "H"),
    ("made_date", 16, "H"),
    ("access_date", 18, "H"),
    ("cluster_high", 20, "H"),
    ("write_time", 22, "H"),
    ("write_date", 24, "H"),
    ("cluster_low", 26, "H"),
    ("size", 28, "I"),
)
LONG = Record(
    ENTRY,
    ("order", 0, "B"),
    ("first", 1, "10s"),
    ("attributes", 11, "B"),
    ("checksum", 13, "B"),
    ("second", 14, "12s"),
    ("third", 28, "4s"),
)


class FatGeometry(msgspec.Struct, frozen=True):
    """Sizes in sectors of 512 bytes; `clusters` are numbered from 2."""

    bits: int
    sectors: int
    cluster_sectors: int
    reserved: int
    root_entries: int
    table_sectors: int
    clusters: int

    @property
    def cluster(self) -> int:
        """Bytes in a cluster."""
        return self.cluster_sectors * SECTOR

    @property
    def root_sectors(self) -> int:
        """Sectors of the root folder; 0 on FAT32, whose root is a chain of clusters."""
        return self.root_entries * ENTRY // SECTOR

    @property
    def first_data(self) -> int:
        """The sector at which cluster 2 begins."""
        return self.reserved + 2 * self.table_sectors + self.root_sectors

    def place(self, cluster: int) -> int:
        """Where a cluster begins, in bytes."""
        return (self.first_data + (cluster - 2) * self.cluster_sectors) * SECTOR

    @staticmethod
    def of(bits: int, sectors: int, cluster_sectors: int, root_entries: int) -> FatGeometry | None:
        """The geometry, or None when the number of clusters does not fit the width."""
        reserved = 32 if bits == 32 else 1
        entries = 0 if bits == 32 else root_entries
        rest = sectors - reserved - entries * ENTRY // SECTOR
        if rest <= 0:
            return None
        # Tables for all of the rest are large enough; smaller ones leave room for more clusters, until nothing changes.
        table_sectors, clusters = 0, rest // cluster_sectors
        while table_sectors != (needed := -(-(clusters + 2) * bits // (8 * SECTOR))):
            table_sectors = max(table_sectors, needed) if table_sectors else needed
            clusters = (rest - 2 * table_sectors) // cluster_sectors
            if clusters + 2 <= table_sectors * SECTOR * 8 // bits:
                break
        least, end = CLUSTER_LIMITS[bits]
        if not least <= clusters < end:
            return None
        return FatGeometry(bits, sectors, cluster_sectors, reserved, entries, table_sectors, clusters)
