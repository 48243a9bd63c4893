"""``trial``: run, show, list."""

from __future__ import annotations

import contextlib
import sys
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.durable import write_durably
from keenharbor.base.errors import UsageError
from keenharbor.base.text import age, duration, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.plan import plan_argument
from keenharbor.compare import Finding, Weight
from keenharbor.compare.camera import missing_browser
from keenharbor.live.snapshots import snapshot_for_trial
from keenharbor.live.ways import trials_needed
from keenharbor.site.feed import Feed
from keenharbor.site.log import append_log, who
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, find_snapshot
from keenharbor.trial.accepted import DAYS, NEVER, AcceptedPart, accept, accepted_file, read_accepted
from keenharbor.trial.causes import Entry, Noticed, entries
from keenharbor.trial.culprits import RUNS, Culprits, find_culprits
from keenharbor.trial.going_on import GoOn, go_on_from
from keenharbor.trial.plan import Plan, on_plan, read_plan
from keenharbor.trial.record import newest_record, read_record
from keenharbor.trial.result import (
    TrialResult,
    find_finding,
    find_findings,
    find_trial,
    judged_anew,
    list_trials,
    save_result,
)
from keenharbor.trial.runner import TrialOptions, run_trial
from keenharbor.trial.sums import write_sums

LONG = 8
MOST_TOLD = 6


@click.group(name="trial", context_settings={"help_option_names": ["-h", "--help"]})
def trial() -> None:
    """Rehearse the plan on a disposable clone."""


@harbor_command(trial, name="run")
@plan_argument
@click.option("--snapshot", "wanted", help="Where to start from: a snapshot, or 'live' for a new one (the newest).")
@click.option("--keep", is_flag=True, help="Keep the clone for a visit.")
@click.option("--go-on", is_flag=True, help="Carry out the steps behind one that failed, too.")
@click.option("--from", "from_step", metavar="STEP", help="Start at the newest trial's checkpoint before this step.")
@click.option("--port", type=click.IntRange(1, 65535), help="The clone's port on loopback.")
@click.option(
    "--pictures/--no-pictures", default=None, help="Look at the pages with a browser, too ('pictures' under [look])."
)
def run(
    session: Session, plan_file: Path, wanted: str | None, keep: bool, go_on: bool, from_step: str | None,
    port: int | None,
    pictures: bool | None,
) -> int:  # fmt: skip
    """Rehearse PLAN (upgrade.toml) on a clone. Live is only read, and shown to be untouched.

    A step that fails stops it: correct the plan, then 'trial resume'. Exit code 0: pass; 1: review or fail."""
    site, made = session.site(), read_plan(plan_file)
    feed = session.feed(site)
    pictures = site.model.look.pictures if pictures is None else pictures
    if pictures and (lacking := missing_browser()):
        raise UsageError(f"no pictures can be taken: {lacking}", advice="install it, or add --no-pictures")
    store = session.store(site, create=True)
    options = TrialOptions(session.person(), keep, go_on, port, pictures, trials_needed(site, store))
    if from_step is not None:
        if wanted is not None:
            raise UsageError("--from and --snapshot: one of them is wanted")
        last = find_trial(site.work)
        earlier = go_on_from(site.work, last.id, made, from_step)
        snapshot = find_snapshot(store, earlier.record.before.snapshot, site.name)
        return _rehearse(session, site, made, plan_file, snapshot, feed, options, earlier)
    snapshot = snapshot_for_trial(site, store, wanted, session.progress)
    return _rehearse(session, site, made, plan_file, snapshot, feed, options)


@harbor_command(trial, name="resume")
@plan_argument
@click.option("--trial", "wanted", default="newest", help="The trial to go on with (the newest).")
@click.option("--keep", is_flag=True, help="Keep the clone for a visit.")
@click.option("--go-on", is_flag=True, help="Carry out the steps behind one that failed, too.")
def resume(session: Session, plan_file: Path, wanted: str, keep: bool, go_on: bool) -> int:
    """Go on with a trial after the plan was corrected, behind the last step that stands. What stands is not done
    again."""
    site, made = session.site(), read_plan(plan_file)
    feed = session.feed(site)
    newest = newest_record(site.work / "trials") if wanted == "newest" else None
    earlier = go_on_from(site.work, newest or find_trial(site.work, wanted).id, made)
    snapshot = find_snapshot(session.store(site), earlier.record.before.snapshot, site.name)
    session.progress.note(f"{plural(earlier.kept, 'step stands', 'steps stand')}, of {len(made.step)}")
    pictures, spare = earlier.record.before.shots is not None, trials_needed(site, session.store(site))
    options = TrialOptions(session.person(), keep, go_on, pictures=pictures, spare=spare)
    return _rehearse(session, site, made, plan_file, snapshot, feed, options, earlier)


