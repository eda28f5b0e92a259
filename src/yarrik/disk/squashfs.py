"""The squashfs 4.0 filesystem, written: the kernel's Documentation/filesystems/squashfs.rst and fs/squashfs/squashfs_fs.h are
the specification.

Contents come first (blocks of each file, then tails of several files together as fragments), compressed in parallel
threads and written in order, so that the bytes are the same for any number of them; then inodes, folders and tables.
"""

from __future__ import annotations

import hashlib
import itertools
import os
import struct
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from io import FileIO
from pathlib import Path
from typing import BinaryIO

from yarrik.disk.records import Record
from yarrik.rootfs import Node, RootTree

BLOCK = 131072
METADATA = 8192
UNCOMPRESSED_BLOCK = 1 << 24
UNCOMPRESSED_METADATA = 0x8000
NOTHING = 0xFFFFFFFFFFFFFFFF
NO_FRAGMENT = 0xFFFFFFFF
MOST_IN_RUN = 256
COMPRESSORS = {"gzip": 1, "xz": 4, "zstd": 6}
#: duplicates are stored once, inodes can be found by number (export table), there are no extended attributes
FLAGS = 0x0040 | 0x0080 | 0x0200

_SUPER = Record(
    96,
    ("magic", 0, "I"),
    ("inodes", 4, "I"),
    ("made_at", 8, "I"),
    ("block_size", 12, "I"),
    ("fragments", 16, "I"),
    ("compressor", 20, "H"),
    ("block_log", 22, "H"),
    ("flags", 24, "H"),
    ("ids", 26, "H"),
    ("major", 28, "H"),
    ("minor", 30, "H"),
    ("root_inode", 32, "Q"),
    ("bytes_used", 40, "Q"),
    ("id_table", 48, "Q"),
    ("attribute_table", 56, "Q"),
    ("inode_table", 64, "Q"),
    ("folder_table", 72, "Q"),
    ("fragment_table", 80, "Q"),
    ("export_table", 88, "Q"),
)
_FOLDER, _FILE, _LINK, _BLOCK, _CHARACTER, _FIFO, _SOCKET = range(1, 8)
_LONG = 7  # added to a type for its extended form
_TYPES = {
    "folder": _FOLDER,
    "file": _FILE,
    "link": _LINK,
    "block": _BLOCK,
    "character": _CHARACTER,
    "fifo": _FIFO,
    "socket": _SOCKET,
}


class SquashfsUnfit(ValueError):
    """The tree holds what squashfs cannot."""


def compressor(name: str, level: int | None = None) -> Callable[[bytes], bytes]:
    """The function that compresses one block. Raises ValueError for a name that is not known."""
    if name == "gzip":
        import zlib

        return lambda data: zlib.compress(data, 9 if level is None else level)
    if name == "xz":
        import lzma

        # The kernel's reader has a dictionary of a block's size and no more.
        filters = [{"id": lzma.FILTER_LZMA2, "preset": 6 if level is None else level, "dict_size": BLOCK}]
        return lambda data: lzma.compress(data, lzma.FORMAT_XZ, lzma.CHECK_CRC32, filters=filters)
    if name == "zstd":
        import threading

        import zstandard

        local = threading.local()

        def compress(data: bytes) -> bytes:
            if not hasattr(local, "compressor"):
                local.compressor = zstandard.ZstdCompressor(level=15 if level is None else level)
            result: bytes = local.compressor.compress(data)
            return result

        return compress
    raise ValueError(f"`{name}` is no compression that is known: {', '.join(COMPRESSORS)}")


@dataclass(frozen=True)
class _Content:
    """Where a file's bytes lie: first block, sizes of blocks as they are stored, and its tail in a fragment."""

    start: int
    sizes: tuple[int, ...]
    sparse: int
    fragment: int = NO_FRAGMENT
    offset: int = 0


