"""A folder of this machine as a tree: what `pack` writes. Files' contents stay where they are; `content` is their path."""

from __future__ import annotations

import operator
import os
import re
import stat
from pathlib import Path

import msgspec
from msgspec.structs import replace

from yarrik.errors import Collector, Place, Trouble, YarrikError
from yarrik.rootfs.tree import Kind, Node, RootTree, unquoted

_KINDS: dict[int, Kind] = {
    stat.S_IFREG: "file",
    stat.S_IFDIR: "folder",
    stat.S_IFLNK: "link",
    stat.S_IFCHR: "character",
    stat.S_IFBLK: "block",
    stat.S_IFIFO: "fifo",
    stat.S_IFSOCK: "socket",
}
_name_of = operator.attrgetter("name")
_LETTERS: dict[str, Kind] = {"d": "folder", "c": "character", "b": "block", "p": "fifo"}


class OwnerRow(msgspec.Struct, frozen=True):
    """One line of an owners table; None keeps what the folder has."""

    path: str
    kind: Kind | None
    mode: int | None
    uid: int | None
    gid: int | None
    device: tuple[int, int] = (0, 0)


def read_owners(file: Path) -> list[OwnerRow]:
    """Reads a table of lines `PATH KIND MODE UID GID [MAJOR MINOR]`; `-` keeps the folder's value, `%20` is a blank in a path.

    KIND is `-` for what the folder holds, or `d`, `c`, `b`, `p` for what is to be made. Raises YarrikError with all
    lines that cannot be read."""
    collector = Collector()
    rows: list[OwnerRow] = []
    try:
        text = file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise YarrikError(Trouble("OWNERS-UNREADABLE", f"cannot read {file.name}: {error}", Place(file),
                                  remedy="name a table: PATH KIND MODE UID GID [MAJOR MINOR]")) from error  # fmt: skip
    for number, line in enumerate(text.splitlines(), 1):
        words = re.sub(r"#.*", "", line).split()
        if not words:
            continue
        row = _row(words)
        if row is None:
            collector.add(
                Trouble("OWNERS-LINE", f"`{line.strip()}` is not a line of an owners table", Place(file, number),
                        why="a line is PATH KIND MODE UID GID, with MAJOR MINOR for kinds c and b",
                        remedy="for example: /var/lib/tide - 0750 100 100")
            )  # fmt: skip
        else:
            rows.append(row)
    collector.raise_if_any()
    return rows


def _row(words: list[str]) -> OwnerRow | None:
    if len(words) not in (5, 7) or words[1] not in ("-", *_LETTERS) or not words[0].startswith("/"):
        return None
    kind = _LETTERS.get(words[1])
    if (kind in ("character", "block")) != (len(words) == 7):
        return None
    mode, uid, gid, *device = words[2:]
    if not re.fullmatch(r"[0-7]{3,4}|-", mode) or not all(re.fullmatch(r"\d{1,10}|-", word) for word in (uid, gid)):
        return None
    if not all(re.fullmatch(r"\d{1,10}", word) for word in device) or (kind is not None and "-" in (mode, uid, gid)):
        return None
    path = "/" + unquoted(words[0]).strip("/")
    if any(word in (".", "..", "") for word in path.split("/")[1:]) and path != "/":
        return None
    return OwnerRow(
        path,
        kind,
        None if mode == "-" else int(mode, 8),
        None if uid == "-" else int(uid),
        None if gid == "-" else int(gid),
        (int(device[0]), int(device[1])) if device else (0, 0),
    )


