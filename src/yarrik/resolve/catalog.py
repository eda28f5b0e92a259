"""What can be asked for by name: recipes in their versions, packages and who yields them, roles and who provides them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from yarrik.errors import Trouble, YarrikError
from yarrik.patterns import lazy_pattern
from yarrik.resolve.packages import has_more_than_one, package_rules
from yarrik.versions import Version

if TYPE_CHECKING:
    from yarrik.model import Composition, Definition, Recipe, Shelved, Workspace

#: Roles that only one package of an image may have.
EXCLUSIVE_ROLES = ("device-manager", "display-server", "init")
#: Roles that every image has a use for, and what they are.
USUAL_ROLES = {
    "device-manager": "loads drivers, names devices",
    "init": "the first program",
    "logger": "keeps what services say",
    "login-service": "lets people log in from afar",
    "network": "sets network interfaces up",
}


def versions_of(recipe: Definition[Recipe]) -> list[Version]:
    """All versions of a recipe, as they are listed. Raises YarrikError when there is none, or one twice."""
    value = recipe.value
    texts = [*value.versions, *([value.version] if value.version and value.version not in value.versions else [])]
    if not texts:
        raise YarrikError(
            Trouble("RECIPE-VERSION", f"the recipe `{recipe.name}` has no version", recipe.place("version"),
                    why="what was built could not be told apart", remedy='add `version = "…"`, or `versions = ["…", "…"]`')
        )  # fmt: skip
    found = [Version(text) for text in texts]
    for number, version in enumerate(found):
        if version in found[:number]:
            raise YarrikError(
                Trouble("RECIPE-VERSION", f"`{recipe.name}` lists the version {version} twice", recipe.place("versions"),
                        why="versions that only differ in zeros at the end are the same", remedy="take one of them out")
            )  # fmt: skip
    return found


class Catalog(msgspec.Struct, dict=True):
    """Names as a composition sees them; each lookup is done once."""

    composition: Composition

    @property
    def workspace(self) -> Workspace:
        return self.composition.workspace

    def recipe(self, name: str, version: Version) -> Definition[Recipe]:
        """A recipe as it is for one of its versions. Raises YarrikError."""
        return self.composition.recipe(name, version)

    def ranked(self, name: str, locked: Version | None = None) -> list[Version]:
        """The versions of a recipe, the most welcome first: locked, preferred, newest; what leads to a release comes last."""
        recipe = self.composition.recipe(name)
        preferred = Version(recipe.value.version) if recipe.value.version else None
        found = sorted(versions_of(recipe), reverse=True)
        return sorted(found, key=lambda one: (one != locked, one != preferred, one.leads_to_a_release))

    @cached_property
    def _names(self) -> tuple[dict[str, list[str]], dict[str, list[tuple[str, str]]], dict[str, set[str]]]:
        """The recipes that yield each package, packages (with their recipe) that answer to a role or another's name, and the
        packages of each role.

        Read from what is written, conditions included: whether it holds is seen when the package is asked for."""
        packages: dict[str, list[str]] = {}
        answering: dict[str, list[tuple[str, str]]] = {}
        roles: dict[str, set[str]] = {}
        amended: dict[str, list[Any]] = {}
        for amendment in self.workspace.amendments:
            if amendment.value.recipe:
                amended.setdefault(amendment.value.recipe, []).append(amendment.document.raw)
        for change in self.composition.changes:
            for name, part in change.raw.get("set", {}).get("recipe", {}).items():
                amended.setdefault(name, []).append({"set": part})
        for name, shelved in self.workspace.readable("recipe"):
            raw = shelved.document.raw
            tables = [raw, *(when["set"] for when in raw.get("when", ()))]
            for change in amended.get(name, ()):
                tables += [change.get("set", {}), *(when["set"] for when in change.get("when", ()))]
            own: dict[str, None] = {}
            for table in tables:
                for package, rule in table.get("package", {}).items():
                    own[package] = None
                    for key in ("provides", "replaces"):
                        given = rule.get(key, ())
                        words = (
                            given
                            if isinstance(given, list)
                            else [*given.get("add", ()), *given.get("replace", ())]
                            if given
                            else ()
                        )
                        for word in words:
                            if key == "provides":
                                roles.setdefault(word, set()).add(package)
                            if (package, name) not in answering.setdefault(word, []):
                                answering[word].append((package, name))
            if not own:
                own = dict.fromkeys(self._usual_names(name, raw))
            for package in own:
                packages.setdefault(package, []).append(name)
        return packages, answering, roles

    def _usual_names(self, name: str, raw: Mapping[str, Any]) -> Iterable[str]:
        """The packages of a recipe that lists none."""
        return package_rules(self.composition.recipe(name), self.composition) if has_more_than_one(raw) else (name,)

    @cached_property
    def _unreadable(self) -> dict[str, Shelved]:
        """Recipes with errors, by the names that they would answer to as far as their text tells."""
        broken = [one for one in self.workspace.shelved["recipe"].values() if one.faults]
        return {name: one for one in broken for name in (one.name, *_names_in_text(one.file))}

    def _needs_whole(self, name: str) -> None:
        """Raises YarrikError with the errors of a recipe that may bring what is asked for."""
        if name in self._unreadable:
            _ = self._unreadable[name].document

    def recipes_with(self, package: str) -> list[str]:
        """The recipes that yield a package of this name. Raises YarrikError when one of them has errors."""
        self._needs_whole(package)
        return self._names[0].get(package, [])

    def packages_of(self, recipe: str) -> list[str]:
        """Names of the packages that a recipe makes."""
        return self._packages_by_recipe.get(recipe, [])

    @cached_property
    def _packages_by_recipe(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for package, recipes in sorted(self._names[0].items()):
            for recipe in recipes:
                found.setdefault(recipe, []).append(package)
        return found

    def answering(self, name: str) -> list[str]:
        """Packages that answer to a name: the one that is called so, those with the role, those that replace it.

        Raises YarrikError when one of them comes from a recipe that has errors."""
        self._needs_whole(name)
        found = [name] if name in self._names[0] else []
        return found + sorted({package for package, _ in self._names[1].get(name, ())} - {name})

    @property
    def roles(self) -> dict[str, list[str]]:
        """The packages that provide each role, by name; those that every image has a use for are there without any, too."""
        return {role: sorted(self._names[2].get(role, ())) for role in sorted({*self._names[2], *USUAL_ROLES})}

    def main_package(self, recipe: str) -> str | None:
        """The package that a recipe's name means."""
        own = self.composition.recipe(recipe)
        rules = package_rules(own, self.composition)
        return recipe if recipe in rules else next(iter(rules), None)

    def known(self) -> set[str]:
        """All names that a need may use."""
        return self._names[0].keys() | self._names[1].keys() | self.workspace.shelved["recipe"].keys()


#: What names packages in a recipe's text: tables, and lists of further names.
_TABLE = lazy_pattern(r"""^\s*(?:\[\s*)?package\s*\.\s*["']?([\w.+-]+)""", re.MULTILINE)
_GIVEN = lazy_pattern(r"""(?:provides|replaces)["']?\s*=\s*(\[[^\]]*|"[^"\n]*|'[^'\n]*)""")


def _names_in_text(file: Path) -> list[str]:
    """Names of packages and roles in a recipe that cannot be read as a whole."""
    try:
        text = file.read_text(errors="replace")
    except OSError:
        return []
    given = (word for part in _GIVEN.findall(text) for word in re.findall(r"[\w.+-]+", part))
    return [*_TABLE.findall(text), *given]
