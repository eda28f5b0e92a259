"""Kconfig files of a kernel: which options there are, what they depend on, and what selects them.

The language is the kernel's (Documentation/kbuild/kconfig-language.rst). What a macro like `$(success,…)` says is not
known here, and taken as true."""

from __future__ import annotations

import re
import stat
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from yarrik.beneath import Folder

_TYPE = re.compile(r"(?:def_)?(bool|tristate|int|hex|string)\b\s*(.*)\Z", re.DOTALL)
_IF = re.compile(r"\bif\b")
_ENDS = {"endmenu": "menu", "endif": "if", "endchoice": "choice"}
_WORD = re.compile(r'\s*(&&|\|\||!=|<=|>=|[!()=<>]|"[^"]*"|\'[^\']*\'|[\w.-]+|\$\((?:[^()]|\([^()]*\))*\)|.)')
_LEVELS = {"n": 0, "m": 1, "y": 2}
_MAX_NESTING = 200


@dataclass(slots=True)
class Option:
    """One definition of an option. `conditions` are those of its own and of all menus and files around it."""

    file: str
    type: str = ""
    prompted: bool = False
    conditions: list[str] = field(default_factory=list)


@dataclass
class Options:
    """What the Kconfig files of a tree define: `defined` by name, and for each name what selects it under what condition."""

    defined: dict[str, list[Option]] = field(default_factory=dict)
    selectors: dict[str, list[tuple[str, str]]] = field(default_factory=dict)
    around: dict[str, tuple[str, tuple[str, ...]]] = field(default_factory=dict)

    @classmethod
    def of(cls, source: Folder, kernel_arch: str = "") -> Options:
        """Reads all Kconfig files of a kernel tree; of other architectures than `kernel_arch` none, if it has a folder.

        It may have none: make takes `x86_64` as a name for `arch/x86`."""
        found = cls()
        paths = [
            path
            for path, status, _ in source.walk()
            if path.rpartition("/")[2].startswith("Kconfig") and stat.S_ISREG(status.st_mode)
        ]
        own = f"arch/{kernel_arch}/"
        has_own = any(path.startswith(own) for path in paths)
        for path in paths:
            if not has_own or path.startswith(own) or not re.match("arch/[^/]+/", path):
                found.read(path, source.text(path))
        return found

    def read(self, path: str, text: str) -> None:
        """Adds the options of a Kconfig file; `path` is used in messages and for its `source` lines."""
        scopes: list[tuple[str, list[str]]] = []
        option: Option | None = None
        name = ""
        #: Where a `depends on` goes: to the option, menu or choice that stands above it.
        target: list[str] = []
        for line in _statements(text):
            word, _, rest = line.partition(" ")
            rest = rest.strip()
            if word in ("config", "menuconfig"):
                name = rest
                option = Option(path, conditions=[part for _, inside in scopes for part in inside])
                self.defined.setdefault(name, []).append(option)
                target = option.conditions
            elif word in ("menu", "choice", "if"):
                option, target = None, [rest] if word == "if" else []
                scopes.append((word, target))
            elif word in _ENDS:
                if scopes and scopes[-1][0] == _ENDS[word]:
                    scopes.pop()
                option, target = None, []
            elif word == "comment":
                option, target = None, []
            elif word in ("source", "rsource", "osource", "orsource"):
                inner = rest.strip("\"'")
                if word.endswith("rsource"):
                    inner = f"{path.rpartition('/')[0]}/{inner}".lstrip("/")
                self.around.setdefault(inner, (path, tuple(part for _, inside in scopes for part in inside)))
                option, target = None, []
            elif word == "depends" and rest.startswith("on "):
                target.append(rest[3:].strip())
            elif option is not None and word in ("select", "imply"):
                chosen, _, condition = rest.partition(" if ")
                if word == "select":
                    self.selectors.setdefault(chosen.strip(), []).append((name, condition.strip()))
            elif option is not None and word == "prompt":
                option.prompted = True
            elif option is not None and (match := _TYPE.match(line)):
                option.type = option.type or match.group(1)
                if not word.startswith("def_") and match.group(2)[:1] in ('"', "'"):
                    option.prompted = True
                    _, *rules = _IF.split(re.sub(r"\"[^\"]*\"|'[^']*'", "", match.group(2)), maxsplit=1)
                    option.conditions += [part.strip() for part in rules]

    def conditions(self, option: Option) -> list[str]:
        """All that must hold for an option, from the outermost file to its own lines."""
        found = list(option.conditions)
        file, seen = option.file, {option.file}
        while file in self.around:
            file, more = self.around[file]
            if file in seen:
                break
            seen.add(file)
            found[:0] = more
        return list(dict.fromkeys(found))


