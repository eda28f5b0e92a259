"""A workspace: its shelves in order, every definition on them, and the composition that a product names."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TypeVar

from yarrik import __version__
from yarrik.errors import Collector, Place, Trouble, YarrikError, suggestion
from yarrik.model.definitions import (
    Board,
    Definable,
    Image,
    Product,
    Profile,
    Recipe,
    ShelfFile,
    WorkspaceFile,
)
from yarrik.model.reading import Definition, Document, convert, find_troubles, read_document, stacked
from yarrik.model.rules import check_name

T = TypeVar("T", bound=Definable)

FILE = "yarrik.toml"


@dataclass(frozen=True)
class Composition:
    """A product with all that it names."""

    product: Definition[Product]
    board: Definition[Board]
    profile: Definition[Profile]
    image: Definition[Image]

    @property
    def name(self) -> str:
        return self.product.name

    @property
    def marker(self) -> str:
        return self.product.value.marker or self.image.value.marker

    @property
    def hostname(self) -> str:
        return self.image.value.hostname or self.board.name


@dataclass(frozen=True)
class Workspace:
    """All definitions by kind and name. Later shelves stand over earlier ones, but only where they say so."""

    root: Path
    settings: WorkspaceFile
    boards: Mapping[str, Definition[Board]] = field(default_factory=dict)
    profiles: Mapping[str, Definition[Profile]] = field(default_factory=dict)
    images: Mapping[str, Definition[Image]] = field(default_factory=dict)
    products: Mapping[str, Definition[Product]] = field(default_factory=dict)
    recipes: Mapping[str, Definition[Recipe]] = field(default_factory=dict)

    @property
    def file(self) -> Path:
        return self.root / FILE

    def by_kind(self) -> dict[str, Mapping[str, Definition[Definable]]]:
        """All definitions, by kind and name."""
        kinds: dict[str, Mapping[str, Definition[Definable]]] = {}
        for kind in ("boards", "profiles", "images", "products", "recipes"):
            kinds[kind.removesuffix("s")] = getattr(self, kind)
        return kinds

    def recipe(self, name: str, asked_at: Place) -> Definition[Recipe]:
        """The recipe with this name, or the one that yields a package of this name."""
        if name in self.recipes:
            return self.recipes[name]
        for recipe in self.recipes.values():
            if name in package_names(recipe):
                return recipe
        packages = {package for recipe in self.recipes.values() for package in package_names(recipe)}
        raise YarrikError(
            Trouble(
                "RECIPE-UNKNOWN",
                f"no shelf carries a recipe or package `{name}`",
                asked_at,
                why="everything that goes into an image is built from a recipe on one of the workspace's shelves",
                remedy=suggestion(name, packages | self.recipes.keys()),
            )
        )

    def compose(self, product: str | None = None) -> Composition:
        """The product of this name (or the workspace's own choice) and what it names, or all that is missing."""
        name = product or self.settings.workspace.product
        if not name:
            if len(self.products) != 1:
                raise YarrikError(
                    Trouble("PRODUCT-UNNAMED", "no product is named, and the workspace has no usual one",
                            Place(self.file), remedy="name one: " + ", ".join(sorted(self.products)))
                )  # fmt: skip
            name = next(iter(self.products))
        if name not in self.products:
            place = Place(self.file, key="workspace.product") if product is None else Place()
            raise YarrikError(
                Trouble("PRODUCT-UNKNOWN", f"there is no product `{name}`", place,
                        why="products are files in the workspace's folder `products`",
                        remedy=suggestion(name, self.products))
            )  # fmt: skip
        found = self.products[name]
        collector = Collector()
        for key, kind in (("board", self.boards), ("profile", self.profiles), ("image", self.images)):
            wanted = getattr(found.value, key)
            if wanted not in kind:
                collector.add(
                    Trouble(f"{key.upper()}-UNKNOWN", f"product `{name}` names the {key} `{wanted}`, which no shelf has",
                            found.place(key), remedy=suggestion(wanted, kind))
                )  # fmt: skip
        collector.raise_if_any()
        return Composition(
            found, self.boards[found.value.board], self.profiles[found.value.profile], self.images[found.value.image]
        )


def find_workspace(start: Path) -> Path:
    """The nearest folder at or above `start` that holds a `yarrik.toml`."""
    for folder in (start, *start.parents):
        if (folder / FILE).is_file():
            return folder
    raise YarrikError(
        Trouble(
            "WORKSPACE-MISSING",
            f"no {FILE} here or in any folder above",
            Place(start),
            why="a workspace is a folder with that file; every command but `demo` works in one",
            remedy="change into a workspace, or make the example with `yarrik demo`",
        )
    )


def load_workspace(root: Path) -> Workspace:
    """Reads the workspace and all definitions on its shelves; raises YarrikError with all troubles at once."""
    settings = convert(read_document(root / FILE), WorkspaceFile)
    collector = Collector()
    _check_version(settings.workspace.needs_yarrik, Place(root / FILE, key="workspace.needs-yarrik"), collector)
    places: list[tuple[str, Path]] = []
    for index, choice in enumerate(settings.shelf):
        folder = (root / choice.path).resolve()
        try:
            shelf = convert(read_document(folder / "shelf.toml"), ShelfFile).shelf
        except YarrikError as error:
            collector.extend(error.troubles)
            continue
        here = Place(root / FILE, key=f"shelf.{index + 1}")
        if shelf.name != choice.name:
            collector.add(
                Trouble("SHELF-NAME", f"the shelf in {choice.path} calls itself `{shelf.name}`, not `{choice.name}`", here,
                        remedy=f'write `name = "{shelf.name}"`')
            )  # fmt: skip
        if choice.name in (name for name, _ in places):
            collector.add(Trouble("SHELF-TWICE", f"two shelves carry the name `{choice.name}`", here,
                                  remedy="take one of them out, or rename it"))  # fmt: skip
        _check_version(shelf.needs_yarrik, Place(folder / "shelf.toml", key="shelf.needs-yarrik"), collector)
        for needed in shelf.needs:
            if needed not in (other.name for other in settings.shelf):
                collector.add(
                    Trouble("SHELF-MISSING", f"shelf `{shelf.name}` needs the shelf `{needed}`, which is not in the workspace",
                            Place(folder / "shelf.toml", key="shelf.needs"), remedy=f"add [[shelf]] for `{needed}` to {FILE}")
                )  # fmt: skip
        places.append((choice.name, folder))
    places.append(("", root))

    boards = _definitions(places, "boards", Board, collector)
    profiles = _definitions(places, "profiles", Profile, collector)
    images = _definitions(places, "images", Image, collector)
    products = _definitions(places, "products", Product, collector)
    recipes = _definitions(places, "recipes", Recipe, collector)
    collector.raise_if_any()
    return Workspace(root, settings, boards, profiles, images, products, recipes)


def _files(folder: Path, kind: str) -> Iterable[tuple[str, Path]]:
    if kind == "recipes":
        return [(file.parent.name, file) for file in sorted(folder.glob("recipes/*/recipe.toml"))]
    return [(file.stem, file) for file in sorted(folder.glob(f"{kind}/*.toml"))]


def _definitions(places: list[tuple[str, Path]], kind: str, shape: type[T], collector: Collector) -> dict[str, Definition[T]]:
    documents: dict[str, tuple[str, Document]] = {}
    for shelf, folder in places:
        for name, file in _files(folder, kind):
            try:
                check_name(name)
                document = read_document(file)
            except ValueError as error:
                collector.add(Trouble("NAME-UNFIT", str(error), Place(file), remedy="rename the file or folder"))
                continue
            except YarrikError as error:
                collector.extend(error.troubles)
                continue
            if name in documents:
                under, replaced = documents[name][0] or "the workspace", document.raw.get("replaces")
                if replaced != documents[name][0]:
                    collector.add(
                        Trouble(
                            "DEFINITION-TWICE",
                            f"`{name}` is defined on two shelves: {under} and {shelf or 'the workspace'}",
                            Place(file),
                            why="a definition that takes another's place has to say so, or a new shelf would change "
                            "a product unseen",
                            remedy=f'rename one of them, or write `replaces = "{under}"` in this one',
                        )
                    )
            documents[name] = (shelf, document)

    found: dict[str, Definition[T]] = {}
    for name, (shelf, document) in documents.items():
        if "extends" in document.raw:
            troubles = list(find_troubles(document, shape, partial=True))
            if troubles:
                collector.extend(troubles)
                continue
        try:
            whole = _with_bases(name, kind, documents, [])
            found[name] = Definition(name, shelf, convert(whole, shape), whole)
        except YarrikError as error:
            collector.extend(error.troubles)
    return found


def _with_bases(name: str, kind: str, documents: dict[str, tuple[str, Document]], trail: list[str]) -> Document:
    """The document laid upon all that it extends."""
    document = documents[name][1]
    base = document.raw.get("extends")
    if not isinstance(base, str) or not base:
        return document
    place = document.origin("extends").place
    if base in (*trail, name):
        loop = " → ".join([*trail, name, base])
        raise YarrikError(Trouble("EXTENDS-LOOP", f"definitions extend each other in a loop: {loop}", place,
                                  remedy="take one `extends` out"))  # fmt: skip
    if base not in documents:
        raise YarrikError(
            Trouble("EXTENDS-UNKNOWN", f"`{name}` extends `{base}`, which is not among the {kind} of any shelf", place,
                    remedy=suggestion(base, documents))
        )  # fmt: skip
    return stacked(_with_bases(base, kind, documents, [*trail, name]), document)


def _check_version(wanted: str, place: Place, collector: Collector) -> None:
    """`wanted` is like `>= 0.1`; other forms come with the solver."""
    if not wanted:
        return
    match = re.fullmatch(r"\s*>=\s*(\d+(?:\.\d+)*)\s*", wanted)
    if match is None:
        collector.add(Trouble("VERSION-FORM", f"`{wanted}` is not a wish that can be weighed", place,
                              remedy="write it as `>= 0.1`"))  # fmt: skip
        return
    have = [int(word) for word in re.findall(r"\d+", __version__)]
    if [int(word) for word in match.group(1).split(".")] > have:
        collector.add(Trouble("VERSION-TOO-OLD", f"this is Yarrik {__version__}, and `{wanted}` is asked for", place,
                              remedy="install a newer Yarrik"))  # fmt: skip


def package_names(recipe: Definition[Recipe]) -> tuple[str, ...]:
    """Packages that a recipe yields beside one of its own name: those that it lists, or those of every kernel."""
    if recipe.value.package or recipe.value.build.using != "kernel":
        return tuple(recipe.value.package)
    return (f"{recipe.name}-headers", f"{recipe.name}-device-trees")
