"""The shelves of a workspace that come from git: where each is, where the lock has it, and how it gets there.

Nothing here asks for the definitions: shelves that are not cloned yet are what it is for."""

from __future__ import annotations

import contextlib
import json
import os
import tomllib
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Literal

import msgspec

from yarrik.atomic import write_file
from yarrik.beneath import remove_folder
from yarrik.errors import Place, Trouble, YarrikError, suggestion
from yarrik.model import (
    BUILT_IN_SHELVES,
    FILE,
    Catalogues,
    Offer,
    ShelfChoice,
    ShelfFile,
    ShelfTable,
    check_name,
    convert,
    read_document,
    workspace_file,
)
from yarrik.resolve import Lock, read_lock
from yarrik.sources import Mirror, State, Wanted, commits_between, distance, has_commit, move_to, state_of

_AT_A_TIME = 8
Became = Literal["cloned", "moved", "kept", "left"]


class ShelfState(msgspec.Struct, frozen=True):
    """A shelf from git: its locked commit (empty without one), and its working tree (None while it is not cloned)."""

    choice: ShelfChoice
    locked: str
    state: State | None
    #: Commits that it has and the locked one has not, and the other way round; None when the history is not here.
    apart: tuple[int, int] | None = None

    @property
    def as_locked(self) -> bool:
        """Whether what a build reads is exactly the locked commit."""
        return self.state is not None and not self.state.changed and self.state.commit == self.locked


class Synced(msgspec.Struct, frozen=True):
    """What became of a shelf. `left` was not touched, for the reason in `why`."""

    name: str
    became: Became
    commit: str
    why: str = ""
    between: tuple[str, ...] = ()


class Trial(msgspec.Struct, frozen=True):
    """A shelf that could be added: how the workspace would list it, what its `shelf.toml` says, and for one from git its clone
    on trial with the commit (else None and empty)."""

    choice: ShelfChoice
    shelf: ShelfTable
    clone: Path | None
    commit: str


def shelf_block(choice: ShelfChoice) -> str:
    """The lines of yarrik.toml that list a shelf."""
    values = msgspec.to_builtins(choice)
    lines = [f"{key} = {json.dumps(value, ensure_ascii=False)}" for key, value in values.items() if value]
    return "[[shelf]]\n" + "\n".join(lines) + "\n"


def _wanted(choice: ShelfChoice) -> Wanted:
    return Wanted(choice.branch, choice.tag, choice.commit)


