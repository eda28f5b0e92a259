"""Regular expressions that are compiled when they are first used."""

import re
import subprocess
import sys
import unittest
from unittest import mock

from yarrik.patterns import lazy_pattern


class Patterns(unittest.TestCase):
    def test_they_find_what_compiled_ones_find(self) -> None:
        for text, flags, subject in (
            (r"(?P<word>[a-z]+)\d", 0, "gull7 tern8"),
            (r"^LOW$", re.I | re.M, "high\nlow"),
            (r"x", 0, ""),
        ):
            lazy, compiled = lazy_pattern(text, flags), re.compile(text, flags)
            for name in ("match", "fullmatch", "search"):
                found, wanted = getattr(lazy, name)(subject), getattr(compiled, name)(subject)
                self.assertEqual(found and found.groupdict(), wanted and wanted.groupdict())
            self.assertEqual(lazy.findall(subject), compiled.findall(subject))
            self.assertEqual(lazy.sub("-", subject), compiled.sub("-", subject))
            self.assertEqual((lazy.pattern, lazy.flags, lazy.groups), (compiled.pattern, compiled.flags, compiled.groups))
        self.assertEqual(lazy_pattern(rb"\x00(.)").findall(b"\0a\0b"), [b"a", b"b"])

    def test_each_is_compiled_once_and_only_when_it_is_used(self) -> None:
        with mock.patch("re.compile", wraps=re.compile) as compile_:
            lazy = lazy_pattern("a+")
            self.assertEqual(compile_.call_count, 0)
            for _ in range(3):
                self.assertIsNotNone(lazy.match("aa"))
            self.assertEqual(compile_.call_count, 1)

    def test_what_is_no_attribute_of_one_is_an_error(self) -> None:
        with self.assertRaises(AttributeError):
            lazy_pattern("a").matches  # type: ignore[attr-defined]  # noqa: B018

    def test_modules_compile_hardly_any_when_they_are_loaded(self) -> None:
        program = (
            "import re, sys, typer\n"
            "bare, asked = re.compile, []\n"
            "def compile_(text, flags=0):\n"
            "    if sys._getframe(1).f_globals['__name__'].startswith('yarrik'): asked.append(text)\n"
            "    return bare(text, flags)\n"
            "re.compile = compile_\n"
            "import yarrik.cli.build, yarrik.run.building, yarrik.run.rebuilding, yarrik.boot.bench, yarrik.patterns\n"
            "print(len(asked), asked, 'yarrik.model.rules' in sys.modules)\n"
        )
        done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout, "0 [] True\n")


if __name__ == "__main__":
    unittest.main()
