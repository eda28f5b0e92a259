"""Small random workspaces in memory, and a checker of answers that shares nothing with the solver."""

from __future__ import annotations

import itertools
import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from yarrik.model import Composition, Workspace, compose
from yarrik.model.definitions import WorkspaceFile, WorkspaceTable
from yarrik.model.kinds import SHAPES
from yarrik.model.reading import Document
from yarrik.model.workspace import Shelved
from yarrik.resolve import Answer, Node
from yarrik.versions import Version, parse_requirement

Raw = dict[str, Any]
BASE = {
    "profile": {"p": {"init": "init", "c-library": "libc"}},
    "board": {"b": {"arch": "host", "kernel": {"recipe": "kernel"}, "disk": [{"name": "card"}]}},
    "product": {"w": {"board": "b", "profile": "p", "image": "i"}},
}


def plain(version: str = "1") -> Raw:
    return {"version": version, "licence": "MIT", "source": [{"path": "src"}], "build": {"using": "make"}}


def composition_of(recipes: dict[str, Raw], image: Raw, more: dict[str, dict[str, Raw]] | None = None) -> Composition:
    """A product whose image is `image`, over these recipes in this order."""
    raws: dict[str, dict[str, Raw]] = {**BASE, "image": {"i": image}, **(more or {})}
    raws["recipe"] = {**recipes, **{name: plain() for name in ("init", "libc", "kernel") if name not in recipes}}
    shelved = {
        kind: {name: Shelved(name, "s", f"/w/{kind}s/{name}.toml", None, Document(Path(f"/w/{kind}s/{name}.toml"), raw))
               for name, raw in raws.get(kind, {}).items()}
        for kind in SHAPES
    }  # fmt: skip
    settings = WorkspaceFile(workspace=WorkspaceTable(name="w"))
    return compose(Workspace(Path("/w"), settings, shelved, ()))


def random_recipes(chance: random.Random) -> tuple[dict[str, Raw], Raw]:
    """Two or three recipes of one or two versions with an option each, and an image that asks for some of their packages."""
    names = ["a", "b", "c"][: chance.choice([2, 3, 3])]
    recipes: dict[str, Raw] = {}

    def need() -> str:
        name = chance.choice([*names, *names, "role"])
        if name == "role":
            return name
        options = chance.choice(["", "", "[x]", "[-x]"])
        return name + options + chance.choice(["", "", " >= 2", " < 2", " == 1"])

    for name in names:
        raw = plain()
        raw["versions"] = chance.choice([["1"], ["1", "2"], ["2", "1"]])
        del raw["version"]
        if chance.random() < 0.5:
            raw["build"] = {"using": "make", "needs": [need() for _ in range(chance.randint(0, 2))]}
        raw["options"] = {"x": {"default": chance.random() < 0.5}}
        if chance.random() < 0.3:
            raw["options"]["x"]["needs"] = [need()]
        rule: Raw = {"files": ["/bin/x"], "needs": [need() for _ in range(chance.randint(0, 2))]}
        if chance.random() < 0.4:
            rule["provides"] = ["role"]
        if chance.random() < 0.3:
            rule["excludes"] = [chance.choice(names)]
        raw["package"] = {name: rule}
        if chance.random() < 0.3:
            raw["when"] = [{"version": ">= 2", "set": {"package": {name: {"needs": {"add": [need()]}}}}}]
        recipes[name] = raw
    image: Raw = {"packages": sorted({need() for _ in range(chance.randint(1, 2))})}
    if chance.random() < 0.3:
        image["options"] = {chance.choice(names): {"x": chance.random() < 0.5}}
    return recipes, image


# The checker


def is_fine(
    recipes: dict[str, Raw], image: Raw, versions: dict[str, str], options: dict[str, bool], packages: set[str]
) -> bool:
    """Whether versions by recipe, options by recipe and the packages of an image satisfy everybody."""

    def rule(package: str) -> Raw:
        raw = recipes[package]
        found = dict(raw["package"][package])
        for when in raw.get("when", ()):
            if Version(versions[package]) >= Version("2"):
                found["needs"] = found["needs"] + when["set"]["package"][package]["needs"]["add"]
        return found

    def built(text: str) -> bool:
        need = parse_requirement(text)
        if need.name == "role":
            return role_is_there()
        if need.name not in versions or not need.wish.allows(Version(versions[need.name])):
            return False
        return all(options[need.name] == on for _, on in need.options)

    def role_is_there() -> bool:
        return any("role" in recipes[package]["package"][package].get("provides", ()) for package in packages)

    def there(text: str) -> bool:
        return built(text) and (parse_requirement(text).name in packages or parse_requirement(text).name == "role")

    if not all(there(text) for text in image["packages"]):
        return False
    for recipe, wished in image.get("options", {}).items():
        if recipe in versions and options[recipe] != wished["x"]:
            return False
    for name in packages:
        if name not in versions or not all(there(text) for text in rule(name)["needs"]):
            return False
        if any(other in packages and other != name for other in rule(name).get("excludes", ())):
            return False
    for name in versions:
        needs = list(recipes[name]["build"].get("needs", ()))
        if options[name]:
            needs += recipes[name]["options"]["x"].get("needs", [])
        # What a recipe's programs are linked with has its package in the image, since no package here lists its files as none.
        if not all(built(text) for text in needs):
            return False
    return True


def every_choice(recipes: dict[str, Raw]) -> Iterator[tuple[dict[str, str], dict[str, bool], set[str]]]:
    """All versions, options and packages that there could be."""
    each = []
    for raw in recipes.values():
        each.append(
            [None, *((version, on, inside) for version in raw["versions"] for on in (False, True) for inside in (False, True))]
        )
    for combination in itertools.product(*each):
        chosen = {name: one for name, one in zip(recipes, combination, strict=True) if one is not None}
        yield ({name: one[0] for name, one in chosen.items()}, {name: one[1] for name, one in chosen.items()},
               {name for name, one in chosen.items() if one[2]})  # fmt: skip


def answer_in_parts(answer: Answer, recipes: dict[str, Raw]) -> tuple[dict[str, str], dict[str, bool], set[str]]:
    versions = {node.recipe: str(version) for node, version in answer.versions.items() if node.recipe in recipes}
    options = {name: answer.options_of(Node(name, "board"))["x"] for name in versions}
    return versions, options, {name for name in answer.packages if name in recipes}
