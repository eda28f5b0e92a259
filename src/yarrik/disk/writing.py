"""Writes a whole disk image: the table, and in each partition what it holds."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from yarrik.disk.ext4 import Ext4Plan, plan_ext4, write_ext4
from yarrik.disk.gpt import SECTOR, TABLE_SECTORS, encode_table
from yarrik.disk.layout import DiskLayout, derived_guid, lay_out_disk
from yarrik.errors import Trouble, YarrikError
from yarrik.model import Disk
from yarrik.model.rules import fit_percent
from yarrik.rootfs import RootTree
from yarrik.units import parse_size, shown_size


def write_disk(file: Path, product: str, disk: Disk, root: RootTree, clock: int, content: Callable[[str], Path]) -> DiskLayout:
    """Writes the image to `file` (which must not exist) and returns the layout.

    `content` tells where the file with a digest lies; `clock` is in seconds since 1970. Raises YarrikError when
    something does not fit, before anything is written."""
    plans: list[Ext4Plan] = []
    for partition in disk.partition:
        tree = root if partition.holds == "root" else RootTree.of([])
        words = (product, disk.name, partition.name)
        percent = fit_percent(partition.size)
        try:
            plans.append(
                plan_ext4(
                    tree,
                    size=None if percent is not None else parse_size(partition.size),
                    spare_percent=percent or 0,
                    uuid=derived_guid("filesystem", *words),
                    hash_seed=derived_guid("hash seed", *words),
                    label=partition.label or partition.name,
                    clock=clock,
                )
            )
        except ValueError as error:
            raise YarrikError(
                Trouble(
                    "PARTITION-FULL",
                    f"partition `{partition.name}` of the disk `{disk.name}`: {error}",
                    why=_heaviest(tree),
                    remedy='give it a larger `size` (or `size = "fit + 20%"`), or take packages out of the image',
                ),
                "work",
            ) from error
    asked = [0 if fit_percent(partition.size) is not None else parse_size(partition.size) for partition in disk.partition]
    layout = lay_out_disk(product, disk, [max(plan.size, size) for plan, size in zip(plans, asked, strict=True)])
    first, last = encode_table(layout.table)
    with file.open("xb") as sink:
        handle = sink.fileno()
        os.ftruncate(handle, layout.size)
        os.pwrite(handle, first, 0)
        for plan, placed in zip(plans, layout.partitions, strict=True):
            write_ext4(plan, handle, placed.start, content)
        os.pwrite(handle, last, layout.size - TABLE_SECTORS * SECTOR)
    return layout


def _heaviest(tree: RootTree) -> str:
    weights: dict[str, int] = {}
    for node in tree.nodes:
        if node.kind == "file":
            weights[node.package or "the image itself"] = weights.get(node.package or "the image itself", 0) + node.size
    most = sorted(weights.items(), key=lambda item: (-item[1], item[0]))[:3]
    return "what weighs most: " + ", ".join(f"{name} {shown_size(size)}" for name, size in most) if most else ""
