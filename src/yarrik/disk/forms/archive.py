"""cpio and tar."""

from __future__ import annotations

from collections.abc import Callable
from typing import BinaryIO

from yarrik.disk.form import Content, FilesystemForm, Wish
from yarrik.disk.found import Reader
from yarrik.rootfs import RootTree

_Write = Callable[[RootTree, BinaryIO, Content, int], None]


def _compressed(write: _Write, tree: RootTree, wish: Wish, content: Content, sink: BinaryIO) -> None:
    if not wish.compression:
        write(tree, sink, content, wish.clock)
        return
    from yarrik.disk.compressing import compressed

    with compressed(sink, wish.compression, wish.level) as stream:
        write(tree, stream, content, wish.clock)


def _cpio(tree: RootTree, wish: Wish, content: Content, sink: BinaryIO) -> None:
    from yarrik.disk.archives import write_cpio

    _compressed(write_cpio, tree, wish, content, sink)


def _tar(tree: RootTree, wish: Wish, content: Content, sink: BinaryIO) -> None:
    from yarrik.disk.tar import write_tar

    _compressed(write_tar, tree, wish, content, sink)


def _cpio_reader(file: BinaryIO, start: int, size: int) -> Reader:
    from yarrik.disk.archives import CpioReader

    return CpioReader(file, start, size)


def _tar_reader(file: BinaryIO, start: int, size: int) -> Reader:
    from yarrik.disk.tar import TarReader

    return TarReader(file, start, size)


CPIO = FilesystemForm("cpio", lambda head: head[:6] in (b"070701", b"070702"), _cpio_reader, stream=_cpio, has_room=False)
TAR = FilesystemForm("tar", lambda head: head[257:262] == b"ustar", _tar_reader, stream=_tar, has_room=False)
