"""Ends that are true: what a change of live says of itself when journal, log, flag or disk are not as they should
be."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import PROGRAM, environment, harbor, query, state_of
from keenharbor.base.errors import KeenHarborError
from keenharbor.base.progress import Silent
from keenharbor.clone.facts import list_clones
from keenharbor.demo.scene import Host, Scene
from keenharbor.host.lease import held
from keenharbor.live.journal import new_token
from keenharbor.live.restore import Chosen, restore_live
from keenharbor.site.load import open_site
from keenharbor.site.log import LOG_NAME, read_log
from keenharbor.snapshot import find_snapshot
from keenharbor.store import Store

PLAN = """format = 1
[plan]
site = "marrow-lane"
core = "3.4"
runtime = "2"
[[step]]
name = "greeting"
kind = "setting"
database = "desk.greeting"
value = "Sow well!"
[[step]]
name = "slow"
kind = "command"
command = ["sh", "-c", "touch ../started; test ! -e var/slow || sleep 20"]
"""


@pytest.fixture
def quiet(scene: Scene) -> Scene:
    """A site without a host: nothing is to be reloaded."""
    text = scene.site_file.read_text().splitlines()
    scene.site_file.write_text("\n".join(line for line in text if not line.startswith("reload = ")) + "\n")
    return scene


@pytest.fixture
def rehearsed(scene: Scene) -> Iterator[Scene]:
    """A served site with a rehearsed plan whose second step takes its time where there is a file 'slow'."""
    (scene.folder / "upgrade.toml").write_text(PLAN)
    with Host(scene):
        harbor(scene.folder, "snapshot", "take")
        harbor(scene.folder, "trial", "run", code=None)
        yield scene


def take(scene: Scene, label: str = "one") -> str:
    return str(harbor(scene.folder, "snapshot", "take", "--label", label, "--json").json["id"])


def flag(scene: Scene) -> Path:
    return scene.root / "var/maintenance.flag"


def started(scene: Scene, *words: str) -> subprocess.Popen[str]:
    """A cutover that stands in its slow step."""
    (scene.root / "var/slow").touch()
    (scene.folder / "started").unlink(missing_ok=True)
    running = subprocess.Popen(
        [*PROGRAM, "cutover", "--yes", "--despite", "verdict", *words], cwd=scene.folder,
        env=environment(COLUMNS="300"),
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    end = time.monotonic() + 60
    while not (scene.folder / "started").exists() and time.monotonic() < end:
        time.sleep(0.02)
    return running


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP, signal.SIGINT])
def test_a_cutover_that_is_asked_to_stop_puts_everything_back_and_says_so(
    rehearsed: Scene, number: signal.Signals
) -> None:
    scene = rehearsed
    (scene.root / "var/slow").touch()
    before = state_of(scene)
    running = started(scene)
    running.send_signal(number)
    _, err = running.communicate(timeout=150)
    (scene.folder / "started").unlink()
    assert running.returncode == 4, err
    assert "everything was put back" in err
    assert state_of(scene) == before and not flag(scene).exists()
    last = read_log(scene.folder / "harbor").entries[-1]
    assert (last.command, last.outcome) == ("cutover", "put back") and "stopped" in last.detail
    assert harbor(scene.folder, "settle", "--json").json == {"settled": None}


def test_a_second_cutover_says_that_one_runs_with_who_and_since_when(rehearsed: Scene) -> None:
    running = started(rehearsed)
    try:
        for words in (("cutover", "--yes", "--despite", "verdict"), ("rollback", "newest", "--yes")):
            told = harbor(rehearsed.folder, *words, code=3, COLUMNS="300").err
            assert "a cutover of marrow-lane runs since 20" in told and f"process {running.pid}" in told
            assert "interrupted" not in told and "settle" not in told
        told = harbor(rehearsed.folder, "ready", "--core", "4.0", "--json", code=None).json
        (open_change,) = [c for c in told["checks"] if c["subject"] == "open change"]
        assert "under way" in open_change["reason"]
    finally:
        running.terminate()
        running.communicate(timeout=150)


def test_a_log_that_cannot_be_written_changes_no_outcome_and_rollback_finds_the_cutover(rehearsed: Scene) -> None:
    scene = rehearsed
    before = state_of(scene)
    log = scene.folder / "harbor" / LOG_NAME
    log.rename(log.with_suffix(".away"))
    log.mkdir()
    told = harbor(scene.folder, "cutover", "--yes", "--despite", "verdict", "--json").json
    assert any("the log could not be written" in r for r in told["remarks"])
    assert query(scene.database, "SELECT value FROM settings WHERE name = 'desk.greeting'") == [("Sow well!",)]
    log.rmdir()
    log.with_suffix(".away").rename(log)
    back = harbor(scene.folder, "rollback", "--yes", "--json").json
    assert back["target"] == told["safety"]
    (scene.folder / "started").unlink()
    assert state_of(scene)[0] == before[0]


def test_too_little_space_is_said_before_visitors_are_locked_out(quiet: Scene, monkeypatch: pytest.MonkeyPatch) -> None:
    take(quiet)
    site = open_site(quiet.site_file)
    store = Store(site.store_folder)
    monkeypatch.setattr("keenharbor.live.guard._MARGIN", 1 << 50)
    with pytest.raises(KeenHarborError, match="too little space for the safety snapshot") as told:
        restore_live(site, store, find_snapshot(store, "one"), Chosen(), Silent())
    assert told.value.exit_code == 3
    assert not flag(quiet).exists() and not (quiet.folder / "harbor/journal.json").exists()
    assert not list((quiet.folder / "harbor").rglob(".reserved-*"))


# -- what settle finds -----------------------------------------------------------------------------------------


@pytest.mark.parametrize("damage", ["a folder", "no JSON", "cut", "another kind", "unknown keys", "a loop of links"])
def test_a_damaged_journal_is_settled_by_what_else_is_known(quiet: Scene, damage: str) -> None:
    first = take(quiet)
    before = state_of(quiet)
    harbor(
        quiet.folder, "snapshot", "restore", first, "--live", "--yes"
    )  # its safety snapshot is of a change that ended
    query(quiet.database, "UPDATE pages SET title = 'since' WHERE slug = 'about'")
    now = state_of(quiet)
    journal = quiet.folder / "harbor/journal.json"
    {
        "a folder": lambda: journal.mkdir(),
        "no JSON": lambda: journal.write_bytes(b"\x00\xff"),
        "cut": lambda: journal.write_text('{"kind": "cutover", "site": "marrow'),
        "another kind": lambda: journal.write_text('{"kind": "party"}'),
        "unknown keys": lambda: journal.write_text('{"kind": "cutover", "site": "marrow-lane", "x": 1}'),
        "a loop of links": lambda: journal.symlink_to(journal.name),
    }[damage]()
    flag(quiet).write_text(new_token())
    assert "keenharbor settle" in harbor(quiet.folder, "snapshot", "take", code=5).err
    told = harbor(quiet.folder, "settle", "--json").json["settled"]
    assert told["live_is"] == "before" and "it is kept as journal.damaged-" in told["detail"]
    assert state_of(quiet) == now != before
    assert not flag(quiet).exists() and not os.path.lexists(journal)
    assert harbor(quiet.folder, "settle", "--json").json == {"settled": None}


def test_a_damaged_journal_of_a_change_that_had_begun_goes_back_to_its_safety_snapshot(quiet: Scene) -> None:
    take(quiet)
    before = state_of(quiet)
    script = (
        "import sys\nfrom pathlib import Path\nfrom keenharbor.base.progress import Silent\n"
        "from keenharbor.live.guard import changing_live\nfrom keenharbor.live.journal import JournalFacts\n"
        "from keenharbor.site.load import open_site\nfrom keenharbor.store import Store\nimport os\n"
        f"site = open_site(Path({str(quiet.site_file)!r}))\n"
        "with changing_live(site, Store(site.store_folder), 'cutover', Silent(), None, 'x', JournalFacts()) as "
        "change:\n"
        "    change.enter('changing', change.safety.id)\n    change.live.tree.write('core/VERSION', b'9.9')\n    "
        "os._exit(9)\n"
    )
    assert subprocess.run([PROGRAM[0], "-c", script], check=False).returncode == 9
    assert state_of(quiet) != before
    (quiet.folder / "harbor/journal.json").write_text("{")
    told = harbor(quiet.folder, "settle", "--json").json["settled"]
    assert "was put back" in told["detail"]
    assert state_of(quiet) == before and not flag(quiet).exists()


def test_a_flag_without_a_journal_is_removed_if_it_is_ours(quiet: Scene) -> None:
    flag(quiet).write_text("closed by Ada until Monday")
    told = harbor(quiet.folder, "settle", "--json").json
    assert told["settled"] is None and len(told["remarks"]) == 1 and flag(quiet).exists()
    assert "put there by somebody else: it stays" in " ".join(harbor(quiet.folder, "settle").out.split())
    flag(quiet).write_text(new_token())
    told = harbor(quiet.folder, "settle", "--json").json["settled"]
    assert told["kind"] == "maintenance" and not flag(quiet).exists()


def test_half_written_files_and_reserved_room_of_killed_runs_go(quiet: Scene) -> None:
    before = state_of(quiet)
    (quiet.root / "core/.app.py.999999-0a1b2c3d.part").write_text("half")
    (quiet.root / "core/.mine.part").write_text("somebody's own")
    (quiet.folder / "harbor").mkdir(exist_ok=True)
    (quiet.folder / "harbor/.reserved-999999-0a1b2c3d").write_bytes(bytes(100))
    told = harbor(quiet.folder, "settle", "--json").json["settled"]
    assert len([c for c in told["cleared"] if "/tmp/harbor-net-" not in c]) == 2 and told["live_is"] == "before"
    assert (quiet.root / "core/.mine.part").read_text() == "somebody's own"
    (quiet.root / "core/.mine.part").unlink()
    assert state_of(quiet) == before
    assert harbor(quiet.folder, "settle", "--json").json == {"settled": None}


def test_a_killed_trial_leaves_nothing_once_it_is_settled_and_a_kept_clone_stays(rehearsed: Scene) -> None:
    scene = rehearsed
    kept = harbor(scene.folder, "clone", "make", "--json").json["id"]
    plan = PLAN.replace("touch ../started; test ! -e var/slow || sleep 20", "env -i sleep 300 & sleep 20")
    (scene.folder / "upgrade.toml").write_text(plan)
    with subprocess.Popen([*PROGRAM, "trial", "run"], cwd=scene.folder, env=environment(), stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL) as running:  # fmt: skip
        work = scene.folder / "harbor"
        end = time.monotonic() + 60
        while time.monotonic() < end:
            found = [c for c in list_clones(work) if c.id != kept]
            if len(found) == 2 and all(c.pid is not None for c in found):
                break
            time.sleep(0.02)
        time.sleep(1.5)
        running.kill()
    orphans = [c for c in list_clones(work) if c.id != kept]
    assert len(orphans) == 2, "its own clone, and the control"
    told = harbor(scene.folder, "settle", "--json").json["settled"]
    assert [c.id for c in list_clones(work)] == [kept]
    for orphan in orphans:
        assert any(orphan.id in line for line in told["cleared"])
        assert not (work / "clones" / orphan.id).exists()
        assert orphan.network is not None and not Path(orphan.network["folder"]).exists()


# -- the log -----------------------------------------------------------------------------------------------------


def test_a_damaged_line_of_the_log_is_named_and_never_followed_silently(quiet: Scene) -> None:
    for label in ("one", "two", "three"):
        take(quiet, label)
    log = quiet.folder / "harbor" / LOG_NAME
    lines = log.read_text().splitlines()
    at = next(n for n, line in enumerate(lines) if '"snapshot take"' in line and n > 0)
    changed = json.loads(lines[at])
    changed["detail"] = "something else"
    log.write_text("\n".join([*lines[:at], json.dumps(changed), *lines[at + 1 :]]) + "\n")
    ran = harbor(quiet.folder, "log", code=1)
    assert f"line {at + 1} of log.jsonl" in ran.out
    assert f"log.jsonl, line {at + 1}" in harbor(quiet.folder, "snapshot", "verify", code=1).out
    with log.open("a") as out:
        out.write("no entry\n")
    told = harbor(quiet.folder, "rollback", "--yes", code=1, COLUMNS="300").err
    assert "of the log is damaged, and may tell of a later cutover" in told
    take(quiet, "four")
    assert harbor(quiet.folder, "log", "--json", code=1).json[-1]["damaged_line"] == len(lines) + 2


def test_the_lease_is_told_even_when_what_it_says_is_odd(tmp_path: Path) -> None:
    lock = tmp_path / "a.lock"
    with held(lock, "it"):
        lock.write_bytes(b"\xff\xfe")
        with pytest.raises(Exception, match="it is in use by another run$"), held(lock, "it"):
            pass
    both = held(lock, "it", shared=True), held(lock, "it", shared=True)
    with both[0], both[1], pytest.raises(Exception, match="in use"), held(lock, "it"):
        pass
