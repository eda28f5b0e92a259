"""How costs grow with a workspace that has some of everything: options, versions, packages that need each other, roles, users,
services, patches, licences, tools, conditions, amendments, groups, and files and trees of an image.

Ten times the recipes: time and memory may be eleven times as much at the most. `overhead.py` has a graph of plain recipes."""

from __future__ import annotations

import argparse
import json
import os
import random
import sys
import tempfile
import time
from pathlib import Path

from figures import keep
from overhead import Cost, cost, lay_out_frame

MOST = 11.0
#: Recipes that take turns in what they have, each of these in so many.
VERSIONS, PATCHES, TOOLS, OUTPUTS, ROLES, RECOMMENDS, SERVICES, CONDITIONS, AMENDMENTS, CHOSEN = 4, 6, 5, 13, 9, 7, 3, 7, 11, 4
#: Packages in a group, and recipes to a file of the image and of its tree, and to a user of the image.
OF_GROUP, TO_FILE, TO_USER = 10, 5, 10


def recipe_text(number: int, names: list[str], chance: random.Random) -> str:
    """A recipe that needs some of those before it."""

    def earlier(most: int, ending: str = "") -> str:
        found = {names[chance.randrange(number)] for _ in range(chance.randint(0, most))} if number else set()
        return json.dumps(sorted(f"{one}{ending}" for one in found))

    name = names[number]
    lines = ['versions = ["1.0", "1.1", "2.0"]' if number % VERSIONS == 0 else 'version = "1.0"', 'licence = "MIT"']
    lines += ['licence-files = ["COPYING"]', *(['patches = ["tide.patch"]'] if number % PATCHES == 1 else [])]
    command = f"install -D main $DESTDIR/usr/bin/{name}; install -D COPYING $DESTDIR/usr/share/{name}"
    lines += ["[[source]]", 'path = "src"', "[build]", 'using = "plain"', f"commands = ['{command}']", f"needs = {earlier(3)}"]
    if number > TOOLS * 2 and number % TOOLS == 0:
        lines.append(f"tools = {json.dumps([names[number % 10]])}")
    if number >= OUTPUTS and number % OUTPUTS == 0:
        lines.append(f"takes = {json.dumps([f'{names[number - OUTPUTS]}:note'])}")
    lines += ["[options.alpha]", 'variables = { A = "1" }', "[options.beta]", f"needs = {earlier(1)}"]
    lines += ["[options.gamma]", "default = true", 'variables-off = { G = "0" }']
    lines += [f"[package.{name}-bin]", 'files = ["/usr/bin/**"]', f"needs = {earlier(2, '-bin')}"]
    if number % ROLES == 0:
        lines.append(f'provides = ["role-{number // (3 * ROLES)}"]')
    if number % RECOMMENDS == 3:
        lines.append(f"recommends = {earlier(1, '-bin')}")
    if number % SERVICES == 0:
        after = f'after = ["s{number - SERVICES}"]' if number else ""
        lines += [
            f"[[package.{name}-bin.user]]",
            f'name = "u{number}"',
            f"[[package.{name}-bin.service]]",
            f'name = "s{number}"',
        ]
        lines += ['program = "/sbin/init"', f'user = "u{number}"', after]
    lines += [f"[package.{name}-doc]", 'files = ["/usr/share/**"]']
    if number % OUTPUTS == 0:
        lines += ["[outputs]", f'note = "usr/share/{name}"']
    if number % CONDITIONS == 2:
        lines += ["[[when]]", 'option = "alpha"', "[when.set.build]", 'variables = { W = "1" }']
    return "\n".join(lines) + "\n"


