"""Whatever happens to a machine: the next run goes on, and nothing wrong is ever used."""

import hashlib
import json
import os
import shutil
import signal
import subprocess
import sys
import time
import unittest
from collections.abc import Iterator
from pathlib import Path

from tests.kills import kill
from tests.support import WorkspaceTest

FULL_DISK = """
import hashlib, json, os, shutil, subprocess, sys
from pathlib import Path

source, mount = Path(sys.argv[1]), Path(sys.argv[2])
words = [sys.executable, "-m", "yarrik", "build", "--workspace", str(mount / "w")]
environment = {**os.environ, "YARRIK_CACHE": str(mount / "cache"), "TMPDIR": str(mount)}

def fresh(size):
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={size}", "tmpfs", str(mount)], check=True)
    shutil.copytree(source, mount / "w", symlinks=True)

def build():
    done = subprocess.run(words, env=environment, capture_output=True, text=True)
    return done.returncode, done.stdout + done.stderr

def image():
    return hashlib.sha256((mount / "w/out/p/p.img").read_bytes()).hexdigest()

fresh(1 << 30)
before = shutil.disk_usage(mount).used
assert build()[0] == 0
after, wanted = shutil.disk_usage(mount).used, image()
subprocess.run(["umount", str(mount)], check=True)
found = []
for number in range(10):
    size = before + (after - before) * (number + 1) // 11
    fresh(size)
    code, text = build()
    subprocess.run(["mount", "-o", f"remount,size={1 << 30}", str(mount)], check=True)
    again, told = build()
    verify = subprocess.run([sys.executable, "-m", "yarrik", "cache", "verify"], env=environment, capture_output=True, text=True)
    found.append({"code": code, "text": text, "again": again, "told": told, "same": again == 0 and image() == wanted,
                  "verified": verify.returncode})
    subprocess.run(["umount", str(mount)], check=True)
print(json.dumps(found))
"""


class InANamespace(WorkspaceTest):
    def in_namespace(self, script: str, *words: str | Path) -> str:
        """Runs a Python script where it may mount things, also without being root."""
        file = self.write("script.py", script)
        command = ["unshare", "--user", "--map-root-user", "--mount", sys.executable, str(file), *map(str, words)]
        done = subprocess.run(command, env=self.environment, capture_output=True, text=True, timeout=500)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        return done.stdout


class AFullDisk(InANamespace):
    def test_at_ten_places(self) -> None:
        (self.folder / "disk").mkdir()
        found = json.loads(self.in_namespace(FULL_DISK, self.root, self.folder / "disk").splitlines()[-1])
        self.assertEqual(len(found), 10)
        for one in found:
            self.assertIn(one["code"], (1, 2), one["text"])
            self.assertNotIn("Traceback", one["text"] + one["told"])
            self.assertRegex(one["text"], "error [A-Z]+-[A-Z-]+: .*\n(.*\n)*.*next ")
            self.assertEqual(one["again"], 0, one["told"])
            self.assertTrue(one["same"], "another image came out after a full disk")
            self.assertEqual(one["verified"], 0)


class ACacheThatCannotBeWritten(InANamespace):
    def test_what_is_kept_is_used_and_what_has_to_run_is_told(self) -> None:
        self.yarrik("build", at=self.root)
        text = self.in_namespace("""
            import subprocess, sys
            cache, root = sys.argv[1:]
            subprocess.run(["mount", "--bind", cache, cache], check=True)
            subprocess.run(["mount", "-o", "remount,bind,ro", cache], check=True)
            words = [sys.executable, "-m", "yarrik", "build", "--workspace", root]
            print("FIRST", subprocess.run(words, capture_output=True, text=True))
            source = root + "/s/recipes/init/src/init.c"
            open(source, "a").write("int more;\\n")
            print("SECOND", subprocess.run(words, capture_output=True, text=True))
            open(source, "w").write("int main(void) { return 0; }\\n")
            print("THIRD", subprocess.run(words, capture_output=True, text=True))
        """, self.folder / "cache", self.root)  # fmt: skip
        first, second, third = text.splitlines()
        self.assertIn("nothing to do", first)
        self.assertIn("returncode=1", second)
        self.assertIn("CACHE-UNWRITABLE", second)
        self.assertNotIn("Traceback", text)
        self.assertIn("nothing to do", third)


