"""Compressed files: one stream for archives, and for whole images many parts that follow each other, which are compressed
in parallel and are the same for any number of threads. All three forms allow parts in a row."""

from __future__ import annotations

import contextlib
import gzip
import lzma
import os
import tempfile
import zlib
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import BinaryIO, cast

import zstandard

from yarrik.disk.levels import check_level
from yarrik.errors import Damaged, Unfit

FORMS = ("zstd", "gzip", "xz")
_MARKS = {b"\x28\xb5\x2f\xfd": "zstd", b"\x1f\x8b": "gzip", b"\xfd7zXZ\0": "xz"}
_PART = 8 << 20
_STEP = 1 << 20
_SMALL_STEP = 1024
_WINDOW = 1 << 27
_MOST_MEMORY = 1 << 28
#: What a compressed image may become: enough for any card, and an end for those that are made to have none.
MOST_EXPANDED = 1 << 38


class CompressionDamaged(Damaged):
    """A compressed file that cannot be read to its end; the message says why."""


def _one(form: str, level: int | None) -> Callable[[bytes], bytes]:
    if form == "zstd":
        return lambda data: zstandard.ZstdCompressor(level=9 if level is None else level).compress(data)
    if form == "gzip":
        return lambda data: gzip.compress(data, 9 if level is None else level, mtime=0)
    if form == "xz":
        return lambda data: lzma.compress(data, check=lzma.CHECK_CRC32, preset=6 if level is None else level)
    raise Unfit(f"`{form}` is not a compression that is known: {', '.join(FORMS)}")


def compress_parts(source: BinaryIO, sink: BinaryIO, form: str, level: int | None = None, threads: int | None = None) -> None:
    """Compresses all of `source` into `sink`, part by part. Raises ValueError for a form that is not known."""
    check_level(form, level)
    compress = _one(form, level)
    workers = threads or os.cpu_count() or 1
    waiting: deque[Future[bytes]] = deque()
    with ThreadPoolExecutor(workers) as pool:
        while part := source.read(_PART):
            waiting.append(pool.submit(compress, part))
            if len(waiting) > workers:
                sink.write(waiting.popleft().result())
        while waiting:
            sink.write(waiting.popleft().result())


@contextlib.contextmanager
def compressed(sink: BinaryIO, form: str, level: int | None = None) -> Iterator[BinaryIO]:
    """A stream that is compressed into `sink` as one part, as a kernel takes it for an initramfs.

    Raises ValueError for a form or level that is not known."""
    check_level(form, level)
    if form == "zstd":
        with zstandard.ZstdCompressor(level=9 if level is None else level).stream_writer(sink, closefd=False) as stream:
            yield cast(BinaryIO, stream)
    elif form == "gzip":
        with gzip.GzipFile("", "wb", 9 if level is None else level, sink, mtime=0) as file:
            yield cast(BinaryIO, file)
    elif form == "xz":
        # The kernel knows this checksum and not the stronger one.
        with lzma.LZMAFile(sink, "wb", check=lzma.CHECK_CRC32, preset=6 if level is None else level) as packed:
            yield cast(BinaryIO, packed)
    else:
        raise Unfit(f"`{form}` is not a compression that is known: {', '.join(FORMS)}")


def compression_of(head: bytes) -> str | None:
    """What a file is compressed with, by its first bytes."""
    return next((form for mark, form in _MARKS.items() if head.startswith(mark)), None)


def _zstd_parts(source: BinaryIO) -> Iterator[bytes]:
    # A thousand bytes become 32 MiB at the most, so that small steps keep memory small.
    data = source.read(_SMALL_STEP)
    while data:
        stream = zstandard.ZstdDecompressor(max_window_size=_WINDOW).decompressobj()
        while not stream.eof:
            if not data:
                raise EOFError("it ends too soon")
            yield stream.decompress(data)
            data = b"" if stream.eof else source.read(_SMALL_STEP)
        data = stream.unused_data or source.read(_SMALL_STEP)


def _gzip_parts(source: BinaryIO) -> Iterator[bytes]:
    stream = gzip.GzipFile("", "rb", fileobj=source)
    while part := stream.read(_STEP):
        yield part


def _xz_parts(source: BinaryIO) -> Iterator[bytes]:
    data = source.read(_STEP)
    while data:
        stream = lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=_MOST_MEMORY)
        while not stream.eof:
            yield stream.decompress(data, _STEP)
            data = b"" if not stream.needs_input or stream.eof else source.read(_STEP)
            if stream.needs_input and not data and not stream.eof:
                raise EOFError("it ends too soon")
        data = (stream.unused_data or source.read(_STEP)).lstrip(b"\0")


_PARTS = {"zstd": _zstd_parts, "gzip": _gzip_parts, "xz": _xz_parts}


def expanded(source: BinaryIO, form: str) -> BinaryIO:
    """All of a compressed file in a file without a name, zeros as holes. Raises CompressionDamaged, or
    OSError when there is no room for it."""
    source.seek(0)
    found = cast(BinaryIO, tempfile.TemporaryFile())  # noqa: SIM115 (the caller closes it)
    size = 0
    try:
        for part in _PARTS[form](source):
            if part.count(0) != len(part):
                found.seek(size)
                found.write(part)
            size += len(part)
            if size > MOST_EXPANDED:
                raise CompressionDamaged("it expands to more than any card can hold")
        found.truncate(size)
    except (EOFError, gzip.BadGzipFile, zlib.error, lzma.LZMAError, zstandard.ZstdError, MemoryError) as error:
        found.close()
        raise CompressionDamaged(f"the compressed data is broken ({error})") from error
    except BaseException:  # a full disk, say
        found.close()
        raise
    return found
