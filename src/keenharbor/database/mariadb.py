"""MariaDB and MySQL.

Rows are read in one transaction ``WITH CONSISTENT SNAPSHOT``, which keeps no writer out, and restored with LOAD DATA, whose
text form is that of the store. DDL ends a transaction here: giving back a state with other definitions can be repeated
after an interruption, but is not undone by one (https://mariadb.com/docs/server/reference/sql-statements/transactions).
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import re
import threading
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any, TypeVar

import asyncmy
import asyncmy.cursors
import asyncmy.errors
import pymysql
from pymysql.constants import CLIENT
from pymysql.converters import encoders

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.memory import no_cycle_search
from keenharbor.database.boundaries import count_byte
from keenharbor.database.giveback import differences, refuse_other_definitions, write_difference
from keenharbor.database.lines import decode_copy, encode_copy
from keenharbor.database.protocol import (
    Block,
    ColumnKind,
    DatabasePlace,
    DatabaseState,
    DatabaseWriter,
    Row,
    Schema,
    Table,
    Value,
)
from keenharbor.database.rows import StoredState, rows_of
from keenharbor.database.words import back_quoted as quote
from keenharbor.database.words import insert_statements, no_answer, no_database, refused, user_refused

T = TypeVar("T")
Query = Callable[[str], list[tuple[Any, ...]]]
Rows = Sequence[tuple[bytes | None, ...]]
_BLOCK_BYTES = 512 * 1024
_FIRST_ROWS, _MOST_ROWS = 64, 2000
"""Rows that are asked for at once: at the beginning, and at most."""
_SETTLED_SECONDS = 2
"""A table's time of its last change has whole seconds: a later change must not be able to bear the same."""
_INTEGERS = {"tinyint", "smallint", "mediumint", "int", "bigint", "year"}
_BYTES = {
    "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "geometry", "point", "linestring", "polygon",
    "multipoint", "multilinestring", "multipolygon", "geometrycollection", "vector",
}  # fmt: skip
_TEXT_SETS = {"utf8mb4", "utf8mb3", "utf8", "latin1", "ascii", "ucs2", "utf16", "utf16le", "utf32"}
"""Character sets that Unicode maps one to one; text in others is kept as its bytes."""
_PLAIN_TEXT = {"decimal", "date", "time", "datetime", "timestamp"}
_TRANSACTIONAL = {"InnoDB", "RocksDB", "TokuDB"}
_BULK_MODE = "NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,NO_ENGINE_SUBSTITUTION"
_COUNTER = re.compile(r"^(\) ENGINE=\S+) AUTO_INCREMENT=\d+", re.MULTILINE)
_DEFINER = re.compile(r" DEFINER=(`(?:[^`]|``)*`@`(?:[^`]|``)*`|\S+)")
_MISSING_DATABASE = 1049
_CHECK_FAILED = (4025, 3819)


def _literal(text: str) -> str:
    return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"


def _text(value: Any) -> str:
    return value.decode("utf-8", "surrogateescape") if isinstance(value, bytes | bytearray) else str(value)


def _refused(error: Exception, place: DatabasePlace) -> KeenHarborError:
    number = error.args[0] if error.args and isinstance(error.args[0], int) else 0
    words = str(error.args[1]) if len(error.args) > 1 else str(error)
    if number in (1044, 1045, 1698):
        return user_refused(place, words)
    if number in (2002, 2003, 2005, 2006, 2013, 2055) or isinstance(error, OSError):
        return no_answer(place, words)
    if number == _MISSING_DATABASE:
        return no_database(place)
    if number == 1412:
        return KeenHarborError(
            "a table was redefined while it was to be read", where=str(place), advice="type the command again"
        )
    return refused(place, words)


@contextlib.contextmanager
def _own_errors(place: DatabasePlace) -> Iterator[None]:
    try:
        yield
    except (pymysql.err.MySQLError, asyncmy.errors.MySQLError, ConnectionError, asyncio.IncompleteReadError) as error:
        raise _refused(error, place) from error


