"""Architectures that Yarrik knows: their names in ELF files, kernels, compilers and emulated boards."""

from __future__ import annotations

import msgspec


class Arch(msgspec.Struct, frozen=True):
    """One architecture. `elf` is (e_machine, 32 or 64 bits); `kernel` is what the kernel's build calls it.

    `kernel_forms` are the files that its build makes, the usual one first; `efi` is what firmware calls it in the name of
    the program that it starts from a card."""

    name: str
    elf: tuple[int, int]
    kernel: str
    kernel_forms: tuple[str, ...]
    compiler_cpu: tuple[str, ...]
    efi: str

    @property
    def compiler_prefix(self) -> str:
        """What the names of a cross compiler for this architecture usually begin with."""
        return f"{self.compiler_cpu[0]}-linux-{'gnueabihf' if self.name == 'arm' else 'gnu'}-"

    @property
    def kernel_file(self) -> str:
        """The file name under which a kernel of this architecture is installed."""
        return self.kernel_forms[0]

    @property
    def efi_program(self) -> str:
        """The path that firmware looks for on a card (UEFI Specification 2.10, 3.5.1.1)."""
        return f"/EFI/BOOT/BOOT{self.efi}.EFI"


ARCHES = {
    arch.name: arch
    for arch in (
        Arch("arm64", (183, 64), "arm64", ("Image", "Image.gz"), ("aarch64",), "AA64"),
        Arch("arm", (40, 32), "arm", ("zImage", "Image"), ("arm",), "ARM"),
        Arch("riscv64", (243, 64), "riscv", ("Image", "Image.gz"), ("riscv64",), "RISCV64"),
        Arch("x86-64", (62, 64), "x86", ("bzImage",), ("x86_64",), "X64"),
    )
}


#: How others spell an architecture, by what such a spelling is called in `{arch:SPELLING}`.
SPELLINGS: dict[str, dict[str, str]] = {
    "gnu": {"arm64": "aarch64", "arm": "arm", "riscv64": "riscv64", "x86-64": "x86_64"},
    "linux": {name: arch.kernel for name, arch in ARCHES.items()},
    "debian": {"arm64": "arm64", "arm": "armhf", "riscv64": "riscv64", "x86-64": "amd64"},
    "openssl": {"arm64": "linux-aarch64", "arm": "linux-armv4", "riscv64": "linux64-riscv64", "x86-64": "linux-x86_64"},
    "go": {"arm64": "arm64", "arm": "arm", "riscv64": "riscv64", "x86-64": "amd64"},
    "musl": {"arm64": "aarch64", "arm": "armhf", "riscv64": "riscv64", "x86-64": "x86_64"},
    "rust": {
        "arm64": "aarch64-unknown-linux-gnu",
        "arm": "armv7-unknown-linux-gnueabihf",
        "riscv64": "riscv64gc-unknown-linux-gnu",
        "x86-64": "x86_64-unknown-linux-gnu",
    },
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
