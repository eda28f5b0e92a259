"""Draws where the time of a first build goes: commands of recipes (configure, make, install), and what Yarrik does around them.

`cold.py kernel` builds a kernel from its source archive, as the demo has it; `cold.py shelf` recipes of the shelf `commons`,
whose archives are fetched beforehand. What counts is processor time, of all threads and processes from the first step to the
end of the last one of a recipe: steps run beside each other, and the clock gives each the waiting for the others too."""

from __future__ import annotations

import argparse
import json
import os
import resource
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import NamedTuple

from figures import keep
from shelf import USUAL, lay_out, yarrik

#: What may be spent around commands, as a share of their own time.
MOST = 0.03
#: Runs the program with timers in the threads that run steps, and writes as JSON what each step took in them, by what was done;
#: what the process took (`own`) from the first step to the end of the last one of a recipe; and what `commands` took.
TIMED = """
import functools, json, resource, sys, threading, time
out = sys.argv.pop(1)
import yarrik.cli
import yarrik.run.source_steps as source_steps
from yarrik.cache import Store
from yarrik.run.sandbox import Sandbox
from yarrik.run.sysroots import Layouts
from yarrik.run.work_folders import WorkFolder, WorkFolders
from yarrik.run.worker import Worker
here, found, lock = threading.local(), {}, threading.Lock()
product, marks, commands = set(sys.argv.pop(1).split(",")), [], []
def mark():
    with lock:
        marks.append(sum(resource.getrusage(resource.RUSAGE_SELF)[:2]))
        del marks[1:-1]
def timed(what, work):
    @functools.wraps(work)
    def run(*words, **more):
        if not hasattr(here, "open"):
            return work(*words, **more)
        began, here.inside, outer = time.thread_time(), 0.0, here.inside
        try:
            return work(*words, **more)
        finally:
            took = time.thread_time() - began
            with lock:
                row = found.setdefault(here.open, {})
                row[what] = row.get(what, 0) + took - here.inside
            here.inside = outer + took
    return run
def step(work):
    inner = timed("the rest", work)
    @functools.wraps(work)
    def run(self, one, *words, **more):
        here.open, here.inside = one.name, 0.0
        marks or mark()
        try:
            return inner(self, one, *words, **more)
        finally:
            del here.open
            if one.name.partition(" ")[0] not in product:
                mark()
    return run
bare = Sandbox.run
#: bubblewrap does not wait for what runs in it, so the kernel does not hand its time on: a shell asks for it (POSIX, times).
SHELL = '"$@"; code=$?; times > "$0"; exit $code'
def asked(self, command, work, *words, **more):
    code = bare(self, ["sh", "-c", SHELL, "{step}/.times", *command], work, *words, **more)
    times = work / ".times"
    with lock:
        for text in times.read_text().split()[2:]:
            minutes, seconds = text.rstrip("s").split("m")
            commands.append(60 * int(minutes) + float(seconds))
    times.unlink()
    return code
Sandbox.run = asked
for owner, name, what in ((Sandbox, "run", "watch"), (Store, "lay_out", "lay out"), (Layouts, "lay_out", "lay out"),
                          (Store, "snapshot", "take in"), (WorkFolder, "remove", "remove"), (source_steps, "download", "fetch"),
                          (source_steps, "unpack_archive", "unpack"), (source_steps, "unpack_members", "unpack")):
    setattr(owner, name, timed(what, getattr(owner, name)))
Worker.perform = step(Worker.perform)
close = WorkFolders.close
def closed(self):
    began = time.thread_time()
    close(self)  # folders that waited for another step go when none is left
    with lock:
        found.setdefault("remove what waited", {})["remove"] = time.thread_time() - began
WorkFolders.close = closed
began = time.monotonic()
try:
    yarrik.cli.main()
except SystemExit as end:
    assert not end.code, end.code
open(out, "w").write(json.dumps({"seconds": time.monotonic() - began, "steps": found, "own": marks[-1] - marks[0],
                                 "commands": sum(commands)}))
"""
#: Parts of what is done around commands, as they are drawn; what is of no step's own thread is in the last.
PARTS = ("fetch", "unpack", "lay out", "take in", "remove", "watch", "the rest", "other threads")
#: Steps of the product as a whole: no recipe's commands are theirs.
PRODUCT = ("assemble", "boot", "write", "describe", "check")


class Found(NamedTuple):
    """Seconds of processor time: of commands, of each part around them, and of the product's own steps; and the seconds that
    the whole build took on the clock."""

    commands: float
    around: dict[str, float]
    product: float
    whole: float


