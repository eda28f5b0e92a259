"""Where the cache of a workspace is."""

from __future__ import annotations

import os
from pathlib import Path

from yarrik.cache import default_root
from yarrik.model import LocalSettings


def cache_folder(root: Path, settings: LocalSettings) -> Path:
    """The cache of a workspace: as the environment says, else as the settings say, else the user's own."""
    if settings.cache and "YARRIK_CACHE" not in os.environ:
        return root / Path(settings.cache).expanduser()
    return root / default_root()
