"""The program on products with versions, options, roles and groups: answers, proofs, the lock, and what is shown of them."""

import json
import os
import tomllib
import unittest
from collections.abc import ItemsView, Iterator
from pathlib import Path

from msgspec.structs import replace

from tests.support import WorkspaceTest
from tests.universes import composition_of, plain
from yarrik.demo import lay_out_demo
from yarrik.errors import YarrikError
from yarrik.resolve import Node, resolve
from yarrik.resolve.explain import SCREEN

LIBRARY = """
summary = "Draws"
versions = {versions}
licence = "MIT"
[[source]]
path = "src"
[build]
using = "plain"
commands = ["mkdir -p $DESTDIR/usr/share; echo $FORMS $INK > $DESTDIR/usr/share/{name}"]
[options.png]
summary = "writes PNG"
default = true
variables = {{ FORMS = "png" }}
[options.svg]
variables = {{ FORMS = "svg" }}
excludes = ["options.tiny"]
[options.tiny]
[choice.ink]
of = ["grey", "colour"]
default = "colour"
[options.grey]
variables = {{ INK = "grey" }}
[options.colour]
variables = {{ INK = "colour" }}
{more}
"""


class ResolvingTest(WorkspaceTest):
    def library(self, name: str = "libplot", versions: str = '["1.8", "2.0", "2.1", "3.0-rc1"]', more: str = "") -> None:
        self.write(f"w/s/recipes/{name}/recipe.toml", LIBRARY.format(name=name, versions=versions, more=more))
        self.write(f"w/s/recipes/{name}/src/x", "x")

    def image(self, *packages: str, more: str = "") -> None:
        self.write("w/s/images/i.toml", f"packages = {json.dumps(['init', *packages])}\n{more}\n")

    def resolve(self, *words: str) -> dict:
        return self.yarrik_json("resolve", *words, at=self.root)

    def refused(self, *words: str) -> dict:
        return self.yarrik_json(*(words or ("resolve",)), code=2, at=self.root)["troubles"][0]


