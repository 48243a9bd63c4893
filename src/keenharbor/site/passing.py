"""What changes in a database by itself: tables, rows and columns that no comparison is to hold against a step."""

from __future__ import annotations

import fnmatch
import re
from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import tomlkit

from keenharbor.database import DatabaseState, Row, RowDelta, Table, TableDelta
from keenharbor.database.rowlist import RowList, RowPairs
from keenharbor.site.model import VolatilePart
from keenharbor.site.toml import inline, with_value

MOST_ROWS = 5_000
"""Tables with more rows are not learnt from: what a visit writes it writes into few rows of large tables, and reading
those twice would take too long."""


class Passing:
    """What a site file says of it (``[volatile]``), ready to be asked."""

    def __init__(self, part: VolatilePart) -> None:
        self.tables = frozenset(part.tables)
        self._columns: dict[str, set[str]] = defaultdict(set)
        for said in part.columns:
            table, _, column = said.rpartition(".")
            self._columns[table].add(column)
        self._rows: dict[str, list[tuple[str, re.Pattern[str]]]] = defaultdict(list)
        for rule in part.rows:
            pattern = re.compile("|".join(f"(?:{fnmatch.translate(p)})" for p in rule.like))
            self._rows[rule.table].append((rule.column, pattern))

    def parts_of(self, table: str) -> bool:
        """Whether a table that is compared has parts that are not."""
        return table in self._columns or table in self._rows

    def row(self, table: str, columns: Sequence[str], row: Row) -> bool:
        """Whether a row changes by itself."""
        return any(
            column in columns and pattern.match(str(row[columns.index(column)])) is not None
            for column, pattern in self._rows.get(table, ())
        )

    def standing(self, table: Table, rows: Iterable[Row]) -> Iterator[Row]:
        """The rows of a table that stand still, with nothing in the columns that do not."""
        passing = self._columns.get(table.name, set())
        blank = [n for n, c in enumerate(table.columns) if c in passing and n not in table.key_positions]
        for row in rows:
            if not self.row(table.name, table.columns, row):
                yield tuple(None if n in blank else v for n, v in enumerate(row)) if blank else row

    def without(self, delta: RowDelta) -> RowDelta:
        """What became of the rows, but for what changes by itself."""
        kept = {n: self._of_table(t) for n, t in delta.tables.items() if n not in self.tables}
        return replace(delta, tables={n: t for n, t in kept.items() if t})

    def _of_table(self, told: TableDelta) -> TableDelta:
        if not self.parts_of(told.name):
            return told
        passing = self._columns.get(told.name, set())
        left, right = told.columns_left, told.columns_right
        shared = [c for c in told.shared if c not in passing]

        def the_same(before: Row, after: Row) -> bool:
            return all(before[left.index(c)] == after[right.index(c)] for c in shared)

        return replace(
            told,
            added=RowList(r for r in told.added if not self.row(told.name, right, r)),
            removed=RowList(r for r in told.removed if not self.row(told.name, left, r)),
            changed=RowPairs(
                len(left),
                ((a, b) for a, b in told.changed if not self.row(told.name, left, a) and not the_same(a, b)),
            ),
        )  # fmt: skip


# -- learning it from two looks -------------------------------------------------------------------------------

Kept = Mapping[str, tuple[Table, Mapping[tuple[object, ...], Row]]]
"""The rows of small tables by their keys."""


def kept_rows(state: DatabaseState, apart: Collection[str]) -> Kept:
    """The rows of every table that is small enough, but for those ``apart``."""
    found: dict[str, tuple[Table, Mapping[tuple[object, ...], Row]]] = {}
    for table in state.schema.tables:
        if table.kind != "table" or table.name in apart:
            continue
        rows: dict[tuple[object, ...], Row] = {}
        for row in state.rows(table.name):
            if len(rows) == MOST_ROWS:
                break
            rows[tuple(row[i] for i in table.key_positions)] = row
        else:
            found[table.name] = table, rows
    return found


@dataclass
class Learnt:
    """What differed between two looks: columns as ``table.column``, and of a table the names of its rows as patterns of
    one column."""

    columns: list[str] = field(default_factory=list)
    rows: dict[tuple[str, str], list[str]] = field(default_factory=dict)

    @property
    def told(self) -> list[str]:
        """In words, a line each."""
        rows = [f"rows of {table}: {', '.join(like)}" for (table, _), like in self.rows.items()]
        return ([f"columns {', '.join(self.columns)}"] if self.columns else []) + rows

    def written_into(self, text: str) -> str:
        """The text of a site file with what was learnt beside what it says already."""
        if not self.told:
            return text
        part = tomlkit.parse(text).get("volatile")
        if part is None:
            text += "\n# what changed while the site was visited\n[volatile]\n"
            part = {}
        if self.columns:
            text = with_value(text, ["volatile"], "columns", sorted({*part.get("columns", []), *self.columns}))
        rows = [{k: v if k != "like" else list(v) for k, v in r.items()} for r in part.get("rows", [])]
        for (table, column), like in self.rows.items():
            same = next((r for r in rows if (r["table"], r["column"]) == (table, column)), None)
            if same is None:
                rows.append({"table": table, "column": column, "like": like})
            else:
                same["like"] = sorted({*same["like"], *like})
        return with_value(text, ["volatile"], "rows", inline(rows)) if rows else text


