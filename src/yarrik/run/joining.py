"""From local settings to their shared caches."""

from __future__ import annotations

from pathlib import Path

from yarrik.cache import Shared, SharedCache, SigningKey, Store, is_network, storage_at
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.model import LocalSettings
from yarrik.units import parse_span


def join(settings: LocalSettings, place: Place, store: Store, offline: bool) -> Shared:
    """The shared caches of the settings; `offline` leaves those out that a network leads to. Raises YarrikError for what cannot
    be."""
    found = []
    for one in settings.shared_cache:
        here = Place(place.file, key=f"{place.key + '.' if place.key else ''}shared-cache.{one.name}")
        if offline and is_network(one.at):
            continue
        key = None
        if one.push:
            if not one.signing_key:
                raise YarrikError(
                    Trouble("KEY-MISSING", f"nothing is signed for the shared cache `{one.name}`", here,
                            why="others do not accept unsigned results",
                            remedy="yarrik cache new-key FILE, then name it: signing-key = \"FILE\"")
                )  # fmt: skip
            key = SigningKey.read(Path(one.signing_key).expanduser(), here)
        trusted = frozenset((*settings.trusted_keys, *([key.public] if key is not None else [])))
        storage = storage_at(one.at, one.endpoint, parse_span(one.time_out), here, settings.redirect_hosts)
        found.append(SharedCache(one.name, storage, one.push, key, trusted, here))
    return Shared(found, store)
