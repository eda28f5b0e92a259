"""Certificates that programs trust: all in one file, and a link to each under the name by which OpenSSL looks it up.

They are those in `/usr/share/ca-certificates` and `/usr/local/share/ca-certificates`, as distributions have them. Where there
is `/etc/ca-certificates.conf`, it names which of the first folder count; a `!` before a name leaves it out."""

from __future__ import annotations

import datetime
import hashlib
import re
import warnings
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import msgspec

from yarrik.errors import Unfit

if TYPE_CHECKING:
    from yarrik.rootfs.tree import Node, RootTree

BUNDLE = "/etc/ssl/certs/ca-certificates.crt"
_FOLDER = "/etc/ssl/certs"
_SHARED, _LOCAL = "/usr/share/ca-certificates/", "/usr/local/share/ca-certificates/"
_CHOICE = "/etc/ca-certificates.conf"
_LARGEST = 1 << 20
#: Universal tags of ASN.1 (X.680, section 8.6): strings that OpenSSL compares by their text (`ASN1_MASK_CANON`).
_UTF8, _SET, _SEQUENCE, _OBJECT = 0x0C, 0x31, 0x30, 0x06
_TEXTS = {12, 19, 20, 22, 26, 28, 30}


class CertificateUnfit(Unfit):
    """A file that is no certificate to trust; `path` is where it is, `package` what brings it."""

    def __init__(self, node: Node, what: str) -> None:
        super().__init__(f"{node.path} {what}")
        self.path, self.package = node.path, node.package


class Certificates(msgspec.Struct):
    """The bundle's text (empty without any certificate), links by name with their destinations, and what is worth knowing."""

    bundle: bytes = b""
    links: dict[str, str] = msgspec.field(default_factory=dict)
    notes: list[str] = msgspec.field(default_factory=list)


def trusted_certificates(tree: RootTree, read: Callable[[str], bytes], clock: int) -> Certificates:
    """What the certificates of a tree make together. `read` gives a file's bytes by its digest; `clock` is in seconds since
    1970: what has expired then is a note. Raises CertificateUnfit."""
    chosen = _chosen(tree, read)
    if not chosen:
        return Certificates()  # most images have none, and the library takes long to load

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.utils import CryptographyDeprecationWarning

    # Old roots have serial numbers that are not allowed any more; they are trusted all the same.
    warnings.filterwarnings("ignore", category=CryptographyDeprecationWarning)
    found = Certificates()
    seen: dict[bytes, str] = {}
    numbers: dict[str, int] = {}
    now = datetime.datetime.fromtimestamp(clock, datetime.UTC)
    for node in chosen:
        data = read(node.content) if node.size <= _LARGEST else b""
        if not data:
            raise CertificateUnfit(node, "is empty, or larger than 1 MiB")
        if b"PRIVATE KEY" in data:
            raise CertificateUnfit(node, "has a private key in it, and every user of the board could read it")
        try:
            several = x509.load_pem_x509_certificates(data)
            rows = [(one, one.fingerprint(hashes.SHA256()), name_hash(one.subject), one.not_valid_after_utc) for one in several]
        except ValueError as error:
            raise CertificateUnfit(node, f"is no certificate: {_first_line(str(error))}") from error
        for certificate, print_, _name, until in rows:
            if print_ in seen:
                found.notes.append(f"{node.path} is the certificate of {seen[print_]}")
                continue
            seen[print_] = node.path
            found.bundle += certificate.public_bytes(serialization.Encoding.PEM)
            if until < now:
                found.notes.append(f"{node.path} has expired on {until:%Y-%m-%d}")
        if len(rows) == 1 and seen[rows[0][1]] == node.path:
            name = rows[0][2]
            found.links[f"{_FOLDER}/{name}.{numbers.get(name, 0)}"] = node.path
            numbers[name] = numbers.get(name, 0) + 1
        elif len(rows) > 1:
            found.notes.append(f"{node.path} has {len(rows)} certificates: they are in the bundle, and have no links")
    return found


def _first_line(text: str) -> str:
    return text.splitlines()[0][:120] if text.strip() else "it cannot be read"


def _chosen(tree: RootTree, read: Callable[[str], bytes]) -> list[Node]:
    """The files that count, by path."""
    choice = tree.by_path.get(_CHOICE)
    named: set[str] | None = None
    if choice is not None and choice.kind == "file":
        lines = [line.strip() for line in read(choice.content).decode("utf-8", "replace").splitlines()]
        named = {line for line in lines if line and line[0] not in "#!"}

    def counts(path: str) -> bool:
        return path.startswith(_LOCAL) or (path.startswith(_SHARED) and (named is None or path.removeprefix(_SHARED) in named))

    found = [node for node in tree.nodes if node.path.endswith(".crt") and node.kind == "file" and counts(node.path)]
    return sorted(found, key=lambda node: node.path)


def name_hash(name: object) -> str:
    """The 8 digits under which OpenSSL looks a subject up (`X509_NAME_hash`): of the SHA-1 of its canonical encoding, in which
    texts are UTF-8, with small ASCII letters and single blanks. Takes an `x509.Name`."""
    from cryptography import x509

    assert isinstance(name, x509.Name)
    encoded = b"".join(_relative(list(one)) for one in name.rdns)
    return f"{int.from_bytes(hashlib.sha1(encoded, usedforsecurity=False).digest()[:4], 'little'):08x}"


def _relative(attributes: Sequence[object]) -> bytes:
    from cryptography import x509

    parts = []
    for one in attributes:
        assert isinstance(one, x509.NameAttribute)
        kind = int(one._type.value)
        value = one.value.encode() if isinstance(one.value, str) else bytes(one.value)
        if kind in _TEXTS:
            value = re.sub(rb"[ \t\n\v\f\r]+", b" ", value.strip(b" \t\n\v\f\r")).lower()
            kind = _UTF8
        elif isinstance(one.value, bytes):
            value = b"\0" + value  # a bit string of whole bytes
        parts.append(_element(_SEQUENCE, _object(one.oid.dotted_string) + _element(kind, value)))
    return _element(_SET, b"".join(sorted(parts)))


def _element(tag: int, content: bytes) -> bytes:
    """Tag, length and content in DER (X.690, sections 8.1 and 10.1)."""
    size = len(content)
    if size < 128:
        return bytes([tag, size]) + content
    length = size.to_bytes((size.bit_length() + 7) // 8, "big")
    return bytes([tag, 0x80 | len(length)]) + length + content


def _object(dotted: str) -> bytes:
    first, second, *rest = map(int, dotted.split("."))
    out = bytearray()
    for number in (first * 40 + second, *rest):
        digits = [number & 0x7F]
        while number := number >> 7:
            digits.append(0x80 | number & 0x7F)
        out += bytes(reversed(digits))
    return _element(_OBJECT, bytes(out))
