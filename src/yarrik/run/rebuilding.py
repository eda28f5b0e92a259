"""Builds after nothing but sources, single files that a step takes, options, recipes' commands, versions and addresses, and
settings of boards and images have changed from which only the product's own steps follow: what follows is run, and nothing is
resolved. Definitions may be written otherwise if they say the same, or if the product does not use them.

Where anything is not as it was kept there is no report, and the caller plans: that costs time, never correctness."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import msgspec
from msgspec.structs import replace

from yarrik.cache import LastRun, MissingObject, Traffic, Tree, in_use
from yarrik.errors import Damaged, Place, YarrikError
from yarrik.model import (
    Definition,
    Document,
    NotRead,
    Product,
    Recipe,
    check_definition,
    convert,
    read_document,
    stack,
)
from yarrik.plan import (
    Assessment,
    Graph,
    RunCommands,
    Setting,
    Step,
    assess,
    bounds_of,
    build_commands,
    explained,
    in_version,
)
from yarrik.run.events import Listener
from yarrik.run.kept_plan import (
    Kept,
    KeptPlan,
    KeptSource,
    KeptState,
    Otherwise,
    Unused,
    beside_options,
    beyond_digest,
    decoded_plan,
    decoded_state,
    encoded,
    encoded_step,
    fragment_asks,
    meaning_of,
    stable_digest,
    taking,
)
from yarrik.run.project import Project
from yarrik.run.publishing import STEPS_LOG, Published, Publisher
from yarrik.run.records import Records
from yarrik.run.reporting import BuildReport, advice_of_build, kept_report, left_by, notes_of_build, row_of, with_moved
from yarrik.run.results import Logs, StepReport, StepRow, kept_outputs
from yarrik.run.running import Running, run_graph, send_rest
from yarrik.run.sandbox import Sandbox
from yarrik.run.sights import Sights
from yarrik.run.source_folders import source_file, source_tree
from yarrik.run.sysroots import difference_in
from yarrik.run.unchanged import FewChanges, PlanKept, renew

if TYPE_CHECKING:
    from yarrik.resolve import LockedProduct, Moved
    from yarrik.run.own_steps import MadeAgain

#: What steps (by number) take, by their labels for it: digests.
_Taken = dict[int, dict[str, str]]


class _Written(NamedTuple):
    """A recipe as its file has it now; whether its version or its source may be another one than before (`moved`)."""

    recipe: Definition[Recipe]
    moved: bool


class Rebuilder(msgspec.Struct, dict=True):
    """Builds a product of which nothing but sources, files, options, and recipes' commands, versions and addresses has changed
    since the build `before`. `started` is when the command began, on the monotonic clock; `shown` makes a report's values for
    JSON, without its steps."""

    project: Project
    before: FewChanges
    started: float = 0.0
    shown: Callable[[BuildReport], dict[str, object]] = lambda report: {}
    #: What the lock had of the product, where this build has written another.
    _held_before: LockedProduct | None = None

    def build(self, jobs: int | None, keep_going: bool, listener: Listener) -> BuildReport | None:
        """Runs what follows from the changes, publishes, and keeps how all is now. The report says what failed. None when
        all has to be planned."""
        try:
            return self._build(jobs, keep_going, listener)
        except (Otherwise, MissingObject, Damaged, msgspec.DecodeError):
            if self._held_before is not None:  # what differs from the lock is said by the build that plans
                self._write_lock(self._held_before)
            return None

    def assess(self) -> list[Assessment] | None:
        """What a build would do with the steps that follow from the changes; all others are kept. None when all has to be
        planned."""
        try:
            own = self.before.changed.own
            if (own and own not in self._otherwise) or self._versions:
                return None  # what differs from the lock is said, too
            taken, trees, _ = self._taken()
            numbers, withheld = self._following(taken)
            graph = Graph(self._plan.finished.product, tuple(self._step(number, taken) for number in numbers))
        except (Otherwise, MissingObject, Damaged, msgspec.DecodeError):
            return None
        if withheld:
            return None
        store = self.project.store
        last = self._last(graph)

        def lookup(step: str, fingerprint: str) -> Mapping[str, str] | None:
            return kept_outputs(store, last.get(step), fingerprint)

        return assess(graph, lookup, last, difference_in(store, trees), self._kept(graph))

    @property
    def steps(self) -> int:
        """How many steps the product has now."""
        return len(self._plan.steps)

    def why_runs(self, step: str) -> tuple[Assessment, list[tuple[str, str, str]], list[str]] | None:
        """The same of one step, with what differs and what it waits for, as of a plan; None when all has to be planned."""
        found = self.assess()
        one = next((one for one in found or () if one.step.name == step), None)
        if one is None:
            return None
        _, trees, _ = self._taken()
        last = self.project.memory.last_runs(self._plan.finished.product, [step]).get(step)
        return one, *explained(one, last, difference_in(self.project.store, trees))

    def _last(self, graph: Graph) -> dict[str, LastRun]:
        return self.project.memory.last_runs(graph.product, [step.name for step in graph.steps])

    @cached_property
    def _before(self) -> Kept:
        """The plan and its state as the last build left them."""
        plan, state = decoded_plan(self.before.plan), decoded_state(self.before.state)
        if plan.own is not None and state.options is not None:
            plan = replace(plan, own=replace(plan.own, options=state.options))
        return Kept(plan, state, self.before.steps_file)

    @cached_property
    def _now(self) -> Kept:
        """The same, with the product's own steps made again if that has to be."""
        made = self._made
        return self._before if made is None else Kept(made.plan, made.state, self.before.steps_file)

    @property
    def _plan(self) -> KeptPlan:
        return self._now.plan

    @property
    def _state(self) -> KeptState:
        return self._now.state

    def _build(self, jobs: int | None, keep_going: bool, listener: Listener) -> BuildReport:
        project, plan, rows = self.project, self._plan, self._state.rows
        said = plan.said
        product = plan.finished.product
        taken, trees, digests = self._taken()
        numbers, withheld = self._following(taken)
        graph = Graph(product, tuple(self._step(number, taken) for number in numbers))
        moving = bool(self._chosen or self._versions)
        if moving and withheld:
            raise Otherwise  # the lock must not have what it is then said to differ in
        if moving and (differences := self._hold()):
            said = with_moved(said, differences)
        reports: list[StepReport] = []
        sandbox: Sandbox | None = None
        if numbers:
            reports, sandbox = self._run(graph, jobs, keep_going, listener, trees)
        records = Records(project)
        records.keep_timeline(product, reports)
        failures = [report.step.name for report in reports if report.error is not None]
        now = list(rows)
        for number, one in zip(numbers, reports, strict=True):
            if not _is_as_before(one, rows[number]):
                now[number] = row_of(one)
        published = Published(False, [], {})
        if failures:
            records.keep_failure(product, failures[0])
        else:
            if any(now[needed].outputs != rows[needed].outputs for number in withheld for needed in plan.steps[number].needs):
                raise Otherwise  # a step with secrets has to run: they are not kept
            ran = any(report.how in ("ran", "shared") for report in reports)
            with in_use(project.store):
                published = Publisher(project).publish(plan.finished, now, ran, self._former_logs(numbers, reports))
        project.save_digests()
        send_rest(project, listener)
        shared = project.shared
        troubles = () if shared is None else tuple(one for one in shared.troubles if one.code not in plan.said.silenced)
        report = BuildReport(
            product,
            project.out(product),
            tuple(reports),
            notes_of_build(said, reports, sandbox, project.store),
            time.monotonic() - self.started,
            published.changed,
            records.saved(product, reports, now),
            records.tools_said(product, reports),
            troubles,
            Traffic() if shared is None else shared.traffic,
            advice_of_build(plan.said, reports),
            records.story(row.outputs for row in now),
            tuple(now),
            published.logs,
            published.files,
        )
        if not failures:
            self._remember(report, digests)
        return report

    @cached_property
    def _rewritten(self) -> dict[int, Step]:
        """The steps of recipes that are written otherwise now, or have other options, as they are then; and the product's own,
        if they were made again."""
        found: dict[int, Step] = dict(self._made.steps) if self._made is not None else {}
        try:
            for path, written in self._recipes.items():
                found |= self._steps_of(self._now, path, written, self._chosen.get(written.recipe.name, {}), found)
        except YarrikError as error:  # planning reports it
            raise Otherwise from error
        return found

    def _steps_of(
        self,
        known: Kept,
        path: str,
        written: _Written,
        chosen: Mapping[str, tuple[bool, Place | None]],
        before: Mapping[int, Step],
    ) -> dict[int, Step]:
        """The steps of a recipe as it is written, with the options that are `chosen`; some were rewritten `before`. Raises
        YarrikError."""
        (recipe, moved), kept = written, known.plan.recipes[path]
        found: dict[int, Step] = {}
        for number in kept.builds:
            step = known.step(number)
            if step.side == "board":
                step = _with_options(step, chosen)
            found[number] = in_version(with_commands(step, recipe, known.plan.settings), recipe)
        for number in kept.others if moved else ():
            found[number] = in_version(found.get(number) or before.get(number) or known.step(number), recipe)
        return found

    @cached_property
    def _recipes(self) -> dict[str, _Written]:
        """The recipes that are written otherwise now, or have other options, by the paths of their files."""
        paths = {path for path in self.before.changed.recipes if path in self._plan.recipes}
        if self._chosen:
            paths.update(path for path in self._plan.recipes if path.split("/")[-2] in self._chosen)
        try:
            return {path: self._recipe(self._now, path) for path in sorted(paths)}
        except YarrikError as error:  # planning reports it
            raise Otherwise from error

    def _recipe(self, known: Kept, path: str) -> _Written:
        """A recipe as its file has it now. Raises YarrikError."""
        kept = known.plan.recipes[path]
        if self._is_spoken_of(path):
            raise Otherwise
        document = read_document(Path(path))
        as_planned = beyond_digest(document.raw) == kept.digest
        if not as_planned and (not kept.stable or stable_digest(document.raw) != kept.stable):
            raise Otherwise
        # Or it has been otherwise since.
        return _Written(recipe_in(document), not as_planned or not known.state.steps.keys().isdisjoint(kept.others))

    @cached_property
    def _versions(self) -> dict[str, str]:
        """The versions that recipes of the product have now and not in the lock, by name."""
        moved = {path: one.recipe for path, one in self._recipes.items() if one.moved}
        if not moved:
            return {}  # the lock takes long to read
        locked = self.project.lock.products.get(self._plan.finished.product)
        found = {}
        for path, recipe in moved.items():
            version = recipe.value.version
            if not version:
                raise Otherwise
            held = {locked.versions.get(recipe.name), locked.tools.get(recipe.name)} if locked is not None else {None}
            if self._plan.recipes[path].builds and held - {None} != {version}:
                found[recipe.name] = version
        return found

    @cached_property
    def _otherwise(self) -> list[str]:
        """The files of definitions that say something else than when they were planned with, or of lines of which something is
        said. Those that the product does not use have to be whole definitions still. Of the product's own file, and of recipes,
        more may change."""
        plan, changed = self._before.plan, self.before.changed
        found = []
        try:
            for path in (*changed.definitions, *(path for path in changed.recipes if path not in plan.recipes)):
                document = read_document(Path(path))
                if path in plan.unused:
                    self._check_unused(document, plan.unused[path])
                elif self._is_spoken_of(path) or meaning_of(document.raw) != plan.meanings.get(path):
                    found.append(path)
            if changed.own and (
                found or self._is_spoken_of(changed.own) or self._is_otherwise(read_document(Path(changed.own)))
            ):
                found.append(changed.own)
        except YarrikError as error:  # planning reports it
            raise Otherwise from error
        return found

    def _is_otherwise(self, product: Document) -> bool:
        """Whether a product's file says something else beside its options."""
        kept = self._before.plan.own
        return kept is None or beside_options(product.raw) != kept.digest

    @cached_property
    def _made(self) -> MadeAgain | None:
        """The product's own steps made again, where definitions say something else."""
        files, kept = self._otherwise, self._before
        if not files:
            return None
        if not kept.plan.own_steps:
            raise Otherwise
        if self.before.changed.own in files and kept.state.options is not None:
            raise Otherwise  # its options are others than those that were planned with
        from yarrik.run.own_steps import OwnAgain  # this takes modules that no other change does

        try:
            for path in kept.plan.recipes.keys() & set(self.before.changed.recipes):
                # One that was changed just before the last build is looked at again.
                steps = self._steps_of(kept, path, self._recipe(kept, path), {}, {})
                if any(step != kept.step(number) for number, step in steps.items()):
                    raise Otherwise  # the two at once are for planning
            return OwnAgain(self.project, self.before.question, kept, files).run()
        except (YarrikError, UnicodeEncodeError, NotRead) as error:  # planning reports it
            raise Otherwise from error

    def _check_unused(self, document: Document, kept: Unused) -> None:
        """Whether a definition that the product does not use is a whole one still, takes the place of no other, and gives no
        board what it lacks here. Raises YarrikError."""
        from yarrik.model import check_shelved, names_key

        if document.raw.get("replaces") != kept.replaces:
            raise Otherwise
        if kept.kind not in ("board", "image") and names_key(document.raw, self._before.plan.lacking):
            raise Otherwise
        check_shelved(document, kept.kind)

    def _is_spoken_of(self, path: str) -> bool:
        """Whether something was said of a line of this file, which may be another one now."""
        return any(one.place.file == Path(path) for one in self._before.plan.said.advice)

    @cached_property
    def _product(self) -> Document | None:
        """The product's file, if it is written otherwise and says nothing else but its options. Raises YarrikError."""
        own = self.before.changed.own
        if not own or own in self._otherwise:
            return None
        document = read_document(Path(own))
        if self._is_otherwise(document):
            raise Otherwise
        check_definition(document, Product)
        return document

    @cached_property
    def _options(self) -> dict[str, dict[str, bool]] | None:
        """The options that the product's file chooses now; None where they are those of the plan."""
        found = self._product.raw.get("options", {}) if self._product is not None else self._state.options
        return found if found is None or isinstance(found, dict) else None

    @cached_property
    def _chosen(self) -> dict[str, dict[str, tuple[bool, Place | None]]]:
        """The options that the product's file chooses otherwise now, by recipe: whether each is on, and where that is said."""
        document, kept = self._product, self._plan.own
        if document is None or kept is None:
            return {}
        found: dict[str, dict[str, tuple[bool, Place | None]]] = {}
        now = self._options or {}
        for recipe in sorted({*now, *kept.options}):
            new, old = now.get(recipe, {}), kept.options.get(recipe, {})
            for option in sorted({*new, *old}):
                if new.get(option) == old.get(option):
                    continue
                if f"{recipe}[{option}]" not in kept.free:
                    raise Otherwise
                place = document.origin("options", recipe, option).place if option in new else None
                found.setdefault(recipe, {})[option] = new.get(option, kept.free[f"{recipe}[{option}]"]), place
        return found

    def _hold(self) -> list[Moved]:
        """Takes other options and versions into the lock, and writes it; what differs from what was locked."""
        lock, product = self.project.lock, self._plan.finished.product
        former = lock.products.get(product)
        if former is None:
            raise Otherwise
        options = {f"{name}[{option}]": on for name, one in self._chosen.items() for option, (on, _) in one.items()}
        versions, tools = (
            {**held, **{name: version for name, version in self._versions.items() if name in held}}
            for held in (former.versions, former.tools)
        )
        now = replace(former, options={**former.options, **options}, versions=versions, tools=tools)
        if now == former:
            return []
        if self.project.choices.locked:
            raise Otherwise
        from yarrik.resolve import moved

        self._write_lock(now)
        self._held_before = former
        return moved(former, now)

    def _write_lock(self, held: LockedProduct) -> None:
        """Writes the lock with this as what it holds of the product."""
        lock = self.project.lock
        lock.hold(self._plan.finished.product, held, lock.shelves)
        self.project.write_lock()

    def _taken(self) -> tuple[_Taken, dict[str, Tree], list[str]]:
        """What each step takes whose sources are others now; the trees of these; and the digests of all sources."""
        trees = dict(self._made.trees) if self._made is not None else {}
        digests = list(self._state.digests)
        changed = set(self.before.changed.sources)
        others = [number for number, source in enumerate(self._plan.sources) if source.path in changed]
        try:
            for number in others:
                digests[number] = self._digest_of(self._plan.sources[number], trees)
                self._check_fragment(self._plan.sources[number].path, digests[number], self._state.digests[number])
        except (YarrikError, OSError) as error:  # planning reports it, at the definition
            raise Otherwise from error
        return self._now.takers(digests, [one for one in others if digests[one] != self._state.digests[one]]), trees, digests

    def _check_fragment(self, path: str, digest: str, before: str) -> None:
        """Whether a fragment of the kernel asks for modules now must be as it was. One that was written lately with the same
        text may have been another one for a moment, when planning asked."""
        asked = self._plan.fragments.get(path)
        if asked is not None and (digest == before or fragment_asks(path, digest) != asked):
            raise Otherwise

    def _digest_of(self, source: KeptSource, trees: dict[str, Tree]) -> str:
        """The digest of a source as it is now; a folder's tree goes among the `trees`. Raises YarrikError or OSError."""
        if source.suffixes is None:
            return source_file(Path(source.path), self.project.memory)
        tree = source_tree(Path(source.path), source.suffixes, self.project.memory)
        trees[tree.digest] = tree
        return tree.digest

    def _following(self, taken: _Taken) -> tuple[list[int], list[int]]:
        """The steps that follow from these; and of them those that cannot be run without planning, with what follows from
        those. They need not run where what they need comes out the same."""
        follows: set[int] = set()
        secret: set[int] = set()
        made = self._made.steps if self._made is not None else {}
        for number, step in enumerate(self._plan.steps):
            changed, known = number in taken or number in self._rewritten, step.part is not None or number in made
            if changed and not known:
                raise Otherwise
            if changed or not follows.isdisjoint(step.needs):
                follows.add(number)
            if not known or not secret.isdisjoint(step.needs):
                secret.add(number)
        return sorted(follows - secret), sorted(follows & secret)

    def _step(self, number: int, taken: _Taken) -> Step:
        """A step as it is now."""
        step = self._rewritten.get(number) or self._now.step(number)
        return taking(step, taken[number]) if number in taken else step

    def _run(
        self, graph: Graph, jobs: int | None, keep_going: bool, listener: Listener, trees: Mapping[str, Tree]
    ) -> tuple[list[StepReport], Sandbox]:
        project, plan = self.project, self._plan
        if any(one.folder and not Path(one.folder).is_dir() for one in plan.toolchains.values()):
            raise Otherwise  # it was unpacked into the cache, and cleared away there
        private = {step.name for step in plan.steps if step.private}
        look = Sights(project.store, project.machine, plan.toolchains).look
        difference = difference_in(project.store, trees)
        how = Running(plan.toolchains, look, difference, jobs=jobs, keep_going=keep_going,
                      kept=self._kept(graph), private=private)  # fmt: skip
        return run_graph(project, graph, how, listener)

    def _kept(self, graph: Graph) -> dict[str, dict[str, str]]:
        """The outputs of steps that a graph needs and has not."""
        needed = {name for step in graph.steps for name in step.needs} - {step.name for step in graph.steps}
        return {row.step: row.outputs for row in self._state.rows if row.step in needed}

    def _former_logs(self, numbers: Sequence[int], reports: Sequence[StepReport]) -> Logs | None:
        """Where logs of steps that are kept are in `steps.log`; None when nothing is known of it."""
        file = self.project.out(self._plan.finished.product) / STEPS_LOG
        if not self._state.logs or not self.before.is_as_left(file):
            return None
        logs = list(self._state.logs)
        for number, report in zip(numbers, reports, strict=True):
            if not _is_as_before(report, self._state.rows[number]):
                logs[number] = None
        return logs

    def _remember(self, report: BuildReport, digests: list[str]) -> None:
        kept = kept_report(self.project, report, self._plan.said)
        logs = report.logs if report.published else self._state.logs
        made = self._made
        rewritten = {number: step for number, step in self._rewritten.items() if made is None or number not in made.steps}
        steps = self._state.steps | {number: encoded_step(step) for number, step in rewritten.items()}
        state = KeptState(list(kept.rows), digests, logs or [], steps, self._options)
        left = left_by(self.project, kept)
        needed = left.digests
        changed = {one.step.name for one in report.steps}
        old = {digest for row in self._state.rows if row.step in changed for digest in row.outputs.values()} - needed
        new = {digest for one in report.steps for digest in one.outputs.values()}
        answer = (report.product, kept.notes, msgspec.json.encode(self.shown(kept)))
        lock = self.project.lock_now() if self._chosen or self._versions else self.before.record.lock
        plan = PlanKept(b"", b"", encoded(state), lock=lock)
        if made is not None:
            old |= made.gone - needed
            kept_own = made.plan.own
            plan = replace(plan, plan=encoded(made.plan), steps=made.file, definitions=tuple(made.plan.meanings),
                           sources=[(one.path, one.suffixes) for one in made.plan.sources],
                           own=kept_own.file if kept_own is not None else "")  # fmt: skip
        renew(self.before, answer, left, (old, new), plan, made.watch if made is not None else None)


