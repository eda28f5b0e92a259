"""Numbers, expressions and quoted text in device tree source (Devicetree Specification v0.4, 6.2): C's, in 64 bits."""

from __future__ import annotations

import re
from collections.abc import Callable

import msgspec

from yarrik.devicetree.lexer import Lexer, Token
from yarrik.patterns import lazy_pattern

_OPERATOR = lazy_pattern(r"<<|>>|<=|>=|==|!=|&&|\|\||[-+*/%&|^~!?:<>()]")
_ESCAPES = {"a": 7, "b": 8, "t": 9, "n": 10, "v": 11, "f": 12, "r": 13, "\\": 92, '"': 34, "'": 39}
_MASK = (1 << 64) - 1
_DEEPEST_EXPRESSION = 30

#: The binary operators of C by precedence, those that bind least first.
_LEVELS: tuple[dict[str, Callable[[int, int], int]], ...] = (
    {"||": lambda a, b: int(bool(a or b))},
    {"&&": lambda a, b: int(bool(a and b))},
    {"|": lambda a, b: a | b},
    {"^": lambda a, b: a ^ b},
    {"&": lambda a, b: a & b},
    {"==": lambda a, b: int(a == b), "!=": lambda a, b: int(a != b)},
    {
        "<": lambda a, b: int(a < b),
        ">": lambda a, b: int(a > b),
        "<=": lambda a, b: int(a <= b),
        ">=": lambda a, b: int(a >= b),
    },
    {"<<": lambda a, b: a << b if b < 64 else 0, ">>": lambda a, b: a >> b if b < 64 else 0},
    {"+": lambda a, b: a + b, "-": lambda a, b: a - b},
    {"*": lambda a, b: a * b, "/": lambda a, b: a // b, "%": lambda a, b: a % b},
)


class Expressions(msgspec.Struct):
    """Reads values from a lexer; each value is at most 64 bits wide and unsigned."""

    lexer: Lexer
    depth: int = 0

    def primary(self, bits: int) -> int:
        """primary := NUMBER | CHARACTER | "(" expression ")" """
        self.lexer.cut_number()
        token = self.lexer.token
        if token.kind == "number":
            self.lexer.advance()
            value = self.number(token)
        elif token.kind == "character":
            self.lexer.advance()
            value = self.unescaped(token)[0]
        elif self.lexer.accept("("):
            value = self.ternary()
            self.lexer.expect(")", "after the expression")
        else:
            raise self.lexer.fail(f"a number is missing; found `{token.text}`", hint="put expressions in parentheses")
        if bits < 64 and value >> bits and value >> (bits - 1) != (1 << (65 - bits)) - 1:
            raise self.lexer.fail(f"{value:#x} does not fit into {bits} bits", token)
        return value

    def number(self, token: Token) -> int:
        """The value of a number or character literal. Raises SourceError for one that is malformed or has more than 64 bits."""
        digits = token.text.rstrip("uUlL")
        try:
            return (int(digits, 8) if re.fullmatch(r"0[0-9]+", digits) else int(digits, 0)) & _MASK
        except ValueError as error:
            raise self.lexer.fail(f"`{token.text}` is not a number", token) from error

    def ternary(self) -> int:
        """expression := or [ "?" expression ":" expression ]"""
        self.depth += 1
        if self.depth > _DEEPEST_EXPRESSION:
            raise self.lexer.fail("the expression is nested too deep")
        condition = self.binary(0)
        self.depth -= 1
        if not self.lexer.accept("?"):
            return condition
        yes = self.ternary()
        self.lexer.expect(":", "in the expression")
        no = self.ternary()
        return yes if condition else no

    def operator(self) -> str:
        """The operator at the front; names and numbers do not begin with one inside parentheses."""
        if self.lexer.token.kind in ("name", "labelref", "label", "number"):
            match = _OPERATOR.match(self.lexer.token.text)
            if match is not None:
                self.lexer.split_name(match.end())
        return self.lexer.token.text

    def binary(self, level: int) -> int:
        """The binary operators of C, from `||` down to `*`, with its precedence."""
        if level == len(_LEVELS):
            return self.unary()
        left = self.binary(level + 1)
        while (sign := self.operator()) in _LEVELS[level]:
            token = self.lexer.advance()
            right = self.binary(level + 1)
            if sign in ("/", "%") and right == 0:
                raise self.lexer.fail("division by zero", token)
            left = _LEVELS[level][sign](left, right) & _MASK
        return left

    def unary(self) -> int:
        """unary := ( "-" | "~" | "!" ) unary | primary"""
        sign = self.operator()
        signs: list[str] = []
        while sign in ("-", "~", "!"):
            signs.append(sign)
            self.lexer.advance()
            sign = self.operator()
        value = self.primary(64)
        for sign in reversed(signs):
            value = (-value if sign == "-" else ~value if sign == "~" else int(not value)) & _MASK
        return value

    def unescaped(self, token: Token) -> bytes:
        """The bytes of a string literal, with its escapes resolved and without the closing zero. Raises SourceError."""
        out = bytearray()
        inside = token.text[1:-1]
        at = 0
        while at < len(inside):
            if inside[at] != "\\":
                out += inside[at].encode()
                at += 1
                continue
            match = re.compile(r"\\(?:([0-7]{1,3})|x([0-9a-fA-F]{1,2})|(.))", re.DOTALL).match(inside, at)
            if match is None:
                raise self.lexer.fail("the text ends in the middle of an escape", token)
            octal, hexadecimal, letter = match.groups()
            if octal or hexadecimal:
                out.append((int(octal, 8) if octal else int(hexadecimal, 16)) & 0xFF)
            else:
                out.append(_ESCAPES.get(letter, ord(letter) & 0xFF))
            at = match.end()
        if token.kind == "character" and len(out) != 1:
            raise self.lexer.fail("exactly one character belongs between the quotes", token)
        return bytes(out)
