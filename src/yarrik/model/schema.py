"""JSON Schema (draft 2020-12) of every kind of file, made from the typed definitions, for editors."""

from __future__ import annotations

import datetime
import inspect
import tomllib
import types
import typing
from collections.abc import Iterable, Mapping
from typing import Any

import msgspec

from yarrik.model.checking import fields_of, key_of
from yarrik.model.definitions import (
    Amendment,
    CatalogueFile,
    Choice,
    Definable,
    Local,
    LocalSettings,
    OneOrMore,
    Part,
    ProductFile,
    ShelfFile,
    WorkspaceFile,
)
from yarrik.model.descriptions import description_of
from yarrik.model.kinds import SETTABLE, SHAPES
from yarrik.model.rules import Rule

#: Every kind of file with its shape.
FILES: dict[str, type[Definable]] = {
    "workspace": WorkspaceFile, "shelf": ShelfFile, **SHAPES, "local": Local, "settings": LocalSettings,
    "product-file": ProductFile, "catalogue": CatalogueFile,
}  # fmt: skip


def schema_of(kind: str, choices: Mapping[str, Iterable[str]] | None = None) -> dict[str, Any]:
    """The schema of a kind of file, as values for JSON. `choices` are the names in each table that a `Choice` is of; without
    them any name fits."""
    shape = FILES[kind]
    making = _Making(shape, choices or {})
    # What a definition does not say it may have from the one that it extends.
    extending = "extends" in fields_of(shape)
    top = making.table(shape, partial=extending)
    if extending:
        needed = [key for key, (_, required) in fields_of(shape).items() if required]
        top["anyOf"] = [{"required": ["extends"]}, {"required": needed}]
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"Yarrik: {kind}",
        **top,
        "$defs": dict(sorted(making.definitions.items())),
    }


def _told(shape: type[Definable], key: str, default: object) -> dict[str, Any]:
    """What a key is for, an example, and its default, where a plain value says it."""
    told = description_of(shape, key)
    found: dict[str, Any] = {}
    if told is not None:
        found["description"] = told.text
        if told.example:
            found["examples"] = [_plain(tomllib.loads(f"x = {told.example}")["x"])]
    if isinstance(default, bool | int | str) and default != "":
        found["default"] = default
    return found


def _plain(value: Any) -> Any:
    return value.isoformat() if isinstance(value, datetime.date) else value


class _Making:
    def __init__(self, own: type[Definable], choices: Mapping[str, Iterable[str]]) -> None:
        self.own, self.choices = own, choices
        self.definitions: dict[str, Any] = {}

    def table(self, shape: type[Definable], partial: bool) -> dict[str, Any]:
        fields = fields_of(shape)
        described: dict[str, Any] = {"type": "object", "additionalProperties": False}
        text = inspect.getdoc(shape)
        if text and not text.startswith(f"{shape.__name__}("):
            described["description"] = " ".join(text.split())
        defaults = {field.encode_name: field.default for field in msgspec.structs.fields(shape)}
        described["properties"] = {
            key: {**self.value(kind, partial), **_told(shape, key, defaults.get(key))} for key, (kind, _) in fields.items()
        }
        if partial and shape.ADDING_IS_SAID:
            text = "Says that the table is a new one, and no change of one that is there."
            described["properties"]["add"] = {"type": "boolean", "description": text}
        required = [key for key, (_, needed) in fields.items() if needed]
        if required and not partial:
            described["required"] = required
        return described

    def reference(self, shape: type[Definable], partial: bool) -> dict[str, Any]:
        name = f"part-of-{shape.__name__}" if partial else shape.__name__
        if name not in self.definitions:
            self.definitions[name] = {}  # taken, in case that it speaks of itself
            self.definitions[name] = self.table(shape, partial)
        return {"$ref": f"#/$defs/{name}"}

    def value(self, shape: Any, partial: bool) -> dict[str, Any]:
        origin = typing.get_origin(shape)
        if origin is typing.Annotated:
            inner, *marks = typing.get_args(shape)
            return self._marked(inner, marks, partial)
        if origin in (typing.Union, types.UnionType):
            return self.value(next(one for one in typing.get_args(shape) if one is not type(None)), partial)
        if isinstance(shape, type) and issubclass(shape, Definable):
            return self.reference(shape, partial)
        if origin is tuple:
            return self._list(typing.get_args(shape)[0], partial)
        if origin is dict:
            return {"type": "object", "additionalProperties": self.value(typing.get_args(shape)[1], partial)}
        if origin is typing.Literal:
            return {"enum": list(typing.get_args(shape))}
        if shape is datetime.date:
            return {"type": "string", "format": "date"}
        if shape is datetime.datetime:
            return {"type": "string", "format": "date-time"}
        words = {str: "string", bool: "boolean", int: "integer"}
        return {"type": words[shape]} if shape in words else {}

    def _marked(self, inner: Any, marks: list[Any], partial: bool) -> dict[str, Any]:
        described = self.value(inner, partial)
        for mark in marks:
            if isinstance(mark, Part):
                if mark.of == "target":
                    return {"anyOf": [self.reference(shape, True) for kind, shape in SETTABLE.items() if kind != "product"]}
                return self.reference(
                    SETTABLE.get(mark.of, self.own if self.own is not Amendment else SETTABLE["recipe"]), True
                )
            if isinstance(mark, OneOrMore):
                return {"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}, "minItems": 1}]}
            if isinstance(mark, Choice) and mark.of in self.choices:
                return {"enum": sorted(self.choices[mark.of])}
            if isinstance(mark, msgspec.Meta):
                limits = {"minimum": mark.ge, "maximum": mark.le}
                described |= {key: value for key, value in limits.items() if value is not None}
            elif isinstance(mark, Rule) and mark.check.__doc__:
                described["description"] = " ".join(mark.check.__doc__.split())
        return described

    def _list(self, item: Any, partial: bool) -> dict[str, Any]:
        """A list, or what is to be done to the one that stands there."""
        items = {"type": "array", "items": self.value(item, partial)}
        removed = {"type": "array", "items": {"type": "string"}} if key_of(item) else items
        changes = {
            "type": "object",
            "additionalProperties": False,
            "minProperties": 1,
            "properties": {"add": items, "remove": removed, "replace": items},
        }
        return {"anyOf": [items, changes]}
