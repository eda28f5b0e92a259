"""Recipes with `using = "kernel"`, on a source archive that behaves as a kernel's does but is built in a moment."""

import os
import re
import shutil
import struct
import subprocess
import sys
import unittest

from tests.support import WorkspaceTest

#: A kernel's own build as far as Yarrik talks to it: out of tree, a base, olddefconfig with dependencies, an image.
MAKEFILE = """
IMAGE = $(if $(filter arm64,$(ARCH)),Image,bzImage)
tinyconfig:
\ttest ! -w $(CURDIR)/Makefile || test "$(ALLOW_WRITABLE)" = 1 || { echo the source is writable; exit 1; }
\tprintf 'CONFIG_TINY=y\\nCONFIG_EXT4_FS=y\\nCONFIG_EFI_PARTITION=y\\nCONFIG_VIRTIO_BLK=y\\nCONFIG_BINFMT_ELF=y\\n' > $(O)/.config
olddefconfig:
\tsh $(CURDIR)/settle < $(O)/.config > $(O)/.new
\tmv $(O)/.new $(O)/.config
Image bzImage:
\tgrep -q CONFIG_TINY=y $(O)/.config
\tmkdir -p $(O)/arch/$(ARCH)/boot
\tcat $(CURDIR)/header-$(ARCH) > $(O)/arch/$(ARCH)/boot/$@
\techo "$(KBUILD_BUILD_USER)@$(KBUILD_BUILD_HOST) $(KBUILD_BUILD_VERSION) $(KBUILD_BUILD_TIMESTAMP)" >> $(O)/arch/$(ARCH)/boot/$@
\tcat $(O)/.config >> $(O)/arch/$(ARCH)/boot/$@
%.dtb:
\tmkdir -p $(O)/arch/$(ARCH)/boot/dts/$(dir $@)
\techo "$@" > $(O)/arch/$(ARCH)/boot/dts/$@
"""
#: CONFIG_GAUGE needs CONFIG_SERIAL, as Kconfig would have it.
SETTLE = """
text=$(cat)
case "$text" in *CONFIG_SERIAL=y*) ;; *) text=$(echo "$text" | sed 's/^CONFIG_GAUGE=y/# CONFIG_GAUGE is not set/') ;; esac
echo "$text"
"""


def headers() -> dict[str, bytes]:
    arm64 = bytes(16) + struct.pack("<QQ", 0x10000, 10) + bytes(24) + b"ARM\x64" + bytes(4)
    x86 = bytearray(0x400)
    x86[0x1FE:0x200] = b"\x55\xaa"
    x86[0x202:0x208] = b"HdrS\x0f\x02"
    x86[0x211], x86[0x236] = 1, 1
    return {"header-arm64": arm64, "header-x86": bytes(x86)}


class PretendedKernel(WorkspaceTest):
    def kernel_tree(self) -> str:
        return MAKEFILE

    def setUp(self) -> None:
        super().setUp()
        top = self.folder / "linux-9.9"
        top.mkdir()
        (top / "Makefile").write_text(self.kernel_tree())
        (top / "settle").write_text(SETTLE)
        (top / "Kconfig").write_text('config GAUGE\n\tbool "Gauge"\n\tdepends on SERIAL\n')
        for name, data in headers().items():
            (top / name).write_bytes(data)
        subprocess.run(["tar", "-C", self.folder, "-cJf", self.folder / "linux.tar.xz", "linux-9.9"], check=True)
        shutil.rmtree(self.root / "s/recipes/kernel")
        self.write(
            "w/s/recipes/kernel/recipe.toml",
            f'version = "9.9"\nlicence = "GPL-2.0-only"\n[[source]]\nhost-file = "{self.folder}/linux.tar.xz"\n[build]\nusing = "kernel"\n',
        )
        board = self.root / "s/boards/b.toml"
        board.write_text(
            board.read_text().replace('recipe = "kernel"', 'recipe = "kernel"\nbase = "tinyconfig"\nfragments = ["b.kcfg"]')
        )
        self.write("w/s/boards/b.kcfg", "CONFIG_SERIAL=y\nCONFIG_GAUGE=y\n")

    def image_text(self) -> str:
        objects = (self.folder / "cache/objects").glob("*/*")
        return next(
            text
            for file in objects
            if file.read_bytes()[:4] != b"$ ma"
            and "yarrik@yarrik 1 @1767225600" in (text := file.read_bytes().decode("latin-1"))
        )


