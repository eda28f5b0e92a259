"""`yarrik choose`: a product's board, profile, packages and options in a terminal."""

from __future__ import annotations

import sys

from yarrik.cli import app
from yarrik.cli.options import JsonOption, ProductArgument, WorkspaceOption, opened


@app.command(epilog="Example: [bold]yarrik choose tide-gauge[/bold]")
def choose(product: ProductArgument = None, workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Opens a view to choose a product's board, profile, packages and options, and shows the change before it is saved.

    Type to search, Enter chooses, Tab turns the page, Ctrl-Z takes a change back, Escape leaves. It works over a serial line
    of 80 columns and 24 lines."""
    from yarrik.errors import Trouble, YarrikError
    from yarrik.run import Choosing, choices_as_json

    with opened(workspace) as session:
        name = session.planner.compose(product).product.name
        choosing = Choosing(session, name)
        if json:
            sys.stdout.write(choices_as_json(choosing, ("board", "profile", "packages", "options")) + "\n")
            return
        if not (sys.stdin.isatty() and sys.stdout.isatty()):
            raise YarrikError(Trouble("USAGE", "choosing needs a terminal",
                                      remedy="edit the product's file; or --json lists what there is to choose"))  # fmt: skip
        from yarrik.cli.choose_view import ChooseApp

        said = ChooseApp(choosing).run()
    sys.stdout.write(f"{said or 'nothing was changed'}\n")
    if said:
        sys.stdout.write(f"next: yarrik check {name} · yarrik build {name}\n")
