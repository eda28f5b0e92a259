"""Updates on the emulated board, with the real bootloader and the real kernel: applied over the network and from a disk, cut off at
random moments, with systems that do not hold. `make power-cuts`."""

import json
import os
import random
import re
import shutil
import subprocess
import sys
import threading
import time
import unittest
from pathlib import Path
from typing import ClassVar

from tests.support import new_folder
from tests.updates import cut_server
from yarrik.boot import SlotState
from yarrik.disk import opened_bytes

ROOT = Path(__file__).parent.parent
#: The workspace of `make linux`, whose kernel is taken; and how many cuts there are.
WORKSPACE = Path(os.environ.get("YARRIK_BOARDS", "build/demo-linux")).absolute()
CUTS = int(os.environ.get("CUTS", "20"))
BOOTLOADER = "/usr/lib/u-boot/qemu_arm64/u-boot.bin"
PRODUCT = "gauge-kittiwake-slots"
UP = "tidelog: recording"


class Board:
    """The emulated board with a card, whose console is read; with a network port, where this machine is at 10.0.2.2, or with
    built-in storage in the port's place."""

    def __init__(self, card: Path, tree: Path, *storage: Path) -> None:
        self.text = ""
        port = ["-netdev", "user,id=port", "-device", "virtio-net-device,netdev=port"]
        disks = []
        # The last one is the bootloader's first.
        for number, disk in enumerate((*storage, card)):
            disks += [
                "-drive",
                f"file={disk},format=raw,if=none,id=disk{number}",
                "-device",
                f"virtio-blk-device,drive=disk{number}",
            ]
        self.process = subprocess.Popen(
            ["qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a53", "-m", "256", "-display", "none", "-monitor", "none",
             "-serial", "stdio", "-bios", BOOTLOADER, "-dtb", str(tree), *disks, *([] if storage else port)],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)  # fmt: skip
        self.seen = threading.Condition()
        self.reader = threading.Thread(target=self._read, daemon=True)
        self.reader.start()

    def _read(self) -> None:
        assert self.process.stdout is not None
        while data := os.read(self.process.stdout.fileno(), 4096):
            with self.seen:
                self.text += data.decode("utf-8", "replace")
                self.seen.notify_all()

    def wait(self, wanted: str, seconds: float = 90, after: int = 0) -> int:
        """Waits until the console says it behind `after` characters; where it ends."""
        end = time.monotonic() + seconds
        with self.seen:
            while (at := self.text.find(wanted, after)) < 0:
                if not self.seen.wait(max(0.0, end - time.monotonic())) and time.monotonic() > end:
                    raise AssertionError(f"`{wanted}` was not seen:\n{self.text[-3000:]}")
            return at + len(wanted)

    def type(self, line: str) -> int:
        """Types a line; how much was on the console before."""
        with self.seen:
            before = len(self.text)
        assert self.process.stdin is not None
        os.write(self.process.stdin.fileno(), line.encode() + b"\n")
        return before

    def cut(self) -> None:
        """Takes the power away: what the system has not written yet is lost."""
        self.process.kill()
        self.process.wait()
        self.reader.join()
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe is not None:
                pipe.close()


class OnTheBoard(unittest.TestCase):
    """The demo's workspace with a key that signs."""

    folder: ClassVar[Path]
    root: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = new_folder()
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        cls.root = cls.folder / "demo"
        shutil.copytree(WORKSPACE, cls.root, ignore=shutil.ignore_patterns("out", "shelves", "products"))
        for part in ("shelves", "products"):
            shutil.copytree(ROOT / "src/yarrik/demo/data" / part, cls.root / part)
        cls.yarrik("demo", cls.root, "--product", "tide-office", "--no-boot")
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", cls.folder / "key"], check=True)
        images = cls.root / "shelves/harbour/images"
        shutil.copy(cls.folder / "key.pub", images)
        for name in ("gauge-slots", "gauge-installer"):
            with (images / f"{name}.toml").open("a") as file:
                file.write('\n[[file]]\npath = "/etc/update-keys"\nfrom = "key.pub"\n')

    @classmethod
    def yarrik(cls, *words: str | Path) -> str:
        done = subprocess.run([sys.executable, "-m", "yarrik", *map(str, words)], cwd=cls.root if cls.root.exists() else ROOT,
                              capture_output=True, text=True, check=False, env={**os.environ, "PYTHONPATH": str(ROOT / "src")})  # fmt: skip
        if done.returncode:
            raise AssertionError(done.stdout + done.stderr)
        return done.stdout


