"""`yarrik pack`: a folder as a filesystem or archive, judged by the operating system's own programs."""

import hashlib
import os
import random
import struct
import subprocess
import unittest
from pathlib import Path

import zstandard

from tests.support import ProgramTest
from tests.test_read import facts_below, facts_in
from yarrik.disk.archives import CpioReader
from yarrik.disk.ext4_read import Ext4Reader
from yarrik.disk.squashfs import write_squashfs
from yarrik.disk.squashfs_form import BLOCK, compressor
from yarrik.errors import YarrikError
from yarrik.rootfs import read_folder, read_owners


class FoldersArePacked(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.folder / "source"
        (self.source / "bin").mkdir(parents=True)
        (self.source / "etc/empty").mkdir(parents=True)
        (self.source / "bin/tool").write_bytes(random.Random(1).randbytes(70_000))
        (self.source / "bin/tool").chmod(0o4755)
        os.link(self.source / "bin/tool", self.source / "bin/another name")
        os.link(self.source / "bin/tool", self.source / "zlast")
        (self.source / "etc/conf").write_text("text\n")
        os.utime(self.source / "etc/conf", (86400 * 365 * 30, 86400 * 365 * 30))
        (self.source / "link").symlink_to("bin/tool")
        (self.source / os.fsdecode(b"odd \xff\n name")).write_text("odd")
        os.mkfifo(self.source / "pipe")
        (self.source / ("n" * 255)).write_text("long")
        if os.getuid() == 0:
            os.mknod(self.source / "tty", 0o620 | 0o020000, os.makedev(5, 1))
            os.chown(self.source / "etc/conf", 100, 70000)

    def pack(self, form: str, *words: str | Path, code: int = 0) -> Path:
        out = self.folder / f"out.{form}"
        self.said = self.yarrik("pack", self.source, out, "--as", form, "--force", *words, code=code)
        return out

    def test_ext4_keeps_owners_modes_times_links_and_nodes(self) -> None:
        image = self.pack("ext4", "--label", "packed", "--size", "fit + 10%")
        self.assertNotIn("WARNING", self.tool("e2fsck", "-fn", image))
        self.assertEqual(facts_in(image), facts_below(self.source))
        listing = self.tool("debugfs", "-R", "ls -l /bin", image)
        numbers = {line.split()[0] for line in listing.splitlines() if "tool" in line or "another" in line}
        self.assertEqual(len(numbers), 1)
        self.assertIn("Links: 3", self.tool("debugfs", "-R", "stat /zlast", image))
        self.assertIn("Filesystem volume name:   packed", self.tool("dumpe2fs", "-h", image))

    def test_ext4_keeps_extended_attributes_in_the_inode_or_in_a_block(self) -> None:
        """Capabilities, access control lists, and values of every size that there is room for."""
        tool, conf, empty = self.source / "bin/tool", self.source / "etc/conf", self.source / "etc/empty"
        os.setxattr(conf, "user.note", b"short")
        os.setxattr(conf, "user.long", bytes(range(256)) * 7)
        os.setxattr(conf, "user.none", b"")
        os.setxattr(empty, "user.odd", b"x" * 61)
        acl = struct.pack("<I", 2) + b"".join(
            struct.pack("<HHI", tag, rights, name)
            for tag, rights, name in (
                (1, 7, 0xFFFFFFFF),
                (2, 4, 100),
                (4, 5, 0xFFFFFFFF),
                (16, 5, 0xFFFFFFFF),
                (32, 0, 0xFFFFFFFF),
            )
        )
        os.setxattr(empty, "system.posix_acl_access", acl)
        if os.getuid() == 0:
            os.setxattr(tool, "security.capability", struct.pack("<IIIII", 0x02000001, 1 << 10, 0, 0, 0))
        image = self.pack("ext4")
        self.tool("e2fsck", "-fn", image)
        with image.open("rb") as disk:
            reader = Ext4Reader(disk, 0, image.stat().st_size)
            found = {one.path: reader.attributes(one) for one in reader.walk()}
        for path in (tool, conf, empty, self.source / "zlast", self.source / "link"):
            names = os.listxattr(path, follow_symlinks=False)
            wanted = {name: os.getxattr(path, name, follow_symlinks=False) for name in names}
            self.assertEqual(found["/" + str(path.relative_to(self.source))], wanted, path)
        listed = self.tool("debugfs", "-R", "ea_list /etc/conf", image)
        self.assertIn('user.note (5) = "short"', listed)
        self.assertIn("user.long (1792)", listed)
        if os.getuid() == 0:
            self.assertIn("security.capability (20)", self.tool("debugfs", "-R", "ea_list /bin/tool", image))

    def test_a_folder_that_was_a_filesystem_once_brings_its_own_lost_and_found(self) -> None:
        (self.source / "lost+found").mkdir(mode=0o700)
        (self.source / "lost+found/#12").write_text("found again")
        image = self.pack("ext4")
        self.tool("e2fsck", "-fn", image)
        self.assertIn("#12", self.tool("debugfs", "-R", "ls /lost+found", image))

    def test_cpio_comes_back_through_cpio(self) -> None:
        archive = self.pack("cpio")
        out = self.folder / "unpacked"
        out.mkdir()
        with archive.open("rb") as file:
            subprocess.run(
                ["cpio", "-idm", "--no-absolute-filenames", "--quiet"], stdin=file, cwd=out, check=True, capture_output=True
            )
        # cpio sets a folder's time before it fills it, and a link's not at all.
        timeless = [
            {path: (*f[:3], f[3] if f[5] else 0, *f[4:]) for path, f in facts_below(top).items()} for top in (out, self.source)
        ]
        self.assertEqual(timeless[0], timeless[1])
        self.assertEqual((out / "zlast").stat().st_ino, (out / "bin/tool").stat().st_ino)
        self.assertEqual(archive.stat().st_size % 512, 0)

    def test_cpio_is_read_right_ours_and_theirs(self) -> None:
        names = b"\0".join(os.fsencode(path.relative_to(self.source)) for path in sorted(self.source.rglob("*")))
        theirs = subprocess.run(
            ["cpio", "-o0", "-H", "newc", "--quiet"], input=names, cwd=self.source, check=True, capture_output=True
        ).stdout
        wanted = {path: (f[0], f[1], f[2], f[4], f[5]) for path, f in facts_below(self.source).items()}
        for archive in (self.pack("cpio"), self.write("theirs.cpio", theirs)):
            with archive.open("rb") as file:
                reader = CpioReader(file, 0, archive.stat().st_size)
                found = {
                    one.path: (one.mode, one.uid, one.gid, one.target,
                               hashlib.sha256(b"".join(reader.content(one))).hexdigest() if one.kind == "file" else "")
                    for one in reader.walk() if one.path != "/"
                }  # fmt: skip
            self.assertEqual(found, wanted)

    def test_squashfs_comes_back_through_unsquashfs(self) -> None:
        make = random.Random(4)
        (self.source / "large").write_bytes(make.randbytes(300_000) + bytes(400_000) + b"text " * 100_000)
        (self.source / "again").write_bytes((self.source / "large").read_bytes())
        with (self.source / "sparse").open("wb") as file:
            file.truncate(5_000_000)
        (self.source / "many").mkdir()
        for number in range(3000):
            (self.source / f"many/an entry with a longer name, number {number}").write_bytes(make.randbytes(number % 7 * 100))
        sizes = {}
        for compression in ("zstd", "xz", "gzip"):
            image = self.pack("squashfs", "--compress", compression)
            out = self.folder / f"unpacked-{compression}"
            self.tool("unsquashfs", "-no-progress", "-no-xattrs", "-d", out, image)
            # unsquashfs gives setuid bits to root alone.
            kept = 0o7777 if os.getuid() == 0 else 0o777
            found, wanted = (
                {path: (f[0] & kept, *f[1:]) for path, f in facts_below(top).items()} for top in (out, self.source)
            )
            self.assertEqual(found, wanted, compression)
            self.assertEqual((out / "zlast").stat().st_ino, (out / "bin/tool").stat().st_ino)
            self.assertRegex(self.tool("unsquashfs", "-s", image), rf"Compression {compression}[\s\S]*Duplicates are removed")
            sizes[compression] = image.stat().st_size
            theirs = self.folder / "theirs"
            theirs.unlink(missing_ok=True)
            self.tool("mksquashfs", self.source, theirs, "-comp", compression, "-no-progress", "-quiet", "-no-xattrs")
            self.assertLess(sizes[compression] / theirs.stat().st_size, 1.03, compression)

    def test_what_cannot_be_compressed_is_not_tried_at_a_slow_level(self) -> None:
        noise = random.Random(1).randbytes(BLOCK)
        for data in (noise, noise[:1000]):
            self.assertIs(compressor("zstd", 15)(data), data)
        for data in (noise[: BLOCK // 2] * 2, noise[:-4096] + b"tide" * 1024, b"level %d\n" % 7 * 5000):
            small = compressor("zstd", 15)(data)
            self.assertEqual(small, zstandard.ZstdCompressor(level=15).compress(data))
        # Quick levels see it themselves.
        self.assertEqual(compressor("zstd", 3)(noise), zstandard.ZstdCompressor(level=3).compress(noise))
        (self.source / "noise").write_bytes(noise + b"x" * 5000 + noise[::-1])
        out = self.folder / "out"
        self.tool("unsquashfs", "-no-progress", "-no-xattrs", "-d", out, self.pack("squashfs", "--level", "15"))
        self.assertEqual((out / "noise").read_bytes(), (self.source / "noise").read_bytes())

    def test_squashfs_stores_what_is_alike_once_and_nothing_else(self) -> None:
        noise = random.Random(6).randbytes(1_000_000)
        other = bytearray(noise)
        other[500_000] ^= 1  # between the same beginning and the same end
        contents = {"one": noise, "same": noise, "other": bytes(other), "holes": b"x" * 4096 + bytes(1 << 20) + b"y"}
        folder = self.folder / "alike"
        folder.mkdir()
        for name, data in contents.items():
            (folder / name).write_bytes(data)
        with (folder / "holes-too").open("wb") as file:  # the same with a hole in it
            file.write(b"x" * 4096)
            file.seek(1 << 20, os.SEEK_CUR)
            file.write(b"y")
        contents["holes-too"] = contents["holes"]
        self.source = folder
        image = self.pack("squashfs")
        self.assertLess(2 * len(noise), image.stat().st_size)
        self.assertLess(image.stat().st_size, 2 * len(noise) + 50_000)
        out = self.folder / "unpacked"
        self.tool("unsquashfs", "-no-progress", "-no-xattrs", "-d", out, image)
        self.assertEqual({path.name: path.read_bytes() for path in out.iterdir()}, contents)

    def test_squashfs_is_the_same_for_any_number_of_threads(self) -> None:
        (self.source / "large").write_bytes(random.Random(4).randbytes(2_000_000) + b"text " * 400_000)
        images = []
        for threads in (1, 2, 7):
            image = self.folder / f"threads-{threads}"
            with image.open("xb") as sink:
                write_squashfs(read_folder(self.source), sink, str, compression="gzip", threads=threads)
            images.append(image.read_bytes())
        self.assertEqual(len(set(images)), 1)

    def test_tar_comes_back_through_tar(self) -> None:
        out = self.folder / "unpacked"
        out.mkdir()
        self.tool("tar", "--numeric-owner", "-xpf", self.pack("tar"), "-C", out)
        self.assertEqual(facts_below(out), facts_below(self.source))

    def test_fat_takes_what_it_can_and_lists_what_it_cannot(self) -> None:
        self.assertIn("the hard link /bin/tool", self.pack("fat", code=1) and self.said)
        plain = self.folder / "plain"
        (plain / "sub folder").mkdir(parents=True)
        (plain / "sub folder/A name.txt").write_text("text")
        self.source = plain
        image = self.pack("fat", "--all-root", "--size", "8MiB", "--label", "CARD")
        self.assertEqual(image.stat().st_size, 8 << 20)
        self.tool("fsck.fat", "-n", image)
        self.assertEqual(self.tool("mtype", "-i", image, "::/sub folder/A name.txt"), "text")

    def test_the_same_folder_gives_the_same_bytes_and_a_clock_holds_times_still(self) -> None:
        for form in ("ext4", "cpio", "tar"):
            first = self.pack(form, "--clock", "1767225600").read_bytes()
            os.utime(self.source / "etc/conf", (5, 5))
            self.assertEqual(self.pack(form, "--clock", "1767225600").read_bytes(), first, form)
            self.assertNotEqual(self.pack(form).read_bytes(), first, form)

    def test_an_owners_table_sets_owners_modes_and_nodes(self) -> None:
        table = self.write(
            "owners",
            "# comment\n/etc/conf - 0600 7 8\n/dev d 0755 0 0\n/dev/console c 0600 0 0 5 1\n/odd%20%FF%0A%20name - - 9 -\n",
        )
        found = facts_in(self.pack("ext4", "--all-root", "--owners", table))
        self.assertEqual(found["/etc/conf"][:3], (0o600, 7, 8))
        self.assertEqual(found["/bin/tool"][:3], (0o4755, 0, 0))
        self.assertEqual(found[os.fsdecode(b"/odd \xff\n name")][1], 9)
        image = self.folder / "out.ext4"
        self.assertRegex(self.tool("debugfs", "-R", "stat /dev/console", image), r"Type: character special")

    def test_lines_of_a_table_that_cannot_be_are_told_with_their_numbers(self) -> None:
        table = self.write("owners", "/ok - - - -\nrelative - - 0 0\n/x c 0600 0 0\n/x - 0999 0 0\n/../x - - 0 0\n")
        with self.assertRaises(YarrikError) as caught:
            read_owners(table)
        self.assertEqual([trouble.place.line for trouble in caught.exception.troubles], [2, 3, 4, 5])
        with self.assertRaises(YarrikError) as caught:
            read_folder(self.source, read_owners(self.write("o", "/none - 0600 0 0\n/etc c 0600 0 0 1 1\n")))
        self.assertEqual([trouble.code for trouble in caught.exception.troubles], ["OWNERS-PATH", "OWNERS-CLASH"])

    def test_nothing_is_written_over_or_left_half_done(self) -> None:
        out = self.write("there", "mine")
        self.assertIn("error OUT-EXISTS", self.yarrik("pack", self.source, out, "--as", "tar", code=2))
        self.assertEqual(out.read_text(), "mine")
        self.assertIn("error OUT-INSIDE", self.yarrik("pack", self.source, self.source / "x.tar", "--as", "tar", code=2))
        self.assertIn(
            "the content needs",
            self.yarrik("pack", self.source, self.folder / "small", "--as", "ext4", "--size", "1 MiB", code=1),
        )
        self.assertEqual([path.name for path in self.folder.iterdir() if path.name.startswith((".", "small"))], [])
        self.assertIn(
            "is not a size", self.yarrik("pack", self.source, self.folder / "small", "--as", "ext4", "--size", "big", code=1)
        )


if __name__ == "__main__":
    unittest.main()