class AnswersAreFound(ResolvingTest):
    def test_the_newest_release_the_preferred_version_and_what_is_asked_for(self) -> None:
        self.library()
        self.image("libplot")
        self.assertEqual(self.resolve()["versions"]["libplot"], "2.1")
        (self.root / "yarrik.lock").unlink()
        self.library(versions='["1.8", "2.0", "2.1"]\nversion = "2.0"')
        self.assertEqual(self.resolve()["versions"]["libplot"], "2.0")
        self.image("libplot ~ 1")
        self.assertEqual(self.resolve()["versions"]["libplot"], "1.8")
        self.image("libplot", more='[versions]\nlibplot = ">= 2.1"')
        self.assertEqual(self.resolve()["versions"]["libplot"], "2.1")

    def test_options_follow_needs_and_wishes_and_exactly_one_of_a_choice_is_on(self) -> None:
        self.library()
        self.recipe("app", "true", more='needs = ["libplot[svg,grey]"]')
        self.image("app")
        on = {name for name, value in self.resolve()["options"].items() if value}
        self.assertEqual(on, {"libplot[png]", "libplot[svg]", "libplot[grey]"})
        self.image("app", more="[options.libplot]\npng = false")
        self.assertNotIn("libplot[png]", {name for name, value in self.resolve()["options"].items() if value})

    def test_roles_groups_recommended_and_refused_packages(self) -> None:
        for name in ("keys", "touch"):
            self.recipe(name, "true", package=f'[package.{name}]\nfiles = ["/bin/{name}"]\nprovides = ["driver"]')
        self.recipe("fonts", "true")
        self.recipe("panel", "true", package='[package.panel]\nfiles = ["/bin/p"]\nneeds = ["driver"]\nrecommends = ["fonts"]')
        self.write("w/s/groups/display.toml", 'packages = ["panel"]\n')
        self.image("@display")
        answer = self.resolve()
        self.assertEqual((answer["roles"], "fonts" in answer["packages"]), ({"driver": "keys"}, True))
        # One that is there anyway saves an extra; refused is refused.
        self.image("@display", "touch", more='refuse = ["fonts"]')
        (self.root / "yarrik.lock").unlink()
        answer = self.resolve()
        self.assertEqual(
            (answer["roles"], "fonts" in answer["packages"], "keys" in answer["packages"]), ({"driver": "touch"}, False, False)
        )

    def test_a_replacing_package_answers_to_the_other_s_name(self) -> None:
        self.recipe("big", "true")
        self.recipe("small", "true", package='[package.small]\nfiles = ["/bin/s"]\nreplaces = ["big"]')
        self.recipe("app", "true", package='[package.app]\nfiles = ["/bin/a"]\nneeds = ["big"]')
        self.image("app", "small")
        self.assertNotIn("big", self.resolve()["packages"])

    def test_needs_under_conditions_on_version_and_option(self) -> None:
        self.recipe("extra", "true")
        self.recipe("more", "true")
        self.library(
            more='[[when]]\nversion = ">= 2"\nset.build.needs.add = ["extra"]\n[[when]]\noption = "svg"\nset.build.needs.add = ["more"]'
        )
        self.image("libplot ~ 1")
        self.assertEqual({"extra", "more"} & self.resolve()["versions"].keys(), set())
        self.image("libplot[svg] >= 2")
        self.assertEqual({"extra", "more"} & self.resolve()["versions"].keys(), {"extra", "more"})

    def test_host_and_board_are_apart(self) -> None:
        self.library()
        self.recipe("gen", "true", more='needs = ["libplot < 2"]')
        self.recipe("app", "true", more='needs = ["libplot >= 2"]\ntools = ["gen"]')
        self.image("app")
        versions = self.resolve()["versions"]
        self.assertEqual((versions["libplot"], versions["libplot (host)"]), ("2.1", "1.8"))

    def test_what_is_asked_of_one_does_not_go_through_all(self) -> None:
        """Planning asks for each recipe and package: else its time grows with the square of them."""
        names = [f"lib{number}" for number in range(6)]
        recipes = {name: tomllib.loads(LIBRARY.format(name=name, versions='["1.0"]', more="")) for name in names}
        answer = resolve(composition_of(recipes, {"packages": ["init", *names]}))
        walks: list[str] = []

        class Options(dict):  # type: ignore[type-arg]
            def __iter__(self) -> Iterator[object]:
                walks.append("options")
                return super().__iter__()

            def items(self) -> ItemsView[object, object]:
                walks.append("options")
                return super().items()

        class Packages(tuple):  # type: ignore[type-arg]
            def __iter__(self) -> Iterator[object]:
                walks.append("packages")
                return super().__iter__()

            def __contains__(self, one: object) -> bool:
                walks.append("packages")
                return super().__contains__(one)

        spied = replace(answer, options=Options(answer.options), packages=Packages(answer.packages))
        for node in answer.versions:
            self.assertEqual(spied.options_of(node), answer.options_of(node))
            self.assertEqual(spied.build_needs(node), answer.build_needs(node))
        self.assertEqual(answer.options_of(Node("lib3", "board")),
                         {"colour": True, "grey": False, "png": True, "svg": False, "tiny": False})  # fmt: skip
        for package in answer.packages:
            self.assertEqual(spied.package_for(package), package)
        self.assertFalse(spied.brings("lib9"))
        self.assertLessEqual({word: walks.count(word) for word in set(walks)}.items(), {"options": 1, "packages": 1}.items())

    def test_options_reach_the_build_and_exactly_the_users_are_built_again(self) -> None:
        self.library(more='[package.libplot]\nfiles = ["/usr/share/libplot"]')
        self.recipe(
            "app",
            "mkdir -p $DESTDIR/usr/share; cat $SYSROOT/usr/share/x >/dev/null || true; touch $DESTDIR/usr/share/app",
            more='needs = ["libplot"]',
        )
        self.recipe("other", "mkdir -p $DESTDIR/usr/share; touch $DESTDIR/usr/share/other")
        self.image("app", "other", "libplot")
        self.yarrik("build", at=self.root)
        self.assertIn("png colour", self.text("/usr/share/libplot"))
        self.image("app", "other", "libplot", more="[options.libplot]\ngrey = true")
        planned = self.yarrik("plan", at=self.root)
        self.assertRegex(planned, r"build libplot +option grey: off → on \(s/images/i.toml:3\)")
        self.assertNotIn("other", planned)
        told = self.yarrik_json("plan", "--why", "build libplot", at=self.root)["differences"]
        self.assertEqual({(one["what"], one["before"], one["after"]) for one in told},
                         {("choice option colour", "on", "off"), ("choice option grey", "off", "on"),
                          ("setting environment.INK", "colour", "grey")})  # fmt: skip
        waiting = self.yarrik_json("plan", "--why", "build app", at=self.root)
        self.assertEqual((waiting["verdict"], waiting["waits"]), ("may run", ["stage libplot"]))
        self.assertEqual(self.refused("plan", "--why", "build libplto")["remedy"], "did you mean `build libplot`?")
        ran = self.ran(self.yarrik_json("build", at=self.root))
        self.assertNotIn("build other", ran)
        self.assertIn("png grey", self.text("/usr/share/libplot"))

    def text(self, path: str) -> str:
        there = self.folder / f"there-{len(list(self.folder.iterdir()))}"
        self.yarrik("inspect", "out/p/p.img", "--extract", path, "--to", there, at=self.root)
        return next(file for file in there.rglob("*") if file.is_file()).read_text()


