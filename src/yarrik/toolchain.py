"""The toolchain of a board: which compiler it is, for which architecture, and the C library's run-time files it brings."""

import contextlib
import glob
import hashlib
import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from yarrik.arch import ARCHES, arch_of_compiler
from yarrik.elf import read_elf
from yarrik.errors import Damaged, Trouble, YarrikError
from yarrik.host import (
    HOST_LIBRARY,
    PERL_MODULE,
    PYTHON_MODULE,
    debian_package,
    find_program,
    is_shared,
    mounts_mark,
    shared_files,
)
from yarrik.own_code import code_mark
from yarrik.patterns import lazy_pattern

if TYPE_CHECKING:
    from yarrik.cache import Memory
    from yarrik.errors import Place

#: What a host's own compiler and its tools are called; each is there with the machine's name before it, too.
_NATIVE_TOOLS = (
    "addr2line", "ar", "as", "c++", "c++filt", "c89", "c99", "cc", "cpp", "elfedit", "g++", "gcc", "gcc-ar", "gcc-nm",
    "gcc-ranlib", "gcov",
    "gprof", "ld", "ld.bfd", "ld.gold", "nm", "objcopy", "objdump", "ranlib", "readelf", "size", "strings", "strip",
)  # fmt: skip


#: Raised when other things are learned of a compiler: what is remembered of it is learned again then.
_REVISION = 4
#: What CXX is in a configure script whose toolchain has no compiler for C++. Libtool's macros know the word, and leave C++ out;
#: with the name of a program that is not there, they fail also where nothing is written in C++.
NO_CXX = "no"


class RuntimePackage(msgspec.Struct, frozen=True):
    """A package of a toolchain's run-time files: what it is for, and the libraries in it. One that is taken `when_asked` is
    large, or nothing is linked with it."""

    summary: str
    libraries: tuple[str, ...] = ()
    when_asked: bool = False
    #: It has what development_files() finds, not what programs load, and names for the linker of libraries of these packages.
    names: tuple[str, ...] = ()


#: Run-time packages by name; one that begins with `-` has the name of its recipe before it, as the C library itself has.
RUNTIME_PACKAGES = {
    "": RuntimePackage("loader and C library"),
    "-math": RuntimePackage("mathematical functions", ("libm", "libmvec")),
    "-resolver": RuntimePackage("questions to name servers", ("libresolv", "libanl", "libnss_dns")),
    "-names": RuntimePackage(
        "further sources of names of accounts and hosts",
        ("libnss_files", "libnss_compat", "libnss_hesiod", "libnss_db"),
    ),
    "-older": RuntimePackage(
        "what older programs name beside the C library", ("libpthread", "libdl", "librt", "libutil", "libBrokenLocale")
    ),
    "-conversions": RuntimePackage("conversion modules between character sets", when_asked=True),
    "-locale": RuntimePackage("the locale C.UTF-8", when_asked=True),
    "-debug": RuntimePackage("what debuggers and memory checkers load", ("libthread_db", "libc_malloc_debug"), when_asked=True),
    "-development": RuntimePackage(
        "headers and link names of the C library, for a compiler on the board", when_asked=True, names=("-math", "-resolver")
    ),
    "libgcc": RuntimePackage("run time of compiled code: unwinding, arithmetic", ("libgcc_s",)),
    "libstdcxx": RuntimePackage("standard library of C++", ("libstdc++",)),
    "libatomic": RuntimePackage("atomic operations that the processor lacks", ("libatomic",)),
    "libgomp": RuntimePackage("run time of OpenMP", ("libgomp",)),
    "libitm": RuntimePackage("run time of transactional memory", ("libitm",)),
    "sanitizers": RuntimePackage(
        "run time of the compiler's sanitizers", ("libasan", "libhwasan", "liblsan", "libtsan", "libubsan"), when_asked=True
    ),
}  # fmt: skip
#: What the C library loads by itself, for functions of `yarrik.elf.UNWINDING`.
UNWINDER = "libgcc_s.so.1"
_MODULES = lazy_pattern(rb"(/[A-Za-z0-9._/+-]{1,200}/gconv)\0")
_RELEASE = lazy_pattern(rb"GNU C Library [^\n\0]{0,100} release version ([0-9.]+[0-9])")
#: Where the GNU C library looks for locales, and where it is on a Debian machine.
_LOCALES = "/usr/lib/locale"
_SONAME = lazy_pattern(r"(.+)\.so\.[0-9]+\Z")


