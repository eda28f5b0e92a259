"""`yarrik log`, `yarrik show`: reading what is there."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, WorkspaceOption, opened


@app.command(
    epilog="Examples: [bold]yarrik log build libtide[/bold] · [bold]yarrik log build libtide --product tide-office[/bold]"
)
def log(
    kind: Annotated[str, typer.Argument(help="The step's kind: fetch, prepare, configure, build, stage, split, …")],
    subject: Annotated[list[str], typer.Argument(help="The recipe, or the product.")],
    product: Annotated[str | None, typer.Option(help="Whose build; without it the workspace's own choice.")] = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Shows the log of a step's last run."""
    from yarrik.cli.view import print_json
    from yarrik.errors import Place, Trouble, YarrikError, suggestion
    from yarrik.run.execute import log_path

    step = " ".join([kind, *subject])
    with opened(workspace) as session:
        composition = session.compose(product)
        text = session.log_of(composition.name, step)
    if text is None:
        logs = log_path(session.folder, composition.name, step).parent
        known = sorted(file.stem for file in logs.glob("*.log")) if logs.is_dir() else []
        raise YarrikError(
            Trouble("LOG-MISSING", f"there is no log of a step `{step}` of `{composition.name}`", Place(logs),
                    remedy=suggestion(step.replace(" ", "-"), known) if known else "build the product first")
        )  # fmt: skip
    if json:
        print_json({"ok": True, "product": composition.name, "step": step, "log": text})
        return
    sys.stdout.write(text)


@app.command(epilog="Example: [bold]yarrik show kittiwake[/bold]: which line of which file won.")
def show(
    name: Annotated[str, typer.Argument(help="A board, profile, image, product or recipe.")],
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Shows a definition as it is resolved, each value with the file and line it came from, and what it replaced."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.errors import Trouble, YarrikError, suggestion
    from yarrik.model.reading import values_with_origins

    with opened(workspace) as session:
        kinds = session.workspace.by_kind()
    found = [(kind, definitions[name]) for kind, definitions in kinds.items() if name in definitions]
    if not found:
        known = {known for definitions in kinds.values() for known in definitions}
        raise YarrikError(
            Trouble("NAME-UNKNOWN", f"nothing in this workspace is called `{name}`", remedy=suggestion(name, known))
        )
    if json:
        print_json(
            {
                kind: {
                    key: {
                        "value": value,
                        "from": str(origin.place),
                        "replaced": str(origin.replaced.place) if origin.replaced else None,
                    }
                    for key, value, origin in values_with_origins(definition.document)
                }
                for kind, definition in found
            }
        )
        return
    for kind, definition in found:
        sys.stdout.write(f"{styled(kind, 'dim')} {styled(name, 'bold')}\n")
        rows = []
        for key, value, origin in values_with_origins(definition.document):
            place = str(origin.place).split(" [")[0]
            replaced = f", over {str(origin.replaced.place).split(' [')[0]}" if origin.replaced is not None else ""
            text = str(value).replace("\n", "⏎")
            rows.append((key, text if len(text) < 48 else text[:47] + "…", place + replaced))
        show_table(rows)
