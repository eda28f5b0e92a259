"""Architectures that Yarrik knows: their names in ELF files, kernels, compilers and emulated boards."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Arch:
    """One architecture. `elf` is (e_machine, 32 or 64 bits); `kernel` is what the kernel's build calls it."""

    name: str
    elf: tuple[int, int]
    kernel: str
    kernel_file: str
    compiler_cpu: tuple[str, ...]


ARCHES = {
    arch.name: arch
    for arch in (
        Arch("arm64", (183, 64), "arm64", "Image", ("aarch64",)),
        Arch("x86-64", (62, 64), "x86", "bzImage", ("x86_64",)),
    )
}


def arch_of_compiler(triplet: str) -> Arch | None:
    """The architecture that a compiler with this triplet (`aarch64-linux-gnu`) builds for; None when not known."""
    cpu = triplet.strip().split("-")[0]
    return next((arch for arch in ARCHES.values() if cpu in arch.compiler_cpu), None)


def arch_of_elf(machine: int, bits: int) -> str:
    """The name of the architecture of an ELF file, or a description of what it is."""
    for arch in ARCHES.values():
        if arch.elf == (machine, bits):
            return arch.name
    return f"ELF machine {machine}, {bits} bit"
