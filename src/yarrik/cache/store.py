"""The store: files and trees kept under the digest of what they hold, and the results of steps under fingerprints.

Everything is written beside its place and moved there by one rename, so it appears whole or not at all, and any
number of builds may use one store. Objects are read-only; a second copy with the executable bit serves hard links.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import hashlib
import itertools
import os
import secrets
import shutil
import stat
import struct
import tempfile
import time
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property, lru_cache
from pathlib import Path
from typing import BinaryIO

import msgspec
import platformdirs

from yarrik.beneath import Folder, NotPlain
from yarrik.cache.tree import (
    CHUNK,
    Entry,
    Tree,
    TreeDamaged,
    by_threads,
    file_digest,
    is_digest,
    open_digest,
    plain_modes,
    read_tree,
)
from yarrik.errors import Damaged, Place, Trouble, YarrikError
from yarrik.moving import SHORT, copy_sparse, move_range
from yarrik.patterns import lazy_pattern

#: All objects and checkouts carry this time (seconds since 1970), so that no build can see when it ran.
STILL_TIME = 946684800
#: How an object is opened: nothing else in its place is followed or waited for.
_OBJECT = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
#: After this many seconds nobody continues a file that was begun.
LEFT_BEHIND = 86400
#: What files in the scratch folder are called: where a cache was laid into a folder of others, they have names of their own.
SCRATCH = "yarrik-"
_OURS = lazy_pattern(rf"{SCRATCH}[a-z0-9_]{{8}}|[0-9a-f]{{16}}-[0-9]+")
#: Files up to this size (bytes) are read whole when they are taken in: content that the store has is not written again.
_SMALL = 1 << 20
#: `struct flock` of the kernel's interface: type, whence, start, length, process (fcntl(2)).
_FLOCK = struct.Struct("hhqqi4x")


class MissingObject(LookupError):
    """The store does not hold this digest (any more)."""


class Result(msgspec.Struct, frozen=True):
    """What a step left: digests of its named outputs, what it wants said, its log's digest, and how long it took. `codes` are
    those of the notes that are warnings, in the same order; empty for other notes, left out where none follows."""

    outputs: Mapping[str, str]
    notes: tuple[str, ...] = ()
    log: str = ""
    seconds: float = 0.0
    codes: tuple[str, ...] = ()


def default_root() -> Path:
    """`YARRIK_CACHE` if set, else the user's cache folder."""
    named = os.environ.get("YARRIK_CACHE")
    return Path(named) if named else platformdirs.user_cache_path("yarrik")


class Damage(msgspec.Struct, frozen=True):
    """Something in the store that is not what its name says. It was taken out."""

    path: Path
    what: str


