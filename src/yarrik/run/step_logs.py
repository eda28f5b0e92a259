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
    beginning = f"{path.parent}/.{path.name}.{os.getpid()}"
    try:
        log = open(beginning, "ab")  # noqa: SIM115 (the caller closes it)
    except FileNotFoundError:
        path.parent.mkdir(parents=True, exist_ok=True)
        log = open(beginning, "ab")  # noqa: SIM115
    try:
        with contextlib.suppress(OSError):
            fcntl.flock(log, fcntl.LOCK_EX | fcntl.LOCK_NB)
        log.truncate(0)
        os.replace(beginning, path)
    except BaseException:
        log.close()
        Path(beginning).unlink(missing_ok=True)
        raise
    return log
