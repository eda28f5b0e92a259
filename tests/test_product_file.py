"""A product in one file: its shelves from git servers, files that include each other, and workspaces made of them."""

import os
import shutil
import socket
import subprocess
import time
import tomllib
from pathlib import Path

from tests.support import WorkspaceTest
from yarrik.errors import YarrikError
from yarrik.model import read_product_file

ENVIRONMENT = {**os.environ, "GIT_CONFIG_GLOBAL": os.devnull, **{f"GIT_{who}_{what}": value for who in ("AUTHOR", "COMMITTER")
               for what, value in (("NAME", "A. Tern"), ("EMAIL", "tern@example.org"))}}  # fmt: skip


class ProductFileTest(WorkspaceTest):
    """The small workspace's shelf is split in two, `ground` with recipes and `s` with the rest; product files are in `files`."""

    def setUp(self) -> None:
        super().setUp()
        (self.root / "ground").mkdir()
        shutil.move(self.root / "s/recipes", self.root / "ground/recipes")
        self.write("w/ground/shelf.toml", '[shelf]\nname = "ground"\n')
        self.files = self.folder / "files"
        self.write("files/base.toml", f"""
            board = "b"
            profile = "p"
            image = "i"
            [[shelf]]
            name = "ground"
            path = "{os.path.relpath(self.root / 'ground', self.files)}"
            [[shelf]]
            name = "s"
            path = "../w/s"
            [set.image]
            hostname = "base"
            packages.add = ["one"]
        """)  # fmt: skip
        self.write("files/gauge.toml", """
            include = ["base.toml"]
            summary = "A gauge"
            [set.image]
            hostname = "gauge"
            packages.add = ["two"]
        """)  # fmt: skip
        for name in ("one", "two"):
            self.recipe(name, f"mkdir -p $DESTDIR/etc && echo {name} > $DESTDIR/etc/{name}", {"readme": "x"})
            shutil.move(self.root / f"s/recipes/{name}", self.root / f"ground/recipes/{name}")

    def git(self, folder: Path, *words: str) -> str:
        done = subprocess.run(["git", "-C", str(folder), *words], check=True, env=ENVIRONMENT, capture_output=True, text=True)
        return done.stdout.strip()

    def image(self, root: Path, product: str) -> str:
        return self.yarrik("inspect", root / f"out/{product}/{product}.img", "/etc", at=root)


