"""`yarrik cache`: what lies there, what can go, whether it is whole."""

from __future__ import annotations

import re
import sys
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, WorkspaceOption, opened

group = typer.Typer(
    no_args_is_help=True,
    help="Looks after the cache of results: what it holds, removing what is not used, checking what is there.",
    epilog="Examples: [bold]yarrik cache status[/bold] · [bold]yarrik cache prune --keep 50GiB[/bold]",
    rich_markup_mode="rich",
)
app.add_typer(group, name="cache")


@group.command("status", epilog="Example: [bold]yarrik cache status[/bold]")
def status(workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Shows what the cache holds, by kind, and what the products of this workspace have in it."""
    from yarrik.cache import Store, default_root
    from yarrik.cache.upkeep import amounts, reach, work_kept
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.errors import YarrikError
    from yarrik.units import shown_size

    store = Store(default_root())
    kinds = amounts(store)
    results, seconds = work_kept(store)
    products: dict[str, int] = {}
    try:
        with opened(workspace) as session:
            for product, digests in session.memory.kept_outputs().items():
                products[product] = sum(reach(store, digests).values())
    except YarrikError:
        pass  # outside of a workspace there are no products
    total = sum(one.bytes for one in kinds.values())
    if json:
        print_json({"ok": True, "folder": str(store.root), "bytes": total, "results": results, "seconds": round(seconds, 1),
                    "kinds": {kind: {"files": one.files, "bytes": one.bytes} for kind, one in kinds.items()},
                    "products": products})  # fmt: skip
        return
    sys.stdout.write(
        f"{styled(str(store.root), 'bold')}: {shown_size(total)}, {results} results that took {_hours(seconds)} to make\n"
    )
    show_table([(kind, f"{one.files} files", shown_size(one.bytes)) for kind, one in kinds.items()], right=(1, 2))
    if products:
        sys.stdout.write("products of this workspace (what they share is counted for each)\n")
        show_table([(name, shown_size(size)) for name, size in sorted(products.items())], right=(1,))


def _hours(seconds: float) -> str:
    if seconds < 120:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 7200 else f"{seconds / 3600:.1f} h"


@group.command(
    "prune", epilog="Examples: [bold]yarrik cache prune --keep 50GiB[/bold] · [bold]yarrik cache prune --unused 30d[/bold]"
)
def prune(
    keep: Annotated[
        str | None, typer.Option(metavar="SIZE", help="Removes what was not used for longest, until so much is left.")
    ] = None,
    unused: Annotated[
        str | None, typer.Option(metavar="DAYS", help="Removes what was not used for so long, like 30d or 12h.")
    ] = None,
    json: JsonOption = False,
) -> None:
    """Removes results that were not used for long, and all that only they need. Costs nothing but time."""
    from yarrik.cache import Store, default_root
    from yarrik.cache.upkeep import prune as prune_store
    from yarrik.cli.view import print_json
    from yarrik.errors import Trouble, YarrikError
    from yarrik.units import parse_size, shown_size

    if keep is None and unused is None:
        raise YarrikError(
            Trouble("USAGE", "nothing says what may go", remedy="yarrik cache prune --keep 50GiB, or --unused 30d")
        )
    spans = {"d": 86400, "h": 3600, "w": 604800}
    match = re.fullmatch(r"(\d+)([hdw])", unused) if unused is not None else None
    if unused is not None and match is None:
        raise YarrikError(Trouble("VALUE-UNFIT", f"`{unused}` is no span of time", remedy="write it like 30d, 12h or 4w"))
    try:
        size = parse_size(keep) if keep is not None else None
    except ValueError as error:
        raise YarrikError(Trouble("VALUE-UNFIT", str(error), remedy="write it like 50GiB")) from None
    seconds = int(match.group(1)) * spans[match.group(2)] if match is not None else None
    done = prune_store(Store(default_root()), size, seconds)
    if json:
        print_json({"ok": True, "results": done.results, "files": done.files, "bytes": done.bytes, "left": done.left})
        return
    sys.stdout.write(
        f"{done.results} results and {done.files} files removed, {shown_size(done.bytes)}; {shown_size(done.left)} left\n"
    )


@group.command("verify", epilog="Example: [bold]yarrik cache verify[/bold] after a disk made trouble.")
def verify(json: JsonOption = False) -> None:
    """Reads everything in the cache again. What is damaged is taken out, and made again by the next build that needs it."""
    from yarrik.cache import Store, default_root
    from yarrik.cache.upkeep import amounts
    from yarrik.cache.upkeep import verify as verify_store
    from yarrik.cli.view import ResolveView, print_json, show_table
    from yarrik.errors import shown_path

    store = Store(default_root())
    view = ResolveView(quiet=json, words="checked {} of {} files")
    try:
        found = verify_store(store, view)
    finally:
        view.close()
    if json:
        print_json({"ok": not found, "damaged": [{"file": str(one.path), "what": one.what} for one in found]})
    else:
        files = sum(one.files for one in amounts(store).values())
        sys.stdout.write(
            f"{len(found)} damaged, {files} files are as they were\n" if found else f"all {files} files are as they were\n"
        )
        show_table([(shown_path(one.path), one.what) for one in found])
        if found:
            sys.stdout.write("what was damaged is taken out: build again, and it is made again\n")
    raise typer.Exit(1 if found else 0)
