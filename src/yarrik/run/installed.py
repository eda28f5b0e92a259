"""What a build has installed, made fit for others: without files that only mislead, and with paths that hold on the board.

Builds run in `/step`, with what they are linked with in `/step/sysroot`. Upstream's files repeat both."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec
import msgspec.structs

from yarrik.cache import Entry, Store, Tree
from yarrik.elf import MAGIC, unnamed_strings
from yarrik.errors import Damaged
from yarrik.patterns import lazy_pattern

#: What users of a recipe see when they are built: headers and libraries, nothing else.
SYSROOT_FOLDERS = ("usr/include", "usr/lib", "lib", "usr/share/pkgconfig")
#: Files that say how to build with a library: for pkg-config, and the programs that came before it.
_PKG_CONFIG = lazy_pattern(r"(?:.*/)?pkgconfig/[^/]+\.pc")
_CONFIG_PROGRAM = lazy_pattern(r"usr/bin/[^/]+-config")
#: Words of flags that hold for the build alone.
_OWN_FLAGS = lazy_pattern(rb" ?-ffile-prefix-map=/step[^\s\"']*| ?-Wl,-rpath-link,/step/sysroot[^\s\"']*")
_SYSROOT = b"/step/sysroot"
#: How every path of a build begins.
OWN_PATH = b"/step/"
_LIBTOOL = b" - a libtool library file"
#: `/usr` where such a program begins a path with it: after a blank, a quote, `=`, `:`, or one of the flags -I and -L.
_BOARD_FOLDER = lazy_pattern(rb"(?<![\w./}-])/usr(?![\w.-])|(?<=-[IL])/usr(?![\w.-])")
#: No text that is changed is larger (bytes).
_LARGEST = 1 << 20


def out_of_sysroot(tree: Tree) -> Tree:
    """The tree with what was installed below the build's sysroot at its place on the board: pkg-config puts the sysroot before
    folders that a project asks other packages for, like those for rules of the device manager. What would lie over something
    else stays where it is."""
    own = "step/sysroot/"
    taken = {entry.path for entry in tree.entries if entry.kind != "folder" and not entry.path.startswith("step/")}
    moved = {entry.path[len(own) :]: entry for entry in tree.entries if entry.path.startswith(own)}
    if not moved or any(part in taken for path in moved for part in (path, *_above(path))):
        return tree
    kept = {entry.path: entry for entry in tree.entries if not entry.path.startswith(own)}
    for path, entry in moved.items():
        if path not in kept:
            kept[path] = msgspec.structs.replace(entry, path=path)
    if not any(path.startswith("step/") and path != "step/sysroot" for path in kept):
        kept.pop("step", None)
        kept.pop("step/sysroot", None)
    return Tree.of(kept.values())


def _above(path: str) -> Iterator[str]:
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path


def tidied(tree: Tree, store: Store) -> Tree:
    """The tree without libtool's archives, and with the board's paths in what says how to build with a library. Files that were
    changed are stored, the tree is not.

    An archive of libtool's (`libNAME.la`) names libraries by their paths on the board, and libtool then links with those of the
    build host; what it says beside that, pkg-config and the library itself say as well."""
    return Tree(tuple(_tidied_entries(tree, store)))


def _tidied_entries(tree: Tree, store: Store) -> Iterator[Entry]:
    for entry in tree.entries:
        if entry.kind == "file" and entry.size <= _LARGEST:
            if entry.path.endswith(".la") and _LIBTOOL in store.get_bytes(entry.content)[:200]:
                continue
            if _PKG_CONFIG.fullmatch(entry.path) or _is_config_program(entry, store):
                before = store.get_bytes(entry.content)
                after = _OWN_FLAGS.sub(b"", before).replace(_SYSROOT, b"")
                if after != before:
                    entry = msgspec.structs.replace(entry, size=len(after), content=store.put_bytes(after))
        yield entry


def without_leftovers(tree: Tree, store: Store) -> Tree:
    """The tree with programs and libraries whose string tables keep nothing of the build's search paths: a build system that
    replaces such a path by a shorter one leaves the end of the old one behind. Changed files are stored, the tree is not."""
    return Tree(tuple(_without_leftover(entry, store) if entry.kind == "file" else entry for entry in tree.entries))


def _without_leftover(entry: Entry, store: Store) -> Entry:
    with open(store.checked(entry.content), "rb") as file:
        if file.read(len(MAGIC)) != MAGIC:
            return entry
        try:
            ranges = unnamed_strings(file, OWN_PATH)
        except Damaged:
            return entry  # told elsewhere
        if not ranges:
            return entry
        file.seek(0)
        data = bytearray(file.read())
    for at, length in ranges:
        data[at : at + length] = bytes(length)
    return msgspec.structs.replace(entry, content=store.put_bytes(bytes(data)))


def sysroot_of(tree: Tree, store: Store) -> Tree:
    """What others see of a tree when they are built, stored: headers, libraries, and the programs `NAME-config`, which answer
    with paths of the sysroot."""
    below = tree.below(*SYSROOT_FOLDERS)
    found = {entry.path: entry for entry in below.entries}
    for entry in tree.files:
        if entry.size <= _LARGEST and _is_config_program(entry, store):
            text = _BOARD_FOLDER.sub(_SYSROOT + b"/usr", store.get_bytes(entry.content))
            found[entry.path] = msgspec.structs.replace(entry, size=len(text), content=store.put_bytes(text))
            for folder in ("usr", "usr/bin"):
                found.setdefault(folder, Entry(folder, "folder", 0o755, 0, ""))
    sysroot = Tree.of(found.values())
    store.put_tree(sysroot)
    return sysroot


def _is_config_program(entry: Entry, store: Store) -> bool:
    return _CONFIG_PROGRAM.fullmatch(entry.path) is not None and store.get_bytes(entry.content)[:2] == b"#!"
