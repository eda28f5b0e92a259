"""What an ELF file says of itself: architecture, loader, the shared libraries it needs, the name it gives itself.

Structures and constants are those of the System V Application Binary Interface, chapters 4 and 5 ("Object Files", "Program
Loading and Dynamic Linking"). Files come from strangers: every read is bounded by the file's size.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from yarrik.arch import arch_of_elf
from yarrik.errors import Damaged

MAGIC = b"\x7fELF"
ET_REL, ET_EXEC, ET_DYN = 1, 2, 3
PT_LOAD, PT_DYNAMIC, PT_INTERP = 1, 2, 3
DT_NULL, DT_NEEDED, DT_STRTAB, DT_STRSZ, DT_SONAME, DT_RPATH, DT_RUNPATH = 0, 1, 5, 10, 14, 15, 29
SHT_STRTAB = 3
#: More is in no file that a linker made.
_MOST_HEADERS = 65535
_MOST_TAGS = 100_000
_MOST_STRINGS = 16 << 20
_LONGEST_NAME = 4096


class ElfDamaged(Damaged):
    """A file that begins as an ELF file and does not read as one."""


@dataclass(frozen=True)
class ElfFacts:
    """`kind` is `program`, `library`, `object` or `other`; `interpreter` and `soname` are empty when there is none. `runpath`
    are folders in which this file's own libraries are looked for first (DT_RUNPATH, or the older DT_RPATH)."""

    arch: str
    kind: str
    interpreter: str = ""
    soname: str = ""
    needed: tuple[str, ...] = ()
    runpath: tuple[str, ...] = ()


@dataclass(frozen=True)
class Section:
    """A section of a file: its name, type (`sh_type`), and where its bytes are (offset and size in bytes)."""

    name: str
    sh_type: int
    sh_offset: int
    sh_size: int


def read_elf(path: Path) -> ElfFacts | None:
    """The facts, or None when the file is not an ELF file. Raises ElfDamaged when it begins as one but does not read as one."""
    with path.open("rb") as file:
        return elf_facts(file)


def elf_facts(file: BinaryIO) -> ElfFacts | None:
    """As `read_elf`, of an open file."""
    file.seek(0)
    if file.read(4) != MAGIC:
        return None
    return _Elf(file).facts()


def sections(file: BinaryIO) -> Iterator[Section]:
    """The sections of an open ELF file, in their order. Raises ElfDamaged."""
    return _Elf(file).sections()


