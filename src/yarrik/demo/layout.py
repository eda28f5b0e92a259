"""Lays the example's workspace into a folder, and knows which of its products are for whom."""

from __future__ import annotations

from importlib import resources
from pathlib import Path

import msgspec

from yarrik.errors import Place, Trouble, YarrikError
from yarrik.starter import lay_into, starter_shelf, write_once


class DemoProduct(msgspec.Struct, frozen=True):
    """`program` is what the build host has to have for it; without it the product is left out, and said so."""

    name: str
    program: str
    what: str


DEMO_PRODUCTS = (
    DemoProduct("tide-gauge", "aarch64-linux-gnu-gcc", "the gauge's arm64 image"),
    DemoProduct("tide-office", "", "the office's image for this machine's own architecture"),
)
#: Folders of the example that are those of the starter shelf.
_FROM_STARTER = {
    "coast/recipes/stand-in": "stand-in",
    "coast/recipes/libc": "libc",
    "harbour/recipes/harbour-init/src": "init/src",
    "harbour/recipes/harbour-shell/src": "shell/src",
}


def lay_out_demo(folder: Path) -> None:
    """Writes the workspace. Files of an earlier demo that were changed since stay as they are.

    Raises YarrikError when the folder holds something else."""
    if folder.exists() and not folder.is_dir():
        raise YarrikError(Trouble("DEMO-FOLDER", f"{folder} is not a folder", Place(folder), remedy="name another one"))
    # What the workspace's own file is written as is no stranger's: another demo is just beginning, or was killed there.
    begun = ".yarrik.toml."
    strangers = folder.is_dir() and any(not path.name.startswith(begun) for path in folder.iterdir())
    if strangers and not (folder / "yarrik.toml").is_file():
        raise YarrikError(
            Trouble("DEMO-FOLDER", f"the folder {folder} holds something else than a workspace", Place(folder),
                    why="the demo's files would be mixed up with it", remedy="name an empty or new folder: yarrik demo FOLDER")
        )  # fmt: skip
    try:
        folder.mkdir(parents=True, exist_ok=True)
        data = resources.files("yarrik.demo") / "data"
        # The workspace's own file comes first: another process sees a workspace then, not a stranger's folder.
        write_once(folder / "yarrik.toml", (data / "yarrik.toml").read_bytes())
        lay_into(data, folder)
        for ours, theirs in _FROM_STARTER.items():
            lay_into(starter_shelf() / "recipes" / theirs, folder / "shelves" / ours)
        ignore = folder / ".gitignore"
        if not ignore.exists():
            ignore.write_text("/.yarrik/\n/out/\n")
    except OSError as error:
        raise YarrikError(
            Trouble("DEMO-FOLDER", f"cannot write the demo into {folder}: {error.strerror}", Place(folder),
                    remedy="name a folder of yours: yarrik demo FOLDER")
        ) from error  # fmt: skip
