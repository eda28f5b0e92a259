"""Files and folders that appear whole or not at all: they are written under another name, and renamed when they are finished.

Each is written in a folder of its own beside the target, `.new-…`, which its writer holds locked. A writer that was killed
leaves such a folder behind without the lock: the next one removes it. With `durable`, data and names have reached the disk when
the context ends, so a power cut leaves the old file or the new one; without it, a power cut may leave an empty one."""

from __future__ import annotations

import contextlib
import fcntl
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path

from yarrik.beneath import remove_folder

_PREFIX = ".new-"


@contextlib.contextmanager
def new_file(target: Path, mode: int | None = 0o644, durable: bool = False, scratch: Path | None = None) -> Iterator[Path]:
    """A path to write a file at, which takes the place of `target` when the context ends without an exception. Nothing is there
    yet. `mode` are its permission bits (None: as they were made), `scratch` a folder on the same file system to write in.
    Raises OSError."""
    with _scratch_folder(scratch or target.parent) as folder:
        fresh = folder / target.name
        yield fresh
        if mode is not None:
            fresh.chmod(mode)
        if durable:
            _sync(fresh)
        fresh.replace(target)
        if durable:
            _sync(target.parent)


def write_file(target: Path, data: bytes, mode: int = 0o644, durable: bool = False) -> None:
    """Writes a whole file, as `new_file` does. Raises OSError."""
    with new_file(target, mode, durable) as fresh:
        fresh.write_bytes(data)


@contextlib.contextmanager
def new_folder(target: Path, or_another: bool = False) -> Iterator[Path]:
    """An empty folder to fill, which becomes `target` when the context ends without an exception. With `or_another`, a target
    that somebody else has made in the meantime is as good, and this one is dropped. Raises OSError."""
    with _scratch_folder(target.parent) as folder:
        fresh = folder / target.name
        fresh.mkdir()
        yield fresh
        fresh.chmod(0o755)
        try:
            fresh.rename(target)
        except OSError:
            if not or_another or not target.is_dir():
                raise


@contextlib.contextmanager
def _scratch_folder(parent: Path) -> Iterator[Path]:
    _remove_left_behind(parent)
    folder, handle = _locked_folder(parent)
    try:
        yield folder
    finally:
        remove_folder(folder)
        os.close(handle)


def _locked_folder(parent: Path) -> tuple[Path, int]:
    while True:
        folder = Path(tempfile.mkdtemp(dir=parent, prefix=_PREFIX))
        try:
            handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        except FileNotFoundError:
            continue  # another writer took it for one that was left behind
        with contextlib.suppress(OSError):  # a file system without locks: then nobody removes what is left behind
            fcntl.flock(handle, fcntl.LOCK_EX)
        if folder.exists():
            return folder, handle
        os.close(handle)  # removed between these two calls


def _remove_left_behind(parent: Path) -> None:
    with os.scandir(parent) as entries:
        names = [entry.path for entry in entries if entry.name.startswith(_PREFIX) and entry.is_dir(follow_symlinks=False)]
    for name in names:
        try:
            handle = os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC | os.O_NOFOLLOW)
        except OSError:
            continue
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            remove_folder(name)
        except OSError:
            continue
        finally:
            os.close(handle)


def _sync(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
