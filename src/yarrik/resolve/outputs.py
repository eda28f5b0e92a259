"""Files that recipes make for others: who takes which, as `RECIPE:OUTPUT`, and where that is written."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from functools import partial
from typing import TYPE_CHECKING

from yarrik.model import output_of
from yarrik.patterns import lazy_pattern

if TYPE_CHECKING:
    from yarrik.errors import Place
    from yarrik.model import Board, Definition, Recipe

#: `{RECIPE:OUTPUT}` in a text: a name with a colon and no blank. `{image:NAME}` is a disk of the emulator.
_IN_TEXT = lazy_pattern(r"\{([a-z0-9][a-z0-9+.-]*):([A-Za-z0-9][A-Za-z0-9._+-]*)\}")


def outputs_in(text: str) -> list[tuple[str, str]]:
    """Recipes and outputs that a text names as `{RECIPE:OUTPUT}`."""
    return [(recipe, output) for recipe, output in _IN_TEXT.findall(text) if recipe != "image"]


def with_outputs(text: str, path: Callable[[str, str], str]) -> str:
    """The text with each `{RECIPE:OUTPUT}` replaced by its path."""
    return _IN_TEXT.sub(lambda match: match[0] if match[1] == "image" else path(match[1], match[2]), text)


def taken_outputs(recipe: Recipe) -> list[tuple[str, str]]:
    """Recipes and outputs that a recipe's sources and build take, each once."""
    texts = [*(source.output for source in recipe.source if source.output is not None), *recipe.build.takes]
    return list(dict.fromkeys(found for text in texts if (found := output_of(text)) is not None))


def recipe_outputs(recipe: Definition[Recipe]) -> Iterator[tuple[str, Callable[[], Place]]]:
    """The outputs that a recipe takes, as written, with their places."""
    for number, source in enumerate(recipe.value.source):
        if source.output is not None:
            yield source.output, partial(recipe.place, "source", str(number), "output")
    for number, text in enumerate(recipe.value.build.takes):
        yield text, partial(recipe.place, "build", "takes", str(number))


def board_outputs(board: Definition[Board]) -> list[tuple[str, Callable[[], Place]]]:
    """The outputs that a board names, as written, each once with its first place."""
    boot, emulator = board.value.boot, board.value.emulator
    found: list[tuple[str, tuple[str, ...]]] = []
    for number, disk in enumerate(board.value.disk):
        where = ("disk", str(number))
        found += [(blob.file, (*where, "blob", str(index), "file")) for index, blob in enumerate(disk.blob)]
        found += [(part.file or "", (*where, "partition", str(index), "file")) for index, part in enumerate(disk.partition)]
    if boot.loader is not None:
        found.append((boot.loader.file or "", ("boot", "loader", "file")))
    found += [(one.file, ("boot", "file", str(index), "file")) for index, one in enumerate(boot.file)]
    found += [(one.file, ("boot", "part", str(index), "file")) for index, one in enumerate(boot.part)]
    if emulator is not None:
        found.append((emulator.bootloader, ("emulator", "bootloader")))
        for word in emulator.arguments:
            found += [(f"{recipe}:{output}", ("emulator", "arguments")) for recipe, output in outputs_in(word)]
    known: dict[str, Callable[[], Place]] = {}
    for text, keys in found:
        if output_of(text) is not None:
            known.setdefault(text, partial(board.place, *keys))
    return list(known.items())


def emulator_outputs(board: Board) -> list[str]:
    """The outputs that the board's emulator starts with: they are published beside the image."""
    if board.emulator is None:
        return []
    named = [f"{recipe}:{output}" for word in board.emulator.arguments for recipe, output in outputs_in(word)]
    return [text for text in dict.fromkeys([board.emulator.bootloader, *named]) if output_of(text) is not None]


def outputs_beside(board: Board, outputs: Mapping[str, tuple[str, str]]) -> dict[str, tuple[str, str]]:
    """What of these outputs is published in a product's folder: step and output, by path."""
    named = {text: outputs[text] for text in emulator_outputs(board)}
    return {published_path(text): (step, f"output:{name}") for text, (step, name) in named.items()}


def published_path(text: str) -> str:
    """Where an output is in the product's folder."""
    return "outputs/" + text.replace(":", "/")
