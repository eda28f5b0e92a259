"""How each build system is called: its configuration for the side that is built for, its build, its installation."""

import re
from collections.abc import Callable, Mapping

import msgspec
from msgspec.structs import replace

from yarrik.arch import ARCHES, SPELLINGS
from yarrik.errors import Trouble, YarrikError, suggestion
from yarrik.model import Build, Definition, Recipe
from yarrik.patterns import lazy_pattern
from yarrik.toolchain import NO_CXX, Toolchain

Command = tuple[str, ...]

SYSROOT = "{step}/sysroot"
STAGE = "{step}/stage"


class Calls(msgspec.Struct, frozen=True):
    """Commands in order, their environment, the folder they start in, and files that are written beforehand (by path below
    the step's folder)."""

    commands: tuple[Command, ...]
    environment: Mapping[str, str]
    folder: str = "{step}/source"
    files: Mapping[str, str] = msgspec.field(default_factory=dict)


class Setting(msgspec.Struct, frozen=True):
    """What a build is called with: the side's compiler and flags (as environment), and whether that is another machine's."""

    toolchain: Toolchain
    environment: Mapping[str, str]
    foreign: bool


class BuildSystem(msgspec.Struct, frozen=True):
    """How one build system works. `calls` gives what to run; without it, the graph has steps of its own for it. `programs` are
    those of the host that it runs, `strips` says whether debug symbols are taken out of what it leaves, and `stages` whether
    its commands see where to install to from the environment."""

    calls: Callable[[Build, Setting], Calls] | None = None
    programs: tuple[str, ...] = ()
    strips: bool = True
    stages: bool = False


def with_options(recipe: Recipe, options: Mapping[str, bool]) -> Build:
    """The recipe's build with what its options add."""
    build = recipe.build
    arguments, variables = list(build.arguments), dict(build.variables)
    for name, on in sorted(options.items()):
        rule = recipe.options.get(name)
        if rule is not None:
            arguments += rule.arguments if on else rule.arguments_off
            variables |= rule.variables if on else rule.variables_off
    return msgspec.structs.replace(build, arguments=tuple(arguments), variables=variables)


#: What stands for something of the side that is built for; behind a `$` it is the shell's.
_WORD = lazy_pattern(r"(?<!\$)\{(triplet|sysroot|stage|arch|arch:[^{}\s]*|tool:[^{}\s]*)\}")
_TOOL = lazy_pattern(r"[a-z0-9][a-z0-9+_-]*\Z")


def with_words(build: Build, recipe: Definition[Recipe], toolchain: Toolchain) -> Build:
    """The build with what stands for something of its side filled in: `{triplet}`, `{arch}`, `{arch:SPELLING}`, `{tool:NAME}`,
    `{sysroot}`, `{stage}`. Raises YarrikError for a spelling that there is not."""

    def filled(text: str, key: str) -> str:
        def word(match: re.Match[str]) -> str:
            kind, colon, name = match[1].partition(":")
            if not colon:
                return {"triplet": toolchain.triplet, "arch": toolchain.arch, "sysroot": SYSROOT, "stage": STAGE}[kind]
            if kind == "tool" and _TOOL.match(name):
                return toolchain.prefix + name
            if kind == "arch" and name in SPELLINGS:
                return SPELLINGS[name][toolchain.arch]
            known = SPELLINGS if kind == "arch" else ("ld", "ranlib", "windres")
            raise YarrikError(
                Trouble("WORD-UNKNOWN", f"`{recipe.name}` uses {match[0]}, which is nothing known", recipe.place("build", key),
                        why="`{arch:…}` is how somebody spells the architecture, `{tool:…}` a tool of the compiler's",
                        remedy=suggestion(name, known))
            )  # fmt: skip

        return _WORD.sub(word, text)

    loader = filled(build.loader, "loader")
    texts = {
        field: tuple(filled(text, field.replace("_", "-")) for text in getattr(build, field))
        for field in ("goals", "install_goals", "arguments", "commands_before", "commands", "commands_after")
    }
    variables = {key: filled(value, "variables") for key, value in build.variables.items()}
    return msgspec.structs.replace(build, variables=variables, loader=loader, **texts)


