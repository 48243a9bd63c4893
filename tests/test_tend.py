"""What is done by itself: when it is due, once, what was missed; who is told, and once."""

from __future__ import annotations

import email
import itertools
import json
import os
import random
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from email.message import EmailMessage
from email.policy import default
from pathlib import Path
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from hypothesis import given
from hypothesis import strategies as st

from conftest import Pages, harbor
from keenharbor.base.errors import KeenHarborError
from keenharbor.base.progress import Silent
from keenharbor.base.schedule import Schedule
from keenharbor.clone.server import free_port
from keenharbor.demo.scene import Scene
from keenharbor.host.programs import Ran
from keenharbor.site.routines import MailboxPart, TellPart
from keenharbor.tend.drafting import Pace, drafted, pace_of
from keenharbor.tend.duties import Duty, Facts, duties_of
from keenharbor.tend.telling import news_of, note_told, send_mail, tell, text_of
from keenharbor.tend.tending import due_now, headline_of, read_tended, tend, write_tended
from test_keeping import made

AT = datetime(2026, 3, 1, 12, 0)
WORDS = [
    "hourly", "every 6 hours", "every 15 minutes", "daily", "daily 03:10", "weekdays 7:05", "weekly",
    "weekly sunday 04:00",
    "monthly 28 23:59", "monthly", "10 3 * * 1-5",
]  # fmt: skip
TIMES = st.datetimes(datetime(2025, 1, 1), datetime(2028, 1, 1))


@given(st.sampled_from(WORDS), st.text(max_size=8), TIMES)
def test_each_time_comes_once_and_none_is_passed_over(words: str, salt: str, at: datetime) -> None:
    schedule = Schedule.read(words, salt)
    last, coming = schedule.last(at), schedule.next(at)
    assert last <= at < coming and schedule.last(coming) == coming
    assert schedule.last(coming - timedelta(seconds=1)) == last == schedule.last(last)
    assert schedule.last(coming - timedelta(microseconds=1)) == last
    assert Schedule.read(words, salt) == schedule


def test_words_mean_what_they_say_and_others_are_refused() -> None:
    assert Schedule.read("daily 03:10").next(AT) == datetime(2026, 3, 2, 3, 10)
    assert Schedule.read("weekly sunday 04:00").next(AT) == datetime(2026, 3, 8, 4, 0)
    assert Schedule.read("monthly 5 00:30").next(AT) == datetime(2026, 3, 5, 0, 30)
    assert Schedule.read("after snapshot").after == "snapshot"
    drawn = {Schedule.read("daily", f"site {n}").cron for n in range(40)}
    assert len(drawn) > 30 and all(1 <= int(c.split()[1]) <= 4 for c in drawn), "many sites do not come at once"
    for wrong in ("", "sometimes", "daily 25:00", "weekly someday", "every 7 hours", "monthly 31 04:00", "* * *",
        "61 * * * *",
                  "every 6 hours 03:10", "after", "daily 03:10 04:10"):  # fmt: skip
        with pytest.raises(ValueError, match="says no time"):
            Schedule.read(wrong)


ROUTINE = {"snapshot": "daily 03:10", "send": "after snapshot", "verify": "weekly sunday 04:00", "drill": "weekly",
           "thin": "daily 05:10"}  # fmt: skip
FACTS = Facts(["cellar"], ["cellar"], ["--daily", "7"])


def test_duties_come_to_commands_of_the_tool_in_their_order() -> None:
    duties = duties_of({**ROUTINE, "ready": "never", "survey": "weekly"}, FACTS, "lane")
    assert [d.name for d in duties] == ["snapshot", "send", "verify", "drill", "thin", "survey"]
    assert [d.commands for d in duties if d.name == "thin"] == [
        (("snapshot", "thin", "--daily", "7", "--yes"), ("place", "thin", "cellar", "--yes"))
    ]
    assert not [d for d in duties_of(ROUTINE, Facts(), "lane") if d.name in ("send", "thin")]
    with pytest.raises(ValueError, match="no time itself"):
        duties_of({"send": "after snapshot"}, FACTS, "lane")