def read_folder(
    folder: Path, owners: list[OwnerRow] | None = None, all_root: bool = False, clock: int | None = None
) -> RootTree:
    """The tree of a folder, with its own owners, modes, times, nodes and hard links.

    With `all_root` everything belongs to root; `owners` go before that. With `clock` (seconds since 1970) everything
    has that time. Raises YarrikError for what cannot be read, and for lines of the table that fit nothing."""
    nodes: list[Node] = []
    inodes: dict[tuple[int, int], str] = {}
    try:
        nodes.append(_node("/", os.fspath(folder), folder.stat(), {}, all_root, clock))
        # Folders are gone into as they come, so that the nodes come in the order of a tree.
        waiting = [iter(_listed("", os.fspath(folder)))]
        while waiting:
            for path, item in waiting[-1]:
                status = item.stat(follow_symlinks=False)
                nodes.append(_node(path, item.path, status, inodes, all_root, clock))
                if stat.S_ISDIR(status.st_mode):
                    waiting.append(iter(_listed(path, item.path)))
                    break
            else:
                waiting.pop()
    except OSError as error:
        raise YarrikError(Trouble("FOLDER-UNREADABLE", f"cannot read {error.filename}: {error.strerror}", Place(folder),
                                  remedy="name a folder that you may read")) from error  # fmt: skip
    if not owners:
        tree = RootTree(tuple(nodes))
    else:
        by_path = {node.path: node for node in nodes}
        _apply(by_path, owners, clock)
        tree = RootTree.of(by_path.values())
    return _first_names_first(tree) if inodes else tree


def _listed(path: str, place: str) -> list[tuple[str, os.DirEntry[str]]]:
    """What a folder holds with its paths in the tree, in order."""
    return [(f"{path}/{item.name}", item) for item in sorted(os.scandir(place), key=_name_of)]


def _node(
    path: str, place: str, status: os.stat_result, inodes: dict[tuple[int, int], str], all_root: bool, clock: int | None
) -> Node:
    kind = _KINDS[stat.S_IFMT(status.st_mode)]
    uid, gid = (0, 0) if all_root else (status.st_uid, status.st_gid)
    same_as = ""
    if kind != "folder" and status.st_nlink > 1:
        same_as = inodes.setdefault((status.st_dev, status.st_ino), path)
    content = os.readlink(place) if kind == "link" else place if kind == "file" else ""
    device = (os.major(status.st_rdev), os.minor(status.st_rdev)) if kind in ("character", "block") else (0, 0)
    size = status.st_size if kind == "file" else 0
    modified = status.st_mtime_ns // 1_000_000_000 if clock is None else clock
    names = _attribute_names(place)
    attributes = tuple((name, os.getxattr(place, name, follow_symlinks=False)) for name in names) if names else ()
    return Node(
        path, kind, stat.S_IMODE(status.st_mode), uid, gid, size, content, device, modified=modified,
        same_as="" if same_as == path else same_as, attributes=attributes,
    )  # fmt: skip


def _attribute_names(place: str) -> list[str]:
    """Names of extended attributes that belong to the file; those of this machine's security modules do not."""
    try:
        names = os.listxattr(place, follow_symlinks=False)
    except OSError:  # a filesystem without any
        return []
    return names and sorted(name for name in names if name not in ("security.selinux", "security.ima", "security.evm"))


def _apply(nodes: dict[str, Node], rows: list[OwnerRow], clock: int | None) -> None:
    collector = Collector()
    for row in rows:
        node = nodes.get(row.path)
        if row.kind is not None:
            if node is not None and node.kind != row.kind:
                collector.add(Trouble("OWNERS-CLASH", f"the owners table makes {row.path}, which is there as a {node.kind}",
                                      remedy="take one of the two away"))  # fmt: skip
                continue
            node = Node(row.path, row.kind, 0, device=row.device, modified=node.modified if node is not None else clock or 0)
        elif node is None:
            collector.add(Trouble("OWNERS-PATH", f"the owners table names {row.path}, which is not in the folder",
                                  remedy="correct the path, or say with KIND what to make"))  # fmt: skip
            continue
        nodes[row.path] = replace(
            node,
            mode=node.mode if row.mode is None else row.mode,
            uid=node.uid if row.uid is None else row.uid,
            gid=node.gid if row.gid is None else row.gid,
        )
    collector.raise_if_any()


def _first_names_first(tree: RootTree) -> RootTree:
    """A file's further names refer to the one that comes first in the tree's order."""
    seen: dict[str, str] = {}
    nodes: list[Node] = []
    for node in tree.nodes:
        group = node.same_as or node.path
        if node.kind == "folder":
            nodes.append(node)
            continue
        if group in seen:
            nodes.append(replace(node, same_as=seen[group]))
        else:
            seen[group] = node.path
            nodes.append(replace(node, same_as=""))
    return RootTree(tuple(nodes))
