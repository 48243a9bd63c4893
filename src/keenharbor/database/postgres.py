"""PostgreSQL.

Rows are read by COPY in one REPEATABLE READ transaction, which keeps no writer out, and restored by COPY; all DDL belongs to
the transaction, so that a restore is there as a whole or not at all. Definitions come from the server's own functions
(https://www.postgresql.org/docs/current/functions-info.html), qualified throughout by an empty search path.
"""

from __future__ import annotations

import contextlib
import itertools
import json
import re
import select
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import Any, LiteralString

import psycopg
from psycopg import errors, sql
from psycopg.pq import ExecStatus
from psycopg.pq.abc import PGconn

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.memory import no_cycle_search
from keenharbor.database.giveback import differences, refuse_other_definitions, write_difference
from keenharbor.database.lines import encode_copy
from keenharbor.database.protocol import (
    Block,
    ColumnKind,
    DatabasePlace,
    DatabaseState,
    DatabaseWriter,
    NotSharedError,
    Row,
    Schema,
    Table,
    Value,
)
from keenharbor.database.ranges import dividing_keys
from keenharbor.database.rows import StoredState, rows_of
from keenharbor.database.words import double_quoted as quote
from keenharbor.database.words import no_answer, no_database, refused, user_refused

Connection = psycopg.Connection[tuple[Any, ...]]
_BLOCK_BYTES = 512 * 1024
_WORTH_DIVIDING = 16 * 1024 * 1024
"""Bytes of a table from which on several processes read it."""
_SAMPLED_PAGES = 300
"""Pages of a table whose keys say where it is divided."""
_OLDEST_XID = 1_000_000_000
"""So many transactions back the age of a row still tells (ages wrap around at two thousand million)."""
_KINDS: dict[str, ColumnKind] = {
    "int2": "int", "int4": "int", "int8": "int", "oid": "int", "float4": "float", "float8": "float", "bool": "bool",
    "bytea": "bytes",
}  # fmt: skip
_NO_EQUALITY = {"json", "xml", "point", "box", "polygon", "path", "line", "lseg", "circle"}
_BEFORE = ("schema", "extension", "collation", "type", "sequence", "function")
_SESSION = (
    "SET TimeZone = 'UTC'; SET DateStyle = 'ISO'; SET IntervalStyle = 'postgres'; SET extra_float_digits = 1; "
    "SET bytea_output = 'hex'; SET search_path = ''; SET row_security = off; SET statement_timeout = 0; "
    "SET lock_timeout = 0; SET idle_in_transaction_session_timeout = 0; SET check_function_bodies = off; "
    "SET client_min_messages = warning"
)
_OURS = """
  n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND NOT EXISTS (
    SELECT 1 FROM pg_depend d WHERE d.classid = {catalog}::regclass AND d.objid = {oid} AND d.deptype = 'e')
"""


def _literal(text: str) -> str:
    escaped = text.replace("'", "''")
    return f"E'{escaped}'".replace("\\", "\\\\") if "\\" in text else f"'{escaped}'"


def _qualified(table: Table) -> str:
    bare = table.bare_name[1:-1] if table.bare_name.startswith('"') else table.bare_name
    return f"{quote(table.namespace or 'public')}.{quote(bare)}"


def _name_of(namespace: str, name: str) -> tuple[str, str]:
    """A table's name as the tool shows it, and its namespace where that is not the usual one."""
    shown = f'"{name}"' if "." in name or name.startswith('"') else name
    return (shown, "") if namespace == "public" else (f"{namespace}.{shown}", namespace)


def _ours(catalog: str, oid: str) -> str:
    return _OURS.format(catalog=f"'{catalog}'", oid=oid)


def _refused(error: psycopg.Error, place: DatabasePlace) -> KeenHarborError:
    words = (error.diag.message_primary or str(error)).strip()
    if isinstance(error, errors.InvalidCatalogName) or f'database "{place.name}" does not exist' in words:
        return no_database(place)
    if "authentication" in words or "no password supplied" in words or 'role "' in words:
        return user_refused(place, words)
    if isinstance(error, psycopg.OperationalError) and not error.sqlstate:
        return no_answer(place, words)
    return refused(place, words)


@contextlib.contextmanager
def _own_errors(place: DatabasePlace) -> Iterator[None]:
    try:
        yield
    except psycopg.Error as error:
        raise _refused(error, place) from error


def _literally(text: str) -> LiteralString:
    """SQL that is put together here, of quoted names, for a driver that wants to be told so."""
    return text


def run_statement(
    connection: Connection, text: str, values: Sequence[Any] | None = None
) -> psycopg.Cursor[tuple[Any, ...]]:
    """Run one statement."""
    return connection.execute(_literally(text), values)


class PostgresDatabase:
    """A database on a PostgreSQL server."""

    def __init__(self, place: DatabasePlace) -> None:
        self.place = place

    def connect(self, name: str | None = None) -> Connection:
        """A connection outside any transaction."""
        place = self.place
        socket = Path(place.socket) if place.socket else None
        port = place.asked_port
        if socket is not None and socket.name.startswith(".s.PGSQL."):
            socket, port = socket.parent, int(socket.name.rpartition(".")[2])
        with _own_errors(place):
            connection = psycopg.connect(
                host=str(socket) if socket is not None else place.host, port=port, dbname=name or place.name,
                user=place.user or None, password=place.password or None, connect_timeout=10, autocommit=True,
                client_encoding="UTF8", application_name="keenharbor",
            )  # fmt: skip
            run_statement(connection, _SESSION)
            return connection

    def exists(self) -> bool:
        try:
            self.connect().close()
        except UsageError:
            return False
        return True

    def _ask(self, text: str) -> Any:
        with contextlib.closing(self.connect()) as connection, _own_errors(self.place):
            row = run_statement(connection, text).fetchone()
            return row[0] if row else None

    def version(self) -> str:
        return str(self._ask("SHOW server_version")).split()[0]

    def size(self) -> int:
        return int(self._ask("SELECT pg_database_size(current_database())"))

    def files(self) -> Iterable[Path]:
        return ()

    def drop(self) -> None:
        with contextlib.closing(self.connect("postgres")) as server, _own_errors(self.place):
            run_statement(server, f"DROP DATABASE IF EXISTS {quote(self.place.name)} WITH (FORCE)")

    def lacking(self) -> list[str]:
        with contextlib.closing(self.connect()) as connection, _own_errors(self.place):
            found = run_statement(
                connection,
                "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
                f"WHERE c.relkind IN ('r', 'p', 'S', 'm') AND {_ours('pg_class', 'c.oid')} "
                "AND NOT has_table_privilege(c.oid, 'SELECT') ORDER BY 1",
            ).fetchall()
        return [f"read {name} (the right SELECT is missing)" for (name,) in found]

    @contextlib.contextmanager
    def reading(self) -> Iterator[DatabaseState]:
        with contextlib.closing(self.connect()) as connection:
            with _own_errors(self.place):
                run_statement(connection, "BEGIN ISOLATION LEVEL REPEATABLE READ, READ ONLY")
                schema = _SchemaReader(connection).read()
            yield _Snapshot(connection, schema, self.place)

    @contextlib.contextmanager
    def writing(self) -> Iterator[DatabaseWriter]:
        try:
            connection = self.connect()
        except UsageError:
            with contextlib.closing(self.connect("postgres")) as server, _own_errors(self.place):
                run_statement(server, f"CREATE DATABASE {quote(self.place.name)} TEMPLATE template0 ENCODING 'UTF8'")
            connection = self.connect()
        with contextlib.closing(connection):
            with _own_errors(self.place):
                run_statement(connection, "BEGIN")
            try:
                yield _Writer(connection, self.place)
                with _own_errors(self.place):
                    run_statement(connection, "COMMIT")
            except BaseException:
                with contextlib.suppress(psycopg.Error):
                    run_statement(connection, "ROLLBACK")
                raise


