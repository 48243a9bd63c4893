"""``fleet board``: all sites on one page."""

from __future__ import annotations

from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.durable import write_durably
from keenharbor.base.text import now, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.fleet import fleet, fleet_option, groups_argument, warm
from keenharbor.cli.fleettable import watching
from keenharbor.fleet.sites import members_of, read_fleet
from keenharbor.fleet.working import for_all


@harbor_command(fleet, name="card", hidden=True)
def card_command(session: Session) -> int:
    """Say of one site what stands on the board."""
    from keenharbor.fleet.card import card_of

    site = session.site()
    card = card_of(site, session.feed_if_any(site))
    session.show(card.as_json(), lambda out: _render_card(out, card.site, card.state, card.attention))
    return 0


def _render_card(out: Console, site: str, state: str, attention: tuple[str, ...]) -> None:
    show.headline(out, state, site)
    for line in attention:
        out.print(Text(f"· {line}"))


@harbor_command(fleet, name="board", site=False)
@groups_argument
@fleet_option
@click.option(
    "--out", type=click.Path(path_type=Path), default=Path("board.html"), show_default=True, help="The page to write."
)
def board(session: Session, groups: tuple[str, ...], fleet_file: Path, out: Path) -> int:
    """Write one HTML page of all sites: versions, what is pending, snapshots with their proof, places, trials, ways
    back, what comes next. It opens without a network.

    Exit code 0: all is well; 1: something is to be looked at; 3: something has failed."""
    from keenharbor.report.board import board_as_html

    said = read_fleet(fleet_file)
    members = members_of(said, fleet_file.absolute().parent, groups)
    with watching(session, "board", members) as watcher:
        outcomes = for_all(
            "card", members, warm("fleet"), watcher, at_once=said.limits.at_once, seconds=said.limits.minutes * 60
        )
    told = [o.as_json() for o in outcomes]
    name = fleet_file.absolute().parent.name if fleet_file.stem == "fleet" else fleet_file.stem
    write_durably(out, board_as_html(name, told, now()).encode())
    states = [o.result.get("state") if isinstance(o.result, dict) else "failed" for o in outcomes]
    states = ["failed" if o.verdict == "failed" else s for o, s in zip(outcomes, states, strict=True)]
    worst = next((w for w in ("failed", "caution") if w in states), "good")
    counts = ", ".join(f"{n} {w}" for w in ("failed", "caution", "good") if (n := states.count(w)))

    def render(console: Console) -> None:
        show.headline(console, worst, f"{out}: {plural(len(members), 'site')}: {counts}")
        show.next_step(console, f"open {out} in a browser")

    session.show({"board": str(out), "sites": told}, render)
    return {"failed": 3, "caution": 1, "good": 0}[worst]
