"""A MariaDB database as text for its own client."""

from __future__ import annotations

from collections.abc import Iterator

from keenharbor.database.mariadb.wire import BULK_MODE
from keenharbor.database.protocol import (
    Table,
)
from keenharbor.database.rows import StoredState
from keenharbor.database.words import back_quoted as quote
from keenharbor.database.words import insert_statements


def sql_text(state: StoredState) -> Iterator[bytes]:
    """The database as SQL for its own client, for an empty one."""
    schema = state.schema
    yield (
        "SET NAMES utf8mb4;\nSET time_zone = '+00:00', foreign_key_checks = 0, unique_checks = 0;\n"
        f"SET sql_mode = '{BULK_MODE}';\nSET @usual_collation = @@collation_connection;\n"
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
    after = f"SET sql_mode = '{BULK_MODE}', collation_connection = @usual_collation, time_zone = '+00:00';"
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
