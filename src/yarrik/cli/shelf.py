"""`yarrik shelf`: shelves from git repositories, at commits that the lock pins."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, WorkspaceOption
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.run import Adding, ShelfState, Shelves, Synced
    from yarrik.sources import Wanted

group = typer.Typer(
    help="Manages shelves: adds those of git repositories, brings them to their locked commits, moves the lock.",
    no_args_is_help=True,
    epilog="Examples: [bold]yarrik shelf sync[/bold] · [bold]yarrik shelf add https://example.org/coast.git[/bold]",
)
app.add_typer(group, name="shelf")

NamesArgument = Annotated[list[str] | None, typer.Argument(help="Shelves; all from git without a name.")]


def _shelves(workspace: Path | None) -> Shelves:
    """The shelves of a workspace; its definitions are not read, since shelves may be missing."""
    from yarrik.model import find_workspace, settings_at
    from yarrik.run import Shelves, cache_folder

    root = find_workspace((workspace or Path.cwd()).absolute())
    return Shelves(root, cache_folder(root, settings_at(root)))


@group.command("list", epilog="Example: [bold]yarrik shelf list[/bold]")
def show_shelves(workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Lists the shelves: where each comes from, its revision, whether it is as locked, and what it brings."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.model import definitions_on

    shelves = _shelves(workspace)
    states = {one.choice.name: one for one in shelves.states()}
    rows: list[tuple[str, ...]] = []
    found: list[dict[str, object]] = []
    for choice in shelves.settings.shelf:
        one = states.get(choice.name)
        here = (shelves.root / choice.place).is_dir()
        brings = {kind: len(names) for kind, names in definitions_on(shelves.root / choice.place).items() if names}
        told, style = "comes with Yarrik" if choice.built_in else "folder", "dim"
        if one is not None and one.state is None:
            told, style = "not cloned", "yellow"
        elif one is not None and one.state is not None:
            parts = ["changed"] if one.state.changed else []
            parts += [f"{counted(one.state.own, 'commit')} not pushed"] if one.state.own else []
            parts += _apart(one)
            told, style = ", ".join(parts) or "as locked", "yellow" if parts else "green"
        commit = one.state.commit if one is not None and one.state is not None else ""
        words = ", ".join(counted(number, kind) for kind, number in brings.items())
        rows.append(
            (choice.name, choice.git or choice.path or "built-in", commit[:12], styled(told, style), words if here else "")
        )
        found.append({"name": choice.name, "path": choice.place, "git": choice.git, "commit": commit,
                      "locked": one.locked if one is not None else "", "state": told, "brings": brings})  # fmt: skip
    if json:
        print_json({"ok": True, "shelves": found})
        return
    show_table(rows)
    if any(one.state is None for one in states.values()):
        sys.stdout.write("next: yarrik shelf sync\n")


def _apart(one: ShelfState) -> list[str]:
    """How far a shelf is from its locked commit, in words."""
    if one.state is None or one.state.commit == one.locked:
        return []
    if not one.locked:
        return ["not locked"]
    ahead, behind = one.apart or (0, 0)
    parts = [f"{counted(ahead, 'commit')} ahead of the lock"] if ahead else []
    parts += [f"{counted(behind, 'commit')} behind the lock"] if behind else []
    return parts or [f"locked is {one.locked[:12]}"]


@group.command(
    "add",
    epilog="Examples: [bold]yarrik shelf add weather[/bold] · [bold]yarrik shelf add ../theirs[/bold] · "
    "[bold]yarrik shelf add https://example.org/coast.git --branch stable[/bold]",
)
def add(
    place: Annotated[str, typer.Argument(metavar="SHELF", help="Its name in a catalogue, a folder, or the address of a git "
                                         "repository; file:///FOLDER for one on this machine.")],
    branch: Annotated[str, typer.Option(metavar="NAME", help="Its branch, instead of the usual one.")] = "",
    tag: Annotated[str, typer.Option(metavar="NAME", help="Its tag.")] = "",
    commit: Annotated[str, typer.Option(metavar="COMMIT", help="Its commit, in full.")] = "",
    folder: Annotated[str, typer.Option(metavar="PATH", help="The shelf's folder in the repository.")] = "",
    shallow: Annotated[bool, typer.Option("--shallow", help="Fetches the one commit, without its history.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Adds the shelves that it needs, without asking.")] = False,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:  # fmt: skip
    """Adds a shelf to yarrik.toml: clones a repository into shelves/ and locks its commit, or lists a folder.

    The shelves that it needs are looked for in the catalogues."""
    from yarrik.cli.view import print_json
    from yarrik.errors import Trouble, Unfit, YarrikError
    from yarrik.model import check_commit, check_git_url, check_ref, check_relative
    from yarrik.sources import Wanted

    try:
        if "://" in place:
            check_git_url(place)
        for text, check in ((branch, check_ref), (tag, check_ref), (commit, check_commit), (folder, check_relative)):
            if text:
                check(text)
    except Unfit as error:
        raise YarrikError(Trouble("USAGE", str(error), remedy="yarrik shelf add --help")) from error
    if len([text for text in (branch, tag, commit) if text]) > 1:
        raise YarrikError(Trouble("USAGE", "--branch, --tag and --commit do not go together", remedy="keep one of them"))
    shelves = _shelves(workspace)
    found = add_shelves(shelves, [place], Wanted(branch, tag, commit), folder, shallow, yes)
    if json:
        added = [{"name": one.choice.name, "commit": one.commit, "path": one.choice.place} for one in found.added]
        print_json({"ok": True, "name": found.added[-1].choice.name, "commit": found.added[-1].commit, "added": added,
                    "missing": list(found.missing)})  # fmt: skip
        return
    show_added(found)


def show_added(found: Adding) -> None:
    """Says which shelves were added, what is missing, and what comes next."""
    from yarrik.cli.view import styled

    for one in found.added:
        at = f", at {one.commit[:12]}" if one.commit else ""
        place = "comes with Yarrik" if one.choice.built_in else f"is in {one.choice.place}{at}"
        sys.stdout.write(f"{styled(one.choice.name, 'bold')} {place}\n")
    if found.missing:
        sys.stdout.write(f"needed, and in no catalogue: {', '.join(found.missing)}; yarrik shelf add ADDRESS\n")
    sys.stdout.write("next: yarrik shelf list · yarrik check --all\n")


def add_shelves(
    shelves: Shelves,
    places: list[str],
    wanted: Wanted | None = None,
    folder: str = "",
    shallow: bool = False,
    yes: bool = False,
) -> Adding:
    """Tries shelves with all that they need, asks about the latter, and adds them. Raises YarrikError; then nothing has
    changed."""
    from yarrik.cli.catalogue import known_here
    from yarrik.cli.view import show_warnings
    from yarrik.errors import Trouble, YarrikError, listed
    from yarrik.run import try_shelves

    with shelves.trials() as scratch:
        known = known_here(shelves.root)[1]
        show_warnings(known.troubles)
        found = try_shelves(shelves, scratch, places, known.catalogues, wanted, folder, shallow)
        needed = [one.choice.name for one in found.added if one not in found.asked]
        if needed and not yes:
            named = listed([one.choice.name for one in found.asked])
            if not (sys.stdin.isatty() and sys.stdout.isatty()):
                raise YarrikError(Trouble("SHELF-NEEDS", f"{named} needs {listed(needed)}, which the catalogue has",
                                          why="it does not work without", remedy="add them too: --yes"))  # fmt: skip
            if not typer.confirm(f"{named} needs {listed(needed)}. Add them too?", default=True):
                raise typer.Exit(1)
        shelves.take(found.added)
    return found


@group.command("sync", epilog="Example: [bold]yarrik shelf sync[/bold] after a clone or a pull of the workspace.")
def sync(names: NamesArgument = None, workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Clones shelves that are missing, and brings all to the commits that yarrik.lock pins. Changes of yours stay."""
    _brought(_shelves(workspace), names or [], False, json)


