"""Tables of many on-disk structures, bitmaps and runs of blocks: NumPy does them by the column."""

from __future__ import annotations

import struct
from collections.abc import Sequence

from yarrik.arrays import numpy

Table = numpy.typing.NDArray[numpy.void]
Flags = numpy.typing.NDArray[numpy.bool_]
Numbers = numpy.typing.NDArray[numpy.int64]


def zeros(count: int, size: int, fields: Sequence[tuple[str, int, str]]) -> Table:
    """`count` structures of `size` bytes with fields of a name, an offset and a form of the module `struct`."""
    names = [name for name, _, _ in fields]
    forms = [_column(form) for _, _, form in fields]
    offsets = [offset for _, offset, _ in fields]
    return numpy.zeros(count, numpy.dtype({"names": names, "formats": forms, "offsets": offsets, "itemsize": size}))


def _column(form: str) -> object:
    order, letter = form[0], form[-1]
    if letter == "s":
        return f"V{struct.calcsize(form)}"
    one = f"{order}u{struct.calcsize(order + letter)}"
    return (one, (int(form[1:-1]),)) if len(form) > 2 else one


def bitmap(first_clear: int, size: int) -> bytes:
    """A bitmap of `size` bytes whose lowest `first_clear` bits are set."""
    whole, rest = divmod(first_clear, 8)
    return (b"\xff" * whole + (bytes([(1 << rest) - 1]) if rest else b"")).ljust(size, b"\0")
