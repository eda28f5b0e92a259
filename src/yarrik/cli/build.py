"""`yarrik build`, `yarrik plan`."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import msgspec
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
    names_of,
    opened,
    question_of,
)
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.model import Composition
    from yarrik.plan import Assessment
    from yarrik.run import BuildReport, FewChanges, KeptBuild, Question, Session, StepRow


@app.command(
    epilog="Examples: [bold]yarrik build[/bold] · [bold]yarrik build tide-office --jobs 4 --keep-going[/bold] · "
    "[bold]yarrik build --with display[/bold] · [bold]yarrik build gauge.toml[/bold]"
)
def build(
    products: Annotated[
        list[str] | None,
        typer.Argument(metavar="[PRODUCT…]", help="Products, or the file of one (.toml); without any the workspace's choice.",
                       autocompletion=names_of("product")),
    ] = None,
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
    folder: Annotated[
        Path | None, typer.Option("--in", metavar="FOLDER", help="Of a product's file: where its workspace is made.")
    ] = None,
    shelves_only: Annotated[
        bool, typer.Option("--shelves-only", help="Of a product's file: brings its shelves here, and builds nothing.")
    ] = False,
    workspace: WorkspaceOption = None,
    json: Annotated[bool, typer.Option("--json", help="Prints events as lines of JSON; the last one is the report.")] = False,
) -> None:  # fmt: skip
    """Builds products: runs the steps that have to run, and writes images and manifests to out/PRODUCT.

    A product's file names its shelves too: the whole image from one file. Its workspace is made beside it."""
    from time import monotonic

    from yarrik.errors import Trouble, YarrikError

    began = monotonic()
    wanted = [*(products or ()), *([named] if named else ())]
    files = [Path(one) for one in wanted if one.endswith(".toml")]
    if files and len(files) < len(wanted):
        raise YarrikError(Trouble("USAGE", "products of a workspace and product files do not go together",
                                  remedy="build the file by itself: yarrik build " + str(files[0])))  # fmt: skip
    if (folder is not None and len(files) != 1) or (shelves_only and not files):
        raise YarrikError(Trouble("USAGE", "--in and --shelves-only are for one product file", remedy="yarrik build FILE.toml"))
    asked = _Asked(jobs, keep_going, until, variants, settings, json)
    question = None
    if not files and len(wanted) < 2 and not (until or renew_lock or clean_room):
        question = question_of(workspace, wanted[0] if wanted else None, variants, settings, not no_sandbox, locked, offline)
        from yarrik.run import KeptBuild, asked_before

        found = asked_before(question)
        if isinstance(found, KeptBuild):
            _show_kept(found, json, began)
            return
        if found is not None and (report := _rebuilt(found, asked, began)) is not None:
            raise typer.Exit(1 if report.errors else 0)
    from yarrik.run import Choices, watched

    choices = Choices(renew_lock, not no_sandbox, locked, offline, clean_room)
    ended: list[BuildReport] = []
    if files:
        for file in files:
            root = _shelves_of(file.absolute(), folder, json)
            if not shelves_only:
                with opened(root, choices) as session:
                    ended.append(_build_one(session, None, asked, whole=len(files) == 1))
    else:
        with opened(workspace, choices) as session:
            with watched() as watch:
                compositions = [composed(session, one, variants, settings) for one in wanted or [None]]
                if question is not None:
                    session.planner.planned(compositions[0])
            for composition in compositions:
                ended.append(_build_one(session, composition, asked, len(compositions) == 1, question))
            if question is not None and not ended[0].errors:
                planned = session.planner.planned(compositions[0])
                session.builder.remember(question, watch, planned, ended[0], head_as_json)
    if len(ended) > 1 and until is None:
        _show_all(ended, json)
    raise typer.Exit(1 if any(report.errors for report in ended) else 0)


class _Asked(msgspec.Struct, frozen=True):
    """What a build was asked for besides its product."""

    jobs: int | None
    keep_going: bool
    until: str | None
    variants: list[str] | None
    settings: list[str] | None
    json: bool


