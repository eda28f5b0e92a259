"""What an emulator needs to start a product: its command, and a disk of its own to write to."""

from __future__ import annotations

import os
import re
import shutil
from pathlib import Path

from yarrik.devicetree import blob_name
from yarrik.disk import image_name
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.model import output_of
from yarrik.moving import copy_sparse
from yarrik.resolve import published_path, with_outputs
from yarrik.run.bootable import Bootable


def missing_emulator(product: Bootable) -> Trouble | None:
    """What of the board's emulator is not on this machine."""
    emulator = product.board.emulator
    if emulator is None:
        return Trouble("EMULATOR-NONE", f"the board `{product.board_name}` names no emulator", product.places[""],
                       why="only boards with an [emulator] table can be started here",
                       remedy="boot another product, or write the image to a card")  # fmt: skip
    packages = " ".join(emulator.debian_packages)
    install = f"on Debian: apt-get install {packages}" if packages else "install it"
    if shutil.which(emulator.program) is None:
        return Trouble("HOST-TOOL-MISSING", f"the emulator {emulator.program} is not on this machine",
                       product.places["program"], remedy=install)  # fmt: skip
    if emulator.bootloader and output_of(emulator.bootloader) is None and not Path(emulator.bootloader).is_file():
        return Trouble("HOST-TOOL-MISSING", f"the emulator's bootloader {emulator.bootloader} is not on this machine",
                       product.places["bootloader"], remedy=install)  # fmt: skip
    return None


def emulator_command(product: Bootable, root: Path) -> list[str]:
    """The board's emulator with its arguments; `{image}` is left for the disk. Raises YarrikError for what is missing."""
    trouble = missing_emulator(product)
    if trouble is not None:
        raise YarrikError(trouble)
    emulator = product.board.emulator
    program = shutil.which(emulator.program) if emulator is not None else None
    assert emulator is not None and program is not None
    image = image_path(product, root)
    if not image.is_file():
        raise YarrikError(
            Trouble("IMAGE-MISSING", f"there is no image of `{product.name}` yet", Place(image),
                    remedy=f"build it: yarrik build {product.name}")
        )  # fmt: skip
    filled = {
        "{bootloader}": _of_output(emulator.bootloader, image.parent),
        "{device-tree}": str(image.parent / blob_name(product.board.kernel.device_tree)),
        "{out}": str(image.parent),
        "{command-line}": _memory_line(image.parent),
    }
    words = [program]
    for word in emulator.arguments:
        for name, value in filled.items():
            word = word.replace(name, value)
        words.append(with_outputs(word, lambda recipe, output: _of_output(f"{recipe}:{output}", image.parent)))
    return words


def _of_output(text: str, out: Path) -> str:
    """The path of an output of a recipe, which is published beside the image; any other text as it is."""
    return str(out / published_path(text)) if output_of(text) is not None else text


def _memory_line(out: Path) -> str:
    """The command line of what is tried from memory."""
    file = out / "memory" / "command-line.txt"
    return file.read_text().strip() if file.is_file() else ""


def image_path(product: Bootable, root: Path, disk: str = "") -> Path:
    """The image of one of the board's disks; of the first without a name."""
    disks = product.board.disk
    return root / "out" / product.name / image_name(product.name, disk or disks[0].name, len(disks))


def scratch_disks(root: Path, product: Bootable, fresh: bool, card_size: int = 0) -> dict[str, Path]:
    """Copies of the images that the emulated board may write to, by what stands for each in the emulator's arguments; with
    `fresh` new ones. The first one has at least `card_size` bytes, as a card that is larger than its image."""
    folder = root / ".yarrik" / "boot"
    folder.mkdir(parents=True, exist_ok=True)
    found: dict[str, Path] = {}
    for number, disk in enumerate(product.board.disk):
        place = folder / f"{product.name}{f'-{disk.name}' if number else ''}.disk"
        if fresh or not place.exists():
            place.unlink(missing_ok=True)
            copy_sparse(image_path(product, root, disk.name), place)
        if number == 0 and place.stat().st_size < card_size:
            os.truncate(place, card_size)
        found[f"{{image:{disk.name}}}"] = place
        if number == 0:
            found["{image}"] = place
    return found


def console_speed(product: Bootable) -> int | None:
    """The speed of the board's console in bit/s, as its `kernel.console` has it (`ttyS0,115200n8`); None when it says none."""
    match = re.match(r"[^,]+,(\d+)", product.board.kernel.console)
    return int(match[1]) if match else None
