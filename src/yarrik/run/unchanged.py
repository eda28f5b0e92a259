"""The build that has nothing to do, told from what the last one looked at: when none of that has changed, all is kept; and
when only sources and definitions have, the plan may be.

A record says for one way of asking (product, variants, settings, options) which paths of this machine the plan followed
from and how each was, which variables of the environment, and what has to be in the cache and in `out/`. It is written only
when nothing can have changed unseen since the build began, and believed only when all of it is as it was. Without a record,
or with one that is damaged, everything is planned as ever: losing it costs time, never correctness.

What planning looks at is heard as audit events (`sys.addaudithook`): `open`, `os.scandir` and `os.listdir` of Python
itself, and `yarrik.read`, `yarrik.tree`, `yarrik.variable` and `yarrik.secret` where a digest or a finding is remembered in
place of reading again. What is read between `yarrik.tree` and `yarrik.tree-read` is a source: where nothing but the steps that
take it follows from a folder of sources, or from a single file, other contents change no plan."""

from __future__ import annotations

import hashlib
import os
import shutil
import stat
import sys
import time
import zlib
from array import array
from bisect import bisect_left
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import msgspec

from yarrik import __version__

#: Raised when records have another form.
_FORM = 5
_FOLDER = "unchanged"
#: What the file of a recipe is called, in a folder of its own.
_RECIPE = "recipe.toml"
#: Where the plans are that belong to records, and their state and steps, each under the name of its record.
_PLANS = "plans"
_STATE = ".state"
_STEPS = ".steps"
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
#: Numbers in a status; those of its mode, its size, the times of its content and of itself, and its inode.
_NUMBERS = 6
_MODE, _SIZE, _MTIME, _CTIME, _INODE = range(5)
#: Bytes of a SHA-256.
_DIGEST = 32
#: Bytes of a seal: a length, and two checksums, which take a fifth of the time of a digest.
_SEAL = 16

#: A folder of sources, and the suffixes of what counts in it (none for all); or a single file (None).
Suffixed = tuple[str, tuple[str, ...] | None]


class Part(msgspec.Struct, array_like=True, frozen=True):
    """Where something is in a file: its first byte, how many it has, and a digest of them."""

    begin: int
    size: int
    mark: bytes

    @staticmethod
    def at(begin: int, data: bytes) -> Part:
        """Where it is, if it begins there."""
        return Part(begin, len(data), _mark_of(data))

    def read(self, opened: int) -> bytes | None:
        """The bytes there in an open file, if they are as they were."""
        try:
            if self.begin < 0 or not 0 <= self.size <= os.fstat(opened).st_size:
                return None
            data = os.pread(opened, self.size, self.begin)
        except (OSError, OverflowError):
            return None
        return data if _mark_of(data) == self.mark else None


def _mark_of(data: bytes) -> bytes:
    return hashlib.blake2b(data, digest_size=16).digest()


class Question(msgspec.Struct, frozen=True):
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


class KeptBuild(msgspec.Struct, frozen=True):
    """A build of which all steps are kept: their names and fingerprints, what the user ought to hear, and its report as JSON
    without them."""

    product: str
    steps: tuple[str, ...]
    fingerprints: bytes
    notes: tuple[str, ...]
    report: bytes
    question: Question
    seal: str

    @property
    def plan(self) -> bytes | None:
        """Its plan as it was kept; None when there is none."""
        return _sealed(_beside(self.question)[0], self.seal)

    @property
    def by_name(self) -> Iterator[tuple[str, str]]:
        """Each step with its fingerprint."""
        for number, name in enumerate(self.steps):
            yield name, self.fingerprints[_DIGEST * number : _DIGEST * (number + 1)].hex()


class _Record(msgspec.Struct, array_like=True):
    form: int
    facts: dict[str, str]
    variables: dict[str, str]
    #: Lists of paths, in the order of `_LISTS`, when they are written down: as bytes, since names may be no text.
    lists: tuple[bytes, ...]
    #: Paths as they are themselves, then those that are links once more as what they lead to, then the files in `out/`.
    paths: list[str]
    linked: list[str]
    out: list[str]
    statuses: bytes
    #: Folders of the cache, when they changed last, and the digests of what has to be in each.
    held: list[tuple[str, int, bytes]]
    cache: str
    product: str
    steps: tuple[str, ...]
    fingerprints: bytes
    notes: tuple[str, ...]
    report: bytes
    #: Folders of sources, and single files, that change no plan, what in them was looked at otherwise, and folders all of which
    #: was.
    sources: tuple[str, ...] = ()
    seen: tuple[str, ...] = ()
    whole: tuple[str, ...] = ()
    #: Digests of the plan and its state; empty without them.
    plan: str = ""
    state: str = ""
    #: Files of definitions that may be written otherwise and change no plan: they may say the same.
    definitions: tuple[str, ...] = ()
    #: The product's own file, where its options may be chosen otherwise; and the lock, with the SHA-256 of its text.
    own: str = ""
    lock: tuple[str, str] = ("", "")


