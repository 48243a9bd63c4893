"""Writing into a PostgreSQL database within one transaction."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from dataclasses import replace
from typing import Any

import psycopg
from psycopg import sql

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.database.giveback import differences, refuse_other_definitions, write_difference
from keenharbor.database.lines import encode_copy
from keenharbor.database.merging import MergesRows, Statement
from keenharbor.database.postgres.read import ReadState
from keenharbor.database.postgres.schema import _NO_EQUALITY, SchemaReader
from keenharbor.database.postgres.wire import (
    Connection,
    as_literal,
    literal_of,
    name_of,
    own_errors,
    qualified,
    refusal_of,
    run_statement,
)
from keenharbor.database.protocol import (
    Block,
    DatabasePlace,
    DatabaseState,
    Definition,
    Row,
    Schema,
    Table,
    Value,
)
from keenharbor.database.rows import StoredState
from keenharbor.database.words import double_quoted as quote

MADE_FIRST = ("schema", "extension", "collation", "type", "sequence", "function")


class Writer(MergesRows):
    """Writes within one transaction, definitions too."""

    def __init__(self, connection: Connection, place: DatabasePlace) -> None:
        self._connection = connection
        self._place = place
        self._shown: dict[str, str] = {}
        self._types: dict[str, dict[str, str]] = {}

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

    def replace(self, state: DatabaseState, known: DatabaseState | None = None) -> int:
        wanted = state.schema
        self._shown, self._types = {}, {}
        with own_errors(self._place):
            present = SchemaReader(self._connection).read()
            if isinstance(state, StoredState) and present.settled() == wanted.settled():
                return self._give_back_rows(state, present, None, known)
            self._drop_everything(present, wanted)
            self._make(
                [o for o in wanted.objects if o.kind in MADE_FIRST]
                + [Definition("table", t.name, t.ddl) for t in wanted.tables]
            )
            for table in wanted.tables:
                self.load(table, state.blocks(table.name))
            self._make([o for o in wanted.objects if o.kind not in MADE_FIRST])
            self._count_on(present, wanted, fresh=True)
            self._hand_over(wanted)
            self._run("ANALYZE")
        return sum(t.row_count for t in state.tables.values()) if isinstance(state, StoredState) else 0

    def put_rows(self, state: DatabaseState, tables: Collection[str], known: DatabaseState | None = None) -> int:
        assert isinstance(state, StoredState)
        with own_errors(self._place):
            present = SchemaReader(self._connection).read()
            refuse_other_definitions(present, state.schema, tables)
            return self._give_back_rows(state, present, tables, known)

    def _give_back_rows(
        self, state: StoredState, present: Schema, only: Collection[str] | None, known: DatabaseState | None
    ) -> int:
        here = ReadState(self._connection, present, self._place)
        changes = list(differences(here, state, state.left_empty, only, known))
        written = 0
        with self._unguarded(present, bool(changes)):
            for table_facts, apart in changes:
                written += write_difference(table_facts, apart, state, self)
        self._count_on(present, state.schema, fresh=False)
        return written

    @contextlib.contextmanager
    def _unguarded(self, present: Schema, needed: bool = True) -> Iterator[None]:
        """Neither triggers nor foreign keys act on rows."""
        foreign = [(n, d) for k, n, d in present.objects if k == "constraint" and " FOREIGN KEY " in d]
        triggers: set[str] = set()
        # That is a superuser's to say. An owner
        # takes the keys away for the time, and switches the triggers off.
        freely = self._tries("SET LOCAL session_replication_role = replica") is None
        if not freely and needed:
            for name, ddl in foreign:
                table = ddl.removeprefix("ALTER TABLE ").removeprefix("ONLY ").split(" ADD CONSTRAINT ")[0]
                constraint = name.removesuffix(f" on {table}")
                self._run(f"ALTER TABLE {table} DROP CONSTRAINT {quote(constraint)}")
            triggers = {n.rpartition(" on ")[2] for k, n, _ in present.objects if k == "trigger"}
            for table in triggers:
                self._run(f"ALTER TABLE {table} DISABLE TRIGGER USER")
        yield
        if freely:
            self._run("SET LOCAL session_replication_role = origin")
        elif needed:
            for table in triggers:
                self._run(f"ALTER TABLE {table} ENABLE TRIGGER USER")
            self._make([o for o in present.objects if o.kind == "trigger state"])
            for _, ddl in foreign:
                self._run(ddl)

    @contextlib.contextmanager
    def merging(self) -> Iterator[None]:
        with own_errors(self._place):
            present = SchemaReader(self._connection).read()
        with self._unguarded(present):
            yield

    def shown(self, table: str) -> str:
        return self._parts(table).replace("%", "%%")

    def quoted(self, column: str) -> str:
        return quote(column).replace("%", "%%")

    def bound(self, table: str, column: str, value: Value) -> tuple[str, Value]:
        return "%s", bound_value(value)

    def equals(self, table: str, column: str, value: Value) -> Statement:
        if value is None:
            return f"{self.quoted(column)} IS NULL", []
        as_text = "::text" if self._column_types(table).get(column) in _NO_EQUALITY else ""
        return f"{self.quoted(column)}{as_text} = %s", [bound_value(value)]

    def tried(self, statement: str, values: Sequence[Value]) -> int | str:
        return self._apart(lambda: self._run(statement, values).rowcount)

    def _apart(self, work: Callable[[], int]) -> int | str:
        """What may be refused, within a savepoint: how many rows it changed, or the refusal."""
        self._run("SAVEPOINT harbor_row")
        try:
            changed = work()
        except (psycopg.IntegrityError, psycopg.DataError) as error:
            self._run("ROLLBACK TO SAVEPOINT harbor_row")
            return (error.diag.message_primary or str(error)).strip()
        except psycopg.Error as error:
            raise refusal_of(error, self._place) from error
        self._run("RELEASE SAVEPOINT harbor_row")
        return changed

    def asked(self, statement: str, values: Sequence[Value]) -> int:
        with own_errors(self._place):
            found = self._run(statement, values).fetchone()
        return int(found[0]) if found else 0

    def count_on(self, state: DatabaseState) -> None:
        with own_errors(self._place):
            present = SchemaReader(self._connection).read()
            known = {what: last for what, last in state.schema.counters.items() if what in present.counters}
            self._count_on(present, replace(state.schema, counters=known), fresh=False)

    def _drop_everything(self, present: Schema, wanted: Schema) -> None:
        for kind, name, _ in reversed(present.objects):
            if kind in ("view", "materialized view"):
                self._run(f"DROP {kind.upper()} IF EXISTS {name} CASCADE")
        for table in present.tables:
            self._run(f"DROP TABLE IF EXISTS {qualified(table)} CASCADE")
        kept = {(k, n) for k, n, _ in wanted.objects if k in ("schema", "extension")}
        for kind, name, ddl in reversed(present.objects):
            if kind == "function":
                self._run(f"DROP ROUTINE IF EXISTS {name} CASCADE")
            elif kind in ("sequence", "collation") or (kind in ("schema", "extension") and (kind, name) not in kept):
                shown = quote(name) if kind in ("schema", "extension") else name
                self._run(f"DROP {kind.upper()} IF EXISTS {shown} CASCADE")
            elif kind == "type":
                self._run(f"DROP {'DOMAIN' if ddl.startswith('CREATE DOMAIN') else 'TYPE'} IF EXISTS {name} CASCADE")

    def _make(self, objects: Sequence[Definition]) -> None:
        """Make objects, trying again those that need another one which is not there yet.

        Bodies that name tables without their schema find them in every other round, with the usual search path.
        """
        waiting = [o for o in objects if not (o.kind == "schema" and self._has_schema(o.name))]
        usual = False
        stuck = 0
        while waiting:
            failed = []
            for made in waiting:
                error = self._tries(made.ddl)
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
                    f"SELECT pg_catalog.setval({literal_of(name)}::regclass, {int(last)}, {str(bool(called)).lower()})"
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
            shown = value if name in ("search_path", "DateStyle") else literal_of(value)
            self._tries(f"ALTER DATABASE {quote(self._place.name)} SET {name} = {shown}")

    def clear(self, table: Table) -> None:
        self._run(f"DELETE FROM ONLY {qualified(table)}")

    def remove(self, table: Table, keys: Sequence[Row]) -> None:
        condition = " AND ".join(f"{quote(c).replace('%', '%%')} = %s" for c in table.key)
        with self._connection.cursor() as cursor:
            cursor.executemany(
                as_literal(f"DELETE FROM ONLY {qualified(table).replace('%', '%%')} WHERE {condition}"),
                [[bound_value(v) for v in key] for key in keys],
            )

    def load_rows(self, table: Table, rows: Sequence[Row]) -> None:
        self.load(table, [Block(encode_copy(table, rows))])

    def load(self, table: Table, blocks: Iterable[Block]) -> None:
        if not table.columns:
            return
        columns = ", ".join(quote(c) for c in table.columns)
        statement = f"COPY {qualified(table)} ({columns}) FROM STDIN"
        with self._connection.cursor() as cursor, cursor.copy(as_literal(statement)) as copy:
            for block in blocks:
                copy.write(block.lines)

    def _parts(self, table: str) -> str:
        """A shown table name as an identifier."""
        if table in self._shown:
            return self._shown[table]
        found = self._run(
            "SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            "WHERE c.relkind IN ('r', 'p')"
        ).fetchall()
        for namespace, name in found:
            if name_of(namespace, name)[0] == table:
                self._shown[table] = f"{quote(namespace)}.{quote(name)}"
                return self._shown[table]
        raise UsageError(f"there is no table '{table}'", where=str(self._place))

    def insert(self, table: str, columns: Sequence[str], row: Sequence[Value]) -> str | None:
        names = ", ".join(quote(c) for c in columns)
        into = sql.SQL(as_literal(f"INSERT INTO {self._parts(table)} ({names}) OVERRIDING SYSTEM VALUE VALUES "))
        statement = into + sql.SQL("({})").format(sql.SQL(", ").join(sql.Literal(bound_value(v)) for v in row))
        done = self._apart(lambda: self._connection.execute(statement).rowcount)
        return done if isinstance(done, str) else None

    def update(self, table: str, key: dict[str, Value], values: dict[str, Value]) -> int:
        assignments = ", ".join(f"{quote(c).replace('%', '%%')} = %s" for c in values)
        said = [self.equals(table, c, v) for c, v in key.items()]
        with own_errors(self._place):
            done = self._run(
                f"UPDATE {self._parts(table).replace('%', '%%')} SET {assignments} WHERE "
                f"{' AND '.join(c for c, _ in said)}",
                [*map(bound_value, values.values()), *(v for _, bound in said for v in bound)],
            )
        return done.rowcount

    def _column_types(self, table: str) -> dict[str, str]:
        if table in self._types:
            return self._types[table]
        self._types[table] = dict(
            self._run(
                "SELECT a.attname, t.typname FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid "
                "WHERE a.attrelid = %s::regclass AND a.attnum > 0 AND NOT a.attisdropped",
                [self._parts(table)],
            ).fetchall()
        )
        return self._types[table]

    def script(self, sql_text: str) -> int:
        changed = 0
        with own_errors(self._place), self._connection.cursor() as cursor:
            # The script's own names are looked up as the site does it.
            cursor.execute("SET LOCAL search_path TO DEFAULT")
            cursor.execute(as_literal(sql_text))
            while True:
                changed += cursor.rowcount if cursor.description is None and cursor.rowcount > 0 else 0
                if not cursor.nextset():
                    break
            cursor.execute("SET LOCAL search_path = ''")
        return changed


def bound_value(value: Value) -> Value:
    """A value for the server to read by its column's type: as text, but for bytes."""
    return value if value is None or isinstance(value, bytes) else str(value)
