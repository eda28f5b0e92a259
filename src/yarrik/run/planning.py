"""Planning: a product's answer, its step graph, what of it would run and why. Runs nothing."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import msgspec.structs

from yarrik.errors import Collector, Place, Trouble, YarrikError, suggestion
from yarrik.host import find_program
from yarrik.licences import licence_fault
from yarrik.model import AMENDABLE, Composition, Overrides, ShelfFile, compose, convert, never_holding, read_document
from yarrik.resolve import (
    LOGIN_SERVICE,
    NOBODY,
    PATIENCE,
    Answer,
    LockedProduct,
    Moved,
    Node,
    Progress,
    Settled,
    asked_by_packages,
    check_logins,
    moved,
    resolve,
    settle_accounts,
)
from yarrik.run.diversions import diversion_notes, unknown_diversions
from yarrik.run.project import Project
from yarrik.run.terms import not_accepted, terms_of
from yarrik.services import OneService, asked_services

# Many commands compose and resolve, and plan nothing: what planning takes is loaded where it is needed.
if TYPE_CHECKING:
    from yarrik.plan import Assessment, Difference, Graph
    from yarrik.run.surroundings import HostSurroundings


class Planned(msgspec.Struct, frozen=True):
    """A product that is planned: its answer and step graph, what this machine has for it, what differs from the lock, and what
    is likely wrong with what was resolved."""

    answer: Answer
    graph: Graph
    surroundings: HostSurroundings
    moved: tuple[Moved, ...]
    warnings: tuple[Trouble, ...]

    @property
    def composition(self) -> Composition:
        """The product with everything known."""
        return self.answer.composition

    @property
    def name(self) -> str:
        """The product's name."""
        return self.composition.name


