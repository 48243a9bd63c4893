"""Databases of SQLite in files of this machine: opened, and asked what tells whether they were written.

A process loses all its locks on a file when it closes any descriptor of it (POSIX.1-2017, fcntl, "F_SETLK"; SQLite,
"How To Corrupt An SQLite Database File", 2.2). A file that somebody here has a connection to is kept open, therefore,
until the last of these is closed."""

from __future__ import annotations

import contextlib
import os
import sqlite3
import threading
import time
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from io import FileIO
from pathlib import Path
from typing import Any, Protocol

_SETTLED_SECONDS = 2.0
"""A file that was written less long ago may be written again without its times telling (coarse clocks)."""
_ENDS = ("", "-wal", "-shm", "-journal")

_guard = threading.Lock()
_connections: Counter[str] = Counter()
_kept: dict[str, dict[tuple[int, int], FileIO]] = {}


class SqliteCursor(Protocol):
    """What a statement gave (PEP 249)."""

    @property
    def rowcount(self) -> int: ...

    def __iter__(self) -> Iterator[Any]: ...

    def fetchone(self) -> Any: ...

    def fetchmany(self, size: int = ...) -> list[Any]: ...

    def fetchall(self) -> list[Any]: ...


class SqliteConnection(Protocol):
    """An open database; errors are those of `sqlite3`, wherever the file is."""

    @property
    def total_changes(self) -> int: ...

    def execute(self, statement: str, values: Sequence[Any] = ..., /) -> SqliteCursor: ...

    def executemany(self, statement: str, rows: Sequence[Any], /) -> object: ...

    def foresee(self, statements: Sequence[str]) -> None:
        """That these will be executed next, in this order, and nothing before them: where asking takes long, they are
        asked at once."""

    def decode(self, *, any_text: bool) -> None:
        """Whether text that is not UTF-8 is an error, or kept as surrogates; what is checked is read faster."""

    def stay_in_file(self) -> None:
        """Let no statement reach other files, nor write into the schema's own table."""

    def copied(self) -> SqliteConnection:
        """A connection to a copy, made by the engine's own backup interface; it goes when that is closed."""

    def close(self) -> None: ...


class SqliteFiles(Protocol):
    """The databases in files of a machine."""

    def connect(self, path: str, mode: str, seconds: float) -> SqliteConnection:
        """Open one; ``mode`` is ``ro``, ``rw`` or ``rwc``. Raises `sqlite3.Error`."""

    def is_file(self, path: str) -> bool: ...

    def may_be_made(self, path: str) -> bool:
        """Whether its folder is there."""

    def may_read(self, path: str) -> bool: ...

    def size(self, path: str) -> int:
        """Bytes of all its files."""

    def remove(self, path: str) -> None:
        """Remove all its files."""

    def stand(self, path: str) -> str | None:
        """What tells whether it has been written since; None while that cannot be told."""


def decode_any(raw: bytes) -> str:
    """SQLite does not check text; bytes that are not UTF-8 must come back as they were."""
    return raw.decode("utf-8", "surrogateescape")


_PRAGMAS = frozenset((
    "table_list", "table_info", "table_xinfo", "index_list", "index_info", "index_xinfo", "foreign_key_list",
    "foreign_key_check",
    "foreign_keys", "user_version", "application_id", "encoding", "journal_mode", "quick_check", "integrity_check",
    "recursive_triggers", "defer_foreign_keys", "case_sensitive_like", "schema_version", "data_version", "optimize",
    "page_count", "freelist_count",
))  # fmt: skip
_FUNCTIONS_OUT = frozenset(("load_extension", "readfile", "writefile", "fts3_tokenizer", "edit"))


def _stays_in_its_file(action: int, first: str | None, second: str | None, base: str | None, inner: str | None) -> int:
    """What is run on a database must not reach other files, nor write into the schema's own table
    (https://www.sqlite.org/c3ref/set_authorizer.html)."""
    if action in (sqlite3.SQLITE_ATTACH, sqlite3.SQLITE_DETACH):
        return sqlite3.SQLITE_DENY
    if action == sqlite3.SQLITE_PRAGMA and str(first).lower() not in _PRAGMAS:
        return sqlite3.SQLITE_DENY
    if (
        action == sqlite3.SQLITE_PRAGMA
        and str(first).lower() in ("journal_mode", "schema_version")
        and second is not None
    ):
        return sqlite3.SQLITE_DENY
    if action == sqlite3.SQLITE_FUNCTION and str(second).lower() in _FUNCTIONS_OUT:
        return sqlite3.SQLITE_DENY
    return sqlite3.SQLITE_OK


