"""Recipes whose sources the settings take from elsewhere: a folder, or a branch of another repository, for work on them."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from yarrik.errors import Place, Trouble, YarrikError, found_nearby, suggestion
from yarrik.model import Diversion
from yarrik.run.project import EDITS, Project
from yarrik.run.shelves import whole_clone
from yarrik.sources import Mirror, Wanted, move_to, state_of, without_password


def diversion_of(project: Project, recipe: str) -> Diversion | None:
    """The diversion of a recipe's sources; None without one, and while the recipe is edited: that goes before it."""
    found = project.settings.use.get(recipe)
    return None if found is None or (project.root / EDITS / recipe / ".git").is_dir() else found


def shown_diversion(one: Diversion) -> str:
    """Where the sources come from, in words."""
    if not one.git:
        return one.path
    return f"{without_password(one.git)} ({one.commit or one.branch or 'its usual branch'})"


def diverted_folder(project: Project, recipe: str, one: Diversion) -> Path:
    """The folder with the diverted sources; a repository is cloned the first time. Raises YarrikError."""
    place = Place(project.settings_place.file, key=f"use.{recipe}")
    if bool(one.path) == bool(one.git) or (one.path and (one.branch or one.commit)) or (one.branch and one.commit):
        raise YarrikError(Trouble("DIVERSION-FORM", f"the diversion of `{recipe}` needs one of `path` and `git`", place,
                                  why="`branch` and `commit` belong to `git`, and only one of them",
                                  remedy=f"yarrik settings set use.{recipe}.path=FOLDER"))  # fmt: skip
    if one.path:
        folder = Path(one.path)
        if not folder.is_dir():
            raise YarrikError(
                Trouble("DIVERSION-MISSING", f"sources of `{recipe}` are diverted to {one.path}, which is not a folder", place,
                        remedy=found_nearby(folder, f"make it, or: yarrik settings set use.{recipe}.path="))
            )  # fmt: skip
        return folder
    folder = _clone(project, recipe)
    if not folder.is_dir():
        if project.choices.offline:
            raise YarrikError(
                Trouble("SOURCE-OFFLINE", f"sources of `{recipe}` are diverted to a repository that is not here", place,
                        remedy="yarrik fetch, with a network")
            )  # fmt: skip
        renew_diversion(project, recipe, one)
    return folder


def _clone(project: Project, recipe: str) -> Path:
    return project.folder / "diverted" / recipe


def renew_diversion(project: Project, recipe: str, one: Diversion) -> None:
    """Brings the clone of a diverted repository to where its branch is now. Work in it stays. Raises YarrikError."""
    if not one.git:
        return
    mirror = Mirror.of(one.git, project.store.root)
    wanted = Wanted(branch=one.branch, commit=one.commit)
    mirror.refresh(wanted)
    commit = mirror.commit_of(wanted)
    mirror.keep(commit)
    folder = _clone(project, recipe)
    if not os.path.lexists(folder):
        project.prepare_folder()
        folder.parent.mkdir(exist_ok=True)
        whole_clone(mirror, folder, commit)
        return
    mirror.hand_on(folder)
    state = state_of(folder)
    if state.changed or state.own:
        raise YarrikError(Trouble("DIVERSION-WORK", f"the clone of `{recipe}` has work of its own", Place(folder),
                                  why="moving it to another commit could lose that",
                                  remedy="divert to a folder of yours for work: "
                                  f"yarrik settings set use.{recipe}.path=FOLDER"))  # fmt: skip
    move_to(folder, commit)


def diversion_notes(project: Project, recipes: set[str]) -> Iterator[str]:
    """A sentence for each diverted recipe of a build."""
    for name, one in sorted(project.settings.use.items()):
        if name in recipes and diversion_of(project, name) is not None:
            yield f"{name} is built from {shown_diversion(one)}, by your settings (use.{name})"


def unknown_diversions(project: Project) -> Iterator[Trouble]:
    """Diversions of recipes that no shelf has: a slip in a name would leave the sources as they are."""
    known = project.workspace.shelved["recipe"]
    for name in sorted(project.settings.use):
        if name not in known:
            yield Trouble("DIVERSION-UNKNOWN", f"sources of a recipe `{name}` are diverted, which no shelf here has",
                          Place(project.settings_place.file, key=f"use.{name}"), remedy=suggestion(name, known))  # fmt: skip
