"""tar archives: POSIX pax (IEEE Std 1003.1, "pax Interchange Format") written, and with it ustar and GNU long names read.

Extended attributes are in pax records named `SCHILY.xattr.` and the attribute's name, as all that keep them do.
"""

from __future__ import annotations

import os
import tarfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

from yarrik.binary import Record, Value, raw_bytes
from yarrik.disk.archives import ArchiveDamaged, ArchiveUnfit
from yarrik.disk.found import Found
from yarrik.disk.window import Window
from yarrik.errors import Unfit
from yarrik.rootfs import RootTree

BLOCK = 512
_ATTRIBUTE = "SCHILY.xattr."
_MOST_RECORDS = 1 << 20
_PART = 1 << 20
_HEADER = Record(
    BLOCK,
    ("name", 0, "100s"),
    ("mode", 100, "8s"),
    ("uid", 108, "8s"),
    ("gid", 116, "8s"),
    ("size", 124, "12s"),
    ("modified", 136, "12s"),
    ("checksum", 148, "8s"),
    ("type", 156, "1s"),
    ("target", 157, "100s"),
    ("magic", 257, "6s"),
    ("major", 329, "8s"),
    ("minor", 337, "8s"),
    ("prefix", 345, "155s"),
)
_KINDS = {
    b"0": "file",
    b"\0": "file",
    b"7": "file",
    b"2": "link",
    b"3": "character",
    b"4": "block",
    b"5": "folder",
    b"6": "fifo",
}
_HARD_LINK, _RECORDS, _COMMON_RECORDS, _LONG_NAME, _LONG_TARGET = b"1", b"x", b"g", b"L", b"K"


def write_tar(tree: RootTree, sink: BinaryIO, content: Callable[[str], str | Path], clock: int = 0) -> None:
    """Writes a pax archive; the library's writer does it, with everything that could differ held still."""
    kinds = {"folder": tarfile.DIRTYPE, "file": tarfile.REGTYPE, "link": tarfile.SYMTYPE, "character": tarfile.CHRTYPE,
             "block": tarfile.BLKTYPE, "fifo": tarfile.FIFOTYPE}  # fmt: skip
    sockets = [node.path for node in tree.nodes if node.kind == "socket"]
    if sockets:
        raise ArchiveUnfit(f"a tar archive cannot hold the socket {sockets[0]}")
    with tarfile.open(fileobj=sink, mode="w", format=tarfile.PAX_FORMAT, encoding="utf-8", errors="surrogateescape") as tar:
        for node in tree.nodes:
            member = tarfile.TarInfo("." if node.path == "/" else node.path[1:])
            member.type, member.mode, member.uid, member.gid = kinds[node.kind], node.mode, node.uid, node.gid
            member.mtime = clock if node.modified is None else node.modified
            member.devmajor, member.devminor = node.device
            member.pax_headers = {
                _ATTRIBUTE + name: value.decode("utf-8", "surrogateescape") for name, value in node.attributes
            }
            if node.same_as:
                member.type, member.linkname = tarfile.LNKTYPE, node.same_as[1:]
                tar.addfile(member)
            elif node.kind == "file":
                member.size = node.size
                with open(content(node.content), "rb") as source:
                    if os.fstat(source.fileno()).st_size < node.size:
                        raise Unfit(f"{node.path} was truncated while it was read")
                    tar.addfile(member, source)
            else:
                member.linkname = node.content if node.kind == "link" else ""
                tar.addfile(member)


