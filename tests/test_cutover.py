"""Cutover and rollback on a served site: done as rehearsed, put back when not, and settled after a kill at any
moment."""

from __future__ import annotations

import contextlib
import json
import random
import re
import shutil
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from conftest import PROGRAM, Ran, cold, describe, environment, harbor, plain_dump, plain_files, query, state_of
from keenharbor.base.progress import Silent
from keenharbor.demo.scene import Host, Scene, set_scene
from keenharbor.demo.visitors import borrow, loans_of
from keenharbor.live.putting import reload_host
from keenharbor.site.load import open_site
from keenharbor.snapshot import verify_store
from keenharbor.store import Store

PLAN = """
format = 1
[plan]
site = "marrow-lane"
core = "3.4"
runtime = "2"

[[step]]
name = "update-member-cards"
kind = "package"
package = "member-cards"
version = "1.5"

[[step]]
name = "update-seed-search"
kind = "package"
package = "seed-search"
version = "2.0"
keep_settings = ["seed-search"]

[[step]]
name = "greeting"
kind = "setting"
database = "desk.greeting"
value = "Sow well!"

[[step]]
name = "old-links"
kind = "remove"
paths = ["core/old_links.py"]

[[step]]
name = "purge"
kind = "purge-cache"
"""
BREAKS = """
[[step]]
name = "breaks"
kind = "command"
command = ["sh", "-c", "echo something is wrong; exit 9"]
"""
CHECKS = """
[look]
limit = 6
"""


@dataclass
class Stage:
    """A served scene with a rehearsed plan, which can be put back to its start."""

    scene: Scene
    saved: Path

    def run(self, *words: str, code: int | None = 0) -> Ran:
        return harbor(self.scene.folder, *words, code=code)

    def put_back(self) -> None:
        """The files and the database as they were when the plan had been rehearsed."""
        for name in ("site", "database", "harbor"):
            # The site's worker may write to its log or cache at any time.
            shutil.rmtree(self.scene.folder / name, ignore_errors=True)
            shutil.copytree(self.saved / name, self.scene.folder / name, symlinks=True, dirs_exist_ok=True)
        for extra in self.scene.folder.glob("upgrade*.toml"):
            extra.unlink()
        shutil.copy(self.saved / "upgrade.toml", self.scene.folder / "upgrade.toml")
        reload_host(open_site(self.scene.site_file))

    def save(self) -> None:
        for name in ("site", "database", "harbor"):
            shutil.rmtree(self.saved / name, ignore_errors=True)
            shutil.copytree(self.scene.folder / name, self.saved / name, symlinks=True)
        shutil.copy(self.scene.folder / "upgrade.toml", self.saved / "upgrade.toml")


@pytest.fixture(scope="module")
def made_stage(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Stage]:
    folder = tmp_path_factory.mktemp("cutover")
    scene = set_scene(folder / "scene")
    describe(scene, CHECKS)
    with Host(scene):
        stage = Stage(scene, folder / "saved")
        stage.saved.mkdir()
        (scene.folder / "upgrade.toml").write_text(PLAN)
        assert stage.run("trial", "run", "--json").json["verdict"] == "pass"
        stage.save()
        yield stage


@pytest.fixture
def stage(made_stage: Stage) -> Stage:
    made_stage.put_back()
    return made_stage


def in_maintenance(scene: Scene) -> bool:
    return (scene.root / "var/maintenance.flag").exists()


def test_a_cutover_does_what_was_rehearsed_and_a_rollback_undoes_it_with_every_loan(stage: Stage) -> None:
    scene = stage.scene
    before = state_of(scene)
    borrow(scene.address, "Maren Tull", "long-tom-carrot")
    told = stage.run("cutover", "--yes", "--json").json
    assert told["drift"]["rows"] == {"loans": {"new": 1, "changed": 0, "removed": 0}}
    assert told["drift"]["serious"] == []
    assert not in_maintenance(scene)
    assert query(scene.database, "SELECT value FROM settings WHERE name = 'desk.greeting'") == [("Sow well!",)]
    assert "1.5" in (scene.root / "extensions/member-cards/extension.ini").read_text()
    assert not (scene.root / "core/old_links.py").exists()
    assert loans_of(scene.database_place, ("Maren Tull",)) == ["Maren Tull"]
    borrow(scene.address, "Kit Sandor", "long-tom-carrot")
    back = stage.run("rollback", "--yes", "--json").json
    assert back["exact"] and back["carried"] == {"loans": {"new": 1, "changed": 0, "removed": 0}}
    assert loans_of(scene.database_place, ("Maren Tull", "Kit Sandor")) == ["Maren Tull", "Kit Sandor"]
    files, dump = state_of(scene)
    assert files == before[0]
    assert [
        row for row in dump if "Maren Tull" not in row and "Kit Sandor" not in row and "sqlite_sequence" not in row
    ] == [row for row in before[1] if "sqlite_sequence" not in row]
    assert not in_maintenance(scene)
    assert [e["command"] for e in stage.run("log", "--json").json][-2:] == ["cutover", "rollback"]


