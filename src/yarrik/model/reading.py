"""Reads definitions: TOML to typed values, strictly, with every trouble of a file found in one go, and origins kept."""

from __future__ import annotations

import tomllib
import types
import typing
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cache, lru_cache
from pathlib import Path
from typing import Any, Generic, TypeVar

import msgspec

from yarrik.errors import Place, Trouble, YarrikError, suggestion
from yarrik.model.definitions import Definable
from yarrik.model.positions import KeyPath, key_lines
from yarrik.model.rules import Rule

T = TypeVar("T", bound=Definable)
Raw = dict[str, Any]


@dataclass(frozen=True)
class Origin:
    """Where a value came from: a file and the key in it; `replaced` is the origin of the value it took the place of."""

    file: Path
    key: KeyPath
    replaced: Origin | None = None

    @property
    def place(self) -> Place:
        return Place(self.file, key=dotted(self.key), finder=lambda: line_of(self.file, self.key))


@dataclass(frozen=True)
class Document:
    """One file as written: its values, and for each path of keys where it came from."""

    file: Path
    raw: Raw
    origins: dict[KeyPath, Origin] = field(default_factory=dict)

    def origin(self, *keys: str) -> Origin:
        """The origin of a key, or of the nearest table around it that is written down."""
        for length in range(len(keys), 0, -1):
            if keys[:length] in self.origins:
                return self.origins[keys[:length]]
        return Origin(self.file, ())


@dataclass(frozen=True)
class Definition(Generic[T]):
    """A named definition: its value, its document (for origins), and the shelf it lies on (empty for the workspace)."""

    name: str
    shelf: str
    value: T
    document: Document

    @property
    def file(self) -> Path:
        return self.document.file

    def place(self, *keys: str) -> Place:
        return self.document.origin(*keys).place

    def folder_of(self, *keys: str) -> Path:
        """The folder that relative paths in this key's value start from."""
        return self.document.origin(*keys).file.parent


def read_document(file: Path) -> Document:
    """Parses a TOML file. Raises YarrikError with the line when it cannot be read."""
    try:
        raw = tomllib.loads(file.read_bytes().decode())
    except OSError as error:
        raise YarrikError(
            Trouble("FILE-UNREADABLE", f"cannot read {file.name}: {error.strerror}", Place(file),
                    remedy="check that the file is there and that you may read it")
        ) from error  # fmt: skip
    except UnicodeDecodeError as error:
        raise YarrikError(
            Trouble("FILE-NOT-UTF8", f"{file.name} is not UTF-8 text (byte {error.start})", Place(file),
                    why="TOML is UTF-8 by definition", remedy="save the file as UTF-8")
        ) from error  # fmt: skip
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        line = _line_in_message(str(error))
        raise YarrikError(
            Trouble("FILE-NOT-TOML", f"{file.name} is not valid TOML: {error}", Place(file, line),
                    remedy="mend the line; strings stand in quotes, tables in [brackets]")
        ) from error  # fmt: skip
    return Document(file, raw, {path: Origin(file, path) for path in _paths(raw, ())})


def stacked(base: Document, over: Document) -> Document:
    """`over` laid upon `base`: tables merge, arrays of tables that have names merge by name, all else is replaced."""
    origins: dict[KeyPath, Origin] = {}
    raw = _merge(base.raw, over.raw, (), (), (), base, over, origins)
    return Document(over.file, raw, origins)


