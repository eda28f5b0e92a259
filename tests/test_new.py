"""`yarrik new`: what it makes passes the check, builds, and starts; what is there is never touched."""

import re
import tomllib
import unittest
from pathlib import Path

from tests.support import ProgramTest
from yarrik.starter import bench_arches, host_arch, starter_shelf
from yarrik.starter.texts import aligned


class NewTest(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.yarrik("new", "workspace", "gauge")
        self.root = self.folder / "gauge"

    def new(self, *words: str, code: int = 0) -> str:
        return self.yarrik("new", *words, at=self.root, code=code)


class AWorkspaceBegins(NewTest):
    def test_it_passes_the_check_builds_and_starts_in_the_emulator(self) -> None:
        self.assertIn("gauge: no problem found", self.yarrik("check", at=self.root))
        said = self.yarrik("build", at=self.root)
        self.assertIn("next: yarrik boot gauge", said)
        self.assertTrue((self.root / "out/gauge/gauge.img").is_file())
        said = self.yarrik("boot", at=self.root)
        self.assertRegex(said, r"command line: root=PARTUUID=\S+ rootfstype=ext4")
        self.assertIn("stand-in: powering off", said)

    def test_nothing_of_the_example_is_in_it_and_it_is_the_same_each_time(self) -> None:
        self.yarrik("new", "workspace", "again/gauge")
        files = sorted(path.relative_to(self.root) for path in self.root.rglob("*") if path.is_file())
        self.assertGreater(len(files), 25)
        for name in files:
            data = (self.root / name).read_bytes()
            self.assertEqual(data, (self.folder / "again/gauge" / name).read_bytes(), name)
            self.assertIsNone(re.search(rb"harbour|tide|kittiwake", data, re.IGNORECASE), name)

    def test_for_another_architecture_it_takes_a_cross_compiler(self) -> None:
        other = next(arch for arch in bench_arches() if arch != host_arch())
        self.yarrik("new", "workspace", "other", "--arch", other)
        board = tomllib.loads((self.folder / "other/shelves/other/boards/other.toml").read_text())
        self.assertEqual(board["extends"], f"bench-{other}")
        self.assertTrue(board["toolchain"]["prefix"].endswith("-linux-gnu-"))
        self.assertIn("give --arch", self.yarrik("new", "workspace", "z80", "--arch", "z80", code=2))
        self.assertFalse((self.folder / "z80").exists())

    def test_what_exists_is_never_touched(self) -> None:
        self.assertIn("error NEW-EXISTS", self.yarrik("new", "workspace", "gauge", code=2))
        self.write("full/keep", "mine")
        self.assertIn("error NEW-EXISTS", self.yarrik("new", "workspace", "full", code=2))
        self.assertEqual([path.name for path in (self.folder / "full").iterdir()], ["keep"])
        self.write("file", "mine")
        self.assertIn("error NEW-EXISTS", self.yarrik("new", "workspace", "file", code=2))
        (self.folder / "empty").mkdir()
        self.yarrik("new", "workspace", "empty")
        for bad in ("Bad name", "starter", "-x"):
            self.assertIn("error NEW-NAME", self.yarrik("new", "workspace", "--", bad, code=2), bad)
        self.write("plain", "")
        self.assertIn("error NEW-UNWRITABLE", self.yarrik("new", "workspace", "plain/inside", code=2))

    def test_the_dialogue_shows_what_there_is_and_takes_numbers_names_and_the_usual(self) -> None:
        self.new("board", "dock", "--from", f"bench-{host_arch()}")
        said = self.at_terminal("new", "product", "office", at=self.root, types=b"nothing\ndock\n\n")
        self.assertIn(b"`nothing` is not one of them", said)
        product = tomllib.loads((self.root / "products/office.toml").read_text())
        self.assertEqual((product["board"], product["image"]), ("dock", "gauge"))
        self.assertIn("office: no problem found", self.yarrik("check", "office", at=self.root))


class DefinitionsAreAdded(NewTest):
    def test_one_of_each_kind_passes_the_check_and_builds(self) -> None:
        self.new("recipe", "hello")
        self.new("image", "office")
        self.new("profile", "plain")
        self.new("board", "dock")
        self.new("variant", "loud")
        self.new("image", "derived", "--from", "office")
        self.new("image", "copied", "--from", "office", "--copy")
        self.new("profile", "debug", "--from", "plain")
        self.new("board", "pier", "--from", "dock")
        self.new("product", "office", "--board", "pier", "--profile", "debug", "--image", "derived")
        self.new("product", "second", "--from", "office")
        self.new("shelf", "drivers")
        self.new("recipe", "driver")  # the last shelf is the usual one
        self.assertTrue((self.root / "shelves/drivers/recipes/driver/recipe.toml").is_file())
        self.yarrik("check", "--all", at=self.root)
        shelf = self.root / "shelves/gauge"
        self.assertEqual((shelf / "images/copied.toml").read_text(), (shelf / "images/office.toml").read_text())
        image = shelf / "images/derived.toml"
        image.write_text(image.read_text().replace("# packages.add =", "packages.add ="))
        self.assertRegex(self.yarrik("build", "office", "--with", "loud", at=self.root), r"office\+loud: \d+ steps ran")
        said = self.yarrik("inspect", "out/office+loud/office+loud.img", "/usr/bin", at=self.root)
        self.assertIn("/usr/bin/hello", said)

    def test_every_commented_example_is_one_that_works(self) -> None:
        """What the comments offer may be typed by taking the `# ` away."""
        self.new("recipe", "hello")
        self.new("image", "office")
        file = self.root / "shelves/gauge/images/office.toml"
        text = re.sub(r"(?m)^# (?=\[|\w[\w-]* =)", "", file.read_text())
        hostname = next(line for line in text.splitlines() if line.startswith("hostname"))
        text = text.replace(hostname + "\n", "").replace("packages =", hostname + "\npackages =", 1)
        file.write_text(text)
        self.assertIn("[[user]]\nname", text)
        self.new("product", "office", "--image", "office")
        self.yarrik("check", "office", at=self.root)
        self.yarrik("build", "office", at=self.root)
        said = self.yarrik("inspect", "out/office/office.img", "/etc", "/var/log", at=self.root)
        self.assertRegex(said, r"-0644 +100:\d+ .*/etc/place")
        self.assertRegex(said, r"d0750 +100:\d+ .*/var/log/meter")

    def test_names_and_choices_that_cannot_be_say_what_can(self) -> None:
        self.assertIn("error NEW-EXISTS: there is a board `gauge` already", self.new("board", "gauge", code=2))
        self.assertIn("error NEW-CHOICE: there is no board `zzz`", self.new("product", "x", "--board", "zzz", code=2))
        self.assertIn("known here: bench-arm64, bench-x86-64, gauge", self.new("product", "x", "--board", "zzz", code=2))
        self.assertIn("did you mean `gauge`?", self.new("image", "x", "--from", "gague", code=2))
        self.assertIn("there is no shelf `none`", self.new("recipe", "x", "--shelf", "none", code=2))
        self.assertIn("there is no arch `z80`", self.new("board", "x", "--arch", "z80", code=2))
        self.assertIn("error NEW-NAME", self.new("recipe", "../x", code=2))
        self.assertIn("error NEW-EXISTS", self.new("shelf", "starter", code=2))
        self.assertEqual(
            sorted(path.name for path in (self.root / "shelves/gauge").iterdir()), ["boards", "images", "shelf.toml"]
        )

    def test_a_new_shelf_joins_the_list_and_comments_stay(self) -> None:
        file = self.root / "yarrik.toml"
        before = file.read_text()
        self.new("shelf", "drivers")
        self.assertTrue(file.read_text().startswith(before))
        self.assertEqual([one["name"] for one in tomllib.loads(file.read_text())["shelf"]], ["starter", "gauge", "drivers"])
        inline = '[workspace]\nname = "x"\n'
        listed = 'shelf = [{ name = "starter", path = "shelves/starter" }]\n'
        file.write_text(listed + inline)
        self.assertIn("add it by hand", self.new("shelf", "more", code=2))
        self.assertEqual(file.read_text(), listed + inline)

    def test_links_in_a_workspace_of_others_lead_nowhere(self) -> None:
        outside = self.folder / "outside"
        outside.mkdir()
        for place in ("shelves/gauge/recipes", "shelves/gauge/profiles"):
            (self.root / place).symlink_to(outside)
        self.assertIn("error NEW-UNWRITABLE", self.new("recipe", "hello", code=2))
        self.assertIn("error NEW-UNWRITABLE", self.new("profile", "mine", "--from", "small", code=2))
        (self.root / "products/other.toml").symlink_to(outside / "made")
        self.assertIn("error NEW-EXISTS", self.new("product", "other", "--from", "gauge", code=2))
        self.assertEqual(list(outside.iterdir()), [])

    def test_a_shelf_beside_the_workspace_takes_new_definitions_too(self) -> None:
        self.write("beside/shelf.toml", '[shelf]\nname = "beside"\n')
        with (self.root / "yarrik.toml").open("a") as file:
            file.write('\n[[shelf]]\nname = "beside"\npath = "../beside"\n')
        self.new("recipe", "hello", "--shelf", "beside")
        text = (self.root / "yarrik.toml").read_text()
        (self.root / "yarrik.toml").write_text(text.replace("../beside", str(self.folder / "beside")))
        self.new("recipe", "second", "--shelf", "beside")
        for name in ("hello", "second"):
            self.assertTrue((self.folder / f"beside/recipes/{name}/src/{name}.c").is_file())

    def test_for_programs_there_is_json(self) -> None:
        made = self.yarrik_json("new", "recipe", "hello", at=self.root)
        self.assertEqual([Path(file).name for file in made["files"]], ["recipe.toml", "Makefile", "hello.c"])


class TextsAreTidy(unittest.TestCase):
    def test_comments_line_up_and_what_is_no_comment_stays(self) -> None:
        text = 'a = "x"  # one\nlonger-key = "y"        # two\n# b = 1    # three\n# words\nplain\n'
        self.assertEqual(aligned(text).splitlines(), [
            'a = "x"                           # one', 'longer-key = "y"                  # two', "# b = 1                           # three",
            "# words", "plain",
        ])  # fmt: skip
        long = f"[options.{'x' * 40}]"
        self.assertEqual(aligned(f"{long}  # why\n"), f"{long}  # why\n")

    def test_the_shipped_shelf_has_a_board_for_each_architecture_offered(self) -> None:
        self.assertEqual(bench_arches(), ["arm64", "x86-64"])
        self.assertTrue((starter_shelf() / "shelf.toml").is_file())


if __name__ == "__main__":
    unittest.main()
