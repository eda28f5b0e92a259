"""What steps see of this machine is looked for again when there may be more of it."""

from __future__ import annotations

import os
import unittest
from pathlib import Path
from unittest import mock

from tests.support import FolderTest
from yarrik.cache import Memory
from yarrik.host import searched_folders, sight_of
from yarrik.host.programs import PROGRAMS, Program
from yarrik.run.host_view import remembered_sight


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


if __name__ == "__main__":
    unittest.main()