class OnlyWhatIsAskedForHasToBeWhole(ResolvingTest):
    BROKEN = 'versoin = "1"\n[package.other-tools]\nprovides = ["painter"]\n'

    def codes(self, *words: str, code: int = 2) -> list[str]:
        return [one["code"] for one in self.yarrik_json(*words, code=code, at=self.root)["troubles"]]

    def test_a_recipe_with_errors_that_no_product_uses_stops_none(self) -> None:
        self.write("w/s/recipes/other/recipe.toml", self.BROKEN)
        self.write("w/s/boards/spare.toml", 'extends = "gone"\n')
        found = self.yarrik_json("check", at=self.root)
        self.assertEqual([one["code"] for one in found["warnings"]], ["DEFINITIONS-BROKEN"])
        self.assertIn("`other`", found["warnings"][0]["what"])
        self.assertIn("yarrik check --all", found["warnings"][0]["remedy"])
        self.assertEqual(self.codes("check", "--all"), ["KEY-UNKNOWN", "KEY-MISSING", "KEY-MISSING", "EXTENDS-UNKNOWN"])

    def test_who_uses_it_is_told_of_all_errors_at_once(self) -> None:
        self.write("w/s/recipes/other/recipe.toml", self.BROKEN)
        self.write("w/s/recipes/third/recipe.toml", "verison = 3\n")
        for name in ("other", "other-tools", "painter"):
            with self.subTest(name):
                self.image(name)
                self.assertEqual(self.codes("check").count("KEY-UNKNOWN"), 2)
        self.image(more='recommends = ["painter"]')
        self.assertIn("KEY-UNKNOWN", self.codes("check"), "a recommended package must not go without a word")

    def test_a_recipe_that_is_no_toml_is_known_by_what_it_seems_to_bring(self) -> None:
        self.write("w/s/recipes/other/recipe.toml", '[package.other-tools\nprovides = ["painter",\n  "drawer"]\n')
        for name in ("other-tools", "drawer"):
            self.image(name)
            self.assertEqual(self.codes("check"), ["FILE-NOT-TOML"])
        self.image()
        self.yarrik("check", at=self.root)

    def test_all_products_are_checked_and_each_says_how_it_stands(self) -> None:
        self.write("w/products/q.toml", 'board = "b"\nprofile = "p"\nimage = "none"\n')
        self.assertEqual(self.yarrik_json("check", "p", at=self.root)["ok"], True)
        self.assertEqual(self.codes("check", "--all"), ["IMAGE-UNKNOWN"])
        (self.root / "products/q.toml").unlink()
        self.assertEqual(self.yarrik_json("check", "--all", at=self.root)["products"], ["p"])
        self.assertEqual(self.codes("check", "p", "--all"), ["CHECK-ALL"])


