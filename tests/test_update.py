"""Updates: bundles made and applied, by Yarrik and by the board's own program; refused ones; power cuts at any moment."""

import fcntl
import io
import os
import random
import shutil
import struct
import subprocess
import tempfile
import threading
import tracemalloc
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import ClassVar

import numpy as np
import zstandard
from msgspec.structs import replace

from tests.support import new_folder
from tests.updates import cut_server
from yarrik.boot.environment import decode_environment
from yarrik.boot.slots import STATE_SECTOR, SlotState, read_slots, stored_state
from yarrik.errors import Damaged, Unfit
from yarrik.manifest.signing import ImageKey, armoured, signature_blob
from yarrik.manifest.signing import sign as signed
from yarrik.update.applying import Disk, apply_update, check_update, confirm
from yarrik.update.bundle_form import Description, open_bundle, read_index
from yarrik.update.chunks import LONGEST, SHORTEST, cut
from yarrik.update.making import make_bundle

ROOT = Path(__file__).parent.parent
AGENT = ROOT / "src/yarrik/demo/data/shelves/harbour/recipes/updater/src"
SANITIZERS = "-O1 -g -fsanitize=address,undefined -fno-sanitize-recover=all"
ABOUT = Description("gauge", "kittiwake", "1.1", 0, 0, b"", "1.0")


def some_bytes(seed: int, size: int) -> np.ndarray:
    """Bytes like those of a filesystem: text, noise and holes."""
    chance = np.random.default_rng(seed)
    parts = []
    while sum(map(len, parts)) < size:
        length = int(chance.integers(1, 40)) * 4096
        kind = int(chance.integers(0, 3))
        words = [b"tide ", b"harbour ", b"level %d\n" % seed, b"\0\1\2"]
        text = b"".join(words[int(one)] for one in chance.integers(0, 4, length // 4))[:length]
        parts.append([np.zeros(length, np.uint8), chance.integers(0, 256, length).astype(np.uint8),
                      np.frombuffer(text.ljust(length, b"."), np.uint8)][kind])  # fmt: skip
    return np.concatenate(parts)[:size]


class Cuts(unittest.TestCase):
    def test_the_same_bytes_are_cut_alike_wherever_they_are(self) -> None:
        data = np.random.default_rng(1).integers(0, 256, 3 << 20).astype(np.uint8)
        ends = cut(data)
        lengths = np.diff([0, *ends])
        self.assertEqual(ends[-1], len(data))
        self.assertTrue(all(SHORTEST <= one <= LONGEST for one in lengths[:-1]))
        self.assertTrue(4 << 10 < lengths.mean() < 16 << 10, lengths.mean())
        known = {bytes(data[begin:end]) for begin, end in zip([0, *ends], ends, strict=False)}
        for before in (1, 4095, 70_001):
            moved = np.concatenate([np.full(before, 7, np.uint8), data])
            again = cut(moved)
            same = sum(bytes(moved[begin:end]) in known for begin, end in zip([0, *again], again, strict=False))
            self.assertGreater(same, 0.95 * len(ends))
        self.assertEqual(cut(data[:0]), [])
        self.assertEqual(cut(data[:5]), [5])
        self.assertEqual(cut(np.zeros(LONGEST + 1, np.uint8))[-1], LONGEST + 1)


class Board:
    """Two slots and their state on a disk in memory; what was written since the last time it settled is lost with the power."""

    def __init__(self, size: int, old: np.ndarray) -> None:
        self.size = size
        self.bytes = bytearray(2 * STATE_SECTOR + 2 * size)
        self.bytes[1024 : 1024 + len(old)] = old.tobytes()
        self.waiting: list[tuple[int, bytes]] = []
        self.left: int | None = None
        self.writes = 0

    def read(self, at: int, length: int) -> bytes:
        data = bytearray(self.bytes[at : at + length])
        for begin, part in self.waiting:
            first, last = max(at, begin), min(at + length, begin + len(part))
            if first < last:
                data[first - at : last - at] = part[first - begin : last - begin]
        return bytes(data)

    def write(self, at: int, data: bytes) -> None:
        self._step()
        self.writes += 1
        self.waiting.append((at, data))

    def settle(self) -> None:
        self._step()
        for at, data in self.waiting:
            self.bytes[at : at + len(data)] = data
        self.waiting = []

    def _step(self) -> None:
        if self.left is not None:
            self.left -= 1
            if self.left < 0:
                raise PowerCut

    def cut(self, chance: random.Random) -> None:
        """Of what was on its way any sectors have arrived, in any order; the one that was being written may be torn."""
        for at, data in self.waiting:
            for start in range(0, len(data), STATE_SECTOR):
                if chance.random() < 0.5:
                    part = data[start : start + STATE_SECTOR]
                    self.bytes[at + start : at + start + len(part)] = part
        if self.waiting and chance.random() < 0.3:
            at, data = self.waiting[-1]
            self.bytes[at : at + 100] = data[:100]
        self.waiting, self.left = [], None

    def disk(self) -> Disk:
        from yarrik.boot.slots import SlotPlace, Slots

        slots = Slots("gauge", "kittiwake", "1.0", 1, 3, (SlotPlace("a", 2), SlotPlace("b", 3)))
        return Disk(self, slots, {"a": (1024, self.size), "b": (1024 + self.size, self.size)}, 0)

    def slot(self, name: str) -> bytes:
        begin = 1024 if name == "a" else 1024 + self.size
        return bytes(self.bytes[begin : begin + self.size])


class PowerCut(Exception):
    pass


class Key:
    """A key pair in OpenSSH's files, made once."""

    def __init__(self, folder: Path) -> None:
        self.file = folder / "key"
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "release", "-f", self.file], check=True)
        self.public: ImageKey = signed(b"", self.file, str)[1]

    def __call__(self, text: bytes) -> bytes:
        return signature_blob(signed(text, self.file, str)[0])