def test_a_rollback_to_a_named_snapshot_carries_both_spans(stage: Stage) -> None:
    scene = stage.scene
    borrow(scene.address, "Maren Tull", "long-tom-carrot")
    stage.run("cutover", "--yes")
    borrow(scene.address, "Kit Sandor", "long-tom-carrot")
    first = stage.run("snapshot", "list", "--json").json[-1]["id"]
    assert stage.run("rollback", first, "--yes", "--json").json["carried"]["loans"]["new"] == 2
    assert loans_of(scene.database_place, ("Maren Tull", "Kit Sandor")) == ["Maren Tull", "Kit Sandor"]


def test_what_cannot_be_carried_is_saved(stage: Stage) -> None:
    scene = stage.scene
    stage.run("cutover", "--yes")
    query(scene.database, "UPDATE loans SET returned_on = '2026-12-01' WHERE id = 5")
    query(scene.database, "DELETE FROM loans WHERE id = 6")
    query(scene.database, "INSERT INTO pages VALUES ('late', 'Late', 'x')")
    first = stage.run("snapshot", "list", "--json").json[-1]["id"]
    told = stage.run("rollback", first, "--yes", "--json").json
    assert not told["exact"], "it is not from just before the cutover"
    saved = [json.loads(line) for line in Path(told["aside_file"]).read_text().splitlines()]
    assert [(s["row"]["id"], s["reason"][:7]) for s in saved] == [(5, "changed"), (6, "removed")]
    assert "table pages: 1 new row" in told["elsewhere"]
    held = stage.run("snapshot", "show", told["safety"], "--tables", "--json").json
    assert held["table_rows"]["pages"] == 3, "the state before the rollback is kept"


ADDS = """
[[step]]
name = "channel"
kind = "sql"
sql = "ALTER TABLE loans ADD COLUMN channel TEXT; CREATE TABLE tips (id INTEGER PRIMARY KEY, said TEXT)"

[[step]]
name = "about"
kind = "sql"
sql = "UPDATE pages SET title = 'About us all' WHERE slug = 'about'"
"""


BESIDE = """
[[step]]
name = "tip"
kind = "sql"
sql = "INSERT INTO tips VALUES (1, 'made beside')"
"""


def local_in(database: Path, address: str) -> list[str]:
    """What of this machine a database names beside the site's own address."""
    return re.findall(r"127\.0\.0\.1[:\w.]*", str(plain_dump(database)).replace(address, ""))


@contextlib.contextmanager
def during(script: Path, when: Callable[[], bool]) -> Iterator[None]:
    """Run a script once while the block runs, as soon as ``when`` says so."""
    over = threading.Event()

    def watch() -> None:
        while not over.wait(0.05):
            if when():
                time.sleep(0.5)
                subprocess.run(["sh", str(script)], check=True, timeout=30)
                return

    thread = threading.Thread(target=watch, daemon=True)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()


