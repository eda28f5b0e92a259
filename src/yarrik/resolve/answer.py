"""The answer to a product's question: versions, options, packages, roles, and what leads to what."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping
from functools import cached_property
from typing import TYPE_CHECKING

import msgspec

from yarrik.errors import Collector, Trouble, YarrikError, suggestion
from yarrik.model import never_holding, too_late
from yarrik.resolve.explain import impossible, too_hard
from yarrik.resolve.facts import Fact, Link, Node, Thing
from yarrik.resolve.outputs import taken_outputs
from yarrik.resolve.sentences import link_words, short_words
from yarrik.resolve.solver import Impossible, TooHard, solve
from yarrik.resolve.universe import IN, ON, Universe
from yarrik.versions import parse_requirement

if TYPE_CHECKING:
    from yarrik.model import Composition, Definition, Recipe
    from yarrik.resolve.facts import Side
    from yarrik.resolve.solver import Progress
    from yarrik.versions import Version

_MOST_WAYS = 100


class Answer(msgspec.Struct, frozen=True, dict=True):
    """What a product resolves to. `composition` and `host` are the product with everything known, for the two sides."""

    universe: Universe
    versions: Mapping[Node, Version]
    options: Mapping[tuple[Node, str], bool]
    packages: tuple[str, ...]
    roles: Mapping[str, str]
    groups: tuple[str, ...]
    chosen: Mapping[int, int]
    composition: Composition
    host: Composition

    def recipe(self, node: Node) -> Definition[Recipe]:
        """A recipe in its version, with its options known."""
        side = self.composition if node.side == "board" else self.host
        return side.recipe(node.recipe, self.versions[node])

    def options_of(self, node: Node) -> dict[str, bool]:
        """The options of a recipe, each on or off."""
        return dict(self._options_by_node.get(node, {}))

    @cached_property
    def _options_by_node(self) -> dict[Node, dict[str, bool]]:
        found: dict[Node, dict[str, bool]] = {}
        for (node, option), on in sorted(self.options.items()):
            found.setdefault(node, {})[option] = on
        return found

    def node_for(self, need: str, side: Side) -> Node | None:
        """The recipe that a build's need was answered with."""
        name = parse_requirement(need).name
        thing = self.universe.recipe_for(name, side)
        if thing is None and name in self.roles:
            thing = Thing("recipe", self.universe.catalog.recipes_with(self.roles[name])[0], side)
        return Node(thing.name, side) if thing is not None and Node(thing.name, side) in self.versions else None

    @cached_property
    def c_library(self) -> Node | None:
        """The recipe of a C library that all programs of the board are linked with; None where that is the toolchain's."""
        name = parse_requirement(self.universe.composition.profile.value.c_library).name
        for node in self.versions:
            recipe = self.recipe(node).value
            if node.side == "board" and recipe.build.loader and (name == node.recipe or name in recipe.package):
                return node
        return None

    @cached_property
    def tied_options(self) -> frozenset[tuple[str, str]]:
        """Options of recipes for the board on which something else in the answer depends, beside who asks for them."""
        found = set()
        for clause in self.universe.told:
            if isinstance(clause.cause, Fact) and clause.cause.kind in ("option asked", "decided"):
                continue
            for variable, _ in clause.terms:
                thing = self.universe.things[variable]
                if thing.kind == "option" and thing.side == "board":
                    found.add((thing.name, thing.option))
        return frozenset(found)

    def build_needs(self, node: Node) -> list[Node]:
        """What a recipe is linked with: by itself, and for the options that are on."""
        return self._nodes(node, "needs", node.side)

    def build_tools(self, node: Node) -> list[Node]:
        """The recipes whose programs run when this one is built."""
        return self._nodes(node, "tools", "host")

    def build_outputs(self, node: Node) -> list[Node]:
        """The recipes of which this one's build takes files."""
        found = [Node(recipe, node.side) for recipe, _ in taken_outputs(self.recipe(node).value)]
        return [one for one in dict.fromkeys(found) if one in self.versions]

    def _nodes(self, node: Node, key: str, side: Side) -> list[Node]:
        value = self.recipe(node).value
        texts = [*getattr(value.build, key)]
        for option, on in self.options_of(node).items():
            if on and option in value.options:
                texts += [text for text in getattr(value.options[option], key) if not text.startswith("options.")]
        found = [self.node_for(text, side) for text in texts]
        return list(dict.fromkeys(one for one in found if one is not None))

    def package_for(self, name: str) -> str:
        """The package that answers to a name at run time."""
        if name in self.roles:
            return self.roles[name]
        if self.brings(name):
            return name
        catalog = self.universe.catalog
        found = next((one for one in catalog.answering(name) if self.brings(one)), None)
        if found is None and name in catalog.workspace.shelved["recipe"]:
            found = catalog.main_package(name)
        return found or name  # a package that is not in the image: what needs it is not in it either

    def brings(self, package: str) -> bool:
        """Whether a package is among those of the product."""
        return package in self._package_names

    @cached_property
    def _package_names(self) -> frozenset[str]:
        return frozenset(self.packages)

    def providing(self, role: str) -> list[str]:
        """The image's packages that provide a role, whether somebody asked for it or not."""
        return [name for name in self.universe.catalog.answering(role) if self.brings(name)]

    @cached_property
    def links(self) -> tuple[Link, ...]:
        """All that leads from the product to what is in it: the clauses of the question that the answer fulfils."""
        found: dict[Link, None] = {}
        for clause in self.universe.told:
            fact = clause.cause
            if not isinstance(fact, Fact) or fact.kind not in ("asked", "needs", "option needs", "answered by", "yields"):
                continue
            *conditions, (target, unwanted) = clause.terms
            if not unwanted & 1 or not all(1 << self.chosen.get(variable, 0) & members for variable, members in conditions):
                continue
            thing = self.universe.things[target]
            if self.chosen.get(target, 0) == 0 or thing.kind == "option" or fact.subject == thing:
                continue
            source, option = fact.subject, ""
            if source.kind == "option":
                source, option = Thing("recipe", source.name, source.side), source.option
            assert fact.relation is not None
            link = Link(source, thing, fact.relation, fact.wanted, option, fact.conditions, fact.asker, fact.find_place)
            found.setdefault(link)
        for name in self.packages:
            for wish in self.universe.wished_by.get(name, ()):
                if self.chosen.get(self.universe.numbers[wish.source], 0):
                    found.setdefault(wish)
        by_ends: dict[tuple[str, str, str], list[Link]] = {}
        for link in found:
            by_ends.setdefault((str(link.source), link.source.kind, str(link.target)), []).append(link)
        ordered: list[Link] = []
        for ends in sorted(by_ends):  # few links have both in common: only of these the words are made
            links = by_ends[ends]
            ordered += sorted(links, key=link_words) if len(links) > 1 else links
        return tuple(ordered)

    def ways_to(self, target: Thing) -> list[list[Link]]:
        """All shortest chains of links from the product to a thing."""
        product = Thing("product", self.universe.composition.name)
        by_source: dict[Thing, list[Link]] = {}
        for link in self.links:
            by_source.setdefault(link.source, []).append(link)
        distance = {product: 0}
        waiting = [product]
        for thing in waiting:
            for link in by_source.get(thing, ()):
                if link.target not in distance:
                    distance[link.target] = distance[thing] + 1
                    waiting.append(link.target)
        if target not in distance:
            return []
        into: dict[Thing, list[Link]] = {}
        for link in self.links:
            if distance.get(link.source, -2) + 1 == distance.get(link.target, -1):
                into.setdefault(link.target, []).append(link)
        ways: list[list[Link]] = [[]]
        while any(not way or way[0].source != product for way in ways):
            ways = [[link, *way] for way in ways for link in into[way[0].source if way else target]]
            ways = ways[:_MOST_WAYS]
        return ways

    def reason_for_option(self, node: Node, option: str) -> tuple[str, str]:
        """Who needs an option to be as it is, in words, and where that is written; nothing when nobody does."""
        number = self.universe.numbers.get(Thing("option", node.recipe, node.side, option))
        for clause in self.universe.told:
            fact = clause.cause
            if not isinstance(fact, Fact) or fact.kind not in ("needs", "option needs", "asked", "excludes", "one of"):
                continue
            *conditions, (target, unwanted) = clause.terms
            holds = all(1 << self.chosen.get(variable, 0) & members for variable, members in conditions)
            if target == number and holds and not 1 << self.chosen.get(target, 0) & unwanted:
                who = short_words(fact)
                return who if fact.subject.kind == "product" else f"{fact.subject} {who}", fact.place.short
        return "", ""

    @cached_property
    def warnings(self) -> tuple[Trouble, ...]:
        """What is likely wrong with what was resolved."""
        workspace = self.universe.composition.workspace
        found = [*self.universe.composition.warnings]
        unanswered = self.universe.unanswered
        known = sorted(self.universe.catalog.known()) if unanswered else []
        for who, text, place in unanswered:
            found.append(
                Trouble("RECOMMENDED-MISSING", f"`{who}` recommends `{text}`, which no shelf has", place,
                        why="a recommendation that nothing answers is left out", remedy=suggestion(text.split()[0], known))
            )  # fmt: skip
        for name in sorted({node.recipe for node in self.versions}):
            found += never_holding(workspace, "recipe", name)
        return tuple(dict.fromkeys(found))

    def things(self) -> Iterator[Thing]:
        """All that was chosen: recipes, packages, options."""
        return (self.universe.things[number] for number in sorted(self.chosen))


