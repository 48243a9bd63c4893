"""Columns in which a table counts the rows of another one: the number of comments of a post, of members of a group.

No schema says so. They are told from what happened: wherever such a column moved, it moved by as many rows as came to,
or left, the row that it stands in. One row that moved so by chance is no evidence, unless the column is called so."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping

from keenharbor.database import Row, TableDelta, Value
from keenharbor.database.references import Reference
from keenharbor.merge.model import Counting

_ENOUGH = 2
_CALLED_SO = re.compile(r"(?i)count|total|num(ber)?(_|$)|_cnt|(^|_)nr(_|$)")


def countings_in(changed: Mapping[str, TableDelta], references: Iterable[Reference]) -> list[Counting]:
    """The columns that counted rows in what was ``changed``, by the ``references`` between its tables."""
    found: list[Counting] = []
    for reference in references:
        child, parent = changed.get(reference.table), changed.get(reference.to)
        if child is None or parent is None or len(reference.columns) != 1 or not parent.changed:
            continue
        came = _came(child, reference.columns[0])
        if any(came.values()):
            found += [
                Counting(reference.to, column, reference.table, reference.columns[0])
                for column in _moved_alike(parent, reference.to_columns[0], came)
            ]
    return found


def _came(child: TableDelta, column: str) -> Counter[Value]:
    """How many rows more name each row than before."""
    came: Counter[Value] = Counter()
    if column in child.columns_right:
        at = child.columns_right.index(column)
        came.update(row[at] for row in child.added)
        came.update(after[at] for _, after in child.changed)
    if column in child.columns_left:
        at = child.columns_left.index(column)
        came.subtract(row[at] for row in child.removed)
        came.subtract(before[at] for before, _ in child.changed)
    return came


def _moved_alike(parent: TableDelta, key: str, came: Counter[Value]) -> list[str]:
    """The columns of ``parent`` that moved by what came, in each row that was changed and no other."""
    left, right = parent.columns_left, parent.columns_right
    if key not in left:
        return []
    at_key = left.index(key)
    candidates = [c for c in left if c in right and c != key]
    pending = {k for k, n in came.items() if n}
    fit: list[str] = []
    for column in candidates:
        at, then = left.index(column), right.index(column)
        moved = {before[at_key]: _by(before, after, at, then) for before, after in parent.changed}
        by = {k for k, n in moved.items() if n}
        alike = all(n is not None and n == came.get(k, 0) for k, n in moved.items()) and pending <= by
        if alike and (len(by) >= _ENOUGH or _CALLED_SO.search(column)):
            fit.append(column)
    return fit


def _by(before: Row, after: Row, at: int, then: int) -> int | None:
    """By how much a whole number moved; None for anything else that differs."""
    a, b = before[at], after[then]
    if isinstance(a, int) and isinstance(b, int):
        return b - a
    return 0 if a == b else None
