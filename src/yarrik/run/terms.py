"""Terms that recipes and shelves carry: which a product is under, and which of them a user has accepted."""

from __future__ import annotations

import hashlib
import os
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Literal

import msgspec

from yarrik.beneath import Folder
from yarrik.errors import Place, Trouble, YarrikError, found_nearby
from yarrik.model import Composition, LocalSettings, ShelfOnDisk, Workspace

#: Names digests of texts that are accepted without settings, for builds that nobody watches: `NAME=SHA256,…`.
VARIABLE = "YARRIK_TERMS"
#: A text of terms is not larger than this (bytes).
_LARGEST = 4 << 20

Kind = Literal["recipe", "shelf"]
State = Literal["accepted", "open", "changed"]


class Terms(msgspec.Struct, frozen=True):
    """The terms of a recipe or shelf: the text, its SHA-256, and where it is named."""

    kind: Kind
    name: str
    file: Path
    text: str
    digest: str
    place: Place

    @property
    def key(self) -> str:
        """How settings, lock and manifests name them."""
        return f"{self.kind} {self.name}"


def terms_of(composition: Composition) -> list[Terms]:
    """The terms that a product is under, once it is resolved: those of its recipes, and those of shelves that something in it
    comes from. Raises YarrikError for a text that cannot be read."""
    names = sorted(composition.now.versions or ())
    found = [_of_recipe(composition, name) for name in names]
    used = set(_shelves_used(composition, names))
    found += [_of_shelf(shelf) for name, shelf in composition.workspace.shelves.items() if name in used]
    return [terms for terms in found if terms is not None]


def _shelves_used(composition: Composition, recipes: list[str]) -> Iterator[str]:
    workspace = composition.workspace
    targets = {("board", name) for name in workspace.ancestry("board", composition.board.name)}
    targets |= {("profile", name) for name in workspace.ancestry("profile", composition.profile.name)}
    targets |= {("image", name) for name in workspace.ancestry("image", composition.image.name)}
    targets |= {("recipe", name) for name in recipes}
    targets |= {("variant", name) for name in composition.now.variants}
    yield from (workspace.shelved[kind][name].shelf for kind, name in targets)
    yield from (one.shelf for one in workspace.amendments if one.value.target in targets)


def _of_recipe(composition: Composition, name: str) -> Terms | None:
    recipe = composition.recipe(name)
    if not recipe.value.terms:
        return None
    return _read("recipe", name, recipe.folder_of("terms"), recipe.value.terms, recipe.place("terms"))


def _of_shelf(shelf: ShelfOnDisk) -> Terms | None:
    if not shelf.table.terms:
        return None
    return _read("shelf", shelf.table.name, shelf.folder, shelf.table.terms, shelf.place("terms"))


def all_terms(workspace: Workspace) -> list[Terms]:
    """All terms that anything in a workspace carries, whatever product uses it. Raises YarrikError."""
    found = [_of_shelf(shelf) for shelf in workspace.shelves.values()]
    for name, shelved in workspace.readable("recipe"):
        if "terms" in shelved.document.raw:
            place = shelved.document.origin("terms").place
            found.append(_read("recipe", name, shelved.file.parent, str(shelved.document.raw["terms"]), place))
    return sorted((terms for terms in found if terms is not None), key=lambda one: one.key)


def _read(kind: Kind, name: str, folder: Path, path: str, place: Place) -> Terms:
    sys.audit("yarrik.read", folder / path)
    try:
        with Folder.at(folder) as opened, opened.open(path) as file:
            data = file.read(_LARGEST + 1)
    except OSError as error:
        raise YarrikError(
            Trouble("TERMS-UNREADABLE", f"the terms of the {kind} `{name}` cannot be read: {error.strerror or error}", place,
                    why=f"`terms` names {path}, which has to be a file beside the definition",
                    remedy=found_nearby(folder / path, "put the text there, or correct the name"))
        ) from error  # fmt: skip
    if len(data) > _LARGEST:
        raise YarrikError(Trouble("TERMS-UNREADABLE", f"the terms of the {kind} `{name}` are larger than 4 MiB", place,
                                  remedy="name the text alone"))  # fmt: skip
    return Terms(kind, name, folder / path, data.decode("utf-8", "replace"), hashlib.sha256(data).hexdigest(), place)


def state_of_terms(terms: Terms, settings: LocalSettings) -> State:
    """Whether a user has accepted the text as it is now: `changed` when it was another text that was accepted."""
    if terms.digest in _named_in_environment(terms):
        return "accepted"
    known = settings.terms.get(terms.key)
    if known is None:
        return "open"
    return "accepted" if known.sha256 == terms.digest else "changed"


def _named_in_environment(terms: Terms) -> set[str]:
    words = os.environ.get(VARIABLE, "").replace(",", " ").split()
    pairs = [word.rpartition("=") for word in words]
    return {digest for name, _, digest in pairs if name in (terms.name, f"{terms.kind}:{terms.name}")}


def not_accepted(composition: Composition, settings: LocalSettings) -> list[Trouble]:
    """A trouble for each text that a product is under and that nobody has accepted. Raises YarrikError."""
    found = []
    for terms in terms_of(composition):
        state = state_of_terms(terms, settings)
        if state == "accepted":
            continue
        who = f"the {terms.kind} `{terms.name}`"
        what = f"the terms of {who} are not accepted"
        if state == "changed":
            what = f"the terms of {who} have changed since {settings.terms[terms.key].date}, when they were accepted"
        found.append(
            Trouble("TERMS-CHANGED" if state == "changed" else "TERMS-OPEN", what, terms.place,
                    why="nothing is downloaded or built before; a build that nobody watches accepts them by\n"
                    f"{VARIABLE}={terms.name}={terms.digest}",
                    remedy=f"yarrik terms show {terms.name}, then: yarrik terms accept {terms.name}")
        )  # fmt: skip
    return found
