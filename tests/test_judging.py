"""`ready`: the database and what is in it, modules and limits, notes, channels, what is given up, a second place; and
`survey`'s dependencies, overrides and pristine copies."""

from __future__ import annotations

import json
import sys
import tarfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import harbor, query, serve_pages
from keenharbor.compare import Visitor, take_look
from keenharbor.compare.proposals import propose_checks
from keenharbor.database import Schema, Table
from keenharbor.database.rewrite import HostMove
from keenharbor.demo.scene import Scene
from keenharbor.judge.contents import _kinds_of_tables, _references, _unlike_definitions
from keenharbor.judge.surroundings import _is_enough, limits_of_the_web_server, runtime_checks
from keenharbor.site.feed import read_feed
from keenharbor.site.load import open_site
from keenharbor.site.model import LookPart

TARGET = ("--core", "4.0", "--runtime", "3", "--extension", "gallery-wall=replace-by:picture-rail")


def judged(scene: Scene, *words: str, target: tuple[str, ...] = TARGET) -> dict[str, dict[str, str]]:
    told = harbor(scene.folder, "ready", *target, *words, "--json", code=1).json
    return {c["subject"]: c for c in told["checks"]} | {f"decision {d['name']}": d for d in told["decisions"]}


def change_feed(scene: Scene, name: str, version: str, **facts: Any) -> None:
    file = scene.folder / "feed/feed.json"
    feed = json.loads(file.read_text())
    release = next(r for r in feed["releases"] if (r["name"], r["version"]) == (name, version))
    for key, value in facts.items():
        release[key] = {**release[key], **value} if isinstance(value, dict) else value
    file.write_text(json.dumps(feed))


def test_the_database_to_go_to_is_judged(scene: Scene) -> None:
    change_feed(scene, "tansy-core", "4.0", requires={"database": {"sqlite": ">=3.30", "mariadb": ">=10.6"}})
    assert judged(scene)["database"]["verdict"] == "clear"
    assert "wants sqlite >=3.30" in judged(scene, "--database", "3.20")["database"]["reason"]
    other = judged(scene, "--database", "postgres 16")
    assert (
        other["database engine"]["verdict"] == "blocked" and "does not run on postgres" in other["database"]["reason"]
    )
    server = judged(scene, "--database", "sqlite 3.99")
    assert server["database server"]["verdict"] == "caution" and server["database"]["verdict"] == "clear"
    wrong = harbor(scene.folder, "ready", *TARGET, "--database", "sqlite old", code=2).err
    assert "an engine, a version, or both" in wrong


def test_rows_that_name_nothing_are_told(scene: Scene) -> None:
    assert "orphaned rows" not in judged(scene)
    query(scene.database, "CREATE TABLE shelf (id INTEGER PRIMARY KEY, label TEXT)")
    query(
        scene.database,
        "CREATE TABLE packets (id INTEGER PRIMARY KEY, shelf_id INTEGER, event INTEGER REFERENCES events (id))",
    )
    query(scene.database, "INSERT INTO shelf VALUES (1, 'a')")
    query(scene.database, "INSERT INTO packets VALUES (1, 1, 1), (2, NULL, NULL), (3, 0, 1)")
    assert "orphaned rows" not in judged(scene)
    query(scene.database, "INSERT INTO packets VALUES (4, 77, 1)")
    assert (
        "1 value of packets.shelf_id names no row of shelf, as the column's name says: 77"
        in judged(scene)["orphaned rows"]["reason"]
    )
    query(scene.database, "UPDATE packets SET shelf_id = 1, event = 99999")
    assert "packets.event names no row of events, as the definition wants" in judged(scene)["orphaned rows"]["reason"]


def test_old_tables_and_character_sets_are_told() -> None:
    tables = (
        Table("old", ("id",), ("id",), "CREATE TABLE `old` (\n `id` int\n) ENGINE=MyISAM DEFAULT CHARSET=latin1"),
        Table("new", ("id",), ("id",), "CREATE TABLE `new` (\n `id` int\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4"),
        Table(
            "mixed",
            ("a",),
            ("a",),
            "CREATE TABLE `mixed` (\n `a` text CHARACTER SET utf8mb3\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4",
        ),
    )
    engines, charsets = _kinds_of_tables(Schema("mariadb", "10", tables))
    assert "1 table knows no transactions: old (MyISAM)" in engines.reason
    assert "latin1: old" in charsets.reason and "utf8mb3: mixed" in charsets.reason and "new" not in charsets.reason
    assert not list(_kinds_of_tables(Schema("mariadb", "10", tables[1:2])))