def runtime_package(key: str, recipe: str) -> str:
    """The name of a package of RUNTIME_PACKAGES for a recipe."""
    return recipe + key if not key or key.startswith("-") else key


def runtime_key(library: str) -> str | None:
    """The key of the package that a library belongs to, by its name as programs have it; None for one of no toolchain."""
    match = _SONAME.match(library)
    return next((key for key, one in RUNTIME_PACKAGES.items() if match is not None and match[1] in one.libraries), None)


class RuntimeFile(msgspec.Struct, frozen=True):
    """One of a toolchain's run-time files: where it stands here, where it belongs in an image, its digest, and the key of its
    package. Those that are taken only when asked for have no digest yet."""

    here: str
    in_image: str
    digest: str
    package: str = ""


class Toolchain(msgspec.Struct, frozen=True):
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
    #: All that is its own on this machine: programs, and files and folders with headers and libraries.
    own: tuple[str, ...] = ()
    #: Programs of the host that it runs itself.
    runs: tuple[str, ...] = ()
    #: Whether it has a compiler for C++.
    cxx: bool = True
    #: The loader of programs, where a recipe brings the C library in place of its own.
    loader: str = ""
    #: The version of clang, where that compiles in place of its own compiler.
    clang: str = ""

    @property
    def shown(self) -> str:
        """Version, target and the beginning of the digest, as reports show a compiler."""
        first = f"clang {self.clang} with the library of " if self.clang else ""
        return f"{first}{self.version} for {self.triplet}, {self.identity[:12]}"

    @property
    def compiler(self) -> tuple[str, ...]:
        """The compiler for C, with words that are part of its name."""
        if self.clang:
            return ("clang", f"--target={self.triplet}", "-fuse-ld=lld")
        own = self.prefix + "gcc" if self.prefix else Path(self.programs[0]).name
        return (own, f"-specs={{step}}/{SPECS_FILE}") if self.loader else (own,)

    @property
    def cxx_compiler(self) -> tuple[str, ...]:
        """The compiler for C++, likewise."""
        if self.clang:
            return ("clang++", *self.compiler[1:])
        return (NO_CXX,) if self.loader else (self.prefix + "g++",)

    @property
    def host_programs(self) -> tuple[str, ...]:
        """Programs of the host that compile and link in place of its own."""
        return CLANG if self.clang else ()


#: Where a step has what makes gcc compile and link with a C library that a recipe brings.
SPECS_FILE = "home/c-library.specs"
#: "Spec Files" of the gcc manual: the sysroot's headers and start files in place of its own, and that library's loader.
_SPECS = """%rename cpp_options old_cpp_options

*cpp_options:
-nostdinc -isystem {top}/include -isystem include%s %(old_cpp_options)

*cc1:
%(cc1_cpu) -nostdinc -isystem {top}/include -isystem include%s

*link_libgcc:
-L{top}/lib -L .%s

*libgcc:
libgcc.a%s %:if-exists(libgcc_eh.a%s)

*startfile:
%{{!shared:%{{static|static-pie|no-pie:{top}/lib/crt1.o;:{top}/lib/Scrt1.o}}}} {top}/lib/crti.o crtbeginS.o%s

*endfile:
crtendS.o%s {top}/lib/crtn.o

*link:
-nostdlib %{{shared:-shared}} %{{static|static-pie:-static;:-dynamic-linker {loader}}} %{{rdynamic:-export-dynamic}} {pie}

*esp_link:


*esp_options:


*esp_cpp_options:


"""