def recipe_in(document: Document) -> Definition[Recipe]:
    """The recipe that a file holds, if nothing else says anything of it. Raises YarrikError."""
    check_definition(document, Recipe)
    whole = stack([document], Recipe)
    return Definition(document.file.parent.name, "", convert(whole, Recipe), whole)


def with_commands(step: Step, recipe: Definition[Recipe], settings: Mapping[str, Setting]) -> Step:
    """The build of a recipe as it is written now, by what builds for each side are called with: all but its commands and their
    bounds is as it was. Raises YarrikError."""
    action = step.action
    assert isinstance(action, RunCommands)
    options = {key.removeprefix("option "): on == "on" for key, on in step.choices.items() if key.startswith("option ")}
    # The record knows these variables: they are as they were.
    let_in = {name: value for name in recipe.value.build.let_in if (value := os.environ.get(name)) is not None}
    setting = settings[step.side]
    action = build_commands(recipe, options, setting, let_in, action.programs, action.host)
    return replace(step, action=action, bounds=bounds_of(recipe.value.build))


def _with_options(step: Step, chosen: Mapping[str, tuple[bool, Place | None]]) -> Step:
    """A step of a recipe with these options, which are on or off, and said at a place or nowhere."""
    choices, marks = dict(step.choices), dict(step.marks)
    for option, (on, place) in chosen.items():
        label = f"option {option}"
        choices[label] = "on" if on else "off"
        marks.pop(label, None)
        if place is not None:
            marks[label] = place
    return replace(step, choices=choices, marks=marks)


def _is_as_before(report: StepReport, row: StepRow) -> bool:
    return report.how == "kept" and report.fingerprint == row.fingerprint
