"""Giving back: over live, in parts, into another database, for a site that has moved; and what a drill finds."""

from __future__ import annotations

import random
import re
import shutil
import time
from pathlib import Path

import pytest

from conftest import harbor, killed, plain_dump, plain_files, query, state_of
from keenharbor.base.errors import DamagedError, UnsettledError
from keenharbor.base.progress import Silent
from keenharbor.demo.scene import Scene
from keenharbor.demo.visitors import borrow, loans_of
from keenharbor.live.journal import JournalFacts, begin_journal, enter_phase, open_journal
from keenharbor.live.restore import Chosen, restore_live
from keenharbor.site.load import open_site
from keenharbor.snapshot import TakeOptions, find_snapshot, take_snapshot
from keenharbor.store import Store


def take(scene: Scene, label: str) -> str:
    return str(harbor(scene.folder, "snapshot", "take", "--label", label, "--json").json["id"])


def change_live(scene: Scene) -> None:
    (scene.root / "core/VERSION").write_text("broken\n")
    (scene.root / "media/stray.txt").write_text("stray")
    shutil.rmtree(scene.root / "themes/marrow/overrides")
    query(scene.database, "UPDATE pages SET title = 'Broken' WHERE slug = 'about'")
    query(scene.database, "DELETE FROM notes")
    query(
        scene.database,
        "INSERT INTO loans (variety_id, name, email, taken_on, due_on) VALUES (1, 'Visitor', 'v@x', '2026-01-01', "
        "'2026-02-01')",
    )


def test_everything_goes_back_over_live_and_back_again(served: Scene) -> None:
    take(served, "good")
    before = state_of(served)
    change_live(served)
    broken = state_of(served)
    refused = harbor(served.folder, "snapshot", "restore", "good", "--live", code=2)
    assert "table loans: 1 row would be lost (of visitors)" in " ".join(refused.out.split())
    assert "media/stray.txt" in refused.out and "core/VERSION" in refused.out
    assert state_of(served) == broken, "without --yes and a terminal nothing is done"
    done = harbor(served.folder, "snapshot", "restore", "good", "--live", "--yes", "--json").json
    assert done["conflict"]["rows"]["loans"] == [1, 0, 0]
    after = state_of(served)
    assert after[0] == before[0]
    assert [line for line in after[1] if "sqlite_sequence" not in line] == [
        line for line in before[1] if "sqlite_sequence" not in line
    ]
    harbor(served.folder, "snapshot", "restore", done["safety"], "--live", "--yes")
    assert state_of(served) == broken
    assert borrow(served.address, "Maren Tull", "long-tom-carrot").startswith("Lent")
    assert "restore" in harbor(served.folder, "log").out


def test_parts_go_back_over_live_and_nothing_else(served: Scene) -> None:
    take(served, "good")
    files, rows = state_of(served)
    change_live(served)
    harbor(served.folder, "snapshot", "restore", "good", "core/VERSION", "--live", "--yes")
    now = plain_files(served.root)
    assert now["core/VERSION"] == files["core/VERSION"]
    assert "media/stray.txt" in now
    assert plain_dump(served.database) != rows
    harbor(served.folder, "snapshot", "restore", "good", "--area", "themes", "--live", "--yes")
    assert (served.root / "themes/marrow/overrides/variety.html").exists()
    harbor(served.folder, "snapshot", "restore", "good", "--table", "notes", "--live", "--yes")
    assert query(served.database, "SELECT count(*) FROM notes")[0][0] > 20
    assert query(served.database, "SELECT title FROM pages WHERE slug = 'about'") == [("Broken",)]
    assert loans_of(served.database_place, ("Visitor",)) == ["Visitor"]
    same = harbor(served.folder, "snapshot", "restore", "good", "--table", "notes", "--live", "--yes")
    assert "live holds just that already" in same.out


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("one",), "where to?"),
        (("one", "--live", "--to", "x"), "--live goes with none of"),
        (("one", "--live", "--table", "nothing"), "no table 'nothing'"),
        (("one", "nothing", "--live"), "no path 'nothing'"),
        (("one", "--live", "--no-files", "--no-database"), "nothing is chosen"),
        (("one", "--database", "nonsense"), "engine '' is not known"),
        (("one", "--database", "mariadb://h/x"), "the snapshot's database is on sqlite"),
    ],
)
def test_wrong_use_is_told(shared_scene: Scene, words: tuple[str, ...], said: str) -> None:
    if not harbor(shared_scene.folder, "snapshot", "list", "--json", code=None).out.count('"label": "one"'):
        take(shared_scene, "one")
    assert said in harbor(shared_scene.folder, "snapshot", "restore", *words, code=2).err


