"""A workspace: its shelves in order, every definition on them as written, and the amendments to each."""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, NoReturn, TypeVar

import msgspec
from msgspec.structs import replace

from yarrik import __version__
from yarrik.errors import Collector, Place, Trouble, Unfit, YarrikError, listed, suggestion
from yarrik.model.checking import check_definition, convert, find_troubles, fits
from yarrik.model.conditions import Circumstances, holds
from yarrik.model.definitions import (
    BUILT_IN_SHELVES,
    Amendment,
    Definable,
    Group,
    Local,
    Product,
    Recipe,
    ShelfChoice,
    ShelfFile,
    ShelfTable,
    WorkspaceFile,
)
from yarrik.model.kinds import AMENDABLE, EXTENDING, SHAPES, SHOWN
from yarrik.model.product_file import workspace_file
from yarrik.model.reading import Definition, Document, Raw, place_in, read_document
from yarrik.model.root import FILE, LOCAL_FILE
from yarrik.model.rules import check_name
from yarrik.model.stacking import stack
from yarrik.own_code import code_mark
from yarrik.versions import Version, parse_wish

if TYPE_CHECKING:
    from yarrik.cache import Memory

T = TypeVar("T", bound=Definable)

#: From this many files on, further processes are worth starting.
_MANY = 400
#: Where the shapes of definitions are: when they change, what was found good has to be looked at again.
_RULES = ("model/definitions.py", "model/rules.py", "model/checking.py")


class Shelved(msgspec.Struct, frozen=True, dict=True):
    """A definition as written on its shelf (an empty name for the workspace itself)."""

    name: str
    shelf: str
    path: str
    encoded: bytes | None
    read: Document | None = None
    #: What is wrong with it, if it cannot be used: who asks for its document gets these as an error.
    faults: tuple[Trouble, ...] = ()

    @cached_property
    def file(self) -> Path:
        """The file that it is written in."""
        return Path(self.path)

    @cached_property
    def document(self) -> Document:
        """What is written in the file. Raises YarrikError when it cannot be used."""
        if self.faults:
            raise YarrikError(self.faults)
        if self.read is not None:
            return self.read
        assert self.encoded is not None
        return Document(self.file, msgspec.msgpack.decode(self.encoded))


class Resolved(Mapping[str, Definition[T]], Generic[T]):
    """The definitions of a kind as they are without a product: amended, but with nothing that depends on circumstances."""

    def __init__(self, names: Mapping[str, Shelved], resolve: Callable[[str], Definition[T]]) -> None:
        self._names = names
        self._resolve = resolve
        self._known: dict[str, Definition[T]] = {}

    def __getitem__(self, name: str) -> Definition[T]:
        if name not in self._known:
            if name not in self._names:
                raise KeyError(name)
            self._known[name] = self._resolve(name)
        return self._known[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._names)

    def __len__(self) -> int:
        return len(self._names)

    def __contains__(self, name: object) -> bool:
        return name in self._names


class ShelfOnDisk(msgspec.Struct, frozen=True):
    """A shelf of the workspace: what its `shelf.toml` says, and its folder."""

    table: ShelfTable
    folder: Path

    def place(self, key: str) -> Place:
        """A key of the shelf's own file, with its line."""
        return place_in(self.folder / "shelf.toml", "shelf", key)


class AmendmentOnShelf(msgspec.Struct, frozen=True):
    """An amendment with the shelf that it lies on."""

    name: str
    shelf: str
    value: Amendment
    document: Document


class NotRead(LookupError):
    """Definitions of a kind that were not read were asked for."""


class Unread(Mapping[str, Shelved]):
    """In place of the definitions of a kind that were not read: whatever is asked of it raises NotRead."""

    def _refuse(self, *asked: object) -> NoReturn:
        raise NotRead

    __getitem__ = __contains__ = __iter__ = __len__ = _refuse