@dataclass
class World:
    """A machine with a clock of its own, on which commands end as they are told to."""

    work: Path
    at: datetime = AT
    seconds: float = 30.0
    ends: Callable[[Sequence[str], datetime], tuple[int, str]] = lambda *_: (0, "✓ DONE  well")
    asked: list[tuple[datetime, tuple[str, ...]]] = field(default_factory=list)
    told: list[Any] = field(default_factory=list)

    def run(self, command: Sequence[str], hours: float) -> Ran:
        self.asked.append((self.at, tuple(command)))
        code, output = self.ends(command, self.at)
        self.at += timedelta(seconds=self.seconds)
        return Ran("", code, output, self.seconds)

    def tend(self, duties: Sequence[Duty], when: str = "wrong", minutes: float = 240) -> None:
        done, tended = tend(self.work, duties, self.run, Silent(), lambda: self.at, minutes)
        news = news_of("lane", "http://x", done, tended, when, self.at)
        if news is not None:
            self.told.append((self.at, news))
            note_told(tended, news, self.at)
        write_tended(self.work, tended)

    def times(self, *command: str) -> list[datetime]:
        return [at for at, c in self.asked if c[: len(command)] == command]


def test_over_a_year_with_naps_each_time_is_done_once_and_what_was_missed_once(tmp_path: Path) -> None:
    world, chance = World(tmp_path), random.Random(4)
    duties = duties_of(ROUTINE, FACTS, "lane")
    naps = sorted(chance.sample(range(365), 20))
    end, day = AT + timedelta(days=365), 0
    while world.at < end:
        world.tend(duties)
        day = (world.at - AT).days
        nap = timedelta(days=chance.choice((0.5, 2, 9))) if naps and day >= naps[0] else timedelta(minutes=480)
        if naps and day >= naps[0]:
            naps.pop(0)
        world.at += nap
    taken = world.times("snapshot", "take")
    days = [t.date() for t in taken]
    assert len(set(days)) >= len(days) - 21, "once a day, and once more after a nap"
    slots = {Schedule.read("daily 03:10").last(t) for t in taken}
    assert len(slots) == len(taken), "no time of it was done twice"
    assert 290 < len(taken) < 366
    sent = world.times("place", "send")
    assert len(sent) == len(taken) and all(s > t for s, t in zip(sent, taken, strict=True))
    assert 35 < len(world.times("snapshot", "drill")) <= 54
    assert not world.told, "nothing was wrong"


def test_a_dead_place_is_tried_gently_and_told_once_and_when_it_is_back(tmp_path: Path) -> None:
    dead = (AT + timedelta(days=3), AT + timedelta(days=5, hours=6))

    def ends(command: Sequence[str], at: datetime) -> tuple[int, str]:
        if command[:2] == ("place", "send") and dead[0] <= at < dead[1]:
            return 3, "✗ the line to host: refused\n  next: once more"
        return 0, "✓ DONE  well"

    world = World(tmp_path, ends=ends)
    duties = duties_of(ROUTINE, FACTS, "lane")
    while world.at < AT + timedelta(days=9):
        world.tend(duties)
        world.at += timedelta(minutes=15)
    failed = [t for t in world.times("place", "send") if dead[0] <= t < dead[1]]
    assert all(b - a >= timedelta(hours=1) for a, b in itertools.pairwise(failed)) and len(failed) > 20
    bad = [news for _, news in world.told if news.bad]
    good = [(at, news) for at, news in world.told if news.good_again]
    assert len(bad) == 1 and bad[0].subject == "[lane] ✗ send: the line to host: refused"
    assert len(good) == 1 and dead[1] <= good[0][0] < dead[1] + timedelta(hours=2)
    assert "good again: send" in good[0][1].subject


def test_what_stays_bad_is_told_again_after_a_week_and_the_rest_goes_on(tmp_path: Path) -> None:
    def full(command: Sequence[str], _: datetime) -> tuple[int, str]:
        return (3, "✗ No space left on device") if command[:2] == ("snapshot", "take") else (0, "✓ DONE  well")

    world = World(tmp_path, ends=full)
    duties = duties_of(ROUTINE, FACTS, "lane")
    while world.at < AT + timedelta(days=15):
        world.tend(duties)
        world.at += timedelta(minutes=30)
    told = [at for at, news in world.told if "snapshot" in news.bad]
    assert len(told) == 3 and timedelta(days=7) <= told[1] - told[0] < timedelta(days=7, hours=2)
    assert not world.times("place", "send"), "what it comes after did not come about"
    assert len(world.times("snapshot", "verify")) == 3


