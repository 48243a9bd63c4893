"""``plan``: draft, check, show."""

from __future__ import annotations

import os
import shlex
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.durable import private_folder, write_durably
from keenharbor.base.errors import UsageError
from keenharbor.base.text import plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.ready import checks_table, judge_target, target_options
from keenharbor.site.load import open_site
from keenharbor.site.log import append_log
from keenharbor.site.releasefiles import release_files
from keenharbor.site.view import SiteView
from keenharbor.trial.accepted import accepted_file
from keenharbor.trial.check import check_plan
from keenharbor.trial.draft import PATCHES, OwnSteps, draft_plan, proposed_checks
from keenharbor.trial.fitting import fit_plan
from keenharbor.trial.plan import PLAN_FILE_NAME, Plan, on_plan, read_plan

plan_argument = click.argument(
    "plan_file", metavar="[PLAN]", type=click.Path(path_type=Path), default=PLAN_FILE_NAME, required=False
)


@click.group(name="plan", context_settings={"help_option_names": ["-h", "--help"]})
def plan() -> None:
    """Draft the plan of an upgrade, check it, read it."""


@harbor_command(plan, name="draft")
@target_options
@click.option("--out", type=click.Path(path_type=Path), default=PLAN_FILE_NAME, help="Where to write the plan.")
@click.option(
    "--pages/--no-pages",
    default=True,
    help="Visit the pages and propose checks, where the site has no log-in or none that writes.",
)
@click.option("--force", is_flag=True, help="Write over a plan that is there.")
@click.option(
    "--release", metavar="FOLDER", help="Without a feed: the unpacked release (or its archive) to put in place."
)
@click.option("--run", "commands", multiple=True, metavar="COMMAND", help="Without a feed: a command to run behind it.")
def draft(
    session: Session, out: Path, pages: bool, force: bool, release: str | None, commands: tuple[str, ...], **said: Any
) -> None:
    """Write upgrade.toml: ordered steps, with comments, made from the decisions of 'ready'. Without a feed, from the
    release and the commands that you name."""
    site = session.site()
    own = _own_steps(site, release, commands)
    if own.release is not None and said["core"] is None:
        said["core"] = release_files(site.site_file.absolute().parent / own.release).version_of(site)
    feed = session.feed(site, said["channels"])
    if out.exists() and not force:
        raise UsageError(
            "there is a plan already", where=out, advice="add --force to write over it, or name another with --out"
        )
    readiness = judge_target(session, site, **said)
    drafted = draft_plan(site, feed, readiness, proposed_checks(site, session.progress) if pages else "", own)
    if not drafted.has_steps:
        advice = "name another one with --core or --runtime"
        if site.model.feed is None:
            advice += ", or what is to be done: --release FOLDER, --run COMMAND"
        raise UsageError("there is nothing to do for this target", advice=advice)
    write_durably(out, drafted.text.encode())
    for name, patch in drafted.patches.items():
        write_durably(private_folder(out.parent / PATCHES) / f"{name}.patch", patch.encode())
    made = read_plan(out)
    open_ones = [d.name for d in readiness.decisions if d.open]
    append_log(site.work, site.name, "plan draft", "done", f"{len(made.step)} steps to core {made.plan.core}", str(out))

    def render(console: Console) -> None:
        show.headline(
            console,
            "done" if not open_ones and readiness.verdict != "blocked" else "caution",
            f"{out}: {plural(len(made.step), 'step')}",
        )
        _steps(console, made)
        if readiness.verdict == "blocked":
            first = next(c for c in readiness.checks if c.verdict == "blocked")
            console.print(show.said("damage", f"'ready' calls this target blocked: {first.subject}: {first.reason}"))
        for name in open_ones:
            console.print(show.said("caution", f"still open: what becomes of {name}? See the comment in {out}"))
        show.next_step(console, f"read {out}, then: {on_plan('keenharbor trial run', out)}")

    session.show(
        {"plan": str(out), "open": open_ones, "ready": readiness.verdict.value, **made.model_dump(mode="json")}, render
    )