#: Seconds that a question may take, unless somebody is more patient.
PATIENCE = 5.0


def resolve(
    composition: Composition,
    locked: Mapping[tuple[str, Side], Version] | None = None,
    locked_roles: Mapping[str, str] | None = None,
    progress: Progress = lambda decided, conflicts: None,
    patience: float = PATIENCE,
    full: bool = False,
) -> Answer:
    """Answers a product's question. Raises YarrikError with a proof when it has no answer, with `full` the whole of it, or with
    what is known after `patience` seconds; so long it may take again to find the shortest proof."""
    universe = Universe(composition, locked or {}, locked_roles or {})
    _check_wishes(universe)
    chosen = _solved(universe, progress, patience, full)
    return _answer(universe, chosen)


def _solved(universe: Universe, progress: Progress, patience: float, full: bool) -> dict[int, int]:
    def until(end: float) -> Callable[[], bool]:
        return lambda: time.monotonic() < end

    def again(ignored: frozenset[Fact]) -> bool:
        other = Universe(universe.composition, universe.locked, universe.locked_roles,
                         universe.ignored | ignored)  # fmt: skip
        try:
            solve(other, other.roots(), limit=3000, patient=proving)
        except (Impossible, TooHard):
            return False
        return True

    troubles: dict[str, Trouble] = {}
    searching = until(time.monotonic() + patience)
    proving = searching
    while True:
        try:
            return _finished(universe, progress, troubles, searching)
        except Impossible as error:
            proving = until(time.monotonic() + patience)
            told = impossible(universe, error, again, proving, full)
            for trouble in told.troubles:
                troubles.setdefault(trouble.what, trouble)
            facts = [clause.cause for clause in error.clauses if isinstance(clause.cause, Fact)]
            unknown = frozenset(fact for fact in facts if fact.kind in ("unknown", "unknown option"))
            if not unknown or unknown <= universe.ignored or len(troubles) > 20:
                raise YarrikError(troubles.values()) from None
            universe = Universe(universe.composition, universe.locked, universe.locked_roles,
                                universe.ignored | unknown)  # fmt: skip
        except TooHard as error:
            raise YarrikError(too_hard(universe, error, patience)) from None


