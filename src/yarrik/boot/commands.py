"""Follows a bootloader's commands over an image: the part of its shell that boot scripts use.

Conditions, `run`, `source`, variables, files and sectors that are loaded, and settings in memory. A command that is not known
here does nothing and is taken to succeed. What a script writes is kept apart, so that nothing of the image is changed.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

import msgspec

from yarrik.boot.environment import EnvironmentDamaged, decode_environment, encode_environment
from yarrik.boot.legacy import decode_legacy
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import Story
from yarrik.disk import FoundPartition
from yarrik.errors import Damaged, Unfit
from yarrik.patterns import lazy_pattern

_SECTOR = 512
#: A script that runs longer than this is taken to run for ever; scripts may start each other, and conditions be in each other,
#: this deep.
_MOST_COMMANDS, _DEEPEST, _MOST_NESTED = 10_000, 8, 40
_MOST_SECTORS = 2048
#: The most words of a command (CONFIG_SYS_MAXARGS of most boards); variables outside of quotes are split.
_MOST_WORDS = 16
#: What a script may have read and written in memory, what of it may be looked at as commands, and the longest command (bytes).
_MOST_MEMORY, _MOST_TEXT, _LONGEST_LINE = 64 << 20, 16 << 20, 64 << 10
_WORD = r"(?:'[^']*'|\"[^\"]*\"|\\.|[^\s;&|'\"\\]|&(?!&)|\|(?!\|))+"
_TOKEN = lazy_pattern(rf"[ \t]*(\n|;|&&|\|\||#[^\n]*|{_WORD})")
_PIECE = lazy_pattern(r"'([^']*)'|\"([^\"]*)\"|\\(.)|([^'\"\\]+)")
_VARIABLE = lazy_pattern(r"\$\{([^}]*)\}|\$([A-Za-z_0-9]+)")
_ENDS = frozenset({"then", "elif", "else", "fi", "do", "done", ""})


class ScriptUnclear(Damaged):
    """The script cannot be followed; the message says why."""


class _If(msgspec.Struct):
    """`if`: each condition with what follows it, the last one without a condition for `else`."""

    cases: list[tuple[list[_Chain] | None, list[_Chain]]]


class _Chain(msgspec.Struct):
    """Commands joined by `&&` and `||`: each with what joins it to the one before."""

    parts: list[tuple[str, _If | list[str]]]


class LoadedFile(msgspec.Struct, frozen=True):
    """A file that was loaded: the filesystem, and its path there."""

    filesystem: Filesystem
    path: str


class _Parser:
    def __init__(self, text: str) -> None:
        self.tokens = list(_tokens(text.replace("\\\n", "")))
        self.at = 0
        self.nested = 0

    @property
    def token(self) -> str:
        return self.tokens[self.at] if self.at < len(self.tokens) else ""

    def chains(self) -> list[_Chain]:
        found: list[_Chain] = []
        while True:
            while self.token in (";", "\n"):
                self.at += 1
            if self.token in _ENDS:
                return found
            chain = _Chain([("", self.one())])
            while self.token in ("&&", "||"):
                joint = self.token
                self.at += 1
                while self.token == "\n":
                    self.at += 1
                chain.parts.append((joint, self.one()))
            found.append(chain)

    def one(self) -> _If | list[str]:
        if self.token == "if":
            return self.conditional()
        if self.token in ("for", "while", "until", "{", "("):
            raise ScriptUnclear(f"`{self.token}` is not followed here")
        words = []
        while self.token not in ("", ";", "\n", "&&", "||"):
            words.append(self.token)
            self.at += 1
        if not words:
            raise ScriptUnclear(f"a command is missing before `{self.token.strip() or 'the end of a line'}`")
        return words

    def conditional(self) -> _If:
        cases: list[tuple[list[_Chain] | None, list[_Chain]]] = []
        self.nested += 1
        if self.nested > _MOST_NESTED:
            raise ScriptUnclear("its conditions are nested too deep")
        while self.token in ("if", "elif"):
            self.at += 1
            condition = self.chains()
            self.expect("then")
            cases.append((condition, self.chains()))
        if self.token == "else":
            self.at += 1
            cases.append((None, self.chains()))
        self.expect("fi")
        self.nested -= 1
        return _If(cases)

    def expect(self, word: str) -> None:
        if self.token != word:
            raise ScriptUnclear(f"`{word}` is missing, and {'`' + self.token + '`' if self.token else 'the end'} is there")
        self.at += 1


def _tokens(text: str) -> Iterator[str]:
    at = 0
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            if text[at:].strip(" \t"):
                raise ScriptUnclear("a quote does not end")
            return
        at = match.end()
        if not match[1].startswith("#"):
            yield match[1]


class Commands(msgspec.Struct):
    """A bootloader's shell over the image of a story. `files` and `memory` are what was loaded, by address; `written` the
    sectors that the script has written, by their number."""

    story: Story
    part: FoundPartition | None
    filesystem: Filesystem
    variables: dict[str, str] = msgspec.field(default_factory=dict)
    files: dict[int, LoadedFile] = msgspec.field(default_factory=dict)
    memory: dict[int, bytes] = msgspec.field(default_factory=dict)
    written: dict[int, bytes] = msgspec.field(default_factory=dict)
    overlays: list[LoadedFile] = msgspec.field(default_factory=list)
    #: The words of the command that starts a kernel, once it was reached.
    starts: list[str] | None = None
    commands: int = 0
    depth: int = 0
    text: int = 0
    used: int = 0

    def __post_init__(self) -> None:
        number = self.part.number if self.part is not None else 1
        self.variables = {"devtype": "disk", "devnum": "0", "distro_bootpart": f"{number:x}", **self.variables}

    def follow(self, text: str) -> bool:
        """Whether the last command succeeds. Ends at once where a kernel is started. Raises ScriptUnclear."""
        self.text += len(text)
        if self.depth == _DEEPEST or self.text > _MOST_TEXT:
            raise ScriptUnclear("scripts start each other without end")
        parser = _Parser(text)
        chains = parser.chains()
        if parser.token:
            raise ScriptUnclear(f"`{parser.token}` is there without `if`")
        self.depth += 1
        try:
            return self._all(chains)
        finally:
            self.depth -= 1

    def _all(self, chains: list[_Chain]) -> bool:
        good = True
        for chain in chains:
            for joint, one in chain.parts:
                if self.starts is not None:
                    return True
                if joint and good != (joint == "&&"):
                    continue
                good = self._if(one) if isinstance(one, _If) else self._command(one)
        return good

    def _if(self, one: _If) -> bool:
        for condition, body in one.cases:
            if condition is None or self._all(condition):
                return self._all(body)
        return True

    def _command(self, raw: list[str]) -> bool:
        self.commands += 1
        if self.commands > _MOST_COMMANDS:
            raise ScriptUnclear("it does not come to an end")
        words, length, count = [], 0, 0
        for one in raw:
            word, quoted = self._expanded(one)
            length += len(word)
            count += 1 if quoted else len(word.split())
            if length > _LONGEST_LINE:
                raise ScriptUnclear("a command of it is longer than any bootloader takes")
            if word or quoted:
                words.append(word)
        if not words:
            return True
        if count > _MOST_WORDS:
            return False  # the bootloader says how the command is used, and goes on
        known = {
            "setenv": self._setenv, "load": self._load, "source": self._source, "run": self._run, "test": self._test,
            "env": self._env, "part": self._part, "setexpr": self._setexpr, "fdt": self._fdt,
        }.get(words[0])  # fmt: skip
        if words[0] == "false":
            return False
        if words[0] in ("bootm", "booti", "bootz"):
            self.starts = words
            return True
        if words[0] == self.variables["devtype"] and len(words) > 1:
            return self._sectors(words[1:])
        return known(words[1:]) if known is not None else True

    def _expanded(self, raw: str) -> tuple[str, bool]:
        """A word with its variables, and whether any of it was quoted. A variable that nobody has set stays as it is."""
        text, quoted, room = "", False, _LONGEST_LINE

        def value(match: re.Match[str]) -> str:
            nonlocal room
            found = self.variables.get(match[1] or match[2], match[0])
            room -= len(found)
            if room < 0:
                raise ScriptUnclear("a command of it is longer than any bootloader takes")
            return found

        for single, double, escaped, plain in _PIECE.findall(raw):
            quoted = quoted or not plain
            text += single or escaped or _VARIABLE.sub(value, double or plain)
        return text, quoted

    def _use(self, count: int) -> None:
        self.used += count
        if self.used > _MOST_MEMORY:
            raise ScriptUnclear("it fills more memory than a board has")

    def _setenv(self, words: list[str]) -> bool:
        if words:
            self.variables[words[0]] = " ".join(words[1:])
            self._use(len(self.variables[words[0]]))
        return bool(words)

    def _filesystem(self, device: str) -> Filesystem | None:
        number = self._number(device.partition(":")[2] or "1")
        if self.part is None or number == self.part.number:
            return self.filesystem
        part = next((one for one in self.story.image.partitions if one.number == number), None)
        try:
            return self.story.filesystem(part) if part is not None else None
        except Damaged:
            return None  # the bootloader's commands fail there too, and the script goes on

    def _load(self, words: list[str]) -> bool:
        if len(words) < 4 or not re.fullmatch(r"[0-9a-fA-F.]+(:[0-9a-fA-F]+)?", words[1]):
            # The place is not known: the boot partition's own files are meant.
            filesystem: Filesystem | None = self.filesystem
        else:
            filesystem = self._filesystem(words[1])
        if len(words) < 4 or filesystem is None:
            return False
        self.files[self._number(words[2])] = LoadedFile(filesystem, words[3])
        self.memory.pop(self._number(words[2]), None)
        return filesystem.has(words[3])

    def _source(self, words: list[str]) -> bool:
        loaded = self.files.get(self._number(words[0].partition(":")[0])) if words else None
        if loaded is None or not loaded.filesystem.has(loaded.path):
            return False
        try:
            script = decode_legacy(loaded.filesystem.content(loaded.path, 1 << 20))
        except Damaged:
            return False
        self.variables["sourced"] = loaded.path
        return self.follow(script.parts[0].decode("utf-8", "replace"))

    def _run(self, words: list[str]) -> bool:
        return all(name in self.variables and self.follow(self.variables[name]) for name in words)

    def _test(self, words: list[str]) -> bool:
        values = ["" if _VARIABLE.fullmatch(word) else word for word in words]
        if values[:1] == ["-n"]:
            return len(values) > 1 and values[1] != ""
        if values[:1] == ["-z"]:
            return len(values) < 2 or values[1] == ""
        if len(values) == 3 and values[1] in ("=", "=="):
            return values[0] == values[2]
        if len(values) == 3 and values[1] == "!=":
            return values[0] != values[2]
        return False

    def _env(self, words: list[str]) -> bool:
        if words[:2] == ["import", "-c"] and len(words) > 3:
            address, size = self._number(words[2]), self._number(words[3])
            settings = self._imported(self.memory.get(address, b"")[:size])
            if settings is None:
                return False
            self.variables |= {name: settings[name] for name in (words[4:] or settings) if name in settings}
            return True
        if words[:2] == ["import", "-t"] and len(words) > 3:
            data = self.memory.get(self._number(words[2]), b"")[: self._number(words[3])]
            lines = data.partition(b"\0")[0].decode("utf-8", "replace").splitlines()
            settings = dict(line.partition("=")[::2] for line in lines if "=" in line)
            self.variables |= {name: settings[name] for name in (words[4:] or settings) if name in settings}
            return bool(settings)
        if words[:3] == ["export", "-c", "-s"] and len(words) > 4:
            settings = {name: self.variables[name] for name in words[5:] if self.variables.get(name)}
            size = self._number(words[3])
            self._use(max(size, 0))
            try:
                block = encode_environment(settings, size, 1 if self._with_flag else None)
            except Unfit:
                return False
            self.memory[self._number(words[4])] = block
            return True
        return True

    def _imported(self, block: bytes) -> dict[str, str] | None:
        """Settings of a block; None where the checksum does not fit. Where nobody knows how the bootloader was built, the block
        itself says whether it has a flag."""
        for with_flag in (self._with_flag,) if self.story.board.options else (False, True):
            try:
                return decode_environment(block, with_flag)[0]
            except EnvironmentDamaged:
                continue
        return None

    @property
    def _with_flag(self) -> bool:
        return self.story.board.options.get("SYS_REDUNDAND_ENVIRONMENT") == "y"

    def _part(self, words: list[str]) -> bool:
        if words[:1] not in (["start"], ["size"]) or len(words) != 5:
            return True
        part = next((one for one in self.story.image.partitions if one.number == self._number(words[3])), None)
        if part is None:
            return False
        self.variables[words[4]] = f"{(part.start if words[0] == 'start' else part.size) // _SECTOR:x}"
        return True

    def _setexpr(self, words: list[str]) -> bool:
        if len(words) != 4 or words[2] not in ("+", "-"):
            return False
        left, right = self._number(words[1]), self._number(words[3])
        self.variables[words[0]] = f"{(left + right if words[2] == '+' else left - right) & (1 << 64) - 1:x}"
        return True

    def _sectors(self, words: list[str]) -> bool:
        if words[0] not in ("read", "write") or len(words) != 4:
            return True
        address, sector, count = (self._number(word) for word in words[1:])
        if not 0 < count <= _MOST_SECTORS or not 0 <= sector <= self.story.image.size // _SECTOR - count:
            return False
        self._use(count * _SECTOR)
        if words[0] == "read":
            self.story.file.seek(sector * _SECTOR)
            data = self.story.file.read(count * _SECTOR)
            own = [
                self.written.get(sector + number, data[number * _SECTOR : (number + 1) * _SECTOR]) for number in range(count)
            ]
            self.memory[address] = b"".join(own)
            self.files.pop(address, None)
            return True
        data = self.memory.get(address, b"").ljust(count * _SECTOR, b"\0")
        self.written |= {sector + number: data[number * _SECTOR : (number + 1) * _SECTOR] for number in range(count)}
        return True

    def _fdt(self, words: list[str]) -> bool:
        if words[:1] == ["apply"] and len(words) == 2 and self._number(words[1]) in self.files:
            self.overlays.append(self.files[self._number(words[1])])
        return True

    @staticmethod
    def _number(word: str) -> int:
        try:
            return int(word, 16)
        except ValueError:
            return -1
