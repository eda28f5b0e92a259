"""Every key of every kind of file, as typed values: for the reference in the docs, and for the terminal."""

from __future__ import annotations

import datetime
import tomllib
import types
import typing
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import msgspec

from yarrik.model.checking import fields_of, key_of
from yarrik.model.definitions import Choice, Definable, OneOrMore, Part
from yarrik.model.descriptions import description_of
from yarrik.model.kinds import SETTABLE
from yarrik.model.schema import FILES

#: What a file of each kind is called, and where it is.
PLACES = {
    "workspace": "yarrik.toml", "shelf": "shelf.toml", "board": "boards/NAME.toml", "profile": "profiles/NAME.toml",
    "image": "images/NAME.toml", "product": "products/NAME.toml", "recipe": "recipes/NAME/recipe.toml",
    "variant": "variants/NAME.toml", "group": "groups/NAME.toml", "amendment": "amendments/NAME.toml",
    "local": "yarrik.local.toml", "settings": "settings.toml", "product-file": "NAME.toml, for `yarrik build NAME.toml`",
    "catalogue": "catalogue.toml or catalogue.json",
}  # fmt: skip


class KeyFacts(msgspec.Struct, frozen=True):
    """A key: its type in words (`form`), its default as TOML (empty when it has to be there, or is empty without it), what it
    is for, an example as TOML, and the shape of the tables that it holds."""

    key: str
    form: str
    required: bool
    default: str
    text: str
    example: str
    inner: type[Definable] | None


def keys_of(shape: type[Definable], choices: Mapping[str, Sequence[str]]) -> Iterator[KeyFacts]:
    """All keys of a shape, in the order of its fields. `choices` are the names in tables that keys choose from."""
    defaults = {field.encode_name: field.default for field in msgspec.structs.fields(shape)}
    for key, (kind, required) in fields_of(shape).items():
        told = description_of(shape, key)
        default = defaults.get(key)
        yield KeyFacts(
            key,
            _type_of(kind, choices),
            required,
            "" if required else toml_of(default),
            told.text if told is not None else "",
            told.example if told is not None else "",
            _inner(kind),
        )


def find_key(kind: str, path: str, choices: Mapping[str, Sequence[str]]) -> KeyFacts | None:
    """A key of a kind of file by its dotted path; names and numbers on the way, like `package.tide.files`, are passed over."""
    shape: type[Definable] | None = FILES[kind]
    found: KeyFacts | None = None
    for word in path.split("."):
        if shape is None:
            return None
        known = {one.key: one for one in keys_of(shape, choices)}
        if word in known:
            found = known[word]
            shape = found.inner
        elif found is None:
            return None  # otherwise a name in a table of tables, or a number in a list of them
    return found


def _inner(kind: Any) -> type[Definable] | None:
    """The shape of the tables in a value: of itself, of a list's elements, of a table's values."""
    origin = typing.get_origin(kind)
    args = typing.get_args(kind)
    if origin is typing.Annotated:
        for mark in args[1:]:
            if isinstance(mark, Part):
                return SETTABLE.get(mark.of)
        return _inner(args[0])
    if origin in (typing.Union, types.UnionType):
        return _inner(next(one for one in args if one is not type(None)))
    if origin is tuple:
        return _inner(args[0])
    if origin is dict:
        return _inner(args[1])
    return kind if isinstance(kind, type) and issubclass(kind, Definable) else None


def _type_of(kind: Any, choices: Mapping[str, Sequence[str]]) -> str:
    origin = typing.get_origin(kind)
    args = typing.get_args(kind)
    if origin is typing.Annotated:
        for mark in args[1:]:
            if isinstance(mark, OneOrMore):
                return "text, or list of texts"
            if isinstance(mark, Choice):
                return " ".join(f"`{name}`" for name in sorted(choices.get(mark.of, ()))) or "name"
        return _type_of(args[0], choices)
    if origin in (typing.Union, types.UnionType):
        return _type_of(next(one for one in args if one is not type(None)), choices)
    if origin is tuple:
        return "tables" if key_of(args[0]) or _inner(args[0]) else f"list of {_plural(_type_of(args[0], choices))}"
    if origin is dict:
        return "tables by name" if _inner(args[1]) else f"{_plural(_type_of(args[1], choices))} by name"
    if origin is typing.Literal:
        return " ".join(f"`{name}`" if name else "" for name in args).strip()
    if isinstance(kind, type) and issubclass(kind, Definable):
        return "table"
    return {str: "text", bool: "true or false", int: "number", datetime.datetime: "date and time", datetime.date: "date"}.get(
        kind, "value"
    )


def _plural(word: str) -> str:
    return "texts" if word == "text" else "numbers" if word == "number" else word


def toml_of(value: object) -> str:
    """A default as TOML; an empty text for what is empty."""
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, int):
        return str(value)
    if isinstance(value, str):
        return f'"{value}"' if value else ""
    if isinstance(value, tuple) and value and all(isinstance(one, str) for one in value):
        return "[" + ", ".join(f'"{one}"' for one in value) + "]"
    if isinstance(value, datetime.datetime):
        return value.isoformat().replace("+00:00", "Z")
    return ""


def example_value(example: str) -> Any:
    """The value of an example. Raises tomllib.TOMLDecodeError."""
    return tomllib.loads(f"x = {example}")["x"]


def as_reference(choices: Mapping[str, Sequence[str]]) -> str:
    """The reference as a page: every kind of file, and below it the tables in it, each once."""
    lines = [
        "# Reference",
        "",
        "Every key of every kind of file: its type, its default, what it is for, and an example. Written by",
        "`yarrik schema --markdown`; `yarrik schema board kernel.console` prints one key. Keys without a default and without",
        '*required* may be left out. A list can be changed instead of replaced: `packages.add = ["tide"]`.',
    ]
    seen: set[str] = set()
    for kind in FILES:
        lines += ["", f"## {kind}", "", f"`{PLACES[kind]}`"]
        lines += _tables(FILES[kind], kind, choices, seen)
    return "\n".join(lines) + "\n"


def _tables(shape: type[Definable], head: str, choices: Mapping[str, Sequence[str]], seen: set[str]) -> Iterator[str]:
    keys = list(keys_of(shape, choices))
    yield ""
    yield "| key | type | default | |"
    yield "|---|---|---|---|"
    for one in keys:
        default = "*required*" if one.required else f"`{one.default}`" if one.default else ""
        example = f" `{one.key} = {one.example}`" if one.example else ""
        cells = (f"`{one.key}`", one.form, default, f"{one.text}{example}")
        yield "| " + " | ".join(cell.replace("|", "\\|").replace("\n", " ") for cell in cells) + " |"
    for one in keys:
        if one.inner is not None and one.inner.__name__ not in seen and one.inner not in SETTABLE.values():
            seen.add(one.inner.__name__)
            yield ""
            yield f"### {head}: {one.key}"
            yield from _tables(one.inner, f"{head}: {one.key}", choices, seen)
