"""Trees of every kind through all filesystems and archives: other people's programs accept them, and everything comes back
equal through their readers and through ours."""

import os
import random
import shutil
import subprocess
import unittest
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as some

from tests.support import FolderTest
from tests.trees import MARKS, NASTY, ROOT, Facts, facts_in_image, facts_on_disk
from yarrik.disk.filesystems import Wish
from yarrik.disk.opening import opened_image
from yarrik.disk.packing import pack_folder
from yarrik.identifiers import derived_guid
from yarrik.rootfs import read_folder

FORMS = ("ext4", "ext2", "squashfs", "cpio", "tar")
#: What a form cannot hold, so that it has to say so.
REFUSED = {"cpio": {"holes"}, "tar": {"holes"}, "squashfs": {"access_lists"}}
HUGE = ("/8-gib/", "/empty-1-gib/")
COMPRESSIONS = ("zstd", "xz", "gzip", "lz4")


class TreeTest(FolderTest):
    """Packs folders, and unpacks them with other people's programs."""

    maxDiff = None

    def wish(self, form: str, **more: object) -> Wish:
        return Wish(form, derived_guid("test", form), **more)  # type: ignore[arg-type]

    def pack(self, source: Path, form: str, **more: object) -> Path:
        image = self.folder / f"image.{form}"
        image.unlink(missing_ok=True)
        pack_folder(read_folder(source), image, self.wish(form, **more))
        return image

    def unpacked(self, image: Path, form: str) -> Path:
        """What somebody else's reader makes of it."""
        out = self.folder / "out"
        shutil.rmtree(out, ignore_errors=True)
        out.mkdir()
        if form in ("ext4", "ext2"):
            said = self.tool("e2fsck", "-fn", image)
            for line in said.splitlines():
                self.assertRegex(line, r"^e2fsck |^Pass \d: |^.*: \d+/\d+ files .* \d+/\d+ blocks$|^$", said)
            # It writes holes out as zeros: what is huge is looked at by itself.
            huge = [place for place in HUGE if place in self.tool("debugfs", "-R", "ls -p /", image)]
            for name in ("comb", "zeros") if huge else ("",):
                self.tool("debugfs", "-R", f"rdump /{name} {out}", image)
            shutil.rmtree(out / "lost+found", ignore_errors=True)
            if huge:
                self.assert_marks(image)
        elif form == "squashfs":
            self.tool("unsquashfs", "-no-progress", "-quiet", "-force", "-dest", out, image, ok=(0,) if ROOT else (0, 2))
        elif form == "cpio":
            with image.open("rb") as file:
                words = ["cpio", "-idm", "--no-absolute-filenames", "--quiet"]
                subprocess.run(words, stdin=file, cwd=out, check=True, capture_output=True)
        else:
            self.tool("tar", "--numeric-owner", "--xattrs", "--xattrs-include=*", "-xpf", image, "-C", out)
        return out

    def assert_marks(self, image: Path) -> None:
        """The blocks that somebody else's reader names hold what was written into the huge file, and there are few."""
        with image.open("rb") as file:
            for place in MARKS:
                block = int(self.tool("debugfs", "-R", f"bmap /8-gib {place // 4096}", image).splitlines()[0])
                file.seek(block * 4096 + place % 4096)
                self.assertEqual(file.read(4), b"mark", place)
        self.assertEqual(self.tool("debugfs", "-R", "bmap /8-gib 1000000", image).splitlines()[0], "0")
        self.assertRegex(self.tool("debugfs", "-R", "stat /8-gib", image), rf"Size: {8 << 30}\b")
        self.assertRegex(self.tool("debugfs", "-R", "stat /empty-1-gib", image), rf"Size: {1 << 30}\b[\s\S]*Blockcount: 0\b")

    def assert_comes_back(self, source: Path, wanted: dict[str, Facts], form: str, **more: object) -> None:
        image = self.pack(source, form, **more)
        with opened_image(image) as opened:
            reader = opened.partitions[0].reader
            self.assertIsNotNone(reader, opened.partitions[0].problem)
            assert reader is not None
            self.assert_equal(facts_in_image(reader), {path: kept(facts, form) for path, facts in wanted.items()}, "ours")
        theirs = facts_on_disk(self.unpacked(image, form))
        self.assert_equal(
            {path: theirs_keep(facts, form) for path, facts in theirs.items()},
            {path: theirs_keep(facts, form) for path, facts in wanted.items() if not_dumped(facts, form)},
            "theirs",
        )

    def assert_equal(self, found: dict[str, Facts], wanted: dict[str, Facts], whose: str) -> None:
        wrong = sorted(path for path in found.keys() | wanted.keys() if found.get(path) != wanted.get(path))
        self.assertEqual({path: (found.get(path), wanted.get(path)) for path in wrong[:3]}, {}, f"{whose}: {len(wrong)} differ")


def kept(facts: Facts, form: str) -> Facts:
    """What a form keeps of a path."""
    return facts._replace(attributes=()) if form == "cpio" else facts


def not_dumped(facts: Facts, form: str) -> bool:
    """debugfs writes out files, folders and links, and nothing else; what is huge is looked at otherwise."""
    return form not in ("ext4", "ext2") or (facts.kind in ("file", "folder", "link") and facts.size < 1 << 30)


