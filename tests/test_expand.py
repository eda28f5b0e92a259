"""What compressed archives expand to: in pieces, ahead of who reads, and never more than was asked for."""

import bz2
import gzip
import io
import lzma
import os
import random
import tarfile
import threading
import unittest
import zlib
from collections.abc import Iterator

import zstandard

from tests.support import FolderTest
from yarrik.cache import Store
from yarrik.errors import YarrikError
from yarrik.sources import Limits, unpack_archive
from yarrik.sources.expand import PIECE, ReadAhead, expanded

WAYS = {
    "gzip": gzip.compress,
    "bzip2": bz2.compress,
    "xz": lzma.compress,
    "Zstandard": zstandard.ZstdCompressor().compress,
}


def text(seed: int, size: int) -> bytes:
    chance = random.Random(seed)
    return b"".join(chance.choice((b"tide ", b"gauge ", b"harbour\n")) for _ in range(size // 6))[:size]


class EachWayOfCompressing(unittest.TestCase):
    def all_of(self, data: bytes) -> bytes:
        return b"".join(expanded(io.BytesIO(data)))

    def test_what_was_compressed_comes_out_in_pieces(self) -> None:
        plain = text(1, 2 * PIECE + 4321)
        for name, compress in WAYS.items():
            with self.subTest(name):
                pieces = list(expanded(io.BytesIO(compress(plain))))
                self.assertEqual(b"".join(pieces), plain)
                self.assertLessEqual(max(map(len, pieces)), PIECE)
        self.assertEqual(self.all_of(plain), plain)
        self.assertEqual(self.all_of(b""), b"")

    def test_streams_that_follow_each_other_are_one(self) -> None:
        for name, compress in WAYS.items():
            with self.subTest(name):
                self.assertEqual(self.all_of(compress(b"one ") + compress(b"") + compress(b"two")), b"one two")
                if name != "Zstandard":
                    self.assertEqual(self.all_of(compress(b"one ") + bytes(512) + compress(b"two") + bytes(9000)), b"one two")
                    self.assertEqual(self.all_of(compress(b"one") + b"not a stream"), b"one")

    def test_what_is_cut_off_or_changed_is_an_error(self) -> None:
        plain = text(2, 300_000)
        for name, compress in WAYS.items():
            whole = compress(plain)
            for end in (len(whole) // 2, len(whole) - 1):
                with self.subTest(name, end=end):
                    if name == "Zstandard":
                        self.assertLess(len(self.all_of(whole[:end])), len(plain))  # the archive in it is cut off then
                    else:
                        self.assertRaises((EOFError, ValueError), self.all_of, whole[:end])
            if name != "Zstandard":  # which has no check sum by itself
                changed = bytearray(whole)
                changed[len(whole) // 2] ^= 0x55
                with self.subTest(name):
                    self.assertRaises((OSError, ValueError, EOFError, zlib.error, lzma.LZMAError), self.all_of, bytes(changed))

    def test_damage_in_a_later_stream_is_an_error(self) -> None:
        plain = text(7, 300_000)
        for name, compress in WAYS.items():
            if name != "Zstandard":
                second = bytearray(compress(plain))
                second[len(second) // 2] ^= 0x55
                with self.subTest(name), self.assertRaises((OSError, ValueError, EOFError, zlib.error, lzma.LZMAError)):
                    self.all_of(compress(b"one") + bytes(second))

    def test_a_few_bytes_that_hold_a_great_deal_come_piece_by_piece(self) -> None:
        for name, compress in WAYS.items():
            with self.subTest(name):
                pieces = expanded(io.BytesIO(compress(bytes(6 * PIECE))))
                self.assertLessEqual(len(next(pieces)), PIECE)


class ReadAheadOfWhoAsks(unittest.TestCase):
    def reader(self, pieces: Iterator[bytes], most: int = 1000) -> ReadAhead:
        self.skipped = 0

        def passed(count: int) -> None:
            self.skipped += count

        found = ReadAhead(pieces, most, passed)
        self.addCleanup(found.close)
        return found

    def test_reading_and_skipping_over_the_edges_of_pieces(self) -> None:
        whole = text(3, 5000)
        chance = random.Random(4)
        for _ in range(50):
            cuts = sorted(chance.sample(range(1, 5000), 12))
            reader = self.reader(iter([whole[start:end] for start, end in zip([0, *cuts], [*cuts, 5000], strict=True)]))
            at = skipped = 0
            while at < 5000:
                self.assertEqual(reader.tell(), at)
                step = chance.randrange(0, 700)
                if chance.random() < 0.3:
                    reader.seek(at + step)
                    step = min(step, 5000 - at)
                    skipped += step
                else:
                    data = reader.read(step)
                    self.assertEqual(data, whole[at : at + step])
                    step = len(data)
                at += step
            self.assertEqual(reader.read(10), b"")
            self.assertEqual(self.skipped, skipped)
            reader.close()

    def test_a_length_that_lies_takes_no_memory(self) -> None:
        reader = self.reader(iter([bytes(5000)]))
        for count in (1001, 1 << 60, -1):
            with self.subTest(count):
                self.assertRaisesRegex(ValueError, "a header in it takes", reader.read, count)
        reader.read(10)
        self.assertRaisesRegex(ValueError, "leads back", reader.seek, 9)

    def test_an_error_comes_where_it_was_met(self) -> None:
        def pieces() -> Iterator[bytes]:
            yield b"good"
            raise OSError("the disk")

        reader = self.reader(pieces())
        self.assertEqual(reader.read(4), b"good")
        self.assertRaisesRegex(OSError, "the disk", reader.read, 1)
        self.assertEqual(reader.read(1), b"")

    def test_it_ends_with_who_reads(self) -> None:
        made = []

        def endless() -> Iterator[bytes]:
            while True:
                made.append(1)
                yield bytes(10)

        reader = self.reader(endless())
        reader.read(5)
        reader.close()
        self.assertLess(len(made), 20)
        self.assertNotIn("expand", [thread.name for thread in threading.enumerate() if not thread.daemon])


class ArchivesOfManyFiles(FolderTest):
    def archive(self, members: list[tuple[tarfile.TarInfo, bytes]]) -> str:
        with tarfile.open(self.folder / "a.tar.xz", "w:xz", preset=0) as tar:
            for info, data in members:
                info.size = len(data) if info.isreg() else 0
                tar.addfile(info, io.BytesIO(data))
        return "a.tar.xz"

    def member(self, name: str, kind: bytes = tarfile.REGTYPE, target: str = "", mode: int = 0o644) -> tarfile.TarInfo:
        info = tarfile.TarInfo(name)
        info.type, info.linkname, info.mode = kind, target, mode
        return info

    def test_it_is_the_tree_that_tar_lays_out(self) -> None:
        chance = random.Random(5)
        members = [(self.member(f"a/{number % 7}/{number}", mode=chance.choice((0o644, 0o755))), chance.randbytes(chance.randrange(3000)))
                   for number in range(1500)]  # fmt: skip
        members += [(self.member("a/large"), chance.randbytes(2 * PIECE + 17)), (self.member("a/empty"), b"")]
        members += [
            (self.member("a/same", tarfile.LNKTYPE, "a/3/3"), b""),
            (self.member("a/link", tarfile.SYMTYPE, "3/3"), b""),
        ]
        members += [(self.member("a/" + "long/" * 40 + "name"), b"long")]
        name = self.archive(members)
        store = Store(self.folder / "cache")
        tree = unpack_archive(self.folder / name, name, store)
        store.lay_out(tree, self.folder / "ours", writable=True)
        (self.folder / "theirs").mkdir()
        self.tool("tar", "-xf", self.folder / name, "-C", self.folder / "theirs", "--strip-components=1", "--no-same-owner")
        self.assertEqual(self.tool("diff", "-r", "--no-dereference", self.folder / "ours", self.folder / "theirs"), "")
        for path in sorted((self.folder / "theirs").rglob("*")):
            if path.is_file() and not path.is_symlink():
                ours = self.folder / "ours" / path.relative_to(self.folder / "theirs")
                self.assertEqual(bool(path.stat().st_mode & 0o100), bool(ours.stat().st_mode & 0o100), path)

    def test_the_last_of_two_members_of_a_name_counts(self) -> None:
        name = self.archive([
            (self.member("a/x"), b"first"), (self.member("a/hard", tarfile.LNKTYPE, "a/x"), b""), (self.member("a/x"), b"second"),
            (self.member("a/y"), b"file"), (self.member("a/y", tarfile.SYMTYPE, "x"), b""),
            (self.member("a/z", tarfile.SYMTYPE, "x"), b""), (self.member("a/z"), b"third"),
        ])  # fmt: skip
        store = Store(self.folder / "cache")
        found = unpack_archive(self.folder / name, name, store).by_path
        self.assertEqual([store.get_bytes(found[path].content) for path in ("x", "hard", "z")], [b"second", b"first", b"third"])
        self.assertEqual((found["y"].kind, found["y"].content), ("link", "x"))

    def test_files_with_holes(self) -> None:
        (self.folder / "a").mkdir()
        for number, places in enumerate(([0, 900_000], [300_000], [], [1 << 23])):
            with (self.folder / f"a/{number}").open("wb") as file:
                file.truncate((1 << 23) + 4096)
                for place in places:
                    file.seek(place)
                    file.write(text(number, 4096))
        (self.folder / "a/after").write_bytes(b"after")
        for form in ("gnu", "posix"):
            with self.subTest(form):
                self.tool("tar", "-cSf", self.folder / "a.tar", f"--format={form}", "--sort=name", "-C", self.folder, "a")
                self.assertLess((self.folder / "a.tar").stat().st_size, 1 << 20)
                store = Store(self.folder / "cache")
                tree = unpack_archive(self.folder / "a.tar", "a.tar", store)
                store.lay_out(tree, self.folder / form, writable=True)
                self.assertEqual(self.tool("diff", "-r", self.folder / form, self.folder / "a"), "")

    def test_what_lies_about_its_size(self) -> None:
        chance = random.Random(6)
        header = self.member("a/x")
        header.size = 1 << 32
        long_name = self.member("././@LongLink", b"L")
        long_name.size = 1 << 30
        for what, data, limits, words in (
            ("a file that goes on past the end", header.tobuf() + bytes(700), Limits(size=1 << 40), "ends in the middle"),
            ("a name of gigabytes", long_name.tobuf() + bytes(700), Limits(), "a header in it takes 1073741824 bytes"),
            ("more than the limit", header.tobuf() + bytes(700), Limits(size=1 << 20), "unpacks to more than 1.0 MiB"),
            ("a small file cut off", self.member("a/x").tobuf()[:124] + b"%011o\0" % 4000 + self.member("a/x").tobuf()[136:], Limits(), ""),
            ("nothing at all", b"", Limits(), ""),
            ("noise", chance.randbytes(4096), Limits(), ""),
        ):  # fmt: skip
            (self.folder / "b.tar.gz").write_bytes(gzip.compress(data))
            with self.subTest(what), self.assertRaises(YarrikError) as caught:
                unpack_archive(self.folder / "b.tar.gz", "b.tar.gz", Store(self.folder / "cache"), limits)
            self.assertIn(words, str(caught.exception.troubles[0].what))

    def test_a_full_disk_is_told_and_no_thread_stays(self) -> None:
        name = self.archive([(self.member(f"a/{number}"), os.urandom(50)) for number in range(2000)])
        store = Store(self.folder / "cache")
        store.put_bytes(b"")

        def full(data: bytes, target: str) -> None:
            raise OSError(28, "No space left on device")

        store._place = full  # type: ignore[method-assign]
        before = {thread.name for thread in threading.enumerate()}
        with self.assertRaisesRegex(YarrikError, "No space left"):
            unpack_archive(self.folder / name, name, store)
        self.assertEqual({thread.name for thread in threading.enumerate()} - before, set())


if __name__ == "__main__":
    unittest.main()
