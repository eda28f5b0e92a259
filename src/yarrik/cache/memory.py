"""What a workspace remembers between runs: digests of files by their status, and each step's last run.

Losing the file costs time and reasons, never correctness. What a build would rely on carries a check sum of its own: SQLite has
none, and a row that was damaged on the disk has to count as one that is not there.
"""

from __future__ import annotations

import errno
import functools
import os
import sqlite3
import stat
import sys
import threading
import zlib
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from yarrik.cache.tree import file_digest
from yarrik.locks import held

#: Raised when the tables change: a memory of another form is begun anew.
_FORM = 4
_SCHEMA = """
create table if not exists digests (
  path text primary key, status text not null, digest text not null, seal integer not null
) without rowid;
create table if not exists runs (
  product text not null, step text not null, fingerprint text not null, parts blob not null, outputs blob not null,
  seal integer not null, primary key (product, step)
) without rowid;
create table if not exists durations (
  product text not null, step text not null, seconds real not null, bytes integer not null,
  "left" integer not null, seal integer not null, primary key (product, step)
) without rowid;
create table if not exists documents (
  path text primary key, mark text not null, content blob not null, seal integer not null
) without rowid;
create table if not exists facts (name text primary key, value blob not null, seal integer not null) without rowid;
"""
_FRESH_NS = 2_000_000_000
#: What SQLite says of a file that is not a database, or has not the tables that it says (the low byte of its result codes).
_RUINED = (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_ERROR)
#: What a read gives of a row.
_Row = TypeVar("_Row")
#: What a read of a damaged file raises. SQLite's message can hold a name out of it, which is no text then; a length can lie.
_ERRORS = (sqlite3.DatabaseError, msgspec.ValidationError, UnicodeDecodeError, MemoryError)
#: What it says when a file cannot be written, now or at all.
_NO_ROOM = (sqlite3.SQLITE_FULL, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_BUSY)


class LastRun(msgspec.Struct, frozen=True):
    """A step's last result: its fingerprint, its outputs, and the parts that went into it (name to digest or value).

    The parts are decoded when somebody asks why a step runs, which a build that has nothing to do never does."""

    fingerprint: str
    encoded_parts: bytes
    outputs: dict[str, str]

    @staticmethod
    def of(fingerprint: str, parts: dict[str, str], outputs: dict[str, str]) -> LastRun:
        """A run of a step, with its parts in a form that is stored."""
        return LastRun(fingerprint, msgspec.json.encode(parts), outputs)

    @property
    def parts(self) -> dict[str, str]:
        """What its fingerprint was made of, by name; empty when that cannot be read."""
        try:
            return msgspec.json.decode(self.encoded_parts, type=dict[str, str])
        except msgspec.DecodeError:  # damaged: then nobody knows what they were
            return {}


class Cost(msgspec.Struct, frozen=True):
    """What a step took when it ran last: seconds, the bytes of its folder at the end, and those that it left in the cache."""

    seconds: float
    bytes: int
    left: int = 0