def test_who_knows_of_one_trouble_is_told_of_another(tmp_path: Path) -> None:
    said = ["✗ the disk is full: 3 MiB left", "✗ the disk is full: 1 MiB left", "✗ the database does not answer"]
    ending = iter(said)
    world = World(tmp_path, ends=lambda *_: (3, next(ending, said[-1])))
    duties = duties_of({"snapshot": "daily 03:00"}, Facts(), "lane")
    for _ in range(6):
        world.tend(duties)
        world.at += timedelta(hours=2)
    subjects = [news.subject for _, news in world.told]
    assert len(subjects) == 2, "another number is no other trouble"
    assert "disk" in subjects[0] and "database" in subjects[1]


def test_a_store_in_use_is_put_off_and_is_no_news(tmp_path: Path) -> None:
    busy = [True]

    def ends(*_: object) -> tuple[int, str]:
        return (3, "✗ the store is in use by another run: it runs since") if busy[0] else (0, "✓ DONE  well")

    world = World(tmp_path, ends=ends)
    duties = duties_of({"snapshot": "daily 03:10"}, Facts(), "lane")
    world.tend(duties)
    assert not world.told and read_tended(tmp_path).duties["snapshot"].put_off
    busy[0] = False
    world.at += timedelta(hours=1)
    world.tend(duties)
    assert len(world.asked) == 2 and not world.told


def test_two_sites_on_one_store_over_a_year_do_not_lose_a_day_and_tell_nobody(tmp_path: Path) -> None:
    """Each finds the store in use by the other now and then: put off, and made up for at the next run."""
    busy: list[tuple[datetime, datetime, str]] = []

    def ending(name: str) -> Callable[[Sequence[str], datetime], tuple[int, str]]:
        def ends(command: Sequence[str], at: datetime) -> tuple[int, str]:
            if any(who != name and begin <= at < end for begin, end, who in busy):
                return 3, "✗ the store is in use by another run"
            busy.append((at, at + timedelta(minutes=7), name))
            return 0, "✓ DONE  well"

        return ends

    routine = {"snapshot": "daily 03:10", "send": "after snapshot", "verify": "weekly"}
    worlds = [World(tmp_path / n, seconds=420.0, ends=ending(n)) for n in ("ash", "birch")]
    duties = [duties_of(routine, FACTS, n) for n in ("ash", "birch")]
    put_off = 0
    while min(w.at for w in worlds) < AT + timedelta(days=365):
        at = max(w.at for w in worlds)
        for world, of_site in zip(worlds, duties, strict=True):
            world.at = at  # both are run at the same moment, as two timers of one machine do
            world.tend(of_site)
            put_off += sum(d.put_off for d in read_tended(world.work).duties.values())
        at = max(w.at for w in worlds)
        # Each quarter of an hour where work is due; the rest of the day shows nothing new.
        at = at + timedelta(minutes=15) if at.hour in (3, 4) else at.replace(minute=0) + timedelta(hours=1)
        at = at.replace(hour=3) + timedelta(days=1) if at.hour > 4 else at
        for world in worlds:
            world.at = at
    assert put_off > 300, "they met"
    for world in worlds:
        done = [t for t, c in world.asked if c[:2] == ("snapshot", "take") and not busy_at(busy, world, t)]
        assert len({Schedule.read("daily 03:10").last(t) for t in done}) == len(done) >= 364, "each day once"
        assert not world.told


def busy_at(busy: list[tuple[datetime, datetime, str]], world: World, at: datetime) -> bool:
    return not any(begin == at and who == world.work.name for begin, _, who in busy)


