"""What a build tells while it runs; whoever listens decides how it looks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class StepStarted:
    """A step begins to run; `left` is how many steps are neither done nor started."""

    step: str
    reason: str
    left: int


@dataclass(frozen=True)
class StepEnded:
    """A step has run. `same` tells that its result is the one it had before, so nothing after it has to run for it."""

    step: str
    seconds: float
    failed: bool
    same: bool


Listener = Callable[[StepStarted | StepEnded], None]


def silent(event: StepStarted | StepEnded) -> None:
    """Listens to nothing."""
