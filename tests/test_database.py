"""Databases: everything in them comes back, also from states that nobody expects; differences are told by keys."""

from __future__ import annotations

import contextlib
import math
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import plain_dump, query, state_in_memory
from keenharbor.base.errors import DamagedError, KeenHarborError, UsageError
from keenharbor.database import (
    Block,
    Carried,
    DatabasePlace,
    Row,
    Schema,
    StoredState,
    Table,
    TableDelta,
    encode_row,
    open_database,
    row_delta,
)
from keenharbor.database.lines import decode_json, encode_json
from keenharbor.database.rows import blocks_of, chunks
from keenharbor.host import sqlitefile
from keenharbor.snapshot import restore_state
from keenharbor.store import object_id

EVERYTHING = """
CREATE TABLE "odd ""name" (id INTEGER PRIMARY KEY AUTOINCREMENT, "select" TEXT DEFAULT 'x', n NUMERIC, r REAL, b BLOB,
  total INTEGER GENERATED ALWAYS AS (id * 2) STORED, twice TEXT AS ("select" || "select") VIRTUAL, CHECK (id > 0));
CREATE TABLE nokey (a, b);
CREATE TABLE pair (x TEXT COLLATE NOCASE, y INTEGER, v TEXT, PRIMARY KEY (x, y)) WITHOUT ROWID;
CREATE TABLE parent (id INTEGER PRIMARY KEY, child INTEGER REFERENCES child (id) DEFERRABLE INITIALLY DEFERRED);
CREATE TABLE child (id INTEGER PRIMARY KEY, parent INTEGER REFERENCES parent (id));
CREATE TABLE empty (id INTEGER PRIMARY KEY);
CREATE TABLE counted (id INTEGER PRIMARY KEY AUTOINCREMENT, t TEXT);
CREATE TABLE noticed (what TEXT);
CREATE INDEX partial_index ON pair (v) WHERE v IS NOT NULL;
CREATE UNIQUE INDEX expression_index ON counted (lower(t));
CREATE VIEW first_view AS SELECT x, v FROM pair;
CREATE VIEW second_view AS SELECT v FROM first_view;
CREATE TRIGGER after_count AFTER INSERT ON counted BEGIN INSERT INTO noticed VALUES ('a;b' || new.t); END;
CREATE VIRTUAL TABLE search USING fts5 (title, body);
INSERT INTO "odd ""name" ("select", n, r, b) VALUES ('ü€😀', 9223372036854775807, 1e308, x'00ff00'), (NULL, -1.5, 0.1, NULL),
  ('', '12', 2.0, zeroblob(3));
INSERT INTO nokey VALUES (1, 2), (1, 2), (NULL, 'text');
INSERT INTO pair VALUES ('B', 2, 'v'), ('a', 1, NULL);
INSERT INTO parent VALUES (1, 7); INSERT INTO child VALUES (7, 1);
INSERT INTO counted (t) VALUES ('one'), ('two'), ('three'); DELETE FROM counted WHERE t = 'three';
INSERT INTO search VALUES ('beans', 'tall red beans'), ('peas', 'early peas');
PRAGMA user_version = 34; PRAGMA application_id = 77;
"""


def make(path: Path, script: str) -> Path:
    with contextlib.closing(sqlite3.connect(path)) as connection:
        connection.executescript(script)
        connection.commit()
    return path


def state_of_file(path: Path) -> StoredState:
    return state_in_memory(DatabasePlace("sqlite", path))


def test_everything_comes_back(tmp_path: Path) -> None:
    source = make(tmp_path / "a.db", EVERYTHING)
    target = tmp_path / "b.db"
    rows = restore_state(state_of_file(source), open_database(DatabasePlace("sqlite", target)))
    assert rows > 12
    assert plain_dump(target) == plain_dump(source)
    for pragma in ("user_version", "application_id", "integrity_check", "encoding"):
        assert query(target, f"PRAGMA {pragma}") == query(source, f"PRAGMA {pragma}")
    assert query(target, "SELECT title FROM search WHERE search MATCH 'red'") == [("beans",)]
    assert query(target, 'SELECT total, twice FROM "odd ""name" WHERE id = 1') == [(2, "ü€😀ü€😀")]
    query(target, "INSERT INTO counted (t) VALUES ('four')")
    assert query(target, "SELECT max(id) FROM counted") == [(4,)], "the counter was lost"
    assert query(target, "SELECT what FROM noticed ORDER BY rowid DESC LIMIT 1") == [("a;bfour",)]


