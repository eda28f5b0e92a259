"""What holds for one site or person, and is not part of any product: caches, keys, mirrors, jobs.

It is in the user's configuration folder (`site.toml`) and, for one workspace, below `[site]` in `yarrik.local.toml`, which
has the last word."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec
import platformdirs

from yarrik.errors import Place
from yarrik.model.checking import convert
from yarrik.model.definitions import Site
from yarrik.model.reading import read_document
from yarrik.model.workspace import Workspace


def site_file() -> Path:
    """The user's own file: `YARRIK_SITE` if set, else in the user's configuration folder."""
    named = os.environ.get("YARRIK_SITE")
    return Path(named) if named else platformdirs.user_config_path("yarrik") / "site.toml"


def load_site(workspace: Workspace | None) -> tuple[Site, Place]:
    """The settings, and where the nearest of them stand. Raises YarrikError for a file that does not fit."""
    file = site_file()
    general = convert(read_document(file), Site) if file.is_file() else Site()
    local = workspace.local.raw.get("site") if workspace is not None and workspace.local is not None else None
    if not local:
        return general, Place(file)
    assert workspace is not None and workspace.local is not None
    own = msgspec.convert(local, Site)
    caches = {one.name: one for one in (*general.shared_cache, *own.shared_cache)}
    return Site(
        jobs=own.jobs or general.jobs,
        cache=own.cache or general.cache,
        trusted_keys=tuple(dict.fromkeys((*general.trusted_keys, *own.trusted_keys))),
        shared_cache=tuple(caches.values()),
        mirrors={**general.mirrors, **own.mirrors},
        redirect_hosts=tuple(dict.fromkeys((*general.redirect_hosts, *own.redirect_hosts))),
    ), Place(workspace.local.file, key="site")
