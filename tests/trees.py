"""Folders to be packed, plain and nasty, and what is true of a tree wherever it lies: on this machine, or in an image."""

from __future__ import annotations

import hashlib
import os
import random
import stat
import struct
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import NamedTuple

from yarrik.disk.found import Reader

ROOT = os.getuid() == 0
_UNIT = 1 << 20
_ZEROS = bytes(_UNIT)
CAPABILITY = struct.pack("<IIIII", 0x02000001, 1 << 10, 0, 0, 0)
ACL = struct.pack("<I", 2) + b"".join(
    struct.pack("<HHI", tag, rights, name)
    for tag, rights, name in ((1, 7, 0xFFFFFFFF), (2, 4, 100), (4, 5, 0xFFFFFFFF), (16, 5, 0xFFFFFFFF), (32, 0, 0xFFFFFFFF))
)


class Facts(NamedTuple):
    """What has to come back. `modified` is in seconds; `digest` is of a file's content."""

    kind: str
    mode: int
    uid: int
    gid: int
    size: int
    modified: int
    target: str
    digest: str
    device: tuple[int, int]
    links: int
    attributes: tuple[tuple[str, bytes], ...]


def content_digest(parts: Iterable[bytes]) -> str:
    """A digest that skips MiB of zeros, so that large holes cost nothing."""
    digest = hashlib.sha256()
    waiting, unit = bytearray(), 0
    for part in parts:
        if not waiting and len(part) == _UNIT and part == _ZEROS:
            unit += 1
            continue
        waiting += part
        while len(waiting) >= _UNIT:
            if waiting[:_UNIT] != _ZEROS:
                digest.update(unit.to_bytes(8, "little") + waiting[:_UNIT])
            del waiting[:_UNIT]
            unit += 1
    digest.update(unit.to_bytes(8, "little") + waiting)
    return digest.hexdigest()


def _parts(path: str) -> Iterable[bytes]:
    with open(path, "rb", buffering=0) as file:
        size = os.fstat(file.fileno()).st_size
        at = 0
        if size < _UNIT:
            yield file.read()
            return
        while at < size:
            try:
                data = os.lseek(file.fileno(), at, os.SEEK_DATA)
            except OSError:
                data = size
            while at + _UNIT <= data:
                yield _ZEROS
                at += _UNIT
            file.seek(at)
            part = file.read(_UNIT)
            yield part
            at += len(part)


def facts_on_disk(top: Path) -> dict[str, Facts]:
    """All that lies below a folder of this machine, by path."""
    kinds = {stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link", stat.S_IFCHR: "character",
             stat.S_IFBLK: "block", stat.S_IFIFO: "fifo", stat.S_IFSOCK: "socket"}  # fmt: skip
    facts = {}
    waiting = [os.fspath(top)]
    while waiting:
        for item in os.scandir(waiting.pop()):
            path, status = item.path, item.stat(follow_symlinks=False)
            kind = kinds[stat.S_IFMT(status.st_mode)]
            if kind == "folder":
                waiting.append(path)
            names = os.listxattr(path, follow_symlinks=False)
            facts[path[len(os.fspath(top)) :]] = Facts(
                kind,
                stat.S_IMODE(status.st_mode),
                status.st_uid,
                status.st_gid,
                status.st_size if kind == "file" else 0,
                status.st_mtime_ns // 1_000_000_000,
                os.readlink(path) if kind == "link" else "",
                content_digest(_parts(path)) if kind == "file" else "",
                (os.major(status.st_rdev), os.minor(status.st_rdev)) if kind in ("character", "block") else (0, 0),
                status.st_nlink if kind == "file" else 0,
                tuple(sorted((name, os.getxattr(path, name, follow_symlinks=False)) for name in names)),
            )
    return facts


def facts_in_image(reader: Reader) -> dict[str, Facts]:
    """All that a reader finds, by path; the top and the folder that ext4 makes for itself left out."""
    facts = {}
    for one in reader.walk():
        if one.path in ("/", "/lost+found"):
            continue
        facts[one.path] = Facts(
            one.kind,
            one.mode,
            one.uid,
            one.gid,
            one.size if one.kind == "file" else 0,
            one.modified,
            one.target,
            content_digest(reader.content(one)) if one.kind == "file" else "",
            one.device if one.kind in ("character", "block") else (0, 0),
            one.links if one.kind == "file" else 0,
            tuple(sorted(reader.attributes(one).items())),
        )
    return facts


