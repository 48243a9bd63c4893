"""Carrying rows over, and merging texts three ways: nothing is lost in silence."""

from __future__ import annotations

import contextlib
import json
import shutil
import sqlite3
from collections.abc import Collection
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import query
from keenharbor.database import DatabasePlace, open_database
from keenharbor.database.private_server import PrivateServer
from keenharbor.merge.carry import CarriedOver, carry_over
from keenharbor.merge.model import Passage
from keenharbor.merge.plan import MergePlan
from keenharbor.merge.trees import MergedTree, merge_trees
from keenharbor.site.edits import MergeConflict, merge_three
from keenharbor.site.model import VolatilePart
from keenharbor.site.passing import Passing
from keenharbor.tree import Entry
from made_histories import History, faults, made_history, merged
from test_database import make, plain_dump, state_of_file
from test_engines import COUNT, fresh, need, servers

__all__ = ["servers"]

LOANS = "CREATE TABLE loans (id INTEGER PRIMARY KEY AUTOINCREMENT, who TEXT, seed INTEGER);"


def loans(path: Path, rows: dict[int, str], more: str = "") -> Path:
    path.unlink(missing_ok=True)
    make(path, LOANS + more)
    with contextlib.closing(sqlite3.connect(path)) as connection, connection:
        connection.executemany("INSERT INTO loans (id, who, seed) VALUES (?, ?, 1)", rows.items())
    return path


def carry(
    base: Path, theirs: Path, ours: Path, tables: Collection[str] | None = ("loans",), **more: Any
) -> CarriedOver:
    """Merge files; with ``tables`` only new rows of these."""
    states = [state_of_file(p) for p in (base, theirs, ours)]
    plan = MergePlan(*states, only_added=tables, **more)
    with open_database(DatabasePlace("sqlite", ours)).writing() as writer:
        return carry_over(plan, writer)


rows = st.dictionaries(st.integers(1, 12), st.sampled_from(["Ada", "Nell", "Bram"]), max_size=8)


@given(rows, rows, rows)
@settings(max_examples=30, deadline=None)
def test_every_new_row_is_carried_or_put_aside(
    tmp_path_factory: pytest.TempPathFactory, base: dict[int, str], theirs: dict[int, str], ours: dict[int, str]
) -> None:
    folder = tmp_path_factory.mktemp("m")
    paths = [loans(folder / f"{n}.db", r) for n, r in (("base", base), ("theirs", theirs), ("ours", ours))]
    result = carry(*paths)
    after = dict(query(paths[2], "SELECT id, who FROM loans"))
    for key, who in ours.items():
        assert after[key] == who, "a row of ours was changed"
    aside = {(a.values["id"], a.values["who"]) for a in result.aside}
    for key, who in theirs.items():
        if key not in base:
            assert after.get(key) == who or (key, who) in aside or who in after.values(), "under another number"
        elif base[key] != who:
            assert (key, who) in aside
    for key in base.keys() - theirs.keys():
        assert (key, base[key]) in aside
    assert len(set(after) - set(ours)) <= len(set(theirs) - set(base))


def test_rows_go_through_the_columns_that_both_have(tmp_path: Path) -> None:
    base = loans(tmp_path / "base.db", {1: "Ada"})
    ours = loans(tmp_path / "ours.db", {1: "Ada"})
    theirs = make(
        tmp_path / "theirs.db",
        "CREATE TABLE loans (id INTEGER PRIMARY KEY, channel TEXT, seed INTEGER, who TEXT);"
        "INSERT INTO loans VALUES (1, 'desk', 1, 'Ada'), (2, 'web', 5, 'Nell'), (3, NULL, 6, 'Bram');",
    )
    result = carry(base, theirs, ours)
    assert query(ours, "SELECT id, who, seed FROM loans ORDER BY id") == [(1, "Ada", 1), (2, "Nell", 5), (3, "Bram", 6)]
    assert (result.rows, result.not_carried, result.trimmed) == (2, 0, 1)
    assert (result.aside[0].key, result.aside[0].values) == ({"id": 2}, {"channel": "web"})


