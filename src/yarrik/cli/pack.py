"""`yarrik pack`: this folder as that filesystem."""

from __future__ import annotations

import os
import sys
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption


class Form(StrEnum):
    """What `pack` writes."""

    ext4 = "ext4"
    fat = "fat"
    squashfs = "squashfs"
    cpio = "cpio"
    tar = "tar"


class Compression(StrEnum):
    """How squashfs is compressed."""

    zstd = "zstd"
    xz = "xz"
    gzip = "gzip"


@app.command(
    epilog="Examples: [bold]yarrik pack rootfs root.img --as ext4 --size 64MiB --label root[/bold] · "
    "[bold]yarrik pack initramfs init.cpio --as cpio --all-root[/bold]"
)
def pack(
    folder: Annotated[Path, typer.Argument(help="The folder whose content is written.")],
    out: Annotated[Path, typer.Argument(help="The file to write; it must not be there yet.")],
    form: Annotated[Form, typer.Option("--as", help="The filesystem or archive.")],
    size: Annotated[
        str, typer.Option(metavar="SIZE", help="Like `64MiB` or `fit + 20%`; as small as the content without it.")
    ] = "fit",
    label: Annotated[str, typer.Option(help="The filesystem's label.")] = "",
    owners: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="A table PATH KIND MODE UID GID [MAJOR MINOR] that sets owners, modes, nodes."),
    ] = None,
    compress: Annotated[Compression, typer.Option(help="How squashfs is compressed.")] = Compression.zstd,
    all_root: Annotated[bool, typer.Option("--all-root", help="Everything belongs to root.")] = False,
    clock: Annotated[
        int | None, typer.Option(metavar="SECONDS", help="The time of all, since 1970; without it files keep theirs.")
    ] = None,
    force: Annotated[bool, typer.Option("--force", help="Writes over a file that is there.")] = False,
    json: JsonOption = False,
) -> None:
    """Writes a folder as a filesystem or archive: no root, no mounts, the same bytes for the same folder."""
    from yarrik.cli.view import print_json
    from yarrik.disk.packing import pack_folder
    from yarrik.errors import Place, Trouble, YarrikError
    from yarrik.rootfs import read_folder, read_owners
    from yarrik.units import shown_size

    if not folder.is_dir():
        raise YarrikError(
            Trouble("FOLDER-MISSING", f"there is no folder {folder}", Place(folder), remedy="name the folder to pack")
        )
    if out.exists() and not force:
        raise YarrikError(Trouble("OUT-EXISTS", f"{out} is there already", Place(out), why="nothing is written over unasked",
                                  remedy="name another file, or add --force"))  # fmt: skip
    if out.resolve().is_relative_to(folder.resolve()):
        raise YarrikError(
            Trouble("OUT-INSIDE", f"{out} lies in the folder that is packed", Place(out), remedy="write it elsewhere")
        )
    tree = read_folder(folder, read_owners(owners) if owners is not None else None, all_root, clock)
    fresh = out.with_name(f".{out.name}.{os.getpid()}.new")
    try:
        try:
            pack_folder(tree, fresh, form.value, size, label, clock or 0, compress.value)
            fresh.replace(out)
        finally:
            fresh.unlink(missing_ok=True)
    except ValueError as error:
        raise YarrikError(Trouble("PACK-UNFIT", f"{folder} cannot be packed as {form.value}: {error}", Place(folder),
                                  remedy="another size or form may do"), "work") from error  # fmt: skip
    except OSError as error:
        raise YarrikError(Trouble("PACK-FAILED", f"cannot write {out}: {error.strerror}", Place(out),
                                  remedy="check the disk's free space and your rights"), "work") from error  # fmt: skip
    count = out.stat().st_size
    if json:
        print_json({"ok": True, "out": str(out), "form": form.value, "bytes": count, "paths": len(tree.nodes)})
        return
    sys.stdout.write(f"{out}: {form.value}, {shown_size(count)}, {len(tree.nodes)} paths\n")
    if form in (Form.ext4, Form.fat):
        sys.stdout.write(f"next: yarrik inspect {out} /\n")