class Memory:
    """The workspace's memory, one SQLite file; safe for several builds at a time."""

    def __init__(self, file: Path) -> None:
        """Raises OSError when it can be neither opened nor begun anew."""
        file.parent.mkdir(parents=True, exist_ok=True)
        self._file = file
        self._lock = threading.RLock()
        self._learned: dict[str, tuple[str, str]] = {}
        # One at a time: changing the journal's mode does not wait for others as SQLite's other locks do, and who begins
        # anew must not take the file from under a build that has just made it.
        with held(f"{file}.lock"):
            for name in self._files:
                _take_away_what_is_no_file(name)
            try:
                try:
                    self._database = _opened(file)
                except _ERRORS as error:
                    if not _ruined(error):
                        raise
                    self._begin_anew()
            except sqlite3.OperationalError as error:
                raise OSError(errno.EIO, str(error), file) from error
        rows = self._rows("select path, status, digest, seal from digests", tuple[str, str, str, int])
        self._digests: dict[str, tuple[str, str]] = {
            path: (status, digest) for path, status, digest, seal in rows if seal == _seal(path, status, digest)
        }

    @property
    def _files(self) -> list[Path]:
        """Itself, and what SQLite puts beside it."""
        return [self._file, *(self._file.with_name(self._file.name + suffix) for suffix in ("-wal", "-shm"))]

    def _begin_anew(self) -> None:
        """Not a memory any more, whatever happened to it. Losing it costs time only."""
        for name in self._files:
            name.unlink(missing_ok=True)
        self._database = _opened(self._file)

    def _guarded(self, work: Callable[[sqlite3.Connection], Any]) -> Any:
        """Does `work`; when the file turns out to be ruined, once more with an empty one."""
        with self._lock:
            try:
                return work(self._database)
            except _ERRORS as error:
                if not _ruined(error):
                    raise
                self._database.close()
                with held(f"{self._file}.lock"):
                    self._begin_anew()
                return work(self._database)

    def _rows(self, query: str, row: Callable[..., _Row], values: Sequence[object] = ()) -> list[_Row]:
        """What a query finds. SQLite gives a column whatever type the row says, whatever the table says: a row of another type
        than `row` is damaged, and more may be."""
        decode = functools.partial(msgspec.convert, type=list[row])  # type: ignore[valid-type]
        return self._guarded(lambda database: decode(database.execute(query, values).fetchall()))  # type: ignore[no-any-return]

    def _rows_of(self, query: str, row: Callable[..., _Row], product: str, steps: Sequence[str] | None) -> list[_Row]:
        """The rows of a product, those of some steps by themselves."""
        query += " where product = ?"
        if steps is None:
            return self._rows(query, row, (product,))
        return [one for step in steps for one in self._rows(f"{query} and step = ?", row, (product, step))]

    def _change(self, command: str, *rows: Sequence[object]) -> None:
        """Carries a command out, for each row if there are any; all of them or none."""

        def work(database: sqlite3.Connection) -> None:
            if len(rows) == 1:
                database.execute(command, rows[0])
                return
            database.execute("begin immediate")
            try:
                database.executemany(command, rows)
            except BaseException:
                database.execute("rollback")
                raise
            database.execute("commit")

        # What is remembered is not part of the work: a full or read-only disk costs time at the next build, no more.
        try:
            self._guarded(work)
        except sqlite3.OperationalError as error:
            if error.sqlite_errorcode & 0xFF not in _NO_ROOM:
                raise

    def digest_of(self, path: Path, status: os.stat_result | None = None) -> str:
        """SHA-256 of a file, read again only when its size, times or inode have changed."""
        sys.audit("yarrik.read", path)
        status = status or path.stat()
        name = os.fspath(path).encode("utf-8", "surrogateescape").hex() if _odd(path) else os.fspath(path)
        mark = f"{status.st_size} {status.st_mtime_ns} {status.st_ctime_ns} {status.st_ino}"
        known = self._digests.get(name)
        if known is not None and known[0] == mark:
            return known[1]
        digest = file_digest(path)
        if _settled(status.st_mtime_ns):
            self._digests[name] = self._learned[name] = (mark, digest)
        return digest

    def save_digests(self) -> None:
        """Writes digests of files that were learned since the memory was opened."""
        with self._lock:
            rows = [(path, status, digest, _seal(path, status, digest)) for path, (status, digest) in self._learned.items()]
            if rows:
                self._change("insert or replace into digests values (?, ?, ?, ?)", *rows)
            self._learned.clear()

    def last_runs(self, product: str, steps: Sequence[str] | None = None) -> dict[str, LastRun]:
        """The last run of each of a product's steps, or of these, by name."""
        query = "select step, fingerprint, parts, outputs, seal from runs"
        rows = self._rows_of(query, tuple[str, str, bytes, bytes, int], product, steps)
        decode = msgspec.json.Decoder(dict[str, str]).decode
        return {
            step: LastRun(fingerprint, parts, decode(outputs))
            for step, fingerprint, parts, outputs, seal in rows
            if seal == _seal(step, fingerprint, parts, outputs)
        }

    def remember(self, product: str, step: str, run: LastRun) -> None:
        """Keeps a step's last run."""
        facts = (step, run.fingerprint, run.encoded_parts, msgspec.json.encode(run.outputs))
        row = (product, *facts, _seal(*facts))
        self._change("insert or replace into runs values (?, ?, ?, ?, ?, ?)", row)

    def kept_outputs(self) -> dict[str, list[str]]:
        """The digests that the last runs of each product left."""
        products = [product for (product,) in self._rows("select distinct product from runs order by product", tuple[str])]
        return {
            product: [digest for run in self.last_runs(product).values() for digest in run.outputs.values()]
            for product in products
        }

    def costs(self, product: str, steps: Sequence[str] | None = None) -> dict[str, Cost]:
        """What each step of a product took when it ran last, or of these."""
        query = 'select step, seconds, bytes, "left", seal from durations'
        rows = self._rows_of(query, tuple[str, float, int, int, int], product, steps)
        return {
            step: Cost(seconds, taken, left)
            for step, seconds, taken, left, seal in rows
            if seal == _seal(step, f"{seconds!r} {taken} {left}")
        }

    def took(self, product: str, step: str, cost: Cost) -> None:
        """Keeps what a step took when it ran last."""
        seal = _seal(step, f"{float(cost.seconds)!r} {cost.bytes} {cost.left}")
        row = (product, step, cost.seconds, cost.bytes, cost.left, seal)
        self._change("insert or replace into durations values (?, ?, ?, ?, ?, ?)", row)

    def fact(self, name: str) -> bytes | None:
        """A remembered finding (what a compiler said of itself), kept until `learn` replaces it."""
        rows = self._rows("select value, seal from facts where name = ?", tuple[bytes, int], (name,))
        return rows[0][0] if rows and rows[0][1] == _seal(name, rows[0][0]) else None

    def learn(self, name: str, value: bytes, most: int = 0) -> None:
        """Keeps a value under a name of its own. With `most`, others of its kind (the name's first word) go when there are more
        of them than that: they are found out again when they are needed."""
        kind = f"{name.split(' ')[0]} "
        of_kind = " from facts where substr(name, 1, ?) = ?"
        if most and self._rows(f"select count(*){of_kind}", tuple[int], (len(kind), kind))[0][0] >= most:
            self._change(f"delete{of_kind}", (len(kind), kind))
        self._change("insert or replace into facts values (?, ?, ?)", (name, value, _seal(name, value)))

    def documents(self, rules: str) -> dict[str, tuple[str, bytes]]:
        """Files that were found good under these `rules`: by path, the mark of their status and what they say, encoded."""
        if self.fact("rules of documents") != rules.encode():
            self._change("delete from documents", ())
            self.learn("rules of documents", rules.encode())
            return {}
        rows = self._rows("select path, mark, content, seal from documents", tuple[str, str, bytes, int])
        return {path: (mark, content) for path, mark, content, seal in rows if seal == _seal(path, mark, content)}

    def keep_documents(self, documents: Mapping[str, tuple[str, bytes]]) -> None:
        """Remembers files, but for those that were written so shortly ago that they may change again unseen."""
        rows = [
            (path, mark, content, _seal(path, mark, content))
            for path, (mark, content) in documents.items()
            if _settled(int(mark.split()[1])) and not _odd(Path(path))
        ]
        if rows:
            self._change("insert or replace into documents values (?, ?, ?, ?)", *rows)

    def close(self) -> None:
        """Writes what is left to write, and closes the database."""
        self.save_digests()
        self._database.close()


