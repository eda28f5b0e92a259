"""What planning a product's own steps asks of this machine: files, folders and secrets that its definitions name."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from yarrik.errors import Place, Trouble, Unfit, YarrikError, found_nearby
from yarrik.run.secrets import password_hash, read_secret
from yarrik.run.source_folders import source_file, source_tree

if TYPE_CHECKING:
    from yarrik.cache import Tree
    from yarrik.model import Composition
    from yarrik.run.project import Project
    from yarrik.toolchain import Toolchain


class NearHost(msgspec.Struct):
    """Answers from this machine, and remembers what it found. `toolchains` are compilers by the side that they build for."""

    project: Project
    composition: Composition
    toolchains: dict[str, Toolchain] = msgspec.field(default_factory=dict)
    #: Source folders as they are now, by digest: they may not be in the store yet.
    trees: dict[str, Tree] = msgspec.field(default_factory=dict)

    def toolchain(self, side: str) -> Toolchain:
        return self.toolchains[side]

    def source_tree(self, folder: Path, suffixes: tuple[str, ...], place: Place) -> Tree:
        if not folder.is_dir():
            raise YarrikError(
                Trouble("SOURCE-MISSING", f"there is no folder {folder.name} beside the definition", place,
                        why="it is named as a source", remedy=found_nearby(folder, f"make {folder}, or correct the path"))
            )  # fmt: skip
        tree = source_tree(folder, suffixes, self.project.memory)
        self.trees[tree.digest] = tree
        return tree

    def file_digest(self, file: Path, place: Place, remedy: str = "") -> str:
        """SHA-256 of a file's content. Raises YarrikError, at `place`, for one that cannot be read."""
        try:
            return source_file(file, self.project.memory)
        except OSError as error:
            raise unreadable(file, error, place, remedy) from error

    def password(self, secret: str, product: str, account: str, place: Place) -> str:
        return password_hash(read_secret(secret, self.project.settings.secrets, place), product, account)

    def wireless_key(self, secret: str, ssid: str, place: Place) -> str:
        from yarrik.network import wireless_key  # few images have one

        try:
            return wireless_key(ssid, read_secret(secret, self.project.settings.secrets, place).text)
        except Unfit as error:
            raise YarrikError(Trouble("SECRET-FORM", f"the secret `{secret}` cannot join a wireless network: {error}", place,
                                      remedy="correct it where it is kept")) from error  # fmt: skip


def unreadable(file: Path, error: OSError, place: Place, remedy: str) -> YarrikError:
    """What to say of a file that a definition names at `place` and that cannot be read."""
    return YarrikError(
        Trouble("SOURCE-MISSING", f"cannot read {file}: {error.strerror}", place, why="the definition names it",
                remedy=remedy or found_nearby(file, f"put it at {file}, or correct the name"))
    )  # fmt: skip
