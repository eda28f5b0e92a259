"""`yarrik check`: all that can fail later, now."""

from __future__ import annotations

import sys

from yarrik.cli import app
from yarrik.cli.options import JsonOption, ProductArgument, SetOption, WithOption, WorkspaceOption, composed, opened


@app.command(epilog="Example: [bold]yarrik check tide-gauge[/bold] before a long build.")
def check(
    product: ProductArgument = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Checks definitions, order, sources, compilers and host programs of a product. Builds nothing."""
    from yarrik.cli.view import print_json, show_table, show_warnings, styled

    with opened(workspace) as session:
        composition = composed(session, product, variants, settings)
        graph = session.graph(composition)
        session.check_programs(graph)
        warnings = session.warnings(composition)
        toolchains = sorted((side, toolchain.shown) for side, toolchain in session.toolchains.items())
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
    counted = f"{len(warnings)} warning{'s' if len(warnings) != 1 else ''}" if warnings else "no trouble found"
    sys.stdout.write(f"{styled(composition.name, 'bold')}: {counted}\n")
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
