"""Settling from each phase of the journal, and the small tools that durability rests on."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import pytest

from conftest import harbor, query, state_of
from keenharbor.base.durable import private_folder, write_durably, write_json
from keenharbor.base.errors import DamagedError, KeenHarborError, PutBackError, UnsettledError, UsageError
from keenharbor.base.progress import Silent
from keenharbor.demo.scene import Scene
from keenharbor.host.lease import held
from keenharbor.host.programs import run_program
from keenharbor.live.journal import begin_journal, close_journal, enter_phase, open_journal
from keenharbor.live.settle import settle
from keenharbor.site.load import open_site
from keenharbor.site.log import append_log, read_log

# -- settling -------------------------------------------------------------------------------------------------


def journal(scene: Scene, kind: str, phase: str, **more: Any) -> Path:
    """The journal of an interrupted change, with visitors locked out."""
    (scene.root / "var/maintenance.flag").write_text("word")
    (scene.folder / "harbor").mkdir(exist_ok=True)
    file = scene.folder / "harbor/journal.json"
    facts = {
        "kind": kind,
        "site": "marrow-lane",
        "started_at": "2026-11-25T03:00:00.000Z",
        "phase": phase,
        "token": "word",
    }
    write_json(file, {**facts, **more})
    return file


def disturb(scene: Scene) -> None:
    """What a half-done upgrade may look like."""
    (scene.root / "core/VERSION").write_text("3.9\n")
    (scene.root / "core/half.py").write_text("half")
    (scene.root / "core/.app.py.123-abcd.part").write_text("half")
    (scene.root / "tansy.py").unlink()
    (scene.root / "var/log/error.log").write_text("what went wrong\n")
    (scene.root / "var/cache/old.html").write_text("old")
    query(scene.database, "ALTER TABLE loans ADD COLUMN channel TEXT")
    query(scene.database, "DROP TABLE notes")


def take(scene: Scene) -> str:
    return str(harbor(scene.folder, "snapshot", "take", "--json").json["id"])


@pytest.fixture
def quiet(scene: Scene) -> Scene:
    """The host is not running: reloading it is left out."""
    text = scene.site_file.read_text().splitlines()
    scene.site_file.write_text("\n".join(line for line in text if not line.startswith("reload = ")) + "\n")
    return scene


def test_nothing_to_settle(quiet: Scene) -> None:
    assert "there is nothing to settle" in harbor(quiet.folder, "settle").out


@pytest.mark.parametrize("kind", ["cutover", "rollback"])
def test_a_change_that_had_only_begun_is_undone(quiet: Scene, kind: str) -> None:
    before = state_of(quiet)
    file = journal(quiet, kind, "begun")
    for words in (
        ("snapshot", "take"),
        ("cutover", "--yes"),
        ("rollback", "--yes"),
        ("trial", "run", "--snapshot", "live"),
    ):
        if words[0] == "cutover":
            (quiet.folder / "upgrade.toml").write_text(
                'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "1"\nruntime = "2"\n[[step]]\nname = "a"\nkind = '
                '"purge-cache"\n'
            )
        ran = harbor(quiet.folder, *words, code=5)
        assert f"a {kind} of marrow-lane" in ran.err
        assert "keenharbor settle" in ran.err
        assert harbor(quiet.folder, *words, "--json", code=5).json["error"]["kind"] == "unsettled"
    assert "live is as before" in harbor(quiet.folder, "settle").out
    assert state_of(quiet) == before
    assert not file.exists()
    assert not (quiet.root / "var/maintenance.flag").exists()


def test_an_interrupted_cutover_is_put_back_the_same_way_each_time(quiet: Scene) -> None:
    before = state_of(quiet)
    safety = take(quiet)
    for _ in range(2):
        disturb(quiet)
        journal(quiet, "cutover", "changing", safety=safety)
        told = harbor(quiet.folder, "settle", "--json").json["settled"]
        assert told["live_is"] == "before"
        assert state_of(quiet) == before
        assert (quiet.root / "var/log/error.log").read_text() == "what went wrong\n", "the log is evidence"
        assert not (quiet.root / "var/cache/old.html").exists()
    assert [e.outcome for e in read_log(quiet.folder / "harbor").entries][-2:] == ["settled", "settled"]


def test_an_interrupted_rollback_is_carried_on(quiet: Scene) -> None:
    target = take(quiet)
    before = state_of(quiet)
    loan = (
        "INSERT INTO loans (variety_id, name, email, taken_on, due_on) VALUES (1, 'Kit', 'k@post.example', "
        "'2026-11-25', '2027-07-01')"
    )
    query(quiet.database, loan)
    query(quiet.database, "UPDATE loans SET returned_on = 'x' WHERE id = 7")
    (quiet.root / "core/VERSION").write_text("3.9\n")
    safety = take(quiet)
    (quiet.root / "core/half.py").write_text("half")
    journal(quiet, "rollback", "changing", safety=safety, target=target)
    told = harbor(quiet.folder, "settle", "--json").json["settled"]
    assert (told["live_is"], "1 row carried over" in told["detail"]) == ("after", True)
    files, _ = state_of(quiet)
    assert files == before[0]
    assert query(quiet.database, "SELECT name FROM loans ORDER BY id DESC LIMIT 1") == [("Kit",)]
    (aside,) = (quiet.folder / "harbor").glob("not-carried-*.jsonl")
    assert json.loads(aside.read_text())["row"]["id"] == 7


def test_a_change_that_was_done_stays_done(quiet: Scene) -> None:
    safety = take(quiet)
    (quiet.root / "core/VERSION").write_text("3.9\n")
    after = state_of(quiet)
    journal(quiet, "cutover", "done", safety=safety)
    assert harbor(quiet.folder, "settle", "--json").json["settled"]["live_is"] == "after"
    assert state_of(quiet) == after
    assert not (quiet.root / "var/maintenance.flag").exists()


def test_a_host_that_does_not_answer_leaves_the_journal_open(scene: Scene) -> None:
    """The scene's host is not running: settling says so, keeps the journal, and can be typed again."""
    safety = take(scene)
    file = journal(scene, "cutover", "changing", safety=safety)
    text = scene.site_file.read_text()
    scene.site_file.write_text(text.replace(f'"{sys.executable}"', '"false"', 1))
    ran = harbor(scene.folder, "settle", code=5)
    assert "the host did not take up the change" in ran.err
    assert file.exists()


