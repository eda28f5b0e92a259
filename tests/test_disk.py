"""Partition tables and ext4, judged by programs that we did not write."""

import hashlib
import io
import itertools
import os
import random
import re
import unittest
import uuid
from pathlib import Path

from tests.support import FolderTest
from yarrik.disk.ext4 import Ext4Plan, Geometry, plan_ext4, write_ext4
from yarrik.disk.ext4_form import EXT2, EXT4, checksum
from yarrik.disk.fat_read import FatReader
from yarrik.disk.gpt import ALL_ROLES, TableDamaged, read_table
from yarrik.disk.layout import LayoutUnfit, lay_out_disk, partition_uuid, root_place
from yarrik.disk.mbr import read_mbr
from yarrik.disk.opening import open_image
from yarrik.disk.writing import write_disk
from yarrik.errors import YarrikError
from yarrik.model import Blob, Disk, Partition
from yarrik.model.rules import ROLES
from yarrik.moving import Target
from yarrik.rootfs import Node, RootTree
from yarrik.units import Spare

MIB = 1 << 20


class DiskTest(FolderTest):
    def content(self, data: bytes) -> str:
        digest = hashlib.sha256(data).hexdigest()
        (self.folder / digest).write_bytes(data)
        return digest

    def file(self, path: str, data: bytes, mode: int = 0o644, uid: int = 0, gid: int = 0) -> Node:
        return Node(path, "file", mode, uid, gid, len(data), self.content(data))

    def plan(self, nodes: list[Node], **options: object) -> Ext4Plan:
        settings: dict = {"size": None, "uuid": uuid.UUID(int=7), "hash_seed": uuid.UUID(int=8), **options}
        return plan_ext4(RootTree.of(nodes), content=self.folder.joinpath, **settings)

    def ext4(self, nodes: list[Node], name: str = "fs.img", **options: object) -> Path:
        """Writes a filesystem and has e2fsck look at it: not one word of complaint."""
        plan = self.plan(nodes, **{"clock": 1767225600, **options})
        image = self.folder / name
        with image.open("xb") as sink:
            os.ftruncate(sink.fileno(), plan.size)
            write_ext4(plan, Target(sink.fileno()), 0, self.folder.joinpath)
        self.assert_clean(image)
        return image

    def assert_clean(self, image: Path) -> None:
        said = self.tool("e2fsck", "-fn", image)
        for line in said.splitlines():
            self.assertRegex(line, r"^e2fsck |^Pass \d: |^.*: \d+/\d+ files .* \d+/\d+ blocks$|^$", said)

    def debugfs(self, image: Path, request: str) -> str:
        return self.tool("debugfs", "-R", request, image)


