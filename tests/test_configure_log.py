"""A build that stops says why: the test of configure that failed, the header or library that is missing, and who brings it."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests.support import WorkspaceTest
from yarrik.run.configure_log import failed_test, missing_thing

CONFIGURE = """
AC_INIT([gull],[1])
AC_PROG_CC
AC_CHECK_HEADER([stdio.h])
AC_CHECK_HEADER([gull/wing.h],[],[AC_MSG_ERROR([it wants wings])])
AC_OUTPUT
"""


class ALogIsRead(unittest.TestCase):
    def test_the_last_failure_before_the_error(self) -> None:
        log = (
            "configure:10: checking for a\nconfigure:11: gcc -c conftest.c\nconftest.c:1:1: error: first\nconfigure:11: $? = 1\n"
            "configure: failed program was:\n| int main\nconfigure:12: result: no\n"
            "configure:20: checking for b\nconfigure:21: gcc -c conftest.c\nconfigure:21: $? = 0\nconfigure:22: result: yes\n"
            "configure:30: checking for -lx\nconfigure:31: gcc -o conftest\n/bin/ld: cannot find -lx\ncollect2: error: ld\n"
            "configure:31: $? = 1\nconfigure: failed program was:\n| y\nconfigure:32: result: no\nconfigure:33: error: x is wanted\n"
            "## Cache variables ##\nac_cv_x=no\n"
        )
        self.assertEqual(failed_test(log), ["checking for -lx", "/bin/ld: cannot find -lx", "collect2: error: ld"])
        self.assertEqual(failed_test(log.replace("error: x is wanted", "result: x")), [])
        self.assertEqual(failed_test("configure:1: error: x\n"), [])

    def test_what_it_looked_for_last_without_trying_it(self) -> None:
        log = (
            "configure:9: checking how to run the C preprocessor\nconfigure:10: cc -E conftest.c\n"
            "conftest.c:1:10: fatal error: ac_nonexistent.h: No such file or directory\nconfigure:10: $? = 1\n"
            "configure: failed program was:\n| #include <ac_nonexistent.h>\nconfigure:12: result: cc -E\n"
            "configure:20: checking for x-gcc\nconfigure:21: result: no\nconfigure:22: checking for gcc\n"
            "configure:23: result: no\nconfigure:24: error: in `/x':\nconfigure:25: error: no compiler\n"
        )
        self.assertEqual(failed_test(log), ["checking for x-gcc: no", "checking for gcc: no"])
        # What was found is no reason, and neither is what was looked for before it.
        found = log.replace("checking for gcc\nconfigure:23: result: no", "checking for gcc\nconfigure:23: result: gcc")
        self.assertEqual(failed_test(found)[0], "checking how to run the C preprocessor")
        self.assertEqual(missing_thing(log.splitlines()), ("", ""))

    @given(st.text(alphabet="configure:123 $?=|checkingfor\n error", max_size=300))
    def test_any_text_is_read(self, text: str) -> None:
        self.assertIsInstance(failed_test(text), list)
        self.assertEqual(len(missing_thing(text.splitlines())), 2)

    def test_what_is_missing(self) -> None:
        for line, wanted in (
            ("a.c:1:10: fatal error: gull/wing.h: No such file or directory", ("header", "gull/wing.h")),
            ("No package 'gull' found", ("pc", "gull")),
            ("Package gull was not found in the pkg-config search path.", ("pc", "gull")),
            ("Package 'gull', required by 'virtual:world', not found", ("pc", "gull")),
            ('meson.build:3:0: ERROR: Dependency "gull" not found, tried pkgconfig', ("pc", "gull")),
            ("all is well", ("", "")),
        ):
            self.assertEqual(missing_thing(["x", line, "make: *** [all] Error 1"]), wanted)


class WhatBringsItIsNamed(WorkspaceTest):
    def failing(self, command: str, files: dict[str, str], more: str = "") -> str:
        self.recipe("user", command, files, more=more)
        (self.root / "s/images/i.toml").write_text('packages = ["init", "gull", "user"]\n')
        return self.yarrik("build", code=1, at=self.root)

    def setUp(self) -> None:
        super().setUp()
        pc = "Name: gull\nDescription: g\nVersion: 1\nLibs: -lgull\n"
        self.recipe("gull", "mkdir -p $DESTDIR/usr/include/gull $DESTDIR/usr/lib/pkgconfig && cp wing.h $DESTDIR/usr/include/gull && "
                            "cp gull.pc $DESTDIR/usr/lib/pkgconfig && mkdir -p $DESTDIR/usr/share && cp wing.h $DESTDIR/usr/share/gull",
                    {"wing.h": "#define WING 1\n", "gull.pc": pc}, package='[package.gull]\nfiles = ["/usr/share/gull"]')  # fmt: skip
        (self.root / "s/images/i.toml").write_text('packages = ["init", "gull"]\n')
        self.yarrik("build", at=self.root)

    def test_a_header_and_a_library_of_another_recipe(self) -> None:
        said = self.failing("$CC -c a.c", {"a.c": "#include <gull/wing.h>\n"})
        self.assertIn("error STEP-LACKS: step `build user` failed: it lacks the header gull/wing.h, which `gull` brings", said)
        self.assertIn('write `needs = ["gull"]` into [build]', said)
        said = self.failing("pkg-config --cflags gull", {}, more='programs = ["pkg-config"]')
        self.assertIn("it lacks the library that pkg-config calls `gull`, which `gull` brings", said)
        said = self.failing("$CC -c a.c", {"a.c": "#include <tern.h>\n"})
        self.assertIn("it lacks the header tern.h\n", said)
        self.assertIn("yarrik find tern", said)

    def test_a_test_of_configure(self) -> None:
        self.failing("false", {"configure.ac": CONFIGURE})
        file = self.root / "s/recipes/user/recipe.toml"
        text = file.read_text().replace('using = "plain"', 'using = "autotools"\nprograms = ["autoreconf"]')
        file.write_text("".join(line for line in text.splitlines(True) if not line.startswith("commands =")))
        said = self.yarrik("build", code=1, at=self.root)
        self.assertIn("configure: error: it wants wings", said)
        self.assertRegex(
            said, r"config\.log has:\n +checking for gull/wing\.h\n +conftest\.c:\d+:\d+: fatal error: gull/wing\.h"
        )
        self.assertIn("which `gull` brings", said)


if __name__ == "__main__":
    unittest.main()
