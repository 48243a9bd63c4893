"""Whole commands as a user types them, by the size of the site: seconds, and memory of all processes together.

    python benchmarks/scaling.py rows [200000 2000000] [sqlite] [mariadb]
    python benchmarks/scaling.py files [2000 20000 100000]
    python benchmarks/scaling.py pages [100 1000] [steps=5] [trial-only]
    python benchmarks/scaling.py merge [1000000] [sqlite] [mariadb]

Against plain programs in the same run: reading the whole dump (`sqlite3`, the server's own client), copying the file.
Exponents: the slope of the logarithms between the smallest and the largest size; 1 is linear."""

from __future__ import annotations

import json
import math
import random
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import psutil

sys.path.insert(0, str(Path(__file__).parent))

from snapshot_speed import make_tree

from keenharbor.clone.server import free_port
from keenharbor.database.private_server import PrivateServer

PROGRAM = [str(Path(sys.executable).with_name("keenharbor"))]
SITE = """format = 1
[site]
name = "lane"
root = "site"
address = "http://127.0.0.1:{port}"
[platform]
name = "lane"
[core]
version_file = "VERSION"
package = "lane"
[database]
{database}
[runtime]
name = "python"
version = "3"
launchers = {{ 3 = "{python}" }}
[maintenance]
flag = "closed.flag"
header = "X-Pass"
[serve]
command = ["{{runtime}}", "-m", "http.server", "--bind", "127.0.0.1", "--directory", "pages", "{{port}}"]
"""
PLAN = """format = 1
[plan]
site = "lane"
core = "1.0"
runtime = "3"
[[step]]
name = "one"
kind = "sql"
sql = "UPDATE orders SET state = 'archived' WHERE id % 100 = 7"
[[step]]
name = "two"
kind = "sql"
sql = "UPDATE orders SET amount = amount + 1 WHERE id % 100 = 11"
"""


@dataclass
class Measured:
    """One command: its seconds, and the most memory that its processes held at one time, in MiB (what they share
    counts once: proportional set sizes)."""

    seconds: float
    mebibytes: float
    out: str = ""


@dataclass
class Table:
    """What was measured, by name and size."""

    rows: dict[str, dict[int, Measured]] = field(default_factory=dict)

    def note(self, name: str, size: int, measured: Measured) -> None:
        self.rows.setdefault(name, {})[size] = measured
        print(f"{size:>10,}  {measured.seconds:8.2f} s  {measured.mebibytes:7.0f} MiB  {name}", flush=True)

    def exponents(self) -> None:
        for name, by_size in self.rows.items():
            sizes = sorted(by_size)
            if len(sizes) > 1:
                small, large = by_size[sizes[0]], by_size[sizes[-1]]
                slope = math.log(large.seconds / small.seconds) / math.log(sizes[-1] / sizes[0])
                print(f"exponent {slope:5.2f}  {name}")


def memory_of(process: psutil.Process) -> float:
    """The proportional set size of a process and all below it, in MiB."""
    total = 0
    for one in [process, *process.children(recursive=True)]:
        try:
            total += one.memory_full_info().pss
        except (psutil.NoSuchProcess, psutil.AccessDenied, FileNotFoundError, ProcessLookupError):
            continue
    return total / 2**20


