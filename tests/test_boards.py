"""Boards with disks of several shapes, from their definitions to finished images."""

import hashlib
import json
import unittest

from tests.support import WorkspaceTest
from yarrik.binary import Record

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

    def test_boot_files_and_root_may_lie_on_disks_of_their_own(self) -> None:
        board = BOARD.replace(
            '[[disk.partition]]\nname = "root"', '[[disk]]\nname = "flash"\n[[disk.partition]]\nname = "root"'
        )
        self.write("w/s/boards/b.toml", board)
        self.yarrik("build", at=self.root)
        story = (self.root / "out/p/boot-story.txt").read_text()
        self.assertRegex(story, r"boot menu +boot:/extlinux/extlinux.conf(.|\n)*partition root, ext4(.|\n)*no problem found")
        self.assertIn("loader.bin at 0x40000", story)

    def test_boot_files_lie_on_their_partition_and_the_menu_names_them_from_there(self) -> None:
        self.yarrik("build", at=self.root)
        card = self.root / "out/p/p-card.img"
        self.assertIn("No errors detected", self.tool("sfdisk", "--verify", card))
        boot = self.folder / "boot"
        self.yarrik("inspect", card, "--extract", "/", "--to", boot, "--partition", "boot")
        menu = (boot / "extlinux/extlinux.conf").read_text()
        kernel = next(line.split()[1] for line in menu.splitlines() if line.strip().startswith("linux "))
        self.assertTrue((boot / kernel.strip("/")).is_file(), menu)
        signature = self.tool("sfdisk", "--disk-id", card).strip().removeprefix("0x")
        self.assertIn(f"append root=PARTUUID={signature}-02 rootfstype=ext4 rootwait rw console=ttyS0 quiet panic=5", menu)
        listing = self.yarrik("inspect", card, "/boot", "--partition", "root")
        self.assertNotIn("extlinux", listing)
        self.assertEqual(self.yarrik("inspect", card, "/boot", "--partition", "2"), listing)

    def test_a_changed_loader_writes_the_disks_again_and_nothing_else(self) -> None:
        self.yarrik("build", at=self.root)
        card = (self.root / "out/p/p-card.img").read_bytes()
        self.write("w/s/boards/loader.bin", self.loader[::-1])
        plan = self.yarrik_json("plan", at=self.root)["steps"]
        self.assertEqual((plan[0]["step"], plan[0]["reason"]), ("write p", "blob loader.bin changed"))
        self.assertEqual(self.ran(self.yarrik_json("build", at=self.root)), ["write p", "check p"])
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
            ('holds = "boot"', 'holds = "boot"\ntype = "liunx"', "is not a type of partition"),
            ('size = "4 MiB"', 'size = "rest of lots"', "is not a size"),
            ('size = "4 MiB"', 'align = "3 KiB"', "is not an alignment"),
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
        self.assertRegex(said, r"disk\.1\.partition\.2\.size +16 MiB +boards/child\.toml:6\n +over .* +s/boards/b\.toml:17\n")
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


EVERYTHING = """
arch = "host"
[kernel]
recipe = "kernel"
console = "ttyS0"
[[disk]]
name = "card"
table = "hybrid"
guid = "12345678-9abc-4def-8123-456789abcdef"
signature = "0x1234abcd"
also = ["zstd", "map", "sparse"]
[[disk.partition]]
name = "boot"
filesystem = "fat"
identifier = "CAFE-0001"
in-mbr = true
holds = "boot"
[[disk.partition]]
name = "root-a"
filesystem = "squashfs"
compression = "xz"
read-only = true
holds = "root"
copies = ["root-b"]
guid = "12345678-9abc-4def-8123-456789abcde0"
[[disk.partition]]
name = "data"
filesystem = "ext4"
size = "32 MiB"
identifier = "12345678-9abc-4def-8123-456789abcde1"
inodes = 9000
reserved-percent = 2
tables = "full"
[[disk.partition]]
name = "old"
filesystem = "ext2"
size = "4 MiB"
[[disk.partition]]
name = "swap"
filesystem = "swap"
type = "swap"
size = "1 MiB"
[[disk.partition]]
name = "splash"
filesystem = "raw"
file = "splash.bin"
size = "128 KiB"
align = "4 KiB"
"""


