"""Carrying rows over: ``delta(base → theirs)`` put onto ``ours``, by the columns that both have."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from keenharbor.base.durable import write_durably
from keenharbor.base.text import plural
from keenharbor.database import DatabaseState, DatabaseWriter, Row, TableDelta, encode_row, row_delta
from keenharbor.database.diff import key_of


@dataclass
class CarriedOver:
    """What was carried, by table; what was put aside, each row with table and reason; what else differs, in words.

    ``trimmed`` counts the rows among those put aside that were carried but for columns which are not there any more.
    """

    carried: dict[str, int] = field(default_factory=dict)
    aside: list[dict[str, object]] = field(default_factory=list)
    trimmed: int = 0
    elsewhere: list[str] = field(default_factory=list)

    @property
    def not_carried(self) -> int:
        """Rows that are nowhere but in what was put aside."""
        return len(self.aside) - self.trimmed

    @property
    def rows(self) -> int:
        return sum(self.carried.values())

    def put_aside(self, table: str, reason: str, columns: Iterable[str], row: Row) -> None:
        values = json.loads(encode_row(row))
        self.aside.append({"table": table, "reason": reason, "row": dict(zip(columns, values, strict=True))})

    def save_aside(self, file: Path) -> Path | None:
        """Write what was not carried as JSON lines; None when everything was."""
        if not self.aside:
            return None
        write_durably(file, "".join(json.dumps(line, ensure_ascii=False) + "\n" for line in self.aside).encode())
        return file


def carry_over(
    base: DatabaseState, theirs: DatabaseState, ours: DatabaseState, tables: Iterable[str], writer: DatabaseWriter
) -> CarriedOver:
    """Add to ``ours`` (through ``writer``, which must hold it) the rows of ``tables`` that ``theirs`` has and
    ``base`` has not.

    A row whose key ``ours`` has already with other values, one that a constraint refuses, values of columns that
    ``ours`` lacks, and rows that were changed or removed are put aside, not dropped.
    """
    result = CarriedOver()
    wanted = set(tables)
    delta = row_delta(base, theirs)
    waiting: list[_Carried] = []
    for name, table in sorted(delta.tables.items()):
        if name in wanted:
            waiting += _carry_table(name, table, theirs, ours, writer, result)
        elif table.added or table.changed or table.removed:
            counts = [("new", table.added), ("changed", table.changed), ("removed", table.removed)]
            result.elsewhere.append(f"table {name}: " + ", ".join(plural(len(r), f"{w} row") for w, r in counts if r))
    _carry_in_turn(waiting, writer, result)
    return result


@dataclass
class _Carried:
    """A row that is to be added: its columns and values there, the row as it was with its columns, those of them that
    are not there any more, and why it was refused."""

    table: str
    columns: list[str]
    values: Row
    was: Row
    was_columns: tuple[str, ...]
    lost: list[str]
    refusal: str = ""


def _carry_in_turn(waiting: list[_Carried], writer: DatabaseWriter, result: CarriedOver) -> None:
    """Add rows that had been refused, as long as some are taken: a row that belongs to another one (the fields of a
    form that was sent) is refused until that is there, and which belongs to which the tables' names do not tell."""
    taken = True
    while waiting and taken:
        taken, still = False, list[_Carried]()
        for row in waiting:
            row.refusal = writer.insert(row.table, row.columns, row.values) or ""
            if row.refusal:
                still.append(row)
            else:
                taken = True
                _note_carried(row, result)
        waiting = still
    for row in waiting:
        result.put_aside(row.table, f"refused: {row.refusal}", row.was_columns, row.was)


def _note_carried(row: _Carried, result: CarriedOver) -> None:
    result.carried[row.table] = result.carried.get(row.table, 0) + 1
    if any(row.was[row.was_columns.index(c)] is not None for c in row.lost):
        reason = f"carried, but for columns that are not there any more: {', '.join(row.lost)}"
        result.put_aside(row.table, reason, row.was_columns, row.was)
        result.trimmed += 1


def _carry_table(
    name: str,
    delta: TableDelta,
    theirs: DatabaseState,
    ours: DatabaseState,
    writer: DatabaseWriter,
    result: CarriedOver,
) -> list[_Carried]:
    """Carry what can be; returns the rows that were refused for now."""
    source, target = theirs.schema.table(name), ours.schema.table(name)
    if source is None or target is None:
        for row in delta.added:
            result.put_aside(name, "the table is not there any more", delta.columns_right, row)
        return []
    refused: list[_Carried] = []
    shared = [c for c in source.columns if c in target.columns]
    lost = [c for c in source.columns if c not in target.columns]
    pick = [source.columns.index(c) for c in shared]
    keyed = all(k in shared for k in target.key)
    key_at = [shared.index(k) for k in target.key] if keyed else []
    wanted = {encode_row([row[pick[i]] for i in key_at]) for row in delta.added} if keyed else set()
    # Of ours, row by row, only what has a key that is to be added is held.
    present = {key: r for r in ours.rows(name) if (key := encode_row(key_of(target, r))) in wanted} if wanted else {}
    for row in delta.added:
        mapped = tuple(row[i] for i in pick)
        there = present.get(encode_row([mapped[i] for i in key_at])) if keyed else None
        if there is not None:
            if encode_row([there[target.columns.index(c)] for c in shared]) != encode_row(mapped):
                result.put_aside(name, "another row has this key", source.columns, row)
            continue
        carried = _Carried(name, shared, mapped, row, source.columns, lost)
        if writer.insert(name, shared, mapped) is not None:
            refused.append(carried)
        else:
            _note_carried(carried, result)
    for before, after in delta.changed:
        # A migration that only filled a new column changed nothing that this table could hold.
        both = [c for c in delta.columns_left if c in delta.columns_right]
        left = [before[delta.columns_left.index(c)] for c in both]
        if encode_row(left) != encode_row([after[delta.columns_right.index(c)] for c in both]):
            result.put_aside(name, "changed since; the earlier row was put back", delta.columns_right, after)
    for row in delta.removed:
        result.put_aside(name, "removed since; the row was put back", delta.columns_left, row)
    return refused
