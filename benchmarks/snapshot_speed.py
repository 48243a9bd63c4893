"""Snapshots against the system's own programs, as ratios within one run (see README.md).

    snapshot_speed.py [files] [sqlite] [mariadb] [postgres] [space] [many] [memory] [--files N] [--rows N]

Without a name, all of them. Needs tar, zstd and rsync; of the servers those that are installed are measured.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import random
import resource
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from keenharbor.base.progress import Silent
from keenharbor.database import DatabasePlace, StoredState, open_database, store_state
from keenharbor.database.private_server import PrivateServer, missing_program
from keenharbor.host import FileTree
from keenharbor.live.putting import put_tree_back, trees_to_put_back
from keenharbor.live.restore import Chosen, check_readable, restore_live
from keenharbor.site.load import live_database_place, open_site
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable
from keenharbor.snapshot import Snapshot, TakeOptions, list_snapshots, restore_state, take_snapshot
from keenharbor.store import Store
from keenharbor.tree import Entry, restore_tree

SITE = """
format = 1
[site]
name = "bench"
root = "site"
address = "http://127.0.0.1:9"
[platform]
name = "bench"
[core]
version_file = "VERSION"
package = "core"
[settings]
file = "settings.ini"
[database]
url = "{url}"
[runtime]
name = "none"
version_file = "VERSION"
[extensions]
folder = "extensions"
facts = "facts.ini"
fields = {{}}
[serve]
command = ["true"]
[maintenance]
flag = "flag"
header = "X-Pass"
"""
WORDS = [
    f"{a}{b}" for a in ("bean", "leaf", "root", "seed", "soil", "vine") for b in ("", "s", "bed", "ling", "row", "wise")
]


def seconds(work: Callable[[], object]) -> float:
    os.sync()  # what was written before is not to be waited for
    began = time.monotonic()
    work()
    return time.monotonic() - began


def best(work: Callable[[], object], before: Callable[[], object] = lambda: None, times: int = 2) -> float:
    """The least of some runs: a busy machine only ever adds."""
    found = []
    for _ in range(times):
        before()
        found.append(seconds(work))
    return min(found)


def in_turn(
    ours: Callable[[], object], theirs: Callable[[], object], before: Callable[[], object] = lambda: None,
    before_theirs: Callable[[], object] = lambda: None, times: int = 3,
) -> tuple[float, float]:  # fmt: skip
    """The least of some runs of each of the two, by turns: what else the machine does falls on both alike."""
    found: list[tuple[float, float]] = []
    for _ in range(times):
        before_theirs()
        other = seconds(theirs)
        before()
        found.append((seconds(ours), other))
    return min(f[0] for f in found), min(f[1] for f in found)


def told(what: str, ours: float, theirs: float, against: str, bar: float) -> None:
    verdict = "ok" if ours <= bar * theirs else "OVER"
    print(
        f"{what:46} {ours:7.2f} s  {theirs:7.2f} s {against:28} {ours / theirs:5.2f} (bar {bar}) {verdict}", flush=True
    )


def text(chance: random.Random, size: int) -> bytes:
    return " ".join(chance.choices(WORDS, k=size // 5 + 1)).encode()[:size]


def make_tree(root: Path, count: int) -> None:
    """Files as sites have them: many small texts, some pictures that do not compress."""
    chance = random.Random(4)
    (root / "extensions").mkdir(parents=True)
    (root / "VERSION").write_text("1.0\n")
    (root / "settings.ini").write_text("[a]\nb = c\n")
    for n in range(count):
        folder = root / f"part{n % 97:02d}" / f"sub{n % 11}"
        folder.mkdir(parents=True, exist_ok=True)
        if n % 10 == 0:
            (folder / f"picture{n}.jpg").write_bytes(chance.randbytes(chance.randint(60_000, 180_000)))
        else:
            (folder / f"file{n}.txt").write_bytes(text(chance, chance.randint(500, 18_000)))


def make_site(folder: Path, count: int) -> SiteView:
    """A site of so many files with hardly a database."""
    make_tree(folder / "site", count)
    sqlite3.connect(folder / "a.db").execute("CREATE TABLE t (a)").connection.close()
    (folder / "keenharbor.toml").write_text(SITE.format(url=f"sqlite://{folder}/a.db"))
    return open_site(folder / "keenharbor.toml")


def bench_files(folder: Path, count: int) -> None:
    site_folder = folder / "files"
    site = make_site(site_folder, count)
    root = Path(site.place)
    size = sum(f.stat().st_size for f in root.rglob("*") if f.is_file())
    print(f"{count} files, {size / 1e6:.0f} MB")
    store_folder = site_folder / "store"

    def fresh() -> None:
        shutil.rmtree(store_folder, ignore_errors=True)

    def take(earlier: Snapshot | None = None) -> Snapshot:
        return take_snapshot(site, Store.create(store_folder), TakeOptions(), Silent(), earlier)

    archive = site_folder / "a.tar.zst"
    command = f"tar -C {root} -cf - . | zstd -1 -q -f -o {archive}"
    ours, theirs = in_turn(take, lambda: subprocess.run(command, shell=True, check=True), fresh)
    told("first snapshot of the files", ours, theirs, "tar | zstd -1", 1.2)
    fresh()
    first = take()
    copy = site_folder / "copy"
    subprocess.run(["rsync", "-a", f"{root}/", f"{copy}/"], check=True)
    ours, theirs = in_turn(
        lambda: take(first), lambda: subprocess.run(["rsync", "-a", f"{root}/", f"{copy}/"], check=True)
    )
    told("unchanged second snapshot", ours, theirs, "rsync -a with nothing to do", 2)
    back = site_folder / "back"
    writable = Writable.of(site, site.place, live_database_place(site))
    chance = random.Random(7)
    names = [p for p, e in first.entries.items() if e.kind == "file"]
    wholes: list[float] = []
    parts: list[float] = []
    commands: list[float] = []

    def change() -> Snapshot:
        taken = take(first)  # files that were given back bear other inode numbers; a new snapshot knows them
        for path in chance.sample(names, len(names) // 100):
            (root / path).write_bytes(b"changed" * 100)
        return taken

    for _ in range(3):
        shutil.rmtree(back, ignore_errors=True)
        store = Store(store_folder)
        wholes.append(seconds(lambda store=store: restore_tree(FileTree(str(back)), first.entries, {}, store.read)))  # type: ignore[misc]
        # All that the command does but its safety snapshot: find what differs, check that it can be read, write it.
        snapshot = change()
        checked = seconds(lambda snapshot=snapshot: check_readable(site, snapshot, Chosen()))  # type: ignore[misc]
        live = take(snapshot).entries

        def put(snapshot: Snapshot = snapshot, live: dict[str, Entry] = live) -> None:
            put_tree_back(writable, snapshot, found=trees_to_put_back(snapshot, live))

        parts.append(checked + seconds(put))
        snapshot = change()
        commands.append(
            seconds(lambda snapshot=snapshot, store=store: restore_live(site, store, snapshot, Chosen(), Silent()))  # type: ignore[misc]
        )
    told("giving back with 1 % changed", min(parts), min(wholes), "unpacking it all", 0.2)
    print(f"  the whole command, with its safety snapshot and a sync: {min(commands):.2f} s")


def fill(place: DatabasePlace, rows: int, folder: Path) -> None:
    chance = random.Random(1)
    stock = [" ".join(chance.choices(WORDS, k=9)) for _ in range(4000)]
    types = {
        "sqlite": "INTEGER PRIMARY KEY",
        "mariadb": "BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY",
        "postgres": "bigint PRIMARY KEY",
    }
    ddl = (
        f"CREATE TABLE articles (id {types[place.engine]}, title VARCHAR(200) NOT NULL, price DOUBLE PRECISION, "
        "total DECIMAL(10,2), written TIMESTAMP NULL, note VARCHAR(20), big BIGINT, body TEXT); "
        "CREATE INDEX by_note ON articles (note);"
    )
    database = open_database(place)
    with database.writing() as writer:
        writer.script(ddl)
    with database.reading() as state:
        table = state.schema.tables[0]

    def made(n: int) -> tuple[object, ...]:
        title, first, second = (stock[chance.randrange(4000)] for _ in range(3))
        total = f"{chance.randrange(99999)}.{n % 100:02d}"
        note = ("x", "yy", None)[n % 3]
        return (
            n,
            title,
            chance.random() * 100,
            total,
            "2024-01-02 03:04:05",
            note,
            chance.randrange(1 << 40),
            f"{first} {second}",
        )

    with database.writing() as writer:
        for start in range(1, rows + 1, 20_000):
            batch = [made(n) for n in range(start, min(start + 20_000, rows + 1))]
            writer.load_rows(table, batch)  # type: ignore[attr-defined]


def fill_on_the_server(place: DatabasePlace, rows: int) -> None:
    """Many rows, made by the engine itself."""
    ddl = (
        "CREATE TABLE articles (id BIGINT PRIMARY KEY, title VARCHAR(200), total DECIMAL(10,2), note VARCHAR(20), "
        "body TEXT)"
    )
    text = {
        "sqlite": "printf('%d beans and %d leaves by the wall, %d', {0} * 7919 % 10007, {0} % 977, {0} * 31 % 1000003)",
        "mariadb": "CONCAT({0} * 7919 % 10007, ' beans and ', {0} % 977, ' leaves by the wall, ', {0} * 31 % 1000003)",
        "postgres": "concat({0} * 7919 % 10007, ' beans and ', {0} % 977, ' leaves by the wall, ', {0} * 31 % 1000003)",
    }[place.engine].format("n")
    source = {
        "sqlite": f"(WITH RECURSIVE s(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < {rows}) SELECT n FROM s)",
        "mariadb": f"(SELECT seq AS n FROM seq_1_to_{rows})",
        "postgres": f"(SELECT generate_series(1, {rows}::bigint) AS n)",
    }[place.engine]
    with open_database(place).writing() as writer:
        writer.script(ddl)
        writer.script(f"INSERT INTO articles SELECT n, {text}, n % 997, NULL, {text} FROM {source} q")


def programs(place: DatabasePlace, folder: Path) -> tuple[str, str]:
    """The shell commands that dump the database into a file and put it into another one."""
    if place.engine == "mariadb":
        base = f"--no-defaults -S {place.socket} -u root"
        return (
            f"mariadb-dump {base} --single-transaction {place.name} > {folder}/dump",
            f"mariadb {base} other < {folder}/dump",
        )
    if place.engine == "postgres":
        tools = sorted(Path("/usr/lib/postgresql").glob("*/bin"))[-1]
        base = f"-h {Path(place.socket).parent} -U {place.user}"
        return (
            f"{tools}/pg_dump {base} {place.name} > {folder}/dump",
            f"{tools}/psql -q {base} -d other -f {folder}/dump",
        )
    code = "import sqlite3,sys;[sys.stdout.write(l+chr(10)) for l in sqlite3.connect(sys.argv[1]).iterdump()]"
    if shutil.which("sqlite3"):
        return (
            f"sqlite3 {place.path} .dump > {folder}/dump",
            f"rm -f {folder}/o.db; sqlite3 {folder}/o.db < {folder}/dump",
        )
    load = "import sqlite3,sys;sqlite3.connect(sys.argv[1]).executescript(open(sys.argv[2]).read())"
    return (
        f'{sys.executable} -c "{code}" {place.path} > {folder}/dump',
        f'rm -f {folder}/o.db; {sys.executable} -c "{load}" {folder}/o.db {folder}/dump',
    )


def bench_database(engine: str, folder: Path, rows: int) -> None:
    folder = folder / engine
    folder.mkdir()
    server = PrivateServer.make(engine, folder / "server") if engine != "sqlite" else None
    try:
        place = server.place.with_name("bench") if server else DatabasePlace("sqlite", folder / "bench.db")
        other = server.place.with_name("other") if server else DatabasePlace("sqlite", folder / "o2.db")
        fill(place, rows, folder)
        time.sleep(3)  # a time of last change has whole seconds
        dump, load = programs(place, folder)
        if engine == "postgres":  # else the server does it by itself meanwhile
            from keenharbor.database.postgres import PostgresDatabase, run_statement

            with contextlib.closing(PostgresDatabase(place).connect()) as connection:
                run_statement(connection, "VACUUM ANALYZE")
        subprocess.run(dump, shell=True, check=True)
        print(f"{engine}: {rows} rows, {(folder / 'dump').stat().st_size / 1e6:.0f} MB of SQL")
        kept: list[StoredState] = []
        store_folder = folder / "store"

        def read(earlier: StoredState | None = None) -> None:
            store = Store.create(store_folder)
            with store.writing() as writer, open_database(place).reading() as state:
                tables = store_state(state, writer, earlier)
                kept[:] = [StoredState(state.schema, tables, store.read)]

        def fresh() -> None:
            shutil.rmtree(store_folder, ignore_errors=True)

        first, theirs = in_turn(read, lambda: subprocess.run(dump, shell=True, check=True), fresh)
        told(f"{engine}: database read", first, theirs, "its dump program", 1.5)
        state = kept[0]
        told(f"{engine}: unchanged database", best(lambda: read(state)), first, "the first read", 0.5)
        told(f"{engine}: unchanged, read all the same", best(read), first, "the first read", 1.0)

        def empty() -> None:
            if server is None:
                return
            if open_database(other).exists():
                open_database(other).drop()
            server.run_sql("CREATE DATABASE other")

        def restore(check: bool) -> None:
            if check:
                restore_state(state, open_database(other))
                return
            with open_database(other).writing() as writer:
                writer.replace(state)

        def gone() -> None:
            if open_database(other).exists():
                open_database(other).drop()

        for what, check in (("restore", False), ("restore, read back and checked", True)):
            ours, theirs = in_turn(
                lambda check=check: restore(check),  # type: ignore[misc]
                lambda: subprocess.run(load, shell=True, check=True, stdout=subprocess.DEVNULL),
                gone,
                empty,
                2,
            )
            told(f"{engine}: {what}", ours, theirs, "its client", 1.5)
    finally:
        if server is not None:
            server.remove()


def bench_space(folder: Path, count: int, rows: int) -> None:
    """Ten days with 1 % of the rows and 0.5 % of the files changed each day."""
    site_folder = folder / "space"
    root = site_folder / "site"
    make_tree(root, count)
    place = DatabasePlace("sqlite", site_folder / "a.db")
    fill(place, rows, site_folder)
    (site_folder / "keenharbor.toml").write_text(SITE.format(url=f"sqlite://{site_folder}/a.db"))
    site = open_site(site_folder / "keenharbor.toml")
    store = Store.create(site_folder / "store")
    chance = random.Random(3)
    names = [f for f in root.rglob("*") if f.is_file()]
    taken = take_snapshot(site, store, TakeOptions(), Silent(), None)
    first = store.pack_bytes() + store.document_bytes()
    for day in range(10):
        for file in chance.sample(names, len(names) // 200):
            file.write_bytes(file.read_bytes()[:-10] + f"{day:10}".encode())
        connection = sqlite3.connect(place.file)
        with connection:
            keys = [(f"day {day}", chance.randrange(1, rows)) for _ in range(rows // 100)]
            connection.executemany("UPDATE articles SET note = ? WHERE id = ?", keys)
        connection.close()
        taken = take_snapshot(site, store, TakeOptions(), Silent(), taken)
    total = store.pack_bytes() + store.document_bytes()
    print(f"space: first {first / 1e6:.1f} MB, with ten days more {total / 1e6:.1f} MB: {total / first:.2f} (bar 1.25)")


def bench_many(folder: Path, count: int) -> None:
    """Sixty snapshots, one file more each time: what they take, and how long a list of them does."""
    site = make_site(folder / "many", count)
    store = Store.create(folder / "many/store")
    taken = take_snapshot(site, store, TakeOptions(), Silent(), None)
    first = store.pack_bytes() + store.document_bytes()
    for number in range(60):
        (Path(site.place) / f"part{number:02d}" / "new.txt").write_text(f"{number}")
        taken = take_snapshot(site, store, TakeOptions(), Silent(), taken)
    grown = store.pack_bytes() + store.document_bytes() - first
    listing = seconds(lambda: list_snapshots(Store(store.folder)))
    print(f"60 snapshots, one file more each time: {grown / 1e6:.1f} MB, listed in {listing:.3f} s")


def bench_memory(folder: Path, rows: int) -> None:
    """Peak memory of the largest of the processes that take a snapshot, at two sizes of one table, on each engine."""
    for engine in ("sqlite", "mariadb", "postgres"):
        if engine != "sqlite" and missing_program(engine):
            continue
        for count in (rows, 5 * rows):
            where = folder / f"memory-{engine}-{count}"
            where.mkdir()
            server = PrivateServer.make(engine, where / "server") if engine != "sqlite" else None
            try:
                place = server.place.with_name("bench") if server else DatabasePlace("sqlite", where / "a.db")
                fill_on_the_server(place, count)
                code = (
                    "import sys,resource,re;from pathlib import Path;from keenharbor.database import *;"
                    "from keenharbor.store import Store;from keenharbor.snapshot import restore_state\n"
                    # ru_maxrss of a process begins with that of the one which started it; its children are its own.
                    "def most(): return "
                    "max(int(re.search(r'VmHWM:\\s*(\\d+)',Path('/proc/self/status').read_text())[1]),"
                    "resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)//1024\n"
                    "s=Store.create(Path(sys.argv[2]));d=open_database(DatabasePlace.from_url(sys.argv[1]))\n"
                    "with s.writing() as w, d.reading() as st: "
                    "t=store_state(st,w);state=StoredState(st.schema,t,s.read)\n"
                    "took=most()\n"
                    "restore_state(state,open_database(DatabasePlace.from_url(sys.argv[3])))\n"
                    "print(took,most())"
                )
                other = server.place.with_name("other") if server else DatabasePlace("sqlite", where / "b.db")
                done = subprocess.run(
                    [sys.executable, "-c", code, place.url, str(where / "store"), other.url],
                    check=True,
                    capture_output=True,
                    text=True,
                )
                took, gave = done.stdout.split()
                print(
                    f"memory: {engine}, {count} rows: {took} MiB at most taking, {gave} MiB taking and restoring (bar "
                    f"200)",
                    flush=True,
                )
            finally:
                if server is not None:
                    server.remove()
                shutil.rmtree(where, ignore_errors=True)


KINDS = ["files", "sqlite", "mariadb", "postgres", "space", "many", "memory"]


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("what", nargs="*", choices=[*KINDS, []])
    parser.add_argument("--files", type=int, default=20_000)
    parser.add_argument("--rows", type=int, default=1_000_000)
    options = parser.parse_args()
    what = options.what or KINDS
    folder = Path(tempfile.mkdtemp(prefix="harbor-bench-"))
    folder.chmod(0o755)
    try:
        print(f"{os.cpu_count()} cores; ours, theirs, ratio")
        for name in what:
            if name == "files":
                bench_files(folder, options.files)
            elif name == "space":
                bench_space(folder, options.files, options.rows)
            elif name == "many":
                bench_many(folder, options.files)
            elif name == "memory":
                bench_memory(folder, options.rows)
            elif name == "sqlite" or not missing_program(name):
                bench_database(name, folder, options.rows)
        print(f"this process: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MiB at most")
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