def measured(command: Sequence[str], folder: Path, codes: Sequence[int] = (0,)) -> Measured:
    """Run a command to its end."""
    most = 0.0
    began = time.monotonic()
    process = subprocess.Popen(list(command), cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    over = threading.Event()

    def watch() -> None:
        nonlocal most
        seen = psutil.Process(process.pid)
        while not over.wait(0.05):
            try:
                most = max(most, memory_of(seen))
            except psutil.NoSuchProcess:
                return

    watcher = threading.Thread(target=watch, daemon=True)
    watcher.start()
    out, error = process.communicate()
    took = time.monotonic() - began
    over.set()
    watcher.join()
    if process.returncode not in codes:
        sys.exit(f"{' '.join(command)}: {process.returncode}\n{out[-2000:]}\n{error[-2000:]}")
    return Measured(took, most, out)


def harbor(folder: Path, *words: str, codes: Sequence[int] = (0,)) -> Measured:
    """Run Keen Harbor."""
    return measured([*PROGRAM, *words], folder, codes)


# -- rows -----------------------------------------------------------------------------------------------------

COLUMNS = (
    "id INTEGER PRIMARY KEY, customer VARCHAR(40) NOT NULL, place VARCHAR(60), state VARCHAR(20), amount INTEGER, "
    "note TEXT, placed VARCHAR(20)"
)


def made_rows(count: int) -> Iterator[tuple[object, ...]]:
    """Made-up orders, about 190 bytes each."""
    chance = random.Random(7)
    words = ["kale", "skirret", "bean", "pea", "beet", "leek", "chard", "onion", "rye", "oat", "vetch", "clover"]
    for number in range(1, count + 1):
        note = " ".join(chance.choices(words, k=18))
        yield (
            number, f"{chance.choice(words)} {number % 5000}", f"lane {number % 900}, {chance.choice(words)}", "open",
            number % 977, note, f"2026-0{number % 9 + 1}-1{number % 9}",
        )  # fmt: skip


@contextmanager
def site_of_rows(engine: str, count: int) -> Iterator[tuple[Path, Callable[[str], None]]]:
    """A described site with one large table, and how SQL is run on it."""
    folder = Path(tempfile.mkdtemp(prefix="scaling-"))
    server = None
    try:
        (folder / "site/pages").mkdir(parents=True)
        (folder / "site/VERSION").write_text("1.0\n")
        (folder / "site/pages/index.html").write_text("<title>Lane</title>Good day")
        if engine == "sqlite":
            said = 'engine = "sqlite"\npath = "site/lane.db"'
            with sqlite3.connect(folder / "site/lane.db") as db:
                db.execute(f"CREATE TABLE orders ({COLUMNS})")
                db.executemany("INSERT INTO orders VALUES (?, ?, ?, ?, ?, ?, ?)", made_rows(count))
            db.close()

            def run(sql: str) -> None:
                with sqlite3.connect(folder / "site/lane.db") as there:
                    there.execute(sql)
                there.close()
        else:
            server = PrivateServer.make(engine, folder / "server")
            server.run_sql("CREATE DATABASE lane")
            place = server.place.with_name("lane")
            import pymysql

            def run(sql: str) -> None:
                with pymysql.connect(unix_socket=str(place.socket), user=place.user, database="lane") as there:
                    with there.cursor() as cursor:
                        cursor.execute(sql)
                    there.commit()

            run(f"CREATE TABLE orders ({COLUMNS})")
            with pymysql.connect(unix_socket=str(place.socket), user=place.user, database="lane") as there:
                with there.cursor() as cursor:
                    batch: list[tuple[object, ...]] = []
                    for row in made_rows(count):
                        batch.append(row)
                        if len(batch) == 5000:
                            cursor.executemany("INSERT INTO orders VALUES (%s,%s,%s,%s,%s,%s,%s)", batch)
                            batch = []
                    if batch:
                        cursor.executemany("INSERT INTO orders VALUES (%s,%s,%s,%s,%s,%s,%s)", batch)
                there.commit()
            (folder / "site/config.ini").write_text(
                f"[db]\nhost = localhost\nsocket = {place.socket}\nname = lane\nuser = {place.user}\n"
            )
            said = (
                f'engine = "{engine}"\n[database.settings]\nhost = "db.host"\nsocket = "db.socket"\nname = "db.name"\n'
                'user = "db.user"\n[settings]\nfile = "config.ini"\nformat = "ini"'
            )
        (folder / "keenharbor.toml").write_text(SITE.format(port=free_port(), database=said, python=sys.executable))
        (folder / "upgrade.toml").write_text(PLAN)
        yield folder, run
    finally:
        if server is not None:
            server.remove()
        shutil.rmtree(folder, ignore_errors=True)


def bench_rows(engine: str, sizes: Sequence[int]) -> None:
    table = Table()
    for count in sizes:
        with site_of_rows(engine, count) as (folder, run):
            table.note(f"{engine}: first take", count, harbor(folder, "snapshot", "take"))
            run("UPDATE orders SET amount = amount + 1 WHERE id % 100 = 13")
            table.note(f"{engine}: take, 1 % changed", count, harbor(folder, "snapshot", "take"))
            newest, first = (s["id"] for s in json.loads(harbor(folder, "snapshot", "list", "--json").out))
            table.note(
                f"{engine}: diff, 1 % changed", count, harbor(folder, "snapshot", "diff", first, newest, codes=(0, 1))
            )
            table.note(
                f"{engine}: restore --live", count, harbor(folder, "snapshot", "restore", first, "--live", "--yes")
            )
            if engine == "sqlite":
                dump = ["sh", "-c", "sqlite3 site/lane.db .dump > dump.sql"]
                if shutil.which("sqlite3"):
                    measured(dump, folder)
                    table.note("sqlite3 < dump", count, measured(["sh", "-c", "sqlite3 new.db < dump.sql"], folder))
                    (folder / "new.db").unlink()
                    (folder / "dump.sql").unlink()
            table.note(f"{engine}: trial, two steps of SQL", count, harbor(folder, "trial", "run", codes=(0, 1)))
    table.exponents()


# -- files ----------------------------------------------------------------------------------------------------


def bench_files(sizes: Sequence[int]) -> None:
    table = Table()
    for count in sizes:
        folder = Path(tempfile.mkdtemp(prefix="scaling-", dir="/var/tmp"))
        try:
            make_tree(folder / "site", count)
            (folder / "site/VERSION").write_text("1.0\n")
            (folder / "site/index.php").write_text("<?php echo 'Good day';\n")
            described = SITE.format(port=free_port(), database='engine = "none"', python=sys.executable)
            (folder / "keenharbor.toml").write_text(described)

            def note(name: str, *words: str, codes: Sequence[int] = (0,)) -> None:
                table.note(name, count, harbor(folder, *words, codes=codes))  # noqa: B023

            note("init", "init", "site", "--yes", "--out", "other.toml", codes=(0, 1, 2))
            note("first take", "snapshot", "take")
            note("take, nothing changed", "snapshot", "take")
            for name, *words in (("list",), ("usage",), ("thin --preview", "thin", "--preview")):
                note(name, "snapshot", *(words or [name]))
            note("compare live, no pages", "compare", "newest", "live", "--no-pages", codes=(0, 1))
            note("export", "snapshot", "export", "newest", "out.tar.zst")
            plain = {
                "tar | zstd -1": "tar -C site -cf - . | zstd -q -1 -o plain.tar.zst",
                "rsync -a, nothing to do": "rsync -a site/ copy/",
                "hashing (sha256sum)": "find site -type f -print0 | xargs -0 sha256sum > /dev/null",
            }
            if shutil.which("rsync"):
                measured(["rsync", "-a", "site/", "copy/"], folder)
            for name, line in plain.items():
                if "rsync" not in line or shutil.which("rsync"):
                    table.note(name, count, measured(["sh", "-c", line], folder))
        finally:
            shutil.rmtree(folder, ignore_errors=True)
    table.exponents()


# -- pages ----------------------------------------------------------------------------------------------------

SLOW_SITE = """
import sys, time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

COUNT = int(Path("COUNT").read_text())


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_GET(self):
        time.sleep(0.1)
        flag = Path("closed.flag")
        closed = flag.is_file() and self.headers.get("X-Pass") != flag.read_text()
        links = "".join(f"<a href='/notes/{n}'>{n}</a>" for n in range(COUNT - 1)) if self.path == "/" else ""
        words = Path("words.txt").read_text()
        known = self.path == "/" or self.path.startswith("/notes/")
        body = f"<title>{self.path}</title><p>{words}</p><p>{self.path}</p>{links}".encode()
        self.send_response(503 if closed else 200 if known else 404)
        self.send_header("Content-Type", "text/html")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *words):
        pass


ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Handler).serve_forever()
"""


def bench_pages(sizes: Sequence[int], count_of_steps: int = 5, *, going_live: bool = True) -> None:
    """Pages that take 100 ms each; the look at them costs nothing else."""
    table = Table()
    for count in sizes:
        folder = Path(tempfile.mkdtemp(prefix="scaling-"))
        port = free_port()
        (folder / "site").mkdir()
        for name, text in {
            "serve.py": SLOW_SITE,
            "COUNT": str(count),
            "words.txt": "Good day",
            "VERSION": "1.0",
        }.items():
            (folder / "site" / name).write_text(text)
        described = SITE.format(port=port, database='engine = "none"', python=sys.executable)
        serve = '["{runtime}", "serve.py", "{port}"]\n[look]\nlimit = 100000\nsitemaps = []'
        described = described[: described.index("[serve]")] + f"[serve]\ncommand = {serve}\n"
        (folder / "keenharbor.toml").write_text(described)
        steps = "".join(
            f'[[step]]\nname = "s{n}"\nkind = "command"\ncommand = ["sh", "-c", "echo {n} >> core.txt"]\n'
            'expects = ["core.txt"]\n'
            for n in range(count_of_steps)
        )
        (folder / "upgrade.toml").write_text(PLAN[: PLAN.index("[[step]]")] + steps)
        live = subprocess.Popen([sys.executable, "serve.py", str(port)], cwd=folder / "site")
        try:
            time.sleep(1)
            harbor(folder, "snapshot", "take")
            ran = harbor(folder, "trial", "run", codes=(0, 1))
            table.note(f"trial, {count_of_steps} steps, pages of 100 ms", count, ran)
            if not going_live:
                continue
            done = harbor(folder, "cutover", "--yes", "--despite", "verdict", "--json", codes=(0, 1))
            table.note("cutover", count, done)
            told = json.loads(done.out)
            print(f"{count:>10,}  {told['maintenance_seconds']:8.2f} s  of it maintenance: {told['spent']}", flush=True)
        finally:
            live.kill()
            live.wait()
            shutil.rmtree(folder, ignore_errors=True)
    table.exponents()


# -- a cutover by merge -------------------------------------------------------------------------------------------

WIDER = """
[[step]]
name = "wider"
kind = "sql"
sql = "ALTER TABLE orders ADD COLUMN channel VARCHAR(20)"
"""


WITH_FLAG = """
import sys
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path


class Handler(SimpleHTTPRequestHandler):
    def do_GET(self):
        flag = Path("closed.flag")
        if flag.is_file() and self.headers.get("X-Pass") != flag.read_text():
            self.send_error(503)
        else:
            super().do_GET()

    def log_message(self, *words):
        pass


ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), partial(Handler, directory="pages")).serve_forever()
"""


def bench_merge(engine: str, count: int, meanwhile: int = 1_000, files: int = 10_000) -> None:
    """A table of so many rows and 10,000 files, of which 1,000 rows change while the steps are carried out beside
    live."""
    with site_of_rows(engine, count) as (folder, run):
        make_tree(folder / "site/pages/files", files)
        (folder / "upgrade.toml").write_text(PLAN + WIDER)
        (folder / "serve.py").write_text(WITH_FLAG)
        live = subprocess.Popen([sys.executable, folder / "serve.py", port_of(folder)], cwd=folder / "site")
        over = threading.Event()

        def change() -> None:
            while not over.wait(0.2):
                if any((folder / "harbor/clones").glob("*/clone.json")):
                    over.wait(1)
                    run(f"UPDATE orders SET note = 'changed meanwhile' WHERE id % {count // meanwhile} = 3")
                    return

        table = Table()
        try:
            time.sleep(1)
            harbor(folder, "snapshot", "take")
            table.note(f"{engine}: trial", count, harbor(folder, "trial", "run", codes=(0, 1)))
            changing = threading.Thread(target=change, daemon=True)
            changing.start()
            words = ("cutover", "--by", "merge", "--yes", "--despite", "verdict", "--despite", "drift", "--json")
            done = harbor(folder, *words, codes=(0, 1))
            table.note(f"{engine}: cutover by merge", count, done)
            told = json.loads(done.out)
            print(f"{count:>10,}  {told['maintenance_seconds']:8.2f} s  of it maintenance: {told['spent']}; carried "
                  f"{told['merged']['carried']}", flush=True)  # fmt: skip
            table.note(f"{engine}: rollback", count, harbor(folder, "rollback", "--yes"))
        finally:
            over.set()
            live.kill()
            live.wait()


def port_of(folder: Path) -> str:
    """The port that a site file names."""
    said = (folder / "keenharbor.toml").read_text()
    return said[said.index("127.0.0.1:") + len("127.0.0.1:") :].split('"', 1)[0]


def main() -> None:
    words = sys.argv[1:]
    sizes = [int(w) for w in words if w.isdigit()]
    if "files" in words or not words:
        bench_files(sizes or [2_000, 20_000, 100_000])
    if "pages" in words or not words:
        steps = next((int(w.partition("=")[2]) for w in words if w.startswith("steps=")), 5)
        bench_pages(sizes or [100, 1_000], steps, going_live="trial-only" not in words)
    if "merge" in words or not words:
        for engine in [w for w in words if w in ("sqlite", "mariadb")] or ["sqlite", "mariadb"]:
            bench_merge(engine, sizes[0] if sizes else 1_000_000)
    if "rows" in words or not words:
        for engine in [w for w in words if w in ("sqlite", "mariadb")] or ["sqlite", "mariadb"]:
            bench_rows(engine, sizes or [200_000, 2_000_000])


if __name__ == "__main__":
    main()
