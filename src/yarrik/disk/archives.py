"""An archive of a tree: cpio in the form "newc" (Documentation/driver-api/early-userspace/buffer-format.rst), which the kernel
unpacks as an initramfs. It streams: nothing is held but the part that is being copied."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, BinaryIO, cast

from yarrik.disk.found import Found, Reader
from yarrik.disk.window import Window
from yarrik.errors import Damaged, Unfit
from yarrik.rootfs import Node, RootTree

_MODES = {"folder": 0o040000, "file": 0o100000, "link": 0o120000, "character": 0o020000, "block": 0o060000, "fifo": 0o010000,
          "socket": 0o140000}  # fmt: skip
_KINDS = {mode: kind for kind, mode in _MODES.items()}
_MAGIC = b"070701"
_CHECKED_MAGIC = b"070702"
_TRAILER = b"TRAILER!!!"
_HEADER = 110
_PART = 1 << 20
MOST_NAME = 4096


class ArchiveDamaged(Damaged):
    """The bytes are no valid archive; the message says why."""


class ArchiveUnfit(Unfit):
    """The tree holds what this form of archive cannot."""


def write_cpio(tree: RootTree, sink: BinaryIO, content: Callable[[str], str | Path], clock: int = 0) -> None:
    """Writes the archive. Further names of a file come before the last one, which carries the content.

    Raises ArchiveUnfit for files of 4 GiB and more, which the form's eight digits cannot count."""

    def body(node: Node) -> Iterator[bytes]:
        with open(content(node.content), "rb") as source:
            while part := source.read(_PART):
                yield part

    _write(tree, sink, body, clock)


def copy_as_cpio(reader: Reader, sink: BinaryIO) -> None:
    """Writes what a filesystem's reader finds as an archive. Raises ArchiveUnfit as `write_cpio` does, and ValueError for what
    is damaged."""
    nodes: dict[str, Node] = {}
    found: dict[str, Found] = {}
    first: dict[int, str] = {}
    for one in reader.walk():
        if one.path in nodes:
            continue
        same_as = first.setdefault(one.handle, one.path) if one.kind == "file" and one.links > 1 else ""
        found[one.path] = one
        nodes[one.path] = Node(one.path, cast(Any, one.kind), one.mode, one.uid, one.gid, one.size,
                               one.target if one.kind == "link" else one.path, one.device, modified=one.modified,
                               same_as="" if same_as == one.path else same_as)  # fmt: skip
    nodes.setdefault("/", Node("/", "folder", 0o755))

    _write(RootTree.of(nodes.values()), sink, lambda node: reader.content(found[node.path]), 0)


def _write(tree: RootTree, sink: BinaryIO, body_of: Callable[[Node], Iterator[bytes]], clock: int) -> None:
    names: dict[str, list[Node]] = {}
    for node in tree.nodes:
        if node.kind == "file" and node.size >= 1 << 32:
            raise ArchiveUnfit(f"{node.path} has 4 GiB or more, which a cpio archive cannot hold")
        names.setdefault(node.same_as or node.path, []).append(node)
    numbers = {path: number for number, path in enumerate(names, 1)}
    written = 0
    for node in tree.nodes:
        group = node.same_as or node.path
        last = names[group][-1] is node
        path = b"." if node.path == "/" else os.fsencode(node.path[1:])
        body = os.fsencode(node.content) if node.kind == "link" else b""
        size = len(body) if node.kind == "link" else node.size if node.kind == "file" and last else 0
        links = 2 if node.kind == "folder" else len(names[group])
        modified = clock if node.modified is None else node.modified
        written += _cpio_header(sink, path, numbers[group], _MODES[node.kind] | node.mode, node, links, modified, size)
        if body:
            written += _put(sink, body)
        elif size:
            left = size
            for part in body_of(node):
                left -= _put(sink, part[:left])
                if not left:
                    break
            if left:
                raise Unfit(f"{node.path} was truncated while it was read")
            written += size
        written += _put(sink, bytes(-written % 4))
    written += _cpio_header(sink, _TRAILER, 0, 0, Node("/", "folder", 0), 1, 0, 0)
    _put(sink, bytes(-written % 512))


