"""Reads TOML files: values, and for each of them where it came from and what it replaced."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Any, Generic, Literal, TypeVar

import msgspec

from yarrik.errors import Place, Trouble, YarrikError
from yarrik.model.definitions import Definable
from yarrik.model.positions import KeyPath, key_lines

T = TypeVar("T", bound=Definable)
Raw = dict[str, Any]
How = Literal["set", "added to", "taken from"]


class Origin(msgspec.Struct, frozen=True):
    """Where a value came from: a file and the key in it. `replaced` is the origin of the value that stood there before,
    `value` what was written, and `how` what that did to a list."""

    file: Path
    key: KeyPath
    replaced: Origin | None = None
    value: object = None
    how: How = "set"

    @property
    def place(self) -> Place:
        """File, line and key where a value is written."""
        return Place(self.file, key=dotted(self.key), finder=lambda: line_of(self.file, self.key))

    def history(self) -> Iterator[Origin]:
        """This origin and all before it, the last first."""
        origin: Origin | None = self
        while origin is not None:
            yield origin
            origin = origin.replaced


class Document(msgspec.Struct, frozen=True, dict=True):
    """A file as written, or a table in it at `prefix`, or several merged (with `known` origins)."""

    file: Path
    raw: Raw
    prefix: KeyPath = ()
    known: dict[KeyPath, Origin] | None = None

    @cached_property
    def origins(self) -> dict[KeyPath, Origin]:
        """For each path of keys where it came from."""
        if self.known is not None:
            return self.known
        return {path: Origin(self.file, (*self.prefix, *path), None, value) for path, value in _paths(self.raw, ())}

    def origin(self, *keys: str) -> Origin:
        """The origin of a key, or of the nearest table around it that is written down."""
        if self.known is None and "origins" not in self.__dict__:  # most documents are asked for few
            return self._origin(keys)
        for length in range(len(keys), 0, -1):
            if keys[:length] in self.origins:
                return self.origins[keys[:length]]
        return Origin(self.file, self.prefix)

    def _origin(self, keys: KeyPath) -> Origin:
        value, path = self.raw, KeyPath()
        for key in keys:
            # As in `origins`: of lists only the tables in them count.
            if isinstance(value, dict) and key in value:
                inner = value[key]
            elif isinstance(value, list) and key.isdecimal() and str(int(key)) == key and int(key) < len(value):
                inner = value[int(key)]
                if not isinstance(inner, dict):
                    break
            else:
                break
            value, path = inner, (*path, key)
        return Origin(self.file, (*self.prefix, *path), None, value if path else None)

    def origin_in_list(self, text: str, *keys: str) -> Origin:
        """The origin of one element of a list."""
        for origin in self.origin(*keys).history():
            if isinstance(origin.value, list) and text in origin.value and origin.how != "taken from":
                return Origin(origin.file, (*origin.key, str(origin.value.index(text))))
        return self.origin(*keys)

    def part(self, *keys: str) -> Document:
        """A table of this document, as one of its own; an empty one when it is not there."""
        raw: Any = self.raw
        for key in keys:
            raw = raw[int(key)] if isinstance(raw, list) else raw.get(key, {})
        return Document(self.file, raw, (*self.prefix, *keys))


class Definition(msgspec.Struct, Generic[T], frozen=True):
    """A named definition: its value, its document (for origins), and the shelf it lies on (empty for the workspace)."""

    name: str
    shelf: str
    value: T
    document: Document

    @property
    def file(self) -> Path:
        """The file that the definition is read from."""
        return self.document.file

    def place(self, *keys: str) -> Place:
        """File, line and key of a value of the definition."""
        return self.document.origin(*keys).place

    def place_of(self, text: str, *keys: str) -> Place:
        """The line on which one text of a list was written, whichever file added it."""
        return self.document.origin_in_list(text, *keys).place

    def folder_of(self, *keys: str) -> Path:
        """The folder that relative paths in this key's value start from."""
        return self._place_of(self.document.origin(*keys).file)

    def beside(self, text: str, *keys: str) -> Path:
        """A file that an element of a list names: it lies beside the file that added the element."""
        return self._place_of(self.document.origin_in_list(text, *keys).file) / text

    @property
    def folders(self) -> tuple[Path, ...]:
        """The folders of all files that a value of the definition was ever written in, its own first."""
        found = {self.file.parent: None}
        for origin in self.document.origins.values():
            for one in origin.history():
                found.setdefault(self._place_of(one.file))
        return tuple(found)

    def _place_of(self, file: Path) -> Path:
        """The folder of a file that set a value. What the command line or the environment sets lies beside the definition."""
        return file.parent if file.is_absolute() or file.exists() else self.file.parent