class Shelves(msgspec.Struct, dict=True):
    """The shelves of the workspace in `root`; mirrors are in the folder `cache`."""

    root: Path
    cache: Path

    def __post_init__(self) -> None:
        self.file = self.root / FILE
        self.settings, self.in_file = workspace_file(self.root, FILE)
        self.lock: Lock = read_lock(self.root)

    @property
    def from_git(self) -> list[ShelfChoice]:
        """Those that come from git, in the workspace's order."""
        return [choice for choice in self.settings.shelf if choice.git]

    def chosen(self, names: Sequence[str]) -> list[ShelfChoice]:
        """Shelves by name; all from git without names. Raises YarrikError."""
        known = {choice.name: choice for choice in self.from_git}
        for name in names:
            if name not in known:
                raise YarrikError(Trouble("SHELF-UNKNOWN", f"the workspace has no shelf `{name}` from git", Place(self.file),
                                          remedy=suggestion(name, known)))  # fmt: skip
        return [known[name] for name in names] if names else list(known.values())

    def states(self) -> list[ShelfState]:
        """How each shelf from git is. Raises YarrikError."""
        return [self._state(choice) for choice in self.from_git]

    def _state(self, choice: ShelfChoice) -> ShelfState:
        self._own_folder()
        folder = self.root / choice.clone
        state = state_of(folder) if os.path.lexists(folder) else None
        locked = choice.commit or self.lock.commits.get(choice.name, "")
        apart = distance(folder, locked, state.commit) if state is not None and locked not in ("", state.commit) else None
        return ShelfState(choice, locked, state, apart)

    def _own_folder(self) -> None:
        """The workspace's `shelves`, made if need be. Raises YarrikError for a link in its place."""
        folder = self.root / "shelves"
        try:
            folder.mkdir(exist_ok=True)
        except OSError as error:
            raise YarrikError(Trouble("SHELF-STATE", f"shelves cannot be made: {error.strerror}", Place(folder),
                                      remedy="make the workspace's folder writable")) from error  # fmt: skip
        if folder.is_symlink():
            raise YarrikError(Trouble("SHELF-STATE", "shelves is a link, and a folder belongs there", Place(folder),
                                      why="clones would be made and moved wherever it leads",
                                      remedy="replace it by a folder"))  # fmt: skip

    def sync(self, names: Sequence[str], update: bool, tell: Callable[[str], None] = lambda name: None) -> list[Synced]:
        """Brings shelves to their locked commits, several at a time; one without a locked commit is locked where its branch
        is now. With `update` the named ones move to where their branch or tag is now. What somebody has changed, or committed
        and not pushed, is left as it is. Raises YarrikError with all that failed; what went well is kept, and locked."""
        chosen = self.chosen(names)
        self._own_folder()

        def work(choice: ShelfChoice) -> Synced | YarrikError:
            try:
                return self._sync(choice, update)
            except YarrikError as error:
                return error
            finally:
                tell(choice.name)

        with ThreadPoolExecutor(_AT_A_TIME) as pool:
            results = list(pool.map(work, chosen))
        done = [one for one in results if isinstance(one, Synced)]
        commits = {choice.name: self.lock.commits[choice.name] for choice in self.from_git if choice.name in self.lock.commits}
        self.lock.pin(commits | {one.name: one.commit for one in done if one.became != "left"})
        if self.lock.changed:
            self.lock.write()
        failed = [trouble for one in results if isinstance(one, YarrikError) for trouble in one.troubles]
        if failed:
            raise YarrikError(failed, "work")
        return done

    def _sync(self, choice: ShelfChoice, update: bool) -> Synced:
        mirror = Mirror.of(choice.git, self.cache, choice.shallow)
        wanted = _wanted(choice)
        locked = choice.commit or self.lock.commits.get(choice.name, "")
        fresh = update or not locked or (not mirror.has(locked) and not (choice.shallow and mirror.keep(locked)))
        if fresh:
            mirror.refresh(wanted)
        commit = mirror.commit_of(wanted) if update or not locked else locked
        if not mirror.keep(commit):
            mirror.commit_of(Wanted(commit=commit))  # raises, with what is missing
        folder = self.root / choice.clone
        if not os.path.lexists(folder):
            whole_clone(mirror, folder, commit)
            return Synced(choice.name, "cloned", commit)
        state = state_of(folder)
        if state.commit == commit:
            return Synced(choice.name, "kept", commit)
        if state.own or not has_commit(folder, commit):
            # What looks like somebody's own may have been pushed since.
            if not fresh:
                mirror.refresh(wanted)
            mirror.hand_on(folder)
            state = state_of(folder)
        if state.changed:
            return Synced(choice.name, "left", commit, "files in it are changed and not committed")
        if state.own:
            return Synced(choice.name, "left", commit, f"{state.own} of its commits are not pushed")
        between = tuple(commits_between(folder, state.commit, commit))
        move_to(folder, commit)
        return Synced(choice.name, "moved", commit, between=between)

    def pin(self) -> list[Synced]:
        """Locks each shelf where its working tree is. One whose commit nobody else could fetch is left, with the reason."""
        found = []
        for one in self.states():
            name, state = one.choice.name, one.state
            if state is None:
                found.append(Synced(name, "left", one.locked, "it is not cloned yet"))
            elif state.changed:
                found.append(Synced(name, "left", one.locked, "files in it are changed and not committed"))
            elif state.own:
                found.append(Synced(name, "left", one.locked, f"{state.own} of its commits are not pushed"))
            else:
                found.append(Synced(name, "kept" if state.commit == one.locked else "moved", state.commit))
        self.lock.pin({one.name: one.commit for one in found if one.commit})
        if self.lock.changed:
            self.lock.write()
        return found

    @contextlib.contextmanager
    def trials(self) -> Iterator[Path]:
        """A folder for shelves that are looked at before they are added; what is left in it goes in the end."""
        self._own_folder()
        scratch = self.root / ".yarrik" / "shelves-on-trial"
        scratch.parent.mkdir(exist_ok=True)
        remove_folder(scratch)
        scratch.mkdir()
        try:
            yield scratch
        finally:
            remove_folder(scratch)

    def try_clone(self, scratch: Path, url: str, wanted: Wanted, folder: str, shallow: bool = False) -> Trial:
        """Clones a repository's shelf on trial. Raises YarrikError for what cannot be added."""
        mirror = Mirror.of(url, self.cache, shallow)
        mirror.refresh(wanted)
        commit = mirror.commit_of(wanted)
        mirror.keep(commit)
        clone = scratch / f"{len(list(scratch.iterdir()))}"
        mirror.clone(clone, commit)
        choice = ShelfChoice(name="trial", git=url, branch=wanted.branch, tag=wanted.tag, commit=wanted.commit, folder=folder,
                             shallow=shallow)  # fmt: skip
        return self._tried(choice, clone / folder, clone, commit)

    def try_folder(self, folder: Path) -> Trial:
        """A shelf that is a plain folder. Raises YarrikError for what cannot be added."""
        if folder.parent == BUILT_IN_SHELVES:
            return self._tried(ShelfChoice(name="trial", built_in=True), folder, None, "")
        path = os.path.relpath(folder, self.root)
        return self._tried(ShelfChoice(name="trial", path=path), folder, None, "")

    def _tried(self, choice: ShelfChoice, folder: Path, clone: Path | None, commit: str) -> Trial:
        shelf = convert(read_document(folder / "shelf.toml"), ShelfFile).shelf
        check_name(shelf.name)
        choice = msgspec.structs.replace(choice, name=shelf.name)
        target = self.root / "shelves" / shelf.name
        if shelf.name in self.names or (clone is not None and os.path.lexists(target)):
            raise YarrikError(
                Trouble("SHELF-TWICE", f"the workspace has a shelf `{shelf.name}` already", Place(self.file),
                        why="later shelves would hide it", remedy="remove the other one, or take a shelf of another name")
            )  # fmt: skip
        return Trial(choice, shelf, clone, commit)

    @property
    def names(self) -> set[str]:
        """The names of all shelves of the workspace."""
        return {choice.name for choice in self.settings.shelf}

    def take(self, trials: Sequence[Trial]) -> None:
        """Adds shelves that were tried, in this order. Raises YarrikError; then nothing has changed."""
        if self.in_file is not None:
            blocks = "".join(shelf_block(one.choice) for one in trials)
            raise YarrikError(
                Trouble("NEW-UNWRITABLE", f"the shelves of this workspace are those of {self.in_file.file.name}",
                        Place(self.in_file.file), why="it was made for that product file",
                        remedy=f"add there:\n{blocks}")
            )  # fmt: skip
        text = self._with([one.choice for one in trials])
        moved: list[tuple[Path, Path]] = []
        try:
            for one in trials:
                if one.clone is not None:
                    target = self.root / one.choice.clone
                    one.clone.rename(target)
                    moved.append((one.clone, target))
            write_file(self.file, text.encode())
        except OSError as error:
            for clone, target in moved:
                target.rename(clone)
            raise YarrikError(Trouble("NEW-UNWRITABLE", f"{FILE} cannot be written: {error.strerror}", Place(self.file),
                                      remedy="make room, or the file writable")) from error  # fmt: skip
        cloned = [one for one in trials if one.clone is not None]
        for one in cloned:
            self._ignore(f"/{one.choice.clone}/")
        if cloned:
            self.lock.pin({**self.lock.commits, **{one.choice.name: one.commit for one in cloned}})
            self.lock.write()

    def _with(self, choices: Sequence[ShelfChoice]) -> str:
        """yarrik.toml with more shelves, and all else as it is."""
        blocks = [shelf_block(choice) for choice in choices]
        text = self.file.read_text(encoding="utf-8").rstrip("\n") + "\n" + "".join(f"\n{block}" for block in blocks)
        try:
            tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            raise YarrikError(Trouble("NEW-UNWRITABLE", "the shelf cannot be added to the list", Place(self.file),
                                      why=str(error), remedy=f"add it by hand:\n{''.join(blocks)}")) from error  # fmt: skip
        return text

    def _ignore(self, line: str) -> None:
        """A clone is no part of the workspace's own repository."""
        file = self.root / ".gitignore"
        text = file.read_text(encoding="utf-8") if file.is_file() else ""
        if line not in text.splitlines():
            write_file(file, (text.rstrip("\n") + "\n" + line + "\n").lstrip("\n").encode())


