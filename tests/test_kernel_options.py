"""`yarrik kernel show`, `set` and `check`, on made-up Kconfig files; the kernel's own program judges in tests/emulated_boards.py."""

import subprocess
import unittest
from pathlib import Path

from tests.test_kernel import PretendedKernel
from yarrik.errors import Place
from yarrik.run.kconfig import Options, parse_expression
from yarrik.run.kernel_options import Configured, Given

KCONFIG = """
config SERIAL
\tbool "Serial port"
\thelp
\t  The port that the gauge talks through.

\t  Second paragraph.

config GAUGE
\ttristate "Gauge"
\tdepends on SERIAL && (BUS || TEST)
\tselect MATHS
\tdefault y if EXPERT

config BUS
\tbool "Bus"
\tdepends on !SMALL

config TEST
\tbool "Test"
\tdepends on BUS2 && BUS3
config BUS2
\tbool "b2"
config BUS3
\tbool "b3"

config SMALL
\tbool "Small"

config MATHS
\tbool

config HIDDEN
\tbool

config RATE
\tint "Rate"
\tdefault 115200

config FIRST
\tbool "First"
\tdefault y

choice
\tprompt "Colour"
config RED
\tbool "Red"
config GREEN
\tbool "Green"
endchoice
"""


def configured(final: str, *fragments: str, base: str | None = "", base_name: str = "gauge_defconfig") -> Configured:
    known = Options.of_files(["Kconfig"], lambda path: KCONFIG)
    given = [Given(Path(f"{number}.kcfg"), text) for number, text in enumerate(fragments)]
    return Configured(known, final, given, Given(Path("base"), base) if base is not None else None, base_name, {}, Place())


class WhoSetIt(unittest.TestCase):
    def test_fragment_base_select_and_default(self) -> None:
        one = configured(
            "CONFIG_SERIAL=y\nCONFIG_BUS=y\nCONFIG_GAUGE=m\nCONFIG_MATHS=y\nCONFIG_RATE=115200\n",
            "# x\nCONFIG_GAUGE=m\n", base="CONFIG_SERIAL=y\nCONFIG_BUS=y\n",
        )  # fmt: skip
        for name, by, place in (("GAUGE", "fragment", "0.kcfg:2"), ("SERIAL", "base", "base:1"), ("MATHS", "select", "Kconfig:9"),
                                ("RATE", "default", "Kconfig:36"), ("SMALL", "default", "Kconfig:27")):  # fmt: skip
            facts = one.facts(name)
            assert facts is not None
            self.assertEqual((facts.set_by, str(facts.place)), (by, place), name)
        gauge, maths, serial = one.facts("GAUGE"), one.facts("MATHS"), one.facts("SERIAL")
        assert gauge is not None and maths is not None and serial is not None
        self.assertEqual([(each.text, each.holds) for each in gauge.depends], [("SERIAL && (BUS || TEST)", True)])
        self.assertEqual((maths.prompt, maths.selected_by), ("", ("GAUGE",)))
        self.assertEqual(serial.help, "The port that the gauge talks through.\n\nSecond paragraph.")
        self.assertIsNone(one.facts("GAUG"))
        self.assertIn("GAUGE", one.like("GAUG"))


