"""What the new release would have made of the database, held against what the upgrade made of it."""

from __future__ import annotations

import sqlite3
import sys
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import harbor
from keenharbor.compare import Observation
from keenharbor.database import DatabasePlace, Schema, Table, open_database
from keenharbor.database.makeup import makeup_of, type_of
from keenharbor.database.private_server import PrivateServer
from keenharbor.database.protocol import Definition
from keenharbor.trial.fresh import brought_by, unlike_fresh
from test_engines import COUNT, need, servers
from test_forms import site_file

__all__ = ["servers"]


def test_a_makeup_is_what_a_definition_comes_to() -> None:
    one = makeup_of(
        'CREATE TABLE "shop" ("id" integer NOT NULL PRIMARY KEY AUTOINCREMENT, "note" varchar( 40 ) NOT NULL '
        'DEFAULT \'a, (b)\', price decimal(8,2), CONSTRAINT "one_1f2e" UNIQUE ("note", price), CHECK (price > 0))'
    )
    two = makeup_of(
        "CREATE TABLE shop (\n  price DECIMAL(8, 2),\n  id INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,\n"
        "  note VARCHAR(40) NOT NULL DEFAULT 'a, (b)',\n  CHECK (price > 0),\n  CONSTRAINT other UNIQUE (note, "
        "price)\n)"
    )
    assert one == two and one.columns.keys() == {"id", "note", "price"}
    assert one.constraints == {"unique(note,price)", "check(price > 0)"}
    assert makeup_of("CREATE TABLE t (`k` int, KEY `t_k_1a2b` (`k`))").constraints == {"key(k)"}


@pytest.mark.parametrize(
    ("column", "kind"),
    [
        ("char(32) not null", "char(32)"), ("varchar(40) not null default 'x'", "varchar(40)"),
        ("timestamp with time zone not null", "timestamp with time zone"), ("uuid", "uuid"),
        ("integer not null primary key", "integer"), ("decimal(8,2)", "decimal(8,2)"), ("", ""),
    ],
)  # fmt: skip
def test_the_type_stands_at_the_beginning(column: str, kind: str) -> None:
    assert type_of(column) == kind


@given(st.text("(),'\"` \nabcCREATE TABLE", max_size=60))
def test_whatever_a_definition_holds_is_read_to_its_end(text: str) -> None:
    makeup_of(text)


def schema(*tables: str) -> Schema:
    made = tuple(Table(t.split()[2], (), (), t) for t in tables)
    return Schema("sqlite", "3", made)


def told(fresh: Schema, there: Schema) -> dict[str, str]:
    return {o.place: o.weight.value for o in unlike_fresh(fresh, there)}


def test_what_is_made_otherwise_is_told_by_what_it_does() -> None:
    new = schema("CREATE TABLE a (id uuid NOT NULL, n int, UNIQUE (n))", "CREATE TABLE b (x int)")
    old = schema("CREATE TABLE a (id char(32) NOT NULL, n int, gone text NOT NULL)", "CREATE TABLE extra (y int)")
    assert told(new, old) == {
        "table b": "doubt", "tables beyond": "note", "a.id": "doubt", "a.gone": "doubt", "a unique(n)": "doubt",
    }  # fmt: skip
    assert told(new, new) == {}
    (seen,) = [o for o in unlike_fresh(new, old) if o.place == "a.id"]
    assert isinstance(seen, Observation)
    assert seen.text == "the column id of a is char(32); the new release makes it uuid"
    assert (seen.before, seen.after) == ("char(32)", "uuid")


def test_indexes_and_constraints_beside_a_table_count_and_are_laid_to_the_step_that_changed_them() -> None:
    def with_objects(*objects: str) -> Schema:
        made = schema("CREATE TABLE a (id uuid NOT NULL, n int)")
        return replace(made, objects=tuple(Definition("index", o, o) for o in objects))

    unique = 'CREATE UNIQUE INDEX "a_n_1f2e" ON "a" ("n")'
    new = with_objects(unique, "CREATE INDEX by_id ON a USING btree (id)")
    old = with_objects("CREATE UNIQUE INDEX other ON a(n)", "ALTER TABLE ONLY a ADD CONSTRAINT x CHECK ((n > 0))")
    assert told(new, old) == {"a index(id)": "note", "a check((n > 0))": "doubt"}
    assert told(new, with_objects()) == {"a index(id)": "note", "a unique index(n)": "doubt"}
    (seen,) = [o for o in unlike_fresh(new, with_objects()) if o.weight.value == "doubt"]
    behind = [("one", new), ("two", with_objects()), ("three", with_objects())]
    assert brought_by(seen, new, behind) == "two" and brought_by(seen, with_objects(), behind[1:]) is None
    (column,) = unlike_fresh(schema("CREATE TABLE a (id uuid, m int)"), schema("CREATE TABLE a (id uuid)"))
    steps = [("one", schema("CREATE TABLE a (id uuid, m int)")), ("two", schema("CREATE TABLE a (id uuid)"))]
    assert brought_by(column, steps[0][1], steps) == "two"


