"""Which step did it: laid right also when a fault heals, hides behind another, or keeps the site from starting."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import describe, harbor
from keenharbor.demo.scene import Host, Scene, set_scene

HEAD = 'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n'
QUICK = """
[look]
starts = ["/about", "/gallery", "/notes"]
limit = 3
"""


def sql(name: str, text: str) -> str:
    return f'[[step]]\nname = "{name}"\nkind = "sql"\nsql = {json.dumps(text)}\n'


def shell(name: str, text: str) -> str:
    return f'[[step]]\nname = "{name}"\nkind = "command"\ncommand = ["sh", "-c", {json.dumps(text)}]\n'


@pytest.fixture(scope="module")
def stage(tmp_path_factory: pytest.TempPathFactory) -> Any:
    scene = set_scene(tmp_path_factory.mktemp("culprits") / "scene")
    describe(scene, QUICK)
    with Host(scene):
        yield scene


def trial(scene: Scene, *steps: str, code: int = 1) -> dict[str, Any]:
    (scene.folder / "upgrade.toml").write_text(HEAD + "".join(steps))
    told = harbor(scene.folder, "trial", "run", "--json", code=code).json
    assert isinstance(told, dict)
    assert told["isolation"]["untouched"] is True
    return told


def found(told: dict[str, Any], kind: str) -> list[tuple[str, str | None, str | None]]:
    return [(f["place"], f["step"], f["hidden_since"]) for f in told["findings"] if f["kind"] == kind]


def test_what_heals_is_told_apart_and_does_not_count(stage: Scene) -> None:
    told = trial(
        stage,
        sql("break", "ALTER TABLE gallery_pictures RENAME TO away"),
        sql("mend", "ALTER TABLE away RENAME TO gallery_pictures"),
    )
    assert found(told, "page-fails") == []
    healed = {(f["kind"], f["step"]) for f in told["healed"]}
    assert ("page-fails", "break") in healed
    assert told["verdict"] == "review", "the error in the log stays"
    assert {f["kind"] for f in told["findings"] if f["weight"] != "note"} == {"log"}


def test_a_fault_behind_another_says_since_when_it_could_not_be_seen(stage: Scene) -> None:
    told = trial(
        stage,
        sql(
            "hide",
            "UPDATE gallery_pictures SET caption = 'Lost' WHERE id = 3; ALTER TABLE gallery_pictures RENAME TO away",
        ),
        sql("between", "UPDATE pages SET title = 'Other' WHERE slug = 'about'"),
        sql("show", "ALTER TABLE away RENAME TO gallery_pictures"),
        '[[step]]\nname = "purge"\nkind = "purge-cache"\n',
    )
    assert set(found(told, "text-changed")) == {("#wall", "show", "hide"), ("#content", "between", None)}
    assert found(told, "title-changed") == [("title", "between", None)]
    rows = {(f["place"], f["step"]) for f in told["findings"] if f["kind"] == "rows-changed"}
    assert rows == {("gallery_pictures", "hide"), ("pages", "between")}
    assert found(told, "stale-cache") == [], "the purge came last"


def test_a_site_that_does_not_start_any_more(stage: Scene) -> None:
    told = trial(
        stage, shell("harmless", "true"), shell("breaks", "echo 'raise SystemExit(\"no way\")' > core/rules.py")
    )
    (place,) = found(told, "does-not-start")
    assert place == ("site", "breaks", None)
    text = next(f["text"] for f in told["findings"] if f["kind"] == "does-not-start")
    assert "no way" in text
    assert ("core changed", "breaks", None) in found(told, "files")
    assert told["verdict"] == "fail"


def test_what_a_step_touches_beyond_its_purpose_is_found(stage: Scene) -> None:
    told = trial(
        stage,
        shell("tidy", "rm media/gallery/wall-1.png; echo x > core/stray.py; chmod 600 tansy.py"),
        sql("prune", "DELETE FROM notes WHERE id < 4; DELETE FROM settings WHERE name = 'desk.greeting'"),
    )
    assert set(found(told, "files")) == {
        ("media removed", "tidy", None),
        ("core added", "tidy", None),
        ("core given other rights", "tidy", None),
    }
    assert found(told, "file-broken") == [("/media/gallery/wall-1.png", "tidy", None)]
    assert found(told, "rows-lost") == [("notes", "prune", None)]
    assert found(told, "setting-lost") == [("desk.greeting", "prune", None)]
    steps = {s["name"]: (s["files_changed"], s["rows_changed"]) for s in told["steps"]}
    assert steps["prune"][1] == 4
    assert steps["tidy"][0] >= 2


def test_what_a_step_is_expected_to_touch_is_no_finding(stage: Scene) -> None:
    step = shell("makes", "echo x > core/made.txt").rstrip() + '\nexpects = ["core/made.txt"]\n'
    told = trial(stage, step, code=0)
    assert told["findings"] == []
    assert told["steps"][0]["files_changed"] == 1


def test_secrets_in_changed_settings_are_hidden(stage: Scene) -> None:
    told = trial(stage, sql("add", "INSERT INTO settings SELECT 'mail.password', 'hunter' || '-two'"), code=0)
    assert [f["after"] for f in told["findings"] if f["kind"] == "setting-new"] == ["(hidden)"]
    for text in (json.dumps(told), Path(told["report"]).read_text(), harbor(stage.folder, "trial", "show").out):
        assert "hunter-two" not in text
