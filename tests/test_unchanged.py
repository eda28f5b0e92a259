"""Builds that have nothing to do: told without planning, and never when anything has changed that a plan follows from."""

import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path
from unittest import mock

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import yarrik.cache.memory
from tests.support import ProgramTest, WorkspaceTest
from yarrik.beneath import remove_folder
from yarrik.cache import Memory
from yarrik.cli.build import head_as_json
from yarrik.errors import YarrikError
from yarrik.model import Overrides
from yarrik.run import Choices, Planned, Question, Rebuilder, Session, silent, unchanged, watched
from yarrik.run.building import Builder, BuildReport

#: So long after a change nothing can be changed unseen any more, on the filesystem of the tests (seconds).
SETTLED = 0.05
#: How many changes are made in one run; more of them: `make changes`.
TRIES = int(os.environ.get("TRIES", "40"))


class World(WorkspaceTest):
    """A small workspace with all kinds of things that a plan follows from, built within this process."""

    #: An account's password is a secret: the step with it cannot be run without planning.
    PASSWORD = """
        login = "password"
        shell = "/sbin/init"
        password-secret = "operator"
        """

    def setUp(self) -> None:
        super().setUp()
        self.write("w/s/images/note.txt", "high water\n")
        self.write("w/s/images/files/etc/tide.conf", "port = 1\n")
        self.write("w/s/images/i.toml", """
            packages = ["init", "tool"]
            [[tree]]
            from = "files"
            [[file]]
            path = "/etc/note"
            from = "note.txt"
            [[user]]
            name = "operator"
            """ + self.PASSWORD)  # fmt: skip
        words = "mkdir -p $DESTDIR/bin && echo $PORT_WORD > $DESTDIR/bin/word"
        self.recipe(
            "tool",
            f"{words} && cp a.txt $DESTDIR/bin/text",
            {"a.txt": "a", "b.txt": "b", "c.txt": "c", "__pycache__/kept.pyc": "x"},
        )
        recipe = self.root / "s/recipes/tool/recipe.toml"
        told = '[build]\nlet-in = ["PORT_WORD"]\nweight = 1\n'
        option = '[options.loud]\nsummary = "speaks up"\nvariables-off = { LOUD = "no" }\n'
        option += 'variables = { LOUD = "yes" }\n[options.bare]\nneeds = ["init"]\n'
        recipe.write_text(recipe.read_text().replace("[build]\n", told) + option)
        self.recipe("idle", "true")
        self.add_recipes()
        self.write("secret", "not to be seen").chmod(0o600)
        self.write("settings.toml", f'[secrets]\noperator = {{ file = "{self.folder}/secret" }}\n')
        self.environment |= {"YARRIK_SETTINGS": str(self.folder / "settings.toml"), "PORT_WORD": "gull",
                             "PATH": f"{self.folder}/bin:{self.environment['PATH']}"}  # fmt: skip
        self.open_ = ExitStack()
        self.addCleanup(self.open_.close)
        self.open_.enter_context(mock.patch.dict(os.environ, self.environment, clear=True))
        for module in (unchanged, yarrik.cache.memory):
            self.open_.enter_context(mock.patch.object(module, "_FRESH_NS", int(SETTLED * 1e9)))

    def add_recipes(self) -> None:
        """Adds further ones, before anything is built."""

    @property
    def question(self) -> Question:
        return Question(self.root)

    def long_way(
        self, question: Question | None = None, seen: Path | None = None, meanwhile: Callable[[], object] = lambda: None
    ) -> BuildReport:
        """Builds as the program does when it has to plan, and keeps what it followed from; a path is `seen` too, and something
        happens `meanwhile`, when all is planned."""
        question = question or self.question
        session = Session(question.root, Choices(False, question.use_sandbox, question.locked, question.offline))
        try:
            with watched() as watch:
                overrides = Overrides.of(question.variants, os.environ, question.settings)
                planned = session.planner.planned(session.planner.compose(question.product, overrides))
                if seen is not None:
                    sys.audit("yarrik.read", seen)
            meanwhile()
            report = session.builder.build(planned, question=question)
            for error in report.errors:
                raise error
            session.builder.remember(question, watch, planned, report, head_as_json)
            return report
        finally:
            session.close()

    def planned(self) -> Planned:
        """The plan of the workspace as it is now."""
        session = Session(self.root)
        try:
            return session.planner.planned(session.planner.compose())
        finally:
            session.close()

    def short_way(self) -> BuildReport | None:
        """Builds as the program does after nothing but sources has changed; None when it has to plan."""
        found = unchanged.asked_before(self.question)
        if not isinstance(found, unchanged.FewChanges):
            return None
        session = Session(self.root)
        try:
            return Rebuilder(session.project, found, time.monotonic(), head_as_json).build(None, False, silent)
        finally:
            session.close()

    def record(self) -> unchanged._Record:
        record = unchanged._read(self.question)
        assert record is not None, "there is no record, or a damaged one"
        return record

    def settle(self, seen: Path | None = None) -> None:
        """Builds until it is told without planning that there is nothing to do."""
        for _ in range(5):
            time.sleep(2 * SETTLED)
            self.long_way(seen=seen)
            if unchanged.kept_build(self.question) is not None:
                return
        self.fail("a build that has nothing to do is planned every time")


