"""Unpacks tar archives straight into the cache: members become objects and entries of a tree, no path is followed."""

from __future__ import annotations

import contextlib
import lzma
import stat
import tarfile
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path

from yarrik.cache import Entry, Store, Tree, safe_relative
from yarrik.errors import Place, Trouble, YarrikError

ARCHIVES = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz", ".tar.zst", ".zip")


def is_archive(name: str) -> bool:
    """Whether a file of this name is unpacked; others are taken as they are."""
    return name.lower().endswith(ARCHIVES)


def unpack_archive(archive: Path, shown_name: str, store: Store) -> Tree:
    """The tree in an archive (tar, plain or with gzip, bzip2, xz, zstd; zip), stored; a single folder at its top is left out.

    Modes come out as 755 or 644, times and owners are dropped. Raises YarrikError for what cannot be unpacked or
    would lead out of the tree."""
    entries: dict[str, Entry] = {}
    if shown_name.lower().endswith(".zip"):
        entries = _unzipped(archive, shown_name, store)
        tree = _without_top(entries)
        _check_parents(tree, shown_name)
        store.put_tree(tree)
        return tree
    try:
        with _opened(archive, shown_name) as tar:
            for member in tar:
                path = member.name.removeprefix("./").rstrip("/")
                if path in ("", "."):
                    continue
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
                    digest, size = store.put_stream(content)  # type: ignore[arg-type]
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
def _opened(archive: Path, shown_name: str) -> Iterator[tarfile.TarFile]:
    if not shown_name.lower().endswith(".zst"):
        with tarfile.open(archive, "r|*") as tar:
            yield tar
        return
    import zstandard

    with archive.open("rb") as file, zstandard.ZstdDecompressor().stream_reader(file) as plain:
        try:
            with tarfile.open(fileobj=plain, mode="r|") as tar:
                yield tar
        except zstandard.ZstdError as error:
            raise ValueError(str(error)) from error


def _unzipped(archive: Path, shown_name: str, store: Store) -> dict[str, Entry]:
    """The members of a zip archive. What made it on Unix says modes and links; others have neither."""
    entries: dict[str, Entry] = {}
    try:
        with zipfile.ZipFile(archive) as file:
            for member in file.infolist():
                path = member.filename.removeprefix("./").rstrip("/")
                if path in ("", "."):
                    continue
                if not safe_relative(path):
                    raise _unfit(shown_name, f"the member {member.filename!r} leads out of the archive's own folder")
                mode = member.external_attr >> 16
                if member.is_dir():
                    entries[path] = Entry(path, "folder", 0o755, 0, "")
                elif stat.S_ISLNK(mode):
                    target = file.read(member).decode("utf-8", "surrogateescape")
                    entries[path] = Entry(path, "link", 0o777, len(target), target)
                elif stat.S_IFMT(mode) not in (0, stat.S_IFREG):
                    raise _unfit(shown_name, f"{member.filename!r} is a device or pipe")
                else:
                    with file.open(member) as content:
                        digest, size = store.put_stream(content)  # type: ignore[arg-type]
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
