"""A session: one workspace with its cache and memory; plans, builds, and puts what was built into `out/`."""

from __future__ import annotations

import codecs
import contextlib
import dataclasses
import fcntl
import os
import shutil
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

import msgspec
from filelock import FileLock

from yarrik import __version__
from yarrik.atomic import new_file, new_folder, write_file
from yarrik.beneath import remove_folder
from yarrik.boot.bench_files import Told
from yarrik.cache import Memory, MissingObject, Store, Tree, changed_paths, default_root, file_digest, in_use, read_tree
from yarrik.cache.traffic import Traffic
from yarrik.cache.tree import plain_modes
from yarrik.devicetree import blob_name
from yarrik.disk.layout import image_name
from yarrik.disk.sidecars import BESIDE
from yarrik.errors import Collector, Place, Trouble, YarrikError, found_nearby, listed, suggestion
from yarrik.host import Sight, find_program
from yarrik.host.programs import NATIVE_COMPILERS
from yarrik.licences import licence_fault
from yarrik.manifest import checksum_list
from yarrik.model import Composition, Definition, Overrides, Recipe, Workspace, compose, open_workspace
from yarrik.model.checking import convert
from yarrik.model.definitions import ShelfFile, Site
from yarrik.model.reading import read_document
from yarrik.model.site import load_site
from yarrik.model.soundness import never_holding
from yarrik.moving import copy_sparse
from yarrik.plan import Assessment, Graph, Step, all_differences, assess, parts_of, plan_product
from yarrik.plan.actions import runs_commands
from yarrik.resolve import Answer, Lock, LockedProduct, Moved, moved, read_lock, resolve
from yarrik.resolve.answer import PATIENCE
from yarrik.resolve.solver import Progress
from yarrik.rootfs.assemble import LOGIN_SERVICE, check_image
from yarrik.run.events import Listener, Sending, silent
from yarrik.run.execute import Execution, StepReport, WorkFolders, kept_outputs, log_path, private_steps
from yarrik.run.foresight import Foresight
from yarrik.run.host_view import View, names_of, remembered_sight, view_of, views_in
from yarrik.run.room import short_of_room
from yarrik.run.sandbox import THE_BOARDS, Sandbox, Sees
from yarrik.run.warnings import NO_WARNINGS, ToolWarnings, warnings_in
from yarrik.sources import unpack_archive
from yarrik.toolchain import Toolchain, missing_program, probe

if TYPE_CHECKING:
    from yarrik.cache.shared import Shared

#: So many times damage in the cache that shows only when files go out is made good.
_PUBLISHINGS = 4


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
    #: What the bench board says of the finished disks, stage by stage.
    story: tuple[Told, ...] = ()

    @property
    def ran(self) -> tuple[StepReport, ...]:
        return tuple(report for report in self.steps if report.how == "ran")

    @property
    def errors(self) -> tuple[YarrikError, ...]:
        return tuple(report.error for report in self.steps if report.error is not None)


#: The workspace's folder with working trees of sources that are being edited.
EDITS = "edits"


class Span(msgspec.Struct, frozen=True):
    """When a step ran: seconds since the build began, seconds that it took, and what it needs."""

    step: str
    began: float
    seconds: float
    failed: bool
    needs: tuple[str, ...]

    @property
    def ended(self) -> float:
        return self.began + self.seconds