def test_a_way_back_brings_along_what_people_did_and_the_way_forward_too(stage: Stage) -> None:
    scene, database = stage.scene, stage.scene.database
    rehearse(stage, ADDS)
    tried = stage.run("trial", "show", "--json").json["way_back"]
    assert tried["works"] and tried["carried"] == {}, "no check writes here"
    gone = stage.run("cutover", "--yes", "--despite", "verdict", "--json").json
    assert gone["arrival"] and gone["spent"]["saving the arrival"] > 0
    borrow(scene.address, "Kit Sandor", "long-tom-carrot")
    newest = query(database, "SELECT max(id) FROM loans")[0][0]
    query(database, "UPDATE loans SET channel = 'web' WHERE id = ?", newest)
    query(database, "UPDATE loans SET returned_on = '2026-12-01' WHERE id = 5")
    query(database, "DELETE FROM loans WHERE id = 6")
    query(database, "INSERT INTO tips VALUES (1, 'Sow early.')")
    query(database, "UPDATE pages SET title = 'Who we are' WHERE slug = 'about'")
    (scene.root / "media/from-a-visitor.jpg").write_bytes(b"picture")
    (scene.root / "core/app.py").write_text((scene.root / "core/app.py").read_text() + "# edited on the new release\n")
    told = stage.run("rollback", "--look", "--json").json
    assert told["exact"] and told["carried"]["loans"] == {"new": 1, "changed": 1, "removed": 1}
    assert told["files"] == {"added": ["media/from-a-visitor.jpg"], "left": ["core/app.py"]}
    (conflict,) = told["conflicts"]
    assert (conflict["column"], conflict["theirs"], conflict["taken"]) == ("title", "Who we are", "theirs")
    there = state_of(scene)
    tried = stage.run("rollback", "--rehearse", "--json").json
    assert tried["works"] and tried["carried"] == told["carried"] and tried["files"] == 1
    assert state_of(scene) == there, "it was only read"
    shown = stage.run("rollback", "--look").out
    assert "Who we are" in shown and "from-a-visitor.jpg" in shown and "Nothing was changed" in shown
    back = stage.run("rollback", "--yes", "--json").json
    assert back["carried"] == told["carried"]
    assert query(database, "SELECT returned_on FROM loans WHERE id = 5") == [("2026-12-01",)]
    assert query(database, "SELECT count(*) FROM loans WHERE id = 6") == [(0,)]
    assert query(database, "SELECT title FROM pages WHERE slug = 'about'") == [("Who we are",)]
    assert query(database, "SELECT count(*) FROM sqlite_schema WHERE name = 'tips'") == [(0,)]
    assert loans_of(scene.database_place, ("Kit Sandor",)) == ["Kit Sandor"]
    assert (scene.root / "media/from-a-visitor.jpg").exists()
    assert "edited on" not in (scene.root / "core/app.py").read_text()
    kept = [json.loads(line) for line in Path(back["aside_file"]).read_text().splitlines()]
    assert {(k["table"], k["why"]) for k in kept} == {
        ("loans", "no column"), ("tips", "no table"), ("pages", "other side"),
    }  # fmt: skip
    assert stage.run("rollback", "--look", "--json").json["exact"] is False, "that way is gone"
    stage.run("trial", "run", "--snapshot", "live", code=None)
    again = stage.run("cutover", "--yes", "--despite", "verdict", "--json").json
    assert again["carried_on"] == {"loans": 1, "tips": 1}
    assert query(database, "SELECT channel FROM loans WHERE id = ?", newest) == [("web",)]
    assert query(database, "SELECT said FROM tips") == [("Sow early.",)]
    assert not list((scene.folder / "harbor").glob("not-carried-*"))


MOVES = """
[[step]]
name = "move"
kind = "sql"
sql = "CREATE TABLE letters (id INTEGER PRIMARY KEY, words TEXT, stamp INTEGER); INSERT INTO letters (id, words) SELECT id, text FROM hints; DROP TABLE hints"
carries = [{ table = "hints", to = "letters", columns = { words = "text" } }]
"""


def test_what_people_did_in_a_table_that_a_step_moved_goes_back_to_where_it_came_from(stage: Stage) -> None:
    database = stage.scene.database
    query(database, "CREATE TABLE hints (id INTEGER PRIMARY KEY, text TEXT)")
    query(database, "INSERT INTO hints VALUES (1, 'one'), (2, 'two'), (3, 'three')")
    (stage.scene.folder / "upgrade.toml").write_text(PLAN + MOVES)
    stage.run("trial", "run", "--snapshot", "live", code=None)
    stage.run("cutover", "--yes", "--despite", "verdict")
    query(database, "INSERT INTO letters VALUES (4, 'four', 70)")
    query(database, "UPDATE letters SET words = 'Two' WHERE id = 2")
    query(database, "DELETE FROM letters WHERE id = 3")
    back = stage.run("rollback", "--yes", "--json").json
    assert back["carried"] == {"hints": {"new": 1, "changed": 1, "removed": 1}}
    assert query(database, "SELECT * FROM hints ORDER BY id") == [(1, "one"), (2, "Two"), (4, "four")]
    assert query(database, "SELECT count(*) FROM sqlite_schema WHERE name = 'letters'") == [(0,)]
    query(database, "INSERT INTO hints VALUES (5, 'five')")
    stage.run("trial", "run", "--snapshot", "live", code=None)
    stage.run("cutover", "--yes", "--despite", "verdict")
    rows = query(database, "SELECT * FROM letters ORDER BY id")
    assert rows == [(1, "one", None), (2, "Two", None), (4, "four", 70), (5, "five", None)], "its stamp was kept"


