"""The shelves of a workspace that come from git: where each is, where the lock has it, and how it gets there.

Nothing here asks for the definitions: shelves that are not cloned yet are what it is for."""

from __future__ import annotations

import json
import os
import tomllib
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from yarrik.atomic import write_file
from yarrik.beneath import remove_folder
from yarrik.errors import Place, Trouble, YarrikError, listed, suggestion
from yarrik.model import FILE, ShelfChoice, ShelfFile, WorkspaceFile, check_name, convert, read_document
from yarrik.resolve import Lock, read_lock
from yarrik.sources import Mirror, State, Wanted, commits_between, has_commit, move_to, state_of

_AT_A_TIME = 8
Became = Literal["cloned", "moved", "kept", "left"]


@dataclass(frozen=True)
class ShelfState:
    """A shelf from git: its locked commit (empty without one), and its working tree (None while it is not cloned)."""

    choice: ShelfChoice
    locked: str
    state: State | None

    @property
    def as_locked(self) -> bool:
        """Whether what a build reads is exactly the locked commit."""
        return self.state is not None and not self.state.changed and self.state.commit == self.locked


@dataclass(frozen=True)
class Synced:
    """What became of a shelf. `left` was not touched, for the reason in `why`."""

    name: str
    became: Became
    commit: str
    why: str = ""
    between: tuple[str, ...] = ()


def _wanted(choice: ShelfChoice) -> Wanted:
    return Wanted(choice.branch, choice.tag, choice.commit)


@dataclass
class Shelves:
    """The shelves of the workspace in `root`; mirrors are in the folder `cache`."""

    root: Path
    cache: Path

    def __post_init__(self) -> None:
        self.file = self.root / FILE
        self.settings = convert(read_document(self.file), WorkspaceFile)
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
        return ShelfState(choice, choice.commit or self.lock.commits.get(choice.name, ""), state)

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
        mirror = Mirror.of(choice.git, self.cache)
        locked = choice.commit or self.lock.commits.get(choice.name, "")
        fresh = update or not locked or not mirror.has(locked)
        if fresh:
            mirror.refresh()
        commit = mirror.commit_of(_wanted(choice)) if update or not locked else locked
        if not mirror.keep(commit):
            mirror.commit_of(Wanted(commit=commit))  # raises, with what is missing
        folder = self.root / choice.clone
        if not os.path.lexists(folder):
            _whole(mirror, folder, commit)
            return Synced(choice.name, "cloned", commit)
        state = state_of(folder)
        if state.commit == commit:
            return Synced(choice.name, "kept", commit)
        if state.own or not has_commit(folder, commit):
            # What looks like somebody's own may have been pushed since.
            if not fresh:
                mirror.refresh()
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

    def add(self, url: str, wanted: Wanted, folder: str) -> tuple[str, str, list[str]]:
        """Adds a repository's shelf to the workspace: its name, its commit, and the names of shelves that it needs and that are
        not here. Raises YarrikError; then nothing has changed."""
        self._own_folder()
        mirror = Mirror.of(url, self.cache)
        mirror.refresh()
        commit = mirror.commit_of(wanted)
        mirror.keep(commit)
        scratch = self.root / ".yarrik" / "shelf-on-trial"
        scratch.parent.mkdir(exist_ok=True)
        remove_folder(scratch)
        try:
            mirror.clone(scratch, commit)
            shelf = convert(read_document(scratch / folder / "shelf.toml"), ShelfFile).shelf
            check_name(shelf.name)
            known = {choice.name for choice in self.settings.shelf}
            target = self.root / "shelves" / shelf.name
            if shelf.name in known or target.exists() or target.is_symlink():
                raise YarrikError(
                    Trouble("SHELF-TWICE", f"the workspace has a shelf `{shelf.name}` already", Place(self.file),
                            why="later shelves would hide it", remedy="remove the other one, or take a shelf of another name")
                )  # fmt: skip
            text = self._with(shelf.name, url, wanted, folder)
            scratch.rename(target)
            try:
                write_file(self.file, text.encode())
            except OSError as error:
                target.rename(scratch)
                raise YarrikError(Trouble("NEW-UNWRITABLE", f"{FILE} cannot be written: {error.strerror}", Place(self.file),
                                          remedy="make room, or the file writable")) from error  # fmt: skip
        finally:
            remove_folder(scratch)
        self._ignore(f"/shelves/{shelf.name}/")
        self.lock.pin({**self.lock.commits, shelf.name: commit})
        self.lock.write()
        return shelf.name, commit, [name for name in shelf.needs if name not in known]

    def _with(self, name: str, url: str, wanted: Wanted, folder: str) -> str:
        """yarrik.toml with one more shelf, and all else as it is."""
        values = {
            "name": name,
            "git": url,
            "branch": wanted.branch,
            "tag": wanted.tag,
            "commit": wanted.commit,
            "folder": folder,
        }
        lines = [f"{key} = {json.dumps(value, ensure_ascii=False)}" for key, value in values.items() if value]
        text = self.file.read_text(encoding="utf-8").rstrip("\n") + "\n\n[[shelf]]\n" + "\n".join(lines) + "\n"
        try:
            tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            raise YarrikError(Trouble("NEW-UNWRITABLE", "the shelf cannot be added to the list", Place(self.file),
                                      why=str(error), remedy=f"add it by hand: {listed(lines)}")) from error  # fmt: skip
        return text

    def _ignore(self, line: str) -> None:
        """A clone is no part of the workspace's own repository."""
        file = self.root / ".gitignore"
        text = file.read_text(encoding="utf-8") if file.is_file() else ""
        if line not in text.splitlines():
            write_file(file, (text.rstrip("\n") + "\n" + line + "\n").lstrip("\n").encode())


def _whole(mirror: Mirror, folder: Path, commit: str) -> None:
    """Clones beside, and moves the whole clone into place: one that was interrupted leaves no half of it."""
    fresh = folder.with_name(f".{folder.name}.new")
    remove_folder(fresh)
    try:
        mirror.clone(fresh, commit)
        fresh.rename(folder)
    finally:
        remove_folder(fresh)
