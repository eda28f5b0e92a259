"""Device tree sources that use the C preprocessor go through the toolchain's, as the kernel's own do."""

from __future__ import annotations

import os
import re
import subprocess
from collections.abc import Sequence
from pathlib import Path

from yarrik.devicetree.lexer import SourceError
from yarrik.errors import Place, Trouble
from yarrik.patterns import lazy_pattern

_USED = lazy_pattern(r"^[ \t]*#[ \t]*(?:include|define|undef|if|ifdef|ifndef|else|elif|endif|error)\b", re.MULTILINE)
_TROUBLE = lazy_pattern(r"^(?P<file>[^:\n]+):(?P<line>\d{1,9}):(?:\d+:)? *(?:fatal )?error: *(?P<what>.*)$", re.MULTILINE)
_SECONDS = 60


def uses_preprocessor(text: str) -> bool:
    """Whether a source has lines that only a preprocessor understands."""
    return _USED.search(text) is not None


def preprocessor_words(compiler: str, include: Sequence[Path]) -> list[str]:
    """The command that preprocesses a device tree source, but for the source's name."""
    words = [compiler, "-E", "-nostdinc", "-undef", "-D__DTS__", "-x", "assembler-with-cpp"]
    return words + [word for folder in include for word in ("-I", str(folder))]


def preprocessor_troubles(said: str, source: Path) -> list[Trouble]:
    """What a preprocessor complains of, each at its place; never an empty list."""
    remedy = "correct the line, or name the folder of what it includes (--include, or the board's `kernel.include`)"
    troubles = [
        Trouble("DTS-SYNTAX", match["what"], Place(Path(match["file"]), int(match["line"])), remedy=remedy)
        for match in _TROUBLE.finditer(said)
    ]
    last = said.strip().rpartition("\n")[2] or "the preprocessor failed"
    return troubles or [Trouble("DTS-SYNTAX", last, Place(source), remedy="correct the source")]


def preprocessed(source: Path, include: Sequence[Path] = (), compiler: str = "gcc") -> str:
    """What the preprocessor makes of a source, with lines that say which file and line is which.

    Included files are looked for beside the one that names them, then in `include`. Raises SourceError with all that the
    preprocessor complains of."""
    environment = {"LC_ALL": "C", "PATH": os.environ.get("PATH", os.defpath)}
    try:
        done = subprocess.run(
            [*preprocessor_words(compiler, include), str(source)],
            capture_output=True,
            timeout=_SECONDS,
            check=False,
            stdin=subprocess.DEVNULL,
            env=environment,
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        what = f"the preprocessor {compiler} failed: {error}"
        raise SourceError(Trouble("DTS-PREPROCESSOR", what, Place(source), remedy="install the compiler")) from error
    if done.returncode:
        raise SourceError(preprocessor_troubles(done.stderr.decode("utf-8", "replace"), source))
    return done.stdout.decode("utf-8", "replace")


def read_source(source: Path, include: Sequence[Path] = (), compiler: str = "gcc") -> str | None:
    """A source's text once it went through the preprocessor; None when it needs none, or cannot be read."""
    try:
        text = source.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return None
    return preprocessed(source, include, compiler) if uses_preprocessor(text) else None
