"""One step of a cutover taken back, the rest of it stays."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from conftest import query, state_of
from keenharbor.demo.story import borrow
from test_cutover import ADDS, PLAN, Stage, loans_of, made_stage, rehearse, stage

__all__ = ["made_stage", "stage"]
MORE = """
[[step]]
name = "greeting-again"
kind = "setting"
database = "desk.greeting"
value = "Reap well!"

[[step]]
name = "views"
kind = "sql"
sql = "CREATE VIEW open_loans AS SELECT * FROM loans WHERE returned_on IS NULL; CREATE INDEX loans_by_day ON loans (taken_on)"
"""


def greeting(stage: Stage) -> str:
    return str(query(stage.scene.database, "SELECT value FROM settings WHERE name = 'desk.greeting'")[0][0])


def test_a_step_is_taken_back_alone_and_then_the_rest(stage: Stage) -> None:
    scene, database = stage.scene, stage.scene.database
    before = state_of(scene)
    rehearse(stage, ADDS)
    assert "no way back is open" in stage.run("rollback", "--only", "channel", code=2).err
    stage.run("cutover", "--yes", "--despite", "verdict")
    borrow(scene.address, "Kit Sandor", "long-tom-carrot")
    newest = query(database, "SELECT max(id) FROM loans")[0][0]
    query(database, "UPDATE loans SET channel = 'web' WHERE id = ?", newest)
    query(database, "UPDATE loans SET returned_on = '2026-12-01' WHERE id = 5")
    there = state_of(scene)
    assert "had no step 'chanel'" in stage.run("rollback", "--only", "chanel", code=2).err
    told = stage.run("rollback", "--only", "channel", "--look", "--json").json
    assert told["goes_back"] == {
        "files": [], "tables": {"loans": 0, "tips": 0}, "definitions": ["table loans", "table tips"]
    }  # fmt: skip
    assert told["carried"] == {"loans": {"new": 1, "changed": 1, "removed": 0}}
    shown = stage.run("rollback", "--only", "channel", "--look").out
    assert "keenharbor rollback --only channel" in shown and "Nothing was changed" in shown
    assert stage.run("rollback", "--only", "channel", "--rehearse", "--json").json["works"] is True
    assert state_of(scene) == there, "it was only read"
    back = stage.run("rollback", "--only", "channel", "--yes", "--json").json
    assert back["carried"] == told["carried"]
    kept = [json.loads(line) for line in Path(back["aside_file"]).read_text().splitlines()]
    assert [(k["table"], k["row"]) for k in kept] == [("loans", {"channel": "web"})]
    assert "channel" not in [c[1] for c in query(database, "PRAGMA table_info(loans)")]
    assert query(database, "SELECT returned_on FROM loans WHERE id = 5") == [("2026-12-01",)]
    assert query(database, "SELECT count(*) FROM sqlite_schema WHERE name = 'tips'") == [(0,)]
    assert loans_of(scene.database_place, ("Kit Sandor",)) == ["Kit Sandor"]
    assert (
        greeting(stage) == "Sow well!" and "1.5" in (scene.root / "extensions/member-cards/extension.ini").read_text()
    )
    assert stage.run("log", "--json").json[-1]["command"] == "rollback of a step"
    # Files and what they say of themselves go back, too; others stay.
    stage.run("rollback", "--only", "update-member-cards", "--yes")
    assert "1.4" in (scene.root / "extensions/member-cards/extension.ini").read_text()
    assert "2.0" in (scene.root / "extensions/seed-search/extension.ini").read_text()
    # The way back over the whole cutover is open as before.
    stage.run("rollback", "--yes")
    files, dump = state_of(scene)
    assert files == before[0]
    new = [r for r in dump if r not in before[1]]
    assert all("Kit Sandor" in r or "2026-12-01" in r or "sqlite_sequence" in r for r in new), new


def test_a_step_on_which_another_built_is_refused(stage: Stage) -> None:
    scene = stage.scene
    rehearse(stage, ADDS + MORE)
    stage.run("cutover", "--yes", "--despite", "verdict")
    there = state_of(scene)
    said = stage.run("rollback", "--only", "greeting", "--yes", code=2).err
    assert "cannot be taken back alone: step 'greeting-again' changed the same row of settings (desk.greeting)" in said
    assert "keenharbor rollback goes back to before the whole cutover" in said
    assert state_of(scene) == there
    stage.run("rollback", "--only", "greeting-again", "--yes")
    assert greeting(stage) == "Sow well!"
    stage.run("rollback", "--only", "views", "--yes")
    made = {r[0] for r in query(scene.database, "SELECT name FROM sqlite_schema")}
    assert not made & {"open_loans", "loans_by_day"}


def test_what_it_goes_by_is_held_while_the_way_back_is_open(stage: Stage) -> None:
    scene = stage.scene
    rehearse(stage, ADDS)
    stage.run("cutover", "--yes", "--despite", "verdict")
    (scene.folder / "upgrade.toml").write_text(
        PLAN.split("[[step]]")[0] + ADDS.split("\n\n")[0].replace("loans", "seeds_")
    )
    for _ in range(2):  # a later trial of the same plan, which fails: the checkpoints of the first are not forgotten
        stage.run("trial", "run", code=None)
    stage.run("snapshot", "thin", "--newest", "1", "--yes")
    assert stage.run("rollback", "--only", "channel", "--rehearse", "--json").json["works"] is True
    stage.run("rollback", "--close")
    stage.run("trial", "run", code=None)
    assert "no way back is open" in stage.run("rollback", "--only", "channel", code=2).err


def test_what_does_not_come_up_without_the_step_is_refused_before_live_is_touched(stage: Stage) -> None:
    """A later step made the theme need what the step had brought."""
    scene = stage.scene
    needs = (
        '\n[[step]]\nname = "brings"\nkind = "command"\ncommand = ["sh", "-c", "echo seeds > needed.txt"]\n'
        '\n[[step]]\nname = "needs"\nkind = "command"\ncommand = ["sh", "-c", "sed -i \'1a '
        'open(__import__(\\"pathlib\\")'
        '.Path(__file__).parent.parent / \\"needed.txt\\")\' core/app.py"]\nexpects = ["core/app.py"]\n'
    )
    rehearse(stage, needs)
    stage.run("cutover", "--yes", "--despite", "verdict")
    there = state_of(scene)
    said = stage.run("rollback", "--only", "brings", "--yes", code=3).err
    assert "a clone without step 'brings'" in said or "does not start" in said, said
    assert state_of(scene) == there


@pytest.mark.parametrize("after", [0.5, 1.0])
def test_one_that_is_killed_settles(stage: Stage, after: float) -> None:
    from conftest import environment, warm

    scene = stage.scene
    rehearse(stage, ADDS)
    stage.run("cutover", "--yes", "--despite", "verdict")
    with_it = state_of(scene)
    words = ["rollback", "--only", "channel", "--yes"]
    began = stage.run("log", "--json").json
    warm().run(scene.folder, words, environment(), kill_after=after)
    stage.run("settle", code=None)
    tables = {r[0] for r in query(scene.database, "SELECT name FROM sqlite_schema WHERE type = 'table'")}
    columns = [c[1] for c in query(scene.database, "PRAGMA table_info(loans)")]
    assert ("tips" in tables) == ("channel" in columns)
    if "tips" in tables:
        assert state_of(scene) == with_it
    assert len(stage.run("log", "--json").json) >= len(began)
    assert not list((scene.folder / "harbor").glob(".step-*"))
    assert not list((scene.folder / "harbor/clones").iterdir())
