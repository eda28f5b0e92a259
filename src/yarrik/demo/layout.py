"""Lays the example's workspace into a folder, and knows which of its products are for whom."""

from __future__ import annotations

import os
from dataclasses import dataclass
from importlib import resources
from importlib.resources.abc import Traversable
from pathlib import Path

from yarrik.errors import Place, Trouble, YarrikError


@dataclass(frozen=True)
class DemoProduct:
    """`program` is what the build host has to have for it; without it the product is left out, and said so."""

    name: str
    program: str
    what: str


DEMO_PRODUCTS = (
    DemoProduct("tide-gauge", "aarch64-linux-gnu-gcc", "the gauge's arm64 image"),
    DemoProduct("tide-office", "", "the office's image for this machine's own architecture"),
)


def lay_out_demo(folder: Path) -> None:
    """Writes the workspace. Files of an earlier demo that were changed since stay as they are.

    Raises YarrikError when the folder holds something else."""
    if folder.exists() and not folder.is_dir():
        raise YarrikError(Trouble("DEMO-FOLDER", f"{folder} is not a folder", Place(folder), remedy="name another one"))
    if folder.is_dir() and any(folder.iterdir()) and not (folder / "yarrik.toml").is_file():
        raise YarrikError(
            Trouble("DEMO-FOLDER", f"the folder {folder} holds something else than a workspace", Place(folder),
                    why="the demo's files would be mixed up with it", remedy="name an empty or new folder: yarrik demo FOLDER")
        )  # fmt: skip
    try:
        folder.mkdir(parents=True, exist_ok=True)
        data = resources.files("yarrik.demo") / "data"
        # The workspace's own file comes first: another process sees a workspace then, not a stranger's folder.
        _write(folder / "yarrik.toml", (data / "yarrik.toml").read_bytes())
        _copy(data, folder)
        ignore = folder / ".gitignore"
        if not ignore.exists():
            ignore.write_text("/.yarrik/\n/out/\n")
    except OSError as error:
        raise YarrikError(
            Trouble("DEMO-FOLDER", f"cannot write the demo into {folder}: {error.strerror}", Place(folder),
                    remedy="name a folder of yours: yarrik demo FOLDER")
        ) from error  # fmt: skip


def _copy(source: Traversable, target: Path) -> None:
    for item in sorted(source.iterdir(), key=lambda item: item.name):
        if item.name == "__pycache__":
            continue
        place = target / item.name
        if item.is_dir():
            place.mkdir(exist_ok=True)
            _copy(item, place)
        else:
            _write(place, item.read_bytes())


def _write(place: Path, data: bytes) -> None:
    """Writes a file that is not there yet, whole or not at all; one that is there stays."""
    if place.exists():
        return
    fresh = place.with_name(f".{place.name}.{os.getpid()}")
    fresh.write_bytes(data)
    try:
        os.link(fresh, place)
    except FileExistsError:
        pass
    finally:
        fresh.unlink()
