"""The parts of which `init` is made, each by itself."""

from __future__ import annotations

import base64
import json
import sqlite3
import tomllib
import zlib
from contextlib import closing
from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import harbor, on_a_terminal
from keenharbor.base.errors import UsageError
from keenharbor.database import DatabasePlace, Table, open_database
from keenharbor.database.kinds import engine_of
from keenharbor.host import FileTree, Here, ReadPath, ReadTree, WalkRules
from keenharbor.site.components import header_facts, is_true, says_yes_or_no, words_of_cell
from keenharbor.site.connections import host_of_address, place_of_text, server_place, split_host
from keenharbor.site.inference.contents import common_prefix, is_packed_text, kind_of, look_through
from keenharbor.site.inference.databases import database_candidates
from keenharbor.site.inference.evidence import Sureness
from keenharbor.site.inference.ground import Ground
from keenharbor.site.inference.packages import core_distribution
from keenharbor.site.inference.sources import settings_sources
from keenharbor.site.load import open_site
from keenharbor.site.writable import Writable
from keenharbor.tree import AreaRules, scan_tree
from keenharbor.trial.steps import Outcome, common
from made_sites import distribution, flat_site, put, serialised

ROOT = Path("/srv/site")


@pytest.mark.parametrize(
    ("text", "parts"),
    [
        ("localhost", ("localhost", "", "")), ("db.example:3307", ("db.example", "3307", "")),
        ("localhost:/run/my.sock", ("", "", "/run/my.sock")),
        ("/run/postgresql", ("", "", "/run/postgresql")), ("[::1]:5432", ("::1", "5432", "")), ("::1", ("::1", "", "")),
        ("", ("", "", "")),
        (" h:x ", ("h:x", "", "")),
    ],
)  # fmt: skip
def test_hosts_are_taken_apart(text: str, parts: tuple[str, str, str]) -> None:
    assert split_host(text) == parts


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("mysql://u:p%40@h:3307/db?charset=utf8mb4", "mariadb:db at h:3307"),
        ("postgresql+psycopg2://u:p@h/db", "postgres:db at h"),
        ("postgres://u@/db?host=/run/pg", "postgres:db at /run/pg/.s.PGSQL.5432"),
        ("sqlite:///data/a.db", "sqlite:/srv/site/data/a.db"),
        ("sqlite:////var/a.db", "sqlite:/var/a.db"), ("mysql:host=h;port=3308;dbname=d", "mariadb:d at h:3308"),
        ("mysql:unix_socket=/run/s;dbname=d", "mariadb:d at /run/s"),
        ("pgsql:host=/run/pg dbname=d user=u", "postgres:d at /run/pg/.s.PGSQL.5432"),
        ("sqlite:data/a.db", "sqlite:/srv/site/data/a.db"), ("sqlite::memory:", None), ("sqlite://:memory:", None),
        ("https://a.example/db", None),
        ("redis://h/0", None), ("mysql:host=h", None), ("mysql://h", None), ("just words", None),
    ],
)  # fmt: skip
def test_places_in_one_text(text: str, told: str | None) -> None:
    place = place_of_text(text, ROOT)
    assert (None if place is None else str(place)) == told


def test_user_and_password_come_from_beside_a_source_name_that_has_none() -> None:
    place = place_of_text("mysql:host=h;dbname=d", ROOT, "asker", "secret")
    assert place is not None
    assert (place.user, place.password) == ("asker", "secret")
    assert "secret" not in f"{place} {place!r} {place.url}"


@given(st.text(max_size=60))
def test_any_text_is_a_place_or_none(text: str) -> None:
    for tried in (text, f"mysql://{text}", f"sqlite:///{text}", f"pgsql:{text}", f"https://{text}"):
        place_of_text(tried, ROOT)
        split_host(tried)
        host_of_address(tried)


@pytest.mark.parametrize(
    ("name", "engine"),
    [("mysqli", "mariadb"), ("PDO_MYSQL", "mariadb"), ("django.db.backends.postgresql", "postgres"),
        ("pgsql", "postgres"), ("pg", "postgres"),
     ("pdo_sqlite", "sqlite"), ("better-sqlite3", "sqlite"), ("mongodb", None), ("", None), ("InnoDB", None)],
)  # fmt: skip
def test_engines_by_what_drivers_are_called(name: str, engine: str | None) -> None:
    assert engine_of(name) == engine


