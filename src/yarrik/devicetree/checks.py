"""What a device tree says that cannot be right, found before a kernel stumbles over it. Each check has a code.

Devicetree Specification v0.4: 2.2.1 (names), 2.2.3 (aliases and paths), 2.3 (standard properties), 2.4 (interrupts).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import msgspec

from yarrik.devicetree.phandles import ReferencesUnfit, by_phandle, number_of, referred
from yarrik.devicetree.tree import TreeNode, TreeProperty, text_of
from yarrik.patterns import lazy_pattern

_NODE_NAME = lazy_pattern(r"[A-Za-z0-9,._+-]+(?:@[A-Za-z0-9,._+-]+)?\Z")
_PROPERTY_NAME = lazy_pattern(r"[A-Za-z0-9,._+?#-]+\Z")
_STATUS = lazy_pattern(r"(?:okay|ok|disabled|reserved|fail(?:-.+)?)\Z")
#: Nodes that carry an overlay's own book-keeping, in which the rules for devices have no place.
_BOOKS = ("__symbols__", "__fixups__", "__local_fixups__")
_ADDRESS_CELLS, _SIZE_CELLS = 2, 1  # when a parent does not say (2.3.5)


class Finding(msgspec.Struct, frozen=True):
    """Something that is likely wrong at a node, or at one of its properties."""

    code: str
    what: str
    path: str
    node: TreeNode
    item: TreeProperty | None
    why: str
    remedy: str


class _Seen(msgspec.Struct, frozen=True):
    """A node with what is around it. `parent` is None at the top, and where an overlay's base begins."""

    path: str
    node: TreeNode
    parent: TreeNode | None
    above: tuple[TreeNode, ...]
    root: TreeNode
    known: dict[int, TreeNode]

    def finding(self, code: str, what: str, item: TreeProperty | None = None, why: str = "", remedy: str = "") -> Finding:
        return Finding(code, f"{self.path}: {what}", self.path, self.node, item, why, remedy)


_Check = Callable[[_Seen], Iterator[Finding]]


def check_tree(root: TreeNode) -> Iterator[Finding]:
    """All that the checks find, in the order of the tree."""
    known = by_phandle(root)

    def visit(path: str, node: TreeNode, above: tuple[TreeNode, ...]) -> Iterator[Finding]:
        base_unknown = node.name == "__overlay__"
        seen = _Seen(path or "/", node, above[-1] if above else None, above, root, known)
        if not base_unknown:
            for check in CHECKS.values():
                yield from check(seen)
        for child in node.children.values():
            if not child.deleted and child.name not in _BOOKS:
                yield from visit(f"{path}/{child.name}", child, () if base_unknown else (*above, node))

    yield from visit("", root, ())


def _node_name(seen: _Seen) -> Iterator[Finding]:
    name = seen.node.name
    # Where overlays declare their parameters, firmware wants this name.
    if name and name != "__overrides__" and (_NODE_NAME.match(name) is None or not name[0].isalnum()):
        yield seen.finding("DTS-NODE-NAME", f"`{name}` is not a name for a node", why="names are letters, digits and , . _ + -",
                           remedy="rename it")  # fmt: skip
    for item in seen.node.properties.values():
        if _PROPERTY_NAME.match(item.name) is None:
            yield seen.finding("DTS-NODE-NAME", f"`{item.name}` is not a name for a property", item, remedy="rename it")


