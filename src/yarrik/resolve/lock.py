"""`yarrik.lock`: the exact sources that a workspace resolved to. So far: digests of archives that the host provides."""

from __future__ import annotations

import os
import tempfile
from dataclasses import dataclass, field
from pathlib import Path

from yarrik.errors import Place, Trouble, YarrikError
from yarrik.model.definitions import Definable
from yarrik.model.reading import convert, read_document
from yarrik.model.rules import Name, Sha256

LOCK_FILE = "yarrik.lock"
_HEAD = "# Written by Yarrik, to be committed: the exact sources this workspace was built from.\n"


class LockedSource(Definable, frozen=True, kw_only=True):
    """A file that the build host provided when the lock was written."""

    recipe: Name
    host_file: str
    sha256: Sha256


class _LockFile(Definable, frozen=True, kw_only=True):
    source: tuple[LockedSource, ...] = ()


@dataclass
class Lock:
    """The lock of one workspace; `changed` tells whether it has to be written."""

    file: Path
    sources: dict[tuple[str, str], str] = field(default_factory=dict)
    changed: bool = False

    def check(self, recipe: str, host_file: str, digest: str, asked_at: Place, renew: bool) -> Trouble | None:
        """Compares a file's digest with the locked one, or locks it when there is none (or `renew` is set)."""
        known = self.sources.get((recipe, host_file))
        if known == digest:
            return None
        if known is None or renew:
            self.sources[(recipe, host_file)] = digest
            self.changed = True
            return None
        return Trouble(
            "SOURCE-CHANGED",
            f"{host_file} is not the file that {LOCK_FILE} pins for `{recipe}`: "
            f"pinned is SHA-256 {known}, the file has {digest}",
            asked_at,
            why="the build would not be the one that was recorded; a package upgrade on this machine can replace the file",
            remedy="install the former version of the package, or accept the new file with `yarrik build --renew-lock`",
        )

    def write(self) -> None:
        """Writes the file, whole or not at all."""
        lines = [_HEAD]
        for (recipe, host_file), digest in sorted(self.sources.items()):
            lines.append(
                f"\n[[source]]\nrecipe = {_quoted(recipe)}\nhost-file = {_quoted(host_file)}\nsha256 = {_quoted(digest)}\n"
            )
        handle, name = tempfile.mkstemp(dir=self.file.parent, prefix=".lock-")
        with os.fdopen(handle, "w", encoding="utf-8") as sink:
            sink.write("".join(lines))
        os.chmod(name, 0o644)
        os.replace(name, self.file)
        self.changed = False


def _quoted(text: str) -> str:
    import json

    return json.dumps(text, ensure_ascii=False)


def read_lock(root: Path) -> Lock:
    """The lock in a workspace's folder; an empty one when there is no file yet."""
    file = root / LOCK_FILE
    if not file.exists():
        return Lock(file)
    locked = convert(read_document(file), _LockFile)
    sources: dict[tuple[str, str], str] = {}
    for source in locked.source:
        if (source.recipe, source.host_file) in sources:
            raise YarrikError(Trouble("LOCK-TWICE", f"`{source.recipe}` is locked twice for {source.host_file}", Place(file),
                                      remedy="take one of the two out, or remove the file to lock anew"))  # fmt: skip
        sources[(source.recipe, source.host_file)] = source.sha256
    return Lock(file, sources)
