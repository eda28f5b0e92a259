"""Reads device tree source, version 1 (Devicetree Specification v0.4, chapter 6), and resolves what refers to what.

Each grammar rule is a method, with the rule as its docstring. Errors carry file, line and column, the line itself with
a marker, and a hint; what a preprocessor says of lines and files is believed.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from yarrik.beneath import regular_file
from yarrik.devicetree.checks import Finding, check_tree
from yarrik.devicetree.tree import DeviceTree, Reference, TreeNode, TreeProperty
from yarrik.errors import Place, Trouble, YarrikError, suggestion

_TOKENS = re.compile(
    r"""
    (?P<blank>      \s+ | //[^\n]* | /\*.*?\*/ | ^\#(?:line)?[ \t]+[0-9]+[^\n]* )
  | (?P<string>     "(?:[^"\\\n]|\\.)*" )
  | (?P<character>  '(?:[^'\\\n]|\\.[^']*)' )
  | (?P<directive>  /(?:dts-v1|plugin|memreserve|include|incbin|bits|delete-node|delete-property|omit-if-no-ref)/ )
  | (?P<pathref>    &\{[^}\n]*\} )
  | (?P<labelref>   &[A-Za-z_][A-Za-z0-9_]* )
  | (?P<label>      [A-Za-z_][A-Za-z0-9_]*: )
  | (?P<number>     (?:0[xX][0-9a-fA-F]+|[0-9]+)(?:[uU]?[lL]{0,2}|[lL]{1,2}[uU])(?![\w,.+?\#@-]) )
  | (?P<name>       [\w,.+?\#-]+(?:@[\w,.+?\#-]+)? )
  | (?P<operator>   <<|>>|<=|>=|==|!=|&&|\|\||[-+*/%&|^~!?:<>()\[\]{};=,/] )
    """,
    re.VERBOSE | re.DOTALL | re.MULTILINE | re.ASCII,
)
#: What a preprocessor leaves behind: the next line is line so-and-so of that file.
_MARKER = re.compile(r'^#(?:line)?[ \t]+([0-9]{1,9})(?:[ \t]+"((?:[^"\\\n]|\\.)*)")?[^\n]*$', re.MULTILINE)
_NUMBER = re.compile(r"(?:0[xX][0-9a-fA-F]+|[0-9]+)(?:[uU]?[lL]{0,2}|[lL]{1,2}[uU])(?![\w.?#@])")
_OPERATOR = re.compile(r"<<|>>|<=|>=|==|!=|&&|\|\||[-+*/%&|^~!?:<>()]")
_ESCAPES = {"a": 7, "b": 8, "t": 9, "n": 10, "v": 11, "f": 12, "r": 13, "\\": 92, '"': 34, "'": 39}
_MAX_DEPTH = 60
_MANY = 20
_MASK = (1 << 64) - 1


#: Parentheses in each other, and files that a source may include in all.
_DEEPEST_EXPRESSION, _MOST_FILES = 30, 2000


class SourceError(YarrikError):
    """The source cannot be compiled."""


@dataclass(frozen=True)
class _Token:
    kind: str
    text: str
    file: Path
    start: int


@dataclass
class _File:
    path: Path
    text: str
    at: int = 0


def compile_source(path: Path, text: str | None = None, include: Sequence[Path] = (), symbols: bool = False) -> DeviceTree:
    """Compiles a `.dts` or `.dtso` file, or what a preprocessor made of it (`text`).

    `/include/` and `/incbin/` look beside the file that names them, then in the folders `include`. With `symbols`, all
    labels are kept for overlays. Raises SourceError with all that is wrong."""
    return _Parser(path, include, symbols).run(text)


def compile_and_check(
    path: Path,
    text: str | None = None,
    include: Sequence[Path] = (),
    symbols: bool = False,
    silenced: Collection[str] = (),
    reader: Callable[[Path], bytes] = regular_file,
) -> tuple[DeviceTree, list[Trouble]]:
    """As `compile_source`, and what the checks find likely wrong, but for those whose codes are silenced. All files are read
    with `reader`, which raises OSError for those that may not be read."""
    parser = _Parser(path, include, symbols, reader)
    tree = parser.run(text)
    return tree, [parser.found(one) for one in check_tree(tree.root) if one.code not in silenced]


def _told_place(text: str, token: _Token, line: int) -> tuple[Path, int]:
    """File and line of a token, as the preprocessor's last word before it has them."""
    last = None
    for match in _MARKER.finditer(text, 0, token.start):
        last = match
    if last is None:
        return token.file, line
    name = Path(last.group(2).replace('\\"', '"')) if last.group(2) else token.file
    return name, int(last.group(1)) + text.count("\n", last.end(), token.start) - 1


@dataclass
class _Parser:
    path: Path
    folders: Sequence[Path] = ()
    symbols: bool = False
    reader: Callable[[Path], bytes] = regular_file
    plugin: bool = False
    fragments: int = 0
    files: list[_File] = field(default_factory=list)
    texts: dict[Path, str] = field(default_factory=dict)
    token: _Token = field(default_factory=lambda: _Token("end", "", Path(), 0))
    tree: DeviceTree = field(default_factory=lambda: DeviceTree(TreeNode("")))
    labels: dict[str, TreeNode] = field(default_factory=dict)
    contested: list[tuple[str, TreeNode, _Token]] = field(default_factory=list)
    phandles: dict[int, int] = field(default_factory=dict)
    taken: set[int] = field(default_factory=set)
    following: int = 1
    troubles: list[Trouble] = field(default_factory=list)
    labels_before: bool = False
    labels_skipped: bool = False
    depth: int = 0
    opened: int = 0

    # Tokens

    def fail(self, what: str, token: _Token | None = None, hint: str = "") -> SourceError:
        token = token or self.token
        return SourceError(self.trouble("DTS-SYNTAX", what, token, "", hint or "correct the line"))

    def trouble(self, code: str, what: str, token: _Token, why: str, remedy: str) -> Trouble:
        """A trouble at a token: its place, and the line itself with a marker."""
        text = self.texts.get(token.file, "")
        line = text.count("\n", 0, token.start) + 1
        begin = text.rfind("\n", 0, token.start) + 1
        shown = text[begin:].split("\n", 1)[0].replace("\t", " ")
        marker = " " * (token.start - begin) + "^" * max(1, min(len(token.text), len(shown) - (token.start - begin)))
        column = token.start - begin + 1
        file, line = _told_place(text, token, line)
        return Trouble(code, f"{what} (column {column})", Place(file, line), f"{why}\n  {shown}\n  {marker}", remedy)

    def found(self, finding: Finding) -> Trouble:
        """What a check found, at the place in the source where it stands."""
        mark = (finding.item.at if finding.item is not None else None) or finding.node.at
        if mark is None:
            return Trouble(finding.code, finding.what, Place(self.path), finding.why, finding.remedy)
        text = finding.item.name if finding.item is not None and finding.item.at is not None else finding.node.name or "/"
        return self.trouble(finding.code, finding.what, _Token("", text, *mark), finding.why, finding.remedy)

    def note(self, error: SourceError) -> None:
        """Keeps an error for the end, so that one run reports several; after too many it stops."""
        self.troubles += [trouble for trouble in error.troubles if trouble not in self.troubles]
        self.labels_skipped = self.labels_skipped or self.labels_before
        if len(self.troubles) >= _MANY:
            raise SourceError(self.troubles)

    def skip(self) -> None:
        """Goes on behind the statement that has an error: after its `;`, or before the brace that ends the node."""
        depth = self.depth = 0
        while self.token.kind != "end":
            text = self.token.text
            self.labels_skipped = self.labels_skipped or self.token.kind == "label"
            if text == "}" and depth == 0:
                return
            depth += (text == "{") - (text == "}")
            try:
                self.advance()
            except SourceError:
                self.files[-1].at += 1  # one that has no meaning anywhere: it was told of already, or follows from that
                continue
            if text == ";" and depth == 0:
                return

    def open(self, path: Path, named_by: _Token | None = None, text: str | None = None) -> None:
        self.opened += 1
        if len(self.files) > 30 or self.opened > _MOST_FILES:
            raise self.fail(f"files include each other too deep, or more than {_MOST_FILES} times", named_by)
        try:
            text = self.reader(path).decode("utf-8") if text is None else text
        except (OSError, UnicodeDecodeError) as error:
            reason = error.strerror if isinstance(error, OSError) else "it is not UTF-8 text"
            if named_by is None:
                raise SourceError(Trouble("DTS-UNREADABLE", f"cannot read {path.name}: {reason}", Place(path),
                                          remedy="check the name, on the board or the command line")) from error  # fmt: skip
            raise self.fail(
                f"cannot read {path.name}: {reason}", named_by, "includes are looked for beside this file"
            ) from error
        self.texts[path] = text
        self.files.append(_File(path, text))

    def advance(self) -> _Token:
        """Moves on, and returns the token that was current."""
        former = self.token
        while self.files:
            file = self.files[-1]
            if file.at >= len(file.text):
                self.files.pop()
                continue
            match = _TOKENS.match(file.text, file.at)
            if match is None:
                self.token = _Token("stray", file.text[file.at], file.path, file.at)
                raise self.fail(f"`{file.text[file.at]}` has no meaning here")
            kind, start = match.lastgroup or "", file.at
            file.at = match.end()
            if kind != "blank":
                self.token = _Token(kind, match.group(), file.path, start)
                return former
        self.token = _Token("end", "", former.file, len(self.texts.get(former.file, "")))
        return former

    def split_name(self, length: int) -> None:
        """Gives back all but the first characters of the current token: in expressions `a-b` is three tokens."""
        file = self.files[-1] if self.files and self.files[-1].path == self.token.file else None
        if file is not None:
            file.at = self.token.start + length
            self.token = _Token(self.token.kind, self.token.text[:length], self.token.file, self.token.start)

    def cut_number(self) -> None:
        """Where a number is wanted, `4,` and `5-3` begin with one: names may hold those signs, numbers may not."""
        match = _NUMBER.match(self.token.text) if self.token.kind == "name" else None
        if match is not None:
            self.split_name(match.end())
            self.token = _Token("number", self.token.text, self.token.file, self.token.start)

    def accept(self, text: str) -> bool:
        if self.token.text == text:
            self.advance()
            return True
        return False

    def expect(self, text: str, where: str) -> None:
        if not self.accept(text):
            found = f"`{self.token.text}`" if self.token.text else "the end of the file"
            raise self.fail(f"`{text}` is missing {where}; here stands {found}", hint=f"add the `{text}`")

    # Grammar

    def run(self, text: str | None = None) -> DeviceTree:
        """source := "/dts-v1/;" [ "/plugin/;" ] memreserve* ( "/" node | reference node | delete )*"""
        self.open(self.path, text=text)
        self.advance()
        self.include()
        if self.token.text != "/dts-v1/":
            raise self.fail("the source does not begin with `/dts-v1/;`", hint="add `/dts-v1/;` as the first line")
        while self.token.text in ("/dts-v1/", "/plugin/"):
            self.plugin = self.advance().text == "/plugin/" or self.plugin
            self.expect(";", "after the source's head")
            self.include()
        while self.token.kind != "end":
            self.include()
            if self.token.kind == "end":
                break
            try:
                labels = self.label_list()
                if self.token.text == "/memreserve/":
                    self.reservation()
                else:
                    self.top(labels)
            except SourceError as error:
                self.note(error)
                self.skip()
                self.accept("}")
                self.accept(";")
        if self.labels_skipped:
            raise SourceError(self.troubles)  # what is said of missing labels would follow from these
        self.labels_given_twice()
        self.tree.boot_cpu = self.boot_cpu()
        self.resolve()
        if self.troubles:
            raise SourceError(self.troubles)
        return self.tree

    def found_file(self, name: str, named: _Token) -> Path:
        """A file that the source names: beside the file that does, or in one of the folders."""
        beside = _told_place(self.texts.get(named.file, ""), named, 1)[0].parent / name
        if "\0" in str(beside):
            raise self.fail("a file name contains a null character", named, "remove the null character")
        return next((place for place in (beside, *(folder / name for folder in self.folders)) if place.is_file()), beside)

    def include(self) -> None:
        """include := "/include/" STRING"""
        while self.token.text == "/include/":
            named = self.token
            file = self.files[-1]
            match = re.compile(r'\s*"([^"\n]*)"').match(file.text, file.at)
            if match is None:
                raise self.fail("a file's name in quotes must follow /include/")
            file.at = match.end()
            self.open(self.found_file(match.group(1), named), named)
            self.advance()

    def reservation(self) -> None:
        """memreserve := "/memreserve/" integer integer ";" """
        self.advance()
        address = self.primary(64)
        size = self.primary(64)
        self.expect(";", "after the reservation")
        self.tree.reservations.append((address, size))

    def top(self, labels: list[str]) -> None:
        """( "/" | reference ) "{" contents "}" ";" | "/delete-node/" reference ";" """
        token = self.token
        if self.accept("/"):
            self.name_labels(self.tree.root, labels, token, merged=True)
            self.contents(self.tree.root, 0)
        elif token.kind in ("labelref", "pathref"):
            self.advance()
            first = not self.tree.root.children and not self.tree.root.properties
            apart = self.plugin and (first or token.kind == "pathref" or self.sought(token) is None)
            node = self.fragment(token) if apart else self.referenced(token)
            self.name_labels(node, labels, token, merged=True)
            self.contents(node, 0)
        elif self.accept("/omit-if-no-ref/"):
            self.referenced(self.advance()).only_if_used = True
        elif self.accept("/delete-node/"):
            token = self.advance()
            self.delete(self.referenced(token))
        else:
            raise self.fail(
                f"`{token.text}` does not belong at the top level", hint="expected is `/ { … };` or `&label { … };`"
            )
        self.expect(";", "after the closing brace")

    def fragment(self, token: _Token) -> TreeNode:
        """What an overlay lays upon a node of another tree: a numbered node that says where."""
        node = TreeNode(f"fragment@{self.fragments}")
        self.fragments += 1
        self.tree.root.children[node.name] = node
        if token.kind == "pathref":
            node.properties["target-path"] = TreeProperty("target-path", token.text[2:-1].encode() + b"\0")
        else:
            reference = self.reference(token, 0, as_path=False)
            node.properties["target"] = TreeProperty("target", b"\xff\xff\xff\xff", [reference])
        inside = node.children["__overlay__"] = TreeNode("__overlay__")
        return inside

    def label_list(self) -> list[str]:
        labels = []
        while self.token.kind == "label":
            labels.append(self.advance().text[:-1])
        self.labels_before = bool(labels)
        return labels

    def name_labels(self, node: TreeNode, labels: list[str], token: _Token, merged: bool) -> None:
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

    def contents(self, node: TreeNode, depth: int) -> None:
        """contents := "{" ( property | child | delete )* "}" """
        if depth > _MAX_DEPTH:
            raise self.fail("nodes are nested too deep")
        self.expect("{", "before a node's contents")
        children_begun = False
        while True:
            try:
                kind = self.statement(node, depth, children_begun)
                if kind == "end":
                    return
                children_begun = children_begun or kind == "child"
            except SourceError as error:
                if self.token.kind == "end":
                    raise
                self.note(error)
                self.skip()

    def statement(self, node: TreeNode, depth: int, children_begun: bool) -> str:
        """One property, child or deletion, and which of them it was; or the brace that ends the node."""
        self.include()
        labels = self.label_list()
        token = self.token
        if self.accept("}"):
            return "end"
        if self.accept("/delete-node/"):
            name = self.advance()
            found = self.referenced(name) if name.kind in ("labelref", "pathref") else node.children.get(name.text)
            if found is not None:  # shared sources delete what some boards do not have
                self.delete(found)
            self.expect(";", "after the deletion")
            return "deletion"
        if self.accept("/delete-property/"):
            name = self.advance()
            if name.text in node.properties:
                node.properties[name.text].deleted = True
            self.expect(";", "after the deletion")
            return "deletion"
        only_if_used = self.accept("/omit-if-no-ref/")
        labels += self.label_list()
        if self.token.kind not in ("name", "number", "label"):
            found_text = f"`{token.text}`" if token.text else "the end of the file"
            raise self.fail(f"the name of a property or node is missing; here stands {found_text}",
                            hint="is a `}` or `;` missing above?")  # fmt: skip
        name = self.advance()
        if self.token.text == "{":
            child = node.children.get(name.text)
            merged = child is not None
            if child is None:
                child = node.children[name.text] = TreeNode(name.text)
            child.at = (name.file, name.start)
            child.deleted = False
            child.only_if_used = only_if_used or child.only_if_used
            self.name_labels(child, labels, name, merged)
            self.contents(child, depth + 1)
            self.expect(";", "after the closing brace")
            return "child"
        if children_begun:
            raise self.fail(f"the property `{name.text}` stands after a child node", name, "put properties before children")
        item = TreeProperty(name.text, b"", at=(name.file, name.start))
        if self.accept("="):
            self.value(item)
        self.expect(";", f"after the property `{name.text}`")
        node.properties[name.text] = item
        return "property"

    def value(self, item: TreeProperty) -> None:
        """value := data ( "," data )*      data := STRING | cells | bytes | reference | "/incbin/" ( … )"""
        data = bytearray()
        while True:
            self.label_list()
            token = self.token
            if token.kind == "string":
                self.advance()
                data += self.unescaped(token) + b"\0"
            elif token.text in ("<", "/bits/"):
                bits = 32
                if self.accept("/bits/"):
                    bits = self.primary(64)
                    if bits not in (8, 16, 32, 64):
                        raise self.fail("/bits/ takes 8, 16, 32 or 64", token)
                self.cells(item, data, bits)
            elif token.text == "[":
                self.byte_string(data)
            elif token.kind in ("labelref", "pathref"):
                self.advance()
                item.references.append(self.reference(token, len(data), as_path=True))
            elif self.accept("/incbin/"):
                data += self.binary_file(token)
            else:
                raise self.fail(f"`{token.text}` is no value for the property `{item.name}`",
                                hint='write "text", <numbers>, [bytes] or &label')  # fmt: skip
            self.label_list()
            if not self.accept(","):
                break
        item.value = bytes(data)

    def cells(self, item: TreeProperty, data: bytearray, bits: int) -> None:
        """cells := "<" ( integer | "(" expression ")" | reference | label )* ">" """
        self.expect("<", "before the cells")
        while True:
            self.label_list()
            token = self.token
            if self.accept(">"):
                return
            if token.kind in ("labelref", "pathref"):
                self.advance()
                if bits != 32:
                    raise self.fail("a reference takes 32 bits", token, "leave /bits/ out, or use a number")
                item.references.append(self.reference(token, len(data), as_path=False))
                data += b"\xff\xff\xff\xff"
            else:
                value = self.primary(bits)
                data += (value & ((1 << bits) - 1)).to_bytes(bits // 8, "big")

    def byte_string(self, data: bytearray) -> None:
        """bytes := "[" HEX* "]" """
        file = self.files[-1]
        end = file.text.find("]", file.at)
        inside = (
            re.sub(r"//[^\n]*|/\*.*?\*/|[A-Za-z_]\w*:", " ", file.text[file.at : end], flags=re.DOTALL) if end >= 0 else "?"
        )
        digits = "".join(inside.split())
        if re.fullmatch(r"(?:[0-9a-fA-F]{2})*", digits) is None:
            raise self.fail("between [ and ] stand pairs of hexadecimal digits only")
        data += bytes.fromhex(digits)
        file.at = end + 1
        self.advance()

    def binary_file(self, token: _Token) -> bytes:
        """ "/incbin/" "(" STRING [ "," offset "," length ] ")" """
        self.expect("(", "after /incbin/")
        name = self.advance()
        start, count = 0, None
        if self.accept(","):
            start = self.primary(64)
            self.expect(",", "between offset and length")
            count = self.primary(64)
        self.expect(")", "after /incbin/")
        path = self.found_file(self.unescaped(name).decode("utf-8", "replace"), token)
        try:
            content = self.reader(path)
        except OSError as error:
            raise self.fail(
                f"cannot read {path.name}: {error.strerror}", name, "files are looked for beside this one"
            ) from error
        return content[start:] if count is None else content[start : start + count]

    # Integers

    def primary(self, bits: int) -> int:
        """primary := NUMBER | CHARACTER | "(" expression ")" """
        self.cut_number()
        token = self.token
        if token.kind == "number":
            self.advance()
            value = self.number(token)
        elif token.kind == "character":
            self.advance()
            value = self.unescaped(token)[0]
        elif self.accept("("):
            value = self.ternary()
            self.expect(")", "after the expression")
        else:
            raise self.fail(f"a number is missing; here stands `{token.text}`", hint="put expressions in parentheses")
        if bits < 64 and value >> bits and value >> (bits - 1) != (1 << (65 - bits)) - 1:
            raise self.fail(f"{value:#x} does not fit into {bits} bits", token)
        return value

    def number(self, token: _Token) -> int:
        digits = token.text.rstrip("uUlL")
        try:
            return (int(digits, 8) if re.fullmatch(r"0[0-9]+", digits) else int(digits, 0)) & _MASK
        except ValueError as error:
            raise self.fail(f"`{token.text}` is not a number", token) from error

    def ternary(self) -> int:
        """expression := or [ "?" expression ":" expression ]"""
        self.depth += 1
        if self.depth > _DEEPEST_EXPRESSION:
            raise self.fail("the expression is nested too deep")
        condition = self.binary(0)
        self.depth -= 1
        if not self.accept("?"):
            return condition
        yes = self.ternary()
        self.expect(":", "in the expression")
        no = self.ternary()
        return yes if condition else no

    def operator(self) -> str:
        """The operator at the front; names and numbers do not begin with one inside parentheses."""
        if self.token.kind in ("name", "labelref", "label", "number"):
            match = _OPERATOR.match(self.token.text)
            if match is not None:
                self.split_name(match.end())
        return self.token.text

    def binary(self, level: int) -> int:
        """The binary operators of C, from `||` down to `*`, with its precedence."""
        if level == len(_LEVELS):
            return self.unary()
        left = self.binary(level + 1)
        while (sign := self.operator()) in _LEVELS[level]:
            token = self.advance()
            right = self.binary(level + 1)
            if sign in ("/", "%") and right == 0:
                raise self.fail("division by zero", token)
            left = _LEVELS[level][sign](left, right) & _MASK
        return left

    def unary(self) -> int:
        """unary := ( "-" | "~" | "!" ) unary | primary"""
        sign = self.operator()
        signs: list[str] = []
        while sign in ("-", "~", "!"):
            signs.append(sign)
            self.advance()
            sign = self.operator()
        value = self.primary(64)
        for sign in reversed(signs):
            value = (-value if sign == "-" else ~value if sign == "~" else int(not value)) & _MASK
        return value

    def unescaped(self, token: _Token) -> bytes:
        out = bytearray()
        inside = token.text[1:-1]
        at = 0
        while at < len(inside):
            if inside[at] != "\\":
                out += inside[at].encode()
                at += 1
                continue
            match = re.compile(r"\\(?:([0-7]{1,3})|x([0-9a-fA-F]{1,2})|(.))", re.DOTALL).match(inside, at)
            if match is None:
                raise self.fail("the text ends in the middle of an escape", token)
            octal, hexadecimal, letter = match.groups()
            if octal or hexadecimal:
                out.append((int(octal, 8) if octal else int(hexadecimal, 16)) & 0xFF)
            else:
                out.append(_ESCAPES.get(letter, ord(letter) & 0xFF))
            at = match.end()
        if token.kind == "character" and len(out) != 1:
            raise self.fail("one character stands between the quotes", token)
        return bytes(out)

    # References

    def reference(self, token: _Token, offset: int, as_path: bool) -> Reference:
        target = token.text[2:-1] if token.kind == "pathref" else token.text[1:]
        return Reference(offset, target, as_path, str(token.file), token.start)

    def sought(self, token: _Token) -> TreeNode | None:
        if token.kind == "pathref":
            return self.tree.root.find(token.text[2:-1])
        label = token.text[1:]
        if any(label == contested for contested, _, _ in self.contested):  # the first in the tree has it for now
            return next((node for _, node in self.tree.root.walk() if label in node.labels), None)
        return self.labels.get(label)

    def referenced(self, token: _Token) -> TreeNode:
        if token.kind not in ("pathref", "labelref"):
            raise self.fail("a reference like `&label` belongs here", token)
        found = self.sought(token)
        if found is None:
            known = self.labels if token.kind == "labelref" else [path for path, _ in self.tree.root.walk()]
            name = token.text[1:] if token.kind == "labelref" else token.text[2:-1]
            raise self.fail(f"nothing is called `{name}`", token, suggestion(name, known))
        return found

    def delete(self, node: TreeNode) -> None:
        gone = {id(below) for _, below in node.walk()}
        node.delete()
        self.labels = {label: kept for label, kept in self.labels.items() if id(kept) not in gone}
        self.contested = [entry for entry in self.contested if id(entry[1]) not in gone]
        for label, heir, _ in self.contested:
            self.labels.setdefault(label, heir)

    def labels_given_twice(self) -> None:
        for label, node, token in self.contested:
            if self.labels[label] is not node:
                self.note(self.fail(f"the label `{label}` is given to two nodes", token, "rename one of them"))

    def boot_cpu(self) -> int:
        """The header's boot CPU: `reg` of the first processor."""
        processors = self.tree.root.find("/cpus")
        if processors is None or processors is self.tree.root:
            return 0
        first = next(iter(processors.children.values()), None)
        reg = first.properties.get("reg") if first is not None else None
        return int.from_bytes(reg.value[:4], "big") if reg is not None and len(reg.value) >= 4 else 0

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
                    self.labels_before = False
                    try:
                        self.resolve_property(path, item, paths, used, outside, local)
                    except SourceError as error:
                        self.note(error)
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
        form = "&{" + reference.target + "}" if reference.target.startswith("/") else "&" + reference.target
        kind = "pathref" if reference.target.startswith("/") else "labelref"
        return self.referenced(_Token(kind, form, Path(reference.file), reference.start))


_LEVELS: tuple[dict[str, Callable[[int, int], int]], ...] = (
    {"||": lambda a, b: int(bool(a or b))},
    {"&&": lambda a, b: int(bool(a and b))},
    {"|": lambda a, b: a | b},
    {"^": lambda a, b: a ^ b},
    {"&": lambda a, b: a & b},
    {"==": lambda a, b: int(a == b), "!=": lambda a, b: int(a != b)},
    {
        "<": lambda a, b: int(a < b),
        ">": lambda a, b: int(a > b),
        "<=": lambda a, b: int(a <= b),
        ">=": lambda a, b: int(a >= b),
    },
    {"<<": lambda a, b: a << b if b < 64 else 0, ">>": lambda a, b: a >> b if b < 64 else 0},
    {"+": lambda a, b: a + b, "-": lambda a, b: a - b},
    {"*": lambda a, b: a * b, "/": lambda a, b: a // b, "%": lambda a, b: a % b},
)
