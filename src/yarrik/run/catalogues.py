"""The catalogues that a workspace and its user know: read where they are, or from the copy of what was downloaded."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Iterable, Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from yarrik.atomic import write_file
from yarrik.beneath import regular_file
from yarrik.errors import Place, Trouble, YarrikError, found_nearby, listed
from yarrik.model import (
    BUILT_IN_SHELVES,
    FILE,
    LARGEST_CATALOGUE,
    Catalogue,
    Catalogues,
    LocalSettings,
    Offer,
    WorkspaceFile,
    convert,
    read_catalogue,
    read_document,
)
from yarrik.sources import receive_small

#: What a catalogue may be asked for, by what is missing.
_CARRIED = {"package": ("package", "recipe", "role"), "name": ("package", "recipe", "role")}


class Known(msgspec.Struct, frozen=True):
    """The catalogues that could be read, and what is wrong with the others."""

    catalogues: Catalogues
    troubles: tuple[Trouble, ...] = ()


def catalogue_sources(root: Path | None, settings: LocalSettings) -> list[str]:
    """Paths and addresses of the catalogues of a workspace and of the settings, and of the one that comes with Yarrik, each
    once. Raises YarrikError."""
    own: list[str] = []
    if root is not None:
        table = convert(read_document(root / FILE), WorkspaceFile).workspace
        own = [text if is_address(text) else str(root / text) for text in table.catalogues]
    return list(dict.fromkeys([*own, *settings.catalogues, str(BUILT_IN_SHELVES / "catalogue.toml")]))


def is_address(text: str) -> bool:
    """Whether a catalogue is named by the address of a server, and not by a path."""
    return text.startswith(("https://", "http://"))


def copy_of(address: str, cache: Path) -> Path:
    """Where the copy of a downloaded catalogue is."""
    return cache / "catalogues" / hashlib.sha256(address.encode()).hexdigest()[:32]


def read_catalogues(
    sources: Sequence[str],
    cache: Path,
    renew: bool = False,
    redirect_hosts: Collection[str] = (),
    tell: Callable[[str], None] = lambda source: None,
) -> Known:
    """Reads catalogues. One from a server is downloaded the first time, and with `renew`; else the copy of it counts, which is
    kept when a download fails."""
    found: list[Catalogue] = []
    troubles: list[Trouble] = []
    for source in sources:
        try:
            if is_address(source):
                copy = copy_of(source, cache)
                if renew or not copy.is_file():
                    try:
                        data = receive_small(source, LARGEST_CATALOGUE, redirect_hosts)
                        read_catalogue(data, copy, source, downloaded=True)
                        copy.parent.mkdir(parents=True, exist_ok=True)
                        write_file(copy, data)
                    except YarrikError as error:
                        troubles += error.troubles
                        if not copy.is_file():
                            continue
                found.append(read_catalogue(_data(copy), copy, source, downloaded=True))
            else:
                file = Path(source)
                found.append(read_catalogue(_data(file), file, source, downloaded=False))
            tell(source)
        except YarrikError as error:
            troubles += error.troubles
    return Known(Catalogues(tuple(found)), tuple(dict.fromkeys(troubles)))


def _data(file: Path) -> bytes:
    try:
        return regular_file(file, LARGEST_CATALOGUE)
    except OSError as error:
        raise YarrikError(
            Trouble("CATALOGUE-UNREADABLE", f"the catalogue {file.name} cannot be read: {error.strerror or error}", Place(file),
                    remedy=found_nearby(file, "correct `catalogues` in yarrik.toml or in the settings"))
        ) from error  # fmt: skip


def with_offers(error: YarrikError, catalogues: Callable[[], Catalogues], here: Collection[str] = ()) -> YarrikError:
    """An error in which those troubles that lack something name the shelves that carry it; the catalogues are read only when
    there is one. `here` are shelves that the workspace has: a catalogue may be of another version of them."""
    if not any(trouble.lacks for trouble in error.troubles):
        return error
    known = catalogues()
    return YarrikError([_with_offer(trouble, known, here) for trouble in error.troubles], error.fault)


def _with_offer(trouble: Trouble, known: Catalogues, here: Collection[str]) -> Trouble:
    if trouble.lacks is None:
        return trouble
    kind, name = trouble.lacks
    if kind == "shelf":
        offer = known.shelf(name)
        offers: Iterable[Offer] = [offer] if offer is not None else []
    else:
        offers = known.carrying(_CARRIED.get(kind, (kind,)), name)
    names = [offer.shelf.name for offer in offers]
    if not names:
        return trouble
    elsewhere = [one for one in names if one not in here]
    if not elsewhere:
        why = f"the catalogue has it on the shelf {listed(names, 'or')}, which is here in another version, without it"
        remedy = (
            f"yarrik shelf pin --update {names[0]} if it is a clone; yarrik catalogue renew if the catalogue is the older one"
        )
        return replace(trouble, why=f"{trouble.why}; {why}" if trouble.why else why, remedy=remedy, lacks=None)
    names = elsewhere
    carried = "which the catalogue lists" if kind == "shelf" else f"the catalogue has it on the shelf {listed(names, 'or')}"
    remedy = f"yarrik shelf add {names[0]}" + (f"; or {trouble.remedy}" if trouble.remedy.startswith("did you mean") else "")
    why = f"{trouble.why}; {carried}" if trouble.why else carried
    return replace(trouble, why=why if kind != "shelf" else trouble.why, remedy=remedy, lacks=None)
