"""The cache looked after: what it holds, what may go, what is damaged."""

import os
import subprocess
import time
import unittest
from pathlib import Path
from unittest import mock

from tests.support import FolderTest, WorkspaceTest
from yarrik.cache import Entry, MissingObject, Result, Store, Tree, in_use
from yarrik.cache.upkeep import amounts, prune, reach, verify, work_kept
from yarrik.errors import YarrikError
from yarrik.run import Session
from yarrik.run.publishing import Publisher

DAY = 86400


class StoresArePruned(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = Store(self.folder / "cache")
        self.shared = self.store.put_bytes(b"shared" * 4000)
        self.age(Path(self.store.object_path(self.shared)))

    def age(self, path: Path, days: float = 1) -> None:
        os.utime(path, (time.time() - days * DAY,) * 2)

    def result(self, name: str, days: float, size: int = 100_000) -> tuple[str, str]:
        """A result with a tree of an own and a shared file, last used `days` days ago; its fingerprint and own digest."""
        own = self.store.put_bytes(name.encode() * (size // len(name)))
        entries = [Entry(path, "file", 0o644, 1, digest) for path, digest in (("own", own), ("shared", self.shared))]
        tree = self.store.put_tree(Tree.of(entries))
        fingerprint = name * 64
        self.store.put_result(fingerprint, Result({"files": tree}, seconds=60.0))
        self.age(self.store.root / "results" / fingerprint[:2] / fingerprint, days)
        return fingerprint, own

    def test_what_was_not_used_goes_with_all_that_only_it_needs(self) -> None:
        (old, old_file), (new, new_file) = self.result("a", 40), self.result("b", 3)
        self.assertEqual(work_kept(self.store), (2, 120.0))
        done = prune(self.store, unused_for=30 * DAY)
        self.assertEqual((done.results, done.files), (1, 2))  # its tree and its own file
        self.assertIsNone(self.store.result(old))
        self.assertFalse(self.store.has(old_file))
        self.assertIsNotNone(self.store.result(new))
        self.assertTrue(self.store.has(new_file) and self.store.has(self.shared))
        self.assertEqual(verify(self.store), [])

    def test_the_oldest_go_until_it_is_small_enough(self) -> None:
        for name, days in (("a", 1), ("b", 5), ("c", 3)):
            self.result(name, days)
        done = prune(self.store, keep=250_000)
        self.assertEqual(done.results, 1)
        self.assertIsNone(self.store.result("b" * 64))
        self.assertLess(done.left, 300_000)

    def test_a_result_that_is_used_becomes_young(self) -> None:
        fingerprint, _ = self.result("a", 40)
        self.store.mark_used([fingerprint, "0" * 64])
        self.assertEqual(prune(self.store, unused_for=30 * DAY).results, 0)

    def test_nothing_goes_while_a_build_runs(self) -> None:
        self.result("a", 40)
        with in_use(self.store), self.assertRaises(YarrikError) as caught:
            prune(self.store, unused_for=1)
        self.assertEqual(caught.exception.troubles[0].code, "CACHE-BUSY")
        self.assertEqual(prune(self.store, unused_for=1).results, 1)

    def test_what_was_just_written_stays_though_no_result_names_it_yet(self) -> None:
        fresh = self.store.put_bytes(b"a running build's")
        prune(self.store, keep=0)
        self.assertTrue(self.store.has(fresh))

    def test_sizes_are_those_on_the_disk(self) -> None:
        self.result("a", 1)
        found = amounts(self.store)
        self.assertEqual((found["objects"].files, found["trees"].files, found["results"].files), (2, 1, 1))
        tree = self.store.result("a" * 64).outputs["files"]
        self.assertEqual(sum(reach(self.store, [tree, tree]).values()), found["objects"].bytes + found["trees"].bytes)


class DamageIsFound(WorkspaceTest):
    def test_flipped_bytes_of_every_kind_are_found_taken_out_and_made_again(self) -> None:
        self.yarrik("build", at=self.root)
        image = (self.root / "out/p/p.img").read_bytes()
        cache = self.folder / "cache"
        for kind in ("objects", "trees", "results"):
            victim = max(
                (path for path in (cache / kind).rglob("*") if path.is_file()), key=lambda path: (path.stat().st_size, path)
            )
            victim.chmod(0o644)
            data = bytearray(victim.read_bytes())
            data[len(data) // 2] ^= 0x40
            data = data if kind != "results" else data[: len(data) // 2]
            victim.write_bytes(data)
            told = self.yarrik_json("cache", "verify", code=1, at=self.root)["damaged"]
            self.assertIn(str(victim), [one["file"] for one in told], kind)
            self.yarrik("build", at=self.root)
            self.assertEqual((self.root / "out/p/p.img").read_bytes(), image, kind)
            self.assertIn("are intact", self.yarrik("cache", "verify", at=self.root))

    def test_a_damaged_image_never_goes_out(self) -> None:
        self.yarrik("build", at=self.root)
        image = (self.root / "out/p/p.img").read_bytes()
        victim = max(
            (path for path in (self.folder / "cache/objects").rglob("*") if path.is_file()),
            key=lambda path: path.stat().st_size,
        )
        victim.chmod(0o644)
        data = bytearray(victim.read_bytes())
        data[len(data) // 2] ^= 1
        victim.write_bytes(data)
        (self.root / "out/p/p.img").unlink()
        told = self.yarrik("build", at=self.root)
        self.assertIn(f"the cache was damaged, and what was lost is made again: objects/{victim.name[:12]}", told)
        self.assertEqual((self.root / "out/p/p.img").read_bytes(), image)

    def test_nor_one_that_is_damaged_while_the_build_runs(self) -> None:
        """Its bytes are read again before they go out, unless nothing was done to the file since they were."""
        original = Publisher.publish
        damaged = []

        def publish(publisher: Publisher, *words: object) -> object:
            if not damaged:
                time.sleep(0.05)  # the file system's clock may tick 100 times a second
                objects = [path for path in (self.folder / "cache/objects").rglob("*") if path.is_file()]
                victim = max(objects, key=lambda path: path.stat().st_size)
                status = victim.stat()
                data = bytearray(victim.read_bytes())
                data[len(data) // 2] ^= 1
                victim.chmod(0o644)
                victim.write_bytes(data)
                victim.chmod(status.st_mode)
                os.utime(victim, ns=(status.st_atime_ns, status.st_mtime_ns))
                damaged.append(victim)
            return original(publisher, *words)  # type: ignore[arg-type]

        with (
            mock.patch.dict(os.environ, self.environment),
            mock.patch.object(Publisher, "publish", publish),
        ):
            session = Session(self.root)
            self.addCleanup(session.close)
            session.builder.build(session.planner.planned(session.planner.compose()))
        self.assertTrue(damaged)
        subprocess.run(["sha256sum", "--check", "--quiet", "SHA256SUMS"], cwd=self.root / "out/p", check=True)

    def test_a_disk_that_damages_everything_is_told_and_nothing_is_published(self) -> None:
        with (
            mock.patch.dict(os.environ, self.environment),
            mock.patch.object(Publisher, "publish", side_effect=MissingObject("0" * 64)),
        ):
            session = Session(self.root)
            self.addCleanup(session.close)
            with self.assertRaises(YarrikError) as caught:
                session.builder.build(session.planner.planned(session.planner.compose()))
        self.assertEqual(caught.exception.troubles[0].code, "CACHE-DAMAGED")
        self.assertIn("YARRIK_CACHE", caught.exception.troubles[0].remedy)

    def test_the_commands(self) -> None:
        self.yarrik("build", at=self.root)
        told = self.yarrik_json("cache", "status", at=self.root)
        self.assertGreater(told["products"]["p"], 10_000)
        self.assertGreater(told["results"], 10)
        self.assertEqual(self.yarrik_json("cache", "prune", "--unused", "30d")["results"], 0)
        self.assertEqual(self.yarrik_json("cache", "prune", "--keep", "0 MiB")["results"], told["results"])
        report = self.yarrik_json("build", at=self.root)
        self.assertGreater(len(self.ran(report)), 10)
        for words in ((), ("--keep", "much"), ("--unused", "long")):
            self.assertIn("error ", self.yarrik("cache", "prune", *words, code=2))


if __name__ == "__main__":
    unittest.main()
