"""What lies in the store, what can go, and whether it is still what it was."""

from __future__ import annotations

import contextlib
import fcntl
import os
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path

import msgspec

from yarrik.beneath import remove_folder
from yarrik.cache.store import STILL_TIME, Damage, MissingObject, Result, ResultDamaged, Store, read_result
from yarrik.cache.tree import file_digest
from yarrik.errors import Place, Trouble, YarrikError

KINDS = ("objects", "trees", "results", "toolchains", "tmp")
#: What is younger than this many seconds may belong to a build that has not recorded it yet.
_YOUNG = 3600
#: The folder of views of the machine that steps see, the one in it with the files that they have in common, and seconds after
#: which an unused view goes.
VIEWS, COPIES, _VIEWS_LAST = "host", "copies", 30 * 86400.0


class Amount(msgspec.Struct, frozen=True):
    """Files of one kind and the bytes that they take on the disk."""

    files: int
    bytes: int


class Pruned(msgspec.Struct, frozen=True):
    """What was removed, and what is left."""

    results: int
    files: int
    bytes: int
    left: int


def amounts(store: Store) -> dict[str, Amount]:
    """Files and bytes by kind."""
    found = {}
    for kind in KINDS:
        sizes = [_bytes(status) for _, status in _files(store.root / kind)]
        found[kind] = Amount(len(sizes), sum(sizes))
    return found


def work_kept(store: Store) -> tuple[int, float]:
    """How many results there are, and the seconds that it took to make them."""
    seconds = [result.seconds for _, result, _ in _results(store)]
    return len(seconds), sum(seconds)


def reach(store: Store, digests: Iterable[str]) -> Mapping[Path, int]:
    """The files that these digests lead to, with the bytes that they take."""
    found: dict[Path, int] = {}
    for digest in set(digests):
        for path in _paths_of(store, digest):
            with contextlib.suppress(FileNotFoundError):
                found[path] = _bytes(path.stat())
    return found


@contextlib.contextmanager
def in_use(store: Store) -> Iterator[None]:
    """Held while a build runs: nothing is pruned meanwhile."""
    with _guard(store, fcntl.LOCK_SH):
        yield


def _clear_views(store: Store, before: float) -> None:
    """Removes this user's views of the machine that were not used since a time; the next build that needs one makes it."""
    top = store.root / VIEWS / str(os.getuid())
    with contextlib.suppress(OSError):
        for view in sorted(top.iterdir()):
            if view.name != COPIES and view.is_dir() and view.lstat().st_mtime < before:
                remove_folder(view)
        with os.scandir(top / COPIES) as copies:
            for copy in copies:
                if copy.stat(follow_symlinks=False).st_nlink == 1:  # no view has it any more
                    Path(copy.path).unlink(missing_ok=True)


def prune(store: Store, keep: int | None = None, unused_for: float | None = None) -> Pruned:
    """Removes the results that were not used for longest, until the store takes `keep` bytes, or all that were not used for so
    many seconds; then every file that no result leads to. Raises YarrikError while a build runs."""
    with _guard(store, fcntl.LOCK_EX | fcntl.LOCK_NB):
        now = time.time()
        results = sorted(_results(store), key=lambda one: (one[2], one[0]))
        sizes: dict[Path, int] = {}
        users: dict[Path, int] = {}
        of_result: dict[Path, list[Path]] = {}
        for path, result, _ in results:
            wanted = {*result.outputs.values(), *([result.log] if result.log else [])}
            reached = reach(store, wanted)
            of_result[path] = list(reached)
            for file, size in reached.items():
                sizes[file] = size
                users[file] = users.get(file, 0) + 1
        total = sum(sizes.values())
        gone = 0
        for path, _, used in results:
            old = unused_for is not None and now - used > unused_for
            if not old and (keep is None or total <= keep):
                continue
            with contextlib.suppress(PermissionError):
                path.unlink(missing_ok=True)
                gone += 1
            for file in of_result[path]:
                users[file] -= 1
                if users[file] == 0:
                    total -= sizes[file]
        files = freed = 0
        for kind in ("objects", "trees"):
            for file, status in _files(store.root / kind):
                if users.get(file):
                    continue
                # What no result ever led to may be a running build's, whose result is still to come.
                if file in users or now - status.st_ctime > _YOUNG:
                    try:
                        file.unlink(missing_ok=True)
                    except PermissionError:  # another user's, in a folder where only owners may remove
                        continue
                    files += 1
                    freed += _bytes(status)
        _clear_views(store, now - (unused_for if unused_for is not None else _VIEWS_LAST))
        return Pruned(gone, files, freed, sum(one.bytes for one in amounts(store).values()))


