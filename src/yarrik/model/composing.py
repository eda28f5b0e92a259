"""Puts a product together: what it names, with variants, local settings, the environment and the command line on top.

The order, each over what stands before it: defaults, shelves in the workspace's order, the product, variants as given, the
local file, the environment (`YARRIK_SET_…`), the command line (`--set KEY=VALUE`).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from yarrik.errors import Collector, Place, Trouble, YarrikError, listed, suggestion
from yarrik.model.checking import convert, find_troubles
from yarrik.model.conditions import Circumstances
from yarrik.model.definitions import (
    Board,
    Definable,
    Image,
    MoreImage,
    Options,
    Product,
    Profile,
    Recipe,
    Variant,
    Versions,
)
from yarrik.model.kinds import NAMED, SETTABLE
from yarrik.model.positions import KeyPath
from yarrik.model.reading import Definition, Document, Origin, Raw, refuse_null
from yarrik.model.soundness import VITAL, lost_settings, never_holding, too_late, value_at
from yarrik.model.stacking import stack
from yarrik.model.workspace import Workspace
from yarrik.versions import Version

ENVIRONMENT_PREFIX = "YARRIK_SET_"
_ROOTS = (*SETTABLE, "options", "versions")


class Wishes(Definable, frozen=True, kw_only=True):
    """Options and versions that somebody asked for, by recipe."""

    options: Options = msgspec.field(default_factory=dict)
    versions: Versions = msgspec.field(default_factory=dict)


class Overrides(msgspec.Struct, frozen=True):
    """What is asked for besides the product itself: variants, and settings with where they come from, in order."""

    variants: tuple[str, ...] = ()
    settings: tuple[Document, ...] = ()

    @staticmethod
    def of(variants: Iterable[str], environment: Mapping[str, str], settings: Iterable[str]) -> Overrides:
        """From the words of `--with`, the variables of the environment, and the words of `--set`. Raises YarrikError."""
        documents = []
        for name in sorted(environment):
            if name.startswith(ENVIRONMENT_PREFIX):
                key = name.removeprefix(ENVIRONMENT_PREFIX).lower().replace("__", ".").replace("_", "-")
                documents.append(_setting(f"${name}", key, environment[name]))
        for word in settings:
            key, sign, value = word.partition("=")
            if not sign:
                raise YarrikError(
                    Trouble(
                        "SETTING-FORM", f"`--set {word}` has no value", Place(), remedy="write it as --set image.hostname=gull"
                    )
                )
            documents.append(_setting("--set", key.strip(), value.strip()))
        names = [name.strip() for words in variants for name in words.split(",") if name.strip()]
        return Overrides(tuple(dict.fromkeys(names)), tuple(documents))


def _setting(label: str, key: str, text: str) -> Document:
    """One setting as a document. The value is TOML, or else plain text."""
    import tomli

    try:
        value = tomli.loads(f"value = {text}")["value"]
    except (ValueError, RecursionError):  # also a number of thousands of digits, which is not a TOMLDecodeError
        value = text
    refuse_null(Path(label), text, {key: value})
    words = key.split(".")
    if words[0] not in _ROOTS or len(words) < 2:
        raise YarrikError(
            Trouble("SETTING-KEY", f"`{key}` names nothing that can be set", Place(Path(label), key=key),
                    why="a key begins with what it changes: " + ", ".join(_ROOTS),
                    remedy=f"write it like `image.hostname`; {suggestion(words[0], _ROOTS)}")
        )  # fmt: skip
    raw: Raw = {}
    inner = raw if words[0] in ("options", "versions") else raw.setdefault("set", {})
    for word in words[:-1]:
        inner = inner.setdefault(word, {})
    inner[words[-1]] = value
    document = Document(Path(label), raw)
    troubles = list(find_troubles(document, Variant))
    if troubles:
        raise YarrikError(troubles)
    return document


class Composition(msgspec.Struct, frozen=True, dict=True):
    """A product with all that it names, under its circumstances."""

    product: Definition[Product]
    board: Definition[Board]
    profile: Definition[Profile]
    image: Definition[Image]
    workspace: Workspace
    now: Circumstances
    changes: tuple[Document, ...] = ()
    warnings: tuple[Trouble, ...] = ()
    _recipes: dict[tuple[str, str], Definition[Recipe]] = msgspec.field(default_factory=dict)

    @property
    def name(self) -> str:
        """The product's name with the variants that are not its own: `tide-gauge+display`; with `~`, those of its own that are
        left out: `tide-gauge~touch`."""
        own = self.product.value.variants
        return "".join([self.product.name, *(f"+{one}" for one in self.now.variants if one not in own),
                        *(f"~{one}" for one in own if one not in self.now.variants)])  # fmt: skip

    @property
    def marker(self) -> str:
        """The text on the console that shows that the product has started: the product's, else the image's."""
        return self.product.value.marker or self.image.value.marker

    @property
    def hostname(self) -> str:
        """The image's host name, else the board's name."""
        return self.image.value.hostname or self.board.name

    def recipe(self, name: str, version: Version | None = None) -> Definition[Recipe]:
        """A recipe as this product has it, in a version (without one, in the version that was resolved)."""
        if version is None and self.now.versions is not None:
            version = self.now.versions.get(name)
        key = (name, version.text if version is not None else "")
        if key not in self._recipes:
            if version is not None and not self._asks_for_versions(name):
                found = self.recipe(name, None) if self.now.versions is None else self._defined(name, version)
            else:
                found = self._defined(name, version)
            if version is not None and version.text != found.value.version:
                found = replace(found, value=replace(found.value, version=version.text))
            self._recipes[key] = found
        return self._recipes[key]

    def _defined(self, name: str, version: Version | None) -> Definition[Recipe]:
        changes = _parts(self.changes, "set", "recipe", name)
        if not changes and not self.workspace.has_conditions("recipe", name):
            return self.workspace.recipes[name]  # the same for all products
        return self.workspace.definition("recipe", name, Recipe, self.now.of_recipe(name, version), changes)

    def _asks_for_versions(self, name: str) -> bool:
        """Whether a recipe says other things of other versions."""
        raw = self.workspace.shelved["recipe"][name].document.raw
        return name in self._many_versions or any("version" in when for when in raw.get("when", ()))

    @cached_property
    def _many_versions(self) -> set[str]:
        amendments = (amendment.value for amendment in self.workspace.amendments)
        return {one.target[1] for one in amendments if any(when.version for when in one.when)}

    @cached_property
    def wishes(self) -> tuple[Wishes, Document]:
        """Options and versions that board, profile, image, product and changes ask for, with their origins."""
        sources = [_wishes_in(definition.document) for definition in (self.board, self.profile, self.image, self.product)]
        sources += [_wishes_in(document) for document in self.changes if document.file != self.product.file]
        whole = stack([Document(self.product.file, {}), *sources], Wishes)
        return convert(whole, Wishes), whole

    @cached_property
    def more(self) -> tuple[Further, ...]:
        """The product's further root filesystems."""
        found = []
        for one in self.product.value.more_image:
            image = self.workspace.definition("image", one.image, Image, self.now)
            profile = self.profile.value
            profile = replace(profile, init=one.init or profile.init, init_path=one.init_path or profile.init_path)
            # None of the board's disks is its own, and what is mounted in it is its own business.
            board = replace(self.board, value=replace(self.board.value, disk=()))
            composition = replace(self, image=image, profile=replace(self.profile, value=profile), board=board)
            found.append(Further(one.name, one, composition))
        return tuple(found)

    def settled(self, versions: Mapping[str, Version], options: Mapping[tuple[str, str], bool]) -> Composition:
        """The same product with what was resolved, which conditions may ask about."""
        now = replace(self.now, versions=versions, options=options)
        found = _definitions(self.workspace, self.product, now, self.changes)
        return Composition(self.product, *found, self.workspace, now, self.changes, self.warnings)


