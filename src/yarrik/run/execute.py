"""Runs a graph: keeps what is kept, runs what has to run, in parallel, and remembers the reasons."""

from __future__ import annotations

import os
import re
import shutil
import tempfile
import time
from collections.abc import Callable, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

import filelock

import yarrik.run.boot_steps
import yarrik.run.product  # noqa: F401 (both register the actions of products)
from yarrik.cache import LastRun, Memory, MissingObject, Result, Store
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.plan import Graph, Step, fingerprint_of, parts_of, reason_for
from yarrik.plan.reasons import Difference
from yarrik.run.budget import JobBudget
from yarrik.run.events import Listener, StepEnded, StepStarted, StillRunning, SubjectEnded
from yarrik.run.perform import Context, perform
from yarrik.run.sandbox import Sandbox
from yarrik.run.schedule import Schedule
from yarrik.toolchain import DEBIAN_PACKAGES

How = Literal["kept", "ran", "failed", "not reached"]
LAST_LINES = 12


@dataclass
class StepReport:
    """What became of one step. `same` tells that it ran and its result was the former one."""

    step: Step
    how: How
    fingerprint: str = ""
    reason: str = ""
    seconds: float = 0.0
    same: bool = False
    outputs: Mapping[str, str] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    log: str = ""
    error: YarrikError | None = None
    #: Seconds since the build began, for steps that ran.
    began: float = 0.0


