"""How things look: with and without a terminal."""

import contextlib
import io
import json
import os
import re
import time
import unittest
from pathlib import Path
from unittest import mock

from tests.support import FolderTest
from yarrik.cli.terminal import SafeStream
from yarrik.cli.view import BuildView, EventLines, show_error, show_notes, show_table, sign_of_life, styled
from yarrik.errors import Collector, Place, Trouble, YarrikError, listed, nearest, shown_path, suggestion
from yarrik.run import Progress, StepEnded, StepStarted, StillRunning, SubjectEnded
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

    def test_comparing_places_reads_no_file(self) -> None:
        finder = mock.Mock(return_value=5)
        one, other = (Place(Path("/f"), key="k", finder=finder) for _ in range(2))
        self.assertEqual(one, other)
        self.assertEqual(len({one, other, Place(Path("/f"), 3, "k")}), 2)
        finder.assert_not_called()

    def test_words_are_listed_however_many_there_are(self) -> None:
        self.assertEqual(
            [listed(words) for words in ([], ["a"], ["a", "b"], ["a", "b", "c"])], ["", "a", "a and b", "a, b and c"]
        )

    def test_a_path_is_shown_whole_where_a_relative_one_would_mislead(self) -> None:
        before = Path.cwd()
        self.addCleanup(os.chdir, before)
        os.chdir("/usr")
        self.assertEqual([shown_path(Path("/usr/x")), shown_path(Path("/x"))], ["x", "/x"])
        os.chdir("/")
        self.assertEqual(shown_path(Path("/nonexistent")), "/nonexistent")

    def test_near_words_are_suggested_and_far_ones_listed(self) -> None:
        self.assertEqual(nearest("sise", ["size", "name"]), "size")
        self.assertEqual(nearest("COPYING", ["copying", "COPY.sh"]), "copying")
        self.assertEqual(suggestion("zzz", ["b", "a"]), "known here: a, b")
        self.assertEqual(suggestion("x", []), "none is known here")


class BuildsAreFollowed(unittest.TestCase):
    halfway = Progress(8, 3, 1, 0, 130.0)

    def events(self, view: BuildView | EventLines) -> None:
        reason = "source changed: src/tide.c"
        view(StepStarted("build tide", reason, self.halfway, 12.0))
        view(StillRunning(self.halfway))
        view(StepEnded("build tide", "ran", 1.25, self.halfway, same=True))
        view(SubjectEnded("tide", ("prepare", "build"), 1.25, reason, False, True))
        view(StepEnded("stage tide", "shared", 0.0, self.halfway))
        view(StepStarted("build log", "never built here", self.halfway))
        view(StepEnded("build log", "failed", 0.5, self.halfway, "`make` ended with exit code 2"))
        view(SubjectEnded("log", ("build",), 0.5, "never built here", True, False))
        view.close()

    def test_without_a_terminal_there_is_a_plain_line_for_each_step(self) -> None:
        text = said(lambda: self.events(BuildView()))
        lines = text.splitlines()
        self.assertRegex(lines[0], r"^  = build tide +1\.25 s  came out the same; source changed: src/tide.c$")
        self.assertRegex(lines[1], r"^  ↓ stage tide +0\.00 s  from a shared cache$")
        self.assertRegex(lines[2], r"^  ✗ build log +0\.50 s  never built here$")
        self.assertEqual(len(lines), 3)
        self.assertNotIn("\x1b", text)
        self.assertNotIn("\r", text)

    def test_with_a_terminal_what_runs_and_how_far_it_is_shows_and_goes(self) -> None:
        with mock.patch.dict("os.environ", {"TERM": "xterm", "COLUMNS": "110", "LINES": "30"}):
            import os

            os.environ.pop("NO_COLOR", None)
            text = said(lambda: self.events(BuildView()), Terminal())
        plain = re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", text)
        self.assertIn("4 of 8 steps, 3 kept, 1 from a shared cache, about 2 min 10 s left", plain)
        self.assertRegex(plain, r"build tide +0 s of about 12 s")
        self.assertRegex(plain, r"= tide +prepare, build +1\.25 s  came out the same")
        self.assertRegex(plain, r"✗ log +build +0\.50 s  `make` ended with exit code 2")
        self.assertTrue(text.rstrip("\n").endswith("\x1b[2K") or "\x1b[?25h" in text[-40:], "the moving lines stay behind")

    def test_a_long_step_gives_a_sign_of_life_each_minute(self) -> None:
        view = BuildView()
        with mock.patch("time.monotonic", side_effect=[0.0, 59.0, 61.0, 62.0, 121.0]):
            text = said(
                lambda: [
                    view(StepStarted("build linux", "", self.halfway, 400.0)),
                    *(view(StillRunning(self.halfway)) for _ in range(4)),
                ]
            )
        self.assertEqual(text.splitlines(), [f"  … build linux runs since {n} min of about 6 min 40 s" for n in (1, 2)])

    def test_machines_get_each_event_as_a_line(self) -> None:
        lines = [json.loads(line) for line in said(lambda: self.events(EventLines())).splitlines()]
        self.assertEqual([line["event"] for line in lines], ["step-started", "step-ended", "subject-ended", "step-ended",
                                                             "step-started", "step-ended", "subject-ended"])  # fmt: skip
        self.assertEqual(lines[0]["progress"]["seconds_left"], 130.0)

    def test_colours_can_be_refused(self) -> None:
        with mock.patch.dict("os.environ", {"NO_COLOR": "1"}):
            self.assertNotIn("\x1b", said(lambda: self.events(BuildView()), Terminal()))

    def test_notes_come_once_and_tables_line_up(self) -> None:
        self.assertEqual(said(lambda: show_notes(["one", "two", "one"])), "note  one\nnote  two\n")
        self.assertEqual(
            said(lambda: show_table([("a", "1", "x"), ("bbb", "22", "")], right=(1,))), "  a     1  x\n  bbb  22\n"
        )


