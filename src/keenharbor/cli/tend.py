"""``tend``: what is due now, done in order, once."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import UsageError
from keenharbor.base.text import duration, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.site.whereabouts import Whereabouts, whereabouts_of
from keenharbor.tend.duties import DUTIES, Duty
from keenharbor.tend.routine import duties_of_site, duties_said

if TYPE_CHECKING:
    from keenharbor.host.programs import Ran
    from keenharbor.tend.tending import Tended, Tending


def _now() -> datetime:
    """The wall clock."""
    return datetime.now()


@harbor_command(name="tend")
@click.option("--look", "look", is_flag=True, help="Only show what is due, and what comes next.")
@click.option(
    "--only", "only", multiple=True, type=click.Choice(list(DUTIES)), help="Do this duty now; can be repeated."
)
@click.option("--draft", is_flag=True, help="Print a [routine] for the site file, by how fast the site changes.")
@click.option("--install", type=click.Choice(["systemd", "cron"]), help="Have it run every quarter of an hour.")
@click.option("--uninstall", is_flag=True, help="Take that out again.")
@click.option("--try-telling", is_flag=True, help="Tell who is to be told, of what was done last, as a trial.")
@click.option("--yes", is_flag=True, help="Do it without asking.")
def tend_command(
    session: Session, look: bool, only: tuple[str, ...], draft: bool, install: str | None, uninstall: bool,
    try_telling: bool, yes: bool,
) -> int:  # fmt: skip
    """Do what is due of the site's [routine] now, in order, once; also what was missed while the machine slept."""
    from keenharbor.tend.tending import due_now, read_tended

    where = session.whereabouts()
    if draft:
        return _draft(session, where)
    if install or uninstall:
        return _timer(session, where, install, yes)
    duties = duties_said(where)
    tended, at = read_tended(where.work), _now()
    if look:
        session.show(_looked(where, duties, tended, at), lambda out: _render_look(out, duties, tended, at))
        return 0
    if try_telling:
        return _try_telling(session, where, tended)
    if not only and not due_now(duties, tended, at):
        session.show({"done": {}, "due": []}, lambda out: _render_idle(out, duties, tended, at))
        return 0
    return _tend(session, where, only)


def _tend(session: Session, where: Whereabouts, only: tuple[str, ...]) -> int:
    from keenharbor.base.durable import write_json
    from keenharbor.host.lease import held
    from keenharbor.site.load import load_site_file
    from keenharbor.site.log import append_log
    from keenharbor.tend.telling import tell
    from keenharbor.tend.tending import forget_others, status_of, tend, write_tended

    model = load_site_file(where.site_file)
    duties = duties_of_site(where, model)
    chosen = duties
    if only:
        chosen = [d for d in duties if d.name in only]
        missing = sorted(set(only) - {d.name for d in chosen})
        if missing:
            raise UsageError(f"'{missing[0]}' is no duty of this site", advice="give it a time under [routine]")
    with held(where.work / "tend.lock", f"the routine of '{where.name}'", doing="tend"):
        done, tended = tend(
            where.work, chosen, _Runs(where.site_file), session.progress, _now, model.routine.minutes, only
        )
        forget_others(tended, duties)
        problems = tell(
            model.tell,
            where.name,
            model.site.address,
            done,
            tended,
            where.site_file.parent,
            _now(),
            session.progress.note,
        )
        write_tended(where.work, tended)
        write_json(where.work / "status.json", status_of(where.name, duties, tended, _now()))
    outcome = "done" if done.good and not problems else "caution"
    told = ", ".join(f"{n} {d.word}" for n, d in done.done.items())
    append_log(where.work, where.name, "tend", outcome, told + "".join(f"; {p}" for p in problems))
    session.show({**done.as_json(), "problems": problems}, lambda out: _render_done(out, done, problems))
    return 0 if done.good and not problems else 1


class _Runs:
    """Runs commands of this tool as a person would type them, each in a process of its own."""

    def __init__(self, site_file: Path) -> None:
        self._site_file = site_file

    def __call__(self, command: Sequence[str], hours: float) -> Ran:
        from keenharbor.base.runs import VARIABLE, run_id
        from keenharbor.host.programs import run_program

        told = {**os.environ, VARIABLE: run_id(), "COLUMNS": "100", "NO_COLOR": "1"}
        words = [*_program(), *command, "--site", str(self._site_file)]
        return run_program(words, folder=self._site_file.parent, time_limit=hours * 3600, environment=told)


def _program() -> tuple[str, ...]:
    return (sys.executable, "-m", "keenharbor.cli.main")


# -- looking, drafting, telling --------------------------------------------------------------------------------


def _looked(where: Whereabouts, duties: Sequence[Duty], tended: Tended, at: datetime) -> dict[str, object]:
    from keenharbor.tend.tending import status_of

    return status_of(where.name, duties, tended, at)


