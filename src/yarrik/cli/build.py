"""`yarrik build`, `yarrik plan`."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import (
    JsonOption,
    LockedOption,
    ProductArgument,
    ProductOption,
    SandboxOption,
    SetOption,
    WithOption,
    WorkspaceOption,
    composed,
    opened,
)
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.model import Composition
    from yarrik.plan import Assessment
    from yarrik.run import BuildReport, Session


@app.command(
    epilog="Examples: [bold]yarrik build[/bold] · [bold]yarrik build tide-office --jobs 4 --keep-going[/bold] · "
    "[bold]yarrik build --with display[/bold]"
)
def build(
    product: ProductArgument = None,
    named: ProductOption = None,
    jobs: Annotated[int | None, typer.Option(min=1, help="Steps at a time, and jobs of each; as many as processors.")] = None,
    keep_going: Annotated[
        bool, typer.Option("--keep-going", help="Continues with all steps that do not need a failed one.")
    ] = False,
    until: Annotated[
        str | None,
        typer.Option(metavar="STEP", help="Runs one step with what it needs."),
    ] = None,
    renew_lock: Annotated[
        bool, typer.Option("--renew-lock", help="Accepts sources that changed since yarrik.lock was written.")
    ] = False,
    locked: LockedOption = False,
    offline: Annotated[bool, typer.Option("--offline", help="Downloads nothing; `yarrik fetch` does that beforehand.")] = False,
    no_sandbox: SandboxOption = False,
    clean_room: Annotated[
        bool, typer.Option("--clean-room", help="Uses no cache, and lets nothing of your environment in: all steps run.")
    ] = False,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: Annotated[bool, typer.Option("--json", help="Prints events as lines of JSON; the last one is the report.")] = False,
) -> None:
    """Builds a product: runs the steps that have to run, and writes images and manifests to out/PRODUCT."""
    from yarrik.cli.view import BuildView, EventLines, print_line, show_error
    from yarrik.run import Choices

    choices = Choices(renew_lock, not no_sandbox, locked, offline, clean_room)
    with opened(workspace, choices) as session:
        composition = composed(session, product or named, variants, settings)
        view = EventLines() if json else BuildView()
        try:
            report = session.builder.build(session.planner.planned(composition), jobs, keep_going, view, until)
        finally:
            view.close()
    if json:
        print_line({"event": "end", **report_as_json(report)})
        raise typer.Exit(1 if report.errors else 0)
    for error in report.errors:
        show_error(error, as_json=False)
    if until is not None and not report.errors:
        ran = len(report.ran)
        text = f"{until} is done: {ran} ran, {len(report.steps) - ran} kept; nothing was written to out/"
        sys.stdout.write(f"{report.product}: {text}\n")
        raise typer.Exit(0)
    show_report(report)
    raise typer.Exit(1 if report.errors else 0)


@app.command(
    epilog="Examples: [bold]yarrik fetch[/bold] · [bold]yarrik fetch --digest https://example.org/tide-1.0.tar.xz[/bold]"
)
def fetch(
    product: ProductArgument = None,
    named: ProductOption = None,
    digest: Annotated[
        str | None, typer.Option(metavar="URL", help="Prints the SHA-256 of the file at URL, for a recipe.")
    ] = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Brings all sources of a product here, so that a build needs no network: then `yarrik build --offline`."""
    import tempfile
    from pathlib import Path

    from yarrik.cli.view import BuildView, EventLines, print_json, print_line
    from yarrik.errors import Trouble, Unfit, YarrikError
    from yarrik.model import check_url, load_settings
    from yarrik.sources import digest_of_url
    from yarrik.units import shown_size

    if digest is not None:
        try:
            check_url(digest)
        except Unfit as error:
            raise YarrikError(Trouble("USAGE", str(error), remedy="yarrik fetch --digest https://HOST/FILE")) from error
        with tempfile.TemporaryDirectory(prefix="yarrik-") as folder:
            value, size = digest_of_url(digest, Path(folder), load_settings(None)[0].redirect_hosts)
        if json:
            print_json({"ok": True, "url": digest, "sha256": value, "bytes": size})
        else:
            sys.stdout.write(f'sha256 = "{value}"\n# {shown_size(size)}; make sure by other means that it is the right file\n')
        return
    with opened(workspace) as session:
        composition = composed(session, product or named, variants, settings)
        view = EventLines() if json else BuildView()
        try:
            steps = session.builder.fetch(session.planner.planned(composition), view)
        finally:
            view.close()
    if json:
        print_line({"event": "end", "ok": True, "product": composition.name, "fetched": [step.subject for step in steps]})
        return
    sources = f"sources of {counted(len(steps), 'recipe')} are here"
    sys.stdout.write(f"{composition.name}: {sources}; yarrik build --offline needs no network\n")


