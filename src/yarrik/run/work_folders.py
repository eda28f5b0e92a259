"""Empty folders in which steps work, and what is left of them when a build is killed."""

from __future__ import annotations

import contextlib
import itertools
import os
import tempfile
import threading
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path

from yarrik.beneath import Folder, remove_folder
from yarrik.locks import held, take_lock, try_lock

#: Folders up to this size in bytes wait to be removed, and the most that wait.
_SMALL, _MOST_WAITING = 16 << 10, 4000


class WorkFolder:
    """The empty folder of one step at `path`, made when it is first asked for: many steps only read and write the store."""

    def __init__(self, path: Path) -> None:
        self.path = path
        #: The bytes that it takes on the disk, once that is known.
        self.size: int | None = None

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
        self.close()
        if self.is_made:
            remove_folder(self.path)

    def close(self) -> None:
        """Closes its descriptor."""
        if self.is_made:
            self.below.close()


class WorkFolders:
    """Empty folders for steps, removed afterwards. One lock for all of a build tells that they belong to somebody alive, so
    what a killed build left behind is cleared away by the next one."""

    def __init__(self, top: Path) -> None:
        self._top = top
        self._numbers = itertools.count(1)
        #: What holds the lock.
        self._lock: int | None = None
        self._guard = threading.Lock()
        #: How many small ones wait to be removed with the last: ext4 takes long to make a file where others were just removed.
        self._waiting = 0

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
                    self._folder = Path(tempfile.mkdtemp(dir=self._top)).resolve()
                    self._lock = take_lock(f"{self._folder}.lock")
            one = WorkFolder(self._folder / str(next(self._numbers)))
        try:
            yield one
        finally:
            with self._guard:
                small = one.is_made and one.size is not None and one.size <= _SMALL
                waits = small and self._waiting < _MOST_WAITING
                self._waiting += waits
            if waits:
                one.close()
            else:
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
        if not top.is_dir():
            return
        with WorkFolders._clearing(top):
            # A lock without its folder was left by somebody who ended between removing the two.
            names = sorted({path.with_suffix("") if path.suffix == ".lock" else path for path in top.iterdir()})
            for folder in names:
                lock = try_lock(f"{folder}.lock")
                if lock is None:
                    continue
                if folder.exists():
                    remove_folder(folder)
                Path(f"{folder}.lock").unlink(missing_ok=True)
                os.close(lock)
