"""Runs a graph: does what the schedule says, with threads, the job budget and the claims, and reports to it what came of it."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Collection, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO, assert_never

import msgspec

from yarrik.cache import Claims
from yarrik.errors import YarrikError
from yarrik.plan import FetchFile, FetchRuntime, PrepareFolder, RunCommands, fingerprint_of, parts_of
from yarrik.run.budget import JobBudget
from yarrik.run.events import StepEnded, StepStarted, StepWaits, StillRunning, SubjectEnded, Warned
from yarrik.run.results import StepReport, private_steps
from yarrik.run.room import short_of_room
from yarrik.run.schedule import Ask, Claim, Give, Load, Look, Mend, Refill, Rules, Schedule, Start, Take
from yarrik.run.tally import Tally
from yarrik.run.work_folders import WorkFolders
from yarrik.run.worker import Worker

if TYPE_CHECKING:
    from yarrik.cache import Holder, Memory, Shared, Store
    from yarrik.plan import Difference, Graph, Step
    from yarrik.run.events import Listener
    from yarrik.run.sandbox import Sandbox
    from yarrik.run.schedule import Instruction
    from yarrik.run.worker import Settings

#: Results that are asked of shared caches at a time: it is the way there that takes long, not the work.
ASKING = 8


class Execution(msgspec.Struct):
    """One run through a graph. `folder` is the workspace's own `.yarrik`; `shared` are caches of others, if there are any.
    `before_first` is called before the first step runs, and may raise YarrikError. `kept` are the outputs of steps that the
    graph needs and has not; `private` are the names of those whose results go nowhere else, if they are known."""

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
    kept: Mapping[str, Mapping[str, str]] = msgspec.field(default_factory=dict)
    private: set[str] | None = None

    def run(self) -> list[StepReport]:
        """Returns a report for each step, in the graph's order; failed steps carry their error.

        When a step trips over a hole in the cache, what left the hole is run again, and then the rest. Raises MissingObject for
        a hole that is left by a step which the graph has not."""
        with ExitStack() as open_:
            runner = _Runner(self, open_)
            try:
                runner.run()
            except BaseException:
                self.sandbox.stop()
                raise
        return runner.result()


class _Runner:
    """What one run holds open, and what it knows of its steps."""

    def __init__(self, execution: Execution, open_: ExitStack) -> None:
        self.all = execution
        graph, settings = execution.graph, execution.settings
        self.steps = {step.name: step for step in graph.steps}
        self.subjects: dict[str, list[str]] = {}
        for name, step in self.steps.items():
            self.subjects.setdefault(step.subject, []).append(name)
        # Of a few steps the memory is asked for these alone.
        names = list(self.steps) if execution.kept else None
        self.costs = execution.memory.costs(graph.product, names)
        self.seconds = {name: cost.seconds for name, cost in self.costs.items()}
        loads = {name: Load(max(1, one.bounds.weight), one.bounds.memory) for name, one in self.steps.items()}
        needs = {name: [one for one in step.needs if one in self.steps] for name, step in self.steps.items()}
        private = private_steps(graph) if execution.private is None else execution.private
        rules = _rules(graph, settings, private, execution.shared is not None)
        self.schedule = Schedule(needs, self.seconds, Load(settings.jobs, _memory_here()), loads, rules)
        self.tally = Tally(len(self.steps), self.seconds, settings.jobs, self.schedule.path)

        work = WorkFolders(execution.folder / "work")
        open_.callback(work.close)
        self.budget = execution.sandbox.budget = JobBudget(settings.jobs)
        open_.callback(self.budget.close)
        self.claims = Claims(execution.store, str(execution.folder.parent), graph.product)
        open_.callback(self.claims.close)
        open_.callback(setattr, execution.sandbox, "budget", None)
        self.pool = ThreadPoolExecutor(settings.jobs, thread_name_prefix="step")
        self.asking = ThreadPoolExecutor(ASKING, thread_name_prefix="ask")
        for pool in (self.pool, self.asking):
            open_.callback(pool.shutdown, wait=True, cancel_futures=True)
        self.worker = Worker(
            graph, execution.store, execution.memory, execution.sandbox, execution.folder, settings, execution.difference,
            execution.shared, work, execution.memory.last_runs(graph.product, names), private,
            kept=execution.kept,
        )  # fmt: skip

        self.reports: dict[str, StepReport] = {}
        #: Reports of what ran before damage was mended: it is kept when it is looked up again.
        self.made: dict[str, StepReport] = {}
        #: Fingerprint and inputs of the steps that were looked up and are not settled.
        self.missing: dict[str, tuple[str, dict[str, str]]] = {}
        self.asked: dict[Future[StepReport | None], str] = {}
        self.running: dict[Future[StepReport], str] = {}
        self.claimed: dict[str, BinaryIO] = {}
        #: Steps that other processes run, with what is known of those.
        self.elsewhere: dict[str, Holder | None] = {}
        self.prepared = False
        self.heard = time.monotonic()

    def run(self) -> None:
        while True:
            while (instruction := self.schedule.next()) is not None:
                self._do(instruction)
            if self.schedule.over:
                break
            self._wait()
        self._give_up()

    def result(self) -> list[StepReport]:
        for name, report in self.reports.items():
            if report.how == "damaged":
                report.how = "failed"
            elif report.how == "kept" and name in self.made:
                self.reports[name] = self.made[name]
        return [self.reports[step.name] for step in self.all.graph.steps]

    def _do(self, instruction: Instruction) -> None:
        match instruction:
            case Look(name):
                self._look(name)
            case Ask(name):
                self.asked[self.asking.submit(self.worker.ask, self.steps[name], *self.missing[name])] = name
            case Refill():
                self.budget.refill()
            case Take(name, least, most):
                tokens = least + self.budget.take_some(most - least) if self.budget.take(least) else 0
                self.schedule.granted(name, tokens)
            case Claim(name):
                self._claim(name)
            case Start(name, jobs):
                self._start(name, jobs)
            case Give(tokens):
                self.budget.give(tokens)
            case Mend(names):
                self._mend(names)
            case _:
                assert_never(instruction)

    def _wait(self) -> None:
        """Waits for something to happen, and reports it to the schedule."""
        futures: list[Future[Any]] = [*self.running, *self.asked]
        finished: Collection[Future[Any]] = ()
        if futures:
            busy = self.schedule.starved or bool(self.elsewhere)
            finished, _ = wait(futures, timeout=0.1 if busy else 1.0, return_when=FIRST_COMPLETED)
        else:
            time.sleep(0.1)
        self._look_elsewhere()
        if not finished and time.monotonic() - self.heard >= 1:
            self.heard = time.monotonic()
            self.all.listener(StillRunning(self.tally.progress, dict(self.worker.doing)))
        for future in finished:
            if future in self.asked:
                self._answered(future)
            else:
                self._ended(future)
        self.schedule.tick()

    def _look(self, name: str) -> None:
        step = self.steps[name]
        again = name in self.missing
        if not again:
            inputs = {label: self._outputs(needed)[output] for label, (needed, output) in step.inputs.items()}
            self.missing[name] = fingerprint_of(step, inputs), inputs
        if not self._kept(name, heard=again):
            self.schedule.missing(name)

    def _outputs(self, name: str) -> Mapping[str, str]:
        return self.reports[name].outputs if name in self.reports else self.all.kept[name]

    def _kept(self, name: str, heard: bool) -> bool:
        """Settles a step whose result is kept; `heard` when the listener knows that there was none a while ago."""
        report = self.worker.found(self.steps[name], *self.missing[name])
        if report is None:
            return False
        self._settle(name, report)
        if heard:
            self.all.listener(StepEnded(name, "kept", 0.0, self.tally.progress))
        return True

    def _claim(self, name: str) -> None:
        self._prepare()
        step, (fingerprint, _) = self.steps[name], self.missing[name]
        try:
            claim = self.claims.take(fingerprint)
        except YarrikError as error:  # the cache cannot be written
            self._settle(name, StepReport(step, "failed", fingerprint, error=YarrikError(error.troubles, "work")))
            return
        if claim is None:
            self._leave_to_others(name, fingerprint)
        elif self._kept(name, heard=True):  # another process may have run it since it was looked up
            claim.close()
        else:
            self.claimed[name] = claim
            self.schedule.claimed(name)

    def _prepare(self) -> None:
        """Before the first step runs."""
        if self.prepared:
            return
        self.prepared = True
        self.all.before_first()
        to_run = self.worker.expected(self.reports)
        short = short_of_room(to_run, self.costs, self.all.folder, self.all.store.root, self.all.settings.jobs)
        if short is not None:
            self.all.listener(Warned(short))
        self.tally.expect(to_run, self.reports)

    def _start(self, name: str, jobs: int) -> None:
        step, (fingerprint, inputs) = self.steps[name], self.missing[name]
        parts = parts_of(step, inputs)
        reason = self.worker.reason(step, parts)
        self.tally.started(name)
        self.all.listener(StepStarted(name, reason, self.tally.progress, self.seconds.get(name)))
        claim = self.claimed.pop(name)
        self.running[self.pool.submit(self.worker.perform, step, inputs, parts, fingerprint, reason, jobs, claim)] = name

    def _leave_to_others(self, name: str, fingerprint: str) -> None:
        self.schedule.held(name)
        holder = self.claims.holder(fingerprint)
        if name not in self.elsewhere or self.elsewhere[name] != holder:
            self.elsewhere[name] = holder
            known = (holder.process, holder.workspace, holder.product) if holder is not None else ()
            self.all.listener(StepWaits(name, self.tally.progress, *known))

    def _look_elsewhere(self) -> None:
        """Looks after the steps that other processes run: their claims end with them."""
        for name in list(self.elsewhere):
            if name not in self.schedule.elsewhere:  # given up
                del self.elsewhere[name]
            elif (claim := self.claims.take(self.missing[name][0])) is not None:
                claim.close()
                del self.elsewhere[name]
                self.schedule.released(name)

    def _answered(self, future: Future[StepReport | None]) -> None:
        name = self.asked.pop(future)
        report = future.result()
        if report is None:
            self.schedule.missing(name)
            return
        self._settle(name, report)
        if report.how == "shared":
            self.all.listener(StepEnded(name, "shared", report.brought, self.tally.progress))

    def _ended(self, future: Future[StepReport]) -> None:
        name = self.running.pop(future)
        report = future.result()
        self._settle(name, report)
        what = report.error.troubles[0].what if report.error is not None else ""
        self.all.listener(StepEnded(name, report.how, report.seconds, self.tally.progress, what, report.same))
        if report.how != "damaged":
            self._report_subject(report.step.subject)

    def _settle(self, name: str, report: StepReport) -> None:
        self.reports[name] = report
        self.missing.pop(name, None)
        self.tally.settled(name, report.how)
        match report.how:
            case "kept":
                self.schedule.kept(name)
                self._report_subject(report.step.subject)
            case "shared":
                self.schedule.kept(name)
            case "ran":
                self.schedule.ran(name)
            case "damaged":
                self.schedule.damaged(name)
            case _:
                self.schedule.failed(name)
                self._give_up()

    def _give_up(self) -> None:
        for name in self.schedule.given_up - self.reports.keys():
            self.reports[name] = StepReport(self.steps[name], "not reached")

    def _mend(self, names: tuple[str, ...]) -> None:
        found = self.worker.forget_damaged([self.reports[name] for name in names], self.reports)
        self.schedule.mended(found)
        if not self.schedule.over:
            self.made |= {name: report for name, report in self.reports.items() if report.how in ("ran", "shared")}
            self.reports, self.missing, self.prepared = {}, {}, False
            self.tally.begin()

    def _report_subject(self, subject: str) -> None:
        """Reports a subject once all its steps are settled and some of them ran."""
        names = self.subjects[subject]
        if all(name in self.reports for name in names):
            ran = [report for name in names if (report := self.reports[name]).how in ("ran", "failed")]
            if ran:
                kinds = tuple(report.step.kind for report in ran)
                seconds = sum(report.seconds for report in ran)
                failed = any(report.how == "failed" for report in ran)
                self.all.listener(SubjectEnded(subject, kinds, seconds, ran[0].reason, failed, ran[-1].same))


def _rules(graph: Graph, settings: Settings, private: set[str], shares: bool) -> Rules:
    # What only takes a file of this machine is done sooner than asked for.
    local = {step.name for step in graph.steps if isinstance(step.action, (FetchFile, FetchRuntime, PrepareFolder))}
    return Rules(
        asks={step.name for step in graph.steps} - private - local if shares else (),
        runs=local if settings.run_nothing else None,
        greedy={step.name for step in graph.steps if _counts_jobs(step)},
        keep_going=settings.keep_going,
    )


def _counts_jobs(step: Step) -> bool:
    """Whether a step's tools get a number of jobs, and do not take part in the budget by themselves as make does."""
    commands = step.action.commands if isinstance(step.action, RunCommands) else ()
    return any("{jobs}" in word and word != "-j{jobs}" for command in commands for word in command)


def _memory_here() -> int:
    """The machine's memory in bytes, less what everything else needs."""
    return int(os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") * 0.9)