def timed(words: list[str]) -> Found:
    """What one run of the program says of itself."""
    with tempfile.NamedTemporaryFile("r", suffix=".json") as out:
        arguments = [out.name, ",".join(PRODUCT), *words]
        done = subprocess.run([sys.executable, "-c", TIMED, *arguments], capture_output=True, text=True)
        if done.returncode:
            sys.exit(done.stdout[-3000:] + done.stderr[-3000:])
        said = json.load(out)
    around: dict[str, float] = dict.fromkeys(PARTS, 0.0)
    waited = said["steps"].pop("remove what waited", {}).get("remove", 0.0)
    product = 0.0
    for step, row in sorted(said["steps"].items()):
        if step.partition(" ")[0] in PRODUCT:
            product += sum(row.values())
            continue
        for part, seconds in row.items():
            around["fetch" if step.startswith("fetch ") else part] += seconds
    around["other threads"] = max(said["own"] - sum(around.values()), 0.0)
    around["remove"] += waited  # behind the last step
    if not said["commands"]:
        sys.exit("no command of a step was seen")
    return Found(said["commands"], around, product, said["seconds"])


def by_hand(archive: Path, folder: str) -> float:
    """The seconds of processor time that tar takes, and what it starts, to lay the archive out."""
    began = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(["tar", "-xf", archive, "-C", folder], check=True)
    end = resource.getrusage(resource.RUSAGE_CHILDREN)
    return end.ru_utime + end.ru_stime - began.ru_utime - began.ru_stime


def draw(rows: dict[str, Found], file: Path) -> None:
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    figure, axes = pyplot.subplots(figsize=(12.8, 5.2), dpi=100)
    height = 0.8 / len(rows)
    for number, (name, found) in enumerate(rows.items()):
        shares = [found.around[part] / found.commands for part in PARTS]
        label = f"{name}: {found.commands:.0f} s of commands, {sum(shares):.1%} around them, {found.whole:.0f} s in all"
        bars = axes.barh([at + number * height for at in range(len(PARTS))], shares, height, label=label)
        axes.bar_label(bars, [f"{share:.2%}" for share in shares], padding=3, fontsize=9)
    axes.set_yticks([at + 0.4 - height / 2 for at in range(len(PARTS))], PARTS)
    axes.invert_yaxis()
    axes.xaxis.set_major_formatter(lambda share, _: f"{share:.1%}")
    axes.set_title("First builds: processor time around the commands of recipes, as a share of theirs", loc="left", fontsize=11)
    axes.legend(loc="lower right", fontsize=9, frameon=False)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    figure.tight_layout()
    file.parent.mkdir(parents=True, exist_ok=True)
    figure.savefig(file)


def measured(what: str, packages: list[str]) -> Found:
    with tempfile.TemporaryDirectory(prefix="yarrik-benchmark-") as folder:
        top = Path(folder)
        os.environ["XDG_CACHE_HOME"] = str(top / "cache")
        if what == "kernel":
            return timed(["demo", str(top / "w"), "--product", "tide-gauge-linux", "--no-boot"])
        lay_out(top / "w", packages, "arm64")
        yarrik("fetch", "--workspace", top / "w")
        return timed(["build", "--workspace", str(top / "w")])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", nargs="+", choices=("kernel", "shelf"))
    parser.add_argument("--packages", nargs="*", default=USUAL, help="packages of the shelf")
    parser.add_argument("--figure", type=Path, default=Path("build/first-builds.png"))
    asked = parser.parse_args()
    os.environ["NO_COLOR"] = "1"
    os.environ.pop("YARRIK_CACHE", None)
    archives = sorted(Path("/usr/src").glob("linux-source-*.tar.xz")) if "kernel" in asked.what else []
    # Before all else, and removed behind it: where much was just removed, ext4 takes long to make files.
    with tempfile.TemporaryDirectory(prefix="yarrik-benchmark-") as folder:
        tar = by_hand(archives[0], folder) if archives else 0.0
        rows = {what: measured(what, asked.packages) for what in asked.what}
    draw(rows, asked.figure)
    for name, found in rows.items():
        parts = ", ".join(f"{part} {seconds:.2f}" for part, seconds in found.around.items())
        share = sum(found.around.values()) / found.commands
        print(f"{name}: {found.commands:.1f} s of commands, around them {share:.1%}: {parts}; "
              f"the product's steps {found.product:.1f}; in all {found.whole:.1f}")  # fmt: skip
        keep(f"first build, {name}: around its commands", share, MOST if name == "shelf" else None)
        if name == "kernel" and archives:
            more = (sum(found.around.values()) - tar) / found.commands
            print(f"  by hand too its archive is unpacked: {tar:.1f} s with tar; beside that {more:.1%} (at most {MOST:.0%})")
            keep("first build, kernel: around its commands, beside tar", more, MOST)
    print(asked.figure)


if __name__ == "__main__":
    main()
