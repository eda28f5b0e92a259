"""The bootloader's environment: settings as text in a block of fixed size, with a checksum, maybe twice.

A block is the CRC-32 (little-endian) of what follows it; in a redundant pair a byte that says which of the two counts
(higher is newer, but 0 follows 255); then `key=value` texts, each with a zero at its end, and one more zero.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Mapping

from yarrik.errors import Damaged, Unfit

_CRC = 4
_FLAG = 1


class EnvironmentDamaged(Damaged):
    """A block or text that holds no environment; the message says why."""


def parse_environment(text: str) -> dict[str, str]:
    """Settings from `key=value` lines. `#` begins a comment line, a backslash at a line's end continues it on the next.

    Raises EnvironmentDamaged with the line's number."""
    found: dict[str, str] = {}
    begun, since = "", 0
    for number, line in enumerate(text.splitlines(), 1):
        if not begun:
            since = number
            if not line.strip() or line.lstrip().startswith("#"):
                continue
        if line.endswith("\\"):
            begun += line[:-1]
            continue
        key, equals, value = (begun + line).partition("=")
        begun = ""
        if not equals or not key.strip():
            raise EnvironmentDamaged(f"line {since} is not a setting: write key=value")
        if key in found:
            raise EnvironmentDamaged(f"line {since} sets `{key}` again")
        if "\0" in key + value:
            raise EnvironmentDamaged(f"line {since} has a zero in it")
        found[key] = value
    if begun:
        raise EnvironmentDamaged(f"line {since} goes on, and nothing follows it")
    return found


def encode_environment(settings: Mapping[str, str], size: int, newest: int | None = None) -> bytes:
    """One block of `size` bytes, settings sorted by key; `newest` is the flag of a block in a redundant pair.

    Raises ValueError when they do not fit."""
    text = b"".join(f"{key}={settings[key]}".encode() + b"\0" for key in sorted(settings)) + b"\0"
    head = _CRC + (0 if newest is None else _FLAG)
    if head + len(text) > size:
        raise Unfit(f"the settings need {head + len(text)} bytes, and the block has {size}")
    body = text.ljust(size - head, b"\0")
    flag = b"" if newest is None else bytes([newest])
    return struct.pack("<I", zlib.crc32(body)) + flag + body


def decode_environment(block: bytes, redundant: bool = False) -> tuple[dict[str, str], int | None]:
    """Settings and flag of one block. Raises EnvironmentDamaged when the checksum does not fit."""
    head = _CRC + (_FLAG if redundant else 0)
    if len(block) <= head:
        raise EnvironmentDamaged("the block is shorter than its head")
    body = block[head:]
    if zlib.crc32(body) != struct.unpack_from("<I", block)[0]:
        raise EnvironmentDamaged("the checksum does not fit: the bootloader would take its built-in settings")
    found: dict[str, str] = {}
    for entry in body.partition(b"\0\0")[0].split(b"\0"):
        key, _, value = entry.decode("utf-8", "replace").partition("=")
        if key:
            found[key] = value
    return found, block[_CRC] if redundant else None


def newest_of(first: bytes, second: bytes) -> tuple[dict[str, str], int]:
    """Settings of the block that counts in a redundant pair, and which it is (0 or 1). Raises EnvironmentDamaged."""
    sound: list[tuple[int, dict[str, str], int]] = []
    problems: list[EnvironmentDamaged] = []
    for index, block in enumerate((first, second)):
        try:
            settings, flag = decode_environment(block, redundant=True)
            sound.append((flag or 0, settings, index))
        except EnvironmentDamaged as error:
            problems.append(error)
    if not sound:
        raise problems[0]
    if len(sound) == 2 and {sound[0][0], sound[1][0]} == {0, 255}:
        chosen = sound[0] if sound[0][0] == 0 else sound[1]
    else:
        chosen = max(sound, key=lambda one: (one[0], -one[2]))
    return chosen[1], chosen[2]
