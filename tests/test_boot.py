"""Command line, menu, kernel headers, and the emulator's console followed with a stand-in for the emulator."""

import io
import sys
import unittest

from tests.support import FolderTest
from yarrik.boot import (
    KernelUnfit,
    MapUnfit,
    Menu,
    MenuEntry,
    RootUnfit,
    RootWish,
    command_line,
    console_problem,
    encode_menu,
    memory_of,
    place_all,
    read_kernel,
    read_menu,
    reserved_in,
    root_words,
)
from yarrik.boot.command_lines import parsed
from yarrik.console import TalkLine, read_talk, run_emulator
from yarrik.devicetree import compile_source
from yarrik.disk.layout import RootPlace
from yarrik.errors import YarrikError
from yarrik.maps import Area
from yarrik.model import Disk, Partition


class CommandLinesAreComputed(unittest.TestCase):
    def place(self, table: str = "gpt", **more: object) -> RootPlace:
        partition = Partition(name="root", holds="root", **more)
        return RootPlace(Disk(name="card", table=table, partition=(partition,), signature="0x12345678"), 1, "root", partition)

    def test_root_console_init_and_extra_words_each_with_an_origin(self) -> None:
        root = root_words("p", self.place("mbr"), RootWish())
        line = command_line(root, ["tty0", "ttyAMA0,115200"], "/usr/lib/first", ["quiet"], 4)
        self.assertEqual(
            str(line),
            "root=PARTUUID=12345678-01 rootfstype=ext4 rootwait rw console=tty0 console=ttyAMA0,115200 loglevel=4 "
            "init=/usr/lib/first quiet",
        )
        self.assertTrue(all(word.origin for word in line.words))

    def test_the_kernel_s_own_choice_of_init_is_not_repeated(self) -> None:
        self.assertNotIn("init=", str(command_line([], [], "/sbin/init", [])))
        self.assertEqual(str(command_line([], [], "/sbin/init", [], in_memory=True)), "rdinit=/sbin/init")

    def test_root_in_every_form_that_the_kernel_knows(self) -> None:
        for table, wish, words in (
            ("gpt", RootWish("partlabel"), "root=PARTLABEL=root"),
            ("gpt", RootWish("device", "mmcblk0"), "root=/dev/mmcblk0p1"),
            ("gpt", RootWish("device", "nvme0n1"), "root=/dev/nvme0n1p1"),
            ("mbr", RootWish("device", "/dev/sda"), "root=/dev/sda1"),
            ("mbr", RootWish("device", "vda"), "root=/dev/vda1"),
            ("none", RootWish("device", "mtdblock2"), "root=/dev/mtdblock2"),
        ):
            self.assertEqual(root_words("p", self.place(table), wish)[0].text, words)
        self.assertEqual([word.text for word in root_words("p", self.place(filesystem="squashfs"), RootWish())][1:],
                         ["rootfstype=squashfs", "rootwait", "ro"])  # fmt: skip

    def test_forms_that_cannot_be_are_refused_with_a_way_out(self) -> None:
        for table, wish, what, remedy in (
            ("gpt", RootWish("device", "mmcblk0p2"), "not a name of a disk", "`mmcblk0`"),
            ("gpt", RootWish("device", "sda2"), "not a name of a disk", "`sda`"),
            ("gpt", RootWish("device", "card"), "not a name of a disk", "nvme0n1"),
            ("gpt", RootWish("device"), "is missing", "root-device"),
            ("mbr", RootWish("partlabel"), "has no GPT", "partuuid"),
            ("none", RootWish(), "has no table", "root-device"),
            ("gpt", RootWish("uuid"), "does not look for filesystems", "partuuid"),
            ("gpt", RootWish("none"), "no initramfs", "initramfs"),
        ):
            with self.assertRaisesRegex(RootUnfit, what) as caught:
                root_words("p", self.place(table), wish)
            self.assertIn(remedy, caught.exception.remedy)

    def test_a_line_is_split_as_the_kernel_does(self) -> None:
        self.assertEqual(parsed('root=/dev/vda2 quiet x="a b" root=/dev/vda3 -- init words'),
                         {"root": ["/dev/vda2", "/dev/vda3"], "quiet": [""], "x": ["a b"]})  # fmt: skip


