"""A real kernel mounts each filesystem that we write: the one that `make demo-linux` built, in the emulator.

`make test-linux` runs it; it is not part of `make test`, since that kernel takes minutes to build."""

import hashlib
import os
import shutil
import stat
import subprocess
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import ClassVar

from tests.support import FolderTest, new_folder
from tests.trees import NASTY
from yarrik.disk.filesystems import Wish
from yarrik.disk.opening import opened_image
from yarrik.disk.packing import pack_folder
from yarrik.identifiers import derived_guid
from yarrik.rootfs import Node, RootTree, read_folder

KERNEL = Path(os.environ.get("YARRIK_TEST_KERNEL", "build/demo-linux/out/tide-gauge-linux/tide-gauge-linux.img"))
#: What is in every filesystem: small trees with all that is odd. A folder of many names has to be searched by hashes.
PARTS = ("plain", "sizes_around_borders", "odd_names", "longest_names", "many_links", "attributes", "modes_owners_and_times",
         "devices", "forty_levels")  # fmt: skip
GROWN = 80_000

Seen = tuple[str, int, int, int, int, str, str, str]


def below(top: Path) -> Iterator[Path]:
    """All paths below a folder, links as what they are: pathlib's own walk stumbles over those that lead too far."""
    for folder, folders, files in os.walk(top):
        for name in folders + files:
            yield Path(folder, name)


def seen_on_disk(top: Path, attributes: bool = True) -> dict[bytes, Seen]:
    """What the kernel of the test machine should tell of each path below a folder."""
    found: dict[bytes, Seen] = {}
    for path in below(top):
        status = path.lstat()
        file, link = stat.S_ISREG(status.st_mode), stat.S_ISLNK(status.st_mode)
        content = path.read_bytes() if file else os.fsencode(os.readlink(path)) if link else None
        digest = hashlib.sha256()
        names = sorted(os.listxattr(path, follow_symlinks=False)) if attributes else []
        for name in names:
            digest.update(name.encode() + b"\0" + os.getxattr(path, name, follow_symlinks=False))
        device = stat.S_ISCHR(status.st_mode) or stat.S_ISBLK(status.st_mode)
        found[os.fsencode("/" + str(path.relative_to(top)))] = (
            f"{status.st_mode:o}",
            status.st_uid,
            status.st_gid,
            status.st_size if file else 0,
            status.st_mtime_ns // 1_000_000_000,
            f"{os.major(status.st_rdev)}:{os.minor(status.st_rdev)}" if device else "0:0",
            hashlib.sha256(content).hexdigest() if content is not None else "-",
            digest.hexdigest() if names else "-",
        )
    return found


def kernel_image() -> bytes:
    """The kernel, out of the boot partition of the image that has it."""
    with opened_image(KERNEL) as opened:
        boot = next(part.reader for part in opened.partitions if part.reader and part.name == "boot")
        kernel = next(one for one in boot.walk() if one.path == "/Image")
        return b"".join(boot.content(kernel))


