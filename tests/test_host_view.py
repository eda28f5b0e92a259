"""What steps see of this machine is looked for again when there may be more of it."""

from __future__ import annotations

import os
import unittest
from pathlib import Path
from unittest import mock

from tests.support import FolderTest
from yarrik.cache import COPIES, Memory, Store, prune
from yarrik.host import Sight, searched_folders, sight_of
from yarrik.host.programs import PROGRAMS, Program
from yarrik.run.host_view import remembered_sight, view_of


class WhatIsRemembered(FolderTest):
    def seen(self) -> set[str]:
        with mock.patch.dict(PROGRAMS, {"sed": Program(reads=(f"{self.folder}/share/*.m4", f"{self.folder}/lib/*/tide-*"))}):
            sight = remembered_sight(["sed"], None, None, self.memory)
            self.assertIn(f"{self.folder}/share", searched_folders(["sed"]))
        return {
            path.removeprefix(f"{self.folder}/") for path in (*sight.files, *sight.folders) if path.startswith(str(self.folder))
        }

    def setUp(self) -> None:
        super().setUp()
        self.memory = Memory(self.folder / "memory.sqlite")
        self.addCleanup(self.memory.close)

    def test_a_file_where_none_was_a_folder_and_one_that_is_gone(self) -> None:
        self.assertEqual(self.seen(), set())
        first = self.write("share/a.m4", "a")
        self.assertEqual(self.seen(), {"share/a.m4"})
        self.write("share/b.m4", "b")
        self.write("share/other", "b")
        self.assertEqual(self.seen(), {"share/a.m4", "share/b.m4"})
        (self.folder / "lib/one").mkdir(parents=True)
        self.assertEqual(self.seen(), {"share/a.m4", "share/b.m4"})
        self.write("lib/one/tide-2", "b")
        self.assertEqual(self.seen(), {"share/a.m4", "share/b.m4", "lib/one/tide-2"})
        first.unlink()
        self.assertEqual(self.seen(), {"share/b.m4", "lib/one/tide-2"})

    def test_nothing_is_looked_for_when_nothing_has_changed(self) -> None:
        self.write("share/a.m4", "a")
        self.seen()
        with mock.patch("yarrik.run.host_view.sight_of", side_effect=AssertionError("looked for again")):
            self.assertEqual(self.seen(), {"share/a.m4"})

    def test_another_yarrik_that_knows_more_looks_again(self) -> None:
        self.write("share/a.m4", "a")
        self.seen()
        with mock.patch("yarrik.run.host_view.EVERYWHERE", ("sed",)), mock.patch("yarrik.run.host_view.sight_of") as looks:
            looks.return_value = sight_of(["sed"])
            self.seen()
        looks.assert_called_once()

    def test_folders_of_every_known_program(self) -> None:
        for folder in searched_folders(PROGRAMS):
            self.assertTrue(Path(folder).is_absolute())
            self.assertNotIn("*", folder)
        self.assertIn("/usr/share/aclocal", searched_folders(["autoreconf"]))
        self.assertIn(os.path.realpath("/usr/bin"), {os.path.realpath(one) for one in searched_folders([])})


class WhatViewsHaveInCommon(FolderTest):
    def view(self, *names: str) -> Path:
        files = tuple(str(self.folder / "machine" / name) for name in names)
        return (
            view_of(Sight(files, (), ()), self.folder / "cache/host" / str(os.getuid())).root / str(self.folder)[1:] / "machine"
        )

    def setUp(self) -> None:
        super().setUp()
        self.write("machine/cc", "a compiler").chmod(0o755)
        self.write("machine/ld", "a linker")
        (self.folder / "cache/host").mkdir(parents=True)

    def test_a_file_is_copied_once(self) -> None:
        one, two = self.view("cc"), self.view("cc", "ld")
        self.assertNotEqual(one, two)
        self.assertTrue((one / "cc").samefile(two / "cc"))
        self.assertFalse((one / "cc").samefile(self.folder / "machine/cc"))
        self.assertEqual((two / "cc").stat().st_mode & 0o777, 0o755)
        self.assertEqual((two / "ld").read_text(), "a linker")

    def test_another_file_in_its_place_is_another_one(self) -> None:
        before = self.view("cc")
        status = (self.folder / "machine/cc").stat()
        self.write("machine/new", "b compiler").chmod(0o755)
        os.utime(self.folder / "machine/new", ns=(status.st_atime_ns, status.st_mtime_ns))
        (self.folder / "machine/new").replace(self.folder / "machine/cc")
        after = self.view("cc", "ld")
        self.assertEqual(((before / "cc").read_text(), (after / "cc").read_text()), ("a compiler", "b compiler"))
        (self.folder / "machine/cc").chmod(0o700)
        self.write("machine/as", "an assembler")
        self.assertEqual((self.view("cc", "as") / "cc").stat().st_mode & 0o777, 0o700)

    def test_where_there_are_no_links_each_has_its_own(self) -> None:
        with mock.patch("os.link", side_effect=OSError(1, "not here")):
            one, two = self.view("cc"), self.view("cc", "ld")
        self.assertFalse((one / "cc").samefile(two / "cc"))
        self.assertEqual((one / "cc").read_text(), (two / "cc").read_text())

    def test_what_no_view_has_any_more_goes_with_the_last_of_them(self) -> None:
        one = self.view("cc")
        self.view("cc", "ld")
        store = Store(self.folder / "cache")
        copies = self.folder / "cache/host" / str(os.getuid()) / COPIES
        self.assertEqual(len(list(copies.iterdir())), 2)
        old = next(path for path in copies.parent.iterdir() if one.is_relative_to(path))
        new = next(path for path in copies.parent.iterdir() if path not in (old, copies))
        os.utime(new, (1, 1))
        prune(store)
        self.assertEqual([path.read_text() for path in copies.iterdir()], ["a compiler"])
        self.assertEqual((one / "cc").read_text(), "a compiler")
        os.utime(old, (1, 1))
        prune(store)
        self.assertEqual(list(copies.iterdir()), [])
        self.assertTrue(self.view("ld").joinpath("ld").is_file())


if __name__ == "__main__":
    unittest.main()
