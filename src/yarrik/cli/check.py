"""`yarrik check`: all that can fail later, now."""

from __future__ import annotations

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
    composed,
    opened,
)
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.run import Session


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
) -> None:
    """Checks definitions, order, sources, compilers and host programs of a product. Builds nothing."""
    from yarrik.cli.view import print_json, show_table, show_warnings, styled
    from yarrik.errors import Trouble, YarrikError

    with opened(workspace) as session:
        if everything:
            if product or named:
                raise YarrikError(
                    Trouble("CHECK-ALL", "--all checks every product, and one is named", remedy="leave one of them out")
                )
            _check_all(session, variants, settings, json)
            return
        composition = composed(session, product or named, variants, settings)
        planned = session.planner.planned(composition)
        session.planner.check_programs(planned)
        session.planner.check_terms(planned)
        warnings = session.planner.warnings(planned)
        graph = planned.graph
        toolchains = sorted((side, toolchain.shown) for side, toolchain in planned.surroundings.toolchains.items())
    names = [str(node) for node in graph.order.nodes]
    if json:
        print_json(
            {
                "ok": True,
                "product": composition.name,
                "board": composition.board.name,
                "profile": composition.profile.name,
                "image": composition.image.name,
                "order": names,
                "toolchains": dict(toolchains),
                "programs": sorted(graph.programs),
                "steps": len(graph.steps),
                "warnings": [trouble.as_json() for trouble in warnings],
            }
        )
        return
    summary = counted(len(warnings), "warning") if warnings else "no problem found"
    sys.stdout.write(f"{styled(composition.name, 'bold')}: {summary}\n")
    rows = [
        ("board", composition.board.name),
        ("profile", composition.profile.name),
        ("image", composition.image.name),
        *((f"{side} compiler", shown) for side, shown in toolchains),
        ("programs", ", ".join(sorted(graph.programs))),
        ("build order", ", ".join(names)),
        ("steps", str(len(graph.steps))),
    ]
    show_table(rows)
    show_warnings(warnings)


def _check_all(session: Session, variants: list[str] | None, settings: list[str] | None, json: bool) -> None:
    """Every definition, then every product; all errors together at the end."""
    from yarrik.cli.view import print_json, show_table, show_warnings
    from yarrik.errors import Collector, YarrikError
    from yarrik.plan import unknown_build_systems

    collector, warnings = Collector(), Collector()
    results: list[tuple[str, str]] = []
    try:
        session.project.workspace.check()
    except YarrikError as error:
        collector.extend(error.troubles)
    collector.extend(unknown_build_systems(session.project.workspace))
    for name in sorted(session.project.workspace.shelved["product"]):
        try:
            planned = session.planner.planned(composed(session, name, variants, settings))
            session.planner.check_programs(planned)
            found = [one for one in session.planner.warnings(planned) if one.code != "DEFINITIONS-BROKEN"]
        except YarrikError as error:
            collector.extend(error.troubles)
            results.append((name, "errors"))
            continue
        warnings.extend(found)
        results.append((name, counted(len(found), "warning") if found else "no problem found"))
    if json and not collector.troubles:
        print_json(
            {"ok": True, "products": [name for name, _ in results], "warnings": [one.as_json() for one in warnings.troubles]}
        )
    elif not json:
        show_table([*results, ("definitions", str(sum(len(kind) for kind in session.project.workspace.shelved.values())))])
        show_warnings(warnings.troubles)
    collector.raise_if_any()
