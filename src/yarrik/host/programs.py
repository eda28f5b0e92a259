"""Programs of the host that builds use: where they are looked for, what else they read, and the Debian package of each."""

from __future__ import annotations

import os

import msgspec

from yarrik.host.words import words

#: Where a step's programs are looked for, in this order: the folders of every system's own programs.
FOLDERS = ("/usr/local/bin", "/usr/bin", "/bin", "/usr/sbin", "/sbin")

#: What every step sees where it is there: the utilities that POSIX names for a shell, and archivers and digests beside them.
EVERYWHERE = tuple(
    words(
        """
    [ arch awk b2sum base32 base64 basename bash bunzip2 bzcat bzip2 cat chgrp chmod chown cksum cmp comm cp cpio csplit cut
    dash date dd df diff diff3 dir dirname dircolors du echo ed egrep env expand expr factor false fgrep file find flock fmt
    fold gawk getconf getopt grep groups gunzip gzip head hexdump hostid hostname iconv id install join kill link ln locale
    logname ls lzma mawk md5sum mkdir mkfifo mknod mktemp mv nawk nice nl nohup nproc numfmt od paste patch pathchk pr
    printenv printf ps ptx pwd readlink realpath rev rm rmdir sdiff sed seq sh sha1sum sha224sum sha256sum sha384sum
    sha512sum shuf sleep sort split stat stdbuf stty sum sync tac tail tar tee test timeout touch tput tr true truncate
    tsort tty uname unexpand uniq unlink unxz unzip users vdir wc which who whoami xargs xxd xz xzcat yes zcat zip zstd
    """
    )
)  # fmt: skip


class Program(msgspec.Struct, frozen=True):
    """`package` is Debian's, where it is not called like the program. `reads` are files and folders that it needs beside the
    libraries it is linked against, as patterns; `runs` are further programs."""

    package: str = ""
    reads: tuple[str, ...] = ()
    runs: tuple[str, ...] = ()


def _cross(triplet: str, package: str) -> Program:
    """A cross compiler as Debian has it: all that lies in folders of its own."""
    own = (
        f"/usr/bin/{triplet}-*",
        f"/usr/lib/gcc-cross/{triplet}",
        *(f"/usr/{triplet}/{name}" for name in ("bin", "include", "lib")),
    )
    return Program(package, own)


def _library(headers: tuple[str, ...], libraries: tuple[str, ...]) -> tuple[str, ...]:
    """A library that programs for the build host are linked with: its headers, and what the linker looks for."""
    return (
        *(f"{folder}/{name}" for name in headers for folder in ("/usr/include", "/usr/include/*-linux-*")),
        *(f"/usr/lib/*-linux-*/lib{name}.{end}" for name in libraries for end in ("so", "a")),
    )


_PERL = Program(
    reads=(
        "/usr/lib/*/perl-base", "/usr/lib/*/perl/5.*", "/usr/share/perl/5.*", "/usr/lib/perl5/core_perl",
        "/usr/share/perl5/core_perl", "/usr/share/perl5/core",
    ),
)  # fmt: skip
#: Where Debian puts Python's packages.
_PACKAGES = "/usr/lib/python3/dist-packages"
_PYTHON = Program(reads=("/usr/lib/python3.[0-9]*", f"{_PACKAGES}/lib2to3", f"{_PACKAGES}/distutils"))
_PIP = Program(
    "python3-pip python3-setuptools python3-wheel",
    (
        *(f"{_PACKAGES}/{name}*" for name in ("pip", "setuptools", "pkg_resources", "_distutils_hack", "wheel")),
        "/usr/share/python-wheels",
    ),
    ("python3",),
)  # fmt: skip
_AUTOTOOLS = ("autoconf", "autoheader", "autom4te", "automake", "aclocal", "autoreconf", "autoupdate", "ifnames", "autoscan",
              "autopoint", "libtoolize", "m4", "perl", "gettextize")  # fmt: skip
_AUTOCONF = Program("autoconf automake", ("/usr/share/autoconf", "/usr/share/automake-*"), _AUTOTOOLS)
_LIBTOOL = Program("libtool", ("/usr/share/libtool", "/usr/share/aclocal/l*.m4"), ("autoreconf",))
_GETTEXT = Program("gettext", ("/usr/share/gettext*", "/usr/lib/gettext"))
_AUTOPOINT = Program("autopoint", ("/usr/share/gettext*", "/usr/lib/gettext", *(
    f"/usr/share/aclocal/{name}.m4"
    for name in (
        "gettext", "host-cpu-c-abi", "iconv", "intlmacosx", "lib-ld", "lib-link", "lib-prefix", "nls", "po", "progtest",
    )
)))  # fmt: skip
_PKG_CONFIG = Program("pkg-config", ("/usr/share/aclocal/pkg.m4",), ("pkgconf",))
_PKGCONF = Program("pkgconf", _PKG_CONFIG.reads)
_CLANG = Program("clang", ("/usr/lib/llvm-*/bin/clang*", "/usr/lib/llvm-*/lib/clang"))
_CMAKE = Program("cmake", ("/usr/share/cmake-*",))

