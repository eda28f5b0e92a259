"""Runs a graph: keeps what is kept, runs what has to run, in parallel, and remembers the reasons."""

from __future__ import annotations

import itertools
import os
import stat
import time
from collections.abc import Callable, Collection, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

from yarrik.beneath import Folder, NotPlain
from yarrik.cache import Claims, Cost, Holder, LastRun, Memory, MissingObject, Result, Store
from yarrik.errors import Damaged, Place, Trouble, Unfit, YarrikError, printable
from yarrik.plan import (
    FetchFile,
    FetchRuntime,
    Graph,
    PrepareFolder,
    RunCommands,
    Step,
    assess,
    fingerprint_of,
    parts_of,
    reason_for,
)
from yarrik.plan.reasons import Difference
from yarrik.run.budget import JobBudget
from yarrik.run.events import How, Listener, Progress, StepEnded, StepStarted, StepWaits, StillRunning, SubjectEnded, Warned
from yarrik.run.perform import Context, perform
from yarrik.run.results import StepReport, kept_outputs, private_steps, still_there
from yarrik.run.room import new_bytes, short_of_room
from yarrik.run.sandbox import Sandbox
from yarrik.run.schedule import UNKNOWN_SECONDS, Load, Schedule
from yarrik.run.step_logs import known_cause, last_lines, log_path, new_log, telling_lines
from yarrik.run.work_folders import WorkFolders

if TYPE_CHECKING:
    from yarrik.cache.shared import Shared

#: Results that are asked of shared caches at a time: it is the way there that takes long, not the work.
ASKING = 8
#: Damage is found where a step trips over it; one that goes deep shows piece by piece.
_MENDINGS = 12
_HOLE = "CACHE-HOLE"


@dataclass(frozen=True)
class Settings:
    """How a graph is run. `run_nothing` takes only results that exist, `run_all` takes none. `redirect_hosts` are hosts that
    a download may be redirected to."""

    jobs: int
    keep_going: bool = False
    offline: bool = False
    run_nothing: bool = False
    run_all: bool = False
    redirect_hosts: tuple[str, ...] = ()


