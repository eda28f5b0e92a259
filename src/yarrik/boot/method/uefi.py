"""The method `uefi`: firmware starts the kernel by itself."""

from __future__ import annotations

import re

from yarrik.arch import ARCHES
from yarrik.boot.method.form import BootMethod
from yarrik.boot.parts import BootParts
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import FILE_LIMIT, Started, Story
from yarrik.errors import Unfit
from yarrik.patterns import lazy_pattern

EFI_PROGRAM = lazy_pattern(r"/EFI/BOOT/BOOT(AA64|ARM|X64|RISCV64)\.EFI\Z", re.IGNORECASE)


def _write(parts: BootParts) -> dict[str, bytes]:
    if parts.line_in_files:
        raise Unfit("firmware hands no command line to a kernel that it starts by itself")
    if parts.overlays:
        raise Unfit("firmware does not apply overlays")
    if parts.initramfs:
        raise Unfit("firmware loads no initramfs beside a kernel that it starts by itself")
    return {"/boot" + ARCHES[parts.arch].efi_program: parts.kernel()}


def _find(story: Story, filesystem: Filesystem, where: str) -> Started | None:
    programs = [path for path in filesystem.below("/EFI/BOOT") if EFI_PROGRAM.match(path)]
    return _read(story, filesystem, programs, where) if programs else None


def _read(story: Story, filesystem: Filesystem, programs: list[str], where: str) -> Started:
    wanted = ARCHES[story.board.arch].efi_program if story.board.arch in ARCHES else programs[0]
    if wanted not in programs:
        story.stop(
            "BOOT-KERNEL-ARCH",
            f"{where} has {programs[0]}, and firmware of {story.board.arch} looks for {wanted}",
            "it would find no program to start",
            "check the board's `arch`",
            "boot.method",
        )
    kernel = filesystem.content(wanted, FILE_LIMIT)
    if kernel[:2] != b"MZ":
        story.stop(
            "BOOT-KERNEL-FORM",
            f"{wanted} is not a program for firmware: it does not begin with MZ",
            "firmware would refuse it",
            "build the kernel with CONFIG_EFI_STUB=y",
            "kernel.recipe",
        )
    story.tell("boot menu", f"none: firmware starts {where}:{wanted}")
    return Started(kernel, wanted, "")


METHOD = BootMethod("uefi", "EFI/BOOT/BOOT….EFI", _write, _find, compressed=False)
