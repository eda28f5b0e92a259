"""What a product offers to a board that starts from the network: its boot files, a menu for them, and the files of its folder.

All that can be asked for is in a table of names; no path of a request ever reaches the file system. Files are held open from
the moment at which the table is made, so that a build beside it changes nothing that is being sent."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import tempfile
import threading
import weakref
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import BinaryIO, Literal

import msgspec

from yarrik.beneath import Folder
from yarrik.boot import BootFiles, Menu, MenuEntry, board_beside, boot_files, encode_menu
from yarrik.disk import copy_as_cpio, opened_bytes
from yarrik.errors import Damaged, Place, Trouble, Unfit, YarrikError
from yarrik.manifest import SIGNATURE_FILE

RootFrom = Literal["disk", "memory"]
#: Words of a command line that are about a root filesystem on a disk, which one in memory is not.
_DISK_WORDS = ("root", "rootfstype", "rootflags", "rootwait", "rootdelay", "ro", "rw", "init", "rdinit")
_ARCHIVE = "the root filesystem as an archive (cpio)"
_MANIFEST = "SHA256SUMS"


class Request(msgspec.Struct, frozen=True):
    """What somebody asked for, and how it went. `seconds` is how long it took."""

    client: str
    protocol: Literal["tftp", "http"]
    name: str
    outcome: Literal["sent", "unknown", "refused", "broken"]
    bytes: int = 0
    seconds: float = 0.0


class OfferedFile:
    """Bytes under a name: of a descriptor that is held open, or of something that is made when it is first asked for. `digest`
    is its SHA-256 when that is known."""

    def __init__(self, make: Callable[[], BinaryIO], digest: str = "", about: str = "") -> None:
        self._make = make
        self._lock = threading.Lock()
        self._file: BinaryIO | None = None
        self.about = about
        self._digest = digest

    @classmethod
    def of(cls, data: bytes, about: str = "") -> OfferedFile:
        """One that is in memory."""

        def make() -> BinaryIO:
            file = tempfile.TemporaryFile(prefix="yarrik-")  # noqa: SIM115 (closed with what holds it)
            file.write(data)
            return file

        return cls(make, hashlib.sha256(data).hexdigest(), about)

    @property
    def file(self) -> BinaryIO:
        """The open file. Raises OSError, Damaged and Unfit when it cannot be made."""
        with self._lock:
            if self._file is None:
                self._file = self._make()
                self._file.flush()
                weakref.finalize(self, self._file.close)
            return self._file

    @property
    def size(self) -> int:
        """In bytes."""
        return os.fstat(self.file.fileno()).st_size

    @property
    def tag(self) -> str:
        """What tells this content from another one."""
        return self._digest or f"{self.size:x}-{os.fstat(self.file.fileno()).st_mtime_ns:x}"

    def read(self, at: int, length: int) -> bytes:
        """At most `length` bytes from `at` on."""
        return os.pread(self.file.fileno(), length, at)


class Offered(msgspec.Struct, frozen=True):
    """A table of names at one moment. `line` is the kernel's command line."""

    files: Mapping[str, OfferedFile]
    line: str = ""

    def find(self, path: str) -> OfferedFile | None:
        """What a request means: names are relative to the top, with or without a slash before them."""
        return self.files.get("/".join(word for word in path.split("/") if word not in ("", ".")))


