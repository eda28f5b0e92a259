"""The build that has nothing to do, told from what the last one looked at: when none of that has changed, all is kept.

A record says for one way of asking (product, variants, settings, options) which paths of this machine the plan followed
from and how each was, which variables of the environment, and what has to be in the cache and in `out/`. It is written only
when nothing can have changed unseen since the build began, and believed only when all of it is as it was. Without a record,
or with one that is damaged, everything is planned as ever: losing it costs time, never correctness.

What planning looks at is heard as audit events (`sys.addaudithook`): `open`, `os.scandir` and `os.listdir` of Python
itself, and `yarrik.read`, `yarrik.tree`, `yarrik.variable` and `yarrik.secret` where a digest or a finding is remembered in
place of reading again."""

from __future__ import annotations

import hashlib
import os
import shutil
import stat
import sys
import time
from array import array
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec

from yarrik import __version__

#: Raised when records have another form.
_FORM = 1
_FOLDER = "unchanged"
#: How many ways of asking are remembered for a workspace.
_MOST = 64
#: A workspace with more paths than this is planned every time.
_MOST_PATHS = 2_000_000
#: What was changed within this time before a build began may change again unseen (nanoseconds).
_FRESH_NS = 2_000_000_000
#: Results that were used within this time are not marked again (seconds), as in the store itself.
_USED = 3600
#: Variables that programs, folders and the network are found by.
_VARIABLES = ("PATH", "HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_CONFIG_DIRS", "XDG_DATA_HOME", "XDG_STATE_HOME")
_OWN = "YARRIK_"
_SECRET = "YARRIK_SECRET_"
_SYSCTLS = (
    "kernel/random/boot_id",
    "kernel/unprivileged_userns_clone",
    "kernel/apparmor_restrict_unprivileged_userns",
    "user/max_user_namespaces",
)
_ALL = (1 << 64) - 1
_GONE = (0, 0, 0, 0, 0, 0)


@dataclass(frozen=True)
class Question:
    """One way of asking for a build in the workspace at `root`."""

    root: Path
    product: str | None = None
    variants: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    use_sandbox: bool = True
    locked: bool = False
    offline: bool = False

    @property
    def file(self) -> Path:
        """Where the record of it is."""
        # The folder that somebody is in counts only when programs are looked for below it.
        here = "" if all(one.startswith("/") for one in _search_path()) else os.getcwd()
        words = [self.product, self.variants, self.settings, self.use_sandbox, self.locked, self.offline, here]
        # Words of a command line may hold bytes that are no text.
        name = hashlib.sha256(repr(words).encode("utf-8", "backslashreplace")).hexdigest()[:32]
        return self.root / ".yarrik" / _FOLDER / name


@dataclass(frozen=True)
class KeptBuild:
    """A build of which all steps are kept: how many, what the user ought to hear, and its report as JSON."""

    product: str
    steps: int
    notes: tuple[str, ...]
    report: bytes


class _Record(msgspec.Struct, array_like=True):
    form: int
    facts: dict[str, str]
    variables: dict[str, str]
    #: Paths as they are themselves, then those that are links once more as what they lead to, then the files in `out/`.
    paths: list[str]
    linked: list[str]
    out: list[str]
    statuses: bytes
    #: Folders of the cache, when they changed last, and for each the paths in it that have to be there.
    held: list[tuple[str, int, list[str]]]
    cache: str
    fingerprints: bytes
    product: str
    steps: int
    notes: list[str]
    report: bytes


# Asking


def kept_build(question: Question) -> KeptBuild | None:
    """The build that was asked for, if all of it is kept and nothing has changed that it followed from; None when that is not
    known."""
    try:
        data = question.file.read_bytes()
    except OSError:
        return None
    body, seal = data[:-32], data[-32:]
    if hashlib.blake2b(body, digest_size=32).digest() != seal:
        return None
    try:
        record = msgspec.msgpack.decode(body, type=_Record)
    except msgspec.DecodeError:
        return None
    if record.form != _FORM or record.facts != _facts() or record.variables != _variables(record.variables):
        return None
    if _statuses(record).tobytes() != record.statuses or not all(map(_holds, record.held)):
        return None
    _mark_used(question.file, record)
    return KeptBuild(record.product, record.steps, tuple(record.notes), record.report)


def _holds(folder: tuple[str, int, list[str]]) -> bool:
    """Whether the cache still has what has to be in one of its folders."""
    path, changed, needed = folder
    try:
        if changed and os.stat(path).st_mtime_ns == changed:
            return True  # nothing came or went
    except OSError:
        return False
    return all(map(os.path.exists, needed))