def _unit_address(seen: _Seen) -> Iterator[Finding]:
    node, parent = seen.node, seen.parent
    base, _, unit = node.name.partition("@")
    reg = node.properties.get("reg")
    if parent is None or base == "fragment":
        return
    if unit and reg is None and "ranges" not in node.properties:
        yield seen.finding(
            "DTS-UNIT-ADDRESS", f"the name has the unit address {unit}, and there is no `reg`",
            why="drivers find the device's registers by `reg`", remedy="add `reg`, or take `@…` off the name",
        )  # fmt: skip
    elif reg is not None and not unit and reg.value:
        yield seen.finding(
            "DTS-UNIT-ADDRESS", "it has a `reg`, and its name has no unit address", reg,
            why="two nodes of one name could not be told apart", remedy=f"call it {base}@{_first_address(reg, parent)}",
        )  # fmt: skip
    elif reg is not None and unit and "," not in unit and not _numbers_otherwise(parent):
        first = _first_address(reg, parent)
        counted = number_of(parent, "#size-cells") == 0  # numbers of things, which some write in decimal
        if first and unit.lower().lstrip("0") != first.lstrip("0") and not (counted and unit == str(int(first, 16))):
            yield seen.finding(
                "DTS-UNIT-ADDRESS", f"the name says @{unit}, and `reg` begins at {first}", reg,
                why="one of the two is wrong; drivers go by `reg`", remedy=f"call it {base}@{first}, or correct `reg`",
            )  # fmt: skip


def _numbers_otherwise(parent: TreeNode) -> bool:
    """Buses whose `reg` is more than an address: PCI functions, I2C with its flags, those with an address and a kind."""
    kind = parent.properties.get("device_type")
    if number_of(parent, "#size-cells") == 0 and number_of(parent, "#address-cells") != 1:
        return True
    return (kind is not None and text_of(kind.value) == "pci") or parent.name.startswith(("pci", "i2c", "i3c"))


def _first_address(reg: TreeProperty, parent: TreeNode) -> str:
    cells = number_of(parent, "#address-cells")
    cells = _ADDRESS_CELLS if cells is None else cells
    return f"{int.from_bytes(reg.value[: cells * 4], 'big'):x}" if 0 < cells <= 2 and len(reg.value) >= cells * 4 else ""


def _reg_length(seen: _Seen) -> Iterator[Finding]:
    node, parent = seen.node, seen.parent
    if parent is None:
        return
    address, size = number_of(parent, "#address-cells"), number_of(parent, "#size-cells")
    told = f"{parent.name or '/'} says #address-cells = {address}, #size-cells = {size}"
    reg = node.properties.get("reg")
    address = _ADDRESS_CELLS if address is None else address
    size = _SIZE_CELLS if size is None else size
    if reg is not None and reg.value and (address + size == 0 or len(reg.value) % ((address + size) * 4)):
        yield seen.finding(
            "DTS-REG-LENGTH", f"`reg` has {len(reg.value) // 4} cells, and {address} + {size} make one entry", reg,
            why=told, remedy="correct `reg`, or the parent's #address-cells and #size-cells",
        )  # fmt: skip
    ranges = node.properties.get("ranges")
    inner, inner_size = number_of(node, "#address-cells"), number_of(node, "#size-cells")
    if ranges is not None and ranges.value and inner is not None and inner_size is not None:
        entry = (inner + address + inner_size) * 4
        if entry == 0 or len(ranges.value) % entry:
            yield seen.finding(
                "DTS-REG-LENGTH", f"`ranges` has {len(ranges.value) // 4} cells, and {entry // 4} make one entry", ranges,
                why=f"{inner} here, {address} above, {inner_size} for the size", remedy="correct `ranges`",
            )  # fmt: skip


def _cells_missing(seen: _Seen) -> Iterator[Finding]:
    missing = [name for name in ("#address-cells", "#size-cells") if name not in seen.node.properties]
    # What an overlay puts into a node has its cells above that node.
    children = [
        child.name
        for child in seen.node.children.values()
        if not child.deleted and "reg" in child.properties and child.name != "__overlay__"
    ]
    if missing and children and seen.node.name != "__overlay__" and (seen.parent is not None or not seen.node.name):
        yield seen.finding(
            "DTS-CELLS-MISSING", f"{children[0]} has a `reg`, and here is no {' and no '.join(missing)}",
            why=f"without them readers take {_ADDRESS_CELLS} and {_SIZE_CELLS}, and some refuse",
            remedy="say both in this node",
        )  # fmt: skip


