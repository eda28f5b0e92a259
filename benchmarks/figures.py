"""Figures of benchmarks: ratios that are kept, compared with those that were committed last.

Each benchmark calls `keep`. `python benchmarks/figures.py` shows what was measured since `--begin`, beside `figures.json`, and
names what became slower; with `--commit` the new figures take the place of the old ones there."""

from __future__ import annotations

import atexit
import contextlib
import json
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

# An installed program is compiled.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
# ext4 makes files slowly for minutes where many were just removed, as by the last benchmark: each folder is apart (chattr(1)).
_PLACE = tempfile.mkdtemp(prefix="yarrik-benchmarks-")
atexit.register(shutil.rmtree, _PLACE, ignore_errors=True)
with contextlib.suppress(FileNotFoundError):
    subprocess.run(["chattr", "+T", _PLACE], stderr=subprocess.DEVNULL, check=False)
tempfile.tempdir = os.environ["TMPDIR"] = _PLACE

COMMITTED = Path(__file__).parent / "figures.json"
MEASURED = Path(__file__).parent.parent / "build/figures.json"
#: A figure that is larger than the last one by more than this share has become slower.
SLOWER = 0.15


def keep(name: str, ratio: float, aim: float | None = None) -> None:
    """Keeps a figure under its name: a ratio to what is measured beside it, of which less is better, and the most that it may
    be, if there is such an aim."""
    found = _read(MEASURED)
    found[name] = {"ratio": round(ratio, 3), **({} if aim is None else {"aim": aim})}
    MEASURED.parent.mkdir(exist_ok=True)
    MEASURED.write_text(_written(found))


def compared(before: dict[str, dict[str, float]], now: dict[str, dict[str, float]]) -> tuple[list[str], list[str]]:
    """A line for each figure, and the names of those that became slower by more than `SLOWER`."""
    lines, slower = [], []
    for name, figure in sorted(now.items()):
        ratio, aim, last = figure["ratio"], figure.get("aim"), before.get(name, {}).get("ratio")
        words = f"{name:<60} {ratio:8.2f} x"
        words += f"  aim {aim:g}" + ("" if ratio <= aim else ", MISSED") if aim is not None else ""
        if last is not None:
            words += f"  before {last:.2f}"
            if ratio > last * (1 + SLOWER):
                words += f", SLOWER by {ratio / last - 1:.0%}"
                slower.append(name)
        lines.append(words)
    return lines, slower


def _read(file: Path) -> dict[str, dict[str, float]]:
    try:
        return dict(json.loads(file.read_text()))
    except FileNotFoundError:
        return {}


def _written(figures: dict[str, dict[str, float]]) -> str:
    return json.dumps(figures, indent=1, sort_keys=True) + "\n"


def main() -> None:
    if "--begin" in sys.argv[1:]:
        MEASURED.unlink(missing_ok=True)
        return
    before, now = _read(COMMITTED), _read(MEASURED)
    lines, slower = compared(before, now)
    print("\n".join(lines))
    print(f"the machine: {os.cpu_count()} processors, load {os.getloadavg()[0]:.1f} now")
    if "--commit" in sys.argv[1:]:
        COMMITTED.write_text(_written({**before, **now}))
    elif slower:
        sys.exit(f"slower than before by more than {SLOWER:.0%}: {', '.join(slower)}")


if __name__ == "__main__":
    main()