class Ext4IsAccepted(DiskTest):
    def test_an_empty_tree(self) -> None:
        self.ext4([])

    def test_owners_modes_links_and_nodes_come_back(self) -> None:
        long = "/" + "/".join(["far"] * 40)
        image = self.ext4(
            [
                Node("/var/lib/tide", "folder", 0o750, 100, 100),
                self.file("/bin/su", b"x" * 5000, 0o4755),
                self.file("/etc/high", b"", 0o600, 70000, 80000),
                Node("/short", "link", 0o777, content="bin/su"),
                Node("/fifty-nine", "link", 0o777, content="x" * 59),
                Node("/sixty", "link", 0o777, content="x" * 60),
                Node("/long", "link", 0o777, content=long),
                Node("/dev/console", "character", 0o600, device=(5, 1)),
                Node("/dev/big", "block", 0o660, device=(300, 70000)),
                Node("/pipe", "fifo", 0o622),
            ]
        )
        listing = self.debugfs(image, "ls -l /bin") + self.debugfs(image, "ls -l /etc") + self.debugfs(image, "ls -l /var/lib")
        self.assertRegex(listing, r"104755 \(1\)\s+0\s+0\s+5000 .* su")
        self.assertRegex(listing, r"100600 \(1\)\s+70000\s+80000\s+0 .* high")
        self.assertRegex(listing, r"40750 \(2\)\s+100\s+100\s+\d+ .* tide")
        self.assertIn('Fast link dest: "bin/su"', self.debugfs(image, "stat /short"))
        self.assertIn(f'Fast link dest: "{"x" * 59}"', self.debugfs(image, "stat /fifty-nine"))
        self.assertEqual(self.debugfs(image, "cat /sixty").splitlines()[-1][:60], "x" * 60)
        self.assertIn(long, self.debugfs(image, "cat /long"))
        self.assertRegex(self.debugfs(image, "stat /dev/console"), r"Type: character special.*(\n.*)*05:01")
        self.assertRegex(self.debugfs(image, "stat /dev/big"), r"New-style.* 300:70000")
        self.assertIn("Type: FIFO", self.debugfs(image, "stat /pipe"))
        self.assertIn("Thu Jan  1 00:00:00 2026", self.debugfs(image, "stat /pipe"))

    def test_contents_of_all_sizes_come_back(self) -> None:
        make = random.Random(5).randbytes
        contents = {f"/data/f{size}": make(size) for size in (0, 1, 4095, 4096, 4097, 100_000, 3_000_001)}
        image = self.ext4([self.file(path, data) for path, data in contents.items()])
        self.debugfs(image, f"rdump /data {self.folder}")
        for path, data in contents.items():
            self.assertEqual((self.folder / path[1:]).read_bytes(), data, path)

    def test_folders_of_many_blocks_and_names_of_any_bytes(self) -> None:
        names = [f"a-name-that-takes-some-room-{number:05}" for number in range(6000)]
        names += ["x" * 255, os.fsdecode(b"\xff\xfe bytes"), "new\nline"]
        image = self.ext4([self.file(f"/d/{name}", b"") for name in names])
        listed = self.debugfs(image, "ls -p /d").encode("utf-8", "surrogateescape").decode("utf-8", "replace")
        self.assertEqual(len(re.findall(r"/a-name-that-takes-some-room-\d{5}/", listed)), 6000)
        self.assertIn("/" + "x" * 255 + "/", listed)

    def test_a_tree_of_many_folders(self) -> None:
        nodes = [
            Node(f"/{'/'.join(str(number // 7**depth % 7) for depth in range(5))}", "folder", 0o755) for number in range(2000)
        ]
        self.ext4(nodes)

    def test_a_file_over_several_groups_with_more_than_four_extents(self) -> None:
        sparse = self.folder / ("f" * 64)
        with sparse.open("wb") as file:
            file.truncate(900 * MIB)
            for position in range(0, 900 * MIB, 90 * MIB):
                file.seek(position)
                file.write(b"mark %d" % position)
        image = self.ext4([Node("/big", "file", 0o644, size=900 * MIB, content="f" * 64)])
        self.assertGreater(self.debugfs(image, "dump_extents /big").count("\n"), 6)
        self.debugfs(image, f"dump /big {self.folder}/out")
        with (self.folder / "out").open("rb") as out:
            for position in range(0, 900 * MIB, 90 * MIB):
                out.seek(position)
                self.assertTrue(out.read(20).startswith(b"mark %d" % position))

    def test_sizes_fit_fit_with_spare_room_and_fixed(self) -> None:
        nodes = [self.file("/data", random.Random(1).randbytes(3 * MIB))]
        fit = self.ext4(nodes, "fit").stat().st_size
        spare = self.ext4(nodes, "spare", spare=Spare(50)).stat().st_size
        self.assertLess(fit, 9 * MIB)
        self.assertAlmostEqual(spare / fit, 1.5, delta=0.01)
        self.assertEqual(self.ext4(nodes, "fixed", size=64 * MIB).stat().st_size, 64 * MIB)

    def test_a_fit_of_one_block_less_is_refused(self) -> None:
        nodes = [self.file("/data", b"x" * (2 * MIB + 1))]
        fit = self.plan(nodes)
        with self.assertRaisesRegex(ValueError, "the content needs .* and the size is"):
            self.plan(nodes, size=fit.size - MIB)

    def test_group_borders(self) -> None:
        """Last groups of every awkward length: too small for its own structures, with a backup, just one block."""
        for blocks in (32768, 32769, 32768 + 17, 32768 + 600, 3 * 32768 + 1, 3 * 32768 + 20, 17 * 32768 + 5):
            self.ext4([self.file("/a", b"text")], f"border-{blocks}", size=blocks * 4096)

    def test_many_small_files_do_not_run_out_of_inodes(self) -> None:
        self.ext4([self.file(f"/f/{number}", b"x") for number in range(5000)])

    def test_the_same_input_gives_the_same_bytes(self) -> None:
        nodes = [self.file("/a", b"one"), Node("/b", "link", 0o777, content="a")]
        self.assertEqual(self.ext4(nodes, "one").read_bytes(), self.ext4(list(reversed(nodes)), "two").read_bytes())

    def test_names_and_links_that_cannot_be_held_are_told(self) -> None:
        for node in (
            Node("/" + "x" * 256, "folder", 0o755),
            Node("/l", "link", 0o777, content="x" * 4096),
            Node("/lost+found", "fifo", 0o600),
        ):
            with self.assertRaises(ValueError):
                self.plan([node])

    def test_structures_never_overlap(self) -> None:
        for form, blocks in itertools.product((EXT4, EXT2), (2000, 40_000, 600_000, 5_000_000)):
            geometry = Geometry(form, blocks, 2048, 3)
            seen: set[int] = set()
            for group in range(geometry.groups):
                block_map, inode_map, table = geometry.structures(group)
                for block in (block_map, inode_map, *range(table, table + geometry.table_blocks)):
                    self.assertNotIn(block, seen)
                    seen.add(block)
            free = sum(length for _, length in geometry.free_runs)
            heads = sum(geometry.head(group) for group in range(geometry.groups))
            self.assertEqual(free + len(seen) + heads, blocks)

    def test_the_checksum_is_crc32c_without_inversion(self) -> None:
        self.assertEqual(checksum(0xFFFFFFFF, b"123456789") ^ 0xFFFFFFFF, 0xE3069283)


