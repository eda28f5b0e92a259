"""Device tree source and blobs, judged by the operating system's compiler."""

import random
import unittest
from pathlib import Path

from tests.support import FolderTest, ProgramTest
from yarrik.devicetree import BlobDamaged, SourceError, as_source, compile_source, decode_blob, encode_blob

BOARD = Path(__file__).parent.parent / "src/yarrik/demo/data/shelves/harbour/boards/kittiwake.dts"

EVERYTHING = """
/dts-v1/;
/memreserve/ 0x40000000 0x1000;
/ {
    #address-cells = <1>;
    #size-cells = <1>;
    model = "all", "of it\\n\\x41\\101";
    numbers = <1 0x2 03 (1 + 2 * 3) (1 << 4 | 5) ('a' - 1) (-1) (!0 && 1 ? 7 : 8) (10 % 4) (~0 & 0xff) (3 > 2) (5 - 3 - 1)>;
    wide = /bits/ 64 <0x123456789abcdef0 (1 << 40)>;
    narrow = /bits/ 8 <1 2 255>, /bits/ 16 <0xffff 1>;
    bytes = [00 11 2233];
    mixed = "text", <1>, [ff], &far, <&near &far>;
    empty;
    near: node@1 {
        reg = <1 2>;
        back = <&{/deep/er}>;
        label-with-comma,name = "x";
        gone;
    };
    far: other {
        phandle = <9>;
    };
    deep {
        er { }; // comment
        unwanted { };
        /* another */
    };
    cpus {
        #address-cells = <1>;
        #size-cells = <0>;
        cpu@3 { reg = <3>; };
    };
};
&near {
    added = "later";
    reg = <1 3>;
    /delete-property/ gone;
    new: child { };
};
/ {
    points = &new;
    deep {
        /delete-node/ unwanted;
        er { more; };
    };
};
"""


class SourcesCompileToTheSameBytes(FolderTest):
    def assert_same(self, source: Path) -> None:
        theirs = self.folder / "theirs.dtb"
        self.tool("dtc", "-q", "-I", "dts", "-O", "dtb", "-o", theirs, source)
        self.assertEqual(encode_blob(compile_source(source)), theirs.read_bytes())

    def test_the_demo_board(self) -> None:
        self.assert_same(BOARD)

    def test_everything_that_is_read(self) -> None:
        self.assert_same(self.write("all.dts", EVERYTHING))

    def test_a_label_that_moves_to_another_node(self) -> None:
        for text in (
            "/dts-v1/;\n/ { l: old { a; }; };\n/ { use = <&l>; l: new { b; }; /delete-node/ old; };\n",
            "/dts-v1/;\n/ { l: old { a; }; };\n/ { use = <&l>; /delete-node/ old; l: new { b; }; };\n",
            "/dts-v1/;\n/ { l: old { a; }; };\n/ { l: new { b; }; };\n&l { c; };\n/ { /delete-node/ old; };\n&l { d; };\n",
        ):
            self.assert_same(self.write("moved.dts", text))

    def test_includes_and_binary_files(self) -> None:
        self.write("part.dtsi", "/ { included; x: y { }; };\n")
        self.write("data.bin", bytes(range(40)))
        self.assert_same(
            self.write(
                "i.dts",
                '/dts-v1/;\n/include/ "part.dtsi"\n/ { d = /incbin/("data.bin"); e = /incbin/("data.bin", 4, 8); r = <&x>; };\n',
            )
        )

    def test_random_expressions(self) -> None:
        generator = random.Random(11)

        def expression(depth: int) -> str:
            if depth == 0:
                return str(generator.randrange(100))
            kind = generator.choice(["+", "-", "*", "<<", ">>", "&", "|", "^", "==", "<", "<=", "&&", "||", "?", "~"])
            left, right = expression(depth - 1), expression(depth - 1)
            if kind == "?":
                return f"({left}) ? ({right}) : ({expression(depth - 1)})"
            if kind == "~":
                return f"~({left})"
            if kind in ("<<", ">>"):
                return f"({left}) {kind} {generator.randrange(8)}"
            return f"{left} {kind} ({right})"

        cells = " ".join(f"(({expression(3)}) & 0xffffffff)" for _ in range(120))
        self.assert_same(self.write("e.dts", f"/dts-v1/;\n/ {{ v = <{cells}>; }};\n"))


