"""A stretch of an open file that a reader may look at, and no further."""

from __future__ import annotations

from typing import BinaryIO


class Window:
    """`size` bytes from `offset` of an open file. What lies beyond is answered with `damaged`, an exception of ValueError's
    kind, as is a file that is shorter than was said."""

    def __init__(self, disk: BinaryIO, offset: int, size: int, damaged: type[ValueError]) -> None:
        self._disk, self._offset, self.size, self._damaged = disk, offset, size, damaged

    def read(self, at: int, count: int) -> bytes:
        """Exactly `count` bytes from `at` on. Raises the reader's own error for bytes outside of the window or cut off."""
        if not 0 <= at <= at + count <= self.size:
            raise self._damaged("it is cut off, or names a place that it does not have")
        self._disk.seek(self._offset + at)
        data = self._disk.read(count)
        if len(data) < count:
            raise self._damaged("it is cut off")
        return data