def _settled(mtime_ns: int) -> bool:
    """Whether a file that changes again gets another time: one that was written within the clock's resolution may not.

    Where the clock was set back, a file's time lies ahead of it: such a file is not trusted until the clock has passed them."""
    import time

    return time.time_ns() - mtime_ns > _FRESH_NS


def _seal(*parts: str | bytes) -> int:
    """A check sum: rows that were damaged on the disk must not be believed."""
    return zlib.crc32(b"\0".join(part if isinstance(part, bytes) else part.encode("utf-8", "replace") for part in parts))


def _ruined(error: Exception) -> bool:
    if not isinstance(error, sqlite3.DatabaseError):
        return True
    # The module itself says, without a code, that a text is no UTF-8: what was written was.
    undecoded = isinstance(error, sqlite3.OperationalError) and not hasattr(error, "sqlite_errorcode")
    return undecoded or getattr(error, "sqlite_errorcode", 0) & 0xFF in _RUINED


def _take_away_what_is_no_file(file: Path) -> None:
    """SQLite follows links, and would write to what is not ours; it waits for pipes. Raises OSError for a folder."""
    try:
        mode = file.lstat().st_mode
    except FileNotFoundError:
        return
    if stat.S_ISDIR(mode):
        raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), file)
    if not stat.S_ISREG(mode):
        file.unlink()


def _opened(file: Path) -> sqlite3.Connection:
    database = sqlite3.connect(file, timeout=60, isolation_level=None, check_same_thread=False)
    database.execute("pragma journal_mode=wal")
    database.execute("pragma synchronous=off")
    form = database.execute("pragma user_version").fetchone()[0]
    if form not in (0, _FORM) or (form == 0 and database.execute("select 1 from sqlite_master").fetchone()):
        database.close()
        file.unlink()
        return _opened(file)
    database.executescript(_SCHEMA)
    database.execute(f"pragma user_version = {_FORM}")
    return database


def _odd(path: Path) -> bool:
    """Whether the path holds bytes that are no UTF-8, which SQLite's text would refuse."""
    return any("\udc80" <= character <= "\udcff" for character in os.fspath(path))
