"""Whether the disk has room for what is to be built, as the last builds of the product tell."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from yarrik.cache import MissingObject
from yarrik.errors import Place, Trouble
from yarrik.units import shown_size

if TYPE_CHECKING:
    from yarrik.cache import Cost, Store


def new_bytes(store: Store, outputs: Mapping[str, str], inputs: Mapping[str, str]) -> int:
    """The bytes in a step's outputs that its inputs did not have."""
    known = {content for digest in inputs.values() for content in _contents(store, digest)}
    found: dict[str, int] = {}
    for digest in outputs.values():
        found |= {content: size for content, size in _contents(store, digest).items() if content not in known}
    return sum(found.values())


def _contents(store: Store, digest: str) -> Mapping[str, int]:
    try:
        return {entry.content: entry.size for entry in store.tree(digest).files}
    except MissingObject:
        pass
    try:
        return {digest: store.object_path(digest).stat().st_blocks * 512}
    except OSError:
        return {}


def short_of_room(steps: Iterable[str], costs: Mapping[str, Cost], folder: Path, store: Path, jobs: int) -> Trouble | None:
    """A trouble when these steps took more, when they ran last, than is free now: what they leave in the cache, and what the
    largest of them need beside it while they run."""
    known = [costs[name] for name in steps if name in costs]
    left = sum(cost.left for cost in known)
    work = sum(sorted((cost.bytes for cost in known), reverse=True)[:jobs])
    here, there = _existing(folder), _existing(store)
    shared = os.stat(here).st_dev == os.stat(there).st_dev
    wanted = [(there, left + work)] if shared else [(there, left), (here, work)]
    for place, size in wanted:
        free = shutil.disk_usage(place).free
        if free < size:
            return Trouble(
                "DISK-SPACE", f"this build needs about {shown_size(size)}, and {shown_size(free)} are free", Place(place),
                why="its steps needed this much when they last ran; one of them may fail late, when the disk is full",
                remedy="make room: yarrik cache status, then yarrik cache prune --unused 30d",
            )  # fmt: skip
    return None


def _existing(folder: Path) -> Path:
    while not folder.exists():
        folder = folder.parent
    return folder
