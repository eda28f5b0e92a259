"""Conditions that can never hold, or come too late, and settings that a derived board lost to one."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from yarrik.errors import Place, Trouble, Unfit, listed, suggestion
from yarrik.model.conditions import Circumstances, holds, option_words, version_words, words_of
from yarrik.model.definitions import Board
from yarrik.model.kinds import AMENDABLE
from yarrik.model.positions import KeyPath
from yarrik.model.reading import Definition, Document, Raw
from yarrik.model.workspace import Workspace
from yarrik.versions import Version, parse_wish

_ARCHES = ("arm64", "arm", "riscv64", "x86-64", "host")
#: Keys that decide what is resolved: what waits for that cannot set them. Lists of needs can be added to, though.
_DECIDE: dict[str, tuple[KeyPath, ...]] = {
    "board": (("arch",), ("kernel", "recipe"), ("kernel", "otherwise"), ("toolchain",), ("options",), ("versions",)),
    "profile": (("c-library",), ("init",), ("options",), ("versions",)),
    "image": (("packages",), ("refuse",), ("options",), ("versions",)),
    "recipe": (
        ("version",),
        ("versions",),
        ("options",),
        ("choice",),
        ("build", "using"),
        ("build", "needs"),
        ("build", "tools"),
    ),
}
#: What a board cannot boot without when its boards before had it.
VITAL = (("kernel", "device-tree"), ("boot", "loader"))


def lacks(board: Board) -> tuple[str, ...]:
    """The last keys of what a board needs to start, or is likely to, and does not have here."""
    return tuple(key[-1] for key in VITAL if not value_at(board, key))


def names_key(raw: object, keys: Collection[str]) -> bool:
    """Whether one of these keys is anywhere in a definition."""
    if isinstance(raw, dict):
        return not raw.keys().isdisjoint(keys) or any(names_key(value, keys) for value in raw.values())
    return isinstance(raw, list) and any(names_key(one, keys) for one in raw)


def _conditions(workspace: Workspace, kind: str, name: str) -> Iterator[tuple[Raw, Document]]:
    """All conditions of a definition, of what it extends, and of amendments to these; each with its own document."""
    for ancestor in reversed(workspace.ancestry(kind, name)):
        for document in workspace.documents_of(kind, ancestor):
            for index, when in enumerate(document.raw.get("when", ())):
                yield when, document.part("when", str(index))


def never_holding(workspace: Workspace, kind: str, name: str) -> list[Trouble]:
    """Conditions on names that nothing here has."""
    found = []
    for when, document in _conditions(workspace, kind, name):
        for key, known_kind in (("board", "board"), ("profile", "profile"), ("variant", "variant"), ("arch", "architecture")):
            known = _ARCHES if key == "arch" else workspace.shelved[known_kind]
            words = words_of(when.get(key))
            for word in words:
                name_ = word.removeprefix("-")
                if name_ in known:
                    continue
                others = [one for one in words if not one.startswith("-") and one in known]
                found.append(_unknown(known_kind, name_, word.startswith("-"), others, document.origin(key).place,
                                      suggestion(name_, known)))  # fmt: skip
        for recipe, option, _ in option_words(when, name if kind == "recipe" else ""):
            options = _options_of(workspace, recipe)
            if options is None or option not in options:
                what = f"no recipe is called `{recipe}`" if options is None else f"`{recipe}` has no option `{option}`"
                remedy = suggestion(recipe, workspace.shelved["recipe"]) if options is None else suggestion(option, options)
                found.append(_never(what, document.origin("option").place, remedy))
        for recipe, wish in version_words(when, name if kind == "recipe" else ""):
            versions = _versions_of(workspace, recipe)
            try:
                fits = versions is not None and any(parse_wish(wish).allows(Version(one)) for one in versions)
            except Unfit as error:
                found.append(_never(str(error), document.origin("version").place, "write it like `>= 2`"))
                continue
            if not fits:
                what = f"no recipe is called `{recipe}`" if versions is None else f"`{recipe}` has no version {wish.strip()}"
                remedy = (
                    suggestion(recipe, workspace.shelved["recipe"]) if versions is None else "there are " + ", ".join(versions)
                )
                found.append(_never(what, document.origin("version").place, remedy))
    return list(dict.fromkeys(found))


def _unknown(kind: str, name: str, excluded: bool, others: list[str], place: Place, remedy: str) -> Trouble:
    """A name in a condition that nothing has: what follows depends on how it stands there."""
    what = f"names {'an' if kind == 'architecture' else 'a'} {kind} that does not exist: `{name}`"
    if excluded:
        why = "it is to be excluded, so what the condition sets holds for all; it may be left over from a rename"
        return Trouble("CONDITION-NEVER", f"this condition {what}", place, why=why, remedy=remedy)
    if others:
        why = f"the condition holds for {listed(others, 'or')} only; the other name may be left over from a rename"
        return Trouble("CONDITION-NEVER", f"this condition {what}", place, why=why, remedy=remedy)
    return _never(f"no {kind} is called `{name}`", place, remedy)


def _never(what: str, place: Place, remedy: str) -> Trouble:
    return Trouble("CONDITION-NEVER", f"this condition can never hold: {what}", place,
                   why="what it sets has no effect; it may be left over from a rename", remedy=remedy)  # fmt: skip


def asked_options(workspace: Workspace) -> Iterator[tuple[str, str]]:
    """The options that a condition of any definition asks about: recipe and option."""
    for when, owner in _all_conditions(workspace):
        yield from ((recipe, option) for recipe, option, _ in option_words(when, owner))


def asked_versions(workspace: Workspace) -> set[str]:
    """The recipes whose version a condition of any definition asks about."""
    return {recipe for when, owner in _all_conditions(workspace) for recipe, _ in version_words(when, owner)}


def _all_conditions(workspace: Workspace) -> Iterator[tuple[Raw, str]]:
    """The conditions of all definitions, each with the recipe that it belongs to (empty for none)."""
    for kind in AMENDABLE:
        for name, _ in workspace.readable(kind):
            for document in workspace.documents_of(kind, name):
                yield from ((when, name if kind == "recipe" else "") for when in document.raw.get("when", ()))


def _options_of(workspace: Workspace, recipe: str) -> set[str] | None:
    if recipe not in workspace.shelved["recipe"]:
        return None
    return {option for document in workspace.documents_of("recipe", recipe)
            for part in (document.raw, document.raw.get("set", {})) for option in part.get("options", {})}  # fmt: skip


def _versions_of(workspace: Workspace, recipe: str) -> list[str] | None:
    if recipe not in workspace.shelved["recipe"]:
        return None
    value = workspace.recipes[recipe].value
    return [*value.versions, *([value.version] if value.version and value.version not in value.versions else [])]


def lost_settings(workspace: Workspace, board: Definition[Board], now: Circumstances) -> Iterator[Trouble]:
    """What a board would have if a condition were not keyed to another board's name, and cannot do without."""
    for when, document in _conditions(workspace, "board", board.name):
        names = [word for word in words_of(when.get("board")) if not word.startswith("-")]
        if not names or holds(when, now) is not False:
            continue
        for key in VITAL:
            inside: object = when["set"]
            for word in key:
                inside = inside.get(word) if isinstance(inside, dict) else None
            if inside and not value_at(board.value, key):
                dotted = ".".join(key)
                yield Trouble(
                    "BOARD-SETTING-LOST",
                    f"the board `{board.name}` has no `{dotted}`: the line that sets it holds for {' and '.join(names)} only",
                    document.origin("set", *key).place,
                    why=f"`{board.name}` is none of these and extends none of them, so it lost the setting",
                    remedy=f"let the condition name what `{board.name}` is or extends ({', '.join(now.boards)})",
                )


def value_at(definition: object, key: KeyPath) -> object:
    """The value of a key of a definition; None when it has none."""
    for word in key:
        definition = getattr(definition, word.replace("-", "_"), None)
    return definition


def too_late(workspace: Workspace, kind: str, name: str) -> Iterator[Trouble]:
    """Conditions on options and versions that set what decides on options and versions."""
    for when, document in _conditions(workspace, kind, name):
        own = name if kind == "recipe" else ""
        if not when.get("option") and all(recipe == own for recipe, _ in version_words(when, own)):
            continue
        part = document.part("set")
        for key in _DECIDE[kind]:
            value: object = part.raw
            for word in key:
                value = value.get(word) if isinstance(value, dict) else None
            adds = isinstance(value, dict) and set(value) == {"add"} and key[-1] in ("packages", "needs", "tools")
            if value is not None and not adds:
                yield Trouble(
                    "CONDITION-LATE", f"`{'.'.join(key)}` cannot depend on an option or version", part.origin(*key).place,
                    why="resolution depends on this key",
                    remedy="a list of needs can be added to: write `.add`" if key[-1] in ("packages", "needs", "tools") else
                    "set it without this condition, or by board, profile or variant",
                )  # fmt: skip
