"""Overlays, comparison and checks of device trees; what overlays do is judged by the operating system's own program."""

import json
import random
import unittest
from pathlib import Path

from tests.support import FolderTest, ProgramTest
from yarrik.devicetree import (
    CHECKS,
    SourceError,
    apply_overlay,
    compare_trees,
    compile_and_check,
    compile_source,
    decode_blob,
    encode_blob,
)
from yarrik.errors import YarrikError

BOARDS = Path(__file__).parent.parent / "src/yarrik/demo/data/shelves/harbour/boards"

BASE = """
/dts-v1/;
/memreserve/ 0x1000 0x100;
/ {
    #address-cells = <1>; #size-cells = <1>;
    aliases { serial0 = &uart; };
    uart: serial@1000 { reg = <0x1000 0x10>; clocks = <&clk 1>; status = "disabled"; inner { deep; }; };
    clk: clock { #clock-cells = <1>; phandle = <7>; };
    bus: bus { #address-cells = <1>; #size-cells = <0>; };
};
"""
SENSOR = """
/dts-v1/;
/plugin/;
&uart { status = "okay"; fresh-name; sensor: sensor { reg = <0>; clocks = <&clk 2>, <&own 3>; self = <&sensor>; }; };
&{/} { relay { who = <&sensor &bus>; path = "x"; }; };
&bus { own: clock@5 { reg = <5>; #clock-cells = <1>; }; };
"""
DISPLAY = """
/dts-v1/;
/plugin/;
/ { fragment@0 { target-path = "/bus"; __overlay__ { #size-cells = <1>; screen@9 { reg = <9 1>; near = <&sensor>; }; }; };
    fragment@1 { target-path = "serial0"; __overlay__ { status = "okay"; inner { deeper = <1>; }; }; }; };
"""


class OverlaysDoWhatOthersDo(FolderTest):
    def blob(self, name: str, text: str) -> Path:
        source = self.write(f"{name}.dts", text)
        out = self.folder / f"{name}.dtb"
        self.tool("dtc", "-q", "-@", "-I", "dts", "-O", "dtb", "-o", out, source)
        self.assertEqual(encode_blob(compile_source(source, symbols=True)), out.read_bytes(), name)
        return out

    def assert_same(self, base: Path, *overlays: Path) -> None:
        theirs = self.folder / "theirs.dtb"
        self.tool("fdtoverlay", "-i", base, "-o", theirs, *overlays)
        tree = decode_blob(base.read_bytes())
        for overlay in overlays:
            apply_overlay(tree, decode_blob(overlay.read_bytes()), overlay.name)
        # What lies between values in a blob that was edited in place is whatever was there before: it is made zero.
        self.assertEqual(encode_blob(tree), encode_blob(decode_blob(theirs.read_bytes())))
        ours = self.folder / "ours.dtb"
        ours.write_bytes(encode_blob(tree))
        self.assertEqual(ours.stat().st_size, theirs.stat().st_size)
        self.assertEqual(self.tool("dtc", "-q", "-I", "dtb", ours), self.tool("dtc", "-q", "-I", "dtb", theirs))

    def test_one_and_several_in_order(self) -> None:
        base, sensor, display = self.blob("base", BASE), self.blob("sensor", SENSOR), self.blob("display", DISPLAY)
        self.assert_same(base, sensor)
        self.assert_same(base, sensor, display)  # the second refers to a label that the first brought

    def test_any_that_chance_makes(self) -> None:
        for seed in range(25):
            chance = random.Random(seed)
            labels = [f"n{number}" for number in range(6)]

            def properties(chance: random.Random = chance, labels: list[str] = labels) -> str:
                names = chance.sample(["a", "bb", "long-name", "reg", "status", "model", "x,y"], 3)
                values = ["<1 2>", '"text"', f"<&{chance.choice(labels)} 4>", "[00 11 22]", f"<7>, <&{chance.choice(labels)}>"]
                return " ".join(f"{name} = {chance.choice(values)};" for name in names)

            nodes = " ".join(f"{label}: node@{number} {{ {properties()} }};" for number, label in enumerate(labels))
            base = self.blob(f"base{seed}", f"/dts-v1/; / {{ {nodes} }};")
            overlays = []
            for number in range(chance.randint(1, 3)):
                parts = [
                    f"&{chance.choice(labels)} {{ {properties()} o{number}{part}: new@{number}{part} {{ {properties()} "
                    f"me = <&o{number}{part}>; }}; }};"
                    for part in range(chance.randint(1, 4))
                ]
                text = "/dts-v1/; /plugin/; " + " ".join(parts)
                overlays.append(self.blob(f"overlay{seed}-{number}", text))
            with self.subTest(seed=seed):
                self.assert_same(base, *overlays)

    def test_a_phandle_of_the_base_stays_and_references_in_the_overlay_follow(self) -> None:
        base = decode_blob(self.blob("base", BASE).read_bytes())
        text = """/dts-v1/; /plugin/;
        &{/} { k: clock { new; }; user { clocks = <&k 4>; }; n: extra { me = <&n>; }; };
        &{/} { m: extra { also = <&m &k>; }; };"""
        apply_overlay(base, compile_source(self.write("o.dts", text)), "o")
        root = base.root
        self.assertEqual(root.children["clock"].properties["phandle"].value, b"\0\0\0\x07")
        self.assertIn("new", root.children["clock"].properties)
        self.assertEqual(root.children["user"].properties["clocks"].value, b"\0\0\0\x07\0\0\0\x04")
        extra = root.children["extra"].properties
        self.assertEqual(extra["me"].value, extra["phandle"].value)
        self.assertEqual(extra["also"].value, extra["phandle"].value + b"\0\0\0\x07")