_LISTS = ("paths", "linked", "out", "sources", "seen", "whole", "definitions")


class Changed(msgspec.Struct, frozen=True):
    """The few things that have changed: `sources` are the folders in which files have other contents, came or went, and the
    single files that have, `recipes` the files of recipes that are written otherwise, `definitions` those of others, and `own`
    the product's file if that is."""

    sources: tuple[str, ...] = ()
    recipes: tuple[str, ...] = ()
    definitions: tuple[str, ...] = ()
    own: str = ""

    @property
    def only_sources(self) -> bool:
        """Whether no definition is written otherwise."""
        return not (self.recipes or self.definitions or self.own)


class FewChanges(msgspec.Struct, frozen=True):
    """A build after which nothing has changed but sources and definitions. `record` has the paths that exist now, and
    `statuses` those of these paths. `plan` and `state` are as they were kept."""

    question: Question
    changed: Changed
    plan: bytes
    state: bytes
    began_ns: int
    record: _Record
    statuses: array[int]

    @property
    def product(self) -> str:
        """The product's name."""
        return self.record.product

    @property
    def steps(self) -> tuple[str, ...]:
        """The names of its steps."""
        return self.record.steps

    @property
    def steps_file(self) -> Path:
        """The file that has the steps of the plan."""
        return _steps_file(self.question)

    def is_as_left(self, file: Path) -> bool:
        """Whether a file of `out/` is as the last build left it."""
        return _is_as_left(self.record, file)


# Asking


def state_before(question: Question, file: Path) -> bytes | None:
    """The state that the last build with this question kept, whatever has changed since then but `file`, which it left in
    `out/`; None when there is none."""
    record = _read(question)
    if record is None or not _is_as_left(record, file):
        return None
    return _sealed(_beside(question)[1], record.state)


def _is_as_left(record: _Record, file: Path) -> bool:
    name = os.fspath(file)
    if name not in record.out:
        return False
    at = _NUMBERS * (len(record.paths) + len(record.linked) + record.out.index(name))
    now = array("Q")
    _look(now, [name], os.lstat)
    return now.tobytes() == record.statuses[at * now.itemsize : (at + _NUMBERS) * now.itemsize]


def kept_build(question: Question) -> KeptBuild | None:
    """The build that was asked for, if all of it is kept and nothing has changed that it followed from; None when that is not
    known."""
    found = asked_before(question)
    return found if isinstance(found, KeptBuild) else None


def known_before(question: Question) -> KeptBuild | FewChanges | None:
    """The same as `asked_before` tells, as long as no definition is written otherwise: the product is called as it was, and has
    the steps that it had."""
    found = asked_before(question)
    return None if isinstance(found, FewChanges) and not found.changed.only_sources else found


def asked_before(question: Question) -> KeptBuild | FewChanges | None:
    """The build that was asked for, if all of it is kept and nothing has changed that it followed from, or nothing but sources
    and definitions; None when that is not known."""
    began_ns = time.time_ns()
    record = _read(question)
    if record is None or record.facts != _facts() or record.variables != _variables(record.variables):
        return None
    statuses = _statuses(record)
    compared = statuses if statuses.tobytes() == record.statuses else _without_lock(record, statuses)
    same = compared.tobytes() == record.statuses
    changed = Changed() if same else _few_changes(record, compared)
    if changed is None or not all(map(_holds, record.held)):
        return None
    if same:
        _mark_used(question, record)
        return KeptBuild(record.product, record.steps, record.fingerprints, record.notes, record.report, question, record.plan)
    plan, state = (_sealed(file, seal) for file, seal in zip(_beside(question), (record.plan, record.state), strict=True))
    grown = _with_files_of(changed.sources, record, statuses)
    if plan is None or state is None or grown is None:
        return None
    _mark_used(question, record)
    return FewChanges(question, changed, plan, state, began_ns, *grown)


