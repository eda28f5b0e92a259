"""What the step engine costs by itself, in ratios to what its users would run instead, all in one run.

- 7,000 steps of which none has to run, next to `ninja -n` on as many edges.
- 7,000 steps that install one small file each, in a sandbox, hashed and stored, next to as many bare sandboxed processes.
- 20,000 files of 1 GiB: into the cache next to `sha256sum` and `cp -a`, and out of it next to `cp -a`.
- Three graphs of sleeping steps on two processors: the second run, next to the shortest time there can be by what the first
  one took."""

from __future__ import annotations

import argparse
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from figures import keep
from schedule import bound, graph

from yarrik.cache import Memory, Store
from yarrik.plan import Graph, RunCommands, Step
from yarrik.run.events import silent
from yarrik.run.execute import Execution
from yarrik.run.results import StepReport
from yarrik.run.sandbox import Sandbox
from yarrik.run.worker import Settings

#: What we aim at, and what counts as a fault on a machine that does other things beside.
AIMS = {"nothing to do": 8.0, "a trivial step": 1.5, "storing": 1.2, "restoring": 0.5, "makespan": 1.05}
LIMITS = {name: aim * slack for (name, aim), slack in zip(AIMS.items(), (1.5, 1.6, 1.5, 1.5, 1.2), strict=True)}
STEPS = 7000


def trivial(name: str, needs: list[str], first: str = "") -> Step:
    """A step that installs one small file; it needs the files of others without looking at them."""
    words = ("sh", "-c", f"{first}echo {name} > {{step}}/stage/{name}")
    action = RunCommands(
        commands=(words,), environment={}, folder="{step}/build", writable=("build", "stage"), toolchain="none"
    )  # fmt: skip
    return Step("build", name, action, inputs={f"sysroot {one}": (f"build {one}", "files") for one in needs})


def of_recipes(count: int) -> tuple[Step, ...]:
    """Steps in chains of seven, as recipes have them, each chain on top of an earlier one."""
    steps = []
    for number in range(count):
        needs = [f"s{number - 1:05}"] if number % 7 else [f"s{number // 2:05}"] if number else []
        steps.append(trivial(f"s{number:05}", needs))
    return tuple(steps)


def run(steps: tuple[Step, ...], root: Path, jobs: int = 2) -> tuple[float, list[StepReport]]:
    started = time.perf_counter()
    memory = Memory(root / "w" / "memory.sqlite")
    execution = Execution(
        Graph("many", steps, (), {}), Store(root / "cache"), memory, Sandbox(), root / "w", Settings(jobs), silent,
        lambda: None, lambda before, after: [],
    )  # fmt: skip
    reports = execution.run()
    memory.close()
    took = time.perf_counter() - started
    if any(report.error for report in reports):
        sys.exit(str(next(report.error for report in reports if report.error)))
    return took, reports


def commands(*words: str, folder: Path | None = None) -> float:
    started = time.perf_counter()
    subprocess.run(words, cwd=folder, check=True, capture_output=True)
    return time.perf_counter() - started


def of_nothing_and_little(root: Path, found: dict[str, float]) -> None:
    steps = of_recipes(STEPS)
    bwrap = ["bwrap", "--unshare-all", "--ro-bind", "/", "/", "--proc", "/proc", "--dev", "/dev", "true"]
    bare = min(commands(*bwrap) for _ in range(50))
    first, _ = run(steps, root)
    again, reports = min((run(steps, root) for _ in range(3)), key=lambda one: one[0])
    if any(report.how != "kept" for report in reports):
        sys.exit("a step ran that had nothing to do")
    edges = "rule r\n command = true\n" + "".join(f"build o{number}: r i{number}\n" for number in range(STEPS))
    (root / "ninja").mkdir()
    (root / "ninja" / "build.ninja").write_text(edges)
    for number in range(STEPS):
        (root / "ninja" / f"i{number}").touch()
        (root / "ninja" / f"o{number}").touch()
    ninja = min(commands("ninja", "-n", folder=root / "ninja") for _ in range(3))
    each = first / STEPS * 1000
    print(f"{STEPS} steps")
    print(f"  nothing to do           {again:7.3f} s     {again / ninja:6.1f} x `ninja -n` ({ninja:.3f} s)")
    print(f"  each installs a file    {each:7.2f} ms    {each / bare / 1000:6.1f} x a sandboxed process ({bare * 1000:.1f} ms)")
    found["nothing to do"] = again / ninja
    found["a trivial step"] = each / bare / 1000


