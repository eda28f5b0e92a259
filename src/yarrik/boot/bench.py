"""The bench board: reads a finished image as hardware would, from the loader to init, and tells how far it gets.

Nothing is started. Each stage looks at what the stage before it would have handed on; what cannot work ends the story with
a stop code, what is likely wrong is told at its end.
"""

from __future__ import annotations

import gzip
import lzma
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO, NoReturn

import zstandard

from yarrik.arch import ARCHES
from yarrik.boot.command_line import DEFAULT_INITS, parsed
from yarrik.boot.console import console_problem
from yarrik.boot.entries import EntryDamaged, read_entry, read_loader
from yarrik.boot.fit import FitDamaged, decode_fit
from yarrik.boot.kernel_image import KernelFacts, KernelUnfit, kernel_facts
from yarrik.boot.legacy import LegacyDamaged, LegacyImage, decode_legacy
from yarrik.boot.memory_map import DEVICE_TREE_ROOM, MapUnfit, memory_of, place_all, reserved_in
from yarrik.boot.menu import MENU_PLACES, read_menu
from yarrik.boot.root_check import RootChecks
from yarrik.boot.seen import Filesystem
from yarrik.devicetree import BlobDamaged, DeviceTree, apply_overlay, decode_blob, text_of
from yarrik.disk.opening import FoundPartition, OpenedImage
from yarrik.errors import Place, Trouble, YarrikError, suggestion
from yarrik.units import shown_size

_FILE_LIMIT = 512 << 20
_SCRIPTS = ("/boot.scr.uimg", "/boot.scr", "/boot/boot.scr.uimg", "/boot/boot.scr")
_EFI = re.compile(r"/EFI/BOOT/BOOT(AA64|ARM|X64|RISCV64)\.EFI\Z", re.IGNORECASE)
#: Filesystems and disks, and the options that a kernel needs built in to have its root there.
_FILESYSTEM_OPTIONS = {"ext4": ("EXT4_FS",), "ext2": ("EXT4_FS", "EXT2_FS"), "squashfs": ("SQUASHFS",), "fat": ("VFAT_FS",)}
_DISK_OPTIONS = {"mmcblk": ("MMC_BLOCK",), "sd": ("BLK_DEV_SD",), "vd": ("VIRTIO_BLK",), "nvme": ("BLK_DEV_NVME",)}
_TABLE_OPTIONS = {"gpt": "EFI_PARTITION", "hybrid": "EFI_PARTITION", "mbr": "MSDOS_PARTITION"}
_PACKED = {
    b"\x1f\x8b": ("gzip", "RD_GZIP"),
    b"\xfd7": ("xz", "RD_XZ"),
    b"\x28\xb5": ("zstd", "RD_ZSTD"),
    b"BZ": ("bzip2", "RD_BZIP2"),
    b"\x02!": ("lz4", "RD_LZ4"),
    b"\x5d\x00": ("lzma", "RD_LZMA"),
    b"\x89L": ("lzo", "RD_LZO"),
}


@dataclass(frozen=True)
class KnownBlob:
    """A loader's file that has to stand at an offset of the disk, with the room it has (0: as far as the next thing)."""

    name: str
    path: Path
    offset: int
    room: int = 0


@dataclass(frozen=True)
class BenchBoard:
    """What is known of the board beside the image; all of it may be missing. `places` says where settings stand, by key."""

    arch: str = ""
    method: str = ""
    blobs: tuple[KnownBlob, ...] = ()
    places: dict[str, Place] = field(default_factory=dict)


@dataclass(frozen=True)
class Told:
    """One line of the story: the stage, and what was found there."""

    stage: str
    text: str


@dataclass
class BenchResult:
    """The story, what stops it (None: init would run), and what is likely wrong."""

    story: list[Told] = field(default_factory=list)
    stop: Trouble | None = None
    warnings: list[Trouble] = field(default_factory=list)

    @property
    def reached(self) -> bool:
        return self.stop is None


