"""`yarrik pack`: this folder as that filesystem."""

from __future__ import annotations

import sys
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.disk import Wish
    from yarrik.rootfs import RootTree


def _forms(incomplete: str) -> list[str]:
    from yarrik.disk import FORMS

    return [name for name, form in FORMS.items() if form.packs and name.startswith(incomplete)]


class Compression(StrEnum):
    """How squashfs, cpio and tar are compressed."""

    zstd = "zstd"
    xz = "xz"
    gzip = "gzip"
    lz4 = "lz4"


class Beside(StrEnum):
    """What can be written beside the image."""

    zstd = "zstd"
    gzip = "gzip"
    xz = "xz"
    map = "map"
    sparse = "sparse"


@app.command(
    epilog="Examples: [bold]yarrik pack rootfs root.img --as ext4 --size 64MiB --label root[/bold] · "
    "[bold]yarrik pack rootfs init.cpio.gz --as cpio --all-root --compress gzip[/bold] · "
    "[bold]yarrik pack rootfs root.img --as squashfs --compress zstd --level 19[/bold]"
)
def pack(
    folder: Annotated[Path, typer.Argument(help="The folder whose content is written.")],
    out: Annotated[Path, typer.Argument(help="The file to write; it must not be there yet.")],
    form: Annotated[
        str, typer.Option("--as", metavar="FORM", help="ext4, ext2, fat, squashfs, cpio or tar.", autocompletion=_forms)
    ],
    size: Annotated[
        str, typer.Option(metavar="SIZE", help="Like `64MiB` or `fit + 20%`; as small as the content without it.")
    ] = "fit",
    label: Annotated[str, typer.Option(help="The filesystem's label.")] = "",
    identifier: Annotated[
        str,
        typer.Option(metavar="ID", help="Its GUID, or `1234-ABCD` for FAT; derived from the label without it."),
    ] = "",
    owners: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="A table PATH KIND MODE UID GID [MAJOR MINOR] that sets owners, modes, nodes."),
    ] = None,
    all_root: Annotated[bool, typer.Option("--all-root", help="Everything belongs to root.")] = False,
    clock: Annotated[
        int | None,
        typer.Option(metavar="SECONDS", help="Time of all files, in seconds since 1970; without it files keep theirs."),
    ] = None,
    compress: Annotated[
        Compression | None, typer.Option(help="How squashfs (zstd without it), cpio and tar are compressed.")
    ] = None,
    level: Annotated[int | None, typer.Option(metavar="N", help="Compression level.")] = None,
    inodes: Annotated[int | None, typer.Option(metavar="N", min=16, help="ext4, ext2: the least number of inodes.")] = None,
    reserved: Annotated[
        int, typer.Option(metavar="PERCENT", min=0, max=50, help="ext4, ext2: blocks that are kept for root alone.")
    ] = 0,
    full_tables: Annotated[
        bool,
        typer.Option("--full-tables", help="ext4: writes inode tables to their ends, which else the kernel does."),
    ] = False,
    also: Annotated[list[Beside] | None, typer.Option(help="Writes this beside it; may be given again.")] = None,
    force: Annotated[bool, typer.Option("--force", help="Overwrites an existing file.")] = False,
    json: JsonOption = False,
) -> None:
    """Writes a folder as a filesystem or archive: no root, no mounts, the same bytes for the same folder."""
    from yarrik.cli.view import print_json
    from yarrik.disk import BESIDE, Wish
    from yarrik.errors import Place, Trouble, Unfit, YarrikError, suggestion
    from yarrik.identifiers import identifier_of
    from yarrik.rootfs import read_folder, read_owners
    from yarrik.units import TooSmall, shown_size

    if form not in _forms(""):
        raise YarrikError(Trouble("FORM-UNKNOWN", f"there is no form `{form}` to pack", remedy=suggestion(form, _forms(""))))
    if not folder.is_dir():
        raise YarrikError(
            Trouble("FOLDER-MISSING", f"there is no folder {folder}", Place(folder), remedy="name the folder to pack")
        )
    results = [out, *(out.with_name(out.name + BESIDE[kind.value]) for kind in also or [])]
    for file in results:
        if file.exists() and not force:
            raise YarrikError(Trouble("OUT-EXISTS", f"{file} is there already", Place(file),
                                      why="a file is overwritten only on request",
                                      remedy="name another file, or add --force"))  # fmt: skip
    if out.resolve().is_relative_to(folder.resolve()):
        raise YarrikError(
            Trouble("OUT-INSIDE", f"{out} lies in the folder that is packed", Place(out), remedy="write it elsewhere")
        )
    tree = read_folder(folder, read_owners(owners) if owners is not None else None, all_root, clock)
    try:
        wish = Wish(
            form,
            identifier_of(identifier, "packed", label),
            label=label,
            clock=clock or 0,
            inodes=inodes,
            reserved_percent=reserved,
            full_tables=full_tables,
            compression=compress.value if compress is not None else "",
            level=level,
        )
        _write(tree, results, wish, size, [kind.value for kind in also or []])
    except TooSmall as error:
        raise YarrikError(Trouble("PACK-TOO-SMALL", f"{folder} cannot be packed as {form}: {error}", Place(folder),
                                  remedy="give a larger --size, or leave it out"), "work") from error  # fmt: skip
    except Unfit as error:
        raise YarrikError(Trouble("PACK-UNFIT", f"{folder} cannot be packed as {form}: {error}", Place(folder),
                                  remedy="change what is named, or choose another form with --as"),
                          "work") from error  # fmt: skip
    except OSError as error:
        raise YarrikError(Trouble("PACK-FAILED", f"cannot write {out}: {error.strerror}", Place(out),
                                  remedy="check the disk's free space and your permissions"), "work") from error  # fmt: skip
    count = out.stat().st_size
    if json:
        beside = [str(file) for file in results[1:]]
        print_json({"ok": True, "out": str(out), "form": form, "bytes": count, "paths": len(tree.nodes), "beside": beside})
        return
    sys.stdout.write(f"{out}: {form}, {shown_size(count)}, {counted(len(tree.nodes), 'path')}\n")
    for file in results[1:]:
        sys.stdout.write(f"{file}: {shown_size(file.stat().st_size)}\n")
    sys.stdout.write(f"next: yarrik inspect {out} /\n")


def _write(tree: RootTree, results: list[Path], wish: Wish, size: str, kinds: list[str]) -> None:
    """Writes all results under other names, and gives them their own when all are there."""
    from contextlib import ExitStack

    from yarrik.atomic import new_file
    from yarrik.cli.view import sign_of_life
    from yarrik.disk import pack_folder, write_beside

    with ExitStack() as stack:
        fresh = [stack.enter_context(new_file(file, None)) for file in results]
        with sign_of_life(fresh[0]):
            written = pack_folder(tree, fresh[0], wish, size)
        for kind, file in zip(kinds, fresh[1:], strict=True):
            with sign_of_life(file):
                write_beside(fresh[0], results[0].name, written, kind, file)
