"""``fleet``: one command for many sites."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Sequence
from pathlib import Path

import click
from rich.console import Console

from keenharbor.base.text import duration, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.fleettable import watching
from keenharbor.cli.main import COMMANDS as CLI_COMMANDS
from keenharbor.fleet.sites import FLEET_FILE_NAME, FleetFile, Member, members_of, read_fleet
from keenharbor.fleet.working import COMMANDS, Outcome, for_all
from keenharbor.host.forked import Forked
from keenharbor.host.programs import Ran, run_program

_NEEDED = (
    "keenharbor.site.load", "keenharbor.database.sqlite", "keenharbor.site.survey", "keenharbor.snapshot.manifest"
)  # fmt: skip


@click.group(name="fleet", context_settings={"help_option_names": ["-h", "--help"]})
def fleet() -> None:
    """One command for many sites: processes side by side, one table, worst first."""


fleet_option = click.option(
    "--fleet", "fleet_file", type=click.Path(path_type=Path), default=Path(FLEET_FILE_NAME), show_default=True,
    help="The file of the fleet.",
)  # fmt: skip
_cluster_option = click.option(
    "--cluster", metavar="ADDRESS", help="Work on the workers of a dask engine whose scheduler is there (tcp://…)."
)
groups_argument = click.argument("groups", nargs=-1, metavar="[GROUP]...")


def _command(name: str, text: str) -> Callable[..., object]:
    """A command for all sites of a fleet, or of some groups."""

    def run(session: Session, groups: tuple[str, ...], fleet_file: Path, cluster: str | None) -> int:
        said, base = read_fleet(fleet_file), fleet_file.absolute().parent
        seconds = said.limits.minutes * 60
        if cluster is not None:
            outcomes = _on_cluster(session, name, cluster, said, base, groups)
        else:
            members = members_of(said, base, groups)
            with watching(session, name, members) as watcher:
                run = warm(COMMANDS[name][0])
                outcomes = for_all(name, members, run, watcher, at_once=said.limits.at_once, seconds=seconds)
        session.show([o.as_json() for o in outcomes], lambda out: render_outcomes(out, outcomes))
        return code_of(outcomes)

    run.__doc__ = text
    made: Callable[..., object] = harbor_command(fleet, name=name, site=False)(
        groups_argument(fleet_option(_cluster_option(run)))
    )
    return made


def _on_cluster(
    session: Session, name: str, address: str, said: FleetFile, base: Path, groups: tuple[str, ...]
) -> list[Outcome]:
    from keenharbor.fleet.cluster import Cluster

    with Cluster(address) as engine:
        members = engine.members(said, base, groups)
        with watching(session, name, [m for some in members.values() for m in some]) as watcher:
            return engine.for_all(name, members, run_command, watcher, said.limits.minutes * 60)


def code_of(outcomes: Sequence[Outcome]) -> int:
    verdicts = {o.verdict for o in outcomes}
    return 3 if "failed" in verdicts else 1 if "caution" in verdicts else 0


def warm(word: str) -> Forked:
    """What runs commands of one kind, with what they need imported once."""
    own = CLI_COMMANDS[word][0].partition(":")[0]
    return Forked("keenharbor", "keenharbor.cli.main:main", [own, *_NEEDED])


def run_command(command: Sequence[str], seconds: float) -> Ran:
    words = [sys.executable, "-m", "keenharbor.cli.main", *command]
    return run_program(words, folder=Path.cwd(), time_limit=seconds, environment=dict(os.environ))


def render_outcomes(out: Console, outcomes: Sequence[Outcome]) -> None:
    groups = len({o.groups for o in outcomes}) > 1
    rows = [
        (show.mark(o.verdict, o.site), *((", ".join(o.groups),) if groups else ()), duration(o.seconds), o.told)
        for o in outcomes
    ]
    columns = ("site", *(("group",) if groups else ()), "took", "what is to be known")
    show.table(out, columns, rows, keep=(0, 1))
    counts = {v: sum(o.verdict == v for o in outcomes) for v in ("failed", "caution", "good")}
    told = ", ".join(f"{n} {v}" for v, n in counts.items() if n)
    worst = next(v for v in ("failed", "caution", "good") if counts[v])
    show.headline(out, worst, f"{plural(len(outcomes), 'site')}: {told}")


survey = _command("survey", "Say what each site is made of, and what is pending. Reads only.")
ready = _command("ready", "Judge for each site what stands in the way of the newest core.")
tend = _command("tend", "Do what is due of each site's [routine].")
take = _command("snapshot", "Take a snapshot of each site.")
send = _command("send", "Send what the places of each site lack.")


@harbor_command(fleet, name="list", site=False)
@groups_argument
@fleet_option
def list_command(session: Session, groups: tuple[str, ...], fleet_file: Path) -> int:
    """Show the sites of the fleet, with their groups and site files."""
    members = members_of(read_fleet(fleet_file), fleet_file.absolute().parent, groups)
    told = [
        {"site": m.name, "site_file": str(m.site_file), "groups": list(m.groups), "wrong": m.wrong} for m in members
    ]
    session.show(told, lambda out: _render_members(out, members))
    return 1 if any(m.wrong for m in members) else 0


def _render_members(out: Console, members: Sequence[Member]) -> None:
    rows = [
        (show.mark("failed" if m.wrong else "good", m.name), ", ".join(m.groups), m.wrong or str(m.site_file))
        for m in members
    ]
    show.table(out, ("site", "groups", "site file"), rows, keep=(0, 1))
