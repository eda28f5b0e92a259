"""Builds after a recipe got another version, or takes its source from somewhere else: what follows runs, nothing is planned."""

import copy
import functools
import hashlib
import http.server
import io
import subprocess
import tarfile
import threading
import tomllib
from collections.abc import Callable
from unittest import mock

import tomlkit

from tests import test_rebuilding
from tests.test_unchanged import World
from yarrik.errors import YarrikError
from yarrik.plan import fingerprint_of, in_version, recipe_sources, setting_of
from yarrik.run import (
    Choices,
    Planned,
    Question,
    Rebuilder,
    Session,
    kept_definitions,
    kept_plan,
    rebuilding,
    silent,
    unchanged,
)
from yarrik.run.reporting import BuildReport


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *words: object) -> None:
        pass


class Sources(World):
    """A workspace with a recipe whose source is an archive on a server, one whose source is in a repository, and one of tools,
    each in several versions."""

    def add_recipes(self) -> None:
        self.digests = {}
        served = self.folder / "served"
        served.mkdir()
        for version in ("1", "1.1", "2"):
            room = io.BytesIO()
            with tarfile.open(fileobj=room, mode="w") as archive:
                for name, data in (("text", f"gauge {version}\n".encode()), ("other/text", b"elsewhere\n")):
                    member = tarfile.TarInfo(f"gauge-{version}/{name}")
                    member.size = len(data)
                    archive.addfile(member, io.BytesIO(data))
            (served / f"gauge-{version}.tar").write_bytes(room.getvalue())
            (served / f"mirrored-{version}.tar").write_bytes(room.getvalue())
            self.digests[version] = hashlib.sha256(room.getvalue()).hexdigest()
        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Quiet, directory=str(served)))
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        for name in ("http_proxy", "HTTP_PROXY", "all_proxy", "ALL_PROXY"):
            self.environment.pop(name, None)
        self.at = f"http://127.0.0.1:{server.server_port}"
        git = ["git", "-c", "user.name=Tide", "-c", "user.email=tide@harbour.invalid", "-C", str(self.folder / "upstream")]
        (self.folder / "upstream").mkdir()
        subprocess.run([*git, "init", "-q"], check=True)
        self.commits = []
        for text in ("ebb\n", "flood\n"):
            (self.folder / "upstream/text").write_text(text)
            subprocess.run([*git, "add", "."], check=True)
            subprocess.run([*git, "commit", "-q", "-m", text.strip()], check=True)
            head = subprocess.run([*git, "rev-parse", "HEAD"], check=True, capture_output=True, text=True)
            self.commits.append(head.stdout.strip())
        take = "mkdir -p $DESTDIR/share && cp text $DESTDIR/share/NAME"
        tool = 'mkdir -p $DESTDIR/usr/bin && printf "#!/bin/sh\\necho rule" > $DESTDIR/usr/bin/rule && chmod +x $DESTDIR/usr/bin/rule'
        self.recipe("rule", tool)
        self.recipe("gauge", take.replace("NAME", "gauge"), more='tools = ["rule"]')
        self.recipe("clone", take.replace("NAME", "clone"))
        self.files = {
            name: self.root / f"s/recipes/{name}/recipe.toml" for name in ("gauge", "clone", "rule", "kernel", "idle")
        }
        self.change("gauge", 'path = "src"', f'url = "{self.at}/gauge-{{version}}.tar"\nsha256 = "{self.digests["1"]}"')
        self.change("clone", 'path = "src"', f'git = "file://{self.folder}/upstream"\ncommit = "{self.commits[0]}"')
        image = self.root / "s/images/i.toml"
        image.write_text(image.read_text().replace('"tool"', '"tool", "gauge", "clone"'))

    def change(self, name: str, old: str, new: str) -> None:
        text = self.files[name].read_text()
        self.assertIn(old, text)
        self.files[name].write_text(text.replace(old, new))

    def renew(self, before: str, after: str) -> None:
        """Gives `gauge` another version, with the digest that its archive has."""
        self.change("gauge", f'version = "{before}"', f'version = "{after}"')
        self.change("gauge", self.digests[before], self.digests[after])


