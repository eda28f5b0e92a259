"""Swap areas."""

from __future__ import annotations

import uuid as uuids
from typing import BinaryIO

import msgspec

from yarrik.disk.form import Content, FilesystemForm, Planned, Wish
from yarrik.disk.found import Reader
from yarrik.moving import Target
from yarrik.rootfs import RootTree


class _Planned(msgspec.Struct, frozen=True):
    size: int
    uuid: uuids.UUID
    label: str

    def write(self, target: Target, offset: int) -> None:
        from yarrik.disk.swap import write_swap

        write_swap(target, offset, self.size, self.uuid, self.label)


def _plan(tree: RootTree, wish: Wish, content: Content) -> Planned:
    from yarrik.disk.swap import LEAST

    return _Planned(wish.size if wish.size is not None else LEAST, wish.uuid, wish.label)


def _reader(file: BinaryIO, start: int, size: int) -> Reader:
    from yarrik.disk.swap import SwapReader

    return SwapReader(file, start, size)


def _label(name: str) -> str:
    return name.encode()[:16].decode(errors="ignore")


FORM = FilesystemForm("swap", lambda head: head[4086:4096] == b"SWAPSPACE2", _reader, _plan, label=_label, packs=False)