class ClashesAreExplained(ResolvingTest):
    def test_16_no_version_satisfies_everybody(self) -> None:
        self.library()
        self.recipe("new", "true", more='needs = ["libplot >= 2"]')
        self.recipe("old", "true", more='needs = ["libplot < 2"]')
        self.image("new", "old")
        trouble = self.refused()
        self.assertEqual((trouble["code"], trouble["what"]), ("VERSIONS-CLASH", "no versions satisfy `new` and `old` together"))
        lines = trouble["why"].splitlines()
        self.assertTrue(lines[0].startswith("the image i asks for `new`  (s/images/i.toml:1)"), lines)
        self.assertIn("`old` needs `libplot < 2` to build  (s/recipes/old/recipe.toml:8)", lines)
        self.assertEqual(lines[-1], "so no version of libplot is left; there are 2.1, 2.0, 1.8 and 3.0-rc1")
        self.assertIn("leave out", trouble["remedy"])
        self.assertIn("; or change what ", trouble["remedy"])

    def test_16_a_version_that_is_nowhere_blames_who_asks_for_it_and_nobody_else(self) -> None:
        self.library()
        self.recipe("other", "true", more='needs = ["libplot"]')
        self.recipe("app", "true", more='needs = ["libplot >= 9.1"]')
        self.image("other", "app")
        trouble = self.refused()
        self.assertEqual((trouble["code"], trouble["what"]), ("VERSIONS-CLASH", "`app` is not available"))
        self.assertNotIn("`other`", trouble["why"])
        self.assertEqual(
            trouble["why"].splitlines()[-1], "no shelf has such a version of libplot; there are 2.1, 2.0, 1.8 and 3.0-rc1"
        )
        self.recipe("app", "true", package='[package.app]\nneeds = ["libplot >= 9.1"]\n')
        self.assertIn("no shelf has such a version of libplot", self.refused()["why"])

    def test_16_a_proof_by_cases_when_each_version_fails_for_a_reason_of_its_own(self) -> None:
        self.library(versions='["1", "2"]',
                     more='[[when]]\nversion = "2"\nset.build.needs.add = ["lib < 1", "lib > 2"]\n[[when]]\nversion = "< 2"\nset.build.needs.add = ["lib < 4", "lib > 4"]')  # fmt: skip
        text = (self.root / "s/recipes/libplot/recipe.toml").read_text().replace('version = "2"', 'version = "== 2"')
        (self.root / "s/recipes/libplot/recipe.toml").write_text(text)
        self.library("lib", versions='["0.5", "3.5", "5"]')
        self.image("libplot")
        trouble = self.refused()
        self.assertEqual(trouble["code"], "VERSIONS-CLASH")
        self.assertIn("with libplot 2:", trouble["why"])
        self.assertIn("with libplot 1:", trouble["why"])
        self.assertEqual(trouble["why"].count("so no version of lib is left"), 2)

    def test_17_packages_that_exclude_each_other_and_a_role_for_one(self) -> None:
        self.recipe("keys", "true", package='[package.keys]\nfiles = ["/bin/k"]\nexcludes = ["touch"]')
        self.recipe("touch", "true")
        self.image("keys", "touch")
        trouble = self.refused()
        self.assertEqual((trouble["code"], trouble["what"]), ("PACKAGES-EXCLUDE", "`keys` and `touch` exclude each other"))
        for name in ("udevish", "mdevish"):
            self.recipe(name, "true", package=f'[package.{name}]\nfiles = ["/bin/{name}"]\nprovides = ["device-manager"]')
        self.image("udevish", "mdevish")
        trouble = self.refused()
        self.assertEqual(trouble["code"], "ROLE-TWICE")
        self.assertIn("both are the device manager, and an image has only one", trouble["why"])

    def test_18_an_option_that_is_needed_is_turned_on_or_said_when_it_may_not(self) -> None:
        self.library()
        self.recipe("app", "true", more='needs = ["libplot[svg]"]')
        self.image("app")
        self.assertTrue(self.resolve()["options"]["libplot[svg]"])
        self.image("app", more="[options.libplot]\nsvg = false")
        trouble = self.refused()
        self.assertEqual((trouble["code"], trouble["what"]), ("OPTION-FIXED", "`app` and libplot[svg] off cannot be combined"))
        self.assertIn("do not ask for libplot[svg] to be off (s/images/i.toml:3)", trouble["remedy"])
        self.image("app", more="[options.libplot]\ntiny = true")
        self.assertIn("the option libplot[svg] excludes its option tiny", self.refused()["why"])
        self.recipe("app", "true", more='needs = ["libplot[sgv]"]')
        trouble = self.refused()
        self.assertEqual((trouble["code"], trouble["remedy"]), ("OPTION-UNKNOWN", "did you mean `svg`?"))

    def test_19_a_loop_of_build_needs_is_shown_as_a_loop(self) -> None:
        self.recipe("a", "true", more='needs = ["b"]')
        self.recipe("b", "true", more='needs = ["a"]')
        self.image("a")
        self.assertIn("a → b → a", self.refused("check")["what"])

    def test_20_names_that_no_shelf_carries_are_told_together_with_the_nearest(self) -> None:
        self.recipe("tidelog", "true")
        self.recipe("app", "true", more='needs = ["libtied"]', package='[package.app]\nfiles = ["/a"]\nneeds = ["@dispaly"]')
        self.recipe("libtide", "true")
        self.write("w/s/groups/display.toml", "packages = []\n")
        self.image("app", "tidelgo")
        troubles = self.yarrik_json("resolve", code=2, at=self.root)["troubles"]
        self.assertEqual({(one["code"], one["remedy"]) for one in troubles},
                         {("RECIPE-UNKNOWN", f"did you mean `{name}`?") for name in ("tidelog", "libtide", "display")})  # fmt: skip

    def test_13_and_licences_that_are_none(self) -> None:
        self.write(
            "w/s/recipes/init/recipe.toml", (self.root / "s/recipes/init/recipe.toml").read_text().replace('"MIT"', '"MTI"')
        )
        trouble = self.refused("check")
        self.assertEqual((trouble["code"], trouble["remedy"], trouble["line"]), ("LICENCE-UNKNOWN", "did you mean `MIT`?", 2))