@harbor_command(trial, name="culprits")
@click.argument("finding", metavar="FINDING")
@click.option("--trial", "wanted", default="newest", help="The trial that found it (the newest).")
@click.option("--runs", default=RUNS, type=click.IntRange(1, 1000), show_default=True, help="Try at most so often.")
def culprits(session: Session, finding: str, wanted: str, runs: int) -> int:
    """Search for the smallest set of steps that brings FINDING out, on clones.

    FINDING is its name in 'trial show', or the beginning of one. Exit code 0: found; 1: not for sure."""
    site = session.site()
    result = find_trial(site.work, wanted)
    chosen = find_finding(result, finding)
    folder = site.work / "trials" / result.id
    record, made = read_record(folder), read_plan(folder / "plan.toml")
    snapshot = find_snapshot(session.store(site), result.snapshot, site.name)
    found = find_culprits(site, made, record, chosen, snapshot, session.feed(site), session.progress, runs)
    append_log(site.work, site.name, "trial culprits", "done", f"{chosen.id}: {', '.join(found.steps)}", result.id)
    session.show(found.as_json(), lambda out: _render_culprits(out, found, Path(result.plan_file)))
    return 0 if found.sure else 1


def _render_culprits(out: Console, found: Culprits, plan_file: Path) -> None:
    show.headline(out, "done" if found.sure else "caution", f"{found.finding.id}: {found.finding.text}")
    names = ", ".join(found.steps)
    if not found.sure:
        out.print(show.said("caution", f"not for sure: of what was tried, it shows with {names}"))
    elif len(found.steps) == 1:
        out.print(show.said("good", f"the step {names} brings it out by itself"))
    else:
        out.print(show.said("good", f"it takes {plural(len(found.steps), 'step')} together: {names}"))
    show.heading(out, plural(len(found.runs), "run"))
    words = {
        True: show.mark("fail", "shows"),
        False: show.mark("good", "does not show"),
        None: show.mark("caution", "cannot be told"),
    }
    rows = [(str(n), words[r.shows], ", ".join(r.steps) + (f"\n{r.problem}" if r.problem else ""), duration(r.seconds))
            for n, r in enumerate(found.runs, 1)]  # fmt: skip
    show.table(out, ("", "finding", "with these steps alone", "took"), rows, right=(0, 3), keep=(1,))
    show.next_step(
        out,
        f"change one of these steps in {plan_file.name}, then: "
        f"{on_plan(f'keenharbor trial run --from {found.steps[0]}', plan_file)}",
    )


@harbor_command(trial, name="accept")
@click.argument("named", metavar="[FINDING]...", nargs=-1)
@click.option("--because", required=True, metavar="REASON", help="Why it is all right.")
@click.option("--cause", "causes", multiple=True, metavar="FINDING", help="This one, and all that has the same cause.")
@click.option("--kind", "kinds", multiple=True, metavar="KIND", help="All findings of this kind that ask.")
@click.option("--step", "steps", multiple=True, metavar="STEP", help="All that this step brought in and that ask.")
@click.option("--notes", is_flag=True, help="With --kind or --step: those that are only told, too.")
@click.option("--days", default=DAYS, type=click.IntRange(1, 3650), show_default=True, help="For how long.")
@click.option("--trial", "wanted", default="newest", help="The trial that found it (the newest).")
def accept_command(
    session: Session, named: tuple[str, ...], because: str, causes: tuple[str, ...], kinds: tuple[str, ...],
    steps: tuple[str, ...],
    notes: bool,
    days: int,
    wanted: str,
) -> None:  # fmt: skip
    """Agree to findings: they do not count any more, in this trial and in the next ones.

    By name (or its beginning), by cause, or all of a kind or a step. It is written into a file beside the plan, and the
    trial is judged anew: nothing is rehearsed again."""
    site = session.site()
    result = find_trial(site.work, wanted)
    chosen = find_findings(result, named, causes, kinds, steps, notes)
    made, anew, report = _agree(session, site, result, chosen, because, days)
    file = accepted_file(Path(result.plan_file))

    def render(out: Console) -> None:
        what = made[0].finding if len(made) == 1 else plural(len(made), "finding")
        show.headline(out, "done", f"{what} accepted until {made[0].until}")
        for finding in chosen[:MOST_TOLD]:
            out.print(Text(finding.text))
        if len(chosen) > MOST_TOLD:
            out.print(Text(f"and {len(chosen) - MOST_TOLD} more", style="dim"))
        left = sum(e.weight is not Weight.NOTE for e in entries(anew.findings))
        told = f"trial {anew.id}, judged anew: {plural(left, 'cause asks', 'causes ask')}"
        show.headline(out, anew.verdict, told if left else f"trial {anew.id}, judged anew: nothing asks any more")
        out.print(Text(f"agreed to in {file}", style="dim"))
        _next_after(out, anew)

    told = {"file": str(file), "accepted": [m.model_dump(mode="json") for m in made], "verdict": anew.verdict}
    session.show({**told, "trial": anew.id, "report": str(report)}, render)


