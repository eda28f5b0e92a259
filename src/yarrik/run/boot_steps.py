"""The steps that make a product boot: device trees compiled, boot files placed, the finished disks tried on the bench."""

from __future__ import annotations

import errno
import gzip
import io
import lzma
from collections.abc import Iterable
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

import msgspec
import zstandard

from yarrik.beneath import NotPlain
from yarrik.boot import (
    DEVICE_TREE_ROOM,
    METHODS,
    BenchBoard,
    BootParts,
    CommandLine,
    EnvironmentDamaged,
    KernelFacts,
    KernelUnfit,
    KnownBlob,
    MapUnfit,
    MemoryDisagrees,
    MemoryMap,
    StoryLine,
    Word,
    banks_of,
    bundle_places,
    console_problem,
    encode_environment,
    key_tree,
    memory_bundle,
    memory_disagrees,
    memory_of,
    parse_environment,
    place_all,
    read_kernel,
    reserved_in,
    try_image,
    try_loaders,
)
from yarrik.cache import Entry, Tree
from yarrik.devicetree import (
    DeviceTree,
    TreeNode,
    TreeProperty,
    apply_overlay,
    blob_name,
    compile_and_check,
    decode_blob,
    encode_blob,
    preprocessor_troubles,
    preprocessor_words,
    text_of,
    uses_preprocessor,
)
from yarrik.disk import blob_offsets, image_name, numbered_partitions
from yarrik.errors import Collector, Place, Trouble, Unfit, YarrikError
from yarrik.maps import Area
from yarrik.model import Disk
from yarrik.plan import CompileDeviceTrees, PlaceBootFiles, TryOnBench
from yarrik.rootfs import Node, RootTree
from yarrik.run.perform import Context, blob_path, perform, sees_of, taken
from yarrik.units import parse_size

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey

    from yarrik.disk import OpenedImage

OVERLAY_FOLDER = "/boot/overlays"
#: Where a kernel's tree keeps what device tree sources include, relative to its top.
_KERNEL_INCLUDE = ("include", "scripts/dtc/include-prefixes")


# Device trees


@perform.register
def _compile_device_trees(action: CompileDeviceTrees, context: Context) -> dict[str, str]:
    store, work = context.store, context.work

    def lay_out(label: str, tree: Tree, writable: bool) -> None:
        context.below.make_folder(label)
        with context.below.folder(label) as folder:
            store.lay_out(tree, folder, writable)

    for label in ("source", *action.include):
        lay_out(label, store.tree(context.inputs[label]), context.sandbox.bubblewrap is None)
    names = (action.source, *action.overlays)
    wanted = any(uses_preprocessor(_text(context, name)) for name in names)
    folders = [work / label for label in action.include]
    if wanted and "kernel" in context.inputs:
        kernel = store.tree(context.inputs["kernel"])
        lay_out("kernel", _sources_only(kernel), writable=False)
        folders += [work / "kernel" / part for part in _KERNEL_INCLUDE]
    for name in ("home", "tmp"):
        context.below.make_folder(name)
    collector = Collector()
    warnings: list[Trouble] = []
    trees: dict[str, DeviceTree] = {}

    def reader(file: Path) -> bytes:
        # A source, or what the preprocessor says of files, may name any file; only those of the step are read.
        if not file.is_relative_to(work):
            raise NotPlain(errno.EXDEV, "it lies outside of the board's folders", str(file))
        return context.below.read(context.below.within(str(file.relative_to(work))))

    for name in names:
        source = work / "source" / name
        try:
            text = _preprocessed(action.compiler, source, folders, context)
            # An overlay's labels serve those that come after it; the base's serve all of them.
            labels = action.labels or bool(action.overlays)
            trees[name], found = compile_and_check(source, text, folders, labels, action.silence, reader)
            warnings += found
        except YarrikError as error:
            collector.extend(_edited(trouble, context) for trouble in error.troubles)
    collector.raise_if_any("work")
    for warning in warnings:
        told = _edited(warning, context)
        context.note(f"{told.code} {told.place}: {told.what.partition(' (column')[0]}", told.code)
    base = trees[action.source]
    _place_line(action, base, context)
    blobs = {blob_name(action.source): encode_blob(base)}
    laid = decode_blob(blobs[blob_name(action.source)])
    changed_by: dict[tuple[str, str], str] = {}
    for name in action.overlays:
        blob = encode_blob(trees[name])
        before = _values_of(laid)
        try:
            apply_overlay(laid, decode_blob(blob), name)
            _note_overlaps(before, _values_of(laid), name, changed_by, context)
        except YarrikError as error:
            collector.extend(
                Trouble(one.code, one.what, Place(context.step.places["source"] / name), one.why, one.remedy)
                for one in error.troubles
            )
        if not action.applied:
            blobs[f"overlays/{Path(name).stem}.dtbo"] = blob
    collector.raise_if_any("work")
    if action.applied and action.overlays:
        if not action.labels:
            laid.root.children.pop("__symbols__", None)
        laid.names = b""
        blobs[blob_name(action.source)] = encode_blob(laid)
    entries = [Entry(path, "file", 0o644, len(blob), store.put_bytes(blob)) for path, blob in blobs.items()]
    if any("/" in path for path in blobs):
        entries.append(Entry("overlays", "folder", 0o755, 0, ""))
    return {"blobs": store.put_tree(Tree.of(entries))}


