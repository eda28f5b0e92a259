"""The bench board's story: what is known of a board, what each stage says, and what stops it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import BinaryIO, NoReturn

import msgspec

from yarrik.boot.seen import Filesystem
from yarrik.boot.story_line import StoryLine
from yarrik.disk import FoundPartition, OpenedImage
from yarrik.errors import Place, Trouble

#: No file of a boot partition is read beyond this (bytes).
FILE_LIMIT = 256 << 20


class KnownBlob(msgspec.Struct, frozen=True):
    """A loader's file that belongs at an offset of the disk, with the room it has (0: up to whatever follows)."""

    name: str
    path: Path
    offset: int
    room: int = 0


class BenchBoard(msgspec.Struct, frozen=True):
    """What is known of the board beside the image; all of it may be missing. `more` are partitions of its
    other disks, `places` says where settings stand, by key."""

    arch: str = ""
    method: str = ""
    blobs: tuple[KnownBlob, ...] = ()
    more: tuple[FoundPartition, ...] = ()
    places: dict[str, Place] = msgspec.field(default_factory=dict)
    #: The words of the board's `kernel.arguments`.
    arguments: tuple[str, ...] = ()
    #: The bootloader's own device tree, with the keys that it takes image trees by; empty when it is not known.
    control: bytes = b""
    #: Names of the disk's partitions by number, for tables that hold none.
    partitions: Mapping[int, str] = msgspec.field(default_factory=dict)
    #: Loaders that are on no disk, like the one that an emulator starts: content by name.
    loaders: Mapping[str, bytes] = msgspec.field(default_factory=dict)
    #: How the bootloader was configured: options without `CONFIG_`, with their values; empty when that is not known.
    options: Mapping[str, str] = msgspec.field(default_factory=dict)
    #: The board's own block of the environment: its size in bytes, and whether there are two.
    environment: tuple[int, bool] | None = None
    #: The archive that the kernel carries as its initramfs (cpio), where that is known.
    carried: bytes = b""
    #: Where the files of a memory bundle go, by the names of a memory map's areas.
    bundle: Mapping[str, int] = msgspec.field(default_factory=dict)


class Granted(msgspec.Struct, frozen=True):
    """What was not followed but taken for granted, and why it cannot be followed here."""

    stage: str
    what: str
    why: str


class BenchResult(msgspec.Struct):
    """The story, what stops it (None: nothing that was followed does), what was taken for granted, and what is likely wrong."""

    story: list[StoryLine] = msgspec.field(default_factory=list)
    granted: list[Granted] = msgspec.field(default_factory=list)
    stop: Trouble | None = None
    warnings: list[Trouble] = msgspec.field(default_factory=list)

    @property
    def reached(self) -> bool:
        return self.stop is None


class Stop(Exception):
    def __init__(self, trouble: Trouble) -> None:
        super().__init__(trouble.what)
        self.trouble = trouble


class Started(msgspec.Struct):
    """What the bootloader hands on."""

    kernel: bytes
    kernel_name: str
    line: str
    device_tree: bytes = b""
    device_tree_name: str = ""
    overlays: list[tuple[str, bytes]] = msgspec.field(default_factory=list)
    initramfs: bytes = b""
    initramfs_name: str = ""
    given: dict[str, int] = msgspec.field(default_factory=dict)
    #: Whether a signature covers all of it, and the script that starts it, if one does.
    signed: bool = False
    #: Whether what starts the kernel applies overlays for certain.
    applies_overlays: bool = False
    script: str = ""
    #: Further entries of a menu: name and command line.
    others: list[tuple[str, str]] = msgspec.field(default_factory=list)
    #: The slot that a script chose, and what it would start of each other one, or why that would not start.
    slot: str = ""
    further: list[tuple[str, Started | Trouble]] = msgspec.field(default_factory=list)


class Story:
    """One image on the bench: stages read from it, report here, and raise Stop for what cannot work."""

    def __init__(self, file: BinaryIO, image: OpenedImage, name: str, board: BenchBoard) -> None:
        self.file, self.image, self.name, self.board = file, image, name, board
        self.result = BenchResult()
        self.filesystems: dict[int, Filesystem] = {}

    def tell(self, stage: str, text: str, followed: bool = True) -> None:
        self.result.story.append(StoryLine(stage, text, followed))

    def grant(self, stage: str, what: str, why: str) -> None:
        """Notes something that is taken for granted, in the story too."""
        self.result.granted.append(Granted(stage, what, why))
        self.tell(stage, f"taken for granted: {what}, since {why}", followed=False)

    def trouble(self, code: str, what: str, why: str, remedy: str, key: str = "") -> Trouble:
        return Trouble(code, what, self.board.places.get(key, Place(Path(self.name))), why, remedy)

    def stop(self, code: str, what: str, why: str, remedy: str, key: str = "") -> NoReturn:
        raise Stop(self.trouble(code, what, why, remedy, key))

    def warn(self, code: str, what: str, why: str, remedy: str, key: str = "") -> None:
        self.result.warnings.append(self.trouble(code, what, why, remedy, key))

    def filesystem(self, part: FoundPartition) -> Filesystem | None:
        if part.reader is None:
            return None
        if id(part.reader) not in self.filesystems:
            self.filesystems[id(part.reader)] = Filesystem(part.reader)
        return self.filesystems[id(part.reader)]

    def key_of(self, word: str, usual: str) -> str:
        """The board's key that a word of the command line comes from."""
        return "kernel.arguments" if word in self.board.arguments else usual
