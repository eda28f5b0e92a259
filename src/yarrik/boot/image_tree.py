"""Follows an image tree as a bootloader does, whichever boot file names it: hashes, signatures, and what it starts."""

from __future__ import annotations

from yarrik.boot.fit import FitDamaged, decode_fit, keys_in, verify_fit
from yarrik.boot.loaders import own_device_tree
from yarrik.boot.reading import unpacked
from yarrik.boot.story import Started, Story
from yarrik.devicetree import BlobDamaged, decode_blob
from yarrik.errors import listed, suggestion


def _signature(story: Story, data: bytes, path: str, signed_by: str) -> None:
    """Checks the signatures of an image tree by the bootloader's keys, where these are known."""
    try:
        loaders = [*story.board.loaders.values(), *(blob.path.read_bytes() for blob in story.board.blobs)]
        control = story.board.control or next(filter(None, map(own_device_tree, loaders)), b"")
        keys = keys_in(decode_blob(control)) if control else {}
    except BlobDamaged:
        keys = {}
    if not keys:
        if signed_by and story.board.options:
            story.stop(
                "BOOT-CHAIN",
                f"{path} is signed by `{signed_by}`, and the bootloader has no key",
                "it would start what nobody has signed just as well",
                "give it a device tree of its own that is in its file, with `verify = true`",
                "boot.key",
            )
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
    """Follows one configuration of an image tree; an empty name is the default one. Stops the story at what a bootloader
    refuses: a damaged tree, a hash or signature that does not fit, a configuration that is missing."""
    try:
        _, fit = decode_fit(data)
    except FitDamaged as error:
        story.stop(
            "BOOT-KERNEL-FORM",
            f"{path} cannot be loaded: {error}",
            "the bootloader would refuse it",
            "write the image again",
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
            "write the image again",
        )
    kernel = images[chosen.kernel]
    story.tell("image tree", f"{path}, configuration `{wanted}`, all hashes fit")
    _signature(story, data, path, chosen.signed_by)
    started.signed = bool(chosen.signed_by)
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
