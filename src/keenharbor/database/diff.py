"""How the rows of two database states differ, told by their keys."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from blake3 import blake3

from keenharbor.database.lines import decode_lines, encode_row
from keenharbor.database.protocol import DatabaseState, Row, Table
from keenharbor.database.rows import StoredState, chunks


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
class Carried:
    """A table whose rows go into another one, or into the same with other columns: ``columns`` says how those that are
    called otherwise there were called before."""

    table: str
    to: str
    columns: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class RowDelta:
    """What became of the rows from a left to a right state: tables that differ, and definitions that do. ``kept`` tells
    of each table that was carried where it went, and how many of its rows are there with all that both have columns
    for."""

    tables: dict[str, TableDelta] = field(default_factory=dict)
    definitions_added: tuple[str, ...] = ()
    definitions_removed: tuple[str, ...] = ()
    definitions_changed: tuple[str, ...] = ()
    kept: dict[str, tuple[str, int]] = field(default_factory=dict)

    def __bool__(self) -> bool:
        return bool(self.tables or self.definitions_added or self.definitions_removed or self.definitions_changed)


def row_delta(left: DatabaseState, right: DatabaseState, carried: Sequence[Carried] = ()) -> RowDelta:
    """How ``right`` differs from ``left``; chunks that both have stored are not read. Rows that were ``carried`` are
    looked for where they went, under the name of their table on the left."""
    tables: dict[str, TableDelta] = {}
    kept: dict[str, tuple[str, int]] = {}
    names = {t.name for t in left.schema.tables} | {t.name for t in right.schema.tables}
    for one in carried:
        found = _carried_delta(one, left, right)
        if found is None:
            continue
        told, rows = found
        kept[one.table] = one.to, rows
        names.discard(one.table)
        if one.to != one.table and left.schema.table(one.to) is None:
            names.discard(one.to)  # what is there beyond the carried rows:
            if told.added:
                tables[one.to] = TableDelta(
                    one.to, (), told.columns_right, added=told.added, only_on="right", key=told.key
                )
            told = replace(told, added=())
        elif one.to != one.table:
            told = replace(told, added=())  # it had rows of its own, and is compared by itself
        if told:
            tables[one.table] = told
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
        kept,
    )


def _carried_delta(one: Carried, left: DatabaseState, right: DatabaseState) -> tuple[TableDelta, int] | None:
    """What became of carried rows, and how many are where they went; None while they have not gone."""
    a, b = left.schema.table(one.table), right.schema.table(one.to)
    if a is None or b is None or right.schema.table(one.table) == a:
        return None
    known_as = {old: new for new, old in one.columns.items()}
    called = replace(
        a, columns=tuple(known_as.get(c, c) for c in a.columns), key=tuple(known_as.get(c, c) for c in a.key)
    )
    rows = list(left.rows(one.table))
    delta = _delta_of(called, b, iter(rows), right.rows(one.to))
    return delta, len(rows) - len(delta.removed) - len(delta.changed)


def _table_delta(name: str, left: DatabaseState, right: DatabaseState) -> TableDelta | None:
    a, b = left.schema.table(name), right.schema.table(name)
    if a is None and b is not None:
        return TableDelta(name, (), b.columns, added=tuple(right.rows(name)), only_on="right", key=b.key)
    if b is None and a is not None:
        return TableDelta(name, a.columns, (), removed=tuple(left.rows(name)), only_on="left", key=a.key)
    assert a is not None and b is not None
    if a.kind == "internal":
        return None
    return _delta_of(a, b, *_differing_rows(name, left, right))


def _delta_of(a: Table, b: Table, rows_a: Iterator[Row], rows_b: Iterator[Row]) -> TableDelta:
    shared = [c for c in a.columns if c in b.columns]
    pick_a = [a.columns.index(c) for c in shared]
    pick_b = [b.columns.index(c) for c in shared]
    if a.keyless and b.keyless:
        return _keyless_delta(a, b, rows_a, rows_b)
    by_key_a = {encode_row(key_of(a, r)): r for r in rows_a}
    if a.key != b.key and all(c in b.columns for c in a.key):
        b = replace(b, key=a.key)
    added: list[Row] = []
    changed: list[tuple[Row, Row]] = []
    for row in rows_b:
        before = by_key_a.pop(encode_row(key_of(b, row)), None)
        if before is None:
            added.append(row)
        elif encode_row([before[i] for i in pick_a]) != encode_row([row[i] for i in pick_b]):
            changed.append((before, row))
    return TableDelta(a.name, a.columns, b.columns, tuple(added), tuple(by_key_a.values()), tuple(changed), key=a.key)


def _keyless_delta(a: Table, b: Table, rows_a: Iterator[Row], rows_b: Iterator[Row]) -> TableDelta:
    """Without a key a row is there so many times, or not: none is changed."""
    has_all = set(a.columns) <= set(b.columns)
    pick = [b.columns.index(c) for c in a.columns] if has_all else range(len(b.columns))
    before = Counter(rows_a)
    after = Counter(tuple(row[i] for i in pick) for row in rows_b)
    columns = a.columns if has_all else b.columns
    return TableDelta(a.name, a.columns, columns, tuple((after - before).elements()),
                      tuple((before - after).elements()), key=a.key)  # fmt: skip


def _differing_rows(name: str, left: DatabaseState, right: DatabaseState) -> tuple[Iterator[Row], Iterator[Row]]:
    """The rows of both sides, without those in chunks that both sides share.

    The rows of a state that is not stored are cut into chunks as they are read, and dropped when the other has the
    chunk."""
    if isinstance(left, StoredState) and isinstance(right, StoredState):
        both = set(left.chunk_ids(name) or ()) & set(right.chunk_ids(name) or ())
        return _but(left, name, both), _but(right, name, both)
    if isinstance(left, StoredState):
        shared, rows = _against(left, right, name)
        return _but(left, name, shared), iter(rows)
    if isinstance(right, StoredState):
        shared, rows = _against(right, left, name)
        return iter(rows), _but(right, name, shared)
    return left.rows(name), right.rows(name)


def _but(state: StoredState, name: str, apart_from: set[str]) -> Iterator[Row]:
    return (row for i in state.chunk_ids(name) or () if i not in apart_from for row in state.chunk(name, i))


def _against(stored: StoredState, read: DatabaseState, name: str) -> tuple[set[str], list[Row]]:
    """The chunks of ``stored`` that ``read`` has too, and the rows that it has beyond these."""
    known = set(stored.chunk_ids(name) or ())
    table = read.schema.table(name)
    assert table is not None
    if table.columns != getattr(stored.schema.table(name), "columns", None):
        return set(), list(read.rows(name))
    shared: set[str] = set()
    rows: list[Row] = []
    for chunk in chunks(table, read.blocks(name)):
        identity = blake3(chunk.data).hexdigest()
        if identity in known:
            shared.add(identity)
        else:
            rows += decode_lines(table, chunk.data)
    return shared, rows


def key_of(table: Table, row: Row) -> Row:
    """The values of the row's key."""
    return tuple(row[i] for i in table.key_positions)
