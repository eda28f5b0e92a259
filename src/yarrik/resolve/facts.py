"""What a question is about, and why its clauses hold, as values. `sentences.py` alone turns them into words."""

from __future__ import annotations

from collections.abc import Callable
from enum import Enum
from typing import Literal

import msgspec

from yarrik.errors import Place
from yarrik.model import HOST_MARK

Side = Literal["board", "host"]
ThingKind = Literal["product", "recipe", "option", "package", "role", "group"]

FactKind = Literal[
    "product", "asked", "needs", "yields", "option needs", "excludes", "exclusive role", "one of", "answered by",
    "option asked", "version asked", "refused", "unknown", "unknown option", "decided", "only with", "replaces",
]  # fmt: skip


class Node(msgspec.Struct, frozen=True, order=True):
    """A recipe built for one side: for the board, or as a tool for the build host."""

    recipe: str
    side: Side

    def __str__(self) -> str:
        return self.recipe if self.side == "board" else f"{self.recipe}{HOST_MARK}"


class Relation(Enum):
    """How one thing leads to another."""

    #: A product asks for it.
    ASKED = "asked"
    #: A recipe's build is linked with it.
    BUILD = "build"
    #: A recipe's build runs it on the build host.
    TOOL = "tool"
    #: A recipe's build, or a board, takes a file that its build makes.
    OUTPUT = "output"
    #: An option needs it: another option of its recipe, or a recipe.
    OPTION = "option"
    #: A package needs it on the board.
    RUN_TIME = "run time"
    #: A group has it as a member.
    MEMBER = "member"
    #: A recipe's package may hold libraries that programs load that are built with the recipe.
    LIBRARIES = "libraries"
    #: A package is one of a recipe's.
    PACKAGE_OF = "package of"
    #: A package has the role.
    ROLE = "role"
    #: A package or group recommends it.
    RECOMMENDED = "recommended"


class Thing(msgspec.Struct, frozen=True):
    """What a variable stands for. Recipes and options have a side; `option` is an option's name."""

    kind: ThingKind
    name: str
    side: Side = "board"
    option: str = ""

    def __str__(self) -> str:
        host = HOST_MARK if self.side == "host" else ""
        if self.kind == "option":
            return f"{self.name}[{self.option}]{host}"
        return f"@{self.name}{host}" if self.kind == "group" else f"{self.name}{host}"


class Asker(msgspec.Struct, frozen=True):
    """The definition that asks for something on behalf of a product; `part` is what it is asked for as, like `init`. What is
    asked for as a part cannot be left out."""

    kind: Literal["image", "profile", "board"]
    name: str
    part: str = ""


class Missing(msgspec.Struct, frozen=True):
    """A name that nothing answers to: a recipe, package or role, a group, or an option of a recipe (`in_some`: only some of its
    versions lack it)."""

    kind: Literal["name", "group", "option"]
    name: str
    option: str = ""
    in_some: bool = False


class Fact(msgspec.Struct, frozen=True, eq=False):
    """Why a clause holds: a line that somebody wrote, or what follows from a recipe's form.

    `wanted` is the object as written: a requirement, a role, a recipe, a version. `conditions` are options, by recipe ("" for
    the subject's own), that have to be on or off for the fact to count. Where it is said, and what to do about it, makes no
    other fact of it."""

    kind: FactKind
    subject: Thing
    wanted: str = ""
    relation: Relation | None = None
    asker: Asker | None = None
    conditions: tuple[tuple[str, str, bool], ...] = ()
    #: The options of a choice.
    choices: tuple[str, ...] = ()
    #: What an option is asked to be.
    on: bool = True
    #: What nothing answers to, when the fact is that.
    missing: Missing | None = None
    find_place: Callable[[], Place] = Place
    remedy: str = ""
    #: The recipe of which no version is as the line asks for.
    unanswered: Thing | None = None

    @property
    def place(self) -> Place:
        """The file, line and key that state the fact."""
        return self.find_place()

    @property
    def _said(self) -> tuple[object, ...]:
        return (self.kind, self.subject, self.wanted, self.relation, self.asker, self.conditions, self.choices, self.on,
                self.missing)  # fmt: skip

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Fact) and self._said == other._said

    def __hash__(self) -> int:
        return hash(self._said)


class Link(msgspec.Struct, frozen=True, eq=False):
    """One thing leads to another in an answer, by a line at `place`. `wanted` is the object as written, `option` the source's
    option that is on for it. Another line that says the same makes no other link."""

    source: Thing
    target: Thing
    relation: Relation
    wanted: str = ""
    option: str = ""
    conditions: tuple[tuple[str, str, bool], ...] = ()
    asker: Asker | None = None
    find_place: Callable[[], Place] = Place

    @property
    def place(self) -> Place:
        """The file, line and key that ask for the link's target."""
        return self.find_place()

    @property
    def _said(self) -> tuple[object, ...]:
        return self.source, self.target, self.relation, self.wanted, self.option, self.conditions, self.asker

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Link) and self._said == other._said

    def __hash__(self) -> int:
        return hash(self._said)