# Trees


def plain(top: Path) -> None:
    """A bit of everything that a root filesystem holds."""
    make = random.Random(1)
    for name in ("bin", "etc/init.d", "var/lib/tide", "dev", "empty"):
        (top / name).mkdir(parents=True)
    (top / "bin/tool").write_bytes(make.randbytes(70_000))
    (top / "bin/tool").chmod(0o4755)
    os.link(top / "bin/tool", top / "bin/another name")
    os.link(top / "bin/tool", top / "zlast")
    (top / "etc/conf").write_text("text\n")
    (top / "link").symlink_to("bin/tool")
    (top / "long-link").symlink_to("/".join(["far"] * 60))
    os.mkfifo(top / "pipe")
    (top / "var/lib/tide").chmod(0o1770)
    if ROOT:
        os.mknod(top / "dev/tty", 0o620 | stat.S_IFCHR, os.makedev(5, 1))
        os.mknod(top / "dev/disk", 0o660 | stat.S_IFBLK, os.makedev(300, 70000))
        os.chown(top / "etc/conf", 100, 70000)


def sizes_around_borders(top: Path) -> None:
    make = random.Random(2)
    for size in (0, 1, 59, 60, 61, 4095, 4096, 4097, 8191, 65536, 131071, 131072, 131073, 262144, 1 << 20, (4 << 20) + 1):
        (top / f"random-{size}").write_bytes(make.randbytes(size))
        (top / f"zeros-{size}").write_bytes(bytes(size))


def one_byte_files(top: Path) -> None:
    for folder in range(20):
        (top / f"{folder}").mkdir()
        for number in range(200):
            (top / f"{folder}/{number}").write_bytes(bytes([number & 0xFF]))


def a_folder_of_5_000(top: Path) -> None:
    """Its index and its listing take many blocks in every form."""
    (top / "many").mkdir()
    for number in range(5_000):
        (top / f"many/an entry with number {number}").touch()


def longest_names(top: Path) -> None:
    (top / "d").mkdir()
    for number in range(400):
        (top / "d" / f"{number:03}{'n' * 252}").write_text(str(number))
    (top / ("t" * 255)).symlink_to("x" * 1000)


def odd_names(top: Path) -> None:
    names = [b"new\nline", b"\xff\xfe\x80", b" leading", b"trailing ", b"tab\t", b"\x01\x7f", b"quote'\"", b"back\\slash",
             "Ünïcödé".encode(), "高潮".encode(), "\U0001f30a".encode(), "\ue000".encode(), b"\x80low", b"%25", b"-rf", b"*",
             b"~", b"=", b"a" * 100 + b"\xff" * 100]  # fmt: skip
    for name in names:
        (top / os.fsdecode(name)).write_bytes(name)
        (top / os.fsdecode(b"d" + name)).mkdir()
        (top / os.fsdecode(b"d" + name + b"/" + name)).write_bytes(name * 3)


def forty_levels(top: Path) -> None:
    here = top
    for level in range(40):
        here = here / f"level {level}"
        here.mkdir()
        (here / "file").write_text(f"level {level}")


#: Where a huge file holds something.
MARKS = (0, 1 << 20, (5 << 30) + 12345, (8 << 30) - 4)


def holes(top: Path) -> None:
    with (top / "8-gib").open("wb") as file:
        for place in MARKS:
            file.seek(place)
            file.write(b"mark")
    with (top / "empty-1-gib").open("wb") as file:
        file.truncate(1 << 30)
    with (top / "comb").open("wb") as file:  # enough pieces for a tree of two levels
        for tooth in range(1500):
            file.seek(tooth * 200_000)
            file.write(b"tooth")
    (top / "zeros").write_bytes(b"a" + bytes(3 << 20) + b"z")


