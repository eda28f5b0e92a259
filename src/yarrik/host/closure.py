"""The files of the host that a set of programs needs to run: themselves, their loaders, libraries, interpreters and data."""

from __future__ import annotations

import glob
import os
import re
import stat
from collections.abc import Iterable
from functools import cache
from typing import TYPE_CHECKING

import msgspec

from yarrik.elf import ElfDamaged, elf_facts
from yarrik.host.headers import is_toolchain_file
from yarrik.host.programs import EVERYWHERE, FOLDERS, PERL_MODULE, PROGRAMS, family, find_program, reads_of
from yarrik.patterns import lazy_pattern

if TYPE_CHECKING:
    from yarrik.elf import ElfFacts

#: Folders that all packages of a host share: of what lies in them, only single things are let in.
_SHARED = lazy_pattern(
    r"/usr(?:/local)?(?:/include(?:/[\w.]+-linux-[\w.]+)?|/lib(?:32|64|x32)?(?:/[\w.]+-linux-[\w.]+)?|/libexec|/share(?:/aclocal)?|/s?bin)?"
    r"|/(?:lib(?:32|64|x32)?(?:/[\w.]+-linux-[\w.]+)?|s?bin|etc|opt)?"
)
_HEADERS = lazy_pattern(r"/usr/include/.")
#: Folders of headers with hundreds of files.
_LARGE = frozenset(["linux", "bits", "c++"])
#: In a folder that is let in whole, what may be a library or program and need further libraries.
_LIBRARY = lazy_pattern(r".*\.so(?:\.[\d.]+)?")


def is_header(path: str) -> bool:
    """Whether a file is one of the toolchain's headers in a folder that packages share: the toolchain's identity has them."""
    return _HEADERS.match(path) is not None


class Sight(msgspec.Struct, frozen=True):
    """What is let in: `files` one by one, `links` with where they lead, and `folders` whole. All paths are absolute, and no
    word of them but the last is a link."""

    files: tuple[str, ...] = ()
    links: tuple[tuple[str, str], ...] = ()
    folders: tuple[str, ...] = ()


def sight_of(programs: Iterable[str], toolchain: Iterable[str] = ()) -> Sight:
    """What programs (names, paths, or modules of Perl and Python) and a toolchain's own files and folders need. What is not on
    this machine is left out."""
    found = _Closure()
    for name in EVERYWHERE:
        path = find_program(name)
        if path is not None:
            found.take_program(name, path)
    for wanted in programs:
        for name in family(wanted):
            path = find_program(name)
            if path is not None:
                found.take_program(name, path)
    for path in toolchain:
        found.take(path)
    found.take("/etc/ld.so.cache")
    return found.sight


def searched_folders(programs: Iterable[str]) -> tuple[str, ...]:
    """The folders whose entries decide what `sight_of` finds for programs: one more file in them, and it may find more."""
    found = dict.fromkeys(FOLDERS)
    for wanted in programs:
        for name in family(wanted):
            for pattern in reads_of(name):
                above = os.path.dirname(pattern)
                while glob.has_magic(above):
                    found |= dict.fromkeys(sorted(glob.glob(above)))
                    above = os.path.dirname(above)
                found[above] = None
    return tuple(found)