def test_a_postgres_folder_is_a_socket() -> None:
    assert server_place("postgres", "", "5433", "/run/pg/", "d").socket == "/run/pg/.s.PGSQL.5433"
    assert server_place("mariadb", "", "", "/run/my.sock", "d").socket == "/run/my.sock"
    assert server_place("mariadb", "", "no number", "", "d").host == "localhost"


@pytest.mark.parametrize(
    ("name", "columns", "kind"),
    [
        ("x_options", ("id", "name", "value"), "settings"), ("wares", ("key", "value"), "settings"),
        ("shop_orders", ("id", "total"), "visitors"),
        ("BlogComment", ("id", "body"), "visitors"), ("requests", ("id", "email", "created_at", "words"), "visitors"),
        ("people", ("id", "email", "created", "password"), "content"),
        ("http_tokens", ("token", "expires"), "sessions"),
        ("kept", ("sid", "payload", "last_activity"), "sessions"), ("page_cache", ("cid", "data"), "cache"),
        ("bin", ("cid", "data", "expire"), "cache"),
        ("access_log", ("id",), "logs"), ("happened", ("id", "message", "ip"), "logs"),
        ("migrations", ("id",), "internal"),
        ("search_index", ("word",), "search"), ("recipes", ("id", "title"), "content"),
    ],
)  # fmt: skip
def test_kinds_of_tables(name: str, columns: tuple[str, ...], kind: str) -> None:
    found, why = kind_of(Table(name, columns, columns[:1], ""), [])
    assert found == kind
    assert why


def test_prefixes_of_tables() -> None:
    assert common_prefix(["st_a", "st_b", "st_c", "st_d", "other"]) == "st_"
    assert common_prefix(["a_x", "b_x", "c_x", "d_x"]) == ""
    assert common_prefix(["st_a"]) == ""


def test_packed_texts_are_known_by_what_they_begin_with() -> None:
    packed = base64.b64encode(zlib.compress(bytes(n * n % 251 for n in range(900)))).decode()
    assert is_packed_text(packed)
    assert not is_packed_text(base64.b64encode(b"plain words, only encoded, and many of them " * 3).decode())
    assert not is_packed_text("https://a.example/" + "x" * 80)


def test_headers_are_read_out_of_the_first_comment_that_has_one() -> None:
    text = (
        "<?php\n// nothing here\n/**\n * Extension Name: Seed Notes\n * Version: 1.2\n * Requires: >=3\n */\n/* "
        "Version: 9 */"
    )
    assert header_facts(text) == {"extension name": "Seed Notes", "version": "1.2", "requires": ">=3"}
    assert header_facts("# Name: x\n# Version: 2\n") == {"name": "x", "version": "2"}
    assert header_facts("<?php echo 'Version: 1';") == {}


def test_cells_that_list_what_is_on() -> None:
    assert {"shop", "notes"} <= words_of_cell(serialised(["shop/shop.php", "notes/main.php"]))
    assert words_of_cell('{"shop": true, "notes": false}') == {"shop"}
    assert words_of_cell("shop, notes;forms") == {"shop", "notes", "forms"}
    assert words_of_cell(None) == set()
    assert [is_true(v) for v in (1, "1", "yes", "On", 0, "0", "off", "", None)] == [True] * 4 + [False] * 5
    assert says_yes_or_no("off") and not says_yes_or_no("1.2")


def test_a_bare_name_stands_for_a_file_in_a_known_folder(tmp_path: Path) -> None:
    (tmp_path / "var/data").mkdir(parents=True)
    with closing(sqlite3.connect(tmp_path / "var/data/seeds.sqlite3")) as connection, connection:
        connection.execute("CREATE TABLE t (a)")
    put(tmp_path, "config/app.ini", "[database]\ndriver = sqlite\nname = seeds\n")
    entries = scan_tree(FileTree(str(tmp_path)), WalkRules(AreaRules({}))).entries
    ground = Ground(Here(tmp_path), str(tmp_path))
    best = database_candidates(ground, entries, settings_sources(ground.root, entries))[0]
    assert best.place.path == tmp_path / "var/data/seeds.sqlite3"
    assert best.keys == {"engine": "database.driver", "path": "database.name", "path_pattern": "var/data/{}.sqlite3"}
    harbor(
        tmp_path,
        "init",
        tmp_path,
        "--out",
        tmp_path.parent / f"{tmp_path.name}.toml",
        "--address",
        "https://a.test",
        code=1,
    )
    assert str(open_site(tmp_path.parent / f"{tmp_path.name}.toml").database.file) == str(
        tmp_path / "var/data/seeds.sqlite3"
    )


