"""What planning needs to know of this machine: compilers, programs, sources, files, variables."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path

from yarrik.atomic import new_folder
from yarrik.errors import Place, Trouble, Unfit, YarrikError, from_package, suggestion
from yarrik.host import NATIVE_COMPILERS
from yarrik.model import Definition, Recipe
from yarrik.plan import Provenance, published_source
from yarrik.resolve import LockedDebian
from yarrik.run.diversions import diversion_of, diverted_folder
from yarrik.run.host_view import View
from yarrik.run.near_host import NearHost, unreadable
from yarrik.run.project import EDITS
from yarrik.run.sandbox import Sees
from yarrik.run.sights import Sights
from yarrik.run.terms import terms_of
from yarrik.sources import DEBIAN_SCHEME, SourcePackage, checked_package, unpack_archive, without_password
from yarrik.toolchain import DevelopmentFiles, Toolchain, development_files, probe, with_clang


class HostSurroundings(NearHost, dict=True):
    """Answers what planning a product asks, from this machine, and remembers what it found for running it. Its `toolchains` are
    the compilers of the sides that were asked for."""

    def toolchain(self, side: str) -> Toolchain:
        known = self.toolchains
        if side not in known:
            board = self.composition.board
            if side == "host":
                known[side] = probe("", self.project.machine, Place())
            else:
                wanted = None if board.value.arch == "host" else board.value.arch
                known[side] = probe(
                    board.value.toolchain.prefix,
                    self.project.machine,
                    board.place("toolchain", "prefix"),
                    wanted,
                    self._unpacked(),
                    self._runs(),
                )
                if board.value.toolchain.compiler == "clang":
                    place = board.place("toolchain", "compiler")
                    known[side] = with_clang(known[side], self.project.machine, place)
        return known[side]

    def development(self, side: str) -> DevelopmentFiles:
        """What a compiler on the board takes of the C library of a side's toolchain."""
        return development_files(self.toolchain(side), self.composition.board.place("toolchain", "prefix"))

    def sight(self, side: str, programs: tuple[str, ...]) -> str:
        """A digest of the paths that programs need of this machine."""
        self.toolchain(side)
        if NATIVE_COMPILERS & set(programs):
            self.toolchain("host")
        return self._sights.digest(side, programs)

    def _runs(self) -> tuple[str, ...]:
        """Programs of the host that the board's unpacked toolchain says it runs."""
        name = self.composition.board.value.toolchain.recipe
        return self.composition.recipe(name).value.build.programs if name else ()

    def _unpacked(self) -> Path | None:
        """The folder of the board's toolchain, if that comes as an archive: unpacked once for all workspaces."""
        board = self.composition.board
        name, place = board.value.toolchain.recipe, board.place("toolchain", "recipe")
        if not name:
            return None
        known = self.project.workspace.shelved["recipe"]
        if name not in known:
            raise YarrikError(Trouble("RECIPE-UNKNOWN", f"no shelf carries the toolchain `{name}`", place,
                                      remedy=suggestion(name, known), lacks=("recipe", name)))  # fmt: skip
        recipe = self.composition.recipe(name)
        sources = recipe.value.source
        if recipe.value.build.using != "toolchain" or len(sources) != 1 or not sources[0].host_file:
            raise YarrikError(
                Trouble("TOOLCHAIN-FORM", f"`{name}` is not a toolchain", recipe.place("build", "using"),
                        why="the board takes its compiler from it",
                        remedy='write `using = "toolchain"` and one [[source]] with the archive as `host-file`')
            )  # fmt: skip
        archive, digest = self.host_file(recipe)
        folder = self.project.store.root / "toolchains" / digest
        if not folder.is_dir():
            folder.parent.mkdir(parents=True, exist_ok=True)
            with new_folder(folder, or_another=True) as fresh:
                tree = unpack_archive(archive, archive.name, self.project.store)
                self.project.store.lay_out(tree, fresh, writable=False)
        return folder

    def variable(self, name: str) -> str | None:
        """An environment variable that a recipe lets in; None in a clean room, or when it is not set."""
        sys.audit("yarrik.variable", name)
        return None if self.project.choices.clean_room else os.environ.get(name)

    def edited(self, recipe: str) -> Path | None:
        # Asked for every recipe several times: plain strings are several times as fast as paths here.
        folder = f"{self.project.root}/{EDITS}/{recipe}"
        if os.path.isdir(f"{folder}/.git"):  # noqa: PTH112
            return Path(folder)
        diversion = diversion_of(self.project, recipe)
        return diverted_folder(self.project, recipe, diversion) if diversion is not None else None

    def provenance(self) -> tuple[Provenance, ...]:
        """Shelves, terms and diversions of the product, for the manifests."""
        states = {one.choice.name: one.state for one in self.project.shelf_states}
        places = {choice.name: choice.git for choice in self.project.workspace.settings.shelf}
        found = []
        for name, shelf in self.project.workspace.shelves.items():
            state = states.get(name)
            found.append(Provenance(kind="shelf", name=name, version=shelf.table.version,
                                    at=without_password(places.get(name, "")),
                                    revision=state.commit if state is not None else "",
                                    changed=state is not None and state.changed))  # fmt: skip
        found += self._published_sources()
        found += [Provenance(kind="terms", name=one.key, revision=one.digest) for one in terms_of(self.composition)]
        for name in sorted(self.composition.now.versions or ()):
            diversion = diversion_of(self.project, name)
            if diversion is not None:
                folder = diverted_folder(self.project, name, diversion)
                tree = self.source_tree(folder, (), Place(self.project.settings_place.file, key=f"use.{name}"))
                found.append(Provenance(kind="diversion", name=name, revision=tree.digest))
        return tuple(found)

    def _published_sources(self) -> Iterator[Provenance]:
        """Where the sources of recipes come from, as far as others can have them too."""
        for name in sorted(self.composition.now.versions or ()):
            recipe = self.composition.recipe(name)
            source = recipe.value.source[0] if len(recipe.value.source) == 1 else None
            if source is None or self.edited(name) is not None:
                continue
            if source.debian:
                package = self.debian_source(recipe)
                at, revision = f"{DEBIAN_SCHEME}{package.folder}/{package.dsc}", package.files[package.dsc]
                yield Provenance(kind="source", name=name, version=package.version, at=at, revision=revision)
            elif (published := published_source(recipe)) is not None:
                yield published

    def host_file(self, recipe: Definition[Recipe]) -> tuple[Path, str]:
        """The archive that a recipe takes from this machine, and its SHA-256. Raises YarrikError."""
        source, place = recipe.value.source[0], recipe.place("source")
        file = Path(source.host_file.replace("{version}", recipe.value.version))
        try:
            digest = self.project.memory.digest_of(file)  # it is compared with what the lock has
        except OSError as error:
            raise unreadable(file, error, place, from_package(source.debian_package)) from error
        trouble = self.project.lock.check(recipe.name, str(file), digest, place, self.project.choices.renew_lock)
        if trouble is not None:
            raise YarrikError(trouble)
        if source.sha256 and source.sha256 != digest:
            raise YarrikError(
                Trouble("SOURCE-DIGEST", f"{file} has SHA-256 {digest}, and the recipe asks for {source.sha256}",
                        recipe.place("source", "0", "sha256"), why="it is not the file that the recipe was written for",
                        remedy="provide the right file, or correct the digest")
            )  # fmt: skip
        return file, digest

    def debian_source(self, recipe: Definition[Recipe], renew: bool = False) -> SourcePackage:
        """The Debian source package that a recipe takes, as the lock has it; with `renew`, or when it has none, as the archives
        have it now, which the lock then holds. Raises YarrikError."""
        source, place = recipe.value.source[0], recipe.place("source", "0", "debian")
        wanted = (source.version or recipe.value.version).replace("{version}", recipe.value.version)
        asked = f"{source.debian} {wanted}"
        project = self.project
        locked = project.lock.debian.get(asked)
        if locked is not None and not renew:
            try:
                return checked_package(source.debian, locked.version, locked.folder, locked.files)
            except Unfit as error:
                raise YarrikError(Trouble("LOCK-DAMAGED", f"yarrik.lock does not read: {error}",
                                          Place(project.lock.file, key=f"debian.{asked}"), why="it keeps the sources' digests",
                                          remedy="take it from version control, or remove these lines")) from error  # fmt: skip
        if project.choices.locked:
            raise YarrikError(Trouble("LOCK-STALE", f"yarrik.lock has nothing on the Debian source package {asked}",
                                      Place(project.lock.file), why="with --locked nothing is looked up anew",
                                      remedy="yarrik resolve, and commit the lock"))  # fmt: skip
        if project.choices.offline:
            raise YarrikError(Trouble("SOURCE-OFFLINE", f"yarrik.lock has nothing on the Debian source package {asked}", place,
                                      why="with --offline no archive is asked",
                                      remedy="yarrik fetch, where there is a network"), "work")  # fmt: skip
        found = project.debian_archives.find(source.debian, wanted, bool(source.version), place)
        project.lock.hold_debian(asked, LockedDebian(version=found.version, folder=found.folder, files=dict(found.files)))
        return found

    # For running

    def look(self, sees: Sees) -> View:
        """What a step sees of this machine."""
        return self._sights.look(sees)

    @cached_property
    def _sights(self) -> Sights:
        return Sights(self.project.store, self.project.machine, self.toolchains)