class DisksAreAccepted(DiskTest):
    disk = Disk(
        name="card", partition=(Partition(name="root", holds="root", size="fit + 20%"), Partition(name="data", size="8 MiB"))
    )

    def image(self, nodes: list[Node]) -> Path:
        file = self.folder / "disk.img"
        write_disk(file, "p", self.disk, RootTree.of(nodes), 1767225600, lambda digest: self.folder / digest)
        return file

    def test_sgdisk_and_sfdisk_find_nothing_wrong(self) -> None:
        image = self.image([self.file("/a", b"text")])
        self.assertIn("No problems found", self.tool("sgdisk", "-v", image))
        said = self.tool("sfdisk", "--verify", image)
        self.assertIn("No errors detected", said)
        shown = self.tool("sgdisk", "-i", "1", image)
        self.assertIn("0FC63DAF-8483-4772-8E79-3D69D8477DE4", shown)
        self.assertIn("Partition name: 'root'", shown)
        guid = re.search(r"unique GUID: (\S+)", shown).group(1).lower()
        self.assertEqual(partition_uuid("p", root_place([self.disk])), guid)
        self.assertIn("0000000000000004", shown)  # legacy bootable: bootloaders look here first

    def test_each_partition_is_a_sound_filesystem(self) -> None:
        image = self.image([self.file("/a", b"text")])
        with image.open("rb") as file:
            table = read_table(file, image.stat().st_size // 512)
            for entry in table.entries:
                part = self.folder / f"part-{entry.name}"
                file.seek(entry.first * 512)
                part.write_bytes(file.read((entry.last - entry.first + 1) * 512))
                self.assert_clean(part)
        self.assertEqual([entry.name for entry in table.entries], ["root", "data"])

    def test_content_that_is_too_large_says_what_weighs_most_and_writes_nothing(self) -> None:
        disk = Disk(name="card", partition=(Partition(name="root", holds="root", size="6 MiB"),))
        heavy = self.file("/heavy", b"x" * (5 * MIB))
        tree = RootTree.of([Node("/heavy", "file", 0o644, size=heavy.size, content=heavy.content, package="maps")])
        with self.assertRaises(YarrikError) as caught:
            write_disk(self.folder / "x.img", "p", disk, tree, 0, lambda digest: self.folder / digest)
        self.assertIn("maps 5.0 MiB", caught.exception.troubles[0].why)
        self.assertFalse((self.folder / "x.img").exists())

    def test_damaged_tables_are_refused(self) -> None:
        image = self.image([])
        sound = image.read_bytes()
        sectors = len(sound) // 512
        self.assertEqual(len(read_table(io.BytesIO(sound), sectors).entries), 2)
        generator = random.Random(3)
        for _ in range(300):
            data = bytearray(sound[: 34 * 512])
            for _ in range(generator.choice((1, 3, 40))):
                data[generator.randrange(512, len(data))] ^= 1 << generator.randrange(8)
            try:
                read_table(io.BytesIO(data), sectors)
            except TableDamaged:
                continue
            self.assertEqual(data[512:604], sound[512:604], "a change of the header went unseen")
            self.assertEqual(data[1024:], sound[1024 : 34 * 512], "a change of the entries went unseen")

    def test_layouts_are_aligned_and_identifiers_stay(self) -> None:
        layout = lay_out_disk("p", self.disk, [3 * MIB + 1, 5])
        self.assertEqual([(part.start, part.size) for part in layout.partitions], [(MIB, 4 * MIB), (5 * MIB, MIB)])
        self.assertEqual(layout, lay_out_disk("p", self.disk, [3 * MIB + 1, 5]))
        self.assertNotEqual(layout.guid, lay_out_disk("q", self.disk, [MIB, MIB]).guid)
        self.assertEqual((layout.guid.version, layout.guid.variant), (8, uuid.RFC_4122))


class DisksOfEveryShape(DiskTest):
    """Tables, copies, blobs, types and sizes, as `sgdisk` and `sfdisk` see them."""

    def write_disk(
        self, disk: Disk, nodes: list[Node] = (), blobs: dict[str, bytes] | None = None, apart: bool = False
    ) -> tuple[Path, object]:
        file = self.folder / "disk.img"
        file.unlink(missing_ok=True)
        places = {name: self.write(f"blobs/{name}", data) for name, data in (blobs or {}).items()}
        layout, _ = write_disk(
            file, "p", disk, RootTree.of(nodes), 1767225600, lambda digest: self.folder / digest, places, apart
        )
        return file, layout

    def refused(self, disk: Disk, blobs: dict[str, bytes] | None = None) -> str:
        with self.assertRaises(YarrikError) as caught:
            self.write_disk(disk, blobs=blobs)
        self.assertFalse((self.folder / "disk.img").exists())
        return caught.exception.troubles[0].what + caught.exception.troubles[0].why

    def test_a_classic_table_with_its_own_kind_of_partuuid(self) -> None:
        disk = Disk(name="card", table="mbr", partition=(
            Partition(name="boot", filesystem="fat", size="8 MiB", holds="boot"),
            Partition(name="root", holds="root"),
            Partition(name="spare", filesystem="none", size="2 MiB", type="swap"),
        ))  # fmt: skip
        image, _ = self.write_disk(disk, [self.file("/boot/Image", b"kernel"), self.file("/etc/x", b"y")], apart=True)
        self.assertIn("No errors detected", self.tool("sfdisk", "--verify", image))
        dump = self.tool("sfdisk", "--dump", image)
        self.assertRegex(dump, r"disk.img1 : start= +2048, size= +16384, type=c, bootable")
        self.assertRegex(dump, r"disk.img3 : .* type=82")
        signature = re.search(r"label-id: 0x([0-9a-f]{8})", dump).group(1)
        self.assertEqual(partition_uuid("p", root_place([disk])), f"{signature}-02")
        with image.open("rb") as file:
            found_signature, entries = read_mbr(file, image.stat().st_size // 512)
            self.assertEqual(f"{found_signature:08x}", signature)
            self.assertEqual(
                [(e.number, e.type, e.bootable) for e in entries], [(1, 0x0C, True), (2, 0x83, False), (3, 0x82, False)]
            )
            reader = FatReader(file, entries[0].first * 512, entries[0].count * 512)
            self.assertEqual([(entry.path, entry.size) for entry in reader.walk()], [("/", 0), ("/Image", 6)])
            file.seek(entries[1].first * 512)
            part = self.folder / "part"
            part.write_bytes(file.read(entries[1].count * 512))
        self.assert_clean(part)
        self.assertNotIn("Image", self.debugfs(part, "ls /boot"))
        self.assertIn("x", self.debugfs(part, "ls /etc"))

    def test_copies_hold_the_same_bytes_and_have_names_of_their_own(self) -> None:
        disk = Disk(
            name="card", partition=(Partition(name="a", holds="root", copies=("b", "c"), read_only=True, type="root-arm64"),)
        )
        image, layout = self.write_disk(disk, [self.file("/x", b"text")])
        self.assertIn("No problems found", self.tool("sgdisk", "-v", image))
        data = image.read_bytes()
        parts = [data[part.start : part.start + part.size] for part in layout.partitions]
        self.assertEqual((len(parts), parts[0]), (3, parts[1]))
        self.assertEqual(parts[0], parts[2])
        self.assertEqual(len({part.guid for part in layout.partitions}), 3)
        first, second = self.tool("sgdisk", "-i", "1", image), self.tool("sgdisk", "-i", "2", image)
        self.assertIn("B921B045-1DF0-41C3-AF44-4C6F280D3FAE", first)
        self.assertIn("Attribute flags: 1000000000000004", first)
        self.assertIn("Attribute flags: 1000000000000000", second)
        self.assertIn("Partition name: 'b'", second)

    def test_blobs_at_offsets_in_copies_with_a_guard(self) -> None:
        loader = bytes(range(256)) * 100
        disk = Disk(name="card", partition=(Partition(name="root", holds="root", align="4 MiB"),),
                    blob=(Blob(file="loader.bin", offset="32 KiB", copies=("256 KiB",), at_most="200 KiB"),))  # fmt: skip
        image, layout = self.write_disk(disk, blobs={"loader.bin": loader})
        data = image.read_bytes()
        for offset in (32 << 10, 256 << 10):
            self.assertEqual(data[offset : offset + len(loader)], loader)
        self.assertEqual(layout.partitions[0].start, 4 * MIB)
        self.assertIn("No problems found", self.tool("sgdisk", "-v", image))
        early = Disk(name="card", partition=disk.partition, blob=(Blob(file="loader.bin", offset="8 KiB"),))
        said = self.refused(early, {"loader.bin": loader})
        self.assertIn("`blob loader.bin` (from 0x2000) overlaps `partition table` (to 0x4400)", said)
        self.assertIn("█", said)
        self.assertIn("its room is 200 KiB", self.refused(disk, {"loader.bin": bytes(201 << 10)}))

    def test_a_loader_in_the_first_sector_and_a_classic_table_live_together(self) -> None:
        disk = Disk(
            name="card", table="mbr", partition=(Partition(name="root", holds="root"),), blob=(Blob(file="stage1", offset="0"),)
        )
        image, _ = self.write_disk(disk, blobs={"stage1": b"\xeb" * 440})
        self.assertEqual(image.read_bytes()[:440], b"\xeb" * 440)
        self.assertIn("No errors detected", self.tool("sfdisk", "--verify", image))
        self.assertIn("overlaps", self.refused(disk, {"stage1": bytes(512)}))

    def test_a_disk_without_a_table_is_one_filesystem_or_only_blobs(self) -> None:
        image, _ = self.write_disk(Disk(name="flash", table="none", partition=(Partition(name="root", holds="root"),)))
        self.assert_clean(image)
        image, _ = self.write_disk(
            Disk(name="chip", table="none", size="1 MiB", blob=(Blob(file="l", offset="0"),)), blobs={"l": b"x" * 1000}
        )
        self.assertEqual((image.stat().st_size, image.read_bytes()[:1001]), (MIB, b"x" * 1000 + b"\0"))

    def test_the_rest_of_a_disk_of_a_given_size(self) -> None:
        disk = Disk(
            name="card",
            partition=(Partition(name="root", holds="root", size="16 MiB"), Partition(name="data", size="rest of 64 MiB")),
        )
        image, layout = self.write_disk(disk)
        self.assertEqual(image.stat().st_size, 64 * MIB)
        self.assertEqual([part.size for part in layout.partitions], [16 * MIB, 46 * MIB])
        self.assertIn("No problems found", self.tool("sgdisk", "-v", image))
        turned = Disk(name="card", partition=tuple(reversed(disk.partition)))
        self.assertIn("is not the last", self.refused(turned))

    def test_what_cannot_be_is_told_before_anything_is_written(self) -> None:
        five = tuple(Partition(name=f"p{number}", size="5 MiB") for number in range(5))
        self.assertIn("holds 4 partitions, and there are 5", self.refused(Disk(name="card", table="mbr", partition=five)))
        twice = (Partition(name="a", size="5 MiB", copies=("a",)),)
        self.assertIn("two partitions are called `a`", self.refused(Disk(name="card", partition=twice)))
        self.assertIn("the disk has 4.0 MiB", self.refused(Disk(name="card", size="4 MiB", partition=five)))
        long = (Partition(name="n" * 37, size="5 MiB", label="n"),)
        self.assertIn("longer than 36 characters", self.refused(Disk(name="card", partition=long)))
        empty = (Partition(name="e", filesystem="none"),)
        self.assertIn("is empty, and has no size", self.refused(Disk(name="card", partition=empty)))

    def test_links_on_a_boot_partition_are_listed_as_what_fat_cannot_hold(self) -> None:
        disk = Disk(name="card", partition=(Partition(name="boot", filesystem="fat", holds="boot"),))
        with self.assertRaises(YarrikError) as caught:
            self.write_disk(disk, [Node("/boot/link", "link", 0o777, content="Image")], apart=True)
        self.assertIn("FAT cannot hold the link /link", caught.exception.troubles[0].what)
        self.assertEqual(caught.exception.troubles[0].code, "PARTITION-UNFIT")

    def test_names_that_cannot_be_labels_are_shortened_to_one(self) -> None:
        names = ("a rather long name for boot files", "a root filesystem's long name, ü")
        disk = Disk(
            name="card",
            partition=(Partition(name=names[0], filesystem="fat", holds="boot"), Partition(name=names[1], holds="root")),
        )
        image, _ = self.write_disk(disk, apart=True)
        with image.open("rb") as file:
            labels = [part.reader.label for part in open_image(file, image.stat().st_size).partitions]
        self.assertEqual(labels, ["ARATHERLONG", "a root filesyste"])

    def test_every_role_that_may_be_written_has_a_number_in_both_tables(self) -> None:
        self.assertEqual(sorted(ROLES), sorted(ALL_ROLES))

    def test_random_disks_never_overlap_unseen(self) -> None:
        generator = random.Random(6)
        written = 0
        for _ in range(300):
            count = generator.randrange(1, 6)
            disk = Disk(
                name="card",
                table=generator.choice(("gpt", "mbr")),
                partition=tuple(
                    Partition(name=f"p{number}", align=generator.choice(("512", "4 KiB", "1 MiB", "8 MiB")))
                    for number in range(count)
                ),
                blob=tuple(
                    Blob(file=f"b{n}", offset=str(512 * generator.randrange(0, 8000))) for n in range(generator.randrange(3))
                ),
            )
            sizes = [generator.randrange(1, 20 * MIB) for _ in range(count)]
            blobs = [generator.randrange(1, 900_000) for _ in disk.blob]
            try:
                layout = lay_out_disk("p", disk, sizes, blobs)
            except LayoutUnfit as error:
                self.assertTrue(error.reasons and error.drawing)
                continue
            written += 1
            areas = layout.areas
            self.assertTrue(all(one.end <= two.start for one, two in itertools.pairwise(areas)), areas)
            self.assertLessEqual(areas[-1].end, layout.size)
            self.assertTrue(all(part.size >= size for part, size in zip(layout.partitions, sizes, strict=True)))
        self.assertGreater(written, 40)


if __name__ == "__main__":
    unittest.main()
