"""Which devices of a device tree can be the console that a command line names."""

from __future__ import annotations

import re
from collections.abc import Iterator

from yarrik.devicetree import DeviceTree, TreeNode, text_of

#: The kernel's names of serial ports, and what the devices say they are compatible with (drivers/tty/serial).
_DRIVERS: dict[str, tuple[str, ...]] = {
    "ttyAMA": ("arm,pl011", "arm,sbsa-uart"),
    "ttyS": ("ns16550", "ns16550a", "ns16450", "ns8250", "ns16750", "ns16850", "snps,dw-apb-uart", "brcm,bcm2835-aux-uart",
             "ti,omap4-uart", "ti,am654-uart", "mediatek,mt6577-uart", "nvidia,tegra20-uart", "intel,xscale-uart"),
    "ttymxc": ("fsl,imx21-uart", "fsl,imx6q-uart", "fsl,imx1-uart", "fsl,imx53-uart"),
    "ttyLP": ("fsl,vf610-lpuart", "fsl,ls1021a-lpuart", "fsl,imx7ulp-lpuart", "fsl,imx8qxp-lpuart"),
    "ttySC": ("renesas,scif", "renesas,sci", "renesas,hscif"),
    "ttyPS": ("cdns,uart-r1p8", "cdns,uart-r1p12", "xlnx,xuartps"),
    "ttyUL": ("xlnx,xps-uartlite-1.00.a", "xlnx,opb-uartlite-1.00.b"),
    "ttySTM": ("st,stm32-uart", "st,stm32h7-uart", "st,stm32f7-uart"),
    "ttyMSM": ("qcom,geni-debug-uart", "qcom,msm-uartdm", "qcom,msm-uart"),
    "ttySAC": ("samsung,exynos4210-uart", "samsung,s3c6400-uart"),
    "ttySIF": ("sifive,uart0", "sifive,fu540-c000-uart0"),
    "ttyAML": ("amlogic,meson-uart", "amlogic,meson-gx-uart"),
    "ttyMV": ("marvell,armada-3700-uart",),
    "ttyO": ("ti,omap2-uart", "ti,omap3-uart", "ti,omap4-uart"),
}  # fmt: skip
#: Consoles that no device tree tells of: firmware's own, virtual screens, gadgets, the network.
_ELSEWHERE = re.compile(r"(?:tty\d*|hvc\d+|ttyGS\d+|ttyUSB\d+|netcon\d*|null|uart.*|earlycon.*)\Z")
_PORT = re.compile(r"(?P<driver>[A-Za-z]+?)(?P<number>\d+)\Z")


def console_problem(tree: DeviceTree, console: str) -> str | None:
    """What keeps `console` (`ttyAMA0,115200`) from being a console on a board with this device tree; None for nothing.

    Names that no device tree tells of, or that are not known here, are let be."""
    name = console.partition(",")[0]
    match = _PORT.match(name)
    if _ELSEWHERE.match(name) or match is None or match["driver"] not in _DRIVERS:
        return None
    driver, number = match["driver"], int(match["number"])
    ports = [(path, node, enabled) for path, node, enabled in _nodes(tree) if _fits(node, driver)]
    usable = [path for path, _, enabled in ports if enabled]
    if not ports:
        there = sorted({other for other in _DRIVERS for _, node, enabled in _nodes(tree) if enabled and _fits(node, other)})
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
        if path in [port for port, _, _ in ports]:
            return f"{name} is {path} (alias serial{number}), and that is not enabled"
    named = {text_of(item.value) for item in aliases.properties.values()} if aliases is not None else set()
    # Ports without an alias get numbers that are left, in the order of the tree.
    nameless = [path for path in usable if path not in named]
    if not nameless or number >= len(usable) + len(named):
        return f"the device tree enables {len(usable)} for {driver}: {', '.join(usable)}"
    return None


def _fits(node: TreeNode, driver: str) -> bool:
    item = node.properties.get("compatible")
    words = item.value.decode("ascii", "replace").split("\0") if item is not None else []
    return any(word in _DRIVERS[driver] for word in words)


def _nodes(tree: DeviceTree) -> Iterator[tuple[str, TreeNode, bool]]:
    """Every node with its path, and whether it and all above it are enabled."""

    def visit(path: str, node: TreeNode, enabled: bool) -> Iterator[tuple[str, TreeNode, bool]]:
        item = node.properties.get("status")
        enabled = enabled and (item is None or text_of(item.value) in ("okay", "ok"))
        yield path or "/", node, enabled
        for child in node.children.values():
            yield from visit(f"{path}/{child.name}", child, enabled)

    return visit("", tree.root, True)