class _Stop(Exception):
    def __init__(self, trouble: Trouble) -> None:
        super().__init__(trouble.what)
        self.trouble = trouble


@dataclass
class _Started:
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


def try_image(file: BinaryIO, image: OpenedImage, name: str, board: BenchBoard | None = None) -> BenchResult:
    """Tries an image; `file` are its bytes, already unpacked where it was compressed. Never raises for what is in it."""
    bench = _Bench(file, image, name, board or BenchBoard())
    try:
        bench.run()
    except _Stop as stop:
        bench.result.stop = stop.trouble
    except (ValueError, RecursionError) as error:
        bench.result.stop = Trouble(
            "BOOT-DAMAGED",
            f"reading {Path(name).name} came to an end: {error}",
            Place(Path(name)),
            "the board would find the same damage",
            "write the image anew",
        )
    return bench.result


class _Bench:
    def __init__(self, file: BinaryIO, image: OpenedImage, name: str, board: BenchBoard) -> None:
        self.file, self.image, self.name, self.board = file, image, name, board
        self.result = BenchResult()
        self.filesystems: dict[int, Filesystem] = {}

    # Telling

    def tell(self, stage: str, text: str) -> None:
        self.result.story.append(Told(stage, text))

    def trouble(self, code: str, what: str, why: str, remedy: str, key: str = "") -> Trouble:
        return Trouble(code, what, self.board.places.get(key, Place(Path(self.name))), why, remedy)

    def stop(self, code: str, what: str, why: str, remedy: str, key: str = "") -> NoReturn:
        raise _Stop(self.trouble(code, what, why, remedy, key))

    def warn(self, code: str, what: str, why: str, remedy: str, key: str = "") -> None:
        self.result.warnings.append(self.trouble(code, what, why, remedy, key))

    def run(self) -> None:
        self.loader()
        self.table()
        started = self.boot_files()
        facts = self.kernel(started)
        tree = self.device_tree(started)
        config = self.config_of(started)
        self.command_line(started, tree, (config or {}).get("CMDLINE", ""))
        self.memory(started, tree, facts)
        root = self.initramfs(started, config) if started.initramfs else self.root(started, config)
        checks = RootChecks(root, facts.arch, config, tree, self.tell, self.stop, self.warn)
        checks.init(self.init_path(started, root))
        checks.services()
        checks.links()
        checks.modules(started.kernel)
        self.tell("end", "would reach init")

    # Loader and table

    def loader(self) -> None:
        for blob in self.board.blobs:
            wanted = blob.path.read_bytes()
            self.file.seek(blob.offset)
            found = self.file.read(len(wanted))
            if found[440:512] != wanted[440:512] and blob.offset == 0 and self.image.table in ("mbr", "hybrid"):
                found = found[:440] + wanted[440:512] + found[512:]  # the table lies in the loader's own sector
            if found != wanted:
                self.stop(
                    "BOOT-LOADER",
                    f"the loader {blob.name} does not stand at its offset {blob.offset:#x}",
                    "the processor's own boot code would find something else there",
                    "write the image anew",
                    "disk",
                )
            if blob.room and len(wanted) > blob.room:
                self.stop(
                    "BOOT-LOADER",
                    f"the loader {blob.name} has {shown_size(len(wanted))}, and its room is {shown_size(blob.room)}",
                    "its end would be overwritten",
                    "make room, or a smaller loader",
                    "disk",
                )
            for part in self.image.partitions:
                if (
                    part.start < blob.offset + len(wanted)
                    and blob.offset < part.start + part.size
                    and self.image.table != "none"
                ):
                    self.stop(
                        "BOOT-LOADER",
                        f"the loader {blob.name} and the partition {part.name} share bytes",
                        "one would destroy the other",
                        "move one of them",
                        "disk",
                    )
            self.tell("loader", f"{blob.name} at {blob.offset:#x}, {shown_size(len(wanted))}")

    def table(self) -> None:
        if self.image.problem:
            self.stop(
                "BOOT-TABLE",
                f"the partition table is damaged: {self.image.problem}",
                "neither bootloader nor kernel would find a partition",
                "write the image anew",
            )
        if self.image.table == "none" and self.image.partitions[0].reader is None:
            self.stop(
                "BOOT-TABLE",
                f"{Path(self.name).name} has neither a partition table nor a filesystem",
                "the board would find nothing in it",
                "name the image of a whole disk",
            )
        names = ", ".join(part.name for part in self.image.partitions if part.name) or "one filesystem, no table"
        self.tell("table", f"{self.image.table}: {names}" if self.image.table != "none" else names)

    def filesystem(self, part: FoundPartition) -> Filesystem | None:
        if part.reader is None:
            return None
        if part.number not in self.filesystems:
            self.filesystems[part.number] = Filesystem(part.reader)
        return self.filesystems[part.number]

    # Boot files

    def boot_files(self) -> _Started:
        order = sorted(self.image.partitions, key=lambda part: (not part.bootable, part.number))
        for part in order:
            filesystem = self.filesystem(part)
            if filesystem is None:
                continue
            for method in (self.board.method,) if self.board.method else ("menu", "script", "entries", "uefi"):
                started = self.by_method(method, part, filesystem)
                if started is not None:
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

    def by_method(self, method: str, part: FoundPartition, filesystem: Filesystem) -> _Started | None:
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

    def menu(self, filesystem: Filesystem, place: str, where: str) -> _Started:
        try:
            menu = read_menu(filesystem.text(place))
        except ValueError as error:
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
        started = _Started(kernel, entry.kernel, entry.arguments)
        if kernel[:4] == b"\xd0\x0d\xfe\xed":
            return self.fit(started, kernel, entry.kernel, "")
        self.add_files(started, filesystem, where, entry.device_tree, entry.overlays, entry.initramfs)
        return started

    def add_files(
        self, started: _Started, filesystem: Filesystem, where: str, tree: str, overlays: Sequence[str], initramfs: str
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
                suggestion(path, filesystem.near(path)),
                "kernel.device-tree" if "DEVICE" in code else "kernel.recipe",
            )
        return filesystem.content(path, _FILE_LIMIT)

    def entries(self, filesystem: Filesystem, found: list[str], where: str) -> _Started:
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
        started = _Started(self.read(filesystem, entry.kernel, "kernel", where), entry.kernel, entry.arguments)
        self.add_files(
            started, filesystem, where, entry.device_tree, entry.overlays, entry.initramfs[-1] if entry.initramfs else ""
        )
        return started

    def efi(self, filesystem: Filesystem, programs: list[str], where: str) -> _Started:
        wanted = ARCHES[self.board.arch].efi_program if self.board.arch else programs[0]
        if wanted not in programs:
            self.stop(
                "BOOT-KERNEL-ARCH",
                f"{where} has {programs[0]}, and firmware of {self.board.arch} looks for {wanted}",
                "it would find no program to start",
                "check the board's `arch`",
                "boot.method",
            )
        kernel = filesystem.content(wanted, _FILE_LIMIT)
        if kernel[:2] != b"MZ":
            self.stop(
                "BOOT-KERNEL-FORM",
                f"{wanted} is no program for firmware: it does not begin with MZ",
                "firmware would refuse it",
                "build the kernel with CONFIG_EFI_STUB=y",
                "kernel.recipe",
            )
        self.tell("boot menu", f"none: firmware starts {where}:{wanted}")
        return _Started(kernel, wanted, "")

    def script(self, filesystem: Filesystem, place: str, where: str) -> _Started:
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
        self.tell("boot script", f"{where}:{place}, {len(text.splitlines())} lines")
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
    ) -> _Started:
        address, _, configuration = words[1].partition("#")
        path = loaded.get(_address(address), "")
        data = self.read(filesystem, path, "kernel", where)
        if data[:4] == b"\xd0\x0d\xfe\xed":
            return self.fit(_Started(data, path, line), data, path, configuration)
        wrapped = self.unwrapped(data, path)
        started = _Started(_plain(wrapped.parts[0], wrapped.compression), path, line, overlays=overlays)
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

    def fit(self, started: _Started, data: bytes, path: str, configuration: str) -> _Started:
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
        kernel = images[chosen.kernel]
        signed = f", signed by {chosen.signed_by}" if chosen.signed_by else ""
        self.tell("image tree", f"{path}, configuration `{wanted}`, all hashes fit{signed}")
        started.kernel, started.kernel_name = _plain(kernel.data, kernel.compression), f"{path}:{kernel.name}"
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

    # Kernel, device tree, command line

    def kernel(self, started: _Started) -> KernelFacts:
        try:
            facts = kernel_facts(started.kernel[: 1 << 16], len(started.kernel))
        except KernelUnfit as error:
            self.stop(
                "BOOT-KERNEL-FORM",
                f"{started.kernel_name} cannot be loaded: {error}",
                "the bootloader would refuse it or jump into nothing",
                "build the form that has a header",
                "kernel.form",
            )
        if self.board.arch and facts.arch != self.board.arch:
            self.stop(
                "BOOT-KERNEL-ARCH",
                f"{started.kernel_name} is a kernel for {facts.arch}, and the board is {self.board.arch}",
                "it cannot run there",
                "check the board's `kernel.recipe` and `toolchain.prefix`",
                "kernel.recipe",
            )
        memory = f", {shown_size(facts.memory)} in memory" if facts.memory else ""
        self.tell("kernel", f"{started.kernel_name}: {facts.form} for {facts.arch}, {shown_size(len(started.kernel))}{memory}")
        return facts

    def device_tree(self, started: _Started) -> DeviceTree | None:
        if not started.device_tree:
            self.tell("device tree", "none named: the bootloader's or firmware's own")
            if started.overlays:
                self.stop(
                    "BOOT-DEVICE-TREE",
                    "overlays are named, and no device tree that they could be laid upon",
                    "bootloaders leave them out then",
                    "name the board's device tree",
                    "kernel.device-tree",
                )
            return None
        try:
            tree = decode_blob(started.device_tree)
        except BlobDamaged as error:
            self.stop(
                "BOOT-DEVICE-TREE",
                f"{started.device_tree_name} is no sound device tree: {error}",
                "the kernel would stop before its first word",
                "compile it anew",
                "kernel.device-tree",
            )
        item = tree.root.properties.get("model")
        model = (text_of(item.value) if item is not None else None) or "no model"
        for name, data in started.overlays:
            try:
                apply_overlay(tree, decode_blob(data), name)
            except (BlobDamaged, YarrikError) as error:
                first = error.troubles[0] if isinstance(error, YarrikError) else None
                self.stop(
                    "BOOT-DEVICE-TREE",
                    f"the overlay {name} cannot be applied: {first.what if first else error}",
                    "the bootloader would start without it, or not at all",
                    first.remedy if first else "compile it anew",
                    "kernel.overlays",
                )
        banks = memory_of(tree)
        if not banks:
            self.warn(
                "BOOT-MEMORY",
                f"{started.device_tree_name} tells of no memory",
                "unless the bootloader fills it in, the kernel stops at once",
                "add a memory node",
                "kernel.device-tree",
            )
        memory = ", ".join(f"{shown_size(bank.size)} at {bank.start:#x}" for bank in banks) or "no memory told"
        laid = f", with {len(started.overlays)} overlay{'s' if len(started.overlays) != 1 else ''}" if started.overlays else ""
        self.tell("device tree", f"{started.device_tree_name}: {model}; {memory}{laid}")
        return tree

    def command_line(self, started: _Started, tree: DeviceTree | None, built_in: str) -> None:
        chosen = tree.root.children.get("chosen") if tree is not None else None
        there = chosen.properties.get("bootargs") if chosen is not None else None
        in_tree = (text_of(there.value) or "") if there is not None else ""
        if not started.line:
            started.line = in_tree or built_in.strip('"').replace('\\"', '"')
            source = "in the device tree" if in_tree else "built into the kernel"
            self.tell("command line", f"{started.line or 'none'}" + (f" ({source})" if started.line else ""))
        else:
            self.tell("command line", started.line)
        words = parsed(started.line)
        for console in words.get("console", []):
            problem = console_problem(tree, console) if tree is not None else None
            if problem is not None:
                self.stop(
                    "BOOT-CONSOLE",
                    f"console={console} is no serial port of the board: {problem}",
                    "the kernel would start, and say nothing",
                    "correct the board's `kernel.console`",
                    "kernel.console",
                )
        if "console" not in words and tree is None:
            self.warn(
                "BOOT-CONSOLE",
                "the command line names no console",
                "the kernel may start without a word",
                "set the board's `kernel.console`",
                "kernel.console",
            )

    def memory(self, started: _Started, tree: DeviceTree | None, facts: KernelFacts) -> None:
        if tree is None or facts.arch == "x86-64":
            return
        sizes = {
            "kernel": max(facts.memory, len(started.kernel)),
            "device tree": len(started.device_tree) + DEVICE_TREE_ROOM,
            "initramfs": len(started.initramfs),
        }
        try:
            found = place_all(facts.arch, sizes, started.given, memory_of(tree), reserved_in(tree), facts.offset)
        except MapUnfit as error:
            self.stop(
                "BOOT-MEMORY",
                "; ".join(error.reasons),
                f"memory would look so:\n{error.drawing}",
                "change the addresses in the board's [memory]",
                "memory",
            )
        self.tell("memory", ", ".join(f"{area.name} {area.start:#x}" for area in found.areas))

    # Root filesystem

    def config_of(self, started: _Started) -> dict[str, str] | None:
        """The kernel's configuration: out of the kernel itself, or from a file beside it; None when it is not known."""
        text = _configuration_in(started.kernel)
        if text is None:
            beside = re.compile(r"(?:/boot)?/[^/]+\.config\Z")
            places = ((one, path) for one in self.filesystems.values() for path in one.paths if beside.match(path))
            text = next((one.text(path) for one, path in places), None)
        if text is None:
            return None
        return dict(re.findall(r"^CONFIG_(\w+)=(.*)$", text, re.MULTILINE))

    def initramfs(self, started: _Started, config: dict[str, str] | None) -> Filesystem:
        data = started.initramfs
        form, option = next((what for mark, what in _PACKED.items() if data[:2] == mark), ("", ""))
        if not form and data[:6] not in (b"070701", b"070702"):
            self.stop(
                "BOOT-INITRAMFS",
                f"{started.initramfs_name} is no archive that the kernel unpacks",
                "it would go on without it, to a root filesystem that nobody named",
                "pack it as cpio (newc)",
                "boot.initramfs",
            )
        if config is not None and (config.get("BLK_DEV_INITRD") != "y" or (option and config.get(option) != "y")):
            missing = "BLK_DEV_INITRD" if config.get("BLK_DEV_INITRD") != "y" else option
            self.stop(
                "BOOT-INITRAMFS",
                f"{started.initramfs_name} is {form or 'plain'} cpio, and the kernel lacks CONFIG_{missing}",
                "it cannot unpack it",
                f"add CONFIG_{missing}=y to a fragment",
                "boot.initramfs",
            )
        try:
            unpacked = _plain(data, form or "none")
            filesystem = Filesystem.of_cpio(unpacked)
        except ValueError as error:
            self.stop(
                "BOOT-INITRAMFS",
                f"{started.initramfs_name} is damaged: {error}",
                "the kernel would not unpack it",
                "write the image anew",
                "boot.initramfs",
            )
        self.tell(
            "initramfs",
            f"{started.initramfs_name}: {form or 'plain'} cpio, {len(filesystem.paths)} paths, {shown_size(len(unpacked))}",
        )
        return filesystem

    def root(self, started: _Started, config: dict[str, str] | None) -> Filesystem:
        words = parsed(started.line)
        wanted = words.get("root", [""])[-1]
        if not wanted:
            self.stop(
                "BOOT-ROOT-NONE",
                "the command line has no root=, and there is no initramfs",
                "the kernel would wait for ever, or panic: it has nothing to mount",
                'give one partition `holds = "root"`',
                "boot.root",
            )
        part = self.root_partition(wanted)
        reader = part.reader
        if reader is None:
            self.stop(
                "BOOT-ROOT-MISSING",
                f"root={wanted} is the partition {part.name}, which holds {part.problem}",
                "the kernel could not mount it",
                'give that partition `holds = "root"`',
                "boot.root",
            )
        form = "fat" if reader.form.startswith("FAT") else reader.form
        told = words.get("rootfstype", [""])[-1]
        if told and form not in {"ext2": ("ext2", "ext4"), "vfat": ("fat",)}.get(told, tuple(told.split(","))):
            self.stop(
                "BOOT-ROOT-MISSING",
                f"rootfstype={told}, and the partition {part.name} holds {form}",
                "the kernel would try nothing else, and panic",
                "correct `rootfstype`",
                "kernel.arguments",
            )
        self.tell("root", f"{wanted}: partition {part.name}, {form}, {shown_size(part.size)}")
        if config is not None:
            self.check_built_in(config, form, wanted)
        else:
            self.tell("drivers", "the kernel's configuration is not known, so what is built in is not checked")
        filesystem = self.filesystem(part)
        assert filesystem is not None
        return filesystem

    def root_partition(self, wanted: str) -> FoundPartition:
        kind, equals, value = wanted.partition("=")
        parts = self.image.partitions
        if equals:
            if kind == "UUID":
                self.stop(
                    "BOOT-ROOT-FORM",
                    f"root={wanted}: the kernel itself does not look for filesystems by identifier",
                    "it would wait for ever",
                    "use root=PARTUUID=…",
                    "boot.root",
                )
            key = {"PARTUUID": lambda part: part.identifier.lower(), "PARTLABEL": lambda part: part.name}.get(kind)
            if key is None:
                self.stop(
                    "BOOT-ROOT-FORM",
                    f"root={wanted} is in no form that the kernel knows",
                    "it would wait for ever",
                    "use root=PARTUUID=…",
                    "boot.root",
                )
            if kind == "PARTLABEL" and self.image.table not in ("gpt", "hybrid"):
                self.stop(
                    "BOOT-ROOT-FORM",
                    f"root={wanted}: partitions have names only in a GPT",
                    "the kernel would wait for ever",
                    "use root=PARTUUID=…",
                    "boot.root",
                )
            sought = value.lower() if kind == "PARTUUID" else value
            found = next((part for part in parts if key(part) == sought), None)
            if found is None:
                self.stop(
                    "BOOT-ROOT-MISSING",
                    f"root={wanted}, and no partition has this {kind}",
                    "the kernel would wait for it for ever",
                    suggestion(value, [key(part) for part in parts]),
                    "boot.root",
                )
            return found
        device = wanted.removeprefix("/dev/")
        match = re.match(r"(?:(?:sd|vd|xvd|hd)[a-z]|(?:mmcblk\d+|nvme\d+n\d+|mtdblock\d+|nbd\d+|loop\d+)p)(\d+)\Z", device)
        if match is None:
            whole = re.match(r"(?:(?:sd|vd|xvd|hd)[a-z]+|mmcblk\d+|nvme\d+n\d+|mtdblock\d+)\Z", device)
            if whole and self.image.table == "none":
                return parts[0]
            hint = re.sub(r"(mmcblk\d+|nvme\d+n\d+)(\d+)\Z", r"\1p\2", device)
            hint = re.sub(r"((?:sd|vd)[a-z])p(\d+)\Z", r"\1\2", hint)
            self.stop(
                "BOOT-ROOT-FORM",
                f"root={wanted} is no partition's name",
                "the kernel would wait for it for ever",
                f"did you mean `/dev/{hint}`?" if hint != device else "names are like mmcblk0p2, sda2, nvme0n1p2",
                "boot.root",
            )
        found = next((part for part in parts if part.number == int(match.group(1))), None)
        if found is None:
            self.stop(
                "BOOT-ROOT-MISSING",
                f"root={wanted}, and the image has no partition {match.group(1)}",
                "the kernel would wait for it for ever",
                f"the image has {len(parts)} partitions",
                "boot.root",
            )
        return found

    def check_built_in(self, config: dict[str, str], form: str, wanted: str) -> None:
        needs: list[tuple[str, Iterable[str]]] = [(f"the filesystem {form}", _FILESYSTEM_OPTIONS.get(form, ()))]
        table = _TABLE_OPTIONS.get(self.image.table)
        if table:
            needs.append((f"the partition table {self.image.table}", (table,)))
        device = wanted.removeprefix("/dev/")
        options = next((names for begin, names in _DISK_OPTIONS.items() if device.startswith(begin)), None)
        needs.append(("the disk's driver", options or [name for names in _DISK_OPTIONS.values() for name in names]))
        for what, names in needs:
            names = list(names)
            if names and not any(config.get(name) == "y" for name in names):
                module = next((name for name in names if config.get(name) == "m"), None)
                how = (
                    f"CONFIG_{module} is a module"
                    if module
                    else "it lacks " + " and ".join(f"CONFIG_{name}" for name in names[:4])
                )
                self.stop(
                    "BOOT-KERNEL-LACKS",
                    f"the kernel cannot reach its root: for {what}, {how}",
                    "modules lie on the root filesystem that it would need them for, and there is no initramfs",
                    f"add CONFIG_{module or names[0]}=y to a fragment",
                    "kernel.recipe",
                )
        self.tell("drivers", "the kernel has filesystem, partition table and disk built in")

    def init_path(self, started: _Started, root: Filesystem) -> str:
        words = parsed(started.line)
        if started.initramfs:
            return words.get("rdinit", ["/init"])[-1]
        named = words.get("init", [""])[-1]
        if named:
            return named
        return next((path for path in DEFAULT_INITS if root.follow(path) is not None), DEFAULT_INITS[0])


