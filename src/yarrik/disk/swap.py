"""Swap areas: the kernel's include/linux/swap.h (union swap_header) is the specification. Only the first page says anything."""

from __future__ import annotations

import uuid as uuids
from collections.abc import Iterator
from typing import BinaryIO

from yarrik.binary import Record, number, raw_bytes
from yarrik.disk.found import Found
from yarrik.disk.window import Window
from yarrik.errors import Damaged, Unfit
from yarrik.moving import Target
from yarrik.units import TooSmall, shown_size

PAGE = 4096
LEAST = 10 * PAGE
MARK = b"SWAPSPACE2"
_HEADER = Record(
    PAGE,
    ("version", 1024, "I"),
    ("last_page", 1028, "I"),
    ("bad_pages", 1032, "I"),
    ("uuid", 1036, "16s"),
    ("label", 1052, "16s"),
    ("mark", PAGE - len(MARK), "10s"),
)


class SwapDamaged(Damaged):
    """The bytes are no valid swap area; the message says why."""


def write_swap(target: Target, offset: int, size: int, uuid: uuids.UUID, label: str = "") -> None:
    """Writes an area of `size` bytes. Raises TooSmall, or ValueError for a label of over 16 bytes."""
    if size < LEAST:
        raise TooSmall(f"a swap area has {shown_size(LEAST)} at the least, and the size is {shown_size(size)}")
    if len(label.encode()) > 16:
        raise Unfit(f"the label `{label}` is longer than 16 bytes")
    last = min(size // PAGE - 1, 0xFFFFFFFF)
    target.put(offset, _HEADER.pack(version=1, last_page=last, uuid=uuid.bytes, label=label.encode(), mark=MARK))


class SwapReader:
    """A swap area, which holds nothing to list."""

    form = "swap"

    def __init__(self, disk: BinaryIO, offset: int, size: int) -> None:
        fields = _HEADER.unpack(Window(disk, offset, size, SwapDamaged).read(0, PAGE))
        if fields["mark"] != MARK or fields["version"] != 1:
            raise SwapDamaged("there is no header of a swap area")
        if (number(fields, "last_page") + 1) * PAGE > size:
            raise SwapDamaged("it is cut off")
        self.label = raw_bytes(fields, "label").split(b"\0")[0].decode("utf-8", "replace")
        self.uuid = str(uuids.UUID(bytes=raw_bytes(fields, "uuid")))

    def walk(self) -> Iterator[Found]:
        return iter(())

    def content(self, found: Found) -> Iterator[bytes]:
        return iter(())

    def attributes(self, found: Found) -> dict[str, bytes]:
        return {}
