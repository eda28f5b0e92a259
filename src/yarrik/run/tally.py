"""How far a build is, and how long it may still take."""

from __future__ import annotations

import itertools
import time
from collections.abc import Callable, Collection, Mapping

from yarrik.run.events import How, Progress
from yarrik.run.schedule import UNKNOWN_SECONDS

#: Steps that are looked at to find out whether enough of their durations are known for an estimate.
_SAMPLE = 200


class Tally:
    """Counts what became of `steps` steps. `seconds` are the durations of their last runs, as far as there are any; `path`
    gives the longest remaining path from the start of a step, in seconds."""

    def __init__(self, steps: int, seconds: Mapping[str, float], jobs: int, path: Callable[[str], float]) -> None:
        self._steps = steps
        self._seconds = seconds
        self._jobs = jobs
        self._path = path
        self.begin()

    def begin(self) -> None:
        """Counts from zero again, since all steps are looked up anew."""
        self._since: dict[str, float] = {}
        self._to_run: Collection[str] = ()
        self._left = 0.0
        self._counts: dict[How, int] = {}

    def expect(self, to_run: set[str], settled: Collection[str]) -> None:
        """The steps that run in all, and those of them that are settled by now."""
        self._to_run = to_run
        self._left = sum(self._seconds.get(one, UNKNOWN_SECONDS) for one in to_run if one not in settled)

    def started(self, name: str) -> None:
        """A step begins to run."""
        self._since[name] = time.monotonic()

    def settled(self, name: str, how: How) -> None:
        """A step has ended, or its result was there."""
        self._counts[how] = self._counts.get(how, 0) + 1
        self._since.pop(name, None)
        if name in self._to_run:
            self._left -= self._seconds.get(name, UNKNOWN_SECONDS)

    @property
    def progress(self) -> Progress:
        """How far the build is; with the seconds left when half of the durations are known."""
        left: float | None = None
        sample = list(itertools.islice(self._to_run, _SAMPLE))
        if sample and sum(name in self._seconds for name in sample) * 2 >= len(sample):
            now = time.monotonic()
            spent = {name: min(now - since, self._seconds.get(name, UNKNOWN_SECONDS)) for name, since in self._since.items()}
            paths = [self._path(name) - took for name, took in spent.items()]
            left = max((self._left - sum(spent.values())) / self._jobs, *paths, 0.0, 0.0)
        count = self._counts.get
        return Progress(self._steps, count("kept", 0), count("shared", 0), count("ran", 0), left)