def _mark_used(file: Path, record: _Record) -> None:
    """Notes that the results are in use, so that they are not cleared away; once an hour."""
    with suppress(OSError):
        if time.time() - file.stat().st_mtime < _USED:
            return
        for at in range(0, len(record.fingerprints), 32):
            name = record.fingerprints[at : at + 32].hex()
            with suppress(OSError):
                os.utime(f"{record.cache}/results/{name[:2]}/{name}")
        os.utime(file)


def _statuses(record: _Record) -> array[int]:
    found = array("Q")
    _look(found, record.paths, os.lstat)
    _look(found, record.linked, os.stat)
    _look(found, record.out, os.lstat)
    return found


def _look(found: array[int], paths: Iterable[str], ask: Callable[[str], os.stat_result]) -> None:
    add = found.extend
    for path in paths:
        try:
            one = ask(path)
        except (OSError, ValueError):
            add(_GONE)
        else:
            add((one.st_mode, one.st_size, one.st_mtime_ns & _ALL, one.st_ctime_ns & _ALL, one.st_ino, one.st_dev))


def _facts() -> dict[str, str]:
    """What else of this machine a plan follows from: this program, its Python, the user, and whether there can be a sandbox."""
    found = {"yarrik": __version__, "python": sys.version, "user": str(os.getuid())}
    for name in ("user", "mnt", "pid"):
        with suppress(OSError):
            found[name] = os.readlink(f"/proc/self/ns/{name}")
    for name in _SYSCTLS:
        with suppress(OSError), open(f"/proc/sys/{name}", "rb") as file:
            found[name] = file.read(200).decode("utf-8", "replace")
    return found


def _variables(names: Iterable[str]) -> dict[str, str]:
    """A digest of each variable; of our own all that are set. Secrets are not among them."""
    own = {name for name in os.environ if name.startswith(_OWN) and not name.startswith(_SECRET)}
    wanted = sorted({*names, *_VARIABLES, *own})
    return {
        name: hashlib.sha256(value.encode("utf-8", "surrogateescape")).hexdigest()
        for name in wanted
        if (value := os.environ.get(name)) is not None
    } | {name: "" for name in wanted if name not in os.environ and not name.startswith(_OWN)}


# Remembering


@dataclass
class Watch:
    """What a build has looked at since it began."""

    began_ns: int = field(default_factory=time.time_ns)
    began: float = field(default_factory=time.monotonic)
    #: Files and folders that were opened, and what was looked at in place of opening it.
    opened: set[str] = field(default_factory=set)
    read: set[str] = field(default_factory=set)
    trees: set[str] = field(default_factory=set)
    variables: set[str] = field(default_factory=set)
    #: Whether a secret was taken from the environment.
    secret: bool = False

    def hear(self, event: str, args: tuple[Any, ...]) -> None:
        """Takes an audit event in."""
        if event == "open":
            path, _mode, flags = args
            writes = isinstance(flags, int) and flags & (os.O_WRONLY | os.O_RDWR | os.O_CREAT)
            if not writes and isinstance(path, (str, bytes, os.PathLike)):
                self.opened.add(os.fsdecode(path))
        elif event in ("os.scandir", "os.listdir"):
            if isinstance(args[0], (str, bytes, os.PathLike)):
                self.opened.add(os.fsdecode(args[0]))
        elif event == "yarrik.read":
            self.read.add(os.fsdecode(args[0]))
        elif event == "yarrik.tree":
            self.trees.add(os.fsdecode(args[0]))
        elif event == "yarrik.variable":
            self.variables.add(args[0])
        elif event == "yarrik.secret":
            self.secret = True


_watches: list[Watch] = []
_hooked = False


def _hear(event: str, args: tuple[Any, ...]) -> None:
    for watch in _watches:
        watch.hear(event, args)


@contextmanager
def watched() -> Iterator[Watch]:
    """Hears what is looked at meanwhile."""
    global _hooked
    if not _hooked:
        sys.addaudithook(_hear)
        _hooked = True
    watch = Watch()
    _watches.append(watch)
    try:
        yield watch
    finally:
        _watches.remove(watch)


@dataclass(frozen=True)
class Left:
    """What has to be there after a build: its files in `out/`, and for each fingerprint the digests of what its step left
    in the cache."""

    out: tuple[Path, ...]
    cache: Path
    digests: Mapping[str, tuple[str, ...]]