class KernelsAreConfiguredAndBuilt(PretendedKernel):
    def test_out_of_tree_with_base_fragments_and_a_fixed_name_and_clock(self) -> None:
        report = self.yarrik_json("build", at=self.root)
        ran = self.ran(report)
        self.assertLess(ran.index("configure kernel"), ran.index("build kernel"))
        self.assertIn("CONFIG_BINFMT_ELF=y\n\nCONFIG_SERIAL=y\nCONFIG_GAUGE=y\n", self.image_text())
        self.assertRegex((self.root / "yarrik.lock").read_text(), r'(?m)^"kernel /.*" = "[0-9a-f]{64}"$')

    def test_an_option_that_did_not_survive_is_named_with_its_line_and_what_it_depends_on(self) -> None:
        self.write("w/s/boards/b.kcfg", "# a comment\nCONFIG_GAUGE=y\n")
        said = self.yarrik("build", code=1, at=self.root)
        self.assertIn("error KERNEL-OPTION-LOST: CONFIG_GAUGE=y was asked for and came out as not set", said)
        self.assertIn("s/boards/b.kcfg:2 [CONFIG_GAUGE]", said)
        self.assertIn("it depends on SERIAL", said)

    def test_a_base_that_the_kernel_has_not_is_told_before_it_is_built(self) -> None:
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text().replace('"tinyconfig"', '"gauge_defconfg"'))
        (self.folder / "linux-9.9/arch/x86/configs").mkdir(parents=True)
        (self.folder / "linux-9.9/arch/x86/configs/gauge_defconfig").write_text("CONFIG_SERIAL=y\n")
        (self.folder / "linux-9.9/arch/x86/Makefile").write_text("PHONY += made_defconfig\n")
        subprocess.run(["tar", "-C", self.folder, "-cJf", self.folder / "linux.tar.xz", "linux-9.9"], check=True)
        for command, code in (("build", 1), ("check", 2)):  # the sources are unpacked by then
            said = self.yarrik(command, code=code, at=self.root)
            self.assertIn(
                "error KERNEL-BASE-UNKNOWN: the kernel's sources have no base configuration `gauge_defconfg` for x86", said
            )
            self.assertIn("did you mean `gauge_defconfig`?", said)
            self.assertRegex(said, r"b.toml:\d+ \[kernel.base\]")
        for base in ("made_defconfig", "gauge_defconfig", "defconfig"):
            board.write_text(re.sub(r'base = ".*"', f'base = "{base}"', board.read_text()))
            self.yarrik("check", at=self.root)

    def test_a_kernel_without_modules_has_no_headers_and_that_is_told_before_it_is_built(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init", "kernel-headers"]\n')
        said = self.yarrik("check", code=2, at=self.root)
        self.assertIn("error RECIPE-UNKNOWN: no shelf carries a recipe or package `kernel-headers`", said)
        self.write("w/s/boards/b.kcfg", "CONFIG_SERIAL=y\nCONFIG_GAUGE=y\nCONFIG_MODULES=y\n")
        self.yarrik("check", at=self.root)

    def test_device_trees_of_the_kernel_s_own_sources_are_a_package(self) -> None:
        recipe = self.root / "s/recipes/kernel/recipe.toml"
        recipe.write_text(recipe.read_text() + 'device-trees = ["coast/pier.dtb"]\n')
        self.yarrik("build", at=self.root)
        self.assertNotIn("device-trees", (self.root / "out/p/files.json").read_text())
        self.write("w/s/images/i.toml", 'packages = ["init", "kernel-device-trees"]\n')
        self.yarrik("build", at=self.root)
        self.assertIn('"/usr/lib/device-trees/coast/pier.dtb"', (self.root / "out/p/files.json").read_text())

    def test_a_kernel_that_lacks_what_its_root_needs_is_stopped_before_anything_is_flashed(self) -> None:
        for lacking, words in (
            ("CONFIG_EXT4_FS=n", "for the filesystem ext4, it lacks CONFIG_EXT4_FS"),
            ("CONFIG_EXT4_FS=m", "CONFIG_EXT4_FS is a module"),
            ("CONFIG_EFI_PARTITION=n", "for the partition table gpt"),
        ):
            self.write("w/s/boards/b.kcfg", f"CONFIG_SERIAL=y\nCONFIG_GAUGE=y\n{lacking}\n")
            said = self.yarrik("build", at=self.root, code=1)
            self.assertIn("error BOOT-KERNEL-LACKS", said)
            self.assertIn(words, said)
        self.assertFalse((self.root / "out/p").exists())

    def test_a_changed_fragment_is_the_reason_and_one_that_changes_nothing_stops_the_wave(self) -> None:
        self.yarrik("build", at=self.root)
        self.write("w/s/boards/b.kcfg", "CONFIG_SERIAL=y\nCONFIG_GAUGE=y\nCONFIG_MORE=y\n")
        plan = self.yarrik_json("plan", at=self.root)["steps"]
        self.assertEqual((plan[0]["step"], plan[0]["reason"]), ("configure kernel", "fragment b.kcfg changed"))
        self.assertEqual([step["step"] for step in plan if step["verdict"] == "runs"], ["configure kernel"])
        self.assertIn("build kernel", self.ran(self.yarrik_json("build", at=self.root)))

    def test_a_missing_archive_names_the_debian_package(self) -> None:
        recipe = self.root / "s/recipes/kernel/recipe.toml"
        recipe.write_text(
            recipe.read_text().replace(
                f'"{self.folder}/linux.tar.xz"', '"/usr/src/none.tar.xz"\ndebian-package = "linux-source-9.9"'
            )
        )
        said = self.yarrik("check", code=2, at=self.root)
        self.assertIn("error SOURCE-MISSING: cannot read /usr/src/none.tar.xz", said)
        self.assertIn("apt-get install linux-source-9.9", said)

    def test_a_digest_in_the_recipe_that_does_not_fit_shows_both(self) -> None:
        recipe = self.root / "s/recipes/kernel/recipe.toml"
        recipe.write_text(recipe.read_text().replace("[build]", f'sha256 = "{"0" * 64}"\n[build]'))
        said = self.yarrik("build", code=2, at=self.root)
        self.assertIn("error SOURCE-DIGEST", said)
        self.assertIn("0" * 64, said)

    def test_missing_programs_of_the_kernel_s_build_are_told_together(self) -> None:
        names = ("make", "bc", "bison", "flex")
        # In a mount namespace of its own, a device is in the place of each.
        hide = "; ".join(f"mount --bind /dev/null {shutil.which(name, path='/usr/bin:/bin')}" for name in names)
        root = [] if os.getuid() == 0 else ["--map-root-user"]
        words = [
            "unshare",
            "--mount",
            *root,
            "sh",
            "-e",
            "-c",
            f'{hide}; exec "$@"',
            "sh",
            sys.executable,
            "-m",
            "yarrik",
            "build",
        ]
        done = subprocess.run(words, cwd=self.root, env=self.environment, capture_output=True, text=True, check=False)
        said = done.stdout + done.stderr
        self.assertEqual(done.returncode, 2, said)
        for name in names:
            self.assertIn(f"the program `{name}` is not on this machine", said)
            self.assertIn(f"apt-get install {name}", said)
        self.assertFalse((self.root / "out").exists())


class OptionsAreChangedInTheKernelsOwnMenu(PretendedKernel):
    """With a menu that needs no terminal: a goal of the pretended kernel that turns an option on."""

    def kernel_tree(self) -> str:
        return MAKEFILE + (
            "menuconfig:\n\techo CONFIG_NET=y >> $(O)/.config\n\techo CONFIG_NET_CORE=y >> $(O)/.config\n"
            "\tsed -i s/CONFIG_SERIAL=y/CONFIG_SERIAL=m/ $(O)/.config\n"
            "savedefconfig:\n\tgrep -v CONFIG_NET_CORE $(O)/.config > $(O)/defconfig\n"
        )

    def test_the_difference_becomes_a_fragment_on_the_board_s_list(self) -> None:
        self.assertIn("KERNEL-NO-CHANGES", self.yarrik("kernel", "fragment", "more.kcfg", at=self.root, code=2))
        said = self.yarrik("kernel", "options", "--menu", "nconfig", at=self.root, code=1)
        self.assertIn("error KERNEL-MENU: the kernel's `nconfig` ended with exit code 2", said)
        self.yarrik("kernel", "options", at=self.root)
        self.write("w/s/boards/there.kcfg", "")
        self.assertIn("FRAGMENT-THERE", self.yarrik("kernel", "fragment", "there.kcfg", at=self.root, code=2))
        said = self.yarrik("kernel", "fragment", "more.kcfg", at=self.root)
        self.assertIn("CONFIG_NET     n  ->  y", said)
        self.assertEqual(
            (self.root / "s/boards/more.kcfg").read_text().splitlines()[1:], ["CONFIG_NET=y", "CONFIG_SERIAL=m"]
        )  # what follows from another option is left out
        self.assertIn('fragments = ["b.kcfg", "more.kcfg"]', (self.root / "s/boards/b.toml").read_text())
        self.assertIn("FRAGMENT-NAME", self.yarrik("kernel", "fragment", "../x", at=self.root, code=2))

    def test_on_a_derived_board_it_is_added_to_what_the_board_inherits(self) -> None:
        self.write("w/boards/child.toml", 'extends = "b"\n')
        self.write("w/products/p.toml", 'board = "child"\nprofile = "p"\nimage = "i"\n')
        self.yarrik("kernel", "options", at=self.root)
        self.yarrik("kernel", "fragment", "more.kcfg", at=self.root)
        self.assertIn('fragments = {add = ["more.kcfg"]}', (self.root / "boards/child.toml").read_text())
        # Each lies beside the file that lists it.
        self.assertFalse((self.root / "boards/b.kcfg").exists())
        told = self.yarrik_json("show", "child", "kernel.fragments", at=self.root)["board"]["kernel.fragments"]
        self.assertEqual(told["value"], ["b.kcfg", "more.kcfg"])
        self.yarrik("check", at=self.root)

    def test_changes_are_not_thrown_away_when_the_board_changes(self) -> None:
        self.yarrik("kernel", "options", at=self.root)
        self.write("w/s/boards/b.kcfg", "CONFIG_SERIAL=y\nCONFIG_GAUGE=y\nCONFIG_OTHER=y\n")
        self.assertIn("KERNEL-CHANGES", self.yarrik("kernel", "options", at=self.root, code=2))

    def test_a_product_whose_kernel_is_not_built_here(self) -> None:
        board = self.root / "s/recipes/kernel/recipe.toml"
        board.write_text(board.read_text().replace('using = "kernel"', 'using = "plain"\ncommands = ["true"]'))
        self.assertIn("KERNEL-NOT-BUILT", self.yarrik("kernel", "options", at=self.root, code=2))

    def test_a_folder_becomes_the_kernel_s_own_initramfs(self) -> None:
        self.write("w/s/boards/early/init", "#!/bin/sh\n")
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text().replace('base = "tinyconfig"', 'base = "tinyconfig"\nbuilt-in = "early"'))
        ran = self.ran(self.yarrik_json("build", at=self.root))
        self.assertIn("build kernel", ran)
        self.assertIn('CONFIG_INITRAMFS_SOURCE="../initramfs"', self.image_text())
        self.write("w/s/boards/early/init", "#!/bin/sh\n# another\n")
        plan = self.yarrik_json("plan", at=self.root)["steps"]
        self.assertEqual([step["step"] for step in plan[:2]], ["prepare initramfs in the kernel of b", "build kernel"])

    def test_the_first_kernel_that_a_shelf_has_is_taken(self) -> None:
        board = self.root / "s/boards/b.toml"
        board.write_text(
            board.read_text().replace('recipe = "kernel"', 'recipe = "kernel-10"\notherwise = ["kernel-9", "kernel"]')
        )
        self.assertIn("build kernel", self.ran(self.yarrik_json("build", at=self.root)))
        (self.root / "s/recipes/kernel").rename(self.root / "s/recipes/kernel-9")
        self.assertIn("split kernel-9", self.ran(self.yarrik_json("build", at=self.root)))
        (self.root / "s/recipes/kernel-9").rename(self.root / "s/recipes/other")
        self.assertIn("kernel-10", self.yarrik("build", at=self.root, code=2))

    def test_the_command_line_is_built_in_and_a_second_one_is_told(self) -> None:
        board = self.root / "s/boards/b.toml"
        board.write_text(
            board.read_text().replace("[[disk]]", '[boot]\nmethod = "menu"\ncommand-line-in = "kernel"\n[[disk]]', 1)
        )
        self.yarrik("build", at=self.root)
        self.assertRegex(self.image_text(), r'CONFIG_CMDLINE="root=PARTUUID=[0-9a-f-]+ rootfstype=ext4 rootwait rw"')
        self.write("w/s/boards/b.kcfg", 'CONFIG_SERIAL=y\nCONFIG_GAUGE=y\nCONFIG_CMDLINE="quiet"\n')
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("BOOT-LINE-TWICE", said)
        self.assertIn("b.kcfg:3 [CONFIG_CMDLINE]", said)


if __name__ == "__main__":
    unittest.main()
