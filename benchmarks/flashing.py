"""Flashing, as ratios to copying the whole image with `dd` in the same run: an image of 2 GiB with 300 MiB in it, to a file.

`python benchmarks/flashing.py [FOLDER]`  uses a folder on a real disk; without it, one of the system's for temporary files."""

from __future__ import annotations

import json
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path
from time import monotonic

from figures import keep

RUNS = 3
SIZE, DATA = 2 << 30, 300 << 20
#: At the most, to `dd` of the whole.
AIMS = {
    "writing": 0.25,
    "writing, reading back and comparing": 0.4,
    "the whole command, with start and check of the image": None,
}
DEVICE = '[device]\nmodel = "Bench card"\nserial = "BENCH-1"\nsize = "2 GiB"\n'


def image(folder: Path) -> Path:
    """The image with its map: data in 30 places."""
    from yarrik.disk import write_beside

    make, file, ranges = random.Random(1), folder / "card.img", []
    with file.open("wb") as sink:
        sink.truncate(SIZE)
        for number in range(30):
            at = number * (SIZE // 30) // 4096 * 4096
            sink.seek(at)
            sink.write(make.randbytes(DATA // 30 // 4096 * 4096))
            ranges.append((at, sink.tell()))
    write_beside(file, file.name, ranges, "map", folder / "card.img.map.json")
    return file


def copied(file: Path, out: Path) -> float:
    out.unlink(missing_ok=True)
    started = monotonic()
    subprocess.run(["dd", f"if={file}", f"of={out}", "bs=4M", "conv=fsync", "status=none"], check=True)
    return monotonic() - started


def flashed(file: Path, folder: Path) -> tuple[float, float, float]:
    """Seconds for writing, for that and comparing, and for the whole command, which holds the image against its map first."""
    (folder / "device.toml").write_text(DEVICE)
    (folder / "device.bin").unlink(missing_ok=True)
    words = [sys.executable, "-m", "yarrik", "flash", str(file), str(folder / "device.toml"), "--write-to-device",
             "device-BENCH-1", "--from-start", "--json"]  # fmt: skip
    started = monotonic()
    done = subprocess.run(words, capture_output=True, check=True)
    whole = monotonic() - started
    report = json.loads(done.stdout)["devices"][0]
    assert report["done"], report
    return report["write-seconds"], report["write-seconds"] + report["read-back-seconds"], whole


def main() -> None:
    with tempfile.TemporaryDirectory(dir=sys.argv[1] if sys.argv[1:] else None) as name:
        folder = Path(name)
        file = image(folder)
        theirs, ours = [], []
        for _ in range(RUNS):
            theirs.append(copied(file, folder / "copy.img"))
            (folder / "copy.img").unlink()
            ours.append(flashed(file, folder))
        base = statistics.median(theirs)
        print(f"dd of the whole: {base:.2f} s (median of {RUNS}); free: {shutil.disk_usage(folder).free >> 30} GiB")
        for (what, aim), seconds in zip(AIMS.items(), zip(*ours, strict=True), strict=True):
            ratio = statistics.median(seconds) / base
            print(f"{what}: {statistics.median(seconds):.2f} s, {ratio:.2f} x" + (f" (at most {aim})" if aim else ""))
            keep(f"flashing: {what}", ratio, aim)


if __name__ == "__main__":
    main()
