"""Storage that an image is written to: held open by nobody else, read and written around the kernel's memory of it."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import stat
import struct
from pathlib import Path
from typing import BinaryIO, Protocol

from yarrik.errors import Place, Trouble, Unfit, YarrikError
from yarrik.flash.devices import Device, Devices

# <linux/fs.h>
_BLKRRPART, _BLKFLSBUF, _BLKDISCARD, _BLKZEROOUT = 0x125F, 0x1261, 0x1277, 0x127F
_BLKGETSIZE64, _BLKSSZGET, _BLKGETDISKSEQ = 0x80081272, 0x1268, 0x80081280
_ZEROED = 64 << 20


class Target(Protocol):
    """Storage of `size` bytes. Positions are in bytes. All of these raise OSError."""

    device: Device
    #: Whether it can be read: what cannot is not compared.
    reads: bool
    #: Whether it takes and gives its bytes from the beginning to the end alone.
    in_order: bool

    def write(self, at: int, data: memoryview) -> None:
        """Writes all of `data`. Position and length are whole blocks of the device, memory begins a page: direct access needs
        that."""
        ...

    def read_into(self, at: int, room: memoryview) -> None:
        """Fills `room`, aligned likewise, from the storage itself."""
        ...

    def zero(self, at: int, length: int) -> None:
        """Makes a range read as zeros."""
        ...

    def discard(self, at: int, length: int) -> None:
        """Says that nobody needs a range any more; what cannot be told so is left."""
        ...

    def settle(self) -> None:
        """Returns when all that was written has reached the storage."""
        ...

    def read_table_again(self) -> bool:
        """Lets the kernel look at the partition table anew; whether it did."""
        ...

    def look(self) -> BinaryIO:
        """The storage as a file to read, for what is on it now; the caller closes it."""
        ...

    def moved(self) -> str:
        """Why this is not the storage that was opened any more; empty when it is."""
        ...

    def close(self) -> None:
        """Lets go of it."""
        ...


class BlockTarget:
    """A block device of this machine, claimed for us alone from the start to `close`."""

    reads = True
    in_order = False

    def __init__(self, path: Path, devices: Devices) -> None:
        self._devices = devices
        status = _status(path)
        number = os.major(status.st_rdev), os.minor(status.st_rdev)
        self.device = _known(path, devices, number)
        self._unlock("0")
        try:
            # O_EXCL of a block device: nobody else may claim it, or a part of it, while it is open.
            self._handle = os.open(path, os.O_RDWR | os.O_EXCL | os.O_CLOEXEC | getattr(os, "O_DIRECT", 0))
        except OSError as error:
            self._unlock("1")
            raise _not_opened(path, error) from error
        now = os.fstat(self._handle)
        if (os.major(now.st_rdev), os.minor(now.st_rdev)) != number or not stat.S_ISBLK(now.st_mode):
            self.close()
            raise YarrikError(
                Trouble("FLASH-ANOTHER", f"{path} leads to another device than a moment ago", Place(path),
                        why="somebody changes what this name means", remedy="look again: yarrik devices")
            )  # fmt: skip
        self._sequence = self._ask(_BLKGETDISKSEQ)

    def write(self, at: int, data: memoryview) -> None:
        while data:
            done = os.pwritev(self._handle, [data], at)
            if not done:
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
            at, data = at + done, data[done:]

    def read_into(self, at: int, room: memoryview) -> None:
        while room:
            done = os.preadv(self._handle, [room], at)
            if not done:
                raise OSError(errno.EIO, os.strerror(errno.EIO))
            at, room = at + done, room[done:]

    def zero(self, at: int, length: int) -> None:
        for start in range(at, at + length, _ZEROED):
            fcntl.ioctl(self._handle, _BLKZEROOUT, struct.pack("QQ", start, min(_ZEROED, at + length - start)))

    def discard(self, at: int, length: int) -> None:
        with contextlib.suppress(OSError):
            fcntl.ioctl(self._handle, _BLKDISCARD, struct.pack("QQ", at, length))

    def settle(self) -> None:
        os.fsync(self._handle)
        with contextlib.suppress(OSError):
            fcntl.ioctl(self._handle, _BLKFLSBUF)

    def read_table_again(self) -> bool:
        try:
            fcntl.ioctl(self._handle, _BLKRRPART)
        except OSError:
            return False
        return True

    def look(self) -> BinaryIO:
        return open(f"/proc/self/fd/{self._handle}", "rb")

    def moved(self) -> str:
        if self._ask(_BLKGETSIZE64) != self.device.size:
            return "its size is another one now"
        if self._sequence and self.device.sequence and self._sequence != self.device.sequence:
            return "another one was plugged in under the same name"
        try:
            now = self._devices.__class__(self._devices.view).at(self.device.number)
        except Unfit as error:
            return str(error)
        if now.sequence != self.device.sequence or now.serial != self.device.serial:
            return "another one was plugged in under the same name"
        return ""

    def close(self) -> None:
        os.close(self._handle)
        self._unlock("1")

    def _unlock(self, word: str) -> None:
        """Lets a boot area of an eMMC be written (`0`), or no longer; opening it says if that did not help."""
        if self.device.lock is not None:
            with contextlib.suppress(OSError):
                self.device.lock.write_text(word)

    def _ask(self, request: int) -> int:
        """A number of 64 bits that the kernel knows of the open device; 0 when it does not."""
        try:
            return int(struct.unpack("Q", fcntl.ioctl(self._handle, request, bytes(8)))[0])
        except OSError:
            return 0


def _status(path: Path) -> os.stat_result:
    """Raises YarrikError for what is no block device."""
    try:
        status = path.stat()
    except OSError as error:
        raise YarrikError(
            Trouble("FLASH-UNKNOWN", f"there is no device {path}: {error.strerror}", Place(path),
                    remedy="see which there are: yarrik devices")
        ) from error  # fmt: skip
    if not stat.S_ISBLK(status.st_mode):
        what = "a file" if stat.S_ISREG(status.st_mode) else "a folder" if stat.S_ISDIR(status.st_mode) else "another thing"
        raise YarrikError(
            Trouble("FLASH-NOT-DISK", f"{path} is {what}, and no device", Place(path),
                    why="an image goes to a block device, or a bench device that a file describes",
                    remedy="see which there are: yarrik devices")
        )  # fmt: skip
    return status


def _known(path: Path, devices: Devices, number: tuple[int, int]) -> Device:
    try:
        return devices.at(number)
    except Unfit as error:
        raise YarrikError(
            Trouble("FLASH-NOT-DISK", f"{path} is no whole device: {error}", Place(path),
                    why="an image has a partition table of its own, and begins at the device's first block",
                    remedy="name the whole device (yarrik devices), or write one partition: --partition NAME")
        ) from error  # fmt: skip


def _not_opened(path: Path, error: OSError) -> YarrikError:
    if error.errno == errno.EBUSY:
        return YarrikError(
            Trouble("FLASH-BUSY", f"{path} is in use", Place(path), why="a filesystem or another program has claimed it",
                    remedy="unmount it, or end what writes to it; who it is: fuser -v " + str(path))
        )  # fmt: skip
    remedy = "run it as root, or as a member of the group that owns the device" if error.errno in (errno.EACCES, errno.EPERM) \
        else "look for a lock switch on the card" if error.errno == errno.EROFS else "plug it in again"  # fmt: skip
    code = "FLASH-READ-ONLY" if error.errno == errno.EROFS else "FLASH-UNKNOWN"
    return YarrikError(Trouble(code, f"cannot open {path}: {error.strerror}", Place(path), remedy=remedy))
