"""On which line each key of a TOML text stands. The text must be valid TOML: the parser proper has read it before.

`tomllib` gives values without places; this walk over the same text gives places without values.
"""

from __future__ import annotations

import re

import msgspec

from yarrik.patterns import lazy_pattern

KeyPath = tuple[str, ...]

_BARE = lazy_pattern(r"[A-Za-z0-9_-]+")
_BLANKS = lazy_pattern(r"[ \t]*")
_SKIP = lazy_pattern(r"(?:[ \t\r\n,]|#[^\n]*)*")
_STRINGS = lazy_pattern(
    r'"""(?:[^\\]|\\.)*?"{3,5}' r"|'''.*?'{3,5}" r'|"(?:[^"\\\n]|\\.)*"' r"|'[^'\n]*'",
    re.DOTALL,
)
_PLAIN = lazy_pattern(r"[^,\]\}\n#]+")


def key_lines(text: str) -> dict[KeyPath, int]:
    """Line numbers from 1, by path of keys; elements of arrays of tables have their index in the path as text."""
    return _Walk(text).run()


class _Walk(msgspec.Struct):
    text: str
    at: int = 0
    lines: dict[KeyPath, int] = msgspec.field(default_factory=dict)
    counts: dict[KeyPath, int] = msgspec.field(default_factory=dict)

    def run(self) -> dict[KeyPath, int]:
        table: KeyPath = ()
        while True:
            self._skip()
            if self.at >= len(self.text):
                return self.lines
            if self.text.startswith("[[", self.at):
                self.at += 2
                path = self._resolve(self._keys())
                index = self.counts.get(path, 0)
                self.counts[path] = index + 1
                table = (*path, str(index))
                self._note(path)
                self._note(table)
                self.at = self.text.index("]]", self.at) + 2
            elif self.text[self.at] == "[":
                self.at += 1
                table = self._resolve(self._keys())
                self._note(table)
                self.at = self.text.index("]", self.at) + 1
            else:
                self._assignment(table)

    def _resolve(self, keys: KeyPath) -> KeyPath:
        """A header below an array of tables means that array's last element."""
        path: KeyPath = ()
        for position, key in enumerate(keys):
            path = (*path, key)
            if path in self.counts and position < len(keys) - 1:
                path = (*path, str(self.counts[path] - 1))
        return path

    def _assignment(self, table: KeyPath) -> None:
        start = self.at
        path = (*table, *self._keys())
        for length in range(len(table) + 1, len(path) + 1):
            self._note(path[:length], start)
        self.at = self.text.index("=", self.at) + 1
        self._value(path)

    def _keys(self) -> KeyPath:
        keys: list[str] = []
        while True:
            self._blanks()
            quoted = _STRINGS.match(self.text, self.at)
            if quoted is not None:
                keys.append(quoted.group()[1:-1])
                self.at = quoted.end()
            else:
                bare = _BARE.match(self.text, self.at)
                if bare is None:  # not TOML after all: end the walk rather than fail in an error's shadow
                    self.at = len(self.text)
                    return tuple(keys)
                keys.append(bare.group())
                self.at = bare.end()
            self._blanks()
            if not self.text.startswith(".", self.at):
                return tuple(keys)
            self.at += 1

    def _value(self, path: KeyPath) -> None:
        self._blanks()
        quoted = _STRINGS.match(self.text, self.at)
        if quoted is not None:
            self.at = quoted.end()
        elif self.text.startswith("[", self.at):
            self.at += 1
            index = 0
            while self._inside("]"):
                self._note((*path, str(index)))
                self._value((*path, str(index)))
                index += 1
        elif self.text.startswith("{", self.at):
            self.at += 1
            while self._inside("}"):
                self._assignment(path)
        else:
            plain = _PLAIN.match(self.text, self.at)
            self.at = plain.end() if plain is not None else self.at + 1

    def _inside(self, end: str) -> bool:
        """Moves to the next element; False, and past the bracket, when there is none."""
        self._skip()
        if self.at >= len(self.text):
            return False
        if self.text[self.at] == end:
            self.at += 1
            return False
        return True

    def _note(self, path: KeyPath, at: int | None = None) -> None:
        self.lines.setdefault(path, self.text.count("\n", 0, self.at if at is None else at) + 1)

    def _skip(self) -> None:
        match = _SKIP.match(self.text, self.at)
        self.at = match.end() if match else self.at

    def _blanks(self) -> None:
        match = _BLANKS.match(self.text, self.at)
        self.at = match.end() if match else self.at
