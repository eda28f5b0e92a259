"""Boot methods of boards, from their definitions to finished images: judged by the bench and the bootloader's programs."""

import gzip
import json
import re
import subprocess
import sys
import unittest

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import rsa

from tests.support import ProgramTest, edit_boot_file
from yarrik.boot.bench import try_image
from yarrik.boot.environment import decode_environment, newest_of
from yarrik.boot.fit import _Node, key_tree, verify_fit
from yarrik.boot.legacy import decode_legacy
from yarrik.boot.story import BenchBoard, KnownBlob
from yarrik.devicetree import decode_blob, encode_blob, text_of
from yarrik.disk.opening import opened_bytes

BOARD = "shelves/harbour/boards/kittiwake.toml"


class GaugeTest(ProgramTest):
    """The demo's gauge, whose board each test changes."""

    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "demo"
        self.seed()
        # Laid out; each test then changes the board.
        self.yarrik("demo", self.root, "--product", "tide-gauge", "--no-boot")
        self.out = self.root / "out/tide-gauge"

    def board(self, more: str) -> None:
        with (self.root / BOARD).open("a") as file:
            file.write("\n" + more)

    def build(self, *, code: int = 0) -> str:
        said = self.yarrik("build", "tide-gauge", at=self.root, code=code)
        return said if code else (self.out / "boot-story.txt").read_text()

    def on_card(self, path: str) -> bytes:
        with opened_bytes(self.out / "tide-gauge.img") as (_, image):
            for part in image.partitions:
                assert part.reader is not None
                for found in part.reader.walk():
                    if found.path == path:
                        return b"".join(part.reader.content(found))
        raise AssertionError(f"{path} is nowhere on the card")