def test_no_database_takes_nothing() -> None:
    database = open_database(DatabasePlace("none"))
    assert database.exists() and not database.lacking() and database.size() == 0
    with database.reading() as state:
        assert state.schema.tables == ()
    with database.writing() as writer, pytest.raises(UsageError, match="no database to run SQL on"):
        writer.script("SELECT 1")
    assert DatabasePlace.from_url(DatabasePlace("none").url).engine == "none"


@pytest.mark.parametrize("columns", ["80", "140"])
def test_init_is_readable_at_any_width(tmp_path: Path, columns: str) -> None:
    flat_site(tmp_path / "site", 4)
    ran = harbor(tmp_path, "init", "site", "--yes", COLUMNS=columns)
    assert all(len(line) <= int(columns) for line in ran.out.splitlines())
    assert "extensions.switch" in ran.out and "not found" in ran.out


def plugin(root: Path, folder: str, name: str, version: str = "1.0") -> None:
    put(
        root,
        f"{folder}/{name}/{name}.php",
        f"<?php\n/*\n * Plugin Name: {name.title()}\n * Version: {version}\n * Author: Ada Quill\n */\n",
    )


def test_folders_of_things_made_alike_are_taken_together(tmp_path: Path) -> None:
    root = tmp_path / "site"
    put(root, "index.php", "<?php\n")
    put(root, "config.php", "<?php\ndefine('SITE_URL', 'https://seeds.example.test');\n")
    for name in ("alpha", "beta", "gamma"):
        plugin(root, "modules/contrib", name)
    for name in ("own", "extra"):
        plugin(root, "modules/custom", name, "0.3")
    harbor(tmp_path, "init", "site", "--yes", code=None)
    model = open_site(tmp_path / "keenharbor.toml").model
    assert model.extensions is not None
    assert {model.extensions.folder, *model.extensions.also} == {"modules/contrib", "modules/custom"}
    assert model.areas["extensions"] == ["modules"], "those of the next maker will lie there, too"
    site = open_site(tmp_path / "keenharbor.toml")
    found = {c.folder: c.version for c in site.components()}
    assert found["modules/custom/own"] == "0.3" and found["modules/contrib/alpha"] == "1.0" and len(found) == 5


@pytest.mark.parametrize(
    ("row", "address"),
    [(("seeds.example.test", 443), "https://seeds.example.test"),
        (("seeds.example.test", "8080"), "http://seeds.example.test:8080"),
     (("SEEDS.example.test", 80), "http://seeds.example.test"), (("localhost", 80), None), (("127.0.0.1", 8000), None),
     ((None, None), None)],
)  # fmt: skip
def test_a_host_and_its_port_in_columns_of_their_own_are_an_address(
    tmp_path: Path, row: tuple[object, object], address: str | None
) -> None:
    file = tmp_path / "d.db"
    with closing(sqlite3.connect(file)) as connection, connection:
        connection.execute("CREATE TABLE sites (id INTEGER PRIMARY KEY, hostname TEXT, port, title TEXT)")
        connection.execute("INSERT INTO sites (hostname, port, title) VALUES (?, ?, 'Seeds')", row)
    with open_database(DatabasePlace("sqlite", file)).reading() as state:
        _, places = look_through(state, None)
    assert places.exact.get("sites.hostname and port") == address


