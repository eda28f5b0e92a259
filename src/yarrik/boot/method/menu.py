"""The method `menu`: a text menu that bootloaders read."""

from __future__ import annotations

from yarrik.boot.image_tree import read_fit
from yarrik.boot.menu import MENU_PATH, MENU_PLACES, Menu, MenuEntry, encode_menu, read_menu
from yarrik.boot.method.form import BootMethod
from yarrik.boot.parts import BootParts
from yarrik.boot.reading import add_files, read_named
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import Started, Story
from yarrik.errors import Damaged


def _write(parts: BootParts) -> dict[str, bytes]:
    def entry(name: str, title: str, line: str, tree: str) -> MenuEntry:
        return MenuEntry(
            name,
            title,
            parts.seen(parts.kernel_path),
            parts.seen(tree) if tree else "",
            line,
            parts.initramfs_for(name),
            tuple(parts.seen(path) for path in parts.overlays),
        )

    entries = [
        entry(name, title, parts.arguments(name), parts.tree_of_entry.get(name, parts.device_tree_path))
        for name, (title, _) in parts.lines.items()
    ]
    # Each further board has an entry, unless one of the menu's own is for it.
    for path in sorted(set(parts.more_device_trees) - set(parts.tree_of_entry.values())):
        name = path.rpartition("/")[2].removesuffix(".dtb")
        entries.append(entry(name, f"{parts.product} on {name}", entries[0].arguments, path))
    return {MENU_PATH: encode_menu(Menu(entries[0].label, entries, parts.seconds * 10)).encode()}


def _find(story: Story, filesystem: Filesystem, where: str) -> Started | None:
    place = next((path for path in MENU_PLACES if filesystem.has(path)), None)
    return _read(story, filesystem, place, where) if place else None


def _read(story: Story, filesystem: Filesystem, place: str, where: str) -> Started:
    try:
        menu = read_menu(filesystem.text(place))
    except Damaged as error:
        story.stop(
            "BOOT-MENU-MISSING",
            f"{place} on {where} starts nothing: {error}",
            "the bootloader would go on to its prompt",
            "let `default` name one of the labels",
        )
    entry = next(one for one in menu.entries if one.label == menu.default)
    if menu.tenths is None:
        story.warn(
            "BOOT-MENU-WAITS",
            f"{place} on {where} waits for input without a time limit",
            "a board without a keyboard would never start",
            "set `timeout` to 1 or more",
        )
    count = f"{len(menu.entries)} entries" if len(menu.entries) > 1 else "1 entry"
    story.tell("boot menu", f"{where}:{place}, {count}, starts `{entry.label}`")
    kernel = read_named(story, filesystem, entry.kernel, "kernel", where)
    started = Started(kernel, entry.kernel, entry.arguments)
    started.others = [(one.label, one.arguments) for one in menu.entries if one is not entry]
    if kernel[:4] == b"\xd0\x0d\xfe\xed":
        return read_fit(story, started, kernel, entry.kernel, "")
    add_files(story, started, filesystem, where, entry.device_tree, entry.overlays, entry.initramfs)
    return started


METHOD = BootMethod("menu", "extlinux/extlinux.conf", _write, _find, initramfs_file=True, initramfs_by_entry=True, several=True)
