"""A product's question, put to the solver: recipes in versions for two sides, their options, packages, roles, groups."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import msgspec
from msgspec.structs import replace

from yarrik.errors import suggestion
from yarrik.model import (
    FIRST_BOOT_PACKAGE,
    option_words,
    output_of,
)
from yarrik.patterns import lazy_pattern
from yarrik.resolve.catalog import EXCLUSIVE_ROLES, Catalog
from yarrik.resolve.facts import Asker, Fact, Link, Missing, Relation, Thing
from yarrik.resolve.outputs import board_outputs, recipe_outputs, taken_outputs
from yarrik.resolve.packages import locale_package, package_rules
from yarrik.resolve.solver import Clause
from yarrik.versions import parse_requirement, parse_wish

if TYPE_CHECKING:
    from yarrik.errors import Place
    from yarrik.model import (
        Composition,
        Definition,
        Document,
        PackageRule,
        Raw,
        Recipe,
    )
    from yarrik.resolve.facts import Side
    from yarrik.resolve.solver import Term
    from yarrik.versions import Requirement, Version, Wish

#: How a recipe needs what it lists under these keys of [build].
_TO_BUILD = {"needs": Relation.BUILD, "tools": Relation.TOOL}

NOTHING = 1
IN = 2
OFF, ON = 2, 4
_LIBRARIES = lazy_pattern(r"/(usr/)?lib(/\*\*|/[^/]*(\.so.*|\*)?)?$|^\*\*$")


class Universe(msgspec.Struct, dict=True):
    """The problem as the solver sees it. `locked` versions and roles are preferred; `ignored` facts are left out."""

    composition: Composition
    locked: Mapping[tuple[str, Side], Version] = msgspec.field(default_factory=dict)
    locked_roles: Mapping[str, str] = msgspec.field(default_factory=dict)
    ignored: frozenset[Fact] = frozenset()
    things: list[Thing] = msgspec.field(default_factory=list)
    numbers: dict[Thing, int] = msgspec.field(default_factory=dict)
    _candidates: dict[Thing, list[Version]] = msgspec.field(default_factory=dict)
    #: All clauses that were given, and the recommendations by the package that they are of: what explains an answer.
    told: list[Clause] = msgspec.field(default_factory=list)
    wished_by: dict[str, list[Link]] = msgspec.field(default_factory=dict)
    #: Recommendations that no shelf can answer: who recommends what, and where that stands.
    unanswered: list[tuple[str, str, Place]] = msgspec.field(default_factory=list)
    #: Recipes of which something asks for certain versions, met by the answer or not.
    bounded: set[str] = msgspec.field(default_factory=set)
    _given: set[tuple[Term, ...]] = msgspec.field(default_factory=set)
    #: Options that something was said of, and that have to be on or off therefore. Nobody has to weigh the others.
    _mentioned: list[Thing] = msgspec.field(default_factory=list)

    @cached_property
    def catalog(self) -> Catalog:
        return Catalog(self.composition)

    # What the solver asks

    def size(self, variable: int) -> int:
        """Candidates of a variable, with 0, which stands for "not chosen"."""
        thing = self.things[variable]
        if thing.kind == "recipe":
            return len(self.candidates(thing)) + 1
        if thing.kind == "role":
            return len(self.providers(thing.name)) + 1
        return 3 if thing.kind == "option" else 2

    def rank(self, variable: int) -> int:
        """Variables of a lower rank are decided first."""
        return {"role": 2, "option": 1}.get(self.things[variable].kind, 0)

    def pick(self, variable: int, allowed: int, chosen: Callable[[int], int]) -> int:
        """The candidate to try first among those that `allowed` (a bit for each) leaves."""
        thing = self.things[variable]
        if thing.kind == "option":
            wanted = ON if self.option_default(thing) else OFF
            return (wanted if allowed & wanted else allowed & -allowed).bit_length() - 1
        if thing.kind == "role":
            # One that is there for another reason anyway saves an extra.
            for position, package in enumerate(self.providers(thing.name)):
                number = self.numbers.get(Thing("package", package))
                if allowed >> (position + 1) & 1 and number is not None and _settled_in(chosen, number):
                    return position + 1
        rest = allowed & ~NOTHING
        return (rest & -rest).bit_length() - 1

    def wishes(self, variable: int, candidate: int) -> Sequence[int]:
        """Variables that a candidate would like to be chosen, in order."""
        thing = self.things[variable]
        found: list[int] = []
        if thing.kind == "package":
            for recipe in self.catalog.recipes_with(thing.name)[:1]:
                for version in self.candidates(Thing("recipe", recipe)):
                    rule = self.rules(recipe, version).get(thing.name)
                    place = self.catalog.recipe(recipe, version).place("package", thing.name, "recommends")
                    for text in sorted(rule.recommends if rule is not None else ()):
                        found += self._wish(thing, text, place)
        elif thing.kind == "group":
            group = self.composition.workspace.groups[thing.name]
            for text in sorted(group.value.recommends):
                found += self._wish(thing, text, group.place("recommends"))
        return list(dict.fromkeys(found))

    def _wish(self, source: Thing, text: str, place: Place) -> list[int]:
        answering = self.catalog.answering(parse_requirement(text).name)
        if not answering:
            missing = (str(source), text, place)
            if missing not in self.unanswered:
                self.unanswered.append(missing)
            return []
        target = Thing("package", answering[0])
        wished = Link(source, target, Relation.RECOMMENDED, text, find_place=lambda: place)
        if wished not in self.wished_by.setdefault(target.name, []):
            self.wished_by[target.name].append(wished)
        return [self.number(target)]

    def clauses(self, variable: int, candidate: int) -> Iterator[Clause]:
        """All that follows when this candidate is chosen."""
        thing = self.things[variable]
        if thing.kind == "product":
            found = self._product(thing)
        elif thing.kind == "recipe":
            found = self._recipe(thing, self.candidates(thing)[candidate - 1])
        elif thing.kind == "package":
            found = self._package(thing)
        elif thing.kind == "role":
            package = self.providers(thing.name)[candidate - 1]
            fact = Fact("answered by", thing, package, Relation.ROLE)
            found = iter([self._clause(fact, (thing, 1 << candidate), (Thing("package", package), NOTHING))])
        elif thing.kind == "group":
            found = self._group(thing)
        else:
            return
        for clause in found:
            if clause.terms not in self._given and not (self.ignored and clause.cause in self.ignored):
                self._given.add(clause.terms)
                self.told.append(clause)
                yield clause
        while self._mentioned:
            option = self._mentioned.pop()
            recipe = Thing("recipe", option.name, option.side)
            if recipe.name not in self.composition.workspace.shelved["recipe"]:
                continue  # a condition on a recipe that is nowhere: told as one that can never hold
            having = self._versions_with(recipe, option.option)
            yield self._clause(Fact("decided", option), (recipe, having), (option, NOTHING))

    # Things

    def number(self, thing: Thing) -> int:
        """The variable of a recipe, package or option; a new one for a thing not met before."""
        if thing not in self.numbers:
            self.numbers[thing] = len(self.things)
            self.things.append(thing)
            if thing.kind == "option":
                self._mentioned.append(thing)
        return self.numbers[thing]

    def candidates(self, thing: Thing) -> list[Version]:
        """The versions of a recipe, the most welcome first."""
        if thing not in self._candidates:
            self._candidates[thing] = self.catalog.ranked(thing.name, self.locked.get((thing.name, thing.side)))
        return self._candidates[thing]

    def providers(self, name: str) -> list[str]:
        """Packages that answer to a role or a name: the locked one first, then that of the name itself, then by name."""
        found = self.catalog.answering(name)
        locked = self.locked_roles.get(name)
        return sorted(found, key=lambda one: one != locked)

    def rules(self, recipe: str, version: Version) -> Mapping[str, PackageRule]:
        """The package rules of a recipe's version, by package."""
        return package_rules(self.catalog.recipe(recipe, version), self.composition)

    def option_default(self, thing: Thing) -> bool:
        """Whether an option is on when nobody asks."""
        recipe = self.composition.recipe(thing.name).value
        for choice in recipe.choice.values():
            if thing.option in choice.of and choice.default:
                return thing.option == choice.default
        rule = recipe.options.get(thing.option)
        return rule is not None and rule.default

    def versions_where(self, thing: Thing, test: Callable[[Version], bool]) -> int:
        """The set of a recipe's candidates that pass a test."""
        candidates = self.candidates(thing)
        if len(candidates) == 1:  # as most recipes are
            return 2 if test(candidates[0]) else 0
        return sum(1 << (index + 1) for index, version in enumerate(candidates) if test(version))

    def everything(self, thing: Thing) -> int:
        """All candidates that are something."""
        return (1 << self.size(self.number(thing))) - 2

    def _wished(self, thing: Thing, wish: Wish, met: bool) -> int:
        """The set of a recipe's candidates that are as wished, or (not `met`) those that are not."""
        if wish.bounds:
            self.bounded.add(thing.name)
        return self.versions_where(thing, lambda version: wish.allows(version) == met)

    def _clause(self, fact: Fact, *terms: tuple[Thing, int]) -> Clause:
        merged: dict[int, int] = {}
        for thing, members in terms:
            number = self.number(thing)
            merged[number] = merged.get(number, -1) & members
        return Clause(tuple(merged.items()), fact)

    # What follows from what

    def roots(self) -> list[Clause]:
        """The clauses of the question itself."""
        product = Thing("product", self.composition.name)
        return [self._clause(Fact("product", product), (product, NOTHING))]

    def asked(self) -> list[tuple[str, Asker, Callable[[], Place]]]:
        """What the product asks for by itself: the need, who says so, and where."""
        board, profile, image = self.composition.board, self.composition.profile, self.composition.image
        found = [
            (text, Asker("image", image.name), _element(image, text, "packages")) for text in sorted(set(image.value.packages))
        ]
        found.append((profile.value.c_library, Asker("profile", profile.name, "C library"), _place(profile, "c-library")))
        found.append((profile.value.init, Asker("profile", profile.name, "init"), _place(profile, "init")))
        if image.value.asks_for_first_boot:
            found.append(
                (FIRST_BOOT_PACKAGE, Asker("image", image.name, "first boot"), _place(image, *image.value.first_boot_keys))
            )
        locale = locale_package(self.composition, image.value)
        if locale:
            found.append((locale, Asker("image", image.name, "locale"), _place(image, "locale")))
        for index, one in enumerate(self.composition.more):
            product, other = self.composition.product, one.composition.image
            who = Asker("image", other.name)
            found += [(text, who, _element(other, text, "packages")) for text in sorted(set(other.value.packages))]
            if one.choice.init:
                place = _place(product, "more-image", str(index), "init")
                found.append((one.choice.init, Asker("image", other.name, "init"), place))
            if other.value.asks_for_first_boot:
                place = _place(other, *other.value.first_boot_keys)
                found.append((FIRST_BOOT_PACKAGE, Asker("image", other.name, "first boot"), place))
            locale = locale_package(self.composition, other.value)
            if locale:
                found.append((locale, Asker("image", other.name, "locale"), _place(other, "locale")))
        kernel = board.value.kernel
        known = self.composition.workspace.shelved["recipe"]
        name = next((name for name in (kernel.recipe, *kernel.otherwise) if name in known), kernel.recipe)
        found.append((name, Asker("board", board.name, "kernel"), _place(board, "kernel", "recipe")))
        return found

    def _product(self, thing: Thing) -> Iterator[Clause]:
        for text, who, place in self.asked():
            fact = Fact("asked", thing, text, Relation.ASKED, who, find_place=place)
            yield from self._need_at_run_time([(thing, IN)], text, fact)
        for image in (self.composition.image, *(one.composition.image for one in self.composition.more)):
            for when, part in self.composition.workspace.open_conditions("image", image.name, self.composition.now):
                terms = [(thing, IN), *self._option_terms(when, "", "board")]
                for text in _added(part.raw, "packages"):
                    fact = Fact("asked", thing, text, Relation.ASKED, Asker("image", image.name), _conditions(when),
                                find_place=_origin_place(part, "packages"))  # fmt: skip
                    yield from self._need_at_run_time(terms, text, fact)
        for text, place in board_outputs(self.composition.board):
            asker = Asker("board", self.composition.board.name)
            fact = Fact("asked", thing, text, Relation.OUTPUT, asker, find_place=place)
            yield from self._need_output([(thing, IN)], text, "board", fact)
        for name in sorted(set(image.value.refuse)):
            if self.catalog.recipes_with(name):
                fact = Fact(
                    "refused", thing, name, asker=Asker("image", image.name), find_place=_element(image, name, "refuse")
                )
                yield self._clause(fact, (thing, IN), (Thing("package", name), IN))

    def _recipe(self, thing: Thing, version: Version) -> Iterator[Clause]:
        recipe = self.catalog.recipe(thing.name, version)
        value = recipe.value
        yield from self._asked_of_recipe(thing)

        def saying(same: object, of: Callable[[Recipe], object]) -> int:
            """The versions whose recipe says the same: what is learned of one is known of all."""
            return self.versions_where(thing, lambda one: of(self.catalog.recipe(thing.name, one).value) == same)

        sides: tuple[tuple[str, Side], ...] = (("needs", thing.side), ("tools", "host"))
        for key, side in sides:
            for text in sorted(set(getattr(value.build, key))):
                own = saying(True, _names(key, text))
                fact = Fact("needs", thing, text, _TO_BUILD[key], find_place=_element(recipe, text, "build", key))
                yield from self._need_to_build([(thing, own)], text, side, fact)
        for text, place in recipe_outputs(recipe):
            own = saying(True, _takes(text))
            fact = Fact("needs", thing, text, Relation.OUTPUT, find_place=place)
            yield from self._need_output([(thing, own)], text, thing.side, fact)
        for when, part in self._open_conditions(thing.name, version):
            own = 1 << (self.candidates(thing).index(version) + 1)
            terms = [(thing, own), *self._option_terms(when, thing.name, thing.side)]
            for key, side in sides:
                for text in _added(part.raw, "build", key):
                    fact = Fact("needs", thing, text, _TO_BUILD[key], conditions=_conditions(when),
                                find_place=_origin_place(part, "build", key))  # fmt: skip
                    yield from self._need_to_build(terms, text, side, fact)
        for name, rule in sorted(value.options.items()):
            if rule.needs or rule.tools or rule.excludes:
                yield from self._option(thing, recipe, name)
        for name, choice in sorted(value.choice.items()):
            own = saying(choice, _choice(name))
            options = [Thing("option", thing.name, thing.side, option) for option in choice.of]
            fact = Fact("one of", thing, choices=tuple(choice.of), find_place=_place(recipe, "choice", name))
            yield self._clause(fact, (thing, own), *((option, NOTHING | OFF) for option in options))
            for number, first in enumerate(options):
                for second in options[number + 1 :]:
                    yield self._clause(fact, (thing, own), (first, ON), (second, ON))

    def _asked_of_recipe(self, thing: Thing) -> Iterator[Clause]:
        """Options and versions that the product asks for, of this recipe."""
        wishes, document = self.composition.wishes
        wish = wishes.versions.get(thing.name)
        if wish is not None:
            bad = self._wished(thing, parse_wish(wish), False)
            fact = Fact("version asked", thing, wish, find_place=_origin_place(document, "versions", thing.name))
            if bad:
                yield self._clause(fact, (thing, bad))
        if thing.side == "host":
            return
        for option, on in sorted(wishes.options.get(thing.name, {}).items()):
            have = self._versions_with(thing, option)
            where = _origin_place(document, "options", thing.name, option)
            other = Thing("option", thing.name, thing.side, option)
            fact = Fact("option asked", other, on=on, find_place=where)
            if have:
                yield self._clause(fact, (thing, have), (other, NOTHING | (OFF if on else ON)))
            lacking = self.everything(thing) & ~have
            if lacking and on:
                yield self._clause(fact, (thing, lacking))

    def _option(self, thing: Thing, recipe: Definition[Recipe], name: str) -> Iterator[Clause]:
        option = Thing("option", thing.name, thing.side, name)
        rule = recipe.value.options[name]
        same = self.versions_where(
            thing, lambda version: self.catalog.recipe(thing.name, version).value.options.get(name) == rule
        )
        on = [(thing, same), (option, ON)]
        for text in sorted(rule.needs):
            fact = Fact("option needs", option, text, Relation.OPTION, find_place=_place(recipe, "options", name, "needs"))
            if text.startswith("options."):
                other = Thing("option", thing.name, thing.side, text.removeprefix("options."))
                yield self._clause(fact, *on, (other, NOTHING | OFF))
            else:
                yield from self._need_to_build(on, text, thing.side, fact)
        for text in sorted(rule.tools):
            fact = Fact("option needs", option, text, Relation.TOOL, find_place=_place(recipe, "options", name, "tools"))
            yield from self._need_to_build(on, text, "host", fact)
        for text in sorted(rule.excludes):
            fact = Fact("excludes", option, text, find_place=_place(recipe, "options", name, "excludes"))
            if text.startswith("options."):
                other = Thing("option", thing.name, thing.side, text.removeprefix("options."))
                yield self._clause(fact, *on, (other, ON))
            else:
                yield from self._exclude(on, text, thing.side, fact)

    def _package(self, thing: Thing) -> Iterator[Clause]:
        names = self.catalog.recipes_with(thing.name)
        if not names:
            return
        recipe = Thing("recipe", names[0])
        yielding = 0
        for index, version in enumerate(self.candidates(recipe)):
            definition = self.catalog.recipe(recipe.name, version)
            rules = self.rules(recipe.name, version)
            rule = rules.get(thing.name)
            if rule is None:
                continue
            own = 1 << (index + 1)
            yielding |= own
            for option, switch in sorted(definition.value.options.items()):
                if thing.name in switch.packages:
                    where = _place(definition, "options", option, "packages")
                    fact = Fact("only with", thing, f"{recipe.name}[{option}]", find_place=where)
                    yield self._clause(
                        fact, (thing, IN), (recipe, own), (Thing("option", recipe.name, "board", option), NOTHING | OFF)
                    )
            yield from self._rule(thing, rule, recipe, version, own, definition)
        place = _place(self.composition.recipe(recipe.name), "package", thing.name)
        fact = Fact("yields", thing, recipe.name, Relation.PACKAGE_OF, find_place=place)
        yield self._clause(fact, (thing, IN), (recipe, ((1 << (len(self.candidates(recipe)) + 1)) - 1) & ~yielding))

    def _rule(
        self, thing: Thing, rule: PackageRule, recipe: Thing, version: Version, own: int, definition: Definition[Recipe]
    ) -> Iterator[Clause]:
        same = self.versions_where(recipe, lambda one: self.rules(recipe.name, one).get(thing.name) == rule)
        # What a rule says in every version needs no word on the version.
        terms = [(thing, IN)] if same == self.everything(recipe) else [(thing, IN), (recipe, same)]
        for text in sorted(rule.needs):
            where = _element(definition, text, "package", thing.name, "needs")
            yield from self._need_at_run_time(terms, text, Fact("needs", thing, text, Relation.RUN_TIME, find_place=where))
        for text in sorted(rule.excludes):
            where = _element(definition, text, "package", thing.name, "excludes")
            yield from self._exclude(terms, text, "board", Fact("excludes", thing, text, find_place=where))
        for name in sorted(rule.replaces):
            for other in self.catalog.answering(name):
                if other != thing.name and other == name:
                    where = _place(definition, "package", thing.name, "replaces")
                    fact = Fact("replaces", thing, name, find_place=where)
                    yield self._clause(fact, *terms, (Thing("package", other), IN))
        for role in sorted(set(rule.provides) & set(EXCLUSIVE_ROLES)):
            for other in self.catalog.answering(role):
                if other != thing.name:
                    fact = Fact("exclusive role", thing, role, find_place=_place(definition, "package", thing.name, "provides"))
                    yield self._clause(fact, *terms, (Thing("package", other), IN))
        for when, part in self._open_conditions(recipe.name, version):
            conditions = [(thing, IN), (recipe, own), *self._option_terms(when, recipe.name, "board")]
            for text in _added(part.raw, "package", thing.name, "needs"):
                fact = Fact("needs", thing, text, Relation.RUN_TIME, conditions=_conditions(when),
                            find_place=_origin_place(part, "package", thing.name, "needs"))  # fmt: skip
                yield from self._need_at_run_time(conditions, text, fact)

    def _open_conditions(self, recipe: str, version: Version) -> Iterable[tuple[Raw, Document]]:
        """The conditions of a recipe's version that wait for what is resolved."""
        workspace = self.composition.workspace
        if not workspace.has_conditions("recipe", recipe):
            return ()
        return workspace.open_conditions("recipe", recipe, self.composition.now.of_recipe(recipe, version))

    def _group(self, thing: Thing) -> Iterator[Clause]:
        group = self.composition.workspace.groups[thing.name]
        for text in sorted(set(group.value.packages)):
            fact = Fact("needs", thing, text, Relation.MEMBER, find_place=_element(group, text, "packages"))
            yield from self._need_at_run_time([(thing, IN)], text, fact)

    # Needs

    def _need_at_run_time(self, terms: Sequence[tuple[Thing, int]], text: str, fact: Fact) -> Iterator[Clause]:
        need = parse_requirement(text)
        if need.name.startswith("@"):
            name = need.name.removeprefix("@")
            known = self.composition.workspace.shelved["group"]
            if name not in known:
                yield self._unknown(terms, Missing("group", name), fact, suggestion(name, known))
                return
            yield self._clause(fact, *terms, (Thing("group", name), NOTHING))
            return
        answering = self.catalog.answering(need.name)
        if not answering and need.name in self.composition.workspace.shelved["recipe"]:
            main = self.catalog.main_package(need.name)
            answering = [main] if main is not None else []
        if not answering:
            yield self._unknown(terms, Missing("name", need.name), fact, suggestion(need.name, self.catalog.known()))
            return
        if len(answering) > 1:
            yield self._clause(fact, *terms, (Thing("role", need.name), NOTHING))
        else:
            yield self._clause(fact, *terms, (Thing("package", answering[0]), NOTHING))
        if len(answering) == 1 or self.catalog.recipes_with(need.name):
            package = need.name if self.catalog.recipes_with(need.name) else answering[0]
            recipes = self.catalog.recipes_with(package)
            if recipes:
                thing = Thing("recipe", recipes[0])
                held = [*terms, (Thing("package", package), IN)] if len(answering) > 1 else list(terms)
                yield from self._in_version(held, thing, need, fact)

    def _need_to_build(self, terms: Sequence[tuple[Thing, int]], text: str, side: Side, fact: Fact) -> Iterator[Clause]:
        need = parse_requirement(text)
        thing = self.recipe_for(need.name, side)
        if thing is None:
            roles = self.catalog.answering(need.name)
            if not roles:
                yield self._unknown(terms, Missing("name", need.name), fact, suggestion(need.name, self.catalog.known()))
                return
            yield self._clause(fact, *terms, (Thing("role", need.name), NOTHING))
            return
        yield self._clause(fact, *terms, (thing, NOTHING))
        yield from self._in_version(terms, thing, need, fact)
        if side == "board":
            # A program that is linked with it may load its libraries, and what these need has to be there then.
            for package in self.catalog.packages_of(thing.name):
                held = self._versions_with_libraries(thing, package)
                if held:
                    links = Fact("needs", thing, package, Relation.LIBRARIES, find_place=fact.find_place)
                    yield self._clause(links, *terms, (thing, held), (Thing("package", package), NOTHING))

    def _need_output(self, terms: Sequence[tuple[Thing, int]], text: str, side: Side, fact: Fact) -> Iterator[Clause]:
        """A file that another recipe makes: the recipe has to be built, and nothing of it comes into the image for that."""
        name = text.partition(":")[0]
        known = self.composition.workspace.shelved["recipe"]
        if name in known:
            yield self._clause(fact, *terms, (Thing("recipe", name, side), NOTHING))
        else:
            yield self._unknown(terms, Missing("name", name), fact, suggestion(name, known))

    def _versions_with(self, thing: Thing, option: str) -> int:
        return self.versions_where(thing, lambda version: option in self.catalog.recipe(thing.name, version).value.options)

    def _versions_with_libraries(self, thing: Thing, package: str) -> int:
        return self.versions_where(thing, lambda version: self._brings_libraries(thing, version, package))

    def _brings_libraries(self, thing: Thing, version: Version, package: str) -> bool:
        rule = self.rules(thing.name, version).get(package)
        options = self.catalog.recipe(thing.name, version).value.options.values()
        return rule is not None and holds_libraries(rule) and not any(package in switch.packages for switch in options)

    def recipe_for(self, name: str, side: Side) -> Thing | None:
        """The recipe that a build's need means: one of this name, or the one that yields a package of it."""
        if name in self.composition.workspace.shelved["recipe"]:
            return Thing("recipe", name, side)
        recipes = self.catalog.recipes_with(name)
        return Thing("recipe", recipes[0], side) if recipes else None

    def _in_version(self, terms: Sequence[tuple[Thing, int]], thing: Thing, need: Requirement, fact: Fact) -> Iterator[Clause]:
        bad = self._wished(thing, need.wish, False)
        if bad == self.everything(thing):
            # No version answers it: the other recipes that ask for it are not the reason.
            fact, bad = replace(fact, unanswered=thing), bad | NOTHING
        if bad:
            yield self._clause(fact, *terms, (thing, bad))
        for option, on in need.options:
            have = self._versions_with(thing, option)
            if have:
                other = Thing("option", thing.name, thing.side, option)
                yield self._clause(fact, *terms, (other, NOTHING | (OFF if on else ON)))
            lacking = self.everything(thing) & ~have
            if lacking and on:
                known = {
                    name
                    for version in self.candidates(thing)
                    for name in self.catalog.recipe(thing.name, version).value.options
                }
                missing = Missing("option", thing.name, option, in_some=bool(have))
                unknown = replace(fact, kind="unknown option", missing=missing, remedy=suggestion(option, known))
                yield self._clause(unknown, *terms, (thing, lacking))

    def _exclude(self, terms: Sequence[tuple[Thing, int]], text: str, side: Side, fact: Fact) -> Iterator[Clause]:
        need = parse_requirement(text)
        own = terms[0][0]
        for package in self.catalog.answering(need.name) if side == "board" else ():
            if own.kind == "package" and package == own.name:
                continue
            recipes = self.catalog.recipes_with(package)
            bounds = []
            if need.wish.bounds and recipes:
                thing = Thing("recipe", recipes[0])
                bounds = [(thing, self._wished(thing, need.wish, True))]
            options = [(Thing("option", recipes[0], "board", option), ON if on else OFF) for option, on in need.options]
            yield self._clause(fact, *terms, (Thing("package", package), IN), *bounds, *options)
        recipe = self.recipe_for(need.name, side)
        if recipe is not None and recipe.name != own.name and (side == "host" or not self.catalog.answering(need.name)):
            yield self._clause(fact, *terms, (recipe, self._wished(recipe, need.wish, True)))

    def _unknown(self, terms: Sequence[tuple[Thing, int]], missing: Missing, fact: Fact, remedy: str) -> Clause:
        return self._clause(replace(fact, kind="unknown", missing=missing, remedy=remedy), *terms)

    def _option_terms(self, when: Raw, recipe: str, side: Side) -> list[tuple[Thing, int]]:
        return [(Thing("option", name, side, option), ON if on else OFF) for name, option, on in option_words(when, recipe)]


