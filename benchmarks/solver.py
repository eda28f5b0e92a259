"""The solver on 10,000 packages of 10 versions each, beside the library `resolvelib` on the same graph; and on a ladder."""

from __future__ import annotations

import random
import resource
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Sequence

from figures import keep

from yarrik.resolve.solver import Clause, solve

PACKAGES, VERSIONS, RUNGS = 10_000, 10, 200
#: How many times as fast as the library, the ladder as a part of the wide graph's time, and the memory of both graphs.
LIMIT_RATIO, LIMIT_LADDER, LIMIT_MIB = 10.0, 0.25, 500


class Graph:
    """Packages 0, 1, … with candidates 1 (the newest) to VERSIONS. `needs[package, candidate]` lists a package and the set of
    its candidates that will do."""

    def __init__(self, packages: int, needs: dict[tuple[int, int], list[tuple[int, int]]]) -> None:
        self.packages = packages
        self.needs = needs
        self.full = (1 << (VERSIONS + 1)) - 1

    def size(self, variable: int) -> int:
        return VERSIONS + 1

    def rank(self, variable: int) -> int:
        return 0

    def clauses(self, variable: int, candidate: int) -> Iterator[Clause]:
        for needed, good in self.needs[variable, candidate]:
            yield Clause(((variable, 1 << candidate), (needed, self.full & ~good)))

    def pick(self, variable: int, allowed: int, chosen: Callable[[int], int]) -> int:
        rest = allowed & ~1
        return (rest & -rest).bit_length() - 1

    def wishes(self, variable: int, candidate: int) -> Sequence[int]:
        return ()


def at_least(candidate: int) -> int:
    """This version and all newer ones; candidates count from the newest."""
    return (1 << (candidate + 1)) - 2


def wide(packages: int) -> Graph:
    """Each version needs about five later packages: mostly that version or a newer one, at times no newer than another."""
    chance = random.Random(7)
    needs: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for package in range(packages):
        others = sorted({package + 1 + int(chance.expovariate(1 / 40)) for _ in range(5)})
        for candidate in range(1, VERSIONS + 1):
            rows = []
            for other in others:
                if other < packages:
                    oldest = min(VERSIONS, candidate + chance.randint(0, 5))
                    newest = chance.choice([1] * 9 + [max(1, candidate - 3)])
                    rows.append((other, at_least(oldest) & ~at_least(newest - 1)))
            needs[package, candidate] = rows
    return Graph(packages, needs)


def ladder(rungs: int) -> Graph:
    """Each version of a rung needs the same version of the next two; only the oldest version has a last rung to stand on."""
    needs: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for rung in range(rungs):
        for candidate in range(1, VERSIONS + 1):
            nothing = 0 if rung >= rungs - 2 and candidate < VERSIONS else 1 << candidate
            needs[rung, candidate] = [(rung + step, 1 << candidate) for step in (1, 2) if rung + step < rungs]
            if not nothing:
                needs[rung, candidate].append((rung - 1 if rung else 1, 0))
    return Graph(rungs, needs)


def ours(graph: Graph) -> tuple[dict[int, int], float]:
    started = time.perf_counter()
    answer = solve(graph, [Clause(((0, 1),))])
    return answer, time.perf_counter() - started


def theirs(graph: Graph) -> float:
    """The same question put to resolvelib: the same preferences, the same needs."""
    from resolvelib import AbstractProvider, BaseReporter, Resolver

    class Provider(AbstractProvider):
        def identify(self, requirement_or_candidate):
            return requirement_or_candidate[0]

        def get_preference(self, identifier, resolutions, candidates, information, backtrack_causes):
            return identifier

        def find_matches(self, identifier, requirements, incompatibilities):
            good = -1
            for requirement in requirements[identifier]:
                good &= requirement[1]
            bad = {candidate[1] for candidate in incompatibilities[identifier]}
            return [(identifier, 1 << c) for c in range(1, VERSIONS + 1) if good >> c & 1 and 1 << c not in bad]

        def is_satisfied_by(self, requirement, candidate):
            return bool(requirement[1] & candidate[1])

        def get_dependencies(self, candidate):
            return graph.needs[candidate[0], candidate[1].bit_length() - 1]

    started = time.perf_counter()
    Resolver(Provider(), BaseReporter()).resolve([(0, graph.full & ~1)], max_rounds=1_000_000)
    return time.perf_counter() - started


def check(graph: Graph, answer: dict[int, int]) -> None:
    for package, candidate in answer.items():
        for needed, good in graph.needs[package, candidate]:
            assert needed in answer and good >> answer[needed] & 1, (package, needed)


def main() -> None:
    if sys.argv[1:] == ["--theirs"]:
        print(theirs(wide(PACKAGES)))
        return
    graph = wide(PACKAGES)
    answer, seconds = ours(graph)
    check(graph, answer)
    steps = ladder(RUNGS)
    climbed, ladder_seconds = ours(steps)
    check(steps, climbed)
    assert climbed[0] == VERSIONS
    mib = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    longest = 60
    try:
        done = subprocess.run(
            [sys.executable, __file__, "--theirs"], capture_output=True, text=True, check=True, timeout=longest
        )
        other, word = float(done.stdout), ""
    except subprocess.TimeoutExpired:
        other, word = float(longest), "more than "
    print(f"{PACKAGES} packages with {VERSIONS} versions each, {len(answer)} of them needed")
    print(f"  ours                      {seconds:8.2f} s, {mib:.0f} MiB with the graph itself")
    print(f"  resolvelib                {word}{other:.2f} s, {word}{other / seconds:.0f} x")
    print(f"  a ladder of {RUNGS} rungs      {ladder_seconds:8.2f} s, {ladder_seconds / seconds:.2f} x")
    keep("solver: to resolvelib", seconds / other, 1 / LIMIT_RATIO)
    keep("solver: a ladder", ladder_seconds / seconds, LIMIT_LADDER)
    if other / seconds < LIMIT_RATIO or ladder_seconds / seconds > LIMIT_LADDER or mib > LIMIT_MIB:
        sys.exit(f"limits: {LIMIT_RATIO:g} times as fast, {LIMIT_LADDER} x for the ladder, {LIMIT_MIB} MiB")


if __name__ == "__main__":
    main()
