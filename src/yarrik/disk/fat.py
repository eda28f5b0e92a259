"""The FAT filesystem, written; `fat_form` says how it looks.

The layout is planned whole; each file and folder lies in one run of clusters, in the order of the tree.
"""

from __future__ import annotations

import struct
import time
from collections.abc import Callable, Iterator
from functools import cached_property
from pathlib import Path

import msgspec

from yarrik.disk.fat_form import (
    ARCHIVE,
    BOOT,
    BOOT_16,
    BOOT_32,
    ENTRY,
    FOLDER,
    INFO,
    MAX_FILE,
    MEDIA,
    SECTOR,
    SHORT,
    VOLUME,
    WIDE_FROM,
    FatGeometry,
)
from yarrik.disk.fat_names import long_entries, name_problem, short_label, short_names, slots
from yarrik.errors import Unfit
from yarrik.moving import Gathering, Target
from yarrik.rootfs import Node, RootTree
from yarrik.units import NO_SPARE, Spare, TooSmall, round_up, shown_size

#: Files up to this size are gathered and written many at a time.
SMALL = 128 << 10
_PACK_SHORT = SHORT.packer(
    "name", "attributes", "made_time", "made_date", "access_date", "cluster_high", "write_time", "write_date", "cluster_low",
    "size",
)  # fmt: skip


class FatUnfit(Unfit):
    """The tree holds what FAT cannot; `reasons` says it path by path."""

    def __init__(self, reasons: list[str]) -> None:
        self.reasons = tuple(reasons)
        more = f" and {len(reasons) - 8} more" if len(reasons) > 8 else ""
        super().__init__("FAT cannot hold " + "; ".join(reasons[:8]) + more)


class FatItem(msgspec.Struct, frozen=True):
    """A file or folder with its run of clusters (`first` is 0 for what is empty); `entries` are a folder's bytes."""

    node: Node
    first: int
    count: int
    entries: bytes = b""


class FatPlan(msgspec.Struct, frozen=True):
    """A filesystem ready to be written; `root` are the root folder's entries."""

    geometry: FatGeometry
    serial: int
    label: str
    hidden: int
    root: bytes
    items: tuple[FatItem, ...]

    @property
    def size(self) -> int:
        """Bytes of the filesystem."""
        return self.geometry.sectors * SECTOR


