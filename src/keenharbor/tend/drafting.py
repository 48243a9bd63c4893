"""A draft of a site's routine, by how fast its content changes: measured from its snapshots."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from statistics import median

from keenharbor.snapshot import Snapshot


@dataclass(frozen=True)
class Pace:
    """How a site changes: snapshots that were looked at, over how many days, in how many something had changed since
    the one before, and the median hours between those."""

    snapshots: int
    days: float
    changed: int
    hours: float | None


def pace_of(snapshots: Sequence[Snapshot]) -> Pace:
    """By the objects that each snapshot added to the store."""
    ordered = sorted(snapshots, key=lambda s: s.taken_at)
    changed = [s.taken_at for s in ordered[1:] if s.manifest.added_objects]
    gaps = (
        [(b - a).total_seconds() / 3600 for a, b in zip([ordered[0].taken_at, *changed], changed, strict=False)]
        if ordered
        else []
    )
    days = (ordered[-1].taken_at - ordered[0].taken_at).total_seconds() / 86400 if ordered else 0.0
    return Pace(len(ordered), days, len(changed), median(gaps) if gaps else None)


def drafted(pace: Pace, *, places: bool) -> str:
    """The ``[routine]`` table as text. Where nothing is known of the site's pace it is saved daily; one that changes
    within hours more often, one that is still for weeks weekly."""
    often = "daily 03:10"
    why = "nothing is known yet of how fast it changes"
    if pace.days >= 2 and pace.snapshots >= 4:
        why = f"of {pace.snapshots} snapshots in {pace.days:.0f} days {pace.changed} had something new"
        if pace.hours is not None and pace.hours <= 6:
            often = "every 6 hours"
        elif pace.hours is None or pace.hours > 24 * 7:
            often = "weekly"
    lines = [
        "[routine]", f'snapshot = "{often}"  # {why}', 'unusual = "after snapshot"',
        *(['send = "after snapshot"'] if places else []),
        'verify = "weekly"', 'drill = "weekly"', 'thin = "daily 05:10"', 'look = "daily 06:10"', 'survey = "weekly"',
        'ready = "weekly"', "", "[routine.keep]", "days = 3", "daily = 14", "weekly = 8", "monthly = 12", "",
    ]  # fmt: skip
    return "\n".join(lines)
