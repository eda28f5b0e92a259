"""Searches names, summaries, options, packages and files made by earlier builds for a word."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec

from yarrik.errors import Place
from yarrik.model.workspace import Workspace


@dataclass(frozen=True)
class Found:
    """Something that a word was found in. `rank` 0 is a name that is the word; higher ones are weaker."""

    rank: int
    kind: str
    name: str
    what: str
    place: Place


class _Files(msgspec.Struct):
    files: list[dict[str, Any]]


def find(workspace: Workspace, word: str) -> list[Found]:
    """All that a word is found in, what fits best first."""
    wanted = word.lower()
    found = [one for one in _everything(workspace, wanted) if one is not None]
    return sorted(set(found), key=lambda one: (one.rank, one.kind, one.name, one.what))


def _rank(wanted: str, name: str, words: str = "") -> int | None:
    if name == wanted:
        return 0
    if wanted in name:
        return 1 if name.startswith(wanted) else 2
    return 3 if wanted in words.lower() else None


def _everything(workspace: Workspace, wanted: str) -> Iterator[Found | None]:
    for kind in workspace.shelved:
        for name, shelved in workspace.readable(kind):
            raw = shelved.document.raw
            summary = str(raw.get("summary", ""))
            yield _one(wanted, kind, name, summary, Place(shelved.file))
            if kind == "recipe":
                yield from _in_recipe(wanted, name, raw, Place(shelved.file))
    for row in _built(workspace.root / "out"):
        path = str(row.get("path", ""))
        rank = _rank(wanted, path.rpartition("/")[2].lower(), path)
        if rank is not None and row.get("kind") != "folder":
            package = row.get("package")
            yield Found(
                4 + rank, "file", path, f"of the package {package}" if package else "of the image", Place(row["manifest"])
            )


def _one(wanted: str, kind: str, name: str, what: str, place: Place) -> Found | None:
    rank = _rank(wanted, name, what)
    return Found(rank, kind, name, what, place) if rank is not None else None


def _in_recipe(wanted: str, name: str, raw: Mapping[str, Any], place: Place) -> Iterator[Found | None]:
    for option, rule in raw.get("options", {}).items():
        yield _one(wanted, "option", f"{name}[{option}]", str(rule.get("summary", "")), place)
        yield _one(wanted, "option", option, f"of {name}", place) if option == wanted else None
    for package, rule in raw.get("package", {}).items():
        if package != name:
            yield _one(wanted, "package", package, str(rule.get("summary", "")) or f"of {name}", place)
        for role in _words(rule.get("provides", ())):
            yield _one(wanted, "role", role, f"provided by {package}", place)


def _words(value: object) -> Iterable[str]:
    return value if isinstance(value, list) else ()


def _built(out: Path) -> Iterator[dict[str, Any]]:
    """The files of the images that were built here."""
    for manifest in sorted(out.glob("*/files.json")):
        try:
            rows = msgspec.json.decode(manifest.read_bytes(), type=_Files).files
        except (OSError, msgspec.DecodeError):
            continue
        for row in rows:
            yield {**row, "manifest": manifest}


def known_words(workspace: Workspace) -> set[str]:
    """Names that a word may have been meant for."""
    names = {name for definitions in workspace.shelved.values() for name in definitions}
    return names | {part for name in names for part in name.split("-") if len(part) > 2}
