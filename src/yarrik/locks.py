"""Locks between processes, held on a file: they end with the process that holds them, however it ends."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
from collections.abc import Iterator
from pathlib import Path

#: What a file system without locks answers. Work goes on there: it is alone, or its user knows.
_NO_LOCKS = frozenset([errno.ENOLCK, errno.ENOSYS, errno.EOPNOTSUPP])


@contextlib.contextmanager
def held(file: Path | str) -> Iterator[None]:
    """Waits until nobody else holds the lock on this file, which is made when it is missing, and holds it in the context; other
    threads of the process wait, too. Raises OSError."""
    handle = take_lock(file)
    try:
        yield
    finally:
        os.close(handle)


def take_lock(file: Path | str) -> int:
    """Waits for the lock likewise, and returns the descriptor that holds it until it is closed. Raises OSError."""
    return _taken(file, fcntl.LOCK_EX)


def try_lock(file: Path | str) -> int | None:
    """The same without waiting: None when somebody holds it. Raises OSError."""
    try:
        return _taken(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return None


def _taken(file: Path | str, how: int) -> int:
    handle = os.open(file, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK, 0o644)
    try:
        fcntl.flock(handle, how)
    except BaseException as error:
        if not isinstance(error, OSError) or error.errno not in _NO_LOCKS:
            os.close(handle)
            raise
    return handle