class BoardsBootInManyWays(GaugeTest):
    def test_a_signed_image_tree(self) -> None:
        key = rsa.generate_private_key(65537, 2048)
        form = serialization.PrivateFormat.PKCS8
        pem = key.private_bytes(serialization.Encoding.PEM, form, serialization.NoEncryption())
        self.write("demo/shelves/harbour/boards/k.pem", pem)
        self.board('[boot]\nmethod = "fit"\nkey = "k.pem"\nkey-name = "harbour"\noverlays = "placed"\n')
        story = self.build()
        self.assertIn("signed by harbour: the signature fits the key in the bootloader's device tree", story)
        self.assertIn("that the bootloader applies 1 overlay", story)
        # Whoever can write the card could let the script start something else: that is said.
        self.assertIn(
            "BOOT-CHAIN-SCRIPT the image tree is signed, and the script /boot.scr", (self.out / "build.json").read_text()
        )
        fit = self.on_card("/tide-gauge.itb")
        self.assertEqual(verify_fit(fit, key.public_key()), ["tide-gauge"])
        said = self.tool("dumpimage", "-l", self.write("t.itb", fit))
        self.assertIn("sha256,rsa2048:harbour", said)
        self.assertIn("overlay tide-sensor", said)
        self.assertIn("bootm 0x48000000#tide-gauge", decode_legacy(self.on_card("/boot.scr")).parts[0].decode())
        control = decode_blob((self.out / "control.dtb").read_bytes())
        self.assertIsNotNone(control.root.find("/signature/key-harbour"))
        self.assertNotIn(pem.splitlines()[1], (self.out / "tide-gauge.img").read_bytes())
        image, bench = self.out / "tide-gauge.img", ("boot", "--bench", self.out / "tide-gauge.img")
        self.assertIn("signed by harbour: the signature fits", self.yarrik(*bench))
        other = rsa.generate_private_key(65537, 2048).public_key()
        (self.out / "control.dtb").write_bytes(encode_blob(key_tree(other, "other")))
        said = self.yarrik(*bench, code=1)
        self.assertIn("error BOOT-SIGNATURE: /tide-gauge.itb does not fit the bootloader's key `other`", said)
        self.write("alone/tide-gauge.img", image.read_bytes())
        said = self.yarrik("boot", "--bench", self.folder / "alone/tide-gauge.img")
        self.assertIn("taken for granted: that the signature by `harbour` fits", said)
        self.assertNotIn("signed by", said)
        # A loader on the disk carries its keys in its own device tree: these count then, right or wrong.
        for name, public, words in (("harbour", key.public_key(), "the signature fits the key in the bootloader's device tree"),
                                    ("harbour", other, "does not fit the bootloader's key `harbour`")):  # fmt: skip
            tree = key_tree(public, name)
            _Node(tree.root).text("compatible", "harbour,kittiwake")
            loader = self.write("loader.bin", bytes(4096) + encode_blob(tree) + bytes(512))
            board = BenchBoard(arch="arm64", method="fit", blobs=(KnownBlob("loader.bin", loader, 64 << 10),))
            with image.open("r+b") as disk, opened_bytes(image) as (_, found):
                disk.seek(64 << 10)
                disk.write(loader.read_bytes())
                disk.flush()
                result = try_image(disk, found, "tide-gauge.img", board)
            told = [line.text for line in result.story] + ([result.stop.what] if result.stop is not None else [])
            self.assertTrue(any(words in line for line in told), told)
        self.yarrik("build", "tide-gauge", at=self.root)
        first = (self.out / "SHA256SUMS").read_text()
        self.yarrik("build", "tide-gauge", at=self.root)
        self.assertEqual((self.out / "SHA256SUMS").read_text(), first)

    def test_a_key_that_is_none(self) -> None:
        self.write("demo/shelves/harbour/boards/k.pem", "not a key\n")
        self.board('[boot]\nmethod = "fit"\nkey = "k.pem"\n')
        self.assertRegex(
            self.build(code=1), r"error BOOT-KEY: k.pem is not a private key(.|\n)*kittiwake.toml:\d+ \[boot.key\]"
        )

    def test_a_key_that_is_missing_is_made_or_is_the_one_with_nearly_its_name(self) -> None:
        self.board('[boot]\nmethod = "fit"\nkey = "kittiwake.pem"\n')
        said = self.yarrik("check", "tide-gauge", at=self.root, code=2)
        self.assertRegex(said, r"error SOURCE-MISSING(.|\n)*next +make one: openssl genrsa -out \S*kittiwake.pem 2048")
        self.write("demo/shelves/harbour/boards/kittiwakes.pem", "x\n")
        said = self.yarrik("check", "tide-gauge", at=self.root, code=2)
        self.assertRegex(said, r"did you mean `\S*kittiwakes.pem`\?")

    def test_a_script_with_wrapped_files(self) -> None:
        self.board('[boot]\nmethod = "script"\ninitramfs = "root"\n')
        story = self.build()
        self.assertIn("boot script", story)
        self.assertIn("/uInitramfs: gzip cpio", story)
        self.assertIn("/sbin/init for arm64", story)
        kernel = decode_legacy(self.on_card("/uImage"))
        self.assertEqual((kernel.kind, kernel.arch, kernel.load, kernel.entry), ("kernel", "arm64", 0x40400000, 0x40400000))
        said = self.tool("dumpimage", "-l", self.write("uInitramfs", self.on_card("/uInitramfs")))
        self.assertIn("AArch64 Linux RAMDisk Image", said)
        lines = decode_legacy(self.on_card("/boot.scr")).parts[0].decode().splitlines()
        self.assertIn("rdinit=/sbin/init", lines[1])
        self.assertNotIn("root=", lines[1])

    def test_a_root_filesystem_in_memory_from_a_menu_in_every_compression(self) -> None:
        text = (self.root / BOARD).read_text()
        for form in ("gzip", "xz", "zstd", "none"):
            more = f'\n[boot]\ninitramfs = "root"\ninitramfs-compression = "{form}"\n'
            (self.root / BOARD).write_text(text + more)
            self.assertIn(f"/initramfs.img: {'plain' if form == 'none' else form} cpio", self.build())

    def test_a_bundle_for_memory(self) -> None:
        self.board('[boot]\ninitramfs = "root"\nmemory-bundle = true\n')
        self.build()
        folder = self.out / "memory"
        self.assertEqual(sorted(file.name for file in folder.iterdir()),
                         ["addresses.txt", "command-line.txt", "device-tree.dtb", "initramfs", "kernel", "start.scr"])  # fmt: skip
        rows = [line.split() for line in (folder / "addresses.txt").read_text().splitlines()[1:]]
        self.assertEqual({name: int(size, 16) for _, size, name in rows},
                         {name: (folder / name).stat().st_size for name in ("kernel", "device-tree.dtb", "initramfs")})  # fmt: skip
        self.assertTrue(gzip.decompress((folder / "initramfs").read_bytes()).startswith(b"070701"))
        self.assertRegex(
            decode_legacy((folder / "start.scr").read_bytes()).parts[0].decode(),
            r"booti 0x40400000 0x44000000:0x\w+ 0x43e00000",
        )
        self.assertIn("memory/kernel", (self.out / "SHA256SUMS").read_text())
        places = {name: address for address, _, name in rows}
        story = (self.out / "boot-story.txt").read_text()
        line = next(line for line in story.splitlines() if line.startswith("memory "))
        self.assertIn(f"kernel {places['kernel']}, device tree {places['device-tree.dtb']}", line)
        self.assertIn("as in the memory bundle", line)
        file = folder / "addresses.txt"
        file.write_text(file.read_text().replace(places["initramfs"], places["kernel"]))
        self.assertIn("error BOOT-MEMORY", self.yarrik("boot", "--bench", self.out / "tide-gauge.img", code=1))

    def test_the_board_s_memory_is_within_what_its_device_tree_says(self) -> None:
        for more, words in (
            (
                'size = "512 MiB"\n',
                "the board has 512.0 MiB of memory at 0x40000000, and its device tree says 256.0 MiB at 0x40000000",
            ),
            ('base = "0x80000000"\nsize = "256 MiB"\n', "the board has 256.0 MiB of memory at 0x80000000"),
        ):
            text = (self.root / BOARD).read_text()
            self.board(f"[memory]\n{more}")
            for command in ("check", "build"):
                said = self.yarrik(command, "tide-gauge", at=self.root, code=2 if command == "check" else 1)
                self.assertIn(f"error BOOT-MEMORY: {words}", said)
                self.assertRegex(said, r"kittiwake.toml:\d+ \[memory\]")
            (self.root / BOARD).write_text(text)
        self.board('[memory]\nsize = "128 MiB"\n')
        self.build()

    def test_overlays_left_to_the_bootloader_are_named_in_its_menu(self) -> None:
        self.board('[boot]\noverlays = "placed"\n')
        self.assertIn("that the bootloader applies 1 overlay", self.build())
        self.assertIn("fdtoverlays /overlays/tide-sensor.dtbo\n", self.on_card("/extlinux/extlinux.conf").decode())
        base = decode_blob(self.on_card("/kittiwake.dtb"))
        self.assertIsNone(base.root.find("/tide-sensor"))
        self.assertIn("bus_clock", base.root.children["__symbols__"].properties)

    def test_overlays_applied_by_the_build_need_no_labels_on_the_board(self) -> None:
        tree = decode_blob((self.out / "kittiwake.dtb").read_bytes())
        sensor = tree.root.find("/tide-sensor")
        assert sensor is not None
        self.assertEqual(text_of(sensor.properties["compatible"].value), "harbour,tide-sensor")
        self.assertNotIn("__symbols__", tree.root.children)

    def test_further_entries_and_a_time_to_choose(self) -> None:
        self.board('[boot]\nseconds = 3\n[[boot.entry]]\nname = "rescue"\ntitle = "A shell"\narguments = ["init=/bin/sh"]\n')
        self.assertIn("2 entries, starts `tide-gauge`", self.build())
        menu = self.on_card("/extlinux/extlinux.conf").decode()
        self.assertIn("timeout 30\n", menu)
        self.assertRegex(menu, r"label rescue\n  menu label A shell\n(.*\n)+  append .* init=/bin/sh\n")

    def test_entries_for_a_loader(self) -> None:
        loader = self.write("loader.efi", b"MZ" + bytes(100))
        self.board(f'[boot]\nmethod = "entries"\n[boot.loader]\nhost-file = "{loader}"\n')
        self.assertIn("started by /EFI/BOOT/BOOTAA64.EFI", self.build())
        self.assertIn("devicetree   /kittiwake.dtb", self.on_card("/loader/entries/tide-gauge.conf").decode())

    def test_slots_among_the_entries_of_a_loader(self) -> None:
        loader = self.write("loader.efi", b"MZ" + bytes(100))
        slots = "".join(f'[[boot.slot]]\nname = "{name}"\nroot = "root-{name}"\n' for name in "ab")
        self.board(f'[boot]\nmethod = "entries"\n[boot.loader]\nhost-file = "{loader}"\n{slots}')
        story = self.build()
        self.assertIn("/loader/entries/a.conf, 2 in all", story)
        self.assertIn("entry `b`", story)
        self.assertIn("partition root-b, ext4", story)
        texts = [self.on_card(f"/loader/entries/{name}.conf").decode() for name in "ab"]
        roots = [re.search(r"root=PARTUUID=(\S+)", text)[1] for text in texts]  # type: ignore[index]
        self.assertNotEqual(*roots)

    def test_the_real_bootloader_starts_either_slot(self) -> None:
        """The demo's board has its root filesystem twice; the stand-in kernel says which of them it is to mount."""
        self.board("".join(f'[[boot.slot]]\nname = "{name}"\nroot = "root-{name}"\n' for name in "ab"))
        self.build()
        roots = {one["name"]: one["root"] for one in json.loads((self.out / "packages.json").read_text())["boot"]["slots"]}
        self.assertEqual(len(set(roots.values())), 2)
        for name in "ab":
            self.yarrik("boot", "tide-gauge", "--expect", f"root={roots[name]}", "--seconds", "60", at=self.root)
            if name == "a":
                edit_boot_file(self.out / "tide-gauge.img", "/extlinux/extlinux.conf", {"default a": "default b"})

    def test_firmware_that_starts_the_kernel_wants_one_that_it_can_start(self) -> None:
        self.board('[boot]\nmethod = "uefi"\n')
        self.assertIn("error BOOT-METHOD", self.build(code=1))
        text = (self.root / BOARD).read_text()
        (self.root / BOARD).write_text(text.replace('method = "uefi"', 'method = "uefi"\ncommand-line-in = "device-tree"'))
        said = self.build(code=1)  # the stand-in is not a program for firmware
        self.assertIn("error BOOT-KERNEL-FORM: /EFI/BOOT/BOOTAA64.EFI is not a program for firmware", said)

    def test_the_line_stands_in_the_device_tree_and_one_that_was_there_is_told(self) -> None:
        tree = self.root / "shelves/harbour/boards/kittiwake.dts"
        tree.write_text(tree.read_text().replace("stdout-path = &console;", 'stdout-path = &console;\n\t\tbootargs = "quiet";'))
        report = self.yarrik_json("build", "tide-gauge", at=self.root)
        self.assertTrue(any("BOOT-LINE-TWICE" in note and '"quiet"' in note for note in report["notes"]))
        self.board('[boot]\ncommand-line-in = "device-tree"\n')
        self.assertIn("loglevel=5 (in the device tree)", self.build())
        self.assertNotIn("append", self.on_card("/extlinux/extlinux.conf").decode())

    def test_an_environment_in_a_chip_of_its_own(self) -> None:
        self.write("demo/shelves/harbour/boards/b.env", "# why\nbootdelay=0\nbootcmd=run \\\nall\n")
        self.board('[boot.environment]\nfile = "b.env"\nsize = "4 KiB"\nredundant = true\n[[disk]]\nname = "chip"\ntable = "none"\n'
                   'size = "1 MiB"\n[[disk.blob]]\nfile = "environment.bin"\noffset = "64 KiB"\n')  # fmt: skip
        self.yarrik("build", "tide-gauge", at=self.root)
        block = (self.out / "environment.bin").read_bytes()
        self.assertEqual(newest_of(block[:4096], block[4096:]), ({"bootdelay": "0", "bootcmd": "run all"}, 0))
        self.assertEqual(decode_environment(block[4096:], redundant=True)[1], 0)
        chip = (self.out / "tide-gauge-chip.img").read_bytes()
        self.assertEqual(chip[64 << 10 : (64 << 10) + 8192], block)
        spaced = (self.root / BOARD).read_text()
        (self.root / BOARD).write_text(spaced.replace("redundant = true", 'redundant = true\nspacing = "16 KiB"'))
        self.yarrik("build", "tide-gauge", at=self.root)
        apart = (self.out / "environment.bin").read_bytes()
        self.assertEqual((apart[:4096], apart[16384:], set(apart[4096:16384])), (block[:4096], block[4096:], {255}))
        (self.root / BOARD).write_text(spaced.replace("redundant = true", 'redundant = true\nspacing = "2 KiB"'))
        self.assertIn(
            "error BOOT-ENVIRONMENT: b.env: its blocks have 4096 bytes, and begin 2048 bytes apart", self.build(code=1)
        )
        (self.root / BOARD).write_text(spaced)
        self.write("demo/shelves/harbour/boards/b.env", "bootdelay=0\nnonsense\n")
        self.assertIn("error BOOT-ENVIRONMENT: b.env: line 2 is not a setting", self.build(code=1))

    def test_settings_for_firmware_and_one_changed_later(self) -> None:
        self.write("demo/shelves/harbour/boards/s.txt", "# display\ndisplay=on\n")
        self.board('[boot.settings]\nfile = "s.txt"\npath = "/settings.txt"\n')
        self.build()
        self.yarrik("boot", "set", self.out / "tide-gauge.img", "display=off")
        self.assertEqual(self.on_card("/settings.txt"), b"# display\ndisplay=off\n")
        self.tool("sh", "-c", f"cd {self.out} && sha256sum --check --quiet SHA256SUMS")
        found = json.loads((self.out / "tide-gauge.img.map.json").read_text())
        self.assertEqual(
            found["sha256"], (self.out / "SHA256SUMS").read_text().partition("  tide-gauge.img\n")[0].splitlines()[-1]
        )
        self.assertIn("no problem found", self.yarrik("boot", "--bench", self.out / "tide-gauge.img"))


