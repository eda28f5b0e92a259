"""FAT, judged by fsck.fat and mtools, and theirs read by us."""

import hashlib
import os
import random
import string
import unittest
from pathlib import Path

from tests.support import FolderTest
from yarrik.disk.fat import FatUnfit, plan_fat, write_fat
from yarrik.disk.fat_form import FatGeometry
from yarrik.disk.fat_names import short_label, short_names
from yarrik.disk.fat_read import FatDamaged, FatReader
from yarrik.moving import Target
from yarrik.rootfs import Node, RootTree
from yarrik.units import Spare

CLOCK = 1767225600 + 3 * 86400 + 7 * 3600 + 30


class FatTest(FolderTest):
    def file(self, path: str, data: bytes) -> Node:
        digest = hashlib.sha256(data).hexdigest()
        (self.folder / digest).write_bytes(data)
        return Node(path, "file", 0o644, size=len(data), content=digest)

    def fat(self, nodes: list[Node], name: str = "fat.img", **options: object) -> Path:
        """Writes a filesystem and has fsck.fat look at it."""
        settings: dict = {"size": None, "serial": 0x12345678, "clock": CLOCK, "label": "BOOT"} | options
        plan = plan_fat(RootTree.of(nodes), **settings)
        image = self.folder / name
        with image.open("xb") as sink:
            os.ftruncate(sink.fileno(), plan.size)
            write_fat(plan, Target(sink.fileno()), 0, self.folder.joinpath)
        said = self.tool("fsck.fat", "-n", "-v", image)
        for word in ("differ", "Dirty", "orphan", "Bad", "bad", "Wrong", "wrong", "error", "Reclaim"):
            self.assertNotIn(word, said.replace("Checking for bad clusters", ""), said)
        self.assertIn(f"2 FATs, {plan.geometry.bits} bit entries", said)
        return image

    def read(self, image: Path) -> dict[str, bytes | None]:
        """Everything as our reader sees it: contents by path, None for folders."""
        with image.open("rb") as disk:
            reader = FatReader(disk, 0, image.stat().st_size)
            return {e.path: None if e.kind == "folder" else b"".join(reader.content(e)) for e in reader.walk() if e.path != "/"}

    def their_view(self, image: Path) -> dict[str, bytes | None]:
        """The same through mtools."""
        out = self.folder / "mtools"
        out.mkdir()
        self.tool("mcopy", "-s", "-n", "-i", image, "::", out)
        return {"/" + str(path.relative_to(out)): None if path.is_dir() else path.read_bytes() for path in out.rglob("*")}


