"""Reads ext2, ext3 and ext4 of any writer; chapters named are those of the kernel's Documentation/filesystems/ext4.

Nothing is trusted: every block number is checked against the filesystem's size, every chain and depth has an end, and
sizes are believed only as far as there are blocks.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from typing import BinaryIO
from uuid import UUID

from yarrik.binary import Record, Value, number, raw_bytes
from yarrik.disk import ext4_attributes
from yarrik.disk.ext4_form import (
    EXTENT,
    EXTENT_HEADER,
    EXTENT_INDEX,
    EXTENT_MAGIC,
    FAST_LINK,
    GROUP,
    INITIALISED_MOST,
    INODE_RECORD,
    MODES,
    ROOT_INODE,
    SUPER,
    Incompatible,
    InodeFlag,
    checksum,
    has_backup,
)
from yarrik.disk.found import Found
from yarrik.disk.window import Window
from yarrik.errors import Damaged

#: Features that this reader knows.
_KNOWN = Incompatible(sum(Incompatible))
_KINDS = {mode: kind for kind, mode in MODES.items()}
_GROUP_SHORT = Record(32, ("block_bitmap_lo", 0x0, "I"), ("inode_bitmap_lo", 0x4, "I"), ("inode_table_lo", 0x8, "I"))
_SHORT_INODE = 128
_ATTRIBUTES = ext4_attributes.MAGIC.to_bytes(4, "little")
_PART = 1 << 20


class Ext4Damaged(Damaged):
    """The bytes are no valid filesystem; the message says why."""


class Ext4Reader:
    """Reads a filesystem that begins `offset` bytes into an open file, and has at most `size` bytes."""

    MOST_ENTRIES = 5_000_000
    MOST_DEPTH = 200

    def __init__(self, disk: BinaryIO, offset: int, size: int) -> None:
        self._size = size
        self._read = Window(disk, offset, size, Ext4Damaged).read
        if size < 2048:
            raise Ext4Damaged("it is too short for a superblock")
        superblock = self._read(1024, SUPER.size)
        fields = SUPER.unpack(superblock)
        if fields["magic"] != 0xEF53:
            raise Ext4Damaged("there is no ext2, ext3 or ext4 superblock")
        log = number(fields, "log_block_size")
        if log > 6:
            raise Ext4Damaged("its superblock gives no valid block size")
        self.block = 1024 << log
        incompatible = number(fields, "incompatible")
        if incompatible & ~_KNOWN:
            raise Ext4Damaged(f"it uses features that this reader does not know ({incompatible & ~_KNOWN:#x})")
        self._wide = bool(incompatible & Incompatible.WIDE)
        self.blocks = number(fields, "blocks_lo") | (number(fields, "blocks_hi") << 32 if self._wide else 0)
        self._first = number(fields, "first_data_block")
        self._per_group = number(fields, "blocks_per_group")
        self._inodes_per_group = number(fields, "inodes_per_group")
        self._inodes = number(fields, "inodes")
        revision = number(fields, "revision")
        self._inode_size = number(fields, "inode_size") if revision else _SHORT_INODE
        self._descriptor = max(32, number(fields, "descriptor_size")) if self._wide else 32
        self._meta_bg = bool(incompatible & Incompatible.META_BG)
        # Where the descriptors' first meta block group would begin (superblock field s_first_meta_bg).
        self._first_meta = number(fields, "first_meta_group")
        # With clusters of several blocks (bigalloc), a bitmap's bit stands for a whole cluster.
        cluster = number(fields, "log_cluster_size") - log if number(fields, "read_only_compatible") & 0x200 else 0
        sound = (
            0 <= cluster <= 16
            and 0 < self._per_group <= 8 * self.block << max(cluster, 0)
            and 0 < self._inodes_per_group <= 8 * self.block
            and self._inode_size >= _SHORT_INODE
            and self._inode_size & (self._inode_size - 1) == 0
            and self._inode_size <= self.block
            and self._first < self.blocks
            and self._descriptor <= self.block
        )
        if not sound or self.blocks * self.block > size:
            raise Ext4Damaged("its superblock gives impossible sizes")
        self._groups = -(-(self.blocks - self._first) // self._per_group)
        if self._inodes > self._groups * self._inodes_per_group:
            raise Ext4Damaged("its superblock gives more inodes than its groups hold")
        # metadata_csum: the superblock's own checksum covers all before it (chapter "Checksums").
        if number(fields, "read_only_compatible") & 0x400 and fields["checksum"] != checksum(0xFFFFFFFF, superblock[:0x3FC]):
            raise Ext4Damaged("its superblock does not have the checksum that it gives")
        self.label = raw_bytes(fields, "label").split(b"\0")[0].decode("utf-8", "replace")
        self.uuid = str(UUID(bytes=raw_bytes(fields, "uuid")))
        read_only = number(fields, "read_only_compatible")
        compatible = number(fields, "compatible")
        self._form = (
            "ext4" if incompatible & (0x40 | 0x80 | 0x200) or read_only & 0x400 else "ext3" if compatible & 4 else "ext2"
        )
        #: Bytes of the blocks that are not in use.
        self.free = (
            number(fields, "free_blocks_lo") | (number(fields, "free_blocks_hi") << 32 if self._wide else 0)
        ) * self.block
        self._tables: dict[int, int] = {}

    @property
    def form(self) -> str:
        return self._form

    def _blocks(self, block: int, count: int = 1) -> bytes:
        if not 0 <= block <= block + count <= self.blocks:
            raise Ext4Damaged(f"it names the block {block}, which it does not have")
        return self._read(block * self.block, count * self.block)

    # Inodes

    def _table(self, group: int) -> int:
        """The first block of a group's inode table (chapter "Block Group Descriptors", meta block groups too)."""
        if group not in self._tables:
            per_block = self.block // self._descriptor
            table = group // per_block
            if self._meta_bg and table >= self._first_meta:
                first = table * per_block
                at = self._first + first * self._per_group + (1 if has_backup(first) else 0)
            else:
                at = 1024 // self.block + 1 + table  # the block after the one with the superblock
            data = self._blocks(at)[group % per_block * self._descriptor :]
            if self._descriptor >= 64:
                fields = GROUP.unpack(data[:64])
                self._tables[group] = number(fields, "inode_table_lo") | number(fields, "inode_table_hi") << 32
            else:
                self._tables[group] = number(_GROUP_SHORT.unpack(data[:32]), "inode_table_lo")
        return self._tables[group]

    def _inode(self, index: int) -> tuple[dict[str, Value], bytes]:
        """An inode's fields, and all its bytes."""
        if not 1 <= index <= self._inodes:
            raise Ext4Damaged(f"it names the inode {index}, which it does not have")
        group, place = divmod(index - 1, self._inodes_per_group)
        at = self._table(group) * self.block + place * self._inode_size
        data = self._read(at, self._inode_size)
        return INODE_RECORD.unpack(data.ljust(INODE_RECORD.size, b"\0")), data

    def _found(self, path: str, index: int) -> Found:
        fields, data = self._inode(index)
        mode = number(fields, "mode")
        kind = _KINDS.get(mode & 0xF000)
        if kind is None:
            raise Ext4Damaged(f"{path!r} is of no kind that is known (mode {mode:o})")
        size = number(fields, "size_lo") | (number(fields, "size_hi") << 32 if kind == "file" else 0)
        if size > self.block << 32:
            raise Ext4Damaged(f"{path!r} is larger than any file can be")
        modified = number(fields, "content_time")
        modified -= (modified & 0x80000000) << 1
        if self._inode_size >= 0x8C and number(fields, "extra_size") >= 12:
            modified += (number(fields, "content_time_more") & 3) << 32
        device = (0, 0)
        if kind in ("character", "block"):
            old, new = struct.unpack("<II", raw_bytes(fields, "block")[:8])
            device = (old >> 8 & 0xFF, old & 0xFF) if old else (new >> 8 & 0xFFF, new & 0xFF | new >> 12 & 0xFFF00)
        found = Found(
            path,
            kind,
            mode & 0o7777,
            number(fields, "uid_lo") | number(fields, "uid_hi") << 16,
            number(fields, "gid_lo") | number(fields, "gid_hi") << 16,
            size,
            modified,
            device=device,
            links=number(fields, "links"),
            handle=index,
        )
        if kind != "link":
            return found
        if size > 4096:
            raise Ext4Damaged(f"the link {path!r} leads to a path of {size} bytes")
        target = (
            raw_bytes(fields, "block")[:size]
            if size < FAST_LINK and not number(fields, "flags") & (InodeFlag.EXTENTS | InodeFlag.INLINE_DATA)
            else b""
        )
        if not target and size:
            target = b"".join(self._data(fields, data, size))
        return Found(
            path, kind, found.mode, found.uid, found.gid, size, modified, os.fsdecode(target), links=found.links, handle=index
        )

    # Content

    def _runs(self, fields: dict[str, Value], wanted: int) -> Iterator[tuple[int, int, int]]:
        """Runs of blocks: number in the file, block on the disk (0 for a hole), count; in order, up to `wanted` blocks."""
        block = raw_bytes(fields, "block")
        if number(fields, "flags") & InodeFlag.EXTENTS:
            yield from self._extents(block, wanted, 5)
        else:
            yield from self._mapped(struct.unpack("<15I", block), wanted)

    def _extents(self, node: bytes, wanted: int, depth_left: int) -> Iterator[tuple[int, int, int]]:
        """Chapter "Extent Tree"."""
        head = EXTENT_HEADER.unpack(node[: EXTENT_HEADER.size])
        count, depth = number(head, "count"), number(head, "depth")
        entries = node[EXTENT_HEADER.size :]
        if number(head, "magic") != EXTENT_MAGIC or depth > depth_left or count * EXTENT.size > len(entries):
            raise Ext4Damaged("a file's extent tree is broken")
        for index in range(count):
            entry = entries[index * EXTENT.size : (index + 1) * EXTENT.size]
            if depth:
                below = EXTENT_INDEX.unpack(entry)
                block = number(below, "block_lo") | number(below, "block_hi") << 32
                yield from self._extents(self._blocks(block), wanted, depth - 1)
            else:
                run = EXTENT.unpack(entry)
                at, length = number(run, "at"), number(run, "length")
                unwritten = length > INITIALISED_MOST
                length -= INITIALISED_MOST if unwritten else 0
                if at >= wanted:
                    return
                length = min(length, wanted - at)
                yield at, 0 if unwritten else number(run, "start_lo") | number(run, "start_hi") << 32, length

    def _mapped(self, pointers: tuple[int, ...], wanted: int) -> Iterator[tuple[int, int, int]]:
        """Chapter "Direct/Indirect Block Addressing": twelve blocks, then one, two and three levels of blocks of them."""
        position = 0
        for block in pointers[:12]:
            if position >= wanted:
                return
            yield position, block, 1
            position += 1
        per_block = self.block // 4
        for level, block in enumerate(pointers[12:], 1):
            if position >= wanted:
                return
            yield from self._indirect(block, level, position, wanted)
            position += per_block**level

    def _indirect(self, block: int, level: int, position: int, wanted: int) -> Iterator[tuple[int, int, int]]:
        if block == 0:
            return
        per_block = self.block // 4
        step = per_block ** (level - 1)
        for pointer in struct.unpack(f"<{per_block}I", self._blocks(block)):
            if position >= wanted:
                return
            if level == 1:
                yield position, pointer, 1
            else:
                yield from self._indirect(pointer, level - 1, position, wanted)
            position += step

    def _data(self, fields: dict[str, Value], inode: bytes, size: int) -> Iterator[bytes]:
        """An inode's content; holes are zeros."""
        flags = number(fields, "flags")
        if flags & InodeFlag.ENCRYPT:
            raise Ext4Damaged("it is encrypted")
        if flags & InodeFlag.INLINE_DATA:
            data = self._inline(fields, inode, size)
            yield data
            # Some programs leave a file that is all hole marked so: the kernel reads zeros there.
            yield from _zeros(size - len(data))
            return
        wanted = -(-size // self.block)
        position = 0  # in bytes
        for at, block, count in self._runs(fields, wanted):
            start = at * self.block
            if start < position:
                raise Ext4Damaged("a file's blocks are out of order")
            yield from _zeros(min(start, size) - position)
            position = start
            end = min(start + count * self.block, size)
            if block == 0:
                yield from _zeros(end - position)
                position = end
            elif not 0 < block <= block + count <= self.blocks:
                raise Ext4Damaged(f"it names the block {block}, which it does not have")
            while position < end:
                length = min(_PART, end - position)
                yield self._read(block * self.block + position - start, length)
                position += length
        yield from _zeros(size - position)

    def _inline(self, fields: dict[str, Value], inode: bytes, size: int) -> bytes:
        """Chapter "Inline Data": 60 bytes in the inode, more in its attribute `system.data`."""
        data = raw_bytes(fields, "block")[: min(size, 60)]
        start = _SHORT_INODE + number(fields, "extra_size")
        if size > 60 and inode[start : start + 4] == _ATTRIBUTES:
            try:
                more = dict(ext4_attributes.parse(inode[start + 4 :], 0)).get("system.data", b"")
            except Damaged as error:
                raise Ext4Damaged(f"a file's inline data is broken: {error}") from error
            data += more[: size - 60]
        return data

    def attributes(self, found: Found) -> dict[str, bytes]:
        """A path's extended attributes, from its inode and from its block of them."""
        fields, inode = self._inode(found.handle)
        start = _SHORT_INODE + number(fields, "extra_size")
        answer: dict[str, bytes] = {}
        try:
            if inode[start : start + 4] == _ATTRIBUTES:
                answer |= ext4_attributes.parse(inode[start + 4 :], 0)
            block = number(fields, "attribute_block_lo") | (number(fields, "attribute_block_hi") << 32 if self._wide else 0)
            if block:
                data = self._blocks(block)
                if data[:4] != _ATTRIBUTES:
                    raise Damaged("a block of extended attributes is none")
                answer |= ext4_attributes.parse(data[ext4_attributes.BLOCK_HEAD :], ext4_attributes.BLOCK_HEAD)
        except Damaged as error:
            raise Ext4Damaged(f"{found.path!r}: {error}") from error
        answer.pop("system.data", None)  # content of a small file, not an attribute
        return answer

    # Folders

    def _names(self, found: Found) -> Iterator[tuple[bytes, int]]:
        """Names and inodes in a folder, hashed or not: both have the same blocks of entries (chapter "Directory Entries")."""
        fields, inode = self._inode(found.handle)
        if found.size > self.blocks * self.block:
            raise Ext4Damaged(f"the folder {found.path!r} is larger than the filesystem")
        inline = number(fields, "flags") & InodeFlag.INLINE_DATA
        for part in self._data(fields, inode, found.size):
            step = len(part) if inline else self.block
            for at in range(0, len(part), step):
                yield from _entries(part[at : at + step], 4 if inline else 0, found.path)

    def walk(self) -> Iterator[Found]:
        top = self._found("/", ROOT_INODE)
        if top.kind != "folder":
            raise Ext4Damaged("its top is not a folder")
        yield top
        waiting = [(top, 0)]
        folders = {ROOT_INODE}
        count = 0
        while waiting:
            folder, depth = waiting.pop()
            if depth > self.MOST_DEPTH:
                raise Ext4Damaged("folders are nested too deep")
            for name, index in self._names(folder):
                if name in (b".", b".."):
                    continue
                count += 1
                if count > self.MOST_ENTRIES or b"/" in name or b"\0" in name or not name:
                    raise Ext4Damaged(f"the folder {folder.path!r} holds impossible names")
                found = self._found(f"{folder.path.rstrip('/')}/{os.fsdecode(name)}", index)
                yield found
                if found.kind == "folder":
                    if index in folders:
                        raise Ext4Damaged(f"the folder {found.path!r} leads back to another one")
                    folders.add(index)
                    waiting.append((found, depth + 1))

    def content(self, found: Found) -> Iterator[bytes]:
        fields, inode = self._inode(found.handle)
        yield from self._data(fields, inode, found.size)


def _entries(data: bytes, start: int, path: str) -> Iterator[tuple[bytes, int]]:
    at = start
    while at + 8 <= len(data):
        index, length, name_length = struct.unpack_from("<IHB", data, at)
        if length < 8 or length % 4 or at + length > len(data) or name_length + 8 > length:
            raise Ext4Damaged(f"the folder {path!r} has a broken entry")
        if index:
            yield data[at + 8 : at + 8 + name_length], index
        at += length


def _zeros(count: int) -> Iterator[bytes]:
    while count > 0:
        yield bytes(min(count, _PART))
        count -= _PART
