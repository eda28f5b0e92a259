"""What Yarrik itself costs: 300 recipes whose steps do nothing, built again, as a ratio to starting Python with Typer."""

from __future__ import annotations

import argparse
import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

#: Starting Python with Typer takes 0.08 to 0.11 s, so this is about a second.
LIMIT_RATIO = 12.0
RUNS = 7
BARE = "import typer\napp = typer.Typer()\n@app.command()\ndef nothing() -> None: pass\napp()"
STAND_IN = Path(__file__).parent.parent / "src/yarrik/starter/data/recipes"


def lay_out(root: Path, count: int) -> None:
    """A workspace with a chain of recipes: each needs the one before it."""

    def write(name: str, text: str) -> None:
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_text(text)

    write("yarrik.toml", '[workspace]\nname = "many"\n[[shelf]]\nname = "s"\npath = "s"\n')
    write("s/shelf.toml", '[shelf]\nname = "s"\n')
    write("s/profiles/p.toml", 'init = "init"\n')
    disk = '[[disk]]\nname = "card"\n[[disk.partition]]\nname = "root"\nholds = "root"\n'
    write("s/boards/b.toml", f'arch = "host"\n[kernel]\nrecipe = "stand-in"\n{disk}')
    names = [f"recipe-{number:03}" for number in range(count)]
    write("s/images/i.toml", f"packages = {names}\n".replace("'", '"'))
    write("products/many.toml", 'board = "b"\nprofile = "p"\nimage = "i"\n')
    for recipe in ("stand-in", "libc"):
        shutil.copytree(STAND_IN / recipe, root / "s/recipes" / recipe)
    head = 'version = "1"\nlicence = "MIT"\n[[source]]\npath = "src"\n[build]\nusing = "plain"\n'
    # The bench board looks at what would be started, so it has to be a program.
    write("s/recipes/init/recipe.toml", head + "commands = ['mkdir -p $DESTDIR/sbin; $CC -o $DESTDIR/sbin/init init.c']\n")
    write("s/recipes/init/src/init.c", "int main(void) { return 0; }\n")
    for number, name in enumerate(names):
        needs = f'needs = ["{names[number - 1]}"]\n' if number else ""
        write(f"s/recipes/{name}/recipe.toml", head + 'commands = ["true"]\n' + needs)
        write(f"s/recipes/{name}/src/{name}.c", f"/* {name} */\n")


def seconds(command: list[str], environment: dict[str, str]) -> float:
    """Processor time of a command and its children, in seconds: a busy machine changes it less than the time on the clock."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    done = subprocess.run(command, env=environment, capture_output=True, text=True)
    if done.returncode:
        sys.exit(done.stdout + done.stderr)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--recipes", type=int, default=300)
    count = parser.parse_args().recipes
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        lay_out(root / "w", count)
        environment = {**os.environ, "YARRIK_CACHE": str(root / "cache"), "NO_COLOR": "1"}
        environment.pop("PYTHONDONTWRITEBYTECODE", None)  # an installed program has its modules compiled
        build = [sys.executable, "-m", "yarrik", "build", "--workspace", str(root / "w")]
        first = seconds(build, environment)
        time.sleep(2.1)  # sources younger than two seconds are read again each time, to be safe
        seconds(build, environment)
        # In turn, so that a slow spell of the machine meets both; the least of each, since nothing makes a run too fast.
        turns = [(seconds(build, environment), seconds([sys.executable, "-c", BARE], environment)) for _ in range(RUNS)]
    again, bare = (min(column) for column in zip(*turns, strict=True))
    print(f"{count} recipes whose steps do nothing: processor time, the least of {RUNS} runs")
    print(f"  first build             {first:7.2f} s")
    print(f"  second build            {again:7.2f} s")
    print(f"  Python with Typer alone {bare:7.2f} s")
    print(f"  ratio                   {again / bare:7.2f} x")
    if again / bare > LIMIT_RATIO:
        sys.exit(f"a build that has nothing to do may take {LIMIT_RATIO:g} times as long as starting Python with Typer")


if __name__ == "__main__":
    main()
