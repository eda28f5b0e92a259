"""The demo's boards in the emulator, each with its own kernel, boot method and bootloader or firmware (`make boards`).

Not among `make test`: the kernels take minutes each the first time. Every class needs the emulators and firmware of
`scripts/host-packages boards`."""

import json
import os
import re
import subprocess
import sys
import unittest
from pathlib import Path

from tests.support import edit_boot_file

ROOT = Path(os.environ.get("YARRIK_BOARDS", "build/boards")).resolve()
ENVIRONMENT = {**os.environ, "NO_COLOR": "1"}
MARKER = "tidelog: recording"


def yarrik(*words: str | Path, code: int | None = 0) -> str:
    command = [sys.executable, "-m", "yarrik", *map(str, words)]
    done = subprocess.run(command, cwd=ROOT.parent, env=ENVIRONMENT, capture_output=True, check=False, stdin=subprocess.DEVNULL)
    said = (done.stdout + done.stderr).decode("utf-8", "replace")
    if code is not None and done.returncode != code:
        raise AssertionError(f"exit code {done.returncode}: yarrik {' '.join(map(str, words))}\n{said[-3000:]}")
    return said


def setUpModule() -> None:
    if not (ROOT / "yarrik.toml").exists():
        ROOT.parent.mkdir(parents=True, exist_ok=True)
        yarrik("demo", ROOT, "--product", "tide-office", "--no-boot")
    key = ROOT / "shelves/harbour/boards/kittiwake.pem"
    if not key.exists():
        subprocess.run(["openssl", "genrsa", "-out", key, "2048"], check=True, capture_output=True)


class BoardTest(unittest.TestCase):
    product = ""

    def boot(self, *words: str | Path, code: int = 0, seconds: int = 90) -> str:
        """Boots, and returns what the console showed."""
        more = words or ("--expect", MARKER)
        yarrik("boot", self.product, "--workspace", ROOT, "--seconds", str(seconds), *more, code=code)
        log = (ROOT / "out" / self.product / "boot.log").read_text(errors="replace")
        return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]|\r", "", log)

    def build(self) -> str:
        yarrik("build", self.product, "--workspace", ROOT)
        return (ROOT / "out" / self.product / "boot-story.txt").read_text()

    def talk(self, *pairs: tuple[str, str]) -> Path:
        """A script that types each first text at the prompt and waits for the second."""
        lines = [f'[[talk]]\nexpect = "{MARKER}"\ntype = ""\n']
        for typed, wanted in pairs:
            lines.append(f"[[talk]]\nexpect = \"# \"\ntype = '{typed}'\n[[talk]]\nexpect = '{wanted}'\n")
        file = ROOT / ".yarrik" / f"{self.product}-talk.toml"
        file.write_text("\n".join(lines))
        return file

    def disk(self) -> Path:
        """A fresh copy of the image that the next boot with --keep-disk takes."""
        place = ROOT / ".yarrik/boot" / f"{self.product}.disk"
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes((ROOT / "out" / self.product / f"{self.product}.img").read_bytes())
        return place


class Arm64WithAMenu(BoardTest):
    product = "tide-gauge-linux"

    def test_our_device_tree_its_overlay_and_a_module_that_finds_its_device(self) -> None:
        story = self.build()
        self.assertRegex(story, r"modules +3 for 6\.1\.\d+")
        said = self.boot("--talk", self.talk(
            ("cat /proc/device-tree/model", "Kittiwake harbour controller"),
            ("cat /proc/device-tree/tide-sensor/compatible", "harbour,tide-sensor"),
        ))  # fmt: skip
        self.assertIn("tide-sensor tide-sensor: scale begins at 1275 mm", said)

    def test_without_the_overlay_its_node_is_gone(self) -> None:
        self.build()
        board = ROOT / "shelves/harbour/boards/kittiwake.toml"
        text = board.read_text()
        try:
            board.write_text(re.sub(r"^overlays = .*$", "", text, flags=re.MULTILINE))
            self.build()
            said = self.boot("--talk", self.talk(
                ("cat /proc/device-tree/model", "Kittiwake harbour controller"),
                ("ls /proc/device-tree && echo list\"ed\"", "listed"),
            ))  # fmt: skip
            self.assertNotIn("tide-sensor", said.partition("Kittiwake harbour controller")[2])
        finally:
            board.write_text(text)
            self.build()


class Arm64WithASignedImageTree(BoardTest):
    product = "gauge-kittiwake-fit"

    def test_the_bootloader_checks_hashes_and_signature_and_boots(self) -> None:
        self.assertIn("signed by harbour: the signature fits", self.build())
        said = self.boot()
        self.assertRegex(said, r"Verifying Hash Integrity \.\.\. sha256,rsa2048:harbour\+ OK")
        self.assertIn(MARKER, said)

    def test_what_the_key_did_not_sign_is_refused(self) -> None:
        self.build()
        disk = self.disk()
        edit_boot_file(disk, f"/{self.product}.itb", {f"{self.product} 6.1": f"{self.product} 6.X"})
        edit_boot_file(disk, f"/{self.product}.itb", {"harbour,kittiwake": "harbour,kittiwakX"})
        said = self.boot("--keep-disk", "--expect", MARKER, code=1, seconds=20)
        self.assertRegex(said, r"Bad Data Hash|Bad hash|Failed to verify")
        self.assertIn("BOOT-KERNEL-FORM", yarrik("boot", "--bench", disk, code=1))


