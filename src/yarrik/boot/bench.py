"""The bench board: reads a finished image as hardware would, from the loader to init, and tells how far it gets.

Nothing is started. Each stage looks at what the stage before it would have handed on; what cannot work ends the story with
a stop code, what is likely wrong is told at its end.
"""

from __future__ import annotations

import re
import threading
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import BinaryIO, NoReturn

import msgspec
from msgspec.structs import replace

from yarrik.boot.command_lines import DEFAULT_INITS, parsed
from yarrik.boot.console import console_problem
from yarrik.boot.kernel_image import KernelFacts, KernelUnfit, kernel_facts
from yarrik.boot.loaders import LoaderFacts, loader_facts
from yarrik.boot.memory_map import DEVICE_TREE_ROOM, MapUnfit, memory_of, place_all, reserved_in
from yarrik.boot.method import METHODS
from yarrik.boot.reading import configuration_in, firmware_settings, unpacked
from yarrik.boot.root_check import RootChecks
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import FILE_LIMIT, BenchBoard, BenchResult, Started, Stop, Story
from yarrik.devicetree import BlobDamaged, DeviceTree, apply_overlay, decode_blob, text_of
from yarrik.disk import FORMS, FoundPartition, OpenedImage, Reader, hashed, read_verity
from yarrik.errors import Damaged, Place, Trouble, Unfit, YarrikError, listed, suggestion
from yarrik.patterns import lazy_pattern
from yarrik.units import counted, shown_size

#: How the shelf's root-finder, a first program of an initramfs, is known; and programs of others that it runs.
_FINDER = b"root-finder 1: "
_MODPROBE = ("/sbin/modprobe", "/usr/sbin/modprobe")
_HELPERS = (*_MODPROBE, "/sbin/e2fsck", "/usr/sbin/e2fsck")
#: Disks, and the options that a kernel needs built in to have its root there.
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


class BootFiles(msgspec.Struct, frozen=True):
    """What the bootloader hands on, the root filesystem that the command line names, and the init in it."""

    started: Started
    root: Reader | None
    init: str


def try_image(file: BinaryIO, image: OpenedImage, name: str, board: BenchBoard | None = None) -> BenchResult:
    """Tries an image; `file` are its bytes, already unpacked where it was compressed. Never raises for what is in it."""
    known = board or BenchBoard()
    story = Story(file, image.named(known.partitions), name, known)
    try:
        _run(story)
    except Stop as stop:
        story.result.stop = stop.trouble
    except (Damaged, Unfit, RecursionError) as error:
        story.result.stop = Trouble(
            "BOOT-DAMAGED",
            f"{Path(name).name} cannot be read further: {error}",
            Place(Path(name)),
            "the board would find the same damage",
            "write the image again",
        )
    return story.result


def boot_files(file: BinaryIO, image: OpenedImage, name: str, board: BenchBoard | None = None) -> BootFiles:
    """What an image starts, out of its boot files. Raises YarrikError for one that starts nothing."""
    known = board or BenchBoard()
    story = Story(file, image.named(known.partitions), name, known)
    try:
        started = _boot_files(story)
        wanted = parsed(started.line).get("root", [""])[-1]
        created = parsed(started.line).get("dm-mod.create", [""])[-1]
        if wanted == "/dev/dm-0" and created:
            wanted = _verified(story, created, None)
        part = _root_partition(story, wanted, "boot.root", by_name=True) if wanted else None
    except Stop as stop:
        raise YarrikError(stop.trouble, "work") from stop
    filesystem = story.filesystem(part) if part is not None else None
    init = _init_path(started, filesystem) if filesystem is not None else ""
    return BootFiles(started, filesystem.reader if filesystem is not None else None, init)


def try_loaders(file: BinaryIO, image: OpenedImage, name: str, board: BenchBoard) -> BenchResult:
    """Looks at the loaders alone, on a disk that nothing else is started from."""
    story = Story(file, image, name, board)
    try:
        _loader(story)
    except Stop as stop:
        story.result.stop = stop.trouble
    return story.result


