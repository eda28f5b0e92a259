"""Where the logs of steps are, and how they begin."""

from __future__ import annotations

import contextlib
import fcntl
import os
from pathlib import Path
from typing import BinaryIO


def log_path(folder: Path, product: str, step: str) -> Path:
    """Where a step's log lies: one file a step, of its last run here."""
    name = "".join(character if character.isalnum() or character in "-_." else "-" for character in step)
    return folder / "logs" / product / f"{name}.log"


def new_log(path: Path) -> BinaryIO:
    """An empty log for a step that begins. It is locked as long as it grows, and already when it appears: who follows it takes
    a log without a lock for one that is complete."""
    beginning = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        log = beginning.open("ab")
    except FileNotFoundError:
        path.parent.mkdir(parents=True, exist_ok=True)
        log = beginning.open("ab")
    try:
        with contextlib.suppress(OSError):
            fcntl.flock(log, fcntl.LOCK_EX | fcntl.LOCK_NB)
        log.truncate(0)
        beginning.replace(path)
    except BaseException:
        log.close()
        beginning.unlink(missing_ok=True)
        raise
    return log