def _merge(
    low: Raw, high: Raw, path: KeyPath, low_path: KeyPath, high_path: KeyPath,
    base: Document, over: Document, origins: dict[KeyPath, Origin],
) -> Raw:  # fmt: skip
    merged: Raw = {}
    for key in [*low, *(key for key in high if key not in low)]:
        here = (*path, key)
        if key in low and key in high and isinstance(low[key], dict) and isinstance(high[key], dict):
            origins[here] = over.origins.get((*high_path, key), base.origin(*low_path, key))
            merged[key] = _merge(low[key], high[key], here, (*low_path, key), (*high_path, key), base, over, origins)
        elif key in low and key in high and _named(low[key]) and _named(high[key]):
            merged[key] = []
            over_index = {item["name"]: index for index, item in enumerate(high[key])}
            base_names = {item["name"] for item in low[key]}
            for index, item in enumerate(low[key]):
                spot = (*here, str(len(merged[key])))
                if item["name"] in over_index:
                    other = over_index[item["name"]]
                    origins[spot] = over.origin(*high_path, key, str(other))
                    merged[key].append(
                        _merge(item, high[key][other], spot, (*low_path, key, str(index)),
                               (*high_path, key, str(other)), base, over, origins)
                    )  # fmt: skip
                else:
                    merged[key].append(item)
                    _adopt(item, spot, (*low_path, key, str(index)), base, origins)
            for index, item in enumerate(high[key]):
                if item["name"] not in base_names:
                    spot = (*here, str(len(merged[key])))
                    merged[key].append(item)
                    _adopt(item, spot, (*high_path, key, str(index)), over, origins)
            origins[here] = over.origin(*high_path, key)
        elif key in high:
            merged[key] = high[key]
            _adopt(high[key], here, (*high_path, key), over, origins)
            if key in low:
                written = origins[here]
                origins[here] = Origin(written.file, written.key, base.origin(*low_path, key))
        else:
            merged[key] = low[key]
            _adopt(low[key], here, (*low_path, key), base, origins)
    return merged


def _named(value: object) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(v, dict) and "name" in v for v in value)


def _adopt(value: object, here: KeyPath, source: KeyPath, document: Document, origins: dict[KeyPath, Origin]) -> None:
    """Takes the origins of a value over from the document that holds it."""
    for path in [(), *_paths(value, ())]:
        if (*source, *path) in document.origins:
            origins[(*here, *path)] = document.origins[(*source, *path)]


def _paths(value: object, path: KeyPath) -> Iterator[KeyPath]:
    """Paths of all that lies in tables; inside plain lists only lists of tables are followed."""
    if isinstance(value, dict):
        for key, item in value.items():
            yield (*path, key)
            yield from _paths(item, (*path, key))
    elif isinstance(value, list):
        for index, item in enumerate(value):
            if isinstance(item, dict):
                yield (*path, str(index))
                yield from _paths(item, (*path, str(index)))


def convert(document: Document, shape: type[T]) -> T:
    """The document as a value of `shape`. Raises YarrikError with all that does not fit."""
    troubles = list(find_troubles(document, shape))
    if troubles:
        raise YarrikError(troubles)
    return msgspec.convert(document.raw, shape)


def find_troubles(document: Document, shape: type[Definable], partial: bool = False) -> Iterator[Trouble]:
    """All that does not fit `shape`. With `partial`, keys may be missing (a definition that extends another)."""
    yield from _check(document.raw, shape, (), document, partial)


def _check(value: object, shape: Any, path: KeyPath, document: Document, partial: bool) -> Iterator[Trouble]:
    origin = typing.get_origin(shape)
    if origin is typing.Annotated:
        inner, *marks = typing.get_args(shape)
        found = list(_check(value, inner, path, document, partial))
        yield from found
        if not found:
            for mark in marks:
                if isinstance(mark, Rule) and isinstance(value, str):
                    try:
                        mark.check(value)
                    except ValueError as error:
                        yield _trouble("VALUE-UNFIT", str(error), path, document)
                elif isinstance(mark, msgspec.Meta) and isinstance(value, int):
                    least, most = mark.ge or 0, mark.le
                    if value < least or (most is not None and value > most):
                        limits = f"from {least} to {most}" if most is not None else f"{least} or more"
                        yield _trouble("VALUE-UNFIT", f"{value} is out of range: {limits}", path, document)
    elif origin in (typing.Union, types.UnionType):
        choices = [choice for choice in typing.get_args(shape) if choice is not type(None)]
        yield from _check(value, choices[0], path, document, partial)
    elif isinstance(shape, type) and issubclass(shape, Definable):
        yield from _check_table(value, shape, path, document, partial)
    elif origin is tuple:
        if not isinstance(value, list):
            hint = "write [[" + dotted(path) + "]]" if _is_table(typing.get_args(shape)[0]) else "put it in [brackets]"
            yield _trouble("VALUE-TYPE", f"a list belongs here, not {_named_type(value)}", path, document, hint)
            return
        for index, item in enumerate(value):
            yield from _check(item, typing.get_args(shape)[0], (*path, str(index)), document, partial)
    elif origin is dict:
        if not isinstance(value, dict):
            yield _trouble("VALUE-TYPE", f"a table belongs here, not {_named_type(value)}", path, document)
            return
        key_shape, item_shape = typing.get_args(shape)
        for key, item in value.items():
            yield from _check(key, key_shape, (*path, key), document, partial)
            yield from _check(item, item_shape, (*path, key), document, partial)
    elif origin is typing.Literal:
        known = typing.get_args(shape)
        if value not in known:
            remedy = suggestion(value, known) if isinstance(value, str) else "known here: " + ", ".join(known)
            yield _trouble("VALUE-UNKNOWN", f"`{value}` is not one of the values this key takes", path, document, remedy)
    else:
        try:
            msgspec.convert(value, shape)
        except msgspec.ValidationError:
            yield _trouble("VALUE-TYPE", f"{_type_words(shape)} belongs here, not {_named_type(value)}", path, document)


