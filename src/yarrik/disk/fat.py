"""The FAT filesystem, written and read: Microsoft's "FAT: General Overview of On-Disk Format" (version 1.03), which
ECMA-107 covers for FAT12 and FAT16. Long names are those of its section "Long Directory Entries".

The width of the table (12, 16, 32 bits) follows from the number of clusters and from nothing else. The layout is planned
whole; each file and folder lies in one run of clusters, in the order of the tree.
"""

from __future__ import annotations

import os
import re
import struct
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

from yarrik.disk.found import Found
from yarrik.disk.records import Record, number, raw_bytes
from yarrik.moving import move_range
from yarrik.rootfs import Node, RootTree
from yarrik.units import TooSmall, round_up, shown_size

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

_BOOT = Record(
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


_BOOT_16 = Record(SECTOR, *_tail(36))
_BOOT_32 = Record(
    SECTOR,
    ("table_sectors", 36, "I"),
    ("flags", 40, "H"),
    ("version", 42, "H"),
    ("root_cluster", 44, "I"),
    ("info_sector", 48, "H"),
    ("backup_sector", 50, "H"),
    *_tail(64),
)
_INFO = Record(
    SECTOR,
    ("lead", 0, "I"),
    ("structure", 484, "I"),
    ("free", 488, "I"),
    ("following", 492, "I"),
    ("trail", 508, "I"),
)
_SHORT = Record(
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
_LONG = Record(
    ENTRY,
    ("order", 0, "B"),
    ("first", 1, "10s"),
    ("attributes", 11, "B"),
    ("checksum", 13, "B"),
    ("second", 14, "12s"),
    ("third", 28, "4s"),
)
_FORBIDDEN = re.compile(r'[\x00-\x1f"*/:<>?\\|\x7f]')
_SHORT_SIGNS = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789$%'-_@~`!(){}^#&")


class FatUnfit(ValueError):
    """The tree holds what FAT cannot; `reasons` says it path by path."""

    def __init__(self, reasons: list[str]) -> None:
        self.reasons = tuple(reasons)
        more = f" and {len(reasons) - 8} more" if len(reasons) > 8 else ""
        super().__init__("FAT cannot hold " + "; ".join(reasons[:8]) + more)


class FatDamaged(ValueError):
    """The bytes are no sound FAT filesystem; the message says why."""


@dataclass(frozen=True)
class FatGeometry:
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
        return self.root_entries * ENTRY // SECTOR

    @property
    def first_data(self) -> int:
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


@dataclass(frozen=True)
class FatItem:
    """A file or folder with its run of clusters (`first` is 0 for what is empty); `entries` are a folder's bytes."""

    node: Node
    first: int
    count: int
    entries: bytes = b""


@dataclass(frozen=True)
class FatPlan:
    """A filesystem ready to be written; `root` are the root folder's entries."""

    geometry: FatGeometry
    serial: int
    label: str
    hidden: int
    root: bytes
    items: tuple[FatItem, ...]

    @property
    def size(self) -> int:
        return self.geometry.sectors * SECTOR


def plan_fat(
    tree: RootTree,
    *,
    size: int | None,
    spare_percent: int = 0,
    serial: int,
    label: str = "",
    clock: int = 0,
    hidden: int = 0,
    bits: int | None = None,
) -> FatPlan:
    """Plans a filesystem of `size` bytes, or with None one that just fits, with so many percent to spare.

    `hidden` is how many sectors stand before it on the disk; `bits` asks for a width. Raises FatUnfit for what FAT
    cannot hold, ValueError when the content is too large for the size."""
    if bits not in (None, 12, 16, 32):
        raise ValueError(f"FAT has 12, 16 or 32 bits, not {bits}")
    short_label(label)
    _Check(tree).run()
    shape = _Shape(tree, label, clock)
    if size is None:
        geometry = _fitting(shape, bits)
        if spare_percent:
            wanted = round_up(geometry.sectors + geometry.sectors * spare_percent // 100, 2)
            geometry = _sized(wanted, shape, bits) or geometry
    else:
        found = _sized(size // SECTOR, shape, bits)
        if found is None:
            least = _fitting(shape, bits).sectors * SECTOR
            raise TooSmall(f"the content needs {shown_size(least)} as FAT, and the size is {shown_size(size)}")
        geometry = found
    root, items = shape.laid_out(geometry)
    return FatPlan(geometry, serial & 0xFFFFFFFF, label, hidden, root, items)


def short_label(label: str) -> bytes:
    """A volume label's eleven bytes. Raises ValueError when it cannot be one."""
    text = label.upper()
    if len(text) > 11 or not all(sign in _SHORT_SIGNS or sign == " " for sign in text):
        raise ValueError(f"`{label}` cannot be the label of a FAT filesystem: eleven letters, digits and signs like - and _")
    return text.encode("ascii").ljust(11) if text else b"NO NAME    "


def usual_label(name: str) -> str:
    """A label made from a partition's name: what of it can stand in one."""
    return "".join(sign for sign in name.upper() if sign in _SHORT_SIGNS)[:11]


def _candidates(sectors: int, bits: int | None) -> Iterator[tuple[int, int]]:
    """Widths and cluster sizes (in sectors) to try for a size, best first."""
    if bits is None:
        bits = 32 if sectors * SECTOR >= WIDE_FROM else 0
    if bits == 32:
        usual = next(count for limit, count in ((8, 8), (16, 16), (32, 32), (1 << 20, 64)) if sectors * SECTOR <= limit << 30)
        yield from ((32, count) for count in (usual, 4, 2, 1, 8, 16, 32, 64, 128))
        return
    for width in (bits,) if bits else (16, 12):
        # A small cluster wastes the least; FAT16 needs 4085 of them, below that the width is 12.
        start = 4 if width == 16 else 1
        yield from ((width, count) for count in (start, *(c for c in (1, 2, 4, 8, 16, 32, 64, 128) if c != start)))


def _sized(sectors: int, shape: _Shape, bits: int | None) -> FatGeometry | None:
    """The first geometry of this size that holds the content."""
    for width, cluster_sectors in _candidates(sectors, bits):
        geometry = FatGeometry.of(width, sectors, cluster_sectors, shape.root_entries)
        if geometry is not None and shape.clusters(geometry.cluster, width) <= geometry.clusters:
            return geometry
    return None


def _fitting(shape: _Shape, bits: int | None) -> FatGeometry:
    """The smallest geometry, in steps of 64 KiB."""
    step = 128
    low, high = 0, 1
    while _sized(high * step, shape, bits) is None:
        low, high = high, high * 2
        if high * step > 1 << 32:
            raise ValueError("the content is larger than FAT can hold")
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if _sized(middle * step, shape, bits) is not None else (middle, high)
    geometry = _sized(high * step, shape, bits)
    assert geometry is not None
    return geometry


@dataclass
class _Check:
    """What FAT cannot hold: links, nodes, owners, names, sizes, names that differ only in case."""

    tree: RootTree

    def run(self) -> None:
        reasons: list[str] = []
        seen: dict[str, str] = {}
        for node in self.tree.nodes:
            if node.path == "/":
                continue
            name = node.name
            if node.kind not in ("file", "folder"):
                reasons.append(f"the {node.kind} {node.path}")
            elif node.same_as:
                reasons.append(f"the hard link {node.path}")
            elif node.uid or node.gid:
                reasons.append(f"the owner {node.uid}:{node.gid} of {node.path}")
            if node.size > MAX_FILE:
                reasons.append(f"{node.path}, which is larger than 4 GiB")
            if problem := name_problem(name):
                reasons.append(f"the name {node.path!r} ({problem})")
            folded = node.path.upper()
            if folded in seen:
                reasons.append(f"both {seen[folded]} and {node.path}, which differ only in case")
            seen[folded] = node.path
        if reasons:
            raise FatUnfit(reasons)


def name_problem(name: str) -> str:
    """Why a name cannot stand in a FAT folder; empty when it can."""
    if any("\ud800" <= sign <= "\udfff" for sign in name):
        return "it is no text"
    if _FORBIDDEN.search(name):
        return "it holds a sign that is forbidden"
    if name.endswith((".", " ")):
        return "it ends in a dot or blank"
    if len(name.encode("utf-16-le")) > 2 * MAX_NAME:
        return "it is longer than 255 characters"
    return ""


class _Shape:
    """A tree as folders of entries, whatever the geometry."""

    def __init__(self, tree: RootTree, label: str, clock: int) -> None:
        self.label = label
        self.stamp = _stamp(clock)
        self.children: dict[str, list[Node]] = {node.path: [] for node in tree.nodes if node.kind == "folder"}
        for node in tree.nodes:
            if node.path != "/":
                self.children[node.parent].append(node)
        self.nodes = [node for node in tree.nodes if node.path != "/"]
        self.names = {path: short_names([child.name for child in children]) for path, children in self.children.items()}

    def slots(self, path: str) -> int:
        """How many entries of 32 bytes a folder takes."""
        extra = (1 if self.label else 0) if path == "/" else 2
        return extra + sum(
            _slots(child.name, short) for child, short in zip(self.children[path], self.names[path], strict=True)
        )

    @cached_property
    def root_entries(self) -> int:
        return max(512, round_up(self.slots("/"), SECTOR // ENTRY))

    def clusters(self, cluster: int, bits: int) -> int:
        count = -(-max(1, self.slots("/")) * ENTRY // cluster) if bits == 32 else 0
        for node in self.nodes:
            size = self.slots(node.path) * ENTRY if node.kind == "folder" else node.size
            count += -(-size // cluster)
        return count

    def laid_out(self, geometry: FatGeometry) -> tuple[bytes, tuple[FatItem, ...]]:
        following = 2
        if geometry.bits == 32:
            following += -(-max(1, self.slots("/")) * ENTRY // geometry.cluster)
        runs: dict[str, tuple[int, int]] = {"/": (0, 0)}
        for node in self.nodes:
            size = self.slots(node.path) * ENTRY if node.kind == "folder" else node.size
            count = -(-size // geometry.cluster)
            runs[node.path] = (following if count else 0, count)
            following += count
        items = [
            FatItem(node, *runs[node.path], self._entries(node.path, runs) if node.kind == "folder" else b"")
            for node in self.nodes
        ]
        return self._entries("/", runs), tuple(items)

    def _entries(self, path: str, runs: dict[str, tuple[int, int]]) -> bytes:
        out = bytearray()
        if path == "/":
            if self.label:
                out += self._short(short_label(self.label), VOLUME, 0, 0)
        else:
            out += self._short(b".          ", FOLDER, runs[path][0], 0)
            parent = path.rpartition("/")[0] or "/"
            out += self._short(b"..         ", FOLDER, runs[parent][0], 0)
        for child, short in zip(self.children[path], self.names[path], strict=True):
            if _slots(child.name, short) > 1:
                out += _long_entries(child.name, short)
            kind = FOLDER if child.kind == "folder" else ARCHIVE
            size = child.size if kind == ARCHIVE else 0
            out += self._short(short, kind, runs[child.path][0], size, child.modified)
        return bytes(out)

    def _short(self, name: bytes, attributes: int, cluster: int, size: int, modified: int | None = None) -> bytearray:
        date, hour = self.stamp if modified is None else _stamp(modified)
        return _SHORT.pack(
            name=name,
            attributes=attributes,
            made_date=date,
            made_time=hour,
            access_date=date,
            write_date=date,
            write_time=hour,
            cluster_high=cluster >> 16,
            cluster_low=cluster & 0xFFFF,
            size=size,
        )


def _stamp(clock: int) -> tuple[int, int]:
    """Date and time as FAT has them, in UTC, between 1980 and 2107."""
    moment = time.gmtime(min(max(clock, 315532800), 4354819198))
    date = (moment.tm_year - 1980) << 9 | moment.tm_mon << 5 | moment.tm_mday
    return date, moment.tm_hour << 11 | moment.tm_min << 5 | moment.tm_sec // 2


def short_names(names: list[str]) -> list[bytes]:
    """The eleven bytes for each name of a folder; names that are no short names get one with a number, no two the same."""
    exact = {name: found for name in names if (found := _exact_short(name)) is not None}
    taken = set(exact.values())
    out: list[bytes] = []
    following: dict[tuple[str, str], int] = {}
    for name in names:
        if name in exact:
            out.append(exact[name])
            continue
        base, dot, extension = name.lstrip(".").rpartition(".")
        if not dot:
            base, extension = extension, ""
        stem, suffix = _short_part(base) or "_", _short_part(extension)[:3]
        count = following.get((stem[:6], suffix), 1)
        while True:
            tail = f"~{count}"
            short = (stem[: 8 - len(tail)] + tail).ljust(8).encode("ascii") + suffix.ljust(3).encode("ascii")
            count += 1
            if short not in taken:
                break
        following[(stem[:6], suffix)] = count
        taken.add(short)
        out.append(short)
    return out


def _exact_short(name: str) -> bytes | None:
    """The eleven bytes of a name that is a short name as it stands."""
    base, dot, extension = name.partition(".")
    if not 0 < len(base) <= 8 or len(extension) > 3 or (dot and not extension):
        return None
    if not all(sign in _SHORT_SIGNS for sign in base + extension):
        return None
    return base.ljust(8).encode("ascii") + extension.ljust(3).encode("ascii")


def _short_part(text: str) -> str:
    return "".join(sign if sign in _SHORT_SIGNS else "_" for sign in text.upper() if sign not in " .")


def _slots(name: str, short: bytes) -> int:
    if _exact_short(name) == short:
        return 1
    return 1 + -(-len(name.encode("utf-16-le")) // 26)


def short_checksum(short: bytes) -> int:
    """What ties long entries to their short one."""
    value = 0
    for byte in short:
        value = ((value & 1) << 7 | value >> 1) + byte & 0xFF
    return value


def _long_entries(name: str, short: bytes) -> bytes:
    """Long entries stand before the short one, the name's last part first."""
    units = name.encode("utf-16-le")
    if len(units) % 26:
        units += b"\0\0"
        units = units.ljust(round_up(len(units), 26), b"\xff")
    parts = [units[at : at + 26] for at in range(0, len(units), 26)]
    out = bytearray()
    for order in range(len(parts), 0, -1):
        part = parts[order - 1]
        out += _LONG.pack(
            order=order | (LAST_LONG if order == len(parts) else 0),
            first=part[:10],
            attributes=LONG_NAME,
            checksum=short_checksum(short),
            second=part[10:22],
            third=part[22:],
        )
    return bytes(out)


# Writing


def write_fat(plan: FatPlan, handle: int, offset: int, content: Callable[[str], Path]) -> None:
    """Writes the filesystem into an open file of zeros, `offset` bytes from its start; zeros are not written."""
    geometry = plan.geometry

    def put(at: int, data: bytes | bytearray) -> None:
        os.pwrite(handle, data, offset + at)

    boot = _boot_sector(plan)
    put(0, boot)
    if geometry.bits == 32:
        info = _INFO.pack(
            lead=0x41615252,
            structure=0x61417272,
            free=geometry.clusters - _used(plan),
            following=2 + _used(plan),
            trail=0xAA550000,
        )
        put(SECTOR, info)
        put(6 * SECTOR, boot)
        put(7 * SECTOR, info)
    table = _table(plan)
    for copy in range(2):
        put((geometry.reserved + copy * geometry.table_sectors) * SECTOR, table)
    put(geometry.place(2) if geometry.bits == 32 else (geometry.first_data - geometry.root_sectors) * SECTOR, plan.root)
    for item in plan.items:
        if item.node.kind == "folder":
            put(geometry.place(item.first), item.entries)
        elif item.count:
            with content(item.node.content).open("rb") as source:
                move_range(source.fileno(), 0, handle, offset + geometry.place(item.first), item.node.size)


def _root_clusters(plan: FatPlan) -> int:
    return -(-max(ENTRY, len(plan.root)) // plan.geometry.cluster) if plan.geometry.bits == 32 else 0


def _used(plan: FatPlan) -> int:
    return _root_clusters(plan) + sum(item.count for item in plan.items)


def _boot_sector(plan: FatPlan) -> bytes:
    geometry = plan.geometry
    wide = geometry.bits == 32
    sector = _BOOT.pack(
        jump=b"\xeb\x58\x90" if wide else b"\xeb\x3c\x90",
        maker=b"YARRIK  ",
        sector_size=SECTOR,
        cluster_sectors=geometry.cluster_sectors,
        reserved=geometry.reserved,
        tables=2,
        root_entries=geometry.root_entries,
        sectors_16=geometry.sectors if geometry.sectors < 0x10000 and not wide else 0,
        media=MEDIA,
        table_sectors_16=0 if wide else geometry.table_sectors,
        track_sectors=63,
        heads=255,
        hidden=plan.hidden,
        sectors_32=0 if geometry.sectors < 0x10000 and not wide else geometry.sectors,
        signature=0xAA55,
    )
    shape = _BOOT_32 if wide else _BOOT_16
    for name, value in (
        ("drive", 0x80),
        ("extended", 0x29),
        ("serial", plan.serial),
        ("label", short_label(plan.label)),
        ("kind", f"FAT{geometry.bits}".ljust(8).encode("ascii")),
    ):
        shape.put(sector, name, value)
    if wide:
        shape.put(sector, "table_sectors", geometry.table_sectors)
        shape.put(sector, "root_cluster", 2)
        shape.put(sector, "info_sector", 1)
        shape.put(sector, "backup_sector", 6)
    return bytes(sector)


def _table(plan: FatPlan) -> bytes:
    """The allocation table up to the last used cluster; the rest is zero, which means free."""
    bits = plan.geometry.bits
    end = (1 << min(bits, 28)) - 1
    entries = [end & ~0xFF | MEDIA, end]
    runs = [_root_clusters(plan), *(item.count for item in plan.items)]
    for count in runs:
        if count:
            first = len(entries)
            entries += range(first + 1, first + count)
            entries.append(end)
    if bits == 12:
        if len(entries) % 2:
            entries.append(0)
        pairs = zip(entries[::2], entries[1::2], strict=True)
        return b"".join((low | high << 12).to_bytes(3, "little") for low, high in pairs)
    return struct.pack(f"<{len(entries)}{'H' if bits == 16 else 'I'}", *entries)


# Reading


class FatReader:
    """Reads a filesystem that begins `offset` bytes into an open file of `size` bytes. Raises FatDamaged.

    Nothing is trusted: chains are followed no further than there are clusters, and folders no deeper than paths go."""

    MOST_ENTRIES = 1_000_000
    MOST_DEPTH = 128

    def __init__(self, disk: BinaryIO, offset: int, size: int) -> None:
        self._disk, self._offset, self._size = disk, offset, size
        sector = self._read(0, SECTOR)
        fields = _BOOT.unpack(sector)
        sector_size, cluster_sectors = number(fields, "sector_size"), number(fields, "cluster_sectors")
        if number(fields, "signature") != 0xAA55 or sector_size not in (512, 1024, 2048, 4096):
            raise FatDamaged("it does not begin with a FAT boot sector")
        if cluster_sectors == 0 or cluster_sectors & (cluster_sectors - 1) or not 1 <= number(fields, "tables") <= 4:
            raise FatDamaged("its boot sector gives no sound sizes")
        wide = _BOOT_32.unpack(sector)
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
        tail = (_BOOT_32 if self.bits == 32 else _BOOT_16).unpack(sector)
        self.serial = number(tail, "serial")
        self.label = raw_bytes(tail, "label").decode("ascii", "replace").rstrip()

    def _read(self, at: int, count: int) -> bytes:
        if at < 0 or at + count > self._size:
            raise FatDamaged("it is cut off")
        self._disk.seek(self._offset + at)
        data = self._disk.read(count)
        if len(data) < count:
            raise FatDamaged("it is cut off")
        return data

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
            for entry in self._parsed(self._folder(first), path):
                count += 1
                if count > self.MOST_ENTRIES:
                    raise FatDamaged("it holds more entries than anybody could want")
                yield entry
                if entry.kind == "folder":
                    if entry.handle in visited or entry.handle == 0:
                        raise FatDamaged(f"the folder {entry.path!r} leads back to another one")
                    visited.add(entry.handle)
                    waiting.append((entry.path, entry.handle, depth + 1))

    def _parsed(self, data: bytes, path: str) -> Iterator[Found]:
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
                part = _LONG.unpack(raw)
                if number(part, "order") & LAST_LONG:
                    long = []
                tied = number(part, "checksum")
                long.append(raw_bytes(part, "first") + raw_bytes(part, "second") + raw_bytes(part, "third"))
                continue
            fields = _SHORT.unpack(raw)
            attributes = number(fields, "attributes")
            short = raw_bytes(fields, "name")
            name = (
                _long_name(long) if long and tied == short_checksum(short) else _short_name(short, number(fields, "lower_case"))
            )
            long = []
            if attributes & VOLUME or name in (".", ".."):
                continue
            if "/" in name or "\0" in name or not name:
                raise FatDamaged(f"{path}/{name!r} is no name")
            first = (
                number(fields, "cluster_high") << 16 | number(fields, "cluster_low")
                if self.bits == 32
                else number(fields, "cluster_low")
            )
            kind = "folder" if attributes & FOLDER else "file"
            written = _moment(number(fields, "write_date"), number(fields, "write_time"))
            mode = (0o755 if kind == "folder" else 0o644) & (0o555 if attributes & READ_ONLY else 0o777)
            yield Found(f"{path}/{name}", kind, mode, 0, 0, number(fields, "size"), written, handle=first)

    def content(self, found: Found) -> Iterator[bytes]:
        left = found.size
        if left == 0:
            return
        for cluster in self.chain(found.handle):
            part = self._read(self._data_at + (cluster - 2) * self.cluster, min(self.cluster, left))
            yield part
            left -= len(part)
            if left <= 0:
                return
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
