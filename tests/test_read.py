"""Readers: filesystems that others made, our own, damaged and hostile ones; `yarrik inspect`."""

import hashlib
import json
import os
import random
import stat
import subprocess
import time
import unittest
from pathlib import Path

from tests.support import FolderTest, ProgramTest
from tests.test_disk import DiskTest
from yarrik.disk.ext4_read import Ext4Damaged, Ext4Reader
from yarrik.disk.extracting import Extracted, extract
from yarrik.disk.found import Found
from yarrik.disk.opening import open_image
from yarrik.rootfs import Node

Facts = tuple[int, int, int, int, str, str]


def facts_below(folder: Path) -> dict[str, Facts]:
    """Mode, owner, group, time, link's destination and digest of all that lies in a folder of this machine."""
    facts: dict[str, Facts] = {}
    for path in sorted(folder.rglob("*")):
        status = path.lstat()
        target = os.readlink(path) if path.is_symlink() else ""
        digest = hashlib.sha256(path.read_bytes()).hexdigest() if stat.S_ISREG(status.st_mode) else ""
        facts["/" + str(path.relative_to(folder))] = (
            status.st_mode & 0o7777,
            status.st_uid,
            status.st_gid,
            int(status.st_mtime),
            target,
            digest,
        )
    return facts


def facts_in(image: Path) -> dict[str, Facts]:
    """The same, through our reader."""
    facts: dict[str, Facts] = {}
    with image.open("rb") as disk:
        reader = Ext4Reader(disk, 0, image.stat().st_size)
        for found in reader.walk():
            if found.path not in ("/", "/lost+found"):
                digest = hashlib.sha256(b"".join(reader.content(found))).hexdigest() if found.kind == "file" else ""
                facts[found.path] = (found.mode, found.uid, found.gid, found.modified, found.target, digest)
    return facts


class TheirFilesystemsAreReadRight(FolderTest):
    """Every form that `mkfs` makes: with and without extents, of each block size, with inline data, meta groups, clusters."""

    def setUp(self) -> None:
        super().setUp()
        self.source = self.folder / "source"
        (self.source / "deep/er").mkdir(parents=True)
        make = random.Random(1)
        for number in range(200):
            (self.source / f"file{number}").write_bytes(
                make.randbytes(make.choice((0, 1, 59, 60, 61, 100, 160, 4096, 5000, 300_000)))
            )
        (self.source / "deep/er/short").symlink_to("x" * 30)
        (self.source / "deep/er/long").symlink_to("y" * 100)
        with (self.source / "sparse").open("wb") as file:
            file.seek(40 << 20)
            file.write(b"end")
        os.link(self.source / "file1", self.source / "hard")
        os.mkfifo(self.source / "pipe")
        (self.source / "file3").chmod(0o4751)
        os.utime(self.source / "file4", (0, 86400))
        if os.getuid() == 0:
            os.chown(self.source / "file2", 70000, 80000)
        (self.source / "many").mkdir()
        for number in range(2500):
            (self.source / f"many/an-entry-with-a-longer-name-{number}").touch()
        # mke2fs asks the filesystem for holes, and some answer for what is on the disk, not for what was written just now.
        os.sync()
        self.wanted = facts_below(self.source)

    def test_each_form(self) -> None:
        forms = {
            "ext4": ["-t", "ext4"],
            "ext2": ["-t", "ext2"],
            "ext3 of 1 KiB blocks": ["-t", "ext3", "-b", "1024"],
            "ext4 of 2 KiB blocks": ["-t", "ext4", "-b", "2048", "-O", "^64bit"],
            "ext4 with inline data": ["-t", "ext4", "-O", "inline_data", "-I", "256"],
            "ext4 with meta groups": ["-t", "ext4", "-O", "meta_bg,^resize_inode", "-b", "1024"],
            "ext2 with small inodes": ["-t", "ext2", "-b", "1024", "-I", "128"],
            "ext4 with clusters": ["-t", "ext4", "-O", "bigalloc"],
        }
        for name, options in forms.items():
            image = self.folder / "image"
            image.unlink(missing_ok=True)
            subprocess.run(["mkfs.ext4", "-q", "-d", self.source, *options, image, "150M"], check=True, capture_output=True)
            found = facts_in(image)
            odd = {path for path in found.keys() | self.wanted.keys() if found.get(path) != self.wanted.get(path)}
            self.assertEqual({path: (found.get(path), self.wanted.get(path)) for path in odd}, {}, name)
            with image.open("rb") as disk:
                self.assertEqual(Ext4Reader(disk, 0, image.stat().st_size).form, name.split()[0])


