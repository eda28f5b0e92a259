"""A board's console: ports, what a hostile board may do to a terminal, files sent to others' receivers, and the built program at a
terminal of its own with a board behind a second one."""

import binascii
import contextlib
import fcntl
import os
import pty
import random
import re
import select
import signal
import socket
import struct
import subprocess
import sys
import termios
import threading
import time
import tty
import unittest
from pathlib import Path

import serial
import serial.rfc2217
from hypothesis import given
from hypothesis import strategies as some

from tests.support import FolderTest, ProgramTest, WorkspaceTest
from yarrik.console import (
    Keys,
    LineLog,
    Ordered,
    PortSetup,
    Screen,
    SimulatedBoard,
    SimulatedSetup,
    TransferFailed,
    Typed,
    found_ports,
    prefix_byte,
    read_port_file,
    read_talk,
    run_emulator,
    send_file,
    users_of,
)
from yarrik.console.port import open_port
from yarrik.errors import YarrikError

BOOTLOADER = "/usr/lib/u-boot/qemu_arm64/u-boot.bin"


class Handle:
    """Both ways by a descriptor; what goes out may be changed on its way, as a bad cable does."""

    enter = b"\r"

    def __init__(self, inward: int, outward: int, noise=lambda data: data) -> None:
        self.inward, self.outward, self.noise = inward, outward, noise

    def fileno(self) -> int:
        return self.inward

    def read(self) -> bytes:
        return os.read(self.inward, 65536)

    def write(self, data: bytes) -> None:
        left = memoryview(self.noise(data))
        while left:
            left = left[os.write(self.outward, left) :]


