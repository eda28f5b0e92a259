"""The bench board: mistakes planted into the demo are caught by the build, each by its code, before anything is flashed."""

import json
import shutil
import unittest

from tests.support import ProgramTest, edit_boot_file, new_folder
from yarrik.boot.bench import try_image
from yarrik.boot.story import BenchBoard, KnownBlob
from yarrik.disk.opening import opened_bytes

MENU = "/extlinux/extlinux.conf"


class MistakesPlantedIntoDefinitions(ProgramTest):
    """Number and name of each mistake, what is changed (file, old, new), the code, and words that have to be said."""

    BOARD = "shelves/harbour/boards/kittiwake.toml"
    PROFILE = "shelves/harbour/profiles/lean.toml"
    IMAGE = "shelves/harbour/images/tide-gauge.toml"
    TREE = "shelves/harbour/boards/kittiwake.dts"
    OVERLAY = "shelves/harbour/boards/tide-sensor.dtso"
    VENDOR = "shelves/coast/boards/coast-a53.toml"
    LINE = 'arguments = ["loglevel=5"]'

    CASES = (
        ("31 a library is missing", IMAGE, None, '[[file]]\npath = "/sbin/first"\ncontent = "#!/bin/nosuchshell\\n"\nmode = "0755"\n',
         LINE, 'arguments = ["init=/sbin/first"]', "BOOT-INIT", "/bin/nosuchshell, which is not there"),
        ("33 a service without its program", IMAGE, None,
         '[[file]]\npath = "/etc/services/x.service"\ncontent = "run = /usr/bin/missing --now\\n"\n', "", "",
         "SERVICE-PROGRAM", "x.service starts /usr/bin/missing"),
        ("33 a service without its user", IMAGE, None,
         '[[file]]\npath = "/etc/services/x.service"\ncontent = "run = /bin/sh\\nuser = nobody-here\\n"\n', "", "",
         "SERVICE-USER", "runs as `nobody-here`"),
        ("31 a script for an interpreter that env does not find", IMAGE, None,
         '[[file]]\npath = "/usr/bin/env"\ncontent = "#!/bin/sh\\n"\nmode = "0755"\n'
         '[[file]]\npath = "/sbin/first"\ncontent = "#! /usr/bin/env -S nosuchtongue -x\\n"\nmode = "0755"\n',
         LINE, 'arguments = ["init=/sbin/first"]', "BOOT-INIT", "nosuchtongue (through env), which is not there"),
        ("32 an open account beside a remote login", IMAGE, None,
         '[[file]]\npath = "/usr/sbin/harbour-door"\ncontent = "#!/bin/sh\\necho SSH-2.0-door\\n"\nmode = "0755"\n', "", "",
         "LOGIN-OPEN", "`root` needs no password, and /usr/sbin/harbour-door"),
        ("32 the same known by its name", IMAGE, None,
         '[[file]]\npath = "/usr/bin/in.telnetd"\ncontent = "#!/bin/sh\\n"\nmode = "0755"\n', "", "",
         "LOGIN-OPEN", "`root` needs no password, and /usr/bin/in.telnetd"),
        ("33 a service's program is not executable", IMAGE, None,
         '[[file]]\npath = "/usr/bin/tidier"\ncontent = "#!/bin/sh\\n"\nmode = "0644"\n'
         '[[file]]\npath = "/etc/services/x.service"\ncontent = "run = /usr/bin/tidier\\n"\n', "", "",
         "SERVICE-PROGRAM", "/usr/bin/tidier, which is not executable (its mode is 0644)"),
        ("33 an inittab starts what is not there", IMAGE, None,
         '[[file]]\npath = "/etc/inittab"\ncontent = "# x\\n::sysinit:/bin/sh\\n::respawn:-/sbin/getty 38400 ttyAMA0\\n"\n', "", "",
         "SERVICE-PROGRAM", "/etc/inittab (::respawn:-/sbin/getty 38400 ttyAMA0) starts /sbin/getty, which is not in the image"),
        ("33 a service is a script without its interpreter", IMAGE, None,
         '[[file]]\npath = "/usr/bin/tidier"\ncontent = "#!/usr/bin/nosuchtongue\\n"\nmode = "0755"\n'
         '[[file]]\npath = "/etc/services/x.service"\ncontent = "run = /usr/bin/tidier\\n"\n', "", "",
         "SERVICE-PROGRAM", "is a script for /usr/bin/nosuchtongue, which is not there"),
        ("33 a service is a script of scripts that run each other", IMAGE, None,
         '[[file]]\npath = "/usr/bin/ebb"\ncontent = "#!/usr/bin/flood\\n"\nmode = "0755"\n'
         '[[file]]\npath = "/usr/bin/flood"\ncontent = "#!/usr/bin/ebb\\n"\nmode = "0755"\n'
         '[[file]]\npath = "/etc/services/x.service"\ncontent = "run = /usr/bin/ebb\\n"\n', "", "",
         "SERVICE-PROGRAM", "is a script too, for /usr/bin/ebb"),
        ("35 init is a script that names itself", IMAGE, None,
         '[[file]]\npath = "/sbin/first"\ncontent = "#!/sbin/first\\n"\nmode = "0755"\n',
         LINE, 'arguments = ["init=/sbin/first"]', "BOOT-INIT", "is a script too, for /sbin/first"),
        ("41 a console by its path", VENDOR, 'console = "ttyAMA0,115200"', 'console = "/dev/ttyAMA0,115200"', "", "",
         "BOOT-CONSOLE", "without /dev/: ttyAMA0,115200"),
        ("41 a console among the arguments, blamed there", BOARD, LINE, 'arguments = ["console=ttyTide0"]', "", "",
         "BOOT-CONSOLE", "[kernel.arguments]"),
        ("38 a root among the arguments, blamed there", BOARD, LINE, 'arguments = ["root=/dev/mmcblk02"]', "", "",
         "BOOT-ROOT-FORM", "[kernel.arguments]"),
        ("38 a disk with a number that the kernel does not write", VENDOR, 'method = "menu"',
         'method = "menu"\nroot = "device"\nroot-device = "mmcblk01"', "", "", "BOOT-ROOT-FORM", "`mmcblk01` is not a name of a disk"),
        ("45 a loader that is empty", VENDOR, 'also = ["zstd", "map"]',
         'also = ["zstd", "map"]\n[[disk.blob]]\nfile = "empty.bin"\noffset = "32 KiB"', "", "", "BOOT-LOADER", "empty.bin is empty"),
        ("34 a module that nobody loads", IMAGE, None,
         '[[file]]\npath = "/lib/modules/6.1.0/modules.alias"\ncontent = "alias of:N*T*Charbour,tide-sensor tide_sensor\\n"\n', "", "",
         "MODULES-NOBODY", "/tide-sensor of the device tree needs the module tide_sensor"),
        (
            "34 a module that is not there",
            IMAGE,
            None,
            '[[file]]\npath = "/etc/modules"\ncontent = "tide_sensor\\n"\n',
            "",
            "",
            "MODULES-MISSING",
            "init is configured to load tide_sensor, and there are no modules in the image",
        ),
        ("35 no init where the line says", BOARD, LINE, 'arguments = ["init=/sbin/missing"]', "", "", "BOOT-INIT", "no init at /sbin/missing"),
        ("35 init is not executable", IMAGE, None, '[[file]]\npath = "/sbin/second"\ncontent = "#!/bin/sh\\n"\nmode = "0644"\n',
         LINE, 'arguments = ["init=/sbin/second"]', "BOOT-INIT", "not executable (its mode is 0644)"),
        ("35 no init in the profile's place", PROFILE, "/sbin/init", "/sbin/missing", "", "", "INIT-MISSING", "/sbin/missing"),
        ("36 a partition too small", VENDOR, 'size = "fit + 20%"', 'size = "2 MiB"', "", "", "PARTITION-FULL", "what weighs most"),
        ("38 a root that no partition is", BOARD, LINE, 'arguments = ["root=PARTUUID=0dd3cb86-d76e-8def-ab81-dd97de8971ee"]', "", "",
         "BOOT-ROOT-MISSING", "did you mean `0dd3cb86-d76e-8def-ab81-dd97de8971ed`?"),
        ("38 a device name in the wrong form", BOARD, LINE, 'arguments = ["root=/dev/mmcblk02"]', "", "",
         "BOOT-ROOT-FORM", "did you mean `/dev/mmcblk0p2`?"),
        ("38 the same on the board", VENDOR, 'method = "menu"', 'method = "menu"\nroot = "device"\nroot-device = "mmcblk0p2"', "", "",
         "BOOT-ROOT-FORM", "write the disk without its partition: `mmcblk0`"),
        ("39 no root filesystem at all", VENDOR, 'method = "menu"', 'method = "menu"\nroot = "none"', "", "",
         "BOOT-ROOT-FORM", "there is no initramfs"),
        ("41 a console that the board has not", VENDOR, 'console = "ttyAMA0,115200"', 'console = "ttyTide0,115200"', "", "",
         "BOOT-CONSOLE", "there are ports for ttyAMA"),
        ("41 a console that is not enabled", TREE, 'compatible = "arm,pl011", "arm,primecell";',
         'compatible = "arm,pl011", "arm,primecell";\n\t\tstatus = "disabled";', "", "", "BOOT-CONSOLE", "it is not enabled"),
        ("42 a device tree that is not there", BOARD, 'device-tree = "kittiwake.dts"', 'device-tree = "kittiwaek.dts"', "", "",
         "DEVICE-TREE-MISSING", "kittiwaek.dts"),
        ("42 an overlay that is not there", BOARD, 'overlays = ["tide-sensor.dtso"]', 'overlays = ["tide-snesor.dtso"]', "", "",
         "DEVICE-TREE-MISSING", "tide-snesor.dtso"),
        ("42 a device tree that does not compile", TREE, "always-on;", "always-on", "", "", "DTS-SYNTAX", "kittiwake.dts:"),
        ("42 a label that the base does not have", OVERLAY, "<&bus_clock>", "<&bus_clokc>", "", "",
         "OVERLAY-LABEL-MISSING", "did you mean `bus_clock`?"),
        ("43 an address outside of memory", BOARD, "[kernel]", '[memory]\nkernel = "0x80000000"\n[kernel]', "", "",
         "BOOT-MEMORY", "is not in memory (0x40000000 to 0x50000000"),
        ("43 two things in one place", BOARD, "[kernel]", '[memory]\ndevice-tree = "0x40401000"\n[kernel]', "", "",
         "BOOT-MEMORY", "device tree (from 0x40401000) overlaps kernel"),
        ("45 a loader that is not there", VENDOR, 'also = ["zstd", "map"]', '[[disk.blob]]\nfile = "loader.bin"\noffset = "32 KiB"', "", "",
         "SOURCE-MISSING", "loader.bin"),
    )  # fmt: skip

    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "demo"
        self.seed()
        self.yarrik("demo", self.root, "--product", "tide-gauge", "--no-boot")
        (self.root / "shelves/coast/boards/empty.bin").touch()

    def test_each_is_caught_by_its_code(self) -> None:
        caught = set()
        for name, file, old, new, old2, new2, code, words in self.CASES:
            with self.subTest(name):
                changed = {file: (old, new)}
                if old2:
                    second = self.BOARD if old2 == self.LINE else file
                    changed[second] = (old2, new2)
                before = {path: (self.root / path).read_text() for path in changed}
                for path, (was, becomes) in changed.items():
                    text = before[path]
                    self.assertTrue(was is None or was in text, (path, was))
                    (self.root / path).write_text(text + "\n" + becomes if was is None else text.replace(was, becomes, 1))
                code_expected = 2 if code in ("BOOT-ROOT-FORM", "DEVICE-TREE-MISSING", "SOURCE-MISSING") else 1
                if name.startswith(("38 a device", "38 a root among")):
                    code_expected = 1
                try:
                    said = self.yarrik("build", "tide-gauge", at=self.root, code=code_expected)
                finally:
                    for path, text in before.items():
                        (self.root / path).write_text(text)
                self.assertIn(f"error {code}", said)
                self.assertIn(words, said)
                self.assertRegex(said, r"\n  next ")
                caught.add(name.split()[0])
        self.assertEqual(caught, {"31", "32", "33", "34", "35", "36", "38", "39", "41", "42", "43", "45"})
        self.assertIn("nothing to do", self.yarrik("build", "tide-gauge", at=self.root))

    def test_modules_of_another_kernel_are_stopped(self) -> None:
        image = self.root / self.IMAGE
        image.write_text(image.read_text() + '\n[[file]]\npath = "/lib/modules/6.1.0/modules.alias"\ncontent = ""\n')
        self.yarrik("build", "tide-gauge", at=self.root)
        card = self.root / "out/tide-gauge/tide-gauge.img"
        self.assertIn("no problem found", self.yarrik("boot", "--bench", card))
        with opened_bytes(card) as (_, found):
            reader = found.partitions[0].reader
            assert reader is not None
            kernel = b"".join(reader.content(next(one for one in reader.walk() if one.path == "/Image")))
        edit_boot_file(card, "/Image", kernel + b"Linux version 6.1.0-other (tide@pier)\0")
        said = self.yarrik("boot", "--bench", card, code=1)
        self.assertIn("error MODULES-VERSION: the modules are for 6.1.0, and the kernel is 6.1.0-other", said)

    def test_a_link_that_leads_nowhere_is_told_and_does_not_stop(self) -> None:
        recipe = self.root / "shelves/harbour/recipes/tide"
        text = (recipe / "src/Makefile").read_text()
        installed = "install -m 755 tide $(DESTDIR)$(PREFIX)/bin/tide\n"
        self.assertIn(installed, text)
        more = installed + "\tln -s ../nowhere $(DESTDIR)$(PREFIX)/bin/tides\n"
        (recipe / "src/Makefile").write_text(text.replace(installed, more))
        rule = (recipe / "recipe.toml").read_text()
        (recipe / "recipe.toml").write_text(rule.replace('"/usr/bin/tide"', '"/usr/bin/tide", "/usr/bin/tides"'))
        report = self.yarrik_json("build", "tide-gauge", at=self.root)
        self.assertTrue(any("LINK-NOWHERE" in note and "/usr/bin/tides" in note for note in report["notes"]), report["notes"])