class Further(msgspec.Struct, frozen=True):
    """A further root filesystem of a product: its name, what the product says of it, and the composition that it is made by."""

    name: str
    choice: MoreImage
    composition: Composition


def compose(workspace: Workspace, product: str | None = None, overrides: Overrides | None = None) -> Composition:
    """The product of this name (or the workspace's own choice) and what it names. Raises YarrikError."""
    composition = _compose(workspace, product, overrides or Overrides())
    lost = tuple(_missing_in_this_product(composition))
    return replace(composition, warnings=composition.warnings + lost) if lost else composition


def _compose(workspace: Workspace, product: str | None, overrides: Overrides) -> Composition:
    named: list[str] = []
    if product and product not in workspace.shelved["product"]:
        product, *named = re.split(r"(?=[+~])", product)  # as such a build is called in out/
        named = [one.replace("~", "-", 1).removeprefix("+") for one in named]
    found = workspace.products[_product_name(workspace, product)]
    variants = _variants(workspace, found, (*named, *overrides.variants))
    changes: list[Document] = [*workspace.layers.get(found.name, (found.document,))]
    own_layers = len(changes)
    changes += [workspace.shelved["variant"][name].document for name in variants]
    changes += [workspace.local] if workspace.local is not None else []
    changes += overrides.settings
    own = _parts(changes[own_layers:], "set", "product")
    if own:
        found = workspace.definition("product", found.name, Product, Circumstances(), own)
    collector = Collector()
    for key in NAMED:
        wanted, known = getattr(found.value, key), workspace.shelved[key]
        if wanted not in known:
            collector.add(
                Trouble(f"{key.upper()}-UNKNOWN", f"product `{found.name}` names the {key} `{wanted}`, which no shelf has",
                        found.place(key), remedy=suggestion(wanted, known), lacks=(key, wanted))
            )  # fmt: skip
    collector.raise_if_any()
    boards = tuple(workspace.ancestry("board", found.value.board))
    now = Circumstances(
        arch=_arch(workspace, boards, changes),
        boards=boards,
        profiles=tuple(workspace.ancestry("profile", found.value.profile)),
        variants=variants,
    )
    definitions = _definitions(workspace, found, now, changes)
    names = {workspace.shelved["variant"][name].file: name for name in variants}
    warnings = [*_unused_and_broken(workspace)]
    warnings += [trouble for definition in definitions for trouble in _overwritten(definition.document, names)]
    composition = Composition(found, *definitions, workspace, now, tuple(changes), ())
    warnings += _overwritten(composition.wishes[1], names)
    for kind in NAMED:
        definition = getattr(composition, kind)
        warnings += never_holding(workspace, kind, definition.name)
    collector.extend(lost_settings(workspace, composition.board, now))
    for kind in NAMED:
        definition = getattr(composition, kind)
        collector.extend(too_late(workspace, kind, definition.name))
    collector.extend(_unfit_silence(found))
    collector.extend(_unknown_images(composition))
    collector.raise_if_any()
    return replace(composition, warnings=tuple(dict.fromkeys(warnings)))


