"""The boot menu file `extlinux.conf`, which several bootloaders read: one keyword a line, a label for each entry."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from yarrik.errors import Damaged

MENU_PATH = "/boot/extlinux/extlinux.conf"
#: Where bootloaders look for it on a partition, in this order.
MENU_PLACES = ("/extlinux/extlinux.conf", "/boot/extlinux/extlinux.conf")


class MenuEntry(msgspec.Struct, frozen=True):
    """One thing that can be booted; paths are those on the partition with the menu."""

    label: str
    title: str
    kernel: str
    device_tree: str
    arguments: str
    initramfs: str = ""
    overlays: tuple[str, ...] = ()


class Menu(msgspec.Struct, frozen=True):
    """`default` names an entry's label. `tenths` is how long the menu waits for a key, in tenths of a second; None when it
    waits for ever."""

    default: str
    entries: Sequence[MenuEntry]
    tenths: int | None = 1


def encode_menu(menu: Menu) -> str:
    """The file's text. It never waits for input without a time limit: the shortest time is a tenth of a second, not zero,
    since some readers take zero for "wait for ever". Readers ask for a choice if there is a `prompt`, or a title."""
    asks = len(menu.entries) > 1 and (menu.tenths or 0) >= 10
    title = [f"menu title {menu.entries[0].title}"] if asks else []
    lines = [*title, f"prompt {int(asks)}", f"timeout {max(1, menu.tenths or 0)}", f"default {menu.default}"]
    for entry in menu.entries:
        lines += ["", f"label {entry.label}", f"  menu label {entry.title}", f"  linux {entry.kernel}"]
        if entry.initramfs:
            lines.append(f"  initrd {entry.initramfs}")
        if entry.device_tree:
            lines.append(f"  fdt {entry.device_tree}")
        if entry.overlays:
            lines.append(f"  fdtoverlays {' '.join(entry.overlays)}")
        if entry.arguments:
            lines.append(f"  append {entry.arguments}")
    return "\n".join(lines) + "\n"


def read_menu(text: str) -> Menu:
    """Reads what bootloaders would. Raises ValueError when there is no entry, or the default names none."""
    default, prompt = "", False
    tenths = 0
    entries: list[dict[str, str]] = []
    for line in text.splitlines():
        keyword, _, rest = line.strip().partition(" ")
        keyword, rest = keyword.lower(), rest.strip()
        if keyword == "default":
            default = rest
        elif keyword == "prompt":
            prompt = rest not in ("", "0")
        elif keyword == "timeout":
            tenths = int(rest) if rest.isascii() and rest.isdigit() and len(rest) < 9 else 0
        elif keyword == "label":
            entries.append({"label": rest})
        elif entries and keyword in _KEYWORDS:
            entries[-1][_KEYWORDS[keyword]] = rest
        elif entries and keyword == "menu":
            entries[-1]["title"] = rest.removeprefix("label ").strip()
    found = [
        MenuEntry(e["label"], e.get("title", e["label"]), e.get("kernel", ""), e.get("fdt", ""), e.get("append", ""),
                  e.get("initrd", ""), tuple(e.get("fdtoverlays", "").split()))
        for e in entries
    ]  # fmt: skip
    if not found:
        raise Damaged("the menu has no entry")
    if not default:
        default = found[0].label
    if default not in (entry.label for entry in found):
        raise Damaged(f"the menu's default `{default}` is not one of its entries")
    return Menu(default, tuple(found), None if prompt and not tenths else tenths)


_KEYWORDS = {
    "linux": "kernel", "kernel": "kernel", "fdt": "fdt", "devicetree": "fdt", "append": "append", "initrd": "initrd",
    "fdtoverlays": "fdtoverlays",
}  # fmt: skip
