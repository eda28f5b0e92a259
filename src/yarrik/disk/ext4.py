"""ext4 and ext2, written from a plan in the order of the disk; `ext4_plan` says where everything goes, and `ext4_form` how
it looks."""

from __future__ import annotations

import os
import struct
from collections.abc import Callable
from functools import cached_property
from pathlib import Path

import msgspec

from yarrik.arrays import numpy
from yarrik.binary_tables import Numbers, Table, bitmap
from yarrik.disk import ext4_attributes
from yarrik.disk.ext4_files import DIRECT, POINTERS
from yarrik.disk.ext4_form import (
    BLOCK,
    EXTENT_MAGIC,
    EXTRA_SIZE,
    FAST_LINK,
    FIRST_INODE,
    GROUP,
    GROUP_BLOCKS,
    HALF_MD4,
    INODE,
    INODE_RECORD,
    INODE_ZEROED,
    JOURNAL_INODE,
    JOURNAL_SUPER,
    MODES,
    ONE_EXTENT,
    RESIZE_INODE,
    ROOT_INODE,
    SUPER,
    InodeFlag,
    checksum,
    has_backup,
)
from yarrik.disk.ext4_plan import SMALL, Ext4Plan, Geometry, plan_ext4
from yarrik.errors import Unfit
from yarrik.moving import Gathering, Target
from yarrik.rootfs import Node

__all__ = ["Ext4Plan", "Geometry", "plan_ext4", "write_ext4"]

#: Inodes that are made at once.
_TABLE_PART = 1 << 14


def write_ext4(plan: Ext4Plan, target: Target, offset: int, content: Callable[[str], str | Path]) -> None:
    """Writes the filesystem into a target, `offset` bytes from its start.

    `content` tells where the file with a digest lies. Raises ValueError when a file is not as it was listed."""
    try:
        _Writer(plan, target, offset, content).run()
    finally:
        target.finish()


