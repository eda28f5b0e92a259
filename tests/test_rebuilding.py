"""Builds after nothing but sources has changed: what follows from them runs, nothing is planned, and the end is the same."""

import copy
import hashlib
import itertools
import json
import os
import shutil
import subprocess
import sys
import time
import tomllib
from collections.abc import Callable, Iterator
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import ClassVar
from unittest import mock

import tomlkit
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.support import ProgramTest, WorkspaceTest
from tests.test_kernel import PretendedKernel
from tests.test_unchanged import SETTLED, TRIES, Changes, World
from yarrik.cache import Memory, MissingObject, Store, Tree
from yarrik.demo import lay_out_demo
from yarrik.errors import YarrikError
from yarrik.model import Overrides, read_document
from yarrik.plan import Action, fingerprint_of, recipe_commands, setting_of
from yarrik.run import (
    Bootable,
    Choices,
    Planned,
    Question,
    Rebuilder,
    Session,
    StepRow,
    bootable_before,
    kept_definitions,
    kept_plan,
    rebuilding,
    silent,
    unchanged,
)
from yarrik.run.reporting import BuildReport
from yarrik.run.source_folders import source_tree


class Rebuilt(World):
    """A workspace without secrets that is built, and of which all is kept."""

    PASSWORD = ""

    def setUp(self) -> None:
        super().setUp()
        self.long_way()
        self.settle()
        self.source = self.root / "s/recipes/tool/src"

    original = staticmethod(Store.record)

    def rebuilt(self) -> BuildReport:
        report = self.short_way()
        assert report is not None, "it was planned"
        return report

    def ran(self, report: BuildReport) -> list[str]:
        return [one.step.name for one in report.ran]


class WhatRuns(Rebuilt):
    def test_what_follows_from_a_source_runs_and_nothing_is_planned(self) -> None:
        (self.source / "a.txt").write_text("spring tide\n")
        with mock.patch("yarrik.run.planning.Planner", side_effect=AssertionError("it was planned")):
            report = self.rebuilt()
        self.assertEqual(self.ran(report)[:3], ["prepare tool", "build tool", "stage tool"])
        self.assertIn("describe p", self.ran(report))
        self.assertNotIn("build init", self.ran(report))
        self.assertTrue(report.published)
        self.assertEqual(report.kept + len(report.ran), len(report.rows))
        self.assertRegex(report.ran[0].reason, r"source changed: src/a\.txt")

    def test_what_comes_out_the_same_ends_there(self) -> None:
        (self.source / "b.txt").write_text("another\n")
        self.assertEqual(self.ran(self.rebuilt()), ["prepare tool", "build tool"])

    def test_files_come_and_go(self) -> None:
        """Each state is the one before with more or less, also where a folder came with files in it."""
        changes: list[Callable[[], object]] = [
            lambda: (self.source / "more.txt").write_text("x"),
            lambda: (self.source / "b.txt").unlink(),
            lambda: shutil.copytree(self.source, self.source / "deep/er"),
            lambda: (self.source / "deep/er/more.txt").write_text("y"),
            lambda: shutil.rmtree(self.source / "deep/er"),
            lambda: (self.source / "b.txt").write_text("b, otherwise"),
        ]
        for number, change in enumerate(changes):
            change()
            with self.subTest(number):
                self.assertEqual(self.ran(self.rebuilt())[:2], ["prepare tool", "build tool"])
                time.sleep(2 * SETTLED)
                self.assertEqual(self.ran(self.rebuilt()), [])
                self.assertIsNotNone(unchanged.kept_build(self.question))
                paths = [path for path in self.record().paths if path.startswith(f"{self.source}/")]
                self.assertEqual(paths, sorted(map(str, self.source.rglob("*"))))
        self.assertEqual([one.step.name for one in self.long_way().steps if one.how != "kept"], [])

    def test_all_that_is_in_the_tree_is_looked_at(self) -> None:
        names = [
            "__pycache__/kept.pyc",
            "src0",
            "a line\nand another",
            "\x1b[31m",
            ".hidden",
            "deep/__pycache__/more",
            "lib.so",
        ]
        for name in names:
            for text in ("new", "changed"):
                with self.subTest(name, text=text):
                    (self.source / name).parent.mkdir(parents=True, exist_ok=True)
                    (self.source / name).write_text(text)
                    self.assertIsNone(unchanged.kept_build(self.question))
                    self.assertEqual(self.ran(self.rebuilt())[:2], ["prepare tool", "build tool"])
                    time.sleep(2 * SETTLED)
                    self.short_way()
                    self.assertIsNotNone(unchanged.kept_build(self.question))

    def test_the_files_are_those_of_a_build_that_plans(self) -> None:
        (self.source / "a.txt").write_text("spring tide\n")
        self.rebuilt()
        out = self.root / "out/p"
        short = {path.name: path.read_bytes() for path in out.iterdir() if path.is_file()}
        shutil.rmtree(out)
        self.long_way()
        long = {path.name: path.read_bytes() for path in out.iterdir() if path.is_file()}
        self.assertEqual(short.keys(), long.keys())
        self.assertEqual([name for name in sorted(long) if short[name] != long[name]], ["build.json", "steps.log"])
        rows, planned = (json.loads(one["build.json"]) for one in (short, long))
        same = ("step", "fingerprint", "outputs")
        self.assertEqual(*([[row[key] for key in same] for row in one["steps"]] for one in (rows, planned)))
        self.assertEqual(rows["toolchains"], planned["toolchains"])
        heads, logs = zip(*(self.parts_of(one["steps.log"]) for one in (short, long)), strict=True)
        self.assertEqual(*logs)
        self.assertEqual(*([head.partition(":")[0] for head in one] for one in heads))

    def parts_of(self, log: bytes) -> tuple[list[str], list[str]]:
        """The heads of a record of logs, and the logs themselves."""
        lines = log.decode().splitlines()
        at = [number for number, line in enumerate(lines) if line.startswith("== ")]
        return [lines[one] for one in at], ["\n".join(lines[a + 1 : b]) for a, b in itertools.pairwise([*at, len(lines)])]

    def test_logs_of_steps_that_did_not_run_are_not_looked_up(self) -> None:
        (self.source / "b.txt").write_text("first\n")
        self.rebuilt()  # from now on it is known where they are
        (self.source / "b.txt").write_text("second\n")
        self.assertEqual(self.looked_up(self.rebuilt)[0], {"prepare tool", "build tool"})
        self.assertIn("== build init: kept", (self.root / "out/p/steps.log").read_text())

    def looked_up(self, build: Callable[[], BuildReport]) -> tuple[set[str], BuildReport]:
        """Builds; the steps whose records were looked up for it."""
        asked: list[str] = []
        with mock.patch.object(Store, "record", autospec=True) as record:
            record.side_effect = lambda store, fingerprint: asked.append(fingerprint) or original(store, fingerprint)
            original = self.original
            report = build()
        names = {row.fingerprint: row.step for row in report.rows}
        return {names[one] for one in asked if one in names}, report

    def test_nor_when_all_is_planned(self) -> None:
        (self.source / "b.txt").write_text("first\n")
        self.rebuilt()  # from now on it is known where they are
        (self.source / "more.txt").write_text("a source that comes\n")
        found, report = self.looked_up(self.long_way)
        self.assertEqual(found, set(self.ran(report)))
        self.assertIn("prepare tool", found)
        file = self.root / "out/p/steps.log"
        heads, logs = self.parts_of(file.read_bytes())
        seconds = [row.seconds for row in report.rows]
        shutil.rmtree(self.root / "out")
        self.assertEqual(self.looked_up(self.long_way)[0], {row.step for row in report.rows})
        again = self.parts_of(file.read_bytes())
        self.assertEqual(logs, again[1])
        self.assertEqual([head.partition(":")[0] for head in heads], [head.partition(":")[0] for head in again[0]])
        self.assertTrue(all(one >= 0 for one in seconds), seconds)

    def test_a_record_of_logs_that_somebody_changed_is_not_taken(self) -> None:
        (self.source / "b.txt").write_text("first\n")
        self.rebuilt()
        file = self.root / "out/p/steps.log"
        file.write_bytes(file.read_bytes().replace(b"==", b"!!"))
        (self.source / "more.txt").write_text("a source that comes\n")
        found, report = self.looked_up(self.long_way)
        self.assertEqual(found, {row.step for row in report.rows})
        self.assertNotIn(b"!!", file.read_bytes())

    def test_it_is_known_again_afterwards(self) -> None:
        for number in range(3):
            (self.source / "a.txt").write_text(f"{number}\n")
            self.assertTrue(self.rebuilt().published)
            # What was changed just now may change again unseen: it is looked at once more, and nothing runs.
            self.assertEqual(self.ran(self.rebuilt()), [])
            time.sleep(2 * SETTLED)
            self.short_way()
            self.assertIsNotNone(unchanged.kept_build(self.question))
            self.assertEqual([one.step.name for one in self.long_way().steps if one.how != "kept"], [])

    def test_a_step_that_fails_is_reported_and_nothing_is_lost(self) -> None:
        (self.root / "s/recipes/init/src/init.c").write_text("int main(void) { return tide; }\n")
        report = self.rebuilt()
        self.assertEqual([one.troubles[0].code for one in report.errors], ["STEP-FAILED"])
        self.assertIn("tide", report.errors[0].troubles[0].why)
        self.assertFalse(report.published)
        self.assertEqual({row.how for row in report.rows if row.step == "describe p"}, {"not reached"})
        (self.root / "s/recipes/init/src/init.c").write_text("int main(void) { return 1; }\n")
        self.assertEqual(self.rebuilt().errors, ())

    def test_a_file_of_out_that_was_changed_comes_back(self) -> None:
        image = self.root / "out/p/p.img"
        before = image.read_bytes()
        image.write_bytes(b"x")
        (self.source / "b.txt").write_text("another\n")
        self.rebuilt()
        self.assertEqual(image.read_bytes(), before)


