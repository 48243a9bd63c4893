"""``move``"""

from __future__ import annotations

from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import UsageError
from keenharbor.base.text import duration, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.live.moving import Moving, NewPlace, bring_over, close_move, finish_switch, readiness, record_of, switch
from keenharbor.site.checks import Check, Verdict


@harbor_command(name="move")
@click.option(
    "--to", "new_file", type=click.Path(path_type=Path), help="The site file of the new place: root, address, database."
)
@click.option("--look", is_flag=True, help="Only judge whether the new place is ready.")
@click.option("--switch", "switching", is_flag=True, help="Let visitors change over to the new place.")
@click.option("--close", "closing", is_flag=True, help="The move is over: nothing more is kept of it.")
@click.option("--yes", is_flag=True, help="Do it without asking.")
def move_command(
    session: Session, new_file: Path | None, look: bool, switching: bool, closing: bool, yes: bool
) -> int:  # fmt: skip
    """Move the site to another place: another machine, folder, address or database server.

    First it is brought over, parked behind a flag that only who has its text passes, and held against the old place;
    again and again if you like. Then --switch lets visitors change over: what they did meanwhile goes along. The old
    place stays as it is, behind its own flag."""
    old = session.site()
    if closing:
        record = close_move(old)
        told = f"nothing is kept of the move to {record.to}" if record else "no move was begun"
        session.show({"closed": record is not None}, lambda out: show.headline(out, "done", told))
        return 0
    if new_file is None:
        raise UsageError("where to?", advice="keenharbor move --to SITEFILE, the site file of the new place")
    record = record_of(old)
    new = NewPlace(new_file, old)
    if record is not None and record.switched_at and new.is_of(record):
        opened = finish_switch(new, record)
        told = f"visitors are at {new.site.told_address} since {record.switched_at}"
        session.show({"switched_at": record.switched_at, "opened": opened}, lambda out: _render_switched(out, told))
        return 0
    session.progress.stage("judging the new place")
    checks = readiness(old, new, record)
    blocked = any(c.verdict == Verdict.BLOCKED for c in checks)
    if look or blocked:
        session.show(
            {"ready": not blocked, "checks": [_json(c) for c in checks]},
            lambda out: _render_ready(out, checks, new, blocked=blocked),
        )
        return int(blocked)
    store = session.store(old, create=True)
    if switching:
        if record is None or not new.is_of(record):
            raise UsageError(
                "the site was not brought over to there yet", where=new_file,
                advice=f"keenharbor move --to {new_file}",
            )  # fmt: skip
        session.confirm(
            f"Visitors of {old.told_address} are locked out of {old.place} for good, and let in at {new.site.place}.",
            yes,
        )
        moving = switch(old, new, store, session.progress, record)
    else:
        session.confirm(f"{new.site.place} and {new.raw_database} become what {old.told_address} is now.", yes)
        moving = bring_over(old, new, store, session.progress, record)
    session.show(_told(moving), lambda out: _render(out, moving, new_file, switched=switching))
    return 0 if moving.good else 1


def _render_switched(out: Console, told: str) -> None:
    show.headline(out, "good", told)
    show.next_step(out, "when all is well there: keenharbor move --close")


def _json(check: Check) -> dict[str, str]:
    return {
        "subject": check.subject, "verdict": check.verdict.value, "reason": check.reason, "remedy": check.remedy
    }  # fmt: skip


def _told(moving: Moving) -> dict[str, object]:
    return {
        "stage": moving.stage, "snapshot": moving.snapshot, "address": moving.address, "pass": moving.token,
        "header": moving.header,
        "paths": moving.paths, "written": moving.written, "rows": moving.rows,
        "rewritten_files": moving.rewritten_files, "rewritten_cells": moving.rewritten_cells, "pages": moving.pages,
        "maintenance_seconds": round(moving.maintenance_seconds, 2), "alike": moving.good, "apart": moving.apart,
        "findings": [f.as_json() for f in moving.findings], "by_hand": moving.by_hand,
    }  # fmt: skip


def _render_ready(out: Console, checks: list[Check], new: NewPlace, *, blocked: bool) -> None:
    what = "not ready for the move" if blocked else "ready for the move"
    show.headline(out, "blocked" if blocked else "good", f"{new.site.told_address} ({new.site.host.told}) is {what}")
    rows = []
    for check in sorted(checks, key=lambda c: c.verdict.rank):
        why = Text(check.reason)
        if check.remedy:
            why.append(f"\n→ {check.remedy}", style="dim")
        rows.append((show.said(check.verdict.value, check.subject), why))
    show.table(out, ("what", "why, and what to do"), rows)
    show.next_step(
        out, "see to what is blocked, then: keenharbor move --to … --look" if blocked else "keenharbor move --to …"
    )


def _render(out: Console, moving: Moving, new_file: Path, *, switched: bool) -> None:
    if not moving.good:
        show.headline(out, "review", f"{moving.stage}: {moving.address} is not as the old place")
    else:
        what = "visitors are there" if switched else "it is as the old place"
        show.headline(out, "done", f"{moving.stage}: {moving.address}; {what}")
    rows = [
        ("files", f"{plural(moving.paths, 'path')}, {moving.written:,} written; rewritten in {moving.rewritten_files}"),
        ("database", f"{plural(moving.rows, 'row')}; {plural(moving.rewritten_cells, 'cell')} rewritten"),
        ("pages", f"{moving.pages} held against the old place's"),
        ("snapshot", f"{moving.snapshot}: what was brought over"),
    ]
    if switched:
        rows.append(("closed", f"{duration(moving.maintenance_seconds)} in which visitors were let in nowhere"))
    else:
        rows.append(("pass", f"a request with the header '{moving.header}: {moving.token}' gets in"))
    show.pairs(out, rows)
    for problem in moving.apart:
        out.print(Text(f"✗ {problem}", style="red"))
    if moving.findings:
        out.print()
        show.findings(out, moving.findings)
    if moving.by_hand:
        show.heading(out, "By hand")
        for item in moving.by_hand:
            out.print(Text(f"· {item}"))
    if switched:
        show.next_step(out, f"keenharbor survey --site {new_file}; when all is well: keenharbor move --close")
    elif moving.good:
        show.next_step(out, f"look at it, then: keenharbor move --to {new_file} --switch")
    else:
        show.next_step(out, f"see to what is not alike, then: keenharbor move --to {new_file}")
