"""``trial``: run, show, list."""

from __future__ import annotations

from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.text import age, duration, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.plan import plan_argument
from keenharbor.cutover.guarded import take_guarded
from keenharbor.site.log import append_log
from keenharbor.snapshot import TakeOptions, find_snapshot, list_snapshots
from keenharbor.trial.plan import read_plan
from keenharbor.trial.result import TrialResult, find_trial, list_trials
from keenharbor.trial.runner import TrialOptions, run_trial

LONG = 8


@click.group(name="trial", context_settings={"help_option_names": ["-h", "--help"]})
def trial() -> None:
    """Rehearse the plan on a disposable clone."""


@harbor_command(trial, name="run")
@plan_argument
@click.option("--snapshot", "wanted", help="Where to start from: a snapshot, or 'live' for a new one (the newest).")
@click.option("--keep", is_flag=True, help="Keep the clone for a visit.")
@click.option("--stop-at-failure", is_flag=True, help="Do not go on after a step that failed.")
@click.option("--port", type=click.IntRange(1, 65535), help="The clone's port on loopback.")
def run(
    session: Session, plan_file: Path, wanted: str | None, keep: bool, stop_at_failure: bool, port: int | None
) -> int:  # fmt: skip
    """Rehearse PLAN (upgrade.toml) on a clone. Live is only read, and shown to be untouched.

    Exit code 0: pass; 1: review or fail."""
    site, made = session.site(), read_plan(plan_file)
    feed = session.feed(site)
    store = session.store(site, create=True)
    if wanted == "live" or (wanted is None and not list_snapshots(store, site.name)):
        snapshot = take_guarded(site, store, TakeOptions(reason="before a trial"), session.progress)
    else:
        snapshot = find_snapshot(store, wanted or "newest", site.name)
    options = TrialOptions(ask=session.person(), keep=keep, stop_at_failure=stop_at_failure, port=port)
    result = run_trial(site, made, plan_file.resolve(), snapshot, feed, options, session.progress)
    from keenharbor.report import write_report

    session.progress.stage("writing the report")
    report = write_report(site, result)
    append_log(site.work, site.name, "trial run", result.verdict, f"{len(result.findings)} findings", result.id)
    session.show({**result.as_json(), "report": str(report)}, lambda out: render_trial(out, result, report))
    return 0 if result.verdict == "pass" else 1


@harbor_command(trial, name="show")
@click.argument("wanted", metavar="TRIAL", default="newest")
def show_command(session: Session, wanted: str) -> None:
    """Show a trial again.

    By id, the beginning of one, or "newest"."""
    site = session.site()
    result = find_trial(site.work, wanted)
    report = site.work / "trials" / result.id / "report.html"
    session.show({**result.as_json(), "report": str(report)}, lambda out: render_trial(out, result, report))


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


def render_trial(out: Console, result: TrialResult, report: Path) -> None:
    """A trial for people: verdict, findings, steps, proof of isolation."""
    counts = {w: sum(f.weight == w for f in result.findings) for w in ("damage", "doubt", "note")}
    told = ", ".join(f"{n} {w}" for w, n in counts.items() if n) or "nothing found"
    show.headline(
        out, result.verdict, f"trial {result.id}: {told}; {plural(result.pages, 'page')}, {duration(result.seconds)}"
    )
    show.findings(out, result.findings)
    show.heading(out, "Steps")
    rows = []
    for number, step in enumerate(result.steps, 1):
        state = show.mark("failed") if step.problem else show.mark("done")
        tries = f" at try {step.tries}" if step.tries > 1 else ""
        by = sum(f.step == step.name for f in result.findings if f.weight != "note")
        changed = f"{plural(step.files_changed, 'file')}, {plural(step.rows_changed, 'row')}"
        rows.append((str(number), step.name, Text.assemble(state, tries), changed, str(by) if by else ""))
    show.table(out, ("", "step", "outcome", "changed", "findings"), rows, right=(0, 4), keep=(1, 2))
    proof = result.isolation
    show.heading(out, "Live")
    if proof.untouched:
        out.print(show.said("good", f"untouched: fingerprint {proof.live_before} before and after"))
    else:
        cause = (
            "visitors were at work" if proof.only_visitors else "not by the clone, which cannot reach it; look who did"
        )
        out.print(show.said("caution", f"changed meanwhile ({cause}): {', '.join(proof.differences[:4])}"))
    cells = sum(proof.rewritten_cells.values())
    left = f"of live is left: {', '.join(proof.traces[:3])}" if proof.traces else "nothing of live was left in it"
    rewritten = f"{plural(proof.rewritten_files, 'file')} and {plural(cells, 'cell')} of the clone rewritten; {left}"
    out.print(show.said("damage" if proof.traces else "good", rewritten))
    out.print(show.said("good", f"{plural(len(proof.mails), 'mail')} caught, none sent"))
    if result.noise:
        out.print(Text(f"noise left out: {'; '.join(result.noise)}", style="dim"))
    out.print(Text(f"report: {report}", style="dim"))
    if len(result.findings) > LONG:  # the verdict on top has scrolled away
        show.headline(out, result.verdict, told)
    if result.clone:
        show.next_step(out, f"keenharbor clone open {result.clone}")
    elif result.verdict == "pass":
        show.next_step(out, "keenharbor cutover")
    else:
        show.next_step(out, "change upgrade.toml, then: keenharbor trial run")