class Arm64WithAnEnvironmentInFlash(BoardTest):
    """Overlays are placed for the bootloader as well; this one, as Debian builds it, leaves `fdtoverlays` lines alone, so
    that they are laid on is seen on the bench only."""

    product = "gauge-kittiwake-placed"

    def test_the_bootloader_takes_our_environment_and_goes_by_it(self) -> None:
        self.assertIn("that the bootloader lays 1 overlay on", self.build())
        said = self.boot()
        self.assertIn("Loading Environment from Flash... OK", said)
        self.assertIn("Booting using the fdt blob at 0x43e00000", said)

    def test_a_damaged_environment_is_not_taken(self) -> None:
        self.build()
        self.boot()  # makes the copies
        disk = ROOT / ".yarrik/boot" / f"{self.product}-flash.disk"
        data = disk.read_bytes()
        disk.write_bytes(data.replace(b"bootdelay=0", b"bootdelay=1", 1))
        said = self.boot("--keep-disk", "--expect", "bad CRC, using default environment")
        self.assertNotIn("from Flash... OK", said)


class Arm64WithFirmwareThatStartsTheKernel(BoardTest):
    product = "gauge-kittiwake-uefi"

    def test_it_boots_with_the_line_that_is_built_in(self) -> None:
        self.assertIn("(built into the kernel)", self.build())
        said = self.boot()
        self.assertIn("EFI stub", said)


class Arm64FromMemory(BoardTest):
    product = "gauge-kittiwake-memory"

    def test_it_runs_without_storage(self) -> None:
        self.assertIn("initramfs", self.build())
        said = self.boot(
            "--talk",
            self.talk(
                ("ls /dev", "ttyAMA0"),
            ),
        )
        self.assertNotIn("vda", said.partition(MARKER)[2])


class Arm(BoardTest):
    product = "gauge-sandpiper"

    def test_a_script_starts_a_wrapped_kernel(self) -> None:
        self.assertIn("zImage for arm", self.build())
        self.assertIn("Booting kernel from Legacy Image", self.boot())


class Riscv64(BoardTest):
    product = "gauge-dunlin"

    def test_a_menu_starts_the_kernel(self) -> None:
        self.assertIn("2 entries", self.build())
        self.assertIn("Retrieving file: /Image", self.boot())


class X8664(BoardTest):
    product = "gauge-turnstone"

    def test_firmware_and_its_loader_start_the_entry(self) -> None:
        self.assertIn("started by /EFI/BOOT/BOOTX64.EFI", self.build())
        self.assertIn(MARKER, self.boot())


class MistakesReallyFail(BoardTest):
    """What the bench stops does not boot, planted into the real thing: a board's menu and files, with a real kernel."""

    product = "tide-gauge-linux"
    MENU = "/extlinux/extlinux.conf"
    #: What is changed, the bench's code, and what the console says instead of reaching init (None: nothing more at all).
    CASES = (
        ("38 no such root", MENU, {"PARTUUID=": "PARTUUID=f"}, "BOOT-ROOT-MISSING", "Waiting for root device PARTUUID=f"),
        ("38 a device name in the wrong form", MENU, {" rw ": " rw root=/dev/vdap2 "}, "BOOT-ROOT-FORM", "Waiting for root device"),
        ("38 another filesystem told", MENU, {"=ext4": "=squashfs"}, "BOOT-ROOT-MISSING", "Kernel panic - not syncing: VFS"),
        ("39 neither root nor initramfs", MENU, {"root=": "rot="}, "BOOT-ROOT-NONE", "Waiting for root device"),
        ("39 an initramfs that is none", MENU, {"root=": "rot=", "  append": "  initrd /kittiwake.dtb\n  append"},
         "BOOT-INITRAMFS", "Ramdisk image is corrupt or invalid"),
        ("40 a kernel that is not there", MENU, {"linux /Image": "linux /Imgae"}, "BOOT-FILE-MISSING", "EXTLINUX FAILED"),
        ("41 a console that the board has not", MENU, {"console=ttyAMA0": "console=ttyS0"}, "BOOT-CONSOLE", None),
        ("35 no init where the line says", MENU, {" rw ": " rw init=/sbin/missing "}, "BOOT-INIT", "Kernel panic - not syncing: Requested init"),
        ("44 a kernel in a form that cannot be loaded", "/Image", b"\x7fELF" + bytes(9000), "BOOT-KERNEL-FORM", "Bad Linux ARM64"),
    )  # fmt: skip

    def test_each_is_stopped_by_the_bench_and_does_not_reach_init(self) -> None:
        self.build()
        self.assertIn(MARKER, self.boot())
        for name, path, change, code, words in self.CASES:
            with self.subTest(name):
                disk = self.disk()
                edit_boot_file(disk, self.MENU, {"loglevel=5": "loglevel=8"})
                edit_boot_file(disk, path, change)
                found = json.loads(yarrik("boot", "--bench", disk, "--json", code=1))
                self.assertEqual(found["stop"]["code"], code)
                if words is None:
                    said = self.boot("--keep-disk", "--expect", MARKER, code=1, seconds=25)
                    self.assertTrue(said.rstrip().endswith("Starting kernel ..."), said[-300:])
                else:
                    said = self.boot("--keep-disk", "--expect", words)
                self.assertNotIn("init: 1 service started", said)


if __name__ == "__main__":
    unittest.main()
