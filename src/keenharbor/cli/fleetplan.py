"""``fleet trial`` and ``fleet cutover``: one plan, from site to site."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import UsageError
from keenharbor.base.text import age, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.fleet import code_of, fleet, fleet_option, groups_argument, render_outcomes, run_command
from keenharbor.cli.fleettable import watching
from keenharbor.fleet.rollout import (
    Going,
    Rollout,
    begin,
    file_of,
    had_by,
    next_wave,
    read_rollout,
    told_of_rollout,
    waits_until,
    watch_the_done,
)
from keenharbor.fleet.sites import FleetFile, Member, members_of, read_fleet
from keenharbor.fleet.working import side_by_side
from keenharbor.host.lease import held
from keenharbor.trial.plan import PLAN_FILE_NAME, Plan, read_plan

_plan_option = click.option(
    "--plan", "plan_file", type=click.Path(path_type=Path), default=Path(PLAN_FILE_NAME), show_default=True,
    help="The plan, made for one of the sites.",
)  # fmt: skip


@harbor_command(fleet, name="trial", site=False)
@groups_argument
@_plan_option
@fleet_option
def trial(session: Session, groups: tuple[str, ...], plan_file: Path, fleet_file: Path) -> int:
    """Fit the plan to each site, and rehearse it there on a clone. Live is only read.

    Exit code 0: all passed; 1: some did not; 3: some could not be rehearsed."""
    said, members, plan = _read(fleet_file, plan_file, groups)
    known = read_rollout(file_of(fleet_file, plan_file))
    seconds = said.limits.minutes * 60
    others = known.others if known is not None else had_by(plan, members, run_command, seconds)
    rollout = begin(plan.digest, members, said.rollout, others)
    going = Going(plan_file, rollout, file_of(fleet_file, plan_file), run_command, seconds)
    with watching(session, "rehearse", members) as watcher:
        outcomes = side_by_side(members, going.rehearse, watcher, at_once=said.limits.at_once)
    session.show([o.as_json() for o in outcomes], lambda out: render_outcomes(out, outcomes))
    return code_of(outcomes)


@harbor_command(fleet, name="cutover", site=False)
@groups_argument
@_plan_option
@fleet_option
@click.option("--look", is_flag=True, help="Only show how far it is, and what comes next.")
@click.option("--without", multiple=True, metavar="SITE", help="Leave this site out; can be repeated.")
@click.option("--again", multiple=True, metavar="SITE", help="Take up again a site that stopped, or was left out.")
@click.option("--anew", is_flag=True, help="Begin again, since the plan was changed.")
@click.option("--sooner", is_flag=True, help="Do not wait for the days of watch.")
@click.option("--yes", is_flag=True, help="Do not ask.")
def cutover(
    session: Session, groups: tuple[str, ...], plan_file: Path, fleet_file: Path, look: bool,
    without: tuple[str, ...], again: tuple[str, ...], anew: bool, sooner: bool, yes: bool,
) -> int:  # fmt: skip
    """Carry the plan out on the next wave of sites: first on one, after its days of watch on more.

    Before each wave the sites that are through are held against how they arrived. A wave stops at the first site that
    is not as it was rehearsed.

    Exit code 0: done, or it is not time yet; 1: something is to be looked at; 3: stopped."""
    said, members, plan = _read(fleet_file, plan_file, groups)
    file = file_of(fleet_file, plan_file)
    seconds, at_once = said.limits.minutes * 60, said.limits.at_once
    with held(file.with_suffix(".lock"), f"the plan {plan_file.name} of this fleet", doing="fleet cutover"):
        rollout = None if anew else read_rollout(file)
        if rollout is not None and rollout.plan != plan.digest:
            raise UsageError(
                "the plan was changed since it went to the first site", where=plan_file,
                advice="add --anew to begin again at the first site",
            )  # fmt: skip
        if rollout is None:
            rollout = begin(plan.digest, members, said.rollout, had_by(plan, members, run_command, seconds))
        rollout.take_in(members)
        going = Going(plan_file, rollout, file, run_command, seconds)
        _decide(going, members, without, again)
        until, wave = waits_until(rollout, members, said.rollout.days), rollout.wave(members)
        if look or wave is None or rollout.of("stopped") or (until is not None and not sooner):
            session.show(_as_json(rollout, wave, until), lambda out: _render(out, rollout, wave, until))
            return 3 if rollout.of("stopped") else 0
        if any(s.stage == "done" for s in rollout.sites.values()):
            with watching(session, "watch", members) as watcher:
                watched = watch_the_done(going, members, watcher, at_once)
            if any(o.verdict != "good" for o in watched):
                told = {"stopped": "the sites that are through are not as they arrived"}
                session.show(
                    told | {"outcomes": [o.as_json() for o in watched]}, lambda out: render_outcomes(out, watched)
                )
                return max(1, code_of(watched))
        coming = rollout.coming(members)
        session.confirm(
            f"The plan {plan_file} goes live, when its rehearsal passes there, on {plural(len(coming), 'site')}: "
            f"{', '.join(m.name for m in coming[:8])}{' …' if coming[8:] else ''}.", yes,
        )  # fmt: skip
        with watching(session, "cut over", coming) as watcher:
            outcomes = next_wave(going, members, watcher, at_once)
        until, wave = waits_until(rollout, members, said.rollout.days), rollout.wave(members)

    def render(out: Console) -> None:
        render_outcomes(out, outcomes)
        _render(out, rollout, wave, until)

    session.show(_as_json(rollout, wave, until) | {"outcomes": [o.as_json() for o in outcomes]}, render)
    return code_of(outcomes)


def _read(fleet_file: Path, plan_file: Path, groups: tuple[str, ...]) -> tuple[FleetFile, list[Member], Plan]:
    said = read_fleet(fleet_file)
    return said, members_of(said, fleet_file.absolute().parent, groups), read_plan(plan_file)


def _decide(going: Going, members: list[Member], without: tuple[str, ...], again: tuple[str, ...]) -> None:
    """Note what a person decided of single sites."""
    known = {m.name: m for m in members}
    for name in (*without, *again):
        if name not in known:
            raise UsageError(f"'{name}' is none of the sites that the plan goes to")
    for name in without:
        if going.rollout.sites[str(known[name].site_file)].stage != "done":
            going.note(known[name], "left out", "by decision")
    for name in again:
        if going.rollout.sites[str(known[name].site_file)].stage in ("stopped", "left out"):
            going.note(known[name], "waiting", "")


def _as_json(rollout: Rollout, wave: int | None, until: datetime | None) -> dict[str, object]:
    return {
        "wave": wave, "waits_until": until.isoformat(timespec="minutes") if until is not None else None,
        "sites": [
            {"site": s.name, "wave": s.wave, "stage": s.stage, "told": s.told,
             "at": s.at.isoformat(timespec="seconds") if s.at is not None else None}
            for s in rollout.sites.values()
        ],
    }  # fmt: skip


_MARKS = {"done": "good", "waiting": "note", "left out": "caution", "stopped": "failed"}


def _render(out: Console, rollout: Rollout, wave: int | None, until: datetime | None) -> None:
    rows = [
        (show.mark(_MARKS[s.stage], s.name), str(s.wave + 1), s.stage, age(s.at) if s.at is not None else "", s.told)
        for s in sorted(rollout.sites.values(), key=lambda s: (s.wave, s.name))
    ]
    show.table(out, ("site", "wave", "", "since", "what is to be known"), rows, right=(1,), keep=(0, 1, 2, 3))
    stopped = rollout.of("stopped")
    show.headline(out, "failed" if stopped else "done", told_of_rollout(rollout))
    if stopped:
        name = stopped[0].name
        show.next_step(
            out, f"see what became of {name}; then keenharbor fleet cutover --again {name}, or --without {name}"
        )
    elif until is not None:
        out.print(
            Text(f"The next wave comes {until.astimezone():%a %d %b %H:%M}, when the watch is over.", style="dim")
        )
    elif wave is not None:
        show.next_step(out, f"keenharbor fleet cutover: wave {wave + 1}")