class FilesGetThrough(FolderTest):
    """Judged by `rb` and `rx`, receivers that we did not write."""

    def received(self, form: str, data: bytes, noise=lambda data: data, name: str = "file.bin") -> bytes:
        place = self.folder / "there"
        place.mkdir(exist_ok=True)
        words = ["rb", "--ymodem", "--binary", "--overwrite"] if form == "ymodem" else ["rx", "--binary", "--with-crc", name]
        process = subprocess.Popen(words, cwd=place, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        assert process.stdin is not None and process.stdout is not None
        try:
            send_file(Handle(process.stdout.fileno(), process.stdin.fileno(), noise), name, data, form)
            process.stdin.close()
            self.assertEqual(process.wait(20), 0)
        finally:
            process.kill()
            process.wait()
            process.stdin.close()
            process.stdout.close()
        return (place / name).read_bytes()

    def test_ymodem_keeps_name_and_length(self) -> None:
        for size in (0, 129, 1024, 300_001):
            data = random.Random(size).randbytes(size)
            with self.subTest(size=size):
                self.assertEqual(self.received("ymodem", data, name="a b.bin"), data)

    def test_xmodem_pads_to_whole_blocks(self) -> None:
        for form in ("xmodem", "xmodem-1k"):
            for size in (1, 40_000):
                data = random.Random(size).randbytes(size)
                with self.subTest(form=form, size=size):
                    got = self.received(form, data)
                    self.assertEqual(got[:size].rstrip(b"\x1a"), data.rstrip(b"\x1a"))
                    self.assertLess(len(got) - size, 128)

    def test_a_cable_that_changes_bytes_costs_time_and_no_more(self) -> None:
        chance = random.Random(3)

        def noise(data: bytes) -> bytes:
            if len(data) < 100 or chance.random() > 0.2:
                return data
            at = chance.randrange(len(data) - 4) + 3
            return data[:at] + bytes([data[at] ^ 0x10]) + data[at + 1 :]

        data = random.Random(1).randbytes(30_000)
        self.assertEqual(self.received("ymodem", data, noise), data)

    def test_nobody_receives(self) -> None:
        ours, theirs = socket.socketpair()
        self.addCleanup(ours.close), self.addCleanup(theirs.close)
        line = Handle(ours.fileno(), ours.fileno())
        theirs.send(b"Capacity: 4 MiB\r\nCard C")  # the letter is a sign only where nothing follows
        threading.Timer(0.1, theirs.send, [b"lass 10\r\n# "]).start()
        with self.assertRaisesRegex(TransferFailed, "no receiver began within 1 s"):
            send_file(line, "a", b"x", "ymodem", begin_seconds=1)
        self.assertEqual(theirs.recv(100), b"\x18" * 8 + b"\x08" * 8)

    def test_a_receiver_that_gives_up(self) -> None:
        for answer, why in ((b"\x18\x18", "the receiver cancelled it"), (b"\x15", "checksums")):
            ours, theirs = socket.socketpair()
            self.addCleanup(ours.close), self.addCleanup(theirs.close)
            theirs.send(answer)
            with self.assertRaisesRegex(TransferFailed, why):
                send_file(Handle(ours.fileno(), ours.fileno()), "a", b"x", "ymodem", begin_seconds=2)
        with self.assertRaisesRegex(TransferFailed, "stopped"):
            send_file(Handle(ours.fileno(), ours.fileno()), "a", b"x", "ymodem", stopped=lambda: True)

    def test_a_bootloader_takes_it(self) -> None:
        """The real bootloader in the emulator, driven by a script that also sends."""
        data = random.Random(9).randbytes(20_000)
        self.write("load.bin", data)
        script = self.write("load.toml", r"""
            [[talk]]
            expect = "stop autoboot"
            type = ""
            [[talk]]
            expect = "=> "
            type = "loady 0x42000000"
            [[talk]]
            expect = "Ready for binary"
            send = "load.bin"
            [[talk]]
            expect = "Total Size"
            [[talk]]
            expect = "=> "
            type = "crc32 0x42000000 4e20"
            [[talk]]
            expect = "==> "
            [[talk]]
            expect = "\n"
            """)  # fmt: skip
        command = ["qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a57", "-m", "128", "-display", "none", "-nic", "none",
                   "-monitor", "none", "-serial", "stdio", "-bios", BOOTLOADER]  # fmt: skip
        shown = bytearray()
        with open(os.devnull, "wb") as log:
            outcome = run_emulator(command, read_talk(script), log, 90, shown.extend)
        self.assertEqual(outcome.ending, "seen", shown[-2000:])
        self.assertIn(f"==> {binascii.crc32(data):08x}".encode(), shown)

    def test_a_script_names_a_file_that_is_not_there(self) -> None:
        with self.assertRaises(YarrikError) as caught:
            read_talk(self.write("t.toml", '[[talk]]\nexpect = "C"\nsend = "none.bin"\n'))
        self.assertEqual(caught.exception.troubles[0].code, "TRANSFER-FILE")


#: What would retitle a window, write a clipboard, have the terminal type, or leave it in another state.
HARMFUL = {
    "title": b"\x1b]0;owned\x07", "clipboard": b"\x1b]52;c;cm0gLXJm\x07", "link": b"\x1b]8;;http://x\x1b\\y",
    "answerback": b"\x05", "device attributes": b"\x1b[c", "title report": b"\x1b[21t", "mouse": b"\x1b[?1003h",
    "strings": b"\x1bP$qm\x1b\\", "full reset": b"\x1bc", "key macros": b"\x1bP1;1|17/41\x1b\\", "8-bit": "\x9b21t".encode(),
    "private": b"\x1b[>4;2m", "print": b"\x1b[5i", "mixed modes": b"\x1b[?25;1003h", "backwards": "\u202eabc".encode(),
}  # fmt: skip


class ATerminalIsSafe(unittest.TestCase):
    def test_what_would_harm_is_shown_as_text(self) -> None:
        for name, data in HARMFUL.items():
            with self.subTest(name):
                screen = Screen()
                text = screen.feed(b"a" + data + b"z") + screen.held()
                self.assertTrue(text.startswith("a\\"), text)
                self.assertIsNone(re.search("[\x05\x1b\x9b\u202e]", text))

    def test_what_a_console_needs_passes(self) -> None:
        for data in ("\x1b[1;32mok\x1b[0m", "\x1b[2J\x1b[H", "\x1b[10;20Hx", "\x1b[K", "\x1b[?25l", "\x1b[?1049h", "\x1b7\x1b8",
                     "\x1b[6n", "10%\r20%\r\n", "Pegel: 3\u00a0m \u2713", "\x1b[3A\x1b[7m"):  # fmt: skip
            self.assertEqual(Screen().feed(data.encode()), data)

    def test_the_terminal_is_put_back(self) -> None:
        screen = Screen()
        screen.feed(b"\x1b[?1049h\x1b[?25l\x1b[31m\x1b[2;5r")
        undone = screen.reset()
        for word in ("\x1b[?1049l", "\x1b[?25h", "\x1b[0m", "\x1b[r"):
            self.assertIn(word, undone)
        self.assertEqual(screen.reset(), "")

    @given(some.lists(some.one_of(some.binary(max_size=20), some.sampled_from(sorted(HARMFUL.values()))), max_size=8))
    def test_no_bytes_get_a_sequence_through_that_is_not_allowed(self, pieces: list[bytes]) -> None:
        screen = Screen()
        text = "".join(map(screen.feed, pieces)) + screen.held()
        allowed = re.compile("\x1b(?:\\[(?:[0-9;:]*[A-HJ-MPSTXdfmrsu@`]|[56]n|(?:4|\\?(?:1|7|25|1049|2004))[hl]"
                             "|\\??[0-9;?]*[hl])|[78DME=>]|[()][B0])")  # fmt: skip
        left = allowed.sub("", text)
        self.assertIsNone(re.search("[\x00-\x06\x0b\x0c\x0e-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]", left), left)
        # In any other pieces it is the same text.
        whole = b"".join(pieces)
        other = Screen()
        again = "".join(other.feed(whole[at : at + 1]) for at in range(len(whole))) + other.held()
        self.assertEqual(again, text)

    def test_noise_is_counted(self) -> None:
        screen = Screen()
        screen.feed(random.Random(0).randbytes(1000))
        self.assertGreater(screen.strange, 300)
        screen = Screen()
        screen.feed("Pegel 3,20 m — Mole Nord\r\n".encode() * 20)
        self.assertEqual(screen.strange, 0)

    def test_a_log_has_times_and_nothing_that_acts(self) -> None:
        log = LineLog()
        text = (
            log.feed(b"boot", 1_000_000_000.0)
            + log.feed(b"ing\r\n\x1b[32mok\x1b[0m \x1b]0;t\x07\n# ", 1_000_000_002.5)
            + log.rest()
        )
        self.assertEqual(text.splitlines(), [
            "2001-09-09T01:46:40.000Z booting", "2001-09-09T01:46:42.500Z ok \\x1b]0;t\\x07", "2001-09-09T01:46:42.500Z # "])  # fmt: skip
        endless = "".join(log.feed(b"x" * 3000, 5.0) for _ in range(10))
        self.assertGreater(endless.count("\n"), 6)

    def test_keys(self) -> None:
        keys = Keys(b"\x0f")
        self.assertEqual(list(keys.feed(b"ls\r")), [Typed(b"ls\r")])
        self.assertEqual(list(keys.feed(b"a\x0f")), [Typed(b"a")])
        self.assertEqual(list(keys.feed(b"qb")), [Ordered("quit", b"q"), Typed(b"b")])
        self.assertEqual(list(keys.feed(b"\x0f\x0f\x0f\x02")), [Typed(b"\x0f"), Ordered("break", b"\x02")])
        self.assertEqual(list(keys.feed(b"\x0fz")), [Ordered(None, b"z")])
        self.assertEqual([prefix_byte(name) for name in ("ctrl-o", "^A", "Ctrl+]", "ctrl-m", "q", "")],
                         [b"\x0f", b"\x01", None, None, None, None])  # fmt: skip


class Ports(FolderTest):
    def test_which_there_are(self) -> None:
        usb = self.folder / "sys/devices/usb1/1-2"
        self.write("sys/devices/usb1/1-2/idVendor", "1234\n")
        self.write("sys/devices/usb1/1-2/manufacturer", "Harbour \x1b]0;x\x07Works\n")
        self.write("sys/devices/usb1/1-2/product", "Console cable\n")
        self.write("sys/devices/usb1/1-2/serial", "HC7\n")
        (usb / "1-2:1.0/ttyUSB0").mkdir(parents=True)
        for name, kind in (("ttyUSB0", None), ("ttyS0", "4"), ("ttyS1", "0"), ("ttyS9", None)):
            folder = self.folder / "sys/class/tty" / name
            folder.mkdir(parents=True)
            if name == "ttyUSB0":
                (folder / "device").symlink_to(usb / "1-2:1.0/ttyUSB0")
            elif name != "ttyS9":
                (folder / "device").mkdir()
                (folder / "type").write_text(kind or "")
        self.write("dev/ttyUSB0", "")
        (self.folder / "dev/serial/by-id").mkdir(parents=True)
        (self.folder / "dev/serial/by-id/usb-cable-HC7").symlink_to("../../ttyUSB0")
        found = found_ports(self.folder / "dev", self.folder / "sys", self.folder / "proc")
        self.assertEqual([Path(one.path).name for one in found], ["ttyS0", "ttyUSB0"])
        self.assertEqual((found[1].maker, found[1].model, found[1].serial), ("Harbour ]0;xWorks", "Console cable", "HC7"))
        self.assertTrue(found[1].by_name.endswith("usb-cable-HC7"))

    def refused(self, device: str) -> str:
        with self.assertRaises(YarrikError) as caught:
            open_port(PortSetup(device=device)).close()
        return caught.exception.troubles[0].code

    def test_what_is_no_port_is_left_alone(self) -> None:
        file = self.write("file", "text")
        os.mkfifo(self.folder / "pipe")
        (self.folder / "link").symlink_to("file")
        for name in (file, self.folder / "pipe", self.folder / "link", "/dev/null", "/dev/full"):
            self.assertEqual(self.refused(str(name)), "PORT-UNFIT")
        self.assertEqual(file.read_text(), "text")
        for name in ("/dev/ttyNONE", "socket://host", "socket://127.0.0.1:1", "rfc2217://127.0.0.1:1", "spy:///dev/null",
                     "socket://a:99999", "loop://"):  # fmt: skip
            self.assertEqual(self.refused(name), "PORT-MISSING", name)

    def test_a_port_that_somebody_has(self) -> None:
        outer, inner = pty.openpty()
        self.addCleanup(os.close, outer)
        name = os.ttyname(inner)
        holder = subprocess.Popen(["sleep", "60"], stdin=inner)
        self.addCleanup(holder.wait), self.addCleanup(holder.kill)
        os.close(inner)
        self.assertEqual(users_of(name), [("sleep", holder.pid)])
        self.assertEqual(self.refused(name), "PORT-BUSY")

    def test_a_port_of_a_group(self) -> None:
        outer, inner = pty.openpty()
        self.addCleanup(os.close, outer)
        name = os.ttyname(inner)
        os.close(inner)
        os.chmod(name, 0)
        refused = os.fork()
        if not refused:
            with contextlib.suppress(PermissionError):
                os.setuid(65534)  # as root the test would be let in
            try:
                open_port(PortSetup(device=name))
            except YarrikError as error:
                os._exit(7 if error.troubles[0].code == "PORT-FORBIDDEN" and "the group" in error.troubles[0].why else 1)
            finally:
                os._exit(2)
        self.assertEqual(os.waitstatus_to_exitcode(os.waitpid(refused, 0)[1]), 7)

    def test_files_that_describe_ports(self) -> None:
        for text, why in (
            ("[port]\nspeed = 9600\n", "either a `device`"),
            ('[port]\ndevice = "/dev/x"\n[simulated]\n', "either a `device`"),
            ('[port]\ndevice = "/dev/x"\nsped = 1\n', "sped"),
            ('[port]\ndevice = "/dev/x"\nspeed = 0\n', "above zero"),
            ('[port]\ndevice = "/dev/x"\npower-on = ["a"]\n', "belong together"),
            ('[port]\ndevice = "/dev/x"\npower-cycle = ["a"]\npower-on = ["a"]\npower-off = ["a"]\n', "one or the other"),
            ('[port]\ndevice = "/dev/x"\npower-cycle = "a"\n', "array"),
            ('[simulated]\ncard = "../x"\n', "no path"),
            ("port", "Expected"),
        ):
            with self.assertRaises(YarrikError) as caught:
                read_port_file(self.write("p.toml", text))
            self.assertEqual(caught.exception.troubles[0].code, "PORT-FILE")
            self.assertIn(why, caught.exception.troubles[0].what)


class Board:
    """A simulated board at the far end of a pseudo-terminal, which is a serial port for all that opens it."""

    def __init__(self, folder: Path, wait: int = 1) -> None:
        self.outer, self.inner = pty.openpty()
        tty.setraw(self.inner)
        self.port = os.ttyname(self.inner)
        self.closed = False
        self.board = SimulatedBoard(SimulatedSetup(name="pier board", wait=wait), folder, self)
        self.thread = threading.Thread(target=self.board.run, daemon=True)
        self.thread.start()

    def ready(self, seconds: float) -> bool:
        if self.closed:
            return True
        poll = select.poll()
        poll.register(self.outer, select.POLLIN)
        found = poll.poll(seconds * 1000)
        if found and not found[0][1] & select.POLLIN:
            time.sleep(min(seconds, 0.05))  # nobody has the port open
            return False
        return bool(found)

    def read(self) -> bytes:
        return b"" if self.closed else os.read(self.outer, 4096)

    def write(self, data: bytes) -> None:
        os.write(self.outer, data)

    def free(self) -> None:
        """From here on, another program has the port."""
        os.close(self.inner)

    def close(self) -> None:
        self.closed = True
        # Another file may get the descriptor's number: the board must not read what comes there.
        self.thread.join(10)
        with contextlib.suppress(OSError):
            os.close(self.outer)


class WithLines(serial.Serial):
    """A pseudo-terminal has no modem lines; the library's server asks for them."""

    cts = dsr = ri = cd = True

    def _update_dtr_state(self) -> None: ...

    def _update_rts_state(self) -> None: ...

    def _update_break_state(self) -> None: ...


class AtATerminal(ProgramTest):
    """The built program between a person's terminal and a board's port."""

    def setUp(self) -> None:
        super().setUp()
        self.environment["XDG_STATE_HOME"] = str(self.folder / "state")
        self.outer, self.inner = pty.openpty()
        fcntl.ioctl(self.inner, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 100, 0, 0))
        self.before = termios.tcgetattr(self.inner)
        self.addCleanup(os.close, self.outer), self.addCleanup(os.close, self.inner)
        self.seen = b""

    def start(self, *words: str | Path) -> None:
        self.process = subprocess.Popen([sys.executable, "-m", "yarrik", "console", *map(str, words)], cwd=self.folder,
                                        env=self.environment, stdin=self.inner, stdout=self.inner, stderr=self.inner)  # fmt: skip
        self.addCleanup(self.process.wait), self.addCleanup(self.process.kill)

    def expect(self, text: str, seconds: float = 30) -> bytes:
        end = time.monotonic() + seconds
        while text.encode() not in self.seen:
            if time.monotonic() > end:
                self.fail(f"{text!r} did not come: {self.seen!r}")
            if select.select([self.outer], [], [], 0.2)[0]:
                self.seen += os.read(self.outer, 65536)
        before, _, self.seen = self.seen.partition(text.encode())
        return before

    def type(self, data: bytes) -> None:
        os.write(self.outer, data)

    def ended(self, code: int = 0) -> None:
        self.expect("kept in ")
        self.assertEqual(self.process.wait(20), code)
        # As the person had it: with echo, line by line.
        self.assertEqual(termios.tcgetattr(self.inner), self.before)

    def board(self, **more: int) -> Board:
        board = Board(self.folder, **more)
        self.addCleanup(board.close)
        return board

    def test_a_session(self) -> None:
        board = self.board(wait=30)
        board.free()
        self.write("firmware.bin", b"tide" * 700)
        self.start(board.port, "--log", "pier.log")
        self.expect("Ctrl-O q ends")
        self.expect("press a key to stop: ")
        self.type(b"x")
        self.expect("loader> ")
        self.type(b"\x03help\r")  # Ctrl-C is the board's
        self.expect("^C")
        self.expect("receive   take a file")
        self.expect("loader> ")
        self.type(b"receive\r")
        self.expect("ready for a file")
        self.type(b"\x0fs")
        self.expect("file to send: ")
        self.type(b"firmw\t\r")
        self.expect(f"received firmware.bin: 2800 bytes, CRC-32 {binascii.crc32(b'tide' * 700):08x}")
        self.expect("loader> ")
        self.type(b"\x0ft\rwho\r")
        self.assertRegex(self.expect("unknown: who"), rb"\x1b\[2m\d\d:\d\d:\d\d\.\d{3}\x1b\[22m")
        self.type(b"\x0f?")
        self.expect("again sends it")
        self.type(b"\x0fp")
        self.expect("no command for the power")
        self.type(b"\x0fb")
        self.expect("break sent")
        self.type(b"\x0fq")
        self.ended()
        log = (self.folder / "pier.log").read_text()
        self.assertRegex(log, r"(?m)^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z loader> help$")
        self.assertIn("received firmware.bin: 2800 bytes", log)

    def test_a_request_to_end_puts_the_terminal_back(self) -> None:
        board = self.board(wait=30)
        board.free()
        for number in (signal.SIGTERM, signal.SIGHUP):
            self.start(board.port)
            self.expect("Ctrl-O q ends")
            self.process.send_signal(number)
            self.process.wait(20)
            self.assertEqual(termios.tcgetattr(self.inner), self.before)
        # The last session's log is not lost by the next one's beginning.
        self.assertEqual(len(list((self.folder / "state/yarrik/consoles").iterdir())), 2)

    def test_an_adapter_is_unplugged_and_comes_back(self) -> None:
        first, second = self.board(wait=30), self.board(wait=30)
        cable = self.folder / "cable"
        cable.symlink_to(first.port)
        first.free(), second.free()
        self.start(cable)
        self.expect("press a key")
        cable.unlink()
        first.close()
        self.expect("is gone; waits for it")
        cable.symlink_to(second.port)
        self.expect("is there again")
        self.expect("press a key")
        cable.unlink()
        second.close()
        self.expect("is gone; waits for it")
        self.type(b"\x0fq")
        self.ended()

    def test_noise_hints_at_the_speed(self) -> None:
        outer, inner = pty.openpty()
        tty.setraw(inner)
        self.addCleanup(os.close, outer)
        port = os.ttyname(inner)
        os.close(inner)
        self.start(port, "--seconds", "20")
        self.expect("Ctrl-O q ends")
        os.write(outer, random.Random(0).randbytes(400))
        self.expect("another speed than 115200 (--speed)")
        self.type(b"\x0fq")
        self.ended()

    def test_a_hostile_board(self) -> None:
        outer, inner = pty.openpty()
        tty.setraw(inner)
        self.addCleanup(os.close, outer)
        port = os.ttyname(inner)
        os.close(inner)
        self.start(port)
        self.expect("Ctrl-O q ends")
        os.write(outer, b"\x1b[?25l\x1b]52;c;cm0=\x07\x1b[21t done")
        shown = self.expect(" done")
        self.assertIn(rb"\x1b]52;c;cm0=", shown)
        self.assertNotIn(b"\x1b]52", shown)
        self.type(b"\x0fq")
        self.assertIn(b"\x1b[?25h", self.expect("kept in "))

    def test_servers_of_ports(self) -> None:
        """A plain connection, and the library's own server of RFC 2217 with a board behind it."""
        for scheme in ("socket", "rfc2217"):
            board = self.board(wait=30)
            board.free()
            with WithLines(board.port, timeout=0.05) as real, socket.create_server(("127.0.0.1", 0)) as server:
                thread = threading.Thread(target=self.serve, args=(server, real, scheme == "rfc2217"), daemon=True)
                thread.start()
                self.start(f"{scheme}://127.0.0.1:{server.getsockname()[1]}")
                self.expect("Ctrl-O q ends")
                self.type(b"\r")
                self.expect("loader> ")
                self.type(b"\x0fb")
                self.expect("break sent" if scheme == "rfc2217" else "no break")
                self.type(b"\x0fq")
                self.ended()
                thread.join(10)
                self.assertFalse(thread.is_alive())

    def serve(self, server: socket.socket, real: serial.Serial, with_control: bool) -> None:
        client, _ = server.accept()
        with client:

            class Sender:
                def write(self, data: bytes) -> None:
                    client.sendall(data)

            manager = serial.rfc2217.PortManager(real, Sender()) if with_control else None
            client.settimeout(0.05)
            while True:
                with contextlib.suppress(TimeoutError):
                    data = client.recv(1000)
                    if not data:
                        return
                    real.write(b"".join(manager.filter(data)) if manager is not None else data)
                data = real.read(1000)
                if data:
                    client.sendall(b"".join(manager.escape(data)) if manager is not None else data)