def test_a_cutover_by_merge_brings_what_was_made_beside_live_with_what_changed_meanwhile(stage: Stage) -> None:
    scene, database = stage.scene, stage.scene.database
    before = local_in(database, scene.address)
    rehearse(stage, ADDS + BESIDE)
    meanwhile = scene.folder / "meanwhile.sh"
    db = f"sqlite3.connect({str(database)!r})"
    meanwhile.write_text(
        f"""test -e {scene.folder}/meanwhile.done && exit 0
touch {scene.folder}/meanwhile.done
python3 - <<'END'
import sqlite3
with {db} as db:
    db.execute("INSERT INTO loans (variety_id, name, email, taken_on, due_on) VALUES (1, 'Kit', 'k@post.example', "
               "'2026-11-25', '2027-07-01')")
    db.execute("UPDATE members SET name = 'Renamed Meanwhile' WHERE id = 3")
    db.execute("DELETE FROM loans WHERE id = 7")
    db.execute("UPDATE pages SET body = 'meanwhile' WHERE slug = 'about'")
END
echo picture > {scene.root}/media/meanwhile.txt
"""
    )
    with during(
        meanwhile,
        when=lambda: (scene.folder / "harbor/clones").exists() and any((scene.folder / "harbor/clones").iterdir()),
    ):
        gone = stage.run("cutover", "--by", "merge", "--yes", "--despite", "verdict", "--json").json
    assert gone["by"] == "merge" and (scene.folder / "meanwhile.done").exists()
    carried = gone["merged"]["carried"]
    assert carried["loans"] == {"new": 1, "changed": 0, "removed": 1} and carried["members"]["changed"] == 1
    assert gone["merged"]["files"] == 1 and gone["merged"]["conflicts"] == []
    assert query(database, "SELECT title, body FROM pages WHERE slug = 'about'") == [("About us all", "meanwhile")]
    assert query(database, "SELECT name FROM members WHERE id = 3") == [("Renamed Meanwhile",)]
    assert query(database, "SELECT count(*) FROM loans WHERE name = 'Kit' AND channel IS NULL") == [(1,)]
    assert query(database, "SELECT value FROM settings WHERE name = 'desk.greeting'") == [("Sow well!",)]
    assert query(database, "SELECT said FROM tips") == [("made beside",)]
    assert (scene.root / "media/meanwhile.txt").read_text() == "picture\n"
    assert "1.5" in (scene.root / "extensions/member-cards/extension.ini").read_text()
    assert not (scene.root / "core/old_links.py").exists()
    left = [p for p in plain_files(scene.root) if b"/clones/" in (scene.root / p).read_bytes()]
    assert left == []
    assert local_in(database, scene.address) == before, "nothing of the clone came over"
    assert stage.run("clone", "list", "--json").json == []
    back = stage.run("rollback", "--yes", "--json").json
    assert back["exact"] and back["carried"] == {}
    assert query(database, "SELECT name FROM members WHERE id = 3") == [("Renamed Meanwhile",)]
    assert query(database, "SELECT title FROM pages WHERE slug = 'about'") != [("About us all",)]


