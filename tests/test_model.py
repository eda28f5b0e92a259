"""Definitions: places of keys, strict reading, stacking with origins, workspaces."""

import unittest

from tests.support import FolderTest
from yarrik.demo import lay_out_demo
from yarrik.errors import YarrikError
from yarrik.model import Board, Overrides, Recipe, load_workspace
from yarrik.model.checking import convert, find_troubles
from yarrik.model.positions import key_lines
from yarrik.model.reading import Document, Origin, dotted, read_document
from yarrik.model.stacking import stacked


class KeysHaveLines(unittest.TestCase):
    def test_tables_arrays_and_inline_tables(self) -> None:
        lines = key_lines(
            'a = 1\n[b.c]\n# x = 2\nd = """\nx = 1\n"""\n[[e]]\nf = [\n  1,\n  { g = 2 }\n]\n[[e]]\n"f" = 3\n[e.h]\ni=1\n'
        )
        self.assertEqual(lines[("a",)], 1)
        self.assertEqual(lines[("b", "c", "d")], 4)
        self.assertNotIn(("x",), lines)
        self.assertEqual(lines[("e", "0", "f")], 8)
        self.assertEqual(lines[("e", "0", "f", "1", "g")], 10)
        self.assertEqual(lines[("e", "1", "f")], 13)
        self.assertEqual(lines[("e", "1", "h", "i")], 15)

    def test_text_that_looks_like_keys_inside_strings_is_none(self) -> None:
        lines = key_lines('a = \'b = [[c]]\'\nd = "# \\" [e]" # f = 1\ng = 2\n')
        self.assertEqual(lines, {("a",): 1, ("d",): 2, ("g",): 3})


class DefinitionsAreReadStrictly(FolderTest):
    def troubles(self, text: str, shape: type = Board) -> list:
        return list(find_troubles(read_document(self.write("x.toml", text)), shape))

    def test_all_troubles_of_a_file_are_told_together_with_lines_and_nearest_keys(self) -> None:
        found = self.troubles(
            """
            arch = "arm65"
            sumary = "x"
            [kernel]
            recipe = 3
            [[disk]]
            name = "card"
            [[disk.partition]]
            name = "root"
            size = "48 Mib"
            sise = "fit"
            """
        )
        told = {(trouble.code, trouble.place.line): trouble for trouble in found}
        self.assertEqual(
            set(told),
            {("VALUE-UNKNOWN", 1), ("KEY-UNKNOWN", 2), ("VALUE-TYPE", 4), ("KEY-UNKNOWN", 10)},
            [str(t) for t in found],
        )
        self.assertIn("`arm64`", told[("VALUE-UNKNOWN", 1)].remedy)
        self.assertIn("`summary`", told[("KEY-UNKNOWN", 2)].remedy)
        self.assertIn("`size`", told[("KEY-UNKNOWN", 10)].remedy)
        self.assertEqual(told[("VALUE-TYPE", 4)].place.key, "kernel.recipe")

    def test_a_missing_key_names_its_table(self) -> None:
        found = self.troubles('[kernel]\n[[disk]]\nname = "c"\npartition = []\n')
        self.assertEqual([trouble.what for trouble in found],
                         ["the key `recipe` is missing in [kernel]", "the key `arch` is missing at the top of the file"])  # fmt: skip

    def test_values_that_cannot_be_are_refused_with_a_sentence(self) -> None:
        for line, words in (
            ('needs = ["libtide => 2"]', "`=> 2` is not a version requirement"),
            ('variables = { "A-B" = "x" }', "not the name of a variable"),
            ('goals = "all"', "a list belongs here"),
        ):
            found = self.troubles(f'version = "1"\nlicence = "MIT"\n[build]\nusing = "make"\n{line}\n', Recipe)
            self.assertEqual(len(found), 1, line)
            self.assertIn(words, found[0].what)
            self.assertEqual(found[0].place.line, 5)

    def test_text_that_is_no_toml_is_told_with_its_line(self) -> None:
        with self.assertRaises(YarrikError) as caught:
            read_document(self.write("x.toml", "a = 1\nb = = 2\n"))
        self.assertEqual(caught.exception.troubles[0].place.line, 2)

    def test_bytes_that_are_no_text_are_told(self) -> None:
        with self.assertRaises(YarrikError) as caught:
            read_document(self.write("x.toml", b"a = '\xff'\n"))
        self.assertEqual(caught.exception.troubles[0].code, "FILE-NOT-UTF8")


class NumbersAndTextsThatNobodyWrites(FolderTest):
    def troubles(self, text: str) -> list[str]:
        with self.assertRaises(YarrikError) as caught:
            convert(read_document(self.write("recipe.toml", text)), Recipe)
        return [f"{trouble.code} {trouble.place.key}" for trouble in caught.exception.troubles]

    def test_a_null_character_is_refused_wherever_it_stands(self) -> None:
        for text, key in (
            ('[[source]]\npath = "s\\u0000rc"\n', "source.1.path"),
            ('licence = "M\\U00000000IT"\n', "licence"),
            ('[build]\ncommands = ["x", "a\\u0000b"]\n', "build.commands.2"),
            ('[options."a\\u0000"]\n', "options.a\\u0000"),
        ):
            self.assertEqual(self.troubles(text), [f"FILE-NULL-CHARACTER {key}"])

    def test_a_number_of_thousands_of_digits_is_no_traceback(self) -> None:
        self.assertEqual(self.troubles(f"version = {'9' * 5000}\n"), ["FILE-NOT-TOML None"])
        for key in ("weight", "process-limit"):
            text = f'version = "1"\nlicence = "MIT"\n[build]\nusing = "plain"\n{key} = {"9" * 400}\n'
            self.assertEqual(self.troubles(text), [f"VALUE-UNFIT build.{key}"])
        settings = [f"board.memory.size={'9' * 5000}", 'image.hostname="a\\u0000b"']
        codes = []
        for setting in settings:
            with self.assertRaises(YarrikError) as caught:
                Overrides.of((), {}, (setting,))
            codes.append(caught.exception.troubles[0].code)
        self.assertEqual(codes, ["VALUE-UNFIT", "FILE-NULL-CHARACTER"])

    def test_a_key_of_a_digit_that_is_no_number_is_shown_as_it_is(self) -> None:
        self.assertEqual(dotted(("options", "²", "0")), "options.².1")


