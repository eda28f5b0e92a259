"""The method `script`: wrapped files, and a script that loads them."""

from __future__ import annotations

import re

from yarrik.boot.commands import Commands, ScriptUnclear
from yarrik.boot.image_tree import read_fit
from yarrik.boot.legacy import LegacyDamaged, LegacyImage, decode_legacy, encode_legacy
from yarrik.boot.method.form import BootMethod
from yarrik.boot.parts import SCRIPT_PATH, BootParts, encode_script, script_head
from yarrik.boot.reading import read_named, unpacked
from yarrik.boot.seen import Filesystem
from yarrik.boot.slots import MOST_SLOTS, SLOT_FOLDER, SLOT_SCRIPT, SLOT_WORD, SlotPlace, SlotState, chooser
from yarrik.boot.story import Started, Stop, Story
from yarrik.disk import VERITY_SECTORS, VERITY_TABLE, FoundPartition
from yarrik.units import counted

_PLACES = ("/boot.scr.uimg", "/boot.scr", "/boot/boot.scr.uimg", "/boot/boot.scr")


def _write(parts: BootParts) -> dict[str, bytes]:
    """Kernel and initramfs as legacy images, and a script that loads them: for bootloaders that know nothing newer. With slots,
    all of this is in each slot, and the script of the boot partition chooses one."""
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
    number = "${slot_part}" if parts.slots is not None else "${distro_bootpart}"
    load = f"load ${{devtype}} ${{devnum}}:{number}"
    head = script_head(parts)
    if parts.slots is not None:
        line = parts.arguments(next(iter(parts.lines)))
        slot = parts.slots.places[0]
        rest = line.removeprefix(slot.root).strip()
        head = [head[0], f"setenv bootargs ${{slot_root}} '{rest}'"]
        if parts.slots.verified:
            head = [head[0], *_verified(slot, rest, memory.address("script"))]
    lines = [*head, f"{load} {at} {parts.seen('/boot/uImage')}"]
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
    script = encode_script(parts, lines)
    if parts.slots is None:
        return {**files, SCRIPT_PATH: script}
    chooses = [f"# {parts.product}: chooses a slot", *chooser(parts.slots, memory.address("script"))]
    # Nothing in it follows from the version, so that it never has to change.
    text = "".join(line + "\n" for line in chooses).encode()
    first = encode_legacy(LegacyImage("script", parts.arch, (text,), f"{parts.product}: slots", time=0))
    return {**files, "/boot" + SLOT_SCRIPT.removeprefix(SLOT_FOLDER): script, SCRIPT_PATH: first}


def _verified(slot: SlotPlace, rest: str, at: int) -> list[str]:
    """Commands that have the kernel check each block of the root filesystem: it makes a device of the partition by what its
    last sector says (Documentation/admin-guide/device-mapper/dm-init.rst), and has its root there."""
    words = slot.root.removeprefix(f"root={slot.device}").strip()
    # One word, since bootloaders take few words in a command; the quotes that the kernel needs come out of a variable.
    devices = "${slot_device} ${slot_device}"
    table = f"${{verity_quote}}root,,,ro,0 ${{{VERITY_SECTORS}}} verity 1 {devices} ${{{VERITY_TABLE}}}${{verity_quote}}"
    return [
        "part start ${devtype} ${devnum} ${slot_part} verity_first",
        "part size ${devtype} ${devnum} ${slot_part} verity_last",
        "setexpr verity_last ${verity_first} + ${verity_last}",
        "setexpr verity_last ${verity_last} - 1",
        f"setenv {VERITY_SECTORS}; setenv {VERITY_TABLE}",
        f"${{devtype}} read {at:#x} ${{verity_last}} 1 && env import -t {at:#x} 200 {VERITY_SECTORS} {VERITY_TABLE}",
        "setenv verity_quote '\"'",
        f"setenv bootargs 'root=/dev/dm-0 {words}' {SLOT_WORD}=${{attempt}} '{rest}' \"dm-mod.create={table}\"",
    ]


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
    started, shell = _followed(story, filesystem, text, where, {})
    if started is not None:
        started.script = place
        if "state_first" in shell.variables:
            _slots(story, filesystem, text, where, started, shell)
        return started
    story.stop(
        "BOOT-MENU-MISSING",
        f"the script {place} on {where} starts nothing",
        "the bootloader would go on to its prompt",
        "let it end in a command that starts the kernel",
    )


