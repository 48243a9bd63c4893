"""One consistent state of a MariaDB database."""

from __future__ import annotations

import asyncio
import contextlib
import re
from collections.abc import Callable, Iterator, Sequence
from typing import Any, TypeVar

import asyncmy
import asyncmy.cursors
import asyncmy.errors

from keenharbor.base.memory import no_cycle_search
from keenharbor.database.boundaries import count_byte
from keenharbor.database.mariadb.wire import BLOCK_BYTES, Rows, own_errors
from keenharbor.database.protocol import (
    Block,
    ColumnKind,
    DatabasePlace,
    Row,
    Schema,
)
from keenharbor.database.rows import rows_of
from keenharbor.database.words import back_quoted as quote

_FIRST_ROWS, _MOST_ROWS = 64, 2000
"""Rows that are asked for at once: at the beginning, and at most."""

T = TypeVar("T")


class Reader:
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


class ReadState:
    """The state within one read transaction."""

    def __init__(self, reader: Reader, schema: Schema, marks: dict[str, str], place: DatabasePlace) -> None:
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
            at_once = max(1, min(_MOST_ROWS, 2 * at_once, BLOCK_BYTES * len(rows) // len(lines)))
            return Block(lines)

        with own_errors(self._place):
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


TOO_LARGE = (1153, 2006)
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

    Most rows have nothing that needs a backslash: that is found out over all of them at once. (Letting the server join
    a row's values costs it more than this does.)"""
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
