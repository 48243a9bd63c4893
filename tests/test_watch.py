"""The late watch: live, days after a cutover, held against its arrival."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from conftest import query
from keenharbor.base.progress import Silent
from keenharbor.base.schedule import Schedule
from keenharbor.demo.scene import Host, Scene, set_scene
from keenharbor.host.programs import Ran
from keenharbor.live.arrivals import arrivals
from keenharbor.live.flag import reload_host
from keenharbor.live.latewatch import watch_live
from keenharbor.live.loglines import errors_in_logs, kind_of
from keenharbor.site.load import open_site
from keenharbor.store import Store
from keenharbor.tend.duties import Facts, duties_of
from keenharbor.tend.tending import due_now, read_tended, tend
from test_cutover import PLAN, Stage, describe

CHECKS = """
[look]
limit = 30

[[check]]
name = "the desk is open"
steps = [{ get = "/loans", text = 'name="token"' }]
"""
TROUBLE = """

_as_it_was = register


def register(site):
    _as_it_was(site)
    import time

    def trouble(request):
        page = lambda body: site.page(request, "x", body)
        TROUBLE

    site.before_answer.append(trouble)
"""


@pytest.fixture(scope="module")
def arrived(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Stage]:
    folder = tmp_path_factory.mktemp("watch")
    scene = set_scene(folder / "scene")
    describe(scene, CHECKS)
    with Host(scene):
        stage = Stage(scene, folder / "saved")
        stage.saved.mkdir()
        (scene.folder / "upgrade.toml").write_text(PLAN)
        (scene.root / "var/log").mkdir(parents=True, exist_ok=True)
        (scene.root / "var/log/error.log").write_text("2026-01-01 10:00:00 error: the printer 3 is out of paper\n" * 3)
        stage.run("trial", "run", "--json")
        stage.run("cutover", "--yes")
        stage.save()
        yield stage


@pytest.fixture
def stage(arrived: Stage) -> Stage:
    arrived.put_back()
    return arrived


def write_into(stage: Stage, trouble: str) -> None:
    """Bring a trouble into an extension of the site."""
    with (stage.scene.root / "extensions/growers-notes/main.py").open("a") as file:
        file.write(TROUBLE.replace("TROUBLE", trouble))
    reload_host(open_site(stage.scene.site_file))


def log(scene: Scene, line: str, times: int = 1) -> None:
    with (scene.root / "var/log/error.log").open("a") as file:
        file.write(f"{time.strftime('%Y-%m-%d %H:%M:%S')} {line}\n" * times)


def first_picture(scene: Scene) -> Path:
    return sorted((scene.root / "media").rglob("*.png"))[0]


def lend(scene: Scene, count: int) -> None:
    loans = "INSERT INTO loans SELECT (SELECT max(id) FROM loans) + id, {} FROM loans ORDER BY id LIMIT ?"
    names = [row[1] for row in query(scene.database, "PRAGMA table_info(loans)") if row[1] != "id"]
    query(scene.database, loans.format(", ".join(names)), count)


def watch(stage: Stage, code: int = 0) -> Ran:
    return stage.run("watch", "--json", code=code)


def test_what_people_do_is_no_trouble(stage: Stage) -> None:
    scene = stage.scene
    assert watch(stage).json["findings"] == []
    lend(scene, 6)
    query(scene.database, "UPDATE pages SET body = body || ' and more than that, every spring.' WHERE slug = 'about'")
    (scene.root / "media/leaf.txt").write_text("a leaf\n")
    log(scene, "error: the printer 7 is out of paper", 4)
    told = watch(stage).json
    assert told["findings"] == [] and told["verdict"] == "good" and told["pages"] > 5
    text = stage.run("watch").out
    assert "GOOD" in text and "nothing went wrong since the cutover" in " ".join(text.split())


def test_troubles_of_each_kind_are_told_with_the_way_back(stage: Stage) -> None:
    scene = stage.scene
    write_into(
        stage,
        """
        if request.path == "/calendar":
            raise RuntimeError("the almanac of 2027 is missing")
        if request.path == "/about":
            answer = page("")
            answer.body = b"<html><body></body></html>"
            return answer
        if request.path == "/notes":
            answer = page("<p>Notes on growing</p>" * 100)
            answer.headers.append(("X-Robots-Tag", "noindex"))
            return answer
        if request.path == "/loans":
            return page("<h1>Closed</h1>" + "<p>The counter is shut, come back in spring.</p>" * 20)
        if request.path == "/gallery":
            time.sleep(0.4)""",
    )
    first_picture(scene).write_bytes(b"no picture")
    log(scene, "CRITICAL the queue of letters is stuck")
    log(scene, "error: the printer 3 is out of paper", 200)
    query(scene.database, "DELETE FROM members WHERE id % 2")
    (scene.root / "core/rules.py").open("a").write("# changed\n")
    (scene.root / "media/leaf.php").write_text("<?php system($_GET['x']);")
    told = watch(stage, 1).json
    kinds = {f["kind"] for f in told["findings"]}
    wanted = {
        "page-fails", "emptied", "form-gone", "check-failed", "picture-broken", "slower", "log", "rows-lost",
        "code-changed-core", "code-changed-extensions", "code-in-uploads",
    }  # fmt: skip
    assert wanted <= kinds, wanted - kinds
    assert any(k.startswith("header-") for k in kinds), "search engines are told to leave a page out"
    logged = [f["text"] for f in told["findings"] if f["kind"] == "log"]
    assert any("queue of letters" in t for t in logged) and any("200 times" in t for t in logged)
    assert told["verdict"] == "damage" and told["passed"] == []
    text = " ".join(stage.run("watch", code=1).out.split())
    assert "DAMAGE" in text and "a way back would bring along" in text and "rollback --look" in text
    assert any(e["command"] == "watch" for e in stage.run("log", "--json").json)


def test_what_passes_is_no_trouble_and_a_dead_site_is_one(stage: Stage) -> None:
    write_into(
        stage,
        """
        count = trouble.__dict__.setdefault("count", [0])
        if request.path == "/calendar":
            count[0] += 1
            if count[0] == 1:
                raise RuntimeError("for a moment")""",
    )
    (stage.scene.root / "var/log/error.log").unlink()
    site = open_site(stage.scene.site_file)
    found = watch_live(site, Store(site.store_folder), Silent(), pause=0.0)
    assert found is not None and any("/calendar" in words for words in found.passed)
    assert [f.kind for f in found.findings if f.kind == "page-fails"] == []
    (stage.scene.root / "var/maintenance.flag").write_text("x")
    told = watch(stage, 1).json
    assert told["verdict"] == "damage" and any(f["kind"] == "page-fails" for f in told["findings"])


def test_nothing_is_watched_once_live_went_back(stage: Stage) -> None:
    assert arrivals(stage.scene.folder / "harbor")
    stage.run("rollback", "--yes")
    assert watch(stage).json == {"watched": False}
    assert not arrivals(stage.scene.folder / "harbor")
    assert "no way back of a cutover is open" in " ".join(stage.run("watch").out.split())


def test_a_log_that_is_begun_anew_is_read_from_its_beginning(stage: Stage) -> None:
    site, file = open_site(stage.scene.site_file), stage.scene.root / "var/log/error.log"
    ends = errors_in_logs(site).ends
    assert not errors_in_logs(site, ends).counts
    log(stage.scene, "error: one more")
    assert list(errors_in_logs(site, ends).counts) == [kind_of("2026-01-01 00:00:00 error: one more")]
    file.write_text("2026-02-02 00:00:00 error: from the beginning\n" * 50)
    assert sum(errors_in_logs(site, ends).counts.values()) == 50
    file.write_text("short error\n")
    assert list(errors_in_logs(site, ends).counts) == ["short error"]


ARRIVED = datetime(2026, 3, 1, 12, 0)


def over_a_week(tmp_path: Path, ends: Callable[[datetime], int], naps: Callable[[datetime], bool]) -> list[datetime]:
    """When live is looked at in the ten days after a cutover, by a run of 'tend' each quarter of an hour."""
    looked: list[datetime] = []
    at = ARRIVED
    duties = duties_of({"watch": "1h 1d 3d 7d after cutover"}, Facts(arrived=ARRIVED), "lane")
    while at < ARRIVED + timedelta(days=10):
        at += timedelta(minutes=15)
        if naps(at) or not due_now(duties, read_tended(tmp_path), at):
            continue

        def run(*_: object, at: datetime = at) -> Ran:
            looked.append(at)
            return Ran("", ends(at), "", 0.1)

        tend(tmp_path, duties, run, Silent(), lambda at=at: at, 240)  # type: ignore[misc]
    return looked


def test_it_is_looked_at_an_hour_a_day_three_days_and_a_week_after(tmp_path: Path) -> None:
    hours = [(t - ARRIVED) / timedelta(hours=1) for t in over_a_week(tmp_path / "a", lambda _: 0, lambda _: False)]
    assert hours == [1, 24, 72, 168]
    asleep = over_a_week(tmp_path / "b", lambda _: 0, lambda at: at < ARRIVED + timedelta(days=4))
    assert [(t - ARRIVED) / timedelta(hours=1) for t in asleep] == [96, 168], "what was missed is made up for once"
    bad = over_a_week(tmp_path / "c", lambda at: 1 if at < ARRIVED + timedelta(days=5) else 0, lambda _: False)
    assert [round((t - ARRIVED) / timedelta(days=1)) for t in bad] == [0, 1, 2, 3, 4, 5, 7], "daily until it is mended"


def test_offsets_in_words() -> None:
    schedule = Schedule.read("2 hours, 1 day after cutover").counted(ARRIVED)
    assert schedule.last(ARRIVED) is None and schedule.next(ARRIVED) == ARRIVED + timedelta(hours=2)
    assert schedule.next(ARRIVED + timedelta(days=1)) is None
    assert schedule.last(ARRIVED + timedelta(days=9)) == ARRIVED + timedelta(days=1)
    for wrong in ("1 month after cutover", "1h before cutover"):
        with pytest.raises(ValueError, match="says no time"):
            Schedule.read(wrong)
    with pytest.raises(ValueError, match="only 'watch'"):
        duties_of({"drill": "1h after cutover"}, Facts(), "lane")
    with pytest.raises(ValueError, match="only 'watch'"):
        duties_of({"watch": "daily"}, Facts(), "lane")
    assert duties_of({"watch": "never"}, Facts(arrived=ARRIVED), "lane") == []
    assert duties_of({}, Facts(), "lane") == []