class Workspace(msgspec.Struct, frozen=True, dict=True):
    """All definitions by kind and name. Later shelves override earlier ones, but only where they say so."""

    root: Path
    settings: WorkspaceFile
    shelved: Mapping[str, Mapping[str, Shelved]]
    amendments: tuple[AmendmentOnShelf, ...]
    local: Document | None = None
    #: How many recipes had to be read and looked at anew.
    files_read: int = 0
    #: The shelves by name, in order.
    shelves: Mapping[str, ShelfOnDisk] = msgspec.field(default_factory=dict)
    #: The changes of a product that is put together of several files, those of each by itself.
    layers: Mapping[str, tuple[Document, ...]] = msgspec.field(default_factory=dict)

    @property
    def file(self) -> Path:
        """The workspace's own file."""
        return self.root / FILE

    def readable(self, kind: str) -> Iterator[tuple[str, Shelved]]:
        """The definitions of a kind without those that have errors."""
        return ((name, shelved) for name, shelved in self.shelved[kind].items() if not shelved.faults)

    @cached_property
    def broken(self) -> tuple[Shelved, ...]:
        """The definitions that have errors, whether somebody asks for them or not."""
        read = (names for names in self.shelved.values() if not isinstance(names, Unread))
        return tuple(one for names in read for one in names.values() if one.faults)

    def check(self) -> None:
        """Looks at all definitions, also at those that no product uses. Raises YarrikError with all that is wrong."""
        collector = Collector()
        for shelved in self.broken:
            collector.extend(shelved.faults)
        named = [(kind, name) for kind in EXTENDING for name, _ in self.readable(kind)]
        amended = [(kind, name) for kind, name in self._amendments if kind not in EXTENDING]
        for kind, name in [*named, *amended]:
            if not self.shelved[kind][name].faults:
                try:
                    _ = self.by_kind[kind][name]
                except YarrikError as error:
                    collector.extend(error.troubles)
        collector.raise_if_any()

    @cached_property
    def by_kind(self) -> dict[str, Resolved[Any]]:
        """All definitions as they are without a product, by kind and name."""
        return {kind: self._all(kind, SHAPES[kind]) for kind in SHOWN}

    @property
    def products(self) -> Resolved[Product]:
        """All products, resolved when they are asked for."""
        return self.by_kind["product"]

    @property
    def recipes(self) -> Resolved[Recipe]:
        """All recipes, resolved when they are asked for."""
        return self.by_kind["recipe"]

    @property
    def groups(self) -> Resolved[Group]:
        """All package groups, resolved when they are asked for."""
        return self.by_kind["group"]

    def _all(self, kind: str, shape: type[T]) -> Resolved[T]:
        def resolve(name: str) -> Definition[T]:
            return self.definition(kind, name, shape, Circumstances())

        return Resolved(self.shelved[kind], resolve)

    def definition(
        self, kind: str, name: str, shape: type[T], now: Circumstances, changes: tuple[Document, ...] = ()
    ) -> Definition[T]:
        """A definition with all that it extends, amendments, what its conditions say of `now`, and `changes` on top.
        Raises YarrikError."""
        shelved = self.shelved[kind][name]
        whole = stack([*self.parts(kind, name, now), *changes], shape)
        if whole.file != shelved.file:
            whole = Document(shelved.file, whole.raw, (), whole.origins)
        return Definition(name, shelved.shelf, convert(whole, shape), whole)

    def documents_of(self, kind: str, name: str) -> list[Document]:
        """A definition's own document, and those of amendments to it."""
        return [self.shelved[kind][name].document, *(one.document for one in self._amendments.get((kind, name), ()))]

    def has_conditions(self, kind: str, name: str) -> bool:
        """Whether a definition, or an amendment to it, depends on circumstances; what it extends aside."""
        return any("when" in document.raw for document in self.documents_of(kind, name))

    def open_conditions(self, kind: str, name: str, now: Circumstances) -> Iterator[tuple[Raw, Document]]:
        """The conditions of a definition that wait for what is resolved, each with what it would set."""
        for ancestor in reversed(self.ancestry(kind, name)):
            for document in self.documents_of(kind, ancestor):
                for index, when in enumerate(document.raw.get("when", ())):
                    if holds(when, now) is None:
                        yield when, document.part("when", str(index), "set")

    def parts(self, kind: str, name: str, now: Circumstances) -> Iterator[Document]:
        """The documents that a definition consists of, in the order in which they are merged."""
        for ancestor in reversed(self.ancestry(kind, name)):
            yield from _with_conditions(self.shelved[kind][ancestor].document, now)
            for amendment in self._amendments.get((kind, ancestor), ()):
                yield amendment.document.part("set")
                for index, when in enumerate(amendment.document.raw.get("when", ())):
                    if holds(when, now):
                        yield amendment.document.part("when", str(index), "set")

    @cached_property
    def _amendments(self) -> dict[tuple[str, str], list[AmendmentOnShelf]]:
        found: dict[tuple[str, str], list[AmendmentOnShelf]] = {}
        for amendment in self.amendments:
            found.setdefault(amendment.value.target, []).append(amendment)
        return found

    def ancestry(self, kind: str, name: str) -> list[str]:
        """A definition and all that it extends, the nearest first. Raises YarrikError for loops and unknown names."""
        known = self.shelved[kind]
        trail = [name]
        while kind in EXTENDING and (base := known[trail[-1]].document.raw.get("extends")):
            document = known[trail[-1]].document
            place = document.origin("extends").place
            if base in trail:
                loop = " → ".join([*trail, base])
                raise YarrikError(Trouble("EXTENDS-LOOP", f"definitions extend each other in a loop: {loop}", place,
                                          remedy="take one `extends` out"))  # fmt: skip
            if base not in known:
                raise YarrikError(
                    Trouble("EXTENDS-UNKNOWN", f"`{trail[-1]}` extends `{base}`, which is not among the {kind}s of any shelf",
                            place, remedy=suggestion(base, known), lacks=(kind, base))
                )  # fmt: skip
            trail.append(base)
        return trail


