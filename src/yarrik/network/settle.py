"""What is wrong with interfaces, and the order in which they are set up."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Iterator, Sequence

from yarrik.errors import Collector, Place, Trouble, suggestion
from yarrik.model import Interface

#: The most that a resolver takes (resolv.conf(5)).
_MOST_SERVERS = 3


def check_network(interfaces: Sequence[Interface], place: Callable[[int, str], Place], collector: Collector) -> None:
    """Tells what cannot be. `place` gives the line of an interface's key."""
    names = {one.name for one in interfaces}
    ports: dict[str, str] = {}
    taken: dict[str, str] = {}
    for index, one in enumerate(interfaces):
        for key, what in _wrong(one):
            collector.add(_trouble(f"`{one.name}` {what}", place(index, key)))
        for port in one.ports:
            if port in ports:
                collector.add(_trouble(f"`{port}` is a port of `{ports[port]}` and of `{one.name}`", place(index, "ports")))
            ports[port] = one.name
        if one.of == one.name or one.name in one.ports:
            collector.add(_trouble(f"`{one.name}` stands on itself", place(index, "of")))
        for text in one.addresses:
            address = str(ipaddress.ip_interface(text).ip)
            if address in taken:
                collector.add(
                    _trouble(f"`{one.name}` and `{taken[address]}` have the address {address}", place(index, "addresses"))
                )
            taken[address] = one.name
    for index, one in enumerate(interfaces):
        if one.name in ports and (one.addresses or one.automatic):
            what = f"`{one.name}` is a port of `{ports[one.name]}`, and has addresses of its own"
            collector.add(_trouble(what, place(index, "addresses"), "give them to the bridge"))
        if one.kind == "vlan" and one.of and one.of not in names and not one.of.startswith(("eth", "en", "wl", "lan", "usb")):
            collector.add(_trouble(f"`{one.name}` is on `{one.of}`, which the image does not describe", place(index, "of"),
                                   suggestion(one.of, sorted(names))))  # fmt: skip


def _trouble(what: str, place: Place, remedy: str = "correct one of the two") -> Trouble:
    return Trouble("NETWORK-UNFIT", what, place, why="the interface would not come up, or not as it is meant", remedy=remedy)


def _wrong(one: Interface) -> Iterator[tuple[str, str]]:
    """Keys that do not fit the interface's kind, and addresses that do not fit each other."""
    for key, value, kind in (("number", one.number, "vlan"), ("of", one.of, "vlan"), ("ports", one.ports, "bridge"),
                             ("wireless", one.wireless, "wireless")):  # fmt: skip
        if one.kind == kind and not value:
            yield "kind", f"is a {kind} without `{key}`"
        elif one.kind != kind and value:
            yield key, f"is {'' if one.kind in ('wired', 'wireless') else 'a '}{one.kind}, and has `{key}`"
    networks = [ipaddress.ip_interface(text) for text in one.addresses]
    seen: set[int] = set()
    for text in one.gateways:
        gateway = ipaddress.ip_address(text)
        if gateway.version in seen:
            yield "gateways", f"has two gateways of IPv{gateway.version}"
        seen.add(gateway.version)
        own = [network for network in networks if network.version == gateway.version]
        if not any(gateway in network.network for network in own) and not gateway.is_link_local:
            yield "gateways", f"has the gateway {text}, which is in none of its networks"
        if any(network.ip == gateway for network in own):
            yield "gateways", f"has its own address {text} as gateway"
    for network in networks:
        if (
            network.version == 4
            and network.network.prefixlen < 31
            and network.ip in (network.network.network_address, network.network.broadcast_address)
        ):
            yield "addresses", f"has the address {network}, which is that of its whole network"
        if network.ip.is_multicast or network.ip.is_loopback or network.ip.is_unspecified:
            yield "addresses", f"has the address {network}, which no interface may have"
    for version in one.automatic:
        if any(f"ipv{network.version}" == version for network in networks) and version == "ipv4":
            yield "automatic", "has an address of IPv4, and asks for one"


def in_order(interfaces: Sequence[Interface]) -> list[Interface]:
    """Each after those that it stands on: VLANs after their interface, bridges after their ports."""
    names = {one.name: one for one in interfaces}
    done: dict[str, Interface] = {}
    entered: set[str] = set()

    def visit(name: str) -> None:
        if name in entered or name not in names:
            return
        entered.add(name)
        one = names[name]
        for other in sorted([*one.ports, *([one.of] if one.of else [])]):
            visit(other)
        done[name] = one

    for name in sorted(names):
        visit(name)
    return list(done.values())


def resolver_lines(interfaces: Sequence[Interface]) -> list[str]:
    """The lines of /etc/resolv.conf for name servers that are written down; none without any."""
    servers = list(dict.fromkeys(server for one in interfaces for server in one.name_servers))[:_MOST_SERVERS]
    domains = list(dict.fromkeys(domain for one in interfaces for domain in one.search))
    search = [f"search {' '.join(domains)}"] if domains else []
    return [*search, *(f"nameserver {server}" for server in servers)] if servers else []