class RecipesThatAreWrittenOtherwise(Rebuilt):
    def setUp(self) -> None:
        super().setUp()
        self.recipe_file = self.root / "s/recipes/tool/recipe.toml"

    def change(self, old: str, new: str) -> None:
        text = self.recipe_file.read_text()
        self.assertIn(old, text)
        self.recipe_file.write_text(text.replace(old, new))

    def test_its_build_runs_and_nothing_is_planned(self) -> None:
        self.change("cp a.txt", "cp b.txt")
        with mock.patch("yarrik.run.planning.Planner", side_effect=AssertionError("it was planned")):
            report = self.rebuilt()
        self.assertEqual(self.ran(report)[:2], ["build tool", "stage tool"])
        self.assertTrue(report.published)
        self.assertEqual(report.ran[0].reason.partition(":")[0], "commands changed")
        self.assertEqual([one.step.name for one in self.long_way().steps if one.how != "kept"], [])

    def test_it_is_known_again_afterwards(self) -> None:
        for name in ("b.txt", "c.txt"):
            self.change(f"cp {'a.txt' if name == 'b.txt' else 'b.txt'}", f"cp {name}")
            self.assertIn("build tool", self.ran(self.rebuilt()))
            time.sleep(2 * SETTLED)
            report = self.short_way()  # what was changed just now may have changed again unseen
            self.assertEqual(self.ran(report) if report is not None else [], [])
            self.assertIsNotNone(unchanged.kept_build(self.question))
            (self.source / "a.txt").write_text(f"after {name}\n")  # the plan that is kept has the new commands
            report = self.rebuilt()
            build = next(one.step.action for one in report.steps if one.step.name == "build tool")
            self.assertIn(f"cp {name}", str(build.commands))

    def test_comments_and_bounds_run_nothing(self) -> None:
        self.change("[build]", "# higher than yesterday\n[build]")
        self.assertEqual(self.ran(self.rebuilt()), [])
        self.change("weight = 1", 'weight = 2\ntime-limit = "5 min"')
        report = self.rebuilt()
        self.assertEqual(self.ran(report), [])
        bounds = next(one.step.bounds for one in report.steps if one.step.name == "build tool")
        self.assertEqual((bounds.weight, bounds.seconds), (2, 300))

    def test_options_add_what_they_did(self) -> None:
        self.change('LOUD = "no"', 'LOUD = "never"')
        report = self.rebuilt()
        build = next(one.step for one in report.steps if one.step.name == "build tool")
        self.assertEqual(build.action.environment["LOUD"], "never")
        self.assertEqual(build.action.environment["PORT_WORD"], "gull")
        self.assertEqual(build.choices, {"version": "1", "option bare": "off", "option loud": "off"})

    def test_a_source_beside_it_may_change_too(self) -> None:
        self.change("cp a.txt", "cp b.txt")
        (self.source / "b.txt").write_text("another\n")
        self.assertEqual(self.ran(self.rebuilt())[:2], ["prepare tool", "build tool"])

    def test_one_that_fails_is_reported_and_nothing_is_lost(self) -> None:
        self.change("cp a.txt", "cp gone.txt")
        report = self.rebuilt()
        self.assertEqual([one.troubles[0].code for one in report.errors], ["STEP-FAILED"])
        self.assertIn("gone.txt", report.errors[0].troubles[0].why)
        self.change("cp gone.txt", "cp a.txt")
        self.assertEqual(self.ran(self.rebuilt()), [])

    def test_what_is_told_of_it_is_what_planning_tells(self) -> None:
        self.change("cp a.txt", "cp b.txt")
        found = unchanged.asked_before(self.question)
        assert isinstance(found, unchanged.FewChanges)
        session = Session(self.root)
        self.addCleanup(session.close)
        short = {one.step.name: one for one in Rebuilder(session.project, found).assess() or ()}
        planned = session.planner.planned(session.planner.compose())
        long = {one.step.name: one for one in session.planner.assess(planned)}
        self.assertEqual(short, {name: long[name] for name in short})
        self.assertEqual({name for name, one in long.items() if one.verdict != "kept"}, short.keys() & long.keys())
        self.assertEqual(short["build tool"].verdict, "runs")

    def test_everything_else_is_planned(self) -> None:
        """Whatever is no command of its own may mean another plan: other packages, programs, kinds of sources."""
        cases = {
            "no version": ('version = "1"\n', ""),
            "several versions": ('version = "1"', 'versions = ["1", "2"]'),
            "no version that can be": ('version = "1"', 'version = "one or two"'),
            "a licence": ('licence = "MIT"', 'licence = "ISC"'),
            "a source": ('path = "src"', 'path = "./src"'),
            "a source of another kind": ('path = "src"', f'url = "http://far.invalid/t-1.tar"\nsha256 = "{"0" * 64}"'),
            "a source for each version": ('path = "src"', 'path = "src/{version}/.."'),
            "a need": ("weight = 1", 'weight = 1\nneeds = ["init"]'),
            "a tool": ("weight = 1", 'weight = 1\ntools = ["idle"]'),
            "a program": ("weight = 1", 'weight = 1\nprograms = ["sed"]'),
            "a variable that is let in": ('["PORT_WORD"]', "[]"),
            "a build system": ('"plain"', '"make"'),
            "an option's default": ('summary = "speaks up"', "default = true"),
            "a condition": ("[options.loud]", "[[when]]\narch = 'arm'\nset = { summary = 'x' }\n[options.loud]"),
            "a package": ("[options.loud]", "[package.tool]\nprovides = ['gauge']\n[options.loud]"),
            "an output": ("[options.loud]", "[outputs]\nword = 'bin/word'\n[options.loud]"),
            "a loader": ("weight = 1", 'weight = 1\nloader = "/lib/ld.so"'),
            "an error": ("weight = 1", 'weight = "heavy"'),
            "no TOML": ("weight = 1", "weight"),
            "an output that it does not take": ("cp a.txt", "cp {idle:word}"),
            "a word that there is not": ("cp a.txt", "cp {arch:gull}"),
        }
        text = self.recipe_file.read_text()
        for name, (old, new) in cases.items():
            with self.subTest(name):
                self.change(old, new)
                self.assertIsNone(self.short_way())
                self.recipe_file.write_text(text)

    def test_so_is_what_more_than_its_own_text_says(self) -> None:
        amendment = 'recipe = "tool"\n[set]\nbuild.variables = { MORE = "x" }\n'
        for name, content in (
            ("s/amendments/tool.toml", amendment),
            ("yarrik.local.toml", "[set.recipe.tool.build]\nweight = 3\n"),
        ):
            with self.subTest(name):
                (self.root / name).parent.mkdir(exist_ok=True)
                (self.root / name).write_text(content)
                self.settle()
                self.change("mkdir -p", "mkdir -pv")
                self.assertIsNone(self.short_way())
                (self.root / name).unlink()
                self.settle()
                self.change("mkdir -pv", "mkdir -p")
                self.rebuilt()

    def test_a_warning_about_it_is_said_with_the_line_that_it_is_on_now(self) -> None:
        self.change("[options.loud]", "[package.tool]\nrecommends = ['bell']\n[options.loud]")
        self.settle()
        self.change("[package.tool]", "# one line more\n[package.tool]")
        self.assertIsNone(self.short_way())

    def test_one_that_somebody_takes_as_a_file_is_planned(self) -> None:
        patch = "--- a/b.txt\n+++ b/b.txt\n@@ -1 +1 @@\n-b\n\\ No newline at end of file\n+B\n"
        self.change("weight = 1\n", f"weight = 1\ncommands-after = ['''\n: <<END\n{patch}END\n''']\n")
        self.change("[[source]]", 'patches = ["recipe.toml"]\n[[source]]')
        self.settle()
        self.change("mkdir -p", "mkdir -pv")
        self.assertIsNone(self.short_way())

    def test_a_link_in_its_place(self) -> None:
        shutil.move(self.recipe_file, self.folder / "recipe.toml")
        self.recipe_file.symlink_to(self.folder / "recipe.toml")
        self.assertIsNone(self.short_way())
        self.settle()
        (self.folder / "recipe.toml").write_text((self.folder / "recipe.toml").read_text() + "# another\n")
        self.assertIsNone(self.short_way())