def _with_conditions(document: Document, now: Circumstances) -> Iterator[Document]:
    """A document without its conditions, then what those that hold set."""
    conditions = document.raw.get("when")
    if not conditions:
        yield document
        return
    raw = {key: value for key, value in document.raw.items() if key != "when"}
    yield Document(document.file, raw, document.prefix)
    for index, when in enumerate(conditions):
        if holds(when, now):
            yield document.part("when", str(index), "set")


def load_workspace(root: Path, memory: Memory | None = None) -> Workspace:
    """Reads the workspace and all definitions on its shelves; raises YarrikError with all troubles at once.

    With a `memory`, files that have not changed since they were last found to be good are not read again."""
    workspace = open_workspace(root, memory)
    workspace.check()
    return workspace


def open_workspace(root: Path, memory: Memory | None = None, unread: Collection[str] = ()) -> Workspace:
    """Reads the workspace; a definition with errors stops only those who ask for it. Those of the kinds that stay `unread` must
    not be asked for.

    Raises YarrikError with all that is wrong with the workspace itself: its file, its shelves, its amendments."""
    settings, in_file = workspace_file(root, FILE)
    collector = Collector()
    if in_file is not None:
        _check_version(in_file.value.needs_yarrik, place_in(in_file.file, "needs-yarrik"), collector)
    _check_version(settings.workspace.needs_yarrik, place_in(root / FILE, "workspace", "needs-yarrik"), collector)
    shelves = {one.table.name: one for one in _shelves(root, settings, collector, in_file.shelf_places if in_file else ())}
    places = [*((name, one.folder) for name, one in shelves.items()), ("", root)]
    reader = _Reader(memory, collector)
    kinds = [kind for kind in SHAPES if kind != "amendment" and kind not in unread]
    read = {kind: reader.definitions(places, kind) for kind in kinds}
    layers: dict[str, tuple[Document, ...]] = {}
    if in_file is not None:
        name = in_file.value.name
        read["product"][name] = Shelved(name, "", str(in_file.file), None, in_file.product)
        layers[name] = in_file.layers
    amendments = reader.amendments(places)
    local = reader.local(root)
    reader.save()
    shelved: dict[str, Mapping[str, Shelved]] = {kind: Unread() for kind in unread}
    workspace = Workspace(root, settings, shelved | read, amendments, local, len(reader.learned), shelves, layers)
    _check_amendments(workspace, collector)
    if collector.troubles:
        for one in workspace.broken:
            collector.extend(one.faults)
    collector.raise_if_any()
    return workspace


