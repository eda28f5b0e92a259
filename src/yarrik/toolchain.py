"""The toolchain of a board: which compiler it is, for which architecture, and the C library's run-time files it brings."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
import tempfile
from dataclasses import dataclass, replace
from pathlib import Path

import msgspec

from yarrik.arch import ARCHES, arch_of_compiler
from yarrik.cache import Memory
from yarrik.elf import read_elf
from yarrik.errors import Place, Trouble, YarrikError

#: The Debian package that brings each program that builds ask for.
DEBIAN_PACKAGES = {
    "gcc": "gcc libc6-dev",
    "aarch64-linux-gnu-gcc": "gcc-aarch64-linux-gnu libc6-dev-arm64-cross",
    "x86_64-linux-gnu-gcc": "gcc-x86-64-linux-gnu libc6-dev-amd64-cross",
    "strip": "binutils",
    "make": "make",
    "bc": "bc",
    "bison": "bison",
    "flex": "flex",
    "perl": "perl",
    "git": "git",
    "qemu-system-aarch64": "qemu-system-arm",
    "qemu-system-x86_64": "qemu-system-x86",
    "bwrap": "bubblewrap",
}


@dataclass(frozen=True)
class RuntimeFile:
    """One of the C library's files: where it stands here, where it belongs in an image, and its digest."""

    here: str
    in_image: str
    digest: str


@dataclass(frozen=True)
class Toolchain:
    """A C toolchain. `identity` changes when any of its programs or its C library changes."""

    prefix: str
    arch: str
    triplet: str
    version: str
    identity: str
    programs: tuple[str, ...]
    runtime: tuple[RuntimeFile, ...]
    #: The folder that it was unpacked into, where it is not one of this machine's own.
    folder: str = ""

    @property
    def shown(self) -> str:
        return f"{self.version} for {self.triplet}, {self.identity[:12]}"


class _Remembered(msgspec.Struct):
    marks: dict[str, str]
    toolchain: Toolchain


def probe(prefix: str, memory: Memory, place: Place, wanted_arch: str | None = None, folder: Path | None = None) -> Toolchain:
    """Finds the compiler `<prefix>gcc` (or `cc` for no prefix), here or in an unpacked archive, and learns what it is.

    `wanted_arch` is the board's; None accepts whatever the compiler builds for (the build host's own).
    Raises YarrikError when it is missing, does not work, or builds for another architecture."""
    driver = _find_driver(prefix, place) if folder is None else _driver_in(folder, prefix, place)
    fact = f"toolchain {driver}"
    toolchain = _recall(memory, fact)
    if toolchain is None:
        toolchain = _learn(prefix, driver, memory, place)
        toolchain = replace(toolchain, folder=str(folder or ""))
        marks = {path: _mark(path) for path in (*toolchain.programs, *(file.here for file in toolchain.runtime))}
        memory.learn(fact, msgspec.json.encode(_Remembered(marks, toolchain)))
    if wanted_arch is not None and toolchain.arch != wanted_arch:
        raise YarrikError(
            Trouble(
                "TOOLCHAIN-ARCH",
                f"the compiler {driver} builds for {toolchain.arch} ({toolchain.triplet}), and the board is {wanted_arch}",
                place,
                why="its programs could not run on the board",
                remedy="set the board's `toolchain.prefix` to a compiler for its architecture"
                + (", like `aarch64-linux-gnu-`" if wanted_arch == "arm64" else ""),
            )
        )
    return toolchain


def _recall(memory: Memory, fact: str) -> Toolchain | None:
    known = memory.fact(fact)
    if known is None:
        return None
    try:
        remembered = msgspec.json.decode(known, type=_Remembered)
    except msgspec.DecodeError:
        return None
    fresh = all(_mark(path) == mark for path, mark in remembered.marks.items())
    return remembered.toolchain if fresh else None


def _mark(path: str) -> str:
    try:
        status = Path(path).stat()
    except OSError:
        return "missing"
    return f"{status.st_size} {status.st_mtime_ns} {status.st_ino}"


def missing_program(program: str, place: Place, why: str) -> Trouble:
    """The trouble that a program is not on this machine, with the package that brings it."""
    package = DEBIAN_PACKAGES.get(program, program)
    return Trouble("HOST-TOOL-MISSING", f"the program `{program}` is not on this machine", place, why=why,
                   remedy=f"on Debian: apt-get install {package}")  # fmt: skip


def _find_driver(prefix: str, place: Place) -> str:
    names = [f"{prefix}gcc"] if prefix else ["gcc", "cc"]
    for name in names:
        found = shutil.which(name)
        if found:
            return found
    raise YarrikError(missing_program(names[0], place, "it compiles everything on this board"))


