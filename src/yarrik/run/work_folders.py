"""Empty folders in which steps work, and what is left of them when a build is killed."""

from __future__ import annotations

import contextlib
import fcntl
import itertools
import os
import secrets
import struct
import tempfile
import threading
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path

from yarrik.beneath import Folder, remove_folder
from yarrik.locks import held, take_lock, try_lock
from yarrik.patterns import lazy_pattern

#: `FS_IOC_GETFLAGS`, `FS_IOC_SETFLAGS` and `FS_TOPDIR_FL` (ioctl_iflags(2), linux/fs.h); a number has a `long`'s size in it.
_LONG = struct.calcsize("l")
_GET_FLAGS, _SET_FLAGS = 0x80006601 | _LONG << 16, 0x40006602 | _LONG << 16
_TOP = 0x00020000
#: What the folders of builds are called.
_PREFIX = "build-"
_OURS = lazy_pattern(rf"{_PREFIX}[a-z0-9_]{{8}}")


class WorkFolder:
    """The empty folder of one step at `path`, made when it is first asked for: many steps only read and write the store."""

    def __init__(self, path: Path) -> None:
        self.path = path

    @property
    def is_made(self) -> bool:
        """Whether somebody asked for it."""
        return "below" in self.__dict__

    @cached_property
    def below(self) -> Folder:
        """The folder, held open. Raises OSError."""
        self.path.mkdir()
        return Folder.at(self.path)

    def remove(self) -> None:
        """Removes it with all that is in it."""
        if self.is_made:
            self.below.close()
            remove_folder(self.path)


class WorkFolders:
    """Empty folders for steps, removed afterwards. One lock for all of a build tells that they belong to somebody alive, so
    what a killed build left behind is cleared away by the next one."""

    def __init__(self, top: Path) -> None:
        self._top = top
        self._numbers = itertools.count(1)
        #: What holds the lock.
        self._lock: int | None = None
        self._guard = threading.Lock()

    @staticmethod
    def _clearing(top: Path) -> contextlib.AbstractContextManager[None]:
        """Held while folders are made or cleared away, so that nobody clears away what is just being made."""
        return held(top.with_name(f"{top.name}.lock"))

    @contextlib.contextmanager
    def folder(self) -> Iterator[WorkFolder]:
        """An empty folder for one step, removed afterwards. Raises OSError."""
        with self._guard:
            if self._lock is None:
                self._top.mkdir(parents=True, exist_ok=True)
                with self._clearing(self._top):
                    self._folder = Path(tempfile.mkdtemp(prefix=_PREFIX, dir=self._top)).resolve()
                    _spread(self._folder)
                    self._lock = take_lock(f"{self._folder}.lock")
            # The folders of two builds have other names, and so other places on the disk.
            one = WorkFolder(self._folder / f"{next(self._numbers)}-{secrets.token_hex(4)}")
        try:
            yield one
        finally:
            one.remove()

    def close(self) -> None:
        """Removes what is left of all of them."""
        if self._lock is not None:
            remove_folder(self._folder)
            Path(f"{self._folder}.lock").unlink(missing_ok=True)
            os.close(self._lock)
            self._lock = None

    @staticmethod
    def clear_left_behind(top: Path) -> None:
        """Removes folders whose owner is gone."""
        if top.is_symlink() or not top.is_dir():
            return
        with WorkFolders._clearing(top):
            # A lock without its folder was left by somebody who ended between removing the two. Nothing else is ours.
            names = {path.name.removesuffix(".lock") for path in top.iterdir()}
            for folder in [top / name for name in sorted(names) if _OURS.fullmatch(name)]:
                lock = try_lock(f"{folder}.lock")
                if lock is None:
                    continue
                if folder.exists():
                    remove_folder(folder)
                Path(f"{folder}.lock").unlink(missing_ok=True)
                os.close(lock)


def _spread(folder: Path) -> None:
    """Marks a folder: ext4 puts each new folder in it into another group of blocks, which its name decides too. Other file
    systems have no such mark; then nothing is done.

    ext4 gives no inode out again that was freed within the last five minutes: to make a file where a thousand were just
    removed, it looks at each of them. Beside the last step's folder, a step and its commands would wait long for each file."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            (flags,) = struct.unpack_from("I", fcntl.ioctl(handle, _GET_FLAGS, bytes(_LONG)))
            fcntl.ioctl(handle, _SET_FLAGS, struct.pack("I", flags | _TOP).ljust(_LONG, b"\0"))
        finally:
            os.close(handle)
