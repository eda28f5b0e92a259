"""Reads squashfs 4.0 of any writer; `squashfs_form` says how it looks.

Nothing is trusted: every place is checked against the image, nothing is decompressed to more than a block, and folders
have an end in depth and number.
"""

from __future__ import annotations

import os
import struct
from collections import OrderedDict
from collections.abc import Iterator
from typing import BinaryIO

from yarrik.binary import Record, Value, number
from yarrik.disk.found import Found
from yarrik.disk.squashfs_form import (
    ATTRIBUTE,
    ATTRIBUTE_ELSEWHERE,
    ATTRIBUTE_PREFIXES,
    ATTRIBUTE_SET,
    ATTRIBUTE_TABLE,
    DEVICE,
    ENTRY,
    FILE,
    FOLDER,
    FRAGMENT,
    INODE,
    LINK,
    LONG,
    LONG_DEVICE,
    LONG_FILE,
    LONG_FOLDER,
    LONG_PIPE,
    MAGIC,
    METADATA,
    NO_ATTRIBUTES,
    NO_FRAGMENT,
    NOTHING,
    PIPE,
    RUN,
    SUPER,
    TYPES,
    UNCOMPRESSED_BLOCK,
    UNCOMPRESSED_METADATA,
    decompressor,
)
from yarrik.disk.window import Window
from yarrik.errors import Damaged, Unfit

_KINDS = {kind: name for name, kind in TYPES.items()}
_BODIES: dict[int, Record] = {
    TYPES["folder"]: FOLDER,
    TYPES["file"]: FILE,
    TYPES["link"]: LINK,
    TYPES["block"]: DEVICE,
    TYPES["character"]: DEVICE,
    TYPES["fifo"]: PIPE,
    TYPES["socket"]: PIPE,
    TYPES["folder"] + LONG: LONG_FOLDER,
    TYPES["file"] + LONG: LONG_FILE,
    TYPES["link"] + LONG: LINK,
    TYPES["block"] + LONG: LONG_DEVICE,
    TYPES["character"] + LONG: LONG_DEVICE,
    TYPES["fifo"] + LONG: LONG_PIPE,
    TYPES["socket"] + LONG: LONG_PIPE,
}
_KEPT = 64
_MOST_VALUE = 1 << 16


class SquashfsDamaged(Damaged):
    """The bytes are no valid filesystem; the message says why."""


