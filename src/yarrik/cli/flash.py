"""`yarrik devices` and `yarrik flash`: an image onto a card."""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, names_of
from yarrik.units import counted, shown_seconds, shown_size

if TYPE_CHECKING:
    from yarrik.flash import Device, Progress, Report, Source, Target
    from yarrik.manifest import ImageKey


@app.command(epilog="Examples: [bold]yarrik devices[/bold] · [bold]yarrik devices bench/card.toml[/bold]")
def devices(
    bench: Annotated[
        list[Path] | None, typer.Argument(metavar="[FILE]…", help="Bench devices, each described by a file.")
    ] = None,
    json: JsonOption = False,
) -> None:
    """Lists the storage that an image could be written to, what is on it, and what cannot be written to, with the reason.

    Nothing is written, and nothing but the kernel's and udev's own records is asked."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.flash import Devices, bench_device, obstacles

    found = [*Devices().all(), *(bench_device(file) for file in bench or ())]
    rows = [(one, obstacles(one)) for one in found]
    rows.sort(key=lambda row: bool(row[1]))
    if json:
        print_json({"ok": True, "devices": [_as_json(one) | {"obstacles": [hit.kind for hit in hits]} for one, hits in rows]})
        return
    table = []
    for one, hits in rows:
        about = styled(hits[0].short, "yellow") if hits else styled(_content_of(one), "green")
        name, kind = styled(str(one.path), "dim" if hits else "bold"), "removable" if one.removable else ""
        table.append((name, shown_size(one.size), one.bus or "—", one.title, one.serial or "no serial number", kind, about))
    show_table(table, right=(1,))
    free = [one for one, hits in rows if not hits]
    if not free:
        sys.stdout.write("no device can be written to: plug in a card, then look again\n")
    else:
        sys.stdout.write(f"next: yarrik flash PRODUCT {free[0].path}\n")


def _content_of(device: Device) -> str:
    """What is on a device now, in a few words."""
    from yarrik.disk import opened_image
    from yarrik.flash import bench_storage

    path = bench_storage(device.path) if device.path.suffix == ".toml" else device.path
    try:
        with opened_image(path) as image:
            return _shown_content(image)
    except FileNotFoundError:
        return "empty"
    except (OSError, ValueError) as error:
        return f"cannot be looked at: {error.strerror if isinstance(error, OSError) else error}"


def _shown_content(image: object) -> str:
    from yarrik.disk import OpenedImage

    assert isinstance(image, OpenedImage)
    names = []
    for part in image.partitions:
        label = f" `{part.reader.label}`" if part.reader is not None and part.reader.label else ""
        form = part.reader.form if part.reader is not None else ""
        names.append(" ".join(word for word in (part.name, form) if word) + label)
    if image.table == "none":
        return names[0] if image.partitions and image.partitions[0].reader is not None else "nothing that is known"
    more = f" and {len(names) - 4} more" if len(names) > 4 else ""
    return f"{counted(len(names), 'partition')}: {', '.join(names[:4])}{more}" if names else "an empty partition table"


def _as_json(one: Device) -> dict[str, object]:
    return {
        "path": str(one.path), "name": one.name, "word": one.word, "bytes": one.size, "block": one.block,
        "vendor": one.vendor, "model": one.model, "serial": one.serial, "bus": one.bus,
        "removable": one.removable, "read-only": one.read_only,
        "uses": [{"kind": use.kind, "node": use.node, "by": use.by} for use in one.uses],
    }  # fmt: skip


def _free_devices(incomplete: str) -> list[str]:
    """Completes devices that can be written to."""
    from yarrik.flash import Devices, obstacles

    return [str(one.path) for one in Devices().all() if str(one.path).startswith(incomplete) and not obstacles(one)]


@app.command(
    epilog="Examples: [bold]yarrik flash tide-gauge /dev/sdb[/bold] · [bold]yarrik flash card.img.zst /dev/sdb /dev/sdc "
    "--log cards[/bold] · [bold]yarrik flash tide-gauge /dev/sdb --write-to-device sdb-0123ABC[/bold]"
)
def flash(
    image: Annotated[
        str,
        typer.Argument(
            metavar="IMAGE|PRODUCT",
            help="An image file, packed or not, or a product that is built.",
            autocompletion=names_of("product"),
        ),
    ],
    devices: Annotated[
        list[str],
        typer.Argument(
            metavar="DEVICE…",
            help="Devices to write to, files of bench devices, nbd://, nbds://, fastboot:// or dfu:// addresses.",
            autocompletion=_free_devices,
        ),
    ],
    write_to_device: Annotated[
        list[str] | None,
        typer.Option(
            metavar="NAME_AND_SERIAL", help="For scripts, instead of the question: which device is meant, for each one."
        ),
    ] = None,
    disk: Annotated[str | None, typer.Option(metavar="NAME", help="Which disk of the product, if it has several.")] = None,
    partition: Annotated[
        str | None, typer.Option(metavar="NAME", help="Writes this partition alone, by name or number; all else stays.")
    ] = None,
    values: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="A table (CSV) with values of the card's settings for each device."),
    ] = None,
    signed_by: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Public keys of which one has to have signed the image.")
    ] = None,
    unsigned: Annotated[
        bool, typer.Option("--unsigned", help="Writes it although none of the keys of your settings signed it.")
    ] = False,
    log: Annotated[Path | None, typer.Option(metavar="FOLDER", help="Keeps a record for each serial number here.")] = None,
    built_in: Annotated[bool, typer.Option("--built-in", help="Allows disks that cannot be unplugged.")] = False,
    from_start: Annotated[bool, typer.Option("--from-start", help="Does not go on where an earlier attempt ended.")] = False,
    workspace: Annotated[Path | None, typer.Option(metavar="FOLDER", help="The workspace of the product.")] = None,
    json: JsonOption = False,
) -> None:
    """Writes an image to cards and disks, reads it back, and compares.

    The image is held against its manifest first. Refused are the running
    system's disk, and what is mounted or in use. Only what has to reach the
    card is written. After an interruption, the same command goes on."""
    import platformdirs

    from yarrik.cli.view import print_json
    from yarrik.errors import Trouble, YarrikError
    from yarrik.flash import (
        Attempts,
        Devices,
        all_done,
        flash_all,
        open_all,
        opened_source,
        read_values,
        rows_for,
        with_values,
        write_log,
    )

    if values is not None and partition is not None:
        raise YarrikError(Trouble("USAGE", "--values and --partition do not go together", why="the settings are on another one",
                                  remedy="write the whole image, or leave out --values"))  # fmt: skip
    file = image_file(image, disk, workspace)
    keys = [] if unsigned and signed_by is None else trusted_keys(signed_by, workspace)
    attempts = Attempts(platformdirs.user_state_path("yarrik") / "flashing")
    shown = not json and sys.stderr.isatty()
    with progress_line(shown, f"checking {file.name}") as checking, opened_source(file, checking, keys) as image_source:
        source = image_source if partition is None else image_source.part_of(partition)
        targets = open_all(devices, Devices(), source, built_in)
        try:
            sources = [source] * len(targets)
            if values is not None:
                rows = rows_for(values, read_values(values), [one.device for one in targets])
                sources = [with_values(source, values, row) for row in rows]
            _confirm(sources, targets, list(write_to_device or ()), json)
            stop = threading.Event()
            with _bars(shown, json, targets) as say:
                reports = _stoppable(stop, lambda: flash_all(sources, targets, attempts, from_start, say, stop))
        finally:
            for target in targets:
                target.close()
        logs = [write_log(log, one) for one in reports] if log is not None else []
        if json:
            print_json({"ok": all_done(reports), "devices": [one.as_json() for one in reports]})
        else:
            _show_reports(reports, logs)
    if not all_done(reports):
        raise typer.Exit(1)


def trusted_keys(file: Path | None, workspace: Path | None) -> list[ImageKey]:
    """The keys that count: those of a file, or of the settings. Raises YarrikError."""
    from yarrik.errors import Place, Trouble, Unfit, YarrikError
    from yarrik.manifest import parse_image_key, read_image_keys
    from yarrik.model import find_workspace, load_settings, settings_at, settings_file

    if file is not None:
        return read_image_keys(file)
    try:
        settings = settings_at(find_workspace(workspace or Path.cwd()))
    except YarrikError as error:
        if not any(trouble.code == "WORKSPACE-MISSING" for trouble in error.troubles):
            raise
        settings = load_settings(None)[0]
    try:
        return [parse_image_key(line) for line in settings.image_keys]
    except Unfit as error:
        place = Place(settings_file(), key="image-keys")
        raise YarrikError(Trouble("SIGN-KEY", f"a key of the settings is none: {error}", place,
                                  remedy="write the line of a file `.pub`")) from error  # fmt: skip


def image_file(image: str, disk: str | None, workspace: Path | None) -> Path:
    """The file that is meant: one of this name, or the image of a product. Raises YarrikError."""
    from yarrik.disk import image_name
    from yarrik.errors import Place, Trouble, YarrikError, suggestion
    from yarrik.model import find_workspace

    file = Path(image)
    if file.is_file() or "/" in image:
        return file
    root = find_workspace(workspace or Path.cwd())
    out = root / "out" / image
    if not out.is_dir():
        known = sorted(one.name for one in (root / "out").glob("*") if one.is_dir())
        raise YarrikError(
            Trouble("FLASH-IMAGE", f"there is no file {image}, and no product of this name is built", Place(out),
                    remedy=suggestion(image, known) if known else f"build it: yarrik build {image}")
        )  # fmt: skip
    disks = sorted(one.name for one in out.glob("*.img"))
    if disk is not None:
        file = out / image_name(image, disk, len(disks))
        if not file.exists():
            raise YarrikError(
                Trouble("FLASH-IMAGE", f"`{image}` has no disk `{disk}`", Place(out), remedy=suggestion(disk, disks))
            )
        return file
    if len(disks) != 1:
        raise YarrikError(
            Trouble("FLASH-IMAGE", f"`{image}` has {counted(len(disks), 'disk')}" + (f": {', '.join(disks)}" if disks else ""),
                    Place(out), remedy="say which one: --disk NAME" if disks else f"build it: yarrik build {image}")
        )  # fmt: skip
    return out / disks[0]


def _confirm(sources: Sequence[Source], targets: Sequence[Target], words: list[str], json: bool) -> None:
    """Goes on when each device was named. Raises YarrikError."""
    from yarrik.errors import Trouble, YarrikError

    if words:
        left = list(words)
        for target in targets:
            if target.device.word not in left:
                raise YarrikError(
                    Trouble("FLASH-UNCONFIRMED", f"{target.device} is {target.device.word}: that is not what you named",
                            target.device.place, remedy="look again: yarrik devices",
                            why="it was mistyped, or the device is another one by now; nothing was written")
                )  # fmt: skip
            left.remove(target.device.word)
        if left:
            raise YarrikError(
                Trouble("FLASH-UNCONFIRMED", f"--write-to-device names {left[0]}, and no device of this command is that",
                        why="nothing was written", remedy="look again: yarrik devices")
            )  # fmt: skip
        return
    if json or not sys.stdin.isatty():
        wanted = " ".join(f"--write-to-device '{one.device.word}'" for one in targets)
        raise YarrikError(
            Trouble("FLASH-UNCONFIRMED", "nobody is there to ask whether the right device is meant",
                    why="everything on it will be lost; nothing was written", remedy=f"if it is right, add {wanted}")
        )  # fmt: skip
    source = sources[0]
    by = f", signed by {source.signer}" if source.signer is not None and source.held == "manifest" else ""
    held = {"manifest": "as its manifest says", "map": "as its map says", "nothing": "no manifest beside it"}[source.held]
    what = f"{source.only.title} of " if source.only is not None else ""
    sys.stdout.write(
        f"writes {what}{source.path.name}: {shown_size(source.bytes)} of {shown_size(source.end - source.begin)}, {held}{by}\n"
    )
    for target, source in zip(targets, sources, strict=True):
        _ask(target, source)


def _ask(target: Target, source: Source) -> None:
    from yarrik.cli.view import styled
    from yarrik.disk import open_image
    from yarrik.errors import Trouble, YarrikError

    device = target.device
    words = [
        device.title,
        shown_size(device.size),
        f"serial number {device.serial}" if device.serial else "no serial number",
        device.bus,
    ]
    sys.stdout.write(f"  to  {styled(str(device), 'bold')}  {', '.join(word for word in words if word)}\n")
    try:
        with target.look() as file:
            there = _shown_content(open_image(file, device.size))
    except OSError as error:
        there = f"unknown: {error.strerror}"
    if source.values:
        sys.stdout.write(f"      its values: {', '.join(f'{name}={value}' for name, value in source.values.items())}\n")
    lost = "all of it" if source.only is None else f"what is in {source.only.title}"
    sys.stdout.write(f"      on it now: {there}; {lost} will be lost\n")
    sys.stdout.write(f"type `{device.name}` to write to it: ")
    sys.stdout.flush()
    if sys.stdin.readline().strip() != device.name:
        raise YarrikError(Trouble("FLASH-UNCONFIRMED", f"{device} was not confirmed", device.place,
                                  why="nothing was written", remedy=f"begin again, and type `{device.name}`"))  # fmt: skip


def _stoppable(stop: threading.Event, work: Callable[[], list[Report]]) -> list[Report]:
    """Runs the work in a thread, so that Ctrl-C ends it between two parts and nothing is left in the middle."""
    found: list[list[Report] | BaseException] = []
    ended = threading.Event()

    def run() -> None:
        try:
            found.append(work())
        except BaseException as error:
            found.append(error)
        ended.set()

    threading.Thread(target=run, daemon=True).start()
    try:
        # Waiting for the thread itself would take it for ended after an interruption.
        ended.wait()
    except KeyboardInterrupt:
        stop.set()
        ended.wait()
    result = found[0]
    if isinstance(result, BaseException):
        raise result
    return result


def _seconds(seconds: float) -> str:
    return f"{seconds:.1f} s" if seconds < 10 else shown_seconds(seconds)


def _show_reports(reports: Sequence[Report], logs: Sequence[Path]) -> None:
    from yarrik.cli.view import show_failures, show_notes, show_table, styled

    rows = []
    for one in reports:
        path = str(one.device)
        if one.done and one.written is not None:
            rate = one.written.bytes / max(0.01, one.written.write_seconds)
            words = f"{shown_size(one.written.bytes)} written in {_seconds(one.written.write_seconds)}"
            words += f" ({shown_size(int(rate))}/s)"
            more = f", went on at {one.begun_at:.0%}" if one.begun_at else ""
            back = f"read back and compared in {_seconds(one.written.read_seconds)}"
            if not one.written.read_back:
                back = "as its bootloader says: it cannot be read back"
            rows.append((styled("✓", "green"), path, one.device.serial, f"{words}{more}, {back}"))
        elif one.stopped:
            rows.append((styled("–", "yellow"), path, one.device.serial, "stopped; the same command goes on from there"))
        else:
            rows.append((styled("✗", "red"), path, one.device.serial, one.troubles[0].code if one.troubles else "not done"))
    show_table(rows)
    show_failures([trouble for one in reports for trouble in one.troubles])
    show_notes(f"{one.device}: the kernel still has the old partition table; pull the card out before you mount it"
               for one in reports if one.written is not None and not one.written.table_read_again)  # fmt: skip
    done = sum(one.done for one in reports)
    if logs:
        sys.stdout.write(f"records: {logs[0].parent}/\n")
    if done == len(reports):
        if all(one.device.address or one.device.lock for one in reports):
            return
        sys.stdout.write("it can be pulled out now\n" if done == 1 else "all of them can be pulled out now\n")
    elif len(reports) > 1:
        sys.stdout.write(f"{done} of {len(reports)} hold the image\n")


@contextmanager
def progress_line(shown: bool, title: str) -> Iterator[Callable[[int, int], None]]:
    """A line of progress that goes away when its work is done."""
    if not shown:
        yield lambda done, total: None
        return
    from yarrik.cli.terminal import erase_line

    last = [0.0]

    def say(done: int, total: int) -> None:
        now = time.monotonic()
        if done >= total:
            erase_line(sys.stderr)
        elif now - last[0] > 0.1:
            last[0] = now
            erase_line(sys.stderr)
            sys.stderr.write(f"{title} {done / max(1, total):.0%}")
        sys.stderr.flush()

    yield say


@contextmanager
def _bars(shown: bool, silent: bool, targets: Sequence[Target]) -> Iterator[Callable[[int, Progress], None]]:
    """A line of progress for each device, with rate and time left; without a terminal a word at each stage."""
    stages = [""] * len(targets)
    if not shown:

        def tell(number: int, progress: Progress) -> None:
            if stages[number] != progress.stage:
                stages[number] = progress.stage
                if not silent:
                    sys.stderr.write(f"{targets[number].device}: {progress.stage} {shown_size(progress.total)}\n")

        yield tell
        return
    from rich.console import Console
    from rich.progress import BarColumn, DownloadColumn, TextColumn, TimeRemainingColumn, TransferSpeedColumn
    from rich.progress import Progress as Bars

    from yarrik.cli.terminal import one_line

    columns = (TextColumn("{task.fields[device]}"), TextColumn("{task.description:<12}"), BarColumn(30),
               DownloadColumn(binary_units=True),
               TransferSpeedColumn(), TimeRemainingColumn())  # fmt: skip
    with Bars(*columns, console=Console(file=sys.stderr, highlight=False), transient=True) as bars:
        tasks = [bars.add_task("waiting", total=None, device=one_line(one.device.name)) for one in targets]

        def say(number: int, progress: Progress) -> None:
            if stages[number] != progress.stage:
                stages[number] = progress.stage
                bars.reset(tasks[number], total=progress.total, description=progress.stage)
            bars.update(tasks[number], completed=progress.done, total=progress.total)

        yield say
