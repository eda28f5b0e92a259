"""How hard each compression can be told to try."""

from __future__ import annotations

from yarrik.errors import Unfit

LEVELS = {"gzip": (1, 9), "xz": (0, 9), "lz4": (1, 12), "zstd": (1, 22)}


def check_level(form: str, level: int | None) -> None:
    """Raises ValueError for a level that a compression does not have; None is its usual one."""
    if level is not None and form in LEVELS:
        least, most = LEVELS[form]
        if not least <= level <= most:
            raise Unfit(f"{form} has levels from {least} to {most}, not {level}")