def test_restoring_over_another_database_leaves_nothing_of_it(tmp_path: Path) -> None:
    source = make(tmp_path / "a.db", EVERYTHING)
    target = make(
        tmp_path / "b.db",
        "CREATE TABLE other (id INTEGER PRIMARY KEY AUTOINCREMENT); INSERT INTO other DEFAULT VALUES;"
        "CREATE VIEW v AS SELECT 1; CREATE VIRTUAL TABLE search USING fts5 (x); INSERT INTO search VALUES ('old');"
        "CREATE TABLE nokey (completely, different, columns); PRAGMA user_version = 9;",
    )
    restore_state(state_of_file(source), open_database(DatabasePlace("sqlite", target)))
    assert plain_dump(target) == plain_dump(source)


def test_a_failed_replacement_changes_nothing(tmp_path: Path) -> None:
    target = make(tmp_path / "b.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, v); INSERT INTO t VALUES (1, 'mine');")
    before = plain_dump(target)
    broken = state_of_file(make(tmp_path / "a.db", EVERYTHING))
    broken.tables.pop("pair")
    broken.schema.settings["user_version"] = "no number"
    with pytest.raises(ValueError), open_database(DatabasePlace("sqlite", target)).writing() as writer:
        writer.replace(broken)
    assert plain_dump(target) == before


def test_text_that_is_not_utf8_comes_back(tmp_path: Path) -> None:
    source = make(
        tmp_path / "a.db",
        "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, CAST(x'ff41' AS TEXT));",
    )
    target = tmp_path / "b.db"
    restore_state(state_of_file(source), open_database(DatabasePlace("sqlite", target)))
    assert query(target, "SELECT hex(v), typeof(v) FROM t") == [("FF41", "text")]


@pytest.mark.parametrize("mode", ["wal", "delete"])
def test_a_database_with_a_writer_at_work_is_read_as_it_was_at_one_instant(tmp_path: Path, mode: str) -> None:
    path = make(
        tmp_path / "a.db",
        f"PRAGMA journal_mode = {mode}; CREATE TABLE account (id INTEGER PRIMARY KEY, money INTEGER);",
    )
    query(path, "INSERT INTO account SELECT value, 100 FROM json_each('[1,2,3,4,5,6,7,8,9,10]')")
    stop = threading.Event()
    moved = []

    def transfer() -> None:
        with contextlib.closing(sqlite3.connect(path, timeout=30)) as connection:
            while not stop.is_set():
                with connection:
                    connection.execute("UPDATE account SET money = money - 7 WHERE id = 1")
                    connection.execute("UPDATE account SET money = money + 7 WHERE id = 10")
                moved.append(1)
                time.sleep(0.002)  # a writer that never pauses starves every reader of a rollback journal

    writer = threading.Thread(target=transfer)
    writer.start()
    try:
        while not moved:
            pass
        sums = [sum(r[1] for r in state_of_file(path).rows("account")) for _ in range(20)]  # type: ignore[misc]
    finally:
        stop.set()
        writer.join()
    assert set(sums) == {1000}


def test_wrong_places_are_clear_errors(tmp_path: Path) -> None:
    with (
        pytest.raises(UsageError, match="database is not there"),
        open_database(DatabasePlace("sqlite", tmp_path / "x")).reading(),
    ):
        pass
    (tmp_path / "text.db").write_text("this is not a database at all")
    with (
        pytest.raises(UsageError, match="not an SQLite"),
        open_database(DatabasePlace("sqlite", tmp_path / "text.db")).reading(),
    ):
        pass
    with pytest.raises(UsageError, match="engine 'dbase' is not known"):
        open_database(DatabasePlace("dbase", tmp_path / "x"))
    with (
        pytest.raises(UsageError, match="folder"),
        open_database(DatabasePlace("sqlite", tmp_path / "no" / "x")).writing(),
    ):
        pass
    assert not (tmp_path / "x").exists()


def test_sql_runs_in_one_transaction_also_with_semicolons_in_texts(tmp_path: Path) -> None:
    path = make(tmp_path / "a.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT);")
    database = open_database(DatabasePlace("sqlite", path))
    with database.writing() as writer:
        assert writer.script("INSERT INTO t VALUES (1, 'a;b'); -- a remark; with one\nUPDATE t SET v = v || ';'") == 2
    assert query(path, "SELECT v FROM t") == [("a;b;",)]
    with pytest.raises(KeenHarborError, match="refused"), database.writing() as writer:
        writer.script("INSERT INTO t VALUES (2, 'x'); INSERT INTO nowhere VALUES (1)")
    assert query(path, "SELECT count(*) FROM t") == [(1,)]


values = st.none() | st.integers(-(2**63), 2**63 - 1) | st.floats() | st.binary(max_size=20) | st.text(max_size=20)