def specs(loader: str) -> str:
    """What gcc reads from SPECS_FILE, for programs that this loader starts."""
    pie = "%{!static:%{!static-pie:%{!shared:%{!no-pie:%{!r:-pie}}}}}"
    return _SPECS.format(top="{step}/sysroot/usr", loader=loader, pie=pie)


#: What compiles and links with clang.
CLANG = ("clang", "clang++", "ld.lld")


def with_clang(toolchain: Toolchain, memory: "Memory", place: "Place") -> Toolchain:
    """The same C library and tools with this machine's clang and lld as compiler and linker.

    Raises YarrikError when one of them is missing or cannot be started."""
    found = {}
    for name in CLANG:
        path = find_program(name)
        if path is None:
            raise YarrikError(missing_program(name, place, "the board's `toolchain.compiler` is clang"))
        found[name] = path
    match = re.search(r"version (\d+(?:\.\d+)*)", _ask(found["clang"], place, "--version"))
    if match is None:
        raise YarrikError(Trouble("TOOLCHAIN-BROKEN", f"{found['clang']} does not say its version", place,
                                  remedy="check that it runs in a terminal"))  # fmt: skip
    sha = hashlib.sha256(toolchain.identity.encode())
    for path in found.values():
        sha.update(memory.digest_of(Path(path).resolve()).encode())
    return replace(toolchain, clang=match[1], identity=sha.hexdigest())


class _Remembered(msgspec.Struct):
    marks: dict[str, str]
    toolchain: Toolchain


#: Toolchains that are remembered at most.
_REMEMBERED = 200
#: Variables that say where a compiler looks for its parts and for libraries.
_VARIABLES = ("PATH", "GCC_EXEC_PREFIX", "COMPILER_PATH", "LIBRARY_PATH", "LD_LIBRARY_PATH", "LD_PRELOAD")


def _found_by() -> str:
    """A digest of the code, the mounts and the variables that a toolchain is found by."""
    own = code_mark("toolchain.py", "elf.py", "objects.py", "arch.py", "host")
    words = [own, mounts_mark(), *(f"{name}={os.environ.get(name)!r}" for name in _VARIABLES)]
    return hashlib.sha256("\n".join(words).encode("utf-8", "surrogateescape")).hexdigest()[:16]


def probe(
    prefix: str,
    memory: "Memory",
    place: "Place",
    wanted_arch: str | None = None,
    folder: Path | None = None,
    runs: tuple[str, ...] = (),
) -> Toolchain:
    """Finds the compiler `<prefix>gcc` (or `cc` for no prefix), here or in an unpacked archive, and learns what it is.

    `runs` are programs of the host that an unpacked one runs. `wanted_arch` is the board's; None accepts whatever the compiler
    builds for (the build host's own). Raises YarrikError when it is missing, does not work, or builds for another
    architecture."""
    driver = _find_driver(prefix, place) if folder is None else _driver_in(folder, prefix, place)
    fact = f"toolchain {_REVISION} {driver} {_found_by()}"
    toolchain = _recall(memory, fact)
    if toolchain is None or toolchain.runs != runs:
        toolchain = _learn(prefix, driver, memory, place)
        toolchain = replace(toolchain, folder=str(folder or ""), runs=runs)
        beside = str(Path(driver).with_name(prefix + "g++"))  # it may come later
        marked = (*toolchain.programs, *(file.here for file in toolchain.runtime), *toolchain.own, beside)
        marks = {path: _mark(path) for path in dict.fromkeys(marked)}
        marks |= {folder: _mark(folder) for path in toolchain.own for folder in _folders_below(path)}
        memory.learn(fact, msgspec.json.encode(_Remembered(marks, toolchain)), most=_REMEMBERED)
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


def _recall(memory: "Memory", fact: str) -> Toolchain | None:
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
    sys.audit("yarrik.read", path)
    try:
        status = os.stat(path)
    except OSError:
        return "missing"
    return f"{status.st_size} {status.st_mtime_ns} {status.st_ctime_ns} {status.st_ino}"


