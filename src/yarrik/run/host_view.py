"""What steps see of this machine, as a folder that looks like its root: a few programs with what they load, and the toolchain.

Single files are copied, since a folder that packages share cannot be shown in part; whole folders that belong to one program
are mounted from where they are. A view is kept beside the cache and made anew when a file in it changes. Views have most of
their files in common: each is copied once, and linked into all of them.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import shutil
import sys
from collections.abc import Iterable
from pathlib import Path

import msgspec

from yarrik.atomic import new_folder
from yarrik.cache import COPIES, VIEWS, Memory, Store
from yarrik.host import (
    EVERYWHERE,
    NATIVE_COMPILERS,
    Sight,
    family,
    is_header,
    mounts_mark,
    reads_of,
    searched_folders,
    sight_of,
)
from yarrik.moving import copy_sparse
from yarrik.own_code import code_mark
from yarrik.toolchain import Toolchain

#: Sights that are remembered at most, some 50 KB each.
_SIGHTS = 500


class View(msgspec.Struct, frozen=True):
    """A folder with the root of what is seen, and the host's folders that are mounted into it at their own paths."""

    root: Path
    folders: tuple[str, ...]


class _Remembered(msgspec.Struct):
    sight: Sight
    searched: tuple[str, ...]
    marks: list[str]


def names_of(sight: Sight) -> str:
    """A digest of the paths that are let in, for fingerprints: what is installed beside them does not change it."""
    sha = hashlib.sha256()
    for path in sight.files:
        sha.update(f"file {path}\n".encode("utf-8", "surrogateescape"))
    for path, target in sight.links:
        sha.update(f"link {path} {target}\n".encode("utf-8", "surrogateescape"))
    for path in sight.folders:
        sha.update(f"folder {path}\n".encode("utf-8", "surrogateescape"))
    return sha.hexdigest()


def remembered_sight(programs: Iterable[str], toolchain: Toolchain | None, native: Toolchain | None, memory: Memory) -> Sight:
    """What programs and a toolchain need, looked for again only when one of the files has changed, or a folder where
    there may be more of them. A program that is the host's own compiler brings that toolchain (`native`) along."""
    wanted = tuple(sorted(set(programs)))
    chains = [toolchain] if toolchain is not None else []
    chains += [native] if native is not None and NATIVE_COMPILERS & set(wanted) else []
    own = [path for chain in chains for path in chain.own]
    wanted = tuple(sorted({*wanted, *(program for chain in chains for program in chain.runs)}))
    known_of = [EVERYWHERE, [(name, reads_of(name)) for program in wanted for name in family(program)]]
    found_by = [code_mark("elf.py", "host"), mounts_mark()]
    key = hashlib.sha256(msgspec.json.encode([wanted, [chain.identity for chain in chains], known_of, found_by])).hexdigest()
    fact = f"sight {key}"
    known = memory.fact(fact)
    if known is not None:
        try:
            remembered = msgspec.json.decode(known, type=_Remembered)
        except msgspec.DecodeError:
            remembered = None
        if remembered is not None and remembered.marks == _marks(remembered.sight, remembered.searched):
            return remembered.sight
    sight = sight_of(wanted, own)
    searched = searched_folders(wanted)
    memory.learn(fact, msgspec.json.encode(_Remembered(sight, searched, _marks(sight, searched))), most=_SIGHTS)
    return sight


def _marks(sight: Sight, searched: tuple[str, ...] = ()) -> list[str]:
    """What changes when a file is replaced, in the order of the sight, or when one comes to a folder that is `searched`.
    Headers are the toolchain's affair: it is looked at anew when one of their folders has changed."""
    marks = []
    files = (path for path in sight.files if not is_header(path))
    for path in (*files, *(path for path, _ in sight.links), *sight.folders, *searched):
        sys.audit("yarrik.read", path)
        try:
            status = os.lstat(path)
            marks.append(f"{status.st_size} {status.st_mtime_ns} {status.st_ctime_ns} {status.st_ino}")
        except OSError:
            marks.append("missing")
    return marks


def views_in(store: Store) -> Path:
    """Where this user's views are, and what is known of this machine: what somebody else has put together is not looked at."""
    store.make_folder(store.root / VIEWS)
    return store.root / VIEWS / str(os.getuid())


def make_own(top: Path) -> None:
    """Makes a folder of this user's own, or sees that it is that. Raises OSError."""
    top.mkdir(mode=0o755, exist_ok=True)
    if top.lstat().st_uid != os.getuid() or top.is_symlink():
        raise OSError(errno.EPERM, "it belongs to another user", str(top))


def view_of(sight: Sight, top: Path, identity: str = "") -> View:
    """The view of a sight, below `top`, a folder of this user's own; made when it is not there. `identity` is that of the
    toolchains. Raises OSError."""
    mark = hashlib.sha256("\n".join([identity, names_of(sight), *_marks(sight)]).encode()).hexdigest()[:32]
    root = top / mark
    if not root.is_dir():
        make_own(top)
        with contextlib.suppress(FileExistsError):
            (top / COPIES).mkdir(mode=0o755)
        with new_folder(root, or_another=True) as fresh:
            _fill(fresh, sight, f"{top}/{COPIES}")
    else:
        with contextlib.suppress(OSError):
            os.utime(root)  # it is in use: what is old may be cleared away
    return View(root, sight.folders)


def _fill(root: Path, sight: Sight, copies: str) -> None:
    for path in sight.folders:
        os.makedirs(f"{root}{path}", exist_ok=True)
    for path, target in sight.links:
        os.makedirs(os.path.dirname(f"{root}{path}"), exist_ok=True)
        os.symlink(target, f"{root}{path}")
    for path in sight.files:
        place = f"{root}{path}"
        os.makedirs(os.path.dirname(place), exist_ok=True)
        known = f"{copies}/{_same_file(path)}"
        try:
            os.link(known, place)
            continue
        except OSError:  # it is not there yet, has as many names as it may have, or there are no hard links here
            pass
        copy_sparse(path, place)
        shutil.copymode(path, place)
        # What changed while it was copied is no copy for others.
        if known == f"{copies}/{_same_file(path)}":
            with contextlib.suppress(OSError):
                os.link(place, known)


def _same_file(path: str) -> str:
    """A name for a file as it is: another one once it is replaced, written to, or has other rights."""
    one = os.stat(path)
    words = (one.st_dev, one.st_ino, one.st_size, one.st_mtime_ns, one.st_ctime_ns, one.st_mode)
    return hashlib.sha256(" ".join(map(str, words)).encode()).hexdigest()[:32]