class TheLockHolds(ResolvingTest):
    def test_it_stays_moves_what_is_named_and_says_what_is_stale(self) -> None:
        self.library("one", versions='["1", "2"]')
        self.library("two", versions='["1", "2"]')
        self.image("one", "two")
        self.resolve()
        lock = self.root / "yarrik.lock"
        self.assertIn('\none = "2"\n', lock.read_text())
        for name in ("one", "two"):
            self.library(name, versions='["1", "2", "3"]')
        self.assertEqual(self.resolve()["versions"]["one"], "2")
        self.yarrik("resolve", "--locked", at=self.root)
        moved = self.resolve("--update", "one")
        self.assertEqual((moved["moved"], moved["versions"]["two"]), (["one: 2 → 3"], "2"))
        self.assertEqual(self.resolve("--update-all")["moved"], ["two: 2 → 3"])
        self.assertEqual(self.refused("resolve", "--update", "tow")["remedy"], "did you mean `two`?")
        self.image("one < 3", "two", more="[options.two]\ngrey = true")
        trouble = self.refused("build", "--locked")
        self.assertEqual(trouble["code"], "LOCK-STALE")
        for words in ("one: 3 → 2", "option two[grey]: off → on", "option two[colour]: on → off"):
            self.assertIn(words, trouble["what"])
        said = self.yarrik("build", at=self.root)
        self.assertIn("not as yarrik.lock had it: one: 3 → 2", said)
        self.yarrik("build", "--locked", at=self.root)
        self.assertNotIn("not as yarrik.lock", self.yarrik("build", at=self.root))

    def test_it_is_sorted_with_one_fact_a_line(self) -> None:
        self.library()
        self.image("libplot")
        self.resolve()
        lines = (self.root / "yarrik.lock").read_text().splitlines()
        table = lines[lines.index("[product.p.options]") + 1 :]
        options = table[: table.index("")]
        self.assertEqual(options, sorted(options))
        self.assertIn('"libplot[colour]" = true', options)
        self.assertRegex("\n".join(lines), r'(?m)^board = "gcc .*"$')