class DefinitionsStack(FolderTest):
    def test_tables_merge_named_tables_merge_by_name_and_origins_remember_what_was_replaced(self) -> None:
        base = read_document(self.write("base.toml", 'arch = "arm64"\n[kernel]\nrecipe = "a"\nconsole = "tty"\n[[disk]]\nname = "card"\n'
                                        '[[disk.partition]]\nname = "root"\nsize = "fit"\n'))  # fmt: skip
        over = read_document(self.write("over.toml", '[kernel]\nrecipe = "b"\n[[disk]]\nname = "card"\n[[disk.partition]]\nname = "root"\n'
                                        'size = "9 MiB"\n[[disk.partition]]\nname = "data"\n'))  # fmt: skip
        whole = stacked(base, over, Board)
        board = convert(whole, Board)
        self.assertEqual((board.arch, board.kernel.recipe, board.kernel.console), ("arm64", "b", "tty"))
        self.assertEqual([(p.name, p.size) for p in board.disk[0].partition], [("root", "9 MiB"), ("data", "fit")])
        origin = whole.origin("kernel", "recipe")
        self.assertEqual((origin.place.file.name, origin.place.line), ("over.toml", 2))
        self.assertEqual((origin.replaced.place.file.name, origin.replaced.place.line), ("base.toml", 3))
        self.assertEqual(whole.origin("kernel", "console").place.file.name, "base.toml")
        self.assertEqual(whole.origin("disk", "0", "partition", "0", "size").place.line, 7)


class OriginsOfOneKey(FolderTest):
    def test_it_is_found_as_among_those_of_all(self) -> None:
        lay_out_demo(self.folder / "demo")
        files = sorted((self.folder / "demo").rglob("*.toml"))
        self.assertGreater(len(files), 20)
        for file in files:
            raw = read_document(file).raw
            known = Document(file, raw).origins
            for path in known:
                for more in ((), ("none",), ("0",), ("9", "x"), ("00",), ("-1",)):
                    expected = next(known[path[:length]] for length in range(len(path), 0, -1) if path[:length] in known)
                    if (*path, *more)[: len(path) + 1] in known:
                        expected = known[(*path, *more)[: len(path) + 1]]
                    self.assertEqual(Document(file, raw).origin(*path, *more), expected, (path, more))
            self.assertEqual(Document(file, raw, ("set",)).origin("none"), Origin(file, ("set",)))


class WorkspacesAreChecked(FolderTest):
    def workspace(self, **files: str) -> list[str]:
        self.write(
            "yarrik.toml", '[workspace]\nname = "w"\n[[shelf]]\nname = "a"\npath = "a"\n[[shelf]]\nname = "b"\npath = "b"\n'
        )
        self.write("a/shelf.toml", '[shelf]\nname = "a"\n')
        self.write("b/shelf.toml", files.pop("shelf", '[shelf]\nname = "b"\n'))
        for name, text in files.items():
            self.write(name.replace("__", "/") + ".toml", text)
        try:
            load_workspace(self.folder)
        except YarrikError as error:
            return [trouble.code for trouble in error.troubles]
        return []

    PROFILE = 'init = "x"\n'

    def test_the_same_name_on_two_shelves_has_to_say_that_it_replaces(self) -> None:
        self.assertEqual(self.workspace(a__profiles__p=self.PROFILE, b__profiles__p=self.PROFILE), ["DEFINITION-TWICE"])
        self.assertEqual(self.workspace(b__profiles__p='replaces = "a"\n' + self.PROFILE), [])

    def test_a_shelf_that_needs_another_says_so_early(self) -> None:
        self.assertEqual(self.workspace(shelf='[shelf]\nname = "b"\nneeds = ["c"]\n'), ["SHELF-MISSING"])

    def test_a_shelf_for_a_later_yarrik_is_refused(self) -> None:
        self.assertEqual(self.workspace(shelf='[shelf]\nname = "b"\nneeds-yarrik = ">= 99"\n'), ["VERSION-TOO-OLD"])

    def test_definitions_that_extend_each_other_are_shown_as_a_loop(self) -> None:
        self.workspace(a__profiles__p='extends = "q"\n', a__profiles__q='extends = "p"\n')
        with self.assertRaises(YarrikError) as caught:
            load_workspace(self.folder)
        self.assertIn("p → q → p", caught.exception.troubles[0].what)

    def test_troubles_of_several_files_come_together(self) -> None:
        self.assertEqual(
            self.workspace(a__profiles__p="inti = 1\n", b__images__i="packages = 3\n"),
            ["KEY-UNKNOWN", "KEY-MISSING", "VALUE-TYPE"],
        )


if __name__ == "__main__":
    unittest.main()
