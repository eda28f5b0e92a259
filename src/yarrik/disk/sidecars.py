"""What is written beside an image on request: compressed, as a map of its blocks, and as flashing protocols take it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

#: What is written beside an image on request, with what each adds to the image's name.
BESIDE = {"zstd": ".zst", "gzip": ".gz", "xz": ".xz", "map": ".map.json", "sparse": ".sparse"}


def write_beside(image: Path, name: str, written: Sequence[tuple[int, int]], kind: str, out: Path) -> None:
    """Writes one kind to `out`, for an image that will be called `name` and of which the ranges `written` hold something.

    Raises ValueError for an image that cannot have that form."""
    with image.open("rb") as source, out.open("xb") as sink:
        size = image.stat().st_size
        if kind == "map":
            from yarrik.disk.block_map import map_blocks

            sink.write(map_blocks(source, name, size, written).encode())
        elif kind == "sparse":
            from yarrik.disk.flashing_form import write_sparse

            write_sparse(source, size, written, sink)
        else:
            from yarrik.disk.compressing import compress_parts

            compress_parts(source, sink, kind)