class ConsolesAreSerialPortsOfTheBoard(FolderTest):
    TREE = """/dts-v1/;
    / { aliases { serial0 = &a; serial1 = &off; };
        a: serial@1 { compatible = "arm,pl011", "arm,primecell"; };
        off: serial@2 { compatible = "arm,pl011"; status = "disabled"; };
        OTHERS };"""
    OLD = 'serial@4 { compatible = "ns16550a"; };'

    def problem(self, console: str, others: str) -> str | None:
        return console_problem(compile_source(self.write("t.dts", self.TREE.replace("OTHERS", others))), console)

    def test_what_can_be_the_console_is_let_be(self) -> None:
        for console in ("ttyAMA0,115200", "ttyS0", "tty0", "hvc0"):
            self.assertIsNone(self.problem(console, self.OLD), console)

    def test_what_cannot_be_is_told_with_what_could(self) -> None:
        for console, others, words in (
            ("ttyAMA1", self.OLD, "alias serial1.*not enabled"),
            ("ttyAMA2", self.OLD, "enables 1 for ttyAMA: /serial@1"),
            ("ttyS0", 'bus { status = "disabled"; serial@3 { compatible = "ns16550a"; }; };',
             "/bus/serial@3 is the device for ttyS, and it is not enabled"),
            ("ttyTide0", self.OLD, "no device in the device tree is one for ttyTide; there are ports for ttyAMA, ttyS"),
        ):  # fmt: skip
            self.assertRegex(self.problem(console, others) or "", words)

    def test_a_driver_that_is_not_known_may_be_that_of_a_port_that_is_not(self) -> None:
        self.assertIsNone(self.problem("ttyTide0", 'uart@5 { compatible = "harbour,tide-uart"; };'))
        disabled = 'uart@5 { compatible = "harbour,tide-uart"; status = "disabled"; };'
        self.assertIn("there are ports for ttyAMA", self.problem("ttyTide0", disabled) or "")


class MemoryIsShared(FolderTest):
    BANK = (Area("memory", 0x40000000, 256 << 20),)

    def test_addresses_follow_from_where_memory_begins(self) -> None:
        found = place_all("arm64", {"kernel": 20 << 20, "device tree": 5000, "initramfs": 0}, {}, self.BANK)
        self.assertEqual(
            [(area.name, area.start) for area in found.areas], [("kernel", 0x40400000), ("device tree", 0x43E00000)]
        )
        self.assertIn("256.0 MiB  memory", found.drawn())
        self.assertEqual(
            place_all("arm64", {"kernel": 1 << 20}, {}, self.BANK, text_offset=0x80000).address("kernel"), 0x40480000
        )

    def test_what_cannot_be_is_told_with_a_drawing(self) -> None:
        reserved = (Area("reserved: video@4c000000", 0x4C000000, 64 << 20),)
        for sizes, given, arch, words in (
            ({"kernel": 70 << 20, "initramfs": 1 << 20}, {}, "arm64", "initramfs .* overlaps kernel"),
            ({"initramfs": 200 << 20}, {}, "arm", "overlaps what is reserved: video"),
            ({"initramfs": 300 << 20}, {}, "arm", "is not in memory \\(0x40000000 to 0x50000000\\)"),
            ({"kernel": 4096}, {"kernel": 0x80000}, "arm", "is not in memory"),
            ({"kernel": 4096}, {"kernel": 0x40410000}, "arm64", "not a multiple of 2.0 MiB"),
        ):
            with self.assertRaisesRegex(MapUnfit, words) as caught:
                place_all(arch, sizes, given, self.BANK, reserved)
            self.assertIn("\u2588", caught.exception.drawing)

    def test_banks_and_reservations_come_from_the_device_tree(self) -> None:
        tree = compile_source(
            self.write(
                "m.dts",
                """/dts-v1/; /memreserve/ 0x1000 0x100;
            / { #address-cells = <2>; #size-cells = <1>;
                memory@80000000 { device_type = "memory"; reg = <1 0x80000000 0x1000>, <0 0x10 0x20>; };
                reserved-memory { #address-cells = <1>; #size-cells = <1>; a@5 { reg = <5 6>; }; b { size = <4>; }; }; };""",
            )
        )
        self.assertEqual([(bank.start, bank.size) for bank in memory_of(tree)], [(0x10, 0x20), (0x180000000, 0x1000)])
        self.assertEqual([(one.name, one.start, one.size) for one in reserved_in(tree)],
                         [("reserved by the blob", 0x1000, 0x100), ("reserved: a@5", 5, 6)])  # fmt: skip


class MenusNeverWait(unittest.TestCase):
    entry = MenuEntry("gauge", "Tide gauge", "/boot/Image", "/boot/k.dtb", "root=PARTUUID=1 rw")

    def test_a_menu_of_several_asks_for_as_long_as_it_is_told(self) -> None:
        other = MenuEntry("rescue", "Rescue", "/boot/Image", "", "", "/boot/rescue.img")
        text = encode_menu(Menu("gauge", [self.entry, other], 20))
        self.assertTrue(text.startswith("menu title Tide gauge\nprompt 1\ntimeout 20\n"), text)
        self.assertEqual(read_menu(text).tenths, 20)
        self.assertIn("prompt 0\n", encode_menu(Menu("gauge", [self.entry, other], 0)))

    def test_what_is_written_is_read_back_and_needs_nobody_to_type(self) -> None:
        text = encode_menu(Menu("gauge", [self.entry], 0))
        self.assertIn("prompt 0\n", text)
        menu = read_menu(text)
        self.assertEqual((menu.default, list(menu.entries), menu.tenths), ("gauge", [self.entry], 1))

    def test_a_default_that_is_no_entry_is_refused(self) -> None:
        with self.assertRaisesRegex(ValueError, "default"):
            read_menu("default x\nlabel y\n  linux /z\n")


