"""Storage of another machine over the open block protocol NBD, such as a board whose bootloader exports its own.

Written from the protocol's specification (NetworkBlockDevice/nbd, doc/proto.md and doc/uri.md), under its names. What the other
side says is checked before it is used: a length that lies ends the connection.
"""

from __future__ import annotations

import contextlib
import errno
import io
import os
import socket
import ssl
import struct
import threading
import urllib.parse
from pathlib import Path
from typing import BinaryIO

from yarrik.errors import Trouble, YarrikError
from yarrik.flash.devices import Device
from yarrik.patterns import lazy_pattern

_NBDMAGIC, _IHAVEOPT, _REPLY = b"NBDMAGIC", b"IHAVEOPT", 0x0003E889045565A9
_FLAG_FIXED_NEWSTYLE, _FLAG_NO_ZEROES = 1, 2
_OPT_EXPORT_NAME, _OPT_STARTTLS, _OPT_GO = 1, 5, 7
_REP_ACK, _REP_INFO, _REP_ERROR = 1, 3, 1 << 31
_REP_ERR_UNSUP, _REP_ERR_TLS_REQD, _REP_ERR_UNKNOWN = _REP_ERROR | 1, _REP_ERROR | 5, _REP_ERROR | 6
_INFO_EXPORT, _INFO_BLOCK_SIZE = 0, 3
_HAS_FLAGS, _READ_ONLY, _SEND_FLUSH, _SEND_TRIM, _SEND_WRITE_ZEROES = 1, 2, 4, 32, 64
_CMD_READ, _CMD_WRITE, _CMD_DISC, _CMD_FLUSH, _CMD_TRIM, _CMD_WRITE_ZEROES = 0, 1, 2, 3, 4, 6
_REQUEST, _SIMPLE_REPLY = 0x25609513, 0x67446698
#: What every server takes in one request (bytes), and what one of zeros or a trim may have: no data follow these.
_MOST, _MOST_EMPTY = 4 << 20, 64 << 20
_LONGEST_REPLY = 4096
_PORT = 10809
#: Seconds for the connection, and for each answer: flash storage may think for a while.
_CONNECT, _ANSWER = 10.0, 60.0
_URI = lazy_pattern(r"nbd(s?)://(\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9._-]+)(?::(\d{1,5}))?(?:/([^?]*))?(?:\?tls-certificates=(.+))?\Z")


def is_network(word: str) -> bool:
    """Whether a device is named by an address instead of a path."""
    return "://" in word


def connected(word: str, host: str, port: int, why: str, remedy: str) -> socket.socket:
    """A connection to what offers storage; `why` and `remedy` are said when there is none. Raises YarrikError."""
    try:
        return socket.create_connection((host, port), _CONNECT)
    except OSError as error:
        what = f"{word} cannot be reached: {error.strerror or error}"
        raise YarrikError(Trouble("FLASH-UNKNOWN", what, why=why, remedy=remedy)) from error


def _trusting(word: str, folder: str) -> ssl.SSLContext:
    """Whom a connection trusts: authorities of this machine, or the one of a folder (doc/uri.md, `tls-certificates`), which may
    have a certificate of our own as well. Raises YarrikError."""
    try:
        context = ssl.create_default_context(cafile=f"{folder}/ca-cert.pem" if folder else None)
        if folder and Path(folder, "client-cert.pem").exists():
            context.load_cert_chain(f"{folder}/client-cert.pem", f"{folder}/client-key.pem")
    except (OSError, ssl.SSLError) as error:
        what = f"{word}: the certificates of {folder} cannot be read: {error.strerror or error}"
        remedy = "put ca-cert.pem there, and client-cert.pem with client-key.pem where the server asks for them"
        raise YarrikError(Trouble("FLASH-UNKNOWN", what, remedy=remedy)) from error
    return context


