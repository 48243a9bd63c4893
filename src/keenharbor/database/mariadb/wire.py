"""Speaking to a MariaDB server: queries, texts, and how refusals are told."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import asyncmy
import asyncmy.cursors
import asyncmy.errors
import pymysql

from keenharbor.base.errors import KeenHarborError
from keenharbor.database.protocol import (
    DatabasePlace,
)
from keenharbor.database.words import no_answer, no_database, refused, user_refused

Query = Callable[[str], list[tuple[Any, ...]]]


Rows = Sequence[tuple[bytes | None, ...]]


BLOCK_BYTES = 512 * 1024


BULK_MODE = "NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,NO_ENGINE_SUBSTITUTION"


MISSING_DATABASE = 1049


CHECK_FAILED = (4025, 3819)


def literal_of(text: str) -> str:
    return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"


def text_of(value: Any) -> str:
    return value.decode("utf-8", "surrogateescape") if isinstance(value, bytes | bytearray) else str(value)


def refusal_of(error: Exception, place: DatabasePlace) -> KeenHarborError:
    number = error.args[0] if error.args and isinstance(error.args[0], int) else 0
    words = str(error.args[1]) if len(error.args) > 1 else str(error)
    if number in (1044, 1045, 1698):
        return user_refused(place, words)
    if number in (2002, 2003, 2005, 2006, 2013, 2055) or isinstance(error, OSError):
        return no_answer(place, words)
    if number == MISSING_DATABASE:
        return no_database(place)
    if number == 1412:
        return KeenHarborError(
            "a table was redefined while it was to be read", where=str(place), advice="type the command again"
        )
    return refused(place, words)


@contextlib.contextmanager
def own_errors(place: DatabasePlace) -> Iterator[None]:
    try:
        yield
    except (pymysql.err.MySQLError, asyncmy.errors.MySQLError, ConnectionError, asyncio.IncompleteReadError) as error:
        raise refusal_of(error, place) from error


def query_of(connection: pymysql.connections.Connection[Any]) -> Query:
    def run(sql: str) -> list[tuple[Any, ...]]:
        with connection.cursor() as cursor:
            cursor.execute(sql)
            return list(cursor.fetchall())

    return run
