"""What was learned about this machine: all workspaces of a user share it, and it counts only as long as it is true."""

import os
import sqlite3
import subprocess
import sys
from pathlib import Path

from tests.support import WorkspaceTest
from yarrik.cache import Memory
from yarrik.host import mounts_mark


class OneLearnsForAll(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        (self.folder / "cache/host").unlink()  # a memory of its own
        self.calls = self.folder / "calls"
        self.compiler("")

    def compiler(self, more: str) -> Path:
        """A compiler, first in PATH, that writes down what it is asked."""
        path = self.write("tools/bin/gcc", f'#!/bin/sh\n{more}echo "$@" >> {self.calls}\nexec /usr/bin/gcc "$@"\n')
        path.chmod(0o755)
        os.utime(path, (1, 1))
        self.environment["PATH"] = f"{self.folder}/tools/bin:/usr/bin:/bin"
        return path

    def asked(self, workspace: str = "w") -> int:
        """How often a plan of a workspace, which has no memory of its own, asks the compiler."""
        self.tool("rm", "-rf", self.folder / f"{workspace}/.yarrik")
        self.calls.write_text("")
        self.yarrik("plan", at=self.folder / workspace)
        return len(self.calls.read_text().splitlines())

    def test_a_second_workspace_does_not_ask_the_compiler(self) -> None:
        self.assertGreater(self.asked(), 5)
        self.tool("cp", "-r", self.root, self.folder / "second")
        self.assertEqual(self.asked("second"), 0)

    def test_another_compiler_is_asked_although_size_and_time_are_the_same(self) -> None:
        self.compiler("# one\n")
        self.assertGreater(self.asked(), 5)
        self.assertEqual(self.asked(), 0)
        self.compiler("# two\n")
        self.assertGreater(self.asked(), 5)

    def test_another_path_is_another_machine_and_going_back_costs_nothing(self) -> None:
        self.assertGreater(self.asked(), 5)
        before = self.environment["PATH"]
        self.environment["PATH"] = f"{self.folder}/tools/bin:{self.folder}:/usr/bin:/bin"
        self.assertGreater(self.asked(), 5)
        self.environment["PATH"] = before
        self.assertEqual(self.asked(), 0)

    def test_a_variable_that_moves_the_compilers_parts_is_another_machine(self) -> None:
        self.asked()
        self.environment["COMPILER_PATH"] = str(self.folder)
        self.assertGreater(self.asked(), 5)

    def test_what_is_damaged_is_learned_again(self) -> None:
        self.asked()
        memory = self.folder / f"cache/host/{os.getuid()}/machine.sqlite"
        with sqlite3.connect(memory) as database:
            database.execute("update facts set value = replace(value, 'gcc', 'gcx') where name like 'toolchain %'")
        self.assertGreater(self.asked(), 5)
        self.assertEqual(self.asked(), 0)
        memory.write_bytes(b"x" * 5000)
        self.assertGreater(self.asked(), 5)
        self.assertEqual(self.asked(), 0)

    def test_what_another_user_put_there_is_not_believed(self) -> None:
        self.asked()
        top = self.folder / "cache/host"
        for way in ("a link", "another owner"):
            with self.subTest(way):
                own = top / str(os.getuid())
                if way == "a link":
                    own.rename(self.folder / "planted")
                    own.symlink_to(self.folder / "planted")
                else:
                    own.unlink()
                    (self.folder / "planted").rename(own)
                    os.chown(own, 12345, 12345)
                self.assertGreater(self.asked(), 5)

    def test_clearing_the_cache_of_views_leaves_it(self) -> None:
        self.asked()
        view = self.folder / f"cache/host/{os.getuid()}/view"
        view.mkdir()
        os.utime(view, (1, 1))
        self.yarrik("cache", "prune", "--unused", "1d", at=self.root)
        self.assertFalse(view.exists())
        self.assertEqual(self.asked(), 0)

    def test_a_clean_room_learns_by_itself(self) -> None:
        self.environment.pop("PATH")
        self.environment["PATH"] = os.environ["PATH"]
        self.yarrik("build", "--clean-room", at=self.root)
        self.assertFalse((self.folder / f"cache/host/{os.getuid()}/machine.sqlite").exists())
        self.yarrik("build", at=self.root)
        self.assertTrue((self.folder / f"cache/host/{os.getuid()}/machine.sqlite").exists())


class WhatIsMountedCounts(WorkspaceTest):
    def test_a_program_that_was_hidden_once_is_there_again(self) -> None:
        """Elsewhere a file is mounted over `make`: its folder does not show it, and the memory is the same."""
        hide = 'for path in $(which -a make); do mount --bind /dev/null "$(readlink -f "$path")"; done; exec "$@"'
        words = [
            "unshare",
            "--user",
            "--map-root-user",
            "--mount",
            "sh",
            "-c",
            hide,
            "sh",
            sys.executable,
            "-m",
            "yarrik",
            "plan",
        ]
        done = subprocess.run(words, cwd=self.root, env=self.environment, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.tool("rm", "-rf", self.root / ".yarrik")
        self.yarrik("build", at=self.root)

    def test_the_mark_tells_hidden_files_and_no_containers(self) -> None:
        head = "21 1 0:20 / / rw - overlay overlay rw,upperdir=/x\n22 21 0:21 / /proc rw - proc proc rw\n"
        hosts = "30 21 8:1 /containers/{}/hosts /etc/hosts rw - ext4 /dev/sda1 rw\n"
        marks = {}
        for name, text in {
            "plain": head, "other numbers": head.replace("21 1", "77 5").replace("0:20", "0:99").replace("/x", "/y"),
            "one container": head + hosts.format(1), "another": head + hosts.format(2),
            "hidden": head + "31 21 0:5 /null /usr/bin/make rw - devtmpfs udev rw\n",
            "another tree": head + "31 21 8:2 /usr /usr ro - ext4 /dev/sdb rw\n",
        }.items():  # fmt: skip
            marks[name] = mounts_mark(str(self.write("table", text.encode())))
        same = {"plain", "other numbers", "one container", "another"}
        self.assertEqual({marks[name] for name in same}, {marks["plain"]})
        self.assertEqual(len({marks["plain"], marks["hidden"], marks["another tree"]}), 3)
        self.assertEqual(mounts_mark(str(self.folder / "none")), "")
        self.assertNotEqual(mounts_mark(), "")


class AMemoryDoesNotGrowForEver(WorkspaceTest):
    def test_of_one_kind_so_many_are_kept(self) -> None:
        memory = Memory(self.folder / "memory.sqlite")
        self.addCleanup(memory.close)
        memory.learn("sighted", b"other")
        for number in range(11):
            memory.learn(f"sight {number}", b"x", most=10)
        self.assertIsNone(memory.fact("sight 0"))
        self.assertEqual(memory.fact("sight 10"), b"x")
        self.assertEqual(memory.fact("sighted"), b"other")