OVERLAY = """
/dts-v1/;
/plugin/;
&{/} { note = "from the overlay"; };
&i2c1 {
    status = "okay";
    gauge: sensor@48 { reg = <0x48>; supply = <&vdd &near>; };
};
&soc { near: other { partner = <&gauge>; clocks = <&clk 3>, <&clk 4>; }; };
"""
RETURNING = """
/dts-v1/;
/ { a { one; }; b: b { p = <1>; q = <2>; }; /omit-if-no-ref/ unused: u { }; /omit-if-no-ref/ used: v { }; c { r = <&used>; }; };
/ { /delete-node/ a; };
&b { /delete-property/ p; };
/ { d; a { two; }; };
&b { p = <3>; };
first: &b { };
second: &b { };
/delete-node/ &unused;
/ { /delete-node/ never-there; };
"""


class OverlaysAndWhatComesBack(FolderTest):
    def test_the_same_bytes_with_and_without_symbols(self) -> None:
        for name, text in (("overlay.dtso", OVERLAY), ("returning.dts", RETURNING), ("all.dts", EVERYTHING)):
            source = self.write(name, text)
            for symbols in (False, True):
                with self.subTest(f"{name}, symbols: {symbols}"):
                    theirs = self.folder / "theirs.dtb"
                    self.tool("dtc", "-q", "-I", "dts", "-O", "dtb", *(["-@"] if symbols else []), "-o", theirs, source)
                    self.assertEqual(encode_blob(compile_source(source, symbols=symbols)), theirs.read_bytes())

    def test_shown_as_source_it_compiles_to_the_same_bytes_again(self) -> None:
        for text in (OVERLAY, RETURNING, EVERYTHING):
            tree = compile_source(self.write("x.dts", text))
            again = compile_source(self.write("again.dts", as_source(tree)))
            again.boot_cpu = tree.boot_cpu
            self.assertEqual(encode_blob(again), encode_blob(tree))


class TheCommand(ProgramTest):
    def test_sources_go_through_the_preprocessor_when_they_use_it(self) -> None:
        self.write("include/pins.h", "#define PIN(n) (0x100 + (n))\n")
        source = self.write("b.dts", "/dts-v1/;\n#include <pins.h>\n/ { x: a { pin = <PIN(7)>; }; };\n")
        self.yarrik("devicetree", "compile", source, "--out", "b.dtb", "--include", "include", "--symbols")
        said = self.tool("dtc", "-q", "-I", "dtb", "-O", "dts", self.folder / "b.dtb")
        self.assertIn("pin = <0x107>;", said)
        self.assertIn('x = "/a";', said)
        self.assertIn("pin = <0x107>;", self.yarrik("devicetree", "show", "b.dtb", "/a"))
        self.assertIn("did you mean", self.yarrik("devicetree", "show", "b.dtb", "/aa", code=2))

    def test_errors_name_the_file_and_line_that_people_edit(self) -> None:
        self.write("include/part.dtsi", "/ {\n  ok;\n  broken = <1>\n};\n")
        source = self.write("b.dts", "/dts-v1/;\n#include <part.dtsi>\n")
        said = self.yarrik("devicetree", "compile", source, "--out", "b.dtb", "--include", "include", code=2)
        self.assertRegex(said, r"where +include/part\.dtsi:4")
        said = self.yarrik("devicetree", "compile", source, "--out", "b.dtb", code=2)
        self.assertRegex(said, r"part\.dtsi[^\n]*\n +where +(\S*/)?b\.dts:2\n +next +.*--include")
        self.assertFalse((self.folder / "b.dtb").exists())
        said = self.yarrik("devicetree", "compile", BOARD, "--out", "no-folder/b.dtb", code=2)
        self.assertIn("cannot write no-folder/b.dtb", said)


