"""A stored database as SQL text that the engine's own client takes, and its tables as CSV."""

from __future__ import annotations

import io
import math
import re
from collections.abc import Iterator

from keenharbor.database import StoredState
from keenharbor.database.lines import decode_json
from keenharbor.database.protocol import Schema, Table, Value

_ROWS_A_STATEMENT = 200
_BYTES_A_STATEMENT = 512 * 1024
_POSTGRES_FIRST = ("schema", "extension", "collation", "type", "sequence", "function")


def file_name(name: str) -> str:
    """A table's or a database's name as a file's."""
    return re.sub(r"[^\w.-]", "_", name)


def client_hint(schema: Schema, file: str) -> str:
    """The command by which the SQL text is put into an empty database by hand."""
    return {
        "sqlite": f"sqlite3 NEW.db < {file}",
        "mariadb": f"mariadb --default-character-set=utf8mb4 NEW_DATABASE < {file}",
        "postgres": f"psql -v ON_ERROR_STOP=1 -1 -d NEW_DATABASE -f {file}",
    }[schema.engine]


def sql_text(state: StoredState) -> Iterator[bytes]:
    """The database as SQL, for an empty one of the same engine."""
    yield from {"sqlite": _sqlite, "mariadb": _mariadb, "postgres": _postgres}[state.schema.engine](state)


def csv_text(state: StoredState, name: str) -> Iterator[bytes]:
    """A table as CSV with a head line (RFC 4180); bytes in hexadecimal, null as nothing and an empty text as ``""``."""
    table = state.schema.table(name)
    assert table is not None
    out = io.StringIO()
    out.write(",".join(_csv_cell(c) for c in table.columns) + "\r\n")
    stored = state.tables[name]
    for identity in stored.chunk_ids:
        for row in state.chunk(name, identity):
            out.write(",".join(_csv_cell(v) for v in row) + "\r\n")
        yield out.getvalue().encode("utf-8", "surrogateescape")
        out.seek(0)
        out.truncate()
    if out.getvalue():
        yield out.getvalue().encode("utf-8", "surrogateescape")


def _csv_cell(value: Value) -> str:
    if value is None:
        return ""
    if isinstance(value, bytes):
        return value.hex()
    text = str(value)
    if text == "" or any(c in text for c in ',"\r\n') or text != text.strip():
        return '"' + text.replace('"', '""') + '"'
    return text


def _statements(head: str, rows: Iterator[str]) -> Iterator[bytes]:
    """INSERT statements of a bounded size."""
    batch: list[str] = []
    size = 0
    for row in rows:
        batch.append(row)
        size += len(row)
        if len(batch) >= _ROWS_A_STATEMENT or size >= _BYTES_A_STATEMENT:
            yield (head + ",\n".join(batch) + ";\n").encode("utf-8", "surrogateescape")
            batch, size = [], 0
    if batch:
        yield (head + ",\n".join(batch) + ";\n").encode("utf-8", "surrogateescape")


# -- SQLite ---------------------------------------------------------------------------------------------------


def _double_quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _sqlite(state: StoredState) -> Iterator[bytes]:
    schema = state.schema
    yield f"PRAGMA foreign_keys = OFF;\nPRAGMA encoding = '{schema.settings.get('encoding', 'UTF-8')!s}';\nBEGIN;\n".encode()
    for table in schema.tables:
        if table.kind in ("table", "virtual"):
            yield f"{table.ddl};\n".encode("utf-8", "surrogateescape")
    for table in schema.tables:
        if table.kind == "virtual":
            continue
        if table.kind in ("shadow", "internal"):
            yield f"DELETE FROM {_double_quoted(table.name)};\n".encode()
        columns = ", ".join(_double_quoted(c) for c in table.columns)
        head = f"INSERT INTO {_double_quoted(table.name)} ({columns}) VALUES\n"
        rows = (
            "(" + ", ".join(_sqlite_value(v) for v in row) + ")"
            for block in state.blocks(table.name)
            for row in decode_json(block.lines)
        )
        yield from _statements(head, rows)
    for _, _, ddl in schema.objects:
        yield f"{ddl};\n".encode("utf-8", "surrogateescape")
    yield b"COMMIT;\n"
    for name in ("user_version", "application_id"):
        yield f"PRAGMA {name} = {int(schema.settings.get(name) or 0)};\n".encode()


