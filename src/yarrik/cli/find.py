"""`yarrik find`: what there is, here and on shelves that could be added."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, WorkspaceOption, workspace_at

if TYPE_CHECKING:
    from yarrik.model import Catalogues, Found, Workspace

_KINDS = ("board", "profile", "image", "product", "recipe", "variant", "group", "package", "option", "role", "shelf", "file")


def _kinds(incomplete: str) -> list[str]:
    return [kind for kind in _KINDS if kind.startswith(incomplete)]


@app.command(
    epilog="Examples: [bold]yarrik find chart[/bold] · [bold]yarrik find libtide.so[/bold] · "
    "[bold]yarrik find wind --kind package --add[/bold]"
)
def find(
    words: Annotated[list[str], typer.Argument(help="Words, or parts of words, all of which have to fit.")],
    kind: Annotated[
        list[str] | None, typer.Option("--kind", metavar="KIND", help="Only these: board, recipe, …", autocompletion=_kinds)
    ] = None,
    add: Annotated[bool, typer.Option("--add", help="Adds the shelf of the best match, and what it needs.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="With --add: does not ask.")] = False,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Searches recipes, packages, options, roles, boards, images, products, the files of earlier builds, and catalogues."""
    from yarrik.cli.view import print_json
    from yarrik.errors import Trouble, YarrikError, listed, suggestion
    from yarrik.model import find, known_words

    for one in kind or ():
        if one not in _KINDS:
            raise YarrikError(Trouble("KIND-UNKNOWN", f"there is no kind `{one}`", remedy=suggestion(one, _KINDS)))
    root, here, known = _known(workspace)
    found = find(here, words, known, kind or ())
    if not found:
        asked = " ".join(words)
        names = known_words(here) if here is not None else set()
        raise YarrikError(
            Trouble("NOT-FOUND", f"nothing here, and nothing in {_counted(known)}, is called or described by `{asked}`",
                    remedy=suggestion(words[0], names, most=0))
        )  # fmt: skip
    if add:
        _add(root, found, yes)
        return
    if json:
        rows = [{"kind": one.kind, "name": one.name, "what": one.what, "shelf": one.shelf,
                 "file": str(one.place.file) if one.place.file else None} for one in found]  # fmt: skip
        print_json(rows)
        return
    _show(found)
    first = found[0]
    if first.shelf:
        shelves = list(dict.fromkeys(one.shelf for one in found))
        sys.stdout.write(
            f"next: yarrik shelf add {shelves[0]}{' (or ' + listed(shelves[1:4], 'or') + ')' if shelves[1:] else ''}\n"
        )
    elif first.kind != "file":
        sys.stdout.write(f"next: yarrik show {first.name.split('[')[0]}\n")


def _known(folder: Path | None) -> tuple[Path | None, Workspace | None, Catalogues]:
    """The workspace around, if there is one, and the catalogues: a search is worth it outside of a workspace too."""
    from yarrik.cli.catalogue import known_here
    from yarrik.cli.view import show_warnings
    from yarrik.model import find_workspace

    root, known = known_here(folder)
    if root is None and not known.catalogues.known and not known.troubles:
        find_workspace(Path.cwd())  # raises: there is nothing to search
    show_warnings(known.troubles)
    return root, workspace_at(root) if root is not None else None, known.catalogues


def _counted(known: Catalogues) -> str:
    from yarrik.units import counted

    return counted(len(known.known), "catalogue") if known.known else "any catalogue (none is known)"


def _show(found: list[Found]) -> None:
    from yarrik.cli.view import show_table, styled
    from yarrik.errors import shown_path

    most = 40
    rows = []
    for one in found[:most]:
        where = styled(f"shelf {one.shelf}", "yellow") if one.shelf else one.on or "workspace"
        if one.kind == "file":
            where = shown_path(one.place.file.parent) if one.place.file else ""
        rows.append((styled(one.kind, "dim"), styled(one.name, "bold"), where, one.what))
    show_table(rows)
    if len(found) > most:
        sys.stdout.write(f"  … and {len(found) - most} more: --json lists all\n")


def _add(root: Path | None, found: list[Found], yes: bool) -> None:
    """Adds the shelf of the best that a catalogue has. Raises YarrikError when all of it is here."""
    from yarrik.cli.shelf import add_shelves, show_added
    from yarrik.errors import Trouble, YarrikError, shown_path
    from yarrik.model import find_workspace, settings_at
    from yarrik.run import Shelves, cache_folder

    root = root or find_workspace(Path.cwd())
    offered = [one for one in found if one.shelf]
    if not offered:
        place = shown_path(found[0].place.file) if found[0].place.file else ""
        raise YarrikError(Trouble("SHELF-TWICE", f"all that was found is here: {found[0].kind} `{found[0].name}`",
                                  found[0].place, remedy=f"nothing has to be added; look at {place}"))  # fmt: skip
    show_added(add_shelves(Shelves(root, cache_folder(root, settings_at(root))), [offered[0].shelf], yes=yes))