class BlobsAreRead(FolderTest):
    def test_what_was_written_comes_back(self) -> None:
        blob = encode_blob(compile_source(self.write("all.dts", EVERYTHING)))
        tree = decode_blob(blob)
        self.assertEqual(encode_blob(tree), blob)
        self.assertEqual(tree.boot_cpu, 3)
        self.assertEqual(tree.root.find("/node@1").properties["reg"].value, bytes([0, 0, 0, 1, 0, 0, 0, 3]))
        self.assertEqual(tree.root.find("/node").name, "node@1")

    def test_damaged_blobs_are_refused_and_never_worse(self) -> None:
        sound = encode_blob(compile_source(BOARD))
        generator = random.Random(2)
        refused = 0
        for _ in range(2000):
            data = bytearray(sound[: generator.choice((len(sound), generator.randrange(len(sound))))])
            for _ in range(generator.randrange(1, 6)):
                if data:
                    data[generator.randrange(len(data))] = generator.randrange(256)
            try:
                decode_blob(bytes(data))
            except BlobDamaged:
                refused += 1
        self.assertGreater(refused, 500)


class ErrorsShowThePlace(FolderTest):
    def error(self, text: str) -> tuple[int | None, str, str]:
        with self.assertRaises(SourceError) as caught:
            compile_source(self.write("x.dts", text))
        trouble = caught.exception.troubles[0]
        return trouble.place.line, trouble.what, trouble.why + trouble.remedy

    def test_lines_columns_markers_and_hints(self) -> None:
        for text, line, words in (
            ("/dts-v1/;\n/ {\n  a = <1>\n};\n", 4, "`;` is missing after the property `a`"),
            ("/dts-v1/;\n/ { serial: s { }; };\n&serail { };\n", 3, "nothing is called `serail`"),
            ("/dts-v1/;\n/ { a = <(1 / 0)>; };\n", 2, "division by zero"),
            ("/dts-v1/;\n/ { x: a { }; x: b { }; };\n", 2, "the label `x` is given to two nodes"),
            ("/dts-v1/;\n/ { a = /bits/ 8 <256>; };\n", 2, "does not fit into 8 bits"),
            ("/ { };\n", 1, "does not begin with"),
            ("/dts-v1/;\n/ { a { };\n", 3, "is missing; found the end of the file"),
            ('/dts-v1/;\n/include/ "none.dtsi"\n', 2, "cannot read none.dtsi"),
            ('/dts-v1/;\n/include/ "no\0ne.dtsi"\n', 2, "contains a null character"),
            ('/dts-v1/;\n/ { x = /incbin/("no\\0ne"); };\n', 2, "contains a null character"),
            ('/dts-v1/;\n# 2 "a\0/b"\n/include/ "none.dtsi"\n', 2, "contains a null character"),
            ("/dts-v1/;\n/ { a = [0g]; };\n", 2, "hexadecimal"),
            ("/dts-v1/;\n/ { a { };\n  b; };\n", 3, "the property `b` comes after a child node"),
            ("/dts-v1/;\n/ { a = <&{/none}>; };\n", 2, "nothing is called `/none`"),
        ):
            found, what, _ = self.error(text)
            self.assertIn(words, what, text)
            self.assertEqual(found, line, text)
        _, _, more = self.error("/dts-v1/;\n/ { serial: s { }; };\n&serail { };\n")
        self.assertIn("&serail { };\n  ^^^^^^^", more)
        self.assertIn("did you mean `serial`?", more)

    def test_no_text_brings_it_down(self) -> None:
        generator = random.Random(4)
        for _ in range(400):
            text = list(EVERYTHING)
            for _ in range(generator.randrange(1, 8)):
                text[generator.randrange(len(text))] = generator.choice('{}<>[]();:&/"\\=,x0-# \n')
            try:
                compile_source(self.write("f.dts", "".join(text)))
            except SourceError:
                continue


if __name__ == "__main__":
    unittest.main()