def copy_out(connection: Connection, statement: str, *, alone: bool = False) -> Iterator[bytes]:
    """What a COPY TO STDOUT sends, whole lines, in pieces of about `_BLOCK_BYTES`.

    Row by row from the driver's lowest layer (https://www.postgresql.org/docs/current/libpq-copy.html): what the layers
    above it do for each row takes three times as long as the server. In a process that is ``alone`` (without other threads, and
    that nobody interrupts), the driver itself waits for what comes, which takes less.
    """
    wire = connection.pgconn
    started = wire.exec_(statement.encode())
    if started.status != ExecStatus.COPY_OUT:
        raise errors.error_from_result(started)
    ended = False
    try:
        while not ended:
            block, ended = _next_lines(wire, alone)
            if block:
                yield block
    finally:
        if not ended:
            with contextlib.suppress(psycopg.Error):
                wire.get_cancel().cancel()
                while wire.get_copy_data(0)[0] > 0:
                    pass
        refusal = None
        while (result := wire.get_result()) is not None:
            if result.status == ExecStatus.FATAL_ERROR:
                refusal = errors.error_from_result(result)
        if refusal is not None and ended:
            raise refusal


def _next_lines(wire: PGconn, alone: bool) -> tuple[bytes, bool]:
    """Lines that come, about `_BLOCK_BYTES` of them, and whether they were the last."""
    parts: list[Any] = []
    size, count = 0, 0
    take, add = wire.get_copy_data, parts.append
    at_once = 0 if alone else 1
    with no_cycle_search():  # a view for each line
        while size < _BLOCK_BYTES:
            count, line = take(at_once)
            if count > 0:
                add(line)
                size += count
            elif count == 0:  # nothing has come yet: other threads may run
                select.select([wire.socket], [], [])
                wire.consume_input()
            else:
                break
        lines = b"".join(parts)
        parts.clear()
    return lines, count < 0


class _Snapshot:
    """The state within one transaction."""

    def __init__(self, connection: Connection, schema: Schema, place: DatabasePlace) -> None:
        self._connection = connection
        self._place = place
        self._marks: dict[str, str] | None = None
        self._exported: str | None = None
        self.schema = schema

    def rows(self, table: str) -> Iterator[Row]:
        return rows_of(self.schema.table(table), self.blocks(table))

    def blocks(self, table: str) -> Iterator[Block]:
        found = self.schema.table(table)
        return self._range(self._connection, found) if found is not None and found.columns else iter(())

    def _range(
        self, connection: Connection, table: Table, condition: str = "true", *, alone: bool = False
    ) -> Iterator[Block]:
        chosen = ", ".join(quote(c) for c in table.columns)
        ordered = [
            quote(c) + (' COLLATE pg_catalog."C"' if how == "collated" else "")
            for c, how in zip(table.columns, table.read_as, strict=True)
            if c in table.key
        ]
        order = f"md5(CAST(ROW({chosen}) AS text))" if table.keyless else ", ".join(ordered)
        wanted = f"SELECT {chosen} FROM ONLY {_qualified(table)} WHERE {condition} ORDER BY {order}"
        with _own_errors(self._place):
            for lines in copy_out(connection, f"COPY ({wanted}) TO STDOUT", alone=alone):
                yield Block(lines)

    def parts(self, table: str, count: int) -> Sequence[Callable[[], Iterator[Block]]]:
        """Ranges of the key, where it is of whole numbers, by other transactions that take over this one's snapshot
        (https://www.postgresql.org/docs/current/functions-admin.html#FUNCTIONS-SNAPSHOT-SYNCHRONIZATION)."""
        found = self.schema.table(table)
        if count < 2 or found is None or found.keyless or set(found.kinds[: len(found.key)]) != {"int"}:
            return ()
        name, key = _qualified(found), ", ".join(map(quote, found.key))
        with _own_errors(self._place):
            size, pages = run_statement(
                self._connection,
                "SELECT pg_table_size(t), pg_relation_size(t) / current_setting('block_size')::int "
                f"FROM CAST({_literal(name)} AS regclass) t",
            ).fetchone() or (0, 0)
            if size < _WORTH_DIVIDING:
                return ()
            some = f"TABLESAMPLE SYSTEM ({100 * min(1.0, _SAMPLED_PAGES / max(pages, 1))}) REPEATABLE (1)"
            sample = b"".join(
                copy_out(self._connection, f"COPY (SELECT {key} FROM ONLY {name} {some} ORDER BY {key}) TO STDOUT")
            )
            ends = dividing_keys(found, sample, count)
            if ends and self._exported is None:
                exported = run_statement(self._connection, "SELECT pg_export_snapshot()").fetchone()
                self._exported = str(exported[0]) if exported is not None else None
        above = [f"({key}) > ({', '.join(map(str, end))})" for end in ends]
        upto = [f"({key}) <= ({', '.join(map(str, end))})" for end in ends]
        conditions = [" AND ".join(c) for c in itertools.zip_longest(upto, ["true", *above], fillvalue="true")]
        return [partial(self._part, found, c) for c in conditions] if ends else ()

    def _part(self, table: Table, condition: str) -> Iterator[Block]:
        """A range of the rows, in a process that must not use this one's connection."""
        try:
            connection = PostgresDatabase(self._place).connect()
            with _own_errors(self._place):
                run_statement(connection, "BEGIN ISOLATION LEVEL REPEATABLE READ, READ ONLY")
                run_statement(connection, f"SET TRANSACTION SNAPSHOT {_literal(str(self._exported))}")
        except KeenHarborError as error:
            raise NotSharedError(error.what, where=error.where) from error
        with contextlib.closing(connection):
            yield from self._range(connection, table, condition, alone=True)

    def mark(self, table: str) -> str | None:
        """Where the table's rows are kept, and the transaction before which all of them were written that are seen here."""
        if self._marks is None:
            self._marks = {}
            with _own_errors(self._place):
                found = run_statement(
                    self._connection,
                    "SELECT n.nspname, c.relname, concat_ws('.', s.system_identifier, d.oid, c.oid, c.relfilenode), "
                    "txid_snapshot_xmin(txid_current_snapshot()) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace, "
                    "pg_control_system() s, pg_database d WHERE d.datname = current_database() AND c.relkind = 'r'",
                ).fetchall()
            for namespace, name, place, oldest in found:
                self._marks[_name_of(namespace, name)[0]] = f"{place}:{oldest}"
        return self._marks.get(table)

    def unchanged_since(self, table: str, mark: str, rows: int) -> bool:
        """Whether every row seen here was written before the mark's transaction, and none of those is gone.

        A row that is seen now and was written before it was seen then; so, when they are as many, they are the same.
        """
        now, found = self.mark(table), self.schema.table(table)
        if now is None or found is None or now.partition(":")[0] != mark.partition(":")[0]:
            return False
        then = int(mark.partition(":")[2])
        if int(now.partition(":")[2]) - then > _OLDEST_XID:
            return False
        with _own_errors(self._place):
            counted = run_statement(
                self._connection,
                f"SELECT count(*), count(*) FILTER (WHERE age(xmin) > age('{then % 2**32}'::xid)) FROM ONLY {_qualified(found)}",
            ).fetchone()
        return counted == (rows, rows)

    def chunk_ids(self, table: str) -> Sequence[str] | None:
        return None


