"""Unpacks tar archives straight into the cache: members become objects and entries of a tree, no path is followed."""

from __future__ import annotations

import contextlib
import lzma
import os
import stat
import tarfile
import zipfile
import zlib
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import BinaryIO, cast

import msgspec

from yarrik.cache import Entry, Store, Tree, safe_relative
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.sources.expand import PIECE, ReadAhead, expanded
from yarrik.units import shown_size

#: What the kernel takes for one path (PATH_MAX), and more folders than any source has.
LONGEST_PATH, DEEPEST = 4095, 200
#: Small files that are kept by one thread at a time, and batches of them that wait at most.
_TOGETHER, _BATCHES = 256, 4
ARCHIVES = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz", ".tar.zst", ".zip")


def is_archive(name: str) -> bool:
    """Whether a file of this name is unpacked; others are taken as they are."""
    return name.lower().endswith(ARCHIVES)


class Limits(msgspec.Struct, frozen=True):
    """How many members an archive may have, and how many bytes its files in all."""

    members: int = 200_000
    size: int = 16 << 30


USUAL = Limits()


class _Watch:
    """Counts what comes out of an archive, and ends it when it is more than the limits. A few bytes can hold a great deal."""

    def __init__(self, name: str, limits: Limits) -> None:
        self._name, self._limits = name, limits
        self._members = self._size = 0

    def member(self, path: str) -> None:
        self._members += 1
        if self._members > self._limits.members:
            raise self._too_much(f"has more than {self._limits.members} members", "member-limit")
        if len(os.fsencode(path)) > LONGEST_PATH or path.count("/") > DEEPEST:
            raise _unfit(self._name, f"a member's path has more than {LONGEST_PATH} bytes or {DEEPEST} folders")

    def content(self, source: BinaryIO) -> BinaryIO:
        """The same stream, watched."""
        return cast(BinaryIO, _Watched(source, self))

    def bytes(self, count: int) -> None:
        self._size += count
        if self._size > self._limits.size:
            raise self._too_much(f"unpacks to more than {shown_size(self._limits.size)}", "size-limit")

    def _too_much(self, what: str, key: str) -> YarrikError:
        return YarrikError(
            Trouble("ARCHIVE-TOO-LARGE", f"the archive {self._name} {what}",
                    why="a small archive can hold so much that no disk has room for it",
                    remedy=f"if it is right that way, raise `{key}` of the recipe's [[source]]"),
            "work",
        )  # fmt: skip


class _Watched:
    def __init__(self, source: BinaryIO, watch: _Watch) -> None:
        self._source, self._watch = source, watch

    def read(self, count: int) -> bytes:
        data = self._source.read(count)
        self._watch.bytes(len(data))
        return data


def unpack_archive(archive: Path, shown_name: str, store: Store, limits: Limits = USUAL) -> Tree:
    """The tree in an archive (tar, plain or with gzip, bzip2, xz, zstd; zip), stored; a single folder at its top is left out.

    Modes come out as 755 or 644, times and owners are dropped. Raises YarrikError for what cannot be unpacked or
    would lead out of the tree."""
    entries: dict[str, Entry] = {}
    watch = _Watch(shown_name, limits)
    if shown_name.lower().endswith(".zip"):
        entries = _unzipped(archive, shown_name, store, watch)
        tree = _without_top(entries)
        _check_parents(tree, shown_name)
        store.put_tree(tree)
        return tree
    try:
        with _opened(archive, watch) as (tar, stream), _Storing(store) as storing:
            while (member := tar.next()) is not None:
                tar.members.clear()  # type: ignore[attr-defined]
                path = member.name.removeprefix("./").rstrip("/")
                if path in ("", "."):
                    continue
                watch.member(path)
                if not safe_relative(path):
                    raise _unfit(shown_name, f"the member {member.name!r} leads out of the archive's own folder")
                if member.isdir():
                    entries[path] = Entry(path, "folder", 0o755, 0, "")
                elif member.issym():
                    entries[path] = Entry(path, "link", 0o777, len(member.linkname), member.linkname)
                elif member.islnk():
                    storing.wait(entries)
                    known = entries.get(member.linkname.removeprefix("./"))
                    if known is None or known.kind != "file":
                        raise _unfit(shown_name, f"{member.name!r} is a hard link to something that is not in the archive")
                    entries[path] = Entry(path, "file", known.mode, known.size, known.content)
                elif member.isreg():
                    mode = 0o755 if member.mode & 0o100 else 0o644
                    watch.bytes(member.size)
                    if member.size > PIECE or member.issparse():
                        digest, size = store.put_stream(_content(member, tar, stream))
                        entries[path] = Entry(path, "file", mode, size, digest)
                        continue
                    data = stream.read(member.size)
                    if len(data) < member.size:
                        raise EOFError(f"it ends in the middle of {member.name!r}")
                    entries[path] = Entry(path, "file", mode, len(data), "")
                    storing.add(entries, entries[path], data)
                elif member.type not in (tarfile.XGLTYPE, tarfile.XHDTYPE):
                    raise _unfit(shown_name, f"{member.name!r} is a device or pipe")
            storing.wait(entries)
    except (tarfile.TarError, lzma.LZMAError, zlib.error, EOFError, OSError, ValueError) as error:
        raise _unfit(shown_name, str(error)) from error
    tree = _without_top(entries)
    _check_parents(tree, shown_name)
    store.put_tree(tree)
    return tree


@contextlib.contextmanager
def _opened(archive: Path, watch: _Watch) -> Iterator[tuple[tarfile.TarFile, ReadAhead]]:
    """The archive, and what it is read from: its contents are taken from there. (tarfile's own way copies all that a block
    expands to for each read of it, so a few bytes can take minutes.)"""
    with archive.open("rb") as file:
        stream = ReadAhead(expanded(file), PIECE, watch.bytes)
        try:
            with tarfile.open(fileobj=cast(BinaryIO, stream), mode="r:") as tar:
                yield tar, stream
        finally:
            stream.close()


