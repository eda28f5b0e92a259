"""Unpacking an archive of sources into the cache, with a digest of each file, as a ratio to what tar takes to lay it out.

By the time on the clock: it is several threads' work. `--archive FILE` takes one that is there, like a kernel's; else one of
20,000 made-up files of 12 kB, compressed in two ways that sources come in."""

from __future__ import annotations

import argparse
import io
import random
import shutil
import subprocess
import sys
import tarfile
import tempfile
import time
from pathlib import Path

from figures import keep

#: The most times that it may take of tar.
AIM = 3.0
FILES, SIZE, RUNS = 20_000, 12_000, 3
WORDS = [b"gauge", b"tide", b"mooring", b"harbour", b"level", b"return", b"static", b"int ", b"{\n\t", b"}\n", b"(", b");\n"]
CODE = (
    "import sys\nfrom pathlib import Path\nfrom yarrik.cache import Store\nfrom yarrik.sources import unpack_archive\n"
    "file = Path(sys.argv[1])\nunpack_archive(file, file.name, Store(Path(sys.argv[2])))\n"
)


def made(folder: Path) -> list[Path]:
    """Archives of the same made-up sources."""
    chance = random.Random(1)
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w") as tar:
        for number in range(FILES):
            data = b" ".join(chance.choices(WORDS, k=SIZE // 6)) + b"%d\n" % number
            info = tarfile.TarInfo(f"tide-1.0/{number % 300:03}/{number}.c")
            info.size = len(data)
            tar.addfile(info, io.BytesIO(data))
    found = []
    for suffix, words in ((".tar.gz", ["gzip", "-6"]), (".tar.xz", ["xz", "-2"])):
        path = folder / f"tide-1.0{suffix}"
        with path.open("wb") as file:
            subprocess.run([*words, "-c"], input=raw.getvalue(), stdout=file, check=True)
        found.append(path)
    return found


def seconds(command: list[str]) -> float:
    began = time.monotonic()
    subprocess.run(command, check=True)
    return time.monotonic() - began


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--archive", type=Path)
    asked = parser.parse_args()
    missed = False
    with tempfile.TemporaryDirectory() as folder:
        top = Path(folder)
        archives = made(top) if asked.archive is None else [asked.archive]
        for archive in archives:
            ratios = []
            for run in range(RUNS):
                # New folders each time: a filesystem is slow where much was just removed.
                ours, theirs = top / f"cache-{archive.name}-{run}", top / f"tree-{archive.name}-{run}"
                theirs.mkdir()
                mine = seconds([sys.executable, "-c", CODE, str(archive), str(ours)])
                ratios.append(mine / seconds(["tar", "-xf", str(archive), "-C", str(theirs)]))
            ratio = sorted(ratios)[RUNS // 2]
            name = f"unpacking {archive.name}, to tar"
            print(f"{name}: {ratio:.2f} x of {', '.join(f'{one:.2f}' for one in ratios)} (at most {AIM:g})")
            keep(name, ratio, AIM)
            missed |= ratio > AIM
        for path in top.iterdir():
            shutil.rmtree(path) if path.is_dir() else path.unlink()
    if missed:
        sys.exit(f"unpacking may take {AIM:g} times as long as tar")


if __name__ == "__main__":
    main()
