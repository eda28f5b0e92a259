"""Tokens of device tree source, with the files that they come from and the errors at their places.

A token keeps its file and offset, so an error shows the line with a marker. Line markers of a preprocessor rule over the
file's own lines (Devicetree Specification v0.4, 6.1 and 6.4)."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from yarrik.beneath import regular_file
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.patterns import lazy_pattern

_TOKENS = lazy_pattern(
    r"""
    (?P<blank>      \s+ | //[^\n]* | /\*.*?\*/ | ^\#(?:line)?[ \t]+[0-9]+[^\n]* )
  | (?P<string>     "(?:[^"\\\n]|\\.)*" )
  | (?P<character>  '(?:[^'\\\n]|\\.[^']*)' )
  | (?P<directive>  /(?:dts-v1|plugin|memreserve|include|incbin|bits|delete-node|delete-property|omit-if-no-ref)/ )
  | (?P<pathref>    &\{[^}\n]*\} )
  | (?P<labelref>   &[A-Za-z_][A-Za-z0-9_]* )
  | (?P<label>      [A-Za-z_][A-Za-z0-9_]*: )
  | (?P<number>     (?:0[xX][0-9a-fA-F]+|[0-9]+)(?:[uU]?[lL]{0,2}|[lL]{1,2}[uU])(?![\w,.+?\#@-]) )
  | (?P<name>       [\w,.+?\#-]+(?:@[\w,.+?\#-]+)? )
  | (?P<operator>   <<|>>|<=|>=|==|!=|&&|\|\||[-+*/%&|^~!?:<>()\[\]{};=,/] )
    """,
    re.VERBOSE | re.DOTALL | re.MULTILINE | re.ASCII,
)
#: What a preprocessor leaves behind: the next line is line so-and-so of that file.
_MARKER = lazy_pattern(r'^#(?:line)?[ \t]+([0-9]{1,9})(?:[ \t]+"((?:[^"\\\n]|\\.)*)")?[^\n]*$', re.MULTILINE)
_NUMBER = lazy_pattern(r"(?:0[xX][0-9a-fA-F]+|[0-9]+)(?:[uU]?[lL]{0,2}|[lL]{1,2}[uU])(?![\w.?#@])")
_MANY = 20
#: Files that a source may include in all, and in each other.
_MOST_FILES, _DEEPEST_INCLUDE = 2000, 30


class SourceError(YarrikError):
    """The source cannot be compiled."""


class Token(msgspec.Struct, frozen=True):
    """One token of the source: its kind, text, and position (file, line, column)."""

    kind: str
    text: str
    file: Path
    start: int


class _File(msgspec.Struct):
    path: Path
    text: str
    at: int = 0


def _original_place(text: str, token: Token, line: int) -> tuple[Path, int]:
    """File and line of a token, as the preprocessor's last word before it has them."""
    last = None
    for match in _MARKER.finditer(text, 0, token.start):
        last = match
    if last is None:
        return token.file, line
    name = Path(last.group(2).replace('\\"', '"')) if last.group(2) else token.file
    return name, int(last.group(1)) + text.count("\n", last.end(), token.start) - 1


class Lexer(msgspec.Struct):
    """The current token and what follows it, through all files that are included. Offsets are in characters."""

    path: Path
    folders: Sequence[Path] = ()
    reader: Callable[[Path], bytes] = regular_file
    files: list[_File] = msgspec.field(default_factory=list)
    texts: dict[Path, str] = msgspec.field(default_factory=dict)
    token: Token = msgspec.field(default_factory=lambda: Token("end", "", Path(), 0))
    troubles: list[Trouble] = msgspec.field(default_factory=list)
    opened: int = 0

    def fail(self, what: str, token: Token | None = None, hint: str = "") -> SourceError:
        """The error for a token, by default the current one, with its file and line. The caller raises it."""
        token = token or self.token
        return SourceError(self.trouble("DTS-SYNTAX", what, token, "", hint or "correct the line"))

    def trouble(self, code: str, what: str, token: Token, why: str, remedy: str) -> Trouble:
        """A trouble at a token: its place, and the line itself with a marker."""
        text = self.texts.get(token.file, "")
        line = text.count("\n", 0, token.start) + 1
        begin = text.rfind("\n", 0, token.start) + 1
        shown = text[begin:].split("\n", 1)[0].replace("\t", " ")
        marker = " " * (token.start - begin) + "^" * max(1, min(len(token.text), len(shown) - (token.start - begin)))
        column = token.start - begin + 1
        file, line = _original_place(text, token, line)
        return Trouble(code, f"{what} (column {column})", Place(file, line), f"{why}\n  {shown}\n  {marker}", remedy)

    def note(self, error: SourceError) -> None:
        """Keeps an error for the end, so that one run reports several; after too many it stops."""
        self.troubles += [trouble for trouble in error.troubles if trouble not in self.troubles]
        if len(self.troubles) >= _MANY:
            raise SourceError(self.troubles)

    def open(self, path: Path, named_by: Token | None = None, text: str | None = None) -> None:
        """Reads a file, or `text` in its place, before the rest of the current one. Raises SourceError for one
        that cannot be read, and for files that include each other without end."""
        self.opened += 1
        if len(self.files) > _DEEPEST_INCLUDE or self.opened > _MOST_FILES:
            raise self.fail(f"files include each other too deep, or more than {_MOST_FILES} times", named_by)
        try:
            text = self.reader(path).decode("utf-8") if text is None else text
        except (OSError, UnicodeDecodeError) as error:
            reason = error.strerror if isinstance(error, OSError) else "it is not UTF-8 text"
            if named_by is None:
                raise SourceError(Trouble("DTS-UNREADABLE", f"cannot read {path.name}: {reason}", Place(path),
                                          remedy="check the name, on the board or the command line")) from error  # fmt: skip
            raise self.fail(
                f"cannot read {path.name}: {reason}", named_by, "includes are looked for beside this file"
            ) from error
        self.texts[path] = text
        self.files.append(_File(path, text))

    def advance(self) -> Token:
        """Moves on, and returns the token that was current."""
        former = self.token
        while self.files:
            file = self.files[-1]
            if file.at >= len(file.text):
                self.files.pop()
                continue
            match = _TOKENS.match(file.text, file.at)
            if match is None:
                self.token = Token("stray", file.text[file.at], file.path, file.at)
                raise self.fail(f"`{file.text[file.at]}` has no meaning here")
            kind, start = match.lastgroup or "", file.at
            file.at = match.end()
            if kind != "blank":
                self.token = Token(kind, match.group(), file.path, start)
                return former
        self.token = Token("end", "", former.file, len(self.texts.get(former.file, "")))
        return former

    def split_name(self, length: int) -> None:
        """Gives back all but the first characters of the current token: in expressions `a-b` is three tokens."""
        file = self.files[-1] if self.files and self.files[-1].path == self.token.file else None
        if file is not None:
            file.at = self.token.start + length
            self.token = Token(self.token.kind, self.token.text[:length], self.token.file, self.token.start)

    def cut_number(self) -> None:
        """Where a number is wanted, `4,` and `5-3` begin with one: names may hold those signs, numbers may not."""
        match = _NUMBER.match(self.token.text) if self.token.kind == "name" else None
        if match is not None:
            self.split_name(match.end())
            self.token = Token("number", self.token.text, self.token.file, self.token.start)

    def accept(self, text: str) -> bool:
        """Whether the current token is `text`; if so, it is consumed."""
        if self.token.text == text:
            self.advance()
            return True
        return False

    def expect(self, text: str, where: str) -> None:
        """Consumes the token `text`. Raises SourceError when another one is there."""
        if not self.accept(text):
            found = f"`{self.token.text}`" if self.token.text else "the end of the file"
            raise self.fail(f"`{text}` is missing {where}; found {found}", hint=f"add the `{text}`")

    def found_file(self, name: str, named: Token) -> Path:
        """A file that the source names: beside the file that does, or in one of the folders."""
        beside = _original_place(self.texts.get(named.file, ""), named, 1)[0].parent / name
        if "\0" in str(beside):
            raise self.fail("a file name contains a null character", named, "remove the null character")
        return next((place for place in (beside, *(folder / name for folder in self.folders)) if place.is_file()), beside)