@group.command("pin", epilog="Examples: [bold]yarrik shelf pin[/bold] · [bold]yarrik shelf pin --update coast[/bold]")
def pin(
    update: Annotated[
        list[str] | None, typer.Option("--update", metavar="SHELF", help="Moves it to where its branch or tag is now.")
    ] = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Locks the commits at which the shelves are; with --update moves one to what is new there, and shows the commits."""
    shelves = _shelves(workspace)
    if update:
        _brought(shelves, update, True, json)
        return
    _show(shelves.pin(), json)


@group.command(
    "each",
    context_settings={"ignore_unknown_options": True, "allow_interspersed_args": False},
    epilog="Example: [bold]yarrik shelf each -- git status --short[/bold]",
)
def each(
    command: Annotated[list[str], typer.Argument(help="A command with its arguments.")],
    workspace: WorkspaceOption = None,
) -> None:
    """Runs a command in the clone of every shelf, in order; SHELF and SHELF_REVISION tell it which. Ends with the first exit
    code that is not 0."""
    from yarrik.cli.view import styled
    from yarrik.errors import Trouble, YarrikError

    worst = 0
    shelves = _shelves(workspace)
    for one in shelves.states():
        if one.state is None:
            sys.stdout.write(f"{styled(one.choice.name, 'bold')}: not cloned\n")
            continue
        sys.stdout.write(f"{styled(one.choice.name, 'bold')}\n")
        sys.stdout.flush()
        environment = {**os.environ, "SHELF": one.choice.name, "SHELF_REVISION": one.state.commit}
        try:
            code = subprocess.run(command, cwd=shelves.root / one.choice.clone, env=environment, check=False).returncode
        except OSError as error:
            raise YarrikError(Trouble("USAGE", f"{command[0]} cannot be started: {error.strerror}",
                                      remedy="name a program, with `--` before it")) from error  # fmt: skip
        if code != 0:
            sys.stdout.write(f"  exit code {code}\n")
            worst = worst or (code if code > 0 else 128 - code)
    raise typer.Exit(worst)


def _brought(shelves: Shelves, names: list[str], update: bool, json: bool) -> None:
    total = len(shelves.chosen(names))
    done = 0
    moving = sys.stderr.isatty() and not json

    def tell(name: str) -> None:
        nonlocal done
        done += 1
        if moving:
            sys.stderr.write(f"  {done} of {total}: {name}\n")

    _show(shelves.sync(names, update, tell), json)


def _show(found: list[Synced], json: bool) -> None:
    from yarrik.cli.view import print_json, show_table, styled

    if json:
        print_json({"ok": not any(one.became == "left" for one in found), "shelves": [
            {"name": one.name, "became": one.became, "commit": one.commit, "why": one.why, "commits": list(one.between)}
            for one in found]})  # fmt: skip
    else:
        styles = {"cloned": "green", "moved": "green", "kept": "dim", "left": "yellow"}
        for one in found:
            show_table([(styled(one.became, styles[one.became]), one.name, one.commit[:12], one.why)])
            for line in one.between:
                sys.stdout.write(f"          {line}\n")
        if any(one.became == "left" for one in found):
            sys.stdout.write("next: commit and push what is yours there, or put it aside with git stash; then again\n")
    raise typer.Exit(1 if any(one.became == "left" for one in found) else 0)