class MariadbDatabase:
    """A database on a MariaDB or MySQL server."""

    def __init__(self, place: DatabasePlace) -> None:
        self.place = place

    def _connect(self, name: bool = True) -> pymysql.connections.Connection[Any]:
        place = self.place
        with _own_errors(place):
            return pymysql.connect(
                host=place.host or "localhost", port=place.asked_port, unix_socket=place.socket or None, user=place.user,
                password=place.password, database=place.name if name else None, charset="utf8mb4", autocommit=True,
                local_infile=True, client_flag=CLIENT.MULTI_STATEMENTS, connect_timeout=10,
                # Results as they come: values are decoded by what the table says of them.
                use_unicode=False, conv={k: v for k, v in encoders.items() if isinstance(k, type)},
            )  # fmt: skip

    def _ask(self, sql: str) -> list[tuple[Any, ...]]:
        with contextlib.closing(self._connect()) as connection, _own_errors(self.place):
            return _query(connection)(sql)

    def exists(self) -> bool:
        try:
            self._connect().close()
        except UsageError:
            return False
        return True

    def version(self) -> str:
        return _text(self._ask("SELECT VERSION()")[0][0])

    def size(self) -> int:
        found = self._ask(
            "SELECT SUM(data_length + index_length) FROM information_schema.tables WHERE table_schema = DATABASE()"
        )
        return int(found[0][0] or 0)

    def files(self) -> Iterable[Path]:
        return ()

    def drop(self) -> None:
        with contextlib.closing(self._connect(name=False)) as server, _own_errors(self.place):
            _query(server)(f"DROP DATABASE IF EXISTS {quote(self.place.name)}")

    def lacking(self) -> list[str]:
        # Rights on everything or on this database; names of databases may hold wild cards, so underscores are escaped.
        ours = (" ON *.* ", f" ON {quote(self.place.name)}.")
        said = [_text(r[0]).replace("\\_", "_") for r in self._ask("SHOW GRANTS")]
        rights = " ".join(g.split(" ON ")[0] for g in said if any(where in g for where in ours)).upper()
        if "ALL PRIVILEGES" in rights:
            return []
        wanted = (("SELECT", "read tables"), ("SHOW VIEW", "see how views are defined"),
                  ("TRIGGER", "see triggers"), ("EVENT", "see events"))  # fmt: skip
        return [f"{words} (the right {right} is missing)" for right, words in wanted if right not in rights]

    @contextlib.contextmanager
    def reading(self) -> Iterator[DatabaseState]:
        reader = _Reader(self.place)
        try:
            with _own_errors(self.place):
                reader.connect()
                began = reader.begin()
                schema, marks = _read_schema(reader.query, began)
            yield _Snapshot(reader, schema, marks, self.place)
        finally:
            reader.close()

    @contextlib.contextmanager
    def writing(self) -> Iterator[DatabaseWriter]:
        try:
            connection = self._connect()
        except UsageError:
            with contextlib.closing(self._connect(name=False)) as server, _own_errors(self.place):
                _query(server)(f"CREATE DATABASE {quote(self.place.name)}")
            connection = self._connect()
        with contextlib.closing(connection):
            writer = _Writer(self, connection)
            with _own_errors(self.place):
                connection.begin()
            try:
                yield writer
                with _own_errors(self.place):
                    connection.commit()
            except BaseException:
                with contextlib.suppress(pymysql.err.MySQLError, OSError):
                    connection.rollback()
                raise


def _query(connection: pymysql.connections.Connection[Any]) -> Query:
    def run(sql: str) -> list[tuple[Any, ...]]:
        with connection.cursor() as cursor:
            cursor.execute(sql)
            return list(cursor.fetchall())

    return run


