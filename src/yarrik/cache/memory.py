"""What a workspace remembers between runs: digests of files by their status, and each step's last run.

Nothing here decides a result: losing the file costs time and reasons, never correctness.
"""

from __future__ import annotations

import os
import sqlite3
import threading
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import msgspec
from filelock import FileLock

from yarrik.cache.tree import file_digest

_SCHEMA = """
create table if not exists digests (path text primary key, status text not null, digest text not null) without rowid;
create table if not exists runs (
  product text not null, step text not null, fingerprint text not null, parts blob not null, outputs blob not null,
  primary key (product, step)
) without rowid;
create table if not exists durations (
  product text not null, step text not null, seconds real not null, primary key (product, step)
) without rowid;
create table if not exists documents (path text primary key, mark text not null, content blob not null) without rowid;
create table if not exists facts (name text primary key, value blob not null) without rowid;
"""
_FRESH_NS = 2_000_000_000
#: What SQLite says of a file that is no database (the low byte of its result codes).
_RUINED = (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB)


@dataclass(frozen=True)
class LastRun:
    """A step's last result: its fingerprint, its outputs, and the parts that went into it (name to digest or value).

    The parts are decoded when somebody asks why a step runs, which a build that has nothing to do never does."""

    fingerprint: str
    encoded_parts: bytes
    outputs: dict[str, str]

    @staticmethod
    def of(fingerprint: str, parts: dict[str, str], outputs: dict[str, str]) -> LastRun:
        return LastRun(fingerprint, msgspec.json.encode(parts), outputs)

    @property
    def parts(self) -> dict[str, str]:
        return msgspec.json.decode(self.encoded_parts, type=dict[str, str])


class Memory:
    """The workspace's memory, one SQLite file; safe for several builds at a time."""

    def __init__(self, file: Path) -> None:
        file.parent.mkdir(parents=True, exist_ok=True)
        self._lock = threading.Lock()
        # One at a time: changing the journal's mode does not wait for others as SQLite's other locks do, and who begins
        # anew must not take the file from under a build that has just made it.
        with FileLock(f"{file}.lock"):
            try:
                self._database = _opened(file)
            except sqlite3.DatabaseError as error:
                if error.sqlite_errorcode & 0xFF not in _RUINED:
                    raise
                # Not a memory any more, whatever happened to it. Losing it costs time only, so begin anew.
                for name in (file.name, f"{file.name}-wal", f"{file.name}-shm"):
                    file.with_name(name).unlink(missing_ok=True)
                self._database = _opened(file)
        rows = self._database.execute("select path, status, digest from digests")
        self._digests: dict[str, tuple[str, str]] = {path: (status, digest) for path, status, digest in rows}
        self._learned: dict[str, tuple[str, str]] = {}

    def digest_of(self, path: Path, status: os.stat_result | None = None) -> str:
        """SHA-256 of a file, read again only when its size, times or inode have changed."""
        status = status or path.stat()
        name = os.fspath(path).encode("utf-8", "surrogateescape").hex() if _odd(path) else os.fspath(path)
        mark = f"{status.st_size} {status.st_mtime_ns} {status.st_ctime_ns} {status.st_ino}"
        known = self._digests.get(name)
        if known is not None and known[0] == mark:
            return known[1]
        digest = file_digest(path)
        # A file written within the clock's resolution may change again without a new time: do not trust it yet.
        import time

        if time.time_ns() - status.st_mtime_ns > _FRESH_NS:
            self._digests[name] = self._learned[name] = (mark, digest)
        return digest

    def save_digests(self) -> None:
        with self._lock:
            if self._learned:
                rows = [(path, status, digest) for path, (status, digest) in self._learned.items()]
                self._database.execute("begin immediate")
                self._database.executemany("insert or replace into digests values (?, ?, ?)", rows)
                self._database.execute("commit")
                self._learned.clear()

    def last_runs(self, product: str) -> dict[str, LastRun]:
        with self._lock:
            rows = self._database.execute(
                "select step, fingerprint, parts, outputs from runs where product = ?", (product,)
            ).fetchall()
        decode = msgspec.json.Decoder(dict[str, str]).decode
        return {step: LastRun(fingerprint, parts, decode(outputs)) for step, fingerprint, parts, outputs in rows}

    def remember(self, product: str, step: str, run: LastRun) -> None:
        with self._lock:
            self._database.execute(
                "insert or replace into runs values (?, ?, ?, ?, ?)",
                (product, step, run.fingerprint, run.encoded_parts, msgspec.json.encode(run.outputs)),
            )

    def kept_outputs(self) -> dict[str, list[str]]:
        """The digests that the last runs of each product left."""
        with self._lock:
            rows = self._database.execute("select product, outputs from runs").fetchall()
        found: dict[str, list[str]] = {}
        for product, outputs in rows:
            found.setdefault(product, []).extend(msgspec.json.decode(outputs, type=dict[str, str]).values())
        return found

    def durations(self, product: str) -> dict[str, float]:
        """The seconds that each step of a product took when it ran last."""
        with self._lock:
            return dict(self._database.execute("select step, seconds from durations where product = ?", (product,)).fetchall())

    def took(self, product: str, step: str, seconds: float) -> None:
        with self._lock:
            self._database.execute("insert or replace into durations values (?, ?, ?)", (product, step, seconds))

    def fact(self, name: str) -> bytes | None:
        """A remembered finding (what a compiler said of itself), kept until `learn` replaces it."""
        with self._lock:
            row = self._database.execute("select value from facts where name = ?", (name,)).fetchone()
        return None if row is None else bytes(row[0])

    def learn(self, name: str, value: bytes) -> None:
        with self._lock:
            self._database.execute("insert or replace into facts values (?, ?)", (name, value))

    def documents(self, rules: str) -> dict[str, tuple[str, bytes]]:
        """Files that were found good under these `rules`: by path, the mark of their status and what they say, encoded."""
        if self.fact("rules of documents") != rules.encode():
            with self._lock:
                self._database.execute("delete from documents")
            self.learn("rules of documents", rules.encode())
            return {}
        with self._lock:
            rows = self._database.execute("select path, mark, content from documents").fetchall()
        return {path: (mark, content) for path, mark, content in rows}

    def keep_documents(self, documents: Mapping[str, tuple[str, bytes]]) -> None:
        """Remembers files, but for those that were written so shortly ago that they may change again unseen."""
        import time

        now = time.time_ns()
        rows = [
            (path, mark, content)
            for path, (mark, content) in documents.items()
            if now - int(mark.split()[1]) > _FRESH_NS and not _odd(Path(path))
        ]
        with self._lock:
            self._database.execute("begin immediate")
            self._database.executemany("insert or replace into documents values (?, ?, ?)", rows)
            self._database.execute("commit")

    def close(self) -> None:
        self.save_digests()
        self._database.close()


def _opened(file: Path) -> sqlite3.Connection:
    database = sqlite3.connect(file, timeout=60, isolation_level=None, check_same_thread=False)
    database.execute("pragma journal_mode=wal")
    database.execute("pragma synchronous=off")
    database.executescript(_SCHEMA)
    return database


def _odd(path: Path) -> bool:
    """Whether the path holds bytes that are no UTF-8, which SQLite's text would refuse."""
    return any("\udc80" <= character <= "\udcff" for character in os.fspath(path))
