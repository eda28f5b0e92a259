"""Holds documents against the shapes they should have: quickly when all is well, and with every trouble when not."""

from __future__ import annotations

import datetime
import types
import typing
from collections.abc import Callable, Iterator, Mapping
from functools import cache
from typing import Any, TypeVar

import msgspec

from yarrik.errors import Place, Trouble, Unfit, YarrikError, suggestion
from yarrik.model.definitions import (
    Choice,
    Definable,
    OneOrMore,
    Part,
)
from yarrik.model.kinds import SETTABLE
from yarrik.model.positions import KeyPath
from yarrik.model.reading import Document, dotted, line_of
from yarrik.model.rules import Rule

T = TypeVar("T", bound=Definable)

#: What can be done to a list instead of replacing it.
OPERATIONS = ("add", "remove", "replace")


def is_operation(value: object) -> bool:
    """Whether a value is a change of a list: `add`, `remove` or `replace`."""
    return isinstance(value, dict) and bool(value) and all(key in OPERATIONS for key in value)


def convert(document: Document, shape: type[T]) -> T:
    """The document as a value of `shape`. Raises YarrikError with all that does not fit."""
    if not fits(document.raw, shape):
        troubles = list(find_troubles(document, shape))
        if troubles:
            raise YarrikError(troubles)
    return msgspec.convert(document.raw, shape)


# Quickly


def fits(raw: object, shape: type[Definable]) -> bool:
    """Whether a whole definition is as it should be. False for what only a closer look can tell."""
    return _quick(shape)(raw)


def check_definition(document: Document, shape: type[Definable], partial: bool = False) -> None:
    """Raises YarrikError with all that is wrong with a definition; a `partial` one may lack keys."""
    troubles = [] if fits(document.raw, shape) else list(find_troubles(document, shape, partial=partial))
    if troubles:
        raise YarrikError(troubles)


@cache
def _quick(shape: Any) -> Callable[[object], bool]:
    origin = typing.get_origin(shape)
    if origin is typing.Annotated:
        marks = typing.get_args(shape)[1:]
        rules = [mark for mark in marks if isinstance(mark, Rule)]
        # What a name chooses from is checked by rooms above.
        if len(rules) == 1 and all(isinstance(mark, (Rule, Choice)) for mark in marks):
            return _by_rule(rules[0])
        return lambda value: False
    if origin in (typing.Union, types.UnionType):
        return _quick(next(choice for choice in typing.get_args(shape) if choice is not type(None)))
    if isinstance(shape, type) and issubclass(shape, Definable):
        return _by_fields(shape)
    if origin is tuple:
        item = _quick(typing.get_args(shape)[0])
        return lambda value: isinstance(value, list) and all(map(item, value))
    if origin is dict:
        key, entry = map(_quick, typing.get_args(shape))
        return lambda value: isinstance(value, dict) and all(map(key, value)) and all(map(entry, value.values()))
    if origin is typing.Literal:
        known = frozenset(typing.get_args(shape))
        return lambda value: isinstance(value, str) and value in known
    if shape in (str, bool, int, datetime.date):
        return lambda value: type(value) is shape
    return lambda value: False


def _by_rule(rule: Rule) -> Callable[[object], bool]:
    good: set[object] = set()

    def check(value: object) -> bool:
        if value.__class__ is not str:
            return False
        if value in good:
            return True
        try:
            rule.check(value)
        except Unfit:
            return False
        good.add(value)
        return True

    return check


def _by_fields(shape: type[Definable]) -> Callable[[object], bool]:
    checks = {name: _quick(kind) for name, (kind, _) in fields_of(shape).items()}
    required = {name for name, (_, needed) in fields_of(shape).items() if needed}

    def check(value: object) -> bool:
        if not isinstance(value, dict):
            return False
        for key, item in value.items():
            one = checks.get(key)
            if one is None or not one(item):
                return False
        return required <= value.keys()

    return check


# With every trouble


def find_troubles(
    document: Document, shape: type[Definable], partial: bool = False, own: type[Definable] | None = None
) -> Iterator[Trouble]:
    """All that does not fit `shape`. With `partial`, keys may be missing (a definition that extends another). `own` is the
    shape that the document's own changes are of, where that is not its own."""
    yield from _Check(document, own or shape).value(document.raw, shape, (), partial)


