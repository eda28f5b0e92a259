"""The steps that bring a recipe's sources here, and what else follows from its version, from what the recipe says alone."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from yarrik.errors import Trouble, YarrikError
from yarrik.plan.actions import Clone, Describe, Download, Provenance, RunCommands, Split, Stage, TakeFile, Unpack
from yarrik.plan.recipe_commands import beyond_commands
from yarrik.plan.steps import Step
from yarrik.units import parse_size

if TYPE_CHECKING:
    from yarrik.errors import Place
    from yarrik.model import Definition, Recipe, Source

#: Keys of a source from which nothing follows but the steps that bring it here, by the key that tells what kind it is.
_OF_SOURCE = {
    "git": frozenset(["commit", "folder", "git", "mirrors", "submodules"]),
    "url": frozenset(["folder", "member-limit", "mirrors", "name", "sha256", "size-limit", "url"]),
    "path": frozenset[str](),
}
_KINDS = frozenset([*_OF_SOURCE, "host-file", "debian", "output"])


def download_steps(subject: str, recipe: Definition[Recipe]) -> tuple[Step, Step]:
    """The step that downloads the recipe's source, and the one that makes a tree of it. Raises YarrikError."""
    source = recipe.value.source[0]
    if not source.sha256:
        raise YarrikError(
            Trouble("SOURCE-NO-DIGEST", f"the source of `{recipe.name}` has no digest", recipe.place("source", "0", "url"),
                    why="anybody who can change the file there could change the image",
                    remedy=f'add `sha256 = "…"`; yarrik fetch --digest {source.url} tells it')
        )  # fmt: skip
    urls = tuple(url.replace("{version}", recipe.value.version) for url in (source.url, *source.mirrors))
    fetch = Step(
        "fetch",
        subject,
        Download(sha256=source.sha256),
        predicted={"file": source.sha256},
        marks={"url": recipe.place("source", "0", "url")},
        urls=urls,
    )
    name = source.name or urls[0].partition("?")[0].rpartition("/")[2] or "file"
    return fetch, taken_in(subject, name, source, (fetch.name, "file"), recipe.place("source"))


def clone_step(subject: str, recipe: Definition[Recipe]) -> Step:
    """The step that takes the recipe's source from a repository. Raises YarrikError."""
    source, place = recipe.value.source[0], recipe.place("source", "0", "git")
    if not source.commit:
        raise YarrikError(
            Trouble("SOURCE-NO-DIGEST", f"the source of `{recipe.name}` names no commit", place,
                    why="a branch or tag can move, and with it what is built",
                    remedy=f'add `commit = "…"`; git ls-remote {source.git} lists them')
        )  # fmt: skip
    return Step(
        "fetch",
        subject,
        Clone(commit=source.commit, folder=source.folder, submodules=source.submodules),
        marks={"url": place},
        urls=(source.git, *source.mirrors),
    )


def taken_in(subject: str, name: str, source: Source, file: tuple[str, str], place: Place) -> Step:
    """The step that unpacks an archive, or takes any other file as it is."""
    from yarrik.sources import is_archive  # modules for archives take long to load, and a build after few changes needs none

    if not is_archive(name):
        return Step("prepare", subject, TakeFile(name=name), inputs={"archive": file}, marks={"source": place})
    action = Unpack(name=name, folder=source.folder, member_limit=source.member_limit, size_limit=parse_size(source.size_limit))
    return Step("prepare", subject, action, inputs={"archive": file}, marks={"source": place})


def published_source(recipe: Definition[Recipe]) -> Provenance | None:
    """Where others can have the recipe's source, too, if that is an address that the recipe names."""
    from yarrik.sources import without_password

    source = recipe.value.source[0]
    version, name = recipe.value.version, recipe.name
    if source.url:
        at = without_password(source.url.replace("{version}", version))
        return Provenance(kind="source", name=name, version=version, at=at, revision=source.sha256)
    if source.git:
        return Provenance(kind="source", name=name, version=version, at=without_password(source.git), revision=source.commit)
    return None


def beyond_version(raw: Mapping[str, Any]) -> dict[str, Any] | None:
    """What is written in a recipe without its version, where its source is had, and that from which nothing follows but its
    commands. As long as this stays, so does the plan of everything else, if nothing else asks for a version of it. None where
    that is not so."""
    beyond, sources = beyond_commands(raw), raw.get("source")
    if beyond is None or "versions" in raw or not isinstance(sources, list) or len(sources) != 1:
        return None
    source = sources[0]
    kinds = sorted(_KINDS & source.keys()) if isinstance(source, dict) else []
    if len(kinds) != 1 or kinds[0] not in _OF_SOURCE or "{version}" in str(source.get("path")):
        return None
    free = _OF_SOURCE[kinds[0]]
    beyond.pop("version", None)
    return {**beyond, "source": kinds, "of source": {key: value for key, value in source.items() if key not in free}}


def is_of_version(step: Step) -> bool:
    """Whether a recipe's step may be another one with another version or source, beside its build."""
    return isinstance(step.action, (Download, Clone, Unpack, TakeFile, Stage, Split))


def in_version(step: Step, recipe: Definition[Recipe]) -> Step:
    """A step of a recipe, or that of the manifests, as it follows from the recipe's version and source now. Raises
    YarrikError."""
    action, version = step.action, recipe.value.version
    if isinstance(action, (Stage, Split)):
        return replace(step, action=replace(action, version=version))
    if isinstance(action, RunCommands):
        return replace(step, choices={**step.choices, "version": version})
    if isinstance(action, Describe):
        kept = tuple(_now(one, recipe) for one in action.provenance)
        return replace(step, action=replace(action, provenance=kept))
    if recipe.value.source[0].git:
        made = clone_step(step.subject, recipe)
    else:
        made = download_steps(step.subject, recipe)[step.kind == "prepare"]
    return replace(step, action=made.action, predicted=made.predicted, marks=made.marks, urls=made.urls)


def _now(one: Provenance, recipe: Definition[Recipe]) -> Provenance:
    found = published_source(recipe) if one.kind == "source" and one.name == recipe.name else None
    return found if found is not None else one
