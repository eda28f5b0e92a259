"""The method `entries`: one file an entry, for a loader that firmware starts."""

from __future__ import annotations

import contextlib
import re

from yarrik.boot.entries import (
    ENTRIES_FOLDER,
    LOADER_FILE,
    BootEntry,
    EntryDamaged,
    encode_entry,
    encode_loader,
    read_entry,
    read_loader,
)
from yarrik.boot.method.form import BootMethod
from yarrik.boot.method.uefi import EFI_PROGRAM
from yarrik.boot.parts import BootParts
from yarrik.boot.reading import add_files, read_named
from yarrik.boot.seen import Filesystem
from yarrik.boot.story import Started, Story
from yarrik.errors import suggestion


def _write(parts: BootParts) -> dict[str, bytes]:
    files: dict[str, bytes] = {}
    for name, (title, _) in parts.lines.items():
        entry = BootEntry(
            title,
            parts.version,
            parts.seen(parts.kernel_path),
            parts.arguments(name),
            parts.arch,
            parts.seen(parts.device_tree_path) if parts.device_tree_path else "",
            tuple(parts.seen(path) for path in parts.overlays),
            tuple(path for path in [parts.initramfs_for(name)] if path),
        )
        files[f"{ENTRIES_FOLDER}/{name}.conf"] = encode_entry(entry).encode()
    return {LOADER_FILE: encode_loader(next(iter(parts.lines)), parts.seconds).encode(), **files}


def _find(story: Story, filesystem: Filesystem, where: str) -> Started | None:
    found = [path for path in filesystem.below("/loader/entries") if path.endswith(".conf")]
    return _read(story, filesystem, found, where) if found or story.board.method else None


def _read(story: Story, filesystem: Filesystem, found: list[str], where: str) -> Started:
    if not found:
        story.stop(
            "BOOT-MENU-MISSING",
            f"{where} has no boot entry below /loader/entries",
            "the loader would show an empty menu",
            "let the boot method write one",
        )
    default, seconds = read_loader(filesystem.text("/loader/loader.conf")) if filesystem.has("/loader/loader.conf") else ("", 0)
    if seconds is None:
        story.warn(
            "BOOT-MENU-WAITS",
            f"/loader/loader.conf on {where} waits for a choice without a time limit",
            "a board without a keyboard would never start",
            "set `timeout` to a number of seconds",
        )
    names = {path.rpartition("/")[2].removesuffix(".conf"): path for path in sorted(found)}
    pattern = re.compile(re.escape(default).replace(r"\*", ".*") + r"\Z")
    chosen = next((name for name in names if pattern.match(name)), None) if default else max(names)
    if chosen is None:
        story.stop(
            "BOOT-MENU-MISSING",
            f"the default entry `{default}` is none of those on {where}",
            "the loader would wait for a choice",
            suggestion(default, names),
        )
    programs = [path for path in filesystem.below("/EFI/BOOT") if EFI_PROGRAM.match(path)]
    if not programs:
        story.stop(
            "BOOT-LOADER",
            f"{where} has no /EFI/BOOT/BOOT….EFI",
            "firmware would find no program to start",
            "name one in the board's `boot.loader`",
            "boot.method",
        )
    try:
        entry = read_entry(filesystem.text(names[chosen]))
    except EntryDamaged as error:
        story.stop(
            "BOOT-MENU-MISSING",
            f"{names[chosen]} on {where} is not a boot entry: {error}",
            "the loader would not list it",
            "correct it",
        )
    story.tell("boot menu", f"{where}:{names[chosen]}, {len(names)} in all, started by {programs[0]}")
    started = Started(read_named(story, filesystem, entry.kernel, "kernel", where), entry.kernel, entry.arguments)
    for name in names:
        with contextlib.suppress(EntryDamaged):
            if name != chosen:
                started.others.append((name, read_entry(filesystem.text(names[name])).arguments))
    add_files(
        story, started, filesystem, where, entry.device_tree, entry.overlays, entry.initramfs[-1] if entry.initramfs else ""
    )
    return started


METHOD = BootMethod(
    "entries", "loader/entries", _write, _find, compressed=False, initramfs_file=True, initramfs_by_entry=True, several=True
)