class KernelHeadersAreRead(FolderTest):
    def arm64(self, size: int = 0x10000, flags: int = 10, magic: bytes = b"ARM\x64") -> bytes:
        return bytes(16) + size.to_bytes(8, "little") + flags.to_bytes(8, "little") + bytes(24) + magic + bytes(4)

    def test_arm64(self) -> None:
        facts = read_kernel(self.write("k", self.arm64()))
        self.assertEqual((facts.arch, facts.form, facts.memory), ("arm64", "Image", 0x10000))

    def test_what_no_bootloader_would_load_is_told(self) -> None:
        for data, words in (
            (self.arm64(size=0), "gives no size"),
            (self.arm64(flags=1), "big-endian"),
            (self.arm64(magic=b"none"), "no kernel header"),
            (b"\x7fELF" + bytes(100), "an ELF file"),
            (b"\x1f\x8b" + bytes(2000), "gzip-compressed data, and damaged"),
            (b"", "no kernel header"),
        ):
            with self.assertRaisesRegex(KernelUnfit, words):
                read_kernel(self.write("k", data))

    def test_x86_of_an_old_protocol_is_refused(self) -> None:
        head = bytearray(0x268)
        head[0x1FE:0x200] = b"\x55\xaa"
        head[0x202:0x208] = b"HdrS\x0c\x02"
        head[0x211] = 1
        head[0x236] = 1
        self.assertEqual(read_kernel(self.write("k", bytes(head))).arch, "x86-64")
        head[0x236] = 0
        self.assertEqual(read_kernel(self.write("k", bytes(head))).arch, "x86")
        head[0x206] = 0x0A
        with self.assertRaisesRegex(KernelUnfit, "2.10"):
            read_kernel(self.write("k", bytes(head)))


BOARD = """
import sys, time
print("booting\\x1b[31m...\\x1b[0m", flush=True)
print("gauge# ", end="", flush=True)
for line in sys.stdin:
    if line == "off\\n":
        print("powering off", flush=True)
        sys.exit(0)
    print("you said " + line, "gauge# ", sep="", end="", flush=True)
"""


class ConsolesAreFollowed(FolderTest):
    def boot(self, *lines: TalkLine, seconds: float = 20, until_end: bool = False):
        self.log = io.BytesIO()
        self.shown: list[bytes] = []
        command = [sys.executable, "-c", BOARD]
        return run_emulator(command, lines, self.log, seconds, self.shown.append, until_end)

    def test_texts_are_seen_in_order_and_answers_typed(self) -> None:
        outcome = self.boot(
            TalkLine(expect="booting..."), TalkLine(expect="# ", type="hello"), TalkLine(expect="said hello"),
            TalkLine(expect="# ", type="off"), TalkLine(expect="powering off"), until_end=True,
        )  # fmt: skip
        self.assertEqual((outcome.ending, outcome.exit_code), ("seen", 0))
        self.assertEqual(b"".join(self.shown), self.log.getvalue())
        self.assertIn(b"\x1b[31m", self.log.getvalue())

    def test_a_text_that_came_earlier_does_not_count_again(self) -> None:
        outcome = self.boot(TalkLine(expect="gauge# ", type="off"), TalkLine(expect="booting"))
        self.assertEqual((outcome.ending, outcome.missing), ("ended", "booting"))

    def test_the_time_is_limited(self) -> None:
        # The board need not have begun by then: what counts is that the wait ends, long before the board would.
        outcome = self.boot(TalkLine(expect="never"), seconds=1)
        self.assertEqual((outcome.ending, outcome.missing), ("time", "never"))
        self.assertGreaterEqual(outcome.seconds, 1)

    def test_a_panic_ends_the_wait(self) -> None:
        outcome = self.boot(
            TalkLine(expect="gauge# ", type="Kernel panic - not syncing: no init"), TalkLine(expect="login"), seconds=60
        )
        self.assertEqual((outcome.ending, outcome.missing), ("panic", "login"))
        self.assertLess(outcome.seconds, 60)

    def test_the_last_words_may_come_in_pieces(self) -> None:
        program = (
            "import sys, time\n"
            "for part in ('Kernel panic - not syncing', ': VFS', ': no root\\n'):\n"
            "    sys.stdout.write(part); sys.stdout.flush(); time.sleep(0.2)\n"
            "time.sleep(60)\n"
        )
        line = TalkLine(expect="not syncing: VFS: no root")
        outcome = run_emulator([sys.executable, "-c", program], (line,), io.BytesIO(), 30, lambda _: None)
        self.assertEqual(outcome.ending, "seen")

    def test_a_board_that_stays_up_when_it_should_power_off_is_a_failure(self) -> None:
        self.assertEqual(self.boot(TalkLine(expect="booting"), seconds=1, until_end=True).ending, "time")

    def test_scripts_are_read_strictly(self) -> None:
        talk = read_talk(self.write("t.toml", '[[talk]]\nexpect = "a"\ntype = "b"\n[[talk]]\nexpect = "c"\n'))
        self.assertEqual([(line.expect, line.type) for line in talk], [("a", "b"), ("c", None)])
        with self.assertRaises(YarrikError):
            read_talk(self.write("t.toml", '[[talk]]\nexpct = "a"\n'))


if __name__ == "__main__":
    unittest.main()