class NetworkTarget:
    """An export of an NBD server, as storage. `word` is `nbd://HOST[:PORT][/EXPORT]`, or `nbds://…` for a connection by TLS,
    with `?tls-certificates=FOLDER` where the server's certificate is not by an authority of this machine.

    Raises YarrikError."""

    reads = True
    in_order = False

    def __init__(self, word: str) -> None:
        match = _URI.match(word)
        if match is None or not 0 < int(match[3] or _PORT) < 65536 or (match[5] and not match[1]):
            raise YarrikError(Trouble("FLASH-UNKNOWN", f"{word} is no address of storage",
                                      why="nbd://, nbds:// and fastboot:// are known here",
                                      remedy="write nbd://HOST:PORT/EXPORT"))  # fmt: skip
        host, port, export = match[2].strip("[]"), int(match[3] or _PORT), urllib.parse.unquote(match[4] or "")
        secure = _trusting(word, urllib.parse.unquote(match[5] or "")) if match[1] else None
        self._lock = threading.Lock()
        self._cookie = 0
        self._socket: socket.socket = connected(word, host, port, "the board's bootloader has to export its storage first",
                                 "start its NBD server, and look for address and port")  # fmt: skip
        try:
            self._socket.settimeout(_ANSWER)
            self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            size, self._flags, block = self._agree(export.encode(), host, secure)
        except OSError as error:
            self._socket.close()
            raise YarrikError(Trouble("FLASH-UNKNOWN", f"{word} does not offer it: {error.strerror or error}",
                                      remedy="look which exports the server has, and what it says")) from error  # fmt: skip
        name = export or f"{host}-{port}"
        shown = "".join(sign if sign.isprintable() else "?" for sign in name)[:64]
        self.device = Device(
            shown, Path("/dev/null"), (0, 0), size, block, model="storage over the network", bus="nbd", removable=True,
            read_only=bool(self._flags & _READ_ONLY), address=word,
        )  # fmt: skip

    # The beginning (proto.md, "Handshake phase")

    def _agree(self, export: bytes, host: str, secure: ssl.SSLContext | None) -> tuple[int, int, int]:
        """Begins TLS where that is wanted, and chooses the export; its size, the flags of its transmission, and its smallest
        block in bytes."""
        if self._take(8) != _NBDMAGIC or self._take(8) != _IHAVEOPT:
            raise OSError(errno.EPROTO, "no NBD server is there, or one of the old style")
        flags = int.from_bytes(self._take(2), "big")
        if not flags & _FLAG_FIXED_NEWSTYLE:
            raise OSError(errno.EPROTO, "its server has the old style of the protocol")
        self._socket.sendall(struct.pack("!I", flags & (_FLAG_FIXED_NEWSTYLE | _FLAG_NO_ZEROES)))
        if secure is not None:
            # Without it nothing goes on: a server, or somebody between, that has no TLS gets no data.
            self._socket.sendall(_IHAVEOPT + struct.pack("!II", _OPT_STARTTLS, 0))
            if self._option_reply(_OPT_STARTTLS)[0] != _REP_ACK:
                raise OSError(errno.EPROTO, "it has no TLS")
            try:
                self._socket = secure.wrap_socket(self._socket, server_hostname=host)
            except ssl.SSLCertVerificationError as error:
                raise OSError(errno.EPROTO, f"its certificate is not trusted: {error.verify_message}") from error
            except ssl.SSLError as error:
                raise OSError(errno.EPROTO, "no TLS could be agreed on") from error
        body = struct.pack("!I", len(export)) + export + struct.pack("!HH", 1, _INFO_BLOCK_SIZE)
        self._socket.sendall(_IHAVEOPT + struct.pack("!II", _OPT_GO, len(body)) + body)
        size, transmission, block = -1, 0, 512
        while True:
            kind, data = self._option_reply(_OPT_GO)
            if kind == _REP_ACK:
                break
            if kind == _REP_ERR_UNSUP:
                return self._agree_old(export, flags)
            if kind == _REP_ERR_TLS_REQD:
                raise OSError(errno.EPROTO, "it wants TLS: write nbds:// instead of nbd://")
            if kind == _REP_ERR_UNKNOWN:
                raise OSError(errno.ENOENT, f"it has no export `{export.decode()}`")
            if kind & _REP_ERROR:
                raise OSError(errno.EPROTO, f"it refuses ({kind & 0xFFFF})")
            what = int.from_bytes(data[:2], "big")
            if kind == _REP_INFO and what == _INFO_EXPORT and len(data) == 12:
                size, transmission = struct.unpack("!QH", data[2:])
            elif kind == _REP_INFO and what == _INFO_BLOCK_SIZE and len(data) == 14:
                block = max(512, struct.unpack("!III", data[2:])[0])
        return self._checked(size, transmission, block)

    def _agree_old(self, export: bytes, flags: int) -> tuple[int, int, int]:
        """The same with a server that only knows how to be given a name."""
        self._socket.sendall(_IHAVEOPT + struct.pack("!II", _OPT_EXPORT_NAME, len(export)) + export)
        size, transmission = struct.unpack("!QH", self._take(10))
        if not flags & _FLAG_NO_ZEROES:
            self._take(124)
        return self._checked(size, transmission, 512)

    @staticmethod
    def _checked(size: int, transmission: int, block: int) -> tuple[int, int, int]:
        if not 0 < size < 1 << 60 or not transmission & _HAS_FLAGS or block & (block - 1) or block > 65536:
            raise OSError(errno.EPROTO, "what it says of its storage cannot be")
        return size // block * block, transmission, block

    def _option_reply(self, option: int) -> tuple[int, bytes]:
        magic, about, kind, length = struct.unpack("!QIII", self._take(20))
        if magic != _REPLY or about != option or length > _LONGEST_REPLY:
            raise OSError(errno.EPROTO, "its answer is none")
        return kind, self._take(length)

    # Requests (proto.md, "Transmission phase")

    def _take(self, length: int) -> bytes:
        room = bytearray(length)
        self._take_into(memoryview(room))
        return bytes(room)

    def _take_into(self, room: memoryview) -> None:
        while room:
            try:
                done = self._socket.recv_into(room)
            except TimeoutError as error:
                raise OSError(errno.ENODEV, "no answer") from error
            if not done:
                raise OSError(errno.ENODEV, "the connection ended")
            room = room[done:]

    def _request(
        self, command: int, at: int, length: int, data: memoryview | None = None, room: memoryview | None = None
    ) -> None:
        with self._lock:
            self._cookie += 1
            try:
                self._socket.sendall(struct.pack("!IHHQQI", _REQUEST, 0, command, self._cookie, at, length))
                if data is not None:
                    self._socket.sendall(data)
                magic, failed, cookie = struct.unpack("!IIQ", self._take(16))
            except (BrokenPipeError, ConnectionError, TimeoutError) as error:
                raise OSError(errno.ENODEV, "the connection ended") from error
            if magic != _SIMPLE_REPLY or cookie != self._cookie:
                # Nothing that follows can be told apart any more.
                self._socket.close()
                raise OSError(errno.ENODEV, "its answer is none")
            if failed:
                # Numbers of errors are those of Linux (proto.md, "Error values").
                raise OSError(failed, os.strerror(failed) if failed < 4096 else "the server says no more")
            if room is not None:
                self._take_into(room)

    def write(self, at: int, data: memoryview) -> None:
        for start in range(0, len(data), _MOST):
            part = data[start : start + _MOST]
            self._request(_CMD_WRITE, at + start, len(part), part)

    def read_into(self, at: int, room: memoryview) -> None:
        for start in range(0, len(room), _MOST):
            part = room[start : start + _MOST]
            self._request(_CMD_READ, at + start, len(part), room=part)

    def zero(self, at: int, length: int) -> None:
        if self._flags & _SEND_WRITE_ZEROES:
            for start in range(at, at + length, _MOST_EMPTY):
                self._request(_CMD_WRITE_ZEROES, start, min(_MOST_EMPTY, at + length - start))
            return
        empty = memoryview(bytes(_MOST))
        for start in range(at, at + length, _MOST):
            self.write(start, empty[: min(_MOST, at + length - start)])

    def discard(self, at: int, length: int) -> None:
        if self._flags & _SEND_TRIM:
            for start in range(at, at + length, _MOST_EMPTY):
                with contextlib.suppress(InterruptedError):
                    self._request(_CMD_TRIM, start, min(_MOST_EMPTY, at + length - start))

    def settle(self) -> None:
        if self._flags & _SEND_FLUSH:
            self._request(_CMD_FLUSH, 0, 0)

    def read_table_again(self) -> bool:
        return True  # nobody here has one of it

    def look(self) -> BinaryIO:
        return io.BufferedReader(_Look(self), 1 << 16)

    def moved(self) -> str:
        return ""  # it is the connection that was asked about, or it is gone

    def close(self) -> None:
        with contextlib.suppress(OSError):
            self._socket.sendall(struct.pack("!IHHQQI", _REQUEST, 0, _CMD_DISC, 0, 0, 0))
        self._socket.close()


class _Look(io.RawIOBase):
    """The storage as a file to read."""

    def __init__(self, target: NetworkTarget) -> None:
        self._target, self._at = target, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, at: int, whence: int = 0) -> int:
        self._at = max(0, at + {0: 0, 1: self._at, 2: self._target.device.size}[whence])
        return self._at

    def readinto(self, room: bytearray | memoryview) -> int:  # type: ignore[override]
        length = max(0, min(len(room), self._target.device.size - self._at))
        if not length:
            return 0
        block = self._target.device.block
        begin = self._at // block * block
        end = -(-(self._at + length) // block) * block
        data = bytearray(end - begin)
        self._target.read_into(begin, memoryview(data))
        memoryview(room)[:length] = data[self._at - begin : self._at - begin + length]
        self._at += length
        return length
