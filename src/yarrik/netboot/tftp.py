"""A TFTP server that only gives: RFC 1350, options by RFC 2347 (blksize 2348, timeout and tsize 2349, windowsize 7440)."""

from __future__ import annotations

import contextlib
import selectors
import socket
import struct
import time
from collections.abc import Callable

import msgspec

from yarrik.errors import Damaged, Unfit
from yarrik.netboot.offering import Offered, OfferedFile, Request

#: RFC 1350, section 5; OACK is of RFC 2347.
_RRQ, _WRQ, _DATA, _ACK, _ERROR, _OACK = 1, 2, 3, 4, 5, 6
_NOT_FOUND, _ACCESS, _FULL, _ILLEGAL, _OPTION = 1, 2, 3, 4, 8
_BLOCK = 512
#: Limits of the options (RFC 2348, 2349, 7440); larger windows than this lose more than they win.
_BLOCKS, _TIMEOUTS, _WINDOWS = (8, 65464), (1, 255), (1, 64)
#: Seconds before something is sent again, and how many times: a client that is gone is forgotten then.
_AGAIN, _TRIES = 1.0, 5
_MOST_TRANSFERS = 100
#: A file in the mode of texts is changed as a whole (bytes).
_LARGEST_TEXT = 16 << 20


class _Transfer(msgspec.Struct):
    """A file on its way. `acked` counts blocks from 0, without end; on the wire they are 16 bits."""

    socket: socket.socket
    peer: tuple[str, int]
    name: str
    offered: OfferedFile
    size: int
    text: bytes | None
    block: int = _BLOCK
    window: int = 1
    again: float = _AGAIN
    opening: bytes = b""
    acked: int = -1
    sent: int = 0
    due: float = 0.0
    tries: int = 0
    began: float = msgspec.field(default_factory=time.monotonic)

    @property
    def client(self) -> str:
        """The client's address."""
        return self.peer[0]

    @property
    def last(self) -> int:
        """The number of the last block: one that is not full, and may be empty."""
        return self.size // self.block + 1

    def send_window(self) -> None:
        """Sends what comes after what was acknowledged."""
        self.due = time.monotonic() + self.again * (1 << min(self.tries, 3))
        if self.acked < 0:
            self.socket.send(self.opening)
            return
        for number in range(self.acked + 1, min(self.acked + self.window, self.last) + 1):
            at = (number - 1) * self.block
            data = self.text[at : at + self.block] if self.text is not None else self.offered.read(at, self.block)
            self.socket.send(struct.pack("!HH", _DATA, number & 0xFFFF) + data)
            self.sent = number


