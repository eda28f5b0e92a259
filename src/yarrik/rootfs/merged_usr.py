"""Merged `/usr`: `/bin`, `/sbin` and `/lib` are links into `/usr`, and what packages bring below them is placed through these.

The Filesystem Hierarchy Standard 3.0, section 3.1, lets a root filesystem have such links. Some software installs into `/lib`,
some into `/usr/lib`: both find the same folder then."""

from __future__ import annotations

import posixpath
from collections.abc import Iterable, Iterator, Mapping

from msgspec.structs import replace

from yarrik.cache import Entry, Tree

#: Folders that may be links to the folder of the same name below `usr`. The first three always are in a merged layout.
FOLDERS = ("bin", "sbin", "lib", "lib32", "lib64", "libx32")
_ALWAYS = FOLDERS[:3]


def links_into_usr(paths: Iterable[tuple[str, str, str]], merged: bool = False) -> dict[str, str]:
    """The links of a layout, `lib` to `usr/lib` and so on, from (path, kind, content) of all that is to lie in it.

    A package may bring such a link; with `merged` each folder that is used is one, unless a package says otherwise."""
    found: dict[str, str] = {}
    others: set[str] = set()
    used: set[str] = set(_ALWAYS if merged else ())
    for path, kind, content in paths:
        top, _, below = path.lstrip("/").partition("/")
        if top not in FOLDERS:
            continue
        if not below and kind == "link":
            if content.lstrip("/").rstrip("/") == f"usr/{top}":
                found[top] = f"usr/{top}"
            else:
                others.add(top)
        elif merged:
            used.add(top)
    return found | {top: f"usr/{top}" for top in sorted(used - others)}


def placed(path: str, links: Mapping[str, str]) -> str:
    """Where a path below such a link lies, with or without a `/` at its beginning, as `path` has it."""
    slash = "/" if path.startswith("/") else ""
    top, sign, below = path[len(slash) :].partition("/")
    return f"{slash}{links[top]}/{below}" if sign and top in links else path


def is_own_target(path: str, content: str, links: Mapping[str, str]) -> bool:
    """Whether a link leads to itself once it is placed, as `/sbin/init` to `/usr/sbin/init` does: then it is not needed."""
    target = posixpath.normpath(posixpath.join("/" + path.strip("/").rpartition("/")[0], content))
    return placed(target, links) == "/" + placed(path.strip("/"), links)


def links_of_trees(trees: Iterable[Tree]) -> dict[str, str]:
    """The links of these trees, `lib` to `usr/lib` and so on."""
    return links_into_usr((entry.path, entry.kind, entry.content) for tree in trees for entry in tree.entries)


def placed_trees(trees: Iterable[tuple[str, Tree]], links: Mapping[str, str] | None = None) -> list[tuple[str, Tree]]:
    """Trees that are to lie in one folder, each with a name: what lies below a link of one of them is placed through it in all;
    `links` are those of them and of what lies there already.

    Of a tree that brings such paths, those are a tree of their own, named with the folder that they came from."""
    known = list(trees)
    links = links_of_trees(tree for _, tree in known) if links is None else links
    return [part for name, tree in known for part in _parts(name, tree, links)] if links else known


def _parts(name: str, tree: Tree, links: Mapping[str, str]) -> Iterator[tuple[str, Tree]]:
    moved: dict[str, dict[str, Entry]] = {}
    kept: dict[str, Entry] = {}
    for entry in tree.entries:
        top, _, below = entry.path.partition("/")
        if top not in links or (not below and entry.kind == "link"):
            kept[entry.path] = entry
        elif below and not (entry.kind == "link" and is_own_target(entry.path, entry.content, links)):
            part = moved.setdefault(top, {path: Entry(path, "folder", 0o755, 0, "") for path in ("usr", links[top])})
            path = placed(entry.path, links)
            part[path] = replace(entry, path=path)
    yield name, Tree.of(kept.values())
    for top, part in moved.items():
        yield f"{name} in /{top}", Tree.of(one for path, one in part.items() if one.kind == "folder" or kept.get(path) != one)