def test_behind_its_time_no_duty_is_begun_and_what_is_left_stays_due(tmp_path: Path) -> None:
    world = World(tmp_path, seconds=3600)
    duties = duties_of(ROUTINE, FACTS, "lane")
    world.tend(duties, minutes=90)
    assert [c[0][:2] for c in [(c,) for _, c in world.asked]] == [("snapshot", "take"), ("place", "send")]
    left = [d.duty.name for d in due_now(duties, read_tended(tmp_path), world.at)]
    assert left == ["verify", "drill", "thin"]
    world.tend(duties, minutes=900)
    assert not due_now(duties, read_tended(tmp_path), world.at)


def test_the_line_that_counts_is_found_in_what_a_command_says() -> None:
    assert headline_of("· reading\n\n✓ DONE  snapshot 1\n\nfiles 3\n") == "snapshot 1"
    assert headline_of("✓ DONE  a\n! NOT PROVEN  b\n✓ DONE  c") == "not proven: b"
    assert headline_of("· x\n✗ the disk is full\n  next: more") == "the disk is full"
    assert headline_of("") == "" and headline_of("plain\nlast words\n") == "last words"
    assert headline_of("✓ DONE  one\n✓ DONE  two\n✓ DONE  three") == "one; two and 1 more"


def test_a_routine_is_drafted_by_how_fast_a_site_changes() -> None:
    quick, slow = [made(h) for h in range(0, 24 * 5, 3)], [made(h) for h in range(0, 24 * 40, 24)]
    for snapshots, expected in ((quick, "every 6 hours"), (slow[:3], "daily 03:10")):
        changing = [type(s)(s.store, _adding(s.manifest), s.proofs, s.kept) for s in snapshots]
        assert f'snapshot = "{expected}"' in drafted(pace_of(changing), places=True)
    assert pace_of(slow).changed == 0 and 'snapshot = "weekly"' in drafted(pace_of(slow), places=False)
    text = drafted(Pace(0, 0, 0, None), places=False)
    assert "send" not in text and "daily 03:10" in text


def _adding(manifest: Any) -> Any:
    import dataclasses

    return dataclasses.replace(manifest, added_objects=3)


# -- telling --------------------------------------------------------------------------------------------------


class Box:
    """A mailbox on loopback, without a log-in."""

    def __init__(self) -> None:
        self.mails: list[EmailMessage] = []

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        found = email.message_from_bytes(envelope.content, policy=default)
        assert isinstance(found, EmailMessage)
        self.mails.append(found)
        return "250 OK"


@pytest.fixture
def box() -> Iterator[tuple[Box, MailboxPart]]:
    made = Box()
    port = free_port()
    controller = Controller(made, hostname="127.0.0.1", port=port)
    controller.start()
    try:
        yield (
            made,
            MailboxPart(to=["ida@example.org"], sender="harbor@example.org", host="127.0.0.1", port=port, tls="none"),
        )
    finally:
        controller.stop()


def test_a_mail_a_webhook_and_a_heartbeat_tell_the_same(
    tmp_path: Path, box: tuple[Box, MailboxPart], pages: Pages
) -> None:
    got: list[dict[str, Any]] = []

    def hook(method: str, path: str, headers: Any, body: str) -> str:
        got.append(json.loads(body))
        return "ok"

    pages.content |= {"/hook": hook, "/heart": "ok"}
    part = TellPart(mail=box[1], webhook=f"{pages.address}/hook", heartbeat=f"{pages.address}/heart")
    full = [True]

    def ends(*_: object) -> tuple[int, str]:
        return (3, "✗ <No> space & time") if full[0] else (0, "✓ DONE  well")

    world = World(tmp_path, ends=ends)
    duties = duties_of({"snapshot": "daily 03:10"}, Facts(), "lane")

    def once() -> list[str]:
        done, tended = tend(world.work, duties, world.run, Silent(), lambda: world.at, 60)
        problems = tell(part, "lane", "http://lane.test", done, tended, tmp_path, world.at, lambda _: None)
        write_tended(world.work, tended)
        world.at += timedelta(hours=25)
        return problems

    assert once() == [] and once() == []
    (mail,) = box[0].mails
    assert mail["Subject"] == "[lane] ✗ snapshot: <No> space & time" and mail["To"] == "ida@example.org"
    text, page = mail.get_body(("plain",)), mail.get_body(("html",))
    assert text is not None and page is not None
    assert "To be looked at" in text.get_content() and "next: keenharbor snapshot take" in text.get_content()
    assert "&lt;No&gt; space &amp; time" in page.get_content()
    assert [list(g["bad"]) for g in got] == [["snapshot"]] and got[0]["format"] == 1
    assert ("GET", "/heart") not in pages.asked
    full[0] = False
    assert once() == []
    assert box[0].mails[1]["Subject"] == "[lane] ✓ good again: snapshot" and ("GET", "/heart") in pages.asked
    assert once() == [] and len(box[0].mails) == 2, "what goes well is no news"


