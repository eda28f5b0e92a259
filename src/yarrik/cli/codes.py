"""`yarrik codes`, `yarrik explain`: what a code means, an example of it, and the way out."""

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
    from msgspec.structs import asdict

    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.code_help import as_markdown
    from yarrik.codes import CODES
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
    sys.stdout.write(f"next: yarrik explain {found[0].code}\n")


@app.command(epilog="Example: [bold]yarrik explain BOOT-CONSOLE[/bold]")
def explain(
    code: Annotated[list[str], typer.Argument(help="Codes of messages.", autocompletion=_complete)],
    json: JsonOption = False,
) -> None:
    """Explains codes of messages: what each means, an example of how it is met, and the way out."""
    from msgspec.structs import asdict

    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.code_help import HELP
    from yarrik.codes import CODES
    from yarrik.errors import Trouble, YarrikError, suggestion

    for word in code:
        if word.upper() not in CODES:
            raise YarrikError(Trouble("NAME-UNKNOWN", f"there is no code `{word}`", remedy=suggestion(word.upper(), CODES)))
    found = [CODES[word.upper()] for word in code]
    if json:
        print_json({"ok": True, "codes": [{**asdict(one), **asdict(HELP[one.code])} for one in found]})
        return
    for one in found:
        ends = "a build stops" if one.severity == "stop" else "a warning; a product can silence it, with the reason"
        sys.stdout.write(f"{styled(one.code, 'bold')}  {one.meaning}\n")
        rows = [("met", f"at {one.stage}: {ends}"), ("example", HELP[one.code].example), ("way out", HELP[one.code].way_out)]
        show_table([(styled(word, "dim"), text) for word, text in rows])
