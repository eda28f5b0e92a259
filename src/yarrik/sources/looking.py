"""What sources say of themselves: build system, version, licence, needs, tools and options, each with the line it is read from.

Nothing is run. Build files are read by the few forms that nearly all of them use; what is read is a guess for a recipe's
first draft, and says where it comes from. Sizes and counts are bounded, since sources are other people's."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Literal

import msgspec

from yarrik.licences import joined, licence_fault
from yarrik.patterns import lazy_pattern

What = Literal[
    "build system", "configure", "version", "licence", "need", "tool", "option", "goal", "install", "variable", "before"
]
#: Bytes of a file that is read, files whose beginnings are searched for tags, and options that are listed.
_LARGEST, _MOST_TAGGED, _MOST_OPTIONS = 4 << 20, 2000, 40
_MOST_NESTED = 100


class Switch(msgspec.Struct, frozen=True):
    """An option of a build: the arguments that turn it on and off. `default` is None where the build decides by itself."""

    on: str
    off: str
    default: bool | None
    summary: str


class Guess(msgspec.Struct, frozen=True):
    """One thing that a file says; `line` counts from 1. With `optional`, the build goes without it."""

    what: What
    value: str
    file: str
    line: int
    optional: bool = False
    switch: Switch | None = None


class Findings(msgspec.Struct, frozen=True):
    """All that was read. Of version and licence the first guess is the best one."""

    guesses: tuple[Guess, ...]

    def of(self, what: What) -> list[Guess]:
        """The guesses of one kind, each value once: what one file needs counts where another could go without."""
        found: dict[str, Guess] = {}
        for guess in self.guesses:
            if guess.what == what and (guess.value not in found or found[guess.value].optional > guess.optional):
                found[guess.value] = guess
        return list(found.values())

    def first(self, what: What) -> Guess | None:
        """The best guess of a kind."""
        return next(iter(self.of(what)), None)


class _Files(msgspec.Struct):
    sizes: Mapping[str, int]
    content: Callable[[str], bytes]
    known: dict[str, str] = msgspec.field(default_factory=dict)

    def text(self, name: str) -> str:
        """A file as text; empty for one that is not there, or too large to be meant."""
        if name not in self.known:
            fits = name in self.sizes and self.sizes[name] <= _LARGEST
            self.known[name] = self.content(name).decode("utf-8", "replace") if fits else ""
        return self.known[name]


def look_at(sizes: Mapping[str, int], content: Callable[[str], bytes], name: str = "") -> Findings:
    """What the files say: `sizes` are those of regular files, in bytes by path; `content` reads one. `name` is the archive's or
    folder's, which often ends in the version."""
    files = _Files(sizes, content)
    guesses = (*_system(files), *_version(files, name), *_licence(files), *_asked(files), *_options(files))
    return Findings((*guesses, *_how_to_make(files), *_manuals(files), *_script_before(files)))


def _hand_written(files: _Files) -> bool:
    """Whether `configure` is a script of the project's own: it knows few of the arguments that autoconf's take."""
    text = files.text("configure")[:20_000]
    return bool(text) and "GNU Autoconf" not in text and not files.sizes.keys() & {"configure.ac", "configure.in"}


def _system(files: _Files) -> Iterator[Guess]:
    calls_cmake = _hand_written(files) and "cmake" in files.text("configure") and "CMakeLists.txt" in files.sizes
    if _hand_written(files) and not calls_cmake:
        yield Guess("configure", "plain", "configure", 1)
    # Of projects with several, most keep the one for CMake beside the one that they release with.
    for names, system in (
        (("meson.build",), "meson"),
        (("configure", "configure.ac", "configure.in"), "autotools"),
        (("CMakeLists.txt",), "cmake"),
        (("go.mod",), "go"),
        (("Cargo.toml",), "cargo"),
        (("pyproject.toml", "setup.py"), "python"),
        (("Makefile", "GNUmakefile", "makefile"), "make"),
    ):
        for name in names:
            if name in files.sizes and not (calls_cmake and name == "configure"):
                yield Guess("build system", system, name, 1)
                break


