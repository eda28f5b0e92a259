"""Several root filesystems of one product: their packages, where they go, and what cannot be."""

import json
import unittest
from pathlib import Path

from tests.support import MAIN, WorkspaceTest

DISK = """
[[disk]]
name = "card"
[[disk.partition]]
name = "boot"
filesystem = "fat"
size = "fit + 64 KiB"
holds = "boot"
[[disk.partition]]
name = "root"
filesystem = "ext4"
size = "fit + 1 MiB"
holds = "root"
"""
PROGRAM = "mkdir -p $DESTDIR/usr/bin && $CC $CFLAGS $LDFLAGS -o $DESTDIR/usr/bin/{0} p.c"


class SeveralImages(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        for name, more in (
            ("shared", ""),
            ("gauge", ""),
            ("extra", ""),
            ("fixer", '[package.fixer]\nrecommends = ["extra"]\nfiles = ["/usr/bin/fixer"]'),
        ):
            self.recipe(name, PROGRAM.format(name), {"p.c": MAIN}, package=more)
        self.recipe("early", "mkdir -p $DESTDIR && $CC $CFLAGS -static -o $DESTDIR/init p.c", {"p.c": MAIN})
        self.write("w/s/images/i.toml", 'packages = ["shared", "gauge"]\n')
        self.write("w/s/images/recovery.toml", 'packages = ["shared", "fixer"]\nhostname = "mending"\n')
        self.write("w/s/images/early.toml", "packages = []\n")
        self.board()

    def board(self, boot: str = "", disk: str = DISK) -> None:
        self.write("w/s/boards/b.toml", f'arch = "host"\n[kernel]\nrecipe = "kernel"\n{boot}{disk}')

    def product(self, *images: str, more: str = "") -> None:
        rows = "".join(f"[[more-image]]\n{one}\n" for one in images)
        self.write("w/products/p.toml", f'board = "b"\nprofile = "p"\nimage = "i"\n{more}\n{rows}')

    RECOVERY = 'name = "recovery"\nimage = "recovery"\n'
    EARLY = 'name = "early"\nimage = "early"\ninit = "early"\ninit-path = "/init"\n'

    def programs(self, path: Path) -> set[str]:
        """Names below /usr/bin of a squashfs."""
        lines = self.tool("unsquashfs", "-l", path).splitlines()
        return {line.rpartition("/")[2] for line in lines if "/usr/bin/" in line}

    def test_each_has_its_own_packages_of_one_graph(self) -> None:
        self.product(
            self.RECOVERY + 'into = ["squashfs", "cpio-gzip", "tar-zstd"]',
            more='root-into = ["squashfs"]\nboot-into = ["folder", "tar"]',
        )
        said = self.yarrik("build", at=self.root)
        self.assertEqual(said.count("✓ build shared "), 1)
        out = self.root / "out/p"
        self.assertEqual(self.programs(out / "p-root.squashfs"), {"shared", "gauge"})
        self.assertEqual(self.programs(out / "p-recovery.squashfs"), {"shared", "fixer", "extra"})
        self.assertEqual(self.tool("unsquashfs", "-cat", out / "p-recovery.squashfs", "/etc/hostname"), "mending\n")
        names = self.tool("sh", "-c", f"gzip -dc {out}/p-recovery.cpio.gz | cpio -t")
        self.assertIn("usr/bin/fixer\n", names)
        self.assertNotIn("gauge", names)
        names = self.tool("sh", "-c", f"zstd -dcq {out}/p-recovery.tar.zst | tar -tv --numeric-owner")
        self.assertRegex(names, r"-rwxr-xr-x 0/0 +\d+ [-0-9]+ [0-9:]+ (\./)?usr/bin/fixer\n")
        self.assertTrue((out / "p-boot/extlinux/extlinux.conf").is_file())
        self.assertIn("extlinux/extlinux.conf", self.tool("tar", "-tf", out / "p-boot.tar"))
        packages = json.loads((out / "packages.json").read_text())
        self.assertEqual({one["name"] for one in packages["packages"]}, {"shared", "gauge", "init", "libc", "kernel"})
        because = {one["name"]: one["because"] for one in packages["images"]["recovery"]}
        self.assertRegex(because.pop("libc"), r"^/usr/bin/\w+ loads /")
        self.assertEqual(because,
                         {"shared": "named by the image recovery", "fixer": "named by the image recovery", "extra": "recommended by fixer",
                          "init": "init of the profile p"})  # fmt: skip
        self.tool("sh", "-c", f"cd {out} && sha256sum --quiet -c SHA256SUMS")
        self.assertIn("nothing to do", self.yarrik("build", at=self.root))
        before = {path.name: path.read_bytes() for path in out.glob("p-*.*")}
        self.environment["YARRIK_CACHE"] = str(self.folder / "other")
        self.yarrik("build", at=self.root)
        self.assertEqual({path.name: path.read_bytes() for path in out.glob("p-*.*")}, before)
        # What is not asked for any more is taken away.
        self.product(self.RECOVERY)
        self.yarrik("build", at=self.root)
        self.assertEqual([path.name for path in out.glob("p-*")], [])

    def test_in_a_partition(self) -> None:
        self.product(self.RECOVERY)
        more = '[[disk.partition]]\nname = "spare"\nfilesystem = "squashfs"\nimage = "recovery"\n'
        self.board(disk=DISK + more)
        self.yarrik("build", at=self.root)
        found = json.loads(self.tool("sfdisk", "--json", self.root / "out/p/p.img"))["partitiontable"]["partitions"][2]
        data = (self.root / "out/p/p.img").read_bytes()[found["start"] * 512 : (found["start"] + found["size"]) * 512]
        self.assertEqual(self.programs(self.write("part", data)), {"shared", "fixer", "extra"})

    def test_a_menu_entry_has_it_in_memory(self) -> None:
        self.product(self.RECOVERY)
        self.board('[boot]\nseconds = 3\n[[boot.entry]]\nname = "mend"\ntitle = "Mend"\ninitramfs = "recovery"\n')
        self.yarrik("build", at=self.root)
        menu = self.content("/extlinux/extlinux.conf")
        self.assertIn("menu title p\nprompt 1\ntimeout 30\ndefault p\n", menu)
        self.assertRegex(
            menu, r"label mend\n  menu label Mend\n  linux /\S+\n  initrd /recovery.img\n  append .* rdinit=/sbin/init\n"
        )
        self.assertNotIn("initrd", menu.partition("label mend")[0])
        for method in ("script", "uefi"):
            self.board(f'[boot]\nmethod = "{method}"\n[[boot.entry]]\nname = "mend"\ninitramfs = "recovery"\n')
            said = self.yarrik("build", at=self.root, code=1)
            self.assertIn(f"BOOT-METHOD: the boot method `{method}` has one initramfs for all", said)

    def test_an_initramfs_of_its_own_package_list(self) -> None:
        self.product(self.EARLY + 'into = ["cpio"]')
        self.board('[boot]\ninitramfs = "early"\n')
        self.yarrik("build", at=self.root)
        menu = self.content("/extlinux/extlinux.conf")
        self.assertRegex(menu, r"initrd /initramfs.img\n  append root=PARTUUID=\S+ ")
        self.assertNotIn("rdinit", menu)
        names = self.tool("sh", "-c", f"cpio -t < {self.root}/out/p/p-early.cpio")
        self.assertIn("init\n", names)
        for name in ("gauge", "shared", "sbin/init"):
            self.assertNotIn(name, names)
        story = (self.root / "out/p/boot-story.txt").read_text()
        self.assertRegex(story, r"(?m)^initramfs +/initramfs.img: gzip cpio")
        self.assertIn("gauge", self.yarrik("inspect", "out/p/p.img", "/usr/bin", at=self.root))  # the root is on the card

    def test_names_that_there_are_not(self) -> None:
        self.product('name = "recovery"\nimage = "recoverz"\n')
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn("IMAGE-UNKNOWN: product `p` names the image `recoverz`, which no shelf has", said)
        self.assertIn("did you mean `recovery`?", said)
        self.product('name = "root"\nimage = "recovery"\n')
        self.assertIn("a further image cannot be called `root`", self.yarrik("check", at=self.root, code=2))
        self.product(self.RECOVERY)
        for boot, disk in (('[boot]\ninitramfs = "recovry"\n', ""), ('[[boot.entry]]\nname = "e"\ninitramfs = "recovry"\n', ""),
                           ("", '[[disk.partition]]\nname = "spare"\nimage = "recovry"\n')):  # fmt: skip
            self.board(boot, DISK + disk)
            said = self.yarrik("check", at=self.root, code=2)
            self.assertIn("IMAGE-UNKNOWN: the board `b` takes the image `recovry`", said)
            self.assertIn("did you mean `recovery`?", said)
        self.product()
        self.assertIn("add a [[more-image]]", self.yarrik("check", at=self.root, code=2))

    def test_a_form_that_cannot_hold_it(self) -> None:
        self.product(more='boot-into = ["fat"]')
        self.board(disk='[[disk]]\nname = "card"\n[[disk.partition]]\nname = "root"\nholds = "root"\n')
        self.write("w/s/images/i.toml", 'packages = []\n[[file]]\npath = "/boot/what?.txt"\ncontent = "x"\n')
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("IMAGE-FORM: p-boot cannot be written as fat: ", said)

    def test_an_account_has_one_number_in_all(self) -> None:
        account = '[package.shared]\nfiles = ["/usr/bin/shared"]\n[[package.shared.user]]\nname = "shared"\n'
        self.recipe("shared", PROGRAM.format("shared"), {"p.c": MAIN}, package=account)
        self.write(
            "w/s/images/i.toml", 'packages = ["shared"]\n[[user]]\nname = "shared"\nid = 321\n[[user]]\nname = "first"\n'
        )
        self.write("w/s/images/recovery.toml", 'packages = ["shared", "fixer"]\n[[user]]\nname = "fixer"\n')
        self.product(self.RECOVERY + 'into = ["squashfs"]', more='root-into = ["squashfs"]')
        self.yarrik("build", at=self.root)
        found = []
        for name in ("root", "recovery"):
            text = self.tool("unsquashfs", "-cat", self.root / f"out/p/p-{name}.squashfs", "/etc/passwd")
            found.append({line.split(":")[0]: line.split(":")[2] for line in text.splitlines()})
        self.assertEqual((found[0]["shared"], found[1]["shared"], found[0]["first"]), ("321", "321", "100"))
        self.assertEqual(("first" in found[1], "fixer" in found[0], found[1]["fixer"]), (False, False, "101"))
        lock = (self.root / "yarrik.lock").read_text()
        self.assertIn("first = 100\nfixer = 101\n", lock)
        self.assertNotIn("shared = 321", lock)


if __name__ == "__main__":
    unittest.main()
