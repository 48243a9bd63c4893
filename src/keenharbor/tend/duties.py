"""The duties: what each comes to, as commands of this tool, in the order in which they are done."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime

from keenharbor.base.schedule import Schedule

DUTIES = {
    "snapshot": "files and database are saved",
    "unusual": "the newest snapshot is held against the one before: what creeps in",
    "send": "the places get what they lack",
    "verify": "the store is read, and what is due of the places",
    "drill": "the newest snapshot is restored and looked at",
    "thin": "old snapshots go, here and in the places, by their rules",
    "survey": "what the site is made of is held against the survey before",
    "look": "the live pages are looked at",
    "watch": "live is held against how it arrived by the last cutover",
    "ready": "what stands in the way of the newest core",
}
LATE_WATCH = "1h 1d 3d 7d after cutover"
"""When live is looked at after a cutover, where the site file does not say it."""
_HOURS = {"snapshot": 4.0, "send": 12.0, "verify": 12.0, "drill": 2.0, "thin": 2.0}
"""How long a duty's commands may take; others an hour."""


@dataclass(frozen=True)
class Duty:
    """A duty with its times, and the commands that do it."""

    name: str
    schedule: Schedule
    commands: tuple[tuple[str, ...], ...]

    @property
    def hours(self) -> float:
        return _HOURS.get(self.name, 1.0)

    @property
    def shown(self) -> str:
        return "; ".join(f"keenharbor {shlex.join(c)}" for c in self.commands)


@dataclass(frozen=True)
class Facts:
    """What the duties of a site depend on: its places, those of them that may be thinned from here and have rules, and
    the words of the store's own rules; when live arrived by the last cutover (by the wall clock)."""

    places: Sequence[str] = ()
    thinned: Sequence[str] = ()
    keep: Sequence[str] = ()
    arrived: datetime | None = None


def duties_of(routine: dict[str, str], facts: Facts, site: str) -> list[Duty]:
    """The duties of a site by its ``[routine]``, in order. Raises ValueError, in words."""
    found = []
    for name in DUTIES:
        text = routine.get(name, LATE_WATCH if name == "watch" else None)
        if text is None or text == "never":
            continue
        try:
            schedule = Schedule.read(text, f"{site} {name}")
        except ValueError as error:
            raise ValueError(f"'{name}' under [routine]: {error}") from None
        if schedule.offsets:
            schedule = schedule.counted(facts.arrived)
        if (name == "watch") != bool(schedule.offsets):
            raise ValueError(f"'{name}' under [routine]: '{text}'; only 'watch' is '{LATE_WATCH}', and always so")
        if schedule.after and schedule.after not in routine:
            raise ValueError(f"'{name}' under [routine]: it comes after '{schedule.after}', which has no time itself")
        commands = tuple(_commands(name, facts))
        if commands:
            found.append(Duty(name, schedule, commands))
    return found


def _commands(name: str, facts: Facts) -> Iterator[tuple[str, ...]]:
    match name:
        case "snapshot":
            yield ("snapshot", "take", "--scheduled", "--gentle")
        case "unusual":
            yield ("snapshot", "diff", "--unusual")
        case "send" if facts.places:
            yield ("place", "send")
        case "verify":
            yield ("snapshot", "verify")
            if facts.places:
                yield ("place", "verify")
        case "drill":
            yield ("snapshot", "drill", "newest")
        case "thin":
            if facts.keep:
                yield ("snapshot", "thin", *facts.keep, "--yes")
            for place in facts.thinned:
                yield ("place", "thin", place, "--yes")
        case "survey":
            yield ("survey", "--against", "newest", "--save")
        case "look":
            yield ("survey", "--pages")
        case "watch" if facts.arrived is not None:
            yield ("watch",)
        case "ready":
            yield ("ready", "--latest")