class UpdatesOnTheBoard(OnTheBoard):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        images = cls.root / "shelves/harbour/images"
        cls.old = cls.built("1.0", "first")
        shutil.copy(cls.root / f"out/{PRODUCT}/kittiwake.dtb", cls.folder)
        cls.good = cls.updated("1.1", "second")
        # Its health check never does well.
        text = (images / "gauge-slots.toml").read_text()
        (images / "gauge-slots.toml").write_text(text.replace('"30", "/usr/bin/tide", "last"', '"3", "/usr/bin/tide", "never"'))
        cls.sick = cls.updated("1.2", "third")
        # Its init is none: the kernel panics.
        (images / "gauge-slots.toml").write_text(text)
        board = cls.root / "shelves/harbour/boards/kittiwake-slots.toml"
        board.write_text(board.read_text().replace('"panic=5"', '"panic=5", "init=/usr/bin/tide"'))
        cls.dead = cls.updated("1.3", "fourth")

    @classmethod
    def built(cls, version: str, name: str) -> Path:
        product = cls.root / f"products/{PRODUCT}.toml"
        product.write_text(re.sub("(?m)^version = .*", f'version = "{version}"', product.read_text()))
        image = cls.root / "shelves/harbour/images/tide-gauge.toml"
        image.write_text(re.sub('content = ".*pier', f'content = "{name} pier', image.read_text()))
        cls.yarrik("build", PRODUCT)
        kept = cls.folder / f"{version}.img"
        shutil.copy(cls.root / f"out/{PRODUCT}/{PRODUCT}.img", kept)
        return kept

    @classmethod
    def updated(cls, version: str, name: str) -> Path:
        image = cls.built(version, name)
        bundle = cls.folder / f"{version}.update"
        cls.yarrik("update", "make", cls.old, image, "--key", cls.folder / "key", "--to", bundle)
        return bundle

    def board(self, card: Path) -> Board:
        board = Board(card, self.folder / "kittiwake.dtb")
        self.addCleanup(board.cut)
        return board

    def card(self) -> Path:
        card = self.folder / f"card-{self.id()}.img"
        shutil.copy(self.old, card)
        self.addCleanup(card.unlink)
        return card

    def served(self, breaks: int = 0) -> int:
        server = cut_server(self.folder, breaks)
        self.addCleanup(server.server_close), self.addCleanup(server.shutdown)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        return int(server.server_address[1])

    def state(self, card: Path) -> SlotState:
        said = self.yarrik("update", "status", "--json", card)
        found = json.loads(said)
        return SlotState(found["works"], found["trial"], found["starts-left"])

    def running(self, board: Board, after: int) -> str:
        at = board.wait(UP, after=after)
        return board.text[after:at]

    def test_a_good_update_by_http_with_a_broken_line(self) -> None:
        card, port = self.card(), self.served(breaks=3000)
        board = self.board(card)
        board.wait(UP)
        at = board.type("cat /etc/port")
        board.wait("first pier", after=at)
        # Told something else than what is true, it writes over nothing.
        at = board.type(f"updater --running b apply http://10.0.2.2:{port}/1.1.update")
        board.wait("the root filesystem is not that of the slot b: nothing is written", after=at)
        at = board.type(f"updater apply http://10.0.2.2:{port}/1.1.update")
        board.wait("is tried at the next start", after=at)
        at = board.type("reboot")
        at = board.wait(UP, after=at)
        at = board.wait("updater: the slot b is confirmed", after=at)
        board.type("cat /etc/port")
        board.wait("second pier", after=at)
        at = board.type("updater status")
        board.wait("version 1.1 runs in the slot b", after=at)
        at = board.type(f"updater apply http://10.0.2.2:{port}/1.1.update")
        board.wait("starts from version 1.0, and 1.1 is running", after=at)
        at = board.type("sync; poweroff")
        board.wait("powering off", after=at)
        board.process.wait(20)
        self.assertEqual(self.state(card), SlotState("b"))
        self.assertIn("would reach init", self.yarrik("boot", "--bench", card))

    def falls_back(self, bundle: str, sign: str) -> None:
        """A system that does not hold: the board comes back to the old one, and nobody types anything."""
        card, port = self.card(), self.served()
        board = self.board(card)
        board.wait(UP)
        at = board.type(f"updater apply http://10.0.2.2:{port}/{bundle}")
        board.wait("is tried at the next start", after=at)
        at = board.type("reboot")
        for _ in range(3):
            at = board.wait(sign, 120, after=at)
        board.wait(UP, 120, after=at)
        begin = board.type("cat /etc/port")
        board.wait("first pier", after=begin)
        board.cut()
        self.assertEqual(self.state(card), SlotState("a", "b", 0))
        self.assertIn("`b` was tried and did not hold", self.yarrik("boot", "--bench", card))

    def test_a_system_whose_health_check_never_answers(self) -> None:
        self.falls_back("1.2.update", "the health check of the slot b does not answer")

    def test_a_system_that_panics(self) -> None:
        self.falls_back("1.3.update", "Kernel panic")

    def test_a_verified_slot_that_was_changed_is_left(self) -> None:
        """Somebody changes a byte of the new system's init after it was read back: the kernel refuses it, and the board goes back."""
        card, port = self.card(), self.served()
        board = self.board(card)
        board.wait(UP)
        at = board.type(f"updater apply http://10.0.2.2:{port}/1.1.update")
        board.wait("is tried at the next start", after=at)
        at = board.type("sync; poweroff")
        board.wait("powering off", after=at)
        board.process.wait(20)
        with opened_bytes(card) as (file, image):
            part = next(one for one in image.partitions if one.name == "root-b")
            assert part.reader is not None
            init = next(one for one in part.reader.walk() if one.path == "/sbin/init")
            words = b"".join(part.reader.content(init))[4096:8192]
            file.seek(part.start)
            place = part.start + file.read(part.size).index(words)
        with card.open("r+b") as changed:
            changed.seek(place + 100)
            changed.write(bytes([words[100] ^ 0xFF]))
        said = subprocess.run([sys.executable, "-m", "yarrik", "boot", "--bench", str(card)], capture_output=True, text=True, check=False,
                              env={**os.environ, "PYTHONPATH": str(ROOT / "src")})  # fmt: skip
        self.assertIn("BOOT-VERITY", said.stderr)
        board = self.board(card)
        at = 0
        for _ in range(3):
            at = board.wait("is corrupted", 120, after=at)  # as the device-mapper says it
            at = board.wait("Starting kernel", 120, after=at)
        board.wait(UP, 120, after=at)
        begin = board.type("cat /etc/port")
        board.wait("first pier", after=begin)
        begin = board.type("updater status")
        board.wait("version 1.0 runs in the slot a", after=begin)
        board.cut()
        self.assertEqual(self.state(card), SlotState("a", "b", 0))

    def test_power_cuts(self) -> None:
        chance, card, port = random.Random(20), self.card(), self.served()
        came = {"first pier": 0, "second pier": 0}
        begun = None
        for number in range(CUTS):
            with self.subTest(cut=number):
                board = self.board(card)
                at = board.wait(UP, 120)
                at = board.type("cat /etc/port")
                end = board.wait(" pier", after=at)
                which = next(name for name in came if name in board.text[at:end])
                came[which] += 1
                if which == "second pier":
                    # The whole update went through between two cuts: begin anew with the old system.
                    board.cut()
                    shutil.copy(self.old, card)
                    continue
                # How long it takes is measured once, and the cuts are at any moment of it.
                at = board.type(f"updater apply http://10.0.2.2:{port}/1.1.update; reboot")
                started = time.monotonic()
                if begun is None:
                    board.wait("is tried at the next start", after=at)
                    begun = time.monotonic() - started
                    board.wait(UP, after=at)
                    begun = max(begun, 1.0)
                    board.cut()
                    shutil.copy(self.old, card)
                    continue
                time.sleep(chance.uniform(0, begun * 1.5))
                board.cut()
                self.assertIsNotNone(self.state(card))
                self.assertIn("would reach init", self.yarrik("boot", "--bench", card))
        self.assertEqual(sum(came.values()), CUTS)


