"""Choosing a product's board, profile, packages and options: edits of its TOML, each tried by the solver before it is saved."""

from __future__ import annotations

import difflib
import json
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, Literal

import msgspec
import tomlkit
from msgspec.structs import replace

from yarrik.atomic import write_file
from yarrik.errors import Place, Trouble, YarrikError, shown_path
from yarrik.model import Composition, Shelved, compose, parse_document
from yarrik.resolve import Answer, Node
from yarrik.run.session import Session

ChoicePage = Literal["board", "profile", "packages", "options"]
Mark = Literal["on", "along", "off"]


class Item(msgspec.Struct, frozen=True):
    """Something to choose: `mark` says whether it is chosen, comes along with something else, or is not there; `weight` are
    bytes in an image, as earlier builds tell, or None."""

    name: str
    what: str
    mark: Mark
    weight: int | None = None


class Verdict(msgspec.Struct, frozen=True):
    """What the solver says of a choice: packages of the image, what they weigh together (bytes), and how many of them were
    not built yet, so that nobody knows; or what is wrong with it."""

    packages: tuple[str, ...] = ()
    weight: int = 0
    unknown: int = 0
    troubles: tuple[Trouble, ...] = ()
    composition: Composition | None = None
    answer: Answer | None = None


class Effect(msgspec.Struct, frozen=True):
    """What choosing one more thing, or one less, would change."""

    brings: tuple[str, ...] = ()
    drops: tuple[str, ...] = ()
    weight: int = 0
    unknown: int = 0
    troubles: tuple[Trouble, ...] = ()


class _Sizes(msgspec.Struct):
    packages: list[dict[str, Any]] = []


class Choosing(msgspec.Struct):
    """One product while it is being changed. Nothing is written before `save`."""

    session: Session
    product: str
    file: Path = Path()
    text: str = ""
    #: What is in the file, and the texts before each change.
    original: str = ""
    undone: list[str] = msgspec.field(default_factory=list)
    _verdicts: dict[str, Verdict] = msgspec.field(default_factory=dict)

    def __post_init__(self) -> None:
        workspace = self.session.project.workspace
        shelved = workspace.shelved["product"][self.product]
        if self.product in workspace.layers:
            raise YarrikError(
                Trouble("CHOOSE-FILE", f"`{self.product}` is put together of a product file and what that includes",
                        Place(shelved.file), why="a change would have to say in which of them it belongs",
                        remedy="edit the file; or make a workspace of it: yarrik workspace from FILE")
            )  # fmt: skip
        _ = shelved.document  # raises what is wrong with it
        self.file = shelved.file
        self.original = self.text = self.file.read_text(encoding="utf-8")

    # Looking

    def items(self, page: ChoicePage) -> list[Item]:
        """What there is to choose on a page, by name."""
        workspace = self.session.project.workspace
        now = self.verdict()
        if page in ("board", "profile"):
            chosen = str(tomlkit.parse(self.text).get(page, ""))
            return [Item(name, str(one.document.raw.get("summary", "")), "on" if name == chosen else "off")
                    for name, one in sorted(workspace.readable(page))]  # fmt: skip
        if page == "packages":
            asked = set(now.composition.image.value.packages) if now.composition is not None else set()
            weights = self.weights
            return [Item(name, what, "on" if name in asked else "along" if name in now.packages else "off", weights.get(name))
                    for name, what in sorted(self._packages())]  # fmt: skip
        return list(self._options(now))

    def _packages(self) -> Iterator[tuple[str, str]]:
        workspace = self.session.project.workspace
        for name, one in workspace.readable("recipe"):
            raw = one.document.raw
            summary = str(raw.get("summary", ""))
            for package, rule in raw.get("package", {name: {}}).items():
                yield package, str(rule.get("summary", "")) or summary
        for name, one in workspace.readable("group"):
            yield f"@{name}", str(one.document.raw.get("summary", "")) or "a group of packages"

    def _options(self, now: Verdict) -> Iterator[Item]:
        """The options of the recipes that are in the product."""
        if now.answer is None:
            return
        names = sorted({node.recipe for node in now.answer.versions if node.side == "board"})
        for name in names:
            for option, rule in sorted(now.answer.recipe(Node(name, "board")).value.options.items()):
                on = now.answer.options.get((Node(name, "board"), option), rule.default)
                yield Item(f"{name}[{option}]", rule.summary, "on" if on else "off")

    @property
    def weights(self) -> dict[str, int]:
        """Bytes of packages in the images that were built here, by name."""
        found: dict[str, int] = {}
        for manifest in sorted((self.session.project.root / "out").glob("*/packages.json")):
            try:
                rows = msgspec.json.decode(manifest.read_bytes(), type=_Sizes).packages
            except (OSError, msgspec.DecodeError):
                continue
            found |= {str(row["name"]): int(row["bytes"]) for row in rows if "name" in row and "bytes" in row}
        return found

    def verdict(self, text: str | None = None) -> Verdict:
        """What the solver says of the product as it is now, or with another text of its file."""
        text = self.text if text is None else text
        if text not in self._verdicts:
            self._verdicts[text] = self._tried(text)
        return self._verdicts[text]

    def _tried(self, text: str) -> Verdict:
        workspace = self.session.project.workspace
        known = workspace.shelved["product"]
        composition = None
        try:
            document = parse_document(text.encode(), self.file)
            product = Shelved(self.product, known[self.product].shelf, str(self.file), None, document)
            products = {**known, self.product: product}
            tried = replace(workspace, shelved={**workspace.shelved, "product": products})
            composition = compose(tried, self.product)
            answer = self.session.planner.answer(composition)
        except YarrikError as error:
            return Verdict(troubles=self.session.project.with_offers(error).troubles, composition=composition)
        weights = self.weights
        packages = tuple(sorted(answer.packages))
        total = sum(weights.get(name, 0) for name in packages)
        unknown = sum(name not in weights for name in packages)
        return Verdict(packages, total, unknown, (), composition, answer)

    def effect(self, page: ChoicePage, name: str) -> Effect:
        """What choosing (or leaving) this would bring, drop or break."""
        now, then = self.verdict(), self.verdict(self._with(page, name))
        if then.troubles:
            return Effect(troubles=then.troubles)
        before, after = set(now.packages), set(then.packages)
        unknown = sum(name not in self.weights for name in after - before)
        return Effect(tuple(sorted(after - before)), tuple(sorted(before - after)), then.weight - now.weight, unknown)

    # Changing

    def choose(self, page: ChoicePage, name: str) -> None:
        """Chooses a board or profile; turns a package or option on or off."""
        text = self._with(page, name)
        if text != self.text:
            self.undone.append(self.text)
            self.text = text

    def undo(self) -> bool:
        """Takes the last change back; False when there is none."""
        if not self.undone:
            return False
        self.text = self.undone.pop()
        return True

    def _with(self, page: ChoicePage, name: str) -> str:
        """The file's text with one more change; comments and order stay."""
        document = tomlkit.parse(self.text)
        if page in ("board", "profile"):
            document[page] = name
        elif page == "packages":
            asked = self.verdict().composition
            on = asked is not None and name in asked.image.value.packages
            _toggle_package(document, name, on)
        else:
            recipe, _, option = name.removesuffix("]").partition("[")
            on = next((one.mark == "on" for one in self.items("options") if one.name == name), False)
            options = document.setdefault("options", tomlkit.table(is_super_table=True))
            options.setdefault(recipe, tomlkit.table())[option] = not on
        return tomlkit.dumps(document)

    # Saving

    def difference(self) -> list[str]:
        """The lines of a unified difference between the file and what would be written; none when they are the same."""
        name = shown_path(self.file)
        return list(difflib.unified_diff(self.original.splitlines(), self.text.splitlines(), name, name, lineterm=""))

    def save(self) -> None:
        """Writes the file, whole or not at all. Raises YarrikError when somebody has changed it since it was read."""
        try:
            if self.file.read_text(encoding="utf-8") != self.original:
                raise YarrikError(
                    Trouble("CHOOSE-CHANGED", f"{shown_path(self.file)} was changed while you were choosing", Place(self.file),
                            why="saving would lose that change", remedy="look at the file, then choose again")
                )  # fmt: skip
            write_file(self.file, self.text.encode())
        except OSError as error:
            raise YarrikError(Trouble("NEW-UNWRITABLE", f"{shown_path(self.file)} cannot be written: {error.strerror}",
                                      Place(self.file), remedy="make room, or the file writable")) from error  # fmt: skip
        self.original = self.text
        self.undone.clear()


