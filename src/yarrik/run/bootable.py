"""What of a product its emulator or its serial port takes."""

from typing import TYPE_CHECKING

import msgspec

from yarrik.errors import Place
from yarrik.model import Board

if TYPE_CHECKING:
    from yarrik.model import Composition


class Bootable(msgspec.Struct, frozen=True):
    """What starting a product takes: its name and marker, its board, and where the board's file names the emulator."""

    name: str
    marker: str
    board: Board
    board_name: str
    places: dict[str, Place]

    @staticmethod
    def of(composition: "Composition") -> "Bootable":
        """What a composition says of it."""
        board = composition.board
        places = {key: board.place("emulator", key) for key in ("program", "bootloader")}
        return Bootable(composition.name, composition.marker, board.value, board.name, {"": Place(board.file), **places})