def _run(story: Story) -> None:
    _loader(story)
    loaders = _loaders(story)
    _table(story)
    _environment_places(story)
    started = _boot_files(story)
    _chain(story, started, loaders)
    facts = _kernel(story, started)
    tree = _device_tree(story, started)
    config = _config_of(story, started)
    carried = (config or {}).get("INITRAMFS_SOURCE", '""').strip('"')
    if carried and not story.board.carried:
        story.grant(
            "initramfs",
            "what the kernel's own initramfs does before the root filesystem",
            f"it is built in, from {carried}",
        )
    _check_boards(story, loaders, tree)
    built_in = next((facts.environment["bootargs"] for facts in loaders.values() if "bootargs" in facts.environment), "")
    _command_line(story, started, tree, (config or {}).get("CMDLINE", ""), built_in)
    _memory(story, started, tree, facts)
    in_memory = bool(started.initramfs or story.board.carried)
    if started.initramfs:
        root = _initramfs(story, started, config)
    elif story.board.carried:
        root = Filesystem.of_cpio(story.board.carried)
        story.tell("initramfs", f"in the kernel: {len(root.paths)} paths, {shown_size(len(story.board.carried))}")
    else:
        root = _root(story, started, config, carried=bool(carried))
    checks = RootChecks(root, facts.arch, config, tree, story.tell, story.stop, story.warn)
    checks.init(_init_path(started, root, in_memory=in_memory))
    if in_memory and _is_finder(started, root):
        initramfs = root
        _finder(story, initramfs)
        root = _root(story, started, config, initramfs)
        _fallbacks(story, started)
        checks = RootChecks(root, facts.arch, config, tree, story.tell, story.stop, story.warn)
        checks.init(_init_path(started, root))
        _needed(story, started, root)
    _other_slots(story, started, config, facts, tree)
    checks.services()
    checks.logins()
    checks.links()
    checks.modules(started.kernel)
    checks.devices()
    granted = story.result.granted
    end = "no problem found; not followed: " + listed([one.what for one in granted]) if granted else "would reach init"
    story.tell("end", end, followed=not granted)


def _loader(story: Story) -> None:
    sound: dict[str, int] = {}
    for blob in story.board.blobs:
        wanted = blob.path.read_bytes()
        if not wanted:
            story.stop(
                "BOOT-LOADER",
                f"the loader {blob.name} is empty",
                "the processor's own boot code would find nothing at its offset",
                "provide the file, or take the blob out",
                "disk",
            )
        story.file.seek(blob.offset)
        found = story.file.read(len(wanted))
        if found[440:512] != wanted[440:512] and blob.offset == 0 and story.image.table in ("mbr", "hybrid"):
            found = found[:440] + wanted[440:512] + found[512:]  # the table lies in the loader's own sector
        if found != wanted and blob.name in sound:
            story.stop(
                "BOOT-LOADER",
                f"the copies of the loader {blob.name} differ: that at {sound[blob.name]:#x} is as it was built, that at "
                f"{blob.offset:#x} is not",
                "the board would run another loader when it falls back on that copy",
                "write both again",
                "disk",
            )
        if found != wanted:
            story.stop(
                "BOOT-LOADER",
                f"the loader {blob.name} is not at its offset {blob.offset:#x}",
                "the processor's own boot code would find something else there",
                "write the image again",
                "disk",
            )
        if blob.room and len(wanted) > blob.room:
            story.stop(
                "BOOT-LOADER",
                f"the loader {blob.name} has {shown_size(len(wanted))}, and its room is {shown_size(blob.room)}",
                "its end would be overwritten",
                "make room, or a smaller loader",
                "disk",
            )
        for part in story.image.partitions:
            if part.start < blob.offset + len(wanted) and blob.offset < part.start + part.size and story.image.table != "none":
                story.stop(
                    "BOOT-LOADER",
                    f"the loader {blob.name} and the {part.title} share bytes",
                    "one would destroy the other",
                    "move one of them",
                    "disk",
                )
        sound[blob.name] = blob.offset
        story.tell("loader", f"{blob.name} at {blob.offset:#x}, {shown_size(len(wanted))}")


def _table(story: Story) -> None:
    if story.image.problem:
        story.stop(
            "BOOT-TABLE",
            f"the partition table is damaged: {story.image.problem}",
            "neither bootloader nor kernel would find a partition",
            "write the image again",
        )
    if story.image.table == "none" and story.image.partitions[0].reader is None:
        story.stop(
            "BOOT-TABLE",
            f"{Path(story.name).name} has neither a partition table nor a filesystem",
            "the board would find nothing in it",
            "name the image of a whole disk",
        )
    if story.image.backup_problem:
        story.warn(
            "BOOT-TABLE-BACKUP",
            f"the partition table is sound, and {story.image.backup_problem}",
            "the image may be cut off, and tools that find one table of two ask or refuse",
            "write the image again",
        )
    names = ", ".join(part.name for part in story.image.partitions if part.name) or "one filesystem, no table"
    story.tell("table", f"{story.image.table}: {names}" if story.image.table != "none" else names)


