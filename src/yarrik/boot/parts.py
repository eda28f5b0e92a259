"""What boot methods work with when they write: kernel, device tree, command lines, addresses."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

import msgspec

from yarrik.boot.command_lines import CommandLine
from yarrik.boot.legacy import LegacyImage, encode_legacy
from yarrik.boot.memory_map import MemoryMap
from yarrik.boot.slots import SLOT_FOLDER, Slots
from yarrik.errors import Unfit

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey


SCRIPT_PATH = "/boot/boot.scr"


class FurtherPart(msgspec.Struct, frozen=True):
    """A part of an image tree beside kernel, device trees and initramfs: its name, type, content, and addresses."""

    name: str
    type: str
    data: bytes
    load: int | None = None
    entry: int | None = None


class BootParts(msgspec.Struct, frozen=True):
    """All that a boot method works with. `kernel` reads the kernel's bytes; paths are those in the image; `lines` are the
    command lines by entry name, the first one starts by itself; `boot_apart` says that /boot is a partition of its own."""

    product: str
    version: str
    arch: str
    kernel_path: str
    kernel: Callable[[], bytes]
    kernel_form: str
    lines: dict[str, tuple[str, CommandLine]]
    device_tree: bytes = b""
    device_tree_path: str = ""
    overlays: dict[str, bytes] = msgspec.field(default_factory=dict)
    initramfs: bytes = b""
    initramfs_path: str = ""
    memory: MemoryMap | None = None
    boot_apart: bool = False
    line_in_files: bool = True
    seconds: int = 0
    time: int = 0
    key: RSAPrivateKey | None = None
    key_name: str = ""
    more: tuple[FurtherPart, ...] = ()
    script: bool = True
    entry: int | None = None
    #: Device trees of further boards, by their paths in the image.
    more_device_trees: dict[str, bytes] = msgspec.field(default_factory=dict)
    #: The device tree of each menu entry that does not have the board's own.
    tree_of_entry: dict[str, str] = msgspec.field(default_factory=dict)
    #: The initramfs of each menu entry that has one of its own, by its path in the image.
    initramfs_of_entry: dict[str, str] = msgspec.field(default_factory=dict)
    #: Parameters of overlays that are left to firmware, by the overlay's name and theirs.
    overlay_parameters: Mapping[str, Mapping[str, str]] = msgspec.field(default_factory=dict)
    #: Lines of the board's own for a settings file, and where that file is.
    settings_text: str = ""
    settings_path: str = ""
    #: Slots that a script chooses from; kernel, device tree and script are then in each slot.
    slots: Slots | None = None

    def initramfs_for(self, name: str) -> str:
        """The path, as the bootloader sees it, of what an entry has in memory; empty without it."""
        own = self.initramfs_of_entry.get(name)
        return self.seen(own) if own else self.seen(self.initramfs_path) if self.initramfs else ""

    def seen(self, path: str) -> str:
        """A boot file's path as the bootloader sees it, on the partition that holds it."""
        if self.slots is not None:
            return SLOT_FOLDER + path.removeprefix("/boot")
        return path.removeprefix("/boot") if self.boot_apart else path

    def needed_memory(self) -> MemoryMap:
        """The memory map, for methods that write addresses. Raises Unfit where firmware decides where things go."""
        if self.memory is None:
            raise Unfit(f"it writes addresses into its files, and on {self.arch} firmware decides where things go")
        return self.memory

    def arguments(self, name: str) -> str:
        return str(self.lines[name][1]) if self.line_in_files else ""


def script_head(parts: BootParts) -> list[str]:
    line = parts.arguments(next(iter(parts.lines)))
    if "'" in line:
        raise Unfit("a script cannot hold a command line with a single quote in it")
    return [f"# {parts.product} {parts.version}", *([f"setenv bootargs '{line}'"] if line else [])]


def encode_script(parts: BootParts, lines: list[str]) -> bytes:
    text = "".join(line + "\n" for line in lines).encode()
    return encode_legacy(LegacyImage("script", parts.arch, (text,), f"{parts.product} {parts.version}", time=parts.time))
