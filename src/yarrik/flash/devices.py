"""Block devices as the kernel describes them: sysfs, the tables of mounts and swap, and what udev has read of each.

Texts that a device gives of itself (model, serial number) come from strangers: only printable characters are kept."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import Literal

import msgspec

from yarrik.errors import Place, Unfit
from yarrik.patterns import lazy_pattern

UseKind = Literal["system", "mounted", "swap", "held"]
#: Without these, the running system is no more.
_SYSTEM = ("/", "/usr", "/boot", "/boot/efi", "/boot/firmware")
#: Parts of a device's folder in sysfs, and the bus that each means; the first that fits counts.
_BUSES = (
    ("/usb", "usb"),
    ("/mmc", "mmc"),
    ("/nvme", "nvme"),
    ("/ata", "ata"),
    ("/virtio", "virtio"),
    ("/virtual/block/loop", "loop"),
)
_SECTOR = 512
_BOOT_AREA = lazy_pattern(r"mmcblk\d+boot\d+\Z")
_LONGEST_TEXT = 64
_MOST_HOLDERS = 1000


class View(msgspec.Struct, frozen=True):
    """Where the kernel and udev describe devices."""

    sys: Path = Path("/sys")
    dev: Path = Path("/dev")
    proc: Path = Path("/proc")
    udev: Path = Path("/run/udev/data")


class Use(msgspec.Struct, frozen=True):
    """Something that uses `node`, the device or a part of it: `by` is the mount point, or what holds it."""

    kind: UseKind
    node: str
    by: str


class Device(msgspec.Struct, frozen=True):
    """A whole device. `size` and `block` (of its logical blocks) are in bytes; `removable` is what can be unplugged; `sequence`
    is a number that the kernel gives to each device that ever appeared, 0 if unknown. `address` is that of storage of another
    machine, which has no path. `lock` is a file of the kernel that keeps a boot area of an eMMC from being written: `1` in it
    does (Documentation/driver-api/mmc/mmc-dev-parts.rst)."""

    name: str
    path: Path
    number: tuple[int, int]
    size: int
    block: int
    vendor: str = ""
    model: str = ""
    serial: str = ""
    bus: str = ""
    removable: bool = False
    read_only: bool = False
    uses: tuple[Use, ...] = ()
    sequence: int = 0
    address: str = ""
    lock: Path | None = None

    def __str__(self) -> str:
        """Its path, or its address in the network."""
        return self.address or str(self.path)

    @property
    def place(self) -> Place:
        """Where a trouble with it stands; storage of another machine has no path here."""
        return Place() if self.address else Place(self.path)

    @property
    def has_table(self) -> bool:
        """Whether a partition table may be at its end; on flash chips and boot areas that is something of the board's."""
        return self.bus != "mtd" and self.lock is None

    @property
    def title(self) -> str:
        """What it calls itself."""
        return " ".join(word for word in (self.vendor, self.model) if word) or "no name"

    @property
    def word(self) -> str:
        """What a script names it by: its name here, and its serial number."""
        return f"{self.name}-{self.serial}" if self.serial else self.name