class InScripts(ProgramTest):
    """The same without a terminal."""

    def setUp(self) -> None:
        super().setUp()
        self.environment["XDG_STATE_HOME"] = str(self.folder / "state")
        self.file = self.write("board.toml", '[simulated]\nname = "pier board"\nwait = 1\n')

    def test_expectations(self) -> None:
        text = self.yarrik("console", self.file, "--expect", "press a key", "--expect", "no card")
        self.assertIn("pier board: all was seen", text)
        found = self.yarrik_json("console", self.file, "--expect", "press a key", "--expect", "never", "--seconds", "2", code=1)
        self.assertEqual((found["ok"], found["ending"], found["missing"]), (False, "time", "never"))
        self.assertEqual([one["text"] for one in found["seen"]], ["press a key"])
        text = self.yarrik("console", self.file, "--expect", "never", "--seconds", "1.5", code=1)
        self.assertIn("error BOOT-NOT-SEEN: the time was over", text)
        self.assertIn("--expect TEXT or --talk FILE", self.yarrik("console", self.file, "--json", code=2))

    def test_a_script_that_sends(self) -> None:
        data = b"\x00\x1a\xff" * 1000
        self.write("up.bin", data)
        talk = self.write("up.toml", """
            [[talk]]
            expect = "press a key"
            type = ""
            [[talk]]
            expect = "loader> "
            type = "receive"
            [[talk]]
            expect = "ready for a file"
            send = "up.bin"
            [[talk]]
            expect = "received up.bin: 3000 bytes"
            """)  # fmt: skip
        self.assertIn("all was seen", self.yarrik("console", self.file, "--talk", talk))
        talk.write_text(talk.read_text().replace('type = "receive"', 'type = "help"').replace("ready for a file", "receive"))
        # Nobody receives: the board's prompt is all that comes.
        text = self.yarrik("console", self.file, "--talk", talk, "--seconds", "5", code=1)
        self.assertRegex(text, r"error TRANSFER-FAILED: a file was not sent \(no receiver began within [3-5] s\)")

    def test_a_full_disk_does_not_end_a_session(self) -> None:
        text = self.yarrik("console", self.file, "--log", "/dev/full", "--expect", "no card")
        self.assertIn("all was seen", text)
        done = subprocess.run([sys.executable, "-m", "yarrik", "console", str(self.file), "--log", "/dev/full", "--seconds", "2"],
                              env=self.environment, stdin=subprocess.DEVNULL, capture_output=True, timeout=60, check=True)  # fmt: skip
        self.assertIn(b"press a key", done.stdout)
        self.assertEqual(done.stderr.count(b"CONSOLE-LOG"), 1)

    def test_lines_from_a_pipe(self) -> None:
        done = subprocess.run([sys.executable, "-m", "yarrik", "console", str(self.file), "--seconds", "4"], cwd=self.folder,
                              env=self.environment, input=b"x\nhelp\nwho\n", capture_output=True, timeout=60, check=True)  # fmt: skip
        self.assertIn(b"receive   take a file", done.stdout)
        self.assertIn(b"unknown: who", done.stdout)
        self.assertEqual(done.stderr, b"")

    def test_what_cannot_be(self) -> None:
        self.assertIn("error PORT-MISSING: there is no port /dev/ttyNONE", self.yarrik("console", "/dev/ttyNONE", code=2))
        self.assertIn("is no key for orders", self.yarrik("console", self.file, "--key", "ctrl-m", code=2))
        text = self.yarrik("console", self.file, "--log", "none/x.log", "--expect", "a", code=2)
        self.assertIn("error CONSOLE-LOG: the log none/x.log cannot be written: No such file or directory", text)
        self.assertIn("ports", self.yarrik_json("console"))


