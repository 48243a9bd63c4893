"""Nothing that comes from outside is trusted: archives, definitions, trees, pages, names."""

from __future__ import annotations

import json
import os
import resource
import socket
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Any

import pytest

from conftest import Ran, cold, environment, harbor, on_a_terminal
from keenharbor.base.errors import DamagedError, KeenHarborError
from keenharbor.base.progress import Silent
from keenharbor.base.text import visible
from keenharbor.compare import VisitError, Visitor
from keenharbor.compare.markup import read_markup
from keenharbor.database import DatabasePlace, open_database
from keenharbor.database.definitions import DefinitionRefused, check_definition
from keenharbor.demo.scene import Scene
from keenharbor.host import AreaRules, FileTree, ReadTree, WalkRules
from keenharbor.snapshot.importing import import_snapshot
from keenharbor.store import Store
from keenharbor.tree import restore_tree, scan_tree
from test_export import entry_of, exported, manifest_with, new, nothing_written, packed, unpacked, with_sums

__all__ = ["exported"]

# -- archives ----------------------------------------------------------------------------------------------------


def ddl(text: str, kind: str = "table") -> Callable[[dict[str, Any]], None]:
    """A manifest whose first table, or a new object, has this definition."""

    def change(said: dict[str, Any]) -> None:
        if kind == "table":
            said["database"]["schema"]["tables"][0]["ddl"] = text
        else:
            said["database"]["schema"]["objects"].append([kind, "x", text])

    return change


def entry(at: int, value: Any) -> Callable[[dict[str, Any]], None]:
    return lambda s: s["tree"][3].__setitem__(at, value)


WRONG: dict[str, Callable[[dict[str, Any]], None]] = {
    "a time in words": lambda s: s.update(taken_at="yesterday"),
    "a time to come": lambda s: s.update(taken_at="2999-01-01T00:00:00.000Z"),
    "a time before all": lambda s: s.update(taken_at="0001-01-01T00:00:00.000Z"),
    "facts that are a list": lambda s: s.update(facts=[1, 2]),
    "a component that is a number": lambda s: s["facts"].update(components=[7]),
    "an area that is a list": entry(5, [1]),
    "an area that is none": entry(5, "moon"),
    "a time of a file beyond all": entry(3, 10**30),
    "a time of a file that is a text": entry(3, "now"),
    "a size that is negative": entry(4, -1),
    "a size that is a fraction": entry(4, 1.5),
    "content that is no id": entry(7, ["../../x"]),
    "content that is a text": entry(7, "a" * 64),
    "a path that is a number": entry(0, 7),
    "an entry that is short": lambda s: s["tree"][3].__delitem__(slice(3, None)),
    "an owner beyond all": entry(9, 2**40),
    "a label that is a number": lambda s: s.update(label=7),
    "a site that climbs": lambda s: s.update(site="../x"),
    "an address that is code": lambda s: s.update(address="javascript:alert(1)"),
    "seconds that are none": lambda s: s.update(seconds=-1),
    "a root that is a list": lambda s: s.update(root=["/"]),
    "a key that nobody knows": lambda s: s.update(run="rm"),
    "a key that is missing": lambda s: s.pop("reason"),
    "a database at a place that is none": lambda s: s["database"].update(place="ftp://x"),
    "another engine": lambda s: s["database"]["schema"].update(engine="moon"),
    "tables that are others": lambda s: s["database"]["tables"].pop(),
    "a table that attaches": ddl("ATTACH '/tmp/x.db' AS x"),
    "a table and something else": ddl("CREATE TABLE a (b); ATTACH '/tmp/x.db' AS x"),
    "a table of another database": ddl("CREATE TABLE other.a (b)"),
    "a table that lives with others' modules": ddl("CREATE VIRTUAL TABLE a USING csv(filename='/etc/passwd')", "table"),
    "a database": ddl("CREATE DATABASE x", "view"),
    "a view that is a trigger": ddl("CREATE TRIGGER x AFTER INSERT ON a BEGIN SELECT 1; END", "view"),
    "a pragma": ddl("PRAGMA writable_schema = ON", "index"),
    "an object of no kind": ddl("CREATE VIEW x AS SELECT 1", "party"),
}  # fmt: skip


