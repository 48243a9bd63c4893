"""Making a database hold a stored state while writing only the rows that differ."""

from __future__ import annotations

import itertools
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from keenharbor.base.errors import UsageError
from keenharbor.database.diff import table_joined
from keenharbor.database.protocol import Block, DatabaseState, Row, Schema, Table
from keenharbor.database.rowlist import RowList
from keenharbor.database.rows import StoredState, as_known

_WHOLE = 3
"""When more than one in so many rows differs, writing the table anew is quicker."""
_BATCH = 1000


class RowWriter(Protocol):
    """What an engine's writer offers for rows in bulk, within its transaction."""

    def clear(self, table: Table) -> None:
        """Remove every row."""

    def remove(self, table: Table, keys: Sequence[Row]) -> None:
        """Remove the rows with these keys."""

    def load(self, table: Table, blocks: Iterable[Block]) -> None:
        """Add rows as they are stored; no trigger fires."""

    def load_rows(self, table: Table, rows: Sequence[Row]) -> None:
        """Add a few rows; no trigger fires."""


@dataclass(frozen=True)
class Apart:
    """Rows to remove (by key) and to add so that a table becomes as stored; ``whole`` when it is to be written anew."""

    remove: Sequence[Row] = ()
    add: Sequence[Row] = ()
    whole: bool = False

    def __bool__(self) -> bool:
        return bool(self.remove or self.add or self.whole)


def difference(table: Table, present: DatabaseState, wanted: StoredState) -> Apart:
    """What leads from the rows that ``present`` has to those of ``wanted``; both must have ``table`` alike."""
    if table.keyless or table.kind != "table":
        return Apart(whole=not wanted.tables[table.name].holds(present.blocks(table.name)))
    joined = table_joined(table, table, present, wanted)
    apart = len(joined.added) + len(joined.removed) + len(joined.changed)
    if apart > max(_BATCH, wanted.tables[table.name].row_count // _WHOLE):
        return Apart(whole=True)
    keys = table.key_positions
    remove, add = RowList(), RowList(joined.added)
    for row in joined.removed:
        remove.append(tuple(row[i] for i in keys))
    for now, was in joined.changed:
        remove.append(tuple(now[i] for i in keys))
        add.append(was)
    return Apart(remove, add)


def differences(
    present: DatabaseState, wanted: StoredState, leave: Iterable[str] = (), only: Collection[str] | None = None,
    known: DatabaseState | None = None,
) -> Iterator[tuple[Table, Apart]]:  # fmt: skip
    """Each table whose rows differ, with what leads to those of ``wanted``; tables in ``leave`` are passed over, and
    with ``only`` all but these. What was not written since it was ``known`` is read from there."""
    passed = set(leave)
    for table in wanted.schema.tables:
        if table.kind == "virtual" or table.name in passed or (only is not None and table.name not in only):
            continue
        apart = difference(table, as_known(present, table.name, known), wanted)
        if apart:
            yield table, apart


def _settled(schema: Schema, name: str) -> Table | None:
    table = schema.table(name)
    return replace(table, ddl=schema.kind.settle(table.ddl)) if table is not None else None


def refuse_other_definitions(present: Schema, wanted: Schema, tables: Iterable[str]) -> None:
    """Raise `UsageError` unless each of ``tables`` is made alike on both sides: rows of another make-up cannot be put
    in."""
    for name in tables:
        if wanted.table(name) is None:
            raise UsageError(f"the snapshot has no table '{name}'")
        if _settled(present, name) != _settled(wanted, name):
            raise UsageError(
                f"table {name} is not made as it was: single tables cannot be given back over it",
                advice="restore to a folder or another database and take from there, or restore everything",
            )


def write_difference(table: Table, apart: Apart, wanted: StoredState, writer: RowWriter) -> int:
    """Put ``apart`` into effect; returns how many rows were removed or added."""
    if apart.whole:
        writer.clear(table)
        writer.load(table, wanted.blocks(table.name))
        return wanted.tables[table.name].row_count
    for keys in _batches(apart.remove):
        writer.remove(table, keys)
    for rows in _batches(apart.add):
        writer.load_rows(table, rows)
    return len(apart.remove) + len(apart.add)


def _batches(rows: Iterable[Row]) -> Iterator[list[Row]]:
    coming = iter(rows)
    while batch := list(itertools.islice(coming, _BATCH)):
        yield batch
