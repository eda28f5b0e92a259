"""Damaged images by the thousand for every reader: no traceback, nothing that takes long, nothing that takes much memory.

`python -m tests.mutations COUNT [FORM…]` runs COUNT of each and ends with one line a form. The bytes are changed in place and
put back, at places that hold something; checksums that would end it at once are mended in every other image."""

from __future__ import annotations

import io
import os
import random
import resource
import signal
import subprocess
import sys
import tempfile
import time
import traceback
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import NoReturn

from tests.trees import attributes, forty_levels, many_links, odd_names, plain, sizes_around_borders
from yarrik.disk.compressing import compression_of, expanded
from yarrik.disk.filesystems import Wish, plan_filesystem
from yarrik.disk.flashing_form import expand_sparse, is_sparse
from yarrik.disk.opening import open_image
from yarrik.disk.packing import pack_folder
from yarrik.disk.sidecars import write_beside
from yarrik.disk.writing import write_disk
from yarrik.identifiers import derived_guid
from yarrik.model import Disk, Partition
from yarrik.rootfs import Node, RootTree, read_folder

SECONDS = 5
MEBIBYTES = 500
#: A file may be as long as it says it is, and mostly holes; more than this teaches nothing.
_ENOUGH = 64 << 20


def _tree(top: Path) -> Path:
    source = top / "source"
    for build in (plain, sizes_around_borders, odd_names, many_links, attributes, forty_levels):
        (source / build.__name__).mkdir(parents=True)
        build(source / build.__name__)
    for file in source.rglob("*-*"):
        if file.is_file() and file.stat().st_size > 300_000:
            file.unlink()
    return source


def _packed(form: str, **more: object) -> Callable[[Path], Path]:
    def make(top: Path) -> Path:
        image = top / "image"
        pack_folder(read_folder(_tree(top)), image, Wish(form, derived_guid("mutated"), **more))  # type: ignore[arg-type]
        return image

    return make


def _theirs(*words: str) -> Callable[[Path], Path]:
    """Made by somebody else's program: `{}` stands for the folder, `IMAGE` for the file."""

    def make(top: Path) -> Path:
        source, image = _tree(top), top / "image"
        for name in ("file-5", "file-6"):  # their attributes are larger than small blocks can hold
            (source / "attributes" / name).unlink()
        line = [word.replace("SOURCE", str(source)).replace("IMAGE", str(image)) for word in words]
        subprocess.run(line, check=True, capture_output=True)
        return image

    return make


def _fat(top: Path) -> Path:
    source = top / "source"
    (source / "Sub folder/DEEP").mkdir(parents=True)
    for number in range(60):
        (source / f"Sub folder/A longer name {number}").write_bytes(b"x" * number * 100)
    image = top / "image"
    pack_folder(read_folder(source, all_root=True), image, Wish("fat", derived_guid("mutated"), label="CARD"))
    return image


def _disk(table: str) -> Callable[[Path], Path]:
    def make(top: Path) -> Path:
        content = top / "content"
        content.write_text("text")
        parts = (
            Partition(name="boot", filesystem="fat", holds="boot", in_mbr=True),
            Partition(name="root", filesystem="squashfs", holds="root"),
            Partition(name="swap", filesystem="swap", size="64 KiB"),
        )
        tree = RootTree.of([Node("/boot/Image", "file", 0o644, size=4, content="x"), Node("/etc", "folder", 0o755)])
        write_disk(top / "image", "p", Disk(name="card", table=table, partition=parts), tree, 0, lambda _: content, {}, True)  # type: ignore[arg-type]
        return top / "image"

    return make


def _beside(kind: str) -> Callable[[Path], Path]:
    def make(top: Path) -> Path:
        source = top / "few"
        source.mkdir()
        (source / "file").write_bytes(random.Random(1).randbytes(50_000))
        wish = Wish("ext2", derived_guid("mutated"))
        image, out = top / "whole", top / "image"
        written = pack_folder(read_folder(source), image, wish)
        write_beside(image, "image", written, kind, out)
        return out

    return make


def _swap(top: Path) -> Path:
    from yarrik.disk.filesystems import truncated

    planned = plan_filesystem(RootTree.of([]), Wish("swap", derived_guid("mutated"), 1 << 20), str, top / "x")
    with (top / "image").open("xb") as sink:
        planned.write(truncated(sink, planned.size), 0)
    return top / "image"


FORMS: dict[str, Callable[[Path], Path]] = {
    "ext4": _packed("ext4"),
    "ext2": _packed("ext2"),
    "ext4 of mkfs": _theirs("mkfs.ext4", "-q", "-O", "inline_data", "-d", "SOURCE", "IMAGE", "24M"),
    "ext3 of mkfs": _theirs("mkfs.ext4", "-q", "-t", "ext3", "-b", "1024", "-d", "SOURCE", "IMAGE", "24M"),
    "fat": _fat,
    "squashfs": _packed("squashfs", compression="zstd"),
    "squashfs xz": _packed("squashfs", compression="xz"),
    "squashfs lz4": _packed("squashfs", compression="lz4"),
    "squashfs of mksquashfs": _theirs("mksquashfs", "SOURCE", "IMAGE", "-comp", "gzip", "-noappend"),
    "cpio": _packed("cpio"),
    "tar": _packed("tar"),
    "tar of tar": _theirs("tar", "--format=gnu", "-C", "SOURCE", "-cf", "IMAGE", "."),
    "gpt": _disk("gpt"),
    "mbr": _disk("mbr"),
    "hybrid": _disk("hybrid"),
    "swap": _swap,
    "zstd": _beside("zstd"),
    "gzip": _beside("gzip"),
    "xz": _beside("xz"),
    "sparse": _beside("sparse"),
}


