"""`yarrik boot set`: settings changed in finished images, judged by the operating system's programs for FAT."""

import hashlib
import json
import random
import unittest
from pathlib import Path

from tests.support import ProgramTest
from yarrik.boot.environment import decode_environment, encode_environment, newest_of
from yarrik.disk.fat_edit import FatEditor, FatFull


class SettingsChangeInFinishedImages(ProgramTest):
    def card(self, bits: int, text: str = "speed=1\n# why\nlong=x\n") -> Path:
        size = {12: "2M", 16: "20M", 32: "64M"}[bits]
        image = self.folder / f"card{bits}.img"
        self.tool("truncate", "-s", size, image)
        self.tool("mkfs.fat", "-F", str(bits), *(["-s", "1"] if bits == 32 else []), image)
        (self.folder / "settings.txt").write_text(text)
        self.tool("mcopy", "-i", image, self.folder / "settings.txt", "::settings.txt")
        self.tool("mmd", "-i", image, "::deep")
        self.tool("mcopy", "-i", image, self.folder / "settings.txt", "::deep/Other Settings.txt")
        return image

    def text(self, image: Path, path: str = "settings.txt") -> str:
        return self.tool("mtype", "-i", image, f"::{path}")

    def test_values_change_and_the_filesystem_stays_sound(self) -> None:
        for bits in (12, 16, 32):
            image = self.card(bits)
            said = self.yarrik("boot", "set", image, "speed=9", "long=" + "y" * 9000, "fresh=a b")
            self.assertIn("speed  1", said)
            self.assertEqual(self.text(image), "speed=9\n# why\nlong=" + "y" * 9000 + "\nfresh=a b\n")
            self.tool("fsck.fat", "-n", image)
            self.yarrik("boot", "set", image, "long=", "fresh=")
            self.assertEqual(self.text(image), "speed=9\n# why\n")
            self.tool("fsck.fat", "-n", image)
            self.yarrik("boot", "set", image, "speed=3", "--file", "/deep/other settings.txt")
            self.assertIn("speed=3\n", self.text(image, "deep/Other Settings.txt"))
            self.assertIn("speed=9\n", self.text(image))

    def test_what_lies_beside_the_image_follows(self) -> None:
        image = self.card(16)
        before = image.read_bytes()
        (self.folder / "SHA256SUMS").write_text(f"{hashlib.sha256(before).hexdigest()}  {image.name}\n{'0' * 64}  other\n")
        self.tool("zstd", "-q", image, "-o", f"{image}.zst")
        found = self.yarrik_json("boot", "set", image, "speed=2")
        self.assertEqual(found["beside"], [f"{image.name}.zst", "SHA256SUMS"])
        self.assertEqual(found["settings"], {"speed": {"before": "1", "after": "2"}})
        sums = (self.folder / "SHA256SUMS").read_text().splitlines()
        self.assertEqual(sums[0], f"{hashlib.sha256(image.read_bytes()).hexdigest()}  {image.name}")
        self.assertEqual(sums[1:2], [f"{'0' * 64}  other"])
        self.tool("zstd", "-q", "-d", f"{image}.zst", "-o", self.folder / "again.img")
        self.assertEqual((self.folder / "again.img").read_bytes(), image.read_bytes())

    def test_an_environment_block_is_changed_too(self) -> None:
        block = self.folder / "environment.bin"
        block.write_bytes(encode_environment({"bootdelay": "0"}, 512))
        self.yarrik("boot", "set", block, "bootdelay=2", "board=kittiwake")
        self.assertEqual(decode_environment(block.read_bytes()), ({"bootdelay": "2", "board": "kittiwake"}, None))
        self.assertEqual(block.stat().st_size, 512)

    def test_a_redundant_pair_keeps_the_block_that_was_in_force(self) -> None:
        pair = self.folder / "environment.bin"
        in_force = encode_environment({"bootdelay": "0"}, 512, 255)
        pair.write_bytes(in_force + encode_environment({"bootdelay": "9"}, 512, 254))
        pair.chmod(0o640)
        self.yarrik("boot", "set", pair, "bootdelay=2")
        data = pair.read_bytes()
        self.assertEqual(data[:512], in_force)
        self.assertEqual(decode_environment(data[512:], redundant=True), ({"bootdelay": "2"}, 0))
        self.assertEqual(newest_of(data[:512], data[512:]), ({"bootdelay": "2"}, 1))
        self.assertEqual(pair.stat().st_mode & 0o777, 0o640)

    def test_what_cannot_be_leaves_everything_as_it_was(self) -> None:
        image = self.card(12)
        before = image.read_bytes()
        for words, said in (
            (["nonsense"], "SETTING-FORM"),
            (["a=1", "--file", "nowhere.txt"], "no FAT partition has nowhere.txt"),
        ):
            self.assertIn(said, self.yarrik("boot", "set", image, *words, code=2))
            self.assertEqual(image.read_bytes(), before)
        self.write("plain.img", b"\0" * 4096)
        self.assertIn("no FAT partition in it", self.yarrik("boot", "set", "plain.img", "a=1", code=2))
        self.assertIn("IMAGE-UNREADABLE", self.yarrik("boot", "set", "missing.img", "a=1", code=2))
        self.assertEqual([path.name for path in self.folder.glob(".*")], [])

    def test_a_full_filesystem_is_told_and_nothing_is_written(self) -> None:
        image = self.card(12)
        with image.open("r+b") as disk:
            editor = FatEditor(disk, 0, image.stat().st_size)
            with self.assertRaisesRegex(FatFull, "are free"):
                editor.replace("/settings.txt", b"x" * (3 << 20))
            self.assertEqual(editor.changed, [])

    def test_any_sizes_in_any_order(self) -> None:
        chance = random.Random(7)
        for bits in (12, 16, 32):
            image = self.card(bits)
            with image.open("r+b") as disk:
                editor = FatEditor(disk, 0, image.stat().st_size)
                for _ in range(20):
                    path = chance.choice(["/settings.txt", "/DEEP/OTHER SETTINGS.TXT"])
                    data = bytes(chance.randrange(256) for _ in range(chance.choice([0, 1, 511, 2048, 5000, 40000])))
                    editor.replace(path, data)
                    found = next(one for one in editor.walk() if one.path.lower() == path.lower())
                    self.assertEqual(b"".join(editor.content(found)), data)
            self.tool("fsck.fat", "-n", image)


class StoriesAreForMachinesToo(ProgramTest):
    def test_json_of_a_file_that_is_no_image(self) -> None:
        self.write("x.img", b"nothing" * 100)
        found = json.loads(self.yarrik("boot", "--bench", "x.img", "--json", code=1))
        self.assertEqual((found["ok"], found["stop"]["code"]), (False, "BOOT-TABLE"))


if __name__ == "__main__":
    unittest.main()