def test_a_row_that_a_constraint_refuses_is_saved(tmp_path: Path) -> None:
    more = "CREATE UNIQUE INDEX one_seed_each ON loans (who);"
    base = loans(tmp_path / "base.db", {})
    theirs = loans(tmp_path / "theirs.db", {7: "Ada"})
    ours = loans(tmp_path / "ours.db", {1: "Ada"}, more)
    result = carry(base, theirs, ours)
    assert result.rows == 0
    assert "UNIQUE" in result.aside[0].reason
    saved = result.save_aside(tmp_path / "aside.jsonl")
    assert saved is not None
    assert json.loads(saved.read_text())["row"]["id"] == 7
    assert saved.stat().st_mode & 0o077 == 0


def test_a_table_that_is_gone_puts_its_rows_aside(tmp_path: Path) -> None:
    base = loans(tmp_path / "base.db", {})
    theirs = loans(tmp_path / "theirs.db", {1: "Ada", 2: "Nell"})
    ours = make(tmp_path / "ours.db", "CREATE TABLE other (id INTEGER PRIMARY KEY);")
    result = carry(base, theirs, ours)
    assert [a.values["who"] for a in result.aside] == ["Ada", "Nell"]


def test_other_tables_are_told_of_and_not_carried(tmp_path: Path) -> None:
    pages = "CREATE TABLE pages (id INTEGER PRIMARY KEY, t TEXT);"
    base, ours = loans(tmp_path / "base.db", {}, pages), loans(tmp_path / "ours.db", {}, pages)
    theirs = loans(tmp_path / "theirs.db", {}, pages + "INSERT INTO pages VALUES (1, 'x');")
    result = carry(base, theirs, ours)
    assert result.elsewhere == ["table pages: 1 new row"]
    assert query(ours, "SELECT * FROM pages") == []
    assert result.save_aside(tmp_path / "none.jsonl") is None


def test_the_counter_goes_on_behind_carried_rows(tmp_path: Path) -> None:
    base, ours = loans(tmp_path / "base.db", {1: "Ada"}), loans(tmp_path / "ours.db", {1: "Ada"})
    carry(base, loans(tmp_path / "theirs.db", {1: "Ada", 40: "Nell"}), ours)
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


# -- three ways, by cells --------------------------------------------------------------------------------------

SHOP = (
    "CREATE TABLE posts (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT, body TEXT, comment_count INTEGER);"
    "CREATE TABLE comments (id INTEGER PRIMARY KEY AUTOINCREMENT, post_id INTEGER REFERENCES posts (id), said TEXT);"
    "CREATE TABLE likes (id INTEGER PRIMARY KEY, comment_id INTEGER, who TEXT);"
    "INSERT INTO posts VALUES (1, 'Kale', 'Sow it.', 1), (2, 'Leek', 'Wait.', 0);"
    "INSERT INTO comments VALUES (1, 1, 'Good.');"
)


def three(tmp_path: Path, theirs: str, ours: str, base: str = SHOP) -> tuple[Path, Path, Path]:
    paths = tuple(tmp_path / f"{name}.db" for name in ("base", "theirs", "ours"))
    for path, more in zip(paths, ("", theirs, ours), strict=True):
        make(path, base + more)
    return paths[0], paths[1], paths[2]


def test_what_one_side_changed_is_taken_cell_by_cell_and_a_count_moves_on(tmp_path: Path) -> None:
    paths = three(
        tmp_path,
        "INSERT INTO comments VALUES (2, 1, 'So good.'), (3, 1, 'Best.'), (4, 2, 'When?');"
        "UPDATE posts SET comment_count = 3 WHERE id = 1; UPDATE posts SET comment_count = 1, title = 'Leeks' WHERE id "
        "= 2;",
        "UPDATE posts SET body = '<p>' || body || '</p>', comment_count = 5 WHERE id = 1;",
    )
    told = carry(*paths, None)
    assert query(paths[2], "SELECT * FROM posts") == [(1, "Kale", "<p>Sow it.</p>", 7), (2, "Leeks", "Wait.", 1)]
    assert (told.rows, told.conflicts, told.aside) == (5, [], [])
    assert told.inferred == ["posts.comment_count counts rows of comments"]
    assert told.examples["comments"][0] == "added 2: So good."


