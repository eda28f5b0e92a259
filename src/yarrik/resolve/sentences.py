"""Facts and links in words: the only place where they become prose."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from msgspec.structs import replace

from yarrik.errors import listed
from yarrik.resolve.facts import Relation

if TYPE_CHECKING:
    from yarrik.resolve.facts import Asker, Fact, FactKind, Link, Missing


def words_of(fact: Fact) -> str:
    """What a fact says of its subject, like "needs `libtide >= 2` to build"; of a product a whole sentence."""
    text = _PLAIN[fact.kind](fact)
    return f"{text}, and {missing_words(fact.missing)}" if fact.missing is not None else text


def asked_words(fact: Fact) -> str:
    """The part of `words_of` that somebody wrote, without what is missing."""
    return _PLAIN[fact.kind](fact)


def short_words(fact: Fact) -> str:
    """As `words_of`, without what a need is for."""
    return words_of(replace(fact, relation=Relation.OPTION) if fact.relation is Relation.BUILD else fact)


def link_words(link: Link) -> str:
    """What a link says of its source: a verb and an object. Of a product it is a whole sentence."""
    text = _relation(link.relation, link.wanted, link.conditions, link.asker)
    return f"with {link.option} on {text}" if link.option else text


def missing_words(missing: Missing) -> str:
    """What a requirement lacks, as a clause of a sentence."""
    if missing.kind == "group":
        return f"there is no group `{missing.name}`"
    if missing.kind == "name":
        return f"no shelf carries a recipe or package `{missing.name}`"
    return f"`{missing.name}` has no option `{missing.option}`" + (" in some versions" if missing.in_some else "")


def shown(wanted: str) -> str:
    """A requirement as it is shown; `options.NAME` is an option of the same recipe."""
    return f"its option {wanted.removeprefix('options.')}" if wanted.startswith("options.") else f"`{wanted}`"


def switched(on: bool) -> str:
    """`on` or `off`."""
    return "on" if on else "off"


def _asker(asker: Asker | None) -> str:
    if asker is None:
        return "the product"
    return f"the {asker.kind} {asker.name}" + (f" ({asker.part})" if asker.part else "")


_WORDS = {
    Relation.ASKED: "asks for {wanted}",
    Relation.BUILD: "needs {shown} to build",
    Relation.TOOL: "needs the tool {wanted}",
    Relation.OUTPUT: "takes {wanted}",
    Relation.RUN_TIME: "needs {wanted} at run time",
    Relation.MEMBER: "holds {wanted}",
    Relation.LIBRARIES: "brings libraries in {wanted}",
    Relation.PACKAGE_OF: "is a package of {name}",
    Relation.ROLE: "{wanted}",
    Relation.RECOMMENDED: "recommends {wanted}",
    Relation.OPTION: "needs {shown}",
}


def _relation(
    relation: Relation, wanted: str, conditions: Sequence[tuple[str, str, bool]] = (), asker: Asker | None = None
) -> str:
    words = _WORDS[relation].format(wanted=f"`{wanted}`", shown=shown(wanted), name=wanted)
    if relation is Relation.ASKED or (relation is Relation.OUTPUT and asker is not None):
        words = f"{_asker(asker)} {words}"
    if not conditions:
        return words
    names = (f"{name}[{option}] {switched(on)}" if name else f"{option} {switched(on)}" for name, option, on in conditions)
    return f"{words} with {' and '.join(names)}"


def _of_relation(fact: Fact) -> str:
    assert fact.relation is not None
    return _relation(fact.relation, fact.wanted, fact.conditions, fact.asker)


_PLAIN: dict[FactKind, Callable[[Fact], str]] = {
    "product": lambda fact: "the product",
    "asked": _of_relation,
    "needs": _of_relation,
    "option needs": _of_relation,
    "yields": _of_relation,
    "answered by": _of_relation,
    "excludes": lambda fact: f"excludes {shown(fact.wanted)}",
    "replaces": lambda fact: f"replaces `{fact.wanted}`",
    "exclusive role": lambda fact: fact.wanted,
    "one of": lambda fact: f"has to have exactly one of {listed(fact.choices)}",
    "option asked": lambda fact: switched(fact.on),
    "version asked": lambda fact: f"`{fact.wanted}` is asked for",
    "refused": lambda fact: f"{_asker(fact.asker)} refuses `{fact.wanted}`",
    "only with": lambda fact: f"comes only with {fact.wanted}",
    "decided": lambda fact: "on or off",
    "unknown": _of_relation,
    "unknown option": _of_relation,
}