def _read(question: Question) -> _Record | None:
    """The record of a question; None when there is none, or a damaged one."""
    data = _content(question.file)
    if data is None:
        return None
    body, seal = data[:-_SEAL], data[-_SEAL:]
    if _seal(body) != seal:
        return None
    try:
        record = msgspec.msgpack.decode(body, type=_Record)
    except msgspec.DecodeError:
        return None
    if record.form != _FORM or len(record.lists) != len(_LISTS):
        return None
    for name, data in zip(_LISTS, record.lists, strict=True):
        found = os.fsdecode(data).split("\0") if data else []
        setattr(record, name, type(getattr(record, name))(found))
    record.lists = ()
    return record


def _beside(question: Question) -> tuple[Path, Path]:
    """The files of a record's plan and its state."""
    name = question.file.name
    return question.root / ".yarrik" / _PLANS / name, question.root / ".yarrik" / _PLANS / f"{name}{_STATE}"


def _steps_file(question: Question) -> Path:
    """The file of the steps of a record's plan."""
    return question.root / ".yarrik" / _PLANS / f"{question.file.name}{_STEPS}"


def _sealed(file: Path, seal: str) -> bytes | None:
    """What is in a file, if it is what it was."""
    data = _content(file)
    return data if data is not None and seal and _seal(data).hex() == seal else None


def _seal(data: bytes) -> bytes:
    """Tells damage, and a file of another build. It is no proof: who may write these files may seal them as well."""
    return len(data).to_bytes(8) + zlib.crc32(data).to_bytes(4) + zlib.adler32(data).to_bytes(4)


def _without_lock(record: _Record, now: array[int]) -> array[int]:
    """Statuses as they are `now`, but for that of a lock whose text is the same."""
    file, digest = record.lock
    number = bisect_left(record.paths, file)
    first, end = _NUMBERS * number, _NUMBERS * (number + 1)
    then = array("Q")
    then.frombytes(record.statuses)
    if not file or record.paths[number : number + 1] != [file] or len(then) != len(now) or now[first:end] == then[first:end]:
        return now
    if not _reads(file, digest):
        return now
    return now[:first] + then[first:end] + now[end:]


def _reads(file: str, digest: str) -> bool:
    """Whether this is the SHA-256 of what is in a plain file; nothing else is waited for."""
    data = _content(file)
    return data is not None and hashlib.sha256(data).hexdigest() == digest


def _content(file: str | Path) -> bytes | None:
    """What is in a plain file; None when it cannot be read, or is something else: a link leads elsewhere, and a pipe would be
    waited for."""
    try:
        with open(file, "rb", opener=lambda path, flags: os.open(path, flags | os.O_NONBLOCK | os.O_NOFOLLOW)) as opened:
            return opened.read() if stat.S_ISREG(os.fstat(opened.fileno()).st_mode) else None
    except OSError:
        return None


def _few_changes(record: _Record, now: array[int]) -> Changed | None:
    """The sources and definitions that have changed; None if anything else has."""
    then = array("Q")
    then.frombytes(record.statuses)
    if not record.plan or len(then) != len(now):
        return None
    sources, seen, whole = set(record.sources), set(record.seen), set(record.whole)
    found: dict[str, None] = {}
    recipes: dict[str, None] = {}
    definitions: dict[str, None] = {}
    may_say_the_same = set(record.definitions)
    folders: list[str] = []
    own = ""
    # What is in `out` is put there again.
    last = _NUMBERS * (len(record.paths) + len(record.linked))
    for at in _differing(then, now, last):
        number, kind = at // _NUMBERS, stat.S_IFMT(now[at + _MODE])
        if number >= len(record.paths) or kind not in (stat.S_IFMT(then[at + _MODE]), 0) or not _is_plain(then[at + _MODE]):
            return None
        path = record.paths[number]
        around = {path, *_above(path)}
        if path in seen or whole & around or "/.git/" in path:
            return None
        as_allowed = now[at + _MODE] == then[at + _MODE]
        if sources & around:
            if path in sources and (not kind or (stat.S_ISREG(kind) and not as_allowed)):
                return None
            found.update(dict.fromkeys(sorted(sources & around)))
        elif stat.S_ISDIR(kind) and as_allowed:
            folders.append(path)
        elif kind and os.path.basename(path) == _RECIPE:
            recipes[path] = None
        elif kind and path == record.own:
            own = path
        elif kind and path in may_say_the_same:
            definitions[path] = None
        else:
            return None
    if not {*found, *recipes, *definitions, *folders, own}.isdisjoint(record.linked):
        return None
    # What came or went may be something that planning asks for; where the names are the same, a file was put in the place of
    # another, as many editors save.
    if any(_names_in(folder) != _names_known(folder, record.paths, then) for folder in folders):
        return None
    return Changed(tuple(found), tuple(recipes), tuple(definitions), own)