class OverlaysThatDoNotFitSayWhy(FolderTest):
    def refused(self, overlay: str, base: str = BASE, symbols: bool = True) -> list[str]:
        tree = compile_source(self.write("base.dts", base), symbols=symbols)
        laid = compile_source(self.write("o.dtso", overlay), symbols=True)
        with self.assertRaises(YarrikError) as caught:
            apply_overlay(tree, laid, "o.dtbo")
        return [f"{one.code}: {one.what}; {one.why}; {one.remedy}" for one in caught.exception.troubles]

    def test_all_missing_labels_are_named_with_who_needs_them(self) -> None:
        first, second = self.refused("/dts-v1/; /plugin/; &uarf { a; }; &bus { b = <&nothing-here>; };".replace("-here", ""))
        self.assertIn("OVERLAY-LABEL-MISSING: o.dtbo refers to the label `uarf`", first)
        self.assertIn("did you mean `uart`?", first)
        self.assertIn("label `nothing`", second)
        self.assertIn("/fragment@1 needs it for `b`", second)

    def test_a_missing_path(self) -> None:
        (said,) = self.refused("/dts-v1/; /plugin/; &{/busses} { a; };")
        self.assertIn("OVERLAY-PATH-MISSING: o.dtbo is for the node /busses", said)
        self.assertIn("`/bus`", said)

    def test_a_base_without_labels(self) -> None:
        (said,) = self.refused("/dts-v1/; /plugin/; &uart { a; };", symbols=False)
        self.assertIn("OVERLAY-NO-SYMBOLS", said)
        self.assertIn("compile the base with --symbols", said)

    def test_damaged_books_are_refused(self) -> None:
        for text in (
            '/ { __fixups__ { uart = "/nowhere:a:0"; }; };',
            '/ { x { a = <1>; }; __fixups__ { uart = "/x:a:4"; }; };',
            '/ { x { a = <1>; }; __fixups__ { uart = "/x:a:-1"; }; };',
            "/ { __local_fixups__ { x { a = <0>; }; }; };",
            "/ { x { a = <1>; }; __local_fixups__ { x { a = <400>; }; }; };",
            "/ { fragment@0 { __overlay__ { a; }; }; };",
            "/ { fragment@0 { target = <99>; __overlay__ { a; }; }; };",
        ):
            with self.subTest(text):
                (said,) = self.refused("/dts-v1/; " + text)
                self.assertIn("OVERLAY-DAMAGED", said)


