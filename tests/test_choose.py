"""Choosing a product's parts: edits of its file that keep comments and order, tried by the solver, in a terminal of 80 x 24."""

import asyncio
import fcntl
import json
import os
import pty
import re
import select
import struct
import subprocess
import sys
import termios
import time
import tomllib
from collections.abc import Callable
from typing import Any
from unittest import mock

from textual.pilot import Pilot

from tests.support import WorkspaceTest
from yarrik.cli.choose_view import ChooseApp
from yarrik.errors import YarrikError
from yarrik.run import Choosing, Session

PRODUCT = """# The gauge.
board = "b"              # on the pier
profile = "p"
image = "i"

[options.plot]           # of the charts
colour = true
"""


class ChooseTest(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        patched = mock.patch.dict(os.environ, self.environment)
        patched.start()
        self.addCleanup(patched.stop)
        self.write("w/products/p.toml", PRODUCT)
        self.write("w/s/boards/other.toml", 'summary = "Another board"\nextends = "b"\n')
        self.recipe(
            "plot", "true", package='[options.colour]\nsummary = "In colours"\n[options.large]\nsummary = "On large paper"'
        )
        self.recipe(
            "chart", "true", more='needs = ["plot"]', package='[package.chart]\nsummary = "Draws charts"\nneeds = ["plot"]'
        )
        self.recipe("keys", "true", package='[package.keys]\nsummary = "Two keys"\nexcludes = ["touch"]')
        self.recipe("touch", "true", package='[package.touch]\nsummary = "A touch screen"')
        self.write("w/s/images/i.toml", 'packages = ["init", "plot"]\n')
        self.file = self.root / "products/p.toml"
        self.session = Session(self.root)
        self.addCleanup(self.session.close)
        self.choosing = Choosing(self.session, "p")

    def marks(self, page: Any) -> dict[str, str]:
        return {one.name: one.mark for one in self.choosing.items(page)}


class TheChoiceItself(ChooseTest):
    def test_what_there_is_with_what_is_chosen_and_what_comes_along(self) -> None:
        self.assertEqual(self.marks("board"), {"b": "on", "other": "off"})
        marks = self.marks("packages")
        self.assertEqual((marks["init"], marks["libc"], marks["chart"]), ("on", "along", "off"))
        self.assertEqual(self.marks("options"), {"plot[colour]": "on", "plot[large]": "off"})

    def test_a_change_keeps_comments_and_order_and_is_taken_back(self) -> None:
        self.choosing.choose("packages", "chart")
        self.choosing.choose("board", "other")
        self.choosing.choose("options", "plot[large]")
        value = tomllib.loads(self.choosing.text)
        self.assertEqual(value["set"]["image"]["packages"], {"add": ["chart"]})
        self.assertEqual((value["board"], value["options"]["plot"]), ("other", {"colour": True, "large": True}))
        for comment in ("# The gauge.", "# on the pier", "# of the charts"):
            self.assertIn(comment, self.choosing.text)
        self.assertEqual(self.marks("packages")["chart"], "on")
        for _ in range(3):
            self.assertTrue(self.choosing.undo())
        self.assertFalse(self.choosing.undo())
        self.assertEqual((self.choosing.text, self.choosing.difference()), (PRODUCT, []))

    def test_on_and_off_again_leaves_the_file_as_it_was(self) -> None:
        for name in ("chart", "plot"):
            self.choosing.choose("packages", name)
            self.assertNotEqual(self.choosing.text, PRODUCT)
            self.choosing.choose("packages", name)
            self.assertEqual(self.choosing.text.rstrip(), PRODUCT.rstrip())

    def test_products_that_change_the_list_in_other_ways(self) -> None:
        for text, wanted in (('[set.image]\npackages = ["init"]\n', ["init", "chart"]), ('[set.image.packages]\nadd = ["keys"]\n', {"add": ["keys", "chart"]}),
                             ('[set.image]\nhostname = "x"\n', {"add": ["chart"]}), ('[set.image]\npackages.remove = ["plot"]\n', {"remove": ["plot"], "add": ["chart"]})):  # fmt: skip
            self.file.write_text('board = "b"\nprofile = "p"\nimage = "i"\n' + text)
            session = Session(self.root)
            choosing = Choosing(session, "p")
            choosing.choose("packages", "chart")
            self.assertEqual(tomllib.loads(choosing.text)["set"]["image"]["packages"], wanted, text)
            self.assertIn("chart", choosing.verdict().packages)
            session.close()

    def test_what_it_brings_drops_and_excludes_is_answered(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init"]\n')
        session = Session(self.root)
        self.addCleanup(session.close)
        self.write("w/products/p.toml", 'board = "b"\nprofile = "p"\nimage = "i"\n')
        choosing = Choosing(session, "p")
        self.assertEqual(choosing.effect("packages", "chart").brings, ("chart", "plot"))
        choosing.choose("packages", "keys")
        effect = choosing.effect("packages", "touch")
        self.assertEqual([one.code for one in effect.troubles], ["PACKAGES-EXCLUDE"])
        self.assertEqual(choosing.effect("packages", "keys").drops, ("keys",))
        choosing.choose("packages", "touch")
        self.assertTrue(choosing.verdict().troubles)  # it may be chosen, and is said to be wrong
        self.assertEqual({one.name: one.mark for one in choosing.items("packages")}["touch"], "on")
        choosing.choose("packages", "keys")
        self.assertEqual(choosing.verdict().troubles, ())

    def test_weights_come_from_earlier_builds(self) -> None:
        self.write("w/out/p/packages.json", json.dumps({"packages": [{"name": "plot", "bytes": 1234}]}))
        self.write("w/out/q/packages.json", "damaged")
        self.assertEqual({one.name: one.weight for one in self.choosing.items("packages") if one.weight}, {"plot": 1234})

    def test_saving_does_not_lose_anybodys_change(self) -> None:
        self.choosing.choose("packages", "chart")
        self.file.write_text(PRODUCT + "# theirs\n")
        with self.assertRaises(YarrikError) as caught:
            self.choosing.save()
        self.assertEqual(caught.exception.troubles[0].code, "CHOOSE-CHANGED")
        self.assertIn("# theirs", self.file.read_text())
        self.file.write_text(PRODUCT)
        self.choosing.save()
        self.yarrik("check", at=self.root)
        self.assertIn("chart", self.yarrik_json("resolve", at=self.root)["packages"])

    def test_a_product_of_files_is_refused(self) -> None:
        self.write("files/g.toml", f'board = "b"\nprofile = "p"\nimage = "i"\n[[shelf]]\nname = "s"\npath = "{self.root}/s"\n')
        self.yarrik("build", "g.toml", at=self.folder / "files")
        said = self.yarrik("choose", "--json", at=self.folder / "files/g", code=2)
        self.assertIn("CHOOSE-FILE", said)


class TheView(ChooseTest):
    """With the library's own pilot."""

    def played(
        self, keys: list[str], size: tuple[int, int] = (80, 24), look: Callable[[ChooseApp], None] = lambda app: None
    ) -> ChooseApp:
        app = ChooseApp(self.choosing)

        async def play() -> None:
            async with app.run_test(size=size) as pilot:
                await self.press(pilot, keys)
                look(app)

        asyncio.run(play())
        return app

    async def press(self, pilot: Pilot[Any], keys: list[str]) -> None:
        await pilot.pause()
        for key in keys:
            await pilot.press(*(list(key[1:]) if key.startswith(":") else [key]))
            await pilot.pause()

    def lines(self, app: ChooseApp) -> str:
        return "\n".join(strip.text for strip in app.screen._compositor.render_strips())

    def test_search_choose_and_save(self) -> None:
        seen: list[str] = []
        app = self.played([":chart", "enter"], look=lambda app: seen.append(self.lines(app)))
        self.assertRegex(seen[0], r"p  b, p, \d packages(.|\n)*\[x\] chart +Draws charts")
        app = self.played(["tab", "tab", "enter"])
        self.assertRegex(str(app.return_value), r"saved: \d lines? added, 0 removed in .*p.toml")
        self.assertEqual(tomllib.loads(self.file.read_text())["set"]["image"]["packages"]["add"], ["chart"])

    def test_what_does_not_go_together_is_said_before_it_is_chosen(self) -> None:
        seen: list[str] = []
        self.played([":keys", "enter", *["backspace"] * 4, ":touch"], look=lambda app: seen.append(self.lines(app)))
        self.assertRegex(seen[0], r"touch does not go: .*exclude")

    def test_undo_pages_and_leaving_twice(self) -> None:
        seen: list[str] = []
        self.played([":chart", "enter", "ctrl+z"], look=lambda app: seen.append(self.lines(app)))
        self.assertRegex(seen[-1], r"\[ \] chart")
        app = self.played([":chart", "enter", "escape"], look=lambda app: seen.append(self.lines(app)))
        self.assertIn("Your changes are not saved", seen[-1])
        app = self.played(["escape", "escape"])
        self.assertIsNone(app.return_value)
        self.assertEqual(self.file.read_text(), PRODUCT)
        self.played(["shift+tab"], look=lambda app: seen.append(self.lines(app)))
        self.assertRegex(seen[-1], r"\[x\] p")
        self.played(["shift+tab", "shift+tab"], look=lambda app: seen.append(self.lines(app)))
        self.assertRegex(seen[-1], r"\[x\] b(.|\n)*\[ \] other +Another board")
        self.played(["tab"], look=lambda app: seen.append(self.lines(app)))
        self.assertRegex(seen[-1], r"\[x\] plot\[colour\] +In colours")

    def test_it_fits_a_small_terminal_and_uses_a_large_one(self) -> None:
        for size in ((80, 24), (118, 35), (60, 16)):
            seen: list[str] = []
            self.played([], size, look=lambda app: seen.append(self.lines(app)))  # noqa: B023
            rows = seen[0].split("\n")
            self.assertEqual((len(rows), max(map(len, rows))), (size[1], size[0]))
            self.assertIn("Enter chooses", rows[-1])

    def test_control_characters_of_definitions_are_shown_and_not_obeyed(self) -> None:
        self.write("w/s/boards/odd.toml", 'summary = "a\\u009b2Jb\\u202ec"\nextends = "b"\n')
        session = Session(self.root)
        self.addCleanup(session.close)
        self.choosing = Choosing(session, "p")
        seen: list[str] = []
        self.played(["shift+tab", "shift+tab", ":odd"], look=lambda app: seen.append(self.lines(app)))
        self.assertIn("a\\x9b2Jb\\u202ec", seen[0])


class InARealTerminal(ChooseTest):
    def test_over_a_pseudo_terminal_of_80_by_24(self) -> None:
        outer, inner = pty.openpty()
        fcntl.ioctl(inner, termios.TIOCSWINSZ, struct.pack("HHHH", 24, 80, 0, 0))
        environment = {**self.environment, "TERM": "vt220", "COLUMNS": "80", "LINES": "24"}
        environment.pop("NO_COLOR", None)
        process = subprocess.Popen([sys.executable, "-m", "yarrik", "choose", "p"], cwd=self.root, env=environment,
                                   stdin=inner, stdout=inner, stderr=inner, start_new_session=True)  # fmt: skip
        os.close(inner)
        seen = b""

        def until(wanted: bytes) -> None:
            nonlocal seen
            end = time.monotonic() + 120
            while wanted not in re.sub(rb"\x1b\[[0-9;?]*[a-zA-Z]", b"", seen):
                self.assertLess(time.monotonic(), end, seen[-2000:])
                if select.select([outer], [], [], 1)[0]:
                    try:
                        seen += os.read(outer, 1 << 16)
                    except OSError:
                        break

        until(b"Enter chooses")
        os.write(outer, b"chart")
        until(b"Draws charts")
        time.sleep(0.5)
        os.write(outer, b"\r")
        until(b"[x] chart")
        seen = b""
        os.write(outer, b"\t\t")
        until(b"Enter saves this change")
        os.write(outer, b"\r")
        until(b"saved: ")
        self.assertEqual(process.wait(60), 0)
        os.close(outer)
        self.assertEqual(tomllib.loads(self.file.read_text())["set"]["image"]["packages"]["add"], ["chart"])

    def test_without_a_terminal_it_says_what_to_do_and_json_lists_the_choices(self) -> None:
        self.assertRegex(self.yarrik("choose", at=self.root, code=2), r"choosing needs a terminal(.|\n)*--json")
        found = self.yarrik_json("choose", at=self.root)
        self.assertEqual({one["name"]: one["mark"] for one in found["choices"]["board"]}, {"b": "on", "other": "off"})
