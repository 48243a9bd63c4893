"""One plan for many sites: first on one of them, after its days of watch in waves. A wave stops at the first site
that is not as it was rehearsed.

FLEET-PLAN.json beside the file of the fleet says how far it is. At each site the plan is fitted to it
(`keenharbor.trial.fitting`), rehearsed on a clone of that site, and carried out there when the rehearsal has passed: by
the commands that a person would type. A site whose rehearsal did not pass is left out and told; nothing has happened to
it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path
from threading import Lock
from typing import Literal

import msgspec

from keenharbor.base.durable import write_durably
from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.text import now, plural
from keenharbor.fleet.sites import Member, RolloutPart
from keenharbor.fleet.working import Outcome, Runner, Watcher, at_site, side_by_side
from keenharbor.trial.plan import Plan

Stage = Literal["waiting", "left out", "stopped", "done"]


class SiteState(msgspec.Struct):
    """How far a site is: in which wave (from 0, the one that goes ahead), since when, and what was told."""

    name: str
    wave: int
    stage: Stage = "waiting"
    at: datetime | None = None
    told: str = ""


class Rollout(msgspec.Struct):
    """A plan on its way over the sites, by their site files; ``others`` is what the site had installed that it was
    made for (None: that is not known)."""

    plan: str
    began: datetime
    sites: dict[str, SiteState]
    others: list[str] | None = None

    def of(self, stage: Stage) -> list[SiteState]:
        return [s for s in self.sites.values() if s.stage == stage]

    def wave(self, members: Sequence[Member]) -> int | None:
        """The wave that comes now of these sites; None when all are through."""
        states = [self.sites[str(m.site_file)] for m in members]
        return min((s.wave for s in states if s.stage in ("waiting", "stopped")), default=None)

    def coming(self, members: Sequence[Member]) -> list[Member]:
        """Those of these sites to which the plan goes now."""
        wave = self.wave(members)
        states = [(m, self.sites[str(m.site_file)]) for m in members]
        return [m for m, s in states if s.wave == wave and s.stage == "waiting"]

    def send_one_ahead(self) -> None:
        """Where the site that was to go ahead is left out, the next one goes ahead in its place: never a whole wave."""
        if all(s.stage == "left out" for s in self.sites.values() if s.wave == 0) and not self.of("done"):
            following = min(self.of("waiting"), key=lambda s: (s.wave, s.name), default=None)
            if following is not None:
                following.wave = 0

    def take_in(self, members: Sequence[Member]) -> None:
        """Sites that came to the fleet meanwhile go behind all others."""
        last = max((s.wave for s in self.sites.values()), default=-1)
        for member in members:
            self.sites.setdefault(str(member.site_file), SiteState(member.name, last + 1))


def file_of(fleet_file: Path, plan_file: Path) -> Path:
    """Where it is noted how far a plan is."""
    return fleet_file.absolute().with_name(f"{fleet_file.stem}-{plan_file.stem}.json")


def read_rollout(file: Path) -> Rollout | None:
    """How far it is; None where it was not begun. Raises `DamagedError`."""
    if not file.exists():
        return None
    try:
        return msgspec.json.decode(file.read_bytes(), type=Rollout)
    except (OSError, msgspec.MsgspecError) as error:
        raise DamagedError(f"how far the plan is cannot be read: {error}", where=file) from None


def begin(plan: str, members: Sequence[Member], part: RolloutPart, others: Sequence[str] | None) -> Rollout:
    """A plan at its beginning, with the sites put into waves. Raises `UsageError`."""
    names = {m.name for m in members}
    first = part.first if part.first is not None else members[0].name
    if first not in names:
        raise UsageError(f"'first' under [rollout] names '{first}', which is none of the sites")
    sites: dict[str, SiteState] = {}
    wave, room = 0, 1
    for member in sorted(members, key=lambda m: (m.name != first, m.name, str(m.site_file))):
        if not room:
            wave, room = wave + 1, part.wave * 2**wave
        sites[str(member.site_file)] = SiteState(member.name, wave)
        room -= 1
    return Rollout(plan, now(), sites, None if others is None else list(others))


def had_by(plan: Plan, members: Sequence[Member], run: Runner, seconds: float) -> list[str] | None:
    """What the site that a plan was made for has installed; None where that site is none of these, or has gone to the
    plan's core already: what it got by the plan could not be told from what it had."""
    origin = next((m for m in members if m.name == plan.plan.site and not m.wrong), None)
    surveyed = at_site("survey", ("survey",), origin, run, seconds).result if origin is not None else None
    if not isinstance(surveyed, dict) or surveyed.get("core") == plan.plan.core:
        return None
    return [str(i.get("name")) for i in surveyed.get("installations", [])]


