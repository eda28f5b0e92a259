"""Builds after definitions were written otherwise and say the same, or are none of the product's: nothing is planned."""

import os
import re
import shutil
import subprocess
import time
import tomllib
import unittest
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from unittest import mock

from tests import test_rebuilding
from tests.test_unchanged import SETTLED, World
from yarrik.demo import lay_out_demo
from yarrik.errors import YarrikError
from yarrik.model import Overrides
from yarrik.run import Choices, Question, Rebuilder, Session, kept_plan, silent, unchanged
from yarrik.run.reporting import BuildReport


class Definitions(World):
    """A workspace with definitions of every kind, of which the product uses one and leaves one alone."""

    def add_recipes(self) -> None:
        self.write("w/s/boards/base.toml", (self.root / "s/boards/b.toml").read_text())
        self.write("w/s/boards/b.toml", 'extends = "base"\n')
        self.write("w/s/boards/spare.toml", 'extends = "base"\n[boot]\nread-only = true\n')
        self.write("w/s/profiles/spare.toml", 'init = "init"\nclock = 2020-01-01T00:00:00Z\n')
        self.write("w/s/images/spare.toml", 'packages = ["idle"]\n')
        self.write("w/s/images/rescue.toml", 'packages = ["init"]\n')
        self.write("w/s/groups/more.toml", 'packages = ["tool"]\n')
        self.write("w/variants/quiet.toml", "[set]\nprofile.strip = false\n")
        self.write("w/s/variants/own.toml", '[set]\nimage.hostname = "own"\n')
        self.write("w/s/amendments/named.toml", 'profile = "p"\n[set]\nclock = 2021-01-01T00:00:00Z\n')
        self.write("w/products/q.toml", 'board = "spare"\nprofile = "spare"\nimage = "spare"\n')
        product = 'board = "b"\nprofile = "p"\nimage = "i"\nvariants = ["own"]\n'
        self.write("w/products/p.toml", product + '[[more-image]]\nname = "rescue"\nimage = "rescue"\n')
        self.recipe("asked", "true", package='[[when]]\nboard = "b"\n[when.set]\nsummary = "measures"')
        workspace = self.root / "yarrik.toml"
        if "product =" not in workspace.read_text():
            workspace.write_text(workspace.read_text().replace("[workspace]\n", '[workspace]\nproduct = "p"\n'))
        image = self.root / "s/images/i.toml"
        image.write_text(image.read_text().replace('"tool"', '"@more", "asked"'))

    @property
    def files(self) -> list[Path]:
        """All files of definitions, and those of the workspace and its shelf."""
        return sorted(self.root.rglob("*.toml"))