class OptionsThatAreChosenOtherwise(Rebuilt):
    ON = "[options.tool]\nloud = true\n"

    def setUp(self) -> None:
        super().setUp()
        self.product = self.root / "products/p.toml"
        self.text = self.product.read_text()

    def choose(self, options: str = ON) -> None:
        self.product.write_text(self.text + options)

    def loud(self, report: BuildReport) -> str:
        action = next(one.step.action for one in report.steps if one.step.name == "build tool")
        return str(action.environment["LOUD"])

    def test_the_build_runs_and_nothing_is_planned(self) -> None:
        self.choose()
        with mock.patch("yarrik.run.planning.Planner", side_effect=AssertionError("it was planned")):
            report = self.rebuilt()
        self.assertEqual(self.ran(report), ["build tool"])
        self.assertEqual((self.loud(report), report.ran[0].step.choices["option loud"]), ("yes", "on"))
        self.assertIn("option loud", report.ran[0].reason)
        self.assertIn("not as yarrik.lock had it: option tool[loud]: off → on", report.notes)
        self.assertIn('"tool[loud]" = true', (self.root / "yarrik.lock").read_text())
        long = self.long_way()
        self.assertEqual([one.step.name for one in long.steps if one.how != "kept"], [])
        self.assertEqual([row.fingerprint for row in report.rows], [one.fingerprint for one in long.steps])
        self.assertFalse([one for one in long.notes if "yarrik.lock" in one])

    def test_the_lock_is_that_of_a_build_that_plans(self) -> None:
        lock = self.root / "yarrik.lock"
        before = lock.read_bytes()
        self.choose()
        self.rebuilt()
        short = lock.read_bytes()
        lock.write_bytes(before)
        report = self.long_way()
        self.assertEqual(lock.read_bytes(), short)
        self.assertIn("not as yarrik.lock had it: option tool[loud]: off → on", report.notes)

    def test_it_is_known_again_afterwards(self) -> None:
        for options, loud in ((self.ON, "yes"), ("", "no"), (self.ON.replace("true", "false"), "no")):
            self.choose(options)
            self.assertEqual(self.loud(self.rebuilt()), loud)
            time.sleep(2 * SETTLED)
            report = self.short_way()
            self.assertEqual(self.ran(report) if report is not None else [], [])
            self.assertIsNotNone(unchanged.kept_build(self.question))
            self.assertEqual([one.step.name for one in self.long_way().steps if one.how != "kept"], [])

    def test_its_recipe_may_change_with_it(self) -> None:
        recipe = self.root / "s/recipes/tool/recipe.toml"
        recipe.write_text(recipe.read_text().replace('"yes"', '"certainly"'))
        self.choose()
        self.assertEqual(self.loud(self.rebuilt()), "certainly")

    def test_comments_run_nothing(self) -> None:
        self.choose("# as loud as it was\n")
        self.assertEqual(self.ran(self.rebuilt()), [])

    def test_everything_else_is_planned(self) -> None:
        cases = {
            "an option with needs": "[options.tool]\nbare = true\n",
            "one that there is not": "[options.tool]\ngone = true\n",
            "a recipe that there is not": "[options.gone]\nloud = true\n",
            "no truth": '[options.tool]\nloud = "yes"\n',
            "no table": "[options]\ntool = true\n",
            "a version": '[versions]\ntool = "1"\n',
            "a setting": "[set.image]\nlocale = 'C.UTF-8'\n",
            "another profile's setting": "[set.profile]\nstrip = false\n",
            "a recipe's setting": "[set.recipe.tool]\nsummary = 'tool'\n",
            "no TOML": "[options.tool",
        }
        for name, text in cases.items():
            with self.subTest(name):
                self.choose(text)
                self.assertIsNone(self.short_way())
                self.choose("")

    def test_an_option_that_something_else_asks_about_is_planned(self) -> None:
        condition = "[[when]]\noption = 'tool[loud]'\n[when.set]\nhostname = 'tern'\n"
        for name, text in (
            ("yarrik.local.toml", self.ON),
            ("s/amendments/loud.toml", f"image = 'i'\n{condition}"),
            ("s/amendments/needs.toml", "recipe = 'init'\n[set]\nbuild.needs.add = ['tool[loud]']\n"),
        ):
            with self.subTest(name):
                file = self.root / name
                file.parent.mkdir(exist_ok=True)
                file.write_text(text)
                self.settle()
                self.choose("# another\n")
                self.rebuilt()
                self.choose()
                self.assertIsNone(self.short_way())
                self.choose("")
                file.unlink()
                self.settle()

    def test_an_option_that_belongs_to_a_choice_is_planned(self) -> None:
        recipe = self.root / "s/recipes/tool/recipe.toml"
        recipe.write_text(recipe.read_text() + "[choice.voice]\nof = ['loud', 'bare']\ndefault = 'bare'\n")
        self.settle()
        self.choose()
        self.assertIsNone(self.short_way())

    def test_with_locked_it_is_planned(self) -> None:
        locked = Question(self.root, locked=True)
        self.long_way(locked)
        self.choose()
        found = unchanged.asked_before(locked)
        assert isinstance(found, unchanged.FewChanges)
        session = Session(self.root, Choices(locked=True))
        self.addCleanup(session.close)
        self.assertIsNone(Rebuilder(session.project, found).build(None, False, silent))
        self.assertNotIn('"tool[loud]" = true', (self.root / "yarrik.lock").read_text())

    def test_what_is_planned_after_all_says_what_differs_from_the_lock(self) -> None:
        """The lock is as it was then: also where the cache turns out to be damaged when steps have run."""
        lock = self.root / "yarrik.lock"
        before = lock.read_text()
        self.choose()
        for trouble in (kept_plan.Otherwise(), MissingObject("0" * 64)):
            with mock.patch.object(Rebuilder, "_run", side_effect=trouble):
                self.assertIsNone(self.short_way())
            self.assertEqual(lock.read_text(), before)
        self.assertIn("not as yarrik.lock had it: option tool[loud]: off → on", self.long_way().notes)
        self.assertNotEqual(lock.read_text(), before)

    def test_a_lock_that_somebody_wrote_is_looked_at(self) -> None:
        lock = self.root / "yarrik.lock"
        text = lock.read_text()
        lock.write_text(text)
        self.assertIsNotNone(unchanged.kept_build(self.question), "its text is what it was")
        lock.write_text(text + "# a comment\n")
        self.assertIsNone(unchanged.asked_before(self.question))
        lock.unlink()
        self.assertIsNone(unchanged.asked_before(self.question))
        shutil.copy2(self.folder / "settings.toml", self.folder / "lock")
        (self.folder / "lock").write_text(text)
        lock.symlink_to(self.folder / "lock")
        self.assertIsNone(unchanged.asked_before(self.question))
        lock.unlink()
        os.mkfifo(lock)
        self.assertIsNone(unchanged.asked_before(self.question))

    def test_what_is_said_before_a_build_is_planned(self) -> None:
        self.choose()
        found = unchanged.asked_before(self.question)
        assert isinstance(found, unchanged.FewChanges)
        session = Session(self.root)
        self.addCleanup(session.close)
        self.assertIsNone(Rebuilder(session.project, found).assess())


