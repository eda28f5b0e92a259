"""Signatures over a product's checksums, in OpenSSH's form: engineers have such keys, and `ssh-keygen -Y verify` reads them.

Written from OpenSSH's PROTOCOL.sshsig (version 1) for keys of Ed25519 (RFC 8709, RFC 8032)."""

from __future__ import annotations

import base64
import binascii
import hashlib
from collections.abc import Callable, Iterable
from pathlib import Path

import msgspec

from yarrik.beneath import regular_file
from yarrik.errors import Damaged, Place, Trouble, Unfit, YarrikError
from yarrik.patterns import lazy_pattern

SIGNATURE_FILE = "SHA256SUMS.sig"
#: What is signed under this name is a file (ssh-keygen(1)); the same key's signatures for other uses do not fit.
_NAMESPACE = b"file"
_MAGIC, _VERSION, _TYPE, _HASH = b"SSHSIG", 1, b"ssh-ed25519", b"sha512"
_BEGIN, _END = "-----BEGIN SSH SIGNATURE-----", "-----END SSH SIGNATURE-----"
_LARGEST = 16 << 10
_LINE = lazy_pattern(r"(?:.*\s)?ssh-ed25519\s+([A-Za-z0-9+/=]+)(?:\s+(.*))?\Z")


class ImageKey(msgspec.Struct, frozen=True):
    """A public key that images are signed with: its 32 bytes, and the comment that it was written with."""

    raw: bytes
    comment: str = ""

    @property
    def blob(self) -> bytes:
        """The key as signatures hold it (RFC 8709, section 4)."""
        return _strings(_TYPE, self.raw)

    @property
    def fingerprint(self) -> str:
        """What people compare: `SHA256:` and the digest in base64 without padding."""
        return "SHA256:" + base64.b64encode(hashlib.sha256(self.blob).digest()).decode().rstrip("=")

    def __str__(self) -> str:
        return f"{self.comment} ({self.fingerprint})" if self.comment else self.fingerprint


def parse_image_key(line: str) -> ImageKey:
    """A key of a `.pub` file, or a line of a list of them. Raises Unfit."""
    if "PRIVATE KEY" in line:
        raise Unfit("that is a private key: it stays with its owner; the public one is in the file `.pub`")
    match = _LINE.fullmatch(line.strip())
    if match is None:
        raise Unfit("that is no public key of the type ssh-ed25519")
    try:
        kind, raw = _split(base64.b64decode(match[1], validate=True), 2)
    except (binascii.Error, Damaged) as error:
        raise Unfit("the key is cut short or damaged") from error
    if kind != _TYPE or len(raw) != 32:
        raise Unfit("the key is not of the type that its line begins with")
    return ImageKey(raw, " ".join("".join(one if one.isprintable() else "?" for one in match[2] or "").split())[:64])


def read_image_keys(file: Path) -> list[ImageKey]:
    """The public keys of a file, one in each line. Raises YarrikError."""
    try:
        lines = [
            line for line in regular_file(file, _LARGEST).decode().splitlines() if line.strip() and not line.startswith("#")
        ]
        if not lines:
            raise Unfit("no key is in it")
        return [parse_image_key(line) for line in lines]
    except (OSError, UnicodeDecodeError, Unfit) as error:
        why = error.strerror if isinstance(error, OSError) else str(error)
        raise YarrikError(Trouble("SIGN-KEY", f"{file} is no list of public keys: {why}", Place(file),
                                  remedy="name a file `.pub` of ssh-keygen -t ed25519")) from error  # fmt: skip


