"""Where something is said, as it is written into an image: the same on every machine."""

from __future__ import annotations

import os

from yarrik.errors import Place
from yarrik.model import Composition


def origin_of(place: Place, composition: Composition) -> str:
    """The file of a place, from the workspace's folder; empty for none."""
    if place.file is None:
        return ""
    if not place.file.is_absolute():
        return place.file.as_posix()  # the command line, or the environment
    return os.path.relpath(place.file, composition.workspace.root)
