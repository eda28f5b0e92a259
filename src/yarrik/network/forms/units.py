"""Files `.network`, `.netdev` and `.link` as systemd.network(5), systemd.netdev(5) and systemd.link(5) describe them.

The device manager would give interfaces names of its own, by which the files here do not know them: each keeps the name that is
written down. One that is written down under such a name of its own is not found by its kernel's name, and gets that name."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from yarrik.model import Interface
from yarrik.network.form import NetworkForm
from yarrik.rootfs import OwnPath

_FOLDER = "/etc/systemd/network"


def _write(interfaces: Sequence[Interface]) -> list[OwnPath]:
    found = []
    bridge_of = {port: one.name for one in interfaces for port in one.ports}
    vlans_of: dict[str, list[str]] = {}
    for one in interfaces:
        if one.kind == "vlan":
            vlans_of.setdefault(one.of, []).append(one.name)
    described = {one.name: one for one in interfaces}
    for name in {**dict.fromkeys(described), **dict.fromkeys(bridge_of), **dict.fromkeys(vlans_of)}:
        interface = described.get(name)
        if interface is not None and interface.kind in ("vlan", "bridge"):
            found.append(_file(f"{_FOLDER}/20-{name}.netdev", _device(interface)))
        else:
            found.append(
                _file(f"{_FOLDER}/20-{name}.link", iter(("[Match]", f"OriginalName={name}", "", "[Link]", f"Name={name}")))
            )
        lines = _network(name, interface, bridge_of.get(name, ""), vlans_of.get(name, []))
        found.append(_file(f"{_FOLDER}/20-{name}.network", lines))
    return found


def _file(path: str, lines: Iterator[str]) -> OwnPath:
    return OwnPath(path=path, kind="file", mode=0o644, content="".join(f"{line}\n" for line in lines))


def _device(one: Interface) -> Iterator[str]:
    yield from ("[NetDev]", f"Name={one.name}", f"Kind={one.kind}")
    if one.kind == "vlan":
        yield from ("", "[VLAN]", f"Id={one.number}")


def _network(name: str, one: Interface | None, bridge: str, vlans: Sequence[str]) -> Iterator[str]:
    yield from ("[Match]", f"Name={name}", "")
    link = []
    if one is not None and one.mtu:
        link.append(f"MTUBytes={one.mtu}")
    if one is not None and one.optional:
        link.append("RequiredForOnline=no")
    if link:
        yield from ("[Link]", *link, "")
    yield "[Network]"
    if bridge:
        yield f"Bridge={bridge}"
    yield from (f"VLAN={vlan}" for vlan in vlans)
    if one is None or bridge:
        yield "LinkLocalAddressing=no"
        return
    yield f"DHCP={'ipv4' if 'ipv4' in one.automatic else 'no'}"
    yield f"IPv6AcceptRA={'yes' if 'ipv6' in one.automatic else 'no'}"
    for key, values in (("Address", one.addresses), ("Gateway", one.gateways), ("DNS", one.name_servers)):
        yield from (f"{key}={value}" for value in values)
    if one.search:
        yield f"Domains={' '.join(one.search)}"


FORM = NetworkForm("units", _write, lambda one: [], resolver=False)