@given(st.lists(st.lists(values, min_size=2, max_size=2).map(tuple), max_size=30))
@settings(deadline=None)
def test_rows_come_back_from_their_encoding(rows: list[Row]) -> None:
    encoded = encode_json(rows)
    assert encoded == b"".join(encode_row(r) for r in rows), "quick and slow encoding differ"
    back = list(decode_json(encoded))
    assert len(back) == len(rows)
    for one, other in zip(rows, back, strict=True):
        for a, b in zip(one, other, strict=True):
            assert type(a) is type(b)
            assert a == b or (isinstance(a, float) and isinstance(b, float) and math.isnan(a) and math.isnan(b))


@pytest.mark.parametrize("damaged", [b"[1,2\n", b'[{"b":"%"}]\n', b"\xff\n", b'[{"f":"much"}]\n', b'[{"a":1,"b":2}]\n'])
def test_damaged_rows_are_an_error(damaged: bytes) -> None:
    with pytest.raises(DamagedError):
        list(decode_json(damaged))


def test_one_inserted_row_changes_one_chunk() -> None:
    table = Table("t", ("id", "v"), ("id",), "")
    rows: list[Row] = [(n, f"value {n}") for n in range(0, 20_000, 2)]
    before = {object_id(c.data) for c in chunks(table, blocks_of(table, rows))}
    after = {
        object_id(c.data) for c in chunks(table, blocks_of(table, [*rows[:3000], (6001, "new"), *rows[3001:]], 77))
    }
    assert len(before) > 20
    assert len(before - after) <= 2


tables = st.dictionaries(st.integers(0, 30), st.integers(0, 3), max_size=20)


class Plain:
    """A state held in memory: tables by name with rows by key."""

    def __init__(self, **content: dict[int, int]) -> None:
        self.content = content
        self.schema = Schema("sqlite", "", tuple(Table(n, ("id", "v"), ("id",), f"make {n}") for n in content))

    def rows(self, table: str) -> Iterator[Row]:
        yield from sorted(self.content[table].items())

    def blocks(self, table: str) -> Iterator[Block]:
        return blocks_of(self.schema.tables[0], self.rows(table))

    def mark(self, table: str) -> None:
        return None

    def unchanged_since(self, table: str, mark: str, rows: int) -> bool:
        return False

    def chunk_ids(self, table: str) -> None:
        return None


@given(tables, tables)
def test_the_difference_of_two_tables_leads_from_one_to_the_other(left: dict[int, int], right: dict[int, int]) -> None:
    delta = row_delta(Plain(t=left), Plain(t=right)).tables.get("t")
    result: dict[Any, Any] = dict(left)
    if delta is None:
        assert left == right
        return
    for row in delta.removed:
        assert result.pop(row[0]) == row[1]
    for row in delta.added:
        assert row[0] not in result
        result[row[0]] = row[1]
    for before, after in delta.changed:
        assert result[before[0]] == before[1] != after[1]
        result[after[0]] = after[1]
    assert result == right


def test_only_chunks_that_differ_are_read(tmp_path: Path) -> None:
    path = make(tmp_path / "a.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT);")
    query(
        path,
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000) INSERT INTO t SELECT i, i "
        "FROM n",
    )
    before = state_of_file(path)
    query(path, "UPDATE t SET v = 'changed' WHERE id = 10000")
    after = state_of_file(path)
    read: list[str] = []
    for state in (before, after):
        original = state._read
        state._read = lambda i, original=original: (read.append(i), original(i))[1]  # type: ignore[misc]
    delta = row_delta(before, after)
    assert [len(delta.tables["t"].changed), len(read)] == [1, 2]


def test_columns_that_only_one_side_has_are_no_change(tmp_path: Path) -> None:
    left = state_of_file(
        make(tmp_path / "a.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, v); INSERT INTO t VALUES (1, 'x');")
    )
    right = state_of_file(
        make(
            tmp_path / "b.db",
            "CREATE TABLE t (id INTEGER PRIMARY KEY, extra, v); INSERT INTO t VALUES (1, 'new', 'x');",
        )
    )
    delta = row_delta(left, right)
    assert not delta.tables
    assert delta.definitions_changed == ("table t",)


def test_tables_that_came_or_went_are_whole(tmp_path: Path) -> None:
    left = state_of_file(
        make(tmp_path / "a.db", "CREATE TABLE old (id INTEGER PRIMARY KEY); INSERT INTO old VALUES (1);")
    )
    right = state_of_file(
        make(tmp_path / "b.db", "CREATE TABLE new (id INTEGER PRIMARY KEY); INSERT INTO new VALUES (1), (2);")
    )
    delta = row_delta(left, right)
    assert (len(delta.tables["old"].removed), len(delta.tables["new"].added)) == (1, 2)
    assert (delta.definitions_added, delta.definitions_removed) == (("table new",), ("table old",))


OLD_NOTES = "CREATE TABLE notes (id INTEGER PRIMARY KEY, words, by);"
CARRY = Carried("notes", "remarks", {"text": "words", "number": "id"})


