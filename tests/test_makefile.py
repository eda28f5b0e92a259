"""The stand-in for make: the same Makefiles, carried out by make and by it, leave the same files."""

import shutil
import subprocess
import unittest
from pathlib import Path

from tests.support import FolderTest, ProgramTest
from yarrik.cache import changed_paths, read_tree
from yarrik.errors import YarrikError
from yarrik.run.makefile import Makefile

MAKEFILE = """
A ?= from the file
B = $(A) and more
LATE = $(B)
NOW := $(B)
B += still
LIST = one.o \\
  two.o
KIND_x = chosen
WHICH = $(KIND_$(firstword $(subst -, ,x-y)))
HOST := $(shell echo a  b)

all: whole copy # a comment

%.o: %.src common
\t@echo compile $< to $@ as $* from $^ > $@
\techo "$(LATE) | $(NOW) | $(WHICH) | $(HOST) | $$HOME_IS_NOT" >> $@

whole: $(LIST)
\tcat $^ > $@
\t-false
\t-echo 'a # b' >> whole

copy: whole; # no recipe here
copy:
\tcp whole copy; for i in 1 2; do echo $$i >> copy; done

install: all
\tmkdir -p $(DESTDIR)
\tcp whole copy $(DESTDIR)/

.PHONY: all install
"""


class SimpleMakefiles(FolderTest):
    def folder_with(self, name: str, text: str) -> Path:
        folder = self.folder / name
        self.write(f"{name}/Makefile", text)
        for source in ("one.src", "two.src", "common"):
            self.write(f"{name}/{source}", "x")
        return folder

    def stand_in(self, folder: Path, goals: list[str], given: dict | None = None, environment: dict | None = None) -> list[str]:
        self.ran: list[str] = []

        def run(command: str, may_fail: bool) -> None:
            self.ran.append(command)
            code = subprocess.run(["sh", "-e", "-c", command], cwd=folder, capture_output=True).returncode
            self.assertTrue(code == 0 or may_fail, command)

        def ask(command: str) -> str:
            return subprocess.run(["sh", "-c", command], cwd=folder, capture_output=True, text=True).stdout

        Makefile(folder, given or {}, environment or {}, run, ask).make(goals)
        return self.ran

    def test_they_leave_the_same_files_as_with_make(self) -> None:
        theirs, ours = self.folder_with("theirs", MAKEFILE), self.folder_with("ours", MAKEFILE)
        subprocess.run(
            ["make", "-C", theirs, "install", "DESTDIR=out"],
            check=True,
            capture_output=True,
            env={"PATH": "/usr/bin:/bin", "A": "env"},
        )
        self.stand_in(ours, ["install"], {"DESTDIR": "out"}, {"A": "env"})
        self.assertEqual(changed_paths(read_tree(theirs), read_tree(ours)), [])
        self.assertIn("env and more still | env and more | chosen | a b", (ours / "one.o").read_text())

    def test_what_is_fresh_is_not_made_again(self) -> None:
        folder = self.folder_with("f", MAKEFILE)
        self.stand_in(folder, [])
        self.assertEqual(self.stand_in(folder, ["whole"]), [])

    def test_what_it_cannot_do_is_told_and_never_guessed(self) -> None:
        for text, words in (
            ("ifeq (a,b)\nendif\n", "`ifeq`"),
            ("include other.mk\n", "`include`"),
            ("all: none\n", "nothing makes `none`"),
            ("all: $(wildcard *.c)\n", "function `wildcard`"),
            ("a: b\n\ttrue\nb: a\n\ttrue\n", "loop: a → b → a"),
            ("X = $(X)\nall:\n\techo $(X)\n", "in a loop"),
        ):
            with self.assertRaises(YarrikError, msg=text) as caught:
                self.stand_in(self.folder_with("f", text), [])
            self.assertIn(words, caught.exception.troubles[0].what)
            self.assertIn("apt-get install make", caught.exception.troubles[0].remedy)


class NothingButACompiler(ProgramTest):
    """A machine with Python, a C compiler and a shell's usual tools: no make, no bubblewrap, no emulator."""

    def test_the_demo_is_complete_and_the_same(self) -> None:
        bin_folder = self.folder / "bin"
        bin_folder.mkdir()
        for name in ("gcc", "as", "ld", "ar", "strip", "objcopy", "sh", "install", "ln", "mkdir", "cat", "cp"):
            (bin_folder / name).symlink_to(shutil.which(name))
        self.yarrik("demo", "usual", "--product", "tide-office")
        usual = (self.folder / "usual/out/tide-office/SHA256SUMS").read_text()
        self.environment |= {"PATH": str(bin_folder), "YARRIK_CACHE": str(self.folder / "other-cache")}
        said = self.yarrik("demo", "bare")
        self.assertIn("there is no make here", said)
        self.assertIn("apt-get install bubblewrap", said)
        self.assertIn("tide-gauge: left out", said)
        self.assertIn("apt-get install gcc-aarch64-linux-gnu", said)
        self.assertEqual((self.folder / "bare/out/tide-office/SHA256SUMS").read_text(), usual)


if __name__ == "__main__":
    unittest.main()
