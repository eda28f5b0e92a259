"""`yarrik catalogue`: files that say which shelves exist, and what each of them holds."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, WorkspaceOption
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.run import Known

group = typer.Typer(
    help="Lists, writes and renews catalogues: files that say which shelves exist, and what each of them holds.",
    no_args_is_help=True,
    epilog="Examples: [bold]yarrik catalogue make shelves/* --out catalogue.toml[/bold] · [bold]yarrik catalogue list[/bold]",
)
app.add_typer(group, name="catalogue")


@group.command("make", epilog="Example: [bold]yarrik catalogue make shelves/* --out catalogue.toml[/bold]")
def make(
    folders: Annotated[list[Path], typer.Argument(help="Folders of shelves, or a single one with shelves in it.")],
    out: Annotated[Path, typer.Option("--out", metavar="FILE", help="The file to write: .toml or .json.")] = Path(
        "catalogue.toml"
    ),
    name: Annotated[str, typer.Option(help="The catalogue's name; without it that of its folder.")] = "",
    summary: Annotated[str, typer.Option(help="What it is for, on one line.")] = "",
    git: Annotated[
        str,
        typer.Option("--git", metavar="URL", help="The repository that the shelves are in, instead of paths."),
    ] = "",
    branch: Annotated[str, typer.Option(metavar="NAME", help="With --git: the repository's branch.")] = "",
    json: JsonOption = False,
) -> None:
    """Writes a catalogue of shelves: where they are, and what each of them holds."""
    from yarrik.cli.view import print_json
    from yarrik.errors import shown_path
    from yarrik.model import write_catalogue

    made = write_catalogue([one.absolute() for one in folders], out.absolute(), name, summary, git, branch)
    things = sum(len(shelf.holds) for shelf in made)
    if json:
        print_json({"ok": True, "file": str(out.absolute()), "shelves": [shelf.name for shelf in made], "things": things})
        return
    path = shown_path(out.absolute())
    sys.stdout.write(f"{path}: {counted(len(made), 'shelf', 'shelves')}, {counted(things, 'entry', 'entries')}\n")
    sys.stdout.write(f"next: yarrik settings set catalogues={path} · yarrik find WORD\n")


@group.command("list", epilog="Example: [bold]yarrik catalogue list[/bold]")
def show_catalogues(workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Lists the catalogues that count here, and the shelves in each."""
    _show(known_here(workspace)[1], json)


@group.command("renew", epilog="Example: [bold]yarrik catalogue renew[/bold]")
def renew(workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Downloads the catalogues anew that come from servers."""
    _show(known_here(workspace, renew=True)[1], json)


def known_here(folder: Path | None, renew: bool = False) -> tuple[Path | None, Known]:
    """The workspace around a folder, if there is one, and the catalogues that count there. Raises YarrikError for a `folder`
    that is in none."""
    from yarrik.errors import YarrikError
    from yarrik.model import find_workspace, load_settings, settings_at
    from yarrik.run import cache_folder, catalogue_sources, read_catalogues

    root = None
    try:
        root = find_workspace((folder or Path.cwd()).absolute())
    except YarrikError:
        if folder is not None:
            raise
    settings = settings_at(root) if root is not None else load_settings(None)[0]
    sources = catalogue_sources(root, settings)
    return root, read_catalogues(sources, cache_folder(root or Path.cwd(), settings), renew, settings.redirect_hosts)


def _show(known: Known, json: bool) -> None:
    from yarrik.cli.view import print_json, show_table, show_warnings, styled
    from yarrik.errors import shown_path

    if json:
        print_json({
            "ok": not known.troubles,
            "catalogues": [
                {"source": one.source, "name": one.value.catalogue.name, "summary": one.value.catalogue.summary,
                 "shelves": [{"name": shelf.name, "summary": shelf.summary, "version": shelf.version, "at": one.place_of(shelf),
                              "needs": list(shelf.needs), "things": len(shelf.holds)} for shelf in one.value.shelf]}
                for one in known.catalogues.known
            ],
            "warnings": [trouble.as_json() for trouble in known.troubles],
        })  # fmt: skip
        raise typer.Exit(1 if known.troubles else 0)
    for one in known.catalogues.known:
        source = shown_path(Path(one.source)) if one.folder is not None else one.source
        sys.stdout.write(f"{styled(one.value.catalogue.name, 'bold')} {one.value.catalogue.summary}  {styled(source, 'dim')}\n")
        show_table([(shelf.name, shelf.version, shelf.summary, f"needs {', '.join(shelf.needs)}" if shelf.needs else "")
                    for shelf in one.value.shelf])  # fmt: skip
    show_warnings(known.troubles)
    if not known.catalogues.known and not known.troubles:
        sys.stdout.write("no catalogue is known here\nnext: yarrik settings set catalogues=ADDRESS\n")
    raise typer.Exit(1 if known.troubles else 0)
