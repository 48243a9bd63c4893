"""Databases behind one protocol, one module an engine; rows, their encoding, differences, address rewriting."""

from typing import TYPE_CHECKING

from keenharbor.base.lazily import offered

if TYPE_CHECKING:
    from keenharbor.database.diff import Carried, RowDelta, TableDelta, row_delta
    from keenharbor.database.engines import ENGINES, open_database, sql_text
    from keenharbor.database.lines import encode_row
    from keenharbor.database.protocol import (
        Block,
        Database,
        DatabasePlace,
        DatabaseState,
        DatabaseWriter,
        Row,
        Schema,
        Table,
        Value,
    )
    from keenharbor.database.readonly import ReadDatabase, read_only
    from keenharbor.database.rows import StoredState, StoredTable, Together, store_state, table_digest
else:
    __getattr__ = offered(
        __name__,
        {
            "diff": "Carried RowDelta TableDelta row_delta",
            "engines": "ENGINES open_database sql_text",
            "lines": "encode_row",
            "protocol": "Block Database DatabasePlace DatabaseState DatabaseWriter Row Schema Table Value",
            "readonly": "ReadDatabase read_only",
            "rows": "StoredState StoredTable Together store_state table_digest",
        },
    )

__all__ = [
    "ENGINES",
    "Block",
    "Carried",
    "Database",
    "DatabasePlace",
    "DatabaseState",
    "DatabaseWriter",
    "ReadDatabase",
    "Row",
    "RowDelta",
    "Schema",
    "StoredState",
    "StoredTable",
    "Table",
    "TableDelta",
    "Together",
    "Value",
    "encode_row",
    "open_database",
    "read_only",
    "row_delta",
    "sql_text",
    "store_state",
    "table_digest",
]
