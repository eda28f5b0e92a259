"""One image to several devices at once: opened and asked about together, each written by a thread of its own."""

from __future__ import annotations

import os
import stat
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from yarrik.disk import open_image
from yarrik.errors import Collector, Place, Trouble, Unfit, YarrikError
from yarrik.flash.bench import BenchTarget, bench_storage, read_bench
from yarrik.flash.devices import Devices
from yarrik.flash.fastboot import FastbootTarget
from yarrik.flash.mtd import MtdTarget, is_flash_chip
from yarrik.flash.network import NetworkTarget, is_network
from yarrik.flash.records import Attempts, Report
from yarrik.flash.refusing import obstacles, trouble_of
from yarrik.flash.source import Source, block_of
from yarrik.flash.target import BlockTarget, Target
from yarrik.flash.writing import Job, Progress, Stopped, flash
from yarrik.units import parse_size, shown_size


def open_target(word: str, devices: Devices, source: Source, built_in: bool) -> Target:
    """Claims a device for this image: a block device, a bench device that a `.toml` describes, or storage of another machine
    (`nbd://HOST:PORT/EXPORT`). Raises YarrikError with all
    that forbids it; nothing has been written then."""
    found: Target
    path = Path(word)
    if is_network(word):
        if word.startswith("dfu:"):
            from yarrik.flash.dfu import DfuTarget

            found = DfuTarget(word, source)
        else:
            found = FastbootTarget(word, source) if word.startswith("fastboot:") else NetworkTarget(word)
    elif path.suffix == ".toml":
        _check_apart(path, bench_storage(path), source)
        found = dfu_bench(path, source) if read_bench(path).protocol == "dfu" else BenchTarget(path)
    elif is_flash_chip(path):
        found = MtdTarget(path)
    else:
        _refuse(path, devices, source, built_in)
        found = BlockTarget(path, devices)
    hits = obstacles(found.device, source.end, block_of(source.image), built_in)
    if hits:
        found.close()
        raise YarrikError([trouble_of(found.device, one) for one in hits])
    try:
        _check_place(found, source)
    except BaseException:
        found.close()
        raise
    return found


def dfu_bench(file: Path, source: Source) -> Target:
    """A bench device that takes its bytes by the class DFU. Raises YarrikError."""
    from yarrik.flash.dfu import DfuTarget
    from yarrik.flash.dfu_bench import PRODUCT, VENDOR, SimulatedDfu

    bench = read_bench(file)
    fails = next((parse_size(one.begin) for one in bench.fault if one.kind == "write"), None)
    flips = next((parse_size(one.begin) for one in bench.fault if one.kind == "flipped"), None)
    bus = SimulatedDfu(bench_storage(file), parse_size(bench.size), bench.serial, fails_at=fails, flips=flips)
    return DfuTarget(f"dfu://{VENDOR:04x}:{PRODUCT:04x}/card", source, bus)


def _check_place(target: Target, source: Source) -> None:
    """Raises YarrikError when the device has no such partition as the one that is to be written, at this very place."""
    wanted = source.only
    if wanted is None or not target.reads or target.in_order:
        return  # a board that cannot be read has a partition of this name itself
    with target.look() as file:
        there = open_image(file, target.device.size)
    if any((one.number, one.start, one.size) == (wanted.number, wanted.start, wanted.size) for one in there.partitions):
        return
    known = next((one for one in there.partitions if one.number == wanted.number), None)
    has = f"it has {shown_size(known.size)} from {known.start:#x} there" if known is not None else "it has none there"
    raise YarrikError(
        Trouble("FLASH-PLACE", f"{target.device} has no {wanted.title} of {shown_size(wanted.size)} at {wanted.start:#x}",
                target.device.place, why=f"{has}: what else is on the device would be written over",
                remedy="write the whole image once: leave out --partition")
    )  # fmt: skip


def _refuse(path: Path, devices: Devices, source: Source, built_in: bool) -> None:
    """Tells what is wrong before a device is opened: one that is in use cannot be."""
    try:
        status = path.stat()
        device = devices.at((os.major(status.st_rdev), os.minor(status.st_rdev))) if stat.S_ISBLK(status.st_mode) else None
    except (OSError, Unfit):
        return  # opening it says what it is
    if device is None:
        return
    hits = obstacles(device, source.end, block_of(source.image), built_in)
    if hits:
        raise YarrikError([trouble_of(device, one) for one in hits])
    if file := devices.backing_file(device.name):
        _check_apart(path, Path(file), source)


def _check_apart(path: Path, storage: Path, source: Source) -> None:
    """Raises YarrikError for a device whose bytes are those of the image."""
    try:
        same = storage.samefile(source.path)
    except OSError:
        return
    if same:
        raise YarrikError(
            Trouble("FLASH-BUSY", f"{path} has its bytes in {storage}, which is the image itself", Place(path),
                    why="writing would destroy what is being read", remedy="copy the image, or name another device")
        )  # fmt: skip


def open_all(words: Sequence[str], devices: Devices, source: Source, built_in: bool) -> list[Target]:
    """As `open_target`, all or none: no device is written while another one of the same command is the wrong one."""
    found: list[Target] = []
    collector = Collector()
    seen: list[str] = []
    for word in words:
        path = Path(word)
        # A server takes several connections to one export.
        twice = next((one for one in seen if one == word or Path(one).resolve() == path.resolve()), None)
        try:
            if twice is not None and is_network(word):
                raise YarrikError(())
            target = open_target(word, devices, source, built_in)
        except YarrikError as error:
            collector.extend(error.troubles if twice is None else [
                Trouble("FLASH-BUSY", f"{word} is named twice: {twice} is the same device", Place(path), remedy="name it once")
            ])  # fmt: skip
            continue
        seen.append(word)
        found.append(target)
    if collector.troubles:
        for target in found:
            target.close()
        raise YarrikError(collector.troubles)
    return found


def flash_all(
    sources: Source | Sequence[Source], targets: Sequence[Target], attempts: Attempts, anew: bool,
    say: Callable[[int, Progress], None], stop: threading.Event,
) -> list[Report]:  # fmt: skip
    """Writes to all of them, one image or one for each; a device that fails does not hold up the others. `say` gets the number
    of a device and how far it is."""

    def one(number: int) -> Report:
        target = targets[number]
        source = sources if isinstance(sources, Source) else sources[number]
        # Where nothing can be read back, nobody knows what an earlier attempt has left.
        begin = 0 if anew or not target.reads or target.in_order else attempts.reached(target.device, source)
        share = begin / max(1, len(source.parts))
        job = Job(
            source, target, begin, lambda progress: say(number, progress),
            lambda parts: attempts.reach(target.device, source, parts), stop,
        )  # fmt: skip
        try:
            if reason := target.moved():
                raise YarrikError(
                    Trouble("FLASH-ANOTHER", f"{target.device} is not the device that was asked about: {reason}",
                            target.device.place, why="nothing was written to it", remedy="look again: yarrik devices"),
                    "work",
                )  # fmt: skip
            written = flash(job)
        except YarrikError as error:
            if any(trouble.code == "FLASH-DIFFERS" for trouble in error.troubles):
                attempts.end(target.device)
            return Report(target.device, source, None, error.troubles, share)
        except Stopped:
            return Report(target.device, source, None, (), share, stopped=True)
        attempts.end(target.device)
        return Report(target.device, source, written, (), share)

    with ThreadPoolExecutor(len(targets)) as pool:
        return list(pool.map(one, range(len(targets))))
