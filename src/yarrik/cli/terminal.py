"""The one way to a terminal: what others wrote is shown, never obeyed.

Labels, names of files and partitions, menus, logs and compilers' messages may hold control characters: sequences that move the
cursor, retitle the window or type, and marks that turn the direction of text around. On a terminal they are shown escaped. In
files and pipes, and in JSON, they stay as they are.
"""

from __future__ import annotations

import codecs
import re
import sys
from collections.abc import Iterable
from typing import Any, TextIO

from yarrik.patterns import lazy_pattern

#: C0 but for tab and line end, DEL and C1 (ECMA-48), bidirectional marks, embeddings and isolates (UAX #9), other line ends,
#: and bytes that are no UTF-8.
_CONTROL = lazy_pattern("[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")
#: Around the codes of a style: noncharacters (Unicode, 23.7), which are turned into sequences here and nowhere else.
_BEGIN, _END = "\ufdd0", "\ufdd1"
_STYLE = lazy_pattern(f"{_BEGIN}([0-9;]*){_END}")
_SEQUENCE = lazy_pattern("\033\\[([0-9;]*)m")


def escaped(text: str) -> str:
    """The text with control characters as `\\x1b` or `\\u202e`."""
    return _CONTROL.sub(_written, text)


def one_line(text: str) -> str:
    """The same for a name or label, which has no line ends and tabs of its own."""
    return escaped(text).replace("\n", "\\n").replace("\t", "\\t")


def _written(match: re.Match[str]) -> str:
    code = ord(match[0])
    if 0xDC80 <= code <= 0xDCFF:
        return f"\\x{code - 0xDC00:02x}"
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"


def in_style(text: str, codes: str) -> str:
    """The text with a style (SGR codes, ECMA-48, 8.3.117), for a stream that `show_safely` has."""
    return f"{_BEGIN}{codes}{_END}{text}{_BEGIN}0{_END}"


def for_terminal(text: str) -> str:
    """What is sent to a terminal for a text: control characters escaped, styles as sequences."""
    return _STYLE.sub("\033[\\1m", escaped(text)).replace(_BEGIN, "").replace(_END, "")


def from_terminal(text: str) -> str:
    """The reverse of `for_terminal`, for what a library has drawn of safe text."""
    return _SEQUENCE.sub(f"{_BEGIN}\\1{_END}", text)


class SafeStream:
    """A terminal's stream. `rich_proxied_file` is the name under which the library `rich` looks for the stream behind it."""

    def __init__(self, stream: TextIO) -> None:
        self.rich_proxied_file = stream

    def write(self, text: str) -> int:
        self.rich_proxied_file.write(for_terminal(text))
        return len(text)

    def writelines(self, lines: Iterable[str]) -> None:
        for line in lines:
            self.write(line)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.rich_proxied_file, name)


def erase_line(stream: object) -> None:
    """Takes a terminal's cursor to the line's beginning, and what stands there away."""
    if isinstance(stream, SafeStream):
        stream.rich_proxied_file.write("\r\033[K")


def show_safely() -> None:
    """Makes standard output and errors safe: terminals show what is not text, files get the bytes that there were."""
    codecs.register_error("as-it-was", _as_it_was)
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None or isinstance(stream, SafeStream):
            continue
        terminal = stream.isatty()
        if hasattr(stream, "reconfigure"):
            # A terminal that cannot show a sign gets a question mark, not a failure.
            stream.reconfigure(errors="replace" if terminal else "as-it-was")
        if terminal:
            setattr(sys, name, SafeStream(stream))


def _as_it_was(error: UnicodeError) -> tuple[str | bytes, int]:
    """Bytes that were no UTF-8 come out as they came in (PEP 383); what is in no encoding is a question mark."""
    assert isinstance(error, UnicodeEncodeError)
    codes = [ord(sign) for sign in error.object[error.start : error.end]]
    return bytes(code - 0xDC00 if 0xDC80 <= code <= 0xDCFF else 0x3F for code in codes), error.end