def many_links(top: Path) -> None:
    (top / "first").write_text("one content")
    for number in range(300):
        os.link(top / "first", top / f"name-{number:03}")
    for number in range(200):
        (top / f"symbolic-{number}").symlink_to("y" * (number + 1))


def many_folders(top: Path) -> None:
    for number in range(2000):
        (top / "/".join(str(number // 7**depth % 7) for depth in range(5))).mkdir(parents=True, exist_ok=True)
    (top / "wide").mkdir()
    for number in range(3000):
        (top / f"wide/{number}").mkdir()


def attributes(top: Path) -> None:
    for number, size in enumerate((0, 1, 20, 60, 100, 500, 2000)):
        (top / f"file-{number}").write_text("x")
        os.setxattr(top / f"file-{number}", "user.note", bytes(range(256)) * (size // 256) + b"v" * (size % 256))
    (top / "folder").mkdir()
    os.setxattr(top / "folder", "user.place", b"am Kai")
    for number in range(30):
        (top / f"alike-{number}").write_text("x")
        os.setxattr(top / f"alike-{number}", "user.kind", b"the same")
        os.setxattr(top / f"alike-{number}", "user.other", b"o" * 90)
    if ROOT:
        os.setxattr(top / "file-1", "security.capability", CAPABILITY)
        os.setxattr(top / "file-2", "trusted.note", b"trusted")


def access_lists(top: Path) -> None:
    (top / "folder").mkdir()
    (top / "file").write_text("x")
    os.setxattr(top / "folder", "system.posix_acl_default", ACL)
    os.setxattr(top / "file", "system.posix_acl_access", ACL)


def modes_owners_and_times(top: Path) -> None:
    for number, mode in enumerate((0o000, 0o4755, 0o2755, 0o1777, 0o7777, 0o600, 0o444)):
        (top / f"f{number}").write_text(str(number))
        (top / f"d{number}").mkdir()
        if ROOT:
            os.chown(top / f"f{number}", 65535 + number, 1 << 31)
            os.chown(top / f"d{number}", 4_000_000_000, number)
        (top / f"f{number}").chmod(mode if ROOT else mode | 0o400)
        (top / f"d{number}").chmod(mode if ROOT else mode | 0o700)
    for number, moment in enumerate((0, 1, 86400, (1 << 31) - 1, 1 << 31, (1 << 32) - 1)):
        (top / f"t{number}").write_text("t")
        os.utime(top / f"t{number}", (moment, moment))


def devices(top: Path) -> None:
    if ROOT:
        for major, minor in ((1, 3), (5, 1), (255, 255), (256, 1), (1, 256), (4095, 1048575)):
            os.mknod(top / f"c-{major}-{minor}", 0o640 | stat.S_IFCHR, os.makedev(major, minor))
            os.mknod(top / f"b-{major}-{minor}", 0o640 | stat.S_IFBLK, os.makedev(major, minor))
    for number in range(20):
        os.mkfifo(top / f"pipe-{number}")


def alike(top: Path) -> None:
    """Contents that are stored once where a form can: small, large, tails alone the same."""
    make = random.Random(4)
    large, small = make.randbytes(700_000), make.randbytes(3000)
    for number in range(5):
        (top / f"large-{number}").write_bytes(large)
        (top / f"small-{number}").write_bytes(small)
        (top / f"tail-{number}").write_bytes(make.randbytes(131072) + small)
        (top / f"middle-{number}").write_bytes(large[:200_000] + bytes([number]) + large[200_001:])
    (top / "text").write_bytes(b"text " * 400_000)


def large_files(top: Path) -> None:
    make = random.Random(5)
    for number in range(3):
        with (top / f"file-{number}").open("wb") as file:
            for _ in range(50 + 30 * number):
                file.write(make.randbytes(1 << 20))


def nothing(top: Path) -> None:
    """An empty folder."""


NASTY: dict[str, Callable[[Path], None]] = {
    function.__name__: function
    for function in (
        nothing, plain, sizes_around_borders, one_byte_files, a_folder_of_5_000, longest_names, odd_names, forty_levels, holes,
        many_links, many_folders, attributes, access_lists, modes_owners_and_times, devices, alike, large_files,
    )
}  # fmt: skip