class TheInstaller(OnTheBoard):
    """A card that writes the board's built-in storage: guards, power cuts, and what it leaves."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        for product in (PRODUCT, "gauge-installer"):
            cls.yarrik("build", product)
        cls.image = cls.root / f"out/{PRODUCT}/{PRODUCT}.img"
        cls.tree = cls.root / "out/gauge-installer/kittiwake.dtb"
        cls.stick = cls.folder / "stick.img"
        said = cls.yarrik("update", "medium", "gauge-installer", PRODUCT, "--key", cls.folder / "key", "--to", cls.stick)
        assert "installs gauge-kittiwake-slots 1.0 on kittiwake-slots" in said, said

    def storage(self, size: int = 128 << 20) -> Path:
        """Built-in storage with something on it."""
        file = self.folder / f"storage-{self.id()}.img"
        file.write_bytes(b"an old system" * 10_000)
        os.truncate(file, size)
        self.addCleanup(file.unlink, missing_ok=True)
        return file

    def board(self, *storage: Path) -> Board:
        card = self.folder / f"card-{self.id()}.img"
        shutil.copy(self.stick, card)
        board = Board(card, self.tree, *storage)
        self.addCleanup(board.cut)
        return board

    def assertInstalled(self, storage: Path) -> None:
        with storage.open("rb") as file:
            self.assertEqual(file.read(self.image.stat().st_size), self.image.read_bytes())
        self.assertIn("would reach init", self.yarrik("boot", "--bench", storage))

    def test_it_installs_and_the_board_starts_from_its_storage(self) -> None:
        storage = self.storage()
        board = self.board(storage)
        board.wait("goes to /dev/vdb, which has 128 MiB; all that is on it is lost")
        board.wait("updater: installed: gauge-kittiwake-slots, version 1.0, is on /dev/vdb", 120)
        board.cut()
        self.assertInstalled(storage)
        alone = Board(storage, self.root / f"out/{PRODUCT}/kittiwake.dtb")
        self.addCleanup(alone.cut)
        alone.wait(UP)

    def test_what_it_does_not_write_to(self) -> None:
        storage = self.storage(40 << 20)
        before = storage.read_bytes()
        board = self.board(storage)
        end = board.wait("it is not installed", 120)
        self.assertIn("the image has 89128960 bytes, and /dev/vdb 41943040", board.text[:end])
        install = "install partition:payload"
        for words, why in (
            (f"--board kittiwake-slots --disk /dev/vda {install}", "/dev/vda is the disk that this runs from"),
            (f"--board kittiwake-slots --disk /dev/vda1 {install}", "/dev/vda1 is a partition, and not a whole disk"),
            (f"--board kittiwake-slots --disk /etc/passwd {install}", "/etc/passwd is no disk"),
            (f"--board dunlin {install}", "the image is for kittiwake-slots, and this is dunlin"),
            ("--board kittiwake-slots install partition:spare", "the medium has no partition spare"),
            ("--board kittiwake-slots install partition:root-a", "no update of this form"),
            (install, "updater install SOURCE"),
        ):
            at = board.type(f"updater {words}")
            board.wait(why, 30, after=at)
        board.cut()
        self.assertEqual(storage.read_bytes(), before)

    def test_it_asks(self) -> None:
        storage = self.storage()
        board = self.board(storage)
        board.wait("installed: ", 120)
        for answer, said in (("/dev/vda", "that is not /dev/vdb: nothing was written"), ("/dev/vdb", "all read back")):
            at = board.type("updater --board kittiwake-slots --ask yes install partition:payload")
            board.wait("to begin, type /dev/vdb", 30, after=at)
            at = board.type(answer)
            board.wait(said, 60, after=at)

    def test_power_cuts(self) -> None:
        chance, storage = random.Random(6), self.storage()
        for _ in range(max(2, CUTS // 4)):
            board = self.board(storage)
            board.wait("all that is on it is lost", 120)
            time.sleep(chance.uniform(0, 0.8))
            board.cut()
            with storage.open("rb") as file:
                head = file.read(1024)
            # What is not whole has no partition table, so that nothing starts from it.
            if head[512:520] == b"EFI PART":
                self.assertInstalled(storage)
                storage.write_bytes(b"an old system" * 10_000)
                os.truncate(storage, 128 << 20)
        board = self.board(storage)
        board.wait("updater: installed: ", 120)
        board.cut()
        self.assertInstalled(storage)


if __name__ == "__main__":
    unittest.main()