def test_definitions_that_do_not_go_together_are_told() -> None:
    def table(
        name: str, *columns: str, end: str = ") ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci"
    ) -> Table:
        names = tuple(c.split()[0].strip("`") for c in columns)
        return Table(name, names, names[:1], f"CREATE TABLE `{name}` (\n  " + ",\n  ".join(columns) + f"\n{end}")

    beds = table("beds", "`id` bigint(20) unsigned NOT NULL")
    alike = table("rows", "`id` int(11) NOT NULL", "`bed_id` bigint(8) unsigned DEFAULT NULL")
    unlike = table("seeds", "`id` int(11) NOT NULL", "`bed_id` int(11) DEFAULT NULL")
    assert list(_unlike_definitions(Schema("mariadb", "10", (beds, alike)))) == []
    (told,) = _unlike_definitions(Schema("mariadb", "10", (beds, alike, unlike)))
    assert told.reason == "seeds.bed_id is int, beds.id is bigint unsigned" and told.verdict == "caution"
    assert list(_unlike_definitions(Schema("sqlite", "3", (beds, unlike)))) == []
    # What is declared the engine itself has held to.
    declared = table(
        "seeds",
        "`id` int(11) NOT NULL",
        "`bed_id` int(11)",
        "CONSTRAINT `x` FOREIGN KEY (`bed_id`) REFERENCES `beds` (`id`)",
    )
    assert list(_unlike_definitions(Schema("mariadb", "10", (beds, declared)))) == []
    other = table(
        "notes", "`id` int(11) NOT NULL", end=") ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci"
    )
    (rules,) = _unlike_definitions(Schema("mariadb", "10", (beds, alike, other)))
    assert (
        rules.subject == "collations"
        and rules.reason == "most tables have utf8mb4_unicode_ci, but utf8mb4_general_ci: notes"
    )
    postgres = Table(
        "public.beds", ("id",), ("id",), "CREATE TABLE public.beds (\n  id integer NOT NULL\n)", namespace="public"
    )
    named = Table(
        "public.seeds",
        ("id", "bed_id"),
        ("id",),
        "CREATE TABLE public.seeds (\n  id integer,\n  bed_id character varying(20)\n)",
        namespace="public",
    )
    (told,) = _unlike_definitions(Schema("postgres", "15", (postgres, named)))
    assert "bed_id is character varying(20)" in told.reason


@pytest.mark.parametrize(
    "ddl",
    [
        'CREATE TABLE "b" ("id" INTEGER PRIMARY KEY, "a_ref" INTEGER NOT NULL REFERENCES "a" ("id") DEFERRABLE)',
        "CREATE TABLE b (id INTEGER, n DECIMAL(4, 2), a_ref INTEGER REFERENCES a)",
        "CREATE TABLE `b` (\n `id` int,\n `a_ref` int,\n CONSTRAINT `x` FOREIGN KEY (`a_ref`) REFERENCES `a` (`id`) ON "
        "DELETE CASCADE\n)",
    ],
)
def test_references_are_read_from_definitions(ddl: str) -> None:
    schema = Schema("sqlite", "3", (Table("a", ("id",), ("id",), "CREATE TABLE a (id INTEGER PRIMARY KEY)"),
                                    Table("b", ("id", "a_ref"), ("id",), ddl)))  # fmt: skip
    assert [(t.name, c, p.name, k, d) for t, c, p, k, d in _references(schema)] == [("b", "a_ref", "a", "id", True)]


def test_pending_changes_are_asked_of_the_system_where_the_site_file_allows_it(scene: Scene) -> None:
    assert "pending changes" not in judged(scene)
    text = scene.site_file.read_text()
    for script, verdict in (("echo 3 changes wait; exit 1", "caution"), ("exit 0", "clear")):
        scene.site_file.write_text(f'{text}\n[commands]\npending = ["sh", "-c", "{script}"]\n')
        assert judged(scene)["pending changes"]["verdict"] == verdict
    assert "3 changes wait" not in judged(scene)["pending changes"]["reason"]


def test_modules_and_limits_that_the_target_asks_for(scene: Scene) -> None:
    change_feed(
        scene, "tansy-core", "4.0", requires={"modules": ["json", "no_such_module"], "limits": {"memory": "64M"}}
    )
    assert "cannot be asked for them" in judged(scene)["runtime modules"]["reason"]
    text = scene.site_file.read_text().replace(
        "[runtime.launchers]\n", f'[runtime.launchers]\n"3.11" = "{sys.executable}"\n'
    )
    scene.site_file.write_text(
        text + '\n[runtime]\nname = "python"\nversion = "3.11"\n' if "[runtime]" not in text else text
    )
    # Python can be asked.
    site = open_site(scene.site_file)
    runtime = site.model.runtime.model_copy(update={"name": "python", "launchers": {"3.11": sys.executable}})
    release = read_feed(scene.folder / "feed/feed.json").need("tansy-core", "4.0")
    modules, limit = runtime_checks(site.with_runtime(runtime), release, "3.11", "Tansy 4.0")
    assert modules.verdict == "blocked" and "lacks no_such_module" in modules.reason and "json" not in modules.reason
    assert limit.subject == "limit memory" and "has none" in limit.reason


