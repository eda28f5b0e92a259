"""`yarrik enter`: a shell where a step runs."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import (
    ProductOption,
    SandboxOption,
    SetOption,
    WithOption,
    WorkspaceOption,
    composed,
    names_of,
    opened,
)


@app.command(epilog="Examples: [bold]yarrik enter libtide[/bold] · [bold]yarrik enter libtide --command ./step[/bold]")
def enter(
    recipe: Annotated[str, typer.Argument(help="The recipe whose step it is.", autocompletion=names_of("recipe"))],
    kind: Annotated[str, typer.Argument(help="The step's kind.")] = "build",
    command: Annotated[str | None, typer.Option(metavar="TEXT", help="Runs this instead of a shell, and ends.")] = None,
    fresh: Annotated[bool, typer.Option("--fresh", help="Lays the folder out anew, without what was changed in it.")] = False,
    product: ProductOption = None,
    variants: WithOption = None,
    settings: SetOption = None,
    no_sandbox: SandboxOption = False,
    workspace: WorkspaceOption = None,
) -> None:
    """Opens a shell as a step sees the world: its sandbox, environment, sources, sysroot, and its commands as ./step.

    What the step needs is built first; the step itself need not work. The folder stays as you leave it until --fresh."""
    from yarrik.cli.view import BuildView
    from yarrik.errors import shown_path
    from yarrik.run import Choices, enter

    with opened(workspace, Choices(use_sandbox=not no_sandbox)) as session:
        composition = composed(session, product, variants, settings)
        view = BuildView()
        try:
            entered = enter(session, composition, f"{kind} {recipe}", fresh, view)
        finally:
            view.close()
        if command is None:
            how = "as you left it" if entered.again else "laid out"
            sys.stdout.write(f"{entered.step.name}: {shown_path(entered.work)}, {how}; ./step runs it, exit ends\n")
            sys.stdout.flush()
        code = entered.shell(command)
    raise typer.Exit(code if command is not None else 0)
