"""Runs steps a second time and compares what they leave: whether a recipe builds the same twice."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping

import msgspec
from msgspec.structs import replace

from yarrik.cache import MissingObject, Store, changed_paths
from yarrik.errors import Place, Trouble, YarrikError, suggestion
from yarrik.model import Composition
from yarrik.plan import Clone, Download, FetchFile, FetchRuntime, Graph, PrepareFolder, Step, TakeFile, Unpack, UnpackDebian
from yarrik.run.events import Listener, silent
from yarrik.run.perform import Context, perform
from yarrik.run.session import Session
from yarrik.run.work_folders import WorkFolders

#: What these leave has a digest that was known before.
_TAKING = (Clone, Download, FetchFile, FetchRuntime, PrepareFolder, TakeFile, Unpack, UnpackDebian)
#: Most differing files that are reported of a step.
_MOST = 5
_CHUNK = 1 << 20


class Variance(msgspec.Struct, frozen=True):
    """A file that a step left differently: where the first byte differs, and what stands around it, before and now.

    Without an offset, it is there only once, or it is another kind of thing, or its rights differ."""

    path: str
    offset: int | None
    before: bytes
    after: bytes

    def __str__(self) -> str:
        if self.offset is None:
            return f"{self.path}: it exists only once, or its kind or permissions differ"
        return f"{self.path}: at byte {self.offset}, {_shown(self.before)} came out as {_shown(self.after)}"


class Proof(msgspec.Struct, frozen=True):
    """One step: whether it left the same twice, and else what differs."""

    step: Step
    variances: tuple[Variance, ...]
    seconds: float

    @property
    def trouble(self) -> Trouble:
        """The differences as a message. Only for steps that differ."""
        lines = [str(one) for one in self.variances[:_MOST]]
        more = len(self.variances) - len(lines)
        lines += [f"and {more} more files"] if more > 0 else []
        return Trouble(
            "BUILD-VARIES", f"step `{self.step.name}` gives a different result when it runs again",
            self.step.marks.get("build", Place()), why="\n".join(lines),
            remedy="often it is the time, a random number, or the order in which files are listed or jobs end; "
                   f"look with yarrik enter {self.step.subject}",
        )  # fmt: skip


def prove(
    session: Session,
    composition: Composition,
    recipe: str | None = None,
    listener: Listener = silent,
    tell: Callable[[str, int, int], None] = lambda step, done, total: None,
) -> list[Proof]:
    """Builds what is not built, then runs every step again by itself: one job where there were several, in another folder, at
    another time. With `recipe`, only its own steps. Raises YarrikError when something does not build."""
    planned = session.planner.planned(composition)
    graph = planned.graph
    chosen = [step for step in graph.steps if not isinstance(step.action, _TAKING)
              and recipe in (None, step.subject, step.recipe)]  # fmt: skip
    if not chosen:
        subjects = sorted({step.subject for step in graph.steps})
        raise YarrikError(Trouble("RECIPE-UNKNOWN", f"`{composition.name}` has no steps of `{recipe}`",
                                  remedy=suggestion(recipe or "", subjects)))  # fmt: skip
    if recipe is not None:
        wanted = {name for step in chosen for name in (one.name for one in graph.up_to(step.name).steps)}
        graph = Graph(graph.product, tuple(step for step in graph.steps if step.name in wanted), graph.nodes, graph.programs)
    outputs, sandbox = session.builder.run_steps(replace(planned, graph=graph), listener)
    found = []
    folders = WorkFolders(session.project.folder / "work")
    log_file = session.project.folder / "logs" / composition.name / "prove.log"
    try:
        for number, step in enumerate(chosen):
            tell(step.name, number, len(chosen))
            started = time.monotonic()
            inputs = {label: outputs[needed][output] for label, (needed, output) in step.inputs.items()}
            log_file.parent.mkdir(parents=True, exist_ok=True)
            with folders.folder() as place, log_file.open("wb") as log:
                again = perform(step.action, Context(step, inputs, session.project.store, sandbox, place, log, jobs=1))
            found.append(
                Proof(step, tuple(_variances(session.project.store, outputs[step.name], again)), time.monotonic() - started)
            )
    finally:
        folders.close()
    return found


def _variances(store: Store, before: Mapping[str, str], after: Mapping[str, str]) -> list[Variance]:
    found: dict[str, Variance] = {}
    for output, digest in after.items():
        if before.get(output) == digest:
            continue
        try:
            old, new = store.tree(before[output]), store.tree(digest)
        except MissingObject:
            found.setdefault(output, _first_difference(store, output, before[output], digest))
            continue
        for path in changed_paths(old, new):
            one, other = old.by_path.get(path), new.by_path.get(path)
            if one is None or other is None or one.kind != "file" or other.kind != "file" or one.content == other.content:
                found.setdefault(path, Variance(f"/{path}", None, b"", b""))
            else:
                found.setdefault(path, _first_difference(store, f"/{path}", one.content, other.content))
    return list(found.values())


def _first_difference(store: Store, path: str, before: str, after: str) -> Variance:
    with store.checked_path(before).open("rb") as old, store.checked_path(after).open("rb") as new:
        at = 0
        while True:
            one, other = old.read(_CHUNK), new.read(_CHUNK)
            if one != other or not one:
                break
            at += len(one)
    inside = next((place for place, (x, y) in enumerate(zip(one, other, strict=False)) if x != y), min(len(one), len(other)))
    return Variance(path, at + inside, one[inside : inside + 12], other[inside : inside + 12])


def _shown(data: bytes) -> str:
    """Bytes as text where they are some, else in hex; the end of the file as such."""
    if not data:
        return "the end of the file"
    if all(32 <= byte < 127 for byte in data):
        return f"`{data.decode()}`"
    return data.hex(" ")
