"""Names in FAT folders: eleven bytes for each, and long ones before those that need it (section "Long Directory Entries")."""

from __future__ import annotations

from yarrik.disk.fat_form import LAST_LONG, LONG, LONG_NAME, MAX_NAME
from yarrik.errors import Unfit
from yarrik.patterns import lazy_pattern
from yarrik.units import round_up

_PACK_LONG = LONG.packer("order", "first", "attributes", "checksum", "second", "third")
_FORBIDDEN = lazy_pattern(r'[\x00-\x1f"*/:<>?\\|\x7f]')
_SHORT_SIGNS = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789$%'-_@~`!(){}^#&")


def short_label(label: str) -> bytes:
    """A volume label's eleven bytes. Raises ValueError when it cannot be one."""
    text = label.upper()
    if len(text) > 11 or not all(sign in _SHORT_SIGNS or sign == " " for sign in text):
        raise Unfit(f"`{label}` cannot be the label of a FAT filesystem: eleven letters, digits and signs like - and _")
    return text.encode("ascii").ljust(11) if text else b"NO NAME    "


def usual_label(name: str) -> str:
    """A label made from a partition's name: the part of it that a label can hold."""
    return "".join(sign for sign in name.upper() if sign in _SHORT_SIGNS)[:11]


def name_problem(name: str) -> str:
    """Why a FAT folder cannot hold a name; empty when it can."""
    if not name.isascii() and any("\ud800" <= sign <= "\udfff" for sign in name):
        return "it is not text"
    if _FORBIDDEN.search(name):
        return "it holds a sign that is forbidden"
    if name.endswith((".", " ")):
        return "it ends in a dot or blank"
    if len(name.encode("utf-16-le")) > 2 * MAX_NAME:
        return "it is longer than 255 characters"
    return ""


def short_names(names: list[str]) -> list[bytes]:
    """The eleven bytes for each name of a folder; names that are no short names get one with a number, no two the same."""
    exact = {name: found for name in names if (found := exact_short(name)) is not None}
    taken = set(exact.values())
    out: list[bytes] = []
    following: dict[tuple[str, str], int] = {}
    for name in names:
        if name in exact:
            out.append(exact[name])
            continue
        base, dot, extension = name.lstrip(".").rpartition(".")
        if not dot:
            base, extension = extension, ""
        stem, suffix = _short_part(base) or "_", _short_part(extension)[:3]
        count = following.get((stem[:6], suffix), 1)
        while True:
            tail = f"~{count}"
            short = (stem[: 8 - len(tail)] + tail).ljust(8).encode("ascii") + suffix.ljust(3).encode("ascii")
            count += 1
            if short not in taken:
                break
        following[(stem[:6], suffix)] = count
        taken.add(short)
        out.append(short)
    return out


def exact_short(name: str) -> bytes | None:
    """The eleven bytes of a name that is a short name already."""
    base, dot, extension = name.partition(".")
    if not 0 < len(base) <= 8 or len(extension) > 3 or (dot and not extension):
        return None
    if not _SHORT_SIGNS.issuperset(base + extension):
        return None
    return base.ljust(8).encode("ascii") + extension.ljust(3).encode("ascii")


def _short_part(text: str) -> str:
    upper = text.upper().replace(" ", "").replace(".", "")
    return upper if _SHORT_SIGNS.issuperset(upper) else "".join(sign if sign in _SHORT_SIGNS else "_" for sign in upper)


def slots(name: str, short: bytes) -> int:
    """Folder entries of 32 bytes that a name takes: its short entry, and one for each 13 UTF-16 units of a long name."""
    if exact_short(name) == short:
        return 1
    return 1 + -(-len(name.encode("utf-16-le")) // 26)


def short_checksum(short: bytes) -> int:
    """What ties long entries to their short one."""
    value = 0
    for byte in short:
        value = (value << 7 | value >> 1) + byte & 0xFF
    return value


def long_entries(name: str, short: bytes) -> bytes:
    """Long entries stand before the short one, the name's last part first."""
    units = name.encode("utf-16-le")
    if len(units) % 26:
        units += b"\0\0"
        units = units.ljust(round_up(len(units), 26), b"\xff")
    parts = [units[at : at + 26] for at in range(0, len(units), 26)]
    out, checksum = bytearray(), short_checksum(short)
    for order in range(len(parts), 0, -1):
        part = parts[order - 1]
        last = LAST_LONG if order == len(parts) else 0
        out += _PACK_LONG(order | last, part[:10], LONG_NAME, checksum, part[10:22], part[22:])
    return bytes(out)
