"""`yarrik new`: workspaces and definitions that build at once."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from msgspec.structs import replace

from yarrik.cli import app
from yarrik.cli.options import JsonOption, WorkspaceOption, names_of, opened

if TYPE_CHECKING:
    from yarrik.starter import Choice, Wanted

group = typer.Typer(
    help="Begins a workspace, or adds a definition to one. Its comments say what can be changed.",
    no_args_is_help=True,
    epilog="Examples: [bold]yarrik new workspace gauge[/bold] · [bold]yarrik new recipe hello[/bold] · "
    "[bold]yarrik new board ours --from bench-arm64[/bold]",
)
app.add_typer(group, name="new")

NameArgument = Annotated[str, typer.Argument(help="Its name: small letters, digits, `-`, `.` and `+`.")]
ShelfOption = Annotated[
    str, typer.Option("--shelf", metavar="SHELF", help="The shelf that it goes onto; without it your last one.")
]
CopyOption = Annotated[bool, typer.Option("--copy", help="With --from: copies the text instead of referring to it.")]


def _from(kind: str) -> object:
    return typer.Option("--from", metavar="NAME", help=f"Makes it from this {kind}.", autocompletion=names_of(kind))


@group.command(
    "workspace", epilog="Example: [bold]yarrik new workspace gauge[/bold], then [bold]cd gauge && yarrik build[/bold]"
)
def new_workspace(
    folder: Annotated[Path, typer.Argument(help="The folder to make; its name becomes the workspace's.")],
    arch: Annotated[
        str, typer.Option(metavar="ARCH", help="The board's architecture: x86-64 or arm64; without it this machine's own.")
    ] = "",
    json: JsonOption = False,
) -> None:
    """Begins a workspace: a shelf to start from, one of yours, and a product that builds and starts in an emulator."""
    from yarrik.starter import Choice, bench_arches, host_arch, make_workspace

    folder = folder.absolute()
    usual = host_arch()
    if not arch and usual in bench_arches() and _asks():
        arch = _asked(Choice("arch", dict.fromkeys(bench_arches(), ""), usual))
    files = make_workspace(folder, folder.name, arch or usual)
    _show(files, folder, json, f"cd {_short(folder)} · yarrik build · yarrik boot · yarrik new recipe hello")


@group.command("shelf", epilog="Example: [bold]yarrik new shelf drivers[/bold]")
def new_shelf(name: NameArgument, workspace: WorkspaceOption = None, json: JsonOption = False) -> None:
    """Adds an empty shelf to the workspace."""
    from yarrik.starter import Wanted

    _make(Wanted("shelf", name), workspace, json, f"yarrik new recipe NAME --shelf {name}")


@group.command(
    "board",
    epilog="Examples: [bold]yarrik new board ours --arch arm64[/bold] · [bold]yarrik new board ours --from pier.dtb[/bold]",
)
def new_board(
    name: NameArgument,
    base: Annotated[str, _from("board")] = "",
    copy: CopyOption = False,
    arch: Annotated[str, typer.Option(metavar="ARCH", help="Its architecture; without it this machine's own.")] = "",
    kernel: Annotated[
        str, typer.Option(metavar="RECIPE", help="The recipe of its kernel.", autocompletion=names_of("recipe"))
    ] = "",
    sources: Annotated[
        Path | None,
        typer.Option(metavar="FOLDER", help="A kernel's sources: looks up drivers for --from's devices."),
    ] = None,
    shelf: ShelfOption = "",
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Adds a board: made from another one, from a device tree or a kernel's configuration, or with an architecture, a kernel
    and a disk of its own."""
    from yarrik.starter import Wanted, is_hardware_file

    if base and is_hardware_file(base):
        _from_hardware(
            Wanted("board", name, shelf, chosen={"arch": arch, "kernel": kernel}), Path(base), sources, workspace, json
        )
        return
    wanted = Wanted("board", name, shelf, base, copy, {"arch": arch, "kernel": kernel})
    _make(wanted, workspace, json, f"yarrik new product NAME --board {name}")


