"""Tables as CSV, and how an exported database is put back by hand."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator

from keenharbor.database import StoredState
from keenharbor.database.protocol import Schema, Value


def file_name(name: str) -> str:
    """A table's or a database's name as a file's."""
    return re.sub(r"[^\w.-]", "_", name)


def client_hint(schema: Schema, file: str) -> str:
    """The command by which the SQL text is put into an empty database by hand."""
    return schema.kind.client.format(file)


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
