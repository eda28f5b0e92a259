"""The files beside an image that describe its board: manifest, loaders, the bootloader's device tree,
memory bundle."""

from __future__ import annotations

import contextlib
from pathlib import Path

import msgspec

from yarrik.beneath import regular_file
from yarrik.boot.bundle import BUNDLE_FILES, read_addresses
from yarrik.boot.story import BenchBoard
from yarrik.disk import image_name


class _Kernel(msgspec.Struct):
    arch: str


class _Boot(msgspec.Struct):
    kernel: _Kernel
    method: str


class _About(msgspec.Struct):
    """The part of the manifest beside an image that describes its board."""

    boot: _Boot


def board_beside(image: Path) -> BenchBoard:
    """The board of an image, as far as the files beside it describe it: manifest, loaders, the bootloader's device tree,
    memory bundle.
    Files of another form are ignored."""
    try:
        about = msgspec.json.decode(regular_file(image.parent / "packages.json"), type=_About).boot
    except (msgspec.DecodeError, UnicodeDecodeError, OSError):
        return BenchBoard()
    control, bundle = b"", {}
    with contextlib.suppress(OSError):
        control = regular_file(image.parent / "control.dtb")
    with contextlib.suppress(OSError, ValueError):
        bundle = bundle_places(regular_file(image.parent / "memory/addresses.txt").decode())
    loaders = {}
    for file in sorted((image.parent / "outputs").glob("*/*")):
        with contextlib.suppress(OSError):
            loaders[f"{file.parent.name}:{file.name}"] = regular_file(file)
    names = names_beside(image)
    return BenchBoard(arch=about.kernel.arch, method=about.method, control=control, partitions=names, bundle=bundle,
                      loaders=loaders)  # fmt: skip


class _Partition(msgspec.Struct):
    name: str
    number: int


class _Disk(msgspec.Struct):
    name: str
    partitions: list[_Partition]


class _Disks(msgspec.Struct):
    product: str
    disks: list[_Disk]


def names_beside(image: Path) -> dict[int, str]:
    """The names of an image's partitions by number, as the manifest beside it has them; none without one."""
    try:
        about = msgspec.json.decode(regular_file(image.parent / "packages.json"), type=_Disks)
    except (msgspec.DecodeError, UnicodeDecodeError, OSError):
        return {}
    for disk in about.disks:
        if image_name(about.product, disk.name, len(about.disks)) == image.name:
            return {one.number: one.name for one in disk.partitions}
    return {}


def bundle_places(text: str) -> dict[str, int]:
    """Where the files of a memory bundle go, by the names of areas. Raises ValueError for text of another form."""
    return {BUNDLE_FILES[name]: address for name, (address, _) in read_addresses(text).items() if name in BUNDLE_FILES}
