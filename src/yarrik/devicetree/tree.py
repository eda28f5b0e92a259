"""A device tree as values: nodes with properties (bytes) and children, in the order they are written."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import msgspec


class Reference(msgspec.Struct):
    """A place in a property that stands for another node: a phandle cell at `offset`, or the node's path as text.

    `target` is a label, or a full path when it begins with `/`; it is written at `start` (characters) of `file`."""

    offset: int
    target: str
    as_path: bool
    file: str
    start: int


#: A position in a source: its file, and characters from that file's begin.
Mark = tuple[Path, int]


class TreeProperty(msgspec.Struct):
    """`value` is what the blob holds, once the references in it are resolved. What is `deleted` keeps its place, in case
    it comes back."""

    name: str
    value: bytes
    references: list[Reference] = msgspec.field(default_factory=list)
    deleted: bool = False
    at: Mark | None = None


class TreeNode(msgspec.Struct):
    """`name` has the unit address with it (`serial@9000000`); the top's name is empty. What is `deleted` keeps its place,
    in case it comes back."""

    name: str
    properties: dict[str, TreeProperty] = msgspec.field(default_factory=dict)
    children: dict[str, TreeNode] = msgspec.field(default_factory=dict)
    labels: list[str] = msgspec.field(default_factory=list)
    deleted: bool = False
    only_if_used: bool = False
    at: Mark | None = None

    def walk(self, path: str = "") -> Iterator[tuple[str, TreeNode]]:
        """This node and all below it, each with its full path, parents first."""
        yield path or "/", self
        for child in self.children.values():
            if not child.deleted:
                yield from child.walk(f"{path}/{child.name}")

    def delete(self) -> None:
        """Takes the node away with all below it."""
        self.deleted, self.only_if_used, self.labels = True, False, []
        for item in self.properties.values():
            item.deleted = True
        for child in self.children.values():
            child.delete()

    def purge(self) -> None:
        """Forgets what was deleted here and below."""
        self.properties = {name: item for name, item in self.properties.items() if not item.deleted}
        self.children = {name: child for name, child in self.children.items() if not child.deleted}
        for child in self.children.values():
            child.purge()

    def find_exact(self, path: str) -> TreeNode | None:
        """The node at a path from here, each part written out with its unit address."""
        here: TreeNode | None = self
        for word in path.strip("/").split("/"):
            if word and here is not None:
                here = here.children.get(word)
        return here

    def find(self, path: str) -> TreeNode | None:
        """The node at a path from here. A part without unit address fits the first node of that name."""
        here: TreeNode | None = self
        for word in path.strip("/").split("/"):
            if not word or here is None:
                continue
            children = {name: child for name, child in here.children.items() if not child.deleted}
            here = children.get(word) or next(
                (child for name, child in children.items() if name.split("@")[0] == word and "@" not in word), None
            )
        return here


class DeviceTree(msgspec.Struct):
    """A whole tree with its memory reservations (address and size in bytes).

    `names` are the names of properties as the blob held them that the tree was read from, each with a zero at its end:
    a blob that is changed keeps their order."""

    root: TreeNode
    reservations: list[tuple[int, int]] = msgspec.field(default_factory=list)
    boot_cpu: int = 0
    names: bytes = b""

    def note_name(self, name: str) -> None:
        """Puts a property's name behind the others, when it is not among them."""
        wanted = name.encode("ascii", "replace") + b"\0"
        if self.names and wanted not in self.names:
            self.names += wanted


def text_of(value: bytes) -> str | None:
    """The first string in a property's value, or None when it holds none."""
    head, end, _ = value.partition(b"\0")
    return head.decode("ascii", "replace") if end and head else None
