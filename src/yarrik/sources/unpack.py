"""Unpacks tar archives straight into the cache: members become objects and entries of a tree, no path is followed."""

from __future__ import annotations

import contextlib
import lzma
import os
import stat
import tarfile
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, cast

from yarrik.cache import Entry, Store, Tree, safe_relative
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.units import shown_size

#: What the kernel takes for one path (PATH_MAX), and more folders than any source has.
LONGEST_PATH, DEEPEST = 4095, 200
ARCHIVES = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz", ".tar.zst", ".zip")


def is_archive(name: str) -> bool:
    """Whether a file of this name is unpacked; others are taken as they are."""
    return name.lower().endswith(ARCHIVES)


@dataclass(frozen=True)
class Limits:
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
        with _opened(archive) as tar:
            for member in tar:
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
                    known = entries.get(member.linkname.removeprefix("./"))
                    if known is None or known.kind != "file":
                        raise _unfit(shown_name, f"{member.name!r} is a hard link to something that is not in the archive")
                    entries[path] = Entry(path, "file", known.mode, known.size, known.content)
                elif member.isreg():
                    content = tar.extractfile(member)
                    assert content is not None  # a regular member always has some
                    digest, size = store.put_stream(watch.content(cast(BinaryIO, content)))
                    mode = 0o755 if member.mode & 0o100 else 0o644
                    entries[path] = Entry(path, "file", mode, size, digest)
                elif member.type not in (tarfile.XGLTYPE, tarfile.XHDTYPE):
                    raise _unfit(shown_name, f"{member.name!r} is a device or pipe")
    except (tarfile.TarError, lzma.LZMAError, zlib.error, EOFError, OSError, ValueError) as error:
        raise _unfit(shown_name, str(error)) from error
    tree = _without_top(entries)
    _check_parents(tree, shown_name)
    store.put_tree(tree)
    return tree


@contextlib.contextmanager
def _opened(archive: Path) -> Iterator[tarfile.TarFile]:
    """The archive, unpacked on the way by what its first bytes name. (tarfile's own way of doing that copies all that a block
    expands to for each read of it, so a few bytes can take minutes.)"""
    with archive.open("rb") as file:
        head = file.read(6)
        file.seek(0)
        with _expanded(file, head) as plain:
            try:
                with tarfile.open(fileobj=plain, mode="r|", bufsize=1 << 18) as tar:
                    yield tar
            except Exception as error:
                if type(error).__module__.startswith("zstandard"):
                    raise ValueError(str(error)) from error
                raise


def _expanded(file: BinaryIO, head: bytes) -> contextlib.AbstractContextManager[BinaryIO]:
    if head.startswith(b"\x1f\x8b"):
        import gzip

        return cast(contextlib.AbstractContextManager[BinaryIO], gzip.GzipFile(fileobj=file))
    if head.startswith(b"BZh"):
        import bz2

        return cast(contextlib.AbstractContextManager[BinaryIO], bz2.BZ2File(file))
    if head == b"\xfd7zXZ\0":
        return cast(contextlib.AbstractContextManager[BinaryIO], lzma.LZMAFile(file))
    if head.startswith(b"\x28\xb5\x2f\xfd"):
        import zstandard

        return cast(contextlib.AbstractContextManager[BinaryIO], zstandard.ZstdDecompressor().stream_reader(file))
    return contextlib.nullcontext(file)


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
