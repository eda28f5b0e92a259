"""What a form of network interfaces is: the files that set them up."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from yarrik.model import Interface
from yarrik.rootfs import OwnPath
from yarrik.services import OneService


class NetworkForm(msgspec.Struct, frozen=True):
    """One way of writing interfaces down. A new one is an object of this type in a module of its own, and a line in the table
    `NETWORK_FORMS`.

    `write` gives the files of all interfaces, which come in the order in which they are set up. `lacks` tells what of an
    interface the form cannot say: nothing of it may be lost. `services` are those of the image that set them up, given the
    init's path; `resolver` says whether /etc/resolv.conf is written beside it."""

    name: str
    write: Callable[[Sequence[Interface]], list[OwnPath]]
    lacks: Callable[[Interface], list[str]]
    services: Callable[[str, Sequence[Interface]], tuple[OneService, ...]] = lambda init, interfaces: ()
    resolver: bool = True
