"""Why a step has to run: the difference between what went into its last result and what would go in now."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Literal

from yarrik.cache import LastRun
from yarrik.plan.steps import Step

ReasonCode = Literal["new", "source", "toolchain", "settings", "input", "lost"]

#: Tells which files differ between two trees, by digests; empty when the former is not known any more.
Difference = Callable[[str, str], list[str]]


@dataclass(frozen=True)
class Reason:
    code: ReasonCode
    text: str


def reason_for(
    step: Step, parts: Mapping[str, str], last: LastRun | None, difference: Difference, told: Mapping[str, str] | None = None
) -> Reason | None:
    """The reason, or None when nothing that is known has changed.

    `parts` may lack inputs whose digests are not known yet. `told` gives for labels of inputs a text that says what
    changed in them."""
    if last is None:
        return Reason("new", "never built here")
    before = last.parts
    for label in sorted(step.files):
        key = f"file {label}"
        if before.get(key) != parts[key]:
            return Reason("source", _source_text(step, label, before.get(key), parts[key], difference))
    if "setting toolchain" in parts and before.get("setting toolchain") != parts["setting toolchain"]:
        return Reason(
            "toolchain", f"toolchain changed: {before.get('setting toolchain', 'none')} → {parts['setting toolchain']}"
        )
    for key in sorted(parts):
        if key.startswith("setting ") and before.get(key) != parts[key]:
            return Reason("settings", _setting_text(key.removeprefix("setting "), before.get(key), parts[key]))
    gone = sorted(key for key in before if key.startswith("setting ") and key not in parts)
    if gone:
        return Reason("settings", f"{gone[0].removeprefix('setting ')} is not set any more")
    for label in sorted(step.inputs):
        key = f"input {label}"
        if key in parts and before.get(key) != parts[key]:
            return Reason("input", (told or {}).get(label) or _input_text(step, label, before.get(key), parts[key], difference))
    lost = sorted(key for key in before if key.startswith("input ") and key.removeprefix("input ") not in step.inputs)
    if lost:
        return Reason("input", f"{lost[0].removeprefix('input ')} is not an input any more")
    return None


def _source_text(step: Step, label: str, before: str | None, after: str, difference: Difference) -> str:
    if before is None:
        return f"{label} is new"
    names = difference(before, after)
    if not names:
        return f"{label} changed"
    folder = step.places.get(label)
    return f"{label} changed: {shortened([f'{folder.name}/{name}' for name in names] if folder else names)}"


def _input_text(step: Step, label: str, before: str | None, after: str, difference: Difference) -> str:
    source = step.inputs[label][0]
    if label in step.places:
        return _source_text(step, label, before, after, difference)
    if before is None:
        return f"{source} is a new input"
    names = difference(before, after)
    return f"{source} came out different" + (f": {shortened(names)}" if names else "")


def _setting_text(key: str, before: str | None, after: str) -> str:
    if before is None:
        return f"{key} is new: {_short(after)}"
    if len(before) + len(after) > 90:
        return f"{key} changed"
    return f"{key} changed: {_short(before)} → {_short(after)}"


def _short(text: str) -> str:
    return text if len(text) <= 60 else text[:57] + "…"


def shortened(names: list[str], most: int = 3) -> str:
    """`a, b, c and 4 more`."""
    shown = ", ".join(names[:most])
    return shown if len(names) <= most else f"{shown} and {len(names) - most} more"