@dataclass
class Session:
    """Opens the workspace in `root`. `use_sandbox` is for those who want steps to see the machine."""

    root: Path
    renew_lock: bool = False
    use_sandbox: bool = True
    locked: bool = False
    offline: bool = False
    clean_room: bool = False
    patience: float = PATIENCE
    full_proof: bool = False
    moved: list[Moved] = field(default_factory=list)
    toolchains: dict[str, Toolchain] = field(default_factory=dict)
    started: float = field(default_factory=time.monotonic)

    @property
    def folder(self) -> Path:
        return self.root / ".yarrik"

    @cached_property
    def site(self) -> Site:
        return load_site(self.workspace)[0]

    @cached_property
    def store(self) -> Store:
        if self.clean_room:
            return Store(self._bare_cache)
        named = Path(self.site.cache).expanduser() if self.site.cache and "YARRIK_CACHE" not in os.environ else default_root()
        return Store(self.root / named)

    @property
    def _bare_cache(self) -> Path:
        """The cache of a clean room, which nobody else uses."""
        return self.folder / "clean-room"

    @cached_property
    def shared(self) -> Shared | None:
        """The shared caches of the site, without those that a network leads to when there is to be none."""
        if not self.site.shared_cache or self.clean_room:
            return None
        from yarrik.run.joining import join

        site, place = load_site(self.workspace)
        return join(site, place, self.store, self.offline)

    @cached_property
    def workspace(self) -> Workspace:
        return open_workspace(self.root, self._memory_if_writable())

    def _memory_if_writable(self) -> Memory | None:
        """Reading definitions is quicker with a memory, and works without one."""
        try:
            return self.memory
        except YarrikError:
            return None

    def compose(self, product: str | None = None, overrides: Overrides | None = None) -> Composition:
        with self._all_faults_at_once():
            return compose(self.workspace, product, overrides)

    @contextlib.contextmanager
    def _all_faults_at_once(self) -> Iterator[None]:
        """Who meets one definition with errors is told of those of all others too, so that they are corrected in one go."""
        try:
            yield
        except YarrikError as error:
            faults = [trouble for shelved in self.workspace.broken for trouble in shelved.faults]
            if any(trouble in faults for trouble in error.troubles):
                raise YarrikError(dict.fromkeys([*error.troubles, *faults]), error.fault) from error
            raise

    # Resolving

    def answer(
        self, composition: Composition, moving: Sequence[str] | None = (), progress: Progress = lambda decided, conflicts: None
    ) -> Answer:
        """What the product resolves to, staying with the lock but for the names in `moving` (None: for everything)."""
        key = (composition.name, None if moving is None else tuple(moving), id(composition))
        if key not in self._answers:
            locked = self.lock.products.get(composition.name, LockedProduct())
            versions, roles = locked.preferences(moving)
            with self._all_faults_at_once():
                answer = resolve(composition, versions, roles, progress, self.patience, self.full_proof)
            self._answers[key] = (answer, composition)
        return self._answers[key][0]

    @cached_property
    def _answers(self) -> dict[object, tuple[Answer, Composition]]:
        return {}

    def _check_licences(self, answer: Answer) -> None:
        """Raises YarrikError for licences that are no SPDX expressions; what was found good is remembered."""
        known = self.memory.fact("good licences")
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
            self.memory.learn("good licences", msgspec.json.encode(sorted(good | seen)))

    def warnings(self, composition: Composition) -> tuple[Trouble, ...]:
        """What is likely wrong, with this product or with a condition of any definition. Raises YarrikError for what is
        certain to stop the build."""
        found = [*self.answer(composition).warnings]
        for kind in ("board", "profile", "image", "recipe"):
            for name, shelved in self.workspace.readable(kind):
                if "when" in shelved.document.raw:
                    found += never_holding(self.workspace, kind, name)
        plan = self.plan(composition)
        names = [one.step.name for one in plan if one.verdict != "kept"]
        costs = self.memory.costs(composition.name)
        short = short_of_room(names, costs, self.folder, self.store.root, self.site.jobs or os.cpu_count() or 1)
        found += [short] if short is not None else []
        ahead = Foresight(composition, plan, self.store, self.memory.last_runs(composition.name))
        collector = Collector()
        collector.extend(ahead.errors())
        collector.raise_if_any()
        found += ahead.warnings()
        return tuple(dict.fromkeys(found))

    def answer_warnings(self, composition: Composition) -> tuple[Trouble, ...]:
        return next(
            (answer.warnings for answer, _ in self._answers.values() if answer.composition.name == composition.name), ()
        )

    def hold(self, answer: Answer) -> list[Moved]:
        """Takes an answer into the lock (without writing it), and returns what differs from what was locked."""
        composition = answer.composition
        surroundings = _Surroundings(self, composition)
        sides = ["board", *(["host"] if any(node.side == "host" for node in answer.versions) else [])]
        locked = LockedProduct.of(answer, {side: surroundings.toolchain(side).shown for side in sides})
        former = self.lock.products.get(composition.name)
        differences = moved(former, locked) if former is not None else []
        if differences and self.locked:
            raise YarrikError(
                Trouble("LOCK-STALE", f"yarrik.lock is not what `{composition.name}` resolves to now: "
                        + "; ".join(str(one) for one in differences[:8]) + (" …" if len(differences) > 8 else ""),
                        Place(self.lock.file), why="with --locked nothing may differ from the lock",
                        remedy=f"look at the difference with `yarrik resolve {composition.product.name}`, and commit the lock")
            )  # fmt: skip
        if former is None and self.locked:
            raise YarrikError(
                Trouble("LOCK-STALE", f"yarrik.lock has nothing on `{composition.name}`", Place(self.lock.file),
                        why="with --locked nothing is resolved anew",
                        remedy=f"yarrik resolve {composition.product.name}, and commit the lock")
            )  # fmt: skip
        shelves = {choice.name: self._shelf_version(choice.path) for choice in self.workspace.settings.shelf}
        self.lock.hold(composition.name, locked, shelves)
        return differences

    def _shelf_version(self, path: str) -> str:
        return convert(read_document(self.root / path / "shelf.toml"), ShelfFile).shelf.version

    @cached_property
    def memory(self) -> Memory:
        try:
            return Memory(self.folder / "memory.sqlite")
        except OSError as error:
            raise YarrikError(
                Trouble("WORKSPACE-UNWRITABLE", f"the workspace cannot be written: {error.strerror}", Place(self.folder),
                        why="logs and the memory of what was built are kept there",
                        remedy="make it writable, or copy the workspace to a folder of yours")
            ) from error  # fmt: skip

    @cached_property
    def lock(self) -> Lock:
        return read_lock(self.root)

    # Planning

    def graph(self, composition: Composition) -> Graph:
        answer = self.answer(composition)
        self._check_licences(answer)
        image = answer.composition.image
        check_image(image.value, answer.providing(LOGIN_SERVICE), image.place("root", "login"))
        self.moved = self.hold(answer)
        graph = _with_mirrors(plan_product(answer, _Surroundings(self, answer.composition)), self.site.mirrors)
        if not self.shuts_off:
            graph = _without_sandbox(graph)
        self.memory.save_digests()
        return graph

    @cached_property
    def shuts_off(self) -> bool:
        """Whether steps run in a sandbox here."""
        return Sandbox(allowed=self.use_sandbox).bubblewrap is not None

    def plan(self, composition: Composition) -> list[Assessment]:
        """What a build would do. Writes nothing but the memory of digests."""
        graph = self.graph(composition)
        last_runs = self.memory.last_runs(graph.product)

        def lookup(step: str, fingerprint: str) -> Mapping[str, str] | None:
            return kept_outputs(self.store, last_runs.get(step), fingerprint)

        return assess(graph, lookup, last_runs, self._difference)

    def why_runs(self, composition: Composition, step: str) -> tuple[Assessment, list[tuple[str, str, str]], list[str]]:
        """A step's verdict, everything in which its last fingerprint and the next differ (what, before, after), and inputs that
        are not known before other steps have run. Raises YarrikError for a step that the product has not."""
        found = {one.step.name: one for one in self.plan(composition)}
        if step not in found:
            raise YarrikError(Trouble("STEP-UNKNOWN", f"`{composition.name}` has no step `{step}`",
                                      remedy=suggestion(step, found)))  # fmt: skip
        one = found[step]
        last = self.memory.last_runs(composition.name).get(step)
        parts = parts_of(one.step, one.inputs)
        unknown = sorted(label for label in one.step.inputs if label not in one.inputs)
        if last is not None:
            parts |= {key: last.parts[key] for label in unknown if (key := f"input {label}") in last.parts}
        waits = [one.step.inputs[label][0] for label in unknown]
        return one, all_differences(one.step, parts, last, self._difference), list(dict.fromkeys(waits))

    def _difference(self, before: str, after: str) -> list[str]:
        """Paths that differ between two trees, one of which may not be in the store yet; none when either is unknown."""
        try:
            return changed_paths(self.store.tree(before), self._trees.get(after) or self.store.tree(after))
        except MissingObject:
            return []

    @cached_property
    def _trees(self) -> dict[str, Tree]:
        return {}

    def check_programs(self, graph: Graph) -> None:
        """Raises YarrikError for each program that a build needs and this machine lacks."""
        collector = Collector()
        for program, (place, why) in graph.programs.items():
            near = [Path(one.programs[0]).parent / program for one in self.toolchains.values()]
            if find_program(program) is None and not any(path.is_file() for path in near):
                collector.add(missing_program(program, place, why))
        collector.raise_if_any()

    # Building

    def build(
        self,
        composition: Composition,
        jobs: int | None = None,
        keep_going: bool = False,
        listener: Listener = silent,
        until: str | None = None,
    ) -> BuildReport:
        """Builds the product and publishes it. The report says what failed; nothing is published then, nor with `until`, a
        step's name: then that step is run with all that it needs."""
        graph = self.graph(composition)
        if until is not None:
            names = {step.name for step in graph.steps}
            if until not in names:
                raise YarrikError(Trouble("STEP-UNKNOWN", f"`{composition.name}` has no step `{until}`",
                                          remedy=suggestion(until, names)))  # fmt: skip
            graph = graph.up_to(until)
        composition = self.answer(composition).composition
        reports, sandbox = self._run(graph, jobs, keep_going, listener)
        self._keep_timeline(composition.name, reports)
        published = False
        out = self.root / "out" / composition.name
        for _ in range(_PUBLISHINGS):
            if until is not None or any(report.error is not None for report in reports):
                break
            ran = any(report.how in ("ran", "shared") for report in reports)
            try:
                with in_use(self.store):
                    published = self._publish(graph, composition, reports, out, ran)
                break
            except MissingObject:
                # It was damaged, and is gone now: what leads to it is made again.
                again, sandbox = self._run(graph, jobs, keep_going, listener)
                reports = [new if new.how != "kept" else old for old, new in zip(reports, again, strict=True)]
        else:
            raise YarrikError(
                Trouble("CACHE-DAMAGED", "what was built could not be read back from the cache", Place(self.store.root),
                        why="it was made anew several times, and damaged each time; the disk may be failing",
                        remedy="yarrik cache verify, or name a folder on another disk in YARRIK_CACHE"),
                "work",
            )  # fmt: skip
        failures = [report.step.name for report in reports if report.error is not None]
        if failures:
            self.memory.learn(f"last failure {composition.name}", failures[0].encode())
        ran = any(report.how == "ran" for report in reports)
        notes = [f"{report.step.subject}: {note}" for report in reports for note in report.notes]
        if ran and sandbox.note:
            notes.append(sandbox.note)
        if ran and shutil.which("make") is None:
            notes.append("there is no make here; simple Makefiles are carried out by a stand-in: apt-get install make")
        edits = sorted(path.parent.name for path in (self.root / EDITS).glob("*/.git"))
        built = {step.subject.removesuffix(" (host)") for step in graph.steps}
        notes += [f"{name} is built from {EDITS}/{name}, until `yarrik edit {name} --close`" for name in edits if name in built]
        notes += [f"not as yarrik.lock had it: {one}" for one in self.moved]
        notes += [f"{trouble.what} ({trouble.place})" for trouble in self.answer_warnings(composition)]
        if self.store.damages:
            lost = dict.fromkeys(f"{one.path.parent.parent.name}/{one.path.name[:12]}…" for one in self.store.damages[:3])
            notes.append(f"the cache was damaged, and what was lost is made again: {listed(lost)}; see `yarrik cache verify`")
        self.memory.save_digests()
        self._send_rest(listener)
        seconds = time.monotonic() - self.started
        saved = self._saved(composition.name, reports)
        if self.clean_room and not failures:
            remove_folder(self._bare_cache)
        said = self._tools_said(composition.name, reports)
        troubles = () if self.shared is None else self.shared.troubles
        traffic = Traffic() if self.shared is None else self.shared.traffic
        return BuildReport(
            composition.name, out, tuple(reports), tuple(notes), seconds, published, saved, said, troubles, traffic,
            self._story(reports),
        )  # fmt: skip

    def _story(self, reports: Sequence[StepReport]) -> tuple[Told, ...]:
        """The bench board's story, when the disks of this build were tried."""
        digest = next((report.outputs["story"] for report in reports if "story" in report.outputs), None)
        if digest is None:
            return ()
        try:
            return msgspec.json.decode(self.store.get_bytes(digest), type=tuple[Told, ...])
        except (MissingObject, msgspec.DecodeError):
            return ()

    def _tools_said(self, product: str, reports: Sequence[StepReport]) -> ToolWarnings:
        """What the tools of the steps that ran warned of."""
        texts = [(report.step.subject, log_path(self.folder, product, report.step.name))
                 for report in reports if report.how == "ran"]  # fmt: skip
        return warnings_in(texts)

    def _saved(self, product: str, reports: Sequence[StepReport]) -> float:
        """The seconds that it would have taken to run what was kept, as far as this workspace knows."""
        costs = self.memory.costs(product)
        return sum(
            report.seconds if report.how == "shared" else cost.seconds if (cost := costs.get(report.step.name)) else 0.0
            for report in reports
            if report.how in ("kept", "shared")
        )

    def push(
        self,
        composition: Composition,
        tell: Callable[[int, int], None] = lambda done, total: None,
        replace: bool = False,
    ) -> tuple[int, int, tuple[Trouble, ...]]:
        """Sends all kept results of a product to the shared caches that take them, with `replace` those that are there too:
        how many were sent, how many there are, and what went wrong. Raises YarrikError when no shared cache takes any."""
        shared = self.shared
        takers = [cache for cache in shared.caches if cache.push] if shared is not None else []
        if shared is None or not takers:
            raise YarrikError(
                Trouble("CACHE-NO-SHARED", "there is no shared cache that takes results", load_site(self.workspace)[1],
                        remedy="name one: [[shared-cache]] with `name`, `at`, `push = true` and `signing-key`")
            )  # fmt: skip
        graph = self.graph(composition)
        last = self.memory.last_runs(graph.product)
        hidden = private_steps(graph, last)
        names = [step.name for step in graph.steps if step.name in last and step.name not in hidden]
        fingerprints = list(dict.fromkeys(last[name].fingerprint for name in names))
        sent = 0
        for number, fingerprint in enumerate(fingerprints):
            tell(number, len(fingerprints))
            result = self.store.result(fingerprint)
            for cache in takers if result is not None else []:
                assert result is not None
                sent += shared.send_or_tell(cache, fingerprint, result, replace)
        return sent, len(fingerprints), shared.troubles

    def pull(self, composition: Composition, listener: Listener = silent) -> tuple[int, int, int, tuple[Trouble, ...]]:
        """Takes the results of a product that shared caches have: how many came, how many were here, how many nobody has, and
        what went wrong. Runs nothing but what takes files of this machine. Raises YarrikError when there is no shared cache."""
        if self.shared is None or not self.shared.caches:
            raise YarrikError(Trouble("CACHE-NO-SHARED", "there is no shared cache to ask", load_site(self.workspace)[1],
                                      remedy="name one: [[shared-cache]] with `name` and `at`"))  # fmt: skip
        reports, _ = self._run(self.graph(composition), None, True, listener, run_nothing=True)
        self.memory.save_digests()
        self._send_rest(listener)
        count = {
            how: sum(report.how == how for report in reports) for how in ("shared", "kept", "ran", "not reached", "failed")
        }
        missing = count["not reached"] + count["failed"]
        return count["shared"], count["kept"] + count["ran"], missing, self.shared.troubles

    def fetch(self, composition: Composition, listener: Listener = silent) -> list[Step]:
        """Brings all sources of a product into the cache, so that a build needs no network. Returns the steps of it."""
        graph = self.graph(composition)
        steps = tuple(step for step in graph.steps if step.kind == "fetch")
        self.run_steps(Graph(graph.product, steps, graph.order, {}), listener)
        return list(steps)

    def run_steps(self, graph: Graph, listener: Listener = silent) -> tuple[dict[str, Mapping[str, str]], Sandbox]:
        """Runs a graph of steps; the outputs of each by name, and the sandbox. Raises YarrikError with what failed."""
        reports, sandbox = self._run(graph, None, False, listener)
        self.memory.save_digests()
        self._send_rest(listener)
        failed = [trouble for report in reports if report.error is not None for trouble in report.error.troubles]
        if failed:
            raise YarrikError(failed, "work")
        return {report.step.name: report.outputs for report in reports}, sandbox

    def run_up_to(self, composition: Composition, step: str, listener: Listener = silent) -> Mapping[str, str]:
        """Runs one step with all that it needs, and returns its outputs. Raises YarrikError with what failed."""
        outputs, _ = self.run_steps(self.graph(composition).up_to(step), listener)
        return outputs[step]

    def _run(
        self, graph: Graph, jobs: int | None, keep_going: bool, listener: Listener, run_nothing: bool = False
    ) -> tuple[list[StepReport], Sandbox]:
        if self.lock.changed:
            self.lock.write()
        programs = tuple(sorted({p for toolchain in self.toolchains.values() for p in toolchain.programs[:1]}))
        sandbox = Sandbox(programs, self._look, allowed=self.use_sandbox)

        def before_first() -> None:
            self.check_programs(graph)
            self._prepare_folder()

        execution = Execution(
            graph,
            self.store,
            self.memory,
            sandbox,
            self.folder,
            jobs or self.site.jobs or os.cpu_count() or 1,
            keep_going,
            listener,
            before_first,
            self._difference,
            self.offline,
            self.shared,
            run_nothing,
            self.clean_room,
            self.site.redirect_hosts,
        )
        with in_use(self.store):
            try:
                reports = execution.run()
            except BaseException:
                if self.shared is not None:
                    self.shared.stop()
                raise
            self.store.mark_used(report.fingerprint for report in reports if report.fingerprint)
        return reports, sandbox

    def _look(self, sees: Sees) -> View:
        """What a step sees of this machine."""
        side = (
            "board"
            if sees.toolchain == THE_BOARDS
            else next((side for side, toolchain in self.toolchains.items() if toolchain.shown == sees.toolchain), "")
        )
        identity = " ".join(one.identity for _, one in sorted(self.toolchains.items()))
        return view_of(self._sight(side, sees.programs), views_in(self.store), identity)

    def _sight(self, side: str, programs: tuple[str, ...]) -> Sight:
        key = (side, programs)
        if key not in self._sights:
            toolchain = self.toolchains.get(side)
            self._sights[key] = remembered_sight(programs, toolchain, self.toolchains.get("host"), self.memory)
        return self._sights[key]

    @cached_property
    def _sights(self) -> dict[tuple[str, tuple[str, ...]], Sight]:
        return {}

    def _send_rest(self, listener: Listener) -> None:
        """Waits until shared caches have what was built. Whoever is tired of it leaves the rest for `yarrik cache push`."""
        if self.shared is None:
            return
        try:
            with in_use(self.store):
                self.shared.close(lambda left: listener(Sending(left)))
        except KeyboardInterrupt:
            self.shared.stop()

    def _prepare_folder(self) -> None:
        self.folder.mkdir(exist_ok=True)
        ignore = self.folder / ".gitignore"
        if not ignore.exists():
            ignore.write_text("*\n")
        WorkFolders.clear_left_behind(self.folder / "work")

    # Publishing

    def _publish(self, graph: Graph, composition: Composition, reports: list[StepReport], out: Path, ran: bool) -> bool:
        """Brings `out/<product>` to what was built; True when anything there had to change."""
        outputs = {name: digest for report in reports for name, digest in report.outputs.items()
                   if report.step.kind in ("boot", "write", "check", "describe")}  # fmt: skip
        files = {image_name(composition.name, disk, len(graph.disks)): outputs[f"disk:{disk}"] for disk in graph.disks}
        for output, digest in outputs.items():
            if output.startswith("beside:"):
                _, disk, kind = output.split(":")
                files[image_name(composition.name, disk, len(graph.disks)) + BESIDE[kind]] = digest
            elif output.startswith("memory:"):
                files[f"memory/{output.removeprefix('memory:')}"] = digest
        files |= {name: outputs[name] for name in ("packages.json", "files.json", "boot-story.txt")}
        files |= {f"licences/{entry.path}": entry.content for entry in self.store.tree(outputs["licences"]).files}
        if "control" in outputs:
            files["control.dtb"] = outputs["control"]
        environment = composition.board.value.boot.environment
        if environment is not None:
            files[environment.name] = outputs["environment"]
        if "device-tree" in outputs:
            files[blob_name(composition.board.value.kernel.device_tree)] = outputs["device-tree"]
        fact = f"published {composition.name}"
        known = self.memory.fact(fact)
        marks: dict[str, tuple[str, str]] = msgspec.json.decode(known, type=dict[str, tuple[str, str]]) if known else {}
        wanted = {**files, "SHA256SUMS": self.store.put_bytes(checksum_list(files))}
        stale = [name for name, digest in wanted.items() if marks.get(name) != (digest, _mark(out / name))]
        records = [name for name in ("build.json", "steps.log") if not (out / name).exists()]
        gone = marks.keys() - wanted.keys()
        if not stale and not ran and not records and not gone:
            return False
        out.mkdir(parents=True, exist_ok=True)
        self._prepare_folder()
        with FileLock(self.folder / f"publishing-{composition.name}.lock"):
            for name in stale:
                (out / name).parent.mkdir(parents=True, exist_ok=True)
                with new_file(out / name) as fresh:
                    copy_sparse(self.store.checked(wanted[name]), fresh)
                    self._check_copy(fresh, wanted[name])
            for name, (_, mark) in marks.items():
                # What an earlier build put there, and nobody has changed since.
                if name not in wanted and _mark(out / name) == mark:
                    (out / name).unlink(missing_ok=True)
            if ran or records:
                self._record(reports, out)
        new_marks = {name: (digest, _mark(out / name)) for name, digest in wanted.items()}
        self.memory.learn(fact, msgspec.json.encode(new_marks))
        return True

    def _check_copy(self, copy: Path, digest: str) -> None:
        """What goes out is what was built. Raises MissingObject when the cache was damaged, and takes the damage out of it."""
        if file_digest(copy) != digest:
            copy.unlink()
            self.store.take_out(self.store.object_path(digest))
            raise MissingObject(digest)

    def _record(self, reports: list[StepReport], out: Path) -> None:
        """`build.json` and `steps.log`: how this build went. Unlike all else they differ from one build to the next."""
        rows = []
        log: list[str] = []
        for report in reports:
            result = self.store.result(report.fingerprint)
            seconds = report.seconds if report.how == "ran" else result.seconds if result is not None else 0.0
            rows.append(
                {
                    "step": report.step.name,
                    "how": report.how,
                    "reason": report.reason,
                    "seconds": round(seconds, 3),
                    "fingerprint": report.fingerprint,
                    "outputs": dict(report.outputs),
                    "notes": list(report.notes),
                }
            )
            head = f"== {report.step.name}: {report.how}, {seconds:.2f} s" + (f" ({report.reason})" if report.reason else "")
            text = ""
            if result is not None and result.log and self.store.has(result.log):
                text = self.store.get_bytes(result.log).decode("utf-8", "replace")
            log.append(head + "\n" + text)
        toolchains = {side: toolchain.shown for side, toolchain in sorted(self.toolchains.items())}
        document = {"yarrik": __version__, "toolchains": toolchains, "steps": rows}
        write_file(out / "build.json", msgspec.json.format(msgspec.json.encode(document), indent=1) + b"\n")
        write_file(out / "steps.log", "\n".join(log).encode())

    def last_failure(self, product: str) -> str:
        """The step that failed last. Raises YarrikError when none has."""
        known = self.memory.fact(f"last failure {product}")
        if known is None:
            raise YarrikError(Trouble("LOG-MISSING", f"no step of `{product}` has failed here",
                                      remedy="name a step: yarrik log RECIPE"))  # fmt: skip
        return known.decode()

    def _keep_timeline(self, product: str, reports: Sequence[StepReport]) -> None:
        """Keeps who ran when, if anything ran."""
        spans = [Span(report.step.name, report.began, report.seconds, report.how == "failed", report.step.needs)
                 for report in reports if report.how in ("ran", "failed")]  # fmt: skip
        if spans:
            spans.sort(key=lambda span: (span.began, span.step))
            self.memory.learn(f"timeline {product}", msgspec.json.encode(spans))

    def timeline(self, product: str) -> list[Span]:
        """The steps of the last build in which any ran, in the order in which they began. Raises YarrikError."""
        known = self.memory.fact(f"timeline {product}")
        if known is None:
            raise YarrikError(Trouble("TIMELINE-MISSING", f"nothing of `{product}` was built here", Place(self.folder),
                                      remedy=f"yarrik build {product}"))  # fmt: skip
        return msgspec.json.decode(known, type=list[Span])

    def log_of(self, product: str, step: str) -> str | None:
        """The log of a step's last run in this workspace, or of the run whose result was taken from the cache."""
        file = log_path(self.folder, product, step)
        last = self.memory.last_runs(product).get(step)
        result = self.store.result(last.fingerprint) if last is not None else None
        try:
            if file.is_file():
                return file.read_text(encoding="utf-8", errors="replace")
            if result is not None and result.log:
                return self.store.get_bytes(result.log).decode("utf-8", "replace")
        except (OSError, MissingObject):
            pass
        return None

    def follow(self, product: str, step: str, wait: float = 0.2) -> Iterator[str]:
        """A step's log as it grows, until the step has ended; one that has not begun is waited for."""
        file = log_path(self.folder, product, step)
        while not file.is_file():
            time.sleep(wait)
        decoder = codecs.getincrementaldecoder("utf-8")("replace")
        with file.open("rb") as log:
            while True:
                ended = _unlocked(log)  # asked first: what comes after the last look is read all the same
                while data := log.read(1 << 16):
                    yield decoder.decode(data)
                if ended:
                    return
                time.sleep(wait)
                if os.fstat(log.fileno()).st_size < log.tell():
                    log.seek(0)  # another run of the step has begun

    def close(self) -> None:
        if "memory" in self.__dict__:
            self.memory.close()