class TarReader:
    """Reads an archive that begins `offset` bytes into an open file, and has at most `size` bytes. Raises ArchiveDamaged."""

    form, label, uuid = "tar", "", ""

    def __init__(self, disk: BinaryIO, offset: int, size: int) -> None:
        self._size = size
        self._read = Window(disk, offset, size, ArchiveDamaged).read
        self._attributes: dict[str, dict[str, bytes]] = {}
        next(self._members(), None)  # a damaged beginning is told at once

    def _members(self) -> Iterator[tuple[bytes, Found, bytes, dict[str, bytes]]]:
        """Type, what was found (its handle is where the content begins), a link's destination, and the pax records."""
        at = 0
        common: dict[str, bytes] = {}
        records: dict[str, bytes] = {}
        long_name = long_target = b""
        while at + BLOCK <= self._size:
            data = self._read(at, BLOCK)
            if not data.strip(b"\0"):
                return
            fields = _HEADER.unpack(data)
            if _number(raw_bytes(fields, "checksum"), "checksum", at) != sum(data[:148]) + 8 * 32 + sum(data[156:]):
                raise ArchiveDamaged(f"the header at byte {at} does not fit its checksum")
            type_ = raw_bytes(fields, "type")
            both = {**common, **records}
            special = type_ in (_RECORDS, _COMMON_RECORDS, _LONG_NAME, _LONG_TARGET)
            size = _number(raw_bytes(fields, "size"), "size", at)
            if "size" in both and not special:
                size = _decimal(both["size"], "size")
            start = at + BLOCK
            holds = type_ in (b"0", b"\0", b"7") or special
            count = size if holds or (type_ not in _KINDS and type_ != _HARD_LINK) else 0
            if count < 0 or start + count > self._size:
                raise ArchiveDamaged(f"the member at byte {at} reaches beyond the archive")
            at = start + -(-count // BLOCK) * BLOCK
            if special:
                if count > _MOST_RECORDS:
                    raise ArchiveDamaged(f"a header of {count} bytes is longer than any should be")
                body = self._read(start, count)
                if type_ == _RECORDS:
                    records = _records(body)
                elif type_ == _COMMON_RECORDS:
                    common |= _records(body)
                elif type_ == _LONG_NAME:
                    long_name = body.rstrip(b"\0")
                else:
                    long_target = body.rstrip(b"\0")
                continue
            name = _text(raw_bytes(fields, "name"))
            if raw_bytes(fields, "magic") == b"ustar\0" and fields["prefix"] != bytes(155):
                name = _text(raw_bytes(fields, "prefix")) + b"/" + name
            name = both.get("path", long_name or name)
            target = both.get("linkpath", long_target or _text(raw_bytes(fields, "target")))
            if any(key.startswith("GNU.sparse.") for key in both) or type_ == b"S":
                raise ArchiveDamaged(f"the member {name!r} is stored with holes, which this reader does not know")
            yield type_, self._found(fields, both, name, size if holds else 0, start, at), target, both
            records, long_name, long_target = {}, b"", b""

    def _found(self, fields: dict[str, Value], both: dict[str, bytes], name: bytes, size: int, start: int, at: int) -> Found:
        def value(field: str, key: str = "") -> int:
            if key in both:
                return _decimal(both[key], key)
            return _number(raw_bytes(fields, field), field, at)

        words = [word for word in os.fsdecode(name).split("/") if word not in ("", ".")]
        if ".." in words or b"\0" in name:
            raise ArchiveDamaged(f"the member {name!r} leads out of the archive")
        return Found(
            "/" + "/".join(words),
            "",
            value("mode") & 0o7777,
            value("uid", "uid"),
            value("gid", "gid"),
            size,
            value("modified", "mtime"),
            device=(value("major"), value("minor")),
            handle=start,
        )

    def walk(self) -> Iterator[Found]:
        files: dict[str, Found] = {}
        members = list(self._members())
        links: dict[str, int] = {}
        for type_, _, target, _ in members:
            if type_ == _HARD_LINK:
                links[_path(target)] = links.get(_path(target), 1) + 1
        for type_, bare, target, both in members:
            if type_ == _HARD_LINK:
                first = files.get(_path(target))
                if first is None:
                    raise ArchiveDamaged(f"the hard link {bare.path!r} leads to {target!r}, which is not in the archive")
                found = first.changed(path=bare.path)
            else:
                kind = _KINDS.get(type_)
                if kind is None:
                    raise ArchiveDamaged(f"the member {bare.path!r} is of no kind that is known ({type_!r})")
                # Old archives mark folders by a slash alone; the name's end is gone here, and nobody writes them any more.
                found = bare.changed(
                    kind=kind,
                    target=os.fsdecode(target) if kind == "link" else "",
                    links=links.get(bare.path, 1),
                    device=bare.device if kind in ("character", "block") else (0, 0),
                )
                files[found.path] = found
            self._attributes[found.path] = {
                key[len(_ATTRIBUTE) :]: value for key, value in both.items() if key.startswith(_ATTRIBUTE)
            }
            yield found

    def content(self, found: Found) -> Iterator[bytes]:
        for at in range(0, found.size, _PART):
            yield self._read(found.handle + at, min(_PART, found.size - at))

    def attributes(self, found: Found) -> dict[str, bytes]:
        """A path's extended attributes, once `walk` has come by it."""
        return self._attributes.get(found.path, {})


def _path(name: bytes) -> str:
    return "/" + "/".join(word for word in os.fsdecode(name).split("/") if word not in ("", "."))


def _text(data: bytes) -> bytes:
    return data.split(b"\0")[0]


def _number(data: bytes, what: str, at: int) -> int:
    """Octal digits, or where they do not do, the value itself behind a marked byte."""
    if data[:1] in (b"\x80", b"\xff"):
        return int.from_bytes(data[1:], "big", signed=False) - (1 << 8 * (len(data) - 1) if data[:1] == b"\xff" else 0)
    digits = data.strip(b" \0")
    if not digits:
        return 0
    if len(digits) > len(data) or any(digit not in b"01234567" for digit in digits):
        raise ArchiveDamaged(f"the header at byte {at} has a {what} that is not a number")
    return int(digits, 8)


def _decimal(data: bytes, what: str) -> int:
    """A pax record's number; what follows a point is finer than is kept."""
    whole = data.split(b".")[0]
    if len(whole) > 20 or not whole.removeprefix(b"-").isdigit():
        raise ArchiveDamaged(f"a header gives a {what} that is not a number")
    value = int(whole)
    return value - 1 if whole.startswith(b"-") and b"." in data and data.split(b".")[1].strip(b"0") else value


def _records(data: bytes) -> dict[str, bytes]:
    """Records of the form `LENGTH KEY=VALUE` and a line's end; the length counts itself."""
    found: dict[str, bytes] = {}
    at = 0
    while at < len(data):
        space = data.find(b" ", at, at + 12)
        digits = data[at:space] if space > at else b""
        if not digits.isdigit():
            break
        length = int(digits)
        key, equals, value = data[space + 1 : at + length - 1].partition(b"=")
        if not equals or length <= space - at + 1 or data[at + length - 1 : at + length] != b"\n":
            raise ArchiveDamaged("a header's record is broken")
        found[key.decode("utf-8", "surrogateescape")] = value
        at += length
    if data[at:].strip(b"\0"):
        raise ArchiveDamaged("a header's record is broken")
    return found
