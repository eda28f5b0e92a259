"""Slots: complete systems on one disk, each with an entry in the boot menu and followed on the bench."""

import json
import re
import subprocess
import unittest

from tests.support import WorkspaceTest, edit_boot_file

BOARD = """
arch = "host"
[kernel]
recipe = "kernel"
console = "ttyS0,115200"
[boot]
method = "{method}"
{more}
[[disk]]
name = "card"
table = "gpt"
[[disk.partition]]
name = "boot"
filesystem = "fat"
size = "2 MiB"
holds = "boot"
[[disk.partition]]
name = "root-a"
holds = "root"
copies = ["root-b", "root-c"]
[[disk.partition]]
name = "data"
size = "8 MiB"
"""
SLOTS = '[[boot.slot]]\nname = "a"\nroot = "root-a"\n[[boot.slot]]\nname = "b"\nroot = "root-b"\ntitle = "The other one"\n'


class SlotsInTheMenu(WorkspaceTest):
    def board(self, slots: str = SLOTS, method: str = "menu", more: str = "") -> None:
        self.write("w/s/boards/b.toml", BOARD.format(method=method, more=more + "\n" + slots))

    def setUp(self) -> None:
        super().setUp()
        self.board()

    def built(self) -> dict:
        self.yarrik("build", at=self.root)
        return json.loads((self.root / "out/p/packages.json").read_text())["boot"]

    def story(self, code: int = 0) -> str:
        return self.yarrik("boot", "--bench", "out/p/p.img", at=self.root, code=code)

    def test_each_has_an_entry_and_the_first_is_started(self) -> None:
        boot = self.built()
        self.assertEqual([(one["name"], one["partition"]) for one in boot["slots"]], [("a", "root-a"), ("b", "root-b")])
        menu = self.menu()
        self.assertIn("default a\n", menu)
        lines = re.findall(r"(?m)^label (\S+)\n  menu label (.*)\n(?:  .*\n)*?  append (.*)$", menu)
        self.assertEqual([(name, title) for name, title, _ in lines], [("a", "p (a)"), ("b", "The other one")])
        roots = {name: re.search(r"root=PARTUUID=(\S+)", line)[1] for name, _, line in lines}  # type: ignore[index]
        # As somebody else's program sees the partitions.
        table = json.loads(
            subprocess.run(["sfdisk", "--json", self.root / "out/p/p.img"], capture_output=True, check=True).stdout
        )
        known = {part["name"]: part["uuid"].lower() for part in table["partitiontable"]["partitions"]}
        self.assertEqual(roots, {"a": known["root-a"], "b": known["root-b"]})
        self.assertEqual(lines[0][2].replace(roots["a"], ""), lines[1][2].replace(roots["b"], ""))

    def menu(self) -> str:
        folder = self.folder / "menu"
        self.yarrik(
            "inspect",
            "out/p/p.img",
            "--partition",
            "boot",
            "--extract",
            "/extlinux/extlinux.conf",
            "--to",
            folder,
            at=self.root,
        )
        return next(folder.rglob("extlinux.conf")).read_text()

    def test_the_bench_follows_each(self) -> None:
        self.built()
        story = self.story()
        self.assertIn("2 entries, starts `a`", story)
        self.assertRegex(story, r"slot +entry `b`\n.*root +PARTUUID=\S+ partition root-b, ext4")
        # The other slot as it is after an update that went wrong: half of it, or none.
        image = self.root / "out/p/p.img"
        table = json.loads(subprocess.run(["sfdisk", "--json", image], capture_output=True, check=True).stdout)[
            "partitiontable"
        ]
        part = next(one for one in table["partitions"] if one["name"] == "root-b")
        data = bytearray(image.read_bytes())
        begin = part["start"] * 512
        for hurt, why in ((bytes(4096), "BOOT-ROOT-MISSING"), (None, "BOOT-")):
            if hurt is None:
                half = begin + part["size"] * 256
                data[begin:half] = image.read_bytes()[begin:half]
                data[begin + 4096 : half] = bytes(half - begin - 4096)
            else:
                data[begin : begin + len(hurt)] = hurt
            image.write_bytes(data)
            text = self.story(code=1)
            self.assertIn("entry `b`", text)
            self.assertIn(why, text)

    def test_a_menu_that_starts_the_other_one(self) -> None:
        self.built()
        edit_boot_file(self.root / "out/p/p.img", "/extlinux/extlinux.conf", {"default a": "default b"})
        story = self.story()
        self.assertIn("starts `b`", story)
        self.assertRegex(story, r"root +PARTUUID=\S+ partition root-b(?s:.*)slot +entry `a`(?s:.*)partition root-a")

    def test_with_entries_of_the_boards_own(self) -> None:
        self.board(SLOTS + '[[boot.entry]]\nname = "rescue"\narguments = ["init=/sbin/init"]\n')
        self.built()
        menu = self.menu()
        self.assertEqual(re.findall(r"(?m)^label (\S+)", menu), ["a", "b", "rescue"])
        self.assertEqual(self.story().count("entry `"), 1)  # rescue has the first slot's root filesystem

    def test_slots_that_cannot_be(self) -> None:
        b = SLOTS.partition('[[boot.slot]]\nname = "b"')[0]
        for slots, method, more, why in (
            (b + '[[boot.slot]]\nname = "b"\nroot = "data"\n', "menu", "", "which does not hold this root filesystem"),
            (b + '[[boot.slot]]\nname = "b"\nroot = "root-d"\n', "menu", "", "did you mean"),
            (b + '[[boot.slot]]\nname = "b"\nroot = "root-a"\n', "menu", "", "is in two slots"),
            ('[[boot.slot]]\nname = "b"\nroot = "root-b"\n', "menu", "", "a new card starts root-a"),
            (SLOTS + '[[boot.entry]]\nname = "b"\n', "menu", "", "is an entry too"),
            (SLOTS, "uefi", "", "starts one system"),
            (SLOTS, "script", "", "no partition holds the state of the slots"),
            (SLOTS, "menu", 'initramfs = "root"', "the root filesystem is in memory"),
        ):
            self.board(slots, method, more)
            text = self.yarrik("plan", at=self.root, code=2)
            self.assertIn("error BOOT-SLOT", text)
            self.assertIn(why, text)


if __name__ == "__main__":
    unittest.main()