def whole_clone(mirror: Mirror, folder: Path, commit: str) -> None:
    """Clones beside, and moves the whole clone into place: one that was interrupted leaves no half of it."""
    fresh = folder.with_name(f".{folder.name}.new")
    remove_folder(fresh)
    try:
        mirror.clone(fresh, commit)
        fresh.rename(folder)
    finally:
        remove_folder(fresh)


class Adding(msgspec.Struct, frozen=True):
    """What is to be added: `added` in the order in which shelves are listed, those that another one needs before it; `asked`
    are those that were named; `missing` are names that are needed, and that neither the workspace nor a catalogue has."""

    added: tuple[Trial, ...]
    asked: tuple[Trial, ...]
    missing: tuple[str, ...]


def try_shelves(
    shelves: Shelves,
    scratch: Path,
    places: Sequence[str],
    catalogues: Catalogues,
    wanted: Wanted | None = None,
    folder: str = "",
    shallow: bool = False,
) -> Adding:
    """Tries shelves by name, folder or address, and all that they need. Raises YarrikError for what cannot be added."""
    tried: dict[str, Trial] = {}
    missing: list[str] = []
    busy: set[str] = set()

    def needs_of(trial: Trial) -> None:
        busy.add(trial.choice.name)
        for name in trial.shelf.needs:
            if name in shelves.names or name in tried or name in busy:
                continue
            offer = catalogues.shelf(name)
            if offer is None:
                missing.append(name)
            else:
                needs_of(_try_offer(shelves, scratch, offer, None, False))
        tried[trial.choice.name] = trial

    asked = []
    for place in places:
        trial = _try_place(shelves, scratch, place, catalogues, wanted, folder, shallow)
        asked.append(trial)
        if trial.choice.name not in tried:
            needs_of(trial)
    return Adding(tuple(tried.values()), tuple(asked), tuple(dict.fromkeys(missing)))


