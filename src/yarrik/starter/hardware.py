"""A board's first file, out of what a kernel has for it: a device tree (blob or source), or a configuration.

What is found is a guess to be checked: each comes with the node or line that it is from. Which driver a device needs is looked
up in a kernel's own sources, where they are given: the file that has its `compatible`, and the option that builds that file."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping
from pathlib import Path

import msgspec

from yarrik.arch import ARCHES
from yarrik.beneath import Folder
from yarrik.boot import console_name, memory_of
from yarrik.devicetree import BlobDamaged, DeviceTree, TreeNode, as_source, blob_name, compile_source, decode_blob, text_of
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.patterns import lazy_pattern
from yarrik.run import Options

_BLOB = b"\xd0\x0d\xfe\xed"
_HEAD = lazy_pattern(r"\A(?:#.*\n)*# Linux/(\w+) ")
_KERNEL_ARCHES = {arch.kernel: name for name, arch in ARCHES.items()} | {"x86_64": "x86-64"}
#: Processors of 64 bits by the beginnings of their names, behind `arm,`.
_ARM64 = lazy_pattern(r"(?:arm,cortex-(?:a3[45]|a5[357]|a6|a7[2-8]|x)|arm,neoverse|arm,armv8|apm,|cavium,|nvidia,|qcom,kryo)")
_STORAGE = lazy_pattern(r"^(?:mmc|sdhci|sdmmc|sata|ahci|nvme|nand|flash|virtio_mmio|ufs|spi-flash|usb)", re.IGNORECASE)
_LARGEST = 16 << 20


class Found(msgspec.Struct, frozen=True):
    """Something that a file says of a board, and where it says it."""

    what: str
    value: str
    where: str


class Driver(msgspec.Struct, frozen=True):
    """A device of the tree: its node, its `compatible`, and the kernel's file and option for it, empty when none was found. Of
    options `settable` ones have a prompt; others follow from them. `more` belongs to the device too, like a port's console."""

    node: str
    compatible: str
    file: str = ""
    option: str = ""
    settable: bool = False
    more: tuple[str, ...] = ()


class Hardware(msgspec.Struct, frozen=True):
    """What was read of a board; `files` are those to be written beside its definition, by name."""

    arch: str
    console: str
    memory: tuple[tuple[int, int], ...]
    rows: tuple[Found, ...]
    drivers: tuple[Driver, ...]
    files: Mapping[str, bytes]
    device_tree: str = ""
    base_file: str = ""


def is_hardware_file(text: str) -> bool:
    """Whether `--from` names a file, and not a board."""
    return text.endswith((".dtb", ".dts", ".config")) or "/" in text or Path(text).is_file()


def read_hardware(file: Path, name: str, sources: Path | None = None) -> Hardware:
    """Reads a device tree or a configuration. Raises YarrikError."""
    try:
        with file.open("rb") as opened:
            data = opened.read(_LARGEST + 1)
    except OSError as error:
        raise YarrikError(Trouble("NEW-HARDWARE", f"cannot read {file}: {error.strerror}", Place(file),
                                  remedy="name a device tree (.dtb, .dts) or a kernel's configuration")) from error  # fmt: skip
    if len(data) > _LARGEST:
        raise YarrikError(Trouble("NEW-HARDWARE", f"{file} is too large for a device tree or a configuration", Place(file)))
    if data[:4] != _BLOB and b"CONFIG_" in data:
        return _from_config(file, name, data.decode("utf-8", "replace"))
    if data[:4] == _BLOB:
        try:
            tree = decode_blob(data)
        except BlobDamaged as error:
            raise YarrikError(Trouble("NEW-HARDWARE", f"{file} is not a valid device tree: {error}", Place(file),
                                      remedy="name another file")) from error  # fmt: skip

        beside = {f"{name}.dts": as_source(tree).encode()}
        source = f"{name}.dts"
    elif b"/dts-v1/" in data or b"/include/" in data or b"#include" in data:
        tree, source, beside = compile_source(file), file.name, {file.name: data}
    else:
        raise YarrikError(Trouble("NEW-HARDWARE", f"{file} is neither a device tree nor a kernel's configuration", Place(file),
                                  remedy="a running board has its tree as /sys/firmware/fdt, its configuration as "
                                  "/proc/config.gz"))  # fmt: skip
    return _from_tree(tree, source, beside, sources)


def _from_config(file: Path, name: str, text: str) -> Hardware:
    head = _HEAD.search(text)
    arch = _KERNEL_ARCHES.get(head.group(1), "") if head else ""
    rows = [Found("architecture", arch, "the first line")] if arch else []
    line = re.search(r'^CONFIG_CMDLINE="(.*)"$', text, re.MULTILINE)
    console = next((word[8:] for word in (line.group(1).split() if line else ()) if word.startswith("console=")), "")
    if console:
        rows.append(Found("console", console, "CONFIG_CMDLINE"))
    if not arch:
        raise YarrikError(
            Trouble("NEW-HARDWARE", f"{file} does not say for which architecture it is", Place(file),
                    why="a whole configuration begins with a line like `# Linux/arm64 6.1.0`",
                    remedy="take the board's .config, not a fragment or defconfig")
        )  # fmt: skip
    config = f"{name}.config"
    return Hardware(arch, console, (), tuple(rows), (), {config: text.encode()}, base_file=config)


