"""Labels, references and phandles of a device tree source (Devicetree Specification v0.4, 6.2; overlays: 6.5).

Labels are kept while the source is read; phandles and paths are filled in when the whole tree is known."""

from __future__ import annotations

from pathlib import Path

import msgspec

from yarrik.devicetree.lexer import Lexer, SourceError, Token
from yarrik.devicetree.tree import DeviceTree, Reference, TreeNode, TreeProperty
from yarrik.errors import suggestion


class References(msgspec.Struct):
    """What refers to what in one tree. `symbols` keeps all labels for overlays; `plugin` is set for an overlay's source."""

    lexer: Lexer
    tree: DeviceTree
    symbols: bool = False
    plugin: bool = False
    labels: dict[str, TreeNode] = msgspec.field(default_factory=dict)
    contested: list[tuple[str, TreeNode, Token]] = msgspec.field(default_factory=list)
    phandles: dict[int, int] = msgspec.field(default_factory=dict)
    taken: set[int] = msgspec.field(default_factory=set)
    following: int = 1

    def name_labels(self, node: TreeNode, labels: list[str], token: Token, merged: bool) -> None:
        """Gives labels to a node; `merged` when it was there before. A label that another node has is judged at the end."""
        for label in labels:
            known = self.labels.get(label)
            if known is not None and known is not node:
                # A source may delete the one node below: whether both stay is known at the end.
                self.contested.append((label, node, token))
            else:
                self.labels[label] = node
            if label not in node.labels:
                # Labels that come later stand before those that were there.
                node.labels.insert(0 if merged else len(node.labels), label)

    def reference(self, token: Token, offset: int, as_path: bool) -> Reference:
        """A reference at `offset` bytes into a property, as a path or as a phandle cell, to be resolved when the tree is
        complete."""
        target = token.text[2:-1] if token.kind == "pathref" else token.text[1:]
        return Reference(offset, target, as_path, str(token.file), token.start)

    def sought(self, token: Token) -> TreeNode | None:
        """The node that a reference names by label or path, or None."""
        if token.kind == "pathref":
            return self.tree.root.find(token.text[2:-1])
        label = token.text[1:]
        if any(label == contested for contested, _, _ in self.contested):  # the first in the tree has it for now
            return next((node for _, node in self.tree.root.walk() if label in node.labels), None)
        return self.labels.get(label)

    def referenced(self, token: Token) -> TreeNode:
        """The node that a reference names. Raises SourceError when there is none."""
        if token.kind not in ("pathref", "labelref"):
            raise self.lexer.fail("a reference like `&label` belongs here", token)
        found = self.sought(token)
        if found is None:
            known = self.labels if token.kind == "labelref" else [path for path, _ in self.tree.root.walk()]
            name = token.text[1:] if token.kind == "labelref" else token.text[2:-1]
            raise self.lexer.fail(f"nothing is called `{name}`", token, suggestion(name, known))
        return found

    def delete(self, node: TreeNode) -> None:
        """Forgets a node and all below it, with their labels."""
        gone = {id(below) for _, below in node.walk()}
        node.delete()
        self.labels = {label: kept for label, kept in self.labels.items() if id(kept) not in gone}
        self.contested = [entry for entry in self.contested if id(entry[1]) not in gone]
        for label, heir, _ in self.contested:
            self.labels.setdefault(label, heir)

    def labels_given_twice(self) -> None:
        """Notes an error for each label that two nodes still have."""
        for label, node, token in self.contested:
            if self.labels[label] is not node:
                self.lexer.note(self.lexer.fail(f"the label `{label}` is given to two nodes", token, "rename one of them"))

    def resolve(self) -> None:
        """Puts phandles and paths where references stand; a node that is referred to gets the next free phandle."""
        root = self.tree.root
        root.purge()
        for _, node in root.walk():
            # A `name` that says what the node is called adds nothing: the operating system's compiler leaves it out, too.
            item = node.properties.get("name")
            if item is not None and not item.references and item.value == node.name.partition("@")[0].encode() + b"\0":
                del node.properties["name"]
        paths = {id(node): path for path, node in root.walk()}
        self.phandles = {}
        for _, node in root.walk():
            item = node.properties.get("phandle")
            if item is not None and len(item.value) == 4 and not item.references:
                self.phandles[id(node)] = int.from_bytes(item.value, "big")
        self.taken = set(self.phandles.values())
        used: set[int] = set()
        outside: dict[str, list[str]] = {}
        local: list[tuple[str, str, int]] = []
        for path, node in list(root.walk()):
            for item in list(node.properties.values()):
                if item.references:
                    try:
                        self.resolve_property(path, item, paths, used, outside, local)
                    except SourceError as error:
                        self.lexer.note(error)
        for _, node in list(root.walk()):
            if node.only_if_used and id(node) not in used and not (self.symbols and node.labels):
                node.delete()
        root.purge()
        if self.symbols:
            self.add_symbols(paths)
        if outside:
            fixups = root.children["__fixups__"] = TreeNode("__fixups__")
            for label, places in outside.items():
                data = b"".join(place.encode() + b"\0" for place in places)
                fixups.properties[label] = TreeProperty(label, data)
        if self.plugin and local:
            self.add_local_fixups(local)

    def resolve_property(
        self,
        path: str,
        item: TreeProperty,
        paths: dict[int, str],
        used: set[int],
        outside: dict[str, list[str]],
        local: list[tuple[str, str, int]],
    ) -> None:
        """Fills one property's references in; those that only another tree can know are noted in `outside`."""
        value = bytearray(item.value)
        for reference in reversed([r for r in item.references if r.as_path]):
            target = self.target(reference)
            used.add(id(target))
            value[reference.offset : reference.offset] = paths[id(target)].encode("ascii") + b"\0"
        shift = 0
        for reference in item.references:
            if reference.as_path:
                shift += len(paths[id(self.target(reference))]) + 1
                continue
            at = reference.offset + shift
            if self.plugin and not reference.target.startswith("/") and reference.target not in self.labels:
                outside.setdefault(reference.target, []).append(f"{path}:{item.name}:{at}")
                continue
            target = self.target(reference)
            used.add(id(target))
            value[at : at + 4] = self.phandle(target).to_bytes(4, "big")
            local.append((path, item.name, at))
        item.value = bytes(value)

    def phandle(self, node: TreeNode) -> int:
        """A node's phandle: its own, or the next that is free."""
        if id(node) not in self.phandles:
            while self.following in self.taken:
                self.following += 1
            self.phandles[id(node)] = self.following
            self.taken.add(self.following)
            node.properties.setdefault("phandle", TreeProperty("phandle", self.following.to_bytes(4, "big")))
        return self.phandles[id(node)]

    def add_symbols(self, paths: dict[int, str]) -> None:
        """`__symbols__` says where each label is; all of them can be referred to."""
        labelled = [node for _, node in self.tree.root.walk() if node.labels]
        if not labelled:
            return
        symbols = self.tree.root.children.setdefault("__symbols__", TreeNode("__symbols__"))
        for node in labelled:
            for label in node.labels:
                symbols.properties[label] = TreeProperty(label, paths[id(node)].encode("ascii") + b"\0")
            self.phandle(node)

    def add_local_fixups(self, local: list[tuple[str, str, int]]) -> None:
        """`__local_fixups__` mirrors the tree and says where its own phandles stand, since they move with the base's."""
        top = self.tree.root.children["__local_fixups__"] = TreeNode("__local_fixups__")
        for path, name, at in local:
            node = top
            for word in path.strip("/").split("/"):
                if word:
                    node = node.children.setdefault(word, TreeNode(word))
            item = node.properties.setdefault(name, TreeProperty(name, b""))
            item.value += at.to_bytes(4, "big")

    def target(self, reference: Reference) -> TreeNode:
        """The node that a reference points at in the complete tree. Raises SourceError."""
        form = "&{" + reference.target + "}" if reference.target.startswith("/") else "&" + reference.target
        kind = "pathref" if reference.target.startswith("/") else "labelref"
        return self.referenced(Token(kind, form, Path(reference.file), reference.start))
