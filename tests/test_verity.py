"""Verified partitions: the tree of digests, judged by veritysetup, and what the bench makes of changed ones."""

import json
import random
import re
import subprocess
import unittest
from pathlib import Path

from tests.support import ProgramTest
from tests.test_methods import BOARD, GaugeTest
from tests.test_update_command import SLOTS
from yarrik.disk.opening import opened_bytes
from yarrik.disk.verity import BLOCK, Verity, data_in, hashed, read_verity, tree_blocks, whole_size
from yarrik.errors import Damaged


def judged(disk: Path, verity: Verity) -> bool:
    """Whether somebody else's program finds the tree right. It needs no device-mapper for that."""
    words = ["veritysetup", "verify", "--no-superblock", "--format=1", "--hash=sha256", "--data-block-size=4096", "--hash-block-size=4096",
             f"--data-blocks={verity.blocks}", f"--hash-offset={verity.blocks * BLOCK}", f"--salt={verity.salt.hex()}",
             str(disk), str(disk), verity.root.hex()]  # fmt: skip
    return subprocess.run(words, capture_output=True, check=False).returncode == 0


class TheTree(ProgramTest):
    def test_others_find_it_right(self) -> None:
        for blocks in (2, 127, 128, 129, 300, 16_384, 16_385, 20_000):
            data = random.Random(blocks).randbytes(min(blocks, 300) * BLOCK).ljust(blocks * BLOCK, b"\0")
            verity, tree = hashed(lambda at, length, data=data: data[at : at + length], blocks, b"salt" * 4)
            self.assertEqual(len(tree), tree_blocks(blocks) * BLOCK)
            file = self.write("disk", data + tree)
            self.assertTrue(judged(file, verity), blocks)
            for at in (0, len(data) - 1, len(data) + 5, len(data) + len(tree) - BLOCK):
                with file.open("r+b") as disk:
                    disk.seek(at)
                    old = disk.read(1)
                    disk.seek(at)
                    disk.write(bytes([old[0] ^ 1]))
                self.assertFalse(judged(file, verity), (blocks, at))
                with file.open("r+b") as disk:
                    disk.seek(at)
                    disk.write(old)

    def test_room(self) -> None:
        for size in (*range(12 * BLOCK, 700 * BLOCK, BLOCK), 32 << 20, (1 << 30) + BLOCK, 16_513 * BLOCK, 16_514 * BLOCK):
            data = data_in(size)
            self.assertLessEqual(whole_size(data), size)
            self.assertGreater(whole_size(data + BLOCK), size)

    def test_the_table(self) -> None:
        verity = Verity(8000, bytes(range(32)), b"pier")
        self.assertEqual(read_verity(verity.table), verity)
        self.assertEqual(verity.sector().rstrip(b"\0").decode(), f"verity_sectors=64000\nverity_table={verity.table}\n")
        self.assertEqual(len(verity.sector()), 512)
        for text in ("", verity.table + " 1", verity.table.replace("4096", "512", 1), verity.table.replace("8000", "8001", 1),
                     verity.table.replace("sha256", "crc32"), verity.table.upper()):  # fmt: skip
            with self.assertRaises(Damaged):
                read_verity(text)
        with self.assertRaises(Damaged):
            hashed(lambda at, length: bytes(100), 4, b"")


class VerifiedSlots(GaugeTest):
    def setUp(self) -> None:
        super().setUp()
        self.board(SLOTS.replace('name = "root-a"\nsize', 'name = "root-a"\nverified = true\nsize'))

    def table(self, story: str) -> tuple[str, Verity]:
        line = re.search(r'dm-mod.create="root,,,ro,0 (\d+) verity 1 (\S+) (\S+) (.*?) *"', story)
        assert line is not None, story
        self.assertEqual(line[2], line[3])
        verity = read_verity(line[4])
        self.assertEqual(int(line[1]), verity.blocks * 8)
        return line[2].removeprefix("PARTUUID="), verity

    def test_the_command_line_says_by_what_it_is_verified(self) -> None:
        self.build()
        image = self.out / "tide-gauge.img"
        story = " ".join(self.yarrik("boot", "--bench", image).split())
        self.assertIn("root=/dev/dm-0", story)
        self.assertIn("slots.running=a", story)
        self.assertEqual(len(re.findall(r"verified \d+ blocks of the partition root-", story)), 2)
        identifier, verity = self.table(story)
        with opened_bytes(image) as (file, found):
            for name in ("root-a", "root-b"):
                part = next(one for one in found.partitions if one.name == name)
                file.seek(part.start)
                data = file.read(part.size)
                self.assertTrue(judged(self.write("slot", data[:-512]), verity))
                self.assertEqual(data[-512:], verity.sector())
            self.assertEqual(identifier, next(one for one in found.partitions if one.name == "root-a").identifier)
        said = subprocess.run(["e2fsck", "-fn", self.slot(image, "root-a")], capture_output=True, text=True, check=False)
        self.assertEqual(said.returncode, 0, said.stdout)
        # Holes have digests too: all that the tree is over has to reach a card.
        ranges = json.loads((self.out / "tide-gauge.img.map.json").read_text())["ranges"]
        start = next(one.start for one in found.partitions if one.name == "root-a")
        inside = [one for one in ranges if one["start"] <= start and one["end"] >= start + verity.blocks * BLOCK]
        self.assertEqual(len(inside), 1, ranges)

    def slot(self, image: Path, name: str) -> Path:
        with opened_bytes(image) as (file, found):
            part = next(one for one in found.partitions if one.name == name)
            file.seek(part.start)
            return self.write(f"{name}.slot", file.read(part.size))

    def test_a_changed_byte_is_found(self) -> None:
        self.build()
        image = self.out / "tide-gauge.img"
        with opened_bytes(image) as (_, found):
            places = {one.name: (one.start, one.size) for one in found.partitions}
        good = image.read_bytes()
        _, verity = self.table(" ".join(self.yarrik("boot", "--bench", image).split()))
        start, size = places["root-a"]
        for at, why in (
            (verity.blocks * BLOCK - 100, "it holds something else than was written"),
            (verity.blocks * BLOCK + 10, "its tree of digests is damaged"),
            (size - 512 + 30, "BOOT-"),
        ):
            data = bytearray(good)
            data[start + at] ^= 1
            image.write_bytes(data)
            said = self.yarrik("boot", "--bench", image, code=1)
            self.assertIn(why, said)
        # In the other slot it is told, and stops nothing.
        data = bytearray(good)
        data[places["root-b"][0] + verity.blocks * BLOCK - 100] ^= 1
        image.write_bytes(data)
        said = self.yarrik("boot", "--bench", image)
        self.assertIn("`b` would not start: the partition root-b is verified, and it holds something else", said)

    def test_what_cannot_be_verified(self) -> None:
        text = (self.root / BOARD).read_text()
        for change, why in (
            (("read-only = true\n", ""), "is verified, and mounted for writing"),
            (('method = "script"', 'method = "script"\nroot = "partlabel"'), "is verified, and mounted for writing"),
            (('name = "data"\n', 'name = "data"\nverified = true\n'), "PARTITION-VERIFIED"),
        ):
            self.assertIn(change[0], text)
            (self.root / BOARD).write_text(text.replace(*change))
            self.assertIn(why, self.yarrik("plan", "tide-gauge", at=self.root, code=2))


if __name__ == "__main__":
    unittest.main()
