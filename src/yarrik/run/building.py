"""Building: runs a planned product, publishes it, and moves results to and from shared caches."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import msgspec

from yarrik.boot import StoryLine
from yarrik.cache import MissingObject, Traffic, in_use
from yarrik.errors import NOWHERE, Place, Trouble, YarrikError, listed, suggestion
from yarrik.model import FILE, LOCAL_FILE, SHAPES, settings_file
from yarrik.plan import Graph, Step
from yarrik.run.diversions import diversion_notes, diversion_of, renew_diversion
from yarrik.run.events import Listener, Sending, silent
from yarrik.run.execute import Execution
from yarrik.run.planning import Planned, Planner
from yarrik.run.project import EDITS, Project
from yarrik.run.publishing import Publisher
from yarrik.run.records import Records
from yarrik.run.results import StepReport, private_steps
from yarrik.run.sandbox import Sandbox
from yarrik.run.unchanged import KeptBuild, Left, Question, Watch, remember_build
from yarrik.run.warnings import NO_WARNINGS, ToolWarnings
from yarrik.run.worker import Settings
from yarrik.units import counted

#: Most times that damage in the cache is repaired which shows only when files are published.
_PUBLISHINGS = 4


#: Differences from the lock that a build lists; a new recipe may bring dozens of options.
_MOST_MOVED = 8


@dataclass(frozen=True)
class Advice:
    """What is likely not meant, and does not stop the build: its code, the recipe or product that it is about, what is wrong,
    and where that is said, if one line says it."""

    code: str
    subject: str
    what: str
    place: Place = NOWHERE


@dataclass(frozen=True)
class BuildReport:
    """A finished build: what became of each step, the files in `out`, and what the user ought to hear.

    `saved` are the seconds that kept results took when they were made, `warnings` what compilers warned of in the steps that
    ran, and `troubles` what did not stop the build, like a shared cache that does not answer."""

    product: str
    out: Path
    steps: tuple[StepReport, ...]
    notes: tuple[str, ...]
    seconds: float
    published: bool
    saved: float = 0.0
    warnings: ToolWarnings = NO_WARNINGS
    troubles: tuple[Trouble, ...] = ()
    traffic: Traffic = field(default_factory=Traffic)
    #: Those of the notes that have a code, as facts.
    advice: tuple[Advice, ...] = ()
    #: What the bench board says of the finished disks, stage by stage.
    story: tuple[StoryLine, ...] = ()

    @property
    def ran(self) -> tuple[StepReport, ...]:
        """Reports of the steps that ran."""
        return tuple(report for report in self.steps if report.how == "ran")

    @property
    def errors(self) -> tuple[YarrikError, ...]:
        """What failed, in the order of the graph."""
        return tuple(report.error for report in self.steps if report.error is not None)


@dataclass
class Builder:
    """Builds the products of a project."""

    project: Project
    planner: Planner
    #: When the command began, on the monotonic clock: builds are timed from there.
    started: float = field(default_factory=time.monotonic)

    def build(
        self,
        planned: Planned,
        jobs: int | None = None,
        keep_going: bool = False,
        listener: Listener = silent,
        until: str | None = None,
    ) -> BuildReport:
        """Builds the product and publishes it. The report says what failed; nothing is published then, nor with `until`, a
        step's name: then that step is run with all that it needs."""
        project, records = self.project, Records(self.project)
        if until is not None:
            names = {step.name for step in planned.graph.steps}
            if until not in names:
                raise YarrikError(Trouble("STEP-UNKNOWN", f"`{planned.name}` has no step `{until}`",
                                          remedy=suggestion(until, names)))  # fmt: skip
            planned = replace(planned, graph=planned.graph.up_to(until))
        reports, sandbox = self._run(planned, jobs, keep_going, listener)
        records.keep_timeline(planned.name, reports)
        published = False
        for _ in range(_PUBLISHINGS):
            if until is not None or any(report.error is not None for report in reports):
                break
            ran = any(report.how in ("ran", "shared") for report in reports)
            try:
                with in_use(project.store):
                    published = Publisher(project).publish(planned, reports, ran)
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
        notes = self._notes(planned, reports, sandbox)
        project.save_digests()
        self._send_rest(listener)
        if not failures:
            project.drop_clean_cache()
        shared = project.shared
        return BuildReport(
            planned.name,
            project.out(planned.name),
            tuple(reports),
            tuple(notes),
            time.monotonic() - self.started,
            published,
            records.saved(planned.name, reports),
            records.tools_said(planned.name, reports),
            () if shared is None else self.planner.told(planned, shared.troubles),
            Traffic() if shared is None else shared.traffic,
            _advice(planned, reports),
            records.story(reports),
        )

    def kept_report(self, planned: Planned, report: BuildReport) -> BuildReport:
        """The report of the next build, when nothing has changed since this one: all steps are kept."""
        kept = [StepReport(one.step, "kept", one.fingerprint, outputs=one.outputs) for one in report.steps]
        saved = Records(self.project).saved(planned.name, kept)
        # What was resolved anew is in the lock now; shelves that are not as locked stay so.
        notes = self._notes(replace(planned, moved=tuple(self.planner.moved_shelves())), kept, Sandbox())
        return replace(report, steps=tuple(kept), notes=tuple(notes), published=False, saved=saved, warnings=NO_WARNINGS,
                       troubles=(), traffic=Traffic(), advice=_advice(planned, kept))  # fmt: skip

    def remember(
        self,
        question: Question,
        watch: Watch,
        planned: Planned,
        report: BuildReport,
        shown: Callable[[BuildReport], dict[str, object]],
    ) -> None:
        """Keeps what a build that went well followed from, so that the same question is answered without planning while none
        of it changes. `shown` makes a report's values for JSON."""
        project = self.project
        workspace = project.workspace
        kept = self.kept_report(planned, report)
        places = [workspace.root, *(shelf.folder for shelf in workspace.shelves.values())]
        trees = [place / f"{kind}s" for place in places for kind in SHAPES]
        trees += [workspace.root / one.clone for one in workspace.settings.shelf if one.git]
        trees += [project.root / EDITS]
        files = [settings_file(), project.lock.file, *(workspace.root / name for name in (FILE, LOCAL_FILE))]
        files += [place / "shelf.toml" for place in places]
        digests = {one.fingerprint: tuple(one.outputs.values()) for one in report.steps}
        left = Left(Publisher(project).files_of(planned.name), project.store.root, digests)
        about = KeptBuild(planned.name, len(kept.steps), kept.notes, msgspec.json.encode(shown(kept)))
        remember_build(question, watch, about, files, trees, left)

    def _notes(self, planned: Planned, reports: Sequence[StepReport], sandbox: Sandbox) -> list[str]:
        """What a user ought to hear of a build, in sentences."""
        project = self.project
        ran = any(report.how == "ran" for report in reports)
        silenced = planned.composition.product.value.silence
        known = [(report.step.subject, note) for report in reports for note in report.notes]
        notes = [f"{subject}: {note.text}" for subject, note in known if note.code not in silenced]
        if ran and sandbox.note:
            notes.append(sandbox.note)
        edits = sorted(path.parent.name for path in (project.root / EDITS).glob("*/.git"))
        built = {step.subject.removesuffix(" (host)") for step in planned.graph.steps}
        notes += [f"{name} is built from {EDITS}/{name}, until `yarrik edit {name} --close`" for name in edits if name in built]
        notes += diversion_notes(project, built)
        notes += [f"not as yarrik.lock had it: {one}" for one in planned.moved[:_MOST_MOVED]]
        if len(planned.moved) > _MOST_MOVED:
            notes.append(
                f"and {len(planned.moved) - _MOST_MOVED} more; `git diff yarrik.lock` shows all that were resolved anew"
            )
        notes += [f"{one.what} ({one.place})" for one in planned.warnings if one.code not in silenced]
        hidden = sum(note.code in silenced for _, note in known) + sum(one.code in silenced for one in planned.warnings)
        if hidden:
            notes.append(
                f"{counted(hidden, 'warning')} silenced; yarrik show {planned.composition.product.name} silence says why"
            )
        if project.store.damages:
            lost = dict.fromkeys(f"{one.path.parent.parent.name}/{one.path.name[:12]}…" for one in project.store.damages[:3])
            notes.append(f"the cache was damaged, and what was lost is made again: {listed(lost)}; see `yarrik cache verify`")
        return notes

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
        self._send_rest(listener)
        count = {
            how: sum(report.how == how for report in reports) for how in ("shared", "kept", "ran", "not reached", "failed")
        }
        missing = count["not reached"] + count["failed"]
        return count["shared"], count["kept"] + count["ran"], missing, shared.troubles

    def fetch(self, planned: Planned, listener: Listener = silent) -> list[Step]:
        """Brings all sources of a product into the cache, so that a build needs no network. Returns the steps of it. Clones
        that sources are diverted to move to where their branches are now."""
        for name in sorted({node.recipe for node in planned.graph.order.nodes}):
            diversion = diversion_of(self.project, name)
            if diversion is not None:
                renew_diversion(self.project, name, diversion)
        graph = planned.graph
        steps = tuple(step for step in graph.steps if step.kind == "fetch")
        self.run_steps(replace(planned, graph=Graph(graph.product, steps, graph.order, {})), listener)
        return list(steps)

    def run_steps(self, planned: Planned, listener: Listener = silent) -> tuple[dict[str, Mapping[str, str]], Sandbox]:
        """Runs the steps of a plan; the outputs of each by name, and the sandbox. Raises YarrikError with what failed."""
        reports, sandbox = self._run(planned, None, False, listener)
        self.project.save_digests()
        self._send_rest(listener)
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
        project, surroundings = self.project, planned.surroundings
        self.planner.check_terms(planned)
        project.write_lock()
        programs = tuple(sorted({p for toolchain in surroundings.toolchains.values() for p in toolchain.programs[:1]}))
        sandbox = Sandbox(programs, surroundings.look, allowed=project.choices.use_sandbox)

        def before_first() -> None:
            self.planner.check_programs(planned)
            project.prepare_folder()

        settings = Settings(
            jobs or project.settings.jobs or os.cpu_count() or 1,
            keep_going,
            project.choices.offline,
            run_nothing,
            run_all=project.choices.clean_room,
            redirect_hosts=tuple(project.settings.redirect_hosts),
            archives=lambda: project.debian_archives.archives,
        )
        execution = Execution(
            planned.graph,
            project.store,
            project.memory,
            sandbox,
            project.folder,
            settings,
            listener,
            before_first,
            self.planner.difference(planned),
            project.shared,
        )
        with in_use(project.store):
            try:
                reports = execution.run()
            except BaseException:
                if project.shared is not None:
                    project.shared.stop()
                raise
            project.store.mark_used(report.fingerprint for report in reports if report.fingerprint)
        return reports, sandbox

    def _send_rest(self, listener: Listener) -> None:
        """Waits until shared caches have what was built. Ctrl-C leaves the rest for `yarrik cache push`."""
        shared = self.project.shared
        if shared is None:
            return
        try:
            with in_use(self.project.store):
                shared.close(lambda left: listener(Sending(left)))
        except KeyboardInterrupt:
            shared.stop()


def _advice(planned: Planned, reports: Sequence[StepReport]) -> tuple[Advice, ...]:
    """What has a code and is not silenced: of steps, and of the definitions."""
    silenced = planned.composition.product.value.silence
    found = [Advice(note.code, report.step.subject, note.text) for report in reports for note in report.notes if note.code]
    found += [Advice(one.code, planned.name, one.what, one.place) for one in planned.warnings]
    return tuple(one for one in found if one.code not in silenced)
