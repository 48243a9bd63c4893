"""``reach``"""

from __future__ import annotations

from dataclasses import asdict

from rich.console import Console
from rich.text import Text

from keenharbor.base.text import duration, size
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.clone.elsewhere import differs_here
from keenharbor.site.reaching import Reached, reach

_MOST_CLOCK_SECONDS = 30


@harbor_command(name="reach")
def reach_command(session: Session) -> int:
    """Show how the tool reaches the site: the line to its machine, what that offers, and what each stage will use.
    Changes nothing, and leaves nothing there."""
    at = session.whereabouts()
    if at.far:
        session.progress.stage(f"reaching {at.far}")
    found = reach(at, differs_here)
    session.show({**asdict(found), "good": found.good}, lambda out: _render(out, found))
    return 0 if found.good else 1


def _render(out: Console, found: Reached) -> None:
    where = "this machine" if found.is_here else found.machine
    what = "reached" if found.good else "reached, with limits"
    show.headline(out, "good" if found.good else "caution", f"{found.site} is {what}: {found.place}")
    rows: list[tuple[str, Text | str]] = [("machine", f"{where}{f' ({found.system})' if found.system else ''}")]
    if not found.is_here:
        rows.append(("line", _line(found)))
        rows.append(("helper", _helper(found)))
        if found.programs:
            rows.append(("has", ", ".join(found.programs)))
    if abs(found.clock_seconds) > _MOST_CLOCK_SECONDS:
        ahead = "ahead of" if found.clock_seconds > 0 else "behind"
        rows.append(("clock", f"{duration(abs(found.clock_seconds))} {ahead} this machine's"))
    rows.append(("database", found.database_problem or found.database))
    if found.root_problem:
        rows.append(("folder", found.root_problem))
    if found.open_change:
        rows.append(("open", "a change of the site is under way, or was interrupted: keenharbor settle"))
    show.pairs(out, rows)
    out.print()
    show.table(
        out, ("stage", "by"),
        [(show.said("good" if way.good else "blocked", way.stage), way.how) for way in found.stages],
    )  # fmt: skip
    show.next_step(out, "keenharbor survey" if found.good else "what is marked, then: keenharbor reach")


def _line(found: Reached) -> str:
    if not found.round_trip_seconds:
        return f"open in {duration(found.connect_seconds)}"
    return (
        f"open in {duration(found.connect_seconds)}, there and back in {duration(found.round_trip_seconds)}; "
        f"{size(found.rate_from)}/s from there, {size(found.rate_to)}/s to there"
    )


def _helper(found: Reached) -> str:
    if found.lacking:
        return f"none: {found.lacking}"
    return f"Python {found.python} as {found.user}; {size(found.helper_bytes)} sent to it, nothing kept there"