def _kernel(story: Story, started: Started) -> KernelFacts:
    try:
        facts = kernel_facts(started.kernel[: 1 << 16], len(started.kernel))
    except KernelUnfit as error:
        story.stop(
            "BOOT-KERNEL-FORM",
            f"{started.kernel_name} cannot be loaded: {error}",
            "the bootloader would refuse it or jump into nothing",
            "build the form that has a header",
            "kernel.form",
        )
    if facts.form.endswith(".gz") and not started.kernel_name.endswith((".gz", ".gzip")):
        story.stop(
            "BOOT-KERNEL-FORM",
            f"{started.kernel_name} is gzip-compressed, and its name says that it is not",
            "a bootloader that trusts the name jumps into compressed data",
            f"place the plain kernel, or call it {started.kernel_name}.gz where the bootloader unpacks it",
            "kernel.form",
        )
    if story.board.arch and facts.arch != story.board.arch:
        story.stop(
            "BOOT-KERNEL-ARCH",
            f"{started.kernel_name} is a kernel for {facts.arch}, and the board is {story.board.arch}",
            "it cannot run there",
            "check the board's `kernel.recipe` and `toolchain.prefix`",
            "kernel.recipe",
        )
    memory = f", {shown_size(facts.memory)} in memory" if facts.memory else ""
    story.tell("kernel", f"{started.kernel_name}: {facts.form} for {facts.arch}, {shown_size(len(started.kernel))}{memory}")
    return facts


def _device_tree(story: Story, started: Started) -> DeviceTree | None:
    if not started.device_tree:
        story.grant("device tree", "the device tree of bootloader or firmware", "the boot files name none")
        if started.overlays:
            story.stop(
                "BOOT-DEVICE-TREE",
                "overlays are named, and no device tree that they could be applied to",
                "bootloaders leave them out then",
                "name the board's device tree",
                "kernel.device-tree",
            )
        return None
    try:
        tree = decode_blob(started.device_tree)
    except BlobDamaged as error:
        story.stop(
            "BOOT-DEVICE-TREE",
            f"{started.device_tree_name} is not a valid device tree: {error}",
            "the kernel would stop before its first message",
            "compile it again",
            "kernel.device-tree",
        )
    item = tree.root.properties.get("model")
    model = (text_of(item.value) if item is not None else None) or "no model"
    for name, data in started.overlays:
        try:
            apply_overlay(tree, decode_blob(data), name)
        except (BlobDamaged, YarrikError) as error:
            first = error.troubles[0] if isinstance(error, YarrikError) else None
            story.stop(
                "BOOT-DEVICE-TREE",
                f"the overlay {name} cannot be applied: {first.what if first else error}",
                "the bootloader would start without it, or not at all",
                first.remedy if first else "compile it again",
                "kernel.overlays",
            )
    banks = memory_of(tree)
    if not banks:
        story.warn(
            "BOOT-MEMORY",
            f"{started.device_tree_name} describes no memory",
            "unless the bootloader fills it in, the kernel stops at once",
            "add a memory node",
            "kernel.device-tree",
        )
    memory = ", ".join(f"{shown_size(bank.size)} at {bank.start:#x}" for bank in banks) or "memory unknown"
    story.tell("device tree", f"{started.device_tree_name}: {model}; {memory}")
    if started.overlays:
        count = counted(len(started.overlays), "overlay")
        if started.applies_overlays:
            story.tell("device tree", f"{count} fit, as the firmware applies them")
        else:
            _overlay_support(story, count)
    return tree


def _overlay_support(story: Story, count: str) -> None:
    """Whether the bootloader applies overlays, by its configuration where that is known."""
    options = story.board.options
    if not options:
        story.grant("device tree", f"that the bootloader applies {count}", "not all do, or have an address for them")
    elif options.get("OF_LIBFDT_OVERLAY") != "y":
        story.stop(
            "BOOT-DEVICE-TREE",
            f"the bootloader is to apply {count}, and is built without support for overlays",
            "it would start the kernel with the plain device tree",
            "add CONFIG_OF_LIBFDT_OVERLAY=y to the bootloader's fragments, or let the build apply them",
            "boot.method",
        )
    else:
        story.tell("device tree", f"{count} fit; the bootloader is built to apply them")


def _loaders(story: Story) -> dict[str, LoaderFacts]:
    """What each loader says of itself. Stops at one for another architecture."""
    found: dict[str, LoaderFacts] = {}
    contents = {blob.name: blob.path.read_bytes() for blob in story.board.blobs} | dict(story.board.loaders)
    for name, data in contents.items():
        facts = found[name] = loader_facts(data)
        if name in story.board.loaders:
            story.tell("loader", f"{name}, {shown_size(len(data))}, which the emulator starts")
        if facts.arch and story.board.arch and facts.arch != story.board.arch:
            story.stop(
                "BOOT-LOADER",
                f"the loader {name} is for {facts.arch}, and the board is {story.board.arch}",
                "the processor would stop at its first instruction",
                "name the loader of this board",
                "disk",
            )
    return found


