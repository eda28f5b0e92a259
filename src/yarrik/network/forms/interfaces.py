"""`/etc/network/interfaces` as interfaces(5) of ifupdown describes it, with what its packages add for bridges and VLANs."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Sequence

from yarrik.model import Interface
from yarrik.network.form import NetworkForm
from yarrik.rootfs import OwnPath


def _write(interfaces: Sequence[Interface]) -> list[OwnPath]:
    lines = ["auto lo", "iface lo inet loopback", ""]
    for one in interfaces:
        lines += [*_lines(one), ""]
    return [OwnPath(path="/etc/network/interfaces", kind="file", mode=0o644, content="\n".join(lines))]


def _lines(one: Interface) -> Iterator[str]:
    yield f"{'allow-hotplug' if one.optional else 'auto'} {one.name}"
    stanzas = [("inet", [text for text in one.addresses if ":" not in text], "ipv4" in one.automatic),
               ("inet6", [text for text in one.addresses if ":" in text], "ipv6" in one.automatic)]  # fmt: skip
    used = [stanza for stanza in stanzas if stanza[1] or stanza[2]] or [("inet", [], False)]
    for number, (family, addresses, automatic) in enumerate(used):
        first = number == 0
        if automatic:
            yield f"iface {one.name} {family} {'dhcp' if family == 'inet' else 'auto'}"
            yield from _common(one, family, first)
            first = False
        for index, address in enumerate(addresses):
            yield f"iface {one.name} {family} static"
            yield f"    address {address}"
            if index == 0:
                yield from (f"    gateway {text}" for text in one.gateways if (":" in text) == (family == "inet6"))
                yield from _common(one, family, first)
        if not automatic and not addresses:
            yield f"iface {one.name} {family} manual"
            yield from _common(one, family, first)


def _common(one: Interface, family: str, first: bool) -> Iterator[str]:
    """What is said once for an interface, in its first stanza."""
    if not first:
        return
    if one.mtu:
        yield f"    mtu {one.mtu}"
    if one.kind == "vlan":
        yield f"    vlan-raw-device {one.of}"
    if one.kind == "bridge":
        yield f"    bridge_ports {' '.join(one.ports)}"
    if one.kind == "wireless":
        yield f"    wpa-conf /etc/wpa_supplicant/wpa_supplicant-{one.name}.conf"
    if one.name_servers:
        yield f"    dns-nameservers {' '.join(one.name_servers)}"
    if one.search:
        yield f"    dns-search {' '.join(one.search)}"


def _lacks(one: Interface) -> list[str]:
    if one.kind == "vlan" and not one.name.endswith(f".{one.number}") and one.name != f"vlan{one.number}":
        return [f"tells a VLAN's number apart from its name: call it `{one.of}.{one.number}`"]
    gateways = [ipaddress.ip_address(text).version for text in one.gateways]
    known = {ipaddress.ip_interface(text).version for text in one.addresses}
    if any(version not in known for version in gateways):
        return ["has a gateway without an address of its kind"]
    return []


FORM = NetworkForm("interfaces", _write, _lacks)
