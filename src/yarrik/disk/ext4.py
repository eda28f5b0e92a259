"""The ext4 filesystem, written: the kernel's documentation under Documentation/filesystems/ext4 is the specification,
and its chapters are named where they rule.

The whole layout is planned first (which inode and which blocks belong to whom), then written in disk order. Blocks
have 4096 bytes, inodes 256. Features: extents, 64bit, metadata checksums, flexible block groups, journal.
"""

from __future__ import annotations

import os
import struct
import uuid as uuids
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

import google_crc32c

from yarrik.disk import ext4_attributes
from yarrik.disk.records import Record
from yarrik.moving import move_range
from yarrik.rootfs import Node, RootTree
from yarrik.units import TooSmall, round_up, shown_size

BLOCK = 4096
INODE = 256
GROUP_BLOCKS = 8 * BLOCK
INODES_PER_BLOCK = BLOCK // INODE
DESCRIPTOR = 64
ROOT_INODE = 2
JOURNAL_INODE = 8
FIRST_INODE = 11
MAX_EXTENT = 32768
#: An extent's tail of 4 bytes leaves room for this many 12-byte entries after the header (chapter "Extent Tree").
EXTENTS_PER_BLOCK = (BLOCK - 12 - 4) // 12
DIRECTORY_TAIL = 12
DIRECTORY_ROOM = BLOCK - DIRECTORY_TAIL
FAST_LINK = 60
LOST = "/lost+found"
#: Files up to this size are read whole and written together with their neighbours, so many bytes at a time.
SMALL = 128 << 10
GATHERED = 4 << 20

COMPATIBLE = 0x4 | 0x8  # has_journal, ext_attr
INCOMPATIBLE = 0x2 | 0x40 | 0x80 | 0x200  # filetype, extents, 64bit, flex_bg
#                    sparse_super, large_file, huge_file, dir_nlink, extra_isize, metadata_csum
READ_ONLY_COMPATIBLE = 0x1 | 0x2 | 0x8 | 0x20 | 0x40 | 0x400
EXTENTS_FLAG = 0x80000
INODE_ZEROED = 0x4

_MODES = {
    "folder": 0x4000,
    "file": 0x8000,
    "link": 0xA000,
    "character": 0x2000,
    "block": 0x6000,
    "fifo": 0x1000,
    "socket": 0xC000,
}
_ENTRY_TYPES = {"file": 1, "folder": 2, "character": 3, "block": 4, "fifo": 5, "socket": 6, "link": 7}

# Chapter "Super Block".
SUPER = Record(
    1024,
    ("inodes", 0x0, "I"),
    ("blocks_lo", 0x4, "I"),
    ("reserved_lo", 0x8, "I"),
    ("free_blocks_lo", 0xC, "I"),
    ("free_inodes", 0x10, "I"),
    ("first_data_block", 0x14, "I"),
    ("log_block_size", 0x18, "I"),
    ("log_cluster_size", 0x1C, "I"),
    ("blocks_per_group", 0x20, "I"),
    ("clusters_per_group", 0x24, "I"),
    ("inodes_per_group", 0x28, "I"),
    ("mount_time", 0x2C, "I"),
    ("write_time", 0x30, "I"),
    ("mount_count", 0x34, "H"),
    ("max_mount_count", 0x36, "H"),
    ("magic", 0x38, "H"),
    ("state", 0x3A, "H"),
    ("errors", 0x3C, "H"),
    ("last_check", 0x40, "I"),
    ("creator_os", 0x48, "I"),
    ("revision", 0x4C, "I"),
    ("first_inode", 0x54, "I"),
    ("inode_size", 0x58, "H"),
    ("block_group", 0x5A, "H"),
    ("compatible", 0x5C, "I"),
    ("incompatible", 0x60, "I"),
    ("read_only_compatible", 0x64, "I"),
    ("uuid", 0x68, "16s"),
    ("label", 0x78, "16s"),
    ("journal_inode", 0xE0, "I"),
    ("hash_seed", 0xEC, "16s"),
    ("default_hash", 0xFC, "B"),
    ("journal_backup_type", 0xFD, "B"),
    ("descriptor_size", 0xFE, "H"),
    ("default_mount_options", 0x100, "I"),
    ("made_at", 0x108, "I"),
    ("journal_backup", 0x10C, "17I"),
    ("blocks_hi", 0x150, "I"),
    ("free_blocks_hi", 0x158, "I"),
    ("min_extra", 0x15C, "H"),
    ("want_extra", 0x15E, "H"),
    ("flags", 0x160, "I"),
    ("log_groups_per_flex", 0x174, "B"),
    ("checksum_type", 0x175, "B"),
    ("checksum", 0x3FC, "I"),
)