class FilesystemsAreAccepted(FatTest):
    def test_each_width_holds_what_was_put_in(self) -> None:
        make = random.Random(3).randbytes
        nodes = [
            self.file("/Image", make(300_000)),
            self.file("/extlinux/extlinux.conf", b"default x\n"),
            self.file("/overlays/A very long name with blanks, and signs; ä ö 漢字.dtbo", make(1000)),
            self.file("/empty", b""),
            Node("/no/thing/here", "folder", 0o755),
        ]
        wanted = {
            node.path: (self.folder / node.content).read_bytes() if node.kind == "file" else None
            for node in RootTree.of(nodes).nodes
            if node.path != "/"
        }
        for bits, size in ((12, 2 << 20), (16, 48 << 20), (32, 64 << 20)):
            image = self.fat(nodes, f"fat{bits}", size=size, bits=bits)
            self.assertEqual(self.read(image), wanted)
            with image.open("rb") as disk:
                reader = FatReader(disk, 0, size)
                self.assertEqual((reader.bits, reader.serial, reader.label), (bits, 0x12345678, "BOOT"))
                self.assertEqual({entry.modified for entry in reader.walk() if entry.path != "/"}, {CLOCK})
        environment = os.environ.get("LC_ALL")
        os.environ["LC_ALL"] = "C.UTF-8"
        self.addCleanup(lambda: os.environ.pop("LC_ALL") if environment is None else os.environ.update(LC_ALL=environment))
        self.assertEqual(self.their_view(image), wanted)
        listing = self.tool("mdir", "-i", image, "::")
        self.assertIn("Volume in drive : is BOOT", listing)
        self.assertIn("2026-01-04", listing)
        self.assertIn("1234-5678", listing)

    def test_thousands_of_names_that_collide_as_short_ones(self) -> None:
        names = [f"a rather long name number {number}.text" for number in range(1500)] + ["A_RATH~1.TEX", "A_RATH~7.TEX"]
        image = self.fat([self.file(f"/d/{name}", name.encode()) for name in names])
        self.assertEqual(self.read(image), {"/d": None} | {f"/d/{name}": name.encode() for name in names})
        self.assertEqual(len(self.their_view(image)), 1503)

    def test_a_root_folder_with_more_than_512_entries(self) -> None:
        image = self.fat([self.file(f"/file-{number:04}-x", b"") for number in range(900)], bits=16)
        self.assertEqual(len(self.read(image)), 900)

    def test_random_trees(self) -> None:
        generator = random.Random(8)
        signs = string.ascii_letters + string.digits + " .-_~+[]=;,'äß€😀"
        for turn in range(12):
            nodes: dict[str, Node] = {}
            folders = [""]
            for _ in range(generator.randrange(1, 60)):
                name = "".join(
                    generator.choice(signs) for _ in range(generator.choice((1, 3, 8, 11, 12, 13, 14, 26, 27, 100)))
                ).strip(" .")
                path = f"{generator.choice(folders)}/{name}"
                if not name or path.upper() in nodes:
                    continue
                if generator.random() < 0.2:
                    nodes[path.upper()] = Node(path, "folder", 0o755)
                    folders.append(path)
                else:
                    nodes[path.upper()] = self.file(path, generator.randbytes(generator.choice((0, 1, 511, 512, 513, 70_000))))
            image = self.fat(list(nodes.values()), f"random-{turn}", bits=generator.choice((None, 12, 16)))
            wanted = {n.path: (self.folder / n.content).read_bytes() if n.kind == "file" else None for n in nodes.values()}
            self.assertEqual(self.read(image), wanted, turn)

    def test_a_fit_is_tight_and_spare_room_is_added(self) -> None:
        nodes = [self.file("/data", random.Random(1).randbytes(1 << 20))]
        fit = self.fat(nodes, "fit").stat().st_size
        self.assertLess(fit, (1 << 20) + (128 << 10))
        self.assertAlmostEqual(self.fat(nodes, "spare", spare=Spare(50)).stat().st_size / fit, 1.5, delta=0.01)
        with self.assertRaisesRegex(ValueError, "the content needs"):
            plan_fat(RootTree.of(nodes), size=fit - (128 << 10), serial=1)

    def test_sizes_around_the_borders_of_each_width(self) -> None:
        for size in (64 << 10, 2 << 20, 8 << 20, 9 << 20, 33 << 20, 511 << 20, 512 << 20, 600 << 20):
            self.fat([self.file("/a", b"x")], f"size-{size}", size=size)

    def test_the_same_input_gives_the_same_bytes(self) -> None:
        nodes = [self.file("/b", b"2"), self.file("/a", b"1")]
        self.assertEqual(self.fat(nodes, "one").read_bytes(), self.fat(list(reversed(nodes)), "two").read_bytes())


class WhatFatCannotHoldIsListed(FatTest):
    def test_all_of_it_at_once(self) -> None:
        nodes = [
            Node("/link", "link", 0o777, content="x"),
            Node("/dev/null", "character", 0o666, device=(1, 3)),
            Node("/owned", "folder", 0o755, 5, 5),
            Node("/what?", "folder", 0o755),
            Node("/dot.", "folder", 0o755),
            Node("/Case", "folder", 0o755),
            Node("/case", "folder", 0o755),
            Node("/huge", "file", 0o644, size=1 << 32),
        ]
        with self.assertRaises(FatUnfit) as caught:
            plan_fat(RootTree.of(nodes), size=None, serial=1)
        told = " ".join(caught.exception.reasons)
        self.assertEqual(len(caught.exception.reasons), 7)
        for words in (
            "link /link",
            "character /dev/null",
            "owner 5:5 of /owned",
            "'/what?'",
            "'/dot.'",
            "differ only in case",
            "larger than 4 GiB",
        ):
            self.assertIn(words, told)

    def test_labels_that_cannot_be(self) -> None:
        self.assertEqual(short_label("boot"), b"BOOT       ")
        for label in ("twelve signs", "a/b", "ä"):
            with self.assertRaises(ValueError):
                short_label(label)