def _sqlite_value(value: Value) -> str:
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


# -- MariaDB --------------------------------------------------------------------------------------------------


def _back_quoted(name: str) -> str:
    return "`" + name.replace("`", "``") + "`"


def _mariadb(state: StoredState) -> Iterator[bytes]:
    schema = state.schema
    mode = "NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,NO_ENGINE_SUBSTITUTION"
    yield (
        "SET NAMES utf8mb4;\nSET time_zone = '+00:00', foreign_key_checks = 0, unique_checks = 0;\n"
        f"SET sql_mode = '{mode}';\nSET @usual_collation = @@collation_connection;\n"
    ).encode()
    for kind, name, ddl in schema.objects:
        if kind in ("sequence", "function"):
            yield _mariadb_object(kind, name, ddl, mode)
    for table in schema.tables:
        yield f"{table.ddl};\n".encode("utf-8", "surrogateescape")
    for table in schema.tables:
        columns = ", ".join(_back_quoted(c) for c in table.columns)
        head = f"INSERT INTO {_back_quoted(table.name)} ({columns}) VALUES\n"
        yield from _statements(head, _mariadb_rows(state, table))
    for what, (value, *_) in schema.counters.items():
        kind, _, name = what.partition(" ")
        if kind == "sequence":
            yield f"SELECT SETVAL({_back_quoted(name)}, {int(value)}, 0);\n".encode()
        else:
            yield f"ALTER TABLE {_back_quoted(name)} AUTO_INCREMENT = {int(value)};\n".encode()
    for kind, name, ddl in schema.objects:
        if kind not in ("sequence", "function"):
            yield _mariadb_object(kind, name, ddl, mode)
    yield b"SET foreign_key_checks = 1, unique_checks = 1;\n"


def _mariadb_object(kind: str, name: str, ddl: str, mode: str) -> bytes:
    if not ddl.startswith("SET "):
        return f"{ddl};\n".encode("utf-8", "surrogateescape")
    before, create = ddl.split("\n", 1)
    after = f"SET sql_mode = '{mode}', collation_connection = @usual_collation, time_zone = '+00:00';"
    return f"{before}\nDELIMITER $$\n{create}$$\nDELIMITER ;\n{after}\n".encode("utf-8", "surrogateescape")


def _mariadb_rows(state: StoredState, table: Table) -> Iterator[str]:
    kinds = list(zip(table.kinds, table.read_as, strict=True))
    for block in state.blocks(table.name):
        for line in block.lines[:-1].decode("utf-8", "surrogateescape").split("\n"):
            yield (
                "("
                + ", ".join(_mariadb_value(f, k, a) for f, (k, a) in zip(line.split("\t"), kinds, strict=True))
                + ")"
            )


def _mariadb_value(field: str, kind: str, how: str) -> str:
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


# -- PostgreSQL -----------------------------------------------------------------------------------------------


def _postgres(state: StoredState) -> Iterator[bytes]:
    schema = state.schema
    yield (
        b"SET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nSET check_function_bodies = off;\n"
        b"SET client_min_messages = warning;\nSET TimeZone = 'UTC';\nSELECT pg_catalog.set_config('search_path', '', false);\n"
    )
    for kind, _, ddl in schema.objects:
        if kind in _POSTGRES_FIRST:
            yield f"{ddl};\n".encode()
    for table in schema.tables:
        yield f"{table.ddl};\n".encode()
    for table in schema.tables:
        stored = state.tables.get(table.name)
        if stored is None or not stored.chunk_ids:
            continue
        bare = table.bare_name[1:-1] if table.bare_name.startswith('"') else table.bare_name
        name = f"{_double_quoted(table.namespace or 'public')}.{_double_quoted(bare)}"
        yield f"COPY {name} ({', '.join(_double_quoted(c) for c in table.columns)}) FROM stdin;\n".encode()
        for block in state.blocks(table.name):
            yield block.lines
        yield b"\\.\n"
    for kind, _, ddl in schema.objects:
        if kind not in _POSTGRES_FIRST:
            yield f"{ddl};\n".encode()
    for what, (last, called) in schema.counters.items():
        name = what.removeprefix("sequence ").replace("'", "''")
        yield f"SELECT pg_catalog.setval('{name}', {int(last)}, {str(bool(called)).lower()});\n".encode()