@pytest.mark.parametrize(
    ("file", "text", "value"),
    [
        (".user.ini", "; ours\nmemory = 64M\n", "64M"),
        (".htaccess", "# php_value memory 1G\n<IfModule x>\n  php_value memory 64M\n</IfModule>\n", "64M"),
        ("core/.htaccess", "php_admin_value memory '96M'\n", "96M"),
        ("../pool.conf", "[site]\nphp_admin_value[memory] = 32M\nenv[memory] = 99M\n", "32M"),
    ],
)
def test_limits_are_those_that_the_web_server_sets(scene: Scene, file: str, text: str, value: str) -> None:
    root = scene.folder / "site"
    (root / file).write_text(text)
    site = open_site(scene.site_file)
    runtime = site.model.runtime.model_copy(
        update={"name": "python", "launchers": {"3.11": sys.executable}, "server_configs": ["pool.conf"]}
    )
    site = site.with_runtime(runtime)
    assert limits_of_the_web_server(site)["memory"][0] == value
    (root / "media/.user.ini").write_text("memory = 1M\nonly_there = 7\n")  # holds for that folder alone
    if "/" not in file:
        assert limits_of_the_web_server(site)["memory"][0] == value
    assert limits_of_the_web_server(site)["only_there"][0] == "7"
    (root / "media/.user.ini").unlink()
    for least, told in (("128M", 1), ("16M", 0)):
        change_feed(scene, "tansy-core", "4.0", requires={"limits": {"memory": least}})
        release = read_feed(scene.folder / "feed/feed.json").need("tansy-core", "4.0")
        found = runtime_checks(site, release, "3.11", "Tansy 4.0")
        assert len(found) == told and all(value in c.reason and "sets" in c.reason for c in found)


@pytest.mark.parametrize(
    ("present", "least", "enough"),
    [("256M", "128M", True), ("128M", "256M", False), ("-1", "1G", True), ("0", "30", True), ("1G", "1024M", True),
        ("On", "on", True),
     ("8388608", "8M", True), ("off", "on", False)],
)  # fmt: skip
def test_limits_are_compared_as_amounts(present: str, least: str, enough: bool) -> None:
    assert _is_enough(present, least) is enough


def test_notes_what_is_given_up_and_another_channel(scene: Scene) -> None:
    change_feed(scene, "gallery-wall", "2.1", released="2019-02-03")
    change_feed(scene, "home-address", "1.0", released="2019-02-03")
    change_feed(scene, "tansy-core", "4.0", notes="Line one.\nDo this first.")
    found = judged(scene, target=("--core", "4.0", "--runtime", "3"))
    assert "of 2019-02-03: it looks abandoned" in found["extension gallery-wall"]["reason"]
    assert "the last release, of 2019-02-03: it looks abandoned" in found["extension home-address"]["reason"]
    assert "Do this first." in found["notes of the core"]["reason"]
    change_feed(scene, "seed-search", "2.0", channel="beta")
    assert judged(scene)["decision seed-search"]["action"] == "keep"
    assert judged(scene, "--channel", "beta", "--channel", "stable")["decision seed-search"]["version"] == "2.0"
    assert "no release of the channel 'nightly'" in harbor(scene.folder, "ready", "--channel", "nightly", code=2).err
    search = next(
        i for i in harbor(scene.folder, "survey", "--json").json["installations"] if i["name"] == "seed-search"
    )
    assert search["channels"] == {"beta": "2.0"} and search["update_pending"] is False
    assert "seed-search 2.0 is out in the channel beta" in harbor(scene.folder, "survey").out


def test_one_disk_is_no_second_place(scene: Scene) -> None:
    harbor(scene.folder, "snapshot", "take")
    assert "on one disk" in judged(scene)["second place"]["reason"]


def test_what_needs_what_and_what_takes_the_place_of_what(scene: Scene) -> None:
    change_feed(scene, "loan-mail", "1.1", requires={"packages": {"loan-desk": ">=2", "not-here": ">=1"}})
    found = harbor(scene.folder, "survey", "--json").json
    by_name = {i["name"]: i for i in found["installations"]}
    assert by_name["loan-mail"]["needs"] == ["loan-desk"] and by_name["loan-desk"]["needed_by"] == ["loan-mail"]
    (stray,) = found["strays"]
    assert (stray["path"], stray["instead_of"]) == (
        "themes/marrow/overrides/variety.html",
        "core/templates/variety.html",
    )
    assert "which is another one in 4.0" in judged(scene)["override"]["reason"]
    # What was read of packages once is not read again: without them edits are still seen.
    for package in (scene.folder / "feed").glob("*.tar.gz"):
        if "events-calendar" not in package.name:
            package.unlink()
    again = harbor(scene.folder, "survey", "--json").json
    assert (again["edits"], again["strays"], again["unchecked"]) == (found["edits"], found["strays"], [])


