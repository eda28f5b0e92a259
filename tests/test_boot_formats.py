"""Boot files, written and read; judged by the bootloader's own programs."""

import hashlib
import random
import unittest
from pathlib import Path

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import FolderTest
from yarrik.boot.entries import BootEntry, EntryDamaged, encode_entry, encode_loader, read_entry, read_loader
from yarrik.boot.environment import EnvironmentDamaged, decode_environment, encode_environment, newest_of, parse_environment
from yarrik.boot.fit import Fit, FitConfiguration, FitDamaged, FitImage, decode_fit, encode_fit, key_tree, verify_fit
from yarrik.boot.legacy import LegacyDamaged, LegacyImage, decode_legacy, encode_legacy
from yarrik.boot.menu import Menu, MenuEntry, encode_menu, read_menu
from yarrik.boot.settings import SettingUnfit, change_settings, read_settings
from yarrik.devicetree import BlobDamaged, apply_overlay, compare_trees, compile_source, decode_blob, encode_blob
from yarrik.devicetree.checks import check_tree
from yarrik.errors import YarrikError

TIME = 1767225600


class LegacyImages(FolderTest):
    def theirs(self, *words: str | Path) -> bytes:
        out = self.folder / "theirs"
        self.tool("env", f"SOURCE_DATE_EPOCH={TIME}", "mkimage", *words, out)
        return out.read_bytes()

    def test_a_kernel_is_the_same_bytes_as_the_bootloader_s_program_makes(self) -> None:
        data = self.write("kernel", bytes(range(256)) * 9 + b"end")
        image = LegacyImage("kernel", "arm", (data.read_bytes(),), "Sandpiper 6.1", 0x40400000, 0x40400000, TIME)
        theirs = self.theirs("-A", "arm", "-O", "linux", "-T", "kernel", "-C", "none", "-a", "40400000", "-e", "40400000",
                             "-n", "Sandpiper 6.1", "-d", data)  # fmt: skip
        self.assertEqual(encode_legacy(image), theirs)
        self.assertEqual(decode_legacy(theirs), image)

    def test_a_script(self) -> None:
        text = self.write("script", "echo tide\nbootm 0x40400000\n")
        image = LegacyImage("script", "arm64", (text.read_bytes(),), "start", time=TIME)
        theirs = self.theirs("-A", "arm64", "-O", "linux", "-T", "script", "-C", "none", "-n", "start", "-d", text)
        self.assertEqual(encode_legacy(image), theirs)
        self.assertEqual(decode_legacy(theirs).parts, (text.read_bytes(),))

    def test_several_files_in_one(self) -> None:
        parts = [self.write(name, content) for name, content in (("a", b"kernel"), ("b", b"ramdisk 12"), ("c", b"tree"))]
        image = LegacyImage(
            "several", "arm", tuple(part.read_bytes() for part in parts), "all", 0x1000, 0x2000, TIME, compression="gzip"
        )
        theirs = self.theirs("-A", "arm", "-O", "linux", "-T", "multi", "-C", "gzip", "-a", "1000", "-e", "2000", "-n", "all",
                             "-d", ":".join(map(str, parts)))  # fmt: skip
        self.assertEqual(encode_legacy(image), theirs)
        self.assertEqual(decode_legacy(theirs), image)

    def test_what_the_header_cannot_hold_is_refused(self) -> None:
        with self.assertRaisesRegex(ValueError, "32 bits"):
            encode_legacy(LegacyImage("kernel", "arm64", (b"x",), load=1 << 32))

    def test_every_damaged_byte_is_noticed(self) -> None:
        data = encode_legacy(LegacyImage("script", "arm", (b"echo",), "name", time=TIME))
        for at in range(len(data)):
            damaged = data[:at] + bytes([data[at] ^ 0x41]) + data[at + 1 :]
            with self.assertRaises(LegacyDamaged, msg=str(at)):
                decode_legacy(damaged)
        for cut in (0, 10, 64, len(data) - 1):
            with self.assertRaises(LegacyDamaged):
                decode_legacy(data[:cut])


