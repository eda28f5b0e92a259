"""A board in fastboot mode, over TCP: what a bootloader answers, with its storage in files."""

import contextlib
import io
import socket
import threading
from pathlib import Path

from yarrik.disk.flashing_form import CHUNK, FILL, HEADER, MAGIC, RAW
from yarrik.moving import Target


class Board:
    """`storage` are files by the bootloader's names; `most` is what it takes at once (bytes). `log` has all commands."""

    def __init__(
        self, storage: dict[str, Path], most: int = 256 << 10, fails: str = "", version: bytes = b"FB01", size: str = ""
    ) -> None:
        self.storage, self.most, self.fails, self.version, self.size = storage, most, fails, version, size
        self.log: list[str] = []
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port = self._server.getsockname()[1]
        threading.Thread(target=self._run, daemon=True).start()

    def close(self) -> None:
        self._server.close()

    def _run(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                client, _ = self._server.accept()
                with client, contextlib.suppress(EOFError, ConnectionError):
                    self._serve(client)

    def _serve(self, client: socket.socket) -> None:
        stream = client.makefile("rb")
        client.sendall(self.version)
        if stream.read(4) != b"FB01":
            return
        held = b""

        def say(text: str) -> None:
            data = text.encode()
            client.sendall(len(data).to_bytes(8, "big") + data)

        def packet() -> bytes:
            head = stream.read(8)
            if len(head) < 8:
                raise EOFError
            return stream.read(int.from_bytes(head, "big"))

        while True:
            command = packet().decode()
            self.log.append(command)
            word, _, rest = command.partition(":")
            if word == "getvar":
                known = {"product": "pier board", "serialno": "PB7", "max-download-size": f"{self.most:#x}", "version": "0.4"}
                known |= {
                    f"partition-size:{name}": self.size or f"{file.stat().st_size:#x}" for name, file in self.storage.items()
                }
                known |= {f"partition-type:{name}": "raw" for name in self.storage}
                say(f"OKAY{known[rest]}" if rest in known else "FAILno such variable")
            elif word == "download":
                size = int(rest, 16)
                if size > self.most:
                    say("FAILtoo large")
                    continue
                say(f"DATA{size:08x}")
                held = b""
                while len(held) < size:
                    held += packet()
                say("OKAY")
            elif word == "flash":
                say("INFOwriting")
                if rest not in self.storage or self.fails in ("flash", rest):
                    say("FAILworn out")
                    continue
                self._write(self.storage[rest], held)
                say("OKAY")
            else:
                say("FAILunknown command")

    @staticmethod
    def _write(file: Path, data: bytes) -> None:
        size = file.stat().st_size
        with file.open("r+b") as sink:
            if int.from_bytes(data[:4], "little") != MAGIC:
                sink.write(data)
                return
            source, header = io.BytesIO(data), HEADER.unpack(data[:28])
            source.seek(28)
            at = 0
            assert header["blocks"] * header["block"] <= size, "larger than the partition"
            for _ in range(header["chunks"]):
                chunk = CHUNK.unpack(source.read(12))
                length = chunk["blocks"] * header["block"]
                body = source.read(chunk["size"] - 12)
                sink.flush()
                if chunk["type"] in (RAW, FILL):
                    Target(sink.fileno()).put(at, body if chunk["type"] == RAW else body * (length // 4))
                at += length
