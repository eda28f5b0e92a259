"""`yarrik update` and slots that a script switches, from definitions to images that stand for boards."""

import json
import re
import shutil
import subprocess
from pathlib import Path

import zstandard

from tests.test_methods import BOARD, GaugeTest
from yarrik.boot.legacy import decode_legacy
from yarrik.boot.slots import SlotState
from yarrik.disk.opening import opened_bytes
from yarrik.update.bundle_form import open_bundle, read_index

ROOT = Path(__file__).parent.parent
SLOTS = """
[boot]
method = "script"
read-only = true
[boot.switch]
state = "state"
tries = 2
shared = ["data"]
[[boot.slot]]
name = "a"
root = "root-a"
[[boot.slot]]
name = "b"
root = "root-b"
[[disk]]
name = "card"
[[disk.partition]]
name = "state"
filesystem = "none"
size = "1 MiB"
[[disk.partition]]
name = "root-a"
size = "8 MiB"
[[disk.partition]]
name = "data"
size = "8 MiB"
mount = "/var/lib/tide"
"""


class SlotsByAScript(GaugeTest):
    def setUp(self) -> None:
        super().setUp()
        self.board(SLOTS)
        self.product = self.root / "products/tide-gauge.toml"
        self.product.write_text('version = "1.0"\n' + self.product.read_text())

    def kept(self, name: str) -> Path:
        self.build()
        return Path(shutil.copy(self.out / "tide-gauge.img", self.folder / name))

    def key(self) -> Path:
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", self.folder / "key"], check=True)
        return self.folder / "key"

    def changed(self, version: str, words: str) -> None:
        text = re.sub('(?m)^version = ".*"', f'version = "{version}"', self.product.read_text())
        self.product.write_text(text)
        image = self.root / "shelves/harbour/images/tide-gauge.toml"
        image.write_text(re.sub('content = ".*n"', f'content = "{words}\\\\\\\\n"', image.read_text()))

    def bench(self, board: Path, code: int = 0) -> str:
        return self.yarrik("boot", "--bench", board, code=code)

    def store(self, board: Path, *sectors: bytes) -> None:
        with board.open("r+b") as file, opened_bytes(board) as (_, image):
            file.seek(next(part.start for part in image.partitions if part.name == "state"))
            file.write(b"".join(sectors))

    def test_each_slot_has_all_that_an_update_may_change(self) -> None:
        board = self.kept("board.img")
        with opened_bytes(board) as (_, image):
            held = {
                part.name: sorted(one.path for one in part.reader.walk() if one.kind == "file")
                for part in image.partitions
                if part.reader
            }
        self.assertEqual(held["boot"], ["/boot.scr"])
        inside = ["/usr/lib/boot/kittiwake.dtb", "/usr/lib/boot/slot.scr", "/usr/lib/boot/slots.conf", "/usr/lib/boot/uImage"]
        self.assertEqual([one for one in held["root-a"] if "/boot" in one], inside)
        self.assertEqual(held["root-a"], held["root-b"])
        about = json.loads((self.out / "packages.json").read_text())["boot"]
        self.assertEqual(about["switch"], {"state": "state", "tries": 2, "shared": ["data"]})
        self.assertEqual(about["files"], ["/boot/boot.scr", "/usr/lib/boot/slot.scr", "/usr/lib/boot/uImage"])
        self.assertEqual((about["kernel"]["path"], about["device-tree"]["path"]), (inside[3], inside[0]))
        # What is mounted over a folder has its owner: the gauge can write its log there.
        with opened_bytes(board) as (_, image):
            data = next(part for part in image.partitions if part.name == "data")
            top = next(one for one in data.reader.walk() if one.path == "/")
        self.assertEqual((top.uid, top.mode & 0o7777), (100, 0o750))

    def test_the_script_that_chooses_never_changes(self) -> None:
        self.build()
        before = self.on_card("/boot.scr")
        self.changed("1.1", "north pier")
        board = self.root / BOARD
        board.write_text(board.read_text().replace("loglevel=5", "loglevel=7"))
        self.build()
        self.assertEqual(self.on_card("/boot.scr"), before)
        self.assertIn("loglevel=7", decode_legacy(self.on_card("/usr/lib/boot/slot.scr")).parts[0].decode())

    def test_the_bench_follows_the_state(self) -> None:
        board = self.kept("board.img")
        self.assertRegex(self.bench(board), r"slot +`a`; known to work: `a` \(none is stored yet\)(?s:.*)slot +`b`\n")
        torn = b"torn".ljust(512, b"\xff")
        for sectors, words in (
            ([SlotState("b").encoded()] * 2, "`b`; known to work: `b`\n"),
            ([SlotState("b").encoded(with_flag=True)] * 2, "`b`; known to work: `b`\n"),  # of a bootloader that has two blocks
            ([SlotState("a", "b", 2).encoded()] * 2, "`b`; known to work: `a`, trying `b`, 1 start left after this one"),
            ([SlotState("a", "b", 1).encoded()] * 2, "`b`; known to work: `a`, trying `b`, 0 starts left"),
            ([SlotState("a", "b", 0).encoded()] * 2, "`a`; known to work: `a`, `b` was tried and did not hold"),
            ([torn, SlotState("b").encoded()], "`b`; known to work: `b` (the first copy is damaged"),
            ([SlotState("c").encoded()] * 2, "`a`; known to work: `c`"),  # a slot that is not there: the first one that starts
        ):
            self.store(board, *sectors)
            story = self.bench(board)
            self.assertIn(words, story)
            chosen = re.search(r"slot +`(.)`", story)[1]  # type: ignore[index]
            self.assertIn(f"slots.running={chosen}", story)
            self.assertRegex(story, rf"root +PARTUUID=\S+ partition root-{chosen}")

    def test_a_slot_that_is_not_whole(self) -> None:
        board = self.kept("board.img")
        with opened_bytes(board) as (_, image):
            begin = next(part.start for part in image.partitions if part.name == "root-b")
        with board.open("r+b") as file:
            file.seek(begin)
            file.write(bytes(64 << 10))
        story = self.bench(board)
        self.assertRegex(story, "`b` would not start")
        self.assertIn("BOOT-SLOT", story)
        # Even on trial: the script finds nothing there, and goes on to the one that works.
        self.store(board, *[SlotState("a", "b", 2).encoded()] * 2)
        self.assertIn("slots.running=a", self.bench(board))
        with board.open("r+b") as file:
            file.seek(begin - (8 << 20))
            file.write(bytes(64 << 10))
        self.assertIn("error BOOT-MENU-MISSING", self.bench(board, code=1))

    def test_an_update_from_the_old_image_to_the_new_one(self) -> None:
        old, key = self.kept("old.img"), self.key()
        self.changed("1.1", "north pier")
        new = self.kept("new.img")
        bundle = self.folder / "one.update"
        said = self.yarrik("update", "make", old, "tide-gauge", "--key", key, "--to", bundle, at=self.root)
        self.assertIn("tide-gauge on kittiwake from 1.0 to 1.1", said)
        self.assertLess(bundle.stat().st_size, 20_000)
        first = bundle.read_bytes()
        self.yarrik("update", "make", old, new, "--key", key, "--to", bundle)
        self.assertEqual(bundle.read_bytes(), first)
        self.assertIn("to version 1.1, from version 1.0 only", self.yarrik("update", "show", bundle))
        board = Path(shutil.copy(old, self.folder / "board.img"))
        report = self.yarrik_json("update", "apply", bundle, board, "--signed-by", f"{key}.pub")
        self.assertEqual((report["slot"], report["starts"]), ("b", 2))
        self.assertIn("trying `b`", self.bench(board))
        status = self.yarrik_json("update", "status", board)
        self.assertEqual(
            (status["works"], status["trial"], status["starts-left"], status["slots"]), ("a", "b", 2, {"a": "1.0", "b": "1.1"})
        )
        self.yarrik("update", "confirm", board)
        self.assertIn("b        1.1          known to work", self.yarrik("update", "status", board))
        with opened_bytes(new) as (fresh, image), board.open("rb") as file:
            places = {part.name: (part.start, part.size) for part in image.partitions}
            for name, of in (("root-b", "root-a"), ("data", "data")):
                file.seek(places[name][0]), fresh.seek(places[of][0])
                self.assertEqual(file.read(places[name][1]), fresh.read(places[of][1]))
        # The slot that does not run is written by half: the board is known by the other one.
        half = Path(shutil.copy(board, self.folder / "half.img"))
        with half.open("r+b") as file:
            file.seek(places["root-a"][0] + 4096)
            file.write(b"\xa5" * (1 << 20))
        self.assertRegex(self.yarrik("update", "status", half), r"a +not whole\n +b +1.1 +known to work")
        self.assertIn("BOOT-SLOT", self.bench(half))
        self.yarrik("update", "make", new, "--whole", "--key", key, "--to", self.folder / "whole.update")
        self.yarrik("update", "apply", self.folder / "whole.update", half, "--signed-by", f"{key}.pub")
        self.assertRegex(self.yarrik("update", "status", half), r"a +1.1 +on trial")
        # The same one again is refused; the way back has to be signed for.
        self.assertIn(
            "error UPDATE-REFUSED", self.yarrik("update", "apply", bundle, board, "--signed-by", f"{key}.pub", code=1)
        )
        back = self.folder / "back.update"
        self.assertIn("signs for going back", self.yarrik("update", "make", new, old, "--key", key, "--to", back, code=2))
        self.yarrik("update", "make", old, "--whole", "--key", key, "--to", back)
        self.assertIn("going back", self.yarrik("update", "apply", back, board, "--signed-by", f"{key}.pub", code=1))
        self.yarrik("update", "make", old, "--whole", "--older", "--key", key, "--to", back)
        self.assertIn("or back", self.yarrik("update", "show", back))
        self.yarrik("update", "apply", back, board, "--signed-by", f"{key}.pub")
        self.assertIn("`a`; known to work: `b`, trying `a`", self.bench(board))

    def test_what_is_no_update_or_no_board(self) -> None:
        old, key = self.kept("old.img"), self.key()
        plain = self.write("plain.img", bytes(1 << 20))
        bundle = self.folder / "x.update"
        for words, code, why in (
            (("make", old), 2, "UPDATE-IMAGE: an update has an old and a new image"),
            (("make", old, old, "--whole"), 2, "UPDATE-IMAGE"),
            (("make", old, old), 2, "SIGN-KEY: no key is named"),
            (("make", plain, old, "--key", key), 2, "UPDATE-IMAGE: .*plain.img has no slots"),
            (("make", old, self.folder / "none.img", "--key", key), 2, "UPDATE-IMAGE"),
            (("make", old, "--whole", "--key", key, "--to", self.folder / "no/where"), 1, "UPDATE-BUNDLE"),
            (("show", plain), 1, "UPDATE-BUNDLE: .*no update of this form"),
            (("status", plain), 1, "UPDATE-BOARD"),
            (("status", "/dev/null"), 1, "UPDATE-BOARD: .*it is no file"),
            (("confirm", self.folder / "none.img"), 1, "UPDATE-BOARD"),
        ):  # fmt: skip
            said = self.yarrik("update", *words, code=code)
            self.assertRegex(said, f"error {why}" if why.startswith("SIGN") or ":" in why else why)
        self.yarrik("update", "make", old, "--whole", "--key", key, "--to", bundle)
        self.assertIn("no key is trusted", self.yarrik("update", "apply", bundle, old, code=2))
        text = bytearray(bundle.read_bytes())
        text[-1] ^= 1
        bundle.write_bytes(text)
        with opened_bytes(old) as (_, image), old.open("r+b") as file:
            file.seek(next(part.start for part in image.partitions if part.name == "root-b"))
            file.write(bytes(8 << 20))
        self.assertIn("not what was signed", self.yarrik("update", "show", bundle, code=1))
        self.assertIn("error UPDATE-FAILED", self.yarrik("update", "apply", bundle, old, "--signed-by", f"{key}.pub", code=1))
        self.assertEqual(json.loads(self.yarrik("update", "status", "--json", old))["works"], "a")

    def test_an_installer_medium(self) -> None:
        old, key = self.kept("old.img"), self.key()
        board = (self.root / BOARD).read_text()
        # The same board with one root filesystem and a place for what it installs.
        plain = board.partition("\n[boot]\nmethod")[0]
        more = (
            '[[disk]]\nname = "card"\n[[disk.partition]]\nname = "root-a"\ncopies = []\n[[disk.partition]]\nname = "payload"\n'
        )
        (self.root / BOARD).write_text(plain + "\n" + more + 'filesystem = "none"\nsize = "1 MiB"\n')
        installer, stick = self.kept("installer.img"), self.folder / "stick.img"
        words = ("update", "medium", installer, old, "--key", key, "--to", stick)
        self.assertIn("installs tide-gauge 1.0 on kittiwake", self.yarrik(*words))
        first = stick.read_bytes()
        self.yarrik(*words)
        self.assertEqual(stick.read_bytes(), first)
        self.assertIn("No problems found", self.tool("sgdisk", "-v", stick))
        self.assertIn("no problem found", self.yarrik("boot", "--bench", stick))
        # The partition holds a bundle that makes the image.
        with opened_bytes(stick) as (file, image):
            part = image.partitions[-1]
            file.seek(part.start)
            bundle = self.write("payload.update", file.read(part.size))
        self.assertEqual((part.name, len(first) % 4096), ("payload", 0))
        with bundle.open("rb") as file:
            opened = open_bundle(file)
            pieces = read_index(opened.index_of(file), opened.description, 0)
            made = b""
            for piece in pieces:
                file.seek(opened.body + piece.body)
                made += (
                    zstandard.ZstdDecompressor().decompress(file.read(piece.stored)) if piece.stored else bytes(piece.length)
                )
        self.assertEqual(made, old.read_bytes())
        self.assertTrue(opened.description.whole_disk)
        self.assertIn("error UPDATE-REFUSED", self.yarrik("update", "apply", bundle, old, "--signed-by", f"{key}.pub", code=1))
        for wrong in (old, self.write("none.img", bytes(4096))):
            said = self.yarrik("update", "medium", wrong, old, "--key", key, "--to", stick, code=2)
            self.assertIn("error UPDATE-MEDIUM", said)
        said = self.yarrik(
            "update", "medium", installer, self.write("apart/none.img", bytes(1 << 20)), "--key", key, "--to", stick, code=2
        )
        self.assertIn("error UPDATE-MEDIUM", said)
        self.assertEqual(stick.read_bytes(), first)

    def test_switches_that_cannot_be(self) -> None:
        text = (self.root / BOARD).read_text()
        for change, why in (
            (('state = "state"', 'state = "stat"'), "did you mean `state`"),
            (('state = "state"', 'state = "data"'), "holds something else"),
            (('shared = ["data"]', 'shared = ["root-b"]'), "is a slot or the state"),
            (('method = "script"', 'method = "menu"'), "counts no starts"),
            (('[[boot.slot]]\nname = "b"\nroot = "root-b"\n', ""), "there is one slot"),
            (('[boot.switch]\nstate = "state"\ntries = 2\nshared = ["data"]\n', ""), "no partition holds the state"),
            (("tries = 2", "tries = 10"), "tries"),
        ):
            self.assertIn(change[0], text)
            (self.root / BOARD).write_text(text.replace(*change))
            said = self.yarrik("plan", "tide-gauge", at=self.root, code=2)
            self.assertIn(why, said)
        (self.root / BOARD).write_text(text)
        self.product.write_text(self.product.read_text().replace('"1.0"', '"one"'))
        self.assertIn("version", self.yarrik("plan", "tide-gauge", at=self.root, code=2))
