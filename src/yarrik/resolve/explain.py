"""Why there is no answer, as a short proof in sentences, and what would make one possible."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from yarrik.errors import NOWHERE, Place, Trouble, YarrikError, listed
from yarrik.resolve.solver import Clause, Impossible, TooHard, solve
from yarrik.resolve.universe import ON, Fact, Universe

#: Beyond this many clauses, a core is told as it is.
_MOST_TO_TRY = 80
_MOST_CHANGES = 2

_CODES = {
    "unknown": "RECIPE-UNKNOWN", "unknown option": "OPTION-UNKNOWN", "exclusive role": "ROLE-TWICE",
    "excludes": "PACKAGES-EXCLUDE", "replaces": "PACKAGES-EXCLUDE", "refused": "PACKAGE-REFUSED",
    "version asked": "VERSIONS-CLASH", "option asked": "OPTION-FIXED", "one of": "CHOICE-CLASH",
}  # fmt: skip


@dataclass(frozen=True)
class Sentence:
    """One step of a proof; `depth` counts the cases that it stands in."""

    text: str
    place: Place = NOWHERE
    depth: int = 0


class Core:
    """Given clauses that cannot hold together, and none of which can be spared."""

    def __init__(self, universe: Universe, clauses: Sequence[Clause]) -> None:
        self.universe = universe
        self.clauses = list(clauses)
        self._shrink()

    @property
    def facts(self) -> list[Fact]:
        return list(dict.fromkeys(clause.cause for clause in self.clauses if isinstance(clause.cause, Fact)))

    def _shrink(self) -> None:
        while (smaller := self._still_impossible(self.clauses)) is not None and len(smaller) < len(self.clauses):
            self.clauses = smaller
        if len(self.clauses) > _MOST_TO_TRY:
            return
        # What somebody wrote explains more than what follows from the form of a recipe: try to spare the latter first.
        for clause in sorted(
            self.clauses, key=lambda one: (isinstance(one.cause, Fact) and one.cause.kind == "asked", one.terms)
        ):
            rest = [other for other in self.clauses if other is not clause]
            smaller = self._still_impossible(rest)
            if smaller is not None:
                self.clauses = [other for other in rest if other in smaller]

    def _still_impossible(self, clauses: Sequence[Clause]) -> list[Clause] | None:
        try:
            solve(_Fixed(self.universe), clauses, limit=2000)
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
        self._prove({}, list(self.clauses), 0, sentences)
        told: list[Sentence] = []
        known: set[tuple[str, int]] = set()
        for sentence in sentences:
            key = (sentence.text, sentence.depth)
            if key in known:
                continue
            if sentence.text.endswith(":"):  # a further case: what was said in the one before does not count here
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
                told.append(Sentence(f"with {self._named(chosen, candidate)}:", depth=depth))
                self._prove({**known, chosen: 1 << candidate}, clauses, depth + 1, told)

    def _tell(self, clause: Clause, depth: int, told: list[Sentence]) -> None:
        fact = clause.cause
        if not isinstance(fact, Fact) or fact.kind == "decided" or (fact.kind == "asked" and fact.what == "the product"):
            return
        if fact.kind == "yields" and not self._versions_left(clause):
            return  # a package comes from its recipe: nobody needs to be told
        told.append(Sentence(self.sentence(clause), fact.place, depth))

    def sentence(self, clause: Clause) -> str:
        """A clause in words."""
        fact = clause.cause
        assert isinstance(fact, Fact)
        subject = self._subject(fact, clause)
        if fact.kind == "asked":
            return fact.what
        if fact.kind == "refused":
            return fact.what
        if fact.kind == "answered by":
            return f"{fact.what} can answer to `{fact.subject.name}`"
        if fact.kind == "option asked":
            return f"{fact.subject} is asked to be {fact.what}"
        if fact.kind == "version asked":
            return f"for {fact.subject.name}, {fact.what}"
        if fact.kind == "yields":
            return f"`{fact.subject.name}` {fact.what}{self._versions_left(clause)}"
        if fact.kind == "exclusive role":
            others = [
                self.universe.things[variable].name
                for variable, _ in clause.terms
                if self.universe.things[variable] != fact.subject
            ]
            other = next((name for name in others if name != fact.subject.name), "another")
            return f"{subject} and `{other}` both are the {fact.what.replace('-', ' ')}, and an image has only one"
        return f"{subject} {fact.what}"

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

    def _clash(self, clause: Clause, allowed: Callable[[int], int]) -> str:
        """What cannot be, at the end of a proof."""
        things = [self.universe.things[variable] for variable, _ in clause.terms]
        fact = clause.cause
        if isinstance(fact, Fact) and fact.kind in ("unknown", "unknown option"):
            return "so it cannot be"
        for thing in reversed(things):
            if thing.kind == "recipe" and not (
                isinstance(fact, Fact) and fact.subject == thing and fact.kind != "version asked"
            ):
                versions = [str(one) for one in self.universe.candidates(thing)]
                return f"so no version of {thing} is left; there are {listed(versions)}"
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


def impossible(universe: Universe, error: Impossible, again: Callable[[frozenset[Fact]], bool]) -> YarrikError:
    """The error that tells why a question has no answer. `again` asks it once more without some facts."""
    core = Core(universe, error.clauses)
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
    remedy = "; or ".join(changes) if changes else "change one of the lines above"
    return YarrikError(Trouble(_CODES.get(kind, "VERSIONS-CLASH"), what, place, why="\n".join(lines), remedy=remedy))


def _unknown(fact: Fact) -> Trouble:
    what = fact.what.rpartition(", and ")
    who = "" if fact.subject.kind == "product" else f"`{fact.subject}` "
    code = "RECIPE-UNKNOWN" if fact.kind == "unknown" else "OPTION-UNKNOWN"
    return Trouble(code, what[2], fact.place, why=f"{who}{what[0]}", remedy=fact.remedy)


def _headline(core: Core) -> str:
    """The first line of the trouble: who cannot be together."""
    asked = [
        fact
        for fact in core.facts
        if fact.kind in ("asked", "option asked", "version asked", "refused") and fact.what != "the product"
    ]
    kinds = {fact.kind for fact in core.facts}
    names = list(dict.fromkeys(_asked_name(fact) for fact in asked))
    switches = [_asked_name(fact) for fact in asked if fact.kind == "option asked"]
    if "excludes" in kinds and len(switches) > 1:
        return f"{listed(switches)} exclude each other"
    if kinds & {"exclusive role", "excludes", "replaces"} and len(names) > 1:
        return f"{listed(names)} exclude each other"
    if "option asked" in kinds:
        return f"{listed(names)} cannot be had together" if len(names) > 1 else f"{names[0]} cannot be had"
    if len(names) > 1:
        return f"no versions satisfy {listed(names)} together"
    return f"{names[0]} cannot be had" if names else "there is no answer"


def _asked_name(fact: Fact) -> str:
    if fact.kind == "asked":
        return "`" + fact.what.split("`")[1] + "`"
    if fact.kind == "option asked":
        return f"{fact.subject} {fact.what}"
    if fact.kind == "refused":
        return f"an image without `{fact.what.split('`')[1]}`"
    return f"{fact.subject.name} {fact.what.split('`')[1]}"


_CHANGEABLE = ("option asked", "version asked", "refused", "asked", "excludes", "replaces", "needs", "option needs")


def _changes(core: Core, again: Callable[[frozenset[Fact]], bool]) -> list[str]:
    """One or two facts without which there is an answer: what the product asks for first, then what recipes say."""
    facts = [fact for fact in core.facts if fact.kind in _CHANGEABLE and fact.what != "the product"]
    facts = [fact for fact in facts if not (fact.kind == "asked" and " (" in fact.what.split("asks for")[0])]
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
        return f"do not ask for {fact.subject} to be {fact.what}{where}"
    if fact.kind == "version asked":
        return f"ask for another version of {fact.subject.name}{where}"
    if fact.kind == "refused":
        return f"do not refuse `{fact.what.split('`')[1]}`{where}"
    if fact.kind == "asked":
        return f"leave out `{fact.what.split('`')[1]}`{where}"
    if fact.kind in ("excludes", "replaces"):
        return f"let {fact.subject} not {fact.what.replace('excludes', 'exclude').replace('replaces', 'replace')}{where}"
    return f"change what {fact.subject} needs, {'`' + fact.what.split('`')[1] + '`' if '`' in fact.what else fact.what}{where}"