class Changes(World):
    """Changes of all kinds."""

    def setUp(self) -> None:
        super().setUp()
        self.chance = random.Random(1)
        self.hidden = self.folder / "hidden"
        self.hidden.mkdir()
        (self.folder / "cache-2").mkdir()
        (self.folder / "cache-2/host").symlink_to((self.folder / "cache/host").readlink())
        self.paths = os.environ["PATH"], os.environ["PATH"].partition(":")[2]
        shutil.copytree(self.root, self.folder / "pristine/w", symlinks=True)
        for name in ("settings.toml", "secret"):
            shutil.copy2(self.folder / name, self.folder / "pristine" / name)

    def mend(self) -> None:
        """Makes all as it was in the beginning, but for the cache and what was built."""
        os.environ.clear()
        os.environ.update(self.environment)
        shutil.rmtree(self.folder / "bin", ignore_errors=True)
        shutil.rmtree(self.folder / "elsewhere", ignore_errors=True)
        (self.folder / "moved").unlink(missing_ok=True)
        for path in self.root.iterdir():
            if path.name not in (".yarrik", "out"):
                shutil.rmtree(path) if path.is_dir() else path.unlink()
        shutil.copytree(self.folder / "pristine", self.folder, symlinks=True, dirs_exist_ok=True)

    def wanted(self) -> set[str]:
        """The paths of the cache that the record asks for."""
        try:
            return {path for folder, _, digests in self.record().held for path in unchanged._paths_in(folder, digests)}
        except AssertionError:  # one of the changes
            return set()

    def changes(self) -> dict[str, Callable[[], None]]:
        s, root, cache, out = self.root / "s", self.root, self.folder / "cache", self.root / "out/p"
        source, tide = s / "recipes/tool/src/a.txt", s / "images/files/etc/tide.conf"

        def text(file: Path, keep_time: bool = False, same_size: bool = False) -> Callable[[], None]:
            def change() -> None:
                before = file.stat()
                old = file.read_text()
                mark = f"# {self.chance.randrange(10)}\n"
                file.write_text(old[: -len(mark)] + mark if same_size and old.endswith("\n") and "# " in old else old + mark)
                if keep_time:
                    os.utime(file, ns=(before.st_atime_ns, before.st_mtime_ns))

            return change

        def toggled(file: Path, content: str | bytes) -> Callable[[], None]:
            def change() -> None:
                if os.path.lexists(file):
                    shutil.rmtree(file) if file.is_dir() and not file.is_symlink() else file.unlink()
                else:
                    file.parent.mkdir(parents=True, exist_ok=True)
                    file.write_bytes(content if isinstance(content, bytes) else content.encode())

            return change

        def variable(name: str, *values: str | None) -> Callable[[], None]:
            def change() -> None:
                value = self.chance.choice([one for one in values if one != os.environ.get(name)])
                if value is None:
                    os.environ.pop(name, None)
                else:
                    os.environ[name] = value

            return change

        def one_of(pattern: str, top: Path = cache) -> Path | None:
            found = sorted(path for path in top.glob(pattern) if not path.is_dir())
            if top == cache and not pattern.startswith("results"):  # what this build left
                wanted = self.wanted()
                found = [path for path in found if str(path) in wanted]
            return self.chance.choice(found) if found else None

        def lost(pattern: str, top: Path = cache) -> Callable[[], None]:
            def change() -> None:
                if (path := one_of(pattern, top=top)) is not None:
                    path.unlink()

            return change

        def swapped(file: Path, one: str, other: str) -> Callable[[], None]:
            """A text in the place of another, or back; `N` is a number."""
            number = re.compile(re.escape(other).replace("N", "[0-9]"))

            def change() -> None:
                before = file.read_text()
                now = other.replace("N", str(self.chance.randrange(10)))
                found = number.search(before)
                after = before.replace(one, now) if found is None else before.replace(found[0], now if now != other else one)
                if self.chance.random() < 0.5:
                    file.write_text(after)
                else:  # as many editors save
                    (fresh := file.with_name("fresh")).write_text(after)
                    fresh.replace(file)

            return change

        def replaced(file: Path) -> Callable[[], None]:
            """Another file of the same content in its place."""

            def change() -> None:
                shutil.copy2(file, self.folder / "other")
                os.replace(self.folder / "other", file)

            return change

        def link() -> None:
            """A folder moves, and a link leads to where it is now; or back."""
            folder, elsewhere = s / "recipes/tool/src", self.folder / "elsewhere"
            if folder.is_symlink():
                folder.unlink()
                shutil.move(elsewhere, folder)
            else:
                shutil.move(folder, elsewhere)
                folder.symlink_to(elsewhere)

        def linked() -> None:
            """A file moves, and a link leads to where it is now; or back."""
            if tide.is_symlink():
                tide.unlink()
                shutil.move(self.folder / "moved", tide)
            else:
                shutil.move(tide, self.folder / "moved")
                tide.symlink_to(self.folder / "moved")

        def touched() -> None:
            for folder in (s / "images", tide.parent, root / "products", s / "boards"):
                (folder / ".swap").write_text("x")
                (folder / ".swap").unlink()

        def compiler() -> None:
            """Another compiler comes first where programs are looked for, or goes."""
            folder = self.folder / "bin"
            folder.mkdir(exist_ok=True)
            if (folder / "gcc").exists():
                (folder / "gcc").unlink()
            else:
                (folder / "gcc").symlink_to(shutil.which("gcc", path="/usr/bin") or "/usr/bin/gcc")

        def damaged_record() -> None:
            for file in (root / ".yarrik/unchanged").glob("*"):
                data = bytearray(file.read_bytes())
                data[self.chance.randrange(len(data))] ^= 1 << self.chance.randrange(8)
                file.write_bytes(data if self.chance.random() < 0.7 else data[: self.chance.randrange(len(data))])

        def cut_image() -> None:
            if (image := one_of("*.img", top=out)) is not None:
                with image.open("r+b") as file:
                    file.truncate(1000)

        def edited() -> None:
            folder = root / "edits/tool"
            if folder.exists():
                shutil.rmtree(folder)
            else:
                shutil.copytree(s / "recipes/tool/src", folder)
                (folder / "a.txt").write_text("edited")
                subprocess.run(["git", "init", "-q", folder], check=True)

        def another_version() -> None:
            self.open_.enter_context(mock.patch.object(unchanged, "__version__", str(self.chance.random())))

        new_recipe = 'version = "1"\nlicence = "MIT"\n[[source]]\npath = "src"\n[build]\nusing = "plain"\ncommands = ["true"]\n'
        chosen = 'image = "i"\n[options.tool]\nloud = true\n'
        condition = 'image = "i"\n[[when]]\noption = "tool[loud]"\n[when.set]\nhostname = "tern"\n'
        amend = 'recipe = "tool"\n[set]\nbuild.variables = { MORE = "x" }\n'
        amendment = 'image = "i"\n[set]\nhostname = "gull"\n'
        return {
            "nothing": lambda: None,
            "a file beside": toggled(root / "README.md", "# notes\n"),
            "a source": text(source),
            "a source that changes nothing": text(source.with_name("b.txt")),
            "the program's source": text(s / "recipes/init/src/init.c"),
            "a source, its time put back": text(source, keep_time=True),
            "a source of the same size and time": text(source, keep_time=True, same_size=True),
            "the same source as another file": replaced(source),
            "a source that comes and goes": toggled(s / "recipes/tool/src/more.txt", "more"),
            "a folder of sources that comes and goes": toggled(s / "recipes/tool/src/deep/er.txt", "deep"),
            "a source in an odd place": text(s / "recipes/tool/src/__pycache__/kept.pyc"),
            "a source that goes and comes": toggled(s / "recipes/tool/src/c.txt", "c"),
            "the rights of a source": lambda: source.chmod(source.stat().st_mode ^ 0o111),
            "the time of a source": lambda: os.utime(source),
            "a folder that becomes a link": link,
            "a recipe": text(s / "recipes/tool/recipe.toml"),
            "a recipe as another file": replaced(s / "recipes/tool/recipe.toml"),
            "the commands of a recipe": swapped(s / "recipes/tool/recipe.toml", "mkdir -p ", "mkdir -pv "),
            "what a recipe's commands leave": swapped(s / "recipes/tool/recipe.toml", "echo $PORT", "echo N $PORT"),
            "the weight of a recipe": swapped(s / "recipes/tool/recipe.toml", "weight = 1", "weight = 1N"),
            "an option of a recipe": swapped(s / "recipes/tool/recipe.toml", '"no"', '"never"'),
            "what an option of a recipe is for": swapped(s / "recipes/tool/recipe.toml", "speaks up", "speaks"),
            "what a recipe lets in": swapped(s / "recipes/tool/recipe.toml", '["PORT_WORD"]', '["PORT_WORD", "HOME"]'),
            "the version of a recipe": swapped(s / "recipes/tool/recipe.toml", 'version = "1"', 'version = "2"'),
            "a recipe with an error": swapped(s / "recipes/tool/recipe.toml", "weight = ", "wait = "),
            "a file beside a recipe": toggled(s / "recipes/tool/notes", "x"),
            "a recipe that nobody asks for": swapped(s / "recipes/idle/recipe.toml", "true", ":"),
            "an option of a recipe that the product chooses": swapped(root / "products/p.toml", 'image = "i"\n', chosen),
            "an option of a recipe that somebody chooses here": toggled(root / "yarrik.local.toml", "[options.tool]\nloud = true\n"),
            "a condition that asks about an option of a recipe": toggled(s / "amendments/loud.toml", condition),
            "an amendment to a recipe": toggled(s / "amendments/tool.toml", amend),
            "the first definition of a kind": toggled(root / "recipes/new/recipe.toml", new_recipe),
            "a new recipe on the shelf": toggled(s / "recipes/other/recipe.toml", new_recipe),
            "an amendment": toggled(s / "amendments/named.toml", amendment),
            "the image": text(s / "images/i.toml"),
            "a file of the image": text(s / "images/note.txt"),
            "a file of the image that is saved": swapped(s / "images/note.txt", "high", "N low"),
            "a file of the image as another file": replaced(s / "images/note.txt"),
            "a file in the image's tree": text(s / "images/files/etc/tide.conf"),
            "a file in the image's tree that is saved": swapped(s / "images/files/etc/tide.conf", "1", "N0"),
            "the rights of a file in the image's tree": lambda: tide.chmod(tide.stat().st_mode ^ 0o100),
            "a file in the image's tree that becomes a link": linked,
            "a file that an editor has removed": touched,
            "a file that comes to the image's tree": toggled(s / "images/files/etc/more.conf", "x"),
            "the product": text(root / "products/p.toml"),
            "the workspace": text(root / "yarrik.toml"),
            "the shelf's own file": text(s / "shelf.toml"),
            "the workspace's settings": toggled(root / "yarrik.local.toml", "[settings]\njobs = 2\n"),
            "local changes": toggled(root / "yarrik.local.toml", '[image]\nhostname = "tern"\n'),
            "the user's settings": text(self.folder / "settings.toml"),
            "a secret": text(self.folder / "secret", same_size=True),
            "the lock": lambda: (root / "yarrik.lock").unlink(missing_ok=True),
            "a comment in the lock": text(root / "yarrik.lock") if (root / "yarrik.lock").exists() else lambda: None,
            "a variable that a recipe lets in": variable("PORT_WORD", "gull", "tern", "", None),
            "a setting in a variable": variable("YARRIK_SET_IMAGE__HOSTNAME", "a", "b", None),
            "a variable of ours that means nothing": variable("YARRIK_NOTHING", "1", None),
            "a variable of others": variable("TERM_SESSION", "1", "2", None),
            "the home": variable("HOME", self.environment["HOME"], str(self.hidden)),
            "the compiler": compiler,
            "where programs are looked for": variable("PATH", *self.paths),
            "another cache": variable("YARRIK_CACHE", str(cache), str(self.folder / "cache-2")),
            "an object that is lost": lost("objects/*/*"),
            "a tree that is lost": lost("trees/*/*"),
            "a result that is lost": lost("results/*/*"),
            "the whole cache": lambda: [shutil.rmtree(cache / one, ignore_errors=True) for one in ("objects", "trees", "results")],
            "a file of out": lost("*", top=out),
            "an image that is cut": cut_image,
            "the time of an image": lambda: [os.utime(one) for one in out.glob("*.img")],
            "all of out": lambda: shutil.rmtree(out, ignore_errors=True),
            "a file beside the image": toggled(out / "boot.log", "x"),
            "the memory": lambda: [one.unlink() for one in (root / ".yarrik").glob("memory.sqlite*")],
            "the record": damaged_record,
            "sources that are edited": edited,
            "another Yarrik": another_version,
        }  # fmt: skip


