"""What a hostile step, recipe, archive or image tries: nothing leaves the sandbox, nothing is written outside.

`make intruder` runs these alone. Each attack is made against the built program, and looks at what it did to files outside."""

import fcntl
import os
import pty
import select
import shutil
import subprocess
import sys
import termios
import time
import unittest
from pathlib import Path

from tests.support import FolderTest, WorkspaceTest
from yarrik.beneath import Folder, NotPlain, _open_by_words, remove_folder

SECRET = "the harbour's own key\n"


class IntruderTest(WorkspaceTest):
    """A workspace beside a folder of the host's with a secret in it, which has to be as it was afterwards."""

    def setUp(self) -> None:
        super().setUp()
        self.host = self.folder / "host"
        self.secret = self.write("host/key", SECRET)
        self.secret.chmod(0o600)
        self.write("w/s/images/i.toml", 'packages = ["init", "app"]\n')

    def attack(self, command: str, *words: str, code: int = 1, more: str = "") -> str:
        self.recipe("app", command.replace("HOST", str(self.host)), {"x": "x\n"}, more=more)
        said = self.yarrik("build", *words, code=code, at=self.root)
        self.assertEqual(sorted(path.name for path in self.host.iterdir()), ["key"], "files of the host were changed")
        self.assertEqual(self.secret.read_text(), SECRET)
        self.assertEqual(self.secret.stat().st_mode & 0o777, 0o600)
        self.assertNotIn("harbour's own", said)
        for place in ("cache/objects", "w/out", "w/.yarrik/logs"):
            for path in (self.folder / place).rglob("*"):
                self.assertFalse(path.is_file() and SECRET.encode() in path.read_bytes(), f"the secret is in {path}")
        return said


class NoStepLeavesItsFolder(IntruderTest):
    def test_a_link_in_place_of_the_stage_moves_nothing(self) -> None:
        for words in ((), ("--no-sandbox",)):
            stage = "/step/stage" if not words else "$DESTDIR"
            with self.subTest(words=words):
                said = self.attack(f"rmdir {stage}; ln -s HOST {stage}", *words)
                self.assertIn("STEP-LEFT-LINK", said)
                self.assertIn("stage is a link, and a folder belongs there", said)

    def test_a_file_or_nothing_in_place_of_the_stage_is_told(self) -> None:
        self.assertIn("stage is a file", self.attack("rmdir $DESTDIR; echo x > $DESTDIR"))
        said = self.attack("rmdir $DESTDIR")
        self.assertNotIn("free space", said)

    def test_links_inside_the_stage_stay_links(self) -> None:
        said = self.attack("mkdir -p $DESTDIR/usr; ln -s HOST $DESTDIR/usr/all; ln -s HOST/key $DESTDIR/usr/key", code=0)
        files = (self.root / "out/p/files.json").read_text()
        self.assertIn("/usr/all", files)
        self.assertNotIn("all/key", files, said)

    def test_pipes_and_sockets_block_nobody(self) -> None:
        for command in ("mkfifo $DESTDIR/pipe", "rmdir $DESTDIR; mkfifo $DESTDIR"):
            began = time.monotonic()
            said = self.attack(command)
            self.assertIn("FIFO", said)
            self.assertLess(time.monotonic() - began, 60)

    def test_a_link_left_for_the_next_command_is_not_bound_into_the_sandbox(self) -> None:
        # `tools` is laid out read-only where there are any; here there are none, and a command makes it itself.
        text = "ln -s HOST /step/tools'''\n, '''cat /step/tools/key > $DESTDIR/stolen || true; ls /step/tools/ > $DESTDIR/seen || true"
        self.attack(text, code=0)

    def test_a_hard_link_to_what_is_moved_does_not_change_the_cache_later(self) -> None:
        self.attack("echo x > $DESTDIR/a; ln $DESTDIR/a $DESTDIR/b; ln $DESTDIR/a /step/home/c", code=0)
        self.assertIn("are as they were", self.yarrik("cache", "verify", at=self.root))

    def test_folders_of_1500_levels_are_built_or_told_and_removed(self) -> None:
        script = "i=0; while [ $i -lt 1500 ]; do mkdir d && cd d || exit 1; i=$((i+1)); done; echo x > f"
        self.assertIn("STEP-TOO-DEEP", self.attack(f"cd $DESTDIR; {script}"))
        self.attack(f"cd /step/home; {script}; echo y > $DESTDIR/y; exit 1")
        self.assertEqual(sorted((self.root / ".yarrik/work").iterdir()), [])
        self.recipe("app", "echo fine > $DESTDIR/fine")
        self.yarrik("build", at=self.root)

    def test_read_only_folders_are_removed_too(self) -> None:
        self.attack(
            "mkdir -p /step/home/a/b/c; echo x > /step/home/a/b/c/x; chmod a-rwx /step/home/a/b/c /step/home/a/b /step/home/a; echo x > $DESTDIR/x",
            code=0,
        )
        self.assertEqual(sorted((self.root / ".yarrik/work").iterdir()), [])


