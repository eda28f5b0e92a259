"""Takes files out of an image into a folder, and never writes anywhere else.

Links are made last, when nothing follows them any more; files are made anew and never through a link; what needs root
(owners, device nodes, setuid) is left out and told.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from yarrik.disk.found import Found, Reader


def extract(reader: Reader, wanted: Iterable[Found], top: str, folder: Path) -> tuple[int, list[str]]:
    """Writes what was found (below `top` in the image) into `folder`, which is made if need be.

    Returns the number of files and a list of what was left out. Raises FileExistsError rather than write over
    something, and ValueError for damage."""
    folder.mkdir(parents=True, exist_ok=True)
    base = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    cut = len(top.rpartition("/")[0]) if top != "/" else 0
    links: list[tuple[str, str]] = []
    modes: list[tuple[str, int]] = []
    left: list[str] = []
    count = 0
    try:
        for found in wanted:
            name = found.path[cut:].strip("/")
            if not name:
                continue
            if any(word in ("", ".", "..") for word in name.split("/")):
                raise ValueError(f"the name {found.path!r} cannot be written")
            if found.kind == "folder":
                os.mkdir(name, 0o755, dir_fd=base)
                modes.append((name, found.mode & 0o777 | 0o700))
            elif found.kind == "link":
                links.append((found.target, name))
            elif found.kind == "file":
                flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW
                handle = os.open(name, flags, 0o600, dir_fd=base)
                with os.fdopen(handle, "wb") as sink:
                    for part in reader.content(found):
                        if part.count(0) == len(part):
                            sink.seek(len(part), 1)  # a hole stays one
                        else:
                            sink.write(part)
                    sink.truncate(found.size)
                    os.fchmod(sink.fileno(), found.mode & 0o777)
                    os.utime(sink.fileno(), (found.modified, found.modified))
                count += 1
                if found.mode & 0o7000:
                    left.append(f"the bits {found.mode & 0o7000:04o} of {found.path}")
            else:
                left.append(f"the {found.kind} {found.path}")
        for target, name in links:
            os.symlink(target, name, dir_fd=base)
        for name, mode in reversed(modes):
            os.chmod(name, mode, dir_fd=base)
    finally:
        os.close(base)
    return count, left
