"""Which step did it: laid right also when a fault heals, hides behind another, or keeps the site from starting."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import PROGRAM, describe, environment, fits_the_schema, harbor, on_a_terminal
from keenharbor.compare.camera import browser_arguments, browser_program, missing_browser
from keenharbor.demo.scene import Host, Scene, set_scene
from keenharbor.trial.culprits import smallest_set
from keenharbor.trial.observing import log_place, of_log

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
    told = harbor(scene.folder, "trial", "run", "--go-on", "--json", code=code).json
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


# -- going on, culprits, accepted ------------------------------------------------------------------------------


def test_a_corrected_plan_goes_on_behind_what_stands(stage: Scene) -> None:
    first = trial_once(
        stage,
        sql("one", "UPDATE pages SET title = 'One' WHERE slug = 'about'"),
        shell("two", "false"),
        shell("three", "true"),
    )
    assert [s["name"] for s in first["steps"]] == ["one", "two"], "a step that fails stops it"
    assert any("not carried out, since a step before failed: three" in r for r in first["remarks"])
    write_plan(
        stage,
        sql("one", "UPDATE pages SET title = 'One' WHERE slug = 'about'"),
        shell("two", "echo x > core/two.txt"),
        shell("three", "test -e core/two.txt"),
    )
    told = harbor(stage.folder, "trial", "resume", "--json", code=1).json
    assert [(s["name"], s["problem"]) for s in told["steps"]] == [("one", None), ("two", None), ("three", None)]
    assert told["went_on_with"] == 1
    laid = {(f["kind"], f["step"]) for f in told["findings"]}
    assert ("rows-changed", "one") in laid and ("title-changed", "one") in laid and ("files", "two") in laid
    assert "every step of the plan was carried out" in harbor(stage.folder, "trial", "resume", code=2).err
    # From a step on: what stands before it is taken over.
    write_plan(
        stage,
        sql("one", "UPDATE pages SET title = 'One' WHERE slug = 'about'"),
        shell("two", "echo y > core/two.txt"),
        shell("three", "true"),
    )
    assert (
        "has not carried out 'two' as the plan has it now"
        in harbor(stage.folder, "trial", "run", "--from", "three", code=2).err
    )
    again = harbor(stage.folder, "trial", "run", "--from", "two", "--json", code=1).json
    fits_the_schema(again)
    assert again["went_on_with"] == 1 and [s["name"] for s in again["steps"]] == ["one", "two", "three"]
    assert "no step 'four'" in harbor(stage.folder, "trial", "run", "--from", "four", code=2).err
    old = harbor(stage.folder, "trial", "resume", "--trial", first["id"], code=2).err
    assert "checkpoints of this trial are not kept any more" in " ".join(old.split())


def write_plan(scene: Scene, *steps: str) -> None:
    (scene.folder / "upgrade.toml").write_text(HEAD + "".join(steps))


def trial_once(scene: Scene, *steps: str) -> dict[str, Any]:
    write_plan(scene, *steps)
    told = harbor(scene.folder, "trial", "run", "--json", code=1).json
    assert isinstance(told, dict)
    return told


def test_a_pair_among_twelve_steps_is_found_on_clones(stage: Scene) -> None:
    """The third step arms what the ninth sets off; each by itself does no harm."""
    harmless = [
        shell(f"s{n:02}", f"echo {n} > core/n{n}.txt").rstrip() + '\nexpects = ["core/*.txt"]\n' for n in range(1, 13)
    ]
    harmless[2] = sql("s03", "INSERT INTO settings VALUES ('trap', 'armed')")
    harmless[8] = sql("s09", "UPDATE notes SET body = 'lost' WHERE EXISTS (SELECT 1 FROM settings WHERE name = 'trap')")
    told = trial(stage, *harmless)
    finding = next(f for f in told["findings"] if f["kind"] == "rows-changed" and f["place"] == "notes")
    assert finding["step"] == "s09"
    found = harbor(stage.folder, "trial", "culprits", finding["id"], "--json").json
    assert (found["steps"], found["sure"]) == (["s03", "s09"], True)
    assert len(found["runs"]) <= 20
    out = " ".join(harbor(stage.folder, "trial", "culprits", finding["id"], "--runs", "2", code=1).out.split())
    assert "not for sure" in out
    page = next(f for f in told["findings"] if f["kind"].startswith("text") and f["step"] == "s09")
    assert harbor(stage.folder, "trial", "culprits", page["id"], "--json").json["steps"] == ["s03", "s09"]
    assert list((stage.folder / "harbor/clones").iterdir()) == []
    assert "has no finding 'nothing'" in harbor(stage.folder, "trial", "culprits", "nothing", code=2).err


@given(st.integers(1, 14).flatmap(lambda n: st.tuples(st.just(n), st.sets(st.integers(0, n - 1), max_size=4))))
def test_the_smallest_set_is_found_with_few_tries(case: tuple[int, set[int]]) -> None:
    last, needed = case
    tries = []

    def shows(numbers: Sequence[int]) -> bool:
        tries.append(tuple(numbers))
        return needed <= set(numbers)

    assert smallest_set(range(last), last, shows) == [*sorted(needed), last]
    assert len(tries) <= (len(needed) + 1) * (last.bit_length() + 1)
    assert all(list(t) == sorted(t) and t[-1] == last for t in tries)


def test_what_was_accepted_does_not_count_until_its_day(stage: Scene) -> None:
    steps = (
        sql("one", "UPDATE pages SET title = 'One' WHERE slug = 'about'"),
        '[[step]]\nname = "purge"\nkind = "purge-cache"\n',
    )
    told = trial(stage, *steps)
    assert told["verdict"] == "review"
    first, *others = [f for f in told["findings"] if f["weight"] != "note"]
    refused = harbor(stage.folder, "trial", "accept", first["id"], "--because", " ", code=2)
    assert "why is it accepted?" in refused.err
    assert "has no step" in harbor(stage.folder, "trial", "accept", "--step", "two", "--because", "so", code=2).err
    assert "what is to be accepted?" in harbor(stage.folder, "trial", "accept", "--because", "so", code=2).err
    assert "keenharbor trial accept" in harbor(stage.folder, "trial", "show").out  # the way on
    harbor(stage.folder, "cutover", "--yes", code=2)
    still = harbor(stage.folder, "trial", "accept", first["id"], "--because", "we wanted that", "--json").json
    assert others and still["verdict"] == "review"
    # All the rest of a step at once; the trial is judged anew, not run again, and may be carried out.
    done = harbor(stage.folder, "trial", "accept", "--step", "one", "--because", "we wanted that")
    assert "judged anew: nothing asks any more" in done.out and "keenharbor cutover" in done.out
    anew = harbor(stage.folder, "trial", "show", "--json").json
    assert (anew["id"], anew["verdict"]) == (told["id"], "pass")
    assert {f["weight"] for f in anew["findings"]} <= {"note"} and len(anew["accepted"]) == 1 + len(others)
    assert "GOOD" in harbor(stage.folder, "snapshot", "verify").out  # what is kept of the trial is as written
    file = stage.folder / "upgrade-accepted.toml"
    assert "we wanted that" in file.read_text()
    again = trial(stage, *steps, code=0)
    assert again["verdict"] == "pass" and {f["kind"] for f in again["accepted"]} >= {"title-changed", "rows-changed"}
    assert "accepted: " in harbor(stage.folder, "trial", "show").out
    # Another step, or a day that has gone by: asked about again.
    trial(stage, steps[0].replace('"one"', '"other"'), steps[1])
    file.write_text(re.sub(r"until = \S+", "until = 2020-01-01", file.read_text()))
    trial(stage, *steps)
    file.write_text(file.read_text().replace("because", "why"))
    assert "upgrade-accepted.toml" in harbor(stage.folder, "trial", "run", code=2).err
    file.unlink()


def test_the_site_file_can_weigh_kinds_of_findings(stage: Scene) -> None:
    text = stage.site_file.read_text()
    stage.site_file.write_text(text + '\n[verdict.weights]\ntitle-changed = "damage"\nrows-changed = "note"\n')
    told = trial(stage, sql("one", "UPDATE pages SET title = 'One' WHERE slug = 'about'"))
    stage.site_file.write_text(text)
    assert told["verdict"] == "fail"
    weights = {f["kind"]: f["weight"] for f in told["findings"]}
    assert (weights["title-changed"], weights["rows-changed"]) == ("damage", "note")
    assert any("nobody logged in" in r for r in told["remarks"]) and any("no check wrote" in r for r in told["remarks"])


def test_checkpoints_and_addresses_are_compared(stage: Scene) -> None:
    trial(
        stage, sql("one", "UPDATE pages SET title = 'One' WHERE slug = 'about'"),
        sql("two", "DELETE FROM notes WHERE id = 3"),
        shell("three", "echo x > core/three.txt"),
    )  # fmt: skip

    def compared(left: str, right: str, *words: str, code: int = 1) -> set[tuple[str, str]]:
        told = harbor(stage.folder, "compare", left, right, *words, "--json", code=code).json
        return {(f["kind"], f["place"]) for f in told["findings"]}

    assert compared("live", "checkpoint:before", code=0) == set()
    assert compared("checkpoint:before", "checkpoint:one", "--no-pages") == {("rows-changed", "pages")}
    assert compared("checkpoint:one", "checkpoint:three", "--no-pages") == {
        ("rows-lost", "notes"),
        ("files", "core added"),
    }
    assert ("title-changed", "title") in compared("live", "checkpoint:one")
    assert compared("live", f"{stage.address}/", code=0) == set()
    wrong = harbor(stage.folder, "compare", "live", "checkpoint:four", code=2).err
    assert "no checkpoint 'four'" in wrong and "it has: before, one, two, three" in " ".join(wrong.split())


def test_lines_of_a_log_that_tell_of_the_same_are_one_finding() -> None:
    lines = [f"a file of an older release is still there: core/old/{n}.php" for n in "abc"] + [
        "x has no attribute 'one'",
        "x has no attribute 'two'",
        "other",
    ]
    found = {o.place: o for o in of_log(lines)}
    assert set(found) == {"a file of an older release is still there: …", "x has no attribute …", "other"}
    assert found["other"].text == "new in the error log: other"
    assert found["x has no attribute …"].text.endswith("'one' (and 1 line like it)")
    assert "core/old/c.php" in found["a file of an older release is still there: …"].after
    assert all(log_place(line) in found for line in lines)


def test_a_review_goes_through_the_causes_one_by_one(stage: Scene) -> None:
    steps = (
        sql("one", "UPDATE pages SET title = 'One' WHERE slug = 'about'"),
        sql("two", "UPDATE pages SET title = 'Two' WHERE slug <> 'about'"),
        '[[step]]\nname = "purge"\nkind = "purge-cache"\n',
    )
    (stage.folder / "upgrade-accepted.toml").unlink(missing_ok=True)
    told = trial(stage, *steps)
    asking = [e for e in told["entries"] if e["weight"] != "note"]
    assert len(asking) >= 2 and "keenharbor trial review" in harbor(stage.folder, "trial", "show").out
    assert "needs a terminal" in harbor(stage.folder, "trial", "review", code=2).err
    # The first is looked at and left open, then accepted without a reason, which is none; then all of them are.
    shown = on_a_terminal(stage.folder, ["trial", "review"], ["?", "m", "l", "c", "a", "", "q"])
    assert f"1 of {len(asking)}" in shown and "both sides" in shown and "trial culprits" in shown
    assert "no pictures" in shown and "0 causes accepted" in shown
    shown = on_a_terminal(stage.folder, ["trial", "review"], ["a", "we wanted that", "q"])
    assert f"1 cause accepted, {len(asking) - 1} cause" in shown
    kept = harbor(stage.folder, "trial", "show", "--json").json
    assert len([e for e in kept["entries"] if e["weight"] != "note"]) == len(asking) - 1, "saved at once"
    left = len(asking) - 1
    shown = on_a_terminal(stage.folder, ["trial", "review"], ["a", "we wanted that"] * left)
    assert f"{left} cause" in shown and "0 causes ask still" in shown and "PASS" in shown
    anew = harbor(stage.folder, "trial", "show", "--json").json
    assert anew["verdict"] == "pass" and (stage.folder / "upgrade-accepted.toml").exists()


@pytest.mark.skipif(bool(missing_browser()) and "CI" not in os.environ, reason=missing_browser() or "")
def test_the_report_is_served_with_buttons_that_accept(stage: Scene) -> None:
    steps = (
        sql("one", "UPDATE pages SET title = 'One' WHERE slug = 'about'"),
        '[[step]]\nname = "purge"\nkind = "purge-cache"\n',
    )
    from playwright.sync_api import sync_playwright

    (stage.folder / "upgrade-accepted.toml").unlink(missing_ok=True)
    asking = [e for e in trial(stage, *steps)["entries"] if e["weight"] != "note"]
    running = subprocess.Popen([*PROGRAM, "trial", "show", "--serve", "--json"], cwd=stage.folder, env=environment(),
        stdout=subprocess.PIPE, text=True)  # fmt: skip
    try:
        assert running.stdout is not None
        address = json.loads("".join(iter(running.stdout.readline, "}\n")) + "}")["address"]
        at, _, word = address.removeprefix("http://").partition("/")
        with httpx.Client() as client:
            assert client.get(f"http://{at}/").status_code == 404
            assert (
                client.get(address, headers={"Host": f"elsewhere.example:{at.rpartition(':')[2]}"}).status_code == 404
            )
            assert (
                client.post(f"http://{at}/accept", data={"finding": asking[0]["id"], "because": "x"}).status_code == 404
            )
            page = client.post(f"{address}accept", data={"finding": "nothing", "because": "x"}, follow_redirects=True)
            assert "has no finding" in page.text and page.text.count("has no finding") == 1
            assert "has no finding" not in client.get(address).text, "told once"
        assert not (stage.folder / "upgrade-accepted.toml").exists()
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=browser_program(), args=browser_arguments())
            shown = browser.new_page()
            shown.goto(address)
            for _ in asking:
                form = shown.locator("details.finding[open] form.accepting").first
                form.locator("[name=because]").fill("we wanted it <so>")
                form.locator("button").click()
                shown.wait_for_load_state()
            assert shown.locator("form.accepting").count() == 0
            assert "pass" in shown.locator(".verdict strong").inner_text()
            browser.close()
    finally:
        running.send_signal(signal.SIGINT)
        running.wait(timeout=20)
    assert "we wanted it <so>" in (stage.folder / "upgrade-accepted.toml").read_text()
    assert harbor(stage.folder, "trial", "show", "--json").json["verdict"] == "pass" and word