def test_what_could_not_be_told_is_told_the_next_time(tmp_path: Path, box: tuple[Box, MailboxPart]) -> None:
    closed = box[1].model_copy(update={"port": 9})
    world = World(tmp_path, ends=lambda *_: (3, "✗ full"))
    duties = duties_of({"snapshot": "daily 03:10"}, Facts(), "lane")
    for mailbox, problems, mails in ((closed, 1, 0), (box[1], 0, 1)):
        done, tended = tend(world.work, duties, world.run, Silent(), lambda: world.at, 60)
        told = tell(TellPart(mail=mailbox), "lane", "http://x", done, tended, tmp_path, world.at, lambda _: None)
        write_tended(world.work, tended)
        assert (len(told), len(box[0].mails)) == (problems, mails)
        world.at += timedelta(hours=2)
    with pytest.raises(KeenHarborError, match="NO_SUCH is not set"):
        send_mail(EmailMessage(), box[1].model_copy(update={"user": "x", "password": "env:NO_SUCH"}), tmp_path)


def test_a_week_in_one_mail(tmp_path: Path) -> None:
    world = World(tmp_path)
    duties = duties_of(ROUTINE, FACTS, "lane")
    while world.at < AT + timedelta(days=22):
        world.tend(duties, when="weekly")
        world.at += timedelta(hours=1)
    assert [n.weekly for _, n in world.told] == [True] * 4
    assert {"snapshot", "send", "verify", "drill", "thin"} <= set(world.told[-1][1].done)
    assert "This week" in text_of(world.told[-1][1]) and "the week: 5 duties done" in world.told[-1][1].subject


# -- as its users meet it --------------------------------------------------------------------------------------


def test_a_site_is_tended(scene: Scene, tmp_path: Path) -> None:
    assert "no [routine]" in harbor(scene.folder, "tend", code=2).err
    draft = harbor(scene.folder, "tend", "--draft").out
    text = scene.site_file.read_text()
    scene.site_file.write_text(f'{text}\n[routine]\nsnapshot = "sometimes"\n')
    assert "says no time" in harbor(scene.folder, "tend", code=2).err
    scene.site_file.write_text(f"{text}\n{draft}".replace('look = "daily 06:10"', 'look = "never"'))
    harbor(scene.folder, "place", "add", "cellar", tmp_path / "disk", "--key-to", tmp_path / "key")
    scene.site_file.write_text(scene.site_file.read_text().replace("verify =", 'send = "after snapshot"\nverify ='))
    looked = harbor(scene.folder, "tend", "--look", "--json").json
    assert all(d["due"] for d in looked["duties"].values())
    done = harbor(scene.folder, "tend", "--json", code=None).json
    assert list(done["done"]) == ["snapshot", "unusual", "send", "verify", "drill", "thin", "survey", "ready"]
    told = {n: d["outcome"] for n, d in done["done"].items()}
    assert told == {**dict.fromkeys(told, "done"), "ready": "caution"}, done
    runs = {json.loads(line)["run"] for line in (scene.folder / "harbor/log.jsonl").read_text().splitlines()[-4:]}
    assert runs == {done["run"]}, "what a run starts has its id"
    assert json.loads((scene.folder / "harbor/status.json").read_text())["verdict"] == "caution"
    idle = harbor(scene.folder, "tend")
    assert (
        "Nothing is due; next: " in idle.out and harbor(scene.folder, "place", "list", "--json").json[0]["waiting"] == 0
    )
    again = harbor(scene.folder, "tend", "--only", "snapshot", "--json").json
    assert list(again["done"]) == ["snapshot"]
    assert list(harbor(scene.folder, "tend", "--json").json["done"]) == ["unusual", "send"]
    assert "no duty" in harbor(scene.folder, "tend", "--only", "look", code=2).err
    assert "nobody is to be told" in harbor(scene.folder, "tend", "--try-telling", code=2).err


