"""The steps that make a product boot: device trees compiled, boot files placed, the finished disks tried on the bench."""

from __future__ import annotations

import errno
import gzip
import io
import lzma
from collections.abc import Callable, Iterable
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

import msgspec
import zstandard
from msgspec.structs import replace

from yarrik.arch import ARCHES
from yarrik.beneath import NotPlain
from yarrik.boot import (
    DEVICE_TREE_ROOM,
    METHODS,
    SCRIPT_PATH,
    SLOT_FOLDER,
    SLOTS_FILE,
    BenchBoard,
    BootParts,
    CommandLine,
    EnvironmentDamaged,
    FurtherPart,
    KernelFacts,
    KernelUnfit,
    KnownBlob,
    MapUnfit,
    MemoryDisagrees,
    MemoryMap,
    SlotPlace,
    Slots,
    StoryLine,
    Word,
    banks_of,
    bundle_places,
    configuration_in,
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
    settings_lines,
    try_image,
    try_loaders,
    unpacked,
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
    set_parameters,
    text_of,
    uses_preprocessor,
)
from yarrik.disk import blob_offsets, image_name, numbered_partitions
from yarrik.errors import Collector, Damaged, Place, Trouble, Unfit, YarrikError, suggestion
from yarrik.maps import Area
from yarrik.model import Disk
from yarrik.plan import ARCHIVE, CompileDeviceTrees, PlaceBootFiles, TryOnBench
from yarrik.rootfs import Node, RootTree
from yarrik.run.advice import kernel_calls
from yarrik.run.kernel_config import options
from yarrik.run.perform import Context, blob_path, perform, sees_of, taken
from yarrik.run.product import chosen_packages, further_images
from yarrik.units import parse_size

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey

    from yarrik.disk import OpenedImage

OVERLAY_FOLDER = "/boot/overlays"
#: Where a kernel's tree keeps what device tree sources include, relative to its top.
_KERNEL_INCLUDE = ("include", "scripts/dtc/include-prefixes")


# Device trees


@perform.register(CompileDeviceTrees)
def _compile_device_trees(action: CompileDeviceTrees, context: Context) -> dict[str, str]:
    store, work = context.store, context.work

    def lay_out(label: str, tree: Tree, writable: bool) -> None:
        context.below.make_folder(label)
        with context.below.folder(label) as folder:
            store.lay_out(tree, folder, writable)

    for label in ("source", *action.include):
        lay_out(label, store.tree(context.inputs[label]), context.sandbox.bubblewrap is None)
    names = (action.source, *action.more, *action.overlays)

    def path_of(name: str) -> Path:
        return work / name if "/" in name else work / "source" / name

    wanted = any(uses_preprocessor(_text(context, path_of(name))) for name in names)
    # Sources of other shelves include from the first one's folder too.
    several = any(label.startswith("more-") for label in action.include)
    folders = [work / label for label in (*(("source",) if several else ()), *action.include)]
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
        source = path_of(name)
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
    if action.applied or action.parameters:
        _set_parameters(action, trees, path_of, context)
    blobs: dict[str, bytes] = {}
    for source_name in (action.source, *action.more):
        base = trees[source_name]
        _place_line(action, base, context)
        if action.key_name:
            base.root.children.update(key_tree(_private_key(context).public_key(), action.key_name).root.children)
        plain = encode_blob(base)
        laid = decode_blob(plain)
        changed_by: dict[tuple[str, str], str] = {}
        for name in action.overlays:
            before = _values_of(laid)
            try:
                apply_overlay(laid, decode_blob(encode_blob(trees[name])), Path(name).name)
                if source_name == action.source:
                    _note_overlaps(before, _values_of(laid), Path(name).name, changed_by, context)
            except YarrikError as error:
                on = f" (on {Path(source_name).name})" if action.more else ""
                collector.extend(
                    Trouble(one.code, f"{one.what}{on}", _edited_place(path_of(name), context), one.why, one.remedy)
                    for one in error.troubles
                )
        if action.applied and action.overlays:
            if not action.labels:
                laid.root.children.pop("__symbols__", None)
            laid.names = b""
        blobs[blob_name(Path(source_name).name)] = encode_blob(laid) if action.applied and action.overlays else plain
    if not action.applied:
        blobs |= {f"overlays/{Path(name).stem}.dtbo": encode_blob(trees[name]) for name in action.overlays}
    collector.raise_if_any("work")
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


