"""Bootloaders and firmware stages built from source, and outputs of recipes wherever a file is named."""

import hashlib
import shutil
import subprocess

from tests.support import WorkspaceTest

#: A bootloader's own build as far as Yarrik talks to it: out of tree, a base, an own device tree, a built-in environment, tools.
MAKEFILE = """
%_defconfig:
\tcp $(CURDIR)/configs/$@ $(O)/.config
olddefconfig:
\tgrep -v CONFIG_LOST=y $(O)/.config > $(O)/.new
\tmv $(O)/.new $(O)/.config
all: loader.bin
loader.bin:
\t(echo "loader $(CROSS_COMPILE)$(FIRST)"; cat $(O)/.config) > $(O)/$@
\tif [ -n "$(EXT_DTB)" ]; then cat $(EXT_DTB) >> $(O)/$@; fi
\tfile=$$(sed -n 's/CONFIG_DEFAULT_ENV_FILE="\\(.*\\)"/\\1/p' $(O)/.config); if [ -n "$$file" ]; then (printf '\\0'; tr '\\n' '\\0' < $(O)/$$file) >> $(O)/$@; fi
\tline=$$(sed -n 's/CONFIG_BOOTARGS="\\(.*\\)"/\\1/p' $(O)/.config); if [ -n "$$line" ]; then printf '\\0bootargs=%s\\0bootdelay=2\\0' "$$line" >> $(O)/$@; fi
tools-only_defconfig:
\ttouch $(O)/.config
tools-only:
\tmkdir -p $(O)/tools
\tprintf '#!/bin/sh\\necho wrapped; cat "$$1"\\n' > $(O)/tools/wrap
\tchmod +x $(O)/tools/wrap
"""
RECIPE = """
version = "9"
licence = "MIT"
[[source]]
path = "src"
[build]
using = "bootloader"
fragments = ["every.kcfg"]
[outputs]
"loader.bin" = "loader.bin"
"""
BOARD = """
arch = "host"
[kernel]
recipe = "kernel"
[[bootloader]]
recipe = "loader"
base = "gauge_defconfig"
fragments = ["b.kcfg"]
[[disk]]
name = "card"
[[disk.blob]]
file = "loader:loader.bin"
offset = "32 KiB"
at-most = "512 KiB"
[[disk.partition]]
name = "root"
holds = "root"
"""


