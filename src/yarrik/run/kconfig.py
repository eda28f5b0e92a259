"""Kconfig files of a kernel: which options there are, what they depend on, and what selects them.

The language is the kernel's (Documentation/kbuild/kconfig-language.rst). What a macro like `$(success,…)` says is not
known here, and taken as true."""

from __future__ import annotations

import re
import stat
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Literal, NamedTuple

import msgspec

from yarrik.beneath import Folder
from yarrik.patterns import lazy_pattern

_TYPE = lazy_pattern(r"(?:def_)?(bool|tristate|int|hex|string)\b\s*(.*)\Z", re.DOTALL)
_IF = lazy_pattern(r"\bif\b")
_ENDS = {"endmenu": "menu", "endif": "if", "endchoice": "choice"}
_WORD = lazy_pattern(r'\s*(&&|\|\||!=|<=|>=|[!()=<>]|"[^"]*"|\'[^\']*\'|[\w.-]+|\$\((?:[^()]|\([^()]*\))*\)|.)')
_LEVELS = {"n": 0, "m": 1, "y": 2}
_MAX_NESTING = 200
#: Expressions of this depth are not taken apart: nobody writes them, and each level takes several of Python's.
_DEEPEST_TREE = 60


class Option(msgspec.Struct):
    """One definition of an option. `conditions` are those of its own and of all menus and files around it.
    `defaults` are values with their conditions, in order; `choice` is the number of the choice
    that it is one of, 0 for none."""

    file: str
    line: int = 0
    type: str = ""
    prompted: bool = False
    prompt: str = ""
    help: str = ""
    conditions: list[str] = msgspec.field(default_factory=list)
    defaults: list[tuple[str, str]] = msgspec.field(default_factory=list)
    choice: int = 0


class Options(msgspec.Struct):
    """What the Kconfig files of a tree define: `defined` by name, and for each name what selects it under what condition."""

    defined: dict[str, list[Option]] = msgspec.field(default_factory=dict)
    selectors: dict[str, list[tuple[str, str]]] = msgspec.field(default_factory=dict)
    implied: dict[str, list[tuple[str, str]]] = msgspec.field(default_factory=dict)
    _choices: int = 0
    around: dict[str, tuple[str, tuple[str, ...]]] = msgspec.field(default_factory=dict)

    @classmethod
    def of(cls, source: Folder, kernel_arch: str = "") -> Options:
        """Reads all Kconfig files of a kernel tree; of other architectures than `kernel_arch` none, if it has a folder.

        It may have none: make takes `x86_64` as a name for `arch/x86`."""
        paths = [path for path, status, _ in source.walk() if is_kconfig(path) and stat.S_ISREG(status.st_mode)]
        return cls.of_files(paths, source.text, kernel_arch)

    @classmethod
    def of_files(cls, paths: Iterable[str], text: Callable[[str], str], kernel_arch: str = "") -> Options:
        """Reads Kconfig files by their paths in a tree, as `of` does."""
        found = cls()
        paths = list(paths)
        own = f"arch/{kernel_arch}/"
        has_own = any(path.startswith(own) for path in paths)
        for path in paths:
            if not has_own or path.startswith(own) or not re.match("arch/[^/]+/", path):
                found.read(path, text(path))
        return found

    def read(self, path: str, text: str) -> None:
        """Adds the options of a Kconfig file; `path` is used in messages and for its `source` lines."""
        scopes: list[tuple[str, list[str]]] = []
        option: Option | None = None
        name = ""
        #: Where a `depends on` goes: to the option, menu or choice that stands above it.
        target: list[str] = []
        for number, line in _statements(text):
            word, _, rest = line.partition(" ")
            rest = rest.strip()
            if word == _HELP:
                if option is not None:
                    option.help = option.help or rest
                continue
            if word in ("config", "menuconfig"):
                name = rest
                option = Option(path, number, conditions=[part for _, inside in scopes for part in inside])
                if scopes and scopes[-1][0] == "choice":
                    option.choice = self._choices
                self.defined.setdefault(name, []).append(option)
                target = option.conditions
            elif word in ("menu", "choice", "if"):
                option, target = None, [rest] if word == "if" else []
                self._choices += word == "choice"
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
                where = self.selectors if word == "select" else self.implied
                where.setdefault(chosen.strip(), []).append((name, condition.strip()))
            elif option is not None and word == "prompt":
                option.prompted, option.prompt = True, rest.strip("\"'")
            elif option is not None and word == "default":
                value, _, condition = rest.partition(" if ")
                option.defaults.append((value.strip(), condition.strip()))
            elif option is not None and (match := _TYPE.match(line)):
                option.type = option.type or match.group(1)
                if word.startswith("def_"):
                    value, _, condition = match.group(2).partition(" if ")
                    option.defaults.append((value.strip(), condition.strip()))
                if not word.startswith("def_") and match.group(2)[:1] in ('"', "'"):
                    option.prompted, option.prompt = True, match.group(2)[1:].partition(match.group(2)[0])[0]
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