def _values_of(tree: DeviceTree) -> dict[tuple[str, str], bytes]:
    return {(path, name): item.value for path, node in tree.root.walk() for name, item in node.properties.items()}


def _note_overlaps(
    before: dict[tuple[str, str], bytes],
    after: dict[tuple[str, str], bytes],
    name: str,
    changed_by: dict[tuple[str, str], str],
    context: Context,
) -> None:
    """Advice when an overlay changes what another one has set, or changes nothing, as a second time."""
    changed = [key for key, value in after.items() if before.get(key) != value and not key[0].startswith("/__")]
    if not changed:
        context.note(f"the overlay {name} changes nothing; is it named twice, or is all of it in the base?", "OVERLAY-NOTHING")
    for key in changed:
        other = changed_by.get(key)
        if other is not None and other != name:
            text = f"the overlays {other} and {name} both set `{key[1]}` of {key[0]}; the last one wins"
            context.note(text, "OVERLAY-OVERWRITES")
        changed_by[key] = name


def _text(context: Context, name: str) -> str:
    """A source's text; empty for one that is not there or cannot be read, which is told when it is compiled."""
    try:
        return context.below.text(context.below.within(f"source/{name}"))
    except OSError:
        return ""


def _sources_only(kernel: Tree) -> Tree:
    """What a kernel's tree has for device trees: bindings and the architectures' own sources."""

    def is_wanted(path: str) -> bool:
        if path.startswith("arch/"):
            words = path.split("/")
            return len(words) <= 3 or words[2:4] == ["boot", "dts"] or (words[2:3] == ["boot"] and len(words) == 3)
        return path in ("include", "scripts", "scripts/dtc") or path.startswith(
            ("include/dt-bindings", "include/uapi", "scripts/dtc/include-prefixes")
        )

    return Tree.of([entry for entry in kernel.entries if entry.path == "arch" or is_wanted(entry.path)])


def _preprocessed(compiler: str, source: Path, folders: list[Path], context: Context) -> str | None:
    """A source's text once it went through the preprocessor in the sandbox; None when it needs none."""
    if not uses_preprocessor(_text(context, source.name)):
        return None
    inside = context.sandbox.inside(context.work)
    seen = [Path(str(folder).replace(str(context.work), inside, 1)) for folder in folders]
    words = [*preprocessor_words(compiler, seen), "-o", "{step}/home/out", f"{{step}}/source/{source.name}"]
    command = ("sh", "-c", '"$@" 2> "$0"', "{step}/home/said", *words)
    code = context.sandbox.run(command, context.work, "{step}/source", {}, ("source", "kernel"), 1, context.log,
                               sees=sees_of(context.step.action))  # fmt: skip
    if code != 0:
        said = context.below.text("home/said") if context.below.is_file("home/said") else ""
        raise YarrikError(preprocessor_troubles(said.replace(inside + "/", f"{context.work}/"), source))
    out = context.below.text("home/out")
    return out.replace(f'"{inside}/', f'"{context.work}/')


