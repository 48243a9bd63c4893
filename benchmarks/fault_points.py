"""Every fault point of the commands that write, on each engine: an error, a full disk and a kill by turns.

    fault_points.py [sqlite] [mariadb] [postgres] [--every N]

Prints a row for each command: how many points it has, at how many of them what the command said was not so, or live was
left in between once `settle` had run. `tests/test_faults.py` walks them on SQLite; this goes over the servers as well.
A C compiler is needed, and the servers that are to be walked. Ends with 1 where there was an exception to the rule."""

from __future__ import annotations

import argparse
import contextlib
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

sys.path[:0] = [str(Path(__file__).parents[1] / "tests")]

import psycopg
import pymysql

from conftest import Warm
from faults.points import PLAN, OnFile, Walk, built, live_server, make_site, prepared, walk_all
from keenharbor.database.private_server import PrivateServer
from keenharbor.store import Store

KINDS = ("error", "kill", "full")
START = [
    "CREATE TABLE notes (id INTEGER PRIMARY KEY, text VARCHAR(200))",
    "CREATE TABLE letters (id INTEGER PRIMARY KEY, text VARCHAR(200))",
    *(f"INSERT INTO notes VALUES ({n + 1}, 'note {n}')" for n in range(20)),
]
CUT_OVER = [*PLAN.split('sql = "')[1].split('"')[0].split(";"), "INSERT INTO letters VALUES (1, 'since')"]


class OnServer(OnFile):
    """A database on a private server, read and put back by its driver alone."""

    def __init__(self, server: PrivateServer) -> None:
        self.server = server
        if server.engine == "postgres":
            with self._asking("postgres") as ask:
                ask.execute("CREATE DATABASE notes")

    @contextlib.contextmanager
    def _asking(self, database: str = "notes") -> Iterator[Any]:
        place = self.server.place
        if place.engine == "mariadb":
            asked: Any = pymysql.connect(unix_socket=place.socket, user=place.user, autocommit=True)
        else:
            where = Path(place.socket)
            folder = where.parent if where.suffix else where
            asked = psycopg.connect(host=str(folder), user=place.user, dbname=database, autocommit=True)
        with contextlib.closing(asked), asked.cursor() as cursor:
            yield cursor

    def dumped(self, folder: Path) -> list[str]:
        """All columns and rows of all schemas, and the names of the server's databases."""
        mariadb = self.server.engine == "mariadb"
        own = "('mysql', 'sys', 'performance_schema', 'information_schema', 'pg_catalog')"
        found = []
        with self._asking() as ask:
            ask.execute("SHOW DATABASES" if mariadb else "SELECT datname FROM pg_database ORDER BY 1")
            found += [str(row) for row in ask.fetchall()]
            ask.execute(
                "SELECT table_schema, table_name, column_name, data_type, is_nullable FROM information_schema.columns "
                f"WHERE table_schema NOT IN {own} ORDER BY 1, 2, ordinal_position"
            )
            columns = ask.fetchall()
            found += [str(row) for row in columns]
            mark = "`" if mariadb else '"'
            for schema, table in sorted({(row[0], row[1]) for row in columns}):
                ask.execute(f"SELECT * FROM {mark}{schema}{mark}.{mark}{table}{mark} ORDER BY 1")
                found += [f"{table} {row}" for row in ask.fetchall()]
        return found

    def put_back(self, saved: str) -> None:
        """Made anew."""
        again = (
            ["DROP DATABASE IF EXISTS notes", "CREATE DATABASE notes", "USE notes"]
            if self.server.engine == "mariadb"
            else ["DROP SCHEMA public CASCADE", "CREATE SCHEMA public"]
        )
        with self._asking() as ask:
            for statement in [*again, *START, *(CUT_OVER if saved == "cut-over" else [])]:
                ask.execute(statement)


def tell_where(folder: Path, server: PrivateServer) -> None:
    """The site's settings say where its database is, and its site file where they say so."""
    place = server.place
    (folder / "site/settings.ini").write_text(f"[db]\nsocket={place.socket}\nname=notes\nuser={place.user}\n")
    site_file = folder / "keenharbor.toml"
    text = site_file.read_text().replace(
        '[database]\npath = "site/data/site.db"\n',
        '[settings]\nfile = "settings.ini"\nformat = "ini"\n'
        f'[database]\nengine = "{place.engine}"\n'
        '[database.settings]\nsocket = "db.socket"\nname = "db.name"\nuser = "db.user"\n',
    )
    site_file.write_text(text)
    serve = folder / "site/serve.py"
    text = serve.read_text().replace(
        'sqlite3.connect(os.path.join(ROOT, "data/site.db"))', "sqlite3.connect(':memory:')"
    )
    serve.write_text(text.replace("SELECT text FROM notes ORDER BY id", "SELECT 'on a server'"))


