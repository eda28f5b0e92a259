"""What readers of filesystems and archives find: one form for all of them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

import msgspec
from msgspec.structs import replace


class Found(msgspec.Struct, frozen=True):
    """One path, from the top. `modified` is in seconds since 1970; `links` counts hard links; `handle` is the reader's own."""

    path: str
    kind: str
    mode: int
    uid: int
    gid: int
    size: int
    modified: int
    target: str = ""
    device: tuple[int, int] = (0, 0)
    links: int = 1
    handle: int = 0

    def changed(self, **changes: object) -> Found:
        """The same with other values."""
        return replace(self, **changes)


class Reader(Protocol):
    """A filesystem that can be listed and read. Both raise ValueError with a sentence for what is damaged."""

    #: The filesystem's name, and its identifier as `UUID=` has it; empty for forms that have none.
    label: str
    uuid: str

    @property
    def form(self) -> str:
        """What it is, like `ext4` or `FAT16`."""
        ...

    def walk(self) -> Iterator[Found]:
        """All paths, each folder before what it holds."""
        ...

    def content(self, found: Found) -> Iterator[bytes]:
        """A file's bytes, in parts."""
        ...

    def attributes(self, found: Found) -> dict[str, bytes]:
        """A path's extended attributes by the names that the kernel shows; empty for forms that have none."""
        ...
