"""`yarrik cache`: what lies there, what can go, whether it is whole."""

from __future__ import annotations

import sys
from pathlib import Path
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

if TYPE_CHECKING:
    from yarrik.cache import Store
    from yarrik.run import Session

group = typer.Typer(
    no_args_is_help=True,
    help="Manages the cache of results: shows its size, removes unused results, checks for damage.",
    epilog="Examples: [bold]yarrik cache status[/bold] · [bold]yarrik cache prune --keep 50GiB[/bold]",
    rich_markup_mode="rich",
)
app.add_typer(group, name="cache")


@group.command("status", epilog="Example: [bold]yarrik cache status[/bold]")
def status(workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Shows what the cache holds, by kind, and what the products of this workspace have in it."""
    from yarrik.cache import amounts, reach, work_kept
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.errors import YarrikError
    from yarrik.units import shown_size

    store = _store(workspace)
    shared: list[tuple[str, str, str]] = []
    kinds = amounts(store)
    results, seconds = work_kept(store)
    products: dict[str, int] = {}
    try:
        with opened(workspace) as session:
            for product, digests in session.project.memory.kept_outputs().items():
                products[product] = sum(reach(store, digests).values())
            for cache in session.project.settings.shared_cache:
                shared.append((cache.name, cache.at, _answer_of(session, cache.name)))
    except YarrikError:
        pass  # outside of a workspace there are no products
    total = sum(one.bytes for one in kinds.values())
    if json:
        print_json({"ok": True, "folder": str(store.root), "bytes": total, "results": results, "seconds": round(seconds, 1),
                    "kinds": {kind: {"files": one.files, "bytes": one.bytes} for kind, one in kinds.items()},
                    "products": products,
                    "shared": [{"name": name, "at": at, "answer": answer} for name, at, answer in shared]})  # fmt: skip
        return
    sys.stdout.write(
        f"{styled(str(store.root), 'bold')}: {shown_size(total)}, {results} results that took {_hours(seconds)} to make\n"
    )
    show_table([(kind, f"{one.files} files", shown_size(one.bytes)) for kind, one in kinds.items()], right=(1, 2))
    if products:
        sys.stdout.write("products of this workspace (what they share is counted for each)\n")
        show_table([(name, shown_size(size)) for name, size in sorted(products.items())], right=(1,))
    if shared:
        sys.stdout.write("shared caches of the settings\n")
        show_table(shared)


def _store(workspace: Path | None) -> Store:
    """The cache of the workspace here, or the user's own outside of one."""
    from yarrik.cache import Store, default_root
    from yarrik.errors import YarrikError

    try:
        with opened(workspace) as session:
            return session.project.store
    except YarrikError:
        if workspace is not None:
            raise
        return Store(default_root())


def _answer_of(session: Session, name: str) -> str:
    """Whether a shared cache answers, and what is done with it here."""
    from yarrik.cache import Closed, Unreachable

    shared = session.project.shared
    cache = next((one for one in shared.caches if one.name == name), None) if shared is not None else None
    if cache is None:
        return "not asked"
    try:
        cache.storage.has("results")
    except (Unreachable, Closed) as error:
        return str(error)
    return "answers, " + ("read and written" if cache.push else "read only")


@group.command("new-key", epilog="Example: [bold]yarrik cache new-key ~/.config/yarrik/signing.key[/bold]")
def new_key(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="Where the key goes; keep it to yourself.")],
    json: JsonOption = False,
) -> None:
    """Makes a key that signs what goes to shared caches, and prints the line by which others trust it."""
    from yarrik.cache import SigningKey
    from yarrik.cli.view import print_json

    key = SigningKey.make(file.expanduser().absolute())
    if json:
        print_json({"ok": True, "file": str(file), "public": key.public})
        return
    sys.stdout.write(f"{file} signs; keep it secret. Others who take your results add this line to their settings.toml:\n")
    sys.stdout.write(f'trusted-keys = ["{key.public}"]\n')


