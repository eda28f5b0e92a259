"""What tests share: temporary folders, the program itself, small workspaces, and other people's tools."""

from __future__ import annotations

import atexit
import fcntl
import hashlib
import json
import os
import pty
import secrets
import select
import shutil
import signal
import struct
import subprocess
import sys
import tempfile
import termios
import textwrap
import time
import unittest
from collections.abc import Mapping, Sequence
from contextlib import suppress
from functools import cache
from pathlib import Path

from tests.loaded import Loaded, serves
from yarrik.disk.fat_edit import FatEditor
from yarrik.disk.opening import opened_bytes

# A shell that starts the tests in the background has SIGINT ignored, and programs inherit that: those that press Ctrl-C need it.
if signal.getsignal(signal.SIGINT) == signal.SIG_IGN:
    signal.signal(signal.SIGINT, signal.default_int_handler)
# A program that may not keep its compiled modules compiles them at each start, which is half of the time of most tests.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
# Checkers of filesystems and tables live where only root's PATH leads on some systems.
os.environ["PATH"] += ":/usr/sbin:/sbin"


def new_folder() -> Path:
    """An empty folder under the system's folder for temporary files. Nothing that a test may look for in what a program says can
    be in its name by chance: with letters and digits as they come, one in some thousands of them has a "bad" or a "404" in it."""
    while True:
        folder = Path(tempfile.gettempdir(), f"yarrik-test-{''.join(secrets.choice('jkqvxz') for _ in range(12))}").resolve()
        with suppress(FileExistsError):
            folder.mkdir(mode=0o700)
            return folder


#: Recipes that come with every new workspace.
STARTER = Path(__file__).parent.parent / "src/yarrik/starter/data/recipes"


def starter_programs(folder: Path, flags: Sequence[str], *recipes: str) -> None:
    """Builds programs of the starter shelf with these flags of the compiler, into a folder: `init` has `init` and `first-boot`,
    `shell` has `sh`."""
    with tempfile.TemporaryDirectory() as place:
        for recipe in recipes:
            work = Path(place, recipe)
            shutil.copytree(STARTER / recipe / "src", work)
            subprocess.run(["make", "-s", "-C", work, "CC=gcc", f"CFLAGS={' '.join(flags)}"], check=True)
            for program, name in (("init", "init"), ("first-boot", "first-boot"), ("shell", "sh")):
                if (work / program).is_file():
                    shutil.copy(work / program, folder / name)


class FolderTest(unittest.TestCase):
    """A test with an empty folder of its own."""

    def setUp(self) -> None:
        self.folder = new_folder()
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)

    def write(self, name: str, text: str | bytes) -> Path:
        """Writes a file below the folder, dedented when it is text."""
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        if isinstance(text, bytes):
            path.write_bytes(text)
        else:
            path.write_text(textwrap.dedent(text).lstrip("\n"))
        return path

    def tool(self, *words: str | Path, ok: tuple[int, ...] = (0,)) -> str:
        """Runs somebody else's program, which has to be there, and returns what it says."""
        self.assertIsNotNone(shutil.which(str(words[0])), f"{words[0]} is missing: run `make test`, which installs it")
        done = subprocess.run([str(word) for word in words], capture_output=True, timeout=300, check=False)
        text = (done.stdout + done.stderr).decode("utf-8", "replace")
        self.assertIn(done.returncode, ok, text)
        return text


_loaded: Loaded | None = None


def loaded() -> Loaded:
    """This process's program with its modules loaded."""
    global _loaded
    if _loaded is None or not _loaded.ours():
        _loaded = Loaded()
        atexit.register(_loaded.close)
    return _loaded


@cache
def program_digest() -> str:
    """The program's files as they were when it was asked for first: path, size, and when each was changed."""
    top = Path(__file__).parent.parent / "src/yarrik"
    files = sorted(path for path in top.rglob("*") if path.is_file() and "__pycache__" not in path.parts)
    rows = [f"{path} {path.stat().st_size} {path.stat().st_mtime_ns}\n" for path in files]
    return hashlib.sha256("".join(rows).encode()).hexdigest()


