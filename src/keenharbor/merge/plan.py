"""A three-way merge of database states, row by row and cell by cell, worked out before anything is written.

Three-way merging by a common base is that of diff3 (Khanna, Kunal, Pierce, "A formal investigation of diff3", FSTTCS
2007), on keyed rows and their cells in place of lines: what only one side changed is taken from it, what both changed
alike is once there, and where they differ there is a conflict."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from keenharbor.database import DatabaseState, Row, RowDelta, Table, TableDelta, Value, encode_row, row_delta
from keenharbor.database.diff import Carried
from keenharbor.database.references import Reference, references_in
from keenharbor.merge.counts import countings_in
from keenharbor.merge.model import Aside, Cells, Change, Clash, Conflict, Counting, Kind, Passage, Rule, Side, Why
from keenharbor.merge.numbering import inferred_references, new_numbers

NO_TABLE = "the table is not there"
NO_ROW = "its row is not there"
LEFT_OUT = "left out, as was asked"
NO_KEY = "the columns that tell its rows apart are not there"


def theirs_wins(table: str) -> Side:
    """The rule where none is named: what was done last stays."""
    return "theirs"


@dataclass
class Told:
    """What comes up while the changes of a plan are gone through."""

    conflicts: list[Conflict] = field(default_factory=list)
    aside: list[Aside] = field(default_factory=list)


class MergePlan:
    """What ``theirs`` made of ``base``, to be carried onto ``ours``, which another way led to from ``base``.

    ``passages`` say which tables and columns are called otherwise there; ``standing`` takes out of a difference what
    changes by itself; with ``only_added`` nothing is carried but new rows of these tables. What was done to a table, or
    to cells of a ``table.column``, that ``without`` names is put aside: it was nobody's work. ``apart`` is `way_apart`,
    where that is known already; with ``only`` the merge is of these tables alone. All states may be stored or open; our
    rows are read only where both ways differ."""

    def __init__(
        self, base: DatabaseState, theirs: DatabaseState, ours: DatabaseState, passages: Sequence[Passage] = (),
        rule: Rule = theirs_wins, standing: Callable[[RowDelta], RowDelta] = lambda delta: delta,
        only_added: Iterable[str] | None = None, without: Collection[str] = (),
        apart: Mapping[str, TableDelta] | None = None, only: Collection[str] | None = None,
    ) -> None:  # fmt: skip
        self.base, self.theirs, self.ours = base, theirs, ours
        self.rule, self.without = rule, frozenset(without)
        self.passages = {p.table: p for p in passages}
        whole = standing(row_delta(base, theirs, only=only))
        self.only_added = frozenset(only_added) if only_added is not None else None
        self.elsewhere = whole if self.only_added is not None else RowDelta()
        self.changed = {
            name: delta
            for name, delta in whole.tables.items()
            if (self.only_added is None or name in self.only_added) and _is_merged(name, base, theirs)
        }
        self.references = references_in(theirs.schema)
        # What their rows name matters, too: it may not be there.
        touched = {*self.changed, *(r.to for r in self.references if r.table in self.changed)}
        self.apart: Mapping[str, TableDelta] = (
            {} if base is ours else apart if apart is not None else way_apart(base, ours, passages, touched)
        )
        self.inferred: list[Reference] = []
        self.numbers: dict[str, dict[Value, Value]] = {}
        self._renumber()
        self.countings: list[Counting] = countings_in(self.changed, [*self.references, *self.inferred])
        self.missing = self._missing_parents()

    def table_here(self, name: str) -> Table | None:
        """Our table in which rows of theirs have their place."""
        passage = self.passages.get(name)
        found = self.ours.schema.table(passage.to) if passage is not None else None
        return found or self.ours.schema.table(name)

    def columns_here(self, name: str) -> dict[str, str]:
        """Their columns that have a place here, with our name of each."""
        passage, table = self.passages.get(name), self.table_here(name)
        source = self.theirs.schema.table(name) or self.base.schema.table(name)
        if table is None or source is None:
            return {}
        called = passage.columns if passage is not None and table.name == passage.to else {}
        # The engine's own number of a row is no column, and tells rows apart on both sides alike.
        named = {c: called.get(c, c) for c in source.columns}
        if source.implicit_key and table.implicit_key:
            named[source.key[0]] = table.key[0]
        return {theirs: ours for theirs, ours in named.items() if ours in table.columns}

    def changes(self, told: Told) -> Iterator[Change]:
        """What is to be done to our rows, table by table; conflicts, and what has no place, are ``told``."""
        for name in self.changed:
            yield from _TableMerge(self, name, told).changes()

    def rewritten(self, name: str, cells: dict[str, Value]) -> dict[str, Value]:
        """A row of theirs with the new numbers of what it names, and its own."""
        if not self.numbers:
            return cells
        own = self.numbers.get(name)
        table = self.theirs.schema.table(name)
        if own is not None and table is not None and cells.get(table.key[0]) in own:
            cells = {**cells, table.key[0]: own[cells[table.key[0]]]}
        for reference in (*self.references, *self.inferred):
            numbers = self.numbers.get(reference.to) if reference.table == name else None
            if numbers and len(reference.columns) == 1 and cells.get(reference.columns[0]) in numbers:
                cells = {**cells, reference.columns[0]: numbers[cells[reference.columns[0]]]}
        return cells

    def apart_by_key(self, name: str) -> _Apart:
        """What our way did to the rows of a table that theirs touched."""
        return _Apart(self, name)

    def _renumber(self) -> None:
        """New numbers for rows that both sides added under one: theirs get others."""
        for name, delta in self.changed.items():
            table, here = self.theirs.schema.table(name), self.table_here(name)
            apart = self.apart.get(name)
            if table is None or here is None or apart is None or not delta.added or not apart.added:
                continue
            columns = self.columns_here(name)
            numbers = new_numbers(self, name, table, here, delta, apart, columns)
            if numbers:
                self.numbers[name] = numbers
        if self.numbers:
            self.inferred = inferred_references(self.numbers, self.theirs, self.references)

    def _missing_parents(self) -> dict[str, set[bytes]]:
        """By our table, the keys of rows of the base that our way lacks and that rows of theirs name: what is carried
        must not name them."""
        found: dict[str, set[bytes]] = {}
        for reference in self.references:
            delta, apart = self.changed.get(reference.table), self.apart.get(reference.to)
            if delta is None or apart is None or not apart.removed:
                continue
            named = set[bytes]()
            at = [delta.columns_right.index(c) for c in reference.columns if c in delta.columns_right]
            if len(at) != len(reference.columns):
                continue
            for row in _now(delta):
                named.add(encode_row([row[i] for i in at]))
            columns = self.columns_here(reference.to)
            called = [c if (c := columns.get(t, t)) in apart.columns_left else t for t in reference.to_columns]
            if not set(called) <= set(apart.columns_left):
                continue  # what names them names columns that are called otherwise on our side, and are not there
            parent_at = [apart.columns_left.index(c) for c in called]
            lacking = {key for row in apart.removed if (key := encode_row([row[i] for i in parent_at])) in named}
            if lacking:
                here = self.table_here(reference.to)
                found.setdefault(here.name if here is not None else reference.to, set()).update(lacking)
        return found


def way_apart(
    base: DatabaseState, ours: DatabaseState, passages: Sequence[Passage] = (), only: Collection[str] | None = None
) -> dict[str, TableDelta]:  # fmt: skip
    """What our way made of the rows of ``base``, by its tables (or of ``only`` some): it can be known long before what
    theirs did."""
    carried = [Carried(p.table, p.to, {ours: base for base, ours in p.columns.items()}) for p in passages]
    return row_delta(base, ours, carried, only=only).tables


def _is_merged(name: str, base: DatabaseState, theirs: DatabaseState) -> bool:
    table = theirs.schema.table(name) or base.schema.table(name)
    return table is not None and table.kind == "table"


def _now(delta: TableDelta) -> Iterator[Row]:
    yield from delta.added
    for _, after in delta.changed:
        yield after


class _Apart:
    """What our way did to those rows of a table that theirs touched, by their key in the base."""

    def __init__(self, plan: MergePlan, name: str) -> None:
        self.removed: set[bytes] = set()
        self.changed: dict[bytes, tuple[Cells, Cells]] = {}
        self.added: dict[bytes, Cells] = {}
        delta, apart = plan.changed[name], plan.apart.get(name)
        table = plan.base.schema.table(name) or plan.theirs.schema.table(name)
        if apart is None or table is None:
            return
        columns = plan.columns_here(name)
        left_at = [delta.columns_left.index(k) for k in table.key] if delta.columns_left else []
        right_at = [delta.columns_right.index(k) for k in table.key] if delta.columns_right else []
        touched = {encode_row([row[i] for i in left_at]) for row in delta.removed}
        touched |= {encode_row([before[i] for i in left_at]) for before, _ in delta.changed}
        fresh = {encode_row([row[i] for i in right_at]) for row in delta.added}
        called = [columns.get(k, k) for k in table.key]
        if apart.columns_left:
            at = [
                apart.columns_left.index(c if c in apart.columns_left else k)
                for c, k in zip(called, table.key, strict=True)
            ]
            for row in apart.removed:
                if (key := encode_row([row[i] for i in at])) in touched:
                    self.removed.add(key)
            for before, after in apart.changed:
                if (key := encode_row([before[i] for i in at])) in touched:
                    self.changed[key] = (
                        dict(zip(apart.columns_left, before, strict=True)),
                        dict(zip(apart.columns_right, after, strict=True)),
                    )
        if apart.added and fresh and all(c in apart.columns_right for c in called):
            at = [apart.columns_right.index(c) for c in called]
            for row in apart.added:
                if (key := encode_row([row[i] for i in at])) in fresh:
                    self.added[key] = dict(zip(apart.columns_right, row, strict=True))


class _TableMerge:
    """One table of theirs, carried onto ours."""

    def __init__(self, plan: MergePlan, name: str, told: Told) -> None:
        self.plan, self.name, self.told = plan, name, told
        self.delta = plan.changed[name]
        self.here = plan.table_here(name)
        self.columns = plan.columns_here(name)
        table = plan.theirs.schema.table(name) or plan.base.schema.table(name)
        assert table is not None
        self.table = table
        self.keyless = table.keyless and self.here is not None and self.here.keyless
        self.wins = plan.rule(self.here.name if self.here is not None else name)
        self.counted = {c.column for c in plan.countings if c.table == name}

    def changes(self) -> Iterator[Change]:
        delta = self.delta
        if self.name in self.plan.without:
            self._nothing_has_a_place("left out", LEFT_OUT)
            return
        if self.here is None or not all(k in self.columns for k in self.table.key):
            if self.here is None:
                self._nothing_has_a_place("no table", NO_TABLE)
            else:
                self._nothing_has_a_place("no key", NO_KEY)
            return
        if self.plan.only_added is not None:
            self._only_new_rows()
            delta = replace(delta, removed=(), changed=())
        apart = self.plan.apart_by_key(self.name) if not self.keyless else None
        for row in delta.removed:
            yield from self._removed(dict(zip(delta.columns_left, row, strict=True)), apart)
        for before, after in delta.changed:
            yield from self._changed(
                dict(zip(delta.columns_left, before, strict=True)), dict(zip(delta.columns_right, after, strict=True)),
                apart,
            )  # fmt: skip
        for row in delta.added:
            yield from self._added(dict(zip(delta.columns_right, row, strict=True)), apart)

    # -- rows of theirs ----------------------------------------------------------------------------------------

    def _removed(self, row: dict[str, Value], apart: _Apart | None) -> Iterator[Change]:
        assert self.here is not None
        key, own = self._key(row), self._own_key(row)
        mine: Cells = {}
        if apart is not None:
            name = encode_row([row[k] for k in self.table.key])
            if name in apart.removed:
                return  # ours has it no more either
            if name in apart.changed:
                _, mine = apart.changed[name]
                self._conflict(key, None, None, _told_row(mine), "removed here, changed there")
                if self.wins == "ours":
                    self.told.aside.append(
                        Aside("removed", self.name, own, row, "other side", "it was changed on the other side")
                    )
                    return
        yield self._change("removed", row, key, {}, mine)

    def _changed(self, before: dict[str, Value], after: dict[str, Value], apart: _Apart | None) -> Iterator[Change]:
        assert self.here is not None and apart is not None
        key, own = self._key(before), self._own_key(before)
        name = encode_row([before[k] for k in self.table.key])
        # A key that differs only in how it is compared (case, blanks) is a changed cell as any other.
        cells = {c: v for c, v in after.items() if c in before and not _same(v, before[c])}
        cells = {c: v for c, v in self.plan.rewritten(self.name, {**after, **cells}).items() if c in cells}
        new = {c: v for c, v in after.items() if c not in before and v is not None}
        if name in apart.removed:
            self.told.aside.append(Aside("cells", self.name, own, {**cells, **new}, "no row", NO_ROW))
            return
        base, ours = apart.changed.get(name, ({}, {}))
        values: dict[str, Value] = {}
        was: dict[str, Value] = {}
        lost: dict[str, Value] = {}
        for column, value in {**cells, **new}.items():
            here = self.columns.get(column)
            if f"{self.name}.{column}" in self.plan.without:
                self.told.aside.append(Aside("cells", self.name, own, {column: value}, "left out", LEFT_OUT))
                continue
            if here is None:
                lost[column] = value
                continue
            mine = ours.get(here, before.get(column))
            at_base = base.get(here, base.get(column, before.get(column)))
            if here in ours and not _same(mine, at_base):
                if _same(mine, value):
                    continue
                counted = self._counted_on(column, before, value, mine)
                if counted is not None:
                    value = counted
                else:
                    self._conflict(key, here, value, mine, "both changed it")
                    if self.wins == "ours":
                        self.told.aside.append(
                            Aside(
                                "cells", self.name, own, {column: value}, "other side", "the other side changed it, too"
                            )
                        )
                        continue
            values[here], was[here] = value, mine
        if lost:
            self.told.aside.append(Aside("cells", self.name, own, lost, "no column", _no_columns(lost)))
        if values:
            yield self._change("changed", after, key, values, was)

    def _added(self, row: dict[str, Value], apart: _Apart | None) -> Iterator[Change]:
        assert self.here is not None
        ours = apart.added.get(encode_row([row[k] for k in self.table.key])) if apart is not None else None
        renumbered = row.get(self.table.key[0]) in self.plan.numbers.get(self.name, {}) if self.table.key else False
        made = self.plan.rewritten(self.name, row)
        values = {here: made[c] for c, here in self.columns.items() if c in made}
        key = self._key(made)
        lost = tuple(c for c, v in row.items() if c not in self.columns and v is not None)
        if ours is None or renumbered:
            yield self._change("added", {**row, **{k: made[k] for k in self.table.key}}, key, values, lost=lost)
            return
        cells = {c: v for c, v in values.items() if not _same(v, ours.get(c)) and c not in key}
        for column, value in cells.items():
            self._conflict(key, column, value, ours.get(column), "both added it")
        if not cells:
            return
        if self.wins == "ours":
            self.told.aside.append(
                Aside(
                    "row",
                    self.name,
                    self._own_key(row),
                    row,
                    "other side",
                    "the other side added another one with its key",
                )
            )
        else:
            yield self._change("changed", row, key, cells, {c: ours.get(c) for c in cells}, lost)

    def _change(
        self, kind: Kind, row: Cells, key: Cells, values: Cells, was: Cells | None = None, lost: tuple[str, ...] = ()
    ) -> Change:
        assert self.here is not None
        return Change(
            kind, self.here.name, key, values, self.name, row, self._own_key(row), self.columns, was or {}, lost
        )

    # -- what is told --------------------------------------------------------------------------------------------

    def _nothing_has_a_place(self, why: Why, reason: str) -> None:
        delta = self.delta
        for row in delta.added:
            cells = dict(zip(delta.columns_right, row, strict=True))
            self.told.aside.append(Aside("row", self.name, {k: cells[k] for k in self.table.key}, cells, why, reason))
        if self.plan.only_added is not None:
            return
        for before, after in delta.changed:
            was, cells = (
                dict(zip(delta.columns_left, before, strict=True)), dict(zip(delta.columns_right, after, strict=True))
            )  # fmt: skip
            key = {k: cells[k] for k in self.table.key}
            differ = {c: v for c, v in cells.items() if c not in was or not _same(v, was[c])}
            self.told.aside.append(Aside("cells", self.name, key, differ, why, reason))

    def _only_new_rows(self) -> None:
        """Without a state on arrival, what was changed or removed may be the upgrade's doing."""
        delta = self.delta
        for before, after in delta.changed:
            was, now = (
                dict(zip(delta.columns_left, before, strict=True)),
                dict(zip(delta.columns_right, after, strict=True)),
            )
            # A migration that only filled a new column changed nothing that this table could hold.
            cells = {c: v for c, v in now.items() if c in was and not _same(v, was[c])}
            if cells:
                self.told.aside.append(
                    Aside(
                        "cells",
                        self.name,
                        self._own_key(now),
                        now,
                        "as it was",
                        "changed since; the earlier row was put back",
                    )
                )
        for row in delta.removed:
            cells = dict(zip(delta.columns_left, row, strict=True))
            self.told.aside.append(
                Aside(
                    "removed",
                    self.name,
                    self._own_key(cells),
                    cells,
                    "as it was",
                    "removed since; the row was put back",
                )
            )

    def _counted_on(self, column: str, before: Cells, theirs: Value, ours: Value) -> int | None:
        """A count that both sides moved: ours, and what theirs came to."""
        base = before.get(column)
        if column in self.counted and isinstance(base, int) and isinstance(theirs, int) and isinstance(ours, int):
            return ours + theirs - base
        return None

    def _conflict(self, key: Cells, column: str | None, theirs: Value, ours: Value, clash: Clash) -> None:
        assert self.here is not None
        self.told.conflicts.append(Conflict(self.here.name, key, column, theirs, ours, self.wins, clash))

    def _own_key(self, row: Mapping[str, Value]) -> dict[str, Value]:
        return {k: row[k] for k in self.table.key}

    def _key(self, row: Mapping[str, Value]) -> dict[str, Value]:
        return {self.columns.get(k, k): row[k] for k in self.table.key}


def _same(a: Value, b: Value) -> bool:
    """Whether two cells hold the same; a number and its text do, since a column's type may have changed."""
    if a is None or b is None:
        return a is b
    return a == b or (type(a) is not type(b) and str(a) == str(b))


def _told_row(row: Cells) -> str:
    return ", ".join(f"{c} = {v!r}" for c, v in row.items() if v is not None)


def _no_columns(cells: Iterable[str]) -> str:
    return f"there is no column {', '.join(sorted(cells))}"
