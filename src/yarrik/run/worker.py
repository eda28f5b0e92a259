"""One step at a time: finds its result or makes it, and reports what became of it.

A worker knows nothing of what runs beside it. Its methods may be called from several threads."""

from __future__ import annotations

import stat
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

import msgspec

from yarrik.beneath import NotPlain
from yarrik.cache import Cost, LastRun, MissingObject, Result
from yarrik.errors import Damaged, Place, Trouble, Unfit, YarrikError, printable
from yarrik.plan import assess, parts_of, reason_for
from yarrik.run.results import StepReport, kept_outputs, notes_of, still_there
from yarrik.run.room import new_bytes
from yarrik.run.step_logs import log_path, new_log
from yarrik.run.sysroots import Layouts, trees_of

if TYPE_CHECKING:
    from yarrik.beneath import Folder
    from yarrik.cache import Memory, Shared, Store
    from yarrik.plan import Difference, Graph, Step
    from yarrik.run.events import How
    from yarrik.run.sandbox import Sandbox
    from yarrik.run.work_folders import WorkFolders
    from yarrik.sources import Archive

_HOLE = "CACHE-HOLE"


class Settings(msgspec.Struct, frozen=True):
    """How a graph is run. `run_nothing` takes only results that exist, `run_all` takes none. `redirect_hosts` are hosts that
    a download may be redirected to, `archives` the Debian archives that this machine knows."""

    jobs: int
    keep_going: bool = False
    offline: bool = False
    run_nothing: bool = False
    run_all: bool = False
    redirect_hosts: tuple[str, ...] = ()
    archives: Callable[[], Sequence[Archive]] = tuple


