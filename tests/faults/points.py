"""Walking the fault points of a command: what the program does when a call to the system fails, or when it is ended
there.

A small site is described and served; for each point the site, its database, the work folder and the store are put back
to their start, the command is run with one fault, and what it says is held against what is there. Used by
`tests/test_faults.py` on SQLite and by `benchmarks/fault_points.py` on every engine."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import sqlite3
import struct
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from conftest import Ran, Warm, plain_files
from keenharbor.base.progress import Silent
from keenharbor.snapshot import verify_store
from keenharbor.store import Store

SOURCE = Path(__file__).parent / "faults.c"
SERVE = """import http.server, os, sqlite3, sys
class Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        rows = sqlite3.connect(os.path.join(ROOT, "data/site.db")).execute("SELECT text FROM notes ORDER BY id").fetchall()
        body = ("<html><title>Notes</title><body><h1>Notes</h1>" + "".join(f"<p>{t}</p>" for t, in rows)).encode()
        self.send_response(200); self.send_header("Content-Type", "text/html"); self.end_headers(); self.wfile.write(body)
    def log_message(self, *words): pass
ROOT = os.path.dirname(os.path.abspath(__file__))
http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Page).serve_forever()
"""
SITE = """format = 1
[site]
name = "notes"
root = "site"
address = "{address}"
[platform]
name = "notes"
[store]
path = "harbor/store"
[feed]
path = "feed.json"
[core]
package = "notes"
version_file = "VERSION"
[runtime]
name = "python"
version = "3"
[runtime.launchers]
3 = "{python}"
[database]
path = "site/data/site.db"
[areas]
core = ["serve.py", "VERSION", "pages"]
media = ["media"]
cache = ["cache"]
[serve]
command = ["{{runtime}}", "-I", "-S", "serve.py", "{{port}}"]
[maintenance]
flag = "flag"
header = "X-Notes-Pass"
[visitor_data]
tables = ["letters"]
[look]
limit = 2
"""
PLAN = """format = 1
[plan]
site = "notes"
core = "2"
runtime = "3"
[[step]]
name = "column"
kind = "sql"
sql = "ALTER TABLE notes ADD COLUMN colour TEXT; UPDATE notes SET colour = 'green' WHERE id < 9"
[[step]]
name = "version"
kind = "command"
command = ["sh", "-c", "echo 2 > VERSION; echo new > pages/new.txt"]
expects = ["VERSION", "pages"]
[[step]]
name = "old"
kind = "remove"
paths = ["pages/old.txt"]
[[step]]
name = "purge"
kind = "purge-cache"
"""


def built(folder: Path) -> Path:
    """The library of faults, for which a C compiler is needed."""
    library = folder / "faults.so"
    subprocess.run(
        ["cc", "-shared", "-fPIC", "-O1", "-o", str(library), str(SOURCE), "-ldl"], check=True, capture_output=True
    )
    return library


def make_site(folder: Path, address: str) -> None:
    """A small site with a page that shows what is in its database."""
    root = folder / "site"
    for name in ("data", "pages", "media", "cache"):
        (root / name).mkdir(parents=True)
    (root / "serve.py").write_text(SERVE)
    (root / "VERSION").write_text("1\n")
    (root / "pages/old.txt").write_text("old")
    (root / "pages/kept.txt").write_text("kept")
    (root / "media/picture.bin").write_bytes(bytes(range(256)) * 40)
    (root / "media/again.bin").hardlink_to(root / "media/picture.bin")
    (root / "media/link").symlink_to("picture.bin")
    (root / "cache/page").write_text("cached")
    with sqlite3.connect(root / "data/site.db") as base:
        base.executescript(
            "CREATE TABLE notes (id INTEGER PRIMARY KEY, text TEXT); CREATE TABLE letters (id INTEGER PRIMARY KEY, "
            "text TEXT)"
        )
        base.executemany("INSERT INTO notes (text) VALUES (?)", [(f"note {n}",) for n in range(20)])
    base.close()
    (folder / "keenharbor.toml").write_text(SITE.format(address=address, python=sys.executable))
    (folder / "feed.json").write_text('{"format": 1, "releases": []}')
    (folder / "upgrade.toml").write_text(PLAN)


@contextmanager
def live_server(folder: Path) -> Iterator[str]:
    """What visitors of the live site are answered by: its pages, or nothing while the flag stands."""
    root = folder / "site"

    class Page(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            flag = root / "flag"
            try:
                shut = flag.read_text() != self.headers.get("X-Notes-Pass")
            except OSError:
                shut = False
            base = sqlite3.connect(root / "data/site.db")
            rows = base.execute("SELECT text FROM notes ORDER BY id").fetchall()
            base.close()
            body = ("<html><title>Notes</title><body><h1>Notes</h1>" + "".join(f"<p>{t}</p>" for (t,) in rows)).encode()
            self.send_response(503 if shut else 200)
            self.send_header("Content-Type", "text/html")
            self.end_headers()
            self.wfile.write(b"back soon" if shut else body)

        def log_message(self, *words: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Page)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()


State = tuple[dict[str, str], list[str]]


class OnFile:
    """The site's database, as whoever looks at it from outside sees it and puts it back: here a file of the site."""

    def dumped(self, folder: Path) -> list[str]:
        """All that is in it, as text."""
        return dumped(folder / "site/data/site.db")

    def put_back(self, saved: str) -> None:
        """As it was when ``saved`` was made. The file came back with the site's others."""


def dumped(file: Path) -> list[str]:
    """A database as text. It is opened as a visitor's program would: what a killed one left in its journal is taken
    back."""
    with contextlib.closing(sqlite3.connect(file)) as base:
        return list(base.iterdump())


@dataclass
class Told:
    """One fault: where, which, how the command ended, and what was not as it said."""

    point: int
    kind: str
    code: int
    wrong: list[str]
    words: str


