"""A device tree as source again: what cannot be known any more (labels, expressions) is gone, the bytes are the same."""

from __future__ import annotations

from yarrik.devicetree.tree import DeviceTree, TreeNode, TreeProperty

_ESCAPES = {0x22: '\\"', 0x5C: "\\\\", 0x0A: "\\n", 0x09: "\\t", 0x0D: "\\r"}


def as_source(tree: DeviceTree, node: TreeNode | None = None) -> str:
    """The whole tree as a source that compiles to it, or one node with all below."""
    lines: list[str] = []
    if node is None or node is tree.root:
        lines.append("/dts-v1/;")
        lines += [f"/memreserve/ {address:#x} {size:#x};" for address, size in tree.reservations]
        node = tree.root
    _print(node, "", lines)
    return "\n".join(lines) + "\n"


def _print(node: TreeNode, indent: str, lines: list[str]) -> None:
    lines.append(f"{indent}{node.name or '/'} {{")
    lines += [f"{indent}    {_property(item)}" for item in node.properties.values()]
    for child in node.children.values():
        _print(child, indent + "    ", lines)
    lines.append(f"{indent}}};")


def _property(item: TreeProperty) -> str:
    return f"{item.name} = {as_value(item)};" if item.value else f"{item.name};"


def as_value(item: TreeProperty) -> str:
    """A property's value as a source would have it: texts, cells or bytes, whatever it looks like; "" for none."""
    value = item.value
    if not value:
        return ""
    if _is_text(value):
        return ", ".join(_quoted(part) for part in value[:-1].split(bytes(1)))
    if len(value) % 4 == 0:
        return "<" + " ".join(f"{int.from_bytes(value[at : at + 4], 'big'):#x}" for at in range(0, len(value), 4)) + ">"
    return f"[{value.hex(' ')}]"


def _is_text(value: bytes) -> bool:
    """Whether the bytes look like strings: printable, each with an end, none empty."""
    if value[-1] or not value[0] or b"\0\0" in value:
        return False
    return all(32 <= byte < 127 or byte == 0 or byte in _ESCAPES for byte in value)


def _quoted(part: bytes) -> str:
    return '"' + "".join(_ESCAPES.get(byte, chr(byte)) for byte in part) + '"'
