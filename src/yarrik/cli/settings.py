"""`yarrik settings`: what holds for a person or machine, and where it is written."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, WorkspaceOption

group = typer.Typer(
    help="Shows and changes settings of a person or machine: jobs, cache, mirrors, trusted keys. Products never hold them.",
    no_args_is_help=True,
    epilog="Examples: [bold]yarrik settings show[/bold] · [bold]yarrik settings set jobs=8[/bold]",
)
app.add_typer(group, name="settings")


def _root(workspace: Path | None, must: bool) -> Path | None:
    """The workspace's folder; None outside of any, unless there must be one."""
    from yarrik.errors import YarrikError
    from yarrik.model import find_workspace

    try:
        return find_workspace((workspace or Path.cwd()).absolute())
    except YarrikError:
        if must or workspace is not None:
            raise
        return None


@group.command("show", epilog="Example: [bold]yarrik settings show[/bold]")
def show(workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Lists all settings with the file and line that each comes from."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.errors import shown_path
    from yarrik.model import settings_file, written_settings

    lines = written_settings(_root(workspace, must=False))
    file = settings_file()
    if json:
        listed = [{"key": one.key, "value": one.value, "where": str(one.place), "counts": not one.hidden} for one in lines]
        print_json({"ok": True, "file": str(file), "settings": listed})
        return
    rows = []
    for one in lines:
        value = ", ".join(map(str, one.value)) if isinstance(one.value, list) else str(one.value)
        rows.append((one.key, styled(value, "dim") if one.hidden else value, styled(str(one.place), "dim"),
                     "a later one counts" if one.hidden else ""))  # fmt: skip
    show_table(rows)
    if not lines:
        sys.stdout.write(f"nothing is set; {shown_path(file)} is the file for it\n")
        sys.stdout.write("next: yarrik settings set jobs=8\n")


def _as_typed(text: str) -> str:
    """A path as the user means it, from the current folder: the settings are somewhere else."""
    path = Path(text).expanduser()
    return str(path.absolute()) if text and "://" not in text and path.exists() else text


@group.command(
    "set",
    epilog="Examples: [bold]yarrik settings set jobs=8[/bold] · [bold]yarrik settings set redirect-hosts=a.example,b.example"
    "[/bold] · [bold]yarrik settings set cache=[/bold] (removes it)",
)
def change(
    words: Annotated[list[str], typer.Argument(metavar="KEY=VALUE…", help="What to set; `KEY=` removes it.")],
    here: Annotated[
        bool, typer.Option("--here", help="For this workspace only: in yarrik.local.toml, which is not to be committed.")
    ] = False,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Changes settings; comments in the file stay. Lists are words with commas between them."""
    from yarrik.cli.view import print_json
    from yarrik.errors import Trouble, YarrikError, shown_path
    from yarrik.model import change_setting

    root = _root(workspace, must=True) if here else None
    for word in words:
        if "=" not in word:
            raise YarrikError(Trouble("SETTING-FORM", f"`{word}` has no value", remedy="write KEY=VALUE"))
    file = Path()
    for word in words:
        key, _, value = word.partition("=")
        if key.strip() == "catalogues" or key.strip().endswith((".path", ".file")):
            value = ",".join(_as_typed(one.strip()) for one in value.split(",")) if value else ""
        file = change_setting(root, key.strip(), value.strip())
    if json:
        print_json({"ok": True, "file": str(file)})
        return
    sys.stdout.write(f"written to {shown_path(file)}\nnext: yarrik settings show\n")


@group.command("keys", epilog="Example: [bold]yarrik settings keys[/bold]")
def keys(json: JsonOption = False) -> None:
    """Lists all settings that there are: what each is for, its default, an example."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.model import FILES, keys_of

    found = list(keys_of(FILES["settings"], {}))
    if json:
        print_json({"ok": True, "keys": [
            {"key": one.key, "type": one.form, "default": one.default, "text": one.text, "example": one.example}
            for one in found]})  # fmt: skip
        return
    show_table([(styled(one.key, "bold"), one.default, one.text, styled(f"{one.key} = {one.example}", "dim")) for one in found])
