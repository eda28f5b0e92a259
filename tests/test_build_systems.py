"""Each build system for real: a library and a program for another machine, found through the sysroot; options; patches."""

import shutil
import subprocess
import sys
import unittest

from msgspec.structs import replace

from tests.support import WorkspaceTest
from yarrik.elf import read_elf
from yarrik.model import Build
from yarrik.plan.build_systems import ANSWERS, Setting, calls_for
from yarrik.toolchain import Toolchain

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


class ForAnotherMachine(WorkspaceTest):
    """A workspace whose board is not this machine, with a library that others build against."""

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


class BuildSystemsWork(ForAnotherMachine):
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


#: Like those that people write by hand: an option that it does not know ends it.
BY_HAND = """#!/bin/sh
for word; do
  case $word in
  --prefix=*) prefix=${word#--prefix=} ;;
  --tidy) ;;
  *) echo "unknown option $word" >&2; exit 1 ;;
  esac
done
echo "PREFIX = $prefix" > Makefile
printf 'all: gull.o\\n\\t$(AR) rc libgull.a gull.o\\n\\t$(RANLIB) libgull.a\\n\\n' >> Makefile
printf 'install:\\n\\tinstall -D libgull.a $(DESTDIR)$(PREFIX)/lib/libgull.a\\n' >> Makefile
"""
VARIABLES = ("CC", "CXX", "AR", "LD", "NM", "OBJCOPY", "OBJDUMP", "RANLIB", "READELF", "STRIP")
CHECKED = "malloc_0_nonnull realloc_0_nonnull memcmp_working lstat_dereferences_slashed_symlink strtod strcoll_works chown_works " \
          "fork_works getgroups_works utime_null strnlen_working mmap_fixed_mapped stat_empty_string_bug"  # fmt: skip
ASKS = "AC_INIT([user],[1])\nAM_INIT_AUTOMAKE([foreign])\nAC_PROG_CC\nAC_CONFIG_HEADERS([config.h])\nAC_FUNC_MALLOC\nAC_FUNC_REALLOC\n" \
       "AC_FUNC_MEMCMP\nAC_FUNC_LSTAT_FOLLOWS_SLASHED_SYMLINK\nAC_FUNC_STRTOD\nAC_FUNC_STRCOLL\nAC_FUNC_CHOWN\nAC_FUNC_FORK\n" \
       "AC_FUNC_GETGROUPS\nAC_FUNC_UTIME_NULL\nAC_FUNC_STRNLEN\nAC_FUNC_MMAP\nAC_FUNC_STAT\nAC_FUNC_MKTIME\nAC_FUNC_FNMATCH\n" \
       "AC_CONFIG_FILES([Makefile])\nAC_OUTPUT\n"  # fmt: skip


