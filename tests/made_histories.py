"""Made-up schemas and histories on two sides, for merging: small tables that name each other in every way."""

from __future__ import annotations

import contextlib
import random
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from keenharbor.database import DatabasePlace, DatabaseState, Row, Table, Value, open_database
from keenharbor.database.references import Reference, references_in
from keenharbor.merge.carry import CarriedOver, carry_over
from keenharbor.merge.plan import MergePlan

WORDS = ["kale", "leek", "bean", "pea", "beet", "rye"]


@dataclass
class MadeTable:
    """A table: its number, whether its key is a text or two columns, which tables its columns name, what is unique."""

    name: str
    key: str  # number, text, pair
    names: list[int] = field(default_factory=list)
    unique: bool = False

    @property
    def key_columns(self) -> list[str]:
        return {"number": ["id"], "text": ["code"], "pair": ["part", "place"]}[self.key]

    def ddl(self, tables: list[MadeTable]) -> str:
        columns = {"number": ["id INTEGER PRIMARY KEY"], "text": ["code VARCHAR(20) NOT NULL PRIMARY KEY"],
                   "pair": ["part INTEGER NOT NULL", "place INTEGER NOT NULL"]}[self.key]  # fmt: skip
        columns = [*columns, "said VARCHAR(40)", "more INTEGER", f"mark VARCHAR(40){' UNIQUE' if self.unique else ''}"]
        for at, target in enumerate(self.names):
            columns.append(f"r{at} {'INTEGER' if tables[target].key == 'number' else 'VARCHAR(20)'}")
        if self.key == "pair":
            columns.append("PRIMARY KEY (part, place)")
        return f"CREATE TABLE {self.name} ({', '.join(columns)})"

    def foreign_keys(self, tables: list[MadeTable]) -> Iterator[str]:
        for at, target in enumerate(self.names):
            to = tables[target]
            yield f"FOREIGN KEY (r{at}) REFERENCES {to.name} ({to.key_columns[0]})"


def made_schema(chance: random.Random) -> list[MadeTable]:
    """Two to four tables; they may name themselves and each other, in a circle, too."""
    count = chance.randint(2, 4)
    tables = [
        MadeTable(f"t{n}", chance.choice(["number", "number", "text", "pair"]), unique=chance.random() < 0.4)
        for n in range(count)
    ]
    for table in tables:
        for _ in range(chance.randint(0, 2)):
            target = chance.randrange(count)
            if tables[target].key != "pair":
                table.names.append(target)
    return tables


