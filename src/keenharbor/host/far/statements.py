"""Databases in files, worked with for who asks over a line: connections, cursors and rows. Sent to far machines; Python
3.9 and its own library have to do."""

from __future__ import annotations

import base64
import sqlite3
from typing import Any, Sequence

from keenharbor.base.errors import UsageError
from keenharbor.host.far.frames import PART_SIZE
from keenharbor.host.sqlitefile import SqliteFilesHere

_FILES = frozenset(("is_file", "may_be_made", "may_read", "size", "remove", "stand"))


class Statements:
    """What is open for one helper. Each ``do_…`` is a question (see `keenharbor.host.far.helper`)."""

    def __init__(self) -> None:
        self._files = SqliteFilesHere()
        self._connections: dict[int, Any] = {}
        self._cursors: dict[int, Any] = {}

    def do_database(self, call: object, lane: object, body: bytes, what: str, path: str) -> Any:
        if what not in _FILES:
            raise UsageError("this is not asked of a database")
        return getattr(self._files, what)(path)

    def do_connect(
        self, call: object, lane: object, body: bytes, number: int, path: str, mode: str, seconds: float
    ) -> None:
        self._connections[number] = self._files.connect(path, mode, seconds)

    def do_copied(self, call: object, lane: object, body: bytes, number: int, copy: int) -> None:
        self._connections[copy] = self._connections[number].copied()

    def do_disconnect(self, call: object, lane: object, body: bytes, number: int) -> None:
        connection = self._connections.pop(number, None)
        if connection is not None:
            connection.close()

    def do_set(self, call: object, lane: object, body: bytes, number: int, what: str, value: Any) -> None:
        connection = self._connections[number]
        if what == "decode":
            connection.decode(any_text=bool(value))
        elif what == "stay":
            connection.stay_in_file()

    def do_execute(
        self, call: object, lane: object, body: bytes, number: int, cursor: int, statement: str, values: list[Any]
    ) -> list[Any]:
        connection = self._connections[number]
        found = connection.execute(statement, _values(values))
        self._cursors[cursor] = found
        if found.description is None:
            self._cursors.pop(cursor)
            return [found.rowcount, connection.total_changes, [], True]
        try:
            rows, ended = self._next_rows(cursor, 200)
        except sqlite3.Error as error:  # of a row, and not of the statement: told when rows are asked for
            self._cursors[cursor] = error
            rows, ended = [], False
        return [found.rowcount, connection.total_changes, rows, ended]

    def do_fetch(self, call: object, lane: object, body: bytes, cursor: int) -> list[Any]:
        if cursor not in self._cursors:
            return [[], True]
        if isinstance(self._cursors[cursor], Exception):
            raise self._cursors[cursor]
        return list(self._next_rows(cursor, 2000))

    def _next_rows(self, cursor: int, most: int) -> tuple[list[Any], bool]:
        source = self._cursors[cursor]
        rows: list[Any] = []
        size = 0
        while len(rows) < most and size < PART_SIZE // 2:
            row = source.fetchone()
            if row is None:
                self._cursors.pop(cursor, None)
                return rows, True
            rows.append([_told(value) for value in row])
            size += sum(len(v) if isinstance(v, (str, bytes)) else 8 for v in row)
        return rows, False

    def do_forget(self, call: object, lane: object, body: bytes, cursor: int) -> None:
        found = self._cursors.pop(cursor, None)
        if found is not None:
            found.close()

    def do_execute_many(
        self, call: object, lane: object, body: bytes, number: int, statement: str, rows: list[Any]
    ) -> int:
        connection = self._connections[number]
        connection.executemany(statement, [_values(row) for row in rows])
        return int(connection.total_changes)


def _told(value: Any) -> Any:
    return {"b": base64.b64encode(value).decode("ascii")} if isinstance(value, bytes) else value


def _values(values: Sequence[Any]) -> list[Any]:
    return [base64.b64decode(v["b"]) if isinstance(v, dict) else v for v in values]
