"""`yarrik check`: all that can fail later, now."""

from __future__ import annotations

import os
import sys
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import (
    JsonOption,
    ProductArgument,
    ProductOption,
    SetOption,
    WithOption,
    WorkspaceOption,
    opened,
)
from yarrik.units import counted

if TYPE_CHECKING:
    from collections.abc import Iterable

    from yarrik.model import Overrides
    from yarrik.run import Examination, Row, Session

_STYLES = {"ok": "green", "advice": "yellow", "stop": "red"}


@app.command(
    epilog="Example: [bold]yarrik check tide-gauge[/bold] before a long build; [bold]yarrik check --all[/bold] before a commit."
)
def check(
    product: ProductArgument = None,
    named: ProductOption = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
    everything: Annotated[
        bool, typer.Option("--all", help="Checks all products, and definitions that no product uses.")
    ] = False,
    boot: Annotated[bool, typer.Option("--boot", help="Looks for the board's emulator too.")] = False,
    online: Annotated[bool, typer.Option("--online", help="Asks servers for sources that are not here yet.")] = False,
) -> None:
    """Checks what could stop a build of a product: this machine, definitions, shelves, terms, sources. Builds nothing."""
    from yarrik.cli.view import print_json, show_warnings, styled
    from yarrik.errors import Trouble, YarrikError
    from yarrik.model import Overrides
    from yarrik.run import examine_product

    overrides = Overrides.of(variants or (), os.environ, settings or ())
    with opened(workspace) as session:
        if everything:
            if product or named:
                raise YarrikError(
                    Trouble("CHECK-ALL", "--all checks every product, and one is named", remedy="leave one of them out")
                )
            _check_all(session, overrides, boot, online, json)
            return
        found = examine_product(session, product or named, overrides, boot, online)
    if json:
        print_json(_as_json(found))
        if found.stops:
            raise typer.Exit(YarrikError(found.stops, found.fault).exit_code)
        return
    name = found.composition.name if found.composition is not None else product or named or "the workspace"
    if found.stops:
        summary = f"{counted(len(found.stops), 'error')}, a build would stop"
    else:
        summary = counted(len(found.warnings), "warning") if found.warnings else "no problem found"
    sys.stdout.write(f"{styled(name, 'bold')}: {summary}\n")
    _show_rows(found.rows)
    if found.planned is not None:
        recipes = [str(node) for node in found.planned.graph.nodes]
        sys.stdout.write(f"builds {', '.join(recipes)}, in {counted(len(found.planned.graph.steps), 'step')}\n")
    show_warnings(found.warnings)
    if found.stops:
        raise YarrikError(found.stops, found.fault)
    if found.composition is not None:
        sys.stdout.write(f"next: yarrik build {found.composition.name}\n")


def _show_rows(rows: Iterable[Row]) -> None:
    from yarrik.cli.terminal import one_line
    from yarrik.cli.view import show_table, styled

    lines: list[tuple[str, str, str]] = []
    for row in rows:
        lines.append((styled(row.verdict, _STYLES[row.verdict]), row.topic, one_line(row.text)))
        if row.next_:
            lines.append(("", "", styled(f"next: {one_line(row.next_)}", "dim")))
    show_table(lines)


def _as_json(found: Examination) -> dict[str, object]:
    rows = [{"verdict": row.verdict, "topic": row.topic, "text": row.text, "next": row.next_} for row in found.rows]
    whole: dict[str, object] = {"ok": not found.stops, "rows": rows}
    composition, planned = found.composition, found.planned
    if composition is not None:
        whole |= {"product": composition.name, "board": composition.board.name, "profile": composition.profile.name,
                  "image": composition.image.name}  # fmt: skip
    if planned is not None:
        whole |= {
            "order": [str(node) for node in planned.graph.nodes],
            "toolchains": {side: one.shown for side, one in sorted(planned.surroundings.toolchains.items())},
            "programs": sorted(planned.graph.programs),
            "steps": len(planned.graph.steps),
        }
    if found.stops:
        whole["troubles"] = [trouble.as_json() for trouble in found.stops]
    return {**whole, "warnings": [trouble.as_json() for trouble in found.warnings]}


def _check_all(session: Session, overrides: Overrides, boot: bool, online: bool, json: bool) -> None:
    """Every definition, then every product; all errors together at the end."""
    from yarrik.cli.view import print_json, show_warnings
    from yarrik.errors import Collector, YarrikError
    from yarrik.plan import unknown_build_systems
    from yarrik.run import Examination, Row, examine_machine, examine_product, examine_workspace

    whole = Examination()
    examine_machine(session, whole)
    names: list[str] = []
    if examine_workspace(session, whole):
        workspace = session.project.workspace
        collector = Collector()
        try:
            workspace.check()
        except YarrikError as error:
            collector.extend(error.troubles)
        collector.extend(unknown_build_systems(workspace))
        whole.stop("definitions", YarrikError(collector.troubles))
        for name in sorted(workspace.shelved["product"]):
            found = examine_product(session, name, overrides, boot, online)
            new = [one for one in found.warnings if one.code != "DEFINITIONS-BROKEN" and one not in whole.warnings]
            stops = [one for one in found.stops if one not in whole.stops]
            whole.warnings += new
            whole.stops += stops
            names.append(name)
            if found.stops:
                whole.rows.append(Row("stop", name, counted(len(found.stops), "error"), f"yarrik check {name}"))
            elif new:
                whole.rows.append(Row("advice", name, counted(len(new), "warning"), f"yarrik check {name}"))
            else:
                whole.ok(name, "no problem found")
    if json:
        print_json({**_as_json(whole), "products": names})
        raise typer.Exit(2 if whole.stops else 0)
    _show_rows(whole.rows)
    show_warnings(whole.warnings)
    if whole.stops:
        raise YarrikError(whole.stops, whole.fault)