class Worker(msgspec.Struct):
    """Runs the steps of one graph. `folder` is the workspace's own `.yarrik`; `shared` are caches of others, if there are any;
    `last` are the steps' last runs, by name; `private` the names of those whose results go nowhere else."""

    graph: Graph
    store: Store
    memory: Memory
    sandbox: Sandbox
    folder: Path
    settings: Settings
    difference: Difference
    shared: Shared | None
    work: WorkFolders
    last: Mapping[str, LastRun]
    private: set[str]
    #: Outputs of steps that the graph needs and has not.
    kept: Mapping[str, Mapping[str, str]]
    #: What steps say they are at, by name.
    doing: dict[str, str] = msgspec.field(default_factory=dict)
    layouts: Layouts = msgspec.field(default_factory=Layouts)
    _began: float = msgspec.field(default_factory=time.monotonic)

    def found(self, step: Step, fingerprint: str, inputs: Mapping[str, str]) -> StepReport | None:
        """The report of a step whose result is kept, here or by another workspace that shares the cache."""
        if self.settings.run_all:
            return None
        last = self.last.get(step.name)
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
        return StepReport(
            step, how, fingerprint, outputs=result.outputs, notes=notes_of(result), log=result.log, seconds=seconds
        )

    def reason(self, step: Step, parts: dict[str, str]) -> str:
        """Why a step has to run, as a sentence."""
        reason = reason_for(step, parts, self.last.get(step.name), self.difference)
        return reason.text if reason is not None else "the cache does not have its result"

    def expected(self, reports: Mapping[str, StepReport]) -> set[str]:
        """The names of the steps that run, or may; `reports` are of those that were looked up by now."""

        def lookup(name: str, fingerprint: str) -> Mapping[str, str] | None:
            return kept_outputs(self.store, self.last.get(name), fingerprint)

        settled = {**self.kept, **{name: report.outputs for name, report in reports.items() if report.how == "kept"}}
        found = assess(self.graph, lookup, self.last, lambda before, after: [], settled)
        return {one.step.name for one in found if one.verdict != "kept"}

    def forget_damaged(self, damaged: Iterable[StepReport], reports: Mapping[str, StepReport]) -> bool:
        """Drops the results that failed steps found holes in; whether there were any, so that another try makes sense.
        `reports` has all that ran or was kept before them. Raises MissingObject where what left them is not in the graph."""
        self.layouts.clear()
        if self.kept:
            raise MissingObject(next((trouble.what for one in damaged if one.error for trouble in one.error.troubles), ""))
        damaged = list(damaged)
        before: dict[str, None] = {}
        waiting = [name for report in damaged for name in report.step.needs]
        while waiting:
            name = waiting.pop()
            if name not in before:
                before[name] = None
                waiting.extend(reports[name].step.needs)
        known = dict.fromkeys(digest for name in before for digest in reports[name].outputs.values())
        holes = [digest for digest in known if not self.store.whole(digest)]
        if not holes:
            # Something is missing that no tree names, only a document: the step that left the document makes it again.
            holes = [reports[needed].outputs[output] for one in damaged for needed, output in one.step.inputs.values()]
        for digest in holes:
            self.store.drop(digest)
        return bool(holes)

    def perform(
        self,
        step: Step,
        inputs: Mapping[str, str],
        parts: dict[str, str],
        fingerprint: str,
        reason: str,
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
                    result, taken = self._run(step, inputs, fingerprint, jobs)
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
            remedy = "check the disk's free space and your permissions, then build again"
            trouble = Trouble("STEP-FAILED", what, Place(Path(str(error.filename)) if error.filename else None), remedy=remedy)
            return self._failed(step, fingerprint, reason, started, YarrikError(trouble, "work"))
        except (Damaged, Unfit) as error:
            remedy = f"look at what goes into it: yarrik enter {step.subject}"
            trouble = Trouble("STEP-FAILED", f"step `{step.name}` failed: {error}", remedy=remedy)
            return self._failed(step, fingerprint, reason, started, YarrikError(trouble, "work"))
        last = self.last.get(step.name)
        same = last is not None and dict(last.outputs) == dict(result.outputs)
        self.memory.remember(self.graph.product, step.name, LastRun.of(fingerprint, parts, dict(result.outputs)))
        seconds = time.monotonic() - started
        self.memory.took(self.graph.product, step.name, Cost(seconds, taken, new_bytes(self.store, result.outputs, inputs)))
        if self.shared is not None and step.name not in self.private:
            self.shared.offer(fingerprint, result)
        return StepReport(
            step, "ran", fingerprint, reason, seconds, same, result.outputs, notes_of(result), result.log,
            began=started - self._began,
        )  # fmt: skip

    def _run(self, step: Step, inputs: Mapping[str, str], fingerprint: str, jobs: int) -> tuple[Result, int]:
        # A build that has nothing to do never gets here.
        from yarrik.run.perform import Context, perform

        started = time.monotonic()
        log_file = log_path(self.folder, self.graph.product, step.name)
        with new_log(log_file) as log, self.work.folder() as place:
            context = Context(
                step, inputs, self.store, self.sandbox, place, log, jobs, offline=self.settings.offline,
                redirect_hosts=self.settings.redirect_hosts, archives=self.settings.archives, layouts=self.layouts,
                tell=lambda text: self.doing.update({step.name: text}),
            )  # fmt: skip
            try:
                outputs = perform(step.action, context)
                if place.is_made:
                    self.layouts.give_back(place.path, place.below)
            except YarrikError as error:
                for trouble in error.troubles:
                    context.say(f"{trouble.code}: {trouble.what}")
                raise
            finally:
                self.doing.pop(step.name, None)
                self.layouts.drop(place.path)
            taken = 0
            if place.is_made:
                taken = _bytes_below(place.below)
        result = Result(
            outputs,
            tuple(map(printable, context.notes)),
            self.store.put_file(log_file),
            time.monotonic() - started,
            tuple(context.codes),
        )
        self.store.put_result(fingerprint, result)
        return result, taken

    def _has_damaged_inputs(self, inputs: Mapping[str, str]) -> bool:
        """Whether a file that a failed step was given is not what its digest says, though its time says so: then it is taken
        out, and made again."""
        wanted: list[str] = []
        try:
            behind = trees_of(self.store, inputs)
        except (MissingObject, Damaged):
            return True
        for digest in (*inputs.values(), *behind):
            try:
                wanted += [entry.content for entry in self.store.tree(digest).files]
            except MissingObject:
                wanted.append(digest)
        try:
            self.store.read_again(wanted)
        except MissingObject:
            return True
        return False

    def _lacking(self, failed: Step, kind: str, name: str) -> tuple[str, str, str]:
        """Code, cause and remedy when a step lacks a header or a library that pkg-config knows: with the recipe that brings it,
        as far as earlier builds tell."""
        if not name:
            return "", "", ""
        word = f"the header {name}" if kind == "header" else f"the library that pkg-config calls `{name}`"
        end = f"/{name}" if kind == "header" else f"/pkgconfig/{name}.pc"
        stem = name.rpartition("/")[2].removesuffix(".h")
        for step, run in sorted(self.last.items()):
            if not step.startswith("stage ") or step == f"stage {failed.subject}" or "sysroot" not in run.outputs:
                continue
            try:
                paths = self.store.tree(run.outputs["sysroot"]).by_path
            except MissingObject:
                continue
            if any(path.endswith(end) for path in paths):
                recipe = step.removeprefix("stage ").partition(" ")[0]
                return "STEP-LACKS", f"it lacks {word}, which `{recipe}` brings", f'write `needs = ["{recipe}"]` into [build]'
        return "STEP-LACKS", f"it lacks {word}", f"name the recipe that brings it in `build.needs`: yarrik find {stem}"

    def _failed(self, step: Step, fingerprint: str, reason: str, started: float, error: YarrikError) -> StepReport:
        from yarrik.run.configure_log import missing_thing
        from yarrik.run.failed_logs import known_cause, last_lines, telling_lines

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
                if not code:
                    code, cause, remedy = self._lacking(step, *missing_thing(lines))
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