def sign(data: bytes, file: Path, passphrase: Callable[[], str]) -> tuple[bytes, ImageKey]:
    """Signs with the private key in a file of OpenSSH's; `passphrase` is asked when the key has one. Raises YarrikError."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import load_ssh_private_key

    try:
        text = regular_file(file, _LARGEST)
        try:
            key = load_ssh_private_key(text, None)
        except TypeError:  # the library's word for a key with a passphrase
            key = load_ssh_private_key(text, passphrase().encode())
        if not isinstance(key, Ed25519PrivateKey):
            raise Unfit("it is of another type than ed25519")
    except (OSError, ValueError) as error:
        why = error.strerror if isinstance(error, OSError) else str(error)
        raise YarrikError(Trouble("SIGN-KEY", f"{file} is no key to sign with: {why}", Place(file),
                                  remedy="make one: ssh-keygen -t ed25519 -f release-key")) from error  # fmt: skip
    public = ImageKey(key.public_key().public_bytes_raw())
    signature = _strings(_TYPE, key.sign(_signed(data)))
    blob = _MAGIC + _VERSION.to_bytes(4, "big") + _strings(public.blob, _NAMESPACE, b"", _HASH, signature)
    return armoured(blob), public


def armoured(blob: bytes) -> bytes:
    """A binary signature as the text that OpenSSH's programs read."""
    text64 = base64.b64encode(blob).decode()
    lines = [_BEGIN, *(text64[at : at + 70] for at in range(0, len(text64), 70)), _END]
    return ("\n".join(lines) + "\n").encode()


def signer_of(data: bytes, signature: bytes) -> ImageKey:
    """The key that signed these bytes. Raises Damaged when none did: the signature is of something else, or is none."""
    return signer_of_blob(data, signature_blob(signature))


def signature_blob(signature: bytes) -> bytes:
    """The binary form of a signature's text. Raises Damaged."""
    text = signature[:_LARGEST].decode("ascii", "replace").strip()
    if not text.startswith(_BEGIN) or not text.endswith(_END):
        raise Damaged("it is no signature of OpenSSH's form")
    try:
        return base64.b64decode("".join(text[len(_BEGIN) : -len(_END)].split()), validate=True)
    except (binascii.Error, ValueError) as error:
        raise Damaged("its text is damaged") from error


def signer_of_blob(data: bytes, blob: bytes) -> ImageKey:
    """The same as `signer_of` for a signature in its binary form."""
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    if blob[:6] != _MAGIC or blob[6:10] != _VERSION.to_bytes(4, "big"):
        raise Damaged("it is no signature of OpenSSH's form, version 1")
    public, namespace, _, hashed, inner = _split(blob[10:], 5)
    kind = public[4 : 4 + int.from_bytes(public[:4], "big")]
    raw = public[-32:]
    if kind != _TYPE or public != _strings(_TYPE, raw):
        raise Damaged(f"its key is of the type {kind.decode('ascii', 'replace')[:40]}: only ssh-ed25519 is known here")
    if namespace != _NAMESPACE:
        raise Damaged(f"it is for another use: {namespace.decode('ascii', 'replace')[:40]}")
    if hashed != _HASH:
        raise Damaged("it is over another digest than SHA-512")
    kind, value = _split(inner, 2)
    try:
        if kind != _TYPE:
            raise InvalidSignature
        Ed25519PublicKey.from_public_bytes(raw).verify(value, _signed(data))
    except (InvalidSignature, ValueError) as error:
        raise Damaged("it does not fit: it was made over something else") from error
    return ImageKey(raw)


def trusted_signer(signer: ImageKey | None, trusted: Iterable[ImageKey]) -> ImageKey | None:
    """The key among the trusted ones that signed, with its comment; None when none of them did."""
    return next((one for one in trusted if signer is not None and one.raw == signer.raw), None)


def _signed(data: bytes) -> bytes:
    return _MAGIC + _strings(_NAMESPACE, b"", _HASH, hashlib.sha512(data).digest())


def _strings(*words: bytes) -> bytes:
    """Words with four bytes of length before each (RFC 4251, section 5)."""
    return b"".join(len(word).to_bytes(4, "big") + word for word in words)


def _split(data: bytes, count: int) -> list[bytes]:
    """The reverse. Raises Damaged when there are more or fewer."""
    words, at = [], 0
    for _ in range(count):
        length = int.from_bytes(data[at : at + 4], "big")
        if at + 4 + length > len(data):
            raise Damaged("it is cut short")
        words.append(data[at + 4 : at + 4 + length])
        at += 4 + length
    if at != len(data):
        raise Damaged("something follows it")
    return words
