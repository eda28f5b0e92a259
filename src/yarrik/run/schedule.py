"""What a build does next: a state machine without any input or output of its own.

Instructions come out of `next`, and events go in; the runner does what an instruction says and reports what came
of it. So a build can be followed, or simulated, without a process, a clock or a file.

==========  ==============================================  =====================================================
instruction what it asks for                                events that answer it
==========  ==============================================  =====================================================
`Look`      is the step's result kept here?                 `kept`, `missing`
`Ask`       has a shared cache its result?                  `kept`, `missing`
`Refill`    nothing runs: restore the job budget's pipe     none
`Take`      take tokens of the job budget                   `granted`
`Claim`     claim the step before other processes do        `claimed`, `held`, `kept`, `failed`
`Start`     run the step                                    `ran`, `failed`, `damaged`
`Give`      give tokens back                                none
`Mend`      forget the results that these steps tripped on  `mended`
==========  ==============================================  =====================================================

Further events: `released` (another process no longer runs a step), `tick` (time has passed) and `stop`.

Of the steps that may start, the one with the longest remaining path goes first, by what each took when it ran last: the
critical path is never late."""

from __future__ import annotations

import heapq
from collections import deque
from collections.abc import Collection, Mapping, Sequence

import msgspec

#: What a step takes of which nothing is known, in seconds: its kind matters less than that it counts at all.
UNKNOWN_SECONDS = 1.0
#: Times that others may go before a step for which there is no room; then room is kept for it.
PATIENCE = 8
#: Damage is found where a step trips over it; one that goes deep shows piece by piece.
MENDINGS = 12


class Load(msgspec.Struct, frozen=True):
    """What a running step takes: jobs, and memory in bytes."""

    jobs: int = 1
    memory: int = 0


LIGHT = Load()
UNLIMITED = Load(jobs=1 << 30, memory=1 << 62)


class Look(msgspec.Struct, frozen=True):
    """Find out whether a step's result is kept here."""

    step: str


class Ask(msgspec.Struct, frozen=True):
    """Ask shared caches for a step's result."""

    step: str


class Refill(msgspec.Struct, frozen=True):
    """Tools that were ended by force took tokens along; while nothing runs, the budget is brought back to its full size."""


class Take(msgspec.Struct, frozen=True):
    """Take at least `least` tokens for a step, and up to `most` of those that are free."""

    step: str
    least: int
    most: int


class Claim(msgspec.Struct, frozen=True):
    """Claim a step, so that no other process runs it."""

    step: str


class Start(msgspec.Struct, frozen=True):
    """Run a step that is claimed, with this number of jobs."""

    step: str
    jobs: int


class Give(msgspec.Struct, frozen=True):
    """Give tokens back to the job budget."""

    tokens: int


class Mend(msgspec.Struct, frozen=True):
    """Nothing runs any more, and these steps found damage in what they were given."""

    steps: tuple[str, ...]


Instruction = Look | Ask | Refill | Take | Claim | Start | Give | Mend


class Rules(msgspec.Struct, frozen=True):
    """How a graph is run, by names of steps. `asks` may be asked of shared caches. `runs` are the steps that may run, all
    when it is None. `greedy` steps take all tokens that no other step waits for, since they cannot ask for more later. Without
    `keep_going` the first failure stops the build."""

    asks: Collection[str] = ()
    runs: Collection[str] | None = None
    greedy: Collection[str] = ()
    keep_going: bool = True


