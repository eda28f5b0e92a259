"""What a bootloader's or firmware's file says of itself: the architecture, the board, the settings that are built in.

Nothing here depends on who built it. An ELF file and wrapped images have headers; a bootloader has its own device tree behind
its code, and its default environment in it as `key=value` texts with a zero after each.
"""

from __future__ import annotations

import io

import msgspec

from yarrik.boot.fit import FitDamaged, decode_fit
from yarrik.boot.legacy import LegacyDamaged, decode_legacy
from yarrik.devicetree import BlobDamaged, decode_blob
from yarrik.elf import ElfDamaged, elf_facts
from yarrik.patterns import lazy_pattern

_MAGIC = b"\xd0\x0d\xfe\xed"
_SETTING = lazy_pattern(rb"[A-Za-z_][\w.]{0,63}=[\x09\x0a\x20-\x7e]*\Z")
#: Settings that are in every default environment; one of them is where reading begins.
_ALWAYS = (b"bootcmd=", b"bootdelay=", b"bootargs=")
_LONGEST = 64 << 10
#: What a device tree of a board has at its top: one of these properties, or keys.
_SAYS = frozenset(["compatible", "model", "signature"])


class LoaderFacts(msgspec.Struct, frozen=True):
    """`arch` is "" when nothing says it; `compatible` are boards of its own device tree, `environment` is built in."""

    arch: str = ""
    compatible: tuple[str, ...] = ()
    environment: dict[str, str] = msgspec.field(default_factory=dict)
    #: Names of keys without which it takes no image tree.
    keys: tuple[str, ...] = ()


def loader_facts(data: bytes) -> LoaderFacts:
    """What a loader's bytes say of it. Never raises for what is in them."""
    blob = own_device_tree(data)
    tree = decode_blob(blob) if blob else None
    compatible: tuple[str, ...] = ()
    keys: tuple[str, ...] = ()
    if tree is not None:
        item = tree.root.properties.get("compatible")
        texts = item.value.removesuffix(b"\0").split(b"\0") if item is not None else []
        compatible = tuple(text.decode("ascii", "replace") for text in texts if text)
        signature = tree.root.children.get("signature")
        keys = tuple(signature.children) if signature is not None else ()
    return LoaderFacts(_arch_of(data), compatible, _environment_in(data), keys)


def _arch_of(data: bytes) -> str:
    if data[:4] == b"\x7fELF":
        try:
            facts = elf_facts(io.BytesIO(data))
        except ElfDamaged:
            return ""
        return facts.arch if facts is not None else ""
    try:
        return decode_legacy(data).arch
    except LegacyDamaged:
        pass
    if data[:4] == _MAGIC:
        try:
            _, fit = decode_fit(data)
        except FitDamaged:
            return ""
        return next((image.arch for image in fit.images), "")
    if data[56:60] == b"ARM\x64":
        return "arm64"
    return "riscv64" if data[48:56] == b"RISCV\0\0\0" else ""


def own_device_tree(data: bytes) -> bytes:
    """The last device tree in a loader that describes a board: the one behind its code; empty for none."""
    at = data.rfind(_MAGIC)
    for _ in range(64):
        if at < 0:
            return b""
        size = int.from_bytes(data[at + 4 : at + 8], "big")
        if 40 <= size <= len(data) - at:
            try:
                tree = decode_blob(data[at : at + size])
            except BlobDamaged:
                tree = None
            if tree is not None and _SAYS & {*tree.root.properties, *tree.root.children}:
                return data[at : at + size]
        at = data.rfind(_MAGIC, 0, at)
    return b""


def _environment_in(data: bytes) -> dict[str, str]:
    """The default environment: settings in a row, of which one is known by its name."""
    for name in _ALWAYS:
        at = data.find(name)
        while at >= 0:
            if at == 0 or data[at - 1] == 0:
                found = _settings_around(data, at)
                if len(found) > 1:
                    return found
            at = data.find(name, at + 1)
    return {}


def _settings_around(data: bytes, at: int) -> dict[str, str]:
    start = at
    while start > 0 and at - start < _LONGEST:
        before = data.rfind(b"\0", 0, start - 1) + 1
        if _SETTING.match(data[before : start - 1]) is None:
            break
        start = before
    found: dict[str, str] = {}
    while start < len(data):
        end = data.find(b"\0", start, start + _LONGEST)
        if end < 0 or _SETTING.match(data[start:end]) is None:
            break
        key, _, value = data[start:end].decode("ascii").partition("=")
        found.setdefault(key, value)
        start = end + 1
    return found
