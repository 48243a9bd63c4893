"""What `plan draft` writes, and the kinds of steps for what no package does: cells, people, checks, restarts."""

from __future__ import annotations

import json
import os
import pty
import re
import subprocess
import threading
from pathlib import Path
from typing import Any

from conftest import PROGRAM, environment, harbor, query
from keenharbor.clone.facts import list_clones
from keenharbor.demo.scene import Scene
from keenharbor.live.cutover import run_cutover
from keenharbor.trial import steps as kinds
from keenharbor.trial.plan import read_plan

TARGET = ("--core", "4.0", "--runtime", "3", "--extension", "gallery-wall=replace-by:picture-rail")


def drafted(scene: Scene, *words: str) -> dict[str, Any]:
    harbor(scene.folder, "plan", "draft", "--force", *TARGET, *words)
    return {s.name: s for s in read_plan(scene.folder / "upgrade.toml").step}


def own_plan(scene: Scene, *steps: str) -> None:
    head = 'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n'
    (scene.folder / "upgrade.toml").write_text(head + "".join(f"[[step]]\n{s}\n" for s in steps))


def test_what_disturbs_is_off_meanwhile_and_what_fits_nowhere_for_good(scene: Scene) -> None:
    with scene.site_file.open("a") as file:
        file.write('\n[upgrade]\nswitch_off = ["member-cards", "not-here"]\n')
    steps = drafted(scene, "--extension", "home-address=switch-off")
    order = list(steps)
    for name in ("member-cards", "home-address"):
        assert order.index(f"off-{name}") < order.index("runtime") < order.index("core") < order.index(f"on-{name}")
    assert order[-1] == "check" and steps["core"].save and steps["runtime"].save and steps["core"].time_limit == 900
    assert steps["off-home-address"].on is False and steps["on-home-address"].on is True
    words = ("ready", "--core", "4.0", "--runtime", "3", "--extension", "gallery-wall=switch-off", "--json")
    told = harbor(scene.folder, *words, code=1).json
    gallery = next(d for d in told["decisions"] if d["name"] == "gallery-wall")
    assert (gallery["action"], gallery["off"], gallery["open"]) == ("keep", "for good", False)
    harbor(
        scene.folder,
        "plan",
        "draft",
        "--force",
        "--core",
        "4.0",
        "--runtime",
        "3",
        "--extension",
        "gallery-wall=switch-off",
    )
    names = [s.name for s in read_plan(scene.folder / "upgrade.toml").step]
    assert "off-gallery-wall" in names and "on-gallery-wall" not in names


def test_retries_a_purge_and_patches(scene: Scene) -> None:
    feed = json.loads((scene.folder / "feed/feed.json").read_text())
    for release in feed["releases"]:
        if (release["name"], release["version"]) == ("loan-desk", "3.0"):
            release |= {"retries": 3}
    (scene.folder / "feed/feed.json").write_text(json.dumps(feed))
    with scene.site_file.open("a") as file:
        file.write('\n[commands]\npurge_cache = ["{runtime}", "tansy.py", "purge"]\n')
    steps = drafted(scene)
    assert (steps["update-loan-desk"].retries, steps["update-loan-desk"].retry_pause) == (3, 2)
    assert list(steps)[-2:] == ["purge", "check"]
    patch = scene.folder / "upgrade-patches/events-calendar.patch"
    assert "upgrade-patches/events-calendar.patch" in (scene.folder / "upgrade.toml").read_text()
    # The patch is one that a standard program takes: on the new release it gives what carrying over gives.
    target = scene.folder / "patched"
    subprocess.run(
        [
            "tar",
            "-xzf",
            scene.folder / "feed/events-calendar-2.0.tar.gz",
            "-C",
            _made(target / "extensions/events-calendar"),
        ],
        check=True,
    )
    subprocess.run(
        ["git", "apply", "--unsafe-paths", "--directory", str(target), str(patch)], check=True, cwd=scene.folder
    )
    text = (target / "extensions/events-calendar/main.py").read_text()
    assert "bring your own envelopes" in text and "Since 2.0" in text


def _made(folder: Path) -> Path:
    folder.mkdir(parents=True)
    return folder


