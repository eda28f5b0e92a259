"""The store: files and trees kept under the digest of what they hold, and the results of steps under fingerprints.

Everything is written beside its place and moved there by one rename, so it appears whole or not at all, and any
number of builds may use one store. Objects are read-only; a second copy with the executable bit serves hard links.
"""

from __future__ import annotations

import contextlib
import hashlib
import itertools
import os
import secrets
import shutil
import tempfile
import time
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property, lru_cache
from pathlib import Path
from typing import BinaryIO

import msgspec
import platformdirs
from filelock import FileLock

from yarrik.cache.tree import CHUNK, Tree, TreeDamaged, plain_modes, read_tree
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.moving import copy_sparse

#: All objects and checkouts carry this time (seconds since 1970), so that no build can see when it ran.
STILL_TIME = 946684800
#: After so many seconds nobody comes back for a file that was begun.
LEFT_BEHIND = 86400


class MissingObject(LookupError):
    """The store does not hold this digest (any more)."""


@dataclass(frozen=True)
class Result:
    """What a step left: digests of its named outputs, what it wants said, its log's digest, and how long it took."""

    outputs: Mapping[str, str]
    notes: tuple[str, ...] = ()
    log: str = ""
    seconds: float = 0.0


def default_root() -> Path:
    """`YARRIK_CACHE` if set, else the user's cache folder."""
    named = os.environ.get("YARRIK_CACHE")
    return Path(named) if named else platformdirs.user_cache_path("yarrik")


