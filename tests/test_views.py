"""How things look: with and without a terminal."""

import contextlib
import io
import time
import unittest
from pathlib import Path
from unittest import mock

from tests.support import FolderTest
from yarrik.cli.view import BuildView, show_error, show_notes, show_table, sign_of_life
from yarrik.errors import Collector, Place, Trouble, YarrikError, nearest, suggestion
from yarrik.run import StepEnded, StepStarted, StillRunning, SubjectEnded
from yarrik.units import parse_size, round_up, shown_size


class Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


def said(action, stream: io.StringIO | None = None, error: bool = False) -> str:
    out = stream or io.StringIO()
    with contextlib.redirect_stderr(out) if error else contextlib.redirect_stdout(out):
        action()
    return out.getvalue()


class ErrorsAreShown(unittest.TestCase):
    trouble = Trouble("CODE", "it broke", Place(Path("/x/y.toml"), 7, "a.b"), "because", "mend it")

    def test_what_where_why_and_what_next(self) -> None:
        text = said(lambda: show_error(YarrikError(self.trouble), False), error=True)
        self.assertEqual(text, "error CODE: it broke\n  where  /x/y.toml:7 [a.b]\n  why    because\n  next   mend it\n")

    def test_what_is_not_known_is_left_out_and_several_are_counted(self) -> None:
        text = said(lambda: show_error(YarrikError([Trouble("A", "one"), Trouble("B", "two")]), False), error=True)
        self.assertEqual(text, "error A: one\nerror B: two\n2 errors\n")

    def test_machines_get_json(self) -> None:
        import json

        answer = json.loads(said(lambda: show_error(YarrikError(self.trouble), True)))
        self.assertEqual(
            answer["troubles"][0],
            {
                "code": "CODE",
                "what": "it broke",
                "file": "/x/y.toml",
                "line": 7,
                "key": "a.b",
                "why": "because",
                "remedy": "mend it",
            },
        )

    def test_whose_fault_it_is_decides_the_exit_code(self) -> None:
        self.assertEqual([YarrikError(self.trouble).exit_code, YarrikError(self.trouble, "work").exit_code], [2, 1])

    def test_a_collector_raises_all_at_once_and_each_only_once(self) -> None:
        collector = Collector()
        collector.raise_if_any()
        collector.extend([self.trouble, self.trouble, Trouble("B", "two")])
        with self.assertRaises(YarrikError) as caught:
            collector.raise_if_any()
        self.assertEqual([trouble.code for trouble in caught.exception.troubles], ["CODE", "B"])

    def test_a_place_finds_its_line_only_when_asked(self) -> None:
        finder = mock.Mock(return_value=5)
        place = Place(Path("/f"), key="k", finder=finder)
        finder.assert_not_called()
        self.assertEqual((str(place), place.line), ("/f:5 [k]", 5))
        finder.assert_called_once()

    def test_near_words_are_suggested_and_far_ones_listed(self) -> None:
        self.assertEqual(nearest("sise", ["size", "name"]), "size")
        self.assertEqual(suggestion("zzz", ["b", "a"]), "known here: a, b")
        self.assertEqual(suggestion("x", []), "none is known here")


class BuildsAreFollowed(unittest.TestCase):
    def events(self, view: BuildView) -> None:
        view(StepStarted("build tide", "source changed: src/tide.c", 4))
        view(StepEnded("build tide", False))
        view(SubjectEnded("tide", ("prepare", "build"), 1.25, "source changed: src/tide.c", False, True))
        view(SubjectEnded("log", ("build",), 0.5, "never built here", True, False))
        view.close()

    def test_without_a_terminal_there_are_plain_lines_without_control_characters(self) -> None:
        text = said(lambda: self.events(BuildView()))
        lines = text.splitlines()
        self.assertRegex(lines[0], r"^  = tide +prepare, build +1\.25 s  came out the same; source changed: src/tide.c$")
        self.assertRegex(lines[1], r"^  ✗ log +build +0\.50 s  never built here$")
        self.assertNotIn("\x1b", text)
        self.assertNotIn("\r", text)

    def test_with_a_terminal_the_running_step_shows_and_goes(self) -> None:
        with mock.patch.dict("os.environ", {"TERM": "xterm", "COLUMNS": "90"}):
            import os

            os.environ.pop("NO_COLOR", None)
            text = said(lambda: self.events(BuildView()), Terminal())
        self.assertIn("running: build tide; 4 steps left", text)
        self.assertTrue(text.endswith("\r\x1b[K"))
        self.assertIn("…", text)

    def test_a_long_step_gives_a_sign_of_life_each_minute(self) -> None:
        view = BuildView()
        with mock.patch("time.monotonic", side_effect=[0.0, 59.0, 61.0, 62.0, 121.0]):
            text = said(lambda: [view(StepStarted("build linux", "", 0)), *(view(StillRunning()) for _ in range(4))])
        self.assertEqual(text, "  … build linux runs since 1 min\n  … build linux runs since 2 min\n")

    def test_nobody_who_wants_json_gets_lines(self) -> None:
        self.assertEqual(said(lambda: self.events(BuildView(quiet=True))), "")

    def test_colours_can_be_refused(self) -> None:
        with mock.patch.dict("os.environ", {"NO_COLOR": "1"}):
            self.assertNotIn("\x1b", said(lambda: self.events(BuildView()), Terminal()))

    def test_notes_come_once_and_tables_line_up(self) -> None:
        self.assertEqual(said(lambda: show_notes(["one", "two", "one"])), "note  one\nnote  two\n")
        self.assertEqual(
            said(lambda: show_table([("a", "1", "x"), ("bbb", "22", "")], right=(1,))), "  a     1  x\n  bbb  22\n"
        )


class SizesAreReadAndShown(unittest.TestCase):
    def test_with_or_without_a_blank_in_any_case(self) -> None:
        for text, count in (
            ("48 MiB", 48 << 20),
            ("1GiB", 1 << 30),
            ("4kib", 4096),
            ("17", 17),
            ("9 B", 9),
            (" 2 TiB ", 2 << 40),
        ):
            self.assertEqual(parse_size(text), count)

    def test_what_is_no_size_is_told_with_a_sentence(self) -> None:
        for text, words in (
            ("48 MB", "not a unit"),
            ("lots", "not a size"),
            ("-1 MiB", "not a size"),
            ("1.5 MiB", "not a size"),
            ("", "not a size"),
        ):
            with self.assertRaisesRegex(ValueError, words):
                parse_size(text)

    def test_they_are_shown_with_three_figures_at_most(self) -> None:
        self.assertEqual(
            [shown_size(n) for n in (0, 1023, 1024, 1536, 11 << 20, 5 << 40)],
            ["0 B", "1023 B", "1.0 KiB", "1.5 KiB", "11.0 MiB", "5120.0 GiB"],
        )
        self.assertEqual([round_up(n, 4) for n in (0, 1, 4, 5)], [0, 4, 4, 8])


class LongWorkGivesASignOfLife(FolderTest):
    def test_it_tells_how_far_a_file_is(self) -> None:
        file = self.folder / "out"
        said = io.StringIO()
        with contextlib.redirect_stderr(said), sign_of_life(file, every=0.01):
            file.write_bytes(b"x" * 100_000)
            deadline = time.monotonic() + 20
            while "written in" not in said.getvalue() and time.monotonic() < deadline:
                time.sleep(0.01)
        self.assertRegex(said.getvalue(), r"^  … [0-9.]+ (KiB|B) written in \d+ s\n")


if __name__ == "__main__":
    unittest.main()
