"""``ready``"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.text import Text

from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.judge.readiness import Readiness
from keenharbor.judge.target import Target, judge_for
from keenharbor.site.checks import Check, Decision
from keenharbor.site.view import SiteView

_MOST_KEPT = 8


def target_options(function: Callable[..., object]) -> Callable[..., object]:
    """The options that say where to go; `ready` and `plan draft` have them."""
    for option in (
        click.option(
            "--extension", "extensions", multiple=True, metavar="NAME=DECISION",
            help="What becomes of an extension: keep, remove, switch-off, a version, or replace-by:OTHER.",
        ),
        click.option("--decisions", type=click.Path(path_type=Path), help="A TOML file of NAME = \"DECISION\"."),
        click.option("--forget", multiple=True, metavar="NAME", help="Let go of what was decided of an extension "
            "before."),
        click.option("--also", multiple=True, metavar="NAME=VERSION", help="A further distribution of the index that "
            "is "
            "to be there, such as the framework."),
        click.option("--latest", is_flag=True, help="Go to the newest core that all that stays can go to."),
        click.option("--channel", "channels", multiple=True,
            help="Only releases of this channel (those under [feed])."),
        click.option("--database", metavar="[ENGINE] VERSION", help="The database to go to, such as 'mariadb 11.4'."),
        click.option("--runtime", help="The runtime's version to go to."),
        click.option("--core", help="The core's version to go to."),
    ):  # fmt: skip
        function = option(function)
    return function


def judge_target(session: Session, site: SiteView, **said: Any) -> Readiness:
    """The judgement for what `target_options` say."""
    feed = session.feed(site, said.pop("channels"))
    told = judge_for(site, feed, Target(**said), session.newest_snapshot(site))
    for name, earlier in told.standing.items():
        session.progress.note(f"{name}={earlier.decision}: decided {earlier.at[:10]} (--forget {name} lets go of it)")
    return told.readiness


@harbor_command(name="ready")
@target_options
def ready(session: Session, **said: Any) -> int:
    """Judge whether the site can go to the target, with a decision for each extension. What you decide is remembered.

    Exit code 0: clear; 1: caution or blocked."""
    site = session.site()
    found = judge_target(session, site, **said)
    session.show(found.as_json(), lambda out: _render(out, found, site.model.runtime.name))
    return 0 if found.verdict == "clear" else 1


def _render(out: Console, found: Readiness, runtime: str) -> None:
    way = " → ".join([found.core_now, *found.route]) if len(found.route) > 1 else _moves(found.core_now, found.core)
    goal = f"core {way}, {runtime} {_moves(found.runtime_now, found.runtime)}"
    show.headline(out, found.verdict.value, goal)
    checks_table(out, found.checks)
    show.heading(out, "Decisions")
    order = sorted(found.decisions, key=lambda d: (not d.open, d.action == "keep", d.name))
    kept = [d for d in order if d.action == "keep" and not d.open and not d.off]
    shown = order if len(kept) <= _MOST_KEPT else [d for d in order if d not in kept[_MOST_KEPT:]]
    show.table(
        out, ("name", "decision", "reason"),
        [(d.name, Text(_decision(d), style="bold" if d.open else ""), d.reason) for d in shown],
    )  # fmt: skip
    if len(shown) < len(order):
        out.print(Text(f"and {len(order) - len(shown)} more are kept (--json lists all)", style="dim"))
    target = " ".join(("--core", found.core, "--runtime", found.suggested_runtime, *found.proposals, *found.also))
    show.next_step(out, f"keenharbor {'ready' if found.verdict == 'blocked' else 'plan draft'} {target}")


def checks_table(out: Console, checks: Iterable[Check]) -> None:
    """Checks with their verdict, reason and remedy."""
    rows = []
    for check in checks:
        reason = Text(check.reason)
        if check.remedy and check.verdict != "clear":
            reason.append(f"\n→ {check.remedy}", style="bold" if check.verdict == "blocked" else "dim")
        rows.append((show.mark(check.verdict.value), check.subject, reason))
    show.table(out, ("verdict", "what", "why, and what to do"), rows, keep=(0,))


def _moves(now: str, then: str) -> str:
    return now if now == then else f"{now} → {then}"


def _decision(decision: Decision) -> str:
    if decision.open:
        return "OPEN"
    off = {"": "", "meanwhile": ", off meanwhile", "for good": ", switched off"}[decision.off]
    if decision.action == "update":
        return f"update to {decision.version}{off}"
    if decision.action == "replace":
        return f"replace by {decision.other} {decision.version}"
    return decision.action + off