def missing_program(program: str, place: "Place", why: str) -> Trouble:
    """The trouble that a program is not on this machine, with the package that brings it."""
    package = debian_package(program)
    where = f"on Debian: apt-get install {package}" if package else "install it; on Debian, `apt-file search` tells the package"
    what = f"the program `{program}` is not on this machine"
    if program.startswith(PYTHON_MODULE):
        what = f"the Python module `{program.removeprefix(PYTHON_MODULE)}` is not among those of this machine's own Python"
    elif program.startswith(PERL_MODULE):
        what = f"the Perl module `{program.removeprefix(PERL_MODULE)}` is not on this machine"
    if program.startswith(HOST_LIBRARY):
        what = f"what it takes to build with the library `{program.removeprefix(HOST_LIBRARY)}` is not on this machine"
    return Trouble("HOST-TOOL-MISSING", what, place, why=why, remedy=where)


def _find_driver(prefix: str, place: "Place") -> str:
    names = [f"{prefix}gcc"] if prefix else ["gcc", "cc"]
    for name in names:
        found = shutil.which(name)
        if found:
            return found
    raise YarrikError(missing_program(names[0], place, "it compiles everything on this board"))


def _driver_in(folder: Path, prefix: str, place: "Place") -> str:
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


def _learn(prefix: str, driver: str, memory: "Memory", place: "Place") -> Toolchain:
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
        if file.digest:
            sha.update(f"{file.in_image} {file.digest}\n".encode())
    own = _own_files(prefix, driver, triplet, place)
    # The machine's own compiler runs a plain `as` and `ld`, also when it is named with the machine's name before it.
    own += [path for path in programs if path not in own and is_shared(str(Path(path).parent))]
    for line in _names_and_sizes(own):
        sha.update(line)
    cxx = shutil.which(prefix + "g++", path=near) is not None
    return Toolchain(
        prefix, arch.name, triplet, version, sha.hexdigest(), tuple(programs), tuple(runtime), own=tuple(own), cxx=cxx
    )


def _own_files(prefix: str, driver: str, triplet: str, place: "Place") -> list[str]:
    """All paths on this machine that belong to the toolchain: its programs, the folders that it alone uses, and of folders that
    all packages share what is the C library's, the kernel's and the C++ library's."""
    apart = _installation(driver)
    home = str(Path(driver).parent)
    if apart:
        programs = [apart]
    elif prefix:
        programs = sorted(glob.glob(f"{home}/{glob.escape(prefix)}*"))
    else:
        programs = [f"{home}/{name}" for name in _NATIVE_TOOLS] + sorted(glob.glob(f"{home}/{glob.escape(triplet)}-*"))
    searched = dict(line.split(": ", 1) for line in _ask(driver, place, "-print-search-dirs").splitlines() if ": " in line)
    paths = {kind: searched.get(kind, "").removeprefix("=").split(":") for kind in ("install", "programs", "libraries")}
    include = _include_folders(driver, place, "c")
    if any(Path(name).name.endswith("g++") for name in programs if Path(name).exists()):
        include += _include_folders(driver, place, "c++")
    found = [path for path in programs if Path(path).exists()]
    alone = [path for path in _real(paths["install"] + paths["programs"]) if not is_shared(path)]
    found += alone
    for folders, kind, telling in ((include, "include", "stdio.h"), (paths["libraries"], "lib", "crt1.o")):
        real = _real(folders)
        own = [path for path in real if not is_shared(path)]
        found += own
        if not any(Path(path, telling).exists() for path in own):
            found += [one for path in real if is_shared(path) for one in shared_files(path, kind)]
    return list(dict.fromkeys(found))


def _include_folders(driver: str, place: "Place", language: str) -> list[str]:
    """The folders in which the compiler looks for headers, as it says itself."""
    try:
        words = [driver, "-E", "-v", "-x", language, os.devnull]
        done = subprocess.run(words, capture_output=True, text=True, errors="replace", timeout=60,
                              env={**os.environ, "LC_ALL": "C"}, check=False)  # fmt: skip
    except (OSError, subprocess.TimeoutExpired) as error:
        raise YarrikError(Trouble("TOOLCHAIN-BROKEN", f"{driver} cannot be started: {error}", place,
                                  remedy="check that it runs in a terminal")) from error  # fmt: skip
    listed = done.stderr.partition("#include <...> search starts here:\n")[2].partition("End of search list")[0]
    return [line.strip() for line in listed.splitlines() if line.startswith(" ")]


