"""Caches that machines share: results are read through, and what is built here goes there in the background.

A shared cache holds plain files:

- `results/ab/ab…`: a result, signed. Who reads it names the keys that it trusts.
- `trees/ab/ab….zst`, `objects/ab/ab….zst`: what results name, compressed. Nobody signs these: their names are the digests of
  what they hold, which is checked before anything is used.
- `bundles/ab/ab….zst`: all small files of a tree in one, one after the other in the tree's order, so that a tree of thousands
  takes one request. They are checked one by one as well.

The result is written last, so a reader that finds it finds the rest. Nothing that is wrong there can do more harm than time."""

from __future__ import annotations

import contextlib
import hashlib
import queue
import tempfile
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import BinaryIO, TypeVar, cast

import msgspec
import zstandard

from yarrik.cache.places import Absent, Closed, Storage, Unreachable
from yarrik.cache.signing import SigningKey, holds
from yarrik.cache.store import SCRATCH, MissingObject, Result, Store
from yarrik.cache.traffic import Traffic
from yarrik.cache.tree import CHUNK, Entry, Tree, TreeDamaged, is_digest
from yarrik.errors import Place, Trouble

TRIES = 3
#: Seconds before the next try, times the number of the last one.
PAUSE = 0.5
#: After this many failures in a row the cache is not asked again in this build: a lost network must not stretch it.
GIVES_UP = 3
#: A file up to this size (bytes) travels in its tree's bundle.
SMALL = 1 << 18
#: A result or a tree that says it is larger than this (bytes) is not read on.
_LARGEST_LIST = 1 << 28
SENDERS = 2
_ZEROS = bytes(1 << 16)

T = TypeVar("T")


class _Kept(msgspec.Struct, frozen=True):
    """An output of a result: a tree's or a file's digest, and a file's size in bytes."""

    digest: str
    tree: bool
    size: int = 0


class _Signed(msgspec.Struct, frozen=True):
    """What is signed. The fingerprint is part of it, so that a result cannot be passed off as another step's."""

    fingerprint: str
    outputs: dict[str, _Kept]
    notes: tuple[str, ...]
    log: _Kept | None
    seconds: float
    codes: tuple[str, ...] = ()


class Refused(Exception):
    """What the cache has must not be used; the message says why."""


class SharedCache(msgspec.Struct):
    """One of them. `place` tells where the user named it."""

    name: str
    storage: Storage
    push: bool
    key: SigningKey | None
    trusted: frozenset[str]
    place: Place = msgspec.field(default_factory=Place)
    failures: int = 0
    off: str = ""

    def tried(self, work: Callable[[], T]) -> T:
        """Does `work`, a few times if need be. Raises Absent, Closed or Unreachable."""
        import tenacity

        def once() -> T:
            if self.off:
                raise Unreachable(self.off)
            return work()

        tries = tenacity.Retrying(
            retry=tenacity.retry_if_exception(lambda error: isinstance(error, Unreachable) and not self.off),
            stop=tenacity.stop_after_attempt(TRIES),
            wait=tenacity.wait_incrementing(PAUSE, PAUSE),
            reraise=True,
        )
        try:
            done = tries(once)
        except Unreachable as error:
            self.failures += 1
            if self.failures >= GIVES_UP:
                self.off = str(error)
            raise
        except Closed as error:
            self.off = str(error)
            raise
        except Absent:
            self.failures = 0
            raise
        self.failures = 0
        return done


