"""`yarrik.lock`: what each product resolved to, and the exact sources; sorted, one fact a line, to be read in a diff."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from yarrik.atomic import write_file
from yarrik.errors import Collector, Place, Trouble, Unfit
from yarrik.model import Definable, convert, read_document
from yarrik.patterns import lazy_pattern
from yarrik.versions import Version

if TYPE_CHECKING:
    from yarrik.resolve.accounts import Settled
    from yarrik.resolve.answer import Answer
    from yarrik.resolve.facts import Side

LOCK_FILE = "yarrik.lock"
_HEAD = (
    "# Written by Yarrik, to be committed: what this workspace was built from. Move it with `yarrik resolve --update NAME`.\n"
)
_DIGEST = lazy_pattern(r"[0-9a-f]{64}\Z")
_BARE = lazy_pattern(r"[A-Za-z0-9_-]+\Z")


class LockedProduct(Definable, frozen=True, kw_only=True):
    """A product's answer: versions for the board and of tools, options as `RECIPE[OPTION]`, roles, compilers by side, and the
    SHA-256 of the terms that it is under. `users` and `groups` are the numbers that were chosen for accounts."""

    versions: dict[str, str] = msgspec.field(default_factory=dict)
    tools: dict[str, str] = msgspec.field(default_factory=dict)
    options: dict[str, bool] = msgspec.field(default_factory=dict)
    roles: dict[str, str] = msgspec.field(default_factory=dict)
    packages: dict[str, str] = msgspec.field(default_factory=dict)
    compilers: dict[str, str] = msgspec.field(default_factory=dict)
    terms: dict[str, str] = msgspec.field(default_factory=dict)
    users: dict[str, int] = msgspec.field(default_factory=dict)
    groups: dict[str, int] = msgspec.field(default_factory=dict)

    @staticmethod
    def of(answer: Answer, terms: Mapping[str, str], compilers: Mapping[str, str], accounts: Settled) -> LockedProduct:
        """What the lock keeps of an answer; `compilers` are identities by side, `terms` SHA-256 digests by kind and name."""
        catalog = answer.universe.catalog
        return LockedProduct(
            versions={node.recipe: str(version) for node, version in answer.versions.items() if node.side == "board"},
            tools={node.recipe: str(version) for node, version in answer.versions.items() if node.side == "host"},
            options={f"{node.recipe}[{option}]": on
                     for (node, option), on in answer.options.items() if node.side == "board"},
            roles=dict(answer.roles),
            packages={name: (catalog.recipes_with(name) or [""])[0] for name in answer.packages},
            compilers=dict(compilers),
            terms=dict(terms),
            users=dict(accounts.users),
            groups=dict(accounts.groups),
        )  # fmt: skip

    def preferences(self, moving: Iterable[str] | None) -> tuple[dict[tuple[str, Side], Version], dict[str, str]]:
        """Versions and roles to stay with; those in `moving` are let go, with None everything is."""
        if moving is None:
            return {}, {}
        free = set(moving)
        versions: dict[tuple[str, Side], Version] = {}
        for side, known in (("board", self.versions), ("host", self.tools)):
            for name, text in known.items():
                if name not in free:
                    versions[(name, side)] = Version(text)  # type: ignore[index]
        return versions, {role: package for role, package in self.roles.items() if role not in free}


class LockedDebian(Definable, frozen=True, kw_only=True):
    """A Debian source package: its whole version, its folder below an archive's address, and the SHA-256 of its files."""

    version: str
    folder: str
    files: dict[str, str]


class LockFile(Definable, frozen=True, kw_only=True):
    """The whole file. `shelves` has versions by name, `commits` those of shelves from git; `sources` has SHA-256 digests by
    recipe and the file that the build host provided, `debian` source packages by name and the version that was asked for."""

    shelves: dict[str, str] = msgspec.field(default_factory=dict)
    commits: dict[str, str] = msgspec.field(default_factory=dict)
    sources: dict[str, str] = msgspec.field(default_factory=dict)
    debian: dict[str, LockedDebian] = msgspec.field(default_factory=dict)
    product: dict[str, LockedProduct] = msgspec.field(default_factory=dict)


class Moved(msgspec.Struct, frozen=True):
    """A fact of the lock that is not what would be built now; None where there is none on that side."""

    what: str
    before: str | None
    after: str | None

    def __str__(self) -> str:
        if self.before is None:
            return f"{self.what}: {self.after} is new"
        return f"{self.what}: {self.before} is gone" if self.after is None else f"{self.what}: {self.before} → {self.after}"


_WORDS = {
    "versions": "",
    "tools": "tool ",
    "options": "option ",
    "roles": "role ",
    "packages": "package ",
    "compilers": "compiler for the ",
    "terms": "terms of the ",
    "users": "number of the user ",
    "groups": "number of the group ",
}


