"""A stored SQLite database as SQL."""

from __future__ import annotations

import math
from collections.abc import Iterator

from keenharbor.database.lines import decode_json
from keenharbor.database.protocol import Value
from keenharbor.database.rows import StoredState
from keenharbor.database.words import double_quoted as quote
from keenharbor.database.words import insert_statements


def sql_text(state: StoredState) -> Iterator[bytes]:
    """The database as SQL for its own client, for an empty one."""
    schema = state.schema
    encoding = schema.settings.get("encoding", "UTF-8")
    yield f"PRAGMA foreign_keys = OFF;\nPRAGMA encoding = '{encoding!s}';\nBEGIN;\n".encode()
    for table in schema.tables:
        if table.kind in ("table", "virtual"):
            yield f"{table.ddl};\n".encode("utf-8", "surrogateescape")
    for table in schema.tables:
        if table.kind == "virtual":
            continue
        if table.kind in ("shadow", "internal"):
            yield f"DELETE FROM {quote(table.name)};\n".encode()
        columns = ", ".join(quote(c) for c in table.columns)
        head = f"INSERT INTO {quote(table.name)} ({columns}) VALUES\n"
        rows = (
            "(" + ", ".join(value_text(v) for v in row) + ")"
            for block in state.blocks(table.name)
            for row in decode_json(block.lines)
        )
        yield from insert_statements(head, rows)
    for _, _, ddl in schema.objects:
        yield f"{ddl};\n".encode("utf-8", "surrogateescape")
    yield b"COMMIT;\n"
    for name in ("user_version", "application_id"):
        yield f"PRAGMA {name} = {int(schema.settings.get(name) or 0)};\n".encode()


def value_text(value: Value) -> str:
    """A value as SQLite's own SQL writes it."""
    if value is None:
        return "NULL"
    if isinstance(value, bytes):
        return f"X'{value.hex()}'"
    if isinstance(value, str):
        raw = value.encode("utf-8", "surrogateescape")
        if b"\x00" in raw or any("\ud800" <= c <= "\udfff" for c in value):
            return f"CAST(X'{raw.hex()}' AS TEXT)"
        return "'" + value.replace("'", "''") + "'"
    if isinstance(value, float) and not math.isfinite(value):
        return "NULL" if math.isnan(value) else ("9e999" if value > 0 else "-9e999")
    return repr(value)
