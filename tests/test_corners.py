"""What people meet seldom: shell completion of single words, terminals that show no sign, settings in redundant pairs, …"""

import io
import struct
import subprocess
import sys
from pathlib import Path

from tests.support import FolderTest, WorkspaceTest
from tests.test_methods import BOARD, GaugeTest
from yarrik.boot import encode_environment
from yarrik.boot.environment import newest_of
from yarrik.cli.codes import _complete
from yarrik.cli.options import _variants
from yarrik.cli.terminal import SafeStream, erase_line
from yarrik.disk.flashing_form import expand_sparse
from yarrik.model import read_document
from yarrik.model.checking import fits
from yarrik.model.definitions import Recipe
from yarrik.model.workspace import _good_recipe
from yarrik.plan.reasons import _words_apart


class Terminals(FolderTest):
    def test_lines_are_escaped_and_a_line_is_taken_away(self) -> None:
        shown = io.StringIO()
        stream = SafeStream(shown)
        stream.writelines(["one\n", "\x1b[31mtwo\n"])
        erase_line(stream)
        erase_line(shown)  # a pipe keeps what it has
        self.assertEqual(shown.getvalue().count("\x1b"), 1)
        self.assertTrue(shown.getvalue().startswith("one\n") and shown.getvalue().endswith("two\n\r\x1b[K"))

    def test_bytes_that_are_no_text_come_out_as_they_came_in(self) -> None:
        script = "from yarrik.cli.terminal import show_safely; import sys; show_safely(); sys.stdout.write('a\\udcff\\u20ac')"
        done = subprocess.run(
            [sys.executable, "-c", script], capture_output=True, check=True, env={"PYTHONIOENCODING": "ascii"}
        )
        self.assertEqual(done.stdout, b"a\xff?")


class Completion(WorkspaceTest):
    def test_of_codes_and_of_the_last_variant_in_a_list(self) -> None:
        self.assertEqual(_complete("overlay-pa"), ["OVERLAY-PARAMETER", "OVERLAY-PATH-MISSING"])
        self.write("w/s/variants/loud.toml", "")
        script = (
            f"import os; os.chdir({str(self.root)!r}); from yarrik.cli.options import _variants; print(_variants('quiet,lo'))"
        )
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip(), "['quiet,loud']")
        self.assertEqual(_variants("nothing-like-it"), [])


class Definitions(WorkspaceTest):
    def test_a_recipe_s_name_stands_for_its_first_package(self) -> None:
        self.recipe("multi", "install -D /dev/null $DESTDIR/usr/share/m", package='[package.multi-data]\nfiles = ["**"]')
        self.write("w/s/images/i.toml", 'packages = ["init", "multi"]\n')
        self.yarrik("build", at=self.root)
        self.assertIn('"multi-data"', (self.root / "out/p/packages.json").read_text())

    def test_a_cold_load_tells_good_recipes_from_others(self) -> None:
        good, bad = self.root / "s/recipes/init/recipe.toml", self.root / "s/recipes/bad/recipe.toml"
        self.write("w/s/recipes/bad/recipe.toml", 'version = "1"\n')
        self.assertIsNotNone(_good_recipe(str(good)))
        self.assertIsNone(_good_recipe(str(bad)))
        self.assertIsNone(_good_recipe(str(self.root / "s/recipes/gone/recipe.toml")))

    def test_each_recipe_of_the_demo_passes_the_quick_check(self) -> None:
        """Without it a cold load takes the slow one for all of them: nothing else would show that."""
        top = Path(__file__).parent.parent / "src/yarrik/demo/data"
        recipes = sorted(top.rglob("recipe.toml"))
        self.assertGreater(len(recipes), 20)
        slow = [path.parent.name for path in recipes if not fits(read_document(path).raw, Recipe)]
        self.assertEqual(slow, ["linux", "libplot"])  # their conditions take a closer look

    def test_of_two_lists_of_commands_the_words_that_differ(self) -> None:
        self.assertEqual(_words_apart('[["make","-j"],["a"]]', '[["make","-j"],["b"]]'), ("a", "b"))
        self.assertEqual(_words_apart('["a","b"]', '["b","a"]'), ('["a","b"]', '["b","a"]'))


class FlashingForm(FolderTest):
    def chunks(self, *found: tuple[int, int, bytes]) -> bytes:
        blocks = sum(count for _, count, _ in found)
        head = struct.pack("<IHHHHIIII", 0xED26FF3A, 1, 0, 28, 12, 4096, blocks, len(found), 0)
        return head + b"".join(struct.pack("<HHII", kind, 0, count, 12 + len(data)) + data for kind, count, data in found)

    def test_a_chunk_that_repeats_a_word_as_their_program_expands_it(self) -> None:
        data = self.chunks((0xCAC2, 3, b"tide"), (0xCAC1, 1, b"x" * 4096), (0xCAC2, 2, bytes(4)), (0xCAC3, 1, b""))
        sparse, plain = self.write("s.simg", data), self.folder / "plain"
        self.tool("simg2img", sparse, plain)
        with expand_sparse(io.BytesIO(data), len(data)) as ours:
            self.assertEqual(ours.read(), plain.read_bytes())
        self.assertEqual(plain.read_bytes()[:12], b"tide" * 3)


class RedundantSettings(GaugeTest):
    def test_one_of_a_pair_is_changed_and_the_older_one_goes(self) -> None:
        self.write("demo/shelves/harbour/boards/b.env", "bootdelay=0\n")
        self.board('[boot.environment]\nfile = "b.env"\nsize = "4 KiB"\nredundant = true\n[[disk]]\nname = "chip"\ntable = "none"\n'
                   'size = "1 MiB"\n[[disk.blob]]\nfile = "environment.bin"\noffset = "64 KiB"\n')  # fmt: skip
        self.assertTrue((self.root / BOARD).is_file())
        block = encode_environment({"bootdelay": "0"}, 4096, 1) + encode_environment({"bootdelay": "0"}, 4096, 0)
        file = self.folder / "pair.bin"
        file.write_bytes(block)
        self.yarrik("boot", "set", file, "bootdelay=7")
        data = file.read_bytes()
        self.assertEqual(data[:4096], block[:4096])
        self.assertEqual(newest_of(data[:4096], data[4096:]), ({"bootdelay": "7"}, 1))