class SaidOtherwise(Definitions, test_rebuilding.Rebuilt):
    def nothing_runs(self) -> BuildReport:
        with mock.patch("yarrik.run.planning.Planner", side_effect=AssertionError("it was planned")):
            report = self.rebuilt()
        self.assertEqual((self.ran(report), report.published), ([], False))
        return report

    def check_against_planning(self) -> None:
        long = self.long_way()
        self.assertEqual([one.step.name for one in long.steps if one.how != "kept"], [])
        self.assertFalse(long.published)

    def test_comments_in_any_of_them(self) -> None:
        self.assertGreater(len(self.files), 20)
        for file in self.files:
            with self.subTest(file.name):
                file.write_text(f"# seen at low water\n\n{file.read_text()}")
                report = self.nothing_runs()
                self.assertEqual(len(report.rows), report.kept)
        self.check_against_planning()

    def test_all_of_them_at_once_and_as_other_files(self) -> None:
        for file in self.files:
            (fresh := file.with_name("fresh")).write_text(file.read_text().replace(" = ", "   =   "))
            fresh.replace(file)
        self.nothing_runs()
        self.check_against_planning()

    def test_it_is_known_again_afterwards(self) -> None:
        before = unchanged.kept_build(self.question)
        for file in self.files:
            os.utime(file)
        self.assertIsNone(unchanged.kept_build(self.question))
        self.nothing_runs()
        time.sleep(2 * SETTLED)
        self.nothing_runs()  # they could have changed again unseen
        again = unchanged.kept_build(self.question)
        assert before is not None and again is not None
        self.assertEqual((again.steps, again.fingerprints, again.notes), (before.steps, before.fingerprints, before.notes))

    def test_one_that_was_just_written_is_looked_at_again(self) -> None:
        """Without planning: it says what was planned with."""
        image = self.root / "s/images/i.toml"
        image.write_text(image.read_text().replace('"@more"', '"@more", "idle"'))
        self.assertIsNone(self.short_way())
        self.long_way()
        self.nothing_runs()
        image.write_text(image.read_text().replace('"@more", "idle"', '"idle", "@more"'))
        self.assertIsNone(self.short_way())

    def test_a_source_beside_them_may_change(self) -> None:
        image = self.root / "s/images/i.toml"
        image.write_text(f"# high water\n{image.read_text()}")
        (self.source / "a.txt").write_text("spring tide\n")
        self.assertEqual(self.ran(self.rebuilt())[:3], ["prepare tool", "build tool", "stage tool"])

    def test_a_branch_and_back(self) -> None:
        """As git leaves files that differ between two branches."""
        git = ["git", "-c", "user.name=Tide", "-c", "user.email=tide@harbour.invalid", "-C", str(self.root)]
        (self.root / ".gitignore").write_text(".yarrik\nout\n")
        for words in (
            ["init", "-q", "-b", "main"],
            ["add", "."],
            ["commit", "-q", "-m", "as it is"],
            ["switch", "-q", "-c", "ebb"],
        ):
            subprocess.run([*git, *words], check=True)
        for file in self.files:
            file.write_text(file.read_text() + "# ebb\n")
        (self.root / "s/images/i.toml").write_text('packages = ["init"]\n')
        subprocess.run([*git, "commit", "-q", "-a", "-m", "another"], check=True)
        subprocess.run([*git, "switch", "-q", "main"], check=True)
        self.nothing_runs()
        self.check_against_planning()

    def test_what_is_said_before_a_build(self) -> None:
        image = self.root / "s/images/i.toml"
        image.write_text(f"# high water\n{image.read_text()}")
        found = unchanged.asked_before(self.question)
        assert isinstance(found, unchanged.FewChanges)
        session = Session(self.root)
        self.addCleanup(session.close)
        self.assertEqual(Rebuilder(session.project, found).assess(), [])
        image.write_text(image.read_text() + 'locale = "C.UTF-8"\n')
        self.assertIsNone(Rebuilder(session.project, found).assess())

    def test_what_the_product_does_not_use(self) -> None:
        others = {
            "s/boards/spare.toml": ("true", "false"),
            "s/profiles/spare.toml": ("2020", "2021"),
            "s/images/spare.toml": ('"idle"', '"init"'),
            "variants/quiet.toml": ("false", "true"),
            "products/q.toml": ('image = "spare"', 'image = "i"'),
        }
        for name, (old, new) in others.items():
            with self.subTest(name):
                file = self.root / name
                file.write_text(file.read_text().replace(old, new))
                self.nothing_runs()
        self.check_against_planning()

    def test_what_gives_its_board_what_it_lacks_elsewhere_is_planned(self) -> None:
        """It is told where the board has it."""
        given, lost = '[set.board.kernel]\ndevice-tree = "gauge.dts"\n', "has no `kernel.device-tree` in this product"
        other = self.write("w/products/other.toml", f'board = "base"\nprofile = "p"\nimage = "i"\n{given}')
        self.settle()
        known = unchanged.kept_build(self.question)
        assert known is not None
        self.assertIn(lost, " ".join(known.notes))
        text = other.read_text()
        other.write_text(text.replace(given, ""))
        self.assertIsNone(self.short_way())
        self.assertNotIn(lost, " ".join(self.long_way().notes))
        time.sleep(2 * SETTLED)
        other.write_text('summary = "another"\n' + text.replace(given, ""))
        self.nothing_runs()
        other.write_text(text)
        self.assertIsNone(self.short_way())
        other.write_text(text.replace(given, ""))
        board = self.root / "s/boards/base.toml"
        board.write_text(board.read_text() + "[[when]]\nprofile = 'spare'\nset.kernel.device-tree = 'gauge.dts'\n")
        self.settle()
        other.write_text(text.replace(given, "").replace('profile = "p"', 'profile = "spare"'))
        self.assertIsNone(self.short_way())
        self.assertIn(lost, " ".join(self.long_way().notes))

    def test_what_it_uses_is_planned(self) -> None:
        others = {
            "s/boards/base.toml": "[toolchain]\ncompiler = 'gcc'\n",
            "s/boards/b.toml": "[boot]\nkey-name = 'tide'\n",
            "s/profiles/p.toml": "strip = false\n",
            "s/images/i.toml": "[root]\nlogin = 'locked'\n",
            "s/images/rescue.toml": 'refuse = ["tool"]\n',
            "s/variants/own.toml": "profile.strip = false\n",
            "s/groups/more.toml": 'summary = "more"\n',
            "s/amendments/named.toml": "strip = false\n",
            "s/recipes/asked/recipe.toml": 'licence = "BSD-2-Clause"\n',
            "s/shelf.toml": 'version = "2"\n',
            "products/p.toml": 'init = "/sbin/init"\n',
        }
        for name, more in others.items():
            with self.subTest(name):
                file = self.root / name
                text = file.read_text()
                file.write_text(text + more)
                self.assertIsNone(self.short_way())
                file.write_text(text)
        for name in ("p", "own"):  # and what differs in no more than its kind of value, or its order
            with self.subTest(name):
                file = self.root / "s/amendments/named.toml"
                text = file.read_text()
                file.write_text(text.replace("2021-01-01T00:00:00Z", '"2021-01-01T00:00:00Z"' if name == "p" else "2021-01-01"))
                self.assertIsNone(self.short_way())
                file.write_text(text)
        self.nothing_runs()

    def test_a_variant_that_was_asked_for_is_used(self) -> None:
        question = Question(self.root, variants=("quiet",))
        self.long_way(question)
        time.sleep(2 * SETTLED)
        self.long_way(question)
        variant = self.root / "variants/quiet.toml"
        for text, planned in (
            ("# not loud\n[set]\nprofile.strip = false\n", False),
            ("[set]\nprofile.strip = true\n", True),
        ):
            variant.write_text(text)
            found = unchanged.asked_before(question)
            assert isinstance(found, unchanged.FewChanges)
            session = Session(self.root)
            report = Rebuilder(session.project, found).build(None, False, silent)
            session.close()
            self.assertEqual(report is None, planned, text)

    def test_an_unused_one_with_an_error_is_planned(self) -> None:
        """Planning says so, and again without planning."""
        for name in ("s/boards/spare.toml", "products/q.toml", "variants/quiet.toml"):
            for wrong in ("no = 1\n", "[[\n", 'replaces = "s"\n', ""):
                with self.subTest(name, wrong=wrong):
                    file = self.root / name
                    text = file.read_text()
                    file.write_text(wrong + text) if wrong else file.write_bytes(b"\xff")
                    self.assertIsNone(self.short_way())
                    file.write_text(text)

    def test_what_a_warning_is_about_may_be_another_line(self) -> None:
        image = self.root / "s/images/i.toml"
        image.write_text(image.read_text() + "[[when]]\nboard = 'nowhere'\n[when.set]\nhostname = 'tern'\n")
        self.settle()
        before = unchanged.kept_build(self.question)
        assert before is not None
        line = _line_in(before.notes)
        image.write_text(f"# one line more\n{image.read_text()}")
        report = self.nothing_runs()
        self.assertEqual(_line_in(report.notes), line + 1)
        self.assertEqual(report.notes, self.long_way().notes)

    def test_one_that_comes_or_goes_is_planned(self) -> None:
        for name in ("s/boards/more.toml", "s/images/more.toml", "products/more.toml", "boards/more.toml"):
            with self.subTest(name):
                self.write(f"w/{name}", "arch = 'host'\n")
                self.assertIsNone(self.short_way())
                (self.root / name).unlink()
                if not list((self.root / name).parent.iterdir()):
                    (self.root / name).parent.rmdir()
        (self.root / "s/boards/spare.toml").unlink()
        self.assertIsNone(self.short_way())

    def test_a_link_in_its_place_is_planned(self) -> None:
        for name in ("s/images/i.toml", "s/boards/spare.toml"):
            file = self.root / name
            shutil.move(file, self.folder / "elsewhere.toml")
            file.symlink_to(self.folder / "elsewhere.toml")
            self.assertIsNone(self.short_way())
            file.unlink()
            shutil.move(self.folder / "elsewhere.toml", file)

    def test_what_is_kept_of_them_is_what_was_planned_with(self) -> None:
        """One that changes while a build goes on, and back after it."""
        for name in ("s/images/i.toml", "s/boards/base.toml", "yarrik.toml", "s/shelf.toml", "s/amendments/named.toml"):
            with self.subTest(name):
                file = self.root / name
                text = file.read_text()
                question = Question(self.root, settings=(f"image.hostname=a{len(name)}",))
                self.long_way(question, meanwhile=lambda file=file, text=text: file.write_text(_another(file, text)))
                time.sleep(2 * SETTLED)
                found = unchanged.asked_before(question)
                self.assertNotIsInstance(found, unchanged.KeptBuild)
                if isinstance(found, unchanged.FewChanges):
                    session = Session(self.root)
                    self.assertIsNone(Rebuilder(session.project, found).build(None, False, silent))
                    session.close()
                file.write_text(text)


