"""Sysroots and tools of builds: what a recipe brings and what it needs itself, as documents that name each other.

A document has the digest of one recipe's tree and those of the documents of its direct needs. So it is as small at the end of a
long chain of needs as at its beginning, and what several recipes need is stored once."""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

import msgspec

from yarrik.beneath import Folder, NotPlain, remove_folder
from yarrik.cache import Clash, Kind, MissingObject, Store, Tree, changed_paths, clashes, is_digest
from yarrik.errors import Collector, Damaged, Trouble
from yarrik.rootfs import links_of_trees, placed_trees

#: Labels of inputs that are documents begin with one of these words; the folder that each goes into.
FOLDER_OF = {"needs": "sysroot", "tools": "tools"}
#: Laid out folders that wait for another build: those of sysroots or tools, and those of single trees.
_IDLE, _IDLE_TREES = 4, 2
#: From this many entries on, a tree's folder waits for the next step that reads the same tree.
LARGE = 1000
#: Documents that are kept in memory, and the bytes of one of them at most.
_KNOWN, _LARGEST = 1 << 15, 4 << 20


class Part(msgspec.Struct, frozen=True):
    """What a recipe brings, the digest of a tree, and the digests of the documents of what it needs."""

    recipe: str
    tree: str
    needs: tuple[str, ...] = ()


def put_part(store: Store, recipe: str, tree: str, needs: Iterable[str]) -> str:
    """Keeps the document of a recipe's tree with its needs, and returns its digest."""
    return store.put_bytes(msgspec.json.encode(Part(recipe, tree, tuple(dict.fromkeys(needs)))))


def needed(inputs: Mapping[str, str], word: str) -> list[str]:
    """The digests of a step's inputs whose labels begin with `word`, by label."""
    return [digest for label, digest in sorted(inputs.items()) if label.startswith(f"{word} ")]


def parts_below(store: Store, tops: Iterable[str], known: Collection[str] = ()) -> tuple[dict[str, Part], set[str]]:
    """The documents that `tops` lead to, by digest, each behind what it needs; and those of `known` at which the way ended.

    Raises MissingObject, and Damaged for one that does not read as such: they may come from others."""
    found: dict[str, Part] = {}
    met: set[str] = set()
    waiting = [(digest, False) for digest in reversed(list(tops))]
    while waiting:
        digest, complete = waiting.pop()
        if digest in known:
            met.add(digest)
        elif complete:
            found.setdefault(digest, _part(store, digest))
        elif digest not in found:
            waiting.append((digest, True))
            waiting.extend((one, False) for one in reversed(_part(store, digest).needs) if one not in found)
    return found, met


class _Found(msgspec.Struct, frozen=True, eq=False):
    """A digest's document, read from a store. Only the digest counts: the same has the same content in every store."""

    digest: str
    store: Store

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Found) and self.digest == other.digest

    def __hash__(self) -> int:
        return hash(self.digest)


def _part(store: Store, digest: str) -> Part:
    return _read(_Found(digest, store))


@lru_cache(maxsize=_KNOWN)
def _read(found: _Found) -> Part:
    path = found.store.checked_path(found.digest)
    if path.stat().st_size > _LARGEST:
        raise Damaged("what a recipe hands on is too large to be a document")
    try:
        part = msgspec.json.decode(found.store.get_bytes(found.digest), type=Part)
    except msgspec.DecodeError as error:
        raise Damaged(f"what a recipe hands on does not read as a document: {error}") from error
    if not all(map(is_digest, (part.tree, *part.needs))):
        raise Damaged("what a recipe hands on names something that is no digest")
    return part


def trees_of(store: Store, inputs: Mapping[str, str]) -> list[str]:
    """Digests of the trees behind a step's inputs that are documents."""
    tops = [digest for word in FOLDER_OF for digest in needed(inputs, word)]
    return [part.tree for part in parts_below(store, tops)[0].values()]