class _Reader:
    """A connection for reading in bulk. The driver is asynchronous; its loop runs for the time of each call."""

    def __init__(self, place: DatabasePlace) -> None:
        self._place = place
        self._loop = asyncio.new_event_loop()
        self._connection: Any = None

    def connect(self) -> None:
        place = self._place
        server = {"unix_socket": place.socket} if place.socket else {"host": place.host, "port": place.asked_port}
        self._connection = self._loop.run_until_complete(
            asyncmy.connect(
                user=place.user,
                password=place.password,
                database=place.name,
                charset="utf8mb4",
                use_unicode=False,
                conv={},
                connect_timeout=10,
                **server,
            )
        )

    def begin(self) -> int:
        """Start the transaction; returns the server's clock in whole seconds, taken before."""
        self.query("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        self.query("SET SESSION time_zone = '+00:00', sql_mode = '', net_write_timeout = 3600, net_read_timeout = 3600")
        # Servers that keep these figures for a day would hide changes.
        with contextlib.suppress(asyncmy.errors.MySQLError):
            self.query("SET SESSION information_schema_stats_expiry = 0")
        began = int(self.query("SELECT UNIX_TIMESTAMP()")[0][0])
        self.query("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
        return began

    def query(self, sql: str) -> list[tuple[Any, ...]]:
        async def run() -> list[tuple[Any, ...]]:
            async with self._connection.cursor() as cursor:
                await cursor.execute(sql)
                return list(await cursor.fetchall())

        return self._loop.run_until_complete(run())

    def stream(self, sql: str, count: Callable[[], int], make: Callable[[Rows], T]) -> Iterator[T]:
        """What ``make`` makes of the rows of a query, each time as many as ``count`` says then, as bytes or None."""
        run = self._loop.run_until_complete
        cursor = self._connection.cursor(asyncmy.cursors.SSCursor)
        try:
            run(cursor.execute(sql))
            while True:
                with no_cycle_search():  # a tuple for each row
                    batch = run(cursor.fetchmany(count()))
                    if not batch:
                        break
                    made = make(batch)
                    del batch
                yield made
        except (asyncmy.errors.MySQLError, OSError, asyncio.IncompleteReadError):
            raise  # to read the rest of the answer would only hide what went wrong
        except BaseException:
            run(cursor.close())
            raise
        run(cursor.close())

    def close(self) -> None:
        if self._connection is not None:
            self._connection.close()
            self._loop.run_until_complete(asyncio.sleep(0))
        self._loop.close()


class _Snapshot:
    """The state within one read transaction."""

    def __init__(self, reader: _Reader, schema: Schema, marks: dict[str, str], place: DatabasePlace) -> None:
        self._reader = reader
        self._marks = marks
        self._place = place
        self.schema = schema

    def rows(self, table: str) -> Iterator[Row]:
        return rows_of(self.schema.table(table), self.blocks(table))

    def blocks(self, table: str) -> Iterator[Block]:
        found = self.schema.table(table)
        if found is None:
            return
        order = ", ".join(quote(c) for c in found.key)
        if found.keyless:
            told = ", ".join(f"IFNULL(HEX({quote(c)}), '-')" for c in found.columns)
            order = f"MD5(CONCAT_WS('.', {told}))"
        columns = list(zip(found.columns, found.kinds, found.read_as, strict=True))
        chosen = ", ".join(_asked(*c) for c in columns)
        hexadecimal = [n for n, (_, _, how) in enumerate(columns) if how.startswith("hex")]
        at_once = _FIRST_ROWS

        def made(rows: Rows) -> Block:
            nonlocal at_once
            lines = _lines(rows, hexadecimal)
            # The next time as many as make a block of a fair size, going by these.
            at_once = max(1, min(_MOST_ROWS, 2 * at_once, _BLOCK_BYTES * len(rows) // len(lines)))
            return Block(lines)

        with _own_errors(self._place):
            query = f"SELECT {chosen} FROM {quote(table)} ORDER BY {order}"
            yield from self._reader.stream(query, lambda: at_once, made)

    def parts(self, table: str, count: int) -> Sequence[Callable[[], Iterator[Block]]]:
        return ()

    def mark(self, table: str) -> str | None:
        return self._marks.get(table)

    def unchanged_since(self, table: str, mark: str, rows: int) -> bool:
        return self._marks.get(table) == mark

    def chunk_ids(self, table: str) -> Sequence[str] | None:
        return None


_TOO_LARGE = (1153, 2006)
"""What a server answers to a packet beyond its limit; or it closes the connection at once."""


def _asked(column: str, kind: ColumnKind, how: str) -> str:
    """What a column's value is asked by."""
    name = quote(column)
    if how == "bit":
        return f"{name} + 0"
    if how.startswith("hex "):
        return f"CAST({name} AS BINARY)"
    return f"CAST({name} AS DOUBLE)" if how == "double" else name


_TAB_OR_END = re.compile(rb"[\t\n]")


def _lines(rows: Rows, hexadecimal: Sequence[int]) -> bytes:
    """Rows as lines of copy text; those of the columns ``hexadecimal`` as hexadecimal digits.

    Most rows have nothing that needs a backslash: that is found out over all of them at once. (Letting the server join a row's
    values costs it more than this does.)
    """
    if hexadecimal:
        rows = [_in_digits(row, hexadecimal) for row in rows]
    nulls = 0
    try:
        joined = list(map(b"\t".join, rows))  # type: ignore[arg-type]
    except TypeError:
        told = list(rows)
        for number, row in enumerate(rows):
            if None in row:
                nulls += row.count(None)
                told[number] = tuple([b"\\N" if v is None else v for v in row])
        joined = list(map(b"\t".join, told))  # type: ignore[arg-type]
    data = b"\n".join(joined) + b"\n"
    dividers = len(rows[0]) - 1
    if (
        (count_byte(data, b"\\") == nulls if nulls else b"\\" not in data)
        and count_byte(data, b"\t") == dividers * len(rows)
        and count_byte(data, b"\n") == len(rows)
    ):
        return data
    for number, line in enumerate(joined):
        row = rows[number]
        if line.count(b"\\") != row.count(None) or len(_TAB_OR_END.findall(line)) != dividers:
            joined[number] = b"\t".join([_escaped(v) for v in row])
    return b"\n".join(joined) + b"\n"


def _in_digits(row: tuple[bytes | None, ...], columns: Sequence[int]) -> tuple[bytes | None, ...]:
    values = list(row)
    for n in columns:
        value = values[n]
        if value is not None:
            values[n] = value.hex().upper().encode()
    return tuple(values)


def _escaped(value: bytes | None) -> bytes:
    if value is None:
        return b"\\N"
    return value.replace(b"\\", b"\\\\").replace(b"\t", b"\\t").replace(b"\n", b"\\n")


# -- the schema -----------------------------------------------------------------------------------------------


def _read_schema(query: Query, began: int = 0) -> tuple[Schema, dict[str, str]]:
    """The schema of the connection's database, and a mark for each table that has not changed just now."""
    version = _text(query("SELECT VERSION()")[0][0])
    user, database = (_text(v) for v in query("SELECT CURRENT_USER(), DATABASE()")[0])
    columns = _columns(query)
    keys = _keys(query, columns)
    tables: list[Table] = []
    objects: list[tuple[str, str, str]] = []
    not_kept: list[str] = []
    definers: dict[str, str] = {}
    counters: dict[str, list[Any]] = {}
    marks: dict[str, str] = {}

    def made(kind: str, name: str, ddl: Any, before: str = "") -> None:
        if ddl is None:
            not_kept.append(f"{kind} {name} (the right to see its definition is missing)")
            return
        text = _text(ddl)
        head, body = text[:2000], text[2000:]
        found = _DEFINER.search(head)
        if found is not None:
            if found[1].replace("`", "") != user:
                definers[f"{kind} {name}"] = found[1]
            head = head[: found.start()] + head[found.end() :]
        objects.append((kind, name, before + head + body))

    listed = query(
        "SELECT table_name, table_type, engine, auto_increment, UNIX_TIMESTAMP(update_time), UNIX_TIMESTAMP(create_time) "
        "FROM information_schema.tables WHERE table_schema = DATABASE() ORDER BY table_name"
    )
    views: list[str] = []
    for raw_name, raw_type, engine, counter, updated, created in listed:
        name, kind = _text(raw_name), _text(raw_type)
        if kind == "VIEW":
            views.append(name)
        elif kind == "SEQUENCE":
            made("sequence", name, query(f"SHOW CREATE TABLE {quote(name)}")[0][1])
            ddl = re.sub(r"^CREATE TABLE ", "CREATE SEQUENCE ", objects.pop()[2])
            objects.append(("sequence", name, _sequence_ddl(query, name, ddl)))
            counters[f"sequence {name}"] = [int(query(f"SELECT next_not_cached_value FROM {quote(name)}")[0][0])]
        elif kind in ("BASE TABLE", "SYSTEM VERSIONED"):
            ddl = _COUNTER.sub(r"\1", _text(query(f"SHOW CREATE TABLE {quote(name)}")[0][1]))
            ddl = ddl.replace(f"val({quote(database)}.`", "val(`")  # a default that counts on with a sequence
            if counter is not None:
                counters[f"table {name}"] = [int(counter)]
            tables.append(_table(name, ddl, columns[name], keys.get(name)))
            if kind == "SYSTEM VERSIONED":
                not_kept.append(f"earlier versions of the rows of table {name}")
            if _text(engine) not in _TRANSACTIONAL:
                not_kept.append(f"one instant for table {name}: its engine {_text(engine)} has no transactions")
            if updated is not None and float(updated) < began - _SETTLED_SECONDS:
                marks[name] = f"{_text(updated)} {_text(created)}"
    shown_views = {name: query(f"SHOW CREATE VIEW {quote(name)}")[0][1] for name in views}
    for name in _views_in_order({n: "" if d is None else _text(d) for n, d in shown_views.items()}):
        made("view", name, shown_views[name])
    for raw_name, raw_kind in query(
        "SELECT routine_name, routine_type FROM information_schema.routines WHERE routine_schema = DATABASE() "
        "ORDER BY routine_type, routine_name"
    ):
        name, kind = _text(raw_name), _text(raw_kind)
        if kind not in ("FUNCTION", "PROCEDURE"):
            not_kept.append(f"{kind.lower()} {name}")
            continue
        shown = query(f"SHOW CREATE {kind} {quote(name)}")[0]
        made(kind.lower(), name, shown[2], _session(shown[1], shown[4]))
    for (raw_name,) in query(
        "SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = DATABASE() "
        "ORDER BY event_object_table, action_timing, event_manipulation, action_order"
    ):
        shown = query(f"SHOW CREATE TRIGGER {quote(_text(raw_name))}")[0]
        made("trigger", _text(raw_name), shown[2], _session(shown[1], shown[4]))
    for (raw_name,) in query(
        "SELECT event_name FROM information_schema.events WHERE event_schema = DATABASE() ORDER BY event_name"
    ):
        shown = query(f"SHOW CREATE EVENT {quote(_text(raw_name))}")[0]
        made("event", _text(raw_name), shown[3], _session(shown[1], shown[5], shown[2]))
    charset, collation = query(
        "SELECT default_character_set_name, default_collation_name FROM information_schema.schemata "
        "WHERE schema_name = DATABASE()"
    )[0]
    settings: dict[str, Value] = {"charset": _text(charset), "collation": _text(collation)}
    if definers:
        settings["definers"] = json.dumps(definers, sort_keys=True)
        shown_accounts = ", ".join(sorted({d.replace("`", "") for d in definers.values()}))
        not_kept.append(f"the definer ({shown_accounts}) of views and routines, where that account does not exist")
    schema = Schema("mariadb", version, tuple(tables), tuple(objects), settings, tuple(not_kept), counters)
    return schema, marks


def _views_in_order(ddl: dict[str, str]) -> Iterator[str]:
    """Views so that one comes behind those that it is made of."""
    waiting = dict(ddl)
    while waiting:
        ready = [n for n, d in waiting.items() if not any(quote(o) in d for o in waiting if o != n)]
        for name in ready or list(waiting):
            yield name
            del waiting[name]


def _session(sql_mode: Any, collation: Any, time_zone: Any = None) -> str:
    """The settings under which a routine was made and runs, as a first line of its DDL."""
    zone = f", time_zone = {_literal(_text(time_zone))}" if time_zone is not None else ""
    return f"SET sql_mode = {_literal(_text(sql_mode))}, collation_connection = {_literal(_text(collation))}{zone};\n"


def _sequence_ddl(query: Query, name: str, ddl: str) -> str:
    shown = query(f"SHOW CREATE SEQUENCE {quote(name)}")
    return _text(shown[0][1]) if shown else ddl


def _columns(query: Query) -> dict[str, list[tuple[str, ColumnKind, str, bool]]]:
    """By table: each stored column's name, kind, way of reading, and whether it may be null."""
    found: dict[str, list[tuple[str, ColumnKind, str, bool]]] = {}
    for table, column, data_type, charset, extra, nullable in query(
        "SELECT table_name, column_name, data_type, character_set_name, extra, is_nullable FROM information_schema.columns "
        "WHERE table_schema = DATABASE() ORDER BY table_name, ordinal_position"
    ):
        listed = found.setdefault(_text(table), [])
        if "GENERATED" in _text(extra).replace("DEFAULT_GENERATED", ""):
            continue
        kind, how = _kind(_text(data_type).lower(), None if charset is None else _text(charset))
        listed.append((_text(column), kind, how, _text(nullable) == "YES"))
    return found


def _kind(data_type: str, charset: str | None) -> tuple[ColumnKind, str]:
    if data_type in _INTEGERS:
        return "int", ""
    if data_type == "bit":
        return "int", "bit"
    if data_type in ("float", "double"):
        return "float", "double" if data_type == "float" else ""
    if data_type in _BYTES:
        return "bytes", "hex"
    if charset is not None and charset not in _TEXT_SETS:
        return "bytes", f"hex {charset}"
    if charset is None:  # numbers and dates as text, and types of their own
        return "text", "" if data_type in _PLAIN_TEXT else "cast"
    return "text", "" if charset.startswith("utf8") or charset == "ascii" else "converted"


def _keys(query: Query, columns: dict[str, list[tuple[str, ColumnKind, str, bool]]]) -> dict[str, tuple[str, ...]]:
    """By table: the columns that tell rows apart, of the primary key or else of a unique one without nulls."""
    indexes: dict[str, dict[str, list[tuple[str, bool]]]] = {}
    for table, index, column, part in query(
        "SELECT table_name, index_name, column_name, sub_part FROM information_schema.statistics "
        "WHERE table_schema = DATABASE() AND non_unique = 0 AND index_type <> 'HASH' "
        "ORDER BY table_name, index_name = 'PRIMARY' DESC, index_name, seq_in_index"
    ):
        name = "" if column is None else _text(column)
        indexes.setdefault(_text(table), {}).setdefault(_text(index), []).append((name, part is None))
    found: dict[str, tuple[str, ...]] = {}
    for table_name, by_index in indexes.items():
        filled = {c for c, _, _, nullable in columns.get(table_name, ()) if not nullable}
        for parts in by_index.values():
            if all(whole and c in filled for c, whole in parts):
                found[table_name] = tuple(c for c, _ in parts)
                break
    return found


def _table(name: str, ddl: str, columns: list[tuple[str, ColumnKind, str, bool]], key: tuple[str, ...] | None) -> Table:
    key = key or tuple(c[0] for c in columns)
    order = sorted(columns, key=lambda c: key.index(c[0]) if c[0] in key else len(key))
    return Table(
        name, tuple(c[0] for c in order), key, ddl, kinds=tuple(c[1] for c in order), read_as=tuple(c[2] for c in order),
        row_format="copy",
    )  # fmt: skip


# -- writing --------------------------------------------------------------------------------------------------


class _Writer:
    """Writes within a transaction, but for definitions."""

    def __init__(self, database: MariadbDatabase, connection: pymysql.connections.Connection[Any]) -> None:
        self._database = database
        self._connection = connection
        self._place = database.place
        self._ways: dict[str, dict[str, str]] | None = None
        self._files: bool | None = None

    def _run(self, sql: str, values: Sequence[Any] | None = None) -> int:
        with self._connection.cursor() as cursor:
            return int(cursor.execute(sql, values))

    @contextlib.contextmanager
    def _bulk(self) -> Iterator[None]:
        """Rows as they were, whatever the server would say of them now."""
        self._run(
            "SET @harbor_mode = @@sql_mode, @harbor_zone = @@time_zone, @harbor_collation = @@collation_connection"
        )
        checks = ["foreign_key_checks", "unique_checks"]
        if "mariadb" in str(self._connection.get_server_info()).lower():
            checks.append("check_constraint_checks")
        off, on = (", ".join(f"{check} = {value}" for check in checks) for value in (0, 1))
        self._run(f"SET {off}, sql_mode = '{_BULK_MODE}', time_zone = '+00:00'")
        try:
            yield
        finally:
            with contextlib.suppress(pymysql.err.MySQLError, OSError):
                self._run(
                    f"SET {on}, sql_mode = @harbor_mode, time_zone = @harbor_zone, collation_connection = @harbor_collation"
                )

    def replace(self, state: DatabaseState) -> int:
        wanted = state.schema
        query = _query(self._connection)
        with _own_errors(self._place):
            present, _ = _read_schema(query)
            with self._bulk():
                redefined = self._redefine_begin(present, wanted)
                made_anew = {t.name for t in wanted.tables if present.table(t.name) != t}
                written = 0
                if present.tables and isinstance(state, StoredState):
                    triggers = [] if redefined else [o for o in present.objects if o[0] == "trigger"]
                    written += self._give_back_rows(state, triggers, made_anew, None)
                self._connection.begin()
                for table in wanted.tables:
                    if table.name in made_anew:
                        self.load(table, state.blocks(table.name))
                        written += state.tables[table.name].row_count if isinstance(state, StoredState) else 0
                self._connection.commit()
                self._finish(present, wanted, redefined)
        self._connection.begin()
        return written

    def put_rows(self, state: DatabaseState, tables: Collection[str]) -> int:
        assert isinstance(state, StoredState)
        with _own_errors(self._place):
            present, _ = _read_schema(_query(self._connection))
            refuse_other_definitions(present, state.schema, tables)
            with self._bulk():
                written = self._give_back_rows(state, [o for o in present.objects if o[0] == "trigger"], (), tables)
        self._connection.begin()
        return written

    def _give_back_rows(
        self,
        state: StoredState,
        triggers: Sequence[tuple[str, str, str]],
        leave: Iterable[str],
        only: Collection[str] | None,
    ) -> int:
        """Write the rows that differ, in one transaction, with no trigger acting on them."""
        with self._database.reading() as here:
            changes = list(differences(here, state, {*state.left_empty, *leave}, only))
        if not changes:
            return 0
        for _, name, _ in triggers:
            self._run(f"DROP TRIGGER {quote(name)}")
        self._connection.begin()
        written = sum(write_difference(table, apart, state, self) for table, apart in changes)
        self._connection.commit()
        self._make(triggers, {})
        return written

    def _redefine_begin(self, present: Schema, wanted: Schema) -> bool:
        """Drop what is not wanted, make what is missing; whether anything had to be."""
        same = present.definitions() == wanted.definitions() and present.tables == wanted.tables
        if not same:
            for kind in ("event", "trigger", "view", "procedure", "function"):
                for found, name, _ in present.objects:
                    if found == kind:
                        self._run(f"DROP {kind.upper()} IF EXISTS {quote(name)}")
            for table in present.tables:
                if wanted.table(table.name) != table:
                    self._run(f"DROP TABLE {quote(table.name)}")
            for found, name, ddl in present.objects:
                if found == "sequence" and (found, name, ddl) not in wanted.objects:
                    self._run(f"DROP SEQUENCE {quote(name)}")
            charset, collation = wanted.settings["charset"], wanted.settings["collation"]
            self._run(f"ALTER DATABASE {quote(self._place.name)} CHARACTER SET {charset!s} COLLATE {collation!s}")
            self._make([o for o in wanted.objects if o[0] == "sequence" and o not in present.objects], {})
            # A column's default may call a function.
            self._make([o for o in wanted.objects if o[0] == "function"], self._definers(wanted))
            for table in wanted.tables:
                if present.table(table.name) != table:
                    self._run(table.ddl)
        return not same

    def _finish(self, present: Schema, wanted: Schema, redefined: bool) -> None:
        if redefined:
            later = [o for o in wanted.objects if o[0] not in ("sequence", "function")]
            self._make(later, self._definers(wanted))
        for what, (value,) in wanted.counters.items():
            kind, _, name = what.partition(" ")
            now = present.counters.get(what, [0])[0]
            # Numbers that visitors have seen are not given out again, so a counter that is there never goes back.
            if kind == "sequence" and value > now:
                self._run(f"SELECT SETVAL({quote(name)}, {int(value)}, 0)")
            elif kind == "table" and (present.table(name) != wanted.table(name) or value > now):
                self._run(f"ALTER TABLE {quote(name)} AUTO_INCREMENT = {int(value)}")

    def _definers(self, wanted: Schema) -> dict[str, str]:
        """The definers that exist here and that this user may name."""
        said: dict[str, str] = json.loads(str(wanted.settings.get("definers") or "{}"))
        if not said:
            return {}
        try:
            accounts = {
                f"{_text(u)}@{_text(h)}" for u, h in _query(self._connection)("SELECT user, host FROM mysql.user")
            }
        except pymysql.err.MySQLError:
            return {}
        return {what: account for what, account in said.items() if account.replace("`", "") in accounts}

    def _make(self, objects: Sequence[tuple[str, str, str]], definers: dict[str, str]) -> None:
        """Make objects, trying again those that need another one which is not there yet."""
        waiting = list(objects)
        while waiting:
            failed: list[tuple[tuple[str, str, str], Exception]] = []
            for made in waiting:
                kind, name, ddl = made
                before, create = ddl.split("\n", 1) if ddl.startswith("SET ") else ("", ddl)
                account = definers.get(f"{kind} {name}")
                if account is not None:
                    create = create.replace("CREATE", f"CREATE DEFINER={account}", 1)
                    if kind == "view":  # the definer's place is behind the algorithm
                        create = re.sub(r"^CREATE DEFINER=\S+ (ALGORITHM=\S+)", rf"CREATE \1 DEFINER={account}", create)
                try:
                    if before:
                        self._run(before.rstrip(";"))
                    self._run(create)
                except (pymysql.err.ProgrammingError, pymysql.err.OperationalError) as error:
                    failed.append((made, error))
                finally:
                    if before:
                        self._run(
                            f"SET sql_mode = '{_BULK_MODE}', collation_connection = @harbor_collation, time_zone = '+00:00'"
                        )
            if len(failed) == len(waiting):
                (kind, name, _), refusal = failed[0]
                words = f"{kind} {name} cannot be made: {refusal.args[-1]}"
                raise KeenHarborError(words, where=str(self._place)) from refusal
            waiting = [made for made, _ in failed]

    def clear(self, table: Table) -> None:
        self._run(f"DELETE FROM {quote(table.name)}")

    def remove(self, table: Table, keys: Sequence[Row]) -> None:
        condition = " AND ".join(f"{quote(c)} <=> {_holder(table.read_as[table.columns.index(c)])}" for c in table.key)
        with self._connection.cursor() as cursor:
            for key in keys:
                cursor.execute(f"DELETE FROM {quote(table.name)} WHERE {condition}", key)

    def load_rows(self, table: Table, rows: Sequence[Row]) -> None:
        if rows:
            self.load(table, [Block(encode_copy(table, rows))])

    def load(self, table: Table, blocks: Iterable[Block]) -> None:
        columns, assigned = [], []
        # With one column assigned, numbers must be so too: otherwise the server counts on where a 0 was to be stored.
        some = any(how == "bit" or how.startswith("hex") for how in table.read_as)
        for number, (column, kind, how) in enumerate(zip(table.columns, table.kinds, table.read_as, strict=True)):
            variable = f"@harbor_{number}"
            charset = how.removeprefix("hex").strip()
            if how == "bit":
                value = f"CAST({variable} AS UNSIGNED)"
            elif how.startswith("hex"):
                value = f"CONVERT(UNHEX({variable}) USING {charset})" if charset else f"UNHEX({variable})"
            elif some and kind == "int":
                value = variable
            else:
                columns.append(quote(column))
                continue
            columns.append(variable)
            assigned.append(f"{quote(column)} = {value}")
        end = f" SET {', '.join(assigned)}" if assigned else ""
        if not self._takes_files():
            self._load_slowly(table, blocks)
            return
        with _as_file(blocks) as name:
            self._run(
                f"LOAD DATA LOCAL INFILE '{name}' INTO TABLE {quote(table.name)} CHARACTER SET utf8mb4 "
                f"FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' ({', '.join(columns)}){end}"
            )

    def _takes_files(self) -> bool:
        if self._files is None:
            self._files = int(_query(self._connection)("SELECT @@local_infile")[0][0]) == 1
        return self._files

    def _load_slowly(self, table: Table, blocks: Iterable[Block]) -> None:
        """By INSERT, for a server that does not take files."""
        names = ", ".join(quote(c) for c in table.columns).replace("%", "%%")
        holders = ", ".join(_holder(how) for how in table.read_as)
        for block in blocks:
            with self._connection.cursor() as cursor:
                try:
                    cursor.executemany(
                        f"INSERT INTO {quote(table.name).replace('%', '%%')} ({names}) VALUES ({holders})",
                        list(decode_copy(table, block.lines)),
                    )
                except pymysql.err.OperationalError as error:
                    if error.args[0] not in _TOO_LARGE:
                        raise
                    raise KeenHarborError(
                        f"a row of table {table.name} is larger than the server takes in one statement, or the server went away",
                        where=str(self._place), advice="set local_infile = ON on the server, or a larger max_allowed_packet",
                    ) from error  # fmt: skip

    def _way(self, table: str, column: str) -> str:
        if self._ways is None:
            self._ways = {
                name: {c: how for c, _, how, _ in listed} for name, listed in _columns(_query(self._connection)).items()
            }
        return self._ways.get(table, {}).get(column, "")

    def insert(self, table: str, columns: Sequence[str], row: Sequence[Value]) -> str | None:
        names = ", ".join(quote(c) for c in columns).replace("%", "%%")
        holders = ", ".join(_holder(self._way(table, c)) for c in columns)
        try:
            self._run(f"INSERT INTO {quote(table).replace('%', '%%')} ({names}) VALUES ({holders})", row)
        except (pymysql.err.IntegrityError, pymysql.err.DataError) as error:
            return str(error.args[-1])
        except pymysql.err.OperationalError as error:
            if error.args[0] in _CHECK_FAILED:
                return str(error.args[-1])
            raise _refused(error, self._place) from error
        except pymysql.err.MySQLError as error:
            raise _refused(error, self._place) from error
        return None

    def update(self, table: str, key: dict[str, Value], values: dict[str, Value]) -> int:
        assignments = ", ".join(f"{quote(c).replace('%', '%%')} = {_holder(self._way(table, c))}" for c in values)
        condition = " AND ".join(f"{quote(c).replace('%', '%%')} <=> {_holder(self._way(table, c))}" for c in key)
        with _own_errors(self._place):
            return self._run(
                f"UPDATE {quote(table).replace('%', '%%')} SET {assignments} WHERE {condition}",
                [*values.values(), *key.values()],
            )

    def script(self, sql: str) -> int:
        changed = 0
        with _own_errors(self._place), self._connection.cursor() as cursor:
            cursor.execute(sql)
            while True:
                changed += max(cursor.rowcount, 0) if cursor.description is None else 0
                if not cursor.nextset():
                    return changed


def _holder(how: str) -> str:
    charset = how.removeprefix("hex").strip() if how.startswith("hex ") else ""
    return f"CONVERT(%s USING {charset})" if charset else "%s"


@contextlib.contextmanager
def _as_file(blocks: Iterable[Block]) -> Iterator[str]:
    """Blocks as a file that a driver can open by name, filled by a thread while it is read."""
    reading, writing = os.pipe()
    trouble: list[BaseException] = []

    def fill() -> None:
        try:
            with os.fdopen(writing, "wb", buffering=0) as out:
                for block in blocks:
                    view = memoryview(block.lines)
                    while view:
                        view = view[out.write(view) :]
        except BrokenPipeError:
            pass
        except BaseException as error:  # told of by the thread that waits for it
            trouble.append(error)

    thread = threading.Thread(target=fill, daemon=True)
    thread.start()
    try:
        yield f"/dev/fd/{reading}"
    finally:
        os.close(reading)
        thread.join()
        if trouble:
            raise trouble[0]


# -- as text --------------------------------------------------------------------------------------------------


def sql_text(state: StoredState) -> Iterator[bytes]:
    """The database as SQL for its own client, for an empty one."""
    schema = state.schema
    yield (
        "SET NAMES utf8mb4;\nSET time_zone = '+00:00', foreign_key_checks = 0, unique_checks = 0;\n"
        f"SET sql_mode = '{_BULK_MODE}';\nSET @usual_collation = @@collation_connection;\n"
    ).encode()
    for kind, name, ddl in schema.objects:
        if kind in ("sequence", "function"):
            yield _object_text(kind, name, ddl)
    for table in schema.tables:
        yield f"{table.ddl};\n".encode("utf-8", "surrogateescape")
    for table in schema.tables:
        columns = ", ".join(quote(c) for c in table.columns)
        head = f"INSERT INTO {quote(table.name)} ({columns}) VALUES\n"
        yield from insert_statements(head, _rows_text(state, table))
    for what, (value, *_) in schema.counters.items():
        kind, _, name = what.partition(" ")
        if kind == "sequence":
            yield f"SELECT SETVAL({quote(name)}, {int(value)}, 0);\n".encode()
        else:
            yield f"ALTER TABLE {quote(name)} AUTO_INCREMENT = {int(value)};\n".encode()
    for kind, name, ddl in schema.objects:
        if kind not in ("sequence", "function"):
            yield _object_text(kind, name, ddl)
    yield b"SET foreign_key_checks = 1, unique_checks = 1;\n"


def _object_text(kind: str, name: str, ddl: str) -> bytes:
    if not ddl.startswith("SET "):
        return f"{ddl};\n".encode("utf-8", "surrogateescape")
    before, create = ddl.split("\n", 1)
    after = f"SET sql_mode = '{_BULK_MODE}', collation_connection = @usual_collation, time_zone = '+00:00';"
    return f"{before}\nDELIMITER $$\n{create}$$\nDELIMITER ;\n{after}\n".encode("utf-8", "surrogateescape")


def _rows_text(state: StoredState, table: Table) -> Iterator[str]:
    kinds = list(zip(table.kinds, table.read_as, strict=True))
    for block in state.blocks(table.name):
        for line in block.lines[:-1].decode("utf-8", "surrogateescape").split("\n"):
            yield (
                "(" + ", ".join(_value_text(f, k, a) for f, (k, a) in zip(line.split("\t"), kinds, strict=True)) + ")"
            )


def _value_text(field: str, kind: str, how: str) -> str:
    if field == "\\N":
        return "NULL"
    if kind == "bytes":
        charset = how.removeprefix("hex").strip()
        value = f"0x{field}" if field else "''"
        return f"CONVERT({value} USING {charset})" if charset else value
    if kind in ("int", "float"):
        return field
    # The stored text has the backslashes that a literal wants.
    return "'" + field.replace("'", "\\'").replace("\r", "\\r").replace("\x00", "\\0") + "'"