class OnTheBench(WorkspaceTest):
    """`yarrik boot --on`: one script for emulator and bench, the power switched by a declared command."""

    def setUp(self) -> None:
        super().setUp()
        self.environment["XDG_STATE_HOME"] = str(self.folder / "state")
        self.port = Board(self.folder, wait=300)
        self.addCleanup(self.port.close)
        self.port.free()

    def file(self, text: str) -> Path:
        return self.write("bench.toml", f'[port]\ndevice = "{self.port.port}"\n{text}\n')

    def test_power_is_switched_and_the_start_followed(self) -> None:
        switch = self.write("switch", "#!/bin/sh\necho $1 >> log\n")
        switch.chmod(0o755)
        file = self.file('power-off = ["./switch", "off"]\npower-on = ["./switch", "on"]')
        text = self.yarrik("boot", "--on", file, "--expect", "press a key", at=self.root)
        self.assertEqual((self.folder / "log").read_text(), "off\non\n")
        self.assertIn("power: ./switch off\npower: ./switch on\n", text)
        self.assertIn("all was seen", text)
        self.assertIn(b"to stop: ", next(self.root.glob("out/*/boot.log")).read_bytes())
        found = self.yarrik_json("boot", "--on", self.port.port, "--expect", "never", "--seconds", "1", code=1, at=self.root)
        self.assertEqual((found["ok"], found["on"], found["ending"]), (False, self.port.port, "time"))

    def test_power_that_fails(self) -> None:
        for words, why in (('["./none"]', "is not on this machine"), ('["false"]', "failed with 1"),
                           ('["sh", "-c", "echo relay stuck >&2; exit 3"]', "relay stuck")):  # fmt: skip
            text = self.yarrik("boot", "--on", self.file(f"power-cycle = {words}"), "--expect", "x", code=1, at=self.root)
            self.assertIn("error POWER-FAILED", text)
            self.assertIn(why, text)

    def test_what_is_the_emulators(self) -> None:
        text = self.yarrik("boot", "--on", self.file(""), "--until-off", code=2, at=self.root)
        self.assertIn("are the emulator's", text)

    def test_a_board_that_panics(self) -> None:
        outer, inner = pty.openpty()
        tty.setraw(inner)
        self.addCleanup(os.close, outer)
        name = os.ttyname(inner)
        os.close(inner)
        threading.Timer(3, os.write, [outer, b"Kernel panic - not syncing: no init\r\n"]).start()
        text = self.yarrik("boot", "--on", name, "--expect", "login:", "--seconds", "60", code=1, at=self.root)
        self.assertIn("the kernel panicked", text)
        self.assertIn("switch the board off and on now", text)


if __name__ == "__main__":
    unittest.main()
