"""Folders whose content somebody else made: everything below one is opened relative to its descriptor, and no link is followed.

A step, an archive or an image may leave a link where a folder belongs. The kernel resolves each path below the descriptor with
`RESOLVE_BENEATH` and `RESOLVE_NO_SYMLINKS` (openat2(2), Linux 5.6); where that call is missing, each word of the path is opened
by itself with `O_NOFOLLOW`.
"""

from __future__ import annotations

import contextlib
import errno
import functools
import itertools
import os
import stat
from collections.abc import Callable, Iterator
from pathlib import Path
from types import TracebackType
from typing import BinaryIO

#: The number of openat2(2) in the kernel's interface, the same on all architectures.
_OPENAT2 = 437
#: `RESOLVE_NO_MAGICLINKS | RESOLVE_NO_SYMLINKS | RESOLVE_BENEATH` (linux/openat2.h).
_RESOLVE = 0x02 | 0x04 | 0x08
#: The kernel takes paths of less than 4,096 bytes (PATH_MAX); longer ones are opened in pieces.
_PIECE = 3000
#: Texts and tables that are read whole may be so large (bytes).
LARGEST_TEXT = 64 << 20
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC | os.O_NOFOLLOW
# A FIFO without a writer must not block its reader.
_READ = os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_NOCTTY
_CREATE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC | os.O_NOFOLLOW


class NotPlain(OSError):
    """What was found is not what was expected: a link or a file where a folder belongs, or something that is not a file.

    `filename` is the path below the folder, `strerror` says what was found."""


class NotThere(NotPlain, FileNotFoundError):
    """Nothing is where something was expected."""