class WhatFollows(Sources, test_rebuilding.Rebuilt):
    def unplanned(self) -> BuildReport:
        with mock.patch("yarrik.run.planning.Planner", side_effect=AssertionError("it was planned")):
            return self.rebuilt()

    def check_against_planning(self, report: BuildReport, before: bytes) -> None:
        """The end is that of a build that plans, also in the lock, which was `before`."""
        lock = self.root / "yarrik.lock"
        short = lock.read_bytes()
        long = self.long_way()
        self.assertEqual([one.step.name for one in long.steps if one.how != "kept"], [])
        self.assertFalse(long.published)
        self.assertEqual([row.fingerprint for row in report.rows], [one.fingerprint for one in long.steps])
        steps = {one.step.name: one.step for one in report.steps}
        self.assertEqual([one.step for one in long.steps if one.step.name in steps], list(steps.values()))
        lock.write_bytes(before)
        notes = [one for one in self.long_way().notes if "yarrik.lock" in one]
        self.assertEqual((lock.read_bytes(), notes), (short, [one for one in report.notes if "yarrik.lock" in one]))

    def test_an_archive_of_another_version(self) -> None:
        before = (self.root / "yarrik.lock").read_bytes()
        self.renew("1", "2")
        report = self.unplanned()
        ran = self.ran(report)
        self.assertEqual(ran[:5], ["fetch gauge", "prepare gauge", "build gauge", "stage gauge", "split gauge"])
        self.assertIn("describe p", ran)
        self.assertEqual([name for name in ran if "clone" in name or "rule" in name or "tool" in name], [])
        self.assertIn("not as yarrik.lock had it: gauge: 1 → 2", report.notes)
        self.assertEqual(self.content("/share/gauge"), "gauge 2\n")
        manifest = (self.root / "out/p/packages.json").read_text()
        self.assertIn(f"{self.at}/gauge-2.tar", manifest)
        self.assertIn(self.digests["2"], manifest)
        self.assertNotIn("gauge-1.tar", manifest)
        self.check_against_planning(report, before)

    def test_and_back(self) -> None:
        """Also where the recipe's file is again the one that was planned with."""
        first = (self.root / "yarrik.lock").read_bytes()
        image = (self.root / "out/p/p.img").read_bytes()
        for one, other in (("1", "2"), ("2", "1.1"), ("1.1", "1")):
            before = (self.root / "yarrik.lock").read_bytes()
            self.renew(one, other)
            report = self.unplanned()
            self.assertIn(f"not as yarrik.lock had it: gauge: {one} → {other}", report.notes)
        self.assertEqual((self.root / "yarrik.lock").read_bytes(), first)
        self.assertEqual((self.root / "out/p/p.img").read_bytes(), image)
        self.check_against_planning(report, before)

    def test_another_commit(self) -> None:
        before = (self.root / "yarrik.lock").read_bytes()
        self.change("clone", self.commits[0], self.commits[1])
        report = self.unplanned()
        self.assertEqual(self.ran(report)[:4], ["fetch clone", "build clone", "stage clone", "split clone"])
        self.assertEqual(self.content("/share/clone"), "flood\n")
        self.assertIn(self.commits[1], (self.root / "out/p/packages.json").read_text())
        self.assertEqual([one for one in report.notes if "yarrik.lock" in one], [])
        self.check_against_planning(report, before)

    def test_the_same_file_from_elsewhere(self) -> None:
        """Only the manifests say where it is had."""
        before = (self.root / "yarrik.lock").read_bytes()
        self.change("gauge", "/gauge-{version}", "/mirrored-{version}")
        self.change("gauge", "sha256", f'mirrors = ["{self.at}/gauge-{{version}}.tar"]\nsha256')
        report = self.unplanned()
        # The archive's name is the one that a tree is made under, and the tree is the same.
        self.assertEqual(self.ran(report), ["prepare gauge", "describe p"])
        self.assertIn("/mirrored-1.tar", (self.root / "out/p/packages.json").read_text())
        self.check_against_planning(report, before)

    def test_a_part_of_it_and_its_limits(self) -> None:
        before = (self.root / "yarrik.lock").read_bytes()
        self.change("gauge", "sha256", 'folder = "other"\nmember-limit = 100\nsize-limit = "1 MiB"\nsha256')
        report = self.unplanned()
        self.assertEqual(self.ran(report)[:2], ["prepare gauge", "build gauge"])
        self.assertEqual(self.content("/share/gauge"), "elsewhere\n")
        self.check_against_planning(report, before)

    def test_a_tool(self) -> None:
        before = (self.root / "yarrik.lock").read_bytes()
        self.change("rule", 'version = "1"', 'version = "1.1"')
        report = self.unplanned()
        self.assertIn("not as yarrik.lock had it: tool rule: 1 → 1.1", report.notes)
        self.check_against_planning(report, before)

    def test_several_at_once_with_all_else_that_may_change(self) -> None:
        before = (self.root / "yarrik.lock").read_bytes()
        self.renew("1", "2")
        self.change("gauge", "cp text", "cp -p text")
        self.change("clone", self.commits[0], self.commits[1])
        self.change("clone", 'version = "1"', 'version = "7"')
        (self.source / "a.txt").write_text("spring tide\n")
        product = self.root / "products/p.toml"
        product.write_text(product.read_text() + "[options.tool]\nloud = true\n")
        report = self.unplanned()
        self.check_against_planning(report, before)
        manifest = (self.root / "out/p/packages.json").read_text()
        self.assertIn("gauge-2.tar", manifest)
        self.assertIn(self.commits[1], manifest)

    def test_one_that_nobody_asks_for(self) -> None:
        lock = (self.root / "yarrik.lock").read_bytes()
        self.change("idle", 'version = "1"', 'version = "3"')
        self.assertEqual(self.ran(self.unplanned()), [])
        self.assertEqual((self.root / "yarrik.lock").read_bytes(), lock)

    def test_it_is_known_again_afterwards(self) -> None:
        self.renew("1", "2")
        self.unplanned()
        (self.source / "a.txt").write_text("spring tide\n")
        self.unplanned()
        self.change("gauge", "cp text", "cp -p text")
        self.assertEqual(self.ran(self.unplanned())[0], "build gauge")
        self.settle()
        self.assertIsNotNone(unchanged.kept_build(self.question))

    def test_a_file_that_is_not_the_one_that_is_asked_for(self) -> None:
        self.change("gauge", 'version = "1"', 'version = "2"')
        self.change("gauge", self.digests["1"], self.digests["1.1"])
        report = self.unplanned()
        (error,) = report.errors
        self.assertEqual(error.troubles[0].code, "SOURCE-DIGEST")
        self.assertEqual(error.troubles[0].place.file, self.files["gauge"])
        self.change("gauge", self.digests["1.1"], self.digests["2"])
        self.assertIsNone(self.short_way(), "the lock has another version than when it was built last")
        self.long_way()
        self.assertEqual(self.content("/share/gauge"), "gauge 2\n")

    def test_one_that_is_edited(self) -> None:
        """Its sources are in a folder, and its version is still the recipe's."""
        edited = self.root / "edits/gauge"
        edited.mkdir(parents=True)
        (edited / "text").write_text("by hand\n")
        subprocess.run(["git", "init", "-q", edited], check=True)
        self.settle()
        before = (self.root / "yarrik.lock").read_bytes()
        self.change("gauge", 'version = "1"', 'version = "2"')
        report = self.unplanned()
        self.assertEqual(self.ran(report)[:2], ["stage gauge", "split gauge"])
        self.assertNotIn("gauge-2.tar", (self.root / "out/p/packages.json").read_text())
        self.check_against_planning(report, before)

    def asked(self, locked: bool = False) -> Rebuilder:
        found = unchanged.asked_before(Question(self.root, locked=locked))
        assert isinstance(found, unchanged.FewChanges)
        session = Session(self.root, Choices(locked=locked))
        self.addCleanup(session.close)
        return Rebuilder(session.project, found)

    def test_with_locked_it_is_planned(self) -> None:
        self.long_way(Question(self.root, locked=True))
        lock = (self.root / "yarrik.lock").read_bytes()
        self.renew("1", "2")
        self.assertIsNone(self.asked(locked=True).build(None, False, silent))
        with self.assertRaisesRegex(YarrikError, "gauge: 1 → 2"):
            self.long_way(Question(self.root, locked=True))
        self.assertEqual((self.root / "yarrik.lock").read_bytes(), lock)

    def test_what_is_said_before_a_build(self) -> None:
        """What differs from the lock is said by planning; without such a difference the steps are told at once."""
        self.change("clone", self.commits[0], self.commits[1])
        found = self.asked().assess()
        assert found is not None
        self.assertEqual(found[0].step.name, "fetch clone")
        self.renew("1", "2")
        self.assertIsNone(self.asked().assess())

    def test_a_version_that_something_asks_about_is_planned(self) -> None:
        condition = '[[when]]\nversion = "gauge >= 1"\n[when.set]\nhostname = "tern"\n'
        bounds = {
            "the product": ("products/p.toml", '[versions]\ngauge = ">= 1"\n'),
            "an image": ("s/images/i.toml", ""),
            "a condition": ("s/images/i.toml", condition),
            "a recipe": ("s/recipes/tool/recipe.toml", ""),
            "a package": ("s/recipes/tool/recipe.toml", '[package.tool]\nneeds = ["gauge < 9"]\n'),
            "an exclusion": ("s/recipes/tool/recipe.toml", '[package.tool]\nexcludes = ["gauge > 9"]\n'),
            "an option": ("s/recipes/tool/recipe.toml", '[options.tall]\nexcludes = ["gauge > 9"]\n'),
        }
        words = {"an image": ('"gauge"', '"gauge >= 1"'), "a recipe": ("weight = 1\n", 'weight = 1\nneeds = ["gauge >= 1"]\n')}
        for name, (path, more) in bounds.items():
            with self.subTest(name):
                file = self.root / path
                text = file.read_text()
                file.write_text(text.replace(*words[name]) if name in words else text + more)
                self.settle()
                self.renew("1", "2")
                self.assertIsNone(self.short_way())
                self.renew("2", "1")
                file.write_text(text)
                self.settle()

    def test_the_kernels_version_is_planned(self) -> None:
        self.change("kernel", 'version = "1', 'version = "2')
        self.assertIsNone(self.short_way())

    def test_one_of_several_versions_is_planned(self) -> None:
        """Which of them is taken is not said by the recipe alone: the lock stays with the one that it has."""
        self.change("gauge", 'version = "1"', 'versions = ["1", "2"]\nversion = "1"')
        self.settle()
        self.change("gauge", '\nversion = "1"', '\nversion = "2"')
        self.assertIsNone(self.short_way())

    def test_a_version_out_of_a_name_is_planned(self) -> None:
        (self.root / "s/recipes/idle/src-1").mkdir()
        (self.root / "s/recipes/idle/src-1/a").write_text("a")
        self.change("idle", 'path = "src"', 'path = "src-{version}"')
        self.settle()
        self.change("idle", 'version = "1"', 'version = "3"')
        self.assertIsNone(self.short_way())