def _check_boards(story: Story, loaders: Mapping[str, LoaderFacts], tree: DeviceTree | None) -> None:
    """Whether the loaders' own device trees are for the board of the kernel's."""
    item = tree.root.properties.get("compatible") if tree is not None else None
    board = item.value.removesuffix(b"\0").decode("ascii", "replace").split("\0") if item is not None else []
    for name, facts in loaders.items():
        if board and facts.compatible and not set(board) & set(facts.compatible):
            story.stop(
                "BOOT-LOADER",
                f"the loader {name} is for {listed(facts.compatible)}, and the kernel's device tree for {listed(board)}",
                "it would set up other hardware than the board has",
                "name the loader of this board, or correct `compatible` in one of the device trees",
                "disk",
            )


def _environment_places(story: Story) -> None:
    """Whether the bootloader's environment is where and as the bootloader expects it, and in nobody's way."""
    options = story.board.options
    size, redundant = _number(options.get("ENV_SIZE")), options.get("SYS_REDUNDAND_ENVIRONMENT") == "y"
    own = story.board.environment
    if own is not None and size and own[0] != size:
        story.stop(
            "BOOT-ENVIRONMENT-PLACE",
            f"the block of the environment has {shown_size(own[0])}, and the bootloader reads {shown_size(size)}",
            "its checksum would not fit, and the bootloader would take its built-in settings",
            f'set `size = "{shown_size(size)}"`, or CONFIG_ENV_SIZE={own[0]:#x}',
            "boot.environment",
        )
    if own is not None and size and own[1] != redundant:
        story.stop(
            "BOOT-ENVIRONMENT-PLACE",
            f"the image has {'two blocks' if own[1] else 'one block'} of the environment, and the bootloader is built for "
            f"{'two' if redundant else 'one'}",
            "a block of the other form does not read",
            f"set `redundant = {'true' if redundant else 'false'}`, or change CONFIG_SYS_REDUNDAND_ENVIRONMENT",
            "boot.environment",
        )
    if options.get("ENV_IS_IN_MMC") != "y" or not size:
        return
    starts = [_number(options.get("ENV_OFFSET")), *([_number(options.get("ENV_OFFSET_REDUND"))] if redundant else [])]
    for start in starts:
        for part in story.image.partitions:
            if part.start < start + size and start < part.start + part.size and story.image.table != "none":
                story.stop(
                    "BOOT-ENVIRONMENT-PLACE",
                    f"the bootloader keeps its environment at {start:#x}, inside the {part.title}",
                    "saving it would destroy the filesystem there",
                    "move the partition (`align`), or change CONFIG_ENV_OFFSET",
                    "boot.environment",
                )
    story.tell("environment", f"{listed([f'{start:#x}' for start in starts])}, {shown_size(size)}, outside of all partitions")


def _number(text: str | None) -> int:
    try:
        return int(text or "0", 0)
    except ValueError:
        return 0


def _chain(story: Story, started: Started, loaders: Mapping[str, LoaderFacts]) -> None:
    """Whether each link between the loader's key and the kernel is signed, for loaders that have one."""
    keys = [key for facts in loaders.values() for key in facts.keys]
    if not keys and not story.board.control:
        return
    if not started.signed:
        story.stop(
            "BOOT-CHAIN",
            f"the bootloader has {listed(keys) or 'a key'}, and {started.kernel_name} is not in an image tree that is signed",
            "anyone who can write the card can replace it, and the bootloader starts it all the same",
            'set `method = "fit"` with the key that signs as `boot.key`',
            "boot.method",
        )
    if started.script:
        story.warn(
            "BOOT-CHAIN-SCRIPT",
            f"the image tree is signed, and the script {started.script} that starts it is not",
            "anyone who can write the card can let the script start anything",
            "build the boot command into the bootloader ([[bootloader]] environment) and set `script = false`",
            "boot.method",
        )
    else:
        story.tell("chain", "from the bootloader's built-in command to the kernel, each link is signed")
    if keys:
        story.grant("chain", "that nothing but this bootloader is started", "the processor's own settings decide it")


def _command_line(story: Story, started: Started, tree: DeviceTree | None, built_in: str, in_loader: str) -> None:
    chosen = tree.root.children.get("chosen") if tree is not None else None
    there = chosen.properties.get("bootargs") if chosen is not None else None
    in_tree = (text_of(there.value) or "") if there is not None else ""
    if not started.line:
        started.line = in_loader or in_tree or built_in.strip('"').replace('\\"', '"')
        source = "built into the bootloader" if in_loader else "in the device tree" if in_tree else "built into the kernel"
        story.tell("command line", f"{started.line or 'none'}" + (f" ({source})" if started.line else ""))
    else:
        story.tell("command line", started.line)
    words = parsed(started.line)
    for name in ("root", "loglevel", "init", "rootfstype"):
        values = words.get(name, [])
        if len(set(values)) > 1:
            story.warn(
                "BOOT-LINE-TWICE",
                f"the command line has {name}= twice: {' and '.join(values)}",
                f"the kernel takes the last one, {name}={values[-1]}",
                f"take {name}= out of the board's `kernel.arguments`, or set it where it belongs",
                "kernel.arguments",
            )
    for console in words.get("console", []):
        problem = console_problem(tree, console) if tree is not None else None
        if problem is not None:
            story.stop(
                "BOOT-CONSOLE",
                f"console={console} is not a serial port of the board: {problem}",
                "the kernel would start without any output",
                "correct the board's `kernel.console`, or `kernel.arguments` if it is there",
                story.key_of(f"console={console}", "kernel.console"),
            )
    if "console" not in words and tree is None:
        story.warn(
            "BOOT-CONSOLE",
            "the command line names no console",
            "the kernel may start without any output",
            "set the board's `kernel.console`",
            "kernel.console",
        )