class DeviceTreesLieBesideTheirBoard(GaugeTest):
    """Sources go through the toolchain's preprocessor, with folders of their own and the kernel's."""

    def test_includes_come_from_folders_of_the_board(self) -> None:
        boards = self.root / "shelves/harbour/boards"
        self.write("demo/shelves/harbour/boards/parts/names.h", '#define GAUGE_MODEL "Kittiwake, second mast"\n')
        tree = boards / "kittiwake.dts"
        text = tree.read_text().replace("/dts-v1/;", "/dts-v1/;\n#include <names.h>", 1)
        tree.write_text(text.replace('"Kittiwake harbour controller"', "GAUGE_MODEL"))
        (self.root / BOARD).write_text((self.root / BOARD).read_text().replace("[kernel]", '[kernel]\ninclude = ["parts"]'))
        self.assertIn("/kittiwake.dtb: Kittiwake, second mast", self.build())
        self.write("demo/shelves/harbour/boards/parts/names.h", "#error not today\n")
        self.assertRegex(
            self.build(code=1), r"error DTS-SYNTAX: (#error )?not today\n +where +shelves/harbour/boards/parts/names.h:1"
        )
        self.write("demo/shelves/harbour/boards/parts/names.h", "#define GAUGE_MODEL <&nothing>\n")
        self.assertRegex(
            self.build(code=1), r"nothing is called `nothing`(.|\n)*where +shelves/harbour/boards/kittiwake.dts:\d+"
        )

    def test_what_the_checks_find_is_a_note_unless_it_is_silenced(self) -> None:
        tree = self.root / "shelves/harbour/boards/kittiwake.dts"
        tree.write_text(tree.read_text().replace("rtc@9010000", "rtc@9010001"))
        report = self.yarrik_json("build", "tide-gauge", at=self.root)
        self.assertTrue(
            any("DTS-UNIT-ADDRESS" in note and "kittiwake.dts:" in note for note in report["notes"]), report["notes"]
        )
        silenced = (self.root / BOARD).read_text().replace("[kernel]", '[kernel]\nsilence = ["DTS-UNIT-ADDRESS"]')
        (self.root / BOARD).write_text(silenced)
        report = self.yarrik_json("build", "tide-gauge", at=self.root)
        self.assertFalse(any("DTS-" in note for note in report["notes"]), report["notes"])

    def test_nothing_is_compiled_again_when_nothing_changed(self) -> None:
        image = self.root / "shelves/harbour/images/tide-gauge.toml"
        image.write_text(image.read_text() + '\n[[file]]\npath = "/etc/x"\ncontent = "y"\n')
        ran = self.ran(self.yarrik_json("build", "tide-gauge", at=self.root))
        self.assertIn("boot tide-gauge", ran)
        self.assertNotIn("build device tree of kittiwake", ran)