class Folder:
    """A folder that is held open. Paths are relative to it; one that leads out of it, or through a link, is an OSError."""

    def __init__(self, handle: int) -> None:
        self.handle = handle

    @classmethod
    def at(cls, path: str | Path) -> Folder:
        """The folder at a path that is the caller's own: links on the way to it are followed. Raises OSError."""
        return cls(os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC))

    def __enter__(self) -> Folder:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Closes the descriptor; paths below can no longer be opened."""
        if self.handle >= 0:
            os.close(self.handle)
            self.handle = -1

    # Looking

    @property
    def identity(self) -> tuple[int, int]:
        """Device and inode: another folder in its place has others."""
        status = os.fstat(self.handle)
        return status.st_dev, status.st_ino

    def within(self, path: str) -> str:
        """`path` with its links resolved, as a path below this folder again. Raises NotPlain when they lead out of it."""
        top = os.path.realpath(f"/proc/self/fd/{self.handle}")
        real = os.path.realpath(f"{top}/{path}")
        if path.startswith("/") or not real.startswith(f"{top}/"):
            raise NotPlain(errno.EXDEV, "leads out of its folder", path)
        return real[len(top) + 1 :]

    def folder(self, path: str) -> Folder:
        """A folder below ("." is this one). Raises NotPlain for something else, FileNotFoundError when it is not there."""
        return Folder(self._opened(path, _FOLDER))

    def is_folder(self, path: str) -> bool:
        """Whether a path below is a folder, and no link on the way to it."""
        try:
            self.folder(path).close()
        except OSError:
            return False
        return True

    def is_file(self, path: str) -> bool:
        """Whether a path below is a regular file, and no link on the way to it."""
        try:
            self.open(path).close()
        except OSError:
            return False
        return True

    def open(self, path: str) -> BinaryIO:
        """A regular file for reading. Raises NotPlain when it is something else, FileNotFoundError when it is not there."""
        handle = self._opened(path, _READ)
        try:
            mode = os.fstat(handle).st_mode
            if not stat.S_ISREG(mode):
                raise NotPlain(errno.EINVAL, f"is {kind_of(mode)}, and a file belongs there", path)
            return open(handle, "rb")
        except BaseException:
            os.close(handle)
            raise

    def read(self, path: str) -> bytes:
        """The bytes of a regular file below. Raises as `open` does."""
        with self.open(path) as file:
            return file.read()

    def text(self, path: str) -> str:
        """A file's text. What is not UTF-8 comes out as replacement characters."""
        return self.read(path).decode("utf-8", "replace")

    def walk(self, deep: bool = True) -> Iterator[tuple[str, os.stat_result, str]]:
        """Everything below (or right in it, without `deep`), each folder before what it holds: path, status, and the
        destination of a link.

        `.git` is left out. Raises OSError when something cannot be read."""
        waiting = [""]
        while waiting:
            prefix = waiting.pop()
            below: list[str] = []
            with self._parent_or_self(prefix) as folder:
                with os.scandir(folder.handle) as found:
                    names = sorted(entry.name for entry in found if entry.name != ".git")
                for name in names:
                    path = f"{prefix}/{name}" if prefix else name
                    status = os.stat(name, dir_fd=folder.handle, follow_symlinks=False)
                    target = os.readlink(name, dir_fd=folder.handle) if stat.S_ISLNK(status.st_mode) else ""
                    yield path, status, target
                    if deep and stat.S_ISDIR(status.st_mode):
                        below.append(path)
            waiting += reversed(below)

    # Changing

    def make_folder(self, path: str, mode: int = 0o777) -> None:
        """Makes a folder. Raises FileExistsError when something is there already."""
        with self._parent(path) as (parent, name):
            os.mkdir(name, mode, dir_fd=parent)

    def create(self, path: str, mode: int = 0o666) -> int:
        """A new file, open for writing; returns its descriptor. Raises FileExistsError when something is there already."""
        return self._opened(path, _CREATE, mode)

    def write(self, path: str, data: bytes, mode: int = 0o644) -> None:
        """Writes a file in place of the one at `path`, which must not be a folder."""
        with self._parent(path) as (parent, name):
            with contextlib.suppress(FileNotFoundError):
                os.unlink(name, dir_fd=parent)
            with open(os.open(name, _CREATE, 0o600, dir_fd=parent), "wb") as sink:
                sink.write(data)
                os.fchmod(sink.fileno(), mode)

    def symlink(self, target: str, path: str) -> None:
        """Makes a symbolic link at a path below, as it is written; the target is not looked at."""
        with self._parent(path) as (parent, name):
            os.symlink(target, name, dir_fd=parent)

    def link_here(self, source: str, path: str) -> None:
        """Makes `path` a hard link to a file of the caller's own."""
        with self._parent(path) as (parent, name):
            os.link(source, name, dst_dir_fd=parent, follow_symlinks=False)

    def move_out(self, path: str, target: str) -> None:
        """Moves a file or folder to a path of the caller's own on the same file system. A link is moved as a link."""
        with self._parent(path) as (parent, name):
            os.rename(name, target, src_dir_fd=parent)

    def chmod(self, path: str, mode: int) -> None:
        """Sets the mode of a folder."""
        with self.folder(path) as folder:
            os.fchmod(folder.handle, mode)

    def remove(self, path: str) -> bool:
        """Removes a file, a link, or a folder with all that is in it, however deep. False when something could not go."""
        try:
            with self._parent(path) as (parent, name):
                return _removed(parent, name)
        except FileNotFoundError:
            return True
        except OSError:
            return False

    # How paths are resolved

    def _opened(self, path: str, flags: int, mode: int = 0) -> int:
        if "\0" in path:
            raise NotPlain(errno.EINVAL, "is no path", path)
        try:
            return _open_beneath(self.handle, path, flags, mode)
        except OSError as error:
            wanted = "a folder" if flags & os.O_DIRECTORY else "a file"
            if error.errno in (errno.ELOOP, errno.ENOTDIR, errno.EXDEV):
                raise NotPlain(error.errno, self._what_is_in_the_way(path, wanted), path) from error
            if error.errno == errno.ENXIO:  # a socket, or a FIFO that is to be written
                raise NotPlain(error.errno, "is no file", path) from error
            if error.errno == errno.ENOENT:
                raise NotThere(error.errno, f"is not there, and {wanted} belongs there", path) from error
            raise OSError(error.errno, error.strerror, path) from error

    def _what_is_in_the_way(self, path: str, wanted: str) -> str:
        words = path.split("/")
        for count in range(1, len(words) + 1):
            upper = "/".join(words[:count])
            try:
                with self._parent(upper) as (parent, name):
                    mode = os.stat(name, dir_fd=parent, follow_symlinks=False).st_mode
            except OSError:
                break
            if count == len(words) or not stat.S_ISDIR(mode):
                belongs = wanted if count == len(words) else "a folder"
                return f"is {kind_of(mode)}, and {belongs} belongs there" if count == len(words) else (
                    f"has {kind_of(mode)} on its way ({upper}), and {belongs} belongs there")  # fmt: skip
        return "leads out of its folder"

    @contextlib.contextmanager
    def _parent_or_self(self, path: str) -> Iterator[Folder]:
        if not path:
            yield self
            return
        with self.folder(path) as folder:
            yield folder

    @contextlib.contextmanager
    def _parent(self, path: str) -> Iterator[tuple[int, str]]:
        """The descriptor of the folder that holds `path`, and the last word of it."""
        above, _, name = path.rpartition("/")
        if name in ("", ".", ".."):
            raise NotPlain(errno.EXDEV, "leads out of its folder", path)
        if not above:
            yield self.handle, name
            return
        handle = self._opened(above, _FOLDER)
        try:
            yield handle, name
        finally:
            os.close(handle)


