"""Stacking: every layer over the one before, lists added to and taken from, conditions, amendments, variants, histories."""

import json
import time
import unittest

from tests.support import FolderTest, WorkspaceTest
from yarrik.cache import Memory
from yarrik.errors import YarrikError
from yarrik.model import Image, Overrides, compose, load_workspace
from yarrik.model.checking import convert
from yarrik.model.conditions import Circumstances, holds
from yarrik.model.reading import read_document
from yarrik.model.soundness import never_holding
from yarrik.model.stacking import stack
from yarrik.versions import Version


class ListsAreChangedInOneForm(FolderTest):
    def stacked(self, *texts: str, shape: type = Image):
        documents = [read_document(self.write(f"{number}.toml", text)) for number, text in enumerate(texts)]
        return stack(documents, shape)

    def test_add_remove_and_replace(self) -> None:
        base = 'packages = ["a", "b >= 2", "c"]\n'
        for change, expected in (
            ('packages = ["x"]', ["x"]),
            ('packages.add = ["x", "a"]', ["a", "b >= 2", "c", "x"]),
            ('packages.remove = ["b"]', ["a", "c"]),
            ('packages.replace = ["y"]', ["y"]),
            ('packages.remove = ["c"]\npackages.add = ["x"]', ["a", "b >= 2", "x"]),
        ):
            self.assertEqual(convert(self.stacked(base, change + "\n"), Image).packages, tuple(expected), change)

    def test_operations_work_on_a_first_document_too(self) -> None:
        self.assertEqual(convert(self.stacked('packages.add = ["x"]\n'), Image).packages, ("x",))

    def test_tables_merge_by_what_tells_them_apart_and_can_be_taken_out(self) -> None:
        base = 'packages = []\n[[file]]\npath = "/a"\ncontent = "1"\n[[file]]\npath = "/b"\ncontent = "2"\n[[user]]\nname = "u"\nid = 1\n'
        whole = self.stacked(
            base, '[[file]]\npath = "/b"\ncontent = "3"\n[[file]]\npath = "/c"\ncontent = "4"\n', 'file.remove = ["/a"]\n'
        )
        self.assertEqual([(file.path, file.content) for file in convert(whole, Image).file], [("/b", "3"), ("/c", "4")])
        self.assertEqual(
            (whole.origin("file", "0", "content").file.name, whole.origin("file", "1", "content").file.name),
            ("1.toml", "1.toml"),
        )
        with self.assertRaises(YarrikError) as caught:
            self.stacked(base, 'file.add = [{ path = "/a", content = "9" }]\n')
        self.assertEqual(caught.exception.troubles[0].code, "ADD-TWICE")

    def test_taking_out_what_is_not_there_is_an_error_with_the_nearest(self) -> None:
        with self.assertRaises(YarrikError) as caught:
            self.stacked('packages = ["tidelog"]\n', 'packages.remove = ["tidelgo"]\n')
        trouble = caught.exception.troubles[0]
        self.assertEqual((trouble.code, trouble.place.line), ("REMOVE-NOTHING", 1))
        self.assertIn("`tidelog`", trouble.remedy)

    def test_a_value_keeps_its_whole_history_with_lines(self) -> None:
        whole = self.stacked(
            'packages = ["a"]\nhostname = "x"\n', '# a line\nhostname = "y"\n', 'packages.add = ["b"]\nhostname = "z"\n'
        )
        self.assertEqual(
            [(one.value, one.file.name, one.place.line) for one in whole.origin("hostname").history()],
            [("z", "2.toml", 2), ("y", "1.toml", 2), ("x", "0.toml", 2)],
        )
        self.assertEqual(
            [(one.how, one.value) for one in whole.origin("packages").history()], [("added to", ["b"]), ("set", ["a"])]
        )
        self.assertEqual(whole.origin_in_list("a", "packages").file.name, "0.toml")
        self.assertEqual(whole.origin_in_list("b", "packages").file.name, "2.toml")