_VERSIONS = (
    ("meson.build", r"\bproject\s*\([^)]{0,2000}?\bversion\s*:\s*'([^'\n]{1,64})'"),
    ("CMakeLists.txt", r"(?i)\bproject\s*\([^)]{0,2000}?\bVERSION\s+\"?([0-9][\w.+~-]{0,63})"),
    ("configure.ac", r"\bAC_INIT\s*\(\s*\[?[^,\]\n]{1,200}\]?\s*,\s*\[?([0-9][\w.+~-]{0,63})"),
    ("configure.in", r"\bAC_INIT\s*\(\s*\[?[^,\]\n]{1,200}\]?\s*,\s*\[?([0-9][\w.+~-]{0,63})"),
    ("Cargo.toml", r"(?m)^\[package\](?:\n(?!\[).*){0,40}?\nversion\s*=\s*\"([0-9][\w.+-]{0,63})\""),
    ("configure", r"(?m)^PACKAGE_VERSION='([^'\n]{1,64})'"),
    ("Makefile", r"(?m)^(?:VERSION|PACKAGE_VERSION)\s*:?=\s*([0-9][\w.+~-]{0,63})\s*$"),
    ("VERSION", r"\A\s*v?([0-9][\w.+~-]{0,63})\s*\Z"),
)


def _version(files: _Files, name: str) -> Iterator[Guess]:
    for file, pattern in _VERSIONS:
        if match := re.search(pattern, files.text(file)):
            yield Guess("version", match[1], file, _line(files.text(file), match.start(1)))
    if text := files.text("pyproject.toml"):
        try:
            project = tomllib.loads(text).get("project", {})
        except tomllib.TOMLDecodeError:
            project = {}
        if isinstance(project, dict) and isinstance(project.get("version"), str):
            yield Guess("version", project["version"], "pyproject.toml", _line(text, text.find("version")))
    if match := re.search(r"[-_]v?([0-9][\w.+~]*?)(?:\.tar(?:\.\w+)?|\.t[gx]z|\.zip|\.orig.*)?\Z", name):
        yield Guess("version", match[1], name, 1)


#: Words of the usual licence texts, by SPDX identifier; the first that has all of its words is taken.
_TEXTS = (
    ("LGPL-3.0-only", ("gnu lesser general public license", "version 3")),
    ("LGPL-2.1-only", ("gnu lesser general public license", "version 2.1")),
    ("LGPL-2.0-only", ("gnu library general public license", "version 2")),
    ("AGPL-3.0-only", ("gnu affero general public license", "version 3")),
    ("GPL-3.0-only", ("gnu general public license", "version 3")),
    ("GPL-2.0-only", ("gnu general public license", "version 2")),
    ("Apache-2.0", ("apache license", "version 2.0")),
    ("MPL-2.0", ("mozilla public license version 2.0",)),
    ("BSD-3-Clause", ("redistribution and use in source and binary forms", "neither the name")),
    ("BSD-2-Clause", ("redistribution and use in source and binary forms", "provided that the following conditions")),
    ("ISC", ("permission to use, copy, modify, and", "distribute this software for any purpose")),
    ("MIT", ("permission is hereby granted, free of charge", "the software is provided \"as is\"")),
    ("Zlib", ("the origin of this software must not be misrepresented", "altered source versions")),
    ("Unlicense", ("this is free and unencumbered software released into the public domain",)),
)  # fmt: skip
_TEXT_NAMES = lazy_pattern(r"(?i)(?:copying|licen[cs]e|copyright)(?:[._-][\w.-]*)?\Z")
_TAG = lazy_pattern(r"SPDX-License-Identifier:[ \t]*([A-Za-z0-9.+() -]{1,200})")