# Chapter "Block Group Descriptors".
GROUP = Record(
    DESCRIPTOR,
    ("block_bitmap_lo", 0x0, "I"),
    ("inode_bitmap_lo", 0x4, "I"),
    ("inode_table_lo", 0x8, "I"),
    ("free_blocks_lo", 0xC, "H"),
    ("free_inodes_lo", 0xE, "H"),
    ("folders_lo", 0x10, "H"),
    ("flags", 0x12, "H"),
    ("block_bitmap_checksum_lo", 0x18, "H"),
    ("inode_bitmap_checksum_lo", 0x1A, "H"),
    ("unused_inodes_lo", 0x1C, "H"),
    ("checksum", 0x1E, "H"),
    ("block_bitmap_hi", 0x20, "I"),
    ("inode_bitmap_hi", 0x24, "I"),
    ("inode_table_hi", 0x28, "I"),
    ("block_bitmap_checksum_hi", 0x38, "H"),
    ("inode_bitmap_checksum_hi", 0x3A, "H"),
)

# Chapter "Index Nodes".
INODE_RECORD = Record(
    INODE,
    ("mode", 0x0, "H"),
    ("uid_lo", 0x2, "H"),
    ("size_lo", 0x4, "I"),
    ("access_time", 0x8, "I"),
    ("change_time", 0xC, "I"),
    ("content_time", 0x10, "I"),
    ("gid_lo", 0x18, "H"),
    ("links", 0x1A, "H"),
    ("sectors_lo", 0x1C, "I"),
    ("flags", 0x20, "I"),
    ("block", 0x28, "60s"),
    ("generation", 0x64, "I"),
    ("attribute_block_lo", 0x68, "I"),
    ("size_hi", 0x6C, "I"),
    ("sectors_hi", 0x74, "H"),
    ("attribute_block_hi", 0x76, "H"),
    ("uid_hi", 0x78, "H"),
    ("gid_hi", 0x7A, "H"),
    ("checksum_lo", 0x7C, "H"),
    ("extra_size", 0x80, "H"),
    ("checksum_hi", 0x82, "H"),
    ("change_time_more", 0x84, "I"),
    ("content_time_more", 0x88, "I"),
    ("access_time_more", 0x8C, "I"),
    ("made_at", 0x90, "I"),
    ("made_at_more", 0x94, "I"),
)
EXTRA_SIZE = 32
_PACK_INODE = INODE_RECORD.packer(
    "mode", "uid_lo", "size_lo", "access_time", "change_time", "content_time", "gid_lo", "links",
    "sectors_lo", "flags", "block", "size_hi", "sectors_hi", "uid_hi", "gid_hi", "extra_size", "change_time_more",
    "content_time_more", "access_time_more", "made_at", "made_at_more",
)  # fmt: skip

# Chapter "Journal (jbd2)": all numbers are big-endian.
JOURNAL_SUPER = Record(
    1024,
    ("magic", 0x0, "I"),
    ("block_type", 0x4, "I"),
    ("header_sequence", 0x8, "I"),
    ("block_size", 0xC, "I"),
    ("length", 0x10, "I"),
    ("first", 0x14, "I"),
    ("sequence", 0x18, "I"),
    ("start", 0x1C, "I"),
    ("uuid", 0x30, "16s"),
    ("users", 0x40, "I"),
    order=">",
)

#: The extent tree of a file in one piece: header and extent.
_ONE_EXTENT = struct.Struct("<HHHHIIHHI")

Extent = tuple[int, int]  # first block, count of blocks


def checksum(seed: int, data: bytes | bytearray) -> int:
    """CRC-32C as the kernel runs it on: no inversion at either end."""
    value: int = google_crc32c.extend(seed ^ 0xFFFFFFFF, bytes(data))
    return value ^ 0xFFFFFFFF


def has_backup(group: int) -> bool:
    """Whether a group holds copies of superblock and descriptors (sparse_super: 0, 1, powers of 3, 5 and 7)."""
    if group < 2:
        return True
    for base in (3, 5, 7):
        power = base
        while power < group:
            power *= base
        if power == group:
            return True
    return False