def test_a_clone_in_which_somebody_worked_is_brought_live(stage: Stage) -> None:
    scene, database = stage.scene, stage.scene.database
    before = local_in(database, scene.address)
    made = stage.run("clone", "make", "--json").json
    clone = scene.folder / "harbor/clones" / made["id"]
    theirs = Path(json.loads((clone / "clone.json").read_text())["database"])
    query(theirs, "UPDATE pages SET title = 'About the lane' WHERE slug = 'about'")
    query(theirs, "INSERT INTO pages VALUES ('swap', 'Swap day', 'Bring seeds.')")
    (clone / "site/media/swap.txt").write_text("swap")
    (clone / "site/core/old_links.py").unlink()
    borrow(scene.address, "Kit Sandor", "long-tom-carrot")
    query(database, "UPDATE pages SET body = 'meanwhile' WHERE slug = 'about'")
    refused = stage.run("cutover", "--from-clone", made["id"], "--by", "steps", code=2)
    assert "needs no plan" in refused.err
    gone = stage.run("cutover", "--from-clone", made["id"], "--yes", "--json").json
    assert (gone["by"], gone["merged"]["conflicts"], gone["merged"]["files"]) == ("merge", [], 0)
    assert query(database, "SELECT title, body FROM pages WHERE slug IN ('about', 'swap') ORDER BY slug") == [
        ("About the lane", "meanwhile"), ("Swap day", "Bring seeds."),
    ]  # fmt: skip
    assert loans_of(scene.database_place, ("Kit Sandor",)) == ["Kit Sandor"]
    assert (scene.root / "media/swap.txt").exists() and not (scene.root / "core/old_links.py").exists()
    assert local_in(database, scene.address) == before, "nothing of the clone came over"
    assert "Seeds to lend" in borrow_page(scene)
    borrow(scene.address, "Maren Tull", "long-tom-carrot")
    back = stage.run("rollback", "--yes", "--json").json
    assert back["exact"] and back["carried"]["loans"]["new"] == 1
    assert query(database, "SELECT count(*) FROM pages WHERE slug = 'swap'") == [(0,)]
    assert loans_of(scene.database_place, ("Kit Sandor", "Maren Tull")) == ["Kit Sandor", "Maren Tull"]
    stage.run("clone", "close", made["id"])


def test_a_step_that_fails_beside_live_touches_nothing(stage: Stage) -> None:
    scene = stage.scene
    rehearse(stage, BREAKS)
    before = state_of(scene)
    refused = stage.run("cutover", "--by", "merge", "--yes", "--despite", "verdict", code=3)
    assert "step 'breaks' failed on the clone beside live" in refused.err and "live was not touched" in refused.err
    assert state_of(scene) == before and not in_maintenance(scene)


def test_a_way_back_holds_its_snapshots_until_it_is_closed(stage: Stage) -> None:
    gone = stage.run("cutover", "--yes", "--json").json
    thinned = stage.run("snapshot", "thin", "--newest", "0", "--preview", "--json").json
    held = {s["id"]: s["why"] for s in thinned["stay"]}
    assert all("rollback --close" in held[i] for i in (gone["safety"], gone["arrival"]))
    assert stage.run("rollback", "--close", "--json").json == {"closed": [gone["safety"]]}
    assert stage.run("rollback", "--close", "--json").json == {"closed": []}
    told = stage.run("rollback", "--look", "--json").json
    assert (told["target"], told["exact"]) == (gone["safety"], False)


def test_the_rule_of_a_table_says_who_wins_and_what_was_nobodys_work_stays_behind(stage: Stage) -> None:
    scene, database = stage.scene, stage.scene.database
    rehearse(stage, ADDS)
    described = scene.site_file.read_text()
    stage.run("cutover", "--yes", "--despite", "verdict")
    query(database, "UPDATE pages SET title = 'Who we are' WHERE slug = 'about'")
    query(database, "UPDATE loans SET email = 'x'")
    try:
        scene.site_file.write_text(described + '\n[merge.tables]\npages = "ask"\n')
        refused = stage.run("rollback", "--yes", code=2)
        assert "--prefer live" in refused.err and "pages about" in refused.err
        assert "no table or column 'loans.nothing'" in stage.run("rollback", "--without", "loans.nothing", code=2).err
        shown = stage.run("rollback", "--look").out
        assert "loans.email changed" not in shown and "if that was no" not in shown, "they were not alike before"
        stage.run("rollback", "--yes", "--prefer", "snapshot", "--without", "loans.email")
    finally:
        scene.site_file.write_text(described)
    assert query(database, "SELECT count(*) FROM loans WHERE email = 'x'") == [(0,)]
    assert query(database, "SELECT title FROM pages WHERE slug = 'about'") != [("Who we are",)]