class Store:
    """A folder with `objects/`, `trees/` and `results/`. Makes it when it is not there.

    What is read from it is checked: records and trees by their digests, objects by the time that all of them were given when
    they were stored, and by their content too once it is another. `damages` lists what was found and taken out.

    What is made in it gets the rights of the folder itself, so several users have one cache if they may all write there."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self._top = os.fspath(root)
        self._numbers = itertools.count()
        self._token = secrets.token_hex(8)
        self.damages: list[Damage] = []
        #: What became of files that were moved in, by digest: the inode, and the time of its last change.
        self._moved_in: dict[str, tuple[int, int]] = {}
        self._tree = lru_cache(maxsize=512)(self._load_tree)

    @cached_property
    def scratch(self) -> Path:
        """Where things are written before they are moved to their place. Made at the first write only."""
        scratch = self.root / "tmp"
        try:
            self.make_folder(scratch)
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

    def make_folder(self, folder: Path) -> None:
        """Makes a folder of the store, with those above it that are missing."""
        if folder.is_dir():
            return
        if folder == self.root:
            folder.mkdir(parents=True, exist_ok=True)
            return
        self.make_folder(folder.parent)
        with contextlib.suppress(FileExistsError):
            folder.mkdir()
            mode = stat.S_IMODE(self.root.stat().st_mode)
            if mode & 0o022:
                folder.chmod(mode)

    def lock_file(self, name: str) -> BinaryIO:
        """A file of the store that is only locked, open for writing. Raises OSError."""
        path = self.root / name
        try:
            return path.open("r+b")
        except FileNotFoundError:
            self.make_folder(self.root)
            file = path.open("ab")
            with contextlib.suppress(OSError):
                os.fchmod(file.fileno(), 0o644 | self.root.stat().st_mode & 0o022)
            return file

    # Files

    def object_path(self, digest: str, executable: bool = False) -> Path:
        """Path of an object with this SHA-256, whether it exists or not."""
        return self.root / "objects" / digest[:2] / (digest + ".x" if executable else digest)

    def has(self, digest: str) -> bool:
        # Asked for every step of every build: plain strings are several times as fast as paths here.
        """Whether the store has an object or tree of this SHA-256. Its bytes are not read."""
        return os.path.exists(f"{self._top}/trees/{digest[:2]}/{digest}") or os.path.exists(
            f"{self._top}/objects/{digest[:2]}/{digest}"
        )

    def put_bytes(self, data: bytes) -> str:
        """Keeps bytes, and returns their SHA-256."""
        digest = hashlib.sha256(data).hexdigest()
        try:
            self.checked(digest)
        except MissingObject:
            self._place(data, self._object_name(digest))
        return digest

    def put_file(self, path: Path, move: bool = False) -> str:
        """Takes a file's content in; with `move` the file itself goes into the store (holes and all)."""
        if move and path.stat().st_dev == self.scratch.stat().st_dev:
            digest = file_digest(path)
            self._settle_at(os.fspath(path), self._object_name(digest))
            status = os.stat(self._object_name(digest))
            self._moved_in[digest] = status.st_ino, status.st_ctime_ns
            return digest
        with path.open("rb") as source:
            size = os.fstat(source.fileno()).st_size
            if size <= _SMALL:
                data = source.read(size + 1)
                if len(data) <= size:
                    return self.put_bytes(data)
                source.seek(0)
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
        """The bytes of an object. Raises MissingObject when it is not there or not as it was stored."""
        try:
            with open(self._object_name(digest), "rb") as file:
                data = file.read()
        except FileNotFoundError as error:
            raise MissingObject(digest) from error
        if hashlib.sha256(data).hexdigest() != digest:
            self.take_out(self.object_path(digest))
            raise MissingObject(digest)
        return data

    def checked_path(self, digest: str) -> Path:
        """Path of a verified object. Raises MissingObject."""
        return Path(self.checked(digest))

    def checked(self, digest: str, executable: bool = False) -> str:
        """The name of an object that is as it was stored. Raises MissingObject when it is not there or not that."""
        name = self._object_name(digest) + (".x" if executable else "")
        try:
            status = os.stat(name)
        except (FileNotFoundError, NotADirectoryError) as error:
            raise MissingObject(digest) from error
        # Writing into an object gives it another time, be it by hand or through a link to it.
        if status.st_mtime != STILL_TIME or not stat.S_ISREG(status.st_mode):
            if not stat.S_ISREG(status.st_mode) or file_digest(name) != digest:
                self.take_out(Path(name))
                raise MissingObject(digest)
            with contextlib.suppress(OSError):  # only its owner may
                _settle(name, 0o555 if executable else 0o444)
        return name

    def has_just_read(self, digest: str) -> bool:
        """Whether this process moved the object in, and read all of it for its digest, and nothing was done to it since: then
        there is no need to read it again."""
        try:
            status = os.stat(self._object_name(digest), follow_symlinks=False)
        except OSError:
            return False
        return self._moved_in.get(digest) == (status.st_ino, status.st_ctime_ns)

    def read_again(self, digests: Iterable[str]) -> None:
        """Reads objects whole, whatever their times say. Takes out what is damaged, and raises MissingObject then."""

        def damaged(digest: str) -> bool:
            name = self.checked(digest)
            if file_digest(name) == digest:
                return False
            self.take_out(Path(name))
            return True

        wanted = sorted(set(digests))
        lost = [digest for digest, bad in zip(wanted, by_threads(damaged, wanted), strict=True) if bad]
        if lost:
            raise MissingObject(lost[0])

    def take_out(self, path: Path) -> None:
        """Removes what is not what its name says, and notes it."""
        self.damages.append(Damage(path, "does not have the content that its name says"))
        with contextlib.suppress(OSError):
            path.unlink()

    # Trees

    def put_tree(self, tree: Tree) -> str:
        """Keeps a tree, whose files are there already, and returns its SHA-256."""
        target = self._tree_name(tree.digest)
        if not os.path.exists(target):
            self._place(tree.encoded, target)
        return tree.digest

    def tree(self, digest: str) -> Tree:
        """The tree with this digest. Raises MissingObject when it is not there or does not read as a tree."""
        return self._tree(digest)

    def _load_tree(self, digest: str) -> Tree:
        name = self._tree_name(digest)
        try:
            with open(name, "rb", buffering=0) as file:
                data = file.read()
        except FileNotFoundError as error:
            raise MissingObject(digest) from error
        try:
            if hashlib.sha256(data).hexdigest() != digest:
                raise TreeDamaged("it has another digest")
            return Tree.decode(data)
        except TreeDamaged as error:
            self.take_out(Path(name))
            raise MissingObject(digest) from error

    def snapshot(self, folder: Path | Folder, move: bool = False, plain: bool = False, suffixes: tuple[str, ...] = ()) -> Tree:
        """Takes a whole folder in and returns its tree. With `move` the files themselves go into the store.

        With `plain`, only the executable bit of the modes counts, as for sources that people edit. No link is followed."""
        if not isinstance(folder, Folder):
            with Folder.at(folder) as opened:
                return self.snapshot(opened, move, plain, suffixes)
        tree = read_tree(folder, lambda path, status: self._put_below(folder, path, status, move), suffixes)
        if plain:
            tree = plain_modes(tree)
        self.put_tree(tree)
        return tree

    def put_below(self, folder: Folder, path: str) -> tuple[str, int]:
        """Takes in a file that somebody else left in a folder, and returns its digest and size in bytes. Raises OSError."""
        with folder.open(path) as source:
            size = os.fstat(source.fileno()).st_size
            if size <= _SMALL:
                data = source.read(size + 1)
                if len(data) <= size:  # it did not grow meanwhile
                    return self.put_bytes(data), len(data)
                source.seek(0)
            return self.put_stream(source)

    def _put_below(self, folder: Folder, path: str, status: os.stat_result, move: bool) -> str:
        # A file of two names is copied: through the other one it could be written later.
        if not move or status.st_nlink > 1 or status.st_dev != self._device:
            return self.put_below(folder, path)[0]
        name = self._fresh_name()
        folder.move_out(path, name)
        try:
            handle = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
            try:
                if not stat.S_ISREG(os.fstat(handle).st_mode):
                    raise NotPlain(errno.EINVAL, "was replaced while it was taken in", path)
                digest = open_digest(handle)
            finally:
                os.close(handle)
            self._settle_at(name, self._object_name(digest))
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
        return digest

    @cached_property
    def _device(self) -> int:
        return self.scratch.stat().st_dev

    def lay_out(self, tree: Tree, folder: Folder | Path, writable: bool) -> None:
        """Puts the tree into `folder`, which may hold another tree already; raises FileExistsError where they clash, and
        NotPlain where the other one has a link or file in place of a folder.

        Without `writable`, files are hard links into the store where the file system allows it."""
        if not isinstance(folder, Folder):
            folder.mkdir(parents=True, exist_ok=True)
            with Folder.at(folder) as opened:
                return self.lay_out(tree, opened, writable)
        copies: list[Entry] = []
        above, parent = "", folder
        try:
            for entry in tree.entries:
                where, _, name = entry.path.rpartition("/")
                if where != above:
                    if parent is not folder:
                        parent.close()
                    above, parent = where, folder.folder(where) if where else folder
                try:
                    if entry.kind == "folder":
                        self._make_folder(parent, name)
                    elif entry.kind == "link":
                        parent.symlink(entry.content, name)
                    elif writable and entry.size > SHORT:
                        copies.append(entry)
                    elif writable:
                        self._copy_short(entry, parent, name)
                    else:
                        self._link_out(entry.content, parent, name, bool(entry.mode & 0o111))
                except FileExistsError as error:
                    raise FileExistsError(error.errno, error.strerror, entry.path) from error
        finally:
            if parent is not folder:
                parent.close()
        by_threads(lambda entry: self.copy_out(entry.content, folder, entry.path, entry.mode | 0o200), copies)
        if writable:
            for entry in reversed(tree.entries):
                if entry.kind == "folder":
                    folder.chmod(entry.path, entry.mode | 0o700)

    def _copy_short(self, entry: Entry, parent: Folder, name: str) -> None:
        """Copies a short file into a folder. Threads would take turns for most of it: one takes a quarter of their time."""
        try:
            source = os.open(self._object_name(entry.content), _OBJECT)
        except OSError:
            self.copy_out(entry.content, parent, name, entry.mode | 0o200)  # says what is wrong with it
            return
        try:
            status = os.fstat(source)
            if status.st_mtime != STILL_TIME or not stat.S_ISREG(status.st_mode) or status.st_size > SHORT:
                self.copy_out(entry.content, parent, name, entry.mode | 0o200)  # looks at all of it
                return
            target = parent.create(name)
            try:
                move_range(source, 0, target, 0, status.st_size)
                os.fchmod(target, entry.mode | 0o200)
                os.utime(target, (STILL_TIME, STILL_TIME))
            finally:
                os.close(target)
        finally:
            os.close(source)

    @staticmethod
    def _make_folder(parent: Folder, name: str) -> None:
        try:
            parent.make_folder(name)
        except FileExistsError:
            if not parent.is_folder(name):
                raise

    def copy_out(self, digest: str, folder: Folder, path: str, mode: int) -> None:
        """Copies an object to `path` below a folder, where nothing may be, keeping holes."""
        handle = folder.create(path)
        try:
            copy_sparse(self.checked(digest), handle)
            os.fchmod(handle, mode)
            os.utime(handle, (STILL_TIME, STILL_TIME))
        finally:
            os.close(handle)

    def _link_out(self, digest: str, parent: Folder, name: str, executable: bool) -> None:
        try:
            parent.link_here(self.checked(digest, executable), name)
            return
        except MissingObject:
            if not executable:
                raise
        except FileExistsError:
            raise
        except OSError:
            # Another file system, too many links to one object, or another user's: a copy does as well.
            self.copy_out(digest, parent, name, 0o755 if executable else 0o644)
            return
        with self._fresh() as (fresh, sink):
            sink.close()
            shutil.copyfile(self.checked(digest), fresh)
            self._settle_at(fresh, self._object_name(digest) + ".x", 0o555)
        self._link_out(digest, parent, name, executable)

    # Results of steps

    def result(self, fingerprint: str) -> Result | None:
        """The result kept under this fingerprint, if it and all that it names are still there."""
        result = self.record(fingerprint)
        return result if result is not None and all(map(self.has, result.outputs.values())) else None

    def record(self, fingerprint: str) -> Result | None:
        """What is written down of a result, whether what it names is still there or not."""
        name = self._result_name(fingerprint)
        try:
            return read_result(name, fingerprint)
        except (FileNotFoundError, OtherForm):
            return None
        except ResultDamaged:
            self.take_out(Path(name))
            return None

    def put_result(self, fingerprint: str, result: Result) -> None:
        """Keeps the result of a step under its fingerprint."""
        data = msgspec.json.encode(result)
        self._place(data + b"\n" + _seal(data, fingerprint), self._result_name(fingerprint))

    def drop(self, digest: str) -> None:
        """Removes a tree or an object, so that the steps that left it run again."""
        for name in (self._tree_name(digest), self._object_name(digest)):
            with contextlib.suppress(FileNotFoundError):
                Path(name).unlink()
        self._tree.cache_clear()

    def whole(self, digest: str) -> bool:
        """Whether an object, or a tree with all its files, is there as it was stored. All that is not is taken out."""
        self._tree.cache_clear()
        try:
            wanted = [entry.content for entry in self.tree(digest).files]
        except MissingObject:
            wanted = [digest]
        found = True
        for one in wanted:
            try:
                self.checked(one)
            except MissingObject:
                found = False
        return found

    def mark_used(self, fingerprints: Iterable[str]) -> None:
        """Notes that these results were used now; those that were within the hour are left alone."""
        now = time.time()
        for fingerprint in fingerprints:
            # Asked for every step of every build: plain strings, as in `has`.
            path = f"{self._top}/results/{fingerprint[:2]}/{fingerprint}"
            try:
                if now - os.stat(path).st_mtime > 3600:
                    os.utime(path)
            except OSError:
                pass

    def try_lock(self, fingerprint: str) -> BinaryIO | None:
        """Locks what is made under a fingerprint, until the returned file is closed; None while somebody else holds it.

        A byte of one file is locked, at a place that the fingerprint gives: nothing is left behind, and the kernel releases
        it when its holder dies, however that comes about."""
        _ = self.scratch  # makes the folder, or says why not
        file = self.lock_file("running")
        request = _FLOCK.pack(fcntl.F_WRLCK, os.SEEK_SET, int(fingerprint[:15], 16), 1, 0)
        try:
            fcntl.fcntl(file, fcntl.F_OFD_SETLK, request)
        except OSError as error:
            if error.errno in (errno.EAGAIN, errno.EACCES):
                file.close()
                return None
            # A file system without locks: then work may be done twice, to the same end.
        return file

    @contextlib.contextmanager
    def lock(self, fingerprint: str) -> Iterator[None]:
        """Waits for `try_lock`, and holds it."""
        while (file := self.try_lock(fingerprint)) is None:
            time.sleep(0.05)
        with file:
            yield

    def _tree_name(self, digest: str) -> str:
        return f"{self._top}/trees/{digest[:2]}/{digest}"

    def _result_name(self, fingerprint: str) -> str:
        return f"{self._top}/results/{fingerprint[:2]}/{fingerprint}"

    def _object_name(self, digest: str) -> str:
        return f"{self._top}/objects/{digest[:2]}/{digest}"

    @contextlib.contextmanager
    def _fresh(self) -> Iterator[tuple[str, BinaryIO]]:
        """A new file in the scratch folder, to be moved to its place; it is removed when something goes wrong."""
        name = self._fresh_name()
        sink = open(name, "xb")  # noqa: SIM115 (closed by the user, and below)
        try:
            yield name, sink
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
        finally:
            sink.close()

    def _place(self, data: bytes, target: str) -> None:
        # An archive of sources has tens of thousands of small files: each call of the kernel counts.
        name = self._fresh_name()
        handle = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        try:
            try:
                view = memoryview(data)
                while view:
                    view = view[os.write(handle, view) :]
                os.fchmod(handle, 0o444)
                os.utime(handle, (STILL_TIME, STILL_TIME))
            finally:
                os.close(handle)
            self._move_to(name, target)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise

    def _fresh_name(self) -> str:
        # Process numbers come round again, in containers soon: what a killed build left must not be in the way.
        return f"{self.scratch}/{self._token}-{next(self._numbers)}"

    def _settle_at(self, name: str, target: str, mode: int = 0o444) -> None:
        """Moves a finished file to its place, read-only and without a time of its own."""
        _settle(name, mode)
        self._move_to(name, target)

    def _move_to(self, name: str, target: str) -> None:
        try:
            os.replace(name, target)
        except FileNotFoundError:
            self.make_folder(Path(target).parent)
            os.replace(name, target)


