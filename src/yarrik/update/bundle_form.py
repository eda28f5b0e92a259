"""The form of an update: what it is for, signed, then what each piece of the new slot is made of, then their contents.

All numbers are little-endian. A head of 32 bytes (`HEAD`); the description, a fact in each line (`Description`); its signature
in OpenSSH's form, as binary; the index, a record of 96 bytes for each piece (`PIECE`); then the stored bytes of the pieces, one
behind the other. The description has the digest of the index, and the index those of all contents, so what is used of a bundle
is covered by the signature before anything is made of it. Digests are BLAKE2b of 32 bytes (RFC 7693).
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from typing import BinaryIO

import msgspec

from yarrik.binary import Record, Value
from yarrik.errors import Damaged
from yarrik.manifest import ImageKey, signer_of_blob
from yarrik.patterns import lazy_pattern

MAGIC = b"yarrik update 1\n"
HEAD = Record(32, ("magic", 0, "16s"), ("description", 16, "I"), ("signature", 20, "I"), ("index", 24, "I"), ("zero", 28, "I"))
#: `old` and `reach` are a range of the running slot: what is copied, or the dictionary of stored bytes.
PIECE = Record(
    96, ("kind", 0, "I"), ("length", 4, "I"), ("old", 8, "Q"), ("reach", 16, "I"), ("stored", 20, "I"), ("zero", 24, "Q"),
    ("digest", 32, "32s"), ("of_stored", 64, "32s"),
)  # fmt: skip
ZERO, COPY, DATA = 0, 1, 2
#: No piece with content is longer, so that a board needs little memory; nor is a dictionary (bytes).
LONGEST = 256 << 10
_LONGEST_ZERO = 1 << 30
_MOST_DESCRIPTION, _MOST_SIGNATURE, _MOST_INDEX = 4096, 4096, 32 << 20
_VERSION = lazy_pattern(r"[0-9]{1,9}(\.[0-9]{1,9}){0,3}")
_TEXT = lazy_pattern(r"[A-Za-z0-9][A-Za-z0-9._+-]{0,62}")


def digest_of(data: bytes | memoryview) -> bytes:
    """BLAKE2b, 32 bytes."""
    return hashlib.blake2b(data, digest_size=32).digest()


def version_key(text: str) -> tuple[int, ...]:
    """A product's version in its order: up to four numbers, and those that are missing are 0. Raises Damaged."""
    if _VERSION.fullmatch(text) is None:
        raise Damaged(f"`{text[:40]}` is no version of a product: up to four numbers, like 1.4 or 2.0.11")
    return tuple(map(int, text.split("."))) + (0,) * (3 - text.count("."))


class Description(msgspec.Struct, frozen=True):
    """What an update is for, and what it gives: `size` bytes in `pieces`, whose `index` has this digest. `start` is the version
    that it starts from, empty where it brings all; `older` says that it may replace a newer version.
    With `whole_disk` it is a whole disk that an installer writes, and no slot."""

    product: str
    board: str
    version: str
    size: int
    pieces: int
    index: bytes
    start: str = ""
    older: bool = False
    whole_disk: bool = False

    def text(self) -> bytes:
        """The bytes that are signed."""
        lines = [
            "update 1", f"writes {'disk' if self.whole_disk else 'slot'}",
            f"product {self.product}", f"board {self.board}", f"version {self.version}",
            f"older {'yes' if self.older else 'no'}", f"size {self.size}", f"pieces {self.pieces}",
            f"index {self.index.hex()}", f"start {self.start or '-'}",
        ]  # fmt: skip
        return "".join(line + "\n" for line in lines).encode()


def read_description(text: bytes) -> Description:
    """The reverse. Raises Damaged for anything that `text` would not write."""
    lines = text.decode("ascii", "replace").split("\n")
    keys = ("update", "writes", "product", "board", "version", "older", "size", "pieces", "index", "start")
    values = dict(line.split(" ", 1) for line in lines[:-1] if " " in line)
    try:
        found = Description(
            values["product"], values["board"], values["version"], int(values["size"]), int(values["pieces"]),
            bytes.fromhex(values["index"]),
            "" if values["start"] == "-" else values["start"], values["older"] == "yes", values["writes"] == "disk",
        )  # fmt: skip
    except (KeyError, ValueError) as error:
        raise Damaged("its description is damaged") from error
    version_key(found.version)
    version_key(found.start or "0")
    names = (found.product, found.board)
    if tuple(values) != keys or found.text() != text or not all(map(_TEXT.fullmatch, names)):
        raise Damaged("its description is not of the form that is known here")
    if not 0 < found.size <= 1 << 44 or not 0 < found.pieces <= _MOST_INDEX // PIECE.size:
        raise Damaged("its description has sizes that cannot be")
    return found


