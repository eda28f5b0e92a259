"""Objects in archives of libraries (ar(5)): which machine they are for, which functions they have. Programs in the form of UEFI
(PE): which machine they are for."""

from __future__ import annotations

import io
from collections.abc import Iterator
from typing import BinaryIO

from yarrik.elf import MAGIC, ElfDamaged, awaiting, elf_facts, functions

AR_MAGIC = b"!<arch>\n"
#: `Machine` of the COFF file header (PE Format, "Machine Types"), by our names of architectures.
_PE_MACHINES = {
    0xAA64: "arm64",
    0x8664: "x86-64",
    0x01C0: "arm",
    0x01C2: "arm",
    0x01C4: "arm",
    0x5064: "riscv64",
    0x014C: "x86",
}
#: An ELF header and what follows it closely; more of a member is not read.
_HEAD = 1 << 16
_MOST_MEMBERS = 100_000


def foreign_in_archive(file: BinaryIO, arch: str) -> str:
    """What of an open archive of objects is for another machine, as words; empty when nothing is."""
    for head, size in _members(file):
        data = file.read(min(size, _HEAD))
        if data[:4] == MAGIC:
            try:
                facts = elf_facts(io.BytesIO(data + bytes(max(0, size - len(data))) if size <= 1 << 24 else data))
            except ElfDamaged:
                facts = None
            if facts is not None and facts.arch != arch:
                name = head[:16].decode("ascii", "replace").strip().rstrip("/")
                return f"holds the object {name or 'of a library'}, which is built for {facts.arch}"
    return ""


def functions_in_archive(file: BinaryIO) -> Iterator[dict[bytes, int]]:
    """The global functions of each object in an open archive, with their sizes in bytes, 0 for those that wait for
    optimisation at link time; objects that do not read are left out."""
    for _, size in _members(file):
        data = file.read(size)
        if data[:4] == MAGIC:
            try:
                found = functions(io.BytesIO(data), only_global=True) or dict.fromkeys(awaiting(io.BytesIO(data)), 0)
            except ElfDamaged:
                continue
            if found:
                yield found


def _members(file: BinaryIO) -> Iterator[tuple[bytes, int]]:
    """Header and size of each member of an open archive, which then stands where the member's content begins."""
    following = len(AR_MAGIC)
    for _ in range(_MOST_MEMBERS):
        file.seek(following)
        head = file.read(60)
        if len(head) < 60 or head[58:] != b"`\n" or not head[48:58].strip().isdigit():
            return
        size = int(head[48:58])
        following = file.tell() + size + size % 2
        yield head, size


def foreign_program(file: BinaryIO, head: bytes, arch: str) -> str:
    """For which other machine an open file is, when it is a PE program (PE Format, "MS-DOS Stub" and "Signature")."""
    if head[:2] != b"MZ":
        return ""
    file.seek(0x3C)
    at = int.from_bytes(file.read(4), "little")
    file.seek(at)
    signature = file.read(6)
    if signature[:4] != b"PE\0\0":
        return ""
    machine = _PE_MACHINES.get(int.from_bytes(signature[4:6], "little"), "another machine")
    return "" if machine == arch else f"is a PE program for {machine}"