def _driver_in(folder: Path, prefix: str, place: Place) -> str:
    """The compiler in an unpacked archive: in its `bin`, or in the only `bin` that has it."""
    found = sorted(folder.glob(f"bin/{prefix}gcc")) or sorted(folder.glob(f"**/bin/{prefix}gcc"))
    if not found:
        known = sorted({path.name.removesuffix("gcc") for path in folder.glob("**/bin/*gcc")})
        raise YarrikError(
            Trouble("TOOLCHAIN-NO-COMPILER", f"the toolchain's archive has no bin/{prefix}gcc", place,
                    why="the board's programs are compiled with it",
                    remedy="set `toolchain.prefix` to " + " or ".join(f"`{one}`" for one in known) if known
                    else "take an archive with a compiler in a folder `bin`")
        )  # fmt: skip
    return str(found[0])


def _learn(prefix: str, driver: str, memory: Memory, place: Place) -> Toolchain:
    triplet = _ask(driver, place, "-dumpmachine")
    arch = arch_of_compiler(triplet)
    if arch is None:
        raise YarrikError(
            Trouble("ARCH-UNKNOWN", f"{driver} builds for {triplet}, an architecture that Yarrik does not know yet", place,
                    remedy="known: " + ", ".join(ARCHES))
        )  # fmt: skip
    version = f"{Path(driver).name} {_ask(driver, place, '-dumpfullversion', '-dumpversion')}"
    programs = [driver]
    for name in ("cc1", "collect2", "as", "ld", "strip"):
        answer = shutil.which(_ask(driver, place, f"-print-prog-name={name}"))
        if answer:
            programs.append(answer)
    near = f"{Path(driver).parent}:{os.environ.get('PATH', '')}"
    tools = [shutil.which(prefix + name, path=near) for name in ("strip", "ar")]
    programs += [path for path in tools if path and path not in programs]
    runtime = _runtime(driver, memory, place)
    sha = hashlib.sha256(f"{triplet}\n{version}\n".encode())
    for program in programs:
        sha.update(memory.digest_of(Path(program).resolve()).encode())
    for file in runtime:
        sha.update(f"{file.in_image} {file.digest}\n".encode())
    return Toolchain(prefix, arch.name, triplet, version, sha.hexdigest(), tuple(programs), tuple(runtime))


def _runtime(driver: str, memory: Memory, place: Place) -> list[RuntimeFile]:
    """The loader and the C library's shared files, as a program linked by this compiler names them."""
    with tempfile.TemporaryDirectory(prefix="yarrik-probe-") as folder:
        source, program = Path(folder, "probe.c"), Path(folder, "probe")
        source.write_text("int main(void) { return 0; }\n")
        _ask(driver, place, "-o", str(program), str(source), "-Wl,--no-as-needed", "-lm")
        facts = read_elf(program)
    interpreter, needed = (facts.interpreter, facts.needed) if facts else ("", ())
    if not interpreter:
        return []
    found: list[RuntimeFile] = []
    wanted = {f"/lib/{name}": name for name in needed} | {interpreter: Path(interpreter).name}
    if Path(interpreter).name in needed:  # where the loader is the C library itself
        wanted.pop(f"/lib/{Path(interpreter).name}", None)
        wanted[interpreter] = Path(interpreter).name
    for in_image, name in sorted(wanted.items()):
        answer = _ask(driver, place, f"-print-file-name={name}")
        # A compiler that does not know its loader's place still names it in programs; nothing else may be guessed.
        here = Path(interpreter if in_image == interpreter and not os.path.isabs(answer) else answer)
        if not here.is_absolute() or not here.exists():
            raise YarrikError(
                Trouble("TOOLCHAIN-RUNTIME", f"the compiler {driver} does not say where its {name} is", place,
                        why="programs for the image are linked against it", remedy="install the C library of this toolchain")
            )  # fmt: skip
        here = here.resolve()
        found.append(RuntimeFile(str(here), in_image, memory.digest_of(here)))
    return found


def _ask(driver: str, place: Place, *arguments: str) -> str:
    try:
        done = subprocess.run(
            [driver, *arguments], capture_output=True, text=True, timeout=60, env={**os.environ, "LC_ALL": "C"}
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise YarrikError(Trouble("TOOLCHAIN-BROKEN", f"{driver} cannot be started: {error}", place,
                                  remedy="check that it runs in a terminal")) from error  # fmt: skip
    if done.returncode != 0:
        words = done.stderr.strip().splitlines() or ["no message"]
        prefix = Path(driver).name
        raise YarrikError(
            Trouble(
                "TOOLCHAIN-BROKEN",
                f"{driver} cannot build a program: {words[-1]}",
                place,
                why="a compiler without its C library, assembler or linker builds nothing",
                remedy=f"on Debian: apt-get install {DEBIAN_PACKAGES.get(prefix, 'gcc libc6-dev')}",
            )
        )
    return done.stdout.strip()
