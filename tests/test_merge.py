"""Carrying rows over, and merging texts three ways: nothing is lost in silence."""

from __future__ import annotations

import contextlib
import json
import sqlite3
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import query
from keenharbor.database import DatabasePlace, open_database
from keenharbor.database.private_server import PrivateServer
from keenharbor.merge.carry import carry_over
from keenharbor.site.edits import MergeConflict, merge_three
from test_database import make, state_of_file
from test_engines import COUNT, need, servers

__all__ = ["servers"]

LOANS = "CREATE TABLE loans (id INTEGER PRIMARY KEY AUTOINCREMENT, who TEXT, seed INTEGER);"


def loans(path: Path, rows: dict[int, str], more: str = "") -> Path:
    path.unlink(missing_ok=True)
    make(path, LOANS + more)
    with contextlib.closing(sqlite3.connect(path)) as connection, connection:
        connection.executemany("INSERT INTO loans (id, who, seed) VALUES (?, ?, 1)", rows.items())
    return path


def carry(tmp_path: Path, base: Path, theirs: Path, ours: Path, tables: tuple[str, ...] = ("loans",)) -> Any:
    states = [state_of_file(p) for p in (base, theirs, ours)]
    with open_database(DatabasePlace("sqlite", ours)).writing() as writer:
        return carry_over(states[0], states[1], states[2], tables, writer)


rows = st.dictionaries(st.integers(1, 12), st.sampled_from(["Ada", "Nell", "Bram"]), max_size=8)


@given(rows, rows, rows)
@settings(max_examples=30, deadline=None)
def test_every_new_row_is_carried_or_put_aside(
    tmp_path_factory: pytest.TempPathFactory, base: dict[int, str], theirs: dict[int, str], ours: dict[int, str]
) -> None:
    folder = tmp_path_factory.mktemp("m")
    paths = [loans(folder / f"{n}.db", r) for n, r in (("base", base), ("theirs", theirs), ("ours", ours))]
    result = carry(folder, *paths)
    after = dict(query(paths[2], "SELECT id, who FROM loans"))
    for key, who in ours.items():
        assert after[key] == who, "a row of ours was changed"
    aside = {(a["row"]["id"], a["row"]["who"]) for a in result.aside}
    for key, who in theirs.items():
        if key not in base:
            assert after.get(key) == who or (key, who) in aside
        elif base[key] != who:
            assert (key, who) in aside
    for key in base.keys() - theirs.keys():
        assert (key, base[key]) in aside
    assert set(after) - set(ours) <= set(theirs) - set(base)


def test_rows_go_through_the_columns_that_both_have(tmp_path: Path) -> None:
    base = loans(tmp_path / "base.db", {1: "Ada"})
    ours = loans(tmp_path / "ours.db", {1: "Ada"})
    theirs = make(
        tmp_path / "theirs.db",
        "CREATE TABLE loans (id INTEGER PRIMARY KEY, channel TEXT, seed INTEGER, who TEXT);"
        "INSERT INTO loans VALUES (1, 'desk', 1, 'Ada'), (2, 'web', 5, 'Nell'), (3, NULL, 6, 'Bram');",
    )
    result = carry(tmp_path, base, theirs, ours)
    assert query(ours, "SELECT id, who, seed FROM loans ORDER BY id") == [(1, "Ada", 1), (2, "Nell", 5), (3, "Bram", 6)]
    assert (result.rows, result.not_carried, result.trimmed) == (2, 0, 1)
    assert result.aside[0]["row"] == {"id": 2, "channel": "web", "seed": 5, "who": "Nell"}


def test_a_row_that_a_constraint_refuses_is_saved(tmp_path: Path) -> None:
    more = "CREATE UNIQUE INDEX one_seed_each ON loans (who);"
    base = loans(tmp_path / "base.db", {})
    theirs = loans(tmp_path / "theirs.db", {7: "Ada"})
    ours = loans(tmp_path / "ours.db", {1: "Ada"}, more)
    result = carry(tmp_path, base, theirs, ours)
    assert result.rows == 0
    assert "UNIQUE" in result.aside[0]["reason"]
    saved = result.save_aside(tmp_path / "aside.jsonl")
    assert saved is not None
    assert json.loads(saved.read_text())["row"]["id"] == 7
    assert saved.stat().st_mode & 0o077 == 0


def test_a_table_that_is_gone_puts_its_rows_aside(tmp_path: Path) -> None:
    base = loans(tmp_path / "base.db", {})
    theirs = loans(tmp_path / "theirs.db", {1: "Ada", 2: "Nell"})
    ours = make(tmp_path / "ours.db", "CREATE TABLE other (id INTEGER PRIMARY KEY);")
    result = carry(tmp_path, base, theirs, ours)
    assert [a["row"]["who"] for a in result.aside] == ["Ada", "Nell"]