class EveryKeyOfSources(Sources):
    """From version and source alone, nothing else follows than what is made again."""

    def plan_of(self, name: str, raw: dict[str, object]) -> Planned:
        self.files[name].write_text(tomlkit.dumps(raw))
        return self.planned()

    def test_nothing_else_follows_from_them(self) -> None:
        keys: dict[str, dict[str, object]] = {
            "gauge": {
                "url": f"{self.at}/mirrored-{{version}}.tar", "sha256": self.digests["2"], "mirrors": [f"{self.at}/m.tar"],
                "name": "gauge.bin", "folder": "other", "member-limit": 7, "size-limit": "2 MiB",
            },
            "clone": {"git": "https://far.invalid/clone", "commit": self.commits[1], "mirrors": ["https://near.invalid/c"],
                      "folder": "more", "submodules": True},
            "rule": {},
        }  # fmt: skip
        named = {kind: set(keys[name]) | {kind} for kind, name in (("url", "gauge"), ("git", "clone"), ("path", "rule"))}
        self.assertEqual({**named, "path": set()}, recipe_sources._OF_SOURCE)
        for name, changes in keys.items():
            raw = tomllib.loads(self.files[name].read_text())
            before = self.plan_of(name, raw)
            kept = kept_definitions.kept_recipes(before.answer, before.graph.steps, ())[str(self.files[name])]
            sides = before.surroundings.toolchains.items()
            others = {before.graph.steps[number].kind for number in kept.others}
            self.assertLessEqual({"stage", "describe"} | ({"fetch"} if name != "rule" else set()), others)
            for key, value in [("version", "2"), *changes.items()]:
                with self.subTest(name, key=key):
                    other = copy.deepcopy(raw)
                    (other if key == "version" else other["source"][0])[key] = value
                    now = self.plan_of(name, other)
                    self.assertEqual(kept_plan.stable_digest(other), kept.stable)
                    self.assertNotEqual(kept_plan.beyond_digest(other), kept.digest)
                    for fact in ("options", "packages", "roles", "groups", "links"):
                        self.assertEqual(getattr(now.answer, fact), getattr(before.answer, fact), fact)
                    self.assertEqual(now.warnings, before.warnings)
                    self.assertEqual(now.graph.programs.keys(), before.graph.programs.keys())
                    recipe = rebuilding.recipe_in(rebuilding.read_document(self.files[name]))
                    settings = {side: setting_of(before.composition, side, one) for side, one in sides}
                    steps = list(before.graph.steps)
                    for number in kept.builds:
                        steps[number] = in_version(rebuilding.with_commands(steps[number], recipe, settings), recipe)
                    for number in kept.others:
                        steps[number] = in_version(steps[number], recipe)
                    self.assertEqual([one.name for one in now.graph.steps], [one.name for one in steps])
                    for new, made in zip(now.graph.steps, steps, strict=True):
                        self.assertEqual(new, made)
                        inputs = dict.fromkeys(new.inputs, "0" * 64)
                        self.assertEqual(fingerprint_of(new, inputs), fingerprint_of(made, inputs))