@dataclass
class Execution:
    """One run through a graph. `folder` is the workspace's own `.yarrik`; `shared` are caches of others, if there are any.
    `before_first` is called before the first step runs, and may raise YarrikError."""

    graph: Graph
    store: Store
    memory: Memory
    sandbox: Sandbox
    folder: Path
    settings: Settings
    listener: Listener
    before_first: Callable[[], None]
    difference: Difference
    shared: Shared | None = None
    reports: dict[str, StepReport] = field(default_factory=dict)
    #: What steps say they are at, by name.
    doing: dict[str, str] = field(default_factory=dict)
    _last: Mapping[str, LastRun] = field(default_factory=dict)
    _began: float = field(default_factory=time.monotonic)

    def run(self) -> list[StepReport]:
        """Returns a report for each step, in the graph's order; failed steps carry their error.

        When a step trips over a hole in the cache, what left the hole is run again, and then the rest."""
        self._last = self.memory.last_runs(self.graph.product)
        ran: dict[str, StepReport] = {}
        for _ in range(_MENDINGS):
            round_ = _Round(self)
            round_.run()
            self.reports = round_.reports
            ran |= {name: report for name, report in self.reports.items() if report.how in ("ran", "shared")}
            if not self._mended():
                break
        for report in self.reports.values():
            if report.how == "damaged":
                report.how = "failed"
        self.reports |= {name: report for name, report in ran.items() if self.reports[name].how == "kept"}
        return [self.reports[step.name] for step in self.graph.steps]

    def _mended(self) -> bool:
        """Forgets the results that failed steps found holes in; whether there were any, so that another try makes sense."""
        damaged = [report for report in self.reports.values() if report.how == "damaged"]
        if not damaged:
            return False
        before: dict[str, None] = {}
        waiting = [name for report in damaged for name in report.step.needs]
        while waiting:
            name = waiting.pop()
            if name not in before:
                before[name] = None
                waiting.extend(self.reports[name].step.needs)
        known = dict.fromkeys(digest for name in before for digest in self.reports[name].outputs.values())
        holes = [digest for digest in known if not self.store.whole(digest)]
        if not holes:
            # Something is missing that no tree names, only a document: the step that left the document makes it again.
            holes = [self.reports[needed].outputs[output] for one in damaged for needed, output in one.step.inputs.values()]
        for digest in holes:
            self.store.drop(digest)
        return bool(holes)

    def kept(self, step: Step, fingerprint: str, inputs: Mapping[str, str]) -> StepReport | None:
        """The report of a step whose result is kept, here or by another workspace that shares the cache."""
        if self.settings.run_all:
            return None
        last = self._last.get(step.name)
        if still_there(self.store, last, fingerprint):
            assert last is not None
            return StepReport(step, "kept", fingerprint, outputs=last.outputs)
        result = self.store.result(fingerprint)
        if result is None:
            return None
        return self._taken(step, "kept", fingerprint, inputs, result)

    def ask(self, step: Step, fingerprint: str, inputs: Mapping[str, str]) -> StepReport | None:
        """The report of a step whose result a shared cache has; it is in the store then."""
        assert self.shared is not None
        started = time.monotonic()
        result = self.shared.bring(fingerprint)
        if result is None:
            return None
        report = self._taken(step, "shared", fingerprint, inputs, result)
        report.brought = time.monotonic() - started
        return report

    def _taken(self, step: Step, how: How, fingerprint: str, inputs: Mapping[str, str], result: Result) -> StepReport:
        run = LastRun.of(fingerprint, parts_of(step, inputs), dict(result.outputs))
        self.memory.remember(self.graph.product, step.name, run)
        seconds = result.seconds if how == "shared" else 0.0
        return StepReport(step, how, fingerprint, outputs=result.outputs, notes=result.notes, log=result.log, seconds=seconds)

    def reason(self, step: Step, parts: dict[str, str]) -> str:
        reason = reason_for(step, parts, self._last.get(step.name), self.difference)
        return reason.text if reason is not None else "the cache does not have its result"

    def expected(self) -> set[str]:
        """The names of the steps that run, or may."""

        def lookup(name: str, fingerprint: str) -> Mapping[str, str] | None:
            return kept_outputs(self.store, self._last.get(name), fingerprint)

        found = assess(self.graph, lookup, self._last, lambda before, after: [])
        return {one.step.name for one in found if one.verdict != "kept"}

    def perform(
        self,
        step: Step,
        inputs: Mapping[str, str],
        parts: dict[str, str],
        fingerprint: str,
        reason: str,
        work: WorkFolders,
        private: bool,
        jobs: int,
        claim: BinaryIO,
    ) -> StepReport:
        """Runs a step that is claimed; the claim ends with it."""
        started = time.monotonic()
        taken = 0
        try:
            with claim:
                result = self.store.result(fingerprint)
                if result is None:
                    result, taken = self._run(step, inputs, fingerprint, work, jobs)
        except MissingObject as error:
            report = self._failed(step, fingerprint, reason, started, _hole(self.store, str(error)))
            report.how = "damaged"
            return report
        except YarrikError as error:
            report = self._failed(step, fingerprint, reason, started, error)
            if self._has_damaged_inputs(inputs):
                report.how = "damaged"
            return report
        except NotPlain as error:
            trouble = Trouble(
                "STEP-LEFT-LINK", f"step `{step.name}` failed: in its folder, {error.filename} {error.strerror}",
                why="a step's results are taken from its own folder only, and no link in it is followed",
                remedy="let the step's commands leave a folder or file there",
            )  # fmt: skip
            return self._failed(step, fingerprint, reason, started, YarrikError(trouble, "work"))
        except OSError as error:
            what = f"step `{step.name}` failed: {error.strerror or error}"
            remedy = "check the disk's free space and your rights, then build again"
            trouble = Trouble("STEP-FAILED", what, Place(Path(str(error.filename)) if error.filename else None), remedy=remedy)
            return self._failed(step, fingerprint, reason, started, YarrikError(trouble, "work"))
        except (Damaged, Unfit) as error:
            remedy = f"look at what goes into it: yarrik enter {step.subject}"
            trouble = Trouble("STEP-FAILED", f"step `{step.name}` failed: {error}", remedy=remedy)
            return self._failed(step, fingerprint, reason, started, YarrikError(trouble, "work"))
        last = self._last.get(step.name)
        same = last is not None and dict(last.outputs) == dict(result.outputs)
        self.memory.remember(self.graph.product, step.name, LastRun.of(fingerprint, parts, dict(result.outputs)))
        seconds = time.monotonic() - started
        self.memory.took(self.graph.product, step.name, Cost(seconds, taken, new_bytes(self.store, result.outputs, inputs)))
        if self.shared is not None and not private:
            self.shared.offer(fingerprint, result)
        return StepReport(
            step, "ran", fingerprint, reason, seconds, same, result.outputs, result.notes, result.log,
            began=started - self._began,
        )  # fmt: skip

    def _run(self, step: Step, inputs: Mapping[str, str], fingerprint: str, work: WorkFolders, jobs: int) -> tuple[Result, int]:
        started = time.monotonic()
        log_file = log_path(self.folder, self.graph.product, step.name)
        with new_log(log_file) as log, work.folder() as folder, Folder.at(folder) as below:
            context = Context(
                step, inputs, self.store, self.sandbox, folder, below, log, jobs, offline=self.settings.offline,
                redirect_hosts=self.settings.redirect_hosts, tell=lambda text: self.doing.update({step.name: text}),
            )  # fmt: skip
            try:
                outputs = perform(step.action, context)
            except YarrikError as error:
                for trouble in error.troubles:
                    context.say(f"{trouble.code}: {trouble.what}")
                raise
            finally:
                self.doing.pop(step.name, None)
            taken = _bytes_below(below)
        result = Result(
            outputs, tuple(map(printable, context.notes)), self.store.put_file(log_file), time.monotonic() - started
        )
        self.store.put_result(fingerprint, result)
        return result, taken

    def _has_damaged_inputs(self, inputs: Mapping[str, str]) -> bool:
        """Whether a file that a failed step was given is not what its digest says, though its time says so: then it is taken
        out, and made again."""
        wanted: list[str] = []
        for digest in inputs.values():
            try:
                wanted += [entry.content for entry in self.store.tree(digest).files]
            except MissingObject:
                wanted.append(digest)
        try:
            self.store.read_again(wanted)
        except MissingObject:
            return True
        return False

    def _failed(self, step: Step, fingerprint: str, reason: str, started: float, error: YarrikError) -> StepReport:
        seconds = time.monotonic() - started
        log = log_path(self.folder, self.graph.product, step.name)
        troubles = []
        for trouble in error.troubles:
            if trouble.code == "STEP-FAILED" and not trouble.remedy:
                enter = f"yarrik enter {step.subject}" + ("" if step.kind == "build" else f" {step.kind}")
                lines = last_lines(log)
                heading, telling = telling_lines(log)
                tail = "\n".join(f"  {line}" for line in telling)
                code, cause, remedy = known_cause(lines)
                trouble = Trouble(
                    code or trouble.code,
                    f"step `{step.name}` failed: {cause or trouble.what}",
                    Place(log),
                    why=f"{heading}:\n{tail}" if tail else "",
                    remedy=remedy or f"read it all: yarrik log {step.kind} {step.subject}; try it by hand: {enter}",
                )
            troubles.append(trouble)
        began = started - self._began
        return StepReport(step, "failed", fingerprint, reason, seconds, error=YarrikError(troubles, "work"), began=began)


