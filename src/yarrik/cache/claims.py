"""Which step is built by whom: builds that share a cache do not do the same work twice.

A claim on a fingerprint is a lock on one byte of the store's file `running`, at a place that the fingerprint gives: nothing is
left behind, and the kernel releases it when its holder dies. Who holds it is written in the build's own file in `builds/`: the
kernel does not tell who holds such a lock. That file is locked too, so files of builds that died are known and removed."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import tempfile
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

import msgspec

from yarrik.beneath import Folder
from yarrik.cache.store import Store

_LONGEST = 1 << 20


class Holder(msgspec.Struct, frozen=True):
    """A build that holds a claim: its process, workspace and product."""

    process: int
    workspace: str
    product: str


class Claims(msgspec.Struct, dict=True):
    """The claims of one build. Closed with `close`."""

    store: Store
    workspace: str
    product: str

    def take(self, fingerprint: str) -> BinaryIO | None:
        """Claims a step; the claim ends when the returned file is closed. None while another holds it."""
        lock = self.store.try_lock(fingerprint)
        if lock is not None and self._record is not None:
            with contextlib.suppress(OSError):
                os.write(self._record, fingerprint.encode() + b"\n")
        return lock

    def holder(self, fingerprint: str) -> Holder | None:
        """Who holds a step that could not be claimed, if that build says so."""
        try:
            with Folder.at(self._folder) as folder:
                names = [name for name, _, _ in folder.walk(deep=False)]
                for name in names:
                    with folder.open(name) as file:
                        if _is_alive(file):
                            head, *held = file.read(_LONGEST).split(b"\n")
                            if fingerprint.encode() in held:
                                return msgspec.json.decode(head, type=Holder)
                        else:
                            folder.remove(name)
        except (OSError, msgspec.DecodeError, UnicodeDecodeError):
            pass
        return None

    def close(self) -> None:
        """Removes the record by which other processes know this one."""
        if "_record" in self.__dict__ and self._record is not None:
            with contextlib.suppress(OSError):
                Path(self._path).unlink()
            os.close(self._record)

    @property
    def _folder(self) -> Path:
        return self.store.root / "builds"

    @cached_property
    def _record(self) -> int | None:
        """The build's own file, made at the first claim; None where none can be written."""
        try:
            self.store.make_folder(self._folder)
            handle, self._path = tempfile.mkstemp(dir=self._folder)
            os.fchmod(handle, 0o644)
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            os.write(handle, msgspec.json.encode(Holder(os.getpid(), self.workspace, self.product)) + b"\n")
        except OSError:
            return None
        return handle


def _is_alive(file: BinaryIO) -> bool:
    """Whether the build that made this file still runs."""
    try:
        fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except OSError as error:
        return error.errno in (errno.EAGAIN, errno.EACCES)
    return False