class _Check:
    def __init__(self, document: Document, own: type[Definable]) -> None:
        self.document = document
        self.own = own

    def value(self, value: object, shape: Any, path: KeyPath, partial: bool) -> Iterator[Trouble]:
        origin = typing.get_origin(shape)
        if origin is typing.Annotated:
            yield from self._marked(value, shape, path, partial)
        elif origin in (typing.Union, types.UnionType):
            choices = [choice for choice in typing.get_args(shape) if choice is not type(None)]
            yield from self.value(value, choices[0], path, partial)
        elif isinstance(shape, type) and issubclass(shape, Definable):
            yield from self._table(value, shape, path, partial)
        elif origin is tuple:
            yield from self._list(value, typing.get_args(shape)[0], path, partial)
        elif origin is dict:
            if not isinstance(value, dict):
                yield self.trouble("VALUE-TYPE", f"a table belongs here, not {_named_type(value)}", path)
                return
            key_shape, item_shape = typing.get_args(shape)
            for key, item in value.items():
                yield from self.value(key, key_shape, (*path, key), partial)
                yield from self.value(item, item_shape, (*path, key), partial)
        elif origin is typing.Literal:
            known = typing.get_args(shape)
            if value not in known:
                remedy = suggestion(value, known) if isinstance(value, str) else "known here: " + ", ".join(known)
                yield self.trouble("VALUE-UNKNOWN", f"`{value}` is not one of the values this key takes", path, remedy)
        else:
            try:
                msgspec.convert(value, shape)
            except msgspec.ValidationError:
                yield self.trouble("VALUE-TYPE", f"{_type_words(shape)} belongs here, not {_named_type(value)}", path)

    def _marked(self, value: object, shape: Any, path: KeyPath, partial: bool) -> Iterator[Trouble]:
        inner, *marks = typing.get_args(shape)
        for mark in marks:
            if isinstance(mark, Part):
                changed = SETTABLE.get(mark.of, self.own)
                yield from self._table(value, changed, path, partial=True)
                return
            if isinstance(mark, OneOrMore):
                words = value if isinstance(value, list) else [value]
                if not words or not all(isinstance(word, str) and word for word in words):
                    yield self.trouble(
                        "VALUE-TYPE", f"a name, or a list of names, belongs here, not {_named_type(value)}", path
                    )
                return
        found = list(self.value(value, inner, path, partial))
        yield from found
        if found:
            return
        for mark in marks:
            if isinstance(mark, Rule) and isinstance(value, str):
                try:
                    mark.check(value)
                except Unfit as error:
                    yield self.trouble("VALUE-UNFIT", str(error), path)
            elif isinstance(mark, msgspec.Meta) and isinstance(value, int):
                least, most = mark.ge or 0, mark.le
                if value < least or (most is not None and value > most):
                    limits = f"from {least} to {most}" if most is not None else f"{least} or more"
                    yield self.trouble("VALUE-UNFIT", f"{value} is out of range: {limits}", path)

    def _list(self, value: object, item: Any, path: KeyPath, partial: bool) -> Iterator[Trouble]:
        if is_operation(value):
            assert isinstance(value, dict)
            for operation, items in value.items():
                by_key = operation == "remove" and key_of(item)
                yield from self._list_of(items, str if by_key else item, (*path, operation), partial)
        else:
            yield from self._list_of(value, item, path, partial)

    def _list_of(self, value: object, item: Any, path: KeyPath, partial: bool) -> Iterator[Trouble]:
        if not isinstance(value, list):
            hint = (
                f"write [[{dotted(path)}]]"
                if isinstance(item, type) and issubclass(item, Definable)
                else "put it in [brackets]"
            )
            yield self.trouble("VALUE-TYPE", f"a list belongs here, not {_named_type(value)}", path, hint)
            return
        for index, one in enumerate(value):
            yield from self.value(one, item, (*path, str(index)), partial)

    def _table(self, value: object, shape: type[Definable], path: KeyPath, partial: bool) -> Iterator[Trouble]:
        if not isinstance(value, dict):
            yield self.trouble("VALUE-TYPE", f"a table belongs here, not {_named_type(value)}", path)
            return
        fields = fields_of(shape)
        for key, item in value.items():
            if key == "add" and partial and shape.ADDING_IS_SAID:
                yield from self.value(item, bool, (*path, key), partial)
            elif key not in fields:
                place = "" if not path else f" in [{dotted(path)}]"
                yield self.trouble("KEY-UNKNOWN", f"unknown key `{key}`{place}", (*path, key), suggestion(key, fields))
            else:
                yield from self.value(item, fields[key][0], (*path, key), partial)
        for key, (_, required) in fields.items():
            if required and key not in value and not partial:
                place = "at the top of the file" if not path else f"in [{dotted(path)}]"
                yield self.trouble("KEY-MISSING", f"the key `{key}` is missing {place}", path, f"add `{key} = …`")

    def trouble(self, code: str, what: str, path: KeyPath, remedy: str = "") -> Trouble:
        document = self.document
        origin = document.origin(*path)
        # What lies inside a plain list has no origin of its own, but it has a line.
        known = next((length for length in range(len(path), 0, -1) if path[:length] in document.origins), 0)
        line = line_of(origin.file, (*origin.key, *path[known:]))
        key = dotted((*document.prefix, *path)) if path else None
        return Trouble(
            code, what, Place(origin.file, line or 1, key), remedy=remedy or "see `yarrik` with --help, and the README"
        )


@cache
def fields_of(shape: type[Definable]) -> Mapping[str, tuple[Any, bool]]:
    """Each key of a table with its type, and whether it has to be there."""
    return {field.encode_name: (field.type, field.required) for field in msgspec.structs.fields(shape)}


def key_of(item: Any) -> str:
    """The key that tells tables of an array apart; empty when nothing does."""
    return item.KEY if isinstance(item, type) and issubclass(item, Definable) else ""


def _named_type(value: object) -> str:
    names = {str: "text", bool: "true or false", int: "a number", float: "a number", list: "a list", dict: "a table"}
    return names.get(type(value), "a date")


def _type_words(shape: Any) -> str:
    words = {str: "text in quotes", bool: "true or false", int: "a whole number"}
    words[datetime.date] = "a date, like 2027-12-31,"
    return words.get(shape, "a date and time, like 2026-01-01T00:00:00Z,")
