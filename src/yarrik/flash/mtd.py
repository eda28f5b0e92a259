"""A NOR flash chip by the kernel's device file for it, such as a bootloader's chip on a programmer or on this very board.

Written from the kernel's interface (<mtd/mtd-abi.h>). Bits of such a chip can be cleared one by one, and set again only by
erasing a whole block: what of a block is not to change is read first, and written again.
"""

from __future__ import annotations

import errno
import fcntl
import os
import stat
import struct
from pathlib import Path
from typing import BinaryIO

from yarrik.errors import Place, Trouble, YarrikError
from yarrik.flash.devices import Device

MAJOR = 90  # Documentation/admin-guide/devices.txt
# struct mtd_info_user: type, flags, size, erasesize, writesize, oobsize, padding (32 bytes)
_INFO = struct.Struct("=BxxxIIIIIQ")
MEMGETINFO, MEMERASE = 0x80204D01, 0x40084D02
_NOR, _WRITEABLE = 3, 0x400
_ERASED = 0xFF


class MtdTarget:
    """A NOR flash chip, or a part of it that the kernel shows as a device of its own. Raises YarrikError."""

    reads = True
    in_order = False

    def __init__(self, path: Path) -> None:
        try:
            self._handle = os.open(path, os.O_RDWR | os.O_CLOEXEC | os.O_SYNC)
        except OSError as error:
            raise YarrikError(Trouble("FLASH-UNKNOWN", f"cannot open {path}: {error.strerror}", Place(path),
                                      remedy="run it as root, or unlock the chip")) from error  # fmt: skip
        try:
            kind, flags, size, self._erase, _, _, _ = _INFO.unpack(self._call(MEMGETINFO, bytes(_INFO.size)))
            if kind != _NOR or not self._erase or size % self._erase:
                raise OSError(errno.EMEDIUMTYPE, "it is no NOR flash, and others need bad blocks to be kept")
        except OSError as error:
            os.close(self._handle)
            raise YarrikError(Trouble("FLASH-NOT-DISK", f"{path} cannot be written to: {error.strerror}", Place(path),
                                      remedy="use the programs of the chip's own kind")) from error  # fmt: skip
        number = os.fstat(self._handle).st_rdev
        name = self._name(path)
        numbers = os.major(number), os.minor(number)
        self.device = Device(path.name, path, numbers, size, 512, model=name or "NOR flash", bus="mtd", removable=False,
                             read_only=not flags & _WRITEABLE)  # fmt: skip

    @staticmethod
    def _name(path: Path) -> str:
        """What the board's description calls it."""
        try:
            text = Path(f"/sys/class/mtd/{path.name}/name").read_text(errors="replace")
        except OSError:
            return ""
        return "".join(sign if sign.isprintable() else "?" for sign in text).strip()[:64]

    def _call(self, request: int, data: bytes) -> bytes:
        return fcntl.ioctl(self._handle, request, data)

    def write(self, at: int, data: memoryview) -> None:
        end = at + len(data)
        for block in range(at // self._erase * self._erase, end, self._erase):
            first, last = max(at, block), min(end, block + self._erase)
            part = data[first - at : last - at]
            now = self._read(block, self._erase)
            wanted = bytearray(now)
            wanted[first - block : last - block] = part
            if wanted == now:
                continue  # each erasing wears the chip
            self._call(MEMERASE, struct.pack("=II", block, self._erase))
            if wanted.count(_ERASED) != len(wanted):
                self._put(block, bytes(wanted))

    def _put(self, at: int, data: bytes) -> None:
        while data:
            done = os.pwrite(self._handle, data, at)
            if not done:
                raise OSError(errno.EIO, os.strerror(errno.EIO))
            at, data = at + done, data[done:]

    def _read(self, at: int, length: int) -> bytes:
        found = b""
        while len(found) < length:
            part = os.pread(self._handle, length - len(found), at + len(found))
            if not part:
                raise OSError(errno.EIO, os.strerror(errno.EIO))
            found += part
        return found

    def read_into(self, at: int, room: memoryview) -> None:
        room[:] = self._read(at, len(room))

    def zero(self, at: int, length: int) -> None:
        for start in range(at, at + length, 1 << 20):
            self.write(start, memoryview(bytes(min(1 << 20, at + length - start))))

    def discard(self, at: int, length: int) -> None:
        """Nothing: what is erased next to what stays would wear the chip for no use."""

    def settle(self) -> None:
        os.fsync(self._handle)

    def read_table_again(self) -> bool:
        return True  # the kernel reads none of it

    def look(self) -> BinaryIO:
        return open(f"/proc/self/fd/{self._handle}", "rb", buffering=1 << 16)

    def moved(self) -> str:
        return ""

    def close(self) -> None:
        os.close(self._handle)


def is_flash_chip(path: Path) -> bool:
    """Whether a path is the kernel's device file of a flash chip."""
    try:
        status = path.stat()
    except OSError:
        return False
    return stat.S_ISCHR(status.st_mode) and os.major(status.st_rdev) == MAJOR
