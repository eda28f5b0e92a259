"""Updates: how large a bundle is after one program changed, what making it costs beside reading both images, and what applying
it costs beside copying the slot with `dd`, all in one run.

`python benchmarks/updating.py [FOLDER]`  uses a folder on a real disk; without it, one of the system's for temporary files."""

from __future__ import annotations

import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from time import monotonic

from figures import keep

RUNS = 5
Work = Callable[[], object]
SLOT, DATA, PROGRAM = 512 << 20, 300 << 20, 400 << 10
AGENT = Path(__file__).parent.parent / "src/yarrik/demo/data/shelves/harbour/recipes/updater/src"
MAKE = """
import os, sys
from pathlib import Path
from yarrik.update import Description, make_bundle, mapped_bytes
old, new = (mapped_bytes(open(name, "rb"), 0, os.path.getsize(name)) for name in sys.argv[1:3])
from yarrik.manifest import sign, signature_blob
key, to = sys.argv[3:]
about = Description("gauge", "bench", "1.1", 0, 0, b"", "1.0")
with open(to, "wb") as file:
    made = make_bundle(old, new, about, lambda text: signature_blob(sign(text, Path(key), str)[0]), file)
"""


PROGRAMS = """
from yarrik.manifest import sign
from yarrik.update import make_bundle
from cryptography.hazmat.primitives.serialization import load_ssh_private_key
"""


def tree(folder: Path) -> Path:
    """Files like those of a system: some that compress, some that do not, of all sizes."""
    make = random.Random(1)
    words = [make.randbytes(make.randint(3, 12)) for _ in range(4000)]
    whole = number = 0
    while whole < DATA:
        size = int(min(4 << 20, 2 ** make.uniform(9, 22)))
        data = make.randbytes(size) if number % 3 == 0 else b"".join(make.choices(words, k=size // 8))
        file = folder / f"usr/{number % 40:02}/file-{number:05}"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(data)
        whole, number = whole + len(data), number + 1
    (folder / "usr/20/program").write_bytes(make.randbytes(PROGRAM))
    return folder


def slot(source: Path, image: Path) -> Path:
    from yarrik.disk import Wish, pack_folder
    from yarrik.identifiers import derived_guid
    from yarrik.rootfs import read_folder

    pack_folder(read_folder(source), image, Wish("ext4", derived_guid("slot"), SLOT))
    return image


def disk(folder: Path, old: Path) -> Path:
    """A disk with a state and two slots, of which the first one has the old system."""
    file, sectors = folder / "disk.img", SLOT // 512
    with file.open("wb") as out:
        out.truncate(2 * SLOT + (8 << 20))
    rows = f"start=2048, size=2048\nstart=4096, size={sectors}\nstart={4096 + sectors}, size={sectors}\n"
    subprocess.run(["sfdisk", "-q", file], input=f"label: gpt\n{rows}", text=True, check=True)
    subprocess.run(["dd", f"if={old}", f"of={file}", "bs=1M", "seek=2", "conv=notrunc,fsync", "status=none"], check=True)
    (folder / "slots.conf").write_text("product gauge\nboard bench\nversion 1.0\nstate 1\ntries 3\nslot a 2\nslot b 3\n")
    return file


def forgotten() -> None:
    """Takes what was read out of memory, where one may: then reading is from the disk for all."""
    os.sync()
    try:
        Path("/proc/sys/vm/drop_caches").write_text("1")
    except OSError:
        return


def measured(work: Work) -> float:
    forgotten()
    # The programs are in memory for all of them; what they read is not.
    subprocess.run([sys.executable, "-c", PROGRAMS], check=True)
    for program in ("cat", "dd"):
        subprocess.run([program, "--version"], stdout=subprocess.DEVNULL, check=True)
    started = monotonic()
    work()
    return monotonic() - started


def told(what: str, ours: Work, theirs: Work, aim: float, prepare: Work) -> None:
    """The two of them in turn, as disks are faster and slower from one moment to the next."""
    seconds = []
    for _ in range(RUNS):
        prepare()
        seconds.append((measured(ours), measured(theirs)))
    ratio = statistics.median(one / other for one, other in seconds)
    own, other = (statistics.median(both) for both in zip(*seconds, strict=True))
    more = "" if ratio <= aim else "  MORE THAN THAT"
    print(f"{what}: {ratio:.2f} x, {own:.2f} s to {other:.2f} s (at most {aim:g}){more}")
    keep(f"update: {what}", ratio, aim)


def main() -> None:
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # an installed program is compiled
    with tempfile.TemporaryDirectory(dir=sys.argv[1] if sys.argv[1:] else None) as name:
        folder = Path(name)
        source = tree(folder / "tree")
        old = slot(source, folder / "old.ext4")
        program = source / "usr/20/program"
        program.write_bytes(random.Random(2).randbytes(PROGRAM + 9000))  # and all that follows it moves
        new = slot(source, folder / "new.ext4")
        shutil.rmtree(source)
        key, bundle, board = folder / "key", folder / "bundle", disk(folder, old)
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key], check=True)
        shutil.copytree(AGENT, folder / "agent")
        subprocess.run(["make", "-s", "-C", folder / "agent", "CFLAGS=-Os"], check=True)

        told(
            "making it, to reading both images",
            lambda: subprocess.run([sys.executable, "-c", MAKE, old, new, key, bundle], check=True),
            lambda: subprocess.run(["cat", old, new], stdout=subprocess.DEVNULL, check=True),
            3,
            lambda: bundle.unlink(missing_ok=True),
        )
        size = bundle.stat().st_size
        beyond = (size - PROGRAM - 9000) / DATA
        program_size = (PROGRAM + 9000) >> 10
        print(f"bundle: {size >> 10} KiB; beyond the program's {program_size} KiB {beyond:.2%} of the data (under 2%)")
        copy = folder / "copy"
        copied = ["dd", f"if={new}", f"of={copy}", "bs=1M", "conv=fsync", "status=none"]
        options = f"--disk {board} --slots {folder / 'slots.conf'} --keys {key}.pub"
        # It gets no more memory than that.
        words = ["sh", "-c", f"ulimit -v 65536; exec {folder / 'agent/updater'} {options} apply {bundle}"]

        def emptied() -> None:
            """The other slot as it is on a new card: with holes, as the copy's file begins with none of its blocks."""
            copy.unlink(missing_ok=True)
            subprocess.run(["fallocate", "-p", "-o", str((2 << 20) + SLOT), "-l", str(SLOT), board], check=True)

        told(
            "applying it to an empty slot, to dd of the slot",
            lambda: subprocess.run(words, check=True, stderr=subprocess.DEVNULL),
            lambda: subprocess.run(copied, check=True),
            2,
            emptied,
        )
        print(f"it had 64 MiB of memory; the program: {(folder / 'agent/updater').stat().st_size >> 10} KiB (at most 200)")
        with board.open("rb") as file, new.open("rb") as wanted:
            file.seek((2 << 20) + SLOT)
            assert file.read(new.stat().st_size) == wanted.read(), "the slot is not the new one"


if __name__ == "__main__":
    main()
