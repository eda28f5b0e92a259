"""Files `/etc/network.d/NN-NAME` of the small init that comes with every new workspace: lines KEY = VALUE. It sets interfaces
up by the kernel's own protocol, as a service `network` that others may wait for."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from yarrik.model import Interface
from yarrik.network.form import NetworkForm
from yarrik.network.wireless import WIRELESS_PROGRAM, wireless_path
from yarrik.rootfs import OwnPath
from yarrik.services import OneService

_MOST = 16


def _write(interfaces: Sequence[Interface]) -> list[OwnPath]:
    return [
        OwnPath(path=f"/etc/network.d/{number:02d}-{one.name}", kind="file", mode=0o644,
                content="".join(f"{line}\n" for line in _lines(one)))
        for number, one in enumerate(interfaces, 1)
    ]  # fmt: skip


def _lines(one: Interface) -> Iterator[str]:
    yield f"name = {one.name}"
    yield f"kind = {one.kind}"
    if one.of:
        yield f"of = {one.of}"
    for key, number in (("number", one.number), ("mtu", one.mtu)):
        if number:
            yield f"{key} = {number}"
    if one.optional:
        yield "optional = yes"
    for key, values in (("port", one.ports), ("address", one.addresses), ("gateway", one.gateways)):
        for value in values:
            yield f"{key} = {value}"


def _lacks(one: Interface) -> list[str]:
    found = []
    if one.automatic:
        found.append("asks for addresses (`automatic`): it has no client for that")
    if max(len(one.ports), len(one.addresses), len(one.gateways)) > _MOST:
        found.append(f"has room for {_MOST} addresses, gateways and ports")
    return found


def _services(init: str, interfaces: Sequence[Interface]) -> tuple[OneService, ...]:
    """What sets interfaces up, and for each wireless one the program that joins its network (wpa_supplicant(8))."""
    network = OneService(
        name="network", program=init, summary="Sets network interfaces up", arguments=("--network",), once=True
    )
    joining = [
        OneService(name=f"wireless-{one.name}", program=WIRELESS_PROGRAM, summary=f"Joins the wireless network of {one.name}",
                   arguments=("-i", one.name, "-c", wireless_path(one.name)), after=("network",), restart="always",
                   restart_delay=2000, restart_most=60_000)
        for one in interfaces if one.wireless is not None
    ]  # fmt: skip
    return (network, *joining)


FORM = NetworkForm("plain", _write, _lacks, _services)