def calls_for(build: Build, setting: Setting) -> Calls:
    """What to run for a recipe of a build system that has `calls`."""
    system = BUILD_SYSTEMS[build.using]
    assert system.calls is not None
    calls = system.calls(build, setting)
    before = tuple(_shell(text) for text in build.commands_before)
    after = tuple(_shell(text) for text in build.commands_after)
    shared = {"DESTDIR": STAGE, **_pkg_config(), **calls.environment} if before or after or system.stages else calls.environment
    return replace(calls, commands=(*before, *calls.commands, *after), environment=shared)


def _shell(text: str) -> Command:
    return ("sh", "-e", "-c", text)


def _pkg_config() -> dict[str, str]:
    """Makes pkg-config look into the sysroot only."""
    return {
        "PKG_CONFIG_LIBDIR": f"{SYSROOT}/usr/lib/pkgconfig:{SYSROOT}/usr/share/pkgconfig",
        "PKG_CONFIG_SYSROOT_DIR": SYSROOT,
    }


def _native_compiler(build: Build, setting: Setting) -> dict[str, str]:
    """How configure scripts and Makefiles find the compiler of programs that they run during the build, if a recipe has one."""
    names = ("BUILD_CC", "CC_FOR_BUILD", "HOSTCC")
    return dict.fromkeys(names, "gcc") if setting.foreign and "gcc" in build.programs else {}


def _make(build: Build, setting: Setting) -> Calls:
    environment = {**_native_compiler(build, setting), **setting.environment, **_pkg_config()}
    # Makefiles set these themselves; what they set for LD is often the compiler, so that is only in the environment.
    given = [f"{key}={environment[key]}" for key in ("CC", "CXX", "AR", "RANLIB", "OBJCOPY") if key not in build.variables]
    given += [f"{key}={value}" for key, value in sorted(build.variables.items())]
    make: Command = ("make", "-j{jobs}", *given, *build.arguments)
    return Calls(((*make, *build.goals), (*make, f"DESTDIR={STAGE}", *build.install_goals)), environment)


def _plain(build: Build, setting: Setting) -> Calls:
    return Calls(tuple(_shell(text) for text in build.commands), {**setting.environment, **build.variables})


def _autotools(build: Build, setting: Setting) -> Calls:
    host = (f"--host={setting.toolchain.triplet}",) if setting.foreign else ()
    usual = ("--sysconfdir=/etc", "--localstatedir=/var", *host) if build.configure == "autoconf" else ()
    # One that somebody wrote by hand often takes a whole path for a build in another folder.
    script = "{step}/source/configure" if build.configure == "autoconf" else "./configure"
    configure = (script, "--prefix=/usr", *usual, *build.arguments)
    environment = {**_native_compiler(build, setting), **setting.environment, **_pkg_config()}
    if not setting.toolchain.cxx:
        environment["CXX"] = NO_CXX
    environment |= build.variables
    files = {}
    if setting.foreign and build.configure == "autoconf":
        environment = {"CONFIG_SITE": "{step}/home/config.site", **environment}
        files["home/config.site"] = "".join(f"{key}=${{{key}={value}}}\n" for key, value in sorted(ANSWERS.items()))
    ready = 'test -x "$0/configure" || (cd "$0" && autoreconf -fi)'
    return Calls(
        (
            ("sh", "-e", "-c", ready, "{step}/source"),
            configure,
            ("make", "-j{jobs}", *build.goals),
            ("make", f"DESTDIR={STAGE}", *build.install_goals),
        ),
        environment,
        "{step}/build" if build.configure == "autoconf" else "{step}/source",
        files,
    )


