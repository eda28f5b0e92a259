"""What a kernel file says of itself: its architecture and form, from the header that bootloaders read.

arm64: Documentation/arm64/booting.rst, section 4; riscv64: Documentation/riscv/boot-image-header.rst; arm: the head of
arch/arm/boot/compressed/head.S; x86: Documentation/x86/boot.rst, "The Real-Mode Kernel Header".
"""

from __future__ import annotations

import zlib
from pathlib import Path

import msgspec

from yarrik.binary import Record, number
from yarrik.errors import Unfit

_ARM64 = Record(
    64,
    ("text_offset", 8, "Q"),
    ("image_size", 16, "Q"),
    ("flags", 24, "Q"),
    ("magic", 56, "4s"),
)
_X86 = Record(
    0x268,
    ("setup_sectors", 0x1F1, "B"),
    ("boot_flag", 0x1FE, "H"),
    ("magic", 0x202, "4s"),
    ("version", 0x206, "H"),
    ("load_flags", 0x211, "B"),
    ("code32_start", 0x214, "I"),
    ("xload_flags", 0x236, "H"),
    ("init_size", 0x260, "I"),
)
_RISCV = Record(
    64,
    ("text_offset", 8, "Q"),
    ("image_size", 16, "Q"),
    ("flags", 24, "Q"),
    ("magic", 48, "8s"),
    ("magic_2", 56, "4s"),
)
_ARM = Record(
    0x38,
    ("magic", 0x24, "I"),
    ("start", 0x28, "I"),
    ("end", 0x2C, "I"),
    ("endian", 0x30, "I"),
)
_ARM_MAGIC = 0x016F2818
_ARM_LITTLE = 0x04030201
#: A kernel for 32-bit arm unpacks itself: it takes about this many times the size of its file.
_ARM_GROWS = 4
_UNPACKED_HEAD = 4096
_LOADED_HIGH = 1
_KERNEL_64 = 1


class KernelUnfit(Unfit):
    """The file is not a kernel that a bootloader could load; the message says why."""


class KernelFacts(msgspec.Struct, frozen=True):
    """`memory` is how many bytes it takes when it runs, `offset` where it wants to lie in a 2 MiB aligned area."""

    arch: str
    form: str
    memory: int
    offset: int = 0


def read_kernel(path: Path) -> KernelFacts:
    """Reads the header. Raises KernelUnfit."""
    with path.open("rb") as file:
        head = file.read(1 << 16)
        return kernel_facts(head, file.seek(0, 2))


def kernel_facts(head: bytes, size: int) -> KernelFacts:
    """What a kernel of `size` bytes is, by its first bytes (64 KiB are enough). Raises KernelUnfit."""
    if head[:2] == b"\x1f\x8b":
        try:
            unpacked = zlib.decompressobj(31).decompress(head, _UNPACKED_HEAD)
        except zlib.error as error:
            raise KernelUnfit("it is gzip-compressed data, and damaged") from error
        facts = _plain(unpacked, size)
        return KernelFacts(facts.arch, facts.form + ".gz", facts.memory, facts.offset)
    return _plain(head, size)


def _plain(head: bytes, size: int) -> KernelFacts:
    if len(head) >= _ARM64.size:
        fields = _ARM64.unpack(head)
        if fields["magic"] == b"ARM\x64":
            memory = number(fields, "image_size")
            if memory == 0:
                raise KernelUnfit("its arm64 header gives no size, so a bootloader cannot tell where it ends")
            if number(fields, "flags") & 1:
                raise KernelUnfit("it is built for big-endian processors")
            return KernelFacts("arm64", "Image", memory, number(fields, "text_offset"))
        fields = _RISCV.unpack(head)
        if fields["magic_2"] == b"RSC\x05":
            if number(fields, "flags") & 1:
                raise KernelUnfit("it is built for big-endian processors")
            if not number(fields, "image_size"):
                raise KernelUnfit("its riscv header gives no size, so a bootloader cannot tell where it ends")
            return KernelFacts("riscv64", "Image", number(fields, "image_size"), number(fields, "text_offset"))
        fields = _ARM.unpack(head)
        if fields["magic"] == _ARM_MAGIC:
            if fields["endian"] != _ARM_LITTLE:
                raise KernelUnfit("it is built for big-endian processors")
            told = number(fields, "end") - number(fields, "start")
            if told > size:
                raise KernelUnfit(f"its header gives {told} bytes, and it has {size}")
            return KernelFacts("arm", "zImage", size * _ARM_GROWS)
    if len(head) >= _X86.size:
        fields = _X86.unpack(head)
        if fields["magic"] == b"HdrS" and fields["boot_flag"] == 0xAA55:
            version = number(fields, "version")
            if version < 0x20C or not number(fields, "load_flags") & _LOADED_HIGH:
                raise KernelUnfit(f"its x86 header has protocol {version >> 8}.{version & 0xFF:02}; 2.12 or later is needed")
            arch = "x86-64" if number(fields, "xload_flags") & _KERNEL_64 else "x86"
            return KernelFacts(arch, "bzImage", number(fields, "init_size"))
    kinds = {
        b"\x7fE": "an ELF file",
        b"\xd0\x0d": "a device tree blob",
        b"\x27\x05": "a wrapped image",
    }
    kind = kinds.get(head[:2], "no kernel header that is known here")
    raise KernelUnfit(f"it is {kind}" if head[:2] in kinds else f"it has {kind}")
