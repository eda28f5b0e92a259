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
from typing import ClassVar

from tests.support import edit_boot_file
from yarrik.disk.opening import opened_image

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
        """A fresh copy of the card that the next boot with --keep-disk takes; its other disks begin anew too."""
        out = ROOT / "out" / self.product
        image = next(file for name in ("", "-card") if (file := out / f"{self.product}{name}.img").exists())
        place = ROOT / ".yarrik/boot" / f"{self.product}.disk"
        place.parent.mkdir(parents=True, exist_ok=True)
        for other in place.parent.glob(f"{self.product}-*.disk"):
            other.unlink()  # an environment in flash, that an earlier test may have damaged
        place.write_bytes(image.read_bytes())
        return place


class Arm64WithAMenu(BoardTest):
    product = "tide-gauge-linux"

    def test_our_device_tree_its_overlay_and_a_module_that_finds_its_device(self) -> None:
        story = self.build()
        self.assertRegex(story, r"modules +\d+ for 6\.1\.\d+")
        files = json.loads((ROOT / "out" / self.product / "files.json").read_text())["files"]
        modules = {one["path"].rpartition("/")[2] for one in files if "/lib/modules/" in one["path"]}
        self.assertLess({"tide_sensor.ko", "tide_zero.ko", "virtio-gpu.ko"}, modules)
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
        said = self.boot("--keep-disk", "--expect", MARKER, code=1, seconds=40)
        self.assertRegex(said, r"Bad Data Hash|Bad hash|Failed to verify")
        self.assertIn("BOOT-KERNEL-FORM", yarrik("boot", "--bench", disk, code=1))


class Arm64WithAnEnvironmentInFlash(BoardTest):
    """The bootloader is built from source, and applies the overlays."""

    product = "gauge-kittiwake-placed"

    def test_the_bootloader_takes_our_environment_and_goes_by_it(self) -> None:
        self.assertIn("1 overlay fit; the bootloader is built to apply them", self.build())
        said = self.boot()
        self.assertIn("Loading Environment from Flash... OK", said)
        self.assertIn("Retrieving file: /overlays/tide-sensor.dtbo", said)
        self.assertIn("tide-sensor tide-sensor: scale begins at 1275 mm", said)  # what the overlay says

    def test_the_bootloader_refuses_an_overlay_that_the_bench_refuses(self) -> None:
        self.build()
        disk = self.disk()
        # The label that it refers to is not in the base.
        edit_boot_file(disk, "/overlays/tide-sensor.dtbo", {"bus_clock": "bus_clocX"})
        said = self.boot("--keep-disk", "--expect", "Failed to apply overlay")  # the last of what it says of it
        self.assertIn("FDT_ERR_NOTFOUND", said)
        told = yarrik("boot", "--bench", disk, code=1)
        self.assertIn("BOOT-DEVICE-TREE", told)
        self.assertIn("bus_clocX", told)

    def test_options_are_set_and_the_tree_s_own_program_is_the_judge(self) -> None:
        shelf = ROOT / "shelves/harbour/boards"
        before = {path: path.read_bytes() for path in shelf.iterdir() if path.is_file()}
        words = ("--recipe", "loader", "--product", self.product, "--workspace", ROOT)
        try:
            yarrik("kernel", "set", "CMD_SQUASHFS=y", "BOOTCOUNT_RAM=y", "--fragment", "judged.kcfg", *words, code=1)
            self.assertFalse((shelf / "judged.kcfg").exists())  # BOOTCOUNT_ENV is chosen by another fragment
            said = yarrik("kernel", "set", "CMD_SQUASHFS=y", "CMD_UBIFS=y", "--fragment", "judged.kcfg", *words)
            self.assertRegex(said, r"CONFIG_CMD_UBI +n +-> +y +it is needed for that")
            self.assertRegex(said, r"CONFIG_FS_SQUASHFS +n +-> +y +follows by itself")
            shown = yarrik("kernel", "show", "FS_SQUASHFS", *words)
            self.assertIn("selected by  CMD_SQUASHFS", shown)
        finally:
            for path in shelf.iterdir():
                if path.is_file() and path not in before:
                    path.unlink()
            for path, data in before.items():
                path.write_bytes(data)

    def test_a_damaged_environment_is_not_taken(self) -> None:
        self.build()
        self.boot()  # makes the copies
        disk = ROOT / ".yarrik/boot" / f"{self.product}-flash.disk"
        data = disk.read_bytes()
        disk.write_bytes(data.replace(b"bootdelay=0", b"bootdelay=1", 1))
        self.assertIn("from Flash... OK", self.boot("--keep-disk"))  # there are two copies
        disk.write_bytes(data.replace(b"bootdelay=0", b"bootdelay=1"))
        said = self.boot("--keep-disk", "--expect", "bad CRC, using default environment")
        self.assertNotIn("from Flash... OK", said)


