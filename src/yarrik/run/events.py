"""What a build tells while it runs; whoever listens decides how it looks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class StepStarted:
    """A step begins to run; `left` is how many steps are neither done nor started, `expected` the seconds that it took last."""

    step: str
    reason: str
    left: int
    expected: float | None = None


@dataclass(frozen=True)
class StepEnded:
    """A step has run, well or not."""

    step: str
    failed: bool


@dataclass(frozen=True)
class SubjectEnded:
    """All that had to run for a recipe or product has run: which kinds of steps, how long, and the first one's reason.

    `same` tells that the last of them left what it had left before, so nothing after it had to run for it."""

    subject: str
    kinds: tuple[str, ...]
    seconds: float
    reason: str
    failed: bool
    same: bool


@dataclass(frozen=True)
class StillRunning:
    """Nothing has happened for a second; told so that whoever watches sees that time goes by."""


Event = StepStarted | StepEnded | SubjectEnded | StillRunning
Listener = Callable[[Event], None]


def silent(event: Event) -> None:
    """Listens to nothing."""