def test_other_tables_are_told_of_and_not_carried(tmp_path: Path) -> None:
    pages = "CREATE TABLE pages (id INTEGER PRIMARY KEY, t TEXT);"
    base, ours = loans(tmp_path / "base.db", {}, pages), loans(tmp_path / "ours.db", {}, pages)
    theirs = loans(tmp_path / "theirs.db", {}, pages + "INSERT INTO pages VALUES (1, 'x');")
    result = carry(tmp_path, base, theirs, ours)
    assert result.elsewhere == ["table pages: 1 new row"]
    assert query(ours, "SELECT * FROM pages") == []
    assert result.save_aside(tmp_path / "none.jsonl") is None


def test_the_counter_goes_on_behind_carried_rows(tmp_path: Path) -> None:
    base, ours = loans(tmp_path / "base.db", {1: "Ada"}), loans(tmp_path / "ours.db", {1: "Ada"})
    carry(tmp_path, base, loans(tmp_path / "theirs.db", {1: "Ada", 40: "Nell"}), ours)
    query(ours, "INSERT INTO loans (who, seed) VALUES ('next', 1)")
    assert query(ours, "SELECT max(id) FROM loans") == [(41,)]


lines = st.lists(st.sampled_from(["a\n", "b\n", "c\n", "d\n"]), max_size=8).map("".join)


@given(lines, lines)
def test_merging_with_an_unchanged_side_gives_the_other(base: str, changed: str) -> None:
    assert merge_three(base, changed, base) == changed
    assert merge_three(base, base, changed) == changed
    assert merge_three(base, changed, changed) == changed


@given(st.lists(st.integers(0, 50), min_size=6, max_size=12, unique=True), st.data())
def test_changes_apart_from_each_other_are_both_kept(numbers: list[int], data: st.DataObject) -> None:
    base = [f"line {n}\n" for n in numbers]
    half = len(base) // 2
    at_theirs = data.draw(st.integers(0, half - 2))
    at_ours = data.draw(st.integers(half + 1, len(base) - 1))
    theirs, ours, both = list(base), list(base), list(base)
    theirs[at_theirs] = both[at_theirs] = "their change\n"
    ours[at_ours] = both[at_ours] = "our change\n"
    assert merge_three("".join(base), "".join(theirs), "".join(ours)) == "".join(both)


def test_changes_of_the_same_lines_are_a_conflict() -> None:
    with pytest.raises(MergeConflict, match="lines from 2 on"):
        merge_three("a\nb\nc\n", "a\ntheirs\nc\n", "a\nours\nc\n")


@pytest.mark.parametrize("engine", ["mariadb", "postgres"])
def test_rows_that_belong_to_others_come_after_them_whatever_tables_are_called(
    servers: dict[str, PrivateServer], engine: str
) -> None:
    """Fields of a form that was sent: their table comes before that of the forms."""
    need(engine)
    tables = (
        "CREATE TABLE forms (id int PRIMARY KEY, name varchar(20) UNIQUE)",
        "CREATE TABLE answers (id int PRIMARY KEY, form int NOT NULL, said varchar(20), "
        "CONSTRAINT of_form FOREIGN KEY (form) REFERENCES forms (id))",
    )
    places = []
    for name in ("base", "theirs", "ours"):
        number = f"{name}{next(COUNT)}"
        servers[engine].run_sql(f"CREATE DATABASE {number}")
        places.append(servers[engine].place.with_name(number))
        with open_database(places[-1]).writing() as writer:
            for sql in tables:
                writer.script(sql)
            if name == "theirs":
                writer.script("INSERT INTO forms VALUES (1, 'asked'), (2, 'taken')")
                writer.script("INSERT INTO answers VALUES (1, 1, 'kale'), (2, 1, 'leek'), (3, 2, 'bean')")
            elif name == "ours":
                writer.script("INSERT INTO forms VALUES (9, 'taken')")
    with contextlib.ExitStack() as stack:
        base, theirs, ours = (stack.enter_context(open_database(p).reading()) for p in places)
        writer = stack.enter_context(open_database(places[2]).writing())
        result = carry_over(base, theirs, ours, ("answers", "forms"), writer)
    with open_database(places[2]).reading() as state:
        held = {t: sorted(state.rows(t)) for t in (x.name for x in state.schema.tables)}
    names = {n.rpartition(".")[2]: rows for n, rows in held.items()}
    assert names["forms"] == [(1, "asked"), (9, "taken")]
    assert [r[0] for r in names["answers"]][:2] == [1, 2]
    if engine == "mariadb":  # an owner's own server keeps to its foreign keys; a superuser's lets them rest
        assert len(names["answers"]) == 2 and result.rows == 3 and result.not_carried == 2
        assert {a["table"].rpartition(".")[2] for a in result.aside} == {"forms", "answers"}