class MistakesPlantedIntoImages(ProgramTest):
    """The same image, changed as a hand that slips would: the bench says where it stops."""

    @classmethod
    def setUpClass(cls) -> None:
        import os
        import subprocess
        import sys

        cls.place = new_folder()
        cls.addClassCleanup(shutil.rmtree, cls.place, ignore_errors=True)
        environment = {**os.environ, "YARRIK_CACHE": str(cls.place / "cache")}
        words = [sys.executable, "-m", "yarrik", "demo", str(cls.place / "demo"), "--product", "tide-gauge", "--no-boot"]
        subprocess.run(words, env=environment, check=True, capture_output=True)
        cls.original = cls.place / "demo/out/tide-gauge/tide-gauge.img"

    def setUp(self) -> None:
        super().setUp()
        self.image = self.folder / "card.img"
        shutil.copy(self.original, self.image)

    def story(self, board: BenchBoard | None = None) -> tuple[str, str]:
        with opened_bytes(self.image) as (file, found):
            result = try_image(file, found, str(self.image), board)
        warned = "".join(f"{one.code}: {one.what}\n" for one in result.warnings)
        stop = "" if result.stop is None else f"{result.stop.code}: {result.stop.what}; {result.stop.remedy}"
        return stop, warned

    def test_would_reach_init_is_said_only_when_nothing_was_taken_for_granted(self) -> None:
        said = self.yarrik("boot", "--bench", self.image)
        self.assertIn("no problem found; not followed: that the kernel has filesystem", said)
        self.assertNotIn("would reach init", said)
        told = self.yarrik_json("boot", "--bench", self.image)["story"]
        self.assertEqual([row["stage"] for row in told if not row["followed"]], ["drivers", "end"])
        config = "CONFIG_EXT4_FS=y\nCONFIG_EFI_PARTITION=y\nCONFIG_VIRTIO_BLK=y\n"
        kernel = self.kernel()
        edit_boot_file(self.image, "/Image", kernel + self.told(config))
        self.assertRegex(self.yarrik("boot", "--bench", self.image), r"end +would reach init")
        edit_boot_file(self.image, "/Image", kernel + self.told(config + 'CONFIG_INITRAMFS_SOURCE="../initramfs"\n'))
        self.assertIn("what the kernel's own initramfs does before", self.yarrik("boot", "--bench", self.image))
        edit_boot_file(self.image, "/Image", kernel + self.told(config))
        edit_boot_file(self.image, MENU, {"root=PARTUUID=": "root=/dev/vda2 x="})
        self.assertIn("that the kernel calls the disk vda2", self.yarrik("boot", "--bench", self.image))
        edit_boot_file(self.image, MENU, {"root=/dev/vda2": "root=/dev/sda1 loglevel=9 root=/dev/vda2"})
        self.assertIn("BOOT-LINE-TWICE: the command line has root= twice: /dev/sda1 and /dev/vda2", self.story()[1])

    def test_a_compressed_kernel_under_a_plain_name_and_settings_that_name_nothing(self) -> None:
        import gzip

        edit_boot_file(self.image, "/Image", gzip.compress(self.kernel()))
        self.assertRegex(self.story()[0], "BOOT-KERNEL-FORM: /Image is gzip-compressed, and its name says that it is not")

    def test_the_image_as_it_was_built(self) -> None:
        found = self.yarrik_json("boot", "--bench", self.image)
        stages = [row["stage"] for row in found["story"]]
        self.assertEqual(stages, ["table", "boot menu", "kernel", "device tree", "command line", "memory", "root", "drivers", "init",
                                  "services", "end"])  # fmt: skip
        self.assertIn("Kittiwake harbour controller; 256.0 MiB at 0x40000000", json.dumps(found))

    def test_what_a_slipping_hand_does_to_the_menu(self) -> None:
        for change, words in (
            ({"default tide-gauge": "default tide-guage"}, "BOOT-MENU-MISSING: .*`tide-guage` is not one of its entries"),
            ({"linux /Image": "linux /Imgae"}, "BOOT-FILE-MISSING: the kernel /Imgae is not on boot; did you mean `/Image`"),
            ({"fdt /kittiwake.dtb": "fdt /kitiwake.dtb"}, "BOOT-DEVICE-TREE: the device tree /kitiwake.dtb .*`/kittiwake.dtb`"),
            ({"  append": "  fdtoverlays /a.dtbo\n  append"}, "BOOT-DEVICE-TREE: the overlay /a.dtbo is not on boot"),
            ({"root=PARTUUID=": "root=UUID="}, "BOOT-ROOT-FORM: .*does not look for filesystems by identifier"),
            ({"root=PARTUUID=": "root=PARTLABEL="}, "BOOT-ROOT-MISSING: .*no partition has this PARTLABEL"),
            ({"root=PARTUUID=": "rot=PARTUUID="}, "BOOT-ROOT-NONE: .*no root="),
            ({"rootfstype=ext4": "rootfstype=squashfs"}, "BOOT-ROOT-MISSING: rootfstype=squashfs, .* holds ext4"),
            ({"console=ttyAMA0": "console=ttyS0"}, "BOOT-CONSOLE: console=ttyS0"),
            ({"  append": "  initrd /kittiwake.dtb\n  append"}, "BOOT-INITRAMFS: .* is not an archive that the kernel unpacks"),
            ({" rw": " rw root=/dev/vda9"}, "BOOT-ROOT-MISSING: .*has no partition 9"),
            ({" rw": " rw root=/dev/vda1"}, "BOOT-ROOT-MISSING: rootfstype=ext4, and the partition boot holds fat"),
        ):
            with self.subTest(change):
                shutil.copy(self.original, self.image)
                edit_boot_file(self.image, MENU, change)
                self.assertRegex(self.story()[0], words)

    def test_a_menu_that_waits_is_told_and_does_not_stop(self) -> None:
        edit_boot_file(self.image, MENU, {"prompt 0": "prompt 1", "timeout 1": "timeout 0"})
        stop, warned = self.story()
        self.assertEqual(stop, "")
        self.assertIn("BOOT-MENU-WAITS", warned)

    def test_kernels_that_cannot_be_loaded(self) -> None:
        x86 = bytearray(0x1000)
        x86[0x1FE:0x200], x86[0x202:0x206], x86[0x206:0x208], x86[0x211] = b"\x55\xaa", b"HdrS", b"\x0f\x02", 1
        x86[0x236] = 1
        for data, words in (
            (b"\x7fELF" + bytes(5000), "BOOT-KERNEL-FORM: .*an ELF file"),
            (bytes(5000), "BOOT-KERNEL-FORM: .*no kernel header"),
            (bytes(x86), "BOOT-KERNEL-ARCH: .*kernel for x86-64, and the board is arm64"),
        ):
            shutil.copy(self.original, self.image)
            edit_boot_file(self.image, "/Image", data)
            self.assertRegex(self.story(BenchBoard(arch="arm64"))[0], words)

    def test_a_damaged_device_tree_and_a_damaged_table(self) -> None:
        edit_boot_file(self.image, "/kittiwake.dtb", b"\xd0\x0d\xfe\xed" + bytes(60))
        self.assertIn("BOOT-DEVICE-TREE", self.story()[0])
        data = bytearray(self.image.read_bytes())
        data[512 + 8 : 512 + 60] = bytes(52)
        data[-512:] = bytes(512)
        self.image.write_bytes(data)
        self.assertIn("BOOT-TABLE", self.story()[0])

    def test_loaders(self) -> None:
        loader = self.write("loader.bin", bytes(range(200)) * 50)
        there = BenchBoard(blobs=(KnownBlob("loader.bin", loader, 40 << 10),))
        self.assertIn("BOOT-LOADER: the loader loader.bin is not at its offset 0xa000", self.story(there)[0])
        with self.image.open("r+b") as disk:
            disk.seek(40 << 10)
            disk.write(loader.read_bytes())
        self.assertEqual(self.story(there)[0], "")
        with self.image.open("r+b") as file:
            file.seek(600 << 10)
            file.write(loader.read_bytes()[:-1] + b"X")
        copies = BenchBoard(blobs=(KnownBlob("loader.bin", loader, 40 << 10), KnownBlob("loader.bin", loader, 600 << 10)))
        wanted = (
            "BOOT-LOADER: the copies of the loader loader.bin differ: that at 0xa000 is as it was built, that at 0x96000 is not"
        )
        self.assertIn(wanted, self.story(copies)[0])
        tight = BenchBoard(blobs=(KnownBlob("loader.bin", loader, 40 << 10, 4096),))
        self.assertRegex(self.story(tight)[0], "BOOT-LOADER: .*its room is 4.0 KiB")
        # The partition begins at 1 MiB, and has there what a loader across that border would have.
        data = self.image.read_bytes()
        border = self.write("border.bin", data[(1 << 20) - 4096 : (1 << 20) + 4096])
        across = BenchBoard(blobs=(KnownBlob("border.bin", border, (1 << 20) - 4096),))
        self.assertIn("BOOT-LOADER: the loader border.bin and the partition boot share bytes", self.story(across)[0])

    def test_a_kernel_that_lacks_what_its_root_needs(self) -> None:
        have = "CONFIG_EXT4_FS=y\nCONFIG_EFI_PARTITION=y\nCONFIG_VIRTIO_BLK=y\n"
        kernel = self.kernel()
        for missing, words in (
            ("CONFIG_EXT4_FS=y", "for the filesystem ext4, it lacks CONFIG_EXT4_FS"),
            ("CONFIG_EFI_PARTITION=y", "for the partition table gpt"),
            ("CONFIG_VIRTIO_BLK=y", "for the disk's driver"),
        ):
            edit_boot_file(self.image, "/Image", kernel + self.told(have.replace(missing, "")))
            self.assertRegex(self.story()[0], f"BOOT-KERNEL-LACKS: .*{words}")
        edit_boot_file(self.image, "/Image", kernel + self.told(have.replace("EXT4_FS=y", "EXT4_FS=m")))
        self.assertIn("CONFIG_EXT4_FS is a module", self.story()[0])
        edit_boot_file(self.image, "/Image", kernel + self.told(have))
        self.assertEqual(self.story()[0], "")

    def kernel(self) -> bytes:
        with opened_bytes(self.image) as (_, found):
            reader = next(part.reader for part in found.partitions if part.name == "boot")
            assert reader is not None
            return b"".join(reader.content(next(one for one in reader.walk() if one.path == "/Image")))

    def told(self, config: str) -> bytes:
        import gzip

        return b"IKCFG_ST" + gzip.compress(config.encode()) + b"IKCFG_ED"

    def test_damaged_images_end_in_a_word_never_in_a_traceback(self) -> None:
        import random

        chance = random.Random(3)
        data = self.original.read_bytes()
        with opened_bytes(self.original) as (_, found):
            spots = [0, *(part.start for part in found.partitions)]
        stops = 0
        for _ in range(60):
            damaged = bytearray(data)
            for _ in range(chance.randrange(1, 40)):
                at = chance.choice(spots) + chance.randrange(200_000)
                if at < len(damaged):
                    damaged[at] = chance.randrange(256)
            self.image.write_bytes(damaged)
            stops += bool(self.story()[0])
        self.assertGreater(stops, 5)


if __name__ == "__main__":
    unittest.main()
