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

#: Starting Python with Typer takes 0.1 s here: three times that is 0.3 s.
LIMIT_RATIO = 3.0
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
        bare = statistics.median(seconds([sys.executable, "-c", BARE], environment, folder) for _ in range(RUNS))
        ratios = []
        for what, word in (("a name", "gauge-17-3"), ("a slip", "guage-17-3")):
            took = statistics.median(seconds([*program, word], environment, folder) for _ in range(RUNS))
            ratios.append(took / bare)
            print(f"300 recipes in a catalogue, {what}: {took:.2f} s, {took / bare:.1f} x the start of Python with Typer")
    if max(ratios) > LIMIT_RATIO:
        sys.exit(f"a search may take {LIMIT_RATIO:g} times as long as starting Python with Typer")


if __name__ == "__main__":
    main()