def _set_parameters(
    action: CompileDeviceTrees, trees: dict[str, DeviceTree], path_of: Callable[[str], Path], context: Context
) -> None:
    """Writes the board's parameters into the overlays, or checks them where firmware writes them. Raises YarrikError."""
    by_name = {Path(name).stem: name for name in action.overlays}
    collector = Collector()
    for overlay, values in action.parameters.items():
        name = by_name.get(overlay)
        if name is None:
            what = f"parameters are set for the overlay `{overlay}`, and the board has none of this name"
            collector.add(Trouble("OVERLAY-PARAMETER", what, context.step.marks.get("parameters", Place()),
                                  why="nothing would take them", remedy=suggestion(overlay, by_name)))  # fmt: skip
            continue
        # The compiler's tree has values without numbers for what other trees name: a blob has them.
        tree = decode_blob(encode_blob(trees[name]))
        try:
            set_parameters(tree, values)
        except Unfit as error:
            collector.add(Trouble("OVERLAY-PARAMETER", f"a parameter of the overlay `{overlay}` cannot be set: {error}",
                                  _edited_place(path_of(name), context), why="the device would be set up in another way",
                                  remedy="correct `kernel.overlay-parameters`"))  # fmt: skip
            continue
        if not action.by_firmware:
            trees[name] = tree
    collector.raise_if_any("work")


def _edited_place(path: Path, context: Context) -> Place:
    """The file that people edit, for its copy in the step's folder."""
    return _edited(Trouble("", "", Place(path)), context).place


def _text(context: Context, path: Path) -> str:
    """A source's text; empty for one that is not there or cannot be read, which is told when it is compiled."""
    try:
        return context.below.text(context.below.within(str(path.relative_to(context.work))))
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
    if not uses_preprocessor(_text(context, source)):
        return None
    inside = context.sandbox.inside(context.work)
    seen = [Path(str(folder).replace(str(context.work), inside, 1)) for folder in folders]
    words = [*preprocessor_words(compiler, seen), "-o", "{step}/home/out", f"{{step}}/{source.relative_to(context.work)}"]
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


def _private_key(context: Context) -> RSAPrivateKey:
    """The key that signs image trees. Raises YarrikError for a file that holds none, or one of another kind."""
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    place = context.step.places["key"]
    mark = context.step.marks.get("boot.key", Place(place))
    remedy = "make one: openssl genrsa -out key.pem 2048"
    try:
        key = load_pem_private_key(place.read_bytes(), None)
    except (ValueError, TypeError) as error:
        raise YarrikError(Trouble("BOOT-KEY", f"{place.name} is not a private key that can be read: {error}", mark,
                                  "nothing could be signed", remedy), "work") from error  # fmt: skip
    if not isinstance(key, RSAPrivateKey) or key.key_size != 2048:
        raise YarrikError(Trouble("BOOT-KEY", f"{place.name} is not an RSA key of 2048 bits", mark,
                                  "bootloaders check such signatures", remedy), "work")  # fmt: skip
    return key


# Boot files


@perform.register(PlaceBootFiles)
def _place_boot_files(action: PlaceBootFiles, context: Context) -> dict[str, str]:
    return _Placing(action, context).run()