@harbor_command(trial, name="review")
@click.option("--trial", "wanted", default="newest", help="The trial to go through (the newest).")
def review_command(session: Session, wanted: str) -> int:
    """Go through what a trial asks about, one cause after another: accept, look closer, leave open.

    On a terminal. What is accepted is written into the file beside the plan, and the trial is judged anew. Exit code
    0: it passes now; 1: something still asks."""
    from keenharbor.cli.review import review

    site = session.site()
    result = find_trial(site.work, wanted)

    def agree(entry: Entry, because: str) -> None:
        # Saved and judged at once: what was agreed to stays so when the review is broken off.
        _agree(session, site, find_trial(site.work, result.id), entry.findings, because)

    accepted = review(
        session, site.work / "trials" / result.id, result, lambda out, entry: _show_entry(out, entry, result.titles),
        agree,
    )  # fmt: skip
    anew = find_trial(site.work, result.id)

    def render(out: Console) -> None:
        left = sum(e.weight is not Weight.NOTE for e in entries(anew.findings))
        told = f"{plural(accepted, 'cause')} accepted, {plural(left, 'cause asks', 'causes ask')} still"
        show.headline(out, anew.verdict, f"trial {anew.id}: {told}")
        _next_after(out, anew)

    session.show({"verdict": anew.verdict, "accepted": accepted}, render)
    return 0 if anew.verdict == "pass" else 1


def _agree(
    session: Session, site: SiteView, result: TrialResult, chosen: Sequence[Finding], because: str, days: int = DAYS
) -> tuple[list[AcceptedPart], TrialResult, Path]:
    """Write down that findings are agreed to, judge their trial anew, and note it in the log; what was written, the
    trial as it is now, and its report."""
    plan_file = Path(result.plan_file)
    made = accept(plan_file, chosen, because, who(), days)
    anew = judged_anew(result, read_accepted(plan_file))
    report = _keep(session, site, anew)
    ids = ", ".join(f.id for f in chosen)
    append_log(site.work, site.name, "trial accept", anew.verdict, f"{ids}: {because}", result.id)
    return made, anew, report


def _keep(session: Session, site: SiteView, result: TrialResult) -> Path:
    """Save a trial's result where it differs from what is saved, with its report; returns the report's file."""
    from keenharbor.report import junit, write_report

    session.progress.stage("writing the report")
    save_result(site.work, result)
    report = write_report(site, result)
    write_durably(report.with_name("junit.xml"), junit(result))
    write_sums(report.parent)
    return report


def _rehearse(
    session: Session, site: SiteView, made: Plan, plan_file: Path, snapshot: Snapshot, feed: Feed,
    options: TrialOptions,
    earlier: GoOn | None = None,
) -> int:  # fmt: skip
    result = run_trial(site, made, plan_file.resolve(), snapshot, feed, options, session.progress, earlier)
    report = _keep(session, site, result)
    append_log(site.work, site.name, "trial run", result.verdict, f"{len(result.findings)} findings", result.id)
    session.show({**result.as_json(), "report": str(report)}, lambda out: render_trial(out, result, report))
    return 0 if result.verdict == "pass" else 1


