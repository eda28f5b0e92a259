"""An HTTP server that only gives, with ranges (RFC 9110, section 14): the library's server, our table of names."""

from __future__ import annotations

import contextlib
import http.server
import socket
import threading
import time
import urllib.parse
from collections.abc import Callable

from yarrik.errors import Damaged, Unfit
from yarrik.netboot.offering import Offered, OfferedFile, Request
from yarrik.patterns import lazy_pattern

_PART = 1 << 20
#: Seconds without a byte after which a connection is closed; and how many there may be.
_IDLE = 60.0
_MOST_CONNECTIONS = 64
_RANGE = lazy_pattern(r"bytes=(\d{0,18})-(\d{0,18})\Z")


class _Handler(http.server.BaseHTTPRequestHandler):
    server: HttpServer
    protocol_version = "HTTP/1.1"
    timeout = _IDLE
    server_version = "yarrik"
    sys_version = ""

    def do_GET(self) -> None:
        self._give(True)

    def do_HEAD(self) -> None:
        self._give(False)

    def log_message(self, format: str, *words: object) -> None:
        """Nothing: what is said of a request is `Request`."""

    def _give(self, with_body: bool) -> None:
        began = time.monotonic()
        name = urllib.parse.unquote(urllib.parse.urlsplit(self.path).path, errors="surrogateescape")
        offered = self.server.offered()
        file = offered.find(name) if name.strip("/") else OfferedFile.of(_list(offered))
        if file is None:
            self._say(404, b"not offered\n", with_body)
            self._heard(name, "unknown", 0, began)
            return
        try:
            size, tag = file.size, f'"{file.tag}"'
        except (OSError, Damaged, Unfit) as error:
            self._say(500, f"{error}\n".encode("utf-8", "replace"), with_body)
            self._heard(name, "broken", 0, began)
            return
        if tag in [word.strip() for word in self.headers.get("If-None-Match", "").split(",")]:
            self.send_response(304)
            self.send_header("ETag", tag)
            self.end_headers()
            self._heard(name, "sent", 0, began)
            return
        begin, end = 0, size
        wanted = self.headers.get("Range")
        # A range of what was another file before is the whole of what it is now.
        if wanted is not None and self.headers.get("If-Range", tag) == tag and (match := _RANGE.match(wanted)):
            first, last = match.groups()
            if first:
                begin, end = int(first), min(size, int(last) + 1) if last else size
            elif last:
                begin = max(0, size - int(last))
            if begin >= size or begin >= end or not (first or last):
                self.send_response(416)
                self.send_header("Content-Range", f"bytes */{size}")
                self.send_header("Content-Length", "0")
                self.end_headers()
                self._heard(name, "refused", 0, began)
                return
            self.send_response(206)
            self.send_header("Content-Range", f"bytes {begin}-{end - 1}/{size}")
        else:
            self.send_response(200)
        self.send_header("Content-Type", "text/plain; charset=utf-8" if not name.strip("/") else "application/octet-stream")
        self.send_header("Content-Length", str(end - begin))
        self.send_header("Accept-Ranges", "bytes")
        self.send_header("ETag", tag)
        self.end_headers()
        at = begin
        try:
            while with_body and at < end:
                part = file.read(at, min(_PART, end - at))
                if not part:
                    raise OSError("the file ended")
                self.wfile.write(part)
                at += len(part)
        except OSError:
            self.close_connection = True
            self._heard(name, "broken", at - begin, began)
            return
        self._heard(name, "sent", at - begin, began)

    def _say(self, status: int, text: bytes, with_body: bool) -> None:
        self.send_response(status)
        self.send_header("Content-Type", "text/plain; charset=utf-8")
        self.send_header("Content-Length", str(len(text)))
        self.end_headers()
        if with_body:
            self.wfile.write(text)

    def _heard(self, name: str, outcome: str, size: int, began: float) -> None:
        client = str(self.client_address[0])
        self.server.hear(Request(client, "http", name, outcome, size, time.monotonic() - began))  # type: ignore[arg-type]


def _list(offered: Offered) -> bytes:
    return "".join(f"{name}\n" for name in offered.files).encode("utf-8", "surrogateescape")


class HttpServer(http.server.ThreadingHTTPServer):
    """Serves on one address, in threads of its own after `start`. Raises OSError when address or port cannot be had."""

    daemon_threads = True

    def __init__(
        self, address: str, port: int, offered: Callable[[], Offered], hear: Callable[[Request], None] = lambda one: None
    ) -> None:
        self.address_family = socket.AF_INET6 if ":" in address else socket.AF_INET
        self.offered, self.hear = offered, hear
        self._room = threading.BoundedSemaphore(_MOST_CONNECTIONS)
        super().__init__((address, port), _Handler)
        self.port = int(self.server_address[1])

    def server_bind(self) -> None:
        """Without asking a name service for this machine's own name, which may take long and is not shown."""
        self.socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        self.socket.bind(self.server_address)
        self.server_address = self.socket.getsockname()
        self.server_name, self.server_port = str(self.server_address[0]), int(self.server_address[1])

    def process_request(self, request: object, client_address: object) -> None:
        """One more connection, if there is room for it."""
        if not self._room.acquire(blocking=False):
            self.shutdown_request(request)  # type: ignore[arg-type]
            return
        super().process_request(request, client_address)  # type: ignore[arg-type]

    def process_request_thread(self, request: object, client_address: object) -> None:
        """Answers a connection; a client that goes away is none of our faults."""
        try:
            with contextlib.suppress(OSError):
                self.finish_request(request, client_address)  # type: ignore[arg-type]
        finally:
            self.shutdown_request(request)  # type: ignore[arg-type]
            self._room.release()

    def start(self) -> None:
        """Begins to answer."""
        threading.Thread(target=self.serve_forever, args=(0.2,), daemon=True).start()
