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
        self.recipe(
            "tide", "mkdir -p $DESTDIR/share && cp text $DESTDIR/share/text; n=0; while [ $n -lt 200000 ]; do n=$((n+1)); done"
        )
        recipe = self.root / "s/recipes/tide/recipe.toml"
        recipe.write_text(recipe.read_text().replace('path = "src"', f'host-file = "{archive}"'))
        self.write("w/s/images/i.toml", 'packages = ["init", "tide"]\n')
        out = self.folder / "out.json"
        done = subprocess.run([sys.executable, "-c", timed, out, "assemble,write", "build", "--workspace", self.root],
                              capture_output=True, text=True, env=self.environment)  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        said = json.loads(out.read_text())
        parts = {part for row in said["steps"].values() for part in row}
        self.assertLessEqual({"watch", "lay out", "take in", "remove", "unpack", "the rest"}, parts)
        self.assertIn("unpack", said["steps"]["prepare tide"])
        self.assertGreater(said["commands"], 0.05)  # of the loop, which the sandbox ran
        recipes = [row for step, row in said["steps"].items() if step.partition(" ")[0] not in ("assemble", "write")]
        self.assertGreater(said["own"], 0.5 * sum(sum(row.values()) for row in recipes))
        self.assertGreater(said["seconds"], said["commands"])
