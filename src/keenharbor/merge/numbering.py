"""New numbers for rows that both sides added under the same one, and what names them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING

from keenharbor.database import DatabaseState, Row, StoredState, Table, TableDelta, Value, encode_row
from keenharbor.database.references import Reference

if TYPE_CHECKING:
    from keenharbor.merge.plan import MergePlan


def new_numbers(
    plan: MergePlan, name: str, table: Table, here: Table, theirs: TableDelta, ours: TableDelta,
    columns: Mapping[str, str],
) -> dict[Value, Value]:  # fmt: skip
    """By the number that a row of theirs has, the one that it gets, where another row of ours has it. Only numbers that
    stand alone as a key are drawn; a name, or a key of several columns, means the same thing on both sides."""
    if len(table.key) != 1 or columns.get(table.key[0]) not in ours.columns_right:
        return {}
    at, at_ours = theirs.columns_right.index(table.key[0]), ours.columns_right.index(columns[table.key[0]])
    shared = [(theirs.columns_right.index(c), ours.columns_right.index(h)) for c, h in columns.items()
              if c in theirs.columns_right and h in ours.columns_right]  # fmt: skip
    mine = {row[at_ours]: encode_row([row[o] for _, o in shared]) for row in ours.added}
    clash = [
        row[at] for row in theirs.added if row[at] in mine and encode_row([row[t] for t, _ in shared]) != mine[row[at]]
    ]
    numbers = [number for number in clash if isinstance(number, int)]
    if not numbers or len(numbers) < len(clash):
        return {}
    last = max(
        _last(plan.base, name), _last(plan.ours, here.name), _last(plan.theirs, name),
        *(n for n in mine if isinstance(n, int)), *(n for row in theirs.added if isinstance(n := row[at], int)),
    )  # fmt: skip
    return {number: last + step for step, number in enumerate(numbers, 1)}


def _last(state: DatabaseState, name: str) -> int:
    """The highest number of a table's rows, and of what its counter has given out."""
    table = state.schema.table(name)
    if table is None:
        return 0
    if isinstance(state, StoredState):  # in the order of their keys: the last ones stand in the last piece
        pieces = state.chunk_ids(name) or ()
        rows: Iterable[Row] = state.chunk(name, pieces[-1]) if pieces else ()
    else:
        rows = state.rows(name)
    counted = [n[0] for what, n in state.schema.counters.items() if what.partition(" ")[2] == name and n]
    if state.schema.table("sqlite_sequence") is not None:
        counted += [last for named, last in state.rows("sqlite_sequence") if named == name and isinstance(last, int)]
    return max([0, *counted, *(n for row in rows if isinstance(n := row[0], int))])


def inferred_references(
    numbers: Mapping[str, Mapping[Value, Value]], theirs: DatabaseState, declared: Iterable[Reference]
) -> list[Reference]:
    """Columns that name rows which get new numbers without saying so in the schema: called after the table, and with
    nothing in them that is no row of it."""
    known = {(r.table, r.columns) for r in declared}
    found: list[Reference] = []
    for name in numbers:
        target = theirs.schema.table(name)
        assert target is not None
        words = _called_after(target)
        keys: set[Value] | None = None
        for table in theirs.schema.tables:
            for number, column in enumerate(table.columns):
                if (
                    table.kind != "table"
                    or (table.name, (column,)) in known
                    or (table.name == name and column == target.key[0])
                    or not words.match(column)
                ):
                    continue
                if keys is None:
                    keys = {row[0] for row in theirs.rows(name)} | {None, 0}
                if all(row[number] in keys for row in theirs.rows(table.name)):
                    found.append(Reference(table.name, (column,), name, (target.key[0],), declared=False))
    return found


def _called_after(table: Table) -> re.Pattern[str]:
    """What a column is called that names rows of a table: ``post_id``, ``PostID``, ``comment_post_id`` of ``posts``."""
    last = re.split(r"[_.]", table.bare_name.lower())[-1]
    one = re.sub(r"ies$", "y", last) if last.endswith("ies") else re.sub(r"(?<=[^s])s$", "", last)
    names = {last, one, table.bare_name.lower()}
    own = "" if table.key[0].lower() in ("id", "rowid") else f"|(?:.*_)?{re.escape(table.key[0].lower())}"
    stems = "|".join(map(re.escape, sorted(names)))
    return re.compile(rf"(?i)^(?:(?:.*_)?(?:{stems})_?(?:id|no|nr|ref){own})$")