class SquashfsReader:
    """Reads a filesystem that begins `offset` bytes into an open file, and has at most `size` bytes."""

    form, label, uuid = "squashfs", "", ""
    MOST_ENTRIES = 5_000_000
    MOST_DEPTH = 200

    def __init__(self, disk: BinaryIO, offset: int, size: int) -> None:
        self._read = Window(disk, offset, size, SquashfsDamaged).read
        fields = SUPER.unpack(self._read(0, SUPER.size))
        if fields["magic"] != MAGIC or fields["major"] != 4 or fields["minor"] != 0:
            raise SquashfsDamaged("there is no superblock of squashfs 4.0")
        self._super = fields
        self.block = number(fields, "block_size")
        if self.block != 1 << number(fields, "block_log") or not 4096 <= self.block <= 1 << 20:
            raise SquashfsDamaged("its superblock gives no valid block size")
        if number(fields, "bytes_used") > size:
            raise SquashfsDamaged("it is cut off")
        self._read = Window(disk, offset, number(fields, "bytes_used"), SquashfsDamaged).read
        try:
            self._decompress = decompressor(number(fields, "compressor"))
        except (Damaged, Unfit) as error:
            raise SquashfsDamaged(str(error)) from None
        self._metadata: OrderedDict[int, tuple[bytes, int]] = OrderedDict()
        self._fragment: tuple[int, bytes] = (-1, b"")
        self._lists: dict[str, list[int]] = {}

    def _unpacked(self, data: bytes, most: int) -> bytes:
        try:
            return self._decompress(data, most)
        except Damaged as error:
            raise SquashfsDamaged(str(error)) from None

    # Metadata

    def _metadata_block(self, at: int) -> tuple[bytes, int]:
        """The content of the metadata block at a place of the image, and where the following one begins."""
        found = self._metadata.get(at)
        if found is None:
            (head,) = struct.unpack("<H", self._read(at, 2))
            count = head & ~UNCOMPRESSED_METADATA or UNCOMPRESSED_METADATA
            data = self._read(at + 2, count)
            if not head & UNCOMPRESSED_METADATA:
                data = self._unpacked(data, METADATA)
            if not 0 < len(data) <= METADATA:
                raise SquashfsDamaged("a block of metadata has an impossible length")
            found = self._metadata[at] = (data, at + 2 + count)
            while len(self._metadata) > _KEPT:
                self._metadata.popitem(last=False)
        return found

    def _stream(self, at: int, offset: int, count: int) -> tuple[bytes, int, int]:
        """`count` bytes of metadata from an offset in the block at a place, and the place and offset behind them."""
        out = bytearray()
        while True:
            data, following = self._metadata_block(at)
            if offset > len(data):
                raise SquashfsDamaged("it names a place in a block of metadata that is not there")
            part = data[offset : offset + count - len(out)]
            out += part
            offset += len(part)
            if len(out) == count:
                return bytes(out), at, offset
            at, offset = following, 0

    def _row(self, table: str, row: Record, index: int, count: int) -> dict[str, Value]:
        """One row of a table whose superblock field leads to a list of metadata blocks."""
        if not 0 <= index < count:
            raise SquashfsDamaged(f"it names a row {index} of a table that has {count}")
        block, place = divmod(index * row.size, METADATA)
        start = number(self._super, table) + (ATTRIBUTE_TABLE.size if table == "attribute_table" else 0)
        (at,) = struct.unpack("<Q", self._read(start + 8 * block, 8))
        return row.unpack(self._stream(at, place, row.size)[0])

    def _id(self, index: int) -> int:
        return number(self._row("id_table", _ID, index, number(self._super, "ids")), "id")

    # Inodes

    def _inode(self, reference: int) -> tuple[dict[str, Value], dict[str, Value], int, int]:
        """An inode's head and body, and the place and offset in the metadata of what follows them."""
        at, offset = number(self._super, "inode_table") + (reference >> 16), reference & 0xFFFF
        data, at, offset = self._stream(at, offset, INODE.size)
        head = INODE.unpack(data)
        shape = _BODIES.get(number(head, "type"))
        if shape is None:
            raise SquashfsDamaged(f"an inode is of no kind that is known ({number(head, 'type')})")
        data, at, offset = self._stream(at, offset, shape.size)
        return head, shape.unpack(data), at, offset

    def _found(self, path: str, reference: int) -> Found:
        head, body, at, offset = self._inode(reference)
        type_ = number(head, "type")
        kind = _KINDS[type_ if type_ <= LONG else type_ - LONG]
        size = number(body, "size") if kind == "file" else 0
        target = ""
        if kind == "link":
            size = number(body, "size")
            if size > METADATA:
                raise SquashfsDamaged(f"the link {path!r} leads to a path of {size} bytes")
            target = os.fsdecode(self._stream(at, offset, size)[0])
        device = number(body, "device") if "device" in body else 0
        return Found(
            path,
            kind,
            number(head, "mode") & 0o7777,
            self._id(number(head, "uid")),
            self._id(number(head, "gid")),
            size,
            number(head, "modified"),
            target,
            (device >> 8 & 0xFFF, device & 0xFF | device >> 12 & 0xFFF00),
            number(body, "links") if "links" in body else 1,
            reference,
        )

    def walk(self) -> Iterator[Found]:
        waiting = [("/", number(self._super, "root_inode"), 0)]
        folders: set[int] = set()
        # Listings may be shared, so a few bytes could show any number of names; real ones take more than half a byte.
        most = min(self.MOST_ENTRIES, max(10_000, 2 * number(self._super, "bytes_used")))
        count = 0
        while waiting:
            path, reference, depth = waiting.pop()
            found = self._found(path, reference)
            yield found
            count += 1
            if found.kind == "folder":
                if reference in folders or depth > self.MOST_DEPTH:
                    raise SquashfsDamaged(f"the folder {path!r} is another one too, or lies too deep")
                folders.add(reference)
                inside = []
                for name, inner in self._entries(reference):
                    inside.append((f"{path.rstrip('/')}/{name}", inner, depth + 1))
                    if count + len(waiting) + len(inside) > most:
                        raise SquashfsDamaged("it has too many entries")
                waiting += reversed(inside)

    def _entries(self, reference: int) -> Iterator[tuple[str, int]]:
        """Names in a folder, and references to their inodes."""
        _, body, _, _ = self._inode(reference)
        left = number(body, "size") - 3  # for the two names that are not listed
        at, offset = number(self._super, "folder_table") + number(body, "start"), number(body, "offset")
        while left > 0:
            data, at, offset = self._stream(at, offset, RUN.size)
            run = RUN.unpack(data)
            left -= RUN.size
            count = number(run, "count") + 1
            if count > 256:
                raise SquashfsDamaged("a folder's listing is broken")
            for _ in range(count):
                data, at, offset = self._stream(at, offset, ENTRY.size)
                place, _, _, size = struct.unpack("<HhHH", data)
                if size > 255:
                    raise SquashfsDamaged("a folder holds a name of over 256 bytes")
                raw, at, offset = self._stream(at, offset, size + 1)
                left -= ENTRY.size + size + 1
                name = os.fsdecode(raw)
                if name in (".", "..") or "/" in name or "\0" in name:
                    raise SquashfsDamaged(f"a folder holds the name {name!r}")
                yield name, number(run, "start") << 16 | place
        if left < 0:
            raise SquashfsDamaged("a folder's listing is longer than it says")

    # Content

    def content(self, found: Found) -> Iterator[bytes]:
        _, body, at, offset = self._inode(found.handle)
        size, fragment = number(body, "size"), number(body, "fragment")
        whole = size // self.block
        blocks = whole if fragment != NO_FRAGMENT else -(-size // self.block)
        place = number(body, "start")
        for index in range(blocks):
            data, at, offset = self._stream(at, offset, 4)
            (stored,) = struct.unpack("<I", data)
            most = min(self.block, size - index * self.block)
            part = self._block(place, stored, most) if stored else bytes(most)
            if len(part) != most:
                raise SquashfsDamaged(f"a block of {found.path!r} is shorter than it should be")
            place += stored & ~UNCOMPRESSED_BLOCK
            yield part
        rest = size - blocks * self.block
        if rest > 0:
            start = number(body, "offset")
            data = self._fragment_at(fragment)[start : start + rest]
            if len(data) != rest:
                raise SquashfsDamaged(f"the end of {found.path!r} is not where it should be")
            yield data

    def _block(self, at: int, stored: int, most: int) -> bytes:
        count = stored & ~UNCOMPRESSED_BLOCK
        if count > self.block:
            raise SquashfsDamaged("a block has an impossible length")
        data = self._read(at, count)
        return data if stored & UNCOMPRESSED_BLOCK else self._unpacked(data, most)

    def _fragment_at(self, index: int) -> bytes:
        if self._fragment[0] != index:
            fields = self._row("fragment_table", FRAGMENT, index, number(self._super, "fragments"))
            self._fragment = (index, self._block(number(fields, "start"), number(fields, "size"), self.block))
        return self._fragment[1]

    # Extended attributes

    def attributes(self, found: Found) -> dict[str, bytes]:
        """A path's extended attributes."""
        head, body, at, offset = self._inode(found.handle)
        if number(head, "type") == TYPES["link"] + LONG:
            _, at, offset = self._stream(at, offset, number(body, "size"))
            index = struct.unpack("<I", self._stream(at, offset, 4)[0])[0]
        else:
            index = number(body, "attributes") if "attributes" in body else NO_ATTRIBUTES
        table = number(self._super, "attribute_table")
        if index == NO_ATTRIBUTES or table == NOTHING:
            return {}
        main = ATTRIBUTE_TABLE.unpack(self._read(table, ATTRIBUTE_TABLE.size))
        row = self._row("attribute_table", ATTRIBUTE_SET, index, number(main, "count"))
        start, place = number(main, "start"), number(row, "place")
        at, offset = start + (place >> 16), place & 0xFFFF
        answer: dict[str, bytes] = {}
        for _ in range(min(number(row, "count"), 0xFFFF)):
            data, at, offset = self._stream(at, offset, ATTRIBUTE.size)
            kind, size = struct.unpack("<HH", data)
            name, at, offset = self._stream(at, offset, size)
            value, at, offset = self._value(at, offset)
            if kind & 0xFF >= len(ATTRIBUTE_PREFIXES):
                raise SquashfsDamaged(f"an extended attribute of {found.path!r} is of no kind that is known")
            if kind & ATTRIBUTE_ELSEWHERE:
                if len(value) != 8:
                    raise SquashfsDamaged(f"an extended attribute of {found.path!r} is broken")
                (place,) = struct.unpack("<Q", value)
                value, _, _ = self._value(start + (place >> 16), place & 0xFFFF)
            answer[ATTRIBUTE_PREFIXES[kind & 0xFF] + name.decode("utf-8", "surrogateescape")] = value
        return answer

    def _value(self, at: int, offset: int) -> tuple[bytes, int, int]:
        data, at, offset = self._stream(at, offset, 4)
        (size,) = struct.unpack("<I", data)
        if size > _MOST_VALUE:
            raise SquashfsDamaged(f"an extended attribute has {size} bytes")
        return self._stream(at, offset, size)


_ID = Record(4, ("id", 0, "I"))