@dataclass
class _Metadata:
    """A stream of blocks of 8 KiB, compressed one by one; a place in it is (where its block begins, offset in the block)."""

    compress: Callable[[bytes], bytes]
    out: bytearray = field(default_factory=bytearray)
    pending: bytearray = field(default_factory=bytearray)
    starts: list[int] = field(default_factory=lambda: [0])

    @property
    def place(self) -> tuple[int, int]:
        return len(self.out), len(self.pending)

    def add(self, data: bytes) -> None:
        self.pending += data
        while len(self.pending) >= METADATA:
            self._close(METADATA)

    def _close(self, count: int) -> None:
        data = bytes(self.pending[:count])
        del self.pending[:count]
        small = self.compress(data)
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


@dataclass
class _Writer:
    tree: RootTree
    sink: BinaryIO
    content: Callable[[str], str | Path]
    clock: int
    compression: str
    compress: Callable[[bytes], bytes]
    pool: ThreadPoolExecutor
    position: int = _SUPER.size
    waiting: deque[tuple[Future[bytes], bytes, Callable[[int, int], None]]] = field(default_factory=deque)
    tail: bytearray = field(default_factory=bytearray)
    fragments: list[tuple[int, int]] = field(default_factory=list)
    fragment_count: int = 0
    ids: dict[int, int] = field(default_factory=dict)

    def run(self) -> int:
        self.sink.seek(self.position)
        contents = self._contents()
        numbers = self._numbers()
        inodes, folders, references = self._inodes(contents, numbers)
        inode_table = self.position
        self._put(inodes.finish())
        folder_table = self.position
        self._put(folders.finish())
        fragment_table = self._table(b"".join(struct.pack("<QII", start, size, 0) for start, size in self.fragments))
        export_table = self._table(b"".join(struct.pack("<Q", references[number]) for number in sorted(references)))
        id_table = self._table(b"".join(struct.pack("<I", one) for one in self.ids))
        used = self.position
        self.sink.seek(0)
        self.sink.write(
            _SUPER.pack(
                magic=0x73717368,
                inodes=len(references),
                made_at=max(0, self.clock) & 0xFFFFFFFF,
                block_size=BLOCK,
                fragments=len(self.fragments),
                compressor=COMPRESSORS[self.compression],
                block_log=BLOCK.bit_length() - 1,
                flags=FLAGS,
                ids=len(self.ids),
                major=4,
                root_inode=references[numbers["/"]],
                bytes_used=used,
                id_table=id_table,
                attribute_table=NOTHING,
                inode_table=inode_table,
                folder_table=folder_table,
                fragment_table=fragment_table if self.fragments else NOTHING,
                export_table=export_table,
            )
        )
        whole = -(-used // 4096) * 4096
        self.sink.truncate(whole)
        return whole

    def _put(self, data: bytes) -> None:
        self.sink.write(data)
        self.position += len(data)

    # Contents

    def _submit(self, data: bytes, settle: Callable[[int, int], None]) -> None:
        """Has a block compressed; `settle` is told where it went and with what size, in the order of submitting."""
        self.waiting.append((self.pool.submit(self.compress, data), data, settle))
        while len(self.waiting) > 64:
            self._drain_one()

    def _drain_one(self) -> None:
        future, data, settle = self.waiting.popleft()
        small = future.result()
        start = self.position
        if len(small) < len(data):
            self._put(small)
            settle(start, len(small))
        else:
            self._put(data)
            settle(start, len(data) | UNCOMPRESSED_BLOCK)

    def _drain(self) -> None:
        while self.waiting:
            self._drain_one()

    def _contents(self) -> dict[str, _Content]:
        """Stores the content of each file once, and returns where it lies, by path."""
        same = self._duplicates()
        stored: dict[str, _Content] = {}
        parts: dict[str, tuple[list[int], list[int], int, int, int]] = {}
        for node in self.tree.nodes:
            if node.kind != "file" or node.same_as or same.get(node.path, node.path) != node.path:
                continue
            parts[node.path] = self._store(node)
        if self.tail:
            self._close_fragment()
        self._drain()
        for path, (starts, sizes, sparse, fragment, offset) in parts.items():
            stored[path] = _Content(starts[0] if starts else 0, tuple(sizes), sparse, fragment, offset)
        for node in self.tree.nodes:
            if node.kind == "file" and not node.same_as and node.path not in stored:
                stored[node.path] = stored[same[node.path]]
        return stored

    def _duplicates(self) -> dict[str, str]:
        """For files that are alike the path of the first of them. Only files of the same size are read for it."""
        sizes: dict[int, list[Node]] = {}
        for node in self.tree.nodes:
            if node.kind == "file" and node.size and not node.same_as:
                sizes.setdefault(node.size, []).append(node)
        same: dict[str, str] = {}
        for nodes in sizes.values():
            if len(nodes) > 1:
                seen: dict[str, str] = {}
                for node in nodes:
                    with open(self.content(node.content), "rb") as file:
                        digest = hashlib.file_digest(file, "sha256").hexdigest()
                    same[node.path] = seen.setdefault(digest, node.path)
        return same

    def _store(self, node: Node) -> tuple[list[int], list[int], int, int, int]:
        starts: list[int] = []
        sizes = [0] * (node.size // BLOCK)
        sparse = 0
        with open(self.content(node.content), "rb", buffering=0) as file:
            for index in range(node.size // BLOCK):
                data = _exactly(file, BLOCK, node)
                if not data.strip(b"\0"):
                    sparse += BLOCK  # a block of zeros takes no room: its size is zero
                    continue

                def settle(start: int, size: int, index: int = index) -> None:
                    if not starts:
                        starts.append(start)
                    sizes[index] = size

                self._submit(data, settle)
            rest = _exactly(file, node.size % BLOCK, node)
        if not rest:
            return starts, sizes, sparse, NO_FRAGMENT, 0
        if len(self.tail) + len(rest) > BLOCK:
            self._close_fragment()
        offset = len(self.tail)
        self.tail += rest
        return starts, sizes, sparse, self.fragment_count, offset

    def _close_fragment(self) -> None:
        self._submit(bytes(self.tail), lambda start, size: self.fragments.append((start, size)))
        self.tail = bytearray()
        self.fragment_count += 1

    # Inodes and folders

    def _numbers(self) -> dict[str, int]:
        numbers: dict[str, int] = {}
        counter = itertools.count(1)
        for node in self.tree.nodes:
            if not node.same_as:
                numbers[node.path] = next(counter)
        for node in self.tree.nodes:
            if node.same_as:
                numbers[node.path] = numbers[node.same_as]
        return numbers

    def _inodes(self, contents: dict[str, _Content], numbers: dict[str, int]) -> tuple[_Metadata, _Metadata, dict[int, int]]:
        """The inode and folder tables, and a reference to each inode by its number. Folders come after what they hold."""
        inodes, folders = _Metadata(self.compress), _Metadata(self.compress)
        references: dict[int, int] = {}
        links: dict[str, int] = {}
        children: dict[str, list[Node]] = {node.path: [] for node in self.tree.nodes if node.kind == "folder"}
        for node in self.tree.nodes:
            links[node.same_as or node.path] = links.get(node.same_as or node.path, 0) + 1
            if node.path != "/":
                children[node.parent].append(node)

        def place(number: int, data: bytes) -> None:
            start, offset = inodes.place
            references[number] = start << 16 | offset
            inodes.add(data)

        for node in reversed(self.tree.nodes):  # what lies deeper comes later in the tree, so folders follow their content
            if node.kind == "folder" or node.same_as:
                continue
            place(numbers[node.path], self._inode(node, numbers[node.path], links[node.path], contents.get(node.path)))
        for node in reversed(self.tree.nodes):
            if node.kind != "folder":
                continue
            start, offset = folders.place
            listing = _listing(children[node.path], numbers, references)
            folders.add(listing)
            count = 2 + sum(child.kind == "folder" for child in children[node.path])
            size = len(listing) + 3
            # The top's parent is a number that no inode has.
            parent = numbers[node.parent] if node.path != "/" else len(numbers) + 1
            number = numbers[node.path]
            if size < 0x10000:
                head = self._head(node, _FOLDER, number)
                place(number, head + struct.pack("<IIHHI", start, count, size, offset, parent))
            else:
                head = self._head(node, _FOLDER + _LONG, number)
                place(number, head + struct.pack("<IIIIHHI", count, size, start, parent, 0, offset, 0xFFFFFFFF))
        return inodes, folders, references

    def _head(self, node: Node, kind: int, number: int) -> bytes:
        modified = self.clock if node.modified is None else node.modified
        return struct.pack(
            "<HHHHII", kind, node.mode, self._id(node.uid), self._id(node.gid), min(max(0, modified), 0xFFFFFFFF), number
        )

    def _id(self, value: int) -> int:
        index = self.ids.setdefault(value, len(self.ids))
        if index > 0xFFFF:
            raise SquashfsUnfit("there are more than 65536 different owners and groups")
        return index

    def _inode(self, node: Node, number: int, links: int, content: _Content | None) -> bytes:
        if node.kind == "file":
            assert content is not None
            sizes = struct.pack(f"<{len(content.sizes)}I", *content.sizes)
            if links == 1 and node.size < 1 << 32 and content.start < 1 << 32 and not content.sparse:
                head = self._head(node, _FILE, number)
                return head + struct.pack("<IIII", content.start, content.fragment, content.offset, node.size) + sizes
            head = self._head(node, _FILE + _LONG, number)
            fields = (content.start, node.size, content.sparse, links, content.fragment, content.offset, 0xFFFFFFFF)
            return head + struct.pack("<QQQIIII", *fields) + sizes
        head = self._head(node, _TYPES[node.kind], number)
        if node.kind == "link":
            target = os.fsencode(node.content)
            return head + struct.pack("<II", links, len(target)) + target
        if node.kind in ("block", "character"):
            major, minor = node.device
            return head + struct.pack("<II", links, minor & 0xFF | major << 8 | (minor & ~0xFF) << 12)
        return head + struct.pack("<I", links)

    # Tables

    def _table(self, data: bytes) -> int:
        """Writes a table in metadata blocks and after it the list of where they begin; returns the place of the list."""
        stream = _Metadata(self.compress)
        stream.add(data)
        start = self.position
        self._put(stream.finish())
        places = [start + place for place in stream.starts[:-1]]
        here = self.position
        self._put(struct.pack(f"<{len(places)}Q", *places))
        return here


def _exactly(file: FileIO, count: int, node: Node) -> bytes:
    """So many bytes of an unbuffered file."""
    out = bytearray()
    while len(out) < count:
        part = file.read(count - len(out))
        if not part:
            raise ValueError(f"{node.path} is shorter than it was when it was listed")
        out += part
    return bytes(out)


def _runs(children: list[Node], numbers: dict[str, int], references: dict[int, int]) -> Iterator[list[Node]]:
    """Children in runs whose inodes lie in one metadata block, with numbers near the first one's."""
    run: list[Node] = []
    for child in sorted(children, key=lambda child: os.fsencode(child.name)):
        if run:
            first = numbers[run[0].path]
            near = -32768 <= numbers[child.path] - first <= 32767
            together = references[numbers[child.path]] >> 16 == references[first] >> 16
            if not near or not together or len(run) == MOST_IN_RUN:
                yield run
                run = []
        run.append(child)
    if run:
        yield run


def _listing(children: list[Node], numbers: dict[str, int], references: dict[int, int]) -> bytes:
    out = bytearray()
    for run in _runs(children, numbers, references):
        first = numbers[run[0].path]
        out += struct.pack("<III", len(run) - 1, references[first] >> 16, first)
        for child in run:
            name = os.fsencode(child.name)
            if len(name) > 256:
                raise SquashfsUnfit(f"the name {child.name[:40]!r}… is longer than 256 bytes")
            number = numbers[child.path]
            out += struct.pack("<HhHH", references[number] & 0xFFFF, number - first, _TYPES[child.kind], len(name) - 1) + name
    return bytes(out)
