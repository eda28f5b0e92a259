"""The shelf that comes with Yarrik: how a workspace takes it, and what each of its recipes has to have."""

from __future__ import annotations

import json
import shutil
import tomllib
import unittest

from tests.support import WorkspaceTest
from yarrik.licences import licence_fault
from yarrik.model import BUILT_IN_SHELVES
from yarrik.run.planning import Planner
from yarrik.run.project import Project

RECIPES = BUILT_IN_SHELVES / "commons/recipes"


class TheShelfIsTaken(WorkspaceTest):
    def test_it_is_found_added_and_listed_without_a_path_of_this_machine(self) -> None:
        (self.root / "s/images/i.toml").write_text('packages = ["init", "zlib"]\n')
        said = self.yarrik("check", code=2, at=self.root)
        self.assertIn("the catalogue has it on the shelf commons", said)
        self.assertIn("yarrik shelf add commons", said)
        self.assertIn("commons comes with Yarrik", self.yarrik("shelf", "add", "commons", at=self.root))
        text = (self.root / "yarrik.toml").read_text()
        self.assertTrue(text.endswith('[[shelf]]\nname = "commons"\nbuilt-in = true\n'), text)
        self.assertRegex(self.yarrik("shelf", "list", at=self.root), r"commons +built-in +comes with Yarrik +\d+ recipes")
        self.assertIn("Compression library", self.yarrik("show", "zlib", at=self.root))
        self.assertIn("SHELF-TWICE", self.yarrik("shelf", "add", "commons", code=2, at=self.root))

    def test_a_catalogue_of_another_version_does_not_say_to_add_what_is_there(self) -> None:
        self.yarrik("shelf", "add", "commons", at=self.root)
        self.write("w/c.toml", '[catalogue]\nname = "c"\n[[shelf]]\nname = "commons"\npath = "commons"\n'
                               'holds = [{ kind = "recipe", name = "zlib-next" }]\n')  # fmt: skip
        self.yarrik("settings", "set", "--here", "catalogues=c.toml", at=self.root)
        (self.root / "s/images/i.toml").write_text('packages = ["init", "zlib-next"]\n')
        said = " ".join(self.yarrik("check", code=2, at=self.root).split())
        self.assertIn("on the shelf commons, which is here in another version, without it", said)
        self.assertIn("yarrik catalogue renew", said)
        self.assertNotIn("shelf add", said)

    def test_nothing_is_written_into_it(self) -> None:
        self.yarrik("shelf", "add", "commons", at=self.root)
        self.yarrik("new", "recipe", "gull", at=self.root)
        self.assertTrue((self.root / "s/recipes/gull/recipe.toml").is_file())
        said = self.yarrik("new", "recipe", "tern", "--shelf", "commons", code=2, at=self.root)
        self.assertIn("there is no shelf `commons`", said)
        self.assertFalse((RECIPES / "tern").exists())

    def test_a_recipe_of_ones_own_takes_the_place_of_one_of_it(self) -> None:
        self.recipe("zlib", "mkdir -p $DESTDIR/usr/share && echo ours > $DESTDIR/usr/share/zlib")
        (self.root / "s/images/i.toml").write_text('packages = ["init", "zlib"]\n')
        self.yarrik("shelf", "add", "commons", at=self.root)
        said = self.yarrik("build", code=2, at=self.root)
        self.assertIn("DEFINITION-TWICE: `zlib` is defined on two shelves: commons and s", said)
        self.assertIn('write `replaces = "commons"` in this one', said)
        file = self.root / "s/recipes/zlib/recipe.toml"
        file.write_text('replaces = "commons"\n' + file.read_text())
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/usr/share/zlib"), "ours\n")

    def test_places_that_are_none(self) -> None:
        file = self.root / "yarrik.toml"
        text = file.read_text()
        for more, words in (
            ('name = "comons"\nbuilt-in = true', "no shelf `comons` comes with this version"),
            ('name = "commons"\nbuilt-in = true\npath = "s"', "needs one of `path`, `git` and `built-in`"),
            ('name = "commons"\nbuilt-in = true\nbranch = "x"', "comes with Yarrik and has `branch`"),
            ('name = "commons"', "needs one of `path`, `git` and `built-in`"),
        ):
            file.write_text(f"{text}\n[[shelf]]\n{more}\n")
            self.assertIn(words, self.yarrik("check", code=2, at=self.root))


class EachRecipe(WorkspaceTest):
    def test_the_catalogue_is_as_it_would_be_made(self) -> None:
        copy = self.folder / "copy"
        shutil.copytree(BUILT_IN_SHELVES, copy)
        out = copy / "made.toml"
        self.yarrik("catalogue", "make", copy, "--out", out, "--name", "commons",
                    "--summary", "Shelves that come with Yarrik")  # fmt: skip
        self.assertEqual(tomllib.loads(out.read_text())["shelf"][0]["holds"],
                         tomllib.loads((BUILT_IN_SHELVES / "catalogue.toml").read_text())["shelf"][0]["holds"])  # fmt: skip

    def test_says_what_users_need_to_know(self) -> None:
        recipes = {path.parent.name: tomllib.loads(path.read_text()) for path in sorted(RECIPES.glob("*/recipe.toml"))}
        self.assertGreater(len(recipes), 20)
        names: dict[str, str] = {}
        for name, recipe in recipes.items():
            with self.subTest(name):
                self.assertRegex(recipe["summary"], r"\A[A-Z].{8,70}[^.]\Z")
                self.assertIsNone(licence_fault(recipe["licence"]))
                if recipe["licence"] != "blessing":  # in the public domain: there is no text
                    self.assertTrue(recipe["licence-files"])
                self.assertTrue({"debian", "path"} & recipe["source"][0].keys())
                for package, rule in recipe["package"].items():
                    self.assertTrue([*rule.get("files", ()), *rule.get("rest", ())], package)
                    self.assertEqual(names.setdefault(package, name), name)
                    self.assertTrue(rule.get("summary") or package == name or len(recipe["package"]) == 1, package)
                for path in (path for rule in recipe["package"].values() for path in rule.get("files", ())):
                    if not (recipe["build"].get("loader") and path == "/usr/lib/libc.so"):  # the library itself, of no version
                        self.assertNotRegex(path, r"^/usr/(share/(man|doc|info)|include)|\.(a|la|pc)$|lib/[^/]*\.so$")

    def test_all_resolve_together(self) -> None:
        self.yarrik("shelf", "add", "commons", at=self.root)
        packages = [
            name for path in sorted(RECIPES.glob("*/recipe.toml")) for name in tomllib.loads(path.read_text())["package"]
        ]
        (self.root / "s/images/i.toml").write_text(f"packages = {json.dumps(['init', *packages])}\n")
        planner = Planner(Project(self.root))
        answer = planner.answer(planner.compose())
        self.assertEqual(set(packages) - set(answer.packages), set())
        self.assertEqual({node.recipe for node in answer.versions} - {"init", "kernel", "libc"},
                         {path.parent.name for path in RECIPES.glob("*/recipe.toml")})  # fmt: skip


if __name__ == "__main__":
    unittest.main()
