"""Catalogues: files that say which shelves exist, where, and what each of them holds."""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, cast

import msgspec

from yarrik.atomic import write_file
from yarrik.errors import Place, Trouble, Unfit, YarrikError, found_nearby
from yarrik.model.checking import convert
from yarrik.model.definitions import CatalogueFile, CatalogueShelf, CatalogueTable, Listed, ListedKind, ShelfFile, ShelfTable
from yarrik.model.kinds import SHAPES
from yarrik.model.reading import Document, Raw, parse_document, read_document
from yarrik.model.rules import check_name
from yarrik.model.workspace import files_on

#: A catalogue is not larger than this (bytes).
LARGEST_CATALOGUE = 32 << 20


class Catalogue(msgspec.Struct, frozen=True):
    """A catalogue that was read. `source` is its path or address, `folder` where it is on this machine: the paths of its
    shelves begin there, and one that was downloaded has none."""

    source: str
    folder: Path | None
    value: CatalogueFile

    def place_of(self, shelf: CatalogueShelf) -> str:
        """Where a shelf is: its folder on this machine or its repository's address; empty for a folder that is elsewhere."""
        if shelf.git:
            return shelf.git
        return str(self.folder / shelf.path) if self.folder is not None and shelf.path else ""


def read_catalogue(data: bytes, file: Path, source: str, downloaded: bool) -> Catalogue:
    """A catalogue from its text, which is JSON or TOML; `file` is where the text is. Raises YarrikError with all that is
    wrong."""
    if data.lstrip()[:1] == b"{":
        try:
            raw = msgspec.json.decode(data)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
            raise YarrikError(Trouble("CATALOGUE-UNREADABLE", f"the catalogue is not valid JSON: {error}", Place(file),
                                      why=f"it comes from {source}",
                                      remedy="write it anew: yarrik catalogue make FOLDER")) from error  # fmt: skip
        document = Document(file, raw)
    else:
        document = parse_document(data, file)
    value = convert(document, CatalogueFile)
    return Catalogue(source, None if downloaded else file.parent, value)


class Offer(msgspec.Struct, frozen=True):
    """A shelf that could be added, and the catalogue that lists it."""

    shelf: CatalogueShelf
    catalogue: Catalogue


class Catalogues(msgspec.Struct, frozen=True):
    """Several catalogues, asked in order; of shelves with one name the first counts."""

    known: tuple[Catalogue, ...] = ()

    def offers(self) -> Iterable[Offer]:
        """Every shelf, once."""
        seen: set[str] = set()
        for catalogue in self.known:
            for shelf in catalogue.value.shelf:
                if shelf.name not in seen:
                    seen.add(shelf.name)
                    yield Offer(shelf, catalogue)

    def shelf(self, name: str) -> Offer | None:
        """The shelf of this name."""
        return next((offer for offer in self.offers() if offer.shelf.name == name), None)

    def carrying(self, kinds: Sequence[str], name: str) -> list[Offer]:
        """The shelves that hold something of one of these kinds and this name."""
        return [offer for offer in self.offers()
                if any(one.kind in kinds and one.name == name for one in offer.shelf.holds)]  # fmt: skip


def listed_of(kind: str, name: str, raw: Mapping[str, Any]) -> list[Listed]:
    """What a catalogue says of a definition, as it is written: itself, and a recipe's packages, options and roles."""
    summary = _line(raw.get("summary"))
    version = _line(raw.get("version")) if kind == "recipe" else ""
    found = [Listed(kind=cast("ListedKind", kind), name=name, summary=summary, version=version)]
    if kind != "recipe":
        return found
    packages = raw.get("package")
    for package, rule in packages.items() if isinstance(packages, dict) else ():
        if package != name:
            found.append(Listed(kind="package", name=package, summary=_line(rule.get("summary")), of=name))
        for role in rule.get("provides", ()) if isinstance(rule.get("provides", ()), list) else ():
            found.append(Listed(kind="role", name=role, of=package))
    options = raw.get("options")
    for option, rule in options.items() if isinstance(options, dict) else ():
        found.append(Listed(kind="option", name=option, summary=_line(rule.get("summary")), of=name))
    return found


def _line(value: object) -> str:
    return " ".join(value.split()) if isinstance(value, str) else ""


def describe_shelf(folder: Path) -> tuple[ShelfTable, list[Listed]]:
    """What a catalogue says of a shelf, of its folder as it is. Raises YarrikError for definitions that do not fit."""
    shelf = convert(read_document(folder / "shelf.toml"), ShelfFile).shelf
    found: list[Listed] = []
    for kind in SHAPES:
        if kind == "amendment":
            continue
        for name, path, _ in files_on(folder, kind):
            document = read_document(Path(path))
            if "extends" not in document.raw:
                convert(document, SHAPES[kind])
            found += listed_of(kind, name, document.raw)
    return shelf, found