def _unknown_images(composition: Composition) -> Iterator[Trouble]:
    """Images that a product or its board names, and that there are not."""
    product, board, known = composition.product, composition.board, composition.workspace.shelved["image"]
    names = [one.name for one in product.value.more_image]
    for index, one in enumerate(product.value.more_image):
        place = product.place("more-image", str(index))
        if one.image not in known:
            yield Trouble("IMAGE-UNKNOWN", f"product `{product.name}` names the image `{one.image}`, which no shelf has", place,
                          remedy=suggestion(one.image, known), lacks=("image", one.image))  # fmt: skip
        if one.name in ("root", "none", "boot"):
            yield Trouble("IMAGE-UNKNOWN", f"a further image cannot be called `{one.name}`", place,
                          why="boards mean something else by that", remedy="give it another name")  # fmt: skip
    boot = board.value.boot
    used: list[tuple[str, tuple[str, ...]]] = []
    if boot.initramfs not in ("none", "root"):
        used.append((boot.initramfs, ("boot", "initramfs")))
    used += [(entry.initramfs, ("boot", "entry", str(index), "initramfs")) for index, entry in enumerate(boot.entry)]
    used.append((board.value.kernel.built_in_image, ("kernel", "built-in-image")))
    for number, disk in enumerate(board.value.disk):
        used += [
            (part.image, ("disk", str(number), "partition", str(index), "image")) for index, part in enumerate(disk.partition)
        ]
    for name, keys in used:
        if name and name not in names:
            what = f"the board `{board.name}` takes the image `{name}`, and the product has none of that name"
            yield Trouble("IMAGE-UNKNOWN", what, board.place(*keys),
                          why=f"the product `{product.name}` says in `more-image` which there are",
                          remedy=suggestion(name, names) if names else "add a [[more-image]] to the product")  # fmt: skip