def _differing(then: array[int], now: array[int], last: int) -> Iterator[int]:
    """Where statuses before `last` that differ begin. Few do: what is alike is passed over by halves."""
    waiting = [(0, last)]
    while waiting:
        first, end = waiting.pop()
        if now[first:end] == then[first:end]:
            continue
        if end - first <= _NUMBERS:
            yield first
            continue
        middle = first + (end - first) // (2 * _NUMBERS) * _NUMBERS
        waiting += ((middle, end), (first, middle))


def _names_in(folder: str) -> set[str]:
    try:
        return set(os.listdir(folder))
    except OSError:
        return set()


def _names_known(folder: str, paths: list[str], then: array[int]) -> set[str]:
    """What was in a folder by the paths of a record and their statuses."""
    below = (number for number in _below(folder, paths) if then[_NUMBERS * number + _MODE])
    return {paths[number][len(folder) + 1 :].partition("/")[0] for number in below}


def _below(folder: str, paths: Sequence[str]) -> range:
    """Which of these paths, which are sorted, are in a folder."""
    return range(bisect_left(paths, f"{folder}/"), bisect_left(paths, f"{folder}0"))  # "0" comes after "/"


def _is_plain(mode: int) -> bool:
    return stat.S_IFMT(mode) in (stat.S_IFREG, stat.S_IFDIR)


def _with_files_of(folders: Collection[str], record: _Record, now: array[int]) -> tuple[_Record, array[int]] | None:
    """A record, and the statuses of its paths as they are `now`, with the files that came to these folders of sources and
    without those that went; None where one came that may be more than a source. A single file is no folder, and stays."""
    then = array("Q")
    then.frombytes(record.statuses)
    paths, seen = list(record.paths), set(record.seen)
    for folder in sorted(folders, reverse=True):
        first, end = (inside := _below(folder, paths)).start, inside.stop
        known = {path: number for number, path in enumerate(paths[first:end], first)}
        below: set[str] = set()
        try:
            _walk(folder, below)
        except _TooMany:
            return None
        came = sorted(below - {folder} - known.keys())
        fresh = array("Q")
        _look(fresh, came, os.lstat)
        for path, at in zip(came, range(0, len(fresh), _NUMBERS), strict=True):
            if "/.git/" in f"{path}/" or not _is_plain(fresh[at + _MODE]):
                return None
        numbers = dict(zip(came, range(len(came)), strict=True))
        # What planning asked for where nothing was is still asked for.
        stay = [path for path, number in known.items() if path in below or path in seen or now[_NUMBERS * number + _MODE]]
        region = sorted([*stay, *came])
        parts: list[array[int]] = []
        for old, new in ((now, fresh), (then, array("Q", bytes(len(fresh) * fresh.itemsize)))):
            part = array("Q")
            for path in region:
                source, number = (new, numbers[path]) if path in numbers else (old, known[path])
                part.extend(source[_NUMBERS * number : _NUMBERS * (number + 1)])
            parts.append(part)
        paths[first:end] = region
        now, then = (
            old[: _NUMBERS * first] + part + old[_NUMBERS * end :] for old, part in zip((now, then), parts, strict=True)
        )
    return msgspec.structs.replace(record, paths=paths, statuses=then.tobytes()), now


def _above(path: str) -> Iterator[str]:
    while (path := os.path.dirname(path)) != "/":
        yield path


def _holds(folder: tuple[str, int, bytes]) -> bool:
    """Whether the cache still has what has to be in one of its folders."""
    path, changed, digests = folder
    try:
        if changed and os.stat(path).st_mtime_ns == changed:
            return True  # nothing came or went
    except OSError:
        return False
    return all(map(os.path.exists, _paths_in(path, digests)))


def _paths_in(folder: str, digests: bytes) -> Iterator[str]:
    return (f"{folder}/{digests[at : at + _DIGEST].hex()}" for at in range(0, len(digests), _DIGEST))


