"""Which code something was found by: what is remembered counts only for the same."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from yarrik import __version__

_PACKAGE = Path(__file__).parent


@cache
def code_mark(*names: str) -> str:
    """The version, with size and time of these modules, or of all in these folders, below the package: another text once one of
    them is changed."""
    found = []
    try:
        for name in names:
            path = _PACKAGE / name
            modules = sorted(path.glob("*.py")) if path.is_dir() else [path]
            found += [f"{one.st_size}:{one.st_mtime_ns}" for one in (module.stat() for module in modules)]
    except OSError:  # installed where this user may not look: then the version has to do
        found = []
    return " ".join([__version__, *found])
