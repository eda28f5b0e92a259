"""`yarrik kernel`: options of a product's kernel or bootloader: looked at, set, checked, or changed in its own menu."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Annotated

import typer

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
)

group = typer.Typer(
    no_args_is_help=True,
    help="Shows, sets and checks options of a product's kernel, or of a bootloader (--recipe).",
    epilog="Examples: [bold]yarrik kernel show SQUASHFS[/bold] · [bold]yarrik kernel set SQUASHFS=y[/bold]",
    rich_markup_mode="rich",
)
app.add_typer(group, name="kernel")

if TYPE_CHECKING:
    from pathlib import Path

    from yarrik.run import KernelWork, LineFacts, OptionFacts

RecipeOption = Annotated[
    str, typer.Option("--recipe", metavar="RECIPE", help="A bootloader of the board, by its recipe, instead of the kernel.")
]
_VERDICTS = {"lost": "red", "unknown": "red", "overruled": "yellow", "redundant": "dim"}
_SET_BY = {"fragment": "the fragment", "base": "the base", "board": "the board", "select": "an option that selects it",
           "imply": "an option that implies it", "default": "its default", "nobody": "nobody"}  # fmt: skip
_LONG = 12


@contextmanager
def _working(
    workspace: Path | None, product: str | None, recipe: str, variants: list[str] | None, settings: list[str] | None
) -> Iterator[KernelWork]:
    from yarrik.run import KernelWork

    with opened(workspace) as session:
        yield KernelWork(session, composed(session, product, variants, settings), recipe)


def _plain_name(text: str) -> str:
    return text.strip().removeprefix("CONFIG_")


def _say_configuring(work: KernelWork, json: bool) -> None:
    if not json:
        sys.stderr.write(f"configuring the {work.what} of {work.composition.name} …\n")
        sys.stderr.flush()


@group.command(
    "show",
    epilog="Examples: [bold]yarrik kernel show EXT4_FS[/bold] · [bold]yarrik kernel show BOOTDELAY --recipe loader[/bold]",
)
def show(
    names: Annotated[list[str], typer.Argument(metavar="NAME…", help="Options, with or without CONFIG_.")],
    named: ProductOption = None,
    recipe: RecipeOption = "",
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Tells an option's value, who set it, what it depends on, what selects it, and its help."""
    from yarrik.cli.view import print_json
    from yarrik.errors import Trouble, YarrikError

    with _working(workspace, named, recipe, variants, settings) as work:
        _say_configuring(work, json)
        configured = work.configured()
    facts = []
    for name in map(_plain_name, names):
        found = configured.facts(name)
        if found is None:
            raise YarrikError(
                Trouble("KERNEL-OPTION-UNKNOWN", f"no Kconfig file of the {work.what} defines CONFIG_{name}",
                        remedy=configured.like(name))
            )  # fmt: skip
        facts.append(found)
    if json:
        print_json([_as_json(one) for one in facts])
        return
    for number, one in enumerate(facts):
        if number:
            sys.stdout.write("\n")
        _show(one)


def _as_json(one: OptionFacts) -> dict[str, object]:
    return {
        "option": one.name, "value": one.value, "type": one.type, "prompt": one.prompt, "defined": str(one.kconfig),
        "set_by": one.set_by, "where": str(one.place),
        "asked": None if one.asked is None else {"value": one.asked[0], "where": str(one.asked[1])},
        "selected_by": list(one.selected_by),
        "depends_on": [{"condition": each.text, "holds": each.holds} for each in one.depends], "help": one.help,
    }  # fmt: skip