class NamesAreGivenInOneWay(ResolvingTest):
    def test_a_product_with_variants_and_without_its_own(self) -> None:
        self.write("w/variants/one.toml", '[set.image]\nhostname = "one"\n')
        self.write("w/variants/two.toml", '[set.image]\nmarker = "two"\n')
        self.write("w/products/p.toml", 'board = "b"\nprofile = "p"\nimage = "i"\nvariants = ["one"]\n')
        for words in (("p", "--with", "-one,two"), ("p+two~one",), ("--product", "p+two~one")):
            self.assertEqual(self.yarrik_json("check", *words, at=self.root)["product"], "p+two~one")
        self.assertEqual(self.yarrik_json("check", "p~one", at=self.root)["product"], "p~one")

    def test_the_product_by_the_same_word_in_every_command(self) -> None:
        self.write("w/products/q.toml", 'board = "b"\nprofile = "p"\nimage = "i"\n')
        for words in (("check",), ("plan",), ("resolve",), ("why", "init"), ("show", "i"), ("show", "--graph")):
            self.yarrik_json(*words, "--product", "q", at=self.root)

    def test_a_key_as_it_is_set(self) -> None:
        for words in (("show", "image.hostname"), ("show", "i", "hostname")):
            found = self.yarrik_json(*words, "--set", "image.hostname=gull", "--product", "p", at=self.root)
            self.assertEqual(found["image"]["hostname"]["value"], "gull")
        self.assertEqual(
            self.yarrik_json("show", "recipe.init.build.using", at=self.root)["recipe"]["build.using"]["value"], "plain"
        )