class ShortNamesAreMadeUp(unittest.TestCase):
    def test_exact_ones_stay_and_others_get_numbers_that_nobody_has(self) -> None:
        names = ["README", "KERNEL.IMG", "LONGNA~1.TXT", "longname-one.txt", "longname-two.txt", ".hidden", "x", "a.b.c", "+"]
        self.assertEqual([short.decode() for short in short_names(names)],
                         ["README     ", "KERNEL  IMG", "LONGNA~1TXT", "LONGNA~2TXT", "LONGNA~3TXT", "HIDDEN~1   ", "X~1        ", "AB~1    C  ", "_~1        "])  # fmt: skip

    def test_ten_thousand_alike_are_all_different(self) -> None:
        shorts = short_names([f"same beginning {number}" for number in range(10_000)])
        self.assertEqual(len(set(shorts)), 10_000)


class TheirsAreReadAndDamageIsTold(FatTest):
    def test_what_mkfs_and_mtools_made(self) -> None:
        for bits, size in ((12, 4 << 20), (16, 32 << 20), (32, 70 << 20)):
            image = self.folder / f"theirs-{bits}"
            with image.open("wb") as file:
                file.truncate(size)
            self.tool("mkfs.fat", "-F", str(bits), "-n", "THEIRS", image)
            data = random.Random(bits).randbytes(200_000)
            self.write("A long name of mine.bin", data)
            self.write("lower.txt", b"text")
            self.tool("mmd", "-i", image, "::/Sub folder")
            self.tool("mcopy", "-i", image, self.folder / "A long name of mine.bin", "::/Sub folder/")
            self.tool("mcopy", "-i", image, self.folder / "lower.txt", "::/")
            found = self.read(image)
            self.assertEqual(found, {"/Sub folder": None, "/Sub folder/A long name of mine.bin": data, "/lower.txt": b"text"})

    def test_damaged_ones_are_refused_and_never_worse(self) -> None:
        nodes = [self.file(f"/folder/a long name number {number}", bytes(700)) for number in range(40)]
        for bits in (12, 16, 32):
            sound = self.fat(nodes, f"sound-{bits}", bits=bits, size=40 << 20 if bits > 12 else 1 << 20).read_bytes()
            generator = random.Random(bits)
            image = self.folder / f"bad-{bits}"
            image.write_bytes(sound)
            refused = 0
            head = 1 << 16 if bits == 12 else 1 << 18
            for _ in range(150):
                with image.open("r+b") as file:
                    places = [
                        generator.choice((generator.randrange(64), generator.randrange(head)))
                        for _ in range(generator.choice((1, 4, 60)))
                    ]
                    for place in places:
                        file.seek(place)
                        file.write(bytes([generator.randrange(256)]))
                try:
                    self.read(image)
                except FatDamaged:
                    refused += 1
                with image.open("r+b") as file:
                    for place in places:
                        file.seek(place)
                        file.write(sound[place : place + 1])
            self.assertGreater(refused, 10)

    def test_a_chain_that_goes_round_is_seen(self) -> None:
        image = self.fat([self.file("/f", bytes(5000))], bits=16, size=20 << 20)
        geometry = FatGeometry.of(16, (20 << 20) // 512, 4, 512)
        with image.open("r+b") as file:
            file.seek(geometry.reserved * 512 + 2 * 3)
            file.write(b"\2\0")  # the second cluster leads back to the first
        with image.open("rb") as disk, self.assertRaises(FatDamaged):
            reader = FatReader(disk, 0, 20 << 20)
            list(reader.chain(2))


if __name__ == "__main__":
    unittest.main()