def test_back_over_two_cutovers_with_what_was_done_between_them(stage: Stage) -> None:
    scene, database = stage.scene, stage.scene.database
    first = stage.run("cutover", "--yes", "--json").json
    borrow(scene.address, "Maren Tull", "long-tom-carrot")
    (scene.folder / "upgrade.toml").write_text(PLAN[: PLAN.index("[[step]]")] + ADDS)
    stage.run("trial", "run", "--snapshot", "live", code=None)
    stage.run("cutover", "--yes", "--despite", "verdict")
    borrow(scene.address, "Kit Sandor", "long-tom-carrot")
    told = stage.run("rollback", first["safety"], "--look", "--json").json
    assert told["cutovers"] == 2 and told["exact"]
    refused = stage.run("rollback", first["safety"], "--rehearse", code=2)
    assert "only the way back over the last can be rehearsed" in refused.err
    back = stage.run("rollback", first["safety"], "--yes", "--json").json
    assert back["target"] == first["safety"] and back["carried"]["loans"]["new"] == 2
    assert [r["carried"] for r in back["on_the_way"]] == [{"loans": {"new": 1, "changed": 0, "removed": 0}}]
    assert loans_of(scene.database_place, ("Maren Tull", "Kit Sandor")) == ["Maren Tull", "Kit Sandor"]
    assert query(database, "SELECT count(*) FROM sqlite_schema WHERE name = 'tips'") == [(0,)]
    assert "1.5" not in (scene.root / "extensions/member-cards/extension.ini").read_text()


def rehearse(stage: Stage, more: str) -> None:
    plan = stage.scene.folder / "upgrade.toml"
    plan.write_text(PLAN + more)
    stage.run("trial", "run", code=None)


def test_a_step_that_fails_puts_everything_back(stage: Stage) -> None:
    scene = stage.scene
    rehearse(stage, BREAKS)
    assert "ended with 'fail'" in stage.run("cutover", "--yes", code=2).err
    before = state_of(scene)
    ran = stage.run("cutover", "--yes", "--despite", "verdict", code=4)
    assert "step 'breaks' failed: it ended with code 9: something is wrong; everything was put back" in ran.err
    assert state_of(scene) == before
    assert not in_maintenance(scene)
    assert not (scene.folder / "harbor/journal.json").exists()
    assert "Seeds to lend" in borrow_page(scene)
    assert stage.run("log", "--json").json[-1]["outcome"] == "put back"


def borrow_page(scene: Scene) -> str:
    from keenharbor.compare import Visitor

    with Visitor(scene.address) as visitor:
        return visitor.get("/").text


def test_what_the_trial_did_not_show_puts_everything_back(stage: Stage) -> None:
    """The feed's package changes between trial and cutover: live then shows what the rehearsal had not."""
    scene = stage.scene
    rehearse(
        stage,
        '\n[[step]]\nname = "odd"\nkind = "command"\ncommand = ["sh", "-c", "test ! -e ../odd || rm '
        'media/seeds/*.png"]\n',
    )
    (scene.folder / "odd").write_text("now")
    before = state_of(scene)
    ran = stage.run("cutover", "--yes", code=4)
    (scene.folder / "odd").unlink()
    assert "live differs from the trial: in " in ran.err and "and 1 more" not in ran.err
    told = [line for line in ran.err.splitlines() if line.startswith("  damage: ")]
    assert told and any("/media/seeds/winter-savory.png" in line for line in told), ran.err
    assert state_of(scene) == before


COUNTS = """

_register = register


def register(site):
    _register(site)

    def counted(request):
        with site.engine.work() as work:
            work.run("UPDATE pages SET title = CAST(CAST(title AS INTEGER) + 1 AS TEXT) WHERE slug = 'counter'")

    site.before_answer.append(counted)
"""


def test_what_visits_write_is_not_taken_for_the_steps_doing(stage: Stage) -> None:
    """A page counts its visitors in a table of the site's own: so do the tool's looks before and behind the steps."""
    scene = stage.scene
    query(scene.database, "INSERT INTO pages VALUES ('counter', '1', 'x')")
    counts = "SELECT CAST(title AS INTEGER) FROM pages WHERE slug = 'counter'"
    with (scene.root / "extensions/growers-notes/main.py").open("a") as file:
        file.write(COUNTS)
    reload_host(open_site(scene.site_file))
    stage.run("trial", "run", "--snapshot", "live")
    ((before,),) = query(scene.database, counts)
    stage.run("cutover", "--yes")
    ((after,),) = query(scene.database, counts)
    assert after > before, "the looks were counted"


