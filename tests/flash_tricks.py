"""Tricks with real block devices: loop devices of this machine. `make flash-tricks` runs it, as root; without loop devices it fails,
which is why it is not part of `make test`."""

import contextlib
import hashlib
import json
import os
import subprocess
import threading
import unittest
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

from msgspec.structs import replace

from tests.test_flash import MIB, AnImage
from yarrik.errors import YarrikError
from yarrik.flash import Attempts, Devices, View, flash_all, open_all, opened_source
from yarrik.flash.target import BlockTarget


@contextlib.contextmanager
def loop(file: Path, *words: str) -> Iterator[Path]:
    done = subprocess.run(["losetup", "--find", "--show", *words, file], capture_output=True, text=True, check=True)
    device = Path(done.stdout.strip())
    try:
        yield device
    finally:
        subprocess.run(["losetup", "--detach", device], check=False)


class RealDevices(AnImage):
    def test_a_real_device(self) -> None:
        storage = self.folder / "storage"
        storage.write_bytes(b"old tide" * (4 * MIB))
        with loop(storage) as device:
            report = json.loads(self.yarrik("flash", self.image, device, "--write-to-device", device.name, "--json"))
            self.assertTrue(report["devices"][0]["done"])
            subprocess.run(["sync"], check=True)
            self.assertEqual(storage.read_bytes()[: 24 * MIB], self.image.read_bytes())
            self.assertIn(str(device), self.yarrik("devices"))

            # Held by another program, in the moment between the look and the claim.
            handle = os.open(device, os.O_RDONLY | os.O_EXCL)
            self.assertIn("FLASH-BUSY", self.yarrik("flash", self.image, device, "--write-to-device", device.name, code=2))
            os.close(handle)

            # Mounted.
            subprocess.run(["mke2fs", "-q", "-F", device], check=True)
            place = self.folder / "mounted here"
            place.mkdir()
            subprocess.run(["mount", device, place], check=True)
            try:
                before = hashlib.sha256(storage.read_bytes()).hexdigest()
                said = self.yarrik("flash", self.image, device, "--write-to-device", device.name, code=2)
                self.assertIn("FLASH-MOUNTED", said)
                self.assertIn(f"at {place}", said)
                self.assertEqual(hashlib.sha256(storage.read_bytes()).hexdigest(), before)
            finally:
                subprocess.run(["umount", place], check=True)

        with loop(self.image) as device:
            before = self.image.read_bytes()
            said = self.yarrik("flash", self.image, device, "--write-to-device", device.name, code=2)
            self.assertIn("which is the image itself", said)
            self.assertEqual(self.image.read_bytes(), before)
        with loop(storage, "--read-only") as device:
            self.assertIn("FLASH-READ-ONLY", self.yarrik("flash", self.image, device, "--write-to-device", device.name, code=2))
        small = self.folder / "small"
        small.write_bytes(bytes(MIB))
        with loop(small) as device:
            self.assertIn("FLASH-SMALL", self.yarrik("flash", self.image, device, "--write-to-device", device.name, code=2))
            said = self.yarrik("flash", self.image, device, "--write-to-device", device.name, "--built-in", code=2)
            self.assertIn("FLASH-SMALL", said)

    def test_a_boot_area_is_let_go_of_locked(self) -> None:
        """A real device under the kernel's name of a boot area, with its lock: open while it is written, closed after."""
        storage = self.folder / "storage"
        storage.write_bytes(bytes(4 * MIB))
        loader = self.folder / "loader.bin"
        loader.write_bytes(b"loader" * 10_001)
        with loop(storage) as device:
            number = os.stat(device).st_rdev
            name = f"{os.major(number)}:{os.minor(number)}"
            area = self.folder / "sys/devices/mmc_host/mmc0/block/mmcblk0boot0"
            for file, text in (("dev", name), ("size", "8192"), ("ro", "1"), ("force_ro", "1"), ("device/type", "MMC")):
                self.write(f"sys/devices/mmc_host/mmc0/block/mmcblk0boot0/{file}", text)
            (self.folder / "sys/dev/block").mkdir(parents=True)
            (self.folder / "sys/dev/block" / name).symlink_to(area)
            devices = Devices(View(sys=self.folder / "sys"))
            with opened_source(loader) as source:
                with self.assertRaises(YarrikError) as caught:
                    open_all([str(device)], devices, source, False)
                self.assertEqual(caught.exception.troubles[0].code, "FLASH-BUILT-IN")
                self.assertEqual((area / "force_ro").read_text(), "1")
                target = open_all([str(device)], devices, source, True)[0]
                self.assertEqual((area / "force_ro").read_text(), "0")
                reports = flash_all(
                    source, [target], Attempts(self.folder / "attempts"), False, lambda *_: None, threading.Event()
                )
                target.close()
            self.assertTrue(reports[0].done, reports)
            self.assertEqual((area / "force_ro").read_text(), "1")
            subprocess.run(["sync"], check=True)
            self.assertEqual(storage.read_bytes()[:60_006], loader.read_bytes())

    def test_a_device_that_was_swapped(self) -> None:
        storage = self.folder / "storage"
        storage.write_bytes(bytes(32 * MIB))
        with loop(storage) as device:
            # Another device under the same name, while the question is open.
            target = BlockTarget(device, Devices())
            self.assertEqual(target.moved(), "")
            with mock.patch.object(target, "device", replace(target.device, sequence=10**9, serial="x")):
                self.assertIn("same name", target.moved())
                with opened_source(self.image) as source:
                    report = flash_all(source, [target], Attempts(self.folder / "a"), True, lambda *_: None, threading.Event())[
                        0
                    ]
            self.assertEqual([one.code for one in report.troubles], ["FLASH-ANOTHER"])
            target.close()
            self.assertEqual(storage.read_bytes(), bytes(32 * MIB))


if __name__ == "__main__":
    unittest.main()