class WhatLinesDo(unittest.TestCase):
    def test_each_verdict_and_the_three_ways_to_be_redundant(self) -> None:
        one = configured(
            "CONFIG_SERIAL=y\nCONFIG_GAUGE=y\nCONFIG_BUS=y\nCONFIG_MATHS=y\nCONFIG_RATE=115200\nCONFIG_RED=y\nCONFIG_FIRST=y\n",
            "CONFIG_SERIAL=y\nCONFIG_GONE=y\nCONFIG_MATHS=y\nCONFIG_RATE=115200\nCONFIG_TEST=y\nCONFIG_GREEN=y\nCONFIG_GAUGE=m\n",
            "CONFIG_GAUGE=y\nCONFIG_BUS=y\nCONFIG_BUS=y\n",
            base="CONFIG_SERIAL=y\n",
        )
        rows = {(row.option, row.place.line): (row.verdict, row.why) for row in one.lines()}
        self.assertEqual(rows[("SERIAL", 1)], ("redundant", "the base gauge_defconfig says it"))
        self.assertEqual(rows[("GONE", 2)][0], "unknown")
        self.assertEqual(rows[("MATHS", 3)], ("redundant", "GAUGE selects it"))
        self.assertEqual(rows[("RATE", 4)], ("redundant", "it is the default"))
        self.assertEqual(rows[("TEST", 5)][0], "lost")
        self.assertIn("BUS2 and BUS3 are not set", rows[("TEST", 5)][1])
        self.assertEqual(rows[("GREEN", 6)], ("lost", "it is one of a choice, and RED is chosen"))
        self.assertEqual(rows[("GAUGE", 7)], ("overruled", "1.kcfg:1 says otherwise"))
        self.assertNotIn(("GAUGE", 1), rows)

    def test_a_base_that_turns_all_off_makes_no_default_redundant(self) -> None:
        one = configured("CONFIG_FIRST=y\n", "CONFIG_FIRST=y\n", base=None, base_name="tinyconfig")
        self.assertEqual(list(one.lines()), [])


class WishesBringWhatTheyNeed(unittest.TestCase):
    def wish(self, final: str, **wanted: str) -> tuple[dict[str, str], list[tuple[str, str]]]:
        found = configured(final).wish(wanted)
        return dict(found.values), [(one.option, one.why) for one in found.obstacles]

    def test_the_shorter_of_two_ways(self) -> None:
        self.assertEqual(self.wish("", GAUGE="y"), ({"GAUGE": "y", "SERIAL": "y", "BUS": "y"}, []))
        self.assertEqual(self.wish("CONFIG_BUS2=y\n", TEST="y")[0], {"TEST": "y", "BUS3": "y"})

    def test_what_stands_against_it_is_turned_off_unless_something_holds_it(self) -> None:
        self.assertEqual(self.wish("CONFIG_SMALL=y\n", BUS="y"), ({"BUS": "y", "SMALL": "n"}, []))
        self.assertEqual(self.wish("", BUS="y", SMALL="y")[1][0][0], "BUS")

    def test_what_nobody_can_set(self) -> None:
        self.assertEqual(self.wish("", HIDDEN="y")[1], [("HIDDEN", "it has no prompt, and nothing selects it")])
        self.assertEqual(self.wish("", MATHS="y")[0], {"MATHS": "y", "GAUGE": "y", "SERIAL": "y", "BUS": "y"})
        self.assertEqual(self.wish("CONFIG_GAUGE=y\nCONFIG_MATHS=y\n", MATHS="n")[1], [("MATHS", "GAUGE selects it")])
        self.assertEqual(self.wish("", NO="y")[1], [("NO", "no Kconfig file of this tree defines it")])

    def test_values_that_do_not_fit_the_type(self) -> None:
        for name, value in (("SERIAL", "m"), ("RATE", "fast"), ("GAUGE", "2")):
            self.assertIn("is no value for it", self.wish("", **{name: value})[1][0][1])
        self.assertEqual(self.wish("", RATE="9600"), ({"RATE": "9600"}, []))

    def test_expressions_are_parsed_as_they_bind(self) -> None:
        found = parse_expression("A && !B || (C && D=y)")
        self.assertEqual((found.kind, [part.kind for part in found.parts]), ("or", ["and", "and"]))
        self.assertEqual([part.kind for part in found.parts[0].parts], ["option", "not"])
        self.assertEqual([part.text for part in found.parts[1].parts], ["C", "D"])
        self.assertEqual(parse_expression("(" * 5000 + "A" + ")" * 5000).kind, "other")
        self.assertEqual(parse_expression("A )").kind, "other")