class Piece(msgspec.Struct, frozen=True):
    """The next `length` bytes of the new slot. `at` is where they go, `body` where the stored bytes are behind the index."""

    kind: int
    at: int
    length: int
    old: int
    reach: int
    stored: int
    body: int
    digest: bytes
    of_stored: bytes


def encode_index(pieces: Iterable[Piece]) -> bytes:
    """The records of the pieces."""
    return b"".join(
        PIECE.pack(kind=one.kind, length=one.length, old=one.old, reach=one.reach, stored=one.stored, digest=one.digest,
                   of_stored=one.of_stored)
        for one in pieces
    )  # fmt: skip


def read_index(data: bytes, description: Description, old_size: int) -> list[Piece]:
    """The pieces; `old_size` is the size of the slot that is copied from. Raises Damaged for ranges that cannot be."""
    if digest_of(data) != description.index or len(data) != description.pieces * PIECE.size:
        raise Damaged("its index is not the one that was signed")
    pieces: list[Piece] = []
    at = body = 0
    for start in range(0, len(data), PIECE.size):
        row = PIECE.unpack(data[start : start + PIECE.size])
        kind, length, old, reach, stored = (_number(row[key]) for key in ("kind", "length", "old", "reach", "stored"))
        longest = _LONGEST_ZERO if kind == ZERO else LONGEST
        if kind not in (ZERO, COPY, DATA) or not 0 < length <= longest or row["zero"]:
            raise Damaged("its index has a piece that is not known here")
        if reach > LONGEST or old + reach > old_size or (kind == COPY) != (kind != DATA and reach == length and stored == 0):
            raise Damaged("its index has a piece out of the old slot's bounds")
        if (kind == DATA) != (stored > 0) or stored > LONGEST or (kind == ZERO and (reach or old)):
            raise Damaged("its index has a piece of a wrong size")
        pieces.append(Piece(kind, at, length, old, reach, stored, body, bytes(row["digest"]), bytes(row["of_stored"])))
        at, body = at + length, body + stored
    if at != description.size:
        raise Damaged("its pieces do not make up the new slot")
    return pieces


def _number(value: Value) -> int:
    assert isinstance(value, int)  # as the record says
    return value


class OpenedBundle(msgspec.Struct, frozen=True):
    """A bundle's description and signer; `index` and `body` are offsets in the file."""

    description: Description
    signer: ImageKey
    index: int
    body: int

    def index_of(self, file: BinaryIO) -> bytes:
        file.seek(self.index)
        return file.read(self.body - self.index)


def check_body(file: BinaryIO, opened: OpenedBundle, pieces: Iterable[Piece]) -> None:
    """Holds all stored bytes against their digests. Raises Damaged."""
    end = opened.body
    for one in pieces:
        if one.stored:
            file.seek(opened.body + one.body)
            data = file.read(one.stored)
            if len(data) < one.stored:
                raise Damaged("it is cut short")
            if digest_of(data) != one.of_stored:
                raise Damaged("a part of it is not what was signed")
            end += one.stored
    if file.seek(0, 2) != end:
        raise Damaged("something follows its end")


def open_bundle(file: BinaryIO) -> OpenedBundle:
    """Reads what is signed, and checks the signature. Raises Damaged."""
    file.seek(0)
    head = file.read(HEAD.size)
    if len(head) < HEAD.size or head[:16] != MAGIC:
        raise Damaged("it is no update of this form")
    row = HEAD.unpack(head)
    texts, signed, index = (_number(row[key]) for key in ("description", "signature", "index"))
    if not 0 < texts <= _MOST_DESCRIPTION or not 0 < signed <= _MOST_SIGNATURE or not 0 < index <= _MOST_INDEX or row["zero"]:
        raise Damaged("its head has sizes that cannot be")
    text, signature = file.read(texts), file.read(signed)
    if len(text) < texts or len(signature) < signed:
        raise Damaged("it is cut short")
    signer = signer_of_blob(text, signature)
    start = HEAD.size + texts + signed
    return OpenedBundle(read_description(text), signer, start, start + index)
