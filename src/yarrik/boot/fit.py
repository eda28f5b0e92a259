"""The flattened image tree: kernels, device trees and initramfs in one device tree blob, with hashes and signatures.

A signature covers what a configuration says and what it names, as ranges of the blob itself: the structure of the listed
nodes without the data (whose hashes are among what is covered), and the names of properties as far as they were there.
"""

from __future__ import annotations

import contextlib
import hashlib
import struct
import zlib
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec

from yarrik.devicetree import BlobDamaged, DeviceTree, TreeNode, TreeProperty, decode_blob, encode_blob, text_of
from yarrik.errors import Damaged, Unfit
from yarrik.units import round_up

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey, RSAPublicKey

_ARCHES = {"arm64": "arm64", "arm": "arm", "x86-64": "x86_64", "riscv64": "riscv"}
_KINDS = {"kernel": "kernel", "device-tree": "flat_dt", "initramfs": "ramdisk", "script": "script", "firmware": "firmware",
          "standalone": "standalone", "tee": "tee", "fpga": "fpga"}  # fmt: skip
_ALGORITHM = "sha256,rsa2048"
#: What a signature leaves out of the nodes it covers.
_NOT_COVERED = ("data", "data-size", "data-position")


_LONGEST_NAME = 1024


class FitDamaged(Damaged):
    """The bytes are no valid image tree, or a hash or signature does not fit; the message says why."""


class FitImage(msgspec.Struct, frozen=True):
    """One thing in the tree. `load` and `entry` are addresses, for kinds that need them."""

    name: str
    kind: str
    data: bytes
    arch: str
    description: str = ""
    compression: str = "none"
    load: int | None = None
    entry: int | None = None


class FitConfiguration(msgspec.Struct, frozen=True):
    """What belongs together. The first of `device_trees` is the base, the others are overlays for it; `loadables` are loaded
    too."""

    name: str
    kernel: str
    device_trees: tuple[str, ...] = ()
    initramfs: str = ""
    description: str = ""
    compatible: str = ""
    signed_by: str = ""
    loadables: tuple[str, ...] = ()


class Fit(msgspec.Struct, frozen=True):
    description: str
    images: tuple[FitImage, ...]
    configurations: tuple[FitConfiguration, ...]
    default: str
    time: int = 0


class _Node(msgspec.Struct):
    """A small helper to fill nodes in."""

    node: TreeNode
    made: dict[str, TreeNode] = msgspec.field(default_factory=dict)

    def text(self, name: str, *values: str) -> None:
        if values and any(values):
            self.node.properties[name] = TreeProperty(name, b"".join(value.encode() + b"\0" for value in values))

    def raw(self, name: str, value: bytes) -> None:
        self.node.properties[name] = TreeProperty(name, value)

    def address(self, name: str, value: int | None) -> None:
        if value is not None:
            self.raw(name, value.to_bytes(4 if value < 1 << 32 else 8, "big"))

    def child(self, name: str) -> _Node:
        child = self.node.children[name] = TreeNode(name)
        return _Node(child)


def encode_fit(fit: Fit, key: RSAPrivateKey | None = None, key_name: str = "") -> bytes:
    """The tree as a blob; with a key every configuration is signed. Raises ValueError for names that nothing has."""
    _check_names(fit)
    root = TreeNode("")
    top = _Node(root)
    top.raw("timestamp", struct.pack(">I", fit.time))
    top.text("description", fit.description)
    top.raw("#address-cells", struct.pack(">I", 1))
    images = top.child("images")
    for image in fit.images:
        one = images.child(image.name)
        one.text("description", image.description)
        one.raw("data", image.data)
        one.text("type", _KINDS[image.kind])
        one.text("arch", _ARCHES[image.arch])
        if image.kind in ("kernel", "initramfs"):
            one.text("os", "linux")
        one.text("compression", image.compression)
        one.address("load", image.load)
        one.address("entry", image.entry)
        hashed = one.child("hash-1")
        hashed.raw("value", hashlib.sha256(image.data).digest())
        hashed.text("algo", "sha256")
    configurations = top.child("configurations")
    configurations.text("default", fit.default)
    for configuration in fit.configurations:
        one = configurations.child(configuration.name)
        one.text("description", configuration.description)
        one.text("kernel", configuration.kernel)
        one.text("fdt", *configuration.device_trees)
        one.text("ramdisk", configuration.initramfs)
        one.text("loadables", *configuration.loadables)
        one.text("compatible", configuration.compatible)
    tree = DeviceTree(root)
    if key is None:
        return encode_blob(tree)
    for configuration in fit.configurations:
        _place_signature(tree, configuration, key_name)
    return _sign(tree, key)


