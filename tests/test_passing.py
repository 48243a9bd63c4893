"""What changes by itself in a database: learnt from two looks, and held against nobody."""

from __future__ import annotations

import fnmatch
import sqlite3
import tomllib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import harbor, query
from keenharbor.compare import compare_settings, compare_tables
from keenharbor.compare.state import settings_of
from keenharbor.database import DatabasePlace, RowDelta, open_database, row_delta
from keenharbor.demo.scene import Scene
from keenharbor.site.inference.visited import learnt_between
from keenharbor.site.load import open_site
from keenharbor.site.model import VolatilePart, VolatileRows
from keenharbor.site.passing import Learnt, Passing, kept_rows, learn_passing, passing_names, patterns_of
from test_unaided import needs_php, put, shelf

RULES = VolatilePart(
    tables=["sessions"],
    columns=["users.seen"],
    rows=[VolatileRows(table="options", column="name", like=["cache_*", "cron"])],
)


def made(file: Path, *more: str) -> Path:
    query(file, "CREATE TABLE options (name TEXT PRIMARY KEY, value TEXT)")
    query(file, "CREATE TABLE users (id INTEGER PRIMARY KEY, name TEXT, seen TEXT)")
    query(file, "CREATE TABLE sessions (id INTEGER PRIMARY KEY)")
    query(file, "INSERT INTO options VALUES ('title', 'Seeds'), ('cache_menu', 'old'), ('cron', '1700000000')")
    query(file, "INSERT INTO users VALUES (1, 'ida', 'monday'), (2, 'olle', 'sunday')")
    for statement in more:
        query(file, statement)
    return file


def delta_of(left: Path, right: Path) -> RowDelta:
    with (
        open_database(DatabasePlace("sqlite", left)).reading() as a,
        open_database(DatabasePlace("sqlite", right)).reading() as b,
    ):
        return Passing(RULES).without(row_delta(a, b))


def test_what_passes_is_left_out_and_what_stands_is_not(tmp_path: Path) -> None:
    before = made(tmp_path / "a.db")
    quiet = made(
        tmp_path / "b.db",
        "UPDATE options SET value = 'new' WHERE name <> 'title'", "INSERT INTO options VALUES ('cache_x', '1')",
        "UPDATE users SET seen = 'today'", "INSERT INTO sessions VALUES (7)",
    )  # fmt: skip
    assert not delta_of(before, quiet)
    loud = made(
        tmp_path / "c.db",
        "UPDATE users SET seen = 'today', name = 'Ida' WHERE id = 1", "DELETE FROM users WHERE id = 2",
        "UPDATE options SET value = 'x' WHERE name = 'title'",
    )  # fmt: skip
    tables = delta_of(before, loud).tables
    assert {n: (len(t.added), len(t.removed), len(t.changed)) for n, t in tables.items()} == {
        "users": (0, 1, 1), "options": (0, 0, 1),
    }  # fmt: skip
    # That a row of a cache is gone is nothing; that a whole table is, is.
    gone = made(tmp_path / "d.db", "DELETE FROM options WHERE name <> 'title'", "DROP TABLE users")
    assert delta_of(before, gone).tables.keys() == {"users"}