def _own_steps(site: SiteView, release: str | None, commands: Sequence[str]) -> OwnSteps:
    """What was named on the command line; the release as the site file's folder has it."""
    if (release is not None or commands) and site.model.feed is not None:
        raise UsageError("--release and --run are for sites without a feed", where=site.site_file)
    if release is not None:
        release_files(Path(release))
        home = site.site_file.absolute().parent
        release = os.path.relpath(Path(release).absolute(), home)
    return OwnSteps(release, tuple(tuple(shlex.split(c)) for c in commands))


@harbor_command(plan, name="show")
@plan_argument
def show_command(session: Session, plan_file: Path) -> None:
    """Show the plan's steps."""
    made = read_plan(plan_file)

    def render(console: Console) -> None:
        goal = f"{made.plan.site}: core {made.plan.core}, runtime {made.plan.runtime}"
        console.print(
            Text(goal, style="bold"), Text(f" {plan_file}, drafted {made.plan.drafted or 'by hand'}", style="dim")
        )
        console.print()
        _steps(console, made)

    session.show(made.model_dump(mode="json"), render)


@harbor_command(plan, name="check")
@plan_argument
def check_command(session: Session, plan_file: Path) -> int:
    """Check the plan against the site: does each step fit what is there, and do they lead where the plan says?

    A plan of one site can be held against a sibling with --site; what does not fit is named. Exit code 0: it fits."""
    made = read_plan(plan_file)
    site = session.site()
    found = check_plan(site, session.feed_if_any(site), made)
    verdict = min((c.verdict for c in found), key=lambda v: v.rank)

    def render(console: Console) -> None:
        show.headline(console, verdict.value, f"{plan_file}: {plural(len(made.step), 'step')} to core {made.plan.core}")
        checks_table(console, found)
        if verdict == "blocked":
            show.next_step(console, f"correct {plan_file}, then: {on_plan('keenharbor plan check', plan_file)}")
        else:
            show.next_step(console, on_plan("keenharbor trial run", plan_file))

    session.show({"verdict": verdict.value, "checks": [asdict(c) for c in found]}, render)
    return 0 if verdict == "clear" else 1


@harbor_command(plan, name="fit")
@plan_argument
@click.option("--like", type=click.Path(path_type=Path), help="The site file of the site that the plan was made for.")
@click.option("--had", metavar="NAMES", help="Instead: what that site had installed, by name, with commas between.")
@click.option("--out", type=click.Path(path_type=Path), required=True, help="Where to write the fitted plan.")
def fit_command(session: Session, plan_file: Path, like: Path | None, had: str | None, out: Path) -> int:
    """Fit PLAN, which was made for another site, to the one of --site: steps for what it does not have are taken out.

    What was accepted of the plan's findings comes along. Exit code 0: it fits; 1: something is to be looked at."""
    site = session.site()
    others = had.split(",") if had is not None else None
    if like is not None:
        others = [c.name for c in open_site(like).components()]
    fitted = fit_plan(plan_file, site, others)
    write_durably(out, fitted.text.encode())
    agreed = accepted_file(plan_file)
    if agreed.exists() and not accepted_file(out).exists():
        write_durably(accepted_file(out), agreed.read_bytes())
    made = read_plan(out)
    found = check_plan(site, session.feed_if_any(site), made)
    verdict = min((c.verdict for c in found), key=lambda v: v.rank)
    append_log(site.work, site.name, "plan fit", "done", f"{len(made.step)} of {plan_file}", str(out))

    def render(console: Console) -> None:
        show.headline(console, verdict.value, f"{out}: {plural(len(made.step), 'step')} to core {made.plan.core}")
        for name, why in fitted.left_out.items():
            console.print(show.said("note", f"left out: {name}: {why}"))
        checks_table(console, found)
        show.next_step(console, on_plan("keenharbor trial run", out))

    session.show({
        "plan": str(out), "left_out": fitted.left_out, "verdict": verdict.value, "checks": [asdict(c) for c in found]
    }, render)  # fmt: skip
    return 0 if verdict == "clear" else 1


def _steps(console: Console, made: Plan) -> None:
    rows = [(str(n), s.name, s.told(), "saved before" if s.save else "") for n, s in enumerate(made.step, 1)]
    show.table(console, ("", "step", "what it does", "on live"), rows, right=(0,), keep=(1, 3))