def test_a_journal_that_cannot_be_read_or_is_of_another_site_is_told(quiet: Scene) -> None:
    file = journal(quiet, "cutover", "begun")
    file.write_text(file.read_text().replace("marrow-lane", "other-site"))
    with pytest.raises(UsageError, match="other-site"):
        settle(open_site(quiet.site_file), Silent())
    file.write_text("{")
    with pytest.raises(DamagedError, match="journal cannot be read"):
        open_journal(quiet.folder / "harbor")


def test_a_broken_site_can_still_go_back(quiet: Scene) -> None:
    """Whatever somebody did to live by hand: the way back does not need what is broken."""
    target = take(quiet)
    before = state_of(quiet)
    (quiet.root / "core/VERSION").unlink()
    (quiet.root / ".runtime").unlink()
    (quiet.root / "extensions/loan-desk/extension.ini").write_text("no ini at all")
    told = harbor(quiet.folder, "rollback", target, "--yes", "--json").json
    assert told["core"] == "3.4"
    assert state_of(quiet) == before


# -- what durability rests on ---------------------------------------------------------------------------------


def test_a_file_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    file = tmp_path / "a.json"
    write_json(file, {"a": "é"})
    assert json.loads(file.read_text()) == {"a": "é"}
    assert file.stat().st_mode & 0o777 == 0o600
    with pytest.raises(TypeError):
        write_durably(file, "text is no bytes")  # type: ignore[arg-type]
    assert json.loads(file.read_text()) == {"a": "é"}
    assert [p.name for p in tmp_path.iterdir()] == ["a.json"]
    assert private_folder(tmp_path / "x/y").stat().st_mode & 0o777 == 0o700
    assert (tmp_path / "x").stat().st_mode & 0o777 == 0o700


