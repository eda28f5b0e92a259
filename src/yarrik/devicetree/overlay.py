"""Applies overlays to a device tree, as a bootloader does: Devicetree Specification v0.4 leaves overlays to the kernel's
Documentation/devicetree/dynamic-resolution-notes.rst and overlay-notes.rst, and this follows those.

New properties go before a node's others and new children before its other children, names new to the tree behind the
names it has: the order in which a blob grows when it is edited in place, so the bytes are those of such an editor.
"""

from __future__ import annotations

import msgspec

from yarrik.devicetree.phandles import by_phandle, number_of
from yarrik.devicetree.tree import DeviceTree, TreeNode, TreeProperty, text_of
from yarrik.errors import Trouble, YarrikError, suggestion

_PHANDLES = ("phandle", "linux,phandle")
_BOOKS = ("__symbols__", "__fixups__", "__local_fixups__")


def apply_overlay(base: DeviceTree, overlay: DeviceTree, name: str) -> None:
    """Changes `base` by an overlay (which is used up); `name` is what messages call it.

    Raises YarrikError with all labels and paths that the base does not have; the base may be half changed then."""
    _Application(base, overlay, name).run()


class _Application(msgspec.Struct):
    base: DeviceTree
    overlay: DeviceTree
    name: str

    def run(self) -> None:
        root = self.overlay.root
        has_fragments = any("__overlay__" in child.children for child in root.children.values())
        if not has_fragments and not {"__fixups__", "__local_fixups__"} & root.children.keys():
            raise YarrikError(
                Trouble("OVERLAY-PLAIN", f"{self.name} is a device tree and no overlay: it has no fragments",
                        why="applied, it would change nothing",
                        remedy="begin its source with `/dts-v1/; /plugin/;` and refer to the base's labels")
            )  # fmt: skip
        highest = max(by_phandle(self.base.root), default=0)
        self._shift_phandles(root, highest)
        local = root.children.get("__local_fixups__")
        if local is not None:
            self._shift_references(local, root, "", highest)
        self._fill_labels()
        if local is not None:
            self._follow_kept_phandles(local)
        merged = [(f"/{child.name}", self._merge(child)) for child in root.children.values() if child.name not in _BOOKS]
        self._keep_symbols({f"{path}/__overlay__": target for path, target in merged if target is not None})

    def _damaged(self, what: str) -> YarrikError:
        return YarrikError(Trouble("OVERLAY-DAMAGED", f"{self.name} is not a valid overlay: {what}",
                                   remedy="compile it again from a source with /plugin/"))  # fmt: skip

    # The overlay's own phandles move behind those of the base

    def _shift_phandles(self, node: TreeNode, by: int) -> None:
        for _, one in node.walk():
            for name in _PHANDLES:
                number = number_of(one, name)
                if number is not None:
                    if number + by >= 0xFFFFFFFF:
                        raise self._damaged("its phandles are too high")
                    one.properties[name].value = (number + by).to_bytes(4, "big")

    def _shift_references(self, fixup: TreeNode, node: TreeNode, path: str, by: int) -> None:
        """`__local_fixups__` mirrors the tree; each property there lists offsets of phandles in the one it mirrors."""
        for item in fixup.properties.values():
            target = node.properties.get(item.name)
            if target is None or len(item.value) % 4:
                raise self._damaged(f"its local fixups name {path or '/'}:{item.name}, which it does not have")
            for at in range(0, len(item.value), 4):
                self._patch(target, int.from_bytes(item.value[at : at + 4], "big"), None, by, path)
        for child in fixup.children.values():
            below = node.children.get(child.name)
            if below is None:
                raise self._damaged(f"its local fixups name {path}/{child.name}, which it does not have")
            self._shift_references(child, below, f"{path}/{child.name}", by)

    def _patch(self, item: TreeProperty, at: int, phandle: int | None, by: int, path: str) -> None:
        if at + 4 > len(item.value):
            raise self._damaged(f"a fixup lies outside of {path}:{item.name}")
        number = int.from_bytes(item.value[at : at + 4], "big") + by if phandle is None else phandle
        item.value = item.value[:at] + (number & 0xFFFFFFFF).to_bytes(4, "big") + item.value[at + 4 :]

    def _follow_kept_phandles(self, local: TreeNode) -> None:
        """A node that has a phandle already keeps it, since others refer to it by that; what in the overlay refers to the
        node by the overlay's own number has to follow."""
        kept: dict[str, int] = {}
        instead: dict[int, int] = {}

        def visit(content: TreeNode, path: str, target: TreeNode | None) -> None:
            own = number_of(content, "phandle")
            if own:
                there = number_of(target, "phandle") if target is not None else None
                instead[own] = kept.setdefault(path, there or own)
            for child in content.children.values():
                visit(child, f"{path}/{child.name}", target.children.get(child.name) if target is not None else None)

        for fragment in self.overlay.root.children.values():
            content = fragment.children.get("__overlay__")
            found = self._sought(fragment) if content is not None and fragment.name not in _BOOKS else None
            if content is not None and found is not None:
                visit(content, found[0].rstrip("/"), found[1])
        if any(old != new for old, new in instead.items()):
            self._replace(local, self.overlay.root, instead)

    def _replace(self, fixup: TreeNode, node: TreeNode, instead: dict[int, int]) -> None:
        for item in fixup.properties.values():
            target = node.properties[item.name]
            for at in range(0, len(item.value), 4):
                offset = int.from_bytes(item.value[at : at + 4], "big")
                number = int.from_bytes(target.value[offset : offset + 4], "big")
                self._patch(target, offset, instead.get(number, number), 0, "")
        for child in fixup.children.values():
            self._replace(child, node.children[child.name], instead)

    # References to labels of the base

    def _fill_labels(self) -> None:
        fixups = self.overlay.root.children.get("__fixups__")
        if fixups is None:
            return
        symbols = self.base.root.children.get("__symbols__")
        if symbols is None and fixups.properties:
            first = next(iter(fixups.properties))
            raise YarrikError(
                Trouble("OVERLAY-NO-SYMBOLS", f"{self.name} refers to the label `{first}`, and the base keeps no labels",
                        why="a blob knows its labels only when it was compiled with them",
                        remedy="compile the base with --symbols")
            )  # fmt: skip
        troubles = []
        for item in fixups.properties.values():
            label = item.name
            assert symbols is not None
            symbol = symbols.properties.get(label)
            users = [part.decode("ascii", "replace") for part in item.value.removesuffix(b"\0").split(b"\0")]
            if symbol is None:
                who = users[0].replace("/__overlay__", "").partition(":")
                troubles.append(
                    Trouble("OVERLAY-LABEL-MISSING", f"{self.name} refers to the label `{label}`, which the base does not have",
                            why=f"{who[0]} needs it for `{who[2].partition(':')[0]}`; the overlay cannot be applied",
                            remedy=suggestion(label, symbols.properties))
                )  # fmt: skip
                continue
            path = text_of(symbol.value) or ""
            node = self.base.root.find_exact(path)
            if node is None:
                raise YarrikError(Trouble("OVERLAY-PATH-MISSING", f"the base says that `{label}` is {path}, which is not there",
                                          remedy="compile the base again"))  # fmt: skip
            for user in users:
                self._fill_one(user, self._phandle(node))
        if troubles:
            raise YarrikError(troubles)

    def _phandle(self, node: TreeNode) -> int:
        number = number_of(node, "phandle") or number_of(node, "linux,phandle")
        if not number:
            raise YarrikError(
                Trouble("OVERLAY-NO-SYMBOLS", f"{self.name} refers to {node.name}, which has no phandle in the base",
                        why="only nodes with one can be referred to", remedy="compile the base with --symbols")
            )  # fmt: skip
        return number

    def _fill_one(self, user: str, phandle: int) -> None:
        """`user` is `path:property:offset`."""
        path, _, rest = user.partition(":")
        name, _, offset = rest.rpartition(":")
        node = self.overlay.root.find_exact(path)
        item = node.properties.get(name) if node is not None else None
        if item is None or not offset.isascii() or not offset.isdigit() or len(offset) > 9:
            raise self._damaged(f"its fixup `{user[:80]}` fits nothing in it")
        self._patch(item, int(offset), phandle, 0, path)

    # Fragments

    def _merge(self, fragment: TreeNode) -> str | None:
        """Applies one fragment to its target, and returns the target's path; None for a node that is not a fragment."""
        content = fragment.children.get("__overlay__")
        if content is None:
            return None
        found = self._target(fragment)
        self._lay(content, found[1])
        return found[0]

    def _sought(self, fragment: TreeNode) -> tuple[str, TreeNode] | None:
        """Path and node of a fragment's target; None when the base has none like it."""
        if "target" in fragment.properties:
            number = number_of(fragment, "target")
            for path, node in self.base.root.walk():
                if number and number in (number_of(node, "phandle"), number_of(node, "linux,phandle")):
                    return path, node
            return None
        item = fragment.properties.get("target-path")
        path = (text_of(item.value) or "") if item is not None else ""
        if path and not path.startswith("/"):
            head, slash, rest = path.partition("/")
            aliases = self.base.root.children.get("aliases")
            alias = aliases.properties.get(head) if aliases is not None else None
            path = ((text_of(alias.value) or "") + slash + rest) if alias is not None else ""
        found = self.base.root.find(path) if path else None
        return None if found is None else next(pair for pair in self.base.root.walk() if pair[1] is found)

    def _target(self, fragment: TreeNode) -> tuple[str, TreeNode]:
        found = self._sought(fragment)
        if found is not None:
            return found
        if "target" in fragment.properties:
            raise self._damaged(f"{fragment.name} has a target that is not a node of the base")
        item = fragment.properties.get("target-path")
        path = (text_of(item.value) or "") if item is not None else ""
        if not path:
            raise self._damaged(f"{fragment.name} says neither `target` nor `target-path`")
        raise YarrikError(
            Trouble("OVERLAY-PATH-MISSING", f"{self.name} is for the node {path}, which the base does not have",
                    why="there is nothing to apply it to",
                    remedy=suggestion(path, [place for place, _ in self.base.root.walk()]))
        )  # fmt: skip

    def _lay(self, content: TreeNode, target: TreeNode) -> None:
        for item in content.properties.values():
            if item.name in _PHANDLES and item.name in target.properties:
                continue  # others in the base refer to this node by the number that it has
            self._set(target, item.name, item.value)
        for child in content.children.values():
            below = target.children.get(child.name)
            if below is None:
                below = TreeNode(child.name)
                target.children = {child.name: below, **target.children}
            self._lay(child, below)

    def _set(self, node: TreeNode, name: str, value: bytes) -> None:
        if name in node.properties:
            node.properties[name].value = value
            return
        node.properties = {name: TreeProperty(name, value), **node.properties}
        self.base.note_name(name)

    # Labels of the overlay can be referred to by the next one

    def _keep_symbols(self, moved: dict[str, str]) -> None:
        symbols = self.overlay.root.children.get("__symbols__")
        if symbols is None:
            return
        kept = self.base.root.children.get("__symbols__")
        if kept is None:
            kept = TreeNode("__symbols__")
            self.base.root.children = {"__symbols__": kept, **self.base.root.children}
        for item in symbols.properties.values():
            path = text_of(item.value) or ""
            begin = next((begin for begin in moved if path == begin or path.startswith(begin + "/")), None)
            if begin is not None:
                target = moved[begin].rstrip("/") + path[len(begin) :]
                self._set(kept, item.name, (target or "/").encode("ascii", "replace") + b"\0")
