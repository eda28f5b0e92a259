"""A board made from a device tree or from a kernel's configuration."""

import shutil
from pathlib import Path

from tests.support import WorkspaceTest

BOARDS = Path(__file__).parent.parent / "src/yarrik/demo/data/shelves/harbour/boards"
TREE = """/dts-v1/;
/ {
	model = "Gull";
	compatible = "harbour,gull";
	#address-cells = <1>;
	#size-cells = <1>;
	aliases { serial2 = &uart; };
	chosen { stdout-path = "serial2:57600n8"; };
	cpus { #address-cells = <1>; #size-cells = <0>; cpu@0 { device_type = "cpu"; compatible = "arm,cortex-a7"; reg = <0>; }; };
	memory@80000000 { device_type = "memory"; reg = <0x80000000 0x8000000>; };
	uart: serial@1000 { compatible = "harbour,uart", "ns16550a"; reg = <0x1000 0x100>; };
	mmc@2000 { compatible = "harbour,gull-mmc"; reg = <0x2000 0x100>; };
	mmc@3000 { compatible = "harbour,gull-mmc"; reg = <0x3000 0x100>; status = "disabled"; };
	chime@5000 { compatible = "harbour,chime"; reg = <0x5000 0x100>; };
	bell@4000 { compatible = "harbour,bell"; reg = <0x4000 0x100>; };
};
"""


class FromADeviceTree(WorkspaceTest):
    def kernel_sources(self) -> Path:
        top = self.folder / "linux"
        self.write("linux/drivers/tty/serial/port.c", 'static const struct x y[] = { { .compatible = "ns16550a" }, {} };\n')
        self.write("linux/drivers/tty/serial/Makefile", "port-all-y := port.o\nobj-$(CONFIG_SERIAL_PORT) += port-all.o\n")
        self.write("linux/drivers/mmc/gull.c", '{ .compatible = "harbour,gull-mmc", .data = &gull },\n')
        self.write("linux/drivers/mmc/Makefile", "obj-$(CONFIG_MMC_GULL) \\\n  += other.o gull.o\n")
        self.write("linux/drivers/Kconfig", 'config SERIAL_PORT\n\tbool "Port"\nconfig SERIAL_PORT_CONSOLE\n\tbool "Console"\n'
                   'config MMC_GULL\n\ttristate "Gull"\nconfig BELL\n\tbool\n')  # fmt: skip
        self.write("linux/drivers/misc/bell.c", 'IRQCHIP_DECLARE(bell, "harbour,chime", bell_init);\n')
        self.write("linux/drivers/misc/Makefile", "obj-$(CONFIG_BELL) += bell.o\n")
        (top / "drivers/loop").symlink_to(top)
        return top

    def test_from_source_with_a_kernel_s_drivers(self) -> None:
        source = self.write("gull.dts", TREE)
        said = self.yarrik("new", "board", "gull", "--from", source, "--sources", self.kernel_sources(), at=self.root)
        board = (self.root / "s/boards/gull.toml").read_text()
        self.assertIn('arch = "arm"', board)
        self.assertIn('console = "ttyS2,57600"', board)
        self.assertIn('device-tree = "gull.dts"', board)
        self.assertIn('fragments = ["gull.kcfg"]', board)
        self.assertEqual((self.root / "s/boards/gull.dts").read_text(), TREE)
        lines = (self.root / "s/boards/gull.kcfg").read_text().splitlines()[1:]
        self.assertEqual(lines, ["CONFIG_MMC_GULL=y", "CONFIG_SERIAL_PORT=y", "CONFIG_SERIAL_PORT_CONSOLE=y"])
        # One without a prompt cannot be set: it would be lost, and the build would stop at it.
        self.assertRegex(said, r"/chime@5000 +harbour,chime +CONFIG_BELL \(follows by itself\) +drivers/misc/bell.c")
        self.assertRegex(said, r"memory +128 MiB at 0x80000000")
        self.assertRegex(said, r"/bell@4000 +harbour,bell +- +no driver names it")
        self.assertNotIn("mmc@3000", said)
        told = self.yarrik_json("show", "gull", "kernel.console", at=self.root)
        self.assertEqual(told["board"]["kernel.console"]["value"], "ttyS2,57600")

    def test_from_a_blob_as_a_running_board_has_it(self) -> None:
        source = self.write("gull.dts", TREE)
        blob = self.folder / "fdt"
        self.tool("dtc", "-q", "-I", "dts", "-O", "dtb", "-o", blob, source)
        self.yarrik("new", "board", "gull", "--from", blob, at=self.root)
        again = self.folder / "again.dtb"
        self.tool("dtc", "-q", "-I", "dts", "-O", "dtb", "-o", again, self.root / "s/boards/gull.dts")
        self.assertEqual(self.tool("dtc", "-q", "-s", "-I", "dtb", "-O", "dts", again),
                         self.tool("dtc", "-q", "-s", "-I", "dtb", "-O", "dts", blob))  # fmt: skip

    def test_the_demo_s_board(self) -> None:
        for name in ("kittiwake.dts", "kittiwake-card.dtsi"):
            shutil.copy(BOARDS / name, self.folder)
        found = self.yarrik_json("new", "board", "k", "--from", self.folder / "kittiwake.dts", at=self.root)
        guesses = {one["what"]: one["value"] for one in found["guesses"]}
        self.assertEqual((guesses["architecture"], guesses["console"]), ("arm64", "ttyAMA0,115200"))
        self.assertEqual(guesses["memory"], "256 MiB at 0x40000000")

    def test_from_a_configuration(self) -> None:
        text = "#\n# Automatically generated file; DO NOT EDIT.\n# Linux/riscv 6.1.0 Kernel Configuration\n#\n"
        config = self.write("board.config", text + 'CONFIG_64BIT=y\nCONFIG_CMDLINE="console=ttyS1,9600 quiet"\n')
        self.yarrik("new", "board", "r", "--from", config, at=self.root)
        board = (self.root / "s/boards/r.toml").read_text()
        self.assertIn('arch = "riscv64"', board)
        self.assertIn('console = "ttyS1,9600"', board)
        self.assertIn('base-file = "r.config"', board)
        self.assertEqual((self.root / "s/boards/r.config").read_text(), config.read_text())

    def test_what_it_cannot_be_made_from(self) -> None:
        for name, data in (("x.dtb", b"\xd0\x0d\xfe\xed" + b"\xff" * 60), ("x.dts", b"hello"), ("x.config", b"CONFIG_A=y\n"),
                           ("y.dtb", b"\xd0\x0d\xfe\xed\0\0\0\x30" + b"\0" * 12)):  # fmt: skip
            file = self.folder / name
            file.write_bytes(data)
            self.assertIn("error NEW-HARDWARE", self.yarrik("new", "board", "b2", "--from", file, at=self.root, code=2))
        said = self.yarrik("new", "board", "b2", "--from", self.folder / "gone.dtb", at=self.root, code=2)
        self.assertIn("error NEW-HARDWARE: cannot read", said)
        source = self.write("none.dts", "/dts-v1/;\n/ { };\n")
        said = self.yarrik("new", "board", "b2", "--from", source, at=self.root, code=2)
        self.assertIn("does not say for which architecture", said)
        self.assertFalse((self.root / "s/boards/b2.toml").exists())