class Shared:
    """All shared caches of the settings, in the order in which they are asked. `close` waits for what is still to be sent."""

    def __init__(self, caches: Iterable[SharedCache], store: Store) -> None:
        self.caches = tuple(caches)
        self.traffic = Traffic()
        self._store = store
        self._troubles: dict[tuple[str, str], Trouble] = {}
        self._lock = threading.Lock()
        self._tray: queue.Queue[tuple[SharedCache, str, Result] | None] = queue.Queue()
        self._senders: list[threading.Thread] = []
        self._there: set[tuple[str, str]] = set()
        #: Results that were refused, by cache and fingerprint: they are sent anew, with all that they name.
        self._to_replace: set[tuple[str, str]] = set()

    @property
    def troubles(self) -> tuple[Trouble, ...]:
        """What is to be told: what was refused, and who did not answer; each once."""
        return tuple(self._troubles.values())

    # Reading

    def bring(self, fingerprint: str) -> Result | None:
        """Takes a result with all that it names into the store, from the first cache that has it; None when none has."""
        for cache in self.caches:
            if cache.off:
                continue
            try:
                signed = self._read_result(cache, fingerprint)
                self._bring_content(cache, signed)
            except Absent:
                continue
            except Refused as error:
                with self._lock:
                    self._to_replace.add((cache.name, fingerprint))
                self._tell(cache, "refused", "CACHE-REFUSED",
                           f"the shared cache `{cache.name}` has a result that is refused: {error}",
                           "its origin cannot be verified, so the step was run here",
                           "a colleague's key goes into `trusted-keys`; what is damaged is replaced by the next machine that "
                           "may write there: `yarrik cache push --replace` does it at once")  # fmt: skip
                continue
            except (Unreachable, Closed, OSError) as error:
                self._gone(cache, error)
                continue
            log = signed.log.digest if signed.log is not None else ""
            result = Result(
                {name: kept.digest for name, kept in signed.outputs.items()}, signed.notes, log, signed.seconds, signed.codes
            )
            self._store.put_result(fingerprint, result)
            with self._lock:
                self.traffic.brought += 1
            return result
        return None

    def _read_result(self, cache: SharedCache, fingerprint: str) -> _Signed:
        data = cache.tried(lambda: _joined(cache.storage.read(_name("results", fingerprint)), _LARGEST_LIST))
        body, _, end = data.rpartition(b"\n")
        key, _, signature = end.decode("ascii", "replace").partition(" ")
        if not signature:
            raise Refused("it is not signed")
        if key not in cache.trusted:
            raise Refused(f"it is signed with the key {key[:60]}, which is not trusted here")
        if not holds(key, signature, _to_sign(body)):
            raise Refused("its signature does not fit")
        try:
            signed = msgspec.json.decode(body, type=_Signed)
        except msgspec.DecodeError as error:
            raise Refused(f"it does not read as a result: {error}") from error
        if signed.fingerprint != fingerprint:
            raise Refused("it is another step's result")
        named = [*signed.outputs.values(), *([signed.log] if signed.log is not None else [])]
        if not all(is_digest(kept.digest) and kept.size >= 0 for kept in named):
            raise Refused("it names what is not a digest")
        return signed

    def _bring_content(self, cache: SharedCache, signed: _Signed) -> None:
        try:
            for kept in [*signed.outputs.values(), *([signed.log] if signed.log is not None else [])]:
                if kept.tree:
                    self._bring_tree(cache, kept.digest)
                elif not self._store.has(kept.digest):
                    self._bring_object(cache, kept.digest, kept.size)
        except Absent as error:
            raise Refused(f"what it names is not there: {error}") from error
        except (TreeDamaged, zstandard.ZstdError) as error:
            raise Refused(f"what it names is damaged: {error}") from error

    def _bring_tree(self, cache: SharedCache, digest: str) -> None:
        try:
            tree = self._store.tree(digest)
        except MissingObject:
            data = cache.tried(
                lambda: _joined(
                    _unpacked(_capped(cache.storage.read(_name("trees", digest) + ".zst"), _LARGEST_LIST)), _LARGEST_LIST
                )
            )
            if hashlib.sha256(data).hexdigest() != digest:
                raise Refused("a tree that it names has other content") from None
            tree = Tree.decode(data)
        missing = {entry.content: entry for entry in tree.files if not self._store.has(entry.content)}
        if any(entry.size <= SMALL for entry in missing.values()):
            cache.tried(lambda: self._bring_bundle(cache, tree, digest))
        for content, entry in missing.items():
            if entry.size > SMALL:
                self._bring_object(cache, content, entry.size)
        self._store.put_tree(tree)

    def _bring_bundle(self, cache: SharedCache, tree: Tree, digest: str) -> None:
        wanted = list(_small(tree))
        most = _most_packed(sum(entry.size for entry in wanted))
        stream = _Pieces(_unpacked(_capped(self._counted(cache.storage.read(_name("bundles", digest) + ".zst")), most)))
        for entry in wanted:
            data = stream.read(entry.size)
            if hashlib.sha256(data).hexdigest() != entry.content:
                raise Refused("a file that it names has other content")
            self._store.put_bytes(data)

    def _bring_object(self, cache: SharedCache, digest: str, size: int) -> None:
        """Brings one file; what came of it before a break is kept for the next try."""
        part = self._store.root / "downloads" / f"{digest}.zst.part"
        self._store.make_folder(part.parent)
        with self._store.lock(digest):
            begun = part.exists()
            try:
                self._receive_object(cache, digest, size, part)
            except (Refused, zstandard.ZstdError):
                if not begun:
                    raise
                # Perhaps it was only the beginning that did not fit the rest.
                self._receive_object(cache, digest, size, part)

    def _receive_object(self, cache: SharedCache, digest: str, size: int, part: Path) -> None:
        def go_on() -> None:
            have = part.stat().st_size if part.exists() else 0
            most = max(0, _most_packed(size) - have)
            with part.open("ab") as sink:
                for chunk in _capped(self._counted(cache.storage.read(_name("objects", digest) + ".zst", have)), most):
                    sink.write(chunk)

        try:
            cache.tried(go_on)
            fresh = part.with_suffix(".new")
            with part.open("rb") as packed, fresh.open("wb") as sink:
                try:
                    found = _unpack_into(packed, sink, size)
                    if found != digest:
                        raise Refused("a file that it names has other content")
                    sink.close()
                    self._store.put_file(fresh, move=True)
                finally:
                    fresh.unlink(missing_ok=True)
        except (Refused, zstandard.ZstdError):
            part.unlink(missing_ok=True)
            raise
        part.unlink(missing_ok=True)

    def _counted(self, chunks: Iterator[bytes]) -> Iterator[bytes]:
        for chunk in chunks:
            with self._lock:
                self.traffic.brought_bytes += len(chunk)
            yield chunk

    # Sending

    def offer(self, fingerprint: str, result: Result) -> None:
        """Sends a result to all caches that take what is built here, in the background."""
        for cache in self.caches:
            if cache.push and not cache.off:
                if not self._senders:
                    self._senders = [threading.Thread(target=self._send_all, daemon=True) for _ in range(SENDERS)]
                    for sender in self._senders:
                        sender.start()
                self._tray.put((cache, fingerprint, result))

    def _send_all(self) -> None:
        while (one := self._tray.get()) is not None:
            cache, fingerprint, result = one
            try:
                self.send_or_tell(cache, fingerprint, result)
            finally:
                self._tray.task_done()
        self._tray.task_done()

    def send_or_tell(self, cache: SharedCache, fingerprint: str, result: Result, replace: bool = False) -> bool:
        """Sends a result; whether it was not there yet. What goes wrong is found in `troubles`. With `replace` it is sent
        whatever is there."""
        try:
            return self.send(cache, fingerprint, result, replace)
        except (Unreachable, Closed, OSError) as error:
            self._gone(cache, error)
        except MissingObject:
            pass  # it was pruned meanwhile
        return False

    def send(self, cache: SharedCache, fingerprint: str, result: Result, replace: bool = False) -> bool:
        """Sends a result with what it names, except what the cache has already (unless that is to be replaced); whether it was
        not."""
        assert cache.key is not None
        name = _name("results", fingerprint)
        replace = replace or (cache.name, fingerprint) in self._to_replace
        if not replace and cache.tried(lambda: cache.storage.has(name)):
            return False
        outputs = {label: self._send_output(cache, digest, replace) for label, digest in sorted(result.outputs.items())}
        log = self._send_output(cache, result.log, replace) if result.log and self._store.has(result.log) else None
        body = msgspec.json.encode(_Signed(fingerprint, outputs, tuple(result.notes), log, result.seconds, result.codes))
        self._write(cache, name, body + f"\n{cache.key.public} {cache.key.sign(_to_sign(body))}".encode())
        with self._lock:
            self.traffic.sent += 1
        return True

    def _send_output(self, cache: SharedCache, digest: str, replace: bool) -> _Kept:
        try:
            tree = self._store.tree(digest)
        except MissingObject:
            path = self._store.checked_path(digest)
            self._send_file(cache, _name("objects", digest) + ".zst", lambda: _packed_file(path), replace)
            return _Kept(digest, False, path.stat().st_size)
        self._send_file(cache, _name("bundles", digest) + ".zst",
                        lambda: (self._store.get_bytes(entry.content) for entry in _small(tree)), replace)  # fmt: skip
        for entry in tree.files:
            if entry.size > SMALL:
                path = self._store.checked_path(entry.content)
                self._send_file(cache, _name("objects", entry.content) + ".zst", lambda path=path: _packed_file(path), replace)  # type: ignore[misc]
        self._send_file(cache, _name("trees", digest) + ".zst", lambda: iter([tree.encoded]), replace)
        return _Kept(digest, True)

    def _send_file(self, cache: SharedCache, name: str, content: Callable[[], Iterator[bytes]], replace: bool) -> None:
        if (cache.name, name) in self._there or (not replace and cache.tried(lambda: cache.storage.has(name))):
            self._there.add((cache.name, name))
            return
        packer = zstandard.ZstdCompressor(level=3).compressobj()
        with tempfile.NamedTemporaryFile(dir=self._store.scratch, prefix=SCRATCH) as sink:
            for chunk in content():
                sink.write(packer.compress(chunk))
            sink.write(packer.flush())
            sink.flush()
            self._put(cache, name, Path(sink.name))
        self._there.add((cache.name, name))

    def _write(self, cache: SharedCache, name: str, data: bytes) -> None:
        with tempfile.NamedTemporaryFile(dir=self._store.scratch, prefix=SCRATCH) as sink:
            sink.write(data)
            sink.flush()
            self._put(cache, name, Path(sink.name))

    def _put(self, cache: SharedCache, name: str, file: Path) -> None:
        cache.tried(lambda: cache.storage.write(name, file))
        with self._lock:
            self.traffic.sent_bytes += file.stat().st_size

    @property
    def waiting(self) -> int:
        """How many results are still to be sent."""
        return self._tray.unfinished_tasks

    def close(self, tell: Callable[[int], None] = lambda left: None) -> None:
        """Waits until all is sent, or those who should take it are given up."""
        while self._senders and self.waiting:
            tell(self.waiting)
            deadline = time.monotonic() + 1.0
            while self.waiting and time.monotonic() < deadline:
                time.sleep(0.02)
        for _ in self._senders:
            self._tray.put(None)
        self._senders = []

    def stop(self) -> None:
        """Asks and sends nothing more."""
        for cache in self.caches:
            cache.off = "it was left alone, as asked"
        with contextlib.suppress(queue.Empty):
            while True:
                self._tray.get_nowait()
                self._tray.task_done()

    def _gone(self, cache: SharedCache, error: Exception) -> None:
        self._tell(cache, "gone", "CACHE-UNREACHABLE", f"the shared cache `{cache.name}` is unreachable: {error}",
                   "its results would have saved work, and those of this build did not get there",
                   "nothing has to be done; once it is back, `yarrik cache push` sends what is missing")  # fmt: skip

    def _tell(self, cache: SharedCache, kind: str, code: str, what: str, why: str, remedy: str) -> None:
        with self._lock:
            self._troubles.setdefault((cache.name, kind), Trouble(code, what, cache.place, why, remedy))


