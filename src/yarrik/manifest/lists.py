"""The lists beside an image: packages, files, checksums. Plain JSON and text, the same for the same input."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from yarrik.resolve import Chosen
from yarrik.rootfs import Node, RootTree, quoted


def describe_packages(
    head: Mapping[str, object],
    chosen: Sequence[Chosen],
    boot: object,
    disks: object,
    further: Mapping[str, Sequence[Chosen]] | None = None,
) -> bytes:
    """`packages.json`: each package with version, licence, size in bytes, why it is in the image, and what of other recipes is
    linked into its files statically; those of `further` images of the product by their names."""
    images = {"images": {name: _packages(rows) for name, rows in sorted(further.items())}} if further else {}
    return _pretty({**head, "boot": boot, "disks": disks, "packages": _packages(chosen), **images})


def _packages(chosen: Sequence[Chosen]) -> list[dict[str, object]]:
    return [
        {
            "name": one.package.name,
            "version": one.package.version,
            "licence": one.package.licence,
            "recipe": one.package.recipe,
            "summary": one.package.summary,
            "because": one.because,
            "needs": list(one.package.needs),
            "bytes": one.package.size,
            "files": sum(path.kind == "file" for path in one.package.paths),
            "linked": [msgspec.structs.asdict(part) for part in one.package.linked],
        }
        for one in chosen
    ]


def describe_files(head: Mapping[str, object], root: RootTree) -> bytes:
    """`files.json`: every path with owner, mode, size, digest, and the package that brought it, or the
    image's definition that does."""
    return _pretty({**head, "files": [_row(node) for node in root.nodes]})


def _row(node: Node) -> dict[str, object]:
    row: dict[str, object] = {
        "path": quoted(node.path),
        "kind": node.kind,
        "mode": f"{node.mode:04o}",
        "uid": node.uid,
        "gid": node.gid,
    }
    if node.kind == "file":
        row |= {"bytes": node.size, "sha256": node.content}
    elif node.kind == "link":
        row["to"] = quoted(node.content)
    elif node.kind in ("character", "block"):
        row["device"] = f"{node.device[0]}:{node.device[1]}"
    if node.package:
        row["package"] = node.package
    if node.origin:
        row["origin"] = node.origin
    if node.attributes:
        row["attributes"] = {name: value.hex() for name, value in node.attributes}
    return row


def checksum_list(digests: Mapping[str, str]) -> bytes:
    """`SHA256SUMS`, in the form that `sha256sum --check` reads."""
    return "".join(f"{digest}  {name}\n" for name, digest in sorted(digests.items())).encode()


def _pretty(value: object) -> bytes:
    return msgspec.json.format(msgspec.json.encode(value), indent=1) + b"\n"
