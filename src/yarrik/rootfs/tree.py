"""The tree model: everything that a filesystem writer needs to know of each path, apart from files' contents."""

from __future__ import annotations

import os
from collections.abc import Iterable
from functools import cached_property
from typing import Literal

import msgspec

from yarrik.patterns import lazy_pattern

Kind = Literal["folder", "file", "link", "character", "block", "fifo", "socket"]

_PERCENT = lazy_pattern(rb"%([0-9A-F]{2})")


class Node(msgspec.Struct, frozen=True, gc=False):
    """One path, from the top like `/etc/passwd`, in the form of `os.fsdecode`.

    `content` is a file's digest or a link's destination, `size` is in bytes, `device` holds major and minor number,
    and `package` names who brought it (empty for what Yarrik itself or the image adds). `modified` is in seconds since
    1970, or None for the clock of whatever is written. `same_as` is the path of an earlier file that this is a further
    name of (a hard link). `attributes` are extended ones, by the names that the kernel shows. `origin` is the
    definition that says so, for what an image brings itself."""

    path: str
    kind: Kind
    mode: int
    uid: int = 0
    gid: int = 0
    size: int = 0
    content: str = ""
    device: tuple[int, int] = (0, 0)
    package: str = ""
    modified: int | None = None
    same_as: str = ""
    attributes: tuple[tuple[str, bytes], ...] = ()
    origin: str = ""

    @property
    def parent(self) -> str:
        """Path of the folder that holds the node."""
        return self.path.rpartition("/")[0] or "/"

    @property
    def name(self) -> str:
        """The last part of the path."""
        return self.path.rpartition("/")[2]


class _Row(msgspec.Struct, frozen=True, gc=False, array_like=True):
    """A node as `encode` writes it; most have neither origin nor attributes."""

    path: str
    kind: Kind
    mode: int
    uid: int
    gid: int
    size: int
    content: str
    major: int
    minor: int
    package: str
    origin: str = ""
    attributes: tuple[tuple[str, bytes], ...] = ()


class RootTree(msgspec.Struct, frozen=True, dict=True):
    """Nodes sorted by path, with every folder that leads to one. The top `/` is among them."""

    nodes: tuple[Node, ...]

    @staticmethod
    def of(nodes: Iterable[Node]) -> RootTree:
        """Sorts, and adds missing parents as folders of root's with mode 755."""
        by_path = {node.path: node for node in nodes}
        by_path.setdefault("/", Node("/", "folder", 0o755))
        for path in list(by_path):
            parent = path.rpartition("/")[0]
            while parent and parent not in by_path:
                by_path[parent] = Node(parent, "folder", 0o755)
                parent = parent.rpartition("/")[0]
        return RootTree(tuple(sorted(by_path.values(), key=lambda node: node.path.split("/") if node.path != "/" else [])))

    @cached_property
    def by_path(self) -> dict[str, Node]:
        """The nodes by path."""
        return {node.path: node for node in self.nodes}

    def follow(self, path: str) -> Node | None:
        """The node that `path` leads to, through links as on the running board; None when it leads nowhere."""
        words = [word for word in path.split("/") if word]
        here: list[str] = []
        hops = 0
        while words:
            word = words.pop(0)
            if word == "..":
                here = here[:-1]
                continue
            node = self.by_path.get("/" + "/".join([*here, word]))
            if node is None:
                return None
            if node.kind == "link":
                hops += 1
                if hops > 40:
                    return None
                if node.content.startswith("/"):
                    here = []
                words = [part for part in node.content.split("/") if part not in ("", ".")] + words
                continue
            here.append(word)
        return self.by_path.get("/" + "/".join(here))

    def with_nodes(self, nodes: Iterable[Node]) -> RootTree:
        """The tree with these nodes added, each in the place of one that has its path."""
        return RootTree.of([*self.nodes, *nodes])

    def encode(self) -> bytes:
        """The tree as bytes; equal trees give equal bytes."""
        rows = [
            (quoted(n.path), n.kind, n.mode, n.uid, n.gid, n.size, quoted(n.content), n.device[0], n.device[1], n.package,
             *((n.origin, n.attributes) if n.origin or n.attributes else ()))
            for n in self.nodes
        ]  # fmt: skip
        return b"[\n" + b",\n".join(msgspec.json.encode(row) for row in rows) + b"\n]\n"

    @staticmethod
    def decode(data: bytes) -> RootTree:
        """The reverse of `encode`. Raises msgspec.DecodeError."""
        rows = msgspec.json.decode(data, type=list[_Row])
        return RootTree(
            tuple(
                Node(unquoted(row.path), row.kind, row.mode, row.uid, row.gid, row.size, unquoted(row.content),
                     (row.major, row.minor), row.package, attributes=row.attributes, origin=row.origin)
                for row in rows
            )
        )  # fmt: skip


def quoted(path: str) -> str:
    """A path for JSON: bytes that are no UTF-8, control characters and `%` as `%XX`, so that nothing is lost."""
    data = os.fsencode(path)
    try:
        text = data.decode()
        if text.isprintable() and "%" not in text:
            return text
    except UnicodeDecodeError:
        pass
    out: list[str] = []
    for character in data.decode("utf-8", "surrogateescape"):
        if "\udc80" <= character <= "\udcff":
            out.append(f"%{ord(character) - 0xDC00:02X}")
        elif character == "%" or ord(character) < 32 or ord(character) == 127:
            out.append(f"%{ord(character):02X}")
        else:
            out.append(character)
    return "".join(out)


def unquoted(text: str) -> str:
    """What `quoted` was given."""
    return os.fsdecode(_PERCENT.sub(lambda match: bytes([int(match.group(1), 16)]), text.encode()))