@dataclass(frozen=True)
class Geometry:
    """Where the filesystem's own structures lie, for a number of blocks and inodes."""

    blocks: int
    inodes_per_group: int

    @property
    def groups(self) -> int:
        return -(-self.blocks // GROUP_BLOCKS)

    @property
    def inodes(self) -> int:
        return self.groups * self.inodes_per_group

    @property
    def descriptor_blocks(self) -> int:
        return -(-self.groups * DESCRIPTOR // BLOCK)

    @property
    def table_blocks(self) -> int:
        return self.inodes_per_group // INODES_PER_BLOCK

    @cached_property
    def log_flex(self) -> int:
        """Groups whose bitmaps and tables lie together, as a power of two: as many as leave their first group room."""
        log = 4
        while log and (2 + self.table_blocks) << log > GROUP_BLOCKS * 3 // 4:
            log -= 1
        return log

    def group_size(self, group: int) -> int:
        return min(GROUP_BLOCKS, self.blocks - group * GROUP_BLOCKS)

    def head(self, group: int) -> int:
        """Blocks at the group's start that superblock and descriptors take."""
        return 1 + self.descriptor_blocks if has_backup(group) else 0

    def structures(self, group: int) -> tuple[int, int, int]:
        """First blocks of the group's block bitmap, inode bitmap and inode table."""
        size = 1 << self.log_flex
        leader = group & ~(size - 1)
        members = min(size, self.groups - leader)
        place = group - leader
        start = leader * GROUP_BLOCKS + self.head(leader)
        return start + place, start + members + place, start + 2 * members + place * self.table_blocks

    def taken(self, group: int) -> list[Extent]:
        """Runs of the group's blocks that hold the filesystem's own structures, in order."""
        runs: list[Extent] = []
        start = group * GROUP_BLOCKS
        head = self.head(group)
        size = 1 << self.log_flex
        if group & (size - 1) == 0:
            members = min(size, self.groups - group)
            head += members * (2 + self.table_blocks)
        if head:
            runs.append((start, head))
        return runs

    def free_runs(self) -> Iterator[Extent]:
        """All other blocks, in order; runs do not cross groups."""
        for group in range(self.groups):
            start = group * GROUP_BLOCKS
            taken = self.taken(group)
            used = taken[0][1] if taken else 0
            length = self.group_size(group) - used
            if length > 0:
                yield start + used, length

    @cached_property
    def free(self) -> int:
        return sum(length for _, length in self.free_runs())

    def sound(self) -> bool:
        """Whether the last group has room for what stands at its start, and something to spare."""
        last = self.groups - 1
        taken = self.taken(last)
        return self.group_size(last) >= (taken[0][1] if taken else 0) + (16 if last else 0)


@dataclass(frozen=True)
class Item:
    """An inode with its content's extents. `node` is None for the journal and for lost+found."""

    number: int
    node: Node | None
    kind: str
    mode: int
    size: int
    links: int
    extents: tuple[Extent, ...]
    tree_blocks: tuple[int, ...] = ()
    children: tuple[tuple[bytes, int, str], ...] = ()
    parent: int = ROOT_INODE
    attribute_block: int = 0


@dataclass(frozen=True)
class Ext4Plan:
    """A filesystem ready to be written."""

    geometry: Geometry
    uuid: uuids.UUID
    hash_seed: uuids.UUID
    label: str
    clock: int
    items: tuple[Item, ...]
    used: tuple[Extent, ...]

    @property
    def size(self) -> int:
        return self.geometry.blocks * BLOCK


def plan_ext4(
    tree: RootTree,
    *,
    size: int | None,
    spare_percent: int = 0,
    uuid: uuids.UUID,
    hash_seed: uuids.UUID,
    label: str = "",
    clock: int = 0,
) -> Ext4Plan:
    """Plans a filesystem of `size` bytes, or with None one that just fits, with so many percent to spare.

    Raises ValueError with a sentence when the content does not fit or cannot be held."""
    if len(label.encode()) > 16:
        raise ValueError(f"the label `{label}` is longer than 16 bytes")
    demand = _Demand.of(tree)
    if size is not None:
        geometry = _geometry(size // BLOCK, demand)
        if geometry is None or geometry.free < demand.blocks(geometry):
            least = _least(demand)
            raise TooSmall(f"the content needs {shown_size(least.blocks * BLOCK)}, and the size is {shown_size(size)}")
    else:
        geometry = _least(demand)
        if spare_percent:
            wanted = geometry.blocks + -(-geometry.blocks * spare_percent // 100)
            while (larger := _geometry(wanted, demand)) is None or larger.free < demand.blocks(larger):
                wanted += 256
            geometry = larger
    items, used = _allocate(tree, geometry, demand)
    return Ext4Plan(geometry, uuid, hash_seed, label, clock, items, used)


def journal_blocks(blocks: int) -> int:
    """Enough for the filesystem's size; 1024 blocks are the least that the kernel takes."""
    for limit, length in ((32768, 1024), (262144, 4096), (524288, 8192)):
        if blocks <= limit:
            return length
    return 16384


@dataclass(frozen=True)
class _Demand:
    """What a tree needs, whatever the geometry: inodes, and blocks for folders, files and long links."""

    inodes: int
    content: int
    folders: dict[str, list[Node]]

    @staticmethod
    def of(tree: RootTree) -> _Demand:
        folders: dict[str, list[Node]] = {node.path: [] for node in tree.nodes if node.kind == "folder"}
        content = 1  # lost+found
        for node in tree.nodes:
            if node.path != "/":
                name = os.fsencode(node.name)
                if len(name) > 255:
                    raise ValueError(f"the name {node.name[:40]!r}… is longer than 255 bytes")
                folders[node.parent].append(node)
            if node.attributes and not node.same_as:
                ext4_attributes.check(node.attributes, node.path, BLOCK)
                content += not ext4_attributes.fits_inode(node.attributes)
            if node.kind == "file" and not node.same_as:
                blocks = -(-node.size // BLOCK)
                # At the worst each group's border cuts a file once more; the tree's blocks are counted with it.
                extents = -(-blocks // GROUP_BLOCKS) * 2 + 1
                content += blocks + (-(-extents // EXTENTS_PER_BLOCK) if extents > 4 else 0)
            elif node.kind == "link" and len(os.fsencode(node.content)) >= FAST_LINK:
                if len(os.fsencode(node.content)) >= BLOCK:
                    raise ValueError(f"the link {node.path} leads to a path of over {BLOCK - 1} bytes")
                content += 1
        for path, children in folders.items():
            names = [os.fsencode(child.name) for child in children]
            content += _folder_blocks([b"lost+found", *names] if path == "/" and LOST not in folders else names)
        return _Demand(len(tree.nodes) + FIRST_INODE, content, folders)

    def blocks(self, geometry: Geometry) -> int:
        return self.content + journal_blocks(geometry.blocks)


def _geometry(blocks: int, demand: _Demand) -> Geometry | None:
    """The geometry for a number of blocks, one inode for each 16 KiB or what is needed; None if it cannot be."""
    if blocks < 64:
        return None
    groups = -(-blocks // GROUP_BLOCKS)
    wanted = max(demand.inodes + demand.inodes // 8 + 32, blocks * BLOCK // 16384)
    per_group = round_up(-(-wanted // groups), INODES_PER_BLOCK)
    if per_group > 8 * BLOCK:
        return None
    geometry = Geometry(blocks, per_group)
    if geometry.sound():
        return geometry
    shorter = (groups - 1) * GROUP_BLOCKS
    return _geometry(shorter, demand) if shorter else None


def _least(demand: _Demand) -> Geometry:
    """The smallest geometry that holds the content, in steps of 1 MiB."""
    step = (1 << 20) // BLOCK
    low, high = 0, 1

    def fits(count: int) -> Geometry | None:
        geometry = _geometry(count * step, demand)
        return geometry if geometry is not None and geometry.free >= demand.blocks(geometry) else None

    while fits(high) is None:
        low, high = high, high * 2
        if high * step > 1 << 40:
            raise ValueError("the content is larger than this writer can hold")
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if fits(middle) is not None else (middle, high)
    geometry = fits(high)
    assert geometry is not None
    return geometry


class _Allocator:
    """Hands out blocks from the free runs, first to last."""

    def __init__(self, geometry: Geometry) -> None:
        self._runs = geometry.free_runs()
        self._at, self._left = next(self._runs, (0, 0))
        self.used: list[Extent] = []

    def take(self, count: int) -> tuple[Extent, ...]:
        extents: list[Extent] = []
        while count:
            if not self._left:
                self._at, self._left = next(self._runs)
            length = min(count, self._left, MAX_EXTENT)
            if extents and extents[-1][0] + extents[-1][1] == self._at and extents[-1][1] + length <= MAX_EXTENT:
                extents[-1] = (extents[-1][0], extents[-1][1] + length)
            else:
                extents.append((self._at, length))
            self.used.append((self._at, length))
            self._at += length
            self._left -= length
            count -= length
        return tuple(extents)

    def tree_blocks(self, extents: tuple[Extent, ...]) -> tuple[int, ...]:
        if len(extents) <= 4:
            return ()
        return tuple(self.take(1)[0][0] for _ in range(-(-len(extents) // EXTENTS_PER_BLOCK)))


def _allocate(tree: RootTree, geometry: Geometry, demand: _Demand) -> tuple[tuple[Item, ...], tuple[Extent, ...]]:
    allocator = _Allocator(geometry)
    numbers: dict[str, int] = {"/": ROOT_INODE}
    names: dict[str, int] = {}
    following = FIRST_INODE + 1
    for node in tree.nodes:
        names[node.same_as or node.path] = names.get(node.same_as or node.path, 0) + 1
        if node.path != "/" and not node.same_as:
            numbers[node.path] = following
            following += 1
    for node in tree.nodes:
        if node.same_as:
            numbers[node.path] = numbers[node.same_as]
    items: list[Item] = []
    length = journal_blocks(geometry.blocks)
    extents = allocator.take(length)
    items.append(Item(JOURNAL_INODE, None, "file", 0o600, length * BLOCK, 1, extents, allocator.tree_blocks(extents)))
    own_lost = LOST not in demand.folders  # a folder that was a whole filesystem once brings its own
    if own_lost:
        items.append(Item(FIRST_INODE, None, "folder", 0o700, BLOCK, 2, allocator.take(1)))
    for node in tree.nodes:
        number = numbers[node.path]
        if node.kind == "folder":
            children = [(os.fsencode(child.name), numbers[child.path], child.kind) for child in demand.folders[node.path]]
            if node.path == "/" and own_lost:
                children.insert(0, (b"lost+found", FIRST_INODE, "folder"))
            count = _folder_blocks([name for name, _, _ in children])
            extents = allocator.take(count)
            links = 2 + sum(kind == "folder" for _, _, kind in children)
            items.append(
                Item(number, node, "folder", node.mode, count * BLOCK, links if links < 65000 else 1, extents,
                     allocator.tree_blocks(extents), tuple(children), numbers[node.parent])
            )  # fmt: skip
    for node in tree.nodes:
        number, links = numbers[node.path], names.get(node.path, 1)
        if node.same_as:
            continue
        if node.kind == "file":
            extents = allocator.take(-(-node.size // BLOCK))
            items.append(Item(number, node, "file", node.mode, node.size, links, extents, allocator.tree_blocks(extents)))
        elif node.kind != "folder":
            target = os.fsencode(node.content) if node.kind == "link" else b""
            extents = allocator.take(1) if len(target) >= FAST_LINK else ()
            items.append(Item(number, node, node.kind, node.mode, len(target), links, extents))
    for index, item in enumerate(items):
        if item.node is not None and item.node.attributes and not ext4_attributes.fits_inode(item.node.attributes):
            items[index] = replace(item, attribute_block=allocator.take(1)[0][0])
    return tuple(sorted(items, key=lambda item: item.number)), tuple(allocator.used)


def _entry_size(name: bytes) -> int:
    return 8 + round_up(len(name), 4)


def _folder_blocks(names: list[bytes]) -> int:
    """Blocks that a folder with these names takes, `.` and `..` first, entries never across a border."""
    blocks, room = 1, DIRECTORY_ROOM - 24
    for name in names:
        size = _entry_size(name)
        if size > room:
            blocks, room = blocks + 1, DIRECTORY_ROOM
        room -= size
    return blocks


# Writing


def write_ext4(plan: Ext4Plan, handle: int, offset: int, content: Callable[[str], str | Path]) -> None:
    """Writes the filesystem into an open file of zeros, `offset` bytes from its start.

    `content` tells where the file with a digest lies. Zeros are not written, so they stay holes."""
    _Writer(plan, handle, offset, content).run()


@dataclass
class _Writer:
    plan: Ext4Plan
    handle: int
    offset: int
    content: Callable[[str], str | Path]
    _gathered: bytearray = field(default_factory=bytearray)
    _gathered_start: int = 0
    _gathered_end: int = -1

    @cached_property
    def seed(self) -> int:
        return checksum(0xFFFFFFFF, self.plan.uuid.bytes)

    def run(self) -> None:
        for item in self.plan.items:
            self._content(item)
        self._flush()
        self._inode_tables()
        self._bitmaps_and_descriptors()

    def _put(self, block: int, data: bytes | bytearray, skip: int = 0) -> None:
        os.pwrite(self.handle, data, self.offset + block * BLOCK + skip)

    def inode_seed(self, number: int) -> int:
        return checksum(self.seed, struct.pack("<II", number, 0))  # generation 0

    # Content: folders, links, the journal, files

    def _content(self, item: Item) -> None:
        if item.number == JOURNAL_INODE:
            self._put(item.extents[0][0], self._journal_super(item))
        elif item.kind == "folder":
            blocks = self._folder(item)
            for (start, count), at in _with_positions(item.extents):
                self._put(start, b"".join(blocks[at : at + count]))
        elif item.kind == "link" and item.extents and item.node is not None:
            self._put(item.extents[0][0], os.fsencode(item.node.content))
        elif item.kind == "file" and item.node is not None and item.size:
            self._file(item, item.node)
        for block, data in zip(item.tree_blocks, self._tree(item), strict=True):
            self._put(block, data)
        if item.attribute_block and item.node is not None:
            block = item.attribute_block
            data = ext4_attributes.block(item.node.attributes, block, BLOCK, lambda data: checksum(self.seed, data))
            self._put(block, data)

    def _file(self, item: Item, node: Node) -> None:
        source = os.open(self.content(node.content), os.O_RDONLY)
        try:
            if item.size <= SMALL and len(item.extents) == 1:
                data = os.read(source, item.size)
                if len(data) < item.size:
                    raise ValueError(f"{node.path} is shorter than it was when it was listed")
                self._gather(item.extents[0][0], data)
                return
            for (start, count), at in _with_positions(item.extents):
                length = min(count * BLOCK, item.size - at * BLOCK)
                move_range(source, at * BLOCK, self.handle, self.offset + start * BLOCK, length)
        finally:
            os.close(source)

    def _gather(self, block: int, data: bytes) -> None:
        """Small files lie next to each other: they are written many at a time."""
        if block != self._gathered_end or len(self._gathered) > GATHERED:
            self._flush()
            self._gathered_start = block
        self._gathered += data
        self._gathered += bytes(-len(data) % BLOCK)
        self._gathered_end = block + -(-len(data) // BLOCK)

    def _flush(self) -> None:
        if self._gathered:
            self._put(self._gathered_start, self._gathered)
            self._gathered = bytearray()

    def _journal_super(self, item: Item) -> bytes:
        return bytes(
            JOURNAL_SUPER.pack(
                magic=0xC03B3998,
                block_type=4,
                block_size=BLOCK,
                length=item.size // BLOCK,
                first=1,
                sequence=1,
                uuid=self.plan.uuid.bytes,
                users=1,
            )
        )

    def _folder(self, item: Item) -> list[bytes]:
        """Chapter "Directory Entries": linear folders, each block closed by a checksum that looks like an unused entry."""
        children = [(b".", item.number, "folder"), (b"..", item.parent, "folder"), *item.children]
        seed = self.inode_seed(item.number)
        blocks: list[bytes] = []
        block = bytearray()
        last = 0
        for name, number, kind in children:
            size = _entry_size(name)
            if len(block) + size > DIRECTORY_ROOM:
                blocks.append(self._closed(block, last, seed))
                block = bytearray()
            last = len(block)
            block += struct.pack("<IHBB", number, size, len(name), _ENTRY_TYPES[kind]) + name.ljust(size - 8, b"\0")
        blocks.append(self._closed(block, last, seed))
        return blocks

    @staticmethod
    def _closed(block: bytearray, last: int, seed: int) -> bytes:
        struct.pack_into("<H", block, last + 4, DIRECTORY_ROOM - last)
        block += bytes(DIRECTORY_ROOM - len(block))
        return bytes(block + struct.pack("<IHBBI", 0, DIRECTORY_TAIL, 0, 0xDE, checksum(seed, block)))

    def _tree(self, item: Item) -> list[bytes]:
        """Leaves of the extent tree that do not fit into the inode (chapter "Extent Tree")."""
        if not item.tree_blocks:
            return []
        seed = self.inode_seed(item.number)
        leaves: list[bytes] = []
        positions = list(_with_positions(item.extents))
        for first in range(0, len(positions), EXTENTS_PER_BLOCK):
            part = positions[first : first + EXTENTS_PER_BLOCK]
            data = _extent_header(len(part), EXTENTS_PER_BLOCK, 0) + b"".join(_extent(at, e) for e, at in part)
            data = data.ljust(12 + EXTENTS_PER_BLOCK * 12, b"\0")
            leaves.append((data + struct.pack("<I", checksum(seed, data))).ljust(BLOCK, b"\0"))
        return leaves

    # Inodes

    def _inode_tables(self) -> None:
        geometry = self.plan.geometry
        tables: dict[int, bytearray] = {}
        for item in self.plan.items:
            group, index = divmod(item.number - 1, geometry.inodes_per_group)
            table = tables.setdefault(group, bytearray())
            table += bytes(index * INODE - len(table))
            table += self._inode(item)
        for group, table in sorted(tables.items()):
            self._put(geometry.structures(group)[2], table)

    def _inode(self, item: Item) -> bytearray:
        node = item.node
        uid, gid = (node.uid, node.gid) if node is not None else (0, 0)
        moment = self.plan.clock if node is None or node.modified is None else node.modified
        # The two low bits of the further field count eras of 2^32 seconds (chapter "Inode Timestamps").
        clock, more = moment & 0xFFFFFFFF, (moment - (moment + 0x80000000 & 0xFFFFFFFF) + 0x80000000) >> 32 & 3
        blocks = sum(count for _, count in item.extents) + len(item.tree_blocks) + (item.attribute_block > 0)
        sectors = blocks * BLOCK // 512
        block, flags = self._block_field(item)
        size, extra = item.size, EXTRA_SIZE
        data = bytearray(
            _PACK_INODE(
                _MODES[item.kind] | item.mode, uid & 0xFFFF, size & 0xFFFFFFFF, clock, clock, clock, gid & 0xFFFF, item.links,
                sectors & 0xFFFFFFFF, flags, block, size >> 32, sectors >> 32, uid >> 16, gid >> 16, extra, more, more, more,
                clock, more,
            )
        )  # fmt: skip
        if node is not None and node.attributes:
            if item.attribute_block:
                INODE_RECORD.put(data, "attribute_block_lo", item.attribute_block & 0xFFFFFFFF)
                INODE_RECORD.put(data, "attribute_block_hi", item.attribute_block >> 32)
            else:
                data[128 + EXTRA_SIZE :] = ext4_attributes.inode_tail(node.attributes)
        value = checksum(self.inode_seed(item.number), data)
        data[0x7C:0x7E] = (value & 0xFFFF).to_bytes(2, "little")
        data[0x82:0x84] = (value >> 16).to_bytes(2, "little")
        return data

    def _block_field(self, item: Item) -> tuple[bytes, int]:
        """The inode's 60 bytes for extents, a short link's destination or a device number, and the flag for them."""
        if item.kind in ("character", "block") and item.node is not None:
            major, minor = item.node.device
            if major < 256 and minor < 256:
                return struct.pack("<I", major << 8 | minor), 0
            return struct.pack("<II", 0, minor & 0xFF | major << 8 | (minor & ~0xFF) << 12), 0
        if item.kind == "link" and not item.extents and item.node is not None:
            return os.fsencode(item.node.content), 0
        if item.kind in ("fifo", "socket"):
            return b"", 0
        if len(item.extents) == 1:
            start, count = item.extents[0]
            return _ONE_EXTENT.pack(0xF30A, 1, 4, 0, 0, 0, count, start >> 32, start & 0xFFFFFFFF), EXTENTS_FLAG
        if not item.tree_blocks:
            extents = b"".join(_extent(at, extent) for extent, at in _with_positions(item.extents))
            return _extent_header(len(item.extents), 4, 0) + extents, EXTENTS_FLAG
        positions = [at for _, at in _with_positions(item.extents)]
        index = b"".join(
            struct.pack("<IIHH", positions[number * EXTENTS_PER_BLOCK], block & 0xFFFFFFFF, block >> 32, 0)
            for number, block in enumerate(item.tree_blocks)
        )
        return _extent_header(len(item.tree_blocks), 4, 1) + index, EXTENTS_FLAG

    # Bitmaps, descriptors, superblocks

    def _bitmaps_and_descriptors(self) -> None:
        geometry = self.plan.geometry
        used_blocks = self._blocks_by_group()
        folders = [0] * geometry.groups
        highest = [0] * geometry.groups
        taken = [0] * geometry.groups
        inode_maps = [bytearray(BLOCK) for _ in range(geometry.groups)]
        reserved = range(1, FIRST_INODE)
        for number in sorted({*reserved, *(item.number for item in self.plan.items)}):
            group, index = divmod(number - 1, geometry.inodes_per_group)
            inode_maps[group][index >> 3] |= 1 << (index & 7)
            taken[group] += 1
            highest[group] = index + 1
        for item in self.plan.items:
            if item.kind == "folder":
                folders[(item.number - 1) // geometry.inodes_per_group] += 1
        descriptors = bytearray()
        free_blocks = 0
        for group in range(geometry.groups):
            block_map, used = used_blocks[group]
            inode_map = inode_maps[group]
            _fill(inode_map, geometry.inodes_per_group, 8 * BLOCK)
            at_blocks, at_inodes, at_table = geometry.structures(group)
            self._put(at_blocks, block_map)
            self._put(at_inodes, inode_map)
            free = geometry.group_size(group) - used
            free_blocks += free
            block_sum = checksum(self.seed, block_map)
            inode_sum = checksum(self.seed, inode_map[: geometry.inodes_per_group // 8])
            descriptor = GROUP.pack(
                block_bitmap_lo=at_blocks & 0xFFFFFFFF,
                block_bitmap_hi=at_blocks >> 32,
                inode_bitmap_lo=at_inodes & 0xFFFFFFFF,
                inode_bitmap_hi=at_inodes >> 32,
                inode_table_lo=at_table & 0xFFFFFFFF,
                inode_table_hi=at_table >> 32,
                free_blocks_lo=free,
                free_inodes_lo=geometry.inodes_per_group - taken[group],
                folders_lo=folders[group],
                flags=INODE_ZEROED,
                unused_inodes_lo=geometry.inodes_per_group - highest[group],
                block_bitmap_checksum_lo=block_sum & 0xFFFF,
                block_bitmap_checksum_hi=block_sum >> 16,
                inode_bitmap_checksum_lo=inode_sum & 0xFFFF,
                inode_bitmap_checksum_hi=inode_sum >> 16,
            )
            own = checksum(checksum(self.seed, struct.pack("<I", group)), descriptor)
            GROUP.put(descriptor, "checksum", own & 0xFFFF)
            descriptors += descriptor
        free_inodes = geometry.inodes - sum(taken)
        for group in range(geometry.groups):
            if has_backup(group):
                start = group * GROUP_BLOCKS
                self._put(start, self._super(group, free_blocks, free_inodes), 1024 if group == 0 else 0)
                self._put(start + 1, descriptors)

    def _blocks_by_group(self) -> list[tuple[bytearray, int]]:
        """Each group's bitmap of used blocks, and their number."""
        geometry = self.plan.geometry
        maps = [bytearray(BLOCK) for _ in range(geometry.groups)]
        used = [0] * geometry.groups
        for group in range(geometry.groups):
            for start, count in geometry.taken(group):
                _fill(maps[group], start - group * GROUP_BLOCKS, start - group * GROUP_BLOCKS + count)
                used[group] += count
            _fill(maps[group], geometry.group_size(group), GROUP_BLOCKS)
        for start, count in self.plan.used:
            group, first = divmod(start, GROUP_BLOCKS)
            _fill(maps[group], first, first + count)
            used[group] += count
        return list(zip(maps, used, strict=True))

    def _super(self, group: int, free_blocks: int, free_inodes: int) -> bytearray:
        plan, geometry = self.plan, self.plan.geometry
        journal = plan.items[[item.number for item in plan.items].index(JOURNAL_INODE)]
        clock = plan.clock & 0xFFFFFFFF
        data = SUPER.pack(
            inodes=geometry.inodes,
            blocks_lo=geometry.blocks & 0xFFFFFFFF,
            blocks_hi=geometry.blocks >> 32,
            free_blocks_lo=free_blocks & 0xFFFFFFFF,
            free_blocks_hi=free_blocks >> 32,
            free_inodes=free_inodes,
            log_block_size=2,
            log_cluster_size=2,
            blocks_per_group=GROUP_BLOCKS,
            clusters_per_group=GROUP_BLOCKS,
            inodes_per_group=geometry.inodes_per_group,
            write_time=clock,
            max_mount_count=0xFFFF,
            magic=0xEF53,
            state=1,
            errors=1,
            last_check=clock,
            revision=1,
            first_inode=FIRST_INODE,
            inode_size=INODE,
            block_group=group,
            compatible=COMPATIBLE,
            incompatible=INCOMPATIBLE,
            read_only_compatible=READ_ONLY_COMPATIBLE,
            uuid=plan.uuid.bytes,
            label=plan.label.encode(),
            journal_inode=JOURNAL_INODE,
            hash_seed=plan.hash_seed.bytes,
            default_hash=1,
            journal_backup_type=1,
            descriptor_size=DESCRIPTOR,
            default_mount_options=0xC,  # user_xattr, acl
            made_at=clock,
            journal_backup=(*struct.unpack("<15I", self._block_field(journal)[0].ljust(60, b"\0")),
                            journal.size >> 32, journal.size & 0xFFFFFFFF),
            min_extra=EXTRA_SIZE,
            want_extra=EXTRA_SIZE,
            flags=1,  # signed hash of folder names
            log_groups_per_flex=geometry.log_flex,
            checksum_type=1,
        )  # fmt: skip
        SUPER.put(data, "checksum", checksum(0xFFFFFFFF, data[:0x3FC]))
        return data


def _with_positions(extents: tuple[Extent, ...]) -> Iterator[tuple[Extent, int]]:
    """Each extent with the number of the file's block that it begins with."""
    position = 0
    for extent in extents:
        yield extent, position
        position += extent[1]


def _extent_header(count: int, room: int, depth: int) -> bytes:
    return struct.pack("<HHHHI", 0xF30A, count, room, depth, 0)


def _extent(at: int, extent: Extent) -> bytes:
    start, count = extent
    return struct.pack("<IHHI", at, count, start >> 32, start & 0xFFFFFFFF)


def _fill(bitmap: bytearray, first: int, end: int) -> None:
    """Sets the bits from `first` to before `end`."""
    while first < end and first & 7:
        bitmap[first >> 3] |= 1 << (first & 7)
        first += 1
    whole = (end - first) >> 3
    if whole > 0:
        bitmap[first >> 3 : (first >> 3) + whole] = b"\xff" * whole
        first += whole << 3
    while first < end:
        bitmap[first >> 3] |= 1 << (first & 7)
        first += 1
