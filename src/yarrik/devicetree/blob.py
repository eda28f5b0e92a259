"""The flattened device tree, version 17: Devicetree Specification v0.4, chapter 5."""

from __future__ import annotations

import struct

from yarrik.devicetree.tree import DeviceTree, TreeNode, TreeProperty
from yarrik.errors import Damaged
from yarrik.units import round_up

MAGIC = 0xD00DFEED
VERSION = 17
LAST_COMPATIBLE = 16
_HEADER = struct.Struct(">10I")
_BEGIN_NODE, _END_NODE, _PROPERTY, _NOTHING, _END = 1, 2, 3, 4, 9
_MAX_DEPTH = 64


#: Names of nodes and properties have at most 31 characters (Devicetree Specification 0.4, 2.2.1 and 2.2.4); sources in use have
#: longer ones, and none near this.
_LONGEST_NAME = 1024


class BlobDamaged(Damaged):
    """The bytes are no valid device tree blob; the message says why."""


def blob_name(source: str) -> str:
    """The file name of the blob that a source compiles to: `kittiwake.dts` gives `kittiwake.dtb`."""
    return source.removesuffix(".dts") + ".dtb"


def encode_blob(tree: DeviceTree, room: int = 0, spare_reservations: int = 0) -> bytes:
    """The tree as a blob: header, reservations, structure, strings, in this order.

    `room` bytes at the end, and empty entries among the reservations, are left for a bootloader to fill in."""
    strings = bytearray(tree.names)
    structure = bytearray()

    def name_offset(name: str) -> int:
        wanted = name.encode("ascii") + b"\0"
        at = strings.find(wanted)  # the end of a longer name serves as well
        if at < 0:
            at = len(strings)
            strings.extend(wanted)
        return at

    def put(node: TreeNode) -> None:
        structure.extend(struct.pack(">I", _BEGIN_NODE) + _padded(node.name.encode("ascii") + b"\0"))
        for item in node.properties.values():
            structure.extend(struct.pack(">III", _PROPERTY, len(item.value), name_offset(item.name)) + _padded(item.value))
        for child in node.children.values():
            put(child)
        structure.extend(struct.pack(">I", _END_NODE))

    put(tree.root)
    structure += struct.pack(">I", _END)
    reservations = b"".join(struct.pack(">QQ", *pair) for pair in [*tree.reservations, *[(0, 0)] * (spare_reservations + 1)])
    at_structure = _HEADER.size + len(reservations)
    at_strings = at_structure + len(structure)
    total = at_strings + len(strings) + room
    header = _HEADER.pack(
        MAGIC,
        total,
        at_structure,
        at_strings,
        _HEADER.size,
        VERSION,
        LAST_COMPATIBLE,
        tree.boot_cpu,
        len(strings),
        len(structure),
    )
    return header + reservations + bytes(structure) + bytes(strings) + bytes(room)


def _padded(data: bytes) -> bytes:
    return data.ljust(round_up(len(data), 4), b"\0")


def decode_blob(data: bytes) -> DeviceTree:
    """The tree in a blob. Raises BlobDamaged for anything that does not hold together."""
    if len(data) < _HEADER.size:
        raise BlobDamaged("it is shorter than a header")
    magic, total, at_structure, at_strings, at_reserved, version, compatible, boot_cpu, strings_size, structure_size = (
        _HEADER.unpack_from(data)
    )
    if magic != MAGIC:
        raise BlobDamaged(f"it begins with 0x{magic:08x}, not with 0x{MAGIC:08x}")
    if compatible > VERSION or version < LAST_COMPATIBLE:
        raise BlobDamaged(f"it has version {version}, and this reader knows {VERSION}")
    if total > len(data):
        raise BlobDamaged(f"it should have {total} bytes and has {len(data)}")
    if at_structure + structure_size > total or at_strings + strings_size > total or at_structure % 4:
        raise BlobDamaged("its parts lie outside of it")
    reservations: list[tuple[int, int]] = []
    while True:
        if at_reserved + 16 > total:
            raise BlobDamaged("its list of reservations has no end")
        pair = struct.unpack_from(">QQ", data, at_reserved)
        at_reserved += 16
        if pair == (0, 0):
            break
        reservations.append((pair[0], pair[1]))
    strings = data[at_strings : at_strings + strings_size]
    root = _structure(data[at_structure : at_structure + structure_size], strings)
    return DeviceTree(root, reservations, boot_cpu, strings)


def _name(data: bytes) -> str:
    if not all(33 <= byte < 127 for byte in data):
        raise BlobDamaged("a name in it is not text")
    return data.decode("ascii")


def _structure(data: bytes, strings: bytes) -> TreeNode:
    at = 0
    trail: list[TreeNode] = []
    root: TreeNode | None = None

    def word() -> int:
        nonlocal at
        if at + 4 > len(data):
            raise BlobDamaged("its structure ends in the middle")
        at += 4
        return int.from_bytes(data[at - 4 : at], "big")

    while (token := word()) != _END:
        if token == _BEGIN_NODE:
            end = data.find(b"\0", at, at + _LONGEST_NAME)
            if end < 0 or len(trail) >= _MAX_DEPTH or (root is not None and not trail):
                raise BlobDamaged("a node has no name, or nodes are nested too deep")
            node = TreeNode(_name(data[at:end]))
            at = round_up(end + 1, 4)
            if trail:
                trail[-1].children[node.name] = node
            else:
                root = node
            trail.append(node)
        elif token == _END_NODE and trail:
            trail.pop()
        elif token == _PROPERTY and trail:
            length, name_at = word(), word()
            name_end = strings.find(b"\0", name_at, name_at + _LONGEST_NAME)
            if at + length > len(data) or name_end < 0:
                raise BlobDamaged("a property reaches beyond the blob")
            name = _name(strings[name_at:name_end])
            trail[-1].properties[name] = TreeProperty(name, data[at : at + length])
            at = round_up(at + length, 4)
        elif token != _NOTHING:
            raise BlobDamaged(f"its structure holds the unknown token {token} in its structure")
    if root is None or trail:
        raise BlobDamaged("its nodes are not closed")
    return root