def show_report(report: BuildReport, hint: bool = True) -> None:
    """The end of a build: what happened, what lies where, what to type next."""
    from yarrik.cli.view import fitted, show_notes, show_warnings, styled
    from yarrik.errors import shown_path
    from yarrik.units import shown_size

    show_warnings(report.troubles)
    kept = sum(step.how == "kept" for step in report.steps)
    if report.errors:
        left = sum(step.how == "not reached" for step in report.steps)
        failed = len(report.errors)
        show_notes(report.notes)
        _show_tool_warnings(report)
        text = f"{counted(failed, 'step')} failed, {left} not reached; nothing was written to out/"
        sys.stdout.write(f"{styled(report.product, 'bold')}: {text}\n")
        return
    if not report.ran and not report.published:
        show_notes(report.notes)
        sys.stdout.write(
            f"{styled(report.product, 'bold')}: nothing to do, all {kept} steps are kept ({report.seconds:.2f} s)\n"
        )
        return
    show_notes(report.notes)
    _show_tool_warnings(report)
    sys.stdout.write(f"{styled(report.product, 'bold')}: {_what_ran(report)}, in {_took(report.seconds)}{_saving(report)}\n")
    _show_traffic(report)
    others = []
    files = [file for file in sorted(report.out.iterdir()) if file.is_file() and not file.name.startswith(".")]
    images = [file for file in files if file.suffix == ".img"]
    for file in files:
        image = next((image for image in images if file.name.startswith(image.name)), None)
        if file == image:
            beside = [other for other in files if other.name.startswith(file.name) and other != file]
            more = "".join(f", {other.name[len(file.name) :]} {shown_size(other.stat().st_size)}" for other in beside)
            sys.stdout.write(f"  {shown_path(file)}  {shown_size(file.stat().st_size)}{more}\n")
        elif image is None and file.name != "boot.log":
            others.append(file.name)
    sys.stdout.write(f"  beside it: {', '.join(others)}\n")
    if report.story:
        sys.stdout.write("  " + fitted(f"bench board: {report.story[-1].text} (boot-story.txt)", 4) + "\n")
    if hint:
        sys.stdout.write(f"next: yarrik boot {report.product}\n")


def _what_ran(report: BuildReport) -> str:
    count = {how: sum(step.how == how for step in report.steps) for how in ("kept", "shared")}
    same = sum(step.same for step in report.ran)
    parts = [f"{counted(len(report.ran), 'step')} ran" + (f" ({same} with the same result)" if same else "")]
    parts += [f"{count['shared']} came from a shared cache"] if count["shared"] else []
    return ", ".join([*parts, f"{count['kept']} kept"])


def _show_traffic(report: BuildReport) -> None:
    from yarrik.units import shown_size

    traffic = report.traffic
    parts = [f"{traffic.brought} results ({shown_size(traffic.brought_bytes)}) came"] if traffic.brought else []
    parts += [f"{traffic.sent} ({shown_size(traffic.sent_bytes)}) were sent"] if traffic.sent else []
    if parts:
        sys.stdout.write(f"  shared caches: {', '.join(parts)}\n")


def _saving(report: BuildReport) -> str:
    return f"; about {_took(report.saved)} saved" if report.saved >= 1 else ""


def _took(seconds: float) -> str:
    from yarrik.units import shown_seconds

    return f"{seconds:.1f} s" if seconds < 60 else shown_seconds(seconds)


def _show_tool_warnings(report: BuildReport) -> None:
    """How often the tools warned, and those warnings behind which there is nearly always a fault."""
    from yarrik.cli.view import styled

    found = report.warnings
    if not found.count:
        return
    places = f"{counted(found.count, 'warning')} of the tools"
    recipes = f"{counted(found.recipes, 'recipe')}"
    tail = "; look at these:" if found.grave else " (none of a kind that usually hides a fault)"
    sys.stdout.write(f"{styled('note', 'yellow')}  {places}, in {recipes}{tail}\n")
    for one in found.grave:
        sys.stdout.write(f"      {one.subject}  {one.where}  {one.text}\n")