def _edited(trouble: Trouble, context: Context) -> Trouble:
    """The same trouble at the file that people edit, instead of its copy in the step's folder."""
    file = trouble.place.file
    if file is None:
        return trouble
    for label, folder in context.step.places.items():
        if file.is_relative_to(context.work / label):
            here = folder / file.relative_to(context.work / label)
            return Trouble(trouble.code, trouble.what, Place(here, trouble.place.line), trouble.why, trouble.remedy)
    if file.is_relative_to(context.work):
        place = Place(Path("the kernel's sources", *file.relative_to(context.work).parts[1:]), trouble.place.line)
        return Trouble(trouble.code, trouble.what, place, trouble.why, trouble.remedy)
    return trouble


def _place_line(action: CompileDeviceTrees, tree: DeviceTree, context: Context) -> None:
    """Puts the command line into /chosen when it belongs there, and tells when one stands there already."""
    chosen = tree.root.children.get("chosen")
    there = chosen.properties.get("bootargs") if chosen is not None else None
    if there is not None:
        text = text_of(there.value) or ""
        wins = "it is replaced by the computed one" if action.arguments else "the bootloader replaces it by the computed one"
        what = f'BOOT-LINE-TWICE {action.source}: /chosen has a command line of its own, "{text}"; {wins}'
        context.note(what, "BOOT-LINE-TWICE")
    if action.arguments:
        if chosen is None:
            chosen = tree.root.children["chosen"] = TreeNode("chosen")
        chosen.properties["bootargs"] = TreeProperty("bootargs", action.arguments.encode() + b"\0")


# Boot files


@perform.register
def _place_boot_files(action: PlaceBootFiles, context: Context) -> dict[str, str]:
    return _Placing(action, context).run()


