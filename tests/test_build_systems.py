"""Each build system for real: a library and a program for another machine, found through the sysroot; options; patches."""

import subprocess
import sys
import unittest

from tests.support import WorkspaceTest
from yarrik.elf import read_elf

HEADER = "int gull(void);\n"
LIBRARY = '#include "gull.h"\nint gull(void) { return 7; }\n'
PROGRAM = '#include <gull.h>\n#include <stdio.h>\nint main(void) { printf("%d\\n", gull()); return 0; }\n'
PC = "prefix=/usr\nName: gull\nDescription: x\nVersion: 1\nLibs: -L${prefix}/lib -lgull\nCflags: -I${prefix}/include\n"

MAKE_LIBRARY = """
all:

install:
	$(CC) $(CFLAGS) $(LDFLAGS) -shared -fPIC -Wl,-soname,libgull.so.1 -o libgull.so.1 gull.c
	install -d $(DESTDIR)/usr/lib/pkgconfig $(DESTDIR)/usr/include
	install -m 755 libgull.so.1 $(DESTDIR)/usr/lib/libgull.so.1
	ln -s libgull.so.1 $(DESTDIR)/usr/lib/libgull.so
	install -m 644 gull.h $(DESTDIR)/usr/include/gull.h
	install -m 644 gull.pc $(DESTDIR)/usr/lib/pkgconfig/gull.pc
"""
RECIPES = {
    "cmake": {
        "CMakeLists.txt": "cmake_minimum_required(VERSION 3.13)\nproject(user C)\nfind_package(PkgConfig REQUIRED)\n"
        "pkg_check_modules(GULL REQUIRED IMPORTED_TARGET gull)\nadd_executable(with-cmake main.c)\n"
        "target_compile_definitions(with-cmake PRIVATE LOUD=${LOUD})\n"
        "target_link_libraries(with-cmake PkgConfig::GULL)\ninstall(TARGETS with-cmake DESTINATION bin)\n",
    },
    "meson": {
        "meson.build": "project('user', 'c')\nexecutable('with-meson', 'main.c', dependencies: dependency('gull'), install: true)\n",
        "meson_options.txt": "option('LOUD', type: 'string', value: '0')\n",
    },
    "autotools": {
        "configure.ac": "AC_INIT([user],[1])\nAM_INIT_AUTOMAKE([foreign])\nAC_PROG_CC\nAC_ARG_ENABLE([loud])\nAC_CONFIG_FILES([Makefile])\nAC_OUTPUT\n",
        "Makefile.am": "bin_PROGRAMS = with-autotools\nwith_autotools_SOURCES = main.c\nLDADD = -lgull\n",
    },
}  # fmt: skip


#: A build system that nobody has: it installs each file of the sources under the name that a list gives. All of it is here.
MADE_UP = """
import sys
from unittest import mock

import yarrik.cli
from yarrik.plan.build_systems import BUILD_SYSTEMS, STAGE, BuildSystem, Calls


def calls(build, setting):
    place = "while read from to; do install -D $from $0/$to; done < LIST"
    return Calls((("sh", "-e", "-c", place, STAGE),), setting.environment)


mock.patch.dict(BUILD_SYSTEMS, {"list": BuildSystem(calls, programs=("sed",), strips=False)}).start()
sys.argv[1:] = ["build"]
yarrik.cli.main()
"""


