"""`icon-theme.cache`: which icons each folder of a theme has, so that programs need not search (GTK's docs/iconcache.txt).

All numbers are big-endian. Only the index is written: images are read from their files."""

from __future__ import annotations

import struct
from functools import cached_property
from typing import TYPE_CHECKING

import msgspec

from yarrik.patterns import lazy_pattern

if TYPE_CHECKING:
    from yarrik.rootfs.tree import Node, RootTree

THEMES = "/usr/share/icons"
ICON_CACHE = "icon-theme.cache"
_HEADER = struct.Struct(">HHII")  # MAJOR_VERSION, MINOR_VERSION, HASH_OFFSET, DIRECTORY_LIST_OFFSET
_ICON = struct.Struct(">III")  # CHAIN_OFFSET, NAME_OFFSET, IMAGE_LIST_OFFSET
_IMAGE = struct.Struct(">HHI")  # DIRECTORY_INDEX, ICON_FLAGS, IMAGE_DATA_OFFSET
_NONE = 0xFFFFFFFF
#: HAS_SUFFIX_XPM, HAS_SUFFIX_SVG, HAS_SUFFIX_PNG, HAS_ICON_FILE.
_FLAGS = {".xpm": 1, ".svg": 2, ".png": 4, ".icon": 8}
_GRAPHIC = lazy_pattern(r"[!-~]+")
_MOST_DEPTH = 8
_MOST_FOLDERS = 0xFFFF
_BUCKETS = (11, 37, 109, 251, 557, 1237, 2777, 6247, 14057, 31627, 71143, 160073)


def icon_themes(tree: RootTree) -> list[str]:
    """Folders of icon themes that have no cache yet, sorted."""
    prefix = THEMES + "/"
    found = [node.path.rpartition("/")[0] for node in tree.nodes if node.path.startswith(prefix) and node.name == "index.theme"]
    return sorted(path for path in found if path.count("/") == prefix.count("/") and f"{path}/{ICON_CACHE}" not in tree.by_path)


def make_icon_cache(tree: RootTree, theme: str) -> bytes:
    """The cache of the theme in this folder; empty when the theme has no icon, or names that no cache may have: then programs
    search, as they do without one."""
    making = _Making(tree)
    making.scan(theme, "", 0)
    words = (*making.folders, *making.icons)
    return making.written() if words and all(_GRAPHIC.fullmatch(word) for word in words) else b""


class _Making(msgspec.Struct, dict=True):
    tree: RootTree
    folders: list[str] = msgspec.field(default_factory=list)
    #: Flags by icon name and folder.
    icons: dict[str, dict[int, int]] = msgspec.field(default_factory=dict)

    def scan(self, path: str, below: str, depth: int) -> None:
        """Notes all icons of a folder; `below` is its path in the theme. Links are followed, as programs do that search."""
        index = -1
        inner = []
        for node in self._children.get(path, ()):
            target = node if node.kind != "link" else self.tree.follow(node.path)
            name, dot, ending = node.name.rpartition(".")
            flag = _FLAGS.get(dot + ending)
            if target is not None and target.kind == "folder":
                inner.append((target.path, f"{below}/{node.name}" if below else node.name))
            elif target is not None and target.kind == "file" and flag and name and below and len(self.folders) < _MOST_FOLDERS:
                if index < 0:
                    index = len(self.folders)
                    self.folders.append(below)
                of_icon = self.icons.setdefault(name, {})
                of_icon[index] = of_icon.get(index, 0) | flag
        for target_path, name in inner if depth < _MOST_DEPTH else ():
            self.scan(target_path, name, depth + 1)

    @cached_property
    def _children(self) -> dict[str, list[Node]]:
        found: dict[str, list[Node]] = {}
        for node in self.tree.nodes:
            if node.path.startswith("/usr/share/"):
                found.setdefault(node.parent, []).append(node)
        return found

    def written(self) -> bytes:
        buckets = next((number for number in _BUCKETS if number >= len(self.icons)), _BUCKETS[-1])
        chains: list[list[str]] = [[] for _ in range(buckets)]
        for name in sorted(self.icons):
            chains[name_hash(name) % buckets].append(name)
        at = _HEADER.size
        hash_at, at = at, at + 4 + 4 * buckets
        places: dict[str, int] = {}
        for name in (name for chain in chains for name in chain):
            places[name], at = at, at + _ICON.size + 4 + _IMAGE.size * len(self.icons[name])
        list_at, at = at, at + 4 + 4 * len(self.folders)
        strings: dict[str, int] = {}
        texts: list[bytes] = []
        for word in dict.fromkeys([*self.folders, *sorted(self.icons)]):
            texts.append(word.encode("utf-8", "surrogateescape") + b"\0")
            strings[word], at = at, at + len(texts[-1])
        out = bytearray(_HEADER.pack(1, 0, hash_at, list_at))
        out += struct.pack(f">I{buckets}I", buckets, *(places[chain[0]] if chain else _NONE for chain in chains))
        for chain in chains:
            for position, name in enumerate(chain, 1):
                images = self.icons[name]
                following = places[chain[position]] if position < len(chain) else _NONE
                out += _ICON.pack(following, strings[name], places[name] + _ICON.size)
                out += struct.pack(">I", len(images))
                for folder, flags in sorted(images.items()):
                    out += _IMAGE.pack(folder, flags, 0)
        out += struct.pack(f">I{len(self.folders)}I", len(self.folders), *(strings[one] for one in self.folders))
        return bytes(out) + b"".join(texts)


def name_hash(name: str) -> int:
    """The number that a name's bucket follows from; bytes count as signed, as in the programs that read it."""
    number = 0
    for position, byte in enumerate(name.encode("utf-8", "surrogateescape")):
        signed = byte - 256 if byte > 127 else byte
        number = signed if position == 0 else (number << 5) - number + signed
        number &= 0xFFFFFFFF
    return number
