"""What `survey` tells of a site beside its versions: orphans, strays, own tables, the address, errors; and what changed
since."""

from __future__ import annotations

import json
import shutil

import pytest

from conftest import harbor, query
from keenharbor.demo.scene import Scene
from keenharbor.site.survey import own_tables


def test_what_belongs_to_nobody_is_told(scene: Scene) -> None:
    (scene.root / "extensions/loan-desk/old.py").write_text("left over\n")
    (scene.root / "core/backup.bak").write_text("whose?\n")
    shutil.rmtree(scene.root / "extensions/growers-notes")
    with (scene.root / "var/log/error.log").open("a") as log:
        log.write("ERROR: a page failed\nall is well\n")
    found = harbor(scene.folder, "survey", "--json").json
    assert {"extensions/loan-desk/old.py", "core/backup.bak"} <= {s["path"] for s in found["strays"]}
    assert found["orphans"] == ["growers-notes"]
    assert found["log_errors"]["var/log/error.log"] >= 1
    assert found["kinds"]["sessions"]["kind"] == "sessions" and found["kinds"]["loans"]["kind"] == "visitors"
    assert found["address_places"]["settings.ini: site.address"] == 1 and found["address_places"]["settings.value"] >= 1
    text = " ".join(harbor(scene.folder, "survey").out.split())
    assert "growers-notes is in the database and in no folder" in text
    assert "core/backup.bak belongs to no package" in text
    gallery = next(i for i in found["installations"] if i["name"] == "gallery-wall")
    assert gallery["bytes"] > 0


def test_a_survey_is_kept_and_a_later_one_compared_with_it(scene: Scene) -> None:
    assert "no survey has been kept" in harbor(scene.folder, "survey", "--against", code=2).err
    harbor(scene.folder, "survey", "--save")
    assert harbor(scene.folder, "survey", "--against", "--json").json["differences"] == []
    (scene.root / "core/VERSION").write_text("3.5\n")
    (scene.root / "core/stray.txt").write_text("x")
    shutil.rmtree(scene.root / "extensions/growers-notes")
    query(scene.database, "UPDATE extensions SET enabled = 0 WHERE name = 'home-address'")
    query(scene.database, "CREATE TABLE extra (id INTEGER PRIMARY KEY)")
    query(scene.database, "DELETE FROM notes")
    told = harbor(scene.folder, "survey", "--against", "--json", code=1).json["differences"]
    assert told[0] == "core: 3.4 → 3.5"
    assert {"extension growers-notes 1.2 went", "extension home-address was switched off", "table extra came"} <= set(
        told
    )
    assert any(t.startswith("table notes: ") and t.endswith("→ 0 rows") for t in told)
    kept = next((scene.folder / "harbor/surveys").iterdir())
    kept.write_text(json.dumps([1]))
    assert "cannot be read" in harbor(scene.folder, "survey", "--against", code=2).err


@pytest.mark.parametrize(
    ("name", "expected"),
    [("gallery-wall", ("gallery_wall", "x_gallery_wall_items")), ("loans", ("loans",)), ("wall", ())],
)
def test_tables_of_an_extension_are_told_by_their_names(name: str, expected: tuple[str, ...]) -> None:
    tables = {"gallery_wall": 1, "x_gallery_wall_items": 2, "loans": 3, "loansome": 4, "pages": 5}
    assert own_tables(name, tables) == expected


def test_ready_tells_what_the_new_releases_drop_and_how_edits_merge(scene: Scene) -> None:
    def checks() -> dict[str, str]:
        told = harbor(scene.folder, "ready", "--core", "4.0", "--runtime", "3", "--json", code=1).json
        return {c["subject"]: c["reason"] for c in told["checks"]}

    found = checks()
    assert found["dropped files of tansy-core"].startswith("4.0 has 3 files less: core/assets/old-menu.js")
    assert "themes/marrow/overrides/variety.html takes the place of" in found["override"]
    assert "1 of them can be carried over as they are" in found["local edits of events-calendar"]
    calendar = scene.root / "extensions/events-calendar/main.py"
    lines = calendar.read_text().splitlines(keepends=True)
    calendar.write_text("".join(["# mine\n" if line.strip() else line for line in lines]))
    assert "conflicts from line" in checks()["local edits of events-calendar"]
    query(scene.database, "UPDATE extensions SET enabled = 0 WHERE name = 'home-address'")
    assert checks()["switched off"] == "nobody uses home-address"


