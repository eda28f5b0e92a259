"""The catalogue of codes: complete, as documented, and each of its codes is met by some test."""

import os
import re
import subprocess
import sys
import unittest
from pathlib import Path
from typing import ClassVar
from unittest import mock

from tests.support import WorkspaceTest
from yarrik.cache import MissingObject, Store
from yarrik.cache.places import storage_at
from yarrik.code_help import HELP, as_markdown
from yarrik.codes import CODES
from yarrik.errors import Damaged, Place, YarrikError
from yarrik.plan import PrepareFolder, Step
from yarrik.resolve.runtime import choose_packages
from yarrik.rootfs.folder import read_folder
from yarrik.run import Session
from yarrik.run.perform import taken

TOP = Path(__file__).parent.parent
_CODE = re.compile(r'"([A-Z][A-Z0-9]+(?:-[A-Z0-9]+)+|FAULT|USAGE)"')
#: Put together from a kind's name.
_MADE = {"BOARD-UNKNOWN", "PROFILE-UNKNOWN", "IMAGE-UNKNOWN"}


class TheCatalogueIsTrue(unittest.TestCase):
    def test_it_has_all_codes_and_no_others(self) -> None:
        files = [path for path in (TOP / "src/yarrik").rglob("*.py") if path.name not in ("codes.py", "code_help.py")]
        used = {code for path in files for code in _CODE.findall(path.read_text())}
        self.assertEqual((used | _MADE) ^ CODES.keys(), set())

    def test_the_page_is_written_from_it(self) -> None:
        self.assertEqual((TOP / "docs/codes.md").read_text(), as_markdown(), "run `yarrik codes --markdown > docs/codes.md`")

    def test_each_has_an_example_and_a_way_out(self) -> None:
        self.assertEqual(HELP.keys() ^ CODES.keys(), set())
        for code, one in HELP.items():
            self.assertGreater(len(one.example), 8, code)
            self.assertRegex(one.way_out, r"^[A-Z`].*[.`0-9A-Z]$|^`", code)

    def test_a_test_provokes_each(self) -> None:
        text = "".join(path.read_text() for path in (TOP / "tests").glob("*.py"))
        missing = {code for code in CODES if not re.search(rf"(?<![A-Z-]){code}(?![A-Z-])", text)}
        self.assertEqual(missing, set())