@given(
    st.dictionaries(st.integers(1, 9), st.text("ab", max_size=2)),
    st.dictionaries(st.integers(1, 9), st.text("ab", max_size=2)),
)
@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_carried_rows_are_looked_for_where_they_went(
    tmp_path: Path, left: dict[int, str], right: dict[int, str]
) -> None:
    folder = Path(tempfile.mkdtemp(dir=tmp_path))
    before, after = (
        make(folder / "a.db", OLD_NOTES),
        make(folder / "b.db", "CREATE TABLE remarks (number INTEGER PRIMARY KEY, text, at);"),
    )
    for key, text in left.items():
        query(before, "INSERT INTO notes VALUES (?, ?, 'x')", key, text)
    for key, text in right.items():
        query(after, "INSERT INTO remarks VALUES (?, ?, 'now')", key, text)
    delta = row_delta(state_of_file(before), state_of_file(after), [CARRY])
    told = delta.tables.get("notes", TableDelta("notes", (), ()))
    assert {r[0] for r in told.removed} == left.keys() - right.keys()
    assert {r[0] for r, _ in told.changed} == {k for k in left.keys() & right.keys() if left[k] != right[k]}
    new = delta.tables["remarks"].added if "remarks" in delta.tables else ()
    assert {r[0] for r in new} == right.keys() - left.keys()
    assert delta.kept == {"notes": ("remarks", sum(right.get(k) == v for k, v in left.items()))}


def test_rows_are_carried_into_a_table_that_has_some_and_within_their_own(tmp_path: Path) -> None:
    both = "CREATE TABLE remarks (number INTEGER PRIMARY KEY, text); INSERT INTO remarks VALUES (7, 'own');"
    left = make(tmp_path / "a.db", OLD_NOTES + both + "INSERT INTO notes VALUES (1, 'bean', 'x');")
    right = make(tmp_path / "b.db", both + "INSERT INTO remarks VALUES (1, 'bean');")
    delta = row_delta(state_of_file(left), state_of_file(right), [CARRY])
    assert delta.kept == {"notes": ("remarks", 1)} and "notes" not in delta.tables
    assert [r[0] for r in delta.tables["remarks"].added] == [1]
    renamed = make(
        tmp_path / "c.db",
        "CREATE TABLE notes (id INTEGER PRIMARY KEY, told, by); INSERT INTO notes VALUES (1, 'pea', 'x');",
    )
    delta = row_delta(state_of_file(left), state_of_file(renamed), [Carried("notes", "notes", {"told": "words"})])
    assert delta.kept == {"notes": ("notes", 0)} and len(delta.tables["notes"].changed) == 1
    # What has not gone anywhere is compared as it is.
    same = row_delta(state_of_file(left), state_of_file(left), [CARRY])
    assert not same and same.kept == {}


class Rows(Plain):
    """Rows of one table, as they are."""

    def __init__(self, columns: tuple[str, ...], *rows: Row) -> None:
        table = Table("t", columns, columns, "make", kinds=("text",) * len(columns), row_format="copy")
        self.schema, self._rows = Schema("mariadb", "", (table,)), rows

    def rows(self, table: str) -> Iterator[Row]:
        yield from self._rows


def test_a_column_more_loses_no_row_of_a_table_without_a_key() -> None:
    left = Rows(("a", "b"), ("x", "1"), ("x", "1"))
    assert not row_delta(left, Rows(("b", "a", "c"), ("1", "x", None), ("1", "x", "new"))).tables
    assert row_delta(left, Rows(("b", "a", "c"), ("1", "x", None))).tables["t"].removed == (("x", "1"),)


@pytest.mark.parametrize("way", ["reading", "writing"])
def test_a_transaction_keeps_its_lock_whatever_is_read_of_the_file_meanwhile(tmp_path: Path, way: str) -> None:
    """Another process must not write into what this one reads or writes: pages of both would be mixed."""
    file = make(tmp_path / "a.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, x TEXT); INSERT INTO t VALUES (1, 'a');")
    database = open_database(DatabasePlace("sqlite", file))
    other = (
        "import sqlite3, sys\ndb = sqlite3.connect(sys.argv[1], timeout=0, isolation_level=None)\n"
        "db.execute('BEGIN IMMEDIATE')\ndb.execute(\"INSERT INTO t VALUES (2, 'b')\")\ndb.execute('COMMIT')\n"
    )

    def writes() -> str:
        return subprocess.run([sys.executable, "-c", other, str(file)], capture_output=True, text=True).stderr

    with database.reading() if way == "reading" else database.writing():
        with database.reading() as beside:
            beside.mark("t")
        assert "database is locked" in writes()
    assert writes() == ""
    assert not sqlitefile._kept and not sqlitefile._connections
