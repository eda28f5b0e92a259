"""Any of the filesystems and archives, asked for in one way: planned first, so that its size is known, then written."""

from __future__ import annotations

import os
from pathlib import Path
from typing import BinaryIO

from yarrik.disk.form import Content, Planned, Wish, ready_file
from yarrik.disk.forms import FORMS, FilesystemForm
from yarrik.errors import Unfit
from yarrik.moving import Target
from yarrik.rootfs import RootTree

__all__ = ["Planned", "Wish", "plan_filesystem", "ready_file", "truncated", "usual_name", "write_streamed"]


def plan_filesystem(tree: RootTree, wish: Wish, content: Content, scratch: Path) -> Planned:
    """Plans a filesystem. `content` tells where the file with a digest lies; `scratch` is a file that may be made, and has to
    stay until the filesystem is written. Raises TooSmall, or Unfit when the form cannot hold the tree."""
    form = _form(wish)
    if form.plan is not None:
        return form.plan(tree, wish, content)
    with scratch.open("xb") as sink:
        write_streamed(tree, wish, content, sink)
    return ready_file(scratch, wish)


def write_streamed(tree: RootTree, wish: Wish, content: Content, sink: BinaryIO) -> None:
    """Writes one of the forms that are written from front to back. Raises Unfit like `plan_filesystem`."""
    form = _form(wish)
    assert form.stream is not None
    form.stream(tree, wish, content, sink)


def usual_name(form: str, name: str) -> str:
    """A label made from a partition's name, as far as the form can have it."""
    return FORMS[form].label(name) if form in FORMS else ""


def truncated(sink: BinaryIO, size: int) -> Target:
    """An empty file as a target of `size` bytes."""
    os.ftruncate(sink.fileno(), size)
    return Target(sink.fileno())


def _form(wish: Wish) -> FilesystemForm:
    if wish.form not in FORMS:
        raise Unfit(f"`{wish.form}` is not a form that is known")
    return FORMS[wish.form]
