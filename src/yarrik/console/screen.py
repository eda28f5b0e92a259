"""What a board says, for a terminal and for a log: sequences that a console needs pass, all else is shown and not obeyed.

A board may be hostile, its loader may be noise at the wrong speed. Colours, movements of the cursor and erasing (ECMA-48) are
what loaders' menus, shells and full-screen programs need. Sequences that set the window's title, write the clipboard, draw
links, ask the terminal for what it would type, or leave it in a state that outlives the command are shown as text.
"""

from __future__ import annotations

import codecs
import re
from datetime import UTC, datetime

from yarrik.patterns import lazy_pattern

#: Control sequences that pass, by final byte (ECMA-48, 8.3): cursor (A-H, d, f, s, u, `), erase (J, K, X), insert and delete
#: (@, L, M, P), scroll (S, T, r), styles (m).
_FINALS = frozenset("ABCDEFGHJKLMPSTXdfmrsu@`")
#: Modes that may be set and reset (h, l), each with the sequence that undoes it at the end. Modes of the mouse are not among
#: them: a terminal that is left so types at each click.
_MODES = {
    "4": "\x1b[4l",
    "?1": "\x1b[?1l",
    "?7": "\x1b[?7h",
    "?25": "\x1b[?25h",
    "?1049": "\x1b[?1049l",
    "?2004": "\x1b[?2004l",
}
#: Reports that pass: where the cursor is, which shells ask for to learn the size of the terminal. The answer has digits only.
_REPORTS = frozenset({"\x1b[6n", "\x1b[5n"})
#: Two-byte escapes: save and restore the cursor, index, reverse index, next line, keypad modes, the two usual character sets.
_SHORT = frozenset({"\x1b7", "\x1b8", "\x1bD", "\x1bM", "\x1bE", "\x1b=", "\x1b>", "\x1b(B", "\x1b(0", "\x1b)B", "\x1b)0"})
_SEQUENCE = lazy_pattern(
    "\x1b(?:\\[(?P<given>[0-9;:?<>=!]{0,40})(?P<between>[ -/]{0,4})(?P<final>[@-~])|[()][0-9A-Za-z]|[0-9<=>A-Z\\\\-~])"
)
#: The beginning of a sequence whose end has not come.
_BEGUN = lazy_pattern("\x1b(?:\\[[0-9;:?<>=!]{0,40}[ -/]{0,4}|[()])?\\Z")
#: Control characters that pass: bell, backspace, tab, line feed, form feed, carriage return; SO and SI change character sets.
_PASSING = "\x07\x08\t\n\r"
_CONTROL = lazy_pattern("[\x00-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff\ufffd]")
_LONGEST_LINE = 4096


def _written(sign: str) -> str:
    code = ord(sign)
    if 0xDC80 <= code <= 0xDCFF:
        return f"\\x{code - 0xDC00:02x}"
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"


class Screen:
    """Turns a console's bytes into text that a terminal may be given as it is.

    `strange` counts bytes that are no text, of `total`: many of them mean that the port has another speed."""

    def __init__(self) -> None:
        self._decoder = codecs.getincrementaldecoder("utf-8")("surrogateescape")
        self._left = ""
        self._undo: dict[str, str] = {}
        self.strange = 0
        self.total = 0

    def feed(self, data: bytes) -> str:
        """What to send to the terminal for these bytes. The beginning of a sequence waits for its end."""
        self.total += len(data)
        text = self._left + self._decoder.decode(data)
        self._left = ""
        cut = _BEGUN.search(text)
        if cut:
            text, self._left = text[: cut.start()], cut[0]
        shown: list[str] = []
        at = 0
        for match in _SEQUENCE.finditer(text):
            shown.append(self._plain(text[at : match.start()]))
            shown.append(self._sequence(match))
            at = match.end()
        shown.append(self._plain(text[at:]))
        return "".join(shown)

    def held(self) -> str:
        """What still waits for its end, shown as text."""
        text, self._left = self._left, ""
        return self._plain(text)

    def reset(self) -> str:
        """What puts the terminal back as it was: styles, modes and character sets that the board has set."""
        undo = "".join(self._undo[name] for name in sorted(self._undo))
        self._undo.clear()
        return undo

    def _plain(self, text: str) -> str:
        def show(match: re.Match[str]) -> str:
            sign = match[0]
            if sign in _PASSING:
                return sign
            # Zero bytes and DEL are padding after a line's end on old consoles, and noise at a power switch.
            self.strange += 1
            return _written(sign)

        return _CONTROL.sub(show, text)

    def _sequence(self, match: re.Match[str]) -> str:
        text = match[0]
        given, final = match["given"], match["final"]
        if final is None:
            if text in _SHORT:
                if text in ("\x1b(0", "\x1b)0"):
                    self._undo["set"] = "\x1b(B\x1b)B\x0f"
                elif text == "\x1b=":
                    self._undo["keypad"] = "\x1b>"
                return text
            return self._plain(text)
        if text in _REPORTS:
            return text
        if match["between"] or not (given is None or re.fullmatch(r"\??[0-9;:]*", given)):
            return self._plain(text)
        if final in "hl":
            mark = "?" if given.startswith("?") else ""
            modes = [mark + number for number in given.removeprefix("?").split(";")]
            if not all(mode in _MODES for mode in modes):
                return self._plain(text)
            for mode in modes:
                self._undo[mode] = _MODES[mode]
            return text
        if final not in _FINALS or given.startswith("?"):
            return self._plain(text)
        if final == "m":
            self._undo["style"] = "\x1b[0m"
        if final == "r":
            self._undo["region"] = "\x1b[r"
        return text


#: Sequences that leave nothing in a log: those that the screen obeys.
_UNSEEN = lazy_pattern("\x1b(?:\\[[0-9;:?]{0,40}[A-HJ-MPSTXdfmrsuhln@`]|[()][B0]|[78DEM=>])")


class LineLog:
    """A console as lines of a file: each with the time at which its first byte came (UTC, RFC 3339) and control characters
    escaped, so that reading the file does nothing to a terminal."""

    def __init__(self) -> None:
        self._decoder = codecs.getincrementaldecoder("utf-8")("surrogateescape")
        self._line = ""
        self._since = 0.0

    def feed(self, data: bytes, now: float) -> str:
        """The lines that are whole with these bytes; `now` is in seconds since the epoch."""
        text = self._decoder.decode(data)
        done: list[str] = []
        for number, piece in enumerate(text.split("\n")):
            if number:
                done.append(self._stamped())
            if piece and not self._line:
                self._since = now
            self._line += piece
            while len(self._line) > _LONGEST_LINE:
                done.append(self._stamped(self._line[:_LONGEST_LINE]))
                self._line, self._since = self._line[_LONGEST_LINE:], now
            if not self._line:
                self._since = now
        return "".join(done)

    def rest(self) -> str:
        """The last line, which has no end yet."""
        return self._stamped() if self._line else ""

    def _stamped(self, line: str | None = None) -> str:
        if line is None:
            line, self._line = self._line, ""
        text = _UNSEEN.sub("", line.strip("\r"))
        text = _CONTROL.sub(lambda match: match[0] if match[0] == "\t" else _written(match[0]), text)
        return f"{stamp(self._since)} {text}\n"


def stamp(seconds: float) -> str:
    """A time in seconds since the epoch as UTC with milliseconds (RFC 3339)."""
    return datetime.fromtimestamp(seconds, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
