"""Builds after nothing but sources, single files that a step takes, options, and recipes' commands, versions and addresses
have changed: what follows from them is run, and nothing is planned. Definitions may be written otherwise if they say the same,
or if the product does not use them.

Where anything is not as it was kept there is no report, and the caller plans: that costs time, never correctness."""

from __future__ import annotations

import os
import time
import weakref
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import msgspec
from msgspec.structs import replace

from yarrik.cache import LastRun, MissingObject, Traffic, Tree, in_use
from yarrik.errors import Damaged, Place, YarrikError
from yarrik.model import Definition, Document, Product, Recipe, check_definition, convert, read_document, stack
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
    fingerprint_of,
    in_version,
)
from yarrik.run.events import Listener
from yarrik.run.kept_plan import (
    KeptPlan,
    KeptSource,
    KeptState,
    Unused,
    beside_options,
    beyond_digest,
    decoded_plan,
    decoded_state,
    decoded_step,
    encoded,
    encoded_step,
    fragment_asks,
    meaning_of,
    stable_digest,
)
from yarrik.run.project import Project
from yarrik.run.publishing import STEPS_LOG, Publisher
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

#: What steps (by number) take, by their labels for it: digests.
_Taken = dict[int, dict[str, str]]


class _Otherwise(Exception):
    """Something is not as it was kept."""


class _Written(NamedTuple):
    """A recipe as its file has it now; whether its version or its source may be another one than before (`moved`)."""

    recipe: Definition[Recipe]
    moved: bool