class Devices(msgspec.Struct, dict=True):
    """What there is at one moment."""

    view: View = msgspec.field(default_factory=View)

    def all(self) -> list[Device]:
        """Whole devices with anything in them, by name."""
        folder = self.view.sys / "block"
        names = sorted((one.name for one in folder.iterdir()), key=_natural) if folder.is_dir() else []
        return [one for name in names if (one := self._device(folder / name)) is not None and one.size]

    def at(self, number: tuple[int, int]) -> Device:
        """The device with this number. Raises Unfit for a partition, with the name of its device, and for what is none."""
        folder = self.view.sys / f"dev/block/{number[0]}:{number[1]}"
        if not folder.exists():
            raise Unfit("the kernel knows no such device")
        if (folder / "partition").exists():
            raise Unfit(f"it is partition {_text(folder / 'partition')} of {folder.resolve().parent.name}")
        found = self._device(folder)
        if found is None:
            raise Unfit("the kernel does not describe it")
        return found

    def partitions(self, name: str) -> list[str]:
        """The names of a device's partitions that the kernel knows."""
        folder = self.view.sys / "block" / name
        return sorted((one.parent.name for one in folder.glob("*/partition")), key=_natural)

    def backing_file(self, name: str) -> str:
        """The file that a loop device has its bytes in; empty for other devices."""
        return _text(self.view.sys / "block" / name / "loop/backing_file")

    def _device(self, link: Path) -> Device | None:
        folder = link.resolve()
        try:
            major, minor = map(int, _text(folder / "dev").split(":"))
            size = int(_text(folder / "size") or 0) * _SECTOR
            block = int(_text(folder / "queue/logical_block_size") or _SECTOR)
        except ValueError:
            return None
        told = self._told(major, minor)
        inner = folder / "device"
        kernel_path = (
            f"/{folder.relative_to(self.view.sys.resolve())}" if folder.is_relative_to(self.view.sys.resolve()) else ""
        )
        bus = told.get("ID_BUS", "") or next((name for part, name in _BUSES if part in kernel_path), "")
        card = _text(inner / "type") == "SD"
        area = _BOOT_AREA.match(folder.name) is not None and (folder / "force_ro").is_file()
        return Device(
            folder.name,
            self.view.dev / folder.name.replace("!", "/"),
            (major, minor),
            size,
            block,
            told.get("ID_VENDOR", "") or ("" if (vendor := _shown(_text(inner / "vendor"))).startswith("0x") else vendor),
            told.get("ID_MODEL", "") or _shown(_text(inner / "model") or _text(inner / "name")),
            told.get("ID_SERIAL_SHORT", "") or _shown(_text(inner / "serial") or _text(folder / "serial")),
            bus,
            _text(folder / "removable") == "1" or bus == "usb" or card,
            _text(folder / "ro") == "1" and not area,
            tuple(self._uses(folder)),
            int(_text(folder / "diskseq") or 0),
            lock=folder / "force_ro" if area else None,
        )

    def _told(self, major: int, minor: int) -> dict[str, str]:
        """What udev has read of a device (`E:KEY=VALUE` in its database)."""
        found = {}
        for line in _text(self.view.udev / f"b{major}:{minor}").splitlines():
            if line.startswith("E:"):
                key, _, value = line[2:].partition("=")
                found[key] = _shown(value.replace("_", " ") if key in ("ID_VENDOR", "ID_MODEL") else value)
        return found

    def _uses(self, folder: Path) -> Iterator[Use]:
        """Who uses a device, its partitions, and what is built on either."""
        nodes = [folder, *sorted((one.parent for one in folder.glob("*/partition")), key=lambda one: _natural(one.name))]
        seen: set[str] = set()
        while nodes and len(seen) < _MOST_HOLDERS:
            node = nodes.pop(0)
            if node.name in seen:
                continue
            seen.add(node.name)
            for where in self._mounts.get(node.name, ()):
                yield Use("system" if where in _SYSTEM else "mounted", node.name, where)
            if node.name in self._swaps:
                yield Use("swap", node.name, "swap")
            for holder in sorted(one.name for one in node.glob("holders/*")):
                yield Use("held", node.name, _text(self.view.sys / f"block/{holder}/dm/name") or holder)
                nodes.append((self.view.sys / "block" / holder).resolve())

    @cached_property
    def _mounts(self) -> dict[str, list[str]]:
        """Where each node is mounted, by its name (proc(5), mountinfo): here, and for the first process."""
        found: dict[str, list[str]] = {}
        for process in ("self", "1"):
            for line in _text(self.view.proc / process / "mountinfo").splitlines():
                words, _, rest = line.partition(" - ")
                fields, source = words.split(" "), [*rest.split(" "), "", ""][1]
                if len(fields) < 5:
                    continue
                # Filesystems of several devices have a number of their own, and name one of them.
                link = self.view.sys / f"dev/block/{fields[2]}"
                name = link.resolve().name if link.exists() else self._node(source)
                places = found.setdefault(name, [])
                if name and (where := _unescaped(fields[4])) not in places:
                    places.append(where)
        return found

    @cached_property
    def _swaps(self) -> set[str]:
        lines = _text(self.view.proc / "swaps").splitlines()[1:]
        return {self._node(_unescaped(line.split()[0])) for line in lines if line.split()}

    def _node(self, path: str) -> str:
        """The name of the node that a path below /dev leads to; empty for another path."""
        if not path.startswith("/dev/"):
            return ""
        return Path(os.path.realpath(self.view.dev / path.removeprefix("/dev/"))).name


def _text(file: Path) -> str:
    try:
        return file.read_text(encoding="utf-8", errors="replace").strip()
    except OSError:
        return ""


def _shown(text: str) -> str:
    """A text that a device gives of itself, as it can be shown and typed."""
    return " ".join("".join(one if one.isprintable() else "?" for one in text).split())[:_LONGEST_TEXT]


def _unescaped(text: str) -> str:
    return re.sub(r"\\([0-7]{3})", lambda match: chr(int(match[1], 8)), text)


def _natural(name: str) -> list[tuple[int, str]]:
    return [(int(part), "") if part.isdecimal() else (0, part) for part in re.findall(r"\d+|\D+", name)]