class Planner(msgspec.Struct):
    """Plans the products of a project. What was worked out for a composition once is not worked out again."""

    project: Project
    _answers: dict[object, tuple[Answer, Composition]] = msgspec.field(default_factory=dict)
    _planned: dict[int, tuple[Planned, Composition]] = msgspec.field(default_factory=dict)
    _accounts: dict[int, tuple[Settled, Answer]] = msgspec.field(default_factory=dict)
    _further: dict[int, tuple[dict[str, Settled], Answer]] = msgspec.field(default_factory=dict)

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
                answer = resolve(composition, versions, roles, progress, choices.patience or PATIENCE, choices.full_proof)
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

    def hold(
        self, answer: Answer, surroundings: HostSurroundings | None = None, moving: Sequence[str] | None = ()
    ) -> list[Moved]:
        """Takes an answer into the lock (without writing it), and returns what differs from what was locked. Sources from
        Debian archives stay as they are but for recipes in `moving` (None: for all)."""
        from yarrik.run.surroundings import HostSurroundings

        composition = answer.composition
        surroundings = surroundings or HostSurroundings(self.project, composition)
        sides = ["board", *(["host"] if any(node.side == "host" for node in answer.versions) else [])]
        terms = {one.key: one.digest for one in terms_of(composition)}
        compilers = {side: surroundings.toolchain(side).shown for side in sides}
        locked = LockedProduct.of(answer, terms, compilers, self._all_accounts(answer))
        former = self.project.lock.products.get(composition.name)
        diverted = list(diversion_notes(self.project, set(composition.now.versions or ())))
        if diverted and self.project.choices.locked:
            raise YarrikError(Trouble("DIVERSION-LOCKED", f"sources are diverted: {'; '.join(diverted)}",
                                      self.project.settings_place, why="with --locked all comes from where the recipes say",
                                      remedy="remove them: yarrik settings set use.NAME.path="))  # fmt: skip
        differences = moved(former, locked) if former is not None else []
        differences += self.moved_shelves()
        differences += self._hold_debian(answer, surroundings, moving)
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

    def _hold_debian(self, answer: Answer, surroundings: HostSurroundings, moving: Sequence[str] | None) -> list[Moved]:
        """Takes the recipes' Debian source packages into the lock; returns those that have moved."""
        differences = []
        nodes: dict[str, Node] = {}
        for node in answer.versions:
            nodes.setdefault(node.recipe, node)
        for name, node in sorted(nodes.items()):
            recipe = answer.recipe(node)
            if len(recipe.value.source) != 1 or not recipe.value.source[0].debian or surroundings.edited(name) is not None:
                continue
            before = dict(self.project.lock.debian)
            renew = moving is None or name in moving
            package = surroundings.debian_source(recipe, renew)
            for asked, known in before.items():
                if asked.startswith(f"{package.name} ") and self.project.lock.debian[asked] != known:
                    differences.append(Moved(f"source of {name}", known.version, package.version))
        return differences

    def accounts(self, answer: Answer) -> Settled:
        """The accounts of an answer's image, with the numbers of the lock. Raises YarrikError."""
        known = self._accounts.get(id(answer))
        if known is None:
            locked = self.project.lock.products.get(answer.composition.name, LockedProduct())
            settled = settle_accounts(answer.composition.image, asked_by_packages(answer), locked.users, locked.groups)
            known = self._accounts[id(answer)] = settled, answer
        return known[0]

    def further_accounts(self, answer: Answer) -> dict[str, Settled]:
        """The accounts of a product's further images, by name. One of the same name has the same number in all, unless it is
        written down. Raises YarrikError."""
        if id(answer) in self._further:
            return self._further[id(answer)][0]
        found: dict[str, Settled] = {}
        main = self.accounts(answer)
        # An account's own group follows from its number; those that every image has need none.
        usual = (0, NOBODY)
        named = {one.name for one in main.accounts.users}
        users = {**main.users, **{one.name: one.uid for one in main.accounts.users if one.uid not in usual}}
        groups = {**main.groups, **{one.name: one.gid for one in main.accounts.groups
                                    if one.gid not in usual and one.name not in named}}  # fmt: skip
        for one in answer.composition.more:
            settled = settle_accounts(one.composition.image, asked_by_packages(answer), users, groups)
            users, groups = {**users, **settled.users}, {**groups, **settled.groups}
            found[one.name] = settled
        self._further[id(answer)] = found, answer
        return found

    def _all_accounts(self, answer: Answer) -> Settled:
        """Those of the image, with the numbers that the lock has to keep for further ones too."""
        main = self.accounts(answer)
        users, groups = dict(main.users), dict(main.groups)
        for settled in self.further_accounts(answer).values():
            users = {
                **{name: number for name, number in settled.users.items() if name not in main.accounts.user_numbers},
                **users,
            }
            groups = {
                **{name: number for name, number in settled.groups.items() if name not in main.accounts.group_numbers},
                **groups,
            }
        return msgspec.structs.replace(main, users=users, groups=groups)

    def services(self, answer: Answer) -> tuple[tuple[OneService, ...], dict[str, Place]]:
        """The services that may be in an answer's image, and where each is said. Raises YarrikError."""
        from yarrik.plan import services_of

        collector = Collector()
        accounts = self.accounts(answer).accounts
        services, places = services_of(answer.composition, asked_services(answer), accounts, collector)
        collector.raise_if_any()
        return services, places

    def login_warnings(self, answer: Answer) -> tuple[Trouble, ...]:
        """What is likely wrong with who can log in. Raises YarrikError for what is dangerous."""
        service = answer.providing(LOGIN_SERVICE)
        settled = [self.accounts(answer), *self.further_accounts(answer).values()]
        return tuple(dict.fromkeys(one for accounts in settled for one in check_logins(accounts, service)))

    def _check_secrets(self, answer: Answer) -> None:
        """Raises YarrikError for builds that would see a secret."""
        from yarrik.run.secrets import let_in_secrets

        troubles = list(let_in_secrets(map(answer.recipe, answer.versions), self.project.settings.secrets))
        if troubles:
            raise YarrikError(troubles)

    def moved_shelves(self) -> list[Moved]:
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
        from yarrik.plan import plan_product
        from yarrik.run.sandbox import marked_open
        from yarrik.run.surroundings import HostSurroundings

        answer = self.answer(composition)
        self._check_licences(answer)
        settled = self.accounts(answer)
        self._check_secrets(answer)
        warnings = (*answer.warnings, *self.login_warnings(answer))
        surroundings = HostSurroundings(self.project, answer.composition)
        differences = self.hold(answer, surroundings)
        graph = _with_mirrors(
            plan_product(answer, surroundings, settled, self.further_accounts(answer)), self.project.settings.mirrors
        )
        graph = msgspec.structs.replace(graph, steps=marked_open(graph.steps, self.project.choices.use_sandbox))
        self.project.save_digests()
        return Planned(answer, graph, surroundings, tuple(differences), warnings)

    def check_terms(self, planned: Planned) -> None:
        """Raises YarrikError for terms that the product is under and the user has not accepted."""
        open_ = not_accepted(planned.composition, self.project.settings)
        if open_:
            raise YarrikError(open_)

    def assess(self, planned: Planned) -> list[Assessment]:
        """What a build would do. Writes nothing but the memory of digests."""
        from yarrik.plan import assess
        from yarrik.run.results import kept_outputs

        last_runs = self.project.memory.last_runs(planned.graph.product)

        def lookup(step: str, fingerprint: str) -> Mapping[str, str] | None:
            return kept_outputs(self.project.store, last_runs.get(step), fingerprint)

        return assess(planned.graph, lookup, last_runs, self.difference(planned))

    def difference(self, planned: Planned) -> Difference:
        """Tells which paths differ between two trees, one of which may not be in the store yet; none when either is unknown."""
        from yarrik.run.sysroots import difference_in

        return difference_in(self.project.store, planned.surroundings.trees)

    def why_runs(self, planned: Planned, step: str) -> tuple[Assessment, list[tuple[str, str, str]], list[str]]:
        """A step's verdict, everything in which its last fingerprint and the next differ (what, before, after), and inputs that
        are not known before other steps have run. Raises YarrikError for a step that the product has not."""
        from yarrik.plan import explained

        found = {one.step.name: one for one in self.assess(planned)}
        if step not in found:
            raise YarrikError(Trouble("STEP-UNKNOWN", f"`{planned.name}` has no step `{step}`",
                                      remedy=suggestion(step, found)))  # fmt: skip
        last = self.project.memory.last_runs(planned.name, [step]).get(step)
        return found[step], *explained(found[step], last, self.difference(planned))

    def warnings(self, planned: Planned) -> tuple[Trouble, ...]:
        """What is likely wrong, with this product or with a condition of any definition. Raises YarrikError for what is
        certain to stop the build."""
        from yarrik.run.foresight import Foresight
        from yarrik.run.room import short_of_room

        found = [*planned.warnings, *self._moving_shelves(), *unknown_diversions(self.project)]
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
        from yarrik.run.program_versions import unfit_program
        from yarrik.toolchain import missing_program

        collector = Collector()
        for node in planned.graph.nodes:
            recipe = planned.answer.recipe(node)
            for program, wish in recipe.value.build.program_versions.items():
                trouble = unfit_program(program, wish, self.project.machine, recipe.place("build", "program-versions", program))
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
        msgspec.structs.replace(
            step, urls=tuple(dict.fromkeys([*(near for url in step.urls for near in nearer(url)), *step.urls]))
        )
        if step.urls
        else step
        for step in graph.steps
    )
    return msgspec.structs.replace(graph, steps=steps)