def changed_below(store: Store, before: str, after: str) -> list[str]:
    """The paths that differ between what two documents lead to, sorted. Raises MissingObject and Damaged."""
    old, new = ({part.recipe: part.tree for part in parts_below(store, [top])[0].values()} for top in (before, after))
    nothing = Tree(()).digest
    found: set[str] = set()
    for recipe in sorted(old.keys() | new.keys()):
        pair = old.get(recipe, nothing), new.get(recipe, nothing)
        if pair[0] != pair[1]:
            found.update(changed_paths(*(store.tree(one) if one != nothing else Tree(()) for one in pair)))
    return sorted(found)


def difference_in(store: Store, trees: Mapping[str, Tree]) -> Callable[[str, str], list[str]]:
    """Tells which paths differ between two trees or documents of a store; `trees` may not be in it yet. None when either is
    unknown."""

    def paths(before: str, after: str) -> list[str]:
        with suppress(MissingObject):
            return changed_paths(store.tree(before), trees.get(after) or store.tree(after))
        with suppress(MissingObject, Damaged):
            return changed_below(store, before, after)
        return []

    return paths


class _Layout(msgspec.Struct, eq=False):
    """A folder with the trees of all documents that `tops` lead to. `paths` has who brought each path, and as what."""

    path: Path
    tops: frozenset[str]
    covered: set[str]
    paths: dict[str, tuple[str, Kind]]
    links: Mapping[str, str]
    identity: tuple[int, int] = (0, 0)


class Layouts(msgspec.Struct):
    """Folders of sysroots and tools that steps have read and others can go on with: one that has a part of what is wanted gets
    the rest, so that each recipe of a chain adds its own files alone. Large trees, like a kernel's sources, are used again as
    they are. Steps see them read-only. They wait beside the folders of steps."""

    _idle: dict[str, list[_Layout]] = msgspec.field(default_factory=dict)
    _lent: dict[tuple[Path, str], _Layout] = msgspec.field(default_factory=dict)
    #: Where a tree's folder waits, by the tree's digest; and what steps have of them: the digest, and the folder's identity.
    _idle_trees: dict[str, Path] = msgspec.field(default_factory=dict)
    _lent_trees: dict[tuple[Path, str], tuple[str, tuple[int, int]]] = msgspec.field(default_factory=dict)
    _count: int = 0
    _lock: threading.Lock = msgspec.field(default_factory=threading.Lock)

    def lay_out(self, store: Store, name: str, tops: Sequence[str], work: Path, below: Folder) -> None:
        """Makes the folder `name` of a step, which has none, from these documents. Raises YarrikError where trees clash,
        MissingObject and Damaged."""
        layout, new = self._best(store, name, tops)
        if layout is None:
            below.make_folder(name)
            layout = _Layout(work / name, frozenset(), set(), {}, {})
        else:
            layout.path.rename(work / name)
        trees = [(part.recipe, store.tree(part.tree)) for part in new.values()]
        if name == "sysroot":
            layout.links = layout.links or links_of_trees(tree for _, tree in trees)
            trees = placed_trees(trees, layout.links)
        raise_clashes(clashes(trees, layout.paths))
        with below.folder(name) as folder:
            for _, tree in trees:
                store.lay_out(tree, folder, writable=False)
            layout.identity = folder.identity
        layout.tops = frozenset(tops)
        layout.covered.update(new)
        with self._lock:
            self._lent[work, name] = layout

    def lay_out_tree(self, store: Store, name: str, tree: Tree, work: Path, below: Folder) -> None:
        """Makes the folder `name` of a step, which has none, from one tree. Raises MissingObject."""
        with self._lock:
            waiting = self._idle_trees.pop(tree.digest, None)
        if waiting is not None:
            waiting.rename(work / name)
        else:
            below.make_folder(name)
        with below.folder(name) as folder:
            if waiting is None:
                store.lay_out(tree, folder, writable=False)
            identity = folder.identity
        with self._lock:
            self._lent_trees[work, name] = tree.digest, identity

    def _take_trees(self, work: Path, below: Folder) -> None:
        with self._lock:
            lent = {name: self._lent_trees.pop((place, name)) for place, name in list(self._lent_trees) if place == work}
        for name, (digest, identity) in lent.items():
            with self._lock:
                self._count += 1
                place = work.parent / f"tree-{self._count}"
            try:
                with below.folder(name) as folder:
                    if folder.identity != identity:
                        continue
                below.move_out(name, str(place))
            except (OSError, NotPlain):
                continue
            with self._lock:
                old = [self._idle_trees.pop(digest, None)]
                self._idle_trees[digest] = place
                if len(self._idle_trees) > _IDLE_TREES:
                    old.append(self._idle_trees.pop(next(iter(self._idle_trees))))
            for path in old:
                if path is not None:
                    remove_folder(path)

    def give_back(self, work: Path, below: Folder) -> None:
        """Takes the folders of a step that has ended well."""
        self._take_trees(work, below)
        for name in FOLDER_OF.values():
            with self._lock:
                layout = self._lent.pop((work, name), None)
                self._count += 1
                number = self._count
            if layout is None:
                continue
            place = work.parent / f"{name}-{number}"
            try:
                with below.folder(name) as folder:
                    if folder.identity != layout.identity:
                        continue
                below.move_out(name, str(place))
            except (OSError, NotPlain):
                continue  # the next one is laid out anew
            layout.path = place
            with self._lock:
                idle = self._idle.setdefault(name, [])
                idle.append(layout)
                old = idle.pop(0) if len(idle) > _IDLE else None
            if old is not None:
                remove_folder(old.path)

    def drop(self, work: Path) -> None:
        """Forgets what a step was given that has not ended well: it is removed with the step's folder."""
        with self._lock:
            for name in FOLDER_OF.values():
                self._lent.pop((work, name), None)
            for key in [key for key in self._lent_trees if key[0] == work]:
                del self._lent_trees[key]

    def clear(self) -> None:
        """Removes what waits: files in it may be the damaged ones of the cache."""
        with self._lock:
            old = [layout.path for idle in self._idle.values() for layout in idle] + list(self._idle_trees.values())
            self._idle.clear()
            self._idle_trees.clear()
        for path in old:
            remove_folder(path)

    def _best(self, store: Store, name: str, tops: Sequence[str]) -> tuple[_Layout | None, dict[str, Part]]:
        """The waiting folder that lacks the fewest trees and has none too many, taken out; and the documents that it lacks."""
        with self._lock:
            waiting = list(self._idle.get(name, ()))
        best: _Layout | None = None
        lacking: dict[str, Part] = {}
        for layout in reversed(waiting):
            new, met = parts_below(store, tops, layout.covered)
            # All that it has follows from its tops: when these are wanted, the rest is.
            fits = layout.tops <= met and (best is None or len(new) < len(lacking))
            if fits and (name != "sysroot" or not _brings_links(store, new.values(), layout.links)):
                best, lacking = layout, new
        if best is not None:
            with self._lock, suppress(ValueError):
                self._idle[name].remove(best)
                return best, lacking
        return None, parts_below(store, tops)[0]


