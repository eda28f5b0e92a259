"""The squashfs 4.0 filesystem, written: `squashfs_form` says how it looks.

Contents come first (blocks of each file, then tails of several files together as fragments), compressed in parallel
threads and written in order, so that the bytes are the same for any number of them; then inodes, folders and tables.
"""

from __future__ import annotations

import itertools
import os
import struct
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

import msgspec

from yarrik.disk.squashfs_contents import Contents, Stored
from yarrik.disk.squashfs_form import (
    ATTRIBUTE,
    ATTRIBUTE_PREFIXES,
    ATTRIBUTE_SET,
    ATTRIBUTE_TABLE,
    BLOCK,
    COMPRESSORS,
    DEVICE,
    DUPLICATES_STORED_ONCE,
    ENTRY,
    EXPORTABLE,
    FILE,
    FOLDER,
    FRAGMENT,
    HAS_OPTIONS,
    INDEX,
    INODE,
    LINK,
    LONG,
    LONG_DEVICE,
    LONG_FILE,
    LONG_FOLDER,
    LONG_PIPE,
    LZ4_OPTIONS,
    MAGIC,
    METADATA,
    MOST_IN_RUN,
    MOST_NAME,
    NO_ATTRIBUTES,
    NO_ATTRIBUTES_AT_ALL,
    NOTHING,
    PIPE,
    PLAIN_FILE,
    RUN,
    SUPER,
    TYPES,
    UNCOMPRESSED_METADATA,
    compressor,
)
from yarrik.errors import Unfit
from yarrik.rootfs import Node, RootTree

_FILE_HEAD = INODE.packer("type", "mode", "uid", "gid", "modified", "number")
_PLAIN_FILE = PLAIN_FILE.packer("type", "mode", "uid", "gid", "modified", "number", "start", "fragment", "offset", "size")
_FILE_REST = FILE.packer("start", "fragment", "offset", "size")
_RUN = RUN.packer("count", "start", "number")
_ENTRY = ENTRY.packer("offset", "number", "type", "size")


class SquashfsUnfit(Unfit):
    """The tree holds what squashfs cannot."""


class _Metadata(msgspec.Struct):
    """A stream of blocks of 8 KiB, compressed one by one; a place in it is (where its block begins, offset in the block)."""

    compress: Callable[[bytes], bytes]
    out: bytearray = msgspec.field(default_factory=bytearray)
    pending: bytearray = msgspec.field(default_factory=bytearray)
    starts: list[int] = msgspec.field(default_factory=lambda: [0])

    @property
    def length(self) -> int:
        """Bytes so far, before compression."""
        return (len(self.starts) - 1) * METADATA + len(self.pending)

    @property
    def place(self) -> tuple[int, int]:
        return len(self.out), len(self.pending)

    def add(self, data: bytes) -> None:
        self.pending += data
        while len(self.pending) >= METADATA:
            self._close(METADATA)

    def add_many(self, parts: list[bytes], pool: ThreadPoolExecutor) -> list[int]:
        """Adds parts to an empty stream, compressed in parallel; returns the reference to each."""
        data = b"".join(parts)
        whole = [data[at : at + METADATA] for at in range(0, len(data) - METADATA + 1, METADATA)]
        for block, small in zip(whole, pool.map(self.compress, whole), strict=True):
            self._put(block, small)
        self.pending += data[len(whole) * METADATA :]
        starts = self.starts
        ends = itertools.accumulate(map(len, parts), initial=0)
        return [starts[end >> 13] << 16 | end & (METADATA - 1) for end, _ in zip(ends, parts, strict=False)]

    def _close(self, count: int) -> None:
        data = bytes(self.pending[:count])
        del self.pending[:count]
        self._put(data, self.compress(data))

    def _put(self, data: bytes, small: bytes) -> None:
        if len(small) < len(data):
            self.out += struct.pack("<H", len(small)) + small
        else:
            self.out += struct.pack("<H", len(data) | UNCOMPRESSED_METADATA) + data
        self.starts.append(len(self.out))

    def finish(self) -> bytes:
        if self.pending:
            self._close(len(self.pending))
        return bytes(self.out)


