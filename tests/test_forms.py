"""What can be asked of filesystems and images beside their content: sizes, inodes, room to grow, identifiers, and the files
that are written beside an image."""

import hashlib
import json
import os
import random
import re
import shutil
import subprocess
import unittest
import uuid
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO
from unittest import mock

from tests.support import FolderTest, ProgramTest
from yarrik.disk.block_map import BLOCK
from yarrik.disk.compressing import compress_parts
from yarrik.disk.ext4_folders import name_hashes
from yarrik.disk.filesystems import Wish
from yarrik.disk.forms import FORMS, FilesystemForm
from yarrik.disk.found import Found
from yarrik.disk.opening import opened_image
from yarrik.disk.packing import pack_folder
from yarrik.disk.writing import write_disk
from yarrik.errors import Damaged, Unfit, YarrikError
from yarrik.identifiers import derived_guid
from yarrik.model import Disk, Partition
from yarrik.rootfs import RootTree, read_folder

MIB = 1 << 20


class FormTest(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.folder / "source"
        (self.source / "folder/many").mkdir(parents=True)
        make = random.Random(3)
        for number in range(600):
            (self.source / f"folder/many/a name with a number {number}").write_bytes(make.randbytes(number * 7))
        (self.source / "large").write_bytes(make.randbytes(5 * MIB))

    def pack(self, form: str, *words: str | Path, code: int = 0) -> Path:
        out = self.folder / f"out.{form}"
        self.said = self.yarrik("pack", self.source, out, "--as", form, "--force", *words, code=code)
        return out

    def header(self, image: Path) -> dict[str, str]:
        lines = self.tool("dumpe2fs", "-h", image).splitlines()
        return {key: value.strip() for key, _, value in (line.partition(":") for line in lines)}

    def assert_clean(self, image: Path) -> None:
        said = self.tool("e2fsck", "-fn", image)
        for line in said.splitlines():
            self.assertRegex(line, r"^e2fsck |^Pass \d: |^.*: \d+/\d+ files .* \d+/\d+ blocks$|^$", said)


class Ext4AsItIsAskedFor(FormTest):
    def test_inodes_reserved_blocks_label_and_identifier(self) -> None:
        guid = "12345678-9abc-4def-8123-456789abcdef"
        image = self.pack(
            "ext4", "--size", "64MiB", "--inodes", "20000", "--reserved", "5", "--label", "tide", "--identifier", guid
        )
        self.assert_clean(image)
        found = self.header(image)
        self.assertGreaterEqual(int(found["Inode count"]), 20000)
        self.assertEqual(int(found["Reserved block count"]), 64 * 256 * 5 // 100)
        self.assertEqual((found["Filesystem volume name"], found["Filesystem UUID"]), ("tide", guid))
        for word in ("dir_index", "resize_inode", "metadata_csum", "extent", "64bit", "has_journal"):
            self.assertIn(word, found["Filesystem features"].split())

    def test_ext2_has_nothing_that_old_readers_do_not_know(self) -> None:
        image = self.pack("ext2", "--label", "old")
        self.assert_clean(image)
        features = self.header(image)["Filesystem features"].split()
        self.assertEqual(features, ["ext_attr", "resize_inode", "filetype", "sparse_super", "large_file"])

    def test_inodes_do_not_run_out_before_the_blocks_do(self) -> None:
        """With files like those that are there, the room that is left has inodes enough."""
        shutil.rmtree(self.source)
        (self.source / "f").mkdir(parents=True)
        for number in range(3000):
            (self.source / f"f/{number}").write_bytes(b"x")
        found = self.header(self.pack("ext4", "--size", "200MiB"))
        self.assertGreaterEqual(int(found["Free inodes"]), int(found["Free blocks"]) * 9 // 10)
        found = self.header(self.pack("ext4", "--size", "fit + 100%"))
        self.assertGreaterEqual(int(found["Free inodes"]), 3000)

    def test_it_grows_later(self) -> None:
        for form in ("ext4", "ext2"):
            with self.subTest(form):
                image = self.pack(form)
                os.truncate(image, 3 << 30)
                self.tool("resize2fs", image)
                self.assert_clean(image)
                self.assertEqual(int(self.header(image)["Block count"]), (3 << 30) // 4096)
                shown = self.tool("debugfs", "-R", "stat /large", image)
                self.assertIn(f"Size: {5 * MIB}", shown)

    def test_inode_tables_are_left_to_the_kernel_or_written_to_their_ends(self) -> None:
        lazy = self.pack("ext4", "--size", "300MiB")
        self.assertNotIn("ITABLE_ZEROED", self.tool("dumpe2fs", lazy))
        stored = lazy.stat().st_blocks
        full = self.pack("ext4", "--size", "300MiB", "--full-tables")
        self.assertEqual(self.tool("dumpe2fs", full).count("ITABLE_ZEROED"), 3)
        # One inode for each 16 KiB: 4.7 MiB of tables.
        self.assertGreater((full.stat().st_blocks - stored) * 512, 4 * MIB)

    def test_long_folders_are_hashed_as_the_others_do_it(self) -> None:
        image = self.pack("ext4")
        self.assertIn("Hash Version: 1", self.tool("debugfs", "-R", "htree_dump /folder/many", image))
        names = [
            b"a",
            b"tide.log",
            b"x" * 255,
            "Fluß".encode(),
            b"\xff" * 33,
            b"exactly-32-bytes-long-0123456789",
            b"\x80" * 64,
        ]
        seed = derived_guid("seed")
        for name, (major, minor) in zip(names, name_hashes(names, seed).tolist(), strict=True):
            said = self.tool("debugfs", "-R", f"dx_hash -h half_md4 -s {seed} {os.fsdecode(name)}", image)
            self.assertRegex(said, rf"is 0x{major:x} \(minor 0x{minor:x}\)", name)

    def test_holes_follow_from_the_content_and_not_from_how_it_is_stored(self) -> None:
        with (self.source / "sparse").open("wb") as file:
            file.truncate(300 * MIB)
            file.seek(100 * MIB)
            file.write(b"here")
        images = [self.pack("ext4", "--clock", "0").read_bytes()]
        self.assertLess(len(images[0]), 20 * MIB)
        (self.source / "sparse").write_bytes((self.source / "sparse").read_bytes())
        self.assertGreater((self.source / "sparse").stat().st_blocks, 500_000)
        images.append(self.pack("ext4", "--clock", "0").read_bytes())
        self.assertEqual(images[0], images[1])

    def test_what_cannot_be_is_refused_before_anything_is_written(self) -> None:
        for words, said in (
            (("ext4", "--reserved", "60"), "60"),
            (("ext4", "--identifier", "nonsense"), "identifies no filesystem"),
            (("squashfs", "--label", "x"), "squashfs has no label"),
            (("squashfs", "--compress", "gzip", "--level", "20"), "gzip has levels from 1 to 9"),
            (("cpio", "--compress", "gzip", "--level", "20"), "gzip has levels from 1 to 9"),
            (("tar", "--compress", "xz", "--level", "10"), "xz has levels from 0 to 9"),
            (("cpio", "--size", "5MiB"), "cpio has no size of its own"),
            (("cpio", "--compress", "lz4"), "not a compression that is known"),
            (("squashfs", "--size", "1 MiB"), "the content needs"),
        ):
            with self.subTest(words):
                image = self.pack(*words, code=2 if words[-1] == "60" else 1)
                self.assertIn(said, self.said)
                self.assertFalse(image.exists())


class WhatLiesBesideAnImage(FormTest):
    def test_each_kind_for_each_filesystem(self) -> None:
        kinds = ("zstd", "gzip", "xz", "map", "sparse")
        for form, more in (("ext4", ("--size", "80MiB")), ("ext2", ()), ("squashfs", ())):
            with self.subTest(form):
                image = self.pack(form, *more, *(word for kind in kinds for word in ("--also", kind)))
                data = image.read_bytes()
                for suffix, tool in ((".zst", "zstd"), (".gz", "gzip"), (".xz", "xz")):
                    packed = image.with_name(image.name + suffix)
                    out = self.folder / "plain"
                    with out.open("wb") as sink:
                        subprocess.run([tool, "-dc", packed], stdout=sink, check=True)
                    self.assertEqual(out.read_bytes(), data, suffix)
                    self.assertIn(form, self.yarrik("inspect", packed))
                sparse = image.with_name(image.name + ".sparse")
                self.tool("simg2img", sparse, self.folder / "whole")
                self.assertEqual((self.folder / "whole").read_bytes(), data)
                self.assert_map_is_right(image, data)

    def assert_map_is_right(self, image: Path, data: bytes) -> None:
        found = json.loads(image.with_name(image.name + ".map.json").read_text())
        self.assertEqual((found["image"], found["size"]), (image.name, len(data)))
        self.assertEqual(found["sha256"], hashlib.sha256(data).hexdigest())
        at = 0
        for part in found["ranges"]:
            self.assertGreaterEqual(part["start"], at)
            self.assertEqual(part["start"] % BLOCK, 0)
            self.assertEqual(data[at : part["start"]].count(0), part["start"] - at)
            self.assertEqual(hashlib.sha256(data[part["start"] : part["end"]]).hexdigest(), part["sha256"])
            at = part["end"]

    def test_a_card_full_of_old_data_needs_nothing_but_the_mapped_ranges(self) -> None:
        """Whatever lay on a card before, the filesystem on it is sound when these alone are written."""
        plain = self.folder / "plain-files"
        (plain / "sub").mkdir(parents=True)
        (plain / "sub/a file with a name").write_bytes(b"text" * 5000)
        whole = self.source
        for form, more in (
            ("ext4", ("--size", "200MiB")),
            ("ext2", ("--size", "40MiB")),
            ("fat", ("--size", "40MiB", "--all-root")),
        ):
            with self.subTest(form):
                self.source = plain if form == "fat" else whole
                image = self.pack(form, "--also", "map", *more)
                card = self.folder / "card"
                ranges = json.loads(image.with_name(image.name + ".map.json").read_text())["ranges"]
                data = image.read_bytes()
                old = bytearray(random.Random(9).randbytes(1 << 16) * (len(data) >> 16))
                for part in ranges:
                    old[part["start"] : part["end"]] = data[part["start"] : part["end"]]
                self.assertLess(sum(part["end"] - part["start"] for part in ranges), len(data) // 2)
                card.write_bytes(old)
                if form == "fat":
                    said = self.tool("fsck.fat", "-n", card)
                    self.assertRegex(said, r"\d+ files, \d+/\d+ clusters")
                else:
                    self.assert_clean(card)
                listing = self.yarrik("inspect", card, "/", "--json")
                self.assertEqual(
                    [row["path"] for row in json.loads(listing)["files"]],
                    [row["path"] for row in self.yarrik_json("inspect", image, "/")["files"]],
                )
                self.source = whole

    def test_compression_is_the_same_for_any_number_of_threads(self) -> None:
        image = self.folder / "image"
        image.write_bytes(random.Random(1).randbytes(3 * MIB) * 9)
        for form in ("zstd", "gzip"):
            found = set()
            for threads in (1, 2, 5):
                out = self.folder / f"{form}-{threads}"
                with image.open("rb") as source, out.open("wb") as sink:
                    compress_parts(source, sink, form, threads=threads)
                found.add(out.read_bytes())
            self.assertEqual(len(found), 1, form)

    def test_archives_are_compressed_so_that_others_read_them(self) -> None:
        for compression, tool in (("gzip", "gzip"), ("xz", "xz"), ("zstd", "zstd")):
            image = self.pack("tar", "--compress", compression, "--clock", "0")
            self.assertRegex(self.tool(tool, "-lv" if tool != "gzip" else "-l", image), r"\d")
            out = self.folder / f"out-{compression}"
            out.mkdir()
            self.tool("tar", f"--{compression}", "-xf", image, "-C", out)
            self.assertEqual((out / "large").read_bytes(), (self.source / "large").read_bytes())
            self.assertEqual(image.read_bytes(), self.pack("tar", "--compress", compression, "--clock", "0").read_bytes())


class PackingIsTheSameWhereverItIsDone(FormTest):
    def test_the_same_bytes_for_a_copy_of_the_folder(self) -> None:
        other = self.folder / "elsewhere/copy"
        shutil.copytree(self.source, other)
        for form in ("ext4", "ext2", "squashfs", "cpio", "tar"):
            with self.subTest(form):
                images = []
                for number, source in enumerate((self.source, other)):
                    out = self.folder / f"{number}.{form}"
                    wish = Wish(form, derived_guid("same"))
                    pack_folder(read_folder(source, all_root=True, clock=1), out, wish)
                    images.append(hashlib.sha256(out.read_bytes()).hexdigest())
                self.assertEqual(images[0], images[1])

    def test_a_file_that_grows_shorter_meanwhile_is_told(self) -> None:
        for form in ("ext4", "ext2", "squashfs", "cpio", "tar"):
            tree = read_folder(self.source)
            for name in ("large", "folder/many/a name with a number 599"):
                with self.subTest(f"{form} {name}"):
                    path = self.source / name
                    before = path.read_bytes()
                    path.write_bytes(before[:-1])
                    with self.assertRaisesRegex(ValueError, "truncated"):
                        pack_folder(tree, self.folder / f"{form}-{re.sub('[^a-z]', '', name)}", Wish(form, derived_guid("x")))
                    path.write_bytes(before)


class NamesOnly:
    """Reads the made-up form below."""

    form, label = "names", ""

    def __init__(self, file: BinaryIO, start: int, size: int) -> None:
        file.seek(start)
        head, *self.names = file.read(size).rstrip(b"\0").decode().split("\n")
        if head != "NAMES":
            raise Damaged("it does not begin with NAMES")

    def walk(self) -> Iterator[Found]:
        return (Found(name, "file", 0o644, 0, 0, 0, 0) for name in self.names)

    def content(self, found: Found) -> Iterator[bytes]:
        return iter(())

    def attributes(self, found: Found) -> dict[str, bytes]:
        return {}


class AMadeUpFormIsAnObject(FolderTest):
    """A form that nobody has: a list of names. All of it is one object in the table."""

    @staticmethod
    def stream(tree: RootTree, wish: Wish, content: object, sink: BinaryIO) -> None:
        if any(node.kind == "link" for node in tree.nodes):
            raise Unfit("it cannot hold links")
        sink.write("\n".join(["NAMES", *(node.path for node in tree.nodes if node.kind == "file")]).encode())

    def setUp(self) -> None:
        super().setUp()
        form = FilesystemForm("names", lambda head: head[:5] == b"NAMES", NamesOnly, stream=self.stream, has_room=True)
        patch = mock.patch.dict(FORMS, {"names": form})
        patch.start()
        self.addCleanup(patch.stop)

    def test_it_is_packed_into_partitions_read_and_says_what_it_cannot_hold(self) -> None:
        self.write("tree/a", "1")
        self.write("tree/b", "2")
        tree = read_folder(self.folder / "tree")
        wish = Wish("names", uuid.UUID(int=1))
        pack_folder(tree, self.folder / "x.img", wish, "64 KiB")
        with opened_image(self.folder / "x.img") as image:
            self.assertEqual([one.path for one in image.partitions[0].reader.walk()], ["/a", "/b"])
        disk = Disk(name="card", partition=(Partition(name="root", holds="root", filesystem="names", size="1 MiB"),))
        write_disk(self.folder / "disk.img", "p", disk, tree, 0, Path)
        with opened_image(self.folder / "disk.img") as image:
            self.assertEqual((image.table, image.partitions[0].reader.form), ("gpt", "names"))
        (self.folder / "tree/c").symlink_to("a")
        with self.assertRaises(YarrikError) as caught:
            write_disk(self.folder / "disk2.img", "p", disk, read_folder(self.folder / "tree"), 0, Path)
        self.assertEqual(caught.exception.troubles[0].code, "PARTITION-UNFIT")
        with self.assertRaisesRegex(Unfit, "cannot hold links"):
            pack_folder(read_folder(self.folder / "tree"), self.folder / "y.img", wish)

    def test_one_that_nobody_has(self) -> None:
        with self.assertRaisesRegex(Unfit, "`nmaes` is not a form"):
            pack_folder(read_folder(self.folder), self.folder / "y.img", Wish("nmaes", uuid.UUID(int=1)))


if __name__ == "__main__":
    unittest.main()
