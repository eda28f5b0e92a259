"""What files hold, stored in a squashfs: blocks of each large file, and small files and tails of files many together in
fragments. Blocks are compressed in parallel threads and written in order; contents that are alike are stored once."""

from __future__ import annotations

import hashlib
import os
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from io import FileIO
from pathlib import Path
from typing import BinaryIO, NamedTuple

import google_crc32c
import msgspec

from yarrik.disk.squashfs_form import BLOCK, NO_FRAGMENT, UNCOMPRESSED_BLOCK
from yarrik.moving import stored_ranges
from yarrik.rootfs import Node

_WAITING = 64
_ZEROS = bytes(BLOCK)
#: What is read of both ends of files of the same size to see whether they may be alike.
_END = 4096


class Stored(NamedTuple):
    """Where a file's bytes lie: first block, sizes of blocks as they are stored, bytes in blocks of zeros, and its tail
    in a fragment."""

    start: int
    sizes: tuple[int, ...]
    sparse: int
    fragment: int = NO_FRAGMENT
    offset: int = 0


class _Large(msgspec.Struct):
    """A large file whose blocks are under way."""

    sizes: list[int]
    start: int = 0
    sparse: int = 0
    fragment: int = NO_FRAGMENT
    offset: int = 0


class Contents(msgspec.Struct):
    """Stores files one after another from `position` of the sink on; `fragments` are their places and sizes."""

    sink: BinaryIO
    position: int
    content: Callable[[str], str | Path]
    compress: Callable[[bytes], bytes]
    pool: ThreadPoolExecutor
    fragments: list[tuple[int, int]] = msgspec.field(default_factory=list)
    _fragment_count: int = 0
    _waiting: deque[tuple[Future[bytes], bytes, Callable[[int, int], None]]] = msgspec.field(default_factory=deque)
    _writing: Future[None] | None = None
    _tail: bytearray = msgspec.field(default_factory=lambda: bytearray(BLOCK))
    _used: int = 0

    def store(self, files: list[Node]) -> list[Stored]:
        """Stores all files, in order. Raises ValueError for one that is not as it was listed."""
        same = self._large_duplicates([node for node in files if node.size >= BLOCK])
        seen: dict[int, int] = {}
        found: list[Stored] = []
        large: dict[str, tuple[int, _Large]] = {}
        nothing, view = Stored(0, (), 0), memoryview(self._tail)
        opened, read, close, place, checksum = os.open, os.readv, os.close, self.content, google_crc32c.value
        for at, node in enumerate(files):
            size = node.size
            if not size:
                found.append(nothing)
                continue
            if size >= BLOCK:
                first = same.get(node.path, node.path)
                if first not in large:
                    large[first] = (at, self._blocks(node))
                found.append(nothing)
                continue
            if self._used + size > BLOCK:
                self._close_fragment()
            used = self._used
            part = view[used : used + size]
            handle = opened(place(node.content), os.O_RDONLY)
            try:
                if read(handle, (part,)) != size:
                    raise _too_short(node)
            finally:
                close(handle)
            known = seen.setdefault(size << 32 | checksum(bytes(part)), at)
            if known != at and self._alike(files[known], part):
                found.append(found[known])
            else:
                found.append(Stored(0, (), 0, self._fragment_count, used))
                self._used = used + size
        if self._used:
            self._close_fragment()
        self._settle(0)
        for at, node in enumerate(files):
            if node.size >= BLOCK:
                one = large[same.get(node.path, node.path)][1]
                found[at] = Stored(one.start, tuple(one.sizes), one.sparse, one.fragment, one.offset)
        return found

    def _alike(self, node: Node, data: memoryview) -> bool:
        with open(self.content(node.content), "rb") as file:
            return file.read(len(data) + 1) == data

    def _large_duplicates(self, nodes: list[Node]) -> dict[str, str]:
        """For files that are alike the path of the first of them. Only files of the same size, with the same beginning and the
        same end, are read for it."""
        sizes: dict[int, list[Node]] = {}
        for node in nodes:
            sizes.setdefault(node.size, []).append(node)
        several = [node for alike in sizes.values() if len(alike) > 1 for node in alike]
        groups: dict[tuple[int, bytes], list[Node]] = {}
        for node, ends in zip(several, self.pool.map(self._ends, several), strict=True):
            groups.setdefault((node.size, ends), []).append(node)
        same: dict[str, str] = {}
        for alike in groups.values():
            if len(alike) > 1:
                seen: dict[str, str] = {}
                for node, digest in zip(alike, self.pool.map(self._digest, alike), strict=True):
                    same[node.path] = seen.setdefault(digest, node.path)
        return same

    def _ends(self, node: Node) -> bytes:
        """The SHA-256 of a file's first and last bytes."""
        digest = hashlib.sha256()
        with open(self.content(node.content), "rb", buffering=0) as file:
            for at in (0, node.size - _END):
                file.seek(at)
                digest.update(_exactly(file, _END, node))
        return digest.digest()

    def _digest(self, node: Node) -> str:
        """The SHA-256 of all that is stored of a file, and where."""
        digest = hashlib.sha256()
        with open(self.content(node.content), "rb", buffering=0) as file:
            for first, length in _stored_blocks(file, node):
                for at in range(first, first + length, BLOCK):
                    file.seek(at)
                    data = _exactly(file, min(BLOCK, node.size - at), node)
                    if data != _ZEROS[: len(data)]:
                        digest.update(at.to_bytes(8, "little"))
                        digest.update(data)
        return digest.hexdigest()

    def _blocks(self, node: Node) -> _Large:
        """Has a large file's blocks stored; the answer is filled in as they are."""
        whole = node.size // BLOCK * BLOCK
        large = _Large([0] * (node.size // BLOCK), sparse=whole)
        with open(self.content(node.content), "rb", buffering=0) as file:
            for first, length in _stored_blocks(file, node):
                file.seek(first)
                for at in range(first, min(first + length, whole), BLOCK):
                    data = _exactly(file, BLOCK, node)
                    if data != _ZEROS:  # a block of zeros takes no room: its size is zero
                        large.sparse -= BLOCK
                        self._submit(data, _settling(large, at // BLOCK))
            file.seek(whole)
            rest = _exactly(file, node.size - whole, node)
        if rest:
            if self._used + len(rest) > BLOCK:
                self._close_fragment()
            large.fragment, large.offset = self._fragment_count, self._used
            self._tail[self._used : self._used + len(rest)] = rest
            self._used += len(rest)
        return large

    def _close_fragment(self) -> None:
        self._submit(bytes(memoryview(self._tail)[: self._used]), lambda start, size: self.fragments.append((start, size)))
        self._fragment_count += 1
        self._used = 0

    def _submit(self, data: bytes, settle: Callable[[int, int], None]) -> None:
        """Has a block compressed; `settle` is told where it went and with what size, in the order of submitting."""
        self._waiting.append((self.pool.submit(self.compress, data), data, settle))
        if len(self._waiting) >= _WAITING:
            self._settle(_WAITING // 2)

    def _settle(self, left: int) -> None:
        """Writes waiting blocks, in their order, until `left` remain."""
        parts: list[bytes] = []
        while len(self._waiting) > left:
            future, data, settle = self._waiting.popleft()
            small = future.result()
            if len(small) < len(data):
                settle(self.position, len(small))
            else:
                small = data
                settle(self.position, len(data) | UNCOMPRESSED_BLOCK)
            parts.append(small)
            self.position += len(small)
        if self._writing is not None:
            self._writing.result()
        self._writing = self.pool.submit(self.sink.writelines, parts) if left else None
        if not left:
            self.sink.writelines(parts)


def _settling(large: _Large, index: int) -> Callable[[int, int], None]:
    def settle(start: int, size: int) -> None:
        large.start = large.start or start
        large.sizes[index] = size

    return settle


def _exactly(file: FileIO, count: int, node: Node) -> bytes:
    """`count` bytes of an unbuffered file."""
    out = file.read(count) or b""
    while len(out) < count:
        part = file.read(count - len(out))
        if not part:
            raise _too_short(node)
        out += part
    return out


def _too_short(node: Node) -> ValueError:
    return ValueError(f"{node.path} was truncated while it was read")


def _stored_blocks(file: FileIO, node: Node) -> list[tuple[int, int]]:
    """Runs of a file's blocks (start and length in bytes) that are not in holes; what lies between reads as zeros."""
    if os.fstat(file.fileno()).st_size < node.size:
        raise _too_short(node)
    found: list[tuple[int, int]] = []
    for start, length in stored_ranges(file.fileno(), 0, node.size):
        first, end = start // BLOCK * BLOCK, min(node.size, -(-(start + length) // BLOCK) * BLOCK)
        first = max(first, sum(found[-1])) if found else first
        if end > first:
            found.append((first, end - first))
    return found
