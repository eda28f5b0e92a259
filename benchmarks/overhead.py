"""What Yarrik itself costs where steps do nothing: the first build, one that has nothing to do, and those after one source
or definition has changed, as ratios to starting Python with Typer.

`--recipes N` of four steps each, `--shape` of what they need: each the one before it, or a few of any before it."""

from __future__ import annotations

import argparse
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from figures import keep

#: The most times that it may take of starting Python with Typer: nothing to do (of 20,000 recipes more), and one file changed.
NULL, NULL_OF_MANY, ONE_CHANGED = 3.0, 12.0, 5.0
RUNS = 7
#: How many changes of a kind are made.
CHANGES = 5
BARE = "import typer\napp = typer.Typer()\n@app.command()\ndef nothing() -> None: pass\napp()"
#: Runs the program, and writes the seconds of processor time that its steps take in their threads.
MEASURED = """
import sys, time
out = sys.argv.pop(1)
import yarrik.cli
from yarrik.run.worker import Worker
bare, took = Worker.perform, []
def perform(*words, **more):
    began = time.thread_time()
    try:
        return bare(*words, **more)
    finally:
        took.append(time.thread_time() - began)
Worker.perform = perform
try:
    yarrik.cli.main()
except SystemExit as end:
    assert not end.code, end.code
open(out, "w").write(str(sum(took)))
"""
STAND_IN = Path(__file__).parent.parent / "src/yarrik/starter/data/recipes"


#: How a recipe begins whose sources are beside it, and that is built by plain commands.
HEAD = 'version = "1"\nlicence = "MIT"\n[[source]]\npath = "src"\n[build]\nusing = "plain"\n'


def lay_out_frame(root: Path, names: list[str]) -> Callable[[str, str], None]:
    """A workspace whose image has the packages of these recipes, which are still missing; returns what writes a file of it."""

    def write(name: str, text: str) -> None:
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_text(text)

    write("yarrik.toml", '[workspace]\nname = "many"\n[[shelf]]\nname = "s"\npath = "s"\n')
    write("s/shelf.toml", '[shelf]\nname = "s"\n')
    write("s/profiles/p.toml", 'init = "init"\n')
    disk = '[[disk]]\nname = "card"\n[[disk.partition]]\nname = "root"\nholds = "root"\n'
    write("s/boards/b.toml", f'arch = "host"\n[kernel]\nrecipe = "stand-in"\n{disk}')
    write("s/images/i.toml", f'packages = {json.dumps(names)}\n[[file]]\npath = "/etc/note"\nfrom = "note.txt"\n')
    write("s/images/note.txt", "high water\n")
    write("products/many.toml", 'board = "b"\nprofile = "p"\nimage = "i"\n')
    for recipe in ("stand-in", "libc"):
        shutil.copytree(STAND_IN / recipe, root / "s/recipes" / recipe)
    # The bench board looks at what would be started, so it has to be a program.
    write("s/recipes/init/recipe.toml", HEAD + "commands = ['mkdir -p $DESTDIR/sbin; $CC -o $DESTDIR/sbin/init init.c']\n")
    write("s/recipes/init/src/init.c", "int main(void) { return 0; }\n")
    return write


def lay_out(root: Path, count: int, shape: str) -> None:
    """A workspace of many recipes: in a `chain` each needs the one before it, in a `graph` up to four of those before it."""
    chance = random.Random(1)
    names = [f"recipe-{number:03}" for number in range(count)]
    write = lay_out_frame(root, names)
    for number, name in enumerate(names):
        needed = [names[number - 1]] if number else []
        if shape == "graph":
            needed = sorted({names[chance.randrange(number)] for _ in range(chance.randint(0, 4))}) if number else []
        needs = f"needs = {needed}\n".replace("'", '"') if needed else ""
        write(f"s/recipes/{name}/recipe.toml", HEAD + 'commands = ["true"]\n' + needs)
        write(f"s/recipes/{name}/src/{name}.c", f"/* {name} */\n")
    switches = "".join(f"[options.switch-{run}]\nvariables = {{ SWITCH = '{run}' }}\n" for run in range(CHANGES))
    with (root / f"s/recipes/{names[-1]}/recipe.toml").open("a") as last:
        last.write(switches)


class Cost(NamedTuple):
    """Processor time of a command and its children, in seconds: a busy machine changes it less than the time on the clock. The
    memory is what the largest of them had at a time, in MiB."""

    seconds: float
    memory: float


def cost(command: list[str], environment: dict[str, str]) -> Cost:
    """What a command takes."""
    with tempfile.TemporaryFile() as said:
        process = subprocess.Popen(command, env=environment, stdout=said, stderr=said)
        _, status, used = os.wait4(process.pid, 0)
        process.returncode = os.waitstatus_to_exitcode(status)
        if process.returncode:
            said.seek(0)
            sys.exit(said.read().decode())
    return Cost(used.ru_utime + used.ru_stime, used.ru_maxrss / 1024)


