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

from tests.test_flash import MIB, AnImage
from yarrik.flash import Attempts, Devices, flash_all, opened_source
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

    def test_a_device_that_was_swapped(self) -> None:
        storage = self.folder / "storage"
        storage.write_bytes(bytes(32 * MIB))
        with loop(storage) as device:
            # Another device under the same name, while the question is open.
            target = BlockTarget(device, Devices())
            self.assertEqual(target.moved(), "")
            with mock.patch.object(
                target, "device", target.device.__class__(**{**vars(target.device), "sequence": 10**9, "serial": "x"})
            ):
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
