"""SQLite.

Everything is written in one transaction of the engine, DDL too, so a killed run leaves the state before or the
state after (https://www.sqlite.org/atomiccommit.html), and programs that hold the file open see it as any other
commit.
"""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.database.protocol import (
    DatabasePlace,
    DatabaseState,
    DatabaseWriter,
    Row,
    Schema,
    Table,
    TableKind,
    Value,
)

BUSY_SECONDS = 20.0
_HIDDEN_GENERATED = (2, 3)
_ROWID_NAMES = ("rowid", "_rowid_", "oid")
_FILE_MARK = b"SQLite format 3\x00"


def quote(name: str) -> str:
    """``name`` as an SQL identifier."""
    return '"' + name.replace('"', '""') + '"'


def _decode_text(raw: bytes) -> str:
    # SQLite does not check text; bytes that are not UTF-8 must come back as they were.
    return raw.decode("utf-8", "surrogateescape")


class SqliteDatabase:
    """A database in a file."""

    def __init__(self, place: DatabasePlace) -> None:
        self.place = place

    def exists(self) -> bool:
        return self.place.path.is_file()

    def version(self) -> str:
        return sqlite3.sqlite_version

    def files(self) -> Iterable[Path]:
        base = self.place.path
        return [base, *(base.with_name(base.name + end) for end in ("-wal", "-shm", "-journal"))]

    @contextlib.contextmanager
    def reading(self) -> Iterator[DatabaseState]:
        path = self.place.path
        if not path.is_file():
            raise UsageError(
                "the database is not there", where=path, advice="correct the place of the database in the site file"
            )
        with path.open("rb") as head:
            mark = head.read(16)
        if mark and mark != _FILE_MARK:
            raise UsageError("this file is not an SQLite database", where=path)
        with contextlib.closing(_connect(f"{path.resolve().as_uri()}?mode=ro", path)) as connection:
            with _own_errors(path):
                connection.execute("BEGIN")
                schema = _read_schema(connection)
            yield _Snapshot(connection, schema, path)

    @contextlib.contextmanager
    def writing(self) -> Iterator[DatabaseWriter]:
        path = self.place.path
        if not path.parent.is_dir():
            raise UsageError("the folder of the database is not there", where=path.parent)
        with contextlib.closing(_connect(f"{path.resolve().as_uri()}?mode=rwc", path)) as connection:
            with _own_errors(path):
                connection.execute("PRAGMA foreign_keys = OFF")
                connection.execute("BEGIN IMMEDIATE")
            try:
                yield _Writer(connection, path)
                with _own_errors(path):
                    connection.execute("COMMIT")
            except BaseException:
                with contextlib.suppress(sqlite3.Error):
                    connection.execute("ROLLBACK")
                raise


@contextlib.contextmanager
def _own_errors(path: Path) -> Iterator[None]:
    try:
        yield
    except sqlite3.Error as error:
        busy = "locked" in str(error)
        raise KeenHarborError(
            f"the database refused: {error}",
            where=path,
            advice="another program is writing to it; try again when it has ended" if busy else None,
        ) from error


def _connect(uri: str, path: Path) -> sqlite3.Connection:
    with _own_errors(path):
        connection = sqlite3.connect(uri, uri=True, timeout=BUSY_SECONDS, isolation_level=None, check_same_thread=False)
        connection.text_factory = _decode_text
        return connection


def _read_schema(connection: sqlite3.Connection) -> Schema:
    kinds = {name: kind for _, name, kind, *_ in connection.execute("PRAGMA table_list")}
    tables: list[Table] = []
    objects: list[tuple[str, str, str]] = []
    not_kept: list[str] = []
    for kind, name, ddl in connection.execute("SELECT type, name, sql FROM sqlite_schema ORDER BY rowid"):
        if kind == "table" and name.startswith("sqlite_") and name != "sqlite_sequence":
            not_kept.append(f"statistics table {name} (made anew by ANALYZE)")
        elif kind == "table":
            tables.append(_table(connection, name, ddl, kinds.get(name, "table")))
        elif ddl:  # indexes without DDL belong to their table's constraints
            objects.append((kind, name, ddl))
    order = {"index": 0, "view": 1, "trigger": 2}
    objects.sort(key=lambda o: order.get(o[0], 3))
    settings: dict[str, Value] = {
        name: connection.execute(f"PRAGMA {name}").fetchone()[0]
        for name in ("user_version", "application_id", "encoding")
    }
    return Schema("sqlite", sqlite3.sqlite_version, tuple(tables), tuple(objects), settings, tuple(not_kept))


def _table(connection: sqlite3.Connection, name: str, ddl: str, listed_as: str) -> Table:
    kind: TableKind = "virtual" if listed_as == "virtual" else "shadow" if listed_as == "shadow" else "table"
    if name == "sqlite_sequence":
        return Table(name, ("name", "seq"), ("name",), ddl, "internal")
    facts = connection.execute(f"PRAGMA table_xinfo({quote(name)})").fetchall()
    columns = [c[1] for c in facts if c[6] not in _HIDDEN_GENERATED]
    if kind == "virtual":
        return Table(name, (), (), ddl, kind)
    key = [c[1] for c in sorted((c for c in facts if c[5]), key=lambda c: c[5])]
    if key:
        return Table(name, tuple(columns), tuple(key), ddl, kind)
    lower = {c.lower() for c in columns}
    row_number = next((r for r in _ROWID_NAMES if r not in lower), None)
    if row_number is None:
        return Table(name, tuple(columns), tuple(columns), ddl, kind)
    return Table(name, (row_number, *columns), (row_number,), ddl, kind, implicit_key=True)