def _name(kind: str, digest: str) -> str:
    return f"{kind}/{digest[:2]}/{digest}"


def _to_sign(body: bytes) -> bytes:
    return b"yarrik result 1\n" + body


def _small(tree: Tree) -> Iterator[Entry]:
    """The files of a tree's bundle, each content once."""
    seen: set[str] = set()
    for entry in tree.files:
        if entry.size <= SMALL and entry.content not in seen:
            seen.add(entry.content)
            yield entry


def _joined(chunks: Iterator[bytes], most: int) -> bytes:
    found: list[bytes] = []
    size = 0
    for chunk in chunks:
        size += len(chunk)
        if size > most:
            raise Refused("it is too large")
        found.append(chunk)
    return b"".join(found)


def _most_packed(size: int) -> int:
    """The most that `count` bytes take when they are compressed: a little more than they are (RFC 8878, section 3.1)."""
    return size + (size >> 7) + 4096


def _capped(chunks: Iterator[bytes], most: int) -> Iterator[bytes]:
    """The same pieces, as long as they are no more bytes than there can be in all."""
    for chunk in chunks:
        most -= len(chunk)
        if most < 0:
            raise Refused("a file that it names is larger than it says")
        yield chunk


def _unpacked(chunks: Iterator[bytes]) -> Iterator[bytes]:
    """Decompresses piece by piece (RFC 8878), however much would come out."""
    source = cast(BinaryIO, _Readable(chunks))
    with zstandard.ZstdDecompressor(max_window_size=1 << 27).stream_reader(source) as reader:
        while piece := reader.read(CHUNK):
            yield piece


