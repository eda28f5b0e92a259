"""What a form of filesystem or archive is: its planner or writer, its reader, how it is known, what it cannot hold."""

from __future__ import annotations

import uuid as uuids
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO, Protocol

import msgspec

from yarrik.disk.found import Reader
from yarrik.moving import Target
from yarrik.rootfs import RootTree
from yarrik.units import NO_SPARE, Spare, TooSmall, shown_size

Content = Callable[[str], str | Path]


class Wish(msgspec.Struct, frozen=True):
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
    def size(self) -> int:
        """Bytes of the filesystem."""
        ...

    def write(self, target: Target, offset: int) -> None:
        """Writes it `offset` bytes from the target's start."""
        ...


class FilesystemForm(msgspec.Struct, frozen=True):
    """One form. A new one is an object of this type in a module of its own, and a line in the table `FORMS`.

    It has a `plan` (of a tree, with what tells where contents are; its size is known then), or a `stream` that writes it from
    front to back, so that its size is known at the end; both raise Unfit for what it cannot hold, and TooSmall. Costly modules
    are imported inside of these."""

    name: str
    #: Whether bytes begin as this form does; it gets the first 4,096 of them.
    begins: Callable[[bytes], bool]
    #: Opens a reader for `size` bytes from `start` of a file. Raises Damaged.
    reader: Callable[[BinaryIO, int, int], Reader]
    plan: Callable[[RootTree, Wish, Content], Planned] | None = None
    stream: Callable[[RootTree, Wish, Content, BinaryIO], None] | None = None
    #: A label made from a partition's name, as far as the form can have it.
    label: Callable[[str], str] = lambda name: ""
    #: Options of which the kernel needs one built in to mount it as root.
    kernel_options: tuple[str, ...] = ()
    #: Whether it can be mounted for reading only.
    read_only: bool = False
    #: Whether it may be larger than its content: archives may not.
    has_room: bool = True
    #: What a partition of it is for, in the words of partition types.
    role: str = "linux"
    #: Whether `yarrik pack` writes it from a folder.
    packs: bool = True


class Ready(msgspec.Struct, frozen=True):
    """Something that lies in a file already, and has room up to `size`."""

    file: Path
    size: int

    def write(self, target: Target, offset: int) -> None:
        """Writes the filesystem at `offset` bytes of the target. Raises OSError."""
        with self.file.open("rb") as source:
            target.move(source.fileno(), 0, offset, self.file.stat().st_size)


def ready_file(file: Path, wish: Wish) -> Planned:
    """What lies in a file already, as the content of a filesystem's room. Raises TooSmall when it is larger."""
    size = file.stat().st_size
    room = wish.size if wish.size is not None else size + wish.spare.of(size)
    if size > room:
        raise TooSmall(f"the content needs {shown_size(size)}, and the size is {shown_size(room)}")
    return Ready(file, room)