class Store:
    """A folder with `objects/`, `trees/` and `results/`. Makes it when it is not there."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self._top = os.fspath(root)
        self._numbers = itertools.count()
        self._token = secrets.token_hex(8)
        self._tree = lru_cache(maxsize=512)(self._load_tree)

    @cached_property
    def _scratch(self) -> Path:
        """Where things are written before they are moved to their place. Made at the first write only."""
        scratch = self.root / "tmp"
        try:
            scratch.mkdir(parents=True, exist_ok=True)
            with tempfile.TemporaryFile(dir=scratch):
                pass
            _clear_left_behind(scratch)
        except OSError as error:
            raise YarrikError(
                Trouble(
                    "CACHE-UNWRITABLE",
                    f"the cache folder cannot be written: {error.strerror}",
                    Place(self.root),
                    why="every step's result is kept there",
                    remedy="make it writable, or name another folder in the environment variable YARRIK_CACHE",
                )
            ) from error
        return scratch

    # Files

    def object_path(self, digest: str, executable: bool = False) -> Path:
        return self.root / "objects" / digest[:2] / (digest + ".x" if executable else digest)

    def has(self, digest: str) -> bool:
        # Asked for every step of every build: plain strings are several times as fast as paths here.
        return os.path.exists(f"{self._top}/trees/{digest[:2]}/{digest}") or os.path.exists(
            f"{self._top}/objects/{digest[:2]}/{digest}"
        )

    def put_bytes(self, data: bytes) -> str:
        digest = hashlib.sha256(data).hexdigest()
        if not os.path.exists(self._object_name(digest)):
            self._place(data, self.object_path(digest))
        return digest

    def put_file(self, path: Path, move: bool = False) -> str:
        """Takes a file's content in; with `move` the file itself goes into the store (holes and all)."""
        if move and path.stat().st_dev == self._scratch.stat().st_dev:
            with path.open("rb") as file:
                digest = hashlib.file_digest(file, "sha256").hexdigest()
            self._settle_at(os.fspath(path), self._object_name(digest))
            return digest
        with path.open("rb") as source:
            return self.put_stream(source)[0]

    def put_stream(self, source: BinaryIO) -> tuple[str, int]:
        """Takes in what a stream holds, and returns its digest and size in bytes.

        Digest and copy are made in one pass: what is stored is what was digested, even while somebody edits the file."""
        sha = hashlib.sha256()
        size = 0
        with self._fresh() as (name, sink):
            while chunk := source.read(CHUNK):
                sha.update(chunk)
                size += len(chunk)
                sink.write(chunk)
            sink.close()
            self._settle_at(name, self._object_name(sha.hexdigest()))
        return sha.hexdigest(), size

    def get_bytes(self, digest: str) -> bytes:
        try:
            return self.object_path(digest).read_bytes()
        except FileNotFoundError as error:
            raise MissingObject(digest) from error

    # Trees

    def put_tree(self, tree: Tree) -> str:
        target = self._tree_path(tree.digest)
        if not target.exists():
            self._place(tree.encoded, target)
        return tree.digest

    def tree(self, digest: str) -> Tree:
        """The tree with this digest. Raises MissingObject when it is not there or does not read as a tree."""
        return self._tree(digest)

    def _load_tree(self, digest: str) -> Tree:
        try:
            return Tree.decode(self._tree_path(digest).read_bytes())
        except (FileNotFoundError, TreeDamaged) as error:
            raise MissingObject(digest) from error

    def snapshot(self, folder: Path, move: bool = False, plain: bool = False, suffixes: tuple[str, ...] = ()) -> Tree:
        """Takes a whole folder in and returns its tree. With `move` the files themselves go into the store.

        With `plain`, only the executable bit of the modes counts, as for sources that people edit."""
        tree = read_tree(folder, lambda path, _: self.put_file(path, move), suffixes)
        if plain:
            tree = plain_modes(tree)
        self.put_tree(tree)
        return tree

    def lay_out(self, tree: Tree, folder: Path, writable: bool) -> None:
        """Puts the tree into `folder`, which may hold another tree already; files must not clash.

        Without `writable`, files are hard links into the store where the file system allows it."""
        folder.mkdir(parents=True, exist_ok=True)
        top = os.fspath(folder)
        for entry in tree.entries:
            target = f"{top}/{entry.path}"
            if entry.kind == "folder":
                with contextlib.suppress(FileExistsError):
                    os.mkdir(target)
            elif entry.kind == "link":
                os.symlink(entry.content, target)
            elif writable:
                self.copy_out(entry.content, Path(target), entry.mode | 0o200)
            else:
                self._link_out(entry.content, target, bool(entry.mode & 0o111))
        if writable:
            for entry in reversed(tree.entries):
                if entry.kind == "folder":
                    (folder / entry.path).chmod(entry.mode | 0o700)

    def copy_out(self, digest: str, target: Path, mode: int) -> None:
        """Copies an object to `target`, which must not exist, keeping holes."""
        source = self.object_path(digest)
        try:
            copy_sparse(source, target)
        except FileNotFoundError as error:
            if not source.exists():
                raise MissingObject(digest) from error
            raise
        _settle(target, mode)

    def _link_out(self, digest: str, target: str, executable: bool) -> None:
        source = self._object_name(digest) + (".x" if executable else "")
        try:
            os.link(source, target)
            return
        except FileNotFoundError:
            if not executable or not self.object_path(digest).exists():
                raise MissingObject(digest) from None
        except FileExistsError:
            raise
        except OSError:
            # Another file system, or too many links to one object: a copy does as well.
            self.copy_out(digest, Path(target), 0o755 if executable else 0o644)
            return
        with self._fresh() as (name, sink):
            sink.close()
            shutil.copyfile(self.object_path(digest), name)
            self._settle_at(name, source, 0o555)
        self._link_out(digest, target, executable)

    # Results of steps

    def result(self, fingerprint: str) -> Result | None:
        """The result kept under this fingerprint, if it and all that it names are still there."""
        try:
            result = msgspec.json.decode(self._result_path(fingerprint).read_bytes(), type=Result)
        except (FileNotFoundError, msgspec.DecodeError):
            return None
        return result if all(self.has(digest) for digest in result.outputs.values()) else None

    def put_result(self, fingerprint: str, result: Result) -> None:
        self._place(msgspec.json.encode(result), self._result_path(fingerprint))

    def mark_used(self, fingerprints: Iterable[str]) -> None:
        """Notes that these results were used now; those that were within the hour are left alone."""
        now = time.time()
        for fingerprint in fingerprints:
            path = self._result_path(fingerprint)
            with contextlib.suppress(OSError):
                if now - path.stat().st_mtime > 3600:
                    os.utime(path)

    def lock(self, fingerprint: str) -> FileLock:
        """Held while a step runs, so that two builds do not do the same work twice."""
        folder = self.root / "locks"
        folder.mkdir(parents=True, exist_ok=True)
        return FileLock(folder / fingerprint[:32])

    def _tree_path(self, digest: str) -> Path:
        return self.root / "trees" / digest[:2] / digest

    def _result_path(self, fingerprint: str) -> Path:
        return self.root / "results" / fingerprint[:2] / fingerprint

    def _object_name(self, digest: str) -> str:
        return f"{self._top}/objects/{digest[:2]}/{digest}"

    @contextlib.contextmanager
    def _fresh(self) -> Iterator[tuple[str, BinaryIO]]:
        """A new file in the scratch folder, to be moved to its place; it is removed when something goes wrong."""
        # Process numbers come round again, in containers soon: what a killed build left must not be in the way.
        name = f"{self._scratch}/{self._token}-{next(self._numbers)}"
        sink = open(name, "xb")  # noqa: SIM115 (closed by the user, and below)
        try:
            yield name, sink
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
        finally:
            sink.close()

    def _place(self, data: bytes, target: Path) -> None:
        with self._fresh() as (name, sink):
            sink.write(data)
            sink.close()
            self._settle_at(name, os.fspath(target))

    @staticmethod
    def _settle_at(name: str, target: str, mode: int = 0o444) -> None:
        """Moves a finished file to its place, read-only and without a time of its own."""
        _settle(name, mode)
        try:
            os.replace(name, target)
        except FileNotFoundError:
            os.makedirs(os.path.dirname(target), exist_ok=True)
            os.replace(name, target)


def _clear_left_behind(scratch: Path) -> None:
    """Removes what builds that were killed had begun; other builds may be at work here."""
    for left in scratch.iterdir():
        with contextlib.suppress(FileNotFoundError):
            if left.stat().st_ctime < time.time() - LEFT_BEHIND:
                left.unlink()


def _settle(path: str | Path, mode: int) -> None:
    os.chmod(path, mode)
    os.utime(path, (STILL_TIME, STILL_TIME))