def _show(one: OptionFacts) -> None:
    from yarrik.cli.view import show_table, styled

    value = "is not set" if one.value == "n" else f"={one.value}"
    title = f"  {one.prompt}" if one.prompt else "  (no prompt: Kconfig works it out)"
    sys.stdout.write(styled(f"CONFIG_{one.name}{' ' if one.value == 'n' else ''}{value}", "bold") + f"{title}\n")
    rows = [("set by", f"{_SET_BY[one.set_by]}{f', {one.place}' if str(one.place) else ''}"), ("type", one.type),
            ("defined", str(one.kconfig))]  # fmt: skip
    if one.asked is not None:
        rows.insert(1, ("asked for", f"{one.asked[0]}, {one.asked[1]}, and lost"))
    for number, each in enumerate(one.depends):
        state = "holds" if each.holds else "does not hold"
        rows.append(("depends on" if not number else "", f"{each.text}  ({state})"))
    if one.selected_by:
        shown = ", ".join(one.selected_by[:8]) + (f" and {len(one.selected_by) - 8} more" if len(one.selected_by) > 8 else "")
        rows.append(("selected by", shown))
    show_table([(f"  {key}", text) for key, text in rows])
    lines = one.help.splitlines()
    for line in lines[:_LONG]:
        sys.stdout.write(f"    {line}".rstrip() + "\n")
    if len(lines) > _LONG:
        sys.stdout.write(f"    … {len(lines) - _LONG} more lines in {one.kconfig}\n")


@group.command("set", epilog="Examples: [bold]yarrik kernel set SQUASHFS=y SQUASHFS_ZSTD=y[/bold] · "
               "[bold]yarrik kernel set BOOTDELAY=0 --recipe loader --fragment quick.kcfg[/bold]")  # fmt: skip
