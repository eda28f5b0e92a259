"""What an ELF file says of itself: architecture, loader, the shared libraries it needs, the name it gives itself.

Structures and constants are those of the System V Application Binary Interface, chapters 4 and 5 ("Object Files", "Program
Loading and Dynamic Linking"). Files come from strangers: every read is bounded by the file's size.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

import msgspec

from yarrik.arch import arch_of_elf
from yarrik.errors import Damaged
from yarrik.kernel_calls import KERNEL_CALLS
from yarrik.patterns import lazy_pattern

MAGIC = b"\x7fELF"
ET_REL, ET_EXEC, ET_DYN = 1, 2, 3
PT_LOAD, PT_DYNAMIC, PT_INTERP, PT_GNU_STACK, PT_GNU_RELRO = 1, 2, 3, 0x6474E551, 0x6474E552
PF_X = 1
DT_NULL, DT_NEEDED, DT_STRTAB, DT_STRSZ, DT_SONAME, DT_RPATH, DT_RUNPATH = 0, 1, 5, 10, 14, 15, 29
DT_BIND_NOW, DT_FLAGS, DT_FLAGS_1 = 24, 30, 0x6FFFFFFB
DF_BIND_NOW, DF_1_NOW = 8, 1
DT_VERDEF, DT_VERDEFNUM, DT_VERNEED, DT_VERNEEDNUM = 0x6FFFFFFC, 0x6FFFFFFD, 0x6FFFFFFE, 0x6FFFFFFF
VER_FLG_BASE, VER_FLG_WEAK = 1, 2
SHT_SYMTAB, SHT_STRTAB, SHT_DYNSYM = 2, 3, 11
SHN_UNDEF, STB_GLOBAL, STB_WEAK, STT_FUNC = 0, 1, 2, 2
#: Names of `KERNEL_CALLS` in a table of strings.
_CALLED = lazy_pattern(b"\0(" + b"|".join(name.encode() for name in KERNEL_CALLS) + b")(?=\0)")
#: More is in no file that a linker made.
_MOST_HEADERS = 65535
_MOST_TAGS = 100_000
_MOST_SYMBOLS = 2_000_000
_LTO_SYMBOLS, _LTO_DEFINED = ".gnu.lto_.symtab", 0
_MOST_STRINGS = 16 << 20
_LONGEST_NAME = 4096


class ElfDamaged(Damaged):
    """A file that begins as an ELF file and does not read as one."""


class ElfFacts(msgspec.Struct, frozen=True):
    """`kind` is `program`, `library`, `object` or `other`; `interpreter` and `soname` are empty when there is none. `runpath`
    are folders in which this file's own libraries are looked for first (DT_RUNPATH, or the older DT_RPATH). `versions` are
    names of symbol versions that it needs, each with its library (DT_VERNEED); `offers` those that it has (DT_VERDEF). `lacks`
    are the protections of `HARDENING` that it does without. `unwinds` is a function of `UNWINDING` that it calls, or empty.
    `kernel_calls` are functions of `KERNEL_CALLS` that it calls and does not have itself."""

    arch: str
    kind: str
    interpreter: str = ""
    soname: str = ""
    needed: tuple[str, ...] = ()
    runpath: tuple[str, ...] = ()
    versions: tuple[tuple[str, str], ...] = ()
    offers: tuple[str, ...] = ()
    lacks: tuple[str, ...] = ()
    unwinds: str = ""
    kernel_calls: tuple[str, ...] = ()


#: Functions of the GNU C library that load the compiler's unwinder when they are called; without it, it ends the program.
UNWINDING = ("backtrace", "pthread_cancel", "pthread_exit")
#: Protections of programs and libraries against errors in them, and what is missing without.
HARDENING = {
    "relro": "tables of addresses stay writable",
    "bind-now": "addresses of functions are looked up late, in tables that stay writable",
    "pie": "the program is at the same address each time",
    "no-executable-stack": "what is written to the stack can be run",
    "stripped": "debug symbols make it larger",
}


class Section(msgspec.Struct, frozen=True):
    """A section of a file: its name, type (`sh_type`), and where its bytes are (offset and size in bytes)."""

    name: str
    sh_type: int
    sh_offset: int
    sh_size: int


def read_elf(path: str | Path) -> ElfFacts | None:
    """The facts, or None when the file is not an ELF file. Raises ElfDamaged when it begins as one but does not read as one."""
    with open(path, "rb") as file:
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


def unnamed_strings(file: BinaryIO, word: bytes) -> list[tuple[int, int]]:
    """Strings of an open file's `.dynstr` that hold a word and that nothing names any more, as offset and length in bytes: what
    is left of a search path that was replaced by a shorter one. Raises ElfDamaged."""
    return list(_Elf(file).unnamed_strings(word))


def functions(file: BinaryIO, *, only_global: bool = False) -> dict[bytes, int] | None:
    """The functions that an open ELF file has itself, with their sizes in bytes, by its symbol table (`.symtab`); without one,
    None. `only_global` leaves out local and weak ones. Raises ElfDamaged."""
    return _Elf(file).functions(only_global)


def awaiting(file: BinaryIO) -> list[bytes]:
    """Names that an open object defines when it is compiled at link time: GCC keeps them in `.gnu.lto_.symtab`, in the form of
    its linker plugin. Raises ElfDamaged."""
    return list(_Elf(file).awaiting())


class Abi(msgspec.Struct, frozen=True):
    """What tells apart libraries that look alike to all but the loader: machine, class, and the processor's flags."""

    e_machine: int
    bits: int
    e_flags: int


