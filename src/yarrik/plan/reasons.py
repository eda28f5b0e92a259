"""Why a step has to run: the difference between what went into its last result and what would go in now."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Literal

import msgspec

from yarrik.errors import printable

if TYPE_CHECKING:
    from yarrik.cache import LastRun
    from yarrik.plan.steps import Step

ReasonCode = Literal["new", "source", "toolchain", "settings", "input", "lost"]

#: What settings of steps are called, where their own names say little.
_NAMES = {"own": "files of the image"}

#: Tells which files differ between two trees, by digests; empty when the former is not known any more.
Difference = Callable[[str, str], list[str]]


class Reason(msgspec.Struct, frozen=True):
    """Why a step runs. The text can be stored and shown anywhere, whatever file names are in it."""

    code: ReasonCode
    text: str

    def __post_init__(self) -> None:
        msgspec.structs.force_setattr(self, "text", printable(self.text))


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
    changed = [key for key in sorted(parts) if key.startswith("setting ") and before.get(key) != parts[key]]
    gone = sorted(key for key in before if key.startswith("setting ") and key not in parts)
    if changed or gone:
        chosen = [key for key in sorted(parts) if key.startswith("choice ") and before.get(key, parts[key]) != parts[key]]
        if chosen:  # what somebody decided says more than what follows from it
            asked = [key for key in chosen if key.removeprefix("choice ") in step.marks] or chosen
            return Reason("settings", _choice_text(step, asked[0], before[asked[0]], parts[asked[0]]))
    if changed:
        return Reason("settings", _setting_text(changed[0].removeprefix("setting "), before.get(changed[0]), parts[changed[0]]))
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


def all_differences(
    step: Step, parts: Mapping[str, str], last: LastRun | None, difference: Difference
) -> list[tuple[str, str, str]]:
    """Everything that differs between the last fingerprint and the next: what, before, after. For trees the paths."""
    if last is None:
        return []
    before = last.parts
    found = []
    for key in sorted(before.keys() | parts.keys()):
        old, new = before.get(key, ""), parts.get(key, "")
        if old == new:
            continue
        kind, _, label = key.partition(" ")
        if kind in ("file", "input") and old and new:
            names = difference(old, new)
            if names:
                found += [(f"{kind} {label}", name, "differs") for name in names]
                continue
            old, new = f"{old[:16]}…", f"{new[:16]}…"
        elif kind == "setting" and old.startswith("[") and new.startswith("["):
            old, new = _words_apart(old, new)
        what = f"{label} of {step.inputs[label][0]}" if kind == "input" and label in step.inputs else label
        found.append((f"{kind} {what}", old, new))
    return found


def _words_apart(before: str, after: str) -> tuple[str, str]:
    """Two settings that are lists (of commands): only the words that the other has not."""

    def words(value: object) -> list[str]:
        return [word for item in value for word in words(item)] if isinstance(value, list) else [str(value)]

    old, new = words(msgspec.json.decode(before)), words(msgspec.json.decode(after))
    gone, come = (
        [word for word in dict.fromkeys(old) if word not in new],
        [word for word in dict.fromkeys(new) if word not in old],
    )
    return (" ".join(gone), " ".join(come)) if gone or come else (before, after)


def _choice_text(step: Step, key: str, before: str, after: str) -> str:
    label = key.removeprefix("choice ")
    place = step.marks.get(label)
    return f"{label}: {before} → {after}" + (f" ({place.short})" if place is not None else "")


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
    name = _NAMES.get(key, key)
    if len(before) + len(after) <= 90:
        return f"{name} changed: {_short(before)} → {_short(after)}"
    old, new = _by_name(before), _by_name(after)
    if old is None or new is None:
        return f"{name} changed"
    different = sorted(one for one in old.keys() | new.keys() if old.get(one) != new.get(one))
    return f"{name} changed: {shortened(different)}" if different else f"{name} changed"


def _by_name(text: str) -> dict[str, object] | None:
    """The elements of a setting by their paths or names; None where it is no list of such."""
    try:
        found = msgspec.json.decode(text)
    except msgspec.DecodeError:
        return None
    if not isinstance(found, list) or not all(isinstance(one, dict) for one in found):
        return None
    named = {str(one.get("path") or one.get("name") or ""): one for one in found}
    return named if "" not in named and len(named) == len(found) else None


def _short(text: str) -> str:
    return text if len(text) <= 60 else text[:57] + "…"


def shortened(names: list[str], most: int = 3) -> str:
    """`a, b, c and 4 more`."""
    shown = ", ".join(names[:most])
    return shown if len(names) <= most else f"{shown} and {len(names) - most} more"
