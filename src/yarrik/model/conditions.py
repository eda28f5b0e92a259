"""When settings under a condition hold."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from typing import Any

import msgspec

from yarrik.patterns import lazy_pattern
from yarrik.versions import Version, parse_wish

_OPTION_OF = lazy_pattern(r"(?P<recipe>[a-z0-9][a-z0-9+.-]*)\[(?P<option>[a-z0-9][a-z0-9+.-]*)\]\Z")
_VERSION_OF = lazy_pattern(r"(?P<recipe>[a-z][a-z0-9+.-]*)\s*(?P<wish>[<>=!~].*)\Z", re.DOTALL)

#: Conditions whose answer is known before anything is resolved, and those that wait for it.
EARLY = ("arch", "board", "profile", "variant")
LATE = ("option", "version")


class Circumstances(msgspec.Struct, frozen=True):
    """What conditions are held against. `boards` is the board and all that it extends, `profiles` likewise.

    `versions` (by recipe) and `options` (by recipe and option) are None until they are resolved. `recipe` and `version` are
    those of the definition that holds the conditions, if it is a recipe's."""

    arch: str = ""
    boards: tuple[str, ...] = ()
    profiles: tuple[str, ...] = ()
    variants: tuple[str, ...] = ()
    versions: Mapping[str, Version] | None = None
    options: Mapping[tuple[str, str], bool] | None = None
    recipe: str = ""
    version: Version | None = None

    def of_recipe(self, recipe: str, version: Version | None) -> Circumstances:
        """The circumstances for one recipe's conditions, with its version when it is known."""
        return msgspec.structs.replace(self, recipe=recipe, version=version)


def words_of(value: Any) -> list[str]:
    """The words of a condition, which is one text or a list."""
    return [value] if isinstance(value, str) else list(value or ())


def holds(when: Mapping[str, Any], now: Circumstances) -> bool | None:
    """Whether all conditions of a `[[when]]` are met; None when that is not known yet."""
    unknown = False
    for key in (*EARLY, *LATE):
        words = words_of(when.get(key))
        if words:
            answer = _any_of(words, _TESTS[key], now)
            if answer is False:
                return False
            unknown = unknown or answer is None
    return None if unknown else True


def option_words(when: Mapping[str, Any], recipe: str) -> list[tuple[str, str, bool]]:
    """The options that a `[[when]]` asks about: recipe, option, and whether it has to be on."""
    found = []
    for word in words_of(when.get("option")):
        on = not word.startswith("-")
        named = _OPTION_OF.match(word.removeprefix("-"))
        found.append((named["recipe"], named["option"], on) if named else (recipe, word.removeprefix("-"), on))
    return found


def version_words(when: Mapping[str, Any], recipe: str) -> list[tuple[str, str]]:
    """The recipes whose version a `[[when]]` asks about, with the wish as text."""
    found = []
    for word in words_of(when.get("version")):
        named = _VERSION_OF.match(word)
        found.append((named["recipe"], named["wish"]) if named else (recipe, word))
    return found


def _any_of(words: Iterable[str], test: Callable[[str, Circumstances], bool | None], now: Circumstances) -> bool | None:
    """Any of the words without `-`, and none of those with it."""
    wanted: list[bool | None] = []
    unwanted: list[bool | None] = []
    for word in words:
        (unwanted if word.startswith("-") else wanted).append(test(word.removeprefix("-"), now))
    if True in unwanted or (wanted and True not in wanted and None not in wanted):
        return False
    return None if None in unwanted or (wanted and True not in wanted) else True


def _version_test(word: str, now: Circumstances) -> bool | None:
    ((recipe, wish),) = version_words({"version": word}, now.recipe)
    if recipe == now.recipe and now.version is not None:
        return parse_wish(wish).allows(now.version)
    if now.versions is None:
        return None
    version = now.versions.get(recipe)
    return version is not None and parse_wish(wish).allows(version)


def _option_test(word: str, now: Circumstances) -> bool | None:
    if now.options is None:
        return None
    ((recipe, option, _),) = option_words({"option": word}, now.recipe)
    return now.options.get((recipe, option), False)


_TESTS: dict[str, Callable[[str, Circumstances], bool | None]] = {
    "arch": lambda word, now: word == now.arch,
    "board": lambda word, now: word in now.boards,
    "profile": lambda word, now: word in now.profiles,
    "variant": lambda word, now: word in now.variants,
    "version": _version_test,
    "option": _option_test,
}