#: The first word of a statement that is an option's help text.
_HELP = "\0help"


class _Line(NamedTuple):
    number: int
    text: str


def is_kconfig(path: str) -> bool:
    """Whether a file of a tree is a Kconfig file, by its name."""
    return path.rpartition("/")[2].startswith("Kconfig")


def _statements(text: str) -> Iterator[_Line]:
    """Lines with their numbers, without comments and indentation, continuations joined and blanks single. A help text is one
    statement that begins with a word of its own."""
    lines = iter(_joined(text))
    for line in lines:
        bare = line.text.strip()
        while bare in ("help", "---help---"):
            indent, bare, said = -1, "", []
            for line in lines:
                width = len(line.text) - len(line.text.lstrip())
                if not line.text.strip():
                    said.append("")
                    continue
                if indent < 0:
                    indent = width
                if width < indent or not width:
                    bare = line.text.strip()
                    break
                said.append(line.text[indent:].rstrip())
            yield _Line(line.number, f"{_HELP} " + "\n".join(said).strip())
        if bare and not bare.startswith("#"):
            yield _Line(line.number, " ".join(bare.split()))


def _joined(text: str) -> Iterator[_Line]:
    begun, since = "", 0
    for number, line in enumerate(text.expandtabs().splitlines(), 1):
        since = since if begun else number
        if line.endswith("\\"):
            begun += line[:-1] + " "
            continue
        yield _Line(since, begun + line)
        begun = ""
    if begun:
        yield _Line(since, begun)


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


class Expression(msgspec.Struct, frozen=True):
    """A condition as a tree: `option` and `other` (comparisons, constants, macros) have no parts; `text` is as written."""

    kind: Literal["option", "and", "or", "not", "other"]
    text: str
    parts: tuple[Expression, ...] = ()


def parse_expression(text: str) -> Expression:
    """The tree of a condition. What is not understood is an `other` with its text."""
    words = [word for word in _WORD.findall(text) if word.strip()]
    found, rest = _either(words, 0)
    return found if not rest else Expression("other", text)


def _either(words: list[str], depth: int) -> tuple[Expression, list[str]]:
    return _chain(words, depth, "||", "or", lambda words: _chain(words, depth, "&&", "and", lambda words: _one(words, depth)))


def _chain(
    words: list[str],
    depth: int,
    sign: str,
    kind: Literal["and", "or"],
    inner: Callable[[list[str]], tuple[Expression, list[str]]],
) -> tuple[Expression, list[str]]:
    first, words = inner(words)
    parts = [first]
    while words[:1] == [sign]:
        following, words = inner(words[1:])
        parts.append(following)
    if len(parts) == 1:
        return first, words
    return Expression(kind, f" {sign} ".join(_bracketed(part) for part in parts), tuple(parts)), words


def _one(words: list[str], depth: int) -> tuple[Expression, list[str]]:
    if not words or depth > _DEEPEST_TREE:
        return Expression("other", "y"), []
    if words[0] == "!":
        inner, rest = _one(words[1:], depth + 1)
        return Expression("not", f"!{_bracketed(inner)}", (inner,)), rest
    if words[0] == "(":
        inner, rest = _either(words[1:], depth + 1)
        return inner, rest[1:]
    if len(words) > 2 and words[1] in ("=", "!=", "<", ">", "<=", ">="):
        compared = "".join(words[:3])
        if words[1] == "=" and words[2] == "y":
            return Expression("option", words[0]), words[3:]
        return Expression("other", compared), words[3:]
    plain = re.fullmatch(r"\w+", words[0]) and words[0] not in _LEVELS
    return Expression("option" if plain else "other", words[0]), words[1:]


def _bracketed(part: Expression) -> str:
    return f"({part.text})" if part.kind in ("and", "or") else part.text