def verify(store: Store, tell: Callable[[int, int], None] = lambda done, total: None) -> list[Damage]:
    """Reads everything again. What is not what its name says is taken out, so that it is made again when it is needed."""
    found: list[Damage] = []
    files = [*_files(store.root / "objects"), *_files(store.root / "trees")]
    for number, (path, _) in enumerate(files):
        digest = path.name.removesuffix(".x")
        try:
            good = file_digest(path) == digest
        except OSError as error:
            found.append(Damage(path, f"cannot be read: {error.strerror}"))
            continue
        if not good:
            path.unlink(missing_ok=True)
            found.append(Damage(path, "does not have the content that its name says"))
        if number % 200 == 0:
            tell(number, len(files))
    for path, _ in _files(store.root / "results"):
        try:
            result = read_result(path, path.name)
        except ResultDamaged:
            found.append(Damage(path, "is no result"))
            path.unlink(missing_ok=True)
            continue
        if not all(_whole(store, digest) for digest in result.outputs.values()):
            found.append(Damage(path, "names files that are not there any more"))
            path.unlink(missing_ok=True)
    return found


def _whole(store: Store, digest: str) -> bool:
    return all(path.exists() for path in _paths_of(store, digest))


def _paths_of(store: Store, digest: str) -> Iterator[Path]:
    """The files that a digest leads to: an object, or a tree with its files."""
    try:
        tree = store.tree(digest)
    except MissingObject:
        yield store.object_path(digest)
        return
    yield store.root / "trees" / digest[:2] / digest
    for entry in tree.files:
        yield store.object_path(entry.content)
        executable = store.object_path(entry.content, executable=True)
        if entry.mode & 0o111 and executable.exists():
            yield executable


def _results(store: Store) -> Iterator[tuple[Path, Result, float]]:
    """Each result with its file and the time (seconds since 1970) that it was used last."""
    for path, status in _files(store.root / "results"):
        with contextlib.suppress(ResultDamaged, FileNotFoundError):
            # One that was never used again still carries the time that everything in the store carries.
            used = status.st_ctime if status.st_mtime == STILL_TIME else status.st_mtime
            yield path, read_result(path, path.name), used


def _files(top: Path) -> Iterator[tuple[Path, os.stat_result]]:
    for folder, folders, names in os.walk(top):
        folders.sort()
        for name in sorted(names):
            path = Path(folder, name)
            with contextlib.suppress(FileNotFoundError):
                yield path, path.lstat()


def _bytes(status: os.stat_result) -> int:
    return status.st_blocks * 512


@contextlib.contextmanager
def _guard(store: Store, how: int) -> Iterator[None]:
    try:
        guard = store.lock_file("in-use")
    except OSError:
        if how & fcntl.LOCK_EX:
            raise
        yield  # nobody prunes what nobody may write
        return
    with guard as file:
        try:
            fcntl.flock(file, how)
        except BlockingIOError as error:
            raise YarrikError(
                Trouble("CACHE-BUSY", "a build is using the cache right now", Place(store.root),
                        why="it might need what would be removed", remedy="wait until it has ended, then try again")
            ) from error  # fmt: skip
        yield
