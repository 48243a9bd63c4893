"""Speaking to a PostgreSQL server: statements, copies, and how refusals are told."""

from __future__ import annotations

import contextlib
import re
import select
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, LiteralString

import psycopg
from psycopg import errors
from psycopg.pq import ExecStatus
from psycopg.pq.abc import PGconn

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.memory import no_cycle_search
from keenharbor.database.protocol import (
    DatabasePlace,
    Table,
)
from keenharbor.database.words import double_quoted as quote
from keenharbor.database.words import no_answer, no_database, refused, user_refused

Connection = psycopg.Connection[tuple[Any, ...]]


BLOCK_BYTES = 512 * 1024


SESSION = (
    "SET TimeZone = 'UTC'; SET DateStyle = 'ISO'; SET IntervalStyle = 'postgres'; SET extra_float_digits = 1; "
    "SET bytea_output = 'hex'; SET search_path = ''; SET row_security = off; SET statement_timeout = 0; "
    "SET lock_timeout = 0; SET idle_in_transaction_session_timeout = 0; SET check_function_bodies = off; "
    "SET client_min_messages = warning"
)


OURS = """
  n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND NOT EXISTS (
    SELECT 1 FROM pg_depend d WHERE d.classid = {catalog}::regclass AND d.objid = {oid} AND d.deptype = 'e')
"""


def literal_of(text: str) -> str:
    escaped = text.replace("'", "''")
    return f"E'{escaped}'".replace("\\", "\\\\") if "\\" in text else f"'{escaped}'"


def qualified(table: Table) -> str:
    bare = table.bare_name[1:-1] if table.bare_name.startswith('"') else table.bare_name
    return f"{quote(table.namespace or 'public')}.{quote(bare)}"


def name_of(namespace: str, name: str) -> tuple[str, str]:
    """A table's name as the tool shows it, and its namespace where that is not the usual one."""
    shown = f'"{name}"' if "." in name or name.startswith('"') else name
    return (shown, "") if namespace == "public" else (f"{namespace}.{shown}", namespace)


def ours_in(catalog: str, oid: str) -> str:
    return OURS.format(catalog=f"'{catalog}'", oid=oid)


_LOST = re.compile(
    r"(?i)closed the connection|no connection to the server|could not (receive|send) data|connection (is )?lost"
)
"""How the client's library says that the server went away among rows, for which it has no class of errors."""


def refusal_of(error: psycopg.Error, place: DatabasePlace) -> KeenHarborError:
    words = (error.diag.message_primary or str(error)).strip()
    if isinstance(error, errors.InvalidCatalogName) or f'database "{place.name}" does not exist' in words:
        return no_database(place)
    if "authentication" in words or "no password supplied" in words or 'role "' in words:
        return user_refused(place, words)
    if not error.sqlstate and (isinstance(error, psycopg.OperationalError) or _LOST.search(words)):
        return no_answer(place, words)
    return refused(place, words)


@contextlib.contextmanager
def own_errors(place: DatabasePlace) -> Iterator[None]:
    try:
        yield
    except psycopg.Error as error:
        raise refusal_of(error, place) from error


def as_literal(text: str) -> LiteralString:
    """SQL that is put together here, of quoted names, for a driver that wants to be told so."""
    return text


def run_statement(
    connection: Connection, text: str, values: Sequence[Any] | None = None
) -> psycopg.Cursor[tuple[Any, ...]]:
    """Run one statement."""
    return connection.execute(as_literal(text), values)


def copy_out(connection: Connection, statement: str, *, alone: bool = False) -> Iterator[bytes]:
    """What a COPY TO STDOUT sends, whole lines, in pieces of about `BLOCK_BYTES`.

    Row by row from the driver's lowest layer (https://www.postgresql.org/docs/current/libpq-copy.html): what the layers
    above it do for each row takes three times as long as the server. In a process that is ``alone`` (without other
    threads, and that nobody interrupts), the driver itself waits for what comes, which takes less."""
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
    """Lines that come, about `BLOCK_BYTES` of them, and whether they were the last."""
    parts: list[Any] = []
    size, count = 0, 0
    take, add = wire.get_copy_data, parts.append
    at_once = 0 if alone else 1
    with no_cycle_search():  # a view for each line
        while size < BLOCK_BYTES:
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


def connect_to(place: DatabasePlace, name: str | None = None) -> Connection:
    """A connection outside any transaction."""
    socket = Path(place.socket) if place.socket else None
    port = place.asked_port
    if socket is not None and socket.name.startswith(".s.PGSQL."):
        socket, port = socket.parent, int(socket.name.rpartition(".")[2])
    with own_errors(place):
        connection = psycopg.connect(
            host=str(socket) if socket is not None else place.host, port=port, dbname=name or place.name,
            user=place.user or None, password=place.password or None, connect_timeout=10, autocommit=True,
            client_encoding="UTF8", application_name="keenharbor",
        )  # fmt: skip
        run_statement(connection, SESSION)
        return connection
