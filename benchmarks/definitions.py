"""Loading definitions: 5,000 recipes on 10 shelves, 10 options each; cold, warm, and after one file was edited."""

from __future__ import annotations

import argparse
import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from figures import keep

#: Limits as multiples of what the standard library's TOML parser takes for the same files.
COLD, WARM = 1.7, 0.15
RUNS = 3
LOAD = """
import sys, time
from pathlib import Path
started = time.perf_counter()
import gc
gc.set_threshold(200_000, 20, 20)
from yarrik.cache import Memory
from yarrik.model import load_workspace
memory = Memory(Path(sys.argv[1]) / ".yarrik/memory.sqlite")
workspace = load_workspace(Path(sys.argv[1]), memory)
count = len(workspace.shelved["recipe"])
read = workspace.files_read
memory.close()
print(count, read, time.perf_counter() - started)
"""
PLAIN = """
import sys, time, tomllib
from pathlib import Path
started = time.perf_counter()
for file in sorted(Path(sys.argv[1]).glob("shelves/*/recipes/*/recipe.toml")):
    tomllib.loads(file.read_text())
print(0, 0, time.perf_counter() - started)
"""


def recipe(number: int, count: int) -> str:
    needs = [f"recipe-{(number * 7 + step * 13) % count:04}" for step in range(1, 4)]
    lines = [
        f'summary = "Made-up recipe number {number}, which draws, measures or keeps something"',
        'versions = ["1.0", "1.1", "2.0"]',
        'licence = "MIT"',
        '[[source]]\npath = "src"',
        f'[build]\nusing = "make"\nneeds = {json.dumps(needs)}',
    ]
    for option in range(10):
        lines.append(
            f'[options.switch-{option}]\nsummary = "switches part {option} on"\n'
            f"default = {'true' if option % 3 == 0 else 'false'}\n"
            f'arguments = ["--with-part-{option}"]\narguments-off = ["--without-part-{option}"]'
        )
    lines.append(f'[package.recipe-{number:04}]\nfiles = ["/usr/bin/recipe-{number:04}"]\nneeds = ["{needs[0]}"]')
    return "\n".join(lines) + "\n"


def lay_out(root: Path, count: int) -> None:
    """A workspace of ten shelves that share the recipes among them."""
    text = '[workspace]\nname = "many"\n'
    for shelf in range(10):
        text += f'[[shelf]]\nname = "shelf-{shelf}"\npath = "shelves/{shelf}"\n'
        (root / f"shelves/{shelf}").mkdir(parents=True)
        (root / f"shelves/{shelf}/shelf.toml").write_text(f'[shelf]\nname = "shelf-{shelf}"\n')
    (root / "yarrik.toml").write_text(text)
    for number in range(count):
        folder = root / f"shelves/{number % 10}/recipes/recipe-{number:04}"
        folder.mkdir(parents=True)
        (folder / "recipe.toml").write_text(recipe(number, count))


def run(script: str, root: Path) -> tuple[int, int, float]:
    done = subprocess.run([sys.executable, "-c", script, str(root)], capture_output=True, text=True, check=True)
    count, read, seconds = done.stdout.split()
    return int(count), int(read), float(seconds)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--recipes", type=int, default=5000)
    count = parser.parse_args().recipes
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        lay_out(root, count)
        time.sleep(2.1)  # files younger than two seconds are read again each time, to be safe
        cold = []
        for _ in range(RUNS):
            (root / ".yarrik/memory.sqlite").unlink(missing_ok=True)
            _, read, seconds = run(LOAD, root)
            assert read == count
            cold.append(seconds)
        warm = []
        for _ in range(RUNS):
            _, read, seconds = run(LOAD, root)
            assert read == 0, read
            warm.append(seconds)
        edited = root / "shelves/3/recipes/recipe-0003/recipe.toml"
        edited.write_text(edited.read_text().replace("Made-up", "Edited"))
        _, read, one = run(LOAD, root)
        assert read == 1, read
        plain = statistics.median(run(PLAIN, root)[2] for _ in range(RUNS))
    took = {"cold": statistics.median(cold), "warm": statistics.median(warm)}
    print(f"{count} recipes on 10 shelves, 10 options each, median of {RUNS}, with Python's imports")
    print(f"  the standard library's TOML parser alone  {plain:6.2f} s")
    print(f"  cold                                      {took['cold']:6.2f} s  {took['cold'] / plain:5.2f} x")
    print(f"  warm                                      {took['warm']:6.2f} s  {took['warm'] / plain:5.2f} x")
    print(f"  one file edited                           {one:6.2f} s  {one / plain:5.2f} x")
    for what, seconds, aim in (("cold", took["cold"], COLD), ("warm", took["warm"], WARM), ("one file edited", one, WARM)):
        keep(f"definitions, {count} recipes: {what}", seconds / plain, aim)
    if count == 5000 and (took["cold"] > COLD * plain or max(took["warm"], one) > WARM * plain):
        sys.exit(f"the limits are {COLD} x cold, {WARM} x warm or with one file edited")


if __name__ == "__main__":
    main()