def test_two_looks_teach_what_visits_change(tmp_path: Path) -> None:
    query(made(tmp_path / "a.db"), "INSERT INTO options VALUES ('hits_d41d8cd98f00b204', '1'), ('home', 'x')")
    with open_database(DatabasePlace("sqlite", tmp_path / "a.db")).reading() as state:
        before = kept_rows(state, {"sessions"})
    assert before.keys() == {"options", "users"}
    for statement in (
        "UPDATE options SET value = '2' WHERE name LIKE 'hits%'", "DELETE FROM options WHERE name = 'cache_menu'",
        "UPDATE users SET seen = 'today' WHERE id = 1", "INSERT INTO users VALUES (3, 'new', '')",
    ):  # fmt: skip
        query(tmp_path / "a.db", statement)
    with open_database(DatabasePlace("sqlite", tmp_path / "a.db")).reading() as state:
        learnt = learn_passing(before, kept_rows(state, {"sessions"}), {"options": "name"})
    assert learnt.columns == ["users.seen"]
    assert learnt.rows == {("options", "name"): ["cache_*", "hits_*"]}
    text = learnt.written_into('[volatile]\ntables = ["sessions"]  # mine\n\n# of another\n[other]\nx = 1\n')
    assert text.index("columns = ") < text.index("rows = ") < text.index("# of another")
    assert "# mine" in text and tomllib.loads(text)["other"] == {"x": 1}
    part = VolatilePart.model_validate(tomllib.loads(learnt.written_into(text))["volatile"])
    assert part.tables == ["sessions"] and part.columns == ["users.seen"] and part.rows[0].like == ["cache_*", "hits_*"]
    assert Learnt().written_into("a = 1\n") == "a = 1\n"


def test_one_look_tells_what_holds_a_moment() -> None:
    values = {
        "title": "Seeds", "cache_enabled": "1", "cron": "a:2:{i:1;i:2;}", "last_run": "1764230400",
        "_cache_timeout_menu": "1764230400", "_cache_menu": "<ul>", "founded": "1764230400",
        "session_length": "3600",
    }  # fmt: skip
    found = passing_names(values)
    fits = {n for n in values if any(fnmatch.fnmatchcase(n, p) for p in found)}
    assert fits == {"last_run", "_cache_timeout_menu", "_cache_menu"}, "a switch of a cache is a setting like others"


@given(
    st.sets(st.text("ab_cache19[*?", min_size=1, max_size=12), min_size=1, max_size=6),
    st.sets(st.text("abtitle_x", min_size=1, max_size=10), max_size=6),
)
def test_patterns_fit_what_they_were_learnt_from_and_no_setting_beside_it(called: set[str], others: set[str]) -> None:
    others -= called
    patterns = patterns_of(called, others)
    assert all(any(fnmatch.fnmatchcase(n, p) for p in patterns) for n in called)
    assert not [o for o in others if any(fnmatch.fnmatchcase(o, p) for p in patterns) and not any(c in o for c in "19")]


COUNTING = {
    "config.php": "<?php\ndefine('DB_FILE', __DIR__ . '/data/shelf.db');\ndefine('SITE_URL', "
    "'http://127.0.0.1:{port}');\n",
    "index.php": "<?php\nrequire 'config.php';\n$db = new PDO('sqlite:' . DB_FILE);\n"
    "$db->exec(\"UPDATE options SET value = '\" . uniqid() . \"' WHERE name = 'cache_front'\");\n"
    "$db->exec(\"UPDATE users SET last_seen = '\" . uniqid() . \"' WHERE id = 1\");\n"
    "echo '<title>Shelf</title><a href=\"/join.php\">join</a>';\nif (isset($_COOKIE['in'])) echo 'sign out';\n",
}  # fmt: skip


@needs_php
def test_init_learns_it_while_it_visits_and_a_cutover_does_not_mind(tmp_path: Path) -> None:
    with shelf(tmp_path) as (root, address):
        port = address.rpartition(":")[2]
        put(root, {p: t.replace("{port}", port) for p, t in COUNTING.items()})
        (root / "data").mkdir()
        with sqlite3.connect(root / "data/shelf.db") as db:
            db.executescript(
                "CREATE TABLE options (name TEXT PRIMARY KEY, value TEXT);"
                f"INSERT INTO options VALUES ('site_url', '{address}'), ('cache_front', ''), ('title', 'Shelf');"
                "CREATE TABLE users (id INTEGER PRIMARY KEY, name TEXT, last_seen TEXT);"
                "INSERT INTO users VALUES (1, 'ida', '');"
            )
        told = harbor(tmp_path, "init", root, "--yes", "--pages", "--json", code=None).json
        learnt = [e["value"] for e in told["entries"] if "while the site was visited" in e["evidence"]]
        assert learnt == ["columns users.last_seen", "rows of options: cache_*"]
        volatile = open_site(tmp_path / "keenharbor.toml").model.volatile
        assert volatile.columns == ["users.last_seen"] and volatile.rows[0].like == ["cache_*"]
        # A live that is visited during a trial has not changed for a reason that nobody knows.
        before = open_site(tmp_path / "keenharbor.toml").fingerprint()
        query(root / "data/shelf.db", "UPDATE options SET value = 'fresh' WHERE name = 'cache_front'")
        query(root / "data/shelf.db", "UPDATE users SET last_seen = 'now'")
        assert before.differences(open_site(tmp_path / "keenharbor.toml").fingerprint()) == []
        query(root / "data/shelf.db", "UPDATE users SET name = 'olle'")
        assert before.differences(open_site(tmp_path / "keenharbor.toml").fingerprint()) == ["table users"]


