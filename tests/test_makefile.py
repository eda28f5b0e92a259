"""A machine with Python, make, a C compiler and a shell's usual tools, and nothing else."""

import shutil
import subprocess
import sys
import unittest

from tests.support import ProgramTest, WorkspaceTest

#: Nothing that could be run is where make was.
WITHOUT_MAKE = """
for path in $(which -a make); do mount --bind /dev/null "$(readlink -f "$path")"; done
exec "$@"
"""


class NothingButACompiler(ProgramTest):
    """No bubblewrap, no emulator."""

    def test_the_demo_is_complete_and_the_same(self) -> None:
        bin_folder = self.folder / "bin"
        bin_folder.mkdir()
        for name in ("make", "gcc", "as", "ld", "ar", "strip", "objcopy", "sh", "install", "ln", "mkdir", "cat", "cp"):
            (bin_folder / name).symlink_to(shutil.which(name))
        self.yarrik("demo", "usual", "--product", "tide-office")
        usual = (self.folder / "usual/out/tide-office/SHA256SUMS").read_text()
        self.environment |= {"PATH": str(bin_folder), "YARRIK_CACHE": str(self.folder / "other-cache")}
        said = self.yarrik("demo", "bare")
        self.assertIn("apt-get install bubblewrap", said)
        self.assertIn("tide-gauge: left out", said)
        self.assertIn("apt-get install gcc-aarch64-linux-gnu", said)
        self.assertEqual((self.folder / "bare/out/tide-office/SHA256SUMS").read_text(), usual)


class WithoutMake(WorkspaceTest):
    def test_its_package_is_named_before_anything_runs(self) -> None:
        self.write("w/s/recipes/app/src/Makefile", "install:\n\ttrue\n")
        self.write(
            "w/s/recipes/app/recipe.toml",
            'version = "1"\nlicence = "MIT"\n[[source]]\npath = "src"\n[build]\nusing = "make"\n',
        )
        self.write("w/s/images/i.toml", 'packages = ["init", "app"]\n')
        words = ["unshare", "--user", "--map-root-user", "--mount", "sh", "-c", WITHOUT_MAKE, "sh"]
        done = subprocess.run(
            [*words, sys.executable, "-m", "yarrik", "build"], cwd=self.root, env=self.environment, capture_output=True, text=True,
        )  # fmt: skip
        self.assertEqual(done.returncode, 2, done.stdout + done.stderr)
        self.assertIn("error HOST-TOOL-MISSING: the program `make` is not on this machine", done.stderr)
        self.assertIn("apt-get install make", done.stderr)
        self.assertNotIn("prepare", done.stdout)


if __name__ == "__main__":
    unittest.main()