def test_two_runs_at_once_do_the_work_once(scene: Scene) -> None:
    import fcntl

    scene.site_file.write_text(scene.site_file.read_text() + '\n[routine]\nsnapshot = "daily"\n')
    (scene.folder / "harbor").mkdir(exist_ok=True)
    with (scene.folder / "harbor/tend.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        assert "in use by another run" in harbor(scene.folder, "tend", code=3).err
    assert harbor(scene.folder, "tend", "--json").json["good"]


def test_a_timer_is_shown_put_in_and_taken_out(scene: Scene, tmp_path: Path) -> None:
    scene.site_file.write_text(scene.site_file.read_text() + '\n[routine]\nsnapshot = "daily"\n')
    programs, home, table = tmp_path / "bin", tmp_path / "home", tmp_path / "table"
    programs.mkdir()
    home.mkdir()
    table.write_text("5 5 * * * /usr/bin/true\n")
    program(programs / "crontab", f'[ "$1" = -l ] && exec cat {table}\ncp "$1" {table}')
    env = {"PATH": f"{programs}:{os.environ['PATH']}", "HOME": str(home)}
    assert "add --yes" in harbor(scene.folder, "tend", "--install", "cron", code=2, **env).err
    assert table.read_text() == "5 5 * * * /usr/bin/true\n"
    harbor(scene.folder, "tend", "--install", "cron", "--yes", **env)
    harbor(scene.folder, "tend", "--install", "cron", "--yes", **env)
    lines = table.read_text().splitlines()
    assert len(lines) == 2 and lines[1].startswith("*/15 * * * * ") and str(scene.site_file) in lines[1]
    harbor(scene.folder, "tend", "--uninstall", **env)
    assert table.read_text() == "5 5 * * * /usr/bin/true\n"
    assert "there was none" in harbor(scene.folder, "tend", "--uninstall", **env).out


def program(file: Path, text: str) -> None:
    file.write_text(f"#!/bin/sh\n{text}\n")
    file.chmod(0o755)


def test_a_timer_of_systemd_is_written_for_a_user(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from keenharbor.tend.timer import is_there, put_in, systemd_timer, take_out

    programs, asked = tmp_path / "bin", tmp_path / "asked"
    programs.mkdir()
    program(programs / "systemctl", f'echo "$@" >> {asked}\n[ -e {tmp_path}/broken ] && exit 1\nexit 0')
    monkeypatch.setenv("PATH", f"{programs}:{os.environ['PATH']}")
    monkeypatch.setenv("HOME", str(tmp_path))
    timer = systemd_timer("lane", tmp_path / "a b%.toml", ("/usr/bin/keenharbor",), for_all=False)
    put_in(timer)
    service = (tmp_path / ".config/systemd/user/keenharbor-lane.service").read_text()
    assert "ExecStart=/usr/bin/keenharbor tend --site" in service and "a b%%.toml" in service and is_there(timer)
    take_out(timer)
    assert not is_there(timer)
    assert asked.read_text().splitlines() == [
        "--user daemon-reload", "--user enable --now keenharbor-lane.timer",
        "--user disable --now keenharbor-lane.timer",
        "--user daemon-reload",
    ]  # fmt: skip
    (tmp_path / "broken").touch()
    with pytest.raises(KeenHarborError, match="failed"):
        put_in(timer)
    assert not is_there(timer)


def test_with_nothing_due_it_does_not_read_the_site(scene: Scene) -> None:
    scene.site_file.write_text(scene.site_file.read_text() + '\n[routine]\nsnapshot = "daily"\n')
    harbor(scene.folder, "tend")
    scene.root.rename(scene.folder / "gone")
    began = time.monotonic()
    assert "Nothing is due" in harbor(scene.folder, "tend").out
    assert time.monotonic() - began < 5
