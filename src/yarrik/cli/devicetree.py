"""`yarrik devicetree`: sources and blobs by themselves."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption

group = typer.Typer(
    no_args_is_help=True,
    help="Compiles device trees and shows what is in them.",
    epilog="Example: [bold]yarrik devicetree compile board.dts --out board.dtb --include include[/bold]",
    rich_markup_mode="rich",
)
app.add_typer(group, name="devicetree")


@group.command(
    "compile",
    epilog="Examples: [bold]yarrik devicetree compile board.dts --out board.dtb[/bold] · "
    "[bold]yarrik devicetree compile relay.dtso --out relay.dtbo --include include --symbols[/bold]",
)
def compile_(
    source: Annotated[Path, typer.Argument(help="A .dts or .dtso file.")],
    out: Annotated[Path, typer.Option(metavar="FILE", help="The blob to write.")],
    include: Annotated[
        list[Path] | None, typer.Option(metavar="FOLDER", help="Where included files are looked for; may be given again.")
    ] = None,
    symbols: Annotated[bool, typer.Option("--symbols", help="Keeps all labels, so that overlays can refer to them.")] = False,
    compiler: Annotated[str, typer.Option(metavar="PROGRAM", help="Whose preprocessor it goes through, if need be.")] = "gcc",
    json: JsonOption = False,
) -> None:
    """Compiles a source to a blob; sources that use the C preprocessor go through it by themselves."""
    from yarrik.cli.view import print_json
    from yarrik.devicetree import compile_source, encode_blob, read_source
    from yarrik.errors import Place, Trouble, YarrikError
    from yarrik.units import shown_size

    folders = include or []
    tree = compile_source(source, read_source(source, folders, compiler), folders, symbols)
    blob = encode_blob(tree)
    fresh = out.with_name(f".{out.name}.{os.getpid()}.new")
    try:
        fresh.write_bytes(blob)
        fresh.replace(out)
    except OSError as error:
        raise YarrikError(Trouble("OUT-FAILED", f"cannot write {out}: {error.strerror}", Place(out),
                                  remedy="name a file in a folder that is there and is yours to write")) from error  # fmt: skip
    finally:
        fresh.unlink(missing_ok=True)
    nodes = sum(1 for _ in tree.root.walk())
    if json:
        print_json({"ok": True, "out": str(out), "bytes": len(blob), "nodes": nodes})
        return
    sys.stdout.write(f"{out}: {shown_size(len(blob))}, {nodes} nodes\n")
    sys.stdout.write(f"next: yarrik devicetree show {out}\n")


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
    from yarrik.devicetree import BlobDamaged, as_source, decode_blob, text_of
    from yarrik.errors import Place, Trouble, YarrikError, suggestion

    try:
        tree = decode_blob(file.read_bytes())
    except OSError as error:
        raise YarrikError(Trouble("BLOB-UNREADABLE", f"cannot read {file}: {error.strerror}", Place(file),
                                  remedy="check the name")) from error  # fmt: skip
    except BlobDamaged as error:
        raise YarrikError(Trouble("BLOB-DAMAGED", f"{file.name} is no sound device tree: {error}", Place(file),
                                  remedy="compile it anew, or name a .dtb file")) from error  # fmt: skip
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