class WhatBuildsSee(ForAnotherMachine):
    """The usual traps of cross building, met once."""

    def text(self, name: str) -> str:
        return next(path for where, path in self.built(name).items() if where.endswith(f"share/{name}")).read_text()

    def test_every_tool_is_the_board_s(self) -> None:
        lines = " ".join(f"echo {one} ${one} $(command -v ${one}) >> out;" for one in VARIABLES)
        more = 'echo "CPPFLAGS $CPPFLAGS|$CXXFLAGS|$PKG_CONFIG" >> out;'
        self.recipe("seen", f"{lines} {more} install -D out $DESTDIR/usr/share/seen")
        found = dict(line.split(" ", 1) for line in self.text("seen").splitlines())
        for one in VARIABLES:
            program = found[one].split()[0]
            self.assertTrue(program.startswith("aarch64-linux-gnu-"), one)
            if one != "CXX":  # not every machine has one
                self.assertTrue(found[one].split()[1].endswith("/" + program), found[one])
        flags, compiled, pkg_config = found["CPPFLAGS"].split("|")
        self.assertRegex(flags, r"^-I\S+/sysroot/usr/include$")
        self.assertIn("-ffile-prefix-map=", compiled)
        self.assertEqual(pkg_config, "pkg-config")

    def test_without_a_compiler_for_cxx_configure_leaves_it_out(self) -> None:
        toolchain = Toolchain("aarch64-linux-gnu-", "arm64", "aarch64-linux-gnu", "12", "0" * 64, (), (), cxx=False)
        environment = {"CC": "aarch64-linux-gnu-gcc", "CXX": "aarch64-linux-gnu-g++"}
        for has, wanted in ((False, "no"), (True, "aarch64-linux-gnu-g++")):
            setting = Setting(replace(toolchain, cxx=has), environment, foreign=True)
            self.assertEqual(calls_for(Build(using="autotools"), setting).environment["CXX"], wanted)
        # Libtool's macros do not look for C++ then, and a library in C is configured.
        given = ("AC_INIT([gull],[1])\nAM_INIT_AUTOMAKE([foreign])\nAC_PROG_CC\nAC_PROG_CXX\nLT_INIT\n"
                 "AC_CONFIG_FILES([Makefile])\nAC_OUTPUT\n")  # fmt: skip
        self.recipe("gull", "true", {
            "configure.ac": given, "gull.c": LIBRARY, "gull.h": HEADER,
            "Makefile.am": "lib_LTLIBRARIES = libgull.la\nlibgull_la_SOURCES = gull.c\n",
        })  # fmt: skip
        self.using("gull", "autotools", 'programs = ["autoreconf", "libtoolize"]\nvariables = { CXX = "no" }')
        self.assertTrue(any(where.endswith("lib/libgull.so.0.0.0") for where in self.built("gull")))

    def test_a_makefile_that_asks_pkg_config_does_not_see_the_host_s_libraries(self) -> None:
        self.recipe("gull", "true", {"Makefile": MAKE_LIBRARY, "gull.c": LIBRARY, "gull.h": HEADER, "gull.pc": PC})
        self.using("gull", "make")
        makefile = (
            "FLAGS := $(shell pkg-config --cflags --libs gull)\nall:\n\tpkg-config --variable pc_path pkg-config\n"
            '\tpkg-config --list-all | sed "s/ .*//" > list\n\techo $(FLAGS) >> list\n'
            "install:\n\tinstall -D list $(DESTDIR)/usr/share/list\n"
        )
        self.recipe("list", "true", {"Makefile": makefile})
        self.using("list", "make", 'needs = ["gull"]\nprograms = ["pkg-config"]')
        listed, flags = self.text("list").splitlines()
        self.assertEqual(listed, "gull")
        self.assertRegex(flags, r"^-I\S+/sysroot/usr/include -L\S+/sysroot/usr/lib -lgull$")

    def test_words_stand_for_the_side(self) -> None:
        words = (
            "{triplet} {arch} {arch:gnu} {arch:linux} {arch:debian} {arch:openssl} {arch:go} {tool:windres} ${arch}x {other}"
        )
        self.recipe("told", f'arch=shell; echo "{words}" > out; install -D out $DESTDIR/usr/share/told')
        self.assertEqual(
            self.text("told"),
            "aarch64-linux-gnu arm64 aarch64 arm64 arm64 linux-aarch64 arm64 aarch64-linux-gnu-windres shellx {other}\n",
        )
        self.recipe("told", "echo {arch:gnuu}")
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn("WORD-UNKNOWN: `told` uses {arch:gnuu}, which is nothing known", said)
        self.assertIn("did you mean `gnu`?", said)
        self.assertRegex(said, r"recipes/told/recipe.toml:\d+")

    def test_a_variable_with_flags_replaces_the_usual_one(self) -> None:
        makefile = (
            "AR = ar rcs\nall: gull.o\n\t$(AR) libgull.a gull.o\ninstall:\n\tinstall -D libgull.a $(DESTDIR)/usr/share/flags\n"
        )
        self.recipe("flags", "true", {"Makefile": makefile, "gull.c": LIBRARY, "gull.h": HEADER})
        self.using("flags", "make", 'variables = { AR = "{tool:ar} rcs" }')
        archive = next(path for where, path in self.built("flags").items() if where.endswith("share/flags"))
        self.assertIn("gull.o", self.tool("aarch64-linux-gnu-ar", "t", archive))

    def test_what_says_how_to_build_with_a_library_holds_in_the_sysroot_and_on_the_board(self) -> None:
        archive = "# libgull.la - a libtool library file\nlibdir='/usr/lib'\n"
        script = (
            "#!/bin/sh\nprefix=/usr\nlibs='-L/usr/lib -lgull -L/step/sysroot/usr/lib'\n"
            'echo "-I${prefix}/include -I/usr/include/gull $libs /opt/usr /usrx -ffile-prefix-map=/step/source=."\n'
        )
        self.recipe("gull", "cp -r . $DESTDIR && chmod 755 $DESTDIR/usr/bin/gull-config", {
            "usr/lib/libgull.la": archive, "usr/lib/plain.la": "not libtool's\n", "usr/bin/gull-config": script,
            "usr/lib/pkgconfig/gull.pc": "Name: gull\nDescription: g\nVersion: 1\nLibs: -L/step/sysroot/usr/lib -lgull\n"
                                         "Cflags: -I/step/sysroot/usr/include -ffile-prefix-map=/step=. -DGULL\n",
        }, package='[package.gull]\nfiles = ["/usr/bin/**", "/usr/lib/pkgconfig/**"]')  # fmt: skip
        self.recipe("uses", "mkdir -p $DESTDIR/usr/share; (gull-config; pkg-config --cflags --libs gull; ls /step/sysroot/usr/lib) "
                            "> $DESTDIR/usr/share/uses", more='needs = ["gull"]\nprograms = ["pkg-config"]')  # fmt: skip
        self.write("w/s/images/i.toml", 'packages = ["init", "gull"]\n')
        flags, found, *files = self.text("uses").splitlines()
        self.assertEqual(flags, "-I/step/sysroot/usr/include -I/step/sysroot/usr/include/gull -L/step/sysroot/usr/lib -lgull "
                                "-L/step/sysroot/usr/lib /opt/usr /usrx")  # fmt: skip
        self.assertEqual(found.split(), ["-I/step/sysroot/usr/include", "-DGULL", "-L/step/sysroot/usr/lib", "-lgull"])
        self.assertEqual(files, ["pkgconfig", "plain.la"])
        # On the board, the paths are the board's.
        shutil.rmtree(self.folder / "there")
        on_board = self.built("gull")
        for end, words in (
            ("bin/gull-config", "-L/usr/lib -lgull -L/usr/lib"),
            ("gull.pc", "Libs: -L/usr/lib -lgull\nCflags: -I/usr/include"),
        ):
            text = next(path for where, path in on_board.items() if where.endswith(end)).read_text()
            self.assertIn(words, text)
            self.assertNotIn("/step", text)

    def test_a_configure_that_was_written_by_hand(self) -> None:
        self.recipe("hand", "true", {"configure": BY_HAND, "gull.c": LIBRARY, "gull.h": HEADER},
                    package='[package.hand]\nfiles = ["/usr/lib/libgull.a"]')  # fmt: skip
        (self.root / "s/recipes/hand/src/configure").chmod(0o755)
        self.using("hand", "autotools", 'arguments = ["--tidy"]')
        self.write("w/s/images/i.toml", 'packages = ["init", "hand"]\n')
        self.assertIn("unknown option --sysconfdir=/etc", self.yarrik("build", at=self.root, code=1))
        self.using("hand", "autotools")
        file = self.root / "s/recipes/hand/recipe.toml"
        file.write_text(file.read_text().replace('arguments = ["--tidy"]', 'arguments = ["--tidy"]\nconfigure = "plain"'))
        archive = next(path for where, path in self.built("hand").items() if where.endswith("lib/libgull.a"))
        self.assertIn("AArch64", self.tool("aarch64-linux-gnu-readelf", "-h", archive))

    def test_configure_is_told_what_it_cannot_try(self) -> None:
        more = 'all-local:\n\tgrep -E "^(ac_cv_func_)" config.log | sort > asked\ninstall-data-local:\n\tinstall -D asked $(DESTDIR)/usr/share/asks\n'
        self.recipe("asks", "true", {"configure.ac": ASKS, "Makefile.am": more})
        self.using("asks", "autotools", 'programs = ["autoreconf"]')
        cross = dict(line.split("=", 1) for line in self.text("asks").splitlines())
        # What the same script finds by running its programs, on this machine and with the same C library.
        native = self.folder / "native"
        native.mkdir()
        (native / "configure.ac").write_text(ASKS)
        (native / "Makefile.am").write_text("")
        self.tool("sh", "-c", f"cd {native} && autoreconf -fi && ./configure")
        tried = dict(
            line.split("=", 1) for line in (native / "config.log").read_text().splitlines() if line.startswith("ac_cv_func_")
        )
        for name in (f"ac_cv_func_{one}" for one in CHECKED.split()):
            if name in tried:
                self.assertEqual((name, cross.get(name)), (name, tried[name]))
        self.assertGreater(sum(f"ac_cv_func_{one}" in tried for one in CHECKED.split()), 8)
        self.assertLessEqual({name for name in ANSWERS if name in tried and tried[name].strip("'") != ANSWERS[name]}, set())

    def test_a_file_of_the_host_that_is_no_archive(self) -> None:
        table = self.write("tables/harbour.dat", "gull rock 1275\n")
        self.recipe("table", "install -D harbour.dat $DESTDIR/usr/share/table")
        file = self.root / "s/recipes/table/recipe.toml"
        file.write_text(file.read_text().replace('path = "src"', f'host-file = "{table}"'))
        self.assertEqual(self.text("table"), "gull rock 1275\n")


if __name__ == "__main__":
    unittest.main()
