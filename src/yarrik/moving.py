"""Bytes from file to file, moved by the kernel where it can."""

from __future__ import annotations

import os

_CHUNK = 1 << 20


def move_range(source: int, start: int, target: int, at: int, length: int) -> None:
    """Copies `length` bytes of an open file, from `start`, to another one at `at`. Raises ValueError if there are fewer."""
    while length:
        try:
            done = os.copy_file_range(source, target, length, start, at)
        except OSError:  # not between these two file systems
            done = os.pwrite(target, os.pread(source, min(length, _CHUNK), start), at)
        if done == 0:
            raise ValueError("a file is shorter than it was when it was taken in")
        start, at, length = start + done, at + done, length - done
