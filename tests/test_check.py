"""`check` before a long night, warnings that a product silences, and codes that are explained."""

import json
import shutil
from unittest import mock

from tests.support import WorkspaceTest
from yarrik.errors import Place
from yarrik.model import Overrides
from yarrik.run import Session, examine_product
from yarrik.run.sandbox import Sandbox
from yarrik.toolchain import missing_program


class CheckTest(WorkspaceTest):
    def rows(self, *words: str, code: int = 0) -> dict[str, tuple[str, str]]:
        rows = self.yarrik_json("check", *words, code=code, at=self.root)["rows"]
        return {row["topic"]: (row["verdict"], row["next"]) for row in rows}


class OneTable(CheckTest):
    def test_a_healthy_product(self) -> None:
        said = self.yarrik("check", at=self.root)
        self.assertRegex(said, r"p: no problem found(.|\n)*ok +definitions +\d+ on 1 shelf(.|\n)*next: yarrik build p")
        rows = self.rows()
        self.assertEqual({verdict for verdict, _ in rows.values()} - {"ok", "advice"}, set())
        self.assertLessEqual({"host", "space", "definitions", "product", "lock", "programs", "sources", "image"}, rows.keys())

    def test_every_stop_is_a_row_with_what_to_do_and_the_rest_is_looked_at_too(self) -> None:
        self.write("w/TERMS", "x")
        self.write("w/s/shelf.toml", '[shelf]\nname = "s"\nterms = "TERMS"\n')
        self.write("w/s/TERMS", "Ours.\n")
        self.recipe("tool-user", "true", more='programs = ["no-such-program"]', files={"x": ""})
        self.write("w/s/images/i.toml", 'packages = ["init", "tool-user"]\n')
        rows = self.rows(code=2)
        self.assertEqual(rows["programs"][0], "stop")
        self.assertEqual(rows["terms"], ("stop", "yarrik terms show s, then: yarrik terms accept s"))
        self.assertEqual(rows["image"][0], "ok")
        said = self.yarrik("check", code=2, at=self.root)
        self.assertRegex(
            said, r"p: 2 errors, a build would stop(.|\n)*stop +programs(.|\n)*error HOST-TOOL-MISSING(.|\n)*error TERMS-OPEN"
        )

    def test_what_cannot_be_looked_at_has_no_row(self) -> None:
        self.write("w/s/images/i.toml", 'packages = "init"\n')
        rows = self.rows(code=2)
        self.assertEqual(rows["product"][0], "stop")
        self.assertNotIn("programs", rows)
        self.write("w/s/shelf.toml", '[shelf]\nname = "s"\nneeds = ["t"]\n')
        self.assertEqual(self.rows(code=2)["definitions"][0], "stop")

    def test_the_emulator_only_when_a_boot_is_asked_for(self) -> None:
        self.assertNotIn("emulator", self.rows())
        self.assertIn("error EMULATOR-NONE", self.yarrik("check", "--boot", code=2, at=self.root))
        board = self.root / "s/boards/b.toml"
        board.write_text(
            board.read_text() + '[emulator]\nprogram = "no-such-emulator"\narguments = ["{image}"]\ndebian-packages = ["emu"]\n'
        )
        self.yarrik("check", at=self.root)
        self.assertRegex(
            self.yarrik("check", "--boot", code=2, at=self.root),
            r"no-such-emulator is not on this machine(.|\n)*apt-get install emu",
        )

    def test_online_asks_servers_for_what_is_not_here(self) -> None:
        from tests.test_catalogue import ServedFolder

        server = ServedFolder(self.folder / "served")
        self.addCleanup(server.server.shutdown)
        self.write("served/far-1.tar.gz", "x")
        self.recipe("far", "true", files={"x": ""})
        file = self.root / "s/recipes/far/recipe.toml"
        file.write_text(file.read_text().replace('path = "src"', f'url = "{server.url}/far-1.tar.gz"\nsha256 = "{"0" * 64}"'))
        self.write("w/s/images/i.toml", 'packages = ["init", "far"]\n')
        self.assertEqual(self.rows()["sources"], ("ok", "yarrik fetch; or: yarrik check --online"))
        self.assertEqual(self.rows("--online")["sources"], ("ok", ""))
        server.refuse = True
        said = self.yarrik("check", "--online", code=1, at=self.root)
        self.assertRegex(said, r"stop +sources(.|\n)*error SOURCE-UNREACHABLE(.|\n)*answered 503")
        self.yarrik("check", at=self.root)

    def test_all_products_have_a_row_each(self) -> None:
        self.write("w/products/q.toml", 'board = "b"\nprofile = "p"\nimage = "none"\n')
        rows = self.rows("--all", code=2)
        self.assertEqual((rows["p"][0], rows["q"]), ("ok", ("stop", "yarrik check q")))

    def test_1_a_path_that_make_takes_for_something_else(self) -> None:
        """Harmless in the sandbox, where every path is /step; without one it is told."""
        strange = self.folder / "my $work: 1"
        shutil.copytree(self.root, strange)
        self.yarrik("build", at=strange)
        self.assertNotIn("PATH-UNFIT", self.yarrik("check", at=strange))
        with mock.patch.object(Sandbox, "bubblewrap", None):
            for root, wanted in ((strange, ["PATH-UNFIT"]), (self.root, [])):
                session = Session(root)
                with mock.patch.dict("os.environ", self.environment):
                    found = examine_product(session, "p", Overrides())
                session.close()
                self.assertEqual([one.code for one in found.warnings if one.code == "PATH-UNFIT"], wanted)
                self.assertIn(("advice", "sandbox"), [(row.verdict, row.topic) for row in found.rows])

    def test_2_a_program_that_is_missing_is_named_with_its_package(self) -> None:
        # Which programs this machine has is nobody's promise: the sentence is asked for by itself.
        for program, package in (("cmake", "cmake"), ("meson", "meson"), ("bison", "bison"), ("ninja", "ninja-build")):
            told = missing_program(program, Place(), "it builds")
            self.assertEqual((told.code, told.remedy), ("HOST-TOOL-MISSING", f"on Debian: apt-get install {package}"))
        self.write("w/s/images/i.toml", 'packages = ["init", "far"]\n')
        self.recipe("far", "true", more='programs = ["perl:XML::NoSuchParser"]', files={"x": ""})
        self.assertIn("the Perl module `XML::NoSuchParser`", self.yarrik("check", at=self.root, code=2))
        self.recipe("far", "true", more='programs = ["python:no_such.parser"]', files={"x": ""})
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn("the Python module `no_such.parser` is not among those of this machine's own Python", said)
        self.assertIn("apt-get install python3-no-such", said)
        for wrong in ("python:", "python:../x", "python:a..b", "python:a b"):
            self.recipe("far", "true", more=f'programs = ["{wrong}"]', files={"x": ""})
            self.assertIn("is no program", self.yarrik("check", at=self.root, code=2))

    def test_2_a_program_that_is_too_old_is_told_with_what_it_has(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init", "far"]\n')
        for wish, fine in ((">= 1", True), (">= 3.0, < 100", True), (">= 99", False), ("== 0.1", False)):
            self.recipe("far", "true", more=f'programs = ["make"]\nprogram-versions = {{ make = "{wish}" }}', files={"x": ""})
            said = self.yarrik("check", at=self.root, code=0 if fine else 2)
            self.assertEqual("HOST-TOOL-OLD" not in said, fine, wish)
        self.assertRegex(
            said,
            r"the program `make` is \d[.\d]+, and == 0.1 is asked for(.|\n)*far/recipe.toml:\d+(.|\n)*apt-get install make",
        )
        self.recipe(
            "far",
            "true",
            more='programs = ["true"]\nprogram-versions = { test = ">= 1", "/bin/false" = ">= 1" }',
            files={"x": ""},
        )
        self.assertRegex(self.yarrik("check", at=self.root, code=2), r"HOST-TOOL-OLD(.|\n)*`test` does not say its version")
        self.recipe("far", "true", more='program-versions = { make = "newest" }', files={"x": ""})
        self.assertIn("VALUE-UNFIT", self.yarrik("check", at=self.root, code=2))


class Silence(CheckTest):
    """A condition that can never hold is warned of; the product says that it does not matter."""

    def setUp(self) -> None:
        super().setUp()
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text() + '[[when]]\nboard = "gone"\nset = { summary = "x" }\n')

    def silence(self, text: str) -> None:
        self.write("w/products/p.toml", f'board = "b"\nprofile = "p"\nimage = "i"\n{text}\n')

    def test_with_a_reason_it_is_not_shown_and_show_says_why(self) -> None:
        self.assertIn("warning CONDITION-NEVER", self.yarrik("check", at=self.root))
        self.assertIn("gone", self.yarrik("build", at=self.root))
        self.silence('[silence]\nCONDITION-NEVER = "the board comes in spring"')
        said = self.yarrik("check", at=self.root)
        self.assertNotIn("CONDITION-NEVER", said)
        self.assertRegex(said, r"p: no problem found(.|\n)*silenced +1 warning; yarrik show p silence")
        self.assertRegex(
            self.yarrik("show", "p", "silence", at=self.root),
            r"silence.CONDITION-NEVER +the board comes in spring +products/p.toml:5",
        )
        said = self.yarrik("build", at=self.root)
        self.assertIn("1 warning silenced; yarrik show p silence says why", said)
        self.assertNotIn("gone", said)
        self.assertEqual(self.yarrik_json("check", at=self.root)["warnings"], [])

    def test_a_variant_may_silence_too(self) -> None:
        self.write("w/variants/quiet.toml", '[set.product.silence]\nCONDITION-NEVER = "known"\n')
        self.assertNotIn("CONDITION-NEVER", self.yarrik("check", "--with", "quiet", at=self.root))
        self.assertIn("CONDITION-NEVER", self.yarrik("check", at=self.root))

    def test_only_warnings_and_only_with_a_reason(self) -> None:
        for text, wanted in (('KEY-UNKNOWN = "x"', "is an error, and only warnings"), ('CONDITION-NEVRE = "x"', "did you mean `CONDITION-NEVER`"),
                             ('CONDITION-NEVER = " "', "without a reason"), ("CONDITION-NEVER = true", "VALUE-TYPE")):  # fmt: skip
            self.silence(f"[silence]\n{text}")
            said = self.yarrik("check", code=2, at=self.root)
            self.assertIn(wanted, said)
        self.assertIn("products/p.toml:5", said)
        self.silence('[silence]\nKEY-UNKNOWN = "x"')
        self.assertIn("error SILENCE-UNFIT", self.yarrik("check", code=2, at=self.root))

    def test_warnings_of_steps_have_codes(self) -> None:
        """PACKAGE-FILES-LEFT (mistake 28) and PACKAGE-PATH-LEAKED (mistake 26), each silenced by itself."""
        self.write("w/s/images/i.toml", 'packages = ["init", "messy"]\n')

        def build(number: int) -> str:
            command = "printf '\\177ELF\\002' > $DESTDIR/etc/d"
            self.recipe("messy", f"mkdir -p $DESTDIR/etc && echo {number} $PWD/x > $DESTDIR/etc/a && touch $DESTDIR/etc/b && {command}",
                        {"x": ""}, package='[package.messy]\nfiles = ["/etc/a", "/etc/d"]')  # fmt: skip
            return self.yarrik("build", at=self.root)

        said = build(1)
        self.assertIn("no package of `messy` takes /etc/b", said)
        self.assertIn("/etc/a holds a path of the build", said)
        self.assertIn("note  messy: /etc/d: ", said)
        self.silence('[silence]\nPACKAGE-FILES-LEFT = "on purpose"\nCONDITION-NEVER = "known"')
        said = build(2)
        self.assertNotIn("no package of", said)
        self.assertIn("holds a path of the build", said)
        self.assertIn("2 warnings silenced", said)
        self.silence('[silence]\nPACKAGE-PATH-LEAKED = "a comment only"\nPACKAGE-ELF-DAMAGED = "a sample"')
        said = build(3)
        self.assertNotIn("holds a path of the build", said)
        self.assertNotIn("messy: /etc/d: ", said)

    def test_overlays_that_change_nothing_or_the_same(self) -> None:
        """OVERLAY-NOTHING and OVERLAY-OVERWRITES have codes in what the device tree's step leaves."""
        self.write("w/s/boards/b.dts", "/dts-v1/;\n/ { #address-cells = <1>; #size-cells = <1>; a: one { value = <0>; }; };\n")
        for name, value in (("x", 1), ("y", 2)):
            self.write(f"w/s/boards/{name}.dtso", f"/dts-v1/;\n/plugin/;\n&a {{ value = <{value}>; }};\n")
        board = self.root / "s/boards/b.toml"
        text = board.read_text()
        for overlays, code in (('"x.dtso", "y.dtso"', "OVERLAY-OVERWRITES"), ('"x.dtso", "x.dtso"', "OVERLAY-NOTHING")):
            board.write_text(text.replace("[kernel]\n", f'[kernel]\ndevice-tree = "b.dts"\noverlays = [{overlays}]\n'))
            self.silence("")
            self.assertRegex(self.yarrik("build", at=self.root), "both set|changes nothing")
            self.silence(f'[silence]\n{code} = "known"')
            self.assertNotRegex(self.yarrik("build", at=self.root), "both set|changes nothing", code)


class Explaining(CheckTest):
    def test_a_code_is_explained_with_example_and_way_out(self) -> None:
        said = self.yarrik("explain", "boot-console", "DISK-SPACE")
        self.assertRegex(
            said,
            r"BOOT-CONSOLE(.|\n)*example +`console = (.|\n)*way out +Name another port(.|\n)*DISK-SPACE(.|\n)*can silence it",
        )
        self.assertEqual(json.loads(self.yarrik("explain", "USAGE", "--json"))["codes"][0]["severity"], "stop")
        self.assertIn("did you mean `BOOT-CONSOLE`?", self.yarrik("explain", "BOOT-CONSOEL", code=2))