class ConditionsHold(unittest.TestCase):
    NOW = Circumstances("arm64", ("small", "big"), ("lean",), ("debug",), recipe="r", version=Version("2.1"))

    def test_before_anything_is_resolved(self) -> None:
        for when, expected in (
            ({"arch": "arm64"}, True),
            ({"arch": "-arm64"}, False),
            ({"arch": ["arm", "arm64"]}, True),
            ({"board": "big"}, True),  # an ancestor
            ({"board": ["-big"]}, False),
            ({"board": "other"}, False),
            ({"variant": "debug", "profile": "lean"}, True),
            ({"variant": "debug", "profile": "fat"}, False),
            ({"version": ">= 2"}, True),
            ({"version": "< 2"}, False),
            ({"option": "x"}, None),
            ({"version": "lib >= 2"}, None),
            ({"option": "x", "arch": "arm"}, False),
        ):
            self.assertIs(holds(when, self.NOW), expected, when)

    def test_afterwards(self) -> None:
        now = Circumstances(
            "arm64",
            recipe="r",
            versions={"lib": Version("3"), "r": Version("1")},
            options={("r", "x"): True, ("lib", "y"): False},
        )
        for when, expected in (
            ({"option": "x"}, True),
            ({"option": "-x"}, False),
            ({"option": "lib[y]"}, False),
            ({"option": "-lib[y]"}, True),
            ({"version": "lib ~ 3"}, True),
            ({"version": "lib < 3"}, False),
            ({"version": "absent >= 1"}, False),
        ):
            self.assertIs(holds(when, now), expected, when)