def _specifiers(seen: _Seen) -> Iterator[Finding]:
    for item in seen.node.properties.values():
        try:
            for _ in referred(seen.node, item, seen.known):
                pass
        except ReferencesUnfit as error:
            yield seen.finding("DTS-SPECIFIER", f"`{item.name}`: {error}", item,
                               why="the driver would read numbers for references", remedy="correct the list")  # fmt: skip
    interrupts = seen.node.properties.get("interrupts")
    if interrupts is None or not interrupts.value or seen.parent is None:
        return
    controller = _interrupt_parent(seen)
    cells = number_of(controller, "#interrupt-cells") if controller is not None else None
    if cells and (len(interrupts.value) % (cells * 4)):
        assert controller is not None
        yield seen.finding(
            "DTS-SPECIFIER", f"`interrupts` has {len(interrupts.value) // 4} cells, and {cells} make one interrupt", interrupts,
            why=f"its interrupt parent `{controller.name}` says #interrupt-cells = {cells}", remedy="correct the list",
        )  # fmt: skip


def _interrupt_parent(seen: _Seen) -> TreeNode | None:
    for node in (seen.node, *reversed(seen.above)):
        phandle = number_of(node, "interrupt-parent")
        if phandle is not None:
            return seen.known.get(phandle)
        if node is not seen.node and ("interrupt-controller" in node.properties or "interrupt-map" in node.properties):
            return node
    return None


def _duplicates(seen: _Seen) -> Iterator[Finding]:
    taken: dict[str, str] = {}
    for child in seen.node.children.values():
        unit = child.name.partition("@")[2]
        if not unit or child.deleted or not _enabled(child) or child.name.startswith("fragment@"):
            continue
        if unit in taken:
            yield Finding(
                "DTS-DUPLICATE-ADDRESS", f"{seen.path.rstrip('/')}/{child.name}: {taken[unit]} has the unit address {unit} too",
                seen.path, child, None, "two enabled devices would answer at one address",
                "correct one address, or disable one of the two",
            )  # fmt: skip
        taken.setdefault(unit, child.name)


def _enabled(node: TreeNode) -> bool:
    item = node.properties.get("status")
    return item is None or text_of(item.value) in ("okay", "ok")


def _status(seen: _Seen) -> Iterator[Finding]:
    item = seen.node.properties.get("status")
    word = text_of(item.value) if item is not None else "okay"
    if item is not None and (word is None or _STATUS.match(word) is None):
        yield seen.finding(
            "DTS-STATUS", f'`status` is "{word or ""}"', item, why="the kernel takes every unknown word for disabled",
            remedy='write "okay" or "disabled"',
        )  # fmt: skip


def _console(seen: _Seen) -> Iterator[Finding]:
    if seen.path != "/chosen":
        return
    item = seen.node.properties.get("stdout-path")
    word = (text_of(item.value) or "").partition(":")[0] if item is not None else ""
    if word and stdout_node(seen.root) is None:
        yield seen.finding(
            "DTS-STDOUT", f"`stdout-path` names {word}, which is neither an alias nor a node", item,
            why="the first messages would go nowhere", remedy="correct it, or add the alias",
        )  # fmt: skip


def stdout_node(root: TreeNode) -> tuple[str, TreeNode] | None:
    """Path and node of the console that `/chosen` names, through `/aliases`; None when it names none that is there."""
    chosen = root.children.get("chosen")
    item = chosen.properties.get("stdout-path") if chosen is not None else None
    word = (text_of(item.value) or "").partition(":")[0] if item is not None else ""
    if word and not word.startswith("/"):
        aliases = root.children.get("aliases")
        alias = aliases.properties.get(word) if aliases is not None else None
        word = (text_of(alias.value) or "") if alias is not None else ""
    node = root.find(word) if word else None
    return None if node is None else (word, node)


#: The checks by code; each can be silenced by it.
CHECKS: dict[str, _Check] = {
    "DTS-NODE-NAME": _node_name,
    "DTS-UNIT-ADDRESS": _unit_address,
    "DTS-REG-LENGTH": _reg_length,
    "DTS-CELLS-MISSING": _cells_missing,
    "DTS-SPECIFIER": _specifiers,
    "DTS-DUPLICATE-ADDRESS": _duplicates,
    "DTS-STATUS": _status,
    "DTS-STDOUT": _console,
}
