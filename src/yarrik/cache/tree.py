"""A tree: the files, folders and links below one folder, as a value with a digest.

Times and owners are left out on purpose: they are no part of what a step's inputs contain. Paths are text in
the form of `os.fsdecode`, so any bytes that a file name may hold survive.
"""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from pathlib import Path
from typing import Literal, TypeVar

import msgspec

from yarrik.beneath import Folder, kind_of
from yarrik.errors import Damaged, Place, Trouble, YarrikError
from yarrik.patterns import lazy_pattern

Kind = Literal["folder", "file", "link"]
HEADER = b"yarrik tree 1\0"
_LETTERS: dict[Kind, str] = {"folder": "d", "file": "f", "link": "l"}
_KINDS: dict[str, Kind] = {letter: kind for kind, letter in _LETTERS.items()}
_SIZE, _MODE = lazy_pattern(r"[0-9]{1,19}"), lazy_pattern(r"[0-7]{1,5}")
#: An empty word of a path, `.` or `..`.
_UNSAFE = lazy_pattern(r"(?:\A|/)\.{0,2}(?:/|\Z)")
_DIGEST = lazy_pattern(r"[0-9a-f]{64}")
Item = TypeVar("Item")
Found = TypeVar("Found")
CHUNK = 1 << 20
#: From this many files on, several threads read, or write, at a time: each takes a part of them, since to hand over a small
#: file costs more than to read it.
MANY = 200
_READERS, _PART = 3, 64
#: Threads would take turns for most of what shorter files take.
_SHORT = 1 << 15
#: What is read of a file at a time, in bytes.
SHORT = 1 << 16


class TreeDamaged(Damaged):
    """A stored tree does not read as one; the message says what is wrong."""


class Entry(msgspec.Struct, frozen=True, gc=False):
    """One thing in a tree. `content` is a file's SHA-256 in hex, a link's destination, or empty for a folder.

    `size` is in bytes and `mode` holds the twelve permission bits (a link's are always 0o777)."""

    path: str
    kind: Kind
    mode: int
    size: int
    content: str


class Tree(msgspec.Struct, frozen=True, dict=True):
    """Entries sorted by path, each folder before what it holds. The top itself has no entry."""

    entries: tuple[Entry, ...]

    @staticmethod
    def of(entries: Iterable[Entry]) -> Tree:
        """A tree of these entries, sorted by path."""
        return Tree(tuple(sorted(entries, key=lambda entry: entry.path.split("/"))))

    @cached_property
    def encoded(self) -> bytes:
        """The tree as bytes, the same for the same entries."""
        letters = _LETTERS
        fields = [f"{letters[one.kind]}\0{one.mode:o}\0{one.size}\0{one.content}\0{one.path}" for one in self.entries]
        return HEADER + os.fsencode("\0".join(fields))

    @cached_property
    def digest(self) -> str:
        """The SHA-256 of the encoded tree."""
        return hashlib.sha256(self.encoded).hexdigest()

    @cached_property
    def by_path(self) -> dict[str, Entry]:
        """The entries by path."""
        return {entry.path: entry for entry in self.entries}

    @property
    def files(self) -> Iterable[Entry]:
        """The entries that are regular files."""
        return (entry for entry in self.entries if entry.kind == "file")

    def below(self, *folders: str) -> Tree:
        """The part of the tree that lies in `folders`, with the folders that lead there."""
        wanted = [folder.strip("/") for folder in folders]

        def keeps(path: str) -> bool:
            return any(path == top or path.startswith(top + "/") for top in wanted)

        kept = [entry for entry in self.entries if keeps(entry.path)]
        present = {entry.path for entry in kept}
        ways = {parent for path in present for parent in parent_paths(path)} - present
        return Tree.of(kept + [self.by_path[way] for way in ways if way in self.by_path])

    @staticmethod
    def decode(data: bytes) -> Tree:
        """The tree that `encoded` gave. Raises TreeDamaged: stored trees may come from another machine."""
        if not data.startswith(HEADER):
            raise TreeDamaged("it does not begin as a tree")
        body = os.fsdecode(data[len(HEADER) :])
        fields = iter(body.split("\0") if body else [])
        entries: list[Entry] = []
        is_size, is_mode, is_sum, unsafe = _SIZE.fullmatch, _MODE.fullmatch, _DIGEST.fullmatch, _UNSAFE.search
        for letter in fields:
            try:
                mode, size, content, path = next(fields), next(fields), next(fields), next(fields)
            except StopIteration:
                raise TreeDamaged("an entry is cut off") from None
            kind = _KINDS.get(letter)
            if kind is None or is_size(size) is None or is_mode(mode) is None:
                raise TreeDamaged(f"entry {len(entries)} has an unknown form")
            if unsafe(path) is not None:
                raise TreeDamaged(f"the path {path!r} leads out of the tree")
            if kind == "file" and is_sum(content) is None:
                raise TreeDamaged(f"{path!r} has no digest")
            entries.append(Entry(path, kind, int(mode, 8) & 0o7777, int(size), content))
        no_folders = {entry.path for entry in entries if entry.kind != "folder"}
        for folder in {entry.path.rpartition("/")[0] for entry in entries}:
            if folder in no_folders or not no_folders.isdisjoint(parent_paths(folder)):
                raise TreeDamaged(f"{folder!r} has entries below it, and it or something above it is not a folder")
        return Tree(tuple(entries))


def parent_paths(path: str) -> list[str]:
    """`a/b/c` has the parents `a` and `a/b`."""
    words = path.split("/")
    return ["/".join(words[:count]) for count in range(1, len(words))]


def safe_relative(path: str) -> bool:
    """Whether `path` stays below the folder that it is relative to."""
    return _UNSAFE.search(path) is None


