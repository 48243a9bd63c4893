"""SQLite.

Everything is written in one transaction of the engine, DDL too, so a killed run leaves the state before or the
state after (https://www.sqlite.org/atomiccommit.html), and programs that hold the file open see it as any other
commit. A database with a rollback journal keeps writers out while it is read, so its state is first copied into a
temporary one by the engine's own backup interface (https://www.sqlite.org/backup.html), which takes as long as the
disk does; one with a write-ahead log is read as it is.
"""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.memory import no_cycle_search
from keenharbor.database.giveback import differences, refuse_other_definitions, write_difference
from keenharbor.database.lines import decode_json, encode_json
from keenharbor.database.merging import MergesRows, Statement
from keenharbor.database.protocol import (
    Block,
    DatabasePlace,
    DatabaseState,
    DatabaseWriter,
    Definition,
    Row,
    Schema,
    Table,
    TableKind,
    Value,
)
from keenharbor.database.rows import StoredState, rows_of
from keenharbor.database.sqlitetext import sql_text, value_text
from keenharbor.database.words import double_quoted as quote
from keenharbor.host.sqlitefile import SqliteConnection, SqliteCursor, SqliteFiles, SqliteFilesHere, connect, files_of

BUSY_SECONDS = 20.0
_HIDDEN_GENERATED = (2, 3)
_ROWID_NAMES = ("rowid", "_rowid_", "oid")
_BLOCK_ROWS = 1000


class SqliteDatabase:
    """A database in a file."""

    def __init__(self, place: DatabasePlace) -> None:
        self.place = place
        self._files: SqliteFiles = place.through or SqliteFilesHere()
        self._path = str(place.file)

    def exists(self) -> bool:
        return self._files.is_file(self._path)

    def version(self) -> str:
        if self.place.through is None:
            return sqlite3.sqlite_version
        with contextlib.closing(self._files.connect(self._path, "ro", BUSY_SECONDS)) as connection:
            return str(connection.execute("SELECT sqlite_version()").fetchone()[0])

    def files(self) -> Iterable[Path]:
        return [Path(file) for file in files_of(self._path)]

    @contextlib.contextmanager
    def reading(self) -> Iterator[DatabaseState]:
        path = self.place.file
        if not self.exists():
            raise UsageError(
                "the database is not there", where=path, advice="correct the place of the database in the site file"
            )
        with contextlib.closing(_connect(self._files, path, "ro")) as connection:
            with _own_errors(path):
                stood = self._files.stand(self._path)
                connection.foresee(["BEGIN", _JOURNAL, *_SCHEMA])
                connection.execute("BEGIN")
                journal = connection.execute(_JOURNAL).fetchone()[0]
                schema = _read_schema(connection)
                mark_now = stood if stood == self._files.stand(self._path) else None
            with contextlib.ExitStack() as stack:
                yield _Snapshot(connection, schema, path, mark_now, stack if journal != "wal" else None)

    def size(self) -> int:
        return self._files.size(self._path)

    def drop(self) -> None:
        self._files.remove(self._path)

    def lacking(self) -> list[str]:
        return [] if self._files.may_read(self._path) else [f"read {self._path}"]

    @contextlib.contextmanager
    def writing(self) -> Iterator[DatabaseWriter]:
        path = self.place.file
        if not self._files.may_be_made(self._path):
            raise UsageError("the folder of the database is not there", where=path.parent)
        with contextlib.closing(_connect(self._files, path, "rwc")) as connection:
            with _own_errors(path):
                connection.execute("PRAGMA foreign_keys = OFF")
                connection.stay_in_file()
                connection.execute("BEGIN IMMEDIATE")
                mark = self._files.stand(self._path)
            try:
                yield _Writer(connection, path, mark)
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
        # Told by the engine: to look into the file would end this process's locks on it when it is closed again
        # (fcntl).
        if "not a database" in str(error):
            raise UsageError("this file is not an SQLite database", where=path) from error
        busy = "locked" in str(error)
        raise KeenHarborError(
            f"the database refused: {error}",
            where=path,
            advice="another program is writing to it; try again when it has ended" if busy else None,
        ) from error


def _connect(files: SqliteFiles, path: Path, mode: str) -> SqliteConnection:
    with _own_errors(path):
        return files.connect(str(path), mode, BUSY_SECONDS)


