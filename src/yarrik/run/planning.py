"""Planning: a product's answer, its step graph, what of it would run and why. Runs nothing."""

from __future__ import annotations

import contextlib
import dataclasses
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from yarrik.cache import MissingObject, changed_paths
from yarrik.errors import Collector, Place, Trouble, YarrikError, suggestion
from yarrik.host import find_program
from yarrik.licences import licence_fault
from yarrik.model import AMENDABLE, Composition, Overrides, ShelfFile, compose, convert, never_holding, read_document
from yarrik.plan import Assessment, Difference, Graph, all_differences, assess, parts_of, plan_product, runs_commands
from yarrik.resolve import Answer, LockedProduct, Moved, Progress, moved, resolve
from yarrik.rootfs import LOGIN_SERVICE, check_image
from yarrik.run.diversions import diversion_notes, unknown_diversions
from yarrik.run.foresight import Foresight
from yarrik.run.program_versions import unfit_program
from yarrik.run.project import Project
from yarrik.run.results import kept_outputs
from yarrik.run.room import short_of_room
from yarrik.run.sandbox import Sandbox
from yarrik.run.surroundings import HostSurroundings
from yarrik.run.terms import not_accepted, terms_of
from yarrik.toolchain import missing_program


@dataclass(frozen=True)
class Planned:
    """A product that is planned: its answer and step graph, what this machine has for it, and what differs from the lock."""

    answer: Answer
    graph: Graph
    surroundings: HostSurroundings
    moved: tuple[Moved, ...]

    @property
    def composition(self) -> Composition:
        """The product with everything known."""
        return self.answer.composition

    @property
    def name(self) -> str:
        """The product's name."""
        return self.composition.name