class ImageTrees(FolderTest):
    key = rsa.generate_private_key(65537, 2048)
    images = (
        FitImage("kernel", "kernel", b"K" * 5001, "arm64", "the kernel", "none", 0x40400000, 0x40400000),
        FitImage("tree", "device-tree", b"D" * 99, "arm64"),
        FitImage("overlay", "device-tree", b"O" * 7, "arm64"),
        FitImage("ram", "initramfs", b"R" * 1000, "arm64"),
    )
    configurations = (
        FitConfiguration("one", "kernel", ("tree", "overlay"), "ram", "with all", signed_by="harbour"),
        FitConfiguration("two", "kernel", ("tree",), compatible="harbour,kittiwake", signed_by="harbour"),
    )
    fit = Fit("Kittiwake", images, configurations, "one", TIME)

    def test_what_is_written_is_read_back_and_listed_by_the_bootloader_s_program(self) -> None:
        data = encode_fit(self.fit, self.key, "harbour")
        self.assertEqual(decode_fit(data)[1], self.fit)
        said = self.tool("dumpimage", "-l", self.write("f.itb", data))
        for words in ("Kittiwake", "Default Configuration: 'one'", "AArch64",
                      "Load Address: 0x40400000", "sha256,rsa2048:harbour", hashlib.sha256(b"R" * 1000).hexdigest()):  # fmt: skip
            self.assertIn(words, said)
        out = self.folder / "kernel"
        self.tool("dumpimage", "-T", "flat_dt", "-p", "0", "-o", out, self.folder / "f.itb")
        self.assertEqual(out.read_bytes(), b"K" * 5001)

    def test_signatures_are_those_that_the_bootloader_s_program_makes(self) -> None:
        ours = encode_fit(Fit("Kittiwake", self.images, self.configurations[:1], "one", TIME), self.key, "harbour")
        form = serialization.PrivateFormat.TraditionalOpenSSL
        self.write("keys/harbour.key", self.key.private_bytes(serialization.Encoding.PEM, form, serialization.NoEncryption()))
        self.tool("openssl", "req", "-batch", "-new", "-x509", "-key", self.folder / "keys/harbour.key", "-out",
                  self.folder / "keys/harbour.crt")  # fmt: skip
        again = self.write("again.itb", ours)
        empty = self.write("empty.dts", "/dts-v1/; / { };")
        their_key = self.folder / "key.dtb"
        self.tool("dtc", "-q", "-O", "dtb", "-o", their_key, empty)
        self.tool("mkimage", "-F", "-k", self.folder / "keys", "-K", their_key, "-r", again)
        theirs = again.read_bytes()
        self.assertEqual(verify_fit(theirs, self.key.public_key()), ["one"])

        def value(data: bytes) -> bytes:
            node = decode_blob(data).root.find("/configurations/one/signature-1")
            assert node is not None
            return node.properties["value"].value

        self.assertEqual(value(ours), value(theirs))
        ours_key = decode_blob(encode_blob(key_tree(self.key.public_key(), "harbour")))
        self.assertEqual(compare_trees(ours_key, decode_blob(their_key.read_bytes())), [])

    def test_changes_do_not_go_unnoticed(self) -> None:
        data = encode_fit(self.fit, self.key, "harbour")
        self.assertEqual(verify_fit(data, self.key.public_key()), ["one", "two"])
        for old, new, words in (
            (b"KKKK", b"KKKX", "hash of kernel does not fit"),
            (b"with all\0", b"with alL\0", "signature of one"),
            (b"harbour,kittiwake", b"harbour,kittiwakX", "signature of two"),
            ((0x40400000).to_bytes(4, "big"), (0x40500000).to_bytes(4, "big"), "signature of one"),
        ):
            with self.assertRaisesRegex(FitDamaged, words):
                verify_fit(data.replace(old, new, 1), self.key.public_key())
        other = rsa.generate_private_key(65537, 2048)
        with self.assertRaisesRegex(FitDamaged, "signature of one"):
            verify_fit(data, other.public_key())
        with self.assertRaisesRegex(FitDamaged, "not signed"):
            verify_fit(encode_fit(self.fit), self.key.public_key())

    def test_names_that_nothing_has_are_refused(self) -> None:
        with self.assertRaisesRegex(ValueError, "names other, which is not in the tree"):
            encode_fit(Fit("x", self.images, (FitConfiguration("one", "other"),), "one"))
        with self.assertRaisesRegex(ValueError, "default"):
            encode_fit(Fit("x", self.images, self.configurations, "three"))