#: What configure would find by running a program on the board, with the GNU C library; the same on all our architectures. A
#: script that has no answer takes the worst one. (Variables of Autoconf and Gnulib.)
ANSWERS = {
    "ac_cv_func_calloc_0_nonnull": "yes", "ac_cv_func_chown_works": "yes", "ac_cv_func_fnmatch_gnu": "yes",
    "ac_cv_func_fork_works": "yes", "ac_cv_func_getgroups_works": "yes", "ac_cv_func_lstat_dereferences_slashed_symlink": "yes",
    "ac_cv_func_malloc_0_nonnull": "yes", "ac_cv_func_memcmp_working": "yes", "ac_cv_func_mmap_fixed_mapped": "yes",
    "ac_cv_func_realloc_0_nonnull": "yes", "ac_cv_func_stat_empty_string_bug": "no", "ac_cv_func_strcoll_works": "yes",
    "ac_cv_func_strnlen_working": "yes", "ac_cv_func_strtod": "yes", "ac_cv_func_utime_null": "yes",
    "ac_cv_func_vfork_works": "yes", "ac_cv_func_working_mktime": "yes",
}  # fmt: skip


_CMAKE_FILE = """set(CMAKE_SYSTEM_NAME Linux)
set(CMAKE_SYSTEM_PROCESSOR {processor})
set(CMAKE_C_COMPILER {compiler})
set(CMAKE_CXX_COMPILER {cxx})
set(CMAKE_FIND_ROOT_PATH {{step}}/sysroot)
set(CMAKE_FIND_ROOT_PATH_MODE_PROGRAM NEVER)
set(CMAKE_FIND_ROOT_PATH_MODE_LIBRARY ONLY)
set(CMAKE_FIND_ROOT_PATH_MODE_INCLUDE ONLY)
set(CMAKE_FIND_ROOT_PATH_MODE_PACKAGE ONLY)
"""


_CMAKE_CLANG = """set(CMAKE_C_COMPILER_TARGET {triplet})
set(CMAKE_CXX_COMPILER_TARGET {triplet})
set(CMAKE_EXE_LINKER_FLAGS_INIT "-fuse-ld=lld $ENV{{LDFLAGS}}")
set(CMAKE_SHARED_LINKER_FLAGS_INIT "-fuse-ld=lld $ENV{{LDFLAGS}}")
set(CMAKE_MODULE_LINKER_FLAGS_INIT "-fuse-ld=lld $ENV{{LDFLAGS}}")
"""


def _cmake(build: Build, setting: Setting) -> Calls:
    foreign = setting.foreign
    text = _CMAKE_FILE.format(processor=setting.toolchain.triplet.split("-")[0], compiler=setting.toolchain.compiler[0],
                             cxx=setting.toolchain.cxx_compiler[0])  # fmt: skip
    if setting.toolchain.clang:
        text += _CMAKE_CLANG.format(triplet=setting.toolchain.triplet)
    elif len(setting.toolchain.compiler) > 1:
        text += f"set(CMAKE_C_FLAGS_INIT {setting.toolchain.compiler[1]})\n"
    where = "-DCMAKE_TOOLCHAIN_FILE={step}/home/board.cmake" if foreign else f"-DCMAKE_PREFIX_PATH={SYSROOT}/usr"
    given = tuple(f"-D{key}={value}" for key, value in sorted(build.variables.items()))
    return Calls(
        (
            ("cmake", "-S", "{step}/source", "-B", "{step}/build", where, "-DCMAKE_INSTALL_PREFIX=/usr",
             "-DCMAKE_INSTALL_LIBDIR:STRING=lib", "-DCMAKE_BUILD_TYPE=", *given, *build.arguments),
            ("cmake", "--build", "{step}/build", "-j{jobs}", *(word for goal in build.goals for word in ("--target", goal))),
            ("cmake", "--install", "{step}/build"),
        ),
        {**setting.environment, **_pkg_config(), "DESTDIR": STAGE},
        "{step}/build",
        {"home/board.cmake": text} if foreign else {},
    )  # fmt: skip


