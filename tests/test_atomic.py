"""Files and folders that appear whole or not at all, also when a writer dies."""

import signal
import subprocess
import sys
import unittest
from pathlib import Path

from tests.support import FolderTest
from yarrik.atomic import new_file, new_folder, write_file

WRITER = """
import sys, time
from pathlib import Path
from yarrik.atomic import new_file

with new_file(Path(sys.argv[1])) as fresh:
    fresh.write_bytes(b"half of it")
    print("begun", flush=True)
    time.sleep(600)
"""


class WholeOrNotAtAll(FolderTest):
    def names(self) -> list[str]:
        return sorted(path.name for path in self.folder.iterdir())

    def writer(self) -> subprocess.Popen[bytes]:
        process = subprocess.Popen([sys.executable, "-c", WRITER, self.folder / "x"], stdout=subprocess.PIPE)
        self.addCleanup(process.communicate)
        self.addCleanup(process.kill)
        assert process.stdout is not None
        self.assertEqual(process.stdout.readline(), b"begun\n")
        return process

    def test_a_file_takes_the_place_of_another_when_it_is_finished(self) -> None:
        target = self.write("x", "old")
        with new_file(target, durable=True) as fresh:
            fresh.write_text("new")
            self.assertEqual(target.read_text(), "old")
        self.assertEqual((target.read_text(), target.stat().st_mode & 0o777, self.names()), ("new", 0o644, ["x"]))
        with self.assertRaises(KeyboardInterrupt), new_file(target) as fresh:
            fresh.write_text("half")
            raise KeyboardInterrupt
        self.assertEqual((target.read_text(), self.names()), ("new", ["x"]))
        write_file(target, b"script", 0o755)
        self.assertEqual(target.stat().st_mode & 0o777, 0o755)

    def test_what_a_killed_writer_left_goes_with_the_next_one_and_a_living_one_is_let_be(self) -> None:
        dead, alive = self.writer(), self.writer()
        dead.send_signal(signal.SIGKILL)
        dead.wait()
        self.assertEqual(len(self.names()), 2)
        write_file(self.folder / "x", b"mine")
        left = self.names()
        self.assertEqual((len(left), left[1]), (2, "x"), "only the folder of the living writer is there")
        alive.kill()
        alive.wait()
        (self.folder / ".new-link").symlink_to("/")
        write_file(self.folder / "x", b"again")
        self.assertEqual(self.names(), [".new-link", "x"])

    def test_many_writers_at_a_time_do_not_hurt_each_other(self) -> None:
        script = (
            "import sys\nfrom pathlib import Path\nfrom yarrik.atomic import write_file\n"
            "for number in range(150): write_file(Path(sys.argv[1]), b'x' * 1000)\n"
        )
        writers = [
            subprocess.Popen([sys.executable, "-c", script, self.folder / "x"], stderr=subprocess.PIPE) for _ in range(4)
        ]
        for writer in writers:
            _, said = writer.communicate()
            self.assertEqual(writer.returncode, 0, said.decode())
        self.assertEqual((self.names(), (self.folder / "x").stat().st_size), (["x"], 1000))

    def test_folders(self) -> None:
        target = self.folder / "made"
        with new_folder(target) as fresh:
            (fresh / "a").write_text("1")
            self.assertFalse(target.exists())
        self.assertEqual(((target / "a").read_text(), target.stat().st_mode & 0o777), ("1", 0o755))
        with new_folder(target, or_another=True) as fresh:
            (fresh / "a").write_text("2")
        self.assertEqual((target / "a").read_text(), "1")
        with self.assertRaises(OSError), new_folder(target) as fresh:
            (fresh / "a").write_text("3")
        self.assertEqual(self.names(), ["made"])

    def test_where_nothing_can_be_written_it_is_an_os_error(self) -> None:
        with self.assertRaises(FileNotFoundError):
            write_file(Path(self.folder, "none/x"), b"")


if __name__ == "__main__":
    unittest.main()
