"""A product in one file: it names its shelves, board, profile and image, and may include other such files."""

from __future__ import annotations

import os
import re
from pathlib import Path

import msgspec

from yarrik.errors import Collector, Place, Trouble, Unfit, YarrikError, found_nearby, shown_path
from yarrik.model.checking import convert, fields_of, find_troubles
from yarrik.model.definitions import Product, ProductFile, ShelfChoice, WorkspaceFile
from yarrik.model.reading import Document, Raw, read_document
from yarrik.model.rules import check_name
from yarrik.model.stacking import stack

#: How many files one product may include.
_MOST = 100


class ProductInFile(msgspec.Struct, frozen=True):
    """A product file with all that it includes: the whole of it, the product alone, the changes of each file in the order in
    which they apply, and where each shelf is listed."""

    file: Path
    value: ProductFile
    product: Document
    layers: tuple[Document, ...]
    shelf_places: tuple[Place, ...]

    @property
    def files(self) -> tuple[Path, ...]:
        """All files that it is read from, those that are included first."""
        return tuple(dict.fromkeys(layer.file for layer in self.layers))

    def shelves(self, root: Path) -> tuple[ShelfChoice, ...]:
        """Its shelves, as a workspace in `root` lists them."""
        return tuple(
            msgspec.structs.replace(one, path=os.path.relpath(one.path, root)) if one.path else one for one in self.value.shelf
        )


def read_product_file(file: Path) -> ProductInFile:
    """Reads a product file and what it includes. Raises YarrikError with all that is wrong."""
    documents: list[Document] = []
    collector = Collector()
    _read(file, (), documents, collector)
    collector.raise_if_any()
    whole = stack([_with_whole_paths(document) for document in documents], ProductFile)
    if "name" not in whole.raw:
        name = re.sub(r"[^a-z0-9.+-]", "-", file.stem.lower())
        try:
            check_name(name)
        except Unfit as error:
            raise YarrikError(Trouble("NAME-UNFIT", f"the file's name cannot be a product's: {error}", Place(file),
                                      remedy='write `name = "…"` in it')) from error  # fmt: skip
        whole.raw["name"] = name
    value = convert(whole, ProductFile)
    keys = fields_of(Product).keys()
    raw = {key: item for key, item in whole.raw.items() if key in keys}
    product = Document(file, raw, (), {path: origin for path, origin in whole.origins.items() if path[0] in keys})
    layers = tuple(Document(one.file, {"set": one.raw.get("set", {})}) for one in documents)
    places = tuple(whole.origin("shelf", str(index)).place for index in range(len(value.shelf)))
    return ProductInFile(file, value, product, layers, places)


def _read(file: Path, around: tuple[Path, ...], documents: list[Document], collector: Collector) -> None:
    """Appends a file's document after those that it includes."""
    document = read_document(file)
    troubles = list(find_troubles(document, ProductFile, partial=True))
    collector.extend(troubles)
    if troubles:
        return
    for index, text in enumerate(document.raw.get("include", ())):
        place = document.origin("include").place
        other = Path(os.path.normpath(file.parent / text))
        if other in (*around, file):
            loop = " → ".join(shown_path(one) for one in (*around, file, other))
            collector.add(Trouble("INCLUDE-LOOP", f"product files include each other in a loop: {loop}", place,
                                  remedy="remove one of the lines"))  # fmt: skip
        elif not other.is_file():
            collector.add(Trouble("INCLUDE-MISSING", f"the included file {text} is not there", place,
                                  why=f"`include` number {index + 1} names it from the folder of {file.name}",
                                  remedy=found_nearby(other, "correct the path, or remove the line")))  # fmt: skip
        elif len(documents) + len(around) >= _MOST:
            collector.add(Trouble("INCLUDE-LOOP", f"more than {_MOST} files are included", place,
                                  remedy="put some of them together"))  # fmt: skip
        else:
            _read(other, (*around, file), documents, collector)
    documents.append(document)


def _with_whole_paths(document: Document) -> Document:
    """The document with the paths of its shelves as whole ones: the next file may be in another folder."""
    shelves = document.raw.get("shelf")
    if not shelves:
        return document
    folder = document.file.parent.absolute()
    whole: list[Raw] = [{**one, "path": str(folder / one["path"])} if one.get("path") else one for one in shelves]
    return Document(document.file, {**document.raw, "shelf": whole}, (), document.origins)


def workspace_file(root: Path, name: str) -> tuple[WorkspaceFile, ProductInFile | None]:
    """What a workspace's own file says; with the product file that it is made for, if it is, whose shelves are its own then.
    `name` is the file's. Raises YarrikError."""
    document = read_document(root / name)
    settings = convert(document, WorkspaceFile)
    if not settings.workspace.made_for:
        return settings, None
    file = Path(os.path.normpath(root / settings.workspace.made_for))
    if not file.is_file():
        raise YarrikError(
            Trouble("FILE-UNREADABLE", f"the product file {shown_path(file)} is not there",
                    document.origin("workspace", "made-for").place, why="this workspace was made for it",
                    remedy="bring it back; or, where it was moved: yarrik build FILE makes a new workspace")
        )  # fmt: skip
    found = read_product_file(file)
    table = msgspec.structs.replace(settings.workspace, product=found.value.name)
    return msgspec.structs.replace(settings, workspace=table, shelf=found.shelves(root)), found