class ChangesInAnyOrder(Changes):
    """When the short way says that nothing has to be done, or that what follows from sources was built, the long way finds the
    same."""

    def test_the_short_way_never_hides_one(self) -> None:
        self.long_way()
        self.settle()
        names = sorted(self.changes())
        seen = {"short": 0, "rebuilt": 0, "long": 0, "failed": 0}
        made: dict[str, int] = dict.fromkeys(names, 0)

        @settings(max_examples=TRIES, deadline=None, database=None, derandomize="TRIES" not in os.environ,
                  suppress_health_check=list(HealthCheck))  # fmt: skip
        @given(
            st.lists(st.sampled_from([*names, *30 * ["nothing"]]), min_size=1, max_size=3),
            st.integers(0, 1 << 30),
            st.booleans(),
        )
        def try_(kinds: list[str], seed: int, rested: bool) -> None:
            self.chance.seed(seed)
            if rested:
                time.sleep(2 * SETTLED)
            for kind in kinds:
                self.changes()[kind]()
                made[kind] += 1
            short = unchanged.kept_build(self.question)
            try:
                rebuilt = self.short_way() if short is None else None
                if rebuilt is not None and rebuilt.errors:
                    rebuilt = None
                report = self.long_way()
            except YarrikError as error:
                self.assertIsNone(short, f"{error} is not seen: {kinds}")
                seen["failed"] += 1
                self.mend()
                return
            todo = [one.step.name for one in report.steps if one.how != "kept"]
            if rebuilt is not None:
                seen["rebuilt"] += 1
                self.assertEqual([row.step for row in rebuilt.rows], [one.step.name for one in report.steps])
                self.assertEqual([row.fingerprint for row in rebuilt.rows], [one.fingerprint for one in report.steps])
                if "the memory" not in kinds:
                    self.assertEqual((todo, report.published), ([], False), f"not seen: {kinds}")
                    self.assertLessEqual(set(report.notes), set(rebuilt.notes))  # what steps say is heard when they run
                return
            if short is None:
                seen["long"] += 1
                return
            seen["short"] += 1
            self.assertEqual((short.product, list(short.steps)), (report.product, [one.step.name for one in report.steps]))
            # Without its memory the long way does not know any more what it has published and told, nor of which steps the
            # results are gone and all that they left is there: it does all that again, to the same end.
            if "the memory" not in kinds:
                self.assertEqual((todo, report.published, report.notes), ([], False, short.notes), f"not seen: {kinds}")

        try_()
        print(f"changes: {sum(made.values())} of {len(names)} kinds in {TRIES} tries; {seen}", file=sys.stderr)
        self.assertGreater(seen["short"], TRIES // 50)
        self.assertGreater(seen["long"], TRIES // 4)


class ChangesOneByOne(Changes):
    def test_every_kind_is_seen(self) -> None:
        self.long_way()
        quiet = {
            "nothing",
            "a file beside",
            "a variable of others",
            "a file beside the image",
            "a result that is lost",
            "the memory",
        }
        careful = {
            "the same source as another file",
            "a file of the image as another file",
            "a file that an editor has removed",
            "the time of a source",
            "the time of an image",
        }
        for name in sorted(self.changes()):
            with self.subTest(name):
                self.mend()
                self.settle()
                self.chance.seed(7)
                self.changes()[name]()
                short = unchanged.kept_build(self.question)
                if name in quiet:
                    self.assertIsNotNone(short, "it is planned again, and nothing has changed")
                elif name not in careful:
                    self.assertIsNone(short, "it is not seen")


class WhatHappensMeanwhile(World):
    """Something changes after it was planned with and before it is remembered; none of it is new."""

    PASSWORD = ""

    def test_it_is_not_remembered_as_what_was_planned_with(self) -> None:
        s, aside = self.root / "s", self.folder / "aside"
        self.recipe("bare", "true")
        self.write("aside/tool/recipe.toml", (s / "recipes/tool/recipe.toml").read_text().replace("cp a.txt", "cp b.txt"))
        shutil.copytree(s / "recipes/tool/src", aside / "tool/src")
        (aside / "tool/notes").write_text("not ours")
        shutil.copytree(s / "recipes", aside / "recipes")
        (aside / "recipes/tool/recipe.toml").write_text((aside / "tool/recipe.toml").read_text())
        shutil.copytree(s / "recipes/idle", aside / "more")
        (aside / "more/recipe.toml").write_text((aside / "more/recipe.toml").read_text() + "[package.tool]\n")
        shutil.copytree(s / "images", aside / "images")
        (aside / "images/i.toml").write_text((s / "images/i.toml").read_text().replace("operator", "keeper"))
        shutil.copytree(s / "images/files/etc", aside / "etc")
        (aside / "etc/more.conf").write_text("x")
        shutil.copytree(self.root / "products", aside / "products")
        (aside / "products/p.toml").write_text((aside / "products/p.toml").read_text() + "[options.tool]\nloud = true\n")
        swaps = {"a recipe": ("tool", "s/recipes/tool"), "all recipes": ("recipes", "s/recipes"), "the images": ("images", "s/images"),
                 "a recipe more": ("more", "s/recipes/more"), "a folder of a tree": ("etc", "s/images/files/etc"),
                 "the products": ("products", "products")}  # fmt: skip
        for what, (name, place) in swaps.items():
            for saved in (False, True):
                with self.subTest(what, saved=saved):
                    self.settle()

                    def swap(place: str = place, name: str = name, saved: bool = saved) -> None:
                        if (self.root / place).exists():
                            (self.root / place).rename(self.folder / "former")
                        (aside / name).rename(self.root / place)
                        if saved:
                            (self.root / place / ".swap").write_text("")
                            (self.root / place / ".swap").unlink()

                    # What was kept of the settled state does not count: it asks in another way.
                    question = Question(self.root, settings=(f"image.hostname={name}-{saved}".lower(),))
                    self.long_way(question, meanwhile=swap)
                    told: list[list[str]] = []
                    for _ in range(2):
                        time.sleep(2 * SETTLED)
                        found = unchanged.asked_before(question)
                        if isinstance(found, unchanged.KeptBuild):
                            told.append([fingerprint for _, fingerprint in found.by_name])
                        elif found is not None:
                            session = Session(self.root)
                            report = Rebuilder(session.project, found, 0.0, head_as_json).build(None, False, silent)
                            session.close()
                            told += [[one.fingerprint for one in report.rows]] if report is not None else []
                    long = [one.fingerprint for one in self.long_way(question).steps]
                    self.assertEqual(told, [long] * len(told))
                    (self.root / place).rename(aside / name)
                    if (self.folder / "former").exists():
                        (self.folder / "former").rename(self.root / place)


class TheFilesOfOut(World):
    """What was published has to be there, and as it was published: whatever happens to it, or to what is known of it."""

    PASSWORD = ""

    def setUp(self) -> None:
        super().setUp()
        self.image, self.log = self.root / "out/p/p.img", self.root / "out/p/steps.log"

    def checked(self) -> None:
        """The next build, by whatever way, leaves what the last one ought to have left."""
        found = unchanged.asked_before(self.question)
        self.assertNotIsInstance(found, unchanged.KeptBuild)
        if self.short_way() is None:
            self.long_way()
        self.assertEqual(self.image.read_bytes(), self.wanted)
        self.assertIn(b"assemble", self.log.read_bytes())

    def changes(self) -> dict[str, Callable[[], object]]:
        def other(file: Path) -> None:
            file.write_bytes(file.read_bytes()[:-1] + b"?")

        def older(file: Path) -> None:
            (self.folder / "older").write_bytes(bytes(file.stat().st_size))
            shutil.copystat(file, self.folder / "older")
            (self.folder / "older").rename(file)

        return {"gone": self.image.unlink, "all gone": lambda: shutil.rmtree(self.image.parent), "log gone": self.log.unlink,
                "changed": lambda: other(self.image), "replaced": lambda: older(self.image)}  # fmt: skip

    def test_one_that_goes_or_changes_before_the_build_is_remembered(self) -> None:
        self.settle()
        source = self.root / "s/recipes/tool/src/a.txt"
        for number, name in enumerate(self.changes()):
            for owner, function in ((Builder, "remember"), (Rebuilder, "_remember")):
                with self.subTest(name, owner=owner.__name__):
                    self.settle()
                    source.write_text(f"{owner.__name__} {number}")
                    time.sleep(2 * SETTLED)
                    bare = getattr(owner, function)

                    def remember(self_: object, *words: object, bare: Callable[..., object] = bare, name: str = name) -> None:
                        self.wanted = self.image.read_bytes()
                        self.changes()[name]()
                        bare(self_, *words)

                    with mock.patch.object(owner, function, remember):
                        report = self.long_way() if owner is Builder else self.short_way()
                    assert report is not None
                    self.assertTrue(report.published)
                    time.sleep(2 * SETTLED)
                    self.checked()

    def test_a_memory_that_is_lost_or_takes_nothing(self) -> None:
        learn = Memory.learn

        def forgetful(memory: Memory, name: str, value: bytes, most: int = 0) -> None:
            if not name.startswith("published "):
                learn(memory, name, value, most)

        with mock.patch.object(Memory, "learn", forgetful):
            self.settle()
            self.wanted = self.image.read_bytes()
            for change in self.changes().values():
                self.settle()
                change()
                self.checked()


class NothingDependsOnIt(World):
    def test_names_that_are_not_text_are_looked_at_like_others(self) -> None:
        odd = os.fsencode(self.root / "s/recipes/tool/src") + b"/\xff.txt"
        with open(odd, "w") as file:
            file.write("x")
        self.settle()
        self.assertIn(os.fsdecode(odd), self.record().paths)
        with open(odd, "w") as file:
            file.write("another")
        self.assertIsNone(unchanged.kept_build(self.question))
        report = self.short_way()
        assert report is not None
        self.assertEqual([one.step.name for one in report.ran][:2], ["prepare tool", "build tool"])
        self.assertEqual([one.step.name for one in self.long_way().steps if one.how != "kept"], [])

    def test_words_that_are_not_text_ask_too(self) -> None:
        odd = Question(self.root, settings=("image.hostname=\udcff",))
        self.assertIsNone(unchanged.kept_build(odd))
        self.assertNotEqual(odd.file, Question(self.root, settings=("image.hostname=\udcfe",)).file)
        self.assertNotEqual(odd.file, Question(self.root, variants=("image.hostname=\udcff",)).file)

    def test_where_it_cannot_be_written_all_is_planned(self) -> None:
        self.settle()
        shutil.rmtree(self.root / ".yarrik/unchanged")
        (self.root / ".yarrik/unchanged").write_text("not a folder")
        self.assertEqual([one.how for one in self.long_way().steps if one.how != "kept"], [])
        self.assertIsNone(unchanged.kept_build(self.question))

    def test_what_is_no_file_in_the_place_of_a_record_is_not_waited_for(self) -> None:
        self.settle()
        record = self.question.file.read_bytes()
        for make in (os.mkfifo, Path.mkdir, lambda path: path.symlink_to(self.folder / "record")):
            (self.folder / "record").write_bytes(record)
            self.question.file.unlink()
            make(self.question.file)
            self.assertIsNone(unchanged.kept_build(self.question))
            remove_folder(self.question.file)  # whatever it is
            self.settle()

    def test_a_secret_of_the_environment_is_not_kept(self) -> None:
        os.environ["YARRIK_SETTINGS"] = str(self.folder / "none.toml")
        os.environ["YARRIK_SECRET_OPERATOR"] = "not to be seen"
        for _ in range(2):
            time.sleep(2 * SETTLED)
            self.long_way()
            self.assertIsNone(unchanged.kept_build(self.question))

    def test_records_that_nobody_asks_for_go(self) -> None:
        self.settle()
        folder = self.question.file.parent
        for number in range(unchanged._MOST + 5):
            (folder / f"{number:032}").write_text("x")
            os.utime(folder / f"{number:032}", (number, number))
        self.long_way()
        self.assertEqual(len(list(folder.iterdir())), unchanged._MOST)
        self.assertIsNotNone(unchanged.kept_build(self.question))

    def test_results_that_are_kept_count_as_used(self) -> None:
        self.settle()
        results = sorted((self.folder / "cache/results").glob("*/*"))
        long_ago = time.time() - 10 * 86400
        for path in (*results, *self.question.file.parent.parent.glob("*/*")):
            os.utime(path, (long_ago, long_ago))
        self.assertIsNotNone(unchanged.kept_build(self.question))
        used = [path for path in results if path.stat().st_mtime > long_ago + 86400]
        self.assertEqual(len(used), len({one.fingerprint for one in self.long_way().steps}))


class WhatIsHeard(World):
    def test_all_that_planning_looks_at_is_in_the_record(self) -> None:
        """Every path that the long way opens, lists or asks the status of, by Python's own functions, is one of the record's,
        lies in a folder that counts whole, or is this program's own, its cache's or Python's."""
        self.long_way()
        self.settle()
        looked: set[str] = set()

        def spied(function: Callable[..., object]) -> Callable[..., object]:
            def spy(path: object, *args: object, **more: object) -> object:
                if isinstance(path, (str, bytes, os.PathLike)) and not more.get("dir_fd"):
                    looked.add(os.path.abspath(os.fsdecode(path)))  # noqa: PTH100 (links are looked at as such)
                return function(path, *args, **more)

            return spy

        with ExitStack() as open_:
            for name in ("stat", "lstat", "access", "readlink", "scandir", "listdir", "open"):
                open_.enter_context(mock.patch.object(os, name, spied(getattr(os, name))))
            session = Session(self.root, Choices())
            try:
                session.planner.planned(session.planner.compose(None, Overrides.of((), os.environ, ())))
            finally:
                session.close()
        record = self.record()
        known = {*record.paths, *record.out}

        def counts(path: str) -> bool:
            """Whether it would be seen if this came, went or changed: for what is not there, by the first of its folders."""
            if os.path.lexists(path):
                return path in known
            while not os.path.lexists(os.path.dirname(path)):
                path = os.path.dirname(path)
            return path in known or os.path.dirname(path) in known

        above = {str(parent) for path in known for parent in Path(path).parents}
        ours = tuple(map(str, (self.root / ".yarrik", self.folder / "cache", sys.prefix, sys.base_prefix, sys.exec_prefix,
                               Path(yarrik.__file__).parent, tempfile.gettempdir() + "/yarrik-probe",
                               (self.folder / "cache/host").resolve())))  # fmt: skip
        missed = {path for path in looked - above if not path.startswith((*ours, "/proc", "/dev")) and not counts(path)}
        self.assertGreater(len(looked & known), 40)
        self.assertEqual(missed, set())


class AsItIsUsed(ProgramTest):
    def test_the_third_build_plans_nothing_and_says_the_same(self) -> None:
        root = self.folder / "demo"
        self.seed()
        self.yarrik("demo", root, "--product", "tide-office")
        time.sleep(2.1)
        planned = self.yarrik_json("build", "tide-office", at=root)
        kept = self.yarrik_json("build", "tide-office", at=root)
        self.assertLess(kept.pop("seconds"), planned.pop("seconds"))
        self.assertEqual(kept, planned)
        self.assertTrue(all(one["how"] == "kept" for one in kept["steps"]))
        self.assertEqual(len(list((root / ".yarrik/unchanged").iterdir())), 1)
        plan = self.yarrik_json("plan", "tide-office", at=root)
        self.assertEqual(plan, {"ok": True, "product": "tide-office", "steps": []})
        plan = self.yarrik("plan", "tide-office", at=root)
        self.assertRegex(plan, rf"^tide-office: nothing would run, all {len(kept['steps'])} steps are kept\n$")
        self.assertEqual(plan, self.yarrik("plan", "tide-office", "--all", at=root).splitlines(keepends=True)[0])
        said = self.yarrik("build", "tide-office", at=root)
        self.assertRegex(said, r"^tide-office: nothing to do, all \d+ steps are kept \(\d\.\d\d s\)\n$")
        # Another way of asking is another one.
        other = self.yarrik("build", "tide-office", "--set", "image.hostname=gull", at=root)
        self.assertIn("ran", other)
        # And what it left in out/ is not what was asked for before.
        self.assertIn("ran" if "tide-office-" in other else "kept", self.yarrik("build", "tide-office", at=root))
        image = root / "out/tide-office/tide-office.img"
        self.assertRegex(self.yarrik("inspect", image, "/etc/hostname"), r"bytes +5\n")  # dock

    def test_a_note_is_heard_every_time(self) -> None:
        root = self.folder / "demo"
        self.seed()
        self.yarrik("demo", root, "--product", "tide-office")
        shutil.copytree(root / "shelves/harbour/recipes/tidelog/src", self.folder / "mine")
        (root / "yarrik.local.toml").write_text(f'[settings.use.tidelog]\npath = "{self.folder}/mine"\n')
        self.yarrik("build", "tide-office", at=root)
        time.sleep(2.1)
        for _ in range(3):
            self.assertIn("tidelog is built from", self.yarrik("build", "tide-office", at=root))
        (self.folder / "mine/more.txt").write_text("x")
        self.assertIn("ran", self.yarrik("build", "tide-office", at=root))
