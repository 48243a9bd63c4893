"""The made-up site on a database server: snapshots, drills, trials and the way back work as on a file."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import tarfile
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest

from conftest import describe, harbor
from keenharbor.database import open_database
from keenharbor.database.private_server import PrivateServer, missing_program
from keenharbor.demo.scene import Host, Scene, remove_scene, set_scene
from keenharbor.demo.visitors import borrow, loans_of
from place_servers import need_program
from test_engines import need

FEW = """
[look]
limit = 5
[[check]]
name = "a member logs in"
writes = true
steps = [{ get = "/login" }, { submit = "login", fields = { card = "ML-003", password = "cress-3" }, text = "Welcome" }]
"""


@pytest.fixture(scope="module", params=["mariadb", "postgres"])
def served(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Scene]:
    need(request.param)
    scene = set_scene(tmp_path_factory.mktemp("server") / "scene", engine=request.param)
    try:
        describe(scene, FEW)
        with Host(scene):
            yield scene
    finally:
        remove_scene(scene.folder)


def test_the_site_is_found_by_its_own_settings(served: Scene) -> None:
    told = harbor(served.folder, "survey", "--json").json
    assert told["engine"] == served.engine
    assert told["tables"]["loans"] > 400
    assert harbor(served.folder, "ready", "--core", "4.0", "--json", code=1).json["verdict"] == "blocked"


def test_it_is_saved_proven_and_given_back_with_nothing_left_behind(served: Scene) -> None:
    before = {p.pid for p in psutil.process_iter()}
    taken = harbor(served.folder, "snapshot", "take", "--label", "one", "--json").json
    assert taken["rows"] > 500
    temporary = Path(tempfile.mkdtemp(prefix="harbor-served-"))  # not in pytest's, which other users cannot reach
    temporary.chmod(0o711)
    told = harbor(served.folder, "snapshot", "drill", "one", "--json", TMPDIR=str(temporary)).json
    assert told["good"] and told["checks"] == 1 and told["differences"] == []
    assert borrow(served.address, "Maren Tull", "long-tom-carrot").startswith("Lent")
    harbor(served.folder, "snapshot", "restore", "one", "--live", "--yes")
    assert loans_of(served.database_place, ("Maren Tull",)) == []
    assert borrow(served.address, "Kit Sandor", "long-tom-carrot").startswith("Lent")
    manifest = next((served.folder / "harbor/store/snapshots").glob("*.json"))
    assert "password" not in json.loads(manifest.read_text())["document"]["database"]["place"]
    started = [" ".join(p.info["cmdline"] or ()) for p in psutil.process_iter(["cmdline"]) if p.pid not in before]
    of_the_drill = [c for c in started if str(temporary) in c or str(served.folder) in c]
    assert not [c for c in of_the_drill if "--datadir=" in c or "/cluster" in c], "a server of the drill still runs"
    assert not list(temporary.iterdir())
    temporary.rmdir()


def test_what_needs_a_server_comes_as_text_into_a_folder(served: Scene, tmp_path: Path) -> None:
    harbor(served.folder, "snapshot", "take", "--label", "text")
    told = harbor(served.folder, "snapshot", "restore", "text", "--to", tmp_path / "back", "--json").json
    text = (tmp_path / "back/database/marrow_lane.sql").read_text()
    assert told["database"] == str(tmp_path / "back/database/marrow_lane.sql")
    assert "Saved on the lane since the first summer" in text
    some = harbor(
        served.folder, "snapshot", "restore", "text", "--to", tmp_path / "some", "--table", "events", "--json"
    ).json
    assert some["rows"] == 60 and (tmp_path / "some/database/events.csv").read_text().count("\n") == 61
    moved = ("--to", tmp_path / "moved", "--new-address", "https://new.example")
    assert (
        "SQL text and CSV are not rewritten" in harbor(served.folder, "snapshot", "restore", "text", *moved, code=2).err
    )
    url = served.database_place.with_name("moved").url
    told = harbor(served.folder, "snapshot", "restore", "text", *moved, "--database", url, "--json").json
    assert told["rewritten_cells"] >= 3
    with open_database(served.database_place.with_name("moved")).reading() as state:
        (value,) = [r for r in state.rows("settings") if r[0] == "site.address"]
    assert value[1] == "https://new.example"
    open_database(served.database_place.with_name("moved")).drop()


def test_a_database_server_is_for_its_owner_alone(served: Scene) -> None:
    server = PrivateServer.read(served.server_file)
    for folder in {server.folder, server.socket_folder}:
        assert Path(folder).stat().st_mode & 0o077 == 0, folder


def test_a_clone_has_a_server_of_its_own_and_names_nothing_of_live(served: Scene) -> None:
    made = harbor(served.folder, "clone", "make", "--json").json
    folder = served.folder / "harbor/clones" / made["id"]
    facts = json.loads((folder / "clone.json").read_text())
    settings = (folder / "site/settings.ini").read_text()
    live = served.database_place
    assert live.socket not in settings
    assert PrivateServer(**facts["server"]).place.socket in settings
    assert PrivateServer(**facts["server"]).running
    harbor(served.folder, "clone", "close", made["id"])
    time.sleep(0.2)
    assert not PrivateServer(**facts["server"]).running
    assert not folder.exists() and not Path(facts["server"]["socket_folder"]).exists()


def test_a_database_can_be_made_on_a_server_that_the_site_file_names(served: Scene) -> None:
    text = served.site_file.read_text()
    url = served.database_place.with_name("scratch").url
    served.site_file.write_text(text + f'\n[database]\nscratch_url = "{url}"\n')
    try:
        made = harbor(served.folder, "clone", "make", "--json").json
        facts = json.loads((served.folder / "harbor/clones" / made["id"] / "clone.json").read_text())
        assert facts["server"] is None and facts["own_database"]
        name = f"scratch_{made['id'].replace('-', '_')}"
        assert open_database(served.database_place.with_name(name)).exists()
        harbor(served.folder, "clone", "close", made["id"])
        assert not open_database(served.database_place.with_name(name)).exists()
    finally:
        served.site_file.write_text(text)


def test_live_is_not_overwritten_under_another_name(served: Scene) -> None:
    live = served.database_place
    count = query_rows(served)
    url = f"{live.engine}://{live.user}:some-word@/{live.name}?socket={live.socket}"
    words = ("snapshot", "restore", "text", "--database", url, "--overwrite", "--yes")
    assert "this is the live site's database" in harbor(served.folder, *words, code=2).err
    assert query_rows(served) == count


def query_rows(scene: Scene) -> int:
    with open_database(scene.database_place).reading() as state:
        return sum(1 for _ in state.rows("loans"))


def test_a_clone_that_would_work_on_live_is_refused(served: Scene) -> None:
    """The site file knows the database, but not by which of the site's settings its code finds it."""
    text = served.site_file.read_text()
    platform = served.folder / "tansy.toml"
    whole = platform.read_text()
    start = whole.index("[database.settings]")
    platform.write_text(whole[:start] + whole[whole.index("[address]") :])
    served.site_file.write_text(text + f'\n[database]\nurl = "{served.database_place.url}"\n')
    try:
        ran = harbor(served.folder, "clone", "make", code=3)
        assert "cannot be made to name its own database" in ran.err
        assert list((served.folder / "harbor/clones").iterdir()) == []
        drilled = harbor(served.folder, "snapshot", "drill", "text", code=3)
        assert "cannot be made to name its own database" in drilled.err
        shown = harbor(served.folder, "snapshot", "show", "text").out
        assert "it did not come up" not in shown, "that is no fault of the snapshot"
    finally:
        platform.write_text(whole)
        served.site_file.write_text(text)