@pytest.mark.parametrize("what", WRONG)
def test_a_manifest_that_the_tool_would_not_have_written_is_refused(exported: Path, tmp_path: Path, what: str) -> None:
    store = Store.create(tmp_path / "store")
    bad = packed(with_sums(manifest_with(unpacked(exported), WRONG[what])), tmp_path / "bad.tar.zst")
    with pytest.raises(DamagedError, match="refused"):
        import_snapshot(bad, store, Silent())
    assert nothing_written(store)


def test_a_chain_of_links_is_followed_to_its_end(exported: Path, tmp_path: Path) -> None:
    import tarfile

    def link(path: str, target: str) -> tuple[Any, Any]:
        return entry_of(path, "link", target), new(f"files/{path}", kind=tarfile.SYMTYPE, link=target)

    chains = {
        "out by another link": [link("lc", "media"), link("media/up", ".."), link("esc", "lc/up/up/../../x")],
        "round and round": [link("ra", "rb"), link("rb", "ra")],
        "out at last": [link("la", "lb/../.."), link("lb", "media")],
    }
    for name, links in chains.items():
        entries, members = zip(*links, strict=True)
        archive = with_sums([*manifest_with(unpacked(exported), lambda s, e=entries: s["tree"].extend(e)), *members])  # type: ignore[misc]
        store = Store.create(tmp_path / name)
        with pytest.raises(DamagedError, match="points out of the site"):
            import_snapshot(packed(archive, tmp_path / f"{name}.tar.zst"), store, Silent())
        assert nothing_written(store)


def test_setuid_is_dropped_unless_it_is_asked_for(exported: Path, tmp_path: Path) -> None:
    def marked(said: dict[str, Any]) -> None:
        next(e for e in said["tree"] if e[1] == "file")[2] = 0o4755

    archive = packed(with_sums(manifest_with(unpacked(exported), marked)), tmp_path / "a.tar.zst")
    for asked, wanted in ((False, 0o755), (True, 0o4755)):
        taken = import_snapshot(archive, Store.create(tmp_path / f"s{asked}"), Silent(), set_ids=asked)
        modes = {e.mode for e in taken.entries.values() if e.kind == "file"}
        assert wanted in modes and (asked or 0o4755 not in modes)


# -- definitions -------------------------------------------------------------------------------------------------

