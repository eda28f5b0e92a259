"""The boot method `settings`: written, followed by the bench, and read by a simulated firmware that is not ours."""

import json
import shutil
import struct
from pathlib import Path

from tests.settings_firmware import FirmwareHalt, load
from tests.support import edit_boot_file
from tests.test_methods import BOARD, GaugeTest
from yarrik.devicetree import compile_source, decode_blob, encode_blob, parameters_of, set_parameters
from yarrik.errors import Unfit

SENSOR = """/dts-v1/;
/plugin/;
&{/} {
	tide_sensor: tide-sensor {
		compatible = "harbour,tide-sensor";
		clocks = <&bus_clock>;
		harbour,zero-mm = <1275>;
	};
};
/ {
	__overrides__ {
		zero = <&tide_sensor>, "harbour,zero-mm:0";
		name = <&tide_sensor>, "label";
		fast = <&tide_sensor>, "harbour,fast?";
		wide = <&tide_sensor>, "harbour,wide#0";
	};
};
"""
METHOD = '[boot]\nmethod = "settings"\noverlays = "placed"\n'


class SettingsTest(GaugeTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("demo/shelves/harbour/boards/tide-sensor.dtso", SENSOR)

    def firmware(self, image: Path | None = None) -> tuple[str, bytes]:
        """Command line and device tree as the simulated firmware hands them on."""
        folder = self.folder / "firmware"
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir()
        loaded = load(image or self.out / "tide-gauge.img", folder)
        assert loaded.device_tree is not None
        return loaded.line, loaded.device_tree.read_bytes()

    def zero(self, blob: bytes) -> str:
        return self.tool("fdtget", self.write("t.dtb", blob), "/tide-sensor", "harbour,zero-mm").strip()


class FirmwareFindsAllOfIt(SettingsTest):
    def test_the_file_follows_from_the_board(self) -> None:
        self.board(METHOD)
        story = self.build()
        text = self.on_card("/config.txt").decode()
        self.assertEqual(text.splitlines(), ["arm_64bit=1", "kernel=Image", "device_tree=kittiwake.dtb", "dtoverlay=tide-sensor",
                                             "cmdline=cmdline.txt"])  # fmt: skip
        self.assertIn("1 overlay fit, as the firmware applies them", story)
        line, blob = self.firmware()
        self.assertEqual(line, self.on_card("/cmdline.txt").decode().strip())
        self.assertIn(line, story)
        self.assertEqual(self.zero(blob), "1275")
        facts = json.loads((self.out / "packages.json").read_text())["boot"]
        self.assertIn({"line": "kernel=Image", "origin": "the board's `kernel.recipe`"}, facts["settings"])

    def test_parameters_of_overlays_reach_the_device(self) -> None:
        self.board(METHOD + '[kernel.overlay-parameters]\ntide-sensor = {zero = "1300"}\n')
        self.build()
        self.assertIn("dtoverlay=tide-sensor,zero=1300\n", self.on_card("/config.txt").decode())
        self.assertEqual(self.zero(self.firmware()[1]), "1300")
        # The build sets them itself where nobody else does.
        text = (self.root / BOARD).read_text()
        (self.root / BOARD).write_text(text.replace(METHOD, ""))
        self.build()
        self.assertEqual(self.zero((self.out / "kittiwake.dtb").read_bytes()), "1300")
        for old, new, wanted in (
            ("zero =", "zer =", "did you mean `zero`?"),
            ('"1300"', '"many"', "is a number, and not `many`"),
            ("tide-sensor =", "tide-sensr =", "did you mean `tide-sensor`?"),
        ):
            (self.root / BOARD).write_text(text.replace(METHOD, "").replace(old, new))
            said = self.build(code=1)
            self.assertIn("error OVERLAY-PARAMETER", said)
            self.assertIn(wanted, said)

    def test_own_lines_are_added_and_replace_computed_ones(self) -> None:
        self.write("demo/shelves/harbour/boards/own.txt", "# display\n[gull]\nkernel=other\n[all]\ndisplay=on\n")
        self.board(METHOD + '[boot.settings]\nfile = "own.txt"\nlines = ["arm_64bit=1", "pins=4"]\n')
        story = self.build()
        lines = self.on_card("/config.txt").decode().splitlines()
        self.assertEqual(lines[:2], ["kernel=Image", "device_tree=kittiwake.dtb"])  # the computed arm_64bit is replaced
        self.assertEqual(lines[-2:], ["arm_64bit=1", "pins=4"])
        self.assertIn("lines under [gull]", story)
        self.firmware()

    def test_with_an_initramfs(self) -> None:
        self.board(METHOD.replace("[boot]", '[boot]\ninitramfs = "root"'))
        self.build()
        self.assertIn("initramfs initramfs.img followkernel\n", self.on_card("/config.txt").decode())
        folder = self.folder / "f"
        folder.mkdir()
        self.assertIsNotNone(load(self.out / "tide-gauge.img", folder).initramfs)


class MistakesStopBothAlike(SettingsTest):
    def test_the_bench_and_the_firmware_stop_at_the_same(self) -> None:
        self.board(METHOD + '[kernel.overlay-parameters]\ntide-sensor = {zero = "1300"}\n')
        self.build()
        for change, code, wanted in (
            ({"kernel=Image": "kernel=Imagg"}, "BOOT-FILE-MISSING", "the kernel /Imagg is not on boot"),
            ({"kernel=Image": "kernal=Imag"}, "BOOT-FILE-MISSING", "names no kernel"),
            ({"device_tree=kittiwake.dtb": "device_tree=kittiwakX.dtb"}, "BOOT-DEVICE-TREE", "/kittiwakX.dtb is not on boot"),
            (
                {"dtoverlay=tide-sensor": "dtoverlay=tide-sensoX"},
                "BOOT-DEVICE-TREE",
                "/overlays/tide-sensoX.dtbo is not on boot",
            ),
            ({"zero=1300": "zerX=1300"}, "BOOT-DEVICE-TREE", "it has no parameter `zerX`"),
            ({"cmdline=cmdline.txt": "cmdline=cmdlinX.txt"}, "BOOT-FILE-MISSING", "/cmdlinX.txt is not on boot"),
            ({"arm_64bit=1": "initramfs="}, "BOOT-FILE-MISSING", "the initramfs /(none) is not on boot"),
            ({"arm_64bit=1": "arm_64bit=0"}, "BOOT-KERNEL-ARCH", "says arm_64bit=0, and /Image has 64 bits"),
        ):
            with self.subTest(change):
                image = self.folder / "changed.img"
                shutil.copy(self.out / "tide-gauge.img", image)
                edit_boot_file(image, "/config.txt", change)
                said = self.yarrik("boot", "--bench", image, at=self.root, code=1)
                self.assertIn(code, said)
                self.assertIn(wanted, said)
                with self.assertRaises(FirmwareHalt):
                    self.firmware(image)

    def test_a_board_that_firmware_cannot_start_so(self) -> None:
        self.board(METHOD + '[[boot.entry]]\nname = "rescue"\n')
        self.assertIn("a settings file starts one system, and the board has several entries", self.build(code=1))

    def test_two_lines_in_the_command_line_file(self) -> None:
        self.board(METHOD)
        self.build()
        image = self.folder / "changed.img"
        shutil.copy(self.out / "tide-gauge.img", image)
        line = self.on_card("/cmdline.txt")
        edit_boot_file(image, "/cmdline.txt", line[:20] + b"\n" + line[21:])
        said = self.yarrik("boot", "--bench", image, at=self.root, code=1)
        self.assertIn("warning BOOT-LINE-TWICE: /cmdline.txt on boot has 2 lines", said)
        self.assertIn("error BOOT-ROOT-MISSING", said)  # what is left of root= in the first one


class ParametersOfOverlays(SettingsTest):
    def test_each_kind_and_what_does_not_fit(self) -> None:
        source = self.write("s.dtso", SENSOR)
        blob = encode_blob(compile_source(source, symbols=True))
        tree = decode_blob(blob)
        self.assertEqual(sorted(parameters_of(tree)), ["fast", "wide", "zero"])
        set_parameters(tree, {"zero": "0x10", "fast": "on", "wide": "-1"})
        node = next(node for path, node in tree.root.walk() if path.endswith("/tide-sensor"))
        values = {name: item.value for name, item in node.properties.items()}
        self.assertEqual(values["harbour,zero-mm"], struct.pack(">I", 16))
        self.assertEqual((values["harbour,fast"], values["harbour,wide"]), (b"", b"\xff" * 8))
        set_parameters(tree, {"fast": "off"})
        self.assertNotIn("harbour,fast", node.properties)
        for name, value in (("zero", "x"), ("zero", str(1 << 32)), ("fast", "maybe"), ("gone", "1")):
            with self.assertRaises(Unfit):
                set_parameters(tree, {name: value})
        for declared in (b"", b"\0\0\0\1", b"\0\0\0\1x", b"\0\0\0\x63x:0\0", b"\0\0\0\1x:99999999\0", b"\0\0\0\1=\0"):
            tree.root.children["__overrides__"].properties["zero"].value = declared
            if declared:
                with self.assertRaises(Unfit, msg=declared):
                    set_parameters(tree, {"zero": "1"})