@pytest.mark.parametrize(("side", "title"), [("theirs", "Kale!"), ("ours", "Cabbage")])
def test_a_cell_that_both_changed_goes_by_the_rule_and_the_other_is_kept(tmp_path: Path, side: Any, title: str) -> None:
    paths = three(tmp_path, "UPDATE posts SET title = 'Kale!' WHERE id = 1;",
                  "UPDATE posts SET title = 'Cabbage', body = 'x' WHERE id = 1;")  # fmt: skip
    told = carry(*paths, None, rule=lambda table: side)
    assert query(paths[2], "SELECT title, body FROM posts WHERE id = 1") == [(title, "x")]
    (conflict,) = told.conflicts
    assert (conflict.table, conflict.key, conflict.column, conflict.taken) == ("posts", {"id": 1}, "title", side)
    saved = told.save_aside(tmp_path / "aside.jsonl")
    assert saved is not None
    lost = ({"Kale!", "Cabbage"} - {title}).pop()
    assert lost in saved.read_text()


def test_rows_that_came_under_one_number_get_new_ones_with_all_that_names_them(tmp_path: Path) -> None:
    paths = three(
        tmp_path,
        "INSERT INTO comments VALUES (2, 1, 'From a visitor.'); INSERT INTO likes VALUES (1, 2, 'Ada');",
        "INSERT INTO comments VALUES (2, 2, 'From the upgrade.'), (3, 2, 'Another.');",
    )
    told = carry(*paths, None)
    assert query(paths[2], "SELECT * FROM comments WHERE id > 1") == [
        (2, 2, "From the upgrade."), (3, 2, "Another."), (4, 1, "From a visitor.")
    ]  # fmt: skip
    assert query(paths[2], "SELECT * FROM likes") == [(1, 4, "Ada")], "named without a foreign key"
    assert told.numbers == {"comments": 1}
    assert "likes.comment_id names rows of comments" in told.inferred
    query(paths[2], "INSERT INTO comments (said) VALUES ('next')")
    assert query(paths[2], "SELECT max(id) FROM comments") == [(5,)]


def test_a_row_that_is_needed_still_stays_and_one_that_others_go_with_goes(tmp_path: Path) -> None:
    gone = "DELETE FROM comments; DELETE FROM posts WHERE id = 1;"
    paths = three(tmp_path, gone, "")
    assert carry(*paths, None).rows == 2
    assert query(paths[2], "SELECT id FROM posts") == [(2,)]
    paths = (
        three(tmp_path / "b", gone, "INSERT INTO comments VALUES (5, 1, 'Mine.');")
        if ((tmp_path / "b").mkdir() is None)
        else paths
    )
    told = carry(*paths, None)
    assert query(paths[2], "SELECT id FROM posts") == [(1,), (2,)]
    assert [c.clash for c in told.conflicts] == ["still needed there"]


def test_a_comment_on_what_came_with_the_upgrade_is_kept_aside_and_not_counted(tmp_path: Path) -> None:
    """Going back: ours is from before the upgrade, which is the base's last step."""
    base = SHOP + "INSERT INTO posts VALUES (3, 'Welcome to 4.0', 'New.', 0); INSERT INTO likes VALUES (9, NULL, 'x');"
    paths = [tmp_path / f"{n}.db" for n in ("base", "theirs", "ours")]
    make(paths[0], base)
    make(paths[1], base + "INSERT INTO comments VALUES (2, 3, 'Nice.'), (3, 1, 'And here.');"
         "UPDATE posts SET comment_count = comment_count + 1 WHERE id IN (1, 3);")  # fmt: skip
    make(paths[2], SHOP)
    told = carry(paths[0], paths[1], paths[2], None)
    assert query(paths[2], "SELECT id FROM comments") == [(1,), (3,)]
    assert query(paths[2], "SELECT id, comment_count FROM posts") == [(1, 2), (2, 0)]
    assert {(a.table, a.reason) for a in told.aside} == {
        ("comments", "what it belongs to is not there"), ("posts", "its row is not there")
    }  # fmt: skip