class OneFile(ProductFileTest):
    def test_files_are_stacked_and_every_change_counts_with_its_origin(self) -> None:
        self.yarrik("build", "gauge.toml", at=self.files)
        root = self.files / "gauge"
        said = self.image(root, "gauge")
        self.assertIn("/etc/one", said)
        self.assertIn("/etc/two", said)
        said = self.yarrik("show", "image.hostname", at=root)
        self.assertRegex(said, r"hostname +gauge +\S*files/gauge.toml:4\n.*over base +\S*files/base.toml:1\d")
        self.assertEqual(self.yarrik_json("build", "gauge.toml", at=self.files)["steps"][0]["how"], "kept")
        # A change of an included file is seen.
        self.write("files/base.toml", (self.files / "base.toml").read_text().replace('"one"', '"one", "three"'))
        self.assertIn("no shelf carries a recipe or package `three`", self.yarrik("build", "gauge.toml", code=2, at=self.files))

    def test_several_files_and_several_products_end_with_one_table(self) -> None:
        self.write("files/other.toml", 'include = ["base.toml"]\nname = "quay"\n')
        said = self.yarrik("build", "gauge.toml", "other.toml", at=self.files)
        self.assertRegex(said, r"built +gauge(.|\n)*built +quay +(.|\n)*next: yarrik boot gauge --workspace gauge")
        for name in ("q", "r"):
            self.write(f"w/products/{name}.toml", 'board = "b"\nprofile = "p"\nimage = "i"\nmarker = "up"\n')
        self.write(
            "w/yarrik.toml",
            '[workspace]\nname = "w"\n[[shelf]]\nname = "ground"\npath = "ground"\n[[shelf]]\nname = "s"\npath = "s"\n',
        )
        source = next(self.root.rglob("init.c"))
        source.write_text(source.read_text().replace("return 0", "return 1"))
        ended = self.yarrik_json("build", "q", "p", "r", at=self.root)
        self.assertEqual([(one["product"], one["ok"]) for one in ended["products"]], [("q", True), ("p", True), ("r", True)])
        self.assertLess(ended["products"][1]["ran"], ended["products"][0]["ran"])  # they share steps
        self.recipe("bad", "false", {"x": ""})
        self.write("w/products/r.toml", 'board = "b"\nprofile = "p"\nimage = "i"\n[set.image]\npackages.add = ["bad"]\n')
        said = self.yarrik("build", "r", "p", at=self.root, code=1)
        self.assertRegex(said, r"failed +r (.|\n)*kept +p (.|\n)*next: yarrik build r")

    def test_a_workspace_is_made_of_it_with_every_change(self) -> None:
        self.yarrik("workspace", "from", "gauge.toml", "made", at=self.files)
        root = self.files / "made"
        self.yarrik("build", "--set", "image.summary=x", at=root)
        said = self.image(root, "gauge")
        self.assertIn("/etc/one", said)
        self.assertIn("/etc/two", said)
        product = tomllib.loads((root / "products/gauge.toml").read_text())
        self.assertEqual((product["summary"], product["variants"]), ("A gauge", ["gauge-1", "gauge-2"]))
        self.assertEqual(self.yarrik_json("show", "image.hostname", at=root)["image"]["hostname"]["value"], "gauge")
        (self.files / "gauge.toml").unlink()  # it is not asked any more
        self.yarrik("check", at=root)
        self.write("files/base.toml", (self.files / "base.toml").read_text())
        self.assertIn("error NEW-EXISTS", self.yarrik("workspace", "from", "base.toml", "made", code=2, at=self.files))

    def test_a_folder_of_somebody_else_stays_as_it_is(self) -> None:
        self.write("files/gauge/mine", "mine")
        self.assertRegex(self.yarrik("build", "gauge.toml", code=2, at=self.files), r"error NEW-EXISTS(.|\n)*--in FOLDER")
        self.assertEqual([one.name for one in (self.files / "gauge").iterdir()], ["mine"])
        self.yarrik("build", "gauge.toml", "--in", "elsewhere", at=self.files)
        self.assertTrue((self.files / "elsewhere/out/gauge/gauge.img").is_file())
        shutil.move(self.files / "gauge.toml", self.files / "moved.toml")
        said = self.yarrik("build", at=self.files / "elsewhere", code=2)
        self.assertRegex(said, r"error FILE-UNREADABLE: the product file \S*gauge.toml is not there(.|\n)*where +yarrik.toml:4")

    def test_words_that_do_not_go_together(self) -> None:
        for words, wanted in ((("gauge.toml", "p"), "do not go together"), (("--shelves-only",), "for one product file"),
                              (("missing.toml",), "there is no product file"), (("gauges.toml",), "did you mean `gauge.toml`?")):  # fmt: skip
            self.assertIn(wanted, self.yarrik("build", *words, at=self.files, code=2))


class WhatIsWrongIsTold(ProductFileTest):
    def code(self, text: str) -> str:
        self.write("files/x.toml", text)
        with self.assertRaises(YarrikError) as caught:
            read_product_file(self.files / "x.toml")
        return caught.exception.troubles[0].code

    def test_loops_files_that_are_missing_and_keys_that_are_unknown(self) -> None:
        self.assertEqual(self.code('include = ["x.toml"]\n'), "INCLUDE-LOOP")
        self.write("files/y.toml", 'include = ["x.toml"]\n')
        self.assertEqual(self.code('include = ["base.toml", "y.toml"]\n'), "INCLUDE-LOOP")
        self.assertEqual(self.code('include = ["bass.toml"]\n'), "INCLUDE-MISSING")
        self.assertEqual(self.code('include = "base.toml"\n'), "VALUE-TYPE")
        self.assertEqual(self.code('include = ["base.toml"]\nbord = "b"\n'), "KEY-UNKNOWN")
        self.assertEqual(self.code('board = "b"\n'), "KEY-MISSING")
        self.assertEqual(
            self.code('include = ["base.toml"]\n[settings]\njobs = 2\n'), "KEY-UNKNOWN"
        )  # a person's, never a product's
        # The same file by two ways is no loop.
        self.write("files/y.toml", 'include = ["base.toml"]\n')
        self.write("files/x.toml", 'include = ["base.toml", "y.toml"]\n')
        self.assertEqual(read_product_file(self.files / "x.toml").value.name, "x")
        self.write("files/Strange name.toml", 'include = ["base.toml"]\n')
        self.assertEqual(read_product_file(self.files / "Strange name.toml").value.name, "strange-name")

    def test_a_file_that_includes_itself_many_times_over_ends(self) -> None:
        for number in range(12):
            self.write(f"files/n{number}.toml", f'include = ["n{number + 1}.toml", "n{number + 1}.toml"]\n')
        self.write("files/n12.toml", 'include = ["base.toml"]\n')
        self.assertEqual(self.code('include = ["n0.toml"]\n'), "INCLUDE-LOOP")

    def test_a_shelf_is_told_at_the_line_of_the_product_file(self) -> None:
        self.write("files/base.toml", (self.files / "base.toml").read_text().replace("../w/s", "../w/t"))
        self.assertRegex(self.yarrik("build", "gauge.toml", code=2, at=self.files), r"error FILE-UNREADABLE")
        self.write(
            "files/base.toml", (self.files / "base.toml").read_text().replace('name = "s"', 'name = "t"').replace("w/t", "w/s")
        )
        said = self.yarrik("build", "gauge.toml", code=2, at=self.files)
        self.assertRegex(said, r"error SHELF-NAME(.|\n)*where +\S*base.toml:\d+")
        self.assertIn(
            "add there:", self.yarrik("shelf", "add", self.root / "ground/../../w/s", code=2, at=self.files / "gauge")
        )


