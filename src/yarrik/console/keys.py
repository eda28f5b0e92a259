"""What is typed at a console: all of it goes to the board, but for a key that turns the next one into an order."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import msgspec

Order = Literal["quit", "break", "send", "power", "times", "help"]

#: The keys of the orders, after the prefix.
ORDERS: dict[bytes, Order] = {
    b"q": "quit",
    b"b": "break",
    b"s": "send",
    b"p": "power",
    b"t": "times",
    b"?": "help",
    b"h": "help",
}
#: Control and O: rarely typed on a board.
USUAL_PREFIX = "ctrl-o"


class Typed(msgspec.Struct, frozen=True):
    """Bytes for the board."""

    data: bytes


class Ordered(msgspec.Struct, frozen=True):
    """Something for us to do; None for a key that stands for nothing."""

    order: Order | None
    key: bytes


def prefix_byte(name: str) -> bytes | None:
    """The byte of a key named `ctrl-a` to `ctrl-z`; None for another name, and for those that end lines or are ESC's start."""
    word = name.strip().lower().replace("^", "ctrl-").replace("ctrl+", "ctrl-")
    letter = word.removeprefix("ctrl-")
    if not word.startswith("ctrl-") or len(letter) != 1 or not "a" <= letter <= "z" or letter in "jm":
        return None
    return bytes([ord(letter) & 0x1F])


class Keys:
    """Splits what is typed into what is the board's and what is ours. The prefix twice is the prefix itself."""

    def __init__(self, prefix: bytes) -> None:
        self._prefix = prefix
        self._after = False

    def feed(self, data: bytes) -> Iterator[Typed | Ordered]:
        """Takes typed bytes, in pieces of any size."""
        plain = b""
        for number in range(len(data)):
            key = data[number : number + 1]
            if self._after:
                self._after = False
                if key == self._prefix:
                    plain += key
                    continue
                if plain:
                    yield Typed(plain)
                    plain = b""
                # The letter with control held down is the same order.
                letter = bytes([key[0] | 0x60]) if 0 < key[0] < 0x1B else key.lower()
                yield Ordered(ORDERS.get(letter), key)
            elif key == self._prefix:
                self._after = True
            else:
                plain += key
        if plain:
            yield Typed(plain)