def _unfit_silence(product: Definition[Product]) -> Iterator[Trouble]:
    """Codes that cannot be silenced, and those that are silenced without a reason."""
    if not product.value.silence:
        return
    from yarrik.codes import CODES

    for code, reason in product.value.silence.items():
        place = product.place("silence", code)
        warnings = [one.code for one in CODES.values() if one.severity == "warn"]
        if code not in CODES:
            yield Trouble("SILENCE-UNFIT", f"there is no warning `{code}`", place, remedy=suggestion(code, warnings))
        elif code not in warnings:
            yield Trouble("SILENCE-UNFIT", f"`{code}` is an error, and only warnings can be silenced", place,
                          why=CODES[code].meaning, remedy=f"yarrik explain {code}")  # fmt: skip
        elif not reason.strip():
            yield Trouble("SILENCE-UNFIT", f"`{code}` is silenced without a reason", place,
                          why="the next reader has to know why it does not matter here",
                          remedy=f'write {code} = "because …"')  # fmt: skip


def _missing_in_this_product(composition: Composition) -> Iterator[Trouble]:
    """What a board needs to start and does not have here, though it has it in another product of the workspace: it came by a
    variant, a profile or a product's own settings."""
    workspace, board = composition.workspace, composition.board
    for key in VITAL:
        if value_at(board.value, key):
            continue
        for name, shelved in sorted(workspace.readable("product")):
            if shelved.document.raw.get("board") not in composition.now.boards:
                continue
            try:
                other = _compose(workspace, name, Overrides()).board
            except YarrikError:
                continue
            if value_at(other.value, key):
                dotted_key = ".".join(key)
                yield Trouble(
                    "BOARD-SETTING-LOST",
                    f"the board `{board.name}` has no `{dotted_key}` in this product; in the product `{name}` it has one",
                    other.place(*key),
                    why="the line that sets it does not count for this product",
                    remedy=f"set `{dotted_key}` in the board, or for this product too",
                )
                break


def _unused_and_broken(workspace: Workspace) -> Iterator[Trouble]:
    """What is said of definitions with errors when nobody has asked for them so far."""
    broken = workspace.broken
    if not broken:
        return
    names = listed([f"`{one.name}`" for one in broken[:4]] + ([f"{len(broken) - 4} more"] if len(broken) > 4 else []))
    several = len(broken) > 1
    yield Trouble(
        "DEFINITIONS-BROKEN",
        f"{len(broken)} definitions have errors: {names}" if several else f"the definition {names} has errors",
        Place(broken[0].file),
        why=f"this product does not use {'them' if several else 'it'}",
        remedy="run `yarrik check --all` to see the errors",
    )


def _definitions(
    workspace: Workspace, product: Definition[Product], now: Circumstances, changes: Sequence[Document]
) -> tuple[Definition[Board], Definition[Profile], Definition[Image]]:
    collector = Collector()
    found: list[Any] = []
    for kind, shape in NAMED.items():
        try:
            name = getattr(product.value, kind)
            found.append(workspace.definition(kind, name, shape, now, _parts(changes, "set", kind)))
        except YarrikError as error:
            collector.extend(error.troubles)
    collector.raise_if_any()
    board, profile, image = found
    return board, profile, image


def _product_name(workspace: Workspace, product: str | None) -> str:
    known = workspace.shelved["product"]
    name = product or workspace.settings.workspace.product
    if not name:
        if len(known) != 1:
            raise YarrikError(
                Trouble("PRODUCT-UNNAMED", "no product is named, and the workspace has no usual one",
                        Place(workspace.file), remedy="name one: " + ", ".join(sorted(known)) if known else
                        "write one: products/NAME.toml with `board`, `profile` and `image`")
            )  # fmt: skip
        name = next(iter(known))
    if name not in known:
        place = Place(workspace.file, key="workspace.product") if product is None else Place()
        raise YarrikError(
            Trouble("PRODUCT-UNKNOWN", f"there is no product `{name}`", place,
                    why="products are files in the workspace's folder `products`", remedy=suggestion(name, known))
        )  # fmt: skip
    return name


