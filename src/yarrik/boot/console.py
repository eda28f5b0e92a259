"""Which devices of a device tree can be the console that a command line names."""

from __future__ import annotations

import re
from collections.abc import Iterator

from yarrik.devicetree import DeviceTree, TreeNode, text_of
from yarrik.patterns import lazy_pattern

#: The kernel's names of serial ports whose devices are known by a standard of their own, and what such devices say.
_DRIVERS: dict[str, tuple[str, ...]] = {
    "ttyAMA": ("arm,pl011", "arm,sbsa-uart"),
    "ttyS": ("ns16550", "ns16550a", "ns16450", "ns8250", "ns16750", "ns16850"),
}
_PORT_NAMES = ("serial", "uart")
#: Consoles that no device tree describes: firmware's own, virtual screens, gadgets, the network.
_ELSEWHERE = lazy_pattern(r"(?:tty\d*|hvc\d+|ttyGS\d+|ttyUSB\d+|netcon\d*|null|uart.*|earlycon.*)\Z")
_PORT = lazy_pattern(r"(?P<driver>[A-Za-z]+?)(?P<number>\d{1,4})\Z")


def console_problem(tree: DeviceTree, console: str) -> str | None:
    """What keeps `console` (`ttyAMA0,115200`) from being a console on a board with this device tree; None for nothing.

    Names that no device tree describes are accepted. So is a name whose driver is not known here while an enabled port is not
    known either: it may be that one."""
    name = console.partition(",")[0]
    if name.startswith("/dev/"):
        return f"the kernel takes a port's name without /dev/: {console.removeprefix('/dev/')}"
    match = _PORT.match(name)
    if _ELSEWHERE.match(name) or match is None:
        return None
    driver, number = match["driver"], int(match["number"])
    nodes = list(_nodes(tree))
    enabled_ports = [node for _, node, enabled in nodes if enabled and _is_port(node)]
    unknown = [node for node in enabled_ports if not any(_fits(node, other) for other in _DRIVERS)]
    ports = [(path, enabled) for path, node, enabled in nodes if _fits(node, driver)]
    usable = [path for path, enabled in ports if enabled]
    if not usable and unknown:
        return None
    if not ports:
        there = sorted({other for other in _DRIVERS for node in enabled_ports if _fits(node, other)})
        hint = f"; there are ports for {', '.join(there)}" if there else ""
        return f"no device in the device tree is one for {driver}{hint}"
    if not usable:
        return f"{ports[0][0]} is the device for {driver}, and it is not enabled"
    aliases = tree.root.children.get("aliases")
    alias = aliases.properties.get(f"serial{number}") if aliases is not None else None
    if alias is not None:
        path = text_of(alias.value) or ""
        if path in usable:
            return None
        if path in [port for port, _ in ports]:
            return f"{name} is {path} (alias serial{number}), and that is not enabled"
    named = {text_of(item.value) for item in aliases.properties.values()} if aliases is not None else set()
    # Ports without an alias get numbers that are left, in the order of the tree.
    nameless = [path for path in usable if path not in named]
    if not nameless or number >= len(usable) + len(named):
        return f"the device tree enables {len(usable)} for {driver}: {', '.join(usable)}"
    return None


def console_name(tree: DeviceTree) -> tuple[str, str]:
    """The console that a device tree names, as a command line has it (`ttyAMA0,115200`), and where it is named; empty texts
    when the tree names none, or a port whose driver is not known here."""
    chosen = tree.root.children.get("chosen")
    item = chosen.properties.get("stdout-path") if chosen is not None else None
    named, _, speed = ((text_of(item.value) or "") if item is not None else "").partition(":")
    aliases = tree.root.children.get("aliases")
    known = {name: text_of(one.value) or "" for name, one in aliases.properties.items()} if aliases is not None else {}
    path = known.get(named, named)
    node = tree.root.find(path) if path.startswith("/") else None
    driver = next((driver for driver in _DRIVERS if node is not None and _fits(node, driver)), "")
    if not driver:
        return "", ""
    alias = next((name for name, where in sorted(known.items()) if where == path and name.startswith("serial")), "serial0")
    rate = re.match(r"\d+", speed)
    return f"{driver}{alias.removeprefix('serial')},{rate[0] if rate else '115200'}", path


def _fits(node: TreeNode, driver: str) -> bool:
    item = node.properties.get("compatible")
    words = item.value.decode("ascii", "replace").split("\0") if item is not None else []
    return any(word in _DRIVERS.get(driver, ()) for word in words)


def _is_port(node: TreeNode) -> bool:
    """Whether a node is a serial port: by its generic name (Devicetree Specification v0.4, 2.2.2), or as one of those known."""
    return node.name.partition("@")[0] in _PORT_NAMES or any(_fits(node, driver) for driver in _DRIVERS)


def _nodes(tree: DeviceTree) -> Iterator[tuple[str, TreeNode, bool]]:
    """Every node with its path, and whether it and all above it are enabled."""

    def visit(path: str, node: TreeNode, enabled: bool) -> Iterator[tuple[str, TreeNode, bool]]:
        item = node.properties.get("status")
        enabled = enabled and (item is None or text_of(item.value) in ("okay", "ok"))
        yield path or "/", node, enabled
        for child in node.children.values():
            yield from visit(f"{path}/{child.name}", child, enabled)

    return visit("", tree.root, True)