class _Snapshot:
    """The state within one read transaction."""

    def __init__(self, connection: sqlite3.Connection, schema: Schema, path: Path) -> None:
        self._connection = connection
        self._path = path
        self.schema = schema

    def rows(self, table: str) -> Iterator[Row]:
        found = self.schema.table(table)
        if found is None or found.kind == "virtual":
            return
        columns = ", ".join(quote(c) for c in found.columns)
        order = ", ".join(quote(c) for c in found.key)
        with _own_errors(self._path):
            yield from self._connection.execute(f"SELECT {columns} FROM {quote(table)} ORDER BY {order}")

    def chunk_ids(self, table: str) -> Sequence[str] | None:
        return None


class _Writer:
    """Writes within one transaction of the engine."""

    def __init__(self, connection: sqlite3.Connection, path: Path) -> None:
        self._connection = connection
        self._path = path

    def replace(self, state: DatabaseState) -> None:
        wanted = state.schema
        run = self._connection.execute
        with _own_errors(self._path):
            self._drop_everything()
            for setting, value in wanted.settings.items():
                if setting != "encoding":  # can only be set before a file has any content
                    run(f"PRAGMA {setting} = {int(value or 0)}")
            for table in wanted.tables:
                if table.kind in ("table", "virtual"):
                    run(table.ddl)
            for table in wanted.tables:
                if table.kind == "virtual":
                    continue
                if table.kind in ("shadow", "internal"):
                    run(f"DELETE FROM {quote(table.name)}")
                self._fill(table, state.rows(table.name))
            for _, _, ddl in wanted.objects:
                run(ddl)

    def _drop_everything(self) -> None:
        run = self._connection.execute
        virtual = [n for _, n, k, *_ in run("PRAGMA table_list").fetchall() if k == "virtual"]
        for name in virtual:
            run(f"DROP TABLE {quote(name)}")
        for wanted in ("trigger", "view", "table"):
            for (name,) in run("SELECT name FROM sqlite_schema WHERE type = ?", (wanted,)).fetchall():
                if not name.startswith("sqlite_"):
                    run(f"DROP {wanted.upper()} IF EXISTS {quote(name)}")
        if run("SELECT 1 FROM sqlite_schema WHERE name = 'sqlite_sequence'").fetchone():
            run("DELETE FROM sqlite_sequence")

    def _fill(self, table: Table, rows: Iterator[Row]) -> None:
        columns = ", ".join(quote(c) for c in table.columns)
        holders = ", ".join("?" * len(table.columns))
        statement = f"INSERT INTO {quote(table.name)} ({columns}) VALUES ({holders})"
        for batch in _batches(rows, 1000):
            self._connection.execute("SAVEPOINT batch")
            try:
                self._connection.executemany(statement, batch)
            except UnicodeEncodeError:
                self._connection.execute("ROLLBACK TO batch")
                for row in batch:
                    self._insert_any(table.name, table.columns, row)
            self._connection.execute("RELEASE batch")

    def _insert_any(self, table: str, columns: Sequence[str], row: Sequence[Value]) -> None:
        """Insert a row whose text may hold bytes that are not UTF-8."""
        holders: list[str] = []
        values: list[Value] = []
        for value in row:
            raw = isinstance(value, str) and any("\ud800" <= c <= "\udfff" for c in value)
            holders.append("CAST(? AS TEXT)" if raw else "?")
            values.append(value.encode("utf-8", "surrogateescape") if raw and isinstance(value, str) else value)
        names = ", ".join(quote(c) for c in columns)
        self._connection.execute(f"INSERT INTO {quote(table)} ({names}) VALUES ({', '.join(holders)})", values)

    def insert(self, table: str, columns: Sequence[str], row: Sequence[Value]) -> str | None:
        try:
            self._insert_any(table, columns, row)
        except sqlite3.IntegrityError as error:
            return str(error)
        except sqlite3.Error as error:
            raise KeenHarborError(f"the database refused a row of {table}: {error}", where=self._path) from error
        return None

    def update(self, table: str, key: dict[str, Value], values: dict[str, Value]) -> int:
        assignments = ", ".join(f"{quote(c)} = ?" for c in values)
        condition = " AND ".join(f"{quote(c)} IS ?" for c in key)
        with _own_errors(self._path):
            done = self._connection.execute(
                f"UPDATE {quote(table)} SET {assignments} WHERE {condition}", [*values.values(), *key.values()]
            )
        return done.rowcount

    def script(self, sql: str) -> int:
        before = self._connection.total_changes
        with _own_errors(self._path):
            for statement in _statements(sql):
                self._connection.execute(statement)
        return self._connection.total_changes - before


def _statements(sql: str) -> Iterator[str]:
    """Split SQL at its semicolons as the engine sees them (``executescript`` would end our transaction)."""
    pending = ""
    for piece in sql.split(";"):
        pending += piece + ";"
        if sqlite3.complete_statement(pending):
            if pending.strip(" \t\r\n;"):
                yield pending
            pending = ""
    if pending.strip(" \t\r\n;"):
        yield pending


def _batches(rows: Iterable[Row], count: int) -> Iterator[list[Row]]:
    batch: list[Row] = []
    for row in rows:
        batch.append(row)
        if len(batch) == count:
            yield batch
            batch = []
    if batch:
        yield batch
