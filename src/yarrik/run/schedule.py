"""Which step may start when: a state machine without any input or output of its own.

A step waits for its needs; then it is looked up (`look`), for its result may be kept somewhere; what has to run waits for room
and is handed out (`take`). Events go in: `finish`, `must_run`, `fail`, `hand_back`, `leave_to_others`, `stop`.
Of the steps that may start, the one with the longest remaining path goes first, by what each took when it ran last: what
everything else waits for is never late."""

from __future__ import annotations

import heapq
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

#: What a step takes of which nothing is known, in seconds: its kind matters less than that it counts at all.
UNKNOWN_SECONDS = 1.0
#: Times that others may go before a step for which there is no room; then room is kept for it.
PATIENCE = 8


@dataclass(frozen=True)
class Load:
    """What a running step takes: jobs, and memory in bytes."""

    jobs: int = 1
    memory: int = 0


LIGHT = Load()
UNLIMITED = Load(jobs=1 << 30, memory=1 << 62)


class Schedule:
    """Steps by name with the names they need, which come before them. Each is looked up once and handed out once.

    `room` is what may be taken at a time. A step that wants more than all of it runs alone."""

    def __init__(
        self,
        needs: Mapping[str, Sequence[str]],
        seconds: Mapping[str, float] | None = None,
        room: Load = UNLIMITED,
        loads: Mapping[str, Load] | None = None,
    ) -> None:
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
        self._to_look = sorted(self._rank[name] for name, wanted in self._open.items() if not wanted)  # a heap of ranks
        self._ready: list[int] = []  # another
        self._passed: dict[str, int] = {}
        self._room = room
        self._loads = loads or {}
        self._jobs = self._memory = 0
        self._stopped = False
        self.looked_at: set[str] = set()
        self.running: set[str] = set()
        #: Steps that another process runs: they take no room here.
        self.elsewhere: set[str] = set()
        self.done: set[str] = set()
        self.failed: set[str] = set()
        self.given_up: set[str] = set()

    def look(self) -> str | None:
        """The next step whose needs are all done, so that its result may be looked for; None when there is none right now."""
        if not self._to_look:
            return None
        name = self._names[heapq.heappop(self._to_look)]
        self.looked_at.add(name)
        return name

    def must_run(self, name: str) -> None:
        """The step was looked up, and there is no result."""
        self._leave(name)
        self._wait(name)

    def take(self) -> str | None:
        """The next step that has to run and for which there is room, or None when there is none right now."""
        passed: list[int] = []
        found: str | None = None
        while self._ready and (self._jobs < self._room.jobs or not self.running):
            rank = heapq.heappop(self._ready)
            name = self._names[rank]
            if self._fits(self._loads.get(name, LIGHT)):
                found = name
                break
            passed.append(rank)
            if self._passed.get(name, 0) >= PATIENCE:
                break  # it has waited long enough: nobody else starts before it
        for rank in passed:
            heapq.heappush(self._ready, rank)
            if found is not None:
                self._passed[self._names[rank]] = self._passed.get(self._names[rank], 0) + 1
        if found is not None:
            self.running.add(found)
            self._count(found, 1)
        return found

    def hand_back(self, name: str) -> None:
        """The step was not started after all: it is handed out again later."""
        self._leave(name)
        self._wait(name)

    def leave_to_others(self, name: str) -> None:
        """Another process runs the step: it waits, and takes no room. `finish` or `must_run` follows."""
        self._leave(name)
        if self._stopped:
            self.given_up.add(name)
        else:
            self.elsewhere.add(name)

    def finish(self, name: str) -> None:
        """The step's result is there: those that waited for it alone can be looked up."""
        self._leave(name)
        self.done.add(name)
        for user in self._users[name]:
            self._open[user].discard(name)
            if not self._open[user] and user not in self.given_up:
                heapq.heappush(self._to_look, self._rank[user])

    def fail(self, name: str) -> None:
        """The step has failed: all that needs it, near or far, is given up."""
        self._leave(name)
        self.failed.add(name)
        waiting = list(self._users[name])
        while waiting:
            user = waiting.pop()
            if user not in self.given_up:
                self.given_up.add(user)
                waiting.extend(self._users[user])

    def stop(self) -> None:
        """Hands out nothing more: what is neither running nor being looked up, nor done, is given up."""
        self._stopped = True
        self._ready.clear()
        self._to_look.clear()
        self.elsewhere.clear()
        self.given_up |= self._open.keys() - self.done - self.failed - self.running - self.looked_at

    def way(self, name: str) -> float:
        """The seconds from the start of this step to the end of all that waits for it: its longest remaining path."""
        return self._way[name]

    @property
    def idle(self) -> bool:
        """Whether there is nothing that could be handed out, now or once there is room."""
        return not self._ready

    @property
    def waiting(self) -> int:
        """Steps that could start if there were room."""
        return len(self._ready)

    @property
    def left(self) -> int:
        """Steps that are not settled and do not run."""
        return len(self._open) - len(self.done) - len(self.failed) - len(self.given_up) - len(self.running)

    @property
    def over(self) -> bool:
        return not (self._ready or self._to_look or self.running or self.looked_at or self.elsewhere)

    def _wait(self, name: str) -> None:
        if self._stopped:
            self.given_up.add(name)
        else:
            heapq.heappush(self._ready, self._rank[name])

    def _fits(self, load: Load) -> bool:
        return not self.running or (
            self._jobs + load.jobs <= self._room.jobs and self._memory + load.memory <= self._room.memory
        )

    def _leave(self, name: str) -> None:
        self.looked_at.discard(name)
        self.elsewhere.discard(name)
        if name in self.running:
            self.running.discard(name)
            self._count(name, -1)

    def _count(self, name: str, times: int) -> None:
        load = self._loads.get(name, LIGHT)
        self._jobs += times * load.jobs
        self._memory += times * load.memory
