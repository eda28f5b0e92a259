"""Images onto devices: which there are, what is refused before the first byte, and what comes back from a card that lies."""

import contextlib
import hashlib
import json
import os
import random
import shutil
import signal
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import ClassVar
from unittest import mock

from tests.fastboot_board import Board
from tests.support import FolderTest, ProgramTest
from yarrik.disk import write_beside
from yarrik.errors import Unfit, YarrikError
from yarrik.flash import Attempts, Devices, Progress, View, flash_all, obstacles, open_all, opened_source
from yarrik.flash.bench import BenchTarget
from yarrik.flash.dfu import DfuTarget
from yarrik.flash.dfu_bench import SimulatedDfu
from yarrik.flash.mtd import MEMERASE, MEMGETINFO, MtdTarget, is_flash_chip
from yarrik.flash.refusing import trouble_of
from yarrik.flash.writing import Job, flash

MIB = 1 << 20


class AMachine(FolderTest):
    """What the kernel says of a made-up machine: sysfs, mounts and swap as files."""

    def setUp(self) -> None:
        super().setUp()
        self.view = View(self.folder / "sys", self.folder / "dev", self.folder / "proc", self.folder / "udev")
        for one in ("sys/block", "sys/dev/block", "dev", "proc/self", "udev"):
            (self.folder / one).mkdir(parents=True)
        self.write("proc/swaps", "Filename Type Size Used Priority\n")
        self.write("proc/self/mountinfo", "")
        self.next = 0

    def disk(self, name: str, at: str = "pci/usb1/1-1/host0", size: int = 1 << 30, parts: int = 0, **files: str) -> None:
        folder = f"sys/devices/{at}/block/{name}"
        self.next += 16
        number = f"8:{self.next}"
        texts = {"dev": number, "size": str(size // 512), "removable": "0", "ro": "0", "queue/logical_block_size": "512",
                 **{key.replace("__", "/"): text for key, text in files.items()}}  # fmt: skip
        for file, text in texts.items():
            self.write(f"{folder}/{file}", text + "\n")
        (self.folder / folder / "holders").mkdir()
        (self.folder / "sys/block" / name).symlink_to(self.folder / folder)
        (self.folder / "sys/dev/block" / number).symlink_to(self.folder / folder)
        for part in range(1, parts + 1):
            own = f"{name}p{part}" if name[-1].isdigit() else f"{name}{part}"
            self.write(f"{folder}/{own}/partition", f"{part}\n")
            self.write(f"{folder}/{own}/dev", f"8:{self.next + part}\n")
            (self.folder / folder / own / "holders").mkdir()
            (self.folder / "sys/dev/block" / f"8:{self.next + part}").symlink_to(self.folder / folder / own)

    def mounted(self, *lines: str) -> None:
        self.write("proc/self/mountinfo", "".join(f"{line}\n" for line in lines))

    def kinds(self, name: str, size: int = 0, built_in: bool = False) -> list[str]:
        one = next(one for one in Devices(self.view).all() if one.name == name)
        return [hit.kind for hit in obstacles(one, size, 512, built_in)]


class WhatThereIs(AMachine):
    def test_what_a_device_says_of_itself(self) -> None:
        self.disk("sdb", removable="1", device__vendor="Harbour ", device__model="Reader")
        self.disk("mmcblk0", "platform/mmc_host/mmc0/mmc0:1", device__type="SD", device__name="SD64G", device__serial="0xab")
        self.disk("nvme0n1", "pci/nvme/nvme0", device__model="Fast", device__serial="N1", diskseq="7")
        self.disk("loop0", "virtual", size=0)
        self.write("udev/b8:16", "S:disk/by-id/x\nE:ID_BUS=usb\nE:ID_MODEL=Card_Reader\nE:ID_SERIAL_SHORT=0123\n")
        found = {one.name: one for one in Devices(self.view).all()}
        self.assertEqual(list(found), ["mmcblk0", "nvme0n1", "sdb"])
        one = found["sdb"]
        self.assertEqual((one.vendor, one.model, one.serial, one.bus, one.removable, one.word),
                         ("Harbour", "Card Reader", "0123", "usb", True, "sdb-0123"))  # fmt: skip
        self.assertEqual((found["mmcblk0"].bus, found["mmcblk0"].model, found["mmcblk0"].removable), ("mmc", "SD64G", True))
        self.assertEqual((found["nvme0n1"].bus, found["nvme0n1"].removable, found["nvme0n1"].sequence), ("nvme", False, 7))

    def test_texts_of_strangers_are_harmless(self) -> None:
        self.disk("sdb", device__model="\x1b[2J\x1b]0;gull\x07 card", device__serial="a\tb\x00c" + "x" * 500)
        one = Devices(self.view).all()[0]
        self.assertTrue(one.model.isprintable() and one.serial.isprintable())
        self.assertLessEqual(len(one.serial), 64)

    def test_boot_areas(self) -> None:
        """The kernel keeps them read-only by a switch of their own; they are built in."""
        self.disk("mmcblk0", "soc/mmc_host/mmc0/mmc0:0001", device__type="MMC", force_ro="0")
        self.disk("mmcblk0boot0", "soc/mmc_host/mmc0/mmc0:0001/mmcblk0", size=4 << 20, ro="1", force_ro="1", device__type="MMC")
        whole, area = Devices(self.view).all()
        self.assertIsNone(whole.lock)
        self.assertEqual(area.lock, self.folder / "sys/devices/soc/mmc_host/mmc0/mmc0:0001/mmcblk0/block/mmcblk0boot0/force_ro")
        self.assertEqual([hit.kind for hit in obstacles(area)], ["fixed"])
        self.assertEqual(obstacles(area, built_in=True), [])
        # Only what the kernel calls so: a card that is read-only stays that.
        self.disk("mmcblk1", "soc/mmc_host/mmc1/mmc1:0001", ro="1", force_ro="1", device__type="SD")
        self.assertEqual([hit.kind for hit in obstacles(Devices(self.view).all()[1])], ["fixed"])
        self.assertIn(
            "read-only", [hit.kind for hit in obstacles(next(one for one in Devices(self.view).all() if one.name == "mmcblk1"))]
        )

    def test_what_forbids_writing(self) -> None:
        usual = {"at": "pci/usb1", "parts": 2}
        for name in ("sdb", "sdc", "sdd", "sde", "sdf", "sdg", "sdh"):
            self.disk(name, **usual)  # type: ignore[arg-type]
        self.disk("sda", "pci/ata1", parts=1)
        self.disk("sdz", "pci/ata2")
        self.disk("sdr", "pci/usb2", ro="1")
        self.disk("sdl", "pci/usb3", queue__logical_block_size="4096")
        self.disk("dm-0", "virtual", dm__name="vault-root")
        self.disk("dm-1", "virtual", dm__name="stripes")
        number = {
            name: (self.folder / "sys/block" / name / "dev").read_text().strip() for name in ("sda", "sdb", "sdc", "dm-0")
        }
        first = {name: f"8:{int(text.split(':')[1]) + 1}" for name, text in number.items()}
        (self.folder / "sys/block/sdd/sdd2/holders/dm-0").touch()
        (self.folder / "sys/block/sde/holders/dm-1").touch()
        (self.folder / "dev/mapper").mkdir()
        (self.folder / "dev/mapper/swap").symlink_to("../sdg2")
        self.write(
            "proc/swaps", "Filename Type Size\n/dev/sdf1 partition 1000\n/dev/mapper/swap partition 7\n/swapfile file 9\n"
        )
        self.mounted(
            f"20 1 {first['sda']} / / rw,relatime - ext4 /dev/sda1 rw",
            f"21 20 {first['sdb']} / /media/a\\040card rw shared:7 - vfat /dev/sdb1 rw",
            f"22 20 {first['sdb']} /sub /srv/bound rw - vfat /dev/sdb1 rw",
            "23 20 0:41 / /data rw - btrfs /dev/sdc2 rw",
            f"24 20 {number['dm-0']} / /boot rw - ext4 /dev/mapper/vault-root rw",
        )
        self.assertEqual(self.kinds("sda"), ["system"])
        self.assertEqual(self.kinds("sda", built_in=True), ["system"])
        self.assertEqual(self.kinds("sdb"), ["mounted"])
        self.assertEqual(self.kinds("sdc"), ["mounted"])
        # What is built on it is the running system's.
        self.assertEqual(self.kinds("sdd"), ["system", "held"])
        self.assertEqual(self.kinds("sde"), ["held"])
        self.assertEqual((self.kinds("sdf"), self.kinds("sdg")), (["swap"], ["swap"]))
        self.assertEqual((self.kinds("sdz"), self.kinds("sdz", built_in=True)), (["fixed"], []))
        self.assertEqual((self.kinds("sdr"), self.kinds("sdl")), (["read-only"], ["blocks"]))
        self.assertEqual(
            (self.kinds("sdh"), self.kinds("sdh", size=1 << 30), self.kinds("sdh", size=(1 << 30) + 1)), ([], [], ["small"])
        )
        codes = {trouble_of(one, hit).code for one in Devices(self.view).all() for hit in obstacles(one, 2 << 30, 512)}
        self.assertEqual(codes, {"FLASH-SYSTEM", "FLASH-MOUNTED", "FLASH-SWAP", "FLASH-HELD", "FLASH-READ-ONLY", "FLASH-BUILT-IN",
                                 "FLASH-SMALL", "FLASH-BLOCKS"})  # fmt: skip
        major, minor = map(int, first["sdb"].split(":"))
        with self.assertRaisesRegex(Unfit, "it is partition 1 of sdb"):
            Devices(self.view).at((major, minor))
        with self.assertRaises(Unfit):
            Devices(self.view).at((8, 7777))
        by = [one.by for one in next(one for one in Devices(self.view).all() if one.name == "sdb").uses]
        self.assertEqual(by, ["/media/a card", "/srv/bound"])


class AnImage(ProgramTest):
    """An image of 24 MiB with data in three places, and a bench device."""

    def setUp(self) -> None:
        super().setUp()
        self.environment["XDG_STATE_HOME"] = str(self.folder / "state")
        make = random.Random(4)
        self.ranges = [(0, 5 * MIB), (8 * MIB, 8 * MIB + 12345), (23 * MIB, 24 * MIB)]
        self.image = self.folder / "gauge.img"
        with self.image.open("wb") as sink:
            sink.truncate(24 * MIB)
            for start, end in self.ranges:
                sink.seek(start)
                sink.write(make.randbytes(end - start))
        self.sums()

    def sums(self) -> None:
        lines = [
            f"{hashlib.sha256(file.read_bytes()).hexdigest()}  {file.name}\n" for file in sorted(self.folder.glob("gauge.img*"))
        ]
        self.write("SHA256SUMS", "".join(lines))

    def card(self, more: str = "", name: str = "card", size: str = "32 MiB", old: bytes = b"") -> Path:
        """A bench device with something old on it."""
        storage = self.folder / f"{name}.bin"
        storage.unlink(missing_ok=True)
        if old:
            storage.write_bytes(old * (32 * MIB // len(old)))
        top, _, fault = more.partition("[[")
        self.write(f"{name}.toml", f'[device]\nmodel = "Harbour SD"\nserial = "{name.upper()}"\nsize = "{size}"\n{top}\n'
                   + (f"[[{fault}" if fault else ""))  # fmt: skip
        return self.folder / f"{name}.toml"

    def flash(self, *words: str | Path, code: int = 0, image: Path | None = None, names: tuple[str, ...] = ("card",)) -> str:
        named = [word for name in names for word in ("--write-to-device", f"{name}-{name.upper()}")]
        return self.yarrik(
            "flash", image or self.image, *(self.folder / f"{name}.toml" for name in names), *named, *words, code=code
        )

    def on_card(self, name: str = "card") -> bytes:
        return (self.folder / f"{name}.bin").read_bytes()


class OntoACard(AnImage):
    def test_all_of_it_arrives_and_nothing_old_is_left(self) -> None:
        self.card(old=b"old tide")
        said = self.flash()
        for stage in ("clearing", "writing", "reading back"):
            self.assertEqual(said.count(f"card.toml: {stage} "), 1)
        self.assertIn("read back and compared", said)
        self.assertIn("it can be pulled out now", said)
        self.assertEqual(self.on_card()[: 24 * MIB], self.image.read_bytes())
        # A partition table of an earlier, larger image stood at the device's end.
        self.assertEqual(self.on_card()[-34 * 512 :], bytes(34 * 512))

    def test_an_image_that_ends_within_a_block(self) -> None:
        for size in (1, 511, 60_006, 5 * MIB + 7):
            self.card(old=b"old tide")
            data = random.Random(size).randbytes(size)
            file = self.write("loader.bin", data)
            self.flash(image=file)
            self.assertEqual(self.on_card()[: -(-size // 512) * 512], data + bytes(-size % 512))

    def test_packed_and_sparse_images(self) -> None:
        with self.image.open("rb") as file:
            self.assertEqual(file.seek(0, 2), 24 * MIB)
        for kind, ending in {"zstd": ".zst", "gzip": ".gz", "xz": ".xz", "sparse": ".sparse"}.items():
            with self.subTest(kind):
                packed = self.image.with_name(self.image.name + ending)
                write_beside(self.image, self.image.name, self.ranges, kind, packed)
                self.sums()
                self.card(old=b"old tide")
                self.flash(image=packed)
                self.assertEqual(self.on_card()[: 24 * MIB], self.image.read_bytes())
                packed.write_bytes(packed.read_bytes()[:-20] + bytes(20))
                self.assertIn("FLASH-IMAGE", self.flash(image=packed, code=1))
                packed.unlink()

    def test_with_a_map_only_what_matters_is_written(self) -> None:
        write_beside(self.image, self.image.name, self.ranges, "map", self.folder / "gauge.img.map.json")
        self.sums()
        self.card()
        report = json.loads(self.flash("--json"))["devices"][0]
        self.assertEqual((report["done"], report["compared-with"], report["serial"]), (True, "manifest", "CARD"))
        self.assertEqual(report["written"], 5 * MIB + 16384 + MIB)
        self.assertEqual(self.on_card()[: 24 * MIB], self.image.read_bytes())

    def test_an_image_that_is_not_the_one_of_its_manifest(self) -> None:
        self.card(old=b"old tide")
        with self.image.open("r+b") as file:
            file.seek(8 * MIB)
            file.write(b"edited")
        said = self.flash(code=1)
        self.assertIn("error FLASH-IMAGE: gauge.img is not as it was built: its SHA-256 is not the one in SHA256SUMS", said)
        (self.folder / "SHA256SUMS").unlink()
        write_beside(self.image, self.image.name, self.ranges, "map", self.folder / "gauge.img.map.json")
        with self.image.open("r+b") as file:
            file.seek(8 * MIB)
            file.write(b"edits 2")
        self.assertIn("what begins at 8388608 has another SHA-256 than its map gives", self.flash(code=1))
        self.sums()
        (self.folder / "gauge.img.map.json").write_text((self.folder / "gauge.img.map.json").read_text() + " ")
        self.assertIn("gauge.img.map.json is not as it was built", self.flash(code=1))
        for wrong in (
            '{"ranges": 7}',
            '{"image": "a", "size": 25165824, "sha256": "", "ranges": [{"start": 9, "end": 1, "sha256": ""}]}',
        ):
            (self.folder / "gauge.img.map.json").write_text(wrong)
            (self.folder / "SHA256SUMS").unlink(missing_ok=True)
            self.assertIn("FLASH-IMAGE", self.flash(code=1))
        self.assertEqual(self.on_card(), b"old tide" * (4 * MIB))

    def test_one_that_changes_between_the_check_and_the_write(self) -> None:
        self.card()
        with opened_source(self.image) as source:
            targets = open_all([str(self.folder / "card.toml")], Devices(), source, False)
            with self.image.open("r+b") as file:
                file.seek(4 * MIB)
                file.write(b"another gauge")
            report = flash_all(source, targets, Attempts(self.folder / "a"), True, lambda *_: None, threading.Event())[0]
            targets[0].close()
        self.assertEqual([one.code for one in report.troubles], ["FLASH-IMAGE"])
        self.assertIn("changed since the image was checked", report.troubles[0].what)
        # Nothing starts from it: the table would have come last.
        self.assertEqual(self.on_card()[:MIB], bytes(MIB))

    def test_the_question_and_its_answers(self) -> None:
        self.card(old=b"old tide")
        said = self.yarrik("flash", self.image, self.folder / "card.toml", code=2)
        self.assertIn("FLASH-UNCONFIRMED", said)
        for word in ("card", "card-CARDS", "CARD", "card-card", "yes", "sda-CARD"):
            said = self.yarrik("flash", self.image, self.folder / "card.toml", "--write-to-device", word, code=2)
            self.assertIn("FLASH-UNCONFIRMED", said)
        words = ("--write-to-device", "card-CARD", "--write-to-device", "card-TWO")
        self.assertIn("names card-TWO", self.yarrik("flash", self.image, self.folder / "card.toml", *words, code=2))
        for answer in (b"yes\n", b"\n", b"card.toml\n", b"y\n", b"CARD\n"):
            self.assertIn(b"was not confirmed", self.at_terminal("flash", self.image, self.folder / "card.toml", types=answer))
        self.assertEqual(self.on_card(), b"old tide" * (4 * MIB))
        seen = self.at_terminal("flash", self.image, self.folder / "card.toml", types=b"card\n")
        self.assertIn(b"Harbour SD, 32.0 MiB, serial number CARD", seen)
        self.assertIn(b"on it now: nothing that is known; all of it will be lost", seen)
        self.assertIn(b"it can be pulled out now", seen)
        self.assertEqual(self.on_card()[: 24 * MIB], self.image.read_bytes())

    def test_what_a_bench_device_cannot_be(self) -> None:
        for wrong in ('size = "4 cats"', 'size = "32 MiB"\nlikes = 7', 'model = "x"', 'size = "1 MiB"\n[[device.fault]]\nkind = "odd"',
                      'size = "1 MiB"\nremoved-after = "soon"'):  # fmt: skip
            self.write("card.toml", f"[device]\n{wrong}\n")
            self.assertIn("FLASH-BENCH", self.flash(code=2))
        # A made-up device whose bytes are somewhere else, or on a real one.
        (self.folder / "deep").mkdir()
        for storage in ("/dev/null", "deep/x", "../x.bin", ".."):
            self.card(f'storage = "{storage}"')
            self.assertIn("no path", self.flash(code=2))
        # The image itself, by its name or another one.
        before = self.image.read_bytes()
        self.card('storage = "gauge.img"')
        self.assertIn("which is the image itself", self.flash(code=2))
        (self.folder / "other.bin").hardlink_to(self.image)
        self.card('storage = "other.bin"')
        self.assertIn("FLASH-BUSY", self.flash(code=2))
        self.assertEqual(self.image.read_bytes(), before)
        os.mkfifo(self.folder / "pipe.img")
        self.card()
        self.assertIn("is no file", self.flash(image=self.folder / "pipe.img", code=2))
        os.mkfifo(self.folder / "card.bin")
        self.assertIn("FLASH-BENCH", self.flash(code=2))
        (self.folder / "card.bin").unlink()
        (self.folder / "card.toml").unlink()
        (self.folder / "card.toml").symlink_to("/dev/zero")
        self.assertIn("FLASH-BENCH", self.flash(code=2))
        (self.folder / "card.toml").unlink()
        self.card(size="8 MiB")
        self.assertIn("FLASH-SMALL", self.flash(code=2))
        self.card("read-only = true")
        self.assertIn("FLASH-READ-ONLY", self.flash(code=2))
        self.card("removable = false")
        self.assertIn("FLASH-BUILT-IN", self.flash(code=2))
        self.flash("--built-in")
        self.card("[[device.fault]]\nkind = 'slow'")
        target = BenchTarget(self.folder / "card.toml", sleep=lambda seconds: None)
        self.assertIn("FLASH-BUSY", self.flash(code=2))
        target.close()
        (self.folder / "card.bin").unlink()
        (self.folder / "kept").write_bytes(b"kept")
        (self.folder / "card.bin").symlink_to(self.folder / "kept")
        self.assertIn("card.bin cannot be opened: it is a link", self.flash(code=2))
        self.assertEqual((self.folder / "kept").read_bytes(), b"kept")


class OnePartition(AnImage):
    """Partitions of odd places: the middle one begins and ends within blocks of 4096 bytes."""

    LAYOUT = "label: gpt\n\nstart=2048,size=4001,name=boot\nstart=6049,size=8001,name=root-a\nstart=14050,size=8000,name=data\n"

    def setUp(self) -> None:
        super().setUp()
        subprocess.run(["sfdisk", "-q", self.image], input=self.LAYOUT, text=True, check=True)
        self.sums()

    def written_alone(self, old: bytes) -> None:
        """Writes the middle partition over a card with the same table; all else stays."""
        self.flash("--partition", "root-a")
        begin, end = 6049 * 512, 14050 * 512
        card = self.on_card()
        self.assertEqual(card[begin:end], self.image.read_bytes()[begin:end])
        self.assertEqual(card[:begin] + card[end:], old[:begin] + old[end:])

    def card_with_table(self) -> bytes:
        self.card(old=b"old tide")
        subprocess.run(["sfdisk", "-q", self.folder / "card.bin"], input=self.LAYOUT, text=True, check=True)
        return self.on_card()

    def test_its_neighbours_stay_as_they_are(self) -> None:
        self.written_alone(self.card_with_table())
        write_beside(self.image, self.image.name, [(0, 24 * MIB)], "map", self.folder / "gauge.img.map.json")
        self.sums()
        self.written_alone(self.card_with_table())
        self.flash("--partition", "2")

    def test_to_a_partition_as_a_bootloader_names_it(self) -> None:
        slot = self.folder / "slot.bin"
        slot.write_bytes(b"old!" * (8001 * 128))
        board = Board({"root-b": slot})
        self.addCleanup(board.close)
        address = f"fastboot://127.0.0.1:{board.port}/root-b"
        words = ("flash", self.image, address, "--write-to-device", "root-b-PB7")
        self.yarrik(*words, "--partition", "root-a")
        self.assertEqual(slot.read_bytes(), self.image.read_bytes()[6049 * 512 : 14050 * 512])
        # One that does not fit there, and all of the image, are larger than it.
        slot.write_bytes(b"old!" * (8000 * 128))
        for more in (("--partition", "root-a"), ()):
            self.assertIn("FLASH-SMALL", self.yarrik(*words, *more, code=2))
        self.assertEqual(slot.read_bytes()[:4], b"old!")

    def test_another_layout_is_refused(self) -> None:
        for layout in (self.LAYOUT.replace("=6049,size=8001", "=6050,size=8000"), self.LAYOUT.replace("8001", "8000"),
                       "label: gpt\n\n2048,4001\n", "label: dos\n\n2048,4001\n6049,8001\n14060,9000\n"):  # fmt: skip
            self.card(old=b"old tide")
            subprocess.run(["sfdisk", "-q", self.folder / "card.bin"], input=layout, text=True, check=True)
            if "dos" in layout:  # the number and place are what counts
                self.flash("--partition", "root-a")
                continue
            before = self.on_card()
            self.assertIn("error FLASH-PLACE", self.flash("--partition", "root-a", code=2))
            self.assertEqual(self.on_card(), before)
        self.card()
        self.assertIn("FLASH-PLACE", self.flash("--partition", "root-a", code=2))
        said = self.flash("--partition", "root-b", code=2)
        self.assertIn("error PARTITION-UNKNOWN", said)
        self.assertIn("`root-a`", said)

    def test_an_attempt_at_a_partition_is_not_one_at_the_whole(self) -> None:
        old = self.card_with_table()
        with opened_source(self.image) as whole:
            alone, attempts = whole.part_of("root-a"), Attempts(self.folder / "attempts")
            target = BenchTarget(self.folder / "card.toml")
            attempts.reach(target.device, whole, 1)
            self.assertEqual((attempts.reached(target.device, whole), attempts.reached(target.device, alone)), (1, 0))
            report = flash_all(alone, [target], attempts, False, lambda *_: None, threading.Event())[0]
            target.close()
        self.assertTrue(report.done)
        self.assertEqual(self.on_card()[: 6049 * 512], old[: 6049 * 512])


FORM = """state = /var/lib/first-boot
card = /boot/gauge.txt
setting = station text
usual = gull-rock
letters = abcdefghijklmnopqrstuvwxyz-
longest = 32
setting = key text
usual = none
letters = abcdefghijklmnopqrstuvwxyz
longest = 64
secret = yes
"""


class ValuesForEachDevice(AnImage):
    """A FAT filesystem with a file of settings, and a form of them that the board would follow."""

    def setUp(self) -> None:
        super().setUp()
        self.write("boot/gauge.txt", "# settings\nstation = gull-rock\n")
        self.write("boot/kernel.bin", "k" * 100_000)
        self.image.unlink()
        self.yarrik("pack", self.folder / "boot", self.image, "--as", "fat", "--size", "16MiB")
        self.sums()

    def values(self, text: str, code: int = 0, names: tuple[str, ...] = ("one", "two"), *words: str) -> str:
        self.write("units.csv", text)
        for name in names:
            self.card(name=name)
        return self.flash("--values", self.folder / "units.csv", *words, code=code, names=names)

    def settings_on(self, name: str) -> str:
        with tempfile.TemporaryDirectory() as folder:
            self.yarrik("inspect", self.folder / f"{name}.bin", "--extract", "/gauge.txt", "--to", folder)
            return Path(folder, "gauge.txt").read_text()

    def test_each_gets_its_own(self) -> None:
        before = self.image.read_bytes()
        longer = "far-" * 700  # more than a cluster: others are taken that were empty
        table = f"station,device,interval\r\nnorth-mole,TWO,30\r\n{longer}x,one,5\r\n\r\n"
        for mapped in (False, True):
            with self.subTest(mapped=mapped):
                if mapped:
                    write_beside(self.image, self.image.name, [(0, 1 * MIB)], "map", self.folder / "gauge.img.map.json")
                    self.sums()
                self.values(table, 0, ("one", "two"), "--log", str(self.folder / "cards"))
                self.assertIn("station = north-mole\n", self.settings_on("two"))
                self.assertIn(f"station = {longer}x\n", self.settings_on("one"))
                self.assertIn("interval", self.settings_on("one"))
                for name in ("one", "two"):
                    part = self.folder / "alone"
                    part.write_bytes(self.on_card(name)[: len(before)])
                    checked = subprocess.run(["fsck.fat", "-n", part], capture_output=True, text=True, check=False)
                    self.assertEqual(checked.returncode, 0, checked.stdout)
        self.assertEqual(self.image.read_bytes(), before)
        rows = [json.loads(line) for line in (self.folder / "cards/TWO.jsonl").read_text().splitlines()]
        self.assertEqual([row["values"] for row in rows], [{"station": "north-mole", "interval": "30"}] * 2)

    def test_rows_in_the_order_of_devices(self) -> None:
        self.values("station\na\nb\n")
        self.assertIn("station = a\n", self.settings_on("one"))
        self.assertIn("station = b\n", self.settings_on("two"))

    def test_tables_that_cannot_be(self) -> None:
        for text, words in {
            "station\na\n": "has 1 rows for 2 devices",
            "station,device\na,ONE\n": "has no row for",
            "station,device\na,ONE\nb,ONE\n": "two for the same one",
            "station,device\na,ONE\nb,\n": "a row without a device",
            "station,station\na,b\nc,d\n": "two of one name",
            "station\na,b\nc\n": "has 2 values, and the first line names 1",
            "station\n": "has no rows",
            "": "has no rows",
            'station\n"a\nb\n': "cannot be read",
            "station\na\x00b\nc\n": "",
        }.items():
            with self.subTest(text):
                said = self.values(text, code=2)
                self.assertIn("FLASH-VALUES", said)
                self.assertIn(words, said)
                self.assertEqual((self.on_card("one"), self.on_card("two")), (bytes(32 * MIB), bytes(32 * MIB)))
        (self.folder / "units.csv").unlink()
        (self.folder / "units.csv").symlink_to("/etc/passwd")
        self.assertIn("FLASH-VALUES", self.flash("--values", self.folder / "units.csv", names=("one",), code=2))
        self.assertIn("USAGE", self.flash("--values", self.folder / "units.csv", "--partition", "1", names=("one",), code=2))

    def test_an_image_that_takes_none(self) -> None:
        (self.folder / "boot/gauge.txt").unlink()
        self.image.unlink()
        self.yarrik("pack", self.folder / "boot", self.image, "--as", "ext4", "--size", "16MiB")
        self.sums()
        self.assertIn("takes no values", self.values("station\na\nb\n", code=2))

    def test_what_the_board_would_not_take_in(self) -> None:
        self.write("boot/etc/first-boot", FORM)
        self.image.unlink()
        self.yarrik("pack", self.folder / "boot", self.image, "--as", "fat", "--size", "16MiB")
        self.sums()
        said = self.values("station\nnorth mole\nb\n", code=2)
        self.assertIn("units.csv:2", said)
        self.assertIn("`station` cannot be `north mole`", said)
        self.values("station,key\na,first\nb,second\n", 0, ("one", "two"), "--log", str(self.folder / "cards"))
        self.assertIn("key=first", self.settings_on("one"))
        self.assertNotIn("first", (self.folder / "cards/ONE.jsonl").read_text())


class CardsWithFaults(AnImage):
    def trouble(self, more: str, code: str, **card: str) -> str:
        self.card(more, **card)
        said = self.flash(code=1)
        self.assertIn(f"error {code}:", said)
        self.assertNotIn("pulled out", said)
        return said

    def test_they_are_told(self) -> None:
        fault = '[[device.fault]]\nkind = "{}"\nbegin = "{}"\nend = "{}"'
        self.trouble(fault.format("write", "9 MiB", "24 MiB"), "FLASH-WRITE")
        self.trouble(fault.format("read", "2 MiB", "3 MiB"), "FLASH-WRITE")
        said = self.trouble(fault.format("forgotten", "23 MiB", "24 MiB"), "FLASH-DIFFERS")
        self.assertIn("1.0 MiB read back otherwise", said)
        self.assertIn("begins at 0x1700000", said)
        self.trouble(fault.format("flipped", "1 MiB", "2 MiB"), "FLASH-DIFFERS")
        # A card that shows more than it has: what comes late goes over what came early.
        self.trouble('wraps-at = "16 MiB"', "FLASH-DIFFERS")
        self.trouble('removed-after = "7 MiB"', "FLASH-GONE")

    def test_a_card_that_was_pulled_does_not_look_finished_and_goes_on(self) -> None:
        settled = mock.patch("yarrik.flash.writing._SETTLED", MIB)
        self.card('removed-after = "22 MiB"', old=b"old tide")
        attempts, seen = Attempts(self.folder / "attempts"), []
        with settled, opened_source(self.image) as source:

            def once(anew: bool = False) -> object:
                targets = open_all([str(self.folder / "card.toml")], Devices(), source, False)
                with contextlib.closing(targets[0]):
                    return flash_all(source, targets, attempts, anew, lambda _, one: seen.append(one), threading.Event())[0]

            first = once()
            self.assertEqual([one.code for one in first.troubles], ["FLASH-GONE"])  # type: ignore[attr-defined]
            self.assertEqual(self.on_card()[:MIB], bytes(MIB))
            self.write("card.toml", (self.folder / "card.toml").read_text().replace('removed-after = "22 MiB"', ""))
            seen.clear()
            second = once()
            self.assertTrue(second.done)  # type: ignore[attr-defined]
            self.assertGreater(second.begun_at, 0)  # type: ignore[attr-defined]
            self.assertLess(second.written.bytes, source.bytes)  # type: ignore[attr-defined]
            self.assertEqual({one.stage for one in seen}, {"writing", "reading back"})
            self.assertEqual(self.on_card()[: 24 * MIB], self.image.read_bytes())
            self.assertEqual(once().begun_at, 0)  # type: ignore[attr-defined]

            # Somebody wrote to the card between the two attempts: all of it is written once more.
            attempts.reach(second.device, source, 2)  # type: ignore[attr-defined]
            (self.folder / "card.bin").write_bytes(b"old tide" * (4 * MIB))
            self.assertTrue(once().done)  # type: ignore[attr-defined]
            self.assertEqual(self.on_card()[: 24 * MIB], self.image.read_bytes())

    def test_several_at_once(self) -> None:
        names = ("one", "two", "three", "four")
        for name in names:
            self.card('removed-after = "3 MiB"' if name == "two" else "", name)
        said = self.flash("--log", self.folder / "cards", names=names, code=1)
        self.assertIn("3 of 4 hold the image", said)
        self.assertEqual(said.count("read back and compared"), 3)
        for name in ("one", "three", "four"):
            self.assertEqual(self.on_card(name)[: 24 * MIB], self.image.read_bytes())
        done = {file.stem: json.loads(file.read_text())["done"] for file in (self.folder / "cards").glob("*.jsonl")}
        self.assertEqual(done, {"ONE": True, "TWO": False, "THREE": True, "FOUR": True})
        # One of them is the wrong one: no other is touched.
        (self.folder / "one.bin").write_bytes(b"kept" * 8 * MIB)
        self.card(name="two", size="1 MiB")
        self.assertIn("FLASH-SMALL", self.flash(names=names, code=2))
        self.assertEqual(self.on_card("one"), b"kept" * 8 * MIB)
        self.card(name="two")
        self.assertIn("FLASH-BUSY", self.flash(names=("one", "one"), code=2))

    def test_a_serial_number_is_no_path(self) -> None:
        self.card()
        file = self.folder / "card.toml"
        file.write_text(file.read_text().replace('"CARD"', '"../../away"'))
        self.yarrik("flash", self.image, file, "--write-to-device", "card-../../away", "--log", self.folder / "cards/deep")
        self.assertEqual([one.name for one in (self.folder / "cards/deep").iterdir()], ["_.._away.jsonl"])

    def test_ctrl_c_ends_it_between_two_parts_and_the_same_command_goes_on(self) -> None:
        self.card('[[device.fault]]\nkind = "slow"\nbegin = "5 MiB"\nrate = "5 MiB"', old=b"old tide")
        words = [
            sys.executable,
            "-m",
            "yarrik",
            "flash",
            str(self.image),
            str(self.folder / "card.toml"),
            "--write-to-device",
            "card-CARD",
        ]
        process = subprocess.Popen(words, env=self.environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
        end = time.monotonic() + 60
        while self.on_card()[4 * MIB : 5 * MIB] != self.image.read_bytes()[4 * MIB : 5 * MIB]:
            self.assertLess(time.monotonic(), end)
            time.sleep(0.02)
        process.send_signal(signal.SIGINT)
        said = process.communicate(timeout=60)[0]
        self.assertIn("stopped; the same command goes on from there", said)
        self.assertEqual(process.returncode, 1)
        self.assertEqual(self.on_card()[:MIB], bytes(MIB))
        said = self.flash()
        self.assertRegex(said, r"went on at \d+%")
        self.assertEqual(self.on_card()[: 24 * MIB], self.image.read_bytes())

    def test_somebody_stops_it(self) -> None:
        self.card('[[device.fault]]\nkind = "slow"\nrate = "4 MiB"')
        with opened_source(self.image) as source:
            target, stop = BenchTarget(self.folder / "card.toml"), threading.Event()

            def say(number: int, progress: Progress) -> None:
                if progress.stage == "writing":
                    stop.set()

            report = flash_all(source, [target], Attempts(self.folder / "a"), True, say, stop)[0]
            target.close()
        self.assertEqual((report.stopped, report.done, report.troubles), (True, False, ()))


@contextlib.contextmanager
def says(said: bytes) -> Iterator[int]:
    """A server that says that to a client, whatever it is asked; its port."""
    with socket.create_server(("127.0.0.1", 0)) as server:

        def answer() -> None:
            with contextlib.suppress(OSError):
                client, _ = server.accept()
                with client:
                    client.sendall(said)
                    client.shutdown(socket.SHUT_WR)
                    while client.recv(1 << 16):
                        pass

        thread = threading.Thread(target=answer, daemon=True)
        thread.start()
        yield server.getsockname()[1]
        thread.join(10)


class OverTheNetwork(AnImage):
    """Storage that NBD servers export, which we did not write."""

    def server(self, *words: str, size: int = 40 * MIB) -> tuple[str, Path]:
        storage = self.folder / f"storage{len(list(self.folder.iterdir()))}"
        storage.write_bytes(b"old" * (size // 3) + bytes(size % 3))
        with socket.create_server(("127.0.0.1", 0)) as free:
            port = free.getsockname()[1]
        filled = [word.format(port=port, storage=storage) for word in words]
        self.process = subprocess.Popen(filled, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self.addCleanup(self.process.wait), self.addCleanup(self.process.kill)
        for _ in range(100):
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port)):
                break
            time.sleep(0.05)
        return f"nbd://127.0.0.1:{port}/card", storage

    QEMU = ("qemu-nbd", "--port", "{port}", "--bind", "127.0.0.1", "--persistent", "--shared", "9", "--format", "raw", "--export-name",
            "card", "--cache", "none", "--aio", "threads", "{storage}")  # fmt: skip
    KIT = ("nbdkit", "--foreground", "--port", "{port}", "--ipaddr", "127.0.0.1")

    def test_two_servers(self) -> None:
        for words in (self.QEMU, (*self.KIT, "file", "{storage}"), (*self.KIT, "--filter=nozero", "file", "{storage}"),
                      (*self.KIT, "--mask-handshake=0", "--oldstyle", "file", "{storage}")):  # fmt: skip
            with self.subTest(words=words):
                address, storage = self.server(*words)
                if "--oldstyle" in words:
                    self.assertIn("old style", self.yarrik("flash", self.image, address, "--write-to-device", "card", code=2))
                    continue
                found = self.yarrik_json("flash", self.image, address, "--write-to-device", "card")["devices"][0]
                self.assertEqual((found["device"], found["done"]), (address, True))
                self.assertEqual(storage.read_bytes()[: 24 * MIB], self.image.read_bytes())

    def test_one_partition_and_the_question(self) -> None:
        address, storage = self.server(*self.QEMU)
        self.yarrik("flash", self.image, address, "--write-to-device", "card")
        before = storage.read_bytes()
        text = self.at_terminal("flash", self.image, address, types=b"card\n").decode()
        self.assertIn("storage over the network", text)
        self.assertIn("read back and compared", text)
        self.assertNotIn("pulled out", text)
        self.assertEqual(storage.read_bytes(), before)

    def test_what_is_refused(self) -> None:
        address, storage = self.server(*self.QEMU[:-1], "--read-only", "{storage}")
        self.assertIn("FLASH-READ-ONLY", self.yarrik("flash", self.image, address, "--write-to-device", "card", code=2))
        small, _ = self.server(*self.KIT, "file", "{storage}", size=MIB)
        self.assertIn("FLASH-SMALL", self.yarrik("flash", self.image, small, "--write-to-device", "card", code=2))
        other = address.replace("/card", "/other")
        self.assertIn("it has no export `other`", self.yarrik("flash", self.image, other, "--write-to-device", "other", code=2))
        tls, _ = self.server(*self.KIT, "--tls=require", "--tls-psk=/dev/null", "file", "{storage}")
        self.assertIn("FLASH-UNKNOWN", self.yarrik("flash", self.image, tls, "--write-to-device", "card", code=2))
        for word in ("nbd://", "nbd://a:0/x", "nbd://a:99999", "http://a/b", "nbd://127.0.0.1:1/x"):
            self.assertIn("FLASH-UNKNOWN", self.yarrik("flash", self.image, word, "--write-to-device", "x", code=2), word)
        whole, _ = self.server(*self.KIT, "file", "{storage}")
        both = self.yarrik("flash", self.image, whole, whole, "--write-to-device", "card", "--write-to-device", "card", code=2)
        self.assertIn("is named twice", both)
        self.assertEqual(storage.read_bytes()[:3], b"old")

    def certificates(self, name: str) -> tuple[Path, Path]:
        """Folders of a server and of a client, with certificates by an authority of their own."""
        server, client = self.folder / f"{name}-server", self.folder / f"{name}-client"
        server.mkdir(), client.mkdir()
        make = ("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "2")
        ca = server / "ca-key.pem"
        self.tool(*make, "-subj", "/CN=pier authority", "-keyout", ca, "-out", server / "ca-cert.pem")
        shutil.copy(server / "ca-cert.pem", client)
        for folder, who in ((server, "server"), (client, "client")):
            self.tool(*make, "-subj", f"/CN={who}", "-addext", "subjectAltName=IP:127.0.0.1", "-CA", server / "ca-cert.pem", "-CAkey", ca,
                      "-keyout", folder / f"{who}-key.pem", "-out", folder / f"{who}-cert.pem")  # fmt: skip
        return server, client

    def test_by_tls(self) -> None:
        server, client = self.certificates("one")
        _, stranger = self.certificates("other")
        for more in ((), ("--tls-verify-peer",)):
            address, storage = self.server(
                *self.KIT, "--tls=require", f"--tls-certificates={server}", *more, "file", "{storage}"
            )
            secure = address.replace("nbd:", "nbds:")
            words = ("--write-to-device", "card")
            found = self.yarrik_json("flash", self.image, f"{secure}?tls-certificates={client}", *words)["devices"][0]
            self.assertTrue(found["done"])
            self.assertEqual(storage.read_bytes()[: 24 * MIB], self.image.read_bytes())
            for other, why in (
                (address, "write nbds://"),
                (secure, "its certificate is not trusted"),
                (f"{secure}?tls-certificates={stranger}", "its certificate is not trusted"),
                (f"{secure}?tls-certificates={self.folder / 'none'}", "cannot be read"),
                (f"{address}?tls-certificates={client}", "no address of storage"),
            ):
                said = self.yarrik("flash", self.image, other, *words, code=2)
                self.assertIn("FLASH-UNKNOWN", said)
                self.assertIn(why, said)
        # Somebody who answers without TLS gets nothing.
        plain, storage = self.server(*self.KIT, "file", "{storage}")
        said = self.yarrik("flash", self.image, plain.replace("nbd:", "nbds:"), *words, code=2)
        self.assertIn("it has no TLS", said)
        self.assertEqual(storage.read_bytes()[:3], b"old")

    def test_faults_of_the_other_side(self) -> None:
        address, _ = self.server(*self.KIT, "--filter=error", "file", "{storage}", "error-pwrite=EIO", "error-pwrite-rate=1")
        text = self.yarrik("flash", self.image, address, "--write-to-device", "card", code=1)
        self.assertIn("FLASH-WRITE", text)
        self.assertIn("Input/output error", text)
        address, _ = self.server(*self.KIT, "--filter=delay", "file", "{storage}", "delay-write=1")
        threading.Timer(2.5, self.process.kill).start()
        text = self.yarrik("flash", self.image, address, "--write-to-device", "card", code=1)
        self.assertIn("FLASH-GONE", text)
        self.assertIn("the connection ended", text)
        self.assertNotIn("pulled out", text)

    def test_a_server_that_lies(self) -> None:
        """None of these is believed, and none takes memory or time without end."""
        hello = b"NBDMAGICIHAVEOPT\0\3"
        reply = 0x0003E889045565A9

        def option(kind: int, data: bytes, length: int | None = None, about: int = 7) -> bytes:
            return struct.pack("!QIII", reply, about, kind, len(data) if length is None else length) + data

        export = option(3, struct.pack("!HQH", 0, 40 * MIB, 1)) + option(1, b"")
        for said in (b"", b"HTTP/1.1 400 Bad Request\r\n\r\n", b"NBDMAGIC\0\0\x42\x02\x81\x86\x12\x53", hello[:-1] + b"\0", hello + b"\xff" * 200,
                     hello + option(3, b"", 1 << 31), hello + option(3, b"\0\0", about=3), hello + option(1, b""),
                     hello + option(3, struct.pack("!HQH", 0, 0, 1)) + option(1, b""),
                     hello + option(3, struct.pack("!HQH", 0, 1 << 63, 1)) + option(1, b""),
                     hello + option(3, struct.pack("!HQH", 0, 1 << 30, 0)) + option(1, b""),
                     hello + option(3, struct.pack("!HIII", 3, 1 << 30, 1, 1)) + option(3, struct.pack("!HQH", 0, 1 << 30, 1)) + option(1, b""),
                     hello + export + struct.pack("!IIQ", 0x11111111, 0, 1),
                     hello + export + struct.pack("!IIQ", 0x67446698, 0, 77) + bytes(5000)):  # fmt: skip
            with says(said) as port, self.subTest(said=said):
                word = f"nbd://127.0.0.1:{port}/card"
                done = subprocess.run([sys.executable, "-m", "yarrik", "flash", str(self.image), word, "--write-to-device", "card"],
                                      env=self.environment, capture_output=True, timeout=60, check=False)  # fmt: skip
                self.assertIn(done.returncode, (1, 2), done.stderr)
                self.assertRegex(done.stderr.decode(), "FLASH-(UNKNOWN|GONE)")
                self.assertNotIn(b"Traceback", done.stderr)


class InFastbootMode(AnImage):
    """A board whose bootloader speaks fastboot: a simulated one, which Debian's own client gets along with."""

    def board(self, size: int = 40 * MIB, **more: object) -> tuple[Board, str, Path]:
        storage = self.folder / "mmc0.bin"
        storage.write_bytes(b"old!" * (size // 4))
        board = Board({"mmc0": storage}, **more)  # type: ignore[arg-type]
        self.addCleanup(board.close)
        return board, f"fastboot://127.0.0.1:{board.port}/mmc0", storage

    def flash_to(self, address: str, *words: str, code: int = 0) -> str:
        return self.yarrik("flash", self.image, address, "--write-to-device", "mmc0-PB7", *words, code=code)

    def test_the_simulated_board_is_one(self) -> None:
        board, _, storage = self.board()
        data = random.Random(4).randbytes(3 * MIB) + bytes(MIB)
        file = self.write("part.img", data)
        for words in ((), ("-S", "200K")):
            storage.write_bytes(b"old!" * (10 * MIB))
            self.tool("fastboot", "-s", f"tcp:127.0.0.1:{board.port}", *words, "flash", "mmc0", file)
            self.assertEqual(storage.read_bytes()[: 3 * MIB], data[: 3 * MIB])

    def test_all_of_it_arrives(self) -> None:
        board, address, storage = self.board()
        text = self.flash_to(address)
        self.assertIn("it cannot be read back", text)
        self.assertNotIn("pulled out", text)
        self.assertEqual(storage.read_bytes()[: 24 * MIB], self.image.read_bytes())
        self.assertEqual(storage.read_bytes()[-34 * 512 :], bytes(34 * 512))
        sizes = [int(one[9:], 16) for one in board.log if one.startswith("download:")]
        self.assertLessEqual(max(sizes), 256 << 10)
        # The partition table comes last: until then the board starts nothing.
        found = json.loads(self.flash_to(address, "--json"))["devices"][0]
        self.assertEqual((found["done"], found["read-back"], found["serial"]), (True, False, "PB7"))

    def test_large_and_small_buffers(self) -> None:
        for most in (64 << 10, 16 << 20, 1 << 31):
            _, address, storage = self.board(most=most)
            self.flash_to(address)
            self.assertEqual(storage.read_bytes()[: 24 * MIB], self.image.read_bytes())
        _, address, _ = self.board(most=1000)
        self.assertIn("which is too little", self.flash_to(address, code=2))

    def test_what_goes_wrong(self) -> None:
        _, address, _ = self.board(fails="flash")
        text = self.flash_to(address, code=1)
        self.assertIn("FLASH-WRITE", text)
        self.assertIn("it says: worn out", text)
        _, address, storage = self.board(size=MIB)
        self.assertIn("FLASH-SMALL", self.flash_to(address, code=2))
        self.assertEqual(storage.read_bytes()[:4], b"old!")
        for lie in ("0xffffffffffffffff", "99999999999999999"):
            board = Board({"mmc0": storage}, size=lie)
            self.addCleanup(board.close)
            self.assertIn("cannot be", self.flash_to(f"fastboot://127.0.0.1:{board.port}/mmc0", code=2))
        # Of a board that does not say how large it is, only it knows whether all fits.
        board = Board({"mmc0": self.write("large.bin", bytes(40 * MIB))}, size="unknown")
        self.addCleanup(board.close)
        self.flash_to(f"fastboot://127.0.0.1:{board.port}/mmc0")
        _, address, _ = self.board(version=b"SSH-")
        self.assertIn("no fastboot is there", self.flash_to(address, code=2))
        for word in ("fastboot://", "fastboot://127.0.0.1", "fastboot://127.0.0.1:1/mmc0", "fastboot://a/../b"):
            self.assertIn("FLASH-UNKNOWN", self.yarrik("flash", self.image, word, "--write-to-device", "mmc0", code=2))
        _, address, _ = self.board()
        self.assertIn("FLASH-UNCONFIRMED", self.yarrik("flash", self.image, address, "--write-to-device", "mmc0", code=2))

    def test_answers_that_lie(self) -> None:
        for said in (b"FB01" + b"\xff" * 8, b"FB01" + (3).to_bytes(8, "big") + b"OKA", b"FB01",
                     b"FB01" + ((4).to_bytes(8, "big") + b"INFO") * 20_000):  # fmt: skip
            with says(said) as port, self.subTest(said=said[:20]):
                text = self.flash_to(f"fastboot://127.0.0.1:{port}/mmc0", code=2)
                self.assertIn("FLASH-UNKNOWN", text)


class WrongDevices(AnImage):
    """Tricks with real devices of this machine; each is refused, and what it leads to stays as it was."""

    def refused(self, path: Path, code: str, *words: str) -> str:
        said = self.yarrik("flash", self.image, path, "--write-to-device", f"{path.name}-", *words, code=2)
        self.assertIn(f"error {code}:", said)
        return said

    def system_disk(self) -> Path:
        """The disk of the running system, if one is seen."""
        for one in Devices().all():
            if any(use.kind == "system" for use in one.uses):
                return one.path
        return Path("/dev/null")

    def test_what_is_no_device(self) -> None:
        self.refused(Path("/dev/null"), "FLASH-NOT-DISK")
        self.refused(self.folder, "FLASH-NOT-DISK")
        self.refused(self.image, "FLASH-NOT-DISK")
        self.refused(self.folder / "sdq", "FLASH-UNKNOWN")
        (self.folder / "stick").symlink_to(self.folder / "nowhere")
        self.refused(self.folder / "stick", "FLASH-UNKNOWN")

    def test_the_running_systems_disk_by_any_name(self) -> None:
        disk = self.system_disk()
        code = "FLASH-SYSTEM" if disk != Path("/dev/null") else "FLASH-NOT-DISK"
        self.refused(disk, code)
        (self.folder / "usb-stick").symlink_to(disk)
        self.refused(self.folder / "usb-stick", code)
        (self.folder / "chain").symlink_to("usb-stick")
        self.refused(self.folder / "chain", code, "--built-in")
        if os.geteuid() == 0:
            # A node of its own with the same number.
            number = disk.stat().st_rdev
            with contextlib.suppress(PermissionError):
                os.mknod(self.folder / "copy", 0o600 | disk.stat().st_mode & 0o170000, number)
                self.refused(self.folder / "copy", code)


class Chip(MtdTarget):
    """A NOR chip in a file: erasing sets all bits of a block, and writing can only clear bits."""

    erased: ClassVar[list[int]] = []
    kind, flags, block = 3, 0x400, 64 << 10

    def _call(self, request: int, data: bytes) -> bytes:
        if request == MEMGETINFO:
            size = os.fstat(self._handle).st_size
            return struct.pack("=BxxxIIIIIQ", self.kind, self.flags, size, self.block, 1, 0, 0)
        start, length = struct.unpack("=II", data)
        assert request == MEMERASE and start % self.block == 0 and length == self.block
        self.erased.append(start)
        os.pwrite(self._handle, b"\xff" * length, start)
        return data

    def _put(self, at: int, data: bytes) -> None:
        there = os.pread(self._handle, len(data), at)
        os.pwrite(self._handle, bytes(one & other for one, other in zip(there, data, strict=True)), at)


class OntoAFlashChip(FolderTest):
    """The kernel's own calls are stood for by a file: there was no chip."""

    def test_blocks_are_erased_and_what_is_beside_stays(self) -> None:
        old = random.Random(1).randbytes(1 << 20)
        file = self.write("mtd0", old)
        chip = Chip(file)
        self.assertEqual((chip.device.size, chip.device.removable, chip.device.bus), (1 << 20, False, "mtd"))
        Chip.erased = []
        data = random.Random(2).randbytes(100_000)
        chip.write(50_000, memoryview(data))
        self.assertEqual(Chip.erased, [0, 1 << 16, 2 << 16])
        wanted = old[:50_000] + data + old[150_000:]
        self.assertEqual(file.read_bytes(), wanted)
        chip.write(50_000, memoryview(data))
        self.assertEqual(len(Chip.erased), 3)  # nothing is erased for what is there already
        chip.zero(1 << 19, 1 << 16)
        chip.write(3 << 16, memoryview(b"\xff" * (1 << 16)))
        room = memoryview(bytearray(1 << 16))
        chip.read_into(1 << 19, room)
        self.assertEqual(bytes(room), bytes(1 << 16))
        chip.settle()
        chip.close()
        self.assertEqual(file.read_bytes()[3 << 16 : 4 << 16], b"\xff" * (1 << 16))

    def test_what_is_behind_the_image_stays(self) -> None:
        """A chip has the bootloader's settings at its end: an image that is shorter does not touch them."""
        file = self.write("mtd0", random.Random(1).randbytes(1 << 20))
        old, image = file.read_bytes(), self.write("loader.bin", random.Random(2).randbytes(300_000))
        chip = Chip(file)
        with opened_source(image, lambda done, total: None, []) as source:
            written = flash(Job(source, chip))
        self.assertTrue(written.read_back)
        self.assertEqual(file.read_bytes()[:300_000], image.read_bytes())
        self.assertEqual(file.read_bytes()[300_032:], old[300_032:])

    def test_what_is_refused(self) -> None:
        file = self.write("mtd0", bytes(1 << 20))
        for changed in ({"kind": 4}, {"block": 0}, {"block": 3000}):
            with mock.patch.multiple(Chip, **changed), self.assertRaises(YarrikError):
                Chip(file)
        with mock.patch.object(Chip, "flags", 0):
            self.assertTrue(Chip(file).device.read_only)
        self.assertFalse(is_flash_chip(file))
        self.assertFalse(is_flash_chip(Path("/dev/null")))
        with self.assertRaises(YarrikError):
            MtdTarget(file)  # a file has no such call


class ByUsb(AnImage):
    """A device that takes firmware by the class DFU: a simulated one, behind the library that talks to real ones."""

    def device(self, more: str = "", size: int = 40) -> Path:
        return self.write("gauge.toml", f'[device]\nprotocol = "dfu"\nserial = "D1"\nsize = "{size} MiB"\n{more}')

    def flash_to(self, device: Path | str, *words: str, code: int = 0) -> str:
        return self.yarrik("flash", self.image, device, "--write-to-device", "card-D1", *words, code=code)

    def test_all_of_it_arrives_and_is_read_back(self) -> None:
        found = json.loads(self.flash_to(self.device(), "--json"))["devices"][0]
        self.assertEqual((found["done"], found["read-back"], found["serial"]), (True, True, "D1"))
        self.assertEqual((self.folder / "gauge.bin").read_bytes(), self.image.read_bytes())
        text = self.at_terminal("flash", self.image, self.device(), types=b"card\n").decode()
        self.assertIn("Bench gauge", text)
        self.assertIn("on it now: unknown", text)

    def test_what_goes_wrong(self) -> None:
        for more, size, why in (
            ('[[device.fault]]\nkind = "write"\nbegin = "1 MiB"\n', 40, "it says: its programming failed"),
            ("", 8, "it says: the address is out of its range"),
            ('[[device.fault]]\nkind = "flipped"\nbegin = "1 MiB"\n', 40, "FLASH-DIFFERS"),
        ):
            text = self.flash_to(self.device(more, size), code=1)
            self.assertIn(why, text)
        for word in ("dfu://", "dfu://1209/x", "dfu://1209:0001", "dfu://zzzz:0001/x", "dfu://1209:0001/a/b"):
            self.assertIn("FLASH-UNKNOWN", self.yarrik("flash", self.image, word, "--write-to-device", "x", code=2), word)

    def test_the_class_in_every_state(self) -> None:
        storage = self.folder / "dfu.bin"
        storage.write_bytes(b"")
        data = random.Random(3).randbytes(300_000)
        source = SimpleNamespace(begin=0, end=len(data))
        for transfer, uploads in ((64, True), (4096, True), (4096, False), (65535, True)):
            bus = SimulatedDfu(storage, 1 << 20, "D1", transfer, uploads)
            bus.state = (
                5 if transfer == 64 else 10 if transfer == 65535 else 2
            )  # left in the middle of something by somebody else
            target = DfuTarget("dfu://1209:0001/card?serial=D1", source, bus, lambda seconds: None)  # type: ignore[arg-type]
            self.assertEqual((target.device.serial, target.device.vendor, target.reads), ("D1", "Harbour Authority", uploads))
            target.write(0, memoryview(data[:100_001]))
            target.settle()  # not the end yet: nothing is given to the storage
            target.zero(100_001, 999)
            with self.assertRaisesRegex(OSError, "in order"):
                target.write(0, memoryview(b"x"))
            target.write(101_000, memoryview(data[101_000:]))
            target.settle()
            wanted = data[:100_001] + bytes(999) + data[101_000:]
            self.assertEqual(storage.read_bytes(), wanted)
            if uploads:
                room = memoryview(bytearray(50_000))
                for at in (0, 50_000, 150_000, 290_000):
                    target.read_into(at, room)
                    self.assertEqual(bytes(room), wanted[at : at + 50_000].ljust(50_000, b"\0"), at)
                with self.assertRaisesRegex(OSError, "in order"):
                    target.read_into(0, room)
            target.close()
            self.assertNotIn("5", bus.log)
        for word, why in (("dfu://1209:0002/card", "none is there"), ("dfu://1209:0001/card?serial=D2", "those that are: D1"),
                          ("dfu://1209:0001/disk", "its places: card")):  # fmt: skip
            with self.assertRaises(YarrikError) as caught:
                DfuTarget(word, source, SimulatedDfu(storage, 1 << 20, "D1"))  # type: ignore[arg-type]
            self.assertIn(why, str(caught.exception.troubles[0]))
        for transfer in (0, 63):
            with self.assertRaises(YarrikError):
                DfuTarget("dfu://1209:0001/card", source, SimulatedDfu(storage, 1 << 20, "D1", transfer))  # type: ignore[arg-type]

    def test_block_numbers_begin_again(self) -> None:
        storage = self.folder / "dfu.bin"
        source = SimpleNamespace(begin=0, end=64 * 70_000)
        bus = SimulatedDfu(storage, 8 << 20, "D1", 64)
        target = DfuTarget("dfu://1209:0001/0", source, bus, lambda seconds: None)  # type: ignore[arg-type]
        data = random.Random(5).randbytes(64 * 70_000)
        target.write(0, memoryview(data))
        target.settle()
        self.assertEqual(storage.read_bytes(), data)


if __name__ == "__main__":
    unittest.main()