class ResultDamaged(Damaged):
    """A kept result does not read as one."""


class OtherForm(ResultDamaged):
    """A result that a former version kept."""


def read_result(path: str | Path, fingerprint: str) -> Result:
    """Reads a kept result. Raises ResultDamaged when it is not what was stored under this fingerprint."""
    with open(path, "rb", buffering=0) as file:
        data, line_end, seal = file.read().rpartition(b"\n")
    if not line_end:
        raise OtherForm
    try:
        if seal != _seal(data, fingerprint):
            raise ResultDamaged("it has another digest")
        result = msgspec.json.decode(data, type=Result)
        if not all(map(is_digest, result.outputs.values())) or (result.log and not is_digest(result.log)):
            raise ResultDamaged("it names what is not a digest")
        return result
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise ResultDamaged(str(error)) from error


def _seal(data: bytes, fingerprint: str) -> bytes:
    return hashlib.sha256(fingerprint.encode() + b"\n" + data).hexdigest().encode()


def _clear_left_behind(scratch: Path) -> None:
    """Removes what builds that were killed had begun; other builds may be at work here."""
    for left in [path for path in scratch.iterdir() if _OURS.fullmatch(path.name)]:
        with contextlib.suppress(FileNotFoundError, IsADirectoryError):
            if left.stat().st_ctime < time.time() - LEFT_BEHIND:
                left.unlink()


def _settle(path: str | Path, mode: int) -> None:
    os.chmod(path, mode)
    os.utime(path, (STILL_TIME, STILL_TIME))
