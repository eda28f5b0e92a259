"""Writes an image to a device and reads it back: only what has to reach it, in the open as little as possible, the partition
table last, so that a card that was pulled midway never looks finished."""

from __future__ import annotations

import contextlib
import errno
import mmap
import queue
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Literal

import msgspec

from yarrik.errors import Trouble, YarrikError
from yarrik.flash.source import PART, Part, Reader, Source, digest_of
from yarrik.flash.target import Target
from yarrik.units import counted, shown_size

Stage = Literal["clearing", "writing", "reading back"]
#: Parts that wait for the device at one time.
WAITING = 4
#: After this many written bytes, they are made to reach the device, and remembered.
_SETTLED = 64 << 20
_MOST_DIFFERENCES = 1000


class Progress(msgspec.Struct, frozen=True):
    """How far a device has come: bytes of a stage."""

    stage: Stage
    done: int
    total: int


class Job(msgspec.Struct):
    """One device that an image is written to. `begin` is how many parts an earlier attempt has written; `say` gets the
    progress, `settled` how many parts have reached the device; `stop` ends it early."""

    source: Source
    target: Target
    begin: int = 0
    say: Callable[[Progress], None] = lambda progress: None
    settled: Callable[[int], None] = lambda parts: None
    stop: threading.Event = msgspec.field(default_factory=threading.Event)


class Written(msgspec.Struct, frozen=True):
    """What was done: bytes written and, where the device can be read, read back; and the seconds of either."""

    bytes: int
    write_seconds: float
    read_seconds: float
    table_read_again: bool
    read_back: bool = True


class Stopped(Exception):
    """Somebody asked to stop."""


def flash(job: Job) -> Written:
    """Writes, waits until all has reached the device, reads it back and compares. Raises YarrikError, and Stopped."""
    parts = _in_order(job.source)
    while True:
        started = time.monotonic()
        with _told_of(job):
            if job.target.in_order:
                written = _stream(job)
            else:
                if not job.begin:
                    _clear(job)
                written = _write(job, parts)
            job.target.settle()
        between = time.monotonic()
        if not job.target.reads:
            return Written(written, between - started, 0.0, True, read_back=False)
        with _told_of(job):
            different = _compare(job, parts)
        if not different:
            break
        if not job.begin:
            raise _differs(job, different, len(parts))
        # Somebody else wrote to it since the earlier attempt: all of it once more.
        job.begin = 0
    table = job.source.only is not None or job.target.read_table_again()
    return Written(written, between - started, time.monotonic() - between, table)


def _in_order(source: Source) -> list[Part]:
    """As they are written: the beginning comes last, since the partition table, or what names a filesystem, is there."""
    first = [one for one in source.parts if one.at == source.begin]
    return [one for one in source.parts if one.at != source.begin] + first