def _line_in(notes: Sequence[str]) -> int:
    """The line of the image that a note is about."""
    found = re.search(r"i\.toml:(\d+)", " ".join(notes))
    assert found is not None, notes
    return int(found[1])


def _another(file: Path, text: str) -> str:
    more = {"i": 'refuse = ["tool"]\n', "base": "toolchain.compiler = 'gcc'\n", "yarrik": "# no more\n",
            "shelf": 'version = "3"\n', "named": "strip = false\n"}  # fmt: skip
    return text + "needs-yarrik = '>= 0.1'\n" if file.stem == "yarrik" else (
        more[file.stem] + text if file.stem in ("i", "base") else text + more[file.stem])  # fmt: skip


class Meanings(unittest.TestCase):
    def test_what_is_written_otherwise_and_says_something_else(self) -> None:
        lines = ['"2021-01-01"', "2021-01-01", "2021-01-01T00:00:00", "2021-01-01T00:00:00Z", '"2021-01-01T00:00:00"', "07:00:00",
                 '"07:00:00"', "1", "1.0", "true", '"1"', "[1]", "['1']", "[[1]]", "{ a = 1 }", "{ a = 1, b = 2 }", "{ b = 2, a = 1 }",
                 "-0.0", "0.0", '""', "[]", "{}"]  # fmt: skip
        found = {kept_plan.meaning_of(tomllib.loads(f"key = {line}")): line for line in lines}
        self.assertEqual(sorted(found.values()), sorted(lines))
        self.assertEqual(kept_plan.meaning_of(tomllib.loads("key.a = '\u00e9' # one\n")),
                         kept_plan.meaning_of(tomllib.loads('[key]\na = "\\u00e9"')))  # fmt: skip