def _memory(story: Story, started: Started, tree: DeviceTree | None, facts: KernelFacts) -> None:
    if tree is None or facts.arch == "x86-64":
        why = (
            "firmware tells the kernel where it is" if tree is not None or facts.arch == "x86-64" else "no device tree is known"
        )
        story.grant("memory", "that all of it finds room in memory", why)
        return
    sizes = {
        "kernel": max(facts.memory, len(started.kernel)),
        "device tree": len(started.device_tree) + DEVICE_TREE_ROOM,
        "initramfs": len(started.initramfs),
    }
    try:
        given = {**started.given, **story.board.bundle}
        found = place_all(facts.arch, sizes, given, memory_of(tree), reserved_in(tree), facts.offset)
    except MapUnfit as error:
        story.stop(
            "BOOT-MEMORY",
            "; ".join(error.reasons),
            f"memory would look like this:\n{error.drawing}",
            "change the addresses in the board's [memory]",
            "memory",
        )
    whose = " (as in the memory bundle)" if story.board.bundle else ""
    story.tell("memory", ", ".join(f"{area.name} {area.start:#x}" for area in found.areas) + whose)


def _config_of(story: Story, started: Started) -> dict[str, str] | None:
    """The kernel's configuration: out of the kernel itself, or from a file beside it; None when it is not known."""
    text = configuration_in(started.kernel)
    if text is None:
        beside = re.compile(r"(?:/boot)?/(?:[^/]+\.config|config-[^/]+)\Z")
        places = ((one, path) for one in story.filesystems.values() for path in one.paths if beside.match(path))
        text = next((one.text(path) for one, path in places), None)
    if text is None:
        return None
    return dict(re.findall(r"^CONFIG_(\w+)=(.*)$", text, re.MULTILINE))


def _initramfs(story: Story, started: Started, config: dict[str, str] | None) -> Filesystem:
    data = started.initramfs
    form, option = next((what for mark, what in _PACKED.items() if data[:2] == mark), ("", ""))
    if not form and data[:6] not in (b"070701", b"070702"):
        story.stop(
            "BOOT-INITRAMFS",
            f"{started.initramfs_name} is not an archive that the kernel unpacks",
            "it would continue without it, and no root filesystem is named",
            "pack it as cpio (newc)",
            "boot.initramfs",
        )
    if config is not None and (config.get("BLK_DEV_INITRD") != "y" or (option and config.get(option) != "y")):
        missing = "BLK_DEV_INITRD" if config.get("BLK_DEV_INITRD") != "y" else option
        story.stop(
            "BOOT-INITRAMFS",
            f"{started.initramfs_name} is {form or 'plain'} cpio, and the kernel lacks CONFIG_{missing}",
            "it cannot unpack it",
            f"add CONFIG_{missing}=y to a fragment",
            "boot.initramfs",
        )
    try:
        plain = unpacked(data, form or "none")
        filesystem = Filesystem.of_cpio(plain)
    except Damaged as error:
        story.stop(
            "BOOT-INITRAMFS",
            f"{started.initramfs_name} is damaged: {error}",
            "the kernel would not unpack it",
            "write the image again",
            "boot.initramfs",
        )
    story.tell(
        "initramfs",
        f"{started.initramfs_name}: {form or 'plain'} cpio, {len(filesystem.paths)} paths, {shown_size(len(plain))}",
    )
    return filesystem


def _is_finder(started: Started, initramfs: Filesystem) -> bool:
    """Whether the initramfs begins with the shelf's program that looks for the root filesystem, as it says of itself."""
    return _FINDER in initramfs.content(_init_path(started, initramfs, in_memory=True), FILE_LIMIT)


def _finder(story: Story, initramfs: Filesystem) -> None:
    helped = [path for path in _HELPERS if initramfs.has(path)]
    story.tell("finder", "looks for the root filesystem" + (f", with {listed(helped)}" if helped else ""))