class ReasonsAreShown(ResolvingTest):
    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "demo"
        lay_out_demo(self.root)

    def test_why_tells_every_shortest_way_with_lines(self) -> None:
        said = self.yarrik("why", "libtide", "--product", "tide-office", at=self.root)
        self.assertRegex(
            said,
            r"the image tide-office asks for `tide` +shelves/harbour/images/tide-gauge.toml:2\n +tide needs `libtide` to build",
        )
        self.assertRegex(said, r"and:\n +the image tide-office asks for `tidelog`")
        said = self.yarrik("why", "libplot", "--with", "display", at=self.root)
        self.assertRegex(said, r"option svg on +asked for +shelves/harbour/variants/display.toml:7")
        self.assertRegex(said, r"option png on +tide-chart needs .* shelves/harbour/recipes/tide-chart/recipe.toml:10")
        self.assertIn("tide-gauge+display", said)
        self.assertEqual(self.refused("why", "libplot")["code"], "NOT-IN-PRODUCT")
        self.assertEqual(self.refused("why", "libplto")["remedy"], "did you mean `libplot`?")

    def test_why_not_tells_what_it_would_bring_or_what_stands_against_it(self) -> None:
        brings = self.yarrik_json("why-not", "tide-chart", at=self.root)["brings"]
        self.assertEqual(brings, ["gauge-fonts", "libplot", "tide-chart"])
        self.assertEqual(self.refused("why-not", "pier-printer", "--with", "display")["code"], "VERSIONS-CLASH")
        self.assertIn("is in tide-gauge already", self.yarrik("why-not", "libtide", at=self.root))
        self.assertEqual(self.refused("why-not", "libplot => 3")["code"], "NEED-FORM")

    def test_find_searches_names_summaries_options_roles_and_built_files(self) -> None:
        kinds = {(one["kind"], one["name"]) for one in self.yarrik_json("find", "chart", at=self.root)}
        self.assertLessEqual({("recipe", "tide-chart"), ("option", "libplot[png]"), ("recipe", "panel")}, kinds)
        self.assertIn(
            ("role", "input-driver"),
            {(one["kind"], one["name"]) for one in self.yarrik_json("find", "input-driver", at=self.root)},
        )
        self.assertEqual(self.yarrik_json("find", "chrat", at=self.root)[0]["name"], "tide-chart")
        self.yarrik("build", "tide-office", at=self.root)
        found = self.yarrik_json("find", "libtide.so.2", at=self.root)
        self.assertEqual((found[0]["kind"], found[0]["name"]), ("file", "/usr/lib/libtide.so.2"))

    def test_show_has_the_origin_and_the_history_of_each_value(self) -> None:
        told = self.yarrik_json("show", "tide-gauge", "packages", "--with", "display,touch", at=self.root)["image"]["packages"]
        self.assertEqual([(one["how"], one["value"]) for one in told["history"]],
                         [("added to", ["input-touch"]), ("added to", ["@display"]), ("set", ["harbour-shell", "tidelog", "tide"])])  # fmt: skip
        said = self.yarrik("show", "kittiwake-linux", "kernel.recipe", "--product", "tide-gauge-linux", at=self.root)
        self.assertRegex(
            said,
            r"kernel\.recipe +linux +shelves/harbour/boards/kittiwake-linux.toml:\d+\n +over stand-in +shelves/coast/boards/coast-a53.toml:8",
        )
        said = self.yarrik("show", "stand-in", "build.variables", at=self.root)
        self.assertRegex(said, r"OWNER +harbour +shelves/harbour/amendments/stand-in.toml:5")
        self.assertIn("harbour amends the recipe stand-in of coast", self.yarrik("show", "--amendments", at=self.root))
        said = self.yarrik("show", "libplot", "--with", "display", at=self.root)
        self.assertRegex(said, r"when version < 2 +does not hold")
        self.assertEqual(self.refused("show", "kittiwake", "kernel.consol")["code"], "KEY-UNKNOWN")

    def test_the_graph_as_tree_dot_and_figure(self) -> None:
        tree = self.yarrik("show", "--graph", "--with", "display", at=self.root)
        self.assertIn("│  ├─ panel 0.9\n│  │  ├─ (input-driver)\n│  │  │  └─ input-keys 1.0\n", tree)
        self.assertIn("gauge-fonts 1.0  recommended", tree)
        dot = self.yarrik("show", "--graph", "--form", "dot", at=self.root)
        self.assertIn('"tidelog" -> "libtide" [style=dotted, label="build"];', dot)
        for form, magic in (("png", b"\x89PNG"), ("svg", b"<?xml")):
            self.yarrik("show", "--figure", f"g.{form}", "--with", "display", at=self.root)
            data = (self.root / f"g.{form}").read_bytes()
            self.assertTrue(data.startswith(magic))
            self.yarrik("show", "--figure", f"again.{form}", "--with", "display", at=self.root)
            self.assertEqual((self.root / f"again.{form}").read_bytes(), data)
        self.assertEqual(self.refused("show", "--figure", "g.gif")["code"], "FORM-UNKNOWN")

    def test_completion_offers_names(self) -> None:

        from yarrik.cli.options import names_of

        here = Path.cwd()
        os.chdir(self.root)
        self.addCleanup(os.chdir, here)
        self.assertEqual(names_of("product")("tide-g"), ["tide-gauge", "tide-gauge-linux"])
        self.assertEqual(names_of("recipe", "package")("input"), ["input-keys", "input-touch"])
        self.assertEqual(names_of("option")("options.libplot.s"), ["options.libplot.svg="])
        self.assertEqual(names_of("board")("dun"), ["dunlin"])

    def test_a_variant_build_stands_beside_the_product_s_own_and_collects_licence_texts(self) -> None:
        self.yarrik("build", "tide-office", "--with", "display", at=self.root)
        out = self.root / "out/tide-office+display"
        packages = {one["name"]: one for one in json.loads((out / "packages.json").read_text())["packages"]}
        self.assertEqual(packages["gauge-fonts"]["because"], "recommended by tide-chart")
        self.assertEqual(packages["panel"]["because"], "in the group display")
        self.assertEqual(packages["libplot"]["version"], "2.1")
        self.assertIn("WITHOUT WARRANTY", (out / "licences/libplot/COPYING").read_text())
        self.assertIn("licences/libplot/COPYING", (out / "SHA256SUMS").read_text())


