"""squashfs."""

from __future__ import annotations

from typing import BinaryIO

from yarrik.disk.form import Content, FilesystemForm, Wish
from yarrik.disk.found import Reader
from yarrik.errors import Unfit
from yarrik.rootfs import RootTree


def _stream(tree: RootTree, wish: Wish, content: Content, sink: BinaryIO) -> None:
    if wish.label:
        raise Unfit("squashfs has no label")
    from yarrik.disk.squashfs import write_squashfs

    write_squashfs(tree, sink, content, wish.clock, wish.compression or "zstd", wish.level)


def _reader(file: BinaryIO, start: int, size: int) -> Reader:
    from yarrik.disk.squashfs_read import SquashfsReader

    return SquashfsReader(file, start, size)


FORM = FilesystemForm(
    "squashfs", lambda head: head[:4] == b"hsqs", _reader, stream=_stream, kernel_options=("SQUASHFS",), read_only=True
)
