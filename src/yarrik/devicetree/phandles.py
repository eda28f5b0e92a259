"""Which properties refer to other nodes, and how many cells follow each reference: the bindings' common rules.

Devicetree Specification v0.4: 2.4 (interrupts), 2.3.3 (phandle); the other lists follow the same form in the kernel's
bindings (`#clock-cells` says how many cells follow a reference to a clock, and so on).
"""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from yarrik.devicetree.tree import TreeNode, TreeProperty
from yarrik.errors import Unfit
from yarrik.patterns import lazy_pattern

#: Lists of references, each followed by as many cells as the node referred to says in this property.
_LISTS = {
    "clocks": "#clock-cells",
    "assigned-clocks": "#clock-cells",
    "assigned-clock-parents": "#clock-cells",
    "resets": "#reset-cells",
    "interrupts-extended": "#interrupt-cells",
    "power-domains": "#power-domain-cells",
    "dmas": "#dma-cells",
    "phys": "#phy-cells",
    "pwms": "#pwm-cells",
    "mboxes": "#mbox-cells",
    "io-channels": "#io-channel-cells",
    "iommus": "#iommu-cells",
    "thermal-sensors": "#thermal-sensor-cells",
    "hwlocks": "#hwlock-cells",
    "interconnects": "#interconnect-cells",
    "sound-dai": "#sound-dai-cells",
}
_GPIOS = lazy_pattern(r"(?!ngpios|.*nr-gpios)(?:.+-)?gpios?\Z")
#: One reference or several, with nothing behind them.
_PLAIN = lazy_pattern(
    r"(?:interrupt-parent|remote-endpoint|phy-handle|next-level-cache|memory-region|operating-points-v2|cpu|.+-supply"
    r"|pinctrl-[0-9]+)\Z"
)
_NOT_YET = 0xFFFFFFFF


class Referred(msgspec.Struct, frozen=True):
    """One entry of a list: where its reference stands (bytes from the value's begin), the phandle there, the node that
    has it (None for an empty entry or one that only another tree can know), and how many cells follow."""

    offset: int
    phandle: int
    node: TreeNode | None
    arguments: int


class ReferencesUnfit(Unfit):
    """A list of references does not come out even; the message says why."""


def cells_property(name: str, node: TreeNode) -> str | None:
    """What says how many cells follow each reference in a property: a property's name, "" for none, or None when the
    property holds no references."""
    if name in _LISTS:
        return _LISTS[name]
    if _GPIOS.match(name) and "gpio-hog" not in node.properties:
        return "#gpio-cells"
    return "" if _PLAIN.match(name) else None


def number_of(node: TreeNode, name: str) -> int | None:
    """A property with one cell as a number; None when there is none, or when it has another form."""
    item = node.properties.get(name)
    return int.from_bytes(item.value, "big") if item is not None and len(item.value) == 4 else None


def by_phandle(root: TreeNode) -> dict[int, TreeNode]:
    """All nodes that can be referred to, by phandle (the old name `linux,phandle` counts as well)."""
    found: dict[int, TreeNode] = {}
    for _, node in root.walk():
        for name in ("linux,phandle", "phandle"):
            number = number_of(node, name)
            if number:
                found[number] = node
    return found


def referred(node: TreeNode, item: TreeProperty, known: dict[int, TreeNode]) -> Iterator[Referred]:
    """The entries of a property that holds references; none when it holds none. Raises Unfit."""
    counted_by = cells_property(item.name, node)
    if counted_by is None or len(item.value) % 4 or not item.value:
        return
    cells = len(item.value) // 4
    at = 0
    while at < cells:
        phandle = int.from_bytes(item.value[at * 4 : at * 4 + 4], "big")
        target = known.get(phandle)
        if phandle == _NOT_YET:
            return  # a reference that only the base of an overlay can fill in, and so what follows it is not known here
        if phandle and target is None:
            raise ReferencesUnfit(f"cell {at + 1} refers to phandle {phandle:#x}, which no node has")
        count = 0
        if target is not None and counted_by:
            told = number_of(target, counted_by)
            if told is None:
                raise ReferencesUnfit(f"it refers to `{target.name}`, which has no {counted_by}")
            count = told
        if at + 1 + count > cells:
            name = target.name if target is not None else "nothing"
            raise ReferencesUnfit(f"`{name}` says {counted_by} = {count}, and {cells - at - 1} follow the reference")
        yield Referred(at * 4, phandle, target, count)
        at += 1 + count
