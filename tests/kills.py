"""Kills the real program at random points of the demo's build, again and again; then one clean run has to come to the same.

Run as a program: `python -m tests.kills 300`. A round begins with an empty cache and ends when a build gets through; each one of
it is killed with SIGKILL, all of its processes at once, after a random number of its events and a moment more: so kills meet a
running build however quick the machine is."""

from __future__ import annotations

import contextlib
import hashlib
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from yarrik.demo import lay_out_demo

PRODUCT = "tide-office"


def build(root: Path, cache: Path, events: int | None = None, moment: float = 0.0) -> tuple[int, int]:
    """Builds; with `events`, everything is killed after this many events and `moment` seconds. Returns the exit code, negative when
    it was killed, and how many events there were."""
    environment = {**os.environ, "YARRIK_CACHE": str(cache), "NO_COLOR": "1"}
    words = [sys.executable, "-m", "yarrik", "build", PRODUCT, "--workspace", str(root), "--jobs", "2", "--json"]
    seen = 0
    with (root / "last.txt").open("wb") as log:
        process = subprocess.Popen(
            words, env=environment, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=log, start_new_session=True
        )
        assert process.stdout is not None
        with process.stdout as lines:
            for line in lines if events != 0 else ():
                log.write(line)
                seen += b'"step-' in line
                if seen == events:
                    break
            if events is not None:
                time.sleep(moment)
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(process.pid, signal.SIGKILL)
        return process.wait(), seen


def sums(root: Path) -> str:
    """The digests of all files in out/ but those that tell how long things took."""
    out = root / "out" / PRODUCT
    files = sorted(path for path in out.rglob("*") if path.is_file() and path.name not in ("build.json", "steps.log"))
    return "\n".join(f"{hashlib.sha256(path.read_bytes()).hexdigest()} {path.relative_to(out)}" for path in files)


def kill(times: int, seed: int) -> tuple[int, int]:
    """Kills `times` builds. Returns how many of the kills met a running build, and how many builds got through. Raises
    AssertionError when a build after kills fails, or comes to something else."""
    chance = random.Random(seed)
    with tempfile.TemporaryDirectory(prefix="yarrik-kills-") as folder:
        top = Path(folder).resolve()
        lay_out_demo(top / "clean")
        code, whole = build(top / "clean", top / "clean-cache")
        assert code == 0, (top / "clean/last.txt").read_text()
        wanted = sums(top / "clean")
        assert wanted
        met = through = done = 0
        while done < times:
            lay_out_demo(top / "w")
            left_over = whole
            for _ in range(chance.randint(1, 6)):
                code, seen = build(top / "w", top / "cache", chance.randrange(max(1, left_over)), chance.uniform(0, 0.1))
                assert code in (0, -signal.SIGKILL), (
                    f"a build after kills ended with {code}: {(top / 'w/last.txt').read_text()}"
                )
                met += code != 0
                done += 1
                left_over -= seen
            assert build(top / "w", top / "cache")[0] == 0, (top / "w/last.txt").read_text()
            assert sums(top / "w") == wanted, "other bytes came out after kills"
            left = list((top / "w/.yarrik/work").glob("*"))
            assert not left, f"work folders were left behind: {left}"
            environment = {**os.environ, "YARRIK_CACHE": str(top / "cache")}
            checked = subprocess.run(
                [sys.executable, "-m", "yarrik", "cache", "verify"], env=environment, capture_output=True, text=True
            )
            assert checked.returncode == 0, checked.stdout
            through += 1
            shutil.rmtree(top / "w")
            shutil.rmtree(top / "cache")
        return met, through


def main() -> None:
    times = int(sys.argv[1]) if len(sys.argv) > 1 else 300
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    met, through = kill(times, seed)
    print(f"{met} kills met a running build; {through} builds after them came to the same bytes")


if __name__ == "__main__":
    main()
