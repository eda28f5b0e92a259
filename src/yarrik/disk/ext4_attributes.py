"""Extended attributes as ext4 keeps them (chapter "Extended Attributes"): in what is left of the inode, or in one block.

Names come as the kernel shows them (`security.capability`); POSIX ACLs are turned from the form that the kernel's calls
give into the one on the disk, and back.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

from yarrik.errors import Damaged, Unfit
from yarrik.units import round_up

MAGIC = 0xEA020000
INODE_ROOM = 256 - 128 - 32 - 4
BLOCK_HEAD = 32
_PREFIXES = {
    "system.posix_acl_access": 2,
    "system.posix_acl_default": 3,
    "user.": 1,
    "trusted.": 4,
    "security.": 6,
    "system.": 7,
}
_ACL_WITH_ID = (0x02, 0x08)

Attributes = tuple[tuple[str, bytes], ...]
_Row = tuple[int, bytes, bytes]  # prefix's number, rest of the name, value as on the disk


class AttributeUnfit(Unfit):
    """An attribute that cannot be kept; the message says why."""


def fits_inode(attributes: Attributes) -> bool:
    """Whether the attributes fit into what an inode of 256 bytes leaves."""
    return _size(_rows(attributes)) <= INODE_ROOM


def check(attributes: Attributes, path: str, block: int) -> None:
    """Raises AttributeUnfit when a file's attributes are too many for one block, or have a name of no known kind."""
    try:
        size = _size(_rows(attributes))
    except AttributeUnfit as error:
        raise AttributeUnfit(f"{path}: {error}") from None
    if size > block - BLOCK_HEAD:
        raise AttributeUnfit(f"the extended attributes of {path} take more than a block")


def _rows(attributes: Attributes) -> list[_Row]:
    rows: list[_Row] = []
    for name, value in attributes:
        prefix = next(
            (prefix for prefix in _PREFIXES if name == prefix or (prefix.endswith(".") and name.startswith(prefix))), None
        )
        if prefix is None:
            raise AttributeUnfit(f"the extended attribute `{name}` is of no kind that ext4 knows")
        index = _PREFIXES[prefix]
        data = _acl_to_disk(value) if index in (2, 3) else value
        rows.append((index, name[len(prefix) :].encode("utf-8", "surrogateescape"), data))
    return sorted(rows, key=lambda row: (row[0], len(row[1]), row[1]))


def _size(rows: list[_Row]) -> int:
    return sum(16 + round_up(len(name), 4) + round_up(len(value), 4) for _, name, value in rows) + 4


def _acl_to_disk(value: bytes) -> bytes:
    """From the calls' form (version 2, eight bytes an entry) to the disk's (version 1, ids only where they mean something)."""
    if len(value) < 4 or (len(value) - 4) % 8 or value[:4] != struct.pack("<I", 2):
        raise AttributeUnfit("an access control list has a form that is not known")
    out = bytearray(struct.pack("<I", 1))
    for at in range(4, len(value), 8):
        tag, rights, name = struct.unpack_from("<HHI", value, at)
        out += struct.pack("<HHI", tag, rights, name) if tag in _ACL_WITH_ID else struct.pack("<HH", tag, rights)
    return bytes(out)


def _acl_from_disk(value: bytes) -> bytes:
    out = bytearray(struct.pack("<I", 2))
    at = 4
    while at + 4 <= len(value):
        tag, rights = struct.unpack_from("<HH", value, at)
        at += 4
        name = 0xFFFFFFFF
        if tag in _ACL_WITH_ID and at + 4 <= len(value):
            name = int.from_bytes(value[at : at + 4], "little")
            at += 4
        out += struct.pack("<HHI", tag, rights, name)
    return bytes(out)


def _hash(name: bytes, value: bytes) -> int:
    """The entry's hash, as fs/ext4/xattr.c computes it."""
    result = 0
    for byte in name:
        result = (result << 5 ^ result >> 27 ^ byte) & 0xFFFFFFFF
    padded = value.ljust(round_up(len(value), 4), b"\0")
    for (word,) in struct.iter_unpack("<I", padded):
        result = (result << 16 ^ result >> 16 ^ word) & 0xFFFFFFFF
    return result


def _packed(rows: list[_Row], room: int, base: int) -> tuple[bytes, list[int]]:
    """Entries from the front and values from the end of `room` bytes; offsets of values count from `base` before it."""
    entries, values = bytearray(), bytearray()
    hashes: list[int] = []
    for index, name, value in rows:
        padded = value.ljust(round_up(len(value), 4), b"\0")
        values[:0] = padded
        offset = base + room - len(values) if value else 0
        hashes.append(_hash(name, value))
        entries += struct.pack("<BBHIII", len(name), index, offset, 0, len(value), hashes[-1])
        entries += name.ljust(round_up(len(name), 4), b"\0")
    return bytes(entries).ljust(room - len(values), b"\0") + bytes(values), hashes


def inode_tail(attributes: Attributes) -> bytes:
    """The end of an inode, from behind its extra fields: the magic number, entries, values."""
    return struct.pack("<I", MAGIC) + _packed(_rows(attributes), INODE_ROOM, 0)[0]


def block(attributes: Attributes, number: int, size: int, checksum: Callable[[bytes], int]) -> bytes:
    """A whole attribute block. `checksum` is given the block's number (eight bytes) and content, and seeded by the caller."""
    body, hashes = _packed(_rows(attributes), size - BLOCK_HEAD, BLOCK_HEAD)
    together = 0
    for one in hashes:
        together = (together << 16 ^ together >> 16 ^ one) & 0xFFFFFFFF
    head = bytearray(struct.pack("<IIIII12x", MAGIC, 1, 1, together, 0))
    value = checksum(struct.pack("<Q", number) + bytes(head) + body)
    head[16:20] = struct.pack("<I", value)
    return bytes(head) + body


def parse(entries: bytes, base: int) -> Iterator[tuple[str, bytes]]:
    """The attributes in `entries`, whose offsets count from `base` bytes before it. Raises ValueError for what is broken."""
    names = {index: prefix for prefix, index in _PREFIXES.items()}
    at = 0
    while at + 4 <= len(entries) and entries[at : at + 4] != b"\0\0\0\0":
        if at + 16 > len(entries):
            raise Damaged("an extended attribute is cut off")
        length, index, offset, outside, size, _ = struct.unpack_from("<BBHIII", entries, at)
        start = offset - base
        if (
            index not in names
            or outside
            or at + 16 + length > len(entries)
            or (size and not 0 <= start <= start + size <= len(entries))
        ):
            raise Damaged("an extended attribute is broken")
        value = entries[start : start + size] if size else b""
        name = names[index] + entries[at + 16 : at + 16 + length].decode("utf-8", "surrogateescape")
        yield name, _acl_from_disk(value) if index in (2, 3) else value
        at += 16 + round_up(length, 4)
