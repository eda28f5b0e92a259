"""A board's storage by USB, where its bootloader takes firmware by the class DFU.

Written from the Device Class Specification for Device Firmware Upgrade, version 1.1: its requests (section 3), states
(appendix A) and the functional descriptor (section 4.1.3). A device takes one file from its beginning to its end, in blocks of
its own size; it may give it back in the same way.
"""

from __future__ import annotations

import contextlib
import errno
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, BinaryIO

import msgspec

from yarrik.errors import Trouble, YarrikError
from yarrik.flash.devices import Device
from yarrik.flash.source import Source
from yarrik.patterns import lazy_pattern

_OUT, _IN = 0x21, 0xA1  # bmRequestType: of the class, for an interface
_DNLOAD, _UPLOAD, _GETSTATUS, _CLRSTATUS, _ABORT = 1, 2, 3, 4, 6
_IDLE, _DNLOAD_SYNC, _DNBUSY, _DNLOAD_IDLE, _MANIFEST_SYNC, _MANIFEST, _WAIT_RESET, _UPLOAD_IDLE, _ERROR = range(2, 11)
_CLASS, _SUBCLASS, _DFU_MODE, _DESCRIPTOR = 0xFE, 1, 2, 0x21
_CAN_DOWNLOAD, _CAN_UPLOAD = 1, 2
#: What a device may say of why it failed (section 6.1.2).
_REASONS = {
    1: "the file is for another device", 2: "the file fails a check", 3: "it cannot write", 4: "it cannot erase",
    5: "its erasing failed", 6: "its programming failed", 7: "what it programmed does not verify",
    8: "the address is out of its range", 9: "the file is too short", 10: "its firmware is damaged",
    11: "a fault of its vendor's", 12: "a reset of the bus", 13: "a reset", 14: "something unknown",
    15: "a request that it did not expect",
}  # fmt: skip
_URI = lazy_pattern(r"dfu://([0-9a-fA-F]{4}):([0-9a-fA-F]{4})/([A-Za-z0-9._ -]{1,64})(?:\?serial=([!-~]{1,64}))?\Z")
#: Milliseconds for one request, and seconds for a device to be done with a block.
_REQUEST, _PATIENCE = 5000, 120.0
_LEAST, _MOST = 64, 65535


class _Status(msgspec.Struct, frozen=True):
    """An answer to DFU_GETSTATUS (section 6.1.2): `wait` is in seconds."""

    status: int
    wait: float
    state: int