def write_squashfs(
    tree: RootTree,
    sink: BinaryIO,
    content: Callable[[str], str | Path],
    clock: int = 0,
    compression: str = "zstd",
    level: int | None = None,
    threads: int | None = None,
) -> int:
    """Writes the filesystem at the start of an empty file and returns its size in bytes, a multiple of 4096.

    Raises SquashfsUnfit for names and owners that it cannot hold."""
    with ThreadPoolExecutor(max_workers=threads or os.cpu_count() or 1) as pool:
        writer = _Writer(tree, sink, content, clock, compression, compressor(compression, level), pool)
        return writer.run()


class _Writer(msgspec.Struct, dict=True):
    tree: RootTree
    sink: BinaryIO
    content: Callable[[str], str | Path]
    clock: int
    compression: str
    compress: Callable[[bytes], bytes]
    pool: ThreadPoolExecutor
    position: int = SUPER.size
    ids: dict[int, int] = msgspec.field(default_factory=dict)
    attributes: dict[bytes, int] = msgspec.field(default_factory=dict)
    attribute_counts: list[int] = msgspec.field(default_factory=list)

    def run(self) -> int:
        self.sink.seek(self.position)
        options = self.compression == "lz4"
        if options:  # stored as it is, in a metadata block of its own
            data = LZ4_OPTIONS.pack(version=1, flags=1)
            self._put(struct.pack("<H", len(data) | UNCOMPRESSED_METADATA) + data)
        contents = Contents(self.sink, self.position, self.content, self.compress, self.pool)
        files = [at for at, node in enumerate(self.nodes) if node.kind == "file"]
        stored = dict(zip(files, contents.store([self.nodes[at] for at in files]), strict=True))
        self.position = contents.position
        inodes, folders, references = self._inodes(stored)
        inode_table = self.position
        self._put(inodes.finish())
        folder_table = self.position
        self._put(folders.finish())
        fragment_table = self._table(b"".join(FRAGMENT.pack(start=start, size=size) for start, size in contents.fragments))
        export_table = self._table(struct.pack(f"<{len(references)}Q", *references))
        id_table = self._table(b"".join(struct.pack("<I", one) for one in self.ids))
        attribute_table = self._attribute_table()
        used = self.position
        self.sink.seek(0)
        self.sink.write(
            SUPER.pack(
                magic=MAGIC,
                inodes=len(self.nodes),
                made_at=max(0, self.clock) & 0xFFFFFFFF,
                block_size=BLOCK,
                fragments=len(contents.fragments),
                compressor=COMPRESSORS[self.compression],
                block_log=BLOCK.bit_length() - 1,
                flags=DUPLICATES_STORED_ONCE
                | EXPORTABLE
                | HAS_OPTIONS * options
                | NO_ATTRIBUTES_AT_ALL * (not self.attributes),
                ids=len(self.ids),
                major=4,
                root_inode=references[0],
                bytes_used=used,
                id_table=id_table,
                attribute_table=attribute_table,
                inode_table=inode_table,
                folder_table=folder_table,
                fragment_table=fragment_table if contents.fragments else NOTHING,
                export_table=export_table,
            )
        )
        whole = -(-used // 4096) * 4096
        self.sink.truncate(whole)
        return whole

    def _put(self, data: bytes) -> None:
        self.sink.write(data)
        self.position += len(data)

    # Inodes and folders

    @cached_property
    def nodes(self) -> list[Node]:
        """Those that have an inode of their own; its number is the place in this list, counted from 1."""
        return [node for node in self.tree.nodes if not node.same_as]

    def _inodes(self, stored: dict[int, Stored]) -> tuple[_Metadata, _Metadata, list[int]]:
        """The inode and folder tables, and a reference to each inode. Folders come after what they hold."""
        inodes, folders = _Metadata(self.compress), _Metadata(self.compress)
        index = {node.path: at for at, node in enumerate(self.nodes)}
        links = [1] * len(self.nodes)
        inside: dict[int, list[tuple[bytes, int]]] = {at: [] for at, node in enumerate(self.nodes) if node.kind == "folder"}
        encode = os.fsencode
        for node in self.tree.nodes[1:]:
            parent, _, text = node.path.rpartition("/")
            name = text.encode() if text.isascii() else encode(text)
            if len(name) > MOST_NAME:
                raise SquashfsUnfit(f"the name {text[:40]!r}… is longer than {MOST_NAME} bytes")
            at = index[node.same_as or node.path]
            inside[index[parent or "/"]].append((name, at))
            if node.same_as:
                links[at] += 1
        kinds = [TYPES[node.kind] for node in self.nodes]
        others = [at for at in range(len(self.nodes)) if at not in inside]
        references = [0] * len(self.nodes)
        parts = [
            self._small_file(at, stored[at])
            if kinds[at] == TYPES["file"] and links[at] == 1 and self.nodes[at].size < BLOCK and not self.nodes[at].attributes
            else self._inode(at, links[at], stored.get(at))
            for at in others
        ]
        for at, reference in zip(others, inodes.add_many(parts, self.pool), strict=True):
            references[at] = reference
        for at in reversed(inside):  # what lies deeper comes later in the tree
            children = sorted(inside[at])
            begin, (start, offset) = folders.length, folders.place
            listing, runs = _listing(children, kinds, references)
            folders.add(listing)
            node = self.nodes[at]
            # The top's parent is a number that no inode has.
            parent_number = index[node.parent] + 1 if at else len(self.nodes) + 1
            count = 2 + sum(kinds[child] == TYPES["folder"] for _, child in children)
            attributes = self._attributes_of(node)
            size = len(listing) + 3
            body = {"links": count, "size": size, "start": start, "offset": offset, "parent": parent_number}
            begun, begun_at = inodes.place
            references[at] = begun << 16 | begun_at
            if size < 0x10000 and attributes == NO_ATTRIBUTES and len(listing) <= METADATA:
                inodes.add(self._head(node, TYPES["folder"], at + 1) + FOLDER.pack(**body))
            else:
                entries = _index(runs, folders, begin)
                long = LONG_FOLDER.pack(**body, index_count=len(entries), attributes=attributes)
                inodes.add(self._head(node, TYPES["folder"] + LONG, at + 1) + long + b"".join(entries))
        return inodes, folders, references

    def _small_file(self, at: int, stored: Stored) -> bytes:
        """The inode that most files have: less than a block, one name, nothing else to say."""
        node = self.nodes[at]
        modified = self.clock if node.modified is None else node.modified
        if not 0 <= modified <= 0xFFFFFFFF:
            modified = min(max(0, modified), 0xFFFFFFFF)
        return _PLAIN_FILE(
            TYPES["file"],
            node.mode,
            self._id(node.uid),
            self._id(node.gid),
            modified,
            at + 1,
            0,
            stored.fragment,
            stored.offset,
            node.size,
        )

    def _head(self, node: Node, kind: int, number: int) -> bytes:
        modified = self.clock if node.modified is None else node.modified
        modified = min(max(0, modified), 0xFFFFFFFF)
        return _FILE_HEAD(kind, node.mode, self._id(node.uid), self._id(node.gid), modified, number)

    def _id(self, value: int) -> int:
        index = self.ids.get(value)
        if index is not None:
            return index
        index = self.ids[value] = len(self.ids)
        if index > 0xFFFF:
            raise SquashfsUnfit("there are more than 65536 different owners and groups")
        return index

    def _inode(self, at: int, links: int, content: Stored | None) -> bytes:
        node, number = self.nodes[at], at + 1
        attributes = self._attributes_of(node)
        bare = attributes == NO_ATTRIBUTES
        kind = TYPES[node.kind]
        if node.kind == "file":
            assert content is not None
            sizes = struct.pack(f"<{len(content.sizes)}I", *content.sizes)
            if bare and links == 1 and node.size < 1 << 32 and content.start < 1 << 32 and not content.sparse:
                body = _FILE_REST(content.start, content.fragment, content.offset, node.size)
                return self._head(node, kind, number) + body + sizes
            long = LONG_FILE.pack(
                start=content.start,
                size=node.size,
                sparse=content.sparse,
                links=links,
                fragment=content.fragment,
                offset=content.offset,
                attributes=attributes,
            )
            return self._head(node, kind + LONG, number) + long + sizes
        head = self._head(node, kind if bare else kind + LONG, number)
        if node.kind == "link":
            target = os.fsencode(node.content)
            tail = b"" if bare else struct.pack("<I", attributes)
            return head + LINK.pack(links=links, size=len(target)) + target + tail
        if node.kind in ("block", "character"):
            major, minor = node.device
            device = minor & 0xFF | major << 8 | (minor & ~0xFF) << 12
            if bare:
                return head + DEVICE.pack(links=links, device=device)
            return head + LONG_DEVICE.pack(links=links, device=device, attributes=attributes)
        return head + (PIPE.pack(links=links) if bare else LONG_PIPE.pack(links=links, attributes=attributes))

    def _attributes_of(self, node: Node) -> int:
        """The number of a set of extended attributes; sets that are alike are kept once."""
        if not node.attributes:
            return NO_ATTRIBUTES
        data = b""
        for name, value in node.attributes:
            prefix = next((prefix for prefix in ATTRIBUTE_PREFIXES if name.startswith(prefix)), None)
            if prefix is None:
                raise SquashfsUnfit(f"squashfs cannot hold the extended attribute `{name}` of {node.path}")
            rest = name[len(prefix) :].encode("utf-8", "surrogateescape")
            data += ATTRIBUTE.pack(type=ATTRIBUTE_PREFIXES.index(prefix), size=len(rest)) + rest
            data += struct.pack("<I", len(value)) + value
        if data not in self.attributes:
            self.attributes[data] = len(self.attributes)
            self.attribute_counts.append(len(node.attributes))
        return self.attributes[data]

    # Tables

    def _attribute_table(self) -> int:
        """Attributes one after another, then the sets of them, then a table that says where both are."""
        if not self.attributes:
            return NOTHING
        stream, sets = _Metadata(self.compress), b""
        for data, count in zip(self.attributes, self.attribute_counts, strict=True):
            start, offset = stream.place
            sets += ATTRIBUTE_SET.pack(place=start << 16 | offset, count=count, size=len(data))
            stream.add(data)
        table = ATTRIBUTE_TABLE.pack(start=self.position, count=len(self.attributes))
        self._put(stream.finish())
        return self._table(sets, bytes(table))

    def _table(self, data: bytes, head: bytes = b"") -> int:
        """Writes a table in metadata blocks, and after it `head` and the list of where they begin; returns their place."""
        stream = _Metadata(self.compress)
        stream.add(data)
        start = self.position
        self._put(stream.finish())
        places = [start + place for place in stream.starts[:-1]]
        here = self.position
        self._put(head + struct.pack(f"<{len(places)}Q", *places))
        return here


def _listing(
    children: list[tuple[bytes, int]], kinds: list[int], references: list[int]
) -> tuple[bytes, list[tuple[int, bytes]]]:
    """A folder's listing, and for each run in it where it begins and its first name.

    A run's inodes lie in one metadata block, with numbers near the first one's."""
    out = bytearray()
    begins: list[tuple[int, bytes]] = []
    run, block, first, count = bytearray(), -1, 0, 0
    for name, at in children:
        reference = references[at]
        if reference >> 16 != block or not -32768 <= at - first <= 32767 or count == MOST_IN_RUN:
            if count:
                out += _RUN(count - 1, block, first + 1) + run
            block, first, count = reference >> 16, at, 0
            begins.append((len(out), name))
            run.clear()
        run += _ENTRY(reference & 0xFFFF, at - first, kinds[at], len(name) - 1)
        run += name
        count += 1
    if count:
        out += _RUN(count - 1, block, first + 1) + run
    return bytes(out), begins


def _index(runs: list[tuple[int, bytes]], folders: _Metadata, begin: int) -> list[bytes]:
    """For each metadata block that a listing reaches into, its first run: so that a reader need not begin at the top."""
    index: list[bytes] = []
    reached = begin // METADATA
    for position, name in runs:
        block = (begin + position) // METADATA
        if block > reached:
            reached = block
            index.append(bytes(INDEX.pack(position=position, start=folders.starts[block], size=len(name) - 1)) + name)
    return index
