"""Which step may start when: a state machine without any input or output of its own."""

from __future__ import annotations

import heapq
from collections.abc import Mapping, Sequence


class Schedule:
    """Steps by name with the names they need. Steps are handed out once, in the order they were given."""

    def __init__(self, needs: Mapping[str, Sequence[str]]) -> None:
        self._open = {name: set(wanted) for name, wanted in needs.items()}
        self._users: dict[str, list[str]] = {name: [] for name in needs}
        for name, wanted in needs.items():
            for one in wanted:
                self._users[one].append(name)
        self._rank = {name: index for index, name in enumerate(needs)}
        self._names = list(needs)
        self._ready = [self._rank[name] for name, wanted in self._open.items() if not wanted]  # a heap of ranks
        self._running: set[str] = set()
        self.done: set[str] = set()
        self.failed: set[str] = set()
        self.given_up: set[str] = set()

    def take(self) -> str | None:
        """The next step whose needs are all done, or None when there is none right now."""
        if not self._ready:
            return None
        name = self._names[heapq.heappop(self._ready)]
        self._running.add(name)
        return name

    def finish(self, name: str) -> None:
        """The step is done: those that waited for it alone become ready."""
        self._running.discard(name)
        self.done.add(name)
        for user in self._users[name]:
            self._open[user].discard(name)
            if not self._open[user] and user not in self.given_up:
                heapq.heappush(self._ready, self._rank[user])

    def fail(self, name: str) -> None:
        """The step has failed: all that needs it, near or far, is given up."""
        self._running.discard(name)
        self.failed.add(name)
        waiting = list(self._users[name])
        while waiting:
            user = waiting.pop()
            if user not in self.given_up:
                self.given_up.add(user)
                waiting.extend(self._users[user])

    def stop(self) -> None:
        """Hands out nothing more: what is not running or done is given up."""
        self._ready.clear()
        self.given_up |= self._open.keys() - self.done - self.failed - self._running

    @property
    def running(self) -> int:
        return len(self._running)

    @property
    def left(self) -> int:
        return len(self._open) - len(self.done) - len(self.failed) - len(self.given_up) - len(self._running)

    @property
    def over(self) -> bool:
        return not self._ready and not self._running
