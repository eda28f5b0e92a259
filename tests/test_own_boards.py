"""A board of one's own on a vendor's: overlays, device trees and fragments from another shelf, and families on one image."""

import hashlib
from pathlib import Path

from tests.test_methods import GaugeTest
from yarrik.boot.fit import decode_fit
from yarrik.devicetree import decode_blob, text_of

SHELF = "demo/shelves/own/"
PIER = """
summary = "Our pier: the vendor's board with two overlays and a device tree of our own"
extends = "kittiwake"
[kernel]
overlays = {add = ["lamp.dtso", "buzzer.dtso"]}
"""
OVERLAY = '/dts-v1/;\n/plugin/;\n&{{/}} {{\n\t{0}: {0} {{ compatible = "harbour,{0}"; clocks = <&bus_clock>; }};\n}};\n'


class OwnBoardTest(GaugeTest):
    def setUp(self) -> None:
        super().setUp()
        self.write(SHELF + "shelf.toml", '[shelf]\nname = "own"\n')
        settings = self.root / "yarrik.toml"
        if 'name = "own"' not in settings.read_text():
            settings.write_text(settings.read_text() + '\n[[shelf]]\nname = "own"\npath = "shelves/own"\n')
        self.write(SHELF + "boards/pier.toml", PIER)
        for name in ("lamp", "buzzer"):
            self.write(SHELF + f"boards/{name}.dtso", OVERLAY.format(name))
        product = self.root / "products/tide-gauge.toml"
        product.write_text(product.read_text().replace('board = "kittiwake"', 'board = "pier"'))
        self.vendor = self.digests()

    def digests(self) -> dict[str, str]:
        files = [
            path for shelf in ("coast", "harbour") for path in (self.root / "shelves" / shelf).rglob("*") if path.is_file()
        ]
        return {str(path): hashlib.sha256(path.read_bytes()).hexdigest() for path in files}

    def nodes(self, blob: bytes) -> set[str]:
        return {path for path, _ in decode_blob(blob).root.walk()}


class OverlaysComeFromAnyShelf(OwnBoardTest):
    def test_beside_the_file_that_names_them_with_the_vendor_s_untouched(self) -> None:
        self.build()
        blob = (self.out / "kittiwake.dtb").read_bytes()
        self.assertLessEqual({"/lamp", "/buzzer", "/tide-sensor"}, self.nodes(blob))
        theirs = self.tool("fdtget", self.write("t.dtb", blob), "/lamp", "compatible")
        self.assertEqual(theirs.strip(), "harbour,lamp")
        self.assertEqual(self.digests(), self.vendor)
        self.assertFalse(list((self.root / "shelves/own").rglob("kittiwake*")))
        told = self.yarrik("show", "pier", "kernel.overlays", at=self.root)
        self.assertIn("shelves/own/boards/pier.toml", told)

    def test_left_to_the_bootloader_in_the_board_s_order(self) -> None:
        self.write(SHELF + "boards/pier.toml", PIER + '[boot]\noverlays = "placed"\n')
        self.build()
        menu = self.on_card("/extlinux/extlinux.conf").decode()
        self.assertIn("fdtoverlays /overlays/tide-sensor.dtbo /overlays/lamp.dtbo /overlays/buzzer.dtbo", menu)

    def test_errors_and_troubles_name_the_file_that_people_edit(self) -> None:
        self.write(SHELF + "boards/lamp.dtso", OVERLAY.format("lamp").replace("bus_clock", "bus_clok"))
        said = self.build(code=1)
        self.assertIn("shelves/own/boards/lamp.dtso", said)
        self.assertIn("bus_clok", said)
        self.write(SHELF + "boards/lamp.dtso", "/dts-v1/;\n/plugin/;\n&{/} { lamp { x = <1>  };\n")
        self.assertRegex(self.build(code=1), r"where  shelves/own/boards/lamp.dtso:\d+")
        self.write(SHELF + "boards/pier.toml", PIER.replace("lamp.dtso", "lmp.dtso"))
        said = self.build(code=2)
        self.assertIn("error DEVICE-TREE-MISSING: there is no file lmp.dtso beside the board's file", said)
        self.assertIn("lamp.dtso", said)

    def test_a_tree_of_one_s_own_includes_the_vendor_s(self) -> None:
        self.write(SHELF + "boards/pier.dts", '/include/ "kittiwake.dts"\n/ { model = "Our pier"; };\n')
        self.write(SHELF + "boards/pier.toml", PIER.replace("[kernel]", '[kernel]\ndevice-tree = "pier.dts"'))
        self.build()
        tree = decode_blob((self.out / "pier.dtb").read_bytes())
        self.assertEqual(text_of(tree.root.properties["model"].value), "Our pier")
        self.assertIn("/lamp", self.nodes((self.out / "pier.dtb").read_bytes()))
        # A change of what is included builds it again.
        vendor = self.root / "shelves/harbour/boards/kittiwake.dts"
        vendor.write_text(vendor.read_text().replace("clock-frequency = <24000000>", "clock-frequency = <24000001>"))
        self.assertIn("build device tree of pier", self.ran(self.yarrik_json("build", "tide-gauge", at=self.root)))

    def test_an_amendment_and_a_variant_add_to_a_board_of_another_shelf(self) -> None:
        self.write(SHELF + "amendments/lamp.toml", 'board = "kittiwake"\n[set.kernel]\noverlays = {add = ["lamp.dtso"]}\n')
        self.write(SHELF + "amendments/lamp.dtso", OVERLAY.format("lamp"))
        self.write(SHELF + "variants/loud.toml", '[set.board.kernel]\noverlays = {add = ["buzzer.dtso"]}\n')
        self.write(SHELF + "variants/buzzer.dtso", OVERLAY.format("buzzer"))
        product = self.root / "products/tide-gauge.toml"
        product.write_text(product.read_text().replace('board = "pier"', 'board = "kittiwake"'))
        self.build()
        nodes = self.nodes((self.out / "kittiwake.dtb").read_bytes())
        self.assertIn("/lamp", nodes)
        self.assertNotIn("/buzzer", nodes)
        self.yarrik("build", "tide-gauge", "--with", "loud", at=self.root)
        loud = self.root / "out/tide-gauge+loud/kittiwake.dtb"
        self.assertLessEqual({"/lamp", "/buzzer"}, self.nodes(loud.read_bytes()))