def read_document(file: Path) -> Document:
    """Parses a TOML file. Raises YarrikError with the line when it cannot be read."""
    try:
        data = file.read_bytes()
    except OSError as error:
        raise YarrikError(
            Trouble("FILE-UNREADABLE", f"cannot read {file.name}: {error.strerror}", Place(file),
                    remedy="check that the file is there and that you may read it")
        ) from error  # fmt: skip
    return parse_document(data, file)


def parse_document(data: bytes, file: Path) -> Document:
    """Parses TOML that was read from a file, or belongs there. Raises YarrikError with the line when it is none."""
    import tomli

    try:
        text = data.decode()
        raw = tomli.loads(text)
    except UnicodeDecodeError as error:
        raise YarrikError(
            Trouble("FILE-NOT-UTF8", f"{file.name} is not UTF-8 text (byte {error.start})", Place(file),
                    why="TOML is UTF-8 by definition", remedy="save the file as UTF-8")
        ) from error  # fmt: skip
    except (ValueError, RecursionError) as error:
        # A number of thousands of digits is a plain ValueError, which speaks of the interpreter.
        text = str(error) if isinstance(error, (tomli.TOMLDecodeError, RecursionError)) else "a number is too long"
        raise YarrikError(
            Trouble("FILE-NOT-TOML", f"{file.name} is not valid TOML: {text}", Place(file, _line_in_message(text)),
                    remedy="correct the line; strings are in quotes, tables in [brackets]")
        ) from error  # fmt: skip
    refuse_null(file, text, raw)
    return Document(file, raw)


def refuse_null(file: Path, text: str, raw: Raw) -> None:
    """Raises YarrikError for a null character in a key or a value of a TOML text: no path, argument or label can hold one."""
    if "\\u0000" not in text and "\\U00000000" not in text:
        return
    key = next((path for path, value in _texts(raw, ()) if "\0" in value), None)
    if key is not None:
        raise YarrikError(
            Trouble("FILE-NULL-CHARACTER", "a value contains a null character (\\u0000)",
                    Place(file, key=dotted(key).replace("\0", "\\u0000"), finder=lambda: line_of(file, key)),
                    why="file names, arguments and settings end at a null character", remedy="remove \\u0000 from the value")
        )  # fmt: skip


def _texts(value: object, path: KeyPath) -> Iterator[tuple[KeyPath, str]]:
    """All texts with their paths of keys, and the keys themselves."""
    if isinstance(value, str):
        yield path, value
    elif isinstance(value, dict):
        for key, item in value.items():
            yield (*path, key), key
            yield from _texts(item, (*path, key))
    elif isinstance(value, list):
        for index, item in enumerate(value):
            yield from _texts(item, (*path, str(index)))


def _paths(value: object, path: KeyPath) -> Iterator[tuple[KeyPath, object]]:
    """Paths and values of all that lies in tables; inside plain lists only lists of tables are followed."""
    if isinstance(value, dict):
        for key, item in value.items():
            yield (*path, key), item
            yield from _paths(item, (*path, key))
    elif isinstance(value, list):
        for index, item in enumerate(value):
            if isinstance(item, dict):
                yield (*path, str(index)), item
                yield from _paths(item, (*path, str(index)))


def paths_below(value: object) -> Iterator[KeyPath]:
    """The paths of all keys and list items below a value."""
    return (path for path, _ in _paths(value, ()))


def dotted(path: KeyPath) -> str:
    """`disk.0.size` is shown as `disk.1.size`: people count from one."""
    return ".".join(str(int(word) + 1) if word.isdecimal() and len(word) < 10 else word for word in path)


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


def place_in(file: Path, *keys: str) -> Place:
    """A key in a file, with its line."""
    return Place(file, key=dotted(keys), finder=lambda: line_of(file, keys))


def place_at(file: Path, key: str | None, line: int | None = None) -> Place:
    """A place that was written down: a file, a dotted key, and the line if that alone is known."""
    if line is not None or key is None:
        return Place(file, line, key)

    def find() -> int | None:
        try:
            status = file.stat()
            lines = _lines(file, status.st_size, status.st_mtime_ns)
        except (OSError, ValueError):
            return None
        names = {dotted(path): found for path, found in lines.items()}
        above = (name for name in sorted(names, key=len, reverse=True) if key == name or key.startswith(f"{name}."))
        return next((names[name] for name in above), None)

    return Place(file, key=key, finder=find)


def _line_in_message(message: str) -> int | None:
    found = re.search(r"at line (\d{1,9})", message)
    return int(found.group(1)) if found else None