class SingleFiles(Rebuilt):
    """Files that a step takes, and from which nothing else follows."""

    def setUp(self) -> None:
        super().setUp()
        self.note, self.tide = self.root / "s/images/note.txt", self.root / "s/images/files/etc/tide.conf"

    def test_what_takes_one_runs_and_nothing_is_planned(self) -> None:
        for file in (self.note, self.tide):
            file.write_text("low water\n")
            with mock.patch("yarrik.run.planning.Planner", side_effect=AssertionError("it was planned")):
                report = self.rebuilt()
            self.assertEqual(self.ran(report)[0], "assemble p")
            self.assertIn("write p", self.ran(report))
            self.assertNotIn("build tool", self.ran(report))
            self.assertEqual(report.ran[0].reason, f"{'/etc/note' if file == self.note else '/etc/tide.conf'} changed")
        long = self.long_way()
        self.assertEqual([one.step.name for one in long.steps if one.how != "kept"], [])
        self.assertEqual([one.fingerprint for one in report.rows], [one.fingerprint for one in long.steps])

    def test_it_is_known_again_afterwards(self) -> None:
        for number in range(2):
            self.note.write_text(f"{number}\n")
            self.assertIn("assemble p", self.ran(self.rebuilt()))
            time.sleep(2 * SETTLED)
            self.short_way()  # what was changed just now may have changed again unseen
            self.assertIsNotNone(unchanged.kept_build(self.question))
            (self.source / "a.txt").write_text(f"{number}\n")  # the step takes the note as it is now
            report = self.rebuilt()
            root = next(one.step for one in report.steps if one.step.name == "assemble p")
            self.assertIn(hashlib.sha256(self.note.read_bytes()).hexdigest(), root.files.values())

    def test_a_patch(self) -> None:
        recipe = self.root / "s/recipes/tool/recipe.toml"
        recipe.write_text(recipe.read_text().replace("[[source]]\n", 'patches = ["spring.patch"]\n[[source]]\n'))
        patch = "--- a/a.txt\n+++ b/a.txt\n@@ -1 +1 @@\n-a\n\\ No newline at end of file\n+spring\n"
        (recipe.parent / "spring.patch").write_text(patch)
        self.settle()
        (recipe.parent / "spring.patch").write_text(patch.replace("+spring", "+neap"))
        self.assertEqual(self.ran(self.rebuilt())[:3], ["patch tool", "build tool", "stage tool"])
        (recipe.parent / "spring.patch").write_text(patch.replace("-a", "-b"))
        report = self.rebuilt()
        self.assertEqual([one.troubles[0].code for one in report.errors], ["PATCH-FAILED"])
        self.assertIn("spring.patch", str(report.errors[0].troubles[0]))

    def test_files_of_the_same_content(self) -> None:
        """Each is told from the other, also where both were the same when all was planned."""
        self.note.write_text("port = 1\n")
        self.settle()
        self.note.write_text("port = 2\n")
        report = self.rebuilt()
        files = next(one.step.files for one in report.steps if one.step.name == "assemble p")
        self.assertEqual(
            {label: files[label] for label in ("/etc/note", "/etc/tide.conf")},
            {
                "/etc/note": hashlib.sha256(b"port = 2\n").hexdigest(),
                "/etc/tide.conf": hashlib.sha256(b"port = 1\n").hexdigest(),
            },
        )
        self.assertEqual([one.step.name for one in self.long_way().steps if one.how != "kept"], [])

    def test_what_editors_do_in_folders_is_nothing(self) -> None:
        """A file that is saved in the place of another, and one that came and went."""
        fresh = self.note.with_name("note.new")
        fresh.write_text("low water\n")
        fresh.replace(self.note)
        self.assertEqual(self.ran(self.rebuilt())[0], "assemble p")
        time.sleep(2 * SETTLED)
        for folder in (self.note.parent, self.tide.parent, self.root / "products", self.root / "s/boards", self.source):
            (folder / ".note.swp").write_text("x")
            (folder / ".note.swp").unlink()
        self.assertEqual(self.ran(self.rebuilt()), [])
        time.sleep(2 * SETTLED)
        self.short_way()
        self.assertIsNotNone(unchanged.kept_build(self.question))

    def test_all_else_is_planned(self) -> None:
        other = self.folder / "other.conf"
        changes: dict[str, Callable[[], object]] = {
            "it can be run": lambda: self.tide.chmod(0o755),
            "it is gone": lambda: self.tide.unlink(),
            "one comes beside it": lambda: self.tide.with_name("more.conf").write_text("x"),
            "it has another name": lambda: self.tide.rename(self.tide.with_name("more.conf")),
            "it becomes a link": lambda: (shutil.move(self.tide, other), self.tide.symlink_to(other)),
            "it becomes a folder": lambda: (self.tide.unlink(), self.tide.mkdir()),
            "it becomes a pipe": lambda: (self.tide.unlink(), os.mkfifo(self.tide)),
            "its folder becomes a link": lambda: (
                shutil.move(self.tide.parent, self.folder / "etc"),
                self.tide.parent.symlink_to(self.folder / "etc"),
            ),
            "its folder has other rights": lambda: self.tide.parent.chmod(0o700),
            "a board came": lambda: (self.root / "s/boards/c.toml").write_text(""),
        }
        shutil.copytree(self.root / "s", self.folder / "pristine", symlinks=True)
        for what, change in changes.items():
            with self.subTest(what):
                change()
                self.assertIsNone(self.short_way())
                shutil.rmtree(self.root / "s")
                shutil.copytree(self.folder / "pristine", self.root / "s", symlinks=True)
                other.unlink(missing_ok=True)
                self.settle()

    def test_one_that_cannot_be_read_is_planned(self) -> None:
        """Planning says what is wrong with it, and where it is named."""
        self.note.write_text("low\n")
        with mock.patch.object(rebuilding, "source_file", side_effect=PermissionError(13, "Permission denied")):
            self.assertIsNone(self.short_way())

    def test_one_that_is_a_template_too_is_planned(self) -> None:
        """Its text is in the plan."""
        image = self.root / "s/images/i.toml"
        image.write_text(image.read_text() + '[[file]]\npath = "/etc/filled"\nfrom = "note.txt"\ntemplate = true\n')
        self.settle()
        self.note.write_text("low\n")
        self.assertIsNone(self.short_way())

    def test_one_of_which_the_digest_is_told_elsewhere_is_planned(self) -> None:
        """More may follow from it."""
        digest = hashlib.sha256(self.note.read_bytes()).hexdigest()
        recipe = self.root / "s/recipes/tool/recipe.toml"
        recipe.write_text(recipe.read_text().replace("mkdir -p", f"echo {digest}; mkdir -p"))
        self.settle()
        self.note.write_text("low\n")
        self.assertIsNone(self.short_way())