def _licence(files: _Files) -> Iterator[Guess]:
    tags: dict[str, tuple[int, str, int]] = {}
    searched = 0
    later = False
    for name, size in files.sizes.items():
        if size == 0 or size > 1 << 20 or not re.search(r"\.(?:c|h|cc|cpp|hpp|py|sh|rs|go|S|build|ac|am|cmake|txt|md)\Z", name):
            continue
        searched += 1
        if searched > _MOST_TAGGED:
            break
        head = files.content(name)[:8192].decode("utf-8", "replace")
        later = later or re.search(r"any[\s*#/;-]+later[\s*#/;-]+version", head) is not None
        if match := _TAG.search(head):
            words = match[1].strip()
            count, first, line = tags.get(words, (0, name, _line(head, match.start())))
            tags[words] = count + 1, first, line
    found = sorted((-count, words, file, line) for words, (count, file, line) in tags.items() if licence_fault(words) is None)
    tagged = -sum(count for count, _, _, _ in found)
    # A few tagged files among many may be somebody else's, taken along.
    if found and tagged * 5 >= min(searched, _MOST_TAGGED):
        yield Guess("licence", joined(words for _, words, _, _ in found[:6]), found[0][2], found[0][3])
    for name in sorted(files.sizes):
        if "/" not in name and _TEXT_NAMES.match(name):
            plain = " ".join(files.text(name).lower().split())
            for licence, words in _TEXTS:
                if all(word in plain for word in words):
                    if later and licence.endswith("-only") and not licence.startswith("AGPL"):
                        licence = licence.removesuffix("-only") + "-or-later"
                    yield Guess("licence", licence, name, 1)
                    break


#: How build files ask for libraries: a pattern whose first group holds their names.
_NEEDS = (
    ("configure.ac", r"PKG_CHECK_MODULES\s*\(\s*\[?\w+\]?\s*,\s*\[?([^\]),]{1,400})"),
    ("configure.ac", r"AC_CHECK_LIB\s*\(\s*\[?([\w+.-]{1,64})\]?\s*,"),
    ("configure.ac", r"AC_SEARCH_LIBS\s*\(\s*\[?\w+\]?\s*,\s*\[?([\w+. -]{1,200})\]?\s*[,)]"),
    ("CMakeLists.txt", r"(?i)pkg_check_modules\s*\(\s*\w+\s+((?:[\w.+<>=\"-]+\s*){1,20})\)"),
    ("CMakeLists.txt", r"(?i)find_package\s*\(\s*([\w.+-]{1,64})([^)]{0,200})\)"),
    ("meson.build", r"\bdependency\s*\(\s*'([\w.+-]{1,64})'([^)]{0,300})\)"),
)
_TOOLS = (
    ("configure.ac", r"(?:AC_PATH_PROGS?|AC_CHECK_PROGS?)\s*\(\s*\[?\w+\]?\s*,\s*\[?([\w+.-]{1,64})"),
    ("meson.build", r"\bfind_program\s*\(\s*'([\w+.-]{1,64})'([^)]{0,300})\)"),
    ("CMakeLists.txt", r"(?i)find_program\s*\(\s*\w+\s+(?:NAMES\s+)?\"?([\w+.-]{1,64})"),
)
_MACROS = {"AC_PROG_YACC": "bison", "AC_PROG_LEX": "flex", "AM_PROG_LEX": "flex", "AC_PROG_AWK": "gawk",
           "PKG_CHECK_MODULES": "pkg-config", "PKG_PROG_PKG_CONFIG": "pkg-config"}  # fmt: skip
#: What makes `configure`, where the sources have none.
_MAKES_CONFIGURE = {"AC_INIT": "autoreconf", "LT_INIT": "libtoolize", "AC_PROG_LIBTOOL": "libtoolize",
                    "AM_PROG_LIBTOOL": "libtoolize", "AM_GNU_GETTEXT": "autopoint"}  # fmt: skip
#: How build files name the compiler for programs that run while others are built.
_NATIVE = lazy_pattern(r"\b(?:AX_PROG_CC_FOR_BUILD|CC_FOR_BUILD|BUILD_CC|HOSTCC)\b|\bnative\s*:\s*true")
#: What asks for no library of its own: parts of the C library, and what a build system calls by this word.
_NO_NEED = {"c", "m", "dl", "rt", "pthread", "threads", "socket", "nsl", "resolv", "pkgconfig", "python3", "perl", "git",
            "doxygen", "openmp", "cunit", "gtest"}  # fmt: skip
