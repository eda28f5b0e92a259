"""A tree as one file: any of the filesystems and archives."""

from __future__ import annotations

import os
from pathlib import Path

from yarrik.disk.archives import write_cpio, write_tar
from yarrik.disk.ext4 import plan_ext4, write_ext4
from yarrik.disk.fat import plan_fat, write_fat
from yarrik.disk.layout import derived_guid
from yarrik.disk.squashfs import write_squashfs
from yarrik.model.rules import check_partition_size, fit_percent
from yarrik.rootfs import RootTree
from yarrik.units import parse_size


def pack_folder(tree: RootTree, out: Path, form: str, size: str, label: str, clock: int, compression: str = "zstd") -> None:
    """Writes `tree` to `out`, which must not exist; nodes' contents are paths. `size` is like a partition's.

    Identifiers derive from the label. Raises ValueError with a sentence when the form cannot hold the tree."""
    check_partition_size(size)
    spare = fit_percent(size)
    count = None if spare is not None else parse_size(size)
    with out.open("xb") as sink:
        if form == "ext4":
            plan = plan_ext4(
                tree,
                size=count,
                spare_percent=spare or 0,
                uuid=derived_guid("packed", label),
                hash_seed=derived_guid("packed hash seed", label),
                label=label,
                clock=clock,
            )
            os.ftruncate(sink.fileno(), count or plan.size)
            write_ext4(plan, sink.fileno(), 0, str)
        elif form == "fat":
            serial = int.from_bytes(derived_guid("packed", label).bytes[:4], "big")
            fat = plan_fat(tree, size=count, spare_percent=spare or 0, serial=serial, label=label, clock=clock)
            os.ftruncate(sink.fileno(), count or fat.size)
            write_fat(fat, sink.fileno(), 0, Path)
        elif form == "squashfs":
            write_squashfs(tree, sink, str, clock, compression)
        elif form == "cpio":
            write_cpio(tree, sink, Path, clock)
        elif form == "tar":
            write_tar(tree, sink, Path, clock)
        else:
            raise ValueError(f"`{form}` is no form that is known")