def _show_kept(kept: KeptBuild, json: bool, began: float) -> None:
    """Shows a build that has nothing to do because nothing has changed since the last one."""
    from time import monotonic

    if json:
        from msgspec.json import decode

        from yarrik.cli.view import print_line

        report = decode(kept.report)
        report["seconds"] = round(monotonic() - began, 3)
        report["steps"] = [step_as_json(name, "kept", fingerprint) for name, fingerprint in kept.by_name]
        print_line({"event": "end", **report})
    else:
        _show_nothing_to_do(kept.product, len(kept.steps), kept.notes, monotonic() - began)


def _rebuilt(changed: FewChanges, asked: _Asked, began: float) -> BuildReport | None:
    """Builds what follows from sources that have changed, and shows how it ended; None when all has to be planned."""
    from yarrik.cli.view import BuildView, EventLines
    from yarrik.run import Choices, Rebuilder

    question = changed.question
    choices = Choices(False, question.use_sandbox, question.locked, question.offline)
    with opened(question.root, choices) as session:
        view = EventLines() if asked.json else BuildView()
        try:
            report = Rebuilder(session.project, changed, began, head_as_json).build(asked.jobs, asked.keep_going, view)
        finally:
            view.close()
        if report is not None:
            _show_end(report, asked, whole=True)
        return report


def _show_nothing_to_do(product: str, kept: int, notes: Sequence[str], seconds: float) -> None:
    from yarrik.cli.view import show_notes, styled

    show_notes(notes)
    sys.stdout.write(f"{styled(product, 'bold')}: nothing to do, all {kept} steps are kept ({seconds:.2f} s)\n")


def _shelves_of(file: Path, folder: Path | None, json: bool) -> Path:
    """The workspace of a product file, with all its shelves."""
    from yarrik.cli.view import print_line
    from yarrik.errors import Place, Trouble, YarrikError, found_nearby, shown_path
    from yarrik.model import settings_at
    from yarrik.run import Shelves, cache_folder, workspace_for

    if not file.is_file():
        raise YarrikError(Trouble("FILE-UNREADABLE", f"there is no product file {shown_path(file)}", Place(file),
                                  remedy=found_nearby(file, "name a product, or the .toml file of one")))  # fmt: skip
    root = workspace_for(file, folder.absolute() if folder is not None else None)
    shelves = Shelves(root, cache_folder(root, settings_at(root)))
    found = shelves.sync([], update=False) if shelves.from_git else []
    if json:
        print_line({"event": "shelves", "workspace": str(root), "shelves": [
            {"name": one.name, "became": one.became, "commit": one.commit} for one in found]})  # fmt: skip
        return root
    sys.stdout.write(f"workspace of {file.name}: {shown_path(root)}\n")
    for one in found:
        if one.became != "kept":
            sys.stdout.write(f"  {one.became}  {one.name}, at {one.commit[:12]}{': ' + one.why if one.why else ''}\n")
    return root


def _build_one(
    session: Session, composition: Composition | None, asked: _Asked, whole: bool, question: Question | None = None
) -> BuildReport:
    """Builds one product and shows its end; of several (not `whole`) less of it."""
    from yarrik.cli.view import BuildView, EventLines

    composition = composition or composed(session, None, asked.variants, asked.settings)
    view = EventLines() if asked.json else BuildView()
    try:
        planned = session.planner.planned(composition)
        report = session.builder.build(planned, asked.jobs, asked.keep_going, view, asked.until, question)
    finally:
        view.close()
    _show_end(report, asked, whole)
    return report


def _show_end(report: BuildReport, asked: _Asked, whole: bool) -> None:
    from yarrik.cli.view import print_line, show_error

    if asked.json:
        print_line({"event": "end", **report_as_json(report)})
        return
    for error in report.errors:
        show_error(error, as_json=False)
    if asked.until is not None and not report.errors:
        ran = len(report.ran)
        text = f"{asked.until} is done: {ran} ran, {len(report.steps) - ran} kept; nothing was written to out/"
        sys.stdout.write(f"{report.product}: {text}\n")
    elif whole or report.errors:
        show_report(report)