def test_settings_that_pass_are_no_settings_lost(scene: Scene) -> None:
    query(scene.database, "INSERT INTO settings (name, value) VALUES ('cache_front', '1')")
    with scene.site_file.open("a") as out:
        out.write('\n[[volatile.rows]]\ntable = "settings"\ncolumn = "name"\nlike = ["cache_*"]\n')
    site = open_site(scene.site_file)
    with site.reading_database() as state:
        before = settings_of(state, site.model)
        assert "cache_front" not in before
        assert compare_tables(row_delta(state, state), site.model) == []
    query(scene.database, "DELETE FROM settings WHERE name = 'cache_front'")
    with site.reading_database() as state:
        assert compare_settings(before, settings_of(state, site.model)) == []


@pytest.mark.parametrize("rules", ['columns = ["users"]', 'rows = [{ table = "a", column = "b", like = [] }]'])
def test_rules_that_say_nothing_are_refused(scene: Scene, rules: str) -> None:
    with scene.site_file.open("a") as out:
        out.write(f"\n[volatile]\n{rules}\n" if "[volatile]" not in scene.site_file.read_text() else f"\n{rules}\n")
    assert "keenharbor.toml" in harbor(scene.folder, "survey", code=2).err


def test_what_is_said_of_a_user_by_a_key_is_learnt_by_the_key_and_what_is_made_once_stays(tmp_path: Path) -> None:
    file = tmp_path / "a.db"
    with sqlite3.connect(file) as db:
        db.executescript(
            "CREATE TABLE usermeta (id INTEGER PRIMARY KEY, user_id INTEGER, meta_key TEXT, meta_value TEXT);"
            "INSERT INTO usermeta VALUES (1, 1, 'rights', 'editor'), (2, 1, 'session_tokens', 'a1');"
            "CREATE TABLE options (id INTEGER PRIMARY KEY, name TEXT, value TEXT);"
            "INSERT INTO options VALUES (1, 'site_title', 'Lane');"
            "CREATE TABLE seeds (id INTEGER PRIMARY KEY, name TEXT, looks INTEGER);"
            "INSERT INTO seeds VALUES (1, 'bean', 0);"
        )
    place = DatabasePlace("sqlite", file)
    with open_database(place).reading() as state:
        before = kept_rows(state, set())
    with sqlite3.connect(file) as db:
        db.executescript(
            "UPDATE usermeta SET meta_value = 'b2' WHERE id = 2; UPDATE seeds SET looks = 1;"
            "INSERT INTO options VALUES (2, 'auth_key', 'made once'), (3, '_transient_feed', 'x');"
        )
    with open_database(place).reading() as state:
        learnt = learnt_between(before, kept_rows(state, set()))
    assert learnt.columns == ["seeds.looks"], "no column of values is given up for one of them"
    assert learnt.rows.keys() == {("usermeta", "meta_key"), ("options", "name")}
    fits = {p for patterns in learnt.rows.values() for p in patterns}
    assert any(fnmatch.fnmatchcase("session_tokens", p) for p in fits)
    assert not any(fnmatch.fnmatchcase(n, p) for p in fits for n in ("rights", "auth_key", "site_title"))
