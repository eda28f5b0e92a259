"""Boards with disks of several shapes, from their definitions to finished images."""

import json
import unittest

from tests.support import WorkspaceTest
from yarrik.disk.records import Record

BOARD = """
arch = "host"
[kernel]
recipe = "kernel"
console = "ttyS0"
arguments = ["quiet", "panic=5"]
[[disk]]
name = "card"
table = "mbr"
[[disk.partition]]
name = "boot"
filesystem = "fat"
size = "4 MiB"
holds = "boot"
[[disk.partition]]
name = "root"
holds = "root"
size = "fit + 10%"
[[disk]]
name = "chip"
table = "none"
size = "512 KiB"
[[disk.blob]]
file = "loader.bin"
offset = "0"
copies = ["256 KiB"]
at-most = "128 KiB"
"""


class BoardsOfSeveralDisks(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("w/s/boards/b.toml", BOARD)
        self.loader = bytes(range(251)) * 100
        self.write("w/s/boards/loader.bin", self.loader)

    def test_each_disk_is_an_image_of_its_own(self) -> None:
        self.yarrik("build", at=self.root)
        out = self.root / "out/p"
        self.assertEqual(sorted(file.name for file in out.glob("*.img")), ["p-card.img", "p-chip.img"])
        chip = (out / "p-chip.img").read_bytes()
        self.assertEqual(len(chip), 512 << 10)
        for offset in (0, 256 << 10):
            self.assertEqual(chip[offset : offset + len(self.loader)], self.loader)
        self.assertIn("p-chip.img", (out / "SHA256SUMS").read_text())
        disks = {disk["name"]: disk for disk in json.loads((out / "packages.json").read_text())["disks"]}
        self.assertEqual([blob["start"] for blob in disks["chip"]["blobs"]], [0, 256 << 10])

    def test_boot_files_lie_on_their_partition_and_the_menu_names_them_from_there(self) -> None:
        self.yarrik("build", at=self.root)
        card = self.root / "out/p/p-card.img"
        self.assertIn("No errors detected", self.tool("sfdisk", "--verify", card))
        boot = self.folder / "boot"
        self.yarrik("inspect", card, "--extract", "/", "--to", boot, "--partition", "partition 1")
        menu = (boot / "extlinux/extlinux.conf").read_text()
        kernel = next(line.split()[1] for line in menu.splitlines() if line.strip().startswith("linux "))
        self.assertTrue((boot / kernel.strip("/")).is_file(), menu)
        signature = self.tool("sfdisk", "--disk-id", card).strip().removeprefix("0x")
        self.assertIn(f"append root=PARTUUID={signature}-02 rootwait rw console=ttyS0 quiet panic=5", menu)
        listing = self.yarrik("inspect", card, "/boot", "--partition", "partition 2")
        self.assertNotIn("extlinux", listing)

    def test_a_changed_loader_writes_the_disks_again_and_nothing_else(self) -> None:
        self.yarrik("build", at=self.root)
        card = (self.root / "out/p/p-card.img").read_bytes()
        self.write("w/s/boards/loader.bin", self.loader[::-1])
        plan = self.yarrik_json("plan", at=self.root)["steps"]
        self.assertEqual((plan[0]["step"], plan[0]["reason"]), ("write p", "blob loader.bin changed"))
        self.assertEqual(self.ran(self.yarrik_json("build", at=self.root)), ["write p"])
        self.assertEqual((self.root / "out/p/p-card.img").read_bytes(), card)
        self.assertTrue((self.root / "out/p/p-chip.img").read_bytes().startswith(self.loader[::-1]))

    def test_a_loader_that_is_missing_or_too_large_stops_the_build(self) -> None:
        self.write("w/s/boards/loader.bin", bytes(129 << 10))
        said = self.yarrik("build", code=1, at=self.root)
        self.assertIn("error DISK-LAYOUT", said)
        self.assertIn("loader.bin has 129.0 KiB, and its room is 128 KiB", said)
        (self.root / "s/boards/loader.bin").unlink()
        self.assertIn("error SOURCE-MISSING", self.yarrik("build", code=2, at=self.root))

    def test_definitions_of_disks_are_checked_key_by_key(self) -> None:
        for old, new, words in (
            ('table = "mbr"', 'table = "mbrr"', "did you mean `mbr`?"),
            ('holds = "boot"', 'holds = "boot"\ntype = "liunx"', "is no type of partition"),
            ('size = "4 MiB"', 'size = "rest of lots"', "is not a size"),
            ('size = "4 MiB"', 'align = "3 KiB"', "is no alignment"),
            ('offset = "0"', 'offset = "zero"', "is not a size"),
            ('offset = "0"', "offset = 0", "text in quotes belongs here"),
            ('filesystem = "fat"', 'filesystem = "fatt"', "did you mean `fat`?"),
        ):
            self.assertIn(old, BOARD)
            self.write("w/s/boards/b.toml", BOARD.replace(old, new, 1))
            said = self.yarrik("check", code=2, at=self.root)
            self.assertIn(words, said)
            self.assertRegex(said, r"where  s/boards/b\.toml:\d+ \[disk\.\d")

    def test_a_board_without_a_root_partition_is_told(self) -> None:
        self.write("w/s/boards/b.toml", BOARD.replace('holds = "root"', 'holds = "nothing"'))
        self.assertIn("error ROOT-PARTITION-MISSING", self.yarrik("check", code=2, at=self.root))


class BoardsExtendBoards(WorkspaceTest):
    def test_a_derived_board_changes_one_partition_and_keeps_files_beside_their_own_board(self) -> None:
        self.write("w/s/boards/b.toml", BOARD)
        self.write("w/s/boards/loader.bin", b"the parent's loader")
        self.write(
            "w/boards/child.toml",
            'extends = "b"\n[[disk]]\nname = "card"\n[[disk.partition]]\nname = "root"\nsize = "16 MiB"\n',
        )
        self.write("w/products/p.toml", 'board = "child"\nprofile = "p"\nimage = "i"\n')
        self.yarrik("build", at=self.root)
        disks = {disk["name"]: disk for disk in json.loads((self.root / "out/p/packages.json").read_text())["disks"]}
        self.assertEqual({part["name"]: part["bytes"] >> 20 for part in disks["card"]["partitions"]}, {"boot": 4, "root": 16})
        self.assertTrue((self.root / "out/p/p-chip.img").read_bytes().startswith(b"the parent's loader"))
        said = self.yarrik("show", "child", at=self.root)
        self.assertRegex(said, r"disk\.1\.partition\.2\.size +16 MiB +boards/child\.toml:6, over s/boards/b\.toml:17")
        hostname = self.yarrik_json("inspect", self.root / "out/p/p-card.img", "/etc/hostname")["files"][0]
        self.assertEqual(hostname["bytes"], len("child\n"))


class RecordsAreDescribedOnce(unittest.TestCase):
    record = Record(16, ("first", 0, "H"), ("name", 4, "4s"), ("pair", 8, "2H"), ("last", 15, "B"))

    def test_what_is_packed_is_unpacked_and_gaps_are_zero(self) -> None:
        values = {"first": 0x1234, "name": b"abcd", "pair": (1, 2), "last": 255}
        data = self.record.pack(**values)
        self.assertEqual(data, b"\x34\x12\0\0abcd\1\0\2\0\0\0\0\xff")
        self.assertEqual(self.record.unpack(data), values)
        self.assertEqual(self.record.pack(), bytearray(16))

    def test_the_quick_way_gives_the_same_bytes(self) -> None:
        quick = self.record.packer("first", "pair", "last")
        self.assertEqual(quick(7, 8, 9, 10), self.record.pack(first=7, pair=(8, 9), last=10))

    def test_mistakes_in_a_description_are_told(self) -> None:
        for fields in ([("a", 0, "I"), ("b", 2, "I")], [("a", 14, "I")]):
            with self.assertRaises(ValueError):
                Record(16, *fields)
        with self.assertRaises(KeyError):
            self.record.pack(frist=1)
        with self.assertRaises(ValueError):
            self.record.packer("last", "first")


if __name__ == "__main__":
    unittest.main()