class _Closure:
    def __init__(self) -> None:
        self.files: dict[str, None] = {}
        self.links: dict[str, str] = {}
        self.folders: dict[str, None] = {}
        self._facts: dict[str, ElfFacts | None] = {}

    @property
    def sight(self) -> Sight:
        folders = [path for path in sorted(self.folders) if not any(path.startswith(f"{other}/") for other in self.folders)]
        inside = tuple(f"{folder}/" for folder in folders)
        return Sight(
            tuple(path for path in sorted(self.files) if not path.startswith(inside)),
            tuple((path, target) for path, target in sorted(self.links.items()) if not path.startswith(inside)),
            tuple(folders),
        )

    def take_program(self, name: str, path: str) -> None:
        if name.startswith(PERL_MODULE):
            self.take(path)
            self.take(path.removesuffix(".pm"))
            for compiled in glob.glob(f"{os.path.dirname(path)}/auto/{name.removeprefix(PERL_MODULE).replace('::', '/')}"):
                self.take(compiled)
            return
        self.take(path)
        for pattern in reads_of(name):
            for one in sorted(glob.glob(pattern)):
                self.take(one)

    def take(self, path: str) -> None:
        """Lets a path in, with the links that lead to it and what it needs. Nothing happens when it is not there."""
        real = self._walk(path)
        if real is None or real in self.files or real in self.folders:
            return
        try:
            mode = os.stat(real).st_mode
        except OSError:
            return
        if stat.S_ISDIR(mode):
            if _HEADERS.match(real) and os.path.basename(real) not in _LARGE:
                # Dozens of small folders: copies cost once, mounts cost each command.
                for place, folders, names in os.walk(real):
                    folders.sort()
                    for name in sorted(names):
                        self.take(f"{place}/{name}")
            elif _SHARED.fullmatch(real) is None:
                self.folders[real] = None
                self._take_needs_below(real)
            return
        if stat.S_ISREG(mode):
            self.files[real] = None
            if not _HEADERS.match(real):
                self._take_needs(real)

    def _walk(self, path: str) -> str | None:
        """Notes the links on a way, and returns where it ends; None when there are too many of them."""
        words = path.split("/")[::-1]
        current = ""
        for _ in range(4096):
            if not words:
                return current or "/"
            word = words.pop()
            if word in ("", "."):
                continue
            if word == "..":
                current = current.rpartition("/")[0]
                continue
            following = f"{current}/{word}"
            try:
                target = os.readlink(following)
            except OSError:
                current = following
                continue
            self.links[following] = target
            if target.startswith("/"):
                current = ""
            words += target.split("/")[::-1]
        return None

    def _take_needs(self, path: str) -> None:
        try:
            with open(path, "rb") as file:
                head = file.read(256)
                if head.startswith(b"#!"):
                    self._take_interpreter(head[2:].partition(b"\n")[0].decode("utf-8", "replace").split())
                    return
                facts = elf_facts(file)
        except (OSError, ElfDamaged):
            return
        if facts is None:
            return
        if facts.interpreter:
            self.take(facts.interpreter)
        origin = os.path.dirname(path)
        folders = [one.replace("$ORIGIN", origin).replace("${ORIGIN}", origin) for one in facts.runpath]
        for name in facts.needed:
            for folder in (*folders, *_library_folders()):
                candidate = f"{folder}/{name}"
                if os.path.isfile(candidate) and _arch_of(candidate) == facts.arch:
                    self.take(candidate)
                    break

    def _take_interpreter(self, words: list[str]) -> None:
        if not words:
            return
        self.take(words[0])
        name = os.path.basename(words[0])
        if name == "env":
            wanted = next((word for word in words[1:] if not word.startswith("-") and "=" not in word), "")
            path = find_program(wanted, FOLDERS) if wanted else None
            if path is None:
                return
            name = wanted
            self.take(path)
        name = re.sub(r"^(python3|perl)[\d.]*$", r"\1", name)
        if name in PROGRAMS:
            for one in family(name):
                path = find_program(one)
                if path is not None:
                    self.take_program(one, path)

    def _take_needs_below(self, folder: str) -> None:
        for place, _, names in os.walk(folder):
            for name in names:
                path = f"{place}/{name}"
                try:
                    status = os.lstat(path)
                except OSError:
                    continue
                if stat.S_ISLNK(status.st_mode):
                    self.take(path)  # it may lead out of the folder
                elif _LIBRARY.fullmatch(name) or status.st_mode & 0o111:
                    self._take_needs(path)


@cache
def _library_folders() -> tuple[str, ...]:
    """Where this host's loader looks: the folders of its settings (ld.so(8)), and those of the system."""
    folders: dict[str, None] = {}
    for file in ("/etc/ld.so.conf", *sorted(glob.glob("/etc/ld.so.conf.d/*.conf"))):
        try:
            with open(file, encoding="utf-8", errors="replace") as text:
                folders |= {line.strip(): None for line in text if line.startswith("/")}
        except OSError:
            continue
    own = sorted(glob.glob("/usr/lib/*-linux-*")) + sorted(glob.glob("/lib/*-linux-*"))
    every = dict.fromkeys([*folders, *own, "/lib64", "/usr/lib64", "/lib", "/usr/lib"])
    return tuple(path for path in every if os.path.isdir(path))


@cache
def _arch_of(path: str) -> str:
    try:
        with open(path, "rb") as file:
            facts = elf_facts(file)
    except (OSError, ElfDamaged):
        return ""
    return facts.arch if facts is not None else ""


def shared_files(folder: str, kind: str) -> list[str]:
    """The toolchain's own things in a folder that all packages share; `kind` is `include` or `lib`."""
    try:
        names = sorted(os.listdir(folder))
    except OSError:
        return []
    return [f"{folder}/{name}" for name in names if is_toolchain_file(name, kind)]


def is_shared(folder: str) -> bool:
    """Whether packages of all kinds put their files into this folder."""
    return _SHARED.fullmatch(folder) is not None