def _put(sink: BinaryIO, data: bytes) -> int:
    sink.write(data)
    return len(data)


def _cpio_header(sink: BinaryIO, path: bytes, number: int, mode: int, node: Node, links: int, modified: int, size: int) -> int:
    major, minor = node.device
    fields = (
        number,
        mode,
        node.uid,
        node.gid,
        links,
        max(0, modified) & 0xFFFFFFFF,
        size,
        0,
        0,
        major,
        minor,
        len(path) + 1,
        0,
    )
    data = _MAGIC + b"".join(b"%08X" % field for field in fields) + path + b"\0"
    return _put(sink, data + bytes(-len(data) % 4))


class CpioReader:
    """Reads an archive that begins `offset` bytes into an open file, and has at most `size` bytes. Raises ArchiveDamaged."""

    form, label, uuid = "cpio", "", ""

    def __init__(self, disk: BinaryIO, offset: int, size: int) -> None:
        self._size = size
        self._read = Window(disk, offset, size, ArchiveDamaged).read
        self._bodies: dict[int, tuple[int, int]] = {}
        next(self._members(), None)  # a damaged beginning is told at once

    def _members(self) -> Iterator[tuple[bytes, tuple[int, ...], int]]:
        """Name, the thirteen numbers, and where the content begins."""
        at = 0
        while True:
            head = self._read(at, _HEADER)
            if head[:6] not in (_MAGIC, _CHECKED_MAGIC):
                raise ArchiveDamaged(f"there is no member's header at byte {at}")
            try:
                fields = tuple(int(head[6 + 8 * index : 14 + 8 * index], 16) for index in range(13))
            except ValueError:
                raise ArchiveDamaged(f"the header at byte {at} has a number that is none") from None
            length = fields[11]
            if not 0 < length <= MOST_NAME:
                raise ArchiveDamaged(f"the header at byte {at} gives a name of {length} bytes")
            name = self._read(at + _HEADER, length).rstrip(b"\0")
            start = at + (_HEADER + length + 3 & ~3)
            if name == _TRAILER:
                return
            if start + fields[6] > self._size:
                raise ArchiveDamaged(f"the member {name!r} reaches beyond the archive")
            yield name, fields, start
            at = start + (fields[6] + 3 & ~3)

    def walk(self) -> Iterator[Found]:
        members = list(self._members())
        for _, fields, start in members:
            if fields[6] and fields[1] & 0o170000 == _MODES["file"]:
                self._bodies[fields[0]] = (start, fields[6])
        for name, fields, start in members:
            number, mode, uid, gid, links, modified, size = fields[:7]
            kind = _KINDS.get(mode & 0o170000)
            words = [word for word in os.fsdecode(name).split("/") if word not in ("", ".")]
            if kind is None or ".." in words:
                raise ArchiveDamaged(f"the member {name!r} is of no kind that is known, or leads out of the archive")
            if kind == "link" and size > MOST_NAME:
                raise ArchiveDamaged(f"the link {name!r} leads to a path of {size} bytes")
            target = os.fsdecode(self._read(start, size)) if kind == "link" else ""
            if kind == "file" and links > 1:
                size = self._bodies.get(number, (0, size))[1]
            at = self._bodies.get(number, (start, size))[0] if links > 1 else start
            yield Found("/" + "/".join(words), kind, mode & 0o7777, uid, gid, size, modified, target, fields[9:11], links, at)  # type: ignore[arg-type]

    def content(self, found: Found) -> Iterator[bytes]:
        for at in range(0, found.size, _PART):
            yield self._read(found.handle + at, min(_PART, found.size - at))

    def attributes(self, found: Found) -> dict[str, bytes]:
        """None: this form has no room for extended attributes."""
        return {}