class _Placing:
    def __init__(self, action: PlaceBootFiles, context: Context) -> None:
        self.action, self.context, self.store = action, context, context.store
        self.root = RootTree.decode(self.store.get_bytes(context.inputs["root"]))
        self.added: list[Node] = []
        self.outputs: dict[str, str] = {}
        self.more_trees: dict[str, bytes] = {}
        self.images = further_images(context)
        self.largest_in_memory = 0

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
        self.check_calls(kernel.content)
        initramfs, initramfs_path = self.initramfs()
        of_entries = self.initramfs_of_entries()
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
            slots=self.slots(),
            boot_apart=action.boot_apart,
            line_in_files=action.boot.command_line_in == "boot-files",
            seconds=action.boot.seconds,
            time=action.clock,
            key=_private_key(self.context) if action.boot.key else None,
            key_name=action.boot.key_name,
            script=action.boot.script,
            entry=_address(action.memory.entry),
            more_device_trees=self.more_trees,
            tree_of_entry=self.trees_of_entries(),
            initramfs_of_entry=of_entries,
            overlay_parameters=action.kernel.overlay_parameters,
            settings_text=self.own_settings(),
            settings_path="/boot" + action.boot.settings.path if action.boot.settings is not None else "",
            more=tuple(
                FurtherPart(part.name, part.type, self.further(f"part {part.name}"), _address(part.load), _address(part.entry))
                for part in action.boot.part
            ),
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
        if action.boot.method == "settings":
            about["settings"] = [{"line": line, "origin": origin} for line, origin in settings_lines(parts)]
            for line, origin in settings_lines(parts):
                self.context.say(f"{line:<60} {origin}")
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

    def slots(self) -> Slots | None:
        """The slots that a script changes between."""
        action = self.action
        if action.boot.switch is None:
            return None
        places = tuple(
            SlotPlace(slot.name, number, " ".join(text for text, _ in words))
            for slot, number, words in zip(action.boot.slot, action.slot_numbers, action.slots, strict=True)
        )
        slots = Slots(action.product, action.board, action.release, action.state_number, action.boot.switch.tries, places,
                      action.shared_numbers, action.verified)  # fmt: skip
        self.add("/boot" + SLOTS_FILE.removeprefix(SLOT_FOLDER), slots.text().encode())
        return slots

    def trouble(self, code: str, what: str, why: str, remedy: str, key: str) -> YarrikError:
        return YarrikError(Trouble(code, what, self.context.step.marks[key], why, remedy), "work")

    def add(self, path: str, data: bytes) -> None:
        self.added.append(Node(path, "file", 0o644, size=len(data), content=self.store.put_bytes(data)))

    def check_calls(self, kernel: str) -> None:
        """Advice for each option that the kernel lacks and programs of the image need. A kernel that is not built here may
        carry its configuration; when it does not, nothing is known."""
        config = self.kernel_options(kernel)
        if config is None:
            return
        labels = [label for label in sorted(self.context.inputs) if label.partition(" ")[0] == "packages"]
        packages = {one.package.name: one.package for label in labels for one in chosen_packages(self.context, label)}
        for text in kernel_calls([packages[name] for name in sorted(packages)], config):
            self.context.note(text, "KERNEL-CALL")

    def kernel_options(self, kernel: str) -> dict[str, str] | None:
        """Values of the kernel's options, without `CONFIG_`."""
        if "kernel options" in self.context.inputs:
            tree = self.store.tree(self.context.inputs["kernel options"])
            text = "".join(self.store.get_bytes(entry.content).decode("utf-8", "replace") for entry in tree.files)
        else:
            data = self.store.get_bytes(kernel)
            try:
                found = configuration_in(unpacked(data, "gzip") if data[:2] == b"\x1f\x8b" else data)
            except Damaged:
                found = None
            if found is None:
                return None
            text = found
        return {name.removeprefix("CONFIG_"): value for name, (value, _) in options(text).items()}

    def root_tree(self, initramfs: bytes) -> RootTree:
        """What goes onto the disks: with the root filesystem in memory only what lies below /boot."""
        if initramfs and self.action.boot.initramfs == "root":
            return RootTree.of([*[node for node in self.root.nodes if node.path.startswith("/boot/")], *self.added])
        if self.action.boot.switch is not None:
            return self.slot_tree()
        return self.root.with_nodes(self.added)

    def placed(self, path: str) -> str:
        """Where a boot file is in the image: with slots all but the script that chooses is in each of them."""
        if self.action.boot.switch is None or not path.startswith("/boot/") or path == SCRIPT_PATH:
            return path
        return SLOT_FOLDER + path.removeprefix("/boot")

    def slot_tree(self) -> RootTree:
        """All below /boot but the script that chooses goes into the slot. The kernel is there in the form that is loaded."""
        moved = []
        for node in (*self.root.nodes, *self.added):
            if node.path == self.action.kernel_path:
                continue
            moved.append(replace(node, path=self.placed(node.path)))
        return RootTree.of([]).with_nodes(moved)

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
        """The base, its path in the image, and overlays that are left to the bootloader, by their paths. Those of further
        boards are noted in `more_trees`."""
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
            elif entry.path == blob_name(self.action.device_tree):
                base = decode_blob(data)
                self.add(path, data)
            else:
                self.more_trees[f"/boot/{entry.path}"] = data
                self.add(f"/boot/{entry.path}", data)
        order = [f"{OVERLAY_FOLDER}/{Path(name).stem}.dtbo" for name in self.action.kernel.overlays]
        overlays = {name: overlays[name] for name in order if name in overlays}
        for name, data in overlays.items():
            self.add(name, data)
        return base, path, overlays

    def lines(self) -> dict[str, tuple[str, CommandLine]]:
        """The command line of each entry, by the entry's name, with its title."""
        action = self.action
        line = CommandLine(tuple(Word(text, origin) for text, origin in action.line))
        if action.boot.initramfs not in ("none", "root"):
            line = line.with_words(self.first_program(action.boot.initramfs), "the board's `boot.initramfs`")
        lines = {action.product: (action.product, line)}
        if action.slots:
            lines = {}
            rest = line.words[len(action.slots[0]) :]  # the line begins with the first slot's root filesystem
            for slot, roots in zip(action.boot.slot, action.slots, strict=True):
                own = CommandLine((*(Word(text, origin) for text, origin in roots), *rest))
                lines[slot.name] = (slot.title or f"{action.product} ({slot.name})", own)
        for entry in action.boot.entry:
            words = [*entry.arguments, *self.first_program(entry.initramfs)]
            lines[entry.name] = (entry.title or entry.name, line.with_words(words, f"the board's entry {entry.name}"))
        for word in line.words:
            self.context.say(f"{word.text:<60} {word.origin}")
        return lines

    def trees_of_entries(self) -> dict[str, str]:
        """The device tree of each menu entry that does not have the board's own, by the entry's name."""
        found = {}
        for entry in self.action.boot.entry:
            if not entry.device_tree:
                continue
            path = "/boot/" + blob_name(Path(entry.device_tree).name)
            if path not in self.more_trees and path != "/boot/" + blob_name(self.action.device_tree):
                what = f"the entry `{entry.name}` names {entry.device_tree}, and the board has no such tree"
                raise self.trouble("BOOT-DEVICE-TREE", what, "the bootloader would not find it",
                                   "list it in `kernel.more-device-trees`, or correct it", "kernel.device-tree")  # fmt: skip
            found[entry.name] = path
        return found

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

    def first_program(self, image: str) -> list[str]:
        """What tells the kernel of the first program of an image in memory; it looks for /init by itself."""
        path = self.action.first_programs.get(image, "/init")
        return [] if path == "/init" else [f"rdinit={path}"]

    def initramfs(self) -> tuple[bytes, str]:
        which = self.action.boot.initramfs
        if which == "none":
            return b"", ""
        data = self.in_memory(self.root if which == "root" else self.images[which])
        path = "/boot/initramfs.img"
        if METHODS[self.action.boot.method].initramfs_file:
            self.add(path, data)
        return data, path

    def in_memory(self, root: RootTree) -> bytes:
        """A root filesystem as an archive that the kernel unpacks."""
        from yarrik.disk import write_cpio

        tree = RootTree.of([node for node in root.nodes if not node.path.startswith("/boot/")])
        sink = io.BytesIO()
        write_cpio(tree, sink, self.store.checked_path, self.action.clock)
        data = _compressed(sink.getvalue(), self.action.boot.initramfs_compression)
        self.largest_in_memory = max(self.largest_in_memory, len(data))
        return data

    def initramfs_of_entries(self) -> dict[str, str]:
        """The path of each menu entry's own initramfs, by the entry's name. Each image is there once."""
        found: dict[str, str] = {}
        method = self.action.boot.method
        for entry in self.action.boot.entry:
            if not entry.initramfs:
                continue
            if not METHODS[method].initramfs_by_entry:
                what = f"the boot method `{method}` has one initramfs for all, and the entry `{entry.name}` one of its own"
                raise self.trouble("BOOT-METHOD", what, "the entry would start something else",
                                   'use `method = "menu"` or `method = "entries"`', "boot.method")  # fmt: skip
            path = f"/boot/{entry.initramfs}.img"
            if path not in found.values():
                self.add(path, self.in_memory(self.images[entry.initramfs]))
            found[entry.name] = path
        return found

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
        sizes["initramfs"] = self.largest_in_memory
        sizes |= METHODS[action.boot.method].areas(size, sum(map(len, overlays.values())) + len(initramfs))
        try:
            found = place_all(action.arch, sizes, given, banks, reserved_in(tree) if tree is not None else (), facts.offset)
        except MapUnfit as error:
            raise self.trouble("BOOT-MEMORY", "; ".join(error.reasons), f"memory would look like this:\n{error.drawing}",
                               "change the addresses in the board's [memory]", "memory") from error  # fmt: skip
        entry, kernel = _address(memory.entry), next((area for area in found.areas if area.name == "kernel"), None)
        if entry is not None and kernel is not None and not kernel.start <= entry < kernel.start + kernel.size:
            raise self.trouble("BOOT-MEMORY", f"the kernel is to start at {entry:#x}, and it is at {kernel.start:#x}, "
                               f"{kernel.size} bytes long", "the processor would jump out of it",
                               "correct `memory.entry`, or take it out", "memory")  # fmt: skip
        for row in found.drawn().splitlines():
            self.context.say(row)
        return found

    def banks(self, tree: DeviceTree | None) -> list[Area]:
        try:
            return banks_of(self.action.memory.base, self.action.memory.size, memory_of(tree) if tree is not None else [])
        except MemoryDisagrees as error:
            raise YarrikError(memory_disagrees(error, self.context.step.marks["memory"]), "work") from error

    def add_settings(self) -> None:
        settings = self.action.boot.settings
        if settings is not None and self.action.boot.method != "settings":
            self.add("/boot" + settings.path, self.own_settings().encode())
        if self.action.boot.loader is not None:
            self.add("/boot" + ARCHES[self.action.arch].efi_program, self.further("loader"))
        known = {node.path for node in (*self.root.nodes, *self.added)}
        for one in self.action.boot.file:
            path = "/boot" + one.path
            if path in known:
                raise self.trouble("BOOT-FILE-TWICE", f"the boot partition has {one.path} already", "one would hide the other",
                                   "give the file another path, or take it out of `boot.file`", "boot.method")  # fmt: skip
            self.add(path, self.further(f"boot file {one.path}"))

    def own_settings(self) -> str:
        """The board's own lines for firmware's settings."""
        settings = self.action.boot.settings
        if settings is None:
            return ""
        text = ""
        if settings.file:
            text = self.store.get_bytes(taken(self.context, "settings")).decode("utf-8", "replace")
        return text + "".join(line + "\n" for line in settings.lines)

    def further(self, label: str) -> bytes:
        """A file that the board adds: an output of a recipe, or one of its own."""
        made = self.context.inputs.get(label)
        return self.store.get_bytes(made if made is not None else taken(self.context, label))

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
                apart = parse_size(choice.spacing) if choice.spacing else len(block)
                if apart < len(block):
                    raise Unfit(f"its blocks have {len(block)} bytes, and begin {apart} bytes apart")
                block = block.ljust(apart, b"\xff") + encode_environment(settings, parse_size(choice.size), 0)
        except (EnvironmentDamaged, Unfit) as error:
            raise YarrikError(
                Trouble("BOOT-ENVIRONMENT", f"{choice.file}: {error}", Place(self.context.step.places["environment"]),
                        why="the bootloader would take its built-in settings",
                        remedy="correct the file, or make the block larger"),
                "work",
            ) from error  # fmt: skip
        self.outputs["environment"] = self.store.put_bytes(block)

    def about(self, facts: KernelFacts, tree: DeviceTree | None, parts: BootParts, files: Iterable[str]) -> dict[str, object]:
        action, switch = self.action, self.action.boot.switch
        kernel = self.placed("/boot/uImage") if switch else action.kernel_path
        item = tree.root.properties.get("model") if tree is not None else None
        first = next(iter(parts.lines.values()))[1]
        slots = [{"name": slot.name, "partition": slot.root, "root": words[0][0].removeprefix("root=")}
                 for slot, words in zip(action.boot.slot, action.slots, strict=True)]  # fmt: skip
        rows = [*parts.memory.memory, *parts.memory.reserved, *parts.memory.areas] if parts.memory is not None else []
        return {
            "method": action.boot.method,
            "kernel": {"path": kernel, "arch": facts.arch, "form": facts.form, "memory": facts.memory},
            "device-tree": {
                "path": self.placed(parts.device_tree_path),
                "model": (text_of(item.value) if item is not None else None) or "",
                "overlays": [*action.kernel.overlays],
                "overlays-are": action.boot.overlays,
            },
            "command-line": [{"word": word.text, "origin": word.origin} for word in first.words],
            "command-line-in": action.boot.command_line_in,
            **({"slots": slots} if slots else {}),
            **({"switch": {"state": switch.state, "tries": switch.tries, "shared": list(switch.shared)}} if switch else {}),
            "initramfs": {"path": parts.initramfs_path, "bytes": len(parts.initramfs)},
            "files": [self.placed(path) for path in files],
            "memory": [{"name": row.name, "start": f"{row.start:#x}", "bytes": row.size} for row in rows],
        }