def waits_until(rollout: Rollout, members: Sequence[Member], days: float) -> datetime | None:
    """When the next wave may come: so many days after the last site of the wave before; None where it may come now."""
    wave = rollout.wave(members)
    if not wave:
        return None
    last = max((s.at for s in rollout.of("done") if s.at is not None), default=None)
    until = last + timedelta(days=days) if last is not None else None
    same_wave = any(s.wave == wave and s.stage in ("done", "stopped") for s in rollout.sites.values())
    return until if until is not None and until > now() and not same_wave else None


@dataclass
class Going:
    """A wave that goes: where the plan lies, where it is noted how far it is, and how commands are run."""

    plan_file: Path
    rollout: Rollout
    file: Path
    run: Runner
    seconds: float
    lock: Lock = field(default_factory=Lock)

    def note(self, member: Member, stage: Stage, told: str) -> None:
        with self.lock:
            state = self.rollout.sites[str(member.site_file)]
            state.stage, state.at, state.told = stage, now(), told
            self.rollout.send_one_ahead()
            write_durably(self.file, msgspec.json.encode(self.rollout))

    def fitted_file(self, member: Member) -> Path:
        """Where the plan lies that is fitted to a site."""
        return member.site_file.with_name(f"fleet-{self.plan_file.stem}.toml")

    def rehearse(self, member: Member) -> Outcome:
        """Fit the plan to a site and rehearse it on a clone."""
        fitted = self.fitted_file(member)
        had = ("--had", ",".join(self.rollout.others)) if self.rollout.others is not None else ()
        words = ("plan", "fit", str(self.plan_file.absolute()), *had, "--out", str(fitted))
        fits = at_site("fit", words, member, self.run, self.seconds)
        if fits.verdict == "failed":
            return fits
        if isinstance(fits.result, dict) and fits.result.get("verdict") == "blocked":
            reasons = [str(c.get("reason")) for c in fits.result.get("checks", []) if c.get("verdict") == "blocked"]
            return replace(fits, verdict="failed", told=f"the plan does not fit: {reasons[0] if reasons else ''}")
        tried = at_site("trial", ("trial", "run", str(fitted), "--snapshot", "live"), member, self.run, self.seconds)
        return replace(tried, seconds=fits.seconds + tried.seconds)

    def go(self, member: Member) -> Outcome:
        """Rehearse the plan at a site, and carry it out there when that has passed."""
        tried = self.rehearse(member)
        if tried.verdict != "good":
            told = f"left out, its rehearsal: {tried.told}"
            self.note(member, "left out", told)
            return replace(tried, verdict="caution", told=told)
        words = ("cutover", str(self.fitted_file(member)), "--yes")
        done = at_site("cutover", words, member, self.run, self.seconds)
        if done.verdict == "good":
            self.note(member, "done", done.told)
        else:
            self.note(member, "stopped", done.told)
            done = replace(done, verdict="failed", told=f"not as it was rehearsed: {done.told}")
        return replace(done, seconds=tried.seconds + done.seconds)


def watch_the_done(going: Going, members: Sequence[Member], watcher: Watcher, at_once: int) -> list[Outcome]:
    """Hold the sites that are through against how they arrived."""
    through = [m for m in members if going.rollout.sites[str(m.site_file)].stage == "done"]
    work: Callable[[Member], Outcome] = lambda m: at_site("watch", ("watch",), m, going.run, going.seconds)  # noqa: E731
    return side_by_side(through, work, watcher, at_once=at_once)


def next_wave(going: Going, members: Sequence[Member], watcher: Watcher, at_once: int) -> list[Outcome]:
    """Carry the plan out at the sites of the wave that comes now."""
    chosen = going.rollout.coming(members)
    return side_by_side(chosen, going.go, watcher, at_once=at_once, stop=lambda o: o.verdict == "failed")


def told_of_rollout(rollout: Rollout) -> str:
    """How far it is, in words."""
    done, left = len(rollout.of("done")), len(rollout.of("left out"))
    parts = [f"{done} of {plural(len(rollout.sites), 'site')} done"]
    parts += [f"{left} left out"] if left else []
    parts += [f"stopped at {', '.join(s.name for s in rollout.of('stopped'))}"] if rollout.of("stopped") else []
    return ", ".join(parts)