GOOD = [
    ("sqlite", "table", "CREATE TABLE \"a;b\" (x TEXT DEFAULT ';', y /* ; */ INT) -- ; end"),
    ("sqlite", "trigger", "CREATE TRIGGER t AFTER INSERT ON a BEGIN UPDATE a SET x = CASE WHEN 1 THEN 2 END; DELETE "
        "FROM b; END"),
    ("sqlite", "virtual", "CREATE VIRTUAL TABLE s USING fts5(text, content='pages')"),
    ("sqlite", "index", "CREATE UNIQUE INDEX i ON a (x) WHERE x > ';'"),
    ("mariadb", "table", "CREATE TABLE `a` (\n `x` int NOT NULL COMMENT 'it''s; \\' fine'\n) ENGINE=InnoDB DEFAULT "
        "CHARSET=utf8mb4"),
    ("mariadb", "view", "CREATE ALGORITHM=UNDEFINED SQL SECURITY DEFINER VIEW `v` AS select 1 AS `1`"),
    ("mariadb", "procedure",
        "SET sql_mode = 'STRICT_TRANS_TABLES', collation_connection = 'utf8mb4_bin';\nCREATE PROCEDURE `p`() BEGIN IF 1 THEN SELECT 1; END IF; WHILE 0 DO SELECT 2; END WHILE; CASE 1 WHEN 1 THEN SELECT 1; END CASE; END".replace("'utf8mb4_bin'", "utf8mb4_bin")),
    ("postgres", "function", "CREATE OR REPLACE FUNCTION f() RETURNS int LANGUAGE plpgsql AS $a$ BEGIN; RETURN 1; END "
        "$a$"),
    ("postgres", "constraint", "ALTER TABLE ONLY public.a ADD CONSTRAINT c CHECK ((x <> ';'::text))"),
    ("postgres", "extension", "CREATE EXTENSION IF NOT EXISTS \"uuid-ossp\" WITH SCHEMA public"),
]  # fmt: skip
BAD = [
    ("sqlite", "table", "CREATE TEMP TABLE a (b)"), ("sqlite", "view", "CREATE VIEW v AS SELECT 1; DROP TABLE a"),
    ("sqlite", "trigger", "CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT 1; END; ATTACH 'x' AS y"),
    ("mariadb", "table", "CREATE TABLE `o`.`a` (`x` int)"),
    ("mariadb", "table", "CREATE TABLE a (x int) /*!50000 ; DROP DATABASE b */"),
    ("mariadb", "table", "CREATE TABLE a (x int) ENGINE=CONNECT FILE_NAME='/etc/passwd'"),
    ("mariadb", "table", "CREATE TABLE a (x int) ENGINE=InnoDB DATA DIRECTORY='/tmp'"),
    ("mariadb", "table", "CREATE TABLE a SELECT * FROM mysql.user"), ("mariadb", "view", "CREATE USER x"),
    ("mariadb", "procedure", "SET GLOBAL x = 1;\nCREATE PROCEDURE p() SELECT 1"),
    ("postgres", "table", "CREATE TABLE a (b int); COPY a TO PROGRAM 'id'"),
    ("postgres", "schema", "CREATE DATABASE x"),
    ("postgres", "function", "CREATE OR REPLACE FUNCTION f() RETURNS int LANGUAGE c AS '/tmp/x.so'"),
    ("postgres", "function", "CREATE OR REPLACE FUNCTION f() RETURNS int LANGUAGE plpython3u AS $$import os$$"),
    ("postgres", "extension", "CREATE EXTENSION IF NOT EXISTS file_fdw"),
    ("postgres", "view", "CREATE ROLE x SUPERUSER"),
    ("none", "table", "CREATE TABLE a (b)"),
]  # fmt: skip


def test_definitions_are_carried_out_only_when_they_make_one_thing_here() -> None:
    for engine, kind, text in GOOD:
        check_definition(engine, kind, "x", text)
    for engine, kind, text in BAD:
        with pytest.raises(DefinitionRefused):
            check_definition(engine, kind, "x", text)


@pytest.mark.parametrize(
    "statement",
    ["ATTACH '{out}' AS x", "PRAGMA writable_schema = ON", "SELECT load_extension('{out}')",
        "PRAGMA journal_mode = WAL",
     "CREATE TABLE t AS SELECT writefile('{out}', 'x')", "VACUUM INTO '{out}'"],
)  # fmt: skip
def test_what_is_run_on_a_database_of_one_file_stays_in_it(tmp_path: Path, statement: str) -> None:
    file, out = tmp_path / "a.db", tmp_path / "out.db"
    with closing(sqlite3.connect(file)) as base:
        base.execute("CREATE TABLE a (b)")
    with (
        pytest.raises(KeenHarborError, match="refused"),
        open_database(DatabasePlace("sqlite", file)).writing() as writer,
    ):
        writer.script(statement.format(out=out))
    assert not out.exists()
    with open_database(DatabasePlace("sqlite", file)).writing() as writer:
        assert writer.script("INSERT INTO a VALUES (1); PRAGMA user_version = 3") == 1


# -- trees -------------------------------------------------------------------------------------------------------


