"""Bytes from file to file, moved by the kernel where it can; and what an image is made of, noted as it is written."""

from __future__ import annotations

import itertools
import os
from collections import deque
from collections.abc import Iterator
from typing import TYPE_CHECKING

from yarrik.errors import Unfit

if TYPE_CHECKING:
    from concurrent.futures import Future, ThreadPoolExecutor
    from pathlib import Path

_CHUNK = 1 << 20
_GATHERED = 1 << 20
#: A file of this size is too short for a hole that would be worth looking for, and for several threads.
SHORT = 1 << 17
#: Writes that may wait for the disk; each is a few megabytes.
WAITING = 3


def move_range(source: int, start: int, target: int, at: int, length: int) -> None:
    """Copies `length` bytes of an open file, from `start`, to another one at `at`. Raises ValueError if there are fewer."""
    while length:
        try:
            done = os.copy_file_range(source, target, length, start, at)
        except OSError:  # not between these two file systems
            done = os.pwrite(target, os.pread(source, min(length, _CHUNK), start), at)
        if done == 0:
            raise Unfit("a source file was truncated during the build")
        start, at, length = start + done, at + done, length - done


def stored_ranges(handle: int, start: int, length: int) -> Iterator[tuple[int, int]]:
    """Start and length of the parts of an open file that are stored; between them lie holes, which read as zeros."""
    at, end = start, start + length
    while at < end:
        try:
            first = os.lseek(handle, at, os.SEEK_DATA)
            after = os.lseek(handle, first, os.SEEK_HOLE)
        except OSError:  # nothing but a hole up to the end
            return
        if first >= end:
            return
        yield first, min(after, end) - first
        at = after


def copy_sparse(source: str | Path, target: str | Path | int) -> None:
    """Copies a file without reading or writing its holes. `target` must not exist, or is the descriptor of a new file, which
    stays open."""
    own = isinstance(target, int)
    with (
        open(source, "rb", buffering=0) as reader,
        open(target, "wb" if own else "xb", buffering=0, closefd=not own) as writer,
    ):
        end = os.fstat(reader.fileno()).st_size
        if end <= SHORT:
            move_range(reader.fileno(), 0, writer.fileno(), 0, end)
            return
        position = 0
        while position < end:
            try:
                start = os.lseek(reader.fileno(), position, os.SEEK_DATA)
            except OSError:
                break  # only a hole is left
            stop = os.lseek(reader.fileno(), start, os.SEEK_HOLE)
            move_range(reader.fileno(), start, writer.fileno(), start, stop - start)
            position = stop
        os.ftruncate(writer.fileno(), end)


class Target:
    """An image file that is being written, full of zeros to begin with.

    `written` tells afterwards which ranges were given bytes, so that nobody has to guess it from the file: those are what
    has to reach a card, and nothing else."""

    def __init__(self, handle: int) -> None:
        self.handle = handle
        self._ranges: list[tuple[int, int]] = []
        self._pool: ThreadPoolExecutor | None = None
        self._waiting: deque[Future[None]] = deque()

    def put(self, at: int, data: bytes | bytearray | memoryview) -> None:
        """Writes bytes at an offset in bytes from the start."""
        self._note(at, len(data))
        _put(self.handle, at, data)

    def put_later(self, at: int, data: bytearray | memoryview) -> None:
        """Writes beside what the caller does next; `finish` waits for all.

        `data` must not change until WAITING more calls have returned, or `finish` has."""
        if self._pool is None:
            from concurrent.futures import ThreadPoolExecutor

            self._pool = ThreadPoolExecutor(1)
        self._note(at, len(data))
        self._waiting.append(self._pool.submit(_put, self.handle, at, data))
        while len(self._waiting) > WAITING:
            self._waiting.popleft().result()

    def zeros(self, at: int, length: int) -> None:
        """Zeros that have to be written, since it matters what lay on the medium before."""
        part = bytes(min(length, _CHUNK))
        for done in range(0, length, _CHUNK):
            self.put(at + done, part[: length - done])

    def move(self, source: int, start: int, at: int, length: int) -> None:
        """Copies a range of an open file; its holes stay holes."""
        size = os.fstat(source).st_size
        if start + length > size:
            raise Unfit("a source file was truncated during the build")
        self._note(at, length)
        for first, count in stored_ranges(source, start, length):
            move_range(source, first, self.handle, at + first - start, count)

    def claim(self, at: int, length: int) -> None:
        """Notes that a range has to reach the medium as it is, holes too."""
        self._note(at, length)

    def finish(self) -> None:
        """Waits for all that `put_later` took. Raises what a write raised."""
        try:
            while self._waiting:
                self._waiting.popleft().result()
        finally:
            if self._pool is not None:
                self._pool.shutdown()
                self._pool = None

    def _note(self, at: int, length: int) -> None:
        if self._ranges and self._ranges[-1][1] == at:
            self._ranges[-1] = (self._ranges[-1][0], at + length)
        elif length:
            self._ranges.append((at, at + length))

    @property
    def written(self) -> tuple[tuple[int, int], ...]:
        """Start and end of each range that was given bytes, in order, none touching another."""
        joined: list[tuple[int, int]] = []
        for start, end in sorted(self._ranges):
            if joined and start <= joined[-1][1]:
                joined[-1] = (joined[-1][0], max(end, joined[-1][1]))
            else:
                joined.append((start, end))
        return tuple(joined)


class Gathering:
    """Small files that lie next to each other in a target: they are read whole and written many at a time, beside the
    reading. `most` is the longest file's length in bytes."""

    def __init__(self, target: Target, most: int) -> None:
        self._target = target
        self._padding = bytes(most)
        # One buffer is filled while the others wait for the disk.
        room = _GATHERED + 2 * most
        self._buffers = itertools.cycle([memoryview(bytearray(room)) for _ in range(WAITING + 2)])
        self._view = next(self._buffers)
        self._first = self._following = self._used = 0

    def add(self, at: int, file: str | Path, size: int, room: int) -> bool:
        """Puts a file's content to `at`, with zeros up to `room`; False when the file is shorter than `size`."""
        if at != self._following or self._used > _GATHERED:
            self.flush()
            self._first = at
        used, view = self._used, self._view
        handle = os.open(file, os.O_RDONLY)
        try:
            if os.readv(handle, (view[used : used + size],)) != size:
                return False
        finally:
            os.close(handle)
        if room > size:
            view[used + size : used + room] = self._padding[: room - size]
        self._used = used + room
        self._following = at + room
        return True

    def flush(self) -> None:
        """Writes what is gathered."""
        if self._used:
            self._target.put_later(self._first, self._view[: self._used])
            self._view = next(self._buffers)
            self._used = 0


def _put(handle: int, at: int, data: bytes | bytearray | memoryview) -> None:
    view = memoryview(data)
    while view:
        done = os.pwrite(handle, view, at)
        view, at = view[done:], at + done