SERVE = """
import sys
from http.server import BaseHTTPRequestHandler, HTTPServer


class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200)
        self.send_header("Content-Type", "text/html")
        self.end_headers()
        self.wfile.write(b"<title>Seeds</title><p>Kale.</p>")

    def log_message(self, *words):
        pass


HTTPServer(("127.0.0.1", int(sys.argv[sys.argv.index("--port") + 1])), Handler).serve_forever()
"""
BUILD = """
import sqlite3
from pathlib import Path

new = Path("VERSION").read_text().startswith("2")
with sqlite3.connect("data.db") as db:
    db.execute("CREATE TABLE IF NOT EXISTS seeds (id %s NOT NULL, name varchar(40))" % ("uuid" if new else "char(32)"))
    db.execute("CREATE TABLE IF NOT EXISTS notes (id integer PRIMARY KEY, words text)")
"""


def test_a_trial_tells_columns_that_the_new_release_makes_otherwise(tmp_path: Path) -> None:
    (tmp_path / "site").mkdir()
    (tmp_path / "site/serve.py").write_text(SERVE)
    (tmp_path / "site/build.py").write_text(BUILD)
    with sqlite3.connect(tmp_path / "site/data.db") as db:
        db.execute("CREATE TABLE seeds (id char(32) NOT NULL, name varchar(40))")
        db.execute("CREATE TABLE notes (id integer PRIMARY KEY, words text)")
        db.execute("INSERT INTO seeds VALUES ('a', 'Kale')")
    db.close()
    site_file(
        tmp_path, database={"engine": "sqlite", "path": "site/data.db"},
        commands={"build_schema": ["{runtime}", "build.py"]},
        runtime={"name": "python", "version": "3", "launchers": {"3": sys.executable}},
        serve={"command": ["{runtime}", "serve.py", "--port", "{port}"]},
    )  # fmt: skip
    harbor(tmp_path, "snapshot", "take")
    head = 'format = 1\n[plan]\nsite = "lane"\ncore = "1.0"\nruntime = "3"\n[[step]]\nname = "new"\nkind = "command"\n'
    plan = tmp_path / "upgrade.toml"
    plan.write_text(head + 'command = ["true"]\n')
    assert harbor(tmp_path, "trial", "run", "--json").json["findings"] == []
    # What was made otherwise before, too, no step has done.
    with sqlite3.connect(tmp_path / "site/data.db") as db:
        db.execute("ALTER TABLE notes ADD COLUMN legacy text NOT NULL DEFAULT ''")
        db.execute("CREATE TABLE kept (id integer)")
    db.close()
    harbor(tmp_path, "snapshot", "take")
    assert harbor(tmp_path, "trial", "run", "--json").json["findings"] == []
    plan.write_text(head + 'command = ["sh", "-c", "echo 2.0 > VERSION"]\nexpects = ["VERSION"]\n')
    result = harbor(tmp_path, "trial", "run", "--keep", "--json", code=1).json
    (finding,) = [f for f in result["findings"] if f["kind"] == "schema-unlike"]
    assert finding["text"] == "the column id of seeds is char(32); the new release makes it uuid"
    assert (finding["before"], finding["after"], finding["weight"]) == ("char(32)", "uuid", "doubt")
    # A clone that is kept has its rows back.
    place = next((tmp_path / "harbor/clones" / result["clone"]).rglob("data.db"))
    with sqlite3.connect(place) as db:
        assert db.execute("SELECT name FROM seeds").fetchall() == [("Kale",)]
    db.close()
    harbor(tmp_path, "clone", "close", "--all")
    # A command that fails is said, and is no finding.
    (tmp_path / "site/build.py").write_text("raise SystemExit('no such thing')\n")
    harbor(tmp_path, "snapshot", "take")
    result = harbor(tmp_path, "trial", "run", "--json", code=None).json
    assert [r for r in result["remarks"] if "no such thing" in r] and result["verdict"] == "pass"


@pytest.mark.parametrize("engine", ["mariadb", "postgres"])
def test_servers_definitions_are_read_alike(servers: dict[str, PrivateServer], engine: str) -> None:
    need(engine)
    made = []
    for kind in ("char(32)", "uuid"):
        name = f"fresh{next(COUNT)}"
        servers[engine].run_sql(f"CREATE DATABASE {name}")
        place: DatabasePlace = servers[engine].place.with_name(name)
        with open_database(place).writing() as writer:
            writer.script(f"CREATE TABLE seeds (id {kind} NOT NULL, name varchar(40) NOT NULL DEFAULT 'x')")
            writer.script("CREATE TABLE notes (id int PRIMARY KEY, seed varchar(9), UNIQUE (seed))")
        with open_database(place).reading() as state:
            made.append(state.schema)
    (seen,) = unlike_fresh(made[1], made[0])
    assert "is char" in seen.text and seen.after == "uuid" and seen.place.endswith("seeds.id")
    assert list(unlike_fresh(made[0], made[0])) == []