# -- the schema -----------------------------------------------------------------------------------------------


class _SchemaReader:
    """Reads everything that is defined in a database; what it cannot give back it names."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._objects: list[tuple[str, str, str]] = []
        self._not_kept: list[str] = []
        self._owners: dict[str, str] = {}
        self._rights: list[tuple[str, str]] = []
        self._counters: dict[str, list[Any]] = {}
        self._identity: dict[str, str] = {}
        """By column: the options of the sequence behind an identity column."""
        self._later: list[tuple[str, str, str]] = []
        """Objects that need the tables."""

    def _rows(self, text: str) -> list[tuple[Any, ...]]:
        return run_statement(self._connection, text).fetchall()

    def _add(self, kind: str, name: str, ddl: str) -> None:
        self._objects.append((kind, name, ddl.rstrip().rstrip(";")))

    def read(self) -> Schema:
        version = str(self._connection.info.parameter_status("server_version")).split()[0]
        self._namespaces()
        self._types()
        self._sequences()
        self._functions()
        tables = self._tables()
        self._constraints_and_indexes()
        self._views()
        self._triggers()
        self._comments()
        self._owners_and_rights()
        self._what_is_not_kept()
        settings: dict[str, Value] = {
            "encoding": str(self._connection.info.parameter_status("server_encoding")),
            "owners": json.dumps(self._owners, sort_keys=True),
            "rights": json.dumps(self._rights),
            "options": json.dumps([o for (o,) in self._rows(
                "SELECT unnest(setconfig) FROM pg_db_role_setting r JOIN pg_database d ON d.oid = r.setdatabase "
                "WHERE d.datname = current_database() AND r.setrole = 0 ORDER BY 1"
            )]),
        }  # fmt: skip
        return Schema(
            "postgres", version, tuple(tables), tuple(self._objects), settings, tuple(self._not_kept), self._counters
        )

    def _namespaces(self) -> None:
        for (name,) in self._rows(
            f"SELECT n.nspname FROM pg_namespace n WHERE n.nspname <> 'public' AND {_ours('pg_namespace', 'n.oid')} ORDER BY 1"
        ):
            self._add("schema", name, f"CREATE SCHEMA {quote(name)}")
        for name, namespace in self._rows(
            "SELECT e.extname, n.nspname FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace "
            "WHERE e.extname <> 'plpgsql' ORDER BY e.oid"
        ):
            where = "" if namespace == "pg_catalog" else f" SCHEMA {quote(namespace)}"
            self._add("extension", name, f"CREATE EXTENSION IF NOT EXISTS {quote(name)}{where}")

    def _types(self) -> None:
        for namespace, name, provider, collate, deterministic in self._rows(
            "SELECT n.nspname, c.collname, c.collprovider::text, to_jsonb(c), c.collisdeterministic FROM pg_collation c "
            f"JOIN pg_namespace n ON n.oid = c.collnamespace WHERE {_ours('pg_collation', 'c.oid')} ORDER BY c.oid"
        ):
            full = f"{quote(namespace)}.{quote(name)}"
            locale = collate.get("colliculocale") or collate.get("colllocale") or collate.get("collcollate")
            word = {"i": "icu", "c": "libc"}.get(provider, "libc")
            options = f"provider = {word}, locale = {_literal(locale)}, deterministic = {str(deterministic).lower()}"
            self._add("collation", full, f"CREATE COLLATION {full} ({options})")
        for oid, full, kind in self._rows(
            "SELECT t.oid, format('%I.%I', n.nspname, t.typname), t.typtype::text FROM pg_type t "
            "JOIN pg_namespace n ON n.oid = t.typnamespace LEFT JOIN pg_class c ON c.oid = t.typrelid "
            f"WHERE (t.typtype IN ('e', 'd', 'r') OR (t.typtype = 'c' AND c.relkind = 'c')) AND {_ours('pg_type', 't.oid')} "
            "ORDER BY t.oid"
        ):
            self._add("type", full, getattr(self, f"_type_{kind}")(oid, full))
        for (full,) in self._rows(
            "SELECT format_type(t.oid, NULL) FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace "
            f"WHERE t.typtype = 'b' AND t.typcategory <> 'A' AND {_ours('pg_type', 't.oid')}"
        ):
            self._not_kept.append(f"base type {full}")

    def _type_e(self, oid: int, full: str) -> str:
        labels = self._rows(f"SELECT enumlabel FROM pg_enum WHERE enumtypid = {oid} ORDER BY enumsortorder")
        return f"CREATE TYPE {full} AS ENUM ({', '.join(_literal(label) for (label,) in labels)})"

    def _type_c(self, oid: int, full: str) -> str:
        parts = self._rows(
            "SELECT format('%I %s', a.attname, format_type(a.atttypid, a.atttypmod)) FROM pg_attribute a "
            f"JOIN pg_type t ON t.typrelid = a.attrelid WHERE t.oid = {oid} AND a.attnum > 0 AND NOT a.attisdropped "
            "ORDER BY a.attnum"
        )
        return f"CREATE TYPE {full} AS ({', '.join(p for (p,) in parts)})"

    def _type_d(self, oid: int, full: str) -> str:
        base, collation, needed, default = self._rows(
            "SELECT format_type(t.typbasetype, t.typtypmod), CASE WHEN t.typcollation <> b.typcollation THEN "
            "(SELECT format(' COLLATE %I.%I', n.nspname, c.collname) FROM pg_collation c JOIN pg_namespace n "
            "ON n.oid = c.collnamespace WHERE c.oid = t.typcollation) END, t.typnotnull, t.typdefault "
            f"FROM pg_type t JOIN pg_type b ON b.oid = t.typbasetype WHERE t.oid = {oid}"
        )[0]
        checks = self._rows(
            "SELECT format(' CONSTRAINT %I %s', conname, pg_get_constraintdef(oid)) FROM pg_constraint "
            f"WHERE contypid = {oid} AND contype = 'c' ORDER BY conname"
        )
        more = (f" DEFAULT {default}" if default is not None else "") + (" NOT NULL" if needed else "")
        return f"CREATE DOMAIN {full} AS {base}{collation or ''}{more}{''.join(c for (c,) in checks)}"

    def _type_r(self, oid: int, full: str) -> str:
        subtype, multirange = self._rows(
            "SELECT format_type(r.rngsubtype, NULL), to_jsonb(r) ->> 'rngmultitypid' FROM pg_range r "
            f"WHERE r.rngtypid = {oid}"
        )[0]
        more = ""
        if multirange:
            named = self._rows(
                f"SELECT format('%I.%I', n.nspname, t.typname) FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace "
                f"WHERE t.oid = {multirange}"
            )[0][0]
            more = f", MULTIRANGE_TYPE_NAME = {named}"
        return f"CREATE TYPE {full} AS RANGE (SUBTYPE = {subtype}{more})"

    def _sequences(self) -> None:
        for full, kind, start, step, least, most, cache, cycle, owner, identity in self._rows(
            "SELECT format('%I.%I', n.nspname, c.relname), format_type(s.seqtypid, NULL), s.seqstart, s.seqincrement, "
            "s.seqmin, s.seqmax, s.seqcache, s.seqcycle, (SELECT format('%I.%I.%I', tn.nspname, t.relname, a.attname) "
            "FROM pg_depend d JOIN pg_class t ON t.oid = d.refobjid JOIN pg_namespace tn ON tn.oid = t.relnamespace "
            "JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = d.refobjsubid WHERE d.classid = 'pg_class'::regclass "
            "AND d.objid = c.oid AND d.deptype IN ('a', 'i') AND d.refclassid = 'pg_class'::regclass AND d.refobjsubid > 0), "
            "EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.deptype = 'i') "
            "FROM pg_sequence s JOIN pg_class c ON c.oid = s.seqrelid JOIN pg_namespace n ON n.oid = c.relnamespace "
            f"WHERE {_ours('pg_class', 'c.oid')} ORDER BY 1"
        ):
            options = (
                f"START WITH {start} INCREMENT BY {step} MINVALUE {least} MAXVALUE {most} CACHE {cache}"
                f"{' CYCLE' if cycle else ' NO CYCLE'}"
            )
            last, called = self._rows(f"SELECT last_value, is_called FROM {full}")[0]
            self._counters[f"sequence {full}"] = [last, called]
            if identity:
                self._identity[owner] = f"SEQUENCE NAME {full} {options}"
                continue
            self._add("sequence", full, f"CREATE SEQUENCE {full} AS {kind} {options}")
            if owner:
                self._later.append(("owned sequence", full, f"ALTER SEQUENCE {full} OWNED BY {owner}"))

    def _functions(self) -> None:
        for name, ddl in self._rows(
            "SELECT p.oid::regprocedure::text, pg_get_functiondef(p.oid) FROM pg_proc p "
            f"JOIN pg_namespace n ON n.oid = p.pronamespace WHERE p.prokind <> 'a' AND {_ours('pg_proc', 'p.oid')} "
            # A range type brings its own.
            "AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid "
            "AND d.deptype = 'i') ORDER BY p.oid"
        ):
            self._add("function", name, ddl)

    def _tables(self) -> list[Table]:
        keys = {
            oid: tuple(names)
            for oid, names in self._rows(
                "SELECT DISTINCT ON (i.indrelid) i.indrelid, (SELECT array_agg(a.attname::text ORDER BY k.n) FROM "
                "unnest(i.indkey::int2[]) WITH ORDINALITY k (attnum, n) JOIN pg_attribute a ON a.attrelid = i.indrelid "
                "AND a.attnum = k.attnum WHERE k.n <= i.indnkeyatts) FROM pg_index i WHERE i.indisunique AND i.indisvalid "
                "AND i.indpred IS NULL AND i.indexprs IS NULL AND NOT EXISTS (SELECT 1 FROM unnest(i.indkey::int2[]) "
                "WITH ORDINALITY k (attnum, n) JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum "
                "WHERE k.n <= i.indnkeyatts AND (NOT a.attnotnull OR a.attgenerated <> '')) "
                "ORDER BY i.indrelid, i.indisprimary DESC, i.indexrelid"
            )
        }
        columns: dict[int, list[tuple[Any, ...]]] = {}
        for row in self._rows(
            "SELECT a.attrelid, a.attname, format_type(a.atttypid, a.atttypmod), t.typname, a.attnotnull, a.attgenerated::text, "
            "a.attidentity::text, pg_get_expr(d.adbin, d.adrelid), CASE WHEN a.attcollation <> t.typcollation THEN "
            "(SELECT format(' COLLATE %I.%I', cn.nspname, co.collname) FROM pg_collation co JOIN pg_namespace cn "
            "ON cn.oid = co.collnamespace WHERE co.oid = a.attcollation) ELSE '' END, a.attcollation <> 0, "
            "a.attislocal OR c.relispartition "
            "FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace "
            "JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum "
            f"WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'p') AND {_ours('pg_class', 'c.oid')} "
            "ORDER BY a.attrelid, a.attnum"
        ):
            columns.setdefault(row[0], []).append(row[1:])
        tables = []
        parents = dict(
            self._rows(
                "SELECT i.inhrelid, array_agg(format('%I.%I', pn.nspname, p.relname) ORDER BY i.inhseqno) FROM pg_inherits i "
                "JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_class p ON p.oid = i.inhparent "
                "JOIN pg_namespace pn ON pn.oid = p.relnamespace WHERE NOT c.relispartition AND c.relkind = 'r' GROUP BY 1"
            )
        )
        for oid, namespace, bare, partitioned, unlogged, options, toast, method in self._rows(
            "SELECT c.oid, n.nspname, c.relname, CASE WHEN c.relkind = 'p' THEN pg_get_partkeydef(c.oid) END, "
            "c.relpersistence = 'u', c.reloptions, (SELECT tc.reloptions FROM pg_class tc WHERE tc.oid = c.reltoastrelid), "
            "(SELECT am.amname FROM pg_am am WHERE am.oid = c.relam AND am.amname <> 'heap') "
            "FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            f"WHERE c.relkind IN ('r', 'p') AND c.relpersistence <> 't' AND {_ours('pg_class', 'c.oid')} ORDER BY c.oid"
        ):
            full = f"{quote(namespace)}.{quote(bare)}"
            listed = columns.get(oid, [])
            parts = ",\n  ".join(self._column(f"{_plain(namespace)}.{_plain(bare)}", c) for c in listed if c[9])
            with_options = [*(options or ()), *(f"toast.{o}" for o in toast or ())]
            ddl = f"CREATE {'UNLOGGED ' if unlogged else ''}TABLE {full} (\n  {parts}\n)"
            ddl += f" INHERITS ({', '.join(parents[oid])})" if oid in parents else ""
            ddl += f" PARTITION BY {partitioned}" if partitioned else ""
            ddl += f" USING {quote(method)}" if method else ""
            ddl += f" WITH ({', '.join(with_options)})" if with_options else ""
            stored = [c for c in listed if c[4] == ""]
            names = [c[0] for c in stored]
            key = keys.get(oid) or tuple(names)
            stored.sort(key=lambda c: key.index(c[0]) if c[0] in key else len(key))
            name, space = _name_of(namespace, bare)
            kinds = tuple(_KINDS.get(c[2], "text") for c in stored)
            read_as = tuple("bytea" if c[2] == "bytea" else "collated" if c[8] else "" for c in stored)
            columns_named = tuple(c[0] for c in stored)
            tables.append(
                Table(name, columns_named, key, ddl, kinds=kinds, read_as=read_as, namespace=space, row_format="copy")
            )
        return tables

    def _column(self, table: str, column: tuple[Any, ...]) -> str:
        name, kind, _, needed, generated, identity, expression, collation, *_ = column
        text = f"{quote(name)} {kind}{collation or ''}"
        if generated == "s":
            text += f" GENERATED ALWAYS AS ({expression}) STORED"
        elif identity:
            options = self._identity.get(f"{table}.{_plain(name)}", "")
            text += f" GENERATED {'ALWAYS' if identity == 'a' else 'BY DEFAULT'} AS IDENTITY" + (
                f" ({options})" if options else ""
            )
        elif expression is not None:
            text += f" DEFAULT {expression}"
        return text + (" NOT NULL" if needed else "")

    def _constraints_and_indexes(self) -> None:
        found = self._rows(
            "SELECT c.contype::text, format('%I.%I', n.nspname, r.relname), c.conname, pg_get_constraintdef(c.oid), "
            "r.relkind::text, c.conparentid FROM pg_constraint c JOIN pg_class r ON r.oid = c.conrelid "
            f"JOIN pg_namespace n ON n.oid = r.relnamespace WHERE c.contype <> 't' AND c.contype <> 'n' "
            f"AND (c.conislocal OR r.relispartition) AND {_ours('pg_class', 'r.oid')} ORDER BY 2, 3"
        )
        made = {
            kinds: [
                ("constraint", f"{name} on {table}", f"ALTER TABLE ONLY {table} ADD CONSTRAINT {quote(name)} {ddl}")
                for kind, table, name, ddl, relkind, parent in found
                if kind in kinds[0] and relkind == kinds[1] and not (kind == "f" and parent)
            ]
            for kinds in (("puxc", "r"), ("f", "r"), ("puxc", "p"), ("f", "p"))
        }
        indexes = {
            relkind: [
                ("index", name, ddl)
                for name, ddl, kind in self._rows(
                    "SELECT format('%I.%I', n.nspname, c.relname), pg_get_indexdef(i.indexrelid), r.relkind::text "
                    "FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_class r ON r.oid = i.indrelid "
                    "JOIN pg_namespace n ON n.oid = c.relnamespace WHERE r.relkind IN ('r', 'p') AND NOT EXISTS "
                    "(SELECT 1 FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x')) "
                    f"AND {_ours('pg_class', 'r.oid')} ORDER BY 1"
                )
                if kind == relkind
            ]
            for relkind in ("r", "p")
        }
        inherited = [
            ("partition", f"{child} of {parent}", f"ALTER TABLE ONLY {parent} ATTACH PARTITION {child} {bound}")
            for child, parent, bound in self._rows(
                "SELECT format('%I.%I', n.nspname, c.relname), format('%I.%I', pn.nspname, p.relname), "
                "pg_get_expr(c.relpartbound, c.oid) FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid "
                "JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_class p ON p.oid = i.inhparent "
                "JOIN pg_namespace pn ON pn.oid = p.relnamespace WHERE c.relispartition AND c.relkind IN ('r', 'p') "
                f"AND {_ours('pg_class', 'c.oid')} ORDER BY i.inhrelid, i.inhseqno"
            )
        ]  # fmt: skip
        # A parent's keys take in the children's, once these are attached.
        parents = [(k, n, d.replace("ALTER TABLE ONLY", "ALTER TABLE", 1)) for k, n, d in made["puxc", "p"]]
        parent_indexes = [(k, n, d.replace(" ON ONLY ", " ON ", 1)) for k, n, d in indexes["p"]]
        for ordered in (
            made["puxc", "r"], indexes["r"], self._later, inherited, parents, parent_indexes, made["f", "r"],
            [(k, n, d.replace("ALTER TABLE ONLY", "ALTER TABLE", 1)) for k, n, d in made["f", "p"]],
        ):  # fmt: skip
            self._objects += ordered
        for name, ddl in self._rows(
            "SELECT format('%I.%I', n.nspname, s.stxname), pg_get_statisticsobjdef(s.oid) FROM pg_statistic_ext s "
            f"JOIN pg_namespace n ON n.oid = s.stxnamespace WHERE {_ours('pg_statistic_ext', 's.oid')} ORDER BY 1"
        ):
            self._add("statistics", name, ddl)

    def _views(self) -> None:
        for name, kind, ddl, options, filled in self._rows(
            "SELECT format('%I.%I', n.nspname, c.relname), c.relkind::text, pg_get_viewdef(c.oid), c.reloptions, "
            "c.relispopulated FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            f"WHERE c.relkind IN ('v', 'm') AND {_ours('pg_class', 'c.oid')} ORDER BY c.oid"
        ):
            with_options = f" WITH ({', '.join(options)})" if options else ""
            if kind == "v":
                self._add("view", name, f"CREATE VIEW {name}{with_options} AS {ddl}")
                continue
            data = "DATA" if filled else "NO DATA"
            self._add(
                "materialized view", name,
                f"CREATE MATERIALIZED VIEW {name}{with_options} AS {ddl.rstrip().rstrip(';')} WITH {data}",
            )  # fmt: skip
        for name, ddl in self._rows(
            "SELECT format('%I.%I', n.nspname, c.relname), pg_get_indexdef(i.indexrelid) FROM pg_index i "
            "JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_class r ON r.oid = i.indrelid "
            f"JOIN pg_namespace n ON n.oid = c.relnamespace WHERE r.relkind = 'm' AND {_ours('pg_class', 'r.oid')} ORDER BY 1"
        ):
            self._add("index", name, ddl)
        for name, ddl in self._rows(
            "SELECT format('%s on %I.%I', r.rulename, n.nspname, c.relname), pg_get_ruledef(r.oid) FROM pg_rewrite r "
            "JOIN pg_class c ON c.oid = r.ev_class JOIN pg_namespace n ON n.oid = c.relnamespace "
            f"WHERE r.rulename <> '_RETURN' AND {_ours('pg_class', 'c.oid')} ORDER BY 1"
        ):
            self._add("rule", name, ddl)

    def _triggers(self) -> None:
        for name, table, ddl, enabled in self._rows(
            "SELECT t.tgname, format('%I.%I', n.nspname, c.relname), pg_get_triggerdef(t.oid), t.tgenabled::text "
            "FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace "
            "WHERE NOT t.tgisinternal AND COALESCE(to_jsonb(t) ->> 'tgparentid', '0') = '0' "
            f"AND {_ours('pg_class', 'c.oid')} ORDER BY 2, 1"
        ):
            self._add("trigger", f"{name} on {table}", ddl)
            word = {"D": "DISABLE", "R": "ENABLE REPLICA", "A": "ENABLE ALWAYS"}.get(enabled)
            if word:
                self._add("trigger state", f"{name} on {table}", f"ALTER TABLE {table} {word} TRIGGER {quote(name)}")

    def _comments(self) -> None:
        for kind, identity, text in self._rows(
            "SELECT i.type, i.identity, d.description FROM pg_description d, "
            "LATERAL pg_identify_object(d.classoid, d.objoid, d.objsubid) i "
            "WHERE d.classoid::regclass::text = ANY ('{pg_class,pg_proc,pg_type,pg_constraint,pg_trigger,pg_namespace,pg_rewrite,"
            "pg_statistic_ext,pg_collation}') AND COALESCE(i.schema, '') !~ '^(pg_|information_schema$)' "
            "AND i.identity !~ '(^| on )(pg_|information_schema($|[.]))' "
            "AND (i.identity, d.description) <> ('public', 'standard public schema') AND NOT EXISTS "
            "(SELECT 1 FROM pg_depend e WHERE e.classid = d.classoid AND e.objid = d.objoid AND e.deptype = 'e') ORDER BY 1, 2"
        ):
            word = {"table constraint": "CONSTRAINT", "domain constraint": "CONSTRAINT"}.get(kind, kind.upper())
            if kind.endswith(" column"):
                word = "COLUMN"
            self._add("comment", f"{kind} {identity}", f"COMMENT ON {word} {identity} IS {_literal(text)}")

    def _owners_and_rights(self) -> None:
        kinds = {"r": "TABLE", "p": "TABLE", "v": "VIEW", "m": "MATERIALIZED VIEW", "S": "SEQUENCE"}
        for full, kind, owner, acl in self._rows(
            "SELECT format('%I.%I', n.nspname, c.relname), c.relkind::text, pg_get_userbyid(c.relowner), "
            "(SELECT jsonb_agg(jsonb_build_array(a.privilege_type, CASE WHEN a.grantee = 0 THEN 'PUBLIC' ELSE "
            "pg_get_userbyid(a.grantee) END, a.is_grantable)) FROM aclexplode(c.relacl) a WHERE a.grantee <> c.relowner) "
            "FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            f"WHERE c.relkind IN ('r', 'p', 'v', 'm', 'S') AND {_ours('pg_class', 'c.oid')} ORDER BY c.oid"
        ):
            user = self._connection.info.user
            if owner != user and not (kind == "S" and full in self._identity_sequences()):
                self._owners[f"{kinds[kind]} {full}"] = owner
            for privilege, grantee, grantable in acl or ():
                on = "SEQUENCE" if kind == "S" else "TABLE"
                role = "PUBLIC" if grantee == "PUBLIC" else quote(grantee)
                more = " WITH GRANT OPTION" if grantable else ""
                self._rights.append((grantee, f"GRANT {privilege} ON {on} {full} TO {role}{more}"))

    def _identity_sequences(self) -> set[str]:
        return {options.split(" START WITH")[0].removeprefix("SEQUENCE NAME ") for options in self._identity.values()}

    def _what_is_not_kept(self) -> None:
        for what, text in (
            ("aggregate", "SELECT p.oid::regprocedure::text FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace "
             f"WHERE p.prokind = 'a' AND {_ours('pg_proc', 'p.oid')}"),
            ("operator", "SELECT o.oid::regoperator::text FROM pg_operator o JOIN pg_namespace n ON n.oid = o.oprnamespace "
             f"WHERE {_ours('pg_operator', 'o.oid')}"),
            ("text search configuration", "SELECT t.cfgname FROM pg_ts_config t JOIN pg_namespace n ON n.oid = t.cfgnamespace "
             f"WHERE {_ours('pg_ts_config', 't.oid')}"),
            ("foreign table", "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n "
             f"ON n.oid = c.relnamespace WHERE c.relkind = 'f' AND {_ours('pg_class', 'c.oid')}"),
            ("row policy", "SELECT format('%I on %I', p.polname, c.relname) FROM pg_policy p "
             "JOIN pg_class c ON c.oid = p.polrelid"),
            ("event trigger", "SELECT evtname FROM pg_event_trigger"),
            ("publication", "SELECT pubname FROM pg_publication"),
            ("tablespace of", "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n "
             f"ON n.oid = c.relnamespace WHERE c.reltablespace <> 0 AND c.relkind IN ('r', 'i', 'm') "
             f"AND {_ours('pg_class', 'c.oid')}"),
            ("large objects:", "SELECT count(*) FROM pg_largeobject_metadata HAVING count(*) > 0"),
        ):  # fmt: skip
            self._not_kept += [f"{what} {name}" for (name,) in self._rows(text)]
        if self._owners or self._rights:
            roles = sorted({*self._owners.values(), *(r for r, _ in self._rights)} - {"PUBLIC"})
            self._not_kept.append(f"what belongs or is granted to {', '.join(roles)}, where that role does not exist")


def _plain(name: str) -> str:
    """As format('%I') writes it."""
    return name if re.fullmatch(r"[a-z_][a-z0-9_$]*", name) else quote(name)


# -- writing --------------------------------------------------------------------------------------------------


class _Writer:
    """Writes within one transaction, definitions too."""

    def __init__(self, connection: Connection, place: DatabasePlace) -> None:
        self._connection = connection
        self._place = place

    def _run(self, text: str, values: Sequence[Any] | None = None) -> psycopg.Cursor[tuple[Any, ...]]:
        return run_statement(self._connection, text, values)

    def _tries(self, text: str) -> psycopg.Error | None:
        """Run a statement that may be refused; the refusal, or None."""
        self._run("SAVEPOINT harbor_try")
        try:
            self._run(text)
        except psycopg.Error as error:
            if not error.sqlstate:  # the connection is gone
                raise
            self._run("ROLLBACK TO SAVEPOINT harbor_try")
            return error
        self._run("RELEASE SAVEPOINT harbor_try")
        return None

    def replace(self, state: DatabaseState) -> int:
        wanted = state.schema
        with _own_errors(self._place):
            present = _SchemaReader(self._connection).read()
            if isinstance(state, StoredState) and present.settled() == wanted.settled():
                return self._give_back_rows(state, present)
            self._drop_everything(present, wanted)
            self._make(
                [o for o in wanted.objects if o[0] in _BEFORE] + [("table", t.name, t.ddl) for t in wanted.tables]
            )
            for table in wanted.tables:
                self.load(table, state.blocks(table.name))
            self._make([o for o in wanted.objects if o[0] not in _BEFORE])
            self._count_on(present, wanted, fresh=True)
            self._hand_over(wanted)
            self._run("ANALYZE")
        return sum(t.row_count for t in state.tables.values()) if isinstance(state, StoredState) else 0

    def put_rows(self, state: DatabaseState, tables: Collection[str]) -> int:
        assert isinstance(state, StoredState)
        with _own_errors(self._place):
            present = _SchemaReader(self._connection).read()
            refuse_other_definitions(present, state.schema, tables)
            return self._give_back_rows(state, present, tables)

    def _give_back_rows(self, state: StoredState, present: Schema, only: Collection[str] | None = None) -> int:
        here = _Snapshot(self._connection, present, self._place)
        changes = list(differences(here, state, state.left_empty, only))
        foreign = [(n, d) for k, n, d in present.objects if k == "constraint" and " FOREIGN KEY " in d]
        triggers: set[str] = set()
        # Neither triggers nor foreign keys may act on rows that are put back; that is a superuser's to say. An owner
        # takes the keys away for the time, and switches the triggers off.
        freely = self._tries("SET LOCAL session_replication_role = replica") is None
        if not freely and changes:
            for name, ddl in foreign:
                table = ddl.removeprefix("ALTER TABLE ").removeprefix("ONLY ").split(" ADD CONSTRAINT ")[0]
                constraint = name.removesuffix(f" on {table}")
                self._run(f"ALTER TABLE {table} DROP CONSTRAINT {quote(constraint)}")
            triggers = {n.rpartition(" on ")[2] for k, n, _ in present.objects if k == "trigger"}
            for table in triggers:
                self._run(f"ALTER TABLE {table} DISABLE TRIGGER USER")
        written = 0
        for table_facts, apart in changes:
            written += write_difference(table_facts, apart, state, self)
        if freely:
            self._run("SET LOCAL session_replication_role = origin")
        elif changes:
            for table in triggers:
                self._run(f"ALTER TABLE {table} ENABLE TRIGGER USER")
            self._make([o for o in present.objects if o[0] == "trigger state"])
            for _, ddl in foreign:
                self._run(ddl)
        self._count_on(present, state.schema, fresh=False)
        return written

    def _drop_everything(self, present: Schema, wanted: Schema) -> None:
        for kind, name, _ in reversed(present.objects):
            if kind in ("view", "materialized view"):
                self._run(f"DROP {kind.upper()} IF EXISTS {name} CASCADE")
        for table in present.tables:
            self._run(f"DROP TABLE IF EXISTS {_qualified(table)} CASCADE")
        kept = {(k, n) for k, n, _ in wanted.objects if k in ("schema", "extension")}
        for kind, name, ddl in reversed(present.objects):
            if kind == "function":
                self._run(f"DROP ROUTINE IF EXISTS {name} CASCADE")
            elif kind in ("sequence", "collation") or (kind in ("schema", "extension") and (kind, name) not in kept):
                shown = quote(name) if kind in ("schema", "extension") else name
                self._run(f"DROP {kind.upper()} IF EXISTS {shown} CASCADE")
            elif kind == "type":
                self._run(f"DROP {'DOMAIN' if ddl.startswith('CREATE DOMAIN') else 'TYPE'} IF EXISTS {name} CASCADE")

    def _make(self, objects: Sequence[tuple[str, str, str]]) -> None:
        """Make objects, trying again those that need another one which is not there yet.

        Bodies that name tables without their schema find them in every other round, with the usual search path.
        """
        waiting = [o for o in objects if not (o[0] == "schema" and self._has_schema(o[1]))]
        usual = False
        stuck = 0
        while waiting:
            failed = []
            for made in waiting:
                error = self._tries(made[2])
                if error is not None:
                    failed.append((made, error))
            stuck = stuck + 1 if len(failed) == len(waiting) else 0
            if stuck == 2:
                (kind, name, _), error = failed[0]
                words = error.diag.message_primary or str(error)
                raise KeenHarborError(f"{kind} {name} cannot be made: {words}", where=str(self._place)) from error
            waiting = [made for made, _ in failed]
            usual = bool(waiting) and not usual
            self._run("SET LOCAL search_path TO DEFAULT" if usual else "SET LOCAL search_path = ''")

    def _has_schema(self, name: str) -> bool:
        return self._run("SELECT 1 FROM pg_namespace WHERE nspname = %s", [name]).fetchone() is not None

    def _count_on(self, present: Schema, wanted: Schema, *, fresh: bool) -> None:
        for what, (last, called) in wanted.counters.items():
            name = what.removeprefix("sequence ")
            now = present.counters.get(what)
            # Numbers that visitors have seen are not given out again, so a sequence that is there never goes back.
            if fresh or now is None or last > now[0]:
                if fresh and now is not None and now[0] > last:
                    last, called = now
                self._run(
                    f"SELECT pg_catalog.setval({_literal(name)}::regclass, {int(last)}, {str(bool(called)).lower()})"
                )

    def _hand_over(self, wanted: Schema) -> None:
        """Give objects to the roles that owned them or had rights, where these roles exist."""
        roles = {name for (name,) in self._run("SELECT rolname FROM pg_roles").fetchall()} | {"PUBLIC"}
        owners: dict[str, str] = json.loads(str(wanted.settings.get("owners") or "{}"))
        for what, role in owners.items():
            if role in roles:
                self._tries(f"ALTER {what} OWNER TO {quote(role)}")
        for role, grant in json.loads(str(wanted.settings.get("rights") or "[]")):
            if role in roles:
                self._tries(grant)
        for option in json.loads(str(wanted.settings.get("options") or "[]")):
            name, _, value = option.partition("=")
            shown = value if name in ("search_path", "DateStyle") else _literal(value)
            self._tries(f"ALTER DATABASE {quote(self._place.name)} SET {name} = {shown}")

    def clear(self, table: Table) -> None:
        self._run(f"DELETE FROM ONLY {_qualified(table)}")

    def remove(self, table: Table, keys: Sequence[Row]) -> None:
        condition = " AND ".join(f"{quote(c).replace('%', '%%')} = %s" for c in table.key)
        with self._connection.cursor() as cursor:
            cursor.executemany(
                _literally(f"DELETE FROM ONLY {_qualified(table).replace('%', '%%')} WHERE {condition}"),
                [[_bound(v) for v in key] for key in keys],
            )

    def load_rows(self, table: Table, rows: Sequence[Row]) -> None:
        self.load(table, [Block(encode_copy(table, rows))])

    def load(self, table: Table, blocks: Iterable[Block]) -> None:
        if not table.columns:
            return
        columns = ", ".join(quote(c) for c in table.columns)
        statement = f"COPY {_qualified(table)} ({columns}) FROM STDIN"
        with self._connection.cursor() as cursor, cursor.copy(_literally(statement)) as copy:
            for block in blocks:
                copy.write(block.lines)

    def _parts(self, table: str) -> str:
        """A shown table name as an identifier."""
        found = self._run(
            "SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            "WHERE c.relkind IN ('r', 'p')"
        ).fetchall()
        for namespace, name in found:
            if _name_of(namespace, name)[0] == table:
                return f"{quote(namespace)}.{quote(name)}"
        raise UsageError(f"there is no table '{table}'", where=str(self._place))

    def insert(self, table: str, columns: Sequence[str], row: Sequence[Value]) -> str | None:
        names = ", ".join(quote(c) for c in columns)
        into = sql.SQL(_literally(f"INSERT INTO {self._parts(table)} ({names}) OVERRIDING SYSTEM VALUE VALUES "))
        statement = into + sql.SQL("({})").format(sql.SQL(", ").join(sql.Literal(_bound(v)) for v in row))
        self._run("SAVEPOINT harbor_row")
        try:
            self._connection.execute(statement)
        except (psycopg.IntegrityError, psycopg.DataError) as error:
            self._run("ROLLBACK TO SAVEPOINT harbor_row")
            return (error.diag.message_primary or str(error)).strip()
        except psycopg.Error as error:
            raise _refused(error, self._place) from error
        self._run("RELEASE SAVEPOINT harbor_row")
        return None

    def update(self, table: str, key: dict[str, Value], values: dict[str, Value]) -> int:
        types = self._column_types(table)
        assignments = ", ".join(f"{quote(c).replace('%', '%%')} = %s" for c in values)
        condition = " AND ".join(
            f"{quote(c).replace('%', '%%')}{'::text' if types.get(c) in _NO_EQUALITY else ''} "
            + ("= %s" if v is not None else "IS NULL")
            for c, v in key.items()
        )
        with _own_errors(self._place):
            done = self._run(
                f"UPDATE {self._parts(table).replace('%', '%%')} SET {assignments} WHERE {condition}",
                [_bound(v) for v in (*values.values(), *(k for k in key.values() if k is not None))],
            )
        return done.rowcount

    def _column_types(self, table: str) -> dict[str, str]:
        return dict(
            self._run(
                "SELECT a.attname, t.typname FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid "
                "WHERE a.attrelid = %s::regclass AND a.attnum > 0 AND NOT a.attisdropped",
                [self._parts(table)],
            ).fetchall()
        )

    def script(self, sql_text: str) -> int:
        changed = 0
        with _own_errors(self._place), self._connection.cursor() as cursor:
            # The script's own names are looked up as the site does it.
            cursor.execute("SET LOCAL search_path TO DEFAULT")
            cursor.execute(_literally(sql_text))
            while True:
                changed += cursor.rowcount if cursor.description is None and cursor.rowcount > 0 else 0
                if not cursor.nextset():
                    break
            cursor.execute("SET LOCAL search_path = ''")
        return changed


def _bound(value: Value) -> Value:
    """A value for the server to read by its column's type: as text, but for bytes."""
    return value if value is None or isinstance(value, bytes) else str(value)


