"""Writing filesystems, as ratios to the operating system's own programs in the same run: time, and the most memory.

`python benchmarks/filesystems.py [WORD…]` runs those whose names hold one of the words."""

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
from collections.abc import Callable
from pathlib import Path

from figures import keep

RUNS = 5
#: What the figures should be at the most: time to theirs, MiB.
AIMS = {
    "ext4, 50,000 small files": (0.7, 200),
    "ext4, 16 large files": (0.5, 200),
    "squashfs, 50,000 small files": (1.0, 200),
    "squashfs, 16 large files": (1.0, 200),
    "FAT32, 2,000 files": (1.0, 200),
}


def small_files(top: Path, folders: int = 500) -> Path:
    """100 files of 50 B to 9 kB in each folder."""
    make = random.Random(1)
    for folder in range(folders):
        (top / f"folder-{folder:04}").mkdir(parents=True)
        for number in range(100):
            (top / f"folder-{folder:04}/file-{number:03}").write_bytes(make.randbytes(make.randrange(50, 9000)))
    return top


def large_files(top: Path) -> Path:
    make = random.Random(2)
    top.mkdir()
    for number in range(16):
        (top / f"file-{number}").write_bytes(make.randbytes(32 << 20))
    return top


def boot_files(top: Path) -> Path:
    make = random.Random(3)
    for number in range(2000):
        place = top / f"Folder {number % 20}/A longer name, number {number}.bin"
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(make.randbytes(make.randrange(100, 40_000)))
    return top


def run(command: list[str | Path]) -> float:
    """Runs a program to its end, and returns the most memory it took, in MiB."""
    environment = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
    process = subprocess.Popen(list(map(str, command)), env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    _, status, usage = os.wait4(process.pid, 0)
    if status:
        sys.exit(process.stderr.read().decode() if process.stderr else "failed")
    return usage.ru_maxrss / 1024


def measured(work: Callable[[], float], out: Path) -> tuple[float, float]:
    """Seconds and MiB of one run."""
    out.unlink(missing_ok=True)
    started = time.perf_counter()
    memory = work()
    return time.perf_counter() - started, memory


def compare(name: str, ours: Callable[[Path], float], theirs: Callable[[Path], float], out: Path) -> None:
    aim, most = AIMS[name]
    pairs = []
    sizes = []
    for _ in range(RUNS):
        mine = measured(lambda: ours(out), out)
        size = out.stat().st_size
        other = measured(lambda: theirs(out), out)
        pairs.append((mine[0], other[0], mine[1]))
        sizes.append(size / out.stat().st_size)
    mine_median, other_median = (statistics.median(pair[side] for pair in pairs) for side in (0, 1))
    memory = max(pair[2] for pair in pairs)
    ratio = mine_median / other_median
    words = f"{mine_median:5.2f} s to {other_median:5.2f} s: {ratio:.2f} x (aim {aim}), {memory:.0f} MiB (aim {most})"
    more = f", size {sizes[0] * 100 - 100:+.2f} %" if name.startswith("squashfs") else ""
    print(f"  {name:<30} {words}{more}", flush=True)
    keep(name, ratio, aim)


def packed(source: Path, *words: str) -> Callable[[Path], float]:
    return lambda out: run([sys.executable, "-m", "yarrik", "pack", source, out, *words])


def with_mtools(source: Path) -> Callable[[Path], float]:
    def work(out: Path) -> float:
        with out.open("wb") as file:
            file.truncate(200 << 20)
        return max(run(["mkfs.fat", "-F", "32", out]), run(["mcopy", "-s", "-i", out, *sorted(source.iterdir()), "::/"]))

    return work


def grows(folder: Path, out: Path) -> None:
    """Ten times the files in how many times the time: 5,000 and 50,000 small ones."""
    few, many = small_files(folder / "few", 50), folder / "small"
    for form in ("ext4", "squashfs"):
        times = {}
        for name, source in (("few", few), ("many", many)):
            took = [measured(lambda: packed(source, "--as", form)(out), out)[0] for _ in range(RUNS)]  # noqa: B023
            times[name] = statistics.median(took)
        ratio = times["many"] / times["few"]
        keep(f"{form}, 10 x the files", ratio, 11)
        print(
            f"  {form}, 10 x the files         {times['few']:5.2f} s to {times['many']:5.2f} s: {ratio:.1f} x (aim 11)",
            flush=True,
        )


def main() -> None:
    missing = [name for name in ("mkfs.ext4", "mksquashfs", "mkfs.fat", "mcopy") if shutil.which(name) is None]
    if missing:
        sys.exit(f"missing: {', '.join(missing)}; scripts/host-packages test installs them")
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    words = sys.argv[1:]
    with tempfile.TemporaryDirectory(dir=os.environ.get("BENCHMARK_FOLDER")) as place:
        folder, out = Path(place), Path(place, "out.img")
        sources = {"50,000 small files": small_files(folder / "small"), "16 large files": large_files(folder / "large"),
                   "2,000 files": boot_files(folder / "boot")}  # fmt: skip
        print(f"median of {RUNS}, ours to theirs in turn")
        for name in AIMS:
            if words and not any(word in name for word in words):
                continue
            form, _, which = name.partition(", ")
            source = sources[which]
            if form == "ext4":
                ours = packed(source, "--as", "ext4", "--size", "800 MiB")
                compare(name, ours, lambda out, source=source: run(["mkfs.ext4", "-q", "-d", source, out, "800M"]), out)
            elif form == "squashfs":
                line = ["mksquashfs", source, out, "-comp", "zstd", "-Xcompression-level", "9", "-no-progress", "-quiet"]
                compare(name, packed(source, "--as", "squashfs", "--level", "9"), lambda out, line=line: run(line), out)
            else:
                ours = packed(source, "--as", "fat", "--all-root", "--size", "600 MiB")
                compare(name, ours, with_mtools(source), out)
        if not words or "grows" in words:
            grows(folder, out)


if __name__ == "__main__":
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    main()
