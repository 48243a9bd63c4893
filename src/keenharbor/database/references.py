"""Which rows belong to which: the foreign keys that a schema declares, whatever its engine.

The text of a definition is the engine's own; only the standard's ``FOREIGN KEY (…) REFERENCES …`` and ``REFERENCES`` of
a column (ISO/IEC 9075-2, 11.8) are relied on."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from keenharbor.database.makeup import elements_of
from keenharbor.database.protocol import Schema, Table

_ONE = r'(?:"(?:[^"]|"")+"|`(?:[^`]|``)+`|\[[^\]]+\]|[\w$]+)'
_TO = rf"REFERENCES\s+({_ONE}(?:\s*\.\s*{_ONE})?)\s*(?:\(([^)]*)\))?"
_OF_TABLE = re.compile(rf"(?is)\bFOREIGN\s+KEY\s*(?:{_ONE}\s*)?\(([^)]*)\)\s*{_TO}")
_OF_COLUMN = re.compile(rf"(?is)^({_ONE})\s.*?\b{_TO}")
_ALTERED = re.compile(rf"(?is)^ALTER\s+TABLE\s+(?:ONLY\s+)?({_ONE}(?:\s*\.\s*{_ONE})?)\s+ADD\s+CONSTRAINT")


@dataclass(frozen=True)
class Reference:
    """Rows of ``table`` name a row of ``to`` by its ``to_columns`` in their ``columns``. ``declared`` by the schema, or
    inferred from names and data."""

    table: str
    columns: tuple[str, ...]
    to: str
    to_columns: tuple[str, ...]
    declared: bool = True


def references_in(schema: Schema) -> list[Reference]:
    """The foreign keys that are declared in ``schema`` between tables that it has."""
    found: list[Reference] = []
    for table in schema.tables:
        if table.kind != "table":
            continue
        for element in elements_of(table.ddl):
            if (whole := _OF_TABLE.search(element)) is not None:
                found += _reference(schema, table, names_in(whole[1]), whole[2], whole[3])
            elif (column := _OF_COLUMN.match(element)) is not None:
                found += _reference(schema, table, (_bare(column[1]),), column[2], column[3])
    for made in schema.objects:
        whole = _OF_TABLE.search(made.ddl) if made.kind == "constraint" else None
        altered = _ALTERED.match(made.ddl) if whole is not None else None
        child = _table_called(schema, altered[1]) if altered is not None else None
        if whole is not None and child is not None:
            found += _reference(schema, child, names_in(whole[1]), whole[2], whole[3])
    return found


def _reference(
    schema: Schema, table: Table, columns: tuple[str, ...], to: str, to_columns: str | None
) -> Iterator[Reference]:
    parent = _table_called(schema, to)
    if parent is None:
        return
    named = names_in(to_columns) if to_columns else tuple(c for c in parent.key if not parent.implicit_key)
    by_name = {c.lower(): c for c in table.columns}
    of_parent = {c.lower(): c for c in parent.columns}
    here = tuple(by_name.get(c.lower(), c) for c in columns)
    there = tuple(of_parent.get(c.lower(), c) for c in named)
    if len(here) == len(there) and set(here) <= set(table.columns) and set(there) <= set(parent.columns):
        yield Reference(table.name, here, parent.name, there)


def names_in(listed: str) -> tuple[str, ...]:
    """The columns between the parentheses of a key."""
    return tuple(_bare(found) for found in re.findall(_ONE, listed))


def _bare(name: str) -> str:
    return name[1:-1].replace(name[-1] * 2, name[-1]) if name[0] in '"`[' else name


def _table_called(schema: Schema, name: str) -> Table | None:
    parts = [_bare(part) for part in re.findall(_ONE, name)]
    wanted = parts[-1].lower()
    fit = [t for t in schema.tables if wanted in (t.name.lower(), t.bare_name.lower())]
    if len(fit) > 1 and len(parts) == 2:
        fit = [t for t in fit if (t.namespace or "public").lower() == parts[0].lower()] or fit
    return fit[0] if fit else None