def test_a_changed_plan_and_a_changed_site_are_refused(stage: Stage) -> None:
    scene = stage.scene
    plan = scene.folder / "upgrade.toml"
    plan.write_text(PLAN.replace("Sow well", "Sow better"))
    assert "the plan was changed after its last trial" in stage.run("cutover", "--yes", code=2).err
    plan.write_text(PLAN + "\n# only a remark\n")
    (scene.root / "core/app.py").write_text((scene.root / "core/app.py").read_text() + "\n# edited since\n")
    before = state_of(scene)
    ran = stage.run("cutover", "--yes", code=2)
    assert "live is not the site that was rehearsed any more: core/app.py (core)" in ran.err
    assert state_of(scene) == before
    stage.run("cutover", "--yes", "--despite", "drift")
    assert "# edited since" in (scene.root / "core/app.py").read_text()


def test_another_description_of_the_site_needs_another_trial(stage: Stage) -> None:
    described = stage.scene.site_file.read_text()
    try:
        stage.scene.site_file.write_text(described.replace("limit = 6", "limit = 7"))
        refused = stage.run("cutover", "--yes", code=2)
        assert (
            "[look] of the site file changed since the trial" in refused.err and "--despite description" in refused.err
        )
        stage.scene.site_file.write_text(described + '\n[verdict.weights]\n"text-changed" = "note"\n')
        assert "changed since the trial" not in stage.run("cutover", code=2).err, "that is how findings are weighed"
    finally:
        stage.scene.site_file.write_text(described)


def test_without_a_terminal_nothing_is_overwritten_unasked(stage: Stage) -> None:
    before = state_of(stage.scene)
    for words in (("cutover",), ("rollback", "newest"), ("cutover", "--json")):
        ran = stage.run(*words, code=2)
        told = ran.err or ran.json["error"]["what"]
        assert "Nobody is there to ask" in told
    assert "from core 3.4" in stage.run("cutover", code=2).err
    assert state_of(stage.scene) == before
    assert "there was no cutover to go back from" in stage.run("rollback", "--yes", code=2).err


def test_a_live_site_that_does_not_answer_stops_a_cutover_before_anything_is_changed(stage: Stage) -> None:
    site_file = stage.scene.site_file
    text = site_file.read_text()
    before = state_of(stage.scene)
    try:
        site_file.write_text(text.replace(f'address = "{stage.scene.address}"', 'address = "http://127.0.0.1:9"'))
        ran = stage.run("cutover", "--yes", code=3)
    finally:
        site_file.write_text(text)
    assert "live does not answer" in ran.err
    assert state_of(stage.scene) == before
    assert not in_maintenance(stage.scene)
    assert stage.run("settle", "--json").json == {"settled": None}


def test_two_runs_on_one_site_do_not_meet(stage: Stage) -> None:
    from keenharbor.host.lease import held

    with held(stage.scene.folder / "harbor/site.lock", "the site"):
        ran = stage.run("cutover", "--yes", code=3)
    assert "is in use by another run: it runs since" in ran.err


# -- killed at any moment ------------------------------------------------------------------------------------


def killed(scene: Scene, words: tuple[str, ...], after: float) -> bool:
    """Run a command and kill it after so many seconds; False when it had ended by itself."""
    with subprocess.Popen(
        [*PROGRAM, *words],
        cwd=scene.folder,
        env=environment(),
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    ) as running:
        try:
            running.wait(after)
            return False
        except subprocess.TimeoutExpired:
            running.send_signal(signal.SIGKILL)
            return True