class Life:
    """Random changes of a SQLite file that keep to its constraints; each text that is written is there once."""

    def __init__(self, path: Path, tables: list[MadeTable], chance: random.Random, who: str) -> None:
        self.path, self.tables, self.chance, self.who = path, tables, chance, who
        self.count = 0

    def text(self) -> str:
        self.count += 1
        return f"{self.chance.choice(WORDS)} {self.who}{self.count}"

    def live(self, steps: int) -> None:
        with contextlib.closing(sqlite3.connect(self.path, isolation_level=None)) as db:
            db.execute("PRAGMA foreign_keys = ON")
            db.execute("BEGIN")
            for _ in range(steps):
                with contextlib.suppress(sqlite3.IntegrityError):
                    self.chance.choice([self._add, self._add, self._change, self._change, self._remove])(db)
            db.execute("COMMIT")

    def _add(self, db: sqlite3.Connection) -> None:
        table = self.chance.choice(self.tables)
        values: dict[str, object] = {"said": self.text(), "more": self.chance.randint(0, 5)}
        if self.chance.random() < 0.5:
            values["mark"] = self.chance.choice([self.text(), *WORDS])
        if table.key == "text":
            values["code"] = self.chance.choice([*WORDS, f"{self.who}{self.count}"])
        elif table.key == "pair":
            values |= {"part": self.chance.randint(1, 3), "place": self.chance.randint(1, 4)}
        for at, target in enumerate(table.names):
            to = self.tables[target]
            rows = db.execute(f"SELECT {to.key_columns[0]} FROM {to.name}").fetchall()
            if rows and self.chance.random() < 0.7:
                values[f"r{at}"] = self.chance.choice(rows)[0]
        holders = ", ".join("?" * len(values))
        db.execute(f"INSERT INTO {table.name} ({', '.join(values)}) VALUES ({holders})", list(values.values()))

    def _one(self, db: sqlite3.Connection) -> tuple[MadeTable, str, tuple[object, ...]] | None:
        table = self.chance.choice(self.tables)
        rows = db.execute(f"SELECT {', '.join(table.key_columns)} FROM {table.name}").fetchall()
        condition = " AND ".join(f"{c} = ?" for c in table.key_columns)
        return (table, condition, self.chance.choice(rows)) if rows else None

    def _change(self, db: sqlite3.Connection) -> None:
        if (one := self._one(db)) is not None:
            table, condition, key = one
            column, value = self.chance.choice([("said", self.text()), ("more", self.chance.randint(0, 9)),
                                                ("mark", self.chance.choice([None, *WORDS]))])  # fmt: skip
            db.execute(f"UPDATE {table.name} SET {column} = ? WHERE {condition}", [value, *key])

    def _remove(self, db: sqlite3.Connection) -> None:
        if (one := self._one(db)) is not None:
            table, condition, key = one
            db.execute(f"DELETE FROM {table.name} WHERE {condition}", key)


@dataclass
class History:
    """Three files: the base, and what two sides made of it."""

    base: Path
    theirs: Path
    ours: Path
    tables: list[MadeTable]

    @property
    def paths(self) -> tuple[Path, Path, Path]:
        return self.base, self.theirs, self.ours


def made_history(folder: Path, seed: int, steps: int = 14) -> History:
    """A history by its number."""
    chance = random.Random(seed)
    tables = made_schema(chance)
    paths = [folder / f"{name}-{seed}.db" for name in ("base", "theirs", "ours")]
    with contextlib.closing(sqlite3.connect(paths[0])) as db:
        for table in tables:
            ddl = table.ddl(tables)
            db.execute(", ".join([ddl[:-1], *table.foreign_keys(tables)]) + ")")
    Life(paths[0], tables, chance, "b").live(steps)
    for path, who in ((paths[1], "x"), (paths[2], "y")):
        path.write_bytes(paths[0].read_bytes())
        Life(path, tables, chance, who).live(steps)
    return History(*paths, tables)


def merged(base: DatabaseState, theirs: DatabaseState, ours: DatabaseState, place: DatabasePlace) -> CarriedOver:
    """Merge into the database at ``place``, which holds ``ours``."""
    plan = MergePlan(base, theirs, ours)
    with open_database(place).writing() as writer:
        return carry_over(plan, writer)


