"""A clone's settings name its database in the form in which they named live's, and real clients find it by them."""

from __future__ import annotations

import base64
import json
import os
import shutil
import subprocess
import sys
import time
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import harbor
from keenharbor.clone.server import free_port
from keenharbor.database import DatabasePlace
from keenharbor.database.private_server import PrivateServer, missing_program
from keenharbor.host.ports import port_is_taken
from keenharbor.site.connections import place_of_text, text_of_place
from keenharbor.site.load import open_site
from keenharbor.site.settings import values_in, with_value, with_values

HAS_PHP = shutil.which("php") is not None and {"pdo_mysql", "pdo_pgsql"} <= set(
    subprocess.run(["php", "-m"], capture_output=True, text=True, check=False).stdout.split()
)
PHP = """<?php
require __DIR__ . '/config.php';
$pdo = new PDO({dsn}, DB_USER, DB_PASS, [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION]);
echo '<title>Seeds</title>', $pdo->query('SELECT name FROM seeds')->fetchColumn();
"""
DSNS = {
    "host and port": "DB_KIND . ':dbname=' . DB_NAME . ';host=' . DB_HOST . ';port=' . DB_PORT",
    "host alone": "DB_KIND . ':dbname=' . DB_NAME . (DB_KIND == 'mysql' ? ';unix_socket=' . explode(':', DB_HOST, 2)[1] "
    ": ';host=' . DB_HOST)",
    "socket": "DB_KIND . ':dbname=' . DB_NAME . ';' . (DB_KIND == 'mysql' ? 'unix_socket' : 'host') . '=' . DB_SOCKET",
    "data source name": "DB_DSN",
}
PYTHON = """
import sys
from http.server import BaseHTTPRequestHandler, HTTPServer

import {driver}
from config import *


class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        connection = {connect}
        cursor = connection.cursor()
        cursor.execute("SELECT name FROM seeds")
        body = f"<title>Seeds</title>{{cursor.fetchone()[0]}}".encode()
        connection.close()
        self.send_response(200)
        self.send_header("Content-Type", "text/html")
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *words):
        pass


HTTPServer(("127.0.0.1", int(sys.argv[sys.argv.index("--port") + 1])), Handler).serve_forever()
"""
CONNECT = {
    ("mariadb", "host and port"): "pymysql.connect(host=DATABASE['HOST'], port=int(DATABASE['PORT']), "
    "user=DATABASE['USER'], database=DATABASE['NAME'])",
    ("mariadb", "path in host"): "pymysql.connect(unix_socket=DATABASE['HOST'], user=DATABASE['USER'], "
    "database=DATABASE['NAME'])",
    ("postgres", "host and port"): "psycopg.connect(host=DATABASE['HOST'], port=DATABASE['PORT'], "
    "user=DATABASE['USER'], dbname=DATABASE['NAME'])",
    ("postgres", "path in host"): "psycopg.connect(host=DATABASE['HOST'], user=DATABASE['USER'], "
    "dbname=DATABASE['NAME'])",
    ("postgres", "url"): "psycopg.connect(DATABASE_URL)",
}


@pytest.fixture(scope="module")
def servers(tmp_path_factory: pytest.TempPathFactory) -> Iterator[dict[str, PrivateServer]]:
    made: dict[str, PrivateServer] = {}
    for engine in ("mariadb", "postgres"):
        if missing_program(engine) is None:
            made[engine] = PrivateServer.make(engine, tmp_path_factory.mktemp("s") / engine)
            made[engine].run_sql("CREATE DATABASE lane")
            place = made[engine].place.with_name("lane")
            from keenharbor.database import open_database

            with open_database(place).writing() as writer:
                writer.script("CREATE TABLE seeds (id int PRIMARY KEY, name varchar(40)); "
                              "INSERT INTO seeds VALUES (1, 'Red lantern')")  # fmt: skip
    yield made
    for server in made.values():
        server.remove()


def site_file(folder: Path, **more: Any) -> None:
    said: dict[str, Any] = {
        "format": 1, "site": {"name": "lane", "root": "site", "address": f"http://127.0.0.1:{free_port()}"},
        "platform": {"name": "lane"}, "core": {"version_file": "VERSION", "package": "lane"}, **more,
    }  # fmt: skip
    import tomlkit

    (folder / "keenharbor.toml").write_text(tomlkit.dumps(said))
    (folder / "site/VERSION").write_text("1.0\n")


def comes_up(folder: Path) -> dict[str, Any]:
    harbor(folder, "snapshot", "take")
    made: dict[str, Any] = harbor(folder, "clone", "make", "--json").json
    assert made["awake"] == {"status": 200, "title": "Seeds", "reasons": []}, made["awake"]
    harbor(folder, "clone", "close", made["id"])
    return made


