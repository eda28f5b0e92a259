"""How the bench reads what boot files name, whatever the boot method."""

from __future__ import annotations

import lzma
import re
import zlib
from collections.abc import Sequence

import zstandard

from yarrik.boot.seen import Filesystem
from yarrik.boot.settings import read_settings
from yarrik.boot.story import FILE_LIMIT, Started, Story
from yarrik.errors import Damaged, suggestion


def add_files(
    story: Story, started: Started, filesystem: Filesystem, where: str, tree: str, overlays: Sequence[str], initramfs: str
) -> None:
    if tree:
        started.device_tree, started.device_tree_name = read_named(story, filesystem, tree, "device tree", where), tree
    started.overlays = [(path, read_named(story, filesystem, path, "overlay", where)) for path in overlays]
    if initramfs:
        started.initramfs, started.initramfs_name = read_named(story, filesystem, initramfs, "initramfs", where), initramfs


def read_named(story: Story, filesystem: Filesystem, path: str, what: str, where: str) -> bytes:
    """A file that boot files name. Device trees and overlays have a code of their own."""
    if not filesystem.has(path):
        code = "BOOT-DEVICE-TREE" if what in ("device tree", "overlay") else "BOOT-FILE-MISSING"
        story.stop(
            code,
            f"the {what} {path or '(none named)'} is not on {where}",
            "the bootloader would say so, and start nothing",
            suggestion(path, filesystem.files()),
            "kernel.device-tree" if "DEVICE" in code else "kernel.recipe",
        )
    return filesystem.content(path, FILE_LIMIT)


def firmware_settings(story: Story, filesystem: Filesystem, where: str) -> None:
    """Files that firmware's text settings name have to be there: the firmware starts before any menu is read."""
    for path in sorted(filesystem.below("")):
        if not re.fullmatch(r"/[^/]+\.txt", path) or filesystem.paths[path].size > 1 << 16:
            continue
        for key, value in read_settings(filesystem.text(path)).items():
            name = value.split()[0] if value.split() else ""
            if key in ("kernel", "initramfs", "device_tree") and name and not filesystem.has(f"/{name.lstrip('/')}"):
                story.stop(
                    "BOOT-FILE-MISSING",
                    f"{path} on {where} names {key}={name}, and there is no such file",
                    "firmware would load nothing, or something else",
                    suggestion(name, [one.lstrip("/") for one in filesystem.files()]),
                    "boot.settings",
                )


def unpacked(data: bytes, compression: str) -> bytes:
    """Unpacked data. Raises ValueError for damage and for more than a board's memory could hold."""
    try:
        if compression == "gzip":
            unpacker = zlib.decompressobj(31)
            data = unpacker.decompress(data, FILE_LIMIT)
        elif compression == "xz":
            data = lzma.LZMADecompressor(memlimit=256 << 20).decompress(data, FILE_LIMIT)
        elif compression == "zstd":
            with zstandard.ZstdDecompressor(max_window_size=128 << 20).stream_reader(data) as reader:
                data = reader.read(FILE_LIMIT)
        elif compression != "none":
            raise Damaged(f"{compression} is not unpacked here")
    except (OSError, EOFError, lzma.LZMAError, zstandard.ZstdError, zlib.error) as error:
        raise Damaged(f"its {compression} data are damaged") from error
    return data


#: What is around the configuration in a kernel (kernel/configs.c).
_CONFIG_BEGIN, _CONFIG_END = b"IKCFG_ST", b"IKCFG_ED"


def configuration_in(kernel: bytes) -> str | None:
    """The configuration that a kernel may carry (CONFIG_IKCONFIG), out of its unpacked bytes."""
    begin = kernel.find(_CONFIG_BEGIN + b"\x1f\x8b")
    end = kernel.find(_CONFIG_END, begin)
    if begin < 0 or end < 0:
        return None
    try:
        return unpacked(kernel[begin + len(_CONFIG_BEGIN) : end], "gzip").decode("utf-8", "replace")
    except Damaged:
        return None