class VersionsInAnyOrder(Sources, test_rebuilding.SourcesInAnyOrder):
    """As `ChangesInAnyOrder`, of versions and where sources are had."""

    ABOUT = "version"
    #: There are six different images; one that was made before is not written again.
    SHARE, IMAGES = 3, 60
    OFTEN: tuple[str, ...] = ()

    def changes(self) -> dict[str, Callable[[], None]]:
        def swapped(name: str, one: str, other: str) -> Callable[[], None]:
            def change() -> None:
                text = self.files[name].read_text()
                old, new = (one, other) if one in text else (other, one)
                self.files[name].write_text(text.replace(old, new))

            return change

        def renewed() -> None:
            text = self.files["gauge"].read_text()
            before = next((one for one, digest in self.digests.items() if digest in text), None)
            if before is not None and f'version = "{before}"' in text:
                self.renew(before, self.chance.choice([one for one in self.digests if one != before]))

        return {
            **super().changes(),
            "another version of an archive": renewed,
            "the version of a tool": swapped("rule", 'version = "1"', 'version = "1.1"'),
            "what the tool of a version leaves": swapped("rule", "echo rule", "echo ruler"),
            "the version of one from a repository": swapped("clone", 'version = "1"', 'version = "4"'),
            "another commit as the version": swapped("clone", self.commits[0], self.commits[1]),
            "another address of a version": swapped("gauge", "/gauge-{version}", "/mirrored-{version}"),
            "the version of one that nobody asks for": swapped("idle", 'version = "1"', 'version = "4"'),
            "the version of the kernel": swapped("kernel", 'version = "1', 'version = "9'),
            "commands of a version": swapped("gauge", "cp text", "cp -p text"),
        }