@dataclass
class Walk:
    """The points of one command, on a site that is put back to its start for each."""

    folder: Path
    saved: Path
    library: Path
    warm: Warm
    words: Sequence[str]
    changes_live: bool
    prepare: Callable[[], None] = lambda: None
    base: OnFile = field(default_factory=OnFile)
    before: State = field(init=False)
    after: State = field(init=False)

    def state(self) -> State:
        """Files and database of live, by code that shares nothing with the tool's."""
        root = self.folder / "site"
        return plain_files(root, ("cache", "data")), self.base.dumped(self.folder)

    def put_back(self) -> None:
        """Site, work folder and store as they were saved."""
        for name in ("site", "harbor"):
            shutil.rmtree(self.folder / name, ignore_errors=True)
            subprocess.run(["cp", "-a", str(self.saved / name), str(self.folder / name)], check=True)
        self.base.put_back(self.saved.name)
        self.prepare()

    def run(self, words: Sequence[str], at: int = 0, kind: str = "count") -> tuple[Ran, int, int]:
        """Run a command with a fault; how it ended, how many points it passed, how many faults were made."""
        counter = self.folder / "counter"
        counter.write_bytes(bytes(16))
        env = {k: v for k, v in os.environ.items() if k in ("PATH", "HOME", "LANG", "TMPDIR")}
        env |= {
            "PYTHONIOENCODING": "utf-8", "COLUMNS": "300", "FAULTS_COUNTER": str(counter), "FAULTS_AT": str(at),
            "FAULTS_KIND": kind, "FAULTS_UNDER": str(self.folder / "harbor"),
        }  # fmt: skip
        if self.changes_live:
            env["FAULTS_UNDER"] = str(self.folder)
        ran = self.warm.run(self.folder, list(words), env)
        passed, made = struct.unpack("QQ", counter.read_bytes())
        return ran, passed, made

    def count(self) -> int:
        """How many points the command has; notes the states before and after it."""
        self.put_back()
        self.before = self.state()
        ran, passed, _ = self.run(self.words)
        assert ran.code == 0, ran.err
        self.after = self.state()
        return passed

    def at(self, point: int, kind: str) -> Told | None:
        """The command with a fault at ``point``; None where it did not come that far."""
        self.put_back()
        ran, _, made = self.run(self.words, point, kind)
        if not made:
            return None
        wrong = self._first(ran)
        settled, _, _ = self.run(["settle"])
        if settled.code != 0:
            wrong.append(f"settle ends with {settled.code}: {settled.err}")
        wrong += self._settled()
        return Told(point, kind, ran.code, wrong, " ".join((ran.err or ran.out).split())[-400:])

    def _first(self, ran: Ran) -> list[str]:
        """Whether the command's own words are true of what it left."""
        wrong = []
        now = self.state()
        flag, journal = (self.folder / "site/flag").exists(), (self.folder / "harbor/journal.json").exists()
        text = " ".join((ran.err + ran.out).split())
        if ran.code not in (-9, 0, 1, 2, 3, 4, 5):
            wrong.append(f"it ended with {ran.code}")
        if "unexpected" in text or "Traceback" in text:
            wrong.append("an unexpected error")
        if ran.code == 0 and (now != self.after or flag or journal):
            wrong.append("it says done, and live is not as after it")
        if ran.code in (1, 2, 3, 4) and (now != self.before or flag or journal):
            wrong.append(f"it ends with {ran.code}, and live is not as before, or visitors are locked out")
        if ran.code == 5 and "keenharbor settle" not in text:
            wrong.append("it ends with 5, and does not name settle")
        if not self.changes_live and ran.code in (4, 5):
            wrong.append(f"it changes nothing of live, and ends with {ran.code}")
        return wrong

    def _settled(self) -> list[str]:
        wrong = []
        now = self.state()
        if now not in (self.before, self.after):
            wrong.append("after settling, live is in between")
        left = [p for p in self.folder.rglob("*") if p.name.endswith(".part") or p.name.startswith(".reserved")]
        left += [p for p in (self.folder / "site/flag", self.folder / "harbor/journal.json") if p.exists()]
        left += list(self.folder.glob("harbor/clones/*"))
        if left:
            wrong.append(f"after settling, {', '.join(str(p.relative_to(self.folder)) for p in left[:4])} is left")
        told = verify_store(Store(self.folder / "harbor/store"), Silent())
        if not told.good:
            wrong.append(f"after settling, the store is damaged: {json.dumps(told.as_json())[:300]}")
        mark = f"{self.folder}/harbor"
        for process in Path("/proc").glob("[0-9]*/environ"):
            try:
                if f"KEEN_HARBOR_CLONE={mark}".encode() in process.read_bytes():
                    wrong.append(f"program {process.parent.name} still runs")
            except OSError:
                continue
        return wrong


def walk_all(walk: Walk, kinds: Sequence[str], every: int = 1) -> list[Told]:
    """Each point of a command, with ``kinds`` in turn (``every`` so many of them)."""
    found = []
    for number, point in enumerate(range(1, walk.count() + 1, every)):
        told = walk.at(point, kinds[number % len(kinds)])
        if told is not None:
            found.append(told)
    return found


def prepared(folder: Path, warm: Warm, plain: Callable[[Sequence[str]], Ran]) -> None:
    """Bring a new site to where every command can be walked: two snapshots, an archive, a rehearsed plan."""
    for words in (
        ("snapshot", "take", "--label", "first"),
        ("snapshot", "export", "first", str(folder / "first.tar.zst")),
        ("trial", "run", "--snapshot", "first"),
    ):
        ran = plain(words)
        assert ran.code in (0, 1), f"{words}: {ran.out}{ran.err}"
