"""Identifiers of disks, partitions and filesystems: written out, or made from names so that they are the same everywhere."""

from __future__ import annotations

import hashlib
import uuid

from yarrik.errors import Unfit
from yarrik.patterns import lazy_pattern

_GUID = lazy_pattern(r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}\Z")
_SERIAL = lazy_pattern(r"[0-9A-Fa-f]{4}-[0-9A-Fa-f]{4}\Z")


def derived_guid(*words: str) -> uuid.UUID:
    """An identifier made from names: the same for the same names, everywhere (RFC 9562, version 8)."""
    digest = bytearray(hashlib.sha256("\0".join(("yarrik", *words)).encode()).digest()[:16])
    digest[6] = digest[6] & 0x0F | 0x80
    digest[8] = digest[8] & 0x3F | 0x80
    return uuid.UUID(bytes=bytes(digest))


def is_guid(text: str) -> bool:
    """Whether a text is a GUID in its usual form, like `0fc63daf-8483-4772-8e79-3d69d8477de4`."""
    return _GUID.match(text) is not None


def check_guid(text: str) -> None:
    """Raises ValueError for what is neither empty nor a GUID."""
    if text and not is_guid(text):
        raise Unfit(f"`{text}` is not a GUID, like `0fc63daf-8483-4772-8e79-3d69d8477de4`")


def check_filesystem_identifier(text: str) -> None:
    """Raises ValueError for what is neither empty nor a GUID nor the serial number of a FAT filesystem."""
    if text and not is_guid(text) and _SERIAL.match(text) is None:
        raise Unfit(f"`{text}` identifies no filesystem: write a GUID, or `1234-ABCD` for FAT")


def identifier_of(text: str, *words: str) -> uuid.UUID:
    """The identifier that is written out in `text`, or else the one that derives from names. FAT takes its first 32 bits.

    Raises ValueError."""
    check_filesystem_identifier(text)
    if _SERIAL.match(text):
        return uuid.UUID(bytes=bytes.fromhex(text.replace("-", "")) + bytes(12))
    return uuid.UUID(text) if text else derived_guid(*words)