def _from_tree(tree: DeviceTree, source: str, files: Mapping[str, bytes], sources: Path | None) -> Hardware:
    rows: list[Found] = []
    model = tree.root.properties.get("model")
    if model is not None:
        rows.append(Found("model", text_of(model.value) or "", "/"))
    arch, where = _arch_of(tree)
    if not arch:
        raise YarrikError(
            Trouble("NEW-HARDWARE", "the device tree does not say for which architecture it is", Place(Path(source)),
                    why="no processor in /cpus is known", remedy="make the board with --arch, and name the device tree in it")
        )  # fmt: skip
    rows.append(Found("architecture", arch, where))
    console, where = console_name(tree)
    if console:
        rows.append(Found("console", console, where))
    banks = tuple((bank.start, bank.size) for bank in memory_of(tree))
    rows += [Found("memory", f"{size >> 20} MiB at {start:#x}", "memory node") for start, size in banks]
    devices = [(path, _compatible(node)) for path, node, enabled in _devices(tree) if enabled and _compatible(node)]
    rows += [Found("storage", words[0], path) for path, words in devices if _STORAGE.match(path.rpartition("/")[2])]
    drivers = _drivers(devices, sources) if sources is not None else []
    return Hardware(arch, console, banks, tuple(rows), tuple(drivers), files, device_tree=source)


def _arch_of(tree: DeviceTree) -> tuple[str, str]:
    cpus = tree.root.children.get("cpus")
    for name, node in sorted(cpus.children.items()) if cpus is not None else ():
        words = _compatible(node)
        if not words:
            continue
        if any("riscv" in word for word in words) or "riscv,isa" in node.properties:
            return "riscv64", f"/cpus/{name}"
        if any(_ARM64.match(word) for word in words):
            return "arm64", f"/cpus/{name}"
        if any(word.startswith(("arm,", "qcom,krait", "marvell,")) for word in words):
            return "arm", f"/cpus/{name}"
    return "", ""


def _compatible(node: TreeNode) -> list[str]:
    item = node.properties.get("compatible")
    return [word for word in item.value.decode("ascii", "replace").split("\0") if word] if item is not None else []


def _devices(tree: DeviceTree) -> Iterator[tuple[str, TreeNode, bool]]:
    def visit(path: str, node: TreeNode, enabled: bool) -> Iterator[tuple[str, TreeNode, bool]]:
        item = node.properties.get("status")
        enabled = enabled and (item is None or text_of(item.value) in ("okay", "ok"))
        for child in node.children.values():
            here = f"{path}/{child.name}"
            yield here, child, enabled and (child.properties.get("status") is None
                                            or text_of(child.properties["status"].value) in ("okay", "ok"))  # fmt: skip
            yield from visit(here, child, enabled)

    return (one for one in visit("", tree.root, True) if not one[0].startswith(("/cpus", "/__", "/aliases", "/chosen")))


def _drivers(devices: list[tuple[str, list[str]]], sources: Path) -> list[Driver]:
    """For each device the kernel's driver: the first of its `compatible` words that a driver has."""
    wanted = {word for _, words in devices for word in words}
    places = _places_of(wanted, sources)
    with Folder.at(sources) as folder:
        known = Options.of(folder)
    found = []
    for path, words in devices:
        word = next((one for one in words if one in places), None)
        if word is None:
            found.append(Driver(path, words[0]))
        else:
            option = _option_of(places[word], sources)
            settable = any(one.prompted for one in known.defined.get(option, ()))
            more = (f"{option}_CONSOLE",) if f"{option}_CONSOLE" in known.defined else ()
            found.append(Driver(path, word, places[word], option, settable, more))
    return found


def _places_of(wanted: set[str], sources: Path) -> dict[str, str]:
    """The first C file, by path, that has each text as a `compatible` of a driver."""
    found: dict[str, str] = {}
    pattern = re.compile(rb'\.compatible\s*=\s*"([^"\n]+)"|_DECLARE\w*\(\w+,\s*"([^"\n]+)"')
    folders = [sources / name for name in ("arch", "drivers", "sound", "net", "lib") if (sources / name).is_dir()]
    for top in folders:
        for folder, names, files in os.walk(top, followlinks=False):
            names.sort()
            for file in sorted(files):
                if not file.endswith(".c"):
                    continue
                path = Path(folder, file)
                if path.is_symlink():
                    continue
                data = path.read_bytes()
                if b"compatible" not in data and b"_DECLARE" not in data:
                    continue
                for first, second in pattern.findall(data):
                    word = (first or second).decode("ascii", "replace")
                    if word in wanted:
                        found.setdefault(word, str(path.relative_to(sources)))
    return found


def _option_of(file: str, sources: Path) -> str:
    """The option that builds a file, by the Makefile beside it; "" when it is always built or the Makefile does not say."""
    folder, _, name = file.rpartition("/")
    makefile = sources / folder / "Makefile"
    try:
        text = makefile.read_text(errors="replace").replace("\\\n", " ")
    except OSError:
        return ""
    wanted = name.removesuffix(".c") + ".o"
    for _ in range(4):  # an object may be part of another one
        match = re.search(rf"^(\S+?)-(?:\$\(CONFIG_(\w+)\)|y|objs)\s*[:+]?=.*\b{re.escape(wanted)}(?=\s|$)", text, re.MULTILINE)
        if match is None:
            return ""
        if match[1] == "obj":
            return match[2] or ""
        if match[2]:
            return match[2]
        wanted = match[1] + ".o"
    return ""


def fragment_of(hardware: Hardware) -> str:
    """Options of the drivers that were found, as a fragment."""
    options = {name for one in hardware.drivers if one.settable for name in (one.option, *one.more)}
    return "# Drivers of the devices in the device tree.\n" + "".join(f"CONFIG_{name}=y\n" for name in sorted(options))


def blob_of(hardware: Hardware) -> str:
    """The name of the board's device tree blob."""
    return blob_name(hardware.device_tree) if hardware.device_tree else ""
