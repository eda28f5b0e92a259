"""`yarrik boot`: the finished image on the bench board, or in an emulator with its console shown as it comes."""

from __future__ import annotations

import sys
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from typer.core import TyperGroup

from yarrik.cli import app
from yarrik.cli.options import (
    JsonOption,
    ProductArgument,
    ProductOption,
    SetOption,
    WithOption,
    WorkspaceOption,
    composed,
    opened,
    question_of,
)

if TYPE_CHECKING:
    from yarrik.boot import ListedSetting
    from yarrik.console import BootOutcome, Talk
    from yarrik.run import Bootable


class _StartsByItself(TyperGroup):
    """`yarrik boot` without a verb starts a product: what is not a verb belongs to that."""

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        return super().parse_args(ctx, args if args[:1] and args[0] in self.commands else ["start", *args])


group = typer.Typer(cls=_StartsByItself, help="Boots an image in an emulator or on the bench board, or changes its settings.",
                    rich_markup_mode="rich")  # fmt: skip
app.add_typer(group, name="boot")


@group.command(
    "start",
    epilog='Examples: [bold]yarrik boot[/bold] · [bold]yarrik boot --expect "services started" --expect "tide-gauge#"[/bold] · '
    "[bold]yarrik boot --bench out/tide-gauge/tide-gauge.img[/bold] · [bold]yarrik boot set --help[/bold]",
)
def boot(
    product: ProductArgument = None,
    named: ProductOption = None,
    expect: Annotated[
        list[str] | None,
        typer.Option(metavar="TEXT", help="Text that the console has to show, in this order, instead of the image's marker."),
    ] = None,
    talk: Annotated[
        Path | None, typer.Option(metavar="FILE", help="A script: \\[\\[talk]] tables with `expect`, and `type` to answer.")
    ] = None,
    seconds: Annotated[float, typer.Option(min=1, help="The longest that the boot may take.")] = 120,
    until_off: Annotated[
        bool, typer.Option("--until-off", help="Waits until the board powers off after the last text was seen.")
    ] = False,
    keep_disk: Annotated[
        bool, typer.Option("--keep-disk", help="Keeps the disk of the last boot instead of a fresh copy of the image.")
    ] = False,
    card_size: Annotated[
        str, typer.Option(metavar="SIZE", help="How large the board's card is; without it, as large as the image.")
    ] = "",
    on: Annotated[
        str | None,
        typer.Option(metavar="PORT", help="Follows a real board on this serial port, or as a file describes it, instead."),
    ] = None,
    bench: Annotated[
        Path | None,
        typer.Option(
            metavar="IMAGE", help="Reads an image file as hardware would, and tells how far it gets; nothing is started."
        ),
    ] = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Boots a product's image in its board's emulator, until the image's marker shows or the time is over.

    With --on a real board is switched on, and followed over its serial port in the same way. In the emulator the board gets a
    copy of the image, so the image in out/PRODUCT stays as it was written. With --bench any image file is
    followed from the partition table to init without starting anything; no workspace and no emulator are needed."""
    if bench is not None:
        raise typer.Exit(0 if on_the_bench(bench, json) else 1)
    from yarrik.cli.console import outcome_json, show_outcome
    from yarrik.cli.view import print_json
    from yarrik.console import TalkLine, read_talk
    from yarrik.errors import Trouble, Unfit, YarrikError
    from yarrik.units import parse_size

    lines = read_talk(talk) if talk is not None else ()
    lines += tuple(TalkLine(expect=text) for text in expect or ())
    try:
        size = parse_size(card_size) if card_size else 0
    except Unfit as error:
        trouble = Trouble("SETTING-FORM", f"--card-size: {error}", remedy="write for example `4 GiB`")
        raise YarrikError(trouble) from error
    if on is not None and (until_off or keep_disk or size):
        raise YarrikError(Trouble("USAGE", "--until-off, --keep-disk and --card-size are the emulator's",
                                  why="a real board has its own card, and does not say that it is off",
                                  remedy="leave them out with --on"))  # fmt: skip
    from yarrik.run import Bootable, bootable_before

    question = question_of(workspace, product or named, variants, settings)
    with opened(workspace) as session:
        root = session.project.root
        bootable = bootable_before(question) or Bootable.of(composed(session, product or named, variants, settings))
        if on is None:
            outcome = boot_product(root, bootable, lines, seconds, until_off, keep_disk, size, show=not json)
        else:
            outcome = boot_on(on, root, bootable, lines, seconds, show=not json)
    log = session.project.out(bootable.name) / "boot.log"
    ok = outcome.ending == "seen"
    if json:
        print_json(
            {
                "ok": ok,
                "product": bootable.name,
                "on": on or "emulator",
                **outcome_json(outcome),
                "log": str(log),
            }
        )
        raise typer.Exit(0 if ok else 1)
    after = ", and the board powered off" if until_off else ""
    show_outcome(bootable.name, outcome, log, after, "emulator" if on is None else "console")
    raise typer.Exit(0 if ok else 1)


def boot_product(
    root: Path,
    product: Bootable,
    talk: Talk,
    seconds: float,
    until_off: bool,
    keep_disk: bool,
    card_size: int,
    show: bool,
) -> BootOutcome:
    """Starts the emulator of the product's board with a copy of its image. Raises YarrikError when it cannot."""
    from yarrik.cli.console import shower
    from yarrik.console import TalkLine, run_emulator
    from yarrik.run import emulator_command, scratch_disks

    command = emulator_command(product, root)
    disks = scratch_disks(root, product, not keep_disk, card_size)
    lines = talk
    if not lines and product.marker:
        lines = (TalkLine(expect=product.marker),)
    words = command
    for sign, place in disks.items():
        words = [word.replace(sign, str(place)) for word in words]

    shown, on_terminal = shower(show), sys.stdout.isatty()

    def listener(data: bytes) -> None:
        # A bootloader clears the screen: what was said before stays.
        kept = data.replace(b"\x1b[2J", b"").replace(b"\x1b[H", b"")
        shown(kept if on_terminal else kept.replace(b"\r", b""))

    log = root / "out" / product.name / "boot.log"
    with log.open("wb") as sink:
        return run_emulator(words, lines, sink, seconds, listener, until_off)


def boot_on(on: str, root: Path, product: Bootable, talk: Talk, seconds: float, show: bool) -> BootOutcome:
    """Switches a board on and follows its start over a serial port. Raises YarrikError when the port or the power fails."""
    from yarrik.cli.console import shower
    from yarrik.console import TalkLine, follow, open_console, port_named, power_switch
    from yarrik.run import console_speed

    lines = talk
    if not lines and product.marker:
        lines = (TalkLine(expect=product.marker),)
    # A file that describes the port knows its speed; a port alone has that of the board's console.
    about = port_named(on, None if on.endswith(".toml") else console_speed(product))
    with closing(open_console(about)) as line:

        def tell(text: str) -> None:
            if show:
                sys.stderr.write(f"{text}\n")

        power = power_switch(about, line, lambda command: tell(f"power: {command}"))
        if power is not None:
            power()
        else:
            tell(f"listens on {line.name}: switch the board off and on now")
        log = root / "out" / product.name / "boot.log"
        log.parent.mkdir(parents=True, exist_ok=True)
        with log.open("wb") as sink:
            return follow(line, lines, sink, seconds, shower(show))


def on_the_bench(path: Path, as_json: bool) -> bool:
    """Shows the boot story of an image file; True when it reaches init. Raises YarrikError for what cannot be read."""
    from yarrik.boot import board_beside, try_image
    from yarrik.cli.view import fitted, print_json, show_error, show_warnings, styled
    from yarrik.disk import opened_bytes
    from yarrik.errors import Damaged, Place, Trouble, YarrikError, found_nearby

    board = board_beside(path)
    try:
        with opened_bytes(path) as (file, image):
            result = try_image(file, image, str(path), board)
    except OSError as error:
        raise YarrikError(Trouble("IMAGE-UNREADABLE", f"cannot read {path}: {error.strerror}", Place(path),
                                  remedy=found_nearby(path, "check the name"))) from error  # fmt: skip
    except Damaged as error:
        raise YarrikError(Trouble("IMAGE-DAMAGED", f"{path.name}: {error}", Place(path), remedy="write it again")) from error
    if as_json:
        print_json(
            {
                "ok": result.reached,
                "image": str(path),
                "story": [{"stage": told.stage, "text": told.text, "followed": told.followed} for told in result.story],
                "granted": [{"stage": one.stage, "what": one.what, "why": one.why} for one in result.granted],
                "stop": None if result.stop is None else result.stop.as_json(),
                "warnings": [one.as_json() for one in result.warnings],
            }
        )
        return result.reached
    for told in result.story:
        mark = styled("✓", "green") if told.followed else styled("?", "yellow")
        last = told.stage == "end"
        text = fitted(told.text, 18)
        sys.stdout.write(f"  {mark} {styled(told.stage.ljust(13), 'dim')} {styled(text, 'bold') if last else text}\n")
    if result.stop is not None:
        sys.stdout.write(f"  {styled('✗', 'red')} {styled('stops here', 'bold')}\n")
    show_warnings(result.warnings)
    if result.stop is not None:
        show_error(YarrikError(result.stop, "work"), as_json=False)
    return result.reached


@group.command(
    "set",
    epilog="Examples: [bold]yarrik boot set out/p/p.img display=off[/bold] · "
    "[bold]yarrik boot set card.img[/bold] (lists them) · [bold]yarrik boot set card.img speed=[/bold] (removes it) · "
    "[bold]yarrik boot set environment.bin bootdelay=2[/bold]",
)
def change(
    image: Annotated[Path, typer.Argument(help="A disk image with a FAT partition, or an environment block.")],
    settings: Annotated[
        list[str] | None,
        typer.Argument(metavar="[KEY=VALUE…]", help="What to set; `KEY=` removes it. Without: a list."),
    ] = None,
    file: Annotated[
        str, typer.Option(metavar="PATH", help="The settings file on the partition, where more than one may be meant.")
    ] = "",
    json: JsonOption = False,
) -> None:
    """Changes settings in a finished image: the file on its boot partition, and checksums and files beside the image.

    What the image's `card-settings` declare is checked as the board would check it."""
    from yarrik.boot import NoSettings, SettingRefused, change_image, settings_of
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.errors import Damaged, Place, Trouble, Unfit, YarrikError

    changes: dict[str, str | None] = {}
    for word in settings or ():
        key, equals, value = word.partition("=")
        if not equals or not key:
            raise YarrikError(Trouble("SETTING-FORM", f"`{word}` is not a setting", remedy="write KEY=VALUE"))
        changes[key] = value or None
    try:
        if not changes:
            show_settings(*settings_of(image, file), json)
            return
        changed = change_image(image, changes, file)
    except NoSettings as error:
        code = "SETTING-FORM" if isinstance(error, SettingRefused) else "SETTINGS-NONE"
        raise YarrikError(Trouble(code, f"{image.name}: {error}", Place(image), remedy=error.remedy)) from error
    except (Damaged, Unfit) as error:
        raise YarrikError(
            Trouble("SETTING-FORM", f"{image.name}: {error}", Place(image), remedy="correct the value")
        ) from error
    except OSError as error:
        raise YarrikError(Trouble("IMAGE-UNREADABLE", f"cannot change {image}: {error.strerror}", Place(image),
                                  remedy="check the name, free space and your permissions")) from error  # fmt: skip
    hidden = {key: ("(secret)", "(secret)") for key in changed.values if key in changed.secret}
    if json:
        rows = (changed.values | hidden).items()
        values = {key: {"before": before, "after": after} for key, (before, after) in rows}
        print_json({"ok": True, "where": changed.where, "settings": values, "beside": list(changed.beside)})
        return
    sys.stdout.write(f"{styled(changed.where, 'bold')} in {image}\n")
    show_table([(key, before if before is not None else "(not set)", "->", after if after is not None else "(not set)")
                for key, (before, after) in (changed.values | hidden).items()])  # fmt: skip
    if changed.beside:
        sys.stdout.write(f"made anew beside it: {', '.join(changed.beside)}\n")


def show_settings(where: str, settings: list[ListedSetting], as_json: bool) -> None:
    """Lists the settings of a finished image, with what may be there."""
    from yarrik.boot import allowed_values
    from yarrik.cli.view import print_json, show_table, styled

    def value(one: ListedSetting) -> str | None:
        return "(secret)" if one.value and one.form is not None and one.form.secret else one.value

    if as_json:
        print_json({"ok": True, "where": where, "settings": [
            {"name": one.name, "value": value(one), "usual": one.form.usual if one.form and not one.form.secret else None,
             "kind": one.form.kind if one.form else None, "allowed": allowed_values(one.form) if one.form else None}
            for one in settings]})  # fmt: skip
        return
    sys.stdout.write(f"{styled(where, 'bold')}\n")
    rows = []
    for one in settings:
        now = value(one)
        usual = f"(not set; {one.form.usual})" if one.form and one.form.usual and not one.form.secret else "(not set)"
        words = allowed_values(one.form) if one.form else ""
        rows.append((one.name, usual if now is None else now, styled(words, "dim")))
    show_table(rows)
    if not settings:
        sys.stdout.write("  nothing is set\n")