class OneImageForAFamily(OwnBoardTest):
    def setUp(self) -> None:
        super().setUp()
        more = '/include/ "kittiwake.dts"\n/ { model = "Kittiwake B"; compatible = "harbour,kittiwake-b", "coast,a53"; };\n'
        self.write(SHELF + "boards/kittiwake-b.dts", more)
        self.write(SHELF + "boards/pier.toml", PIER.replace("[kernel]", '[kernel]\nmore-device-trees = ["kittiwake-b.dts"]'))

    def test_the_menu_has_an_entry_for_each(self) -> None:
        self.build()
        menu = self.on_card("/extlinux/extlinux.conf").decode()
        self.assertRegex(menu, r"(?i)label kittiwake-b\n(.*\n)*? *fdt /kittiwake-b.dtb")
        self.assertRegex(menu, "(?i)default tide-gauge")
        self.assertLessEqual({"/lamp", "/buzzer"}, self.nodes(self.on_card("/kittiwake-b.dtb")))
        entry = '[[boot.entry]]\nname = "second"\ndevice-tree = "kittiwake-b.dts"\narguments = ["quiet"]\n'
        self.board_file(entry)
        self.build()
        menu = self.on_card("/extlinux/extlinux.conf").decode()
        self.assertRegex(menu, r"(?i)label second\n(.*\n)*? *fdt /kittiwake-b.dtb\n *append .* quiet")
        self.assertNotIn("abel kittiwake-b\n", menu)
        self.board_file(entry.replace("kittiwake-b.dts", "kittiwake-c.dts"))
        self.assertIn("the entry `second` names kittiwake-c.dts", self.build(code=1))

    def board_file(self, more: str) -> None:
        self.write(
            SHELF + "boards/pier.toml", PIER.replace("[kernel]", '[kernel]\nmore-device-trees = ["kittiwake-b.dts"]') + more
        )

    def test_an_image_tree_has_a_configuration_for_each_that_bootloaders_pick_by_the_board(self) -> None:
        self.board_file('[boot]\nmethod = "fit"\n')
        story = self.build()
        self.assertIn("configuration `tide-gauge`", story)
        _, fit = decode_fit(self.on_card("/tide-gauge.itb"))
        self.assertEqual({one.name: (one.device_trees, one.compatible) for one in fit.configurations}, {
            "tide-gauge": (("device-tree",), "harbour,kittiwake"),
            "kittiwake-b": (("device-tree-kittiwake-b",), "harbour,kittiwake-b"),
        })  # fmt: skip
        said = self.tool("dumpimage", "-l", self.write("t.itb", self.on_card("/tide-gauge.itb")))
        self.assertRegex(said, r"Configuration 1 \(kittiwake-b\)\n(.*\n)*? *FDT: +device-tree-kittiwake-b")

    def test_an_overlay_that_fits_only_one_of_them_names_the_other(self) -> None:
        self.write(SHELF + "boards/kittiwake-b.dts", '/dts-v1/;\n/ { compatible = "harbour,kittiwake-b"; };\n')
        self.assertIn("(on kittiwake-b.dts)", self.build(code=1))


class TheRoadOfAnEngineer(OwnBoardTest):
    def test_fragments_come_from_where_they_are_named(self) -> None:
        """The loader and kernel of it are built and booted in tests/emulated_boards.py."""
        self.write(
            SHELF + "boards/pier.toml",
            PIER.replace("kittiwake", "kittiwake-placed").replace("[kernel]", '[kernel]\nfragments = {add = ["pier.kcfg"]}')
            + '[[bootloader]]\nrecipe = "loader"\nfragments = {add = ["pier-loader.kcfg"]}\nenvironment = "pier.env"\n',
        )
        for name, text in (("pier.kcfg", "CONFIG_X=y\n"), ("pier-loader.kcfg", "CONFIG_Y=y\n"), ("pier.env", "bootdelay=1\n")):
            self.write(SHELF + "boards/" + name, text)
        told = self.yarrik_json("show", "pier", "bootloader", at=self.root)["board"]
        values = [one["value"] for one in told.values() if isinstance(one.get("value"), list)]
        self.assertIn(["kittiwake-loader.kcfg", "pier-loader.kcfg"], values)
        self.assertTrue(Path(self.root, "shelves/own/boards/pier.kcfg").exists())