class _Round:
    """One way through the steps of an execution: asks the schedule, does what it says, and tells it what came of it."""

    def __init__(self, execution: Execution) -> None:
        self.all = execution
        self.steps = {step.name: step for step in execution.graph.steps}
        self.costs = execution.memory.costs(execution.graph.product)
        self.seconds = {name: cost.seconds for name, cost in self.costs.items()}
        self.loads = {name: Load(max(1, one.bounds.weight), one.bounds.memory) for name, one in self.steps.items()}
        needs = {name: step.needs for name, step in self.steps.items()}
        self.schedule = Schedule(needs, self.seconds, Load(execution.settings.jobs, _memory_here()), self.loads)
        self.subjects: dict[str, list[str]] = {}
        self.private = private_steps(execution.graph)
        for name, step in self.steps.items():
            self.subjects.setdefault(step.subject, []).append(name)
        self.reports: dict[str, StepReport] = {}
        self.asked: dict[Future[StepReport | None], str] = {}
        self.running: dict[Future[StepReport], str] = {}
        self.since: dict[str, float] = {}
        self.tokens: dict[str, int] = {}
        self.waiting: dict[str, tuple[str, dict[str, str]]] = {}
        self.to_run: set[str] | None = None
        self.work_left = 0.0
        self.counts: dict[How, int] = {}
        self.claims = Claims(execution.store, str(execution.folder.parent), execution.graph.product)
        #: Steps that other processes run, with what is known of those.
        self.elsewhere: dict[str, Holder | None] = {}
        self.told = time.monotonic()

    def run(self) -> None:
        budget = self.all.sandbox.budget = JobBudget(self.all.settings.jobs)
        pool = ThreadPoolExecutor(self.all.settings.jobs, thread_name_prefix="step")
        asking = ThreadPoolExecutor(ASKING, thread_name_prefix="ask") if self.all.shared is not None else None
        work = WorkFolders(self.all.folder / "work")
        try:
            while not self.schedule.over:
                self._look(asking)
                self._start(pool, budget, work)
                futures: list[Future[Any]] = [*self.running, *self.asked]
                if not futures and not self.elsewhere:
                    continue
                free = not self.schedule.idle and len(self.running) < self.all.settings.jobs
                finished: Collection[Future[Any]] = ()
                if futures:
                    finished, _ = wait(futures, timeout=0.1 if free or self.elsewhere else 1.0, return_when=FIRST_COMPLETED)
                else:
                    time.sleep(0.1)
                self._look_elsewhere()
                if not finished and time.monotonic() - self.told >= 1:
                    self.told = time.monotonic()
                    self.all.listener(StillRunning(self._progress(), dict(self.all.doing)))
                for future in finished:
                    if future in self.asked:
                        self._answered(future)
                    else:
                        self._ended(future, budget)
            for given_up in sorted(self.schedule.given_up):
                self.reports.setdefault(given_up, StepReport(self.steps[given_up], "not reached"))
        except BaseException:
            self.all.sandbox.stop()
            raise
        finally:
            for one in (asking, pool):
                if one is not None:
                    one.shutdown(wait=True, cancel_futures=True)
            self.all.sandbox.budget = None
            self.claims.close()
            budget.close()
            work.close()

    def _look(self, asking: ThreadPoolExecutor | None) -> None:
        """Looks all steps up that can be: what is kept is done, of the rest others are asked, or it has to run."""
        while (name := self.schedule.look()) is not None:
            step = self.steps[name]
            inputs = {label: self.reports[needed].outputs[output] for label, (needed, output) in step.inputs.items()}
            fingerprint = fingerprint_of(step, inputs)
            report = self.all.kept(step, fingerprint, inputs)
            if report is not None:
                self._settle(name, report)
                continue
            self.waiting[name] = (fingerprint, inputs)
            # What only takes a file of this machine is done sooner than asked for.
            local = isinstance(step.action, (FetchFile, FetchRuntime, PrepareFolder))
            if self.all.settings.run_nothing and (asking is None or name in self.private) and not local:
                self._settle(name, StepReport(step, "not reached"))
            elif asking is not None and name not in self.private and not local:
                self.asked[asking.submit(self.all.ask, step, fingerprint, inputs)] = name
            else:
                self.schedule.must_run(name)

    def _start(self, pool: ThreadPoolExecutor, budget: JobBudget, work: WorkFolders) -> None:
        """Starts what there is room for."""
        while (name := self.schedule.take()) is not None:
            if not self.running:
                budget.refill()
            if not budget.take(self.loads[name].jobs):  # the tools of the steps that run have all there is
                self.schedule.hand_back(name)
                break
            if self.to_run is None:
                self.all.before_first()
                self.to_run = self.all.expected()
                short = short_of_room(self.to_run, self.costs, self.all.folder, self.all.store.root, self.all.settings.jobs)
                if short is not None:
                    self.all.listener(Warned(short))
                self.work_left = sum(self.seconds.get(one, UNKNOWN_SECONDS) for one in self.to_run - self.reports.keys())
            step = self.steps[name]
            fingerprint, inputs = self.waiting[name]
            try:
                claim = self.claims.take(fingerprint)
            except YarrikError as error:  # the cache cannot be written
                budget.give(self.loads[name].jobs)
                self._settle(name, StepReport(step, "failed", fingerprint, error=YarrikError(error.troubles, "work")))
                continue
            if claim is None:
                budget.give(self.loads[name].jobs)
                self._leave_to_others(name, fingerprint)
                continue
            if self._kept_by_now(name):  # another process may have run it since it was looked up
                claim.close()
                budget.give(self.loads[name].jobs)
                continue
            self.tokens[name] = self.loads[name].jobs
            if _counts_jobs(step):
                # It cannot ask for more later, so it gets now what nobody else waits for.
                spare = self.all.settings.jobs - len(self.running) - 1 - self.schedule.waiting
                self.tokens[name] += budget.take_some(spare)
            del self.waiting[name]
            parts = parts_of(step, inputs)
            text = self.all.reason(step, parts)
            self.since[name] = time.monotonic()
            self.all.listener(StepStarted(name, text, self._progress(), self.seconds.get(name)))
            future = pool.submit(
                self.all.perform, step, inputs, parts, fingerprint, text, work, name in self.private, self.tokens[name], claim
            )  # fmt: skip
            self.running[future] = name

    def _leave_to_others(self, name: str, fingerprint: str) -> None:
        self.schedule.leave_to_others(name)
        holder = self.claims.holder(fingerprint)
        if name not in self.elsewhere or self.elsewhere[name] != holder:
            self.elsewhere[name] = holder
            told = (holder.process, holder.workspace, holder.product) if holder is not None else ()
            self.all.listener(StepWaits(name, self._progress(), *told))

    def _look_elsewhere(self) -> None:
        """Looks after the steps that other processes run: each is kept now, still running, or has to run here after all."""
        for name in list(self.elsewhere):
            if name not in self.schedule.elsewhere:  # given up
                del self.elsewhere[name]
            elif (claim := self.claims.take(self.waiting[name][0])) is not None:
                del self.elsewhere[name]
                if not self._kept_by_now(name):
                    self.schedule.must_run(name)
                claim.close()

    def _kept_by_now(self, name: str) -> bool:
        """Settles a step whose result another process has made in the meantime."""
        fingerprint, inputs = self.waiting[name]
        report = self.all.kept(self.steps[name], fingerprint, inputs)
        if report is None:
            return False
        del self.waiting[name]
        self._settle(name, report)
        self.all.listener(StepEnded(name, "kept", 0.0, self._progress()))
        return True

    def _answered(self, future: Future[StepReport | None]) -> None:
        name = self.asked.pop(future)
        report = future.result()
        if report is None and self.all.settings.run_nothing:
            report = StepReport(self.steps[name], "not reached")
        if report is None:
            self.schedule.must_run(name)
            return
        self._settle(name, report)
        if report.how == "shared":
            self.all.listener(StepEnded(name, "shared", report.brought, self._progress()))

    def _ended(self, future: Future[StepReport], budget: JobBudget) -> None:
        name = self.running.pop(future)
        budget.give(self.tokens.pop(name))
        self._settle(name, future.result())
        report = self.reports[name]
        what = report.error.troubles[0].what if report.error is not None else ""
        self.all.listener(StepEnded(name, report.how, report.seconds, self._progress(), what, report.same))
        if report.how != "damaged":
            self._tell_if_ended(report.step.subject)

    def _settle(self, name: str, report: StepReport) -> None:
        self.reports[name] = report
        self.counts[report.how] = self.counts.get(report.how, 0) + 1
        self.since.pop(name, None)
        if self.to_run is not None and name in self.to_run:
            self.work_left -= self.seconds.get(name, UNKNOWN_SECONDS)
        if report.error is None and report.how != "not reached":
            self.schedule.finish(name)
            if report.how == "kept":
                self._tell_if_ended(report.step.subject)
            return
        self.schedule.fail(name)
        if not self.all.settings.keep_going:
            self.schedule.stop()
        for given_up in self.schedule.given_up - self.reports.keys():
            self.reports[given_up] = StepReport(self.steps[given_up], "not reached")

    def _tell_if_ended(self, subject: str) -> None:
        """Reports a subject once all its steps are settled and some of them ran."""
        names = self.subjects[subject]
        if all(name in self.reports for name in names):
            ran = [report for name in names if (report := self.reports[name]).how in ("ran", "failed")]
            if ran:
                kinds = tuple(report.step.kind for report in ran)
                seconds = sum(report.seconds for report in ran)
                failed = any(report.how == "failed" for report in ran)
                self.all.listener(SubjectEnded(ran[0].step.subject, kinds, seconds, ran[0].reason, failed, ran[-1].same))

    def _progress(self) -> Progress:
        left: float | None = None
        if self.to_run and sum(name in self.seconds for name in itertools.islice(self.to_run, 200)) * 2 >= min(
            200, len(self.to_run)
        ):
            now = time.monotonic()
            spent = {name: min(now - since, self.seconds.get(name, UNKNOWN_SECONDS)) for name, since in self.since.items()}
            ways = [self.schedule.way(name) - took for name, took in spent.items()]
            left = max((self.work_left - sum(spent.values())) / self.all.settings.jobs, *ways, 0.0, 0.0)
        count = self.counts.get
        return Progress(len(self.steps), count("kept", 0), count("shared", 0), count("ran", 0), left)


def _counts_jobs(step: Step) -> bool:
    """Whether a step's tools are told a number of jobs, and do not take part in the budget by themselves as make does."""
    commands = step.action.commands if isinstance(step.action, RunCommands) else ()
    return any("{jobs}" in word and word != "-j{jobs}" for command in commands for word in command)


def _memory_here() -> int:
    """The machine's memory in bytes, less what everything else needs."""
    return int(os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") * 0.9)


def _bytes_below(folder: Folder) -> int:
    """The bytes that a folder takes on the disk; what lies in the store too (a hard link) does not count."""
    return sum(
        status.st_blocks * 512 for _, status, _ in folder.walk() if status.st_nlink == 1 and not stat.S_ISDIR(status.st_mode)
    )


def _hole(store: Store, digest: str) -> YarrikError:
    return YarrikError(
        Trouble(_HOLE, f"the cache lost the object {digest[:16]}…", Place(store.root),
                why="a step needs what an earlier step left there, and making it again did not bring it back",
                remedy="look for damage with `yarrik cache verify`, then build again"),
        "work",
    )  # fmt: skip