def lay_out(root: Path, count: int) -> None:
    """A workspace of so many recipes."""
    chance = random.Random(1)
    names = [f"gauge-{number:05}" for number in range(count)]
    write = lay_out_frame(root, [])
    chosen = ""
    for number, name in enumerate(names):
        write(f"s/recipes/{name}/recipe.toml", recipe_text(number, names, chance))
        write(f"s/recipes/{name}/src/main", f"{name}\n")
        write(f"s/recipes/{name}/src/COPYING", f"free {name}\n")
        if number % PATCHES == 1:
            patch = f"--- a/COPYING\n+++ b/COPYING\n@@ -1 +1 @@\n-free {name}\n+FREE {name}\n"
            write(f"s/recipes/{name}/tide.patch", patch)
        if number % AMENDMENTS == 4:
            write(f"s/amendments/{name}.toml", f'recipe = "{name}"\n[set]\nbuild.variables = {{ M = "1" }}\n')
        if number % CHOSEN == 1:
            chosen += f"[options.{name}]\nalpha = true\n"
    for first in range(0, count, OF_GROUP):
        packages = [f"{name}-bin" for name in names[first : first + OF_GROUP]]
        write(f"s/groups/g{first}.toml", f"packages = {json.dumps(packages)}\n")
    image = f'packages = {json.dumps([f"@g{first}" for first in range(0, count, OF_GROUP)])}\n[[tree]]\nfrom = "tree"\n'
    for number in range(count // TO_FILE):
        write(f"s/images/files/f{number}", f"{number}\n")
        write(f"s/images/tree/etc/gauges/t{number}", f"{number}\n")
        image += f'[[file]]\npath = "/etc/f{number}"\nfrom = "files/f{number}"\n'
    image += "".join(f'[[user]]\nname = "p{number}"\n' for number in range(count // TO_USER))
    write("s/images/i.toml", image)
    product = root / "products/many.toml"
    product.write_text(product.read_text() + chosen)


def measured(root: Path, count: int) -> dict[str, Cost]:
    """What builds take, and commands that resolve."""
    lay_out(root / "w", count)
    environment = {**os.environ, "YARRIK_CACHE": str(root / "cache"), "NO_COLOR": "1"}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)

    def ran(*words: str) -> Cost:
        command = [sys.executable, "-m", "yarrik", *words, "--workspace", str(root / "w")]
        return min(cost(command, environment) for _ in range(1 if words == ("build",) else 2))

    found = {"first build": ran("build")}
    time.sleep(2.1)  # what was written less than two seconds ago may change unseen: it is looked at again
    found |= {"planned": ran("build"), "nothing to do": ran("build")}
    last = f"recipes/gauge-{count - 1:05}/src/main"  # nothing is built with it
    for what, file in (("a source changed", last), ("a file of the image changed", "images/files/f0")):
        (root / "w/s" / file).write_text("another\n")
        found[what] = ran("build")
    for words in (("resolve",), ("check",), ("why", "gauge-00003-bin"), ("show", "many"), ("find", "gauge-00003")):
        found[words[0]] = ran(*words)
    return found


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--recipes", type=int, default=1500)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        few, many = (measured(Path(folder, str(count)), count) for count in (asked.recipes // 10, asked.recipes))
    print(f"{asked.recipes // 10:,} and {asked.recipes:,} recipes with some of everything (at most {MOST:g} x)")
    slow = []
    for what, less in few.items():
        more = many[what]
        ratios = more.seconds / less.seconds, more.memory / less.memory
        print(f"  {what:<28} {less.seconds:6.2f} s to {more.seconds:6.2f} s {ratios[0]:6.2f} x"
              f"  {less.memory:4.0f} to {more.memory:4.0f} MiB {ratios[1]:5.2f} x")  # fmt: skip
        keep(f"{asked.recipes:,} recipes with some of everything, 10 x as many: {what}", ratios[0], MOST)
        keep(f"{asked.recipes:,} recipes with some of everything, 10 x as many: {what}, memory", ratios[1], MOST)
        slow += [what] if max(ratios) > MOST else []
    if slow:
        sys.exit(f"grows faster than the work: {', '.join(slow)}")


if __name__ == "__main__":
    main()