def test_a_lock_outlives_its_process_with_its_children(tmp_path: Path) -> None:
    lock = tmp_path / "a.lock"
    script = (
        "import subprocess, sys\nfrom pathlib import Path\nfrom keenharbor.host.lease import held\n"
        f"with held(Path({str(lock)!r}), 'it') as fd:\n"
        "    subprocess.Popen(['sleep', '4'], pass_fds=(fd,))\n    import os; os._exit(9)\n"
    )
    assert subprocess.run([sys.executable, "-c", script], check=False).returncode == 9
    with pytest.raises(KeenHarborError, match="in use"), held(lock, "it"):
        pass
    with held(lock, "it", wait_seconds=30):
        pass


def test_a_program_is_stopped_with_its_children(tmp_path: Path) -> None:
    began = time.monotonic()
    script = f"trap '' TERM; (sleep 30; touch {tmp_path}/late) & sleep 30"
    ran = run_program(["sh", "-c", script], folder=tmp_path, time_limit=0.3)
    assert ran.timed_out
    assert time.monotonic() - began < 15
    assert not (tmp_path / "late").exists()


def test_a_server_that_a_program_leaves_behind_is_not_waited_for(tmp_path: Path) -> None:
    began = time.monotonic()
    ran = run_program(["sh", "-c", "echo started; (sleep 6; touch still) & exit 0"], folder=tmp_path, time_limit=60)
    assert (ran.code, ran.output) == (0, "started\n")
    assert time.monotonic() - began < 5
    while not (tmp_path / "still").exists() and time.monotonic() - began < 30:
        time.sleep(0.1)
    assert (tmp_path / "still").exists(), "it was killed"


def test_a_programs_output_and_code_are_kept(tmp_path: Path) -> None:
    ran = run_program(["sh", "-c", "echo out; echo err >&2; exit 4"], folder=tmp_path, time_limit=10)
    assert (ran.code, ran.output) == (4, "out\nerr\n")
    assert ran.command == "sh -c 'echo out; echo err >&2; exit 4'"


def test_the_log_takes_many_writers_and_a_cut_line(tmp_path: Path) -> None:
    threads = [threading.Thread(target=append_log, args=(tmp_path, "s", "c", "done", f"entry {n}")) for n in range(20)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    with (tmp_path / "log.jsonl").open("a") as out:
        out.write('{"at": "2026')
    found = read_log(tmp_path)
    assert sorted(e.detail for e in found.entries) == sorted(f"entry {n}" for n in range(20))
    assert [line for line, _ in found.damaged] == [21]
    append_log(tmp_path, "s", "c", "done", "behind it")
    behind = read_log(tmp_path)
    assert (behind.entries[-1].detail, [line for line, _ in behind.damaged]) == ("behind it", [21])
    assert read_log(tmp_path / "none").entries == ()


@pytest.mark.parametrize(
    ("error", "code"),
    [(KeenHarborError, 3), (UsageError, 2), (DamagedError, 1), (PutBackError, 4), (UnsettledError, 5)],
)
def test_each_class_of_error_has_its_exit_code(error: type[KeenHarborError], code: int) -> None:
    assert error("x").as_json()["exit_code"] == code


def test_a_change_is_done_only_when_it_is_on_disk(scene: Scene, monkeypatch: pytest.MonkeyPatch) -> None:
    site = open_site(scene.site_file)
    private_folder(site.work)
    at_sync: list[str] = []

    def sync() -> None:
        found = open_journal(site.work)
        at_sync.append(found.phase if found is not None else "none")

    monkeypatch.setattr(os, "sync", sync)
    changing = enter_phase(site, begin_journal(site, "restore", "token"), "changing")
    assert at_sync == []
    enter_phase(site, changing, "done")
    assert at_sync == ["changing"]
    close_journal(site)
    assert open_journal(site.work) is None