@dataclass
class Rebuilder:
    """Builds a product of which nothing but sources, files, options, and recipes' commands, versions and addresses has changed
    since the build `before`. `started` is when the command began, on the monotonic clock; `shown` makes a report's values for
    JSON, without its steps."""

    project: Project
    before: FewChanges
    started: float = 0.0
    shown: Callable[[BuildReport], dict[str, object]] = lambda report: {}
    #: What the lock had of the product, where this build has written another.
    _held_before: LockedProduct | None = field(default=None, init=False)

    def build(self, jobs: int | None, keep_going: bool, listener: Listener) -> BuildReport | None:
        """Runs what follows from the changes, publishes, and keeps how all is now. The report says what failed. None when
        all has to be planned."""
        try:
            return self._build(jobs, keep_going, listener)
        except (_Otherwise, MissingObject, Damaged, msgspec.DecodeError):
            if self._held_before is not None:  # what differs from the lock is said by the build that plans
                self._write_lock(self._held_before)
            return None

    def assess(self) -> list[Assessment] | None:
        """What a build would do with the steps that follow from the changes; all others are kept. None when all has to be
        planned."""
        try:
            self._check_meanings()
            if self.before.changed.own or self._versions:
                return None  # what differs from the lock is said, too
            taken, trees, _ = self._taken()
            numbers, withheld = self._following(taken)
            graph = Graph(self._plan.finished.product, tuple(self._step(number, taken) for number in numbers))
        except (_Otherwise, MissingObject, Damaged, msgspec.DecodeError):
            return None
        if withheld:
            return None
        store = self.project.store
        last = self._last(graph)

        def lookup(step: str, fingerprint: str) -> Mapping[str, str] | None:
            return kept_outputs(store, last.get(step), fingerprint)

        return assess(graph, lookup, last, difference_in(store, trees), self._kept(graph))

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
    def _plan(self) -> KeptPlan:
        plan, options = decoded_plan(self.before.plan), self._state.options
        return plan if plan.own is None or options is None else replace(plan, own=replace(plan.own, options=options))

    @cached_property
    def _state(self) -> KeptState:
        return decoded_state(self.before.state)

    def _build(self, jobs: int | None, keep_going: bool, listener: Listener) -> BuildReport:
        project, plan, rows = self.project, self._plan, self._state.rows
        said = plan.said
        product = plan.finished.product
        self._check_meanings()
        taken, trees, digests = self._taken()
        numbers, withheld = self._following(taken)
        graph = Graph(product, tuple(self._step(number, taken) for number in numbers))
        moving = bool(self._chosen or self._versions)
        if moving and withheld:
            raise _Otherwise  # the lock must not have what it is then said to differ in
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
        published, logs = False, None
        if failures:
            records.keep_failure(product, failures[0])
        else:
            if any(now[needed].outputs != rows[needed].outputs for number in withheld for needed in plan.steps[number].needs):
                raise _Otherwise  # a step with secrets has to run: they are not kept
            ran = any(report.how in ("ran", "shared") for report in reports)
            with in_use(project.store):
                logs = Publisher(project).publish(plan.finished, now, ran, self._former_logs(numbers, reports))
                published = logs is not None
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
            published,
            records.saved(product, reports, now),
            records.tools_said(product, reports),
            troubles,
            Traffic() if shared is None else shared.traffic,
            advice_of_build(plan.said, reports),
            records.story(row.outputs for row in now),
            tuple(now),
            logs,
        )
        if not failures:
            self._remember(report, digests)
        return report

    @cached_property
    def _rewritten(self) -> dict[int, Step]:
        """The steps of recipes that are written otherwise now, or have other options, as they are then."""
        found: dict[int, Step] = {}
        try:
            for path, (recipe, moved) in self._recipes.items():
                kept = self._plan.recipes[path]
                for number in kept.builds:
                    step = self._kept_step(number)
                    if step.side == "board":
                        step = _with_options(step, self._chosen.get(recipe.name, {}))
                    found[number] = in_version(with_commands(step, recipe, self._plan.settings), recipe)
                for number in kept.others if moved else ():
                    found[number] = in_version(found.get(number) or self._kept_step(number), recipe)
        except YarrikError as error:  # planning reports it
            raise _Otherwise from error
        return found

    @cached_property
    def _recipes(self) -> dict[str, _Written]:
        """The recipes that are written otherwise now, or have other options, by the paths of their files."""
        paths = {path for path in self.before.changed.recipes if path in self._plan.recipes}
        if self._chosen:
            paths.update(path for path in self._plan.recipes if path.split("/")[-2] in self._chosen)
        try:
            return {path: self._recipe(path) for path in sorted(paths)}
        except YarrikError as error:  # planning reports it
            raise _Otherwise from error

    def _recipe(self, path: str) -> _Written:
        """A recipe as its file has it now. Raises YarrikError."""
        kept = self._plan.recipes[path]
        if self._is_spoken_of(path):
            raise _Otherwise
        document = read_document(Path(path))
        as_planned = beyond_digest(document.raw) == kept.digest
        if not as_planned and (not kept.stable or stable_digest(document.raw) != kept.stable):
            raise _Otherwise
        # Or it has been otherwise since.
        return _Written(recipe_in(document), not as_planned or not self._state.steps.keys().isdisjoint(kept.others))

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
                raise _Otherwise
            held = {locked.versions.get(recipe.name), locked.tools.get(recipe.name)} if locked is not None else {None}
            if self._plan.recipes[path].builds and held - {None} != {version}:
                found[recipe.name] = version
        return found

    def _check_meanings(self) -> None:
        """Whether definitions say what they said of which no more may change than how they are written, and whether those that
        the product does not use are any."""
        plan, changed = self._plan, self.before.changed
        try:
            for path in (*changed.definitions, *(path for path in changed.recipes if path not in plan.recipes)):
                document = read_document(Path(path))
                if path in plan.unused:
                    self._check_unused(document, plan.unused[path])
                elif self._is_spoken_of(path) or meaning_of(document.raw) != plan.meanings.get(path):
                    raise _Otherwise
        except YarrikError as error:  # planning reports it
            raise _Otherwise from error

    def _check_unused(self, document: Document, kept: Unused) -> None:
        """Whether a definition that the product does not use is a whole one still, and takes the place of no other. Raises
        YarrikError."""
        from yarrik.model import check_shelved

        if document.raw.get("replaces") != kept.replaces:
            raise _Otherwise
        check_shelved(document, kept.kind)

    def _is_spoken_of(self, path: str) -> bool:
        """Whether something was said of a line of this file, which may be another one now."""
        return any(one.place.file == Path(path) for one in self._plan.said.advice)

    @cached_property
    def _product(self) -> Document | None:
        """The product's file, if it is written otherwise: no more than its options may be. Raises YarrikError."""
        if not self.before.changed.own:
            return None
        kept = self._plan.own
        document = read_document(Path(self.before.changed.own))
        if kept is None or self._is_spoken_of(kept.file) or beside_options(document.raw) != kept.digest:
            raise _Otherwise
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
                    raise _Otherwise
                place = document.origin("options", recipe, option).place if option in new else None
                found.setdefault(recipe, {})[option] = new.get(option, kept.free[f"{recipe}[{option}]"]), place
        return found

    def _hold(self) -> list[Moved]:
        """Takes other options and versions into the lock, and writes it; what differs from what was locked."""
        lock, product = self.project.lock, self._plan.finished.product
        former = lock.products.get(product)
        if former is None:
            raise _Otherwise
        options = {f"{name}[{option}]": on for name, one in self._chosen.items() for option, (on, _) in one.items()}
        versions, tools = (
            {**held, **{name: version for name, version in self._versions.items() if name in held}}
            for held in (former.versions, former.tools)
        )
        now = replace(former, options={**former.options, **options}, versions=versions, tools=tools)
        if now == former:
            return []
        if self.project.choices.locked:
            raise _Otherwise
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
        trees: dict[str, Tree] = {}
        digests = list(self._state.digests)
        changed = set(self.before.changed.sources)
        others = [number for number, source in enumerate(self._plan.sources) if source.path in changed]
        try:
            for number in others:
                digests[number] = self._digest_of(self._plan.sources[number], trees)
                self._check_fragment(self._plan.sources[number].path, digests[number], self._state.digests[number])
        except (YarrikError, OSError) as error:  # planning reports it, at the definition
            raise _Otherwise from error
        return self._takers(digests, [one for one in others if digests[one] != self._state.digests[one]]), trees, digests

    def _check_fragment(self, path: str, digest: str, before: str) -> None:
        """Whether a fragment of the kernel asks for modules now must be as it was. One that was written lately with the same
        text may have been another one for a moment, when planning asked."""
        asked = self._plan.fragments.get(path)
        if asked is not None and (digest == before or fragment_asks(path, digest) != asked):
            raise _Otherwise

    def _digest_of(self, source: KeptSource, trees: dict[str, Tree]) -> str:
        """The digest of a source as it is now; a folder's tree goes among the `trees`. Raises YarrikError or OSError."""
        if source.suffixes is None:
            return source_file(Path(source.path), self.project.memory)
        tree = source_tree(Path(source.path), source.suffixes, self.project.memory)
        trees[tree.digest] = tree
        return tree.digest

    def _takers(self, digests: list[str], numbers: Iterable[int]) -> _Taken:
        """What steps take of these sources."""
        taken: _Taken = {}
        for number in numbers:
            for step, label in self._plan.sources[number].takers:
                taken.setdefault(step, {})[label] = digests[number]
        return taken

    @cached_property
    def _taken_before(self) -> _Taken:
        """What steps took of all sources when they ran last."""
        return self._takers(self._state.digests, range(len(self._plan.sources)))

    def _following(self, taken: _Taken) -> tuple[list[int], list[int]]:
        """The steps that follow from these; and of them those that cannot be run without planning, with what follows from
        those. They need not run where what they need comes out the same."""
        follows: set[int] = set()
        secret: set[int] = set()
        for number, step in enumerate(self._plan.steps):
            changed = number in taken or number in self._rewritten
            if changed and step.part is None:
                raise _Otherwise
            if changed or not follows.isdisjoint(step.needs):
                follows.add(number)
            if step.part is None or not secret.isdisjoint(step.needs):
                secret.add(number)
        return sorted(follows - secret), sorted(follows & secret)

    def _step(self, number: int, taken: _Taken) -> Step:
        """A step as it is now."""
        step = self._rewritten.get(number) or self._kept_step(number)
        return _taking(step, taken[number]) if number in taken else step

    def _encoded(self, number: int) -> bytes:
        """A step as it was planned, encoded."""
        part = self._plan.steps[number].part
        data = part.read(self._file) if part is not None else None
        if data is None:
            raise _Otherwise
        return data

    @cached_property
    def _file(self) -> int:
        """The file of steps, open for reading."""
        try:
            opened = os.open(self.before.steps_file, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            raise _Otherwise from error
        weakref.finalize(self, os.close, opened)
        return opened

    def _kept_step(self, number: int) -> Step:
        """A step as it was. What was kept of it has to lead to the fingerprint that it had."""
        row, rows = self._state.rows[number], self._state.rows
        step = decoded_step(self._state.steps.get(number) or self._encoded(number))
        if number in self._taken_before:
            step = _taking(step, self._taken_before[number])
        needs = {self._plan.steps[needed].name: needed for needed in self._plan.steps[number].needs}
        try:
            inputs = {label: rows[needs[name]].outputs[output] for label, (name, output) in step.inputs.items()}
        except KeyError as error:
            raise _Otherwise from error
        if step.name != row.step or fingerprint_of(step, inputs) != row.fingerprint:
            raise _Otherwise
        return step

    def _run(
        self, graph: Graph, jobs: int | None, keep_going: bool, listener: Listener, trees: Mapping[str, Tree]
    ) -> tuple[list[StepReport], Sandbox]:
        project, plan = self.project, self._plan
        if any(one.folder and not Path(one.folder).is_dir() for one in plan.toolchains.values()):
            raise _Otherwise  # it was unpacked into the cache, and cleared away there
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
        steps = self._state.steps | {number: encoded_step(step) for number, step in self._rewritten.items()}
        state = KeptState(list(kept.rows), digests, logs or [], steps, self._options)
        left = left_by(self.project, kept)
        needed = left.digests
        changed = {one.step.name for one in report.steps}
        old = {digest for row in self._state.rows if row.step in changed for digest in row.outputs.values()} - needed
        new = {digest for one in report.steps for digest in one.outputs.values()}
        answer = (report.product, kept.notes, msgspec.json.encode(self.shown(kept)))
        lock = self.project.lock_now() if self._chosen or self._versions else self.before.record.lock
        renew(self.before, answer, left, (old, new), PlanKept(b"", b"", encoded(state), lock=lock))


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


def _taking(step: Step, digests: Mapping[str, str]) -> Step:
    """The same step with other sources, by their labels, and what it is known to leave of them."""
    new = {step.files[label]: digest for label, digest in digests.items()}
    predicted = {output: new.get(digest, digest) for output, digest in step.predicted.items()}
    return replace(step, files={**step.files, **digests}, predicted=predicted)
