"""A simulated USB device in DFU mode, behind the library's own face for what talks to the bus: for demo and tests."""

from __future__ import annotations

import errno
from array import array
from pathlib import Path
from types import SimpleNamespace
from typing import Any

_STRINGS = {1: "Harbour Authority", 2: "Bench gauge"}
_IDLE, _DNLOAD_SYNC, _DNBUSY, _DNLOAD_IDLE, _MANIFEST_SYNC, _MANIFEST, _WAIT_RESET, _UPLOAD_IDLE, _ERROR = range(2, 11)
VENDOR, PRODUCT = 0x1209, 0x0001


class SimulatedDfu:
    """A bus with one device, as the library's `usb.backend.IBackend` has it. Its storage is a file of `size` bytes, which gets
    what was sent at the end of that. `transfer` is its block, `fails_at` the byte at which it cannot write, `flips` one that it
    changes."""

    def __init__(
        self, storage: Path, size: int, serial: str = "", transfer: int = 4096, uploads: bool = True, name: str = "card",
        fails_at: int | None = None, flips: int | None = None,
    ) -> None:  # fmt: skip
        self.storage, self.size, self.transfer, self.uploads = storage, size, transfer, uploads
        self.fails_at, self.flips = fails_at, flips
        self.strings = {**_STRINGS, 3: serial, 4: name}
        self.state, self.status, self.asked = _IDLE, 0, 0
        self.data, self.given, self.blocks = bytearray(), 0, 0
        #: What was asked for, by names of the class.
        self.log: list[str] = []

    # The bus, as the library asks it

    def enumerate_devices(self) -> Any:
        yield self

    def get_device_descriptor(self, dev: Any) -> Any:
        return SimpleNamespace(
            bLength=18, bDescriptorType=1, bcdUSB=0x0200, bDeviceClass=0, bDeviceSubClass=0, bDeviceProtocol=0,
            bMaxPacketSize0=64, idVendor=VENDOR, idProduct=PRODUCT, bcdDevice=0x0100, iManufacturer=1, iProduct=2,
            iSerialNumber=3 if self.strings[3] else 0, bNumConfigurations=1, address=5, bus=1, port_number=1,
            port_numbers=(1,), speed=3,
        )  # fmt: skip

    def get_configuration_descriptor(self, dev: Any, config: int) -> Any:
        if config:
            raise IndexError(config)
        return SimpleNamespace(
            bLength=9, bDescriptorType=2, wTotalLength=27, bNumInterfaces=1, bConfigurationValue=1, iConfiguration=0,
            bmAttributes=0x80, bMaxPower=50, extra_descriptors=b"",
        )  # fmt: skip

    def get_interface_descriptor(self, dev: Any, intf: int, alt: int, config: int) -> Any:
        if intf or alt:
            raise IndexError(alt)
        sizes = (255).to_bytes(2, "little") + self.transfer.to_bytes(2, "little")
        functional = bytes((9, 0x21, 1 | 2 * self.uploads | 4)) + sizes + b"\x10\x01"
        return SimpleNamespace(
            bLength=9, bDescriptorType=4, bInterfaceNumber=0, bAlternateSetting=0, bNumEndpoints=0, bInterfaceClass=0xFE,
            bInterfaceSubClass=1, bInterfaceProtocol=2, iInterface=4, extra_descriptors=functional,
        )  # fmt: skip

    def open_device(self, dev: Any) -> Any:
        return dev

    def close_device(self, dev_handle: Any) -> None: ...
    def set_configuration(self, dev_handle: Any, config_value: int) -> None: ...
    def get_configuration(self, dev_handle: Any) -> int:
        return 1

    def set_interface_altsetting(self, dev_handle: Any, intf: int, altsetting: int) -> None: ...
    def claim_interface(self, dev_handle: Any, intf: int) -> None: ...
    def release_interface(self, dev_handle: Any, intf: int) -> None: ...
    def is_kernel_driver_active(self, dev_handle: Any, intf: int) -> bool:
        return False

    def ctrl_transfer(
        self, dev_handle: Any, bmRequestType: int, bRequest: int, wValue: int, wIndex: int, data: array[int], timeout: int
    ) -> int:
        if bmRequestType == 0x80 and bRequest == 6 and wValue >> 8 == 3:
            return self._string(wValue & 0xFF, data)
        answer = self._class_request(bRequest, wValue, bytes(data) if bmRequestType == 0x21 else b"", len(data))
        if bmRequestType == 0x21:
            return len(data)
        data[: len(answer)] = array("B", answer)
        return len(answer)

    def _string(self, index: int, data: array[int]) -> int:
        text = b"\x09\x04" if index == 0 else self.strings.get(index, "").encode("utf-16-le")
        answer = (bytes((len(text) + 2, 3)) + text)[: len(data)]
        data[: len(answer)] = array("B", answer)
        return len(answer)

    # The class (appendix A: what a request leads to in each state)

    def _class_request(self, request: int, block: int, data: bytes, room: int) -> bytes:
        from usb.core import USBError

        self.log.append({1: "download", 2: "upload", 3: "status", 4: "clear", 6: "abort"}.get(request, str(request)))
        if request == 3:
            return self._told()
        if (request == 4 and self.state == _ERROR) or (request == 6 and self.state in (_IDLE, _DNLOAD_IDLE, _UPLOAD_IDLE)):
            self.state, self.status, self.given, self.blocks = _IDLE, 0, 0, 0
            self.data.clear()
            return b""
        if request == 1 and self.state in (_IDLE, _DNLOAD_IDLE):
            return self._downloaded(block, data)
        if request == 2 and self.uploads and self.state in (_IDLE, _UPLOAD_IDLE):
            with self.storage.open("rb") as file:
                file.seek(self.given)
                part = file.read(room)
            self.given += len(part)
            self.state = _UPLOAD_IDLE if len(part) == room else _IDLE
            return part
        self.state, self.status = _ERROR, 15
        raise USBError("Pipe error", errno=errno.EPIPE)

    def _downloaded(self, block: int, data: bytes) -> bytes:
        if not data:
            self.state = _MANIFEST_SYNC
            return b""
        if block != self.blocks & 0xFFFF or len(data) > self.transfer:
            self.state, self.status = _ERROR, 15
        elif len(self.data) + len(data) > self.size:
            self.state, self.status = _ERROR, 8
        elif self.fails_at is not None and len(self.data) <= self.fails_at < len(self.data) + len(data):
            self.state, self.status = _ERROR, 6
        else:
            self.data += data
            self.blocks += 1
            self.state = _DNLOAD_SYNC
        return b""

    def _told(self) -> bytes:
        wait = 0
        if self.state == _DNLOAD_SYNC:
            # Every other block it is busy for a moment.
            self.asked += 1
            self.state, wait = (_DNBUSY, 1) if self.asked % 2 else (_DNLOAD_IDLE, 0)
        elif self.state == _DNBUSY:
            self.state = _DNLOAD_IDLE
        elif self.state == _MANIFEST_SYNC:
            self.state, wait = _MANIFEST, 1
        elif self.state == _MANIFEST:
            if self.flips is not None:
                self.data[self.flips] ^= 1
            self.storage.write_bytes(self.data)
            self.data.clear()
            self.state, self.blocks, self.given = _IDLE, 0, 0
        return bytes((self.status,)) + wait.to_bytes(3, "little") + bytes((self.state, 0))