def _brings_links(store: Store, parts: Iterable[Part], known: Mapping[str, str]) -> bool:
    """Whether one of these trees has a link into /usr that was not known when others were laid out."""
    try:
        return bool(links_of_trees(store.tree(part.tree) for part in parts).keys() - known.keys())
    except MissingObject:
        return True


def raise_clashes(found: Iterable[Clash]) -> None:
    """Raises YarrikError when two trees that go into one folder bring the same path, or one a link where the other has a
    folder: what lies below it would be written to wherever the link leads."""
    collector = Collector()
    for clash in found:
        kinds = {clash.first_kind, clash.second_kind}
        both = f"`{clash.first}` and `{clash.second}`"
        if "folder" not in kinds:
            what, why = f"{both} both bring /{clash.path}", "one would hide the other"
            remedy = "let only one of them install it"
        else:
            other = (kinds - {"folder"}).pop()
            what = f"{both} do not agree on /{clash.path}: it is a folder for one and a {other} for the other"
            why = "what one puts into the folder would go to where the link leads" if other == "link" else (
                "a path can be only one of them")  # fmt: skip
            remedy = "let both install a folder, or let one of them leave the path out"
        collector.add(Trouble("SYSROOT-CLASH", what, why=why, remedy=remedy))
    collector.raise_if_any("work")
