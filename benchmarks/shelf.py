"""Recipes of the shelf `commons`, built for the first time, as a ratio to the same commands run by hand in a row: unpack,
patch, configure, make, install, one recipe after the other. And what a second workspace takes that has nothing but the cache.

Sources are fetched beforehand. On the clock, with all processors: run it on a quiet machine."""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from figures import keep

from yarrik.model import Overrides
from yarrik.plan.actions import RunCommands, UnpackDebian
from yarrik.run.session import Session

LIMIT_RATIO, LIMIT_SECOND = 1.05, 60.0
LOCK = Path(__file__).parent.parent / "tests/commons.lock"
#: Packages, each of one recipe; what these need comes along.
USUAL = ["bzip2", "dash", "file", "grep", "gzip", "less", "libexpat", "libffi", "nano", "sed", "xz"]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("packages", nargs="*", default=USUAL, help="packages of the shelf")
    parser.add_argument("--arch", default="arm64")
    words = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="yarrik-benchmark-") as folder:
        top = Path(folder)
        os.environ["XDG_CACHE_HOME"] = str(top / "cache")
        first, second = top / "first", top / "second"
        for place in (first, second):
            lay_out(place, words.packages, words.arch)
        yarrik("fetch", "--workspace", first)
        recipes, by_hand = hand_build(first, top / "hand")
        took = {
            "by hand": by_hand,
            "Yarrik": timed("build", "--workspace", first),
            "second workspace": timed("build", "--workspace", second),
        }
        missed = compare(first, top / "hand")
    ratio = took["Yarrik"] / took["by hand"]
    for name, seconds in took.items():
        print(f"{name:<17} {seconds:8.1f} s")
    print(f"{recipes} recipes: {ratio:.2f} x, limit {LIMIT_RATIO}; the second workspace: limit {LIMIT_SECOND:.0f} s")
    more, less = missed
    if more:
        print(f"by hand there came, since the build host has what it takes: {', '.join(more)}")
    keep("shelf, by hand", ratio, LIMIT_RATIO)
    if less:
        sys.exit(f"missing by hand: {', '.join(less[:10])}")
    if ratio > LIMIT_RATIO or took["second workspace"] > LIMIT_SECOND:
        sys.exit("over the limit")


def lay_out(place: Path, packages: list[str], arch: str) -> None:
    yarrik("new", "workspace", place, "--arch", arch)
    yarrik("shelf", "add", "commons", "--workspace", place)
    shutil.copy(LOCK, place / "yarrik.lock")
    # Both are called the same, as the same workspace is on two machines.
    (place / "products/shelf.toml").write_text((place / f"products/{place.name}.toml").read_text().replace(place.name, "shelf"))
    image = f'extends = "minimal"\npackages.add = {json.dumps(packages)}\n'
    (place / f"shelves/{place.name}/images/shelf.toml").write_text(image)
    board = (place / f"shelves/{place.name}/boards/{place.name}.toml").read_text()
    (place / f"shelves/{place.name}/boards/shelf.toml").write_text(board)
    settings = (place / "yarrik.toml").read_text()
    (place / "yarrik.toml").write_text(settings.replace(f'product = "{place.name}"', 'product = "shelf"'))


def yarrik(*words: str | Path) -> None:
    done = subprocess.run([sys.executable, "-m", "yarrik", *map(str, words)], capture_output=True, text=True)
    if done.returncode:
        sys.exit(f"yarrik {' '.join(map(str, words))}\n{done.stdout[-3000:]}{done.stderr[-3000:]}")


def timed(*words: str | Path) -> float:
    start = time.monotonic()
    yarrik(*words)
    return time.monotonic() - start


def hand_build(workspace: Path, top: Path) -> tuple[int, float]:
    """Runs the commands of all recipes in a row, without sandbox, cache or digests: their number, and seconds."""
    session = Session(workspace)
    planned = session.planner.planned(session.planner.compose("shelf", Overrides()))
    steps = [step for step in planned.graph.steps if isinstance(step.action, RunCommands)]
    prepared = {step.name: step for step in planned.graph.steps}
    sysroot = top / "sysroot"
    sysroot.mkdir(parents=True)
    folders: dict[str, str] = {}
    for step in steps:
        source = prepared[step.inputs["source"][0]]
        if not isinstance(source.action, UnpackDebian):
            shutil.copytree(source.places["source"], top / step.subject / "source")
            continue
        folders[step.subject] = source.action.folder
        for label, (fetch, _) in source.inputs.items():
            (top / "sources" / step.subject).mkdir(parents=True, exist_ok=True)
            digest = prepared[fetch].predicted["file"]
            shutil.copy(
                session.project.store.checked_path(digest), top / "sources" / step.subject / label.removeprefix("file ")
            )
    session.close()
    start = time.monotonic()
    for step in steps:
        assert isinstance(step.action, RunCommands)
        work = top / step.subject
        for name in ("build", "stage", "home", "tmp"):
            (work / name).mkdir(parents=True)
        (work / "sysroot").symlink_to(sysroot)
        for description in (top / "sources" / step.subject).glob("*.dsc"):
            subprocess.run(["dpkg-source", "--no-check", "-x", description, work / "unpacked"], check=True, capture_output=True)
            (work / "unpacked" / folders.get(step.subject, "")).rename(work / "source")
            # Patches make some sources newer than what is made of them, and few machines have all that would make it again.
            subprocess.run(["find", work / "source", "-exec", "touch", "-h", "-d", "@1", "{}", "+"], check=True)

        def here(text: str, work: Path = work) -> str:
            # Some recipes name the step's folder as they see it.
            return text.replace("{step}", str(work)).replace("/step/", f"{work}/").replace("{jobs}", str(os.cpu_count() or 1))

        for name, text in step.action.files.items():
            (work / name).parent.mkdir(parents=True, exist_ok=True)
            (work / name).write_text(here(text))
        environment = {"PATH": os.environ["PATH"], "HOME": str(work / "home"), "LC_ALL": "C.UTF-8"}
        environment |= {name: here(text) for name, text in step.action.environment.items()} | {"DESTDIR": str(work / "stage")}
        for command in step.action.commands:
            done = subprocess.run(list(map(here, command)), cwd=here(step.action.folder), env=environment, capture_output=True)
            if done.returncode:
                sys.exit(f"{step.name}: {command}\n{done.stdout[-2000:].decode()}{done.stderr[-2000:].decode()}")
        subprocess.run(["cp", "-a", f"{work}/stage/.", sysroot], check=True)
    return len(steps), time.monotonic() - start


def compare(workspace: Path, top: Path) -> tuple[list[str], list[str]]:
    """Paths that only came by hand, and those that only Yarrik installed: then the two did not do the same."""
    session = Session(workspace)
    store, last = session.project.store, session.project.memory.last_runs("shelf")
    planned = session.planner.planned(session.planner.compose("shelf", Overrides()))
    names = [step.name for step in planned.graph.steps if isinstance(step.action, RunCommands)]
    found = {
        entry.path for name in names for entry in store.tree(last[name].outputs["files"]).entries if entry.kind != "folder"
    }
    session.close()
    sysroot = top / "sysroot"
    by_hand = {str(path.relative_to(sysroot)) for path in sysroot.rglob("*") if path.is_symlink() or not path.is_dir()}
    return sorted(by_hand - found), sorted(found - by_hand)


if __name__ == "__main__":
    main()