class QuestionsThatAreHard(unittest.TestCase):
    """Ladders of versions that lead nowhere, and pigeons with a hole too few."""

    def ladder(self, rungs: int, versions: int):
        recipes = {"end": {**plain(), "package": {"end": {"files": ["/e"]}}}}
        for rung in range(rungs):
            following = f"r{rung + 1}" if rung + 1 < rungs else "end"
            raw = {
                **plain(),
                "versions": [str(one) for one in range(1, versions + 1)],
                "package": {f"r{rung}": {"files": ["/x"]}},
            }
            del raw["version"]
            raw["when"] = [
                {
                    "version": f"== {one}",
                    "set": {"build": {"needs": {"add": [f"{following} == {one}" if rung + 1 < rungs else "end >= 2"]}}},
                }
                for one in range(1, versions + 1)
            ]
            recipes[f"r{rung}"] = raw
        return composition_of(recipes, {"packages": ["r0"]})

    def pigeons(self, count: int):
        recipes = {}
        for pigeon in range(count):
            raw = {**plain(), "versions": [str(hole) for hole in range(1, count)], "package": {f"p{pigeon}": {"files": ["/x"]}}}
            del raw["version"]
            raw["when"] = [
                {"version": f"== {hole}", "set": {"build": {"needs": {"add": [
                    f"h{hole}-{other}[{'' if other == pigeon else '-'}x]" for other in range(count)]}}}}
                for hole in range(1, count)
            ]  # fmt: skip
            recipes[f"p{pigeon}"] = raw
        for hole in range(1, count):
            for pigeon in range(count):
                name = f"h{hole}-{pigeon}"
                recipes[name] = {**plain(), "options": {"x": {"default": False}}, "package": {name: {"files": ["/y"]}}}
        return composition_of(recipes, {"packages": [f"p{pigeon}" for pigeon in range(count)]})

    def trouble(self, composition, **more):
        with self.assertRaises(YarrikError) as caught:
            resolve(composition, **more)
        return caught.exception.troubles[0]

    def test_the_proof_is_no_longer_than_a_screen_unless_all_of_it_is_asked_for(self) -> None:
        for question in (self.ladder(20, 6), self.ladder(40, 12), self.pigeons(6)):
            trouble = self.trouble(question)
            self.assertEqual(trouble.code, "VERSIONS-CLASH")
            self.assertLessEqual(len(trouble.why.splitlines()), SCREEN + 1)
            self.assertRegex(trouble.why, r"further lines; `yarrik resolve --full` shows them")
        full = self.trouble(self.ladder(20, 6), full=True)
        self.assertGreater(len(full.why.splitlines()), 100)
        self.assertNotIn("further lines", full.why)

    def test_when_the_patience_is_over_it_is_told_where_the_search_is_stuck(self) -> None:
        trouble = self.trouble(self.pigeons(9), patience=0.5)
        self.assertEqual(trouble.code, "RESOLVE-TOO-HARD")
        self.assertRegex(trouble.why, r"the search stopped at p\d \(8 versions\)")
        self.assertIn("--patience", trouble.remedy)

    def test_what_many_versions_need_alike_is_one_fact(self) -> None:
        raw = {**plain(), "versions": ["1", "2", "3", "4"], "build": {"using": "make", "needs": ["end >= 2"]},
               "package": {"a": {"files": ["/a"]}}}  # fmt: skip
        del raw["version"]
        trouble = self.trouble(
            composition_of({"a": raw, "end": {**plain(), "package": {"end": {"files": ["/e"]}}}}, {"packages": ["a"]})
        )
        self.assertEqual(trouble.why.count("needs `end >= 2`"), 1, trouble.why)
        self.assertNotIn("with a ", trouble.why)


if __name__ == "__main__":
    unittest.main()
