"""Images, archives and tables that other people's programs made are read right."""

import os
import subprocess
import unittest
from pathlib import Path

from tests.support import ProgramTest
from tests.trees import NASTY, ROOT, Facts, facts_in_image, facts_on_disk
from yarrik.disk.opening import open_image, opened_image

PARTS = ("plain", "sizes_around_borders", "odd_names", "longest_names", "many_links", "modes_owners_and_times", "devices",
         "forty_levels", "attributes")  # fmt: skip


class TheirsAreReadRight(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.folder / "source"
        for name in PARTS:
            (self.source / name).mkdir(parents=True)
            NASTY[name](self.source / name)
        self.wanted = facts_on_disk(self.source)

    def assert_read(self, image: Path, wanted: dict[str, Facts], form: str) -> None:
        with opened_image(image) as opened:
            part = opened.partitions[0]
            assert part.reader is not None, part.problem
            found = facts_in_image(part.reader)
            self.assertEqual(part.reader.form, form)
        wrong = sorted(path for path in found.keys() | wanted.keys() if found.get(path) != wanted.get(path))
        self.assertEqual([(path, found.get(path), wanted.get(path)) for path in wrong[:2]], [], f"{len(wrong)} differ")

    def test_squashfs_of_mksquashfs(self) -> None:
        for compression in ("zstd", "xz", "gzip", "lz4"):
            for more in ((), ("-b", "4096"), ("-b", "1M", "-no-fragments"), ("-noI", "-noD", "-noF", "-noX")):
                with self.subTest(f"{compression} {more}"):
                    image = self.folder / "image"
                    image.unlink(missing_ok=True)
                    self.tool("mksquashfs", self.source, image, "-comp", compression, "-no-progress", "-quiet", *more)
                    self.assert_read(image, self.wanted, "squashfs")

    def test_tar_of_tar_in_each_form(self) -> None:
        for form in ("gnu", "pax", "posix"):
            with self.subTest(form):
                image = self.folder / "image"
                more = ("--xattrs", "--xattrs-include=*") if form != "gnu" else ()
                self.tool("tar", f"--format={form}", "--numeric-owner", *more, "-C", self.source, "-cf", image, ".")
                keeps = form != "gnu"
                self.assert_read(
                    image,
                    {path: facts if keeps else facts._replace(attributes=()) for path, facts in self.wanted.items()},
                    "tar",
                )

    def test_compressed_archives(self) -> None:
        plain = self.folder / "image"
        self.tool(
            "tar", "--format=pax", "--numeric-owner", "--xattrs", "--xattrs-include=*", "-C", self.source, "-cf", plain, "."
        )
        for words in (
            ["gzip", "-k"],
            ["xz", "-k", "-T2", "--block-size=200000"],
            ["zstd", "-q", "-k"],
            ["zstd", "-q", "--long=27", "-k"],
        ):
            with self.subTest(words[:-1]):
                before = set(self.folder.iterdir())
                self.tool(*words, plain)
                (packed,) = set(self.folder.iterdir()) - before
                self.assert_read(packed, self.wanted, "tar")
                packed.unlink()

    def test_ext4_of_mkfs_with_attributes(self) -> None:
        image = self.folder / "image"
        self.tool("mkfs.ext4", "-q", "-b", "4096", "-d", self.source, image, "60M")
        # It copies a link's owner and time wrongly on some systems; everything else has to be right.
        found = {}
        with opened_image(image) as opened:
            reader = opened.partitions[0].reader
            assert reader is not None
            found = facts_in_image(reader)
        for path, facts in self.wanted.items():
            with self.subTest(path):
                self.assertEqual(found[path]._replace(modified=0), facts._replace(modified=0))

    def test_fat_of_mtools(self) -> None:
        source = self.folder / "plain"
        (source / "Sub folder").mkdir(parents=True)
        for number in range(100):
            (source / f"Sub folder/A longer name {number}.txt").write_bytes(bytes([number]) * number * 50)
        (source / "SHORT.TXT").write_text("short")
        for bits, size in ((12, "4M"), (16, "32M"), (32, "80M")):
            with self.subTest(bits):
                image = self.folder / f"fat{bits}"
                self.tool("truncate", "-s", size, image)
                self.tool("mkfs.fat", "-F", str(bits), "-n", "CARD", image)
                self.tool("mcopy", "-s", "-m", "-i", image, source / "Sub folder", source / "SHORT.TXT", "::/")
                with opened_image(image) as opened:
                    reader = opened.partitions[0].reader
                    assert reader is not None
                    found = facts_in_image(reader)
                self.assertEqual((reader.form, reader.label), (f"FAT{bits}", "CARD"))
                wanted = {path: (facts.kind, facts.size, facts.digest) for path, facts in facts_on_disk(source).items()}
                self.assertEqual({path: (facts.kind, facts.size, facts.digest) for path, facts in found.items()}, wanted)

    def test_tables_of_sgdisk_and_sfdisk(self) -> None:
        image = self.folder / "image"
        self.tool("truncate", "-s", "64M", image)
        self.tool("sgdisk", "-n", "1:2048:+8M", "-t", "1:EF00", "-c", "1:boot", "-n", "2:0:+16M", "-c", "2:root – Fluß",
                  "-A", "1:set:2", "-u", "2:0FC63DAF-8483-4772-8E79-3D69D8477DE5", image)  # fmt: skip
        with opened_image(image) as opened:
            found = [(part.name, part.start, part.size, part.bootable) for part in opened.partitions]
        self.assertEqual(found, [("boot", 1 << 20, 8 << 20, True), ("root – Fluß", 9 << 20, 16 << 20, False)])
        self.assertEqual(opened.partitions[1].identifier, "0fc63daf-8483-4772-8e79-3d69d8477de5")
        self.tool("sgdisk", "-h", "1", image)
        with opened_image(image) as opened:
            self.assertEqual((opened.table, len(opened.partitions)), ("hybrid", 2))
        other = self.folder / "other"
        self.tool("truncate", "-s", "64M", other)
        script = "label: dos\nlabel-id: 0x1234abcd\nstart=2048, size=16384, type=c, bootable\nsize=32768, type=83\n"
        subprocess.run(["sfdisk", "-q", other], input=script.encode(), check=True, capture_output=True)
        with opened_image(other) as opened:
            found_parts = [(part.identifier, part.start, part.size, part.type, part.bootable) for part in opened.partitions]
        self.assertEqual(
            found_parts,
            [("1234abcd-01", 1 << 20, 8 << 20, "0x0c", True), ("1234abcd-02", 9 << 20, 16 << 20, "0x83", False)],
        )

    def test_swap_and_sparse_images(self) -> None:
        image = self.folder / "swap"
        self.tool("truncate", "-s", "1M", image)
        image.chmod(0o600)
        self.tool("mkswap", "-L", "spare", image)
        with opened_image(image) as opened:
            reader = opened.partitions[0].reader
            assert reader is not None
            self.assertEqual((reader.form, reader.label, list(reader.walk())), ("swap", "spare", []))
        whole, sparse = self.folder / "whole", self.folder / "whole.sparse"
        self.tool("mksquashfs", self.source, whole, "-comp", "gzip", "-no-progress", "-quiet")
        self.tool("truncate", "-s", "8M", whole)
        self.tool("img2simg", whole, sparse)
        self.assert_read(sparse, self.wanted, "squashfs")
        self.assertIn("unwrapped from sparse", self.yarrik("inspect", sparse))

    def test_one_file_is_shown_with_all_that_is_known_of_it(self) -> None:
        image = self.folder / "image"
        self.tool("mksquashfs", self.source, image, "-no-progress", "-quiet")
        shown = self.yarrik("inspect", image, "/attributes/file-2")
        for line in (
            r"mode +0644",
            r"bytes +1\n",
            r"user\.note +v{20}\n",
            r"sha256 +2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881",
        ):
            self.assertRegex(shown, line)
        if ROOT:
            self.assertRegex(
                self.yarrik("inspect", image, "/attributes/file-1"), r"security\.capability +cap_net_bind_service=ep\n"
            )
        rows = self.yarrik_json("inspect", image, "/attributes", "--digest")["files"]
        self.assertEqual(len({row["sha256"] for row in rows if row["kind"] == "file"}), 1)
        self.assertIn("2d711642b726b044", self.yarrik("inspect", image, "/attributes", "--digest"))


class WhatIsNoImageIsTold(ProgramTest):
    def test_each_kind(self) -> None:
        for name, data, said in (
            ("text", b"hello " * 1000, "nothing that is known"),
            ("empty", b"", "empty"),
            ("zeros", bytes(1 << 20), "empty, or a filesystem"),
            ("cut.gz", b"\x1f\x8b\x08\0\0\0\0\0\0\3" + os.urandom(100), "error IMAGE-DAMAGED"),
            ("cut.xz", b"\xfd7zXZ\0\0\1\x69\x22\xde\x36" + bytes(50), "error IMAGE-DAMAGED"),
            ("cut.zst", b"\x28\xb5\x2f\xfd\x04\x88" + bytes(40), "error IMAGE-DAMAGED"),
            ("cut.sparse", b"\x3a\xff\x26\xed" + bytes(40), "error IMAGE-DAMAGED"),
        ):
            with self.subTest(name):
                image = self.write(name, data)
                self.assertIn(said, self.yarrik("inspect", image, code=1 if "error" in said else 0))
        with (self.folder / "text").open("rb") as file:
            self.assertIsNone(open_image(file, 6000).partitions[0].reader)


if __name__ == "__main__":
    unittest.main()
