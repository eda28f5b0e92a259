"""What the bootloader would find and hand on: menu, entries, script, image tree or EFI program, and the files they name."""

from __future__ import annotations

import contextlib
import lzma
import re
import zlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO, NoReturn

import msgspec
import zstandard

from yarrik.arch import ARCHES
from yarrik.beneath import regular_file
from yarrik.boot.entries import EntryDamaged, read_entry, read_loader
from yarrik.boot.fit import FitDamaged, decode_fit, keys_in, verify_fit
from yarrik.boot.legacy import LegacyDamaged, LegacyImage, decode_legacy
from yarrik.boot.menu import MENU_PLACES, read_menu
from yarrik.boot.methods import BUNDLE_FILES, read_addresses
from yarrik.boot.seen import Filesystem
from yarrik.boot.settings import read_settings
from yarrik.devicetree import BlobDamaged, decode_blob
from yarrik.disk.layout import image_name
from yarrik.disk.opening import FoundPartition, OpenedImage
from yarrik.errors import Damaged, Place, Trouble, listed, suggestion
from yarrik.units import counted

FILE_LIMIT = 256 << 20
_SCRIPTS = ("/boot.scr.uimg", "/boot.scr", "/boot/boot.scr.uimg", "/boot/boot.scr")
_EFI = re.compile(r"/EFI/BOOT/BOOT(AA64|ARM|X64|RISCV64)\.EFI\Z", re.IGNORECASE)


@dataclass(frozen=True)
class KnownBlob:
    """A loader's file that belongs at an offset of the disk, with the room it has (0: up to whatever follows)."""

    name: str
    path: Path
    offset: int
    room: int = 0


@dataclass(frozen=True)
class BenchBoard:
    """What is known of the board beside the image; all of it may be missing. `more` are partitions of its
    other disks, `places` says where settings stand, by key."""

    arch: str = ""
    method: str = ""
    blobs: tuple[KnownBlob, ...] = ()
    more: tuple[FoundPartition, ...] = ()
    places: dict[str, Place] = field(default_factory=dict)
    #: The words of the board's `kernel.arguments`.
    arguments: tuple[str, ...] = ()
    #: The bootloader's own device tree, with the keys that it takes image trees by; empty when it is not known.
    control: bytes = b""
    #: Names of the disk's partitions by number, for tables that hold none.
    partitions: Mapping[int, str] = field(default_factory=dict)
    #: Where the files of a memory bundle go, by the names of a memory map's areas.
    bundle: Mapping[str, int] = field(default_factory=dict)


class _Kernel(msgspec.Struct):
    arch: str


class _Boot(msgspec.Struct):
    kernel: _Kernel
    method: str


class _About(msgspec.Struct):
    """The part of the manifest beside an image that describes its board."""

    boot: _Boot


def board_beside(image: Path) -> BenchBoard:
    """The board of an image, as far as the files beside it describe it: manifest, bootloader's device tree, memory bundle.
    Files of another form are ignored."""
    try:
        about = msgspec.json.decode(regular_file(image.parent / "packages.json"), type=_About).boot
    except (msgspec.DecodeError, UnicodeDecodeError, OSError):
        return BenchBoard()
    control, bundle = b"", {}
    with contextlib.suppress(OSError):
        control = regular_file(image.parent / "control.dtb")
    with contextlib.suppress(OSError, ValueError):
        bundle = bundle_places(regular_file(image.parent / "memory/addresses.txt").decode())
    names = names_beside(image)
    return BenchBoard(arch=about.kernel.arch, method=about.method, control=control, partitions=names, bundle=bundle)


class _Partition(msgspec.Struct):
    name: str
    number: int


class _Disk(msgspec.Struct):
    name: str
    partitions: list[_Partition]


class _Disks(msgspec.Struct):
    product: str
    disks: list[_Disk]


def names_beside(image: Path) -> dict[int, str]:
    """The names of an image's partitions by number, as the manifest beside it has them; none without one."""
    try:
        about = msgspec.json.decode(regular_file(image.parent / "packages.json"), type=_Disks)
    except (msgspec.DecodeError, UnicodeDecodeError, OSError):
        return {}
    for disk in about.disks:
        if image_name(about.product, disk.name, len(about.disks)) == image.name:
            return {one.number: one.name for one in disk.partitions}
    return {}


def bundle_places(text: str) -> dict[str, int]:
    """Where the files of a memory bundle go, by the names of areas. Raises ValueError for text of another form."""
    return {BUNDLE_FILES[name]: address for name, (address, _) in read_addresses(text).items() if name in BUNDLE_FILES}


