"""What packages with many files cost beside the commands that make them: publishing, assembling, writing and describing.

Ten times the packages, with ten times the files in all: time and memory may be eleven times as much at the most."""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from figures import keep
from overhead import HEAD, Cost, cost, lay_out_frame

#: 1,000 files in each package, as many as a desktop's theme or a language's library has, of up to 4 kB.
FILES = 1000
MOST = 11.0


def lay_out(root: Path, packages: int) -> None:
    """A workspace of packages with many small files each."""
    names = [f"files-{number:03}" for number in range(packages)]
    write = lay_out_frame(root, names)
    for name in names:
        write(f"s/recipes/{name}/recipe.toml", HEAD + "commands = ['sh make-files']\n")
        script = f"""for n in $(seq 0 {FILES // 100 - 1}); do mkdir -p "$DESTDIR/usr/share/{name}/$n"; done
awk -v top="$DESTDIR/usr/share/{name}" 'BEGIN {{ text = sprintf("%04000d", 0); for (n = 0; n < {FILES}; n++) {{
file = top "/" int(n / 100) "/file-" n; print "{name}", n, substr(text, 1, (n * 37) % 4000) > file; close(file) }} }}'
"""
        write(f"s/recipes/{name}/src/make-files", script)


def measured(root: Path, packages: int) -> dict[str, Cost]:
    """What each kind of build takes, the commands that make the files among it; and steps of the first one by the clock."""
    lay_out(root / "w", packages)
    environment = {**os.environ, "YARRIK_CACHE": str(root / "cache"), "NO_COLOR": "1"}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    build, timeline = ([sys.executable, "-m", "yarrik", command, "--workspace", str(root / "w")]
                       for command in ("build", "timeline"))  # fmt: skip
    found = {"first build": cost(build, environment)}
    said = subprocess.run([*timeline, "--json"], env=environment, capture_output=True, check=True).stdout
    seconds = {step["step"]: step["seconds"] for step in json.loads(said)["steps"]}
    time.sleep(2.1)  # what was written less than two seconds ago may change unseen: it is looked at again
    found["planned"] = cost(build, environment)
    found["nothing to do"] = cost(build, environment)
    source = root / "w/s/recipes/files-000/src/make-files"
    source.write_text(source.read_text().replace(" n, ", " n + 1, "))
    found["one source changed"] = cost(build, environment)
    found |= {step: Cost(seconds[f"{step} many"], 0) for step in ("assemble", "write", "check", "describe")}
    return found


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--packages", type=int, default=200)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        few, many = (measured(Path(folder, str(count)), count) for count in (asked.packages // 10, asked.packages))
    names = [f"{count * FILES:,} files" for count in (asked.packages // 10, asked.packages)]
    print(f"{names[0]} and {names[1]} in packages of {FILES:,} (times: at most {MOST:g} x)")
    for what in few:
        less, more = few[what], many[what]
        ratio, memory = more.seconds / less.seconds, f"  {less.memory:4.0f} to {more.memory:4.0f} MiB" if more.memory else ""
        print(f"  {what:<20} {less.seconds:6.2f} s to {more.seconds:6.2f} s {ratio:6.2f} x{memory}")
        keep(f"{names[1]}, 10 x as many: {what}", ratio, MOST)
        if more.memory:
            keep(f"{names[1]}, 10 x as many: {what}, memory", more.memory / less.memory, MOST)


if __name__ == "__main__":
    main()
