"""What each boot method puts on the boot partition: which files, with what in them."""

from __future__ import annotations

import gzip
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from yarrik.arch import ARCHES
from yarrik.boot.command_line import CommandLine
from yarrik.boot.entries import ENTRIES_FOLDER, LOADER_FILE, BootEntry, encode_entry, encode_loader
from yarrik.boot.fit import Fit, FitConfiguration, FitImage, encode_fit
from yarrik.boot.legacy import LegacyImage, encode_legacy
from yarrik.boot.memory_map import MemoryMap
from yarrik.boot.menu import MENU_PATH, Menu, MenuEntry, encode_menu
from yarrik.errors import Unfit

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey

SCRIPT_PATH = "/boot/boot.scr"


@dataclass(frozen=True)
class BootParts:
    """All that a boot method works with. `kernel` reads the kernel's bytes; paths are those in the image; `lines` are the
    command lines by entry name, the first one starts by itself; `boot_apart` says that /boot is a partition of its own."""

    product: str
    version: str
    arch: str
    kernel_path: str
    kernel: Callable[[], bytes]
    kernel_form: str
    lines: dict[str, tuple[str, CommandLine]]
    device_tree: bytes = b""
    device_tree_path: str = ""
    overlays: dict[str, bytes] = field(default_factory=dict)
    initramfs: bytes = b""
    initramfs_path: str = ""
    memory: MemoryMap | None = None
    boot_apart: bool = False
    line_in_files: bool = True
    seconds: int = 0
    time: int = 0
    key: RSAPrivateKey | None = None
    key_name: str = ""

    def seen(self, path: str) -> str:
        """A boot file's path as the bootloader sees it, on the partition that holds it."""
        return path.removeprefix("/boot") if self.boot_apart else path

    def arguments(self, name: str) -> str:
        return str(self.lines[name][1]) if self.line_in_files else ""


def boot_files(method: str, parts: BootParts) -> dict[str, bytes]:
    """The files of a method by their paths in the image, beside kernel, device tree and initramfs themselves.

    Raises ValueError when the method cannot carry what there is."""
    return _METHODS[method](parts)


def _menu(parts: BootParts) -> dict[str, bytes]:
    entries = [
        MenuEntry(
            name,
            title,
            parts.seen(parts.kernel_path),
            parts.seen(parts.device_tree_path) if parts.device_tree_path else "",
            parts.arguments(name),
            parts.seen(parts.initramfs_path) if parts.initramfs else "",
            tuple(parts.seen(path) for path in parts.overlays),
        )
        for name, (title, _) in parts.lines.items()
    ]
    return {MENU_PATH: encode_menu(Menu(entries[0].label, entries, parts.seconds * 10)).encode()}


def _entries(parts: BootParts) -> dict[str, bytes]:
    files: dict[str, bytes] = {}
    for name, (title, _) in parts.lines.items():
        entry = BootEntry(
            title,
            parts.version,
            parts.seen(parts.kernel_path),
            parts.arguments(name),
            parts.arch,
            parts.seen(parts.device_tree_path) if parts.device_tree_path else "",
            tuple(parts.seen(path) for path in parts.overlays),
            (parts.seen(parts.initramfs_path),) if parts.initramfs else (),
        )
        files[f"{ENTRIES_FOLDER}/{name}.conf"] = encode_entry(entry).encode()
    return {LOADER_FILE: encode_loader(next(iter(parts.lines)), parts.seconds).encode(), **files}


def _uefi(parts: BootParts) -> dict[str, bytes]:
    if parts.line_in_files:
        raise Unfit("firmware hands no command line to a kernel that it starts by itself")
    if parts.overlays:
        raise Unfit("firmware does not apply overlays")
    if parts.initramfs:
        raise Unfit("firmware loads no initramfs beside a kernel that it starts by itself")
    return {"/boot" + ARCHES[parts.arch].efi_program: parts.kernel()}


def _fit(parts: BootParts) -> dict[str, bytes]:
    assert parts.memory is not None
    kernel, compression = parts.kernel(), "none"
    if parts.kernel_form.endswith(".gz"):
        compression = "gzip"
    address = parts.memory.address("kernel")
    images = [FitImage("kernel", "kernel", kernel, parts.arch, "kernel", compression, address, address)]
    trees: list[str] = []
    if parts.device_tree:
        place = parts.memory.address("device tree")
        images.append(FitImage("device-tree", "device-tree", parts.device_tree, parts.arch, "device tree", load=place))
        trees.append("device-tree")
    for path, blob in parts.overlays.items():
        name = path.rpartition("/")[2].removesuffix(".dtbo")
        images.append(FitImage(f"overlay-{name}", "device-tree", blob, parts.arch, f"overlay {name}"))
        trees.append(f"overlay-{name}")
    if parts.initramfs:
        images.append(
            FitImage("initramfs", "initramfs", parts.initramfs, parts.arch, "initramfs", load=parts.memory.address("initramfs"))
        )
    default = next(iter(parts.lines))
    configuration = FitConfiguration(default, "kernel", tuple(trees), "initramfs" if parts.initramfs else "", parts.product)
    fit = Fit(f"{parts.product} {parts.version}", tuple(images), (configuration,), default, parts.time)
    path = f"/boot/{parts.product}.itb"
    bundle = f"{parts.memory.address('bundle'):#x}"
    load = f"load ${{devtype}} ${{devnum}}:${{distro_bootpart}} {bundle} {parts.seen(path)}"
    lines = [*_script_head(parts), load, f"bootm {bundle}#{default}"]
    return {path: encode_fit(fit, parts.key, parts.key_name), SCRIPT_PATH: _script(parts, lines)}