def _real(folders: Iterable[str]) -> list[str]:
    """Folders that exist, by their real paths, each once."""
    return list(dict.fromkeys(os.path.realpath(folder) for folder in folders if folder and Path(folder).is_dir()))


def _folders_below(path: str) -> Iterator[str]:
    """A folder's own folders: the time of each changes when something in it is put there, replaced or removed."""
    if Path(path).is_dir():
        for place, _, _ in os.walk(path):
            yield place


def _names_and_sizes(paths: Iterable[str]) -> Iterator[bytes]:
    """A line for each file at these paths or below: its path and size in bytes. Contents of compiler and C library are digested
    apart; of thousands of headers, this tells enough."""
    for path in sorted(paths):
        files = [path] if not Path(path).is_dir() else [
            f"{place}/{name}" for place, _, names in sorted(os.walk(path)) for name in sorted(names)
        ]  # fmt: skip
        for file in files:
            with contextlib.suppress(OSError):
                yield f"{file} {os.lstat(file).st_size}\n".encode("utf-8", "surrogateescape")


def _runtime(driver: str, memory: "Memory", place: "Place") -> list[RuntimeFile]:
    """The loader and the C library, as a program linked by this compiler names them; then what RUNTIME_PACKAGES names of
    what is where the linker looks."""
    with tempfile.TemporaryDirectory(prefix="yarrik-probe-") as folder:
        source, program = Path(folder, "probe.c"), Path(folder, "probe")
        source.write_text("int main(void) { return 0; }\n")
        _ask(driver, place, "-o", str(program), str(source))
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
    known = {file.in_image for file in found}
    arch = facts.arch if facts else ""
    for in_image, here, key in [*_further_libraries(driver, place, arch), *_conversions(found), *_locale(found)]:
        if in_image not in known:
            digest = "" if RUNTIME_PACKAGES[key].when_asked else memory.digest_of(here)
            found.append(RuntimeFile(str(here), in_image, digest, key))
    return found


class DevelopmentFiles(msgspec.Struct, frozen=True):
    """What a compiler on the board takes of its C library: files, and links by path with their destinations."""

    files: tuple[RuntimeFile, ...]
    links: tuple[tuple[str, str], ...]


#: Start files and archives that programs are linked with. The last ones are empty: what was in them is in the C library now,
#: and Makefiles still name them.
_LINKED = ("crt1.o", "Scrt1.o", "crti.o", "crtn.o", "libc.so", "libc_nonshared.a",
           "libpthread.a", "libdl.a", "librt.a", "libutil.a")  # fmt: skip
_EMPTY_ARCHIVE = 8


def development_files(toolchain: Toolchain, place: "Place") -> DevelopmentFiles:
    """The C library's and the kernel's headers, what programs are linked with, and names of libraries for the linker, of what
    the compiler uses itself. All headers are in `/usr/include`. Files have no digest yet; nothing is remembered.

    Raises YarrikError when the compiler cannot be asked."""
    driver, key = toolchain.programs[0], "-development"
    found: dict[str, str] = {}
    for folder in _real(_include_folders(driver, place, "c")):
        # Its own headers, like stddef.h, are the compiler's: another one has others.
        if Path(folder, "stddef.h").exists() and not Path(folder, "stdio.h").exists():
            continue
        tops = shared_files(folder, "include") if is_shared(folder) else [str(path) for path in sorted(Path(folder).iterdir())]
        for top in tops:
            if Path(top).name == "c++" or is_shared(top):
                continue
            inside = sorted(Path(top).rglob("*")) if Path(top).is_dir() else [Path(top)]
            for path in inside:
                if path.is_file():
                    found.setdefault(f"/usr/include/{path.relative_to(folder)}", str(path))
    for name in _LINKED:
        here = _ask(driver, place, f"-print-file-name={name}")
        if os.path.isabs(here) and (
            not name.endswith(".a") or "nonshared" in name or Path(here).stat().st_size == _EMPTY_ARCHIVE
        ):
            found[f"/usr/lib/{name}"] = os.path.realpath(here)
    links = []
    for file in toolchain.runtime:
        match = _SONAME.match(Path(file.in_image).name)
        if match is not None and file.package in RUNTIME_PACKAGES[key].names:
            here = _ask(driver, place, f"-print-file-name={match[1]}.so")
            if os.path.isabs(here) and os.path.realpath(here) == file.here:
                links.append((f"/usr/lib/{match[1]}.so", file.in_image))
            elif os.path.isabs(here):
                found[f"/usr/lib/{match[1]}.so"] = os.path.realpath(here)  # a link script
    files = tuple(RuntimeFile(here, in_image, "", key) for in_image, here in sorted(found.items()))
    return DevelopmentFiles(files, tuple(sorted(links)))


