"""A bootloader's commands followed over an image: what they mean, and scripts that would keep the bench busy for ever."""

import io
import time
import tracemalloc
import unittest

from yarrik.boot.commands import Commands, ScriptUnclear
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import BenchBoard, Story
from yarrik.disk import CpioReader, OpenedImage

EMPTY = b"070701" + b"0" * 88 + b"0000000B" + b"00000000" + b"TRAILER!!!\0\0\0\0"


def shell(size: int = 1 << 20, options: dict[str, str] | None = None) -> Commands:
    story = Story(io.BytesIO(bytes(size)), OpenedImage("gpt", size, ()), "card.img", BenchBoard(options=options or {}))
    return Commands(story, None, Filesystem(CpioReader(io.BytesIO(EMPTY), 0, len(EMPTY))))


class WhatCommandsMean(unittest.TestCase):
    def after(self, text: str, name: str = "x") -> str:
        one = shell()
        one.follow(text)
        return one.variables.get(name, "")

    def test_conditions_quotes_and_variables(self) -> None:
        for text, value in (
            ("setenv x a", "a"),
            ("setenv x 'a  ${y}'", "a  ${y}"),
            ('setenv y 1; setenv x "a  ${y}"', "a  1"),
            ("setenv x a b   c", "a b c"),
            ("setenv y 1\nsetenv x $y${y}", "11"),
            ("setenv x a; # setenv x b", "a"),
            ("setenv x a#b", "a#b"),
            ("setenv x a \\\n b", "a b"),
            ("if true; then setenv x a; else setenv x b; fi", "a"),
            ("if false; then setenv x a; elif test a = b; then setenv x b; else setenv x c; fi", "c"),
            ("if false || test 1 != 2 && true; then setenv x a; fi", "a"),
            ("if test -n ''; then setenv x a; fi", ""),
            ('if test -n "${unknown}"; then setenv x a; else setenv x b; fi', "b"),
            ('if test -z "${unknown}"; then setenv x a; fi', "a"),
            ("if true; then if false; then setenv x a; fi; setenv x b; fi", "b"),
            ("false && setenv x a; true && setenv x b", "b"),
            ("setenv y 'setenv x 7; setenv z 8'; run y", "7"),
            ("setexpr x ff + 1", "100"),
            ("setexpr x 3 - 1", "2"),
            ("setenv x; setenv x a; setenv x", ""),
            ("unknown-command; setenv x a", "a"),
            ("setenv x " + "a " * 14, "a " * 13 + "a"),
            ("setenv x " + "a " * 15, ""),  # more words than a command may have
            ("setenv y '" + "a " * 15 + "'; setenv x ${y}", ""),
            ("setenv y '" + "a " * 15 + '\'; setenv x "${y}"', "a " * 15),
        ):
            self.assertEqual(self.after(text), value, text)

    def test_what_is_written_is_read_again_and_changes_nothing(self) -> None:
        for options in ({}, {"SYS_REDUNDAND_ENVIRONMENT": "y"}):
            one = shell(options=options)
            one.follow("setenv a 1; setenv b; env export -c -s 200 1000 a b && disk write 1000 4 1; setenv a 2\n"
                       "disk read 2000 4 1 && env import -c 2000 200 a b && setenv good yes")  # fmt: skip
            self.assertEqual((one.variables["a"], one.variables["good"]), ("1", "yes"))
            self.assertEqual(one.story.file.getvalue(), bytes(1 << 20))  # type: ignore[attr-defined]
        one = shell()
        one.follow("disk read 2000 5 1 && env import -c 2000 200 a || setenv bad yes; disk read 2000 900 1 || setenv far yes")
        self.assertEqual((one.variables["bad"], one.variables["far"]), ("yes", "yes"))

    def test_what_starts_ends_it(self) -> None:
        one = shell()
        self.assertTrue(one.follow("if false; then bootm 1; fi; bootm 2 - 3; setenv x a"))
        self.assertEqual((one.starts, "x" in one.variables), (["bootm", "2", "-", "3"], False))

    def test_what_cannot_be_followed(self) -> None:
        for text in ("if true; then", "fi", "for x in a; do run x; done", "if true; fi", "a && ; b", "setenv x 'a", "&& a",
                     "setenv x 'run x'; run x"):  # fmt: skip
            with self.assertRaises(ScriptUnclear, msg=text):
                shell().follow(text)

    def test_scripts_that_would_take_all_there_is(self) -> None:
        doubling = "setenv x aaaaaaaa;" + 'setenv x "${x}${x}";' * 60
        for text in (
            doubling,
            "setenv x aaaa; setenv x " + '"${x}"' * 200_000,
            "setenv x a; " + 'setenv x "${x}" "${x}" "${x}" "${x}";' * 20,
            "setenv x '" + "true;" * 100_000 + "'; " + "run x;" * 9_000,
            "if true; then " * 5_000 + "true" + "; fi" * 5_000,
            "".join(f"disk read {number:x} 0 800;" for number in range(5_000)),
            "env export -c -s ffffffffffff 1000 x",
            "setenv a 'run b'; setenv b 'run a'; run a",
            "true;" * 20_000,
        ):
            tracemalloc.start()
            began = time.process_time()
            with self.assertRaises(ScriptUnclear, msg=text[:60]):
                shell().follow(text)
            most = tracemalloc.get_traced_memory()[1]
            tracemalloc.stop()
            self.assertLess(most, 256 << 20, text[:60])
            self.assertLess(time.process_time() - began, 60, text[:60])


if __name__ == "__main__":
    unittest.main()
