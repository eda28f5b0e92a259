"""Parameters of overlays, as their node `__overrides__` declares them: by name what a value is written to.

A declaration is a phandle and a text, as often as needed: `property:OFFSET` for a cell of 32 bits, with `;` 16 bits, `.` 8,
`#` 64, `property?` for one that is there or not, and a bare name for a text."""

from __future__ import annotations

import struct
from collections.abc import Mapping

from yarrik.devicetree.tree import DeviceTree, TreeNode, TreeProperty
from yarrik.errors import Unfit, suggestion
from yarrik.patterns import lazy_pattern

_TARGET = lazy_pattern(r"(?P<name>[\w,.+#-]+?)(?:(?P<kind>[:;.#])(?P<offset>\d+)|(?P<flag>\?))?\Z")
_WIDTHS = {":": 4, ";": 2, ".": 1, "#": 8}
_YES, _NO = ("y", "yes", "on", "true", "1"), ("n", "no", "off", "false", "0")


def parameters_of(tree: DeviceTree) -> list[str]:
    """Names of the parameters that a tree or overlay declares."""
    node = tree.root.children.get("__overrides__")
    return [name for name in node.properties if name not in ("phandle", "name")] if node is not None else []


def set_parameters(tree: DeviceTree, values: Mapping[str, str]) -> None:
    """Writes values into a tree or overlay, as its declarations say. Raises Unfit for an unknown name or an unfit value."""
    node = tree.root.children.get("__overrides__")
    for name, value in values.items():
        item = node.properties.get(name) if node is not None else None
        if item is None:
            known = parameters_of(tree)
            raise Unfit(f"it has no parameter `{name}`; {suggestion(name, known) if known else 'it has none'}")
        for target, text in _declarations(name, item.value):
            _write(tree, name, target, text, value)


def _declarations(name: str, data: bytes) -> list[tuple[int, str]]:
    found = []
    while data:
        if len(data) < 6 or b"\0" not in data[4:]:
            raise Unfit(f"its declaration of `{name}` is cut off")
        end = data.index(b"\0", 4)
        found.append((struct.unpack(">I", data[:4])[0], data[4:end].decode("ascii", "replace")))
        data = data[end + 1 :]
    return found


def _write(tree: DeviceTree, name: str, phandle: int, text: str, value: str) -> None:
    match = _TARGET.match(text)
    node = _with_phandle(tree.root, phandle)
    if match is None or node is None:
        raise Unfit(f"its parameter `{name}` is declared in a way that is not known here: {text}")
    key = match["name"]
    if match["flag"]:
        if value.lower() not in (*_YES, *_NO):
            raise Unfit(f"its parameter `{name}` is on or off, and not `{value}`")
        node.properties.pop(key, None)
        if value.lower() in _YES:
            node.properties[key] = TreeProperty(key, b"")
        return
    if not match["kind"]:
        node.properties[key] = TreeProperty(key, value.encode() + b"\0")
        return
    width, offset = _WIDTHS[match["kind"]], int(match["offset"])
    try:
        number = int(value, 0)
        packed = (number % (1 << 8 * width)).to_bytes(width, "big")
    except ValueError as error:
        raise Unfit(f"its parameter `{name}` is a number, and not `{value}`") from error
    if not -(1 << (8 * width - 1)) <= number < 1 << 8 * width:
        raise Unfit(f"its parameter `{name}` has {8 * width} bits, and {value} does not fit into them")
    known = node.properties.get(key)
    if offset > 1 << 16:
        raise Unfit(f"its parameter `{name}` is declared beyond any property: {text}")
    data = bytearray(known.value if known is not None else b"")
    data.extend(bytes(max(0, offset + width - len(data))))
    data[offset : offset + width] = packed
    node.properties[key] = TreeProperty(key, bytes(data))


def _with_phandle(root: TreeNode, wanted: int) -> TreeNode | None:
    for _, node in root.walk():
        item = node.properties.get("phandle")
        if item is not None and len(item.value) == 4 and struct.unpack(">I", item.value)[0] == wanted:
            return node
    return None
