"""A conflict-driven solver over choices. It knows nothing of packages.

A *variable* is a choice among numbered candidates; candidate 0 stands for "nothing of it". A set of candidates is the bits of
an int. A *clause* is a list of terms (variable, set) that must not all hold at once: "tidelog is 1.4, and libtide is not one
of 2.0, 2.1" says that tidelog 1.4 needs one of these two. The approach is the one published as PubGrub, which is conflict-
driven clause learning with the derivation kept, carried over to sets of candidates: every learned clause knows the two
clauses it was made of, so that "impossible" comes with the clauses it follows from.

Nothing here depends on a clock, on hashes or on the order of anything but the problem's own.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Protocol

Term = tuple[int, int]


class Clause:
    """Terms that must not all hold. `cause` says where a given clause comes from; a learned one has two parents."""

    __slots__ = ("cause", "parents", "terms")

    def __init__(self, terms: tuple[Term, ...], cause: object = None, parents: tuple[Clause, Clause] | None = None) -> None:
        self.terms = terms
        self.cause = cause
        self.parents = parents

    def given(self) -> Iterator[Clause]:
        """The given clauses that this one follows from, each once."""
        seen: set[int] = set()
        waiting = [self]
        while waiting:
            clause = waiting.pop()
            if id(clause) in seen:
                continue
            seen.add(id(clause))
            if clause.parents is None:
                yield clause
            else:
                waiting.extend(clause.parents)


class _Watch:
    """A clause and the positions of its two watched terms."""

    __slots__ = ("clause", "first", "second")

    def __init__(self, clause: Clause, first: int, second: int) -> None:
        self.clause = clause
        self.first = first
        self.second = second


class Problem(Protocol):
    """What the solver asks. Variables are small ints, handed out by the problem as it meets them."""

    def size(self, variable: int) -> int:
        """The number of candidates, with "nothing of it"."""

    def rank(self, variable: int) -> int:
        """Variables of a lower rank are decided before those of a higher one."""

    def clauses(self, variable: int, candidate: int) -> Iterable[Clause]:
        """What follows from a candidate. Called once for each; clauses may speak of other candidates too."""

    def pick(self, variable: int, allowed: int, chosen: Callable[[int], int]) -> int:
        """The most welcome of the allowed candidates. `chosen` tells which candidates of a variable are still allowed."""

    def wishes(self, variable: int, candidate: int) -> Sequence[int]:
        """Variables that ought to be something when this candidate is chosen, but need not."""


class Impossible(Exception):
    """No choice satisfies all clauses; `clauses` are given ones that cannot hold together."""

    def __init__(self, clauses: list[Clause]) -> None:
        super().__init__(f"{len(clauses)} clauses cannot hold together")
        self.clauses = clauses


class TooHard(Exception):
    """The limit of conflicts was reached, or the patience is over. `stuck` are the variables that conflicts were about most
    often, the most frequent first, and `clauses` the given ones that the last conflict follows from."""

    def __init__(self, stuck: Sequence[int] = (), clauses: Sequence[Clause] = ()) -> None:
        super().__init__("no answer was found in time")
        self.stuck = tuple(stuck)
        self.clauses = tuple(clauses)


Progress = Callable[[int, int], None]


def solve(
    problem: Problem,
    roots: Iterable[Clause],
    limit: int = 200_000,
    progress: Progress = lambda decided, conflicts: None,
    patient: Callable[[], bool] = lambda: True,
) -> dict[int, int]:
    """The candidate of each variable that is not nothing. Raises Impossible, or TooHard after `limit` conflicts, or when
    `patient` says no: it is asked now and then.

    `progress` is told now and then how many variables are settled and how many conflicts there were."""
    return _Solver(problem, limit, progress, patient).run(roots)


class _Solver:
    def __init__(self, problem: Problem, limit: int, progress: Progress, patient: Callable[[], bool]) -> None:
        self.problem = problem
        self.limit = limit
        self.progress = progress
        self.patient = patient
        #: How many conflicts each variable was part of.
        self.trouble: dict[int, int] = {}
        self.allowed: list[int] = []
        self.full: list[int] = []
        #: For each variable the clauses of two terms: own set, other variable, the other's set, the clause.
        self.pairs: list[list[tuple[int, int, int, Clause]]] = []
        #: For each variable the longer clauses that are to be looked at when it is narrowed: each clause is in two of the
        #: lists, those of terms that do not hold yet, or came to hold last.
        self.watching: list[list[_Watch]] = []
        self.history: list[list[int]] = []
        self.trail: list[tuple[int, int, Clause | None, int]] = []  # variable, allowed before, reason, level
        self.starts: list[int] = []  # where on the trail each level begins
        self.pending: list[int] = []
        self.needed: list[tuple[int, int]] = []  # heap of (rank and order of coming, variable)
        self.place: list[int] = []
        self.wished: list[tuple[int, int, int]] = []
        self.expanded: list[int] = []
        #: Clauses with the level that they were taken in at: going back to an earlier one, they may have a say there.
        self.fresh: list[tuple[int, Clause]] = []
        #: Clauses that ask for one of several: they may be broken when what is left open is taken for nothing.
        self.loose: list[Clause] = []
        self.conflicts = 0
        self.decisions = 0

    def run(self, roots: Iterable[Clause]) -> dict[int, int]:
        conflict = self._add(roots)
        while True:
            if conflict is None:
                conflict = self._propagate()
            if conflict is not None:
                self.conflicts += 1
                for part, _ in conflict.terms:
                    self.trouble[part] = self.trouble.get(part, 0) + 1
                if self.conflicts > self.limit or (self.conflicts % 50 == 0 and not self.patient()):
                    stuck = sorted(self.trouble, key=lambda one: (-self.trouble[one], one))
                    raise TooHard(stuck, sorted_given(conflict))
                if self.conflicts % 500 == 0:
                    self.progress(len(self.trail), self.conflicts)
                conflict = self._learn(conflict)
                continue
            variable = self._next()
            if variable is None:
                unneeded = self._one_to_leave_out()
                if unneeded is not None:
                    self.starts.append(len(self.trail))
                    self._narrow(unneeded, 1, None)
                    continue
                return {
                    variable: allowed.bit_length() - 1
                    for variable, allowed in enumerate(self.allowed)
                    if allowed & (allowed - 1) == 0 and allowed != 1
                }
            self.decisions += 1
            if self.decisions % 2000 == 0:
                self.progress(len(self.trail), self.conflicts)
            candidate = self.problem.pick(variable, self.allowed[variable], self.allowed.__getitem__)
            self.starts.append(len(self.trail))
            self._narrow(variable, 1 << candidate, None)

    # Clauses

    def _grow(self, variable: int) -> None:
        for new in range(len(self.allowed), variable + 1):
            full = (1 << self.problem.size(new)) - 1
            self.allowed.append(full)
            self.full.append(full)
            self.pairs.append([])
            self.watching.append([])
            self.history.append([])
            self.place.append(-1)
            self.expanded.append(0)

    def _add(self, clauses: Iterable[Clause]) -> Clause | None:
        """Takes clauses in; returns the first that is broken already."""
        broken: Clause | None = None
        for clause in clauses:
            terms = clause.terms
            always, with_nothing = False, 0
            for variable, members in terms:
                if variable >= len(self.allowed):
                    self._grow(variable)
                always = always or members == self.full[variable]
                with_nothing += members & 1
            if always:
                # A term that always holds says nothing; the rest is what follows from the clause.
                terms = tuple(term for term in terms if term[1] != self.full[term[0]])
                clause = Clause(terms, clause.cause, clause.parents)
                with_nothing = sum(members & 1 for _, members in terms)
            self.fresh.append((len(self.starts), clause))
            if with_nothing > 1:
                self.loose.append(clause)
            if len(terms) == 2:
                (a, in_a), (b, in_b) = terms
                self.pairs[a].append((in_a, b, in_b, clause))
                self.pairs[b].append((in_b, a, in_a, clause))
            elif len(terms) > 2:
                self._watch(clause)
            if broken is None:
                broken = self._examine(clause)
        return broken

    def _watch(self, clause: Clause) -> None:
        """Watches two terms: such as do not hold, else those that came to hold last."""

        def recent(position: int) -> int:
            variable, members = clause.terms[position]
            if self.allowed[variable] & ~members:
                return len(self.trail)
            return self._satisfier(variable, members) if self.history[variable] else -1

        first, second, *_ = sorted(range(len(clause.terms)), key=recent, reverse=True)
        watch = _Watch(clause, first, second)
        self.watching[clause.terms[first][0]].append(watch)
        self.watching[clause.terms[second][0]].append(watch)

    def _visit(self, variable: int) -> Clause | None:
        """Looks at the longer clauses that watch a variable that was narrowed."""
        allowed = self.allowed
        have = allowed[variable]
        kept: list[_Watch] = []
        broken: Clause | None = None
        watches = self.watching[variable]
        for number, watch in enumerate(watches):
            terms = watch.clause.terms
            mine, other = (watch.first, watch.second) if terms[watch.first][0] == variable else (watch.second, watch.first)
            if have & ~terms[mine][1]:
                kept.append(watch)
                continue
            for position, (candidate, members) in enumerate(terms):
                if position not in (mine, other) and allowed[candidate] & ~members:
                    watch.first, watch.second = position, other
                    self.watching[candidate].append(watch)
                    break
            else:
                kept.append(watch)
                broken = self._examine(watch.clause)
                if broken is not None:
                    kept.extend(watches[number + 1 :])
                    break
        self.watching[variable] = kept
        return broken

    def _examine(self, clause: Clause) -> Clause | None:
        """Narrows the one variable that is left open; returns the clause if it is broken."""
        allowed = self.allowed
        open_variable = open_set = -1
        for variable, members in clause.terms:
            have = allowed[variable]
            if have & ~members == 0:
                continue
            if have & members == 0 or open_variable >= 0:
                return None
            open_variable, open_set = variable, members
        if open_variable < 0:
            return clause
        self._narrow(open_variable, allowed[open_variable] & ~open_set, clause)
        return None

    def _narrow(self, variable: int, allowed: int, reason: Clause | None) -> None:
        before = self.allowed[variable]
        self.history[variable].append(len(self.trail))
        self.trail.append((variable, before, reason, len(self.starts)))
        self.allowed[variable] = allowed
        self.pending.append(variable)
        if not allowed & 1 and allowed & (allowed - 1):
            self._need(variable)

    def _need(self, variable: int) -> None:
        if self.place[variable] < 0:
            self.place[variable] = (self.problem.rank(variable) << 40) + len(self.needed)
        heapq.heappush(self.needed, (self.place[variable], variable))

    def _propagate(self) -> Clause | None:
        allowed, pairs, pending = self.allowed, self.pairs, self.pending
        position = 0
        while position < len(pending):
            variable = pending[position]
            position += 1
            have = allowed[variable]
            if have & (have - 1) == 0 and have != 1 and not self.expanded[variable] & have:
                self.expanded[variable] |= have
                candidate = have.bit_length() - 1
                self.wished.extend((variable, have, wish) for wish in self.problem.wishes(variable, candidate))
                broken = self._add(self.problem.clauses(variable, candidate))
                if broken is not None:
                    pending.clear()
                    return broken
            for own, other, members, clause in pairs[variable]:
                if have & ~own == 0:
                    theirs = allowed[other]
                    left = theirs & ~members
                    if left != theirs:
                        if left == 0:
                            pending.clear()
                            return clause
                        self._narrow(other, left, clause)
            if self.watching[variable]:
                broken = self._visit(variable)
                if broken is not None:
                    pending.clear()
                    return broken
        pending.clear()
        return None

    def _next(self) -> int | None:
        """The next variable to decide: one that has to be something, else one that is wished for."""
        while self.needed:
            variable = self.needed[0][1]
            have = self.allowed[variable]
            if not have & 1 and have & (have - 1):
                return variable
            heapq.heappop(self.needed)
        for wisher, candidate, wish in self.wished:
            if wish >= len(self.allowed):
                self._grow(wish)
            have = self.allowed[wish]
            if self.allowed[wisher] == candidate and have & 1 and have != 1:
                return wish
        return None

    def _one_to_leave_out(self) -> int | None:
        """A variable of a clause that would be broken if all that is left open were nothing: without it, the others follow."""
        for clause in self.loose:
            left_open = None
            for variable, members in clause.terms:
                have = self.allowed[variable]
                if have & ~members:
                    if not have & members & 1:
                        break
                    left_open = variable if left_open is None else left_open
            else:
                return left_open
        return None

    # Conflicts

    def _satisfier(self, variable: int, members: int) -> int:
        """Where on the trail a term came to hold."""
        history = self.history[variable]
        for position, index in enumerate(history):
            after = self.trail[history[position + 1]][1] if position + 1 < len(history) else self.allowed[variable]
            if after & ~members == 0:
                return index
        raise AssertionError("a term of a broken clause does not hold")

    def _learn(self, clause: Clause) -> Clause | None:
        """Finds what the conflict follows from, goes back to where that would have mattered, and takes it into account."""
        learned = clause
        while True:
            if not learned.terms:
                raise Impossible(sorted_given(learned))
            found = [(self._satisfier(variable, members), variable, members) for variable, members in learned.terms]
            index, variable, members = max(found)
            _, _, reason, level = self.trail[index]
            back = max((self.trail[other][3] for other, _, _ in found if other != index), default=0)
            if reason is None:
                break
            removed = next(mask for other, mask in reason.terms if other == variable)
            union = members | removed
            if union != self.full[variable]:
                back = max(back, self.trail[self._satisfier(variable, union)][3])
            if back < level:
                break
            terms = {other: mask for other, mask in learned.terms if other != variable}
            for other, mask in reason.terms:
                if other != variable:
                    terms[other] = terms.get(other, -1) & mask
            if union != self.full[variable]:
                terms[variable] = union
            learned = Clause(tuple(terms.items()), parents=(learned, reason))
        self._go_back(back)
        older = self._taken_in_after(back)
        broken = self._add([learned]) if learned is not clause else self._examine(clause)
        for known in older:
            if broken is not None:
                break
            broken = self._examine(known)
        return broken

    def _taken_in_after(self, level: int) -> list[Clause]:
        """The clauses of later levels, which from now on belong to this one."""
        position = len(self.fresh)
        while position and self.fresh[position - 1][0] > level:
            position -= 1
        found = [clause for _, clause in self.fresh[position:]]
        self.fresh[position:] = [(level, clause) for clause in found]
        return found

    def _go_back(self, level: int) -> None:
        start = self.starts[level]
        for variable, before, _, _ in reversed(self.trail[start:]):
            self.allowed[variable] = before
            self.history[variable].pop()
            if not before & 1 and before & (before - 1):
                self._need(variable)
        del self.trail[start:]
        del self.starts[level:]
        self.pending.clear()


def sorted_given(clause: Clause) -> list[Clause]:
    """The given clauses behind a learned one, in an order that depends on nothing but their terms."""
    return sorted(clause.given(), key=lambda given: given.terms)
