"""The gauge's arm64 image: cross-built, started by a real bootloader in the emulator."""

import json
import unittest

from tests.support import ProgramTest
from yarrik.devicetree import decode_blob


class TheGaugeStarts(ProgramTest):
    def test_the_stand_in_tells_its_name_our_model_and_our_command_line_and_powers_off(self) -> None:
        root = self.folder / "demo"
        self.seed()
        said = self.yarrik("demo", root, "--product", "tide-gauge")
        self.assertIn("booted  in qemu-system-aarch64: `stand-in: powering off`", said)
        disks = json.loads((root / "out/tide-gauge/packages.json").read_text())["disks"]
        guid = next(part["guid"] for part in disks[0]["partitions"] if part["name"] == "root-a")
        before = (root / "out/tide-gauge/SHA256SUMS").read_text()
        report = self.yarrik_json(
            "boot", "tide-gauge", "--expect", "Found /extlinux/extlinux.conf", "--expect", "stand-in kernel 1.0",
            "--expect", "model: Kittiwake harbour controller",
            "--expect", f"command line: root=PARTUUID={guid} rootfstype=ext4 rootwait rw console=ttyAMA0,115200 loglevel=5",
            "--expect", "stand-in: powering off", "--until-off", at=root,
        )  # fmt: skip
        self.assertTrue(report["ok"])
        self.assertEqual(len(report["seen"]), 5)
        self.assertIn(b"Kittiwake", (root / "out/tide-gauge/boot.log").read_bytes())
        self.assertEqual((root / "out/tide-gauge/SHA256SUMS").read_text(), before)
        self.assertFalse(self.yarrik_json("build", "tide-gauge", at=root)["changed"], "booting changed the image in out/")
        self.assertEqual(decode_blob((root / "out/tide-gauge/kittiwake.dtb").read_bytes()).root.find("/psci").name, "psci")
        missing = self.yarrik_json("boot", "tide-gauge", "--expect", "login:", code=1, at=root)
        self.assertEqual((missing["ending"], missing["missing"]), ("ended", "login:"))
        text = self.yarrik("boot", "tide-gauge", "--expect", "login:", code=1, at=root)
        self.assertIn("error BOOT-NOT-SEEN: the emulator ended", text)

    def test_booting_before_building_says_what_to_type(self) -> None:
        root = self.folder / "demo"
        self.seed()
        self.yarrik("demo", root, "--product", "tide-office")
        self.assertIn("next   build it: yarrik build tide-gauge", self.yarrik("boot", "tide-gauge", code=2, at=root))


if __name__ == "__main__":
    unittest.main()
