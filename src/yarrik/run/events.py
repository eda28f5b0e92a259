"""Events of a running build; listeners decide how they look."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Literal

import msgspec

from yarrik.errors import Trouble

How = Literal["kept", "shared", "ran", "failed", "not reached", "damaged"]


class Progress(msgspec.Struct, frozen=True):
    """How far a build is: steps in all, those whose result is there (`kept` in the cache here, `shared` from another one,
    `ran`), and the seconds that are left, as far as former builds tell."""

    steps: int = 0
    kept: int = 0
    shared: int = 0
    ran: int = 0
    seconds_left: float | None = None

    @property
    def done(self) -> int:
        """Steps whose result is there."""
        return self.kept + self.shared + self.ran


class StepStarted(msgspec.Struct, frozen=True):
    """A step begins to run; `expected` are the seconds that it took last."""

    step: str
    reason: str
    progress: Progress
    expected: float | None = None


class StepWaits(msgspec.Struct, frozen=True):
    """Another process runs the same step; this build waits for its result, and runs others meanwhile. `process`, `workspace`
    and `product` say which, as far as it is known."""

    step: str
    progress: Progress
    process: int | None = None
    workspace: str = ""
    product: str = ""


class StepEnded(msgspec.Struct, frozen=True):
    """A step has run, well or not; or its result came from a shared cache. `what` describes a failure."""

    step: str
    how: How
    seconds: float
    progress: Progress
    what: str = ""
    same: bool = False


class SubjectEnded(msgspec.Struct, frozen=True):
    """All that had to run for a recipe or product has run: which kinds of steps, how long, and the first one's reason.

    `same` tells that the last of them left what it had left before, so nothing after it had to run for it."""

    subject: str
    kinds: tuple[str, ...]
    seconds: float
    reason: str
    failed: bool
    same: bool


class StillRunning(msgspec.Struct, frozen=True):
    """Nothing has happened for a second; reported so that a view shows that time goes by. `doing` says of steps what they
    are at, like how much of a download has come."""

    progress: Progress
    doing: Mapping[str, str] = msgspec.field(default_factory=dict)


class Sending(msgspec.Struct, frozen=True):
    """The build is done, and `left` results are still on their way to shared caches."""

    left: int


class Warned(msgspec.Struct, frozen=True):
    """Something that may make the build fail later."""

    trouble: Trouble


Event = Warned | StepStarted | StepWaits | StepEnded | SubjectEnded | StillRunning | Sending
Listener = Callable[[Event], None]


def silent(event: Event) -> None:
    """Listens to nothing."""