class GuardedConnection(sqlite3.Connection):
    """A connection that is known here as long as it is open."""

    place: str | None = None

    def foresee(self, statements: Sequence[str]) -> None:
        """It is asked when it is executed."""

    def decode(self, *, any_text: bool) -> None:
        self.text_factory = decode_any if any_text else str

    def stay_in_file(self) -> None:
        self.set_authorizer(_stays_in_its_file)

    def copied(self) -> GuardedConnection:
        copy = sqlite3.connect("", isolation_level=None, check_same_thread=False, factory=GuardedConnection)
        self.backup(copy)
        copy.decode(any_text=True)
        return copy

    def close(self) -> None:
        super().close()
        place, self.place = self.place, None
        if place is not None:
            _closed(place)


def connect(path: str, mode: str, seconds: float) -> GuardedConnection:
    """Open a connection to the database file at ``path``."""
    place = os.path.realpath(path)
    uri = f"{Path(place).as_uri()}?mode={mode}"
    with _guard:
        _connections[place] += 1  # before it is opened: who reads the file meanwhile must not close it
    try:
        connection = sqlite3.connect(
            uri, uri=True, timeout=seconds, isolation_level=None, check_same_thread=False, factory=GuardedConnection
        )
    except BaseException:
        _closed(place)
        raise
    connection.place = place
    connection.decode(any_text=True)
    return connection


def _closed(place: str) -> None:
    with _guard:
        _connections[place] -= 1
        if not _connections[place]:
            del _connections[place]
            for file in _kept.pop(place, {}).values():
                file.close()


def head_of(path: Path, count: int) -> bytes:
    """The first bytes of a database file; fewer where it has not so many. Raises OSError."""
    place = os.path.realpath(path)
    with _guard:
        facts = Path(place).stat()
        kept = _kept.get(place, {})
        file = kept.get((facts.st_dev, facts.st_ino))
        if file is None:
            file = open(place, "rb", buffering=0)  # noqa: SIM115 - it stays open as long as connections do
            facts = os.fstat(file.fileno())
            kept[facts.st_dev, facts.st_ino] = file
        try:
            return os.pread(file.fileno(), count, 0)
        finally:
            if _connections[place]:
                _kept[place] = kept
            else:
                del _connections[place]
                file.close()


def files_of(path: str) -> Iterable[str]:
    """The files that the engine keeps for a database."""
    return [path + end for end in _ENDS]


class SqliteFilesHere:
    """Those of this machine."""

    def connect(self, path: str, mode: str, seconds: float) -> SqliteConnection:
        return connect(path, mode, seconds)

    def is_file(self, path: str) -> bool:
        return os.path.isfile(path)

    def may_be_made(self, path: str) -> bool:
        return os.path.isdir(os.path.dirname(path) or ".")

    def may_read(self, path: str) -> bool:
        return os.access(path, os.R_OK)

    def size(self, path: str) -> int:
        total = 0
        for file in files_of(path):
            with contextlib.suppress(FileNotFoundError):
                total += os.stat(file).st_size
        return total

    def remove(self, path: str) -> None:
        for file in files_of(path):
            with contextlib.suppress(FileNotFoundError):
                os.unlink(file)

    def stand(self, path: str) -> str | None:
        found = []
        newest = 0
        for file in files_of(path):
            if file.endswith("-shm"):  # readers write it too
                continue
            try:
                facts = os.stat(file)
            except FileNotFoundError:
                continue
            if not facts.st_size and file != path:  # a log of nothing; readers make one, too
                continue
            newest = max(newest, facts.st_mtime_ns, facts.st_ctime_ns)
            found.append(f"{facts.st_dev}.{facts.st_ino}.{facts.st_size}.{facts.st_mtime_ns}.{facts.st_ctime_ns}")
        counted = _change_counter(path) if len(found) == 1 else None
        if counted is not None:
            return f"{found[0]} {counted}"
        return " ".join(found) if time.time_ns() - newest > _SETTLED_SECONDS * 1e9 else None


def _change_counter(path: str) -> int | None:
    """The file's own count of the transactions that have written it, which needs no clock; None with a write-ahead log,
    where it does not count each (SQLite, "Database File Format", 1.3.3 and 1.3.7)."""
    with contextlib.suppress(OSError):
        head = head_of(Path(path), 28)
        if len(head) == 28 and head[18:20] == b"\x01\x01":
            return int.from_bytes(head[24:28], "big")
    return None
