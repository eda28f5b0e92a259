"""ext4 and ext2."""

from __future__ import annotations

from typing import TYPE_CHECKING, BinaryIO

import msgspec

from yarrik.disk.form import Content, FilesystemForm, Planned, Wish
from yarrik.disk.found import Reader
from yarrik.identifiers import derived_guid
from yarrik.moving import Target
from yarrik.rootfs import RootTree

if TYPE_CHECKING:
    from yarrik.disk.ext4 import Ext4Plan


class _Planned(msgspec.Struct, frozen=True):
    plan: Ext4Plan
    content: Content

    @property
    def size(self) -> int:
        return self.plan.size

    def write(self, target: Target, offset: int) -> None:
        from yarrik.disk.ext4 import write_ext4

        write_ext4(self.plan, target, offset, self.content)


def _plan(tree: RootTree, wish: Wish, content: Content) -> Planned:
    from yarrik.disk.ext4 import plan_ext4
    from yarrik.disk.ext4_form import FORMS

    plan = plan_ext4(
        tree,
        size=wish.size,
        spare=wish.spare,
        uuid=wish.uuid,
        hash_seed=derived_guid("hash seed", str(wish.uuid)),
        content=content,
        label=wish.label,
        clock=wish.clock,
        form=FORMS[wish.form],
        inodes=wish.inodes,
        reserved_percent=wish.reserved_percent,
        full_tables=wish.full_tables,
    )
    return _Planned(plan, content)


def _reader(file: BinaryIO, start: int, size: int) -> Reader:
    from yarrik.disk.ext4_read import Ext4Reader

    return Ext4Reader(file, start, size)


def _begins(head: bytes) -> bool:
    return head[1024 + 0x38 : 1024 + 0x3A] == b"\x53\xef"


def _label(name: str) -> str:
    return name.encode()[:16].decode(errors="ignore")


EXT4 = FilesystemForm("ext4", _begins, _reader, _plan, label=_label, kernel_options=("EXT4_FS",))
EXT2 = FilesystemForm("ext2", _begins, _reader, _plan, label=_label, kernel_options=("EXT4_FS", "EXT2_FS"))
