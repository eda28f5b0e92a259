"""What forbids writing an image to a device. None of these has a way around, but for storage that cannot be unplugged."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import msgspec

from yarrik.errors import Trouble
from yarrik.flash.devices import Device, Use
from yarrik.units import shown_size

Kind = Literal["system", "mounted", "swap", "held", "read-only", "fixed", "small", "blocks"]
_ORDER: tuple[Kind, ...] = ("system", "mounted", "swap", "held", "read-only", "fixed", "small", "blocks")


class Obstacle(msgspec.Struct, frozen=True):
    """One of them: who uses the device, or how many bytes it would have to have (`small`), or its blocks to be (`blocks`)."""

    kind: Kind
    uses: tuple[Use, ...] = ()
    bytes: int = 0

    @property
    def short(self) -> str:
        """A few words for a table."""
        by = ", ".join(f"{one.by} ({one.node})" if one.kind in ("mounted", "held") else one.by for one in self.uses[:2])
        return {
            "system": f"the running system is on it: {by}",
            "mounted": f"mounted: {by}",
            "swap": "used as swap",
            "held": f"part of {by}",
            "read-only": "read-only",
            "fixed": "built in: needs --built-in",
            "small": f"smaller than the image ({shown_size(self.bytes)})",
            "blocks": f"its blocks are not of {self.bytes} bytes",
        }[self.kind]


def obstacles(device: Device, size: int = 0, block: int = 0, built_in: bool = False) -> list[Obstacle]:
    """All that forbids writing an image of `size` bytes, whose tables count in blocks of `block`; 0 for what is not known."""
    found = {kind: Obstacle(kind, uses) for kind in ("system", "mounted", "swap", "held") if (uses := _of(device.uses, kind))}
    if device.read_only:
        found["read-only"] = Obstacle("read-only")
    if not (device.removable or device.bus == "loop" or built_in or "system" in found):
        found["fixed"] = Obstacle("fixed")
    if size > device.size:
        found["small"] = Obstacle("small", bytes=size)
    if block and device.block > block:
        found["blocks"] = Obstacle("blocks", bytes=block)
    return [found[kind] for kind in _ORDER if kind in found]


def _of(uses: Sequence[Use], kind: str) -> tuple[Use, ...]:
    return tuple(one for one in uses if one.kind == kind)


def trouble_of(device: Device, obstacle: Obstacle) -> Trouble:
    """An obstacle in whole sentences."""
    name, place = f"{device} ({device.title}, {shown_size(device.size)})", device.place
    nodes = ", ".join(dict.fromkeys(one.node for one in obstacle.uses))
    where = ", ".join(dict.fromkeys(one.by for one in obstacle.uses))
    if obstacle.kind == "system":
        return Trouble("FLASH-SYSTEM", f"{name} holds the running system", place, why=f"{nodes} is mounted at {where}",
                       remedy="name the card's own device: yarrik devices")  # fmt: skip
    if obstacle.kind == "mounted":
        return Trouble("FLASH-MOUNTED", f"{name} is mounted", place, why=f"{nodes} at {where}: both would write to it",
                       remedy=f"if it is the right device: umount {' '.join(one.by for one in obstacle.uses)}")  # fmt: skip
    if obstacle.kind == "swap":
        return Trouble("FLASH-SWAP", f"{name} is used as swap", place, why=f"memory of running programs is on {nodes}",
                       remedy=f"name another device, or take it out of use: swapoff /dev/{nodes}")  # fmt: skip
    if obstacle.kind == "held":
        return Trouble("FLASH-HELD", f"{name} is part of {where}", place, why=f"{where} is built on {nodes}",
                       remedy=f"name another device, or take {where} apart first")  # fmt: skip
    if obstacle.kind == "read-only":
        return Trouble("FLASH-READ-ONLY", f"{name} is read-only", place,
                       remedy="look for a lock switch on the card, or its adapter")  # fmt: skip
    if obstacle.kind == "fixed":
        return Trouble("FLASH-BUILT-IN", f"{name} cannot be unplugged", place, why="such a disk belongs to this machine",
                       remedy="name the card's device (yarrik devices), or allow this disk: --built-in")  # fmt: skip
    if obstacle.kind == "small":
        return Trouble("FLASH-SMALL", f"{name} is too small", place, why=f"the image has {shown_size(obstacle.bytes)}",
                       remedy="take a larger card, or make the board's partitions smaller")  # fmt: skip
    return Trouble("FLASH-BLOCKS", f"{name} has blocks of {device.block} bytes", place,
                   why=f"the image's partition table counts in blocks of {obstacle.bytes}: nobody would find a partition",
                   remedy="take a device with blocks of 512 bytes")  # fmt: skip
