"""What an ELF file says of itself: architecture, loader, the shared libraries it needs, the name it gives itself."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from yarrik.arch import arch_of_elf

MAGIC = b"\x7fELF"


@dataclass(frozen=True)
class ElfFacts:
    """`kind` is `program`, `library`, `object` or `other`; `interpreter` and `soname` are empty when there is none."""

    arch: str
    kind: str
    interpreter: str = ""
    soname: str = ""
    needed: tuple[str, ...] = ()


def read_elf(path: Path) -> ElfFacts | None:
    """The facts, or None when the file is no ELF. Raises ValueError when it begins as one but does not read as one."""
    with path.open("rb") as file:
        return elf_facts(file)


def elf_facts(file: BinaryIO) -> ElfFacts | None:
    """As `read_elf`, of an open file."""
    if file.read(4) != MAGIC:
        return None
    from elftools.common.exceptions import ELFError
    from elftools.elf.dynamic import DynamicSegment
    from elftools.elf.elffile import ELFFile
    from elftools.elf.segments import InterpSegment

    file.seek(0)
    try:
        elf = ELFFile(file)
        arch = arch_of_elf(elf.header["e_machine"] if isinstance(elf.header["e_machine"], int)
                           else _machine_number(elf.header["e_machine"]), elf.elfclass)  # fmt: skip
        kind = {"ET_REL": "object", "ET_EXEC": "program", "ET_DYN": "library"}.get(elf.header["e_type"], "other")
        interpreter = soname = ""
        needed: list[str] = []
        for segment in elf.iter_segments():
            if isinstance(segment, InterpSegment):
                interpreter = segment.get_interp_name()
                kind = "program"
            elif isinstance(segment, DynamicSegment):
                for tag in segment.iter_tags():
                    if tag.entry.d_tag == "DT_NEEDED":
                        needed.append(tag.needed)  # type: ignore[attr-defined]
                    elif tag.entry.d_tag == "DT_SONAME":
                        soname = tag.soname  # type: ignore[attr-defined]
        return ElfFacts(arch, kind, interpreter, soname, tuple(needed))
    except (ELFError, KeyError, ValueError, UnicodeDecodeError, AttributeError, TypeError, IndexError,
            OverflowError, MemoryError) as error:  # fmt: skip
        raise ValueError(f"it begins as an ELF file but does not read as one ({type(error).__name__})") from error


def _machine_number(name: str) -> int:
    from elftools.elf.enums import ENUM_E_MACHINE

    return int(ENUM_E_MACHINE[name])
