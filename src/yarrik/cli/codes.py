"""`yarrik codes`: what a code means."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption


def _complete(incomplete: str) -> list[str]:
    from yarrik.codes import CODES

    return [code for code in CODES if code.startswith(incomplete.upper())]


@app.command(epilog="Example: [bold]yarrik codes BOOT-CONSOLE[/bold]")
def codes(
    code: Annotated[str | None, typer.Argument(help="One code, or its beginning.", autocompletion=_complete)] = None,
    markdown: Annotated[bool, typer.Option("--markdown", help="Prints the whole catalogue as a page.")] = False,
    json: JsonOption = False,
) -> None:
    """Says what the codes in messages mean, when they are met, and whether they stop the work."""
    from dataclasses import asdict

    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.codes import CODES, as_markdown
    from yarrik.errors import Trouble, YarrikError, suggestion

    if markdown:
        sys.stdout.write(as_markdown())
        return
    found = [one for one in CODES.values() if code is None or one.code.startswith(code.upper())]
    if not found:
        raise YarrikError(Trouble("NAME-UNKNOWN", f"there is no code `{code}`", remedy=suggestion(str(code).upper(), CODES)))
    if json:
        print_json({"ok": True, "codes": [asdict(one) for one in found]})
        return
    show_table([(styled(one.code, "bold"), one.stage, one.severity, one.meaning) for one in found])