def _mark_used(question: Question, record: _Record) -> None:
    """Notes that the results are in use, so that they are not cleared away; once an hour."""
    # The record itself is written after each change, and the plan when all results were looked up.
    file = _beside(question)[0] if record.plan else question.file
    with suppress(OSError):
        if time.time() - file.stat().st_mtime < _USED:
            return
        for at in range(0, len(record.fingerprints), _DIGEST):
            name = record.fingerprints[at : at + _DIGEST].hex()
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


class Watch(msgspec.Struct):
    """What a build has looked at since it began."""

    began_ns: int = msgspec.field(default_factory=time.time_ns)
    began: float = msgspec.field(default_factory=time.monotonic)
    #: Files and folders that were opened, and what was looked at in place of opening it.
    opened: set[str] = msgspec.field(default_factory=set)
    read: set[str] = msgspec.field(default_factory=set)
    trees: set[str] = msgspec.field(default_factory=set)
    #: Folders of sources that were read, with the suffixes of what was read of them, and single files (None).
    sources: set[Suffixed] = msgspec.field(default_factory=set)
    variables: set[str] = msgspec.field(default_factory=set)
    #: Whether a secret was taken from the environment.
    secret: bool = False
    #: The folder of sources that is being read.
    _reading: str = ""

    def hear(self, event: str, args: tuple[Any, ...]) -> None:
        """Takes an audit event in."""
        if self._reading and event in _OF_SOURCES and _is_at(self._reading, args[0]):
            return
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
            folder, suffixes = os.fsdecode(args[0]), args[1]
            self.trees.add(folder)
            self.sources.add((folder, suffixes))
            self._reading = folder
        elif event == "yarrik.tree-read":
            self._reading = ""
        elif event == "yarrik.variable":
            self.variables.add(args[0])
        elif event == "yarrik.secret":
            self.secret = True


#: What is heard while sources are read.
_OF_SOURCES = ("open", "os.scandir", "os.listdir", "yarrik.read")


def _is_at(folder: str, path: object) -> bool:
    """Whether a path is in a folder that is being read, or is given by a descriptor, or from one."""
    if not isinstance(path, (str, bytes, os.PathLike)):
        return True
    text = os.fsdecode(path)
    return text == folder or text.startswith(f"{folder}/") or not text.startswith("/")


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


class Left(msgspec.Struct, frozen=True):
    """What has to be there after a build: its files in `out/` (the size of each, the time of its content and its inode when it
    was put there), and for each step its fingerprint and the digests of what it left in the cache."""

    out: Mapping[Path, tuple[int, int, int] | None]
    cache: Path
    steps: Mapping[str, tuple[str, Collection[str]]]

    @property
    def fingerprints(self) -> bytes:
        """Those of all steps, in their order."""
        return bytes.fromhex("".join(fingerprint for fingerprint, _ in self.steps.values()))

    @property
    def digests(self) -> set[str]:
        """All that has to be in the cache."""
        return {digest for _, digests in self.steps.values() for digest in digests}


class PlanKept(msgspec.Struct, frozen=True):
    """A build's plan, its steps and its state, encoded, and the sources (as they were heard of) that change no plan, unless
    they are in one of `looked_at`: of these somebody asks another program. `definitions` are files that may say the same when
    they are written otherwise, `own` is the product's file, and `lock` that of the lock with the SHA-256 of its text."""

    plan: bytes
    steps: bytes
    state: bytes
    sources: Collection[Suffixed] = ()
    looked_at: Collection[Path] = ()
    definitions: Collection[str] = ()
    own: str = ""
    lock: tuple[str, str] = ("", "")