class _Placing:
    def __init__(self, action: PlaceBootFiles, context: Context) -> None:
        self.action, self.context, self.store = action, context, context.store
        self.root = RootTree.decode(self.store.get_bytes(context.inputs["root"]))
        self.added: list[Node] = []
        self.outputs: dict[str, str] = {}

    def run(self) -> dict[str, str]:
        action = self.action
        kernel = self.root.follow(action.kernel_path)
        if kernel is None or kernel.kind != "file":
            raise self.trouble("KERNEL-MISSING", f"no package brought a kernel at {action.kernel_path}",
                               "the board would have nothing to start",
                               "let the recipe named here install it there", "kernel.recipe")  # fmt: skip
        facts = self.check_kernel(self.store.checked_path(kernel.content))
        tree, tree_path, overlays = self.device_tree()
        lines = self.lines()
        self.check_consoles(tree)
        initramfs, initramfs_path = self.initramfs()
        memory = self.memory_map(facts, kernel.size, tree, overlays, initramfs)
        parts = BootParts(
            product=action.product,
            version=action.version,
            arch=action.arch,
            kernel_path=action.kernel_path,
            kernel=lambda: self.store.get_bytes(kernel.content),
            kernel_form=facts.form,
            lines=lines,
            device_tree=encode_blob(tree) if tree is not None else b"",
            device_tree_path=tree_path,
            overlays=overlays,
            initramfs=initramfs,
            initramfs_path=initramfs_path,
            memory=memory,
            boot_apart=action.boot_apart,
            line_in_files=action.boot.command_line_in == "boot-files",
            seconds=action.boot.seconds,
            time=action.clock,
            key=self.key(),
            key_name=action.boot.key_name,
        )
        try:
            files = METHODS[action.boot.method].write(parts)
            bundle = memory_bundle(parts) if action.boot.memory_bundle else {}
        except Unfit as error:
            raise self.trouble("BOOT-METHOD", f"the boot method `{action.boot.method}` cannot do this: {error}",
                               "the board would start without it, or not at all",
                               "choose another method, or change what it has to carry", "boot.method") from error  # fmt: skip
        about = self.about(facts, tree, parts, sorted(files))
        for path, data in files.items():
            self.add(path, data)
        self.add_settings()
        self.add_environment()
        if parts.device_tree:
            self.outputs["device-tree"] = self.store.put_bytes(parts.device_tree)
        if tree is not None and parts.key is not None:
            # What the bootloader's own device tree has to be, so that it takes nothing that is not signed.
            tree.root.children.update(key_tree(parts.key.public_key(), parts.key_name).root.children)
            self.outputs["control"] = self.store.put_bytes(encode_blob(tree))
        for name, data in bundle.items():
            self.outputs[f"memory:{name}"] = self.store.put_bytes(data)
        self.outputs["root"] = self.store.put_bytes(self.root_tree(initramfs).encode())
        self.outputs["boot"] = self.store.put_bytes(msgspec.json.encode(about))
        return self.outputs

    def trouble(self, code: str, what: str, why: str, remedy: str, key: str) -> YarrikError:
        return YarrikError(Trouble(code, what, self.context.step.marks[key], why, remedy), "work")

    def add(self, path: str, data: bytes) -> None:
        self.added.append(Node(path, "file", 0o644, size=len(data), content=self.store.put_bytes(data)))

    def root_tree(self, initramfs: bytes) -> RootTree:
        """What goes onto the disks: with the root filesystem in memory only what lies below /boot."""
        if initramfs:
            return RootTree.of([*[node for node in self.root.nodes if node.path.startswith("/boot/")], *self.added])
        return self.root.with_nodes(self.added)

    def check_kernel(self, path: Path) -> KernelFacts:
        action = self.action
        try:
            facts = read_kernel(path)
        except KernelUnfit as error:
            raise self.trouble("BOOT-KERNEL-FORM", f"{action.kernel_path} cannot be loaded: {error}",
                               "the bootloader would refuse it or jump into nothing",
                               f"let the kernel's recipe install the form with a header for {action.arch}",
                               "kernel.recipe") from error  # fmt: skip
        if facts.arch != action.arch:
            what = f"{action.kernel_path} is a kernel for {facts.arch}, and the board is {action.arch}"
            raise self.trouble("BOOT-KERNEL-ARCH", what, "it cannot run there",
                               "check the board's `kernel.recipe` and `toolchain.prefix`", "kernel.recipe")  # fmt: skip
        if not METHODS[action.boot.method].compressed and facts.form.endswith(".gz"):
            what = f"{action.kernel_path} is compressed, and firmware starts only plain programs"
            raise self.trouble("BOOT-KERNEL-FORM", what, "firmware would not recognise it", 'set `form = "Image"`',
                               "kernel.form")  # fmt: skip
        return facts

    def device_tree(self) -> tuple[DeviceTree | None, str, dict[str, bytes]]:
        """The base, its path in the image, and overlays that are left to the bootloader, by their paths."""
        if "device tree" not in self.context.inputs:
            return None, "", {}
        blobs = self.store.tree(self.context.inputs["device tree"])
        overlays: dict[str, bytes] = {}
        base: DeviceTree | None = None
        path = "/boot/" + blob_name(self.action.device_tree)
        for entry in blobs.files:
            data = self.store.get_bytes(entry.content)
            if entry.path.startswith("overlays/"):
                # In the order in which the board names them, since later ones may refer to earlier ones.
                overlays[f"{OVERLAY_FOLDER}/{entry.path.rpartition('/')[2]}"] = data
            else:
                base = decode_blob(data)
                self.add(path, data)
        order = [f"{OVERLAY_FOLDER}/{Path(name).stem}.dtbo" for name in self.action.kernel.overlays]
        overlays = {name: overlays[name] for name in order if name in overlays}
        for name, data in overlays.items():
            self.add(name, data)
        return base, path, overlays

    def lines(self) -> dict[str, tuple[str, CommandLine]]:
        """The command line of each entry, by the entry's name, with its title."""
        action = self.action
        line = CommandLine(tuple(Word(text, origin) for text, origin in action.line))
        lines = {action.product: (action.product, line)}
        for entry in action.boot.entry:
            lines[entry.name] = (entry.title or entry.name, line.with_words(entry.arguments, f"the board's entry {entry.name}"))
        for word in line.words:
            self.context.say(f"{word.text:<60} {word.origin}")
        return lines

    def check_consoles(self, tree: DeviceTree | None) -> None:
        if tree is None:
            return
        kernel = self.action.kernel
        for console in (*kernel.more_consoles, kernel.console):
            problem = console_problem(tree, console) if console else None
            if problem is not None:
                key = "kernel.console" if console == kernel.console else "kernel.more-consoles"
                what = f"console={console} is not a serial port of the board: {problem}"
                raise self.trouble("BOOT-CONSOLE", what, "the kernel would start without any output",
                                   "name another port, or enable this one in the device tree", key)  # fmt: skip

    def initramfs(self) -> tuple[bytes, str]:
        if self.action.boot.initramfs != "root":
            return b"", ""
        from yarrik.disk import write_cpio

        tree = RootTree.of([node for node in self.root.nodes if not node.path.startswith("/boot/")])
        sink = io.BytesIO()
        write_cpio(tree, sink, self.store.checked_path, self.action.clock)
        data = _compressed(sink.getvalue(), self.action.boot.initramfs_compression)
        path = "/boot/initramfs.img"
        if METHODS[self.action.boot.method].initramfs_file:
            self.add(path, data)
        return data, path

    def memory_map(
        self, facts: KernelFacts, size: int, tree: DeviceTree | None, overlays: dict[str, bytes], initramfs: bytes
    ) -> MemoryMap | None:
        """Where all goes in memory; None where firmware decides that by itself."""
        action, memory = self.action, self.action.memory
        if action.arch == "x86-64":
            return None
        given = {
            name: int(value, 16)
            for name, value in (("kernel", memory.kernel), ("device tree", memory.device_tree), ("overlays", memory.overlays),
                                ("initramfs", memory.initramfs), ("script", memory.script), ("bundle", memory.bundle))
            if value
        }  # fmt: skip
        banks = self.banks(tree)
        sizes = {"kernel": max(facts.memory, size)}
        if tree is not None:
            sizes["device tree"] = len(encode_blob(tree)) + DEVICE_TREE_ROOM
        sizes["overlays"] = max((len(blob) for blob in overlays.values()), default=0)
        sizes["initramfs"] = len(initramfs)
        sizes |= METHODS[action.boot.method].areas(size, sum(map(len, overlays.values())) + len(initramfs))
        try:
            found = place_all(action.arch, sizes, given, banks, reserved_in(tree) if tree is not None else (), facts.offset)
        except MapUnfit as error:
            raise self.trouble("BOOT-MEMORY", "; ".join(error.reasons), f"memory would look like this:\n{error.drawing}",
                               "change the addresses in the board's [memory]", "memory") from error  # fmt: skip
        for row in found.drawn().splitlines():
            self.context.say(row)
        return found

    def banks(self, tree: DeviceTree | None) -> list[Area]:
        try:
            return banks_of(self.action.memory.base, self.action.memory.size, memory_of(tree) if tree is not None else [])
        except MemoryDisagrees as error:
            raise YarrikError(memory_disagrees(error, self.context.step.marks["memory"]), "work") from error

    def key(self) -> RSAPrivateKey | None:
        if not self.action.boot.key:
            return None
        from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
        from cryptography.hazmat.primitives.serialization import load_pem_private_key

        name = self.action.boot.key
        try:
            key = load_pem_private_key(self.context.step.places["key"].read_bytes(), None)
        except (ValueError, TypeError) as error:
            raise self.trouble("BOOT-KEY", f"{name} is not a private key that can be read: {error}", "nothing could be signed",
                               "make one: openssl genrsa -out key.pem 2048", "boot.key") from error  # fmt: skip
        if not isinstance(key, RSAPrivateKey) or key.key_size != 2048:
            raise self.trouble("BOOT-KEY", f"{name} is not an RSA key of 2048 bits", "bootloaders check such signatures",
                               "make one: openssl genrsa -out key.pem 2048", "boot.key")  # fmt: skip
        return key

    def add_settings(self) -> None:
        settings = self.action.boot.settings
        if settings is not None:
            self.add("/boot" + settings.path, self.context.store.get_bytes(taken(self.context, "settings")))
        if self.action.boot.loader is not None:
            from yarrik.arch import ARCHES

            self.add("/boot" + ARCHES[self.action.arch].efi_program, self.store.get_bytes(taken(self.context, "loader")))

    def add_environment(self) -> None:
        choice = self.action.boot.environment
        if choice is None:
            return
        text = self.store.get_bytes(taken(self.context, "environment")).decode("utf-8", "replace")
        try:
            settings = parse_environment(text)
            newest = 1 if choice.redundant else None
            block = encode_environment(settings, parse_size(choice.size), newest)
            if choice.redundant:
                block += encode_environment(settings, parse_size(choice.size), 0)
        except (EnvironmentDamaged, Unfit) as error:
            raise YarrikError(
                Trouble("BOOT-ENVIRONMENT", f"{choice.file}: {error}", Place(self.context.step.places["environment"]),
                        why="the bootloader would take its built-in settings",
                        remedy="correct the file, or make the block larger"),
                "work",
            ) from error  # fmt: skip
        self.outputs["environment"] = self.store.put_bytes(block)

    def about(self, facts: KernelFacts, tree: DeviceTree | None, parts: BootParts, files: Iterable[str]) -> dict[str, object]:
        action = self.action
        item = tree.root.properties.get("model") if tree is not None else None
        first = next(iter(parts.lines.values()))[1]
        rows = [*parts.memory.memory, *parts.memory.reserved, *parts.memory.areas] if parts.memory is not None else []
        return {
            "method": action.boot.method,
            "kernel": {"path": action.kernel_path, "arch": facts.arch, "form": facts.form, "memory": facts.memory},
            "device-tree": {
                "path": parts.device_tree_path,
                "model": (text_of(item.value) if item is not None else None) or "",
                "overlays": [*action.kernel.overlays],
                "overlays-are": action.boot.overlays,
            },
            "command-line": [{"word": word.text, "origin": word.origin} for word in first.words],
            "command-line-in": action.boot.command_line_in,
            "initramfs": {"path": parts.initramfs_path, "bytes": len(parts.initramfs)},
            "files": list(files),
            "memory": [{"name": row.name, "start": f"{row.start:#x}", "bytes": row.size} for row in rows],
        }


