"""On-disk structures described once, for writing and for reading: names, offsets and forms of their fields."""

from __future__ import annotations

import struct
from collections.abc import Mapping

Value = int | bytes | tuple[int, ...]


class Record:
    """A structure of `size` bytes. Fields that are not given when packing are zero."""

    def __init__(self, size: int, *fields: tuple[str, int, str], order: str = "<") -> None:
        self.size = size
        self._fields = {name: (offset, struct.Struct(order + form)) for name, offset, form in fields}
        for name, (offset, form) in self._fields.items():
            if offset + form.size > size:
                raise ValueError(f"field {name} does not fit into {size} bytes")

    def pack(self, **values: Value) -> bytearray:
        """The structure's bytes; several numbers for one field are given as a tuple."""
        data = bytearray(self.size)
        for name, value in values.items():
            self.put(data, name, value)
        return data

    def put(self, data: bytearray, name: str, value: Value) -> None:
        offset, form = self._fields[name]
        form.pack_into(data, offset, *(value if isinstance(value, tuple) else (value,)))

    def unpack(self, data: bytes | bytearray | memoryview) -> dict[str, Value]:
        """The fields' values. `data` must hold at least the structure's size."""
        found: dict[str, Value] = {}
        for name, (offset, form) in self._fields.items():
            values = form.unpack_from(data, offset)
            found[name] = values[0] if len(values) == 1 else values
        return found

    def offset(self, name: str) -> int:
        return self._fields[name][0]


def number(fields: Mapping[str, Value], name: str) -> int:
    """A field that is one number."""
    value = fields[name]
    if not isinstance(value, int):
        raise TypeError(f"{name} is no number")
    return value


def raw_bytes(fields: Mapping[str, Value], name: str) -> bytes:
    """A field that is bytes."""
    value = fields[name]
    if not isinstance(value, bytes):
        raise TypeError(f"{name} is no bytes")
    return value
