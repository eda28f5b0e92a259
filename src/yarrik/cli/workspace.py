"""`yarrik workspace`: workspaces made of product files."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption

group = typer.Typer(
    help="Makes a workspace of a product that is in one file.",
    no_args_is_help=True,
    epilog="Example: [bold]yarrik workspace from gauge.toml[/bold]",
)
app.add_typer(group, name="workspace")


@group.command("from", epilog="Example: [bold]yarrik workspace from gauge.toml gauge-work[/bold]")
def workspace_from_file(
    file: Annotated[Path, typer.Argument(help="The product file.")],
    folder: Annotated[Path | None, typer.Argument(help="The folder to make; else one of the file's name.")] = None,
    json: JsonOption = False,
) -> None:
    """Makes an ordinary workspace of a product file, and brings its shelves: from then on the file is not asked any more."""
    from yarrik.cli.view import print_json
    from yarrik.errors import shown_path
    from yarrik.model import settings_at
    from yarrik.run import Shelves, cache_folder, workspace_from

    target = (folder or file.with_suffix("")).absolute()
    files, _ = workspace_from(file.absolute(), target)
    shelves = Shelves(target, cache_folder(target, settings_at(target)))
    found = shelves.sync([], update=False)
    if json:
        print_json({"ok": True, "files": [str(one) for one in files], "shelves": [one.name for one in found]})
        return
    for one in files:
        sys.stdout.write(f"  wrote  {shown_path(one)}\n")
    for synced in found:
        sys.stdout.write(f"  {synced.became}  {synced.name}, at {synced.commit[:12]}\n")
    sys.stdout.write(f"next: cd {shown_path(target)} · yarrik check · yarrik build\n")