def _unlocked(file: BinaryIO) -> bool:
    """Whether nobody writes this log any more."""
    try:
        fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except OSError:
        return False
    fcntl.flock(file, fcntl.LOCK_UN)
    return True


def _made(folder: Path) -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def _mark(path: Path) -> str:
    try:
        status = path.stat()
    except OSError:
        return "missing"
    return f"{status.st_size} {status.st_mtime_ns} {status.st_ino}"


def _with_mirrors(graph: Graph, mirrors: Mapping[str, Sequence[str]]) -> Graph:
    """The graph with sources taken from the site's mirrors first, and from where the recipes say if these have them not."""
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


@dataclass
class _Surroundings:
    """Answers what planning asks, from this machine."""

    session: Session
    composition: Composition

    def toolchain(self, side: str) -> Toolchain:
        known = self.session.toolchains
        if side not in known:
            board = self.composition.board
            if side == "host":
                known[side] = probe("", self.session.memory, Place())
            else:
                wanted = None if board.value.arch == "host" else board.value.arch
                known[side] = probe(
                    board.value.toolchain.prefix,
                    self.session.memory,
                    board.place("toolchain", "prefix"),
                    wanted,
                    self._unpacked(),
                    self._runs(),
                )
        return known[side]

    def sight(self, side: str, programs: tuple[str, ...]) -> str:
        self.toolchain(side)
        if NATIVE_COMPILERS & set(programs):
            self.toolchain("host")
        return names_of(self.session._sight(side, programs))

    def _runs(self) -> tuple[str, ...]:
        """Programs of the host that the board's unpacked toolchain says it runs."""
        name = self.composition.board.value.toolchain.recipe
        return self.composition.recipe(name).value.build.programs if name else ()

    def _unpacked(self) -> Path | None:
        """The folder of the board's toolchain, if that comes as an archive: unpacked once for all workspaces."""
        board = self.composition.board
        name, place = board.value.toolchain.recipe, board.place("toolchain", "recipe")
        if not name:
            return None
        known = self.session.workspace.shelved["recipe"]
        if name not in known:
            raise YarrikError(Trouble("RECIPE-UNKNOWN", f"no shelf carries the toolchain `{name}`", place,
                                      remedy=suggestion(name, known)))  # fmt: skip
        recipe = self.composition.recipe(name)
        sources = recipe.value.source
        if recipe.value.build.using != "toolchain" or len(sources) != 1 or not sources[0].host_file:
            raise YarrikError(
                Trouble("TOOLCHAIN-FORM", f"`{name}` is no toolchain", recipe.place("build", "using"),
                        why="the board takes its compiler from it",
                        remedy='write `using = "toolchain"` and one [[source]] with the archive as `host-file`')
            )  # fmt: skip
        archive, digest = self.host_file(recipe)
        folder = self.session.store.root / "toolchains" / digest
        if not folder.is_dir():
            folder.parent.mkdir(parents=True, exist_ok=True)
            with new_folder(folder, or_another=True) as fresh:
                tree = unpack_archive(archive, archive.name, self.session.store)
                self.session.store.lay_out(tree, fresh, writable=False)
        return folder

    def source_tree(self, folder: Path, suffixes: tuple[str, ...], place: Place) -> Tree:
        if not folder.is_dir():
            raise YarrikError(
                Trouble("SOURCE-MISSING", f"there is no folder {folder.name} beside the definition", place,
                        why="it is named as a source", remedy=found_nearby(folder, f"make {folder}, or correct the path"))
            )  # fmt: skip
        memory = self.session.memory
        tree = plain_modes(read_tree(folder, lambda path, status: memory.digest_of(folder / path, status), suffixes))
        self.session._trees[tree.digest] = tree
        return tree

    def variable(self, name: str) -> str | None:
        return None if self.session.clean_room else os.environ.get(name)

    def edited(self, recipe: str) -> Path | None:
        folder = self.session.root / EDITS / recipe
        return folder if (folder / ".git").is_dir() else None

    def file_digest(self, file: Path, place: Place, debian_package: str = "") -> str:
        try:
            return self.session.memory.digest_of(file)
        except OSError as error:
            otherwise = f"put it at {file}, or correct the name"
            remedy = f"on Debian: apt-get install {debian_package}" if debian_package else found_nearby(file, otherwise)
            raise YarrikError(
                Trouble("SOURCE-MISSING", f"cannot read {file}: {error.strerror}", place, why="the definition names it",
                        remedy=remedy)
            ) from error  # fmt: skip

    def host_file(self, recipe: Definition[Recipe]) -> tuple[Path, str]:
        source, place = recipe.value.source[0], recipe.place("source")
        file = Path(source.host_file.replace("{version}", recipe.value.version))
        digest = self.file_digest(file, place, source.debian_package)
        trouble = self.session.lock.check(recipe.name, str(file), digest, place, self.session.renew_lock)
        if trouble is not None:
            raise YarrikError(trouble)
        if source.sha256 and source.sha256 != digest:
            raise YarrikError(
                Trouble("SOURCE-DIGEST", f"{file} has SHA-256 {digest}, and the recipe asks for {source.sha256}",
                        recipe.place("source", "0", "sha256"), why="it is not the file that the recipe was written for",
                        remedy="provide the right file, or correct the digest")
            )  # fmt: skip
        return file, digest
