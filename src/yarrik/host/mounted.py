"""What is mounted over the system's own folders: a file can be hidden there without a trace in its folder."""

from __future__ import annotations

import hashlib

#: Where programs, libraries and their data are. Of /etc not all: containers have files of their own mounted there.
_SYSTEM = ("/usr", "/bin", "/sbin", "/lib", "/opt", "/etc/alternatives", "/etc/ld.so")


def mounts_mark(table: str = "/proc/self/mountinfo") -> str:
    """A digest of what is mounted at the system's folders and below: where, and what of its filesystem (proc_pid_mountinfo(5)).

    It is the same for two containers of one image, and another where a file is mounted over one of them."""
    try:
        with open(table, encoding="utf-8", errors="surrogateescape") as file:
            rows = [line.split(" ") for line in file]
    except OSError:
        return ""
    seen = sorted((row[4], row[3]) for row in rows if len(row) > 5 and (row[4] == "/" or row[4].startswith(_SYSTEM)))
    return hashlib.sha256("\n".join(map(" ".join, seen)).encode("utf-8", "surrogateescape")).hexdigest()[:16]