class ChecksFindWhatIsLikelyWrong(FolderTest):
    def found(self, inside: str, *silenced: str) -> dict[str, str]:
        text = "/dts-v1/;\n/ { #address-cells = <1>; #size-cells = <1>;\n" + inside + "\n};\n"
        _, troubles = compile_and_check(self.write("c.dts", text), silenced=silenced)
        for trouble in troubles:
            self.assertEqual(trouble.place.file, self.folder / "c.dts")
            self.assertEqual(trouble.place.line, 3, trouble.what)
        return {trouble.code: f"{trouble.what}; {trouble.why}; {trouble.remedy}" for trouble in troubles}

    CASES = (
        ("DTS-UNIT-ADDRESS", "uart@1000 { reg = <0x2000 1>; };", "the name says @1000, and `reg` begins at 2000"),
        ("DTS-UNIT-ADDRESS", "uart { reg = <0x2000 1>; };", "call it uart@2000"),
        ("DTS-UNIT-ADDRESS", "uart@1 { };", "there is no `reg`"),
        ("DTS-REG-LENGTH", "uart@1 { reg = <1 2 3>; };", "`reg` has 3 cells, and 1 + 1 make one entry"),
        ("DTS-REG-LENGTH", "bus { #address-cells = <1>; #size-cells = <1>; ranges = <1 2>; };", "and 3 make one entry"),
        ("DTS-CELLS-MISSING", "bus { x@1 { reg = <0 1 1>; }; };", "no #address-cells and no #size-cells"),
        ("DTS-SPECIFIER", "c: c { #clock-cells = <2>; }; u { clocks = <&c 1>; };", "#clock-cells = 2, and 1 follow"),
        ("DTS-SPECIFIER", "c: c { }; u { reset-gpios = <&c 1 2>; };", "`c`, which has no #gpio-cells"),
        ("DTS-SPECIFIER", "u { vin-supply = <55>; };", "phandle 0x37, which no node has"),
        (
            "DTS-SPECIFIER",
            "i: i { #interrupt-cells = <3>; }; u { interrupt-parent = <&i>; interrupts = <1 2>; };",
            "3 make one",
        ),
        ("DTS-DUPLICATE-ADDRESS", "a@1 { reg = <1 1>; }; b@1 { reg = <1 1>; };", "/b@1: a@1 has the unit address 1 too"),
        ("DTS-STATUS", 'u { status = "enabled"; };', "takes every unknown word for disabled"),
        ("DTS-NODE-NAME", "a#b { };", "`a#b` is not a name for a node"),
        ("DTS-STDOUT", 'chosen { stdout-path = "serial7:115200n8"; };', "serial7, which is neither an alias nor a node"),
    )

    def test_each_finds_its_mistake_and_can_be_silenced(self) -> None:
        self.assertEqual({code for code, _, _ in self.CASES}, set(CHECKS))
        for code, text, words in self.CASES:
            with self.subTest(text):
                self.assertIn(words, self.found(text)[code])
                self.assertNotIn(code, self.found(text, code))

    def test_what_is_right_is_let_be(self) -> None:
        right = (
            "s { #address-cells = <1>; #size-cells = <1>; i2c { #address-cells = <1>; #size-cells = <0>; "
            "x@50 { reg = <0x40000050>; }; }; spmi { #address-cells = <2>; #size-cells = <0>; p@3 { reg = <3 0>; }; }; "
            'a@1 { status = "disabled"; reg = <1 1>; }; b@1 { reg = <1 1>; }; }; '
            "domain { #address-cells = <1>; #size-cells = <0>; d@14 { reg = <14>; }; }; "
            'g { nr-gpios = <5>; ngpios = <3>; fail-safe { status = "fail-overheated"; }; };'
        )
        self.assertEqual(self.found(right), {})

    def test_the_demo_board_has_nothing_to_tell(self) -> None:
        _, troubles = compile_and_check(BOARDS / "kittiwake.dts")
        self.assertEqual([trouble.what for trouble in troubles], [])


class OneRunTellsOfSeveralErrors(FolderTest):
    def errors(self, text: str) -> list[tuple[int | None, str]]:
        with self.assertRaises(SourceError) as caught:
            compile_source(self.write("e.dts", text))
        return [(one.place.line, one.what) for one in caught.exception.troubles]

    def test_broken_properties_and_missing_labels(self) -> None:
        found = self.errors("/dts-v1/;\n/ {\n a = <1;\n b = ;\n x { c = 5; };\n good = <&nobody>;\n};\n")
        self.assertEqual([line for line, _ in found], [3, 4, 5, 6])
        found = self.errors("/dts-v1/;\n/ {\n b = ;\n near: x { r = <&naer>; };\n};\n&nowhere { };\n/ { z = [0]; };\n")
        self.assertEqual([line for line, _ in found], [3, 6, 7, 4])

    def test_a_label_that_was_skipped_is_not_told_to_be_missing(self) -> None:
        found = self.errors("/dts-v1/;\n/ {\n a = <1>\n lost: x { };\n b = <&lost>;\n};\n")
        self.assertEqual([line for line, _ in found], [4])

    def test_no_more_than_twenty(self) -> None:
        self.assertEqual(len(self.errors("/dts-v1/;\n/ {\n" + " a = ;\n" * 100 + "};\n")), 20)


