"""Caches of icon themes: the program of their library finds them valid, and a reader after its description finds the same icons."""

import os
import random
import shutil
import struct
import unittest
from pathlib import Path

from tests.support import FolderTest, WorkspaceTest
from yarrik.rootfs import RootTree, icon_themes, make_icon_cache
from yarrik.rootfs.icon_cache import name_hash
from yarrik.rootfs.tree import Node

THEME = "/usr/share/icons/pier"


def tree_of(paths: dict[str, str]) -> RootTree:
    """A tree of files; a value that is not empty is where a link leads."""
    nodes = {
        path: Node(path, "link" if to else "file", 0o777 if to else 0o644, content=to or "x", size=1)
        for path, to in paths.items()
    }
    for path in paths:
        for parent in Path(path).parents:
            if str(parent) != "/":
                nodes.setdefault(str(parent), Node(str(parent), "folder", 0o755))
    return RootTree.of(nodes.values())


def read(data: bytes) -> set[tuple[str, str, int]]:
    """Folder, name and flags of every image, looked up by its hash as GTK's `gtkiconcache.c` does."""

    def card32(at: int) -> int:
        return struct.unpack_from(">I", data, at)[0]

    def text(at: int) -> str:
        return data[at : data.index(b"\0", at)].decode()

    major, minor, hashes, folders = struct.unpack_from(">HHII", data)
    assert (major, minor) == (1, 0)
    names = [text(card32(folders + 4 + 4 * index)) for index in range(card32(folders))]
    found = set()
    for bucket in range(card32(hashes)):
        at = card32(hashes + 4 + 4 * bucket)
        while at != 0xFFFFFFFF:
            name = text(card32(at + 4))
            assert name_hash(name) % card32(hashes) == bucket
            images = card32(at + 8)
            for index in range(card32(images)):
                folder, flags, content = struct.unpack_from(">HHI", data, images + 4 + 8 * index)
                assert content == 0
                found.add((names[folder], name, flags))
            at = card32(at)
    return found


class ACache(FolderTest):
    def validate(self, data: bytes, index: bool = True) -> str:
        theme = self.folder / "theme"
        shutil.rmtree(theme, ignore_errors=True)
        theme.mkdir()
        (theme / "icon-theme.cache").write_bytes(data)
        if index:
            (theme / "index.theme").write_text("[Icon Theme]\nName=Pier\n")
        return self.tool("gtk-update-icon-cache", "--validate", theme, ok=(0, 1))

    def test_what_is_in_it(self) -> None:
        tree = tree_of({
            f"{THEME}/index.theme": "", f"{THEME}/16x16/apps/gauge.png": "", f"{THEME}/16x16/apps/tide.png": "", f"{THEME}/16x16/apps/tide.svg": "",
            f"{THEME}/48x48/apps/gauge.png": "", f"{THEME}/48x48/apps/old.xpm": "", f"{THEME}/48x48/apps/level.png": "gauge.png",
            f"{THEME}/48x48/apps/README": "", f"{THEME}/48x48/apps/lost.png": "nowhere.png", f"{THEME}/32x32": "48x48",
            f"{THEME}/48x48/apps/gull.icon": "", f"{THEME}/top.png": "", "/usr/share/icons/other/16x16/a.png": "",
        })  # fmt: skip
        self.assertEqual(icon_themes(tree), [THEME])
        data = make_icon_cache(tree, THEME)
        large = {("gauge", 4), ("old", 1), ("level", 4), ("gull", 8)}
        self.assertEqual(
            read(data),
            {
                ("16x16/apps", "gauge", 4),
                ("16x16/apps", "tide", 6),
                *(("48x48/apps", *one) for one in large),
                *(("32x32/apps", *one) for one in large),
            },
        )
        self.assertEqual(self.validate(data), "")
        self.assertIn("Not a valid icon cache", self.validate(data[:-20]))

    def test_as_the_library_s_own_program_makes_it(self) -> None:
        chance = random.Random(7)
        paths = {f"{THEME}/index.theme": ""}
        for _ in range(700):
            folder = chance.choice(["16x16", "24x24", "scalable"]) + "/" + chance.choice(["apps", "places", "status"])
            name = "".join(chance.choices("abcdefgh-_.", k=chance.randrange(1, 12))).strip(".") or "a"
            paths[f"{THEME}/{folder}/{name}{chance.choice(['.png', '.svg', '.xpm'])}"] = ""
        tree = tree_of(paths)
        data = make_icon_cache(tree, THEME)
        self.assertEqual(self.validate(data), "")
        self.assertEqual(data, make_icon_cache(tree_of(dict(reversed(paths.items()))), THEME))
        there = self.folder / "there"
        for path in paths:
            file = there / path.removeprefix(THEME + "/")
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text("x")
        self.tool("gtk-update-icon-cache", "--force", "--index-only", "--quiet", there)
        self.assertEqual(read(data), read((there / "icon-theme.cache").read_bytes()))

    def test_loops_of_links_end(self) -> None:
        tree = tree_of(
            {f"{THEME}/index.theme": "", f"{THEME}/16x16/a.png": "", f"{THEME}/16x16/again": "..", f"{THEME}/16x16/b": "b"}
        )
        found = read(make_icon_cache(tree, THEME))
        self.assertIn(("16x16", "a", 4), found)
        self.assertLess(len(found), 20)

    def test_names_that_no_cache_may_have(self) -> None:
        for name in ("möwe", "two words", "a\x1b"):
            tree = tree_of({f"{THEME}/index.theme": "", f"{THEME}/16x16/a.png": "", f"{THEME}/16x16/{name}.png": ""})
            self.assertEqual(make_icon_cache(tree, THEME), b"")
            self.assertIn("invalid", self.made_by_theirs(name))

    def made_by_theirs(self, name: str) -> str:
        """What their program says of such a theme."""
        there = self.folder / "odd"
        shutil.rmtree(there, ignore_errors=True)
        (there / "16x16").mkdir(parents=True)
        (there / "index.theme").write_text("[Icon Theme]\n")
        (there / f"16x16/{name}.png").write_text("x")
        return self.tool("gtk-update-icon-cache", "--force", "--index-only", there, ok=(0, 1))

    def test_without_icons_there_is_none(self) -> None:
        self.assertEqual(make_icon_cache(tree_of({f"{THEME}/index.theme": "", f"{THEME}/16x16/x.txt": ""}), THEME), b"")


class AnImageHasIcons(WorkspaceTest):
    def test_its_theme_has_a_cache_unless_a_package_brings_one(self) -> None:
        over = self.root / "s/images/over/usr/share/icons/pier"
        (over / "16x16").mkdir(parents=True)
        (over / "index.theme").write_text("[Icon Theme]\nName=Pier\n")
        (over / "16x16/gauge.png").write_bytes(os.urandom(10))
        self.write("w/s/images/i.toml", 'packages = ["init"]\n[[tree]]\nfrom = "over"\n')
        self.yarrik("build", at=self.root)
        self.yarrik("inspect", "out/p/p.img", "--extract", f"{THEME}/icon-theme.cache", "--to", self.folder / "x", at=self.root)
        self.assertEqual(read((self.folder / "x/icon-theme.cache").read_bytes()), {("16x16", "gauge", 4)})
        (over / "icon-theme.cache").write_text("mine\n")
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content(f"{THEME}/icon-theme.cache"), "mine\n")


if __name__ == "__main__":
    unittest.main()
