"""Benchmarks that time parts of the program from within: what they time is there, and is what runs."""

import json
import subprocess
import sys
from pathlib import Path

from tests.support import WorkspaceTest

BENCHMARKS = Path(__file__).parent.parent / "benchmarks"


class PartsOfAFirstBuild(WorkspaceTest):
    def test_each_is_seen(self) -> None:
        """A build with an archive, commands, and something to stage; with the script that `cold.py` runs."""
        script = "import sys; sys.path.insert(0, sys.argv[1]); import cold; print(cold.TIMED)"
        timed = subprocess.run([sys.executable, "-c", script, BENCHMARKS], capture_output=True, text=True, check=True).stdout
        archive = self.folder / "tide-1.tar.gz"
        self.write("tide-1/text", "high water\n")
        subprocess.run(["tar", "-czf", archive, "-C", self.folder, "tide-1"], check=True)
        self.recipe("tide", "mkdir -p $DESTDIR/share && cp text $DESTDIR/share/text")
        recipe = self.root / "s/recipes/tide/recipe.toml"
        recipe.write_text(recipe.read_text().replace('path = "src"', f'host-file = "{archive}"'))
        self.write("w/s/images/i.toml", 'packages = ["init", "tide"]\n')
        out = self.folder / "out.json"
        done = subprocess.run([sys.executable, "-c", timed, out, "build", "--workspace", self.root],
                              capture_output=True, text=True, env=self.environment)  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        said = json.loads(out.read_text())
        parts = {part for row in said["steps"].values() for part in row}
        self.assertLessEqual({"commands", "lay out", "take in", "remove", "unpack", "the rest"}, parts)
        self.assertIn("unpack", said["steps"]["prepare tide"])
        self.assertGreater(said["steps"]["build tide"]["commands"], 0)
        self.assertGreater(said["seconds"], sum(sum(row.values()) for row in said["steps"].values()) / 4)
