"""Searches the workspace, the files of earlier builds, and catalogues: by words, ranked, and tolerant of a slip."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

import msgspec

from yarrik.errors import Place
from yarrik.model.catalogue import Catalogues, listed_of
from yarrik.model.definitions import Listed
from yarrik.model.workspace import Workspace

#: How alike a word and a name have to be that differ by a slip, of 100.
_ALIKE = 75
#: What is less alike than the best by more than this is left out.
_NEARLY_AS_GOOD = 8
#: Ranks: a name that is the word, begins with it, holds it; words of a description; a name that is much like it.
_EXACT, _BEGINS, _HOLDS, _DESCRIBED, _SLIP = range(5)


class Found(msgspec.Struct, frozen=True):
    """Something that the words were found in. `rank` 0 is a name that is the word; higher ones are weaker. `shelf` is the shelf
    that would have to be added, empty for what the workspace has; `on` is the shelf that has it, empty for the workspace
    itself."""

    rank: int
    kind: str
    name: str
    what: str
    place: Place
    shelf: str = ""
    on: str = ""


class _Files(msgspec.Struct):
    files: list[dict[str, Any]]


class _Candidate(msgspec.Struct, frozen=True):
    kind: str
    name: str
    what: str
    words: str
    place: Place
    shelf: str = ""
    on: str = ""


def find(
    workspace: Workspace | None, words: Sequence[str], catalogues: Catalogues | None = None, kinds: Collection[str] = ()
) -> list[Found]:
    """All in which every word is found, what fits best first; what is here comes before what a catalogue has. When nothing
    fits, names that differ by a slip."""
    wanted = [word.casefold() for word in words]
    candidates = [one for one in _candidates(workspace, catalogues) if not kinds or one.kind in kinds]
    found = [Found(rank, one.kind, one.name, one.what, one.place, one.shelf, one.on)
             for one in candidates if (rank := _rank(wanted, one)) is not None]  # fmt: skip
    if not found:
        found = list(_nearly(wanted, candidates))
    if workspace is not None and (not kinds or "file" in kinds):
        found += _files_made(workspace.root / "out", wanted)
    return sorted(set(found), key=lambda one: (bool(one.shelf), one.rank, one.kind, one.name, one.shelf, one.what))


def _rank(wanted: Sequence[str], one: _Candidate) -> int | None:
    """The weakest of the words counts, but for a first name: `tide recorder` finds what is called `tide` before others."""
    ranks = []
    name, words = one.name.casefold(), one.words.casefold()
    for word in wanted:
        if word == name:
            ranks.append(_EXACT)
        elif word in name:
            ranks.append(_BEGINS if name.startswith(word) else _HOLDS)
        elif word in words or word == one.kind:
            ranks.append(_DESCRIBED)
        else:
            return None
    return min(ranks, default=None)


def _nearly(wanted: Sequence[str], candidates: Iterable[_Candidate]) -> Iterator[Found]:
    from rapidfuzz import fuzz

    near: list[tuple[float, _Candidate]] = []
    for one in candidates:
        name = one.name.casefold()
        pieces = [name, *(piece for piece in name.split("-") if len(piece) > 3)]
        alike = min(max(fuzz.ratio(word, piece) for piece in pieces) for word in wanted)
        if alike >= _ALIKE:
            near.append((alike, one))
    best = max((alike for alike, _ in near), default=0.0)
    for alike, one in near:
        if alike >= best - _NEARLY_AS_GOOD:
            yield Found(_SLIP + round(100 - alike), one.kind, one.name, one.what, one.place, one.shelf, one.on)


def _candidates(workspace: Workspace | None, catalogues: Catalogues | None) -> Iterator[_Candidate]:
    here: set[str] = set()
    if workspace is not None:
        here = {choice.name for choice in workspace.settings.shelf}
        for kind in workspace.shelved:
            for name, shelved in workspace.readable(kind):
                for one in listed_of(kind, name, shelved.document.raw):
                    yield from _candidate(one, Place(shelved.file), "", shelved.shelf)
    for offer in catalogues.offers() if catalogues is not None else ():
        if offer.shelf.name in here:
            continue
        place = Place()
        yield _Candidate(
            "shelf", offer.shelf.name, offer.shelf.summary, offer.shelf.summary, place, offer.shelf.name, offer.shelf.name
        )
        for one in offer.shelf.holds:
            yield from _candidate(one, place, offer.shelf.name, offer.shelf.name)


def _candidate(one: Listed, place: Place, shelf: str, on: str) -> Iterator[_Candidate]:
    if one.kind == "option":
        yield _Candidate("option", f"{one.of}[{one.name}]", one.summary, one.summary, place, shelf, on)
        yield _Candidate("option", one.name, f"of {one.of}", "", place, shelf, on)
    elif one.kind == "role":
        yield _Candidate("role", one.name, f"provided by {one.of}", "", place, shelf, on)
    elif one.kind == "package":
        yield _Candidate("package", one.name, one.summary or f"of {one.of}", f"{one.summary} {one.of}", place, shelf, on)
    else:
        yield _Candidate(one.kind, one.name, one.summary, one.summary, place, shelf, on)


def _files_made(out: Path, wanted: Sequence[str]) -> Iterator[Found]:
    """The files of the images that were built here."""
    for manifest in sorted(out.glob("*/files.json")):
        try:
            rows = msgspec.json.decode(manifest.read_bytes(), type=_Files).files
        except (OSError, msgspec.DecodeError):
            continue
        for row in rows:
            path, package = str(row.get("path", "")), row.get("package")
            if row.get("kind") == "folder":
                continue
            what = f"of the package {package}" if package else "of the image"
            name = path.rpartition("/")[2]
            rank = _rank(wanted, _Candidate("file", name, what, path, Place(manifest)))
            if rank is not None:
                yield Found(_SLIP + rank, "file", path, what, Place(manifest))


def known_words(workspace: Workspace) -> set[str]:
    """Names that a word may have been meant for."""
    names = {name for definitions in workspace.shelved.values() for name in definitions}
    return names | {part for name in names for part in name.split("-") if len(part) > 2}
