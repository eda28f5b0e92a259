"""What a build would do, without doing it: which steps run for certain, which may, and why."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING, Literal

import msgspec

from yarrik.errors import listed
from yarrik.plan.reasons import all_differences, reason_for
from yarrik.plan.steps import fingerprint_of, parts_of

if TYPE_CHECKING:
    from yarrik.cache import LastRun
    from yarrik.plan.reasons import Difference
    from yarrik.plan.step_graph import Graph
    from yarrik.plan.steps import Step

#: Where everything has to be built, all that comes before a step is a cause: naming it all would grow with the square.
MOST_CAUSES = 20

Verdict = Literal["kept", "runs", "may run"]


class Assessment(msgspec.Struct, frozen=True):
    """The verdict on one step. `causes` names the changes that it can be traced back to, at most `MOST_CAUSES` of them;
    `inputs` are the digests of its inputs as far as they are known."""

    step: Step
    verdict: Verdict
    reason: str = ""
    causes: tuple[str, ...] = ()
    inputs: Mapping[str, str] = msgspec.field(default_factory=dict)


def assess(
    graph: Graph,
    lookup: Callable[[str, str], Mapping[str, str] | None],
    last_runs: Mapping[str, LastRun],
    difference: Difference,
    settled: Mapping[str, Mapping[str, str]] | None = None,
) -> list[Assessment]:
    """Goes through the graph in order. `lookup(step, fingerprint)` gives the outputs of a kept result, or None. `settled` has
    outputs of steps that are known to be kept already, in the graph or needed by steps of it: nothing else is said of these.

    A step whose inputs are not known yet may run: it does not if its inputs come out as they were."""
    outputs: dict[str, Mapping[str, str]] = dict(settled or {})
    found: dict[str, Assessment] = {}
    for step in graph.steps:
        if step.name in outputs:
            found[step.name] = Assessment(step, "kept")
            continue
        inputs = {label: outputs[name][output] for label, (name, output) in step.inputs.items() if name in outputs}
        causes = _first(cause for name in step.needs if name in found for cause in found[name].causes)
        if len(inputs) == len(step.inputs):
            fingerprint = fingerprint_of(step, inputs)
            kept = lookup(step.name, fingerprint)
            if kept is not None:
                outputs[step.name] = kept
                found[step.name] = Assessment(step, "kept", inputs=inputs)
                continue
        last = last_runs.get(step.name)
        told = {
            label: _cause_text(needed)
            for label, (name, _) in step.inputs.items()
            if (needed := found.get(name)) is not None and needed.causes
        }
        reason = reason_for(step, parts_of(step, inputs), last, difference, told)
        if reason is None and len(inputs) < len(step.inputs):
            waits = [name for name in step.needs if name not in outputs]
            text = f"if {listed(waits, 'or')} comes out different"
            found[step.name] = Assessment(step, "may run", text, causes, inputs)
            continue
        text = reason.text if reason is not None else "the cache does not have its result"
        if step.predicted:
            outputs[step.name] = step.predicted
        own = () if reason is not None and reason.code == "input" and causes else (f"{step.subject}: {text}",)
        found[step.name] = Assessment(step, "runs", text, _first((*own, *causes)), inputs)
    return [found[step.name] for step in graph.steps]


def _first(causes: Iterable[str]) -> tuple[str, ...]:
    """Causes, each once, as many as are named."""
    found: dict[str, None] = {}
    for cause in causes:
        found[cause] = None
        if len(found) == MOST_CAUSES:
            break
    return tuple(found)


def _cause_text(needed: Assessment) -> str:
    return f"{needed.step.subject}: {needed.reason}" if needed.step.kind != "prepare" else needed.reason


def explained(one: Assessment, last: LastRun | None, difference: Difference) -> tuple[list[tuple[str, str, str]], list[str]]:
    """Everything in which a step's last fingerprint and the next differ (what, before, after), and the steps whose outputs are
    not known before they have run."""
    parts = parts_of(one.step, one.inputs)
    unknown = sorted(label for label in one.step.inputs if label not in one.inputs)
    if last is not None:
        parts |= {key: last.parts[key] for label in unknown if (key := f"input {label}") in last.parts}
    waits = [one.step.inputs[label][0] for label in unknown]
    return all_differences(one.step, parts, last, difference), list(dict.fromkeys(waits))
