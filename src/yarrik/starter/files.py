"""Files that ship with Yarrik, laid into workspaces; existing files stay as they are."""

from __future__ import annotations

import os
from importlib import resources
from importlib.resources.abc import Traversable
from pathlib import Path


def starter_shelf() -> Traversable:
    """The shelf that every new workspace begins with: a stand-in kernel, an init, a shell, and boards that an emulator has."""
    return resources.files("yarrik.starter") / "data"


def lay_into(source: Traversable, target: Path) -> None:
    """Writes a folder of shipped files into `target`, which is made if need be. Raises OSError."""
    target.mkdir(parents=True, exist_ok=True)
    for item in sorted(source.iterdir(), key=lambda item: item.name):
        if item.name == "__pycache__":
            continue
        if item.is_dir():
            lay_into(item, target / item.name)
        else:
            write_once(target / item.name, item.read_bytes())


def write_once(place: Path, data: bytes) -> bool:
    """Writes a file whole, if there is none of that name; whether it did. Raises OSError."""
    if place.exists():
        return False
    fresh = place.with_name(f".{place.name}.{os.getpid()}")
    fresh.write_bytes(data)
    try:
        os.link(fresh, place)
    except FileExistsError:
        return False
    finally:
        fresh.unlink()
    return True
