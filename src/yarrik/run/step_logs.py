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
    return Path(f"{folder}/logs/{product}/{name}.log")


def new_log(path: Path) -> BinaryIO:
    """An empty log for a step that begins. It is locked as long as it grows, and already when it appears: who follows it takes
    a log without a lock for one that is complete."""
    beginning = path.with_name(f".{path.name}.{os.getpid()}")
    beginning.unlink(missing_ok=True)  # of a killed process with this number
    try:
        log = _made(beginning)
    except FileNotFoundError:
        path.parent.mkdir(parents=True, exist_ok=True)
        log = _made(beginning)
    try:
        with contextlib.suppress(OSError):
            fcntl.flock(log, fcntl.LOCK_EX | fcntl.LOCK_NB)
        os.replace(beginning, path)
    except BaseException:
        log.close()
        beginning.unlink(missing_ok=True)
        raise
    return log


def _made(path: Path) -> BinaryIO:
    """A new file, to be written to at its end: what others put in its place is not opened."""
    return open(os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o644), "ab")