def remember_build(
    question: Question, watch: Watch, about: KeptBuild, files: Iterable[Path], trees: Iterable[Path], left: Left
) -> bool:
    """Keeps what a build followed from; whether that could be, which is not so when something changed since it began.

    `files` count whether they are there or not, and all that is in `trees`, beside what was heard."""
    from yarrik.atomic import write_file  # asking takes as few modules as it can

    if watch.secret:
        return False  # a digest of it would be as good as the secret, where that is short
    if abs((time.time_ns() - watch.began_ns) / 1e9 - (time.monotonic() - watch.began)) > 1:
        return False  # the clock was set
    root, cache = question.root, os.fspath(left.cache)
    apart = tuple(f"{os.path.abspath(path)}/" for path in (root / ".yarrik", root / "out", cache, "/proc", "/sys", "/dev"))
    opened = map(os.path.abspath, watch.opened)
    paths = {path for path in opened if not f"{path}/".startswith(apart) and not path.endswith((".pyc", ".so"))}
    more: list[str | Path] = [*watch.read, *files, *_own_modules(), *_program_folders()]
    paths.update(map(os.path.abspath, more))
    try:
        last = "/"
        for tree in sorted(f"{os.path.abspath(tree)}/" for tree in {*trees, *map(Path, watch.trees)}):
            if last == "/" or not tree.startswith(last):  # else it was walked with the one that it is in
                last = tree
                _walk(tree[:-1], paths)
    except _TooMany:
        return False
    ordered = sorted(paths)
    linked = [path for path in ordered if os.path.islink(path)]
    out = sorted(map(os.fspath, left.out))
    record = _Record(_FORM, _facts(), _variables(watch.variables), ordered, linked, out, b"", [], cache,
                     bytes.fromhex("".join(left.digests)), about.product, about.steps, list(about.notes),
                     about.report)  # fmt: skip
    statuses = _statuses(record)
    first = min(watch.began_ns, time.time_ns()) - _FRESH_NS
    watched_ones = 6 * (len(ordered) + len(linked))
    if max((*statuses[2:watched_ones:6], *statuses[3:watched_ones:6]), default=0) > first:
        return False
    record.statuses = statuses.tobytes()
    record.held = list(_held(cache, {digest for digests in left.digests.values() for digest in digests}))
    try:
        folder = question.file.parent
        folder.mkdir(parents=True, exist_ok=True)
        body = msgspec.msgpack.encode(record)
        write_file(question.file, body + hashlib.blake2b(body, digest_size=32).digest())
        _clear_away(folder)
    except (OSError, UnicodeEncodeError):
        return False  # a full or read-only disk, or names that are not text, cost time and no more
    return True


def _own_modules() -> Iterator[Path]:
    """The modules of this program, and their folders: a version that is being worked on changes without another number."""
    for folder, names, files in os.walk(Path(__file__).parent.parent):
        if "__init__.py" not in files:
            names.clear()
            continue
        yield Path(folder)
        yield from (Path(folder, name) for name in files if name.endswith((".py", ".pyi")))


def _search_path() -> list[str]:
    return os.environ.get("PATH", os.defpath).split(os.pathsep)


def _program_folders() -> Iterator[str]:
    """Where programs are looked for; the sandbox's own is one that another one could take the place of."""
    from yarrik.host import FOLDERS

    yield from (one or "." for one in _search_path())
    yield from FOLDERS
    if bubblewrap := shutil.which("bwrap"):
        yield bubblewrap


class _TooMany(Exception):
    pass


def _walk(top: str, paths: set[str]) -> None:
    """All paths at `top` and below, through links too; of version control's own only what names a commit."""
    waiting, seen = [top], set()
    while waiting:
        folder = waiting.pop()
        paths.add(folder)
        try:
            status = os.stat(folder)
            if not stat.S_ISDIR(status.st_mode) or (status.st_dev, status.st_ino) in seen:
                continue
            seen.add((status.st_dev, status.st_ino))
            entries = os.scandir(folder)
        except OSError:
            continue
        with entries:
            for entry in entries:
                if entry.name == "__pycache__" or (entry.name == "objects" and os.path.basename(folder) == ".git"):
                    continue
                if entry.is_dir():
                    waiting.append(entry.path)
                else:
                    paths.add(entry.path)
        if len(paths) > _MOST_PATHS:
            raise _TooMany


def _held(cache: str, digests: set[str]) -> Iterator[tuple[str, int, list[str]]]:
    """The folders of the cache with what has to be in each; 0 for one that has changed so lately that it may do so unseen."""
    by_folder: dict[str, list[str]] = {}
    for digest in sorted(digests):
        tree = f"{cache}/trees/{digest[:2]}/{digest}"
        path = tree if os.path.exists(tree) else f"{cache}/objects/{digest[:2]}/{digest}"
        by_folder.setdefault(os.path.dirname(path), []).append(path)
    settled = time.time_ns() - _FRESH_NS
    for folder, needed in by_folder.items():
        try:
            changed = os.stat(folder).st_mtime_ns
        except OSError:
            changed = 0
        yield folder, changed if changed < settled else 0, needed


def _clear_away(folder: Path) -> None:
    """Removes the records that were used longest ago, beyond those that are worth keeping."""
    files = sorted(folder.iterdir(), key=lambda file: file.stat().st_mtime, reverse=True)
    for file in files[_MOST:]:
        file.unlink(missing_ok=True)