def _slots(story: Story, filesystem: Filesystem, text: str, where: str, started: Started, shell: Commands) -> None:
    """What the script makes of the state, and what it would start for each of the other slots."""
    state = SlotState(shell.variables["slot"], shell.variables.get("trial", ""), _left(shell.variables.get("tries", "")))
    started.slot = shell.variables.get("attempt", "")
    kept = {"no": "none is stored yet", "second": "the first copy is damaged, the second one counts"}
    trial = f", trying `{state.trial}`, {counted(state.tries, 'start')} left after this one" if state.trial else ""
    if state.trial and started.slot != state.trial:
        trial = f", `{state.trial}` was tried and did not hold"
    note = kept.get(shell.variables.get("state_known", ""), "")
    story.tell("slot", f"`{started.slot}`; known to work: `{state.slot}`{trial}{' (' + note + ')' if note else ''}")
    first = _address(shell.variables["state_first"])
    for name in list(dict.fromkeys(re.findall(r"\$\{attempt\} = ([a-z0-9-]+);", text)))[:MOST_SLOTS]:
        if name == started.slot:
            continue
        sector = SlotState(name).encoded(story.board.options.get("SYS_REDUNDAND_ENVIRONMENT") == "y")
        try:
            other, own = _followed(story, filesystem, text, where, {first: sector})
        except Stop as stop:
            started.further.append((name, stop.trouble))
            continue
        if other is not None and own.variables.get("attempt") == name:
            started.further.append((name, other))
        else:
            what = f"the slot `{name}` starts nothing"
            started.further.append((name, story.trouble("BOOT-SLOT", what, "the script goes on to another slot",
                                                        "write it again", "boot.slot")))  # fmt: skip


def _left(text: str) -> int:
    return int(text) if re.fullmatch("[0-9]", text) else 0


def follow_commands(story: Story, filesystem: Filesystem, text: str, where: str) -> Started | None:
    """What a bootloader's commands start; None when they start nothing."""
    return _followed(story, filesystem, text, where, {})[0]


def _followed(
    story: Story, filesystem: Filesystem, text: str, where: str, sectors: dict[int, bytes]
) -> tuple[Started | None, Commands]:
    """The same, and the shell as it is then; `sectors` are taken in place of the image's."""
    shell = Commands(story, _part_of(story, filesystem), filesystem, written=dict(sectors))
    try:
        shell.follow(text)
    except ScriptUnclear as error:
        story.stop(
            "BOOT-MENU-MISSING",
            f"the commands on {where} cannot be followed: {error}",
            "the bootloader would stop there too, or do something else",
            "write them with `if`, `&&`, `run` and `source` alone",
        )
    if shell.starts is None or shell.starts[0] != "bootm":
        return None, shell
    return _bootm(story, shell, where), shell


def _part_of(story: Story, filesystem: Filesystem) -> FoundPartition | None:
    return next((part for part in story.image.partitions if part.reader is filesystem.reader), None)


def _bootm(story: Story, shell: Commands, where: str) -> Started:
    words = shell.starts or []

    def loaded(word: str, what: str) -> tuple[str, bytes]:
        file = shell.files.get(_address(word))
        if file is None:
            return "", read_named(story, shell.filesystem, "", what, where)
        return file.path, read_named(story, file.filesystem, file.path, what, where)

    line = shell.variables.get("bootargs", "")
    overlays = [(one.path, read_named(story, one.filesystem, one.path, "overlay", where)) for one in shell.overlays]
    address, _, configuration = words[1].partition("#") if len(words) > 1 else ("", "", "")
    path, data = loaded(address, "kernel")
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
        started.initramfs_name, data = loaded(words[2], "initramfs")
        started.initramfs = _unwrapped(story, data, started.initramfs_name).parts[0]
        started.given["initramfs"] = _address(words[2])
    if len(words) > 3 and _address(words[3]) in shell.files:
        started.device_tree_name, started.device_tree = loaded(words[3], "device tree")
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


def _address(word: str) -> int:
    try:
        return int(word, 16)
    except ValueError:
        return -1


def _areas(kernel: int, others: int) -> dict[str, int]:
    return {"script": 8192, "bundle": kernel}


METHOD = BootMethod("script", "boot.scr", _write, find_script, switches=True, areas=_areas)