class AMadeUpBuildSystemIsAnObject(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.recipe("gull", "true", {"LIST": "feather usr/share/gull/feather\n", "feather": "grey\n"})
        file = self.root / "s/recipes/gull/recipe.toml"
        lines = file.read_text().replace('"plain"', '"list"').splitlines(True)
        file.write_text("".join(line for line in lines if not line.startswith("commands =")))

    def test_it_builds_what_an_image_takes(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init", "gull"]\n')
        done = subprocess.run(
            [sys.executable, "-c", MADE_UP], cwd=self.root, env=self.environment, capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertEqual(self.content("/usr/share/gull/feather"), "grey\n")

    def test_one_that_nobody_has_is_told_at_check_and_by_all_where_no_product_uses_it(self) -> None:
        self.yarrik("check", at=self.root)
        told = self.yarrik("check", "--all", at=self.root, code=2)
        self.write("w/s/images/i.toml", 'packages = ["init", "gull"]\n')
        file = self.root / "s/recipes/gull/recipe.toml"
        line = 1 + file.read_text().splitlines().index('using = "list"')
        for said in (told, self.yarrik("check", at=self.root, code=2)):
            self.assertIn("error BUILD-SYSTEM-UNKNOWN: there is no build system `list`", said)
            self.assertIn(f"recipe.toml:{line}", said)
        file.write_text(file.read_text().replace('"list"', '"mkae"'))
        self.assertIn("did you mean `make`?", self.yarrik("check", at=self.root, code=2))

    def test_a_compiler_does_not_go_into_an_image(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init", "gull"]\n')
        file = self.root / "s/recipes/gull/recipe.toml"
        file.write_text(file.read_text().replace('"list"', '"toolchain"'))
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn("error TOOLCHAIN-AS-PACKAGE: `gull` is a compiler", said)
        self.assertIn("`toolchain.recipe`", said)


class BuildSystemsWork(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        board = (self.root / "s/boards/b.toml").read_text()
        self.write(
            "w/s/boards/b.toml",
            board.replace('arch = "host"', 'arch = "arm64"') + '[toolchain]\nprefix = "aarch64-linux-gnu-"\n',
        )
        files = {"Makefile": MAKE_LIBRARY, "gull.c": LIBRARY, "gull.h": HEADER, "gull.pc": PC}
        self.recipe("gull", "true", files, package='[package.gull]\nfiles = ["/usr/lib/libgull.so.1"]')
        self.using("gull", "make")

    def using(self, name: str, system: str, more: str = "") -> None:
        file = self.root / f"s/recipes/{name}/recipe.toml"
        text = file.read_text().replace('using = "plain"', f'using = "{system}"\n{more}')
        file.write_text("".join(line for line in text.splitlines(True) if not line.startswith("commands =")))

    def built(self, *names: str) -> dict[str, str]:
        """Builds an image with these packages and returns the paths in it, extracted, by name."""
        self.write("w/s/images/i.toml", 'packages = ["init", ' + ", ".join(f'"{name}"' for name in names) + "]\n")
        self.yarrik("build", at=self.root)
        there = self.folder / "there"
        self.yarrik("inspect", "out/p/p.img", "--extract", "/", "--to", there, at=self.root)
        return {str(path.relative_to(there)): path for path in there.rglob("*") if path.is_file()}

    def test_cmake_meson_and_autotools_cross_build_against_the_sysroot(self) -> None:
        for name, files in RECIPES.items():
            self.recipe(f"user-{name}", "true", {"main.c": PROGRAM, **files}, more='needs = ["gull"]')
            loud = (
                'variables = { LOUD = "1" }'
                if name != "autotools"
                else 'arguments = ["--enable-loud"]\nprograms = ["autoreconf"]'
            )
            self.using(f"user-{name}", name, loud)
        files = self.built(*(f"user-{name}" for name in RECIPES))
        for name in RECIPES:
            path = next(path for where, path in files.items() if where.endswith(f"usr/bin/with-{name}"))
            facts = read_elf(path)
            self.assertEqual((facts.arch, "libgull.so.1" in facts.needed), ("arm64", True), name)
        self.assertTrue(any(where.endswith("usr/lib/libgull.so.1") for where in files))

    def test_python_projects_become_modules_and_programs(self) -> None:
        project = {
            "pyproject.toml": '[build-system]\nrequires = ["setuptools"]\nbuild-backend = "setuptools.build_meta"\n'
            '[project]\nname = "tidenote"\nversion = "1.0"\nscripts = { tidenote = "tidenote:main" }\n'
            '[tool.setuptools]\npy-modules = ["tidenote"]\n',
            "tidenote.py": 'def main() -> None:\n    print("noted")\n',
        }
        self.recipe("tidenote", "true", project)
        self.using("tidenote", "python")
        files = self.built("tidenote")
        module = next(path for where, path in files.items() if where.endswith("dist-packages/tidenote.py"))
        program = next(path for where, path in files.items() if where.endswith("usr/bin/tidenote"))
        self.assertTrue(program.stat().st_mode & 0o111)
        done = subprocess.run(["python3", str(program)], env={"PYTHONPATH": str(module.parent)}, capture_output=True, text=True)
        self.assertEqual(done.stdout, "noted\n", done.stderr)

    def test_files_and_prebuilt_trees_are_placed(self) -> None:
        self.recipe("conf", "true", {"a.conf": "a\n", "b/c.conf": "c\n"})
        self.using(
            "conf", "files", 'place = [{ from = "a.conf", to = "/etc/a.conf", mode = "0600" }, { from = "b", to = "/etc/b" }]'
        )
        self.recipe("vendor", "true", {"usr/share/vendor/blob": "blob\n"})
        self.using("vendor", "prebuilt")
        files = self.built("conf", "vendor")
        text = {
            where.partition("etc/")[2] or where: path.read_text()
            for where, path in files.items()
            if "etc/" in where and path.suffix == ".conf"
        }
        self.assertEqual(text, {"a.conf": "a\n", "b/c.conf": "c\n"})
        self.assertTrue(any(where.endswith("usr/share/vendor/blob") for where in files))
        listed = self.yarrik_json("inspect", "out/p/p.img", "/etc/a.conf", at=self.root)["files"][0]
        self.assertEqual(listed["mode"], "0600")

    def test_commands_around_and_options_that_add_arguments(self) -> None:
        makefile = "install:\n\tinstall -d $(DESTDIR)/etc\n\techo $(LEVEL) $(MORE) > $(DESTDIR)/etc/level\n"
        self.recipe("level", "true", {"Makefile": makefile}, package="")
        self.using(
            "level",
            "make",
            "commands-before = ['sed -i s/LEVEL/LEVELS/ Makefile']\ncommands-after = ['echo after >> $DESTDIR/etc/level']",
        )
        with (self.root / "s/recipes/level/recipe.toml").open("a") as file:
            file.write(
                '[options.loud]\narguments = ["MORE=loud"]\narguments-off = ["MORE=quiet"]\nvariables = { LEVELS = "9" }\n'
            )
        files = self.built("level[loud]")
        self.assertEqual(
            next(path for where, path in files.items() if where.endswith("etc/level")).read_text(), "9 loud\nafter\n"
        )

    def test_an_archive_becomes_the_board_s_toolchain_and_its_c_library_a_package(self) -> None:
        names = ("gcc", "ar", "strip", "objcopy")
        for name in names:
            self.write(f"gcc-1/bin/gull-{name}", f'#!/bin/sh\nexec /usr/bin/aarch64-linux-gnu-{name} "$@"\n').chmod(0o755)
        archive = self.folder / "gull-gcc.tar.xz"
        self.tool("tar", "-C", self.folder, "-cJf", archive, "gcc-1")
        self.write(
            "w/s/recipes/gull-gcc/recipe.toml",
            f'''
            version = "1"
            licence = "GPL-3.0-or-later"
            [[source]]
            host-file = "{archive}"
            [build]
            using = "toolchain"
            programs = ["aarch64-linux-gnu-gcc"]
            ''',
        )
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text().replace('prefix = "aarch64-linux-gnu-"', 'prefix = "gull-"\nrecipe = "gull-gcc"'))
        files = self.built("gull")
        library = next(path for where, path in files.items() if where.endswith("usr/lib/libgull.so.1"))
        self.assertEqual(read_elf(library).arch, "arm64")
        self.assertTrue(any(where.endswith("lib/ld-linux-aarch64.so.1") for where in files))
        self.assertIn("gull-gcc", (self.root / "yarrik.lock").read_text())
        self.assertIn("gull-gcc gcc ", self.yarrik("log", "build", "gull", at=self.root).replace("CC=gull-gcc", "gull-gcc gcc"))
        before = (self.root / "out/p/p.img").read_bytes()
        board.write_text(board.read_text().replace('prefix = "gull-"', 'prefix = "tern-"'))
        said = self.yarrik("build", code=2, at=self.root)
        self.assertIn("error TOOLCHAIN-NO-COMPILER", said)
        self.assertIn("set `toolchain.prefix` to `gull-`", said)
        self.assertEqual((self.root / "out/p/p.img").read_bytes(), before)

    def test_patches_are_laid_on_in_order_and_one_that_does_not_fit_is_told(self) -> None:
        self.recipe("note", "mkdir -p $DESTDIR/etc && cp note $DESTDIR/etc/note", {"note": "one\ntwo\nthree\n"})
        first = "--- a/note\n+++ b/note\n@@ -1,3 +1,3 @@\n one\n-two\n+TWO\n three\n"
        second = "--- a/note\n+++ b/note\n@@ -1,3 +1,3 @@\n one\n-TWO\n+2\n three\n"
        self.write("w/s/recipes/note/first.patch", first)
        recipe = self.root / "s/recipes/note/recipe.toml"
        recipe.write_text('patches = ["first.patch"]\n' + recipe.read_text())
        self.write("w/s/amendments/second.patch", second)
        self.write("w/s/amendments/note.toml", 'recipe = "note"\n[set]\npatches.add = ["second.patch"]\n')
        files = self.built("note")
        self.assertEqual(
            next(path for where, path in files.items() if where.endswith("etc/note")).read_text(), "one\n2\nthree\n"
        )
        self.write("w/s/amendments/note.toml", 'recipe = "note"\n[set]\npatches = ["second.patch"]\n')
        said = self.yarrik("build", code=1, at=self.root)
        self.assertIn(
            "error PATCH-FAILED: the patch second.patch does not fit note:2: it wants `TWO`, and `two` stands there", said
        )
        self.assertIn("second.patch:3", said)
        self.assertIn("patch failed: note:1", self.yarrik("log", "patch", "note", at=self.root))


if __name__ == "__main__":
    unittest.main()
