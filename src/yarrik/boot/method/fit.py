"""The method `fit`: one image tree with everything in it, and a script that starts it."""

from __future__ import annotations

from yarrik.boot.fit import Fit, FitConfiguration, FitImage, encode_fit
from yarrik.boot.method.form import BootMethod
from yarrik.boot.method.script import find_script
from yarrik.boot.parts import SCRIPT_PATH, BootParts, encode_script, script_head
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import Started, Story


def _write(parts: BootParts) -> dict[str, bytes]:
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
    lines = [*script_head(parts), load, f"bootm {bundle}#{default}"]
    return {path: encode_fit(fit, parts.key, parts.key_name), SCRIPT_PATH: encode_script(parts, lines)}


def _find(story: Story, filesystem: Filesystem, where: str) -> Started | None:
    return find_script(story, filesystem, where)


def _areas(kernel: int, others: int) -> dict[str, int]:
    return {"script": 8192, "bundle": kernel + others + 8192}


METHOD = BootMethod("fit", "boot.scr", _write, _find, guessed=False, areas=_areas)