class FragmentsOfTheKernel(Rebuilt, PretendedKernel):
    def setUp(self) -> None:
        super().setUp()
        self.fragment = self.root / "s/boards/b.kcfg"

    def test_the_kernel_is_configured_and_nothing_is_planned(self) -> None:
        self.fragment.write_text("CONFIG_SERIAL=y\n")
        with mock.patch("yarrik.run.planning.Planner", side_effect=AssertionError("it was planned")):
            report = self.rebuilt()
        self.assertEqual(self.ran(report)[:2], ["configure kernel", "build kernel"])
        self.assertEqual([one.step.name for one in self.long_way().steps if one.how != "kept"], [])

    def test_where_it_asks_for_modules_all_is_planned(self) -> None:
        """The kernel has one more package then, and more steps may follow."""
        self.fragment.write_text("CONFIG_SERIAL=y\nCONFIG_MODULES=y\n")
        self.assertIsNone(self.short_way())

    def test_one_that_changes_while_the_kernel_is_built(self) -> None:
        """What was planned with counts, and not what it says when the build is remembered."""
        for text in ("CONFIG_MODULES=y\n", "CONFIG_SERIAL=y\n"):
            former = self.fragment.read_text()
            question = Question(self.root, settings=(f"image.hostname={text[7:10].lower()}",))
            self.long_way(question, meanwhile=lambda text=text: self.fragment.write_text(text))
            for _ in range(2):
                found = unchanged.asked_before(question)
                self.assertNotIsInstance(found, unchanged.KeptBuild)
                if found is not None:
                    session = Session(self.root)
                    self.addCleanup(session.close)
                    self.assertIsNone(Rebuilder(session.project, found).build(None, False, silent))
                time.sleep(2 * SETTLED)
            self.fragment.write_text(former)
            self.settle()

    def test_one_that_was_written_again_with_the_same_text_is_planned(self) -> None:
        """It may have said something else when planning asked for modules, if that was lately."""
        self.fragment.write_text(self.fragment.read_text())
        self.assertIsNone(self.short_way())

    def test_one_that_the_kernel_refuses(self) -> None:
        self.fragment.write_text("CONFIG_GAUGE=y\n")
        report = self.rebuilt()
        self.assertEqual([one.troubles[0].code for one in report.errors], ["KERNEL-OPTION-LOST"])


