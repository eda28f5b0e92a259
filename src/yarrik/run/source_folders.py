"""Folders and files of this machine that sources are taken from, as planning and building see them."""

from __future__ import annotations

import sys
from pathlib import Path

from yarrik.cache import Memory, Tree, plain_modes, read_tree


def source_tree(folder: Path, suffixes: tuple[str, ...], memory: Memory) -> Tree:
    """The sources in a folder as they are now; with `suffixes`, only files so named right in it. Raises YarrikError.

    What is read meanwhile is known to be a source, and nothing else that a plan follows from."""
    sys.audit("yarrik.tree", folder, suffixes)
    try:
        return plain_modes(read_tree(folder, lambda path, status: memory.digest_of(folder / path, status), suffixes))
    finally:
        sys.audit("yarrik.tree-read", folder)


def source_file(file: Path, memory: Memory) -> str:
    """The SHA-256 of a file's content as it is now. Raises OSError.

    No more may follow from what is in it than the step that takes it."""
    sys.audit("yarrik.tree", file, None)
    try:
        return memory.digest_of(file)
    finally:
        sys.audit("yarrik.tree-read", file)