class LayingOutInputsStaysInside(IntruderTest):
    def layers(self) -> None:
        self.recipe("one", f"mkdir -p $DESTDIR/usr/include; ln -s {self.host} $DESTDIR/usr/include/x")
        self.recipe("two", "mkdir -p $DESTDIR/usr/include/x; echo planted > $DESTDIR/usr/include/x/planted")

    def test_a_link_where_another_recipe_has_a_folder_is_a_clash_with_both_named(self) -> None:
        self.layers()
        for order in ('needs = ["one", "two"]', 'needs = ["two", "one"]'):
            for words in ((), ("--no-sandbox",)):
                with self.subTest(order=order, words=words):
                    said = self.attack("echo x > $DESTDIR/x", *words, more=order)
                    self.assertIn("SYSROOT-CLASH", said)
                    for word in ("`one`", "`two`", "/usr/include/x", "link", "folder"):
                        self.assertIn(word, said)

    def test_host_tools_are_checked_likewise(self) -> None:
        self.recipe("one", f"mkdir -p $DESTDIR/usr/bin; ln -s {self.host} $DESTDIR/usr/bin/x")
        self.recipe("two", "mkdir -p $DESTDIR/usr/bin/x; echo planted > $DESTDIR/usr/bin/x/planted")
        self.assertIn("SYSROOT-CLASH", self.attack("echo x > $DESTDIR/x", more='tools = ["one", "two"]'))

    def test_folders_of_both_and_different_files_are_no_clash(self) -> None:
        self.recipe("one", "mkdir -p $DESTDIR/usr/include/x; echo 1 > $DESTDIR/usr/include/x/one.h")
        self.recipe("two", "mkdir -p $DESTDIR/usr/include/x; echo 2 > $DESTDIR/usr/include/x/two.h")
        self.attack(
            "cat {step}/sysroot/usr/include/x/* > $DESTDIR/x".replace("{step}", "/step"), code=0, more='needs = ["one", "two"]'
        )


class AStepTakesNoMoreThanItsShare(IntruderTest):
    def test_a_fork_bomb_ends_the_step_and_not_the_machine(self) -> None:
        # Bounded all the same, in case nothing holds it.
        bomb = "i=0; while [ $i -lt 3000 ]; do sleep 60 & i=$((i+1)); done; wait"
        began = time.monotonic()
        for words in ((), ("--no-sandbox",)):
            said = self.attack(bomb, *words, more="process-limit = 200")
            self.assertIn("STEP-OVER-LIMIT", said)
            self.assertIn("more than 200 processes", said)
            self.assertIn("build.process-limit", said)
        self.assertLess(time.monotonic() - began, 50)
        left = subprocess.run(["pgrep", "-fc", "^sleep 60$"], capture_output=True, text=True, check=False).stdout
        self.assertEqual(left.strip(), "0")

    def test_a_shell_cannot_type_into_the_terminal_that_it_was_started_from(self) -> None:
        typist = (
            "import fcntl, sys, termios\n"
            "for letter in 'echo typed-outside > HOST/typed\\n':\n"
            "    fcntl.ioctl(0, termios.TIOCSTI, letter.encode())\n"
        ).replace("HOST", str(self.host))
        self.recipe("app", "echo x > $DESTDIR/x", {"typist.py": typist}, more='programs = ["python3"]')
        outer, inner = pty.openpty()
        allowed = Path("/proc/sys/dev/tty/legacy_tiocsti")
        shell = subprocess.Popen(
            ["sh", "-c", f"cd {self.root}; {sys.executable} -m yarrik enter app; echo ended; read line; sh -c \"$line\""],
            stdin=inner, stdout=inner, stderr=inner, start_new_session=True, env={**self.environment, "PYTHONPATH": "src"},
            preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0), cwd=Path(__file__).parent.parent,
        )  # fmt: skip
        os.close(inner)
        self.addCleanup(os.close, outer)
        self.addCleanup(shell.kill)
        seen = self.until(outer, "build app $ ", 60)
        os.write(outer, b"cat /proc/self/stat; tty; python3 source/typist.py; exit\n")
        seen += self.until(outer, "ended", 30)
        os.write(outer, b"true\n")
        shell.wait(timeout=30)
        self.assertFalse((self.host / "typed").exists(), seen)
        if allowed.exists() and allowed.read_text().strip() == "0":
            self.assertIn("ermission", seen + "Permission")  # the kernel refuses it to everybody
        self.assertNotIn("not a tty", seen)  # it has one, of its own

    def until(self, handle: int, words: str, seconds: float) -> str:
        seen = ""
        end = time.monotonic() + seconds
        while words not in seen:
            self.assertGreater(end, time.monotonic(), seen)
            if select.select([handle], [], [], 0.2)[0]:
                seen += os.read(handle, 4096).decode("utf-8", "replace")
        return seen