def moved(before: LockedProduct, after: LockedProduct) -> list[Moved]:
    """Each fact that differs."""
    found = []
    for key, word in _WORDS.items():
        old, new = getattr(before, key), getattr(after, key)
        for name in sorted(old.keys() | new.keys()):
            if old.get(name) != new.get(name):
                found.append(Moved(f"{word}{name}", _shown(old.get(name)), _shown(new.get(name))))
    return found


def _shown(value: object) -> str | None:
    if isinstance(value, str) and _DIGEST.match(value):
        return value[:12]
    return {True: "on", False: "off"}.get(value, str(value)) if value is not None else None  # type: ignore[call-overload]


class Lock(msgspec.Struct):
    """The lock of one workspace; `changed` tells whether it has to be written."""

    file: Path
    sources: dict[str, str] = msgspec.field(default_factory=dict)
    products: dict[str, LockedProduct] = msgspec.field(default_factory=dict)
    shelves: dict[str, str] = msgspec.field(default_factory=dict)
    commits: dict[str, str] = msgspec.field(default_factory=dict)
    debian: dict[str, LockedDebian] = msgspec.field(default_factory=dict)
    changed: bool = False
    #: What was written last.
    _written: str = ""

    def check(self, recipe: str, host_file: str, digest: str, asked_at: Place, renew: bool) -> Trouble | None:
        """Compares a file's digest with the locked one, or locks it when there is none (or `renew` is set)."""
        key = f"{recipe} {host_file}"
        known = self.sources.get(key)
        if known == digest:
            return None
        if known is None or renew:
            self.sources[key] = digest
            self.changed = True
            return None
        return Trouble(
            "SOURCE-CHANGED",
            f"{host_file} is not the file that {LOCK_FILE} pins for `{recipe}`: "
            f"pinned is SHA-256 {known}, the file has {digest}",
            asked_at,
            why="the build would not be the one that was recorded; a package upgrade on this machine can replace the file",
            remedy="install the former version of the package, or accept the new file with `yarrik build --renew-lock`",
        )

    def hold(self, product: str, locked: LockedProduct, shelves: Mapping[str, str]) -> None:
        """Takes an answer in."""
        if self.products.get(product) != locked or self.shelves != shelves:
            self.products[product] = locked
            self.shelves = dict(shelves)
            self.changed = True

    def hold_debian(self, asked: str, locked: LockedDebian) -> None:
        """Takes a Debian source package in, by its name and the version that was asked for."""
        if self.debian.get(asked) != locked:
            self.debian[asked] = locked
            self.changed = True

    def pin(self, commits: Mapping[str, str]) -> None:
        """Pins the commits of shelves from git, and forgets all others."""
        if self.commits != commits:
            self.commits = dict(commits)
            self.changed = True

    @property
    def text(self) -> str:
        """What is written in the file."""
        return self._written if self._written and not self.changed else self._rendered()

    def _rendered(self) -> str:
        lines = [_HEAD]
        lines += _table("shelves", self.shelves)
        lines += _table("commits", self.commits)
        lines += _table("sources", self.sources)
        for asked, package in sorted(self.debian.items()):
            lines += _table(f"debian.{_key(asked)}", {"version": package.version, "folder": package.folder})
            lines += _table(f"debian.{_key(asked)}.files", package.files)
        for product, locked in sorted(self.products.items()):
            for key in _WORDS:
                lines += _table(f"product.{_key(product)}.{key}", getattr(locked, key))
        return "".join(lines)

    def write(self) -> None:
        """Writes the file, whole or not at all."""
        self._written = self._rendered()
        write_file(self.file, self._written.encode(), durable=True)
        self.changed = False


def _table(name: str, values: Mapping[str, object]) -> list[str]:
    if not values:
        return []
    return [
        f"\n[{name}]\n",
        *(f"{_key(key)} = {_text(value)}\n" for key, value in sorted(values.items())),
    ]


def _key(text: str) -> str:
    return text if _BARE.match(text) else _text(text)


def _text(value: object) -> str:
    """A value in TOML: these are written as in JSON."""
    return msgspec.json.encode(value).decode()


def read_lock(root: Path) -> Lock:
    """The lock in a workspace's folder; an empty one when there is no file yet. Raises YarrikError."""
    file = root / LOCK_FILE
    if not file.exists():
        return Lock(file)
    locked = convert(read_document(file), LockFile)
    collector = Collector()
    for product, one in locked.product.items():
        for key, versions in (("versions", one.versions), ("tools", one.tools)):
            for name, text in versions.items():
                try:
                    Version(text)
                except Unfit as error:
                    place = Place(file, key=f"product.{product}.{key}.{name}")
                    collector.add(
                        Trouble("LOCK-DAMAGED", f"yarrik.lock does not read: {error}", place,
                                why="it keeps versions as they were resolved",
                                remedy="take it from version control, or remove it and run yarrik resolve")
                    )  # fmt: skip
    collector.raise_if_any()
    return Lock(
        file, dict(locked.sources), dict(locked.product), dict(locked.shelves), dict(locked.commits), dict(locked.debian)
    )