class WhenItPlans(Rebuilt):
    def test_more_than_files_and_folders_among_sources(self) -> None:
        (self.source / "more.txt").symlink_to("a.txt")
        self.assertIsNone(self.short_way())
        (self.source / "more.txt").unlink()
        (self.source / ".git").mkdir()
        self.assertIsNone(self.short_way())
        (self.source / ".git").rmdir()
        (self.source / "b.txt").unlink()
        (self.source / "b.txt").mkdir()
        self.assertIsNone(self.short_way())

    def test_a_folder_of_sources_that_is_gone(self) -> None:
        shutil.move(self.source, self.folder / "elsewhere")
        self.assertIsNone(self.short_way())

    def test_a_file_that_comes_where_planning_asked_for_one(self) -> None:
        """What was not there when it was asked for is noted, and looked at again."""
        asked = self.source / "sub/asked.txt"
        self.long_way(seen=asked)
        self.settle(seen=asked)
        (self.source / "sub").mkdir()
        self.assertEqual(self.ran(self.rebuilt())[0], "prepare tool")
        self.assertIn(str(asked), self.record().paths)
        asked.write_text("x")
        self.assertIsNone(self.short_way())

    def test_a_source_that_becomes_a_link(self) -> None:
        shutil.move(self.source / "a.txt", self.folder / "a.txt")
        (self.source / "a.txt").symlink_to(self.folder / "a.txt")
        self.assertIsNone(self.short_way())

    def test_a_definition_that_changed_too(self) -> None:
        (self.source / "a.txt").write_text("1\n")
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text() + "[toolchain]\ncompiler = 'gcc'\n")
        self.assertIsNone(self.short_way())

    def test_a_source_that_is_a_patch_too(self) -> None:
        """The folder has it, and a step takes it by itself."""
        recipe = self.root / "s/recipes/tool/recipe.toml"
        recipe.write_text(recipe.read_text().replace("[[source]]\n", 'patches = ["src/b.patch"]\n[[source]]\n'))
        patch = "--- a/b.txt\n+++ b/b.txt\n@@ -1 +1 @@\n-b\n\\ No newline at end of file\n+B\n"
        (self.source / "b.patch").write_text(patch)
        self.settle()
        (self.source / "a.txt").write_text("1\n")
        self.rebuilt()
        time.sleep(2 * SETTLED)
        (self.source / "b.patch").write_text(patch.replace("+B", "+C"))
        self.assertEqual(self.ran(self.rebuilt())[:3], ["prepare tool", "patch tool", "build tool"])
        self.assertEqual([one.step.name for one in self.long_way().steps if one.how != "kept"], [])

    def test_a_definition_that_is_among_the_sources(self) -> None:
        """It is remembered by its status, so nobody opens it: that somebody looked at it counts all the same."""
        folder = self.root / "s/recipes/tool"
        recipe = folder / "recipe.toml"
        recipe.write_text(recipe.read_text().replace('path = "src"', 'path = "."').replace("cp a.txt", "cp src/a.txt"))
        self.settle()
        (folder / "src/a.txt").write_text("1\n")
        self.assertEqual(self.ran(self.rebuilt())[0], "prepare tool")
        time.sleep(2 * SETTLED)
        self.settle()
        recipe.write_text(recipe.read_text().replace("mkdir -p", "mkdir -pv"))
        self.assertIsNone(self.short_way())
        self.assertIn("build tool", self.ran(self.long_way()))

    def test_an_object_that_is_lost_where_nothing_follows(self) -> None:
        lost = next(row for row in self.rebuilt_rows() if row.step == "stage init").outputs["files"]
        path = self.folder / f"cache/trees/{lost[:2]}/{lost}"
        path.unlink()
        (self.source / "a.txt").write_text("1\n")
        self.assertIsNone(self.short_way())

    def rebuilt_rows(self) -> list[StepRow]:
        (self.source / "b.txt").write_text("rows\n")
        return list(self.rebuilt().rows)

    def test_a_plan_or_state_that_is_damaged(self) -> None:
        files = sorted((self.root / ".yarrik/plans").iterdir())
        self.assertEqual([file.suffix for file in files], ["", ".state", ".steps"])
        for number, file in enumerate(files):
            good = file.read_bytes()
            other = bytearray(good)
            other[good.index(b"build tool") if file.suffix != ".steps" else good.index(b"cp a.txt")] ^= 1
            damages: dict[str, Callable[[], object]] = {
                "a bit": lambda file=file, other=other: file.write_bytes(other),
                "cut": lambda file=file, good=good: file.write_bytes(good[: len(good) // 9]),
                "empty": lambda file=file: file.write_bytes(b""),
                "gone": lambda: None,
                "a folder": lambda file=file: file.mkdir(),
                "a link": lambda file=file: file.symlink_to(self.folder / "nothing"),
            }
            for what, damage in damages.items():
                with self.subTest(what, file=file.suffix or "plan"):
                    (self.source / "a.txt").write_text(f"{number} {what}\n")
                    file.unlink()
                    damage()
                    if file.is_symlink() and file.suffix == ".steps":  # the others are read first, and no link is followed
                        with self.assertRaisesRegex(YarrikError, "is a link"):
                            self.short_way()
                    else:
                        self.assertIsNone(self.short_way())
                    if file.is_dir():
                        file.rmdir()
                    file.unlink(missing_ok=True)
                    file.write_bytes(good)

    def test_where_a_step_is_said_to_be_is_not_believed(self) -> None:
        found = self.kept_plan()
        (self.source / "a.txt").write_text("1\n")
        for part in (unchanged.Part(-1, 9, b"x"), unchanged.Part(0, -9, b"x"), unchanged.Part(0, 1 << 62, b"x"),
                     unchanged.Part((1 << 63) + 5, 4, b"x"), unchanged.Part(1 << 40, 4, b"x"), unchanged.Part(0, 4, b"x")):  # fmt: skip
            other = replace(found, steps=[replace(one, part=part) for one in found.steps])
            with mock.patch.object(rebuilding, "decoded_plan", return_value=other):
                self.assertIsNone(self.short_way())

    def kept_plan(self) -> kept_plan.KeptPlan:
        return kept_plan.decoded_plan((self.root / ".yarrik/plans" / self.question.file.name).read_bytes())

    def test_a_toolchain_that_was_cleared_away(self) -> None:
        found = self.kept_plan()
        for folder, ran in ((self.folder, True), (self.folder / "gone", False)):
            chains = {
                side: unchanged.msgspec.structs.replace(one, folder=str(folder)) for side, one in found.toolchains.items()
            }
            (self.source / "a.txt").write_text(folder.name)
            with mock.patch.object(rebuilding, "decoded_plan",
                                   return_value=unchanged.msgspec.structs.replace(found, toolchains=chains)):  # fmt: skip
                self.assertEqual(self.short_way() is not None, ran)

    def test_a_step_that_is_not_what_it_was(self) -> None:
        """Even where the seal is right: what is used has to have the fingerprint that it had."""
        (self.source / "a.txt").write_text("1\n")
        read = unchanged.Part.read
        for text, planned in ((b"a.txt", False), (b"b.txt", True)):

            def otherwise(part: unchanged.Part, opened: int, text: bytes = text) -> bytes | None:
                data = read(part, opened)
                return data.replace(b"a.txt", text) if data is not None else None

            with mock.patch.object(unchanged.Part, "read", otherwise):
                self.assertEqual(self.short_way() is None, planned)
            (self.source / "a.txt").write_text("2\n")


class WhatIsLookedAt(Rebuilt):
    def test_what_planning_asks_of_a_source_is_no_mere_source(self) -> None:
        """Each path among the sources that planning opens, lists or asks the status of by itself, and not while it takes their
        tree, is noted in the record: other contents of it may mean another plan."""
        recipe = self.root / "s/recipes/tool/recipe.toml"
        recipe.write_text(recipe.read_text().replace('path = "src"', 'path = "."').replace("cp a.txt", "cp src/a.txt"))
        self.settle()
        looked: set[str] = set()
        taking: list[Path] = []

        def spied(function: Callable[..., object]) -> Callable[..., object]:
            def spy(path: object, *args: object, **more: object) -> object:
                if isinstance(path, (str, bytes, os.PathLike)) and not more.get("dir_fd") and not taking:
                    looked.add(os.path.abspath(os.fsdecode(path)))  # noqa: PTH100 (links are looked at as such)
                return function(path, *args, **more)

            return spy

        def take(folder: Path, suffixes: tuple[str, ...], memory: Memory) -> Tree:
            taking.append(folder)
            try:
                return source_tree(folder, suffixes, memory)
            finally:
                taking.pop()

        with ExitStack() as open_:
            open_.enter_context(mock.patch("yarrik.run.near_host.source_tree", take))
            for name in ("stat", "lstat", "access", "readlink", "scandir", "listdir", "open"):
                open_.enter_context(mock.patch.object(os, name, spied(getattr(os, name))))
            session = Session(self.root)
            try:
                session.planner.planned(session.planner.compose())
            finally:
                session.close()
        record = self.record()
        tops = tuple(f"{one}/" for one in record.sources)
        self.assertIn(f"{self.root}/s/recipes/tool/", tops)
        among = {path for path in looked if path.startswith(tops)}
        self.assertIn(str(recipe), among)
        self.assertEqual(among - set(record.seen), set())
        self.assertFalse(any(path.endswith("a.txt") for path in record.seen))


class WhatAPlanSays(Rebuilt):
    def asked(self) -> Rebuilder:
        found = unchanged.asked_before(self.question)
        assert isinstance(found, unchanged.FewChanges)
        session = Session(self.root)
        self.addCleanup(session.close)
        return Rebuilder(session.project, found)

    def test_it_is_what_planning_says(self) -> None:
        for name in ("a.txt", "b.txt"):
            (self.source / name).write_text("spring tide\n")
            short = {one.step.name: one for one in self.asked().assess() or ()}
            self.assertIn("build tool", short)
            session = Session(self.root)
            try:
                planned = session.planner.planned(session.planner.compose())
                for one in session.planner.assess(planned):
                    with self.subTest(name, step=one.step.name):
                        self.assertEqual(short.get(one.step.name, one), one)
                        self.assertTrue(one.verdict == "kept" or one.step.name in short)
                why = self.asked().why_runs("build tool")
                self.assertEqual(why, session.planner.why_runs(planned, "build tool"))
                self.assertIn(("input source", name, "differs"), why[1] if why else ())
            finally:
                session.close()

    def test_it_changes_nothing(self) -> None:
        (self.source / "a.txt").write_text("spring tide\n")
        record = self.question.file.read_bytes()
        self.assertIsNotNone(self.asked().assess())
        self.assertEqual(self.question.file.read_bytes(), record)
        self.assertEqual(self.ran(self.rebuilt())[0], "prepare tool")

    def test_what_starts_a_product_is_known(self) -> None:
        session = Session(self.root)
        try:
            whole = Bootable.of(session.planner.compose())
        finally:
            session.close()
        self.assertEqual(bootable_before(self.question), whole)
        (self.source / "a.txt").write_text("spring tide\n")
        self.assertEqual(bootable_before(self.question), whole)
        product = self.root / "products/p.toml"
        text = product.read_text()
        product.write_text(text + 'marker = "the tide is high"\n')
        self.assertIsNone(bootable_before(self.question))
        product.write_text(text)
        (self.root / "s/boards/b.toml").write_text((self.root / "s/boards/b.toml").read_text() + "# another\n")
        self.assertIsNone(bootable_before(self.question))

    def test_steps_and_names_are_known_as_long_as_definitions_stay(self) -> None:
        def known() -> bool:
            return unchanged.known_before(self.question) is not None

        self.assertTrue(known())
        (self.source / "a.txt").write_text("spring tide\n")
        self.assertTrue(known())
        for name in ("s/recipes/tool/recipe.toml", "products/p.toml"):
            with self.subTest(name):
                before = (self.root / name).read_text()
                (self.root / name).write_text(before + "# another\n")
                self.assertIsNotNone(unchanged.asked_before(self.question))
                self.assertFalse(known())
                (self.root / name).write_text(before)
                self.settle()


class Secrets(World):
    def test_they_are_not_written_down_and_their_step_is_planned(self) -> None:
        self.long_way()
        self.settle()
        (self.root / "s/recipes/tool/src/b.txt").write_text("another\n")
        report = self.short_way()
        assert report is not None
        self.assertEqual([one.step.name for one in report.ran], ["prepare tool", "build tool"])
        hashed = next(line for line in self.content("/etc/shadow").splitlines() if line.startswith("operator:")).split(":")[1]
        self.assertTrue(hashed.startswith("$"))
        kept = [path for folder in ("plans", "unchanged") for path in (self.root / ".yarrik" / folder).iterdir()]
        self.assertEqual(len(kept), 4)
        for path in kept:
            self.assertNotIn(hashed.encode(), path.read_bytes())
        (self.root / "s/recipes/tool/src/a.txt").write_text("it is in the image\n")
        self.assertIsNone(self.short_way())
        self.assertIn("assemble p", [one.step.name for one in self.long_way().ran])

    def test_what_such_a_step_takes_by_itself_is_planned(self) -> None:
        self.long_way()
        self.settle()
        (self.root / "s/images/note.txt").write_text("low water\n")
        self.assertIsNone(self.short_way())
        self.assertIn("assemble p", [one.step.name for one in self.long_way().ran])

    def test_an_option_on_which_they_may_depend_is_planned_from_the_beginning(self) -> None:
        """Else the lock would have it before it is said that it differs."""
        self.long_way()
        self.settle()
        product = self.root / "products/p.toml"
        product.write_text(product.read_text() + "[options.tool]\nloud = true\n")
        self.assertIsNone(self.short_way())
        self.assertIn("not as yarrik.lock had it: option tool[loud]: off → on", self.long_way().notes)


class SourcesInAnyOrder(Changes):
    """As `ChangesInAnyOrder`, of sources alone."""

    PASSWORD = ""
    ABOUT = "source"
    #: One in so many tries is built without planning, at least, and one in so many leaves another image.
    SHARE, IMAGES = 2, 12
    OFTEN: tuple[str, ...] = ()

    def test_the_end_is_that_of_the_long_way(self) -> None:
        self.long_way()
        self.settle()
        names = [name for name in sorted(self.changes()) if self.ABOUT in name and name != "sources that are edited"]
        self.assertGreater(len(names), 8)
        self.assertLessEqual(set(self.OFTEN), set(names))
        names += 4 * self.OFTEN
        seen = {"rebuilt": 0, "another image": 0, "planned": 0, "failed": 0}

        @settings(max_examples=TRIES, deadline=None, database=None, derandomize="TRIES" not in os.environ,
                  suppress_health_check=list(HealthCheck))  # fmt: skip
        @given(st.lists(st.sampled_from(names), min_size=1, max_size=3), st.integers(0, 1 << 30), st.booleans(), st.booleans())
        def try_(kinds: list[str], seed: int, rested: bool, planned: bool) -> None:
            self.chance.seed(seed)
            if rested:
                time.sleep(2 * SETTLED)
            for kind in kinds:
                self.changes()[kind]()
            report = self.short_way()
            if report is None or report.errors:
                seen["planned" if report is None else "failed"] += 1
                self.mend()
                self.settle()
                return
            seen["rebuilt"] += 1
            seen["another image"] += any(one.step.name == "write p" for one in report.ran)
            if not planned:  # several in turn, and the long way at some time after them
                return
            long = self.long_way()
            self.assertEqual([row.fingerprint for row in report.rows], [one.fingerprint for one in long.steps])
            short = {one.step.name: one.step for one in report.steps}
            self.assertEqual([one.step for one in long.steps if one.step.name in short], list(short.values()))
            todo = [one.step.name for one in long.steps if one.how != "kept"]
            self.assertEqual((todo, long.published), ([], False), f"not seen: {kinds}")

        try_()
        print(f"{self.ABOUT}s: {TRIES} tries; {seen}", file=sys.stderr)
        self.assertGreater(seen["rebuilt"], TRIES // self.SHARE)
        self.assertGreater(seen["another image"], TRIES // self.IMAGES)


class RecipesInAnyOrder(SourcesInAnyOrder):
    """The same of recipes."""

    ABOUT = "recipe"
    SHARE, IMAGES = 3, 60
    OFTEN = ("what a recipe's commands leave", "the commands of a recipe", "the weight of a recipe", "an option of a recipe",
             "an option of a recipe that the product chooses")  # fmt: skip


class FilesInAnyOrder(SourcesInAnyOrder):
    """The same of single files."""

    ABOUT = "file"
    SHARE, IMAGES = 3, 12
    OFTEN = ("a file of the image", "a file in the image's tree", "a file of the image that is saved",
             "a file in the image's tree that is saved", "a file that an editor has removed")  # fmt: skip


class EveryProduct(WorkspaceTest):
    """The products of the demo, planned."""

    def planned(self) -> Iterator[Planned]:
        root = self.folder / "demo"
        lay_out_demo(root)
        session = Session(root, Choices())
        self.addCleanup(session.close)
        for product in sorted(session.project.workspace.shelved["product"]):
            with suppress(YarrikError):  # what this machine lacks
                yield session.planner.planned(session.planner.compose(product, Overrides()))

    def test_each_step_is_read_as_it_was_written(self) -> None:
        """All that a plan is made of survives being written down: the fingerprint is the same, and so are places and marks."""
        met: set[str] = set()
        for planned in self.planned():
            for step in planned.graph.steps:
                inputs = {label: f"{number:064x}" for number, label in enumerate(sorted(step.inputs))}
                again = kept_plan.decoded_step(kept_plan.encoded_step(step))
                self.assertEqual(fingerprint_of(again, inputs), fingerprint_of(step, inputs), step.name)
                self.assertEqual(again, step)
                met.add(type(step.action).__name__)
        self.assertLessEqual({"RunCommands", "Stage", "Split", "Assemble", "PlaceBootFiles", "WriteDisks", "Describe"}, met)
        self.assertLessEqual(met, {one.__name__ for one in Action.__subclasses__()})

    def test_commands_follow_from_what_is_kept(self) -> None:
        """What builds a recipe is made again from its text, its options and what is kept of its side."""
        met = 0
        for planned in self.planned():
            sides = planned.surroundings.toolchains
            settings = {side: setting_of(planned.composition, side, one) for side, one in sides.items()}
            for path, kept in kept_definitions.kept_recipes(planned.answer, planned.graph.steps, ()).items():
                document = read_document(Path(path))
                self.assertEqual(kept_plan.beyond_digest(document.raw), kept.digest)
                for number in kept.builds:
                    step = planned.graph.steps[number]
                    self.assertEqual(rebuilding.with_commands(step, rebuilding.recipe_in(document), settings), step)
                    met += 1
        self.assertGreater(met, 20)


class EveryKeyOfCommands(Rebuilt):
    """From the keys that are said to make commands alone, nothing else follows."""

    BUILD: ClassVar[dict[str, object]] = {
        "arguments": ["A=1"], "commands": ["true"], "commands-after": ["true"], "commands-before": ["true"],
        "configure": "plain", "goals": ["all"], "install-goals": ["install"], "memory": "1 GiB", "output-limit": "1 MiB",
        "place": [{"from": "a.txt", "to": "/a"}], "process-limit": 100, "time-limit": "5 min", "variables": {"A": "1"},
        "weight": 3,
    }  # fmt: skip
    OPTION: ClassVar[dict[str, object]] = {
        "arguments": ["A=1"], "arguments-off": ["A=0"], "variables": {"A": "1"}, "variables-off": {"A": "0"},
    }  # fmt: skip

    def plan_of(self, text: str) -> Planned:
        (self.root / "s/recipes/tool/recipe.toml").write_text(text)
        return self.planned()

    def test_nothing_else_follows_from_them(self) -> None:
        text = (self.root / "s/recipes/tool/recipe.toml").read_text()
        raw = tomllib.loads(text)
        found = {key: recipe_commands.beyond_commands({**raw, "build": {"using": "make", key: 1}}) for key in self.BUILD}
        self.assertEqual({str(one and one["build"]) for one in found.values()}, {str({"using": "make"})})
        self.assertEqual((recipe_commands._OF_BUILD, recipe_commands._OF_OPTION), (self.BUILD.keys(), self.OPTION.keys()))
        for using in ("plain", "make", "autotools", "cmake", "meson", "files", "prebuilt", "python", "go"):
            raw["build"]["using"] = using
            before = self.plan_of(tomlkit.dumps(raw))
            for where, key, value in (*(("build", *one) for one in self.BUILD.items()),
                                      *(("option", *one) for one in self.OPTION.items())):  # fmt: skip
                with self.subTest(using, key=key, where=where):
                    other = copy.deepcopy(raw)
                    (other["build"] if where == "build" else other["options"]["loud"])[key] = value
                    now = self.plan_of(tomlkit.dumps(other))
                    for name in ("versions", "options", "packages", "roles", "groups", "links", "warnings"):
                        self.assertEqual(getattr(now.answer, name), getattr(before.answer, name), name)
                    self.assertEqual(now.graph.programs, before.graph.programs)
                    self.assertEqual(len(now.graph.steps), len(before.graph.steps))
                    for new, old in zip(now.graph.steps, before.graph.steps, strict=True):
                        if new.name == "build tool":
                            made = {"commands", "environment", "folder", "files"}
                            kept = {
                                name: getattr(old.action, name) for name in new.action.__struct_fields__ if name not in made
                            }
                            self.assertEqual(new.action, replace(new.action, **kept))
                            new = replace(new, action=old.action, bounds=old.bounds)
                        self.assertEqual(new, old)


class AsItIsUsed(ProgramTest):
    #: What composes, resolves and plans.
    LONG = ("yarrik.model.composing", "yarrik.plan.graph", "yarrik.resolve.answer", "yarrik.run.planning")

    def loads(self, *words: str | Path, modules: tuple[str, ...] = LONG) -> list[str]:
        """Those of these modules (all are of the long way) that a command loads."""
        script = ("import sys\nimport yarrik.cli\ntry:\n    yarrik.cli.main()\nexcept SystemExit as end:\n    assert not end.code\n"
                  f"print('LOADED', *(one for one in {modules!r} if one in sys.modules))")  # fmt: skip
        done = subprocess.run(
            [sys.executable, "-c", script, *map(str, words)], capture_output=True, text=True, env=self.environment
        )
        self.assertTrue(done.stdout, done.stderr)
        return done.stdout.splitlines()[-1].split()[1:]

    def test_what_the_last_build_knew_is_not_found_out_again(self) -> None:
        root = self.folder / "demo"
        self.yarrik("demo", root, "--product", "tide-office")
        asked = ("tide-office", "--workspace", root)
        self.assertEqual(self.loads("build", *asked), list(self.LONG))
        time.sleep(2.1)
        self.yarrik("build", *asked)
        step = ("prepare tidelog", "--product", *asked)
        commands = (
            ("build", *asked),
            ("plan", *asked),
            ("plan", *asked, "--why", "build tidelog"),
            ("timeline", *asked),
            ("log", *step),
        )
        for _ in ("as it is", "with another source"):
            for command in commands:
                with self.subTest(command[0]):
                    self.assertEqual(self.loads(*command), [])
            with (root / "shelves/harbour/recipes/tidelog/src/tidelog.c").open("a") as source:
                source.write("/* another comment */\n")
            commands = (*commands[1:], commands[0])

    def test_nor_after_a_recipe_or_an_option_has_changed(self) -> None:
        root = self.folder / "demo"
        self.yarrik("demo", root, "--product", "tide-office")
        recipe = root / "shelves/harbour/recipes/tidelog/recipe.toml"
        text = recipe.read_text().replace('needs = ["libtide"]\n', 'needs = ["libtide"]\nvariables = { WARN = "-Wall" }\n')
        text += '\n[options.fine]\nsummary = "keeps millimetres"\nvariables = { WARN = "-Wextra" }\n'
        recipe.write_text(text)
        time.sleep(2.1)
        asked = ("tide-office", "--workspace", root)
        self.assertEqual(self.loads("build", *asked), list(self.LONG))
        recipe.write_text(text.replace("-Wall", "-Wall -Wshadow"))
        self.assertEqual(self.loads("plan", *asked), [])
        self.assertEqual(self.loads("build", *asked), [])
        product = root / "products/tide-office.toml"
        product.write_text(product.read_text() + "\n[options.tidelog]\nfine = true\n")
        said = self.yarrik("build", *asked)
        self.assertIn("not as yarrik.lock had it: option tidelog[fine]: off → on", said)
        self.assertRegex(said, r"build tidelog .*option fine")
        product.write_text(product.read_text().replace("fine = true", "fine = false"))
        self.assertEqual(self.loads("build", *asked), [])
        self.assertIn("fine", (root / "yarrik.lock").read_text())
        recipe.write_text(recipe.read_text().replace('version = "1.4"', 'version = "1.4.1"'))
        # Nor is anything loaded that steps on archives, and certificates, would need.
        seldom = (*self.LONG, "tarfile", "zipfile", "yarrik.run.source_steps", "cryptography.x509")
        self.assertEqual(self.loads("build", *asked, modules=seldom), [])
        self.assertIn('tidelog = "1.4.1"', (root / "yarrik.lock").read_text())

    def test_an_edited_source_is_built_without_planning(self) -> None:
        root = self.folder / "demo"
        self.seed()
        self.yarrik("demo", root, "--product", "tide-office")
        time.sleep(2.1)
        self.yarrik("build", "tide-office", at=root)
        source = root / "shelves/harbour/recipes/tidelog/src/tidelog.c"
        text = source.read_text()
        source.write_text(text + "/* another comment */\n")
        report = self.yarrik_json("build", "tide-office", at=root)
        self.assertEqual(
            [one["step"] for one in report["steps"] if one["how"] == "ran"][:2], ["prepare tidelog", "build tidelog"]
        )
        self.assertEqual({one["how"] for one in report["steps"]}, {"ran", "kept"})
        source.write_text(text + "#error tide\n")
        said = self.yarrik("build", "tide-office", at=root, code=1)
        self.assertIn("tide", said)
        source.write_text(text)
        self.assertEqual({one["how"] for one in self.yarrik_json("build", "tide-office", at=root)["steps"]}, {"kept"})