def test_folders_whose_things_are_described_otherwise_are_read_as_they_are(tmp_path: Path) -> None:
    root = tmp_path / "site"
    put(root, "index.php", "<?php\n")
    put(root, "config.php", "<?php\ndefine('SITE_URL', 'https://seeds.example.test');\n")
    for name in ("alpha", "beta", "gamma"):
        plugin(root, "plugins", name)
    put(root, "VERSION", "4.2.0\n")
    for name, version in (("calendar", "2.1"), ("search", "2.2")):
        facts = {"slug": name, "label": name.title(), "version": version, "author": {"name": "Bo"}}
        put(root, f"modules/{name}/module.json", json.dumps(facts))
    harbor(tmp_path, "init", "site", "--yes", code=None)
    site = open_site(tmp_path / "keenharbor.toml")
    assert site.model.extensions is not None
    assert [o.folder for o in site.model.extensions.others] == ["modules"]
    found = {c.name: (c.folder, c.version, c.author) for c in site.components()}
    assert found["calendar"] == ("modules/calendar", "2.1", "Bo")
    assert found["alpha"] == ("plugins/alpha", "1.0", "Ada Quill") and len(found) == 5
    assert "calendar 2.1" in " ".join(harbor(tmp_path, "survey").out.split())


def test_facts_beside_the_code_in_a_file_whose_name_promises_no_form(tmp_path: Path) -> None:
    root = tmp_path / "site"
    put(root, "index.php", "<?php\n")
    put(root, "config.php", "<?php\ndefine('SITE_URL', 'https://seeds.example.test');\n")
    for name, number in (("ash", "1.4"), ("elm", "0.9"), ("fir", "2.0")):
        put(root, f"addons/{name}/{name}.meta", f"name = {name}\nversion = {number}\nauthor = Maren Tull\n")
        put(root, f"addons/{name}/{name}.php", "<?php // code\n")
    harbor(tmp_path, "init", "site", "--yes", code=None)
    site = open_site(tmp_path / "keenharbor.toml")
    assert {c.name: c.version for c in site.components()} == {"ash": "1.4", "elm": "0.9", "fir": "2.0"}


def test_what_cannot_be_found_is_asked_on_a_terminal(tmp_path: Path) -> None:
    put(tmp_path / "site", "lib/app.rb", "puts 'seeds'\n")
    put(tmp_path / "site", "about.txt", "Seeds, release 2.4.1\n")
    answers = ["https://seeds.example.test", "about.txt", "3.2", "{runtime} lib/app.rb {port}"]
    out = on_a_terminal(tmp_path, ["init", "site"], answers)
    assert "is written" in out
    model = open_site(tmp_path / "keenharbor.toml").model
    assert (model.site.address, model.core.version_file) == ("https://seeds.example.test", "about.txt")
    assert (model.runtime.name, model.runtime.version) == ("ruby", "3.2")
    assert model.serve is not None and model.serve.command == ["{runtime}", "lib/app.rb", "{port}"]
    assert open_site(tmp_path / "keenharbor.toml").core_version() == "2.4.1"


def test_an_answer_that_cannot_be_is_told_and_left_open(tmp_path: Path) -> None:
    put(tmp_path / "site", "lib/app.rb", "puts 'seeds'\n")
    put(tmp_path, "outside.txt", "1.0\n")
    answers = ["../outside.txt", "", "ruby 'lib/app.rb"]
    out = on_a_terminal(tmp_path, ["init", "site", "--address", "https://s.test"], answers)
    assert "this is no command" in out and "unexpected" not in out
    assert "tells no version" in out and "core.version_file has to be written" in out


def test_the_core_is_told_with_what_it_builds_on_and_a_rival_makes_it_a_guess(tmp_path: Path) -> None:
    for name, modules, requires in (
        ("frame", ["frame"], []), ("press", ["press"], ["frame>=2"]), ("press-gallery", ["press_gallery"], ["press"]),
    ):  # fmt: skip
        distribution(tmp_path, "packages", name, "2.1", modules, requires)
    packages = ReadPath(ReadTree(str(tmp_path / "packages")))
    found = core_distribution(packages, ["frame.auth", "frame.sites", "press.pages", "press", "press_gallery"])
    assert found is not None and found.distribution == "press" and found.sure is Sureness.LIKELY
    assert found.evidence.endswith("; on frame 2.1")
    for name in ("other", "other-addon"):
        needed = ["frame"] if name == "other" else ["other"]
        distribution(tmp_path, "packages", name, "1.0", [name.replace("-", "_")], needed)
    rivals = ["frame.auth", "press.pages", "press", "press_gallery", "other", "other.x", "other_addon"]
    found = core_distribution(ReadPath(ReadTree(str(tmp_path / "packages"))), rivals)
    assert found is not None and found.sure is Sureness.GUESSED and "it could as well be press:" in found.evidence


