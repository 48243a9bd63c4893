"""MariaDB and MySQL.

Rows are read in one transaction ``WITH CONSISTENT SNAPSHOT``, which keeps no writer out, and restored with LOAD DATA,
whose text form is that of the store. DDL ends a transaction here: giving back a state with other definitions can be
repeated after an interruption, but is not undone by one
(https://mariadb.com/docs/server/reference/sql-statements/transactions)."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import pymysql
from pymysql.constants import CLIENT
from pymysql.converters import encoders

from keenharbor.base.errors import UsageError
from keenharbor.database.mariadb.read import Reader, ReadState
from keenharbor.database.mariadb.schema import read_schema
from keenharbor.database.mariadb.text import sql_text
from keenharbor.database.mariadb.wire import own_errors, query_of, text_of
from keenharbor.database.mariadb.write import Writer
from keenharbor.database.protocol import (
    DatabasePlace,
    DatabaseState,
    DatabaseWriter,
)
from keenharbor.database.words import back_quoted as quote


class MariadbDatabase:
    """A database on a MariaDB or MySQL server."""

    def __init__(self, place: DatabasePlace) -> None:
        self.place = place

    def _connect(self, name: bool = True) -> pymysql.connections.Connection[Any]:
        place = self.place
        with own_errors(place):
            return pymysql.connect(
                host=place.host or "localhost", port=place.asked_port, unix_socket=place.socket or None,
                user=place.user,
                password=place.password, database=place.name if name else None, charset="utf8mb4", autocommit=True,
                local_infile=True, client_flag=CLIENT.MULTI_STATEMENTS, connect_timeout=10,
                # Results as they come: values are decoded by what the table says of them.
                use_unicode=False, conv={k: v for k, v in encoders.items() if isinstance(k, type)},
            )  # fmt: skip

    def _ask(self, sql: str) -> list[tuple[Any, ...]]:
        with contextlib.closing(self._connect()) as connection, own_errors(self.place):
            return query_of(connection)(sql)

    def exists(self) -> bool:
        try:
            self._connect().close()
        except UsageError:
            return False
        return True

    def version(self) -> str:
        return text_of(self._ask("SELECT VERSION()")[0][0])

    def size(self) -> int:
        found = self._ask(
            "SELECT SUM(data_length + index_length) FROM information_schema.tables WHERE table_schema = DATABASE()"
        )
        return int(found[0][0] or 0)

    def files(self) -> Iterable[Path]:
        return ()

    def drop(self) -> None:
        with contextlib.closing(self._connect(name=False)) as server, own_errors(self.place):
            query_of(server)(f"DROP DATABASE IF EXISTS {quote(self.place.name)}")

    def lacking(self) -> list[str]:
        # Rights on everything or on this database; names of databases may hold wild cards, so underscores are escaped.
        ours = (" ON *.* ", f" ON {quote(self.place.name)}.")
        said = [text_of(r[0]).replace("\\_", "_") for r in self._ask("SHOW GRANTS")]
        rights = " ".join(g.split(" ON ")[0] for g in said if any(where in g for where in ours)).upper()
        if "ALL PRIVILEGES" in rights:
            return []
        wanted = (("SELECT", "read tables"), ("SHOW VIEW", "see how views are defined"),
                  ("TRIGGER", "see triggers"), ("EVENT", "see events"))  # fmt: skip
        return [f"{words} (the right {right} is missing)" for right, words in wanted if right not in rights]

    @contextlib.contextmanager
    def reading(self) -> Iterator[DatabaseState]:
        reader = Reader(self.place)
        try:
            with own_errors(self.place):
                reader.connect()
                began = reader.begin()
                schema, marks = read_schema(reader.query, began)
            yield ReadState(reader, schema, marks, self.place)
        finally:
            reader.close()

    @contextlib.contextmanager
    def writing(self) -> Iterator[DatabaseWriter]:
        try:
            connection = self._connect()
        except UsageError:
            with contextlib.closing(self._connect(name=False)) as server, own_errors(self.place):
                query_of(server)(f"CREATE DATABASE {quote(self.place.name)}")
            connection = self._connect()
        with contextlib.closing(connection):
            writer = Writer(self, connection)
            with own_errors(self.place):
                connection.begin()
            try:
                yield writer
                with own_errors(self.place):
                    connection.commit()
            except BaseException:
                with contextlib.suppress(pymysql.err.MySQLError, OSError):
                    connection.rollback()
                raise


__all__ = ["MariadbDatabase", "sql_text"]
