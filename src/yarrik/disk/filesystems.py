"""Any of the filesystems and archives, asked for in one way: planned first, so that its size is known, then written."""

from __future__ import annotations

import os
import uuid as uuids
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO, Protocol

from yarrik.errors import Unfit
from yarrik.identifiers import derived_guid
from yarrik.moving import Target
from yarrik.rootfs import RootTree
from yarrik.units import NO_SPARE, Spare, TooSmall, shown_size

if TYPE_CHECKING:
    from yarrik.disk.ext4 import Ext4Plan
    from yarrik.disk.fat import FatPlan

Content = Callable[[str], str | Path]
#: Forms that are written from front to back, so that their size is known at the end.
EXTENDED = ("ext4", "ext2")
STREAMED = ("squashfs", "cpio", "tar")


@dataclass(frozen=True)
class Wish:
    """What is asked of a filesystem. `size` is in bytes, None for as small as the content, with `spare` beside it;
    `clock` in seconds since 1970. `inodes`, `reserved_percent` and `full_tables` are for ext4 and ext2, `compression` and
    `level` for what can be compressed."""

    form: str
    uuid: uuids.UUID
    size: int | None = None
    spare: Spare = NO_SPARE
    label: str = ""
    clock: int = 0
    inodes: int | None = None
    reserved_percent: int = 0
    full_tables: bool = False
    compression: str = ""
    level: int | None = None


class Planned(Protocol):
    """A filesystem that can be written, as often as wanted; `size` is in bytes."""

    @property
    def size(self) -> int: ...

    def write(self, target: Target, offset: int) -> None:
        """Writes it `offset` bytes from the target's start."""
        ...


@dataclass(frozen=True)
class _Ext4:
    plan: Ext4Plan
    content: Content

    @property
    def size(self) -> int:
        return self.plan.size

    def write(self, target: Target, offset: int) -> None:
        from yarrik.disk.ext4 import write_ext4

        write_ext4(self.plan, target, offset, self.content)


@dataclass(frozen=True)
class _Fat:
    plan: FatPlan
    content: Content

    @property
    def size(self) -> int:
        return self.plan.size

    def write(self, target: Target, offset: int) -> None:
        from yarrik.disk.fat import write_fat

        write_fat(self.plan, target, offset, self.content)


@dataclass(frozen=True)
class _Swap:
    size: int
    uuid: uuids.UUID
    label: str

    def write(self, target: Target, offset: int) -> None:
        from yarrik.disk.swap import write_swap

        write_swap(target, offset, self.size, self.uuid, self.label)


@dataclass(frozen=True)
class _Ready:
    """Something that lies in a file already, and has room up to `size`."""

    file: Path
    size: int

    def write(self, target: Target, offset: int) -> None:
        with self.file.open("rb") as source:
            target.move(source.fileno(), 0, offset, self.file.stat().st_size)


def serial_of(identifier: uuids.UUID) -> int:
    """The 32 bits that FAT has for an identifier."""
    return int.from_bytes(identifier.bytes[:4], "big")


def plan_filesystem(tree: RootTree, wish: Wish, content: Content, scratch: Path) -> Planned:
    """Plans a filesystem. `content` tells where the file with a digest lies; `scratch` is a file that may be made, and has to
    stay until the filesystem is written. Raises TooSmall, or ValueError with a sentence when the form cannot hold the tree."""
    form = wish.form
    # Only what is asked for is loaded: NumPy and compressions take a while.
    if form in EXTENDED:
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
            form=FORMS[form],
            inodes=wish.inodes,
            reserved_percent=wish.reserved_percent,
            full_tables=wish.full_tables,
        )
        return _Ext4(plan, content)
    if form == "fat":
        from yarrik.disk.fat import plan_fat

        fat = plan_fat(
            tree,
            size=wish.size,
            spare=wish.spare,
            serial=serial_of(wish.uuid),
            label=wish.label,
            clock=wish.clock,
        )
        return _Fat(fat, content)
    if form == "swap":
        from yarrik.disk.swap import LEAST

        return _Swap(wish.size if wish.size is not None else LEAST, wish.uuid, wish.label)
    if form in STREAMED:
        with scratch.open("xb") as sink:
            write_streamed(tree, wish, content, sink)
        return ready_file(scratch, wish)
    raise Unfit(f"`{form}` is no form that is known")


def ready_file(file: Path, wish: Wish) -> Planned:
    """What lies in a file already, as the content of a filesystem's room. Raises TooSmall when it is larger."""
    size = file.stat().st_size
    room = wish.size if wish.size is not None else size + wish.spare.of(size)
    if size > room:
        raise TooSmall(f"the content needs {shown_size(size)}, and the size is {shown_size(room)}")
    return _Ready(file, room)


def write_streamed(tree: RootTree, wish: Wish, content: Content, sink: BinaryIO) -> None:
    """Writes one of the forms that are written from front to back. Raises ValueError like `plan_filesystem`."""
    if wish.form == "squashfs":
        if wish.label:
            raise Unfit("squashfs has no label")
        from yarrik.disk.squashfs import write_squashfs

        write_squashfs(tree, sink, content, wish.clock, wish.compression or "zstd", wish.level)
        return
    if wish.form == "tar":
        from yarrik.disk.tar import write_tar as write
    else:
        from yarrik.disk.archives import write_cpio as write
    if wish.compression:
        from yarrik.disk.compressing import compressed

        with compressed(sink, wish.compression, wish.level) as stream:
            write(tree, stream, content, wish.clock)
    else:
        write(tree, sink, content, wish.clock)


def usual_name(form: str, name: str) -> str:
    """A label made from a partition's name, as far as the form can have it."""
    if form == "fat":
        from yarrik.disk.fat_names import usual_label

        return usual_label(name)
    return name.encode()[:16].decode(errors="ignore") if form in (*EXTENDED, "swap") else ""


def truncated(sink: BinaryIO, size: int) -> Target:
    """An empty file as a target of `size` bytes."""
    os.ftruncate(sink.fileno(), size)
    return Target(sink.fileno())
