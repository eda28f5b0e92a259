"""`yarrik devicetree`: sources and blobs by themselves."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.devicetree import DeviceTree, Difference

group = typer.Typer(
    no_args_is_help=True,
    help="Compiles device trees, applies overlays, compares and shows them.",
    epilog="Example: [bold]yarrik devicetree compile board.dts --out board.dtb --include include[/bold]",
    rich_markup_mode="rich",
)
app.add_typer(group, name="devicetree")


OutOption = Annotated[Path, typer.Option(metavar="FILE", help="The blob to write.")]


def _write(out: Path, blob: bytes) -> None:
    """The whole file or none."""
    from yarrik.atomic import write_file
    from yarrik.errors import Place, Trouble, YarrikError

    try:
        write_file(out, blob)
    except OSError as error:
        raise YarrikError(Trouble("OUT-FAILED", f"cannot write {out}: {error.strerror}", Place(out),
                                  remedy="name a file in a folder that is there and is yours to write")) from error  # fmt: skip


def _read(file: Path) -> DeviceTree:
    """The tree in a blob, with errors for people."""
    from yarrik.devicetree import BlobDamaged, decode_blob
    from yarrik.errors import Place, Trouble, YarrikError, found_nearby

    try:
        return decode_blob(file.read_bytes())
    except OSError as error:
        raise YarrikError(Trouble("BLOB-UNREADABLE", f"cannot read {file}: {error.strerror}", Place(file),
                                  remedy=found_nearby(file, "check the name"))) from error  # fmt: skip
    except BlobDamaged as error:
        raise YarrikError(Trouble("BLOB-DAMAGED", f"{file.name} is not a valid device tree: {error}", Place(file),
                                  remedy="compile it again, or name a .dtb file")) from error  # fmt: skip


@group.command(
    "compile",
    epilog="Examples: [bold]yarrik devicetree compile board.dts --out board.dtb[/bold] · "
    "[bold]yarrik devicetree compile relay.dtso --out relay.dtbo --include include --symbols[/bold]",
)
def compile_(
    source: Annotated[Path, typer.Argument(help="A .dts or .dtso file.")],
    out: OutOption,
    include: Annotated[
        list[Path] | None, typer.Option(metavar="FOLDER", help="Where included files are looked for; may be given again.")
    ] = None,
    symbols: Annotated[bool, typer.Option("--symbols", help="Keeps all labels, so that overlays can refer to them.")] = False,
    silence: Annotated[
        list[str] | None,
        typer.Option(metavar="CHECK", help="A check to leave out, like DTS-UNIT-ADDRESS; may be given again."),
    ] = None,
    room: Annotated[str, typer.Option(metavar="SIZE", help="Room at the blob's end for a bootloader to write to.")] = "0",
    spare_reservations: Annotated[
        int, typer.Option(min=0, max=1000, metavar="N", help="Empty entries among the memory reservations.")
    ] = 0,
    boot_cpu: Annotated[
        int | None, typer.Option(min=0, max=0xFFFFFFFF, metavar="N", help="The processor that boots, instead of the first.")
    ] = None,
    compiler: Annotated[str, typer.Option(metavar="PROGRAM", help="Whose preprocessor it goes through, if need be.")] = "gcc",
    json: JsonOption = False,
) -> None:
    """Compiles a source to a blob, and tells what in it is likely wrong.

    Sources that use the C preprocessor go through it by themselves."""
    from yarrik.cli.view import print_json, show_warnings
    from yarrik.devicetree import CHECKS, compile_and_check, encode_blob, read_source
    from yarrik.errors import Trouble, Unfit, YarrikError, suggestion
    from yarrik.units import parse_size, shown_size

    folders = include or []
    for code in silence or ():
        if code not in CHECKS:
            raise YarrikError(Trouble("CHECK-UNKNOWN", f"no check is called {code}", remedy=suggestion(code, CHECKS)))
    try:
        room_bytes = parse_size(room)
    except Unfit as error:
        raise YarrikError(Trouble("SIZE-UNKNOWN", f"--room: {error}", remedy="write a size like 4 KiB")) from error
    tree, warnings = compile_and_check(source, read_source(source, folders, compiler), folders, symbols, silence or ())
    if boot_cpu is not None:
        tree.boot_cpu = boot_cpu
    blob = encode_blob(tree, room_bytes, spare_reservations)
    _write(out, blob)
    nodes = sum(1 for _ in tree.root.walk())
    if json:
        told = [trouble.as_json() for trouble in warnings]
        print_json({"ok": True, "out": str(out), "bytes": len(blob), "nodes": nodes, "warnings": told})
        return
    show_warnings(warnings)
    sys.stdout.write(f"{out}: {shown_size(len(blob))}, {nodes} nodes\n")
    sys.stdout.write(f"next: yarrik devicetree show {out}\n")


@group.command(
    "apply",
    epilog="Example: [bold]yarrik devicetree apply board.dtb relay.dtbo display.dtbo --out both.dtb[/bold]",
)
def apply(
    base: Annotated[Path, typer.Argument(help="The blob to begin with, compiled with --symbols.")],
    overlays: Annotated[list[Path], typer.Argument(metavar="OVERLAY…", help="Blobs of overlays, applied in this order.")],
    out: OutOption,
    json: JsonOption = False,
) -> None:
    """Applies overlays to a blob, as a bootloader would, and writes the result."""
    import copy

    from yarrik.cli.view import print_json
    from yarrik.devicetree import apply_overlay, compare_trees, encode_blob
    from yarrik.units import shown_size

    tree = _read(base)
    before = copy.deepcopy(tree)
    for overlay in overlays:
        apply_overlay(tree, _read(overlay), overlay.name)
    blob = encode_blob(tree)
    _write(out, blob)
    changes = [one for one in compare_trees(before, tree) if not one.path.startswith("/__symbols__")]
    if json:
        rows = [{"kind": one.kind, "path": one.path, "property": one.item} for one in changes]
        print_json({"ok": True, "out": str(out), "bytes": len(blob), "changes": rows})
        return
    count = f"{counted(len(overlays), 'overlay')}"
    sys.stdout.write(f"{out}: {shown_size(len(blob))}, {count} applied, {len(changes)} changes\n")
    _show_differences(changes)


@group.command(
    "compare",
    epilog="Examples: [bold]yarrik devicetree compare old.dtb new.dtb[/bold] · "
    "[bold]yarrik devicetree compare old.dtb new.dtb --must-match[/bold]",
)
def compare(
    a: Annotated[Path, typer.Argument(metavar="A", help="A blob.")],
    b: Annotated[Path, typer.Argument(metavar="B", help="Another.")],
    must_match: Annotated[bool, typer.Option("--must-match", help="Ends with exit code 1 when they differ.")] = False,
    json: JsonOption = False,
) -> None:
    """Shows what differs between two blobs, by node and property.

    References count by the node they refer to, not by their numbers."""
    from yarrik.cli.view import print_json
    from yarrik.devicetree import compare_trees

    changes = compare_trees(_read(a), _read(b))
    if json:
        rows = [
            {"kind": one.kind, "path": one.path, "property": one.item, "before": one.before, "after": one.after}
            for one in changes
        ]
        print_json({"ok": not (changes and must_match), "same": not changes, "differences": rows})
    else:
        count = f"{counted(len(changes), 'difference')}"
        sys.stdout.write((count if changes else "the same in all nodes and properties") + "\n")
        _show_differences(changes)
    if changes and must_match:
        raise typer.Exit(1)


def _show_differences(changes: list[Difference]) -> None:
    """Grouped by node, each property with what it was and what it is."""
    from yarrik.cli.view import styled

    marks = {"added": ("+", "green"), "removed": ("-", "red"), "changed": ("~", "yellow")}
    last = ""
    for one in changes:
        mark, style = marks[one.kind]
        if one.item is None:
            sys.stdout.write(f"  {styled(mark, style)} {styled(one.path, 'bold')}   node {one.kind}\n")
            last = ""
            continue
        if one.path != last:
            sys.stdout.write(f"    {styled(one.path, 'bold')}\n")
            last = one.path
        values = " -> ".join(_short(text) for text in (one.before, one.after) if text is not None)
        sys.stdout.write(f"      {styled(mark, style)} {one.item}{'   ' + values if values.strip() else ''}\n")


def _short(text: str) -> str:
    return (text if len(text) <= 60 else text[:59] + "…") or "(empty)"


@group.command(
    "show",
    epilog="Examples: [bold]yarrik devicetree show board.dtb[/bold] · "
    "[bold]yarrik devicetree show board.dtb /soc/serial@9000000[/bold]",
)
def show(
    file: Annotated[Path, typer.Argument(help="A blob.")],
    path: Annotated[str, typer.Argument(help="A node in it; without one, the top.")] = "/",
    json: JsonOption = False,
) -> None:
    """Shows a blob as source, or one node of it with all below."""
    from yarrik.cli.view import print_json
    from yarrik.devicetree import as_source, text_of
    from yarrik.errors import Place, Trouble, YarrikError, suggestion

    tree = _read(file)
    node = tree.root.find(path)
    if node is None:
        known = [where for where, _ in tree.root.walk()]
        raise YarrikError(Trouble("NODE-MISSING", f"{file.name} has no node {path}", Place(file),
                                  remedy=suggestion(path, known)))  # fmt: skip
    if json:
        rows = [
            {
                "path": where,
                "properties": {item.name: text_of(item.value) or item.value.hex() for item in one.properties.values()},
            }
            for where, one in node.walk(path.rstrip("/"))
        ]
        print_json({"ok": True, "file": str(file), "nodes": rows})
        return
    sys.stdout.write(as_source(tree, node))
