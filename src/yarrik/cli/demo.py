"""`yarrik demo`: the whole example, from nothing to an image that was checked and, with an emulator, started."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, SandboxOption
from yarrik.units import counted


@app.command(epilog="Example: [bold]yarrik demo[/bold], then [bold]cd yarrik-demo[/bold] and change something.")
def demo(
    folder: Annotated[Path, typer.Argument(help="Where the workspace goes.")] = Path("yarrik-demo"),
    product: Annotated[
        list[str] | None, typer.Option(help="Builds this product instead of those that this machine can build.")
    ] = None,
    no_boot: Annotated[bool, typer.Option("--no-boot", help="Does not start the emulator.")] = False,
    no_sandbox: SandboxOption = False,
    json: JsonOption = False,
) -> None:
    """Lays out an example workspace, builds its products, checks the images and shows them."""
    from yarrik.cli.build import report_as_json, show_report
    from yarrik.cli.options import opened
    from yarrik.cli.view import BuildView, print_json, show_error, show_table, styled
    from yarrik.demo import DEMO_PRODUCTS, lay_out_demo
    from yarrik.errors import YarrikError, shown_path
    from yarrik.manifest import verify_out
    from yarrik.run import Choices, silent

    folder = folder.absolute()
    lay_out_demo(folder)
    known = {one.name: one for one in DEMO_PRODUCTS}
    wanted = product or [one.name for one in DEMO_PRODUCTS if not one.program or shutil.which(one.program)]
    left_out = [] if product else [one for one in DEMO_PRODUCTS if one.name not in wanted]
    results: list[dict[str, object]] = []
    failed = False
    if not json:
        sys.stdout.write(f"workspace in {shown_path(folder)}: two shelves, {counted(len(wanted), 'product')} to build\n")
    for name in wanted:
        with opened(folder, Choices(use_sandbox=not no_sandbox)) as session:
            composition = session.planner.compose(name)
            if not json:
                what = known[name].what if name in known else composition.product.value.summary
                sys.stdout.write(f"\n{styled(name, 'bold')}: {what}\n")
            view = BuildView()
            try:
                report = session.builder.build(session.planner.planned(composition), listener=silent if json else view)
            finally:
                view.close()
        result = report_as_json(report)
        results.append(result)
        if report.errors:
            failed = True
            for error in report.errors:
                show_error(error, as_json=False)
            continue
        findings = verify_out(report.out, composition.name)
        result["checked"] = findings
        if json:
            continue
        show_report(report, hint=False)
        show_table([("checked", finding) for finding in findings])
        emulator = composition.board.value.emulator
        if emulator is not None and not no_boot:
            from yarrik.cli.boot import boot_product
            from yarrik.run import Bootable

            try:
                outcome = boot_product(folder, Bootable.of(composition), (), 120, False, False, 0, show=False)
            except YarrikError as error:
                sys.stdout.write(f"  not started: {error.troubles[0].what}; {error.troubles[0].remedy}\n")
                continue
            if outcome.ending == "seen":
                seen = outcome.seen[-1][0] if outcome.seen else "its console"
                show_table([("booted", f"in {emulator.program}: `{seen}` after {outcome.seconds:.1f} s")])
            else:
                failed = True
                sys.stdout.write(
                    f"  {styled('did not boot', 'red')}: `{outcome.missing}` was not seen; read {report.out / 'boot.log'}\n"
                )
    if json:
        print_json({"ok": not failed, "folder": str(folder), "products": results, "left-out": [one.name for one in left_out]})
        raise typer.Exit(1 if failed else 0)
    for one in left_out:
        sys.stdout.write(f"\n{styled(one.name, 'bold')}: left out, {one.what} needs {one.program}\n")
        sys.stdout.write(
            "  next: apt-get install gcc-aarch64-linux-gnu libc6-dev-arm64-cross qemu-system-arm u-boot-qemu bubblewrap\n"
        )
    if not failed:
        place = shown_path(folder)
        sys.stdout.write(f"\nnext: cd {place} · change a source · yarrik plan · yarrik build · yarrik boot\n")
    raise typer.Exit(1 if failed else 0)
