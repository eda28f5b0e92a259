"""`modules.dep` and its companions: which kernel module needs which, and which devices and names ask for which.

Texts follow modules.dep(5); the `.bin` files hold the same as a tree of prefixes, which loaders search without reading all
of it: a magic number, a version, where the root is, and nodes. A node may have a prefix, children for a range of
characters, and values with priorities; the upper bits of what points to it say which. All numbers are big-endian.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable, Iterable, Mapping
from io import BytesIO
from posixpath import basename

import msgspec

from yarrik.elf import ElfDamaged, sections
from yarrik.errors import Damaged
from yarrik.patterns import lazy_pattern

_MAGIC, _VERSION = 0xB007F457, 0x00020001
_PREFIX, _VALUES, _CHILDREN = 0x80000000, 0x40000000, 0x20000000
_MODULE = lazy_pattern(r"(?P<top>(?:/usr)?/lib/modules/[^/]+)/(?P<file>.+\.ko)\Z")


class ModuleDamaged(Damaged):
    """A module that cannot be read; the message says which and why."""


class ModuleFacts(msgspec.Struct, frozen=True):
    """What a module says of itself. `symbols` are those that it offers to others."""

    file: str
    name: str
    needs: tuple[str, ...]
    aliases: tuple[str, ...]
    soft: tuple[str, ...]
    symbols: tuple[str, ...]


def module_files(paths: Iterable[str]) -> dict[str, list[str]]:
    """Modules by the folder of their kernel's version, as paths from there."""
    found: dict[str, list[str]] = {}
    for path in paths:
        match = _MODULE.match(path)
        if match is not None:
            found.setdefault(match["top"], []).append(match["file"])
    return {top: sorted(files) for top, files in sorted(found.items())}


def module_indexes(
    files: Iterable[str], read: Callable[[str], bytes], extra: Mapping[str, bytes] | None = None
) -> dict[str, bytes]:
    """The index files of one kernel's modules by name. `read` gives a module's bytes, `extra` what the kernel's build left
    beside them (`modules.builtin`, `modules.order`). Raises ModuleDamaged."""
    beside = extra or {}
    order = {line.strip(): number for number, line in enumerate(beside.get("modules.order", b"").decode().splitlines())}
    modules = sorted((_facts(file, read(file)) for file in files), key=lambda one: (order.get(one.file, len(order)), one.file))
    by_name = {module.name: module for module in modules}
    built_in = [_name(line) for line in beside.get("modules.builtin", b"").decode().split()]
    rank = {module.name: number for number, module in enumerate(modules)}
    needed = {module.name: _all_needs(module, by_name) for module in modules}
    dep = {
        module.name: f"{module.file}:{''.join(' ' + by_name[name].file for name in needed[module.name])}" for module in modules
    }
    aliases = [(alias, module.name) for module in modules for alias in module.aliases]
    symbols = sorted((f"symbol:{symbol}", module.name) for module in modules for symbol in module.symbols)
    soft = [f"softdep {module.name} {text}\n" for module in modules for text in module.soft]
    return {
        "modules.dep": "".join(dep[module.name] + "\n" for module in modules).encode(),
        "modules.dep.bin": _index((module.name, dep[module.name], rank[module.name]) for module in modules),
        "modules.alias": ("# Aliases extracted from modules themselves.\n"
                          + "".join(f"alias {alias} {name}\n" for alias, name in aliases)).encode(),
        "modules.alias.bin": _index((_underscored(alias), name, rank[name]) for alias, name in aliases),
        "modules.symbols": ("# Aliases for symbols, used by symbol_request().\n"
                            + "".join(f"alias {symbol} {name}\n" for symbol, name in symbols)).encode(),
        "modules.symbols.bin": _index((symbol, name, rank[name]) for symbol, name in symbols),
        "modules.softdep": ("# Soft dependencies extracted from modules themselves.\n" + "".join(soft)).encode(),
        "modules.devname": _device_names(modules).encode(),
        "modules.builtin.bin": _index((name, "", 0) for name in built_in),
    }  # fmt: skip


def _name(file: str) -> str:
    return basename(file).removesuffix(".ko").replace("-", "_")


