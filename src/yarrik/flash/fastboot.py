"""Storage of a board whose bootloader speaks fastboot over TCP.

Written from the protocol's description (AOSP, system/core/fastboot/README.md: commands, and "TCP Protocol v1"). It takes sparse
images and cannot read: what reached the storage is known from the bootloader's own word alone.
"""

from __future__ import annotations

import contextlib
import errno
import re
from pathlib import Path
from typing import BinaryIO, NoReturn

from yarrik.disk import sparse_piece
from yarrik.errors import Trouble, YarrikError
from yarrik.flash.devices import Device
from yarrik.flash.network import connected
from yarrik.flash.source import Source
from yarrik.patterns import lazy_pattern

_HANDSHAKE = b"FB01"
_PORT = 5554
#: Bytes of an answer: 64 in the protocol's first form, 256 in later ones. More is no answer.
_LONGEST = 4096
#: What is downloaded at once (bytes) when the board says nothing of it, and at most.
_USUAL_DOWNLOAD, _MOST_DOWNLOAD, _LEAST_DOWNLOAD = 16 << 20, 64 << 20, 64 << 10
#: Blocks of a sparse image are counted in 32 bits (bytes).
_LARGEST = (1 << 32) * 512 - (1 << 30)
#: Seconds for an answer: erasing flash takes its time.
_ANSWER = 120.0
_MOST_INFOS = 10_000
_URI = lazy_pattern(r"fastboot://(\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9._-]+)(?::(\d{1,5}))?/([A-Za-z0-9._-]{1,36})\Z")
_BLOCK = 512