def learn_passing(before: Kept, after: Kept, names: Mapping[str, str]) -> Learnt:
    """What visits alone have changed. ``names`` says of tables of settings which column names their rows: there rows
    are learnt, and elsewhere columns. A table that only grew is no case: visits may leave rows there, and those that
    were there stood still. Of rows with names those that came count where their names say that they pass, or were
    drawn: what a site makes once, at its first visit, stays."""
    learnt = Learnt()
    for name, (table, rows) in before.items():
        if name not in after or after[name][0].columns != table.columns:
            continue
        later = after[name][1]
        differing = [(r, later[k]) for k, r in rows.items() if k in later and later[k] != r]
        column = names.get(name)
        if column is not None:
            at = table.columns.index(column)
            gone = [r for k, r in rows.items() if k not in later]
            called = {str(r[at]) for r in [*(a for a, _ in differing), *gone]}
            came = {str(r[at]) for k, r in later.items() if k not in rows}
            called |= {n for n in came if _PASSING.search(n) or _DRAWN.search(n)}
            if called:
                others = {str(r[at]) for r in [*rows.values(), *later.values()]} - called
                learnt.rows[name, column] = patterns_of(called, others)
        elif differing:
            changed = {c for a, b in differing for c, x, y in zip(table.columns, a, b, strict=True) if x != y}
            learnt.columns += [f"{name}.{c}" for c in table.columns if c in changed]
    return learnt


_MOMENT = re.compile(r"1[5-9]\d{8}(\.\d+)?|20\d\d-[01]\d-[0-3]\d[ T][0-2]\d:[0-5]\d\S*")
_EXPIRY = re.compile(r"(?i)_?(timeout|expires?|expiry|expiration)(?=[_.:-]|$)")


def passing_names(values: Mapping[str, str]) -> list[str]:
    """Patterns for settings that pass, told from one look: their names say so and they hold a moment, or another one
    holds the moment at which they expire (``cache_timeout_menu`` speaks of ``cache_menu``)."""
    called = {n for n, v in values.items() if _PASSING.search(n) and _MOMENT.fullmatch(v.strip())}
    called |= {b for n in called if (b := _EXPIRY.sub("", n, count=1)) != n and b in values}
    return patterns_of(called, values.keys() - called)


_DRAWN = re.compile(r"(?<![A-Za-z])[0-9a-f]{8,}(?![A-Za-z])|\d+")
_PASSING = re.compile(r"(?i)cache|transient|cron|schedul|expir|timeout|session|lock|counter|last_")


_CHOSEN = re.compile(
    r"(?i)(en|dis)able|on$|off$|size|ttl|life|driver|engine|path|dir|folder|limit|max|min|type|mode|level|interval|use|"
    r"allow|host|port|prefix"
)
"""What follows ``cache_`` in the names of settings that somebody chose."""


def patterns_of(called: Collection[str], others: Collection[str]) -> list[str]:
    """Patterns for names that were seen to change: what a program draws in them (numbers, digests) is left open; and
    what follows a beginning that says it passes (``cache_``), unless that would take in ``others`` that say nothing of
    the kind."""
    found = set()
    for name in called:
        drawn = _DRAWN.sub("*", _plain(name))
        if len(re.findall("[A-Za-z]", drawn)) < _FEWEST_LETTERS or any(
            fnmatch.fnmatchcase(o, drawn) and _DRAWN.sub("*", _plain(o)) != drawn for o in others
        ):
            drawn = _plain(name)
        found.add(_by_beginning(name, others) or drawn)
    return sorted(p for p in found if not any(o != p and o[-1:] == "*" and p.startswith(o[:-1]) for o in found))


_FEWEST_LETTERS = 3


def _by_beginning(name: str, others: Collection[str]) -> str:
    """A pattern for all that begins as ``name`` does, up to the word that says that it passes; empty where there is no
    such word, or another name begins so and says nothing of the kind."""
    word = _PASSING.search(name)
    end = re.search(r"[_.:-]", name[word.end() :]) if word is not None else None
    if word is None or end is None:
        return ""
    head = name[: word.end() + end.end()]
    alike = [o for o in others if o.startswith(head)]
    fits = all(_PASSING.search(o) and not _CHOSEN.match(o[len(head) :]) for o in alike)
    return _plain(head) + "*" if fits else ""


def _plain(text: str) -> str:
    """A name as a pattern that only it fits."""
    return re.sub(r"([*?[])", r"[\1]", text)
