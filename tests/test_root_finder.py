"""An image that begins with the shelf's root-finder: the bench follows it into the root filesystem, and a kernel carries it."""

import json
import re
import shutil
import unittest

from tests.support import MAIN, WorkspaceTest
from tests.test_kernel import PretendedKernel, headers
from tests.test_more_images import DISK

EARLY = '[[more-image]]\nname = "early"\nimage = "early"\ninit = "root-finder"\ninit-path = "/init"\n'
OPTIONS = "CONFIG_BLK_DEV_INITRD=y\nCONFIG_RD_GZIP=y\nCONFIG_EXT4_FS={}\nCONFIG_EFI_PARTITION=y\nCONFIG_VIRTIO_BLK=y\n"


class TheBenchFollowsIt(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.yarrik("shelf", "add", "commons", at=self.root)
        self.write("w/s/images/early.toml", "packages = []\n")
        self.write("w/products/p.toml", f'board = "b"\nprofile = "p"\nimage = "i"\n{EARLY}')
        shutil.rmtree(self.root / "s/recipes/kernel")
        self.configured("y")

    def configured(self, ext4: str) -> None:
        """A kernel with its configuration beside it."""
        self.recipe("kernel", "mkdir -p $DESTDIR/boot && cp bzImage config-9 $DESTDIR/boot",
                    {"bzImage": headers()["header-x86"], "config-9": OPTIONS.format(ext4)})  # fmt: skip

    DISK = DISK.replace('filesystem = "ext4"', 'filesystem = "ext4"\nlabel = "tide"')

    def built(self, *words: str, root: str = "", code: int = 0, disk: str = DISK) -> str:
        """The story of a build with these words on the command line; what it says when it fails."""
        line = ", ".join(f'"{word}"' for word in words)
        self.write("w/s/boards/b.toml", f'arch = "host"\n[kernel]\nrecipe = "kernel"\narguments = [{line}]\n'
                                        f'[boot]\ninitramfs = "early"\n{root}{disk}')  # fmt: skip
        said = self.yarrik("build", at=self.root, code=code)
        return (self.root / "out/p/boot-story.txt").read_text() if code == 0 else " ".join(said.split())

    def test_into_the_root_filesystem(self) -> None:
        story = self.built("root-finder.fallback=LABEL=tide", "root-finder.need=/sbin/init")
        self.assertRegex(story, r"(?m)^init +/init for x86-64, executable, needs no library\n"
                                r"finder +looks for the root filesystem\nroot +PARTUUID=\S+: partition root, ext4, .*\n"
                                r"drivers .*\nfallback +LABEL=tide: partition root\ninit +/sbin/init for x86-64")  # fmt: skip

    def test_by_names_that_the_kernel_alone_does_not_know(self) -> None:
        none = 'root = "none"\n'
        self.assertRegex(self.built(root='root = "label"\n'), r"root +LABEL=tide: partition root")
        self.assertRegex(self.built("root=LABEL=tide", root=none), r"root +LABEL=tide: partition root")
        self.assertRegex(self.built(root='root = "uuid"\n'), r"root +UUID=\S+: partition root")
        fault = self.built(
            "root=LABEL=tide", root=none, code=1, disk=self.DISK.replace('holds = "root"', 'holds = "root"\ncopies = ["b"]')
        )
        self.assertIn("root=LABEL=tide is partition root and partition b", fault)
        for form in ("uuid", "label"):
            fault = self.built(
                root=f'root = "{form}"\n', code=2, disk=self.DISK.replace('holds = "root"', 'holds = "root"\ncopies = ["b"]')
            )
            self.assertIn(f"the copies b of the partition root have the same {form}", fault)
        self.assertIn("and no partition has this LABEL", self.built("root=LABEL=", root=none, code=1))
        fault = self.built("root=LABEL=ebb", root=none, code=1)
        self.assertIn("BOOT-ROOT-MISSING: root=LABEL=ebb, and no partition has this LABEL", fault)
        self.write("w/products/p.toml", 'board = "b"\nprofile = "p"\nimage = "i"\n')
        self.write("w/s/boards/b.toml", f'arch = "host"\n[kernel]\nrecipe = "kernel"\n[boot]\nroot = "uuid"\n{DISK}')
        self.assertIn("BOOT-ROOT-FORM", self.yarrik("build", at=self.root, code=2))

    def test_what_it_would_not_find(self) -> None:
        for words, fault in (
            (("root-finder.fallback=LABEL=ebb",), "BOOT-ROOT-MISSING: root=LABEL=ebb, and no partition has this LABEL"),
            (("root-finder.need=/etc/gauge",), "root-finder.need=/etc/gauge, and the root filesystem has no /etc/gauge"),
            (("init=/sbin/other",), "BOOT-INIT: there is no init at /sbin/other"),
        ):
            with self.subTest(words):
                self.assertIn(fault, self.built(*words, code=1))

    def test_a_driver_that_is_a_module_needs_something_that_loads_it(self) -> None:
        self.configured("m")
        fault = self.built(code=1)
        self.assertIn("CONFIG_EXT4_FS is a module", fault)
        self.assertIn("nothing in the initramfs loads modules", fault)
        self.recipe("loads", "mkdir -p $DESTDIR/sbin && $CC $CFLAGS -static -o $DESTDIR/sbin/modprobe m.c", {"m.c": MAIN})
        self.write("w/s/images/early.toml", 'packages = ["loads"]\n')
        story = self.built()
        self.assertIn("looks for the root filesystem, with /sbin/modprobe", story)
        self.assertIn("CONFIG_EXT4_FS", story)

    def test_another_first_program_is_not_followed(self) -> None:
        self.recipe("own", "mkdir -p $DESTDIR && $CC $CFLAGS -static -o $DESTDIR/init m.c", {"m.c": MAIN})
        product = self.root / "products/p.toml"
        product.write_text(product.read_text().replace('"root-finder"', '"own"'))
        self.assertNotIn("finder", self.built())

    def test_no_c_library_where_nothing_is_linked_with_it(self) -> None:
        self.built()
        text = (self.root / "out/p/packages.json").read_text()
        early = json.loads(text)["images"]["early"]
        self.assertEqual([one["name"] for one in early], ["root-finder"])
        # What is linked into it is no package of the image.
        self.assertEqual([part["recipe"] for part in early[0]["linked"]], ["libc"])


class AKernelCarriesIt(PretendedKernel):
    def kernel_tree(self) -> str:
        look = "\tcd $(O) && cpio --quiet -t < ../initramfs/initramfs.cpio | sed 's/^/carries /' >> arch/$(ARCH)/boot/$@\n"
        return super().kernel_tree().replace("%.dtb:", f"{look}%.dtb:")

    def setUp(self) -> None:
        super().setUp()
        self.yarrik("shelf", "add", "commons", at=self.root)
        self.write("w/s/images/early.toml", "packages = []\n")
        self.write("w/products/p.toml", f'board = "b"\nprofile = "p"\nimage = "i"\n{EARLY}')
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text().replace('base = "tinyconfig"', 'base = "tinyconfig"\nbuilt-in-image = "early"'))

    def test_it_is_made_first_and_followed_by_the_bench(self) -> None:
        ran = self.ran(self.yarrik_json("build", at=self.root))
        self.assertLess(ran.index("pack early of p"), ran.index("build kernel"))
        text = self.image_text()
        self.assertIn('CONFIG_INITRAMFS_SOURCE="../initramfs/initramfs.cpio"', text)
        self.assertIn("carries init\n", text)
        story = (self.root / "out/p/boot-story.txt").read_text()
        self.assertRegex(story, r"initramfs +in the kernel: \d+ paths")
        self.assertRegex(story, r"finder +looks for the root filesystem\nroot +PARTUUID=")
        self.assertEqual(len(re.findall(r"(?m)^init +", story)), 2)
        self.assertEqual(self.ran(self.yarrik_json("build", at=self.root)), [])
        self.write("w/s/images/early.toml", 'packages = []\n[[file]]\npath = "/etc/gauge"\ncontent = "7"\n')
        self.assertIn("build kernel", self.ran(self.yarrik_json("build", at=self.root)))

    def test_what_cannot_be_carried(self) -> None:
        product, board = self.root / "products/p.toml", self.root / "s/boards/b.toml"
        sound, whole = product.read_text(), board.read_text()
        for change, words in (
            ('init-path = "/sbin/init"', "the first program of the image `early` is /sbin/init, and a kernel starts /init"),
            ('init = "kernel"', "the image `early` has the package `kernel`, which is built after the kernel"),
        ):
            key = change.partition(" =")[0]
            product.write_text(re.sub(rf'(?m)^{key} = ".*"$', change, sound))
            said = " ".join(self.yarrik("check", code=2, at=self.root).split())
            self.assertIn("KERNEL-CARRIES", said)
            self.assertIn(words, said)
        product.write_text(sound.replace('name = "early"', 'name = "first"'))
        self.assertIn("IMAGE-UNKNOWN", self.yarrik("check", code=2, at=self.root))
        product.write_text(sound)
        board.write_text(whole.replace("built-in-image", 'built-in = "early"\nbuilt-in-image'))
        self.write("w/s/boards/early/init", "#!/bin/sh\n")
        self.assertIn("has room for one initramfs", self.yarrik("check", code=2, at=self.root))
        board.write_text(whole)
        shutil.rmtree(self.root / "s/recipes/kernel")
        self.recipe("kernel", "mkdir -p $DESTDIR/boot && cp bzImage $DESTDIR/boot", {"bzImage": headers()["header-x86"]})
        self.assertIn("is not built from source", " ".join(self.yarrik("check", code=2, at=self.root).split()))


if __name__ == "__main__":
    unittest.main()
