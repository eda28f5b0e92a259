"""FAT."""

from __future__ import annotations

from typing import TYPE_CHECKING, BinaryIO

import msgspec

from yarrik.disk.form import Content, FilesystemForm, Planned, Wish
from yarrik.disk.found import Reader
from yarrik.moving import Target
from yarrik.rootfs import RootTree

if TYPE_CHECKING:
    from yarrik.disk.fat import FatPlan


class _Planned(msgspec.Struct, frozen=True):
    plan: FatPlan
    content: Content

    @property
    def size(self) -> int:
        return self.plan.size

    def write(self, target: Target, offset: int) -> None:
        from yarrik.disk.fat import write_fat

        write_fat(self.plan, target, offset, self.content)


def _plan(tree: RootTree, wish: Wish, content: Content) -> Planned:
    from yarrik.disk.fat import plan_fat

    # FAT has 32 bits for an identifier.
    serial = int.from_bytes(wish.uuid.bytes[:4], "big")
    plan = plan_fat(tree, size=wish.size, spare=wish.spare, serial=serial, label=wish.label, clock=wish.clock)
    return _Planned(plan, content)


def _reader(file: BinaryIO, start: int, size: int) -> Reader:
    from yarrik.disk.fat_read import FatReader

    return FatReader(file, start, size)


def _begins(head: bytes) -> bool:
    return head[510:512] == b"\x55\xaa" and (head[54:57] == b"FAT" or head[82:87] == b"FAT32")


def _label(name: str) -> str:
    from yarrik.disk.fat_names import usual_label

    return usual_label(name)


FORM = FilesystemForm("fat", _begins, _reader, _plan, label=_label, kernel_options=("VFAT_FS",), role="basic-data")