def _show_all(reports: list[BuildReport], json: bool) -> None:
    """The end of a build of several products, one line for each."""
    from yarrik.cli.view import print_line, show_table, show_warnings, styled
    from yarrik.errors import shown_path
    from yarrik.units import shown_size

    if json:
        print_line({"event": "all", "ok": not any(one.errors for one in reports),
                    "products": [{"product": one.product, "ok": not one.errors, "ran": len(one.ran),
                                  "out": str(one.out)} for one in reports]})  # fmt: skip
        return
    show_warnings(tuple(dict.fromkeys(trouble for one in reports for trouble in one.troubles)))
    rows = []
    for one in reports:
        images = sorted(one.out.glob("*.img")) if not one.errors else []
        found = ", ".join(f"{shown_path(image)} {shown_size(image.stat().st_size)}" for image in images)
        state = styled("failed", "red") if one.errors else styled("built", "green") if one.ran else styled("kept", "dim")
        rows.append((state, styled(one.product, "bold"), _what_ran(one), _took(one.seconds), found))
    show_table(rows)
    failed = [one.product for one in reports if one.errors]
    good = [one for one in reports if not one.errors]
    next_ = f"build {failed[0]}" if failed else f"boot {good[0].product}{_elsewhere(good[0])}"
    sys.stdout.write(f"next: yarrik {next_}\n")


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
    # A source may be several files, each of which has a step of its own.
    recipes = list(dict.fromkeys(step.subject.partition(" ")[0] for step in steps))
    if json:
        print_line({"event": "end", "ok": True, "product": composition.name, "fetched": recipes})
        return
    sources = f"sources of {counted(len(recipes), 'recipe')} are here"
    sys.stdout.write(f"{composition.name}: {sources}; yarrik build --offline needs no network\n")


def show_report(report: BuildReport, hint: bool = True) -> None:
    """The end of a build: what happened, what lies where, what to type next."""
    from yarrik.cli.view import fitted, show_notes, show_warnings, styled
    from yarrik.errors import shown_path
    from yarrik.units import shown_size

    show_warnings(report.troubles)
    if report.errors:
        left = sum(step.how == "not reached" for step in report.steps)
        failed = len(report.errors)
        show_notes(report.notes)
        _show_tool_warnings(report)
        text = f"{counted(failed, 'step')} failed, {left} not reached; nothing was written to out/"
        sys.stdout.write(f"{styled(report.product, 'bold')}: {text}\n")
        return
    if not report.ran and not report.published:
        _show_nothing_to_do(report.product, report.kept, report.notes, report.seconds)
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
        sys.stdout.write(f"next: yarrik boot {report.product}{_elsewhere(report)}\n")


def _elsewhere(report: BuildReport) -> str:
    """What a command has to say of the workspace when it is not the one around the current folder."""
    from yarrik.errors import YarrikError, shown_path
    from yarrik.model import find_workspace

    root = report.out.parent.parent
    try:
        here = find_workspace(Path.cwd())
    except YarrikError:
        here = None
    return "" if here == root else f" --workspace {shown_path(root)}"


def _what_ran(report: BuildReport) -> str:
    shared = sum(step.how == "shared" for step in report.steps)
    same = sum(step.same for step in report.ran)
    parts = [f"{counted(len(report.ran), 'step')} ran" + (f" ({same} with the same result)" if same else "")]
    parts += [f"{shared} came from a shared cache"] if shared else []
    return ", ".join([*parts, f"{report.kept} kept"])


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
    """A report's values."""
    looked_at = {one.step.name: one for one in report.steps}

    def step(row: StepRow) -> dict[str, object]:
        one = looked_at.get(row.step)
        if one is None:
            return step_as_json(row.step, row.how, row.fingerprint)
        return step_as_json(row.step, row.how, row.fingerprint, one.same, one.reason, one.seconds)

    return {**head_as_json(report), "steps": list(map(step, report.rows))}


def step_as_json(
    name: str, how: str, fingerprint: str, same: bool = False, reason: str = "", seconds: float = 0.0
) -> dict[str, object]:
    """What became of a step."""
    return {"step": name, "how": how, "same": same, "reason": reason, "seconds": round(seconds, 3), "fingerprint": fingerprint}


def head_as_json(report: BuildReport) -> dict[str, object]:
    """A report's values without its steps."""
    from msgspec.structs import asdict

    return {
        "ok": not report.errors,
        "product": report.product,
        "out": str(report.out),
        "seconds": round(report.seconds, 3),
        "changed": report.published,
        "saved": round(report.saved, 3),
        "traffic": asdict(report.traffic),
        "notes": list(report.notes),
        "advice": [
            {"code": one.code, "about": one.subject, "what": one.what, "place": one.place.short or None}
            for one in report.advice
        ],
        "tool-warnings": {
            "count": report.warnings.count,
            "recipes": report.warnings.recipes,
            "grave": [{"recipe": one.subject, "where": one.where, "what": one.text} for one in report.warnings.grave],
        },
        "troubles": [trouble.as_json() for error in report.errors for trouble in error.troubles],
        "warnings": [trouble.as_json() for trouble in report.troubles],
    }


