"""What tests of updates share: a plain server that knows ranges, and breaks off."""

import re
import socketserver
from http.server import BaseHTTPRequestHandler
from pathlib import Path


def cut_server(folder: Path, breaks: int = 0, ranges: bool = True) -> socketserver.ThreadingTCPServer:
    """Serves the files of a folder by HTTP; each answer breaks off after `breaks` bytes (0: never)."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            file = folder / self.path.rpartition("/")[2]
            if not file.is_file():
                self.send_error(404)
                return
            data = file.read_bytes()
            asked = re.fullmatch(r"bytes=(\d+)-", self.headers.get("Range", ""))
            begin = int(asked[1]) if asked and ranges else 0
            self.server.asked.append(begin)  # type: ignore[attr-defined]
            self.send_response(206 if asked and ranges else 200)
            if asked and ranges:
                self.send_header("Content-Range", f"bytes {begin}-{len(data) - 1}/{len(data)}")
            self.send_header("Content-Length", str(len(data) - begin))
            self.end_headers()
            self.wfile.write(data[begin : begin + breaks] if breaks else data[begin:])

        def log_message(self, *_: object) -> None:
            pass

    class Server(socketserver.ThreadingTCPServer):
        daemon_threads = True
        allow_reuse_address = True

    server = Server(("127.0.0.1", 0), Handler)
    server.asked = []  # type: ignore[attr-defined]
    return server