@pytest.mark.parametrize("form", DSNS)
@pytest.mark.parametrize("engine", ["mariadb", "postgres"])
@pytest.mark.skipif(
    not HAS_PHP and "CI" not in os.environ, reason="php with its drivers for databases is not installed"
)
def test_phps_own_client_finds_the_clones_database(
    tmp_path: Path, servers: dict[str, PrivateServer], engine: str, form: str
) -> None:
    if engine not in servers:
        pytest.skip(f"{engine} is not installed")
    place = servers[engine].place.with_name("lane")
    kind = {"mariadb": "mysql", "postgres": "pgsql"}[engine]
    folder = Path(place.socket).parent
    socket = str(place.socket) if engine == "mariadb" else str(folder)
    # Live is asked by the tool alone here, which finds the socket by whatever the form has.
    host = {"mariadb": f"localhost:{place.socket}", "postgres": str(folder)}[engine]
    if form == "host and port" and engine == "mariadb":
        host = "127.0.0.1"
    values = {"KIND": kind, "HOST": host, "PORT": "", "SOCKET": socket, "NAME": "lane", "USER": place.user, "PASS": ""}
    keys = {"host": "DB_HOST", "port": "DB_PORT", "name": "DB_NAME", "user": "DB_USER", "password": "DB_PASS"}
    if form == "socket":
        keys = {"socket": "DB_SOCKET", "name": "DB_NAME", "user": "DB_USER", "password": "DB_PASS"}
    elif form == "host alone":
        del values["PORT"], keys["port"]
    elif form == "data source name":
        inside = f"unix_socket={socket}" if engine == "mariadb" else f"host={socket}"
        values["DSN"] = f"{kind}:{inside};dbname=lane"
        keys = {"url": "DB_DSN", "user": "DB_USER", "password": "DB_PASS"}
    (tmp_path / "site").mkdir()
    (tmp_path / "site/config.php").write_bytes(
        b"<?php\r\n" + "".join(f"define('DB_{k}', '{v}');\r\n" for k, v in values.items()).encode()
    )
    (tmp_path / "site/index.php").write_text(PHP.replace("{dsn}", DSNS[form]))
    database: dict[str, Any] = {"engine": engine, "settings": keys}
    if form == "host and port" and engine == "mariadb":
        port, relay = forwarded(place, tmp_path)
        text = (tmp_path / "site/config.php").read_text().replace("'DB_PORT', ''", f"'DB_PORT', '{port}'")
        (tmp_path / "site/config.php").write_bytes(text.replace("\n", "\r\n").encode())
    else:
        relay = None
    try:
        site_file(
            tmp_path, settings={"file": "config.php", "format": "php"}, database=database,
            runtime={"name": "php", "version": "8", "launchers": {"8": shutil.which("php")}},
            serve={"command": ["{runtime}", "-S", "127.0.0.1:{port}"]},
        )  # fmt: skip
        before = (tmp_path / "site/config.php").read_bytes()
        comes_up(tmp_path)
        assert (tmp_path / "site/config.php").read_bytes() == before and b"\r\n" in before
    finally:
        if relay is not None:
            relay.kill()


def forwarded(place: DatabasePlace, folder: Path) -> tuple[int, subprocess.Popen[bytes]]:
    """A port on loopback that leads to the server's socket: so live is reached over the network, as most sites do."""
    from keenharbor.clone import relay

    port = free_port()
    words = [sys.executable, str(relay.__file__), f"tcp:{port}=unix:{place.socket}"]
    process = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, cwd=folder)
    assert process.stdout is not None
    process.stdout.readline()
    return port, process


@pytest.mark.parametrize(("engine", "form"), CONNECT)
def test_pythons_own_clients_find_the_clones_database(
    tmp_path: Path, servers: dict[str, PrivateServer], engine: str, form: str
) -> None:
    if engine not in servers:
        pytest.skip(f"{engine} is not installed")
    place = servers[engine].place.with_name("lane")
    driver = {"mariadb": "pymysql", "postgres": "psycopg"}[engine]
    relay: subprocess.Popen[bytes] | None = None
    host, port = place.socket if engine == "mariadb" else str(Path(place.socket).parent), ""
    if form == "host and port":
        number, relay = forwarded(place, tmp_path)
        host, port = "127.0.0.1", str(number)
    (tmp_path / "site").mkdir()
    keys = {"host": "DATABASE.HOST", "port": "DATABASE.PORT", "name": "DATABASE.NAME", "user": "DATABASE.USER"}
    text = f"DATABASE = {{'HOST': {host!r}, 'PORT': {port!r}, 'NAME': 'lane', 'USER': {place.user!r}}}\n"
    if form == "url":
        keys = {"url": "DATABASE_URL"}
        text = f"DATABASE_URL = 'postgresql://{place.user}@/lane?host={host}&application_name=lane'\n"
    (tmp_path / "site/config.py").write_text(text)
    (tmp_path / "site/serve.py").write_text(PYTHON.format(driver=driver, connect=CONNECT[engine, form]))
    try:
        site_file(
            tmp_path, settings={"file": "config.py", "format": "python"}, database={"engine": engine, "settings": keys},
            runtime={"name": "python", "version": "3", "launchers": {"3": sys.executable}},
            serve={"command": ["{runtime}", "serve.py", "--port", "{port}"]},
            clone={"needs": [str(Path(sys.executable).parents[1])]},
        )  # fmt: skip
        comes_up(tmp_path)
    finally:
        if relay is not None:
            relay.kill()


