"""Databases behind one protocol, one module an engine; rows, their encoding, differences, address rewriting."""

from keenharbor.database.diff import RowDelta, TableDelta, row_delta
from keenharbor.database.engines import ENGINES, open_database
from keenharbor.database.protocol import (
    Database,
    DatabasePlace,
    DatabaseState,
    DatabaseWriter,
    Row,
    Schema,
    Table,
    Value,
)
from keenharbor.database.rows import (
    StoredState,
    StoredTable,
    decode_rows,
    encode_row,
    store_state,
    table_digest,
)

__all__ = [
    "ENGINES",
    "Database",
    "DatabasePlace",
    "DatabaseState",
    "DatabaseWriter",
    "Row",
    "RowDelta",
    "Schema",
    "StoredState",
    "StoredTable",
    "Table",
    "TableDelta",
    "Value",
    "decode_rows",
    "encode_row",
    "open_database",
    "row_delta",
    "store_state",
    "table_digest",
]