# -- as text --------------------------------------------------------------------------------------------------


def sql_text(state: StoredState) -> Iterator[bytes]:
    """The database as SQL for its own client, for an empty one."""
    schema = state.schema
    yield (
        b"SET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nSET check_function_bodies = off;\n"
        b"SET client_min_messages = warning;\nSET TimeZone = 'UTC';\nSELECT pg_catalog.set_config('search_path', '', false);\n"
    )
    for kind, _, ddl in schema.objects:
        if kind in _BEFORE:
            yield f"{ddl};\n".encode()
    for table in schema.tables:
        yield f"{table.ddl};\n".encode()
    for table in schema.tables:
        stored = state.tables.get(table.name)
        if stored is None or not stored.chunk_ids:
            continue
        columns = ", ".join(quote(c) for c in table.columns)
        yield f"COPY {_qualified(table)} ({columns}) FROM stdin;\n".encode()
        for block in state.blocks(table.name):
            yield block.lines
        yield b"\\.\n"
    for kind, _, ddl in schema.objects:
        if kind not in _BEFORE:
            yield f"{ddl};\n".encode()
    for what, (last, called) in schema.counters.items():
        name = _literal(what.removeprefix("sequence "))
        yield f"SELECT pg_catalog.setval({name}, {int(last)}, {str(bool(called)).lower()});\n".encode()