class KeyTest(unittest.TestCase):
    folder: ClassVar[Path]
    key: ClassVar[Key]

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = new_folder()
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        cls.key = Key(cls.folder)

    def made(self, old: np.ndarray | None, new: np.ndarray, about: Description = ABOUT) -> bytes:
        file = io.BytesIO()
        made = make_bundle(old, new, about if old is not None else replace(about, start=""), self.key, file)
        self.assertEqual(made.bundle, len(file.getvalue()))
        self.assertEqual(made.copied + made.new + made.zero, len(new))
        return file.getvalue()

    @contextmanager
    def opened(self, bundle: bytes, size: int) -> Iterator[tuple]:
        file = io.BytesIO(bundle)
        opened = open_bundle(file)
        pieces = read_index(opened.index_of(file), opened.description, size)

        def body(at: int, length: int) -> bytes:
            file.seek(opened.body + at)
            return file.read(length)

        yield opened, pieces, body


class BundlesMakeTheNewSlot(KeyTest):
    def changed(self, old: np.ndarray, chance: random.Random) -> np.ndarray:
        """What a build may have done to a slot: bytes that changed, blocks that moved, others that came or went."""
        new = old.copy()
        for _ in range(chance.randint(1, 6)):
            at, length = chance.randrange(len(new) - 70_000), chance.choice((1, 37, 4096, 60_000))
            kind = chance.randrange(5)
            if kind == 0:
                new[at : at + length] ^= 0x5A
            elif kind == 1:
                new = np.concatenate([new[:at], some_bytes(chance.randrange(99), length), new[at:]])[: len(old)]
            elif kind == 2:
                new = np.concatenate([new[:at], new[at + length :], np.zeros(length, np.uint8)])
            elif kind == 3:
                new[at : at + length] = 0
            else:
                to = chance.randrange(len(new) - length)
                new[to : to + length] = new[at : at + length].copy()
        return new

    def test_of_any_change(self) -> None:
        for seed in range(40):
            chance = random.Random(seed)
            size = chance.choice((200_000, 1 << 20, (1 << 20) + 4096 + 17))
            old = some_bytes(seed, size)
            new = self.changed(old, chance)
            whole = seed % 5 == 0
            bundle = self.made(None if whole else old, new)
            self.assertEqual(bundle, self.made(None if whole else old, new))  # the same every time
            board = Board(size, old)
            with self.opened(bundle, size) as (opened, pieces, body):
                done = apply_update(board.disk(), opened.description, pieces, body)
            self.assertEqual((board.slot("b"), board.slot("a"), done.slot), (new.tobytes(), old.tobytes(), "b"), seed)
            self.assertEqual(board.disk().state(), SlotState("a", "b", 3))
            # Once more, with all of it right already: nothing is read of the bundle's body, and nothing written.
            writes = board.writes
            with self.opened(bundle, size) as (opened, pieces, _):
                again = apply_update(board.disk(), opened.description, pieces, lambda at, length: self.fail("it was read"))
            self.assertEqual(again.written, 0)
            self.assertLessEqual(board.writes - writes, 4)  # the state alone
            self.assertEqual(confirm(board.disk()), "b")
            self.assertEqual((board.disk().state(), confirm(board.disk())), (SlotState("b"), None))

    def test_a_small_change_gives_a_small_bundle(self) -> None:
        old = some_bytes(3, 8 << 20)
        new = old.copy()
        program = np.random.default_rng(7).integers(0, 256, 50_000).astype(np.uint8)
        new[1 << 20 : (1 << 20) + len(program)] = program
        self.assertLess(len(self.made(old, new)), len(program) + 0.02 * len(new))
        # Text that changed here and there is made of the old one.
        text = b"".join(b"level %d is %d mm\n" % (n, n * n % 4000) for n in range(20_000))
        before = np.frombuffer(text.ljust(1 << 20, b"\0"), np.uint8)
        after = np.frombuffer(text.replace(b"9 mm", b"8 mm").ljust(1 << 20, b"\0"), np.uint8)
        plain = len(zstandard.ZstdCompressor(level=19).compress(after.tobytes()))
        self.assertLess(len(self.made(before, after)), 0.7 * plain)

    def test_what_moved_needs_little_memory(self) -> None:
        old = np.random.default_rng(11).integers(0, 256, 48 << 20).astype(np.uint8)
        new = np.concatenate([np.full(4096, 9, np.uint8), old])
        file = io.BytesIO()
        tracemalloc.start()
        try:
            made = make_bundle(old, new, ABOUT, self.key, file)
            most = tracemalloc.get_traced_memory()[1]
        finally:
            tracemalloc.stop()
        self.assertEqual((made.copied, made.new), (len(old), 4096))
        self.assertLess(most, 24 << 20)

    def test_a_board_that_is_not_as_it_was_built(self) -> None:
        old = some_bytes(5, 1 << 20)
        new = self.changed(old, random.Random(5))
        bundle = self.made(old, new)
        other = old.copy()
        other[::4096] ^= 1
        board = Board(len(old), other)
        with self.opened(bundle, len(old)) as (opened, pieces, body), self.assertRaisesRegex(Damaged, "is not the system"):
            apply_update(board.disk(), opened.description, pieces, body)
        self.assertEqual((board.disk().running, board.slot("a")), ("a", other.tobytes()))
        self.assertEqual(board.disk().state(), SlotState("a"))  # and nothing is on trial

    def test_a_disk_that_keeps_something_else(self) -> None:
        class Forgetful(Board):
            def write(self, at: int, data: bytes) -> None:
                super().write(at, data if len(data) == STATE_SECTOR else data[:-1] + bytes([data[-1] ^ 1]))

        old = some_bytes(6, 1 << 20)
        board = Forgetful(len(old), old)
        with (
            self.opened(self.made(None, old), len(old)) as (opened, pieces, body),
            self.assertRaisesRegex(Damaged, "does not hold"),
        ):
            apply_update(board.disk(), opened.description, pieces, body)
        self.assertEqual(board.disk().state(), SlotState("a"))

    def test_who_is_refused(self) -> None:
        old = some_bytes(1, 1 << 16)
        slots = Board(len(old), old).disk().slots
        for about, trusted, why in (
            (ABOUT, [], "is none of the keys"),
            (replace(ABOUT, product="other"), [self.key.public], "it is for other on kittiwake"),
            (replace(ABOUT, board="dunlin"), [self.key.public], "on dunlin"),
            (replace(ABOUT, whole_disk=True), [self.key.public], "for a whole disk"),
            (replace(ABOUT, start="0.9"), [self.key.public], "starts from version 0.9"),
            (replace(ABOUT, start="", version="0.9.9"), [self.key.public], "not signed for going back"),
        ):
            with self.assertRaisesRegex(Unfit, why):
                check_update(about, self.key.public, trusted, slots)
        check_update(replace(ABOUT, start="", version="0.9", older=True), self.key.public, [self.key.public], slots)
        check_update(replace(ABOUT, start="1.0.0"), self.key.public, [self.key.public], slots)
        board = Board(len(old), old)
        board.disk().store(SlotState("a", "b", 2))
        with self.opened(self.made(None, old), len(old)) as (opened, pieces, body):
            with self.assertRaisesRegex(Unfit, "on trial itself"):
                apply_update(board.disk(), opened.description, pieces, body, running="b")
            with self.assertRaisesRegex(Unfit, "no slot `c`"):
                apply_update(board.disk(), opened.description, pieces, body, running="c")
            with self.assertRaisesRegex(Unfit, "bytes, and the slot"):
                apply_update(Board(1 << 15, old[: 1 << 15]).disk(), opened.description, pieces, body)

    def test_others_check_the_signature(self) -> None:
        bundle = self.made(None, some_bytes(1, 1 << 16))
        size = int.from_bytes(bundle[16:20], "little")
        text, blob = bundle[32 : 32 + size], bundle[32 + size : 32 + size + int.from_bytes(bundle[20:24], "little")]
        (self.folder / "text.sig").write_bytes(armoured(blob))
        (self.folder / "signers").write_text(f"release {(self.folder / 'key.pub').read_text()}")
        done = subprocess.run(
            ["ssh-keygen", "-Y", "verify", "-n", "file", "-I", "release", "-f", self.folder / "signers", "-s", self.folder / "text.sig"],
            input=text, capture_output=True, check=False)  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_changed_bundles_are_refused(self) -> None:
        old = some_bytes(8, 1 << 18)
        new = self.changed(old, random.Random(8))
        bundle = self.made(old, new)
        chance = random.Random(9)
        for number in range(600):
            data = bytearray(bundle)
            for _ in range(chance.randint(1, 3)):
                data[chance.randrange(len(data))] ^= 1 << chance.randrange(8)
            if number % 4 == 0:
                del data[chance.randrange(len(data)) :]
            if bytes(data) == bundle:
                continue
            board = Board(len(old), old)
            with self.assertRaises((Damaged, Unfit)), self.opened(bytes(data), len(old)) as (opened, pieces, body):
                check_update(opened.description, opened.signer, [self.key.public], board.disk().slots)
                apply_update(board.disk(), opened.description, pieces, body)
                raise AssertionError("it was accepted")
            self.assertIn(board.disk().state(), (None, SlotState("a")))