def _other_slots(
    story: Story, started: Started, config: dict[str, str] | None, facts: KernelFacts, tree: DeviceTree | None
) -> None:
    """Further entries of the menu that start another root filesystem: each is followed to its init as well. Where a script
    chooses, one that is not whole is only likely wrong: the script goes on to the next, and an update writes it anew."""
    for name, further in started.further:
        story.tell("slot", f"`{name}`")
        granted = len(story.result.granted)
        try:
            if isinstance(further, Trouble):
                raise Stop(further)
            _kernel(story, further)
            _device_tree(story, further)
            root = _root(story, further, config, carried=bool(further.initramfs or story.board.carried))
            RootChecks(root, facts.arch, config, tree, story.tell, story.stop, story.warn).init(_init_path(further, root))
        except (Stop, Damaged, Unfit) as error:
            why = error.trouble.what if isinstance(error, Stop) else str(error)
            what = f"the slot `{name}` would not start: {why}"
            story.warn("BOOT-SLOT", what, "the script would go on to another slot", "write it again", "boot.slot")
            story.tell("slot", f"`{name}` would not start: {why}")
        del story.result.granted[granted:]
    seen = {parsed(started.line).get("root", [""])[-1]}
    for name, line in started.others:
        wanted = parsed(line).get("root", [""])[-1]
        if not wanted or wanted in seen:
            continue
        seen.add(wanted)
        story.tell("slot", f"entry `{name}`")
        other = replace(started, line=line)
        granted = len(story.result.granted)
        root = _root(story, other, config, carried=bool(started.initramfs or story.board.carried))
        del story.result.granted[granted:]  # what was taken for granted is that already
        RootChecks(root, facts.arch, config, tree, story.tell, story.stop, story.warn).init(_init_path(other, root))


def _fallbacks(story: Story, started: Started) -> None:
    """What the finder would take in place of the root filesystem is there as well."""
    words = parsed(started.line)
    for wanted in words.get("root-finder.fallback", []):
        part = _root_partition(story, wanted, story.key_of(f"root-finder.fallback={wanted}", "kernel.arguments"), by_name=True)
        story.tell("fallback", f"{wanted}: {part.title}")


def _needed(story: Story, started: Started, root: Filesystem) -> None:
    """What has to be there for the finder to start a root filesystem."""
    for path in parsed(started.line).get("root-finder.need", []):
        if root.follow(path) is None:
            story.stop(
                "BOOT-ROOT-MISSING",
                f"root-finder.need={path}, and the root filesystem has no {path}",
                "the finder would take it for damaged",
                "correct the path, or add the package that brings it",
                story.key_of(f"root-finder.need={path}", "kernel.arguments"),
            )


def _root(
    story: Story,
    started: Started,
    config: dict[str, str] | None,
    initramfs: Filesystem | None = None,
    carried: bool = False,
) -> Filesystem:
    """The root filesystem that the kernel mounts, or a program of the `initramfs`, or of one that the kernel carries."""
    words = parsed(started.line)
    wanted = words.get("root", [""])[-1]
    if not wanted:
        story.stop(
            "BOOT-ROOT-NONE",
            "the command line has no root=, and " + ("the initramfs looks for it" if initramfs else "there is no initramfs"),
            "the kernel would wait for ever, or panic: it has nothing to mount",
            'give one partition `holds = "root"`',
            "boot.root",
        )
    key = story.key_of(f"root={wanted}", "boot.root")
    verified = "dm-mod.create" in words and wanted == "/dev/dm-0"
    if verified:
        wanted = _verified(story, words["dm-mod.create"][-1], config)
    part = _root_partition(story, wanted, key, by_name=initramfs is not None or carried)
    if verified:
        _check_tree(story, words["dm-mod.create"][-1], part)
    reader = part.reader
    if reader is None:
        story.stop(
            "BOOT-ROOT-MISSING",
            f"root={wanted} is the {part.title}, which holds {part.problem}",
            "the kernel could not mount it",
            'give that partition `holds = "root"`',
            "boot.root",
        )
    if not wanted.startswith(("PARTUUID=", "PARTLABEL=", "UUID=", "LABEL=")):
        story.grant(
            "root",
            f"that the kernel calls the disk {wanted.removeprefix('/dev/')}",
            "names of disks follow from drivers and slots",
        )
    form = "fat" if reader.form.startswith("FAT") else reader.form
    told = words.get("rootfstype", [""])[-1]
    if told and form not in {"ext2": ("ext2", "ext4"), "vfat": ("fat",)}.get(told, tuple(told.split(","))):
        story.stop(
            "BOOT-ROOT-MISSING",
            f"rootfstype={told}, and the {part.title} holds {form}",
            "the kernel would try nothing else, and panic",
            "correct `rootfstype`",
            "kernel.arguments",
        )
    story.tell("root", f"{wanted}: {part.title}, {form}, {shown_size(part.size)}")
    if config is not None:
        _check_built_in(story, config, form, wanted, initramfs)
    else:
        story.grant(
            "drivers",
            "that the kernel has filesystem, partition table and disk built in",
            "its configuration is not in the image",
        )
    filesystem = story.filesystem(part)
    assert filesystem is not None
    return filesystem