class DfuTarget:
    """What a device takes by its class DFU: `dfu://VENDOR:PRODUCT/NAME`, where NAME is that of the alternate setting, or its
    number. It is written, and read back where the device can, in order. Raises YarrikError."""

    in_order = True

    def __init__(
        self, word: str, source: Source, bus: Any = None, sleep: Callable[[float], None] = time.sleep
    ) -> None:  # fmt: skip
        """`bus` is one of the library's backends (None: that of this machine)."""
        match = _URI.match(word)
        if match is None:
            raise YarrikError(Trouble("FLASH-UNKNOWN", f"{word} is no address of a device",
                                      why="a device is known by the numbers of its vendor and product",
                                      remedy="write dfu://1209:0001/NAME, with the numbers that lsusb shows"))  # fmt: skip
        self._sleep = sleep
        self._begin, self._end = source.begin, source.end
        found = self._found(word, int(match[1], 16), int(match[2], 16), match[4] or "", bus)
        try:
            self._open(word, found, match[3])
        except YarrikError:
            raise
        except Exception as error:  # the library's errors are not all of one kind
            remedy = "give yourself access to the device (a udev rule), or run it as root"
            raise YarrikError(Trouble("FLASH-UNKNOWN", f"{word} cannot be opened: {_said(error)}", remedy=remedy)) from error
        self._block = 0
        self._at = self._begin
        self._reading: int | None = None
        self._left = b""

    @staticmethod
    def _found(word: str, vendor: int, product: int, serial: str, bus: Any) -> Any:
        import usb.core

        try:
            all_found = list(usb.core.find(find_all=True, idVendor=vendor, idProduct=product, backend=bus))
            found = [one for one in all_found if not serial or _text(one, one.iSerialNumber) == serial]
        except usb.core.NoBackendError as error:
            raise YarrikError(Trouble("FLASH-UNKNOWN", f"{word}: this machine has no library for USB",
                                      remedy="install libusb: apt install libusb-1.0-0")) from error  # fmt: skip
        if len(found) == 1:
            return found[0]
        known = ", ".join(_text(one, one.iSerialNumber) or "no serial number" for one in all_found)
        why = f"there are {len(found)}: {known}" if found else "none is there" + (f"; those that are: {known}" if known else "")
        raise YarrikError(Trouble("FLASH-UNKNOWN", f"{word} is not one device: {why}",
                                  remedy="start the board's DFU mode, or name one: …?serial=NUMBER"))  # fmt: skip

    def _open(self, word: str, found: Any, name: str) -> None:
        self._usb = found
        settings = [(interface, _text(found, interface.iInterface)) for configuration in found for interface in configuration
                    if (interface.bInterfaceClass, interface.bInterfaceSubClass, interface.bInterfaceProtocol)
                    == (_CLASS, _SUBCLASS, _DFU_MODE)]  # fmt: skip
        chosen = [(one, title) for one, title in settings if name in (title, str(one.bAlternateSetting))]
        if len(chosen) != 1:
            titles = (
                ", ".join(title or str(one.bAlternateSetting) for one, title in settings) or "none: it is not in its DFU mode"
            )
            raise YarrikError(Trouble("FLASH-UNKNOWN", f"{word}: the device has not one place called `{name}`",
                                      why=f"its places: {titles}", remedy="name one of them"))  # fmt: skip
        interface, title = chosen[0]
        self._interface = int(interface.bInterfaceNumber)
        attributes, self._size = self._functional(word, settings)
        if not attributes & _CAN_DOWNLOAD:
            raise YarrikError(Trouble("FLASH-READ-ONLY", f"{word} takes nothing: it only gives", remedy="start its other mode"))
        self.reads = bool(attributes & _CAN_UPLOAD)
        with contextlib.suppress(NotImplementedError):
            if found.is_kernel_driver_active(self._interface):
                found.detach_kernel_driver(self._interface)
        found.set_interface_altsetting(self._interface, int(interface.bAlternateSetting))
        self._idle()
        # How large it is the class does not say: the device refuses what is too much.
        size = -(-self._end // 512) * 512
        vendor, model = _text(found, found.iManufacturer), _text(found, found.iProduct) or "device in DFU mode"
        self.device = Device(
            title or name, Path("/dev/null"), (0, 0), size, 512, vendor, model, serial=_text(found, found.iSerialNumber),
            bus="dfu", removable=True, address=word,
        )  # fmt: skip

    @staticmethod
    def _functional(word: str, settings: list[tuple[Any, str]]) -> tuple[int, int]:
        """Attributes and transfer size out of the functional descriptor, which follows the last alternate setting."""
        for interface, _ in reversed(settings):
            data = bytes(interface.extra_descriptors)
            while len(data) >= 2 and 2 <= data[0] <= len(data):
                if data[1] == _DESCRIPTOR and data[0] >= 7:
                    size = int.from_bytes(data[5:7], "little")
                    if _LEAST <= size <= _MOST:
                        return data[2], size
                data = data[data[0] :]
        why = "its functional descriptor is missing, or names a size that cannot be"
        what = f"{word} does not say how it takes firmware"
        raise YarrikError(Trouble("FLASH-UNKNOWN", what, why=why, remedy="start its DFU mode anew"))

    # Requests

    def _status(self) -> _Status:
        data = bytes(self._usb.ctrl_transfer(_IN, _GETSTATUS, 0, self._interface, 6, _REQUEST))
        if len(data) != 6 or data[4] > _ERROR:
            raise OSError(errno.EPROTO, "its status is none")
        return _Status(data[0], int.from_bytes(data[1:4], "little") / 1000, data[4])

    def _idle(self) -> None:
        """Brings the device to its state dfuIDLE, whatever it was at."""
        for _ in range(4):
            state = self._status().state
            if state == _IDLE:
                return
            self._usb.ctrl_transfer(_OUT, _CLRSTATUS if state == _ERROR else _ABORT, 0, self._interface, None, _REQUEST)
        raise OSError(errno.EBUSY, "it does not become idle")

    def _until(self, *wanted: int) -> None:
        """Waits for one of these states, as long as the device asks for between two questions."""
        end = time.monotonic() + _PATIENCE
        while True:
            now = self._status()
            if now.state == _ERROR:
                self._usb.ctrl_transfer(_OUT, _CLRSTATUS, 0, self._interface, None, _REQUEST)
                raise OSError(errno.EIO, f"it says: {_REASONS.get(now.status, 'an error that is not known here')}")
            if now.state in wanted:
                return
            if now.state not in (_DNLOAD_SYNC, _DNBUSY, _MANIFEST_SYNC, _MANIFEST) or time.monotonic() > end:
                raise OSError(errno.EPROTO, "it is in a state that does not belong here")
            self._sleep(min(now.wait, 10.0))

    def _asked(self, work: Callable[[], None]) -> None:
        """Does something, with the library's errors as those of a device."""
        import usb.core

        try:
            work()
        except usb.core.USBTimeoutError as error:
            raise OSError(errno.ENODEV, "no answer") from error
        except usb.core.USBError as error:
            raise OSError(error.errno or errno.EIO, _said(error)) from error

    # Storage, in order

    def write(self, at: int, data: memoryview) -> None:
        self._asked(lambda: self._download(at, bytes(data)))

    def zero(self, at: int, length: int) -> None:
        empty = bytes(min(length, 1 << 20))
        for start in range(at, at + length, 1 << 20):
            self._asked(lambda start=start: self._download(start, empty[: at + length - start]))  # type: ignore[misc]

    def discard(self, at: int, length: int) -> None:
        self.zero(at, length)  # what follows goes behind it

    def _download(self, at: int, data: bytes) -> None:
        if at != self._at:
            raise OSError(errno.ESPIPE, "a device takes its bytes in order")
        self._at += len(data)
        data = self._left + data
        whole = len(data) if self._at >= self._end else len(data) // self._size * self._size
        for start in range(0, whole, self._size):
            part = data[start : min(start + self._size, whole)]
            done = self._usb.ctrl_transfer(_OUT, _DNLOAD, self._block & 0xFFFF, self._interface, part, _REQUEST)
            if done != len(part):
                raise OSError(errno.EIO, "it took less than was sent")
            self._block += 1
            self._until(_DNLOAD_IDLE)
        self._left = data[whole:]

    def settle(self) -> None:
        """The end of the file: the device writes what it has gathered (section 7)."""
        if self._at < self._end or not self._block:
            return

        def ended() -> None:
            self._usb.ctrl_transfer(_OUT, _DNLOAD, self._block & 0xFFFF, self._interface, None, _REQUEST)
            self._until(_IDLE, _WAIT_RESET)

        self._asked(ended)
        self._block = 0

    def read_into(self, at: int, room: memoryview) -> None:
        def given() -> None:
            if self._reading is None:
                self._idle()
                self._reading, self._block, self._left = self._begin, 0, b""
            if at < self._reading:
                raise OSError(errno.ESPIPE, "a device gives its bytes in order")
            while self._reading + len(self._left) < at + len(room):
                part = bytes(self._usb.ctrl_transfer(_IN, _UPLOAD, self._block & 0xFFFF, self._interface, self._size, _REQUEST))
                self._block += 1
                self._left += part
                skipped = min(max(0, at - self._reading), len(self._left))
                self._reading, self._left = self._reading + skipped, self._left[skipped:]
                if len(part) < self._size:
                    break
            data, self._left = self._left[: len(room)], self._left[len(room) :]
            # A device gives the file, and not what its storage has behind it.
            room[: len(data)] = data
            room[len(data) :] = bytes(len(room) - len(data))
            self._reading += len(data)

        self._asked(given)

    def look(self) -> BinaryIO:
        raise OSError(errno.ENOTSUP, "it gives its bytes in order alone")

    def read_table_again(self) -> bool:
        return True  # nobody here has one of it

    def moved(self) -> str:
        return ""  # it is the device that was opened, or it is gone

    def close(self) -> None:
        import usb.util

        with contextlib.suppress(Exception):
            self._idle()
        with contextlib.suppress(Exception):
            usb.util.dispose_resources(self._usb)


def _text(device: Any, index: int) -> str:
    """A string descriptor, which strangers wrote; empty for none."""
    import usb.util

    if not index:
        return ""
    try:
        text = usb.util.get_string(device, index) or ""
    except Exception:  # the device answers with something else, or not at all
        return ""
    return "".join(sign if sign.isprintable() else "?" for sign in text).strip()[:64]


def _said(error: Exception) -> str:
    return str(getattr(error, "strerror", None) or error)[:120]
