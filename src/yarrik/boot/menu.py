"""The boot menu file `extlinux.conf`, which several bootloaders read: one keyword a line, a label for each entry."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

MENU_PATH = "/boot/extlinux/extlinux.conf"


@dataclass(frozen=True)
class MenuEntry:
    """One thing that can be booted; paths are those on the partition with the menu."""

    label: str
    title: str
    kernel: str
    device_tree: str
    arguments: str


@dataclass(frozen=True)
class Menu:
    """`default` names an entry's label. `tenths` is how long the menu waits for a key, in tenths of a second."""

    default: str
    entries: Sequence[MenuEntry]
    tenths: int = 1


def encode_menu(menu: Menu) -> str:
    """The file's text. It never waits for somebody to type: the shortest time is a tenth of a second, not zero,
    since some readers take zero for "wait for ever"."""
    lines = ["prompt 0", f"timeout {max(1, menu.tenths)}", f"default {menu.default}"]
    for entry in menu.entries:
        lines += ["", f"label {entry.label}", f"  menu label {entry.title}", f"  linux {entry.kernel}"]
        if entry.device_tree:
            lines.append(f"  fdt {entry.device_tree}")
        lines.append(f"  append {entry.arguments}")
    return "\n".join(lines) + "\n"


def read_menu(text: str) -> Menu:
    """Reads what bootloaders would. Raises ValueError when the default names no entry."""
    default, tenths = "", 0
    entries: list[dict[str, str]] = []
    for line in text.splitlines():
        keyword, _, rest = line.strip().partition(" ")
        keyword, rest = keyword.lower(), rest.strip()
        if keyword == "default":
            default = rest
        elif keyword == "timeout":
            tenths = int(rest) if rest.isdigit() else 0
        elif keyword == "label":
            entries.append({"label": rest})
        elif entries and keyword in ("linux", "kernel"):
            entries[-1]["kernel"] = rest
        elif entries and keyword in ("fdt", "devicetree"):
            entries[-1]["fdt"] = rest
        elif entries and keyword == "append":
            entries[-1]["append"] = rest
        elif entries and keyword == "menu":
            entries[-1]["title"] = rest.removeprefix("label ").strip()
    found = [
        MenuEntry(e["label"], e.get("title", e["label"]), e.get("kernel", ""), e.get("fdt", ""), e.get("append", ""))
        for e in entries
    ]
    if default not in (entry.label for entry in found):
        raise ValueError(f"the menu's default `{default}` is not one of its entries")
    return Menu(default, tuple(found), tenths)