def kill_at_random(stage: Stage, words: tuple[str, ...], count: int, prepare: Callable[[], None]) -> dict[str, int]:
    """Kill ``words`` at ``count`` random moments; each time, one command settles it. Returns how often live was as
    before and as after."""
    scene = stage.scene
    stage.put_back()
    prepare()
    before = state_of(scene)
    took = []
    for _ in range(2):  # the shorter of two: a busy moment would put most of the kills behind the end
        stage.put_back()
        prepare()
        began = time.monotonic()
        assert cold(scene.folder, [*words], environment()).code == 0
        took.append(time.monotonic() - began)
    whole = min(took)
    after = state_of(scene)
    chance = random.Random(f"{words} 20261125")
    outcomes = {"before": 0, "after": 0, "journals": 0}
    for number in range(count):
        stage.put_back()
        prepare()
        assert state_of(scene) == before
        # One moment in each stretch of the run, so that none is left untried.
        moment = whole * (number + chance.random()) / count
        killed(scene, words, moment)
        outcomes["journals"] += (scene.folder / "harbor/journal.json").exists()
        if (scene.folder / "harbor/journal.json").exists():
            refused = stage.run("snapshot", "take", code=5)
            assert "keenharbor settle" in refused.err
        stage.run("settle")
        now = state_of(scene)
        apart = [
            (sorted(set(now[0].items()) ^ set(end[0].items()))[:4], sorted(set(now[1]) ^ set(end[1]))[:4])
            for end in (before, after)
        ]
        assert now in (before, after), f"killed after {moment:.3f} s of {whole:.3f} s, live is in between: {apart}"
        outcomes["before" if now == before else "after"] += 1
        assert not in_maintenance(scene), f"killed after {moment:.3f} s, visitors are locked out"
        assert "Seeds to lend" in borrow_page(scene)
        store = Store(open_site(scene.site_file).store_folder)
        told = verify_store(store, Silent())
        assert told.good, told
        assert not list((store.folder / "staging").glob("*.part"))
        assert stage.run("settle", "--json").json == {"settled": None} if number == 0 else True
    return outcomes


@pytest.mark.slow
def test_a_cutover_killed_at_any_moment_settles(made_stage: Stage) -> None:
    # Looks before and behind take most of it: so many stretches that one lies in the change.
    outcomes = kill_at_random(made_stage, ("cutover", "--yes"), 8, lambda: None)
    assert outcomes["before"] >= 2
    assert outcomes["journals"] >= 1, "no kill fell into the change"


@pytest.mark.slow
def test_a_rollback_killed_at_any_moment_settles(made_stage: Stage) -> None:
    stage = made_stage
    stage.put_back()
    stage.run("cutover", "--yes")
    for name in ("Maren Tull", "Kit Sandor"):
        borrow(stage.scene.address, name, "long-tom-carrot")
    original = stage.saved
    stage.saved = original.parent / "cut-over"
    stage.saved.mkdir(exist_ok=True)
    stage.save()
    try:
        outcomes = kill_at_random(stage, ("rollback", "--yes"), 5, lambda: None)
    finally:
        stage.saved = original
    assert outcomes["before"] + outcomes["after"] == 5


def test_a_step_program_that_outlives_its_run_is_waited_for(stage: Stage) -> None:
    """The lock is inherited: settling must not begin while a migration of the killed run still writes."""
    scene = stage.scene
    slow = (
        '\n[[step]]\nname = "slow"\nkind = "command"\ncommand = ["sh", "-c", "touch ../started; sleep 2; echo late > '
        'core/late.txt"]\nexpects = ["core/late.txt"]\n'
    )
    rehearse(stage, slow)
    (scene.folder / "started").unlink(missing_ok=True)
    before = state_of(scene)
    with subprocess.Popen([*PROGRAM, "cutover", "--yes", "--despite", "verdict"], cwd=scene.folder, env=environment(),
        stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL) as running:  # fmt: skip
        end = time.monotonic() + 60
        while not (scene.folder / "started").exists() and time.monotonic() < end:
            time.sleep(0.02)
        running.send_signal(signal.SIGKILL)
    stage.run("settle")
    time.sleep(0.2)
    (scene.folder / "started").unlink()
    assert state_of(scene) == before


def test_a_trial_after_a_change_of_live_starts_from_live_as_it_is(stage: Stage) -> None:
    stage.run("cutover", "--yes")
    before = {s["id"] for s in stage.run("snapshot", "list", "--json").json}
    ran = stage.run("trial", "run", code=None)
    assert "live was changed by a cutover since the newest snapshot: a new one is taken" in " ".join(ran.err.split())
    (new,) = [s for s in stage.run("snapshot", "list", "--json").json if s["id"] not in before]
    assert new["reason"] == "before a trial"
    stage.run("trial", "run", code=None)
    assert len(stage.run("snapshot", "list", "--json").json) == len(before) + 1, (
        "nothing changed since: the newest will do"
    )