def is_digest(text: object) -> bool:
    """Whether a text is a SHA-256 in hex, and so may become part of a path."""
    return isinstance(text, str) and _DIGEST.fullmatch(text) is not None


def file_digest(path: str | Path) -> str:
    """SHA-256 of a file's content, in hex."""
    handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        return open_digest(handle)
    finally:
        os.close(handle)


def open_digest(handle: int) -> str:
    """SHA-256 of what an open file holds from where it is on, in hex."""
    sha = hashlib.sha256()
    chunk = os.read(handle, SHORT)
    while chunk:
        sha.update(chunk)
        chunk = os.read(handle, SHORT)
    return sha.hexdigest()


def by_threads(work: Callable[[Item], Found], items: Sequence[Item]) -> list[Found]:
    """What `work` makes of each, in their order; of many by several threads. Raises what it raises."""
    if len(items) < MANY:
        return [work(item) for item in items]
    parts = [items[at : at + _PART] for at in range(0, len(items), _PART)]
    with ThreadPoolExecutor(_READERS) as pool:
        return [found for part in pool.map(lambda part: [work(item) for item in part], parts) for found in part]


def read_tree(
    folder: Path | Folder,
    digest_of: Callable[[str, os.stat_result], str] | None = None,
    suffixes: tuple[str, ...] = (),
) -> Tree:
    """The tree below `folder`, without version control's own folder. No link is followed. `digest_of` gets a file's path below
    the folder and its status, and may answer from memory; without it every file is read. With `suffixes`, only files whose
    names end so, and right in `folder`. Where there are many long files, `digest_of` is called by several threads.

    Raises YarrikError when there is something that is not a file, folder or link, or that cannot be read."""
    if isinstance(folder, Folder):
        return _read_tree(folder, Path(), digest_of, suffixes)
    try:
        opened = Folder.at(folder)
    except OSError as error:
        raise _unfit(folder, error.strerror or str(error)) from error
    with opened:
        return _read_tree(opened, folder, digest_of, suffixes)


def _read_tree(
    folder: Folder, shown: Path, digest_of: Callable[[str, os.stat_result], str] | None, suffixes: tuple[str, ...]
) -> Tree:
    def read(path: str, _: os.stat_result) -> str:
        with folder.open(path) as file:
            return open_digest(file.fileno())

    digest = digest_of or read
    entries: list[Entry] = []
    files: list[tuple[str, os.stat_result]] = []
    try:
        for path, status, target in folder.walk(deep=not suffixes):
            if suffixes and not path.endswith(suffixes):
                continue
            if stat.S_ISREG(status.st_mode):
                files.append((path, status))
            elif stat.S_ISDIR(status.st_mode):
                entries.append(Entry(path, "folder", stat.S_IMODE(status.st_mode), 0, ""))
            elif stat.S_ISLNK(status.st_mode):
                entries.append(Entry(path, "link", 0o777, len(os.fsencode(target)), target))
            else:
                raise _unfit(shown / path, f"it is {kind_of(status.st_mode)}",
                             "declare it in the image, which makes it there: [[node]] with `path` and `kind`")  # fmt: skip
        contents = {file[0]: digest(*file) for file in files if file[1].st_size <= _SHORT}
        long = [file for file in files if file[1].st_size > _SHORT]
        contents.update(zip((path for path, _ in long), by_threads(lambda file: digest(*file), long), strict=True))
    except OSError as error:
        raise _unfit(shown / str(error.filename or ""), error.strerror or str(error)) from error
    entries += [Entry(path, "file", stat.S_IMODE(status.st_mode), status.st_size, contents[path]) for path, status in files]
    return Tree.of(entries)


def _unfit(path: Path, reason: str, remedy: str = "move it out of this folder, or make it readable") -> YarrikError:
    return YarrikError(
        Trouble(
            "TREE-UNREADABLE",
            f"cannot take {path.name} into a build: {reason}",
            Place(path),
            why="a step's inputs are files, folders and links whose content can be read",
            remedy=remedy,
        )
    )


def plain_modes(tree: Tree) -> Tree:
    """The same tree with the modes that version control keeps: 755 or 644. What else a checkout has is the umask's doing."""

    def mode_of(entry: Entry) -> int:
        if entry.kind == "link":
            return 0o777
        return 0o755 if entry.kind == "folder" or entry.mode & 0o100 else 0o644

    return Tree(tuple(Entry(e.path, e.kind, mode_of(e), e.size, e.content) for e in tree.entries))


class Clash(msgspec.Struct, frozen=True):
    """A path that two trees bring, and what it is in each; `first` and `second` name the trees."""

    path: str
    first: str
    first_kind: Kind
    second: str
    second_kind: Kind


def clashes(trees: Iterable[tuple[str, Tree]], paths: dict[str, tuple[str, Kind]] | None = None) -> list[Clash]:
    """What keeps trees from lying in one folder: the same path in two of them, but for folders. Of what lies below a clash
    nothing is told. Sorted by path. `paths` are those that lie there already, with who brought each; new ones come to them."""
    known = {} if paths is None else paths
    found: dict[str, Clash] = {}
    for name, tree in trees:
        for entry in tree.entries:
            other = known.setdefault(entry.path, (name, entry.kind))
            if other[0] != name and not other[1] == entry.kind == "folder":
                found.setdefault(entry.path, Clash(entry.path, other[0], other[1], name, entry.kind))
    return [found[path] for path in sorted(found) if not any(parent in found for parent in parent_paths(path))]


def changed_paths(before: Tree, after: Tree) -> list[str]:
    """The paths of files and links that differ between two trees, sorted."""
    old = {entry.path: entry for entry in before.entries}
    new = {entry.path: entry for entry in after.entries}
    return sorted(path for path in old.keys() | new.keys() if old.get(path) != new.get(path))