def _compressed(data: bytes, form: str) -> bytes:
    if form == "gzip":
        return gzip.compress(data, 9, mtime=0)
    if form == "xz":  # the kernel's own unpacker knows this checksum only
        return lzma.compress(data, check=lzma.CHECK_CRC32, preset=6)
    return zstandard.ZstdCompressor(level=19).compress(data) if form == "zstd" else data


# The bench


@perform.register
def _try_on_bench(action: TryOnBench, context: Context) -> dict[str, str]:
    from yarrik.disk import opened_bytes

    holding = [kind for kind in ("boot", "root") if any(kind == part.holds for disk in action.disks for part in disk.partition)]
    wanted = holding[0] if holding else ""
    main = next(
        (disk.name for disk in action.disks if any(part.holds == wanted for part in disk.partition)), action.disks[0].name
    )
    story: list[StoryLine] = []
    known = context.inputs
    control = context.store.get_bytes(known["control"]) if "control" in known else b""
    bundle = bundle_places(context.store.get_bytes(known["bundle"]).decode()) if "bundle" in known else {}
    with ExitStack() as stack:
        opened: dict[str, tuple[BinaryIO, OpenedImage]] = {}
        for disk in action.disks:
            image = context.store.checked_path(context.inputs[f"disk {disk.name}"])
            opened[disk.name] = stack.enter_context(opened_bytes(image))
        for disk in sorted(action.disks, key=lambda disk: disk.name == main):
            file, found = opened[disk.name]
            others = tuple(part for name, (_, one) in opened.items() if name != disk.name for part in one.partitions)
            board = BenchBoard(
                action.arch, action.method, _known_blobs(disk, context), others, dict(context.step.marks), action.arguments,
                control, {number: name for number, name, _ in numbered_partitions(disk)}, bundle,
            )  # fmt: skip
            name = image_name(action.product, disk.name, len(action.disks))
            result = (try_image if disk.name == main else try_loaders)(file, found, name, board)
            story += result.story
            for one in result.warnings:
                context.note(f"{one.code} {one.what}; {one.remedy}", one.code)
            if result.stop is not None:
                raise YarrikError(result.stop, "work")
    lines = [f"{told.stage:<14} {told.text}\n" for told in story]
    context.say("".join(lines).rstrip())
    return {
        "boot-story.txt": context.store.put_bytes("".join(lines).encode()),
        "story": context.store.put_bytes(msgspec.json.encode(story)),
    }


def _known_blobs(disk: Disk, context: Context) -> tuple[KnownBlob, ...]:
    return tuple(
        KnownBlob(blob.file, blob_path(context, f"blob {blob.file}"), offset, parse_size(blob.at_most) if blob.at_most else 0)
        for blob in disk.blob
        for offset in blob_offsets(blob.offset, blob.copies)
    )
