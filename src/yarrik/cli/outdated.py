"""`yarrik outdated`: what has become of upstream since a recipe was written."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, ProductOption, SetOption, WithOption, WorkspaceOption, composed, names_of, opened
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.run import Standing


@app.command(
    epilog="Examples: [bold]yarrik outdated[/bold] · [bold]yarrik outdated zlib expat[/bold] · "
    "[bold]yarrik outdated --update zlib[/bold]"
)
def outdated(
    names: Annotated[
        list[str] | None,
        typer.Argument(metavar="RECIPE", help="Only these.", autocompletion=names_of("recipe"), show_default=False),
    ] = None,
    update: Annotated[
        str,
        typer.Option("--update", metavar="RECIPE", help="Takes what is newer of this one.", autocompletion=names_of("recipe")),
    ] = "",
    named: ProductOption = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:  # fmt: skip
    """Compares recipes with what their sources offer now: Debian archives, tags of repositories, files beside a download.

    With --update it changes the recipe (or the lock), brings the new sources here, and lays the recipe's patches on. If they do
    not fit, nothing is changed."""
    from yarrik.cli.view import ResolveView, print_json, show_table, show_warnings, styled
    from yarrik.run import standings

    if update:
        _update(update, named, variants, settings, workspace, json)
        return
    line = ResolveView(quiet=json, words="asked for {} of {} recipes")
    with opened(workspace) as session:
        composition = composed(session, named, variants, settings)
        total = len(names or ()) or len({node.recipe for node in session.planner.answer(composition).versions})
        done = 0

        def tell(name: str) -> None:
            nonlocal done
            done += 1
            line(done, total)

        try:
            found = standings(session, composition, names or (), tell)
        finally:
            line.close()
    old = [one for one in found if one.is_outdated]
    troubles = list(dict.fromkeys(one.trouble for one in found if one.trouble is not None))
    if json:
        print_json({"ok": not troubles, "product": composition.name, "recipes": [_as_json(one) for one in found],
                    "warnings": [one.as_json() for one in troubles]})  # fmt: skip
        return
    show_warnings(troubles)
    rows = []
    for one in old:
        new = styled(one.newest.version if one.newest is not None else one.revision, "yellow")
        kind = "new version" if one.newest is not None else "new revision"
        rows.append((one.recipe, one.have or one.version, "→", new, kind, one.origin, styled(one.shelf, "dim")))
    show_table(rows)
    asked = [one for one in found if one.origin and one.trouble is None]
    apart = len([one for one in found if not one.origin])
    words = f"{len(old)} of {counted(len(asked), 'recipe')} outdated"
    words += f"; {counted(apart, 'other')} {'has' if apart == 1 else 'have'} no source that can be asked" if apart else ""
    sys.stdout.write(f"{styled(composition.name, 'bold')}: {words}\n")
    if old:
        product = f" --product {named}" if named else ""
        sys.stdout.write(f"next: yarrik outdated --update {old[0].recipe}{product}\n")


def _as_json(one: Standing) -> dict[str, object]:
    newest = one.newest.version if one.newest is not None else None
    return {"recipe": one.recipe, "shelf": one.shelf, "version": one.version, "origin": one.origin or None,
            "have": one.have or None, "newest": newest, "revision": one.revision or None,
            "asked": bool(one.origin) and one.trouble is None}  # fmt: skip


def _update(
    name: str, product: str | None, variants: list[str] | None, settings: list[str] | None, workspace: Path | None, json: bool
) -> None:
    from yarrik.cli.view import BuildView, print_json, styled
    from yarrik.model import Overrides, find_workspace
    from yarrik.run import silent, update_recipe

    root = find_workspace((workspace or Path.cwd()).absolute())
    view = BuildView()
    try:
        change = update_recipe(
            root, product, Overrides.of(variants or (), os.environ, settings or ()), name, silent if json else view
        )
    finally:
        view.close()
    if json:
        print_json({"ok": True, "recipe": name, "before": change.before, "after": change.after, "difference": change.difference,
                    "checked": change.checked})  # fmt: skip
        return
    sys.stdout.write(change.difference)
    where = "in its file" if change.difference else "in yarrik.lock"
    sys.stdout.write(f"{styled(name, 'bold')}: {change.before} → {change.after} {where}; its sources are here")
    sys.stdout.write(", its patches fit\n" if change.checked.startswith("patch ") else "\n")
    sys.stdout.write("next: yarrik plan · yarrik build\n")