_JOURNAL = "PRAGMA journal_mode"
_SETTINGS = ("user_version", "application_id", "encoding")
_SCHEMA = ("PRAGMA table_list", *(f"PRAGMA {name}" for name in _SETTINGS),
           "SELECT type, name, sql FROM sqlite_schema ORDER BY rowid")  # fmt: skip


def _read_schema(connection: SqliteConnection) -> Schema:
    kinds = {name: kind for _, name, kind, *_ in connection.execute(_SCHEMA[0])}
    settings: dict[str, Value] = {name: connection.execute(f"PRAGMA {name}").fetchone()[0] for name in _SETTINGS}
    tables: list[Table] = []
    objects: list[Definition] = []
    not_kept: list[str] = []
    made = connection.execute(_SCHEMA[-1]).fetchall()
    connection.foresee([_columns_of(name) for kind, name, _ in made if kind == "table" and not _is_own(name)])
    for kind, name, ddl in made:
        if kind == "table" and name.startswith("sqlite_") and name != "sqlite_sequence":
            not_kept.append(f"statistics table {name} (made anew by ANALYZE)")
        elif kind == "table":
            tables.append(_table(connection, name, ddl, kinds.get(name, "table")))
        elif ddl:  # indexes without DDL belong to their table's constraints
            objects.append(Definition(kind, name, ddl))
    order = {"index": 0, "view": 1, "trigger": 2}
    objects.sort(key=lambda o: order.get(o.kind, 3))
    return Schema("sqlite", sqlite3.sqlite_version, tuple(tables), tuple(objects), settings, tuple(not_kept))


def _columns_of(table: str) -> str:
    return f"PRAGMA table_xinfo({quote(table)})"


def _is_own(table: str) -> bool:
    """Whether a table is the engine's own."""
    return table.startswith("sqlite_")


class _Column(NamedTuple):
    """A line of ``table_xinfo``; ``in_key`` is the place within the primary key, from one on."""

    number: int
    name: str
    declared: str
    not_null: int
    default: str | None
    in_key: int
    hidden: int


def _table(connection: SqliteConnection, name: str, ddl: str, listed_as: str) -> Table:
    kind: TableKind = "virtual" if listed_as == "virtual" else "shadow" if listed_as == "shadow" else "table"
    if name == "sqlite_sequence":
        return Table(name, ("name", "seq"), ("name",), ddl, "internal")
    facts = [_Column(*c) for c in connection.execute(_columns_of(name))]
    columns = [c.name for c in facts if c.hidden not in _HIDDEN_GENERATED]
    # The key stands first, so that a stored line begins with it.
    if kind == "virtual":
        return Table(name, (), (), ddl, kind)
    key = [c.name for c in sorted((c for c in facts if c.in_key), key=lambda c: c.in_key)]
    if key:
        return Table(name, (*key, *(c for c in columns if c not in key)), tuple(key), ddl, kind)
    lower = {c.lower() for c in columns}
    row_number = next((r for r in _ROWID_NAMES if r not in lower), None)
    if row_number is None:
        return Table(name, tuple(columns), tuple(columns), ddl, kind)
    return Table(name, (row_number, *columns), (row_number,), ddl, kind, implicit_key=True)


class _Snapshot:
    """The state within one read transaction. With ``keep_out``, the transaction keeps writers out: the first that is
    read of the rows makes a copy and ends it."""

    def __init__(
        self, connection: SqliteConnection, schema: Schema, path: Path, mark: str | None = None,
        keep_out: contextlib.ExitStack | None = None,
    ) -> None:  # fmt: skip
        self._connection = connection
        self._path = path
        self._mark = mark
        self._keep_out = keep_out
        self.schema = schema

    def _copy(self, stack: contextlib.ExitStack) -> None:
        self._keep_out = None
        copy = stack.enter_context(contextlib.closing(self._connection.copied()))
        self._connection.execute("COMMIT")
        self._connection = copy

    def rows(self, table: str) -> Iterator[Row]:
        return rows_of(self.schema.table(table), self.blocks(table))

    def blocks(self, table: str) -> Iterator[Block]:
        found = self.schema.table(table)
        if found is None or found.kind == "virtual":
            return
        columns = ", ".join(quote(c) for c in found.columns)
        order = ", ".join(quote(c) for c in found.key)
        select = f"SELECT {columns} FROM {quote(table)} ORDER BY {order}"
        keys = len(found.key)
        done = 0
        with _own_errors(self._path):
            if self._keep_out is not None:
                self._copy(self._keep_out)
            # The engine's own decoding of text is fast, and stops at text that is not UTF-8: from there on with ours.
            self._connection.decode(any_text=False)
            try:
                cursor = self._connection.execute(select)
                while True:
                    try:
                        rows, block = _next_block(cursor, keys)
                    except sqlite3.OperationalError as error:
                        if "decode" not in str(error):
                            raise
                        self._connection.decode(any_text=True)
                        cursor = self._connection.execute(f"{select} LIMIT -1 OFFSET {done}")
                        continue
                    if not rows:
                        return
                    done += rows
                    yield block
            finally:
                self._connection.decode(any_text=True)

    def parts(self, table: str, count: int) -> Sequence[Callable[[], Iterator[Block]]]:
        return ()

    def mark(self, table: str) -> str | None:
        return self._mark

    def unchanged_since(self, table: str, mark: str, rows: int) -> bool:
        return self._mark == mark

    def chunk_ids(self, table: str) -> Sequence[str] | None:
        return None