def remember_build(
    question: Question,
    watch: Watch,
    said: tuple[str, tuple[str, ...], bytes],
    files: Iterable[Path],
    trees: Iterable[Path],
    left: Left,
    plan: PlanKept | None = None,
) -> bool:
    """Keeps what a build followed from; whether that could be, which is not so when something changed since it began. `said`
    are the product, its notes and its report.

    `files` count whether they are there or not, and all that is in `trees`, beside what was heard."""
    if watch.secret:
        return False  # a digest of it would be as good as the secret, where that is short
    if abs((time.time_ns() - watch.began_ns) / 1e9 - (time.monotonic() - watch.began)) > 1:
        return False  # the clock was set
    cache = os.fspath(left.cache)
    found = _looked_at(watch, question.root, cache, [*files, *_own_modules(), *_program_folders()], trees)
    if found is None:
        return False
    paths, seen = found
    ordered = sorted(paths)
    linked = [path for path in ordered if os.path.islink(path)]
    out = sorted(map(os.fspath, left.out))
    record = _Record(_FORM, _facts(), _variables(watch.variables), (), ordered, linked, out, b"", [], cache,
                     said[0], tuple(left.steps), left.fingerprints, *said[1:])  # fmt: skip
    if plan is not None:
        _part_sources(record, watch, plan, seen)
        record.own, record.lock = plan.own, plan.lock
        record.definitions = tuple(sorted(plan.definitions))
    statuses = _statuses(record)
    if not _are_in_out(left, statuses) or not _settle(record, statuses, watch.began_ns):
        return False
    record.statuses = statuses.tobytes()
    record.held = list(_held(cache, left.digests))
    return _write(question, record, plan)


def _looked_at(
    watch: Watch, root: Path, cache: str, files: Iterable[str | Path] = (), trees: Iterable[Path] = ()
) -> tuple[set[str], frozenset[str]] | None:
    """The paths that were looked at, with these `files` and all that is in the `trees`; and those of them that were not only
    in a tree. None when there are too many."""
    apart = tuple(f"{os.path.abspath(path)}/" for path in (root / ".yarrik", root / "out", cache, "/proc", "/sys", "/dev"))
    opened = map(os.path.abspath, watch.opened)
    paths = {path for path in opened if not f"{path}/".startswith(apart) and not path.endswith((".pyc", ".so"))}
    paths.update(map(os.path.abspath, (*watch.read, *files)))
    seen = frozenset(paths)
    try:
        last = "/"
        for tree in sorted(f"{os.path.abspath(tree)}/" for tree in {*trees, *map(Path, watch.trees)}):
            if last == "/" or not tree.startswith(last):  # else it was walked with the one that it is in
                last = tree
                _walk(tree[:-1], paths)
    except _TooMany:
        return None
    return paths, seen


def _part_sources(record: _Record, watch: Watch, plan: PlanKept, seen: Collection[str]) -> None:
    """Parts sources from those from which something else follows, and notes what in the former was looked at otherwise."""
    known = set(record.sources)
    plain = {path for path, _ in plan.sources if path in known or os.path.abspath(path) == path}
    whole = {*record.whole, *(os.path.abspath(path) for path, _ in watch.sources.difference(plan.sources))}
    whole |= set(map(os.path.abspath, plan.looked_at))
    record.sources = tuple(sorted(plain - whole - set(record.linked)))
    record.whole = tuple(sorted(whole))
    within = dict.fromkeys(record.sources, True)

    def is_within(path: str) -> bool:
        unsure = []
        while path not in within and path != "/":
            unsure.append(path)
            path = os.path.dirname(path)
        found = within.get(path, False)
        within.update(dict.fromkeys(unsure, found))
        return found

    record.seen = tuple(sorted({*record.seen, *filter(is_within, seen)}))


def _settle(record: _Record, statuses: array[int], began_ns: int) -> bool:
    """Whether nothing can have changed unseen since a build began. Sources and definitions that may have are marked as changed,
    and so is the lock: they are looked at again."""
    first = min(began_ns, time.time_ns()) - _FRESH_NS
    sources = set(record.sources)
    again: set[int] = set()
    watched = _NUMBERS * (len(record.paths) + len(record.linked))
    times = zip(statuses[_MTIME:watched:_NUMBERS], statuses[_CTIME:watched:_NUMBERS], strict=True)
    for number in [number for number, (changed, touched) in enumerate(times) if changed > first or touched > first]:
        at = _NUMBERS * number
        again.add(number)
        # A folder may be another one that was moved there, with all that it holds: that may be older.
        if number < len(record.paths) and stat.S_ISDIR(statuses[at + _MODE]) and not _is_among(record.paths[number], sources):
            again.update(_below(record.paths[number], record.paths))
    for number in again:
        path = record.paths[number] if number < len(record.paths) else ""
        if not path or path in record.seen or not _can_be_asked_again(path, record, sources):
            return False
        at = _NUMBERS * number
        statuses[at + 1 : at + _NUMBERS] = array("Q", [0] * (_NUMBERS - 1))
    return True


