"""A PostgreSQL database as text for its own client."""

from __future__ import annotations

from collections.abc import Iterator

from keenharbor.database.postgres.wire import literal_of, qualified
from keenharbor.database.postgres.write import MADE_FIRST
from keenharbor.database.rows import StoredState
from keenharbor.database.words import double_quoted as quote


def sql_text(state: StoredState) -> Iterator[bytes]:
    """The database as SQL for its own client, for an empty one."""
    schema = state.schema
    yield (
        b"SET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nSET check_function_bodies = off;\n"
        b"SET client_min_messages = warning;\nSET TimeZone = 'UTC';\nSELECT pg_catalog.set_config('search_path', '', "
        b"false);\n"
    )
    for kind, _, ddl in schema.objects:
        if kind in MADE_FIRST:
            yield f"{ddl};\n".encode()
    for table in schema.tables:
        yield f"{table.ddl};\n".encode()
    for table in schema.tables:
        stored = state.tables.get(table.name)
        if stored is None or not stored.chunk_ids:
            continue
        columns = ", ".join(quote(c) for c in table.columns)
        yield f"COPY {qualified(table)} ({columns}) FROM stdin;\n".encode()
        for block in state.blocks(table.name):
            yield block.lines
        yield b"\\.\n"
    for kind, _, ddl in schema.objects:
        if kind not in MADE_FIRST:
            yield f"{ddl};\n".encode()
    for what, (last, called) in schema.counters.items():
        name = literal_of(what.removeprefix("sequence "))
        yield f"SELECT pg_catalog.setval({name}, {int(last)}, {str(bool(called)).lower()});\n".encode()