def _wrapped(parts: BootParts) -> dict[str, bytes]:
    """Kernel and initramfs as legacy images, and a script that loads them: for bootloaders that know nothing newer."""
    assert parts.memory is not None
    memory = parts.memory
    # A kernel that unpacks itself may lie anywhere: with both addresses the same as where it is loaded, nothing is moved.
    kernel_at = memory.address("kernel")
    title = f"{parts.product} {parts.version}"
    compression = "gzip" if parts.kernel_form.endswith(".gz") else "none"
    kernel = LegacyImage(
        "kernel", parts.arch, (parts.kernel(),), title, kernel_at, kernel_at, parts.time, compression=compression
    )
    files = {"/boot/uImage": encode_legacy(kernel)}
    at = f"{memory.address('bundle'):#x}"
    tree_at = f"{memory.address('device tree'):#x}" if parts.device_tree else "${fdtcontroladdr}"
    load = "load ${devtype} ${devnum}:${distro_bootpart}"
    lines = [*_script_head(parts), f"{load} {at} {parts.seen('/boot/uImage')}"]
    if parts.device_tree:
        lines.append(f"{load} {tree_at} {parts.seen(parts.device_tree_path)}")
    if parts.overlays:
        lines += [f"fdt addr {tree_at}", "fdt resize 0x2000"]
        for path in parts.overlays:
            overlay_at = f"{memory.address('overlays'):#x}"
            lines += [f"{load} {overlay_at} {parts.seen(path)}", f"fdt apply {overlay_at}"]
    initramfs = "-"
    if parts.initramfs:
        initramfs = f"{memory.address('initramfs'):#x}"
        files["/boot/uInitramfs"] = encode_legacy(
            LegacyImage("initramfs", parts.arch, (parts.initramfs,), f"{parts.product} initramfs", time=parts.time)
        )
        lines.append(f"{load} {initramfs} {parts.seen('/boot/uInitramfs')}")
    lines.append(f"bootm {at} {initramfs} {tree_at}")
    return {**files, SCRIPT_PATH: _script(parts, lines)}


def _script_head(parts: BootParts) -> list[str]:
    line = parts.arguments(next(iter(parts.lines)))
    if "'" in line:
        raise Unfit("a script cannot hold a command line with a single quote in it")
    return [f"# {parts.product} {parts.version}", *([f"setenv bootargs '{line}'"] if line else [])]


def _script(parts: BootParts, lines: list[str]) -> bytes:
    text = "".join(line + "\n" for line in lines).encode()
    return encode_legacy(LegacyImage("script", parts.arch, (text,), f"{parts.product} {parts.version}", time=parts.time))


#: The files of a memory bundle that go to an address, each with the name of its area in the memory map.
BUNDLE_FILES = {"kernel": "kernel", "device-tree.dtb": "device tree", "initramfs": "initramfs"}


def memory_bundle(parts: BootParts) -> dict[str, bytes]:
    """Files to try a board with that has no storage yet: everything goes to memory, and a script says where.

    File names are those in the bundle's folder; nothing in it refers to a disk."""
    assert parts.memory is not None
    memory = parts.memory
    kernel = parts.kernel()
    if parts.kernel_form.endswith(".gz"):
        kernel = gzip.decompress(kernel)
    files = {"kernel": kernel, "device-tree.dtb": parts.device_tree, "initramfs": parts.initramfs}
    files = {name: data for name, data in files.items() if data}
    line = str(next(iter(parts.lines.values()))[1])
    rows = [f"{memory.address(BUNDLE_FILES[name]):#x} {len(data):#x} {name}" for name, data in files.items()]
    files["addresses.txt"] = ("# address size file\n" + "".join(row + "\n" for row in rows)).encode()
    starts = {"arm64": "booti", "riscv64": "booti", "arm": "bootz", "x86-64": "zboot"}[parts.arch]
    ram = f"{memory.address('initramfs'):#x}:{len(parts.initramfs):#x}" if parts.initramfs else "-"
    tree = f" {memory.address('device tree'):#x}" if parts.device_tree else ""
    if "'" in line:
        raise Unfit("a script cannot hold a command line with a single quote in it")
    lines = [f"setenv bootargs '{line}'", f"{starts} {memory.address('kernel'):#x} {ram}{tree}"]
    files["start.scr"] = _script(parts, lines)
    files["command-line.txt"] = (line + "\n").encode()
    return files


def read_addresses(text: str) -> dict[str, tuple[int, int]]:
    """Address and size in bytes of each file of a memory bundle, from its addresses.txt. Raises ValueError."""
    found = {}
    for line in text.splitlines():
        if line.strip() and not line.startswith("#"):
            address, size, name = line.split(maxsplit=2)
            found[name] = (int(address, 16), int(size, 16))
    return found


_METHODS: dict[str, Callable[[BootParts], dict[str, bytes]]] = {
    "menu": _menu,
    "entries": _entries,
    "uefi": _uefi,
    "fit": _fit,
    "script": _wrapped,
}
