"""On-disk structures described once, for writing and for reading: names, offsets and forms of their fields."""

from __future__ import annotations

import itertools
import struct
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from yarrik.binary_tables import Table

Value = int | bytes | tuple[int, ...]


class Record:
    """A structure of `size` bytes. Fields that are not given when packing are zero."""

    def __init__(self, size: int, *fields: tuple[str, int, str], order: str = "<") -> None:
        self.size = size
        self._order = order
        self._fields = {name: (offset, struct.Struct(order + form)) for name, offset, form in fields}
        for name, (offset, form) in self._fields.items():
            if offset + form.size > size:
                raise ValueError(f"field {name} does not fit into {size} bytes")
        # The whole structure as one form, with what no field covers as padding: packing is one call.
        whole, end = order, 0
        self._defaults: list[tuple[str, Value, bool]] = []
        for name, offset, form_text in sorted(fields, key=lambda field: field[1]):
            if offset < end:
                raise ValueError(f"field {name} overlaps another one")
            whole += f"{offset - end}x{form_text}"
            zeros = struct.unpack(order + form_text, bytes(struct.calcsize(order + form_text)))
            several = len(zeros) > 1
            default: Value = zeros if several else b"" if form_text.endswith("s") else 0
            self._defaults.append((name, default, several))
            end = offset + self._fields[name][1].size
        self._whole = struct.Struct(whole + f"{size - end}x")
        self._names = [name for name, _, _ in self._defaults]
        counts = [len(default) if several and isinstance(default, tuple) else 1 for _, default, several in self._defaults]
        self._counts = list(zip(self._names, itertools.accumulate([0, *counts]), counts, strict=False))
        self._single = all(count == 1 for count in counts)

    def pack(self, **values: Value) -> bytearray:
        """The structure's bytes; several numbers for one field are given as a tuple."""
        words: list[Value] = []
        get = values.get
        for name, default, several in self._defaults:
            if several:
                words.extend(get(name, default))  # type: ignore[arg-type]
            else:
                words.append(get(name, default))
        if not values.keys() <= self._fields.keys():
            raise KeyError(*(values.keys() - self._fields.keys()))
        return bytearray(self._whole.pack(*words))

    def packer(self, *names: str) -> Callable[..., bytes]:
        """A quick way to pack many structures: takes the values of these fields, in their order on the disk."""
        form, end = self._order, 0
        for name in names:
            offset, part = self._fields[name]
            if offset < end:
                raise ValueError(f"field {name} is not in the order of the disk")
            form += f"{offset - end}x{part.format[1:]}"
            end = offset + part.size
        return struct.Struct(form + f"{self.size - end}x").pack

    def table(self, count: int) -> Table:
        """`count` structures as a table of zeros, whose columns have the fields' names; bytes are columns of raw bytes."""
        from yarrik.binary_tables import zeros

        return zeros(count, self.size, [(name, offset, form.format) for name, (offset, form) in self._fields.items()])

    def put(self, data: bytearray, name: str, value: Value) -> None:
        offset, form = self._fields[name]
        form.pack_into(data, offset, *(value if isinstance(value, tuple) else (value,)))

    def unpack(self, data: bytes | bytearray | memoryview) -> dict[str, Value]:
        """The fields' values. `data` must hold at least the structure's size."""
        values = self._whole.unpack_from(data)
        if self._single:
            return dict(zip(self._names, values, strict=True))
        return {name: values[at] if count == 1 else values[at : at + count] for name, at, count in self._counts}


def number(fields: Mapping[str, Value], name: str) -> int:
    """A field that is one number."""
    value = fields[name]
    if not isinstance(value, int):
        raise TypeError(f"{name} is not a number")
    return value


def raw_bytes(fields: Mapping[str, Value], name: str) -> bytes:
    """A field that is bytes."""
    value = fields[name]
    if not isinstance(value, bytes):
        raise TypeError(f"{name} is not bytes")
    return value