def plan_fat(
    tree: RootTree,
    *,
    size: int | None,
    spare: Spare = NO_SPARE,
    serial: int,
    label: str = "",
    clock: int = 0,
    hidden: int = 0,
    bits: int | None = None,
) -> FatPlan:
    """Plans a filesystem of `size` bytes, or with None one that just fits, with `spare` beside the content.

    `hidden` is how many sectors stand before it on the disk; `bits` asks for a width. Raises FatUnfit for what FAT
    cannot hold, ValueError when the content is too large for the size."""
    if bits not in (None, 12, 16, 32):
        raise Unfit(f"FAT has 12, 16 or 32 bits, not {bits}")
    short_label(label)
    _Check(tree).run()
    shape = _Shape(tree, label, clock)
    if size is None:
        geometry = _fitting(shape, bits)
        if spare != NO_SPARE:
            wanted = round_up(geometry.sectors + -(-spare.of(geometry.sectors * SECTOR) // SECTOR), 2)
            geometry = _sized(wanted, shape, bits) or geometry
    else:
        found = _sized(size // SECTOR, shape, bits)
        if found is None:
            least = _fitting(shape, bits).sectors * SECTOR
            raise TooSmall(f"the content needs {shown_size(least)} as FAT, and the size is {shown_size(size)}")
        geometry = found
    root, items = shape.laid_out(geometry)
    return FatPlan(geometry, serial & 0xFFFFFFFF, label, hidden, root, items)


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
            raise Unfit("the content is larger than FAT can hold")
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if _sized(middle * step, shape, bits) is not None else (middle, high)
    geometry = _sized(high * step, shape, bits)
    assert geometry is not None
    return geometry


class _Check(msgspec.Struct):
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
        self._places = {
            path: [slots(child.name, short) for child, short in zip(children, self.names[path], strict=True)]
            for path, children in self.children.items()
        }

    def slots(self, path: str) -> int:
        """How many entries of 32 bytes a folder takes."""
        extra = (1 if self.label else 0) if path == "/" else 2
        return extra + sum(self._places[path])

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
        for child, short, places in zip(self.children[path], self.names[path], self._places[path], strict=True):
            if places > 1:
                out += long_entries(child.name, short)
            kind = FOLDER if child.kind == "folder" else ARCHIVE
            size = child.size if kind == ARCHIVE else 0
            out += self._short(short, kind, runs[child.path][0], size, child.modified)
        return bytes(out)

    def _short(self, name: bytes, attributes: int, cluster: int, size: int, modified: int | None = None) -> bytes:
        date, hour = self.stamp if modified is None else _stamp(modified)
        return _PACK_SHORT(name, attributes, hour, date, date, cluster >> 16, hour, date, cluster & 0xFFFF, size)


def _stamp(clock: int) -> tuple[int, int]:
    """Date and time as FAT has them, in UTC, between 1980 and 2107."""
    moment = time.gmtime(min(max(clock, 315532800), 4354819198))
    date = (moment.tm_year - 1980) << 9 | moment.tm_mon << 5 | moment.tm_mday
    return date, moment.tm_hour << 11 | moment.tm_min << 5 | moment.tm_sec // 2


# Writing


def write_fat(plan: FatPlan, target: Target, offset: int, content: Callable[[str], str | Path]) -> None:
    """Writes the filesystem into a target, `offset` bytes from its start.

    The tables and the folders are written to their ends, since zeros in them mean something; free clusters are not."""
    geometry = plan.geometry

    def put(at: int, data: bytes | bytearray, room: int) -> None:
        target.put(offset + at, data)
        target.zeros(offset + at + len(data), room - len(data))

    boot = _boot_sector(plan)
    target.zeros(offset, geometry.reserved * SECTOR)
    put(0, boot, SECTOR)
    if geometry.bits == 32:
        info = INFO.pack(
            lead=0x41615252,
            structure=0x61417272,
            free=geometry.clusters - _used(plan),
            following=2 + _used(plan),
            trail=0xAA550000,
        )
        put(SECTOR, info, SECTOR)
        put(6 * SECTOR, boot, SECTOR)
        put(7 * SECTOR, info, SECTOR)
    table = _table(plan)
    for copy in range(2):
        put((geometry.reserved + copy * geometry.table_sectors) * SECTOR, table, geometry.table_sectors * SECTOR)
    if geometry.bits == 32:
        put(geometry.place(2), plan.root, _root_clusters(plan) * geometry.cluster)
    else:
        root_size = geometry.root_sectors * SECTOR
        put(geometry.first_data * SECTOR - root_size, plan.root, root_size)
    gathering = Gathering(target, SMALL)
    for item in plan.items:
        node, place, room = item.node, geometry.place(item.first), item.count * geometry.cluster
        if node.kind == "folder":
            put(place, item.entries, room)
        elif room and node.size > SMALL:
            with open(content(node.content), "rb", buffering=0) as source:
                target.move(source.fileno(), 0, offset + place, node.size)
        elif room and not gathering.add(offset + place, content(node.content), node.size, room):
            raise Unfit(f"{node.path} was truncated while it was read")
    gathering.flush()
    target.finish()


def _root_clusters(plan: FatPlan) -> int:
    return -(-max(ENTRY, len(plan.root)) // plan.geometry.cluster) if plan.geometry.bits == 32 else 0


def _used(plan: FatPlan) -> int:
    return _root_clusters(plan) + sum(item.count for item in plan.items)


def _boot_sector(plan: FatPlan) -> bytes:
    geometry = plan.geometry
    wide = geometry.bits == 32
    sector = BOOT.pack(
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
    shape = BOOT_32 if wide else BOOT_16
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
