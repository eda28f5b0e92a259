"""Which step may start when: a state machine without any input or output of its own.

Events go in (`finish`, `fail`, `hand_back`, `stop`), the next step comes out (`take`). Of the steps that may start, the one
with the longest way to the end goes first, by what each took when it ran last: what everything else waits for is never late."""

from __future__ import annotations

import heapq
from collections.abc import Mapping, Sequence

#: What a step takes of which nothing is known, in seconds: its kind matters less than that it counts at all.
UNKNOWN_SECONDS = 1.0


class Schedule:
    """Steps by name with the names they need, which come before them. Each is handed out once."""

    def __init__(self, needs: Mapping[str, Sequence[str]], seconds: Mapping[str, float] | None = None) -> None:
        self._open = {name: set(wanted) for name, wanted in needs.items()}
        self._users: dict[str, list[str]] = {name: [] for name in needs}
        for name, wanted in needs.items():
            for one in dict.fromkeys(wanted):
                self._users[one].append(name)
        known = seconds or {}
        self._way: dict[str, float] = {}
        for name in reversed(self._open):
            further = max((self._way[user] for user in self._users[name]), default=0.0)
            self._way[name] = known.get(name, UNKNOWN_SECONDS) + further
        order = sorted(enumerate(needs), key=lambda place: (-self._way[place[1]], place[0]))
        self._names = [name for _, name in order]
        self._rank = {name: rank for rank, name in enumerate(self._names)}
        self._ready = sorted(self._rank[name] for name, wanted in self._open.items() if not wanted)  # a heap of ranks
        self._running: set[str] = set()
        self._stopped = False
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

    def hand_back(self, name: str) -> None:
        """The step was not started after all: it is handed out again later."""
        self._running.discard(name)
        if self._stopped:
            self.given_up.add(name)
        else:
            heapq.heappush(self._ready, self._rank[name])

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
        self._stopped = True
        self._ready.clear()
        self.given_up |= self._open.keys() - self.done - self.failed - self._running

    @property
    def idle(self) -> bool:
        """Whether there is nothing that could be handed out now."""
        return not self._ready

    @property
    def running(self) -> int:
        return len(self._running)

    @property
    def left(self) -> int:
        return len(self._open) - len(self.done) - len(self.failed) - len(self.given_up) - len(self._running)

    @property
    def over(self) -> bool:
        return not self._ready and not self._running
