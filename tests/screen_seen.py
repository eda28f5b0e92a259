"""The gauge's screen in the emulator: what it shows is looked at through the emulator's monitor, and a key is pressed there.

`make commons-boots` runs it. With YARRIK_KEEP_PICTURES=FOLDER the pictures are left there; `docs/screenshots/screen.png` is one."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from tests.commons_boots import ENVIRONMENT, ROOT, new_workspace, yarrik

BOARD = """
extends = "kittiwake-screen"

[emulator]
arguments = [
  "-M", "virt", "-cpu", "cortex-a53", "-m", "256", "-nic", "none",
  "-display", "none", "-monitor", "unix:{monitor},server=on,wait=off", "-serial", "stdio",
  "-global", "virtio-mmio.force-legacy=false", "-bios", "{{bootloader}}", "-dtb", "{{device-tree}}",
  "-drive", "file={{image}},format=raw,if=none,id=card",
  "-device", "virtio-blk-device,drive=card",
  "-device", "virtio-gpu-device,xres=800,yres=480",
  "-device", "virtio-keyboard-device",
]
"""
WATER, PAPER, INK = (0x1F, 0x4E, 0x79), (0xF5, 0xF2, 0xE8), (0x20, 0x26, 0x2B)
SCREEN = Path("src/yarrik/demo/data/screen")
Colour = tuple[int, int, int]


class TheTideIsOnTheScreen(unittest.TestCase):
    product = "gauge-seen"

    @classmethod
    def setUpClass(cls) -> None:
        new_workspace()
        folder = tempfile.TemporaryDirectory(prefix="yarrik-screen-")
        cls.addClassCleanup(folder.cleanup)
        cls.top = Path(folder.name)
        shutil.copytree(SCREEN, ROOT / "screen", dirs_exist_ok=True)
        if '"screen"' not in (ROOT / "yarrik.toml").read_text():
            yarrik("shelf", "add", ROOT / "screen", "--workspace", ROOT)
        (ROOT / "shelves/harbour/boards/gauge-seen.toml").write_text(BOARD.format(monitor=cls.top / "monitor"))
        (ROOT / "products/gauge-seen.toml").write_text('board = "gauge-seen"\nprofile = "lean"\nimage = "gauge-screen"\n')
        yarrik("build", cls.product, "--workspace", ROOT)
        words = ("inspect", ROOT / "out/gauge-seen/gauge-seen.img", "--extract", "/usr/share/fonts/urw/NimbusSans-Bold.otf")
        yarrik(*words, "--partition", "root-a", "--to", cls.top)
        cls.font = cls.top / "NimbusSans-Bold.otf"

    def setUp(self) -> None:
        self.console = (self.top / "console").open("w+")
        self.addCleanup(self.console.close)
        self.process = subprocess.Popen(
            [sys.executable, "-m", "yarrik", "boot", self.product, "--workspace", str(ROOT), "--seconds", "300", "--expect", "nobody says this"],
            env=ENVIRONMENT, stdin=subprocess.DEVNULL, stdout=self.console, stderr=subprocess.STDOUT,
        )  # fmt: skip
        self.addCleanup(self.process.wait)
        self.addCleanup(self.process.terminate)

    def until(self, words: str, seconds: int = 120) -> str:
        """Waits for words on the console."""
        end = time.monotonic() + seconds
        while words not in (said := (self.top / "console").read_text(errors="replace")):
            self.assertIsNone(self.process.poll(), said[-3000:])
            self.assertLess(time.monotonic(), end, said[-3000:])
            time.sleep(0.5)
        return said

    def monitor(self, command: str) -> None:
        with socket.socket(socket.AF_UNIX) as one:
            one.connect(str(self.top / "monitor"))
            one.settimeout(20)
            for line in ("", f"{command}\n"):
                one.sendall(line.encode())
                said = b""
                while not said.endswith(b"(qemu) "):
                    said += one.recv(4096)
        self.assertNotIn(b"rror", said)

    def picture(self, name: str) -> np.ndarray:
        """What is on the screen now: height, width, and three colours of 0 to 255."""
        file = self.top / f"{name}.ppm"
        self.monitor(f"screendump {file}")
        with Image.open(file) as image:
            kept = os.environ.get("YARRIK_KEEP_PICTURES")
            if kept:
                image.save(Path(kept, f"{name}.png"))
            return np.asarray(image.convert("RGB")).astype(float)

    def likeness(self, picture: np.ndarray, text: str, size: int, x: int, base: int, ink: Colour, ground: Colour) -> float:
        """How well a line of text, drawn by another program, fits what is at its place: 1 for the same, about 0 for another."""
        font = ImageFont.truetype(str(self.font), size, layout_engine=ImageFont.Layout.BASIC)
        width = int(font.getlength(text)) + 4
        mask = Image.new("L", (width, size * 3 // 2))
        ImageDraw.Draw(mask).text((0, size), text, fill=255, font=font, anchor="ls")
        wanted = np.asarray(mask).astype(float)
        part = picture[base - size : base - size + wanted.shape[0], x : x + width]
        way = np.subtract(ink, ground).astype(float)
        seen = (part - np.array(ground, dtype=float)) @ way / (way @ way)
        return float(np.corrcoef(seen.ravel(), wanted.ravel())[0, 1])

    def test_text_at_its_place_the_curve_and_a_key(self) -> None:
        self.until("tide-screen: 800 x 480, 1 with keys")
        self.until("page 1 shows reading 12")
        first = self.picture("page-1")
        self.assertEqual(first.shape, (480, 800, 3))
        self.assertGreater(self.likeness(first, "Gull Rock tide gauge", 36, 24, 48, PAPER, WATER), 0.9)
        self.assertLess(self.likeness(first, "Ebb Stone wind gauge", 36, 24, 48, PAPER, WATER), 0.7)
        self.assertGreater(self.likeness(first, "page 1 of 2", 20, 24, 460, INK, PAPER), 0.9)
        water = np.all(np.abs(first - WATER) < 3, axis=2)
        columns = water[110:414, 100:740].any(axis=0)
        self.assertGreater(int(columns.sum()), 100)  # twelve readings of ten dots
        self.assertFalse(columns[400:].any())  # the others are yet to come
        self.monitor("sendkey spc")
        said = self.until("page 2 shows reading")
        number = said.rpartition("page 2 shows reading ")[2].split()[0]
        second = self.picture("page-2")
        self.assertGreater(self.likeness(second, "page 2 of 2", 20, 24, 460, INK, PAPER), 0.9)
        self.assertGreater(self.likeness(second, "reading 1", 20, 100, 132, INK, PAPER), 0.5, number)
        self.assertFalse(np.all(np.abs(second - WATER) < 3, axis=2)[110:414].any())


if __name__ == "__main__":
    unittest.main()
