"""The method `settings`: firmware that reads a text file on a FAT partition, which names all that it starts.

Lines are `key=value`, and `initramfs FILE followkernel`. A line in brackets says on which boards the following ones hold:
`[all]` on every one, `[none]` on none. `dtoverlay=NAME,PARAMETER=VALUE,…` names an overlay in the folder `overlays`."""

from __future__ import annotations

import re
from collections.abc import Iterator

import msgspec

from yarrik.boot.method.form import BootMethod
from yarrik.boot.parts import BootParts
from yarrik.boot.reading import read_named
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import Started, Story
from yarrik.devicetree import BlobDamaged, decode_blob, encode_blob, set_parameters
from yarrik.errors import Unfit
from yarrik.units import counted

SETTINGS_PATH = "/boot/config.txt"
LINE_PATH = "/boot/cmdline.txt"
_OVERLAYS = "overlays"
#: Keys of which the last line counts; of all others there may be several.
_SINGLE = ("arm_64bit", "kernel", "device_tree", "cmdline", "initramfs")


class _Line(msgspec.Struct, frozen=True):
    """A line of the file: its key, its value, and under which words in brackets it is."""

    key: str
    value: str
    section: str


def lines_of(text: str) -> Iterator[_Line]:
    """The lines that say something."""
    section = "all"
    for line in text.splitlines():
        bare = line.partition("#")[0].strip()
        if re.fullmatch(r"\[[^\]]*\]", bare):
            section = bare[1:-1].strip()
            continue
        if bare.startswith("initramfs ") and "=" not in bare.split()[0]:
            yield _Line("initramfs", bare.removeprefix("initramfs ").strip(), section)
        elif "=" in bare:
            key, _, value = bare.partition("=")
            yield _Line(key.strip(), value.strip(), section)


def _written(key: str, value: str) -> str:
    return f"initramfs {value}" if key == "initramfs" else f"{key}={value}"


def computed(parts: BootParts) -> list[tuple[str, str, str]]:
    """Key, value and origin of each line that follows from the board."""
    found = []
    if parts.arch in ("arm64", "arm"):
        found.append(("arm_64bit", "1" if parts.arch == "arm64" else "0", "the board's `arch`"))
    found.append(("kernel", parts.seen(parts.kernel_path).lstrip("/"), "the board's `kernel.recipe`"))
    if parts.device_tree_path:
        found.append(("device_tree", parts.seen(parts.device_tree_path).lstrip("/"), "the board's `kernel.device-tree`"))
    for path in parts.overlays:
        name = path.rpartition("/")[2].removesuffix(".dtbo")
        values = parts.overlay_parameters.get(name, {})
        text = ",".join([name, *(f"{key}={value}" for key, value in values.items())])
        found.append(("dtoverlay", text, "the board's `kernel.overlays`"))
    if parts.line_in_files:
        found.append(("cmdline", LINE_PATH.rpartition("/")[2], "the board's command line"))
    if parts.initramfs:
        found.append(
            ("initramfs", f"{parts.seen(parts.initramfs_path).lstrip('/')} followkernel", "the board's `boot.initramfs`")
        )
    return found


def settings_lines(parts: BootParts) -> list[tuple[str, str]]:
    """The file's lines with their origins: what follows from the board, but for what its own lines replace, and those."""
    replaced = {line.key for line in lines_of(parts.settings_text) if line.section == "all" and line.key in _SINGLE}
    rows = [(_written(key, value), origin) for key, value, origin in computed(parts) if key not in replaced]
    rows += [(line, "the board's `boot.settings`") for line in parts.settings_text.splitlines()]
    return rows


def _write(parts: BootParts) -> dict[str, bytes]:
    if not parts.boot_apart:
        raise Unfit("firmware reads its settings from a partition of their own, and the board has none that holds /boot")
    if len(parts.lines) > 1:
        raise Unfit("a settings file starts one system, and the board has several entries")
    text = "".join(line + "\n" for line, _ in settings_lines(parts))
    files = {parts.settings_path or SETTINGS_PATH: text.encode()}
    if parts.line_in_files:
        files[LINE_PATH] = (parts.arguments(next(iter(parts.lines))) + "\n").encode()
    return files


