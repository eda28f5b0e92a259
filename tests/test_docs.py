"""The docs' own commands are run, in order, as they are written; and the site is built from them."""

import re
import shutil
import subprocess
import sys
from pathlib import Path

from tests.support import ProgramTest

TOP = Path(__file__).parent.parent
_BLOCK = re.compile(r"^```(\w*)\n(.*?)^```$", re.M | re.S)


class DocsTest(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        program = self.write("bin/yarrik", f'#!/bin/sh\nexec {sys.executable} -m yarrik "$@"\n')
        program.chmod(0o755)
        who = {f"GIT_{who}_{what}": value for who in ("AUTHOR", "COMMITTER")
               for what, value in (("NAME", "A. Tern"), ("EMAIL", "tern@example.org"))}  # fmt: skip
        self.environment |= {**who, "PATH": f"{program.parent}:{self.environment['PATH']}", "GIT_CONFIG_GLOBAL": "/dev/null",
                             "YARRIK_SETTINGS": str(self.folder / "settings.toml")}  # fmt: skip
        self.place = self.folder / "work"
        self.place.mkdir()

    def play(self, page: str, skip: str = "", before: dict[int, str] | None = None) -> int:
        """Runs all blocks of a page in one shell; each line of a `text` block after a block has to be in what that printed.
        `before` are commands that come before a block, by its number."""
        text = (TOP / page).read_text()
        blocks = [(kind, body) for kind, body in _BLOCK.findall(text) if kind in ("sh", "text")]
        script = "set -eu\n"
        number = 0
        for kind, body in blocks:
            if kind == "sh":
                number += 1
                body = "\n".join("true" if skip and re.match(skip, line) else line for line in body.splitlines())
                script += f"echo '=== block {number}'\n{(before or {}).get(number, '')}\n{body}\n"
        done = subprocess.run(["bash", "-c", script], cwd=self.place, env=self.environment, capture_output=True, text=True,
                              stdin=subprocess.DEVNULL, timeout=900, check=False)  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stdout[-3000:] + done.stderr[-3000:])
        outputs = re.split(r"=== block \d+\n", done.stdout)[1:]
        self.assertEqual(len(outputs), number)
        current = -1
        for kind, body in blocks:
            if kind == "sh":
                current += 1
                continue
            for line in body.splitlines():
                words = " ".join(line.split())
                said = " ".join(outputs[current].split())
                self.assertIn(words, said, f"block {current + 1} of {page}")
        return number


class TheFirstDay(DocsTest):
    def test_from_an_empty_folder_to_an_image_that_the_bench_has_checked(self) -> None:
        self.assertEqual(self.play("docs/first-day.md"), 15)
        self.assertIn("no problem found", self.yarrik("boot", "--bench", self.place / "pier/out/gull/gull.img"))


class TheHowTos(DocsTest):
    def test_every_block_works_on_the_example(self) -> None:
        self.assertGreater(self.play("docs/howto.md"), 12)


class TheReadme(DocsTest):
    def test_its_commands(self) -> None:
        self.write("weir/COPYING", "MIT License\n\nPermission is hereby granted, free of charge, to any person\n")
        self.write("weir/Makefile", "all:\n\ttrue\ninstall:\n\tmkdir -p $(DESTDIR)/etc\n")
        pack = f"tar -czf weir-2.4.tar.gz -C {self.folder} weir"
        self.write("rootfs/etc/port", "Gull Rock\n")
        rootfs = f"cp -r {self.folder}/rootfs ."
        self.assertEqual(self.play("README.md", r"pip install|make ", {3: pack, 5: rootfs}), 5)


class TheSite(DocsTest):
    def test_it_is_built_without_a_warning_and_no_link_is_broken(self) -> None:
        out = self.folder / "site"
        done = subprocess.run([sys.executable, "-m", "mkdocs", "build", "--strict", "--quiet", "--site-dir", str(out)], cwd=TOP,
                              env=self.environment, capture_output=True, text=True, check=False)  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        pages = sorted(path.name for path in out.glob("*/index.html")) + [path.parent.name for path in out.glob("*/index.html")]
        for name in ("first-day", "howto", "definitions", "building", "reference", "codes", "architecture"):
            self.assertIn(name, pages)
        self.assertIn("kernel.console", (out / "first-day/index.html").read_text())
        shutil.rmtree(out)


class WhatStepsSee(DocsTest):
    def test_the_table_of_variables_is_what_a_step_gets(self) -> None:
        text = (TOP / "docs/definitions.md").read_text()
        table = text[text.index("## What a step's commands get") : text.index("Arguments of `make` are not")]
        told = {name for row in re.findall(r"^\| (`[A-Z].*?) \|", table, re.M) for name in re.findall(r"`(\w+)`", row)}
        self.yarrik("new", "workspace", "w")
        recipe = 'version = "1"\nlicence = "MIT"\n[[source]]\npath = "src"\n[build]\nusing = "plain"\ncommands = ["env; pwd"]\n'
        self.write("w/shelves/w/recipes/x/recipe.toml", recipe)
        self.write("w/shelves/w/recipes/x/src/x", "")
        words = ("--set", 'image.packages={add=["x"]}')
        self.yarrik("build", "--until", "build x", *words, at=self.folder / "w")
        log = self.yarrik("log", "x", *words, at=self.folder / "w")
        self.assertEqual(set(re.findall(r"(?m)^([A-Z_]+)=", log)) - {"PWD", "SHLVL", "OLDPWD", "_"}, told)
        self.assertIn("\n/step/source\n", log)
