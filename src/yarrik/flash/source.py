"""An image that is about to be written: unpacked if it has to be, held against its manifest, and shared out into parts whose
digests everything later is compared with."""

from __future__ import annotations

import bisect
import contextlib
import hashlib
import os
import secrets
import stat
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import BinaryIO, Literal

import msgspec
import msgspec.structs

from yarrik.beneath import regular_file
from yarrik.boot import names_beside
from yarrik.disk import BESIDE, FoundPartition, MapDamaged, OpenedImage, opened_bytes, read_map
from yarrik.errors import Damaged, Place, Trouble, YarrikError, found_nearby, suggestion
from yarrik.manifest import SIGNATURE_FILE, ImageKey, signer_of, trusted_signer
from yarrik.moving import stored_ranges

#: Bytes that are read, compared and written at once.
PART = 4 << 20
#: Holes shorter than this (bytes) are written like data: a card's own blocks are larger.
_COARSE = 64 << 10
_SECTOR = 512
#: For this run alone: it reaches no output.
_KEY = secrets.token_bytes(32)
_LARGEST_LIST = 64 << 20

Held = Literal["manifest", "map", "nothing"]


class Part(msgspec.Struct, frozen=True):
    """A range that has to reach the card, with the digest of what belongs there (`digest_of`)."""

    at: int
    length: int
    digest: bytes


class Source(msgspec.Struct, frozen=True):
    """An image of `size` bytes, open as `file`, in `parts`. `held` is what it was compared with: checksums beside it, a map
    alone, or nothing; `digest` the SHA-256 that names it. What is between the parts has to be empty, or is of no matter to
    an image with a map. With `only`, that partition alone is written: no part reaches out of it."""

    path: Path
    file: BinaryIO
    size: int
    digest: str
    held: Held
    parts: tuple[Part, ...]
    must_be_empty: bool
    image: OpenedImage
    only: FoundPartition | None = None
    #: What this device gets otherwise: blocks by their place, and the values that they stand for.
    changes: Mapping[int, bytes] = msgspec.field(default_factory=dict)
    values: Mapping[str, str] = msgspec.field(default_factory=dict)
    #: The key that signed the manifest.
    signer: ImageKey | None = None

    @property
    def begin(self) -> int:
        """Where what is written begins, in bytes."""
        return self.only.start if self.only is not None else 0

    @property
    def end(self) -> int:
        """Where it ends."""
        return self.only.start + self.only.size if self.only is not None else self.size

    @property
    def name(self) -> str:
        """What an attempt is known by: the image, the partition, and the device's own values."""
        more = [str(self.only.number)] if self.only is not None else []
        changed = hashlib.sha256(b"".join(at.to_bytes(8, "big") + block for at, block in sorted(self.changes.items())))
        return " ".join([self.digest, *more, *([changed.hexdigest()] if self.changes else [])])

    @property
    def bytes(self) -> int:
        """Bytes that have to be written."""
        return sum(one.length for one in self.parts)

    def gaps(self) -> Iterator[tuple[int, int]]:
        """Start and length of what lies between the parts, from the beginning to the end."""
        reached = self.begin
        for one in self.parts:
            if one.at > reached:
                yield reached, one.at - reached
            reached = one.at + one.length
        if reached < self.end:
            yield reached, self.end - reached

    def part_of(self, name: str) -> Source:
        """One partition of it, by name or number. Raises YarrikError."""
        image = self.image.named(names_beside(self.path))
        found = [one for one in image.partitions if one.number and name in (one.name, str(one.number))]
        if not found:
            raise YarrikError(
                Trouble("PARTITION-UNKNOWN", f"{self.path.name} has no partition `{name}`", Place(self.path),
                        remedy=suggestion(name, [one.name for one in image.partitions if one.number]))
            )  # fmt: skip
        begin, end = found[0].start, found[0].start + found[0].size
        parts = tuple(one for one in self.parts if begin <= one.at < end)
        return msgspec.structs.replace(self, parts=parts, only=found[0])


@contextlib.contextmanager
def opened_source(
    path: Path, say: Callable[[int, int], None] = lambda done, total: None, trusted: Sequence[ImageKey] = ()
) -> Iterator[Source]:
    """An image file, plain, compressed or sparse, checked and ready to be written; `say` gets bytes done and in all. With
    `trusted` keys, one of them has to have signed its manifest. Raises YarrikError for one that cannot be read, is not the one
    of its manifest, or is not signed so."""
    try:
        if not stat.S_ISREG(path.stat().st_mode):
            raise YarrikError(
                Trouble("FLASH-IMAGE", f"{path} is no file", Place(path), why="what is written is read several times",
                        remedy="name an image file, or a product")
            )  # fmt: skip
        with opened_bytes(path) as (file, image):
            yield _checked(path, file, image, say, trusted)
    except OSError as error:
        if isinstance(error.filename, str) and Path(error.filename) != path:
            raise
        raise YarrikError(
            Trouble("FLASH-IMAGE", f"cannot read {path}: {error.strerror or error}", Place(path),
                    remedy=found_nearby(path, "check the name, and that you may read it"))
        ) from error  # fmt: skip
    except Damaged as error:
        raise YarrikError(
            Trouble("FLASH-IMAGE", f"{path.name} cannot be unpacked: {error}", Place(path), remedy="build or fetch it again"),
            "work",
        ) from error  # fmt: skip


