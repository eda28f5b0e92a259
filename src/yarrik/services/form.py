"""What a form of services is: the files that an init reads."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from yarrik.rootfs import OwnPath
from yarrik.services.settle import OneService


class ServiceForm(msgspec.Struct, frozen=True):
    """One way of writing services down. A new one is an object of this type in a module of its own, and a line in the table
    `SERVICE_FORMS`.

    `write` gives files and links of all services, which come in the order of their start. `lacks` tells what of a service the
    form cannot say: nothing of it may be lost. `programs` are those that its files call."""

    name: str
    write: Callable[[Sequence[OneService]], list[OwnPath]]
    lacks: Callable[[OneService], list[str]]
    programs: tuple[str, ...] = ()


def service_file(path: str, text: str, one: OneService, mode: int = 0o644) -> OwnPath:
    """A file of a service."""
    return OwnPath(path=path, kind="file", mode=mode, content=text, origin=one.origin)


def unit_file(path: str, text: str, one: OneService) -> OwnPath:
    """A file of a service in a form that upstream programs write themselves: one that a package has there stays, since it says
    more. A service that the image changes would then be another than is said, so that is refused."""
    return OwnPath(
        path=path, kind="file", mode=0o644, content=text, origin=one.origin, gives_way_to=() if one.changed else one.packages,
        instead=f"change what the package has with a file of the image's own, {path.replace('/usr/lib/', '/etc/')}.d/own.conf",
    )  # fmt: skip


def service_link(path: str, to: str, one: OneService) -> OwnPath:
    """A link that turns a service on."""
    return OwnPath(path=path, kind="link", mode=0o777, content=to, origin=one.origin)