_OPTIONAL = lazy_pattern(r"(?i)required\s*:\s*(?:false|get_option)|\bOPTIONAL|\bQUIET\b(?!.*\bREQUIRED\b)")


def _asked(files: _Files) -> Iterator[Guess]:
    for what, table in (("need", _NEEDS), ("tool", _TOOLS)):
        for file, pattern in table:
            text = _without_comments(file, files.text(file))
            for match in re.finditer(pattern, text):
                rest = match[2] if match.re.groups > 1 else ""
                must = "REQUIRED" in rest or file != "CMakeLists.txt" or match.re.groups < 2
                optional = _OPTIONAL.search(rest) is not None or not must
                for word in re.findall(r"(?<![\w.<>=])[A-Za-z][\w.+-]*", match[1]):
                    if word.lower() not in _NO_NEED and word not in ("REQUIRED", "QUIET", "IMPORTED_TARGET", "GLOBAL"):
                        yield Guess(what, word, file, _line(text, match.start()), optional)  # type: ignore[arg-type]
    text = _without_comments("configure.ac", files.text("configure.ac"))
    macros = _MACROS if "configure" in files.sizes else {**_MACROS, **_MAKES_CONFIGURE}
    asked: set[str] = set()
    for macro, tool in macros.items():
        if tool not in asked and (known := re.search(rf"\b{macro}\b", text)):
            asked.add(tool)
            yield Guess("tool", tool, "configure.ac", _line(text, known.start()))
    nested = [name for name in sorted(files.sizes) if re.fullmatch(r"[^/]+/(?:[^/]+/)?meson\.build", name)]
    for file in ("configure.ac", "Makefile", "meson.build", *nested[:_MOST_NESTED]):
        text = _without_comments(file, files.text(file))
        if known := _NATIVE.search(text):
            yield Guess("tool", "gcc", file, _line(text, known.start()))


#: Goals that run what was built.
_RUNS = {"test", "tests", "check", "testing"}
#: Files that makefiles of a project share, beside those that make looks for.
_MAKEFILES = lazy_pattern(r"(?:GNU)?[Mm]ake(?:file|\.rules|\.inc|\.config)?|[Mm]akefile\.[\w-]{1,20}|Make\.[Rr]ules|config\.mk")


def _how_to_make(files: _Files) -> Iterator[Guess]:
    """What makefiles written by hand need to be told in a build for another machine, which installs into a folder."""
    main = next((name for name in ("GNUmakefile", "makefile", "Makefile") if name in files.sizes), "")
    text = _without_comments(main, files.text(main))
    if not main or files.sizes.keys() & {"configure", "configure.ac", "configure.in", "CMakeLists.txt", "meson.build"}:
        return
    first = re.search(r"(?m)^all\s*:(?!=)[ \t]*((?:[^\n\\]|\\\n?){0,1000})$", text)
    goals = first[1].replace("\\\n", " ").split() if first else []
    if first and _RUNS & set(goals):
        for goal in goals:
            if goal not in _RUNS and re.fullmatch(r"[\w./+-]{1,64}", goal):
                yield Guess("goal", goal, main, _line(text, first.start()))
    shared = [name for name in sorted(files.sizes) if "/" not in name and _MAKEFILES.fullmatch(name)]
    whole = "".join(_without_comments(name, files.text(name)) for name in shared)
    if "DESTDIR" not in whole and (own := re.search(r"(?m)^(PREFIX|prefix|INSTALL_TOP)\s*[:?]?=", text)):
        yield Guess("install", f"{own[1]}={{stage}}/usr", main, _line(text, own.start()))
    for name in shared:
        plain = _without_comments(name, files.text(name))
        for word in ("BUILD_CC", "CC_FOR_BUILD"):
            if known := re.search(rf"\b{word}\b", plain):
                yield Guess("variable", f"{word}=gcc", name, _line(plain, known.start()))
                yield Guess("tool", "gcc", name, _line(plain, known.start()))


