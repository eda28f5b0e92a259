"""A memory bundle: files to try a board with that has no storage yet."""

from __future__ import annotations

import gzip

from yarrik.boot.parts import BootParts, encode_script
from yarrik.errors import Unfit

#: The files of a memory bundle that go to an address, each with the name of its area in the memory map.
BUNDLE_FILES = {"kernel": "kernel", "device-tree.dtb": "device tree", "initramfs": "initramfs"}


def memory_bundle(parts: BootParts) -> dict[str, bytes]:
    """Files to try a board with that has no storage yet: everything goes to memory, and a script says where.

    File names are those in the bundle's folder; nothing in it refers to a disk. Where firmware decides where things go, the
    list of addresses is empty and there is no script. Raises Unfit."""
    memory = parts.memory
    kernel = parts.kernel()
    if parts.kernel_form.endswith(".gz"):
        kernel = gzip.decompress(kernel)
    files = {"kernel": kernel, "device-tree.dtb": parts.device_tree, "initramfs": parts.initramfs}
    files = {name: data for name, data in files.items() if data}
    line = str(next(iter(parts.lines.values()))[1])
    places = [(memory.address(BUNDLE_FILES[name]), len(data), name) for name, data in files.items()] if memory else []
    rows = [f"{address:#x} {size:#x} {name}" for address, size, name in places]
    files["addresses.txt"] = ("# address size file\n" + "".join(row + "\n" for row in rows)).encode()
    files["command-line.txt"] = (line + "\n").encode()
    if memory is None:
        return files
    starts = {"arm64": "booti", "riscv64": "booti", "arm": "bootz", "x86-64": "zboot"}[parts.arch]
    ram = f"{memory.address('initramfs'):#x}:{len(parts.initramfs):#x}" if parts.initramfs else "-"
    tree = f" {memory.address('device tree'):#x}" if parts.device_tree else ""
    if "'" in line:
        raise Unfit("a script cannot hold a command line with a single quote in it")
    lines = [f"setenv bootargs '{line}'", f"{starts} {memory.address('kernel'):#x} {ram}{tree}"]
    files["start.scr"] = encode_script(parts, lines)
    return files


def read_addresses(text: str) -> dict[str, tuple[int, int]]:
    """Address and size in bytes of each file of a memory bundle, from its addresses.txt. Raises ValueError."""
    found = {}
    for line in text.splitlines():
        if line.strip() and not line.startswith("#"):
            address, size, name = line.split(maxsplit=2)
            found[name] = (int(address, 16), int(size, 16))
    return found