def _check_names(fit: Fit) -> None:
    names = {image.name for image in fit.images}
    for configuration in fit.configurations:
        for name in (configuration.kernel, *configuration.device_trees, configuration.initramfs, *configuration.loadables):
            if name and name not in names:
                raise Unfit(f"the configuration {configuration.name} names {name}, which is not in the tree")
    if fit.default not in (configuration.name for configuration in fit.configurations):
        raise Unfit(f"the default {fit.default} is none of the configurations")


def _place_signature(tree: DeviceTree, configuration: FitConfiguration, key_name: str) -> None:
    """The signature's node, with everything but its value."""
    covered = ["/", f"/configurations/{configuration.name}"]
    words = ["kernel"]
    for word, names in (("kernel", (configuration.kernel,)), ("fdt", configuration.device_trees),
                        ("ramdisk", (configuration.initramfs,)), ("loadables", configuration.loadables)):  # fmt: skip
        for name in names:
            if name:
                covered += [f"/images/{name}", f"/images/{name}/hash-1"]
                words += [word] if word not in words else []
    node = tree.root.children["configurations"].children[configuration.name]
    signature = _Node(node).child("signature-1")
    signature.raw("hashed-strings", bytes(8))
    signature.text("hashed-nodes", *covered)
    signature.raw("value", bytes(256))
    signature.text("algo", _ALGORITHM)
    signature.text("key-name-hint", key_name)
    signature.text("sign-images", *words)


def _sign(tree: DeviceTree, key: RSAPrivateKey) -> bytes:
    """Fills in how many bytes of names are covered, which is all of them, then the signatures themselves."""
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import padding

    names = struct.unpack_from(">I", encode_blob(tree), 32)[0]
    signatures = [signature for _, _, signature in _signatures(tree)]
    for signature in signatures:
        signature.properties["hashed-strings"].value = struct.pack(">II", 0, names)
    # A signature is outside of what any signature covers, so filling one in changes nothing for the others.
    unsigned = encode_blob(tree)
    for signature in signatures:
        covered = b"".join(_covered(unsigned, signature))
        signature.properties["value"].value = key.sign(covered, padding.PKCS1v15(), hashes.SHA256())
    return encode_blob(tree)


def _nodes_to_sign(tree: DeviceTree, configuration: FitConfiguration) -> set[str]:
    """The nodes that a configuration's signature has to cover: the root, itself, its images, and their hashes, which stand for
    their data. Raises FitDamaged for an image whose data no digest stands for."""
    images = tree.root.children["images"]
    nodes = {"/", f"/configurations/{configuration.name}"}
    node = tree.root.children["configurations"].children[configuration.name]
    names = [
        configuration.kernel,
        *configuration.device_trees,
        configuration.initramfs,
        *configuration.loadables,
        *_texts(node, "firmware"),
    ]
    for name in filter(None, names):
        image = images.children.get(name)
        if image is None:
            raise FitDamaged(f"{configuration.name} names the image {name}, which is not there")
        hashes = [child for child in image.children.values() if child.name.startswith("hash")]
        if not any(_text(one, "algo") in ("sha256", "sha384", "sha512") for one in hashes):
            raise FitDamaged(f"no digest covers the data of {name}, so a signature says nothing of it")
        nodes |= {f"/images/{name}", *(f"/images/{name}/{one.name}" for one in hashes)}
    return nodes


def _signatures(tree: DeviceTree) -> Iterator[tuple[str, TreeNode, TreeNode]]:
    configurations = tree.root.children.get("configurations")
    for name, node in (configurations.children if configurations is not None else {}).items():
        for child in node.children.values():
            if child.name.split("@")[0].startswith("signature"):
                yield name, node, child


def _texts(node: TreeNode, name: str) -> list[str]:
    item = node.properties.get(name)
    return [part.decode("utf-8", "replace") for part in item.value.removesuffix(b"\0").split(b"\0")] if item else []


