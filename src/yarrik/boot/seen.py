"""A filesystem as the running board would see it: paths with links followed, and contents, from any reader."""

from __future__ import annotations

import io
from functools import cached_property
from typing import Literal, cast

from yarrik.disk import CpioReader, Found, Reader
from yarrik.errors import Damaged
from yarrik.rootfs import Node, RootTree

_KINDS = {"folder": "folder", "file": "file", "link": "link"}


class Filesystem:
    """Reads the whole list of paths once, contents when they are asked for."""

    def __init__(self, reader: Reader) -> None:
        self.reader = reader
        self.paths: dict[str, Found] = {found.path: found for found in reader.walk()}
        #: FAT does not tell capitals from small letters.
        self._folded = {path.lower(): path for path in self.paths} if reader.form.startswith("FAT") else {}

    @staticmethod
    def of_cpio(data: bytes) -> Filesystem:
        """An initramfs, unpacked. Raises ValueError for a damaged one."""
        return Filesystem(CpioReader(io.BytesIO(data), 0, len(data)))

    @cached_property
    def tree(self) -> RootTree:
        return RootTree.of(
            Node(
                path,
                cast(Literal["file", "folder", "link"], _KINDS.get(found.kind, "file")),
                found.mode,
                found.uid,
                found.gid,
                found.size,
                found.target,
            )
            for path, found in self.paths.items()
        )

    def follow(self, path: str) -> Found | None:
        """What a path leads to, through links; None when it leads nowhere."""
        node = self.tree.follow(self._folded.get(path.lower(), path))
        return self.paths.get(node.path) if node is not None else None

    def has(self, path: str) -> bool:
        found = self.follow(path) if path else None
        return found is not None and found.kind == "file"

    def below(self, folder: str) -> list[str]:
        """Paths of files right in a folder, whatever the folder's case is on FAT."""
        begin = folder.lower() if self._folded else folder
        return [
            path
            for path, found in self.paths.items()
            if found.kind == "file" and (path.lower() if self._folded else path).rpartition("/")[0] == begin
        ]

    def files(self) -> list[str]:
        """Files that somebody may have meant by a path that is not there; a few hundred at the most."""
        return [one for one, found in self.paths.items() if found.kind == "file"][:500]

    def content(self, path: str, most: int) -> bytes:
        """A file's bytes. Raises ValueError when it is not there, damaged or too large."""
        found = self.follow(path)
        if found is None or found.kind != "file":
            raise Damaged(f"there is no file {path}")
        if found.size > most:
            raise Damaged(f"{path} has {found.size} bytes, which is too many")
        data = bytearray()
        for part in self.reader.content(found):
            data += part
            if len(data) > most:
                raise Damaged(f"{path} is too large")
        return bytes(data)

    def text(self, path: str) -> str:
        return self.content(path, 4 << 20).decode("utf-8", "replace")