def _finished(
    universe: Universe, progress: Progress, troubles: Mapping[str, Trouble], patient: Callable[[], bool]
) -> dict[int, int]:
    chosen = solve(universe, universe.roots(), progress=progress, patient=patient)
    if troubles:
        raise YarrikError(troubles.values())
    return chosen


def _answer(universe: Universe, chosen: Mapping[int, int]) -> Answer:
    versions: dict[Node, Version] = {}
    options: dict[tuple[Node, str], bool] = {}
    packages, groups = [], []
    roles: dict[str, str] = {}
    for number, candidate in chosen.items():
        thing = universe.things[number]
        if thing.kind == "recipe":
            versions[Node(thing.name, thing.side)] = universe.candidates(thing)[candidate - 1]
        elif thing.kind == "package" and 1 << candidate == IN:
            packages.append(thing.name)
        elif thing.kind == "role":
            roles[thing.name] = universe.providers(thing.name)[candidate - 1]
        elif thing.kind == "group":
            groups.append(thing.name)
    for number, candidate in chosen.items():
        thing = universe.things[number]
        node = Node(thing.name, thing.side)
        if thing.kind == "option" and node in versions:
            options[(node, thing.option)] = 1 << candidate == ON
    for node, version in versions.items():
        for option in universe.catalog.recipe(node.recipe, version).value.options:
            if (node, option) not in options:
                options[(node, option)] = universe.option_default(Thing("option", node.recipe, node.side, option))
    collector = Collector()
    for name in sorted({node.recipe for node in versions}):
        collector.extend(too_late(universe.composition.workspace, "recipe", name))
    collector.raise_if_any()
    sides = []
    for side in ("board", "host"):
        by_side = {node.recipe: version for node, version in versions.items() if node.side == side}
        on = {(node.recipe, option): value for (node, option), value in options.items() if node.side == side}
        sides.append(universe.composition.settled(by_side, on))
    return Answer(
        universe, dict(sorted(versions.items())), dict(sorted(options.items())), tuple(sorted(packages)),
        dict(sorted(roles.items())), tuple(sorted(groups)), chosen, *sides,
    )  # fmt: skip


def _check_wishes(universe: Universe) -> None:
    """Options and versions asked for of recipes that are nowhere, or that have no such option."""
    wishes, document = universe.composition.wishes
    known = universe.composition.workspace.shelved["recipe"]
    troubles = []
    for key, names in (("options", wishes.options), ("versions", wishes.versions)):
        for name in sorted(names):
            if name not in known:
                troubles.append(
                    Trouble("RECIPE-UNKNOWN", f"{key} are asked for of a recipe `{name}`, which no shelf has",
                            document.origin(key, name).place, remedy=suggestion(name, known), lacks=("recipe", name))
                )  # fmt: skip
    for name, options in sorted(wishes.options.items()):
        if name in known:
            have = {option for version in universe.candidates(Thing("recipe", name))
                    for option in universe.catalog.recipe(name, version).value.options}  # fmt: skip
            troubles += [
                Trouble("OPTION-UNKNOWN", f"`{name}` has no option `{option}`", document.origin("options", name, option).place,
                        remedy=suggestion(option, have))
                for option in sorted(options) if option not in have
            ]  # fmt: skip
    if troubles:
        raise YarrikError(troubles)
