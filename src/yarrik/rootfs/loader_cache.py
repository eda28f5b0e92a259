"""`/etc/ld.so.cache`: where the GNU C library's loader finds libraries without a search, as `ldconfig` leaves it (ldconfig(8)).

The form is the newer of the two that loaders know, `glibc-ld.so.cache1.1` (glibc's dl-cache.h): a header, entries sorted by
name from the last to the first, and their names. It is made of the tree, by nothing that would have to run on the board."""

from __future__ import annotations

import itertools
import os
import re
import struct
from collections.abc import Callable, Iterator
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from yarrik.elf import ElfDamaged, read_abi, read_elf
from yarrik.patterns import lazy_pattern
from yarrik.rootfs.tree import Node

if TYPE_CHECKING:
    from yarrik.elf import Abi
    from yarrik.rootfs.tree import RootTree

LIBRARY_CACHE = "/etc/ld.so.cache"
_CONFIGURATION = "/etc/ld.so.conf"
#: Folders that loaders look in anyway, where a distribution has its libraries of one architecture apart, and where not.
_USUAL = ("/lib", "/usr/lib", "/lib64", "/usr/lib64")
_APART = lazy_pattern(r"(?:/usr)?/lib/[a-z0-9_]+-linux-[a-z0-9]+")

_MAGIC, _VERSION = b"glibc-ld.so.cache", b"1.1"
#: magic, version, nlibs, len_strings, flags, padding, extension_offset, unused (struct cache_file_new).
_HEADER = struct.Struct("<17s3sIIB3xI12x")
_LITTLE_ENDIAN = 2  # cache_file_new_flags_endian_little
#: flags, key, value, osversion, hwcap (struct file_entry_new); the last two are for choices that are no longer made.
_ENTRY = struct.Struct("<iIIIQ")

_ELF_LIBC6 = 0x0003
_EM_ARM, _EM_X86_64, _EM_AARCH64, _EM_RISCV = 40, 62, 183, 243
_EF_ARM_ABI_FLOAT_HARD, _EF_RISCV_FLOAT_ABI, _EF_RISCV_FLOAT_ABI_DOUBLE = 0x400, 0x6, 0x4

_LIBRARY = lazy_pattern(r"(?:lib|ld-).*\.so")
_INCLUDE = lazy_pattern(r"include\s+(\S+)")
_LOADER = lazy_pattern(r"ld-linux[a-z0-9_.-]*\.so\.\d+\Z")
_MOST_INCLUDES = 64
_DIGITS = lazy_pattern(r"\d+|\D")


class _Library(msgspec.Struct, frozen=True):
    soname: str
    flags: int


def library_cache(tree: RootTree, place_of: Callable[[str], Path]) -> tuple[bytes, list[Node]]:
    """The cache's bytes, and the links that are missing: a library is asked for by the name that it gives itself. There are no
    bytes for a tree without the GNU C library's loader. `place_of` gives a file by its digest."""
    if not any(_LOADER.match(node.name) for node in tree.nodes if node.kind in ("file", "link")):
        return b"", []
    making = _Making(tree, place_of)
    return making.run(), list(making.links.values())


