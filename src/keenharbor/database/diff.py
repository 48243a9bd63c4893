"""How the rows of two database states differ, told by their keys."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from keenharbor.database.protocol import DatabaseState, Row, Table
from keenharbor.database.rows import StoredState, encode_row, key_of


@dataclass(frozen=True)
class TableDelta:
    """What became of one table's rows, mapped onto the columns that both sides have.

    ``added`` and ``removed`` hold whole rows of their side; ``changed`` pairs (before, after). A table that only
    one side has counts as all added or all removed; ``only_on`` says which side.
    """

    name: str
    columns_left: tuple[str, ...]
    columns_right: tuple[str, ...]
    added: tuple[Row, ...] = ()
    removed: tuple[Row, ...] = ()
    changed: tuple[tuple[Row, Row], ...] = ()
    only_on: str | None = None
    key: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.added or self.removed or self.changed or self.only_on)

    @property
    def shared(self) -> tuple[str, ...]:
        return tuple(c for c in self.columns_left if c in self.columns_right)


@dataclass(frozen=True)
class RowDelta:
    """What became of the rows from a left to a right state: tables that differ, and definitions that do."""

    tables: dict[str, TableDelta] = field(default_factory=dict)
    definitions_added: tuple[str, ...] = ()
    definitions_removed: tuple[str, ...] = ()
    definitions_changed: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.tables or self.definitions_added or self.definitions_removed or self.definitions_changed)


def row_delta(left: DatabaseState, right: DatabaseState) -> RowDelta:
    """How ``right`` differs from ``left``; chunks that both have stored are not read."""
    tables: dict[str, TableDelta] = {}
    names = {t.name for t in left.schema.tables} | {t.name for t in right.schema.tables}
    for name in sorted(names):
        delta = _table_delta(name, left, right)
        if delta:
            tables[name] = delta
    before, after = left.schema.definitions(), right.schema.definitions()
    return RowDelta(
        tables,
        tuple(sorted(after.keys() - before.keys())),
        tuple(sorted(before.keys() - after.keys())),
        tuple(sorted(k for k in before.keys() & after.keys() if before[k] != after[k])),
    )


def _table_delta(name: str, left: DatabaseState, right: DatabaseState) -> TableDelta | None:
    a, b = left.schema.table(name), right.schema.table(name)
    if a is None and b is not None:
        return TableDelta(name, (), b.columns, added=tuple(right.rows(name)), only_on="right", key=b.key)
    if b is None and a is not None:
        return TableDelta(name, a.columns, (), removed=tuple(left.rows(name)), only_on="left", key=a.key)
    assert a is not None and b is not None
    if a.kind == "internal":
        return None
    shared = [c for c in a.columns if c in b.columns]
    pick_a = [a.columns.index(c) for c in shared]
    pick_b = [b.columns.index(c) for c in shared]
    rows_a, rows_b = _differing_rows(name, left, right)
    by_key_a = {encode_row(key_of(a, r)): r for r in rows_a}
    if a.key != b.key and all(c in b.columns for c in a.key):
        b = Table(b.name, b.columns, a.key, b.ddl, b.kind, b.implicit_key)
    added: list[Row] = []
    changed: list[tuple[Row, Row]] = []
    for row in rows_b:
        before = by_key_a.pop(encode_row(key_of(b, row)), None)
        if before is None:
            added.append(row)
        elif encode_row([before[i] for i in pick_a]) != encode_row([row[i] for i in pick_b]):
            changed.append((before, row))
    return TableDelta(name, a.columns, b.columns, tuple(added), tuple(by_key_a.values()), tuple(changed), key=a.key)


def _differing_rows(name: str, left: DatabaseState, right: DatabaseState) -> tuple[Iterator[Row], Iterator[Row]]:
    """The rows of both sides, without those in chunks that both sides share."""
    ids_left, ids_right = left.chunk_ids(name), right.chunk_ids(name)
    if ids_left is None or ids_right is None or not (isinstance(left, StoredState) and isinstance(right, StoredState)):
        return left.rows(name), right.rows(name)
    both = set(ids_left) & set(ids_right)
    return (
        (row for i in ids_left if i not in both for row in left.chunk(i)),
        (row for i in ids_right if i not in both for row in right.chunk(i)),
    )