def _plain(data: bytes, compression: str) -> bytes:
    """Unpacked data. Raises ValueError for damage and for more than a board's memory could hold."""
    try:
        if compression == "gzip":
            import zlib

            unpacker = zlib.decompressobj(31)
            data = unpacker.decompress(data, _FILE_LIMIT)
        elif compression == "xz":
            data = lzma.LZMADecompressor(memlimit=256 << 20).decompress(data, _FILE_LIMIT)
        elif compression == "zstd":
            data = zstandard.ZstdDecompressor(max_window_size=128 << 20).decompressobj().decompress(data)
        elif compression != "none":
            raise ValueError(f"{compression} is not unpacked here")
    except (OSError, EOFError, lzma.LZMAError, zstandard.ZstdError, gzip.zlib.error) as error:  # type: ignore[attr-defined]
        raise ValueError(f"its {compression} data are damaged") from error
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


_CONFIG_BEGIN, _CONFIG_END = b"IKCFG_ST", b"IKCFG_ED"


def _configuration_in(kernel: bytes) -> str | None:
    """The configuration that a kernel may carry (CONFIG_IKCONFIG)."""
    begin = kernel.find(_CONFIG_BEGIN + b"\x1f\x8b")
    end = kernel.find(_CONFIG_END, begin)
    if begin < 0 or end < 0:
        return None
    try:
        return _plain(kernel[begin + len(_CONFIG_BEGIN) : end], "gzip").decode("utf-8", "replace")
    except ValueError:
        return None