def test_rows_go_back_through_what_the_upgrade_renamed_and_moved(tmp_path: Path) -> None:
    old = "CREATE TABLE loans (id INTEGER PRIMARY KEY, who TEXT, note TEXT); INSERT INTO loans VALUES (1, 'Ada', 'a');"
    new = (
        "CREATE TABLE lendings (id INTEGER PRIMARY KEY, member TEXT, note TEXT, colour TEXT DEFAULT 'red');"
        "INSERT INTO lendings (id, member, note) VALUES (1, 'Ada', 'a');"
    )
    make(tmp_path / "arrival.db", new)
    make(tmp_path / "now.db", new + "INSERT INTO lendings VALUES (2, 'Nell', 'b', 'blue');"
         "UPDATE lendings SET member = 'Ada Quill', colour = 'green' WHERE id = 1;")  # fmt: skip
    ours = make(tmp_path / "before.db", old)
    way = [Passage("lendings", "loans", {"member": "who"})]
    told = carry(tmp_path / "arrival.db", tmp_path / "now.db", ours, None, passages=way)
    assert query(ours, "SELECT * FROM loans") == [(1, "Ada Quill", "a"), (2, "Nell", "b")]
    assert {(tuple(a.key.items()), tuple(a.values.items())) for a in told.aside} == {
        ((("id", 1),), (("colour", "green"),)), ((("id", 2),), (("colour", "blue"),)),
    }  # fmt: skip


def test_no_trigger_acts_on_what_is_carried(tmp_path: Path) -> None:
    acting = SHOP + (
        "CREATE TRIGGER counts AFTER INSERT ON comments BEGIN UPDATE posts SET comment_count = comment_count + 1 "
        "WHERE id = new.post_id; END;"
    )
    paths = three(tmp_path, "INSERT INTO comments VALUES (2, 2, 'x');", "", acting)
    carry(*paths, None)
    assert query(paths[2], "SELECT comment_count FROM posts") == [(1,), (1,)]
    assert query(paths[2], "SELECT count(*) FROM sqlite_schema WHERE type = 'trigger'") == [(1,)]


def test_what_changes_by_itself_is_left_out(tmp_path: Path) -> None:
    paths = three(tmp_path, "INSERT INTO likes VALUES (1, 1, 'x'); UPDATE posts SET title = 'y' WHERE id = 1;", "")
    standing = Passing(VolatilePart(tables=["likes"])).without
    assert set(carry(*paths, None, standing=standing).carried) == {"posts"}


