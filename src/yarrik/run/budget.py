"""One budget of jobs for all steps and the build systems inside them, by the protocol of GNU make's jobserver.

A pipe holds a token for each job that may still be started ("POSIX Jobserver Interaction", GNU make manual, section 13.1.1).
Each step that runs has taken one, and the make inside it takes further ones for what it does beside. So a machine of two
processors runs two jobs, not two for each of two steps."""

from __future__ import annotations

import contextlib
import os

TOKEN = b"+"


class JobBudget:
    """Tokens for `jobs` jobs. Closed with `close`."""

    def __init__(self, jobs: int) -> None:
        self.jobs = jobs
        self._read, self._write = os.pipe()
        os.set_blocking(self._read, False)
        os.write(self._write, TOKEN * jobs)

    def take(self, count: int) -> bool:
        """Takes `count` tokens for a step, or all there can be; False, and none are taken, when they are not free."""
        count = min(count, self.jobs)
        try:
            taken = len(os.read(self._read, count))
        except BlockingIOError:
            return False
        if taken < count:
            self.give(taken)
        return taken == count

    def take_some(self, most: int) -> int:
        """Takes free tokens, up to `most`; returns how many."""
        if most <= 0:
            return 0
        try:
            return len(os.read(self._read, most))
        except BlockingIOError:
            return 0

    def give(self, count: int) -> None:
        """Gives a step's tokens back."""
        os.write(self._write, TOKEN * min(count, self.jobs))

    def refill(self) -> None:
        """Brings the budget back to its full size while no step runs: tools that were ended by force took tokens along."""
        with contextlib.suppress(BlockingIOError):
            while os.read(self._read, 4096):
                pass
        os.write(self._write, TOKEN * self.jobs)

    @property
    def descriptors(self) -> tuple[int, int]:
        """What processes that take part have to inherit."""
        return self._read, self._write

    @property
    def environment(self) -> dict[str, str]:
        """Tells make of the budget."""
        return {"MAKEFLAGS": f" -j{self.jobs} --jobserver-auth={self._read},{self._write}"}

    def close(self) -> None:
        """Closes the pipe; no tool may use it any more."""
        os.close(self._read)
        os.close(self._write)
