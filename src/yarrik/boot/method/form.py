"""What a boot method is: what it writes, how it is found in an image and read, what it needs."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from yarrik.boot.parts import BootParts
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import Started, Story


class BootMethod(msgspec.Struct, frozen=True):
    """One way from firmware or bootloader to the kernel. A new one is an object of this type in a module of its own, and a line
    in the table `METHODS`.

    `write` gives the method's files by their paths in the image, beside kernel, device tree and initramfs themselves; it raises
    Unfit for what it cannot carry. `read` follows what the bootloader would find on a filesystem (named by the last argument),
    None where there is nothing of it; it raises Stop for what cannot work. `sought` names what it looks for, in words."""

    name: str
    sought: str
    write: Callable[[BootParts], dict[str, bytes]]
    read: Callable[[Story, Filesystem, str], Started | None]
    #: Whether images of which nothing is known are tried with it, in the table's order.
    guessed: bool = True
    #: Whether a kernel may be a compressed file: firmware starts plain programs only.
    compressed: bool = True
    #: Whether the initramfs is a file on the boot partition that boot files name.
    initramfs_file: bool = False
    #: Whether an entry of its menu may have an initramfs of its own.
    initramfs_by_entry: bool = False
    #: Whether what it writes has several entries, of which one is chosen.
    several: bool = False
    #: Whether it has a script that chooses among slots, by a state in a partition of its own.
    switches: bool = False
    #: Areas that it needs in memory beside the usual ones, by name, from the kernel's size and that of all else (bytes).
    areas: Callable[[int, int], dict[str, int]] = lambda kernel, others: {}
