"""The layout of an ext4 or ext2 filesystem, planned whole before a byte is written: which inode and which blocks belong
to whom.

Blocks are handed out along one line: all blocks that the filesystem's own structures leave free, in the order of the
disk. So what is used is the line's beginning, and a place on it becomes a block by looking up the run it falls into.
"""

from __future__ import annotations

import os
import uuid as uuids
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from pathlib import Path

import msgspec

from yarrik.arrays import numpy
from yarrik.binary_tables import Flags, Numbers
from yarrik.disk import ext4_attributes
from yarrik.disk.ext4_files import Extent, Mapping, Run, map_file, mapping_blocks, stored_runs
from yarrik.disk.ext4_folders import Folder
from yarrik.disk.ext4_form import (
    BLOCK,
    ENTRY_TYPES,
    EXT4,
    FAST_LINK,
    FIRST_INODE,
    GROUP_BLOCKS,
    INODES_PER_BLOCK,
    MOST_NAME,
    ROOT_INODE,
    Form,
    has_backup,
)
from yarrik.errors import Unfit
from yarrik.rootfs import Node, RootTree
from yarrik.units import NO_SPARE, Spare, TooSmall, round_up, shown_size

LOST = "/lost+found"
#: Larger files are looked through for holes, smaller ones are kept as they are.
SMALL = 128 << 10
#: Threads that look through large files.
_READERS = 4
#: A file's room is counted with this much more for each, lest inodes run out before blocks do.
_BYTES_PER_INODE = 16384
#: Room to grow: to this many times the size, which is cheap as long as it is small.
GROWTH = 512
_MOST_RESERVED = BLOCK // 4