class EachIsMet(WorkspaceTest):
    def met(self, code: str, *words: str | Path) -> None:
        """The program ends with an error of this code."""
        said = self.yarrik(*words, at=self.root, code=self.codes.get(code, 2))
        self.assertIn(f"error {code}:", said)
        self.assertRegex(said, r"(?m)^  next ")

    #: Those that end with something else than a wrong request.
    codes: ClassVar[dict[str, int]] = {}

    def recipe_text(self, name: str, text: str) -> None:
        self.write(f"w/s/recipes/{name}/recipe.toml", 'version = "1"\nlicence = "MIT"\n' + text)

    def image(self, text: str) -> None:
        self.write("w/s/images/i.toml", text)

    def test_in_definitions(self) -> None:
        self.image('packages = ["init"]\n[[user]]\nname = "u"\nid = 70000\n')
        self.met("ACCOUNT-ID", "check")
        self.image('packages = ["init"]\n[[file]]\npath = "/x"\n')
        self.met("IMAGE-FILE", "check")
        self.image('packages = ["init"]\nrefuse = ["init"]\n')
        self.met("PACKAGE-REFUSED", "check")
        self.image('packages = ["init"]\n')
        self.write("w/s/boards/one.toml", 'extends = "two"\n')
        self.write("w/s/boards/two.toml", 'extends = "one"\n')
        self.met("EXTENDS-LOOP", "check", "--all")
        (self.root / "s/boards/one.toml").unlink()
        (self.root / "s/boards/two.toml").unlink()
        self.write("w/s/boards/Bad name.toml", "")
        self.met("NAME-UNFIT", "check", "--all")
        (self.root / "s/boards/Bad name.toml").unlink()
        self.met("TOOLCHAIN-FORM", "check", "--set", "board.arch=arm64", "--set", "board.toolchain.recipe=init")
        self.write("w/products/q.toml", 'board = "nowhere"\nprofile = "p"\nimage = "i"\n')
        self.met("PRODUCT-UNNAMED", "check")
        self.met("BOARD-UNKNOWN", "check", "q")
        self.write("w/products/q.toml", 'board = "b"\nprofile = "nowhere"\nimage = "nowhere"\n')
        self.met("PROFILE-UNKNOWN", "check", "q")
        self.met("IMAGE-UNKNOWN", "check", "q")
        (self.root / "products/q.toml").unlink()
        file = self.root / "s/shelf.toml"
        file.write_text('[shelf]\nname = "t"\n')
        self.met("SHELF-NAME", "check")
        file.write_text('[shelf]\nname = "s"\nneeds-yarrik = "x y"\n')
        self.assertRegex(self.yarrik("check", at=self.root, code=2), "error (VERSION-FORM|VALUE-UNFIT):")

    def test_in_recipes(self) -> None:
        self.image('packages = ["init", "app"]\n')
        plain = '[build]\nusing = "plain"\ncommands = ["true"]\n'
        self.recipe_text("app", plain)
        self.met("SOURCE-COUNT", "check")
        self.recipe_text("app", "[[source]]\n" + plain)
        self.met("SOURCE-FORM", "check")
        self.recipe_text("app", '[[source]]\npath = "src"\n[build]\nusing = "kernel-module"\n')
        self.write("w/s/recipes/app/src/x", "")
        self.met("KERNEL-NO-MODULES", "check")
        self.write("w/s/recipes/app/recipe.toml", f'licence = "MIT"\n[[source]]\npath = "src"\n{plain}')
        self.met("RECIPE-VERSION", "check")
        self.recipe("app", "true", more='needs = ["lib"]')
        self.recipe("lib", "true", more='needs = ["app"]')
        self.met("NEEDS-LOOP", "check")
        (self.root / "s/recipes/lib/recipe.toml").unlink()
        (self.root / "s/recipes/lib/recipe.toml").mkdir()
        self.met("FILE-UNREADABLE", "check")

    def test_in_a_choice(self) -> None:
        choice = '[choice.ink]\nof = ["grey", "colour"]\ndefault = "grey"\n[options.grey]\n[options.colour]\n'
        self.recipe("plot", "true", package=choice)
        self.recipe("one", "true", more='needs = ["plot[grey]"]')
        self.recipe("two", "true", more='needs = ["plot[colour]"]')
        self.image('packages = ["init", "one", "two"]\n')
        self.met("CHOICE-CLASH", "check")

    def test_while_building(self) -> None:
        self.codes = dict.fromkeys(("LICENCE-FILE-MISSING", "PACKAGE-FILE-MISSING", "MODULE-DAMAGED", "KERNEL-MISSING"), 1)
        self.image('packages = ["init", "app"]\n')
        self.recipe("app", "echo x > $DESTDIR/x")
        file = self.root / "s/recipes/app/recipe.toml"
        text = file.read_text()
        file.write_text('licence-files = ["COPYING"]\n' + text)
        self.met("LICENCE-FILE-MISSING", "build")
        file.write_text(text + '[package.app]\nfiles = ["/none"]\n')
        self.met("PACKAGE-FILE-MISSING", "build")
        self.recipe(
            "app",
            "mkdir -p $DESTDIR/lib/modules/1; head -c 99 /dev/zero > $DESTDIR/lib/modules/1/x.ko; printf '\\177ELF' | dd conv=notrunc of=$DESTDIR/lib/modules/1/x.ko",
        )
        self.met("MODULE-DAMAGED", "build")
        self.image('packages = ["init"]\n')
        self.recipe(
            "kernel", "mkdir -p $DESTDIR/boot; echo x > $DESTDIR/boot/other", package='[package.kernel]\nfiles = ["/boot"]\n'
        )
        self.met("KERNEL-MISSING", "build")

    def test_in_what_the_bench_says(self) -> None:
        self.image('packages = ["init"]\n[[file]]\npath = "/etc/inittab"\ncontent = "c::respawn:/sbin/init\\n"\n')
        self.yarrik("build", at=self.root)
        said = self.yarrik("boot", "--bench", "out/p/p.img", at=self.root)
        self.assertIn("warning LOGIN-NO-SHELL", said)
        self.recipe(
            "getty",
            "mkdir -p $DESTDIR/sbin; cp /bin/true $DESTDIR/sbin/getty 2>/dev/null || echo '#!/sbin/init' > $DESTDIR/sbin/getty; chmod 755 $DESTDIR/sbin/getty",
        )
        self.image('packages = ["init", "getty"]\n[[file]]\npath = "/etc/inittab"\ncontent = "c::respawn:/sbin/getty\\n"\n')
        self.yarrik("build", at=self.root)
        self.assertIn("warning LOGIN-NOBODY", self.yarrik("boot", "--bench", "out/p/p.img", at=self.root))
        self.codes = {"PARTITION-UNKNOWN": 2}
        self.met("PARTITION-UNKNOWN", "inspect", "out/p/p.img", "--partition", "none")
        self.met("SETTINGS-NONE", "boot", "set", "out/p/p.img", "x=y")
        from yarrik.boot import bench

        with mock.patch.object(bench, "_table", side_effect=Damaged("odd")), (self.root / "out/p/p.img").open("rb") as file:
            from yarrik.disk.opening import open_image

            found = bench.try_image(file, open_image(file, (self.root / "out/p/p.img").stat().st_size), "p.img")
        self.assertEqual(found.stop.code, "BOOT-DAMAGED")

    def test_on_the_command_line(self) -> None:
        self.met("EMULATOR-NONE", "boot")
        self.met(
            "FILESYSTEM-UNKNOWN", "check", "--set", 'board.disk=[{name="card",partition=[{name="root",filesystem="ext5"}]}]'
        )
        self.met("FORM-UNKNOWN", "pack", "s", "x.img", "--as", "ext5")
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text().replace("[kernel]", '[emulator]\nprogram = "sh"\narguments = ["x"]\n[kernel]', 1))
        self.met("IMAGE-MISSING", "boot")
        self.met("CACHE-NO-SHARED", "cache", "push")
        self.met("KIND-UNKNOWN", "schema", "nothing")
        self.met("NAME-MISSING", "show")
        self.met("NAME-UNKNOWN", "show", "nothing")
        self.met("NOT-FOUND", "find", "zzzz")
        with self.assertRaises(YarrikError) as caught, mock.patch.dict(sys.modules, {"boto3": None}):
            storage_at("s3://bucket/x", "", 1, Place())
        self.assertEqual(caught.exception.troubles[0].code, "CACHE-NO-S3")

    def test_on_device_trees(self) -> None:
        self.write("w/junk.dtb", b"junk")
        self.write("w/x.dts", "/dts-v1/;\n/ { };\n")
        self.write("w/cpp.dts", '#include "x.dts"\n')
        self.met("BLOB-DAMAGED", "devicetree", "show", "junk.dtb")
        self.met("BLOB-UNREADABLE", "devicetree", "show", "none.dtb")
        self.met("DTS-UNREADABLE", "devicetree", "compile", "none.dts", "--out", "x.dtb")
        self.met("CHECK-UNKNOWN", "devicetree", "compile", "x.dts", "--out", "x.dtb", "--silence", "NOPE")
        self.met("SIZE-UNKNOWN", "devicetree", "compile", "x.dts", "--out", "x.dtb", "--room", "much")
        self.met("OUT-FAILED", "devicetree", "compile", "x.dts", "--out", "none/x.dtb")
        self.met("DTS-PREPROCESSOR", "devicetree", "compile", "cpp.dts", "--out", "x.dtb", "--compiler", "no-such-compiler")
        self.yarrik("devicetree", "compile", "x.dts", "--out", "x.dtb", at=self.root)
        self.met("NODE-MISSING", "devicetree", "show", "x.dtb", "/none")

    def test_on_packing(self) -> None:
        (self.root / "tree").mkdir()
        (self.root / "tree/big").write_bytes(bytes(range(256)) * 4000)
        self.codes = dict.fromkeys(("PACK-TOO-SMALL", "PACK-UNFIT", "PACK-FAILED"), 1)
        self.met("FOLDER-MISSING", "pack", "none", "x.img", "--as", "ext4")
        self.met("PACK-TOO-SMALL", "pack", "tree", "x.img", "--as", "ext4", "--size", "256 KiB")
        self.met("PACK-UNFIT", "pack", "tree", "x.img", "--as", "fat", "--label", "much too long a label")
        self.met("PACK-FAILED", "pack", "tree", "none/x.img", "--as", "tar")
        self.write("w/owners", "what is this\n")
        self.met("OWNERS-LINE", "pack", "tree", "x.img", "--as", "tar", "--owners", "owners")
        self.met("OWNERS-UNREADABLE", "pack", "tree", "x.img", "--as", "tar", "--owners", "none")
        with open("/dev/full", "w") as full:
            done = subprocess.run(
                [sys.executable, "-m", "yarrik", "check"], cwd=self.root, env=self.environment, stdout=full,
                stderr=subprocess.PIPE, text=True, check=False,
            )  # fmt: skip
        self.assertEqual(done.returncode, 1)
        self.assertIn("error IO-FAILED: No space left on device", done.stderr)

    def test_in_a_workspace_whose_own_folder_leads_elsewhere(self) -> None:
        (self.root / ".yarrik").symlink_to(self.folder)
        self.met("WORKSPACE-LINK", "check")

    def test_in_a_workspace_that_cannot_be_written(self) -> None:
        (self.root / ".yarrik").write_text("a file where the folder belongs")
        self.met("WORKSPACE-UNWRITABLE", "check")

    def test_what_cannot_be_read_or_moves_under_a_build(self) -> None:
        self.recipe("piped", "true", {"note": "x\n"})
        os.mkfifo(self.root / "s/recipes/piped/src/pipe")
        self.image('packages = ["init", "piped"]\n')
        self.codes = {"TREE-UNREADABLE": 2}
        self.met("TREE-UNREADABLE", "build")
        denied = PermissionError(13, "Permission denied", "tree/secret")
        with self.assertRaises(YarrikError) as caught, mock.patch("yarrik.rootfs.folder.os.scandir", side_effect=denied):
            read_folder(self.root)
        self.assertEqual(caught.exception.troubles[0].code, "FOLDER-UNREADABLE")
        self.assertIn("tree/secret", caught.exception.troubles[0].what)
        step = Step("take", "blob", PrepareFolder(), {"blob": "0" * 64}, places={"blob": self.write("blob", b"changed")})
        context = mock.Mock(step=step, store=Store(self.folder / "cache"))
        with self.assertRaises(YarrikError) as caught:
            taken(context, "blob")
        self.assertEqual(caught.exception.troubles[0].code, "SOURCE-MOVED")

    def test_a_hole_that_stays_though_everything_was_made_again(self) -> None:
        hole = mock.patch("yarrik.run.perform.perform", side_effect=MissingObject("0" * 64))
        with mock.patch.dict(os.environ, self.environment), hole as performed:
            session = Session(self.root)
            self.addCleanup(session.close)
            report = session.builder.build(session.planner.planned(session.planner.compose()), keep_going=True)
        self.assertEqual({trouble.code for error in report.errors for trouble in error.troubles}, {"CACHE-HOLE"})
        self.assertFalse(report.published)
        names = [call.args[1].step.name for call in performed.call_args_list]
        self.assertEqual(len(names), len(set(names)), "what has no inputs cannot be mended")

    def test_a_package_that_no_recipe_made(self) -> None:
        with self.assertRaises(YarrikError) as caught:
            choose_packages([], [("tide", "the image lists it")])
        self.assertEqual(caught.exception.troubles[0].code, "PACKAGE-MISSING")
        self.assertIn("(the image lists it)", caught.exception.troubles[0].what)

    def test_codes_are_explained(self) -> None:
        self.assertIn("`root=` is in a form", self.yarrik("codes", "BOOT-ROOT-FORM", at=self.root))
        self.assertEqual(len(self.yarrik_json("codes", at=self.root)["codes"]), len(CODES))


if __name__ == "__main__":
    unittest.main()