@dataclass
class Planner:
    """Plans the products of a project. What was worked out for a composition once is not worked out again."""

    project: Project
    _answers: dict[object, tuple[Answer, Composition]] = field(default_factory=dict)
    _planned: dict[int, tuple[Planned, Composition]] = field(default_factory=dict)

    def compose(self, product: str | None = None, overrides: Overrides | None = None) -> Composition:
        """The composition of a product, by default the workspace's own choice. Raises YarrikError."""
        with self._all_faults_at_once():
            return compose(self.project.workspace, product, overrides)

    @contextlib.contextmanager
    def _all_faults_at_once(self) -> Iterator[None]:
        """An error in one definition comes with those of all others, so that they are corrected in one go."""
        try:
            yield
        except YarrikError as plain:
            error = self.project.with_offers(plain)
            faults = [trouble for shelved in self.project.workspace.broken for trouble in shelved.faults]
            if any(trouble in faults for trouble in error.troubles):
                raise YarrikError(dict.fromkeys([*error.troubles, *faults]), error.fault) from plain
            if error is plain:
                raise
            raise error from plain

    # Resolving

    def answer(
        self, composition: Composition, moving: Sequence[str] | None = (), progress: Progress = lambda decided, conflicts: None
    ) -> Answer:
        """What the product resolves to, staying with the lock but for the names in `moving` (None: for everything)."""
        choices = self.project.choices
        key = (composition.name, None if moving is None else tuple(moving), id(composition))
        if key not in self._answers:
            locked = self.project.lock.products.get(composition.name, LockedProduct())
            versions, roles = locked.preferences(moving)
            with self._all_faults_at_once():
                answer = resolve(composition, versions, roles, progress, choices.patience, choices.full_proof)
            self._answers[key] = (answer, composition)
        return self._answers[key][0]

    def _check_licences(self, answer: Answer) -> None:
        """Raises YarrikError for licences that are no SPDX expressions; what was found good is remembered."""
        known = self.project.memory.fact("good licences")
        good: set[str] = set(msgspec.json.decode(known, type=list[str])) if known else set()
        collector = Collector()
        seen: set[str] = set()
        for node in answer.versions:
            recipe = answer.recipe(node)
            text = recipe.value.licence
            if text in good or text in seen:
                continue
            fault = licence_fault(text)
            if fault is None:
                seen.add(text)
                continue
            collector.add(Trouble("LICENCE-UNKNOWN", f"{fault[0]} (recipe `{recipe.name}`)", recipe.place("licence"),
                                  why="manifests name licences in the form that others can read", remedy=fault[1]))  # fmt: skip
        collector.raise_if_any()
        if seen:
            self.project.memory.learn("good licences", msgspec.json.encode(sorted(good | seen)))

    def hold(self, answer: Answer, surroundings: HostSurroundings | None = None) -> list[Moved]:
        """Takes an answer into the lock (without writing it), and returns what differs from what was locked."""
        composition = answer.composition
        surroundings = surroundings or HostSurroundings(self.project, composition)
        sides = ["board", *(["host"] if any(node.side == "host" for node in answer.versions) else [])]
        terms = {one.key: one.digest for one in terms_of(composition)}
        locked = LockedProduct.of(answer, terms, {side: surroundings.toolchain(side).shown for side in sides})
        former = self.project.lock.products.get(composition.name)
        diverted = list(diversion_notes(self.project, set(composition.now.versions or ())))
        if diverted and self.project.choices.locked:
            raise YarrikError(Trouble("DIVERSION-LOCKED", f"sources are diverted: {'; '.join(diverted)}",
                                      self.project.settings_place, why="with --locked all comes from where the recipes say",
                                      remedy="remove them: yarrik settings set use.NAME.path="))  # fmt: skip
        differences = moved(former, locked) if former is not None else []
        differences += self._moved_shelves()
        if differences and self.project.choices.locked:
            raise YarrikError(
                Trouble("LOCK-STALE", f"yarrik.lock is not what `{composition.name}` resolves to now: "
                        + "; ".join(str(one) for one in differences[:8]) + (" …" if len(differences) > 8 else ""),
                        Place(self.project.lock.file), why="with --locked nothing may differ from the lock",
                        remedy=f"look at the difference with `yarrik resolve {composition.product.name}`, and commit the lock")
            )  # fmt: skip
        if former is None and self.project.choices.locked:
            raise YarrikError(
                Trouble("LOCK-STALE", f"yarrik.lock has nothing on `{composition.name}`", Place(self.project.lock.file),
                        why="with --locked nothing is resolved anew",
                        remedy=f"yarrik resolve {composition.product.name}, and commit the lock")
            )  # fmt: skip
        shelves = {choice.name: self._shelf_version(choice.place) for choice in self.project.workspace.settings.shelf}
        self.project.lock.hold(composition.name, locked, shelves)
        return differences

    def _moved_shelves(self) -> list[Moved]:
        """Shelves from git that are not as the lock has them."""
        found = []
        for one in self.project.shelf_states:
            if not one.as_locked and one.state is not None:
                now = one.state.commit[:12] + (", with changes" if one.state.changed else "")
                found.append(Moved(f"shelf {one.choice.name}", one.locked[:12] or None, now))
        return found

    def _moving_shelves(self) -> Iterator[Trouble]:
        """Shelves from a branch of git that no lock holds."""
        for choice in self.project.workspace.settings.shelf:
            if choice.git and not choice.commit and choice.name not in self.project.lock.commits:
                yield Trouble(
                    "SHELF-MOVES",
                    f"the shelf `{choice.name}` is at {choice.tag or choice.branch or 'the usual branch'} of its repository,"
                    " and yarrik.lock pins no commit",
                    Place(self.project.workspace.file),
                    why="what is built tomorrow may be something else",
                    remedy="yarrik shelf pin",
                )

    def _shelf_version(self, path: str) -> str:
        return convert(read_document(self.project.root / path / "shelf.toml"), ShelfFile).shelf.version

    def planned(self, composition: Composition) -> Planned:
        """The product's step graph, with its answer held in the lock (without writing it). Raises YarrikError."""
        if id(composition) not in self._planned:
            with self._all_faults_at_once():
                self._planned[id(composition)] = self._plan(composition), composition
        return self._planned[id(composition)][0]

    def _plan(self, composition: Composition) -> Planned:
        answer = self.answer(composition)
        self._check_licences(answer)
        image = answer.composition.image
        check_image(image.value, answer.providing(LOGIN_SERVICE), image.place("root", "login"))
        surroundings = HostSurroundings(self.project, answer.composition)
        differences = self.hold(answer, surroundings)
        graph = _with_mirrors(plan_product(answer, surroundings), self.project.settings.mirrors)
        if Sandbox(allowed=self.project.choices.use_sandbox).bubblewrap is None:
            graph = _without_sandbox(graph)
        self.project.memory.save_digests()
        return Planned(answer, graph, surroundings, tuple(differences))

    def check_terms(self, planned: Planned) -> None:
        """Raises YarrikError for terms that the product is under and the user has not accepted."""
        open_ = not_accepted(planned.composition, self.project.settings)
        if open_:
            raise YarrikError(open_)

    def assess(self, planned: Planned) -> list[Assessment]:
        """What a build would do. Writes nothing but the memory of digests."""
        last_runs = self.project.memory.last_runs(planned.graph.product)

        def lookup(step: str, fingerprint: str) -> Mapping[str, str] | None:
            return kept_outputs(self.project.store, last_runs.get(step), fingerprint)

        return assess(planned.graph, lookup, last_runs, self.difference(planned))

    def difference(self, planned: Planned) -> Difference:
        """Tells which paths differ between two trees, one of which may not be in the store yet; none when either is unknown."""
        store, trees = self.project.store, planned.surroundings.trees

        def paths(before: str, after: str) -> list[str]:
            try:
                return changed_paths(store.tree(before), trees.get(after) or store.tree(after))
            except MissingObject:
                return []

        return paths

    def why_runs(self, planned: Planned, step: str) -> tuple[Assessment, list[tuple[str, str, str]], list[str]]:
        """A step's verdict, everything in which its last fingerprint and the next differ (what, before, after), and inputs that
        are not known before other steps have run. Raises YarrikError for a step that the product has not."""
        found = {one.step.name: one for one in self.assess(planned)}
        if step not in found:
            raise YarrikError(Trouble("STEP-UNKNOWN", f"`{planned.name}` has no step `{step}`",
                                      remedy=suggestion(step, found)))  # fmt: skip
        one = found[step]
        last = self.project.memory.last_runs(planned.name).get(step)
        parts = parts_of(one.step, one.inputs)
        unknown = sorted(label for label in one.step.inputs if label not in one.inputs)
        if last is not None:
            parts |= {key: last.parts[key] for label in unknown if (key := f"input {label}") in last.parts}
        waits = [one.step.inputs[label][0] for label in unknown]
        return one, all_differences(one.step, parts, last, self.difference(planned)), list(dict.fromkeys(waits))

    def warnings(self, planned: Planned) -> tuple[Trouble, ...]:
        """What is likely wrong, with this product or with a condition of any definition. Raises YarrikError for what is
        certain to stop the build."""
        found = [*planned.answer.warnings, *self._moving_shelves(), *unknown_diversions(self.project)]
        for kind in AMENDABLE:
            for name, shelved in self.project.workspace.readable(kind):
                if "when" in shelved.document.raw:
                    found += never_holding(self.project.workspace, kind, name)
        plan = self.assess(planned)
        names = [one.step.name for one in plan if one.verdict != "kept"]
        costs = self.project.memory.costs(planned.name)
        short = short_of_room(
            names, costs, self.project.folder, self.project.store.root, self.project.settings.jobs or os.cpu_count() or 1
        )
        found += [short] if short is not None else []
        ahead = Foresight(planned.composition, plan, self.project.store, self.project.memory.last_runs(planned.name))
        collector = Collector()
        collector.extend(ahead.errors())
        collector.raise_if_any()
        found += ahead.warnings()
        return tuple(dict.fromkeys(found))

    def told(self, planned: Planned, warnings: Iterable[Trouble]) -> tuple[Trouble, ...]:
        """Warnings without those that the product silences."""
        silenced = planned.composition.product.value.silence
        return tuple(one for one in warnings if one.code not in silenced)

    def check_programs(self, planned: Planned) -> None:
        """Raises YarrikError for each program that a build needs and this machine lacks, or has in another version."""
        collector = Collector()
        for node in planned.graph.order.nodes:
            recipe = planned.answer.recipe(node)
            for program, wish in recipe.value.build.program_versions.items():
                trouble = unfit_program(program, wish, self.project.memory, recipe.place("build", "program-versions", program))
                if trouble is not None:
                    collector.add(trouble)
        for program, (place, why) in planned.graph.programs.items():
            near = [Path(one.programs[0]).parent / program for one in planned.surroundings.toolchains.values()]
            if find_program(program) is None and not any(path.is_file() for path in near):
                collector.add(missing_program(program, place, why))
        collector.raise_if_any()


def _with_mirrors(graph: Graph, mirrors: Mapping[str, Sequence[str]]) -> Graph:
    """The graph with sources taken from mirrors first, and from where the recipes say if these have them not."""
    if not mirrors:
        return graph

    def nearer(url: str) -> list[str]:
        return [
            near + url.removeprefix(far) for far, places in sorted(mirrors.items()) if url.startswith(far) for near in places
        ]

    steps = tuple(
        dataclasses.replace(step, urls=tuple(dict.fromkeys([*(near for url in step.urls for near in nearer(url)), *step.urls])))
        if step.urls
        else step
        for step in graph.steps
    )
    return dataclasses.replace(graph, steps=steps)


def _without_sandbox(graph: Graph) -> Graph:
    """The graph with all steps marked that run commands: what they leave was made in view of the whole machine."""
    steps = tuple(dataclasses.replace(step, open=True) if runs_commands(step.action) else step for step in graph.steps)
    return dataclasses.replace(graph, steps=steps)