def _manuals(files: _Files) -> Iterator[Guess]:
    """That a build by autotools makes manuals with a program that nobody needs for a board."""
    if files.sizes.keys() & {"configure", "configure.ac", "configure.in"}:
        manual = next((name for name in sorted(files.sizes) if name.endswith((".texi", ".texinfo", ".txi"))), "")
        if manual:
            yield Guess("variable", "MAKEINFO=true", manual, 1)


def _script_before(files: _Files) -> Iterator[Guess]:
    """A script of the project's own that makes what autoreconf needs, where the sources have no `configure`."""
    if "configure" in files.sizes or "autogen.sh" not in files.sizes:
        return
    text = _without_comments("configure.ac", files.text("configure.ac"))
    for match in re.finditer(r"\bm4_include\s*\(\s*\[?([\w./+-]{1,100})\]?\s*\)", text):
        if match[1] not in files.sizes:
            yield Guess("before", "cd ../source && sh autogen.sh", "autogen.sh", 1)
            return


#: What is only for the project's own developers and readers: names of options for it.
_FOR_DEVELOPERS = lazy_pattern(
    r"(?i)(?:(?:build|enable|with|gtk)[_-])?(?:[a-z0-9]+[_-])?"
    r"(?:tests?|testing|docs?|documentation|examples?|man|man-?pages|fuzz\w*|bench\w*)"
)


def for_developers(option: str) -> bool:
    """Whether an option of this name is for tests, documentation or examples, which no board needs."""
    return _FOR_DEVELOPERS.fullmatch(option) is not None


#: Packages of Debian's that have programs which builds run, with the programs; others have none that are needed.
_PROGRAMS = {
    "bison": ("bison",), "flex": ("flex",), "gperf": ("gperf",), "gawk": ("gawk",), "m4": ("m4",), "bc": ("bc",),
    "perl": ("perl",), "python3": ("python3",), "python3-minimal": ("python3",), "python3-dev": ("python3",),
    "python3-all": ("python3",), "python3-all-dev": ("python3",),
    "libpython3-dev": (), "libsystemd-dev": (), "linux-libc-dev": (), "libc6-dev": (),
    "gettext": ("msgfmt", "msgmerge", "xgettext"), "xsltproc": ("xsltproc",),
    "pkg-config": ("pkg-config",), "pkgconf": ("pkg-config",), "python3-jinja2": ("python:jinja2",),
}  # fmt: skip


def packaging_asks(text: str) -> Iterator[Guess]:
    """What Debian's packaging says that a build needs (`Build-Depends`, deb-src-control(5)): development files
    as needs, by the package that has them, and programs as tools. What is for tests and documentation alone is left out."""
    from debian.deb822 import Deb822

    try:
        source: Mapping[str, str] = next(iter(Deb822.iter_paragraphs(text[:_LARGEST].splitlines(keepends=True))), {})
    except ValueError:
        return
    line = _line(text, text.find("Build-Depends"))
    for field_ in ("Build-Depends", "Build-Depends-Arch"):
        for clause in str(source.get(field_, "")).split(","):
            first = clause.partition("|")[0]
            match = re.match(r"\s*([a-z0-9][a-z0-9.+-]{1,100})", first)
            if (
                match is None
                or re.search(r"<[^>]*!(?:nocheck|nodoc|pkg)", first)
                or re.search(r"\[[^\]]*(?:hurd|kfreebsd)-any\s*\]", first)
            ):
                continue
            package = match[1]
            for program in _PROGRAMS.get(package, ()):
                yield Guess("tool", program, _CONTROL, line)
            if package.endswith("-dev") and package not in _PROGRAMS:
                yield Guess("need", package, _CONTROL, line)


_CONTROL = "debian/control"
#: What a patch changes of the files that `configure` and its makefiles are made from.
_AUTOTOOLS_CHANGED = lazy_pattern(rb"(?m)^\+\+\+ [^/\s]+/(?:\S*/)?(?:configure\.(?:ac|in)|[\w.-]+\.(?:am|m4))(?:\s|$)")


