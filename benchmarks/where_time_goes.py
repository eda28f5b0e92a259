"""Draws where the processor time of a build goes: with nothing to do, after one source has changed, and the first time.

Each is profiled within one process, steps one after the other; what is built in (reading, hashing, SQLite) counts for the room
that calls it. Profiling makes the part of Python look larger than it is: read the shares, the seconds are in `overhead.py`."""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from overhead import lay_out

#: Runs the program under a profiler, with another one in the thread that runs the steps; prints seconds by room as JSON.
PROFILED = """
import cProfile, json, os, pstats, re, resource, sys
main, steps = cProfile.Profile(), cProfile.Profile()
out = sys.argv.pop(1)
from concurrent.futures.thread import _WorkItem
def spied(run):
    def spy(item):
        steps.enable()
        try:
            return run(item)
        finally:
            steps.disable()
    return spy
_WorkItem.run = spied(_WorkItem.run)  # steps run in a thread of their own
main.enable()
import yarrik.cli
try:
    yarrik.cli.main()
except SystemExit as end:
    assert not end.code, end.code
main.disable()
stats = pstats.Stats(main)
ran = steps.getstats()
if ran:
    stats.add(steps)
def room(file):
    # What compiles patterns and makes classes runs when a module is loaded.
    if "importlib" in file or file.startswith("<") or re.search(r"/(re/_|dataclasses|typing|enum|abc|ast|inspect|dis)", file):
        return "loading modules"
    found = re.search(r"/yarrik/(\\w+)", file)
    return found[1] if found else "typer" if "/typer/" in file else "Python's library"
found = {}
for (file, _, name), (_, _, own, _, callers) in stats.stats.items():
    waits = "acquire" in name or "poll" in name
    if file != "~" or not callers:
        found[room(file)] = found.get(room(file), 0) + (0 if waits else own)
        continue
    for (caller, _, _), (_, _, share, _) in callers.items():
        where = "loading modules" if "marshal" in name or "exec" in name else room(caller)
        found[where] = found.get(where, 0) + (0 if waits else share)
used = resource.getrusage(resource.RUSAGE_CHILDREN)
found["programs that steps run"] = used.ru_utime + used.ru_stime
open(out, "w").write(json.dumps({"steps": len(ran), "found": found}))
"""
#: Shares below this are drawn together.
LEAST = 0.03


def profiled(words: list[str], environment: dict[str, str], runs: bool) -> dict[str, float]:
    """Seconds by room of one run of the program; `runs` is whether steps run in it."""
    with tempfile.NamedTemporaryFile("r", suffix=".json") as out:
        subprocess.run([sys.executable, "-c", PROFILED, out.name, *words], env=environment, check=True, capture_output=True)
        said = json.load(out)
    if bool(said["steps"]) != runs:
        sys.exit(f"`yarrik {' '.join(words)}`: the thread that runs steps was {'not ' if runs else ''}seen")
    return said["found"]  # type: ignore[no-any-return]


def draw(rows: dict[str, dict[str, float]], title: str, file: Path) -> None:
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    kept = {name: {room: seconds / sum(one.values()) for room, seconds in one.items()} for name, one in rows.items()}
    rooms = sorted({room for one in kept.values() for room, share in one.items() if share >= LEAST})
    figure, axes = pyplot.subplots(figsize=(12.8, 5.2), dpi=100)
    colours = pyplot.get_cmap("tab20").colors
    for row, one in enumerate(kept.values()):
        left = 0.0
        for number, room in enumerate(rooms):
            share = one.get(room, 0.0)
            axes.barh(row, share, left=left, color=colours[number % 20], label=room if not row else None)
            if share >= LEAST:
                axes.text(left + share / 2, row, f"{room}\n{share:.0%}" if share > 0.006 * len(room) else f"{share:.0%}",
                          ha="center", va="center", fontsize=7.5)  # fmt: skip
            left += share
        axes.barh(row, 1 - left, left=left, color="#e4e4e4", label="all others" if not row else None)
    axes.set_yticks(range(len(kept)), [f"{name}\n{sum(rows[name].values()):.2f} s profiled" for name in kept])
    axes.invert_yaxis()
    axes.set_xlim(0, 1)
    axes.xaxis.set_major_formatter(lambda share, _: f"{share:.0%}")
    axes.set_title(title, loc="left", fontsize=11)
    axes.legend(ncols=6, loc="upper center", bbox_to_anchor=(0.45, -0.08), fontsize=8, frameon=False)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    figure.tight_layout()
    figure.savefig(file)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--recipes", type=int, default=300)
    parser.add_argument("--figure", type=Path, default=Path("build/where-time-goes.png"))
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        lay_out(root / "w", asked.recipes, "chain")
        environment = {**os.environ, "YARRIK_CACHE": str(root / "cache"), "NO_COLOR": "1"}
        environment.pop("PYTHONDONTWRITEBYTECODE", None)
        build = ["build", "--workspace", str(root / "w"), "--jobs", "1"]
        first = profiled(build, environment, runs=True)
        time.sleep(2.1)
        planned = profiled(build, environment, runs=False)
        nothing = profiled(build, environment, runs=False)
        last = f"recipe-{asked.recipes - 1:03}"
        (root / f"w/s/recipes/{last}/src/{last}.c").write_text("/* another text */\n")
        changed = profiled(build, environment, runs=True)
    rows = {"nothing to do": nothing, "one source changed": changed, "nothing to do,\nplanned": planned, "first build": first}
    asked.figure.parent.mkdir(parents=True, exist_ok=True)
    draw(rows, f"{asked.recipes} recipes of four steps in a chain: where processor time goes", asked.figure)
    for name, one in rows.items():
        shares = sorted(one.items(), key=lambda room: -room[1])
        words = ", ".join(f"{room} {seconds:.2f}" for room, seconds in shares if seconds > sum(one.values()) * LEAST)
        print(f"{' '.join(name.split())}: {words}")
    print(asked.figure)


if __name__ == "__main__":
    main()