def test_cells_checks_and_restarts_in_a_trial(served: Scene) -> None:
    harbor(served.folder, "snapshot", "take")
    own_plan(
        served,
        'name = "cell"\nkind = "cell"\ntable = "settings"\nwhere = { name = "blocks.placement" }\ncolumn = "value"\n'
        'key = "growers-notes.kinds.0"\nvalue = "herb"',
        'name = "title"\nkind = "cell"\ntable = "pages"\nwhere = { slug = "about" }\ncolumn = "title"\nvalue = "Who we '
        'are"',
        'name = "nowhere"\nkind = "cell"\ntable = "pages"\nwhere = { slug = "none" }\ncolumn = "title"\nvalue = "x"',
        'name = "no-column"\nkind = "cell"\ntable = "pages"\nwhere = { slug = "about" }\ncolumn = "colour"\nvalue = '
        '"x"',
        'name = "restart"\nkind = "restart"',
        'name = "good"\nkind = "check"\nonly = ["a search finds seeds"]',
        'name = "breaks"\nkind = "sql"\nsql = "UPDATE members SET password = \'x\'"',
        'name = "bad"\nkind = "check"',
        'name = "unknown"\nkind = "check"\nonly = ["no such check"]',
        'name = "hand"\nkind = "wait"\nsay = "Turn the sign round."',
    )  # fmt: skip
    told = harbor(served.folder, "trial", "run", "--go-on", "--json", code=1).json
    problems = {s["name"]: s["problem"] for s in told["steps"]}
    assert [n for n, p in problems.items() if p is None] == ["cell", "title", "restart", "good", "breaks"]
    assert problems["nowhere"] == "no row of pages is as 'where' says"
    assert problems["no-column"] == "the database has no pages.colour"
    assert "'a member logs in' fails" in problems["bad"]
    assert "no check 'no such check'" in problems["unknown"]
    assert problems["hand"] == "a person is wanted, and there is no terminal to ask on: Turn the sign round."
    kinds_told = {(f["kind"], f["step"]) for f in told["findings"]}
    assert ("check-failed", "breaks") in kinds_told and ("step-failed", "bad") not in kinds_told
    assert ("setting-changed", "cell") in kinds_told
    planned = next(f for f in told["findings"] if f["kind"] == "setting-changed")
    assert planned["text"].endswith("as planned") and planned["weight"] == "note"
    shown = harbor(served.folder, "plan", "show").out
    assert "by hand: Turn the sign round." in shown and "set pages.title to Who we are where slug = about" in " ".join(
        shown.split()
    )
    assert "no check 'no such check'" in harbor(served.folder, "plan", "check", code=1).out


def test_a_person_is_asked_on_a_terminal_and_what_they_did_is_recorded(scene: Scene) -> None:
    """The person answers after having changed a page in the clone."""
    harbor(scene.folder, "snapshot", "take")
    own_plan(scene, 'name = "hand"\nkind = "wait"\nsay = "Give the page About another title."')
    controller, terminal = pty.openpty()
    process = subprocess.Popen([*PROGRAM, "trial", "run"], cwd=scene.folder, stdin=terminal, stdout=subprocess.PIPE,
        stderr=terminal,
                               text=True, env=environment(), close_fds=True)  # fmt: skip
    os.close(terminal)
    said = ""
    seen = threading.Event()

    def answer() -> None:
        nonlocal said
        while True:
            try:
                said += os.read(controller, 4096).decode()
            except OSError:
                return
            if "Type Enter when it is done" in said and not seen.is_set():
                seen.set()
                (asked,) = re.findall(r"The clone answers at http://127\.0\.0\.1:(\d+)", said)
                clone = next(c for c in list_clones(scene.folder / "harbor") if c.port == int(asked))
                query(Path(clone.database), "UPDATE pages SET title = 'Another' WHERE slug = 'about'")
                os.write(controller, b"\n")

    thread = threading.Thread(target=answer, daemon=True)
    thread.start()
    out, _ = process.communicate(timeout=120)
    assert seen.is_set() and "Give the page About another title." in said
    assert re.search(r"The clone answers at http://127\.0\.0\.1:\d+", said)
    result = harbor(scene.folder, "trial", "show", "--json").json
    by_hand = next(f for f in result["findings"] if f["kind"] == "rows-changed")
    assert (by_hand["weight"], by_hand["step"]) == ("note", "hand") and by_hand["text"].endswith("by hand")
    assert result["steps"][0]["problem"] is None, out


