"""Carrying a merge out: what a plan says, done to a database that holds our side, row by row.

Neither triggers nor foreign keys act meanwhile (what they did on their side is in the rows already). What a unique or
another constraint refuses is tried again behind the rest, and put aside if it is refused still; what then would belong
to nothing is put aside, too. Nothing is dropped in silence."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

from keenharbor.base.durable import write_durably
from keenharbor.base.text import plural
from keenharbor.database import DatabaseWriter, RowDelta, Value, encode_row
from keenharbor.database.references import Reference, references_in
from keenharbor.merge.model import Aside, Cells, Change, Conflict, What, Why
from keenharbor.merge.plan import MergePlan, Told

_EXAMPLES = 5
MANY = 10
ALONE = "what it belongs to is not there"


@dataclass
class TableCount:
    """Rows of one table that were carried."""

    added: int = 0
    changed: int = 0
    removed: int = 0

    def __bool__(self) -> bool:
        return bool(self.added or self.changed or self.removed)

    def told(self, table: str) -> str:
        """In words."""
        parts = [(self.added, "new"), (self.changed, "changed"), (self.removed, "removed")]
        return f"{table}: " + ", ".join(f"{n:,} {word}" for n, word in parts if n)

    def as_json(self) -> dict[str, int]:
        return {"new": self.added, "changed": self.changed, "removed": self.removed}


@dataclass
class Alike:
    """What became of the cells of one column: how many, and from what to what, where that is the same in all."""

    before: Value
    after: Value
    rows: int = 0
    the_same: bool = True

    def count(self, before: Value, after: Value) -> None:
        """One more cell."""
        self.rows += 1
        self.the_same = self.the_same and (before, after) == (self.before, self.after)

    @property
    def suspicious(self) -> bool:
        """Whether so many cells changed in one way as people seldom change them."""
        return self.the_same and self.rows >= MANY


@dataclass
class CarriedOver:
    """What was carried, by table; what was put aside; what both sides had changed; rows that got other numbers, by
    table; in words, what else differs, and what was inferred.

    ``trimmed`` counts the rows among those put aside that were carried but for columns which are not there."""

    carried: dict[str, TableCount] = field(default_factory=dict)
    examples: dict[str, list[str]] = field(default_factory=dict)
    aside: list[Aside] = field(default_factory=list)
    conflicts: list[Conflict] = field(default_factory=list)
    numbers: dict[str, int] = field(default_factory=dict)
    alike: dict[str, Alike] = field(default_factory=dict)
    trimmed: int = 0
    elsewhere: list[str] = field(default_factory=list)
    inferred: list[str] = field(default_factory=list)

    @property
    def not_carried(self) -> int:
        """Rows and cells that are nowhere but in what was put aside."""
        return len(self.aside) - self.trimmed

    @property
    def left_out(self) -> int:
        """What a person did not want to be carried."""
        return sum(a.why == "left out" for a in self.aside)

    @property
    def rows(self) -> int:
        """Rows that were carried."""
        return sum(c.added + c.changed + c.removed for c in self.carried.values())

    def note(self, change: Change) -> None:
        """A change that came through, or would."""
        count = self.carried.setdefault(change.table, TableCount())
        setattr(count, change.kind, getattr(count, change.kind) + 1)
        for column, value in change.values.items() if change.kind == "changed" else ():
            named = f"{change.source}.{column}"
            self.alike.setdefault(named, Alike(change.was.get(column), value)).count(change.was.get(column), value)
        shown = self.examples.setdefault(change.table, [])
        if getattr(count, change.kind) <= _EXAMPLES:  # of each kind
            shown.append(_example(change))
        if change.lost:
            self.trimmed += 1
            reason = f"carried, but for columns that are not there: {', '.join(change.lost)}"
            lost = {c: change.row[c] for c in change.lost}
            self.aside.append(Aside("cells", change.source, change.own_key, lost, "no column", reason))

    def put_aside(self, change: Change, why: Why, reason: str) -> None:
        """A change that has no place."""
        values = change.row
        if change.kind == "changed":  # in their names
            values = {theirs: change.values[ours] for theirs, ours in change.called.items() if ours in change.values}
        what: Mapping[str, What] = {"added": "row", "changed": "cells", "removed": "removed"}
        self.aside.append(Aside(what[change.kind], change.source, change.own_key, values, why, reason))

    def save_aside(self, file: Path) -> Path | None:
        """Write what was not carried, and what both sides had changed, as JSON lines; None when there is nothing."""
        lines = [
            {"table": a.table, "what": a.what, "why": a.why, "reason": a.reason, "key": _plain(a.key),
                "row": _plain(a.values)}
            for a in self.aside
        ] + [
            {
                "table": c.table, "what": "conflict", "why": "other side", "reason": c.clash, "key": _plain(c.key),
                "taken": c.taken,
                "row": _plain({c.column or "*": c.theirs if c.taken == "ours" else c.ours}),
            }
            for c in self.conflicts
        ]  # fmt: skip
        if not lines:
            return None
        write_durably(file, "".join(json.dumps(line, ensure_ascii=False) + "\n" for line in lines).encode())
        return file


def _plain(cells: Cells) -> dict[str, object]:
    return dict(zip(cells, json.loads(encode_row(tuple(cells.values()))), strict=True))


def _example(change: Change) -> str:
    """A row in a few words: what it is called, or its longest short text."""
    texts = [v for v in change.row.values() if isinstance(v, str) and 1 < len(v.strip()) <= 60 and not v.isdigit()]
    said = max(texts, key=lambda v: (" " in v, len(v)), default="")
    key = ", ".join(str(v) for v in change.key.values())
    cells = f" ({', '.join(change.values)})" if change.kind == "changed" else ""
    return f"{change.kind} {key}{f': {said}' if said else ''}{cells}"


def told_elsewhere(delta: RowDelta, but: Iterable[str]) -> list[str]:
    """In words, which other tables differ."""
    found = []
    for name, table in sorted(delta.tables.items()):
        counts = [("new", table.added), ("changed", table.changed), ("removed", table.removed)]
        if name not in but and any(rows for _, rows in counts):
            words = ", ".join(plural(len(r), f"{w} row") for w, r in counts if r)
            found.append(f"table {name}: {words}")
    return found


def preview(plan: MergePlan) -> CarriedOver:
    """What a plan would carry, as far as it can be known without a constraint being asked."""
    told, result = Told(), _begun(plan)
    for change in plan.changes(told):
        result.note(change)
    return _with(result, told)


def carry_over(plan: MergePlan, writer: DatabaseWriter) -> CarriedOver:
    """Carry a plan out through ``writer``, whose database holds our side."""
    told, result = Told(), _begun(plan)
    carrying = _Carrying(plan, writer, result)
    with writer.merging():
        for change in plan.changes(told):
            carrying.take(change)
        carrying.finish()
    _with(result, told)
    writer.count_on(plan.theirs)
    result.carried = {table: count for table, count in result.carried.items() if count}
    return result


def _begun(plan: MergePlan) -> CarriedOver:
    result = CarriedOver(numbers={table: len(numbers) for table, numbers in plan.numbers.items()})
    if plan.only_added is not None:
        result.elsewhere = told_elsewhere(plan.elsewhere, plan.only_added)
    result.inferred = [f"{r.table}.{r.columns[0]} names rows of {r.to}" for r in plan.inferred]
    result.inferred += [f"{c.table}.{c.column} counts rows of {c.of}" for c in plan.countings]
    return result


def _with(result: CarriedOver, told: Told) -> CarriedOver:
    result.aside = [*told.aside, *result.aside]
    result.conflicts += told.conflicts
    return result


class _Carrying:
    """A plan under way."""

    def __init__(self, plan: MergePlan, writer: DatabaseWriter, result: CarriedOver) -> None:
        self._plan, self._writer, self._result = plan, writer, result
        self._waiting: list[tuple[Change, str]] = []
        self._removing: list[Change] = []
        self._done: list[Change] = []
        self._references = references_in(plan.ours.schema)
        self._of_child: dict[str, list[Reference]] = {}
        self._of_parent: dict[str, list[Reference]] = {}
        for reference in self._references:
            self._of_child.setdefault(reference.table, []).append(reference)
            self._of_parent.setdefault(reference.to, []).append(reference)
        self._lacking = {name: set(keys) for name, keys in plan.missing.items()}

    def take(self, change: Change) -> None:
        """Do what needs nothing else, note what does."""
        if change.kind == "removed":
            self._removing.append(change)
        elif (refusal := self._try(change)) is not None:
            self._waiting.append((change, refusal))

    def finish(self) -> None:
        """The rest, and what follows from it."""
        self._let_no_row_stand_alone()  # before rows go that might be named again
        self._remove()
        self._retry()
        self._let_no_row_stand_alone()
        for change in self._done:
            self._result.note(change)

    def _try(self, change: Change) -> str | None:
        if change.kind == "added":
            refusal = self._writer.insert(change.table, list(change.values), tuple(change.values.values()))
        else:
            refusal = self._writer.change(change.table, change.key, change.values)
        if refusal is None:
            self._done.append(change)
        return refusal

    def _retry(self) -> None:
        """What had been refused, as long as some of it is taken: a value that had to be unique has moved, or gone."""
        taken = True
        while self._waiting and taken:
            still = [(c, refusal) for c, _ in self._waiting if (refusal := self._try(c)) is not None]
            taken = len(still) < len(self._waiting)
            self._waiting = still
        for change, refusal in [item for refused in self._waiting for item in self._by_cell(*refused)]:
            self._result.put_aside(change, "refused", f"refused: {refusal}")
            if change.kind == "added":
                self._lack(change)
                self._count_less(change)

    def _by_cell(self, change: Change, refusal: str) -> list[tuple[Change, str]]:
        """Of a changed row that is refused as a whole, the cells that are refused alone."""
        if change.kind != "changed" or len(change.values) == 1:
            return [(change, refusal)]
        cells = [replace(change, values={c: v}, was={c: change.was.get(c)}) for c, v in change.values.items()]
        refused = [(cell, words) for cell in cells if (words := self._writer.change(cell.table, cell.key, cell.values))]
        left = {c for cell, _ in refused for c in cell.values}
        taken = {c: v for c, v in change.values.items() if c not in left}
        if taken:
            self._done.append(replace(change, values=taken, was={c: change.was.get(c) for c in taken}))
        return refused

    # -- removing ------------------------------------------------------------------------------------------------

    def _remove(self) -> None:
        """Remove what they removed, but for rows to which others of ours belong still: those that are not removed with
        them. Rows that belong to each other go together."""
        going = list(self._removing)
        while True:
            gone: dict[tuple[str, tuple[str, ...]], Counter[bytes]] = {}
            for change in going:
                for reference in self._of_child.get(change.table, ()):
                    named = _named(reference.columns, self._in_ours(change))
                    if named is not None:
                        gone.setdefault((change.table, reference.columns), Counter())[named] += 1
            stay = [c for c in going if self._is_needed(c, gone)]
            if not stay:
                break
            for change in stay:
                self._result.put_aside(change, "needed", "other rows belong to it still")
                self._result.conflicts.append(
                    Conflict(change.table, change.key, None, None, None, "ours", "still needed there")
                )
            kept = set(map(id, stay))
            going = [c for c in going if id(c) not in kept]
        for change in going:
            removed = self._writer.delete(change.table, change.key)
            table = self._plan.table_here(change.source)
            if table is not None and table.keyless:  # the same row may be there several times, and one is to go
                for _ in range(removed - 1):
                    self._writer.insert(change.table, list(change.key), tuple(change.key.values()))
            if removed:
                self._done.append(change)

    def _is_needed(self, change: Change, gone: dict[tuple[str, tuple[str, ...]], Counter[bytes]]) -> bool:
        row = self._in_ours(change)
        for reference in self._of_parent.get(change.table, ()):
            named = _named(reference.to_columns, row)
            if named is None:
                continue
            values = dict(zip(reference.columns, (row[c] for c in reference.to_columns), strict=True))
            if self._writer.count(reference.table, values) > gone.get(
                (reference.table, reference.columns), Counter()
            ).get(named, 0):
                return True
        return False

    def _in_ours(self, change: Change) -> dict[str, Value]:
        """A row of theirs in our names; as ours has it, where that is another."""
        if change.was:
            return dict(change.was)
        columns = self._plan.columns_here(change.source)
        return {here: change.row[c] for c, here in columns.items() if c in change.row}

    # -- what belongs to nothing --------------------------------------------------------------------------------

    def _lack(self, change: Change) -> None:
        """Note that a row of theirs is not in the result."""
        for reference in self._of_parent.get(change.table, ()):
            named = _named(reference.to_columns, change.values)
            if named is not None:
                self._lacking.setdefault(change.table, set()).add(named)

    def _let_no_row_stand_alone(self) -> None:
        """Take back what names a row that is not in the result, and then what names that."""
        while any(self._lacking.values()):
            alone = [(c, columns) for c in self._done if c.kind != "removed" and (columns := self._names_nothing(c))]
            if not alone:
                return
            taken = {id(c) for c, _ in alone}
            self._done = [c for c in self._done if id(c) not in taken]
            for change, columns in alone:
                if change.kind == "added":
                    self._writer.delete(change.table, change.key)
                    self._lack(change)
                    self._count_less(change)
                    self._result.put_aside(change, "alone", ALONE)
                else:
                    self._name_as_before(change, columns)

    def _name_as_before(self, change: Change, columns: set[str]) -> None:
        """Take back the cells of a changed row that name nothing; where what they named before went, too, nothing."""
        before = {c: change.was.get(c) for c in columns}
        back = replace(change, values=before)
        if self._names_nothing(back, lacking=False):
            before = dict.fromkeys(columns)
        self._writer.change(change.table, change.key, before)
        self._result.put_aside(replace(change, values={c: change.values[c] for c in columns}), "alone", ALONE)
        rest = {c: v for c, v in change.values.items() if c not in columns}
        if rest:
            self._done.append(replace(change, values=rest))

    def _names_nothing(self, change: Change, *, lacking: bool = True) -> set[str]:
        """The columns in which a row names one that is not there: of those known to be lacking, or any."""
        found: set[str] = set()
        for reference in self._of_child.get(change.table, ()):
            named = _named(reference.columns, change.values)
            if named is None or (lacking and named not in self._lacking.get(reference.to, ())):
                continue
            values = {t: change.values[c] for c, t in zip(reference.columns, reference.to_columns, strict=True)}
            if not self._writer.count(reference.to, values):
                found.update(reference.columns)
        return found

    def _count_less(self, change: Change) -> None:
        """A row that counts where others are counted was not carried."""
        for counting in self._plan.countings:
            parent = self._plan.table_here(counting.table)
            column = self._plan.columns_here(counting.table).get(counting.column)
            if counting.of != change.source or parent is None or column is None or len(parent.key) != 1:
                continue
            number = change.row.get(counting.by)
            at = next((c for c in self._done if c.table == parent.name and c.key.get(parent.key[0]) == number), None)
            value = at.values.get(column) if at is not None else None
            if at is not None and isinstance(value, int):
                self._writer.change(at.table, at.key, {column: value - 1})
                self._done[self._done.index(at)] = replace(at, values={**at.values, column: value - 1})


def _named(columns: Iterable[str], cells: Cells) -> bytes | None:
    """The row that a reference names; None where it names none."""
    values = [cells.get(c) for c in columns]
    return None if any(v is None for v in values) else encode_row(values)