@dataclass
class Execution:
    """One run through a graph. `folder` is the workspace's own `.yarrik`."""

    graph: Graph
    store: Store
    memory: Memory
    sandbox: Sandbox
    folder: Path
    jobs: int
    keep_going: bool
    listener: Listener
    before_first: Callable[[], None]
    difference: Difference
    offline: bool = False
    reports: dict[str, StepReport] = field(default_factory=dict)
    _last: Mapping[str, LastRun] = field(default_factory=dict)
    _began: float = field(default_factory=time.monotonic)

    def run(self) -> list[StepReport]:
        """Returns a report for each step, in the graph's order; failed steps carry their error."""
        steps = {step.name: step for step in self.graph.steps}
        took = self.memory.durations(self.graph.product)
        schedule = Schedule({step.name: step.needs for step in self.graph.steps}, took)
        subjects: dict[str, list[str]] = {}
        for step in self.graph.steps:
            subjects.setdefault(step.subject, []).append(step.name)
        self._last = self.memory.last_runs(self.graph.product)
        running: dict[Future[StepReport], str] = {}
        started = False
        pool = ThreadPoolExecutor(max_workers=self.jobs, thread_name_prefix="step")
        budget = self.sandbox.budget = JobBudget(self.jobs)
        try:
            while not schedule.over:
                while len(running) < self.jobs and (name := schedule.take()) is not None:
                    step = steps[name]
                    inputs = {label: self.reports[needed].outputs[output] for label, (needed, output) in step.inputs.items()}
                    fingerprint = fingerprint_of(step, inputs)
                    kept = self._kept(step, fingerprint, inputs)
                    if kept is not None:
                        self.reports[name] = kept
                        schedule.finish(name)
                        self._tell_if_ended(subjects[step.subject])
                        continue
                    if not running:
                        budget.refill()
                    if not budget.take():  # the tools of the steps that run have all there is
                        schedule.hand_back(name)
                        break
                    if not started:
                        self.before_first()
                        started = True
                    parts = parts_of(step, inputs)
                    last = self._last.get(name)
                    reason = reason_for(step, parts, last, self.difference)
                    text = reason.text if reason is not None else "its result is no longer in the cache"
                    self.listener(StepStarted(name, text, schedule.left, took.get(name)))
                    running[pool.submit(self._perform, step, inputs, parts, fingerprint, text)] = name
                if not running:
                    continue
                free = len(running) < self.jobs and not schedule.idle
                finished, _ = wait(running, timeout=0.1 if free else 1.0, return_when=FIRST_COMPLETED)
                if not finished:
                    self.listener(StillRunning())
                for future in finished:
                    name = running.pop(future)
                    budget.give()
                    report = self.reports[name] = future.result()
                    self.listener(StepEnded(name, report.how == "failed"))
                    if report.how == "failed":
                        schedule.fail(name)
                        if not self.keep_going:
                            schedule.stop()
                    else:
                        schedule.finish(name)
                    for given_up in schedule.given_up - self.reports.keys():
                        self.reports[given_up] = StepReport(steps[given_up], "not reached")
                    self._tell_if_ended(subjects[report.step.subject])
        except BaseException:
            self.sandbox.stop()
            raise
        finally:
            pool.shutdown(wait=True, cancel_futures=True)
            self.sandbox.budget = None
            budget.close()
        for name in schedule.given_up:
            self.reports.setdefault(name, StepReport(steps[name], "not reached"))
        return [self.reports[step.name] for step in self.graph.steps]

    def _tell_if_ended(self, names: list[str]) -> None:
        """Tells of a subject once all its steps are settled and some of them ran."""
        if all(name in self.reports for name in names):
            ran = [report for name in names if (report := self.reports[name]).how in ("ran", "failed")]
            if ran:
                kinds = tuple(report.step.kind for report in ran)
                seconds = sum(report.seconds for report in ran)
                failed = any(report.how == "failed" for report in ran)
                self.listener(SubjectEnded(ran[0].step.subject, kinds, seconds, ran[0].reason, failed, ran[-1].same))

    def _kept(self, step: Step, fingerprint: str, inputs: Mapping[str, str]) -> StepReport | None:
        """The report of a step whose result is kept, here or by another workspace that shares the cache."""
        last = self._last.get(step.name)
        if still_there(self.store, last, fingerprint):
            assert last is not None
            return StepReport(step, "kept", fingerprint, outputs=last.outputs)
        result = self.store.result(fingerprint)
        if result is None:
            return None
        self.memory.remember(
            self.graph.product, step.name, LastRun.of(fingerprint, parts_of(step, inputs), dict(result.outputs))
        )
        return StepReport(step, "kept", fingerprint, outputs=result.outputs, notes=result.notes)

    def _perform(
        self, step: Step, inputs: Mapping[str, str], parts: dict[str, str], fingerprint: str, reason: str
    ) -> StepReport:
        started = time.monotonic()
        try:
            with self.store.lock(fingerprint):
                result = self.store.result(fingerprint)  # somebody else may have run it while we waited
                if result is None:
                    result = self._run(step, inputs, fingerprint)
        except MissingObject as error:
            return self._failed(step, fingerprint, reason, started, _hole(self.store, str(error)))
        except YarrikError as error:
            return self._failed(step, fingerprint, reason, started, error)
        except (OSError, ValueError) as error:
            file = getattr(error, "filename", None)
            what = f"step `{step.name}` failed: {getattr(error, 'strerror', None) or error}"
            remedy = "check the disk's free space and your rights, then build again"
            trouble = Trouble("STEP-FAILED", what, Place(Path(str(file)) if file else None), remedy=remedy)
            return self._failed(step, fingerprint, reason, started, YarrikError(trouble, "work"))
        last = self._last.get(step.name)
        same = last is not None and dict(last.outputs) == dict(result.outputs)
        self.memory.remember(self.graph.product, step.name, LastRun.of(fingerprint, parts, dict(result.outputs)))
        seconds = time.monotonic() - started
        self.memory.took(self.graph.product, step.name, seconds)
        return StepReport(
            step,
            "ran",
            fingerprint,
            reason,
            seconds,
            same,
            result.outputs,
            result.notes,
            result.log,
            began=started - self._began,
        )

    def _run(self, step: Step, inputs: Mapping[str, str], fingerprint: str) -> Result:
        started = time.monotonic()
        log_file = log_path(self.folder, self.graph.product, step.name)
        log_file.parent.mkdir(parents=True, exist_ok=True)
        with WorkFolder(self.folder / "work") as work, log_file.open("wb") as log:
            context = Context(step, inputs, self.store, self.sandbox, work, log, self.jobs, offline=self.offline)
            try:
                outputs = perform(step.action, context)
            except YarrikError as error:
                for trouble in error.troubles:
                    context.say(f"{trouble.code}: {trouble.what}")
                raise
        result = Result(outputs, tuple(context.notes), self.store.put_file(log_file), time.monotonic() - started)
        self.store.put_result(fingerprint, result)
        return result

    def _failed(self, step: Step, fingerprint: str, reason: str, started: float, error: YarrikError) -> StepReport:
        seconds = time.monotonic() - started
        log = log_path(self.folder, self.graph.product, step.name)
        troubles = []
        for trouble in error.troubles:
            if trouble.code == "STEP-FAILED" and not trouble.remedy:
                lines = last_lines(log)
                tail = "\n".join(f"  {line}" for line in lines)
                code, cause, remedy = _reached_for(lines)
                trouble = Trouble(
                    code or trouble.code,
                    f"step `{step.name}` failed: {cause or trouble.what}",
                    Place(log),
                    why=f"the log's last lines:\n{tail}" if tail else "",
                    remedy=remedy or f"read the whole log: yarrik log {step.kind} {step.subject}",
                )
            troubles.append(trouble)
        began = started - self._began
        return StepReport(step, "failed", fingerprint, reason, seconds, error=YarrikError(troubles, "work"), began=began)


