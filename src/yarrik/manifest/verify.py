"""Reads a finished `out/` folder back: checksums, partition table, and each filesystem's own word on itself."""

from __future__ import annotations

import hashlib
import io
from pathlib import Path
from typing import Any, BinaryIO, cast

import msgspec

from yarrik.beneath import Folder
from yarrik.disk import SECTOR, Ext4Reader, FatReader, MbrDamaged, TableDamaged, image_name, read_mbr, read_table, reader_at
from yarrik.errors import Damaged, Place, Trouble, YarrikError
from yarrik.units import shown_size


def check_sums(out: Path, listed: bytes) -> None:
    """Holds every file of a list of checksums against it. Raises YarrikError for the first that is another or missing."""
    with Folder.at(out) as folder:
        for line in listed.decode("utf-8", "surrogateescape").splitlines():
            digest, _, name = line.partition("  ")
            try:
                with folder.open(name) as file:
                    found = hashlib.file_digest(cast(io.BufferedReader, file), "sha256").hexdigest()
            except OSError as error:
                raise _wrong(out / name, f"it cannot be read: {error.strerror or error}") from error
            if found != digest:
                raise _wrong(out / name, "its SHA-256 is not the one in SHA256SUMS")


def verify_out(out: Path, product: str) -> list[str]:
    """What was found in order, as sentences. Raises YarrikError with the first thing that is not."""
    findings: list[str] = []
    check_sums(out, (out / "SHA256SUMS").read_bytes())
    findings.append("every file has the SHA-256 that SHA256SUMS gives")
    partitions: dict[str, str] = {}
    manifest = msgspec.json.decode((out / "packages.json").read_bytes())
    for disk in manifest["disks"]:
        image = out / image_name(product, disk["name"], len(manifest["disks"]))
        with image.open("rb") as file:
            starts = _starts(file, image, disk["table"])
            for number_, wanted in enumerate(disk["partitions"], 1):
                key = wanted["guid"] if disk["table"] == "gpt" else f"{disk['signature']}-{number_:02x}"
                if disk["table"] != "none" and starts.get(key) != wanted["start"]:
                    raise _wrong(image, f"partition {wanted['name']} is not where the manifest says")
                partitions[key] = wanted["name"]
                findings.append(f"{image.name}: {wanted['name']}, {_filesystem(file, image, wanted)}")
    boot = manifest["boot"]
    words = [word["word"] for word in boot["command-line"]]
    root = next((word.removeprefix("root=") for word in words if word.startswith("root=")), "")
    identifier = root.removeprefix("PARTUUID=") if root.startswith("PARTUUID=") else ""
    if identifier and identifier not in partitions:
        raise _wrong(out / "packages.json", f"the command line's root= names {identifier}, which no partition is")
    where = f"root= is the partition `{partitions[identifier]}`" if identifier else f"root={root}" if root else "no root="
    console = next((f", {word}" for word in words if word.startswith("console=")), "")
    tree = f" with {boot['device-tree']['path']}" if boot["device-tree"]["path"] else ""
    kernel = f"{boot['kernel']['path']} ({boot['kernel']['arch']})"
    findings.append(f"boot files ({boot['method']}): {kernel}{tree}")
    findings.append(f"command line: {where}{console}")
    return findings


def _starts(file: BinaryIO, image: Path, table: str) -> dict[str, int]:
    """Where each partition begins, in bytes, by what the kernel calls it."""
    sectors = image.stat().st_size // SECTOR
    try:
        if table == "gpt":
            return {str(entry.guid): entry.first * SECTOR for entry in read_table(file, sectors).entries}
        if table == "mbr":
            signature, entries = read_mbr(file, sectors)
            return {f"{signature:08x}-{entry.number:02x}": entry.first * SECTOR for entry in entries}
    except (TableDamaged, MbrDamaged) as error:
        raise _wrong(image, str(error)) from error
    return {}


def _filesystem(file: BinaryIO, image: Path, wanted: dict[str, Any]) -> str:
    """A sentence on what a partition holds, from the filesystem's own words."""
    size = shown_size(wanted["bytes"])
    if wanted["filesystem"] in ("none", "raw"):
        return f"{size} of {'raw data' if wanted['filesystem'] == 'raw' else 'nothing'}"
    other, problem = reader_at(file, wanted["start"], wanted["bytes"])
    if other is None or ("fat" if isinstance(other, FatReader) else other.form) != wanted["filesystem"]:
        found = other.form if other is not None else problem
        raise _wrong(image, f"partition {wanted['name']} holds no valid {wanted['filesystem']} filesystem: {found}")
    try:
        files = sum(entry.kind == "file" for entry in other.walk())
    except Damaged as error:
        raise _wrong(image, f"partition {wanted['name']} is not a valid {other.form} filesystem: {error}") from error
    free = f", {shown_size(other.free)} free" if isinstance(other, Ext4Reader) else ""
    return f"{other.form} of {size}, {files} files{free}"


def _wrong(file: Path, what: str) -> YarrikError:
    return YarrikError(
        Trouble("OUT-DAMAGED", f"{file.name} is not as it was written: {what}", Place(file),
                remedy="remove it and build again"),
        "work",
    )  # fmt: skip
