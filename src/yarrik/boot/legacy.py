"""The legacy bootloader image: a header of 64 bytes with two checksums, and what it wraps.

Numbers are big-endian. The header's checksum is taken with its own field as zero; a script or several files in one begin
with a list of their sizes, with a zero at its end, and each but the last is filled up to four bytes.
"""

from __future__ import annotations

import struct
import zlib

import msgspec

from yarrik.binary import Record, number, raw_bytes
from yarrik.errors import Damaged, Unfit
from yarrik.units import round_up

MAGIC = 0x27051956
_HEADER = Record(
    64,
    ("magic", 0, "I"),
    ("header_checksum", 4, "I"),
    ("time", 8, "I"),
    ("size", 12, "I"),
    ("load", 16, "I"),
    ("entry", 20, "I"),
    ("data_checksum", 24, "I"),
    ("system", 28, "B"),
    ("arch", 29, "B"),
    ("kind", 30, "B"),
    ("compression", 31, "B"),
    ("name", 32, "32s"),
    order=">",
)
_SYSTEMS = {"linux": 5, "bootloader": 17}
_ARCHES = {"arm": 2, "x86": 3, "arm64": 22, "x86-64": 24, "riscv64": 26}
_KINDS = {"kernel": 2, "initramfs": 3, "several": 4, "firmware": 5, "script": 6, "filesystem": 7, "device-tree": 8}
_COMPRESSIONS = {"none": 0, "gzip": 1, "bzip2": 2, "lzma": 3, "lzo": 4, "lz4": 5, "zstd": 6}
_LISTED = ("several", "script")


class LegacyDamaged(Damaged):
    """The bytes are no valid legacy image; the message says why."""


class LegacyImage(msgspec.Struct, frozen=True):
    """`parts` is one piece of data, or several for kind `several`; a script's text is its one part.

    Addresses have 32 bits: that is all the header holds."""

    kind: str
    arch: str
    parts: tuple[bytes, ...]
    name: str = ""
    load: int = 0
    entry: int = 0
    time: int = 0
    system: str = "linux"
    compression: str = "none"


def encode_legacy(image: LegacyImage) -> bytes:
    """Header and data. Raises ValueError for what the header cannot hold."""
    if len(image.parts) != 1 and image.kind != "several":
        raise Unfit(f"a {image.kind} has one part, not {len(image.parts)}")
    for what, value in (("load address", image.load), ("entry point", image.entry)):
        if not 0 <= value < 1 << 32:
            raise Unfit(f"the {what} {value:#x} does not fit: the legacy header has 32 bits for it")
    data = b""
    if image.kind in _LISTED:
        data = b"".join(struct.pack(">I", len(part)) for part in image.parts) + bytes(4)
    last = len(image.parts) - 1
    for index, part in enumerate(image.parts):
        data += part if index == last else part.ljust(round_up(len(part), 4), b"\0")
    header = _HEADER.pack(
        magic=MAGIC,
        time=image.time,
        size=len(data),
        load=image.load,
        entry=image.entry,
        data_checksum=zlib.crc32(data),
        system=_SYSTEMS[image.system],
        arch=_ARCHES[image.arch],
        kind=_KINDS[image.kind],
        compression=_COMPRESSIONS[image.compression],
        name=image.name.encode("utf-8")[:32],
    )
    _HEADER.put(header, "header_checksum", zlib.crc32(bytes(header)))
    return bytes(header) + data


def decode_legacy(data: bytes) -> LegacyImage:
    """Reads an image and checks both checksums. Raises LegacyDamaged."""
    if len(data) < _HEADER.size:
        raise LegacyDamaged("it is shorter than a header")
    fields = _HEADER.unpack(data)
    if number(fields, "magic") != MAGIC:
        raise LegacyDamaged("it does not begin with a legacy image's mark")
    header = bytearray(data[: _HEADER.size])
    _HEADER.put(header, "header_checksum", 0)
    if zlib.crc32(bytes(header)) != number(fields, "header_checksum"):
        raise LegacyDamaged("the header's checksum does not fit")
    size = number(fields, "size")
    body = data[_HEADER.size : _HEADER.size + size]
    if len(body) != size:
        raise LegacyDamaged(f"it should hold {size} bytes and holds {len(body)}")
    if zlib.crc32(body) != number(fields, "data_checksum"):
        raise LegacyDamaged("the data's checksum does not fit")
    kind = _word(_KINDS, number(fields, "kind"), "kind")
    parts: tuple[bytes, ...] = _listed(body) if kind in _LISTED else (body,)
    return LegacyImage(
        kind,
        _word(_ARCHES, number(fields, "arch"), "architecture"),
        parts,
        raw_bytes(fields, "name").rstrip(b"\0").decode("utf-8", "replace"),
        number(fields, "load"),
        number(fields, "entry"),
        number(fields, "time"),
        _word(_SYSTEMS, number(fields, "system"), "operating system"),
        _word(_COMPRESSIONS, number(fields, "compression"), "compression"),
    )


def _listed(body: bytes) -> tuple[bytes, ...]:
    sizes: list[int] = []
    at = 0
    while True:
        if at + 4 > len(body) or len(sizes) > 64:
            raise LegacyDamaged("its list of parts has no end")
        (size,) = struct.unpack_from(">I", body, at)
        at += 4
        if size == 0:
            break
        sizes.append(size)
    if not sizes:
        raise LegacyDamaged("its list of parts is empty")
    parts = []
    for size in sizes:
        if at + size > len(body):
            raise LegacyDamaged("a part reaches beyond its end")
        parts.append(body[at : at + size])
        at += round_up(size, 4)
    return tuple(parts)


def _word(words: dict[str, int], value: int, what: str) -> str:
    for word, known in words.items():
        if known == value:
            return word
    raise LegacyDamaged(f"its {what} has the number {value}, which is not known here")
