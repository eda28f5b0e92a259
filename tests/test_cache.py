"""Trees, the store, and the memory of a workspace."""

import contextlib
import functools
import hashlib
import itertools
import os
import random
import shutil
import socket
import sqlite3
import threading
import time
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from tests.support import FolderTest
from yarrik.cache import (
    Cost,
    Entry,
    LastRun,
    Memory,
    Result,
    Store,
    Tree,
    TreeDamaged,
    changed_paths,
    file_digest,
    read_tree,
    safe_relative,
)
from yarrik.cache.memory import _FORM
from yarrik.cache.store import STILL_TIME
from yarrik.cache.tree import MANY, SHORT, by_threads
from yarrik.errors import YarrikError
from yarrik.locks import held
from yarrik.moving import copy_sparse


class TreesAreValues(FolderTest):
    def test_a_tree_survives_being_stored_with_names_of_any_bytes(self) -> None:
        (self.folder / "t").mkdir()
        name = os.fsdecode(b"new\nline \xff\xfe")
        (self.folder / "t" / name).write_bytes(b"x")
        (self.folder / "t" / "link").symlink_to(name)
        tree = read_tree(self.folder / "t")
        self.assertEqual(Tree.decode(tree.encoded), tree)
        self.assertEqual(tree.by_path["link"].content, name)

    def test_the_digest_follows_content_and_mode_but_not_times(self) -> None:
        file = self.write("t/a", "one")
        first = read_tree(self.folder / "t").digest
        os.utime(file, (1, 1))
        self.assertEqual(read_tree(self.folder / "t").digest, first)
        file.chmod(0o755)
        self.assertNotEqual(read_tree(self.folder / "t").digest, first)

    def test_hostile_stored_trees_are_refused(self) -> None:
        def encoded(*entries: Entry) -> bytes:
            return Tree(entries).encoded

        file = "0" * 64
        for data in (
            b"nonsense",
            encoded(Entry("../x", "file", 0o644, 1, file)),
            encoded(Entry("/x", "file", 0o644, 1, file)),
            encoded(Entry("a//x", "file", 0o644, 1, file)),
            encoded(Entry("x", "file", 0o644, 1, "short")),
            encoded(Entry("a/../x", "file", 0o644, 1, file)),
            encoded(Entry("a/.", "folder", 0o755, 0, "")),
            encoded(Entry("", "file", 0o644, 1, file)),
            encoded(Entry("x", "link", 0o777, 1, "/etc"), Entry("x/passwd", "file", 0o644, 1, file)),
            encoded(
                Entry("x", "link", 0o777, 1, "/etc"),
                Entry("x/a", "folder", 0o755, 0, ""),
                Entry("x/a/b", "file", 0o644, 1, file),
            ),
            encoded(Entry("x", "file", 0o644, 1, file)).replace(b"f\0" + b"644", b"f\0" + b"+644"),
            encoded(Entry("x", "file", 0o644, 1, file)).replace(b"f\0", b"c\0", 1),
            encoded(Entry("x", "file", 0o644, 1, file))[:-3] + b"\0",
        ):
            with self.assertRaises(TreeDamaged, msg=data):
                Tree.decode(data)

    def test_digests_of_files_of_any_length(self) -> None:
        for size in (0, 1, SHORT - 1, SHORT, SHORT + 1, 3 * SHORT):
            data = os.urandom(size)
            (self.folder / "file").write_bytes(data)
            self.assertEqual(file_digest(self.folder / "file"), hashlib.sha256(data).hexdigest())

    def test_many_are_read_by_several_threads_and_stay_in_their_order(self) -> None:
        count = 3 * MANY + 1
        threads = set()

        def work(number: int) -> int:
            threads.add(threading.current_thread())
            time.sleep(0.001)  # so that no thread is through before the others begin
            return number * number

        self.assertEqual(by_threads(work, range(count)), [number * number for number in range(count)])
        self.assertGreater(len(threads), 1)
        with self.assertRaises(ZeroDivisionError):
            by_threads(lambda number: 1 // (number - count + 1), range(count))

    def test_paths_that_lead_out_are_told_from_names_with_dots(self) -> None:
        for words in itertools.product(("", ".", "..", "...", ".a", "a\n", "..\n"), repeat=3):
            path = "/".join(words)
            leads_out = any(word in ("", ".", "..") for word in words)
            self.assertEqual(safe_relative(path), not leads_out, path)

    def test_what_is_no_file_folder_or_link_is_told(self) -> None:
        os.mkfifo(self.folder / "pipe")
        with self.assertRaises(YarrikError):
            read_tree(self.folder)

    def test_changes_are_named(self) -> None:
        before = Tree.of([Entry("a", "file", 0o644, 1, "1" * 64), Entry("b", "file", 0o644, 1, "1" * 64)])
        after = Tree.of([Entry("a", "file", 0o644, 1, "2" * 64), Entry("c", "file", 0o644, 1, "1" * 64)])
        self.assertEqual(changed_paths(before, after), ["a", "b", "c"])

    def test_a_part_of_a_tree_keeps_the_way_to_it(self) -> None:
        tree = Tree.of([Entry("usr", "folder", 0o755, 0, ""), Entry("usr/bin", "folder", 0o755, 0, ""),
                        Entry("usr/lib", "folder", 0o755, 0, ""), Entry("usr/lib/x", "link", 0o777, 1, "y")])  # fmt: skip
        self.assertEqual([entry.path for entry in tree.below("usr/lib").entries], ["usr", "usr/lib", "usr/lib/x"])


class TheStoreKeeps(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = Store(self.folder / "store")

    def snapshot(self) -> Tree:
        self.write("in/tool", "#!/bin/sh\n").chmod(0o755)
        self.write("in/deep/data", "text")
        (self.folder / "in/link").symlink_to("tool")
        return self.store.snapshot(self.folder / "in")

    def test_a_tree_comes_out_as_it_went_in(self) -> None:
        tree = self.snapshot()
        for writable in (True, False):
            out = self.folder / f"out-{writable}"
            self.store.lay_out(self.store.tree(tree.digest), out, writable)
            self.assertEqual((out / "deep/data").read_text(), "text")
            self.assertTrue(os.access(out / "tool", os.X_OK))
            self.assertFalse((out / "deep/data").stat().st_mode & 0o111)
            self.assertEqual(os.readlink(out / "link"), "tool")
        self.assertEqual(read_tree(self.folder / "out-True"), tree)

    def test_writing_to_a_writable_copy_leaves_the_store_alone(self) -> None:
        tree = self.snapshot()
        self.store.lay_out(tree, self.folder / "out", writable=True)
        (self.folder / "out/deep/data").write_text("changed")
        self.assertEqual(self.store.get_bytes(tree.by_path["deep/data"].content), b"text")

    def test_read_only_copies_share_the_store_s_bytes(self) -> None:
        tree = self.snapshot()
        self.store.lay_out(tree, self.folder / "out", writable=False)
        self.assertEqual((self.folder / "out/deep/data").stat().st_ino,
                         self.store.object_path(tree.by_path["deep/data"].content).stat().st_ino)  # fmt: skip

    def test_a_result_is_there_only_while_all_that_it_names_is(self) -> None:
        digest = self.store.put_bytes(b"output")
        self.store.put_result("f" * 64, Result({"file": digest}, ("note",), "", 1.5))
        self.assertEqual(self.store.result("f" * 64).notes, ("note",))
        self.store.object_path(digest).unlink()
        self.assertIsNone(self.store.result("f" * 64))
        self.assertIsNone(self.store.result("e" * 64))

    def test_what_killed_builds_left_goes_after_a_day_and_what_others_have_there_stays(self) -> None:
        ours = [f"{'0a' * 8}-17", "yarrik-ab_d1234"]
        theirs = ["letter", "tmpab12cd34", "yarrik-notes", f"{'0a' * 8}-x"]
        for name in (*ours, *theirs):
            self.write(f"store/tmp/{name}", "text")
        self.write("store/tmp/yarrik-folder12/kept", "text")
        later = time.time() + 2 * 86400
        with mock.patch("yarrik.cache.store.time.time", return_value=later):
            self.store.put_bytes(b"")
        self.assertEqual(
            sorted(path.name for path in (self.folder / "store/tmp").iterdir()), sorted([*theirs, "yarrik-folder12"])
        )

    def test_nothing_half_written_is_left_when_reading_fails(self) -> None:
        self.store.put_bytes(b"")
        with self.assertRaises(OSError):  # reading goes wrong after the new file was begun
            self.store.put_file(Path("/proc/self/mem"))
        self.assertEqual(list((self.folder / "store/tmp").iterdir()), [])

    def test_holes_stay_holes(self) -> None:
        sparse = self.folder / "sparse"
        with sparse.open("wb") as file:
            file.seek(1 << 30)
            file.write(b"end")
        copy_sparse(sparse, self.folder / "copy")
        status = (self.folder / "copy").stat()
        self.assertEqual(status.st_size, (1 << 30) + 3)
        self.assertLess(status.st_blocks * 512, 1 << 20)
        with (self.folder / "copy").open("rb") as file:
            file.seek(1 << 30)
            self.assertEqual(file.read(), b"end")

    def test_what_was_just_moved_in_is_known_to_be_whole_until_something_is_done_to_it(self) -> None:
        def moved_in() -> tuple[str, Path]:
            (self.folder / "image").write_bytes(bytes(100_000))
            digest = self.store.put_file(self.folder / "image", move=True)
            return digest, self.store.object_path(digest)

        def damaged(path: Path) -> None:
            """As a failing disk, or somebody who hides it, would leave it: with the same size and times."""
            path.chmod(0o644)
            path.write_bytes(b"x" * 100_000)
            path.chmod(0o444)
            os.utime(path, (STILL_TIME, STILL_TIME))

        def replaced(path: Path) -> None:
            shutil.copy2(path, self.folder / "other")
            os.replace(self.folder / "other", path)

        def linked(path: Path) -> None:
            path.rename(self.folder / "away")
            path.symlink_to(self.folder / "away")

        digest, path = moved_in()
        self.assertTrue(self.store.has_just_read(digest))
        self.assertFalse(Store(self.store.root).has_just_read(digest), "another process's")
        self.assertFalse(self.store.has_just_read("0" * 64))
        for change in (damaged, replaced, linked, Path.unlink):
            with self.subTest(change.__name__):
                digest, path = moved_in()
                self.assertTrue(self.store.has_just_read(digest))
                time.sleep(0.05)  # the file system's clock may tick 100 times a second
                change(path)
                self.assertFalse(self.store.has_just_read(digest))
        (self.folder / "kept").write_bytes(b"copied")
        self.assertFalse(self.store.has_just_read(self.store.put_file(self.folder / "kept")))

    def test_an_unwritable_folder_is_told_with_a_way_out(self) -> None:
        self.write("file", "")
        with self.assertRaises(YarrikError) as caught:
            Store(self.folder / "file" / "store").put_bytes(b"")
        self.assertIn("YARRIK_CACHE", caught.exception.troubles[0].remedy)


class AMemoryThatWasDamaged(FolderTest):
    """A disk, or a program, that wrote into its file: each row is as it was kept, or is not there."""

    TRIES = int(os.environ.get("TRIES", "300"))

    def setUp(self) -> None:
        super().setUp()
        self.source = self.write("source", "text")
        os.utime(self.source, (1, 1))
        memory = Memory(self.folder / "whole")
        digest = memory.digest_of(self.source)
        for number in range(40):
            steps = {f"file {name}": hashlib.sha256(name.encode()).hexdigest() for name in "abc"}
            memory.remember("p", f"step {number}", LastRun.of(f"{number:064x}", {"part": "value"}, steps))
            memory.took("p", f"step {number}", Cost(number / 7, number << 20, number))
        memory.learn("found out", b"value")
        memory.documents("rules")
        memory.keep_documents({f"/s/{name}": ("1 2 3 4", name.encode() * 300) for name in "abcdefgh"})
        self.kept = self.all_of(memory)
        memory.close()
        self.assertEqual([len(part) for part in self.kept], [1, 40, 40, 1, 8])
        self.assertEqual(self.kept[0], {str(self.source): digest})

    @staticmethod
    def all_of(memory: Memory) -> list[dict[str, object]]:
        """What a build asks of it."""
        found = {} if (value := memory.fact("found out")) is None else {"found out": value}
        digests = {path: digest for path, (_, digest) in memory._digests.items()}
        return [digests, dict(memory.last_runs("p")), dict(memory.costs("p")), dict(found), dict(memory.documents("rules"))]

    def damaged(self, chance: random.Random, whole: bytes) -> bytes:
        data = bytearray(whole)
        for _ in range(chance.choice((1, 1, 1, 8))):
            at, size = chance.randrange(len(data)), chance.choice((1, 1, 2, 16, 512))
            size = min(size, len(data) - at)
            other = chance.randrange(len(data) - size + 1)
            data[at : at + size] = chance.choice((
                bytes(byte ^ 1 << chance.randrange(8) for byte in data[at : at + size]), bytes(size), b"\xff" * size,
                chance.randbytes(size), data[other : other + size],
            ))  # fmt: skip
        return bytes(data[: chance.randrange(len(data))] if chance.random() < 0.05 else data)

    def test_in_any_way(self) -> None:
        whole = (self.folder / "whole").read_bytes()
        lost = 0
        for number in range(self.TRIES):
            file = self.folder / "memory"
            file.write_bytes(self.damaged(random.Random(number), whole))
            with self.subTest(number):
                memory = Memory(file)
                for kept, found in zip(self.kept, self.all_of(memory), strict=True):
                    self.assertLessEqual(found.items(), kept.items())
                    lost += len(found) < len(kept)
                self.assertLessEqual(set(memory.kept_outputs().get("p", ())), {digest for run in self.kept[1].values()
                                                                                for digest in run.outputs.values()})  # fmt: skip
                run, cost = LastRun.of("f" * 64, {}, {"file": "0" * 64}), Cost(1.5, 1, 1)
                memory.remember("p", "step 1", run)
                memory.took("p", "step 1", cost)
                memory.learn("found out", b"more")
                memory.digest_of(self.source)
                memory.close()
                again = Memory(file)
                # In a damaged tree a row is now and then put elsewhere than it is looked for, and the older one is found.
                self.assertIn(again.last_runs("p", ["step 1"]).get("step 1"), (run, None, self.kept[1]["step 1"]))
                self.assertIn(again.costs("p", ["step 1"]).get("step 1"), (cost, None, self.kept[2]["step 1"]))
                self.assertIn(again.fact("found out"), (b"more", None, self.kept[3]["found out"]))
                again.close()
            for name in ("memory", "memory-wal", "memory-shm"):
                (self.folder / name).unlink(missing_ok=True)
        self.assertGreater(lost, self.TRIES / 20, "hardly any try damaged a row")

    def test_what_is_no_file_is_taken_away_and_not_followed(self) -> None:
        file = self.folder / "memory"
        victim = self.folder / "of others"
        with contextlib.closing(sqlite3.connect(self.folder / "database")) as database:
            database.execute("create table theirs (x)")
        contents = {"text": b"not ours\n", "empty": b"", "database": (self.folder / "database").read_bytes()}
        kinds: dict[str, Callable[[Path], None]] = {
            "pipe": os.mkfifo, "link to nothing": lambda path: path.symlink_to("/nowhere/at all"),
            "loop": lambda path: path.symlink_to(path.name), "socket": lambda path: socket.socket(socket.AF_UNIX).bind(str(path)),
            **{what: lambda path: path.symlink_to(victim) for what in contents},
        }  # fmt: skip
        for suffix in ("", "-wal", "-shm"):
            for kind, make in kinds.items():
                with self.subTest(kind, suffix=suffix):
                    victim.write_bytes(contents.get(kind, b""))
                    if suffix:
                        file.write_bytes((self.folder / "whole").read_bytes())
                    make(Path(f"{file}{suffix}"))
                    memory = Memory(file)
                    memory.learn("a", b"1")
                    self.assertEqual(memory.fact("a"), b"1")
                    memory.close()
                    self.assertTrue(file.is_file() and not file.is_symlink())
                    self.assertEqual(victim.read_bytes(), contents.get(kind, b""))
                    self.assertEqual([path.name for path in self.folder.glob("of others*")], ["of others"])
                    file.unlink()

    def test_one_that_cannot_be_opened_is_told_and_nothing_is_lost(self) -> None:
        file = self.folder / "memory"
        for name in ("memory", "memory-wal"):
            self.write(f"{name}/kept", "not ours")
            with self.assertRaisesRegex(IsADirectoryError, f"{name}'"):
                Memory(file)
            self.assertEqual((self.folder / name / "kept").read_text(), "not ours")
            shutil.rmtree(self.folder / name)
        with mock.patch("sqlite3.connect", side_effect=sqlite3.OperationalError("unable to open database file")) as asked:
            error = asked.side_effect
            error.sqlite_errorcode = sqlite3.SQLITE_CANTOPEN
            with self.assertRaisesRegex(OSError, "unable to open database file"):
                Memory(file)

    def test_one_that_others_hold_for_long_takes_nothing_and_stops_nobody(self) -> None:
        connect = functools.partial(sqlite3.connect)
        with mock.patch("sqlite3.connect", lambda file, **more: connect(file, **{**more, "timeout": 0.05})):
            memory = Memory(self.folder / "whole")
            with contextlib.closing(connect(self.folder / "whole", isolation_level=None)) as other:
                other.execute("begin exclusive")
                memory.learn("found out", b"more")
                self.assertEqual(memory.fact("found out"), b"value")
                other.execute("rollback")
            memory.learn("found out", b"more")
            self.assertEqual(memory.fact("found out"), b"more")
            memory.close()

    def test_text_that_is_none_and_values_of_another_type_are_not_believed(self) -> None:
        whole = (self.folder / "whole").read_bytes()
        changes = {
            "update digests set digest = cast(x'61ff' as text)": 0, "update digests set digest = cast(digest as blob)": 0,
            "update digests set status = 5": 0, "update digests set seal = 'x'": 0,
            "update runs set fingerprint = cast(fingerprint as blob)": 1, "update runs set outputs = cast(outputs as text)": 1,
            "update runs set step = cast(x'80' as text) where step = 'step 3'": 1, "update runs set parts = 1.5": 1,
            "update durations set seconds = 'long'": 2, "update durations set seconds = seconds + 1": 2,
            "update durations set bytes = x'00'": 2, "update durations set seconds = 9e999": 2,
            "update facts set value = 'value' where name = 'found out'": 3, "update facts set seal = seal + 1": 3,
            "update documents set mark = 7": 4, "update documents set content = x'ff' || content": 4,
        }  # fmt: skip
        for change, part in changes.items():
            with self.subTest(change):
                file = self.folder / "memory"
                file.write_bytes(whole)
                with contextlib.closing(sqlite3.connect(file, isolation_level=None)) as database:
                    database.execute(change)
                memory = Memory(file)
                found = self.all_of(memory)
                self.assertLess(len(found[part]), len(self.kept[part]))
                for kept, left in zip(self.kept, found, strict=True):
                    self.assertLessEqual(left.items(), kept.items())
                memory.close()
                file.unlink()


class TheMemoryIsOnlyAnAid(FolderTest):
    def test_a_digest_is_read_again_when_the_file_changes(self) -> None:
        memory = Memory(self.folder / "m.sqlite")
        file = self.write("a", "one")
        os.utime(file, (1, 1))
        first = memory.digest_of(file)
        file.write_text("two")
        os.utime(file, (1, 1))  # same size and time: only the inode's change time tells
        self.assertNotEqual(memory.digest_of(file), first)

    def test_digests_of_settled_files_are_kept_and_those_of_fresh_ones_are_not(self) -> None:
        memory = Memory(self.folder / "m.sqlite")
        old, fresh = self.write("old", "x"), self.write("fresh", "x")
        os.utime(old, (1, 1))
        for file in (old, fresh):
            memory.digest_of(file)
        memory.close()
        self.assertEqual(set(Memory(self.folder / "m.sqlite")._digests), {str(old)})

    def test_a_memory_that_another_build_is_making_is_waited_for_and_kept(self) -> None:
        file = self.folder / "m.sqlite"
        begun = threading.Event()

        def other_build() -> None:
            with held(f"{file}.lock"):
                other = sqlite3.connect(file, isolation_level=None)
                other.execute("begin immediate")
                other.execute("create table made_by_the_other (x)")
                other.execute(f"pragma user_version = {_FORM}")
                begun.set()
                time.sleep(0.3)
                other.execute("commit")
                other.close()

        thread = threading.Thread(target=other_build)
        thread.start()
        begun.wait()
        Memory(file).close()
        thread.join()
        names = sqlite3.connect(file).execute("select name from sqlite_master").fetchall()
        self.assertIn(("made_by_the_other",), names)

    def test_a_file_that_is_no_memory_any_more_is_begun_anew(self) -> None:
        file = self.write("m.sqlite", "something else altogether\n" * 100)
        memory = Memory(file)
        memory.learn("a", b"1")
        self.assertEqual(memory.fact("a"), b"1")

    def test_names_that_are_no_text_do_not_hurt(self) -> None:
        memory = Memory(self.folder / "m.sqlite")
        file = Path(os.fsdecode(os.fsencode(self.folder) + b"/\xff"))
        file.write_text("x")
        os.utime(file, (1, 1))
        memory.digest_of(file)
        memory.save_digests()
        self.assertEqual(len(Memory(self.folder / "m.sqlite")._digests), 1)


if __name__ == "__main__":
    unittest.main()
