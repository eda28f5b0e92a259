"""Command line, menu, kernel headers, and the emulator's console followed with a stand-in for the emulator."""

import io
import sys
import unittest

from tests.support import FolderTest
from yarrik.boot import KernelUnfit, Menu, MenuEntry, command_line, encode_menu, read_kernel, read_menu, read_talk, run_emulator
from yarrik.boot.emulator import TalkLine
from yarrik.errors import YarrikError


class CommandLinesAreComputed(unittest.TestCase):
    def test_root_console_init_and_extra_words_each_with_an_origin(self) -> None:
        line = command_line("PARTUUID=1-2", "ttyAMA0,115200", "/usr/lib/first", ["quiet"])
        self.assertEqual(str(line), "root=PARTUUID=1-2 rootwait rw console=ttyAMA0,115200 init=/usr/lib/first quiet")
        self.assertTrue(all(word.origin for word in line.words))

    def test_the_kernel_s_own_choice_of_init_is_not_repeated(self) -> None:
        self.assertNotIn("init=", str(command_line("PARTUUID=1", "", "/sbin/init", [])))


class MenusNeverWait(unittest.TestCase):
    entry = MenuEntry("gauge", "Tide gauge", "/boot/Image", "/boot/k.dtb", "root=PARTUUID=1 rw")

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
            (b"\x1f\x8b" + bytes(2000), "gzip"),
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
    if line == "hang\\n":
        time.sleep(60)
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
        outcome = self.boot(TalkLine(expect="gauge# ", type="hang"), TalkLine(expect="never"), seconds=1)
        self.assertEqual((outcome.ending, outcome.missing), ("time", "never"))
        self.assertLess(outcome.seconds, 10)

    def test_a_panic_ends_the_wait(self) -> None:
        outcome = self.boot(
            TalkLine(expect="gauge# ", type="Kernel panic - not syncing: no init"), TalkLine(expect="login"), seconds=60
        )
        self.assertEqual((outcome.ending, outcome.missing), ("panic", "login"))
        self.assertLess(outcome.seconds, 30)

    def test_a_board_that_stays_up_when_it_should_power_off_is_a_failure(self) -> None:
        self.assertEqual(self.boot(TalkLine(expect="booting"), seconds=1, until_end=True).ending, "time")

    def test_scripts_are_read_strictly(self) -> None:
        talk = read_talk(self.write("t.toml", '[[talk]]\nexpect = "a"\ntype = "b"\n[[talk]]\nexpect = "c"\n'))
        self.assertEqual([(line.expect, line.type) for line in talk], [("a", "b"), ("c", None)])
        with self.assertRaises(YarrikError):
            read_talk(self.write("t.toml", '[[talk]]\nexpct = "a"\n'))


if __name__ == "__main__":
    unittest.main()
