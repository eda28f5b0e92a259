"""Whether programs of the build host are as new as recipes ask for, by what they say of themselves."""

from __future__ import annotations

import os
import subprocess

from yarrik.cache import Memory
from yarrik.errors import Place, Trouble, Unfit, from_package
from yarrik.host import debian_package, find_program
from yarrik.patterns import lazy_pattern
from yarrik.versions import Version, parse_wish

_SECONDS = 10
_VERSION = lazy_pattern(r"(?<![\w.])v?(\d+(?:\.\d+)+)")


def unfit_program(program: str, wish: str, memory: Memory, place: Place) -> Trouble | None:
    """The trouble with a program that is in another version than is asked for, or says none. A program
    that is missing is no trouble here: `missing_program` reports it."""
    path = find_program(program)
    if path is None:
        return None
    text = _asked(path, memory)
    try:
        if text and parse_wish(wish).allows(Version(text)):
            return None
    except Unfit:
        text = ""
    have = f"is {text}" if text else "does not say its version"
    return Trouble("HOST-TOOL-OLD", f"the program `{program}` {have}, and {wish} is asked for", place,
                   why="the recipe's build does not work with another one",
                   remedy=from_package(debian_package(program)) or "install another version")  # fmt: skip


def _asked(path: str, memory: Memory) -> str:
    """What a program answers to `--version`, remembered while its file stays the same."""
    try:
        status = os.stat(path)
    except OSError:
        return ""
    key = f"version of {path} {status.st_size} {status.st_mtime_ns}"
    known = memory.fact(key)
    if known is not None:
        return known.decode()
    try:
        done = subprocess.run([path, "--version"], stdin=subprocess.DEVNULL, capture_output=True, timeout=_SECONDS, check=False,
                              env={"PATH": os.defpath, "LC_ALL": "C"}, cwd="/")  # fmt: skip
    except (OSError, subprocess.TimeoutExpired):
        return ""
    found = _VERSION.search((done.stdout + done.stderr)[:4096].decode("utf-8", "replace"))
    text = found[1] if found else ""
    memory.learn(key, text.encode())
    return text