def test_a_table_that_is_made_otherwise_is_refused(served: Scene) -> None:
    take(served, "good")
    query(served.database, "ALTER TABLE notes ADD COLUMN extra TEXT")
    query(served.database, "DELETE FROM notes")
    ran = harbor(served.folder, "snapshot", "restore", "good", "--table", "notes", "--live", "--yes", code=None)
    assert "not made as it was" in ran.err
    harbor(served.folder, "settle", code=None)


def test_another_database_takes_it(scene: Scene, tmp_path: Path) -> None:
    take(scene, "one")
    url = f"sqlite://{tmp_path}/new.db"
    harbor(scene.folder, "snapshot", "restore", "one", "--database", url, "--no-files")
    assert plain_dump(tmp_path / "new.db") == plain_dump(scene.database)
    query(tmp_path / "new.db", "DELETE FROM loans")
    query(tmp_path / "new.db", "UPDATE pages SET title = 'mine'")
    refused = harbor(scene.folder, "snapshot", "restore", "one", "--database", url, code=2)
    assert "tables in this database already" in refused.err
    harbor(scene.folder, "snapshot", "restore", "one", "--database", url, "--table", "loans")
    assert query(tmp_path / "new.db", "SELECT count(*) FROM loans") == query(
        scene.database, "SELECT count(*) FROM loans"
    )
    assert query(tmp_path / "new.db", "SELECT DISTINCT title FROM pages") == [("mine",)]
    harbor(scene.folder, "snapshot", "restore", "one", "--database", url, "--overwrite", "--yes")
    assert plain_dump(tmp_path / "new.db") == plain_dump(scene.database)
    live = harbor(scene.folder, "snapshot", "restore", "one", "--database", f"sqlite://{scene.database}", code=2)
    assert "this is the live site's database" in live.err


def test_a_moved_site_is_rewritten(scene: Scene, tmp_path: Path) -> None:
    take(scene, "one")
    words = ("--new-address", "https://seeds.example", "--new-root", "/srv/seeds")
    told = harbor(scene.folder, "snapshot", "restore", "one", "--to", tmp_path / "new", *words, "--json").json
    assert told["rewritten_files"] >= 1 and told["rewritten_cells"] >= 3
    settings = (tmp_path / "new/files/settings.ini").read_text()
    assert "address = https://seeds.example" in settings and "root = /srv/seeds" in settings
    dump = "\n".join(plain_dump(tmp_path / "new/database" / scene.database.name))
    assert scene.address not in dump and "https://seeds.example/about" in dump
    assert str(scene.root) not in dump
    bad = harbor(scene.folder, "snapshot", "restore", "one", "--to", tmp_path / "x", "--new-address", "seeds", code=2)
    assert "is no address" in bad.err


def test_a_drill_proves_a_snapshot_and_touches_nothing(served: Scene) -> None:
    take(served, "one")
    before = state_of(served)
    told = harbor(served.folder, "snapshot", "drill", "one", "--json").json
    assert told["good"] and told["pages"] > 8 and told["checks"] == 4
    assert told["differences"] == []
    assert state_of(served) == before
    assert list((served.folder / "harbor/clones").iterdir()) == []
    (listed,) = harbor(served.folder, "snapshot", "list", "--json").json
    assert listed["proven"]["how"] == "a drill"
    assert 0 < listed["proven"]["seconds"] < 60
    query(served.database, "UPDATE pages SET body = '<p>News.</p>' WHERE slug = 'about'")
    told = harbor(served.folder, "snapshot", "drill", "one", "--json").json
    assert told["good"], "live has moved on, which is no fault of the snapshot"
    assert any("/about" in d["pages"] for d in told["differences"])


def test_a_drill_without_live_goes_by_the_site_alone(scene: Scene) -> None:
    take(scene, "one")
    ran = harbor(scene.folder, "snapshot", "drill", "one")
    assert "PROVEN" in ran.out and "live does not answer" in ran.out


