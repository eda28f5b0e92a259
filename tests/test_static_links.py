"""What is linked statically: its recipe and licence are in the manifest, and count for `refuse-licences`."""

import io
import json
import subprocess
import unittest
from typing import Any

from tests.support import FolderTest, WorkspaceTest
from yarrik.elf import ElfDamaged, functions
from yarrik.objects import AR_MAGIC, functions_in_archive

HEIGHT = """
int tide_height(const int *levels, int count) {
    int most = 0;
    for (int n = 0; n < count; n++) if (levels[n] > most) most = levels[n] * 3 - n;
    return most;
}
"""
SPRING = "int tide_spring(int day) { int k = day; while (k > 14) k -= 14; return k < 3 || k > 12 ? day * 7 : day; }\n"
MAIN = "int tide_height(const int *, int); int main(int c, char **v) { int l[] = {c, 4, 2}; return tide_height(l, 3) == 99 + !v; }\n"
LIBRARY = """\
mkdir -p $DESTDIR/usr/lib && for one in height spring; do $CC $CFLAGS -fPIC -c $one.c; done && \
$AR rcs $DESTDIR/usr/lib/libtide.a height.o spring.o"""
SHARED = " && $CC -shared -Wl,-soname,libtide.so.1 -o $DESTDIR/usr/lib/libtide.so.1 height.o spring.o && \
ln -s libtide.so.1 $DESTDIR/usr/lib/libtide.so"
PROGRAM = "mkdir -p $DESTDIR/usr/bin && $CC $CFLAGS -o $DESTDIR/usr/bin/gauge main.c $LDFLAGS "


