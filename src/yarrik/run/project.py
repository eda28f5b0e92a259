"""An opened workspace: its definitions, settings, lock, memory and caches. Each is read or made when it is first asked for."""

from __future__ import annotations

import errno
import hashlib
import os
import sqlite3
from collections.abc import Iterable
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from yarrik.beneath import remove_folder
from yarrik.cache import Memory, Store
from yarrik.errors import Place, Trouble, YarrikError, shown_path
from yarrik.model import settings_at, settings_in
from yarrik.run.cache_place import cache_folder
from yarrik.run.work_folders import WorkFolders
from yarrik.sources import use_proxies

if TYPE_CHECKING:
    from yarrik.cache import Shared
    from yarrik.model import Catalogues, LocalSettings, Workspace
    from yarrik.resolve import Lock
    from yarrik.run.shelves import ShelfState
    from yarrik.sources import Archives

#: The workspace's folder with working trees of sources that are being edited.
EDITS = "edits"


class Choices(msgspec.Struct, frozen=True):
    """What a command was asked for, for all that it does: `patience` in seconds (the solver's own without it), the others as
    its options say."""

    renew_lock: bool = False
    use_sandbox: bool = True
    locked: bool = False
    offline: bool = False
    clean_room: bool = False
    patience: float | None = None
    full_proof: bool = False


class Project(msgspec.Struct, dict=True):
    """The workspace in `root`. Closed with `close`."""

    root: Path
    choices: Choices = msgspec.field(default_factory=Choices)

    @property
    def folder(self) -> Path:
        """Where the workspace keeps what is its own: memory, logs, work folders."""
        return self.root / ".yarrik"

    def refuse_links(self) -> None:
        """Raises YarrikError when the workspace's own folder, or a folder or file in it, is a link: it may have come with the
        workspace, and lead to what is the user's, where work folders and old records would be cleared away. Likewise for
        working trees: builds would take what is the user's into an image, and to drop an edit would remove it."""
        link = _first_link(os.fspath(self.folder)) or _first_link_of_edits(os.path.join(self.root, EDITS))  # noqa: PTH118
        if link:
            raise _refused(Path(link))

    def refuse_links_to(self, product: str, names: Iterable[str] = ()) -> None:
        """Likewise when the folder of a product's finished files is one, or a folder below it where one of these files is."""
        out = self.out(product)
        below = {above for name in names for above in (out / name).parents if out in above.parents}
        for folder in sorted({out.parent, out, *below}):
            if folder.is_symlink():
                raise _refused(folder)

    def out(self, product: str) -> Path:
        """The folder of a product's finished files."""
        return self.root / "out" / product

    @cached_property
    def workspace(self) -> Workspace:
        """All definitions. Raises YarrikError."""
        from yarrik.model import open_workspace

        try:
            return open_workspace(self.root, self._memory_if_writable())
        except YarrikError as error:
            raise self.with_offers(error) from error

    def with_offers(self, error: YarrikError) -> YarrikError:
        """An error with the shelves of the catalogues that have what it lacks; of servers only what was downloaded before."""

        from yarrik.run.catalogues import catalogue_sources, is_address, read_catalogues, with_offers

        def catalogues() -> Catalogues:
            settings = settings_at(self.root)
            sources = [one for one in catalogue_sources(self.root, settings) if not is_address(one) or self._has_copy(one)]
            return read_catalogues(sources, cache_folder(self.root, settings)).catalogues

        try:
            return with_offers(error, catalogues, self._shelf_names())
        except YarrikError:
            return error  # what is wrong with catalogues or settings is no answer to what is asked here

    def _shelf_names(self) -> set[str]:
        """The shelves that the workspace's file lists, as far as it can be read."""
        import tomllib  # for what went wrong alone

        try:
            found = tomllib.loads((self.root / "yarrik.toml").read_text(encoding="utf-8")).get("shelf", [])
        except (OSError, ValueError):
            return set()
        return {str(one.get("name")) for one in found if isinstance(one, dict)} if isinstance(found, list) else set()

    def _has_copy(self, source: str) -> bool:
        from yarrik.run.catalogues import copy_of

        return copy_of(source, cache_folder(self.root, settings_at(self.root))).is_file()

    def _memory_if_writable(self) -> Memory | None:
        """Reading definitions is quicker with a memory, and works without one."""
        try:
            return self.memory
        except YarrikError:
            return None

    @cached_property
    def settings(self) -> LocalSettings:
        """The settings of this machine and user; their proxies count from here on. Raises YarrikError."""
        settings = settings_in(self.root)[0]
        proxies = {"http": settings.proxies.http, "https": settings.proxies.https}
        use_proxies({scheme: url for scheme, url in proxies.items() if url}, settings.proxies.direct)
        return settings

    @cached_property
    def shelf_states(self) -> list[ShelfState]:
        """How each shelf from git is: its commit, and whether it is as locked. Raises YarrikError."""
        if not any(choice.git for choice in self.workspace.settings.shelf):
            return []
        from yarrik.run.shelves import Shelves

        return Shelves(self.root, self.store.root).states()

    @cached_property
    def debian_archives(self) -> Archives:
        """The Debian archives of the settings, else those of this machine's package manager. Making this asks none."""
        from yarrik.sources import Archive, Archives, apt_archives

        named = [
            Archive(
                one.url.rstrip("/"),
                suite,
                one.components,
                (Path(one.keyring),) if one.keyring else (),
                unsigned=one.unsigned,
                expired=one.expired,
            )
            for one in self.settings.debian_archive
            for suite in one.suites
        ]
        return Archives(named or apt_archives(), self.store, redirect_hosts=self.settings.redirect_hosts)

    @property
    def settings_place(self) -> Place:
        """Where shared caches are written down."""
        return settings_in(self.root)[1]

    # What lasts longer than a command

    @cached_property
    def lock(self) -> Lock:
        """The lock as it is written down; empty when there is none. Raises YarrikError."""
        from yarrik.resolve import read_lock

        return read_lock(self.root)

    def write_lock(self) -> None:
        """Writes yarrik.lock if something in it has changed."""
        if self.lock.changed:
            self.lock.write()

    def lock_now(self) -> tuple[str, str]:
        """The file of the lock, and the SHA-256 of what Yarrik writes there as things are."""
        return str(self.lock.file), hashlib.sha256(self.lock.text.encode()).hexdigest()

    @cached_property
    def memory(self) -> Memory:
        """What earlier commands learned; opened when first asked for."""
        try:
            return Memory(self.folder / "memory.sqlite")
        except OSError as error:
            remedy = "make it writable, or copy the workspace to a folder of yours"
            if error.errno in (errno.EISDIR, errno.ELOOP):
                remedy = "remove what is in its place: all that is lost is what earlier builds learned"
            place = Place(Path(error.filename) if error.filename else self.folder)
            raise YarrikError(
                Trouble("WORKSPACE-UNWRITABLE", f"the workspace cannot be written: {error.strerror}", place,
                        why="logs and the memory of what was built are kept there", remedy=remedy)
            ) from error  # fmt: skip

    @cached_property
    def machine(self) -> Memory:
        """What was learned about this machine: the user's workspaces share it beside the cache. Where that takes none, each
        workspace learns by itself."""
        from yarrik.run.host_view import make_own, views_in

        try:
            folder = views_in(self.store)
            make_own(folder)
            return Memory(folder / "machine.sqlite")
        except (OSError, sqlite3.Error, YarrikError):
            return self.memory

    def save_digests(self) -> None:
        """Writes the digests of files that were learned."""
        for name in ("memory", "machine"):
            if name in self.__dict__:
                self.__dict__[name].save_digests()

    @cached_property
    def store(self) -> Store:
        """The cache: the user's, the one of the settings, or one of its own for a clean room."""
        if self.choices.clean_room:
            return Store(self._clean_cache)
        return Store(cache_folder(self.root, self.settings))

    @property
    def _clean_cache(self) -> Path:
        return self.folder / "clean-room"

    def drop_clean_cache(self) -> None:
        """Removes a clean room's cache, which nobody else uses."""
        if self.choices.clean_room:
            remove_folder(self._clean_cache)

    @cached_property
    def shared(self) -> Shared | None:
        """The shared caches of the settings, without those that a network leads to when there is to be none."""
        if not self.settings.shared_cache or self.choices.clean_room:
            return None
        from yarrik.run.joining import join

        return join(self.settings, self.settings_place, self.store, self.choices.offline)

    def prepare_folder(self) -> None:
        """Makes the workspace's own folder, and clears away what killed builds left in it."""
        self.folder.mkdir(exist_ok=True)
        ignore = self.folder / ".gitignore"
        if not ignore.exists():
            ignore.write_text("*\n")
        WorkFolders.clear_left_behind(self.folder / "work")

    def close(self) -> None:
        """Closes memory and shared caches."""
        for memory in dict.fromkeys(self.__dict__[name] for name in ("machine", "memory") if name in self.__dict__):
            memory.close()