class ProgramTest(FolderTest):
    """Drives `yarrik` as its users do, with a cache of its own."""

    #: Whether runs may be forks of one process: where hashes of words, or the start of Python, may matter, they may not.
    forks = True

    def setUp(self) -> None:
        super().setUp()
        # What steps see of this machine is the same for all tests: one copy of it will do.
        host = Path(tempfile.gettempdir(), f"yarrik-tests-host-{os.getuid()}")
        host.mkdir(exist_ok=True)
        (self.folder / "cache").mkdir()
        (self.folder / "cache/host").symlink_to(host)
        self.environment = {**os.environ, "YARRIK_CACHE": str(self.folder / "cache"), "NO_COLOR": "1", "COLUMNS": "200"}

    def seed(self) -> None:
        """Gives the cache the steps of the demo's products, for tests of what comes after. They are built once for all tests,
        and anew by a program that has changed."""
        place = Path(tempfile.gettempdir(), f"yarrik-tests-seed-{os.getuid()}")
        place.mkdir(exist_ok=True)
        with (place / "lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            seed = place / program_digest()
            if not seed.exists():
                for other in place.iterdir():
                    if other.is_dir():
                        shutil.rmtree(other)
                shutil.copytree(self.folder / "cache", place / "new", symlinks=True)
                environment = {**self.environment, "YARRIK_CACHE": str(place / "new")}
                words = [sys.executable, "-m", "yarrik", "demo", str(self.folder / "seeding"), "--no-boot"]
                subprocess.run(words, env=environment, check=True, capture_output=True)
                shutil.rmtree(self.folder / "seeding")
                (place / "new").rename(seed)
            shutil.rmtree(self.folder / "cache")
            shutil.copytree(seed, self.folder / "cache", symlinks=True)

    def yarrik(self, *words: str | Path, code: int = 0, at: Path | None = None, seconds: float = 300) -> str:
        """Runs the program, checks its exit code, and returns what it printed on both streams."""
        arguments = [str(word) for word in words]
        if self.forks and serves(self.environment):
            done = loaded().run(arguments, at or self.folder, self.environment, seconds)
        else:
            done = subprocess.run(
                [sys.executable, "-m", "yarrik", *arguments],
                cwd=at or self.folder,
                env=self.environment,
                stdin=subprocess.DEVNULL,
                capture_output=True,
                timeout=seconds,
                check=False,
            )
        text = done.stdout.decode("utf-8", "replace") + done.stderr.decode("utf-8", "replace")
        self.assertEqual(done.returncode, code, text)
        self.assertNotIn("Traceback", text)
        return text

    def at_terminal(self, *words: str | Path, at: Path | None = None, seconds: float = 120, types: bytes = b"") -> bytes:
        """What the program sends to a terminal of its own, 100 columns wide, on which somebody types."""
        outer, inner = pty.openpty()
        fcntl.ioctl(inner, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 100, 0, 0))
        process = subprocess.Popen([sys.executable, "-m", "yarrik", *map(str, words)], cwd=at or self.folder, env=self.environment,
                                   stdin=inner, stdout=inner, stderr=inner)  # fmt: skip
        os.close(inner)
        os.write(outer, types)
        seen = b""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if not select.select([outer], [], [], 1)[0]:
                continue
            try:
                data = os.read(outer, 1 << 16)
            except OSError:
                break
            if not data:
                break
            seen += data
        os.close(outer)
        process.kill()
        process.wait()
        return seen

    def yarrik_json(self, *words: str | Path, code: int = 0, at: Path | None = None) -> dict:
        """The JSON that the program printed: its document, or the last of its events."""
        text = self.yarrik(*words, "--json", code=code, at=at)
        try:
            return json.loads(text)
        except json.JSONDecodeError:
            return json.loads(text.splitlines()[-1])

    def ran(self, report: dict) -> list[str]:
        """The steps that ran, out of a build's JSON."""
        return [step["step"] for step in report["steps"] if step["how"] == "ran"]