def _further_libraries(driver: str, place: "Place", arch: str) -> Iterator[tuple[str, Path, str]]:
    """Libraries of RUNTIME_PACKAGES for an architecture: the first of each name in the folders that the linker looks into."""
    searched = dict(line.split(": ", 1) for line in _ask(driver, place, "-print-search-dirs").splitlines() if ": " in line)
    seen: dict[str, Path] = {}
    for folder in _real(searched.get("libraries", "").removeprefix("=").split(":")):
        for path in sorted(Path(folder).glob("lib*.so.*")):
            name, here = path.name, path.resolve()
            if name not in seen and runtime_key(name) is not None:
                with contextlib.suppress(OSError, Damaged):
                    facts = read_elf(here)
                    if facts is not None and facts.arch == arch:
                        seen[name] = here
    for name, here in sorted(seen.items()):
        yield f"/lib/{name}", here, str(runtime_key(name))


def _conversions(found: Sequence[RuntimeFile]) -> Iterator[tuple[str, Path, str]]:
    """Conversion modules beside the C library, for the folder in which it looks for them: the library names it."""
    library = next((file for file in found if Path(file.in_image).name.startswith("libc.so")), None)
    match = _MODULES.search(Path(library.here).read_bytes()) if library is not None else None
    if library is None or match is None:
        return
    folder = Path(library.here).parent / "gconv"
    for path in sorted(folder.rglob("*")):
        # The cache names all modules of this machine, and is wrong where one of them is missing.
        if path.is_file() and path.name != "gconv-modules.cache":
            yield f"{match[1].decode()}/{path.relative_to(folder)}", path.resolve(), "-conversions"


def _locale(found: Sequence[RuntimeFile]) -> Iterator[tuple[str, Path, str]]:
    """The locale C.UTF-8 of this machine, for a C library of the same release: its files are alike on all architectures of one
    byte order, and a compiler for another machine brings none."""
    releases = set()
    own = sorted(Path("/").glob("lib/*-linux-gnu*/libc.so.6")) or sorted(Path("/").glob("lib64/libc.so.6"))
    libraries = [Path(file.here) for file in found if Path(file.in_image).name == "libc.so.6"]
    for library in (*own[:1], *libraries):
        match = _RELEASE.search(library.read_bytes())
        releases.add(match[1] if match is not None else b"")
    folder = Path(_LOCALES, "C.utf8")
    if len(releases) == 1 and b"" not in releases and own and libraries and sys.byteorder == "little":
        for path in sorted(folder.rglob("*")):
            if path.is_file():
                yield str(path), path.resolve(), "-locale"


def _ask(driver: str, place: "Place", *arguments: str) -> str:
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
                remedy=f"on Debian: apt-get install {debian_package(prefix) or 'gcc libc6-dev'}",
            )
        )
    return done.stdout.strip()


def _installation(program: str) -> str:
    """The folder that a compiler outside the system's own folders lives in; empty for those inside."""
    real = Path(program).resolve()
    if str(real).startswith(("/usr/", "/bin/", "/sbin/", "/lib")):
        return ""
    return str(real.parent.parent if real.parent.name == "bin" else real.parent)