class OursAreReadRight(DiskTest):
    def test_what_was_written_comes_back(self) -> None:
        nodes = [
            self.file("/etc/conf", b"text", 0o640, 5, 6),
            Node("/dev/big", "block", 0o660, device=(300, 70000)),
            Node("/dev/tty", "character", 0o620, device=(5, 0)),
            Node("/l", "link", 0o777, content="x" * 59),
            Node("/ll", "link", 0o777, content="y" * 300),
            self.file("/huge", bytes(range(256)) * 40_000),
        ]
        image = self.ext4(nodes)
        with image.open("rb") as disk:
            reader = Ext4Reader(disk, 0, image.stat().st_size)
            found = {one.path: one for one in reader.walk()}
            self.assertEqual(b"".join(reader.content(found["/huge"])), bytes(range(256)) * 40_000)
        self.assertEqual((found["/etc/conf"].mode, found["/etc/conf"].uid, found["/etc/conf"].gid), (0o640, 5, 6))
        self.assertEqual((found["/dev/big"].device, found["/dev/tty"].device), ((300, 70000), (5, 0)))
        self.assertEqual((found["/l"].target, found["/ll"].target), ("x" * 59, "y" * 300))
        self.assertEqual(found["/etc"].modified, 1767225600)

    def test_damaged_ones_end_in_a_sentence_and_soon(self) -> None:
        """Bytes changed where structures lie: superblock, descriptors, inodes, folders, extent trees."""
        nodes = [self.file(f"/folder/file-{number}", bytes(5000)) for number in range(60)]
        nodes += [Node(f"/deep/{'x/' * number}end", "folder", 0o755) for number in range(1, 12)]
        image = self.ext4(nodes)
        sound = image.read_bytes()
        generator = random.Random(7)
        refused = 0
        for _ in range(700):
            places = [generator.choice((1024 + generator.randrange(1024), 4096 + generator.randrange(64), generator.randrange(200 * 1024),
                                        4_300_000 + generator.randrange(300_000))) for _ in range(generator.choice((1, 3, 30)))]  # fmt: skip
            with image.open("r+b") as file:
                for place in places:
                    file.seek(place)
                    file.write(bytes([generator.randrange(256)]))
            started = time.process_time()
            try:
                with image.open("rb") as disk:
                    reader = Ext4Reader(disk, 0, len(sound))
                    for found in reader.walk():
                        if found.kind == "file" and found.size < 1 << 24:
                            for _part in reader.content(found):
                                pass
            except Ext4Damaged:
                refused += 1
            self.assertLess(time.process_time() - started, 10)
            with image.open("r+b") as file:
                for place in places:
                    file.seek(place)
                    file.write(sound[place : place + 1])
        self.assertGreater(refused, 60)


class FilesAreTakenOutSafely(FolderTest):
    """A reader that says whatever a hostile image could."""

    class Hostile:
        form, label = "hostile", ""

        def content(self, found: Found):
            yield b"content"

    def extract(self, *found: Found) -> Extracted:
        return extract(self.Hostile(), found, "/", self.folder / "to")

    def entry(self, path: str, kind: str = "file", **more) -> Found:
        return Found(path, kind, 0o644, 0, 0, 7 if kind == "file" else 0, 0, **more)

    def test_links_are_made_last_so_that_nothing_is_written_through_them(self) -> None:
        outside = self.folder / "outside"
        outside.mkdir()
        link = self.entry("/door", "link", target=str(outside))
        done = self.extract(link, self.entry("/door/file"))
        self.assertEqual(done.refused, ["/door/file, which lies below the link /door"])
        self.assertEqual(list(outside.iterdir()), [])

    def test_a_link_that_was_there_before_is_not_followed(self) -> None:
        (self.folder / "to").mkdir()
        self.write("victim", "mine")
        (self.folder / "to/file").symlink_to(self.folder / "victim")
        with self.assertRaises(OSError):
            self.extract(self.entry("/file"))
        self.assertEqual((self.folder / "victim").read_text(), "mine")

    def test_names_that_lead_out_are_refused(self) -> None:
        for path in ("/../x", "/a/../../x", "/a//x", "/./x"):
            with self.assertRaises((ValueError, OSError)):
                self.extract(self.entry(path))
        self.assertFalse((self.folder / "x").exists())

    def test_what_only_root_could_make_is_left_out_and_told(self) -> None:
        done = self.extract(self.entry("/null", "character", device=(1, 3)), self.entry("/ok"))
        self.assertEqual((done.files, done.for_root, done.refused), (1, ["the character /null"], []))
        self.assertEqual((self.folder / "to/ok").read_bytes(), b"content")


