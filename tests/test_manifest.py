"""Reading a finished folder back: sound ones are told in sentences, and no damage goes unseen."""

import hashlib
import json
import shutil
import unittest
from pathlib import Path

from tests.support import WorkspaceTest
from yarrik.errors import YarrikError
from yarrik.manifest import checksum_list, verify_out


class FinishedFoldersAreVerified(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.yarrik("build", at=self.root)
        self.out = self.root / "out/p"

    def signed_again(self) -> None:
        """Makes SHA256SUMS right again, so that the deeper checks are the ones that speak."""
        names = ("p.img", "packages.json", "files.json")
        digests = {name: hashlib.sha256((self.out / name).read_bytes()).hexdigest() for name in names}
        (self.out / "SHA256SUMS").write_bytes(checksum_list(digests))

    def complaint(self) -> str:
        with self.assertRaises(YarrikError) as caught:
            verify_out(self.out, "p")
        self.assertEqual(caught.exception.troubles[0].code, "OUT-DAMAGED")
        return caught.exception.troubles[0].what

    def patch(self, offset: int, data: bytes) -> None:
        with (self.out / "p.img").open("r+b") as image:
            image.seek(offset)
            image.write(data)
        self.signed_again()

    def test_a_sound_one(self) -> None:
        findings = verify_out(self.out, "p")
        self.assertTrue(any("ext4" in finding for finding in findings))
        self.assertIn("command line: root= is the partition `root`", findings[-1])

    def test_a_changed_file(self) -> None:
        (self.out / "files.json").write_text("{}")
        self.assertIn("its SHA-256 is not the one", self.complaint())

    def test_a_damaged_table(self) -> None:
        self.patch(512 + 24, b"\xff")
        self.assertIn("checksum", self.complaint())

    def test_a_damaged_superblock(self) -> None:
        self.patch((1 << 20) + 1024 + 4, b"\xff")
        self.assertIn("no valid ext4 filesystem: damaged: its superblock", self.complaint())

    def test_a_command_line_for_another_disk(self) -> None:
        manifest = json.loads((self.out / "packages.json").read_text())
        manifest["boot"]["command-line"][0]["word"] = "root=PARTUUID=00000000-0000-0000-0000-000000000000"
        (self.out / "packages.json").write_text(json.dumps(manifest))
        self.signed_again()
        self.assertIn("which no partition is", self.complaint())

    def test_every_package_says_why_it_is_there(self) -> None:
        packages = json.loads((self.out / "packages.json").read_text())["packages"]
        self.assertEqual({p["name"]: p["because"] for p in packages},
                         {"init": "named by the image i", "kernel": "kernel of the board b", "libc": "C library of the profile p"})  # fmt: skip

    def test_the_copy_that_boots_is_not_the_image(self) -> None:
        from yarrik.model import compose, load_workspace
        from yarrik.run import Bootable, scratch_disks

        product = Bootable.of(compose(load_workspace(self.root)))
        disk = scratch_disks(self.root, product, fresh=True)["{image}"]
        self.assertEqual(disk.read_bytes(), (self.out / "p.img").read_bytes())
        disk.write_bytes(b"written by the board")
        self.assertEqual(scratch_disks(self.root, product, fresh=False)["{image}"].read_bytes(), b"written by the board")
        self.assertEqual(scratch_disks(self.root, product, False, 4096)["{image}"].stat().st_size, 4096)
        self.assertEqual(scratch_disks(self.root, product, False, 10)["{image}"].stat().st_size, 4096)
        self.assertNotEqual(scratch_disks(self.root, product, fresh=True)["{image}"].read_bytes(), b"written by the board")
        self.assertTrue(verify_out(self.out, "p"))


class EmulatorsAreFound(WorkspaceTest):
    def test_what_is_missing_is_told_with_the_package(self) -> None:
        board = self.root / "s/boards/b.toml"
        text = board.read_text()
        emulator = (
            '[emulator]\nprogram = "{}"\nbootloader = "{}"\ndebian-packages = ["qemu-system-arm"]\narguments = ["{{image}}"]\n'
        )
        board.write_text(text + emulator.format("no-such-emulator", ""))
        said = self.yarrik("boot", code=2, at=self.root)
        self.assertIn("the emulator no-such-emulator is not on this machine", said)
        self.assertIn("apt-get install qemu-system-arm", said)
        board.write_text(text + emulator.format("sh", "/none/loader.bin"))
        self.assertIn("/none/loader.bin is not on this machine", self.yarrik("boot", code=2, at=self.root))

    def test_any_program_can_be_the_emulator(self) -> None:
        board = self.root / "s/boards/b.toml"
        script = self.write("emulate", "#!/bin/sh\necho disk $(wc -c < $1) loader $2\necho up\nread answer\necho got $answer\n")
        script.chmod(0o755)
        loader = self.write("loader", "x")
        board.write_text(
            board.read_text()
            + f'[emulator]\nprogram = "{script}"\nbootloader = "{loader}"\narguments = ["{{image}}", "{{bootloader}}"]\n'
        )
        self.write("w/s/images/i.toml", 'packages = ["init"]\nmarker = "up"\n')
        self.yarrik("build", at=self.root)
        size = (self.root / "out/p/p.img").stat().st_size
        self.assertIn(f"disk {size} loader {loader}", self.yarrik("boot", at=self.root))
        talk = self.write("talk.toml", '[[talk]]\nexpect = "up"\ntype = "hello"\n')
        report = self.yarrik_json("boot", "--talk", talk, "--expect", "got hello", "--until-off", at=self.root)
        self.assertEqual([seen["text"] for seen in report["seen"]], ["up", "got hello"])
        self.assertIn("got hello", (self.root / "out/p/boot.log").read_text())


class DefinitionsOfAnyKindNeverBringItDown(WorkspaceTest):
    """Mutated definition files: an error with a place, or a workspace, and nothing else."""

    def test_mutations(self) -> None:
        import random

        from yarrik.model import load_workspace

        generator = random.Random(9)
        files = sorted(self.root.rglob("*.toml"))
        sound = {file: file.read_text() for file in files}
        refused = 0
        for _ in range(600):
            file = generator.choice(files)
            text = list(sound[file])
            for _ in range(generator.randrange(1, 5)):
                at = generator.randrange(len(text) + 1)
                text[at : at + generator.randrange(4)] = generator.choice(
                    ['"', "[", "]", "=", "\n", "x", "3", ".", "{", "}", "true", "'''", "\\", "#", "ä", ""]
                )
            file.write_text("".join(text))
            try:
                load_workspace(self.root)
            except YarrikError as error:
                refused += 1
                self.assertTrue(all(trouble.place.file is not None and trouble.remedy for trouble in error.troubles), error)
            file.write_text(sound[file])
        self.assertGreater(refused, 300)


class DemoDataIsLaidOut(unittest.TestCase):
    def test_a_file_in_the_way_is_told(self) -> None:
        import tempfile

        from yarrik.demo import lay_out_demo

        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        (folder / "file").write_text("")
        for place in (folder / "file", folder / "file" / "below"):
            with self.assertRaises(YarrikError) as caught:
                lay_out_demo(place)
            self.assertEqual(caught.exception.troubles[0].code, "DEMO-FOLDER")

    def test_one_that_was_just_begun_is_no_strangers_folder(self) -> None:
        import tempfile

        from yarrik.demo import lay_out_demo

        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        (folder / ".yarrik.toml.4711").write_text("")
        (folder / "thesis.txt").write_text("")
        with self.assertRaises(YarrikError) as caught:
            lay_out_demo(folder)
        self.assertEqual(caught.exception.troubles[0].code, "DEMO-FOLDER")
        (folder / "thesis.txt").unlink()
        lay_out_demo(folder)
        self.assertTrue((folder / "yarrik.toml").is_file())


if __name__ == "__main__":
    unittest.main()