@harbor_command(trial, name="show")
@click.argument("wanted", metavar="TRIAL", default="newest")
@click.option("--each", is_flag=True, help="Each finding by itself, not put together by cause.")
@click.option("--serve", is_flag=True, help="Serve the report on loopback, with buttons that accept, until Ctrl-C.")
@click.option("--port", default=0, type=click.IntRange(0, 65535), help="The port for --serve (a free one).")
def show_command(session: Session, wanted: str, each: bool, serve: bool, port: int) -> None:
    """Show a trial again.

    By id, the beginning of one, or "newest"."""
    site = session.site()
    result = find_trial(site.work, wanted)
    if serve:
        _serve(session, site, result.id, port)
        return
    report = site.work / "trials" / result.id / "report.html"
    told = {**result.as_json(), "report": str(report)}
    session.show(told, lambda out: render_trial(out, result, report, each=each))


def _serve(session: Session, site: SiteView, identity: str, port: int) -> None:
    """Serve the report; what is accepted there is written and judged anew, as by 'trial accept --cause'."""
    from keenharbor.report.serving import ReportServer
    from keenharbor.report.trial import report_html

    one_at_a_time = threading.Lock()

    def page(problem: str) -> str:
        return report_html(site, find_trial(site.work, identity), served=True, problem=problem)

    def accept_there(finding: str, because: str) -> None:
        with one_at_a_time:
            result = find_trial(site.work, identity)
            _agree(session, site, result, find_findings(result, (), (finding,), (), (), notes=False), because)

    server = ReportServer(page, accept_there, port)
    session.show(
        {"address": server.address},
        lambda out: out.print(Text.assemble("the report is at ", (server.address, "bold"), "  (Ctrl-C ends it)")),
    )
    sys.stdout.flush()
    with contextlib.suppress(KeyboardInterrupt):
        server.serve()


@harbor_command(trial, name="list")
def list_command(session: Session) -> None:
    """List the site's trials, the newest first."""
    site = session.site()
    found = list_trials(site.work)

    def render(out: Console) -> None:
        if not found:
            out.print("There was no trial yet.")
            show.next_step(out, "keenharbor trial run")
            return
        rows = [(r.id, show.mark(r.verdict), age(r.started), str(len(r.findings)), r.snapshot) for r in found]
        show.table(out, ("trial", "verdict", "age", "findings", "from snapshot"), rows, right=(3,), keep=(0, 1, 2))

    session.show([{"id": r.id, "verdict": r.verdict, "started_at": r.started_at, "snapshot": r.snapshot,
                   "findings": len(r.findings), "plan_digest": r.plan_digest} for r in found], render)  # fmt: skip


def render_trial(out: Console, result: TrialResult, report: Path, *, each: bool = False) -> None:
    """A trial for people: verdict, findings by cause (or ``each`` by itself), steps, proof of isolation."""
    causes = entries(result.findings)
    told = counted(causes, result.findings)
    show.headline(
        out, result.verdict, f"trial {result.id}: {told}; {plural(result.pages, 'page')}, {duration(result.seconds)}"
    )
    if each:
        show.findings(out, result.findings, result.titles)
    else:
        show_entries(out, causes, result.titles)
    show.heading(out, "Steps")
    rows = []
    for number, step in enumerate(result.steps, 1):
        state = show.mark("failed") if step.problem else show.mark("done")
        tries = f" at try {step.tries}" if step.tries > 1 else ""
        by = sum(f.step == step.name for f in result.findings if f.weight != "note")
        changed = f"{plural(step.files_changed, 'file')}, {plural(step.rows_changed, 'row')}"
        rows.append((str(number), step.name, Text.assemble(state, tries), changed, str(by) if by else ""))
    show.table(out, ("", "step", "outcome", "changed", "findings"), rows, right=(0, 4), keep=(1, 2))
    if result.way_back is not None:
        out.print()
        out.print(show.said("good" if result.way_back.works else "damage", result.way_back.told))
    proof = result.isolation
    show.heading(out, "Live")
    if proof.untouched:
        out.print(show.said("good", f"untouched: fingerprint {proof.live_before} before and after"))
    else:
        where = "where visitors write" if proof.only_visitors else "for no reason known"
        who = "not by the clone, which was sealed" if proof.sealed else "whether by the clone is not known"
        told = f"changed meanwhile {where} ({who}): {', '.join(proof.differences[:4])}"
        out.print(show.said("note" if proof.only_visitors and proof.sealed else "damage", told))
    cells = sum(proof.rewritten_cells.values())
    left = f"of live is left: {', '.join(proof.traces[:3])}" if proof.traces else "nothing of live was left in it"
    rewritten = f"{plural(proof.rewritten_files, 'file')} and {plural(cells, 'cell')} of the clone rewritten; {left}"
    out.print(show.said("damage" if proof.traces else "good", rewritten))
    out.print(show.said("good", f"{plural(len(proof.mails), 'mail')} caught, none sent"))
    if proof.not_blocked:
        out.print(show.said("caution", f"its programs could have reached the outside: {proof.not_blocked}"))
    else:
        out.print(show.said("good", "its programs had a network of their own, and could reach nothing else"))
    if not proof.open_parts:
        out.print(show.said("good", "its programs were sealed off from all other files, sockets and programs"))
    for part in proof.open_parts:
        out.print(show.said("caution", f"open to its programs: {part}"))
    if proof.switched_off:
        out.print(show.said("note", f"switched off in the clone: {', '.join(proof.switched_off)}"))
    for finding in result.accepted:
        out.print(show.said("note", f"accepted: {finding.text}"))
    for remark in result.remarks:
        out.print(show.said("caution", remark))
    if result.noise:
        out.print(Text(f"noise left out: {'; '.join(result.noise)}", style="dim"))
    out.print(Text(f"report: {report}", style="dim"))
    if len(causes) > LONG:  # the verdict on top has scrolled away
        show.headline(out, result.verdict, told)
    _next_after(out, result)