def _meson(build: Build, setting: Setting) -> Calls:
    given = tuple(f"-D{key}={value}" for key, value in sorted(build.variables.items()))
    cross = ("--cross-file", "{step}/home/board.ini") if setting.foreign else ()
    return Calls(
        (
            ("meson", "setup", "{step}/build", "{step}/source", *cross, "--prefix", "/usr", "--libdir", "lib",
             "--buildtype", "plain", "--wrap-mode", "nofallback", *given, *build.arguments),
            ("meson", "compile", "-C", "{step}/build", "-j", "{jobs}", *build.goals),
            ("meson", "install", "-C", "{step}/build", "--no-rebuild"),
        ),
        {**setting.environment, **_pkg_config(), "DESTDIR": STAGE},
        "{step}/build",
        {"home/board.ini": _meson_file(setting)} if setting.foreign else {},
    )  # fmt: skip


def _meson_file(setting: Setting) -> str:
    prefix, arch = setting.toolchain.prefix, ARCHES[setting.toolchain.arch]
    family = {"arm64": "aarch64", "x86-64": "x86_64"}.get(arch.name, arch.name)
    return (
        f"[binaries]\nc = {list(setting.toolchain.compiler)}\ncpp = {list(setting.toolchain.cxx_compiler)}\n"
        f"ar = '{prefix}ar'\nstrip = '{prefix}strip'\n"
        "pkg-config = 'pkg-config'\npkgconfig = 'pkg-config'\n"
        "[properties]\n"
        f"sys_root = '{SYSROOT}'\n"
        f"pkg_config_libdir = ['{SYSROOT}/usr/lib/pkgconfig', '{SYSROOT}/usr/share/pkgconfig']\n"
        f"[host_machine]\nsystem = 'linux'\ncpu_family = '{family}'\n"
        f"cpu = '{setting.toolchain.triplet.split('-')[0]}'\nendian = 'little'\n"
    )


def _python(build: Build, setting: Setting) -> Calls:
    """A pure Python project, built by its own backend on this host, and installed where every Python 3 of an image looks."""
    install = (
        'mkdir -p "$0/home/wheel" && python3 -m pip wheel --quiet --no-deps --no-build-isolation --no-index'
        ' -w "$0/home/wheel" "$0/source"'
        ' && python3 -m zipfile -e "$0"/home/wheel/*.whl "$0/stage/usr/lib/python3/dist-packages"'
    )
    return Calls(
        (("sh", "-e", "-c", install, "{step}"), ("python3", "{step}/home/programs.py", STAGE)),
        {**setting.environment, **build.variables},
        files={"home/programs.py": _PROGRAMS},
    )


#: Writes a program for each console script that an unpacked wheel declares.
_PROGRAMS = """import configparser, pathlib, sys
stage = pathlib.Path(sys.argv[1])
for entry in sorted(stage.glob("usr/lib/python3/dist-packages/*.dist-info/entry_points.txt")):
    points = configparser.ConfigParser(delimiters="=")
    points.optionxform = str
    points.read(entry)
    for name, target in sorted(points["console_scripts"].items() if points.has_section("console_scripts") else ()):
        module, _, function = target.partition(":")
        program = stage / "usr/bin" / name
        program.parent.mkdir(parents=True, exist_ok=True)
        lines = ["#!/usr/bin/python3", "import sys", f"from {module} import {function}", f"sys.exit({function}())", ""]
        program.write_text(chr(10).join(lines))
        program.chmod(0o755)
"""


def _go(build: Build, setting: Setting) -> Calls:
    """Programs of a Go module, from modules that it carries in `vendor` (`go mod vendor`); nothing is downloaded."""
    arch = setting.toolchain.arch
    environment = {
        **setting.environment, **_pkg_config(), "GOOS": "linux", "GOARCH": SPELLINGS["go"][arch], "CGO_ENABLED": "0",
        **({"GOARM": "7"} if arch == "arm" else {}), "GOPROXY": "off", "GOSUMDB": "off", "GO111MODULE": "on",
        "GOPATH": "{step}/home/go", "GOCACHE": "{step}/home/go/cache",
        # With cgo, C is compiled as everywhere.
        "CGO_CFLAGS": setting.environment["CFLAGS"], "CGO_LDFLAGS": setting.environment["LDFLAGS"], **build.variables,
    }  # fmt: skip
    script = """
    from=readonly; test ! -d vendor || from=vendor
    mkdir -p "$0/usr/bin"
    go build -mod=$from -trimpath -buildvcs=false -ldflags "-s -w -buildid=" -o "$0/usr/bin/" "$@"
    """
    goals = build.goals or ("./...",)
    return Calls((("sh", "-e", "-c", script, STAGE, *build.arguments, *goals),), environment)