class Geometry(msgspec.Struct, frozen=True, dict=True):
    """Where the filesystem's own structures lie, for a number of blocks and inodes. `reserved_descriptors` are the blocks
    that are kept for the descriptors of groups yet to come."""

    form: Form
    blocks: int
    inodes_per_group: int
    reserved_descriptors: int

    @property
    def groups(self) -> int:
        """Block groups, the last one possibly shorter."""
        return -(-self.blocks // GROUP_BLOCKS)

    @property
    def inodes(self) -> int:
        """Inodes in all groups."""
        return self.groups * self.inodes_per_group

    @property
    def descriptor_blocks(self) -> int:
        """Blocks of one copy of the group descriptors."""
        return -(-self.groups * self.form.descriptor // BLOCK)

    @property
    def table_blocks(self) -> int:
        """Blocks of one group's inode table."""
        return self.inodes_per_group // INODES_PER_BLOCK

    @cached_property
    def log_flex(self) -> int:
        """Groups whose bitmaps and tables lie together, as a power of two: as many as leave their first group room."""
        log = 4 if self.form.extents else 0
        while log and (2 + self.table_blocks) << log > GROUP_BLOCKS * 3 // 4:
            log -= 1
        return log

    def group_size(self, group: int) -> int:
        """Blocks of a group."""
        return min(GROUP_BLOCKS, self.blocks - group * GROUP_BLOCKS)

    def head(self, group: int) -> int:
        """Blocks at the group's start that superblock and descriptors take, and those to come."""
        return 1 + self.descriptor_blocks + self.reserved_descriptors if has_backup(group) else 0

    def structures(self, group: int) -> tuple[int, int, int]:
        """First blocks of the group's block bitmap, inode bitmap and inode table."""
        size = 1 << self.log_flex
        leader = group & ~(size - 1)
        members = min(size, self.groups - leader)
        place = group - leader
        start = leader * GROUP_BLOCKS + self.head(leader)
        return start + place, start + members + place, start + 2 * members + place * self.table_blocks

    def taken(self, group: int) -> int:
        """How many blocks at the group's start hold the filesystem's own structures."""
        head = self.head(group)
        size = 1 << self.log_flex
        if group & (size - 1) == 0:
            head += min(size, self.groups - group) * (2 + self.table_blocks)
        return head

    @cached_property
    def free_runs(self) -> tuple[Extent, ...]:
        """All other blocks, in order."""
        runs: list[Extent] = []
        for group in range(self.groups):
            start = group * GROUP_BLOCKS + self.taken(group)
            length = group * GROUP_BLOCKS + self.group_size(group) - start
            if length <= 0:
                continue
            if runs and sum(runs[-1]) == start:
                runs[-1] = (runs[-1][0], runs[-1][1] + length)
            else:
                runs.append((start, length))
        return tuple(runs)

    @cached_property
    def free(self) -> int:
        """Blocks that hold neither superblocks, descriptors, bitmaps nor inode tables."""
        return sum(length for _, length in self.free_runs)

    def sound(self) -> bool:
        """Whether the last group has room for the structures at its start, and something to spare."""
        last = self.groups - 1
        return all(self.group_size(group) >= self.taken(group) + (16 if group else 0) for group in {0, last})


class Ext4Plan(msgspec.Struct, frozen=True):
    """A filesystem ready to be written.

    The columns hold one number for each of `nodes`: its inode, how many names it has, its size in bytes, its blocks with
    all that belongs to them, and the first of them. `mappings` are those files that do not lie in one piece, by their
    place in `nodes`, like `folders` and `attribute_blocks`. All free blocks before `end` are used."""

    form: Form
    geometry: Geometry
    uuid: uuids.UUID
    hash_seed: uuids.UUID
    label: str
    clock: int
    reserved: int
    full_tables: bool
    nodes: tuple[Node, ...]
    inodes: Numbers
    links: Numbers
    sizes: Numbers
    blocks: Numbers
    starts: Numbers
    mappings: dict[int, Mapping]
    folders: dict[int, Folder]
    attribute_blocks: dict[int, int]
    journal: Mapping | None
    growth_block: int
    end: int

    @property
    def size(self) -> int:
        """Bytes of the filesystem."""
        return self.geometry.blocks * BLOCK


def plan_ext4(
    tree: RootTree,
    *,
    size: int | None,
    spare: Spare = NO_SPARE,
    uuid: uuids.UUID,
    hash_seed: uuids.UUID,
    content: Callable[[str], str | Path],
    label: str = "",
    clock: int = 0,
    form: Form = EXT4,
    inodes: int | None = None,
    reserved_percent: int = 0,
    full_tables: bool = False,
) -> Ext4Plan:
    """Plans a filesystem of `size` bytes, or with None one that just fits, with `spare` beside the content.

    `content` tells where the file with a digest lies; large ones are read for stretches of zeros, which become holes.
    `inodes` is the least number of them. `reserved_percent` of the blocks are for root alone. `full_tables` has inode
    tables written to their ends, which else the kernel does after the first mount.
    Raises TooSmall, or ValueError with a sentence when the content cannot be held."""
    if len(label.encode()) > 16:
        raise Unfit(f"the label `{label}` is longer than 16 bytes")
    if not 0 <= reserved_percent <= 50:
        raise Unfit("from 0 to 50 percent of the blocks can be reserved")
    demand = _Demand(tree, form, hash_seed, content, inodes or 0)
    if inodes is not None and demand.inodes > inodes:
        raise TooSmall(f"the content needs {demand.inodes} inodes, and `inodes` gives {inodes}")
    if size is not None:
        geometry = _geometry(size // BLOCK, demand)
        if geometry is None or geometry.free < demand.blocks(geometry):
            least = _least(demand)
            raise TooSmall(f"the content needs {shown_size(least.blocks * BLOCK)}, and the size is {shown_size(size)}")
    else:
        geometry = _least(demand)
        if spare != NO_SPARE:
            wanted = geometry.blocks + -(-spare.of(geometry.blocks * BLOCK) // BLOCK)
            while (larger := _geometry(wanted, demand)) is None or larger.free < demand.blocks(larger):
                wanted += 256
            geometry = larger
    placed = _placed(demand, geometry)
    return Ext4Plan(
        form,
        geometry,
        uuid,
        hash_seed,
        label,
        clock,
        geometry.blocks * reserved_percent // 100,
        full_tables or not form.checksums,
        tuple(demand.nodes),
        demand.numbers,
        demand.links,
        demand.sizes,
        *placed,
    )


def journal_blocks(blocks: int) -> int:
    """Enough for the filesystem's size; 1024 blocks are the least that the kernel takes."""
    for limit, length in ((32768, 1024), (262144, 4096), (524288, 8192)):
        if blocks <= limit:
            return length
    return 16384


class _Demand:
    """What a tree needs, whatever the geometry: inodes, and blocks for folders, files, links and attributes."""

    def __init__(
        self, tree: RootTree, form: Form, seed: uuids.UUID, content: Callable[[str], str | Path], least_inodes: int
    ) -> None:
        self.form, self.least_inodes = form, least_inodes
        own = {} if LOST in tree.by_path else {LOST: Node(LOST, "folder", 0o700)}
        lost = tree.by_path.get(LOST) or own[LOST]
        if lost.kind != "folder":
            raise Unfit(f"{form.name} keeps {LOST} for itself as a folder, and here it is a {lost.kind}")
        first = [tree.nodes[0], lost]
        self.nodes = first + [node for node in tree.nodes[1:] if not node.same_as and node is not lost]
        self.numbers = numpy.arange(len(self.nodes), dtype=numpy.int64) + FIRST_INODE - 1
        self.numbers[0] = ROOT_INODE
        index = {node.path: at for at, node in enumerate(self.nodes)}
        self.links = numpy.ones(len(self.nodes), numpy.int64)
        self.attributed: list[int] = []
        self.runs: dict[int, list[Run]] = {}
        self.folders = self._folders([*own.values(), *tree.nodes[1:]], index, seed)
        self._sized(content)
        self.content = int(self.counts.sum()) + len(self.attributed)
        unsplit = self.counts.copy()
        unsplit[list(self.runs)] = 0
        self.content += mapping_blocks(form, unsplit, self.runs.values())

    def _folders(self, nodes: list[Node], index: dict[str, int], seed: uuids.UUID) -> dict[int, Folder]:
        names: dict[str, tuple[list[bytes], list[int], list[int]]] = {}
        for node in self.nodes:
            if node.kind == "folder":
                names[node.path] = ([], [], [])
        encode = os.fsencode
        below = numpy.zeros(len(self.nodes), numpy.int64)
        for node in nodes:
            parent, _, text = node.path.rpartition("/")
            name = text.encode() if text.isascii() else encode(text)
            if len(name) > MOST_NAME:
                raise Unfit(f"the name {text[:40]!r}… is longer than {MOST_NAME} bytes")
            inside = names[parent or "/"]
            inside[0].append(name)
            at = index[node.same_as or node.path]
            inside[1].append(at + FIRST_INODE - 1)
            inside[2].append(ENTRY_TYPES[node.kind])
            if node.same_as:
                self.links[at] += 1
            elif node.kind == "folder":
                below[index[parent or "/"]] += 1
        folders = {}
        for path, inside in names.items():
            at = index[path]
            above = self.numbers[index[path.rpartition("/")[0] or "/"]]
            folders[at] = Folder(self.form, seed, int(self.numbers[at]), int(above), *inside)
            # With too many folders inside, the number says only that it is a folder (read-only feature dir_nlink).
            self.links[at] = 2 + below[at]
            if self.links[at] >= 65000:
                if not self.form.extents:
                    raise Unfit(f"{path} holds more folders than {self.form.name} can count")
                self.links[at] = 1
        if self.links.max() > 65000:
            raise Unfit(f"the file {self.nodes[int(self.links.argmax())].path} has more names than can be counted")
        return folders

    def _sized(self, content: Callable[[str], str | Path]) -> None:
        """Sizes in bytes and blocks of all nodes, and where large files hold something."""
        sizes: list[int] = []
        counts: list[int] = []
        stored = self._stored(content)
        for at, node in enumerate(self.nodes):
            kind, size = node.kind, node.size
            blocks = 0
            if kind == "file":
                blocks = -(-size // BLOCK)
                if size > SMALL:
                    runs = next(stored)
                    if runs != [(0, blocks)]:
                        self.runs[at] = runs
                        blocks = sum(count for _, count in runs)
            elif kind == "folder":
                blocks = self.folders[at].blocks
                size = blocks * BLOCK
            elif kind == "link":
                size = len(os.fsencode(node.content))
                if size >= BLOCK:
                    raise Unfit(f"the link {node.path} leads to a path of over {BLOCK - 1} bytes")
                blocks = int(size >= FAST_LINK)
            sizes.append(size)
            counts.append(blocks)
            if node.attributes:
                ext4_attributes.check(node.attributes, node.path, BLOCK)
                if not ext4_attributes.fits_inode(node.attributes):
                    self.attributed.append(at)
        self.sizes = numpy.array(sizes, numpy.int64)
        self.counts = numpy.array(counts, numpy.int64)

    def _stored(self, content: Callable[[str], str | Path]) -> Iterator[list[Run]]:
        """Where each large file holds something, in the order of the nodes."""
        large = [node for node in self.nodes if node.kind == "file" and node.size > SMALL]
        with ThreadPoolExecutor(min(os.cpu_count() or 1, _READERS)) as pool:
            yield from pool.map(lambda node: stored_runs(content(node.content), node.size, node.path), large)

    def _pieces(self, at: int) -> list[Run]:
        return self.runs.get(at) or [(0, int(self.counts[at]))]

    def mapped(self, at: int, place: Callable[[int, int], list[Extent]], first: int) -> tuple[list[tuple[int, int, int]], int]:
        """A file's extents (its own block, the disk's block, count), from the line's place `first` on."""
        extents: list[tuple[int, int, int]] = []
        for position, count in self._pieces(at):
            for start, length in place(first, count):
                extents.append((position, start, length))
                position += length
            first += count
        return extents, first

    @property
    def inodes(self) -> int:
        return len(self.nodes) + FIRST_INODE - 1

    def blocks(self, geometry: Geometry) -> int:
        return self.content + (journal_blocks(geometry.blocks) + 2 if self.form.journal else 0) + 1


def _geometry(blocks: int, demand: _Demand) -> Geometry | None:
    """The geometry for a number of blocks; None if it cannot be.

    There is one inode for each 16 KiB, or as many as let the rest be filled with files like those that are there."""
    if blocks < 64:
        return None
    groups = -(-blocks // GROUP_BLOCKS)
    alike = min(demand.inodes * blocks // max(demand.content, demand.inodes, 1), blocks)
    wanted = max(demand.inodes + demand.inodes // 8 + 32, blocks * BLOCK // _BYTES_PER_INODE, alike, demand.least_inodes)
    per_group = round_up(-(-wanted // groups), INODES_PER_BLOCK)
    if per_group > 8 * BLOCK:
        return None
    descriptor = demand.form.descriptor
    grown = min(blocks * GROWTH, (1 << 32) - 1) // GROUP_BLOCKS + 1
    room = -(-grown * descriptor // BLOCK) - -(-groups * descriptor // BLOCK)
    geometry = Geometry(demand.form, blocks, per_group, max(1, min(room, _MOST_RESERVED)))
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
        if high * step > 1 << 32:
            raise Unfit("the content is larger than this writer can hold")
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if fits(middle) is not None else (middle, high)
    geometry = fits(high)
    assert geometry is not None
    return geometry


class _Line:
    """The free blocks as one line, handed out from its beginning."""

    def __init__(self, geometry: Geometry) -> None:
        runs = numpy.array(geometry.free_runs, numpy.int64).reshape(-1, 2)
        self._disk, lengths = runs[:, 0], runs[:, 1]
        self._ends = numpy.cumsum(lengths)
        self._begins = self._ends - lengths
        self.at = 0

    def take(self, count: int) -> int:
        first, self.at = self.at, self.at + count
        return first

    def blocks(self, places: Numbers) -> Numbers:
        """The disk's blocks at these places."""
        runs = numpy.searchsorted(self._ends, places, "right").clip(max=len(self._ends) - 1)
        found: Numbers = self._disk[runs] + places - self._begins[runs]
        return found

    def whole(self, firsts: Numbers, counts: Numbers) -> Flags:
        """Which pieces are not cut by a run's border."""
        runs, last = (numpy.searchsorted(self._ends, places, "right") for places in (firsts, firsts + counts - 1))
        same: Flags = runs == last
        return same

    def extents(self, first: int, count: int) -> list[Extent]:
        found: list[Extent] = []
        while count:
            run = int(numpy.searchsorted(self._ends, first, "right"))
            length = min(count, int(self._ends[run]) - first)
            found.append((int(self._disk[run]) + first - int(self._begins[run]), length))
            first, count = first + length, count - length
        return found

    @property
    def end(self) -> int:
        """The disk's block behind the last one that was handed out."""
        return int(self.blocks(numpy.array([self.at - 1]))[0]) + 1 if self.at else 0


def _placed(
    demand: _Demand, geometry: Geometry
) -> tuple[Numbers, Numbers, dict[int, Mapping], dict[int, Folder], dict[int, int], Mapping | None, int, int]:
    """Blocks for all: journal, folders, files and long links, then the trees and blocks that belong to them."""
    form, line = demand.form, _Line(geometry)

    def place(first: int, count: int) -> list[Extent]:
        return line.extents(first, count)

    def blocks_of(count: int) -> list[int]:
        return [start + at for start, length in place(line.take(count), count) for at in range(length)]

    journal = None
    if form.journal:
        count = journal_blocks(geometry.blocks)
        position, extents = 0, []
        for start, length in place(line.take(count), count):
            extents.append((position, start, length))
            position += length
        journal = map_file(form, extents, blocks_of)
    growth = blocks_of(1)[0]
    counts = demand.counts
    is_folder = numpy.zeros(len(counts), bool)
    is_folder[list(demand.folders)] = True
    order = numpy.concatenate([numpy.flatnonzero(is_folder), numpy.flatnonzero(~is_folder)])
    firsts = numpy.zeros(len(counts), numpy.int64)
    ends = line.at + numpy.cumsum(counts[order])
    firsts[order] = ends - counts[order]
    line.take(int(counts.sum()))
    starts = numpy.where(counts > 0, line.blocks(firsts), 0)
    blocks = counts.copy()
    most = 32768 if form.extents else 12
    simple = (counts == 0) | (line.whole(firsts, counts) & (counts <= most))
    simple[list(demand.runs)] = False
    mappings: dict[int, Mapping] = {}
    for at in numpy.flatnonzero(~simple).tolist():
        extents, _ = demand.mapped(at, place, int(firsts[at]))
        mappings[at] = map_file(form, extents, blocks_of)
        blocks[at] += len(mappings[at].blocks)
    attributes = dict(zip(demand.attributed, blocks_of(len(demand.attributed)), strict=True))
    blocks[demand.attributed] += 1
    return blocks, starts, mappings, demand.folders, attributes, journal, growth, line.end
