"""`yarrik inspect`: what is in an image, read from its bytes, nothing mounted."""

from __future__ import annotations

import datetime
import hashlib
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.disk import Found, FoundPartition, OpenedImage


@app.command(
    epilog="Examples: [bold]yarrik inspect out/tide-gauge/tide-gauge.img[/bold] · "
    "[bold]yarrik inspect card.img /etc[/bold] · [bold]yarrik inspect card.img --extract /boot --to boot-files[/bold]"
)
def inspect(
    image: Annotated[Path, typer.Argument(help="An image, a single filesystem, an archive, or a device.")],
    paths: Annotated[list[str] | None, typer.Argument(metavar="[PATH]…", help="Paths in it to list.")] = None,
    partition: Annotated[str | None, typer.Option(metavar="NAME", help="Only this partition, by name or number.")] = None,
    extract: Annotated[str | None, typer.Option(metavar="PATH", help="Takes this path out; needs --to.")] = None,
    to: Annotated[Path | None, typer.Option(metavar="FOLDER", help="Where --extract writes, and nowhere else.")] = None,
    digest: Annotated[bool, typer.Option("--digest", help="Shows the SHA-256 of each file that is listed.")] = False,
    json: JsonOption = False,
) -> None:
    """Shows an image: a map of the disk, its partitions, and files with owner, mode, size and links.

    A path that is one file is shown with all that is known of it. Compressed and sparse images are expanded first."""
    from yarrik.boot import names_beside
    from yarrik.disk import opened_image
    from yarrik.errors import Damaged, Place, Trouble, YarrikError, found_nearby, suggestion

    if (extract is None) != (to is None):
        raise YarrikError(
            Trouble("USAGE", "--extract and --to go together", remedy="yarrik inspect IMAGE --extract PATH --to FOLDER")
        )
    try:
        with opened_image(image) as found:
            opened = found.named(names_beside(image))
            names = [part.name for part in opened.partitions]
            chosen = [part for part in opened.partitions if partition in (None, part.name)]
            chosen = chosen or [part for part in opened.partitions if partition == str(part.number)]
            if partition is not None and not chosen:
                raise YarrikError(Trouble("PARTITION-UNKNOWN", f"there is no partition `{partition}`", Place(image),
                                          remedy=suggestion(partition, names)))  # fmt: skip
            if extract is not None and to is not None:
                _extract(image, chosen, extract, to, json)
            elif paths:
                _list(image, chosen, paths, digest, json)
            else:
                _overview(image, opened, json)
    except BrokenPipeError:
        raise
    except OSError as error:
        remedy = found_nearby(image, "check the name, and that you may read it")
        what = f"cannot read {image}: {error.strerror or error}"
        raise YarrikError(Trouble("IMAGE-UNREADABLE", what, Place(image), remedy=remedy)) from error
    except Damaged as error:
        raise YarrikError(Trouble("IMAGE-DAMAGED", f"{image.name} cannot be read further: {error}", Place(image),
                                  remedy="write or fetch it again"), "work") from error  # fmt: skip