def counted(causes: Sequence[Entry], findings: Sequence[Finding]) -> str:
    """How many causes there are, by weight, and how many findings they come to."""
    counts = {w: sum(e.weight == w for e in causes) for w in ("damage", "doubt", "note")}
    told = ", ".join(f"{n} {w}" for w, n in counts.items() if n) or "nothing found"
    return f"{told} ({plural(len(findings), 'finding')})" if len(findings) > len(causes) else told


_NOTICED = {
    Noticed.VISITORS: "What visitors notice", Noticed.EDITORS: "What editors notice",
    Noticed.NOBODY: "In files and database",
}  # fmt: skip


def show_entries(out: Console, causes: Sequence[Entry], titles: Mapping[str, str]) -> None:
    """Causes one below the other, what follows folded into a line; what is only told in one list at the end."""
    for noticed, heading in _NOTICED.items():
        asking = [e for e in causes if e.noticed is noticed and e.weight is not Weight.NOTE]
        if asking:
            show.heading(out, heading)
        for entry in asking:
            _show_entry(out, entry, titles)
    notes = [e for e in causes if e.weight is Weight.NOTE]
    if notes:
        show.heading(out, "Only told")
    for entry in notes:
        more = f" ({entry.follows})" if entry.follows else ""
        by = f", by {entry.step}" if entry.step else ""
        out.print(Text.assemble(show.mark("note", ""), f"{entry.text}{more}{by}"))


def _show_entry(out: Console, entry: Entry, titles: Mapping[str, str]) -> None:
    """One cause: what says it best, and in a line what follows."""
    if entry.area:
        out.print(Text.assemble(show.mark(entry.weight.value), "  ", entry.text))
    else:
        show.findings(out, [entry.head], titles)
    if entry.follows:
        out.print(Text.assemble(("          with    ", "dim"), entry.follows))
    if entry.area:
        out.print(Text.assemble(("          where   ", "dim"), f"by {entry.step}  ({entry.id})"))


def _next_after(out: Console, result: TrialResult) -> None:
    plan_file = Path(result.plan_file)
    asking = [f for f in result.findings if f.weight is not Weight.NOTE]
    if result.clone:
        show.next_step(out, f"keenharbor clone open {result.clone}")
    elif result.verdict == "pass":
        show.next_step(out, on_plan("keenharbor cutover", plan_file))
    elif any(s.problem for s in result.steps) or not asking:
        show.next_step(out, f"change {plan_file.name}, then: {on_plan('keenharbor trial resume', plan_file)}")
    elif any(f.kind in NEVER for f in asking):
        show.next_step(out, f"change {plan_file.name}, then: {on_plan('keenharbor trial run', plan_file)}")
    else:
        causes = [e for e in entries(result.findings) if e.weight is not Weight.NOTE]
        first = causes[0]
        how = "--cause " if first.others else ""
        accepting = f"keenharbor trial accept {how}{first.id} --because '…'"
        one_by_one = ", or keenharbor trial review" if len(causes) > 1 else ""
        show.next_step(
            out,
            f"where it is meant to be so: {accepting}{one_by_one}; else change {plan_file.name}, then: "
            f"{on_plan('keenharbor trial run', plan_file)}",
        )
