"""Signatures over results: Ed25519 (RFC 8032), keys as one line of text."""

from __future__ import annotations

import base64
import os
from pathlib import Path

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from yarrik.errors import Place, Trouble, Unfit, YarrikError

PREFIX = "ed25519:"
_SECRET = "yarrik signing key, keep it secret: "


class SigningKey:
    """A key that signs; `public` is the line by which others trust it."""

    def __init__(self, key: Ed25519PrivateKey) -> None:
        self._key = key
        self.public = PREFIX + base64.b64encode(key.public_key().public_bytes_raw()).decode()

    def sign(self, data: bytes) -> str:
        """The Ed25519 signature of the data (RFC 8032): 64 bytes in base64."""
        return base64.b64encode(self._key.sign(data)).decode()

    @staticmethod
    def read(file: Path, place: Place) -> SigningKey:
        """Reads a key's file. Raises YarrikError when it is none."""
        try:
            text = file.read_text(encoding="utf-8").strip()
            if not text.startswith(_SECRET):
                raise Unfit("it does not begin as a signing key")
            raw = base64.b64decode(text.removeprefix(_SECRET), validate=True)
            return SigningKey(Ed25519PrivateKey.from_private_bytes(raw))
        except (OSError, ValueError) as error:
            reason = error.strerror if isinstance(error, OSError) else str(error)
            raise YarrikError(
                Trouble("KEY-UNREADABLE", f"{file} is not a signing key: {reason}", place,
                        why="what goes to a shared cache is signed, so that others can tell whose it is",
                        remedy=f"make one: yarrik cache new-key {file}")
            ) from error  # fmt: skip

    @staticmethod
    def make(file: Path) -> SigningKey:
        """Makes a key and writes its file, for its owner's eyes only. Raises YarrikError when something is there already."""
        key = Ed25519PrivateKey.generate()
        try:
            file.parent.mkdir(parents=True, exist_ok=True)
            handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except OSError as error:
            raise YarrikError(
                Trouble("KEY-UNWRITABLE", f"cannot write {file}: {error.strerror}", Place(file),
                        why="a key file is never overwritten", remedy="name another file")
            ) from error  # fmt: skip
        with os.fdopen(handle, "w") as sink:
            sink.write(_SECRET + base64.b64encode(key.private_bytes_raw()).decode() + "\n")
        return SigningKey(key)


def holds(public: str, signature: str, data: bytes) -> bool:
    """Whether this public key has signed these bytes."""
    try:
        key = Ed25519PublicKey.from_public_bytes(base64.b64decode(public.removeprefix(PREFIX), validate=True))
        key.verify(base64.b64decode(signature, validate=True), data)
    except (InvalidSignature, ValueError):
        return False
    return True
