"""`yarrik kernel`: options of a product's kernel, changed in the kernel's own menu and kept as a fragment."""

from __future__ import annotations

import sys
from typing import Annotated

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
    help="Changes a kernel's options in its own menu, and keeps the difference as a fragment.",
    epilog="Example: [bold]yarrik kernel options[/bold], then [bold]yarrik kernel fragment more.kcfg[/bold]",
    rich_markup_mode="rich",
)
app.add_typer(group, name="kernel")


@group.command("options", epilog="Examples: [bold]yarrik kernel options[/bold] · [bold]yarrik kernel options tide-gauge[/bold]")
def change_options(
    product: ProductArgument = None,
    named: ProductOption = None,
    menu: Annotated[
        str, typer.Option(metavar="GOAL", help="Which of the kernel's menus: menuconfig, nconfig, oldconfig, …")
    ] = "menuconfig",
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
) -> None:
    """Opens the kernel's own option menu, on the tree as the product configures it.

    The changes stay in a folder of the workspace until they are kept with `yarrik kernel fragment`."""
    from yarrik.run import KernelWork

    with opened(workspace) as session:
        composition = composed(session, product or named, variants, settings)
        work = KernelWork(session, composition)
        sys.stdout.write(f"configuring the kernel of {composition.name} …\n")
        sys.stdout.flush()
        work.open_menu(menu)
    sys.stdout.write("next: yarrik kernel fragment NAME.kcfg keeps what was changed\n")


@group.command("fragment", epilog="Example: [bold]yarrik kernel fragment more.kcfg[/bold]")
def save(
    name: Annotated[str, typer.Argument(help="The fragment's file name; it is written beside the board's file.")],
    product: ProductArgument = None,
    named: ProductOption = None,
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
        fragment = KernelWork(session, composed(session, product or named, variants, settings)).save_fragment(name)
    if json:
        changes = {key: {"before": before, "after": after} for key, (before, after) in fragment.changes.items()}
        print_json({"ok": True, "file": str(fragment.file), "board": str(fragment.board_file), "options": changes})
        return
    show_table([(key, before, "->", after) for key, (before, after) in fragment.changes.items()])
    sys.stdout.write(
        f"{shown_path(fragment.file)} written, and added to kernel.fragments of {shown_path(fragment.board_file)}\n"
    )
    sys.stdout.write("next: yarrik plan · yarrik build\n")
