"""Settings of definitions from which nothing follows but a product's own steps."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from yarrik.model import LATE

#: By kind of definition, keys from which nothing else follows, with those of tables of which only a part is so. What names a
#: recipe, or one of its outputs, is not among them, nor is what may be compiled into a kernel or bootloader.
_Keys = Mapping[str, "_Keys | None"]
_IMAGE: _Keys = dict.fromkeys(
    ["environment", "file", "firewall", "folder", "hostname", "hosts", "link", "marker", "message-of-the-day", "network",
     "node", "release", "service", "start-folder", "summary", "sysctl", "time-zone", "tree", "values", "writable"]
)  # fmt: skip
_KERNEL: _Keys = dict.fromkeys(
    ["arguments", "console", "device-tree", "include", "log-level", "more-consoles", "more-device-trees", "overlay-parameters",
     "overlays"]
)  # fmt: skip
_BOOT: _Keys = dict.fromkeys(
    ["entry", "environment", "file", "initramfs", "initramfs-compression", "loader", "memory-bundle", "method", "overlays",
     "part", "read-only", "root", "root-device", "script", "seconds", "settings", "slot", "switch"]
)  # fmt: skip
_BOARD: _Keys = {
    **dict.fromkeys(["disk", "emulator", "memory", "summary"]),
    "kernel": _KERNEL,
    "boot": _BOOT,
}
_PRODUCT: _Keys = dict.fromkeys(["boot-into", "marker", "root-into", "summary", "version"])
_SET: _Keys = {"board": _BOARD, "image": _IMAGE, "product": _PRODUCT}
_OWN: Mapping[str, _Keys] = {
    "board": _BOARD,
    "image": _IMAGE,
    "product": {**_PRODUCT, "set": _SET},
    "variant": {"summary": None, "set": _SET},
}


def beyond_own_steps(kind: str, raw: Mapping[str, Any]) -> dict[str, Any]:
    """What a definition of this kind says beside settings from which nothing follows but the product's own steps. Nothing of
    the kernel's command line is among these where it is compiled in: that is for the caller to see."""
    return _without(raw, _OWN.get(kind, {}))


def _without(raw: Mapping[str, Any], keys: _Keys) -> dict[str, Any]:
    found = {}
    for key, value in raw.items():
        inner = keys.get(key, {})
        if inner and isinstance(value, dict):
            rest = _without(value, inner)
            if rest or not value:
                found[key] = rest
        elif inner is not None:
            found[key] = value
    return found


def waits_for_answers(raw: object) -> bool:
    """Whether something in a definition holds under a condition whose answer is known when all is resolved, and not before."""
    return any(key in when for when in _conditions(raw) for key in LATE)


def _conditions(value: object) -> Iterator[Mapping[str, Any]]:
    inner = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    if isinstance(value, dict) and isinstance(value.get("when"), list):
        yield from (one for one in value["when"] if isinstance(one, dict))
    for one in inner:
        yield from _conditions(one)