def _next_block(cursor: SqliteCursor, keys: int) -> tuple[int, Block]:
    """The next rows, and how many: a block with the first ``keys`` values of each as its keys."""
    with no_cycle_search():  # a tuple for each row
        batch = cursor.fetchmany(_BLOCK_ROWS)
        shown = keys == 1 and {type(r[0]) for r in batch} == {int}
        block = Block(encode_json(batch), None if shown else encode_json([r[:keys] for r in batch]))
        rows = len(batch)
        del batch
    return rows, block


class _Writer(MergesRows):
    """Writes within one transaction of the engine."""

    def __init__(self, connection: SqliteConnection, path: Path, mark: str | None) -> None:
        """``mark``: that of the file before anything is written."""
        self._connection = connection
        self._path = path
        self._mark = mark

    def replace(self, state: DatabaseState, known: DatabaseState | None = None) -> int:
        wanted = state.schema
        with _own_errors(self._path):
            present = _read_schema(self._connection)
        if isinstance(state, StoredState) and (present.definitions(), present.settings, present.tables) == (
            wanted.definitions(), wanted.settings, wanted.tables,
        ):  # fmt: skip
            return self._give_back_rows(state, present, None, known)
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
                self.load(table, state.blocks(table.name))
            for _, _, ddl in wanted.objects:
                run(ddl)
        return sum(t.row_count for t in state.tables.values()) if isinstance(state, StoredState) else 0

    def put_rows(self, state: DatabaseState, tables: Collection[str], known: DatabaseState | None = None) -> int:
        assert isinstance(state, StoredState)
        with _own_errors(self._path):
            present = _read_schema(self._connection)
        refuse_other_definitions(present, state.schema, tables)
        return self._give_back_rows(state, present, tables, known)

    def _give_back_rows(
        self, state: StoredState, present: Schema, only: Collection[str] | None, known: DatabaseState | None
    ) -> int:
        written = 0
        with self._without_triggers(present), _own_errors(self._path):
            here = _Snapshot(self._connection, present, self._path, self._mark)
            for table, apart in list(differences(here, state, state.left_empty, only, known)):
                written += write_difference(table, apart, state, self)
        return written

    @contextlib.contextmanager
    def _without_triggers(self, present: Schema) -> Iterator[None]:
        triggers = [(n, ddl) for kind, n, ddl in present.objects if kind == "trigger"]
        with _own_errors(self._path):
            for name, _ in triggers:
                self._connection.execute(f"DROP TRIGGER {quote(name)}")
        yield
        with _own_errors(self._path):
            for _, ddl in triggers:
                self._connection.execute(ddl)

    def clear(self, table: Table) -> None:
        self._connection.execute(f"DELETE FROM {quote(table.name)}")

    def remove(self, table: Table, keys: Sequence[Row]) -> None:
        condition = " AND ".join(f"{quote(c)} IS ?" for c in table.key)
        self._connection.executemany(f"DELETE FROM {quote(table.name)} WHERE {condition}", [_bound(k) for k in keys])

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

    def load(self, table: Table, blocks: Iterable[Block]) -> None:
        for block in blocks:
            self.load_rows(table, list(decode_json(block.lines)))

    def load_rows(self, table: Table, rows: Sequence[Row]) -> None:
        columns = ", ".join(quote(c) for c in table.columns)
        holders = ", ".join("?" * len(table.columns))
        statement = f"INSERT INTO {quote(table.name)} ({columns}) VALUES ({holders})"
        self._connection.execute("SAVEPOINT batch")
        try:
            self._connection.executemany(statement, rows)
        except UnicodeEncodeError:
            self._connection.execute("ROLLBACK TO batch")
            for row in rows:
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

    @contextlib.contextmanager
    def merging(self) -> Iterator[None]:
        with _own_errors(self._path):
            present = _read_schema(self._connection)
        with self._without_triggers(present):  # foreign keys are off for as long as this writes
            yield

    def shown(self, table: str) -> str:
        return quote(table)

    def quoted(self, column: str) -> str:
        return quote(column)

    def bound(self, table: str, column: str, value: Value) -> tuple[str, Value]:
        if isinstance(value, str) and any("\ud800" <= c <= "\udfff" for c in value):
            return "CAST(? AS TEXT)", value.encode("utf-8", "surrogateescape")
        return "?", value

    def equals(self, table: str, column: str, value: Value) -> Statement:
        holder, bound = self.bound(table, column, value)
        return f"{quote(column)} IS {holder}", [bound]

    def tried(self, statement: str, values: Sequence[Value]) -> int | str:
        try:
            return self._connection.execute(statement, values).rowcount
        except sqlite3.IntegrityError as error:
            return str(error)
        except sqlite3.Error as error:
            raise KeenHarborError(f"the database refused a change: {error}", where=self._path) from error

    def asked(self, statement: str, values: Sequence[Value]) -> int:
        with _own_errors(self._path):
            return int(self._connection.execute(statement, values).fetchone()[0])

    def count_on(self, state: DatabaseState) -> None:
        if state.schema.table("sqlite_sequence") is None:
            return
        run = self._connection.execute
        with _own_errors(self._path):
            if not run("SELECT 1 FROM sqlite_schema WHERE name = 'sqlite_sequence'").fetchone():
                return
            there = {n for (n,) in run("SELECT name FROM sqlite_schema WHERE type = 'table'")}
            for name, last in state.rows("sqlite_sequence"):
                if (
                    name in there
                    and not run("UPDATE sqlite_sequence SET seq = max(seq, ?) WHERE name = ?", (last, name)).rowcount
                ):
                    run("INSERT INTO sqlite_sequence (name, seq) VALUES (?, ?)", (name, last))

    def script(self, sql: str) -> int:
        before = self._connection.total_changes
        with _own_errors(self._path):
            for statement in _statements(sql):
                self._connection.execute(statement)
        return self._connection.total_changes - before