class TheCommandsWork(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("base.dts", BASE)
        self.write("sensor.dtso", SENSOR)
        self.yarrik("devicetree", "compile", "base.dts", "--out", "base.dtb", "--symbols")
        self.yarrik("devicetree", "compile", "sensor.dtso", "--out", "sensor.dtbo", "--silence", "DTS-UNIT-ADDRESS")

    def test_apply_writes_and_tells_what_changed(self) -> None:
        said = self.yarrik("devicetree", "apply", "base.dtb", "sensor.dtbo", "--out", "both.dtb")
        self.assertIn("both.dtb", said)
        self.assertIn("+ /relay   node added", said)
        self.assertIn('~ status   "disabled" -> "okay"', said)
        shown = self.yarrik("devicetree", "show", "both.dtb", "/serial@1000/sensor")
        self.assertIn("clocks", shown)

    def test_apply_of_what_does_not_fit_writes_nothing(self) -> None:
        self.write("bad.dtso", "/dts-v1/; /plugin/; &uarf { a; };")
        self.yarrik("devicetree", "compile", "bad.dtso", "--out", "bad.dtbo")
        said = self.yarrik("devicetree", "apply", "base.dtb", "bad.dtbo", "--out", "both.dtb", code=2)
        self.assertIn("error OVERLAY-LABEL-MISSING", said)
        self.assertFalse((self.folder / "both.dtb").exists())

    def test_compare_follows_references_not_their_numbers(self) -> None:
        self.write("other.dts", BASE.replace("phandle = <7>", "phandle = <99>").replace("&clk 1", "&clk 2"))
        self.yarrik("devicetree", "compile", "other.dts", "--out", "other.dtb", "--symbols")
        found = self.yarrik_json("devicetree", "compare", "base.dtb", "other.dtb")["differences"]
        self.assertEqual([(one["path"], one["property"]) for one in found], [("/serial@1000", "clocks")])
        self.assertEqual(found[0]["after"], "<&{/clock} 0x2>")
        self.yarrik("devicetree", "compare", "base.dtb", "other.dtb", "--must-match", code=1)
        self.assertIn("the same", self.yarrik("devicetree", "compare", "base.dtb", "base.dtb", "--must-match"))
        tree = decode_blob((self.folder / "base.dtb").read_bytes())
        self.assertEqual(compare_trees(tree, tree), [])

    def test_room_spare_reservations_and_boot_cpu_are_as_the_other_compiler_s(self) -> None:
        self.yarrik("devicetree", "compile", "base.dts", "--out", "room.dtb", "--room", "4 KiB", "--spare-reservations", "3",
                    "--boot-cpu", "2")  # fmt: skip
        theirs = self.folder / "theirs.dtb"
        self.tool("dtc", "-q", "-p", "4096", "-R", "3", "-b", "2", "-O", "dtb", "-o", theirs, self.folder / "base.dts")
        self.assertEqual((self.folder / "room.dtb").read_bytes(), theirs.read_bytes())

    def test_warnings_show_the_line_and_do_not_stop(self) -> None:
        self.write("w.dts", '/dts-v1/;\n/ {\n\tu { status = "enabled"; };\n};\n')
        said = self.yarrik("devicetree", "compile", "w.dts", "--out", "w.dtb")
        self.assertIn("warning DTS-STATUS", said)
        self.assertIn("w.dts:3", said)
        self.assertIn('u { status = "enabled"; };', said)
        self.assertNotIn(
            "DTS-STATUS", self.yarrik("devicetree", "compile", "w.dts", "--out", "w.dtb", "--silence", "DTS-STATUS")
        )
        said = self.yarrik("devicetree", "compile", "w.dts", "--out", "w.dtb", "--silence", "DTS-STATSU", code=2)
        self.assertIn("did you mean `DTS-STATUS`?", said)


class OverlaysThatDoNothingOrMeet(ProgramTest):
    def test_42_a_plain_tree_as_overlay_and_two_overlays_on_one_property(self) -> None:
        root = self.folder / "demo"
        self.seed()
        self.yarrik("demo", root, "--product", "tide-gauge", "--no-boot")
        board = root / "shelves/harbour/boards/kittiwake.toml"
        text = board.read_text()
        for name, source in {
            "plain.dtso": "/dts-v1/;\n/ { x = <1>; };\n",
            "one.dtso": '/dts-v1/;\n/plugin/;\n&{/} { harbour,port = "one"; };\n',
            "two.dtso": '/dts-v1/;\n/plugin/;\n&{/} { harbour,port = "two"; };\n',
        }.items():
            (board.parent / name).write_text(source)

        def build(*names: str, code: int = 0) -> str:
            board.write_text(
                text.replace('overlays = ["tide-sensor.dtso"]', f"overlays = {json.dumps(['tide-sensor.dtso', *names])}")
            )
            return self.yarrik("build", "tide-gauge", at=root, code=code)

        self.assertIn("OVERLAY-PLAIN: plain.dtso is a device tree and no overlay", build("plain.dtso", code=1))
        self.assertIn(
            "the overlays one.dtso and two.dtso both set `harbour,port` of /; the last one wins", build("one.dtso", "two.dtso")
        )
        self.assertIn("the overlay one.dtso changes nothing; is it named twice", build("one.dtso", "one.dtso"))


if __name__ == "__main__":
    unittest.main()