def _overview(image: Path, opened: OpenedImage, json: bool) -> None:
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.units import shown_size

    if json:
        print_json(
            {
                "ok": not opened.problem,
                "image": str(image),
                "bytes": opened.size,
                "table": opened.table,
                "unwrapped": opened.wrapped,
                "problem": opened.problem,
                "partitions": [_described(part) for part in opened.partitions],
            }
        )
        return
    table = {
        "gpt": "GUID partition table",
        "mbr": "classic partition table",
        "hybrid": "GUID partition table, some of it in the classic one too",
        "none": "no partition table",
    }[opened.table]
    wrapped = f", unwrapped from {opened.wrapped}" if opened.wrapped else ""
    sys.stdout.write(f"{styled(image.name, 'bold')}: {shown_size(opened.size)}{wrapped}, {table}\n")
    if opened.problem:
        sys.stdout.write(f"  {styled('damaged', 'red')}  {opened.problem}\n")
    rows = []
    for part in opened.partitions:
        first = part.start * 40 // max(1, opened.size)
        last = max(first + 1, -(-(part.start + part.size) * 40 // max(1, opened.size)))
        bar = "·" * first + "█" * (last - first) + "·" * (40 - last)
        what = f"{part.reader.form}{_labelled(part)}" if part.reader is not None else part.problem
        marks = ", bootable" if part.bootable else ""
        rows.append(
            (str(part.number or ""), part.name or "whole", bar[:40], f"{part.start:#x}", shown_size(part.size), what + marks)
        )
    show_table(rows, right=(3, 4))
    identifiers = [(part.name, part.identifier) for part in opened.partitions if part.identifier]
    if identifiers:
        sys.stdout.write("PARTUUID\n")
        show_table(identifiers)
    if any(part.reader is not None for part in opened.partitions):
        sys.stdout.write(f"next: yarrik inspect {image} /\n")


def _labelled(part: FoundPartition) -> str:
    return f" `{part.reader.label}`" if part.reader is not None and part.reader.label else ""


def _described(part: FoundPartition) -> dict[str, object]:
    return {
        "number": part.number,
        "name": part.name,
        "start": part.start,
        "bytes": part.size,
        "identifier": part.identifier,
        "type": part.type,
        "bootable": part.bootable,
        "filesystem": part.reader.form if part.reader is not None else None,
        "label": part.reader.label if part.reader is not None else None,
        "problem": part.problem,
    }


def _normal(path: str) -> str:
    return "/" + "/".join(word for word in path.split("/") if word)


def _matching(chosen: list[FoundPartition], path: str) -> list[tuple[FoundPartition, list[Found]]]:
    """For each partition that has the path: it, and all that lies in it."""
    from yarrik.disk import below

    found = []
    for part in chosen:
        if part.reader is not None:
            inside = [one for one in part.reader.walk() if below(one, path)]
            if inside:
                found.append((part, inside))
    return found


def _missing(image: Path, path: str) -> Exception:
    from yarrik.errors import Place, Trouble, YarrikError

    return YarrikError(Trouble("PATH-MISSING", f"no partition of {image.name} has {path}", Place(image),
                               remedy=f"list the files: yarrik inspect {image} /"))  # fmt: skip


def _list(image: Path, chosen: list[FoundPartition], paths: list[str], digest: bool, json: bool) -> None:
    from yarrik.cli.view import print_json, show_table, styled

    answers: list[dict[str, object]] = []
    for path in map(_normal, paths):
        matches = _matching(chosen, path)
        if not matches:
            raise _missing(image, path)
        for part, inside in matches:
            depth = path.rstrip("/").count("/") + 1
            shown = [one for one in inside if one.path == path or one.path.count("/") <= depth]
            if json:
                answers += [_row(part, one, digest) for one in inside]
                continue
            if len(chosen) > 1 or len(paths) > 1:
                head = f"{part.name}: {path}" if len(chosen) > 1 and len(paths) > 1 else part.name if len(chosen) > 1 else path
                sys.stdout.write(f"{styled(head, 'bold')}\n")
            if len(inside) == 1 and inside[0].kind != "folder":
                show_table(_facts(part, inside[0]))
                continue
            rows = [
                (*_line(one), _digest(part, one)) if digest else _line(one)
                for one in sorted(shown, key=lambda one: one.path)
                if one.path != path or one.kind != "folder"
            ]
            show_table(rows, right=(1, 2))
    if json:
        print_json({"ok": True, "image": str(image), "files": answers})


def _line(one: Found) -> tuple[str, str, str, str]:
    letter = {"folder": "d", "file": "-", "link": "l", "character": "c", "block": "b", "fifo": "p", "socket": "s"}[one.kind]
    size = (
        f"{one.device[0]}:{one.device[1]}"
        if one.kind in ("character", "block")
        else ""
        if one.kind == "folder"
        else str(one.size)
    )
    name = _printable(one.path) + ("/" if one.kind == "folder" else "")
    more = (
        f" → {_printable(one.target)}"
        if one.kind == "link"
        else f" ({one.links} links)"
        if one.kind == "file" and one.links > 1
        else ""
    )
    return f"{letter}{one.mode:04o}", f"{one.uid}:{one.gid}", size, name + more


def _digest(part: FoundPartition, one: Found) -> str:
    """The SHA-256 of a file's content; empty for what is not a file."""
    if one.kind != "file" or part.reader is None:
        return ""
    digest = hashlib.sha256()
    for data in part.reader.content(one):
        digest.update(data)
    return digest.hexdigest()


def _attributes(part: FoundPartition, one: Found) -> dict[str, str]:
    """Extended attributes, with their values as text where they are text or capabilities, and else as hexadecimal digits."""
    assert part.reader is not None
    found = sorted(part.reader.attributes(one).items())
    return {name: _attribute_text(name, value) for name, value in found}


def _attribute_text(name: str, value: bytes) -> str:
    from yarrik.capabilities import ATTRIBUTE, decode_capabilities
    from yarrik.errors import Damaged

    if name == ATTRIBUTE:
        try:
            return decode_capabilities(value)
        except Damaged:
            pass  # shown like any other
    return value.decode("ascii") if value.isascii() and value.decode("ascii").isprintable() else "0x" + value.hex()


def _facts(part: FoundPartition, one: Found) -> list[tuple[str, str]]:
    """All that is known of one path."""
    row = _row(part, one, True)
    rows = [(name, str(value)) for name, value in row.items() if name not in ("partition", "modified", "attributes", "sha256")]
    moment = datetime.datetime(1970, 1, 1) + datetime.timedelta(seconds=max(-(1 << 35), min(one.modified, 1 << 36)))
    rows.append(("modified", f"{moment:%Y-%m-%d %H:%M:%S} UTC"))
    rows += _attributes(part, one).items()
    return [*rows, ("sha256", str(row["sha256"]))] if one.kind == "file" else rows


def _printable(text: str) -> str:
    from yarrik.rootfs import quoted

    return quoted(text)


def _row(part: FoundPartition, one: Found, digest: bool) -> dict[str, object]:
    row: dict[str, object] = {
        "partition": part.name,
        "path": _printable(one.path),
        "kind": one.kind,
        "mode": f"{one.mode:04o}",
        "uid": one.uid,
        "gid": one.gid,
        "bytes": one.size,
        "modified": one.modified,
        "links": one.links,
    }
    if one.kind == "link":
        row["to"] = _printable(one.target)
    if one.kind in ("character", "block"):
        row["device"] = f"{one.device[0]}:{one.device[1]}"
    if attributes := _attributes(part, one):
        row["attributes"] = attributes
    if digest and one.kind == "file":
        row["sha256"] = _digest(part, one)
    return row


def _extract(image: Path, chosen: list[FoundPartition], path: str, to: Path, json: bool) -> None:
    from yarrik.cli.view import print_json, show_notes
    from yarrik.disk import extract
    from yarrik.errors import Place, Trouble, YarrikError

    path = _normal(path)
    matches = _matching(chosen, path)
    if not matches:
        raise _missing(image, path)
    if len(matches) > 1:
        names = ", ".join(part.name for part, _ in matches)
        raise YarrikError(Trouble("PATH-AMBIGUOUS", f"several partitions have {path}: {names}", Place(image),
                                  remedy="choose one with --partition NAME"))  # fmt: skip
    part, inside = matches[0]
    assert part.reader is not None
    try:
        done = extract(part.reader, inside, path, to)
    except OSError as error:
        raise YarrikError(
            Trouble(
                "EXTRACT-FAILED",
                f"cannot write {error.filename}: {error.strerror}",
                Place(to),
                why="existing files are not overwritten",
                remedy="name an empty folder",
            ),
            "work",
        ) from error
    if json:
        print_json(
            {"ok": not done.refused, "files": done.files, "to": str(to), "left-out": done.for_root, "refused": done.refused}
        )
        if done.refused:
            raise typer.Exit(1)
        return
    sys.stdout.write(f"{counted(done.files, 'file')} written to {to}\n")
    if done.for_root:
        show_notes([f"left out, since only root could make it: {_first_of(done.for_root)}"])
    if done.refused:
        raise YarrikError(
            Trouble("EXTRACT-REFUSED", f"not written: {_first_of(done.refused)}", Place(image),
                    why="a member below a link would be written wherever the link leads, outside of the folder",
                    remedy="do not trust this archive before its origin is clear; all other members were written"),
            "work",
        )  # fmt: skip


def _first_of(texts: list[str]) -> str:
    more = f" and {len(texts) - 3} more" if len(texts) > 3 else ""
    return ", ".join(texts[:3]) + more
