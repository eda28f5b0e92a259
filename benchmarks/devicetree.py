"""Device trees: `yarrik devicetree compile` against the operating system's compiler, on the largest arm64 source of the kernel.

Whole processes, in turns, medians; both get what the preprocessor made of the source. Ends with 1 when the aim is missed."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from figures import keep
from tests.corpus import unpacked

from yarrik.devicetree.preprocess import preprocessed

AIM = 10.0
TURNS = 9


def seconds(*words: str | Path) -> float:
    started = time.perf_counter()
    subprocess.run(words, check=True, capture_output=True)
    return time.perf_counter() - started


def main() -> None:
    kernel = unpacked()
    folders = [kernel / "include", kernel / "scripts/dtc/include-prefixes"]
    sources = sorted((kernel / "arch/arm64/boot/dts").rglob("*.dts"), key=lambda path: path.stat().st_size)[-40:]
    texts = {source: preprocessed(source, [source.parent, *folders]) for source in sources}
    largest = max(texts, key=lambda source: len(texts[source]))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        text, ours, theirs = folder / "text.dts", folder / "ours.dtb", folder / "theirs.dtb"
        # What the preprocessor left of `#` lines both compilers read as places in the source.
        text.write_text(texts[largest])
        mine, other, start = [], [], []
        for _ in range(TURNS):
            mine.append(seconds(sys.executable, "-m", "yarrik", "devicetree", "compile", text, "--out", ours))
            other.append(seconds("dtc", "-q", "-O", "dtb", "-o", theirs, text))
            start.append(seconds(sys.executable, "-m", "yarrik", "--version"))
        same = ours.read_bytes() == theirs.read_bytes()
    ratio = statistics.median(mine) / statistics.median(other)
    print(f"{largest.name}, {len(texts[largest]) >> 10} KiB: {'the same bytes' if same else 'OTHER BYTES'}")
    print(f"ours {statistics.median(mine):.3f} s (of which starting {statistics.median(start):.3f} s), "
          f"theirs {statistics.median(other):.3f} s: {ratio:.1f} x, aim {AIM:.0f} x")  # fmt: skip
    keep("device tree compiler", ratio, AIM)
    sys.exit(0 if same and ratio <= AIM else 1)


if __name__ == "__main__":
    main()