class _Read(msgspec.Struct):
    """What a file says: single values by key, and overlays in order."""

    values: dict[str, str] = msgspec.field(default_factory=dict)
    overlays: list[str] = msgspec.field(default_factory=list)
    elsewhere: set[str] = msgspec.field(default_factory=set)


def _parsed(text: str) -> _Read:
    found = _Read()
    for line in lines_of(text):
        if line.section == "none":
            continue
        if line.section != "all":
            found.elsewhere.add(line.section)
        elif line.key == "dtoverlay":
            found.overlays.append(line.value)
        else:
            found.values[line.key] = line.value
    return found


def _find(story: Story, filesystem: Filesystem, where: str) -> Started | None:
    place = "/config.txt"
    if not filesystem.has(place):
        return None
    found = _parsed(filesystem.text(place))
    count = counted(len(found.values) + len(found.overlays), "line")
    story.tell(
        "settings", f"{where}:{place}, {count}" + (f", kernel={found.values['kernel']}" if "kernel" in found.values else "")
    )
    for section in sorted(found.elsewhere):
        story.grant("settings", f"lines under [{section}]", "they hold on some boards only")
    if "kernel" not in found.values:
        story.stop("BOOT-FILE-MISSING", f"{place} on {where} names no kernel", "what firmware takes then is its own choice",
                   "write `kernel=` with the kernel's file", "boot.settings")  # fmt: skip
    kernel_path = "/" + found.values["kernel"].lstrip("/")
    kernel = read_named(story, filesystem, kernel_path, "kernel", where)
    started = Started(kernel, kernel_path, _line(story, filesystem, found, where), applies_overlays=True)
    said, bits = found.values.get("arm_64bit"), _bits_of(kernel)
    if said is not None and bits and (said != "0") != (bits == 64):
        story.stop("BOOT-KERNEL-ARCH", f"{place} on {where} says arm_64bit={said}, and {kernel_path} has {bits} bits",
                   "firmware would start it in the wrong state",
                   "take the line out, or write the other value", "boot.settings")  # fmt: skip
    if "device_tree" in found.values:
        path = "/" + found.values["device_tree"].lstrip("/")
        started.device_tree, started.device_tree_name = read_named(story, filesystem, path, "device tree", where), path
    for text in found.overlays:
        name, *parameters = text.split(",")
        path = f"/{_OVERLAYS}/{name}.dtbo"
        data = read_named(story, filesystem, path, "overlay", where)
        started.overlays.append((path, _with_parameters(story, path, data, parameters)))
    if "initramfs" in found.values:
        named = found.values["initramfs"].split()
        path = "/" + named[0].lstrip("/") if named else "/(none)"
        started.initramfs, started.initramfs_name = read_named(story, filesystem, path, "initramfs", where), path
    return started


def _bits_of(kernel: bytes) -> int:
    """The width of a kernel by its header; 0 for one that does not say."""
    if kernel[56:60] == b"ARM\x64":
        return 64
    return 32 if kernel[36:40] == b"\x18\x28\x6f\x01" else 0


def _line(story: Story, filesystem: Filesystem, found: _Read, where: str) -> str:
    """The command line out of its file: firmware takes the first line alone."""
    path = "/" + found.values.get("cmdline", "cmdline.txt").lstrip("/")
    if not filesystem.has(path):
        if "cmdline" in found.values:
            read_named(story, filesystem, path, "command line", where)
        return ""
    lines = filesystem.text(path).splitlines()
    if len([line for line in lines if line.strip()]) > 1:
        story.warn("BOOT-LINE-TWICE", f"{path} on {where} has {len(lines)} lines", "firmware takes the first one",
                   "put all words on one line", "boot.settings")  # fmt: skip
    return lines[0].strip() if lines else ""


def _with_parameters(story: Story, path: str, data: bytes, parameters: list[str]) -> bytes:
    if not parameters:
        return data
    values = {}
    for text in parameters:
        key, equals, value = text.partition("=")
        values[key] = value if equals else "on"
    try:
        tree = decode_blob(data)
        set_parameters(tree, values)
    except (BlobDamaged, Unfit) as error:
        story.stop("BOOT-DEVICE-TREE", f"the parameters of {path} cannot be set: {error}", "firmware leaves them out",
                   "correct `kernel.overlay-parameters`", "kernel.overlays")  # fmt: skip
    return encode_blob(tree)


METHOD = BootMethod("settings", "config.txt", _write, _find, initramfs_file=True)
