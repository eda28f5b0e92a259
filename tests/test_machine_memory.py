"""What was learned about this machine: all workspaces of a user share it, and it counts only as long as it is true."""

import os
import sqlite3
from pathlib import Path

from tests.support import WorkspaceTest
from yarrik.cache import Memory


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