def _shelves(root: Path, settings: WorkspaceFile, collector: Collector, listed_at: Sequence[Place]) -> Iterator[ShelfOnDisk]:
    """The shelves, in order: those that come with Yarrik first, so that others can replace what is on them. `listed_at` is
    where they are listed, if not in the workspace's file."""
    seen: set[str] = set()
    read: list[ShelfOnDisk] = []
    for index, choice in sorted(enumerate(settings.shelf), key=lambda one: not one[1].built_in):
        here = listed_at[index] if listed_at else place_in(root / FILE, "shelf", str(index))
        if trouble := _ill_placed(choice, here):
            collector.add(trouble)
            continue
        folder = (root / choice.place).resolve()
        if choice.git and not (root / choice.clone).exists():
            collector.add(
                Trouble("SHELF-NOT-HERE", f"the shelf `{choice.name}` is not cloned yet", here,
                        why=f"it comes from {choice.git}", remedy="yarrik shelf sync")
            )  # fmt: skip
            continue
        try:
            shelf = convert(read_document(folder / "shelf.toml"), ShelfFile).shelf
        except YarrikError as error:
            collector.extend(error.troubles)
            continue
        if shelf.name != choice.name:
            collector.add(
                Trouble("SHELF-NAME", f"the shelf in {choice.place} calls itself `{shelf.name}`, not `{choice.name}`", here,
                        remedy=f'write `name = "{shelf.name}"`')
            )  # fmt: skip
        if choice.name in seen:
            collector.add(Trouble("SHELF-TWICE", f"two shelves carry the name `{choice.name}`", here,
                                  remedy="take one of them out, or rename it"))  # fmt: skip
        _check_version(shelf.needs_yarrik, place_in(folder / "shelf.toml", "shelf", "needs-yarrik"), collector)
        for needed in shelf.needs:
            if needed not in (other.name for other in settings.shelf):
                collector.add(
                    Trouble("SHELF-MISSING", f"shelf `{shelf.name}` needs the shelf `{needed}`, which is not in the workspace",
                            place_in(folder / "shelf.toml", "shelf", "needs"), remedy=f"add [[shelf]] for `{needed}` to {FILE}",
                            lacks=("shelf", needed))
                )  # fmt: skip
        seen.add(choice.name)
        read.append(ShelfOnDisk(shelf, folder))
        # Under the workspace's name for it, if the two differ: that is an error by itself, and makes no others.
        yield ShelfOnDisk(replace(shelf, name=choice.name), folder)
    collector.extend(_unfit_together(read))


def _unfit_together(shelves: list[ShelfOnDisk]) -> Iterator[Trouble]:
    """Shelves that do not work with the version of another one."""
    versions = {one.table.name: one.table.version for one in shelves}
    for one in shelves:
        shelf, folder = one.table, one.folder
        for other, wish in shelf.works_with.items():
            have = versions.get(other)
            if have is None:
                continue
            try:
                fits = parse_wish(wish).allows(Version(have))
            except Unfit:
                fits = False  # one without a version, or with a text in its place, is none that was asked for
            if not fits:
                yield Trouble(
                    "SHELF-VERSION",
                    f"shelf `{shelf.name}` works with `{other}` {wish}, and the one here is {have or 'without a version'}",
                    place_in(folder / "shelf.toml", "shelf", "works-with", other),
                    why="definitions of the two would not fit each other",
                    remedy=f"take another version of one of them: yarrik shelf pin --update {other}",
                )


def _ill_placed(choice: ShelfChoice, here: Place) -> Trouble | None:
    """What is wrong with the place of a shelf, by its words alone."""
    given = [key for key in ("branch", "tag", "commit", "folder", "shallow") if getattr(choice, key)]
    if bool(choice.path) + bool(choice.git) + choice.built_in != 1:
        what, remedy = f"the shelf `{choice.name}` needs one of `path`, `git` and `built-in`", "write the one that it has"
    elif choice.built_in and not (BUILT_IN_SHELVES / choice.name).is_dir():
        what = f"no shelf `{choice.name}` comes with this version of Yarrik"
        remedy = suggestion(choice.name, sorted(path.name for path in BUILT_IN_SHELVES.iterdir() if path.is_dir()))
    elif choice.built_in and given:
        what, remedy = f"the shelf `{choice.name}` comes with Yarrik and has `{given[0]}`", "that goes with `git` only"
    elif choice.path and given:
        what, remedy = f"the shelf `{choice.name}` is a folder and has `{given[0]}`", "that goes with `git` only"
    elif len(revisions := [key for key in given if key in ("branch", "tag", "commit")]) > 1:
        what = f"the shelf `{choice.name}` has {listed(revisions)}"
        remedy = "keep one of branch, tag and commit"
    else:
        return None
    return Trouble("SHELF-PLACE", what, here, remedy=remedy)