def holds_libraries(rule: PackageRule) -> bool:
    """Whether a package may hold shared libraries: it lists some, or does not say what it holds."""
    listed = (*rule.files, *rule.rest)
    return not listed or any(_LIBRARIES.search(pattern) for pattern in listed)


def _settled_in(chosen: Callable[[int], int], number: int) -> bool:
    try:
        return chosen(number) == IN
    except IndexError:  # the solver has not met it yet
        return False


def _names(key: str, text: str) -> Callable[[Recipe], object]:
    return lambda recipe: text in getattr(recipe.build, key)


def _takes(text: str) -> Callable[[Recipe], object]:
    return lambda recipe: output_of(text) in taken_outputs(recipe)


def _choice(name: str) -> Callable[[Recipe], object]:
    return lambda recipe: recipe.choice.get(name)


def _place(definition: Definition[Any], *keys: str) -> Callable[[], Place]:
    return lambda: definition.place(*keys)


def _element(definition: Definition[Any], text: str, *keys: str) -> Callable[[], Place]:
    return lambda: definition.place_of(text, *keys)


def _origin_place(document: Document, *keys: str) -> Callable[[], Place]:
    return lambda: document.origin(*keys).place


def _added(raw: Raw, *keys: str) -> list[str]:
    """What a condition adds to a list; replacing it there is refused when the product is composed."""
    value: object = raw
    for key in keys:
        value = value.get(key, {}) if isinstance(value, dict) else {}
    return sorted(value.get("add", ())) if isinstance(value, dict) else []


def _conditions(when: Raw) -> tuple[tuple[str, str, bool], ...]:
    return tuple(option_words(when, ""))
