"""`yarrik prove`: whether everything comes out the same when it is built again."""

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
    names_of,
    opened,
)
from yarrik.units import counted


@app.command(epilog="Examples: [bold]yarrik prove[/bold] · [bold]yarrik prove --recipe tidelog[/bold] while you write a recipe")
def prove(
    product: ProductArgument = None,
    named: ProductOption = None,
    recipe: Annotated[
        str | None,
        typer.Option("--recipe", metavar="RECIPE", help="Only this recipe's steps.", autocompletion=names_of("recipe")),
    ] = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Runs every step a second time and compares the bytes: finds what depends on time, chance or the order of things."""
    from yarrik.cli.view import BuildView, ResolveView, print_json, show_table, show_warnings, styled
    from yarrik.run import prove as prove_steps
    from yarrik.run import silent

    view = BuildView()
    line = ResolveView(quiet=json, words="ran {} of {} steps again")
    with opened(workspace) as session:
        composition = composed(session, product or named, variants, settings)
        try:
            found = prove_steps(
                session, composition, recipe, silent if json else view, lambda step, done, total: line(done, total)
            )
        finally:
            view.close()
            line.close()
    varying = [one for one in found if one.variances]
    if json:
        print_json({"ok": not varying, "product": composition.name, "steps": [
            {"step": one.step.name, "same": not one.variances, "seconds": round(one.seconds, 3),
             "files": [{"path": each.path, "offset": each.offset} for each in one.variances]} for one in found],
            "troubles": [one.trouble.as_json() for one in varying]})  # fmt: skip
        raise typer.Exit(1 if varying else 0)
    show_warnings([one.trouble for one in varying])
    name = styled(composition.name, "bold")
    if varying:
        sys.stdout.write(
            f"{name}: {len(varying)} of {counted(len(found), 'step')} gave a different result when they ran again\n"
        )
        show_table([(one.step.name, f"{counted(len(one.variances), 'file')}") for one in varying])
    else:
        sys.stdout.write(f"{name}: all {counted(len(found), 'step')} gave the same result when they ran again\n")
    raise typer.Exit(1 if varying else 0)