def beside_steps(words: list[str], environment: dict[str, str]) -> tuple[Cost, Cost]:
    """What a run of the program takes, and what of that is not in the threads of steps: what their commands and helpers take
    counts as if it were not theirs."""
    with tempfile.NamedTemporaryFile("r") as out:
        whole = cost([sys.executable, "-c", MEASURED, out.name, *words], environment)
        return whole, Cost(whole.seconds - float(out.read()), whole.memory)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--recipes", type=int, default=300)
    parser.add_argument("--shape", choices=("chain", "graph"), default="chain")
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        lay_out(root / "w", asked.recipes, asked.shape)
        environment = {**os.environ, "YARRIK_CACHE": str(root / "cache"), "NO_COLOR": "1"}
        environment.pop("PYTHONDONTWRITEBYTECODE", None)  # an installed program has its modules compiled
        words = ["build", "--workspace", str(root / "w")]
        build = [sys.executable, "-m", "yarrik", *words]
        bare = [sys.executable, "-c", BARE]
        first = cost(build, environment)
        time.sleep(2.1)  # what was written less than two seconds ago may change unseen: it is looked at again
        planned = cost(build, environment)
        # In turn, so that a slow spell of the machine meets both; the least of each, since nothing makes a run too fast.
        turns = [(cost(build, environment), cost(bare, environment)) for _ in range(RUNS)]
        recipe = root / f"w/s/recipes/recipe-{asked.recipes - 1:03}"
        written = (recipe / "recipe.toml").read_text()

        def after(change: Callable[[int], object]) -> tuple[Cost, Cost]:
            """The least that a build takes after a change, and what of that is no step's own."""
            found = []
            for run in range(CHANGES):
                change(run)
                found.append(beside_steps(words, environment))
            whole, beside = zip(*found, strict=True)
            return min(whole), min(beside)

        source = after(lambda run: next((recipe / "src").glob("recipe-*.c")).write_text(f"/* another text {run} */\n"))
        came = after(lambda run: (recipe / f"src/more-{run}.c").write_text("/* more */\n"))
        command = after(lambda run: (recipe / "recipe.toml").write_text(written.replace('"true"', f'"true {run}"')))
        version = after(
            lambda run: (recipe / "recipe.toml").write_text(written.replace('version = "1"', f'version = "1.{run}"'))
        )
        image = root / "w/s/images/i.toml"
        said = image.read_text()
        comment = after(lambda run: image.write_text(f"# {run}\n{said}"))
        file = after(lambda run: (root / "w/s/images/note.txt").write_text(f"low water {run}\n"))
        setting = after(lambda run: image.write_text(f'hostname = "gauge-{run}"\n{said}'))
        board = root / "w/s/boards/b.toml"
        plain = board.read_text().replace("[kernel]\n", "[kernel]\narguments = []\n")
        argument = after(lambda run: board.write_text(plain.replace("[]", f'["port={run}"]')))
        product = root / "w/products/many.toml"
        plain = product.read_text()
        option = after(lambda run: product.write_text(f"{plain}[options.{recipe.name}]\nswitch-{run} = true\n"))
    again, start = (min(column) for column in zip(*turns, strict=True))
    name = f"{asked.recipes} recipes in a {asked.shape}"
    aim = NULL_OF_MANY if asked.recipes >= 20_000 else NULL
    print(f"{name}: processor time, the least of {RUNS} runs, next to starting Python with Typer ({start.seconds:.2f} s)")
    rows = (("first build", first, None), ("nothing to do, planned", planned, None), ("nothing to do", again, aim),
            ("one source changed", source[0], None), ("beside its own steps", source[1], ONE_CHANGED),
            ("one source came, beside its own steps", came[1], ONE_CHANGED),
            ("one recipe's commands changed, beside its own steps", command[1], ONE_CHANGED),
            ("one recipe's version changed, beside its own steps", version[1], ONE_CHANGED),
            ("a definition written otherwise that says the same", comment[0], ONE_CHANGED),
            ("one file of the image changed, beside its own steps", file[1], ONE_CHANGED),
            ("one setting of the image changed, beside its own steps", setting[1], ONE_CHANGED),
            ("one setting of the board changed, beside its own steps", argument[1], ONE_CHANGED),
            ("one option chosen, beside its own steps", option[1], ONE_CHANGED))  # fmt: skip
    for what, took, most in rows:
        ratio = took.seconds / start.seconds
        at_most = f" (at most {most:g})" if most is not None else ""
        print(f"  {what:<54} {took.seconds:7.2f} s {ratio:7.2f} x {took.memory:6.0f} MiB{at_most}")
        keep(f"{name}: {what}", ratio, most)
    if again.seconds / start.seconds > aim:
        sys.exit(f"a build that has nothing to do may take {aim:g} times as long as starting Python with Typer")


if __name__ == "__main__":
    main()