class FastbootTarget:
    """A partition, or a whole device, as the bootloader calls it: `fastboot://HOST[:PORT]/NAME`. Raises YarrikError."""

    reads = False
    in_order = False

    def __init__(self, word: str, source: Source) -> None:
        match = _URI.match(word)
        if match is None or not 0 < int(match[2] or _PORT) < 65536:
            raise YarrikError(Trouble("FLASH-UNKNOWN", f"{word} is no address of storage",
                                      why="the bootloader has a name for what is to be written",
                                      remedy="write fastboot://HOST:PORT/PARTITION"))  # fmt: skip
        host, port, self._name = match[1].strip("[]"), int(match[2] or _PORT), match[3]
        #: One partition of the image goes to the beginning of the board's.
        self._begin = source.begin
        self._socket = connected(word, host, port, "the board's bootloader has to be in its fastboot mode",
                                 "start it there, and look for address and port")  # fmt: skip
        try:
            self._socket.settimeout(_ANSWER)
            self._socket.sendall(_HANDSHAKE)
            answer = self._take(4)
            if not re.fullmatch(rb"FB\d\d", answer):
                raise OSError(errno.EPROTO, "no fastboot is there")
            model, serial = self._variable("product"), self._variable("serialno")
            size = _number(self._variable(f"partition-size:{self._name}"))
            if size > _LARGEST:
                raise OSError(errno.EPROTO, "what it says of its storage cannot be")
            wanted = _number(self._variable("max-download-size")) or _USUAL_DOWNLOAD
        except OSError as error:
            self._socket.close()
            raise YarrikError(Trouble("FLASH-UNKNOWN", f"{word} does not answer: {error.strerror or error}",
                                      remedy="start the bootloader's fastboot mode anew")) from error  # fmt: skip
        if wanted < _LEAST_DOWNLOAD:
            self._socket.close()
            raise YarrikError(Trouble("FLASH-SMALL", f"{word} takes {wanted} bytes at once, which is too little",
                                      remedy="give the bootloader a larger buffer"))  # fmt: skip
        self._most = min(wanted, _MOST_DOWNLOAD) - 4096
        whole = self._begin + size if size else source.end
        self.device = Device(
            self._name, Path("/dev/null"), (0, 0), -(-whole // _BLOCK) * _BLOCK, _BLOCK,
            model=model or "board in fastboot mode", serial=serial, bus="fastboot", removable=True, address=word,
        )  # fmt: skip
        #: What the board does not have yet: where, and bytes or a length of zeros.
        self._waiting: list[tuple[int, bytes | int]] = []
        self._held = 0

    # The wire

    def _take(self, length: int) -> bytes:
        data = b""
        while len(data) < length:
            part = self._socket.recv(length - len(data))
            if not part:
                raise OSError(errno.ENODEV, "the connection ended")
            data += part
        return data

    def _send(self, data: bytes) -> None:
        self._socket.sendall(len(data).to_bytes(8, "big"))
        self._socket.sendall(data)

    def _answer(self) -> tuple[bytes, str]:
        """The kind of an answer, and its text; words on the way to it are passed over."""
        for _ in range(_MOST_INFOS):
            length = int.from_bytes(self._take(8), "big")
            if not 4 <= length <= _LONGEST:
                raise OSError(errno.EPROTO, "its answer is none")
            data = self._take(length)
            if data[:4] not in (b"INFO", b"TEXT"):
                text = "".join(sign if sign.isprintable() else "?" for sign in data[4:].decode("utf-8", "replace"))
                return data[:4], text.strip()[:200]
        raise OSError(errno.EPROTO, "it comes to no answer")

    def _variable(self, name: str) -> str:
        self._send(f"getvar:{name}".encode())
        kind, text = self._answer()
        return text if kind == b"OKAY" else ""

    def _command(self, command: str, wanted: bytes = b"OKAY") -> str:
        self._send(command.encode())
        kind, text = self._answer()
        if kind != wanted:
            raise OSError(errno.EIO, f"it says: {text or kind.decode('ascii', 'replace')}")
        return text

    # Storage

    def write(self, at: int, data: memoryview) -> None:
        step = (self._most - 64) // _BLOCK * _BLOCK
        for start in range(0, len(data), step):
            part = bytes(data[start : start + step])
            self._wait(at + start - self._begin, part, len(part))

    def zero(self, at: int, length: int) -> None:
        self._wait(at - self._begin, length, 0)

    def _wait(self, at: int, what: bytes | int, held: int) -> None:
        """Keeps a range for the next piece; before one that is too large, or has it already, that piece goes out."""
        length = what if isinstance(what, int) else len(what)
        if not length:
            return
        again = any(at < one + (other if isinstance(other, int) else len(other)) and one < at + length
                    for one, other in self._waiting)  # fmt: skip
        if again or self._held + held + 64 > self._most:
            self._flash()
        self._waiting.append((at, what))
        self._held += held + 64  # chunks around it

    def discard(self, at: int, length: int) -> None:
        """Nothing: what the protocol erases is a whole partition."""

    def settle(self) -> None:
        self._flash()

    @property
    def _size(self) -> int:
        return self.device.size - self._begin

    def _flash(self) -> None:
        """Gives the board what waits, as a sparse image that skips all else."""
        waiting, self._waiting, self._held = sorted(self._waiting, key=lambda one: one[0]), [], 0
        if waiting:
            self._sent(sparse_piece(self._size, waiting, _BLOCK))

    def _sent(self, piece: bytes) -> None:
        try:
            told = self._command(f"download:{len(piece):08x}", b"DATA")
            if told.lower() != f"{len(piece):08x}":
                raise OSError(errno.EPROTO, "it wants another length than it was told")
            self._send(piece)
            kind, text = self._answer()
            if kind != b"OKAY":
                raise OSError(errno.EIO, f"it says: {text}")
            self._command(f"flash:{self._name}")
        except (BrokenPipeError, ConnectionError, TimeoutError) as error:
            raise OSError(errno.ENODEV, "the connection ended") from error

    def read_into(self, at: int, room: memoryview) -> NoReturn:
        raise OSError(errno.ENOTSUP, "the protocol cannot read")

    def look(self) -> BinaryIO:
        raise OSError(errno.ENOTSUP, "the protocol cannot read")

    def read_table_again(self) -> bool:
        return True  # nobody here has one of it

    def moved(self) -> str:
        return ""  # it is the connection that was asked about, or it is gone

    def close(self) -> None:
        with contextlib.suppress(OSError):
            self._socket.close()


def _number(text: str) -> int:
    """A number as boards write them: hexadecimal with 0x, or decimal; 0 for none."""
    match = re.fullmatch(r"0[xX]([0-9A-Fa-f]{1,16})|(\d{1,19})", text)
    return 0 if match is None else int(match[1], 16) if match[1] else int(match[2])