def faults(
    base: DatabaseState, theirs: DatabaseState, ours: DatabaseState, after: DatabaseState, told: CarriedOver
) -> list[str]:
    """What is wrong with the result of a merge, in words: rows of either side that are lost, rows that name nothing."""
    found: list[str] = []
    aside = [" ".join(map(str, a.values.values())) for a in told.aside]
    aside += [f"{c.theirs} {c.ours}" for c in told.conflicts]
    everything = " | ".join(aside)
    for table in (t for t in theirs.schema.tables if t.kind == "table"):
        at = table.columns.index("said")
        was, now, mine, result = (
            {r[at]: r for r in state.rows(table.name)} for state in (base, theirs, ours, after)
        )  # fmt: skip
        for text in now.keys() - was.keys():
            if text not in result and text not in everything:
                found.append(f"{table.name}: what they wrote is lost: {text}")
        for text in mine.keys() - was.keys():
            gone = text not in result and text not in everything
            removed = any(a.what == "removed" for a in told.aside)
            if gone and not removed and not _removed_by_them(table.key, was, now, mine[text], table.columns):
                found.append(f"{table.name}: what we wrote is lost: {text}")
        for text in was.keys() & now.keys() & mine.keys():
            if text not in result:
                found.append(f"{table.name}: what nobody touched is lost: {text}")
        found += _cells_apart(table, told, *(
            {tuple(r[i] for i in table.key_positions): r for r in state.rows(table.name)}
            for state in (base, theirs, ours, after)
        ))  # fmt: skip
    for reference in references_in(after.schema):
        found += _named_otherwise(reference, base, theirs, after, told)
        child, parent = after.schema.table(reference.table), after.schema.table(reference.to)
        assert child is not None and parent is not None
        at, to = child.columns.index(reference.columns[0]), parent.columns.index(reference.to_columns[0])
        known = {row[to] for row in after.rows(parent.name)}
        found += [
            f"{child.name} names {row[at]} of {parent.name}, which is not there"
            for row in after.rows(child.name) if row[at] is not None and row[at] not in known
        ]  # fmt: skip
    return found


Rows = dict[tuple[Value, ...], Row]


def _cells_apart(table: Table, told: CarriedOver, was: Rows, now: Rows, mine: Rows, result: Rows) -> Iterator[str]:
    """Cells of rows that all have: what one side changed alone must be there, unless it is told of."""
    spoken = {tuple(a.key.values()) for a in told.aside if a.table == table.name}
    spoken |= {tuple(c.key.values()) for c in told.conflicts if c.table == table.name}
    for key in was.keys() & now.keys() & mine.keys() - spoken:
        if key not in result:
            yield f"{table.name} {key}: it is not there"
            continue
        for column, base, theirs, ours, is_now in zip(
            table.columns, was[key], now[key], mine[key], result[key], strict=True
        ):
            wanted = ours if theirs == base else theirs
            if is_now != wanted and not column.startswith("r"):
                yield f"{table.name} {key} {column}: {is_now!r}, and not {wanted!r}"


def _named_otherwise(
    reference: Reference, base: DatabaseState, theirs: DatabaseState, after: DatabaseState, told: CarriedOver
) -> Iterator[str]:
    """Rows that they added and that name another one that they added: the same one, whatever its number is now."""
    child, parent = theirs.schema.table(reference.table), theirs.schema.table(reference.to)
    assert child is not None and parent is not None
    at, to = child.columns.index(reference.columns[0]), parent.columns.index(reference.to_columns[0])
    said, parent_said = child.columns.index("said"), parent.columns.index("said")
    old = {row[to] for row in base.rows(parent.name)}
    known = {row[said] for row in base.rows(child.name)}
    theirs_parents = {row[to]: row[parent_said] for row in theirs.rows(parent.name)}
    parents = {row[to]: row[parent_said] for row in after.rows(parent.name)}
    there = {row[said]: row for row in after.rows(child.name)}
    aside = {v for a in told.aside for v in (*a.key.values(), *a.values.values())}
    for row in theirs.rows(child.name):
        named = theirs_parents.get(row[at])
        is_new = row[said] not in known and row[said] in there and named is not None and row[at] not in old
        is_new = is_new and named not in aside
        if is_new and parents.get(there[row[said]][at]) != named:
            yield f"{child.name}: {row[said]} names {parents.get(there[row[said]][at])}, and not {named}"


def _removed_by_them(
    key: tuple[str, ...],
    was: dict[object, object],
    now: dict[object, object],
    row: tuple[object, ...],
    columns: tuple[str, ...],
) -> bool:
    """Whether a row of ours is one of the base that they removed."""
    at = [columns.index(k) for k in key]
    mine = [row[i] for i in at]
    return any([r[i] for i in at] == mine for r in was.values()) and not any(  # type: ignore[index]
        [r[i] for i in at] == mine
        for r in now.values()  # type: ignore[index]
    )