class Environments(FolderTest):
    TEXT = "# where it starts\nbootdelay=0\nlong=one \\\ntwo\nempty=\nequals=a=b\n"

    def test_a_block_is_the_same_bytes_as_the_bootloader_s_program_makes(self) -> None:
        found = parse_environment(self.TEXT)
        self.assertEqual(found, {"bootdelay": "0", "long": "one two", "empty": "", "equals": "a=b"})
        plain = self.write("sorted.txt", "".join(f"{key}={found[key]}\n" for key in sorted(found)))
        for more, newest in (([], None), (["-r"], 1)):
            out = self.folder / "theirs"
            self.tool("mkenvimage", "-s", "4096", "-p", "0", *more, "-o", out, plain)
            self.assertEqual(encode_environment(found, 4096, newest), out.read_bytes())
            self.assertEqual(decode_environment(out.read_bytes(), bool(more)), (found, newest))

    def test_the_newer_sound_block_counts(self) -> None:
        def block(value: str, flag: int) -> bytes:
            return encode_environment({"k": value}, 64, flag)

        damaged = b"x" + block("bad", 9)[1:]
        for first, second, wanted in (
            (block("a", 1), block("b", 2), ({"k": "b"}, 1)),
            (block("a", 255), block("b", 0), ({"k": "b"}, 1)),
            (block("a", 0), block("b", 255), ({"k": "a"}, 0)),
            (block("a", 1), damaged, ({"k": "a"}, 0)),
            (damaged, block("b", 0), ({"k": "b"}, 1)),
        ):
            self.assertEqual(newest_of(first, second), wanted)
        with self.assertRaisesRegex(EnvironmentDamaged, "built-in settings"):
            newest_of(damaged, damaged)

    def test_what_is_no_setting_is_told_with_its_line(self) -> None:
        for text, words in (
            ("a=1\nnonsense\n", "line 2"),
            ("a=1\na=2\n", "line 2 sets `a` again"),
            ("a=1\\", "line 1 goes on"),
        ):
            with self.assertRaisesRegex(EnvironmentDamaged, words):
                parse_environment(text)
        with self.assertRaisesRegex(ValueError, "the block has 16"):
            encode_environment({"key": "a long value"}, 16)


class EntriesAndMenus(unittest.TestCase):
    def test_entries(self) -> None:
        entry = BootEntry(
            "Tide gauge", "6.1", "/bzImage", "root=PARTUUID=1 rw", "x86-64", "/a.dtb", ("/x.dtbo", "/y.dtbo"), ("/i",)
        )
        text = encode_entry(entry)
        self.assertIn("linux        /bzImage\n", text)
        self.assertEqual(read_entry(text), entry)
        self.assertEqual(read_loader(encode_loader("gauge", 3)), ("gauge", 3))
        self.assertEqual(read_loader("timeout menu-force\n"), ("", None))
        for wrong, words in (("title x\n", "does not name a kernel"), ("linux /x\nkernel /y\n", "`kernel` is not a key")):
            with self.assertRaisesRegex(EntryDamaged, words):
                read_entry(wrong)

    def test_a_menu_with_all_that_it_can_hold(self) -> None:
        entries = (
            MenuEntry("a", "First", "/Image", "/k.dtb", "root=/dev/vda2", "/initramfs.img", ("/o/1.dtbo", "/o/2.dtbo")),
            MenuEntry("rescue", "Rescue", "/Image", "", "init=/bin/sh"),
        )
        menu = Menu("a", entries, 30)
        self.assertEqual(read_menu(encode_menu(menu)), menu)
        self.assertIsNone(read_menu("prompt 1\nlabel a\n  linux /x\n").tenths)
        with self.assertRaisesRegex(ValueError, "no entry"):
            read_menu("timeout 1\n")


