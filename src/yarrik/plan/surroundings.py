"""What planning asks of the machine it runs on."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from yarrik.cache import Tree
    from yarrik.errors import Place
    from yarrik.model import Definition, Recipe
    from yarrik.plan.actions import Provenance
    from yarrik.sources import SourcePackage
    from yarrik.toolchain import DevelopmentFiles, Toolchain


class NearSurroundings(Protocol):
    """What planning a product's own steps asks; all answers are digests or facts, none is work."""

    def toolchain(self, side: str) -> Toolchain:
        """The toolchain for the `board` or the `host`. Raises YarrikError when there is none."""
        ...

    def source_tree(self, folder: Path, suffixes: tuple[str, ...], place: Place) -> Tree:
        """The tree of a source folder: with suffixes, only of files so named. Raises YarrikError for what cannot be read."""
        ...

    def file_digest(self, file: Path, place: Place, remedy: str = "") -> str:
        """The SHA-256 of a file that a definition names. Raises YarrikError, with `remedy` or a file of nearly this name."""

    def password(self, secret: str, product: str, account: str, place: Place) -> str:
        """The hash of a secret that is an account's password. Raises YarrikError, at `place`, when it is not known here."""
        ...

    def wireless_key(self, secret: str, ssid: str, place: Place) -> str:
        """The key of a wireless network that follows from a secret. Raises YarrikError, at `place`, when it is not known here
        or cannot be one."""
        ...

    def provenance(self) -> tuple[Provenance, ...]:
        """Shelves, terms and diversions, for the manifests."""
        ...


class Surroundings(NearSurroundings, Protocol):
    """What planning asks of the machine it runs on, likewise."""

    def development(self, side: str) -> DevelopmentFiles:
        """What a compiler on the board takes of a side's C library. Raises YarrikError when the toolchain cannot be asked."""
        ...

    def sight(self, side: str, programs: tuple[str, ...]) -> str:
        """The digest of all paths of the host that a step sees: its side's toolchain, and programs with what they load."""

    def variable(self, name: str) -> str | None:
        """A variable of the environment that a recipe lets in."""

    def edited(self, recipe: str) -> Path | None:
        """The working tree that takes the place of a recipe's sources, if it is being edited."""
        ...

    def debian_source(self, recipe: Definition[Recipe]) -> SourcePackage:
        """The Debian source package that is the recipe's source, as recipe and lock ask for."""
        ...

    def host_file(self, recipe: Definition[Recipe]) -> tuple[Path, str]:
        """The file of this machine that is the recipe's source, and its digest, as recipe and lock ask for."""