def test_decisions_are_remembered_until_they_are_let_go(scene: Scene) -> None:
    target = ("--core", "4.0", "--runtime", "3")

    def decided(*words: str) -> dict[str, str]:
        told = harbor(scene.folder, "ready", *target, *words, "--json", code=1).json
        return {d["name"]: "open" if d["open"] else d["action"] for d in told["decisions"]}

    assert decided()["gallery-wall"] == "open"
    assert decided("--extension", "gallery-wall=replace-by:picture-rail")["gallery-wall"] == "replace"
    assert decided()["gallery-wall"] == "replace"
    assert "gallery-wall=replace-by:picture-rail: decided" in " ".join(
        harbor(scene.folder, "ready", *target, code=1).err.split()
    )
    assert decided("--extension", "gallery-wall=remove")["gallery-wall"] == "remove"
    drafted = harbor(scene.folder, "plan", "draft", *target, "--json").json
    assert "remove-gallery-wall" in [s["name"] for s in drafted["step"]]
    assert decided("--forget", "gallery-wall")["gallery-wall"] == "open"
    assert decided()["gallery-wall"] == "open"
    (scene.folder / "mine.toml").write_text('[decisions]\ngallery-wall = "remove"\nseed-search = "keep"\n')
    found = decided("--decisions", "mine.toml", "--extension", "seed-search=2.0")
    assert (found["gallery-wall"], found["seed-search"]) == ("remove", "update")
    (scene.folder / "mine.toml").write_text("gallery-wall = 3\n")
    assert "wants NAME" in harbor(scene.folder, "ready", *target, "--decisions", "mine.toml", code=2).err
    (scene.folder / "harbor/decisions.json").write_text("[1]")
    assert "cannot be read" in harbor(scene.folder, "ready", *target, code=1).err
    wrong = harbor(scene.folder, "ready", *target, "--forget", "gallery-wall", code=1).err
    assert "decide again" in wrong


def test_what_fails_today_is_told_and_what_fails_since(served: Scene) -> None:
    served.site_file.write_text(served.site_file.read_text().replace("limit = 12", "limit = 80"))
    well = harbor(served.folder, "survey", "--pages", "--save", "--json").json["health"]
    assert well["pages"] >= 12 and not well["failing"] and not well["missing"]
    style = next(served.root.glob("themes/marrow/**/*.css"), None) or next(served.root.glob("core/assets/*.css"))
    style.rename(style.with_suffix(".away"))
    query(
        served.database,
        'UPDATE pages SET body = body || \'<a href="/no-such-page">gone</a> <img src="/media/no-picture.png">\' '
        "WHERE slug = 'about'",
    )
    ill = harbor(served.folder, "survey", "--pages", "--json", code=1).json["health"]
    failing = {f["path"]: f for f in ill["failing"]}
    assert failing["/no-such-page"]["how"] == "status 404" and "/about" in failing["/no-such-page"]["on"]
    missing = {f["path"]: f for f in ill["missing"]}
    assert "/media/no-picture.png" in missing
    told = harbor(served.folder, "survey", "--pages", "--against", "--json", code=1).json["differences"]
    assert "/no-such-page fails: status 404" in told and "/media/no-picture.png fails: status 404" in told
    text = " ".join(harbor(served.folder, "survey", "--pages", code=1).out.split())
    assert "✗ /no-such-page status 404 on /about" in text
    assert harbor(served.folder, "survey", "--json").json["health"] is None


def test_a_live_site_that_does_not_answer_is_told(scene: Scene) -> None:
    ill = harbor(scene.folder, "survey", "--pages", "--json", code=1).json["health"]
    assert [f["path"] for f in ill["failing"]] == ["/"]


def test_ready_tells_what_would_stop_it_however_well_it_fits(scene: Scene) -> None:
    def checks() -> dict[str, str]:
        told = harbor(scene.folder, "ready", "--core", "4.0", "--runtime", "3", "--json", code=1).json
        return {c["subject"]: f"{c['verdict']}: {c['reason']}" for c in told["checks"]}

    def wants(engines: dict[str, str]) -> None:
        file = scene.folder / "feed/feed.json"
        feed = json.loads(file.read_text())
        for release in feed["releases"]:
            if (release["name"], release["version"]) == ("tansy-core", "4.0"):
                release["requires"]["database"] = engines
        file.write_text(json.dumps(feed))

    assert checks()["database"].startswith("clear: sqlite 3.")
    wants({"sqlite": ">=99"})
    assert "blocked: Tansy 4.0 wants sqlite >=99; the site has 3." in checks()["database"]
    wants({"mariadb": ">=10.5", "postgres": ""})
    assert checks()["database"] == "blocked: Tansy 4.0 does not run on sqlite any more (it runs on: mariadb, postgres)"
    assert "open change" not in checks()
    (scene.folder / "harbor").mkdir(exist_ok=True)
    (scene.folder / "harbor/journal.json").write_text("{}")
    assert checks()["open change"].startswith("blocked")
