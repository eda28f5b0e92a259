"""A tree as one file: any of the filesystems and archives."""

from __future__ import annotations

from pathlib import Path

from msgspec.structs import replace

from yarrik.disk.filesystems import Wish, plan_filesystem, truncated, write_streamed
from yarrik.disk.form import Content
from yarrik.disk.forms import FORMS
from yarrik.errors import Unfit
from yarrik.rootfs import RootTree
from yarrik.units import NO_SPARE, TooSmall, check_partition_size, fit_spare, parse_size, shown_size


def pack_folder(
    tree: RootTree, out: Path, wish: Wish, size: str = "fit", content: Content = str
) -> tuple[tuple[int, int], ...]:
    """Writes `tree` to `out`, which must not exist; `content` tells where each node's content lies, without it they are paths.
    `size` is like a partition's.

    Returns which ranges of the file (start, end) hold something.

    Raises ValueError with a sentence when the form cannot hold the tree."""
    check_partition_size(size)
    spare = fit_spare(size)
    count = None if spare is not None else parse_size(size)
    wish = replace(wish, size=count, spare=spare or NO_SPARE)
    with out.open("xb") as sink:
        form = FORMS.get(wish.form)
        if form is not None and form.stream is not None:
            if count is not None and not form.has_room:
                raise Unfit(f"{wish.form} has no size of its own; leave --size out")
            write_streamed(tree, wish, content, sink)
            written = sink.seek(0, 2)
            room = count if count is not None else written + (spare or NO_SPARE).of(written)
            if written > room:
                raise TooSmall(f"the content needs {shown_size(written)}, and the size is {shown_size(room)}")
            sink.truncate(room)
            return ((0, written),)
        plan = plan_filesystem(tree, wish, content, out)
        target = truncated(sink, count or plan.size)
        plan.write(target, 0)
        return target.written
