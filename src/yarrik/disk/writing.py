"""Writes a whole disk image: the table, raw blobs, and in each partition what it holds."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path

from yarrik.disk.ext4 import Ext4Plan, plan_ext4, write_ext4
from yarrik.disk.fat import FatPlan, plan_fat, usual_label, write_fat
from yarrik.disk.gpt import SECTOR, TABLE_SECTORS, encode_table
from yarrik.disk.layout import DiskLayout, LayoutUnfit, derived_guid, lay_out_disk, numbered, start_of
from yarrik.disk.mbr import encode_mbr
from yarrik.errors import Trouble, YarrikError
from yarrik.model import Disk, Partition
from yarrik.model.rules import fit_percent, rest_of
from yarrik.moving import move_range
from yarrik.rootfs import RootTree
from yarrik.units import TooSmall, parse_size, shown_size

BOOT_FOLDER = "/boot"


def write_disk(
    file: Path,
    product: str,
    disk: Disk,
    root: RootTree,
    clock: int,
    content: Callable[[str], Path],
    blobs: Mapping[str, Path] | None = None,
    boot_apart: bool = False,
) -> DiskLayout:
    """Writes the image to `file` (which must not exist) and returns the layout.

    `content` tells where the file with a digest lies, `blobs` where each raw file does; `clock` is in seconds since 1970.
    With `boot_apart`, what is below /boot lies on a partition of its own. Raises YarrikError when something does not
    fit, before anything is written."""
    blob_files = [(blobs or {})[blob.file] for blob in disk.blob]
    blob_sizes = [path.stat().st_size for path in blob_files]
    for blob, size in zip(disk.blob, blob_sizes, strict=True):
        if blob.at_most and size > parse_size(blob.at_most):
            raise _unfit(disk, f"the blob {blob.file} has {shown_size(size)}, and its room is {blob.at_most}", "")
    plans: dict[str, Ext4Plan | FatPlan | None] = {}
    sizes: list[int] = []
    for number, name, partition in numbered(disk):
        fixed = _fixed_size(disk, partition, number, sizes, blob_sizes)
        if partition.name not in plans:
            plans[partition.name] = _planned(product, disk, partition, _tree(root, partition, boot_apart), fixed, clock)
        plan = plans[partition.name]
        sizes.append(max(plan.size if plan is not None else 0, fixed or 0))
        if plan is None and not fixed:
            raise _unfit(disk, f"the partition `{name}` is empty, and has no size", "")
    try:
        layout = lay_out_disk(product, disk, sizes, blob_sizes)
    except LayoutUnfit as error:
        raise _unfit(disk, "; ".join(error.reasons), f"the disk would look so:\n{error.drawing}") from error
    with file.open("xb") as sink:
        handle = sink.fileno()
        os.ftruncate(handle, layout.size)
        if layout.table == "gpt":
            first, last = encode_table(layout.gpt)
            os.pwrite(handle, first, 0)
            os.pwrite(handle, last, layout.size - TABLE_SECTORS * SECTOR)
        for placed in layout.partitions:
            plan = plans[placed.definition.name]
            if isinstance(plan, Ext4Plan):
                write_ext4(plan, handle, placed.start, content)
            elif isinstance(plan, FatPlan):
                write_fat(plan, handle, placed.start, content)
        sources = dict(zip((blob.file for blob in disk.blob), blob_files, strict=True))
        for raw in layout.blobs:
            with sources[raw.file].open("rb") as source:
                move_range(source.fileno(), 0, handle, raw.start, raw.size)
        if layout.table == "mbr":
            # A loader may fill the sector's first 440 bytes; the table comes over it.
            os.pwrite(handle, encode_mbr(layout.signature, layout.mbr)[440:], 440)
    return layout


def _tree(root: RootTree, partition: Partition, boot_apart: bool) -> RootTree:
    inside = BOOT_FOLDER + "/"
    if partition.holds == "boot":
        return RootTree.of([replace(n, path=n.path[len(BOOT_FOLDER) :]) for n in root.nodes if n.path.startswith(inside)])
    if partition.holds == "root":
        return RootTree.of([n for n in root.nodes if not n.path.startswith(inside)]) if boot_apart else root
    return RootTree.of([])


def _fixed_size(disk: Disk, partition: Partition, number: int, sizes: list[int], blobs: list[int]) -> int | None:
    """The partition's size in bytes, if it does not follow from its content."""
    if fit_percent(partition.size) is not None:
        return None
    whole = rest_of(partition.size)
    if whole is None:
        return parse_size(partition.size)
    if number != len(numbered(disk)):
        raise _unfit(disk, f"the partition `{partition.name}` takes the rest of the disk, and is not the last", "")
    end = whole - (TABLE_SECTORS * SECTOR if disk.table == "gpt" else 0)
    rest = end - start_of(disk, sizes, blobs)
    return max(0, rest // (1 << 20) * (1 << 20))


def _planned(
    product: str, disk: Disk, partition: Partition, tree: RootTree, size: int | None, clock: int
) -> Ext4Plan | FatPlan | None:
    words = (product, disk.name, partition.name)
    spare = fit_percent(partition.size) or 0
    try:
        if partition.filesystem == "ext4":
            return plan_ext4(
                tree,
                size=size,
                spare_percent=spare,
                uuid=derived_guid("filesystem", *words),
                hash_seed=derived_guid("hash seed", *words),
                label=partition.label or partition.name.encode()[:16].decode(errors="ignore"),
                clock=clock,
            )
        if partition.filesystem == "fat":
            serial = int.from_bytes(derived_guid("filesystem", *words).bytes[:4], "big")
            label = partition.label or usual_label(partition.name)
            return plan_fat(tree, size=size, spare_percent=spare, serial=serial, label=label, clock=clock)
    except TooSmall as error:
        raise YarrikError(
            Trouble(
                "PARTITION-FULL",
                f"partition `{partition.name}` of the disk `{disk.name}`: {error}",
                why=_heaviest(tree),
                remedy='give it a larger `size` (or `size = "fit + 20%"`), or take packages out of the image',
            ),
            "work",
        ) from error
    except ValueError as error:
        raise YarrikError(
            Trouble("PARTITION-UNFIT", f"partition `{partition.name}` of the disk `{disk.name}`: {error}",
                    why=f"{partition.filesystem} cannot hold it, whatever the size",
                    remedy="change what goes there, or the partition's `filesystem` or `label`"),
            "work",
        ) from error  # fmt: skip
    return None


def _unfit(disk: Disk, what: str, why: str) -> YarrikError:
    return YarrikError(
        Trouble("DISK-LAYOUT", f"the disk `{disk.name}` cannot be laid out: {what}", why=why,
                remedy="change sizes, offsets or names in the board's [[disk]]"),
        "work",
    )  # fmt: skip


def _heaviest(tree: RootTree) -> str:
    weights: dict[str, int] = {}
    for node in tree.nodes:
        if node.kind == "file":
            weights[node.package or "the image itself"] = weights.get(node.package or "the image itself", 0) + node.size
    most = sorted(weights.items(), key=lambda item: (-item[1], item[0]))[:3]
    return "what weighs most: " + ", ".join(f"{name} {shown_size(size)}" for name, size in most) if most else ""