def test_a_clone_that_does_not_come_up_is_not_done(tmp_path: Path) -> None:
    (tmp_path / "site").mkdir()
    code = PYTHON.format(driver="os", connect="1 / 0").replace("from config import *", "")
    code = code.replace("connection = 1 / 0", "self.send_response(500); self.end_headers(); "
                        "self.wfile.write(b'<title>x</title><p>no shelf</p>'); return")  # fmt: skip
    (tmp_path / "site/serve.py").write_text("print('the shelf is gone', flush=True)\n" + code)
    site_file(
        tmp_path, database={"engine": "none"},
        runtime={"name": "python", "version": "3", "launchers": {"3": sys.executable}},
        serve={"command": ["{runtime}", "serve.py", "--port", "{port}"]},
    )  # fmt: skip
    harbor(tmp_path, "snapshot", "take")
    ran = harbor(tmp_path, "clone", "make", code=1)
    assert "does not come up" in ran.out and "status 500" in ran.out
    assert "no shelf" in ran.out and "the shelf is gone" in ran.out
    told = harbor(tmp_path, "snapshot", "drill", "newest", "--json", code=1).json
    assert not told["good"] and "status 500" in told["problems"][0]


ASKS_FIRST = """
import os, sys
from http.server import BaseHTTPRequestHandler, HTTPServer


class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        ready = os.path.exists("set-up-is-done") or self.path == "/set-up"
        self.send_response(200 if ready else 302)
        self.send_header("Content-Type", "text/html")
        self.send_header("Location", "/set-up")
        self.end_headers()
        self.wfile.write(b"<title>Seeds</title><p>Set up your site.</p>")

    def log_message(self, *words):
        pass


HTTPServer(("127.0.0.1", int(sys.argv[sys.argv.index("--port") + 1])), Handler).serve_forever()
"""


def test_a_drill_holds_the_site_against_what_it_was_when_the_snapshot_was_taken(tmp_path: Path) -> None:
    (tmp_path / "site").mkdir()
    (tmp_path / "site/serve.py").write_text(ASKS_FIRST)
    (tmp_path / "site/set-up-is-done").write_text("")
    site_file(
        tmp_path, database={"engine": "none"},
        runtime={"name": "python", "version": "3", "launchers": {"3": sys.executable}},
        serve={"command": ["{runtime}", "serve.py", "--port", "{port}"]},
    )  # fmt: skip
    harbor(tmp_path, "snapshot", "take", "--label", "unseen")  # a live that is down stops no snapshot
    port = open_site(tmp_path / "keenharbor.toml").address.rpartition(":")[2]
    live = subprocess.Popen([sys.executable, "serve.py", "--port", port], cwd=tmp_path / "site")
    try:
        end = time.monotonic() + 20
        while not port_is_taken(int(port)) and time.monotonic() < end:
            time.sleep(0.05)
        harbor(tmp_path, "snapshot", "take", "--label", "whole")
        harbor(tmp_path, "snapshot", "take", "--label", "hollow", "--leave-out-path", "set-up-is-done")
    finally:
        live.kill()
        live.wait()
    # Live is down now. A site that sends everybody to its installer loads well, and is not what was saved.
    whole = harbor(tmp_path, "snapshot", "drill", "whole")
    assert "PROVEN" in whole.out and "1 page answers as when the snapshot was taken" in whole.out
    assert "not compared with live" in whole.out
    hollow = harbor(tmp_path, "snapshot", "drill", "hollow", code=1)
    assert "/ answers 302; when the snapshot was taken it answered 200" in hollow.out
    assert harbor(tmp_path, "snapshot", "drill", "unseen", "--json").json["pages_then"] == 0


FLAT = """
import base64, json, sys, zlib
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path


def read(name):
    text = Path("data", name).read_text().removeprefix("<?php exit; ?>")
    return json.loads(zlib.decompress(base64.b64decode(text)))


class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        said = read("site.php")
        page = f"<title>Seeds</title><p><a href='{said['home']}/list'>List</a> {self.path}</p>"
        self.send_response(200)
        self.send_header("Content-Type", "text/html")
        self.end_headers()
        self.wfile.write(page.encode())

    def log_message(self, *words):
        pass


HTTPServer(("127.0.0.1", int(sys.argv[sys.argv.index("--port") + 1])), Handler).serve_forever()
"""


