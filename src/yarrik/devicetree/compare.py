"""Two device trees against each other, by node and property, as people think of them: references by what they refer to."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import msgspec

from yarrik.devicetree.phandles import ReferencesUnfit, by_phandle, referred
from yarrik.devicetree.printing import as_value
from yarrik.devicetree.tree import DeviceTree, TreeNode, TreeProperty

_PHANDLES = ("phandle", "linux,phandle")


class Difference(msgspec.Struct, frozen=True):
    """`item` is None when the whole node is only in one of the two; values are shown as in a source."""

    kind: Literal["added", "removed", "changed"]
    path: str
    item: str | None = None
    before: str | None = None
    after: str | None = None


def compare_trees(a: DeviceTree, b: DeviceTree) -> list[Difference]:
    """What turns `a` into `b`, in the order of the trees. Numbers of phandles do not count: what they refer to does."""
    found = list(_Comparison(a, b).below("", a.root, b.root))
    if a.reservations != b.reservations:
        found.insert(0, Difference("changed", "/", "/memreserve/", _reservations(a), _reservations(b)))
    return found


def _reservations(tree: DeviceTree) -> str:
    return ", ".join(f"{address:#x} {size:#x}" for address, size in tree.reservations) or "none"


class _Comparison:
    def __init__(self, a: DeviceTree, b: DeviceTree) -> None:
        self.known = (by_phandle(a.root), by_phandle(b.root))
        self.paths = tuple({id(node): path for path, node in tree.root.walk()} for tree in (a, b))

    def below(self, path: str, a: TreeNode, b: TreeNode) -> Iterator[Difference]:
        for name in [*a.properties, *(name for name in b.properties if name not in a.properties)]:
            if name in _PHANDLES:
                continue
            before, after = a.properties.get(name), b.properties.get(name)
            if before is None or after is None:
                kind: Literal["added", "removed"] = "added" if before is None else "removed"
                yield Difference(kind, path or "/", name, self.shown(0, a, before), self.shown(1, b, after))
            elif before.value != after.value:
                texts = self.shown(0, a, before), self.shown(1, b, after)
                if texts[0] != texts[1]:
                    yield Difference("changed", path or "/", name, *texts)
        for name, child in a.children.items():
            if name in b.children:
                yield from self.below(f"{path}/{name}", child, b.children[name])
            else:
                yield Difference("removed", f"{path}/{name}")
        for name in b.children:
            if name not in a.children:
                yield Difference("added", f"{path}/{name}")

    def shown(self, side: int, node: TreeNode, item: TreeProperty | None) -> str | None:
        """The value as a source would have it, with `&{/path}` where a phandle refers to a node."""
        if item is None:
            return None
        try:
            entries = list(referred(node, item, self.known[side]))
        except ReferencesUnfit:
            entries = []
        if not entries or any(entry.node is None and entry.phandle for entry in entries):
            return as_value(item)
        words = []
        for entry in entries:
            cells = item.value[entry.offset + 4 : entry.offset + 4 + entry.arguments * 4]
            words.append("0x0" if entry.node is None else "&{" + self.paths[side][id(entry.node)] + "}")
            words += [f"{int.from_bytes(cells[at : at + 4], 'big'):#x}" for at in range(0, len(cells), 4)]
        return f"<{' '.join(words)}>"