class DefinitionsInAnyOrder(Definitions, test_rebuilding.SourcesInAnyOrder):
    """As `ChangesInAnyOrder`, of definitions of all kinds, and of a source now and then."""

    ABOUT = "definition"
    SHARE, IMAGES = 3, 30
    OFTEN = ("a definition, and a source", "an unused definition's image", "a used definition's name")

    def changes(self) -> dict[str, Callable[[], None]]:
        chance = self.chance

        def rewritten(file: Path) -> Callable[[], None]:
            def change() -> None:
                text = file.read_text()
                lines = [line for line in text.split("\n") if not line.startswith("#")]
                lines.insert(0, f"# {chance.randrange(10)}")
                file.write_text("\n".join(lines))

            return change

        def swapped(name: str, one: str, other: str) -> Callable[[], None]:
            def change() -> None:
                file = self.root / name
                text = file.read_text()
                file.write_text(text.replace(one, other) if one in text else text.replace(other, one))

            return change

        known = super().changes()
        found = {f"the definition {file.relative_to(self.root)}": rewritten(file) for file in self.files}
        found["an unused definition's board"] = swapped("s/boards/spare.toml", "true", "false")
        found["an unused definition's image"] = swapped("products/q.toml", 'image = "spare"', 'image = "rescue"')
        found["a used definition's name"] = swapped("s/variants/own.toml", '"own"', '"tern"')
        found["a used definition's text"] = swapped("s/groups/more.toml", '["tool"]', '["tool", "init"]')
        found["a definition, and a source"] = lambda: (known["a source"](), found["the definition s/images/i.toml"]())[0]
        return found


class NothingFollowsFromLines(test_rebuilding.EveryProduct):
    def plans(self) -> Iterator[tuple[str, list[str], list[str], bytes]]:
        """Of each product of the demo its name, steps, and what is said, without the lines; and what is kept to start it."""
        root = self.folder / "demo"
        session = Session(root, Choices())
        try:
            for product in sorted(session.project.workspace.shelved["product"]):
                with suppress(YarrikError):  # what this machine lacks
                    planned = session.planner.planned(session.planner.compose(product, Overrides()))
                    steps = [kept_plan.encoded_step(step).hex() for step in planned.graph.steps]
                    yield product, steps, [one.what for one in planned.warnings], b""
        finally:
            session.close()

    def test_lines_are_in_no_step(self) -> None:
        root = self.folder / "demo"
        lay_out_demo(root)
        before = list(self.plans())
        self.assertGreater(len(before), 3)
        files = sorted(root.rglob("*.toml"))
        self.assertGreater(len(files), 20)
        for file in files:
            file.write_text(f"# one line more\n\n{file.read_text()}")
        for old, new in zip(before, self.plans(), strict=True):
            self.assertEqual(new, old)