class FoldersOfOthersAreReadBeneath(FolderTest):
    """The one way in which all readers of such folders open things."""

    def setUp(self) -> None:
        super().setUp()
        self.write("outside/secret", "x")
        self.write("top/a/file", "inside")
        (self.folder / "top/out").symlink_to("../outside")
        (self.folder / "top/absolute").symlink_to(self.folder / "outside")
        (self.folder / "top/a/link").symlink_to("file")
        (self.folder / "top/a/loop").symlink_to("loop")
        os.mkfifo(self.folder / "top/pipe")
        self.top = Folder.at(self.folder / "top")
        self.addCleanup(self.top.close)

    LEADING_OUT = ("out/secret", "absolute/secret", "../outside/secret", "a/../../outside/secret", "a/link", "a/loop", "out",
                   "/etc/passwd", "a/file/x", "pipe", "a")  # fmt: skip

    def test_what_leads_out_or_is_no_file_is_refused_and_the_rest_is_read(self) -> None:
        for path in self.LEADING_OUT:
            with self.assertRaises(OSError, msg=path):
                self.top.read(path)
            with self.assertRaises(OSError, msg=path):
                self.top.create(path)
        self.assertEqual(self.top.read("a/file"), b"inside")
        with self.assertRaisesRegex(NotPlain, r"has a link on its way \(out\)"):
            self.top.read("out/secret")
        self.assertEqual(sorted(path.name for path in (self.folder / "outside").iterdir()), ["secret"])

    def test_the_same_word_by_word_where_the_kernel_has_no_openat2(self) -> None:
        for path in self.LEADING_OUT[:-2]:
            with self.assertRaises(OSError, msg=path):
                os.close(_open_by_words(self.top.handle, path.encode(), os.O_RDONLY | os.O_NOFOLLOW, 0))
        os.close(_open_by_words(self.top.handle, b"a/file", os.O_RDONLY | os.O_NOFOLLOW, 0))

    def test_links_that_stay_inside_can_be_resolved_and_no_others(self) -> None:
        self.assertEqual(self.top.within("a/link"), "a/file")
        for path in ("out/secret", "absolute/secret", "a/../../outside/secret"):
            with self.assertRaises(NotPlain, msg=path):
                self.top.within(path)

    def test_removing_follows_no_link(self) -> None:
        shutil.copytree(self.folder / "top/a", self.folder / "top/b", symlinks=True)
        (self.folder / "top/b/away").symlink_to(self.folder / "outside")
        self.assertTrue(remove_folder(self.folder / "top"))
        self.assertFalse((self.folder / "top").exists())
        self.assertTrue((self.folder / "outside/secret").exists())
        (self.folder / "link").symlink_to("outside")
        self.assertTrue(remove_folder(self.folder / "link"))
        self.assertTrue((self.folder / "outside/secret").exists())


POISON = "int poison;\n"