class _Making(msgspec.Struct, dict=True):
    tree: RootTree
    place_of: Callable[[str], Path]
    links: dict[str, Node] = msgspec.field(default_factory=dict)

    def run(self) -> bytes:
        # The loader takes the first of several entries of one name: that of the folder that is searched first.
        rows = [(os.fsencode(name), os.fsencode(f"{folder}/{name}"), flags)
                for folder in self._folders() for name, flags in self._libraries(folder)]  # fmt: skip
        rows.sort(key=lambda row: (_order(os.fsdecode(row[0])), row[2]), reverse=True)
        strings, entries = bytearray(), bytearray()
        start = _HEADER.size + _ENTRY.size * len(rows)
        for name, path, flags in rows:
            value = start + len(strings)
            entries += _ENTRY.pack(flags, value + len(path) - len(name), value, 0, 0)
            strings += path + b"\0"
        return _HEADER.pack(_MAGIC, _VERSION, len(rows), len(strings), _LITTLE_ENDIAN, 0) + entries + strings

    def _folders(self) -> list[str]:
        """The folders in which libraries are looked for, in order, each once even if several names lead to it."""
        apart = sorted({node.parent for node in self.tree.nodes if _APART.fullmatch(node.parent)})
        found: dict[str, str] = {}
        for folder in itertools.chain(self._configured(_CONFIGURATION, [0]), apart, _USUAL):
            node = self.tree.follow(folder)
            if node is not None and node.kind == "folder":
                found.setdefault(node.path, folder.rstrip("/") or "/")
        return list(found.values())

    def _configured(self, path: str, count: list[int]) -> Iterator[str]:
        """Folders of a configuration file, and of those that it includes."""
        node = self.tree.follow(path)
        count[0] += 1
        if node is None or node.kind != "file" or count[0] > _MOST_INCLUDES:
            return
        with self.place_of(node.content).open("rb") as file:
            text = file.read(1 << 20).decode("utf-8", "surrogateescape")
        for line in text.splitlines():
            words = line.partition("#")[0].strip()
            include = _INCLUDE.match(words)
            if include is not None:
                pattern = include[1] if include[1].startswith("/") else f"{path.rpartition('/')[0]}/{include[1]}"
                form = re.compile("[^/]*".join(re.escape(part) for part in pattern.split("*")))
                for one in self.tree.nodes:
                    if form.fullmatch(one.path):
                        yield from self._configured(one.path, count)
            elif words.startswith("/"):
                yield words

    def _libraries(self, folder: str) -> list[tuple[str, int]]:
        """Names in a folder that programs may ask for, each with its flags."""
        top = self.tree.follow(folder)
        assert top is not None
        found: dict[tuple[str, int], None] = {}
        for node in self._by_parent.get(top.path, ()):
            real = self.tree.follow(node.path)
            if real is None or real.kind != "file" or not _LIBRARY.match(node.name):
                continue
            library = self._library(real, node.name)
            if library is None:
                continue
            name = library.soname
            if node.kind == "link" and node.name.endswith(".so") and name.startswith(node.name):
                name = node.name  # a further name of the library, for the linker
            found.setdefault((name, library.flags))
            self._link(f"{top.path}/{name}", node)
        return list(found)

    def _link(self, path: str, node: Node) -> None:
        """Notes the link that a library needs, to the newest file of its name."""
        known = self.links.get(path)
        if path not in self.tree.by_path and (known is None or _order(node.name) > _order(known.content)):
            self.links[path] = Node(path, "link", 0o777, size=len(node.name.encode()), content=node.name, package=node.package)

    @cached_property
    def _by_parent(self) -> dict[str, list[Node]]:
        known: dict[str, list[Node]] = {}
        for node in self.tree.nodes:
            known.setdefault(node.parent, []).append(node)
        return known

    def _library(self, node: Node, name: str) -> _Library | None:
        place = self.place_of(node.content)
        try:
            facts = read_elf(place)
            if facts is None or facts.kind not in ("library", "program") or (facts.kind == "program" and not facts.soname):
                return None
            flags = _flags(read_abi(place))
        except ElfDamaged:
            return None
        return _Library(facts.soname or name, flags) if flags else None


def _flags(abi: Abi) -> int:
    """What the loader asks of an entry; 0 for a machine that is not known here."""
    if abi.e_machine == _EM_X86_64:
        return _ELF_LIBC6 | (0x0300 if abi.bits == 64 else 0x0800)
    if abi.e_machine == _EM_AARCH64:
        return _ELF_LIBC6 | 0x0A00
    if abi.e_machine == _EM_ARM:
        return _ELF_LIBC6 | (0x0900 if abi.e_flags & _EF_ARM_ABI_FLOAT_HARD else 0x0B00)
    if abi.e_machine == _EM_RISCV and abi.bits == 64:
        return _ELF_LIBC6 | (0x1000 if abi.e_flags & _EF_RISCV_FLOAT_ABI == _EF_RISCV_FLOAT_ABI_DOUBLE else 0x0F00)
    return 0


def _order(name: str) -> tuple[tuple[int, int], ...]:
    """The order of names (_dl_cache_libcmp): runs of digits count as numbers, and come after all other characters."""
    return tuple((1, int(part)) if part.isdecimal() and part.isascii() else (0, ord(part)) for part in _DIGITS.findall(name))
