"""Logs of failed steps: which lines tell why, and causes that are recognised in them."""

from __future__ import annotations

from pathlib import Path

from yarrik.host import debian_package, find_program
from yarrik.patterns import lazy_pattern
from yarrik.toolchain import NO_CXX

LAST_LINES = 12
#: Lines at the end of a failed step's log that are searched for the first error.
_LOOKED_THROUGH = 5000


def last_lines(log: Path, count: int = LAST_LINES) -> list[str]:
    """The last `count` lines of a log; fewer when it is shorter, none when it cannot be read."""
    try:
        with log.open("rb") as file:
            file.seek(max(0, log.stat().st_size - 64 * 1024 - 100 * count))
            lines = file.read().decode("utf-8", "replace").splitlines()
            return [line for line in lines if not line.startswith("STEP-FAILED: ")][-count:]
    except OSError:
        return []


_ERROR = lazy_pattern(r"(?i)(?:^|[\s:])(?:fatal )?error:|undefined reference to|: No rule to make target|^\S*Error: ")


def telling_lines(log: Path) -> tuple[str, list[str]]:
    """What of a failed step's log tells most, with a heading: the first error and what comes after it, or else the end."""
    lines = last_lines(log, _LOOKED_THROUGH)
    first = next((number for number, line in enumerate(lines) if _ERROR.search(line)), None)
    if first is None or first >= len(lines) - LAST_LINES:
        return "the log's last lines", lines[-LAST_LINES:]
    return "the first error in the log", [*lines[first : first + LAST_LINES - 4], "…", *lines[-2:]]


_NETWORK = lazy_pattern(
    r"(?i)could not resolve host|name resolution|network is unreachable|unknown host|no route to host"
    r"|failed to connect to .* port"
)
_NO_PROGRAM = lazy_pattern(r"(?:^|: )(?P<name>[A-Za-z0-9][\w.+-]*): (?:command not found|not found|No such file or directory)$")


#: Configure scripts have the board's compiler in CC, so what they look for is one for programs that run in the build.
_NO_COMPILER = lazy_pattern(r"configure: error: no acceptable C compiler found in \$PATH")
#: What a build in Go or Rust says when modules or crates are not beside its sources, or the language's own library is missing.
_NOT_CARRIED = (
    (lazy_pattern(r"module lookup disabled by GOPROXY=off|: inconsistent vendoring|not marked as explicit in vendor"),
     "modules that it wants are not in its folder `vendor`",
     "run `go mod vendor` in its sources, and keep that folder with them"),
    (lazy_pattern(r"failed to read root of directory source|error: no matching package (?:named|found)|but --frozen was passed"
                r"|needs to be updated but --frozen"),
     "crates that it wants are not in its folder `vendor`, or not in `Cargo.lock`",
     "run `cargo vendor` in its sources, and keep that folder and `Cargo.lock` with them"),
    (lazy_pattern(r"error\[E0463\]: can't find crate for `(?:std|core)`"),
     "it lacks Rust's own library for the board's architecture",
     "install it; on Debian that is libstd-rust-dev of that architecture: dpkg --add-architecture arm64, then "
     "apt-get install libstd-rust-dev:arm64"),
)  # fmt: skip
_SAID_BY_A_SHELL = lazy_pattern(r"sh:|: \d+: \S+: not found$|command not found")


def known_cause(lines: list[str]) -> tuple[str, str, str]:
    """Code, cause and remedy when a step wanted the network, or a program that it has not; empty texts otherwise."""
    for line in reversed(lines):
        for pattern, cause, remedy in _NOT_CARRIED:
            if pattern.search(line):
                return "STEP-LACKS", cause, remedy
        if _NETWORK.search(line):
            return ("STEP-NETWORK", "it reached for the network, which only fetching may",
                    "let a [[source]] bring what it wants, or turn the download off in the recipe's build")  # fmt: skip
        if _NO_COMPILER.search(line):
            return ("STEP-NO-PROGRAM", "it needs a compiler for programs that run in the build, and sees none",
                    'write `programs = ["gcc"]` into [build]')  # fmt: skip
        match = _NO_PROGRAM.search(line)
        if match is not None and (_SAID_BY_A_SHELL.search(line) or "make" in line):
            name = match["name"]
            if name == NO_CXX:
                return ("STEP-NO-PROGRAM", "it needs a compiler for C++, and its toolchain has none",
                        "install it beside the one for C (on Debian: g++-TRIPLET, like g++-aarch64-linux-gnu)")  # fmt: skip
            package = debian_package(name)
            install = ""
            if not find_program(name):
                install = f" (on Debian: apt-get install {package})" if package else ", and install it"
            return ("STEP-NO-PROGRAM", f"it needs the program `{name}`, which it does not see",
                    f'if the host brings it, write `programs = ["{name}"]` into [build]{install}; else name a recipe that '
                    "builds it in `build.tools`")  # fmt: skip
    return "", "", ""