def shelf_entry(folder: Path, path: str = "", git: str = "", ref: Mapping[str, str] | None = None) -> CatalogueShelf:
    """A shelf's entry; `path` is its folder from the catalogue's, `git` its repository. Raises YarrikError."""
    shelf, holds = describe_shelf(folder)
    return CatalogueShelf(name=shelf.name, summary=shelf.summary, version=shelf.version, path=path, git=git, needs=shelf.needs,
                          needs_yarrik=shelf.needs_yarrik, works_with=shelf.works_with, holds=tuple(holds),
                          **(ref or {}))  # fmt: skip


def as_text(name: str, summary: str, shelves: Sequence[CatalogueShelf], json_form: bool) -> str:
    """A catalogue as TOML or JSON, one thing a line, so that it reads well in a diff."""
    whole = CatalogueFile(catalogue=CatalogueTable(name=name, summary=summary), shelf=tuple(shelves))
    if json_form:
        return json.dumps(_plain(whole), indent=1, ensure_ascii=False) + "\n"
    lines = ["# Written by `yarrik catalogue make`.", "[catalogue]", f"name = {_quoted(name)}"]
    lines += [f"summary = {_quoted(summary)}"] if summary else []
    for shelf in shelves:
        raw = _plain(shelf)
        holds, works_with = raw.pop("holds", []), raw.pop("works-with", {})
        lines += ["", "[[shelf]]", *(f"{key} = {_quoted(value)}" for key, value in raw.items())]
        lines += [f"works-with.{_quoted(other)} = {_quoted(wish)}" for other, wish in works_with.items()]
        lines += ["holds = ["]
        for one in holds:
            lines.append("  { " + ", ".join(f"{key} = {_quoted(value)}" for key, value in one.items()) + " },")
        lines += ["]"]
    return "\n".join(lines) + "\n"


def _plain(value: object) -> Raw:
    """A table as plain values, without what is as usual."""
    found: Raw = msgspec.to_builtins(value)

    def thin(one: Any) -> Any:
        if isinstance(one, dict):
            return {key: thin(item) for key, item in one.items() if item not in ("", [], (), {}, False, None)}
        return [thin(item) for item in one] if isinstance(one, list | tuple) else one

    thinned: Raw = thin(found)
    return thinned


def _quoted(value: object) -> str:
    """A TOML value: strings of JSON are strings of TOML, but for DEL, which TOML wants escaped."""
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")


def from_catalogue(file: Path, folder: Path) -> str:
    """The path of a shelf's folder from the folder of the catalogue's file. Raises Unfit for one that is not below it."""
    try:
        return str(folder.resolve().relative_to(file.parent.resolve())).replace(os.sep, "/")
    except ValueError as error:
        raise Unfit("it is not below the catalogue's folder") from error


def write_catalogue(
    folders: Sequence[Path], out: Path, name: str = "", summary: str = "", git: str = "", branch: str = ""
) -> list[CatalogueShelf]:
    """Writes the catalogue of shelves: each folder is one, or holds some. Raises YarrikError; then nothing is written."""
    shelves: list[CatalogueShelf] = []
    for given in folders:
        inner = [given] if (given / "shelf.toml").is_file() else sorted(one.parent for one in given.glob("*/shelf.toml"))
        if not inner:
            raise YarrikError(Trouble("SHELF-UNKNOWN", f"{given.name} is no shelf and holds none", Place(given),
                                      why="a shelf is a folder with shelf.toml",
                                      remedy=found_nearby(given, "name folders of shelves")))  # fmt: skip
        shelves += [_entry(one, out, git, branch) for one in inner]
    twice = [shelf.name for shelf in shelves if sum(one.name == shelf.name for one in shelves) > 1]
    if twice:
        raise YarrikError(Trouble("SHELF-TWICE", f"two of the shelves have the name `{twice[0]}`", Place(out),
                                  remedy="name one of them only"))  # fmt: skip
    text = as_text(name or _name_of(out.parent), summary, shelves, out.suffix == ".json")
    read_catalogue(text.encode(), out, str(out), downloaded=False)  # what is written has to read
    try:
        write_file(out, text.encode())
    except OSError as error:
        raise YarrikError(Trouble("OUT-FAILED", f"cannot write {out.name}: {error.strerror}", Place(out),
                                  remedy="name a file of yours: --out FILE")) from error  # fmt: skip
    return shelves


def _name_of(folder: Path) -> str:
    """A catalogue's name from that of its folder, which may have other characters."""
    try:
        check_name(folder.name)
    except Unfit:
        return "catalogue"
    return folder.name


def _entry(folder: Path, out: Path, git: str, branch: str) -> CatalogueShelf:
    if git:
        top = next((one for one in (folder, *folder.parents) if (one / ".git").exists()), folder)
        inside = "" if top == folder else str(folder.relative_to(top))
        return shelf_entry(folder, git=git, ref={key: text for key, text in (("branch", branch), ("folder", inside)) if text})
    try:
        return shelf_entry(folder, from_catalogue(out, folder))
    except Unfit as error:
        raise YarrikError(
            Trouble("USAGE", f"the shelf in {folder.name} cannot be listed: {error}", Place(folder),
                    why="a catalogue names folders from its own, so that both can be moved together",
                    remedy="write the catalogue beside the shelves with --out, or name their repository with --git")
        ) from error  # fmt: skip