class StaticLinks(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.library(LIBRARY)
        self.write("w/s/images/i.toml", 'packages = ["init", "gauge"]\n')

    def library(self, command: str, name: str = "tide", more: str = "", package: str = "[package.libtide]\nfiles = []") -> None:
        self.recipe(
            name, command, {"height.c": HEIGHT, "spring.c": SPRING, "COPYING": f"The terms of {name}.\n"}, more, package
        )
        file = self.root / f"s/recipes/{name}/recipe.toml"
        text = file.read_text().replace('licence = "MIT"', 'licence = "GPL-3.0-or-later"\nlicence-files = ["COPYING"]')
        file.write_text(text.replace("files = []", 'files = ["/usr/lib/lib*.so.*"]') if "shared" in command else
                        text.replace("[package.libtide]\nfiles = []", ""))  # fmt: skip

    def program(self, words: str = "-ltide", source: str = MAIN, needs: str = '"tide"') -> None:
        self.recipe("gauge", PROGRAM + words, {"main.c": source}, f"needs = [{needs}]")

    def linked(self) -> list[dict[str, Any]]:
        """What the manifest says of the package."""
        self.yarrik("build", at=self.root)
        packages = json.loads((self.root / "out/p/packages.json").read_text())["packages"]
        found: list[dict[str, Any]] = next(one["linked"] for one in packages if one["name"] == "gauge")
        return found

    def test_recipe_licence_and_texts_are_told(self) -> None:
        self.program()
        self.assertEqual(self.linked(), [
            {"recipe": "tide", "version": "1", "licence": "GPL-3.0-or-later", "libraries": ["/usr/lib/libtide.a"],
             "files": ["/usr/bin/gauge"]},
        ])  # fmt: skip
        self.assertEqual((self.root / "out/p/licences/tide/COPYING").read_text(), "The terms of tide.\n")

    def test_a_refused_licence_stops_the_build(self) -> None:
        self.program()
        self.write("w/s/profiles/p.toml", 'init = "init"\nrefuse-licences = ["GPL-3.0-*"]\n')
        done = self.yarrik("build", at=self.root, code=1)
        self.assertIn("LICENCE-REFUSED: /usr/bin/gauge of the package `gauge` has libtide.a of `tide` in it, which is under "
                      "GPL-3.0-or-later", done)  # fmt: skip
        self.library(LIBRARY + SHARED, package="[package.tide]\nfiles = []")
        self.assertIn("the package `tide` (recipe `tide`) is under", self.yarrik("build", at=self.root, code=1))

    def test_however_it_is_linked(self) -> None:
        ways = {
            "whole archive": "-Wl,--whole-archive -ltide -Wl,--no-whole-archive",
            "sections that nobody calls left out": "-ffunction-sections -Wl,--gc-sections -ltide",
            "without a loader": "-static -ltide",
            "by its path": "$(dirname $0)/{step}/sysroot/usr/lib/libtide.a".replace("$(dirname $0)/", ""),
            "names that nobody outside sees": "-Wl,--exclude-libs,ALL -ltide",
        }
        for name, words in ways.items():
            with self.subTest(name):
                self.program(words)
                self.assertEqual({one["recipe"] for one in self.linked()} - {"libc"}, {"tide"})

    def test_in_a_library_and_through_another_archive(self) -> None:
        self.program("-ltide && $CC -shared -fPIC -o $DESTDIR/usr/lib.so -x c /dev/null")
        self.recipe("gauge", "mkdir -p $DESTDIR/usr/lib && $CC $CFLAGS -shared -fPIC -o $DESTDIR/usr/lib/libgauge.so.1 "
                    "-Wl,-soname,libgauge.so.1 main.c $LDFLAGS -ltide", {"main.c": MAIN}, 'needs = ["tide"]')  # fmt: skip
        self.assertEqual([one["files"] for one in self.linked()], [["/usr/lib/libgauge.so.1"]])
        # A recipe that packs objects of another one into an archive of its own.
        own = ("mkdir -p $DESTDIR/usr/lib && $CC $CFLAGS -c near.c && cd {step}/build && $AR x {step}/sysroot/usr/lib/libtide.a && "
               "$AR rcs $DESTDIR/usr/lib/libnear.a {step}/source/near.o height.o")  # fmt: skip
        near = "int tide_height(const int *, int);\nint near(int d) { int l[] = {d, 2}; return d > 4 ? tide_height(l, 2) : d * 5; }\n"
        self.recipe("near", own, {"near.c": near}, 'needs = ["tide"]')
        self.program("-lnear", "int near(int); int main(int c, char **v) { return near(c) == 99 + !v; }\n", '"near"')
        self.assertEqual({one["recipe"]: one["libraries"] for one in self.linked()},
                         {"near": ["/usr/lib/libnear.a"], "tide": ["/usr/lib/libtide.a"]})  # fmt: skip

    def test_objects_that_wait_for_optimisation_at_link_time(self) -> None:
        self.library(LIBRARY.replace("$CFLAGS", "$CFLAGS -flto -fno-fat-lto-objects").replace("$AR rcs", "${CC%gcc}gcc-ar rcs"))
        self.program("-O0 -flto -ltide")
        self.assertEqual([one["recipe"] for one in self.linked()], ["tide"])

    def test_the_toolchains_own_library(self) -> None:
        self.program("-static", "int main(void) { return 0; }\n", "")
        self.assertEqual(self.linked(), [
            {"recipe": "libc", "version": "1", "licence": "MIT", "libraries": ["libc.a"], "files": ["/usr/bin/gauge"]},
        ])  # fmt: skip

    def test_nothing_is_told_that_is_not_so(self) -> None:
        own = HEIGHT.replace("* 3 - n", "* 3 - n + levels[0] / (n + 1)")
        ways = {
            "needed, and not linked": ("", "int main(void) { return 0; }\n"),
            "a function of its own with that name": ("-ltide", MAIN.split(";")[0] + ";\n" + own + MAIN.partition(";")[2]),
            "an object that nobody calls": ("-ltide", "int main(void) { return 0; }\n"),
        }
        for name, (words, source) in ways.items():
            with self.subTest(name):
                self.program(words, source)
                self.assertEqual(self.linked(), [])
        with self.subTest("the shared library"):
            self.library(LIBRARY + SHARED, package="[package.tide]\nfiles = []")
            self.program()
            self.assertEqual(self.linked(), [])

    def test_a_stripped_program_is_said_to_hide_it(self) -> None:
        self.program("-s -ltide")
        advice = [one for one in self.yarrik_json("build", at=self.root)["advice"] if one["code"] == "PACKAGE-NO-SYMBOLS"]
        self.assertEqual(len(advice), 1)
        self.assertIn("/usr/bin/gauge has no symbols any more: which licences came with static libraries (libtide.a) cannot be told",
                      json.dumps(advice))  # fmt: skip
        self.program("-s", "int main(void) { return 0; }\n", "")
        self.assertNotIn("no symbols", self.yarrik("build", at=self.root))

    def test_another_object_in_the_library_changes_what_is_told(self) -> None:
        self.program()
        self.linked()
        file = self.root / "s/recipes/tide/recipe.toml"
        file.write_text(file.read_text().replace("GPL-3.0-or-later", "BSD-2-Clause"))
        self.assertEqual([one["licence"] for one in self.linked()], ["BSD-2-Clause"])


class Archives(FolderTest):
    def test_what_does_not_read_is_left_out(self) -> None:
        (self.folder / "a.c").write_text(HEIGHT)
        subprocess.run(["gcc", "-c", "-o", "a.o", "a.c"], cwd=self.folder, check=True)
        subprocess.run(["ar", "rcs", "a.a", "a.o"], cwd=self.folder, check=True)
        data, thing = (self.folder / "a.a").read_bytes(), (self.folder / "a.o").read_bytes()
        self.assertEqual([set(one) for one in functions_in_archive(io.BytesIO(data))], [{b"tide_height"}])
        self.assertEqual(functions(io.BytesIO(thing), only_global=True), next(functions_in_archive(io.BytesIO(data))))
        for name, wrong in {
            "nothing in it": AR_MAGIC,
            "ends in a header": data[:30],
            "a size that lies": data.replace(str(len(thing)).encode().ljust(10), b"9999999999"),
            "an object cut short": AR_MAGIC + data[data.index(b"a.o/") :][:60] + thing[:100],
            "no number": data.replace(str(len(thing)).encode().ljust(10), b"-1        "),
        }.items():
            with self.subTest(name):
                found = list(functions_in_archive(io.BytesIO(wrong)))
                self.assertLessEqual(sum(map(len, found)), 1)
        for at in range(0, len(thing), 7):
            mutated = thing[:at] + bytes([thing[at] ^ 0xFF]) + thing[at + 1 :]
            try:
                found_in = functions(io.BytesIO(mutated))
            except ElfDamaged:
                continue
            self.assertTrue(found_in is None or len(found_in) <= 2)


if __name__ == "__main__":
    unittest.main()