class Schedule:
    """Steps by name with the names they need, which come before them. `seconds` are the durations of their last runs.

    `room` is what may be taken at a time. A step that wants more than all of it runs alone."""

    def __init__(
        self,
        needs: Mapping[str, Sequence[str]],
        seconds: Mapping[str, float] | None = None,
        room: Load = UNLIMITED,
        loads: Mapping[str, Load] | None = None,
        rules: Rules | None = None,
    ) -> None:
        self._needs = needs
        self._users: dict[str, list[str]] = {name: [] for name in needs}
        for name, wanted in needs.items():
            for one in dict.fromkeys(wanted):
                self._users[one].append(name)
        known = seconds or {}
        self._path: dict[str, float] = {}
        for name in reversed(self._users):
            further = max((self._path[user] for user in self._users[name]), default=0.0)
            self._path[name] = known.get(name, UNKNOWN_SECONDS) + further
        order = sorted(enumerate(needs), key=lambda place: (-self._path[place[1]], place[0]))
        self._names = [name for _, name in order]
        self._rank = {name: rank for rank, name in enumerate(self._names)}
        self._room = room
        self._loads = loads or {}
        self._rules = rules or Rules()
        self._mendings = 0
        self._begin()

    def _begin(self) -> None:
        self._open = {name: set(wanted) for name, wanted in self._needs.items()}
        self._to_look = sorted(self._rank[name] for name, wanted in self._open.items() if not wanted)  # a heap of ranks
        self._ready: list[int] = []  # another
        self._then: deque[Instruction] = deque()
        self._passed: dict[str, int] = {}
        self._jobs = self._memory = 0
        self._tokens: dict[str, int] = {}
        self._stopped = self._refused = self._mending = False
        self._asked: set[str] = set()
        self._damaged: dict[str, None] = {}
        #: Steps that are looked up here, or asked of shared caches.
        self.looked_at: set[str] = set()
        #: Steps that take room: they run, or are about to.
        self.running: set[str] = set()
        #: Steps that another process runs: they take no room here.
        self.elsewhere: set[str] = set()
        self.done: set[str] = set()
        self.failures: set[str] = set()
        self.given_up: set[str] = set()

    # Instructions

    def next(self) -> Instruction | None:
        """What is to be done now, or None until something happens."""
        if self._then:
            return self._then.popleft()
        if self._to_look:
            name = self._names[heapq.heappop(self._to_look)]
            self.looked_at.add(name)
            return Look(name)
        if not self._refused and (found := self._fitting()) is not None:
            take = self._taking(found)
            if self.running:
                self._occupy(found)
                return take
            self._occupy(found)
            self._then.append(take)
            return Refill()
        if self._damaged and not self._mending and self._quiet:
            self._mending = True
            return Mend(tuple(sorted(self._damaged)))
        return None

    # Events

    def kept(self, name: str) -> None:
        """The step's result is in the cache here."""
        self._leave(name)
        self._finish(name)

    def missing(self, name: str) -> None:
        """The step was looked up, or asked for, and there is no result."""
        asked = name in self._asked
        if not asked and name in self._rules.asks and not self._stopped:
            self._asked.add(name)
            self._then.append(Ask(name))
            return
        self._leave(name)
        if self._rules.runs is None or name in self._rules.runs:
            self._wait(name)
        else:
            self._give_up(name)

    def granted(self, name: str, tokens: int) -> None:
        """This many tokens were taken for the step. With 0 it waits until some are free; after a stop it does not start."""
        if tokens > 0:
            self._tokens[name] = tokens
            if not self._stopped:
                self._then.append(Claim(name))
                return
        self._leave(name)
        self._wait(name)
        self._refused = tokens <= 0

    def claimed(self, name: str) -> None:
        """No other process runs the step."""
        self._then.append(Start(name, self._tokens[name]))

    def held(self, name: str) -> None:
        """Another process runs the step: it waits, and takes no room. `released` follows."""
        self._leave(name)
        if self._stopped:
            self._give_up(name)
        else:
            self.elsewhere.add(name)

    def released(self, name: str) -> None:
        """Another process no longer runs the step: its result is looked for again."""
        if name in self.elsewhere:
            self.elsewhere.discard(name)
            heapq.heappush(self._to_look, self._rank[name])

    def ran(self, name: str) -> None:
        """The step ran, and its result is in the cache."""
        self._leave(name)
        self._finish(name)

    def failed(self, name: str) -> None:
        """The step has failed: all that needs it, near or far, is given up."""
        self._leave(name)
        self.failures.add(name)
        self._give_up(*self._users[name])
        if not self._rules.keep_going:
            self.stop()

    def damaged(self, name: str) -> None:
        """The step has failed since something of what it was given is damaged. `Mend` follows when nothing runs any more."""
        self._damaged[name] = None
        self.failed(name)

    def mended(self, found: bool) -> None:
        """Damaged results were found and forgotten, so that the build begins anew; or there were none, and it stays failed."""
        self._mendings += 1
        if found and self._mendings < MENDINGS:
            self._begin()
        else:
            self._damaged.clear()

    def tick(self) -> None:
        """Time has passed: tokens that were refused may be free."""
        self._refused = False

    def stop(self) -> None:
        """Nothing more starts: what is neither running nor being looked up, nor done, is given up."""
        self._stopped = True
        self._ready.clear()
        self._to_look.clear()
        self.elsewhere.clear()
        pending = [one for one in self._then if isinstance(one, (Ask, Take, Claim))]
        for one in pending:
            self._then.remove(one)
            self._leave(one.step)
        self.given_up |= self._open.keys() - self.done - self.failures - self.running - self.looked_at

    # What can be asked at any time

    def path(self, name: str) -> float:
        """The seconds from the start of this step to the end of all that waits for it: its longest remaining path."""
        return self._path[name]

    @property
    def starved(self) -> bool:
        """Whether a step could start if there were tokens for it."""
        return self._refused and bool(self._ready)

    @property
    def over(self) -> bool:
        """Whether every step is done, failed or given up, and nothing has to be mended."""
        return self._quiet and not self._damaged

    @property
    def _quiet(self) -> bool:
        return not (self._then or self._ready or self._to_look or self.running or self.looked_at or self.elsewhere)

    # Inside

    def _fitting(self) -> str | None:
        """The first step that has to run and for which there is room; it is no longer ready then."""
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
        return found

    def _fits(self, load: Load) -> bool:
        return not self.running or (
            self._jobs + load.jobs <= self._room.jobs and self._memory + load.memory <= self._room.memory
        )

    def _taking(self, name: str) -> Take:
        least = min(self._loads.get(name, LIGHT).jobs, self._room.jobs)
        spare = self._room.jobs - len(self.running) - 1 - len(self._ready) if name in self._rules.greedy else 0
        return Take(name, least, least + max(0, spare))

    def _finish(self, name: str) -> None:
        self.done.add(name)
        for user in self._users[name]:
            self._open[user].discard(name)
            if not self._open[user] and user not in self.given_up:
                heapq.heappush(self._to_look, self._rank[user])

    def _wait(self, name: str) -> None:
        if self._stopped:
            self._give_up(name)
        else:
            heapq.heappush(self._ready, self._rank[name])

    def _give_up(self, *names: str) -> None:
        """These steps and all that needs them are not reached."""
        waiting = list(names)
        while waiting:
            name = waiting.pop()
            if name not in self.given_up:
                self.given_up.add(name)
                waiting.extend(self._users[name])

    def _occupy(self, name: str) -> None:
        self.running.add(name)
        self._count(name, 1)

    def _leave(self, name: str) -> None:
        self.looked_at.discard(name)
        if name in self.running:
            self.running.discard(name)
            self._count(name, -1)
            if tokens := self._tokens.pop(name, 0):
                self._then.append(Give(tokens))
                self._refused = False

    def _count(self, name: str, times: int) -> None:
        load = self._loads.get(name, LIGHT)
        self._jobs += times * load.jobs
        self._memory += times * load.memory