class AKernelReadsWhatWeWrite(FolderTest):
    lines: ClassVar[list[str]]
    top: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        cls.top = new_folder()
        cls.addClassCleanup(shutil.rmtree, cls.top, ignore_errors=True)
        source = cls.top / "source"
        source.mkdir()
        for name in PARTS:
            (source / name).mkdir()
            NASTY[name](source / name)
        (source / "many").mkdir()
        for number in range(3000):
            (source / f"many/an entry with number {number}").write_bytes(b"%d" % number)
        plain = cls.top / "plain"
        (plain / "Sub folder/DEEP").mkdir(parents=True)
        for number in range(200):
            (plain / f"Sub folder/A longer name, number {number}.txt").write_bytes(b"%d" % number * number)
        (plain / "Sub folder/DEEP/Ünïcödé.bin").write_bytes(bytes(range(256)) * 3000)
        cls.wanted, cls.wanted_plain = seen_on_disk(source), seen_on_disk(plain)
        tree = read_folder(source)
        plan = []
        cls.devices: dict[str, str] = {}

        def image(name: str, form: str, action: str = "read", size: str = "fit", **more: object) -> None:
            wish = Wish(form, derived_guid("kernel test", name), **more)  # type: ignore[arg-type]
            from_plain = read_folder(plain, all_root=True) if form in ("fat", "swap") else tree
            pack_folder(RootTree.of([]) if form == "swap" else from_plain, cls.top / name, wish, size)
            os.truncate(cls.top / name, max((cls.top / name).stat().st_size, GROWN * 4096 if action == "grow" else 0))
            device = f"vd{chr(ord('a') + len(cls.devices))}"
            cls.devices[name] = device
            more_words = f" {GROWN}" if action == "grow" else ""
            plan.append(f"{device} {'vfat' if form == 'fat' else form} {action}{more_words}")

        image("ext4", "ext4", "fill", "fit + 40%")
        image("ext4-full-tables", "ext4", "grow", "200 MiB", full_tables=True, reserved_percent=5)
        image("ext2", "ext2")
        for compression in ("zstd", "xz", "gzip", "lz4"):
            image(f"squashfs-{compression}", "squashfs", compression=compression)
        image("fat16", "fat")
        image("fat32", "fat", size="600 MiB")
        image("swap", "swap", "swap", "16 MiB")
        # The first programs of the machine, as an initramfs that we write: with the tree in it once more.
        first = cls.top / "first"
        first.mkdir()
        code = Path(__file__).parent / "kernel/init.c"
        words = ["aarch64-linux-gnu-gcc", "-O2", "-static", "-Wall", "-Werror", "-o", first / "init", code]
        subprocess.run(words, check=True, capture_output=True)
        (first / "plan").write_text("\n".join([*plan, "- - read"]) + "\n")
        nodes = [*read_folder(first).nodes, Node("/dev/console", "character", 0o600, device=(5, 1)),
                 Node("/proc", "folder", 0o755), Node("/mnt", "folder", 0o755)]  # fmt: skip
        nodes += [replace_path(node) for node in tree.nodes]
        pack_folder(RootTree.of(nodes), cls.top / "first.cpio", Wish("cpio", derived_guid("x"), compression="gzip"))
        (cls.top / "Image").write_bytes(kernel_image())
        emulator = ["qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a53", "-m", "1024", "-nographic", "-nic", "none", "-no-reboot",
                    "-kernel", cls.top / "Image", "-initrd", cls.top / "first.cpio", "-append", "console=ttyAMA0 panic=-1 quiet"]  # fmt: skip
        for name in cls.devices:
            emulator += [
                "-drive",
                f"file={cls.top / name},format=raw,if=none,id={name}",
                "-device",
                f"virtio-blk-pci,drive={name}",
            ]
        done = subprocess.run(emulator, stdin=subprocess.DEVNULL, capture_output=True, timeout=900, check=False)
        if done.returncode:
            raise AssertionError(done.stderr.decode("utf-8", "replace"))
        cls.lines = done.stdout.decode("utf-8", "replace").replace("\r", "").split("\n")

    def seen(self, device: str) -> dict[bytes, Seen]:
        found: dict[bytes, Seen] = {}
        for line in self.lines:
            words = line.split()
            if words[:2] == ["PATH", device]:
                path = bytes.fromhex(words[2])
                if path.split(b"/")[1] != b"lost+found":
                    numbers = [int(word) for word in words[4:8]]
                    found[path] = (words[3], *numbers, *words[8:])  # type: ignore[assignment]
        return found

    def assert_seen(self, device: str, wanted: dict[bytes, Seen]) -> None:
        found = self.seen(device)
        wrong = sorted(path for path in found.keys() | wanted.keys() if found.get(path) != wanted.get(path))
        self.assertEqual([(path, found.get(path), wanted.get(path)) for path in wrong[:3]], [], f"{len(wrong)} differ")

    def test_it_came_to_its_end_without_complaint(self) -> None:
        self.assertIn("ALL DONE", self.lines, "\n".join(self.lines[-20:]))
        self.assertEqual(
            [line for line in self.lines if line.startswith("BAD") or "EXT4-fs error" in line or "SQUASHFS error" in line], []
        )

    def test_ext4_is_read_and_written_until_it_is_full(self) -> None:
        self.assert_seen(self.devices["ext4"], self.wanted)
        filled = [line.split() for line in self.lines if line.startswith(f"FILLED {self.devices['ext4']} ")]
        self.assertEqual([(words[3], int(words[2]) > 4 << 20) for words in filled], [("full", True)], filled)
        self.assertIn(f"UNMOUNTED {self.devices['ext4']} yes", self.lines)
        self.assert_clean("ext4")

    def test_ext4_grows_into_a_larger_disk(self) -> None:
        device = self.devices["ext4-full-tables"]
        self.assert_seen(device, self.wanted)
        self.assertIn(f"GROWN {device} yes", self.lines)
        self.assert_clean("ext4-full-tables")
        self.assertRegex(self.tool("dumpe2fs", "-h", self.top / "ext4-full-tables"), rf"Block count: +{GROWN}\n")

    def assert_clean(self, name: str) -> None:
        said = self.tool("e2fsck", "-fn", self.top / name)
        for line in said.splitlines():
            self.assertRegex(line, r"^e2fsck |^Pass \d: |^.*: \d+/\d+ files .* \d+/\d+ blocks$", said)

    def test_ext2(self) -> None:
        self.assert_seen(self.devices["ext2"], self.wanted)

    def test_squashfs_with_each_compression(self) -> None:
        for name, device in self.devices.items():
            if name.startswith("squashfs"):
                with self.subTest(name):
                    self.assert_seen(device, self.wanted)

    def test_fat(self) -> None:
        for name in ("fat16", "fat32"):
            found = {path: (row[3], row[6]) for path, row in self.seen(self.devices[name]).items() if row[0][:2] != "40"}
            files = {path: (row[3], row[6]) for path, row in self.wanted_plain.items() if row[0][:2] != "40"}
            self.assertEqual(found, files)

    def test_an_initramfs(self) -> None:
        found = self.seen("-")
        # Archives of this form keep no attributes.
        self.assert_seen("-", {path: (*row[:7], "-") for path, row in self.wanted.items()})
        self.assertGreater(len(found), 3000)

    def test_swap(self) -> None:
        self.assertIn(f"SWAP {self.devices['swap']} on", self.lines)


def replace_path(node: Node) -> Node:
    """The node below /tree."""
    from msgspec.structs import replace

    same_as = f"/tree{node.same_as}" if node.same_as else ""
    return replace(node, path=f"/tree{node.path}".rstrip("/"), same_as=same_as)


if __name__ == "__main__":
    unittest.main()
