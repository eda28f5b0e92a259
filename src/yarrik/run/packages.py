"""Shares out what a recipe installed among its packages, and reads what the ELF files in them need."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

import msgspec
import msgspec.structs

from yarrik.cache import Entry, Tree
from yarrik.capabilities import ATTRIBUTE, encode_capabilities
from yarrik.elf import ElfFacts
from yarrik.errors import Collector, Damaged, Trouble, nearest
from yarrik.model import Attributes, PackageRule
from yarrik.patterns import lazy_pattern
from yarrik.plan import Split, shortened
from yarrik.resolve import BuiltPackage, PackagedPath
from yarrik.rootfs import quoted, unquoted
from yarrik.run.linked import Linked, by_recipe

#: What only serves building against a recipe: nobody has to list it, and it goes into no package by itself.
_FOR_BUILDING = lazy_pattern(
    r"usr/include(/.*)?|(usr/)?lib/([^/]+\.(a|la)|[A-Za-z]?crt[1in]\.o)|(usr/)?lib/(pkgconfig|cmake)(/.*)?|usr/share/(pkgconfig|man|doc)(/.*)?"
)
_LINK_NAME = lazy_pattern(r"(usr/)?lib/lib[^/]+\.so")


def split_packages(
    action: Split, tree: Tree, facts_of: Callable[[str], ElfFacts | None], linked: Sequence[Linked] = ()
) -> tuple[list[BuiltPackage], list[str]]:
    """The packages, and notes on files that none of them takes. `facts_of` reads an ELF file by digest;
    `linked` is what is linked into files statically.

    Raises YarrikError when a package lists what the build did not produce, or two list the same."""
    collector = Collector()
    taken: dict[str, str] = {}
    chosen: dict[str, dict[str, Entry]] = {name: {} for name in action.packages}
    produced = ["/" + entry.path for entry in tree.entries if entry.kind != "folder"]

    def take(name: str, pattern: str, found: list[Entry], missing: str) -> None:
        if not found and pattern != "**":
            near = nearest(pattern, produced)
            collector.add(
                Trouble(
                    "PACKAGE-FILE-MISSING",
                    f"the package `{name}` lists {pattern}, {missing}",
                    why=f"it produced {shortened(produced)}" if produced else "it installed nothing at all",
                    remedy=f"did you mean `{near}`?" if near else "let the recipe install it, or correct the list",
                )
            )
        for entry in found:
            other = taken.setdefault(entry.path, name)
            if other != name and entry.kind != "folder":
                collector.add(
                    Trouble("PACKAGE-FILE-TWICE", f"the packages `{other}` and `{name}` both take /{entry.path}",
                            remedy="list it in one of them")
                )  # fmt: skip
            chosen[name][entry.path] = entry

    for name, rule in action.packages.items():
        for pattern in rule.files or (("**",) if len(action.packages) == 1 and not rule.rest else ()):
            found = _matching(pattern, tree, everything=pattern == "**")
            take(name, pattern, found, f"which the build of `{action.recipe}` did not produce")
    listed = set(taken)
    for name, rule in action.packages.items():
        for pattern in rule.rest:
            found = [
                entry
                for entry in _matching(pattern, tree, everything=pattern == "**")
                if (entry.kind == "folder" or entry.path not in listed) and not _for_building(entry)
            ]
            nothing = f"of which the other packages of `{action.recipe}` leave nothing"
            take(name, pattern, found if any(entry.kind != "folder" for entry in found) else [], nothing)
    packages = [_package(action, name, rule, chosen[name], tree, facts_of, linked, collector)
                for name, rule in action.packages.items()]  # fmt: skip
    collector.raise_if_any("work")
    left = [
        "/" + entry.path
        for entry in tree.entries
        if entry.kind != "folder" and entry.path not in taken and not _for_building(entry)
    ]
    notes = [f"no package of `{action.recipe}` takes {shortened(left)}"] if left else []
    return packages, notes


def _for_building(entry: Entry) -> bool:
    return _FOR_BUILDING.fullmatch(entry.path) is not None or (
        entry.kind == "link" and _LINK_NAME.fullmatch(entry.path) is not None
    )


def _matching(pattern: str, tree: Tree, everything: bool) -> list[Entry]:
    """Entries that a pattern means; a folder means all that is in it."""
    if everything:
        return [entry for entry in tree.entries if not _for_building(entry)]
    parts = re.split(r"(\*\*|\*)", pattern.strip("/"))
    form = "".join(".*" if part == "**" else "[^/]*" if part == "*" else re.escape(part) for part in parts)
    compiled = re.compile(f"{form}(/.*)?", re.DOTALL)
    return [entry for entry in tree.entries if compiled.fullmatch(entry.path)]


def _package(
    action: Split,
    name: str,
    rule: PackageRule,
    chosen: dict[str, Entry],
    tree: Tree,
    facts_of: Callable[[str], ElfFacts | None],
    linked: Sequence[Linked],
    collector: Collector,
) -> BuiltPackage:
    owners = {attributes.path: attributes for attributes in rule.attributes}
    for path in owners:
        if path.strip("/") not in chosen:
            collector.add(
                Trouble("PACKAGE-ATTRIBUTES", f"the package `{name}` gives attributes to {path}, which it does not hold",
                        remedy="correct the path, or list it in `files`")
            )  # fmt: skip
    paths: list[PackagedPath] = []
    elf: dict[str, ElfFacts] = {}
    for path, entry in sorted(chosen.items()):
        if entry.kind == "folder" and entry.mode == 0o755 and "/" + path not in owners and _has_children(path, tree):
            continue  # made by itself for what lies in it
        attributes = owners.get("/" + path)
        mode = int(attributes.mode, 8) if attributes is not None and attributes.mode else entry.mode
        owner, group = (attributes.owner, attributes.group) if attributes is not None else ("root", "")
        extended = _extended(attributes) if attributes is not None else ()
        if extended and entry.kind == "link":
            what = f"the package `{name}` gives extended attributes or capabilities to the link /{path}"
            collector.add(Trouble("PACKAGE-ATTRIBUTES", what, remedy="name the file that it leads to"))
        paths.append(PackagedPath("/" + path, entry.kind, mode, entry.size, entry.content, owner, group, extended))
        if entry.kind == "file":
            try:
                facts = facts_of(entry.content)
            except Damaged:
                facts = None  # said when it was staged
            if facts is not None and facts.kind in ("program", "library"):
                elf["/" + path] = facts
    summary = rule.summary or action.summary
    statically = by_recipe(linked, ["/" + quoted(path) for path in chosen])
    return BuiltPackage(name, action.recipe, action.version, action.licence, summary, rule.needs, tuple(paths), elf, statically)


def _extended(attributes: Attributes) -> tuple[tuple[str, bytes], ...]:
    """The extended attributes of a path, sorted by name."""
    found = {name: value.encode() for name, value in attributes.extended.items()}
    if attributes.capabilities:
        found[ATTRIBUTE] = encode_capabilities(attributes.capabilities)
    return tuple(sorted(found.items()))


def _has_children(path: str, tree: Tree) -> bool:
    return any(entry.path.startswith(path + "/") for entry in tree.entries)


def encode_packages(packages: Sequence[BuiltPackage]) -> bytes:
    """Packages for the cache; names of any bytes survive."""
    return msgspec.json.encode([_renamed(package, quoted) for package in packages])


def decode_packages(data: bytes) -> list[BuiltPackage]:
    """The packages that a split step left. Raises msgspec.DecodeError."""
    return [_renamed(package, unquoted) for package in msgspec.json.decode(data, type=list[BuiltPackage])]


def _renamed(package: BuiltPackage, change: Callable[[str], str]) -> BuiltPackage:
    paths = tuple(
        msgspec.structs.replace(p, path=change(p.path), content=change(p.content) if p.kind == "link" else p.content)
        for p in package.paths
    )
    elf = {change(path): facts for path, facts in package.elf.items()}
    return msgspec.structs.replace(package, paths=paths, elf=elf)