class _Readable:
    """Pieces as something to read from."""

    def __init__(self, chunks: Iterator[bytes]) -> None:
        self._chunks = chunks

    def read(self, size: int) -> bytes:
        # A piece may be longer than was asked for: the reader takes it as it comes.
        return next(self._chunks, b"")


class _Pieces:
    """Reads exact lengths out of a stream of pieces."""

    def __init__(self, chunks: Iterator[bytes]) -> None:
        self._chunks = chunks
        self._piece = b""
        self._at = 0

    def read(self, size: int) -> bytes:
        while len(self._piece) - self._at < size:
            chunk = next(self._chunks, None)
            if chunk is None:
                raise Refused("a file that it names is cut off")
            self._piece = self._piece[self._at :] + chunk
            self._at = 0
        self._at += size
        return self._piece[self._at - size : self._at]


def _packed_file(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        while chunk := file.read(CHUNK):
            yield chunk


def _unpack_into(packed: BinaryIO, sink: BinaryIO, size: int) -> str:
    """Decompresses a file of `size` bytes, with holes where zeros are; returns its digest."""
    sha = hashlib.sha256()
    at = 0
    for piece in _unpacked(iter(lambda: packed.read(CHUNK), b"")):
        sha.update(piece)
        at += len(piece)
        if at > size:
            raise Refused("a file that it names is larger than it says")
        for start in range(0, len(piece), len(_ZEROS)):
            part = piece[start : start + len(_ZEROS)]
            if part == _ZEROS:
                sink.seek(len(part), 1)
            else:
                sink.write(part)
    sink.truncate(at)
    return sha.hexdigest()
