"""What a compressed file expands to, read from front to back: another thread expands it ahead of who reads."""

from __future__ import annotations

import bz2
import lzma
import queue
import threading
import zlib
from collections.abc import Callable, Iterator
from typing import BinaryIO, Protocol

#: Bytes that are read, and that come out, at a time. Large pieces: each is a time for which the thread that expands and the one
#: that reads do not wait for each other.
PIECE = 4 << 20
#: Pieces that are ahead at most.
_AHEAD = 4


class _Expander(Protocol):
    """One compressed stream, as of lzma and bz2."""

    @property
    def eof(self) -> bool: ...

    @property
    def needs_input(self) -> bool: ...

    @property
    def unused_data(self) -> bytes: ...

    def decompress(self, data: bytes, max_length: int) -> bytes: ...


class _Gzip:
    """zlib's object (RFC 1952, with its check sums) with the methods of the others."""

    def __init__(self) -> None:
        self._object = zlib.decompressobj(wbits=16 + zlib.MAX_WBITS)

    @property
    def eof(self) -> bool:
        return self._object.eof

    @property
    def needs_input(self) -> bool:
        return not self._object.unconsumed_tail and not self._object.eof

    @property
    def unused_data(self) -> bytes:
        return self._object.unused_data

    def decompress(self, data: bytes, max_length: int) -> bytes:
        return self._object.decompress(self._object.unconsumed_tail + data, max_length)


_KINDS: tuple[tuple[bytes, Callable[[], _Expander]], ...] = (
    (b"\x1f\x8b", _Gzip),
    (b"BZh", bz2.BZ2Decompressor),
    (b"\xfd7zXZ\0", lzma.LZMADecompressor),
)
_ZSTD = b"\x28\xb5\x2f\xfd"


def expanded(file: BinaryIO) -> Iterator[bytes]:
    """The bytes of a file in pieces, expanded by what its first bytes name: gzip, bzip2, xz or Zstandard, or as they are.

    Raises EOFError where it ends too early, ValueError, OSError, zlib.error and lzma.LZMAError for what does not read."""
    head = file.read(6)
    file.seek(0)
    if head.startswith(_ZSTD):
        return _by_zstandard(file)
    known = next((kind for kind in _KINDS if head.startswith(kind[0])), None)
    return _plain(file) if known is None else _by(*known, file)


def _plain(file: BinaryIO) -> Iterator[bytes]:
    while data := file.read(PIECE):
        yield data


def _by_zstandard(file: BinaryIO) -> Iterator[bytes]:
    import zstandard

    try:
        with zstandard.ZstdDecompressor().stream_reader(file, read_across_frames=True) as reader:
            while data := reader.read(PIECE):
                yield data
    except zstandard.ZstdError as error:
        raise ValueError(str(error)) from error


def _by(magic: bytes, new: Callable[[], _Expander], file: BinaryIO) -> Iterator[bytes]:
    """One stream after the other, with zeros between them. What follows and does not begin as one is no part of it."""
    one, data = new(), b""
    while True:
        if one.needs_input and not data:
            data = file.read(PIECE)
            if not data:
                raise EOFError("it ends in the middle of a compressed stream")
        piece = one.decompress(data, PIECE)
        data = b""
        if piece:
            yield piece
        if one.eof:
            data = one.unused_data.lstrip(b"\0")
            while len(data) < len(magic) and (more := file.read(PIECE)):
                data = (data + more).lstrip(b"\0")
            if not data.startswith(magic):
                return
            one = new()


class ReadAhead:
    """Pieces as one file that is read from front to back; they are made by another thread. Closed with `close`.

    `most` is what one `read` may ask for: a length that lies must not take all memory. `passed` gets the number of bytes
    that are skipped."""

    def __init__(self, pieces: Iterator[bytes], most: int, passed: Callable[[int], None]) -> None:
        self._most, self._passed = most, passed
        self._queue: queue.Queue[bytes | BaseException | None] = queue.Queue(_AHEAD)
        self._closed = threading.Event()
        self._piece, self._at, self._before, self._ended = b"", 0, 0, False
        self._thread = threading.Thread(target=self._expand, args=(pieces,), name="expand", daemon=True)
        self._thread.start()

    def _expand(self, pieces: Iterator[bytes]) -> None:
        last: BaseException | None = None
        try:
            for piece in pieces:
                if not self._put(piece):
                    return
        except BaseException as error:
            last = error
        self._put(last)

    def _put(self, one: bytes | BaseException | None) -> bool:
        while not self._closed.is_set():
            try:
                self._queue.put(one, timeout=0.2)
                return True
            except queue.Full:
                continue
        return False

    def _next(self) -> bool:
        """Goes on to the next piece; False at the end. Raises what expanding it raised."""
        if self._ended:
            return False
        one = self._queue.get()
        if isinstance(one, bytes):
            self._before += len(self._piece)
            self._piece, self._at = one, 0
            return True
        self._ended = True
        if one is not None:
            raise one
        return False

    def read(self, count: int) -> bytes:
        """Reads `count` bytes; fewer at the end. Raises ValueError for more than `most`."""
        if not 0 <= count <= self._most:
            raise ValueError(f"a header in it takes {count} bytes")
        data = self._piece[self._at : self._at + count]
        self._at += len(data)
        if len(data) == count:
            return data
        parts, missing = [data], count - len(data)
        while missing and self._next():
            part = self._piece[:missing]
            self._at = len(part)
            parts.append(part)
            missing -= len(part)
        return b"".join(parts)

    def tell(self) -> int:
        """The bytes that are read or skipped."""
        return self._before + self._at

    def seek(self, place: int) -> int:
        """Skips to a place further on, or to the end. Raises ValueError for one that lies before."""
        missing = place - self.tell()
        if missing < 0:
            raise ValueError("it leads back")
        while missing:
            step = min(missing, len(self._piece) - self._at)
            if not step:
                if not self._next():
                    break
                continue
            self._passed(step)
            self._at += step
            missing -= step
        return self.tell()

    def close(self) -> None:
        """Ends the thread."""
        self._closed.set()
        while self._thread.is_alive():
            try:
                self._queue.get_nowait()
            except queue.Empty:
                self._thread.join(0.05)
