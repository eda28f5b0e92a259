"""The method `script`: wrapped files, and a script that loads them."""

from __future__ import annotations

import re
from collections.abc import Iterator

from yarrik.boot.image_tree import read_fit
from yarrik.boot.legacy import LegacyDamaged, LegacyImage, decode_legacy, encode_legacy
from yarrik.boot.method.form import BootMethod
from yarrik.boot.parts import SCRIPT_PATH, BootParts, encode_script, script_head
from yarrik.boot.reading import read_named, unpacked
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import Started, Story
from yarrik.units import counted

_PLACES = ("/boot.scr.uimg", "/boot.scr", "/boot/boot.scr.uimg", "/boot/boot.scr")


def _write(parts: BootParts) -> dict[str, bytes]:
    """Kernel and initramfs as legacy images, and a script that loads them: for bootloaders that know nothing newer."""
    memory = parts.needed_memory()
    # A kernel that unpacks itself may lie anywhere: with both addresses the same as where it is loaded, nothing is moved.
    kernel_at = memory.address("kernel")
    title = f"{parts.product} {parts.version}"
    compression = "gzip" if parts.kernel_form.endswith(".gz") else "none"
    kernel = LegacyImage(
        "kernel", parts.arch, (parts.kernel(),), title, kernel_at, parts.entry or kernel_at, parts.time, compression=compression
    )
    files = {"/boot/uImage": encode_legacy(kernel)}
    at = f"{memory.address('bundle'):#x}"
    tree_at = f"{memory.address('device tree'):#x}" if parts.device_tree else "${fdtcontroladdr}"
    load = "load ${devtype} ${devnum}:${distro_bootpart}"
    lines = [*script_head(parts), f"{load} {at} {parts.seen('/boot/uImage')}"]
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
    return {**files, SCRIPT_PATH: encode_script(parts, lines)}


def find_script(story: Story, filesystem: Filesystem, where: str) -> Started | None:
    """Follows the script of a boot partition; it may start a wrapped kernel or an image tree."""
    place = next((path for path in _PLACES if filesystem.has(path)), None)
    return _read(story, filesystem, place, where) if place else None


def _read(story: Story, filesystem: Filesystem, place: str, where: str) -> Started:
    try:
        script = decode_legacy(filesystem.content(place, 1 << 20))
    except LegacyDamaged as error:
        story.stop(
            "BOOT-MENU-MISSING",
            f"the script {place} on {where} is damaged: {error}",
            "the bootloader would refuse it and go on to its prompt",
            "write it again",
        )
    text = script.parts[0].decode("utf-8", "replace")
    story.tell("boot script", f"{where}:{place}, {counted(len(text.splitlines()), 'line')}")
    started = follow_commands(story, filesystem, text, where)
    if started is not None:
        started.script = place
        return started
    story.stop(
        "BOOT-MENU-MISSING",
        f"the script {place} on {where} starts nothing",
        "the bootloader would go on to its prompt",
        "let it end in a command that starts the kernel",
    )


def follow_commands(story: Story, filesystem: Filesystem, text: str, where: str) -> Started | None:
    """What a bootloader's commands start; None when they start nothing."""
    loaded: dict[int, str] = {}
    line = ""
    overlays: list[tuple[str, bytes]] = []
    for words in _commands(text):
        if words[0] == "setenv" and words[1:2] == ["bootargs"]:
            line = " ".join(words[2:])
        elif words[0] == "load" and len(words) == 5:
            loaded[_address(words[3])] = words[4]
        elif words[:2] == ["fdt", "apply"] and _address(words[2]) in loaded:
            path = loaded[_address(words[2])]
            overlays.append((path, read_named(story, filesystem, path, "overlay", where)))
        elif words[0] == "bootm":
            return _bootm(story, filesystem, words, loaded, line, overlays, where)
    return None


def _bootm(
    story: Story,
    filesystem: Filesystem,
    words: list[str],
    loaded: dict[int, str],
    line: str,
    overlays: list[tuple[str, bytes]],
    where: str,
) -> Started:
    address, _, configuration = words[1].partition("#")
    path = loaded.get(_address(address), "")
    data = read_named(story, filesystem, path, "kernel", where)
    if data[:4] == b"\xd0\x0d\xfe\xed":
        return read_fit(story, Started(data, path, line), data, path, configuration)
    wrapped = _unwrapped(story, data, path)
    started = Started(unpacked(wrapped.parts[0], wrapped.compression), path, line, overlays=overlays)
    if not wrapped.load <= wrapped.entry < wrapped.load + max(len(started.kernel), 1):
        story.stop(
            "BOOT-MEMORY",
            f"{path} is loaded to {wrapped.load:#x} and entered at {wrapped.entry:#x}, outside of it",
            "the processor would jump out of the kernel",
            "give the address where it starts, or the same address twice",
            "memory",
        )
    started.given = {"kernel": wrapped.load, "bundle": _address(address)}
    started.kernel_name = path
    if len(words) > 2 and words[2] != "-":
        name = loaded.get(_address(words[2]), "")
        ram = _unwrapped(story, read_named(story, filesystem, name, "initramfs", where), name)
        started.initramfs, started.initramfs_name = ram.parts[0], name
        started.given["initramfs"] = _address(words[2])
    if len(words) > 3 and _address(words[3]) in loaded:
        started.device_tree_name = loaded[_address(words[3])]
        started.device_tree = read_named(story, filesystem, started.device_tree_name, "device tree", where)
        started.given["device tree"] = _address(words[3])
    return started


def _unwrapped(story: Story, data: bytes, path: str) -> LegacyImage:
    try:
        return decode_legacy(data)
    except LegacyDamaged as error:
        story.stop(
            "BOOT-KERNEL-FORM",
            f"{path} cannot be loaded: {error}",
            "the bootloader would refuse it",
            "let the boot method wrap it",
            "boot.method",
        )


def _commands(text: str) -> Iterator[list[str]]:
    for line in text.splitlines():
        words = [word[1:-1] if word[0] in "'\"" else word for word in re.findall(r"'[^']*'|\"[^\"]*\"|[^\s]+", line)]
        if words and not words[0].startswith("#"):
            yield words


def _address(word: str) -> int:
    try:
        return int(word, 16)
    except ValueError:
        return -1


def _areas(kernel: int, others: int) -> dict[str, int]:
    return {"script": 8192, "bundle": kernel}


METHOD = BootMethod("script", "boot.scr", _write, find_script, areas=_areas)