@dataclass(frozen=True)
class Told:
    """One line of the story: the stage, what was found there, and whether it was followed or taken for granted."""

    stage: str
    text: str
    followed: bool = True


@dataclass(frozen=True)
class Granted:
    """What was not followed but taken for granted, and why it cannot be followed here."""

    stage: str
    what: str
    why: str


@dataclass
class BenchResult:
    """The story, what stops it (None: nothing that was followed does), what was taken for granted, and what is likely wrong."""

    story: list[Told] = field(default_factory=list)
    granted: list[Granted] = field(default_factory=list)
    stop: Trouble | None = None
    warnings: list[Trouble] = field(default_factory=list)

    @property
    def reached(self) -> bool:
        return self.stop is None


class Stop(Exception):
    def __init__(self, trouble: Trouble) -> None:
        super().__init__(trouble.what)
        self.trouble = trouble


@dataclass
class Started:
    """What the bootloader hands on."""

    kernel: bytes
    kernel_name: str
    line: str
    device_tree: bytes = b""
    device_tree_name: str = ""
    overlays: list[tuple[str, bytes]] = field(default_factory=list)
    initramfs: bytes = b""
    initramfs_name: str = ""
    given: dict[str, int] = field(default_factory=dict)


class BootFiles:
    """Reads boot files from an image, and reports each stage. Raises Stop for what cannot work."""

    def __init__(self, file: BinaryIO, image: OpenedImage, name: str, board: BenchBoard) -> None:
        self.file, self.image, self.name, self.board = file, image, name, board
        self.result = BenchResult()
        self.filesystems: dict[int, Filesystem] = {}

    # Telling

    def tell(self, stage: str, text: str, followed: bool = True) -> None:
        self.result.story.append(Told(stage, text, followed))

    def grant(self, stage: str, what: str, why: str) -> None:
        """Notes something that is taken for granted, in the story too."""
        self.result.granted.append(Granted(stage, what, why))
        self.tell(stage, f"taken for granted: {what}, since {why}", followed=False)

    def trouble(self, code: str, what: str, why: str, remedy: str, key: str = "") -> Trouble:
        return Trouble(code, what, self.board.places.get(key, Place(Path(self.name))), why, remedy)

    def stop(self, code: str, what: str, why: str, remedy: str, key: str = "") -> NoReturn:
        raise Stop(self.trouble(code, what, why, remedy, key))

    def warn(self, code: str, what: str, why: str, remedy: str, key: str = "") -> None:
        self.result.warnings.append(self.trouble(code, what, why, remedy, key))

    def filesystem(self, part: FoundPartition) -> Filesystem | None:
        if part.reader is None:
            return None
        if id(part.reader) not in self.filesystems:
            self.filesystems[id(part.reader)] = Filesystem(part.reader)
        return self.filesystems[id(part.reader)]

    # Boot files

    def boot_files(self) -> Started:
        order = sorted(self.image.partitions, key=lambda part: (not part.bootable, part.number))
        for part in order:
            filesystem = self.filesystem(part)
            if filesystem is None:
                continue
            for method in (self.board.method,) if self.board.method else ("menu", "script", "entries", "uefi"):
                started = self.by_method(method, part, filesystem)
                if started is not None:
                    self.firmware_settings(filesystem, part.name or "the image")
                    return started
        sought = {
            "menu": "extlinux/extlinux.conf",
            "script": "boot.scr",
            "fit": "boot.scr",
            "entries": "loader/entries",
            "uefi": "EFI/BOOT/BOOT….EFI",
        }.get(self.board.method, "a boot menu, script, boot entries or EFI program")
        readable = [part.name or "the image" for part in order if part.reader is not None]
        self.stop(
            "BOOT-MENU-MISSING",
            f"no partition has {sought}" + (f" (looked at {', '.join(readable)})" if readable else ""),
            "the bootloader would stop at its prompt and wait for somebody",
            'give one partition `holds = "boot"`',
            "disk",
        )

    def firmware_settings(self, filesystem: Filesystem, where: str) -> None:
        """Files that firmware's text settings name have to be there: the firmware starts before any menu is read."""
        for path in sorted(filesystem.below("")):
            if not re.fullmatch(r"/[^/]+\.txt", path) or filesystem.paths[path].size > 1 << 16:
                continue
            for key, value in read_settings(filesystem.text(path)).items():
                name = value.split()[0] if value.split() else ""
                if key in ("kernel", "initramfs", "device_tree") and name and not filesystem.has(f"/{name.lstrip('/')}"):
                    self.stop(
                        "BOOT-FILE-MISSING",
                        f"{path} on {where} names {key}={name}, and there is no such file",
                        "firmware would load nothing, or something else",
                        suggestion(name, [one.lstrip("/") for one in filesystem.files()]),
                        "boot.settings",
                    )

    def by_method(self, method: str, part: FoundPartition, filesystem: Filesystem) -> Started | None:
        name = part.name or "the image"
        if method == "menu":
            place = next((path for path in MENU_PLACES if filesystem.has(path)), None)
            return self.menu(filesystem, place, name) if place else None
        if method in ("script", "fit"):
            place = next((path for path in _SCRIPTS if filesystem.has(path)), None)
            return self.script(filesystem, place, name) if place else None
        if method == "entries":
            found = [path for path in filesystem.below("/loader/entries") if path.endswith(".conf")]
            return self.entries(filesystem, found, name) if found or self.board.method else None
        programs = [path for path in filesystem.below("/EFI/BOOT") if _EFI.match(path)]
        return self.efi(filesystem, programs, name) if programs else None

    def menu(self, filesystem: Filesystem, place: str, where: str) -> Started:
        try:
            menu = read_menu(filesystem.text(place))
        except Damaged as error:
            self.stop(
                "BOOT-MENU-MISSING",
                f"{place} on {where} starts nothing: {error}",
                "the bootloader would go on to its prompt",
                "let `default` name one of the labels",
            )
        entry = next(one for one in menu.entries if one.label == menu.default)
        if menu.tenths is None:
            self.warn(
                "BOOT-MENU-WAITS",
                f"{place} on {where} waits for somebody to type",
                "a board without a keyboard would never start",
                "set `timeout` to 1 or more",
            )
        count = f"{len(menu.entries)} entries" if len(menu.entries) > 1 else "1 entry"
        self.tell("boot menu", f"{where}:{place}, {count}, starts `{entry.label}`")
        kernel = self.read(filesystem, entry.kernel, "kernel", where)
        started = Started(kernel, entry.kernel, entry.arguments)
        if kernel[:4] == b"\xd0\x0d\xfe\xed":
            return self.fit(started, kernel, entry.kernel, "")
        self.add_files(started, filesystem, where, entry.device_tree, entry.overlays, entry.initramfs)
        return started

    def add_files(
        self, started: Started, filesystem: Filesystem, where: str, tree: str, overlays: Sequence[str], initramfs: str
    ) -> None:
        if tree:
            started.device_tree, started.device_tree_name = self.read(filesystem, tree, "device tree", where), tree
        started.overlays = [(path, self.read(filesystem, path, "overlay", where)) for path in overlays]
        if initramfs:
            started.initramfs, started.initramfs_name = self.read(filesystem, initramfs, "initramfs", where), initramfs

    def read(self, filesystem: Filesystem, path: str, what: str, where: str) -> bytes:
        """A file that boot files name. Device trees and overlays have a code of their own."""
        if not filesystem.has(path):
            code = "BOOT-DEVICE-TREE" if what in ("device tree", "overlay") else "BOOT-FILE-MISSING"
            self.stop(
                code,
                f"the {what} {path or '(none named)'} is not on {where}",
                "the bootloader would say so, and start nothing",
                suggestion(path, filesystem.files()),
                "kernel.device-tree" if "DEVICE" in code else "kernel.recipe",
            )
        return filesystem.content(path, FILE_LIMIT)

    def entries(self, filesystem: Filesystem, found: list[str], where: str) -> Started:
        if not found:
            self.stop(
                "BOOT-MENU-MISSING",
                f"{where} has no boot entry below /loader/entries",
                "the loader would show an empty menu",
                "let the boot method write one",
            )
        default, seconds = (
            read_loader(filesystem.text("/loader/loader.conf")) if filesystem.has("/loader/loader.conf") else ("", 0)
        )
        if seconds is None:
            self.warn(
                "BOOT-MENU-WAITS",
                f"/loader/loader.conf on {where} waits for somebody to choose",
                "a board without a keyboard would never start",
                "set `timeout` to a number of seconds",
            )
        names = {path.rpartition("/")[2].removesuffix(".conf"): path for path in sorted(found)}
        pattern = re.compile(re.escape(default).replace(r"\*", ".*") + r"\Z")
        chosen = next((name for name in names if pattern.match(name)), None) if default else max(names)
        if chosen is None:
            self.stop(
                "BOOT-MENU-MISSING",
                f"the default entry `{default}` is none of those on {where}",
                "the loader would wait for a choice",
                suggestion(default, names),
            )
        programs = [path for path in filesystem.below("/EFI/BOOT") if _EFI.match(path)]
        if not programs:
            self.stop(
                "BOOT-LOADER",
                f"{where} has no /EFI/BOOT/BOOT….EFI",
                "firmware would find no program to start",
                "name one in the board's `boot.loader`",
                "boot.method",
            )
        try:
            entry = read_entry(filesystem.text(names[chosen]))
        except EntryDamaged as error:
            self.stop(
                "BOOT-MENU-MISSING",
                f"{names[chosen]} on {where} is no boot entry: {error}",
                "the loader would not list it",
                "correct it",
            )
        self.tell("boot menu", f"{where}:{names[chosen]}, {len(names)} in all, started by {programs[0]}")
        started = Started(self.read(filesystem, entry.kernel, "kernel", where), entry.kernel, entry.arguments)
        self.add_files(
            started, filesystem, where, entry.device_tree, entry.overlays, entry.initramfs[-1] if entry.initramfs else ""
        )
        return started

    def efi(self, filesystem: Filesystem, programs: list[str], where: str) -> Started:
        wanted = ARCHES[self.board.arch].efi_program if self.board.arch in ARCHES else programs[0]
        if wanted not in programs:
            self.stop(
                "BOOT-KERNEL-ARCH",
                f"{where} has {programs[0]}, and firmware of {self.board.arch} looks for {wanted}",
                "it would find no program to start",
                "check the board's `arch`",
                "boot.method",
            )
        kernel = filesystem.content(wanted, FILE_LIMIT)
        if kernel[:2] != b"MZ":
            self.stop(
                "BOOT-KERNEL-FORM",
                f"{wanted} is no program for firmware: it does not begin with MZ",
                "firmware would refuse it",
                "build the kernel with CONFIG_EFI_STUB=y",
                "kernel.recipe",
            )
        self.tell("boot menu", f"none: firmware starts {where}:{wanted}")
        return Started(kernel, wanted, "")

    def script(self, filesystem: Filesystem, place: str, where: str) -> Started:
        try:
            script = decode_legacy(filesystem.content(place, 1 << 20))
        except LegacyDamaged as error:
            self.stop(
                "BOOT-MENU-MISSING",
                f"the script {place} on {where} is damaged: {error}",
                "the bootloader would refuse it and go on to its prompt",
                "write it anew",
            )
        text = script.parts[0].decode("utf-8", "replace")
        self.tell("boot script", f"{where}:{place}, {counted(len(text.splitlines()), 'line')}")
        loaded: dict[int, str] = {}
        line = ""
        overlays: list[tuple[str, bytes]] = []
        for words in _commands(text):
            if words[0] == "setenv" and words[1:2] == ["bootargs"]:
                line = " ".join(words[2:])
            elif words[0] == "load" and len(words) == 5:
                loaded[_address(words[3])] = words[4]
            elif words[:2] == ["fdt", "apply"] and _address(words[2]) in loaded:
                path = loaded[_address(words[2])]
                overlays.append((path, self.read(filesystem, path, "overlay", where)))
            elif words[0] == "bootm":
                return self.bootm(filesystem, words, loaded, line, overlays, where)
        self.stop(
            "BOOT-MENU-MISSING",
            f"the script {place} on {where} starts nothing",
            "the bootloader would go on to its prompt",
            "let it end in a command that starts the kernel",
        )

    def bootm(
        self,
        filesystem: Filesystem,
        words: list[str],
        loaded: dict[int, str],
        line: str,
        overlays: list[tuple[str, bytes]],
        where: str,
    ) -> Started:
        address, _, configuration = words[1].partition("#")
        path = loaded.get(_address(address), "")
        data = self.read(filesystem, path, "kernel", where)
        if data[:4] == b"\xd0\x0d\xfe\xed":
            return self.fit(Started(data, path, line), data, path, configuration)
        wrapped = self.unwrapped(data, path)
        started = Started(unpacked(wrapped.parts[0], wrapped.compression), path, line, overlays=overlays)
        if wrapped.load != wrapped.entry:
            self.warn(
                "BOOT-MEMORY",
                f"{path} is loaded to {wrapped.load:#x} and entered at {wrapped.entry:#x}",
                "kernels of today begin with their first byte",
                "give the same address twice",
            )
        started.given = {"kernel": wrapped.load, "bundle": _address(address)}
        started.kernel_name = path
        if len(words) > 2 and words[2] != "-":
            name = loaded.get(_address(words[2]), "")
            ram = self.unwrapped(self.read(filesystem, name, "initramfs", where), name)
            started.initramfs, started.initramfs_name = ram.parts[0], name
            started.given["initramfs"] = _address(words[2])
        if len(words) > 3 and _address(words[3]) in loaded:
            started.device_tree_name = loaded[_address(words[3])]
            started.device_tree = self.read(filesystem, started.device_tree_name, "device tree", where)
            started.given["device tree"] = _address(words[3])
        return started

    def signature(self, data: bytes, path: str, signed_by: str) -> None:
        """Checks the signatures of an image tree by the bootloader's keys, where these are known."""
        try:
            keys = keys_in(decode_blob(self.board.control)) if self.board.control else {}
        except BlobDamaged:
            keys = {}
        if not keys:
            if signed_by:
                why = "the keys in the bootloader's device tree are not known here"
                self.grant("image tree", f"that the signature by `{signed_by}` fits", why)
            return
        for name, key in keys.items():
            try:
                verify_fit(data, key)
            except FitDamaged as error:
                self.stop(
                    "BOOT-SIGNATURE",
                    f"{path} does not fit the bootloader's key `{name}`: {error}",
                    "the bootloader refuses what this key did not sign",
                    "sign the image with this key (`boot.key`), or give the bootloader the other one",
                    "boot.key",
                )
        self.tell("image tree", f"signed by {listed(keys)}: the signature fits the key in the bootloader's device tree")

    def unwrapped(self, data: bytes, path: str) -> LegacyImage:
        try:
            return decode_legacy(data)
        except LegacyDamaged as error:
            self.stop(
                "BOOT-KERNEL-FORM",
                f"{path} cannot be loaded: {error}",
                "the bootloader would refuse it",
                "let the boot method wrap it",
                "boot.method",
            )

    def fit(self, started: Started, data: bytes, path: str, configuration: str) -> Started:
        try:
            _, fit = decode_fit(data)
        except FitDamaged as error:
            self.stop(
                "BOOT-KERNEL-FORM",
                f"{path} cannot be loaded: {error}",
                "the bootloader would refuse it",
                "write the image anew",
                "boot.method",
            )
        wanted = configuration or fit.default
        chosen = next((one for one in fit.configurations if one.name == wanted), None)
        if chosen is None:
            self.stop(
                "BOOT-FILE-MISSING",
                f"{path} has no configuration `{wanted}`",
                "the bootloader would refuse it",
                suggestion(wanted, [one.name for one in fit.configurations]),
            )
        images = {image.name: image for image in fit.images}
        if not chosen.kernel:
            self.stop(
                "BOOT-FILE-MISSING",
                f"the configuration `{wanted}` of {path} names no kernel",
                "the bootloader would have nothing to start",
                "write the image anew",
            )
        kernel = images[chosen.kernel]
        self.tell("image tree", f"{path}, configuration `{wanted}`, all hashes fit")
        self.signature(data, path, chosen.signed_by)
        started.kernel, started.kernel_name = unpacked(kernel.data, kernel.compression), f"{path}:{kernel.name}"
        if kernel.load is not None:
            started.given["kernel"] = kernel.load
        trees = [images[name] for name in chosen.device_trees]
        if trees:
            started.device_tree, started.device_tree_name = trees[0].data, f"{path}:{trees[0].name}"
            if trees[0].load is not None:
                started.given["device tree"] = trees[0].load
        started.overlays = [(f"{path}:{one.name}", one.data) for one in trees[1:]]
        if chosen.initramfs:
            started.initramfs, started.initramfs_name = images[chosen.initramfs].data, f"{path}:{chosen.initramfs}"
        return started


def unpacked(data: bytes, compression: str) -> bytes:
    """Unpacked data. Raises ValueError for damage and for more than a board's memory could hold."""
    try:
        if compression == "gzip":
            unpacker = zlib.decompressobj(31)
            data = unpacker.decompress(data, FILE_LIMIT)
        elif compression == "xz":
            data = lzma.LZMADecompressor(memlimit=256 << 20).decompress(data, FILE_LIMIT)
        elif compression == "zstd":
            with zstandard.ZstdDecompressor(max_window_size=128 << 20).stream_reader(data) as reader:
                data = reader.read(FILE_LIMIT)
        elif compression != "none":
            raise Damaged(f"{compression} is not unpacked here")
    except (OSError, EOFError, lzma.LZMAError, zstandard.ZstdError, zlib.error) as error:
        raise Damaged(f"its {compression} data are damaged") from error
    return data


def _commands(text: str) -> Iterator[list[str]]:
    for line in text.splitlines():
        words = [word[1:-1] if word[0] in "'\"" else word for word in re.findall(r"'[^']*'|\"[^\"]*\"|[^\s]+", line)]
        if words and not words[0].startswith("#"):
            yield words


def _address(word: str) -> int:
    try:
        return int(word, 16)
    except ValueError:
        return -1
