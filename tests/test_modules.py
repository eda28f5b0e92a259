"""`modules.dep` and its companions, judged by the operating system's own programs for modules."""

import unittest
from pathlib import Path

from tests.support import FolderTest
from yarrik.rootfs.modules import ModuleDamaged, module_files, module_indexes

VERSION = "6.1.0-tide"
#: name, what it needs, what it offers, what else it says of itself
MODULES = {
    "kernel/lib/zero.ko": ("", ("tide_zero", "tide_one"), ()),
    "kernel/drivers/tide-sensor.ko": ("zero", ("tide_level",), ("alias=of:N*T*Charbour,tide-sensor", "alias=of:N*T*Charbour,tide-sensorC*")),
    "kernel/drivers/relay.ko": ("tide-sensor,zero", (), ("alias=platform:relay-[a-z]-x", "softdep=pre: zero", "alias=devname:relay",
                                                        "alias=char-major-10-200")),
    "extra/alone.ko": ("", (), ("alias=pci:v00001AF4d*sv*sd*bc*sc*i*", "alias=char-major-10-200")),
}  # fmt: skip


class IndexesAreTheOnesThatLoadersWant(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.top = self.folder / f"root/lib/modules/{VERSION}"
        for file, (needs, offers, more) in MODULES.items():
            uses = [symbol for name in needs.split(",") for other, (_, symbols, _) in MODULES.items()
                    if name and Path(other).stem == name for symbol in symbols]  # fmt: skip
            info = [f"depends={needs}", *more, f"name={Path(file).stem}", f"vermagic={VERSION} SMP"]
            lines = [f'const char info{number}[] __attribute__((section(".modinfo"),used)) = "{text}";'
                     for number, text in enumerate(info)]  # fmt: skip
            lines += [
                f"int {symbol}(void) {{ return 1; }} "
                f'const char name_{symbol}[] __attribute__((section("__ksymtab_strings"),used)) = "{symbol}";'
                for symbol in offers
            ]
            lines += [f"extern int {symbol}(void); int use_{symbol}(void) {{ return {symbol}(); }}" for symbol in uses]
            source = self.write("x.c", "\n".join(lines) + "\n")
            (self.top / file).parent.mkdir(parents=True, exist_ok=True)
            self.tool("gcc", "-c", "-fno-pic", "-o", self.top / file, source)
        (self.top / "modules.order").write_text("".join(f"{file}\n" for file in MODULES if not file.startswith("extra")))
        (self.top / "modules.builtin").write_text("kernel/fs/ext4/ext4.ko\nkernel/drivers/tty/serial-core.ko\n")

    def ours(self) -> dict[str, bytes]:
        paths = ["/" + path.relative_to(self.folder / "root").as_posix() for path in self.top.rglob("*")]
        found = module_files(paths)
        self.assertEqual(list(found), [f"/lib/modules/{VERSION}"])
        beside = {name: (self.top / name).read_bytes() for name in ("modules.order", "modules.builtin")}
        return module_indexes(found[f"/lib/modules/{VERSION}"], lambda file: (self.top / file).read_bytes(), beside)

    def test_the_same_bytes_as_the_operating_system_s_program_writes(self) -> None:
        ours = self.ours()
        self.tool("depmod", "-b", self.folder / "root", VERSION)
        for name, data in ours.items():
            theirs = (self.top / name).read_bytes()
            if name == "modules.symbols":  # their order there is that of a table in memory
                data, theirs = b"\n".join(sorted(data.splitlines())), b"\n".join(sorted(theirs.splitlines()))
            self.assertEqual(data, theirs, name)

    def test_the_loader_finds_modules_by_name_alias_and_symbol(self) -> None:
        for name, data in self.ours().items():
            (self.top / name).write_bytes(data)
        for word, wanted in (
            ("relay", ["zero.ko", "tide-sensor.ko", "zero.ko", "relay.ko"]),
            ("of:NxTyCharbour,tide-sensor", ["zero.ko", "tide-sensor.ko"]),
            ("symbol:tide_one", ["zero.ko"]),
            ("platform:relay-b-x", ["zero.ko", "tide-sensor.ko", "zero.ko", "relay.ko"]),
        ):
            said = self.tool("modprobe", "-d", self.folder / "root", "-S", VERSION, "--show-depends", word)
            self.assertEqual([Path(line.split()[1]).name for line in said.splitlines()], wanted, word)
        self.assertIn(
            "builtin ext4", self.tool("modprobe", "-d", self.folder / "root", "-S", VERSION, "--show-depends", "ext4")
        )

    def test_damaged_modules_and_rings_are_told(self) -> None:
        files = ["a.ko"]
        for data in (b"", b"\x7fELF", b"\x7fELF" + bytes(500), (self.top / "extra/alone.ko").read_bytes()[:300]):
            with self.assertRaises(ModuleDamaged):
                module_indexes(files, lambda _, data=data: data)
        zero = (self.top / "kernel/lib/zero.ko").read_bytes()
        ring = zero.replace(b"depends=\0", b"depends=\0", 1)
        self.assertEqual(module_indexes(["zero.ko"], lambda _: ring)["modules.dep"], b"zero.ko:\n")
        relay = (self.top / "kernel/drivers/relay.ko").read_bytes().replace(b"tide-sensor,zero", b"relay,relay,xzer")
        with self.assertRaisesRegex(ModuleDamaged, "needs itself"):
            module_indexes(["relay.ko"], lambda _: relay)


if __name__ == "__main__":
    unittest.main()
