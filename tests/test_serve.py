"""A product offered to boards on the network: judged by curl's TFTP and HTTP, by the emulator's own network boot, and by clients that
do not keep to the rules."""

import contextlib
import hashlib
import json
import os
import random
import re
import select
import shutil
import signal
import socket
import struct
import subprocess
import sys
import threading
import time
import unittest

from hypothesis import given, settings
from hypothesis import strategies as some

from tests.support import FolderTest, WorkspaceTest, new_folder
from yarrik.netboot import HttpServer, Offered, OfferedFile, Request, TftpServer
from yarrik.netboot.offering import in_memory

KERNEL = random.Random(1).randbytes(1_234_567)
TEXT = b"one\ntwo\rthree\r\n"


class Served(FolderTest):
    """Both servers at a free port each, with a table of their own."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.heard: list[Request] = []
        cls.files = {"kernel": OfferedFile.of(KERNEL), "a/text": OfferedFile.of(TEXT), "empty": OfferedFile.of(b""),
                     "full": OfferedFile.of(bytes(512 * 3)), "odd name\xff": OfferedFile.of(b"odd")}  # fmt: skip
        table = Offered(cls.files)
        cls.tftp = TftpServer("127.0.0.1", 0, lambda: table, cls.heard.append)
        cls.http = HttpServer("127.0.0.1", 0, lambda: table, cls.heard.append)
        cls.over = threading.Event()
        cls.thread = threading.Thread(target=cls.tftp.serve, args=(cls.over.is_set,))
        cls.thread.start()
        cls.http.start()

    @classmethod
    def tearDownClass(cls) -> None:
        cls.over.set()
        cls.thread.join()
        cls.tftp.close()
        cls.http.shutdown()
        cls.http.server_close()

    def setUp(self) -> None:
        super().setUp()
        self.heard.clear()

    def curl(self, *words: str, code: int = 0) -> bytes:
        done = subprocess.run(["curl", "--silent", "--show-error", *words], capture_output=True, timeout=120, check=False)
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stdout

    def until_heard(self, count: int) -> list[Request]:
        for _ in range(100):
            if len(self.heard) >= count:
                break
            time.sleep(0.05)
        return self.heard


class Tftp(Served):
    def at(self, name: str) -> str:
        return f"tftp://127.0.0.1:{self.tftp.port}/{name}"

    def ask(self, packet: bytes, to: socket.socket | None = None) -> tuple[bytes, tuple[str, int]]:
        one = to or self.client()
        one.sendto(packet, ("127.0.0.1", self.tftp.port))
        return one.recvfrom(70_000)

    def client(self) -> socket.socket:
        one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.addCleanup(one.close)
        one.settimeout(10)
        return one

    def request(self, name: str, mode: str = "octet", **options: int) -> bytes:
        words = [name, mode] + [str(word) for pair in options.items() for word in pair]
        return b"\0\1" + b"".join(word.encode() + b"\0" for word in words)

    def test_curl_gets_what_is_offered(self) -> None:
        self.assertEqual(self.curl(self.at("kernel")), KERNEL)
        self.assertEqual(self.curl(self.at("/kernel"), "--tftp-blksize", "8192"), KERNEL)
        self.assertEqual(self.curl(self.at("kernel"), "--tftp-no-options"), KERNEL)
        self.assertEqual(self.ask(self.request("empty"))[0], b"\0\3\0\1")
        self.assertEqual(self.curl(self.at("full"), "--tftp-no-options"), bytes(512 * 3))
        self.assertIn(("kernel", "sent", len(KERNEL)), [(one.name, one.outcome, one.bytes) for one in self.until_heard(4)])

    def test_texts(self) -> None:
        self.assertEqual(self.curl(self.at("a/text;mode=netascii")), b"one\r\ntwo\r\0three\r\0\r\n")

    def test_nothing_else(self) -> None:
        for name in ("none", "../etc/passwd", "/etc/passwd", "a", "a/../kernel", "kernel/", "KERNEL", "%2e%2e/kernel"):
            answer, _ = self.ask(self.request(name))
            expected = b"\0\3" if name == "kernel/" else b"\0\5\0\1not offered\0"
            self.assertTrue(answer.startswith(expected), (name, answer))
        self.assertEqual(self.curl(self.at("nothing"), code=68), b"")

    def test_nothing_is_taken(self) -> None:
        self.assertEqual(self.ask(b"\0\2kernel\0octet\0")[0], b"\0\5\0\2nothing is taken here\0")
        self.curl("--upload-file", "/etc/hostname", self.at("kernel"), code=69)
        self.assertEqual({one.outcome for one in self.until_heard(2)}, {"refused"})

    def test_options(self) -> None:
        answer, there = self.ask(self.request("kernel", blksize=1000, tsize=0, timeout=3, windowsize=4, unknown=1))
        self.assertEqual(answer, b"\0\6blksize\0001000\0timeout\0003\0windowsize\0004\0tsize\0001234567\0")
        self.assertNotEqual(there[1], self.tftp.port)  # another port for each transfer: its identifier
        for options, expected in (
            ({"blksize": 7}, b"\0\3\0\1"), ({"timeout": 0}, b"\0\3\0\1"), ({"blksize": 100_000}, b"\0\6blksize\00065464\0"),
            ({"windowsize": 0}, b"\0\3\0\1"), ({"windowsize": 5000}, b"\0\6windowsize\00064\0"), ({"tsize": 0}, b"\0\6tsize\0001234567\0"),
        ):  # fmt: skip
            self.assertTrue(self.ask(self.request("kernel", **options))[0].startswith(expected), options)

    def test_windows_and_losses(self) -> None:
        """Every seventh packet is lost, each way."""
        client, got, lost, last = self.client(), b"", 0, 0
        _, there = self.ask(self.request("kernel", blksize=1400, windowsize=8, timeout=1), client)
        client.sendto(b"\0\4\0\0", there)
        number = 0
        while True:
            data, _ = client.recvfrom(70_000)
            number += 1
            if number % 7 == 3 and number < 60:
                lost += 1
                continue
            block = int.from_bytes(data[2:4], "big")
            if data[:2] == b"\0\3" and block == last + 1:
                got += data[4:]
                last = block
                if len(data) < 1404 or last % 8 == 0:
                    client.sendto(struct.pack("!HH", 4, last), there)
                if len(data) < 1404:
                    break
            elif block > last + 1:
                client.sendto(struct.pack("!HH", 4, last), there)  # RFC 7440: what came in order so far
        self.assertEqual(got, KERNEL)
        self.assertGreater(lost, 5)
        # Transfers that other tests left are heard of too.
        for _ in range(100):
            if ("sent", len(KERNEL)) in [(one.outcome, one.bytes) for one in self.heard]:
                break
            time.sleep(0.05)
        else:
            self.fail(str(self.heard))

    def test_acknowledgements_twice_send_nothing_twice(self) -> None:
        client = self.client()
        data, there = self.ask(self.request("kernel"), client)
        self.assertEqual(data[:4], b"\0\3\0\1")
        for _ in range(5):
            client.sendto(b"\0\4\0\1", there)
        self.assertEqual(client.recvfrom(2000)[0][:4], b"\0\3\0\2")
        client.settimeout(0.4)
        with self.assertRaises(TimeoutError):
            client.recvfrom(2000)
        client.sendto(b"\0\4\0\x09", there)  # of a block that was never sent
        with self.assertRaises(TimeoutError):
            client.recvfrom(2000)

    def test_a_client_that_begins_anew(self) -> None:
        client = self.client()
        _, there = self.ask(self.request("kernel"), client)
        self.assertEqual(
            self.ask(self.request("kernel", blksize=600), client)[1], there
        )  # nothing was acknowledged: sent again
        client.sendto(b"\0\4\0\1", there)
        client.recvfrom(2000)
        answer, again = self.ask(self.request("kernel", blksize=600), client)
        self.assertEqual(answer, b"\0\6blksize\000600\0")
        self.assertNotEqual(again, there)

    def test_a_stranger_ends_nothing(self) -> None:
        client, stranger = self.client(), self.client()
        _, there = self.ask(self.request("kernel", blksize=60_000), client)
        for packet in (b"\0\5\0\0stop\0", b"\0\4\0\5", b"", b"\xff" * 100):
            stranger.sendto(packet, there)
        client.sendto(b"\0\4\0\0", there)
        got = b""
        while True:
            data = client.recvfrom(70_000)[0]
            got += data[4:]
            client.sendto(b"\0\4" + data[2:4], there)
            if len(data) < 60_004:
                break
        self.assertEqual(got, KERNEL)

    def test_numbers_of_blocks_begin_again(self) -> None:
        large = random.Random(5).randbytes(8 * 66_000 + 3)
        self.files["large"] = OfferedFile.of(large)
        client, got = self.client(), bytearray()
        _, there = self.ask(self.request("large", blksize=8, windowsize=64), client)
        client.sendto(b"\0\4\0\0", there)
        blocks = 0
        while True:
            data = client.recvfrom(100)[0]
            self.assertEqual(int.from_bytes(data[2:4], "big"), (blocks + 1) & 0xFFFF)
            blocks += 1
            got += data[4:]
            if len(data) < 12 or blocks % 64 == 0:
                client.sendto(b"\0\4" + data[2:4], there)
            if len(data) < 12:
                break
        self.assertEqual(bytes(got), large)

    def test_a_client_that_is_gone(self) -> None:
        client = self.client()
        self.ask(self.request("full"), client)
        client.close()
        for _ in range(100):
            if ("full", "broken") in [(one.name, one.outcome) for one in self.heard]:
                return
            time.sleep(0.05)
        self.fail(str(self.heard))

    @settings(max_examples=60, deadline=None)
    @given(some.one_of(some.binary(max_size=60), some.binary(max_size=40).map(lambda data: b"\0\1" + data),
                       some.binary(max_size=40).map(lambda data: b"\0\1kernel\0octet\0" + data)))  # fmt: skip
    def test_packets_of_any_form(self, packet: bytes) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
            one.sendto(packet, ("127.0.0.1", self.tftp.port))
            if packet[:2] in (b"\0\3", b"\0\4", b"\0\5"):
                self.assertEqual(select.select([one], [], [], 0.02)[0], [])
        self.assertTrue(self.thread.is_alive())

    def test_after_all_of_that(self) -> None:
        self.assertEqual(self.curl(self.at("kernel")), KERNEL)


class Http(Served):
    def at(self, name: str) -> str:
        return f"http://127.0.0.1:{self.http.port}/{name}"

    def test_curl_gets_what_is_offered(self) -> None:
        self.assertEqual(self.curl(self.at("kernel")), KERNEL)
        self.assertEqual(self.curl(self.at("a/text"), self.at("empty"), self.at("a/text")), TEXT * 2)  # one connection
        self.assertEqual(self.curl(self.at("")).split(b"\n")[0], b"kernel")
        self.assertEqual(self.curl(self.at("odd%20name%C3%BF")), b"odd")

    def test_ranges(self) -> None:
        for word, expected in (("0-0", KERNEL[:1]), ("5-9", KERNEL[5:10]), ("1234560-", KERNEL[1234560:]), ("-7", KERNEL[-7:]),
                               ("1234566-99999999", KERNEL[-1:]), ("0-1,5-6", KERNEL)):  # fmt: skip
            self.assertEqual(self.curl("--range", word, self.at("kernel")), expected, word)
        for word in ("9999999-", "5-2", "-0"):
            self.curl("--fail", "--header", f"Range: bytes={word}", self.at("kernel"), code=22)
        part = self.write("part", KERNEL[:1_000_000])
        self.curl("--continue-at", "-", "--output", str(part), self.at("kernel"))
        self.assertEqual(part.read_bytes(), KERNEL)

    def test_a_range_of_another_file_is_the_whole(self) -> None:
        headers = self.curl("--head", self.at("kernel")).decode()
        self.assertIn("Accept-Ranges: bytes", headers)
        tag = f'"{hashlib.sha256(KERNEL).hexdigest()}"'
        self.assertIn(f"ETag: {tag}", headers)
        same = ["--range", "3-4", "--header", f"If-Range: {tag}", self.at("kernel")]
        self.assertEqual(self.curl(*same), KERNEL[3:5])
        self.assertEqual(self.curl("--range", "3-4", "--header", 'If-Range: "x"', self.at("kernel")), KERNEL)
        self.assertEqual(
            self.curl("--header", f"If-None-Match: {tag}", "--write-out", "%{http_code}", self.at("kernel")), b"304"
        )

    def test_nothing_else(self) -> None:
        # What other tests were sent may be heard of late: this one has a server of its own.
        heard: list[Request] = []
        table = Offered(self.files)
        own = HttpServer("127.0.0.1", 0, lambda: table, heard.append)
        own.start()
        self.addCleanup(own.server_close), self.addCleanup(own.shutdown)
        for name in ("none", "../../etc/passwd", "%2e%2e/%2e%2e/etc/passwd", "/etc/passwd", "a", "a/../kernel", "kernel%00"):
            self.curl("--fail", "--path-as-is", f"http://127.0.0.1:{own.port}/{name}", code=22)
        for method in ("PUT", "POST", "DELETE", "OPTIONS"):
            self.curl("--fail", "--request", method, f"http://127.0.0.1:{own.port}/kernel", code=22)
        self.assertEqual({one.outcome for one in heard}, {"unknown"})

    def test_clients_that_do_not_keep_to_the_rules(self) -> None:
        for data in (b"", b"\0" * 5000, b"GET\r\n\r\n", b"GET /kernel HTTP/9.9\r\n\r\n", b"GET " + b"/" * 100_000, b"\x16\x03\x01hello",
                     b"GET /kernel HTTP/1.1\r\nRange: bytes=" + b"9" * 5000 + b"-\r\n\r\n"):  # fmt: skip
            with socket.create_connection(("127.0.0.1", self.http.port)) as one, contextlib.suppress(OSError):
                one.sendall(data)
        silent = [socket.create_connection(("127.0.0.1", self.http.port)) for _ in range(30)]
        self.assertEqual(self.curl(self.at("a/text")), TEXT)  # those that say nothing keep nobody waiting
        for one in silent:
            one.close()

    def test_there_may_be_so_many_connections_and_no_more(self) -> None:
        many = [socket.create_connection(("127.0.0.1", self.http.port)) for _ in range(80)]
        time.sleep(0.3)
        closed = 0
        for one in many:
            one.settimeout(0.05)
            with contextlib.suppress(TimeoutError, ConnectionResetError):
                closed += one.recv(1) == b""
            one.close()
        self.assertGreaterEqual(closed, 10)
        time.sleep(0.5)
        self.assertEqual(self.curl(self.at("a/text")), TEXT)


class CommandLines(unittest.TestCase):
    def test_a_root_in_memory(self) -> None:
        line = 'root=PARTUUID=1 rootfstype=ext4 rootwait rw console=ttyS0,115200 note="a rw b" rooted=1 init=/bin/x -- root=2'
        self.assertEqual(in_memory(line, "/bin/x"), 'console=ttyS0,115200 note="a rw b" rooted=1 rdinit=/bin/x -- root=2')


class TheProgram(WorkspaceTest):
    """The built command with a product; its kernel is the stand-in, which says its command line and powers off."""

    built: str = ""

    @classmethod
    def setUpClass(cls) -> None:
        cls.place = str(new_folder())
        environment = {**os.environ, "YARRIK_CACHE": f"{cls.place}/cache"}
        subprocess.run([sys.executable, "-m", "yarrik", "demo", f"{cls.place}/w", "--product", "tide-office", "--no-boot"],
                       env=environment, check=True, capture_output=True)  # fmt: skip
        cls.built = f"{cls.place}/w"

    @classmethod
    def tearDownClass(cls) -> None:
        shutil.rmtree(cls.place, ignore_errors=True)

    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(self.built, self.folder / "office", symlinks=True)
        self.out = self.folder / "office/out/tide-office"

    def serve(self, *words: str) -> dict:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "yarrik", "serve", "tide-office", "--tftp", "0", "--http", "0", "--json", *words],
            cwd=self.folder / "office", env=self.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)  # fmt: skip
        assert self.process.stdout is not None and self.process.stderr is not None
        self.addCleanup(self.process.stdout.close), self.addCleanup(self.process.stderr.close)
        self.addCleanup(self.process.wait), self.addCleanup(self.process.kill)
        line = self.process.stdout.readline()
        self.assertTrue(line, "it ended")
        return json.loads(line)

    def get(self, found: dict, name: str) -> bytes:
        url = f"http://127.0.0.1:{found['http']}/{name}"
        return subprocess.run(["curl", "--silent", "--fail", url], capture_output=True, timeout=60, check=True).stdout

    def test_what_is_offered(self) -> None:
        found = self.serve()
        names = {one["name"]: one["about"] for one in found["files"]}
        self.assertEqual(names["kernel"], "/boot/bzImage")
        self.assertIn("tide-office.img", names)
        self.assertIn("SHA256SUMS", names)
        self.assertNotIn("build.json", names)  # how this build went: not of the manifest
        self.assertEqual(self.get(found, "tide-office.img"), (self.out / "tide-office.img").read_bytes())
        menu = self.get(found, "pxelinux.cfg/default").decode()
        self.assertRegex(menu, r"(?m)^  linux kernel$")
        self.assertIn(f"append {found['line']}", menu)
        # The archive holds what the image's root filesystem does.
        self.write("root.cpio", self.get(found, "root.cpio"))
        place = self.folder / "unpacked"
        place.mkdir()
        with (self.folder / "root.cpio").open("rb") as archive:
            subprocess.run(["cpio", "--extract", "--quiet"], cwd=place, stdin=archive, check=True, capture_output=True)
        listed = json.loads((self.out / "files.json").read_text())
        entries = {path.relative_to(place).as_posix() for path in place.rglob("*")}
        self.assertIn("sbin/init", entries)
        self.assertGreater(len(entries), 10)
        self.assertTrue(listed)
        self.process.send_signal(signal.SIGINT)
        self.process.wait(20)

    def test_the_emulators_own_network_boot(self) -> None:
        """Firmware of the emulator's network card asks for all of it by TFTP, then by HTTP; the kernel says what it was given."""
        found = self.serve("--root", "memory")
        self.assertIn("rdinit=/sbin/init", found["line"])
        for url in (f"tftp://10.0.2.2:{found['tftp']}/start.ipxe", f"http://10.0.2.2:{found['http']}/start.ipxe"):
            done = subprocess.run(
                ["qemu-system-x86_64", "-m", "256", "-display", "none", "-monitor", "none", "-serial", "stdio", "-boot", "n",
                 "-nodefaults", "-no-reboot", "-device", "virtio-net-pci,netdev=n", "-netdev", f"user,id=n,bootfile={url}"],
                stdin=subprocess.DEVNULL, capture_output=True, timeout=120, check=False)  # fmt: skip
            self.assertIn(f"command line: {found['line']} initrd=initramfs", done.stdout.decode("latin-1"), done.stderr)
        self.process.send_signal(signal.SIGINT)
        requests = [json.loads(line) for line in self.process.communicate(timeout=20)[0].splitlines()]
        sent = {(one["protocol"], one["name"].lstrip("/")): one["bytes"] for one in requests if one["outcome"] == "sent"}
        for protocol in ("tftp", "http"):
            self.assertGreater(sent[protocol, "initramfs"], 1_000_000)
            self.assertIn((protocol, "kernel"), sent)

    def test_a_build_beside_it(self) -> None:
        """What is new is offered from the next request on; what is no file of the product never is."""
        found = self.serve()
        before = self.get(found, "packages.json")
        (self.out / "packages.json").unlink()
        (self.out / "packages.json").symlink_to("/etc/passwd")
        self.assertEqual(self.get(found, "packages.json"), before)
        sums = self.out / "SHA256SUMS"
        text = sums.read_text()
        sums.unlink()
        digest = hashlib.sha256(b"new").hexdigest()
        self.write("office/out/tide-office/new.txt", b"new")
        sums.write_text(text + f"{digest}  new.txt\n{digest}  ../../yarrik.toml\n{digest}  /etc/passwd\n")
        self.assertEqual(self.get(found, "new.txt"), b"new")
        for name in ("packages.json", "../../yarrik.toml", "etc/passwd"):
            with self.assertRaises(subprocess.CalledProcessError, msg=name):
                self.get(found, name)
        image = self.out / "tide-office.img"
        image.unlink()
        image.write_bytes(bytes(1 << 20))
        self.assertTrue(self.get(found, "kernel"))  # the one before
        self.process.send_signal(signal.SIGINT)
        self.assertIn("BOOT-MENU-MISSING", self.process.communicate(timeout=20)[1])

    def test_what_cannot_be_served(self) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as taken:
            taken.bind(("127.0.0.1", 0))
            text = self.yarrik("serve", "tide-office", "--tftp", str(taken.getsockname()[1]), at=self.folder / "office", code=2)
        self.assertIn("error SERVE-PORT: TFTP cannot be served at 127.0.0.1", text)
        for address in ("192.0.2.77", "no address"):
            text = self.yarrik("serve", "tide-office", "--address", address, "--tftp", "0", at=self.folder / "office", code=2)
            self.assertIn("error SERVE-ADDRESS", text)
        self.assertIn("error FLASH-IMAGE", self.yarrik("serve", "nothing", at=self.folder / "office", code=2))
        text = self.yarrik("serve", "tide-office", "--tftp", "0", "--http", "0", "--seconds", "1", at=self.folder / "office")
        self.assertRegex(text, re.compile(r"^  kernel +/boot/bzImage$", re.M))
        self.assertIn("setenv serverip 127.0.0.1; pxe get; pxe boot", text)


if __name__ == "__main__":
    unittest.main()