def _content(member: tarfile.TarInfo, tar: tarfile.TarFile, stream: ReadAhead) -> BinaryIO:
    if not member.issparse():
        return cast(BinaryIO, _Part(stream, member.size))
    content = tar.extractfile(member)
    assert content is not None  # a regular member always has some
    return cast(BinaryIO, content)


class _Storing:
    """Keeps small files, many at a time, in another thread: most of it is digests and the kernel's work."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="unpack")
        self._begun: list[tuple[Entry, bytes]] = []
        self._size = 0
        self._under_way: deque[tuple[list[Entry], Future[list[str]]]] = deque()

    def __enter__(self) -> _Storing:
        return self

    def __exit__(self, *_: object) -> None:
        self._pool.shutdown(wait=True, cancel_futures=True)

    def add(self, entries: dict[str, Entry], entry: Entry, data: bytes) -> None:
        """Takes a file whose entry waits for its digest."""
        self._begun.append((entry, data))
        self._size += len(data)
        if len(self._begun) >= _TOGETHER or self._size >= PIECE:
            self._send()
            if len(self._under_way) > _BATCHES:
                self._settle(entries)

    def wait(self, entries: dict[str, Entry]) -> None:
        """Puts the digests of all that was taken into the entries."""
        self._send()
        while self._under_way:
            self._settle(entries)

    def _send(self) -> None:
        if self._begun:
            future = self._pool.submit(lambda many: [self._store.put_bytes(data) for _, data in many], self._begun)
            self._under_way.append(([entry for entry, _ in self._begun], future))
            self._begun, self._size = [], 0

    def _settle(self, entries: dict[str, Entry]) -> None:
        waiting, future = self._under_way.popleft()
        for entry, digest in zip(waiting, future.result(), strict=True):
            if entries.get(entry.path) is entry:  # else a later member has its path
                entries[entry.path] = Entry(entry.path, "file", entry.mode, entry.size, digest)


class _Part:
    """The next bytes of a stream, as a file of their own."""

    def __init__(self, stream: ReadAhead, size: int) -> None:
        self._stream, self._left = stream, size

    def read(self, count: int) -> bytes:
        data = self._stream.read(min(count, self._left))
        if not data and self._left:
            raise EOFError("it ends in the middle of a file")
        self._left -= len(data)
        return data


def _unzipped(archive: Path, shown_name: str, store: Store, watch: _Watch) -> dict[str, Entry]:
    """The members of a zip archive. What made it on Unix says modes and links; others have neither."""
    entries: dict[str, Entry] = {}
    try:
        with zipfile.ZipFile(archive) as file:
            for member in file.infolist():
                path = member.filename.removeprefix("./").rstrip("/")
                if path in ("", "."):
                    continue
                watch.member(path)
                if not safe_relative(path):
                    raise _unfit(shown_name, f"the member {member.filename!r} leads out of the archive's own folder")
                mode = member.external_attr >> 16
                if member.is_dir():
                    entries[path] = Entry(path, "folder", 0o755, 0, "")
                elif stat.S_ISLNK(mode):
                    if member.file_size > LONGEST_PATH:
                        raise _unfit(shown_name, f"the link {member.filename!r} leads to a path of {member.file_size} bytes")
                    target = file.read(member).decode("utf-8", "surrogateescape")
                    entries[path] = Entry(path, "link", 0o777, len(target), target)
                elif stat.S_IFMT(mode) not in (0, stat.S_IFREG):
                    raise _unfit(shown_name, f"{member.filename!r} is a device or pipe")
                else:
                    with file.open(member) as content:
                        digest, size = store.put_stream(watch.content(cast(BinaryIO, content)))
                    entries[path] = Entry(path, "file", 0o755 if mode & 0o100 else 0o644, size, digest)
                for parent in _parents(path):
                    entries.setdefault(parent, Entry(parent, "folder", 0o755, 0, ""))
    except (
        zipfile.BadZipFile,
        zlib.error,
        lzma.LZMAError,
        EOFError,
        OSError,
        ValueError,
        NotImplementedError,
        RuntimeError,
    ) as error:
        raise _unfit(shown_name, str(error)) from error
    return entries


def _parents(path: str) -> Iterator[str]:
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path


def _without_top(entries: dict[str, Entry]) -> Tree:
    tops = {path.split("/")[0] for path in entries}
    if len(tops) == 1:
        top = next(iter(tops))
        if all(path != top or entry.kind == "folder" for path, entry in entries.items()):
            entries = {path[len(top) + 1 :]: entry for path, entry in entries.items() if path != top}
    complete = {path: Entry(path, e.kind, e.mode, e.size, e.content) for path, e in entries.items()}
    for path in list(complete):
        while "/" in path:
            path = path.rpartition("/")[0]
            complete.setdefault(path, Entry(path, "folder", 0o755, 0, ""))
    return Tree.of(complete.values())


def _check_parents(tree: Tree, shown_name: str) -> None:
    kinds = {entry.path: entry.kind for entry in tree.entries}
    for path in kinds:
        parent = path.rpartition("/")[0]
        if parent and kinds[parent] != "folder":
            raise _unfit(shown_name, f"{path!r} lies below a link or file")


def _unfit(name: str, reason: str) -> YarrikError:
    return YarrikError(
        Trouble("ARCHIVE-UNFIT", f"the archive {name} cannot be unpacked: {reason}", Place(),
                why="an archive's members become the sources of a build, and nothing else",
                remedy="check where the archive came from, and fetch it anew"),
        "work",
    )  # fmt: skip