@contextmanager
def tree_and_outside(tmp_path: Path) -> Iterator[tuple[FileTree, Path, Path]]:
    """A tree, and a folder outside that nothing may reach."""
    root, outside = tmp_path / "site", tmp_path / "outside"
    (root / "var/cache").mkdir(parents=True)
    (root / "a.txt").write_text("ours")
    (outside / "cache").mkdir(parents=True)
    for name in ("kept", "cache/kept"):
        (outside / name).write_text("theirs")
    before = {p: (p.read_bytes(), p.stat().st_mode) for p in outside.rglob("*") if p.is_file()}
    yield FileTree(str(root)), root, outside
    after = {p: (p.read_bytes(), p.stat().st_mode) for p in outside.rglob("*") if p.is_file()}
    assert after == before, "something outside the tree was changed"


def as_link(root: Path, name: str, outside: Path) -> None:
    import shutil

    shutil.rmtree(root / name, ignore_errors=True)
    (root / name).unlink(missing_ok=True)
    (root / name).symlink_to(outside)


CHANGES: dict[str, Callable[[FileTree], object]] = {
    "write": lambda t: t.write("var/kept", b"x"), "write deep": lambda t: t.write("var/new/deep/x", b"x"),
    "overwrite": lambda t: t.overwrite("var/kept", b"x", 1), "remove": lambda t: t.remove("var/kept"),
    "clear": lambda t: t.clear("var"), "clear below": lambda t: t.clear("var/cache"),
    "clear it all": lambda t: t.clear("var", keep=False), "prune": lambda t: t.prune("var/cache/x"),
    "relink": lambda t: t.relink("var/kept", "x"), "climb": lambda t: t.write("../outside/x", b"x"),
    "climb within": lambda t: t.remove("var/../../outside/kept"), "an empty name": lambda t: t.write("var//x", b"x"),
}  # fmt: skip


@pytest.mark.parametrize("what", CHANGES)
def test_no_change_of_a_tree_goes_through_a_link(tmp_path: Path, what: str) -> None:
    with tree_and_outside(tmp_path) as (tree, root, outside):
        as_link(root, "var", outside)
        with suppress(OSError):
            CHANGES[what](tree)
        assert (root / "var").is_symlink() and not (outside / "x").exists() and not (outside / "new").exists()


READS: dict[str, Callable[[ReadTree], object]] = {
    "open": lambda t: t.open("var/kept"), "open through links": lambda t: t.open("var/kept", through_links=True),
    "names": lambda t: t.names("var"), "names through links": lambda t: t.names("var", through_links=True),
    "a link to a file": lambda t: t.open("single", through_links=True), "climb": lambda t: t.open("../outside/kept"),
    "climb through links": lambda t: t.open("up/outside/kept", through_links=True),
    "round and round": lambda t: t.open("round", through_links=True), "a pipe": lambda t: t.open("pipe"),
}  # fmt: skip


@pytest.mark.parametrize("what", READS)
def test_no_reading_of_a_tree_leaves_it(tmp_path: Path, what: str) -> None:
    with tree_and_outside(tmp_path) as (_, root, outside):
        as_link(root, "var", outside)
        (root / "single").symlink_to(outside / "kept")
        (root / "up").symlink_to("..")
        (root / "round").symlink_to("round")
        os.mkfifo(root / "pipe")
        with pytest.raises(OSError):
            READS[what](ReadTree(str(root)))
        scan = scan_tree(ReadTree(str(root)), WalkRules(AreaRules({})))
        assert {p: e.kind for p, e in scan.entries.items()} == {
            "a.txt": "file", "var": "link", "single": "link", "up": "link", "round": "link",
        }  # fmt: skip
        assert scan.left_out == ["pipe"]


def test_a_link_within_the_tree_is_followed_where_a_file_is_named(tmp_path: Path) -> None:
    with tree_and_outside(tmp_path) as (tree, root, _):
        (root / "var/settings").write_text("s")
        (root / "settings").symlink_to("var/settings")
        (root / "whole").symlink_to(root / "var/settings")
        for name in ("settings", "whole"):
            with tree.open(name, through_links=True) as file:
                assert file.read() == b"s"
            assert tree.leads_to(name) == "var/settings"


