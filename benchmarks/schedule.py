"""How near the scheduler comes to the shortest time there can be: simulated builds of three graphs on 2 to 128 processors.

No build can be shorter than its critical path, nor than the work of all recipes shared evenly and then the product's own steps,
which wait for all of them; the ratio is to the longer of the two. Durations are known, as after a first build; without them (in
brackets) every step counts the same."""

from __future__ import annotations

import heapq
import random
import sys

from figures import keep

from yarrik.run.schedule import Claim, Load, Look, Schedule, Start, Take

LIMIT = 1.05
PROCESSORS = (2, 8, 32, 128)
Needs = dict[str, list[str]]


def recipe_steps(needs: Needs, seconds: dict[str, float], name: str, wanted: list[str], build: float) -> None:
    """A recipe as it comes to be: sources, build, stage, packages."""
    needs[f"prepare {name}"], seconds[f"prepare {name}"] = [], 0.2
    needs[f"build {name}"] = [f"prepare {name}", *(f"stage {one}" for one in wanted)]
    seconds[f"build {name}"] = build
    needs[f"stage {name}"], seconds[f"stage {name}"] = [f"build {name}"], 0.1
    needs[f"split {name}"], seconds[f"split {name}"] = [f"stage {name}"], 0.05


def graph(kind: str, count: int = 600) -> tuple[Needs, dict[str, float]]:
    """Recipes with builds of a few seconds to some minutes, then the product: wide (few needs), deep (a long chain beside small
    recipes), mixed (every recipe needs some of those before it)."""
    chance = random.Random(11)
    needs: Needs = {}
    seconds: dict[str, float] = {}
    names = [f"r{number:03}" for number in range(count)]
    for number, name in enumerate(names):
        build = min(240.0, 2 * chance.lognormvariate(1.5, 1.1))
        if kind == "wide":
            wanted = [names[0]] if number else []
        elif kind == "deep":
            wanted = [names[number - 1]] if 0 < number < count // 10 else []
        else:
            wanted = [names[int(number * chance.random())] for _ in range(chance.choice([0, 1, 1, 2, 3]))] if number else []
        recipe_steps(needs, seconds, name, sorted(set(wanted)), build)
    needs["assemble"], seconds["assemble"] = [f"split {name}" for name in names], 4.0
    for before, step, took in (("assemble", "boot", 0.5), ("boot", "write", 12.0), ("write", "check", 2.0)):
        needs[step], seconds[step] = [before], took
    return needs, seconds


def makespan(needs: Needs, seconds: dict[str, float], processors: int, known: bool) -> float:
    """Runs the schedule by the calendar: no clock, no work."""
    schedule = Schedule(needs, seconds if known else None, Load(processors))
    running: list[tuple[float, str]] = []
    now = 0.0
    while not schedule.over:
        match schedule.next():
            case Look(name):
                schedule.missing(name)
            case Take(name, least, _):
                schedule.granted(name, least)
            case Claim(name):
                schedule.claimed(name)
            case Start(name, _):
                heapq.heappush(running, (now + seconds[name], name))
            case None:
                now, name = heapq.heappop(running)
                schedule.ran(name)
    return now


def bound(needs: Needs, seconds: dict[str, float], processors: int) -> float:
    ends: dict[str, float] = {}
    for name, wanted in needs.items():
        ends[name] = seconds[name] + max((ends[one] for one in wanted), default=0.0)
    tail = sum(seconds[name] for name in ("assemble", "boot", "write", "check"))
    return max(max(ends.values()), (sum(seconds.values()) - tail) / processors + tail)


def main() -> None:
    worst = 0.0
    print(f"simulated builds of 2,404 steps, ratio to the shortest there can be; limit {LIMIT}")
    for kind in ("wide", "deep", "mixed"):
        needs, seconds = graph(kind)
        cells = []
        for processors in PROCESSORS:
            least = bound(needs, seconds, processors)
            ratio = makespan(needs, seconds, processors, known=True) / least
            blind = makespan(needs, seconds, processors, known=False) / least
            worst = max(worst, ratio)
            cells.append(f"{processors:>4}: {ratio:.3f} ({blind:.3f})")
        print(f"  {kind:<6}" + "  ".join(cells))
    keep("schedule of simulated builds", worst, LIMIT)
    if worst > LIMIT:
        sys.exit(f"{worst:.3f} is more than {LIMIT}")


if __name__ == "__main__":
    main()