def patched_autotools(patches: Iterable[tuple[str, bytes]]) -> Guess | None:
    """That `configure` has to be made anew: one of the patches (name and text) changes what it is made from, and none changes
    the script itself."""
    found = None
    for name, text in patches:
        if re.search(rb"(?m)^\+\+\+ [^/\s]+/configure(?:\s|$)", text[:_LARGEST]):
            return None
        if found is None and _AUTOTOOLS_CHANGED.search(text[:_LARGEST]):
            found = Guess("before", "cd ../source && autoreconf -fi", name, 1)
    return found


def _options(files: _Files) -> Iterator[Guess]:
    for number, guess in enumerate(_all_options(files)):
        if number == _MOST_OPTIONS:
            return
        yield guess


def _all_options(files: _Files) -> Iterator[Guess]:
    text = _without_comments("configure.ac", files.text("configure.ac"))
    for match in re.finditer(r"AC_ARG_(ENABLE|WITH)\s*\(\s*\[?([\w-]{1,64})\]?\s*,([^,]{0,600})", text):
        on, off = ("enable", "disable") if match[1] == "ENABLE" else ("with", "without")
        name, about = match[2], match[3]
        summary = re.search(
            rf"--\w+-{re.escape(name)}[^\]]*\]?\s*,?\s*\[?([^\]]{{3,120}})", match[0] + text[match.end() :][:300]
        )
        default: bool | None = True if f"--{off}-{name}" in about else None
        words = " ".join(summary[1].split()) if summary else ""
        # Help texts show the form that is not the usual one; many say the usual one too.
        said = re.search(r"(?i)\bdefault[ =:]+\W?(yes|no|on|off|enabled|disabled)\b", words)
        if said:
            default = said[1].lower() in ("yes", "on", "enabled")
        words = re.sub(r"\s*[\[(]?default\b.*", "", words).strip(" ,;[(")
        yield Guess("option", name, "configure.ac", _line(text, match.start()),
                    switch=Switch(f"--{on}-{name}", f"--{off}-{name}", default, words))  # fmt: skip
    text = _without_comments("CMakeLists.txt", files.text("CMakeLists.txt"))
    for match in re.finditer(r"(?i)\boption\s*\(\s*(\w{1,64})\s+\"([^\"]{0,200})\"\s*(\w*)\s*\)", text):
        default = match[3].upper() in ("ON", "TRUE", "YES", "1")
        switch = Switch(f"-D{match[1]}=ON", f"-D{match[1]}=OFF", default, " ".join(match[2].split()))
        yield Guess("option", match[1], "CMakeLists.txt", _line(text, match.start()), switch=switch)
    for file in ("meson.options", "meson_options.txt"):
        text = _without_comments(file, files.text(file))
        for match in re.finditer(
            r"\boption\s*\(\s*'([\w-]{1,64})'((?:[^()']++|'[^'\n]{0,200}'|\([^()]{0,200}\)){0,60})\)", text
        ):
            kind = re.search(r"type\s*:\s*'(boolean|feature)'", match[2])
            if kind is None:
                continue
            value = re.search(r"value\s*:\s*'?(\w+)'?", match[2])
            about = re.search(r"description\s*:\s*'([^']{0,200})'", match[2])
            on, off = ("true", "false") if kind[1] == "boolean" else ("enabled", "disabled")
            default = value[1] in ("true", "enabled") if value else kind[1] == "boolean"
            switch = Switch(f"-D{match[1]}={on}", f"-D{match[1]}={off}", default, " ".join(about[1].split()) if about else "")
            yield Guess("option", match[1], file, _line(text, match.start()), switch=switch)


def _without_comments(file: str, text: str) -> str:
    """The text with comments blanked, so that places stay."""
    start = r"(?:\bdnl\b|(?<!\[)#)" if file.startswith("configure") else "#"
    return re.sub(rf"(?m){start}.*$", lambda match: " " * len(match[0]), text)


def _line(text: str, at: int) -> int:
    return text.count("\n", 0, max(at, 0)) + 1
