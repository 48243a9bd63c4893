"""One consistent state of a PostgreSQL database."""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Callable, Iterator, Sequence
from functools import partial

from keenharbor.base.errors import KeenHarborError
from keenharbor.database.postgres.wire import (
    Connection,
    connect_to,
    copy_out,
    literal_of,
    name_of,
    own_errors,
    qualified,
    run_statement,
)
from keenharbor.database.protocol import (
    Block,
    DatabasePlace,
    NotSharedError,
    Row,
    Schema,
    Table,
)
from keenharbor.database.ranges import dividing_keys
from keenharbor.database.rows import rows_of
from keenharbor.database.words import double_quoted as quote

_WORTH_DIVIDING = 16 * 1024 * 1024
"""Bytes of a table from which on several processes read it."""


_SAMPLED_PAGES = 300
"""Pages of a table whose keys say where it is divided."""


_OLDEST_XID = 1_000_000_000
"""So many transactions back the age of a row still tells (ages wrap around at two thousand million)."""


class ReadState:
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
        wanted = f"SELECT {chosen} FROM ONLY {qualified(table)} WHERE {condition} ORDER BY {order}"
        with own_errors(self._place):
            for lines in copy_out(connection, f"COPY ({wanted}) TO STDOUT", alone=alone):
                yield Block(lines)

    def parts(self, table: str, count: int) -> Sequence[Callable[[], Iterator[Block]]]:
        """Ranges of the key, where it is of whole numbers, by other transactions that take over this one's snapshot
        (https://www.postgresql.org/docs/current/functions-admin.html#FUNCTIONS-SNAPSHOT-SYNCHRONIZATION)."""
        found = self.schema.table(table)
        if count < 2 or found is None or found.keyless or set(found.kinds[: len(found.key)]) != {"int"}:
            return ()
        name, key = qualified(found), ", ".join(map(quote, found.key))
        with own_errors(self._place):
            size, pages = run_statement(
                self._connection,
                "SELECT pg_table_size(t), pg_relation_size(t) / current_setting('block_size')::int "
                f"FROM CAST({literal_of(name)} AS regclass) t",
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
            connection = connect_to(self._place)
            with own_errors(self._place):
                run_statement(connection, "BEGIN ISOLATION LEVEL REPEATABLE READ, READ ONLY")
                run_statement(connection, f"SET TRANSACTION SNAPSHOT {literal_of(str(self._exported))}")
        except KeenHarborError as error:
            raise NotSharedError(error.what, where=error.where) from error
        with contextlib.closing(connection):
            yield from self._range(connection, table, condition, alone=True)

    def mark(self, table: str) -> str | None:
        """Where the table's rows are kept, and the transaction before which all of them were written that are seen
        here."""
        if self._marks is None:
            self._marks = {}
            with own_errors(self._place):
                found = run_statement(
                    self._connection,
                    "SELECT n.nspname, c.relname, concat_ws('.', s.system_identifier, d.oid, c.oid, c.relfilenode), "
                    "txid_snapshot_xmin(txid_current_snapshot()) FROM pg_class c JOIN pg_namespace n ON n.oid = "
                    "c.relnamespace, "
                    "pg_control_system() s, pg_database d WHERE d.datname = current_database() AND c.relkind = 'r'",
                ).fetchall()
            for namespace, name, place, oldest in found:
                self._marks[name_of(namespace, name)[0]] = f"{place}:{oldest}"
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
        with own_errors(self._place):
            counted = run_statement(
                self._connection,
                f"SELECT count(*), count(*) FILTER (WHERE age(xmin) > age('{then % 2**32}'::xid)) FROM ONLY "
                f"{qualified(found)}",
            ).fetchone()
        return counted == (rows, rows)

    def chunk_ids(self, table: str) -> Sequence[str] | None:
        return None
