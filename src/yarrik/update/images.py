"""Slots in image files: what an update is made of, and a board's disk that is simulated by one."""

from __future__ import annotations

import mmap
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

import msgspec

from yarrik.arrays import numpy as np
from yarrik.beneath import regular_file
from yarrik.boot import SLOTS_FILE, Slots, read_slots
from yarrik.disk import OpenedImage, opened_bytes
from yarrik.errors import Damaged, Unfit
from yarrik.update.applying import Disk
from yarrik.update.chunks import Bytes

_LARGEST = 64 << 10
_READ = 1 << 20


class FileMedium:
    """A file that stands for a board's disk, at a descriptor that is the caller's."""

    def __init__(self, handle: int) -> None:
        self._handle = handle

    def read(self, at: int, length: int) -> bytes:
        data = os.pread(self._handle, length, at)
        if len(data) != length:
            raise Damaged("the disk ends before its partition does")
        return data

    def write(self, at: int, data: bytes) -> None:
        view = memoryview(data)
        while view:
            done = os.pwrite(self._handle, view, at)
            at, view = at + done, view[done:]

    def settle(self) -> None:
        os.fsync(self._handle)


def slots_of(image: OpenedImage, slot: str = "") -> Slots:
    """What the system in a slot says of the board's slots; without a name the first system that says anything.

    Raises Unfit for an image without slots, Damaged for one whose description cannot be."""
    by_number = {part.number: part for part in image.partitions}
    problem: Damaged | None = None
    for part in image.partitions:
        if part.reader is None:
            continue
        try:
            found = next((one for one in part.reader.walk() if one.path == SLOTS_FILE and one.kind == "file"), None)
            if found is None or found.size > _LARGEST:
                continue
            slots = read_slots(b"".join(part.reader.content(found)).decode("utf-8", "replace"))
        except Damaged as error:
            problem = problem or error  # a slot that is written by half: another one may be whole
            continue
        if not {slots.state, *(one.number for one in slots.places)} <= by_number.keys():
            raise Damaged(f"{SLOTS_FILE} of the {part.title} names partitions that are not there")
        if not slot or any(one.name == slot and one.number == part.number for one in slots.places):
            return slots
    if problem is not None:
        raise problem
    raise Unfit("no slot in it has a system that says what slots there are" if not slot else f"the slot `{slot}` has no system")


def disk_of(medium: FileMedium, image: OpenedImage) -> Disk:
    """The disk of a board that an image file stands for, as the slot that works describes it. Raises Unfit, Damaged."""
    parts = {part.number: part for part in image.partitions}

    def disk(slots: Slots) -> Disk:
        places = {one.name: (parts[one.number].start, parts[one.number].size) for one in slots.places}
        versions = {one.name: _version(image, one.name) for one in slots.places}
        return Disk(medium, slots, places, parts[slots.state].start, versions)

    first = disk(slots_of(image))
    return disk(slots_of(image, first.running))


def product_of(path: Path) -> tuple[str, str, str]:
    """Product, board and version of an image: as a slot in it says, or as its manifest beside it. Raises OSError, Damaged,
    Unfit."""
    with opened_bytes(path) as (_, image):
        try:
            slots = slots_of(image)
        except Unfit:
            pass
        else:
            return slots.product, slots.board, slots.version
    try:
        about = msgspec.json.decode(regular_file(path.parent / "packages.json"), type=_About)
    except (OSError, msgspec.DecodeError) as error:
        raise Unfit(f"neither a slot in {path.name} nor a packages.json beside it says which product it is") from error
    return about.product, about.board, about.version or "0"


class _About(msgspec.Struct):
    product: str
    board: str
    version: str = ""


def _version(image: OpenedImage, slot: str) -> str:
    try:
        return slots_of(image, slot).version
    except (Damaged, Unfit):
        return ""


@contextmanager
def slot_bytes(path: Path) -> Iterator[tuple[Slots, Bytes]]:
    """The slots of an image file (compressed or not), and the bytes of its first one, which a product's build has filled.

    Raises OSError, Damaged, Unfit."""
    with opened_bytes(path) as (file, image):
        slots = slots_of(image)
        part = next(part for part in image.partitions if part.number == slots.places[0].number)
        slots_of(image, slots.places[0].name)
        if part.start + part.size > image.size:
            raise Damaged("the image ends before its first slot does")
        yield slots, mapped_bytes(file, part.start, part.size)


def mapped_bytes(file: BinaryIO, start: int, size: int) -> Bytes:
    """A part of a file as an array, which a thread begins to read at once: it is there sooner than by page faults."""
    before = start % mmap.ALLOCATIONGRANULARITY
    view = mmap.mmap(file.fileno(), before + size, prot=mmap.PROT_READ, offset=start - before)
    threading.Thread(target=_read_ahead, args=(os.dup(file.fileno()), start, start + size), daemon=True).start()
    return np.frombuffer(view, np.uint8, size, before)


def _read_ahead(handle: int, start: int, end: int) -> None:
    room = bytearray(_READ)
    try:
        while start < end and (got := os.preadv(handle, [room], start)):
            start += got
    except OSError:
        pass  # who uses the bytes meets it as well
    finally:
        os.close(handle)
