"""What a search costs: 300 recipes of a catalogue, by a word and by a slip, as a ratio to starting Python with Typer."""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from figures import keep

#: Starting Python with Typer takes 0.08 to 0.09 s on a quiet machine, so this is 0.3 s there.
LIMIT_RATIO = 3.5
RUNS = 7
BARE = "import typer\napp = typer.Typer()\n@app.command()\ndef nothing() -> None: pass\napp()"


def seconds(command: list[str], environment: dict[str, str], folder: Path) -> float:
    """How long a command takes; it has to succeed."""
    start = time.monotonic()
    subprocess.run(command, env=environment, cwd=folder, capture_output=True, check=True)
    return time.monotonic() - start


def main() -> None:
    """Prints the figures, and fails when the ratio is over the limit."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        shelves = [
            {"name": f"shelf-{number}", "git": f"https://example.org/{number}.git", "summary": "of the harbour", "holds": [
                {"kind": "recipe", "name": f"gauge-{number}-{part}", "summary": f"Reads the gauge {part} of the pier {number}"}
                for part in range(10)]}
            for number in range(30)
        ]  # fmt: skip
        (folder / "catalogue.json").write_text(json.dumps({"catalogue": {"name": "many"}, "shelf": shelves}))
        (folder / "settings.toml").write_text('catalogues = ["catalogue.json"]\n')
        environment = {**os.environ, "YARRIK_SETTINGS": str(folder / "settings.toml"), "NO_COLOR": "1"}
        environment.pop("PYTHONDONTWRITEBYTECODE", None)  # an installed program has its modules compiled
        program = [sys.executable, "-m", "yarrik", "find"]
        seconds([*program, "gauge-17-3"], environment, folder)
        commands = {
            "bare": [sys.executable, "-c", BARE],
            "a name": [*program, "gauge-17-3"],
            "a slip": [*program, "guage-17-3"],
        }
        # In turn, so that a machine that gets slower or quicker meanwhile does it to all of them.
        rounds = [{what: seconds(command, environment, folder) for what, command in commands.items()} for _ in range(RUNS)]
        took = {what: statistics.median(one[what] for one in rounds) for what in commands}
        bare = took.pop("bare")
        ratios = [seconds_taken / bare for seconds_taken in took.values()]
        for what, one in took.items():
            print(f"300 recipes in a catalogue, {what}: {one:.2f} s, {one / bare:.1f} x the start of Python with Typer")
            keep(f"catalogue: {what}", one / bare, LIMIT_RATIO)
    if max(ratios) > LIMIT_RATIO:
        sys.exit(f"a search may take {LIMIT_RATIO:g} times as long as starting Python with Typer")


if __name__ == "__main__":
    main()