def _facts(file: str, data: bytes) -> ModuleFacts:
    try:
        found = {section.name: section for section in sections(BytesIO(data))}
    except ElfDamaged as error:
        raise ModuleDamaged(f"{file} does not read as an ELF file: {error}") from error

    def content(name: str) -> bytes:
        section = found.get(name)
        return data[section.sh_offset : section.sh_offset + section.sh_size] if section is not None else b""

    if ".modinfo" not in found:
        raise ModuleDamaged(f"{file} is not a kernel module: it has no .modinfo")
    info = content(".modinfo")
    offered = tuple(name.decode("ascii", "replace") for name in content("__ksymtab_strings").split(b"\0") if name)
    told: dict[str, list[str]] = {}
    for entry in info.split(b"\0"):
        key, _, value = entry.decode("utf-8", "replace").partition("=")
        told.setdefault(key, []).append(value)
    needs = [name.replace("-", "_") for text in told.get("depends", []) for name in text.split(",") if name]
    return ModuleFacts(file, _name(file), tuple(needs), tuple(told.get("alias", ())), tuple(told.get("softdep", ())), offered)


def _all_needs(module: ModuleFacts, by_name: Mapping[str, ModuleFacts]) -> list[str]:
    """All that has to be there before a module, what is needed first last: loaders go from the end. Each is named once."""
    found: list[str] = []
    visiting: set[str] = set()

    def visit(one: ModuleFacts) -> None:
        if one.name in visiting:
            raise ModuleDamaged(f"{one.file} needs itself, through others")
        visiting.add(one.name)
        for name in one.needs:
            if name in by_name and name not in found:
                visit(by_name[name])
                found.append(name)
        visiting.discard(one.name)

    visit(module)
    return found[::-1]


def _device_names(modules: Iterable[ModuleFacts]) -> str:
    """Modules whose device nodes may be made before they are loaded: name, and kind with numbers."""
    lines = []
    for module in modules:
        name = next((alias.removeprefix("devname:") for alias in module.aliases if alias.startswith("devname:")), None)
        numbers = next(
            (match for alias in module.aliases if (match := re.match(r"(char|block)-major-(\d+)-(\d+)\Z", alias))), None
        )
        if name is not None and numbers is not None:
            lines.append(f"{module.name} {name} {numbers[1][0]}{numbers[2]}:{numbers[3]}\n")
    return "# Device nodes to trigger on-demand module loading.\n" + "".join(lines) if lines else ""


# The tree of prefixes


class _Branch(msgspec.Struct):
    prefix: str
    values: list[tuple[int, str]] = msgspec.field(default_factory=list)
    children: dict[str, _Branch] = msgspec.field(default_factory=dict)


def _underscored(alias: str) -> str:
    """Dashes count as underscores, but for those between brackets."""
    return re.sub(r"\[[^\]]*\]|-", lambda match: "_" if match.group() == "-" else match.group(), alias)


def _index(rows: Iterable[tuple[str, str, int]]) -> bytes:
    """Keys with their values; those of the lowest rank are found first."""
    root = _Branch("")
    for key, value, rank in rows:
        _insert(root, key, value, rank)
    out = bytearray(struct.pack(">III", _MAGIC, _VERSION, 0))
    struct.pack_into(">I", out, 8, _write(root, out))
    return bytes(out)


def _insert(node: _Branch, key: str, value: str, priority: int) -> None:
    while True:
        shared = 0
        while shared < len(node.prefix) and shared < len(key) and node.prefix[shared] == key[shared]:
            shared += 1
        if shared < len(node.prefix):
            below = _Branch(node.prefix[shared + 1 :], node.values, node.children)
            node.prefix, node.values, node.children = node.prefix[:shared], [], {node.prefix[shared]: below}
        key = key[shared:]
        if not key:
            if value not in [known for _, known in node.values]:
                node.values.append((priority, value))
            return
        letter, key = key[0], key[1:]
        if letter not in node.children:
            node.children[letter] = _Branch(key, [(priority, value)])
            return
        node = node.children[letter]


def _write(node: _Branch, out: bytearray) -> int:
    """Writes a node behind its children; returns where it is, with the bits that say what it has."""
    places: list[int] = []
    first = last = 0
    if node.children:
        codes = {letter.encode("utf-8", "replace")[0]: child for letter, child in node.children.items()}
        first, last = min(codes), max(codes)
        places = [_write(codes[code], out) if code in codes else 0 for code in range(first, last + 1)]
    at = len(out)
    if node.prefix:
        out += node.prefix.encode("utf-8", "replace") + b"\0"
        at |= _PREFIX
    if node.children:
        out += bytes([first, last]) + b"".join(struct.pack(">I", place) for place in places)
        at |= _CHILDREN
    if node.values:
        out += struct.pack(">I", len(node.values))
        for priority, value in sorted(node.values):
            out += struct.pack(">I", priority) + value.encode("utf-8", "replace") + b"\0"
        at |= _VALUES
    return at
