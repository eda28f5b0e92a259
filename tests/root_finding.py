"""The shelf's first program of an initramfs, under a real kernel: it finds the root filesystem, waits, checks, falls back.

`make test-linux` runs it, with the kernel that `make demo-linux` built."""

from __future__ import annotations

import os
import shutil
import subprocess
import threading
import unittest
from pathlib import Path
from typing import ClassVar

from tests.kernel_mounts import kernel_image
from tests.support import FolderTest, new_folder
from yarrik.disk.filesystems import Wish
from yarrik.disk.packing import pack_folder
from yarrik.identifiers import derived_guid
from yarrik.model import BUILT_IN_SHELVES
from yarrik.rootfs import read_folder

SOURCES = BUILT_IN_SHELVES / "commons/recipes/root-finder/src"
GCC = ("aarch64-linux-gnu-gcc", "-O2", "-static", "-Wall", "-Wextra", "-Werror")
GUIDS = ("11111111-2222-4333-8444-555555555501", "11111111-2222-4333-8444-5555555555aa")
MIB = 1 << 20


class TheRootIsFound(FolderTest):
    top: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        cls.top = new_folder()
        cls.addClassCleanup(shutil.rmtree, cls.top, ignore_errors=True)
        first = cls.top / "first"
        first.mkdir()
        subprocess.run([*GCC, "-o", first / "init", *sorted(SOURCES.glob("*.c"))], check=True)
        shutil.copy(first / "init", cls.top / "init")
        subprocess.run([*GCC, "-o", cls.top / "started", Path(__file__).parent / "kernel/started.c"], check=True)
        # No /dev/console in it, as in a kernel that carries it.
        pack_folder(
            read_folder(first, all_root=True), cls.top / "first.cpio", Wish("cpio", derived_guid("x"), compression="gzip")
        )
        (cls.top / "Image").write_bytes(kernel_image())
        for name in ("high", "ebb"):
            cls.filesystem(name, "ext4")
        cls.filesystem("packed", "squashfs", compression="zstd")
        cls.filesystem("empty", "ext4", init=False)
        cls.filesystem("needed", "ext4", more={"/etc/gauge": "7"})

    @classmethod
    def filesystem(cls, name: str, form: str, init: bool = True, more: dict[str, str] | None = None, **wish: object) -> None:
        """A root filesystem whose first program says its name; a file of this name, and a label in capitals."""
        folder = cls.top / f"root of {name}"
        for below in ("sbin", "proc", "sys", "dev", "etc"):
            (folder / below).mkdir(parents=True)
        (folder / "name").write_text(name)
        if init:
            shutil.copy(cls.top / "started", folder / "sbin/started")
            (folder / "sbin/init").symlink_to("/sbin/started")  # as the new system sees it, not the initramfs
        for path, text in (more or {}).items():
            Path(f"{folder}{path}").write_text(text)
        label = {"label": name.upper()} if form == "ext4" else {}
        pack_folder(read_folder(folder, all_root=True), cls.top / name, Wish(form, derived_guid(name), **label, **wish),
                    "8 MiB" if form == "ext4" else "fit")  # type: ignore[arg-type]  # fmt: skip

    def disk(self, *parts: str, table: str = "gpt", damage: dict[int, bytes] | None = None) -> Path:
        """A disk with these filesystems, each in a partition of its name."""
        disk = self.folder / f"disk-{len(list(self.folder.glob('disk-*')))}"
        disk.touch()
        os.truncate(disk, (2 + 8 * len(parts)) * MIB)
        words = []
        for number, name in enumerate(parts, 1):
            at = (1 + 8 * (number - 1)) * 2048
            guid = GUIDS[number - 1] if number <= len(GUIDS) else "R"
            words += [f"--new={number}:{at}:+8M", f"--change-name={number}:{name} water", f"--partition-guid={number}:{guid}"]
        if table == "gpt":
            subprocess.run(["sgdisk", *words, disk], check=True, capture_output=True)
        else:
            lines = "".join(f"start={(1 + 8 * n) * 2048}, size=16384, type=83\n" for n in range(len(parts)))
            subprocess.run(["sfdisk", "-q", disk], input=f"label: dos\nlabel-id: 0xab12cd34\n{lines}", text=True, check=True)
        with disk.open("r+b") as file:
            for number, name in enumerate(parts):
                file.seek((1 + 8 * number) * MIB)
                file.write((self.top / name).read_bytes())
            for at, data in (damage or {}).items():
                file.seek(at)
                file.write(data)
        return disk

    def said(self, line: str, *disks: Path, initramfs: Path | None = None) -> str:
        """What a machine with these disks says."""
        emulator = ["qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a53", "-m", "256", "-display", "none", "-serial", "stdio",
                    "-nic", "none", "-no-reboot", "-kernel", str(self.top / "Image"), "-initrd", str(initramfs or self.top / "first.cpio"),
                    "-append", f"console=ttyAMA0 panic=-1 quiet {line}"]  # fmt: skip
        for number, disk in enumerate(disks):
            emulator += ["-drive", f"file={disk},format=raw,if=none,id=d{number}", "-device", f"virtio-blk-pci,drive=d{number}"]
        done = subprocess.run(emulator, stdin=subprocess.DEVNULL, capture_output=True, timeout=300, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout.decode("utf-8", "replace").replace("\r", "")

    def test_by_each_name(self) -> None:
        disk = self.disk("ebb", "high", "packed")
        identifier = derived_guid("high")
        for wanted, name in (
            (f"PARTUUID={GUIDS[1].upper()}", "high"),
            ('"PARTLABEL=high water"', "high"),
            (f"UUID={identifier}", "high"),
            ("LABEL=EBB", "ebb"),
            ("/dev/vda3", "packed"),
        ):
            with self.subTest(wanted):
                word = f'"root={wanted[1:]}' if wanted[0] == '"' else f"root={wanted}"
                said = self.said(f"{word} ro", disk)
                self.assertIn(f"STARTED {name} [/sbin/init] read-only", said)
        self.assertIn(" {/dev} {/proc} {/sys} {/}\n", said)
        self.assertNotIn("Unknown parameter", said)
        self.assertNotIn("still there", said)

    def test_on_a_disk_with_an_mbr_writable_with_its_own_init(self) -> None:
        said = self.said("root=PARTUUID=ab12cd34-02 rw init=/sbin/started -- tide 7", self.disk("ebb", "high", table="dos"))
        self.assertIn("root-finder: PARTUUID=ab12cd34-02 on /dev/vda2, ext4, read-write; starts /sbin/started", said)
        self.assertIn("STARTED high [/sbin/started] [tide] [7] read-write", said)

    def test_it_waits_and_says_what_for(self) -> None:
        said = self.said("root=LABEL=NONE root-finder.wait=2", self.disk("ebb"))
        self.assertIn("root-finder: waits for LABEL=NONE", said)
        self.assertIn("root-finder: LABEL=NONE did not come within 2 s", said)
        self.assertRegex(said, r"  /dev/vda1  ext4  PARTUUID=1{8}-\S+01  PARTLABEL=ebb water  UUID=\S+  LABEL=EBB")
        self.assertIn("no root filesystem can be started", said)
        self.assertIn("Kernel panic", said)

    def test_a_disk_that_comes_late(self) -> None:
        """Its filesystem is not there yet when the machine starts."""
        disk = self.disk("ebb", damage={MIB + 1024: bytes(1024)})
        whole = (self.top / "ebb").read_bytes()[1024:2048]

        def write() -> None:
            with disk.open("r+b") as file:
                file.seek(MIB + 1024)
                file.write(whole)

        timer = threading.Timer(6, write)
        timer.start()
        self.addCleanup(timer.join)
        said = self.said("root=LABEL=EBB", disk)
        self.assertLess(said.index("waits for LABEL=EBB"), said.index("LABEL=EBB on /dev/vda1"))
        self.assertIn("STARTED ebb", said)

    def test_programs_of_the_initramfs_check_and_load_drivers(self) -> None:
        """Both are small ones here that say how they were called; the first calls one filesystem damaged, the other mended."""
        first = self.folder / "first"
        (first / "sbin").mkdir(parents=True)
        shutil.copy(self.top / "init", first / "init")
        code = """#include <stdio.h>
        #include <string.h>
        int main(int count, char **words)
        {
            for (int i = 0; i < count; i++)
                printf("%s%c", words[i], i + 1 < count ? ' ' : '\\n');
            return strstr(words[0], "fsck") ? (strcmp(words[2], "/dev/vda1") ? 1 : 4) : 0;
        }"""
        for name in ("e2fsck", "modprobe"):
            subprocess.run([*GCC, "-x", "c", "-", "-o", first / "sbin" / name], input=code, text=True, check=True)
        packed = self.folder / "first.cpio"
        pack_folder(read_folder(first, all_root=True), packed, Wish("cpio", derived_guid("y"), compression="gzip"))
        xfs = self.folder / "xfs"
        xfs.write_bytes(b"XFSB".ljust(MIB, b"\0"))
        words = "root=LABEL=EBB root-finder.fallback=/dev/vdb root-finder.fallback=LABEL=HIGH root-finder.fallback=/dev/vdc root-finder.wait=1"
        said = self.said(words, self.disk("ebb", "high"), xfs, initramfs=packed)
        for part in (
            "/sbin/e2fsck -p /dev/vda1\n",
            "root-finder: /dev/vda1: /sbin/e2fsck ends with 4\n",
            "/sbin/modprobe -q -b -- fs-xfs\n",
            "root-finder: /dev/vdb holds xfs, and the kernel has no driver for it\n",
            "root-finder: /dev/vda2: mended by /sbin/e2fsck\n",
            "STARTED high",
        ):
            self.assertIn(part, said)
        said = self.said("root=/dev/vdz root-finder.wait=0", self.disk("ebb"), initramfs=packed)
        self.assertRegex(said, r"/sbin/modprobe -q -b -- virtio:d00000002v")

    def test_it_falls_back(self) -> None:
        words = 'root=LABEL={} "root-finder.fallback=PARTLABEL=high water" root-finder.wait=1'
        whole = "root-finder: falls back: PARTLABEL=high water on /dev/vda2"
        noise = bytes(range(256)) * 16
        for first, damage, why in (
            ("empty", {}, "/dev/vda1 has no program /sbin/init that can be started"),
            ("ebb", {MIB + 1024: bytes(1024)}, "LABEL=EBB did not come within 1 s"),
            ("ebb", {MIB + 4096 * one: noise for one in range(1, 200)}, "/dev/vda1 "),
        ):
            with self.subTest(first=first, why=why):
                said = self.said(words.format(first.upper()), self.disk(first, "high", damage=damage))
                self.assertIn(f"root-finder: {why}", said)
                self.assertIn(whole, said)
                self.assertIn("STARTED high", said)

    def test_what_has_to_be_there(self) -> None:
        disk = self.disk("ebb", "needed")
        said = self.said(
            "root=LABEL=EBB root-finder.fallback=LABEL=NEEDED root-finder.need=/etc/gauge root-finder.wait=1", disk
        )
        self.assertIn("/dev/vda1 lacks /etc/gauge", said)
        self.assertIn("STARTED needed", said)

    def test_two_disks_of_one_name(self) -> None:
        said = self.said("root=LABEL=EBB", self.disk("ebb"), self.disk("ebb"))
        self.assertIn("/dev/vda1 and /dev/vdb1 are both LABEL=EBB; the first is taken", said)

    def test_tables_and_names_that_mean_harm(self) -> None:
        """Sizes that lie, and a name that would clear the terminal."""
        evil = bytearray((self.top / "ebb").read_bytes())
        evil[1024 + 120 : 1024 + 136] = b"\x1b[2J\x1b[31mX".ljust(16, b"\0")
        (self.top / "evil").write_bytes(evil)
        said = self.said("root=LABEL=NONE root-finder.wait=0", self.disk("evil"))
        self.assertNotIn("\x1b[2J", said)
        for at, value in ((80, 2**32 - 1), (84, 2**32 - 1), (84, 7), (12, 2**32 - 1), (72, 2**32 - 1)):
            disk = self.disk("ebb")
            with disk.open("r+b") as file:
                file.seek(512 + at)
                file.write(value.to_bytes(4, "little"))
            said = self.said(f"root=PARTUUID={GUIDS[0]} root-finder.fallback=LABEL=EBB root-finder.wait=0", disk)
            self.assertRegex(said, r"STARTED ebb|no root filesystem can be started")

    def test_words_that_are_not_understood(self) -> None:
        said = self.said("root=/dev/vda1 root-finder.wait=soon root-finder.fallbak=/dev/vdb1", self.disk("ebb"))
        self.assertIn("root-finder.wait=soon is not a number of seconds", said)
        self.assertIn("root-finder.fallbak=/dev/vdb1 is no word of mine", said)
        self.assertIn("STARTED ebb", said)


if __name__ == "__main__":
    unittest.main()