class ProductsAreComposed(WorkspaceTest):
    def composed(self, *variants: str, product: str | None = None, **more):
        overrides = Overrides.of(variants, more.get("environment", {}), more.get("settings", ()))
        return compose(load_workspace(self.root), product, overrides)

    def troubles(self, *variants: str, **more) -> list:
        try:
            return list(self.composed(*variants, **more).warnings)
        except YarrikError as error:
            return list(error.troubles)

    def test_each_layer_stands_over_the_one_before(self) -> None:
        self.write("w/s/images/base.toml", 'packages = ["init"]\nhostname = "base"\nmarker = "m"\n')
        self.write("w/s/images/i.toml", 'extends = "base"\nhostname = "image"\n')

        def host(*variants: str, **more) -> tuple[str, list[str]]:
            image = self.composed(*variants, **more).image
            return image.value.hostname, [str(one.value) for one in image.document.origin("hostname").history()]

        self.assertEqual(host(), ("image", ["image", "base"]))
        self.write("w/s/amendments/a.toml", 'image = "i"\n[set]\nhostname = "amended"\n')
        self.write("w/products/p.toml", 'board = "b"\nprofile = "p"\nimage = "i"\n[set.image]\nhostname = "product"\n')
        self.write("w/s/variants/one.toml", '[set.image]\nhostname = "one"\n')
        self.write("w/variants/two.toml", '[set.image]\nhostname = "two"\n')
        self.assertEqual(host()[1], ["product", "amended", "image", "base"])
        self.assertEqual(host("one,two")[1][:3], ["two", "one", "product"])
        self.assertEqual(host("two", "one")[0], "one")
        self.write("w/yarrik.local.toml", '[set.image]\nhostname = "local"\n')
        self.assertEqual(host("one")[0], "local")
        environment = {"YARRIK_SET_IMAGE__HOSTNAME": "environment"}
        self.assertEqual(host("one", environment=environment)[0], "environment")
        name, history = host("one", environment=environment, settings=["image.hostname=last"])
        self.assertEqual(
            (name, history), ("last", ["last", "environment", "local", "one", "product", "amended", "image", "base"])
        )

    def test_a_derived_board_inherits_what_is_keyed_to_its_ancestor(self) -> None:
        base = (self.root / "s/boards/b.toml").read_text()
        self.write("w/s/boards/b.toml", base + '[[when]]\nboard = "b"\n[when.set.kernel]\nconsole = "ttyS0"\n')
        self.write("w/s/boards/small.toml", 'extends = "b"\nsummary = "x"\n')
        self.write("w/products/p.toml", 'board = "small"\nprofile = "p"\nimage = "i"\n')
        composition = self.composed()
        self.assertEqual(composition.board.value.kernel.console, "ttyS0")
        self.assertEqual(composition.now.boards, ("small", "b"))
        self.assertEqual(composition.board.place("kernel", "console").line, 12)

    def test_settings_that_are_no_settings_are_refused(self) -> None:
        for word, code in (
            ("image.hostname", "SETTING-FORM"),
            ("hostname=x", "SETTING-KEY"),
            ("image.hostnam=x", "KEY-UNKNOWN"),
            ("image.packages=3", "VALUE-TYPE"),
        ):
            self.assertEqual(self.troubles(settings=[word])[0].code, code, word)

    def test_a_variant_that_is_nowhere(self) -> None:
        self.write("w/variants/display.toml", 'summary = "x"\n')
        trouble = self.troubles("displya")[0]
        self.assertEqual((trouble.code, "`display`" in trouble.remedy), ("VARIANT-UNKNOWN", True))

    def test_variants_of_the_product_are_taken_and_can_be_left_out(self) -> None:
        self.write("w/variants/one.toml", 'summary = "x"\n')
        self.write("w/variants/two.toml", 'summary = "x"\n')
        self.write("w/products/p.toml", 'board = "b"\nprofile = "p"\nimage = "i"\nvariants = ["one"]\n')
        self.assertEqual([self.composed(*words).name for words in ((), ("two",), ("-one",))], ["p", "p+two", "p~one"])
        self.assertEqual(self.composed(product="p+two").now.variants, ("one", "two"))

    # Mistakes that are caught here

    def test_5_two_definitions_of_a_name_and_two_shelves(self) -> None:
        self.write("w/t/shelf.toml", '[shelf]\nname = "t"\n')
        self.write("w/t/images/i.toml", 'packages = ["init"]\n')
        self.write("w/yarrik.toml", (self.root / "yarrik.toml").read_text() + '[[shelf]]\nname = "t"\npath = "t"\n')
        trouble = self.troubles()[0]
        self.assertEqual(trouble.code, "DEFINITION-TWICE")
        self.assertIn('`replaces = "s"`', trouble.remedy)
        self.write("w/t/images/i.toml", 'replaces = "s"\npackages = ["init"]\n')
        self.assertEqual(self.troubles(), [])
        self.write("w/yarrik.toml", (self.root / "yarrik.toml").read_text() + '[[shelf]]\nname = "t"\npath = "t"\n')
        self.assertEqual(self.troubles()[0].code, "SHELF-TWICE")

    def test_8_errors_inside_conditions_and_changes_are_told_with_lines(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init"]\n[[when]]\narch = "arm64"\n[when.set]\nhostnam = "x"\n')
        self.write("w/variants/v.toml", '[set.board.kernel]\nconsol = "x"\n[set.recipe.init.build]\nneeds.ad = ["x"]\n')
        found = {(trouble.code, trouble.place.file.name, trouble.place.line) for trouble in self.troubles()}
        self.assertEqual(found, {("KEY-UNKNOWN", "i.toml", 5), ("KEY-UNKNOWN", "v.toml", 2), ("VALUE-TYPE", "v.toml", 4)})

    def test_9_an_amendment_without_its_target(self) -> None:
        for text, code, words in (
            ('recipe = "inti"\n[set]\nsummary = "x"\n', "AMENDMENT-TARGET", "`init`"),
            ('recipe = "init"\n[set.options.web]\ndefault = true\n', "AMENDMENT-KEY", "`summary`"),
            ('recipe = "init"\n[set.build]\nneeds.remove = ["x"]\n', "REMOVE-NOTHING", "empty"),
            ('recipe = "init"\nboard = "b"\n', "AMENDMENT-FORM", "recipe ="),
            ('recipe = "init"\n[set]\nsumary = "x"\n', "KEY-UNKNOWN", "`summary`"),
        ):
            self.write("w/s/amendments/a.toml", text)
            found = self.troubles()
            self.assertEqual([trouble.code for trouble in found], [code], text)
            self.assertIn(words, found[0].remedy)

    def test_9_a_partition_that_is_added_by_a_slip(self) -> None:
        """In an amendment, a condition and a variant; added only when that is said."""
        before = (self.root / "s/boards/b.toml").read_text()

        def ways(text: str) -> dict[str, tuple[str, str]]:
            return {
                "amendment": ("w/s/amendments/a.toml", 'board = "b"\n' + text.replace("SET", "set")),
                "condition": ("w/s/boards/b.toml", before + '[[when]]\nboard = "b"\n' + text.replace("SET", "when.set")),
                "variant": ("w/variants/v.toml", 'summary = "x"\n' + text.replace("SET", "set.board")),
            }

        for name, more, code in (
            ("rooot", "", "ADD-UNSAID"),
            ("data", "add = true\n", ""),
            ("root", "add = true\n", "ADD-TWICE"),
        ):
            text = f'[[SET.disk]]\nname = "card"\n[[SET.disk.partition]]\nname = "{name}"\n{more}filesystem = "ext4"\n'
            for way, (file, content) in ways(text).items():
                with self.subTest(name=name, way=way):
                    self.write(file, content)
                    found = self.troubles("v") if way == "variant" else self.troubles()
                    self.assertEqual([trouble.code for trouble in found], [code] if code else [])
                    if name == "rooot":
                        self.assertIn("did you mean `root`?", found[0].remedy)
                        self.assertEqual(found[0].place.file.name, file.rpartition("/")[2])
                    elif not code:
                        parts = self.composed(*(["v"] if way == "variant" else [])).board.value.disk[0].partition
                        self.assertEqual([one.name for one in parts], ["root", "data"])
                    if way == "condition":
                        self.write(file, before)
                    else:
                        (self.folder / file).unlink()

    def test_10_what_a_wrong_name_in_a_condition_does_is_told_as_it_is(self) -> None:
        base = (self.root / "s/boards/b.toml").read_text()
        for line, words, why in (
            ('profile = "-pp"', "names a profile that does not exist: `pp`", "what the condition sets holds for all"),
            ('board = ["b", "bb"]', "names a board that does not exist: `bb`", "the condition holds for b only"),
            ('arch = ["-arm65", "arm64"]', "names an architecture that does not exist: `arm65`", "holds for all"),
            ('profile = ["pp", "ppp"]', "can never hold: no profile is called `pp`", "has no effect"),
        ):
            self.write("w/s/boards/b.toml", base + f'[[when]]\n{line}\n[when.set.kernel]\nconsole = "ttyS0"\n')
            found = never_holding(load_workspace(self.root), "board", "b")
            self.assertIn(words, found[0].what, line)
            self.assertIn(why, found[0].why, line)

    def test_8_who_extends_what_cannot_be_read_is_not_blamed(self) -> None:
        self.write("w/s/boards/small.toml", 'extends = "b"\n')
        self.write("w/s/boards/smaller.toml", 'extends = "small"\n')
        self.write("w/s/amendments/a.toml", 'board = "b"\n[set]\nsummary = "x"\n')
        self.write("w/s/boards/b.toml", (self.root / "s/boards/b.toml").read_text() + "[kernle]\n")
        self.assertEqual([trouble.code for trouble in self.troubles()], ["KEY-UNKNOWN"])

    def test_10_a_condition_that_can_never_hold(self) -> None:
        base = (self.root / "s/boards/b.toml").read_text()
        for line, words in (
            ('board = "bb"', "no board is called `bb`"),
            ('profile = "q"', "no profile is called `q`"),
            ('variant = ["q"]', "no variant is called `q`"),
            ('arch = "arm65"', "no architecture is called `arm65`"),
            ('option = "init[web]"', "`init` has no option `web`"),
            ('version = "init >= 2"', "`init` has no version >= 2"),
            ('version = "inti >= 2"', "no recipe is called `inti`"),
        ):
            self.write("w/s/boards/b.toml", base + f'[[when]]\n{line}\nset.summary = "x"\n')
            found = self.troubles()
            self.assertEqual([(trouble.code, trouble.place.line) for trouble in found], [("CONDITION-NEVER", 10)], line)
            self.assertIn(words, found[0].what)
        self.write("w/s/boards/b.toml", base)
        self.write(
            "w/s/recipes/unused/recipe.toml",
            'version = "1"\nlicence = "MIT"\n[build]\nusing = "files"\n[[when]]\nboard = "bb"\nset.summary = "x"\n',
        )
        told = self.yarrik_json("check", at=self.root)["warnings"]
        self.assertEqual([(one["code"], one["line"]) for one in told], [("CONDITION-NEVER", 6)])
        self.assertIn("warning CONDITION-NEVER", self.yarrik("check", at=self.root))

    def test_11_a_derived_board_that_lost_its_device_tree(self) -> None:
        base = (self.root / "s/boards/b.toml").read_text()
        self.write("w/s/boards/b.toml", base + '[[when]]\nboard = "old"\n[when.set.kernel]\ndevice-tree = "b.dts"\n')
        self.write("w/s/boards/old.toml", 'extends = "b"\n')
        found = self.troubles()
        self.assertEqual([(trouble.code, trouble.place.line) for trouble in found], [("BOARD-SETTING-LOST", 12)])
        self.assertIn("holds for old only", found[0].what)
        self.write("w/products/p.toml", 'board = "old"\nprofile = "p"\nimage = "i"\n')
        self.assertEqual(self.troubles(), [])

    def test_11_a_device_tree_that_came_only_with_another_product(self) -> None:
        base = (self.root / "s/boards/b.toml").read_text()
        self.write("w/s/boards/old.toml", 'extends = "b"\n')
        tree = "kernel.device-tree = 'b.dts'\n"
        file = self.root / "yarrik.toml"
        file.write_text(file.read_text().replace("[workspace]", '[workspace]\nproduct = "p"'))
        self.write("w/variants/tree.toml", f"[set.board]\n{tree}")
        for board, product, condition in (
            ("b", 'variants = ["tree"]\n', ""),
            ("b", f"[set.board]\n{tree}", ""),
            ("b", 'variants = ["mark"]\n', '[[when]]\nvariant = "mark"\n[when.set.kernel]\ndevice-tree = "b.dts"\n'),
            ("old", 'variants = ["tree"]\n', ""),  # the new product's board derives from the one that had it
        ):
            self.write("w/variants/mark.toml", 'summary = "x"\n')
            self.write("w/s/boards/b.toml", base + condition)
            self.write("w/s/boards/new.toml", f'extends = "{board}"\n')
            self.write("w/products/q.toml", f'board = "{board}"\nprofile = "p"\nimage = "i"\n{product}')
            for mine in ("new", board):
                self.write("w/products/p.toml", f'board = "{mine}"\nprofile = "p"\nimage = "i"\n')
                found = self.troubles()
                self.assertEqual([trouble.code for trouble in found], ["BOARD-SETTING-LOST"], (mine, product, condition))
                self.assertIn("in the product `q` it has one", found[0].what)
        self.write("w/products/p.toml", 'board = "b"\nprofile = "p"\nimage = "i"\nvariants = ["tree"]\n')
        self.assertEqual(self.troubles(), [])

    def test_15_a_variant_that_removes_what_another_adds(self) -> None:
        for one, two, words in (
            ("packages.remove", "packages.add", "`two` adds init, which `one` removes"),
            ("packages.add", "packages.remove", "`two` removes init, which `one` adds"),
        ):
            image = 'packages = ["init"]\n' if one.endswith("remove") else "packages = []\n"
            self.write("w/s/images/i.toml", image)
            self.write("w/variants/one.toml", f'[set.image]\n{one} = ["init"]\n')
            self.write("w/variants/two.toml", f'[set.image]\n{two} = ["init"]\n')
            found = self.troubles("one,two")
            self.assertEqual([trouble.code for trouble in found], ["VARIANT-OVERWRITES"])
            self.assertIn(words, found[0].what)
            self.assertEqual(self.troubles("one"), [])

    def test_15_a_variant_that_overwrites_another(self) -> None:
        self.write("w/variants/one.toml", '[set.image]\nhostname = "one"\n')
        self.write("w/variants/two.toml", '[set.image]\nhostname = "two"\n[options.init]\n')
        found = self.troubles("one,two")
        self.assertEqual([trouble.code for trouble in found], ["VARIANT-OVERWRITES"])
        self.assertIn("`two` overwrites what `one` sets", found[0].what)
        self.assertEqual((found[0].place.file.name, "one.toml:2" in found[0].why), ("two.toml", True))
        self.assertEqual(self.troubles("one"), [])

    def test_a_condition_on_options_cannot_decide_on_options(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init"]\n[[when]]\noption = "init[web]"\nset.packages = ["x"]\n')
        self.assertEqual([trouble.code for trouble in self.troubles()], ["CONDITION-LATE"])


class UnchangedFilesAreNotReadAgain(WorkspaceTest):
    def test_editing_one_file_costs_one_file(self) -> None:
        for number in range(8):
            self.recipe(f"r{number}", "true")
        memory = Memory(self.folder / "memory.sqlite")
        self.addCleanup(memory.close)
        long_ago = time.time() - 100
        import os

        for file in self.root.rglob("recipe.toml"):
            os.utime(file, (long_ago, long_ago))
        first = load_workspace(self.root, memory).files_read
        self.assertEqual(first, 11)
        self.assertEqual(load_workspace(self.root, memory).files_read, 0)
        edited = self.root / "s/recipes/r3/recipe.toml"
        edited.write_text(edited.read_text() + "# edited\n")
        again = load_workspace(self.root, memory)
        self.assertEqual(again.files_read, 1)
        self.assertEqual(again.recipes["r5"].value.build.using, "plain")
        self.assertEqual(again.recipes["r5"].place("build", "using").line, 6)

    def test_a_file_that_became_wrong_is_told(self) -> None:
        memory = Memory(self.folder / "memory.sqlite")
        self.addCleanup(memory.close)
        load_workspace(self.root, memory)
        file = self.root / "s/recipes/init/recipe.toml"
        file.write_text(file.read_text().replace("[build]", "[biuld]"))
        with self.assertRaises(YarrikError) as caught:
            load_workspace(self.root, memory)
        self.assertIn("KEY-UNKNOWN", [trouble.code for trouble in caught.exception.troubles])


class SchemasSayTheSame(WorkspaceTest):
    def test_editors_accept_what_yarrik_accepts_and_refuse_what_it_refuses(self) -> None:
        import tomllib
        from pathlib import Path

        import jsonschema

        from yarrik.model.schema import FILES, schema_of
        from yarrik.plan import choices

        self.yarrik("schema", "--to", self.folder / "schemas")
        validators = {}
        for kind in FILES:
            told = json.loads((self.folder / f"schemas/{kind}.json").read_text())
            self.assertEqual(told, json.loads(json.dumps(schema_of(kind, choices()))))
            jsonschema.Draft202012Validator.check_schema(told)
            validators[kind] = jsonschema.Draft202012Validator(told)
        demo = Path(__file__).parent.parent / "src/yarrik/demo/data"
        seen = 0
        for kind in FILES:
            pattern = {"recipe": "**/recipe.toml", "workspace": "yarrik.toml", "shelf": "**/shelf.toml"}.get(
                kind, f"**/{kind}s/*.toml"
            )
            for file in (*demo.glob(pattern), *(demo.parent.parent / "starter/data").glob(pattern)):
                raw = json.loads(json.dumps(tomllib.loads(file.read_text()), default=str))
                self.assertEqual([error.message for error in validators[kind].iter_errors(raw)], [], file)
                seen += 1
                self.assertFalse(validators[kind].is_valid({**raw, "sumary": "x"}), file)
        self.assertGreater(seen, 40)
        for using, valid in (("cmake", True), ("cmkae", False)):
            recipe = {"version": "1", "licence": "MIT", "build": {"using": using}}
            self.assertEqual(validators["recipe"].is_valid(recipe), valid, using)
        wrong = {"packages": {"ad": ["x"]}}
        self.assertFalse(validators["image"].is_valid(wrong))
        self.assertTrue(validators["image"].is_valid({"packages": {"add": ["x"], "remove": ["y"]}}))


if __name__ == "__main__":
    unittest.main()
