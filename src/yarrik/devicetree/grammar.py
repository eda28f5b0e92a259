"""The grammar of device tree source, version 1 (Devicetree Specification v0.4, chapter 6).

Each rule is a method, with the rule as its docstring. An error ends a statement, not the run: several are reported."""

from __future__ import annotations

import re

import msgspec

from yarrik.devicetree.expressions import Expressions
from yarrik.devicetree.lexer import Lexer, SourceError, Token
from yarrik.devicetree.references import References
from yarrik.devicetree.tree import DeviceTree, TreeNode, TreeProperty

_MAX_DEPTH = 60


class Grammar(msgspec.Struct, dict=True):
    """Builds a tree from a lexer's tokens. `symbols` keeps all labels for overlays."""

    lexer: Lexer
    symbols: bool = False
    tree: DeviceTree = msgspec.field(default_factory=lambda: DeviceTree(TreeNode("")))
    fragments: int = 0
    labels_before: bool = False
    labels_skipped: bool = False

    def __post_init__(self) -> None:
        self.expressions = Expressions(self.lexer)
        self.references = References(self.lexer, self.tree, self.symbols)

    def note(self, error: SourceError) -> None:
        """Keeps an error for the end, and whether labels were lost with its statement."""
        self.labels_skipped = self.labels_skipped or self.labels_before
        self.lexer.note(error)

    def skip(self) -> None:
        """Goes on behind the statement that has an error: after its `;`, or before the brace that ends the node."""
        depth = self.expressions.depth = 0
        while self.lexer.token.kind != "end":
            text = self.lexer.token.text
            self.labels_skipped = self.labels_skipped or self.lexer.token.kind == "label"
            if text == "}" and depth == 0:
                return
            depth += (text == "{") - (text == "}")
            try:
                self.lexer.advance()
            except SourceError:
                self.lexer.files[-1].at += 1  # one that has no meaning anywhere: it was told of already, or follows from that
                continue
            if text == ";" and depth == 0:
                return

    def run(self, text: str | None = None) -> DeviceTree:
        """source := "/dts-v1/;" [ "/plugin/;" ] memreserve* ( "/" node | reference node | delete )*"""
        self.lexer.open(self.lexer.path, text=text)
        self.lexer.advance()
        self.include()
        if self.lexer.token.text != "/dts-v1/":
            raise self.lexer.fail("the source does not begin with `/dts-v1/;`", hint="add `/dts-v1/;` as the first line")
        while self.lexer.token.text in ("/dts-v1/", "/plugin/"):
            self.references.plugin = self.lexer.advance().text == "/plugin/" or self.references.plugin
            self.lexer.expect(";", "after the source's head")
            self.include()
        while self.lexer.token.kind != "end":
            self.include()
            if self.lexer.token.kind == "end":
                break
            try:
                labels = self.label_list()
                if self.lexer.token.text == "/memreserve/":
                    self.reservation()
                else:
                    self.top(labels)
            except SourceError as error:
                self.note(error)
                self.skip()
                self.lexer.accept("}")
                self.lexer.accept(";")
        if self.labels_skipped:
            raise SourceError(self.lexer.troubles)  # what is said of missing labels would follow from these
        self.references.labels_given_twice()
        self.tree.boot_cpu = self.boot_cpu()
        self.references.resolve()
        if self.lexer.troubles:
            raise SourceError(self.lexer.troubles)
        return self.tree

    def include(self) -> None:
        """include := "/include/" STRING"""
        while self.lexer.token.text == "/include/":
            named = self.lexer.token
            file = self.lexer.files[-1]
            match = re.compile(r'\s*"([^"\n]*)"').match(file.text, file.at)
            if match is None:
                raise self.lexer.fail("a file's name in quotes must follow /include/")
            file.at = match.end()
            self.lexer.open(self.lexer.found_file(match.group(1), named), named)
            self.lexer.advance()

    def reservation(self) -> None:
        """memreserve := "/memreserve/" integer integer ";" """
        self.lexer.advance()
        address = self.expressions.primary(64)
        size = self.expressions.primary(64)
        self.lexer.expect(";", "after the reservation")
        self.tree.reservations.append((address, size))

    def top(self, labels: list[str]) -> None:
        """( "/" | reference ) "{" contents "}" ";" | "/delete-node/" reference ";" """
        token = self.lexer.token
        if self.lexer.accept("/"):
            self.references.name_labels(self.tree.root, labels, token, merged=True)
            self.contents(self.tree.root, 0)
        elif token.kind in ("labelref", "pathref"):
            self.lexer.advance()
            first = not self.tree.root.children and not self.tree.root.properties
            apart = self.references.plugin and (first or token.kind == "pathref" or self.references.sought(token) is None)
            node = self.fragment(token) if apart else self.references.referenced(token)
            self.references.name_labels(node, labels, token, merged=True)
            self.contents(node, 0)
        elif self.lexer.accept("/omit-if-no-ref/"):
            self.references.referenced(self.lexer.advance()).only_if_used = True
        elif self.lexer.accept("/delete-node/"):
            token = self.lexer.advance()
            self.references.delete(self.references.referenced(token))
        else:
            raise self.lexer.fail(
                f"`{token.text}` does not belong at the top level", hint="expected is `/ { … };` or `&label { … };`"
            )
        self.lexer.expect(";", "after the closing brace")

    def fragment(self, token: Token) -> TreeNode:
        """What an overlay lays upon a node of another tree: a numbered node that says where."""
        node = TreeNode(f"fragment@{self.fragments}")
        self.fragments += 1
        self.tree.root.children[node.name] = node
        if token.kind == "pathref":
            node.properties["target-path"] = TreeProperty("target-path", token.text[2:-1].encode() + b"\0")
        else:
            reference = self.references.reference(token, 0, as_path=False)
            node.properties["target"] = TreeProperty("target", b"\xff\xff\xff\xff", [reference])
        inside = node.children["__overlay__"] = TreeNode("__overlay__")
        return inside

    def label_list(self) -> list[str]:
        """The labels that stand here, `a: b: …`, without their colons."""
        labels = []
        while self.lexer.token.kind == "label":
            labels.append(self.lexer.advance().text[:-1])
        self.labels_before = bool(labels)
        return labels

    def contents(self, node: TreeNode, depth: int) -> None:
        """contents := "{" ( property | child | delete )* "}" """
        if depth > _MAX_DEPTH:
            raise self.lexer.fail("nodes are nested too deep")
        self.lexer.expect("{", "before a node's contents")
        children_begun = False
        while True:
            try:
                kind = self.statement(node, depth, children_begun)
                if kind == "end":
                    return
                children_begun = children_begun or kind == "child"
            except SourceError as error:
                if self.lexer.token.kind == "end":
                    raise
                self.note(error)
                self.skip()

    def statement(self, node: TreeNode, depth: int, children_begun: bool) -> str:
        """One property, child or deletion, and which of them it was; or the brace that ends the node."""
        self.include()
        labels = self.label_list()
        token = self.lexer.token
        if self.lexer.accept("}"):
            return "end"
        if self.lexer.accept("/delete-node/"):
            name = self.lexer.advance()
            found = self.references.referenced(name) if name.kind in ("labelref", "pathref") else node.children.get(name.text)
            if found is not None:  # shared sources delete what some boards do not have
                self.references.delete(found)
            self.lexer.expect(";", "after the deletion")
            return "deletion"
        if self.lexer.accept("/delete-property/"):
            name = self.lexer.advance()
            if name.text in node.properties:
                node.properties[name.text].deleted = True
            self.lexer.expect(";", "after the deletion")
            return "deletion"
        only_if_used = self.lexer.accept("/omit-if-no-ref/")
        labels += self.label_list()
        if self.lexer.token.kind not in ("name", "number", "label"):
            found_text = f"`{token.text}`" if token.text else "the end of the file"
            raise self.lexer.fail(f"the name of a property or node is missing; found {found_text}",
                            hint="is a `}` or `;` missing above?")  # fmt: skip
        name = self.lexer.advance()
        if self.lexer.token.text == "{":
            child = node.children.get(name.text)
            merged = child is not None
            if child is None:
                child = node.children[name.text] = TreeNode(name.text)
            child.at = (name.file, name.start)
            child.deleted = False
            child.only_if_used = only_if_used or child.only_if_used
            self.references.name_labels(child, labels, name, merged)
            self.contents(child, depth + 1)
            self.lexer.expect(";", "after the closing brace")
            return "child"
        if children_begun:
            raise self.lexer.fail(
                f"the property `{name.text}` comes after a child node", name, "put properties before children"
            )
        item = TreeProperty(name.text, b"", at=(name.file, name.start))
        if self.lexer.accept("="):
            self.value(item)
        self.lexer.expect(";", f"after the property `{name.text}`")
        node.properties[name.text] = item
        return "property"

    def value(self, item: TreeProperty) -> None:
        """value := data ( "," data )*      data := STRING | cells | bytes | reference | "/incbin/" ( … )"""
        data = bytearray()
        while True:
            self.label_list()
            token = self.lexer.token
            if token.kind == "string":
                self.lexer.advance()
                data += self.expressions.unescaped(token) + b"\0"
            elif token.text in ("<", "/bits/"):
                bits = 32
                if self.lexer.accept("/bits/"):
                    bits = self.expressions.primary(64)
                    if bits not in (8, 16, 32, 64):
                        raise self.lexer.fail("/bits/ takes 8, 16, 32 or 64", token)
                self.cells(item, data, bits)
            elif token.text == "[":
                self.byte_string(data)
            elif token.kind in ("labelref", "pathref"):
                self.lexer.advance()
                item.references.append(self.references.reference(token, len(data), as_path=True))
            elif self.lexer.accept("/incbin/"):
                data += self.binary_file(token)
            else:
                raise self.lexer.fail(f"`{token.text}` is not a value for the property `{item.name}`",
                                hint='write "text", <numbers>, [bytes] or &label')  # fmt: skip
            self.label_list()
            if not self.lexer.accept(","):
                break
        item.value = bytes(data)

    def cells(self, item: TreeProperty, data: bytearray, bits: int) -> None:
        """cells := "<" ( integer | "(" expression ")" | reference | label )* ">" """
        self.lexer.expect("<", "before the cells")
        while True:
            self.label_list()
            token = self.lexer.token
            if self.lexer.accept(">"):
                return
            if token.kind in ("labelref", "pathref"):
                self.lexer.advance()
                if bits != 32:
                    raise self.lexer.fail("a reference takes 32 bits", token, "leave /bits/ out, or use a number")
                item.references.append(self.references.reference(token, len(data), as_path=False))
                data += b"\xff\xff\xff\xff"
            else:
                value = self.expressions.primary(bits)
                data += (value & ((1 << bits) - 1)).to_bytes(bits // 8, "big")

    def byte_string(self, data: bytearray) -> None:
        """bytes := "[" HEX* "]" """
        file = self.lexer.files[-1]
        end = file.text.find("]", file.at)
        inside = (
            re.sub(r"//[^\n]*|/\*.*?\*/|[A-Za-z_]\w*:", " ", file.text[file.at : end], flags=re.DOTALL) if end >= 0 else "?"
        )
        digits = "".join(inside.split())
        if re.fullmatch(r"(?:[0-9a-fA-F]{2})*", digits) is None:
            raise self.lexer.fail("only pairs of hexadecimal digits belong between [ and ]")
        data += bytes.fromhex(digits)
        file.at = end + 1
        self.lexer.advance()

    def binary_file(self, token: Token) -> bytes:
        """ "/incbin/" "(" STRING [ "," offset "," length ] ")" """
        self.lexer.expect("(", "after /incbin/")
        name = self.lexer.advance()
        start, count = 0, None
        if self.lexer.accept(","):
            start = self.expressions.primary(64)
            self.lexer.expect(",", "between offset and length")
            count = self.expressions.primary(64)
        self.lexer.expect(")", "after /incbin/")
        path = self.lexer.found_file(self.expressions.unescaped(name).decode("utf-8", "replace"), token)
        try:
            content = self.lexer.reader(path)
        except OSError as error:
            raise self.lexer.fail(
                f"cannot read {path.name}: {error.strerror}", name, "files are looked for beside this one"
            ) from error
        return content[start:] if count is None else content[start : start + count]

    def boot_cpu(self) -> int:
        """The header's boot CPU: `reg` of the first processor."""
        processors = self.tree.root.find("/cpus")
        if processors is None or processors is self.tree.root:
            return 0
        first = next(iter(processors.children.values()), None)
        reg = first.properties.get("reg") if first is not None else None
        return int.from_bytes(reg.value[:4], "big") if reg is not None and len(reg.value) >= 4 else 0
