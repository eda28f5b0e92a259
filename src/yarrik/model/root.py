"""Where a workspace is. Commands ask this first, and some of them nothing else: it takes no definitions."""

from __future__ import annotations

from pathlib import Path

from yarrik.errors import Place, Trouble, YarrikError

FILE = "yarrik.toml"
LOCAL_FILE = "yarrik.local.toml"


def find_workspace(start: Path) -> Path:
    """The nearest folder at or above `start` that holds a `yarrik.toml`."""
    for folder in (start, *start.parents):
        if (folder / FILE).is_file():
            return folder
    raise YarrikError(
        Trouble(
            "WORKSPACE-MISSING",
            f"no {FILE} here or in any folder above",
            Place(start),
            why="a workspace is a folder with that file, and most commands work in one",
            remedy="change into a workspace, or begin one: yarrik new workspace NAME; yarrik demo makes the example",
        )
    )