class Arm64FallsBack(BoardTest):
    """Slow: the emulated flash chip takes most of a minute to keep the count of a start."""

    product = "gauge-kittiwake-placed"

    def test_after_three_failed_starts_the_other_copy_is_started(self) -> None:
        environment = ROOT / "shelves/harbour/boards/kittiwake.env"
        text = environment.read_text()
        try:
            environment.write_text(text.replace("upgrade_available=0", "upgrade_available=1"))
            self.build()
            self.boot("--expect", "Starting kernel", seconds=240)
            for _ in range(2):  # each start is counted in the flash chip, and nothing says that it went well
                said = self.boot("--keep-disk", "--expect", "Starting kernel", seconds=240)
                self.assertNotIn("Using altbootcmd", said)
            said = self.boot("--keep-disk", "--expect", MARKER, seconds=240)
            self.assertIn("Warning: Bootlimit (3) exceeded. Using altbootcmd.", said)
            self.assertRegex(said, r"append: .*root=PARTLABEL=root-b")
        finally:
            environment.write_text(text)


class Arm64WithTrustedFirmware(BoardTest):
    """Trusted firmware, the bootloader and its key are built from source; the boot command is in the bootloader."""

    product = "gauge-kittiwake-trusted"

    def test_each_stage_starts_the_next_one_and_all_is_signed(self) -> None:
        story = self.build()
        self.assertIn("from the bootloader's built-in command to the kernel, each link is signed", story)
        said = self.boot()
        for stage in ("BL1: Booting BL2", "BL31: v2.8", "U-Boot 2023.01", "sha256,rsa2048:harbour+ OK", "Starting kernel"):
            self.assertIn(stage, said)

    def test_a_tree_that_another_key_signed_is_refused_by_both(self) -> None:
        self.build()
        disk = self.disk()
        edit_boot_file(disk, f"/{self.product}.itb", {"gauge-kittiwake-trusted 6.1": "gauge-kittiwake-trusted 6.X"})
        said = self.boot("--keep-disk", "--expect", MARKER, code=1, seconds=40)
        self.assertRegex(said, r"Verifying Hash Integrity \.\.\. sha256,rsa2048:harbour- +error|Failed to verify")
        self.assertNotIn("Starting kernel", said)


class Arm64WithASettingsFile(BoardTest):
    """The emulator has no such firmware: a simulated one reads the card, and starts the kernel with what it found."""

    product = "gauge-kittiwake-settings"

    def test_the_kernel_runs_with_what_the_file_names(self) -> None:
        self.assertIn("1 overlay fit, as the firmware applies them", self.build())
        words = [sys.executable, "-m", "tests.settings_firmware", self.disk()]
        with subprocess.Popen(words, stdout=subprocess.PIPE, stdin=subprocess.PIPE, stderr=subprocess.STDOUT) as started:
            assert started.stdout is not None
            said = b""
            try:
                while MARKER.encode() not in said:
                    line = started.stdout.readline()
                    self.assertTrue(line, said)
                    said += line
            finally:
                subprocess.run(["pkill", "-P", str(started.pid)], check=False)
                started.kill()
        self.assertIn(b"tide-sensor tide-sensor: scale begins at 1300 mm", said)


