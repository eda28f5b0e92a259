"""Tables whose entries definitions choose by name, and what is said of a name that is in none."""

from __future__ import annotations

from yarrik.boot import METHODS
from yarrik.disk import FORMS
from yarrik.errors import Place, Trouble, suggestion
from yarrik.model import Workspace
from yarrik.network import NETWORK_FORMS
from yarrik.plan.build_systems import BUILD_SYSTEMS
from yarrik.services import SERVICE_FORMS

#: Partitions that hold no filesystem of ours: bytes as they are, and nothing.
_NO_FILESYSTEM = ("raw", "none")
_CODES = {
    "boot method": "BOOT-METHOD-UNKNOWN", "build system": "BUILD-SYSTEM-UNKNOWN", "filesystem": "FILESYSTEM-UNKNOWN",
    "service form": "SERVICE-FORM-UNKNOWN", "network form": "NETWORK-FORM-UNKNOWN",
}  # fmt: skip


def choices() -> dict[str, tuple[str, ...]]:
    """The names in each table."""
    return {
        "boot method": tuple(METHODS),
        "build system": tuple(BUILD_SYSTEMS),
        "filesystem": (*FORMS, *_NO_FILESYSTEM),
        "service form": tuple(SERVICE_FORMS),
        "network form": tuple(NETWORK_FORMS),
    }


def unknown(table: str, name: str, place: Place, why: str = "") -> Trouble | None:
    """The trouble with a name that a table does not have."""
    known = choices()[table]
    if name in known:
        return None
    return Trouble(_CODES[table], f"there is no {table} `{name}`", place, why=why, remedy=suggestion(name, known))


def unknown_build_systems(workspace: Workspace) -> list[Trouble]:
    """What is wrong with recipes of a workspace that no product may use."""
    found = []
    for _, shelved in workspace.readable("recipe"):
        build = shelved.document.raw.get("build")
        using = build.get("using") if isinstance(build, dict) else None
        if isinstance(using, str):
            found.append(unknown("build system", using, shelved.document.origin("build", "using").place))
    return [trouble for trouble in found if trouble is not None]
