"""Writes a whole disk image: the table, raw blobs, and in each partition what it holds."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Mapping
from pathlib import Path

from msgspec.structs import replace

from yarrik.disk.filesystems import Planned, Wish, plan_filesystem, ready_file, truncated, usual_name
from yarrik.disk.form import Content
from yarrik.disk.gpt import SECTOR, TABLE_SECTORS, encode_table
from yarrik.disk.layout import DiskLayout, LayoutUnfit, filesystem_guid, has_gpt, lay_out_disk, numbered_partitions, start_of
from yarrik.disk.mbr import encode_mbr
from yarrik.disk.verity import BLOCK, data_in, hashed, whole_size
from yarrik.errors import Trouble, Unfit, YarrikError
from yarrik.model import Disk, Partition
from yarrik.moving import Target
from yarrik.rootfs import RootTree
from yarrik.units import NO_SPARE, TooSmall, fit_spare, parse_size, rest_of, shown_size

BOOT_FOLDER = "/boot"


def write_disk(
    file: Path,
    product: str,
    disk: Disk,
    root: RootTree,
    clock: int,
    content: Content,
    blobs: Mapping[str, Path] | None = None,
    boot_apart: bool = False,
    images: Mapping[str, RootTree] | None = None,
) -> tuple[DiskLayout, tuple[tuple[int, int], ...]]:
    """Writes the image to `file` (which must not exist); returns the layout, and which ranges of the image (start, end)
    hold something that has to reach a card.

    `content` tells where the file with a digest lies, `blobs` where each raw file does; `clock` is in seconds since 1970.
    With `boot_apart`, what is below /boot lies on a partition of its own. `images` are further root
    filesystems by name. Raises YarrikError when something does not
    fit, before anything is written."""
    files = blobs or {}
    with tempfile.TemporaryDirectory(prefix="writing-", dir=file.parent) as scratch:
        layout, plans = plan_disk(product, disk, root, clock, content, files, boot_apart, Path(scratch), images)
        with file.open("xb") as sink:
            target = truncated(sink, layout.size)
            if has_gpt(layout.table):
                first, last = encode_table(layout.gpt)
                target.put(0, first)
                target.put(layout.size - TABLE_SECTORS * SECTOR, last)
            for placed in layout.partitions:
                plan = plans[placed.definition.name]
                if plan is not None:
                    plan.write(target, placed.start)
                if plan is not None and placed.definition.verified:
                    salt = filesystem_guid(product, disk, placed.definition).bytes
                    _add_tree(file, target, placed.start, placed.size, plan.size, salt)
            for raw in layout.blobs:
                with files[raw.file].open("rb") as source:
                    target.move(source.fileno(), 0, raw.start, raw.size)
            if layout.table in ("mbr", "hybrid"):
                # A loader may fill the sector's first 440 bytes; the table comes over it.
                target.put(440, encode_mbr(layout.signature, layout.mbr)[440:])
    return layout, target.written


def _add_tree(file: Path, target: Target, start: int, size: int, data: int, salt: bytes) -> None:
    """Writes the tree of digests behind what a verified partition holds, and what the bootloader reads into its last sector.
    All of the data has to reach a card then: what is empty has a digest too."""
    target.finish()
    handle = os.open(file, os.O_RDONLY | os.O_CLOEXEC)
    try:
        verity, tree = hashed(lambda at, length: os.pread(handle, length, start + at), -(-data // BLOCK), salt)
    finally:
        os.close(handle)
    target.claim(start, data)
    target.put(start + verity.blocks * BLOCK, tree)
    last = verity.sector()
    target.put(start + size - len(last), last)


def plan_disk(
    product: str,
    disk: Disk,
    root: RootTree,
    clock: int,
    content: Content,
    files: Mapping[str, Path],
    boot_apart: bool,
    scratch: Path,
    images: Mapping[str, RootTree] | None = None,
) -> tuple[DiskLayout, dict[str, Planned | None]]:
    """The layout of a disk, and what goes into each partition by its name; arguments as for `write_disk`. Writes only below
    `scratch`, for forms whose size is known once they are made. Raises YarrikError when something does not fit."""
    blob_sizes = [files[blob.file].stat().st_size for blob in disk.blob]
    for blob, size in zip(disk.blob, blob_sizes, strict=True):
        if blob.at_most and size > parse_size(blob.at_most):
            raise _unfit(disk, f"the blob {blob.file} has {shown_size(size)}, and its room is {blob.at_most}", "")
    plans: dict[str, Planned | None] = {}
    sizes: list[int] = []
    for number, name, partition in numbered_partitions(disk):
        fixed = _fixed_size(disk, partition, number, sizes, blob_sizes)
        inner = data_in(fixed) if fixed and partition.verified else fixed
        if partition.name not in plans:
            tree = (images or {})[partition.image] if partition.image else _tree(root, partition, boot_apart)
            wish = _wish(product, disk, partition, inner, clock)
            plans[partition.name] = _planned(disk, partition, tree, wish, content, files, scratch / str(number))
        plan = plans[partition.name]
        needed = plan.size if plan is not None else 0
        sizes.append(max(whole_size(needed) if partition.verified else needed, fixed or 0))
        if plan is None and not fixed:
            raise _unfit(disk, f"the partition `{name}` is empty, and has no size", "")
    try:
        return lay_out_disk(product, disk, sizes, blob_sizes), plans
    except LayoutUnfit as error:
        raise _unfit(disk, "; ".join(error.reasons), f"the disk would look like this:\n{error.drawing}") from error


def _tree(root: RootTree, partition: Partition, boot_apart: bool) -> RootTree:
    inside = BOOT_FOLDER + "/"
    if partition.holds == "boot":
        return RootTree.of([replace(n, path=n.path[len(BOOT_FOLDER) :]) for n in root.nodes if n.path.startswith(inside)])
    if partition.holds == "root":
        return RootTree.of([n for n in root.nodes if not n.path.startswith(inside)]) if boot_apart else root
    # What is mounted over a folder has the folder's owner and mode: its programs write there.
    place = root.follow(partition.mount) if partition.mount else None
    return RootTree.of([replace(place, path="/")] if place is not None and place.kind == "folder" else [])


def _fixed_size(disk: Disk, partition: Partition, number: int, sizes: list[int], blobs: list[int]) -> int | None:
    """The partition's size in bytes, if it does not follow from its content."""
    if fit_spare(partition.size) is not None:
        return None
    whole = rest_of(partition.size)
    if whole is None:
        return parse_size(partition.size)
    if number != len(numbered_partitions(disk)):
        raise _unfit(disk, f"the partition `{partition.name}` takes the rest of the disk, and is not the last", "")
    end = whole - (TABLE_SECTORS * SECTOR if has_gpt(disk.table) else 0)
    rest = end - start_of(disk, sizes, blobs)
    return max(0, rest // (1 << 20) * (1 << 20))


def _wish(product: str, disk: Disk, partition: Partition, size: int | None, clock: int) -> Wish:
    form = partition.filesystem
    return Wish(
        form,
        filesystem_guid(product, disk, partition),
        size,
        fit_spare(partition.size) or NO_SPARE,
        partition.label or usual_name(form, partition.name),
        clock,
        partition.inodes,
        partition.reserved_percent,
        partition.tables == "full",
        partition.compression,
        partition.level,
    )


def _planned(
    disk: Disk,
    partition: Partition,
    tree: RootTree,
    wish: Wish,
    content: Content,
    files: Mapping[str, Path],
    scratch: Path,
) -> Planned | None:
    if partition.filesystem == "none":
        return None
    try:
        if partition.filesystem == "raw":
            if partition.file is None:
                raise _unfit(disk, f"the raw partition `{partition.name}` names no `file`", "")
            return ready_file(files[partition.file], wish)
        return plan_filesystem(tree, wish, content, scratch)
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
    except Unfit as error:
        raise YarrikError(
            Trouble("PARTITION-UNFIT", f"partition `{partition.name}` of the disk `{disk.name}`: {error}",
                    why=f"{partition.filesystem} cannot hold it, whatever the size",
                    remedy="change what goes there, or the partition's `filesystem` or `label`"),
            "work",
        ) from error  # fmt: skip


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