def read_all(data: bytearray) -> int:
    """Reads everything that an image shows, as `inspect` would; the number of paths. Raises ValueError for damage."""
    file: io.BufferedIOBase | io.BytesIO = io.BytesIO(data)
    form = compression_of(data[:16])
    if form is not None:
        file = expanded(file, form)  # type: ignore[arg-type, assignment]
    elif is_sparse(data[:16]):
        file = expand_sparse(file, len(data))  # type: ignore[arg-type, assignment]
    with file:
        opened = open_image(file, file.seek(0, 2))  # type: ignore[arg-type]
        count = 0
        for part in opened.partitions:
            if part.reader is None:
                continue
            for one in part.reader.walk():
                if ".." in one.path.split("/") or not one.path.startswith("/"):
                    raise AssertionError(f"the path {one.path!r} leads out of the image")
                count += 1
                part.reader.attributes(one)
                if one.kind == "file":
                    got = 0
                    for piece in part.reader.content(one):
                        got += len(piece)
                        if got > _ENOUGH:
                            break
        return count


def _mended(form: str, data: bytearray, at: int) -> list[tuple[int, bytes]]:
    """Checksums that belong to a changed place, mended; what stood there before."""
    before: list[tuple[int, bytes]] = []
    if form.startswith("tar"):
        head = at // 512 * 512
        before = [(head + 148, bytes(data[head + 148 : head + 156]))]
        total = sum(data[head : head + 148]) + 8 * 32 + sum(data[head + 156 : head + 512])
        data[head + 148 : head + 156] = b"%06o\0 " % total
    elif form in ("gpt", "hybrid") and at < 34 * 512:
        before = [(512, bytes(data[512:604]))]
        data[600:604] = zlib.crc32(data[1024 : 34 * 512]).to_bytes(4, "little")
        data[528:532] = bytes(4)
        data[528:532] = zlib.crc32(data[512:604]).to_bytes(4, "little")
    return before


def _too_long(*_: object) -> NoReturn:
    raise TimeoutError(f"it took longer than {SECONDS} s")


def run(form: str, count: int) -> str:
    """Reads `count` damaged images of a form; a sentence on how it went. Raises AssertionError for the first that is amiss."""
    make = random.Random(form)
    with tempfile.TemporaryDirectory(prefix="yarrik-mutations-") as folder:
        data = bytearray(FORMS[form](Path(folder)).read_bytes())
    sound = read_all(data)
    full = [at for at in range(0, len(data), 8) if any(data[at : at + 8])]
    # What says where everything is comes at the beginning of most forms, and at the end of some.
    edges = [at for at in full if at < 65536 or at > len(data) - 16384]
    refused, slowest = 0, 0.0
    signal.signal(signal.SIGALRM, _too_long)
    for number in range(count):
        undo: list[tuple[int, bytes]] = []
        for _ in range(make.choice((1, 1, 2, 5, 30))):
            at = make.choice(make.choice((full, edges or full))) + make.randrange(8)
            if at >= len(data):
                continue
            undo.append((at, bytes(data[at : at + 1])))
            data[at] = make.choice((0, 0xFF, 0x7F, 0x80, make.randrange(256), data[at] ^ 1 << make.randrange(8)))
            if number % 2:
                undo += _mended(form, data, at)
        image = data if make.random() < 0.9 else data[: make.randrange(len(data))]
        started = time.perf_counter()
        signal.alarm(SECONDS)
        try:
            read_all(image)
        except ValueError:
            refused += 1
        except Exception as error:
            changes = [(at, data[at]) for at, _ in undo]
            raise AssertionError(f"{form}, image {number}, changes {changes}: {type(error).__name__}: {error}") from error
        finally:
            signal.alarm(0)
        slowest = max(slowest, time.perf_counter() - started)
        for at, before in reversed(undo):
            data[at : at + len(before)] = before
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    if read_all(data) != sound:
        raise AssertionError("the image was not put back as it was")
    if peak > MEBIBYTES:
        raise AssertionError(f"{form}: {peak:.0f} MiB at the most")
    return f"{form}: {count} images, {refused} refused, the others read; {slowest:.2f} s and {peak:.0f} MiB at the most"


def _start(work: Callable[[str, int], str], form: str, count: int) -> int:
    """Runs a form in a process of its own, so that its memory is its own too; the process's number."""
    child = os.fork()
    if child == 0:
        code = 1
        try:
            # In one piece: another process may be writing its line.
            sys.stdout.write(f"{work(form, count)}\n")
            sys.stdout.flush()
            code = 0
        except AssertionError as error:
            print(error, file=sys.stderr, flush=True)
        except Exception:
            traceback.print_exc()
        os._exit(code)
    return child


def run_all(work: Callable[[str, int], str], waiting: list[str], count: int) -> int:
    """Runs `count` of each form, as many at a time as there are processors; the number of forms that failed, as exit code."""
    running = failed = 0
    while waiting or running:
        while waiting and running < (os.cpu_count() or 1):
            _start(work, waiting.pop(0), count)
            running += 1
        failed += os.wait()[1] != 0
        running -= 1
    return min(failed, 1)


def main() -> None:
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    sys.exit(run_all(run, list(sys.argv[2:] or FORMS), int(sys.argv[1])))


if __name__ == "__main__":
    main()