def _variants(workspace: Workspace, product: Definition[Product], asked: Sequence[str]) -> tuple[str, ...]:
    """The product's own variants, then those asked for; `-NAME` takes one out."""
    known = workspace.shelved["variant"]
    left_out = {name.removeprefix("-") for name in asked if name.startswith("-")}
    names = [*product.value.variants, *(name for name in asked if not name.startswith("-"))]
    for name in [*names, *sorted(left_out)]:
        if name not in known:
            place = product.place("variants") if name in product.value.variants else Place()
            raise YarrikError(
                Trouble("VARIANT-UNKNOWN", f"there is no variant `{name}`", place,
                        why="variants are files in a folder `variants`, on a shelf or in the workspace",
                        remedy=suggestion(name, known))
            )  # fmt: skip
    return tuple(dict.fromkeys(name for name in names if name not in left_out))


def _arch(workspace: Workspace, boards: Sequence[str], changes: Sequence[Document]) -> str:
    """The board's architecture, which no condition may depend on itself."""
    arch = ""
    for name in reversed(boards):
        arch = workspace.shelved["board"][name].document.raw.get("arch", arch)
    for part in _parts(changes, "set", "board"):
        arch = part.raw.get("arch", arch)
    return arch


def _parts(documents: Iterable[Document], *keys: str) -> tuple[Document, ...]:
    """The part at these keys of each document that has it."""
    found = []
    for document in documents:
        part = document.part(*keys)
        if part.raw:
            found.append(part)
    return tuple(found)


def _wishes_in(document: Document) -> Document:
    raw: Raw = {key: document.raw[key] for key in ("options", "versions") if key in document.raw}
    known: dict[KeyPath, Origin] = {}
    if raw:
        known = {path: origin for path, origin in document.origins.items() if path[0] in raw}
    return Document(document.file, raw, (), known)


def _overwritten(document: Document, variants: Mapping[Path, str]) -> list[Trouble]:
    """Values that one variant sets and a later one overwrites."""
    if len(variants) < 2:
        return []
    found: list[Trouble] = []
    for origin in document.origins.values():
        found += _added_and_removed(origin, variants)
        former = origin.replaced
        if former is None or origin.how != "set" or isinstance(origin.value, dict) or origin.value == former.value:
            continue
        if origin.file in variants and former.file in variants and origin.file != former.file:
            later, earlier = variants[origin.file], variants[former.file]
            found.append(
                Trouble("VARIANT-OVERWRITES", f"the variant `{later}` overwrites what `{earlier}` sets: "
                        f"{former.value!r} becomes {origin.value!r}", origin.place,
                        why=f"the former is at {former.place}, and has no effect",
                        remedy="take one of the two lines out, or swap the variants if the other is meant to win")
            )  # fmt: skip
    return found


def _added_and_removed(last: Origin, variants: Mapping[Path, str]) -> Iterator[Trouble]:
    """Elements of a list that one variant adds and another one removes."""
    history = [one for one in last.history() if one.file in variants and isinstance(one.value, list)]
    for number, later in enumerate(history):
        for former in history[number + 1 :]:
            both = [word for word in later.value if word in former.value]  # type: ignore[attr-defined, operator]
            if both and former.file != later.file and {later.how, former.how} == {"added to", "taken from"}:
                did = {"added to": "adds", "taken from": "removes"}
                yield Trouble(
                    "VARIANT-OVERWRITES",
                    f"the variant `{variants[later.file]}` {did[later.how]} {listed(map(str, both))}, which `"
                    f"{variants[former.file]}` {did[former.how]}",
                    later.place,
                    why=f"the former is at {former.place}, and has no effect",
                    remedy="remove one of the two lines, or swap the variants if the other is meant to win",
                )
