"""Files of databases that this process has open: read beside their connections without dropping the locks of these.

A process loses all its locks on a file when it closes any descriptor of it (POSIX.1-2017, fcntl, "F_SETLK"; SQLite,
"How To Corrupt An SQLite Database File", 2.2). A file that somebody here has a connection to is kept open, therefore,
until the last of these is closed."""

from __future__ import annotations

import os
import sqlite3
import threading
from collections import Counter
from io import FileIO
from pathlib import Path

_guard = threading.Lock()
_connections: Counter[str] = Counter()
_kept: dict[str, dict[tuple[int, int], FileIO]] = {}


class GuardedConnection(sqlite3.Connection):
    """A connection that is known here as long as it is open."""

    place: str | None = None

    def close(self) -> None:
        super().close()
        place, self.place = self.place, None
        if place is not None:
            _closed(place)


def connect(uri: str, path: Path, timeout: float) -> GuardedConnection:
    """Open a connection to the database file at ``path``."""
    place = os.path.realpath(path)
    with _guard:
        _connections[place] += 1  # before it is opened: who reads the file meanwhile must not close it
    try:
        connection = sqlite3.connect(
            uri, uri=True, timeout=timeout, isolation_level=None, check_same_thread=False, factory=GuardedConnection
        )
    except BaseException:
        _closed(place)
        raise
    connection.place = place
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
