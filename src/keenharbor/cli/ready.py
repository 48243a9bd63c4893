"""``ready``"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import UsageError
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.site.readiness import Check, Decision, Readiness, judge, latest_core
from keenharbor.site.view import SiteView


def target_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """The options that say where to go; `ready` and `plan draft` have them."""
    for option in (
        click.option(
            "--extension", "extensions", multiple=True, metavar="NAME=DECISION",
            help="What becomes of an extension: keep, remove, a version, or replace-by:OTHER.",
        ),
        click.option("--latest", is_flag=True, help="Go to the newest core that all that stays can go to."),
        click.option("--runtime", help="The runtime's version to go to."),
        click.option("--core", help="The core's version to go to."),
    ):  # fmt: skip
        function = option(function)
    return function


def decisions_of(words: tuple[str, ...]) -> dict[str, str]:
    """``NAME=DECISION`` words as a table."""
    chosen = {}
    for word in words:
        name, sign, decision = word.partition("=")
        if not sign or not decision:
            raise UsageError(
                f"--extension {word}: NAME=DECISION is wanted", advice="such as --extension gallery=remove"
            )
        chosen[name] = decision
    return chosen


def judge_target(
    session: Session, site: SiteView, core: str | None, runtime: str | None, latest: bool, extensions: tuple[str, ...]
) -> Readiness:  # fmt: skip
    """The judgement for what `target_options` name."""
    if latest and core is not None:
        raise UsageError("--latest and --core: one of them is wanted")
    feed, chosen = session.feed(site), decisions_of(extensions)
    found = latest_core(site, feed, runtime, chosen) if latest else None
    wanted = found.core if found is not None else core
    return judge(site, feed, wanted, runtime, chosen, session.newest_snapshot(site), found)


@harbor_command(name="ready")
@target_options
def ready(session: Session, core: str | None, runtime: str | None, latest: bool, extensions: tuple[str, ...]) -> int:
    """Judge whether the site can go to the target, with a decision for each extension. Reads only.

    Exit code 0: clear; 1: caution or blocked."""
    site = session.site()
    found = judge_target(session, site, core, runtime, latest, extensions)
    session.show(found.as_json(), lambda out: _render(out, found, site.model.runtime.name))
    return 0 if found.verdict == "clear" else 1


def _render(out: Console, found: Readiness, runtime: str) -> None:
    way = " → ".join([found.core_now, *found.route]) if len(found.route) > 1 else _moves(found.core_now, found.core)
    goal = f"core {way}, {runtime} {_moves(found.runtime_now, found.runtime)}"
    show.headline(out, found.verdict.value, goal)
    checks_table(out, found.checks)
    show.heading(out, "Decisions")
    order = sorted(found.decisions, key=lambda d: (not d.open, d.action == "keep", d.name))
    show.table(
        out, ("name", "decision", "reason"),
        [(d.name, Text(_decision(d), style="bold" if d.open else ""), d.reason) for d in order],
    )  # fmt: skip
    target = " ".join(("--core", found.core, "--runtime", found.suggested_runtime, *found.proposals))
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
    if decision.action == "update":
        return f"update to {decision.version}"
    if decision.action == "replace":
        return f"replace by {decision.other} {decision.version}"
    return decision.action
