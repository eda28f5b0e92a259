"""Makes an update out of two images' slots: what is where it was, what lies elsewhere, and what is new."""

from __future__ import annotations

import hashlib
import itertools
import os
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import BinaryIO

import msgspec
import zstandard
from msgspec.structs import replace

from yarrik.arrays import numpy as np
from yarrik.update.bundle_form import (
    COPY,
    DATA,
    HEAD,
    LONGEST,
    MAGIC,
    ZERO,
    Description,
    Piece,
    digest_of,
    encode_index,
    read_description,
)
from yarrik.update.chunks import Bytes, cut

_BLOCK = 4096
#: A copy between new bytes that is shorter than this would cost more in the index than it spares.
_LEAST_COPY = 512
#: So much of the old slot serves as a dictionary for bytes that are new (bytes).
_REACH = LONGEST
_LEVEL = 12
_LONGEST_ZERO = 1 << 30
#: So much that is new is small enough for the dictionaries to find what of it is in the old slot (bytes).
_LITTLE = 1 << 20
_STEP = 1 << 20
_FACTORS = np.arange(1, _BLOCK // 8 + 1, dtype=np.uint64) * np.uint64(0x9E3779B97F4A7C15) | np.uint64(1)
Kinds = np.ndarray[tuple[int], np.dtype[np.uint8]]
Sums = np.ndarray[tuple[int], np.dtype[np.uint64]]
_Work = tuple[Piece, Future[tuple[bytes, Piece]]]
#: Digests of copies by their begin and end, begun while the rest of the slots is still read.
_Early = dict[tuple[int, int], Future[bytes]]


class Run(msgspec.Struct, frozen=True):
    """A range of the new slot: zeros, bytes of the old one from `old`, or (where `old` is -1) new ones."""

    begin: int
    end: int
    kind: int
    old: int = -1


class Made(msgspec.Struct, frozen=True):
    """What was made: bytes of the bundle, of the new slot, and of each kind of run."""

    description: Description
    bundle: int
    copied: int
    new: int
    zero: int


def make_bundle(
    old: Bytes | None,
    new: Bytes,
    about: Description,
    sign: Callable[[bytes], bytes],
    to: BinaryIO,
    progress: Callable[[int, int], None] = lambda done, whole: None,
) -> Made:
    """Writes the update that makes `new` of `old` (None: of nothing). `about` has product, board, version and `older`; `sign`
    gives the binary signature of a description."""
    made: list[Piece] = []
    body = done = 0
    # What is stored comes behind the index, which is known at the end: a file keeps it meanwhile.
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool, tempfile.TemporaryFile() as stored:
        early: _Early = {}
        runs = list(_runs(old, new, early, pool))
        cuts = list(_pieces(runs, len(old) if old is not None else 0))
        work = ((piece, pool.submit(_store, old, new, piece, early)) for piece in cuts)
        # A bounded number is ahead, so that memory does not grow with the slot.
        for piece, future in _ahead(work, 16):
            data, found = future.result()
            found = replace(found, body=body)
            made.append(found)
            stored.write(data)
            body += len(data)
            done += piece.length
            progress(done, len(new))
        index = encode_index(made)
        description = replace(about, size=len(new), pieces=len(made), index=digest_of(index))
        text = description.text()
        read_description(text)  # what no board would take is not signed
        signature = sign(text)
        head = HEAD.pack(magic=MAGIC, description=len(text), signature=len(signature), index=len(index))
        for part in (bytes(head), text, signature, index):
            to.write(part)
        stored.seek(0)
        shutil.copyfileobj(stored, to, _STEP)
    sums = {kind: sum(one.length for one in made if one.kind == kind) for kind in (ZERO, COPY, DATA)}
    size = len(head) + len(text) + len(signature) + len(index) + body
    return Made(description, size, sums[COPY], sums[DATA], sums[ZERO])


def _ahead(work: Iterable[_Work], count: int) -> Iterator[_Work]:
    rest = iter(work)
    waiting = list(itertools.islice(rest, count))
    while waiting:
        yield waiting.pop(0)
        waiting.extend(itertools.islice(rest, 1))


def _store(old: Bytes | None, new: Bytes, piece: Piece, early: _Early) -> tuple[bytes, Piece]:
    """The stored bytes of a piece, and the piece with its digests; with or without a dictionary, whichever is shorter."""
    if piece.kind == ZERO:
        return b"", piece
    if piece.kind == COPY:
        begun = early.pop((piece.at, piece.at + piece.length), None)
        digest = begun.result() if begun is not None else digest_of(new[piece.at : piece.at + piece.length].data)
        return b"", replace(piece, digest=digest)
    data = new[piece.at : piece.at + piece.length].tobytes()
    # The frame says how long its content is, and has no checksum: the index has digests of both.
    best = zstandard.ZstdCompressor(level=_LEVEL).compress(data)
    reach = 0
    if old is not None and piece.reach:
        words = zstandard.ZstdCompressionDict(
            old[piece.old : piece.old + piece.reach].tobytes(), zstandard.DICT_TYPE_RAWCONTENT
        )
        shorter = zstandard.ZstdCompressor(level=_LEVEL, dict_data=words, write_dict_id=False).compress(data)
        if len(shorter) < len(best):
            best, reach = shorter, piece.reach
    return best, replace(
        piece, old=piece.old if reach else 0, reach=reach, stored=len(best), digest=digest_of(data), of_stored=digest_of(best)
    )


def _pieces(runs: Iterable[Run], old_size: int) -> Iterator[Piece]:
    """Runs cut into pieces of a length that boards take."""
    for run in runs:
        longest = _LONGEST_ZERO if run.kind == ZERO else LONGEST
        if run.kind == DATA:
            longest -= longest // 8  # what does not compress is a little longer as a frame
        for at in range(run.begin, run.end, longest):
            length = min(longest, run.end - at)
            begin, reach = run.old + at - run.begin, length
            if run.kind == DATA:
                begin, reach = _near(begin, length, old_size) if run.old >= 0 else (0, 0)
            yield Piece(
                run.kind, at, length, begin if run.kind != ZERO else 0, reach if run.kind != ZERO else 0, 0, 0, b"", b""
            )


def _near(begin: int, length: int, old_size: int) -> tuple[int, int]:
    """The dictionary of a piece: its place in the old slot, and as much before as behind it."""
    reach = min(_REACH, old_size)
    return max(0, min(begin - (reach - length) // 2, old_size - reach)), reach


def _runs(old: Bytes | None, new: Bytes, early: _Early, pool: ThreadPoolExecutor) -> Iterator[Run]:
    """The whole new slot as runs, in order. New ones have in `old` where bytes like theirs may lie."""

    def digested(runs: Iterable[Run]) -> Iterator[Run]:
        for run in runs:
            for begin in range(run.begin, run.end, LONGEST) if run.kind == COPY else ():
                end = min(begin + LONGEST, run.end)
                if (begin, end) not in early:
                    early[begin, end] = pool.submit(digest_of, new[begin:end].data)
            yield run

    rough = list(digested(_rough(old, new)))
    if old is None:
        yield from rough
        return
    if any(run.kind == DATA for run in rough):
        rough = list(digested(_moved(old, new, rough)))
    if sum(run.end - run.begin for run in rough if run.kind == DATA) > _LITTLE:
        known = _known_chunks(old)
        rough = [part for run in rough for part in (_matched(new, run, known) if run.kind == DATA else [run])]
    yield from _settled(rough, old)


def _rough(old: Bytes | None, new: Bytes) -> Iterator[Run]:
    """By blocks: zeros, what is the same at the same place (in runs no longer than a piece), and the rest."""

    def look(at: int) -> Kinds:
        part = new[at : at + _STEP]
        blocks = _in_blocks(part)
        here = np.full(len(blocks), DATA, np.uint8)
        there = old[at : at + len(part)] if old is not None else part[:0]
        if len(there):
            same = _in_blocks(there)
            whole = len(there) // _BLOCK if len(there) < len(part) else len(same)
            here[:whole][(blocks[:whole] == same[:whole]).all(axis=1)] = COPY
        here[~blocks.any(axis=1)] = ZERO
        return here

    # Reading is most of it, and several read better than one.
    with ThreadPoolExecutor(_readers()) as pool:
        yield from _joined(pool.map(look, range(0, len(new), _STEP)), len(new))


def _joined(parts: Iterable[Kinds], size: int) -> Iterator[Run]:
    """Blocks of a kind as runs, as soon as they are known; copies are of the same place."""
    begin = at = 0
    kind = -1
    for kinds in parts:
        for first, last in itertools.pairwise([0, *(np.flatnonzero(np.diff(kinds)) + 1).tolist(), len(kinds)]):
            if kinds[first] != kind:
                if at > begin:
                    yield Run(begin, at, kind, begin if kind == COPY else -1)
                begin, kind = at, int(kinds[first])
            at = min(at + (last - first) * _BLOCK, size)
            while kind == COPY and at - begin >= LONGEST:
                yield Run(begin, begin + LONGEST, kind, begin)
                begin += LONGEST
    if at > begin:
        yield Run(begin, at, kind, begin if kind == COPY else -1)


def _sums(data: Bytes) -> Sums:
    """A sum over each whole block, in which every word has a factor of its own: blocks with another sum differ."""
    whole = data[: len(data) // _BLOCK * _BLOCK]
    with ThreadPoolExecutor(_readers()) as pool:
        sums = list(
            pool.map(lambda at: np.einsum("ij,j->i", _in_blocks(whole[at : at + _STEP]), _FACTORS), range(0, len(whole), _STEP))
        )
    return np.concatenate(sums) if sums else np.zeros(0, np.uint64)


def _readers() -> int:
    return min(8, 2 * (os.cpu_count() or 1))


def _moved(old: Bytes, new: Bytes, rough: Sequence[Run]) -> Iterator[Run]:
    """Whole blocks that lie elsewhere in the old slot, as filesystems move them."""
    whole = _sums(old)
    own_sums = {run.begin: _sums(new[run.begin : run.end]) for run in rough if run.kind == DATA}
    firsts, numbers = np.unique(whole, return_index=True)
    behind = 0
    for run in rough:
        if run.kind != DATA:
            behind = (run.old + run.end - run.begin) // _BLOCK if run.old >= 0 else len(whole)
            yield run
            continue
        own, at = own_sums[run.begin], run.begin
        places = np.searchsorted(firsts, own)
        places[places == len(firsts)] = 0
        found = np.where(firsts[places] == own, numbers[places], -1) if len(firsts) else np.full(len(own), -1)
        known, number = np.append(np.flatnonzero(found >= 0), len(own)), 0
        while number < len(own):
            # What follows the block before it is taken first, so that copies are long.
            place = behind if behind < len(whole) and whole[behind] == own[number] else int(found[number])
            count = _alike(own[number:], whole[place:]) if place >= 0 else int(known[np.searchsorted(known, number)]) - number
            behind, number = place + count if place >= 0 else len(whole), number + count
            end = run.begin + number * _BLOCK
            # Blocks with the same sum are the same, but for a chance that is as good as none: it is looked at all the same.
            same = place >= 0 and _same(old[place * _BLOCK : behind * _BLOCK], new[at:end])
            yield Run(at, end, COPY, place * _BLOCK) if same else Run(at, end, DATA)
            at = end
        if at < run.end:
            yield Run(at, run.end, DATA)


def _same(these: Bytes, those: Bytes) -> bool:
    """Whether ranges of one length are the same; little memory is needed for it."""
    steps = range(0, len(those), _STEP)
    return all(np.array_equal(_in_blocks(these[at : at + _STEP]), _in_blocks(those[at : at + _STEP])) for at in steps)


def _alike(these: Sums, those: Sums) -> int:
    """How many are the same from the first one on; the least of it is looked at."""
    step, most = 16, min(len(these), len(those))
    at = 0
    while at < most:
        end = min(at + step, most)
        other = np.flatnonzero(these[at:end] != those[at:end])
        if len(other):
            return at + int(other[0])
        at, step = end, 4 * step
    return most


def _in_blocks(data: Bytes) -> np.ndarray[tuple[int, int], np.dtype[np.uint64]]:
    """Bytes as rows of a block each, in words; the last one is filled up with zeros."""
    short = -len(data) % _BLOCK
    whole = np.concatenate([data, np.zeros(short, np.uint8)]) if short else np.ascontiguousarray(data)
    return whole.view(np.uint64).reshape(-1, _BLOCK // 8)


def _known_chunks(old: Bytes) -> dict[bytes, tuple[int, int]]:
    """Begin and length of each chunk of the old slot, by a digest of it; the first one of those that are the same."""
    known: dict[bytes, tuple[int, int]] = {}
    for run in _rough(None, old):
        if run.kind == ZERO:
            continue
        part = old[run.begin : run.end]
        view, last = part.data, 0
        for end in cut(part):
            known.setdefault(hashlib.blake2b(view[last:end], digest_size=16).digest(), (run.begin + last, end - last))
            last = end
    return known


def _matched(new: Bytes, run: Run, known: dict[bytes, tuple[int, int]]) -> Iterator[Run]:
    """What of a run is somewhere in the old slot."""
    part = new[run.begin : run.end]
    view, last = part.data, 0
    for end in cut(part):
        found = known.get(hashlib.blake2b(view[last:end], digest_size=16).digest())
        at = run.begin + last
        yield Run(at, run.begin + end, COPY, found[0]) if found is not None else Run(at, run.begin + end, DATA)
        last = end


def _neighbours(runs: Iterable[Run]) -> list[Run]:
    """Runs of which one goes on where the one before it ends, as one."""
    joined: list[Run] = []
    for run in runs:
        before = joined[-1] if joined else None
        follows = before is not None and (run.kind != COPY or before.old + before.end - before.begin == run.old)
        if before is not None and before.kind == run.kind and follows:
            joined[-1] = replace(before, end=run.end)
        else:
            joined.append(run)
    return joined


def _settled(rough: list[Run], old: Bytes) -> Iterator[Run]:
    """Neighbours joined, copies too short to be worth a piece turned into new bytes, and a place to look for each new run."""
    joined = _neighbours(rough)
    kept: list[Run] = []
    for number, run in enumerate(joined):
        beside = [one.kind for one in joined[max(0, number - 1) : number + 2] if one is not run]
        short = run.kind == COPY and run.end - run.begin < _LEAST_COPY and DATA in beside
        now = replace(run, kind=DATA, old=-1) if short else run
        if kept and kept[-1].kind == DATA == now.kind:
            kept[-1] = replace(kept[-1], end=now.end)
        else:
            kept.append(now)
    last = 0
    for run in kept:
        if run.kind == COPY:
            last = run.old + run.end - run.begin
        # Bytes like new ones most likely follow those that come before them.
        yield replace(run, old=last if last else run.begin) if run.kind == DATA else run