def _address(text: str) -> int | None:
    return int(text, 16) if text else None


def _compressed(data: bytes, form: str) -> bytes:
    if form == "gzip":
        return gzip.compress(data, 9, mtime=0)
    if form == "xz":  # the kernel's own unpacker knows this checksum only
        return lzma.compress(data, check=lzma.CHECK_CRC32, preset=6)
    return zstandard.ZstdCompressor(level=19).compress(data) if form == "zstd" else data


# The bench


@perform.register(TryOnBench)
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
                control, {number: name for number, name, _ in numbered_partitions(disk)},
                _loaders(context), _loader_options(context), action.environment, _carried(context), bundle,
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


def _loaders(context: Context) -> dict[str, bytes]:
    found = ((label.partition(" "), digest) for label, digest in sorted(context.inputs.items()))
    return {name: context.store.get_bytes(digest) for (kind, _, name), digest in found if kind == "loader"}


def _carried(context: Context) -> bytes:
    """The archive that the kernel was built with, as its initramfs."""
    if "carried" not in context.inputs:
        return b""
    archive = next(entry for entry in context.store.tree(context.inputs["carried"]).files if entry.path == ARCHIVE)
    return context.store.get_bytes(archive.content)


def _loader_options(context: Context) -> dict[str, str]:
    """How the board's bootloaders are configured; of several, the last one that says something of an option counts."""
    found: dict[str, str] = {}
    for label, digest in sorted(context.inputs.items()):
        if label.startswith("options "):
            for entry in context.store.tree(digest).files:
                text = context.store.get_bytes(entry.content).decode("utf-8", "replace")
                found |= {name.removeprefix("CONFIG_"): value for name, (value, _) in options(text).items()}
    return found


def _known_blobs(disk: Disk, context: Context) -> tuple[KnownBlob, ...]:
    return tuple(
        KnownBlob(blob.file, blob_path(context, f"blob {blob.file}"), offset, parse_size(blob.at_most) if blob.at_most else 0)
        for blob in disk.blob
        for offset in blob_offsets(blob.offset, blob.copies)
    )
