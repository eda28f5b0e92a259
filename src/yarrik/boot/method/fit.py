"""The method `fit`: one image tree with everything in it, and a script that starts it."""

from __future__ import annotations

from yarrik.boot.fit import Fit, FitConfiguration, FitDamaged, FitImage, decode_fit, encode_fit, keys_in, verify_fit
from yarrik.boot.method.form import BootMethod
from yarrik.boot.parts import SCRIPT_PATH, BootParts, encode_script, script_head
from yarrik.boot.reading import unpacked
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import Started, Story
from yarrik.devicetree import BlobDamaged, decode_blob
from yarrik.errors import listed, suggestion


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


def _signature(story: Story, data: bytes, path: str, signed_by: str) -> None:
    """Checks the signatures of an image tree by the bootloader's keys, where these are known."""
    try:
        keys = keys_in(decode_blob(story.board.control)) if story.board.control else {}
    except BlobDamaged:
        keys = {}
    if not keys:
        if signed_by:
            why = "the keys in the bootloader's device tree are not known here"
            story.grant("image tree", f"that the signature by `{signed_by}` fits", why)
        return
    for name, key in keys.items():
        try:
            verify_fit(data, key)
        except FitDamaged as error:
            story.stop(
                "BOOT-SIGNATURE",
                f"{path} does not fit the bootloader's key `{name}`: {error}",
                "the bootloader refuses what this key did not sign",
                "sign the image with this key (`boot.key`), or give the bootloader the other one",
                "boot.key",
            )
    story.tell("image tree", f"signed by {listed(keys)}: the signature fits the key in the bootloader's device tree")


def read_fit(story: Story, started: Started, data: bytes, path: str, configuration: str) -> Started:
    try:
        _, fit = decode_fit(data)
    except FitDamaged as error:
        story.stop(
            "BOOT-KERNEL-FORM",
            f"{path} cannot be loaded: {error}",
            "the bootloader would refuse it",
            "write the image anew",
            "boot.method",
        )
    wanted = configuration or fit.default
    chosen = next((one for one in fit.configurations if one.name == wanted), None)
    if chosen is None:
        story.stop(
            "BOOT-FILE-MISSING",
            f"{path} has no configuration `{wanted}`",
            "the bootloader would refuse it",
            suggestion(wanted, [one.name for one in fit.configurations]),
        )
    images = {image.name: image for image in fit.images}
    if not chosen.kernel:
        story.stop(
            "BOOT-FILE-MISSING",
            f"the configuration `{wanted}` of {path} names no kernel",
            "the bootloader would have nothing to start",
            "write the image anew",
        )
    kernel = images[chosen.kernel]
    story.tell("image tree", f"{path}, configuration `{wanted}`, all hashes fit")
    _signature(story, data, path, chosen.signed_by)
    started.kernel, started.kernel_name = unpacked(kernel.data, kernel.compression), f"{path}:{kernel.name}"
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


def _find(story: Story, filesystem: Filesystem, where: str) -> Started | None:
    from yarrik.boot.method.script import find_script

    return find_script(story, filesystem, where)


def _areas(kernel: int, others: int) -> dict[str, int]:
    return {"script": 8192, "bundle": kernel + others + 8192}


METHOD = BootMethod("fit", "boot.scr", _write, _find, guessed=False, areas=_areas)
