"""`yarrik terms`: what recipes and shelves ask their users to accept."""

from __future__ import annotations

import datetime
import sys
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, ProductOption, WorkspaceOption, composed, opened

if TYPE_CHECKING:
    from yarrik.model import LocalSettings
    from yarrik.run import Session, Terms

group = typer.Typer(
    help="Lists, shows and accepts terms that recipes and shelves carry.",
    no_args_is_help=True,
    epilog="Examples: [bold]yarrik terms list[/bold] · [bold]yarrik terms accept modem-firmware[/bold]",
)
app.add_typer(group, name="terms")

NameArgument = Annotated[str, typer.Argument(metavar="NAME", help="The recipe or shelf that carries them.")]


@group.command("list", epilog="Example: [bold]yarrik terms list --product tide-gauge[/bold]")
def show_all(product: ProductOption = None, workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Lists all terms of the workspace, or those that a product is under, and which of them you have accepted."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.run import all_terms, state_of_terms, terms_of

    with opened(workspace) as session:
        settings = session.project.settings
        if product is not None:
            found = terms_of(session.planner.answer(composed(session, product, None, None)).composition)
        else:
            found = all_terms(session.project.workspace)
        states = [state_of_terms(one, settings) for one in found]
    if json:
        print_json({"ok": True, "terms": [
            {"kind": one.kind, "name": one.name, "file": str(one.file), "sha256": one.digest, "state": state}
            for one, state in zip(found, states, strict=True)]})  # fmt: skip
        return
    styles = {"accepted": "green", "open": "yellow", "changed": "yellow"}
    show_table([(styled(state, styles[state]), one.kind, styled(one.name, "bold"), _date(one, settings), one.place.short)
                for one, state in zip(found, states, strict=True)])  # fmt: skip
    if not found:
        sys.stdout.write("nothing here carries terms\n")
    waiting = next((one.name for one, state in zip(found, states, strict=True) if state != "accepted"), None)
    if waiting is not None:
        sys.stdout.write(f"next: yarrik terms show {waiting} · yarrik terms accept {waiting}\n")


def _date(terms: Terms, settings: LocalSettings) -> str:
    known = settings.terms.get(terms.key)
    return known.date if known is not None else ""


@group.command("show", epilog="Example: [bold]yarrik terms show modem-firmware[/bold]")
def show(name: NameArgument, workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Shows a text of terms, and its digest."""
    from yarrik.cli.view import print_json

    with opened(workspace) as session:
        found = _named(session, name)
    if json:
        print_json([{"kind": one.kind, "name": one.name, "sha256": one.digest, "text": one.text} for one in found])
        return
    for one in found:
        _print(one)


def _print(terms: Terms) -> None:
    from yarrik.cli.view import styled

    sys.stdout.write(f"{styled(terms.key, 'bold')}  {terms.place.short}\n\n{terms.text.rstrip()}\n\n")
    sys.stdout.write(f"sha256 {terms.digest}\n")


@group.command("accept", epilog="Example: [bold]yarrik terms accept modem-firmware[/bold]")
def accept(
    name: NameArgument,
    digest: Annotated[
        str,
        typer.Option("--digest", metavar="SHA256", help="The digest of the text that was read; asks nothing."),
    ] = "",
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Records in your settings that you accept a text of terms, with its digest and the day. A changed text asks again."""
    from yarrik.cli.view import print_json
    from yarrik.errors import Trouble, YarrikError, shown_path
    from yarrik.model import accept_terms

    with opened(workspace) as session:
        found = _named(session, name)
    if digest and any(one.digest != digest for one in found):
        known = " and ".join(one.digest for one in found)
        raise YarrikError(Trouble("TERMS-DIGEST", f"the terms of `{name}` have the SHA-256 {known}, and not {digest}",
                                  found[0].place, why="they are not the text that was read",
                                  remedy=f"yarrik terms show {name}"))  # fmt: skip
    if not digest:
        if json or not (sys.stdin.isatty() and sys.stdout.isatty()):
            raise YarrikError(Trouble("TERMS-OPEN", f"nobody is here who could read the terms of `{name}`", found[0].place,
                                      remedy=f"yarrik terms accept {name} --digest {found[0].digest}"))  # fmt: skip
        for one in found:
            _print(one)
        typed = typer.prompt(f"\nTo accept, type `{name}`", default="", show_default=False)
        if typed.strip() != name:
            sys.stdout.write("not accepted\n")
            raise typer.Exit(1)
    today = datetime.date.today().isoformat()
    file = [accept_terms(one.key, one.digest, today) for one in found][-1]
    if json:
        print_json({"ok": True, "file": str(file), "terms": [{"name": one.key, "sha256": one.digest} for one in found]})
        return
    sys.stdout.write(f"accepted, and written to {shown_path(file)}\nnext: yarrik check\n")


def _named(session: Session, name: str) -> list[Terms]:
    from yarrik.errors import Trouble, YarrikError, suggestion
    from yarrik.run import all_terms

    known = all_terms(session.project.workspace)
    kind, _, plain = name.rpartition(":")
    found = [one for one in known if one.name == plain and kind in ("", one.kind)]
    if not found:
        raise YarrikError(Trouble("TERMS-UNKNOWN", f"nothing here carries terms by the name `{name}`",
                                  remedy=suggestion(name, {one.name for one in known})))  # fmt: skip
    return found