def regular_file(path: str | Path, most: int = LARGEST_TEXT) -> bytes:
    """The content of a file that a user or a file of theirs names. Raises OSError when it is a device, a pipe, or larger than
    `most` bytes: such a one may have no end."""
    handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOCTTY)
    with open(handle, "rb") as file:
        status = os.fstat(handle)
        if not stat.S_ISREG(status.st_mode):
            raise NotPlain(errno.EINVAL, f"is {kind_of(status.st_mode)}, and a file belongs there", os.fspath(path))
        data = file.read(most + 1)
    if len(data) > most:
        raise NotPlain(errno.EFBIG, f"is larger than {most >> 20} MiB", os.fspath(path))
    return data


def kind_of(mode: int) -> str:
    """What a mode says a thing is, with its article."""
    kinds: tuple[tuple[Callable[[int], bool], str], ...] = (
        (stat.S_ISREG, "a file"), (stat.S_ISDIR, "a folder"), (stat.S_ISLNK, "a link"), (stat.S_ISFIFO, "a FIFO"),
        (stat.S_ISSOCK, "a socket"),
    )  # fmt: skip
    return next((name for is_kind, name in kinds if is_kind(mode)), "a device node")


def remove_folder(path: str | Path) -> bool:
    """Removes a folder of the caller's own with all that is in it, whatever that is. False when something could not go."""
    above, name = os.path.split(os.path.abspath(path))  # noqa: PTH100 (resolve() would follow a link)
    try:
        with Folder.at(above) as folder:
            return folder.remove(name)
    except FileNotFoundError:
        return True


def _removed(parent: int, name: str) -> bool:
    """Removes `name`. Folders are brought to the top one by one, so no depth needs a stack, many descriptors or long paths."""
    try:
        os.unlink(name, dir_fd=parent)
        return True
    except FileNotFoundError:
        return True
    except OSError as error:
        if error.errno not in (errno.EISDIR, errno.EPERM, errno.EACCES):
            return False
    numbers = itertools.count()
    clean = True
    try:
        top = os.open(name, _FOLDER, dir_fd=parent)
    except PermissionError:
        _let_in(parent, name)
        top = os.open(name, _FOLDER, dir_fd=parent)
    except OSError:
        return False
    try:
        waiting: list[str] = [""]
        while waiting:
            current = waiting.pop()
            if current:
                # Most of a step's folders are empty at its end.
                with contextlib.suppress(OSError):
                    os.rmdir(current, dir_fd=top)
                    continue
            clean = _emptied(top, current, waiting, numbers) and clean
    finally:
        os.close(top)
    with contextlib.suppress(OSError):
        os.rmdir(name, dir_fd=parent)
        return clean
    return False


def _let_in(parent: int, name: str) -> None:
    """Gives the caller all rights to a folder, and to nothing that a link leads to."""
    handle = os.open(name, os.O_PATH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=parent)
    try:
        os.chmod(f"/proc/self/fd/{handle}", 0o700)
    finally:
        os.close(handle)