class Offering(msgspec.Struct):
    """What an image or product offers, made anew when its image is another one than before."""

    image: Path
    root: RootFrom = "disk"
    #: The folder of a product, whose manifest says which files are offered too.
    folder: Path | None = None
    hear: Callable[[YarrikError], None] = lambda error: None
    _now: Offered | None = None
    _mark: tuple[int, ...] = ()
    _lock: threading.Lock = msgspec.field(default_factory=threading.Lock)

    def now(self) -> Offered:
        """The table as of now; the one before when the image cannot be read just now. Raises YarrikError for a first one that
        cannot be made."""
        with self._lock:
            mark = self._looked()
            if self._now is None or (mark and mark != self._mark):
                try:
                    self._now, self._mark = self._made(), mark
                except YarrikError as error:
                    if self._now is None:
                        raise
                    self._mark = mark
                    self.hear(error)
            return self._now

    def _looked(self) -> tuple[int, ...]:
        marks: list[int] = []
        for path in (self.image, self.image.parent / _MANIFEST):
            with contextlib.suppress(OSError):
                status = path.stat()
                marks += [status.st_dev, status.st_ino, status.st_mtime_ns, status.st_size]
        return tuple(marks)

    def _made(self) -> Offered:
        try:
            with opened_bytes(self.image) as (file, image):
                found = boot_files(file, image, str(self.image), board_beside(self.image))
                files, line = self._boot(found)
            for name, one in self._beside().items():
                files.setdefault(name, one)
        except OSError as error:
            raise YarrikError(Trouble("IMAGE-UNREADABLE", f"cannot read {self.image}: {error.strerror or error}",
                                      Place(self.image), remedy="build it again"), "work") from error  # fmt: skip
        except (Damaged, Unfit) as error:
            raise YarrikError(Trouble("IMAGE-DAMAGED", f"{self.image.name}: {error}", Place(self.image),
                                      remedy="build it again"), "work") from error  # fmt: skip
        return Offered(dict(sorted(files.items())), line)

    def _boot(self, found: BootFiles) -> tuple[dict[str, OfferedFile], str]:
        """The boot files, the root filesystem as an archive, and menus that name them."""
        started = found.started
        files = {"kernel": OfferedFile.of(started.kernel, started.kernel_name)}
        if started.device_tree:
            files["device-tree.dtb"] = OfferedFile.of(started.device_tree, started.device_tree_name)
        overlays = []
        for number, (path, data) in enumerate(started.overlays, 1):
            overlays.append(f"overlays/{number}-{path.rpartition('/')[2]}")
            files[overlays[-1]] = OfferedFile.of(data, path)
        line, initramfs = started.line, started.initramfs
        if self.root == "memory":
            if found.root is None:
                raise Unfit("its command line names no root filesystem that could go to memory")
            archive = _archive(found)  # the image is open only now
            files["initramfs"] = OfferedFile(lambda: archive, about=_ARCHIVE)
            line = in_memory(line, found.init)
        elif initramfs:
            files["initramfs"] = OfferedFile.of(initramfs, started.initramfs_name)
        if self.root != "memory" and found.root is not None:
            files["root.cpio"] = self._archive_later()
        ram = "initramfs" if "initramfs" in files else ""
        tree = "device-tree.dtb" if started.device_tree else ""
        entry = MenuEntry("network", "From the network", "kernel", tree, line, ram, tuple(overlays))
        menu = OfferedFile.of(encode_menu(Menu("network", [entry])).encode(), "boot menu")
        # Where bootloaders look for a menu on a server: the last of the names that they try.
        files["pxelinux.cfg/default"] = files["extlinux/extlinux.conf"] = menu
        script = ["#!ipxe", f"kernel kernel {line}{' initrd=initramfs' if ram else ''}"]
        script += ["initrd initramfs"] if ram else []
        files["start.ipxe"] = OfferedFile.of(("\n".join([*script, "boot"]) + "\n").encode(), "script of network firmware")
        return files, line

    def _archive_later(self) -> OfferedFile:
        """The root filesystem as an archive, out of an image that is opened now and read when somebody asks."""
        source = open(self.image, "rb")  # noqa: SIM115 (closed with the table that holds it)

        def make() -> BinaryIO:
            # The descriptor is the image of this table, even if there is another one under its name by now.
            with source, opened_bytes(Path(f"/proc/self/fd/{source.fileno()}")) as (file, image):
                found = boot_files(file, image, str(self.image), board_beside(self.image))
                return _archive(found)

        offered = OfferedFile(make, about=_ARCHIVE)
        weakref.finalize(offered, source.close)
        return offered

    def _beside(self) -> dict[str, OfferedFile]:
        """The product's files that its manifest lists."""
        files = {}
        with Folder.at(self.folder or self.image.parent) as folder:
            if self.folder is None:
                return {self.image.name: _opened(folder, self.image.name, "")}
            try:
                listed = folder.text(_MANIFEST).splitlines()
            except (OSError, UnicodeDecodeError):
                listed = []
            for name in (_MANIFEST, SIGNATURE_FILE):
                with contextlib.suppress(OSError):
                    files[name] = _opened(folder, name, "")
            for row in listed:
                match = re.fullmatch(r"([0-9a-f]{64})  (\S.*)", row)
                if match is not None:
                    with contextlib.suppress(OSError):
                        files[match[2]] = _opened(folder, match[2], match[1])
        return files


def _opened(folder: Folder, name: str, digest: str) -> OfferedFile:
    file = folder.open(name)
    return OfferedFile(lambda: file, digest)


def _archive(found: BootFiles) -> BinaryIO:
    assert found.root is not None
    file = tempfile.TemporaryFile(prefix="yarrik-")  # noqa: SIM115 (closed with what holds it)
    copy_as_cpio(found.root, file)
    return file


def in_memory(line: str, init: str) -> str:
    """A command line for a root filesystem that was unpacked into memory, and begins with `init`."""
    words, after, rest = line.partition(" -- ")
    kept = [word for word in re.findall(r'(?:"[^"]*"|[^\s"])+', words) if word.partition("=")[0] not in _DISK_WORDS]
    return " ".join([*kept, f"rdinit={init}"]) + after + rest