def test_things_that_are_files_are_known_owned_and_removed_by_themselves(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    put(tmp_path, "site/VERSION", "1.0.0\n")
    put(tmp_path, "site/index.php", "<?php\n")
    for name in ("dawn", "dusk"):
        put(tmp_path, f"site/addons/{name}.php", "<?php\nclass Part {}\n")
        put(tmp_path, f"site/addons/{name}.meta", f"name = {name.title()}\nversion = 1.2.3\nauthor = Maren Tull\n")
        put(tmp_path, f"site/skins/{name}.css", "body { color: black }\n")
    harbor(tmp_path, "init", "site", "--yes", "--address", "https://a.example")
    site = open_site(tmp_path / "keenharbor.toml")
    found = {(c.kind, c.name): (c.version, c.files) for c in site.components()}
    assert found == {
        ("extension", "Dawn"): ("1.2.3", ("addons/dawn.php", "addons/dawn.meta")),
        ("extension", "Dusk"): ("1.2.3", ("addons/dusk.php", "addons/dusk.meta")),
        ("theme", "dawn"): ("", ("skins/dawn.css",)),
        ("theme", "dusk"): ("", ("skins/dusk.css",)),
    }
    assert site.area_rules.area_of("skins/dawn.css") == "themes"
    monkeypatch.setattr(common, "switch", lambda *words: "off\n")
    place = SimpleNamespace(site=Writable.of(site, site.place, DatabasePlace("none")))
    outcome = Outcome()
    assert common.uninstall(place, "Dawn", outcome, 5) == "off\n"  # type: ignore[arg-type]
    assert not list((tmp_path / "site/addons").glob("dawn*")) and len(list((tmp_path / "site/addons").iterdir())) == 2
    assert outcome.touches == ("addons/dawn.php", "addons/dawn.meta")


def test_a_core_of_several_folders_a_lone_theme_and_pictures_that_came_with_code(tmp_path: Path) -> None:
    """A system whose code lies in two large folders at the top, each with parts that are called after what cores are
    made of; its uploads and its one theme lie in a third."""
    root = tmp_path / "site"
    for name in ("index.php", "load.php", *(f"base/part{n}.php" for n in range(12)), "base/engine/run.php",
                 "desk/includes/form.php", "desk/index.php", "content/index.php"):  # fmt: skip
        put(root, name, "<?php // code\n")
    for name in ("base/images/media/sound.png", "base/images/media/film.png"):
        put(root, name, "picture")
    (root / "content/uploads").mkdir(parents=True)
    put(
        root,
        "content/themes/meadow/style.css",
        "/*\nTheme Name: Meadow\nAuthor: Ida\nVersion: 2.1\n*/\n" + " " * 20_000,
    )
    put(root, "content/themes/meadow/index.php", "<?php // shows a page\n")
    put(root, "content/plugins/gate/gate.php", "<?php\n/*\nPlugin Name: Gate\nVersion: 1.2\nAuthor: Ida\n*/\n")
    harbor(tmp_path, "init", "site", "--address", "http://lane.test", "--yes", code=None)
    said = tomllib.loads((tmp_path / "keenharbor.toml").read_text())
    areas = said["areas"]
    assert {"base", "desk", "index.php", "load.php"} <= set(areas["core"])
    assert not any(p.startswith(("base/", "desk/", "content")) for p in areas["core"])
    assert areas["media"] == ["content/uploads"], "pictures below a folder of code came with it"
    assert areas["themes"] == ["content/themes"] and areas["extensions"] == ["content/plugins"]
    assert (said["themes"]["facts"], said["themes"]["format"]) == ("style.css", "header")


def test_a_class_that_speaks_to_a_mail_server_is_no_setting(tmp_path: Path) -> None:
    root = tmp_path / "site"
    put(root, "index.php", "<?php // code\n")
    put(root, "base/class-pop3.php", "<?php class POP3 { var $MAILSERVER = 'mail.old.example'; var $BANNER = ''; }\n")
    put(root, "config.php", "<?php define('DB_NAME', 'x'); define('SITE_URL', 'http://lane.test');\n")
    told = harbor(tmp_path, "init", "site", "--address", "http://lane.test", "--yes", code=None).out
    assert "POP3" not in told and "pop3" not in told