PROGRAMS: dict[str, Program] = {
    "aclocal": Program("automake", ("/usr/share/aclocal-*", "/usr/share/automake-*"), ("perl",)),
    "autoconf": _AUTOCONF, "autoheader": _AUTOCONF, "autom4te": _AUTOCONF, "automake": _AUTOCONF, "autoscan": _AUTOCONF,
    "autoreconf": Program("autoconf automake", (*_AUTOCONF.reads, "/usr/share/aclocal-*"), _AUTOTOOLS),
    "autopoint": _AUTOPOINT,
    "bison": Program(reads=("/usr/share/bison",), runs=("m4", "bison.yacc")),
    "yacc": Program("bison", ("/usr/share/bison",), ("bison",)),
    "bwrap": Program("bubblewrap"),
    "cargo": Program("cargo", runs=("rustc",)),
    "go": Program("golang-go", ("/usr/lib/go-*", "/usr/share/go-*", "/usr/share/gocode")),
    "rustc": Program("rustc", ("/usr/lib/rustlib",), ("gcc",)),
    "clang": _CLANG, "clang++": _CLANG,
    "cmake": _CMAKE, "ctest": _CMAKE, "cpack": _CMAKE,
    "file": Program(reads=("/usr/share/misc/magic.mgc",)),
    "flex": Program(runs=("m4",)),
    "gettextize": _GETTEXT, "msgfmt": _GETTEXT, "msgmerge": _GETTEXT, "xgettext": _GETTEXT,
    "git": Program(reads=("/usr/lib/git-core", "/usr/libexec/git-core", "/usr/share/git-core")),
    "help2man": Program(runs=("perl",)),
    "ld.lld": Program("lld"),
    "libtoolize": _LIBTOOL, "libtool": _LIBTOOL,
    "makeinfo": Program("texinfo", ("/usr/share/texinfo", "/usr/lib/*/texinfo"), ("perl",)),
    "meson": Program("meson", (f"{_PACKAGES}/mesonbuild", "/usr/share/meson"), ("python3", "ninja")),
    "ninja": Program("ninja-build"),
    "openssl": Program(reads=("/etc/ssl/openssl.cnf", "/usr/lib/ssl/openssl.cnf")),
    "perl": _PERL,
    "pip3": _PIP, "pip": _PIP,
    "pkg-config": _PKG_CONFIG, "pkgconf": _PKGCONF,
    # Beside their own package, what it imports. Modules that import nothing of others are not listed.
    "python:elftools": Program("python3-pyelftools", runs=("python3",)),
    "python:jinja2": Program("python3-jinja2", runs=("python3", "python:markupsafe")),
    "python:mako": Program("python3-mako", runs=("python3", "python:markupsafe")),
    "python:markupsafe": Program("python3-markupsafe", runs=("python3",)),
    "python:yaml": Program("python3-yaml", (f"{_PACKAGES}/_yaml",), ("python3",)),
    "python3": _PYTHON, "python": Program("python-is-python3", _PYTHON.reads, ("python3",)),
    "qemu-system-aarch64": Program("qemu-system-arm"),
    "qemu-system-arm": Program("qemu-system-arm"),
    "qemu-system-riscv64": Program("qemu-system-misc"),
    "qemu-system-x86_64": Program("qemu-system-x86"),
    "strip": Program("binutils"),
    "tclsh": Program("tcl", ("/usr/share/tcltk/tcl8.*",)),
    "echo": Program("coreutils"),
    "gcc": Program("gcc libc6-dev"), "cc": Program("gcc libc6-dev"), "g++": Program("g++"), "c++": Program("g++"),
    "aarch64-linux-gnu-gcc": _cross("aarch64-linux-gnu", "gcc-aarch64-linux-gnu libc6-dev-arm64-cross"),
    "arm-linux-gnueabihf-gcc": _cross("arm-linux-gnueabihf", "gcc-arm-linux-gnueabihf libc6-dev-armhf-cross"),
    "riscv64-linux-gnu-gcc": _cross("riscv64-linux-gnu", "gcc-riscv64-linux-gnu libc6-dev-riscv64-cross"),
    "x86_64-linux-gnu-gcc": _cross("x86_64-linux-gnu", "gcc-x86-64-linux-gnu libc6-dev-amd64-cross"),
    "xsltproc": Program(),
    "library:elf": Program("libelf-dev", _library(("libelf.h", "gelf.h", "nlist.h", "elfutils"), ("elf",))),
    "library:gnutls": Program("libgnutls28-dev", _library(("gnutls",), ("gnutls",))),
    "library:ncurses": Program("libncurses-dev", _library(
        ("curses.h", "ncurses.h", "menu.h", "panel.h", "form.h", "eti.h", "unctrl.h", "term.h", "ncurses_dll.h"),
        ("ncurses*", "tinfo", "menu*", "panel*"),
    )),
    "library:openssl": Program("libssl-dev", _library(("openssl",), ("crypto", "ssl"))),
    "library:uuid": Program("uuid-dev", _library(("uuid",), ("uuid",))),
    "library:zlib": Program("zlib1g-dev", _library(("zlib.h", "zconf.h"), ("z",))),
}  # fmt: skip
#: Programs that stand for the host's own compiler: who declares one of them sees all of it.
NATIVE_COMPILERS = frozenset(["gcc", "cc", "g++", "c++", "ld", "as", "ar"])
#: How a module of Perl is named among programs: `perl:XML::Parser`.
PERL_MODULE = "perl:"
#: How a module of Python that a build runs is named among programs: `python:jinja2`.
PYTHON_MODULE = "python:"
#: How a library for the build host's own compiler is named among programs: `library:openssl`. Those of the table are known.
HOST_LIBRARY = "library:"