def test_a_site_that_packs_its_files_is_cloned_whole(tmp_path: Path) -> None:
    (tmp_path / "site/data").mkdir(parents=True)
    (tmp_path / "site/serve.py").write_text(FLAT)
    site_file(
        tmp_path, database={"engine": "none"},
        runtime={"name": "python", "version": "3", "launchers": {"3": sys.executable}},
        serve={"command": ["{runtime}", "serve.py", "--port", "{port}"]},
    )  # fmt: skip
    address = open_site(tmp_path / "keenharbor.toml").address
    packed = base64.b64encode(zlib.compress(json.dumps({"home": address, "kept": "a.b" * 99}).encode())).decode()
    (tmp_path / "site/data/site.php").write_text(f"<?php exit; ?>{packed}")
    harbor(tmp_path, "snapshot", "take")
    made = harbor(tmp_path, "clone", "make", "--json").json
    assert made["rewritten_files"] == {"data/site.php": 1} and made["opaque"] == []
    harbor(tmp_path, "clone", "close", made["id"])
    (tmp_path / "same.toml").write_text(
        'format = 1\n[plan]\nsite = "lane"\ncore = "1.0"\nruntime = "3"\n[[step]]\nname = "none"\n'
        'kind = "command"\ncommand = ["true"]\n'
    )
    told = harbor(tmp_path, "trial", "run", "same.toml", "--json").json
    assert told["verdict"] == "pass" and told["findings"] == [] and told["pages"] == 2
    # In a form that nothing here can read it is named: before the trial, and once in its verdict.
    sealed = base64.b64encode(bytes(b ^ 0x55 for b in address.encode() * 9)).decode()
    (tmp_path / "site/data/mirror.bin").write_bytes(b"\xff\x00" + address.encode() + b"\x00" + sealed.encode())
    harbor(tmp_path, "snapshot", "take")
    made = harbor(tmp_path, "clone", "make", "--json").json
    assert made["opaque"] == ["file data/mirror.bin"]
    harbor(tmp_path, "clone", "close", made["id"])
    told = harbor(tmp_path, "trial", "run", "same.toml", "--json").json
    assert told["verdict"] == "pass" and sum("data/mirror.bin" in r for r in told["remarks"]) == 1


# -- texts ----------------------------------------------------------------------------------------------------

PLACE = DatabasePlace("mariadb", None, "127.0.0.1", 4306, "", "lane_copy", "me", "p@ss/word")


@pytest.mark.parametrize(
    ("now", "kept"),
    [
        (
            "mysql+pymysql://a:b@db.example:3306/live?charset=utf8mb4&unix_socket=/run/x.sock",
            ("mysql+pymysql", "charset"),
        ),
        ("mariadb://a@/live?socket=/run/x.sock", ("mariadb",)),
        ("mysql:host=db.example;dbname=live;charset=utf8", ("mysql:", "charset=utf8")),
        ("mysql:unix_socket=/run/x.sock;dbname=live", ("mysql:",)),
    ],
)
def test_a_text_keeps_its_scheme_and_options(now: str, kept: tuple[str, ...]) -> None:
    made = text_of_place(now, PLACE)
    assert all(k in made for k in kept) and "/run/x.sock" not in made
    read = place_of_text(made, Path("/"), "me", "p@ss/word")
    assert read is not None
    assert (read.host, read.port, read.name) == ("127.0.0.1", 4306, "lane_copy") and read.user == "me"


LINES = st.lists(st.tuples(st.sampled_from(["key", "other", "third"]), st.text("abc '", max_size=8)), max_size=6)


@given(LINES, st.lists(st.sampled_from(["\n", "\r\n"]), min_size=8, max_size=8), st.text("xyz ", max_size=9))
def test_line_ends_of_settings_stay_as_they_are(lines: list[tuple[str, str]], ends: list[str], value: str) -> None:
    rows = [("[part]", ""), *[(f"{k}{n}", v) for n, (k, v) in enumerate(lines)], ("wanted", "old")]
    text = "".join(f"{k} = {v.strip()}{e}" if v or k == "wanted" else f"{k}{e}"
                   for (k, v), e in zip(rows, [*ends, "\n"], strict=False))  # fmt: skip
    plain = text.replace("\r\n", "\n")
    made = with_values(text, {"part.wanted": value}, "ini", None)
    assert made.replace("\r\n", "\n") == with_value(plain, "part.wanted", value, "ini")
    assert [c for c in made if c == "\r"] == [c for c in text if c == "\r"]
    assert values_in(made, "ini", Path("x"))["part.wanted"] == value.strip()