class TheCommandSetsOptions(PretendedKernel):
    def setUp(self) -> None:
        super().setUp()
        (self.folder / "linux-9.9/Kconfig").write_text(
            'config GAUGE\n\tbool "Gauge"\n\tdepends on SERIAL\nconfig SERIAL\n\tbool "Serial"\nconfig MORE\n\tbool "More"\n'
            'config LATE\n\tbool "Late"\n'
        )
        subprocess.run(["tar", "-C", self.folder, "-cJf", self.folder / "linux.tar.xz", "linux-9.9"], check=True)

    def test_with_what_it_depends_on_into_the_board_s_last_fragment(self) -> None:
        self.write("w/s/boards/b.kcfg", "# ours\nCONFIG_SERIAL=n\n# CONFIG_MORE is not set\n")
        said = self.yarrik("kernel", "set", "GAUGE=y", "CONFIG_MORE=y", at=self.root)
        self.assertIn("CONFIG_SERIAL  n  ->  y  it is needed for that", said)
        lines = (self.root / "s/boards/b.kcfg").read_text().splitlines()
        self.assertEqual(lines, ["# ours", "CONFIG_GAUGE=y", "CONFIG_MORE=y", "CONFIG_SERIAL=y"])
        said = self.yarrik("kernel", "show", "GAUGE", at=self.root)
        self.assertIn("set by      the fragment, s/boards/b.kcfg:2", said)
        self.assertIn("depends on  SERIAL  (holds)", said)
        self.assertIn("nothing was written", self.yarrik("kernel", "set", "GAUGE=y", at=self.root))
        facts = self.yarrik_json("kernel", "show", "GAUGE", at=self.root)
        self.assertEqual((facts[0]["value"], facts[0]["set_by"]), ("y", "fragment"))
        self.assertIn("each does what it says", self.yarrik("kernel", "check", at=self.root))

    def test_a_new_fragment_is_listed_and_all_is_as_before_when_the_kernel_refuses(self) -> None:
        self.yarrik("kernel", "set", "MORE=y", "--fragment", "more.kcfg", at=self.root)
        self.assertIn('fragments = ["b.kcfg", "more.kcfg"]', (self.root / "s/boards/b.toml").read_text())
        before = {path: path.read_bytes() for path in (self.root / "s/boards").iterdir()}
        # The kernel's own program knows better than its Kconfig files: it drops this one.
        (self.folder / "linux-9.9/settle").write_text("sed '/CONFIG_LATE=y/d'\n")
        subprocess.run(["tar", "-C", self.folder, "-cJf", self.folder / "linux.tar.xz", "linux-9.9"], check=True)
        self.yarrik("build", "--renew-lock", at=self.root)
        said = self.yarrik("kernel", "set", "LATE=y", "--fragment", "late.kcfg", at=self.root, code=1)
        self.assertIn("error KERNEL-OPTION-LOST: CONFIG_LATE=y", said)
        self.assertEqual({path: path.read_bytes() for path in (self.root / "s/boards").iterdir()}, before)

    def test_what_cannot_be_is_said_before_anything_is_written(self) -> None:
        for words, code in ((("set", "GAUGE"), "KERNEL-OPTION-FORM"), (("set", "NO_SUCH=y"), "KERNEL-OPTION-IMPOSSIBLE"),
                            (("show", "NO_SUCH"), "KERNEL-OPTION-UNKNOWN"), (("set", "MORE=y", "--fragment", "../x"), "FRAGMENT-NAME")):  # fmt: skip
            self.assertIn(f"error {code}", self.yarrik("kernel", *words, at=self.root, code=2))
        self.assertEqual((self.root / "s/boards/b.kcfg").read_text(), "CONFIG_SERIAL=y\nCONFIG_GAUGE=y\n")

    def test_check_lists_lost_lines_though_the_build_stops_at_them(self) -> None:
        self.write("w/s/boards/b.kcfg", "CONFIG_GAUGE=y\nCONFIG_NO_SUCH=y\n")
        said = self.yarrik("kernel", "check", at=self.root, code=1)
        self.assertIn("lost       CONFIG_GAUGE=y  s/boards/b.kcfg:1", said)
        shown = self.yarrik("kernel", "show", "GAUGE", at=self.root)
        self.assertIn("asked for   y, s/boards/b.kcfg:1, and lost", shown)
        self.assertIn("it depends on SERIAL", said)
        self.assertIn("unknown    CONFIG_NO_SUCH=y  s/boards/b.kcfg:2", said)
        rows = self.yarrik_json("kernel", "check", at=self.root, code=1)
        self.assertEqual([row["verdict"] for row in rows["lines"]], ["lost", "unknown"])
