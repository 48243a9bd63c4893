"""PostgreSQL.

Rows are read by COPY in one REPEATABLE READ transaction, which keeps no writer out, and restored by COPY; all DDL
belongs to the transaction, so that a restore is there as a whole or not at all. Definitions come from the server's own
functions (https://www.postgresql.org/docs/current/functions-info.html), qualified throughout by an empty search path.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import psycopg

from keenharbor.base.errors import UsageError
from keenharbor.database.postgres.read import ReadState
from keenharbor.database.postgres.schema import SchemaReader
from keenharbor.database.postgres.text import sql_text
from keenharbor.database.postgres.wire import (
    Connection,
    connect_to,
    copy_out,
    ours_in,
    own_errors,
    run_statement,
)
from keenharbor.database.postgres.write import Writer
from keenharbor.database.protocol import (
    DatabasePlace,
    DatabaseState,
    DatabaseWriter,
)
from keenharbor.database.words import double_quoted as quote


class PostgresDatabase:
    """A database on a PostgreSQL server."""

    def __init__(self, place: DatabasePlace) -> None:
        self.place = place

    def connect(self, name: str | None = None) -> Connection:
        """A connection outside any transaction."""
        return connect_to(self.place, name)

    def exists(self) -> bool:
        try:
            self.connect().close()
        except UsageError:
            return False
        return True

    def _ask(self, text: str) -> Any:
        with contextlib.closing(self.connect()) as connection, own_errors(self.place):
            row = run_statement(connection, text).fetchone()
            return row[0] if row else None

    def version(self) -> str:
        return str(self._ask("SHOW server_version")).split()[0]

    def size(self) -> int:
        return int(self._ask("SELECT pg_database_size(current_database())"))

    def files(self) -> Iterable[Path]:
        return ()

    def drop(self) -> None:
        with contextlib.closing(self.connect("postgres")) as server, own_errors(self.place):
            run_statement(server, f"DROP DATABASE IF EXISTS {quote(self.place.name)} WITH (FORCE)")

    def lacking(self) -> list[str]:
        with contextlib.closing(self.connect()) as connection, own_errors(self.place):
            found = run_statement(
                connection,
                "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = "
                "c.relnamespace "
                f"WHERE c.relkind IN ('r', 'p', 'S', 'm') AND {ours_in('pg_class', 'c.oid')} "
                "AND NOT has_table_privilege(c.oid, 'SELECT') ORDER BY 1",
            ).fetchall()
        return [f"read {name} (the right SELECT is missing)" for (name,) in found]

    @contextlib.contextmanager
    def reading(self) -> Iterator[DatabaseState]:
        with contextlib.closing(self.connect()) as connection:
            with own_errors(self.place):
                run_statement(connection, "BEGIN ISOLATION LEVEL REPEATABLE READ, READ ONLY")
                schema = SchemaReader(connection).read()
            yield ReadState(connection, schema, self.place)

    @contextlib.contextmanager
    def writing(self) -> Iterator[DatabaseWriter]:
        try:
            connection = self.connect()
        except UsageError:
            with contextlib.closing(self.connect("postgres")) as server, own_errors(self.place):
                run_statement(server, f"CREATE DATABASE {quote(self.place.name)} TEMPLATE template0 ENCODING 'UTF8'")
            connection = self.connect()
        with contextlib.closing(connection):
            with own_errors(self.place):
                run_statement(connection, "BEGIN")
            try:
                yield Writer(connection, self.place)
                with own_errors(self.place):
                    run_statement(connection, "COMMIT")
            except BaseException:
                with contextlib.suppress(psycopg.Error):
                    run_statement(connection, "ROLLBACK")
                raise


__all__ = ["PostgresDatabase", "copy_out", "run_statement", "sql_text"]
