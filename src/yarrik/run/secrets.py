"""Secrets of definitions: named there, kept on this machine, and never written anywhere in clear."""

from __future__ import annotations

import hashlib
import os
import stat
import sys
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from yarrik.errors import Place, Trouble, YarrikError, shown_path
from yarrik.model import Definition, Recipe, SecretPlace

#: Where a secret is looked for that no setting speaks of: this, and its name in capitals with `_` for `-`.
VARIABLE = "YARRIK_SECRET_"
_LARGEST = 4096
#: Rounds of a password's hash: 40 ms here, and less than a second on the slowest boards, at each login.
ROUNDS = 20_000
_SALT = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"


class Secret:
    """A secret's text, which no message, trace or comparison shows."""

    __slots__ = ("text",)

    def __init__(self, text: str) -> None:
        self.text = text

    def __repr__(self) -> str:
        return "(secret)"


def read_secret(name: str, places: Mapping[str, SecretPlace], asked_at: Place) -> Secret:
    """The secret of this name, from where the settings say, else from the environment. `asked_at` is who names it.

    Raises YarrikError for one that is not there, empty, of several lines, or open to others."""
    place = places.get(name, SecretPlace())
    variable = place.environment or ("" if place.file else _variable(name))
    if place.environment and place.file:
        raise YarrikError(Trouble("SECRET-FORM", f"the settings keep the secret `{name}` both in a variable and in a file",
                                  asked_at, remedy=f"remove one: yarrik settings set secrets.{name}.file="))  # fmt: skip
    if place.file:
        text, what = _from_file(name, Path(place.file), asked_at), f"the file {shown_path(Path(place.file))}"
    else:
        sys.audit("yarrik.secret", variable)
        found = os.environ.get(variable)
        if found is None:
            raise YarrikError(
                Trouble("SECRET-MISSING", f"the secret `{name}` is not known on this machine", asked_at,
                        why=f"the variable {variable} is not set"
                        + ("" if place.environment else ", and no setting names another place"),
                        remedy=f"set {variable} for this build, or keep it in a file of yours: "
                        f"yarrik settings set secrets.{name}.file=PATH")
            )  # fmt: skip
        text, what = found, f"the variable {variable}"
    if not text or not text.isprintable() or len(text) > _LARGEST:
        reason = "empty" if not text else "too long" if len(text) > _LARGEST else "not text on one line"
        raise YarrikError(Trouble("SECRET-FORM", f"the secret `{name}` is {reason}", asked_at, why=f"it comes from {what}",
                                  remedy="correct it there"))  # fmt: skip
    return Secret(text)


def _variable(name: str) -> str:
    return VARIABLE + name.upper().replace("-", "_").replace(".", "_").replace("+", "_")


def _from_file(name: str, file: Path, asked_at: Place) -> str:
    try:
        # Opening a pipe or device must not wait for somebody.
        with os.fdopen(os.open(file, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC), "rb") as opened:
            status = os.fstat(opened.fileno())
            if not stat.S_ISREG(status.st_mode):
                raise YarrikError(Trouble("SECRET-FORM", f"{shown_path(file)} is no plain file", asked_at,
                                          why=f"the settings name it for the secret `{name}`",
                                          remedy="name a file"))  # fmt: skip
            if status.st_mode & 0o077:
                raise YarrikError(
                    Trouble("SECRET-OPEN", f"others can read {shown_path(file)} (its mode is {status.st_mode & 0o777:04o})",
                            asked_at, why=f"it holds the secret `{name}`", remedy=f"chmod 600 {shown_path(file)}")
                )  # fmt: skip
            text: str = opened.read(_LARGEST + 2).decode()
            return text.removesuffix("\n").removesuffix("\r")
    except UnicodeDecodeError:
        return "\0"  # refused like any other text that is none
    except OSError as error:
        raise YarrikError(
            Trouble("SECRET-MISSING", f"cannot read {shown_path(file)}: {error.strerror}", asked_at,
                    why=f"the settings name it for the secret `{name}`",
                    remedy=f"put it there, or name another place: yarrik settings set secrets.{name}.file=PATH")
        ) from error  # fmt: skip


def password_hash(secret: Secret, product: str, account: str) -> str:
    """The form of crypt(5) with SHA-512. The salt follows from the names alone, so the same secret gives the same image; it is
    another one for each product and account, so nobody sees who has the same password."""
    from passlib.hash import sha512_crypt

    seed = hashlib.sha256(f"yarrik password\0{product}\0{account}".encode()).digest()
    salt = "".join(_SALT[byte & 63] for byte in seed[:16])
    form: Any = sha512_crypt
    return str(form.using(salt=salt, rounds=ROUNDS).hash(secret.text))


def let_in_secrets(recipes: Iterable[Definition[Recipe]], places: Mapping[str, SecretPlace]) -> Iterator[Trouble]:
    """Recipes that let a variable into their builds that holds a secret: it would be in the cache, in clear."""
    named = {place.environment: name for name, place in places.items() if place.environment}
    for recipe in recipes:
        for variable in recipe.value.build.let_in:
            if variable in named or variable.startswith(VARIABLE):
                whose = f"the secret `{named[variable]}`" if variable in named else "a secret"
                what = f"`{recipe.name}` lets the variable {variable} in, which holds {whose}"
                yield Trouble("SECRET-LET-IN", what, recipe.place_of(variable, "build", "let-in"),
                              why="what a build sees is written down in clear in the cache's records",
                              remedy="take it out of `let-in`; images name secrets, as `password-secret`")  # fmt: skip