def _covered(blob: bytes, signature: TreeNode) -> Iterator[bytes]:
    """The ranges of the blob that a signature covers."""
    at_structure, at_names = struct.unpack_from(">II", blob, 8)
    for start, end in _ranges(blob, _texts(signature, "hashed-nodes")):
        yield blob[at_structure + start : at_structure + end]
    item = signature.properties.get("hashed-strings")
    if item is not None and len(item.value) == 8:
        yield blob[at_names : at_names + struct.unpack(">II", item.value)[1]]


def _ranges(blob: bytes, wanted: Sequence[str]) -> Iterator[tuple[int, int]]:
    """Ranges of the structure that hold the wanted nodes: their properties but for the data, and the marks where their
    children begin and end. What follows one another is one range."""
    _, _, at_structure, at_names = struct.unpack_from(">IIII", blob)
    structure = blob[at_structure : at_structure + struct.unpack_from(">I", blob, 36)[0]]
    start: int | None = None
    last_end = -1
    found: list[tuple[int, int]] = []
    path: list[str] = []
    above: list[int] = []
    want = 0  # 2 in a wanted node, 1 in its children, whose marks count and whose properties do not
    at = 0
    while at + 4 <= len(structure):
        (token,) = struct.unpack_from(">I", structure, at)
        begin, stop = at, at
        if token == 1:
            end = structure.index(b"\0", at + 4, at + 4 + _LONGEST_NAME)
            path.append(structure[at + 4 : end].decode("ascii", "replace"))
            at = round_up(end + 1, 4)
            above.append(want)
            full = "/" + "/".join(path[1:])
            stop = begin if want == 1 or (full not in wanted and not want) else at
            want = 2 if full in wanted else max(0, want - 1)
            include = want > 0
        elif token == 2:
            at += 4
            stop = at
            include = want > 0
            want = above.pop()
            path.pop()
        elif token == 3:
            size, name_at = struct.unpack_from(">II", structure, at + 4)
            at = round_up(at + 12 + size, 4)
            name = blob[at_names + name_at : blob.index(b"\0", at_names + name_at, at_names + name_at + _LONGEST_NAME)].decode(
                "ascii", "replace"
            )
            include = want >= 2 and name not in _NOT_COVERED
        elif token == 4:
            at += 4
            include = want >= 2
        else:
            at += 4
            include = True
        if include and start is None:
            start = found.pop()[0] if found and begin == last_end else begin
        if not include and start is not None:
            found.append((start, stop))
            last_end, start = stop, None
        if token == 9:
            break
    if start is not None:
        found.append((start, at))
    return iter(found)


def decode_fit(data: bytes) -> tuple[DeviceTree, Fit]:
    """Reads a tree and checks every hash. Raises FitDamaged."""
    try:
        tree = decode_blob(data)
    except BlobDamaged as error:
        raise FitDamaged(str(error)) from error
    root = tree.root
    images, configurations = root.children.get("images"), root.children.get("configurations")
    if images is None or configurations is None:
        raise FitDamaged("it is a device tree, and has no `images` or no `configurations`")
    found = []
    for name, node in images.children.items():
        _check_hashes(name, node)
        item = node.properties.get("data")
        if item is None:
            raise FitDamaged(f"{name} has no data")
        found.append(
            FitImage(
                name,
                _key_of(_KINDS, _text(node, "type")),
                item.value,
                _key_of(_ARCHES, _text(node, "arch")),
                _text(node, "description"),
                _text(node, "compression") or "none",
                _number(node, "load"),
                _number(node, "entry"),
            )
        )
    sets = tuple(
        FitConfiguration(
            name,
            _text(node, "kernel"),
            tuple(_texts(node, "fdt")),
            _text(node, "ramdisk"),
            _text(node, "description"),
            _text(node, "compatible"),
            next((_text(sign, "key-name-hint") for _, holder, sign in _signatures(tree) if holder is node), ""),
            tuple(_texts(node, "loadables")),
        )
        for name, node in configurations.children.items()
    )
    default = _text(configurations, "default") or (sets[0].name if sets else "")
    fit = Fit(_text(root, "description"), tuple(found), sets, default, _number(root, "timestamp") or 0)
    try:
        _check_names(fit)
    except Unfit as error:
        raise FitDamaged(str(error)) from error
    return tree, fit