def _toggle_package(document: tomlkit.TOMLDocument, name: str, on: bool) -> None:
    """Adds a package to the product's changes of the image, or takes it out."""
    image = document.setdefault("set", tomlkit.table(is_super_table=True)).setdefault("image", tomlkit.table())
    packages = image.get("packages")
    if isinstance(packages, list):  # the product replaces the list
        if on:
            packages.remove(name)
        else:
            packages.append(name)
        return
    here, there = ("remove", "add") if on else ("add", "remove")
    known = dict(packages or {})
    if name in known.get(there, ()):
        packages[there].remove(name)
        if not packages[there]:
            del packages[there]
    elif here in known:
        packages[here].append(name)
    elif packages is not None:
        packages[here] = [name]
    else:
        image.append(tomlkit.key(["packages", here]), tomlkit.item([name]))
    _drop_empty(document, image)


def _drop_empty(document: tomlkit.TOMLDocument, image: Any) -> None:
    """Tables that a change has left empty would only puzzle the next reader."""
    if "packages" in image and not image["packages"]:
        del image["packages"]
    if not image:
        del document["set"]["image"]
    if not document["set"]:
        del document["set"]


def choices_as_json(choosing: Choosing, pages: Sequence[ChoicePage]) -> str:
    """What there is to choose, for programs."""
    found = {page: [msgspec.to_builtins(one) for one in choosing.items(page)] for page in pages}
    verdict = choosing.verdict()
    return json.dumps({"ok": not verdict.troubles, "product": choosing.product, "packages": list(verdict.packages),
                       "weight": verdict.weight, "choices": found,
                       "troubles": [one.as_json() for one in verdict.troubles]}, indent=1)  # fmt: skip