def debian_package(program: str) -> str:
    """The Debian package (or packages, with blanks) that bring a program; empty when that is not known."""
    if program.startswith(PERL_MODULE):
        return f"lib{program.removeprefix(PERL_MODULE).lower().replace('::', '-')}-perl"
    if program.startswith(PYTHON_MODULE) and program not in PROGRAMS:
        return f"python3-{program.removeprefix(PYTHON_MODULE).partition('.')[0].lower().replace('_', '-')}"
    if program == f"{os.uname().machine}-linux-gnu-gcc":
        program = "gcc"  # the machine's own compiler has no package of a cross compiler
    if program.endswith("-linux-gnu-g++") or program.endswith("-linux-gnueabihf-g++"):
        return f"g++-{program.removesuffix('-g++')}"
    known = PROGRAMS.get(program)
    if known is not None:
        return known.package or program
    return program if program in _PACKAGED_AS_NAMED else ""


_PACKAGED_AS_NAMED = frozenset(
    words(
        """
    bc bison flex gperf gpgv gawk git m4 make patch perl python3 rsync cpio unzip zip xz-utils bzip2
    """
    )
)


def family(program: str) -> tuple[str, ...]:
    """A program, and all that it runs."""
    found: dict[str, None] = {}
    waiting = [program]
    while waiting:
        one = waiting.pop()
        if one not in found:
            found[one] = None
            known = PROGRAMS.get(one)
            waiting += known.runs if known is not None else ("python3",) if one.startswith(PYTHON_MODULE) else ()
    return tuple(found)


def reads_of(program: str) -> tuple[str, ...]:
    """Patterns of what a program needs beside the libraries it is linked against."""
    known = PROGRAMS.get(program)
    return known.reads if known is not None else ()


def find_program(name: str, folders: tuple[str, ...] = FOLDERS) -> str | None:
    """The path of a program in the system's own folders. A path is looked at as it is, a module by its file."""
    if name.startswith(PERL_MODULE):
        return _perl_module(name.removeprefix(PERL_MODULE))
    if name.startswith(PYTHON_MODULE):
        return _python_module(name.removeprefix(PYTHON_MODULE))
    if name.startswith(HOST_LIBRARY):
        return _host_library(name)
    if name.startswith("/"):
        return name if os.path.exists(name) else None
    for folder in folders:
        path = f"{folder}/{name}"
        if os.path.isfile(path) and os.access(path, os.X_OK):
            return path
    return None


def _host_library(name: str) -> str | None:
    """The first header of a library, if it is there."""
    import glob

    known = PROGRAMS.get(name)
    found = (path for pattern in (known.reads if known is not None else ()) for path in sorted(glob.glob(pattern)))
    return next(found, None)


def _python_module(name: str) -> str | None:
    """The folder or file of a module, where distributions put those of their own interpreter."""
    import glob

    path = name.replace(".", "/")
    for folder in (
        _PACKAGES,
        *sorted(glob.glob("/usr/lib/python3*/site-packages")),
        *sorted(glob.glob("/usr/lib64/python3*/site-packages")),
    ):
        compiled = sorted(glob.glob(f"{folder}/{path}.*.so"))
        found = next((one for one in (f"{folder}/{path}", f"{folder}/{path}.py", *compiled) if os.path.exists(one)), None)
        if found is not None:
            return found
    return None


def _perl_module(name: str) -> str | None:
    import glob

    file = name.replace("::", "/") + ".pm"
    patterns = ("/usr/share/perl5", "/usr/lib/*/perl5/5.*", "/usr/local/share/perl/*", "/usr/share/perl5/vendor_perl")
    folders = [path for pattern in patterns for path in sorted(glob.glob(pattern))]
    return next((f"{folder}/{file}" for folder in folders if os.path.isfile(f"{folder}/{file}")), None)