def _check_hashes(name: str, node: TreeNode) -> None:
    item = node.properties.get("data")
    for child in node.children.values():
        if not child.name.startswith("hash") or item is None:
            continue
        kind, value = _text(child, "algo"), child.properties.get("value")
        if kind == "crc32":
            right = struct.pack(">I", zlib.crc32(item.value))
        elif kind in ("md5", "sha1", "sha256", "sha384", "sha512"):
            right = hashlib.new(kind, item.value).digest()
        else:
            raise FitDamaged(f"{name} has a hash of the kind {kind or 'nothing'}, which is not known here")
        if value is None or value.value != right:
            raise FitDamaged(f"the {kind} hash of {name} does not fit its data")


def verify_fit(data: bytes, key: RSAPublicKey) -> list[str]:
    """The configurations that the key has signed. Raises FitDamaged when a signature does not fit, or one has none."""
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import padding

    tree, fit = decode_fit(data)
    by_name = {configuration.name: configuration for configuration in fit.configurations}
    signed = []
    for name, _, signature in _signatures(tree):
        wanted = _nodes_to_sign(tree, by_name[name])
        covers = set(_texts(signature, "hashed-nodes"))
        if covers != wanted:
            odd = sorted(covers ^ wanted)
            raise FitDamaged(f"the signature of {name} does not cover just this configuration and its images: {odd[0]}")
        item = signature.properties.get("value")
        try:
            covered = b"".join(_covered(data, signature))
            key.verify(item.value if item is not None else b"", covered, padding.PKCS1v15(), hashes.SHA256())
        except (InvalidSignature, ValueError, struct.error) as error:
            raise FitDamaged(f"the signature of {name} does not fit") from error
        signed.append(name)
    for configuration in fit.configurations:
        if configuration.name not in signed:
            raise FitDamaged(f"{configuration.name} is not signed")
    return signed


def key_tree(key: RSAPublicKey, key_name: str) -> DeviceTree:
    """What a bootloader's own device tree has to hold so that it takes only what this key signed.

    Beside the key's numbers it holds what arithmetic modulo the key needs: -1/n modulo 2**32, and 2**4096 modulo n."""
    numbers = key.public_numbers()
    bits = key.key_size
    root = TreeNode("")
    node = _Node(root).child("signature").child(f"key-{key_name}")
    node.text("required", "conf")
    node.text("algo", _ALGORITHM)
    node.raw("rsa,r-squared", pow(2, bits * 2, numbers.n).to_bytes(bits // 8, "big"))
    node.raw("rsa,modulus", numbers.n.to_bytes(bits // 8, "big"))
    node.raw("rsa,exponent", numbers.e.to_bytes(8, "big"))
    node.raw("rsa,n0-inverse", (-pow(numbers.n, -1, 1 << 32) % (1 << 32)).to_bytes(4, "big"))
    node.raw("rsa,num-bits", struct.pack(">I", bits))
    node.text("key-name-hint", key_name)
    return DeviceTree(root)


def keys_in(tree: DeviceTree) -> dict[str, RSAPublicKey]:
    """The keys in a bootloader's own device tree by their names, as `key_tree` writes them; what is no such key is left out."""
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicNumbers

    signature = tree.root.children.get("signature")
    found: dict[str, RSAPublicKey] = {}
    for node in signature.children.values() if signature is not None else ():
        modulus, exponent = node.properties.get("rsa,modulus"), node.properties.get("rsa,exponent")
        if modulus is None or exponent is None:
            continue
        numbers = RSAPublicNumbers(int.from_bytes(exponent.value, "big"), int.from_bytes(modulus.value, "big"))
        with contextlib.suppress(ValueError):
            found[_text(node, "key-name-hint")] = numbers.public_key()
    return found


def _text(node: TreeNode, name: str) -> str:
    item = node.properties.get(name)
    return (text_of(item.value) or "") if item is not None else ""


def _number(node: TreeNode, name: str) -> int | None:
    item = node.properties.get(name)
    return int.from_bytes(item.value, "big") if item is not None and len(item.value) in (4, 8) else None


def _key_of(words: dict[str, str], value: str) -> str:
    return next((ours for ours, theirs in words.items() if theirs == value), value)
