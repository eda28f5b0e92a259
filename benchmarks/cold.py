"""Draws where the time of a first build goes: commands of recipes (configure, make, install), and what Yarrik does around them.

`cold.py kernel` builds a kernel from its source archive, as the demo has it; `cold.py shelf [PACKAGE…]` recipes of the shelf
`commons`, whose archives are fetched beforehand. On the clock, with all processors: run it on a quiet machine."""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

from shelf import USUAL, lay_out, yarrik

#: What may be spent around commands, as a share of their own time.
MOST = 0.03
#: Runs the program with timers in the threads that run steps, and writes seconds by step and by what was done as JSON.
TIMED = """
import functools, json, resource, sys, threading, time
out = sys.argv.pop(1)
import yarrik.cli
import yarrik.run.perform as perform
import yarrik.sources as sources
from yarrik.cache import Store
from yarrik.run.sandbox import Sandbox
from yarrik.run.sysroots import Layouts
from yarrik.run.work_folders import WorkFolder
from yarrik.run.worker import Worker
here, found, lock = threading.local(), {}, threading.Lock()
def timed(what, work):
    @functools.wraps(work)
    def run(*words, **more):
        if not hasattr(here, "open"):
            return work(*words, **more)
        began, here.inside, outer = time.monotonic(), 0.0, here.inside
        try:
            return work(*words, **more)
        finally:
            took = time.monotonic() - began
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
        try:
            return inner(self, one, *words, **more)
        finally:
            del here.open
    return run
for owner, name, what in ((Sandbox, "run", "commands"), (Store, "lay_out", "lay out"), (Layouts, "lay_out", "lay out"),
                          (Store, "snapshot", "take in"), (WorkFolder, "remove", "remove"), (perform, "download", "fetch")):
    setattr(owner, name, timed(what, getattr(owner, name)))
for name in ("unpack_archive", "unpack_members"):
    setattr(sources, name, timed("unpack", getattr(sources, name)))
Worker.perform = step(Worker.perform)
began = time.monotonic()
try:
    yarrik.cli.main()
except SystemExit as end:
    assert not end.code, end.code
own, others = (resource.getrusage(whose) for whose in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
open(out, "w").write(json.dumps({"seconds": time.monotonic() - began, "steps": found, "own": own.ru_utime + own.ru_stime,
                                 "commands": others.ru_utime + others.ru_stime}))
"""
#: Steps of recipes, in their order; all others are the product's.
KINDS = ("fetch", "unpack", "patch", "configure", "build", "stage", "split")
PARTS = ("commands", "unpack", "lay out", "take in", "remove", "the rest")


def timed(words: list[str], environment: dict[str, str]) -> dict[str, object]:
    """What one run of the program says of itself."""
    with tempfile.NamedTemporaryFile("r", suffix=".json") as out:
        done = subprocess.run([sys.executable, "-c", TIMED, out.name, *words], env=environment, capture_output=True, text=True)
        if done.returncode:
            sys.exit(done.stdout[-3000:] + done.stderr[-3000:])
        return dict(json.load(out))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", choices=("kernel", "shelf"))
    parser.add_argument("packages", nargs="*", default=USUAL)
    parser.add_argument("--save", type=Path)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="yarrik-benchmark-") as folder:
        top = Path(folder)
        os.environ["XDG_CACHE_HOME"] = str(top / "cache")
        os.environ["NO_COLOR"] = "1"
        os.environ.pop("YARRIK_CACHE", None)
        if asked.what == "shelf":
            lay_out(top / "w", asked.packages, "arm64")
            yarrik("fetch", "--workspace", top / "w")
            words = ["build", "--workspace", str(top / "w")]
        else:
            words = ["demo", str(top / "w"), "--product", "tide-gauge-linux", "--no-boot"]
        said = timed(words, dict(os.environ))
    if asked.save:
        asked.save.write_text(json.dumps(said))
    print({key: value for key, value in said.items() if key != "steps"})
    for name, row in said["steps"].items():
        print(name, {key: round(value, 2) for key, value in row.items()})


if __name__ == "__main__":
    main()