@group.command("push", epilog="Example: [bold]yarrik cache push[/bold] after a build where the network was away.")
def push(
    product: ProductArgument = None,
    named: ProductOption = None,
    variants: WithOption = None,
    settings: SetOption = None,
    replace: Annotated[
        bool, typer.Option("--replace", help="Sends results that the cache has already too, to replace damaged files.")
    ] = False,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Sends all results of a product that shared caches do not have yet; nothing of what is private."""
    from yarrik.cli.view import ResolveView, print_json, show_warnings

    view = ResolveView(quiet=json, words="sent {} of {} results")
    with opened(workspace) as session:
        planned = session.planner.planned(composed(session, product or named, variants, settings))
        try:
            sent, known, troubles = session.builder.push(planned, view, replace)
        finally:
            view.close()
    if json:
        print_json({"ok": not troubles, "sent": sent, "results": known, "warnings": [one.as_json() for one in troubles]})
    else:
        show_warnings(troubles)
        sys.stdout.write(f"{sent} results sent; the shared caches have {'what they got' if troubles else f'all {known}'}\n")
    raise typer.Exit(1 if troubles else 0)


@group.command(
    "pull", epilog="Example: [bold]yarrik cache pull[/bold] before a journey, then [bold]yarrik build --offline[/bold]"
)
def pull(
    product: ProductArgument = None,
    named: ProductOption = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Takes all results of a product that shared caches have into the cache here. Runs nothing."""
    from yarrik.cli.view import BuildView, EventLines, print_line, show_warnings

    view = EventLines() if json else BuildView()
    with opened(workspace) as session:
        planned = session.planner.planned(composed(session, product or named, variants, settings))
        try:
            brought, kept, missing, troubles = session.builder.pull(planned, view)
        finally:
            view.close()
    if json:
        print_line({"event": "end", "ok": True, "brought": brought, "kept": kept, "missing": missing,
                    "warnings": [one.as_json() for one in troubles]})  # fmt: skip
        return
    show_warnings(troubles)
    tail = f"; {missing} steps have to run here: yarrik build" if missing else ", nothing is left to run"
    sys.stdout.write(f"{brought} results came from shared caches, {kept} were here{tail}\n")


def _hours(seconds: float) -> str:
    if seconds < 120:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 7200 else f"{seconds / 3600:.1f} h"


@group.command(
    "prune", epilog="Examples: [bold]yarrik cache prune --keep 50GiB[/bold] · [bold]yarrik cache prune --unused 30d[/bold]"
)
def prune(
    keep: Annotated[
        str | None, typer.Option(metavar="SIZE", help="Removes the least recently used results until this much is left.")
    ] = None,
    unused: Annotated[
        str | None, typer.Option(metavar="DAYS", help="Removes what was not used for this long, like 30d or 12h.")
    ] = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Removes results that were not used for long, and what only they need. A later build makes them again."""
    from yarrik.cache import prune as prune_store
    from yarrik.cli.view import print_json
    from yarrik.errors import Trouble, Unfit, YarrikError
    from yarrik.units import parse_size, parse_span, shown_size

    if keep is None and unused is None:
        raise YarrikError(
            Trouble("USAGE", "give --keep SIZE or --unused AGE", remedy="yarrik cache prune --keep 50GiB, or --unused 30d")
        )
    try:
        size = parse_size(keep) if keep is not None else None
        seconds = parse_span(unused) if unused is not None else None
    except Unfit as error:
        raise YarrikError(Trouble("VALUE-UNFIT", str(error), remedy="write it like 50GiB, or 30d")) from None
    done = prune_store(_store(workspace), size, seconds)
    if json:
        print_json({"ok": True, "results": done.results, "files": done.files, "bytes": done.bytes, "left": done.left})
        return
    sys.stdout.write(
        f"{done.results} results and {done.files} files removed, {shown_size(done.bytes)}; {shown_size(done.left)} left\n"
    )


@group.command("verify", epilog="Example: [bold]yarrik cache verify[/bold] after disk errors.")
def verify(workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Reads everything in the cache again. Damaged files are removed, and made again by the next build that needs them."""
    from yarrik.cache import amounts
    from yarrik.cache import verify as verify_store
    from yarrik.cli.view import ResolveView, print_json, show_table
    from yarrik.errors import shown_path

    store = _store(workspace)
    view = ResolveView(quiet=json, words="checked {} of {} files")
    try:
        found = verify_store(store, view)
    finally:
        view.close()
    if json:
        print_json({"ok": not found, "damaged": [{"file": str(one.path), "what": one.what} for one in found]})
    else:
        files = sum(one.files for one in amounts(store).values())
        sys.stdout.write(f"{len(found)} damaged, {files} files are intact\n" if found else f"all {files} files are intact\n")
        show_table([(shown_path(one.path), one.what) for one in found])
        if found:
            sys.stdout.write("damaged files are removed; the next build makes them again\n")
    raise typer.Exit(1 if found else 0)