def test_a_link_that_is_swapped_in_during_a_restore_is_not_followed(tmp_path: Path) -> None:
    """Folders are swapped for links to the outside, over and over, while a tree is put back."""
    with tree_and_outside(tmp_path) as (tree, root, outside):
        for number in range(40):
            (root / f"d{number % 4}").mkdir(exist_ok=True)
            (root / f"d{number % 4}/f{number}").write_text(str(number))
        wanted = scan_tree(tree, WalkRules(AreaRules({}))).entries
        contents = {p: (root / p).read_bytes() for p, e in wanted.items() if e.kind == "file"}
        wanted = {p: e.with_objects((p,)) if e.kind == "file" else e for p, e in wanted.items()}
        stop = threading.Event()

        def swap() -> None:
            while not stop.is_set():
                for number in range(4):
                    name = root / f"d{number}"
                    try:
                        name.rename(root / f"away{number}")
                        name.symlink_to(outside)
                        name.unlink()
                        (root / f"away{number}").rename(name)
                    except OSError:
                        continue

        swapping = threading.Thread(target=swap)
        swapping.start()
        try:
            for _ in range(15):
                present = {p: e.with_objects(("other",)) if e.kind == "file" else e for p, e in wanted.items()}
                try:
                    restore_tree(tree, wanted, present, contents.__getitem__)
                except OSError:
                    continue
        finally:
            stop.set()
            swapping.join()
        assert sorted(p.name for p in outside.iterdir()) == ["cache", "kept"]


def test_a_cache_that_is_a_link_is_not_emptied_by_going_back(scene: Scene) -> None:
    """`var` leads out of the site: a rollback once removed all that was there."""
    text = scene.site_file.read_text().splitlines()
    scene.site_file.write_text("\n".join(line for line in text if not line.startswith("reload = ")) + "\n")
    outside = scene.folder / "outside"
    (outside / "cache").mkdir(parents=True)
    (outside / "cache/theirs").write_text("theirs")
    harbor(scene.folder, "snapshot", "take")
    (scene.root / "var").rename(scene.root / "var-before")
    (scene.root / "var").symlink_to(outside)
    harbor(scene.folder, "rollback", "newest", "--yes", code=None)
    assert (outside / "cache/theirs").read_text() == "theirs"


def test_settings_that_lie_outside_are_read_of_live_and_never_changed(scene: Scene) -> None:
    """A clone would share them with live: it is not made, and what to do is told."""
    outside = scene.folder / "shared"
    outside.mkdir()
    (scene.root / "settings.ini").rename(outside / "settings.ini")
    (scene.root / "settings.ini").symlink_to("../shared/settings.ini")
    before = (outside / "settings.ini").read_bytes()
    harbor(scene.folder, "snapshot", "take")
    for words in (("snapshot", "drill", "newest"), ("clone", "make")):
        refused = harbor(scene.folder, *words, code=None)
        assert refused.code in (1, 3) and "put the file itself where the link is" in " ".join(refused.err.split()), (
            words
        )
    assert (outside / "settings.ini").read_bytes() == before


# -- pages -------------------------------------------------------------------------------------------------------

