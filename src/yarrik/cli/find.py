"""`yarrik find`: what there is."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, WorkspaceOption, opened


@app.command(epilog="Examples: [bold]yarrik find chart[/bold] · [bold]yarrik find libtide.so[/bold]")
def find(
    word: Annotated[str, typer.Argument(help="A word, or a part of one.")],
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Searches recipes, packages, options, roles, boards, images, products, and the files of earlier builds."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.errors import Trouble, YarrikError, shown_path, suggestion
    from yarrik.model import find, known_words

    with opened(workspace) as session:
        found = find(session.project.workspace, word)
        known = known_words(session.project.workspace)
    if not found:
        raise YarrikError(
            Trouble("NOT-FOUND", f"nothing here is called or described by `{word}`", remedy=suggestion(word, known, most=0))
        )
    if json:
        print_json([{"kind": one.kind, "name": one.name, "what": one.what, "file": str(one.place.file)} for one in found])
        return
    most = 40
    rows = [(styled(one.kind, "dim"), styled(one.name, "bold"), one.what, shown_path(one.place.file) if one.place.file else "")
            for one in found[:most]]  # fmt: skip
    show_table(rows)
    if len(found) > most:
        sys.stdout.write(f"  … and {len(found) - most} more: --json lists all\n")
    sys.stdout.write(f"next: yarrik show {found[0].name.split('[')[0]}\n" if found[0].kind != "file" else "")