def _try_place(
    shelves: Shelves, scratch: Path, place: str, catalogues: Catalogues, wanted: Wanted | None, folder: str, shallow: bool
) -> Trial:
    chosen = wanted or Wanted()
    if "://" in place:
        return shelves.try_clone(scratch, place, chosen, folder, shallow)
    path = Path(place).expanduser()
    offer = catalogues.shelf(place)
    if offer is None or "/" in place:
        if path.is_dir():
            if chosen != Wanted() or folder or shallow:
                raise YarrikError(Trouble("USAGE", f"{place} is a folder, which has no revisions", Place(path),
                                          remedy=f"for a repository: yarrik shelf add file://{path.absolute()}"))  # fmt: skip
            return shelves.try_folder(path.absolute())
        known = sorted(one.shelf.name for one in catalogues.offers())
        raise YarrikError(
            Trouble("SHELF-UNKNOWN", f"`{place}` is no shelf of a catalogue, no folder and no address",
                    why="" if known else "no catalogue is known: `yarrik settings set catalogues=ADDRESS` names one",
                    remedy=suggestion(place, known) if known else "yarrik shelf add ADDRESS or FOLDER")
        )  # fmt: skip
    return _try_offer(shelves, scratch, offer, wanted, shallow)


def _try_offer(shelves: Shelves, scratch: Path, offer: Offer, wanted: Wanted | None, shallow: bool) -> Trial:
    """Tries a shelf from where a catalogue says that it is."""
    shelf = offer.shelf
    place = offer.catalogue.place_of(shelf)
    if not place:
        raise YarrikError(
            Trouble("SHELF-UNKNOWN", f"the catalogue {offer.catalogue.source} does not say where the shelf `{shelf.name}` is",
                    why="it lists a folder beside the catalogue's own file, and was downloaded without it",
                    remedy="ask who writes the catalogue for the repository's address, then: yarrik shelf add ADDRESS")
        )  # fmt: skip
    if shelf.git:
        chosen = wanted if wanted is not None and wanted != Wanted() else Wanted(shelf.branch, shelf.tag, shelf.commit)
        trial = shelves.try_clone(scratch, shelf.git, chosen, shelf.folder, shallow)
    else:
        trial = shelves.try_folder(Path(place))
    if trial.choice.name != shelf.name:
        raise YarrikError(
            Trouble("SHELF-NAME", f"the shelf in {place} calls itself `{trial.choice.name}`, not `{shelf.name}`",
                    why=f"the catalogue {offer.catalogue.source} lists it under the other name",
                    remedy=f"add it by its place, if it is the right one: yarrik shelf add {place}")
        )  # fmt: skip
    return trial
