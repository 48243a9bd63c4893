"""Writing into a MariaDB database."""

from __future__ import annotations

import contextlib
import json
import os
import re
import threading
from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

import pymysql

from keenharbor.base.errors import KeenHarborError
from keenharbor.database.giveback import differences, refuse_other_definitions, write_difference
from keenharbor.database.lines import decode_copy, encode_copy
from keenharbor.database.mariadb.read import TOO_LARGE
from keenharbor.database.mariadb.schema import _columns, read_schema
from keenharbor.database.mariadb.wire import BULK_MODE, CHECK_FAILED, own_errors, query_of, refusal_of, text_of
from keenharbor.database.merging import MergesRows, Statement
from keenharbor.database.protocol import (
    Block,
    DatabaseState,
    Definition,
    Row,
    Schema,
    Table,
    Value,
)
from keenharbor.database.rows import StoredState
from keenharbor.database.words import back_quoted as quote

if TYPE_CHECKING:
    from keenharbor.database.mariadb import MariadbDatabase


class Writer(MergesRows):
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
        self._run(f"SET {off}, sql_mode = '{BULK_MODE}', time_zone = '+00:00'")
        try:
            yield
        finally:
            with contextlib.suppress(pymysql.err.MySQLError, OSError):
                self._run(
                    f"SET {on}, sql_mode = @harbor_mode, time_zone = @harbor_zone, collation_connection = "
                    f"@harbor_collation"
                )

    def replace(self, state: DatabaseState, known: DatabaseState | None = None) -> int:
        wanted = state.schema
        query = query_of(self._connection)
        with own_errors(self._place):
            present, _ = read_schema(query)
            with self._bulk():
                redefined = self._redefine_begin(present, wanted)
                made_anew = {t.name for t in wanted.tables if present.table(t.name) != t}
                written = 0
                if present.tables and isinstance(state, StoredState):
                    triggers = [] if redefined else [o for o in present.objects if o.kind == "trigger"]
                    written += self._give_back_rows(state, triggers, made_anew, None, known)
                self._connection.begin()
                for table in wanted.tables:
                    if table.name in made_anew:
                        self.load(table, state.blocks(table.name))
                        written += state.tables[table.name].row_count if isinstance(state, StoredState) else 0
                self._connection.commit()
                self._finish(present, wanted, redefined)
        self._connection.begin()
        return written

    def put_rows(self, state: DatabaseState, tables: Collection[str], known: DatabaseState | None = None) -> int:
        assert isinstance(state, StoredState)
        with own_errors(self._place):
            present, _ = read_schema(query_of(self._connection))
            refuse_other_definitions(present, state.schema, tables)
            with self._bulk():
                triggers = [o for o in present.objects if o.kind == "trigger"]
                written = self._give_back_rows(state, triggers, (), tables, known)
        self._connection.begin()
        return written

    def _give_back_rows(
        self,
        state: StoredState,
        triggers: Sequence[Definition],
        leave: Iterable[str],
        only: Collection[str] | None,
        known: DatabaseState | None,
    ) -> int:
        """Write the rows that differ, in one transaction, with no trigger acting on them."""
        with self._database.reading() as here:
            changes = list(differences(here, state, {*state.left_empty, *leave}, only, known))
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
            self._make([o for o in wanted.objects if o.kind == "sequence" and o not in present.objects], {})
            # A column's default may call a function.
            self._make([o for o in wanted.objects if o.kind == "function"], self._definers(wanted))
            for table in wanted.tables:
                if present.table(table.name) != table:
                    self._run(table.ddl)
        return not same

    def _finish(self, present: Schema, wanted: Schema, redefined: bool) -> None:
        if redefined:
            later = [o for o in wanted.objects if o.kind not in ("sequence", "function")]
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
                f"{text_of(u)}@{text_of(h)}" for u, h in query_of(self._connection)("SELECT user, host FROM mysql.user")
            }
        except pymysql.err.MySQLError:
            return {}
        return {what: account for what, account in said.items() if account.replace("`", "") in accounts}

    def _make(self, objects: Sequence[Definition], definers: dict[str, str]) -> None:
        """Make objects, trying again those that need another one which is not there yet."""
        waiting = list(objects)
        while waiting:
            failed: list[tuple[Definition, Exception]] = []
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
                            f"SET sql_mode = '{BULK_MODE}', collation_connection = @harbor_collation, time_zone = "
                            f"'+00:00'"
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
            self._files = int(query_of(self._connection)("SELECT @@local_infile")[0][0]) == 1
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
                    if error.args[0] not in TOO_LARGE:
                        raise
                    raise KeenHarborError(
                        f"a row of table {table.name} is larger than the server takes in one statement, or the server "
                        f"went away",
                        where=str(self._place), advice="set local_infile = ON on the server, or a larger "
                            "max_allowed_packet",
                    ) from error  # fmt: skip

    def _way(self, table: str, column: str) -> str:
        if self._ways is None:
            self._ways = {
                name: {c: how for c, _, how, _ in listed}
                for name, listed in _columns(query_of(self._connection)).items()
            }
        return self._ways.get(table, {}).get(column, "")

    def insert(self, table: str, columns: Sequence[str], row: Sequence[Value]) -> str | None:
        names = ", ".join(quote(c) for c in columns).replace("%", "%%")
        holders = ", ".join(_holder(self._way(table, c)) for c in columns)
        done = self.tried(f"INSERT INTO {self.shown(table)} ({names}) VALUES ({holders})", row)
        return done if isinstance(done, str) else None

    @contextlib.contextmanager
    def merging(self) -> Iterator[None]:
        """What was written before is committed where there are triggers: they are taken away for the time."""
        with own_errors(self._place):
            present, _ = read_schema(query_of(self._connection))
            triggers = [o for o in present.objects if o.kind == "trigger"]
            self._run("SET @merge_mode = @@sql_mode, @merge_zone = @@time_zone, foreign_key_checks = 0")
            # As rows are stored, but too long ones are refused and not cut.
            self._run(f"SET sql_mode = '{BULK_MODE},STRICT_ALL_TABLES', time_zone = '+00:00'")
            for _, name, _ in triggers:
                self._run(f"DROP TRIGGER {quote(name)}")
            if triggers:
                self._connection.begin()
        yield
        with own_errors(self._place):
            if triggers:
                self._connection.commit()
                self._run("SET @harbor_collation = @@collation_connection")
                self._make(triggers, {})
                self._run("SET collation_connection = @harbor_collation")
                self._connection.begin()
            self._run("SET foreign_key_checks = 1, sql_mode = @merge_mode, time_zone = @merge_zone")

    def shown(self, table: str) -> str:
        return quote(table).replace("%", "%%")

    def quoted(self, column: str) -> str:
        return quote(column).replace("%", "%%")

    def bound(self, table: str, column: str, value: Value) -> tuple[str, Value]:
        return _holder(self._way(table, column)), value

    def equals(self, table: str, column: str, value: Value) -> Statement:
        return f"{self.quoted(column)} <=> {_holder(self._way(table, column))}", [value]

    def tried(self, statement: str, values: Sequence[Value]) -> int | str:
        try:
            return self._run(statement, values)
        except (pymysql.err.IntegrityError, pymysql.err.DataError) as error:
            return str(error.args[-1])
        except pymysql.err.OperationalError as error:
            if error.args[0] in CHECK_FAILED:
                return str(error.args[-1])
            raise refusal_of(error, self._place) from error
        except pymysql.err.MySQLError as error:
            raise refusal_of(error, self._place) from error

    def asked(self, statement: str, values: Sequence[Value]) -> int:
        with own_errors(self._place), self._connection.cursor() as cursor:
            cursor.execute(statement, values)
            found = cursor.fetchone()
        return int(found[0]) if found else 0

    def count_on(self, state: DatabaseState) -> None:
        """The server commits before it sets a counter."""
        with own_errors(self._place):
            present, _ = read_schema(query_of(self._connection))
            for what, (value,) in state.schema.counters.items():
                kind, _, name = what.partition(" ")
                if what in present.counters and int(value) > present.counters[what][0]:
                    if kind == "sequence":
                        self._run(f"SELECT SETVAL({quote(name)}, {int(value)}, 0)")
                    else:
                        self._run(f"ALTER TABLE {quote(name)} AUTO_INCREMENT = {int(value)}")
            self._connection.begin()

    def update(self, table: str, key: dict[str, Value], values: dict[str, Value]) -> int:
        assignments = ", ".join(f"{quote(c).replace('%', '%%')} = {_holder(self._way(table, c))}" for c in values)
        condition = " AND ".join(f"{quote(c).replace('%', '%%')} <=> {_holder(self._way(table, c))}" for c in key)
        with own_errors(self._place):
            return self._run(
                f"UPDATE {quote(table).replace('%', '%%')} SET {assignments} WHERE {condition}",
                [*values.values(), *key.values()],
            )

    def script(self, sql: str) -> int:
        changed = 0
        with own_errors(self._place), self._connection.cursor() as cursor:
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