def test_a_pristine_copy_shows_what_was_edited(scene: Scene, tmp_path: Path) -> None:
    packed = scene.folder / "feed/tansy-core-3.4.tar.gz"
    harbor(scene.folder, "survey", "--pristine", packed, code=1)  # its own list of files is not on the site
    copy = tmp_path / "copy"
    with tarfile.open(packed) as tar:
        tar.extractall(copy, filter="data")
    (copy / "PACKAGE.json").unlink()
    assert "nothing" not in harbor(scene.folder, "survey", "--pristine", copy).out
    (scene.root / "core/rules.py").write_text("changed = True\n")
    told = harbor(scene.folder, "survey", "--pristine", copy, "--json", code=1).json
    assert [e["path"] for e in told["edits"]] == ["core/rules.py"] and "+changed = True" in told["edits"][0]["diff"]
    zipped = tmp_path / "calendar.zip"
    with zipfile.ZipFile(zipped, "w") as archive:
        archive.writestr("calendar-1.3/main.py", "x = 1\n")
        archive.writestr("calendar-1.3/gone.py", "x = 1\n")
    told = harbor(
        scene.folder, "survey", "--pristine", zipped, "--under", "extensions/events-calendar", "--json", code=1
    ).json
    assert [(e["path"], e["removed"]) for e in told["edits"]] == [
        ("extensions/events-calendar/main.py", False), ("extensions/events-calendar/gone.py", True),
    ]  # fmt: skip
    with zipfile.ZipFile(zipped, "w") as archive:
        archive.writestr("../out.py", "x = 1\n")
    assert "leads out of it" in harbor(scene.folder, "survey", "--pristine", zipped, code=2).err
    zipped.write_text("no archive")
    assert "cannot be read" in harbor(scene.folder, "survey", "--pristine", zipped, code=2).err


def test_a_host_and_its_port_in_columns_of_their_own_move_together() -> None:
    table = Table("sites", ("id", "hostname", "port", "name"), ("id",), "")
    move = HostMove.between("https://seeds.example", "http://127.0.0.1:8123")
    at = move.columns(table)
    assert at == (1, 2)
    assert move.of(table.columns, (1, "Seeds.example", 443, "x"), at) == {"hostname": "127.0.0.1", "port": 8123}
    assert move.of(table.columns, (1, "seeds.example", "80", "x"), at) == {"hostname": "127.0.0.1", "port": "8123"}
    assert move.of(table.columns, (1, "other.example", 443, "x"), at) == {}
    assert move.of(table.columns, (1, "seeds.example", 8080, "x"), at) == {}
    assert move.columns(Table("x", ("host", "hostname", "port"), ("host",), "")) is None


def test_checks_are_proposed_from_forms() -> None:
    with serve_pages() as pages:
        home = (
            '<title>Seeds</title><form id="find" action="/find"><input name="q"></form><a href="/kale">k</a><a '
            'href="/in">i</a>'
        )
        pages.content |= {
            "/": home, "/kale": "<title>Kale of Seeds</title>", "/find": '<a href="/kale">Kale</a>',
            "/in": '<title>In</title><form id="login" method="post" action="/in"><input type="hidden" name="token" '
                'value="t0k3n"><input name="card"><input name="pin" type="password" value="p"></form>',
        }  # fmt: skip
        with Visitor(pages.address) as visitor:
            proposed = propose_checks(take_look(visitor, LookPart(), samples=0, served=False), visitor)
        assert not [p for m, p in pages.asked if m == "POST"], "nothing is sent"
    assert 'name = "a search for kale"' in proposed and 'text = "/kale"' in proposed
    assert '# name = "a member logs in"' in proposed and '"pin" = "…"' in proposed and '"p"' not in proposed
    assert '"card" = "…"' in proposed and "token" not in proposed


def test_init_proposes_checks_that_the_site_file_takes(served: Scene, write_tree: Callable[..., None]) -> None:
    target = served.folder / "second.toml"
    harbor(served.folder, "init", "site", "--platform", "tansy.toml", "--pages", "--out", target)
    text = target.read_text()
    assert '[[check]]\nname = "a search for ' in text and "# writes = true" in text
    assert harbor(served.folder, "survey", "--site", target, "--json").json["core"] == "3.4"
