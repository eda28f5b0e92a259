"""Merges documents, in one way everywhere, and keeps each value's whole history.

Tables merge. Arrays of tables whose shape has a key (a partition's name, a file's path) merge by it. A list replaces a list,
unless it says otherwise: `packages.add = […]`, `packages.remove = […]`, `packages.replace = […]`. All else is replaced.
"""

from __future__ import annotations

import types
import typing
from collections.abc import Iterable
from typing import Any

from yarrik.errors import Trouble, YarrikError, suggestion
from yarrik.model.checking import fields_of, is_operation, key_of
from yarrik.model.definitions import Definable
from yarrik.model.positions import KeyPath
from yarrik.model.reading import Document, How, Origin, Raw, paths_below
from yarrik.model.rules import Requirement
from yarrik.versions import parse_requirement


def stack(documents: Iterable[Document], shape: type[Definable]) -> Document:
    """All documents merged, later ones over earlier ones. Raises YarrikError when one takes out what is not there."""
    first, *others = documents
    if not others and not _has_operation(first.raw):
        return first
    whole = first if not _has_operation(first.raw) else stacked(Document(first.file, {}), first, shape)
    for over in others:
        whole = stacked(whole, over, shape)
    return whole


def stacked(base: Document, over: Document, shape: type[Definable]) -> Document:
    """`over` merged into `base`."""
    return _Stacking(base, over).run(shape)


def _has_operation(value: object) -> bool:
    if isinstance(value, dict):
        return is_operation(value) or any(map(_has_operation, value.values()))
    return isinstance(value, list) and any(map(_has_operation, value))


