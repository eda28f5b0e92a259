"""Runs that are forks do what runs that start Python do."""

import os
import re
import subprocess
import sys
import unittest

from tests.loaded import Loaded, serves
from tests.support import WorkspaceTest, loaded


class ForksAreRuns(WorkspaceTest):
    def both(self, *words: str) -> tuple[int, bytes, bytes]:
        done = loaded().run(words, self.root, self.environment, 60)
        command = [sys.executable, "-m", "yarrik", *words]
        other = subprocess.run(command, cwd=self.root, env=self.environment, stdin=subprocess.DEVNULL, capture_output=True)
        found = [(one.returncode, re.sub(rb"[0-9.]+ s\b", b"S", one.stdout), one.stderr) for one in (done, other)]
        self.assertEqual(*found)
        return found[0]

    def test_codes_and_both_streams_are_the_same(self) -> None:
        self.assertEqual(self.both("--version")[0], 0)
        self.assertEqual(self.both("nothing-of-ours")[0], 2)
        self.yarrik("build", at=self.root)
        self.assertIn(b"nothing to do", self.both("build")[1])
        self.assertIn(b'"steps"', self.both("plan", "--json")[1])
        (self.root / "products/p.toml").write_text("board = 7\n")
        self.assertEqual(self.both("check")[0], 2)

    def test_help_is_that_of_all_commands_or_of_one(self) -> None:
        self.both("--help")
        self.both("build", "--help")

    def test_one_leaves_nothing_for_the_next(self) -> None:
        self.environment["YARRIK_SET_IMAGE_HOSTNAME"] = "tern"
        first = loaded().run(["show", "image.hostname", "--json"], self.root, self.environment, 60)
        del self.environment["YARRIK_SET_IMAGE_HOSTNAME"]
        other = loaded().run(["show", "image.hostname", "--json"], self.root, self.environment, 60)
        self.assertNotEqual(first.stdout + first.stderr, other.stdout + other.stderr)
        self.both("show", "image.hostname", "--json")

    def test_time_is_limited(self) -> None:
        own = Loaded()
        self.addCleanup(own.close)
        with self.assertRaises(subprocess.TimeoutExpired):
            own.run(["build"], self.root, self.environment, 0.01)
        self.assertEqual(own.run(["--version"], self.root, self.environment, 60).returncode, 0)

    def test_what_python_begins_with_starts_python(self) -> None:
        for name in ("PYTHONHASHSEED", "LC_ALL", "TZ", "LD_PRELOAD"):
            self.assertFalse(serves({**os.environ, name: "7"}), name)
        self.assertTrue(serves({**os.environ, "YARRIK_CACHE": "/nowhere", "COLUMNS": "40"}))


if __name__ == "__main__":
    unittest.main()