NESTED = b"<div>" * 1_600_000
PAGES: dict[str, bytes | list[bytes]] = {
    "nested": b"HTTP/1.0 200 OK\r\nContent-Type: text/html\r\n\r\n" + NESTED,
    "large": b"HTTP/1.0 200 OK\r\nContent-Type: text/html\r\n\r\n" + b"<p>seed</p>" * 1_500_000,
    "endless": b"HTTP/1.0 200 OK\r\nContent-Length: 99999999999\r\n\r\n" + b"x" * 20_000_000,
    "idna": b"HTTP/1.0 200 OK\r\nContent-Type: text/html; charset=idna\r\n\r\n<p>\xff..a</p>",
    "punycode": b"HTTP/1.0 200 OK\r\nContent-Type: text/html; charset=punycode\r\n\r\n" + b"a" * 300_000,
    "hex": b"HTTP/1.0 200 OK\r\nContent-Type: text/html; charset=hex\r\n\r\n<p>x</p>",
    "unknown charset": b"HTTP/1.0 200 OK\r\nContent-Type: text/html; charset=moon\r\n\r\n<p>x</p>",
    "utf-16": b"HTTP/1.0 200 OK\r\nContent-Type: text/html; charset=utf-16\r\n\r\n\xff\xfe<\x00",
    "many headers": b"HTTP/1.0 200 OK\r\n" + b"".join(b"X-%d: y\r\n" % n for n in range(50_000)) + b"\r\n",
    "a long header": b"HTTP/1.0 200 OK\r\nX: " + b"y" * 10_000_000 + b"\r\n\r\n",
    "a long status": b"HTTP/1.0 200 " + b"y" * 10_000_000 + b"\r\n\r\n",
    "no status": b"moon\r\n\r\n", "a status that is none": b"HTTP/1.0 999999 X\r\n\r\n", "nothing": b"",
    "a chunk that is none": b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\nx",
    "a chunk that is negative": b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n-5\r\nx",
    "a length that is none": b"HTTP/1.1 200 OK\r\nContent-Length: many\r\n\r\nx",
    "a cookie of nonsense": b"HTTP/1.0 200 OK\r\nSet-Cookie: \x01\x02=;;;=\r\n\r\nx",
    "tags that never end": b"HTTP/1.0 200 OK\r\nContent-Type: text/html\r\n\r\n" + b"<a " * 500_000,
    "byte by byte": [b"HTTP/1.0 200 OK\r\n", *[b"X"] * 400],
}  # fmt: skip


@contextmanager
def sending(data: bytes | list[bytes]) -> Iterator[str]:
    with socket.socket() as server:
        server.bind(("127.0.0.1", 0))
        server.listen(8)

        def serve() -> None:
            while True:
                try:
                    end, _ = server.accept()
                except OSError:
                    return
                with end:
                    try:
                        end.recv(65536)
                        for piece in data if isinstance(data, list) else [data]:
                            end.sendall(piece)
                            if isinstance(data, list):
                                time.sleep(0.05)
                    except OSError:
                        continue

        threading.Thread(target=serve, daemon=True).start()
        yield f"http://127.0.0.1:{server.getsockname()[1]}"


_LOOK = """
import resource, sys, time
from keenharbor.compare import visitor
visitor.MOST_SECONDS = 3.0
from keenharbor.compare import VisitError, Visitor
from keenharbor.compare.markup import read_markup
base = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
began = time.monotonic()
try:
    with Visitor(sys.argv[1], timeout=2) as visit:
        answer = visit.get("/")
    said = len(read_markup(answer.text, sys.argv[1], "/").blocks)
except VisitError as error:
    said = str(error)[:80]
print((resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - base) // 1024, round(time.monotonic() - began, 1), said)
"""


@pytest.mark.parametrize("what", PAGES)
def test_a_hostile_page_costs_bounded_time_and_memory(what: str) -> None:
    with sending(PAGES[what]) as address:
        ran = subprocess.run(
            [sys.executable, "-c", _LOOK, address], capture_output=True, text=True, check=False, timeout=60
        )
    assert ran.returncode == 0, ran.stderr
    mebibytes, seconds = ran.stdout.split()[:2]
    assert int(mebibytes) < 200 and float(seconds) < 12, ran.stdout


def test_what_is_within_reason_is_read_whole() -> None:
    page = "<main>" + "<div>" * 300 + "deep" + "</div>" * 300 + "<p>end</p></main>"
    blocks = read_markup(page, "http://x.example", "/").blocks.values()
    assert any("end" in b.text for b in blocks) and any("deep" in b.text for b in blocks)
    latin = b"HTTP/1.0 200 OK\r\nContent-Type: text/html; charset=latin-1\r\n\r\n<p>\xe9</p>"
    with sending(latin) as address, Visitor(address) as visitor:
        assert visitor.get("/").text == "<p>é</p>"
    with sending(b"moon") as address, Visitor(address) as visitor, pytest.raises(VisitError):
        visitor.get("/")


# -- names on a terminal -----------------------------------------------------------------------------------------

