"""Sending a file to a board over its console: XMODEM and YMODEM.

Written from "XMODEM/YMODEM Protocol Reference" (C. Forsberg, 1988), under its names. Bootloaders and small systems have the
receiving side: a bootloader's load commands, `rx` and `rb`.
"""

from __future__ import annotations

import binascii
import select
import time
from collections.abc import Callable, Iterator
from typing import Literal, Protocol

#: `xmodem` is known everywhere, and pads the file to whole blocks; `ymodem` sends name and length along.
Form = Literal["xmodem", "xmodem-1k", "ymodem"]

SOH, STX, EOT, ACK, NAK, CAN = b"\x01", b"\x02", b"\x04", b"\x06", b"\x15", b"\x18"
#: What a receiver says that wants a CRC instead of a checksum.
CRC = b"C"
#: What fills the last block (CP/M's end of a file).
_SUB = b"\x1a"
#: Cancels, then erases what a shell would take for typed text.
_CANCEL = CAN * 8 + b"\x08" * 8
#: Seconds: for a receiver to begin (reference, 7.3.2), for its answer to a block, and of silence after its first sign. The
#: letter C may be part of what the console says before; the sign is followed by nothing.
BEGIN, _ANSWER, _SILENCE = 60.0, 10.0, 0.2
_TRIES = 10


class TransferFailed(Exception):
    """A file did not get through. The message says why, in words to be shown."""


class Duplex(Protocol):
    """Both ways to a receiver."""

    def fileno(self) -> int:
        """The descriptor that is readable when something came."""

    def read(self) -> bytes:
        """What came; nothing at the end. Raises OSError."""

    def write(self, data: bytes) -> None:
        """Sends all of `data`. Raises OSError."""


def send_file(
    line: Duplex,
    name: str,
    data: bytes,
    form: Form,
    say: Callable[[int], None] = lambda sent: None,
    stopped: Callable[[], bool] = lambda: False,
    begin_seconds: float = BEGIN,
) -> None:
    """Sends a file to a receiver that was started, or will be within `begin_seconds`. `say` hears the bytes that got through;
    once `stopped` is true, the receiver is told to give up. Raises TransferFailed, and OSError of the line."""
    answers = _Answers(line, stopped)
    try:
        with_crc = answers.begun(begin_seconds)
        if form == "ymodem":
            if not with_crc:
                raise TransferFailed("the receiver wants XMODEM's checksums: it knows no YMODEM")
            header = name.encode("utf-8", "surrogateescape").replace(b"\0", b"?") + b"\0" + str(len(data)).encode()
            if len(header) > 1024:
                raise TransferFailed("the file's name is too long for YMODEM")
            _send_block(line, answers, 0, header.ljust(128 if len(header) <= 128 else 1024, b"\0"), True)
            answers.begun(_ANSWER)
        sent = 0
        for number, block in enumerate(_blocks(data, 128 if form == "xmodem" or not with_crc else 1024), 1):
            _send_block(line, answers, number % 256, block, with_crc)
            sent = min(sent + len(block), len(data))
            say(sent)
        _end(line, answers)
        if form == "ymodem":
            answers.begun(_ANSWER)
            _send_block(line, answers, 0, bytes(128), True)  # a block without a name: no more files
    except TransferFailed:
        line.write(_CANCEL)
        raise


def _blocks(data: bytes, size: int) -> Iterator[bytes]:
    """The file in blocks; what is left at the end of one in small blocks, so that little is padded."""
    view = memoryview(data)
    whole = len(data) // size * size
    for begin in range(0, whole, size):
        yield bytes(view[begin : begin + size])
    for begin in range(whole, len(data), 128):
        yield bytes(view[begin : begin + 128]).ljust(128, _SUB)


def _send_block(line: Duplex, answers: _Answers, number: int, block: bytes, with_crc: bool) -> None:
    check = binascii.crc_hqx(block, 0).to_bytes(2, "big") if with_crc else (sum(block) & 0xFF).to_bytes(1, "big")
    packet = (STX if len(block) == 1024 else SOH) + bytes([number, 255 - number]) + block + check
    for _ in range(_TRIES):
        line.write(packet)
        if answers.accepted():
            return
    raise TransferFailed(f"block {number} came to no end in {_TRIES} tries: the line loses or changes bytes")


def _end(line: Duplex, answers: _Answers) -> None:
    for _ in range(_TRIES):
        line.write(EOT)
        # A careful receiver refuses the first one, to see that it is no noise (reference, 7.3.3).
        if answers.accepted():
            return
    raise TransferFailed("the receiver does not take the file's end")


class _Answers:
    """What the receiver says, a byte at a time."""

    def __init__(self, line: Duplex, stopped: Callable[[], bool]) -> None:
        self._line, self._stopped = line, stopped
        self._left = b""

    def _byte(self, deadline: float) -> bytes:
        """The next byte; nothing when the time is over."""
        while not self._left:
            if self._stopped():
                raise TransferFailed("it was stopped")
            wait = deadline - time.monotonic()
            if wait <= 0:
                return b""
            if select.select([self._line], [], [], min(wait, 0.2))[0]:
                self._left = self._line.read()
                if not self._left:
                    raise TransferFailed("the line ended")
        first, self._left = self._left[:1], self._left[1:]
        return first

    def begun(self, seconds: float) -> bool:
        """Waits for the receiver's first sign; True when it wants a CRC, False for a checksum."""
        deadline = time.monotonic() + seconds
        while True:
            sign = self._byte(deadline)
            if not sign:
                raise TransferFailed(f"no receiver began within {seconds:.0f} s")
            if sign in (CRC, NAK) and not self._left and not select.select([self._line], [], [], _SILENCE)[0]:
                return sign == CRC
            if sign == CAN and self._byte(time.monotonic() + 1) == CAN:
                raise TransferFailed("the receiver cancelled it")

    def accepted(self) -> bool:
        """Whether the receiver took the last block; False when it wants it again."""
        deadline = time.monotonic() + _ANSWER
        while True:
            sign = self._byte(deadline)
            if sign == ACK:
                return True
            if sign in (NAK, b""):
                return False
            if sign == CAN and self._byte(time.monotonic() + 1) == CAN:
                raise TransferFailed("the receiver cancelled it")
            # Other bytes are signs of the beginning that came late, or noise.
