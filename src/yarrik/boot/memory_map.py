"""Where kernel, device tree, initramfs and the rest lie in memory when the kernel starts, and what of it cannot be."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import msgspec

from yarrik.devicetree import DeviceTree, TreeNode, number_of, text_of
from yarrik.errors import Place, Trouble, Unfit
from yarrik.maps import Area, drawn, overlaps
from yarrik.units import parse_size, shown_size

_MIB = 1 << 20
#: Where things go when the board does not say, from the begin of memory. The kernel's place leaves room below it for a
#: bootloader's own things, and is a multiple of 2 MiB, as arm64 and riscv64 want it.
_PLACES = {
    "script": 2 * _MIB,
    "kernel": 4 * _MIB,
    "device tree": 62 * _MIB,
    "overlays": 63 * _MIB,
    "initramfs": 64 * _MIB,
    "bundle": 128 * _MIB,
}
#: What a kernel's address has to be a multiple of, less its text offset.
_KERNEL_STEP = {"arm64": 2 * _MIB, "riscv64": 2 * _MIB}
#: A bootloader writes the command line and more into the device tree.
DEVICE_TREE_ROOM = 12 * 1024


class MapUnfit(Unfit):
    """Things overlap or lie outside of memory; `reasons` are sentences, `drawing` shows where they would lie."""

    def __init__(self, reasons: list[str], drawing: str) -> None:
        super().__init__("; ".join(reasons))
        self.reasons, self.drawing = tuple(reasons), drawing


class MemoryMap(msgspec.Struct, frozen=True):
    """`memory` are the banks, `reserved` what must not be touched, `areas` what is put there for the kernel."""

    memory: tuple[Area, ...]
    reserved: tuple[Area, ...]
    areas: tuple[Area, ...]

    def address(self, name: str) -> int:
        return next(area.start for area in self.areas if area.name == name)

    def drawn(self, near: Sequence[Area] = ()) -> str:
        """A line and a bar for each area; with `near`, the bars show the stretch around those, where trouble is."""
        rows = sorted([*self.memory, *self.reserved, *self.areas], key=lambda area: (area.start, -area.size))
        shown = near or rows
        begin = min((area.start for area in shown), default=0)
        end = max((area.end for area in shown), default=1)
        margin = (end - begin) // 8 if near else 0
        return drawn(rows, max(0, begin - margin), end + margin)


def memory_of(tree: DeviceTree) -> list[Area]:
    """The banks that the device tree's memory nodes tell of (Devicetree Specification v0.4, 3.4)."""
    found = []
    for node in tree.root.children.values():
        kind = node.properties.get("device_type")
        if (kind is not None and text_of(kind.value) == "memory") or node.name.split("@")[0] == "memory":
            found += [Area("memory", start, size) for start, size in _entries(tree.root, node) if size]
    return sorted(found, key=lambda area: area.start)


def reserved_in(tree: DeviceTree) -> list[Area]:
    """What the blob's own list and the nodes below /reserved-memory keep for others."""
    found = [Area("reserved by the blob", start, size) for start, size in tree.reservations if size]
    parent = tree.root.children.get("reserved-memory")
    for node in parent.children.values() if parent is not None else ():
        assert parent is not None
        found += [Area(f"reserved: {node.name}", start, size) for start, size in _entries(parent, node) if size]
    return found


def _entries(parent: TreeNode, node: TreeNode) -> Iterable[tuple[int, int]]:
    address, size = number_of(parent, "#address-cells"), number_of(parent, "#size-cells")
    address, size = 2 if address is None else address, 1 if size is None else size
    reg = node.properties.get("reg")
    step = (address + size) * 4
    if reg is None or not 0 < address <= 2 or not 0 < size <= 2:
        return
    for at in range(0, len(reg.value) - step + 1, step):
        middle = at + address * 4
        yield int.from_bytes(reg.value[at:middle], "big"), int.from_bytes(reg.value[middle : at + step], "big")


class MemoryDisagrees(Unfit):
    """A board's [memory] is not within what its device tree says."""


def banks_of(base: str, size: str, told: list[Area]) -> list[Area]:
    """A board's memory: as its [memory] has it (a base in hexadecimal, a size; each may be empty), else as its device tree has
    `told`. Raises MemoryDisagrees."""
    if not base and not (size and told):
        return told
    start = int(base, 16) if base else told[0].start
    bank = Area("memory", start, parse_size(size or "256 MiB"))
    if size and told and not any(one.start <= start and bank.end <= one.end for one in told):
        there = ", ".join(f"{shown_size(one.size)} at {one.start:#x}" for one in told)
        raise MemoryDisagrees(
            f"the board has {shown_size(bank.size)} of memory at {start:#x}, and its device tree says {there}"
        )
    return [bank]


def memory_disagrees(error: MemoryDisagrees, place: Place) -> Trouble:
    return Trouble("BOOT-MEMORY", str(error), place, why="the kernel uses what the device tree says",
                   remedy="correct `memory.size` and `memory.base`, or the device tree's memory node")  # fmt: skip


def place_all(
    arch: str,
    sizes: Mapping[str, int],
    given: Mapping[str, int],
    memory: Iterable[Area],
    reserved: Iterable[Area] = (),
    text_offset: int = 0,
) -> MemoryMap:
    """Gives everything in `sizes` (bytes by name: kernel, device tree, initramfs, overlays, script, bundle) an address: the
    given one, or one that follows from where memory begins. Raises MapUnfit with all that overlaps or lies outside."""
    banks = sorted(memory, key=lambda area: area.start)
    kept = tuple(reserved)
    base = banks[0].start if banks else 0
    areas = tuple(
        Area(name, given.get(name, base + _PLACES[name] + (text_offset if name == "kernel" else 0)), size)
        for name, size in sizes.items()
        if size
    )
    found = MemoryMap(tuple(banks), kept, areas)
    together = overlaps(areas)
    reasons = [f"{one.name} (from {one.start:#x}) overlaps {other.name} (to {other.end:#x})" for one, other in together]
    near = [area for pair in together for area in pair]
    for area in areas:
        reasons += [
            f"{area.name} ({area.start:#x} to {area.end:#x}) overlaps what is {one.name} ({one.start:#x} to {one.end:#x})"
            for one in kept
            if area.start < one.end and one.start < area.end
        ]
        if banks and not any(bank.start <= area.start and area.end <= bank.end for bank in banks):
            whole = " and ".join(f"{bank.start:#x} to {bank.end:#x}" for bank in banks)
            reasons.append(
                f"{area.name} ({area.start:#x} to {area.end:#x}, {shown_size(area.size)}) is not in memory ({whole})"
            )
        step = _KERNEL_STEP.get(arch)
        if area.name == "kernel" and step and (area.start - text_offset) % step:
            reasons.append(f"the kernel's address {area.start:#x} is not a multiple of {shown_size(step)}, as {arch} wants it")
    if reasons:
        raise MapUnfit(reasons, found.drawn(near))
    return found