def _clear(job: Job) -> None:
    """Makes what lies between the parts empty, and first of all the beginning: of a whole device also its end, where an old
    partition table may be."""
    target, size = job.target, job.target.device.size

    def whole(at: int) -> int:
        """The end of the block that holds what is before `at`: an image may end within one."""
        return min(size, -(-at // target.device.block) * target.device.block)

    if job.source.only is None and target.device.has_table:
        ends = 34 * 512
        tail = max(job.source.size, size - ends) // target.device.block * target.device.block
        if tail < size:
            target.zero(tail, size - tail)
    target.zero(job.source.begin, whole(min(job.source.end, job.source.begin + (1 << 20))) - job.source.begin)
    gaps = list(job.source.gaps())
    total, done = sum(length for _, length in gaps), 0
    for at, length in gaps:
        _check_stop(job)
        for start in range(at, at + length, 256 << 20):
            step = min(256 << 20, whole(at + length) - start)
            (target.zero if job.source.must_be_empty else target.discard)(start, step)
            done += step
            job.say(Progress("clearing", done, total))
            _check_stop(job)


def _write(job: Job, parts: Sequence[Part]) -> int:
    """One thread reads ahead, this one writes; returns the bytes written."""
    rooms: queue.Queue[memoryview] = queue.Queue()
    for _ in range(WAITING):
        rooms.put(memoryview(mmap.mmap(-1, PART)))
    ready: queue.Queue[tuple[Part, memoryview] | BaseException | None] = queue.Queue()
    reader, ended = Reader(job.source), threading.Event()

    def read_ahead() -> None:
        try:
            for part in parts[job.begin :]:
                room = rooms.get()
                if ended.is_set():
                    return
                reader.fill(part, room[: part.length])
                ready.put((part, room))
            ready.put(None)
        except BaseException as error:
            ready.put(error)

    total = sum(one.length for one in parts)
    done = sum(one.length for one in parts[: job.begin])
    written, unsettled, count = 0, 0, job.begin
    thread = threading.Thread(target=read_ahead, daemon=True)
    thread.start()
    try:
        while (item := ready.get()) is not None:
            if isinstance(item, BaseException):
                raise item
            part, room = item
            _check_stop(job)
            padded = -(-part.length // job.target.device.block) * job.target.device.block
            if padded != part.length:
                # A device writes whole blocks; what follows the image's end there is empty.
                room[part.length : padded] = bytes(padded - part.length)
            length = min(padded, job.target.device.size - part.at)
            job.target.write(part.at, room[:length])
            rooms.put(room)
            done, written, unsettled, count = done + part.length, written + part.length, unsettled + part.length, count + 1
            job.say(Progress("writing", done, total))
            if unsettled >= _SETTLED:
                job.target.settle()
                job.settled(count)
                unsettled = 0
    except Stopped:
        job.target.settle()
        job.settled(count)
        raise
    finally:
        ended.set()
        rooms.put(memoryview(b""))
        thread.join()
    return written


def _stream(job: Job) -> int:
    """Writes all from the beginning to the end, with zeros between the parts; returns the bytes written."""
    reader, done, total = Reader(job.source), 0, job.source.end - job.source.begin
    room = memoryview(bytearray(PART))
    ranges: list[tuple[int, int, Part | None]] = [(one.at, one.length, one) for one in job.source.parts]
    ranges += [(at, length, None) for at, length in job.source.gaps()]
    for at, length, part in sorted(ranges, key=lambda one: one[0]):
        _check_stop(job)
        if part is None:
            job.target.zero(at, length)
        else:
            reader.fill(part, room[:length])
            job.target.write(at, room[:length])
        done += length
        job.say(Progress("writing", done, total))
    return done


def _compare(job: Job, parts: Sequence[Part]) -> list[Part]:
    """The parts that read back otherwise than they were written."""
    done = 0
    rooms: queue.Queue[memoryview] = queue.Queue()
    for _ in range(2):
        rooms.put(memoryview(mmap.mmap(-1, PART)))

    def same(part: Part) -> bool:
        room = rooms.get()
        try:
            _check_stop(job)
            block = job.target.device.block
            length = min(-(-part.length // block) * block, job.target.device.size - part.at)
            job.target.read_into(part.at, room[:length])
            return digest_of(room[: part.length]) == part.digest
        finally:
            rooms.put(room)

    different: list[Part] = []
    ordered = sorted([*parts, *_empty_parts(job.source)], key=lambda one: one.at)
    total = sum(one.length for one in ordered)
    with ThreadPoolExecutor(1 if job.target.in_order else 2) as pool:
        for part, good in zip(ordered, pool.map(same, ordered), strict=True):
            done += part.length
            job.say(Progress("reading back", done, total))
            if not good and len(different) < _MOST_DIFFERENCES:
                different.append(part)
    return different


def _empty_parts(source: Source) -> Iterator[Part]:
    """What has to read as zeros, where the image needs that."""
    known: dict[int, bytes] = {}
    for at, length in source.gaps() if source.must_be_empty else ():
        for start in range(at, at + length, PART):
            step = min(PART, at + length - start)
            if step not in known:
                known[step] = digest_of(bytes(step))
            yield Part(start, step, known[step])


def _check_stop(job: Job) -> None:
    if job.stop.is_set():
        raise Stopped


@contextlib.contextmanager
def _told_of(job: Job) -> Iterator[None]:
    """Turns what the system says of a device into a trouble of it."""
    device = job.target.device
    try:
        yield
    except OSError as error:
        if error.errno in (errno.ENODEV, errno.ENXIO, errno.ENOMEDIUM):
            why, again = (
                "the card or its reader was unplugged",
                "plug it in again and give the same command: it goes on from where it was",
            )
            if device.address:
                why, again = f"{error.strerror}", "look whether its server still runs, then give the same command"
            raise YarrikError(Trouble("FLASH-GONE", f"{device} is gone", device.place, why, again), "work") from error
        raise YarrikError(
            Trouble("FLASH-WRITE", f"{device} failed: {error.strerror}", device.place,
                    why="a worn or broken card does that, or a loose reader",
                    remedy="try another reader or port; if it comes again, throw the card away; kernel messages: dmesg"),
            "work",
        ) from error  # fmt: skip


def _differs(job: Job, different: Sequence[Part], parts: int) -> YarrikError:
    device, first, bad = job.target.device, different[0], shown_size(sum(one.length for one in different))
    why = f"the first one begins at {first.at:#x}"
    if len(different) > 1 and first.at >= 1 << 20:
        why += f"; {counted(len(different), 'part')} of {parts}: a counterfeit card has less room than it says"
    return YarrikError(
        Trouble("FLASH-DIFFERS", f"{device} does not hold what was written: {bad} read back otherwise", device.place,
                why=why, remedy="do not use this card; try another reader once, then another card"),
        "work",
    )  # fmt: skip
