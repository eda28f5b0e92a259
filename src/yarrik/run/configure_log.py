"""Why a configure script stopped: the test that failed, out of its `config.log`; and what is missing, out of any log.

The form is that of Autoconf ("config.log" in its manual): lines of the script begin with `configure:LINE:`, those of the
program that it tried with a bar."""

from __future__ import annotations

from yarrik.patterns import lazy_pattern

#: Of a config.log, this much of its end is looked at (bytes), and this many lines of what a compiler said are shown.
LOOKED_AT, _MOST = 1 << 20, 6
_LINE = lazy_pattern(r"configure:(\d+): (.*)")
_ENDED = lazy_pattern(r"configure:\d+: \$\? = (\d+)")
_CHECKING = lazy_pattern(r"configure:\d+: checking ")
_ERROR = lazy_pattern(r"configure:\d+: error: ")
_NO = lazy_pattern(r"configure:\d+: result: no$")
_HEADER = lazy_pattern(r"fatal error: ([\w./+-]+\.(?:h|hh|hpp)): No such file or directory")
_PACKAGE = lazy_pattern(
    r"No package '([\w.+-]+)' found|Package ([\w.+-]+) was not found|Package '([\w.+-]+)', required by '[^']*', not found"
    r"|Dependency \"?([\w.+-]+)\"? not found, tried pkgconfig"
)


def failed_test(text: str) -> list[str]:
    """The last test before the error that ended the script: what was checked, and what compiler or linker said of it. Empty
    when the log has no such thing."""
    lines = text.splitlines()
    end = next((number for number in reversed(range(len(lines))) if _ERROR.match(lines[number])), None)
    if end is None:
        return []
    searched = _in_vain(lines[:end])
    if searched:
        return searched
    failed = next((number for number in reversed(range(end)) if (m := _ENDED.match(lines[number])) and m[1] != "0"), None)
    if failed is None:
        return []
    begin = next((number for number in reversed(range(failed)) if _CHECKING.match(lines[number])), None)
    if begin is None:
        return []
    match = _LINE.match(lines[begin])
    said = [line for line in lines[begin + 1 : failed] if not line.startswith(("configure:", "| ")) and line.strip()]
    return [match[2] if match is not None else lines[begin], *said[:_MOST]]


def _in_vain(lines: list[str]) -> list[str]:
    """What the script looked for last without trying a program: names of a compiler, say. Empty when it tried one last."""
    found: list[str] = []
    answer = ""
    for line in reversed(lines):
        match = _LINE.match(line)
        if match is None or _ERROR.match(line):
            continue
        if match[2].startswith("result: "):
            answer = line
        elif _CHECKING.match(line) and _NO.match(answer):
            found.append(f"{match[2]}: no")
            answer = ""
        else:
            break
    return found[_MOST::-1]


def missing_thing(lines: list[str]) -> tuple[str, str]:
    """What a build looked for in vain, as kind (`header` or `pc`) and name: the last such thing that is said. Empty texts
    otherwise."""
    for line in reversed(lines):
        # Autoconf's own test of a preprocessor includes a header that nobody has.
        if (match := _HEADER.search(line)) and match[1] != "ac_nonexistent.h":
            return "header", match[1]
        if match := _PACKAGE.search(line):
            return "pc", next(word for word in match.groups() if word)
    return "", ""