def test_live_is_not_touched_when_nobody_is_there_for_a_step_by_hand(served: Scene) -> None:
    harbor(served.folder, "snapshot", "take")
    own_plan(served, 'name = "hand"\nkind = "wait"\nsay = "Turn the sign round."')
    harbor(served.folder, "trial", "run", code=1)
    refused = harbor(served.folder, "cutover", "--yes", "--despite", "verdict", code=2)
    assert "nobody is there to ask" in refused.err and run_cutover is not None
    assert not (served.folder / "harbor/journal.json").exists()


def test_a_cutover_saves_before_the_steps_that_say_so_and_checks_what_does_not_write(served: Scene) -> None:
    harbor(served.folder, "snapshot", "take")
    own_plan(
        served,
        'name = "title"\nkind = "cell"\ntable = "pages"\nwhere = { slug = "about" }\ncolumn = "body"\nvalue = '
        '"<p>New</p>"\nsave = true',
        'name = "purge"\nkind = "purge-cache"',
        'name = "ask"\nkind = "request"\npath = "/about"\ntext = "New"',
        'name = "check"\nkind = "check"',
    )
    harbor(served.folder, "trial", "run", code=1)
    done = harbor(served.folder, "cutover", "--yes", "--despite", "verdict", "--json").json
    assert [s["name"] for s in done["steps"]] == ["title", "purge", "ask", "check"]
    reasons = [s["reason"] for s in harbor(served.folder, "snapshot", "list", "--json").json]
    assert reasons.count("before a step") == 1 and reasons.count("before a cutover") == 1
    assert isinstance(read_plan(served.folder / "upgrade.toml").step[-1], kinds.CheckStep)


def test_a_draft_proposes_checks_where_the_site_has_none_that_write(served: Scene) -> None:
    text = served.site_file.read_text()
    served.site_file.write_text(re.sub(r"(?ms)^log_in = [^\n]*$|^\[\[check\]\].*?(?=^\[|\Z)", "", text))
    ran = harbor(served.folder, "plan", "draft", "--force", *TARGET)
    drafted = (served.folder / "upgrade.toml").read_text()
    assert "for their forms" in ran.err
    assert "From the forms on the site's pages, for keenharbor.toml" in drafted
    assert 'name = "a member logs in"' in drafted and 'name = "a search for ' in drafted
    assert not [line for line in drafted.splitlines() if "[[check]]" in line and not line.startswith("#")]
    harbor(served.folder, "plan", "check", code=None)
    without = harbor(served.folder, "plan", "draft", "--force", "--no-pages", *TARGET)
    assert "forms" not in without.err and "From the forms" not in (served.folder / "upgrade.toml").read_text()


def test_a_table_that_a_step_moves_is_proven_whole(scene: Scene) -> None:
    harbor(scene.folder, "snapshot", "take")
    move = "CREATE TABLE gatherings AS SELECT id, {} FROM events{}; DROP TABLE events;"
    columns = [c[1] for c in query(scene.database, "PRAGMA table_info(events)")]
    others = ", ".join(c for c in columns if c not in ("id", "title"))
    carries = '[{ table = "events", to = "gatherings", columns = { name = "title" } }]'
    count = query(scene.database, "SELECT count(*) FROM events")[0][0]
    for where, wanted in (("", "rows-kept"), (" WHERE id > 1", "rows-lost")):
        sql = move.format(f"title AS name, {others}", where).replace(
            "CREATE TABLE gatherings AS",
            "CREATE TABLE gatherings (id INTEGER PRIMARY KEY, name, " + others + "); INSERT INTO gatherings",
        )
        own_plan(scene, f'name = "move"\nkind = "sql"\nsql = {json.dumps(sql)}\ncarries = {carries}')
        assert harbor(scene.folder, "plan", "check").code == 0
        told = harbor(scene.folder, "trial", "run", "--json", code=1).json
        of_events = [f for f in told["findings"] if f["place"] in ("events", "table events", "gatherings")]
        kinds_told = {f["kind"]: (f["weight"], f["step"]) for f in of_events}
        assert kinds_told[wanted][1] == "move" and kinds_told["schema-gone"][0] == "note", of_events
        assert "rows-new" not in kinds_told
        if wanted == "rows-kept":
            assert f"{count} rows of table events: all are in table gatherings" in [f["text"] for f in of_events]
            assert "rows-lost" not in kinds_told
    own_plan(scene, f'name = "move"\nkind = "sql"\nsql = "SELECT 1"\ncarries = {carries.replace("title", "headline")}')
    assert "table 'events' has no column 'headline'" in " ".join(
        harbor(scene.folder, "plan", "check", code=1).out.split()
    )
