"""What became of steps, and which results are kept."""

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING

import msgspec

from yarrik.run.events import How

if TYPE_CHECKING:
    from yarrik.cache import LastRun, Result, Store
    from yarrik.errors import YarrikError
    from yarrik.plan import Graph, Step


class Note(msgspec.Struct, frozen=True):
    """Something that a step wants said; `code` is that of a warning, empty for what is only worth knowing."""

    text: str
    code: str = ""


def notes_of(result: "Result") -> tuple[Note, ...]:
    """The notes of a kept result, each with its code."""
    codes = [*result.codes, *[""] * len(result.notes)]
    return tuple(Note(text, code) for text, code in zip(result.notes, codes, strict=False))


#: Where the log of each step begins in `steps.log`, and how many bytes it has; None for one that has to be looked up.
Logs = list[tuple[int, int] | None]


class StepRow(msgspec.Struct):
    """What became of a step, as `build.json` has it."""

    step: str
    how: How
    reason: str
    seconds: float
    fingerprint: str
    outputs: dict[str, str]
    notes: tuple[str, ...]


class StepReport(msgspec.Struct):
    """What became of one step. `same` tells that it ran and its result was the former one."""

    step: "Step"
    how: How
    fingerprint: str = ""
    reason: str = ""
    seconds: float = 0.0
    same: bool = False
    outputs: Mapping[str, str] = msgspec.field(default_factory=dict)
    notes: tuple[Note, ...] = ()
    log: str = ""
    error: "YarrikError | None" = None
    #: Seconds since the build began, for steps that ran.
    began: float = 0.0
    #: Seconds that it took to bring the result here.
    brought: float = 0.0


def private_steps(graph: "Graph", last: "Mapping[str, LastRun] | None" = None, before: "Iterable[str]" = ()) -> set[str]:
    """The names of the steps whose results go nowhere else: private ones, those that run without a sandbox (or did, in their
    `last` run), and all that is made of what they left; with those of steps that come `before`."""
    found = {*before, *(name for name, run in (last or {}).items() if "setting sandbox" in run.parts)}
    for step in graph.steps:
        if step.private or step.open or (found and any(needed in found for needed in step.needs)):
            found.add(step.name)
    return found


def kept_outputs(store: "Store", last: "LastRun | None", fingerprint: str) -> Mapping[str, str] | None:
    """The outputs of a kept result, by a step's last run or by its fingerprint; None when there is none."""
    if last is not None and still_there(store, last, fingerprint):
        return last.outputs
    result = store.result(fingerprint)
    return None if result is None else result.outputs


def still_there(store: "Store", last: "LastRun | None", fingerprint: str) -> bool:
    """Whether a step's last run had this fingerprint, and all that it left is in the store."""
    return last is not None and last.fingerprint == fingerprint and all(map(store.has, last.outputs.values()))