def test_a_snapshot_that_does_not_come_up_is_not_proven(scene: Scene) -> None:
    (scene.root / "tansy.py").write_text("raise SystemExit('broken')\n")
    take(scene, "broken")
    ran = harbor(scene.folder, "snapshot", "drill", "broken", code=1)
    assert "FAILED" in ran.out and "is not proven" in ran.out
    assert "! not proven" in harbor(scene.folder, "snapshot", "list").out
    shown = " ".join(harbor(scene.folder, "snapshot", "show", "broken").out.split())
    assert "it did not come up in a drill" in shown


def test_what_was_left_of_the_flag_by_a_killed_run_goes_when_it_is_settled(scene: Scene) -> None:
    take(scene, "one")
    before = state_of(scene)
    begin_journal(open_site(scene.site_file), "restore", "t", JournalFacts(target="x", chosen={}))
    (scene.root / "var/.maintenance.flag.4711-0a1b2c3d.part").write_text("token")
    harbor(scene.folder, "settle")
    assert state_of(scene) == before


def test_an_interrupted_restore_is_carried_on_by_settle(scene: Scene) -> None:
    take(scene, "good")
    before = state_of(scene)
    change_live(scene)
    site = open_site(scene.site_file)
    store = Store(site.store_folder)
    target = find_snapshot(store, "good", site.name)
    journal = begin_journal(
        site,
        "restore",
        "t",
        JournalFacts(target.id, chosen={"files": True, "database": True, "paths": [], "areas": [], "tables": []}),
    )
    safety = take_snapshot(site, store, TakeOptions(), Silent(), None)
    enter_phase(site, journal, "changing", safety.id)
    text = scene.site_file.read_text()
    scene.site_file.write_text(re.sub(r"reload = .*", "", text))  # nobody serves it here
    assert "was interrupted" in harbor(scene.folder, "snapshot", "take", code=5).err
    harbor(scene.folder, "settle")
    after = state_of(scene)
    assert after[0] == before[0]
    assert query(scene.database, "SELECT count(*) FROM loans WHERE name = 'Visitor'") == [(0,)]


# -- killed at any instant ---------------------------------------------------------------------------------------


@pytest.fixture
def still(scene: Scene) -> Scene:
    """A site without a host: nothing is to be reloaded."""
    scene.site_file.write_text(re.sub(r"reload = .*", "", scene.site_file.read_text()))
    return scene


RUNS = 25


class Kills:
    """Kills runs at random moments within the time that a whole one takes, and counts those that were still at work."""

    def __init__(self, folder: Path, seconds: float) -> None:
        self._folder, self._seconds = folder, seconds
        self._effective = self._number = 0

    def __call__(self, *words: str | Path) -> None:
        after = random.Random(self._number).uniform(0.005, self._seconds)
        began = time.monotonic()
        if killed(self._folder, *words, after=after) == -9:
            self._effective += 1
        else:
            # It was done before: the run that was measured was a slow one.
            self._seconds = min(self._seconds, time.monotonic() - began)
        self._number += 1

    def check(self) -> None:
        assert self._number == RUNS
        assert self._effective >= RUNS // 2, f"of {RUNS} runs only {self._effective} were killed"


def seconds_of(folder: Path, *words: str | Path) -> float:
    began = time.monotonic()
    harbor(folder, *words)
    return time.monotonic() - began


def check_store(scene: Scene, expected: set[str]) -> None:
    assert harbor(scene.folder, "snapshot", "verify", "--json").json["good"], "the store is torn"
    ids = {s["id"] for s in harbor(scene.folder, "snapshot", "list", "--json").json}
    assert expected <= ids, "an old snapshot is lost"


def test_killed_while_a_snapshot_is_taken(still: Scene) -> None:
    known = {take(still, "first")}
    (still.root / "media/changing.bin").write_bytes(random.Random(99).randbytes(400_000))
    kill = Kills(still.folder, seconds_of(still.folder, "snapshot", "take"))
    for number in range(RUNS):
        (still.root / "media/changing.bin").write_bytes(random.Random(number).randbytes(400_000))
        query(still.database, f"UPDATE pages SET title = 'T{number}' WHERE slug = 'about'")
        kill("snapshot", "take")
        if number % 5 == 4:
            check_store(still, known)
    kill.check()
    harbor(still.folder, "snapshot", "take", "--label", "last")
    check_store(still, known)
    harbor(still.folder, "snapshot", "restore", "last", "--to", "back")
    assert plain_files(still.folder / "back/files") == plain_files(still.root)