def _can_be_asked_again(path: str, record: _Record, sources: set[str]) -> bool:
    """Whether a build after few changes finds out whether this path of a record is what planning saw."""
    if _is_among(path, sources) or os.path.basename(path) == _RECIPE or path in (record.own, os.path.dirname(record.own)):
        return True
    # With a folder goes all that is in it: what came meanwhile is none of these definitions.
    definitions = record.definitions
    if path in definitions or any(path == os.path.dirname(definitions[number]) for number in _below(path, definitions)):
        return True
    if path == record.lock[0]:
        return _reads(*record.lock)
    names = {os.path.dirname(record.paths[number])[len(path) :] for number in _below(path, record.paths)
             if os.path.basename(record.paths[number]) == _RECIPE}  # fmt: skip
    if names:
        return names == {""}  # a folder of a recipe; among several there may be one that came meanwhile
    return any(os.path.dirname(record.sources[number]) == path for number in _below(path, record.sources))


def _is_among(path: str, sources: set[str]) -> bool:
    return path in sources or not sources.isdisjoint(_above(path))


def _are_in_out(left: Left, statuses: array[int]) -> bool:
    """Whether the files in `out/`, whose statuses are the last, are those that were put there: somebody may have taken one away
    since, and the next build has to put it there again."""
    first = len(statuses) - _NUMBERS * len(left.out)
    for at, path in zip(range(first, len(statuses), _NUMBERS), sorted(left.out, key=os.fspath), strict=True):
        mark = left.out[path]
        if mark is None or (statuses[at + _SIZE], statuses[at + _MTIME], statuses[at + _INODE]) != tuple(
            n & _ALL for n in mark
        ):
            return False
    return True


def renew(
    changed: FewChanges,
    said: tuple[str, tuple[str, ...], bytes],
    left: Left,
    digests: tuple[Collection[str], Collection[str]],
    plan: PlanKept,
    watch: Watch | None = None,
) -> bool:
    """Keeps what a build followed from that ran after few changes, like `remember_build`; `digests` are those of what has to be
    in the cache no more, and of what has to be there in its place. A plan that is empty stays as it is; otherwise `watch` knows
    what was looked at for it."""
    record, question = changed.record, changed.question
    watched_ones = _NUMBERS * (len(record.paths) + len(record.linked))
    statuses = changed.statuses[:watched_ones]
    if watch is not None:
        widened = _widened(record, statuses, watch, plan, question.root)
        if widened is None:
            return False
        record, statuses = widened
    if plan.lock != record.lock:  # this build has written it
        record.lock = plan.lock
        at = _NUMBERS * bisect_left(record.paths, plan.lock[0])
        fresh = array("Q")
        _look(fresh, [plan.lock[0]], os.lstat)
        statuses[at : at + _NUMBERS] = fresh
    if not _settle(record, statuses, changed.began_ns):
        return False
    record.out = sorted(map(os.fspath, left.out))
    _look(statuses, record.out, os.lstat)
    if not _are_in_out(left, statuses):
        return False
    record.statuses = statuses.tobytes()
    record.product, record.notes, record.report = said[0], *said[1:]
    record.steps, record.fingerprints = tuple(left.steps), left.fingerprints
    record.held = list(_held_again(record, *digests))
    return _write(question, record, plan)


def _widened(
    record: _Record, statuses: array[int], watch: Watch, plan: PlanKept, root: Path
) -> tuple[_Record, array[int]] | None:
    """A record, and the statuses of its paths, with what was looked at since for a plan; None when that cannot be kept."""
    found = None if watch.secret or watch.variables - record.variables.keys() else _looked_at(watch, root, record.cache)
    if found is None:
        return None
    paths, seen = found
    # What was asked for before, and may be in a source from now on.
    new = {path for path, _ in plan.sources}.difference(record.sources)
    before = {record.paths[number] for path in new for number in _below(path, record.paths)} | new.intersection(record.paths)
    came = sorted(paths.difference(record.paths))
    if came:
        names = [*((False, path) for path in record.paths), *((True, path) for path in record.linked)]
        known = {name: statuses[_NUMBERS * at : _NUMBERS * (at + 1)] for at, name in enumerate(names)}
        record = msgspec.structs.replace(
            record, paths=sorted((*record.paths, *came)), linked=sorted({*record.linked, *filter(os.path.islink, came)})
        )
        statuses = array("Q")
        for is_linked, ask, paths_now in ((False, os.lstat, record.paths), (True, os.stat, record.linked)):
            for path in paths_now:
                if (status := known.get((is_linked, path))) is not None:
                    statuses.extend(status)
                else:
                    _look(statuses, [path], ask)
    else:
        record = msgspec.structs.replace(record)
    record.own, record.definitions = plan.own, tuple(sorted(plan.definitions))
    _part_sources(record, watch, plan, seen | before)
    return record, statuses


