"""A simulated device: a file that says what it is like, and one for its bytes. It has the faults that cards have."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import time
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO, Literal

import msgspec

from yarrik.beneath import regular_file
from yarrik.errors import Place, Trouble, Unfit, YarrikError
from yarrik.flash.devices import Device
from yarrik.units import parse_size

_NODE = 259  # a major number of block devices without one of their own


class BenchFault(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, rename="kebab"):
    """What goes wrong between `begin` and `end` (like `512 MiB`): `write` and `read` fail; what is written is `forgotten`
    (the old bytes stay) or `flipped` (a bit of each block); or it is `slow`, with a `rate` in bytes a second."""

    kind: Literal["write", "read", "forgotten", "flipped", "slow"]
    begin: str = "0 B"
    end: str = ""
    rate: str = "1 MiB"


class Bench(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, rename="kebab"):
    """A device: what it says of itself, and its faults. It is gone `removed-after` that many written bytes, and begins anew
    where it `wraps-at` an address, as counterfeit cards do. With the `protocol` DFU it is a USB device that takes its bytes in
    order."""

    model: str = "Bench device"
    vendor: str = ""
    serial: str = ""
    size: str
    block: int = 512
    bus: str = "bench"
    removable: bool = True
    read_only: bool = False
    storage: str = ""
    removed_after: str = ""
    wraps_at: str = ""
    protocol: Literal["", "dfu"] = ""
    fault: tuple[BenchFault, ...] = ()


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    device: Bench


def read_bench(file: Path) -> Bench:
    """Raises YarrikError for a file that describes no device."""
    try:
        text = regular_file(file).decode()
        bench = msgspec.convert(tomllib.loads(text), _File).device
        if "/" in bench.storage or bench.storage in (".", ".."):
            raise Unfit("`storage` is the name of a file beside it, and no path")
        for one in [bench.size, *(size for size in (bench.removed_after, bench.wraps_at) if size)]:
            parse_size(one)
        for fault in bench.fault:
            parse_size(fault.begin), parse_size(fault.end or bench.size), parse_size(fault.rate)
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, msgspec.ValidationError, Unfit) as error:
        why = error.strerror if isinstance(error, OSError) else str(error)
        raise YarrikError(
            Trouble("FLASH-BENCH", f"{file} describes no device: {why}", Place(file),
                    remedy='write a table [device] with size = "4 GiB", model and serial; docs/flashing.md has all keys')
        ) from error  # fmt: skip
    return bench


def bench_device(file: Path) -> Device:
    """What a bench device says of itself. Raises YarrikError."""
    bench = read_bench(file)
    return Device(file.stem, file, (_NODE, 0), parse_size(bench.size), bench.block, bench.vendor, bench.model, bench.serial,
                  bench.bus, bench.removable, bench.read_only)  # fmt: skip


def bench_storage(file: Path) -> Path:
    """Where a bench device has its bytes. Raises YarrikError."""
    return file.parent / (read_bench(file).storage or file.stem + ".bin")


class BenchTarget:
    """A simulated device, open for us alone."""

    reads = True
    in_order = False

    def __init__(self, file: Path, sleep: Callable[[float], None] = time.sleep) -> None:
        self.bench = read_bench(file)
        self.device = bench_device(file)
        size = self.device.size
        storage = bench_storage(file)
        # A device under this name would be written to as if it were made up.
        try:
            self._handle = os.open(storage, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK, 0o644)
        except OSError as error:
            why = "it is a link" if error.errno == errno.ELOOP else str(error.strerror)
            raise YarrikError(
                Trouble("FLASH-BENCH", f"{storage} cannot be opened: {why}", Place(file),
                        remedy="remove it, or name another file with `storage`")
            ) from error  # fmt: skip
        if not stat.S_ISREG(os.fstat(self._handle).st_mode):
            os.close(self._handle)
            raise YarrikError(
                Trouble("FLASH-BENCH", f"{storage} is no file", Place(file), why="a made-up device has its bytes in a file",
                        remedy="remove it, or name another one with `storage`")
            )  # fmt: skip
        self._sleep = sleep
        self._wraps = parse_size(self.bench.wraps_at) if self.bench.wraps_at else size
        self._left = parse_size(self.bench.removed_after) if self.bench.removed_after else None
        self._faults = [(one.kind, parse_size(one.begin), parse_size(one.end) if one.end else size, parse_size(one.rate))
                        for one in self.bench.fault]  # fmt: skip
        try:
            import fcntl

            fcntl.flock(self._handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            os.close(self._handle)
            raise YarrikError(
                Trouble("FLASH-BUSY", f"{file} is in use", Place(file), why="another program writes to it",
                        remedy="wait for it, or end it")
            ) from error  # fmt: skip
        os.ftruncate(self._handle, size)

    def write(self, at: int, data: memoryview) -> None:
        self._check_whole(at, len(data))
        if self._left is not None:
            self._left -= len(data)
            if self._left < 0:
                raise OSError(errno.ENODEV, os.strerror(errno.ENODEV))
        if at + len(data) > self.device.size:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        self._slow(at, len(data))
        if self._hits("write", at, len(data)):
            raise OSError(errno.EIO, os.strerror(errno.EIO))
        if self._hits("forgotten", at, len(data)):
            return
        if self._hits("flipped", at, len(data)):
            wrong = bytearray(data)
            wrong[0 :: self.bench.block] = bytes(one ^ 1 for one in wrong[0 :: self.bench.block])
            data = memoryview(wrong)
        while data:
            place = at % self._wraps
            done = os.pwrite(self._handle, data[: self._wraps - place], place)
            at, data = at + done, data[done:]

    def read_into(self, at: int, room: memoryview) -> None:
        if self._left is not None and self._left < 0:
            raise OSError(errno.ENODEV, os.strerror(errno.ENODEV))
        self._slow(at, len(room))
        if self._hits("read", at, len(room)):
            raise OSError(errno.EIO, os.strerror(errno.EIO))
        while room:
            place = at % self._wraps
            done = os.preadv(self._handle, [room[: self._wraps - place]], place)
            if not done:
                raise OSError(errno.EIO, os.strerror(errno.EIO))
            at, room = at + done, room[done:]

    def zero(self, at: int, length: int) -> None:
        """As a device does it: at once, and not where it forgets."""
        self._check_whole(at, length)
        part = memoryview(bytes(1 << 20))
        if self._faults or self._left is not None or self._wraps != self.device.size or not _punched(self._handle, at, length):
            for start in range(at, at + length, len(part)):
                self.write(start, part[: at + length - start])

    def discard(self, at: int, length: int) -> None:
        self._check_whole(at, length)
        if self._wraps == self.device.size:
            _punched(self._handle, at, length)

    def settle(self) -> None:
        os.fsync(self._handle)
        with contextlib.suppress(OSError):
            os.posix_fadvise(self._handle, 0, 0, os.POSIX_FADV_DONTNEED)

    def read_table_again(self) -> bool:
        return True

    def look(self) -> BinaryIO:
        return open(f"/proc/self/fd/{self._handle}", "rb")

    def moved(self) -> str:
        return ""

    def close(self) -> None:
        os.close(self._handle)

    def _check_whole(self, at: int, length: int) -> None:
        """Direct access is by whole blocks, as with a real device."""
        if at % self.bench.block or length % self.bench.block:
            raise OSError(errno.EINVAL, os.strerror(errno.EINVAL))

    def _hits(self, kind: str, at: int, length: int) -> bool:
        return any(one == kind and at < end and begin < at + length for one, begin, end, _ in self._faults)

    def _slow(self, at: int, length: int) -> None:
        for kind, begin, end, rate in self._faults:
            if kind == "slow" and at < end and begin < at + length:
                self._sleep(length / rate)


def _punched(handle: int, at: int, length: int) -> bool:
    """Makes a hole in an open file (fallocate(2)); whether its filesystem can."""
    import ctypes

    call = ctypes.CDLL(None, use_errno=True).fallocate
    call.argtypes = [ctypes.c_int, ctypes.c_int, ctypes.c_int64, ctypes.c_int64]
    # FALLOC_FL_KEEP_SIZE | FALLOC_FL_PUNCH_HOLE
    return bool(call(handle, 1 | 2, at, length) == 0)