def report_as_json(report: BuildReport) -> dict[str, object]:
    from dataclasses import asdict

    return {
        "ok": not report.errors,
        "product": report.product,
        "out": str(report.out),
        "seconds": round(report.seconds, 3),
        "changed": report.published,
        "saved": round(report.saved, 3),
        "traffic": asdict(report.traffic),
        "notes": list(report.notes),
        "tool-warnings": {
            "count": report.warnings.count,
            "recipes": report.warnings.recipes,
            "grave": [{"recipe": one.subject, "where": one.where, "what": one.text} for one in report.warnings.grave],
        },
        "steps": [
            {
                "step": step.step.name,
                "how": step.how,
                "same": step.same,
                "reason": step.reason,
                "seconds": round(step.seconds, 3),
                "fingerprint": step.fingerprint,
            }
            for step in report.steps
        ],
        "troubles": [trouble.as_json() for error in report.errors for trouble in error.troubles],
        "warnings": [trouble.as_json() for trouble in report.troubles],
    }


def _show_why(session: Session, composition: Composition, step: str, json: bool) -> None:
    from yarrik.cli.view import print_json, show_table, styled

    one, rows, waits = session.planner.why_runs(session.planner.planned(composition), step)
    if json:
        differences = [{"what": what, "before": before, "after": after} for what, before, after in rows]
        print_json({"ok": True, "product": composition.name, "step": step, "verdict": one.verdict, "reason": one.reason,
                    "differences": differences, "waits": waits})  # fmt: skip
        return
    sys.stdout.write(f"{styled(step, 'bold')} {one.verdict}{': ' + one.reason if one.reason else ''}\n")
    for what, before, after in rows:
        if len(before) + len(after) < 70:
            show_table([(what, f"{before or 'nothing'} → {after or 'nothing'}" if after != "differs" else f"{before} differs")])
        else:
            show_table([(what, "before", before), ("", "now", after)])
    if waits:
        sys.stdout.write(f"  not known yet: what {', '.join(waits)} will leave\n")


@app.command(epilog="Example: touch a source, then [bold]yarrik plan[/bold] names the file and all that waits for it.")
def plan(
    product: ProductArgument = None,
    named: ProductOption = None,
    every: Annotated[bool, typer.Option("--all", help="Lists kept steps too.")] = False,
    why: Annotated[
        str | None,
        typer.Option("--why", metavar="STEP", help="All in which a step differs from its last run."),
    ] = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Tells which steps a build would run, and the reason for each. Runs nothing."""
    from yarrik.cli.view import print_json, show_table, styled

    with opened(workspace) as session:
        composition = composed(session, product or named, variants, settings)
        if why is not None:
            _show_why(session, composition, why, json)
            return
        found = session.planner.assess(session.planner.planned(composition))
    if json:
        print_json(
            {
                "ok": True,
                "product": composition.name,
                "steps": [
                    {"step": a.step.name, "verdict": a.verdict, "reason": a.reason, "causes": list(a.causes)}
                    for a in found
                    if every or a.verdict != "kept"
                ],
            }
        )
        return
    counts = {verdict: sum(a.verdict == verdict for a in found) for verdict in ("runs", "may run", "kept")}
    name = styled(composition.name, "bold")
    if counts["runs"] == 0 and counts["may run"] == 0:
        sys.stdout.write(f"{name}: nothing would run, all {counts['kept']} steps are kept\n")
    else:
        would = f"{counted(counts['runs'], 'step')} would run, {counts['may run']} may run"
        sys.stdout.write(f"{name}: {would}, {counts['kept']} are kept\n")
    listed = [a for a in found if a.verdict == "runs" or (every and a.verdict == "kept")]
    show_table([(styled(a.verdict, "green" if a.verdict == "runs" else "dim"), a.step.name, a.reason) for a in listed])
    waiting: dict[str, list[Assessment]] = {}
    for a in found:
        if a.verdict == "may run":
            waiting.setdefault(a.step.subject, []).append(a)
    if waiting:
        sys.stdout.write("these run too, unless what they wait for stays the same:\n")
        rows = []
        for subject, steps in waiting.items():
            causes = list(dict.fromkeys(cause for a in steps for cause in a.causes))
            more = f" and {len(causes) - 1} more" if len(causes) > 1 else ""
            what = f"{', '.join(a.step.kind for a in steps)} {subject}"
            rows.append((styled("may run", "yellow"), what, f"{causes[0]}{more}" if causes else ""))
        show_table(rows)
