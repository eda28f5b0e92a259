"""A board that does not exist, to try a console without hardware: a loader with a prompt, which follows the card in it.

It starts nothing. At `boot` it reads its card as hardware would, says how far that gets, and halts.
"""

from __future__ import annotations

import binascii
import contextlib
import errno
import select
import socket
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from yarrik.boot import board_beside, try_image
from yarrik.console.port import Port, PortFile, SimulatedSetup, open_port, switch_power
from yarrik.disk import opened_bytes
from yarrik.errors import Damaged

_HELP = "boot      start from the card\r\nreceive   take a file (YMODEM)\r\nreset     begin again\r\n"
_LONGEST = 256
_MOST_RECEIVED = 64 << 20


class Wire(Protocol):
    """The board's end of the serial line."""

    def ready(self, seconds: float) -> bool:
        """Whether something was typed, waiting so long for it."""

    def read(self) -> bytes:
        """What was typed; nothing at the line's end."""

    def write(self, data: bytes) -> None:
        """Says all of `data`."""


class _Wire:
    """A socket as the board's end of its line."""

    def __init__(self, end: socket.socket) -> None:
        self._end = end

    def ready(self, seconds: float) -> bool:
        return bool(select.select([self._end], [], [], seconds)[0])

    def read(self) -> bytes:
        return self._end.recv(4096)

    def write(self, data: bytes) -> None:
        self._end.sendall(data)


class _Reset(Exception):
    """Begins again."""


class SimulatedBoard:
    """The board at one end of a line. `run` returns when the line is closed."""

    def __init__(self, setup: SimulatedSetup, folder: Path, wire: Wire, clock: Callable[[], float] = time.monotonic) -> None:
        self._setup, self._folder, self._wire, self._clock = setup, folder, wire, clock
        self._switched = threading.Event()
        self._left = b""

    def switch(self) -> None:
        """Switches its power off and on."""
        self._switched.set()

    def run(self) -> None:
        """Lives until the other end of the line is closed."""
        with contextlib.suppress(EOFError, OSError):
            while True:
                with contextlib.suppress(_Reset):
                    self._loader()

    # The line

    def _say(self, text: str) -> None:
        self._wire.write(text.encode())

    def _key(self, seconds: float | None) -> bytes:
        """The next byte that was typed; nothing when the time is over. Raises _Reset when the power was switched."""
        end = None if seconds is None else self._clock() + seconds
        while not self._left:
            if self._switched.is_set():
                self._switched.clear()
                raise _Reset
            wait = 0.1 if end is None else min(0.1, end - self._clock())
            if wait <= 0:
                return b""
            if self._wire.ready(wait):
                self._left = self._wire.read()
                if not self._left:
                    raise EOFError
        first, self._left = self._left[:1], self._left[1:]
        return first

    # Its loader

    def _loader(self) -> None:
        setup = self._setup
        self._left = b""
        self._say(f"\r\n{setup.name} (simulated)\r\ncard: {self._card_words()}\r\n")
        for left in range(setup.wait, 0, -1):
            self._say(f"\rpress a key to stop: {left} ")
            if self._key(1):
                break
        else:
            self._say("\r\n")
            self._boot()
        self._say("\r\n")
        while True:
            self._say(setup.prompt)
            words = self._line().split()
            if words[:1] == ["help"]:
                self._say(_HELP)
            elif words[:1] == ["boot"]:
                self._boot()
            elif words[:1] == ["reset"]:
                return
            elif words[:1] == ["receive"]:
                self._receive()
            elif words:
                self._say(f"unknown: {words[0]} (try help)\r\n")

    def _line(self) -> str:
        line = b""
        while True:
            key = self._key(None)
            if key in b"\r\n":
                self._say("\r\n")
                return line.decode("ascii", "replace")
            if key in b"\x08\x7f":
                if line:
                    line = line[:-1]
                    self._say("\x08 \x08")
            elif key == b"\x03":
                self._say("^C\r\n" + self._setup.prompt)
                line = b""
            elif key >= b" " and len(line) < _LONGEST:
                line += key
                self._say(key.decode("ascii", "replace"))

    def _card(self) -> Path | None:
        card = self._folder / self._setup.card
        return card if self._setup.card and card.is_file() else None

    def _card_words(self) -> str:
        card = self._card()
        return "none" if card is None else f"{card.stat().st_size >> 20} MiB"

    def _boot(self) -> None:
        card = self._card()
        if card is None:
            self._say("no card: nothing to boot\r\n")
            return
        try:
            with opened_bytes(card) as (file, image):
                result = try_image(file, image, card.name, board_beside(card))
        except (OSError, Damaged) as error:
            self._say(f"the card cannot be read: {error}\r\n")
            return
        for told in result.story:
            self._say(f"{told.stage}: {told.text}\r\n")
        if result.stop is not None:
            self._say(f"stops: {result.stop.what}\r\n")
            return
        self._say("a real board would start init now; this one is made up, and halts\r\n")
        while True:
            self._key(None)

    # YMODEM's receiving side ("XMODEM/YMODEM Protocol Reference", C. Forsberg, 1988)

    def _receive(self) -> None:
        self._say("ready for a file (YMODEM)\r\n")
        header = self._block(0, b"C")
        if header is None:
            self._say("\r\nnothing came\r\n")
            return
        name, _, rest = header.partition(b"\0")
        words = rest.split(b"\0")[0].split()
        size = int(words[0]) if words and words[0].isdigit() else None
        data, number, sign = bytearray(), 1, b"\x06C"
        while (block := self._block(number % 256, sign)) is not None and len(data) < _MOST_RECEIVED:
            data += block
            number, sign = number + 1, b"\x06"
        self._block(0, b"\x06C")
        self._say("\x06")
        self._key(0.3)
        if size is not None:
            del data[size:]
        self._say(f"\r\nreceived {name.decode('ascii', 'replace')}: {len(data)} bytes, CRC-32 {binascii.crc32(data):08x}\r\n")

    def _block(self, number: int, sign: bytes) -> bytes | None:
        """The block of this number, asked for with `sign`; None at the file's end, or when nothing comes."""
        ask = sign
        for _ in range(30):
            self._wire.write(ask)
            first = self._key(1)
            if first == b"\x04":
                return None
            if first not in (b"\x01", b"\x02") or not first:
                ask = sign if not first else b""
                if first == b"\x18":
                    return None
                continue
            length = 128 if first == b"\x01" else 1024
            rest = b"".join(self._key(1) for _ in range(2 + length + 2))
            block = rest[2:-2]
            whole = len(rest) == length + 4 and rest[0] == 255 - rest[1]
            if whole and rest[0] == number and binascii.crc_hqx(block, 0) == int.from_bytes(rest[-2:], "big"):
                return block
            ask = b"\x06" if whole and rest[0] == (number - 1) % 256 else b"\x15"
        return None


