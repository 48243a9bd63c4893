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
    for name, table in sorted(delta.tables.items()):
        if name in wanted:
            _carry_table(name, table, theirs, ours, writer, result)
        elif table.added or table.changed or table.removed:
            counts = [("new", table.added), ("changed", table.changed), ("removed", table.removed)]
            result.elsewhere.append(f"table {name}: " + ", ".join(plural(len(r), f"{w} row") for w, r in counts if r))
    return result


def _carry_table(
    name: str,
    delta: TableDelta,
    theirs: DatabaseState,
    ours: DatabaseState,
    writer: DatabaseWriter,
    result: CarriedOver,
) -> None:
    source, target = theirs.schema.table(name), ours.schema.table(name)
    if source is None or target is None:
        for row in delta.added:
            result.put_aside(name, "the table is not there any more", delta.columns_right, row)
        return
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
        refusal = writer.insert(name, shared, mapped)
        if refusal is not None:
            result.put_aside(name, f"refused: {refusal}", source.columns, row)
            continue
        result.carried[name] = result.carried.get(name, 0) + 1
        values = {c: row[source.columns.index(c)] for c in lost}
        if any(v is not None for v in values.values()):
            reason = f"carried, but for columns that are not there any more: {', '.join(lost)}"
            result.put_aside(name, reason, source.columns, row)
            result.trimmed += 1
    for before, after in delta.changed:
        # A migration that only filled a new column changed nothing that this table could hold.
        both = [c for c in delta.columns_left if c in delta.columns_right]
        left = [before[delta.columns_left.index(c)] for c in both]
        if encode_row(left) != encode_row([after[delta.columns_right.index(c)] for c in both]):
            result.put_aside(name, "changed since; the earlier row was put back", delta.columns_right, after)
    for row in delta.removed:
        result.put_aside(name, "removed since; the row was put back", delta.columns_left, row)