class WhatASystemSaysOfSlots(unittest.TestCase):
    GOOD = "product gauge\nboard kittiwake\nversion 1.0\nstate 1\ntries 3\nslot a 2\nslot b 3\nshared 4\n"

    def test_it_is_read_as_it_is_written(self) -> None:
        slots = read_slots(self.GOOD)
        self.assertEqual((slots.text(), [one.number for one in slots.places], slots.shared), (self.GOOD, [2, 3], (4,)))

    def test_what_cannot_be(self) -> None:
        for change in (("gauge", "../../gauge"), ("gauge", "a\x1b[2J"), ("kittiwake", ""), ("1.0", "1.0\nversion 2"), ("1.0", "v1"),
                       ("slot b 3", "slot b 2"), ("slot b 3", "slot B 3"), ("slot b 3", "slot b 1"), ("slot b 3", "slot b x"),
                       ("slot b 3\n", ""), ("state 1", "state 999"), ("state 1\n", ""), ("slot b 3", "slot b 3\n" * 9)):  # fmt: skip
            with self.assertRaises(Damaged, msg=change):
                read_slots(self.GOOD.replace(*change))

    def test_what_no_board_would_take_is_not_signed(self) -> None:
        for about in (replace(ABOUT, product="a\nboard b"), replace(ABOUT, board=""), replace(ABOUT, version="one")):
            with self.assertRaises(Damaged):
                make_bundle(None, some_bytes(1, 5000), about, lambda text: self.fail("it was signed"), io.BytesIO())