class SimulatedPort:
    """The other end of a simulated board's line, as a port."""

    enter = b"\r"

    def __init__(self, about: PortFile) -> None:
        assert about.simulated is not None
        self.name = about.simulated.name
        self._ours, self._boards = socket.socketpair()
        self._board = SimulatedBoard(about.simulated, about.file.parent, _Wire(self._boards))
        threading.Thread(target=self._live, daemon=True).start()

    def _live(self) -> None:
        self._board.run()
        self._boards.close()

    def switch(self) -> None:
        """Switches the board's power off and on."""
        self._board.switch()

    def fileno(self) -> int:
        return self._ours.fileno()

    def read(self) -> bytes:
        try:
            return self._ours.recv(65536)
        except OSError as error:
            if error.errno == errno.EBADF:
                raise
            return b""

    def write(self, data: bytes) -> None:
        self._ours.sendall(data)

    def send_break(self) -> bool:
        return False

    def close(self) -> None:
        with contextlib.suppress(OSError):
            self._ours.shutdown(socket.SHUT_RDWR)
        self._ours.close()


def open_console(about: PortFile) -> Port:
    """The port that a file describes, or a simulated board's. Raises YarrikError."""
    return open_port(about.port) if about.simulated is None else SimulatedPort(about)


def power_switch(about: PortFile, port: Port, say: Callable[[str], None]) -> Callable[[], None] | None:
    """What switches the board's power off and on; None when nothing is declared. `say` hears each command before it runs."""
    if isinstance(port, SimulatedPort):
        return port.switch
    commands = [one for one in (about.port.power_off, about.port.power_on, about.port.power_cycle) if one]

    def switch() -> None:
        for command in commands:
            say(" ".join(command))
            switch_power(command, about.file)

    return switch if commands else None
