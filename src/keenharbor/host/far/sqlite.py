"""Databases in files of a far machine: the helper's Python opens them there, and statements go over the line."""

from __future__ import annotations

import base64
import contextlib
import itertools
import sqlite3
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from keenharbor.host.far.asking import Lane, Pending, nonsense
from keenharbor.host.far.connecting import LineError
from keenharbor.host.far.line import Line

_numbers = itertools.count(1)
_AHEAD = 4
_ROWS_AT_ONCE = 1000
_BYTES_AT_ONCE = 512 * 1024


def _told(value: Any) -> Any:
    return (
        {"b": base64.b64encode(value).decode("ascii")} if isinstance(value, (bytes, bytearray, memoryview)) else value
    )


def _row(told: Any, where: str) -> tuple[Any, ...]:
    if not isinstance(told, list):
        raise nonsense(where)
    row: list[Any] = []
    for value in told:
        match value:
            case None | int() | float() | str():
                row.append(value)
            case {"b": str(text)}:
                row.append(base64.b64decode(text.encode("ascii", "replace")))
            case _:
                raise nonsense(where)
    return tuple(row)


class FarCursor:
    """What a statement gave; what comes next of it is asked for ahead."""

    def __init__(self, connection: FarConnection, number: int, answer: Any) -> None:
        self._connection, self._number = connection, number
        match answer:
            case [int(rowcount), int(changes), list(rows), bool(ended)]:
                self.rowcount: int = rowcount
                connection.changes = changes
            case _:
                raise nonsense(connection.told)
        self._rows: deque[tuple[Any, ...]] = deque(_row(r, connection.told) for r in rows)
        self._ended = ended
        self._ahead: deque[Pending] = deque()

    def _more(self) -> bool:
        while not self._rows and not (self._ended and not self._ahead):
            while not self._ended and len(self._ahead) < _AHEAD:
                self._ahead.append(self._connection.lane.begin("fetch", self._number))
            match self._connection.heard(self._ahead.popleft()):
                case [list(rows), bool(ended)]:
                    self._ended = self._ended or ended
                    self._rows.extend(_row(r, self._connection.told) for r in rows)
                case _:
                    raise nonsense(self._connection.told)
        return bool(self._rows)

    def __iter__(self) -> Iterator[tuple[Any, ...]]:
        while self._more():
            yield self._rows.popleft()

    def fetchone(self) -> Any:
        return self._rows.popleft() if self._more() else None

    def fetchmany(self, size: int = 1) -> list[Any]:
        return list(itertools.islice(self, size))

    def fetchall(self) -> list[Any]:
        return list(self)


class FarConnection:
    """See `keenharbor.host.sqlitefile.SqliteConnection`."""

    def __init__(self, lane: Lane, number: int, told: str, *, owns_lane: bool = True) -> None:
        self.lane, self._number, self.told, self._owns_lane = lane, number, told, owns_lane
        self.changes = 0
        self._foreseen: deque[tuple[str, int, Pending]] = deque()

    @property
    def total_changes(self) -> int:
        return self.changes

    def heard(self, pending: Pending) -> Any:
        """An answer; a line that broke is an error of the database to who works with it."""
        try:
            return pending.answer()
        except LineError as error:
            raise sqlite3.OperationalError(error.what) from error

    def foresee(self, statements: Sequence[str]) -> None:
        for statement in statements:
            number = next(_numbers)
            self._foreseen.append((statement, number, self.lane.begin("execute", self._number, number, statement, [])))

    def execute(self, statement: str, values: Sequence[Any] = (), /) -> FarCursor:
        if self._foreseen and not values and self._foreseen[0][0] == statement:
            _, number, asked = self._foreseen.popleft()
            return FarCursor(self, number, self.heard(asked))
        number = next(_numbers)
        asked = self.lane.begin("execute", self._number, number, statement, [_told(v) for v in values])
        return FarCursor(self, number, self.heard(asked))

    def executemany(self, statement: str, rows: Iterable[Any], /) -> None:
        waiting: deque[Pending] = deque()
        for batch in _batches(rows):
            waiting.append(self.lane.begin("execute_many", self._number, statement, batch))
            while len(waiting) > _AHEAD:
                self.changes = int(self.heard(waiting.popleft()))
        while waiting:
            self.changes = int(self.heard(waiting.popleft()))

    def decode(self, *, any_text: bool) -> None:
        self.lane.begin("set", self._number, "decode", any_text)

    def stay_in_file(self) -> None:
        self.heard(self.lane.begin("set", self._number, "stay", True))

    def copied(self) -> FarConnection:
        number = next(_numbers)
        self.heard(self.lane.begin("copied", self._number, number))
        return FarConnection(self.lane, number, self.told, owns_lane=False)

    def close(self) -> None:
        with contextlib.suppress(LineError):  # with the line it is closed, too
            self.lane.begin("disconnect", self._number)
            if self._owns_lane:
                self.lane.end()


def _batches(rows: Iterable[Any]) -> Iterator[list[Any]]:
    batch: list[Any] = []
    size = 0
    for row in rows:
        batch.append([_told(v) for v in row])
        size += sum(len(v) if isinstance(v, (str, bytes)) else 8 for v in row)
        if len(batch) >= _ROWS_AT_ONCE or size >= _BYTES_AT_ONCE:
            yield batch
            batch, size = [], 0
    if batch:
        yield batch


class FarSqlite:
    """See `keenharbor.host.sqlitefile.SqliteFiles`."""

    def __init__(self, line: Line) -> None:
        self._line = line

    def connect(self, path: str, mode: str, seconds: float) -> FarConnection:
        number = next(_numbers)
        lane = self._line.repeated(self._line.asking).lane()
        lane.ask("connect", number, path, mode, seconds)
        return FarConnection(lane, number, f"{self._line.door.told}:{path}")

    def _ask(self, what: str, path: str) -> Any:
        return self._line.repeated(lambda: self._line.lane().ask("database", what, path))

    def is_file(self, path: str) -> bool:
        return self._ask("is_file", path) is True

    def may_be_made(self, path: str) -> bool:
        return self._ask("may_be_made", path) is True

    def may_read(self, path: str) -> bool:
        return self._ask("may_read", path) is True

    def size(self, path: str) -> int:
        return int(self._ask("size", path))

    def remove(self, path: str) -> None:
        self._ask("remove", path)

    def stand(self, path: str) -> str | None:
        found = self._ask("stand", path)
        return found if isinstance(found, str) else None
