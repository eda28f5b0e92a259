"""The real bootloader starts the real kernel from the network: what `yarrik serve` offers is all that it has. `make network-start`.

A network of its own, with a link between us and the emulated board, is made in a namespace of the kernel's: neither needs nor touches
that of this machine."""

import io
import os
import shlex
import sys
import tempfile
import unittest
from pathlib import Path

from yarrik.console import BootOutcome, TalkLine, run_emulator

ROOT = Path(__file__).parent.parent
#: The workspace of `make linux`.
WORKSPACE = Path(os.environ.get("YARRIK_BOARDS", "build/demo-linux")).absolute()
BOOTLOADER = "/usr/lib/u-boot/qemu_arm64/u-boot.bin"
SETUP = """
set -e
ip link set lo up
ip tuntap add board mode tap
ip address add 192.0.2.1/24 dev board
ip link set board up
"""
MACHINE = ["qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a57", "-m", "512", "-display", "none", "-monitor", "none",
           "-serial", "stdio", "-bios", BOOTLOADER, "-nodefaults", "-device", "virtio-net-pci,netdev=n",
           "-netdev", "tap,id=n,ifname=board,script=no,downscript=no"]  # fmt: skip


class ARealBoardStarts(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = tempfile.TemporaryDirectory(prefix="yarrik-test-")
        self.addCleanup(self.folder.cleanup)
        self.log = Path(self.folder.name, "serve.jsonl")
        self.shown = bytearray()

    def start(self, talk: list[TalkLine], serve: list[str], machine: list[str]) -> BootOutcome:
        words = [sys.executable, "-m", "yarrik", "serve", "tide-gauge-linux", "--workspace", str(WORKSPACE), "--json", *serve]
        script = (f"{SETUP}{shlex.join(words)} --address 192.0.2.1 --seconds 110 > {self.log} 2>&1 &\n"
                  f"exec {shlex.join([*MACHINE, *machine])}\n")  # fmt: skip
        command = ["unshare", "--map-root-user", "--net", "--pid", "--fork", "--kill-child", "sh", "-c", script]
        outcome = run_emulator(command, tuple(talk), io.BytesIO(), 100, self.shown.extend)
        self.assertEqual(outcome.ending, "seen", f"{self.shown[-3000:]!r}\n{self.log.read_text()}")
        return outcome

    PROMPT = (
        TalkLine(expect="stop autoboot", type=""),
        TalkLine(expect="=> ", type="setenv ipaddr 192.0.2.2; setenv serverip 192.0.2.1; setenv fdt_addr_r 0x43000000"),
    )

    def test_a_board_without_storage(self) -> None:
        """Kernel, device tree and the whole root filesystem come over the network, by the menu that the bootloader asks for."""
        talk = [*self.PROMPT, TalkLine(expect="=> ", type="pxe get && pxe boot"), TalkLine(expect="Starting kernel"),
                TalkLine(expect="tidelog: recording", type=""), TalkLine(expect="# ", type="cat /proc/cmdline; df"),
                TalkLine(expect="rdinit=/sbin/init")]  # fmt: skip
        self.start(talk, ["--root", "memory"], [])
        requests = self.log.read_text()
        for name in ("pxelinux.cfg/default", "kernel", "device-tree.dtb", "initramfs"):
            self.assertRegex(requests, rf'"protocol": "tftp", "name": "{name}", "outcome": "sent"')
        # The names that the bootloader tries before are not offered, and are no reason to stop.
        self.assertIn('"outcome": "unknown"', requests)

    def test_a_new_kernel_for_a_board_with_a_card(self) -> None:
        """What is built now is tried with the root filesystem that the card has: nothing is flashed."""
        image = WORKSPACE / "out/tide-gauge-linux/tide-gauge-linux.img"
        card = Path(self.folder.name, "card.img")
        card.write_bytes(image.read_bytes())
        talk = [*self.PROMPT, TalkLine(expect="=> ", type="pxe get && pxe boot"), TalkLine(expect="Starting kernel"),
                TalkLine(expect="tidelog: recording", type=""), TalkLine(expect="# ", type="cat /proc/mounts"),
                TalkLine(expect="/dev/root / ext4")]  # fmt: skip
        self.start(talk, [], ["-drive", f"file={card},format=raw,if=none,id=card", "-device", "virtio-blk-device,drive=card"])

    def test_what_is_not_there(self) -> None:
        """The bootloader is told, and is back at its prompt."""
        talk = [*self.PROMPT, TalkLine(expect="=> ", type="tftpboot 0x42000000 ../../etc/passwd"),
                TalkLine(expect="TFTP error: 'not offered' (1)"), TalkLine(expect="=> ", type="tftpboot 0x42000000 packages.json"),
                TalkLine(expect="Bytes transferred = "), TalkLine(expect="=> ")]  # fmt: skip
        self.start(talk, [], [])


if __name__ == "__main__":
    unittest.main()
