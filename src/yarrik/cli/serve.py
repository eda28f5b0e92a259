"""`yarrik serve`: a product for boards that start from the network."""

from __future__ import annotations

import json as json_form
import socket
import sys
import threading
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal, TypeVar

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, names_of
from yarrik.units import counted, shown_seconds, shown_size

if TYPE_CHECKING:
    from yarrik.errors import YarrikError
    from yarrik.netboot import Offered, Request


Server = TypeVar("Server")


@app.command(
    epilog="Examples: [bold]yarrik serve tide-gauge --address 192.0.2.1[/bold] · "
    "[bold]yarrik serve tide-gauge --address 192.0.2.1 --root memory[/bold] (a board without storage) · "
    "[bold]yarrik serve tide-gauge --tftp 6969[/bold] (without root)"
)
def serve(
    image: Annotated[
        str,
        typer.Argument(metavar="IMAGE|PRODUCT", help="A product that is built, or an image file.",
                       autocompletion=names_of("product")),
    ],
    address: Annotated[
        str, typer.Option(metavar="ADDRESS", help="Which address of this machine; no other one is served.")
    ] = "127.0.0.1",
    tftp: Annotated[int, typer.Option(min=0, max=65535, help="The port for TFTP.")] = 69,
    http: Annotated[int, typer.Option(min=0, max=65535, help="The port for HTTP.")] = 8069,
    root: Annotated[
        Literal["disk", "memory"], typer.Option(help="Where the root filesystem is: on the board's disk, or sent along.")
    ] = "disk",
    disk: Annotated[str | None, typer.Option(metavar="NAME", help="Which disk of the product, if it has several.")] = None,
    seconds: Annotated[float | None, typer.Option(min=0.1, help="Ends after this time.", show_default=False)] = None,
    workspace: Annotated[Path | None, typer.Option(metavar="FOLDER", help="The workspace of the product.")] = None,
    json: JsonOption = False,
) -> None:  # fmt: skip
    """Offers a product to boards that start from the network, over TFTP and HTTP.

    That is kernel, device tree, initramfs, boot menu, root filesystem, and
    the product's other files. All is given, and nothing is taken. After a
    build, the next request gets what is new. With --json, each request is a
    line."""
    from yarrik.cli.flash import image_file
    from yarrik.netboot import HttpServer, Offering, TftpServer

    file = image_file(image, disk, workspace)
    product = file.parent if (file.parent / "SHA256SUMS").is_file() else None
    teller = _Teller(json)
    offering = Offering(file, root, product, teller.trouble)
    offered = offering.now()
    with closing(_bound(lambda: TftpServer(address, tftp, offering.now, teller.heard), "TFTP", address, tftp)) as by_tftp:
        by_http = _bound(lambda: HttpServer(address, http, offering.now, teller.heard), "HTTP", address, http)
        teller.begin(image, address, by_tftp.port, by_http.port, offered)
        by_http.start()
        end = None if seconds is None else time.monotonic() + seconds
        try:
            by_tftp.serve(lambda: end is not None and time.monotonic() > end)
        except KeyboardInterrupt:
            teller.end()
        finally:
            by_http.shutdown()
            by_http.server_close()


def _bound(make: Callable[[], Server], protocol: str, address: str, port: int) -> Server:
    """A server on its address and port. Raises YarrikError."""
    import errno

    from yarrik.errors import Trouble, YarrikError

    try:
        return make()
    except OSError as error:
        what = f"{protocol} cannot be served at {address}, port {port}: {error.strerror or error}"
        option = f"--{protocol.lower()}"
        if error.errno in (errno.EACCES, errno.EPERM):
            raise YarrikError(
                Trouble("SERVE-PORT", what, why="ports below 1024 are the administrator's",
                        remedy=f"give another one, such as {option} 6969, or run it as root: bootloaders ask at port 69")
            ) from error  # fmt: skip
        if error.errno == errno.EADDRINUSE:
            remedy = f"end the server that has it, or take another: {option} NUMBER"
            raise YarrikError(Trouble("SERVE-PORT", what, remedy=remedy)) from error
        remedy = f"this machine has {', '.join(_addresses()) or 'none'}"
        raise YarrikError(Trouble("SERVE-ADDRESS", what, remedy=remedy)) from error