def test_a_plan_is_rehearsed_goes_live_by_merge_and_back_with_what_visitors_did(served: Scene) -> None:
    (served.folder / "upgrade.toml").write_text(
        'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n'
        '[[step]]\nname = "channel"\nkind = "sql"\nsql = "ALTER TABLE loans ADD COLUMN channel VARCHAR(20)"\n'
        '[[step]]\nname = "about"\nkind = "sql"\nsql = "UPDATE pages SET title = \'Us\' WHERE slug = \'about\'"\n'
    )
    told = harbor(served.folder, "trial", "run", "--json", code=None).json
    assert told["isolation"]["untouched"] and not told["isolation"]["traces"]
    assert told["isolation"]["rewritten_files"] >= 1 and told["way_back"]["works"], told["way_back"]
    assert list((served.folder / "harbor/clones").iterdir()) == []
    assert borrow(served.address, "Maren Tull", "long-tom-carrot").startswith("Lent")
    gone = harbor(served.folder, "cutover", "--by", "merge", "--despite", "verdict", "--yes", "--json", code=None).json
    assert gone["by"] == "merge" and gone["arrival"] and gone["merged"]["conflicts"] == []
    assert borrow(served.address, "Kit Sandor", "long-tom-carrot").startswith("Lent")
    database = open_database(served.database_place)
    with database.writing() as writer:
        writer.script("UPDATE loans SET channel = 'web' WHERE name = 'Kit Sandor'")
        writer.script("DELETE FROM loans WHERE id = 6")
    back = harbor(served.folder, "rollback", "--yes", "--json").json
    assert back["exact"] and back["carried"]["loans"] == {"new": 1, "changed": 0, "removed": 1}
    assert loans_of(served.database_place, ("Maren Tull", "Kit Sandor")) == ["Maren Tull", "Kit Sandor"]
    with database.reading() as state:
        assert "channel" not in next(t for t in state.schema.tables if t.name == "loans").columns
        assert ("about", "Us") not in {r[:2] for r in state.rows("pages")}
    assert borrow(served.address, "Maren Tull", "stone-path-thyme")


