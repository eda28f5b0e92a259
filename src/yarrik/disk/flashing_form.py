"""The sparse image that bootloaders' flashing protocols take: a header, then chunks of blocks that are data, a repeated
word, or skipped (fields as in the public `sparse_format.h`; all numbers little-endian)."""

from __future__ import annotations

import os
import struct
import tempfile
from collections.abc import Sequence
from typing import BinaryIO, cast

from yarrik.binary import Record, number
from yarrik.disk.window import Window
from yarrik.errors import Damaged, Unfit
from yarrik.moving import Target

BLOCK = 4096
MAGIC = 0xED26FF3A
RAW, FILL, SKIP, CHECKSUM = 0xCAC1, 0xCAC2, 0xCAC3, 0xCAC4
HEADER = Record(
    28,
    ("magic", 0, "I"),
    ("major", 4, "H"),
    ("minor", 6, "H"),
    ("header_size", 8, "H"),
    ("chunk_size", 10, "H"),
    ("block", 12, "I"),
    ("blocks", 16, "I"),
    ("chunks", 20, "I"),
    ("checksum", 24, "I"),
)
CHUNK = Record(12, ("type", 0, "H"), ("blocks", 4, "I"), ("size", 8, "I"))
_MOST_IN_CHUNK = (64 << 20) // BLOCK
_PART = 1 << 20


class SparseDamaged(Damaged):
    """The bytes are no valid sparse image; the message says why."""


def write_sparse(image: BinaryIO, size: int, written: Sequence[tuple[int, int]], sink: BinaryIO) -> None:
    """Writes the sparse form of an image of `size` bytes, of which the ranges `written` (start, end) have to be stored.

    Raises ValueError when the image is not a multiple of 4096 bytes."""
    if size % BLOCK:
        raise Unfit(f"an image of {size} bytes cannot be sparse: it is not a multiple of {BLOCK}")
    chunks = _chunks(size, written)
    sink.write(
        HEADER.pack(
            magic=MAGIC,
            major=1,
            header_size=HEADER.size,
            chunk_size=CHUNK.size,
            block=BLOCK,
            blocks=size // BLOCK,
            chunks=len(chunks),
        )
    )
    for type_, first, count in chunks:
        length = count * BLOCK if type_ == RAW else 0
        sink.write(CHUNK.pack(type=type_, blocks=count, size=CHUNK.size + length))
        image.seek(first * BLOCK)
        while length:
            part = image.read(min(_PART, length))
            if not part:
                raise Unfit("the image is shorter than it should be")
            sink.write(part)
            length -= len(part)


def sparse_piece(size: int, ranges: Sequence[tuple[int, bytes | int]], block: int) -> bytes:
    """A sparse image of storage of `size` bytes that writes some ranges, sorted by where they begin, and skips all else: each
    is bytes, or a length of zeros. Beginnings are multiples of `block` bytes; the last block of a range is filled up with
    zeros. Raises Unfit for ranges that are not so."""
    chunks: list[bytes] = []
    at = 0

    def add(kind: int, blocks: int, data: bytes) -> None:
        chunks.append(bytes(CHUNK.pack(type=kind, blocks=blocks, size=CHUNK.size + len(data))) + data)

    for begin, what in ranges:
        if begin % block or begin // block < at:
            raise Unfit("the ranges of a sparse image are whole blocks, one after the other")
        if begin // block > at:
            add(SKIP, begin // block - at, b"")
        length = what if isinstance(what, int) else len(what)
        count = -(-length // block)
        if isinstance(what, int):
            add(FILL, count, bytes(4))
        else:
            add(RAW, count, what.ljust(count * block, b"\0"))
        at = begin // block + count
    blocks = max(at, -(-size // block))
    if at < blocks:
        add(SKIP, blocks - at, b"")
    header = HEADER.pack(magic=MAGIC, major=1, header_size=HEADER.size, chunk_size=CHUNK.size, block=block, blocks=blocks,
                         chunks=len(chunks))  # fmt: skip
    return b"".join([header, *chunks])


def _chunks(size: int, written: Sequence[tuple[int, int]]) -> list[tuple[int, int, int]]:
    """Kinds of chunks with first block and count, over the whole image."""
    chunks: list[tuple[int, int, int]] = []
    at = 0
    for start, end in written:
        first, last = max(at, start // BLOCK), min(-(-end // BLOCK), size // BLOCK)
        if first > at:
            chunks.append((SKIP, at, first - at))
        for part in range(first, last, _MOST_IN_CHUNK):
            chunks.append((RAW, part, min(_MOST_IN_CHUNK, last - part)))
        at = max(at, last)
    if at < size // BLOCK:
        chunks.append((SKIP, at, size // BLOCK - at))
    return chunks


def expand_sparse(source: BinaryIO, size: int) -> BinaryIO:
    """The whole image in a file without a name; what is skipped stays holes. Raises SparseDamaged."""
    read = Window(source, 0, size, SparseDamaged).read
    header = HEADER.unpack(read(0, HEADER.size))
    block, blocks = number(header, "block"), number(header, "blocks")
    at, step = number(header, "header_size"), number(header, "chunk_size")
    if header["major"] != 1 or at < HEADER.size or step < CHUNK.size or not 512 <= block <= 1 << 20 or block % 4:
        raise SparseDamaged("its header gives impossible sizes")
    if number(header, "chunks") > size // CHUNK.size or blocks * block > 1 << 44:
        raise SparseDamaged("it is cut off")
    found = cast(BinaryIO, tempfile.TemporaryFile())  # noqa: SIM115 (the caller closes it)
    try:
        target, done = Target(found.fileno()), 0
        for _ in range(number(header, "chunks")):
            chunk = CHUNK.unpack(read(at, CHUNK.size))
            count, body = number(chunk, "blocks"), number(chunk, "size") - step
            if done + count > blocks and chunk["type"] != CHECKSUM:
                raise SparseDamaged("its chunks hold more than its header says")
            start, place = at + step, done * block
            if chunk["type"] == RAW:
                if body != count * block:
                    raise SparseDamaged("a chunk has an impossible length")
                for part in range(0, body, _PART):
                    target.put(place + part, read(start + part, min(_PART, body - part)))
            elif chunk["type"] == FILL:
                word = read(start, 4)
                if word != bytes(4):
                    _fill(target, place, count * block, word)
            elif chunk["type"] not in (SKIP, CHECKSUM):
                raise SparseDamaged(f"a chunk is of no kind that is known ({number(chunk, 'type')})")
            if body < 0:
                raise SparseDamaged("a chunk has an impossible length")
            at += step + body
            done += count if chunk["type"] != CHECKSUM else 0
        if done != blocks:
            raise SparseDamaged("its chunks hold less than its header says")
        os.ftruncate(found.fileno(), blocks * block)
    except BaseException:
        found.close()
        raise
    return found


def _fill(target: Target, at: int, length: int, word: bytes) -> None:
    if length > 1 << 30:
        raise SparseDamaged("a chunk repeats a word over more than 1 GiB")
    part = word * (min(length, _PART) // 4)
    for done in range(0, length, len(part)):
        target.put(at + done, part[: length - done])


def is_sparse(head: bytes) -> bool:
    """Whether a file's first bytes are those of a sparse image."""
    return head[:4] == struct.pack("<I", MAGIC)