_MAPPED = lazy_pattern(r"root,,,ro,0 (\d{1,15}) verity 1 (\S+) (\S+) (.*)")


def _verified(story: Story, created: str, config: dict[str, str] | None) -> str:
    """The partition that the kernel's own device-mapper verifies, as the command line names it."""
    match = _MAPPED.fullmatch(created.strip())
    if match is None or match[2] != match[3]:
        story.stop(
            "BOOT-ROOT-MISSING",
            f"dm-mod.create={created.strip()[:60]} makes no verified device of one partition",
            "the kernel would wait for its root filesystem for ever",
            "write the slot again: its last sector says by what it is verified",
            "boot.slot",
        )
    lacking = [name for name in ("BLK_DEV_DM", "DM_INIT", "DM_VERITY", "CRYPTO_SHA256") if config and config.get(name) != "y"]
    if lacking:
        story.stop(
            "BOOT-KERNEL-LACKS",
            f"the root filesystem is verified, and the kernel lacks {listed([f'CONFIG_{name}' for name in lacking])}",
            "it would wait for its root filesystem for ever",
            f"add CONFIG_{lacking[0]}=y to a fragment",
            "kernel.recipe",
        )
    return match[2]


def _check_tree(story: Story, created: str, part: FoundPartition) -> None:
    """Holds all blocks of a verified partition against its tree, as the kernel does when it reads them."""
    match = _MAPPED.fullmatch(created.strip())
    assert match is not None

    def wrong(what: str) -> NoReturn:
        story.stop("BOOT-VERITY", f"the {part.title} is verified, and {what}", "the kernel would refuse to read from it",
                   "write it again", "boot.slot")  # fmt: skip

    try:
        verity = read_verity(match[4])
        if int(match[1]) != verity.blocks * 8 or verity.blocks * 4096 >= part.size:
            wrong("its table names more blocks than it has")
        lock = threading.Lock()

        def read(at: int, length: int) -> bytes:
            with lock:
                story.file.seek(part.start + at)
                return story.file.read(length)

        found, tree = hashed(read, verity.blocks, verity.salt)
        if found.root != verity.root:
            wrong("it holds something else than was written")
        if read(verity.blocks * 4096, len(tree)) != tree:
            wrong("its tree of digests is damaged")
    except Damaged as error:
        wrong(str(error))
    story.tell("verified", f"{counted(verity.blocks, 'block')} of the {part.title}, root {verity.root.hex()[:16]}…")


def _root_partition(story: Story, wanted: str, key_: str, by_name: bool = False) -> FoundPartition:
    """The partition that root= means. A program of an initramfs also knows filesystems `by_name`: UUID= and LABEL=."""
    kind, equals, value = wanted.partition("=")
    parts = (*story.image.partitions, *story.board.more)
    if equals:
        if kind in ("UUID", "LABEL") and not by_name:
            story.stop(
                "BOOT-ROOT-FORM",
                f"root={wanted}: the kernel itself does not look for filesystems by identifier",
                "it would wait for ever",
                "use root=PARTUUID=…",
                key_,
            )
        known: dict[str, Callable[[FoundPartition], str]] = {
            "PARTUUID": lambda part: part.identifier.lower(),
            "PARTLABEL": lambda part: part.name,
            "UUID": lambda part: part.reader.uuid if part.reader is not None else "",
            "LABEL": lambda part: part.reader.label if part.reader is not None else "",
        }
        key = known.get(kind)
        if key is None:
            story.stop(
                "BOOT-ROOT-FORM",
                f"root={wanted} is in no form that the kernel knows",
                "it would wait for ever",
                "use root=PARTUUID=…",
                key_,
            )
        if kind == "PARTLABEL" and story.image.table not in ("gpt", "hybrid"):
            story.stop(
                "BOOT-ROOT-FORM",
                f"root={wanted}: partitions have names only in a GPT",
                "the kernel would wait for ever",
                "use root=PARTUUID=…",
                key_,
            )
        sought = value.lower() if kind in ("PARTUUID", "UUID") else value
        fitting = [part for part in parts if sought and key(part) == sought]
        found = next(iter(fitting), None)
        if len(fitting) > 1 and kind != "PARTUUID":
            story.stop(
                "BOOT-ROOT-FORM",
                f"root={wanted} is {listed([part.title for part in fitting], 'and')}",
                "the first that shows up would be started",
                "use root=PARTUUID=…",
                key_,
            )
        if found is None:
            story.stop(
                "BOOT-ROOT-MISSING",
                f"root={wanted}, and no partition has this {kind}",
                "the kernel would wait for it for ever",
                suggestion(value, [key(part) for part in parts]),
                key_,
            )
        return found
    device = wanted.removeprefix("/dev/")
    numbers = r"(?:mmcblk#|nvme#n#|mtdblock#|nbd#|loop#)".replace("#", r"(?:0|[1-9]\d*)")
    match = re.match(rf"(?:(?:sd|vd|xvd|hd)[a-z]|{numbers}p)([1-9]\d{{0,5}})\Z", device)
    if match is None:
        whole = re.match(r"(?:(?:sd|vd|xvd|hd)[a-z]+|mmcblk\d+|nvme\d+n\d+|mtdblock\d+)\Z", device)
        if whole and story.image.table == "none":
            return parts[0]
        hint = re.sub(r"(mmcblk\d+|nvme\d+n\d+)(\d+)\Z", r"\1p\2", device)
        hint = re.sub(r"((?:sd|vd)[a-z])p(\d+)\Z", r"\1\2", hint)
        story.stop(
            "BOOT-ROOT-FORM",
            f"root={wanted} is not a partition's name",
            "the kernel would wait for it for ever",
            f"did you mean `/dev/{hint}`?" if hint != device else "names are like mmcblk0p2, sda2, nvme0n1p2",
            key_,
        )
    # Of which disk the kernel will say so is not known here: one that can be the root is meant.
    numbered = [part for part in parts if part.number == int(match.group(1))]
    found = next((part for part in numbered if part.reader is not None), numbered[0] if numbered else None)
    if found is None:
        story.stop(
            "BOOT-ROOT-MISSING",
            f"root={wanted}, and the image has no partition {match.group(1)}",
            "the kernel would wait for it for ever",
            f"the image has {counted(len(parts), 'partition')}",
            key_,
        )
    return found


