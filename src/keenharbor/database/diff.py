"""How the rows of two database states differ, told by their keys."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial

from blake3 import blake3

from keenharbor.database.joining import Counted, Joined, Piece, join_pieces
from keenharbor.database.protocol import DatabaseState, Row, Table
from keenharbor.database.rowlist import RowList
from keenharbor.database.rows import StoredState, as_known, chunks


@dataclass(frozen=True)
class TableDelta:
    """What became of one table's rows, mapped onto the columns that both sides have.

    ``added`` and ``removed`` hold whole rows of their side; ``changed`` pairs (before, after). A table that only
    one side has counts as all added or all removed; ``only_on`` says which side.
    """

    name: str
    columns_left: tuple[str, ...]
    columns_right: tuple[str, ...]
    added: Sequence[Row] = ()
    removed: Sequence[Row] = ()
    changed: Sequence[tuple[Row, Row]] = ()
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


def row_delta(
    left: DatabaseState, right: DatabaseState, carried: Sequence[Carried] = (), known: DatabaseState | None = None,
    only: Collection[str] | None = None,
) -> RowDelta:  # fmt: skip
    """How ``right`` differs from ``left``; chunks that both have stored are not read. Rows that were ``carried`` are
    looked for where they went, under the name of their table on the left. What was not written on the right since it
    was stored as the left, or ``known``, is not read from there. With ``only`` the rows of no other tables are looked
    at."""
    tables: dict[str, TableDelta] = {}
    kept: dict[str, tuple[str, int]] = {}
    names = {t.name for t in left.schema.tables} | {t.name for t in right.schema.tables}
    for one in carried:
        if only is not None and one.table not in only:
            continue
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
    for name in sorted(names if only is None else names & set(only)):
        delta = _table_delta(name, left, as_known(as_known(right, name, left), name, known))
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
    joined = Joined(called, b)
    rows = 0

    def counted() -> Iterator[Row]:
        nonlocal rows
        for row in left.rows(one.table):
            rows += 1
            yield row

    joined.take_all(counted(), right.rows(one.to))
    return _told(joined, called, b.columns), rows - len(joined.removed) - len(joined.changed)


def _table_delta(name: str, left: DatabaseState, right: DatabaseState) -> TableDelta | None:
    a, b = left.schema.table(name), right.schema.table(name)
    if a is None and b is not None:
        return TableDelta(name, (), b.columns, added=RowList(right.rows(name)), only_on="right", key=b.key)
    if b is None and a is not None:
        return TableDelta(name, a.columns, (), removed=RowList(left.rows(name)), only_on="left", key=a.key)
    assert a is not None and b is not None
    if a.kind == "internal":
        return None
    joined = table_joined(a, b, left, right)
    columns = b.columns
    if a.keyless and b.keyless and set(a.columns) <= set(b.columns):
        columns = a.columns
    return _told(joined, a, columns)


def table_joined(a: Table, b: Table, left: DatabaseState, right: DatabaseState) -> Joined:
    """The rows of a table on both sides, joined; ``a`` and ``b`` are how it is made there."""
    if a.keyless and b.keyless:
        joined: Joined = Counted(a, b, a.columns if set(a.columns) <= set(b.columns) else None)
    else:
        if a.key != b.key and all(c in b.columns for c in a.key):
            b = replace(b, key=a.key)
        joined = Joined(a, b)
    if isinstance(left, StoredState):
        join_pieces(joined, (a, b), _stored_pieces(left, a.name), _pieces(right, b, left), stored_is_left=True)
    elif isinstance(right, StoredState):
        join_pieces(joined, (a, b), _stored_pieces(right, b.name), _pieces(left, a, right), stored_is_left=False)
    else:
        joined.take_all(left.rows(a.name), right.rows(b.name))
    return joined


def _told(joined: Joined, a: Table, columns: tuple[str, ...]) -> TableDelta:
    return TableDelta(a.name, a.columns, columns, joined.added, joined.removed, joined.changed, key=a.key)


def _stored_pieces(state: StoredState, name: str) -> list[Piece]:
    stored = state.tables.get(name)
    if stored is None:
        return []
    return [
        Piece(identity, last_key, partial(state.lines, identity))
        for identity, last_key in zip(stored.chunk_ids, stored.last_keys, strict=True)
    ]


def _pieces(state: DatabaseState, table: Table, other: StoredState) -> Iterator[Piece]:
    """Those of a state that is not stored are cut as they come; what the ``other`` has, too, is read from there."""
    if isinstance(state, StoredState):
        yield from _stored_pieces(state, table.name)
        return
    known = set(other.chunk_ids(table.name) or ())
    for chunk in chunks(table, state.blocks(table.name)):
        identity = blake3(chunk.data).hexdigest()
        if identity in known:
            yield Piece(identity, chunk.last_key, partial(other.lines, identity))
        else:
            yield Piece(identity, chunk.last_key, held=chunk.data)


def key_of(table: Table, row: Row) -> Row:
    """The values of the row's key."""
    return tuple(row[i] for i in table.key_positions)