def test_a_lost_connection_is_a_clear_error_and_leaves_no_snapshot(served: Scene) -> None:
    count = len(harbor(served.folder, "snapshot", "list", "--json").json)
    server = PrivateServer.read(served.server_file)
    server.stop()
    try:
        ran = harbor(served.folder, "snapshot", "take", code=3)
        assert "the database server does not answer" in ran.err
        assert len(harbor(served.folder, "snapshot", "list", "--json").json) == count
        assert harbor(served.folder, "snapshot", "verify", "--json").json["good"]
    finally:
        server.start()
        server.write(served.server_file)
    harbor(served.folder, "snapshot", "take")


def test_an_engine_that_is_not_known_or_installed_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    assert "is not one of" in harbor(tmp_path, "demo", "--database", "dbase", code=2).err
    monkeypatch.setattr(shutil, "which", lambda *a, **k: None)
    assert missing_program("mariadb") == "the program mariadb-install-db is not installed"


def test_without_the_tool_its_rows_come_out_of_a_place_as_an_export_writes_them(served: Scene, tmp_path: Path) -> None:
    need_program("age", "zstd")
    taken = harbor(served.folder, "snapshot", "take", "--json").json["id"]
    text = served.site_file.read_text()
    try:
        harbor(served.folder, "place", "add", "cellar", tmp_path / "disk", "--key-to", tmp_path / "key")
        harbor(served.folder, "place", "send", "cellar")
    finally:
        served.site_file.write_text(text)
    words = [sys.executable, "rescue.py", "take", ".", str(tmp_path / "key"), taken, "out"]
    subprocess.run(words, cwd=tmp_path / "disk", check=True, capture_output=True)
    harbor(served.folder, "snapshot", "export", taken, tmp_path / "whole.tar.gz")
    with tarfile.open(tmp_path / "whole.tar.gz") as archive:
        (name,) = (n for n in archive.getnames() if n.startswith("database/") and n.endswith(".sql"))
        exported = archive.extractfile(name)
        assert exported is not None
        told = exported.read().decode("utf-8", "surrogateescape")
    made = (tmp_path / "disk/out/database.sql").read_bytes().decode("utf-8", "surrogateescape")
    assert statements(made) == statements(told)


def statements(text: str) -> list[str]:
    """The lines of SQL, wherever rows are divided into statements."""
    return [w.rstrip(",;") for w in text.splitlines() if not w.startswith("INSERT INTO")]
