"""The method `fit`: one image tree with everything in it, and a script that starts it."""

from __future__ import annotations

from yarrik.boot.fit import Fit, FitConfiguration, FitImage, encode_fit
from yarrik.boot.loaders import loader_facts
from yarrik.boot.method.form import BootMethod
from yarrik.boot.method.script import find_script, follow_commands
from yarrik.boot.parts import SCRIPT_PATH, BootParts, encode_script, script_head
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import Started, Story
from yarrik.devicetree import decode_blob


def _write(parts: BootParts) -> dict[str, bytes]:
    memory = parts.needed_memory()
    kernel, compression = parts.kernel(), "none"
    if parts.kernel_form.endswith(".gz"):
        compression = "gzip"
    address = memory.address("kernel")
    images = [FitImage("kernel", "kernel", kernel, parts.arch, "kernel", compression, address, parts.entry or address)]
    trees: list[str] = []
    if parts.device_tree:
        place = memory.address("device tree")
        images.append(FitImage("device-tree", "device-tree", parts.device_tree, parts.arch, "device tree", load=place))
        trees.append("device-tree")
    for path, blob in parts.overlays.items():
        name = path.rpartition("/")[2].removesuffix(".dtbo")
        images.append(FitImage(f"overlay-{name}", "device-tree", blob, parts.arch, f"overlay {name}"))
        trees.append(f"overlay-{name}")
    if parts.initramfs:
        images.append(
            FitImage("initramfs", "initramfs", parts.initramfs, parts.arch, "initramfs", load=memory.address("initramfs"))
        )
    for one in parts.more:
        images.append(FitImage(one.name, one.type, one.data, parts.arch, one.name, load=one.load, entry=one.entry))
    default = next(iter(parts.lines))
    loadables = tuple(one.name for one in parts.more)
    initramfs = "initramfs" if parts.initramfs else ""
    family = {default: ("device-tree", parts.device_tree)}
    for path, data in parts.more_device_trees.items():
        name = path.rpartition("/")[2].removesuffix(".dtb")
        place = memory.address("device tree")
        images.append(FitImage(f"device-tree-{name}", "device-tree", data, parts.arch, f"device tree of {name}", load=place))
        family[name] = (f"device-tree-{name}", data)
    # A bootloader picks by the board that it runs on; what that is called is needed where there are several.
    configurations = tuple(
        FitConfiguration(
            name, "kernel", (tree, *trees[1:]) if trees else (), initramfs, f"{parts.product} on {name}" if len(family) > 1 else
            parts.product, _board_of(data) if len(family) > 1 else "", loadables=loadables,
        )
        for name, (tree, data) in family.items()
    )  # fmt: skip
    fit = Fit(f"{parts.product} {parts.version}", tuple(images), configurations, default, parts.time)
    path = f"/boot/{parts.product}.itb"
    if not parts.script:
        return {path: encode_fit(fit, parts.key, parts.key_name)}
    bundle = f"{memory.address('bundle'):#x}"
    load = f"load ${{devtype}} ${{devnum}}:${{distro_bootpart}} {bundle} {parts.seen(path)}"
    lines = [*script_head(parts), load, f"bootm {bundle}" if len(family) > 1 else f"bootm {bundle}#{default}"]
    return {path: encode_fit(fit, parts.key, parts.key_name), SCRIPT_PATH: encode_script(parts, lines)}


def _board_of(blob: bytes) -> str:
    item = decode_blob(blob).root.properties.get("compatible")
    return item.value.partition(b"\0")[0].decode("ascii", "replace") if item is not None else ""


def _find(story: Story, filesystem: Filesystem, where: str) -> Started | None:
    found = find_script(story, filesystem, where)
    if found is not None:
        return found
    for name, data in (*story.board.loaders.items(), *((one.name, one.path.read_bytes()) for one in story.board.blobs)):
        command = loader_facts(data).environment.get("bootcmd", "")
        if ".itb" in command:
            story.tell("boot command", f"built into {name}: {command}")
            started = follow_commands(story, filesystem, command.replace(";", "\n"), where)
            if started is not None:
                return started
    return None


def _areas(kernel: int, others: int) -> dict[str, int]:
    return {"script": 8192, "bundle": kernel + others + 8192}


METHOD = BootMethod(
    "fit", "boot.scr, or an image tree that the bootloader's own command names", _write, _find, guessed=False, areas=_areas
)