def _render_look(out: Console, duties: Sequence[Duty], tended: Tended, at: datetime) -> None:
    from keenharbor.tend.tending import AGAIN, due_now, next_of

    due = {d.duty.name: d for d in due_now(duties, tended, at)}
    rows = []
    for duty in duties:
        did = tended.duties.get(duty.name)
        item = due.get(duty.name)
        soon = next_of(duty, at)
        coming = f"after {duty.schedule.after}" if duty.schedule.after else "no more"
        if soon is not None:
            coming = f"{soon:%a %d %b %H:%M}"
        if did is not None and did.code > 1:
            coming = f"again {did.at + AGAIN:%H:%M}"
        if item is not None:
            coming = "now" + (f", {item.missed} missed" if item.missed else "")
        last = f"{did.at:%a %d %b %H:%M}" if did is not None else "never"
        rows.append((
            show.mark(did.word if did is not None else "note", duty.name), coming, last,
            did.told if did is not None else "",
        ))  # fmt: skip
    show.table(out, ("duty", "next", "last", "how it ended"), rows, keep=(0, 1, 2))
    if due:
        show.next_step(out, "keenharbor tend")


def _render_idle(out: Console, duties: Sequence[Duty], tended: Tended, at: datetime) -> None:
    from keenharbor.tend.tending import next_of

    timed = [(soon, d.name) for d in duties if (soon := next_of(d, at)) is not None]
    coming = f"; next: {min(timed)[1]}, {min(timed)[0]:%a %d %b %H:%M}" if timed else ""
    out.print(Text(f"Nothing is due{coming}."))
    bad = [n for n, d in tended.duties.items() if d.code > 1]
    if bad:
        out.print(show.said("caution", f"failed last: {', '.join(bad)}; it is tried again an hour later"))


def _render_done(out: Console, done: Tending, problems: Sequence[str]) -> None:
    verdict = "done" if done.good and not problems else "caution"
    show.headline(out, verdict, f"{plural(len(done.done), 'duty', 'duties')} done" + (
        f", {len(done.left)} left for the next run" if done.left else ""))  # fmt: skip
    rows = [(show.mark(d.word, n), duration(d.seconds), d.told) for n, d in done.done.items()]
    if rows:
        show.table(out, ("duty", "took", "how it ended"), rows, keep=(0, 1))
    for problem in problems:
        out.print(show.said("caution", problem))
    show.next_step(out, "keenharbor tend --look shows what comes next")


def _draft(session: Session, where: Whereabouts) -> int:
    from keenharbor.place.places import places_of
    from keenharbor.snapshot import list_snapshots
    from keenharbor.store import Store
    from keenharbor.tend.drafting import drafted, pace_of

    known = (
        list_snapshots(Store(where.store_folder), where.name) if (where.store_folder / "store.json").exists() else []
    )
    text = drafted(pace_of(known), places=bool(places_of(where.site_file)[1]))
    session.show({"routine": text}, lambda out: click.echo(text))
    return 0


def _try_telling(session: Session, where: Whereabouts, tended: Tended) -> int:
    from keenharbor.site.load import load_site_file
    from keenharbor.tend.telling import News, call, mail_of, send_mail, webhook_of

    model = load_site_file(where.site_file)
    part, at = model.tell, _now()
    if part.mail is None and part.webhook is None and part.heartbeat is None:
        raise UsageError("nobody is to be told: the site file has no [tell]", where=where.site_file)
    bad = {n: d for n, d in tended.duties.items() if not d.good}
    news = News(where.name, model.site.address, at, bad, {}, dict(tended.duties), run="trial")
    told = []
    if part.mail is not None:
        send_mail(mail_of(news, part.mail), part.mail, where.site_file.parent)
        told.append(f"mail to {', '.join(part.mail.to)}")
    if part.webhook is not None:
        call(part.webhook, webhook_of(news))
        told.append("webhook")
    if part.heartbeat is not None:
        call(part.heartbeat, None)
        told.append("heartbeat")
    session.show({"told": told}, lambda out: show.headline(out, "done", f"told: {'; '.join(told)}"))
    return 0


def _timer(session: Session, where: Whereabouts, install: str | None, yes: bool) -> int:
    from keenharbor.tend.timer import cron_timer, is_there, put_in, systemd_timer, take_out

    whereabouts_of(where.site_file)
    as_root = os.geteuid() == 0
    timers = {
        "systemd": systemd_timer(where.name, where.site_file, _program(), for_all=as_root),
        "cron": cron_timer(where.name, where.site_file, _program()),
    }
    if install is None:
        there = [t for t in timers.values() if is_there(t)]
        for timer in there:
            take_out(timer)
        told = f"{plural(len(there), 'timer')} taken out" if there else "there was none"
        session.show({"taken_out": [t.name for t in there]}, lambda out: show.headline(out, "done", told))
        return 0
    duties_said(where)
    timer = timers[install]
    if not session.as_json:
        session.out.print(Text(timer.shown), soft_wrap=True)
    session.confirm(f"'keenharbor tend' of {where.name} will run by itself.", yes)
    put_in(timer)
    session.show(
        {"installed": timer.name, "files": [str(p) for p in timer.files], "line": timer.cron_line},
        lambda out: show.headline(out, "done", f"{timer.name} runs every quarter of an hour"),
    )
    return 0
