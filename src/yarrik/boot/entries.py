"""Boot entries: one small file each, and the loader's own settings (UAPI Boot Loader Specification, type 1)."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from yarrik.errors import Damaged

ENTRIES_FOLDER = "/boot/loader/entries"
LOADER_FILE = "/boot/loader/loader.conf"
_ARCHES = {"arm64": "aa64", "arm": "arm", "x86-64": "x64", "riscv64": "riscv64"}
_KNOWN = (
    "title", "version", "machine-id", "sort-key", "linux", "initrd", "efi", "options", "devicetree",
    "devicetree-overlay", "architecture",
)  # fmt: skip


class EntryDamaged(Damaged):
    """A file that is not a boot entry; the message says why."""


class BootEntry(msgspec.Struct, frozen=True):
    """Paths are those on the partition with the entry. `initramfs` and `overlays` may be several, in order."""

    title: str
    version: str
    kernel: str
    arguments: str
    arch: str = ""
    device_tree: str = ""
    overlays: tuple[str, ...] = ()
    initramfs: tuple[str, ...] = ()


def encode_entry(entry: BootEntry) -> str:
    lines = [("title", entry.title), ("version", entry.version)]
    if entry.arch:
        lines.append(("architecture", _ARCHES[entry.arch]))
    lines.append(("linux", entry.kernel))
    lines += [("initrd", path) for path in entry.initramfs]
    if entry.device_tree:
        lines.append(("devicetree", entry.device_tree))
    if entry.overlays:
        lines.append(("devicetree-overlay", " ".join(entry.overlays)))
    lines.append(("options", entry.arguments))
    return "".join(f"{key:<12} {value}\n" for key, value in lines if value)


def encode_loader(default: str, seconds: int) -> str:
    """The loader's settings: which entry starts by itself, and after how long."""
    return f"default {default}.conf\ntimeout {seconds}\n"


def read_lines(text: str) -> list[tuple[str, str]]:
    """Keys and values as readers take them: `#` begins a comment, the key ends at the first blank."""
    found = []
    for line in text.splitlines():
        line = line.strip()
        if line and not line.startswith("#"):
            key, *rest = line.split(None, 1)
            found.append((key, rest[0] if rest else ""))
    return found


def read_entry(text: str) -> BootEntry:
    """Raises EntryDamaged for a key that no reader knows, or when nothing is named to start."""
    several: dict[str, list[str]] = {}
    for key, value in read_lines(text):
        if key not in _KNOWN:
            raise EntryDamaged(f"`{key}` is not a key of a boot entry")
        several.setdefault(key, []).append(value)

    def one(key: str) -> str:
        return several.get(key, [""])[-1]

    kernel = one("linux") or one("efi")
    if not kernel:
        raise EntryDamaged("it does not name a kernel: a line `linux` is missing")
    arch = next((ours for ours, theirs in _ARCHES.items() if theirs == one("architecture").lower()), "")
    return BootEntry(
        one("title"),
        one("version"),
        kernel,
        " ".join(several.get("options", [])),
        arch,
        one("devicetree"),
        tuple(one("devicetree-overlay").split()),
        tuple(several.get("initrd", ())),
    )


def read_loader(text: str) -> tuple[str, int | None]:
    """The default entry (may be a pattern) and the seconds until it starts; None when it waits for somebody."""
    settings: Mapping[str, str] = dict(read_lines(text))
    seconds = settings.get("timeout", "0")
    waits = seconds == "menu-force" or not seconds.isascii() or not seconds.isdigit() or len(seconds) > 9
    return settings.get("default", "").removesuffix(".conf"), None if waits else int(seconds)
