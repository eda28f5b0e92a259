"""Locks between threads and processes."""

import errno
import fcntl
import os
import subprocess
import sys
import threading
from pathlib import Path
from unittest import mock

from tests.support import FolderTest
from yarrik.locks import held, take_lock, try_lock

#: Holds a lock until its input ends, or for ever.
HOLDER = """
import sys
from yarrik.locks import held
with held(sys.argv[1]):
    print("held", flush=True)
    sys.stdin.read()
"""


class OneAtATime(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.file = self.folder / "lock"

    def holder(self) -> subprocess.Popen[str]:
        process = subprocess.Popen(
            [sys.executable, "-c", HOLDER, self.file], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)
        assert process.stdout is not None
        self.addCleanup(process.stdout.close)
        self.assertEqual(process.stdout.readline(), "held\n")
        return process

    def test_another_process_is_waited_for(self) -> None:
        process = self.holder()
        self.assertIsNone(try_lock(self.file))
        had = threading.Event()

        def wait() -> None:
            with held(self.file):
                had.set()

        thread = threading.Thread(target=wait)
        thread.start()
        self.assertFalse(had.wait(0.2))
        process.communicate("")
        self.assertTrue(had.wait(20))
        thread.join()

    def test_one_that_was_killed_holds_nothing(self) -> None:
        process = self.holder()
        process.kill()
        process.wait()
        assert process.stdin is not None
        process.stdin.close()
        with held(self.file):
            self.assertIsNone(try_lock(self.file), "another thread, or the same one again, has to wait")
        handle = try_lock(self.file)
        assert handle is not None
        os.close(handle)

    def test_programs_that_are_started_do_not_hold_it_on(self) -> None:
        handle = take_lock(self.file)
        with subprocess.Popen(["sleep", "60"], close_fds=False) as process:
            os.close(handle)
            again = try_lock(self.file)
            process.kill()
        assert again is not None
        os.close(again)

    def test_an_error_in_between_gives_it_back(self) -> None:
        with self.assertRaises(ZeroDivisionError), held(self.file):
            _ = 1 / 0
        handle = try_lock(self.file)
        assert handle is not None
        os.close(handle)

    def test_a_link_is_not_followed(self) -> None:
        self.file.symlink_to(self.folder / "elsewhere")
        for take in (take_lock, try_lock):
            with self.assertRaises(OSError) as caught:
                take(self.file)
            self.assertEqual(caught.exception.errno, errno.ELOOP)
        self.assertFalse((self.folder / "elsewhere").exists())

    def test_a_file_system_without_locks(self) -> None:
        for number in (errno.ENOLCK, errno.ENOSYS, errno.EOPNOTSUPP):
            with mock.patch.object(fcntl, "flock", side_effect=OSError(number, "")):
                os.close(take_lock(self.file))
        opened = len([*Path("/proc/self/fd").iterdir()])
        with mock.patch.object(fcntl, "flock", side_effect=OSError(errno.EIO, "")), self.assertRaises(OSError):
            take_lock(self.file)
        self.assertEqual(len([*Path("/proc/self/fd").iterdir()]), opened)