@given(st.integers(0, 2**32))
@settings(max_examples=300, deadline=None)
def test_nothing_is_lost_in_any_history(tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    folder = tmp_path_factory.mktemp("history")
    history = made_history(folder, seed)
    after, again = folder / "after.db", folder / "again.db"
    with contextlib.ExitStack() as stack:
        states = [stack.enter_context(open_database(DatabasePlace("sqlite", p)).reading()) for p in history.paths]
        for place in (after, again):
            place.write_bytes(history.ours.read_bytes())
            told = merged(states[0], states[1], states[2], DatabasePlace("sqlite", place))
        result = stack.enter_context(open_database(DatabasePlace("sqlite", after)).reading())
        assert faults(states[0], states[1], states[2], result, told) == []
    assert plain_dump(after) == plain_dump(again)
    shutil.rmtree(folder)


@pytest.mark.parametrize("engine", ["mariadb", "postgres"])
@pytest.mark.parametrize("seed", range(5))
def test_nothing_is_lost_on_a_server(servers: dict[str, PrivateServer], tmp_path: Path, engine: str, seed: int) -> None:
    need(engine)
    history = made_history(tmp_path, 1000 + seed)
    with contextlib.ExitStack() as stack:
        places = [filled(servers[engine], history, path) for path in history.paths]
        states = [stack.enter_context(open_database(p).reading()) for p in places]
        told = merged(states[0], states[1], states[2], filled(servers[engine], history, history.ours, into=places))
        after = stack.enter_context(open_database(places[-1]).reading())
        assert faults(states[0], states[1], states[2], after, told) == []


def filled(
    server: PrivateServer, history: History, path: Path, into: list[DatabasePlace] | None = None
) -> DatabasePlace:  # fmt: skip
    """A database on a server with the tables and rows of a file."""
    place = fresh(server)
    with open_database(DatabasePlace("sqlite", path)).reading() as state, open_database(place).writing() as writer:
        for table in history.tables:
            writer.script(table.ddl(history.tables))
        for table in history.tables:
            for number, key in enumerate(table.foreign_keys(history.tables)):
                writer.script(f"ALTER TABLE {table.name} ADD CONSTRAINT fk_{table.name}_{number} {key}")
        with writer.merging():
            for table in state.schema.tables:
                for row in state.rows(table.name):
                    assert writer.insert(table.name, table.columns, row) is None
    if into is not None:
        into.append(place)
    return place


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
        result = carry_over(MergePlan(base, theirs, ours, only_added=("answers", "forms")), writer)
    with open_database(places[2]).reading() as state:
        held = {t: sorted(state.rows(t)) for t in (x.name for x in state.schema.tables)}
    names = {n.rpartition(".")[2]: rows for n, rows in held.items()}
    assert names["forms"] == [(1, "asked"), (9, "taken")]
    assert [r[0] for r in names["answers"]] == [1, 2]
    assert result.rows == 3 and result.not_carried == 2
    assert {a.table.rpartition(".")[2] for a in result.aside} == {"forms", "answers"}


# -- files ------------------------------------------------------------------------------------------------------


def tree(**contents: str) -> dict[str, Entry]:
    """Files by path (``__`` for a slash) with their content as the id of their only object."""
    found: dict[str, Entry] = {}
    for name, content in contents.items():
        path = name.replace("__", "/") + ".txt"
        area = {"core": "core", "settings": "settings", "cache": "cache"}.get(path.split("/")[0].split(".")[0], "media")
        for at, letter in enumerate(path):
            if letter == "/":
                found[path[:at]] = Entry(path[:at], "folder", 0o755, 0, 0, area)
        found[path] = Entry(path, "file", 0o644, 0, len(content), area, None, (content,))
    return found


def merge_files(base: dict[str, Entry], theirs: dict[str, Entry], ours: dict[str, Entry]) -> MergedTree:
    return merge_trees(base, theirs, ours, ("core",), lambda e: "".join(e.objects).encode())


def test_files_that_came_stay_and_code_goes_back_whole() -> None:
    arrival = tree(core__app="new code", media__a="a", media__b="b", media__c="c")
    now = tree(core__app="new code, edited", media__a="a2", media__c="c", media__new__up="up", cache__x="x")
    before = tree(core__app="old code", media__a="a", media__b="b", media__c="c0")
    made = merge_files(arrival, now, before)
    contents = {p: e.objects[0] for p, e in made.entries.items() if e.kind == "file"}
    assert contents == {"core/app.txt": "old code", "media/a.txt": "a2", "media/c.txt": "c0", "media/new/up.txt": "up"}
    assert made.entries["media/new"].kind == "folder"
    assert (made.added, made.changed, made.removed) == (
        ["media/new", "media/new/up.txt"],
        ["media/a.txt"],
        ["media/b.txt"],
    )
    assert made.left == ["core/app.txt"] and made.conflicts == []


def test_settings_that_both_changed_are_put_together_or_ours() -> None:
    lines = "a = 1\nb = 2\nc = 3\n"
    arrival = tree(settings=lines.replace("a = 1", "a = new"))
    made = merge_files(
        arrival, tree(settings=arrival["settings.txt"].objects[0].replace("c = 3", "c = mine")), tree(settings=lines)
    )
    assert made.merged == {"settings.txt": b"a = 1\nb = 2\nc = mine\n"}
    clash = merge_files(arrival, tree(settings=lines.replace("a = 1", "a = hand")), tree(settings=lines))
    assert clash.merged == {} and clash.entries["settings.txt"].objects == (lines,)
    assert [(c.path, c.taken) for c in clash.conflicts] == [("settings.txt", "ours")]
    upload = merge_files(tree(media__a="1"), tree(media__a="2"), tree(media__a="0"))
    assert upload.entries["media/a.txt"].objects == ("2",) and upload.conflicts[0].taken == "theirs"


contents = st.dictionaries(st.sampled_from(["media__a", "media__b", "media__c__d"]), st.sampled_from("xyz"), max_size=3)


@given(contents, contents, contents)
def test_every_file_of_theirs_is_there_or_told(
    base: dict[str, str], theirs: dict[str, str], ours: dict[str, str]
) -> None:
    sides = tree(**base), tree(**theirs), tree(**ours)
    made = merge_files(*sides)
    told = {c.path for c in made.conflicts}
    for path, entry in sides[1].items():
        if entry.kind == "file" and (path not in sides[0] or sides[0][path] != entry):
            assert made.entries.get(path) == entry or path in told
    for path, entry in sides[2].items():
        if sides[0].get(path) == sides[1].get(path) and entry.kind == "file":
            assert made.entries[path] == entry, "nobody had touched it"