class TftpServer:
    """Serves on one address, in the thread that calls `serve`. Raises OSError when address or port cannot be had."""

    def __init__(
        self, address: str, port: int, offered: Callable[[], Offered], hear: Callable[[Request], None] = lambda one: None
    ) -> None:
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        self._address, self._family = address, family
        self._socket = socket.socket(family, socket.SOCK_DGRAM)
        try:
            self._socket.bind((address, port))
        except OSError:
            self._socket.close()
            raise
        self._socket.setblocking(False)
        self._offered, self._hear = offered, hear
        self._transfers: dict[socket.socket, _Transfer] = {}
        self.port = int(self._socket.getsockname()[1])

    def serve(self, stopped: Callable[[], bool]) -> None:
        """Answers until `stopped` is true, which is asked several times a second."""
        with selectors.DefaultSelector() as self._selector:
            self._selector.register(self._socket, selectors.EVENT_READ)
            while not stopped():
                due = min((one.due for one in self._transfers.values()), default=time.monotonic() + 0.2)
                for key, _ in self._selector.select(max(0.0, min(0.2, due - time.monotonic()))):
                    if key.fileobj is self._socket:
                        self._asked()
                    else:
                        self._answered(self._transfers[key.fileobj])  # type: ignore[index]
                now = time.monotonic()
                for one in [one for one in self._transfers.values() if one.due <= now]:
                    one.tries += 1
                    if one.tries > _TRIES:
                        self._end(one, "broken")
                    else:
                        self._guarded(one, one.send_window)
            for one in list(self._transfers.values()):
                self._end(one, "broken")

    def close(self) -> None:
        """Gives the port back."""
        self._socket.close()

    # A request

    def _asked(self) -> None:
        try:
            data, client = self._socket.recvfrom(2048)
        except OSError:
            return
        words = data[2:].split(b"\0")
        operation = int.from_bytes(data[:2], "big") if len(data) >= 2 else 0
        if operation == _WRQ:
            self._refuse(client, _ACCESS, "nothing is taken here", _shown(words[0]), "refused")
            return
        # Acknowledgements and errors of others' transfers are no requests, and an error is never answered with one.
        if operation != _RRQ:
            return
        if len(words) < 3 or words[-1] or words[1].lower() not in (b"octet", b"netascii"):
            self._refuse(client, _ILLEGAL, "this is no request in the mode octet or netascii", _shown(words[0]), "refused")
            return
        name = words[0].decode("utf-8", "surrogateescape")
        offered = self._offered().find(name)
        if offered is None:
            self._refuse(client, _NOT_FOUND, "not offered", name, "unknown")
            return
        again = next((one for one in self._transfers.values() if one.peer == client[:2] and one.name == name), None)
        if again is not None:
            if again.acked <= 0:
                return  # the same request once more: its answer is on its way
            self._end(again, "broken")  # a client that begins anew
        if len(self._transfers) >= _MOST_TRANSFERS:
            self._refuse(client, _FULL, "too many transfers at a time", name, "refused")
            return
        try:
            text = _as_text(offered) if words[1].lower() == b"netascii" else None
            size = offered.size if text is None else len(text)
        except (OSError, Damaged, Unfit) as error:
            self._refuse(client, 0, str(error), name, "broken")
            return
        options = dict(zip((one.lower() for one in words[2:-1:2]), words[3:-1:2], strict=False))
        self._begin(client, name, offered, size, text, options)

    def _begin(
        self, client: tuple[str, int], name: str, offered: OfferedFile, size: int, text: bytes | None,
        options: dict[bytes, bytes],
    ) -> None:  # fmt: skip
        own = socket.socket(self._family, socket.SOCK_DGRAM)
        own.bind((self._address, 0))
        own.connect(client)  # the kernel keeps what others send away from it
        own.setblocking(False)
        transfer = _Transfer(own, client[:2], name, offered, size, text)
        granted: list[tuple[bytes, int]] = []
        # An option that is not known, or out of its bounds, is left out of the answer (RFC 2347).
        if (block := _number(options.get(b"blksize"), _BLOCKS, cut=True)) is not None:
            transfer.block = block
            granted.append((b"blksize", block))
        if (seconds := _number(options.get(b"timeout"), _TIMEOUTS)) is not None:
            transfer.again = float(seconds)
            granted.append((b"timeout", seconds))
        if (window := _number(options.get(b"windowsize"), _WINDOWS, cut=True)) is not None:
            transfer.window = window
            granted.append((b"windowsize", window))
        if b"tsize" in options and text is None:
            granted.append((b"tsize", size))
        if granted:
            transfer.opening = struct.pack("!H", _OACK) + b"".join(key + b"\0%d\0" % value for key, value in granted)
        else:
            transfer.acked = 0
        self._transfers[own] = transfer
        self._selector.register(own, selectors.EVENT_READ)
        self._guarded(transfer, transfer.send_window)

    def _refuse(self, client: tuple[str, int], code: int, why: str, name: str, outcome: str) -> None:
        with contextlib.suppress(OSError):
            self._socket.sendto(struct.pack("!HH", _ERROR, code) + why.encode() + b"\0", client)
        self._hear(Request(client[0], "tftp", name, outcome))  # type: ignore[arg-type]

    # A transfer

    def _answered(self, one: _Transfer) -> None:
        try:
            data = one.socket.recv(2048)
        except OSError:
            self._end(one, "broken")  # nobody listens there any more
            return
        if len(data) < 4:
            return
        operation, number = struct.unpack("!HH", data[:4])
        if operation == _ERROR:
            # A client that only wanted the length stops so (RFC 2349).
            self._end(one, "sent" if one.acked < 0 else "broken")
            return
        if operation != _ACK:
            return
        if one.acked < 0:
            if number == 0:
                one.acked, one.tries = 0, 0
                self._guarded(one, one.send_window)
            return
        ahead = (number - one.acked) & 0xFFFF
        # What was acknowledged before is not answered: each answer would double all that follow (RFC 1123, 4.2.3.1).
        if not 0 < ahead <= one.sent - one.acked:
            return
        one.acked += ahead
        one.tries = 0
        if one.acked >= one.last:
            self._end(one, "sent")
        else:
            self._guarded(one, one.send_window)

    def _guarded(self, one: _Transfer, work: Callable[[], None]) -> None:
        try:
            work()
        except BlockingIOError:
            pass  # the network is full: it is sent again in its time
        except OSError:
            self._end(one, "broken")

    def _end(self, one: _Transfer, outcome: str) -> None:
        if self._transfers.pop(one.socket, None) is None:
            return
        self._selector.unregister(one.socket)
        one.socket.close()
        done = min(max(one.acked, 0) * one.block, one.size)
        self._hear(Request(one.client, "tftp", one.name, outcome, done, time.monotonic() - one.began))  # type: ignore[arg-type]


def _shown(word: bytes) -> str:
    return word[:200].decode("utf-8", "surrogateescape")


def _number(text: bytes | None, bounds: tuple[int, int], cut: bool = False) -> int | None:
    """A number of an option; None for one out of its bounds. Where a smaller one may be answered, it is `cut`."""
    if text is None or not text.isdigit() or len(text) > 9:
        return None
    value = min(int(text), bounds[1]) if cut else int(text)
    return value if bounds[0] <= value <= bounds[1] else None


def _as_text(offered: OfferedFile) -> bytes:
    """The file in the mode of texts (RFC 764): lines end with CR LF, and CR alone is CR NUL. Raises Unfit for a large one."""
    if offered.size > _LARGEST_TEXT:
        raise Unfit("too large for the mode of texts: ask for octet")
    return offered.read(0, _LARGEST_TEXT).replace(b"\r", b"\r\0").replace(b"\n", b"\r\n")