@group.command("image", epilog="Example: [bold]yarrik new image office --from minimal[/bold]")
def new_image(
    name: NameArgument,
    base: Annotated[str, _from("image")] = "",
    copy: CopyOption = False,
    shelf: ShelfOption = "",
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Adds an image: packages, accounts and files."""
    from yarrik.starter import Wanted

    _make(Wanted("image", name, shelf, base, copy), workspace, json, f"yarrik new product NAME --image {name}")


@group.command("profile", epilog="Example: [bold]yarrik new profile debug --from small[/bold]")
def new_profile(
    name: NameArgument,
    base: Annotated[str, _from("profile")] = "",
    copy: CopyOption = False,
    init: Annotated[str, typer.Option(metavar="PACKAGE", help="The package with the first program.")] = "",
    shelf: ShelfOption = "",
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Adds a profile: C library, init and compiler flags."""
    from yarrik.starter import Wanted

    wanted = Wanted("profile", name, shelf, base, copy, {"init": init})
    _make(wanted, workspace, json, f"yarrik new product NAME --profile {name}")


@group.command("product", epilog="Example: [bold]yarrik new product office --board dock --image office[/bold]")
def new_product(
    name: NameArgument,
    base: Annotated[str, _from("product")] = "",
    board: Annotated[str, typer.Option(metavar="BOARD", help="Its board.", autocompletion=names_of("board"))] = "",
    profile: Annotated[str, typer.Option(metavar="PROFILE", help="Its profile.", autocompletion=names_of("profile"))] = "",
    image: Annotated[str, typer.Option(metavar="IMAGE", help="Its image.", autocompletion=names_of("image"))] = "",
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Adds a product: a board, a profile and an image."""
    from yarrik.starter import Wanted

    wanted = Wanted("product", name, "", base, False, {"board": board, "profile": profile, "image": image})
    _make(wanted, workspace, json, f"yarrik check {name} · yarrik build {name}")


@group.command("variant", epilog="Example: [bold]yarrik new variant debug[/bold], then [bold]yarrik build --with debug[/bold]")
def new_variant(
    name: NameArgument, shelf: ShelfOption = "", workspace: WorkspaceOption = None, json: JsonOption = False
) -> None:
    """Adds a variant: a set of changes for some builds."""
    from yarrik.starter import Wanted

    _make(Wanted("variant", name, shelf), workspace, json, f"change something in it · yarrik build --with {name}")


@group.command(
    "recipe",
    epilog="Examples: [bold]yarrik new recipe hello[/bold] · [bold]yarrik new recipe zlib --from zlib-1.3.tar.gz[/bold]"
    " · [bold]yarrik new recipe zlib --from debian:zlib[/bold]",
)
def new_recipe(
    name: NameArgument,
    origin: Annotated[
        str,
        typer.Option(
            "--from",
            metavar="SOURCES",
            help="A folder, an archive, an https address of one, a git repository's address, or debian:NAME.",
        ),
    ] = "",
    shelf: ShelfOption = "",
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Adds a recipe: with a small program in C, or made from sources that are looked at.

    Of sources, build system, version, licence, needs, tools and options are guessed, and each guess names its line. Nothing of
    them is run."""
    from yarrik.starter import Wanted

    wanted = Wanted("recipe", name, shelf)
    if origin:
        _import(wanted, origin, workspace, json)
        return
    next_ = f'add "{name}" to `packages` of an image, or packages.add = ["{name}"] · yarrik build'
    _make(wanted, workspace, json, next_)


def _import(wanted: Wanted, origin: str, workspace: Path | None, json: bool) -> None:
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.starter import draft, findings_of, laid_beside, recipe_from, take_in, write_draft

    with opened(workspace) as session:
        project = session.project
        known = project.workspace
        made = draft(known, wanted)  # whatever is wrong with the name comes before a download
        taken = take_in(origin, project.store, project.settings.redirect_hosts, lambda: project.debian_archives)
        found = recipe_from(wanted.name, taken, findings_of(taken, project.store), known)
        file = next(iter(made.files))
        files = write_draft(known, replace(made, files={file: found.text}))
        if taken.copied:
            laid_beside(taken, project.store, file.parent / "src")
    rows = [(guess.what, became, f"{guess.file}:{guess.line}") for guess, became in found.rows]
    if json:
        guesses = [{"what": what, "value": became, "from": place} for what, became, place in rows]
        print_json({"ok": True, "files": [str(one) for one in files], "guesses": guesses})
        return
    for one in files:
        sys.stdout.write(f"  wrote  {_short(one)}\n")
    sys.stdout.write(f"{styled('guessed', 'bold')}, to be checked:\n")
    show_table(rows)
    sys.stdout.write(f'next: read it · add "{wanted.name}" to an image · yarrik build --until "build {wanted.name}"\n')


def _from_hardware(wanted: Wanted, file: Path, sources: Path | None, workspace: Path | None, json: bool) -> None:
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.starter import draft, read_hardware, write_draft

    with opened(workspace) as session:
        known = session.project.workspace
        hardware = read_hardware(file, wanted.name, sources)
        chosen = {**wanted.chosen, "arch": wanted.chosen.get("arch") or hardware.arch}
        files = write_draft(known, draft(known, replace(wanted, chosen=chosen, hardware=hardware)))
    rows = [(one.what, one.value, one.where) for one in hardware.rows]
    none = "no driver names it"
    drivers = [(one.node, one.compatible, f"CONFIG_{one.option}" + ("" if one.settable else " (follows by itself)")
                if one.option else "-", one.file or none)
               for one in hardware.drivers]  # fmt: skip
    if json:
        print_json({
            "ok": True, "files": [str(one) for one in files],
            "guesses": [{"what": what, "value": value, "from": where} for what, value, where in rows],
            "drivers": [{"node": one.node, "compatible": one.compatible, "option": one.option, "settable": one.settable,
                         "file": one.file}
                        for one in hardware.drivers],
        })  # fmt: skip
        return
    for path in files:
        sys.stdout.write(f"  wrote  {_short(path)}\n")
    sys.stdout.write(f"{styled('found', 'bold')}, to be checked:\n")
    show_table(rows)
    if drivers:
        show_table(drivers)
    elif hardware.device_tree:
        sys.stdout.write("--sources FOLDER looks up which drivers of a kernel these devices need\n")
    more = " · yarrik kernel check NAME" if any(one.settable for one in hardware.drivers) else ""
    sys.stdout.write(f"next: read it · yarrik new product NAME --board {wanted.name}{more}\n")


def _make(wanted: Wanted, workspace: Path | None, json: bool, next_: str) -> None:
    from yarrik.starter import choices, draft, write_draft

    with opened(workspace) as session:
        known = session.project.workspace
        if _asks() and not json:
            answers = {
                choice.key: _asked(choice)
                for choice in choices(known, wanted)
                if choice.key != "shelf" and not wanted.chosen.get(choice.key) and len(choice.names) > 1
            }
            wanted = replace(wanted, chosen={**wanted.chosen, **answers})
        files = write_draft(known, draft(known, wanted))
    _show(files, Path.cwd(), json, next_)


def _asks() -> bool:
    """Whether there is somebody to ask."""
    return sys.stdin.isatty() and sys.stdout.isatty()


def _asked(choice: Choice) -> str:
    """Shows what can be chosen, and takes a number, a name, or the usual one for an empty line."""
    from yarrik.cli.view import show_table, styled

    names = list(choice.names)
    word = "architecture" if choice.key == "arch" else choice.key
    sys.stdout.write(f"{styled(word, 'bold')}\n")
    show_table([(str(number), name, choice.names[name]) for number, name in enumerate(names, 1)], right=(0,))
    while True:
        answer = typer.prompt(f"{word}: number or name", default=choice.usual or names[0]).strip()
        if answer in choice.names:
            return str(answer)
        if answer.isdecimal() and 1 <= int(answer) <= len(names):
            return names[int(answer) - 1]
        sys.stdout.write(f"  `{answer}` is not one of them\n")


def _short(folder: Path) -> str:
    from yarrik.errors import shown_path

    return shown_path(folder)


def _show(files: list[Path], top: Path, json: bool, next_: str) -> None:
    from yarrik.cli.view import print_json

    if json:
        print_json({"ok": True, "files": [str(file) for file in files]})
        return
    for file in files:
        sys.stdout.write(f"  wrote  {_short(file)}\n")
    sys.stdout.write(f"next: {next_}\n")
