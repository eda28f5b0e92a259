"""Why there is no answer, as a short proof in sentences, and what would make one possible."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING

import msgspec

from yarrik.errors import NOWHERE, Place, Trouble, YarrikError, listed
from yarrik.resolve.facts import Fact
from yarrik.resolve.sentences import asked_words, missing_words, shown, switched, words_of
from yarrik.resolve.solver import Clause, Impossible, TooHard, solve
from yarrik.resolve.universe import ON

if TYPE_CHECKING:
    from yarrik.resolve.facts import Thing
    from yarrik.resolve.universe import Universe

#: Beyond this many clauses, a core is told as it is.
_MOST_TO_TRY = 80
_MOST_CHANGES = 2
#: Most sentences of a proof, and most lines of it that are shown unless all are asked for.
_MOST_SENTENCES, SCREEN = 2000, 20

_CODES = {
    "unknown": "RECIPE-UNKNOWN", "unknown option": "OPTION-UNKNOWN", "exclusive role": "ROLE-TWICE",
    "excludes": "PACKAGES-EXCLUDE", "replaces": "PACKAGES-EXCLUDE", "refused": "PACKAGE-REFUSED",
    "version asked": "VERSIONS-CLASH", "option asked": "OPTION-FIXED", "one of": "CHOICE-CLASH",
}  # fmt: skip


class Sentence(msgspec.Struct, frozen=True):
    """One step of a proof; `depth` counts the cases around it, and `opens` tells that it begins a further one."""

    text: str
    place: Place = NOWHERE
    depth: int = 0
    opens: bool = False


def folded(clauses: Sequence[Clause], universe: Universe) -> list[Clause]:
    """The clauses with those in one that say the same of several candidates of a variable: what versions 1.8 to 2.1 of a recipe
    all need is one fact, not four. (Never of all candidates: then the fact would say nothing of them any more.)"""
    found = list(clauses)
    while True:
        groups: dict[tuple[object, ...], list[tuple[int, int]]] = {}
        for index, clause in enumerate(found):
            fact = clause.cause
            if isinstance(fact, Fact):
                for variable, _ in clause.terms:
                    rest = tuple(sorted(term for term in clause.terms if term[0] != variable))
                    groups.setdefault((fact, variable, rest), []).append((index, variable))
        gone: set[int] = set()
        touched: set[int] = set()
        for alike in groups.values():
            first, variable = alike[0]
            if len(alike) < 2 or any(index in touched for index, _ in alike):
                continue
            members = 0
            for index, _ in alike:
                members |= dict(found[index].terms)[variable]
            if members == (1 << universe.size(variable)) - 1:
                continue
            terms = tuple((other, members if other == variable else mask) for other, mask in found[first].terms)
            found[first] = Clause(terms, found[first].cause)
            touched |= {index for index, _ in alike}
            gone |= {index for index, _ in alike[1:]}
        if not gone:
            return found
        found = [clause for index, clause in enumerate(found) if index not in gone]


class _TooLong(Exception):
    """A proof has more sentences than anybody reads."""


class Core:
    """Given clauses that cannot hold together, and none of which can be spared, as far as there is time to find out."""

    def __init__(self, universe: Universe, clauses: Sequence[Clause], patient: Callable[[], bool] = lambda: True) -> None:
        self.universe = universe
        self.patient = patient
        self.clauses = folded(clauses, universe)
        self._shrink()

    @property
    def facts(self) -> list[Fact]:
        """The facts that cannot all hold, each once."""
        return list(dict.fromkeys(clause.cause for clause in self.clauses if isinstance(clause.cause, Fact)))

    def _shrink(self) -> None:
        while (smaller := self._still_impossible(self.clauses)) is not None and len(smaller) < len(self.clauses):
            self.clauses = smaller
        if len(self.clauses) > _MOST_TO_TRY:
            return
        # What somebody wrote explains more than what follows from the form of a recipe: try to spare the latter first.
        for clause in sorted(
            self.clauses, key=lambda one: (isinstance(one.cause, Fact) and one.cause.kind in ("asked", "product"), one.terms)
        ):
            if not self.patient():
                return
            rest = [other for other in self.clauses if other is not clause]
            smaller = self._still_impossible(rest)
            if smaller is not None:
                self.clauses = [other for other in rest if other in smaller]

    def _still_impossible(self, clauses: Sequence[Clause]) -> list[Clause] | None:
        try:
            solve(_Fixed(self.universe), clauses, limit=2000, patient=self.patient)
        except Impossible as error:
            known = {clause.terms: clause for clause in clauses}
            return [known[clause.terms] for clause in error.clauses if clause.terms in known]
        except TooHard:
            return None
        return None

    # The proof

    def proof(self) -> list[Sentence]:
        """From what was asked to the clash. Ends with what is left of the thing that cannot be."""
        sentences: list[Sentence] = []
        self.cut_off = False
        try:
            self._prove({}, list(self.clauses), 0, sentences)
        except _TooLong:
            self.cut_off = True
        told: list[Sentence] = []
        known: set[tuple[str, int]] = set()
        for sentence in sentences:
            key = (sentence.text, sentence.depth)
            if key in known:
                continue
            if sentence.opens:  # what was said in the case before does not count here
                known = {(text, depth) for text, depth in known if depth <= sentence.depth}
            known.add(key)
            told.append(sentence)
        return told

    def _prove(self, known: dict[int, int], clauses: list[Clause], depth: int, told: list[Sentence]) -> None:
        universe = self.universe

        def allowed(variable: int) -> int:
            return known.get(variable, (1 << universe.size(variable)) - 1)

        while True:
            for clause in clauses:
                open_terms = [(variable, members) for variable, members in clause.terms if allowed(variable) & ~members]
                if any(allowed(variable) & members == 0 for variable, members in open_terms) or len(open_terms) > 1:
                    continue
                clauses = [other for other in clauses if other is not clause]
                self._tell(clause, depth, told)
                if not open_terms:
                    told.append(Sentence(self._clash(clause, allowed), depth=depth))
                    return
                variable, members = open_terms[0]
                known = {**known, variable: allowed(variable) & ~members}
                break
            else:
                break
        undecided = [variable for variable, have in known.items() if not have & 1 and have & (have - 1)]
        undecided = undecided or [
            variable for clause in clauses for variable, _ in clause.terms if allowed(variable) & (allowed(variable) - 1)
        ]
        if not undecided:
            return
        chosen = min(undecided, key=lambda variable: (bin(allowed(variable)).count("1"), variable))
        have = allowed(chosen)
        for candidate in range(have.bit_length()):
            if have >> candidate & 1:
                told.append(Sentence(f"with {self._named(chosen, candidate)}:", depth=depth, opens=True))
                self._prove({**known, chosen: 1 << candidate}, clauses, depth + 1, told)

    def _tell(self, clause: Clause, depth: int, told: list[Sentence]) -> None:
        if len(told) >= _MOST_SENTENCES:
            raise _TooLong
        fact = clause.cause
        if not isinstance(fact, Fact) or fact.kind in ("decided", "product"):
            return
        if fact.kind == "yields" and not self._versions_left(clause):
            return  # a package comes from its recipe: nobody needs to be told
        told.append(Sentence(self.sentence(clause), fact.place, depth))

    def sentence(self, clause: Clause) -> str:
        """A clause in words."""
        fact = clause.cause
        assert isinstance(fact, Fact)
        subject = self._subject(fact, clause)
        if fact.kind in ("asked", "refused"):
            return words_of(fact)
        if fact.kind == "answered by":
            return f"`{fact.wanted}` can answer to `{fact.subject.name}`"
        if fact.kind == "option asked":
            return f"{fact.subject} is asked to be {switched(fact.on)}"
        if fact.kind == "version asked":
            return f"for {fact.subject.name}, {words_of(fact)}"
        if fact.kind == "yields":
            return f"`{fact.subject.name}` {words_of(fact)}{self._versions_left(clause)}"
        if fact.kind == "exclusive role":
            others = [
                self.universe.things[variable].name
                for variable, _ in clause.terms
                if self.universe.things[variable] != fact.subject
            ]
            other = next((name for name in others if name != fact.subject.name), "another")
            return f"{subject} and `{other}` both are the {fact.wanted.replace('-', ' ')}, and an image has only one"
        return f"{subject} {words_of(fact)}"

    def _subject(self, fact: Fact, clause: Clause) -> str:
        thing = fact.subject
        if thing.kind == "option":
            return f"the option {thing}"
        words = f"`{thing}`" if thing.kind != "role" else f"the role `{thing.name}`"
        recipe = thing.name if thing.kind == "recipe" else next(iter(self.universe.catalog.recipes_with(thing.name)), "")
        for variable, members in clause.terms:
            other = self.universe.things[variable]
            if other.kind == "recipe" and other.name == recipe and other.side == thing.side:
                versions = self.universe.candidates(other)
                own = [str(version) for index, version in enumerate(versions) if members >> (index + 1) & 1]
                if 0 < len(own) < len(versions) and len(own) < 5 and not members & 1:
                    return f"{words} {listed(own)}"
        return words

    def _versions_left(self, clause: Clause) -> str:
        for variable, members in clause.terms:
            thing = self.universe.things[variable]
            if thing.kind == "recipe":
                versions = self.universe.candidates(thing)
                good = [str(version) for index, version in enumerate(versions) if not members >> (index + 1) & 1]
                if len(good) < len(versions):
                    return f" {listed(good)} only" if good else ""
        return ""

    def _named(self, variable: int, candidate: int) -> str:
        thing = self.universe.things[variable]
        if candidate == 0:
            return f"no {thing}"
        if thing.kind == "recipe":
            return f"{thing.name} {self.universe.candidates(thing)[candidate - 1]}"
        if thing.kind == "option":
            return f"{thing} {'on' if 1 << candidate == ON else 'off'}"
        if thing.kind == "role":
            return f"`{self.universe.providers(thing.name)[candidate - 1]}` as `{thing.name}`"
        return f"`{thing.name}`"

    def _versions_there(self, thing: Thing) -> str:
        versions = [str(one) for one in self.universe.candidates(thing)]
        return f"there {'is' if len(versions) == 1 else 'are'} {listed(versions)}"

    def _clash(self, clause: Clause, allowed: Callable[[int], int]) -> str:
        """What cannot be, at the end of a proof."""
        things = [self.universe.things[variable] for variable, _ in clause.terms]
        fact = clause.cause
        if isinstance(fact, Fact) and fact.kind in ("unknown", "unknown option"):
            return "so it cannot be"
        if isinstance(fact, Fact) and fact.unanswered is not None:
            return f"no shelf has such a version of {fact.unanswered}; {self._versions_there(fact.unanswered)}"
        for thing in reversed(things):
            if thing.kind == "recipe" and not (
                isinstance(fact, Fact) and fact.subject == thing and fact.kind != "version asked"
            ):
                return f"so no version of {thing} is left; {self._versions_there(thing)}"
            if thing.kind == "option":
                return f"so {thing} would have to be on and off"
        return "so these cannot be together"


class _Fixed:
    """The universe with its variables, and nothing but the clauses at hand."""

    def __init__(self, universe: Universe) -> None:
        self.universe = universe

    def size(self, variable: int) -> int:
        return self.universe.size(variable)

    def rank(self, variable: int) -> int:
        return 0

    def clauses(self, variable: int, candidate: int) -> Iterable[Clause]:
        return ()

    def pick(self, variable: int, allowed: int, chosen: Callable[[int], int]) -> int:
        rest = allowed & ~1 or allowed
        return (rest & -rest).bit_length() - 1

    def wishes(self, variable: int, candidate: int) -> Sequence[int]:
        return ()


def impossible(
    universe: Universe,
    error: Impossible,
    again: Callable[[frozenset[Fact]], bool],
    patient: Callable[[], bool] = lambda: True,
    full: bool = False,
) -> YarrikError:
    """The error that tells why a question has no answer. `again` asks it once more without some facts. Without `full` the proof
    is no longer than a screen."""
    core = Core(universe, error.clauses, patient)
    facts = core.facts
    unknown = [fact for fact in facts if fact.kind in ("unknown", "unknown option")]
    if unknown:
        return YarrikError([_unknown(fact) for fact in unknown])
    kind = next((kind for kind in _CODES if any(fact.kind == kind for fact in facts)), "")
    sentences = core.proof()
    changes = _changes(core, again)
    what = _headline(core)
    place = next((sentence.place for sentence in reversed(sentences) if sentence.place != Place()), Place())
    lines = [f"{'  ' * sentence.depth}{sentence.text}" + (f"  ({sentence.place.short})" if sentence.place != Place() else "")
             for sentence in sentences]  # fmt: skip
    if not full and len(lines) > SCREEN:
        more = f"at least {len(lines) - SCREEN}" if core.cut_off else str(len(lines) - SCREEN)
        lines = [*lines[:SCREEN], f"… and {more} further lines; `yarrik resolve --full` shows them"]
    remedy = "; or ".join(changes) if changes else "change one of the lines above"
    return YarrikError(Trouble(_CODES.get(kind, "VERSIONS-CLASH"), what, place, why="\n".join(lines), remedy=remedy))


def too_hard(universe: Universe, error: TooHard, seconds: float) -> Trouble:
    """What is known when the patience is over: where the search is stuck, and what the last clash there follows from."""
    things = [universe.things[variable] for variable in error.stuck]
    many = [(thing, universe.size(universe.number(thing)) - 1) for thing in things if thing.kind == "recipe"]
    recipes = [(thing, count) for thing, count in many if count > 1][:5]
    stuck = [f"{thing.name} ({count} versions)" for thing, count in recipes]
    stuck = stuck or [f"`{thing}`" for thing in things if thing.kind != "recipe"][:3]
    facts = list(dict.fromkeys(clause.cause for clause in folded(error.clauses, universe) if isinstance(clause.cause, Fact)))
    lines = [f"the search stopped at {listed(stuck)}"] if stuck else []
    lines += [f"  {fact.subject} {words_of(fact)}  ({fact.place.short})" for fact in facts[:8] if fact.place != Place()]
    name = recipes[0][0].name if recipes else "RECIPE"
    what = f"no answer for `{universe.composition.name}` was found in {seconds:.0f} s"
    remedy = f'narrow it in [versions] of the product, like `{name} = "== 1"`; or wait longer: yarrik resolve --patience 60'
    return Trouble("RESOLVE-TOO-HARD", what, why="\n".join(lines), remedy=remedy)


def _unknown(fact: Fact) -> Trouble:
    assert fact.missing is not None
    who = "" if fact.subject.kind == "product" else f"`{fact.subject}` "
    code = "RECIPE-UNKNOWN" if fact.kind == "unknown" else "OPTION-UNKNOWN"
    lacks = (fact.missing.kind, fact.missing.name) if fact.kind == "unknown" else None
    return Trouble(
        code, missing_words(fact.missing), fact.place, why=f"{who}{asked_words(fact)}", remedy=fact.remedy, lacks=lacks
    )


def _headline(core: Core) -> str:
    """The first line of the trouble: who cannot be together."""
    asked = [fact for fact in core.facts if fact.kind in ("asked", "option asked", "version asked", "refused")]
    kinds = {fact.kind for fact in core.facts}
    names = list(dict.fromkeys(_asked_name(fact) for fact in asked))
    switches = [_asked_name(fact) for fact in asked if fact.kind == "option asked"]
    if "excludes" in kinds and len(switches) > 1:
        return f"{listed(switches)} exclude each other"
    if kinds & {"exclusive role", "excludes", "replaces"} and len(names) > 1:
        return f"{listed(names)} exclude each other"
    if "option asked" in kinds:
        return f"{listed(names)} cannot be combined" if len(names) > 1 else f"{names[0]} is not available"
    if len(names) > 1:
        return f"no versions satisfy {listed(names)} together"
    return f"{names[0]} is not available" if names else "there is no answer"


def _asked_name(fact: Fact) -> str:
    if fact.kind == "asked":
        return f"`{fact.wanted}`"
    if fact.kind == "option asked":
        return f"{fact.subject} {switched(fact.on)}"
    if fact.kind == "refused":
        return f"an image without `{fact.wanted}`"
    return f"{fact.subject.name} {fact.wanted}"


_CHANGEABLE = ("option asked", "version asked", "refused", "asked", "excludes", "replaces", "needs", "option needs")


def _changes(core: Core, again: Callable[[frozenset[Fact]], bool]) -> list[str]:
    """One or two facts without which there is an answer: what the product asks for first, then what recipes say."""
    facts = [fact for fact in core.facts if fact.kind in _CHANGEABLE and not (fact.asker is not None and fact.asker.part)]
    # What was said last, on the command line, is what somebody is trying right now.
    facts.sort(key=lambda fact: (_CHANGEABLE.index(fact.kind), not str(fact.place).startswith(("--", "$"))))
    found: list[str] = []
    left_out = 0
    for fact in facts[:12]:
        if (fact.kind == "asked" and left_out) or _change(fact) in found or not again(frozenset([fact])):
            continue
        left_out += fact.kind == "asked"
        found.append(_change(fact))
        if len(found) == _MOST_CHANGES:
            break
    return found


def _change(fact: Fact) -> str:
    where = f" ({fact.place.short})" if fact.place != Place() else ""
    if fact.kind == "option asked":
        return f"do not ask for {fact.subject} to be {switched(fact.on)}{where}"
    if fact.kind == "version asked":
        return f"ask for another version of {fact.subject.name}{where}"
    if fact.kind == "refused":
        return f"do not refuse `{fact.wanted}`{where}"
    if fact.kind == "asked":
        return f"leave out `{fact.wanted}`{where}"
    if fact.kind in ("excludes", "replaces"):
        return f"let {fact.subject} not {'exclude' if fact.kind == 'excludes' else 'replace'} {shown(fact.wanted)}{where}"
    return f"change what {fact.subject} needs, {shown(fact.wanted)}{where}"
