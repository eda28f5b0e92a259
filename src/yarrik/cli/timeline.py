"""`yarrik timeline`: the last build over time."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

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
    question_of,
)
from yarrik.units import counted


@app.command(epilog="Examples: [bold]yarrik timeline[/bold] · [bold]yarrik timeline --figure build.png[/bold]")
def timeline(
    product: ProductArgument = None,
    named: ProductOption = None,
    figure: Annotated[Path | None, typer.Option(metavar="FILE", help="Draws it into a file: .png, .svg or .pdf.")] = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Shows the last build that ran anything: what took longest, and the critical path."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.errors import Trouble, YarrikError, shown_path
    from yarrik.report import longest_way, timeline_figure
    from yarrik.run import known_before

    if figure is not None and figure.suffix not in (".png", ".svg", ".pdf"):
        raise YarrikError(Trouble("FORM-UNKNOWN", f"`{figure.name}` does not tell in which form to draw",
                                  remedy="let its name end in .png, .svg or .pdf"))  # fmt: skip
    with opened(workspace) as session:
        known = known_before(question_of(workspace, product or named, variants, settings))
        name = known.product if known is not None else composed(session, product or named, variants, settings).name
        spans = session.records.timeline(name)
    way = longest_way(spans)
    if figure is not None:
        timeline_figure(name, spans, figure)
        sys.stdout.write(f"{shown_path(figure.absolute())}\n")
        return
    if json:
        rows = [{"step": one.step, "began": round(one.began, 3), "seconds": round(one.seconds, 3), "failed": one.failed}
                for one in spans]  # fmt: skip
        print_json({"ok": True, "product": name, "steps": rows, "longest-way": [one.step for one in way]})
        return
    end = max(one.ended for one in spans)
    sys.stdout.write(f"{styled(name, 'bold')}: {counted(len(spans), 'step')} ran in {end:.1f} s\n")
    taken = sum(one.seconds for one in way)
    sys.stdout.write(f"critical path: {counted(len(way), 'step')}, {taken:.1f} s\n")
    show_table(
        [
            (_bar(one.began, one.ended, end), f"{one.seconds:7.2f} s", one.step + ("  failed" if one.failed else ""))
            for one in way
        ]
    )
    beside = sorted((one for one in spans if one not in way), key=lambda one: (-one.seconds, one.step))[:8]
    if beside:
        sys.stdout.write("beside it, what took longest\n")
        show_table([(_bar(one.began, one.ended, end), f"{one.seconds:7.2f} s", one.step) for one in beside])


def _bar(began: float, ended: float, whole: float, width: int = 40) -> str:
    """Where a step lies in the build."""
    first = min(width - 1, int(began / whole * width))
    last = max(first + 1, min(width, round(ended / whole * width)))
    return "·" * first + "█" * (last - first) + "·" * (width - last)
