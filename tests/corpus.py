"""Every device tree source of the kernel for the architectures that have them, with and without symbols, compiled by us and by the
operating system's compiler: the same bytes. `--every 10` takes a fixed tenth of them, `--arch arm` those of one architecture.
Ends with one line of counts."""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from yarrik.devicetree import compile_source, encode_blob
from yarrik.devicetree.preprocess import preprocessed
from yarrik.errors import YarrikError

ARCHIVE = Path("/usr/src/linux-source-6.1.tar.xz")
PLACE = Path(os.environ.get("YARRIK_CACHE", Path.home() / ".cache/yarrik")) / "corpus"
ARCHES = ("arm64", "arm", "riscv", "mips", "powerpc")
PARTS = (*(f"*/arch/{arch}/boot/dts/*" for arch in ARCHES), "*/include/dt-bindings/*", "*/scripts/dtc/include-prefixes/*",
         "*/include/uapi/linux/input-event-codes.h")  # fmt: skip


def unpacked() -> Path:
    """The parts of the kernel's source that are wanted, kept for the next run."""
    done = PLACE / f"{ARCHIVE.name}-{len(ARCHES)}" / "done"
    if not done.exists():
        done.parent.mkdir(parents=True, exist_ok=True)
        subprocess.run(["tar", "-xJf", ARCHIVE, "-C", done.parent, "--wildcards", *PARTS], check=True)
        done.touch()
    return next(path for path in done.parent.iterdir() if path.is_dir())


def compared(source: Path, kernel: Path) -> list[str]:
    """What is wrong with a source's blobs; an empty list when nothing is."""
    folders = [source.parent, kernel / "include", kernel / "scripts/dtc/include-prefixes"]
    wrong = []
    with tempfile.TemporaryDirectory() as folder:
        text, blob = Path(folder, "text.dts"), Path(folder, "blob")
        try:
            text.write_text(preprocessed(source, folders))
        except YarrikError as error:
            return [f"{source.name}: {error.troubles[0].what}"]
        for symbols in (False, True):
            words = ["dtc", "-q", "-i", source.parent, "-I", "dts", "-O", "dtb", "-o", blob, *(["-@"] if symbols else []), text]
            theirs = subprocess.run(words, capture_output=True, check=False)
            try:
                ours = encode_blob(compile_source(source, text.read_text(), folders, symbols))
            except YarrikError as error:
                if theirs.returncode:
                    continue  # neither takes it
                wrong.append(f"{source.name}: {error.troubles[0].what}")
                continue
            if theirs.returncode:
                wrong.append(f"{source.name}: the other compiler refuses it: {theirs.stderr.decode()[:200]}")
            elif ours != blob.read_bytes():
                wrong.append(f"{source.name}{' with symbols' if symbols else ''}: the bytes differ")
    return wrong


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--every", type=int, default=1)
    parser.add_argument("--arch", choices=ARCHES, action="append")
    wanted = parser.parse_args()
    kernel = unpacked()
    sources = [
        source
        for arch in wanted.arch or ARCHES
        for source in sorted((kernel / f"arch/{arch}/boot/dts").rglob("*.dts"))[:: wanted.every]
    ]
    with ProcessPoolExecutor() as pool:
        wrong = [line for lines in pool.map(compared, sources, [kernel] * len(sources), chunksize=4) for line in lines]
    for line in wrong:
        print(line)
    print(f"{len(sources)} sources, with and without symbols: {2 * len(sources) - len(wrong)} the same, {len(wrong)} not")
    sys.exit(1 if wrong or not sources else 0)


if __name__ == "__main__":
    main()
