"""``cutover``"""

from __future__ import annotations

from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import UsageError
from keenharbor.base.text import age, duration, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.plan import plan_argument
from keenharbor.live.beside import best_way
from keenharbor.live.cutover import (
    By,
    CutoverOptions,
    CutoverResult,
    Drift,
    bring_live,
    check_drift,
    find_drift,
    rehearsal_of,
    run_cutover,
    told_rows,
)
from keenharbor.live.journal import refuse_running
from keenharbor.site.view import SiteView
from keenharbor.snapshot import find_snapshot
from keenharbor.trial.plan import read_plan


@harbor_command(name="cutover")
@plan_argument
@click.option(
    "--by",
    "by",
    type=click.Choice(["steps", "merge"]),
    help="Carry the steps out on live, or beside it and merge what changed meanwhile (what fits the plan).",
)
@click.option("--from-clone", metavar="CLONE", help="Bring live what somebody made of a clone, instead of a plan.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option(
    "--despite", "despite", multiple=True, type=click.Choice(["verdict", "drift", "description"]),
    help="Go on although the trial did not pass, live has moved on, or the site file was changed since.",
)  # fmt: skip
def cutover(
    session: Session, plan_file: Path, by: By | None, from_clone: str | None, yes: bool, despite: tuple[str, ...]
) -> int:
    """Carry PLAN (upgrade.toml) out on the live site, as its trial showed it; put everything back if anything differs.

    Visitors are locked out for the steps, the safety snapshot and looks at some pages; every page is looked at before
    and behind that.

    Exit code 0: done; 1: done, and then something showed that the trial had not; 2: refused; 4: failed and put back; 5:
    interrupted, type 'keenharbor settle'."""
    site = session.site()
    refuse_running(site)
    if from_clone is not None:
        if by == "steps" or despite:
            raise UsageError("--from-clone needs no plan, and no rehearsal of one")
        return _from_clone(session, site, from_clone, yes)
    plan = read_plan(plan_file)
    options = CutoverOptions("verdict" in despite, "drift" in despite, "description" in despite)
    trial = rehearsal_of(site, plan, options)
    store = session.store(site)
    since = find_snapshot(store, trial.snapshot, site.name)
    drift = find_drift(site, since)
    if not session.as_json:
        _render_drift(session.out, drift, since.id, age(since.taken_at))
    check_drift(drift, options)
    session.confirm(
        f"{plural(len(plan.step), 'step')} will change the live site {site.told_address} from core "
        f"{site.core_version()} "
        f"to {plan.plan.core} (rehearsed {age(trial.started)}).", yes,
    )  # fmt: skip
    way, why = best_way(plan, trial)
    by = by or ("merge" if way == "merge" else "steps")
    session.progress.note(f"by {by}" + (f": {why}" if by == way else ""))
    person = session.person()
    result = run_cutover(site, plan, trial, store, session.feed(site), since, session.progress, person, by)
    session.show({**result.as_json(), "drift": drift.as_json()}, lambda out: _render(out, result))
    return 1 if result.late else 0


def _from_clone(session: Session, site: SiteView, wanted: str, yes: bool) -> int:
    session.confirm(
        f"The live site {site.told_address} will become what was made of clone {wanted}, with what changed on live "
        f"since "
        f"that "
        "was made.", yes,
    )  # fmt: skip
    result = bring_live(site, wanted, session.store(site), session.feed(site), session.progress)
    session.show(result.as_json(), lambda out: _render(out, result))
    return 1 if result.late else 0


def _render_drift(out: Console, drift: Drift, snapshot: str, old: str) -> None:
    out.print(Text(f"Drift of live since the trial's snapshot {snapshot} ({old})", style="bold"))
    if not drift:
        out.print("none: live is as it was rehearsed")
    for area, count in sorted(drift.files.items()):
        out.print(show.said("note", f"{plural(count, 'file')} of {area}"))
    for table, counts in sorted(drift.rows.items()):
        told = ", ".join(f"{n:,} {what}" for what, n in counts.items() if n)
        out.print(show.said("note", f"table {table}: {told}"))
    for what in drift.serious[:8]:
        out.print(show.said("caution", what))
    out.print()


def _render(out: Console, result: CutoverResult) -> None:
    show.headline(out, "done", f"{result.site} is at core {result.core} on {result.runtime}")
    rows = [
        (str(n), s["name"], f"at try {s['tries']}" if s["tries"] > 1 else "", duration(s["seconds"]))
        for n, s in enumerate(result.steps, 1)
    ]
    show.table(out, ("", "step", "", "took"), rows, right=(0, 3), keep=(1,))
    out.print()
    show.pairs(out, [
        ("looked at", Text(f"{plural(result.pages, 'page')}: {_like(result)} trial {result.trial}")),
        ("maintenance", Text(f"{duration(result.maintenance_seconds)} for visitors ({_spent(result)})")),
        *([("merged", Text(f"{_merged(result)} that changed on live meanwhile"))] if result.by == "merge" else []),
        ("safety", Text(f"snapshot {result.safety}: live just before")),
        *([("arrival", Text(f"snapshot {result.arrival}: what is done from now on comes along on the way back"))]
            if result.arrival else []),
        *([("carried on", Text(told_rows(result.carried_on)))]
            if result.carried_on else []),
    ])  # fmt: skip
    if result.checks_left_out:
        out.print(show.said("note", f"not done on live, because they write: {', '.join(result.checks_left_out)}"))
    for remark in result.remarks:
        out.print(show.said("caution", remark))
    for note in result.notes:
        out.print(show.said("note", note.text))
    if result.late:
        out.print()
        out.print(show.said("damage", "what the trial had not shown, seen when visitors had been let in again:"))
        for finding in result.late[:8]:
            out.print(show.said("caution", finding.text))
        if len(result.late) > 8:
            out.print(Text(f"    and {len(result.late) - 8} more (--json lists them)", style="dim"))
    show.next_step(out, "look at the site; what a way back would bring along: keenharbor rollback --look")


def _merged(result: CutoverResult) -> str:
    carried, files = result.merged.get("carried", {}), result.merged.get("files", 0)
    assert isinstance(carried, dict) and isinstance(files, int)
    rows = sum(sum(count.values()) for count in carried.values())
    return f"{plural(rows, 'row')} and {plural(files, 'file')}"


def _like(result: CutoverResult) -> str:
    return f"{plural(len(result.late), 'finding')} more than in" if result.late else "as in"


def _spent(result: CutoverResult) -> str:
    """What the time of maintenance went into."""
    return ", ".join(f"{what} {duration(seconds)}" for what, seconds in result.spent.items())