def set_options(
    wishes: Annotated[
        list[str], typer.Argument(metavar="NAME=VALUE…", help="Options with their values: y, m, n, a number, a text.")
    ],
    fragment: Annotated[
        str,
        typer.Option(
            "--fragment", metavar="FILE", help="The fragment to write to, beside the board's file; else its last one."
        ),
    ] = "",
    named: ProductOption = None,
    recipe: RecipeOption = "",
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Sets options in a fragment of the board, with all that they depend on, and configures with them.

    What cannot be is said before anything is written; when the configuration does not take it, the files are as before."""
    from yarrik.cli.view import print_json, show_table
    from yarrik.errors import Trouble, YarrikError, shown_path
    from yarrik.units import counted

    wanted = {}
    for text in wishes:
        name, equals, value = text.partition("=")
        if not equals or re.fullmatch(r"\w+", _plain_name(name)) is None or "\n" in value:
            raise YarrikError(Trouble("KERNEL-OPTION-FORM", f"`{text}` is not an option with a value",
                                      remedy="write it like SQUASHFS=y"))  # fmt: skip
        wanted[_plain_name(name)] = value
    with _working(workspace, named, recipe, variants, settings) as work:
        _say_configuring(work, json)
        changed = work.set_options(wanted, lambda: _working(workspace, named, recipe, variants, settings), fragment)
    if json:
        kinds = {"asked": changed.asked, "needed": changed.needed, "followed": changed.followed}
        values = {
            kind: {key: {"before": old, "after": new} for key, (old, new) in found.items()} for kind, found in kinds.items()
        }
        print_json({"ok": True, "file": str(changed.file), **values})
        return
    if not changed.needed and all(old == new for old, new in changed.asked.values()):
        sys.stdout.write("it is so already; nothing was written\n")
        return
    rows = [(f"CONFIG_{key}", old, "->", new, "") for key, (old, new) in changed.asked.items()]
    rows += [(f"CONFIG_{key}", old, "->", new, "it is needed for that") for key, (old, new) in changed.needed.items()]
    followed = [(f"CONFIG_{key}", old, "->", new, "follows by itself") for key, (old, new) in changed.followed.items()]
    show_table([*rows, *followed[:_LONG]])
    if len(followed) > _LONG:
        sys.stdout.write(f"and {counted(len(followed) - _LONG, 'more option')} that follow by themselves (--json has all)\n")
    sys.stdout.write(f"written to {shown_path(changed.file)}\n")
    sys.stdout.write("next: yarrik build\n")


@group.command("check", epilog="Examples: [bold]yarrik kernel check[/bold] · [bold]yarrik kernel check --recipe loader[/bold]")
def check(
    product: ProductArgument = None,
    named: ProductOption = None,
    recipe: RecipeOption = "",
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Lists lines of fragments that are lost, unknown, redundant, or overruled by a later fragment.

    Exit code 1 when options are lost or unknown."""
    from yarrik.cli.view import print_json
    from yarrik.units import counted

    with _working(workspace, product or named, recipe, variants, settings) as work:
        _say_configuring(work, json)
        configured = work.configured()
    rows = list(configured.lines())
    bad = [row for row in rows if row.verdict in ("lost", "unknown")]
    if json:
        print_json({"ok": not bad, "lines": [
            {"verdict": row.verdict, "where": str(row.place), "option": row.option, "wanted": row.wanted, "value": row.value,
             "why": row.why, "remedy": row.remedy} for row in rows]})  # fmt: skip
    else:
        _show_lines(rows)
        total = sum(len(given.values) for given in configured.fragments)
        kinds = [
            f"{sum(row.verdict == kind for row in rows)} {kind}"
            for kind in _VERDICTS
            if any(row.verdict == kind for row in rows)
        ]
        sys.stdout.write(f"{counted(total, 'line')} in {counted(len(configured.fragments), 'fragment')}: "
                         f"{', '.join(kinds) or 'each does what it says'}\n")  # fmt: skip
    if bad:
        raise typer.Exit(1)


def _show_lines(rows: list[LineFacts]) -> None:
    from yarrik.cli.view import styled
    from yarrik.errors import shown_path

    for row in rows:
        wanted = f"CONFIG_{row.option}={row.wanted}" if row.wanted != "n" else f"CONFIG_{row.option} off"
        place = f"{shown_path(row.place.file)}:{row.place.line}" if row.place.file is not None else ""
        sys.stdout.write(f"{styled(f'{row.verdict:<9}', _VERDICTS[row.verdict])}  {wanted}  {place}\n")
        sys.stdout.write(f"           {row.why}{f'; {row.remedy}' if row.remedy else ''}\n")


@group.command("options", epilog="Examples: [bold]yarrik kernel options[/bold] · [bold]yarrik kernel options tide-gauge[/bold]")
def change_options(
    product: ProductArgument = None,
    named: ProductOption = None,
    recipe: RecipeOption = "",
    menu: Annotated[
        str, typer.Option(metavar="GOAL", help="Which of the kernel's menus: menuconfig, nconfig, oldconfig, …")
    ] = "menuconfig",
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
) -> None:
    """Opens the kernel's (or bootloader's) own option menu, on the tree as the product configures it.

    The changes stay in a folder of the workspace until they are kept with `yarrik kernel fragment`."""
    from yarrik.run import KernelWork

    with opened(workspace) as session:
        composition = composed(session, product or named, variants, settings)
        work = KernelWork(session, composition, recipe)
        sys.stdout.write(f"configuring the {work.what} of {composition.name} …\n")
        sys.stdout.flush()
        work.open_menu(menu)
    more = f" --recipe {recipe}" if recipe else ""
    sys.stdout.write(f"next: yarrik kernel fragment NAME.kcfg{more} keeps what was changed\n")


@group.command("fragment", epilog="Example: [bold]yarrik kernel fragment more.kcfg[/bold]")
def save(
    name: Annotated[str, typer.Argument(help="The fragment's file name; it is written beside the board's file.")],
    product: ProductArgument = None,
    named: ProductOption = None,
    recipe: RecipeOption = "",
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Writes what was changed in the menu as a fragment onto the board's shelf, and adds it to the board."""
    from yarrik.cli.view import print_json, show_table
    from yarrik.errors import shown_path
    from yarrik.run import KernelWork

    with opened(workspace) as session:
        fragment = KernelWork(session, composed(session, product or named, variants, settings), recipe).save_fragment(name)
    if json:
        changes = {key: {"before": before, "after": after} for key, (before, after) in fragment.changes.items()}
        print_json({"ok": True, "file": str(fragment.file), "board": str(fragment.board_file), "options": changes})
        return
    show_table([(key, before, "->", after) for key, (before, after) in fragment.changes.items()])
    sys.stdout.write(f"{shown_path(fragment.file)} written, and added to the fragments of {shown_path(fragment.board_file)}\n")
    sys.stdout.write("next: yarrik plan · yarrik build\n")