def _statements(text: str) -> Iterator[str]:
    """Lines without comments, indentation and help texts, with their continuations joined and blanks single."""
    lines = iter(text.expandtabs().replace("\\\n", " ").splitlines())
    for line in lines:
        bare = line.strip()
        while bare in ("help", "---help---"):
            indent = -1
            bare = ""
            for line in lines:
                width = len(line) - len(line.lstrip())
                if not line.strip():
                    continue
                if indent < 0:
                    indent = width
                if width < indent or not width:
                    bare = line.strip()
                    break
        if bare and not bare.startswith("#"):
            yield " ".join(bare.split())


class Condition:
    """An expression over options, with the values that a configuration gives them."""

    def __init__(self, text: str, values: Mapping[str, str]) -> None:
        self.words = [word for word in _WORD.findall(text) if word.strip()]
        self.values = values
        self.at = 0
        #: Options that stand plain, and those that stand after a `!`.
        self.plain: list[str] = []
        self.negated: list[str] = []
        self.level = self._either(0)

    def _either(self, depth: int) -> int:
        level = self._both(depth)
        while self._accept("||"):
            level = max(level, self._both(depth))
        return level

    def _both(self, depth: int) -> int:
        level = self._one(depth)
        while self._accept("&&"):
            level = min(level, self._one(depth))
        return level

    def _one(self, depth: int) -> int:
        if depth > _MAX_NESTING:
            return 2
        negations = 0
        while self._accept("!"):
            negations += 1
        if self._accept("("):
            level = self._either(depth + 1)
            self._accept(")")
            return 2 - level if negations % 2 else level
        left = self._next()
        operator = self.words[self.at] if self.at < len(self.words) else ""
        if operator in ("=", "!=", "<", ">", "<=", ">="):
            self.at += 1
            level = self._compared(left, operator, self._next())
        elif left.startswith("$") or not left:
            return 2
        else:
            level = _LEVELS.get(self._value(left), 0)
            if left not in _LEVELS:
                (self.negated if negations % 2 else self.plain).append(left)
        return 2 - level if negations % 2 else level

    def _compared(self, left: str, operator: str, right: str) -> int:
        if "$" in left + right:
            return 2
        if operator in ("=", "!="):
            return 2 if (self._value(left) == self._value(right)) == (operator == "=") else 0
        try:
            one, other = int(self._value(left), 0), int(self._value(right), 0)
        except ValueError:
            return 2
        held = {"<": one < other, ">": one > other, "<=": one <= other, ">=": one >= other}[operator]
        return 2 if held else 0

    def _value(self, word: str) -> str:
        if word in _LEVELS or word[:1] in "\"'" or re.fullmatch(r"-?\d+|0x[0-9a-fA-F]+", word):
            return word.strip("\"'")
        return self.values.get(word, "n").strip('"')

    def _accept(self, word: str) -> bool:
        if self.at < len(self.words) and self.words[self.at] == word:
            self.at += 1
            return True
        return False

    def _next(self) -> str:
        word = self.words[self.at] if self.at < len(self.words) else ""
        self.at += 1
        return word