class ImagesAreInspected(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "demo"
        self.seed()
        self.yarrik("demo", self.root, "--product", "tide-gauge", "--no-boot")
        self.image = self.root / "out/tide-gauge/tide-gauge.img"

    def test_the_disk_s_map_its_partitions_and_what_to_type_next(self) -> None:
        said = self.yarrik("inspect", self.image)
        self.assertIn("GUID partition table", said)
        self.assertRegex(said, r"1  boot +·█+·+ +0x100000 +1\.0 MiB  FAT12 `BOOT`, bootable")
        self.assertRegex(said, r"3  root-b .* ext4 `root-a`")
        self.assertIn(f"next: yarrik inspect {self.image} /", said)
        answer = self.yarrik_json("inspect", self.image)
        manifest = json.loads((self.root / "out/tide-gauge/packages.json").read_text())
        self.assertEqual(
            [part["identifier"] for part in answer["partitions"]], [part["guid"] for part in manifest["disks"][0]["partitions"]]
        )

    def test_files_as_the_manifest_has_them(self) -> None:
        answer = self.yarrik_json("inspect", self.image, "/", "--partition", "root-a")
        rows = {row["path"]: row for row in answer["files"]}
        for wanted in json.loads((self.root / "out/tide-gauge/files.json").read_text())["files"]:
            if wanted["path"].startswith("/boot/"):
                self.assertNotIn(wanted["path"], rows)
                continue
            row = rows[wanted["path"]]
            self.assertEqual(
                (row["kind"], row["mode"], row["uid"], row["gid"]),
                (wanted["kind"], wanted["mode"], wanted["uid"], wanted["gid"]),
            )
            self.assertEqual((row.get("to"), row.get("device")), (wanted.get("to"), wanted.get("device")), wanted)
        said = self.yarrik("inspect", self.image, "/usr/lib", "--partition", "root-b")
        self.assertRegex(said, r"l0777 +0:0 +\d+ +/usr/lib/libtide.so.2 → libtide.so.2.0")

    def test_paths_are_taken_out_and_only_into_the_folder_named(self) -> None:
        out = self.folder / "out"
        self.assertIn(
            "3 files written", self.yarrik("inspect", self.image, "--extract", "/", "--to", out, "--partition", "boot")
        )
        self.assertEqual((out / "kittiwake.dtb").read_bytes(), (self.root / "out/tide-gauge/kittiwake.dtb").read_bytes())
        self.assertIn("default tide-gauge", (out / "extlinux/extlinux.conf").read_text())
        self.assertIn(
            "error EXTRACT-FAILED",
            self.yarrik("inspect", self.image, "--extract", "/", "--to", out, "--partition", "boot", code=1),
        )
        one = self.folder / "one"
        self.yarrik("inspect", self.image, "--extract", "/etc/hostname", "--to", one, "--partition", "root-a")
        self.assertEqual((one / "hostname").read_text(), "kittiwake\n")
        said = self.yarrik("inspect", self.image, "--extract", "/etc", "--to", one, code=2)
        self.assertIn("error PATH-AMBIGUOUS: several partitions have /etc: root-a, root-b", said)
        self.assertIn("choose one with --partition", said)

    def test_requests_that_cannot_be_met_say_what_to_do(self) -> None:
        self.assertIn("error PATH-MISSING", self.yarrik("inspect", self.image, "/none", code=2))
        self.assertIn("did you mean `root-a`?", self.yarrik("inspect", self.image, "--partition", "root-aa", code=2))
        self.assertIn("error IMAGE-UNREADABLE", self.yarrik("inspect", self.folder / "none.img", code=2))
        self.assertIn("--to", self.yarrik("inspect", self.image, "--extract", "/", code=2))

    def test_any_file_at_all_is_answered(self) -> None:
        self.assertIn("nothing that is known here", self.yarrik("inspect", self.write("text", "no image")))
        self.assertIn("no partition table", self.yarrik("inspect", self.write("empty", b"")))
        sound = self.image.read_bytes()
        self.assertIn("checksum", self.yarrik("inspect", self.write("bad", sound[:540] + b"\xff" + sound[541:])))
        damaged = bytearray(sound)
        damaged[0x200000 + 1024 + 4 : 0x200000 + 1024 + 8] = b"\xff" * 4
        self.assertIn(
            "damaged: its superblock gives impossible sizes", self.yarrik("inspect", self.write("worse", bytes(damaged)))
        )

    def test_an_ext4_superblock_that_only_its_checksum_betrays(self) -> None:
        sound = bytearray(self.image.read_bytes())
        label = 0x200000 + 1024 + 0x78  # s_volume_name of the first root
        self.assertEqual(sound[label : label + 4], b"root")
        sound[label] ^= 1
        said = self.yarrik("inspect", self.write("relabelled", bytes(sound)))
        self.assertIn("damaged: its superblock does not have the checksum that it gives", said)

    def test_mutated_disks_never_bring_it_down(self) -> None:
        sound = self.image.read_bytes()
        generator = random.Random(12)
        image = self.folder / "mutated"
        image.write_bytes(sound)
        for _ in range(300):
            places = [generator.choice((generator.randrange(34 * 512), 0x100000 + generator.randrange(4096), 0x200000 + generator.randrange(8192)))
                      for _ in range(generator.choice((1, 5, 40)))]  # fmt: skip
            with image.open("r+b") as file:
                for place in places:
                    file.seek(place)
                    file.write(bytes([generator.randrange(256)]))
                opened = open_image(file, len(sound))
                self.assertIn(opened.table, ("gpt", "mbr", "none"))
                for part in opened.partitions:
                    self.assertTrue(part.reader is not None or part.problem)
                for place in places:
                    file.seek(place)
                    file.write(sound[place : place + 1])


if __name__ == "__main__":
    unittest.main()