def _refused(link: Path) -> YarrikError:
    return YarrikError(
        Trouble("WORKSPACE-LINK", f"{shown_path(link)} is a link", Place(link),
                why="Yarrik writes there, and clears away what it left: behind a link that may be something of yours",
                remedy="remove the link; for more room elsewhere, move the whole workspace")
    )  # fmt: skip


def _first_link_of_edits(folder: str) -> str:
    """The first link among the folder of working trees, these, and their repositories; what else is in them is source."""
    if os.path.islink(folder):  # noqa: PTH114 (nearly always there is none, and each command asks)
        return folder
    try:
        names = sorted(os.listdir(folder))  # noqa: PTH208
    except OSError:
        return ""
    paths = (path for name in names for path in (f"{folder}/{name}", f"{folder}/{name}/.git"))
    return next(filter(os.path.islink, paths), "")


def _first_link(folder: str) -> str:
    """The first link among a folder, what is in it, and what is in its folders; empty without one."""
    if Path(folder).is_symlink():
        return folder
    waiting = [folder]
    for depth in range(2):
        below: list[str] = []
        for place in waiting:
            try:
                with os.scandir(place) as found:
                    entries = sorted(found, key=lambda entry: entry.name)
            except OSError:
                continue
            for entry in entries:
                if entry.is_symlink():
                    return entry.path
                if not depth and entry.is_dir(follow_symlinks=False):
                    below.append(entry.path)
        waiting = below
    return ""
