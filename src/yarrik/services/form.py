"""What a form of services is: the files that an init reads."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from yarrik.rootfs import OwnPath
from yarrik.services.settle import OneService


@dataclass(frozen=True)
class ServiceForm:
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


def service_link(path: str, to: str, one: OneService) -> OwnPath:
    """A link that turns a service on."""
    return OwnPath(path=path, kind="link", mode=0o777, content=to, origin=one.origin)