def walk_engine(engine: str, every: int) -> int:
    """The table's rows of one engine; how many exceptions there were."""
    with contextlib.ExitStack() as ends:
        whole = Path(ends.enter_context(tempfile.TemporaryDirectory(prefix="harbor-faults-")))
        whole.chmod(0o711)
        folder = whole / "scene"
        folder.mkdir()
        library = built(whole)
        address = ends.enter_context(live_server(folder))
        make_site(folder, address)
        base = OnFile()
        if engine != "sqlite":
            server = ends.enter_context(PrivateServer.make(engine, whole / "server"))
            tell_where(folder, server)
            base = OnServer(server)
        warm = Warm(LD_PRELOAD=str(library))

        def walk(*words: str, changes_live: bool = True, saved: str = "saved") -> Walk:
            return Walk(folder, whole / saved, library, warm, words, changes_live, base=base)

        def save(name: str) -> None:
            (whole / name).mkdir()
            for part in ("site", "harbor"):
                subprocess.run(["cp", "-a", str(folder / part), str(whole / name / part)], check=True)

        plain = walk()
        base.put_back("saved")
        prepared(folder, warm, lambda words: plain.run(words)[0])
        save("saved")
        (document,) = (folder / "harbor/store/snapshots").iterdir()
        ran = plain.run(["cutover", "--yes", "--despite", "verdict"])[0]
        assert ran.code == 0, ran.err
        if engine == "sqlite":
            import sqlite3

            with contextlib.closing(sqlite3.connect(folder / "site/data/site.db")) as opened, opened:
                opened.execute("INSERT INTO letters (text) VALUES ('since')")
        save("cut-over")
        plain.put_back()
        for number in range(4):
            (folder / f"site/media/new{number}.bin").write_bytes(os.urandom(3000))
            assert plain.run(["snapshot", "take", "--label", f"n{number}"])[0].code == 0
        save("many")

        take_in = walk("snapshot", "import", "first.tar.zst", changes_live=False)
        take_in.prepare = lambda: Store(folder / "harbor/store").remove_document("snapshots", document.stem)
        walks = {
            "snapshot take": walk("snapshot", "take", "--read-all", changes_live=False, saved="many"),
            "snapshot thin": walk("snapshot", "thin", "--newest", "1", "--yes", changes_live=False, saved="many"),
            "snapshot import": take_in,
            "restore --live": walk("snapshot", "restore", "first", "--live", "--yes", saved="many"),
            "cutover": walk("cutover", "--yes", "--despite", "verdict"),
            "rollback": walk("rollback", "--yes", saved="cut-over"),
        }
        exceptions = 0
        for name, one in walks.items():
            start = time.monotonic()
            told = walk_all(one, KINDS, every)
            wrong = [t for t in told if t.wrong]
            exceptions += len(wrong)
            codes = {code: sum(t.code == code for t in told) for code in sorted({t.code for t in told})}
            ends_told = ", ".join(f"{'killed' if code == -9 else code}: {n}" for code, n in codes.items())
            print(
                f"{engine:9} {name:16} {len(told):4} points  {len(wrong):2} exceptions  ended with {ends_told}  "
                f"({time.monotonic() - start:.0f} s)",
                flush=True,
            )
            for t in wrong[:5]:
                print(f"    {t.kind} at {t.point}: {'; '.join(t.wrong)} [{t.code}: {t.words}]", flush=True)
        return exceptions


def main() -> None:
    asked = argparse.ArgumentParser(description="Walk every fault point of the commands that write.")
    asked.add_argument("engines", nargs="*", default=["sqlite", "mariadb", "postgres"])
    asked.add_argument("--every", type=int, default=1, help="only each so-many-th point")
    given = asked.parse_args()
    sys.exit(1 if sum(walk_engine(engine, given.every) for engine in given.engines) else 0)


if __name__ == "__main__":
    main()