def _write(question: Question, record: _Record, plan: PlanKept | None) -> bool:
    """Writes a record with its plan, which stays as it is where there is none."""
    from yarrik.atomic import write_file  # asking takes as few modules as it can

    try:
        question.file.parent.mkdir(parents=True, exist_ok=True)
        if plan is not None:
            files = _beside(question)
            files[0].parent.mkdir(parents=True, exist_ok=True)
            if plan.plan:
                write_file(_steps_file(question), plan.steps)
                write_file(files[0], plan.plan)
                record.plan = _seal(plan.plan).hex()
            write_file(files[1], plan.state)
            record.state = _seal(plan.state).hex()
        lists = tuple(os.fsencode("\0".join(getattr(record, name))) for name in _LISTS)
        bare = {name: type(getattr(record, name))() for name in _LISTS}
        body = msgspec.msgpack.encode(msgspec.structs.replace(record, lists=lists, **bare))
        write_file(question.file, body + _seal(body))
        _clear_away(question.file.parent)
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
                if entry.name == "objects" and os.path.basename(folder) == ".git":
                    continue
                if entry.is_dir():
                    waiting.append(entry.path)
                else:
                    paths.add(entry.path)
        if len(paths) > _MOST_PATHS:
            raise _TooMany


def _held(cache: str, digests: set[str]) -> Iterator[tuple[str, int, bytes]]:
    """The folders of the cache with what has to be in each; 0 for one that has changed so lately that it may do so unseen."""
    by_folder: dict[str, bytearray] = {}
    for digest in sorted(digests):
        by_folder.setdefault(_folder_in(cache, digest), bytearray()).extend(bytes.fromhex(digest))
    for folder, needed in by_folder.items():
        yield folder, _changed(folder), bytes(needed)


def _held_again(record: _Record, old: Collection[str], new: Collection[str]) -> Iterator[tuple[str, int, bytes]]:
    """The same as `_held`, without what is `old` and with what is `new`: only that has to be looked for."""
    by_folder = {folder: (changed, digests) for folder, changed, digests in record.held}
    for digest in sorted(set(new)):
        folder = _folder_in(record.cache, digest)
        changed, digests = by_folder.get(folder, (0, b""))
        if bytes.fromhex(digest) not in _parts(digests):
            by_folder[folder] = changed, digests + bytes.fromhex(digest)
    for digest in sorted(set(old)):
        for kind in ("trees", "objects"):
            folder = f"{record.cache}/{kind}/{digest[:2]}"
            if folder in by_folder:
                changed, digests = by_folder[folder]
                by_folder[folder] = changed, b"".join(one for one in _parts(digests) if one.hex() != digest)
    for folder, (before, digests) in sorted(by_folder.items()):
        now = _changed(folder)
        if digests:
            yield folder, now if now == before or all(map(os.path.exists, _paths_in(folder, digests))) else 0, digests


def _parts(digests: bytes) -> list[bytes]:
    return [digests[at : at + _DIGEST] for at in range(0, len(digests), _DIGEST)]


def _folder_in(cache: str, digest: str) -> str:
    kind = "trees" if os.path.exists(f"{cache}/trees/{digest[:2]}/{digest}") else "objects"
    return f"{cache}/{kind}/{digest[:2]}"


def _changed(folder: str) -> int:
    """When something came to a folder of the cache or went, the last time; 0 when it may do so unseen."""
    try:
        changed = os.stat(folder).st_mtime_ns
    except OSError:
        return 0
    return changed if changed < time.time_ns() - _FRESH_NS else 0


def _clear_away(folder: Path) -> None:
    """Removes the records that were used longest ago, beyond those that are worth keeping."""
    files = sorted(folder.iterdir(), key=lambda file: file.stat().st_mtime, reverse=True)
    for file in files[_MOST:]:
        file.unlink(missing_ok=True)
        for name in (file.name, f"{file.name}{_STATE}", f"{file.name}{_STEPS}"):
            (folder.parent / _PLANS / name).unlink(missing_ok=True)