def still_there(store: Store, last: LastRun | None, fingerprint: str) -> bool:
    """Whether a step's last run had this fingerprint, and all that it left is in the store."""
    return last is not None and last.fingerprint == fingerprint and all(map(store.has, last.outputs.values()))


def log_path(folder: Path, product: str, step: str) -> Path:
    """Where a step's log lies: one file a step, of its last run here."""
    name = "".join(character if character.isalnum() or character in "-_." else "-" for character in step)
    return folder / "logs" / product / f"{name}.log"


def last_lines(log: Path, count: int = LAST_LINES) -> list[str]:
    try:
        with log.open("rb") as file:
            file.seek(max(0, log.stat().st_size - 16384))
            return file.read().decode("utf-8", "replace").splitlines()[-count:]
    except OSError:
        return []


_NETWORK = re.compile(
    r"(?i)could not resolve host|name resolution|network is unreachable|unknown host|no route to host"
    r"|failed to connect to .* port"
)
_NO_PROGRAM = re.compile(r"(?:^|: )(?P<name>[A-Za-z0-9][\w.+-]*): (?:command not found|not found|No such file or directory)$")


def _reached_for(lines: list[str]) -> tuple[str, str, str]:
    """Code, cause and remedy when a step wanted the network, or a program that it has not; empty texts otherwise."""
    for line in reversed(lines):
        if _NETWORK.search(line):
            return ("STEP-NETWORK", "it reached for the network, which only fetching may",
                    "let a [[source]] bring what it wants, or turn the download off in the recipe's build")  # fmt: skip
        match = _NO_PROGRAM.search(line)
        if match is not None and ("sh:" in line or "make" in line or "command not found" in line):
            name = match["name"]
            package = DEBIAN_PACKAGES.get(name, name)
            return ("STEP-NO-PROGRAM", f"it wanted the program `{name}`, which is neither here nor among its tools",
                    f"name a recipe that brings it in `build.tools`; or on Debian: apt-get install {package}")  # fmt: skip
    return "", "", ""


def _hole(store: Store, digest: str) -> YarrikError:
    return YarrikError(
        Trouble("CACHE-HOLE", f"the cache lost the object {digest[:16]}…", Place(store.root),
                why="a step needs what an earlier step left there",
                remedy="remove the cache folder and build again; nothing but time is lost"),
        "work",
    )  # fmt: skip


class WorkFolder:
    """An empty folder for one step, removed afterwards. A lock tells which folders belong to somebody alive, so what a
    killed build left behind is cleared away by the next one."""

    def __init__(self, top: Path) -> None:
        self._top = top

    @staticmethod
    def _guard(top: Path) -> filelock.FileLock:
        """Held while folders are made or cleared away, so that nobody clears away what is just being made."""
        return filelock.FileLock(top.with_name(f"{top.name}.lock"))

    def __enter__(self) -> Path:
        self._top.mkdir(parents=True, exist_ok=True)
        with self._guard(self._top):
            self._folder = Path(tempfile.mkdtemp(dir=self._top))
            self._lock = filelock.FileLock(f"{self._folder}.lock")
            self._lock.acquire()
        return self._folder.resolve()

    def __exit__(self, *exception: object) -> None:
        remove_folder(self._folder)
        Path(f"{self._folder}.lock").unlink(missing_ok=True)
        self._lock.release()

    @staticmethod
    def clear_left_behind(top: Path) -> None:
        """Removes folders whose owner is gone."""
        if not top.is_dir():
            return
        with WorkFolder._guard(top):
            # A lock without its folder was left by somebody who ended between removing the two.
            names = sorted({path.with_suffix("") if path.suffix == ".lock" else path for path in top.iterdir()})
            for folder in names:
                lock = filelock.FileLock(f"{folder}.lock")
                try:
                    lock.acquire(timeout=0)
                except filelock.Timeout:
                    continue
                if folder.exists():
                    remove_folder(folder)
                Path(f"{folder}.lock").unlink(missing_ok=True)
                lock.release()


def remove_folder(folder: Path) -> None:
    """Removes a folder even when something in it was made read-only."""

    def again(function: Callable[..., object], path: str, _: object) -> None:
        os.chmod(Path(path).parent, 0o700)
        if Path(path).is_dir() and not Path(path).is_symlink():
            os.chmod(path, 0o700)
        function(path)

    shutil.rmtree(folder, onerror=again)