def _bound(values: Row) -> list[Value]:
    """Values to compare with: text that is not UTF-8 cannot be bound, and is a key nowhere."""
    return [
        v.encode("utf-8", "surrogateescape").decode("utf-8", "replace") if isinstance(v, str) else v for v in values
    ]


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


# -- whole files ----------------------------------------------------------------------------------------------


def build_file(file: Path, state: DatabaseState, like: Path) -> None:
    """Make a new file that holds ``state``, with pages as those of the file ``like``. It is not forced to disk."""
    with contextlib.closing(connect(str(like), "ro", BUSY_SECONDS)) as there, _own_errors(like):
        (pages,), (vacuum,) = (there.execute(f"PRAGMA {p}").fetchone() for p in ("page_size", "auto_vacuum"))
    encoding = str(state.schema.settings.get("encoding") or "UTF-8")
    with contextlib.closing(connect(str(file), "rwc", BUSY_SECONDS)) as made, _own_errors(file):
        for said in (f"page_size = {int(pages)}", f"auto_vacuum = {int(vacuum)}", "journal_mode = MEMORY",
                     "synchronous = OFF", "foreign_keys = OFF"):  # fmt: skip
            made.execute(f"PRAGMA {said}")
        made.execute(f"PRAGMA encoding = {value_text(encoding)}")
        made.stay_in_file()
        made.execute("BEGIN")
        _Writer(made, file, None).replace(state)
        made.execute("COMMIT")


def copy_pages(source: Path, target: Path) -> None:
    """Make the database in the file ``target`` the one that is in ``source``, in one transaction."""
    with (
        contextlib.closing(connect(str(source), "ro", BUSY_SECONDS)) as made,
        contextlib.closing(connect(str(target), "rw", BUSY_SECONDS)) as live,
        _own_errors(target),
    ):
        made.backup(live)


__all__ = ["SqliteDatabase", "build_file", "copy_pages", "sql_text"]