class FromGitServers(ProductFileTest):
    """An empty machine: one file, and two shelves from a git server."""

    def setUp(self) -> None:
        super().setUp()
        for name in ("ground", "s"):
            folder = self.root / name
            self.git(folder, "init", "-q", "-b", "main")
            self.git(folder, "add", "-A")
            self.git(folder, "commit", "-q", "-m", "first")
            subprocess.run(["git", "clone", "-q", "--bare", str(folder), str(self.folder / f"served/{name}.git")],
                           check=True, env=ENVIRONMENT)  # fmt: skip
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        daemon = subprocess.Popen(["git", "daemon", "--reuseaddr", "--listen=127.0.0.1", f"--port={port}", "--export-all",
                                   f"--base-path={self.folder / 'served'}"], env=ENVIRONMENT, stderr=subprocess.DEVNULL)  # fmt: skip
        self.addCleanup(daemon.wait)
        self.addCleanup(daemon.terminate)
        for _ in range(600):
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        first = self.git(self.root / "ground", "rev-parse", "HEAD")
        self.write("files/gauge.toml", f"""
            board = "b"
            profile = "p"
            image = "i"
            [[shelf]]
            name = "ground"
            git = "git://127.0.0.1:{port}/ground.git"
            commit = "{first}"
            [[shelf]]
            name = "s"
            git = "git://127.0.0.1:{port}/s.git"
            branch = "main"
        """)  # fmt: skip

    def test_the_whole_image_from_one_file(self) -> None:
        said = self.yarrik("build", "gauge.toml", "--shelves-only", at=self.files)
        self.assertRegex(said, r"cloned +ground(.|\n)*cloned +s")
        root = self.files / "gauge"
        self.assertFalse((root / "out").exists())
        self.yarrik("build", "gauge.toml", at=self.files)
        self.assertTrue((root / "out/gauge/gauge.img").is_file())
        # The branch moves on, and the lock holds.
        locked = tomllib.loads((root / "yarrik.lock").read_text())["commits"]
        self.write("w/s/images/i.toml", 'packages = ["init", "one"]\n')
        self.git(self.root / "s", "commit", "-q", "-a", "-m", "second")
        self.git(self.root / "s", "push", "-q", str(self.folder / "served/s.git"), "main")
        self.assertIn("nothing to do", self.yarrik("build", "gauge.toml", at=self.files))
        self.yarrik("shelf", "pin", "--update", "s", at=root)
        self.assertNotEqual(tomllib.loads((root / "yarrik.lock").read_text())["commits"], locked)
        self.yarrik("build", "gauge.toml", at=self.files)
        self.assertIn("/etc/one", self.image(root, "gauge"))

    def test_a_branch_without_a_lock_is_told(self) -> None:
        """Mistake 7: a revision is a moving branch and nothing is locked."""
        self.yarrik("build", "gauge.toml", "--shelves-only", at=self.files)
        root = self.files / "gauge"
        self.assertNotIn("SHELF-MOVES", self.yarrik("check", at=root))
        lock = root / "yarrik.lock"
        whole = lock.read_text()
        for text in (None, "# nothing\n", whole.replace("s = ", "another = ")):
            lock.unlink(missing_ok=True)
            if text is not None:
                lock.write_text(text)
            said = self.yarrik("check", at=root)
            self.assertRegex(said, r"SHELF-MOVES: the shelf `s` is at main(.|\n)*yarrik shelf pin", text)
            self.assertNotIn("the shelf `ground`", said)
        lock.unlink()
        self.yarrik("shelf", "pin", at=root)
        self.assertNotIn("SHELF-MOVES", self.yarrik("check", at=root))