def _check_built_in(story: Story, config: dict[str, str], form: str, wanted: str, initramfs: Filesystem | None = None) -> None:
    loads = initramfs is not None and any(initramfs.has(path) for path in _MODPROBE)
    needs: list[tuple[str, Iterable[str]]] = [(f"the filesystem {form}", FORMS[form].kernel_options if form in FORMS else ())]
    table = _TABLE_OPTIONS.get(story.image.table)
    if table:
        needs.append((f"the partition table {story.image.table}", (table,)))
    device = wanted.removeprefix("/dev/")
    modules = []
    options = next((names for begin, names in _DISK_OPTIONS.items() if device.startswith(begin)), None)
    needs.append(("the disk's driver", options or [name for names in _DISK_OPTIONS.values() for name in names]))
    for what, names in needs:
        names = list(names)
        if names and not any(config.get(name) == "y" for name in names):
            module = next((name for name in names if config.get(name) == "m"), None)
            if module is not None and loads:
                modules.append(f"CONFIG_{module}")
                continue
            how = (
                f"CONFIG_{module} is a module" if module else "it lacks " + " and ".join(f"CONFIG_{name}" for name in names[:4])
            )
            story.stop(
                "BOOT-KERNEL-LACKS",
                f"the kernel cannot reach its root: for {what}, {how}",
                "the driver is a module stored on the filesystem that it must mount, and "
                + ("nothing in the initramfs loads modules" if initramfs is not None else "there is no initramfs"),
                f"add CONFIG_{module or names[0]}=y to a fragment",
                "kernel.recipe",
            )
    if modules:
        story.grant("drivers", f"that the initramfs loads {listed(modules)}", "they are modules")
    else:
        story.tell("drivers", "the kernel has filesystem, partition table and disk built in")


def _init_path(started: Started, root: Filesystem, in_memory: bool = False) -> str:
    """The first program of a root filesystem, or of the one in memory."""
    words = parsed(started.line)
    if in_memory:
        return words.get("rdinit", ["/init"])[-1]
    named = words.get("init", [""])[-1]
    if named:
        return named
    return next((path for path in DEFAULT_INITS if root.follow(path) is not None), DEFAULT_INITS[0])


def _boot_files(story: Story) -> Started:
    """What the bootloader would find on the image's partitions, by the board's method or by each that can be guessed."""
    order = sorted(story.image.partitions, key=lambda part: (not part.bootable, part.number))
    known = METHODS.get(story.board.method)
    for part in order:
        filesystem = story.filesystem(part)
        if filesystem is None:
            continue
        where = part.name or "the image"
        for method in (known,) if known is not None else [one for one in METHODS.values() if one.guessed]:
            started = method.read(story, filesystem, where)
            if started is not None:
                if method.name != "settings":
                    firmware_settings(story, filesystem, where)
                return started
    sought = known.sought if known is not None else "a boot menu, script, boot entries or EFI program"
    readable = [part.name or "the image" for part in order if part.reader is not None]
    story.stop(
        "BOOT-MENU-MISSING",
        f"no partition has {sought}" + (f" (looked at {', '.join(readable)})" if readable else ""),
        "the bootloader would stop at its prompt and wait for input",
        'give one partition `holds = "boot"`',
        "disk",
    )
