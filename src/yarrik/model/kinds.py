"""The kinds of definition, in one table: what a file of each holds, and what can be done with it."""

from __future__ import annotations

import msgspec

from yarrik.model.definitions import Amendment, Board, Definable, Group, Image, Product, Profile, Recipe, Variant


class Kind(msgspec.Struct, frozen=True):
    """`extends`: may take over another of its kind. `amendable`: another shelf may change it. `settable`: a variant, the
    command line or a condition may set its keys. `named`: a product names one."""

    name: str
    shape: type[Definable]
    extends: bool = False
    amendable: bool = False
    settable: bool = False
    named: bool = False


KINDS = (
    Kind("board", Board, extends=True, amendable=True, settable=True, named=True),
    Kind("profile", Profile, extends=True, amendable=True, settable=True, named=True),
    Kind("image", Image, extends=True, amendable=True, settable=True, named=True),
    Kind("product", Product, settable=True),
    Kind("recipe", Recipe, amendable=True, settable=True),
    Kind("variant", Variant),
    Kind("group", Group),
    Kind("amendment", Amendment),
)
#: How what is built for the build host is told from what is built for the board, behind a recipe's name.
HOST_MARK = " (host)"
SHAPES: dict[str, type[Definable]] = {kind.name: kind.shape for kind in KINDS}
EXTENDING = tuple(kind.name for kind in KINDS if kind.extends)
AMENDABLE = tuple(kind.name for kind in KINDS if kind.amendable)
SETTABLE: dict[str, type[Definable]] = {kind.name: kind.shape for kind in KINDS if kind.settable}
#: What a product is put together of.
NAMED: dict[str, type[Definable]] = {kind.name: kind.shape for kind in KINDS if kind.named}
#: What can be shown by its name.
SHOWN = tuple(kind.name for kind in KINDS if kind.name != "amendment")
