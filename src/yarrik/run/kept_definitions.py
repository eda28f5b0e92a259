"""Which definitions of a planned product may be written otherwise without planning all of it again, and what of them has to
stay: taken down when a build is remembered, and looked at by the builds after it."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from yarrik.errors import YarrikError
from yarrik.model import (
    NAMED,
    ShelfFile,
    WorkspaceFile,
    asked_options,
    asked_versions,
    convert,
    lacks,
    names_key,
    read_document,
)
from yarrik.plan import Describe, RunCommands, Step, is_of_version
from yarrik.run.kept_plan import (
    KeptProduct,
    KeptRecipe,
    KeptSource,
    Unused,
    beside_options,
    beyond_digest,
    fragment_asks,
    meaning_of,
    stable_digest,
)
from yarrik.toolchain import SPECS_FILE

if TYPE_CHECKING:
    from yarrik.model import Composition, Workspace
    from yarrik.resolve import Answer


def kept_recipes(answer: Answer, steps: Sequence[Step], apart: Collection[Path]) -> dict[str, KeptRecipe]:
    """The recipes that nothing but their own text says anything of, by the paths of their files, but for those in the folders
    `apart`; also those that the product does not use."""
    composition, workspace = answer.composition, answer.composition.workspace
    changed = {one.value.recipe for one in workspace.amendments}
    changed |= {name for change in composition.changes for name in change.raw.get("set", {}).get("recipe", {})}
    kernel = composition.board.value.kernel
    # Boot files have the kernel's version.
    bound = {kernel.recipe, *kernel.otherwise, *answer.universe.bounded, *asked_versions(workspace)}
    builds: dict[str, list[int]] = {}
    others: dict[str, list[int]] = {}
    manifests: list[int] = []
    linked_otherwise: set[str] = set()
    taken: set[str] = set()
    for number, step in enumerate(steps):
        taken.update(map(os.fspath, step.places.values()))
        if step.kind == "build":
            name = step.recipe
            builds.setdefault(name, []).append(number)
            if not isinstance(step.action, RunCommands) or SPECS_FILE in step.action.files:
                linked_otherwise.add(name)
        elif is_of_version(step):
            others.setdefault(step.recipe, []).append(number)
        elif isinstance(step.action, Describe):
            manifests.append(number)
    found = {}
    for name, shelved in workspace.readable("recipe"):
        if name in changed or name in linked_otherwise or shelved.path in taken or _is_in(shelved.file, apart):
            continue
        digest = beyond_digest(shelved.document.raw)
        if digest:
            stable = stable_digest(shelved.document.raw) if name not in bound else b""
            following = [*others[name], *manifests] if name in others else []
            found[shelved.path] = KeptRecipe(digest, builds.get(name, []), stable, following)
    return found


def kept_product(answer: Answer, recipes: Mapping[str, KeptRecipe], apart: Collection[Path]) -> KeptProduct | None:
    """The product's own file, and which options of these recipes it may choose otherwise; None where more than a file of the
    workspace makes the product, or where it is in one of the folders `apart`."""
    composition, workspace = answer.composition, answer.composition.workspace
    shelved = workspace.shelved["product"][composition.product.name]
    if composition.product.name in workspace.layers or _is_in(shelved.file, apart):
        return None
    raw = shelved.document.raw
    digest = beside_options(raw)
    if not digest or raw.get("options", {}) != composition.product.document.raw.get("options", {}):
        return None
    others = [composition.board.document, composition.profile.document, composition.image.document]
    others += [one for one in composition.changes if one.file != shelved.file]
    taken = {(name, option) for one in others for name, options in one.raw.get("options", {}).items() for option in options}
    taken |= set(asked_options(workspace)) | answer.tied_options
    free = {}
    for node in answer.versions:
        recipe = answer.recipe(node)
        kept = recipes.get(os.fspath(recipe.file))
        if kept is None or not kept.builds or node.side != "board":
            continue
        for option, rule in recipe.value.options.items():
            plain = not (rule.needs or rule.tools or rule.excludes or rule.packages)
            if plain and (node.recipe, option) not in taken:
                free[f"{node.recipe}[{option}]"] = rule.default
    return KeptProduct(shelved.path, digest, raw.get("options", {}), free)


def kept_fragments(files: Iterable[Path], sources: Sequence[KeptSource], digests: Sequence[str]) -> dict[str, bool] | None:
    """Which of these fragments that are sources ask for modules; None when one has changed since it was planned with."""
    known = {source.path: digest for source, digest in zip(sources, digests, strict=True)}
    found = {}
    for path in map(os.fspath, files):
        if path in known and (asks := fragment_asks(path, known[path])) is not None:
            found[path] = asks
        elif path in known:
            return None
    return found


def kept_meanings(composition: Composition, apart: Collection[Path]) -> tuple[dict[str, bytes], dict[str, Unused]]:
    """What all definitions say, by the paths of their files; and those that the product does not use, by theirs. Without files
    in the folders `apart`."""
    workspace = composition.workspace
    used, lacking = used_definitions(composition), lacks(composition.board.value)
    # What the board lacks here, and has in another product, is told: by what that sets, or by what its conditions ask about.
    conditional = any(names_key(one.raw.get("when"), lacking) for name in workspace.ancestry("board", composition.board.name)
                      for one in workspace.documents_of("board", name))  # fmt: skip
    meanings: dict[str, bytes] = {}
    unused: dict[str, Unused] = {}
    for kind, names in workspace.shelved.items():
        for name, shelved in names.items():
            if shelved.faults or (kind == "product" and name in workspace.layers) or _is_in(shelved.file, apart):
                continue
            meanings[shelved.path] = meaning_of(shelved.document.raw)
            if kind not in (*NAMED, "product", "variant") or (kind, name) in used:
                continue
            if kind in ("board", "image") or not (conditional or names_key(shelved.document.raw, lacking)):
                unused[shelved.path] = Unused(kind, shelved.document.raw.get("replaces"))
    for one in workspace.amendments:
        if not _is_in(one.document.file, apart):
            meanings[os.fspath(one.document.file)] = meaning_of(one.document.raw)
    meanings.update(_of_shelves(workspace, apart))
    return meanings, unused


def used_definitions(composition: Composition) -> set[tuple[str, str]]:
    """What a product is put together of, by kind and name, but for recipes and groups."""
    workspace, product = composition.workspace, composition.product
    named = {(kind, one) for kind in NAMED for one in workspace.ancestry(kind, getattr(product.value, kind))}
    named |= {("image", name) for more in product.value.more_image for name in workspace.ancestry("image", more.image)}
    return {("product", product.name), *named, *(("variant", name) for name in composition.now.variants)}


def _is_in(file: Path, folders: Collection[Path]) -> bool:
    return any(map(file.is_relative_to, folders))


def _of_shelves(workspace: Workspace, apart: Collection[Path]) -> Iterator[tuple[str, bytes]]:
    """The files of the workspace and its shelves, where they still say what was planned with."""
    files: list[tuple[Path, WorkspaceFile | ShelfFile]] = [] if workspace.layers else [(workspace.file, workspace.settings)]
    files += [(one.folder / "shelf.toml", ShelfFile(shelf=one.table)) for one in workspace.shelves.values()]
    for file, planned in files:
        if _is_in(file, apart):
            continue
        try:
            document = read_document(file)
            if convert(document, type(planned)) == planned:
                yield os.fspath(file), meaning_of(document.raw)
        except YarrikError:  # it was changed meanwhile
            continue