def _checked(
    path: Path, file: BinaryIO, image: OpenedImage, say: Callable[[int, int], None], trusted: Sequence[ImageKey]
) -> Source:
    """Reads all that has to be written, once: its digests, and those that the lists beside it give."""
    size = file.seek(0, 2)
    if not size:
        raise _wrong(path, "it is empty")
    sums, listed_bytes = _sums(path.parent / "SHA256SUMS")
    signer = _signer(path, listed_bytes, trusted)
    name = _plain_name(path)
    known_map = path.with_name(name + BESIDE["map"])
    mapped = None
    if known_map.exists():
        data = regular_file(known_map)
        wanted = sums.get(known_map.name)
        if wanted is not None and hashlib.sha256(data).hexdigest() != wanted:
            raise _wrong(known_map, "its SHA-256 is not the one in SHA256SUMS")
        try:
            mapped = read_map(data, size)
        except MapDamaged as error:
            raise _wrong(known_map, str(error)) from error
        if mapped.size != size:
            raise _wrong(path, f"it has {size} bytes, and its map is of {mapped.size}")
    # A part that reached over the end of a partition would bring along what is not asked for.
    cuts = sorted({one for part in image.partitions for one in (part.start, part.start + part.size)})
    listed = sums.get(path.name)
    if image.wrapped and listed is not None:
        with path.open("rb") as packed:
            if hashlib.file_digest(packed, "sha256").hexdigest() != listed:
                raise _wrong(path, "its SHA-256 is not the one in SHA256SUMS")
    if mapped is not None:
        ranges = [(one.start, one.end) for one in mapped.ranges]
        parts, digests = _read(file, ranges, say, cuts)
        for one, digest in zip(mapped.ranges, digests, strict=True):
            if digest != one.sha256:
                raise _wrong(path, f"what begins at {one.start} has another SHA-256 than its map gives")
        held: Held = "manifest" if known_map.name in sums else "map"
        return _signed_so(Source(path, file, size, mapped.sha256, held, tuple(parts), False, image, signer=signer), trusted)
    parts, digest = _read_whole(file, size, say, cuts)
    wanted = sums.get(name) if image.wrapped else listed
    if wanted is not None and digest != wanted:
        raise _wrong(path, "its SHA-256 is not the one in SHA256SUMS")
    held = "manifest" if wanted is not None or (image.wrapped and listed is not None) else "nothing"
    return _signed_so(Source(path, file, size, digest, held, tuple(parts), True, image, signer=signer), trusted)


def _signer(path: Path, listed: bytes, trusted: Sequence[ImageKey]) -> ImageKey | None:
    """The key that signed the manifest; None without a signature. Raises YarrikError for one that does not fit."""
    file = path.with_name(SIGNATURE_FILE)
    try:
        signature = regular_file(file)
    except FileNotFoundError:
        return None
    try:
        found = signer_of(listed, signature)
    except Damaged as error:
        raise YarrikError(Trouble("SIGN-WRONG", f"the signature {file} does not hold: {error}", Place(file),
                                  why="the image was changed after it was signed, or the signature was",
                                  remedy="fetch both anew from where they were made"), "work") from error  # fmt: skip
    return trusted_signer(found, trusted) or found


def _signed_so(source: Source, trusted: Sequence[ImageKey]) -> Source:
    """The source, when one of the trusted keys has signed the manifest that it was held against. Raises YarrikError."""
    if not trusted or (source.held == "manifest" and trusted_signer(source.signer, trusted) is not None):
        return source
    if source.signer is not None and source.held == "manifest":
        what = f"{source.path.name} is signed by a key that is not trusted: {source.signer}"
    else:
        what = f"{source.path.name} is not signed"
    raise YarrikError(Trouble("SIGN-MISSING", what, Place(source.path),
                              why=f"trusted are {', '.join(map(str, trusted))}",
                              remedy="have it signed (yarrik sign), or write it all the same: --unsigned"), "work")  # fmt: skip


def _read(
    file: BinaryIO, ranges: Sequence[tuple[int, int]], say: Callable[[int, int], None], cuts: Sequence[int]
) -> tuple[list[Part], list[str]]:
    """The parts of ranges, and the SHA-256 of each range; several ranges are read at the same time."""
    total, done, lock = sum(end - start for start, end in ranges), 0, threading.Lock()

    def one(bounds: tuple[int, int]) -> tuple[list[Part], str]:
        nonlocal done
        parts, sha = [], hashlib.sha256()
        for part, data in _parts(file, *bounds, cuts):
            sha.update(data)
            parts.append(part)
            with lock:
                done += part.length
                say(done, total)
        return parts, sha.hexdigest()

    with ThreadPoolExecutor(min(4, os.cpu_count() or 1)) as pool:
        found = list(pool.map(one, ranges))
    return [part for parts, _ in found for part in parts], [digest for _, digest in found]