def _cargo(build: Build, setting: Setting) -> Calls:
    """Programs and C libraries of a Rust package with its `Cargo.lock`, from crates that it carries in `vendor`, as `cargo
    vendor` puts them there; nothing is downloaded."""
    triple = SPELLINGS["rust"][setting.toolchain.arch]
    compiler = setting.toolchain.compiler
    links = " ".join(f"-C link-arg={word}" for word in (*compiler[1:], *setting.environment["LDFLAGS"].split()))
    environment = {
        **setting.environment, **_pkg_config(), "CARGO_HOME": "{step}/home", "CARGO_TARGET_DIR": "{step}/build",
        "CARGO_BUILD_TARGET": triple, "CARGO_INCREMENTAL": "0",
        f"CARGO_TARGET_{triple.upper().replace('-', '_')}_LINKER": compiler[0],
        "RUSTFLAGS": f"--remap-path-prefix={{step}}/source=. --remap-path-prefix={{step}}/home=. {links}", **build.variables,
    }  # fmt: skip
    # What was made is what the linker left there; the names of packages and of their programs need not be the same.
    install = """
    for file in "$1"/*; do
        case "${file##*/}" in
            *.d | *.rlib) continue ;;
            lib*.so | lib*.a) install -D -m 755 "$file" "$0/usr/lib/${file##*/}" ;;
            *) test ! -f "$file" || install -D -m 755 "$file" "$0/usr/bin/${file##*/}" ;;
        esac
    done
    """
    vendored = '[source.crates-io]\nreplace-with = "carried"\n[source.carried]\ndirectory = "{step}/source/vendor"\n'
    return Calls(
        (
            ("cargo", "build", "--release", "--frozen", "-j{jobs}", *build.arguments, *build.goals),
            ("sh", "-e", "-c", install, STAGE, f"{{step}}/build/{triple}/release"),
        ),
        environment,
        files={"home/config.toml": vendored},
    )


def _files(build: Build, setting: Setting) -> Calls:
    commands: list[Command] = []
    for one in build.place:
        source, target = "{step}/source/" + one.from_path, STAGE + one.to
        commands.append(("mkdir", "-p", target.rpartition("/")[0]))
        commands.append(("cp", "-rT", "--preserve=mode,links", source, target))
        if one.mode:
            commands.append(("chmod", one.mode, target))
    if not build.place:
        commands.append(("cp", "-rT", "--preserve=mode,links", "{step}/source", STAGE))
    return Calls(tuple(commands), {})


# The host's compiler makes the tools that a kernel builds for itself.
_KERNEL_PROGRAMS = ("bc", "bison", "echo", "flex", "gcc", "make", "perl")

BUILD_SYSTEMS: dict[str, BuildSystem] = {
    "autotools": BuildSystem(_autotools, ("make", "pkg-config")),
    "cargo": BuildSystem(_cargo, ("cargo", "pkg-config", "rustc")),
    "bootloader": BuildSystem(programs=(*_KERNEL_PROGRAMS, "python3"), strips=False),
    "cmake": BuildSystem(_cmake, ("cmake", "make", "pkg-config")),
    "files": BuildSystem(_files),
    "go": BuildSystem(_go, ("go", "pkg-config")),
    "kernel": BuildSystem(programs=_KERNEL_PROGRAMS, strips=False),
    "kernel-module": BuildSystem(programs=_KERNEL_PROGRAMS, strips=False),
    "make": BuildSystem(_make, ("make",)),
    "meson": BuildSystem(_meson, ("meson", "ninja", "pkg-config")),
    "plain": BuildSystem(_plain, stages=True),
    "prebuilt": BuildSystem(_files, strips=False),
    "python": BuildSystem(_python, ("pip3", "python3")),
    "toolchain": BuildSystem(),
    "toolchain-runtime": BuildSystem(),
}
