"""`yarrik edit`: sources changed, and the change kept."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import ProductOption, SetOption, WithOption, WorkspaceOption, composed, names_of, opened


@app.command(epilog="Examples: [bold]yarrik edit tide[/bold] · [bold]yarrik edit tide --save harbour --close[/bold]")
def edit(
    recipe: Annotated[str, typer.Argument(help="The recipe whose sources are edited.", autocompletion=names_of("recipe"))],
    save: Annotated[
        str | None,
        typer.Option(metavar="SHELF", help="Writes the commits as patches to this shelf."),
    ] = None,
    close: Annotated[bool, typer.Option("--close", help="Removes the working tree, if everything in it is saved.")] = False,
    drop: Annotated[bool, typer.Option("--drop", help="Removes it with all that is not saved; asks first.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Answers the question of --drop.")] = False,
    product: ProductOption = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
) -> None:
    """Gives a git working tree of a recipe's prepared sources, in edits/RECIPE. Builds use it until it is closed.

    Change and commit there as you like; each commit becomes a patch with its message."""
    from yarrik.cli.view import BuildView, show_notes
    from yarrik.errors import Place, Trouble, YarrikError, shown_path
    from yarrik.run import Edit

    with opened(workspace) as session:
        work = Edit(session, recipe)
        where = shown_path(work.folder)
        if (save is not None or close or drop) and not work.is_open:
            raise YarrikError(Trouble("EDIT-CLOSED", f"`{recipe}` is not being edited", Place(work.folder),
                                      remedy=f"yarrik edit {recipe} begins"))  # fmt: skip
        if save is not None:
            for path in work.save(save):
                sys.stdout.write(f"written  {shown_path(path)}\n")
        if drop:
            unsaved = work.unsaved()
            if unsaved.lines() and not yes:
                for line in unsaved.lines():
                    sys.stdout.write(line + "\n")
                if not sys.stdin.isatty() or not typer.confirm("these are lost then; drop them?"):
                    raise YarrikError(Trouble("EDIT-UNSAVED", f"{where} was kept", Place(work.folder), why="not confirmed",
                                              remedy="use --yes"))  # fmt: skip
        if close or drop:
            aside = work.close(drop)
            sys.stdout.write(f"{where} is closed; builds use the recipe's own sources again\n")
            if aside is not None:
                show_notes(
                    [f"it held what no shelf has, so it is kept in {shown_path(aside)}; remove that if nothing is missing"]
                )
            return
        if save is not None:
            sys.stdout.write(f"next: yarrik edit {recipe} --close\n")
            return
        composition = composed(session, product, variants, settings)
        view = BuildView()
        try:
            fresh = work.open(composition, view)
        finally:
            view.close()
    how = "on branch edit, with the prepared sources as its first commit" if fresh else "as you left it"
    sys.stdout.write(f"{where}: {how}; builds use it from now on\n")
    sys.stdout.write(
        f"next: change something · yarrik build · git -C {where} commit -a · yarrik edit {recipe} --save SHELF --close\n"
    )
