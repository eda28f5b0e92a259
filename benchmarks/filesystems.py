"""Writing filesystems, as ratios to the operating system's own programs in the same run: time, and the most memory."""

from __future__ import annotations

import os
import random
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

RUNS = 5


def lay_out(top: Path) -> dict[str, Path]:
    """Many small files (50,000 of 50 B to 9 kB), and few large ones (16 of 32 MiB)."""
    make = random.Random(1)
    small, large = top / "small", top / "large"
    for folder in range(500):
        (small / f"folder-{folder:03}").mkdir(parents=True)
        for number in range(100):
            (small / f"folder-{folder:03}/file-{number:03}").write_bytes(make.randbytes(make.randrange(50, 9000)))
    large.mkdir()
    for number in range(16):
        (large / f"file-{number}").write_bytes(make.randbytes(32 << 20))
    return {"50,000 small files": small, "16 large files": large}


def measured(command: list[str], out: Path) -> tuple[float, float]:
    """Seconds and MiB of one run."""
    out.unlink(missing_ok=True)
    environment = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
    started = time.perf_counter()
    process = subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    _, status, usage = os.wait4(process.pid, 0)
    took = time.perf_counter() - started
    if status:
        sys.exit(process.stderr.read().decode() if process.stderr else "failed")
    return took, usage.ru_maxrss / 1024


def main() -> None:
    if shutil.which("mkfs.ext4") is None:
        sys.exit("mkfs.ext4 is missing: apt-get install e2fsprogs")
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    with tempfile.TemporaryDirectory(dir=os.environ.get("BENCHMARK_FOLDER")) as folder:
        out = Path(folder, "out.img")
        print(f"ext4, median of {RUNS}, against mkfs.ext4 -d")
        for name, source in lay_out(Path(folder)).items():
            ours = [sys.executable, "-m", "yarrik", "pack", str(source), str(out), "--as", "ext4", "--size", "800 MiB"]
            theirs = ["mkfs.ext4", "-q", "-d", str(source), str(out), "800M"]
            pairs = [(measured(ours, out), measured(theirs, out)) for _ in range(RUNS)]
            mine, other = (statistics.median(pair[side][0] for pair in pairs) for side in (0, 1))
            memory = max(pair[0][1] for pair in pairs)
            print(f"  {name:<20} {mine:5.2f} s to {other:5.2f} s: {mine / other:.2f} x, {memory:.0f} MiB")


if __name__ == "__main__":
    main()