class BytesThatFlip(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.recipe(
            "lib",
            "mkdir -p $DESTDIR/usr/include && cp lib.h $DESTDIR/usr/include",
            {"lib.h": "#define LEVEL 7\n"},
            package='[package.lib]\nfiles = ["**"]',
        )
        self.recipe("init", "mkdir -p $DESTDIR/sbin && $CC $CFLAGS $LDFLAGS -o $DESTDIR/sbin/init init.c",
                    {"init.c": "#include <lib.h>\nint main(void) { return LEVEL; }\n"}, 'needs = ["lib"]')  # fmt: skip
        (self.root / "s/images/i.toml").write_text('packages = ["init", "lib"]\n')
        self.yarrik("build", at=self.root)
        self.image = (self.root / "out/p/p.img").read_bytes()
        self.second = self.image_with("int more = 1;\n")

    def image_with(self, line: str) -> bytes:
        """The image when a line is added to the source, by a cache that is as it should be."""
        shutil.copytree(self.root, self.folder / "other", ignore=shutil.ignore_patterns(".yarrik", "out"))
        with (self.folder / "other/s/recipes/init/src/init.c").open("a") as file:
            file.write(line)
        environment = self.environment
        self.environment = {**environment, "YARRIK_CACHE": str(self.folder / "other-cache")}
        self.yarrik("build", at=self.folder / "other")
        self.environment = environment
        return (self.folder / "other/out/p/p.img").read_bytes()

    def files(self) -> Iterator[tuple[str, Path]]:
        """Every file that is kept between builds, by kind."""
        for kind in ("objects", "trees", "results"):
            for path in sorted((self.folder / "cache" / kind).rglob("*")):
                if path.is_file():
                    yield kind, path
        for name in ("in-use", "running"):
            yield "lock", self.folder / "cache" / name
        for path in sorted((self.root / ".yarrik").iterdir()):
            if path.is_file() and path.name != ".gitignore":
                yield "memory", path

    def test_in_every_kind_of_file_and_all_at_once(self) -> None:
        kinds = list(dict.fromkeys(kind for kind, _ in self.files()))
        self.assertEqual(kinds, ["objects", "trees", "results", "lock", "memory"])
        source = self.root / "s/recipes/init/src/init.c"
        plain = source.read_text()
        for kind in [*kinds, None]:
            with self.subTest(kind=kind):
                for found, path in self.files():
                    if kind in (found, None):
                        flip(path)
                source.write_text(plain + "int more = 1;\n")
                text = self.yarrik("build", at=self.root)
                self.assertEqual((self.root / "out/p/p.img").read_bytes(), self.second, text)
                if kind in ("objects", "trees"):
                    self.assertIn("the cache was damaged, and what was lost is made again", text)
                source.write_text(plain)
                self.yarrik("build", at=self.root)
                self.assertEqual((self.root / "out/p/p.img").read_bytes(), self.image)

    def test_one_without_a_trace_does_not_get_into_an_image(self) -> None:
        listed = json.loads((self.root / "out/p/files.json").read_text())
        digest = next(one["sha256"] for one in listed["files"] if one["path"] == "/sbin/init")
        victim = self.folder / "cache/objects" / digest[:2] / digest
        status = victim.stat()
        flip(victim)
        os.utime(victim, ns=(status.st_atime_ns, status.st_mtime_ns))
        with (self.root / "s/images/i.toml").open("a") as file:
            file.write('hostname = "gull"\n')
        text = self.yarrik("build", at=self.root)
        self.assertIn(f"the cache was damaged, and what was lost is made again: objects/{digest[:12]}", text)
        found = self.folder / "found"
        self.yarrik("inspect", "out/p/p.img", "--extract", "/sbin/init", "--to", found, at=self.root)
        data = next(path for path in found.rglob("init") if path.is_file()).read_bytes()
        self.assertEqual(hashlib.sha256(data).hexdigest(), digest)

    def test_what_is_no_file_in_the_place_of_the_memory(self) -> None:
        memory = self.root / ".yarrik/memory.sqlite"
        for suffix in ("", "-wal"):
            memory.unlink()
            (self.root / "out/p/p.img").unlink()
            os.mkfifo(f"{memory}{suffix}")
            self.yarrik("build", at=self.root)
            self.assertEqual((self.root / "out/p/p.img").read_bytes(), self.image)
        (self.root / "out/p/p.img").unlink()
        memory.unlink()
        memory.mkdir()
        text = self.yarrik("build", at=self.root, code=2)
        self.assertRegex(text, r"WORKSPACE-UNWRITABLE.*Is a directory\n *where .*memory.sqlite\n(.*\n)* *next .*in its place")
        memory.rmdir()
        self.yarrik("build", at=self.root)
        self.assertEqual((self.root / "out/p/p.img").read_bytes(), self.image)

    def test_in_any_byte_of_the_memory(self) -> None:
        memory = self.root / ".yarrik/memory.sqlite"
        whole = memory.read_bytes()
        for at in range(0, len(whole), max(1, len(whole) // 12)):  # tests of the memory itself try more of them
            data = bytearray(whole)
            data[at : at + 16] = bytes(byte ^ 0x10 for byte in data[at : at + 16])
            memory.write_bytes(data)
            for beside in ("-wal", "-shm"):
                Path(f"{memory}{beside}").unlink(missing_ok=True)
            (self.root / "out/p/p.img").unlink()
            self.yarrik("build", at=self.root)
            self.assertEqual((self.root / "out/p/p.img").read_bytes(), self.image, f"at byte {at}")


def flip(path: Path) -> None:
    """Changes a byte in the middle of a file, as anything might that writes."""
    mode = path.stat().st_mode & 0o777
    path.chmod(0o644)
    data = bytearray(path.read_bytes())
    if data:
        data[len(data) // 2] ^= 0x20
        path.write_bytes(data)
    path.chmod(mode)


class AClockThatJumps(WorkspaceTest):
    def test_years_back_and_forth_between_builds(self) -> None:
        source = self.root / "s/recipes/init/src/init.c"
        digests = set()
        for number, jump in enumerate(("+0", "-3y", "+5y", "-1y", "+0")):
            words = ["faketime", "-f", jump, sys.executable, "-m", "yarrik", "build", "--json"]
            edit = [
                "faketime",
                "-f",
                jump,
                sys.executable,
                "-c",
                f"open({str(source)!r}, 'w').write('int main(void) {{ return {number % 2}; }}\\n')",
            ]
            for command, code in ((edit, 0), (words, 0)):
                done = subprocess.run(command, cwd=self.root, env=self.environment, capture_output=True, text=True, timeout=300)
                self.assertEqual(done.returncode, code, done.stdout + done.stderr)
            self.assertTrue(json.loads(done.stdout.splitlines()[-1])["ok"])
            digests.add((number % 2, hashlib.sha256((self.root / "out/p/p.img").read_bytes()).hexdigest()))
        self.assertEqual(len(digests), 2, "the image does not follow the source alone")
        self.assertEqual(self.yarrik_json("cache", "prune", "--unused", "1d")["left"] > 0, True)


# The program, with steps that are given so long to end that nobody would take it for a slow machine.
PATIENT = 100
PATIENTLY = f"from yarrik.run import sandbox; sandbox.GRACE = {PATIENT}; from yarrik.cli import main; main()"


class ProgramsThatEnd(WorkspaceTest):
    def start(self, *words: str, program: tuple[str, str] = ("-m", "yarrik")) -> subprocess.Popen[bytes]:
        self.recipe(
            "slow",
            f"trap '' INT TERM; echo begun; : {self.folder.name}; sleep 600; mkdir -p $DESTDIR",
            package='[package.slow]\nfiles = ["**"]',
        )
        (self.root / "s/images/i.toml").write_text('packages = ["init", "slow"]\n')
        shutil.rmtree(self.root / ".yarrik", ignore_errors=True)
        process = subprocess.Popen(
            [sys.executable, *program, "build", *words], cwd=self.root, env=self.environment,
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, start_new_session=True,
        )  # fmt: skip
        log = self.root / ".yarrik/logs/p/build-slow.log"
        deadline = time.monotonic() + 300
        while not (log.exists() and b"begun" in log.read_bytes()):
            self.assertLess(time.monotonic(), deadline, "the step did not begin")
            time.sleep(0.05)
        return process

    def commands_left(self) -> str:
        return subprocess.run(["pgrep", "-f", f"echo begun; : {self.folder.name}"], capture_output=True, text=True).stdout

    def test_ctrl_c_ends_the_steps_and_tells_what_is_next(self) -> None:
        for words in ((), ("--no-sandbox",)):
            process = self.start(*words)
            process.send_signal(signal.SIGINT)
            text = process.communicate(timeout=120)[0].decode()
            self.assertEqual(process.returncode, 130, text)
            self.assertIn("finished steps are kept, build again to continue", text)
            self.assertNotIn("Traceback", text)
            self.assertEqual(self.commands_left(), "")

    def test_a_second_one_ends_all_at_once(self) -> None:
        process = self.start("--no-sandbox", program=("-c", PATIENTLY))
        started = time.monotonic()
        process.send_signal(signal.SIGINT)
        time.sleep(0.3)
        process.send_signal(signal.SIGINT)
        text = process.communicate(timeout=120)[0].decode()
        self.assertEqual(process.returncode, 130, text)
        self.assertLess(time.monotonic() - started, PATIENT, "it waited for the steps")
        self.assertNotIn("Traceback", text)
        self.assertEqual(self.commands_left(), "")

    def test_a_request_to_end_is_one_too(self) -> None:
        process = self.start()
        process.send_signal(signal.SIGTERM)
        text = process.communicate(timeout=120)[0].decode()
        self.assertIn("finished steps are kept", text)
        self.assertEqual(self.commands_left(), "")

    def test_random_kills(self) -> None:
        met, through = kill(10, seed=7)
        self.assertGreaterEqual(met, 5)
        self.assertGreaterEqual(through, 1)


class TwoUsersWithOneCache(WorkspaceTest):
    def test_each_takes_what_the_other_has_built(self) -> None:
        cache = self.folder / "cache"
        shutil.rmtree(cache)
        cache.mkdir()
        cache.chmod(0o2777)
        self.folder.chmod(0o755)
        shutil.copytree(self.root, self.folder / "second")
        shutil.copytree(self.root, self.folder / "warm")
        # As root, everything is imported before another user, who may not look into this Python's folder, takes over.
        script = """
            import contextlib, io, os, sys
            import yarrik.cli
            base = sys.argv[1]

            def build(root):
                sys.argv = ["yarrik", "build", "--json", "--workspace", root]
                with contextlib.redirect_stdout(io.StringIO()) as out, contextlib.suppress(SystemExit):
                    yarrik.cli.main()
                return out.getvalue().splitlines()[-1]

            cache = os.environ["YARRIK_CACHE"]
            os.environ["YARRIK_CACHE"] = base + "/warm-cache"
            build(base + "/warm")
            os.environ["YARRIK_CACHE"] = cache
            for number, (user, root) in enumerate(((65531, "/w"), (65532, "/second"), (65531, "/w"))):
                root = base + root
                if number:
                    with open(root + "/s/recipes/init/src/init.c", "a") as file:
                        file.write("int of_both;\\n")
                child = os.fork()
                if child == 0:
                    if os.getuid() == 0:
                        for folder, _, files in os.walk(root):
                            for name in [folder, *(os.path.join(folder, file) for file in files)]:
                                os.chown(name, user, user)
                        os.setgroups([])
                        os.setgid(user)
                        os.setuid(user)
                    os.environ["HOME"] = root
                    os.umask(0o022)
                    told = build(root)
                    with open(f"{root}/report-{number}.json", "w") as file:
                        file.write(told)
                    os._exit(0)
                os.waitpid(child, 0)
        """
        words = [sys.executable, str(self.write("script.py", script)), str(self.folder)]
        done = subprocess.run(words, cwd="/", env=self.environment, capture_output=True, text=True, timeout=300)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        reports = [
            json.loads((self.folder / name).read_text())
            for name in ("w/report-0.json", "second/report-1.json", "w/report-2.json")
        ]
        self.assertIn("build kernel", self.ran(reports[0]))
        self.assertNotIn("build kernel", self.ran(reports[1]))
        self.assertIn("build init", self.ran(reports[1]))
        self.assertEqual(self.ran(reports[2]), [], "what the second user built is taken by the first")
        self.assertEqual((self.root / "out/p/p.img").read_bytes(), (self.folder / "second/out/p/p.img").read_bytes())
        for path in cache.rglob("*"):
            if path.is_dir() and "host/" not in str(path):  # each user has views of the machine of their own
                self.assertEqual(path.stat().st_mode & 0o777, 0o777, path)


if __name__ == "__main__":
    unittest.main()
