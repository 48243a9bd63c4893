"""Making a database hold a stored state while writing only the rows that differ."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from blake3 import blake3

from keenharbor.base.errors import UsageError
from keenharbor.database.lines import decode_lines, encode_row
from keenharbor.database.protocol import Block, DatabaseState, Row, Schema, Table
from keenharbor.database.rows import StoredState, chunks

MOST_BYTES_APART = 8 * 1024 * 1024
"""When more than this differs, counted over all tables as they are read, a table is written anew as a whole, so that
memory stays bounded (rows take about ten times the space of their lines)."""


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
    """Rows to remove (by key) and to add so that a table becomes as stored; ``whole`` when it is to be written anew.
    ``size``: bytes of the lines that had to be held."""

    remove: tuple[Row, ...] = ()
    add: tuple[Row, ...] = ()
    whole: bool = False
    size: int = 0

    def __bool__(self) -> bool:
        return bool(self.remove or self.add or self.whole)


def difference(table: Table, present: DatabaseState, wanted: StoredState, most_bytes: int = MOST_BYTES_APART) -> Apart:
    """What leads from the rows that ``present`` has to those of ``wanted``; both must have ``table`` alike."""
    stored = list(wanted.chunk_ids(table.name) or ())
    known = set(stored)
    ids: list[str] = []
    here: dict[str, bytes] = {}
    apart = 0
    for chunk in chunks(table, present.blocks(table.name)):
        identity = blake3(chunk.data).hexdigest()
        ids.append(identity)
        if identity not in known and apart <= most_bytes:
            here[identity] = chunk.data
            apart += len(chunk.data)
    if ids == stored:
        return Apart()
    missing = known - set(ids)
    if table.keyless or table.kind != "table" or apart > most_bytes or len(missing) > max(64, len(known) // 2):
        return Apart(whole=True)
    keys = table.key_positions
    by_key = {encode_row([r[i] for i in keys]): r for data in here.values() for r in decode_lines(table, data)}
    add: list[Row] = []
    same: set[bytes] = set()
    for identity in missing:
        for row in wanted.chunk(table.name, identity):
            key = encode_row([row[i] for i in keys])
            now = by_key.get(key)
            if now is not None and encode_row(now) == encode_row(row):
                same.add(key)
            else:
                add.append(row)
    gone = tuple(tuple(r[i] for i in keys) for k, r in by_key.items() if k not in same)
    return Apart(gone, tuple(add), size=apart)


def differences(
    present: DatabaseState, wanted: StoredState, leave: Iterable[str] = (), only: Collection[str] | None = None
) -> Iterator[tuple[Table, Apart]]:
    """Each table whose rows differ, with what leads to those of ``wanted``; tables in ``leave`` are passed over, and
    with ``only`` all but these."""
    passed = set(leave)
    budget = MOST_BYTES_APART
    for table in wanted.schema.tables:
        if table.kind == "virtual" or table.name in passed or (only is not None and table.name not in only):
            continue
        apart = difference(table, present, wanted, budget)
        budget -= apart.size
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
    if apart.remove:
        writer.remove(table, apart.remove)
    if apart.add:
        writer.load_rows(table, apart.add)
    return len(apart.remove) + len(apart.add)