class _Reader:
    """Reads definitions from files, or from what is remembered of them."""

    def __init__(self, memory: Memory | None, collector: Collector) -> None:
        self.memory = memory
        self.collector = collector
        self.learned: dict[str, tuple[str, bytes]] = {}

    @cached_property
    def known(self) -> dict[str, tuple[str, bytes]]:
        """What is remembered of recipes; the others are few, and may hold dates, whose form the encoding would lose."""
        return self.memory.documents(code_mark(*_RULES)) if self.memory is not None else {}

    def definitions(self, places: list[tuple[str, Path]], kind: str) -> dict[str, Shelved]:
        found: dict[str, Shelved] = {}
        files = [(shelf, *file) for shelf, folder in places for file in files_on(folder, kind)]
        if kind == "recipe":
            self._read_many(files)
        for shelf, name, path, status in files:
            # Most are known by their status, or were read in another process: nobody opens them here.
            sys.audit("yarrik.read", path)
            one = self._one(name, shelf, path, status, kind)
            if name in found and not one.faults:
                one = _not_twice(found[name], one)
            found[name] = one
        return found

    def _read_many(self, files: list[tuple[str, str, str, os.stat_result]]) -> None:
        """Reads many recipes on all processors; those that are not as they should be are left for a closer look."""
        unread = [(path, _mark(status)) for _, name, path, status in files if self.known.get(path, ("",))[0] != _mark(status)]
        if len(unread) < _MANY or threading.active_count() > 1 or (os.cpu_count() or 1) < 2:
            return
        import concurrent.futures
        import multiprocessing

        if multiprocessing.current_process().daemon:
            return  # such a process may not have children
        workers = min(os.cpu_count() or 1, 8)
        pool = concurrent.futures.ProcessPoolExecutor(workers, multiprocessing.get_context("fork"))
        with pool:
            encoded = pool.map(_good_recipe, [path for path, _ in unread], chunksize=len(unread) // (workers * 4) + 1)
            for (path, mark), content in zip(unread, encoded, strict=True):
                if content is not None:
                    self.known[path] = self.learned[path] = (mark, content)

    def amendments(self, places: list[tuple[str, Path]]) -> tuple[AmendmentOnShelf, ...]:
        found = []
        for shelf, folder in places:
            for name, path, _ in files_on(folder, "amendment"):
                try:
                    document = read_document(Path(path))
                except YarrikError as error:
                    self.collector.extend(error.troubles)
                    continue
                kinds = [kind for kind in AMENDABLE if kind in document.raw]
                if len(kinds) != 1:
                    self.collector.add(
                        Trouble("AMENDMENT-FORM", f"the amendment `{name}` has to name one definition that it changes",
                                Place(document.file), remedy='write `recipe = "…"`, or `board`, `profile`, `image`')
                    )  # fmt: skip
                    continue
                troubles = list(find_troubles(document, Amendment, own=SHAPES[kinds[0]]))
                self.collector.extend(troubles)
                if not troubles:
                    found.append(AmendmentOnShelf(name, shelf, msgspec.convert(document.raw, Amendment), document))
        return tuple(found)

    def local(self, root: Path) -> Document | None:
        if not (root / LOCAL_FILE).is_file():
            return None
        try:
            document = read_document(root / LOCAL_FILE)
        except YarrikError as error:
            self.collector.extend(error.troubles)
            return None
        self.collector.extend(find_troubles(document, Local))
        return document

    def _one(self, name: str, shelf: str, path: str, status: os.stat_result, kind: str) -> Shelved:
        mark = _mark(status)
        known = self.known.get(path) if kind == "recipe" else None
        if known is not None and known[0] == mark:
            return Shelved(name, shelf, path, known[1])
        file = Path(path)
        try:
            check_name(name)
            document = read_document(file)
        except Unfit as error:
            trouble = Trouble("NAME-UNFIT", str(error), Place(file), remedy="rename the file or folder")
            return Shelved(name, shelf, path, None, None, (trouble,))
        except YarrikError as error:
            return Shelved(name, shelf, path, None, None, error.troubles)
        try:
            check_shelved(document, kind)
        except YarrikError as error:
            return Shelved(name, shelf, path, None, None, error.troubles)
        if self.memory is not None:
            try:
                encoded = msgspec.msgpack.encode(document.raw)
            except (TypeError, OverflowError):
                return Shelved(name, shelf, path, None, document)
            if kind == "recipe":
                self.learned[path] = (mark, encoded)
        return Shelved(name, shelf, path, None, document)

    def save(self) -> None:
        if self.memory is not None and self.learned:
            self.memory.keep_documents(self.learned)


def check_shelved(document: Document, kind: str) -> None:
    """Raises YarrikError with all that is wrong with a definition on a shelf; one that extends another may lack keys."""
    check_definition(document, SHAPES[kind], partial=kind in EXTENDING and "extends" in document.raw)


def _not_twice(former: Shelved, one: Shelved) -> Shelved:
    """A definition that takes the place of another of its name: it has to say so."""
    under = former.shelf or "the workspace"
    if one.document.raw.get("replaces") == former.shelf:
        return one
    trouble = Trouble(
        "DEFINITION-TWICE",
        f"`{one.name}` is defined on two shelves: {under} and {one.shelf or 'the workspace'}",
        Place(one.file),
        why="a definition that takes another's place has to say so, or a new shelf would change a product unseen",
        remedy=f'rename one of them, or write `replaces = "{under}"` in this one',
    )
    return replace(one, faults=(trouble,))


def _mark(status: os.stat_result) -> str:
    return f"{status.st_size} {status.st_mtime_ns} {status.st_ctime_ns} {status.st_ino}"


def _good_recipe(path: str) -> bytes | None:
    """A recipe's values, encoded; None for one in which something is wrong."""
    try:
        check_name(Path(path).parent.name)
        raw = read_document(Path(path)).raw
        return msgspec.msgpack.encode(raw) if fits(raw, Recipe) else None
    except (YarrikError, Unfit, TypeError, OverflowError):
        return None


def definitions_on(folder: Path) -> dict[str, list[str]]:
    """The names of a shelf's definitions by kind, without reading them."""
    return {kind: sorted(name for name, _, _ in files_on(folder, kind)) for kind in SHAPES}


def names_in(root: Path, kind: str) -> set[str]:
    """The names of a workspace's definitions of a kind; none of them is read. Raises YarrikError for a workspace whose own file
    cannot be read."""
    settings, in_file = workspace_file(root, FILE)
    places = [root, *(root / choice.place for choice in settings.shelf)]
    found = {name for place in places for name, _, _ in files_on(place, kind)}
    return found | {in_file.value.name} if in_file is not None and kind == "product" else found


def files_on(folder: Path, kind: str) -> Iterator[tuple[str, str, os.stat_result]]:
    """Names, paths and status of the files of a kind, by name."""
    try:
        with os.scandir(folder / f"{kind}s") as entries:
            found = sorted(entries, key=lambda entry: entry.name)
    except OSError:
        return
    for entry in found:
        path = f"{entry.path}/recipe.toml" if kind == "recipe" else entry.path
        if kind != "recipe" and not entry.name.endswith(".toml"):
            continue
        try:
            status = os.stat(path)
        except (FileNotFoundError, NotADirectoryError):
            continue
        yield entry.name.removesuffix(".toml") if kind != "recipe" else entry.name, path, status


def _check_amendments(workspace: Workspace, collector: Collector) -> None:
    """An amendment needs its target, and may change only what the target has."""
    for amendment in workspace.amendments:
        kind, name = amendment.value.target
        if isinstance(workspace.shelved[kind], Unread):
            continue
        place = amendment.document.origin(kind).place
        if name not in workspace.shelved[kind]:
            collector.add(
                Trouble("AMENDMENT-TARGET", f"the amendment `{amendment.name}` changes the {kind} `{name}`, which no shelf has",
                        place, why="the definition was renamed or removed, and the change would be lost",
                        remedy=suggestion(name, workspace.shelved[kind]))
            )  # fmt: skip
            continue
        if workspace.shelved[kind][name].faults:
            continue
        target = workspace.shelved[kind][name].document.raw
        parts = [amendment.document.part("set")]
        parts += [amendment.document.part("when", str(i), "set") for i in range(len(amendment.document.raw.get("when", ())))]
        for part in parts:
            for table, sign in (("options", "summary"), ("package", "files"), ("choice", "of")):
                if kind != "recipe" or not isinstance(part.raw.get(table), dict):
                    continue
                for key, change in part.raw[table].items():
                    if key not in target.get(table, {}) and sign not in change:
                        collector.add(
                            Trouble("AMENDMENT-KEY", f"the amendment `{amendment.name}` changes {table}.{key} of the recipe "
                                    f"`{name}`, which has none", part.origin(table, key).place,
                                    why="what it changed may have been renamed",
                                    remedy=suggestion(key, target.get(table, {})) + f"; for a new one, write `{sign}` too")
                        )  # fmt: skip


def _check_version(wanted: str, place: Place, collector: Collector) -> None:
    """Whether this Yarrik is what a file asks for."""
    if not wanted:
        return
    try:
        fine = parse_wish(wanted).allows(Version(__version__))
    except Unfit as error:
        collector.add(Trouble("VERSION-FORM", str(error), place, remedy="write it as `>= 0.1`"))
        return
    if not fine:
        collector.add(Trouble("VERSION-TOO-OLD", f"this is Yarrik {__version__}, and `{wanted}` is asked for", place,
                              remedy="install another Yarrik"))  # fmt: skip