class TablesFitTheTerminal(unittest.TestCase):
    ROWS = (("boot", "1", "\033]0;owned\007 " + "word " * 12), ("水位計", "20", "short"))

    def shown(self, screen: io.StringIO, rows: object = ROWS) -> list[str]:
        stream = SafeStream(screen) if screen.isatty() else screen
        with mock.patch("sys.stdout", stream), mock.patch.dict(os.environ, {"COLUMNS": "50", "TERM": "xterm"}):
            show_table(rows, right=(1,))
        return screen.getvalue().splitlines()

    def test_the_last_column_folds_wide_signs_count_twice_and_nothing_steers_the_terminal(self) -> None:
        lines = self.shown(Terminal())
        self.assertEqual(lines[0], "  boot     1  \\x1b]0;owned\\x07 word word word word")
        self.assertEqual(lines[1], "              word word word word word word word")
        self.assertEqual(lines[-1], "  水位計  20  short")
        self.assertLessEqual(max(map(len, lines)), 50)

    def test_styles_take_no_room(self) -> None:
        with mock.patch("yarrik.cli.view.coloured", return_value=True):
            bold = styled("a", "bold")
            lines = self.shown(Terminal(), ((bold, "x"), ("bc", "y")))
        self.assertEqual([re.sub("\033\\[[0-9;]*m", "", line) for line in lines], ["  a   x", "  bc  y"])
        self.assertIn("\033[1ma", lines[0])

    def test_a_file_gets_a_line_for_each_row_and_so_does_a_screen_with_thousands(self) -> None:
        self.assertEqual(len(self.shown(io.StringIO())), 2)
        self.assertEqual(len(self.shown(Terminal(), [("a", "word " * 40)] * 501)), 501)


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
            deadline = time.monotonic() + 120
            while "written in" not in said.getvalue() and time.monotonic() < deadline:
                time.sleep(0.01)
        self.assertRegex(said.getvalue(), r"^  … [0-9.]+ (KiB|B) written in \d+ s\n")


if __name__ == "__main__":
    unittest.main()