class ABoardWithAllThatADiskCanHold(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("w/s/boards/b.toml", EVERYTHING)
        self.splash = bytes(range(256)) * 100
        self.write("w/s/boards/splash.bin", self.splash)
        self.yarrik("build", at=self.root)
        self.image = self.root / "out/p/p.img"

    def test_tables_and_identifiers_are_as_they_were_set(self) -> None:
        said = self.tool("sgdisk", "-v", self.image)
        self.assertRegex(said, r"No problems found|[Nn]o errors")
        listed = self.tool("sgdisk", "-p", self.image)
        self.assertIn("12345678-9ABC-4DEF-8123-456789ABCDEF", listed)
        self.assertIn("12345678-9ABC-4DEF-8123-456789ABCDE0", self.tool("sgdisk", "-i", "2", self.image))
        self.assertIn("12345678-9abc-4def-8123-456789abcde0", (self.root / "out/p/packages.json").read_text())
        self.assertEqual(self.image.read_bytes()[440:444], bytes.fromhex("cdab3412"))
        found = self.yarrik_json("inspect", self.image)
        self.assertEqual(found["table"], "hybrid")
        forms = [(part["name"], part["filesystem"]) for part in found["partitions"]]
        self.assertEqual(forms, [("boot", "FAT12"), ("root-a", "squashfs"), ("root-b", "squashfs"), ("data", "ext4"),
                                 ("old", "ext2"), ("swap", "swap"), ("splash", None)])  # fmt: skip
        # The classic table shows the boot partition, and covers the rest.
        entries = self.image.read_bytes()[446:510]
        self.assertEqual([entries[at + 4] for at in (0, 16, 32, 48)], [0x0C, 0xEE, 0, 0])

    def test_each_partition_is_sound(self) -> None:
        found = {part["name"]: part for part in self.yarrik_json("inspect", self.image)["partitions"]}
        data = self.image.read_bytes()
        for name, words in (("boot", ("fsck.fat", "-n")), ("root-a", ("unsquashfs", "-s")), ("root-b", ("unsquashfs", "-l")),
                            ("data", ("e2fsck", "-fn")), ("old", ("e2fsck", "-fn")), ("swap", ("swaplabel",))):  # fmt: skip
            part = self.folder / name
            part.write_bytes(data[found[name]["start"] : found[name]["start"] + found[name]["bytes"]])
            with self.subTest(name):
                self.tool(*words, part)
        self.assertEqual((self.folder / "root-a").read_bytes(), (self.folder / "root-b").read_bytes())
        header = self.tool("dumpe2fs", "-h", self.folder / "data")
        self.assertIn("12345678-9abc-4def-8123-456789abcde1", header)
        self.assertRegex(header, r"Reserved block count: +163\n")
        self.assertEqual(self.tool("blkid", "-p", "-s", "UUID", "-o", "value", self.folder / "boot").strip(), "CAFE-0001")
        start = found["splash"]["start"]
        self.assertEqual(data[start : start + len(self.splash)], self.splash)

    def test_what_is_written_beside_it_belongs_to_it(self) -> None:
        out = self.root / "out/p"
        data = self.image.read_bytes()
        sums = (out / "SHA256SUMS").read_text()
        for name in ("p.img.zst", "p.img.map.json", "p.img.sparse"):
            self.assertIn(name, sums)
        self.tool("zstd", "-q", "-d", out / "p.img.zst", "-o", self.folder / "plain")
        self.assertEqual((self.folder / "plain").read_bytes(), data)
        self.tool("simg2img", out / "p.img.sparse", self.folder / "whole")
        self.assertEqual((self.folder / "whole").read_bytes(), data)
        mapped = json.loads((out / "p.img.map.json").read_text())
        self.assertEqual(mapped["sha256"], hashlib.sha256(data).hexdigest())
        self.assertLess(sum(part["end"] - part["start"] for part in mapped["ranges"]), len(data) // 2)

    def test_what_does_not_go_together_is_told(self) -> None:
        for old, new, words in (
            ("in-mbr = true\n", "", "mark them `in-mbr = true`"),
            ('file = "splash.bin"\n', "", "names no `file`"),
            ('size = "128 KiB"', 'size = "12 KiB"', "the content needs 25.0 KiB"),
            ('compression = "xz"', 'compression = "gzip"\nlevel = 15', "gzip has levels from 1 to 9"),
            (
                'filesystem = "swap"\ntype = "swap"\nsize = "1 MiB"',
                'filesystem = "swap"\nsize = "8 KiB"',
                "40.0 KiB at the least",
            ),
        ):
            self.assertIn(old, EVERYTHING)
            self.write("w/s/boards/b.toml", EVERYTHING.replace(old, new, 1))
            self.assertIn(words, self.yarrik("build", code=1, at=self.root))
        for old, new, words in (
            ('"CAFE-0001"', '"CAFE"', "identifies no filesystem"),
            ('"0x1234abcd"', '"0"', "is not a signature of a disk"),
            ("reserved-percent = 2", "reserved-percent = 70", "70 is out of range: from 0 to 50"),
            ("inodes = 9000", "inodes = 3", "3 is out of range: from 16 to 4294967295"),
            ('"12345678-9abc-4def-8123-456789abcde0"', '"12"', "is not a GUID"),
            ('also = ["zstd", "map", "sparse"]', 'also = ["zip"]', "zip"),
        ):
            self.assertIn(old, EVERYTHING)
            self.write("w/s/boards/b.toml", EVERYTHING.replace(old, new, 1))
            self.assertIn(words, self.yarrik("check", code=2, at=self.root))


if __name__ == "__main__":
    unittest.main()