def theirs_keep(facts: Facts, form: str) -> Facts:
    """What somebody else's program brings back to this machine's disk, be it able to or not to set all of it."""
    if form in ("ext4", "ext2"):
        # debugfs sets owners after modes, which takes some bits away again.
        facts = facts._replace(attributes=(), links=0, mode=facts.mode & 0o777)
        if facts.kind == "link":
            facts = facts._replace(modified=0, uid=0, gid=0)
    if form == "cpio":
        # It sets a folder's time before it fills it, and a link's not at all.
        facts = facts._replace(attributes=(), modified=facts.modified if facts.kind == "file" else 0)
    if not ROOT:
        facts = facts._replace(mode=facts.mode & 0o777, uid=0, gid=0, attributes=())
    return facts


class HoldingTest(TreeTest):
    def held(self, name: str) -> None:
        source = self.folder / name
        source.mkdir()
        NASTY[name](source)
        facts = facts_on_disk(source)
        compression = COMPRESSIONS[list(NASTY).index(name) % 4]
        for form in FORMS:
            with self.subTest(form=form):
                if form == "tar" and name in REFUSED["tar"]:
                    continue  # it would hold gigabytes of zeros: nothing is learnt from that
                if name in REFUSED.get(form, ()):
                    with self.assertRaises(ValueError):
                        self.pack(source, form)
                else:
                    self.assert_comes_back(source, facts, form, compression=compression if form == "squashfs" else "")


class EveryFormHoldsEveryTree(HoldingTest):
    def test_nothing(self) -> None:
        self.held("nothing")

    def test_plain(self) -> None:
        self.held("plain")

    def test_sizes_around_borders(self) -> None:
        self.held("sizes_around_borders")

    def test_longest_names(self) -> None:
        self.held("longest_names")

    def test_odd_names(self) -> None:
        self.held("odd_names")

    def test_forty_levels(self) -> None:
        self.held("forty_levels")

    def test_many_links(self) -> None:
        self.held("many_links")

    def test_many_folders(self) -> None:
        self.held("many_folders")

    def test_attributes(self) -> None:
        self.held("attributes")

    def test_access_lists(self) -> None:
        self.held("access_lists")

    def test_modes_owners_and_times(self) -> None:
        self.held("modes_owners_and_times")

    def test_devices(self) -> None:
        self.held("devices")

    def test_alike(self) -> None:
        self.held("alike")


# Each of these takes as long as all others together: classes of their own run side by side.
class EveryFormHoldsManyFiles(HoldingTest):
    def test_one_byte_files(self) -> None:
        self.held("one_byte_files")


class EveryFormHoldsALargeFolder(HoldingTest):
    def test_a_folder_of_5_000(self) -> None:
        self.held("a_folder_of_5_000")


class EveryFormHoldsLargeFiles(HoldingTest):
    def test_holes(self) -> None:
        self.held("holes")

    def test_large_files(self) -> None:
        self.held("large_files")


NAMES = some.binary(min_size=1, max_size=40).filter(lambda name: name not in (b".", b"..") and not set(name) & {0, 0x2F})
SIZES = some.one_of(
    some.integers(0, 300), some.sampled_from((4095, 4096, 4097, 131071, 131072, 131073)), some.integers(0, 400_000)
)
ENTRIES = some.tuples(
    some.lists(NAMES, min_size=1, max_size=5),
    some.sampled_from(("file", "file", "zeros", "folder", "link", "hard link", "fifo", "character")),
    SIZES,
    some.integers(0, 0o7777),
    some.integers(0, (1 << 32) - 2),
    some.integers(0, (1 << 32) - 1),
    some.dictionaries(some.from_regex(r"\A[a-z.]{1,20}\Z"), some.binary(max_size=300), max_size=3),
)


def grow(top: Path, entries: list) -> None:
    """Makes what a random tree asks for, as far as it can be."""
    files: list[Path] = []
    made: list[tuple[Path, int, int, int]] = []
    for words, kind, size, mode, owner, moment, attributes in entries:
        path = top
        for word in words[:-1]:
            path = path / os.fsdecode(word)
            if path.is_symlink() or (path.exists() and not path.is_dir()):
                break
            path.mkdir(exist_ok=True)
        else:
            path = path / os.fsdecode(words[-1])
            if os.path.lexists(path):
                continue
            if kind == "folder":
                path.mkdir()
            elif kind == "link":
                path.symlink_to(os.fsdecode((words[-1] * 200)[: size % 3000 + 1]))
            elif kind == "fifo":
                os.mkfifo(path)
            elif kind == "character" and ROOT:
                os.mknod(path, 0o020600, os.makedev(size % 4096, owner % (1 << 20)))
            elif kind == "hard link" and files:
                os.link(files[size % len(files)], path)
                continue
            else:
                path.write_bytes(bytes(size) if kind == "zeros" else random.Random(size).randbytes(size))
                files.append(path)
            if kind in ("file", "zeros", "folder"):
                for name, value in attributes.items():
                    os.setxattr(path, f"user.{name}", value)
            if not path.is_symlink():
                made.append((path, mode, owner, moment))
    for path, mode, owner, moment in reversed(made):
        if ROOT:
            os.chown(path, owner, owner ^ 0xFFFF)
        path.chmod(mode if ROOT else mode | 0o700)
        os.utime(path, (moment, moment))


class RandomTrees(TreeTest):
    @settings(max_examples=30, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
    @given(some.lists(ENTRIES, max_size=40), some.sampled_from(FORMS), some.sampled_from(COMPRESSIONS))
    def test_come_back_equal(self, entries: list, form: str, compression: str) -> None:
        shutil.rmtree(self.folder, ignore_errors=True)
        source = self.folder / "source"
        source.mkdir(parents=True)
        grow(source, entries)
        facts = facts_on_disk(source)
        for each in (form, "ext4", "squashfs"):
            self.assert_comes_back(source, facts, each, compression=compression if each == "squashfs" else "")


if __name__ == "__main__":
    unittest.main()
