"""One script for emulator and bench: what `yarrik boot --talk` follows in the emulator, it follows on a port too. The board behind the
port is the emulator again, with the real kernel; its power is switched by a command, as on a bench. `make on-a-port`."""

import os
import shutil
import socket
import subprocess
import sys
import time
import unittest
from pathlib import Path

from tests.support import new_folder

#: The workspace of `make linux`.
WORKSPACE = Path(os.environ.get("YARRIK_BOARDS", "build/demo-linux")).absolute()
BOOTLOADER = "/usr/lib/u-boot/qemu_arm64/u-boot.bin"
#: Says a word to the emulator's monitor, as a power strip's command would switch a board.
SWITCH = """
import socket, sys, time
with socket.socket(socket.AF_UNIX) as monitor:
    monitor.connect(sys.argv[1])
    monitor.sendall(b"system_reset\\n")
    time.sleep(0.5)
"""


class TheSameScript(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = new_folder()
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        out = WORKSPACE / "out/tide-gauge-linux"
        card = self.folder / "card.img"
        shutil.copy(out / "tide-gauge-linux.img", card)
        with socket.create_server(("127.0.0.1", 0)) as free:
            self.port = free.getsockname()[1]
        self.board = subprocess.Popen(
            ["qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a57", "-m", "256", "-nic", "none", "-display", "none",
             "-serial", f"tcp:127.0.0.1:{self.port},server=on,wait=off", "-monitor", f"unix:{self.folder}/monitor,server=on,wait=off",
             "-bios", BOOTLOADER, "-dtb", str(out / "kittiwake.dtb"), "-drive", f"file={card},format=raw,if=none,id=card",
             "-device", "virtio-blk-device,drive=card"])  # fmt: skip
        self.addCleanup(self.board.wait), self.addCleanup(self.board.kill)
        for _ in range(100):
            if (self.folder / "monitor").exists():
                break
            time.sleep(0.05)
        (self.folder / "switch.py").write_text(SWITCH)
        self.file = self.folder / "pier.toml"
        self.file.write_text(
            f'[port]\ndevice = "socket://127.0.0.1:{self.port}"\npower-cycle = ["{sys.executable}", "switch.py", "monitor"]\n'
        )

    def yarrik(self, *words: str | Path, code: int = 0) -> str:
        done = subprocess.run([sys.executable, "-m", "yarrik", *map(str, words)], capture_output=True, timeout=280, check=False,
                              env={**os.environ, "XDG_STATE_HOME": str(self.folder / "state")})  # fmt: skip
        text = (done.stdout + done.stderr).decode("utf-8", "replace")
        self.assertEqual(done.returncode, code, text[-3000:])
        return text

    def test_restarts_and_keeps_its_readings(self) -> None:
        """The script of the demo, as `make demo-linux` gives it to the emulator: writes, restarts, finds it again, powers off."""
        text = self.yarrik("boot", "tide-gauge-linux", "--workspace", WORKSPACE, "--talk", WORKSPACE / "talks/restart.toml", "--on", self.file,
                           "--seconds", "200")  # fmt: skip
        self.assertIn("power: ", text)
        self.assertIn("tide-gauge-linux: all was seen", text)
        self.assertIn("written before the restart", text)
        self.board.wait(20)  # its last word was that it powers off

    def test_a_board_that_does_not_come_up(self) -> None:
        text = self.yarrik("boot", "tide-gauge-linux", "--workspace", WORKSPACE, "--expect", "never said", "--on", self.file, "--seconds", "15",
                           code=1)  # fmt: skip
        self.assertIn("error BOOT-NOT-SEEN: the time was over", text)
        text = self.yarrik("console", self.file, "--expect", "never said", "--seconds", "2", code=1)
        self.assertIn("error BOOT-NOT-SEEN", text)


if __name__ == "__main__":
    unittest.main()