#: A method that nobody has: a line in a text file names the kernel. All of it is this object.
MADE_UP = """
import sys
from unittest import mock

import yarrik.cli
from yarrik.boot import METHODS, BootMethod
from yarrik.boot.reading import read_named
from yarrik.boot.story import Started


def write(parts):
    return {"/boot/start-me": f"{parts.seen(parts.kernel_path)} {parts.arguments(next(iter(parts.lines)))}".encode()}


def read(story, filesystem, where):
    if not filesystem.has("/start-me"):
        return None
    kernel, _, line = filesystem.text("/start-me").partition(" ")
    story.tell("boot file", f"{where}:/start-me")
    return Started(read_named(story, filesystem, kernel, "kernel", where), kernel, line)


mock.patch.dict(METHODS, {"start-me": BootMethod("start-me", "start-me", write, read)}).start()
sys.argv[1:] = ["build", "tide-gauge", "--set", "board.boot.method=start-me"]
yarrik.cli.main()
"""


class AMadeUpMethodIsAnObject(GaugeTest):
    def test_it_is_written_found_and_followed(self) -> None:
        done = subprocess.run(
            [sys.executable, "-c", MADE_UP], cwd=self.root, env=self.environment, capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn(b"/Image root=PARTUUID=", self.on_card("/start-me"))
        story = (self.out / "boot-story.txt").read_text()
        self.assertIn("boot:/start-me", story)
        self.assertRegex(story, r"init +/sbin/init for arm64, executable")

    def test_one_that_nobody_has_is_told_at_check(self) -> None:
        said = self.yarrik("check", "tide-gauge", "--set", "board.boot.method=mneu", at=self.root, code=2)
        self.assertIn("error BOOT-METHOD-UNKNOWN: there is no boot method `mneu`", said)
        self.assertIn("did you mean `menu`?", said)


if __name__ == "__main__":
    unittest.main()