class _Writer(msgspec.Struct, dict=True):
    plan: Ext4Plan
    target: Target
    offset: int
    content: Callable[[str], str | Path]

    @cached_property
    def seed(self) -> int:
        return checksum(0xFFFFFFFF, self.plan.uuid.bytes)

    def run(self) -> None:
        self._journal()
        self._room_to_grow()
        self._folders()
        self._files()
        self._maps_and_attributes()
        self._inode_tables()
        self._bitmaps_and_descriptors()

    def _put(self, block: int, data: bytes | bytearray, skip: int = 0) -> None:
        self.target.put(self.offset + block * BLOCK + skip, data)

    def _inode_seed(self, number: int) -> int:
        return checksum(self.seed, struct.pack("<II", number, 0))  # generation 0

    # Content

    def _journal(self) -> None:
        """Chapter "Journal (jbd2)". What lay on the medium before could be taken for entries: so all of it is written."""
        if self.plan.journal is None:
            return
        length = sum(count for _, _, count in self.plan.journal.pieces)
        for _, start, count in self.plan.journal.pieces:
            self.target.zeros(self.offset + start * BLOCK, count * BLOCK)
        head = JOURNAL_SUPER.pack(
            magic=0xC03B3998,
            block_type=4,
            block_size=BLOCK,
            length=length,
            first=1,
            sequence=1,
            uuid=self.plan.uuid.bytes,
            users=1,
        )
        self._put(self.plan.journal.pieces[0][1], head)
        for number, data in self.plan.journal.blocks:
            self._put(number, self._closed(data, JOURNAL_INODE))

    def _closed(self, data: bytes, number: int) -> bytes:
        """A block of an extent tree with its checksum."""
        return (data + struct.pack("<I", checksum(self._inode_seed(number), data))).ljust(BLOCK, b"\0")

    def _room_to_grow(self) -> None:
        """The resize inode's blocks: one that names group 0's reserved descriptor blocks, and these name their copies
        in the groups that hold backups (chapter "Special inodes"; a double indirect map)."""
        geometry = self.plan.geometry
        table = numpy.zeros(POINTERS, "<u4")
        copies = [group for group in range(1, geometry.groups) if has_backup(group)]
        for at in range(geometry.reserved_descriptors):
            block = 1 + geometry.descriptor_blocks + at
            table[(geometry.descriptor_blocks + at) % POINTERS] = block
            names = numpy.zeros(POINTERS, "<u4")
            names[: len(copies)] = [block + group * GROUP_BLOCKS for group in copies]
            self._put(block, names.tobytes())
        self._put(self.plan.growth_block, table.tobytes())

    def _folders(self) -> None:
        for at, folder in sorted(self.plan.folders.items()):
            data = folder.encode(self._inode_seed(folder.number) if self.plan.form.checksums else 0)
            mapping = self.plan.mappings.get(at)
            pieces = mapping.pieces if mapping else ((0, int(self.plan.starts[at]), folder.blocks),)
            for position, start, count in pieces:
                self._put(start, data[position * BLOCK : (position + count) * BLOCK])

    def _files(self) -> None:
        nodes, mappings, starts = self.plan.nodes, self.plan.mappings, self.plan.starts.tolist()
        content, offset = self.content, self.offset
        gathering = Gathering(self.target, SMALL)
        for at, node in enumerate(nodes):
            size = node.size
            if node.kind != "file" or not size:
                if node.kind == "link" and starts[at]:
                    self._put(starts[at], os.fsencode(node.content).ljust(BLOCK, b"\0"))
            elif size > SMALL or at in mappings:
                self._large(at, node)
            elif not gathering.add(offset + starts[at] * BLOCK, content(node.content), size, -(-size // BLOCK) * BLOCK):
                raise Unfit(f"{node.path} was truncated while it was read")
        gathering.flush()

    def _large(self, at: int, node: Node) -> None:
        mapping = self.plan.mappings.get(at)
        pieces = mapping.pieces if mapping else ((0, int(self.plan.starts[at]), -(-node.size // BLOCK)),)
        source = os.open(self.content(node.content), os.O_RDONLY)
        try:
            for position, start, count in pieces:
                length = min(count * BLOCK, node.size - position * BLOCK)
                self.target.move(source, position * BLOCK, self.offset + start * BLOCK, length)
        finally:
            os.close(source)

    def _maps_and_attributes(self) -> None:
        for at, mapping in sorted(self.plan.mappings.items()):
            for number, data in mapping.blocks:
                self._put(number, self._closed(data, int(self.plan.inodes[at])) if mapping.summed else data)
        for at, number in sorted(self.plan.attribute_blocks.items()):
            sum_up = (lambda data: checksum(self.seed, data)) if self.plan.form.checksums else lambda data: 0
            self._put(number, ext4_attributes.block(self.plan.nodes[at].attributes, number, BLOCK, sum_up))

    # Inodes

    def _inode_tables(self) -> None:
        geometry = self.plan.geometry
        highest = FIRST_INODE - 2 + len(self.plan.nodes)
        self._unused_tables(highest)
        for first in range(0, len(self.plan.nodes), _TABLE_PART):
            rows = self._rows(first, min(first + _TABLE_PART, len(self.plan.nodes)))
            # The root has a number of its own; all others follow each other.
            start = FIRST_INODE - 1 + first
            if first == 0:
                self._inodes_at(ROOT_INODE - 1, rows[:INODE])
                rows, start = rows[INODE:], FIRST_INODE
            while rows:
                place = (start - 1) % geometry.inodes_per_group
                count = min(geometry.inodes_per_group - place, len(rows) // INODE)
                self._inodes_at(start - 1, rows[: count * INODE])
                rows, start = rows[count * INODE :], start + count
        for number, data in self._own_inodes():
            self._inodes_at(number - 1, data)

    def _inodes_at(self, index: int, data: bytes) -> None:
        group, place = divmod(index, self.plan.geometry.inodes_per_group)
        self._put(self.plan.geometry.structures(group)[2], data, place * INODE)

    def _unused_tables(self, highest: int) -> None:
        """Zeros for what no inode takes: to the tables' ends on request, else for the rest of blocks that are in use."""
        geometry = self.plan.geometry
        for group in range(geometry.groups):
            used = min(max(0, highest - group * geometry.inodes_per_group), geometry.inodes_per_group) * INODE
            first, end = used // BLOCK, geometry.table_blocks if self.plan.full_tables else -(-used // BLOCK)
            table = self.offset + geometry.structures(group)[2] * BLOCK
            if group == 0:  # where the reserved inodes are
                self.target.zeros(table, BLOCK)
            self.target.zeros(table + first * BLOCK, (end - first) * BLOCK)

    def _rows(self, first: int, end: int) -> bytes:
        """The inodes of the nodes from `first` to before `end`."""
        plan, extents = self.plan, self.plan.form.extents
        nodes = plan.nodes[first:end]
        inodes, sizes, links = plan.inodes[first:end], plan.sizes[first:end], plan.links[first:end]
        table = INODE_RECORD.table(len(nodes))
        table["mode"] = [MODES[node.kind] | node.mode for node in nodes]
        _split(table, "uid", numpy.array([node.uid for node in nodes], numpy.int64), 16)
        _split(table, "gid", numpy.array([node.gid for node in nodes], numpy.int64), 16)
        _split(table, "size", sizes, 32)
        table["links"] = links
        _split(table, "sectors", plan.blocks[first:end] * (BLOCK // 512), 32)
        clock = plan.clock
        times = numpy.array([clock if node.modified is None else node.modified for node in nodes], numpy.int64)
        low = times & 0xFFFFFFFF
        # The two low bits of the further field count eras of 2^32 seconds (chapter "Inode Timestamps").
        more = (times - ((low ^ 0x80000000) - 0x80000000)) >> 32 & 3
        for name in ("access_time", "change_time", "content_time", "made_at"):
            table[name] = low
            table[f"{name}_more"] = more
        table["extra_size"] = EXTRA_SIZE
        if extents:
            table["flags"] = numpy.where(_holds_blocks(nodes, sizes), InodeFlag.EXTENTS, 0)
        table["block"] = self._fields(first, end)
        rows = bytearray(table.tobytes())
        for at, folder in plan.folders.items():
            if first <= at < end and folder.is_hashed:
                _or_flags(rows, at - first, InodeFlag.INDEX)
        for at, node in enumerate(nodes):
            if node.attributes:
                self._attributes(rows, first, at, node)
        return self._summed(rows, inodes) if plan.form.checksums else bytes(rows)

    def _attributes(self, rows: bytearray, first: int, at: int, node: Node) -> None:
        inode = bytearray(rows[at * INODE : (at + 1) * INODE])
        block = self.plan.attribute_blocks.get(first + at)
        if block is not None:
            INODE_RECORD.put(inode, "attribute_block_lo", block & 0xFFFFFFFF)
            INODE_RECORD.put(inode, "attribute_block_hi", block >> 32)
        else:
            inode[128 + EXTRA_SIZE :] = ext4_attributes.inode_tail(node.attributes)
        rows[at * INODE : (at + 1) * INODE] = inode

    def _fields(self, first: int, end: int) -> Table:
        """The inodes' 60 bytes: where blocks lie, a short link's destination, a device's number."""
        plan = self.plan
        starts = plan.starts[first:end]
        counts = -(-plan.sizes[first:end] // BLOCK)
        if plan.form.extents:
            one = ONE_EXTENT.table(end - first)
            one["magic"], one["room"] = EXTENT_MAGIC, 4
            one["count"] = counts > 0
            one["length"] = numpy.where(counts <= 32768, counts, 0)
            one["start_lo"], one["start_hi"] = starts & 0xFFFFFFFF, starts >> 32
        else:
            pointers = numpy.zeros((end - first, DIRECT + 3), "<u4")
            places = numpy.arange(DIRECT)
            pointers[:, :DIRECT] = numpy.where(places < counts[:, None], starts[:, None] + places, 0)
            one = pointers
        fields = one.view("V60").reshape(-1).copy()
        for at, node in enumerate(plan.nodes[first:end]):
            if node.kind not in ("file", "folder") and not starts[at]:
                fields[at] = _field_of(node)
        for at, mapping in plan.mappings.items():
            if first <= at < end:
                fields[at - first] = mapping.field
        return fields

    def _summed(self, rows: bytearray, inodes: Numbers) -> bytes:
        """The inodes with their checksums, which begin with the number and the generation."""
        seed = self.seed
        whole = numpy.zeros((len(inodes), 8 + INODE), numpy.uint8)
        whole[:, :4] = inodes.astype("<u4").view(numpy.uint8).reshape(-1, 4)
        whole[:, 8:] = numpy.frombuffer(rows, numpy.uint8).reshape(-1, INODE)
        data = whole.tobytes()
        size = 8 + INODE
        sums = numpy.array([checksum(seed, data[at : at + size]) for at in range(0, len(data), size)], numpy.int64)
        table = numpy.frombuffer(rows, INODE_RECORD.table(0).dtype)
        table["checksum_lo"] = sums & 0xFFFF
        table["checksum_hi"] = sums >> 16
        return bytes(rows)

    def _own_inodes(self) -> list[tuple[int, bytes]]:
        """The journal's inode, and the one that keeps room to grow."""
        plan, geometry = self.plan, self.plan.geometry
        clock = plan.clock & 0xFFFFFFFF
        times = {"access_time": clock, "change_time": clock, "content_time": clock, "made_at": clock}
        found = []
        copies = sum(has_backup(group) for group in range(1, geometry.groups))
        blocks = 1 + geometry.reserved_descriptors * (1 + copies)
        size = (POINTERS * POINTERS + POINTERS + DIRECT) * BLOCK
        pointers = [0] * 15
        pointers[13] = plan.growth_block
        parts = [(RESIZE_INODE, size, blocks, 0, struct.pack("<15I", *pointers))]
        if plan.journal is not None:
            length = sum(count for _, _, count in plan.journal.pieces)
            taken = length + len(plan.journal.blocks)
            parts.append((JOURNAL_INODE, length * BLOCK, taken, InodeFlag.EXTENTS, plan.journal.field))
        for number, size, taken, flags, field in parts:
            inode = INODE_RECORD.pack(
                mode=MODES["file"] | 0o600,
                size_lo=size & 0xFFFFFFFF,
                size_hi=size >> 32,
                links=1,
                sectors_lo=taken * (BLOCK // 512),
                flags=flags,
                block=field,
                extra_size=EXTRA_SIZE,
                **times,
            )
            one = numpy.array([number], numpy.int64)
            found.append((number, self._summed(inode, one) if plan.form.checksums else bytes(inode)))
        return found

    # Bitmaps, descriptors, superblocks

    def _bitmaps_and_descriptors(self) -> None:
        plan, geometry = self.plan, self.plan.geometry
        per_group = geometry.inodes_per_group
        highest = FIRST_INODE - 2 + len(plan.nodes)
        at_folder = numpy.array(sorted(plan.folders), numpy.int64)
        folders = numpy.bincount((plan.inodes[at_folder] - 1) // per_group, minlength=geometry.groups).tolist()
        descriptors = bytearray()
        free_blocks = free_inodes = 0
        for group in range(geometry.groups):
            # All blocks before the plan's end are used, and the structures at the group's start.
            size = geometry.group_size(group)
            used = max(geometry.taken(group), min(size, plan.end - group * GROUP_BLOCKS))
            block_map = bytearray(bitmap(used, BLOCK))
            _fill(block_map, size, 8 * BLOCK)
            taken = min(max(0, highest - group * per_group), per_group)
            inode_map = bytearray(bitmap(taken, BLOCK))
            _fill(inode_map, per_group, 8 * BLOCK)
            at_blocks, at_inodes, _ = geometry.structures(group)
            self._put(at_blocks, block_map)
            self._put(at_inodes, inode_map)
            free_blocks += size - used
            free_inodes += per_group - taken
            descriptors += self._descriptor(group, size - used, per_group - taken, folders[group], block_map, inode_map)
        descriptors = descriptors.ljust(geometry.descriptor_blocks * BLOCK, b"\0")
        for group in range(geometry.groups):
            if has_backup(group):
                start = group * GROUP_BLOCKS
                head = self._super(group, free_blocks, free_inodes)
                self._put(start, bytes(1024) + head if group == 0 else head)
                self._put(start + 1, descriptors)

    def _descriptor(
        self, group: int, free_blocks: int, free_inodes: int, folders: int, block_map: bytearray, inode_map: bytearray
    ) -> bytearray:
        geometry, form = self.plan.geometry, self.plan.form
        at_blocks, at_inodes, at_table = geometry.structures(group)
        low = {
            "block_bitmap_lo": at_blocks & 0xFFFFFFFF,
            "inode_bitmap_lo": at_inodes & 0xFFFFFFFF,
            "inode_table_lo": at_table & 0xFFFFFFFF,
            "free_blocks_lo": free_blocks,
            "free_inodes_lo": free_inodes,
            "folders_lo": folders,
        }
        if not form.checksums:
            return GROUP.pack(**low)[: form.descriptor]
        block_sum = checksum(self.seed, block_map)
        inode_sum = checksum(self.seed, inode_map[: geometry.inodes_per_group // 8])
        descriptor = GROUP.pack(
            **low,
            block_bitmap_hi=at_blocks >> 32,
            inode_bitmap_hi=at_inodes >> 32,
            inode_table_hi=at_table >> 32,
            flags=INODE_ZEROED if self.plan.full_tables else 0,
            unused_inodes_lo=free_inodes,
            block_bitmap_checksum_lo=block_sum & 0xFFFF,
            block_bitmap_checksum_hi=block_sum >> 16,
            inode_bitmap_checksum_lo=inode_sum & 0xFFFF,
            inode_bitmap_checksum_hi=inode_sum >> 16,
        )
        own = checksum(checksum(self.seed, struct.pack("<I", group)), descriptor)
        GROUP.put(descriptor, "checksum", own & 0xFFFF)
        return descriptor

    def _super(self, group: int, free_blocks: int, free_inodes: int) -> bytearray:
        plan, geometry, form = self.plan, self.plan.geometry, self.plan.form
        clock = plan.clock & 0xFFFFFFFF
        data = SUPER.pack(
            inodes=geometry.inodes,
            blocks_lo=geometry.blocks & 0xFFFFFFFF,
            blocks_hi=geometry.blocks >> 32,
            reserved_lo=plan.reserved & 0xFFFFFFFF,
            reserved_hi=plan.reserved >> 32,
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
            compatible=form.compatible,
            incompatible=form.incompatible,
            read_only_compatible=form.read_only_compatible,
            uuid=plan.uuid.bytes,
            label=plan.label.encode(),
            reserved_descriptors=geometry.reserved_descriptors,
            hash_seed=plan.hash_seed.bytes,
            default_hash=HALF_MD4,
            default_mount_options=0xC,  # user_xattr, acl
            made_at=clock,
            flags=1,  # signed hash of folder names
        )
        if form.extents:
            SUPER.put(data, "descriptor_size", form.descriptor)
            SUPER.put(data, "min_extra", EXTRA_SIZE)
            SUPER.put(data, "want_extra", EXTRA_SIZE)
            SUPER.put(data, "log_groups_per_flex", geometry.log_flex)
        if plan.journal is not None:
            size = sum(count for _, _, count in plan.journal.pieces) * BLOCK
            backup = (*struct.unpack("<15I", plan.journal.field), size >> 32, size & 0xFFFFFFFF)
            SUPER.put(data, "journal_inode", JOURNAL_INODE)
            SUPER.put(data, "journal_backup_type", 1)
            SUPER.put(data, "journal_backup", backup)
        if form.checksums:
            SUPER.put(data, "checksum_type", 1)
            SUPER.put(data, "checksum", checksum(0xFFFFFFFF, data[:0x3FC]))
        return data


def _split(table: Table, name: str, values: Numbers, bits: int) -> None:
    table[f"{name}_lo"] = values & (1 << bits) - 1
    table[f"{name}_hi"] = values >> bits


def _holds_blocks(nodes: tuple[Node, ...], sizes: Numbers) -> list[bool]:
    """Whose 60 bytes say where blocks lie."""
    return [
        node.kind in ("file", "folder") or (node.kind == "link" and size >= FAST_LINK)
        for node, size in zip(nodes, sizes.tolist(), strict=True)
    ]


def _field_of(node: Node) -> bytes:
    """What short links and devices have in place of a map."""
    if node.kind == "link":
        return os.fsencode(node.content).ljust(60, b"\0")
    if node.kind in ("character", "block"):
        major, minor = node.device
        if major < 256 and minor < 256:
            return struct.pack("<I56x", major << 8 | minor)
        return struct.pack("<II52x", 0, minor & 0xFF | major << 8 | (minor & ~0xFF) << 12)
    return bytes(60)


def _or_flags(rows: bytearray, at: int, flag: int) -> None:
    place = at * INODE + 0x20
    (flags,) = struct.unpack_from("<I", rows, place)
    struct.pack_into("<I", rows, place, flags | flag)


def _fill(map_: bytearray, first: int, end: int) -> None:
    """Sets the bits from `first` to before `end`, which is a multiple of eight."""
    if first & 7 and first < end:
        map_[first >> 3] |= 0xFF << (first & 7) & 0xFF
        first = (first | 7) + 1
    map_[first >> 3 : end >> 3] = b"\xff" * ((end - first) >> 3)
