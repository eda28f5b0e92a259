"""What an emulator needs to start a product: its command, and a disk of its own to write to."""

from __future__ import annotations

import shutil
from pathlib import Path

from yarrik.devicetree import blob_name
from yarrik.disk.layout import image_name
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.model import Composition
from yarrik.moving import copy_sparse


def emulator_command(composition: Composition, root: Path) -> list[str]:
    """The board's emulator with its arguments; `{image}` is left for the disk. Raises YarrikError for what is missing."""
    board = composition.board
    emulator = board.value.emulator
    if emulator is None:
        raise YarrikError(
            Trouble("EMULATOR-NONE", f"the board `{board.name}` names no emulator", Place(board.file),
                    why="only boards with an [emulator] table can be started here",
                    remedy="boot another product, or write the image to a card")
        )  # fmt: skip
    packages = " ".join(emulator.debian_packages)
    install = f"on Debian: apt-get install {packages}" if packages else "install it"
    program = shutil.which(emulator.program)
    place = board.place("emulator", "program")
    if program is None:
        raise YarrikError(Trouble("HOST-TOOL-MISSING", f"the emulator {emulator.program} is not on this machine", place,
                                  remedy=install))  # fmt: skip
    if emulator.bootloader and not Path(emulator.bootloader).is_file():
        raise YarrikError(
            Trouble("HOST-TOOL-MISSING", f"the emulator's bootloader {emulator.bootloader} is not on this machine",
                    board.place("emulator", "bootloader"), remedy=install)
        )  # fmt: skip
    image = image_path(composition, root)
    if not image.is_file():
        raise YarrikError(
            Trouble("IMAGE-MISSING", f"there is no image of `{composition.name}` yet", Place(image),
                    remedy=f"build it: yarrik build {composition.name}")
        )  # fmt: skip
    filled = {
        "{bootloader}": emulator.bootloader,
        "{device-tree}": str(image.parent / blob_name(board.value.kernel.device_tree)),
    }
    words = [program]
    for word in emulator.arguments:
        for name, value in filled.items():
            word = word.replace(name, value)
        words.append(word)
    return words


def image_path(composition: Composition, root: Path) -> Path:
    """The image of the board's first disk."""
    disks = composition.board.value.disk
    return root / "out" / composition.name / image_name(composition.name, disks[0].name, len(disks))


def scratch_disk(root: Path, composition: Composition, fresh: bool) -> Path:
    """A copy of the image that the emulated board may write to; with `fresh` a new one."""
    folder = root / ".yarrik" / "boot"
    folder.mkdir(parents=True, exist_ok=True)
    disk = folder / f"{composition.name}.disk"
    if fresh or not disk.exists():
        disk.unlink(missing_ok=True)
        copy_sparse(image_path(composition, root), disk)
    return disk