class TheHostDoesNotLeakIntoBuilds(WorkspaceTest):
    """An overlay on `/usr` has headers, libraries and their descriptions of a package that the board does not have."""

    PROBE = """
        $CC $CFLAGS -include tidepoison.h -c -o x.o probe.c 2>/dev/null && echo header
        $CC $CFLAGS $LDFLAGS -o x probe.c -ltidepoison 2>/dev/null && echo library
        pkg-config --exists tidepoison 2>/dev/null && echo description
        tidepoison-config --cflags 2>/dev/null || true
        test -e /usr/share/aclocal/tidepoison.m4 && echo macros
        test -e /usr/include/sys/../tidepoison.h && echo file
        ls /usr/lib/cmake/TidePoison /usr/lib/*/cmake/TidePoison 2>/dev/null || true
        python3 -c 'import tidepoison' 2>/dev/null && echo module
        true
    """

    def poisoned(self, *words: str) -> str:
        """Runs the program with an overlay on `/usr`, in a mount namespace of its own."""
        layer = self.folder / "layer"
        triplet = subprocess.run(["gcc", "-dumpmachine"], capture_output=True, text=True, check=True).stdout.strip()
        for name, text in {
            "include/tidepoison.h": POISON,
            f"include/{triplet}/tidepoison.h": POISON,
            "local/include/tidepoison.h": POISON,
            f"lib/{triplet}/pkgconfig/tidepoison.pc": "Name: tidepoison\nDescription: x\nVersion: 1\n",
            "share/pkgconfig/tidepoison.pc": "Name: tidepoison\nDescription: x\nVersion: 1\n",
            f"lib/{triplet}/cmake/TidePoison/TidePoisonConfig.cmake": "set(TidePoison_FOUND 1)\n",
            "lib/cmake/TidePoison/TidePoisonConfig.cmake": "set(TidePoison_FOUND 1)\n",
            "share/cmake/Modules/FindTidePoison.cmake": "set(TidePoison_FOUND 1)\n",
            "share/aclocal/tidepoison.m4": "poison\n",
            "lib/python3/dist-packages/tidepoison.py": "x = 1\n",
        }.items():
            path = layer / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text)
        program = layer / "bin/tidepoison-config"
        program.parent.mkdir(exist_ok=True)
        program.write_text("#!/bin/sh\necho program\n")
        program.chmod(0o755)
        for folder in (f"lib/{triplet}", "lib", "local/lib"):
            (layer / folder).mkdir(parents=True, exist_ok=True)
            subprocess.run(
                ["gcc", "-shared", "-fPIC", "-o", layer / folder / "libtidepoison.so", "-x", "c", os.devnull], check=True
            )
            subprocess.run(["ar", "rc", layer / folder / "libtidepoison.a"], check=True)
        mount = f"mount -t overlay overlay -o lowerdir={layer}:/usr /usr"
        command = ["unshare", "--mount", *([] if os.getuid() == 0 else ["--map-root-user"]), "sh", "-e", "-c", f'{mount}; exec "$@"',
                   "sh", sys.executable, "-m", "yarrik", *words]  # fmt: skip
        done = subprocess.run(
            command, cwd=self.root, env=self.environment, capture_output=True, text=True, check=False, timeout=300
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def test_what_a_host_package_brings_changes_no_byte(self) -> None:
        """For the board, for host tools, and for what CMake and pkg-config find."""
        self.recipe("tool", f"mkdir -p $DESTDIR/usr/share; ({self.PROBE}) > $DESTDIR/usr/share/tool; cat $DESTDIR/usr/share/tool",
                    {"probe.c": "int main(void) { return 0; }\n"})  # fmt: skip
        self.recipe("app", f"mkdir -p $DESTDIR/usr/share; ({self.PROBE}) > $DESTDIR/usr/share/app; cp $DESTDIR/../tools/usr/share/tool $DESTDIR/usr/share/",
                    {"probe.c": "int main(void) { return 0; }\n"}, more='tools = ["tool"]\nprograms = ["pkg-config", "python3"]')  # fmt: skip
        cmake = "cmake_minimum_required(VERSION 3.13)\nproject(x C)\nfind_package(TidePoison)\nfind_package(PkgConfig REQUIRED)\n" \
                "pkg_check_modules(T tidepoison)\nfind_library(L tidepoison)\nfind_path(H tidepoison.h)\nfind_program(P tidepoison-config)\n" \
                'file(WRITE ${CMAKE_BINARY_DIR}/found "${TidePoison_FOUND} ${T_FOUND} ${L} ${H} ${P}\\n")\n' \
                "install(FILES ${CMAKE_BINARY_DIR}/found DESTINATION share)\n"  # fmt: skip
        self.recipe("found", "true", {"CMakeLists.txt": cmake})
        file = self.root / "s/recipes/found/recipe.toml"
        text = file.read_text().replace('using = "plain"', 'using = "cmake"')
        file.write_text("".join(line for line in text.splitlines(True) if not line.startswith("commands =")))
        self.write("w/s/images/i.toml", 'packages = ["init", "app", "found"]\n')
        self.yarrik("build", at=self.root)
        clean = (self.root / "out/p/p.img").read_bytes()
        self.assertEqual(self.content("/usr/share/app"), "")
        found = self.content("/usr/share/found")
        self.assertEqual(found.count("NOTFOUND"), 3, found)
        self.poisoned("build", "--no-sandbox")  # the poison works: what sees the machine takes all of it
        for path in ("/usr/share/app", "/usr/share/tool"):
            seen = self.content(path)
            for word in ("header", "library", "program", "macros", "TidePoisonConfig.cmake"):
                self.assertIn(word, seen, path)
        self.assertNotEqual((self.root / "out/p/p.img").read_bytes(), clean)
        self.environment["YARRIK_CACHE"] = str(self.folder / "second")
        shutil.rmtree(self.root / "out")
        self.poisoned("build")
        self.assertEqual((self.root / "out/p/p.img").read_bytes(), clean)
        self.assertIn("nothing to do", self.yarrik("build", at=self.root))  # and no fingerprint


if __name__ == "__main__":
    unittest.main()