class _Elf:
    """An open file's header (Elf32_Ehdr, Elf64_Ehdr), and its tables behind it."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self._size = file.seek(0, os.SEEK_END)
        ident = self._bytes(0, 16, "its identification")
        bits, data = ident[4], ident[5]
        if ident[:4] != MAGIC or bits not in (1, 2) or data not in (1, 2):
            raise ElfDamaged(_damaged("its identification names no class or byte order"))
        self.bits = 32 * bits
        self._order = "<" if data == 1 else ">"
        header = "HHIIIIIHHHHHH" if bits == 1 else "HHIQQQIHHHHHH"
        (
            self.e_type, self.e_machine, _, _, self.e_phoff, self.e_shoff, _, _, self.e_phentsize, self.e_phnum,
            self.e_shentsize, self.e_shnum, self.e_shstrndx,
        ) = self._read(header, 16, "its header")  # fmt: skip

    def facts(self) -> ElfFacts:
        kind = {ET_REL: "object", ET_EXEC: "program", ET_DYN: "library"}.get(self.e_type, "other")
        interpreter = soname = ""
        needed: tuple[str, ...] = ()
        runpath: tuple[str, ...] = ()
        segments = list(self._segments())
        loads = [(vaddr, offset, size) for p_type, offset, vaddr, size in segments if p_type == PT_LOAD]
        for p_type, offset, _, size in segments:
            if p_type == PT_INTERP:
                interpreter = self._text(self._bytes(offset, min(size, _LONGEST_NAME), "its loader's name"), 0)
                kind = "program"
            elif p_type == PT_DYNAMIC and size:
                needed, soname, runpath = self._dynamic(offset, size, loads)
        return ElfFacts(arch_of_elf(self.e_machine, self.bits), kind, interpreter, soname, needed, runpath)

    def sections(self) -> Iterator[Section]:
        if not self.e_shoff or not self.e_shnum:
            return
        form = "IIIIIIIIII" if self.bits == 32 else "IIQQQQIIQQ"
        rows = list(self._table(self.e_shoff, self.e_shnum, self.e_shentsize, form, "its sections"))
        if self.e_shstrndx >= len(rows):
            raise ElfDamaged(_damaged("its sections have no names"))
        names_at, names_size = rows[self.e_shstrndx][4:6]
        names = self._bytes(names_at, min(names_size, _MOST_STRINGS), "its sections' names")
        for sh_name, sh_type, _, _, sh_offset, sh_size, *_ in rows:
            yield Section(self._text(names, sh_name), sh_type, sh_offset, sh_size)

    def _segments(self) -> Iterator[tuple[int, int, int, int]]:
        """p_type, p_offset, p_vaddr and p_filesz of each program header (Elf32_Phdr, Elf64_Phdr)."""
        if not self.e_phoff or not self.e_phnum:
            return
        if self.bits == 32:
            for p_type, p_offset, p_vaddr, _, p_filesz, *_ in self._table(
                self.e_phoff, self.e_phnum, self.e_phentsize, "IIIIIIII", "its program headers"
            ):
                yield p_type, p_offset, p_vaddr, p_filesz
        else:
            for p_type, _, p_offset, p_vaddr, _, p_filesz, *_ in self._table(
                self.e_phoff, self.e_phnum, self.e_phentsize, "IIQQQQQQ", "its program headers"
            ):
                yield p_type, p_offset, p_vaddr, p_filesz

    def _dynamic(
        self, offset: int, size: int, loads: list[tuple[int, int, int]]
    ) -> tuple[tuple[str, ...], str, tuple[str, ...]]:
        """DT_NEEDED, DT_SONAME and DT_RUNPATH of the dynamic section."""
        form = "iI" if self.bits == 32 else "qQ"
        length = struct.calcsize(self._order + form)
        data = self._bytes(offset, min(size - size % length, length * _MOST_TAGS), "its dynamic section")
        tags: dict[int, list[int]] = {}
        for tag, value in struct.iter_unpack(self._order + form, data):
            if tag == DT_NULL:
                break
            tags.setdefault(tag, []).append(value)
        if not tags.keys() & {DT_NEEDED, DT_SONAME, DT_RPATH, DT_RUNPATH}:
            return (), "", ()
        address = tags.get(DT_STRTAB, [0])[0]
        for vaddr, at, loaded in loads:
            if vaddr <= address < vaddr + loaded:
                room = min(tags.get(DT_STRSZ, [0])[0], _MOST_STRINGS)
                strings = self._bytes(at + address - vaddr, room, "its dynamic strings")
                break
        else:
            raise ElfDamaged(_damaged("its dynamic strings are in no segment"))
        needed = tuple(self._text(strings, value) for value in tags.get(DT_NEEDED, ()))
        soname = self._text(strings, tags[DT_SONAME][0]) if DT_SONAME in tags else ""
        path = tags.get(DT_RUNPATH) or tags.get(DT_RPATH)
        runpath = tuple(word for word in self._text(strings, path[0]).split(":") if word) if path else ()
        return needed, soname, runpath

    def _table(self, offset: int, count: int, step: int, form: str, what: str) -> Iterator[tuple[int, ...]]:
        length = struct.calcsize(self._order + form)
        if step < length or count > _MOST_HEADERS:
            raise ElfDamaged(_damaged(f"{what} have an impossible size"))
        data = self._bytes(offset, step * count, what)
        for at in range(0, step * count, step):
            yield struct.unpack_from(self._order + form, data, at)

    def _read(self, form: str, at: int, what: str) -> tuple[int, ...]:
        form = self._order + form
        return struct.unpack(form, self._bytes(at, struct.calcsize(form), what))

    def _bytes(self, at: int, length: int, what: str) -> bytes:
        if at + length > self._size:
            raise ElfDamaged(_damaged(f"{what} lies behind its end"))
        self._file.seek(at)
        data = self._file.read(length)
        if len(data) != length:
            raise ElfDamaged(_damaged(f"{what} cannot be read"))
        return data

    @staticmethod
    def _text(strings: bytes, at: int) -> str:
        end = strings.find(b"\0", at, at + _LONGEST_NAME)
        if at >= len(strings) or end < 0:
            raise ElfDamaged(_damaged("a name has no end"))
        return os.fsdecode(strings[at:end])


def _damaged(what: str) -> str:
    return f"it begins as an ELF file but does not read as one: {what}"