def of_files(root: Path, found: dict[str, float]) -> None:
    chance = random.Random(1)
    source = root / "files"
    for number in range(20_000):
        folder = source / f"{number // 200:03}"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"{number}").write_bytes(chance.randbytes(53_687))
    os.sync()
    store = Store(root / "cache-of-files")
    times: dict[str, list[float]] = {}

    def timed(name: str, work: object) -> None:
        os.sync()  # what was written before is no part of this
        started = time.perf_counter()
        work()  # type: ignore[operator]
        times.setdefault(name, []).append(time.perf_counter() - started)

    tree = None

    def take_in() -> None:
        nonlocal tree
        tree = store.snapshot(source)

    timed("store", take_in)
    timed("sha256sum", lambda: commands("sh", "-c", f"find {source} -type f -print0 | xargs -0 sha256sum"))
    for number in range(3):
        timed("cp -a", lambda number=number: commands("cp", "-a", str(source), str(root / f"copy-{number}")))
        timed("restore", lambda number=number: store.lay_out(tree, root / f"restored-{number}", writable=False))
        timed("writable", lambda number=number: store.lay_out(tree, root / f"writable-{number}", writable=True))
    best = {name: min(several) for name, several in times.items()}
    copy = sorted(times["cp -a"])[1]
    sums = best["sha256sum"]
    print(f"1 GiB in 20,000 files: sha256sum {sums:.2f} s, cp -a {copy:.2f} s")
    print(f"  into the cache          {best['store']:7.2f} s     {best['store'] / (sums + copy):6.2f} x sha256sum and cp -a")
    print(f"  out of it, read-only    {best['restore']:7.2f} s     {best['restore'] / copy:6.2f} x cp -a")
    print(f"  out of it, to change    {best['writable']:7.2f} s     {best['writable'] / copy:6.2f} x cp -a")
    found["storing"] = best["store"] / (sums + copy)
    found["restoring"] = best["restore"] / copy


def of_two_processors(root: Path, found: dict[str, float]) -> None:
    print("sleeping steps on two processors, ratio to the shortest there can be")
    for kind in ("wide", "deep", "mixed"):
        needs, seconds = graph(kind, 40)
        scale = 30 / sum(seconds.values())
        seconds = {name: took * scale for name, took in seconds.items()}
        plain = {name: name.replace(" ", "-") for name in needs}
        steps = tuple(
            trivial(plain[name], [plain[one] for one in wanted], f"sleep {seconds[name]:.4f}; ")
            for name, wanted in needs.items()
        )
        folder = root / kind
        run(steps, folder)
        memory = Memory(folder / "w" / "memory.sqlite")
        costs = memory.costs("many")
        memory.close()
        recorded = {name: costs[f"build {plain[name]}"].seconds for name in needs}
        shutil.rmtree(folder / "cache")
        took, _ = run(steps, folder)
        ratio = took / bound(needs, recorded, 2)
        print(f"  {kind:<6} {len(steps)} steps        {took:7.2f} s     {ratio:6.3f} x")
        found["makespan"] = max(found.get("makespan", 0.0), ratio)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", choices=("steps", "files", "makespan"))
    only = parser.parse_args().only
    found: dict[str, float] = {}
    parts = {"steps": of_nothing_and_little, "files": of_files, "makespan": of_two_processors}
    for name, measure in parts.items():
        if only in (None, name):
            with tempfile.TemporaryDirectory() as folder:
                measure(Path(folder).resolve(), found)
    for name, value in found.items():
        keep(f"engine: {name}", value, AIMS[name])
        print(f"{'within' if value <= AIMS[name] else 'over  '} the aim: {name} {value:.3f}, {AIMS[name]:g}")
    over = [f"{name}: {value:.3f} is more than {LIMITS[name]:g}" for name, value in found.items() if value > LIMITS[name]]
    if over:
        sys.exit("\n".join(over))


if __name__ == "__main__":
    main()