NAMES = (
    "\x1b[2Jcleared", "\x1b]0;title\x07", "\x1b[31mred", "back\x08\x08space", "car\rriage", "bell\x07", "c1\x9b31m",
    "del\x7f",
    "\u202eright-to-left", "\u200bhidden", "\x1bPdcs\x1b\\", "tab\tand\nline",
)  # fmt: skip
FORBIDDEN = set(map(chr, (*range(0x09), 0x0B, 0x0C, 0x0D, *range(0x0E, 0x20), *range(0x7F, 0xA0), 0x202E, 0x200B)))


def control_free(ran: Ran) -> None:
    found = FORBIDDEN & set(ran.out + ran.err)
    assert not found, f"{found}: {(ran.out + ran.err)[:400]!r}"


def test_control_characters_never_reach_the_terminal(scene: Scene) -> None:
    """In the names of files, in cells, labels, comments, versions, titles and arguments, through every command."""
    for number, name in enumerate(NAMES):
        (scene.root / "media" / f"{number}{name}.txt").write_text("x")
    (scene.root / "core/VERSION").write_text(f"3.4{NAMES[0]}\n")
    with closing(sqlite3.connect(scene.database)) as base:
        for name in NAMES:
            base.execute(
                "INSERT INTO loans (variety_id, name, email, taken_on, due_on) VALUES (1, ?, 'x', '2026-01-01', "
                "'2026-02-02')",
                (name,),
            )
        base.execute("UPDATE settings SET value = ? WHERE name = 'desk.greeting'", (NAMES[2],))
        base.commit()
    harbor(scene.folder, "snapshot", "take", "--label", "one")
    ended = FORBIDDEN - {"\x1b"}
    runs = [
        harbor(scene.folder, "snapshot", "take", "--label", name.replace("\n", ""), "--comment", name, code=None)
        for name in NAMES
    ]
    (scene.root / f"media/{NAMES[5]}.txt").write_text("new")
    for words in (
        ("survey",), ("ready", "--core", "4.0"), ("snapshot", "list"), ("snapshot", "show", "newest"),
        ("snapshot", "usage"),
        ("snapshot", "show", "newest", "--paths"), ("snapshot", "show", "newest", "--rows", "loans"), ("log",),
        ("clone", "list"),
        ("snapshot", "diff", "one", "newest"), ("snapshot", "diff", "one", "live", "--rows", "loans"),
        ("snapshot", "verify"),
        ("compare", "one", "live", "--no-pages"), ("plan", "draft", "--core", "4.0"), ("plan", "show"),
        ("plan", "check"),
        *[("snapshot", "show", name) for name in NAMES], *[("trial", "show", name) for name in NAMES[:3]],
        ("compare", NAMES[0], "live"), ("rollback", NAMES[1], "--yes"), ("snapshot", "restore", NAMES[2], "--to", "x"),
        ("clone", "close", NAMES[3]), ("snapshot", "import", NAMES[4]), ("cutover", NAMES[5]),
        ("snapshot", "thin", "--newest", "1", "--preview"),
        ("settle",), (NAMES[6],), ("survey", f"--{NAMES[1]}"),
    ):  # fmt: skip
        runs.append(harbor(scene.folder, *words, code=None))
        runs.append(harbor(scene.folder, *words, "--json", code=None))
    for ran in runs:
        control_free(ran)
    assert ended


def test_styles_are_the_tools_own_on_a_terminal(scene: Scene) -> None:
    harbor(scene.folder, "snapshot", "take", "--label", "a\x1b[31mb")
    shown = on_a_terminal(scene.folder, ["snapshot", "list"], [])
    assert "\x1b[31mb" not in shown and "␛[31mb" in shown


def test_what_is_visible() -> None:
    assert visible("a\x1b[0m\x7f\x9b\u202e\n\t") == "a␛[0m␡<9B><202E>\n\t"
    assert visible("caf\udce9") == "caf?"
    assert cold(Path(), ["--version"], environment()).code == 0
    assert json.dumps("\x1b") == '"\\u001b"' and resource.RLIMIT_AS