class PowerIsCut(KeyTest):
    def test_at_any_moment_a_whole_system_starts(self) -> None:
        """200 updates, each cut at one or more moments and begun again; before and after each, what the bootloader would choose."""
        old = some_bytes(11, 600_000)
        new = BundlesMakeTheNewSlot().changed(old, random.Random(4))
        bundle = self.made(old, new)
        whole = {old.tobytes(), new.tobytes()}
        cuts = 0
        for seed in range(200):
            chance = random.Random(seed)
            board = Board(len(old), old)
            board.bytes[1024 + len(old) :] = some_bytes(seed, len(old)).tobytes()  # whatever the slot held before
            for _ in range(chance.randint(1, 4)):
                board.left = chance.randrange(30)
                try:
                    with self.opened(bundle, len(old)) as (opened, pieces, body):
                        apply_update(board.disk(), opened.description, pieces, body)
                except PowerCut:
                    cuts += 1
                board.cut(chance)
                self.assertIn(self.started(board), whole, seed)
                if board.disk().state() is not None and board.disk().state().trial:  # type: ignore[union-attr]
                    break
            board.left = None
            with self.opened(bundle, len(old)) as (opened, pieces, body):
                apply_update(board.disk(), opened.description, pieces, body)
            self.assertEqual(self.started(board), new.tobytes(), seed)
            # The trial is decided while the power is cut as well.
            board.left = chance.randrange(5)
            try:
                confirm(board.disk())
            except PowerCut:
                cuts += 1
            board.cut(chance)
            self.assertIn(board.disk().state(), (SlotState("a", "b", 3), SlotState("b")))
        self.assertGreater(cuts, 200)

    def started(self, board: Board) -> bytes:
        """What the bootloader would start: the system on trial while it has starts left, else the one that works."""
        state = board.disk().state()
        if state is None:
            return board.slot("a")
        return board.slot(state.trial if state.trial and state.tries else state.slot)