def _show_nothing_would_run(product: str, kept: int) -> None:
    from yarrik.cli.view import styled

    sys.stdout.write(f"{styled(product, 'bold')}: nothing would run, all {kept} steps are kept\n")


def _show_why(
    session: Session, compose: Callable[[], Composition], known: KeptBuild | FewChanges | None, step: str, json: bool
) -> None:
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.run import KeptBuild, Rebuilder

    product = known.product if known is not None else ""
    verdict, reason = "kept", ""
    rows: list[tuple[str, str, str]] = []
    waits: list[str] = []
    if not (isinstance(known, KeptBuild) and step in known.steps):
        changed = known if known is not None and not isinstance(known, KeptBuild) else None
        why = Rebuilder(session.project, changed).why_runs(step) if changed is not None else None
        if why is None:
            planned = session.planner.planned(compose())
            why, product = session.planner.why_runs(planned, step), planned.name
        one, rows, waits = why
        verdict, reason = one.verdict, one.reason
    if json:
        differences = [{"what": what, "before": before, "after": after} for what, before, after in rows]
        print_json({"ok": True, "product": product, "step": step, "verdict": verdict, "reason": reason,
                    "differences": differences, "waits": waits})  # fmt: skip
        return
    sys.stdout.write(f"{styled(step, 'bold')} {verdict}{': ' + reason if reason else ''}\n")
    for what, before, after in rows:
        if len(before) + len(after) < 70:
            show_table([(what, f"{before or 'nothing'} → {after or 'nothing'}" if after != "differs" else f"{before} differs")])
        else:
            show_table([(what, "before", before), ("", "now", after)])
    if waits:
        sys.stdout.write(f"  not known yet: what {', '.join(waits)} will leave\n")


def _assessed_before(session: Session, before: KeptBuild | FewChanges | None) -> tuple[list[Assessment], int] | None:
    """What a build would do, and how many others it would keep, as far as the last build tells; None when all has to be
    planned."""
    from yarrik.run import KeptBuild, Rebuilder

    if before is None or isinstance(before, KeptBuild):
        return None if before is None else ([], len(before.steps))
    rebuilder = Rebuilder(session.project, before)
    found = rebuilder.assess()
    return None if found is None else (found, rebuilder.steps - len(found))


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
    from yarrik.plan import MOST_CAUSES
    from yarrik.run import asked_before

    with opened(workspace) as session:
        before = None if every else asked_before(question_of(workspace, product or named, variants, settings))
        if why is not None:
            _show_why(session, lambda: composed(session, product or named, variants, settings), before, why, json)
            return
        known = _assessed_before(session, before)
        if before is not None and known is not None:
            name, (found, kept) = before.product, known
        else:
            composition = composed(session, product or named, variants, settings)
            found, name, kept = session.planner.assess(session.planner.planned(composition)), composition.name, 0
    if json:
        print_json(
            {
                "ok": True,
                "product": name,
                "steps": [
                    {"step": a.step.name, "verdict": a.verdict, "reason": a.reason, "causes": list(a.causes)}
                    for a in found
                    if every or a.verdict != "kept"
                ],
            }
        )
        return
    counts = {verdict: sum(a.verdict == verdict for a in found) for verdict in ("runs", "may run", "kept")}
    kept += counts["kept"]
    if counts["runs"] == 0 and counts["may run"] == 0:
        _show_nothing_would_run(name, kept)
    else:
        would = f"{counted(counts['runs'], 'step')} would run, {counts['may run']} may run"
        sys.stdout.write(f"{styled(name, 'bold')}: {would}, {kept} are kept\n")
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
            many = "many" if len(causes) >= MOST_CAUSES else len(causes) - 1
            more = f" and {many} more" if len(causes) > 1 else ""
            what = f"{', '.join(a.step.kind for a in steps)} {subject}"
            rows.append((styled("may run", "yellow"), what, f"{causes[0]}{more}" if causes else ""))
        show_table(rows)