def _addresses() -> list[str]:
    """The IPv4 addresses of this machine's interfaces, without the loopback one's (netdevice(7))."""
    import fcntl
    import struct

    found = []
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
        for _, name in socket.if_nameindex():
            try:
                answer = fcntl.ioctl(one, 0x8915, struct.pack("256s", name.encode()[:15]))  # SIOCGIFADDR
            except OSError:
                continue
            found.append(socket.inet_ntoa(answer[20:24]))
    return [address for address in found if not address.startswith("127.")]


#: Bootloaders ask for a menu under a dozen names, from the board's own to everybody's: a line for each says nothing.
_MENUS = "pxelinux.cfg/"
_STYLES = {"unknown": "dim", "broken": "red", "refused": "yellow"}


def _host(address: str) -> str:
    """An address as URLs have it."""
    return f"[{address}]" if ":" in address else address


class _Teller:
    """Says what is offered, and each request; requests come from several threads."""

    def __init__(self, json: bool) -> None:
        self._json = json
        self._lock = threading.Lock()
        self._sent = self._bytes = 0
        self._tried: dict[str, int] = {}

    def begin(self, name: str, address: str, tftp: int, http: int, offered: Offered) -> None:
        """What is offered, where, and what to type on the board."""
        from yarrik.cli.view import show_table, styled

        if self._json:
            self._line({"event": "serving", "address": address, "tftp": tftp, "http": http, "line": offered.line,
                        "files": [{"name": one, "about": file.about} for one, file in offered.files.items()]})  # fmt: skip
            return
        ports = f"TFTP port {tftp}, HTTP port {http}"
        sys.stdout.write(f"{styled(name, 'bold')} at {styled(address, 'bold')}: {ports}; all who reach it can read it\n")
        show_table([(styled(one, "bold"), styled(file.about, "dim")) for one, file in offered.files.items() if file.about])
        others = sum(not file.about for file in offered.files.values())
        sys.stdout.write(f"  and {counted(others, 'file')} of the product: http://{_host(address)}:{http}/\n")
        if address.startswith("127."):
            more = f": --address {_addresses()[0]}" if _addresses() else ""
            sys.stdout.write(f"only this machine reaches {address}; a board needs another address{more}\n")
        prompt = styled(f"setenv ipaddr THE-BOARDS; setenv serverip {address}; pxe get; pxe boot", "bold")
        sys.stdout.write(f"at the bootloader's prompt: {prompt}\n")
        sys.stdout.write("Ctrl-C ends\n")
        sys.stdout.flush()

    def heard(self, one: Request) -> None:
        """A request."""
        from yarrik.cli.terminal import one_line
        from yarrik.cli.view import styled
        from yarrik.errors import printable

        with self._lock:
            self._sent += one.outcome == "sent"
            self._bytes += one.bytes
            if self._json:
                self._line({"event": "request", "client": one.client, "protocol": one.protocol, "name": printable(one.name),
                            "outcome": one.outcome, "bytes": one.bytes, "seconds": round(one.seconds, 3)})  # fmt: skip
                return
            name = one.name.lstrip("/") or "/"
            if one.outcome == "unknown" and name.startswith(_MENUS):
                self._tried[one.client] = self._tried.get(one.client, 0) + 1
                return
            if one.outcome == "sent":
                took = shown_seconds(one.seconds) if one.seconds >= 10 else f"{one.seconds:.1f} s"
                words = f"{shown_size(one.bytes)} in {took}"
                if name.startswith(_MENUS) and (tried := self._tried.pop(one.client, 0)):
                    words += f", after {counted(tried, 'other name')}"
            else:
                broken = f"broke off at {shown_size(one.bytes)}"
                words = {"unknown": "not offered", "refused": "refused", "broken": broken}[one.outcome]
            now = time.strftime("%H:%M:%S", time.localtime())
            text = f"{now}  {one.client:<15}  {one.protocol}  {one_line(name)}  {words}"
            sys.stdout.write(styled(text, _STYLES.get(one.outcome, "")) + "\n")
            sys.stdout.flush()

    def trouble(self, error: YarrikError) -> None:
        """A new build that cannot be offered: the one before still is."""
        from yarrik.cli.view import show_error

        with self._lock:
            show_error(error, as_json=False)

    def end(self) -> None:
        """The person has ended it."""
        if not self._json:
            sys.stdout.write(f"\nended: {self._sent} requests answered, {shown_size(self._bytes)}\n")

    def _line(self, about: dict[str, object]) -> None:
        sys.stdout.write(json_form.dumps(about, ensure_ascii=True) + "\n")
        sys.stdout.flush()
