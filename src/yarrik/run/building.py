"""Building: runs a planned product, publishes it, and moves results to and from shared caches."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence

import msgspec
from msgspec.structs import replace

from yarrik.cache import MissingObject, Traffic, in_use
from yarrik.errors import Place, Trouble, YarrikError, suggestion
from yarrik.model import FILE, LOCAL_FILE, SHAPES, lacks, settings_file
from yarrik.plan import Graph, Step, setting_of
from yarrik.resolve import Moved, module_fragments
from yarrik.run.bootable import Bootable
from yarrik.run.diversions import diversion_notes, diversion_of, renew_diversion
from yarrik.run.events import Listener, silent
from yarrik.run.kept_definitions import kept_fragments, kept_meanings, kept_product, kept_recipes, used_definitions
from yarrik.run.kept_plan import (
    Finished,
    FormerLogs,
    KeptPlan,
    KeptState,
    Said,
    encoded,
    kept_steps,
    said_of,
)
from yarrik.run.own_steps import advice_of, finished_by, kept_own
from yarrik.run.planning import Planned, Planner
from yarrik.run.project import EDITS, Project
from yarrik.run.publishing import STEPS_LOG, Published, Publisher
from yarrik.run.records import Records
from yarrik.run.reporting import BuildReport, advice_of_build, kept_report, left_by, notes_of_build, notes_of_moved, row_of
from yarrik.run.results import Logs, StepReport, private_steps
from yarrik.run.running import Running, run_graph, send_rest
from yarrik.run.sandbox import Sandbox
from yarrik.run.unchanged import PlanKept, Question, Watch, remember_build

#: Most times that damage in the cache is repaired which shows only when files are published.
_PUBLISHINGS = 4


class Builder(msgspec.Struct):
    """Builds the products of a project."""

    project: Project
    planner: Planner
    #: When the command began, on the monotonic clock: builds are timed from there.
    started: float = msgspec.field(default_factory=time.monotonic)

    def build(
        self,
        planned: Planned,
        jobs: int | None = None,
        keep_going: bool = False,
        listener: Listener = silent,
        until: str | None = None,
        question: Question | None = None,
    ) -> BuildReport:
        """Builds the product and publishes it. The report says what failed; nothing is published then, nor with `until`, a
        step's name: then that step is run with all that it needs. What the last build with the same `question` knew of logs is
        not looked up again."""
        project, records = self.project, Records(self.project)
        if until is not None:
            names = {step.name for step in planned.graph.steps}
            if until not in names:
                raise YarrikError(Trouble("STEP-UNKNOWN", f"`{planned.name}` has no step `{until}`",
                                          remedy=suggestion(until, names)))  # fmt: skip
            planned = replace(planned, graph=planned.graph.up_to(until))
        reports, sandbox = self._run(planned, jobs, keep_going, listener)
        records.keep_timeline(planned.name, reports)
        published, rows = Published(False, [], {}), [row_of(report) for report in reports]
        former: Logs | None = None
        for _ in range(_PUBLISHINGS):
            if until is not None or any(report.error is not None for report in reports):
                break
            ran = any(report.how in ("ran", "shared") for report in reports)
            try:
                with in_use(project.store):
                    rows = [row_of(report) for report in reports]
                    former = FormerLogs.of(question, project.out(planned.name) / STEPS_LOG).take(rows)
                    published = Publisher(project).publish(self._finished(planned), rows, ran, former)
                break
            except MissingObject:
                # It was damaged, and is gone now: what leads to it is made again.
                again, sandbox = self._run(planned, jobs, keep_going, listener)
                reports = [new if new.how != "kept" else old for old, new in zip(reports, again, strict=True)]
        else:
            raise YarrikError(
                Trouble("CACHE-DAMAGED", "what was built could not be read back from the cache", Place(project.store.root),
                        why="it was made anew several times, and damaged each time; the disk may be failing",
                        remedy="yarrik cache verify, or name a folder on another disk in YARRIK_CACHE"),
                "work",
            )  # fmt: skip
        failures = [report.step.name for report in reports if report.error is not None]
        if failures:
            records.keep_failure(planned.name, failures[0])
        said = self._said(planned, planned.moved)
        project.save_digests()
        send_rest(project, listener)
        if not failures:
            project.drop_clean_cache()
        shared = project.shared
        return BuildReport(
            planned.name,
            project.out(planned.name),
            tuple(reports),
            notes_of_build(said, reports, sandbox, project.store),
            time.monotonic() - self.started,
            published.changed,
            records.saved(planned.name, reports, rows),
            records.tools_said(planned.name, reports),
            () if shared is None else self.planner.told(planned, shared.troubles),
            Traffic() if shared is None else shared.traffic,
            advice_of_build(said, reports),
            records.story(row.outputs for row in rows),
            tuple(rows),
            published.logs or former,
            published.files,
        )

    def remember(
        self,
        question: Question,
        watch: Watch,
        planned: Planned,
        report: BuildReport,
        shown: Callable[[BuildReport], dict[str, object]],
    ) -> None:
        """Keeps what a build that went well followed from, so that the same question is answered without planning while none
        of it changes, and after sources have changed without planning all again. `shown` makes a report's values for JSON,
        without its steps."""
        project = self.project
        workspace = project.workspace
        # What was resolved anew is in the lock now; shelves that are not as locked stay so.
        said = self._said(planned, self.planner.moved_shelves())
        kept = kept_report(project, report, said)
        places = [workspace.root, *(shelf.folder for shelf in workspace.shelves.values())]
        trees = [place / f"{kind}s" for place in places for kind in SHAPES]
        trees += [workspace.root / one.clone for one in workspace.settings.shelf if one.git]
        trees += [project.root / EDITS]
        files = [settings_file(), project.lock.file, *(workspace.root / name for name in (FILE, LOCAL_FILE))]
        files += [place / "shelf.toml" for place in places]
        answer = (planned.name, kept.notes, msgspec.json.encode(shown(kept)))
        plan = self._plan_kept(planned, said, kept, watch)
        remember_build(question, watch, answer, files, trees, left_by(project, kept), plan)

    def _plan_kept(self, planned: Planned, said: Said, kept: BuildReport, watch: Watch) -> PlanKept | None:
        """The plan as it is kept; None where it cannot be written down."""
        graph = planned.graph
        try:
            steps, file, sources, digests = kept_steps(graph.steps, private_steps(graph), watch.sources)
            # Git tells whether a shelf's clone has changes, which manifests say.
            clones = [self.project.root / one.clone for one in self.project.workspace.settings.shelf if one.git]
            composition, toolchains = planned.composition, dict(planned.surroundings.toolchains)
            recipes = kept_recipes(planned.answer, graph.steps, clones)
            own = kept_product(planned.answer, recipes, clones)
            fragments = kept_fragments(module_fragments(composition) or (), sources, digests)
            if fragments is None:
                return None
            settled = {"": self.planner.accounts(planned.answer), **self.planner.further_accounts(planned.answer)}
            own_steps = kept_own(planned, settled, used_definitions(composition))
            meanings, unused = kept_meanings(composition, clones)
            for path in (*recipes, *((own.file,) if own is not None else ())):
                meanings.pop(path, None)  # of this one more may change than how it is written
            plan = KeptPlan(
                steps,
                sources,
                self._finished(planned),
                said,
                toolchains,
                {side: setting_of(composition, side, toolchain) for side, toolchain in toolchains.items()},
                recipes,
                own,
                fragments,
                meanings,
                unused,
                lacks(composition.board.value),
                encoded(Bootable.of(composition)),
                encoded(own_steps) if own_steps is not None else b"",
            )
            state = KeptState(list(kept.rows), digests, kept.logs or [])
            return PlanKept(
                encoded(plan),
                file,
                encoded(state),
                [(one.path, one.suffixes) for one in sources],
                clones,
                tuple(meanings),
                own.file if own is not None else "",
                self.project.lock_now(),
            )
        except UnicodeEncodeError:  # a name that is not text
            return None

    def _said(self, planned: Planned, moved: Sequence[Moved]) -> Said:
        """What a user ought to hear of a product, whatever runs."""
        project = self.project
        edits = sorted(path.parent.name for path in (project.root / EDITS).glob("*/.git"))
        built = {step.recipe for step in planned.graph.steps}
        notes = [f"{name} is built from {EDITS}/{name}, until `yarrik edit {name} --close`" for name in edits if name in built]
        notes += diversion_notes(project, built)
        notes += notes_of_moved(moved)
        product = planned.composition.product
        return said_of(notes, advice_of(planned.composition, planned.warnings), tuple(product.value.silence), product.name)

    def _finished(self, planned: Planned) -> Finished:
        return finished_by(planned.composition, planned.graph, planned.surroundings.toolchains)

    def push(
        self,
        planned: Planned,
        tell: Callable[[int, int], None] = lambda done, total: None,
        replace: bool = False,
    ) -> tuple[int, int, tuple[Trouble, ...]]:
        """Sends all kept results of a product to the shared caches that take them, with `replace` those that are there too:
        how many were sent, how many there are, and what went wrong. Raises YarrikError when no shared cache takes any."""
        shared = self.project.shared
        takers = [cache for cache in shared.caches if cache.push] if shared is not None else []
        if shared is None or not takers:
            raise YarrikError(
                Trouble("CACHE-NO-SHARED", "there is no shared cache that takes results", self.project.settings_place,
                        remedy="name one: [[shared-cache]] with `name`, `at`, `push = true` and `signing-key`")
            )  # fmt: skip
        graph = planned.graph
        last = self.project.memory.last_runs(graph.product)
        hidden = private_steps(graph, last)
        names = [step.name for step in graph.steps if step.name in last and step.name not in hidden]
        fingerprints = list(dict.fromkeys(last[name].fingerprint for name in names))
        sent = 0
        for number, fingerprint in enumerate(fingerprints):
            tell(number, len(fingerprints))
            result = self.project.store.result(fingerprint)
            for cache in takers if result is not None else []:
                assert result is not None
                sent += shared.send_or_tell(cache, fingerprint, result, replace)
        return sent, len(fingerprints), shared.troubles

    def pull(self, planned: Planned, listener: Listener = silent) -> tuple[int, int, int, tuple[Trouble, ...]]:
        """Takes the results of a product that shared caches have: how many came, how many were here, how many nobody has, and
        what went wrong. Runs nothing but what takes files of this machine. Raises YarrikError when there is no shared cache."""
        shared = self.project.shared
        if shared is None or not shared.caches:
            raise YarrikError(Trouble("CACHE-NO-SHARED", "there is no shared cache to ask", self.project.settings_place,
                                      remedy="name one: [[shared-cache]] with `name` and `at`"))  # fmt: skip
        reports, _ = self._run(planned, None, True, listener, run_nothing=True)
        self.project.save_digests()
        send_rest(self.project, listener)
        count = {
            how: sum(report.how == how for report in reports) for how in ("shared", "kept", "ran", "not reached", "failed")
        }
        missing = count["not reached"] + count["failed"]
        return count["shared"], count["kept"] + count["ran"], missing, shared.troubles

    def fetch(self, planned: Planned, listener: Listener = silent) -> list[Step]:
        """Brings all sources of a product into the cache, so that a build needs no network. Returns the steps of it. Clones
        that sources are diverted to move to where their branches are now."""
        for name in sorted({node.recipe for node in planned.graph.nodes}):
            diversion = diversion_of(self.project, name)
            if diversion is not None:
                renew_diversion(self.project, name, diversion)
        graph = planned.graph
        steps = tuple(step for step in graph.steps if step.kind == "fetch")
        self.run_steps(replace(planned, graph=Graph(graph.product, steps, graph.nodes)), listener)
        return list(steps)

    def run_steps(self, planned: Planned, listener: Listener = silent) -> tuple[dict[str, Mapping[str, str]], Sandbox]:
        """Runs the steps of a plan; the outputs of each by name, and the sandbox. Raises YarrikError with what failed."""
        reports, sandbox = self._run(planned, None, False, listener)
        self.project.save_digests()
        send_rest(self.project, listener)
        failed = [trouble for report in reports if report.error is not None for trouble in report.error.troubles]
        if failed:
            raise YarrikError(failed, "work")
        return {report.step.name: report.outputs for report in reports}, sandbox

    def run_up_to(self, planned: Planned, step: str, listener: Listener = silent) -> Mapping[str, str]:
        """Runs one step with all that it needs, and returns its outputs. Raises YarrikError with what failed."""
        outputs, _ = self.run_steps(replace(planned, graph=planned.graph.up_to(step)), listener)
        return outputs[step]

    def _run(
        self, planned: Planned, jobs: int | None, keep_going: bool, listener: Listener, run_nothing: bool = False
    ) -> tuple[list[StepReport], Sandbox]:
        self.planner.check_terms(planned)
        self.project.write_lock()
        how = Running(planned.surroundings.toolchains, planned.surroundings.look, self.planner.difference(planned),
                      lambda: self.planner.check_programs(planned), jobs, keep_going, run_nothing)  # fmt: skip
        return run_graph(self.project, planned.graph, how, listener)