class BootloaderTest(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("w/s/recipes/loader/recipe.toml", RECIPE)
        self.write("w/s/recipes/loader/every.kcfg", "CONFIG_EVERY=y\n")
        self.write("w/s/recipes/loader/src/configs/gauge_defconfig", "CONFIG_GAUGE=y\n")
        self.write("w/s/recipes/loader/src/Kconfig", 'config GAUGE\n\tbool "Gauge"\n')
        (self.root / "s/recipes/loader/src/Makefile").write_text(MAKEFILE)
        self.write("w/s/boards/b.kcfg", "CONFIG_OWN=y\n")
        self.write("w/s/boards/b.toml", BOARD)

    def change(self, path: str, old: str, new: str) -> None:
        file = self.root / path
        text = file.read_text()
        self.assertIn(old, text)
        file.write_text(text.replace(old, new))

    def disk(self, start: int, size: int) -> bytes:
        with (self.root / "out/p/p.img").open("rb") as file:
            file.seek(start)
            return file.read(size)


class BootloadersAreConfiguredAndBuilt(BootloaderTest):
    def test_base_and_fragments_and_the_output_on_the_disk(self) -> None:
        report = self.yarrik_json("build", at=self.root)
        ran = self.ran(report)
        order = [ran.index(name) for name in ("configure loader", "build loader", "take outputs of loader", "write p")]
        self.assertEqual(order, sorted(order))
        # Built for its output alone: no package of it is made.
        self.assertFalse([name for name in ran if name in ("stage loader", "split loader")])
        found = self.disk(32 << 10, 512).rstrip(b"\0").decode()
        self.assertRegex(found, r"\Aloader .*\n")
        for line in ("CONFIG_GAUGE=y", "CONFIG_EVERY=y", "CONFIG_OWN=y"):
            self.assertIn(line, found)
        self.assertNotIn("loader", (self.root / "out/p/files.json").read_text())

    def test_a_changed_fragment_runs_what_depends_on_it_and_a_comment_stops_the_wave(self) -> None:
        self.yarrik("build", at=self.root)
        self.write("w/s/boards/b.kcfg", "CONFIG_OWN=y\nCONFIG_MORE=y\n")
        ran = self.ran(self.yarrik_json("build", at=self.root))
        self.assertEqual(ran[:4], ["configure loader", "build loader", "take outputs of loader", "write p"])
        self.write("w/s/recipes/loader/src/README", "nothing that is built\n")
        self.assertNotIn("write p", self.ran(self.yarrik_json("build", at=self.root)))

    def test_an_option_that_did_not_survive_is_named(self) -> None:
        self.write("w/s/boards/b.kcfg", "# a comment\nCONFIG_LOST=y\n")
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("error KERNEL-OPTION-LOST: CONFIG_LOST=y was asked for and came out as not set", said)
        self.assertIn("s/boards/b.kcfg:2 [CONFIG_LOST]", said)

    def test_environment_command_line_and_device_tree_are_built_in(self) -> None:
        self.write("w/s/boards/b.env", "# a comment\nbootcmd=run gauge\nbootdelay=0\n")
        self.write("w/s/boards/own.dts", '/dts-v1/;\n/ {\n\tmodel = "The loader\'s own";\n};\n')
        self.change("s/boards/b.toml", 'base = "gauge', 'environment = "b.env"\ndevice-tree = "own.dts"\nbase = "gauge')
        self.change("s/boards/b.toml", "[[bootloader]]", '[boot]\ncommand-line-in = "bootloader"\n[[bootloader]]')
        self.yarrik("build", at=self.root)
        found = self.disk(32 << 10, 4096)
        self.assertIn(b"\0bootcmd=run gauge\0bootdelay=0\0bootargs=root=PARTUUID=", found)
        self.assertIn("(built into the bootloader)", (self.root / "out/p/boot-story.txt").read_text())
        self.assertIn(b"The loader's own\0", found)
        blob = found[found.index(b"\xd0\x0d\xfe\xed") :]
        (self.folder / "own.dtb").write_bytes(blob[: int.from_bytes(blob[4:8], "big")])
        theirs = subprocess.run(["fdtget", self.folder / "own.dtb", "/", "model"], capture_output=True, text=True, check=True)
        self.assertEqual(theirs.stdout.strip(), "The loader's own")
        self.change("s/boards/b.toml", 'environment = "b.env"\n', "")
        self.yarrik("build", at=self.root)
        self.assertRegex(self.disk(32 << 10, 4096), rb'CONFIG_USE_BOOTARGS=y\n+CONFIG_BOOTARGS="root=PARTUUID=')
        self.assertRegex((self.root / "out/p/boot-story.txt").read_text(), "command line +root=.* .built into the bootloader.")
        self.change("s/boards/b.toml", 'base = "gauge', 'environment = "b.env"\nbase = "gauge')
        self.write("w/s/boards/b.env", "bootcmd\n")
        said = self.yarrik("build", at=self.root, code=2)
        self.assertIn("error BOOT-ENVIRONMENT: b.env: line 1 is not a setting", said)

    def test_with_verify_its_own_device_tree_carries_the_public_key(self) -> None:
        self.write("w/s/boards/own.dts", "/dts-v1/;\n/ { };\n")
        self.change("s/boards/b.toml", 'base = "gauge', 'device-tree = "own.dts"\nverify = true\nbase = "gauge')
        self.assertIn("error BOOTLOADER-KEY", self.yarrik("build", at=self.root, code=2))
        key = self.root / "s/boards/key.pem"
        subprocess.run(["openssl", "genrsa", "-out", key, "2048"], check=True, capture_output=True)
        self.change("s/boards/b.toml", "[[bootloader]]", '[boot]\nkey = "key.pem"\n[[bootloader]]')
        modulus = subprocess.run(
            ["openssl", "rsa", "-in", key, "-noout", "-modulus"], check=True, capture_output=True, text=True
        )
        key_bytes = bytes.fromhex(modulus.stdout.strip().partition("=")[2])
        # The bench follows it: what this bootloader starts has to be signed, and a menu's kernel is not.
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("error BOOT-CHAIN: the bootloader has key-product, and", said)
        self.change("s/boards/b.toml", "verify = true\n", "")
        self.yarrik("build", at=self.root)
        self.assertNotIn(key_bytes, self.disk(32 << 10, 8192))

    def test_the_environment_is_where_and_as_the_bootloader_expects_it(self) -> None:
        self.write("w/s/boards/b.env", "bootdelay=0\n")
        self.change("s/boards/b.toml", "[[bootloader]]", '[boot.environment]\nfile = "b.env"\nsize = "8 KiB"\n[[bootloader]]')
        for options, wanted in (
            ("CONFIG_ENV_SIZE=0x4000", "the block of the environment has 8.0 KiB, and the bootloader reads 16.0 KiB"),
            ("CONFIG_ENV_SIZE=0x2000\nCONFIG_SYS_REDUNDAND_ENVIRONMENT=y", "the image has one block of the environment"),
            ("CONFIG_ENV_SIZE=0x2000\nCONFIG_ENV_IS_IN_MMC=y\nCONFIG_ENV_OFFSET=0x100000", "at 0x100000, inside the partition"),
        ):
            with self.subTest(options):
                self.write("w/s/boards/b.kcfg", options + "\n")
                said = self.yarrik("build", at=self.root, code=1)
                self.assertIn("error BOOT-ENVIRONMENT-PLACE: ", said)
                self.assertIn(wanted, said)
        self.write("w/s/boards/b.kcfg", "CONFIG_ENV_SIZE=0x2000\nCONFIG_ENV_IS_IN_MMC=y\nCONFIG_ENV_OFFSET=0xe0000\n")
        self.yarrik("build", at=self.root)
        self.assertRegex(
            (self.root / "out/p/boot-story.txt").read_text(), "environment +0xe0000, 8.0 KiB, outside of all partitions"
        )

    def test_a_loader_for_another_board_or_architecture_is_refused(self) -> None:
        self.write("w/s/boards/b.dts", '/dts-v1/;\n/ { compatible = "harbour,gull"; model = "Gull"; };\n')
        self.write("w/s/boards/own.dts", '/dts-v1/;\n/ { compatible = "harbour,tern"; model = "Tern"; };\n')
        self.change("s/boards/b.toml", 'base = "gauge', 'device-tree = "own.dts"\nbase = "gauge')
        self.change("s/boards/b.toml", 'recipe = "kernel"', 'recipe = "kernel"\ndevice-tree = "b.dts"')
        said = self.yarrik("build", at=self.root, code=1)
        wanted = "the loader loader:loader.bin is for harbour,tern, and the kernel's device tree for harbour,gull"
        self.assertIn(f"error BOOT-LOADER: {wanted}", said)
        self.write("w/s/boards/own.dts", '/dts-v1/;\n/ { compatible = "harbour,gull-b", "harbour,gull"; };\n')
        self.yarrik("build", at=self.root)
        wrap = "mkimage -A arm64 -T firmware -C none -d {loader:loader.bin} wrapped && install -D wrapped $DESTDIR/w"
        tools = 'takes = ["loader:loader.bin"]\nprograms = ["mkimage"]'
        self.recipe("wrapped", wrap, more=tools, package='[outputs]\nw = "w"')
        self.change("s/boards/b.toml", '"loader:loader.bin"', '"wrapped:w"')
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("error BOOT-LOADER: the loader wrapped:w is for arm64, and the board is x86-64", said)

    def test_what_is_wrong_is_told_with_the_way_out(self) -> None:
        for old, new, code, wanted in (
            ('base = "gauge_defconfig"\n', "", 2, "error BOOTLOADER-BASE: the bootloader `loader` of the board `b`"),
            ('"gauge_defconfig"', '"gauge_defconfg"', 1, "did you mean `gauge_defconfig`?"),
            ('recipe = "loader"\nbase', 'recipe = "lader"\nbase', 2, "error BOOTLOADER-NOT-CONFIGURED"),
            (
                '"loader:loader.bin"',
                '"loader:loader.bn"',
                2,
                "error OUTPUT-UNKNOWN: the recipe `loader` has no output `loader.bn`",
            ),
            ('"loader:loader.bin"', '"lader:loader.bin"', 2, "did you mean `loader`?"),
            ('"loader:loader.bin"', '"loader:../x"', 2, "s/boards/b.toml:11 [disk.1.blob.1.file]"),
        ):
            with self.subTest(new):
                self.change("s/boards/b.toml", old, new)
                self.assertIn(wanted, self.yarrik("build", at=self.root, code=code))
                self.write("w/s/boards/b.toml", BOARD)
        self.write("w/s/boards/b.toml", BOARD)
        self.change("s/recipes/loader/recipe.toml", '= "loader.bin"', '= "loader.img"')
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("error STEP-FAILED", said)  # it cannot be installed: the log has the name
        self.assertIn("loader.img", said)


class OutputsAreTakenAnywhere(BootloaderTest):
    def test_a_stage_that_wraps_another_and_a_tool_of_the_loader(self) -> None:
        self.write(
            "w/s/recipes/first/recipe.toml",
            """
            version = "1"
            licence = "MIT"
            [[source]]
            output = "loader:loader.bin"
            name = "second"
            [build]
            using = "plain"
            takes = ["loader:loader.bin"]
            tools = ["loader"]
            variables = { SECOND = "{loader:loader.bin}" }
            commands = ["wrap $SECOND > first.bin && cmp second {loader:loader.bin}", "install -D first.bin $DESTDIR/boot/first.bin"]
            [outputs]
            "flash.bin" = "boot/first.bin"
            """,
        )
        self.change("s/boards/b.toml", '"loader:loader.bin"', '"first:flash.bin"')
        ran = self.ran(self.yarrik_json("build", at=self.root))
        order = [ran.index(n) for n in ("build loader", "take outputs of loader", "prepare first", "build first", "write p")]
        self.assertEqual(order, sorted(order))
        self.assertIn("build loader (host)", ran)
        self.assertRegex(self.disk(32 << 10, 64), rb"\Awrapped\nloader ")
        self.assertIn("first needs the tool `loader`", self.yarrik("why", "loader", at=self.root))
        self.assertIn("the board b takes `first:flash.bin`", self.yarrik("why", "first", at=self.root))
        self.change("s/recipes/first/recipe.toml", 'takes = ["loader:loader.bin"]\n', "")
        self.assertIn("error OUTPUT-NOT-TAKEN", self.yarrik("build", at=self.root, code=2))
        self.change("s/recipes/first/recipe.toml", 'using = "plain"', 'using = "plain"\ntakes = ["loader:loader.bin"]')
        self.change("s/recipes/first/recipe.toml", '"boot/first.bin"', '"boot/frst.bin"')
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("error OUTPUT-MISSING: the build of `first` left no file boot/frst.bin", said)
        self.assertRegex(said, r"recipes/first/recipe.toml:\d+ \[outputs.flash.bin\]")

    def test_a_loop_of_outputs_is_shown(self) -> None:
        self.recipe("first", "true", more='takes = ["loader:loader.bin"]', package='[outputs]\na = "a"')
        self.change("s/recipes/loader/recipe.toml", "[build]", '[build]\ntakes = ["first:a"]')
        said = self.yarrik("plan", at=self.root, code=2)
        self.assertIn("error NEEDS-LOOP: recipes need each other in a loop: first → loader → first", said)

    def test_boot_partition_raw_partition_and_the_emulator(self) -> None:
        self.change(
            "s/boards/b.toml",
            "[[disk]]",
            """
[[boot.file]]
path = "/firmware/start.bin"
file = "loader:loader.bin"
[emulator]
program = "sh"
bootloader = "loader:loader.bin"
arguments = ["-c", "cat $0 $1; echo fin''ished; true {image}", "{bootloader}", "{loader:loader.bin}"]
[[disk]]
""",
        )
        self.change(
            "s/boards/b.toml",
            "[[disk.partition]]",
            """[[disk.partition]]
name = "boot"
filesystem = "fat"
holds = "boot"
[[disk.partition]]
name = "second"
filesystem = "raw"
file = "loader:loader.bin"
size = "64 KiB"
[[disk.partition]]
""",
        )
        self.yarrik("build", at=self.root)
        published = (self.root / "out/p/outputs/loader/loader.bin").read_bytes()
        self.assertIn(hashlib.sha256(published).hexdigest(), (self.root / "out/p/SHA256SUMS").read_text())
        self.yarrik("inspect", "out/p/p.img", "--extract", "/firmware/start.bin", "--to", self.folder / "x", at=self.root)
        self.assertEqual((self.folder / "x/start.bin").read_bytes(), published)
        self.assertEqual((self.root / "out/p/p.img").read_bytes().count(published), 3)
        self.yarrik("boot", "--expect", "finished", "--seconds", "30", at=self.root)
        self.assertEqual((self.root / "out/p/boot.log").read_text().count("CONFIG_OWN=y"), 2)
        self.change("s/boards/b.toml", '"/firmware/start.bin"', '"/extlinux/extlinux.conf"')
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("error BOOT-FILE-TWICE: the boot partition has /extlinux/extlinux.conf already", said)
        self.change("s/boards/b.toml", "[[boot.file]]", '[boot.loader]\nhost-file = "/bin/sh"\nfile = "x"\n[[boot.file]]')
        self.assertIn("error BOOT-PROGRAM", self.yarrik("build", at=self.root, code=2))

    def test_a_package_of_the_loader_brings_it_into_the_image(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init", "loader"]\n')
        self.yarrik("build", at=self.root)
        self.assertIn("CONFIG_OWN=y", self.content("/usr/share/loader/loader.bin"))
        self.assertIn("CONFIG_OWN=y", self.content("/usr/share/loader/config"))

    def test_the_options_of_a_loader_are_changed_like_a_kernel_s(self) -> None:
        said = self.yarrik("kernel", "check", "--recipe", "loader", at=self.root, code=1)
        self.assertIn("unknown    CONFIG_OWN=y  s/boards/b.kcfg:1", said)
        shutil.rmtree(self.root / ".yarrik")
        said = self.yarrik("kernel", "show", "GAUGE", "--recipe", "loader", at=self.root)
        self.assertIn("CONFIG_GAUGE=y  Gauge", said)
        self.assertIn("the base, configs/gauge_defconfig:1", said)
        self.assertIn("KERNEL-NOT-BUILT", self.yarrik("kernel", "show", "GAUGE", "--recipe", "lader", at=self.root, code=2))
        self.yarrik("kernel", "set", "GAUGE=n", "--recipe", "loader", "--fragment", "more.kcfg", at=self.root)
        self.assertIn('fragments = ["b.kcfg", "more.kcfg"]', (self.root / "s/boards/b.toml").read_text())
        self.assertIn("# CONFIG_GAUGE is not set", (self.root / "s/boards/more.kcfg").read_text())
