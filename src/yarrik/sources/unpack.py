"""Unpacks tar archives straight into the cache: members become objects and entries of a tree, no path is followed."""

from __future__ import annotations

import lzma
import tarfile
import zlib
from pathlib import Path

from yarrik.cache import Entry, Store, Tree, safe_relative
from yarrik.errors import Place, Trouble, YarrikError


def unpack_archive(archive: Path, shown_name: str, store: Store) -> Tree:
    """The tree in a tar archive (plain, gzip, bzip2 or xz), stored; a single folder at its top is left out.

    Modes come out as 755 or 644, times and owners are dropped. Raises YarrikError for what cannot be unpacked or
    would lead out of the tree."""
    entries: dict[str, Entry] = {}
    try:
        with tarfile.open(archive, "r|*") as tar:
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