def _emptied(top: int, current: str, waiting: list[str], numbers: Iterator[int]) -> bool:
    """Removes a folder right below `top` (or what is in `top` itself, for ""), and moves the folders in it up to `top`."""
    handle = top
    clean = True
    try:
        if current:
            _let_in(top, current)
            handle = os.open(current, _FOLDER, dir_fd=top)
        else:
            os.fchmod(top, 0o700)
        with os.scandir(handle) as found:
            rows = [(entry.name, entry.is_dir(follow_symlinks=False)) for entry in found]
        for name, is_folder in rows:
            if not is_folder:
                os.unlink(name, dir_fd=handle)
            elif not current:
                waiting.append(name)
            else:
                _let_in(handle, name)  # to move a folder, its `..` is written
                upper = f".removing-{next(numbers)}-{os.getpid()}"
                os.rename(name, upper, src_dir_fd=handle, dst_dir_fd=top)
                waiting.append(upper)
        if current:
            os.rmdir(current, dir_fd=top)
    except OSError:
        clean = False
    finally:
        if handle not in (top, -1):
            os.close(handle)
    return clean


def _open_beneath(handle: int, path: str, flags: int, mode: int) -> int:
    """Opens a path below a folder. Raises OSError: ELOOP or ENOTDIR for a link or file on the way, EXDEV for a way out."""
    if not path or path.startswith("/"):
        raise OSError(errno.EXDEV, os.strerror(errno.EXDEV), path)
    encoded = os.fsencode(path)
    if len(encoded) <= _PIECE:
        return _open_piece(handle, encoded, flags, mode)
    words = encoded.split(b"/")
    current = os.dup(handle)
    try:
        while len(words) > 1:
            count = size = 0
            while count < len(words) - 1 and (not count or size + len(words[count]) < _PIECE):
                size += len(words[count]) + 1
                count += 1
            following = _open_piece(current, b"/".join(words[:count]), _FOLDER, 0)
            os.close(current)
            current = following
            words = words[count:]
        return _open_piece(current, words[0], flags, mode)
    finally:
        os.close(current)


def _open_piece(handle: int, path: bytes, flags: int, mode: int) -> int:
    call = _openat2()
    if call is not None:
        return call(handle, path, flags, mode)
    return _open_by_words(handle, path, flags, mode)


def _open_by_words(handle: int, path: bytes, flags: int, mode: int) -> int:
    """The same without openat2: word by word."""
    *above, name = path.split(b"/")
    if any(word in (b"", b".", b"..") for word in (*above, name)):
        raise OSError(errno.EXDEV, os.strerror(errno.EXDEV), os.fsdecode(path))
    current = handle
    try:
        for word in above:
            following = os.open(word, _FOLDER, dir_fd=current)
            if current != handle:
                os.close(current)
            current = following
        return os.open(name, flags, mode, dir_fd=current)
    finally:
        if current != handle:
            os.close(current)


@functools.cache
def _openat2() -> Callable[[int, bytes, int, int], int] | None:
    """openat2(2) with our way of resolving; None where the kernel, or a filter of system calls, does not have it."""
    import ctypes

    class OpenHow(ctypes.Structure):
        _fields_ = [("flags", ctypes.c_uint64), ("mode", ctypes.c_uint64), ("resolve", ctypes.c_uint64)]

    syscall = ctypes.CDLL(None, use_errno=True).syscall
    syscall.restype = ctypes.c_long
    size = ctypes.sizeof(OpenHow)
    number, length = ctypes.c_long(_OPENAT2), ctypes.c_size_t(size)

    def call(handle: int, path: bytes, flags: int, mode: int) -> int:
        how = OpenHow(flags, mode, _RESOLVE)
        for _ in range(100):
            opened = int(syscall(number, ctypes.c_int(handle), ctypes.c_char_p(path), ctypes.byref(how), length))
            if opened >= 0:
                return opened
            code = ctypes.get_errno()
            if code not in (errno.EAGAIN, errno.EINTR):  # EAGAIN: something above was renamed meanwhile
                raise OSError(code, os.strerror(code), os.fsdecode(path))
        raise OSError(errno.EAGAIN, os.strerror(errno.EAGAIN), os.fsdecode(path))

    try:
        trial = os.open("/", _FOLDER)
    except OSError:
        return None
    try:
        os.close(call(trial, b".", _FOLDER & ~os.O_NOFOLLOW, 0))
    except OSError:
        return None
    finally:
        os.close(trial)
    return call