class TheBoardsOwnProgram(KeyTest):
    """The C program, compiled for the build host under the sanitizers, against Yarrik's own reading of the same forms."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.source = cls.folder / "src"
        shutil.copytree(AGENT, cls.source)
        flags = SANITIZERS.split()
        parts = [
            str(cls.source / name)
            for name in ["apply.c", "bundle.c", "disk.c", "source.c", "zstd.c", "ed25519.c", "digest.c", "text.c", "hosted.c"]
        ]
        subprocess.run(
            ["cc", *flags, "-Wall", "-Wextra", "-Werror", "-o", cls.folder / "hosted", str(cls.source / "main.c"), *parts],
            check=True,
        )
        subprocess.run(
            ["cc", *flags, f"-I{cls.source}", "-o", cls.folder / "fuzz", ROOT / "tests/fuzz_updater.c", *parts], check=True
        )
        cls.slots = cls.folder / "slots.conf"
        cls.slots.write_text("product gauge\nboard kittiwake\nversion 1.0\nstate 1\ntries 3\nslot a 2\nslot b 3\nshared 4\n")

    def disk(self, old: np.ndarray, table: str = "gpt") -> Path:
        """A disk with a state and two slots, as sfdisk writes its table."""
        file = self.folder / "disk.img"
        size = len(old) // 512 + 1
        with file.open("wb") as out:
            out.truncate((8192 + 2 * size) * 512 + (1 << 20))
        places = [(2048, 2048), (4096, size), (4096 + size, size)]
        rows = "\n".join(f"start={start}, size={sectors}" for start, sectors in places)
        subprocess.run(["sfdisk", "-q", file], input=f"label: {table}\n{rows}\n", text=True, check=True)
        with file.open("r+b") as out:
            out.seek(4096 * 512)
            out.write(old.tobytes())
        self.begins = [start * 512 for start, _ in places]
        return file

    def run_it(self, *words: object, code: int = 0, disk: Path | None = None) -> str:
        done = subprocess.run(
            [str(self.folder / "hosted"), "--disk", str(disk or self.folder / "disk.img"), "--slots", str(self.slots), "--keys",
             str(self.folder / "key.pub"), *map(str, words)], capture_output=True, text=True, check=False)  # fmt: skip
        self.assertEqual(done.returncode, code, done.stderr[-2000:])
        self.assertNotIn("Sanitizer", done.stderr)
        return done.stderr

    def bundle(self, data: bytes) -> Path:
        file = self.folder / "bundle"
        file.write_bytes(data)
        return file

    def test_it_writes_what_yarrik_writes(self) -> None:
        for seed in range(6):
            old = some_bytes(seed, (1 << 20) + 512 * seed)
            new = BundlesMakeTheNewSlot().changed(old, random.Random(seed))
            bundle = self.bundle(self.made(old if seed else None, new))
            disk = self.disk(old, "dos" if seed == 3 else "gpt")
            with disk.open("r+b") as file:
                before = file.read()
            said = self.run_it("apply", bundle)
            self.assertIn("the slot b is tried at the next start", said)
            after = disk.read_bytes()
            begin = self.begins[2]
            self.assertEqual(after[begin : begin + len(new)], new.tobytes(), seed)
            self.assertEqual(
                after[: self.begins[0]] + after[self.begins[1] : begin],
                before[: self.begins[0]] + before[self.begins[1] : begin],
            )
            sector = after[self.begins[0] : self.begins[0] + 512]
            self.assertEqual(sector, SlotState("a", "b", 3).encoded())
            self.assertIn("0 bytes written", self.run_it("apply", bundle))
            self.assertIn("the slot b is on trial, 3 starts are left", self.run_it("status"))
            self.assertIn("the slot b is confirmed", self.run_it("confirm"))
            self.assertEqual(disk.read_bytes()[self.begins[0] :][:512], SlotState("b").encoded())
            self.assertIn("no system is on trial", self.run_it("confirm"))

    def test_states_of_bootloaders_with_redundant_environments(self) -> None:
        old = some_bytes(1, 1 << 18)
        disk = self.disk(old)
        with disk.open("r+b") as file:
            file.seek(self.begins[0])
            file.write(SlotState("a").encoded(with_flag=True) * 2)
        self.run_it("apply", self.bundle(self.made(None, old)))
        both = disk.read_bytes()[self.begins[0] :][:1024]
        settings, flag = decode_environment(both[:512], redundant=True)
        self.assertEqual((settings, flag), ({"slot": "a", "trial": "b", "tries": "3"}, 1))
        self.assertEqual(stored_state(both[:512], both[512:]), (SlotState("a", "b", 3), True, True))
        # A torn first copy: the second one counts, and is not replaced before the first one is whole.
        with disk.open("r+b") as file:
            file.seek(self.begins[0])
            file.write(b"torn")
        self.assertIn("runs in the slot a", self.run_it("status"))
        self.run_it("apply", self.folder / "bundle")
        first, second = (disk.read_bytes()[self.begins[0] + copy * 512 :][:512] for copy in (0, 1))
        self.assertEqual((first, second), (both[:512], both[512:]))

    def test_it_refuses_what_yarrik_refuses(self) -> None:
        old = some_bytes(2, 1 << 18)
        disk = self.disk(old)
        before = disk.read_bytes()
        other = Key(Path(tempfile.mkdtemp(dir=self.folder)))
        file = io.BytesIO()
        make_bundle(old, old, ABOUT, other, file)
        for data, why in (
            (file.getvalue(), "none of the board's keys signed"),
            (self.made(old, old, replace(ABOUT, product="other")), "is for other on kittiwake, and this is gauge"),
            (self.made(old, old, replace(ABOUT, board="dunlin")), "on dunlin"),
            (self.made(old, old, replace(ABOUT, start="0.9")), "starts from version 0.9, and 1.0 is running"),
            (self.made(None, old, replace(ABOUT, version="0.10")), "not signed for going back"),
            (self.made(None, np.concatenate([old, old])), "bytes, and the slot b has"),
            (b"tide" * 100, "no update of this form"),
            (self.made(None, old, replace(ABOUT, whole_disk=True)), "for a whole disk, and not for a slot"),
            (self.made(None, old)[:-5], "cut short"),
        ):  # fmt: skip
            self.assertIn(why, self.run_it("apply", self.bundle(data), code=1))
        self.assertEqual(before[: self.begins[2]], self.without_state(disk)[: self.begins[2]])
        self.run_it("apply", self.bundle(self.made(None, old, replace(ABOUT, version="0.10", older=True))))

    def without_state(self, disk: Path) -> bytes:
        data = bytearray(disk.read_bytes())
        data[self.begins[0] : self.begins[0] + 1024] = bytes(1024)
        return bytes(data)

    def test_a_system_that_is_on_trial_takes_no_update(self) -> None:
        old = some_bytes(2, 1 << 18)
        self.disk(old)
        bundle = self.bundle(self.made(None, old))
        self.run_it("apply", bundle)
        self.assertIn("is on trial itself", self.run_it("--running", "b", "apply", bundle, code=1))
        self.assertIn("no slot c", self.run_it("--running", "c", "apply", bundle, code=1))

    def test_an_installer_shows_all_on_a_display_too(self) -> None:
        screen = self.folder / "screen"
        screen.write_bytes(b"")
        bundle = self.bundle(self.made(None, some_bytes(2, 1 << 16), replace(ABOUT, whole_disk=True)))
        for words, why in (
            (("--board", "dunlin"), "the image is for kittiwake, and this is dunlin"),
            (("--board", "kittiwake"), "is no disk"),
        ):
            said = self.run_it("--screen", screen, *words, "install", bundle, code=1)
            self.assertIn(why, said)
            self.assertEqual(screen.read_text(), said)
            screen.write_bytes(b"")
        self.assertIn(
            "is no disk", self.run_it("--screen", self.folder / "none", "--board", "kittiwake", "install", bundle, code=1)
        )

    def test_one_update_at_a_time(self) -> None:
        old = some_bytes(2, 1 << 18)
        disk = self.disk(old)
        bundle = self.bundle(self.made(None, old))
        with disk.open("rb") as held:
            fcntl.flock(held, fcntl.LOCK_EX)
            self.assertIn("another update is under way", self.run_it("apply", bundle, code=1))
            self.assertIn("another update is under way", self.run_it("confirm", code=1))
            self.assertIn("runs in the slot a", self.run_it("status"))
        self.run_it("apply", bundle)

    def test_descriptions_of_slots_that_cannot_be(self) -> None:
        old = some_bytes(2, 1 << 18)
        self.disk(old)
        good = self.slots.read_text()
        try:
            for text in ("", "slot a 2\n", good.replace("slot b 3", "slot b 2"), good.replace("slot b 3", "slot a 3"), good + "slot c",
                         good.replace("state 1", "state 2"), good.replace("version 1.0", "version one"), good + "x" * 9000,
                         good.replace("slot b 3", "slot " + "b" * 40 + " 3"), good.replace("tries 3", "tries 10")):  # fmt: skip
                self.slots.write_text(text)
                self.assertRegex(self.run_it("status", code=1), "is damaged|cannot be read")
            self.slots.write_text(good.replace("slot b 3", "slot b 9"))
            self.assertIn("the disk has no partition 9", self.run_it("status", code=1))
        finally:
            self.slots.write_text(good)
        self.assertIn("updater apply", self.run_it("confirm", "now", code=2))

    def test_over_http_with_broken_lines(self) -> None:
        old = some_bytes(4, 1 << 20)
        new = BundlesMakeTheNewSlot().changed(old, random.Random(1))
        self.bundle(self.made(None, new))
        for breaks, ranges in ((0, True), (0, False), (20_000, True)):
            disk = self.disk(old)
            server = cut_server(self.folder, breaks, ranges)
            threading.Thread(target=server.serve_forever, daemon=True).start()
            try:
                address = f"http://127.0.0.1:{server.server_address[1]}/bundle"
                self.run_it("apply", address)
                self.assertEqual(disk.read_bytes()[self.begins[2] :][: len(new)], new.tobytes())
                asked = server.asked  # type: ignore[attr-defined]
                self.assertEqual(asked, sorted(asked))
                self.assertTrue(len(asked) > 5 if breaks else len(asked) == 1, asked)
                self.assertIn("the server has no such file", self.run_it("apply", address + "s", code=1))
            finally:
                server.shutdown(), server.server_close()
        self.assertIn("does not answer", self.run_it("apply", address, code=1))
        for wrong in ("http://tide/x", "http://1.2.3.4", "http://1.2.3.999/x", "http://1.2.3.4:0/x", "http://1.2.3.4/a b"):
            self.assertIn("error", self.run_it("apply", wrong, code=1))

    def test_frames_of_any_kind(self) -> None:
        chance = random.Random(3)
        rows = []
        for level in (-5, 1, 3, 6, 9, 12, 15, 19, 22):
            for seed in range(8):
                data = some_bytes(seed, chance.choice((1, 100, 5_000, 131_073, 229_376))).tobytes()
                if seed == 6:
                    data = bytes(chance.choices(b"abcdefgh", [64, 32, 16, 8, 4, 2, 1, 1], k=60_000))
                near = some_bytes(seed, 50_000).tobytes() if seed % 2 else b""
                words = zstandard.ZstdCompressionDict(near, zstandard.DICT_TYPE_RAWCONTENT) if near else None
                frame = zstandard.ZstdCompressor(
                    level=level, **({"dict_data": words, "write_dict_id": False} if words else {})
                ).compress(data)
                rows.append(struct.pack("<III", len(near), len(data), len(frame)) + near + data + frame)
        done = subprocess.run(
            [self.folder / "fuzz", "frames", "300", "1"], input=b"".join(rows), capture_output=True, check=False
        )
        self.assertEqual(done.returncode, 0, done.stderr[-2000:])
        self.assertRegex(done.stdout.decode(), rf"^{len(rows)} right, 0 wrong")

    def test_changed_updates_are_never_accepted(self) -> None:
        """The short form; `make power-cuts` tries 10,000."""
        fuzz_bundles(self, int(os.environ.get("YARRIK_CHANGED", "1500")))

    def test_versions_have_one_order(self) -> None:
        from yarrik.update.bundle_form import version_key

        old = some_bytes(2, 1 << 16)
        for running, brought in (
            ("1.0", "1"),
            ("1.9", "1.10"),
            ("1.10", "1.9"),
            ("2", "1.99.99.99"),
            ("1.0.1", "1.1"),
            ("3", "3.0.0.0"),
        ):
            self.slots.write_text(self.slots.read_text().replace("version 1.0\n", f"version {running}\n"))
            try:
                self.disk(old)
                lower = version_key(brought) < version_key(running)
                said = self.run_it("apply", self.bundle(self.made(None, old, replace(ABOUT, version=brought))), code=int(lower))
                self.assertEqual("going back" in said, lower)
            finally:
                self.slots.write_text(self.slots.read_text().replace(f"version {running}\n", "version 1.0\n"))
        for text in ("", "1.", ".1", "1..2", "1.2.3.4.5", "1.a", "1234567890", "v1"):
            with self.assertRaises(Damaged):
                version_key(text)


def fuzz_bundles(test: TheBoardsOwnProgram, count: int) -> None:
    old = some_bytes(7, 1 << 18)
    new = BundlesMakeTheNewSlot().changed(old, random.Random(2))
    test.disk(old)
    bundle = test.bundle(test.made(old, new))
    done = subprocess.run(
        [test.folder / "fuzz", "bundles", bundle, test.folder / "disk.img", test.slots, test.folder / "key.pub", str(count), "5"],
        capture_output=True, text=True, check=False)  # fmt: skip
    test.assertEqual((done.returncode, done.stdout), (0, f"0 accepted of {count}\n"), done.stderr[-2000:])


class TheProgramItself(unittest.TestCase):
    def test_it_is_small_and_of_nothing_else(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for compiler in ("cc", "aarch64-linux-gnu-gcc", "arm-linux-gnueabihf-gcc", "riscv64-linux-gnu-gcc"):
                if compiler != "cc" and shutil.which(compiler) is None:
                    self.fail(f"{compiler} is not installed")
                shutil.copytree(AGENT, Path(folder, compiler))
                done = subprocess.run(["make", "-s", "-C", Path(folder, compiler), f"CC={compiler}", "CFLAGS=-Os -Wall -Wextra"],
                                      capture_output=True, text=True, check=False)  # fmt: skip
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                program = Path(folder, compiler, "updater")
                self.assertLess(program.stat().st_size, 200 << 10)
                said = subprocess.run(["readelf", "-lW", program], capture_output=True, text=True, check=True).stdout
                self.assertNotIn("INTERP", said)
                self.assertNotIn("DYNAMIC", said)
                self.assertNotRegex(said, r"LOAD.* RWE ")


if __name__ == "__main__":
    unittest.main()