def test_killed_while_thinning(still: Scene) -> None:
    thin = ("snapshot", "thin", "--newest", "1", "--yes")

    def two_more(number: int) -> None:
        for part in range(2):
            (still.root / "media/changing.bin").write_bytes(random.Random(100 * number + part).randbytes(100_000))
            take(still, f"t{number}-{part}")

    two_more(99)
    kill = Kills(still.folder, seconds_of(still.folder, *thin))
    for number in range(RUNS):
        two_more(number)
        last = str(harbor(still.folder, "snapshot", "list", "--json").json[0]["id"])
        kill(*thin)
        if number % 5 == 4:
            check_store(still, {last})
    kill.check()
    harbor(still.folder, *thin)
    check_store(still, {last})
    assert harbor(still.folder, "snapshot", "usage", "--json").json["leftover_bytes"] < 2000


def test_killed_while_an_archive_is_taken_in(still: Scene, tmp_path: Path) -> None:
    (still.root / "media/big.bin").write_bytes(random.Random(1).randbytes(400_000))
    wanted = take(still, "one")
    harbor(still.folder, "snapshot", "export", "one", tmp_path / "a.tar.zst")
    store = still.folder / "harbor/store"
    shutil.rmtree(store)
    kill = Kills(still.folder, seconds_of(still.folder, "snapshot", "import", tmp_path / "a.tar.zst"))
    for number in range(RUNS):
        shutil.rmtree(store)
        other = take(still, "other")
        kill("snapshot", "import", tmp_path / "a.tar.zst")
        if number % 5 == 4:
            check_store(still, {other})
    kill.check()
    harbor(still.folder, "snapshot", "import", tmp_path / "a.tar.zst")
    check_store(still, {wanted, other})


def test_killed_while_restoring_over_live(still: Scene) -> None:
    take(still, "good")
    good = state_of(still)
    change_live(still)
    take(still, "broken")
    broken = state_of(still)

    def without_counter(state: tuple[dict[str, str], list[str]]) -> tuple[dict[str, str], list[str]]:
        return state[0], [line for line in state[1] if "sqlite_sequence" not in line]

    ends = {"good": without_counter(good), "broken": without_counter(broken)}
    seconds = seconds_of(still.folder, "snapshot", "restore", "good", "--live", "--yes")
    kill = Kills(still.folder, seconds)
    at = "good"
    seen = set()
    for _ in range(RUNS):
        to = "good" if at == "broken" else "broken"
        kill("snapshot", "restore", to, "--live", "--yes")
        harbor(still.folder, "settle")
        now = without_counter(state_of(still))
        assert now in (ends[at], ends[to]), "live is between two states"
        assert not list(still.root.rglob("*.part"))
        at = to if now == ends[to] else at
        seen.add(at)
        assert not (still.root / "var/maintenance.flag").exists()
    kill.check()
    check_store(still, set())
    assert seen == {"good", "broken"}


def test_restoring_stops_before_anything_when_content_is_damaged(still: Scene) -> None:
    take(still, "good")
    change_live(still)
    site = open_site(still.site_file)
    store = Store(site.store_folder)
    for pack in store.pack_files():
        data = bytearray(pack.read_bytes())
        for at in range(60, len(data), 300):
            data[at] ^= 255
        pack.write_bytes(data)
    before = state_of(still)
    target = find_snapshot(store, "good", site.name)
    with pytest.raises(DamagedError, match="damaged"):
        restore_live(site, store, target, Chosen(), Silent())
    assert state_of(still) == before
    assert open_journal(site.work) is None


def test_stopped_when_all_was_done_it_is_settled(still: Scene, monkeypatch: pytest.MonkeyPatch) -> None:
    take(still, "good")
    good = state_of(still)
    change_live(still)
    site = open_site(still.site_file)
    store = Store(site.store_folder)

    def stop(site: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr("keenharbor.live.guard.close_journal", stop)
    with pytest.raises(UnsettledError, match="is done, but its end was interrupted: it was stopped"):
        restore_live(site, store, find_snapshot(store, "good", site.name), Chosen(), Silent())
    journal = open_journal(site.work)
    assert journal is not None and journal.phase == "done" and journal.safety is not None
    assert "live is as after it" in " ".join(harbor(still.folder, "settle").out.split())
    assert state_of(still)[0] == good[0]