class _Stacking:
    def __init__(self, base: Document, over: Document) -> None:
        self.base = base
        self.over = over
        self.origins: dict[KeyPath, Origin] = {}

    def run(self, shape: type[Definable]) -> Document:
        raw = self._table(self.base.raw, self.over.raw, shape, (), (), ())
        return Document(self.over.file, raw, (), self.origins)

    def _table(self, low: Raw, high: Raw, shape: Any, here: KeyPath, low_path: KeyPath, high_path: KeyPath) -> Raw:
        merged: Raw = {}
        for key in [*low, *(key for key in high if key not in low)]:
            spot, below, above = (*here, key), (*low_path, key), (*high_path, key)
            if key not in high:
                merged[key] = low[key]
                self._adopt(low[key], spot, below, self.base)
                continue
            inner = _shape_of(shape, key)
            former = low.get(key)
            if typing.get_origin(inner) is tuple and isinstance(former, list | None):
                merged[key] = self._list(former, high[key], typing.get_args(inner)[0], spot, below, above)
            elif isinstance(former, dict) and isinstance(high[key], dict) and _is_table(inner):
                merged[key] = self._table(former, high[key], inner, spot, below, above)
                self.origins[spot] = self.over.origins.get(above, self.base.origin(*below))
            elif former is None and isinstance(high[key], dict) and _is_table(inner):
                merged[key] = self._table({}, high[key], inner, spot, below, above)
                self.origins[spot] = self.over.origin(*above)
            else:
                merged[key] = high[key]
                self._adopt(high[key], spot, above, self.over)
                if key in low:
                    self._replaces(spot, below, "set")
        return merged

    def _replaces(self, spot: KeyPath, below: KeyPath, how: How) -> None:
        """The value at `spot` replaces what the base had at `below`."""
        written = self.origins[spot]
        replaced = self.base.origins.get(below)
        self.origins[spot] = Origin(written.file, written.key, replaced, written.value, how)

    def _list(
        self, low: list[Any] | None, high: Any, item: Any, here: KeyPath, low_path: KeyPath, high_path: KeyPath
    ) -> list[Any]:
        key = key_of(item)
        if not is_operation(high):
            if low is not None and key and _all_have(key, low) and _all_have(key, high):
                return self._by_key(low, high, item, here, low_path, high_path)
            self._adopt(high, here, high_path, self.over)
            if low is not None:
                self._replaces(here, low_path, "set")
            return [_without_add(one) for one in high] if key else list(high)
        result = list(low or ())
        self._adopt(result, here, low_path, self.base)
        former = self.base.origins.get(low_path)
        for operation in ("replace", "remove", "add"):
            if operation not in high:
                continue
            above = (*high_path, operation)
            written = high[operation]
            how: How = "set" if operation == "replace" else "taken from" if operation == "remove" else "added to"
            if operation == "replace":
                self._forget(here)
                result = list(written)
                self._adopt(result, here, above, self.over)
            elif operation == "remove":
                result = self._without(result, written, item, here, above)
            elif key:
                merged = self._added(result, written, item, here, above)
                result = merged
            else:
                result += [one for one in written if one not in result]
            self.origins[here] = former = Origin(self.over.file, (*self.over.prefix, *above), former, written, how)
        return result

    def _by_key(
        self, low: list[Raw], high: list[Raw], item: Any, here: KeyPath, low_path: KeyPath, high_path: KeyPath
    ) -> list[Any]:
        key = key_of(item)
        over = {one[key]: index for index, one in enumerate(high)}
        result: list[Any] = []
        for index, one in enumerate(low):
            spot, below = (*here, str(index)), (*low_path, str(index))
            if one[key] in over:
                above = (*high_path, str(over[one[key]]))
                if high[over[one[key]]].get("add"):
                    raise YarrikError(
                        Trouble("ADD-TWICE", f"`{one[key]}` is there already", self.over.origin(*above).place,
                                why="`add = true` is for what is new", remedy="to change it, leave `add` out")
                    )  # fmt: skip
                result.append(self._table(one, high[over[one[key]]], item, spot, below, above))
                self.origins[spot] = self.over.origin(*above)
            else:
                result.append(one)
                self._adopt(one, spot, below, self.base)
        known = {one[key] for one in low}
        for index, one in enumerate(high):
            if one[key] not in known:
                spot = (*here, str(len(result)))
                if item.ADDING_IS_SAID and self.over.prefix and not one.get("add"):
                    kind = item.__name__.lower()
                    raise YarrikError(
                        Trouble("ADD-UNSAID", f"there is no {kind} `{one[key]}` that could be changed",
                                self.over.origin(*high_path, str(index)).place,
                                why="a change under another name would make a second one beside it",
                                remedy=f"{suggestion(one[key], known)}; to add a {kind}, write `add = true`")
                    )  # fmt: skip
                result.append(self._table({}, _without_add(one), item, spot, (), (*high_path, str(index))))
                self.origins[spot] = self.over.origin(*high_path, str(index))
        self.origins[here] = self.over.origin(*high_path)
        return result

    def _added(self, result: list[Any], written: list[Raw], item: Any, here: KeyPath, above: KeyPath) -> list[Any]:
        key = key_of(item)
        for index, one in enumerate(written):
            if any(other.get(key) == one.get(key) for other in result):
                raise YarrikError(
                    Trouble("ADD-TWICE", f"`{one.get(key)}` is there already", self.over.origin(*above, str(index)).place,
                            why="`add` is for what is new", remedy="to change it, write it as a table without `add`")
                )  # fmt: skip
            spot = (*here, str(len(result)))
            result = [*result, one]
            self._adopt(one, spot, (*above, str(index)), self.over)
            self.origins[spot] = self.over.origin(*above, str(index))
        return result

    def _without(self, result: list[Any], written: list[Any], item: Any, here: KeyPath, above: KeyPath) -> list[Any]:
        def name(one: Any) -> Any:
            if key_of(item) and isinstance(one, dict):
                return one.get(key_of(item))
            return parse_requirement(one).name if item == Requirement else one

        for word in written:
            if not any(one == word or name(one) == word for one in result):
                known = [str(name(one)) for one in result]
                raise YarrikError(
                    Trouble("REMOVE-NOTHING", f"`{word}` is to be taken out, and is not in the list",
                            self.over.origin(*above).place, why="the list may have been changed under this line",
                            remedy=suggestion(str(word), known) if known else "take the line out: the list is empty")
                )  # fmt: skip
        kept = [(index, one) for index, one in enumerate(result) if one not in written and name(one) not in written]
        before = {path: origin for path, origin in self.origins.items() if path[: len(here)] == here}
        self._forget(here)
        for new, (old, _) in enumerate(kept):
            for path, origin in before.items():
                if path[len(here) : len(here) + 1] == (str(old),):
                    self.origins[(*here, str(new), *path[len(here) + 1 :])] = origin
        return [one for _, one in kept]

    def _forget(self, here: KeyPath) -> None:
        for path in [path for path in self.origins if path[: len(here)] == here]:
            del self.origins[path]

    def _adopt(self, value: object, here: KeyPath, source: KeyPath, document: Document) -> None:
        """Takes the origins of a value over from the document that holds it."""
        for path in [(), *paths_below(value)]:
            if (*source, *path) in document.origins:
                self.origins[(*here, *path)] = document.origins[(*source, *path)]


def _without_add(one: Any) -> Any:
    """An element of an array without the word that it is new, and what is inside it likewise."""
    if isinstance(one, dict):
        return {key: _without_add(value) for key, value in one.items() if key != "add" or isinstance(value, list | dict)}
    return [_without_add(each) for each in one] if isinstance(one, list) else one


def _all_have(key: str, items: object) -> bool:
    return isinstance(items, list) and bool(items) and all(isinstance(one, dict) and key in one for one in items)


def _shape_of(shape: Any, key: str) -> Any:
    """The shape of a table's entry, without marks."""
    if isinstance(shape, type) and issubclass(shape, Definable):
        inner = fields_of(shape).get(key, (None, False))[0]
    elif typing.get_origin(shape) is dict:
        inner = typing.get_args(shape)[1]
    else:
        return None
    if typing.get_origin(inner) in (typing.Union, types.UnionType):
        inner = next(choice for choice in typing.get_args(inner) if choice is not type(None))
    return inner


def _is_table(shape: Any) -> bool:
    return (isinstance(shape, type) and issubclass(shape, Definable)) or typing.get_origin(shape) is dict