def edit_boot_file(image: Path, path: str, change: dict[str, str] | bytes) -> None:
    """Changes a file on an image's first FAT partition, as a hand that slips would: some words of it, or all of it."""
    with opened_bytes(image) as (_, found):
        part = next(part for part in found.partitions if part.reader is not None and part.reader.form.startswith("FAT"))
    with image.open("r+b") as disk:
        editor = FatEditor(disk, part.start, part.size)
        known = next(one for one in editor.walk() if one.path.lower() == path.lower())
        data = b"".join(editor.content(known))
        if isinstance(change, bytes):
            data = change
        else:
            for old, new in change.items():
                assert old.encode() in data, f"{path} has no {old!r}"
                data = data.replace(old.encode(), new.encode())
        editor.replace(path, data)


OFFICE = """
[workspace]
name = "test"
[[shelf]]
name = "s"
path = "s"
"""


class WorkspaceTest(ProgramTest):
    """A small workspace on the build host's own architecture; recipes are added with `recipe`."""

    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "w"
        self.write("w/yarrik.toml", OFFICE)
        self.write("w/s/shelf.toml", '[shelf]\nname = "s"\n')
        self.write("w/s/profiles/p.toml", 'init = "init"\n')
        self.write(
            "w/s/boards/b.toml",
            """
            arch = "host"
            [kernel]
            recipe = "kernel"
            [[disk]]
            name = "card"
            [[disk.partition]]
            name = "root"
            holds = "root"
            """,
        )
        self.write("w/s/images/i.toml", 'packages = ["init"]\n')
        self.write("w/products/p.toml", 'board = "b"\nprofile = "p"\nimage = "i"\n')
        self.write("w/s/recipes/libc/recipe.toml", 'version = "1"\nlicence = "MIT"\n[build]\nusing = "toolchain-runtime"\n')
        demo = Path(__file__).parent.parent / "src/yarrik/starter/data/recipes/stand-in"
        shutil.copytree(demo, self.root / "s/recipes/kernel")
        text = (self.root / "s/recipes/kernel/recipe.toml").read_text().replace("package.stand-in", "package.kernel")
        (self.root / "s/recipes/kernel/recipe.toml").write_text(text)
        self.recipe("init", "mkdir -p $DESTDIR/sbin && $CC $CFLAGS $LDFLAGS -o $DESTDIR/sbin/init init.c", {"init.c": MAIN})

    def content(self, path: str) -> str:
        """A text file in the product's image, as `inspect` takes it out."""
        with tempfile.TemporaryDirectory(dir=self.folder) as folder:
            self.yarrik("inspect", "out/p/p.img", "--extract", path, "--to", folder, at=self.root)
            return Path(folder, path.rpartition("/")[2]).read_text()

    def recipe(
        self, name: str, command: str, files: Mapping[str, str | bytes] | None = None, more: str = "", package: str = ""
    ) -> None:
        """Adds a `plain` recipe with one command; `more` goes into [build], `package` after it."""
        lines = [
            'version = "1"',
            'licence = "MIT"',
            "[[source]]",
            'path = "src"',
            "[build]",
            'using = "plain"',
            f"commands = ['''{command}''']",
            more,
            package,
        ]
        self.write(f"w/s/recipes/{name}/recipe.toml", "\n".join(lines) + "\n")
        (self.root / f"s/recipes/{name}/src").mkdir(exist_ok=True)
        for file, text in (files or {}).items():
            self.write(f"w/s/recipes/{name}/src/{file}", text)


MAIN = "int main(void) { return 0; }\n"