def read_abi(path: Path) -> Abi:
    """Raises ElfDamaged."""
    with path.open("rb") as file:
        return _Elf(file).abi()


class _Dynamic(msgspec.Struct, frozen=True):
    """What the dynamic section of a file says; `bound` is whether all functions are looked up at the start."""

    needed: tuple[str, ...] = ()
    soname: str = ""
    runpath: tuple[str, ...] = ()
    versions: tuple[tuple[str, str], ...] = ()
    offers: tuple[str, ...] = ()
    bound: bool = False
    unwinds: str = ""
    kernel_calls: tuple[str, ...] = ()


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
            self.e_type, self.e_machine, _, _, self.e_phoff, self.e_shoff, self.e_flags, _, self.e_phentsize, self.e_phnum,
            self.e_shentsize, self.e_shnum, self.e_shstrndx,
        ) = self._read(header, 16, "its header")  # fmt: skip

    def facts(self) -> ElfFacts:
        kind = {ET_REL: "object", ET_EXEC: "program", ET_DYN: "library"}.get(self.e_type, "other")
        interpreter = ""
        dynamic = _Dynamic()
        segments = list(self._segments())
        loads = [(vaddr, offset, size) for p_type, _, offset, vaddr, size in segments if p_type == PT_LOAD]
        for p_type, _, offset, _, size in segments:
            if p_type == PT_INTERP:
                interpreter = self._text(self._bytes(offset, min(size, _LONGEST_NAME), "its loader's name"), 0)
                kind = "program"
            elif p_type == PT_DYNAMIC and size:
                dynamic = self._dynamic(offset, size, loads)
        lacks = self._lacks(kind, segments, dynamic.bound) if kind in ("program", "library") else ()
        return ElfFacts(
            arch_of_elf(self.e_machine, self.bits), kind, interpreter, dynamic.soname, dynamic.needed, dynamic.runpath,
            dynamic.versions, dynamic.offers, lacks, dynamic.unwinds,
            dynamic.kernel_calls,
        )  # fmt: skip

    def _lacks(self, kind: str, segments: list[tuple[int, int, int, int, int]], bound: bool) -> tuple[str, ...]:
        """Names of `HARDENING`, in its order."""
        types = {p_type for p_type, *_ in segments}
        linked = PT_DYNAMIC in types
        found = {
            "relro": linked and PT_GNU_RELRO not in types,
            "bind-now": linked and not bound,
            "pie": kind == "program" and self.e_type == ET_EXEC,
            "no-executable-stack": any(p_type == PT_GNU_STACK and flags & PF_X for p_type, flags, *_ in segments),
            "stripped": any(section.name == ".debug_info" for section in self.sections()),
        }
        return tuple(name for name in HARDENING if found[name])

    def abi(self) -> Abi:
        return Abi(self.e_machine, self.bits, self.e_flags)

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

    def unnamed_strings(self, word: bytes) -> Iterator[tuple[int, int]]:
        found = {section.name: section for section in self.sections()}
        if not {".dynstr", ".dynsym", ".dynamic"} <= found.keys():
            return

        def part(name: str) -> bytes:
            return self._bytes(found[name].sh_offset, min(found[name].sh_size, _MOST_STRINGS), f"its {name}")

        strings = part(".dynstr")
        if word not in strings:
            return
        parts = {name: part(name) for name in (".dynsym", ".dynamic", ".gnu.version_r", ".gnu.version_d") if name in found}
        # Elf32_Sym and Elf64_Sym begin with st_name. Whatever else could be the offset of a name counts as one.
        forms = {".dynsym": "I12x" if self.bits == 32 else "I20x", ".dynamic": "I" if self.bits == 32 else "Q"}
        named = set()
        for name, data in parts.items():
            form = self._order + forms.get(name, "I")
            named |= {row[0] for row in struct.iter_unpack(form, data[: len(data) - len(data) % struct.calcsize(form)])}
        begin = 0
        for text in strings.split(b"\0"):
            if word in text and not any(at in named for at in range(begin, begin + len(text) + 1)):
                yield found[".dynstr"].sh_offset + begin, len(text)
            begin += len(text) + 1

    def functions(self, only_global: bool) -> dict[bytes, int] | None:
        found = list(self.sections())
        table = next((one for one in found if one.sh_type == SHT_SYMTAB), None)
        names = next((one for one in found if one.name == ".strtab"), None)
        if table is None or names is None:
            return None
        strings = self._bytes(names.sh_offset, names.sh_size, "its symbols' names")
        # Elf32_Sym, Elf64_Sym
        form = self._order + ("IIIBBH" if self.bits == 32 else "IBBHQQ")
        info, section, st_size = (3, 5, 2) if self.bits == 32 else (1, 3, 5)
        length = struct.calcsize(form)
        size = min(table.sh_size, length * _MOST_SYMBOLS)
        data = self._bytes(table.sh_offset, size - size % length, "its symbols")
        own: dict[bytes, int] = {}
        for row in struct.iter_unpack(form, data):
            if row[info] & 15 != STT_FUNC or row[section] == SHN_UNDEF or not row[st_size]:
                continue
            if not only_global or row[info] >> 4 == STB_GLOBAL:
                own[strings[row[0] : strings.find(b"\0", row[0])]] = row[st_size]
        return own

    def awaiting(self) -> Iterator[bytes]:
        for section in self.sections():
            if not section.name.startswith(_LTO_SYMBOLS):
                continue
            data, at = self._bytes(section.sh_offset, section.sh_size, section.name), 0
            # Name and group end with a zero; kind, visibility, size (8 bytes) and slot (4 bytes) follow.
            while 0 < (end := data.find(b"\0", at)) < (last := data.find(b"\0", end + 1)) and last + 14 < len(data):
                if data[last + 1] == _LTO_DEFINED:
                    yield data[at:end]
                at = last + 15

    def _segments(self) -> Iterator[tuple[int, int, int, int, int]]:
        """p_type, p_flags, p_offset, p_vaddr and p_filesz of each program header (Elf32_Phdr, Elf64_Phdr)."""
        if not self.e_phoff or not self.e_phnum:
            return
        if self.bits == 32:
            for p_type, p_offset, p_vaddr, _, p_filesz, _, p_flags, _ in self._table(
                self.e_phoff, self.e_phnum, self.e_phentsize, "IIIIIIII", "its program headers"
            ):
                yield p_type, p_flags, p_offset, p_vaddr, p_filesz
        else:
            for p_type, p_flags, p_offset, p_vaddr, _, p_filesz, *_ in self._table(
                self.e_phoff, self.e_phnum, self.e_phentsize, "IIQQQQQQ", "its program headers"
            ):
                yield p_type, p_flags, p_offset, p_vaddr, p_filesz

    def _dynamic(self, offset: int, size: int, loads: list[tuple[int, int, int]]) -> _Dynamic:
        """What the dynamic section says."""
        form = "iI" if self.bits == 32 else "qQ"
        length = struct.calcsize(self._order + form)
        data = self._bytes(offset, min(size - size % length, length * _MOST_TAGS), "its dynamic section")
        tags: dict[int, list[int]] = {}
        for tag, value in struct.iter_unpack(self._order + form, data):
            if tag == DT_NULL:
                break
            tags.setdefault(tag, []).append(value)
        bound = (
            DT_BIND_NOW in tags
            or bool(tags.get(DT_FLAGS, [0])[0] & DF_BIND_NOW)
            or bool(tags.get(DT_FLAGS_1, [0])[0] & DF_1_NOW)
        )
        if not tags.keys() & {DT_NEEDED, DT_SONAME, DT_RPATH, DT_RUNPATH, DT_VERNEED, DT_VERDEF}:
            return _Dynamic(bound=bound)
        room = min(tags.get(DT_STRSZ, [0])[0], _MOST_STRINGS)
        at = self._offset(tags.get(DT_STRTAB, [0])[0], loads)
        if at is None:
            raise ElfDamaged(_damaged("its dynamic strings are in no segment"))
        strings = self._bytes(at, room, "its dynamic strings")
        path = tags.get(DT_RUNPATH) or tags.get(DT_RPATH)
        return _Dynamic(
            tuple(self._text(strings, value) for value in tags.get(DT_NEEDED, ())),
            self._text(strings, tags[DT_SONAME][0]) if DT_SONAME in tags else "",
            tuple(word for word in self._text(strings, path[0]).split(":") if word) if path else (),
            tuple(self._needed_versions(tags, loads, strings)),
            tuple(self._own_versions(tags, loads, strings)),
            bound,
            next((name for name in UNWINDING if b"\0" + name.encode() + b"\0" in strings), ""),
            self._kernel_calls(strings),
        )

    def _kernel_calls(self, strings: bytes) -> tuple[str, ...]:
        """Functions of `KERNEL_CALLS` that another file has to bring: undefined, and not weak, in the table of dynamic symbols.

        A file without section headers does not say where its table ends; what its strings name counts then."""
        named = {name.decode() for name in _CALLED.findall(strings)}
        table = next((one for one in self.sections() if one.sh_type == SHT_DYNSYM), None) if named else None
        if table is not None:
            form = self._order + ("IIIBBH" if self.bits == 32 else "IBBHQQ")
            info, section = (3, 5) if self.bits == 32 else (1, 3)
            length = struct.calcsize(form)
            size = min(table.sh_size, length * _MOST_TAGS)
            data = self._bytes(table.sh_offset, size - size % length, "its dynamic symbols")
            named &= {
                self._text(strings, row[0])
                for row in struct.iter_unpack(form, data)
                if row[section] == SHN_UNDEF and row[info] >> 4 != STB_WEAK and row[0] < len(strings)
            }
        return tuple(sorted(named))

    @staticmethod
    def _offset(address: int, loads: list[tuple[int, int, int]]) -> int | None:
        """Where an address is in the file."""
        return next((at + address - vaddr for vaddr, at, loaded in loads if vaddr <= address < vaddr + loaded), None)

    def _needed_versions(
        self, tags: dict[int, list[int]], loads: list[tuple[int, int, int]], strings: bytes
    ) -> Iterator[tuple[str, str]]:
        """Library and version of each entry of DT_VERNEED (Elf64_Verneed, Elf64_Vernaux); weak ones may be missing."""
        at = self._offset(tags.get(DT_VERNEED, [0])[0], loads)
        if DT_VERNEED not in tags or at is None:
            return
        for _ in range(min(tags.get(DT_VERNEEDNUM, [0])[0], _MOST_HEADERS)):
            _, vn_cnt, vn_file, vn_aux, vn_next = self._read("HHIII", at, "its symbol versions")
            library, aux = self._text(strings, vn_file), at + vn_aux
            for _ in range(vn_cnt):
                _, vna_flags, _, vna_name, vna_next = self._read("IHHII", aux, "its symbol versions")
                if not vna_flags & VER_FLG_WEAK:
                    yield library, self._text(strings, vna_name)
                if not vna_next:
                    break
                aux += vna_next
            if not vn_next:
                return
            at += vn_next

    def _own_versions(self, tags: dict[int, list[int]], loads: list[tuple[int, int, int]], strings: bytes) -> Iterator[str]:
        """The versions of DT_VERDEF (Elf64_Verdef, Elf64_Verdaux), but for the library's own name."""
        at = self._offset(tags.get(DT_VERDEF, [0])[0], loads)
        if DT_VERDEF not in tags or at is None:
            return
        for _ in range(min(tags.get(DT_VERDEFNUM, [0])[0], _MOST_HEADERS)):
            _, vd_flags, _, vd_cnt, _, vd_aux, vd_next = self._read("HHHHIII", at, "its symbol versions")
            if vd_cnt and not vd_flags & VER_FLG_BASE:
                vda_name, _ = self._read("II", at + vd_aux, "its symbol versions")
                yield self._text(strings, vda_name)
            if not vd_next:
                return
            at += vd_next

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