class Settings(unittest.TestCase):
    TEXT = "# display\n[all]\ncurrent = 5\nmode=fast\n\nmode=slow\n"

    def test_values_change_in_place_and_all_else_stays(self) -> None:
        self.assertEqual(read_settings(self.TEXT), {"current": "5", "mode": "slow"})
        changed = change_settings(self.TEXT, {"current": "7", "fresh": "a b", "mode": None})
        self.assertEqual(changed, "# display\n[all]\ncurrent = 7\n\nfresh=a b\n")
        for key, value in (("a=b", "1"), ("", "1"), ("a", "1\n2"), ("[x", "1")):
            with self.assertRaises(SettingUnfit):
                change_settings(self.TEXT, {key: value})

    @settings(max_examples=200, deadline=None)
    @given(
        st.dictionaries(st.from_regex(r"[a-z_]{1,8}", fullmatch=True), st.text("abc =#", max_size=9).map(str.strip), max_size=4)
    )
    def test_what_was_set_is_read(self, wanted: dict[str, str]) -> None:
        found = read_settings(change_settings(self.TEXT, wanted))
        self.assertEqual({key: found[key] for key in wanted}, wanted)


class DamageEndsInASentence(FolderTest):
    """A thousand damaged copies of each, with no other exception than the reader's own."""

    def mutated(self, data: bytes, seed: int) -> bytes:
        chance = random.Random(seed)
        copy = bytearray(data)
        for _ in range(chance.randrange(1, 6)):
            copy[chance.randrange(len(copy))] = chance.randrange(256)
        return bytes(copy[: chance.randrange(len(copy))] if chance.random() < 0.2 else copy)

    def test_image_trees(self) -> None:
        data = encode_fit(ImageTrees.fit, ImageTrees.key, "harbour")
        told = 0
        for seed in range(1000):
            try:
                verify_fit(self.mutated(data, seed), ImageTrees.key.public_key())
            except FitDamaged:
                told += 1
        self.assertGreater(told, 900)

    def test_overlays(self) -> None:
        base = "/dts-v1/; / { a: a { x = <1>; }; b: b { y = <&a>; }; };"
        text = "/dts-v1/; /plugin/; &a { z = <&b &c>; c: c { me = <&c>; }; }; &{/b} { w = <&c 4>; };"
        tree = encode_blob(compile_source(self.write("b.dts", base), symbols=True))
        overlay = encode_blob(compile_source(self.write("o.dts", text), symbols=True))
        refused = 0
        for seed in range(1000):
            try:
                apply_overlay(decode_blob(tree), decode_blob(self.mutated(overlay, seed)), "o")
            except (BlobDamaged, YarrikError):
                refused += 1
            try:
                changed = decode_blob(self.mutated(tree, seed))
                apply_overlay(changed, decode_blob(overlay), "o")
                self.assertIsInstance(compare_trees(decode_blob(tree), changed), list)
                self.assertIsInstance(list(check_tree(changed.root)), list)
            except (BlobDamaged, YarrikError):
                refused += 1
        self.assertGreater(refused, 200)

    def test_menus_entries_and_settings_of_any_bytes(self) -> None:
        texts = [encode_menu(Menu("a", [MenuEntry("a", "A", "/k", "/t", "x")])), encode_entry(BootEntry("A", "1", "/k", "x"))]
        for seed in range(1000):
            for text in texts:
                words = self.mutated(text.encode(), seed).decode("latin-1")
                for read in (read_menu, read_entry, read_loader, read_settings, parse_environment):
                    try:
                        self.assertIsNotNone(read(words))
                    except (ValueError, EntryDamaged, EnvironmentDamaged) as error:
                        self.assertTrue(str(error))


if __name__ == "__main__":
    unittest.main()