def _check_table(value: object, shape: type[Definable], path: KeyPath, document: Document, partial: bool) -> Iterator[Trouble]:
    if not isinstance(value, dict):
        yield _trouble("VALUE-TYPE", f"a table belongs here, not {_named_type(value)}", path, document)
        return
    fields = _fields(shape)
    for key, item in value.items():
        if key not in fields:
            place = "" if not path else f" in [{dotted(path)}]"
            yield _trouble("KEY-UNKNOWN", f"unknown key `{key}`{place}", (*path, key), document,
                           suggestion(key, fields))  # fmt: skip
        else:
            yield from _check(item, fields[key][0], (*path, key), document, partial)
    for key, (_, required) in fields.items():
        if required and key not in value and not partial:
            place = "at the top of the file" if not path else f"in [{dotted(path)}]"
            yield _trouble("KEY-MISSING", f"the key `{key}` is missing {place}", path, document, f"add `{key} = …`")


@cache
def _fields(shape: type[Definable]) -> Mapping[str, tuple[Any, bool]]:
    return {field.encode_name: (field.type, field.required) for field in msgspec.structs.fields(shape)}


def _trouble(code: str, what: str, path: KeyPath, document: Document, remedy: str = "") -> Trouble:
    origin = document.origin(*path)
    # What lies inside a plain list has no origin of its own, but it has a line.
    known = next((length for length in range(len(path), 0, -1) if path[:length] in document.origins), 0)
    line = line_of(origin.file, (*origin.key, *path[known:]))
    key = dotted(path) if path else None
    return Trouble(code, what, Place(origin.file, line or 1, key), remedy=remedy or "see `yarrik` with --help, and the README")


def dotted(path: KeyPath) -> str:
    """`disk.0.size` is shown as `disk.1.size`: people count from one."""
    return ".".join(str(int(word) + 1) if word.isdigit() else word for word in path)


def values_with_origins(document: Document) -> Iterator[tuple[str, object, Origin]]:
    """Each plain value of a document with its key and its origin, in the order in which they stand."""

    def walk(value: object, path: KeyPath) -> Iterator[tuple[str, object, Origin]]:
        if isinstance(value, dict):
            for key, item in value.items():
                yield from walk(item, (*path, key))
        elif isinstance(value, list) and value and all(isinstance(item, dict) for item in value):
            for index, item in enumerate(value):
                yield from walk(item, (*path, str(index)))
        else:
            yield dotted(path), value, document.origin(*path)

    yield from walk(document.raw, ())


def _is_table(shape: Any) -> bool:
    return isinstance(shape, type) and issubclass(shape, Definable)


def _named_type(value: object) -> str:
    names = {str: "text", bool: "true or false", int: "a number", float: "a number", list: "a list", dict: "a table"}
    return names.get(type(value), "a date")


def _type_words(shape: Any) -> str:
    words = {str: "text in quotes", bool: "true or false", int: "a whole number"}
    return words.get(shape, "a date and time, like 2026-01-01T00:00:00Z,")


@lru_cache(maxsize=64)
def _lines(file: Path, size: int, changed: int) -> dict[KeyPath, int]:
    return key_lines(file.read_text(encoding="utf-8"))


def line_of(file: Path, path: KeyPath) -> int | None:
    """The line that a key stands on, or the nearest table around it."""
    try:
        status = file.stat()
        lines = _lines(file, status.st_size, status.st_mtime_ns)
    except (OSError, ValueError):
        return None
    for length in range(len(path), 0, -1):
        if path[:length] in lines:
            return lines[path[:length]]
    return None


def _line_in_message(message: str) -> int | None:
    import re

    found = re.search(r"at line (\d+)", message)
    return int(found.group(1)) if found else None