class Arm64OnAnEngineersOwnShelf(BoardTest):
    """The vendor's shelves stay as they are; a shelf of one's own adds a board, two overlays, fragments and an environment."""

    product = "pier"

    def test_the_image_boots_and_nothing_was_copied(self) -> None:
        own = ROOT / "shelves/own"
        vendor = {path: path.read_bytes() for shelf in ("coast", "harbour") for path in (ROOT / "shelves" / shelf).rglob("*")
                  if path.is_file()}  # fmt: skip
        overlay = '/dts-v1/;\n/plugin/;\n&{{/}} {{\n\t{0}: {0} {{ compatible = "harbour,{0}"; clocks = <&bus_clock>; }};\n}};\n'
        files = {
            "shelf.toml": '[shelf]\nname = "own"\n',
            "boards/pier.toml": 'extends = "kittiwake-placed"\n[kernel]\noverlays = {add = ["lamp.dtso", "buzzer.dtso"]}\n'
            'fragments = {add = ["pier.kcfg"]}\n[[bootloader]]\nrecipe = "loader"\nfragments = {add = ["pier-loader.kcfg"]}\n'
            'environment = "pier.env"\n[boot.environment]\nfile = "pier.env"\n',
            "boards/lamp.dtso": overlay.format("lamp"),
            "boards/buzzer.dtso": overlay.format("buzzer"),
            "boards/pier.kcfg": "CONFIG_EPOLL=y\n",
            "boards/pier-loader.kcfg": 'CONFIG_SYS_PROMPT="pier> "\n',
            "boards/pier.env": vendor[ROOT / "shelves/harbour/boards/kittiwake.env"].decode() + "whose=ours\n",
        }
        for name, text in files.items():
            (own / name).parent.mkdir(parents=True, exist_ok=True)
            (own / name).write_text(text)
        settings = ROOT / "yarrik.toml"
        if 'name = "own"' not in settings.read_text():
            settings.write_text(settings.read_text() + '\n[[shelf]]\nname = "own"\npath = "shelves/own"\n')
        (ROOT / "products/pier.toml").write_text('board = "pier"\nprofile = "lean"\nimage = "tide-gauge-linux"\n')
        self.assertIn("3 overlays fit", self.build())
        said = self.boot("--talk", self.talk(
            ("cat /proc/device-tree/lamp/compatible", "harbour,lamp"), ("cat /proc/device-tree/buzzer/compatible", "harbour,buzzer"),
        ))  # fmt: skip
        self.assertIn("Retrieving file: /overlays/buzzer.dtbo", said)
        self.assertEqual(vendor, {path: path.read_bytes() for path in vendor})
        self.assertEqual(sorted(str(path.relative_to(own)) for path in own.rglob("*") if path.is_file()), sorted(files))


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


class Arm64FindsItsRoot(BoardTest):
    """An initramfs whose first program looks for the root filesystem: the shelf's `root-finder`."""

    product = "gauge-kittiwake-early"
    FILES: ClassVar[dict[str, str]] = {
        "shelves/harbour/images/early.toml": "packages = []\n",
        "shelves/harbour/boards/kittiwake-early.toml": 'extends = "kittiwake-linux"\n[boot]\ninitramfs = "early"\n'
        '[kernel]\narguments = { add = ["root-finder.fallback=PARTLABEL=root-b", "root-finder.need=/etc/modules"] }\n',
        "products/gauge-kittiwake-early.toml": 'board = "kittiwake-early"\nprofile = "lean"\nimage = "tide-gauge-linux"\n'
        '[[more-image]]\nname = "early"\nimage = "early"\ninit = "root-finder"\ninit-path = "/init"\n',
    }

    @classmethod
    def setUpClass(cls) -> None:
        settings = ROOT / "yarrik.toml"
        cls.addClassCleanup(settings.write_text, settings.read_text())
        yarrik("shelf", "add", "commons", "--workspace", ROOT)
        for name, text in cls.FILES.items():
            (ROOT / name).write_text(text)
            cls.addClassCleanup((ROOT / name).unlink)

    def test_by_the_identifier_of_its_partition(self) -> None:
        self.assertRegex(self.build(), r"finder +looks for the root filesystem\nroot +PARTUUID=")
        self.assertRegex(self.boot(), r"root-finder: PARTUUID=\S+ on /dev/vda2, ext4, read-write; starts /sbin/init")

    def test_the_other_copy_when_the_first_is_damaged(self) -> None:
        self.build()
        disk = self.disk()
        with opened_image(disk) as opened:
            part = next(one for one in opened.partitions if one.name == "root-a")
        with disk.open("r+b") as file:
            file.seek(part.start)
            file.write(bytes(1 << 20))
        said = self.boot("--keep-disk", "--expect", MARKER)
        self.assertIn("root-finder: falls back: PARTLABEL=root-b on /dev/vda3", said)


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
                    said = self.boot("--keep-disk", "--expect", MARKER, code=1, seconds=40)
                    self.assertTrue(said.rstrip().endswith("Starting kernel ..."), said[-300:])
                else:
                    said = self.boot("--keep-disk", "--expect", words)
                self.assertNotIn("init: 1 service started", said)


if __name__ == "__main__":
    unittest.main()