def _read_whole(file: BinaryIO, size: int, say: Callable[[int, int], None], cuts: Sequence[int]) -> tuple[list[Part], str]:
    """The parts of a file that hold more than zeros, and the SHA-256 of all of it."""
    ranges = _data_ranges(file, size)
    total, done, reached = sum(end - start for start, end in ranges), 0, 0
    parts, sha = [], hashlib.sha256()
    for start, end in ranges:
        _zeros(sha, start - reached)
        for part, data in _parts(file, start, end, cuts):
            sha.update(data)
            if data.count(0) != len(data):
                parts.append(part)
            done += part.length
            say(done, total)
        reached = end
    _zeros(sha, size - reached)
    return parts, sha.hexdigest()


def _parts(file: BinaryIO, start: int, end: int, cuts: Sequence[int]) -> Iterator[tuple[Part, bytes]]:
    at = start
    while at < end:
        cut = bisect.bisect_right(cuts, at)
        length = min(PART, end - at, cuts[cut] - at if cut < len(cuts) else PART)
        data = os.pread(file.fileno(), length, at)
        if len(data) != length:
            raise Damaged("it became shorter while it was read")
        yield Part(at, length, digest_of(data)), data
        at += length


def _zeros(digest: hashlib._Hash, count: int) -> None:
    zeros = bytes(PART)
    while count > 0:
        digest.update(zeros[: min(count, PART)])
        count -= PART


def _data_ranges(file: BinaryIO, size: int) -> list[tuple[int, int]]:
    """The parts of a file that are stored, widened, and joined where little lies between them."""
    found: list[tuple[int, int]] = []
    for at, length in stored_ranges(file.fileno(), 0, size):
        start, end = at // _COARSE * _COARSE, min(size, -(-(at + length) // _COARSE) * _COARSE)
        if found and start <= found[-1][1]:
            found[-1] = (found[-1][0], max(end, found[-1][1]))
        else:
            found.append((start, end))
    return found


def digest_of(data: bytes | memoryview) -> bytes:
    """The digest of a part, within this run of the program: Poly1305 (RFC 8439, section 2.5) with a key that nobody knows. It
    is several times as fast as a hash; nobody can make other bytes with the same digest."""
    from cryptography.hazmat.primitives.poly1305 import Poly1305

    return Poly1305.generate_tag(_KEY, data)


class Reader:
    """Reads parts of a source into a caller's memory, and finds out when it has changed since it was checked."""

    def __init__(self, source: Source) -> None:
        self._source = source

    def fill(self, part: Part, room: memoryview) -> None:
        """Raises YarrikError when the image is another one now."""
        try:
            done = os.preadv(self._source.file.fileno(), [room], part.at)
        except OSError as error:
            raise _wrong(self._source.path, f"it cannot be read at {part.at}: {error.strerror}") from error
        for at, block in self._source.changes.items():
            lay_over(room, part.at, at, block)
        if done != part.length or digest_of(room) != part.digest:
            raise _wrong(self._source.path, f"what begins at {part.at} changed since the image was checked")


def lay_over(room: memoryview, begin: int, at: int, block: bytes) -> None:
    """Puts those bytes of a block at `at` into memory that begins at `begin` which lie in it."""
    first, last = max(at, begin), min(at + len(block), begin + len(room))
    if first < last:
        room[first - begin : last - begin] = block[first - at : last - at]


def _sums(file: Path) -> tuple[dict[str, str], bytes]:
    """SHA-256 by name, as `SHA256SUMS` beside an image has them, and its bytes; none without one."""
    try:
        data = regular_file(file)
    except OSError:
        return {}, b""
    rows = [line.split("  ", 1) for line in data.decode("utf-8", "replace")[:_LARGEST_LIST].splitlines()]
    return {row[1].strip(): row[0] for row in rows if len(row) == 2 and len(row[0]) == 64}, data


def _plain_name(path: Path) -> str:
    """The name of the image itself, of one that may be packed."""
    ending = next((one for kind, one in BESIDE.items() if kind != "map" and path.name.endswith(one)), "")
    return path.name.removesuffix(ending)


def _wrong(path: Path, what: str) -> YarrikError:
    return YarrikError(
        Trouble("FLASH-IMAGE", f"{path.name} is not as it was built: {what}", Place(path),
                why="what does not fit its manifest is not written to a board", remedy="build it again, or copy it again"),
        "work",
    )  # fmt: skip


def block_of(image: OpenedImage) -> int:
    """The blocks that an image's partition table counts in, in bytes; 0 without a table."""
    return _SECTOR if image.table != "none" else 0
