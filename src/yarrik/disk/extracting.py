"""Takes files out of an image into a folder, and never writes anywhere else.

Everything is opened below the folder without following links, links are made last, and files are made anew; what needs root
(owners, device nodes, setuid) and what cannot be where the image says is left out and told.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

import msgspec

from yarrik.beneath import Folder
from yarrik.cache import parent_paths
from yarrik.disk.found import Found, Reader
from yarrik.errors import Damaged


class Extracted(msgspec.Struct):
    """How many files were written; what was left out since only root could make it, and what was refused: paths below
    something that is not a folder, and second members of a name."""

    files: int = 0
    for_root: list[str] = msgspec.field(default_factory=list)
    refused: list[str] = msgspec.field(default_factory=list)


#: Latest time that every file system and tool can hold (seconds since 1970): the end of 2446, ext4's.
_LATEST = 15032385535


def extract(reader: Reader, wanted: Iterable[Found], top: str, folder: Path) -> Extracted:
    """Writes what was found (below `top` in the image) into `folder`, which is made if need be. Raises FileExistsError
    rather than write over something, NotPlain when something in `folder` is in the way, and ValueError for damage."""
    folder.mkdir(parents=True, exist_ok=True)
    cut = len(top.rpartition("/")[0]) if top != "/" else 0
    kinds: dict[str, str] = {}
    links: list[tuple[str, str]] = []
    modes: list[tuple[str, int]] = []
    done = Extracted()
    with Folder.at(folder) as base:
        for found in wanted:
            name = found.path[cut:].strip("/")
            if not name:
                continue
            if any(word in ("", ".", "..") for word in name.split("/")):
                raise Damaged(f"the name {found.path!r} cannot be written")
            above = next((parent for parent in parent_paths(name) if kinds.get(parent, "folder") != "folder"), None)
            if above is not None:
                done.refused.append(f"{found.path}, which lies below the {kinds[above]} /{above}")
                continue
            if name in kinds:
                if not kinds[name] == found.kind == "folder":
                    done.refused.append(f"{found.path}, which is there already as a {kinds[name]}")
                continue
            for parent in parent_paths(name):
                if parent not in kinds:  # archives need not name their folders
                    _make_folder(base, parent)
                    kinds[parent] = "folder"
            kinds[name] = found.kind
            if found.kind == "folder":
                base.make_folder(name, 0o755)
                modes.append((name, found.mode & 0o777 | 0o700))
            elif found.kind == "link":
                links.append((found.target, name))
            elif found.kind == "file":
                _write(base, name, reader, found)
                done.files += 1
                if found.mode & 0o7000:
                    done.for_root.append(f"the bits {found.mode & 0o7000:04o} of {found.path}")
            else:
                done.for_root.append(f"the {found.kind} {found.path}")
        for target, name in links:
            base.symlink(target, name)
        for name, mode in reversed(modes):
            base.chmod(name, mode)
    return done


def _make_folder(base: Folder, name: str) -> None:
    try:
        base.make_folder(name, 0o755)
    except FileExistsError:
        base.folder(name).close()  # raises NotPlain for something else


def _write(base: Folder, name: str, reader: Reader, found: Found) -> None:
    with os.fdopen(base.create(name, 0o600), "wb") as sink:
        for part in reader.content(found):
            if part.count(0) == len(part):
                sink.seek(len(part), 1)  # a hole stays one
            else:
                sink.write(part)
        sink.truncate(found.size)
        os.fchmod(sink.fileno(), found.mode & 0o777)
        modified = max(0, min(found.modified, _LATEST))
        os.utime(sink.fileno(), (modified, modified))
